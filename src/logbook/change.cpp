// Whether a later measurement differs from an earlier one by more than noise.
#include <algorithm>
#include <cmath>
#include <random>

#include "base/fail.hpp"
#include "base/text.hpp"
#include "lathe/logbook.hpp"

namespace lathe {
namespace {

const Figure& figure_of(const LogEntry& e, const std::string& name) {
  const auto it = e.figures.find(name);
  if (it != e.figures.end()) return it->second;
  std::vector<std::string> names;
  for (const auto& [n, f] : e.figures) names.push_back(n);
  fail(Category::value, "entry {} has no figure '{}'{}", e.id, name, did_you_mean(name, names));
}

double median(std::vector<double>& v) {
  const auto middle = v.begin() + static_cast<int64_t>(v.size() / 2);
  std::nth_element(v.begin(), middle, v.end());
  return *middle;
}

// Runs that follow one another are alike (a clock that changes its pace, a neighbour who comes): blocks of them are drawn, not runs.
class Drawn {
 public:
  explicit Drawn(const std::vector<double>& samples)
      : samples_(samples), block_(std::max<size_t>(1, static_cast<size_t>(std::sqrt(static_cast<double>(samples.size()))))) {}
  double median_of_one(std::mt19937_64& random) {
    drawn_.clear();
    std::uniform_int_distribution<size_t> begin(0, samples_.size() - block_);
    while (drawn_.size() < samples_.size()) {
      const size_t at = begin(random);
      drawn_.insert(drawn_.end(), samples_.begin() + static_cast<int64_t>(at), samples_.begin() + static_cast<int64_t>(at + block_));
    }
    return median(drawn_);
  }

 private:
  const std::vector<double>& samples_;
  size_t block_;
  std::vector<double> drawn_;
};

// From the shortest to nine tenths of the runs, as a share of the median.
double spread_of(const Figure& f) {
  if (f.samples.size() < 3) return 0;
  std::vector<double> sorted = f.samples;
  std::ranges::sort(sorted);
  return (sorted[sorted.size() * 9 / 10] - sorted[0]) / sorted[sorted.size() / 2];
}

}  // namespace

Change compare_entries(const LogEntry& before, const LogEntry& after, const std::string& name) {
  const Figure &a = figure_of(before, name), &b = figure_of(after, name);
  const auto same = [&](const char* what, const std::string& x, const std::string& y) {
    if (x != y)
      fail(Category::value, "entries {} and {} differ in {}: '{}' and '{}'; only like is compared with like", before.id, after.id, what, x,
           y);
  };
  same("kind", before.kind, after.kind);
  same("model", before.model, after.model);
  same("machine", before.machine, after.machine);
  same("options", before.options, after.options);
  if (!(a.value > 0) || !(b.value > 0)) fail(Category::value, "'{}' is no time that can be compared", name);
  Change c;
  c.ratio = b.value / a.value;
  if (a.samples.size() > 2 && b.samples.size() > 2) {
    std::mt19937_64 random(1);
    Drawn x(a.samples), y(b.samples);
    constexpr int kDraws = 1000;
    std::vector<double> ratios;
    for (int i = 0; i < kDraws; ++i) ratios.push_back(y.median_of_one(random) / x.median_of_one(random));
    std::ranges::sort(ratios);
    c.low = ratios[kDraws * 25 / 1000], c.high = ratios[kDraws * 975 / 1000];
  } else if (a.low && a.high && b.low && b.high && *a.low > 0 && *a.high > 0) {
    c.low = *b.low / *a.high, c.high = *b.high / *a.low;
  } else {
    fail(Category::value, "entries {} and {} keep neither runs nor intervals of '{}'", before.id, after.id, name);
  }
  c.low = std::min(c.low, c.ratio), c.high = std::max(c.high, c.ratio);
  const auto peak = [](const LogEntry& e) {
    const auto it = e.figures.find("peak_gflops");
    return it == e.figures.end() ? 0.0 : it->second.value;
  };
  if (peak(before) > 0 && peak(after) > 0) {
    c.machine = peak(after) / peak(before);
    c.low = std::min(c.low, c.low * c.machine), c.high = std::max(c.high, c.high * c.machine);
  }
  // Runs that are so uneven had neighbours, who may be gone the next time: what is smaller is not told from them.
  const double uneven = std::max(spread_of(a), spread_of(b));
  constexpr double kNoisy = 0.25;  // as bench has it
  if (uneven > kNoisy) c.low = std::min(c.low, c.ratio / (1 + uneven)), c.high = std::max(c.high, c.ratio * (1 + uneven));
  constexpr double kLeast = 0.01;
  c.kind = c.low > 1 + kLeast ? Change::Kind::slower : c.high < 1 - kLeast ? Change::Kind::faster : Change::Kind::noise;
  const std::string machine = std::fabs(c.machine - 1) < 0.02
                                  ? ""
                                  : fmt::format("; the machine's own peak was {:+.0f} %, which is counted in", 100 * (c.machine - 1));
  const std::string noisy = uneven > kNoisy ? fmt::format("; the runs were spread over {:.0f} %, and so is this", 100 * uneven) : "";
  const std::string by =
      fmt::format("{:+.1f} % ({:+.1f} to {:+.1f}){}{}", 100 * (c.ratio - 1), 100 * (c.low - 1), 100 * (c.high - 1), machine, noisy);
  c.why = c.kind == Change::Kind::slower   ? fmt::format("slower by {}", by)
          : c.kind == Change::Kind::faster ? fmt::format("faster: {}", by)
                                           : fmt::format("only noise: {}", by);
  return c;
}

}  // namespace lathe
