// Rules over frames: when something has been there long enough, and when it has gone.
#include <algorithm>

#include <nlohmann/json.hpp>

#include "base/fail.hpp"
#include "base/text.hpp"
#include "lathe/watch.hpp"
#include "watch/names.hpp"

namespace lathe {
namespace {

using watching::label_of;

// What of this sight a rule is about; a class of the whole picture or of a mask counts as one box.
std::vector<Box> looked_at(const Rule& r, const Sight& s, const std::vector<std::string>& labels) {
  const auto named = [&](int64_t label) {
    return r.classes.empty() || std::ranges::find(r.classes, label_of(label, labels)) != r.classes.end();
  };
  std::vector<Box> out;
  if (s.frame.pixels.empty()) return out;
  const auto height = static_cast<double>(s.frame.pixels.shape()[0]), width = static_cast<double>(s.frame.pixels.shape()[1]);
  for (const Box& b : s.boxes) {
    const double mx = (b.x + b.width / 2) / width, my = (b.y + b.height / 2) / height;
    const bool here = mx >= r.x && mx <= r.x + r.width && my >= r.y && my <= r.y + r.height;
    if (named(b.label) && b.score >= r.least_score && here && b.width * b.height > r.larger_than * height * width) out.push_back(b);
  }
  for (const auto& [label, score] : s.labels) {
    // The best class is what a picture is; the others are what it might be.
    if (label != s.labels[0].first) continue;
    if (named(label) && score >= r.least_score) out.push_back({label, 0, 0, width, height, score});
  }
  if (!s.mask.empty()) {
    std::vector<int64_t> pixels;
    const auto left = static_cast<int64_t>(r.x * width), right = static_cast<int64_t>((r.x + r.width) * width),
               top = static_cast<int64_t>(r.y * height), bottom = static_cast<int64_t>((r.y + r.height) * height);
    const auto m = s.mask.as<int64_t>();
    for (int64_t y = top; y < bottom; ++y) {
      for (int64_t x = left; x < right; ++x) {
        const int64_t c = m[static_cast<size_t>(y * static_cast<int64_t>(width) + x)];
        if (c < 0 || c > 65535) continue;
        if (c >= static_cast<int64_t>(pixels.size())) pixels.resize(static_cast<size_t>(c) + 1);
        ++pixels[static_cast<size_t>(c)];
      }
    }
    for (size_t c = 0; c < pixels.size(); ++c) {
      const double share = static_cast<double>(pixels[c]) / (height * width);
      // Without a class named, the first one is the background.
      if ((r.classes.empty() ? c > 0 : named(static_cast<int64_t>(c))) && pixels[c] > 0 && share > r.larger_than)
        out.push_back({static_cast<int64_t>(c), 0, 0, width, height, share});
    }
  }
  return out;
}

}  // namespace

RuleBook::RuleBook(std::vector<Rule> rules, std::vector<std::string> labels) : rules_(std::move(rules)), labels_(std::move(labels)) {
  std::vector<std::string> names;
  for (const Rule& r : rules_) {
    const auto wrong = [&](const std::string& what) { fail(Category::value, "rule '{}': {}", r.name, what); };
    if (r.name.empty()) fail(Category::value, "a rule has no name");
    if (std::ranges::find(names, r.name) != names.end()) wrong("there are two of this name");
    names.push_back(r.name);
    for (const std::string& c : r.classes) {
      const bool number = !c.empty() && std::ranges::all_of(c, [](unsigned char d) { return d >= '0' && d <= '9'; });
      if (std::ranges::find(labels_, c) == labels_.end() && !(labels_.empty() && number))
        wrong(fmt::format("'{}' is none of the classes{}", c,
                          labels_.empty() ? ": the model has no labels, so they are numbers" : did_you_mean(c, labels_)));
    }
    if (r.of_last < 1 || r.of_last > 100000 || r.frames < 1 || r.frames > r.of_last)
      wrong(fmt::format("{} of the last {} frames: expected from 1 of 1", r.frames, r.of_last));
    if (r.at_least < 1) wrong("at least one box");
    if (!(r.least_score >= 0 && r.least_score <= 1)) wrong("a score from 0 to 1");
    if (!(r.larger_than >= 0 && r.larger_than < 1)) wrong("a share of the picture from 0 to less than 1");
    if (!(r.x >= 0 && r.y >= 0 && r.width > 0 && r.height > 0 && r.x + r.width <= 1 + 1e-9 && r.y + r.height <= 1 + 1e-9))
      wrong("its region lies in the picture, in shares of its width and height");
    if (!(r.gone >= 0 && r.hold >= 0)) wrong("seconds are not negative");
  }
  states_.resize(rules_.size());
}

std::vector<Happening> RuleBook::look(const Sight& sight) {
  std::vector<Happening> out;
  if (!sight.failed.empty()) return out;
  const double now = sight.frame.time;
  for (size_t i = 0; i < rules_.size(); ++i) {
    const Rule& r = rules_[i];
    State& s = states_[i];
    std::vector<Box> boxes = looked_at(r, sight, labels_);
    const bool holds = static_cast<int64_t>(boxes.size()) >= r.at_least;
    s.recent.push_back(holds);
    if (static_cast<int64_t>(s.recent.size()) > r.of_last) s.recent.erase(s.recent.begin());
    if (holds) s.last_seen = now;
    const auto tell = [&](bool begins) { out.push_back({r.name, begins, sight.frame.index, sight.frame.name, now, boxes}); };
    if (!s.on && std::ranges::count(s.recent, 1) >= r.frames) {
      s.on = true;
      s.began = now;
      tell(true);
    } else if (s.on && !holds && now - s.last_seen >= r.gone && now - s.began >= r.hold) {
      s.on = false;
      // It takes as many frames as at first to begin again.
      s.recent.clear();
      tell(false);
    }
  }
  last_ = {sight.frame.index, sight.frame.name, now, {}, {}};
  any_ = true;
  return out;
}

std::vector<Happening> RuleBook::finish() {
  std::vector<Happening> out;
  for (size_t i = 0; i < rules_.size() && any_; ++i) {
    if (!states_[i].on) continue;
    states_[i].on = false;
    out.push_back({rules_[i].name, false, last_.index, last_.name, last_.time, {}});
  }
  return out;
}

std::string happening_json(const Happening& h, const std::vector<std::string>& labels) {
  nlohmann::ordered_json j{
      {"rule", h.rule}, {"state", h.begins ? "begins" : "over"}, {"frame", h.frame}, {"name", h.frame_name}, {"time", h.time}};
  j["boxes"] = nlohmann::ordered_json::array();
  for (const Box& b : h.boxes)
    j["boxes"].push_back(
        {{"class", label_of(b.label, labels)}, {"score", b.score}, {"x", b.x}, {"y", b.y}, {"width", b.width}, {"height", b.height}});
  return j.dump(-1, ' ', false, nlohmann::ordered_json::error_handler_t::replace);
}

}  // namespace lathe
