// A gate that throws out boards with holes: the stand-in camera in, the stand-in actuator out.
//
//   reject_gate knots.onnx SCANS gate.log [FRAMES]
//
// The newest frame is looked at, older ones that wait are dropped. The gate opens when a hole is seen in two of the last three frames and
// shuts when none was for a fifth of a second; it stays open for three tenths at least.
#include <lathe/lathe.hpp>

#include <algorithm>
#include <cstdio>
#include <cstdlib>

int main(int argc, char** argv) {
  if (argc != 4 && argc != 5) {
    std::fprintf(stderr, "usage: reject_gate MODEL SCANS GATE.log [FRAMES]\n");
    return 2;
  }
  try {
    const lathe::Program program = lathe::compile(lathe::load(argv[1]), {.dims = {{"batch", 1}}});
    const auto labels = lathe::labels_in(program.metadata());
    lathe::StandInCamera how;
    how.rate = 30, how.late = 0.05, how.missing = 0.02;
    how.frames = argc == 5 ? std::atoll(argv[4]) : 300;
    const auto camera = lathe::stand_in_camera({argv[2]}, how);
    lathe::Rule hole;
    hole.name = "hole";
    hole.classes = {"hole"};
    hole.least_score = 0.6;
    hole.frames = 2, hole.of_last = 3;
    hole.gone = 0.2, hole.hold = 0.3;
    lathe::RuleBook rules({hole}, labels);
    lathe::Action gate;
    gate.actuator = argv[3];
    int switched = 0;
    const auto move = [&](const std::vector<lathe::Happening>& happenings) {
      for (const lathe::Happening& h : happenings) lathe::act(gate, h, labels), ++switched;
    };
    lathe::WatchOptions options;
    options.drop_when_behind = true;
    const lathe::WatchReport report = lathe::watch(program, *camera, options, nullptr, [&](lathe::Sight& s) { move(rules.look(s)); });
    move(rules.finish());
    std::vector<double> latency = report.latencies;
    std::ranges::sort(latency);
    std::printf("%lld frames, %.1f a second, %lld dropped; latency %.1f ms median, %.1f ms at most; the gate moved %d times\n",
                static_cast<long long>(report.frames), static_cast<double>(report.frames) / report.seconds,
                static_cast<long long>(report.dropped), 1e3 * latency.at(latency.size() / 2), 1e3 * latency.back(), switched);
  } catch (const std::exception& e) {
    std::fprintf(stderr, "reject_gate: %s\n", e.what());
    return 1;
  }
}
