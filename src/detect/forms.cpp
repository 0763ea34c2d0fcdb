// Descriptions of what outputs hold: read from metadata and job sheets, written for people.
#include <array>
#include <algorithm>

#include <nlohmann/json.hpp>

#include "base/fail.hpp"
#include "base/text.hpp"
#include "lathe/detect.hpp"

namespace lathe {
namespace {

using Json = nlohmann::json;

constexpr std::array<std::string_view, 5> kKinds{"rows", "tables", "cells", "chosen", "picked"};
constexpr std::array<std::string_view, 5> kBoxes{"corners", "centre", "corner", "distances", "offsets"};
constexpr std::array<std::string_view, 3> kScores{"as they are", "sigmoid", "softmax"};
const std::vector<std::string> kKeys{"form",   "outputs", "box",        "relative",   "scores", "objectness",
                                     "turned", "y_first", "box_values", "background", "anchors"};

template <typename E, size_t N>
E word(const Json& j, const std::string& key, const std::array<std::string_view, N>& words) {
  const std::string text = j.is_string() ? j.get<std::string>() : j.dump();
  const auto it = std::ranges::find(words, text);
  if (!j.is_string() || it == words.end())
    fail(Category::value, "'{}' of detect is one of {}, not '{}'{}", key, fmt::join(words, ", "), text,
         did_you_mean(text, std::vector<std::string>(words.begin(), words.end())));
  return static_cast<E>(it - words.begin());
}

bool flag(const Json& j, const std::string& key) {
  if (!j.is_boolean()) fail(Category::value, "'{}' of detect is true or false, not {}", key, j.dump());
  return j.get<bool>();
}

void set(DetectForm& f, const std::string& key, const Json& j) {
  if (key == "form") {
    f.kind = word<DetectForm::Kind>(j, key, kKinds);
  } else if (key == "outputs") {
    f.outputs.clear();
    for (const Json& e : j.is_array() ? j : Json::array({j})) {
      if (!e.is_string()) fail(Category::value, "'outputs' of detect is a list of names, not {}", j.dump());
      f.outputs.push_back(e.get<std::string>());
    }
  } else if (key == "box") {
    f.box = word<BoxForm>(j, key, kBoxes);
  } else if (key == "relative") {
    f.relative = flag(j, key);
  } else if (key == "scores") {
    f.scores = word<ScoreForm>(j, key, kScores);
  } else if (key == "objectness") {
    f.objectness = flag(j, key);
  } else if (key == "turned") {
    f.turned = flag(j, key);
  } else if (key == "y_first") {
    f.y_first = flag(j, key);
  } else if (key == "box_values") {
    f.logarithms = word<int>(j, key, std::array<std::string_view, 2>{"as they are", "logarithms"}) == 1;
  } else if (key == "background") {
    if (!j.is_number_integer() || j.get<int64_t>() < 0 || j.get<int64_t>() > 1000000)
      fail(Category::value, "'background' of detect is the number of a class, not {}", j.dump());
    f.background = j.get<int64_t>();
  } else if (key == "anchors") {
    f.anchors.clear();
    for (const Json& e : j.is_array() ? j : Json::array({j})) {
      if (!e.is_number() || !(e.get<double>() > 0 && e.get<double>() < 1e6))
        fail(Category::value, "'anchors' of detect is a list of widths and heights in pixels, not {}", j.dump());
      f.anchors.push_back(e.get<double>());
    }
    if (f.anchors.empty() || f.anchors.size() % 2 != 0)
      fail(Category::value, "'anchors' of detect holds {} numbers, expected a width and a height for each", f.anchors.size());
  } else {
    const std::string hint = did_you_mean(key, kKeys);
    fail(Category::value, "detect has no key '{}'{}", key, hint.empty() ? fmt::format("; its keys are {}", fmt::join(kKeys, ", ")) : hint);
  }
}

}  // namespace

std::string_view to_string(DetectForm::Kind kind) { return kKinds[static_cast<size_t>(kind)]; }

void set_form_key(DetectForm& form, const std::string& key, const std::string& json) {
  const Json j = Json::parse(json, nullptr, false);
  if (j.is_discarded()) fail(Category::value, "'{}' of detect: '{}' is not JSON", key, json);
  set(form, key, j);
}

DetectForm parse_form(const std::string& json) {
  const Json j = Json::parse(json, nullptr, false);
  if (!j.is_object()) fail(Category::value, "detect is a JSON object of the keys {}", fmt::join(kKeys, ", "));
  DetectForm f;
  for (const auto& [key, value] : j.items()) set(f, key, value);
  return f;
}

DetectForm described_form(const DetectForm& given, const std::map<std::string, std::string>& metadata) {
  DetectForm f;
  if (const auto it = metadata.find("detect"); it != metadata.end() && !it->second.empty()) {
    try {
      f = parse_form(it->second);
    } catch (const Error& e) {
      fail(Category::value, "metadata 'detect': {}", e.what());
    }
  }
  if (given.kind) f.kind = given.kind;
  if (!given.outputs.empty()) f.outputs = given.outputs;
  if (given.box) f.box = given.box;
  if (given.relative) f.relative = given.relative;
  if (given.scores) f.scores = given.scores;
  if (given.objectness) f.objectness = given.objectness;
  if (given.turned) f.turned = given.turned;
  if (given.y_first) f.y_first = given.y_first;
  if (given.logarithms) f.logarithms = given.logarithms;
  if (given.background) f.background = given.background;
  if (!given.anchors.empty()) f.anchors = given.anchors;
  return f;
}

std::string form_text(const DetectForm& f) {
  std::vector<std::string> parts;
  const auto add = [&](const char* key, const std::string& value) { parts.push_back(fmt::format("{} = {}", key, value)); };
  const auto quoted = [](std::string_view v) { return Json(v).dump(); };
  if (f.kind) add("form", quoted(kKinds[static_cast<size_t>(*f.kind)]));
  if (!f.outputs.empty()) {
    std::vector<std::string> names;
    for (const std::string& o : f.outputs) names.push_back(quoted(o));
    add("outputs", fmt::format("[{}]", fmt::join(names, ", ")));
  }
  if (f.box) add("box", quoted(kBoxes[static_cast<size_t>(*f.box)]));
  if (f.relative) add("relative", *f.relative ? "true" : "false");
  if (f.scores) add("scores", quoted(kScores[static_cast<size_t>(*f.scores)]));
  if (f.objectness) add("objectness", *f.objectness ? "true" : "false");
  if (f.turned) add("turned", *f.turned ? "true" : "false");
  if (f.y_first) add("y_first", *f.y_first ? "true" : "false");
  if (f.logarithms) add("box_values", quoted(*f.logarithms ? "logarithms" : "as they are"));
  if (f.background) add("background", std::to_string(*f.background));
  if (!f.anchors.empty()) add("anchors", fmt::format("[{}]", fmt::join(f.anchors, ", ")));
  return fmt::format("detect = {{ {} }}", fmt::join(parts, ", "));
}

}  // namespace lathe
