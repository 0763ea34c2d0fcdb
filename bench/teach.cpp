// What compiling knows of knobs beyond its estimates: measures recipes on the bench's shapes and networks, teaches a cost model by them,
// and says how good it is on problems that it has not seen. scripts/cost_model does it all. Usage: teach --measure TRIALS.tsv [--seconds S]
// [--net-seconds S] [--threads N] [--isa NAME] [--only TEXT] [--seed N]
//        teach --learn TAUGHT.txt TRIALS.tsv..
//        teach --compare|--unseen [--threads N] [--isa NAME] [--only TEXT] [--rounds N]     compiled with it and without, by turns: what it
//        was taught by, or others
#include <fmt/format.h>
#include <fmt/ranges.h>

#include <array>
#include <cmath>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <fstream>
#include <functional>
#include <map>
#include <set>

#include "lower/recipe/learned.hpp"
#include "networks.hpp"
#include "timing.hpp"

using namespace lathe;

namespace {

struct Lesson {
  std::string name;
  std::function<Graph()> make;
  bool net = false;
};

std::vector<Lesson> lessons(const std::string& shapes) {
  std::vector<Lesson> all;
  const auto add = [&](const char* op, const char* file) {
    SweepRequest r;
    r.op = op;
    r.sizes = read_sizes(shapes + "/" + file);
    for (const SweepCase& c : sweep_cases(r)) all.push_back({fmt::format("{} {}", op, c.name), [g = c.graph] { return g; }});
  };
  add("MatMul", "products.txt");
  add("MatMul", "large_products.txt");
  add("Conv", "convolutions.txt");
  add("Conv", "depthwise.txt");
  add("ConvTranspose", "transposed.txt");
  const auto net = [&](const char* name, std::function<Graph()> make) { all.push_back({name, std::move(make), true}); };
  net("residual", [] { return networks::residual_50(1); });
  net("mobile", [] { return networks::mobile(1); });
  net("mobile, batch 4", [] { return networks::mobile(4); });
  net("encoder", [] { return networks::encoder(1); });
  net("encoder, batch 4, length 48", [] { return networks::encoder(4, 48); });
  net("skips", [] { return networks::skips(1); });
  net("nested", [] { return networks::nested(1); });
  net("recurrent", [] { return networks::recurrent(1); });
  net("decoder", [] { return networks::decoder(1); });
  return all;
}

// What no lesson has.
std::vector<Lesson> unseen() {
  std::vector<Lesson> all;
  const auto add = [&](std::string name, std::function<Graph()> make) { all.push_back({std::move(name), std::move(make), true}); };
  for (const auto& [m, n, k] : {std::array<int64_t, 3>{7, 1000, 517},
                                {33, 65, 4097},
                                {1000, 3, 1000},
                                {5000, 48, 48},
                                {130, 2050, 130},
                                {17, 8000, 256},
                                {300, 900, 700},
                                {60, 512, 2048},
                                {2, 3000, 3000},
                                {1500, 200, 90}})
    add(fmt::format("product {}x{}x{}", m, n, k), [=, m = m, n = n, k = k] { return networks::product(m, n, k); });
  for (const auto& [c, side, filters, kernel, stride] : {std::array<int64_t, 5>{19, 61, 37, 3, 1},
                                                         {24, 33, 40, 5, 1},
                                                         {12, 45, 12, 7, 2},
                                                         {100, 50, 7, 1, 1},
                                                         {200, 9, 200, 3, 1},
                                                         {64, 13, 65, 3, 2},
                                                         {48, 96, 96, 3, 1},
                                                         {320, 20, 160, 1, 1},
                                                         {96, 40, 192, 3, 2},
                                                         {32, 150, 24, 1, 1}})
    add(fmt::format("conv {0}x{0} {1}->{2} at {3}, stride {4}", kernel, c, filters, side, stride),
        [=, c = c, side = side, filters = filters, kernel = kernel, stride = stride] {
          return networks::convolution(1, c, side, filters, kernel, stride);
        });
  add("residual, batch 2, at 160", [] { return networks::residual_50(2, 160); });
  add("mobile, at 288", [] { return networks::mobile(1, 288); });
  add("encoder, length 200", [] { return networks::encoder(1, 200, 4); });
  add("skips, at 192", [] { return networks::skips(1, 192); });
  add("nested, at 256", [] { return networks::nested(1, 256); });
  return all;
}

struct Flags {
  std::string measure, learn, only, isa, shapes = "bench/shapes";
  bool compare = false, unseen = false;
  int rounds = 15;
  std::vector<std::string> trials;
  double seconds = 3, net_seconds = 20;
  int threads = 1;
  uint64_t seed = 1;
};

std::vector<Tensor> inputs_of(const Program& p) {
  auto inputs = random_inputs(p, p.bound_shapes(), 1);
  for (size_t i = 0; i < inputs.size(); ++i) {
    if (p.inputs()[i].name == "mask") std::ranges::fill(inputs[i].as<float>(), 0.0f);
  }
  return inputs;
}

int measure(const Flags& f) {
  std::FILE* out = std::fopen(f.measure.c_str(), "a");
  if (out == nullptr) {
    fmt::print(stderr, "{} cannot be written\n", f.measure);
    return 1;
  }
  for (const Lesson& l : lessons(f.shapes)) {
    if (l.name.find(f.only) == std::string::npos) continue;
    const Graph g = l.make();
    CompileOptions c;
    c.threads = f.threads, c.isa = f.isa, c.learned = false;
    const std::vector<Tensor> inputs = inputs_of(compile(g, c));
    TuneOptions o;
    o.seconds = l.net ? f.net_seconds : f.seconds;
    o.seed = f.seed;
    const TuneResult r = tune(g, c, inputs, o);
    std::map<std::string, std::string> untuned;
    for (const TunedProblem& t : r.problems) untuned[t.problem] = t.untuned;
    for (const RecipeTrial& t : r.trials) {
      if (const auto it = untuned.find(t.problem); it != untuned.end())
        fmt::print(out, "{}\t{}\t{}\t{}\t{}\t{:.4f}\n", t.problem, t.isa, t.threads, it->second, t.recipe, t.ratio);
    }
    std::fflush(out);
    fmt::print("{:<44} {} threads: {:>4} recipes, {:.3f}\n", l.name, f.threads, r.trials.size(), r.gain);
    std::fflush(stdout);
  }
  return std::fclose(out) == 0 ? 0 : 1;
}

// A measured recipe, as a row of the file.
struct Trial {
  std::string problem, isa;
  int threads = 1;
  std::string untuned, recipe;
  double ratio = 1;
};

std::vector<Trial> read_trials(const std::vector<std::string>& files) {
  std::vector<Trial> all;
  for (const std::string& file : files) {
    std::ifstream in(file);
    if (!in) throw std::runtime_error(file + " cannot be read");
    std::string line;
    while (std::getline(in, line)) {
      std::vector<std::string> cells(1);
      for (const char c : line) c == '\t' ? cells.emplace_back() : cells.back() += c, void();
      if (cells.size() != 6) throw std::runtime_error(file + " has a line that is no trial");
      all.push_back({cells[0], cells[1], std::atoi(cells[2].c_str()), cells[3], cells[4], std::atof(cells[5].c_str())});
    }
  }
  return all;
}

// The family and the values of a recipe's text, beside those of the untuned one, which are the knobs' first.
struct Said {
  FamilyInfo family;
  std::vector<int64_t> values;
};
std::optional<Said> said(const Trial& t) {
  const auto recipe = lower::read_recipe(t.recipe), untuned = lower::read_recipe(t.untuned);
  if (!recipe || !untuned || recipe->family != untuned->family || recipe->knobs.size() != untuned->knobs.size()) return std::nullopt;
  Said s{{recipe->family, recipe->version, {}}, {}};
  for (size_t i = 0; i < recipe->knobs.size(); ++i) {
    s.family.knobs.push_back({recipe->knobs[i].name, untuned->knobs[i].value});
    s.values.push_back(recipe->knobs[i].value);
  }
  return s;
}

// Knobs that other values of would round another way: never turned unasked.
bool keeps_sums(const Said& s) {
  static const std::set<std::string> kReorder{"k_block", "key_block", "made", "tiles"};
  for (size_t i = 0; i < s.values.size(); ++i) {
    if (kReorder.contains(s.family.knobs[i].name) && s.values[i] != s.family.knobs[i].first) return false;
  }
  return true;
}

double timed(const std::function<void()>& what) {
  const Clock::time_point begin = Clock::now();
  what();
  return since(begin);
}

constexpr lower::TreeOptions kTeaching{.trees = 60, .depth = 5, .rate = 0.12, .least = 6, .shrink = 4};
constexpr size_t kEnough = 60;  // recipes of a family, that it is spoken of

lower::LearnedCosts taught(const std::vector<const Trial*>& trials) {
  lower::Features features;
  std::map<std::string, size_t> seen;
  int threads = 1;
  for (const Trial* t : trials) {
    const auto s = said(*t);
    features.learn({&s->family, 1});
    ++seen[s->family.family];
    threads = std::max(threads, t->threads);
  }
  lower::Samples samples;
  samples.features = features.count();
  std::set<std::pair<std::string, int>> firsts;
  for (const Trial* t : trials) {
    const auto s = said(*t);
    samples.add(features.row(t->problem, t->threads, s->family, s->values), std::log(std::clamp(t->ratio, 0.25, 4.0)));
    if (!firsts.emplace(t->problem, t->threads).second) continue;
    // The estimate's own: what all others are measured against.
    std::vector<int64_t> first;
    for (const KnobInfo& k : s->family.knobs) first.push_back(k.first);
    for (int i = 0; i < 4; ++i) samples.add(features.row(t->problem, t->threads, s->family, first), 0);
  }
  std::vector<std::string> families;
  for (const auto& [family, n] : seen) {
    if (n >= kEnough) families.push_back(family);
  }
  return {threads, std::move(families), std::move(features), lower::Trees(samples, kTeaching)};
}

int learn(const Flags& f) {
  std::map<std::string, std::vector<Trial>> by_isa;
  for (Trial& t : read_trials(f.trials)) {
    if (const auto s = said(t); s && t.ratio > 0) by_isa[t.isa].push_back(std::move(t));
  }
  std::string text = "costs 1\n";
  for (const auto& [isa, trials] : by_isa) {
    std::vector<const Trial*> all;
    std::map<std::string, std::vector<const Trial*>> by_problem;
    for (const Trial& t : trials) all.push_back(&t), by_problem[t.problem].push_back(&t);
    text += fmt::format("isa {}\n{}", isa, taught(all).text());
    // Ten models, each without a tenth of the problems: what they would have taken there, of what was measured.
    constexpr size_t kParts = 10;
    constexpr double kSure[]{0.02, 0.04, 0.06, 0.08, 0.1, 0.15};
    std::vector<double> gain(std::size(kSure));
    std::vector<int> turned(std::size(kSure)), worse(std::size(kSure));
    double correlation = 0;
    int ranked = 0, problems = 0;
    for (size_t part = 0; part < kParts; ++part) {
      std::vector<const Trial*> others;
      size_t at = 0;
      for (const auto& [problem, its] : by_problem) {
        if (at++ % kParts != part) others.insert(others.end(), its.begin(), its.end());
      }
      const lower::LearnedCosts model = taught(others);
      at = 0;
      for (const auto& [problem, its] : by_problem) {
        if (at++ % kParts != part) continue;
        std::map<int, std::vector<const Trial*>> by_threads;
        for (const Trial* t : its) by_threads[t->threads].push_back(t);
        for (const auto& [threads, those] : by_threads) {
          std::vector<double> expected, measured;
          double least = 0, its_ratio = 0;
          for (const Trial* t : those) {
            const auto s = said(*t);
            if (!model.knows(s->family.family, threads)) continue;
            std::vector<int64_t> first;
            for (const KnobInfo& k : s->family.knobs) first.push_back(k.first);
            const double e = model.expected(problem, threads, s->family, s->values) - model.expected(problem, threads, s->family, first);
            expected.push_back(e), measured.push_back(std::log(t->ratio));
            if (e < least && keeps_sums(*s)) least = e, its_ratio = std::log(t->ratio);
          }
          if (expected.size() >= 5) correlation += lower::rank_correlation(expected, measured), ++ranked;
          ++problems;
          for (size_t i = 0; i < std::size(kSure); ++i) {
            if (least > -kSure[i]) continue;
            ++turned[i], worse[i] += its_ratio > 0.01, gain[i] += -its_ratio;
          }
        }
      }
    }
    fmt::print("{}: {} recipes of {} problems; rank correlation on problems held out {:.2f}\n  {:>6} {:>7} {:>7} {:>22}\n", isa,
               trials.size(), problems, ranked > 0 ? correlation / ranked : 0, "sure", "turned", "slower", "gain where turned");
    for (size_t i = 0; i < std::size(kSure); ++i) {
      fmt::print("  {:>6.2f} {:>7} {:>7} {:>22}\n", kSure[i], turned[i], worse[i],
                 turned[i] > 0 ? fmt::format("{:.3f} times", std::exp(gain[i] / turned[i])) : "");
    }
  }
  std::ofstream out(f.learn, std::ios::binary);
  out << text;
  out.close();
  if (!out) throw std::runtime_error(f.learn + " cannot be written");
  return 0;
}

int compare_compiled(const Flags& f) {
  double sum = 0;
  int counted = 0, same = 0;
  for (const Lesson& l : f.unseen ? unseen() : lessons(f.shapes)) {
    if (l.name.find(f.only) == std::string::npos) continue;
    const Graph g = l.make();
    CompileOptions c;
    c.threads = f.threads, c.isa = f.isa;
    const Program with = compile(g, c);
    c.learned = false;
    const Program without = compile(g, c);
    const std::vector<Tensor> inputs = inputs_of(with);
    std::vector<std::string> turned;
    for (const StepInfo& s : with.describe().steps) {
      if (s.chosen_by == "learned") turned.push_back(s.op);
    }
    if (turned.empty()) {
      ++same;
      continue;
    }
    Lane a(without), b(with);
    (void)a.run(std::span<const Tensor>(inputs)), (void)b.run(std::span<const Tensor>(inputs));
    std::vector<double> ratios;
    const double once = timed([&] { (void)a.run(std::span<const Tensor>(inputs)); });
    const int runs = std::clamp(static_cast<int>(0.02 / std::max(once, 1e-7)), 1, 2000);
    const auto some = [&](Lane& lane) {
      return timed([&] {
        for (int i = 0; i < runs; ++i) (void)lane.run(std::span<const Tensor>(inputs));
      });
    };
    for (int r = 0; r < f.rounds; ++r) {
      const bool first = r % 2 == 0;
      const double x = some(first ? a : b), y = some(first ? b : a);
      ratios.push_back(first ? x / y : y / x);
    }
    std::ranges::sort(ratios);
    const double middle = ratios[ratios.size() / 2];
    fmt::print("{:<44} {} thread{}: {:.3f} times ({:.3f} to {:.3f}), {} steps turned\n", l.name, f.threads, f.threads == 1 ? "" : "s",
               middle, ratios[ratios.size() / 4], ratios[ratios.size() * 3 / 4], turned.size());
    std::fflush(stdout);
    sum += std::log(middle), ++counted;
  }
  fmt::print("geometric mean of {}: {:.3f} times as fast with what was taught; {} compiled to the same steps\n", counted,
             counted > 0 ? std::exp(sum / counted) : 1, same);
  return 0;
}

}  // namespace

int main(int argc, char** argv) {
  Flags f;
  for (int i = 1; i < argc; ++i) {
    const auto is = [&](const char* name) { return std::strcmp(argv[i], name) == 0; };
    const auto next = [&] { return i + 1 < argc ? argv[++i] : ""; };
    if (is("--measure")) f.measure = next();
    else if (is("--learn")) f.learn = next();
    else if (is("--compare")) f.compare = true;
    else if (is("--unseen")) f.compare = f.unseen = true;
    else if (is("--rounds")) f.rounds = std::max(3, std::atoi(next()));
    else if (is("--seconds")) f.seconds = std::atof(next());
    else if (is("--net-seconds")) f.net_seconds = std::atof(next());
    else if (is("--threads")) f.threads = std::max(1, std::atoi(next()));
    else if (is("--isa")) f.isa = next();
    else if (is("--only")) f.only = next();
    else if (is("--seed")) f.seed = std::strtoull(next(), nullptr, 10);
    else if (argv[i][0] != '-') f.trials.emplace_back(argv[i]);
    else {
      fmt::print(stderr, "usage: see the head of bench/teach.cpp\n");
      return 2;
    }
  }
  try {
    if (f.compare) return compare_compiled(f);
    if (!f.learn.empty()) return learn(f);
    if (!f.measure.empty()) return measure(f);
  } catch (const std::exception& e) {
    fmt::print(stderr, "{}\n", e.what());
    return 1;
  }
  fmt::print(stderr, "usage: see the head of bench/teach.cpp\n");
  return 2;
}
