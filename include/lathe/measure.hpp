// Measuring: this machine's limits, latency statistics, interleaved comparison.
#pragma once

#include <cstdint>
#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "lathe/program.hpp"

namespace lathe {

struct CacheInfo {
  int level = 0;
  size_t bytes = 0;
  int shared_by = 1;  // cores
};

struct MachineInfo {
  std::string cpu;
  int cores = 0;   // of the machine
  int usable = 0;  // by this process
  std::vector<CacheInfo> caches;
  size_t memory_bytes = 0;
  std::vector<std::string> isas;  // usable, worst first; the last one is used
  bool int8_dot = false;
};

MachineInfo machine_info();

// What figures measured here depend on. Nothing in it names the machine, its user or a path.
struct Environment {
  MachineInfo machine;
  std::string version, compiler, system;  // of the library; what compiled it; kernel and its release
  std::string governor;                   // of the first core this process may use; "" where the system does not tell
  std::optional<bool> turbo;
  std::string affinity;     // cores this process may use: "0-3,6"
  double core_limit = 0;    // cores' worth of time that a control group leaves it; 0: no limit
  size_t memory_limit = 0;  // bytes; 0: no limit
  size_t page_bytes = 0;
  std::string huge_pages;  // "always", "madvise", "never"; "" where the system does not tell
  double load = 0;         // tasks that want to run, average of the last minute
};
Environment environment();

// Time that other guests of the machine took from all its cores, in core-seconds since it started; nothing where the system does not tell.
std::optional<double> stolen_seconds();
// The most memory this process has held, in bytes; 0 where the system does not tell.
size_t peak_memory_bytes();
// What the process takes beyond what it had when this was made, at the most until it is asked.
class PeakMemory {
 public:
  PeakMemory();
  std::optional<size_t> bytes() const;  // nothing where the system does not tell

 private:
  std::optional<size_t> before_;
};
// Joules that the processor's packages have used, modulo a range that a few minutes do not pass; nothing where the machine does not tell.
std::optional<double> package_joules();

// fp32 multiply-add rate in GFLOP/s (a multiply-add counts two) on `threads` threads: best of several short bursts.
double measure_fma_peak(const std::string& isa, int threads, double seconds = 0.05);
// Rate of 8-bit products with sums in 32 bits, in Gop/s, by an instruction set's dot products or tiles; 0 when it has none.
double measure_int8_peak(const std::string& isa, int threads, double seconds = 0.05);
// The same in GFLOP/s of bf16 with sums in f32, by tiles.
double measure_bf16_peak(const std::string& isa, int threads, double seconds = 0.05);
// Read bandwidth in GB/s over a working set of `bytes` a thread.
double measure_read_bandwidth(const std::string& isa, size_t bytes, int threads, double seconds = 0.05);

// Bandwidth in GB/s of writing `bytes` a thread over and over, nothing read.
double measure_fill_bandwidth(size_t bytes, int threads, double seconds = 0.05);
// Copy bandwidth in GB/s, read and written bytes counted, over `bytes` a thread in each direction.
double measure_copy_bandwidth(size_t bytes, int threads, double seconds = 0.05);

// Writes over a block of twice the largest cache, so that what comes next finds nothing of its own there.
void empty_caches();

struct Limits {
  struct Fma {
    std::string isa;
    int threads = 1;
    double gflops = 0;  // one lane: of the median run; several: of all that ran, over the time it took
  };
  struct Int8 {
    std::string isa;
    int threads = 1;
    double gops = 0;
  };
  struct Read {
    std::string level;
    size_t bytes = 0;
    int threads = 1;
    double gbytes = 0;
  };
  std::vector<Fma> fma;
  std::vector<Int8> int8;
  std::vector<Fma> bf16;  // by tiles
  std::vector<Read> read;
};

// Everything above for 1..threads threads (0: all usable cores). Takes a few seconds; `progress` gets a word on each part.
Limits measure_limits(int threads = 0, const std::function<void(const std::string&)>& progress = {});

// Seconds a run.
struct Latency {
  int64_t runs = 0;
  double min = 0, mean = 0, median = 0, p90 = 0, p99 = 0, p999 = 0, max = 0, deviation = 0;
};

// `samples` in seconds, any order. Percentiles by linear interpolation between order statistics.
Latency summarise(std::vector<double> samples);

struct BenchOptions {
  int lanes = 1;
  double warmup_seconds = 2;  // at most; a model that is steady at once needs a tenth of a second
  double min_seconds = 1.0;   // measured time at least
  double max_seconds = 10.0;
  int64_t min_runs = 10;
  int64_t held = 0;  // positions that growing states hold when each run begins (zeros); what it adds is taken back
  RunOptions run{};  // of each run: stop and limit
};

struct BenchResult {
  Latency latency;
  double seconds = 0;          // measured, wall clock
  double runs_per_second = 0;  // all lanes together
  double flops = 0;            // a run's arithmetic, as far as it is counted
  int not_counted = 0;         // steps whose arithmetic is not: what runs hangs on values
  double gflops = 0;
  double peak_gflops =
      0;             // median of probes before, during (one lane) and after; same instruction set; as many threads, but no more than cores
  double share = 0;  // of the time, what its arithmetic takes at least: gflops / peak_gflops, steps by int8 or bf16 by those peaks
  double int8_gops = 0, bf16_gflops = 0;  // peaks of such arithmetic, where there are steps of it
  double weight_bytes = 0;                // constants that a run reads
  double read_bandwidth = 0;              // bytes a second that this machine reads of a working set of that size, on as many threads
  double share_of_reading = 0;            // weight_bytes a run / read_bandwidth: what bounds decoders
  double first_seconds = 0;               // of the first run, which allocates
  size_t peak_memory = 0;       // that the process held when the runs were done, in bytes; what probes of the machine take is not in it
  int64_t warmup_runs = 0;      // before medians of successive runs stood still
  bool steady = false;          // they did, within the time for it
  double stolen = 0;            // share of the cores' time that other guests of the machine took meanwhile
  double joules = 0;            // a run, of the processor's packages; 0 where the machine does not tell
  double spread = 0;            // (p90 - min) / median
  double peak_drift = 0;        // (highest - lowest) / median of the probes
  std::vector<double> samples;  // seconds of runs in the order measured, lane by lane; of more than 2000 every so many'th
  bool noisy = false;           // spread above 25 % or drift above 25 %: do not trust absolute times
};

// Warm-up until medians of successive runs stand still (within 2 %) or its time is up, then runs until the median is steady or the time is
// up. Each lane has `threads` threads.
BenchResult bench(const Program& program, int threads, const std::vector<Tensor>& inputs, const BenchOptions& options = {});

// How to use the cores: one lane with all of them, a lane each, or in between.
enum class Prefer { latency, throughput };
struct LaneCandidate {
  int lanes = 1, threads = 1;
  double latency = 0;          // seconds a run, median of the rounds
  double runs_per_second = 0;  // all lanes together, median of the rounds
};
struct LaneChoice {
  int lanes = 1, threads = 1;
  std::vector<LaneCandidate> tried;
  std::string why;  // a sentence with the figures that decided
};
// Tries every lanes x threads that `cores` cores hold, in interleaved rounds, and picks the lowest latency or the highest throughput; of
// candidates within 3 % of the best, the one with the better other figure. `compile_for` compiles for a number of threads a lane.
LaneChoice choose_lanes(const std::function<Program(int threads)>& compile_for, const std::vector<Tensor>& inputs, Prefer prefer, int cores,
                        int rounds = 5);

// One of several ways to run a model.
struct Contender {
  Program program;
  int threads = 1, lanes = 1;  // threads of each lane
  int64_t items = 1;           // that a run does
  std::vector<Tensor> inputs;
  int64_t held = 0;  // as in BenchOptions
};
struct TurnTimes {
  std::vector<double> latencies;  // seconds a run, all rounds
  std::vector<double> rates;      // items a second, by round
};
// In each round each of them runs for its share of `seconds`, in an order that turns from round to round: what the machine does meanwhile
// falls on all alike. Throws what a run throws.
std::vector<TurnTimes> by_turns(const std::vector<Contender>& contenders, double seconds, int rounds,
                                const std::function<void(int round)>& progress = {});

// Alternates a and b, `rounds` times each after one warm-up each; seconds of every call.
struct Interleaved {
  Latency a, b;
  double ratio = 0;          // median over rounds of b / a
  double low = 0, high = 0;  // 10 % and 90 % of the rounds' ratios
};
Interleaved interleave(const std::function<void()>& a, const std::function<void()>& b, int rounds);

}  // namespace lathe
