// From a job sheet to its results.
#include <algorithm>
#include <chrono>
#include <cmath>
#include <unistd.h>

#include "base/clock.hpp"
#include "base/fail.hpp"
#include "lathe/archive.hpp"
#include "lathe/logbook.hpp"
#include "lathe/compare.hpp"
#include "lathe/line.hpp"
#include "lathe/state.hpp"
#include "lathe/formats.hpp"
#include "lathe/parity.hpp"

namespace lathe {
namespace {

namespace fs = std::filesystem;

// A folder for what is made on the way, gone at the end.
class Workshop {
 public:
  Workshop() : path_(fs::temp_directory_path() / fmt::format("lathe-compare-{}", ::getpid())) { fs::create_directories(path_); }
  ~Workshop() {
    std::error_code ec;
    fs::remove_all(path_, ec);
  }
  Workshop(const Workshop&) = delete;
  Workshop& operator=(const Workshop&) = delete;
  fs::path file(size_t i) const { return path_ / fmt::format("variant_{}.onnx", i); }

 private:
  fs::path path_;
};

Interval share_right(const Judgement& j) {
  return share_of(std::ranges::count_if(j.answers, &ClassAnswer::right), static_cast<int64_t>(j.answers.size()));
}

class Job {
 public:
  Job(const JobSheet& sheet, const std::function<void(const std::string&)>& progress, const std::shared_ptr<Ranks>& ranks)
      : s_(sheet), progress_(progress), ranks_(ranks) {}

  JobResult run() {
    if (s_.variants.empty()) fail(Category::value, "the job has no variants");
    if (!s_.data.empty()) {
      data_ = read_judged(s_.data, s_.targets, s_.beside);
      result_.labelled = static_cast<int64_t>(data_->items);
      result_.values = data_->values();
    } else {
      result_.no_accuracy = "no labelled data: name them in [data] to have accuracy";
    }
    std::vector<Contender> running;
    std::vector<size_t> place;  // of the running variants among all
    std::vector<std::optional<Judgement>> judged(s_.variants.size());
    for (size_t i = 0; i < s_.variants.size(); ++i) {
      const Variant& v = s_.variants[i];
      VariantResult& r = result_.variants.emplace_back();
      r.name = v.name;
      try {
        running.push_back(build(i, r, judged[i]));
        place.push_back(i);
      } catch (const Error& e) {
        const std::string name = r.name;
        r = {};
        r.name = name;
        r.failed = e.what();
        judged[i].reset();
      }
    }
    if (!reports()) return {};
    if (running.empty()) return std::move(result_);
    time(running, place);
    compare(judged, place);
    limits();
    return std::move(result_);
  }

 private:
  void say(const std::string& what) const {
    if (progress_) progress_(what);
  }
  bool reports() const { return !ranks_ || ranks_->rank() == 0; }

  std::vector<Shape> shapes_for(const Variant& v, const Program& program) const {
    if (program.inputs().empty()) return {};
    if (data_ && v.shapes.empty()) return item_shapes(program, *data_, s_.pictures, v.batch);
    std::vector<Shape> shapes;
    for (const Port& p : program.inputs()) {
      const auto given = v.shapes.find(p.name);
      Dims dims = given != v.shapes.end() ? Dims(given->second.begin(), given->second.end()) : p.dims.value_or(Dims());
      if (!dims.empty() && !dims[0].known()) dims[0] = v.batch;
      const auto shape = p.composite ? std::optional(Shape()) : known_shape(dims);
      if (!shape || (!p.dims && given == v.shapes.end()))
        fail(Category::shape, "input '{}' is {}: give its size with shapes = {{ \"{}\" = [..] }}", p.name,
             p.dims ? to_string(*p.dims) : std::string("of unknown rank"), p.name);
      shapes.push_back(*shape);
    }
    return shapes;
  }

  Calibration calibration(const Program& wide) const {
    if (s_.calibration.empty()) fail(Category::value, "activations on bytes need items to read ranges off: name them in [calibration]");
    const ItemData found = read_items(s_.calibration, s_.calibration_beside);
    const std::vector<Shape> shapes = item_shapes(wide, found, s_.pictures);
    const size_t used = std::min(found.items, static_cast<size_t>(s_.calibration_items));
    const auto load = item_loader(wide, found, shapes, s_.pictures);
    Batches all = batches(wide, shapes, used, [load, used, items = found.items](size_t i) { return load(i * items / used); });
    Calibration c{all.count, std::move(all.load)};
    c.progress = [this](const std::string& what, size_t done, size_t of) { say(fmt::format("{}: {} of {}", what, done, of)); };
    return c;
  }

  Judgement judged(const Program& program, const std::vector<Shape>& shapes, const std::string& name) const {
    JudgeOptions o{s_.pictures, s_.labels};
    o.items.progress = [&](size_t done) { say(fmt::format("{}: judging {} of {}", name, done, data_->items)); };
    // What is judged on the way decides what is built: everyone has to know.
    o.items.share = {.ranks = ranks_, .everyone = true};
    return judge(program, *data_, shapes, o);
  }

  Graph narrowed(const Variant& v, VariantResult& r) const {
    const NarrowPlan& plan = *v.narrow;
    Graph g = load(v.model);
    const bool bytes = plan.activations == DType::u8 || plan.activations == DType::i8;
    if (!bytes) {
      const bool compensated = plan.rounding == Rounding::compensated;
      std::optional<Calibration> c;
      if (compensated || (plan.activations != DType::undefined && !s_.calibration.empty())) c = calibration(compile(g, {}));
      const NarrowReport report =
          plan.activations != DType::undefined
              ? halve_model(g, plan.activations, c ? &*c : nullptr)
              : narrow_model(g, {plan.weights, plan.block, NarrowOptions().least, plan.leave, plan.rounding.value_or(Rounding::nearest)},
                             c ? &*c : nullptr);
      if (!report.left.empty())
        r.notes.push_back(fmt::format("{} left wide: {} ({})", report.left.size(), report.left[0].first, report.left[0].second));
      return g;
    }
    const Program wide = compile(g, {});
    ByteOptions o = plan.bytes;
    o.activations = plan.activations;
    o.rounding = plan.rounding.value_or(Rounding::compensated);
    const ByteModel model(g, calibration(wide), o);
    r.notes = model.warnings();
    if (plan.cosine_at_least == 0 && plan.lose_at_most < 0) {
      r.kept_wide = plan.leave;
      return model.write(plan.leave);
    }
    if (plan.lose_at_most >= 0 && (!data_ || data_->values()))
      fail(Category::value, "a budget of lost points needs labelled classes in [data]");
    say(v.name + ": sensitivity");
    const auto ranked = model.sensitivity();
    double right = 0;
    if (plan.lose_at_most >= 0) right = share_right(judged(wide, item_shapes(wide, *data_, s_.pictures), v.name)).value;
    const auto loss = [&](const Graph& form) {
      if (plan.lose_at_most < 0) return 1 - model.error_of(form).cosine;
      const Program p = compile(form, {.threads = 1});
      return right - share_right(judged(p, item_shapes(p, *data_, s_.pictures), v.name)).value;
    };
    constexpr double kRounding = 1e-12;
    const double most = plan.lose_at_most >= 0 ? plan.lose_at_most / 100 + kRounding : 1 - plan.cosine_at_least;
    const Budgeted b = within_budget(model, ranked, loss, most);
    r.kept_wide = b.wide;
    return model.write(b.wide);
  }

  Contender build(size_t i, VariantResult& r, std::optional<Judgement>& judgement) {
    const Variant& v = s_.variants[i];
    fs::path file = v.model;
    if (!fs::exists(file)) fail(Category::value, "{}: no such file", file.string());
    if (v.narrow) {
      say(v.name + ": narrowing");
      file = v.keep_as.empty() || !reports() ? workshop_.file(i) : v.keep_as;
      save(narrowed(v, r), file);
    }
    r.file_bytes = fs::file_size(file);
    std::error_code ec;
    if (const uintmax_t beside = fs::file_size(file.string() + ".data", ec); !ec) r.file_bytes += beside;
    say(v.name + ": loading");
    Contender run;
    run.threads = v.threads, run.lanes = v.lanes;
    Graph plain;
    const bool archive = is_program_archive(file);
    std::vector<Shape> shapes;
    CompileOptions options{.threads = v.threads, .shapes = v.shapes, .isa = v.isa};
    if (archive && !v.isa.empty()) fail(Category::value, "'{}' is compiled already: leave out 'isa'", v.model.string());
    if (archive && !v.recipes.empty()) fail(Category::value, "'{}' is compiled already: leave out 'recipes'", v.model.string());
    if (archive && !v.pins.empty()) fail(Category::value, "'{}' is compiled already: leave out 'pin'", v.model.string());
    if (!v.recipes.empty() || !v.pins.empty()) {
      auto recipes = std::make_shared<Recipes>(v.recipes.empty() ? Recipes() : tuned_recipes(v.recipes));
      for (const PinnedKnob& pin : v.pins) recipes->pin(pin);
      options.recipes = std::move(recipes);
    }
    if (archive && !v.states.empty() && v.states != "found")
      fail(Category::value, "'{}' is compiled already: leave out 'states'", v.model.string());
    if (!archive) {
      plain = loaded(file);
      if (!v.states.empty()) {
        options.states = v.states == "found" ? find_states(plain) : pair_states(plain, v.states);
        if (options.states.empty()) fail(Category::value, "no states are found in '{}'; 'states' says which they are", v.model.string());
        options.positions = v.positions;
        options.shapes.clear();  // of a run, not of all
      } else if (!shapes_known(plain, v)) {
        const Program open = compile(plain, options);
        shapes = shapes_for(v, open);
        for (size_t k = 0; k < shapes.size(); ++k) options.shapes[open.inputs()[k].name] = shapes[k];
      }
    }
    const PeakMemory peak;
    const auto start = Clock::now();
    run.program = archive ? load_program(file, {.threads = v.threads}) : compile(loaded(file), options);
    run.held = v.held;
    if (const int64_t room = run.program.options().positions; room > 0 && v.held >= room)
      fail(Category::value, "'held' is {}, and there is room for {} positions: a run adds to them", v.held, room);
    if (shapes.empty()) shapes = shapes_for(v, run.program);
    const EditionInfo edition = run.program.describe(shapes);
    r.load_seconds = std::chrono::duration<double>(Clock::now() - start).count();
    r.planned_bytes = edition.weight_bytes + edition.arena_bytes * static_cast<size_t>(v.lanes);
    if (!v.pins.empty()) {
      if (const std::string fault = pin_fault(*options.recipes, edition); !fault.empty()) fail(Category::value, "'pin' {}", fault);
      r.notes.push_back(
          fmt::format("{} of {} steps pinned", std::ranges::count(edition.steps, "pinned", &StepInfo::chosen_by), edition.steps.size()));
    }
    if (!v.recipes.empty())
      r.notes.push_back(fmt::format("{} of {} steps by tuned recipes", std::ranges::count(edition.steps, "tuned", &StepInfo::chosen_by),
                                    edition.steps.size()));
    if (edition.plain > 0) r.notes.push_back(fmt::format("{} steps by plain evaluation", edition.plain));
    run.items = shapes.empty() || shapes[0].empty() ? 1 : std::max<int64_t>(1, shapes[0][0]);
    run.inputs = inputs_for(run.program, shapes);
    {
      std::vector<Lane> lanes;
      for (int lane = 0; lane < v.lanes; ++lane) {
        lanes.emplace_back(run.program, v.threads);
        (void)lanes.back().run(std::span<const Tensor>(run.inputs));
      }
      // What was freed before and is used again was there already.
      r.memory_bytes = std::max(peak.bytes().value_or(0), r.planned_bytes);
    }
    if (reports()) check_parity(plain, archive, run, edition, r);
    if (data_) judgement = judged(run.program, shapes, v.name);
    return run;
  }

  static Graph loaded(const fs::path& file) { return is_line_sheet(file) ? join(read_line(file)) : load(file); }
  static bool shapes_known(const Graph& g, const Variant& v) {
    return std::ranges::all_of(g.inputs, [&](ValueId id) {
      const Value& value = g.values[static_cast<size_t>(id)];
      return v.shapes.contains(value.name) || (!value.composite && known_shape(value.dims));
    });
  }

  std::vector<Tensor> inputs_for(const Program& program, const std::vector<Shape>& shapes) const {
    if (!data_) return random_inputs(program, shapes, 1);
    const auto load = item_loader(program, *data_, shapes, s_.pictures);
    const int64_t rows = shapes[0].empty() ? 1 : std::max<int64_t>(1, shapes[0][0]);
    // A small set fills a large batch several times over.
    return batches(program, shapes, static_cast<size_t>(rows), [&](size_t i) { return load(i % data_->items); }).load(0);
  }

  void check_parity(const Graph& g, bool archive, const Contender& run, const EditionInfo& edition, VariantResult& r) const {
    constexpr double kMost = 2e9;  // operations that plain evaluation does in a few seconds
    if (archive) r.parity_why_not = "an archive has no graph to evaluate plainly";
    else if (edition.flops > kMost) r.parity_why_not = "too much for plain evaluation; 'lathe parity --against-plain' does it";
    if (!r.parity_why_not.empty()) return;
    say(r.name + ": checking against plain evaluation");
    Lane lane(run.program, 1);
    CompileOptions plainly{.threads = 1, .plain = true};
    for (const StateInfo& state : run.program.states()) plainly.states.push_back(state.pair);
    Lane oracle(compile(g, plainly));
    const std::span<const Tensor> inputs(run.inputs);
    const Outputs got = lane.run(inputs), plain = oracle.run(inputs);
    double most = 0;
    for (size_t i = 0; i < got.size(); ++i) {
      const Comparison c = lathe::compare(got.name(i), got[i], plain[i]);
      most = std::max(most, c.max_absolute);
      if (!c.pass && c.cosine < kNear) r.notes.push_back(fmt::format("output '{}' differs from plain evaluation: {}", c.name, c.reason));
    }
    r.parity = most;
  }
  // Bytes may fall on the other side of a step here and there; what is wrong is far from this.
  static constexpr double kNear = 0.9999;

  void time(const std::vector<Contender>& running, const std::vector<size_t>& place) {
    const auto timed =
        by_turns(running, s_.seconds, s_.rounds, [&](int round) { say(fmt::format("timing: round {} of {}", round + 1, s_.rounds)); });
    const bool first_runs = place[0] == 0;
    for (size_t k = 0; k < timed.size(); ++k) {
      VariantResult& r = result_.variants[place[k]];
      r.latency = summarise(timed[k].latencies);
      std::vector<double> rates = timed[k].rates;
      r.items_per_second = summarise(rates).median;
      if (!first_runs) continue;
      std::vector<double> ratios;
      for (size_t i = 0; i < rates.size(); ++i) ratios.push_back(timed[k].rates[i] / timed[0].rates[i]);
      r.speed = bootstrap(ratios.size(), [&](std::span<const size_t> drawn) {
        std::vector<double> some;
        for (size_t d : drawn) some.push_back(ratios[d]);
        return summarise(std::move(some)).median;
      });
    }
  }

  void compare(const std::vector<std::optional<Judgement>>& judged, const std::vector<size_t>& place) {
    std::vector<double> good(result_.variants.size(), 0);  // more is better
    for (size_t i : place) {
      VariantResult& r = result_.variants[i];
      if (!judged[i]) continue;
      if (result_.values) {
        r.error = judge_values(judged[i]->values).mean_absolute;
        r.items = static_cast<int64_t>(judged[i]->values.size());
        good[i] = -r.error->value;
        if (i > 0 && judged[0]) r.error_against_first = compare_values(*judged[0], *judged[i]);
      } else {
        r.items = static_cast<int64_t>(judged[i]->answers.size());
        r.accuracy = share_right(*judged[i]);
        good[i] = r.accuracy->value;
        if (i > 0 && judged[0]) r.against_first = compare_answers(*judged[0], *judged[i]);
      }
      if (const size_t lost = judged[i]->run.failed.size(); lost > 0)
        r.notes.push_back(fmt::format("{} items could not be read; the first: {}", lost, judged[i]->run.failed[0].second));
    }
    if (!data_) return;
    for (size_t i : place) {
      VariantResult& r = result_.variants[i];
      r.unbeaten = std::ranges::none_of(place, [&](size_t k) {
        const VariantResult& o = result_.variants[k];
        return k != i && good[k] >= good[i] && o.items_per_second >= r.items_per_second &&
               (good[k] > good[i] || o.items_per_second > r.items_per_second);
      });
    }
  }

  void limits() {
    for (VariantResult& r : result_.variants) {
      if (!r.failed.empty()) continue;
      const auto broken = [&](bool is, const std::string& what) {
        if (is) r.broken.push_back(what);
      };
      const double lost = r.against_first ? -100 * r.against_first->difference.value : 0;
      broken(s_.lose_at_most >= 0 && lost > s_.lose_at_most + 1e-9, fmt::format("loses {:.2f} points, {:g} may be", lost, s_.lose_at_most));
      broken(s_.latency_at_most > 0 && r.latency.median > s_.latency_at_most,
             fmt::format("takes {:.3f} ms, {:g} may be", 1e3 * r.latency.median, 1e3 * s_.latency_at_most));
      broken(r.items_per_second < s_.items_per_second_at_least,
             fmt::format("{:.4g} items/s, {:g} are wanted", r.items_per_second, s_.items_per_second_at_least));
      constexpr double kMega = 1 << 20;
      const double size = static_cast<double>(r.file_bytes) / kMega;
      broken(s_.megabytes_at_most > 0 && size > s_.megabytes_at_most,
             fmt::format("the file has {:.3f} MiB, {:g} may be", size, s_.megabytes_at_most));
    }
  }

  const JobSheet& s_;
  const std::function<void(const std::string&)>& progress_;
  const std::shared_ptr<Ranks>& ranks_;
  Workshop workshop_;
  std::optional<ItemData> data_;
  JobResult result_;
};

}  // namespace

bool JobResult::good() const {
  return std::ranges::all_of(variants, [](const VariantResult& r) { return r.failed.empty() && r.broken.empty(); });
}

JobResult run_job_sheet(const JobSheet& sheet, const std::function<void(const std::string&)>& progress,
                        const std::shared_ptr<Ranks>& ranks) {
  return Job(sheet, progress, ranks).run();
}

}  // namespace lathe
