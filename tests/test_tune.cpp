// The search over recipes: its parts by themselves, and what it finds, keeps and refuses.
#include <algorithm>
#include <cmath>

#include <csignal>

#include "decoder.hpp"
#include "support.hpp"
#include "lower/recipe/learned.hpp"
#include "tune/apart.hpp"
#include "tune/runner.hpp"
#include "tune/search.hpp"

namespace {

using namespace test;
using lower::Samples;
using lower::Trees;
using tuning::Point;
using tuning::Space;

Space two_families() {
  return Space({{"product", 1, {{"k_block", 576, 64, 576, 16, true}, {"row_tasks", 4, 1, 100, 1, false}}},
                {"other", 3, {{"chunks", 2, 1, 9, 1, false}}}},
               false);
}

// A product, convolutions of which the middle ones are alike, rows: problems of several families.
Graph small_net() {
  Builder b("small");
  const auto conv = [&](ValueId in, uint64_t seed) {
    const auto w = b.constant("w" + std::to_string(seed), random_tensor({16, 16, 3, 3}, seed, -0.2f, 0.2f));
    return b.op("Relu", {b.op("Conv", {in, w}, {{"kernel_shape", Ints{3, 3}}, {"pads", Ints{1, 1, 1, 1}}})});
  };
  const auto x = b.input("x", DType::f32, {1, 16, 24, 24});
  const auto h = conv(conv(conv(conv(x, 1), 2), 3), 4);
  const auto rows = b.op("Reshape", {h, b.constant("to", Tensor::from<int64_t>({2}, {96, 96}))});
  const auto y = b.op("MatMul", {rows, b.constant("m", random_tensor({96, 200}, 3))});
  b.output(b.op("Softmax", {y}), "y");
  return b.finish();
}

// So many trials; the seconds are there for the slowest machine to do them in, where each access is checked too.
TuneOptions brief(int trials, uint64_t seed = 1) {
  TuneOptions o;
  o.seconds = sanitized() ? 20 : 8;
  o.trials = trials;
  o.seed = seed;
  return o;
}

TEST_CASE("points of a space are within it, and are texts and back") {
  const Space s = two_families();
  CHECK(s.points() == doctest::Approx(33 * 100 + 9));
  std::mt19937_64 random(7);
  Point p = s.first(0);
  CHECK(s.text(p) == "product/1 k_block=576 row_tasks=4");
  bool other = false;
  for (int i = 0; i < 3000; ++i) {
    const Point q = i % 3 == 0 ? s.random(random) : i % 3 == 1 ? s.changed(p, random) : s.crossed(p, s.random(random), random);
    REQUIRE(q.values.size() == s.families()[q.family].knobs.size());
    for (size_t k = 0; k < q.values.size(); ++k) {
      const KnobInfo& knob = s.families()[q.family].knobs[k];
      CHECK(q.values[k] >= knob.least);
      CHECK(q.values[k] <= knob.most);
      CHECK(q.values[k] % knob.step == 0);
    }
    CHECK(s.parse(s.text(q)) == q);
    other = other || q.family == 1;
    p = q;
  }
  CHECK(other);
  for (const char* wrong : {"product/2 k_block=576 row_tasks=4", "product/1 k_block=576", "product/1 k_block=x row_tasks=4",
                            "product/1 k_block=576 row_tasks=4 more=1", "", "nothing"})
    CHECK_FALSE(error_of([&] { s.parse(wrong); }).empty());
}

TEST_CASE("under a promise of the same bits, knobs that reorder sums stay as they are") {
  const Space s({{"product", 1, {{"k_block", 576, 64, 576, 16, true}, {"row_tasks", 4, 1, 100, 1, false}}}}, true);
  std::mt19937_64 random(7);
  Point p = s.first(0);
  for (int i = 0; i < 300; ++i) {
    p = i % 2 == 0 ? s.random(random) : s.changed(p, random);
    CHECK(p.values[0] == 576);
  }
}

TEST_CASE("trees learn a surface, with features that some rows have not") {
  std::mt19937_64 random(3);
  const auto drawn = [&] { return std::generate_canonical<double, 53>(random); };
  const auto truth = [](double a, double b, double c) { return (a > 0.5 ? 2 * b : -b) + (std::isnan(c) ? 0.7 : 0.2 * c); };
  Samples samples;
  samples.features = 3;
  const auto row = [&] { return std::vector<double>{drawn(), drawn(), drawn() < 0.3 ? std::nan("") : drawn()}; };
  for (int i = 0; i < 600; ++i) {
    const auto x = row();
    samples.add(x, truth(x[0], x[1], x[2]));
  }
  const Trees model(samples);
  std::vector<double> said, is;
  double squared = 0, all = 0;
  for (int i = 0; i < 300; ++i) {
    const auto x = row();
    said.push_back(model.predict(x)), is.push_back(truth(x[0], x[1], x[2]));
    squared += (said.back() - is.back()) * (said.back() - is.back()), all += is.back() * is.back();
  }
  CHECK(squared < 0.05 * all);
  CHECK(lower::rank_correlation(said, is) > 0.95);
  CHECK(Trees(Samples{}).predict({}) == 0);
}

TEST_CASE("a cost model as text and back; a text that is none is refused") {
  // One knob, of which twice the value takes half the time, but for problems with few rows.
  const FamilyInfo family{"mill", 1, {{"feed", 8, 1, 64}, {"order", 4, 1, 16, 1, true}}};
  lower::Features features;
  features.learn({&family, 1});
  Samples samples;
  samples.features = features.count();
  const auto problem = [](int64_t rows) { return "Mill/1 | f32[" + std::to_string(rows) + ",32] -> natural"; };
  for (const int64_t rows : {16, 64, 256, 1024}) {
    for (const int64_t feed : {2, 4, 8, 16, 32}) {
      for (const int64_t order : {2, 4, 8}) {
        const std::vector<int64_t> values{feed, order};
        const double y = (rows > 100 ? -1 : 0.4) * std::log(static_cast<double>(feed) / 8) - std::log(static_cast<double>(order) / 4);
        for (int i = 0; i < 3; ++i) samples.add(features.row(problem(rows), 1, family, values), y);
      }
    }
  }
  const lower::LearnedCosts costs(2, {"mill"}, features, Trees(samples));
  lower::RecipeSpace space("mill", 1);
  for (const KnobInfo& k : family.knobs) space.knob(k.name, k.first, k.least, k.most, k.step, k.reorders_sums);
  const auto better = costs.better(problem(512), 1, space);
  REQUIRE(better);
  CHECK(better->at("feed") >= 16);
  CHECK(better->at("order") == 4);  // it reorders sums: not unasked
  CHECK(space.fault(*better).empty());
  CHECK(costs.better(problem(32), 2, space)->at("feed") <= 4);
  CHECK(!costs.better(problem(512), 3, space));  // of three threads it knows nothing
  lower::RecipeSpace other("lathe", 1);
  CHECK(!costs.better(problem(512), 1, other));
  CHECK(!costs.better(problem(512), 1, space, 100));  // never that sure

  const std::string text = costs.text();
  const lower::LearnedCosts back = lower::LearnedCosts::read(text);
  CHECK(back.text() == text);
  CHECK(*back.better(problem(512), 1, space) == *better);
  CHECK(has(error_of([&] { lower::LearnedCosts::read(text.substr(0, text.size() / 2)); }), "a cost model has"));
  CHECK(has(error_of([] { lower::LearnedCosts::read("threads none"); }), "has 'none' where a whole number was expected"));
  std::string far = text;
  far.replace(far.find("\nby ") + 4, 1, "9999");
  CHECK(has(error_of([&] { lower::LearnedCosts::read(far); }), "expected"));
}

TEST_CASE("what ships of it turns no result: the same bits with it and without, and steps say where their knobs came from") {
  int turned = 0;
  for (const kernels::Isa isa : kernels::available()) {
    for (const int threads : {1, 2, 3}) {
      CompileOptions with{.threads = threads}, without{.threads = threads};
      with.isa = without.isa = kernels::name(isa);
      without.learned = false;
      const Graph g = load(kDemo / "grain" / "grain.onnx");
      with.dims = without.dims = {{g.values[static_cast<size_t>(g.inputs[0])].dims->front().symbol, 3}};
      const Program a = compile(g, with), b = compile(g, without);
      const auto inputs = random_inputs(a, a.bound_shapes(), 4);
      Lane x(a), y(b);
      const Outputs one = x.run(std::span<const Tensor>(inputs)), other = y.run(std::span<const Tensor>(inputs));
      CHECK(std::memcmp(one[0].data(), other[0].data(), one[0].byte_size()) == 0);
      for (const StepInfo& s : a.describe().steps) {
        CHECK((s.chosen_by.empty() || s.chosen_by == "learned"));
        turned += s.chosen_by == "learned";
        if (threads > 2) CHECK(s.chosen_by.empty());
      }
      for (const StepInfo& s : b.describe().steps) CHECK(s.chosen_by.empty());
    }
  }
  MESSAGE("steps with learned knobs: ", turned);
}

TEST_CASE("rank correlation: order alone counts, ties share their ranks") {
  const std::vector<double> a{1, 2, 3, 4}, same{10, 20, 30, 1000}, back{4, 3, 2, 1}, flat{1, 1, 1, 1}, ties{1, 1, 2, 2};
  CHECK(lower::rank_correlation(a, same) == doctest::Approx(1));
  CHECK(lower::rank_correlation(a, back) == doctest::Approx(-1));
  CHECK(lower::rank_correlation(a, flat) == 0);
  CHECK(lower::rank_correlation(a, ties) == doctest::Approx(0.894427));
}

TEST_CASE("the shapes of a problem are read off its text") {
  const auto shapes =
      lower::shapes_in("Conv/11 pads=1,1 name=[3] (0 1) | f32[1,16,24,24] channels-last constant f32[16,16,3,3] f32[] -> natural");
  REQUIRE(shapes.size() == 3);
  CHECK(shapes[0] == Ints{1, 16, 24, 24});
  CHECK(shapes[1] == Ints{16, 16, 3, 3});
  CHECK(shapes[2].empty());
}

TEST_CASE("with recipes, steps tell their problem and what there was to choose from; equal layers are one problem") {
  const Graph g = small_net();
  CHECK(compile(g, {.threads = 1}).describe({}).steps[0].problem.empty());
  const EditionInfo e = compile(g, {.threads = 1, .recipes = std::make_shared<Recipes>()}).describe({});
  std::map<std::string, int> seen;
  for (const StepInfo& s : e.steps) {
    if (s.chosen.empty()) continue;
    CHECK_FALSE(s.problem.empty());
    CHECK((s.chosen_by == "estimate" || s.chosen_by == "learned"));
    CHECK(s.chosen.starts_with(s.estimated + "/"));
    CHECK(std::ranges::any_of(s.families, [&](const FamilyInfo& f) { return f.family == s.estimated; }));
    ++seen[s.problem];
  }
  CHECK(std::ranges::any_of(seen, [](const auto& p) { return p.second == 2; }));
}

TEST_CASE("a given recipe is followed, in archives too; one that does not fit is left and said") {
  const Graph g = small_net();
  const auto product_of = [](const Program& p) {
    const EditionInfo e = p.describe({});
    return *std::ranges::find_if(e.steps, [](const StepInfo& s) { return s.op == "MatMul"; });
  };
  const StepInfo plain = product_of(compile(g, {.threads = 1, .recipes = std::make_shared<Recipes>()}));
  const std::string isa = compile(g, {.threads = 1}).options().isa;
  Recipes mine;
  std::string other = plain.chosen;
  const size_t at = other.find("k_block=");
  REQUIRE(at != std::string::npos);
  other.replace(at, other.find(' ', at) - at, "k_block=64");
  mine.add({plain.problem, isa, 1, other, 1.5, 1.4, 1.6});
  const Program p = compile(g, {.threads = 1, .recipes = std::make_shared<Recipes>(mine)});
  CHECK(product_of(p).chosen == other);
  CHECK(product_of(p).chosen_by == "tuned");
  CHECK(product_of(p).gain == 1.5);
  const Tensor x = random_tensor({1, 16, 24, 24}, 5);
  Lane lane(p), before(compile(g, {.threads = 1}));
  CHECK(compare("y", lane.run({{"x", x}})[0], before.run({{"x", x}})[0]).pass);
  // Of other threads: not asked.
  CHECK(product_of(compile(g, {.threads = 2, .recipes = std::make_shared<Recipes>(mine)})).chosen_by != "tuned");
  // Baked in.
  Folder f;
  save_program(p, f.path / "p.lathe");
  CHECK(product_of(load_program(f.path / "p.lathe", {.threads = 1})).chosen == other);
  // What lies is left.
  for (const auto& [text, why] : {std::pair<std::string, const char*>{"nonsense", "no recipe"},
                                  {"convolution.direct/1 k_block=64", "another kind of step"},
                                  {other.substr(0, other.find(' ')) + " k_block=7", "knobs"},
                                  {std::string(other).replace(at, 10, "k_block=17"), "k_block"}}) {
    CAPTURE(text);
    Recipes lies;
    lies.add({plain.problem, isa, 1, text});
    const StepInfo s = product_of(compile(g, {.threads = 1, .recipes = std::make_shared<Recipes>(lies)}));
    CHECK(s.chosen == plain.chosen);
    CHECK(has(s.refused, why));
  }
}

TEST_CASE("pins: of one node, of all steps, of a family; together or not at all; what is wrong with them is said") {
  const Graph g = small_net();
  const auto with = [&](std::initializer_list<const char*> pins) {
    Recipes r;
    for (const char* p : pins) r.pin(read_pin(p));
    return r;
  };
  const auto describe = [&](const Recipes& r) { return compile(g, {.threads = 1, .recipes = std::make_shared<Recipes>(r)}).describe(); };
  std::string product, conv;
  for (const StepInfo& s : describe({}).steps) {
    const std::string name = s.nodes.empty() ? "" : s.nodes[0].substr(0, s.nodes[0].find(" ("));
    if (s.op == "MatMul") product = name;
    if (s.op == "Conv" && conv.empty()) conv = name;
  }
  REQUIRE_FALSE(product.empty());
  REQUIRE_FALSE(conv.empty());
  const auto step_of = [](const EditionInfo& e, const std::string& node) {
    return *std::ranges::find_if(e.steps, [&](const StepInfo& s) { return !s.nodes.empty() && s.nodes[0].starts_with(node + " ("); });
  };

  const Recipes one =
      with({(product + ":k_block=64").c_str(), (conv + ":family=convolution.direct").c_str(), (conv + ":k_block=128").c_str()});
  const EditionInfo e = describe(one);
  CHECK(pin_fault(one, e).empty());
  CHECK(has(step_of(e, product).chosen, "k_block=64 "));
  CHECK(step_of(e, product).chosen_by == "pinned");
  CHECK(step_of(e, conv).chosen.starts_with("convolution.direct/"));
  CHECK(has(step_of(e, conv).chosen, "k_block=128 "));
  // Layers like it are not meant.
  const auto pinned = [](const EditionInfo& i) {  // copies made for a step count with it
    return std::ranges::count_if(i.steps, [](const StepInfo& s) { return s.chosen_by == "pinned" && !s.chosen.empty(); });
  };
  CHECK(pinned(e) == 2);
  const Tensor x = random_tensor({1, 16, 24, 24}, 5);
  Lane lane(compile(g, {.threads = 1, .recipes = std::make_shared<Recipes>(one)})), before(compile(g, {.threads = 1}));
  CHECK(compare("y", lane.run({{"x", x}})[0], before.run({{"x", x}})[0]).pass);

  const Recipes all = with({"k_block=96", "family=convolution.direct"});
  const EditionInfo every = describe(all);
  CHECK(pin_fault(all, every).empty());
  CHECK(pinned(every) == 5);

  for (const auto& [pin, why] : {std::pair<std::string, std::string>{"MatMull:k_block=64", "no step has a node named 'MatMull'"},
                                 {product + ":chunks=2", "product has no such knob"},
                                 {product + ":k_block=65", "k_block"},
                                 {product + ":family=pool.planes", "product can do it"},
                                 {"spindles=3", "no step has such a knob"}}) {
    CAPTURE(pin);
    const Recipes wrong = with({pin.c_str()});
    const EditionInfo left = describe(wrong);
    CHECK(has(pin_fault(wrong, left), why));
    CHECK(pinned(left) == 0);
  }
  // A tuned recipe that does not fit is no fault of a pin's.
  Recipes both = with({"k_block=96"});
  both.add({step_of(e, product).problem, compile(g, {.threads = 1}).options().isa, 1, "nonsense"});
  const EditionInfo beside = describe(both);
  CHECK(has(step_of(beside, product).refused, "no recipe"));
  CHECK(step_of(beside, product).chosen_by == "pinned");
  CHECK(pin_fault(both, beside).empty());
  for (const char* text : {"", "k_block", "k_block=", "k_block=x", ":k_block=3", "a:=3", "a:family="}) {
    CAPTURE(text);
    CHECK(has(error_of([&] { read_pin(text); }), "expected NODE:KNOB=VALUE"));
  }
  const PinnedKnob named = read_pin("net/block:0/Conv:k_block=-3");
  CHECK(named.node == "net/block:0/Conv");
  CHECK(named.value == -3);
  CHECK(to_string(named) == "net/block:0/Conv:k_block=-3");
}

TEST_CASE("a search tries what it was allowed to, keeps what it confirmed, and changes no result") {
  const Graph g = small_net();
  const std::vector<Tensor> x{random_tensor({1, 16, 24, 24}, 5)};
  std::vector<std::string> told;
  TuneOptions o = brief(40);
  o.progress = [&](const TuneProgress& p) { told.push_back(p.what); };
  const TuneResult r = tune(g, {.threads = 1}, x, o);
  CHECK(r.trials.size() > 20);
  CHECK(r.trials.size() <= 40);
  CHECK(r.wrong == 0);
  CHECK(told.front() == "compiling");
  CHECK(told.back() == "confirming");
  std::map<std::string, int> tried;
  for (const RecipeTrial& t : r.trials) {
    CHECK(t.ratio > 0);
    CHECK(t.seconds > 0);
    CHECK(++tried[t.problem + t.recipe] == 1);
  }
  double shares = 0;
  for (const TunedProblem& p : r.problems) {
    shares += p.share;
    CHECK((p.recipe == p.untuned) == (p.gain == 1 && p.low == 1));
    if (p.recipe != p.untuned) CHECK(p.low > 1);
  }
  CHECK(shares <= 1 + 1e-9);
  CHECK(r.recipes.size() ==
        static_cast<size_t>(std::ranges::count_if(r.problems, [](const TunedProblem& p) { return p.recipe != p.untuned; })));
  // Followed as they stand, with the same results.
  const Program p = compile(g, {.threads = 1, .recipes = std::make_shared<Recipes>(r.recipes)});
  for (const StepInfo& s : p.describe({}).steps) CHECK(s.refused.empty());
  Lane tuned(p), before(compile(g, {.threads = 1}));
  CHECK(compare("y", tuned.run(x)[0], before.run(x)[0]).pass);
}

TEST_CASE("the same bits, when they are asked for, and every part of the search may be left out") {
  const Graph g = small_net();
  const std::vector<Tensor> x{random_tensor({1, 16, 24, 24}, 5)};
  TuneOptions o = brief(24, 3);
  o.keep_order = true;
  const TuneResult r = tune(g, {.threads = 2}, x, o);
  for (const TunedProblem& p : r.problems) CHECK(p.recipe.substr(0, p.recipe.find(' ')) == p.untuned.substr(0, p.untuned.find(' ')));
  Lane tuned(compile(g, {.threads = 2, .recipes = std::make_shared<Recipes>(r.recipes)})), before(compile(g, {.threads = 2}));
  const Outputs a = tuned.run(x), b = before.run(x);
  CHECK(std::memcmp(a[0].data(), b[0].data(), a[0].byte_size()) == 0);
  for (int part = 0; part < 3; ++part) {
    TuneOptions without = brief(12);
    (part == 0 ? without.learned : part == 1 ? without.scheduled : without.evolved) = false;
    CHECK(tune(g, {.threads = 1}, x, without).trials.size() <= 12);
  }
}

TEST_CASE("one knob turned: its values timed beside the estimate, others refused") {
  const Graph g = small_net();
  const std::vector<Tensor> x{random_tensor({1, 16, 24, 24}, 5)};
  const EditionInfo e = compile(g, {.threads = 1, .recipes = std::make_shared<Recipes>()}).describe({});
  const StepInfo& s = *std::ranges::find_if(e.steps, [](const StepInfo& i) { return i.op == "MatMul"; });
  TuneOptions o;
  o.seconds = 0.2;
  const KnobCurve c = knob_curve(g, {.threads = 1}, x, s.problem, "k_block", {64, 65, 576}, o);
  REQUIRE(c.points.size() == 3);
  CHECK(c.estimate == 576);
  CHECK(c.recipe == s.chosen);
  CHECK(c.seconds > 0);
  CHECK(c.points[0].seconds > 0);
  CHECK(c.points[0].low <= c.points[0].ratio);
  CHECK(has(c.points[1].refused, "k_block"));
  CHECK(c.points[2].refused.empty());
  const KnobCurve whole = knob_curve(g, {.threads = 1}, x, s.problem, "k_block", {}, o);
  CHECK(whole.points.size() > 8);
  CHECK(std::ranges::any_of(whole.points, [](const auto& p) { return p.value == 576; }));
  CHECK(has(error_of([&] { knob_curve(g, {.threads = 1}, x, s.problem, "speed", {}, o); }), "no knob 'speed'"));
  CHECK(has(error_of([&] { knob_curve(g, {.threads = 1}, x, "nothing", "k_block", {}, o); }), "no such problem"));
}

TEST_CASE("steps of problems that came up later count in the whole of a search alone") {
  const std::vector<Tensor> x{random_tensor({1, 16, 24, 24}, 5)};
  tuning::Runner r(small_net(), {.threads = 1}, Recipes(), x, 0);
  REQUIRE(r.steps.size() > 3);
  for (size_t i = 0; i < r.steps.size(); ++i) r.group_of[i] = static_cast<int>(i) + 1;  // the last are beyond what is asked for
  const std::vector<double> seconds = r.run(x, 3);
  REQUIRE(seconds.size() == 4);
  CHECK(seconds[0] == 0);
  CHECK(seconds[1] > 0);
  CHECK(seconds[3] > seconds[1] + seconds[2]);
}

TEST_CASE("a model that keeps states is tuned from where they stand, and generates the same with what was found") {
  Decoder d;
  d.f.causal = true, d.f.width = 32, d.f.words = 50;
  const Graph g = d.make();
  CompileOptions o{.threads = 2};
  o.states = find_states(g);
  REQUIRE(!o.states.empty());
  const std::vector<Tensor> token{Tensor::from<int64_t>({1, 1}, {7})};
  TuneOptions how = brief(60);
  how.held = 20;
  const TuneResult r = tune(g, o, token, how);
  REQUIRE(r.trials.size() == 60);
  CHECK(r.wrong == 0);
  CHECK(std::ranges::any_of(r.problems, [](const TunedProblem& p) { return p.op == "Attention"; }));
  // Every recipe that was measured, a few of them at once, gives what the untuned program gives, run after run.
  Lane untuned(compile(g, o));
  for (size_t from = 0; from < r.trials.size(); from += 20) {
    Recipes some;
    for (size_t i = from; i < from + 20; ++i) some.add({r.trials[i].problem, r.trials[i].isa, 2, r.trials[i].recipe});
    CompileOptions with = o;
    with.recipes = std::make_shared<Recipes>(some);
    Lane tuned(compile(g, with));
    untuned.reset();
    for (int64_t t = 0; t < 12; ++t) {
      const std::vector<Tensor> next{Tensor::from<int64_t>({1, 1}, {t * 7 % 50})};
      const Tensor a = untuned.run(std::span<const Tensor>(next))[0], b = tuned.run(std::span<const Tensor>(next))[0];
      CHECK(compare("y", b, a, Tolerance{1e-5, 1e-4, 0}).pass);
    }
  }
  how.held = 5;
  CHECK(has(error_of([&] {
              tune(small_net(), {.threads = 1}, std::vector<Tensor>{random_tensor({1, 16, 24, 24}, 5)}, how);
            }),
            "no states"));
  how.held = -1;
  CHECK(has(error_of([&] { tune(g, o, token, how); }), "-1"));
}

TEST_CASE("work apart: what is done there, what throws, crashes and takes too long") {
  using How = tuning::Ending::How;
  int here = 0;
  CHECK(tuning::apart([&] { here = 1; }, 10, {}).how == How::done);
  CHECK(here == 0);
  CHECK(tuning::apart([] { throw std::runtime_error("no"); }, 10, {}).how == How::failed);
  const tuning::Ending crash = tuning::apart([] { raise(SIGSEGV); }, 10, {});
  CHECK(crash.how == How::crashed);
  CHECK(has(crash.why, "egmentation"));
  CHECK(tuning::apart([] { std::abort(); }, 10, {}).how == How::crashed);
  CHECK(tuning::apart([] { pause(); }, 0.1, {}).how == How::failed);
  std::stop_source stop;
  stop.request_stop();
  CHECK(tuning::apart([] { pause(); }, 100, stop.get_token()).how == How::failed);
}

TEST_CASE("trials apart: a program that crashes there is left, and the search goes on") {
  // It crashes in every process but this one, which stands for recipes that crash.
  static pid_t ours = 0;
  ours = getpid();
  OpDef op;
  op.domain = "test.tune", op.name = "Fragile";
  op.infer = [](InferContext& c) { c.set(0, c.dtype(0), c.dims(0)); };
  op.plain = [](const EvalContext& c) -> std::vector<Tensor> { return {c.in(0)}; };
  static bool fragile = true;
  op.fast = [](const KernelRequest&) -> FastKernel {
    return [](KernelContext& c) {
      if (fragile && getpid() != ours) raise(SIGSEGV);
      std::memcpy(c.outputs[0].data, c.inputs[0].data, static_cast<size_t>(element_count(*c.inputs[0].shape)) * sizeof(float));
    };
  };
  register_op(op);
  Builder b("fragile", 21);
  b.import_domain("test.tune", 1);
  const auto x = b.input("x", DType::f32, {40, 96});
  const auto y = b.op("test.tune::Fragile", {x});
  b.output(b.op("MatMul", {y, b.constant("w", random_tensor({96, 200}, 3))}), "y");
  const Graph g = b.finish();
  const std::vector<Tensor> in{random_tensor({40, 96}, 1)};
  TuneOptions o = brief(6);
  o.apart = true;
  o.seconds = sanitized() ? 10 : 3;
  TuneResult r = tune(g, {.threads = 2}, in, o);
  CHECK(r.crashed > 0);
  CHECK(r.trials.empty());
  CHECK(r.recipes.size() == 0);
  fragile = false;
  r = tune(g, {.threads = 2}, in, o);
  CHECK(r.crashed == 0);
  CHECK(r.trials.size() == 6);
}

TEST_CASE("a kernel of the user's own for an op of the standard is one candidate among ours") {
  const OpDef standard = *find_op("", "Softmax", 13);
  OpDef own = standard;
  static bool slow = true;
  own.fast = [](const KernelRequest& r) -> FastKernel {
    const int64_t columns = r.inputs[0].shape->back();
    return [columns](KernelContext& c) {
      const int64_t rows = element_count(*c.inputs[0].shape) / columns;
      const auto* x = static_cast<const float*>(c.inputs[0].data);
      auto* y = static_cast<float*>(c.outputs[0].data);
      for (int64_t i = 0; i < rows * columns; ++i) {
        const int64_t row = i / columns * columns;
        float most = x[row], sum = 0;
        // Each element finds out about its row anew.
        for (int64_t k = 0; k < columns; ++k) most = std::max(most, x[row + k]);
        for (int64_t k = 0; k < columns; ++k) sum += std::exp(x[row + k] - most);
        y[i] = std::exp(x[i] - most) / sum;
        if (!slow) break;
      }
    };
  };
  register_op(own);
  Builder b("own", 17);
  const auto x = b.input("x", DType::f32, {50, 60});
  b.output(b.op("Softmax", {x}), "y");
  const Graph g = b.finish();
  const std::vector<Tensor> in{random_tensor({50, 60}, 1)};
  TuneOptions o = brief(30);
  o.seconds = 4;
  const TuneResult r = tune(g, {.threads = 1}, in, o);
  REQUIRE(r.problems.size() == 1);
  CHECK(r.problems[0].untuned.starts_with("custom/"));
  CHECK(r.problems[0].recipe.starts_with("rows/"));
  CHECK(r.problems[0].low > 2);
  // One that is fast and wrong is what the untuned program would take: that is refused, and ours found right.
  slow = false;
  const TuneResult wrong = tune(g, {.threads = 1}, in, o);
  for (const RecipeTrial& t : wrong.trials) CHECK(!t.recipe.starts_with("custom/"));
  register_op(standard);
}

TEST_CASE("a search that is stopped gives what it has, and what cannot be tuned is said") {
  const Graph g = small_net();
  const std::vector<Tensor> x{random_tensor({1, 16, 24, 24}, 5)};
  std::stop_source stop;
  TuneOptions o = brief(0);
  o.stop = stop.get_token();
  o.progress = [&](const TuneProgress& p) {
    if (p.what == "searching") stop.request_stop();
  };
  const TuneResult r = tune(g, {.threads = 1}, x, o);
  CHECK(r.stopped);
  CHECK(r.rounds == 1);
  o = brief(4);
  o.seconds = 0;
  CHECK(has(error_of([&] { tune(g, {.threads = 1}, x, o); }), "seconds is 0"));
  CHECK(has(error_of([&] { tune(g, {.threads = 1, .plain = true}, x, brief(4)); }), "compiled"));
  CHECK(has(error_of([&] { tune(g, {.threads = 1}, {}, brief(4)); }), "input"));
}

TEST_CASE("recipes and trials are kept by machine in the logbook, and recipes in files") {
  Folder f;
  const TunedRecipe one{"MatMul/13 (0 1) | f32[2,3]", "avx2", 2, "product/1 k_block=64", 1.25, 1.1, 1.4, 1e-5, 12};
  Recipes r;
  r.add(one);
  const std::vector<RecipeTrial> trials{{one.problem, "avx2", 2, "product/1 k_block=80", 1.1, 2e-5}};
  {
    Logbook book(f.path / "book.sqlite");
    book.keep_tuned("here", r, trials);
    TunedRecipe better = one;
    better.gain = 1.5;
    Recipes again;
    again.add(better);
    book.keep_tuned("here", again, trials);
  }
  Logbook book(f.path / "book.sqlite");
  CHECK(book.recipes("elsewhere").size() == 0);
  REQUIRE(book.recipes("here").size() == 1);
  const Recipes kept = book.recipes("here");
  const TunedRecipe* k = kept.find(one.problem, "avx2", 2);
  REQUIRE(k != nullptr);
  CHECK(k->gain == 1.5);
  CHECK(k->recipe == one.recipe);
  CHECK(k->trials == 12);
  REQUIRE(book.trials("here").size() == 1);
  CHECK(book.trials("here")[0].ratio == 1.1);
  CHECK(book.forget_tuned("here") == 1);
  CHECK(book.trials("here").empty());

  write_recipes(f.path / "r.json", r, "here");
  std::string machine;
  CHECK(read_recipes(f.path / "r.json", &machine).find(one.problem, "avx2", 2)->low == 1.1);
  CHECK(machine == "here");
  const auto refused = [&](const std::string& text) {
    std::ofstream(f.path / "bad.json") << text;
    return error_of([&] { read_recipes(f.path / "bad.json"); });
  };
  CHECK(has(refused("{}"), "holds no recipes"));
  CHECK(has(refused("[1"), "holds no recipes"));
  CHECK(has(refused(R"({"format": "mellow-lathe recipes", "version": 9, "recipes": []})"), "version 9"));
  CHECK(has(refused(R"({"format": "mellow-lathe recipes", "version": 1, "recipes": 3})"), "not a list"));
  CHECK(has(refused(R"({"format": "mellow-lathe recipes", "version": 1, "recipes": [{"problem": 3}]})"), "recipe 1: 'problem'"));
  CHECK(has(
      refused(
          R"({"format": "mellow-lathe recipes", "version": 1, "recipes": [{"problem": "a", "isa": "b", "recipe": "c", "threads": -4}]})"),
      "'threads' is -4"));
}

}  // namespace
