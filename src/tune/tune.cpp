// The search: rounds of trials, who gets them, and what is kept.
#include "lathe/tune.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <cmath>
#include <limits>
#include <memory>
#include <numeric>
#include <optional>
#include <random>
#include <set>

#include "base/fail.hpp"
#include "base/log.hpp"
#include "lathe/measure.hpp"
#include "lathe/parity.hpp"
#include "lower/recipe/features.hpp"
#include "lower/recipe/learned.hpp"
#include "lower/recipe/trees.hpp"
#include "tune/apart.hpp"
#include "tune/runner.hpp"
#include "tune/search.hpp"

namespace lathe {
namespace {

using lower::Features;
using lower::Samples;
using lower::Trees;
using tuning::median;
using tuning::Point;
using tuning::Ratio;
using tuning::ratio_of;
using tuning::Runner;
using tuning::seconds_now;
using tuning::Space;

// A step counts as better when it takes less than this of the time, in most pairs of runs. Smaller gains are left to the confirmation of
// larger ones: they cannot be told from noise in a few runs.
constexpr double kBetter = 0.985;
constexpr double kLeastGain = 1.02;    // that is kept
constexpr size_t kTogether = 8;        // problems that get a trial in one round, at most: their steps disturb each other's caches
constexpr int kThoughtOf = 48;         // points that the cost model chooses one from
constexpr double kNews = 1.2;          // so many times the trials that the model knows, and it is taught anew
constexpr double kConfirming = 0.2;    // of the time
constexpr size_t kMostSamples = 1000;  // of ours, and as many of other searches: teaching takes as long as a trial then
constexpr int kFewSamples = 24;        // the model says nothing with less

// A problem of the net, and what the search knows of it.
struct Sought {
  std::string problem, op;
  std::vector<std::string> nodes;
  int steps = 0;  // in the program that was described last
  Space space;
  Point own;              // what compiling takes unasked
  Point first, best;      // `first`: what the search is held against: its own, or (blind) a drawn one
  double best_ratio = 1;  // its time / the first one's
  std::map<Point, double> tried;
  int trials = 0;
  double lately = 0;       // gains of the last trials, in logarithms, fading
  double seconds = 0;      // a run of the best program spends on it
  bool exhausted = false;  // nothing new was thought of in many attempts: few points are left
  bool open() const { return !exhausted && static_cast<double>(tried.size()) < space.points(); }
};

class Search {
 public:
  Search(const Graph& graph, const CompileOptions& compile, std::span<const Tensor> inputs, const TuneOptions& options)
      : graph_(graph),
        compile_(compile),
        inputs_(inputs),
        o_(options),
        random_(options.seed),
        began_(seconds_now()),
        searching_since_(began_) {
    if (compile.plain || !compile.fuse)
      fail(Category::value, "tuning is of compiled, fused programs; 'plain' and 'fuse' must be as they are");
    if (!(o_.seconds > 0)) fail(Category::value, "seconds is {}, expected more than 0", o_.seconds);
    if (o_.held < 0) fail(Category::value, "held is {}, expected 0 positions or more", o_.held);
    if (o_.held > 0 && compile.states.empty()) fail(Category::value, "held is {}, but the model keeps no states", o_.held);
    if (o_.trials < 0) fail(Category::value, "trials is {}, expected 0 (as the time allows) or more", o_.trials);
    stolen_ = stolen_seconds();
  }

  TuneResult operator()() {
    tell("compiling");
    untuned_ = std::make_unique<Runner>(runner(Recipes()));
    compile_.threads = untuned_->program.options().threads, compile_.isa = untuned_->program.options().isa;
    if (const auto isa = kernels::parse_isa(compile_.isa)) shipped_ = lower::learned_costs(*isa);
    if (o_.blind) begin_blind();
    Runner& untuned = *untuned_;
    std::optional<Outputs> reference;
    (void)untuned.run(inputs_, sought_.size(), {}, &reference);
    tell("plain evaluation");
    try {
      know_expected(*reference);
    } catch (const Error& e) {
      if (e.category() != Category::cancelled || !o_.stop.stop_requested()) throw;
      result_.stopped = true;
      result_.model_quality = std::numeric_limits<double>::quiet_NaN();
      result_.seconds = seconds_now() - began_;
      return std::move(result_);
    }
    searching_since_ = seconds_now();  // of large nets plain evaluation takes longer than many trials
    const std::vector<double> seconds = untuned.run(inputs_, sought_.size());
    seconds_a_run_ = seconds.back();
    for (size_t i = 0; i < sought_.size(); ++i) sought_[i].seconds = seconds[i];
    if (const auto [how, why] = rehearsed(o_.known); how == tuning::Ending::How::crashed) {
      log_line(LogLevel::warning, "recipes from before crash ({}); the search begins without them", why);
      best_ = std::make_unique<Runner>(runner(firsts()));
    } else {
      best_ = std::make_unique<Runner>(runner(o_.blind ? firsts() : o_.known));
      for (Sought& s : sought_) begin_with(s);
    }
    if (o_.learned) learn();
    while (goes_on()) round();
    result_.stopped = o_.stop.stop_requested();
    confirm(untuned);
    finish();
    return std::move(result_);
  }

 private:
  double spent() const { return seconds_now() - searching_since_; }
  void tell(const char* what) {
    if (o_.progress) o_.progress({what, spent(), o_.seconds, static_cast<int>(result_.trials.size()), gain_so_far()});
  }
  bool goes_on() const {
    if (o_.stop.stop_requested()) return false;
    if (o_.trials > 0 && static_cast<int>(result_.trials.size()) >= o_.trials) return false;
    if (spent() >= o_.seconds * (1 - kConfirming)) return false;
    return std::ranges::any_of(sought_, [&](const Sought& s) { return s.steps > 0 && s.open(); });
  }

  // ---- programs ----
  Runner runner(const Recipes& recipes) {
    Runner r(graph_, compile_, recipes, inputs_, o_.held);
    for (size_t i = 0; i < r.steps.size(); ++i) {
      const StepInfo& s = r.steps[i];
      if (s.problem.empty()) continue;
      const auto it = index_.find(s.problem);
      r.group_of[i] = it != index_.end() ? it->second : meet(s);
    }
    count_steps(r);
    return r;
  }
  // How many steps of each problem a program has; copies made for a step are none.
  std::vector<int> steps_in(const Runner& r) const {
    std::vector<int> steps(sought_.size());
    for (size_t i = 0; i < r.steps.size(); ++i) {
      if (r.group_of[i] >= 0 && !r.steps[i].chosen.empty()) ++steps[static_cast<size_t>(r.group_of[i])];
    }
    return steps;
  }
  void count_steps(const Runner& r) {
    const std::vector<int> steps = steps_in(r);
    for (size_t i = 0; i < steps.size(); ++i) sought_[i].steps = steps[i];
  }

  // A problem that was not seen before; -1 where there is but one way to do it.
  int meet(const StepInfo& s) {
    if (s.chosen.empty()) return -1;
    Sought p;
    p.problem = s.problem, p.op = s.op, p.nodes = s.nodes;
    std::vector<FamilyInfo> families = s.families;  // another family adds in another order
    if (o_.keep_order) std::erase_if(families, [&](const FamilyInfo& f) { return f.family != s.estimated; });
    if (!o_.knobs.empty()) {
      std::erase_if(families, [&](const FamilyInfo& f) { return f.family != s.estimated; });
      for (FamilyInfo& f : families) {
        for (KnobInfo& k : f.knobs) {
          if (std::ranges::find(o_.knobs, k.name) == o_.knobs.end()) k.least = k.most = k.first;
        }
      }
    }
    p.space = Space(std::move(families), o_.keep_order);
    if (p.space.points() < 2) return index_[s.problem] = -1;
    const auto& all = p.space.families();
    const auto estimated = std::ranges::find(all, s.estimated, &FamilyInfo::family);
    p.first = p.space.first(estimated == all.end() ? 0 : static_cast<size_t>(estimated - all.begin()));
    if (s.chosen_by == "learned") p.first = p.space.parse(s.chosen);
    p.own = p.best = p.first;
    p.tried[p.first] = 0;
    features_.learn(p.space.families());
    sought_.push_back(std::move(p));
    return index_[s.problem] = static_cast<int>(sought_.size()) - 1;
  }

  // Recipes known from before, where the program took them.
  void begin_with(Sought& s) {
    const TunedRecipe* r = o_.blind ? nullptr : o_.known.find(s.problem, compile_.isa, compile_.threads);
    if (r == nullptr) return;
    try {
      s.best = s.space.parse(r->recipe);
      s.best_ratio = 1 / std::max(r->gain, 1e-3);
      s.tried[s.best] = std::log(s.best_ratio);
    } catch (const Error&) {  // of another version: not taken by the program either
      s.best = s.first;
    }
  }

  Recipes bests() const {
    Recipes all;
    for (const Sought& s : sought_) ask(all, s, s.best);
    return all;
  }
  Recipes firsts() const {
    Recipes all;
    for (const Sought& s : sought_) ask(all, s, s.first);
    return all;
  }
  void ask(Recipes& recipes, const Sought& s, const Point& p) const {
    if (p != s.own) recipes.add({s.problem, compile_.isa, compile_.threads, s.space.text(p)});
  }
  // Knobs drawn at random in place of the estimate's, such that the program follows them; families stay, or the net would have other
  // problems.
  void begin_blind() {
    shipped_ = nullptr;
    constexpr int kDraws = 12;
    std::set<size_t> drawn;
    for (size_t i = 0; i < sought_.size(); ++i) drawn.insert(i);
    for (int n = 0; n < kDraws && !drawn.empty(); ++n) {
      for (const size_t i : drawn) {
        Sought& s = sought_[i];
        s.space.forget(random_);
        s.first = s.best = s.space.first(s.own.family);
        s.tried = {{s.first, 0}};
      }
      untuned_ = std::make_unique<Runner>(runner(firsts()));
      std::erase_if(drawn, [&](size_t i) { return followed_in(*untuned_, {{i, sought_[i].first}}).contains(i); });
    }
    for (const size_t i : drawn) {
      sought_[i].first = sought_[i].best = sought_[i].own;
      sought_[i].tried = {{sought_[i].own, 0}};
    }
    if (!drawn.empty()) untuned_ = std::make_unique<Runner>(runner(firsts()));
  }

  // ---- right or wrong ----
  void know_expected(const Outputs& untuned) {
    CompileOptions o = compile_;
    o.plain = true;
    o.recipes = nullptr;
    RunOptions how;
    how.stop = o_.stop;
    const Outputs plain = tuning::answer(compile(graph_, o), inputs_, o_.held, how);
    for (size_t i = 0; i < plain.size(); ++i) {
      expected_.push_back(plain[i]);
      usual_error_.push_back(plain[i].composite() ? 0 : compare("", untuned[i], plain[i]).error);
    }
  }
  // As near to plain evaluation as tolerances ask, or about as near as the untuned program.
  bool agrees(const Outputs& got) const {
    for (size_t i = 0; i < expected_.size(); ++i) {
      if (expected_[i].composite()) continue;
      const Comparison c = compare("", got[i], expected_[i]);
      if (!c.pass && !(c.error <= 2 * usual_error_[i] + 1e-7)) return false;
    }
    return true;
  }

  // ---- who gets a trial ----
  double gain_so_far() const {
    double now = 0, first = 0;
    for (const Sought& s : sought_) now += s.seconds, first += s.seconds / s.best_ratio;
    const double rest = std::max(0.0, seconds_a_run_ - first);
    return now + rest > 0 ? (first + rest) / (now + rest) : 1;
  }
  std::vector<size_t> next_problems() {
    std::vector<size_t> open;
    for (size_t i = 0; i < sought_.size(); ++i) {
      if (sought_[i].steps > 0 && sought_[i].open()) open.push_back(i);
    }
    const size_t many = std::clamp<size_t>((open.size() + 1) / 2, 1, kTogether);
    if (!o_.scheduled) {
      std::vector<size_t> taken;
      for (size_t i = 0; i < std::min(many, open.size()); ++i) taken.push_back(open[(turn_ + i) % open.size()]);
      turn_ += many;
      return taken;
    }
    // What a trial promises: the time that the problem takes, times what trials gained lately (its own, and a third of what problems with
    // the same op gained), and something for those that were hardly looked at.
    std::map<std::string, std::pair<double, int>> by_op;
    for (const Sought& s : sought_) {
      auto& [sum, n] = by_op[s.op];
      sum += s.lately, ++n;
    }
    std::vector<std::pair<double, size_t>> ranked;
    for (size_t i : open) {
      const Sought& s = sought_[i];
      const auto& [sum, n] = by_op[s.op];
      const double promise = s.lately + 0.33 * sum / std::max(1, n) + 0.1 / (1 + s.trials / 4.0) + 0.002;
      ranked.push_back({-s.seconds * promise, i});
    }
    std::sort(ranked.begin(), ranked.end());
    std::vector<size_t> taken;
    for (size_t i = 0; i < std::min(many, ranked.size()); ++i) taken.push_back(ranked[i].second);
    return taken;
  }

  // ---- what is tried ----
  std::vector<double> row_of(const Sought& s, const RecipeTrial& t) const {
    const Point p = s.space.parse(t.recipe);
    return features_.row(t.problem, t.threads, s.space.families()[p.family], p.values);
  }
  void learn() {
    Samples samples;
    samples.features = features_.count();
    const auto take = [&](const RecipeTrial& t) {
      if (t.isa != compile_.isa || !(t.ratio > 0)) return;
      const auto it = index_.find(t.problem);
      if (it == index_.end() || it->second < 0) return samples.add(features_.row(t.problem, t.threads, t.recipe), std::log(t.ratio));
      const Sought& s = sought_[static_cast<size_t>(it->second)];
      try {
        samples.add(row_of(s, t), std::log(t.ratio));
      } catch (const Error&) {  // a recipe of another version teaches nothing
      }
    };
    // Of other searches' trials some, from here and there; of ours the latest.
    const size_t others = o_.history.size(), step = std::max<size_t>(1, others / kMostSamples + (others % kMostSamples != 0));
    for (size_t i = 0; i < others; i += step) take(o_.history[i]);
    for (size_t i = result_.trials.size() - std::min(result_.trials.size(), kMostSamples); i < result_.trials.size(); ++i)
      take(result_.trials[i]);
    if (samples.size() >= kFewSamples) model_ = Trees(samples);
  }

  std::optional<Point> next_point(const Sought& s) {
    std::vector<std::pair<double, Point>> parents;
    for (const auto& [p, y] : s.tried) parents.push_back({y, p});
    std::ranges::stable_sort(parents, {}, [](const auto& p) { return p.first; });
    const size_t good = std::min<size_t>(parents.size(), 6);
    std::vector<Point> thought;
    // Before there is enough of our own to learn from, what ships with the library.
    const lower::LearnedCosts* shipped = o_.learned && model_.empty() ? shipped_ : nullptr;
    const bool learned = shipped != nullptr || (o_.learned && !model_.empty());
    for (int i = 0; i < 400 && thought.size() < (learned ? kThoughtOf : 1); ++i) {
      const double how = std::generate_canonical<double, 53>(random_);
      const auto parent = [&] { return parents[random_() % good].second; };
      // Each family is looked at once as it is before its knobs are turned.
      if (const size_t f = s.tried.size(); i == 0 && f < s.space.families().size() + 1) {
        for (size_t k = 0; k < s.space.families().size(); ++k) {
          if (const Point p = s.space.first(k); !s.tried.contains(p)) return p;
        }
      }
      Point p = !o_.evolved || how < 0.4 ? s.space.random(random_)
                : how < 0.8              ? s.space.changed(parent(), random_)
                                         : s.space.crossed(parent(), parent(), random_);
      if (!s.tried.contains(p) && std::ranges::find(thought, p) == thought.end()) thought.push_back(std::move(p));
    }
    if (thought.empty()) return std::nullopt;
    // Now and then one that the model does not think of.
    if (!learned || std::generate_canonical<double, 53>(random_) < 0.3) return thought[random_() % thought.size()];
    const std::vector<double> sizes = features_.sizes(s.problem, compile_.threads);
    const auto expected = [&](const Point& p) {
      const FamilyInfo& family = s.space.families()[p.family];
      if (shipped) {
        return shipped->knows(family.family, compile_.threads) ? shipped->expected(s.problem, compile_.threads, family, p.values) : 0.0;
      }
      std::vector<double> x = sizes;
      Features::put(x, features_.slots(family), family, p.values);
      return model_.predict(x);
    };
    return *std::ranges::min_element(thought, {}, expected);
  }

  // ---- measuring ----
  void round() {
    ++result_.rounds;
    std::map<size_t, Point> points;
    for (size_t i : next_problems()) {
      if (o_.trials > 0 && static_cast<int>(result_.trials.size() + points.size()) >= o_.trials) break;
      if (auto p = next_point(sought_[i])) points[i] = std::move(*p);
      else sought_[i].exhausted = true;
    }
    if (points.empty()) return;
    try_points(points);
    if (o_.learned && static_cast<double>(result_.trials.size()) >= kNews * static_cast<double>(taught_)) {
      learn();
      taught_ = result_.trials.size();
    }
    if (result_.rounds % 12 == 0) look_back();
    result_.curve.push_back({static_cast<int>(result_.trials.size()), spent(), gain_so_far()});
    tell("searching");
  }
  std::chrono::nanoseconds longest_run() const { return std::chrono::nanoseconds(static_cast<int64_t>(1e9 * (20 * seconds_a_run_ + 5))); }
  // How the program with these recipes fares in a process of its own, where it may crash; what else is wrong with it is found out here.
  tuning::Ending rehearsed(const Recipes& recipes) const {
    if (!o_.apart || recipes.size() == 0) return {};
    constexpr double kCompiling = 60;
    const auto twice = [&] {
      RunOptions how;
      how.limit = longest_run();
      Runner r(graph_, compile_, recipes, inputs_, o_.held);
      (void)r.run(inputs_, how);
      (void)r.run(inputs_, how);
    };
    return tuning::apart(twice, kCompiling + 2 * std::chrono::duration<double>(longest_run()).count(), o_.stop);
  }
  // Which of the points the program follows: a family may refuse numbers that hang together.
  std::set<size_t> followed_in(const Runner& trial, const std::map<size_t, Point>& points) const {
    std::set<size_t> followed;
    for (const auto& [i, p] : points) {
      const std::string recipe = sought_[i].space.text(p);
      for (size_t s = 0; s < trial.steps.size(); ++s) {
        if (trial.group_of[s] == static_cast<int>(i) && trial.steps[s].chosen == recipe) followed.insert(i);
      }
    }
    return followed;
  }

  void try_points(const std::map<size_t, Point>& points) {
    Recipes recipes;
    for (size_t i = 0; i < sought_.size(); ++i) {
      const Sought& s = sought_[i];
      const auto it = points.find(i);
      const Point& p = it == points.end() ? s.best : it->second;
      ask(recipes, s, p);
    }
    std::optional<Runner> trial;
    std::optional<Outputs> got;
    const size_t known = sought_.size();
    if (const auto [how, why] = rehearsed(recipes); how == tuning::Ending::How::crashed) {
      if (points.size() > 1) return one_by_one(points);
      const auto& [i, p] = *points.begin();
      log_line(LogLevel::warning, "a recipe crashes ({}) and is left: {} for {}", why, sought_[i].space.text(p), sought_[i].problem);
      ++result_.crashed;
      refuse(sought_[i], p);
      return;
    }
    RunOptions how;
    try {
      trial = runner(recipes);
      // The first run also says whether it is right; one that takes ages is stopped.
      how.limit = longest_run();
      (void)trial->run(inputs_, sought_.size(), how, &got);
    } catch (const Error& e) {
      if (e.category() == Category::resource && points.size() > 1) return one_by_one(points);
      for (const auto& [i, p] : points) refuse(sought_[i], p);
      steps_of_best();
      return;
    }
    if (!agrees(*got)) {
      if (points.size() > 1) return one_by_one(points);
      ++result_.wrong;
      refuse(sought_[points.begin()->first], points.begin()->second);
      steps_of_best();
      return;
    }
    const std::set<size_t> followed = followed_in(*trial, points);
    const size_t all = sought_.size();
    std::vector<std::vector<double>> ratios, seconds;
    const auto measure = [&] {
      ratios.assign(all, {}), seconds.assign(all, {});
      int pairs = 0;
      tuning::by_turns(*best_, *trial, inputs_, all, 0.25, 4, 9, [&](const std::vector<double>& a, const std::vector<double>& b) {
        for (size_t i = 0; i < all; ++i) {
          if (a[i] > 0 && b[i] > 0) ratios[i].push_back(b[i] / a[i]), seconds[i].push_back(b[i]);
        }
        for (size_t i = 0; i < known; ++i) {
          if (a[i] > 0) sought_[i].seconds = sought_[i].seconds > 0 ? 0.8 * sought_[i].seconds + 0.2 * a[i] : a[i];
        }
        return ++pairs < 2 || b.back() <= 4 * a.back();  // there is nothing to learn of a slower one but that it is slow
      });
    };
    const auto better_now = [&](size_t i) {
      const auto under = std::ranges::count_if(ratios[i], [](double v) { return v < 1; });
      return !ratios[i].empty() && median(ratios[i]) < kBetter && under * 5 >= static_cast<int64_t>(ratios[i].size()) * 4;
    };
    measure();
    // Who leads is measured once more, and that is what counts: the first time it was chosen for its luck too, and many lucky ones in a row
    // would be taken for a gain.
    std::set<size_t> leads;
    std::map<size_t, double> ratio;
    for (const size_t i : followed) {
      if (ratios[i].empty()) continue;
      ratio[i] = median(ratios[i]);
      if (better_now(i)) leads.insert(i);
    }
    if (!leads.empty()) measure();
    bool all_better = true;
    size_t better = 0;
    for (const auto& [i, p] : points) {
      Sought& s = sought_[i];
      if (!ratio.contains(i)) {
        refuse(s, p);
        all_better = false;
        continue;
      }
      const double r = leads.contains(i) && !ratios[i].empty() ? median(ratios[i]) : ratio[i];
      const double absolute = s.best_ratio * r;
      result_.trials.push_back(
          {s.problem, compile_.isa, compile_.threads, s.space.text(p), absolute, median(seconds[i]) / std::max(1, s.steps)});
      s.tried[p] = std::log(absolute);
      ++s.trials;
      const bool gained = leads.contains(i) && better_now(i);
      s.lately = 0.8 * s.lately + (gained ? -std::log(r) : 0);
      if (gained) {
        s.best = p, s.best_ratio = absolute;
        s.seconds *= r;
        ++better;
      } else {
        all_better = false;
      }
    }
    if (better == 0) return steps_of_best();
    if (all_better) *best_ = std::move(*trial);
    else *best_ = runner(bests());
  }
  // `steps` are of the program that was described last, and must be of the best one.
  void steps_of_best() { count_steps(*best_); }
  // Many ratios multiplied drift: now and then the best program is held against the untuned one itself.
  void look_back() {
    const size_t all = sought_.size();
    std::vector<std::vector<double>> ratios(all), seconds(all);
    tuning::by_turns(*untuned_, *best_, inputs_, all, 0.25, 4, 9, [&](const std::vector<double>& a, const std::vector<double>& b) {
      for (size_t i = 0; i < all; ++i) {
        if (a[i] > 0 && b[i] > 0) ratios[i].push_back(b[i] / a[i]), seconds[i].push_back(b[i]);
      }
      return true;
    });
    bool back = false;
    for (size_t i = 0; i < all; ++i) {
      Sought& s = sought_[i];
      if (ratios[i].empty()) continue;
      s.seconds = median(std::move(seconds[i]));
      if (s.best == s.first) continue;
      s.best_ratio = median(std::move(ratios[i]));
      s.tried[s.best] = std::log(s.best_ratio);
      if (s.best_ratio < 1) continue;
      s.best = s.first, s.best_ratio = 1;
      back = true;
    }
    if (back) *best_ = runner(bests());
  }
  void refuse(Sought& s, const Point& p) {
    ++result_.not_runnable;
    s.tried[p] = std::numeric_limits<double>::infinity();
  }
  void one_by_one(const std::map<size_t, Point>& points) {
    for (const auto& [i, p] : points) {
      if (goes_on()) try_points({{i, p}});
    }
  }

  // ---- at the end ----
  void confirm(Runner& untuned) {
    tell("confirming");
    const size_t all = sought_.size();
    std::vector<Ratio> gains;
    std::vector<double> before, after;
    const auto by_turns = [&](double time) {
      std::vector<std::vector<double>> ratios(all + 1), a_all(all + 1), b_all(all + 1);
      tuning::by_turns(untuned, *best_, inputs_, all, time, 12, 400, [&](const std::vector<double>& a, const std::vector<double>& b) {
        for (size_t i = 0; i <= all; ++i) {
          if (a[i] > 0 && b[i] > 0) ratios[i].push_back(a[i] / b[i]);
          a_all[i].push_back(a[i]), b_all[i].push_back(b[i]);
        }
        return true;
      });
      gains.clear(), before.clear(), after.clear();
      for (size_t i = 0; i <= all; ++i) {
        gains.push_back(ratio_of(std::move(ratios[i])));
        before.push_back(median(std::move(a_all[i]))), after.push_back(median(std::move(b_all[i])));
      }
    };
    // Again without those that gained nothing, until all that are left gain: who was chosen for its luck is not lucky twice. What changes a
    // step may cost its neighbours, so the whole must gain too.
    const double each = std::clamp((o_.seconds - spent()) / 4, 0.02, std::max(1.0, kConfirming * spent() / 2));
    by_turns(each);
    // Of many small gains some are lost in each pass: as many passes as there may be such.
    constexpr int kPasses = 12, kLong = 3;
    for (int pass = 0; pass < kPasses; ++pass) {
      const bool whole = pass == 0 || gains[all].middle >= 1;
      bool dropped = false;
      for (size_t i = 0; i < all; ++i) {
        Sought& s = sought_[i];
        if (s.best == s.first || (whole && pass + 1 < kPasses && gains[i].low > 1 && gains[i].middle > kLeastGain && before[i] > 0)) continue;
        s.best = s.first;
        dropped = true;
      }
      if (!dropped && pass > 0) break;
      // Both anew: where memory happens to lie makes some percent of a small step, the same in all runs of one program.
      untuned = runner(firsts());
      *best_ = runner(bests());
      by_turns(pass < kLong ? each : each / 3);
    }
    steps_of_best();
    const std::vector<int> steps_before = steps_in(untuned);
    // Medians of the parts may add up to more than the median of the whole.
    const double whole = std::max({1e-12, before[all], std::accumulate(before.begin(), before.end() - 1, 0.0)});
    for (size_t i = 0; i < all; ++i) {
      const Sought& s = sought_[i];
      if (steps_before[i] == 0 && s.steps == 0) continue;
      TunedProblem p;
      p.problem = s.problem, p.op = s.op, p.nodes = s.nodes;
      p.steps = std::max(steps_before[i], s.steps);
      p.share = before[i] / whole;
      p.before = before[i], p.after = after[i];
      p.untuned = s.space.text(s.first), p.recipe = s.space.text(s.best);
      p.trials = s.trials, p.points = s.space.points();
      if (s.best != s.first) {
        p.gain = gains[i].middle, p.low = gains[i].low, p.high = gains[i].high;
        result_.recipes.add(
            {s.problem, compile_.isa, compile_.threads, p.recipe, p.gain, p.low, p.high, p.after / std::max(1, s.steps), s.trials});
      }
      result_.problems.push_back(std::move(p));
    }
    std::ranges::stable_sort(result_.problems, std::greater<>(), &TunedProblem::before);
    result_.before = before[all], result_.after = after[all];
    // With nothing kept both are the same program, and what they differ by is noise.
    if (result_.recipes.size() > 0) result_.gain = gains[all].middle, result_.low = gains[all].low, result_.high = gains[all].high;
    else result_.after = result_.before;
  }

  void finish() {
    result_.model_quality = quality();
    const auto now = stolen_seconds();
    if (now && stolen_) result_.stolen = (*now - *stolen_) / std::max(1e-9, (seconds_now() - began_) * std::max(1, machine_info().usable));
    result_.seconds = seconds_now() - began_;
  }

  // Each problem's trials in the order of a model that has not seen them.
  double quality() const {
    std::map<std::string, std::pair<std::vector<std::vector<double>>, std::vector<double>>> by_problem;
    for (const RecipeTrial& t : result_.trials) {
      const Sought& s = sought_[static_cast<size_t>(index_.at(t.problem))];
      if (s.space.points() < 2) continue;
      auto& [rows, y] = by_problem[t.problem];
      rows.push_back(row_of(s, t));
      y.push_back(std::log(t.ratio));
    }
    double sum = 0;
    int counted = 0;
    for (const auto& [held_out, its] : by_problem) {
      if (its.second.size() < 5) continue;
      Samples samples;
      samples.features = features_.count();
      const size_t step = 1 + result_.trials.size() / 400;  // one model a problem: this must not take as long as the search
      for (const auto& [problem, other] : by_problem) {
        if (problem == held_out) continue;
        for (size_t i = 0; i < other.second.size(); i += step) samples.add(other.first[i], other.second[i]);
      }
      if (samples.size() < kFewSamples) continue;
      const Trees model(samples, {.trees = 25, .depth = 4, .rate = 0.25});
      std::vector<double> said;
      for (const auto& row : its.first) said.push_back(model.predict(row));
      sum += lower::rank_correlation(said, its.second);
      ++counted;
    }
    return counted > 0 ? sum / counted : std::numeric_limits<double>::quiet_NaN();
  }

  const Graph& graph_;
  CompileOptions compile_;
  std::span<const Tensor> inputs_;
  const TuneOptions& o_;
  std::mt19937_64 random_;
  double began_, searching_since_;
  std::optional<double> stolen_;
  TuneResult result_;
  std::vector<Sought> sought_;
  std::map<std::string, int> index_;
  Features features_;
  Trees model_;
  const lower::LearnedCosts* shipped_ = nullptr;
  std::unique_ptr<Runner> untuned_, best_;
  std::vector<Tensor> expected_;
  std::vector<double> usual_error_;
  double seconds_a_run_ = 0;
  size_t turn_ = 0, taught_ = 0;
};

}  // namespace

TuneResult tune(const Graph& graph, const CompileOptions& compile, std::span<const Tensor> inputs, const TuneOptions& options) {
  return Search(graph, compile, inputs, options)();
}

}  // namespace lathe
