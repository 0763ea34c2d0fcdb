// What figures depend on, read off the system; and counters that runs are held against.
#include <sched.h>
#include <sys/resource.h>
#include <sys/utsname.h>
#include <unistd.h>

#include <filesystem>
#include <fstream>
#include <map>
#include <sstream>
#include <string_view>

#include <fmt/format.h>

#include "base/memory.hpp"
#include "lathe/measure.hpp"

namespace lathe {
namespace {

namespace fs = std::filesystem;

// The first line of a file of the system's; "" when it cannot be read.
std::string line_of(const fs::path& path) {
  std::ifstream in(path);
  std::string line;
  std::getline(in, line);
  return line;
}

std::optional<double> number_of(const fs::path& path) {
  std::istringstream in(line_of(path));
  double v = 0;
  if (in >> v) return v;
  return std::nullopt;
}

std::vector<int> allowed_cores() {
  cpu_set_t set;
  CPU_ZERO(&set);
  std::vector<int> out;
  if (sched_getaffinity(0, sizeof set, &set) != 0) return out;
  for (int c = 0; c < CPU_SETSIZE; ++c) {
    if (CPU_ISSET(c, &set)) out.push_back(c);
  }
  return out;
}

// "0-3,6".
std::string ranges_text(const std::vector<int>& cores) {
  std::string out;
  for (size_t i = 0; i < cores.size();) {
    size_t j = i;
    while (j + 1 < cores.size() && cores[j + 1] == cores[j] + 1) ++j;
    out += fmt::format("{}{}{}", out.empty() ? "" : ",", cores[i], j > i ? fmt::format("-{}", cores[j]) : "");
    i = j + 1;
  }
  return out;
}

// "always [madvise] never": the word in brackets.
std::string bracketed(const std::string& line) {
  const size_t open = line.find('['), close = line.find(']');
  return open != std::string::npos && close != std::string::npos && close > open ? line.substr(open + 1, close - open - 1) : "";
}

// The folders of this process's control groups, from the innermost out; version 2, and version 1 of this controller.
std::vector<fs::path> groups(const std::string& controller) {
  std::vector<fs::path> out;
  std::ifstream in("/proc/self/cgroup");
  std::string line;
  while (std::getline(in, line)) {
    const size_t first = line.find(':'), second = line.find(':', first + 1);
    if (second == std::string::npos) continue;
    const std::string names = line.substr(first + 1, second - first - 1);
    const fs::path base = names.empty() ? fs::path("/sys/fs/cgroup") : fs::path("/sys/fs/cgroup") / controller;
    if (!names.empty() && ("," + names + ",").find("," + controller + ",") == std::string::npos) continue;
    fs::path inside = fs::path(line.substr(second + 1)).relative_path();
    for (;; inside = inside.parent_path()) {
      out.push_back(base / inside);
      if (inside.empty()) break;
    }
  }
  return out;
}

double core_limit() {
  double least = 0;
  const auto take = [&](double cores) { least = cores > 0 && (least == 0 || cores < least) ? cores : least; };
  for (const fs::path& g : groups("cpu")) {
    std::istringstream max(line_of(g / "cpu.max"));
    double quota = 0, period = 0;
    if (max >> quota >> period && period > 0) take(quota / period);
    const auto q = number_of(g / "cpu.cfs_quota_us"), p = number_of(g / "cpu.cfs_period_us");
    if (q && p && *q > 0 && *p > 0) take(*q / *p);
  }
  return least;
}

size_t memory_limit(size_t memory) {
  double least = 0;
  for (const fs::path& g : groups("memory")) {
    for (const char* file : {"memory.max", "memory.limit_in_bytes"}) {
      const auto v = number_of(g / file);
      if (v && *v > 0 && *v < static_cast<double>(memory) && (least == 0 || *v < least)) least = *v;
    }
  }
  return static_cast<size_t>(least);
}

}  // namespace

Environment environment() {
  Environment e;
  e.machine = machine_info();
  e.version = LATHE_VERSION;
#if defined(__clang__)
  e.compiler = fmt::format("clang {}.{}.{}", __clang_major__, __clang_minor__, __clang_patchlevel__);
#elif defined(__GNUC__)
  e.compiler = fmt::format("g++ {}.{}.{}", __GNUC__, __GNUC_MINOR__, __GNUC_PATCHLEVEL__);
#endif
  utsname u{};
  if (uname(&u) == 0) e.system = fmt::format("{} {} {}", u.sysname, u.release, u.machine);
  const std::vector<int> cores = allowed_cores();
  e.affinity = ranges_text(cores);
  if (!cores.empty()) e.governor = line_of(fmt::format("/sys/devices/system/cpu/cpu{}/cpufreq/scaling_governor", cores[0]));
  if (const auto off = number_of("/sys/devices/system/cpu/intel_pstate/no_turbo")) e.turbo = *off == 0;
  else if (const auto on = number_of("/sys/devices/system/cpu/cpufreq/boost")) e.turbo = *on != 0;
  e.core_limit = core_limit();
  e.memory_limit = memory_limit(e.machine.memory_bytes);
  e.page_bytes = static_cast<size_t>(::sysconf(_SC_PAGESIZE));
  e.huge_pages = bracketed(line_of("/sys/kernel/mm/transparent_hugepage/enabled"));
  e.load = number_of("/proc/loadavg").value_or(0);
  return e;
}

std::optional<double> stolen_seconds() {
  // "cpu  user nice system idle iowait irq softirq steal ...", in ticks
  std::istringstream in(line_of("/proc/stat"));
  std::string word;
  double v = 0;
  in >> word;
  for (int i = 0; i < 8; ++i) {
    if (!(in >> v)) return std::nullopt;
  }
  return v / static_cast<double>(::sysconf(_SC_CLK_TCK));
}

size_t peak_memory_bytes() {
  rusage usage{};
  if (getrusage(RUSAGE_SELF, &usage) != 0) return 0;
  return static_cast<size_t>(usage.ru_maxrss) * 1024;
}

namespace {

// "VmHWM:   1234 kB" of this process, in bytes.
std::optional<size_t> own_status(std::string_view key) {
  std::ifstream in("/proc/self/status");
  std::string line;
  while (std::getline(in, line)) {
    if (!line.starts_with(key)) continue;
    try {
      return std::stoull(line.substr(key.size() + 1)) * 1024;
    } catch (const std::exception&) {
      return std::nullopt;
    }
  }
  return std::nullopt;
}

}  // namespace

PeakMemory::PeakMemory() {
  return_free_memory();
  // The system forgets its highest mark.
  std::ofstream reset("/proc/self/clear_refs");
  reset << "5" << std::flush;
  const auto now = own_status("VmRSS"), most = own_status("VmHWM");
  // Where it does not, what comes cannot be told from what was.
  if (reset && now && most && *most <= *now + (size_t{1} << 20)) before_ = *now;
}

std::optional<size_t> PeakMemory::bytes() const {
  const auto most = own_status("VmHWM");
  if (!before_ || !most) return std::nullopt;
  return *most - std::min(*most, *before_);
}

std::optional<double> package_joules() {
  double sum = 0;
  bool any = false;
  std::error_code none;
  for (int package = 0; fs::exists(fmt::format("/sys/class/powercap/intel-rapl:{}", package), none); ++package) {
    const auto v = number_of(fmt::format("/sys/class/powercap/intel-rapl:{}/energy_uj", package));
    if (!v) return std::nullopt;
    sum += *v;
    any = true;
  }
  return any ? std::optional(sum / 1e6) : std::nullopt;
}

}  // namespace lathe
