#include <fmt/format.h>

#include <nlohmann/json.hpp>

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
  for (size_t i = 0; i < p.timeline.size(); ++i) {
    const StepTime& t = p.timeline[i];
    const StepProfile* s = i < p.steps.size() ? &p.steps[i] : nullptr;
    Json args{{"step", i + 1}, {"nodes", t.nodes}};
    if (s != nullptr) {
      args["recipe"] = s->step.recipe;
      args["median_us"] = micro(s->latency.median);
      args["of_limit"] = s->of_limit;
    }
    events.push_back({{"name", t.nodes.empty() ? t.kind : fmt::format("{}: {}", t.kind, t.nodes.front())},
                      {"cat", t.kind},
                      {"ph", "X"},
                      {"ts", micro(t.begin)},
                      {"dur", micro(t.seconds)},
                      {"pid", 1},
                      {"tid", 0},
                      {"args", std::move(args)}});
  }
  // A worker's spell belongs to the step that was running when it began.
  for (const Spell& s : p.spells) {
    size_t step = 0;
    while (step + 1 < p.timeline.size() && p.timeline[step + 1].begin <= s.begin) ++step;
    const bool known = step < p.timeline.size();
    events.push_back({{"name", known ? p.timeline[step].kind : "tasks"},
                      {"cat", known ? p.timeline[step].kind : "tasks"},
                      {"ph", "X"},
                      {"ts", micro(s.begin)},
                      {"dur", micro(s.seconds)},
                      {"pid", 1},
                      {"tid", s.worker},
                      {"args", {{"step", step + 1}, {"tasks", s.tasks}}}});
  }
  return Json{{"displayTimeUnit", "ms"}, {"traceEvents", std::move(events)}}.dump(1) + "\n";
}

}  // namespace lathe
