#include <fmt/format.h>

#include <cmath>
#include <nlohmann/json.hpp>
#include <optional>

#include "lathe/report.hpp"

namespace lathe {

std::string timeline_json(const Profile& p, const std::string& name) {
  using Json = nlohmann::ordered_json;
  Json events = Json::array();
  const auto named = [&](const char* kind, int worker, const std::string& text) {
    events.push_back({{"name", kind}, {"ph", "M"}, {"pid", 1}, {"tid", worker}, {"args", {{"name", text}}}});
  };
  named("process_name", 0, name);
  named("thread_name", 0, "lane (worker 0)");
  int most = 0;
  for (const Spell& s : p.spells) most = std::max(most, s.worker);
  for (int w = 1; w <= most; ++w) named("thread_name", w, fmt::format("worker {}", w));
  const auto micro = [](double seconds) { return seconds * 1e6; };
  // In whole nanoseconds, and over before the next of its track begins: a page that finds two overlap by a rounding draws one inside the
  // other.
  const auto place = [](Json& event, double begin, double end, std::optional<double> next) {
    const double from = std::floor(begin * 1e9), to = std::min(std::floor(end * 1e9), next ? std::floor(*next * 1e9) - 1 : end * 1e9);
    event["ts"] = from / 1e3;
    event["dur"] = std::max(0.0, to - from) / 1e3;
  };
  for (size_t i = 0; i < p.timeline.size(); ++i) {
    const StepTime& t = p.timeline[i];
    const StepProfile* s = i < p.steps.size() ? &p.steps[i] : nullptr;
    Json args{{"step", i + 1}, {"nodes", t.nodes}};
    if (s != nullptr) {
      args["recipe"] = s->step.recipe;
      args["median_us"] = micro(s->latency.median);
      args["of_limit"] = s->of_limit;
    }
    Json event{{"name", t.nodes.empty() ? t.kind : fmt::format("{}: {}", t.kind, t.nodes.front())},
               {"cat", t.kind},
               {"ph", "X"},
               {"ts", 0},
               {"dur", 0},
               {"pid", 1},
               {"tid", 0},
               {"args", std::move(args)}};
    place(event, t.begin, t.begin + t.seconds, i + 1 < p.timeline.size() ? std::optional(p.timeline[i + 1].begin) : std::nullopt);
    events.push_back(std::move(event));
  }
  // A worker's spell belongs to the step that was running when it began.
  for (size_t i = 0; i < p.spells.size(); ++i) {
    const Spell& s = p.spells[i];
    const bool followed = i + 1 < p.spells.size() && p.spells[i + 1].worker == s.worker;
    size_t step = 0;
    while (step + 1 < p.timeline.size() && p.timeline[step + 1].begin <= s.begin) ++step;
    const bool known = step < p.timeline.size();
    Json event{{"name", known ? p.timeline[step].kind : "tasks"},
               {"cat", known ? p.timeline[step].kind : "tasks"},
               {"ph", "X"},
               {"ts", 0},
               {"dur", 0},
               {"pid", 1},
               {"tid", s.worker},
               {"args", {{"step", step + 1}, {"tasks", s.tasks}}}};
    place(event, s.begin, s.begin + s.seconds, followed ? std::optional(p.spells[i + 1].begin) : std::nullopt);
    events.push_back(std::move(event));
  }
  return Json{{"displayTimeUnit", "ms"}, {"traceEvents", std::move(events)}}.dump(1) + "\n";
}

}  // namespace lathe
