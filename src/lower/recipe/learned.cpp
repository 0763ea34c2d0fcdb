#include "lower/recipe/learned.hpp"

#include <algorithm>
#include <map>

#include "base/fail.hpp"
#include "lower/recipe/words.hpp"

namespace lathe {
extern const std::string_view kTaughtCosts;  // taught.txt
}

namespace lathe::lower {
namespace {

constexpr int64_t kMostNames = 4096;

}  // namespace

LearnedCosts::LearnedCosts(int most_threads, std::vector<std::string> families, Features features, Trees trees)
    : most_threads_(most_threads), families_(std::move(families)), features_(std::move(features)), trees_(std::move(trees)) {}

std::string LearnedCosts::text() const {
  const std::vector<std::string> names = features_.names();
  std::string out = fmt::format("threads {}\nfamilies {}\n", most_threads_, families_.size());
  for (const std::string& f : families_) out += f + "\n";
  out += fmt::format("names {}\n", names.size());
  for (const std::string& n : names) out += n + "\n";  // two words each
  return out + trees_.text();
}

LearnedCosts LearnedCosts::read(std::string_view text) {
  Words words(text, "a cost model");
  words.expect("threads");
  const auto threads = static_cast<int>(words.whole(1, 1 << 16));
  words.expect("families");
  std::vector<std::string> families;
  for (int64_t n = words.whole(0, kMostNames); n > 0; --n) families.emplace_back(words.next());
  words.expect("names");
  Features features;
  for (int64_t n = words.whole(0, kMostNames); n > 0; --n) {
    std::string name(words.next());
    features.name(name.append(" ").append(words.next()));
  }
  Trees trees = Trees::read(words.rest(), features.count());
  return {threads, std::move(families), std::move(features), std::move(trees)};
}

bool LearnedCosts::knows(std::string_view family, int threads) const {
  return threads <= most_threads_ && std::ranges::find(families_, family) != families_.end();
}

double LearnedCosts::expected(const std::string& problem, int threads, const FamilyInfo& family, std::span<const int64_t> values) const {
  return trees_.predict(features_.row(problem, threads, family, values));
}

std::optional<Recipe> LearnedCosts::better(const std::string& problem, int threads, const RecipeSpace& space, double sure) const {
  const FamilyInfo family = space.info();
  if (!knows(family.family, threads)) return std::nullopt;
  const Features::Slots slots = features_.slots(family);
  const std::vector<double> sizes = features_.sizes(problem, threads);
  const auto expected_of = [&](const std::vector<int64_t>& values) {
    std::vector<double> x = sizes;
    Features::put(x, slots, family, values);
    return trees_.predict(x);
  };
  std::vector<int64_t> first;
  for (const KnobInfo& k : family.knobs) first.push_back(k.first);
  const double before = expected_of(first);
  std::vector<int64_t> best = first;
  double least = before;
  // One knob at a time, then another one: what is far from all that was measured is not looked at.
  constexpr double kFactors[]{0.25, 0.5, 0.75, 1.5, 2, 4};
  for (int turn = 0; turn < 2; ++turn) {
    const std::vector<int64_t> from = best;
    for (size_t i = 0; i < family.knobs.size(); ++i) {
      const KnobInfo& k = family.knobs[i];
      if (k.reorders_sums || k.most <= k.least) continue;
      for (const double factor : kFactors) {
        std::vector<int64_t> values = from;
        values[i] = fitting(k, static_cast<double>(std::max<int64_t>(1, from[i])) * factor);
        if (values == from) continue;
        if (const double e = expected_of(values); e < least) least = e, best = std::move(values);
      }
    }
  }
  if (least > before - sure) return std::nullopt;
  Recipe r = space.first();
  for (size_t i = 0; i < best.size(); ++i) r.knobs[i].value = best[i];
  return r;
}

const LearnedCosts* learned_costs(kernels::Isa isa) {
  static const auto kAll = [] {
    std::map<kernels::Isa, LearnedCosts> all;
    constexpr std::string_view kHead = "isa ";
    for (size_t at = kTaughtCosts.find(kHead); at != std::string_view::npos;) {
      const size_t line = std::min(kTaughtCosts.find('\n', at), kTaughtCosts.size());
      const size_t next = kTaughtCosts.find(kHead, line);
      const auto which = kernels::parse_isa(kTaughtCosts.substr(at + kHead.size(), line - at - kHead.size()));
      if (which) all.emplace(*which, LearnedCosts::read(kTaughtCosts.substr(line, next == std::string_view::npos ? next : next - line)));
      at = next;
    }
    return all;
  }();
  const auto it = kAll.find(isa);
  return it == kAll.end() ? nullptr : &it->second;
}

}  // namespace lathe::lower
