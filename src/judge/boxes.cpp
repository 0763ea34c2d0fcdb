// Boxes: read, matched, averaged.
#include <algorithm>
#include <charconv>
#include <cmath>
#include <numeric>
#include <set>

#include <nlohmann/json.hpp>

#include "base/fail.hpp"
#include "base/files.hpp"
#include "base/text.hpp"
#include "base/tables.hpp"
#include "lathe/judge_pictures.hpp"

namespace lathe {
namespace {

namespace fs = std::filesystem;
constexpr int kOverlaps = 10;  // 0.5, 0.55, .. 0.95

// The class of a name: where it stands among the classes, or a number.
class Classes {
 public:
  explicit Classes(std::vector<std::string>& names) : names_(names), open_(names.empty()) {}
  int64_t of(const std::string& name, const std::string& where) {
    const auto it = std::ranges::find(names_, name);
    if (it != names_.end()) return it - names_.begin();
    int64_t n = -1;
    const auto [end, error] = std::from_chars(name.data(), name.data() + name.size(), n);
    const bool number = error == std::errc() && end == name.data() + name.size() && n >= 0;
    if (number && (open_ || n < static_cast<int64_t>(names_.size()))) {
      if (open_) {
        while (static_cast<int64_t>(names_.size()) <= n) names_.push_back(std::to_string(names_.size()));
      }
      return n;
    }
    if (!open_ || name.empty()) fail(Category::value, "{}: '{}' is none of the classes{}", where, name, did_you_mean(name, names_));
    names_.push_back(name);
    return static_cast<int64_t>(names_.size()) - 1;
  }

 private:
  std::vector<std::string>& names_;
  bool open_;
};

std::map<std::string, std::vector<Box>> boxes_of_csv(const fs::path& path, Classes classes) {
  std::map<std::string, std::vector<Box>> out;
  size_t line = 0;
  for (const auto& cells : table_rows(read_file(path))) {
    ++line;
    if (cells.size() == 1 && cells[0].empty()) continue;
    const std::string where = fmt::format("{}: line {}", path.string(), line);
    // A picture that holds nothing.
    if (!cells[0].empty() && std::all_of(cells.begin() + 1, cells.end(), [](const std::string& c) { return c.empty(); })) {
      out[cells[0]];
      continue;
    }
    if (cells.size() != 6) fail(Category::format, "{}: expected FILE,CLASS,X,Y,WIDTH,HEIGHT", where);
    double v[4]{};
    bool numbers = true;
    for (size_t i = 0; i < 4; ++i) {
      const std::string& c = cells[i + 2];
      const auto [end, error] = std::from_chars(c.data(), c.data() + c.size(), v[i]);
      numbers = numbers && error == std::errc() && end == c.data() + c.size() && std::isfinite(v[i]);
    }
    if (!numbers && line == 1) continue;  // its header
    if (!numbers || v[2] <= 0 || v[3] <= 0) fail(Category::format, "{}: x, y, width and height are numbers, the last two above 0", where);
    out[cells[0]].push_back({classes.of(cells[1], where), v[0], v[1], v[2], v[3], 1});
  }
  return out;
}

std::map<std::string, std::vector<Box>> boxes_of_json(const fs::path& path, Classes classes) {
  std::map<std::string, std::vector<Box>> out;
  try {
    const auto j = nlohmann::json::parse(read_file(path));
    if (!j.is_object()) fail(Category::format, "{}: expected an object, each file's name with the list of its boxes", path.string());
    for (const auto& [file, boxes] : j.items()) {
      std::vector<Box>& list = out[file];
      for (const auto& b : boxes) {
        const auto& label = b.at("class");
        const std::string name = label.is_string() ? label.get<std::string>() : std::to_string(label.get<int64_t>());
        list.push_back({classes.of(name, fmt::format("{}: '{}'", path.string(), file)), b.at("x").get<double>(), b.at("y").get<double>(),
                        b.at("width").get<double>(), b.at("height").get<double>(), 1});
        if (!(list.back().width > 0) || !(list.back().height > 0))
          fail(Category::format, "{}: '{}': width and height are above 0", path.string(), file);
      }
    }
  } catch (const nlohmann::json::exception& e) {
    fail(Category::format, "{}: {}", path.string(), e.what());
  }
  return out;
}

// What one item's boxes of one class are at each overlap.
struct Flag {
  size_t item = 0;
  double score = 0;
  bool right[kOverlaps]{};
};

// One class: its boxes by falling score, and how many each item expects.
struct OfClass {
  std::vector<Flag> flags;
  std::vector<int64_t> expected;  // by item
};

OfClass matched(std::span<const BoxAnswer> answers, int64_t label) {
  OfClass c;
  for (size_t i = 0; i < answers.size(); ++i) {
    std::vector<const Box*> is;
    std::vector<Box> found;
    for (const Box& b : answers[i].expected) {
      if (b.label == label) is.push_back(&b);
    }
    for (const Box& b : answers[i].found) {
      if (b.label == label) found.push_back(b);
    }
    c.expected.push_back(static_cast<int64_t>(is.size()));
    std::ranges::stable_sort(found, std::greater<>(), &Box::score);
    std::vector<Flag> flags(found.size());
    for (int t = 0; t < kOverlaps; ++t) {
      std::vector<char> taken(is.size(), 0);
      for (size_t k = 0; k < found.size(); ++k) {
        flags[k].item = i;
        flags[k].score = found[k].score;
        double best = 0.5 + 0.05 * t - 1e-12;
        size_t which = is.size();
        for (size_t e = 0; e < is.size(); ++e) {
          const double o = taken[e] ? 0 : overlap(found[k], *is[e]);
          if (o >= best) best = o, which = e;
        }
        if (which < is.size()) taken[which] = 1, flags[k].right[t] = true;
      }
    }
    c.flags.insert(c.flags.end(), flags.begin(), flags.end());
  }
  std::ranges::stable_sort(c.flags, std::greater<>(), &Flag::score);
  return c;
}

// Area under precision over recall, each item counted as often as `times` says; NaN when nothing is expected.
double average_precision(const OfClass& c, int overlap_at, const std::vector<int>& times) {
  double expected = 0;
  for (size_t i = 0; i < times.size(); ++i) expected += static_cast<double>(c.expected[i] * times[i]);
  if (expected == 0) return NAN;
  std::vector<std::pair<double, double>> points;  // recall, precision
  double right = 0, found = 0;
  for (const Flag& f : c.flags) {
    const double n = times[f.item];
    if (n == 0) continue;
    found += n;
    if (f.right[overlap_at]) right += n;
    points.emplace_back(right / expected, right / found);
  }
  double area = 0, best = 0, beyond = points.empty() ? 0 : points.back().first;
  for (auto p = points.rbegin(); p != points.rend(); ++p) {
    area += (beyond - p->first) * best;
    beyond = p->first;
    best = std::max(best, p->second);
  }
  return area + beyond * best;
}

double mean_over(const std::vector<OfClass>& classes, int first, int last, const std::vector<int>& times) {
  double sum = 0, counted = 0;
  for (const OfClass& c : classes) {
    double own = 0;
    for (int t = first; t <= last; ++t) own += average_precision(c, t, times) / (last - first + 1);
    if (!std::isnan(own)) sum += own, ++counted;
  }
  return counted > 0 ? sum / counted : 0;
}

}  // namespace

std::map<std::string, std::vector<Box>> read_boxes(const fs::path& path, std::vector<std::string>& classes) {
  return path.extension() == ".json" ? boxes_of_json(path, Classes(classes)) : boxes_of_csv(path, Classes(classes));
}

namespace {

// A measure of items that are drawn with repetition: how often each was drawn.
Interval over_items(size_t items, const std::function<double(const std::vector<int>& times)>& measure) {
  constexpr int kDraws = 300;
  return bootstrap(
      items,
      [&](std::span<const size_t> drawn) {
        std::vector<int> times(items, 0);
        for (size_t i : drawn) ++times[i];
        return measure(times);
      },
      1, kDraws);
}

}  // namespace

PairedBoxes compare_boxes(std::span<const BoxAnswer> first, std::span<const BoxAnswer> second, int64_t classes) {
  if (first.size() != second.size()) fail(Category::value, "{} items and {} cannot be compared one by one", first.size(), second.size());
  std::vector<OfClass> a, b;
  for (int64_t c = 0; c < classes; ++c) a.push_back(matched(first, c)), b.push_back(matched(second, c));
  const auto over = [&](int from, int to) {
    return over_items(first.size(),
                      [&](const std::vector<int>& times) { return mean_over(b, from, to, times) - mean_over(a, from, to, times); });
  };
  return {over(0, 0), over(0, kOverlaps - 1)};
}

BoxReport judge_boxes(std::span<const BoxAnswer> answers, int64_t classes) {
  BoxReport r;
  r.items = static_cast<int64_t>(answers.size());
  std::vector<OfClass> by_class;
  for (int64_t c = 0; c < classes; ++c) by_class.push_back(matched(answers, c));
  const std::vector<int> once(answers.size(), 1);
  std::vector<int64_t> bad(answers.size(), 0);  // missed or wrong at 0.5
  for (const OfClass& c : by_class) {
    r.classes_at_half.push_back(average_precision(c, 0, once));
    double all = 0;
    for (int t = 0; t < kOverlaps; ++t) all += average_precision(c, t, once) / kOverlaps;
    r.classes_over_all.push_back(all);
    r.found += static_cast<int64_t>(c.flags.size());
    for (size_t i = 0; i < answers.size(); ++i) r.expected += c.expected[i], bad[i] += c.expected[i];
    for (const Flag& f : c.flags) bad[f.item] += f.right[0] ? -1 : 1;
  }
  const auto over = [&](int first, int last) {
    return over_items(answers.size(), [&](const std::vector<int>& times) { return mean_over(by_class, first, last, times); });
  };
  r.at_half = over(0, 0);
  r.over_all = over(0, kOverlaps - 1);
  r.worst.resize(answers.size());
  std::iota(r.worst.begin(), r.worst.end(), size_t{0});
  std::ranges::stable_sort(r.worst, std::greater<>(), [&](size_t i) { return bad[i]; });
  return r;
}

}  // namespace lathe
