#include "lathe/measure.hpp"

#include <hwloc.h>
#include <unistd.h>

#include <algorithm>
#include <barrier>
#include <cmath>
#include <cstring>
#include <fstream>
#include <mutex>
#include <numeric>
#include <set>
#include <thread>

#include "base/clock.hpp"
#include "base/fail.hpp"
#include "base/memory.hpp"
#include "kernels/isa.hpp"
#include "kernels/probe.hpp"
#include "measure/held.hpp"

namespace lathe {
namespace {


// Runs `burst` on all threads at once, several times; the best total rate. burst(thread) returns work done.
double best_rate(int threads, double seconds, const std::function<double(int)>& burst) {
  constexpr int kBursts = 5;
  std::vector<double> work(threads);
  std::vector<Clock::time_point> begin(threads), end(threads);
  double best = 0;
  std::barrier gate(threads);
  const auto body = [&](int t) {
    burst(t);  // wakes the core and its wide units up
    for (int b = 0; b < kBursts; ++b) {
      gate.arrive_and_wait();
      begin[t] = Clock::now();
      work[t] = 0;
      do work[t] += burst(t);
      while (since(begin[t]) < seconds / kBursts);
      end[t] = Clock::now();
      gate.arrive_and_wait();
      if (t == 0) {
        double total = 0;
        for (int i = 0; i < threads; ++i) total += work[i] / std::chrono::duration<double>(end[i] - begin[i]).count();
        best = std::max(best, total);
      }
    }
  };
  std::vector<std::jthread> others;
  for (int t = 1; t < threads; ++t) others.emplace_back(body, t);
  body(0);
  others.clear();
  return best;
}

kernels::Isa isa_of(const std::string& name) {
  const auto isa = name.empty() ? kernels::best() : kernels::parse_isa(name);
  if (!isa) fail(Category::value, "instruction set '{}' is not known", name);
  return *isa;
}

// Whether runs have settled: the medians of the last third and of the third before it agree to 2 %.
bool stands_still(const std::vector<double>& seconds) {
  if (seconds.size() < 6) return false;
  const auto third = static_cast<int64_t>(seconds.size() / 3);
  const double last = summarise({seconds.end() - third, seconds.end()}).median;
  const double before = summarise({seconds.end() - 2 * third, seconds.end() - third}).median;
  return std::fabs(last - before) <= 0.02 * before;
}

}  // namespace

MachineInfo machine_info() {
  MachineInfo m;
  m.usable = usable_cores();
  for (kernels::Isa isa : kernels::available()) m.isas.emplace_back(kernels::name(isa));
  m.int8_dot = kernels::has_int8_dot();
  hwloc_topology_t topology;
  if (hwloc_topology_init(&topology) == 0) {
    hwloc_topology_load(topology);
    m.cores = hwloc_get_nbobjs_by_type(topology, HWLOC_OBJ_CORE);
    if (hwloc_obj_t package = hwloc_get_obj_by_type(topology, HWLOC_OBJ_PACKAGE, 0)) {
      if (const char* model = hwloc_obj_get_info_by_name(package, "CPUModel")) m.cpu = model;
    }
    const hwloc_obj_type_t levels[] = {HWLOC_OBJ_L1CACHE, HWLOC_OBJ_L2CACHE, HWLOC_OBJ_L3CACHE};
    for (int i = 0; i < 3; ++i) {
      if (hwloc_obj_t cache = hwloc_get_obj_by_type(topology, levels[i], 0)) {
        m.caches.push_back({i + 1, static_cast<size_t>(cache->attr->cache.size), std::max(1, hwloc_bitmap_weight(cache->cpuset))});
      }
    }
    hwloc_topology_destroy(topology);
  }
  // Not hwloc's total, which leaves out what is not in a NUMA node it knows.
  m.memory_bytes = static_cast<size_t>(::sysconf(_SC_PHYS_PAGES)) * static_cast<size_t>(::sysconf(_SC_PAGESIZE));
  if (m.cores <= 0) m.cores = m.usable;
  if (m.cpu.empty()) m.cpu = "unknown processor";
  return m;
}

double measure_fma_peak(const std::string& isa, int threads, double seconds) {
  const kernels::Isa which = isa_of(isa);
  std::vector<float> sinks(static_cast<size_t>(threads) * 16, 0.5f);
  return best_rate(threads, seconds, [&](int t) { return kernels::burn_fma(which, 20000, &sinks[t * 16]); }) / 1e9;
}

double measure_int8_peak(const std::string& isa, int threads, double seconds) {
  const kernels::Isa which = isa_of(isa);
  std::vector<int32_t> sinks(static_cast<size_t>(threads) * 16, 1);
  if (kernels::burn_int8_dot(which, 1, sinks.data()) == 0) return 0;
  return best_rate(threads, seconds, [&](int t) { return kernels::burn_int8_dot(which, 20000, &sinks[t * 16]); }) / 1e9;
}

double measure_bf16_peak(const std::string& isa, int threads, double seconds) {
  const kernels::Isa which = isa_of(isa);
  if (kernels::burn_bf16_tiles(which, 1) == 0) return 0;
  return best_rate(threads, seconds, [&](int) { return kernels::burn_bf16_tiles(which, 20000); }) / 1e9;
}

double measure_read_bandwidth(const std::string& isa, size_t bytes, int threads, double seconds) {
  const kernels::Isa which = isa_of(isa);
  bytes = std::max<size_t>(1024, bytes / 1024 * 1024);
  std::vector<std::shared_ptr<std::byte>> blocks(threads);
  for (auto& b : blocks) {
    b = allocate_aligned(bytes);
    std::memset(b.get(), 0, bytes);
  }
  std::vector<float> sinks(static_cast<size_t>(threads) * 16, 0);
  const int64_t times = std::max<int64_t>(1, (int64_t{4} << 20) / static_cast<int64_t>(bytes));
  return best_rate(threads, seconds,
                   [&](int t) { return kernels::read_all(which, blocks[t].get(), static_cast<int64_t>(bytes), times, &sinks[t * 16]); }) /
         1e9;
}

double measure_fill_bandwidth(size_t bytes, int threads, double seconds) {
  std::vector<std::shared_ptr<std::byte>> blocks(threads);
  for (auto& b : blocks) {
    b = allocate_aligned(bytes);
    std::memset(b.get(), 1, bytes);
  }
  return best_rate(threads, seconds,
                   [&](int t) {
                     std::memset(blocks[t].get(), 2, bytes);
                     return static_cast<double>(bytes);
                   }) /
         1e9;
}

double measure_copy_bandwidth(size_t bytes, int threads, double seconds) {
  bytes = std::max<size_t>(1024, bytes);
  std::vector<std::shared_ptr<std::byte>> from(threads), to(threads);
  for (int t = 0; t < threads; ++t) {
    from[t] = allocate_aligned(bytes);
    to[t] = allocate_aligned(bytes);
    std::memset(from[t].get(), 1, bytes);
    std::memset(to[t].get(), 1, bytes);
  }
  return best_rate(threads, seconds,
                   [&](int t) {
                     std::memcpy(to[t].get(), from[t].get(), bytes);
                     return 2.0 * static_cast<double>(bytes);
                   }) /
         1e9;
}

Limits measure_limits(int threads, const std::function<void(const std::string&)>& progress) {
  const MachineInfo m = machine_info();
  if (threads <= 0) threads = m.usable;
  const auto say = [&](const std::string& what) {
    if (progress) progress(what);
  };
  Limits l;
  for (const std::string& isa : m.isas) {
    for (int t = 1; t <= threads && isa != kernels::name(kernels::Isa::amx); ++t) {  // its vectors are those of AVX-512
      say(fmt::format("multiply-add rate, {}, {} threads", isa, t));
      l.fma.push_back({isa, t, measure_fma_peak(isa, t)});
    }
  }
  for (const std::string& isa : m.isas) {
    for (int t = 1; t <= threads; ++t) {
      say(fmt::format("int8 and bf16 products, {}, {} threads", isa, t));
      if (const double gops = measure_int8_peak(isa, t); gops > 0) l.int8.push_back({isa, t, gops});
      if (const double gflops = measure_bf16_peak(isa, t); gflops > 0) l.bf16.push_back({isa, t, gflops});
    }
  }
  // Half of each level, so that it holds the set beside everything else; DRAM: four times the last level.
  std::vector<std::pair<std::string, size_t>> sets;
  for (const CacheInfo& c : m.caches)
    sets.emplace_back("L" + std::to_string(c.level), c.bytes / 2 / (c.level == 3 ? std::max(1, threads) : 1));
  const size_t last = m.caches.empty() ? size_t{32} << 20 : m.caches.back().bytes;
  sets.emplace_back("DRAM", std::min<size_t>(std::max<size_t>(last * 4, size_t{64} << 20), size_t{256} << 20));
  for (const auto& [level, bytes] : sets) {
    for (int t = 1; t <= threads; ++t) {
      say(fmt::format("read bandwidth, {}, {} threads", level, t));
      l.read.push_back({level, bytes, t, measure_read_bandwidth("", bytes, t, level == "DRAM" ? 0.3 : 0.05)});
    }
  }
  return l;
}

Latency summarise(std::vector<double> s) {
  Latency l;
  l.runs = static_cast<int64_t>(s.size());
  if (s.empty()) return l;
  std::sort(s.begin(), s.end());
  const auto at = [&](double q) {
    const double x = q * static_cast<double>(s.size() - 1);
    const auto i = static_cast<size_t>(x);
    return i + 1 < s.size() ? s[i] + (s[i + 1] - s[i]) * (x - static_cast<double>(i)) : s[i];
  };
  l.min = s.front();
  l.max = s.back();
  l.median = at(0.5);
  l.p90 = at(0.9);
  l.p99 = at(0.99);
  l.p999 = at(0.999);
  l.mean = std::accumulate(s.begin(), s.end(), 0.0) / static_cast<double>(s.size());
  double squares = 0;
  for (double x : s) squares += (x - l.mean) * (x - l.mean);
  l.deviation = s.size() > 1 ? std::sqrt(squares / static_cast<double>(s.size() - 1)) : 0;
  return l;
}

void empty_caches() {
  static const size_t bytes = [] {
    size_t most = size_t{32} << 20;
    for (const CacheInfo& c : machine_info().caches) most = std::max(most, c.bytes);
    return 2 * most;
  }();
  static const std::shared_ptr<std::byte> block = allocate_aligned(bytes);
  static int value = 0;
  std::memset(block.get(), ++value, bytes);
}

namespace {

// What control steps did that ran as programs of their own: they do not count it themselves.
void count_inside(const std::vector<InnerSteps>& inner, BenchResult& r) {
  std::set<std::pair<size_t, std::string>> counted;
  for (const InnerSteps& s : inner) {
    r.flops += static_cast<double>(s.runs) * s.edition->flops;
    if (counted.emplace(s.step, s.body).second) r.not_counted += s.edition->not_counted - 1;
    count_inside(s.inner, r);
  }
}

}  // namespace

BenchResult bench(const Program& program, int threads, const std::vector<Tensor>& inputs, const BenchOptions& o) {
  if (o.lanes < 1 || o.lanes > 256) fail(Category::value, "lanes is {}, expected 1 to 256", o.lanes);
  BenchResult r;
  std::vector<Shape> shapes;
  for (const Tensor& t : inputs) shapes.push_back(t.shape());
  const EditionInfo edition = program.describe(shapes);
  r.flops = edition.flops;
  r.not_counted = edition.not_counted;
  const int all = std::min(threads * o.lanes, usable_cores());  // more threads than cores have no more of a peak
  const std::string& isa = program.options().isa;
  const double before = measure_fma_peak(isa, std::min(all, 64));
  const auto has = [&](std::string_view numbers) {
    return std::ranges::any_of(edition.steps, [&](const StepInfo& s) { return s.arithmetic == numbers; });
  };
  if (has("int8")) r.int8_gops = measure_int8_peak(isa, std::min(all, 64));
  if (has("bf16")) r.bf16_gflops = measure_bf16_peak(isa, std::min(all, 64));
  // In multiply-adds of f32: what others are faster by is told by peaks measured one after the other.
  double equal = r.flops;
  for (const StepInfo& s : edition.steps) {
    const double peak = s.arithmetic == "int8" ? r.int8_gops : s.arithmetic == "bf16" ? r.bf16_gflops / s.products : 0;
    if (peak > 0) equal += s.flops * (before / peak - 1);
  }

  // With one lane the peak is probed every tenth of a second between runs: a machine that changes its pace in the middle
  // must not make the share wrong.
  std::vector<double> peaks{before};

  std::mutex lock;
  std::vector<double> samples;
  std::exception_ptr failed;
  Clock::time_point first, last;
  int64_t counted = 0;
  bool steady = true;
  const auto whole_start = Clock::now();
  const auto stolen_before = stolen_seconds();
  std::optional<double> joules_before, joules_after;
  std::barrier gate(o.lanes, [&]() noexcept { joules_before = package_joules(); });
  const auto work = [&] {
    std::vector<double> own;
    own.reserve(1 << 16);
    Clock::time_point start, end;
    bool ran = false, still = false;
    std::vector<double> warming;
    std::vector<InnerSteps> inner;
    try {
      Lane lane(program, threads);
      HeldRuns held(lane, inputs, o.held);
      start = Clock::now();
      double once = 0;
      const bool control = std::ranges::any_of(edition.steps, [](const StepInfo& s) { return s.kind == "control"; });
      do {
        lane.time_steps(control && warming.empty());
        const auto t0 = Clock::now();
        lane.run(std::span<const Tensor>(inputs), o.run);
        once = since(t0);
        if (control && warming.empty()) {
          inner = lane.inner_steps();
          lane.time_steps(false);
        }
        held.after_run();
        warming.push_back(once);
        still = stands_still(warming) && since(start) > 0.05;
      } while (!still && since(start) < o.warmup_seconds);
      gate.arrive_and_wait();
      ran = true;
      start = Clock::now();
      auto segment_start = start;
      double probing = 0;
      RunOptions measured = o.run;
      if (once < 1) measured.progress = {};  // what it tells, nobody would see; it takes time
      // One that takes as long as all of this may is not run again.
      if (once > o.max_seconds) own.push_back(once);
      while (own.empty() || once <= o.max_seconds) {
        const auto t0 = Clock::now();
        lane.run(std::span<const Tensor>(inputs), measured);
        own.push_back(since(t0));
        held.after_run();
        if (o.lanes == 1 && since(segment_start) > 0.1) {
          const auto probe_start = Clock::now();
          peaks.push_back(measure_fma_peak(program.options().isa, std::min(all, 64), 0.004));
          probing += since(probe_start);
          segment_start = Clock::now();
        }
        const double elapsed = since(start) - probing;
        if (elapsed > o.max_seconds && !own.empty()) break;
        if (elapsed < o.min_seconds || static_cast<int64_t>(own.size()) < o.min_runs) continue;
        // Steady: the median of all runs and of the first three quarters agree to 1 %.
        if (own.size() % 8 != 0 && own.size() > 64) continue;
        const double now = summarise(own).median;
        const double previous_median = summarise({own.begin(), own.begin() + static_cast<int64_t>(own.size() * 3 / 4)}).median;
        if (std::fabs(now - previous_median) <= 0.01 * now || elapsed > 3 * o.min_seconds) break;
      }
      if (once > o.max_seconds) start -= std::chrono::duration_cast<Clock::duration>(std::chrono::duration<double>(once));
      end = Clock::now() - std::chrono::duration_cast<Clock::duration>(std::chrono::duration<double>(probing));
    } catch (...) {
      if (!ran) gate.arrive_and_drop();
      const std::lock_guard guard(lock);
      failed = std::current_exception();
      return;
    }
    const std::lock_guard guard(lock);
    if (counted == 0) count_inside(inner, r);
    r.first_seconds = std::max(r.first_seconds, warming.front());
    r.warmup_runs = std::max(r.warmup_runs, static_cast<int64_t>(warming.size()));
    steady = steady && still;
    if (counted == 0 || start < first) first = start;
    if (counted == 0 || end > last) last = end;
    counted += static_cast<int64_t>(own.size());
    samples.insert(samples.end(), own.begin(), own.end());
  };
  {
    std::vector<std::jthread> others;
    for (int i = 1; i < o.lanes; ++i) others.emplace_back(work);
    work();
  }
  if (failed) std::rethrow_exception(failed);
  joules_after = package_joules();
  r.peak_memory = peak_memory_bytes();
  if (const auto stolen = stolen_seconds(); stolen && stolen_before)
    r.stolen = (*stolen - *stolen_before) / (since(whole_start) * std::max(1, machine_info().cores));
  const double after = measure_fma_peak(program.options().isa, std::min(all, 64));
  r.latency = summarise(samples);
  constexpr size_t kKept = 2000;
  const size_t every = (samples.size() + kKept - 1) / kKept;
  for (size_t i = 0; i < samples.size(); i += every) r.samples.push_back(samples[i]);
  r.seconds = std::chrono::duration<double>(last - first).count();
  r.runs_per_second = static_cast<double>(counted) / r.seconds;
  peaks.push_back(after);
  std::sort(peaks.begin(), peaks.end());
  r.peak_gflops = peaks[peaks.size() / 2];
  r.peak_drift = (peaks.back() - peaks.front()) / r.peak_gflops;
  // Of one lane from the median, so that a hiccup of the machine does not count; of several what ran in all: while some wait, their runs
  // take longer and nothing is done.
  r.gflops = r.flops * (o.lanes == 1 ? 1 / r.latency.median : r.runs_per_second) / 1e9;
  r.share = r.flops > 0 ? r.gflops * (equal + r.flops - edition.flops) / r.flops / r.peak_gflops : 0;
  r.steady = steady;
  // Probes between runs are in it: it is the processor's, for all it did.
  if (joules_before && joules_after && *joules_after > *joules_before)
    r.joules = (*joules_after - *joules_before) / static_cast<double>(counted);
  r.weight_bytes = static_cast<double>(edition.weight_bytes);
  if (edition.weight_bytes > 0) {
    // Weights are read by all threads together, each its part.
    const int readers = std::min(all, 64);
    const size_t part = std::min<size_t>(std::max<size_t>(edition.weight_bytes / static_cast<size_t>(threads), 1 << 12), size_t{256} << 20);
    r.read_bandwidth = 1e9 * measure_read_bandwidth(program.options().isa, part, readers, 0.05);
    r.share_of_reading = r.weight_bytes * (o.lanes == 1 ? 1 / r.latency.median : r.runs_per_second) / r.read_bandwidth;
  }
  r.spread = (r.latency.p90 - r.latency.min) / r.latency.median;
  r.noisy = r.spread > 0.25 || r.peak_drift > 0.25;
  return r;
}

LaneChoice choose_lanes(const std::function<Program(int threads)>& compile_for, const std::vector<Tensor>& inputs, Prefer prefer, int cores,
                        int rounds) {
  LaneChoice choice;
  std::vector<Program> programs;
  for (int threads = 1; threads <= cores; ++threads) {
    if (cores % threads != 0) continue;
    programs.push_back(compile_for(threads));
    // One lane alone, and as many as there are cores for.
    choice.tried.push_back({1, threads, 0, 0});
    if (cores / threads > 1) choice.tried.push_back({cores / threads, threads, 0, 0});
  }
  std::vector<std::vector<double>> latencies(choice.tried.size()), rates(choice.tried.size());
  for (int r = 0; r < rounds; ++r) {
    for (size_t i = 0; i < choice.tried.size(); ++i) {
      const LaneCandidate& c = choice.tried[i];
      const auto program = std::ranges::find_if(programs, [&](const Program& p) { return p.options().threads == c.threads; });
      BenchOptions o;
      o.lanes = c.lanes;
      o.warmup_seconds = 0.02;
      o.min_seconds = 0.1;
      o.max_seconds = 1;
      o.min_runs = 3;
      const BenchResult result = bench(*program, c.threads, inputs, o);
      latencies[i].push_back(result.latency.median);
      rates[i].push_back(result.runs_per_second);
    }
  }
  for (size_t i = 0; i < choice.tried.size(); ++i) {
    choice.tried[i].latency = summarise(latencies[i]).median;
    choice.tried[i].runs_per_second = summarise(rates[i]).median;
  }
  const bool quick = prefer == Prefer::latency;
  const auto first = [&](const LaneCandidate& c) { return quick ? c.latency : 1 / c.runs_per_second; };
  const auto second = [&](const LaneCandidate& c) { return quick ? 1 / c.runs_per_second : c.latency; };
  double best = first(choice.tried[0]);
  for (const LaneCandidate& c : choice.tried) best = std::min(best, first(c));
  const LaneCandidate* chosen = nullptr;
  for (const LaneCandidate& c : choice.tried) {
    if (first(c) <= 1.03 * best && (chosen == nullptr || second(c) < second(*chosen))) chosen = &c;
  }
  choice.lanes = chosen->lanes;
  choice.threads = chosen->threads;
  // Against the best of the others.
  const LaneCandidate* other = nullptr;
  for (const LaneCandidate& c : choice.tried) {
    if (&c != chosen && (other == nullptr || first(c) < first(*other))) other = &c;
  }
  const auto name = [](const LaneCandidate& c) { return fmt::format("{} lane{} x {}", c.lanes, c.lanes == 1 ? "" : "s", c.threads); };
  choice.why = quick ? fmt::format("{} answers in {:.3g} ms", name(*chosen), chosen->latency * 1e3)
                     : fmt::format("{} gives {:.4g} runs a second", name(*chosen), chosen->runs_per_second);
  if (other != nullptr) {
    choice.why += quick ? fmt::format(", {} in {:.3g} ms", name(*other), other->latency * 1e3)
                        : fmt::format(", {} {:.4g}", name(*other), other->runs_per_second);
  }
  return choice;
}

Interleaved interleave(const std::function<void()>& a, const std::function<void()>& b, int rounds) {
  std::vector<double> ta, tb, ratios;
  a();
  b();
  const auto time = [](const std::function<void()>& f) {
    const auto t = Clock::now();
    f();
    return since(t);
  };
  for (int i = 0; i < rounds; ++i) {
    // The order alternates: whoever goes second must not always find the caches as the first left them.
    const bool swap = i % 2 != 0;
    double x = 0, y = 0;
    if (swap) y = time(b);
    x = time(a);
    if (!swap) y = time(b);
    ta.push_back(x);
    tb.push_back(y);
    ratios.push_back(y / x);
  }
  Interleaved r;
  r.a = summarise(ta);
  r.b = summarise(tb);
  std::sort(ratios.begin(), ratios.end());
  r.ratio = ratios[ratios.size() / 2];
  r.low = ratios[ratios.size() / 10];
  r.high = ratios[ratios.size() * 9 / 10];
  return r;
}

}  // namespace lathe
