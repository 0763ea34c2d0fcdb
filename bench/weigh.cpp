// What a model costs besides time: load and compile seconds, and peak memory of a run against weights once plus arena.
#include <fmt/format.h>
#include <sys/resource.h>
#include <unistd.h>

#include <chrono>
#include <filesystem>
#include <fstream>

#include "networks.hpp"

using namespace lathe;
using Clock = std::chrono::steady_clock;

namespace {

double peak_mib() {
  rusage usage{};
  getrusage(RUSAGE_SELF, &usage);
  return static_cast<double>(usage.ru_maxrss) / 1024;
}

// What is resident now, in MiB.
double resident_mib() {
  std::ifstream in("/proc/self/statm");
  double total = 0, resident = 0;
  in >> total >> resident;
  return resident * static_cast<double>(::sysconf(_SC_PAGESIZE)) / (1 << 20);
}

double since(Clock::time_point t) { return std::chrono::duration<double>(Clock::now() - t).count(); }

}  // namespace

int main(int argc, char** argv) {
  const auto folder = std::filesystem::temp_directory_path() / fmt::format("lathe-weigh-{}", ::getpid());
  const auto model = folder / "residual_50.onnx";
  if (argc == 1) {
    // The model is written by another process, so that making it does not count in this one's peak.
    std::filesystem::create_directories(folder);
    if (std::system(fmt::format("'{}' --make '{}'", std::filesystem::canonical("/proc/self/exe").string(), model.string()).c_str()) != 0)
      return 1;
  } else {
    save(networks::residual_50(1), argv[2]);
    return 0;
  }
  const double file = static_cast<double>(std::filesystem::file_size(model)) / (1 << 20), base = peak_mib();
  const auto start = Clock::now();
  Graph graph = load(model);
  const double loaded = since(start);
  const Program program = compile(std::move(graph), {.threads = 1});
  const double compiled = since(start);
  const double peak_compile = peak_mib();
  const auto inputs = random_inputs(program, program.bound_shapes(), 1);
  Lane lane(program);
  lane.run(std::span<const Tensor>(inputs));
  const EditionInfo info = program.describe();
  const double weights = static_cast<double>(info.weight_bytes) / (1 << 20), arena = static_cast<double>(info.arena_bytes) / (1 << 20),
               bound = static_cast<double>(info.arena_bound) / (1 << 20);
  fmt::print("residual net, 50 layers: a file of {:.1f} MiB\n", file);
  fmt::print("  load {:.2f} s, load and compile {:.2f} s\n", loaded, compiled);
  fmt::print("  packed weights {:.1f} MiB, arena {:.2f} MiB, lower bound {:.2f} MiB: {:.3f} of it\n", weights, arena, bound, arena / bound);
  fmt::print("  resident above the {:.1f} MiB before loading: peak {:.1f} MiB while compiling, {:.1f} MiB after a run\n", base,
             peak_compile - base, resident_mib() - base);
  fmt::print("  against weights once + arena: {:.2f} at the peak, {:.2f} after a run\n", (peak_mib() - base) / (weights + arena),
             (resident_mib() - base) / (weights + arena));
  std::filesystem::remove_all(folder);
  return 0;
}
