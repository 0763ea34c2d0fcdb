// What starting from a program archive costs: seconds to load and to the first output, and private memory (without
// inputs and outputs) against the arena. Each visit is a
// process of its own, as a started service would be.
#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <chrono>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <filesystem>
#include <fstream>

#include "networks.hpp"

using namespace lathe;
using Clock = std::chrono::steady_clock;

namespace {

double since(Clock::time_point t) { return std::chrono::duration<double>(Clock::now() - t).count(); }

// Bytes that are this process's own, in MiB.
double private_mib() {
  std::ifstream in("/proc/self/smaps_rollup");
  std::string word;
  double kib = 0;
  while (in >> word) {
    double v = 0;
    if (word == "Private_Dirty:" && in >> v) kib += v;
  }
  return kib / 1024;
}

// One visit: loads, runs, prints what it saw as numbers.
int visit(const std::string& path, bool archive) {
  const double base = private_mib();
  const auto start = Clock::now();
  const Program program = archive ? load_program(path, {.threads = 1}) : compile(load(path), {.threads = 1});
  const double loaded = since(start);
  const auto inputs = random_inputs(program, program.bound_shapes(), 1);
  Lane lane(program);
  const auto before = Clock::now();
  size_t handed = 0;  // inputs and outputs belong to the caller
  for (const Tensor& t : inputs) handed += t.byte_size();
  {
    const Outputs out = lane.run(std::span<const Tensor>(inputs));
    for (size_t i = 0; i < out.size(); ++i) handed += out[i].byte_size();
  }
  const double first = since(before), memory = private_mib() - base - static_cast<double>(handed) / (1 << 20);
  std::vector<double> warm;
  for (int i = 0; i < 7; ++i) {
    const auto t = Clock::now();
    lane.run(std::span<const Tensor>(inputs));
    warm.push_back(since(t));
  }
  std::sort(warm.begin(), warm.end());
  fmt::print("{} {} {} {} {}\n", loaded, first, warm[warm.size() / 2], memory,
             static_cast<double>(program.describe().arena_bytes) / (1 << 20));
  return 0;
}

struct Seen {
  double loaded, first, warm, memory, arena;
};

Seen visit_apart(const std::string& self, const std::string& path, bool archive) {
  Seen s{};
  FILE* pipe = ::popen(fmt::format("'{}' --visit '{}' {}", self, path, archive ? "archive" : "model").c_str(), "r");
  if (pipe == nullptr || std::fscanf(pipe, "%lf %lf %lf %lf %lf", &s.loaded, &s.first, &s.warm, &s.memory, &s.arena) != 5) {
    fmt::print(stderr, "startup: a visit to {} failed\n", path);
    std::exit(1);
  }
  ::pclose(pipe);
  return s;
}

double median(std::vector<double> v) {
  std::sort(v.begin(), v.end());
  return v[v.size() / 2];
}

}  // namespace

int main(int argc, char** argv) {
  if (argc == 4 && std::strcmp(argv[1], "--visit") == 0) return visit(argv[2], std::strcmp(argv[3], "archive") == 0);
  const int rounds = argc == 3 && std::strcmp(argv[1], "--rounds") == 0 ? std::max(1, std::atoi(argv[2])) : 7;
  const auto self = std::filesystem::canonical("/proc/self/exe").string();
  const auto folder = std::filesystem::temp_directory_path() / fmt::format("lathe-startup-{}", ::getpid());
  std::filesystem::create_directories(folder);
  fmt::print(
      "{} rounds, each in a new process, one thread; the file is in the page cache\n\n{:<26} {:>9} {:>12} {:>10} {:>22} {:>9} "
      "{:>18}\n{:-<112}\n",
      rounds, "", "archive", "load", "first run", "load + first - a run", "from ONNX", "private / arena", "");
  const std::pair<const char*, Graph (*)()> nets[]{{"decoder step with state", [] { return networks::decoder(1); }},
                                                   {"residual, 50 layers", [] { return networks::residual_50(1); }},
                                                   {"mobile, depthwise", [] { return networks::mobile(1); }},
                                                   {"recurrent, 2 layers", [] { return networks::recurrent(1); }}};
  for (const auto& [name, make] : nets) {
    const auto model = folder / "net.onnx", file = folder / "net.lathe";
    save(make(), model);
    save_program(compile(load(model), {.threads = 1}), file);
    std::vector<double> load_seconds, first, extra, onnx, memory;
    double arena = 0;
    visit_apart(self, file.string(), true);
    for (int i = 0; i < rounds; ++i) {
      const Seen a = visit_apart(self, file.string(), true), m = visit_apart(self, model.string(), false);
      load_seconds.push_back(a.loaded);
      first.push_back(a.first);
      extra.push_back(a.loaded + a.first - a.warm);
      onnx.push_back(m.loaded + m.first - m.warm);
      memory.push_back(a.memory);
      arena = a.arena;
    }
    fmt::print("{:<26} {:>5.1f} MiB {:>9.1f} ms {:>7.1f} ms {:>19.1f} ms {:>6.0f} ms {:>6.1f} / {:>4.1f} MiB\n", name,
               static_cast<double>(std::filesystem::file_size(file)) / (1 << 20), 1e3 * median(load_seconds), 1e3 * median(first),
               1e3 * median(extra), 1e3 * median(onnx), median(memory), arena);
  }
  fmt::print("\nasked of an archive of 100 MB: load and first output under 50 ms more than a run; private memory no more than the arena\n");
  std::filesystem::remove_all(folder);
  return 0;
}
