// States that lanes keep from run to run, against plain evaluation with states carried by hand.
#include <cmath>
#include <algorithm>
#include <cstring>
#include <map>
#include <random>

#include "decoder.hpp"
#include "lathe/archive.hpp"
#include "lathe/builder.hpp"
#include "lathe/lathe.h"
#include "lathe/state.hpp"

using namespace test;

namespace {

Tensor some_tokens(int64_t batch, int64_t count, std::mt19937_64& random) {
  Tensor t(DType::i64, {batch, count});
  for (int64_t& v : t.as<int64_t>()) v = static_cast<int64_t>(random() % 30);
  return t;
}

Tensor ones(int64_t batch, int64_t count) {
  Tensor t(DType::i64, {batch, count});
  std::ranges::fill(t.as<int64_t>(), 1);
  return t;
}

// A state of no positions.
Tensor nothing_held(const Value& in, int64_t batch) {
  Shape shape;
  for (const Dim& d : *in.dims) shape.push_back(d.known() ? d.value : d.symbol == "batch" ? batch : 0);
  return Tensor(in.dtype, shape);
}

// States carried by hand, each run by plain evaluation.
struct ByHand {
  const Graph& g;
  std::map<std::string, Tensor> states;  // by input
  Tensor scores;
  int64_t positions = 0;

  void run(const Tensor& tokens) {
    std::vector<Tensor> in;
    const int64_t batch = tokens.shape()[0];
    for (ValueId v : g.inputs) {
      const std::string& name = g.values[static_cast<size_t>(v)].name;
      if (name == "tokens") in.push_back(tokens);
      else if (name == "seen") in.push_back(ones(batch, positions + tokens.shape()[1]));
      else if (states.contains(name)) in.push_back(states[name]);
      else in.push_back(nothing_held(g.values[static_cast<size_t>(v)], batch));
    }
    const auto out = evaluate_plain(g, in);
    for (size_t i = 0; i < out.size(); ++i) {
      std::string name = g.values[static_cast<size_t>(g.outputs[i])].name;
      if (name == "scores") scores = out[i];
      else states["past" + name.substr(7)] = out[i];
    }
    positions += tokens.shape()[1];
  }
};

bool same_bits(const Tensor& a, const Tensor& b) {
  return a.dtype() == b.dtype() && a.shape() == b.shape() && std::memcmp(a.data(), b.data(), a.byte_size()) == 0;
}

double apart(const Tensor& a, const Tensor& b) {
  REQUIRE(a.shape() == b.shape());
  double most = 0;
  for (size_t i = 0; i < a.as<float>().size(); ++i) most = std::max(most, std::abs(double{a.as<float>()[i]} - b.as<float>()[i]));
  return most;
}

Tensor step(Lane& lane, const Tensor& tokens, const Form& f) {
  if (!f.mask) return lane.run({{"tokens", tokens}})["scores"].clone();
  return lane.run({{"tokens", tokens}, {"seen", ones(tokens.shape()[0], lane.positions() + tokens.shape()[1])}})["scores"].clone();
}

}  // namespace

TEST_CASE("growing states are read where they lie, for any length, and give what plain evaluation gives") {
  const std::pair<const char*, Form> forms[]{{"bare", {}},
                                             {"masked", {.mask = true}},
                                             {"causal", {.causal = true}},
                                             {"both", {.mask = true, .causal = true}},
                                             {"where", {.where = true}},
                                             {"grouped", {.heads = 4, .kv_heads = 2}},
                                             {"node", {.node = true}},
                                             {"node, masked", {.mask = true, .node = true}},
                                             {"node, grouped", {.heads = 4, .kv_heads = 1, .causal = true, .node = true}},
                                             {"halves", {.halves = true}},
                                             {"halves, causal", {.causal = true, .halves = true}},
                                             {"node, halves", {.node = true, .halves = true}},
                                             {"second", {.axes = Axes::second}},
                                             {"second, causal, halves", {.causal = true, .halves = true, .axes = Axes::second}},
                                             {"second, grouped", {.kv_heads = 2, .mask = true, .axes = Axes::second}},
                                             {"first", {.mask = true, .axes = Axes::first}},
                                             {"turned", {.causal = true, .axes = Axes::turned}},
                                             {"turned, where", {.where = true, .axes = Axes::turned}},
                                             {"stacked", {.axes = Axes::stacked}},
                                             {"stacked, masked", {.mask = true, .causal = true, .axes = Axes::stacked}},
                                             {"split", {.where = true, .axes = Axes::split}},
                                             {"stacked and turned", {.axes = Axes::stacked_turned}},
                                             {"stacked and turned, where", {.where = true, .axes = Axes::stacked_turned}},
                                             {"stacked and turned, causal", {.causal = true, .halves = true, .axes = Axes::stacked_turned}},
                                             {"both scaled", {.scores = Scores::both_scaled}},
                                             {"both scaled, masked", {.mask = true, .causal = true, .scores = Scores::both_scaled}},
                                             {"both scaled, grouped", {.kv_heads = 2, .scores = Scores::both_scaled}},
                                             {"both scaled, turned", {.axes = Axes::turned, .scores = Scores::both_scaled}},
                                             {"capped", {.causal = true, .scores = Scores::capped}},
                                             {"wide", {.causal = true, .halves = true, .scores = Scores::wide}},
                                             {"safe", {.mask = true, .scores = Scores::safe}},
                                             {"slopes", {.scores = Scores::slopes}},
                                             {"wider values", {.value_width = 12}},
                                             {"copied", {.copied = true}}};
  for (const auto& [name, form] : forms) {
    CAPTURE(std::string(name));
    const Graph g = decoder(form);
    const auto pairs = pair_states(g, kStatePattern);
    const size_t states = stacked(form.axes) ? 2 : 4;
    REQUIRE(pairs.size() == states);
    CHECK(find_states(g) == pairs);
    for (const int threads : {1, 2}) {
      for (const int64_t batch : {1, 3}) {
        CAPTURE(threads);
        CAPTURE(batch);
        std::mt19937_64 random(7);
        const Program p = compile(g, {.threads = threads, .states = pairs});
        CAPTURE(p.why_copied());
        CHECK((p.states()[0].in_place) == !form.copied);
        CHECK(p.why_copied().empty() == !form.copied);
        CHECK(p.inputs().size() == (form.mask ? 2 : 1));
        CHECK(p.outputs().size() == 1);
        Lane lane(p);
        ByHand plain{g, {}, {}, 0};
        const bool copied = form.copied;
        for (int n = 0; n < (copied ? 4 : 24); ++n) {
          const Tensor tokens = some_tokens(batch, n == 0 ? 7 : n == 5 ? 4 : 1, random);
          const Tensor scores = step(lane, tokens, form);
          if (n > 12 && n < 22) {  // plain evaluation is slow; states have to be carried all the same
            plain.run(tokens);
            continue;
          }
          plain.run(tokens);
          CHECK(lane.positions() == plain.positions);
          CHECK(apart(scores, plain.scores) < (form.halves ? 2e-2 : 1e-4));  // plain evaluation rounds after each node
        }
        // One edition for each number of new positions, whatever is held.
        if (!copied) CHECK(p.editions_compiled() <= 3);
        const SavedState saved = lane.save_state();
        REQUIRE(saved.tensors.size() == states);
        for (const auto& [state, tensor] : saved.tensors) {
          CHECK(tensor.dtype() == plain.states.at(state).dtype());
          if (!form.halves) CHECK(apart(tensor, plain.states.at(state)) < 1e-4);
        }
        // It comes back as it was saved.
        Lane other(p);
        other.restore_state(saved);
        const SavedState again = other.save_state();
        for (size_t i = 0; i < states; ++i) CHECK(same_bits(again.tensors[i].second, saved.tensors[i].second));
      }
    }
  }
}

TEST_CASE("states are saved, restored, forked, gone back from and cut to a window") {
  const Form f{.causal = true};
  const Graph g = decoder(f);
  const Program p = compile(g, {.threads = 1, .states = pair_states(g, kStatePattern)});
  std::mt19937_64 random(3);
  Lane lane(p), other(p);
  const Tensor prompt = some_tokens(1, 9, random), a = some_tokens(1, 1, random), b = some_tokens(1, 1, random);
  step(lane, prompt, f);
  const SavedState at_prompt = lane.save_state();
  CHECK(at_prompt.positions == 9);
  const Tensor after_a = step(lane, a, f), after_ab = step(lane, b, f);
  // A fork: another continuation of the same beginning, on another lane.
  other.restore_state(at_prompt);
  CHECK(same_bits(step(other, a, f), after_a));
  CHECK(same_bits(step(other, b, f), after_ab));
  lane.rewind(2);
  CHECK(lane.positions() == 9);
  CHECK(same_bits(step(lane, a, f), after_a));
  lane.rewind(10);
  CHECK(lane.positions() == 0);
  step(lane, prompt, f);
  CHECK(same_bits(step(lane, a, f), after_a));
  lane.reset();
  CHECK(lane.positions() == 0);
  CHECK(lane.save_state().tensors.empty());
  // Two sequences side by side that began as one, then one of them three times.
  other.restore_state(at_prompt);
  other.arrange(std::vector<int64_t>{0, 0});
  Tensor both(DType::i64, {2, 1});
  both.as<int64_t>()[0] = a.as<int64_t>()[0], both.as<int64_t>()[1] = b.as<int64_t>()[0];
  const Tensor two = step(other, both, f);
  for (int64_t i = 0; i < 30; ++i) CHECK(two.as<float>()[i] == doctest::Approx(after_a.as<float>()[i]).epsilon(1e-4));
  other.arrange(std::vector<int64_t>{1, 0, 0});
  const SavedState three = other.save_state();
  CHECK(three.tensors[0].second.shape() == Shape{3, 4, 10, 8});
  CHECK(std::memcmp(three.tensors[1].second.as<float>().data() + 320, three.tensors[1].second.as<float>().data() + 640, 320 * 4) == 0);
  CHECK(has(error_of([&] { other.arrange(std::vector<int64_t>{3}); }), "holds 3 sequences, there is no number 3"));
  // A window: as if the lane had been given what is left of keys and values.
  other.reset();
  step(other, prompt, f);
  other.keep_last(4);
  CHECK(other.positions() == 4);
  SavedState four{4, {}};
  for (const auto& [name, t] : at_prompt.tensors) {
    Tensor cut(DType::f32, {1, 4, 4, 8});
    for (int64_t h = 0; h < 4; ++h) std::copy_n(t.as<float>().data() + (h * 9 + 5) * 8, 32, cut.as<float>().data() + h * 32);
    four.tensors.emplace_back(name, cut);
  }
  lane.restore_state(four);
  CHECK(same_bits(step(other, a, f), step(lane, a, f)));
  // Nothing of all that is in the way of results that somebody holds.
  CHECK(lane.save_state().tensors.size() == 4);
}

TEST_CASE("states in any order of axes are forked, gone back from, put side by side and joined") {
  for (const Axes axes : {Axes::second, Axes::first, Axes::turned, Axes::stacked, Axes::stacked_turned}) {
    CAPTURE(static_cast<int>(axes));
    const Form f{.axes = axes};
    const Graph g = decoder(f);
    const Program p = compile(g, {.threads = 1, .states = pair_states(g, kStatePattern)});
    REQUIRE(p.why_copied().empty());
    std::mt19937_64 random(3);
    Lane lane(p), other(p);
    const Tensor prompt = some_tokens(1, 9, random), a = some_tokens(1, 1, random), b = some_tokens(1, 1, random);
    step(lane, prompt, f);
    const SavedState at_prompt = lane.save_state();
    const Tensor after_a = step(lane, a, f), after_ab = step(lane, b, f);
    other.restore_state(at_prompt);
    CHECK(same_bits(step(other, a, f), after_a));
    lane.rewind(2);
    CHECK(same_bits(step(lane, a, f), after_a));
    CHECK(same_bits(step(lane, b, f), after_ab));
    // What is kept of it all is what a state of the last positions would be.
    lane.keep_last(4);
    const SavedState last = lane.save_state();
    other.restore_state(last);
    CHECK(other.positions() == 4);
    CHECK(same_bits(step(other, a, f), step(lane, a, f)));
    // Two that began as one, then a third that joins them.
    other.restore_state(at_prompt);
    other.arrange(std::vector<int64_t>{0, 0});
    other.join(at_prompt);
    Tensor three(DType::i64, {3, 1});
    std::ranges::fill(three.as<int64_t>(), a.as<int64_t>()[0]);
    const Tensor scores = step(other, three, f);
    for (int64_t i = 0; i < 90; ++i) CHECK(scores.as<float>()[i] == doctest::Approx(after_a.as<float>()[i % 30]).epsilon(1e-4));
    CHECK(has(error_of([&] { other.arrange(std::vector<int64_t>{3}); }), "holds 3 sequences, there is no number 3"));
    // A state of other sizes is refused.
    SavedState wrong = at_prompt;
    wrong.positions = 8;
    CHECK(has(error_of([&] { other.restore_state(wrong); }), "(8 positions)"));
  }
}

TEST_CASE("long sequences stay within the room that was asked for, and are refused beyond it") {
  const Form f{.layers = 1, .heads = 2, .kv_heads = 2, .width = 4};
  const Graph g = decoder(f);
  const Program p = compile(g, {.threads = 1, .states = pair_states(g, kStatePattern), .positions = 40});
  Lane lane(p);
  std::mt19937_64 random(3);
  for (int n = 0; n < 40; ++n) step(lane, some_tokens(1, 1, random), f);
  const SavedState full = lane.save_state();
  const std::string error = error_of([&] { step(lane, some_tokens(1, 1, random), f); });
  CHECK(has(error, "40 positions are held and 1 are new, the program holds 40 at most"));
  const SavedState still = lane.save_state();
  for (size_t i = 0; i < full.tensors.size(); ++i) CHECK(same_bits(full.tensors[i].second, still.tensors[i].second));
  lane.keep_last(8);
  // LATHE_APPENDS: as many as one likes, under a sanitizer.
  const char* asked = std::getenv("LATHE_APPENDS");
  for (int64_t n = asked ? std::atoll(asked) : 3000; n > 0; --n) {
    step(lane, some_tokens(1, 1, random), f);
    if (lane.positions() == 40) lane.keep_last(8);
  }
  CHECK(p.editions_compiled() <= 2);
  // Also where states are copied.
  const Form other{.layers = 1, .heads = 2, .kv_heads = 2, .width = 4, .copied = true};
  const Graph copied = decoder(other);
  Lane small(compile(copied, {.threads = 1, .states = pair_states(copied, kStatePattern), .positions = 3}));
  step(small, some_tokens(1, 3, random), other);
  CHECK(has(error_of([&] { step(small, some_tokens(1, 1, random), other); }),
            "3 positions are held and 1 are new, the program holds 3 at most"));
  CHECK(small.positions() == 3);
  Lane vast(compile(g, {.threads = 1, .states = pair_states(g, kStatePattern), .positions = int64_t{1} << 50}));
  CHECK(has(error_of([&] { step(vast, some_tokens(1, 1, random), f); }), "positions in states takes"));
}

TEST_CASE("states of one size go round: recurrent layers") {
  Builder b("gated", 22);
  const ValueId x = b.input("x", DType::f32, {"steps", "batch", 6}), h = b.input("h", DType::f32, {1, "batch", 5});
  const auto out =
      b.ops("GRU", {x, b.constant("w", random_tensor({1, 15, 6}, 1)), b.constant("r", random_tensor({1, 15, 5}, 2)), kAbsent, kAbsent, h},
            2, {{"hidden_size", int64_t{5}}});
  b.output(out[0], "y");
  b.output(out[1], "h_next");
  const Graph g = b.finish();
  const Program p = compile(g, {.threads = 1, .states = {{"h_next", "h"}}});
  CHECK(p.states()[0].axis == -1);
  Lane lane(p);
  const Tensor whole = random_tensor({12, 2, 6}, 5);
  const Tensor zero = [] {
    Tensor t(DType::f32, {1, 2, 5});
    std::ranges::fill(t.as<float>(), 0.0f);
    return t;
  }();
  const auto expected = evaluate_plain(g, std::vector{whole, zero});
  const auto lines = [&](int64_t from, int64_t count) {
    Tensor t(DType::f32, {count, 2, 6});
    std::copy_n(whole.as<float>().data() + from * 12, count * 12, t.as<float>().data());
    return t;
  };
  for (int round = 0; round < 2; ++round) {
    int64_t at = 0;
    SavedState middle;
    for (const int64_t count : {1, 1, 4, 1, 5}) {
      if (at == 2) middle = lane.save_state();
      const Outputs got = lane.run({{"x", lines(at, count)}});
      CHECK(got.size() == 1);
      for (int64_t i = 0; i < count * 10; ++i)
        CHECK(got["y"].as<float>()[i] == doctest::Approx(expected[0].as<float>()[at * 10 + i]).epsilon(1e-4));
      at += count;
    }
    CHECK(has(error_of([&] { lane.rewind(1); }), "a state that does not grow has forgotten what it was"));
    CHECK(has(error_of([&] { lane.keep_last(1); }), "does not know them apart"));
    lane.restore_state(middle);
    CHECK(lane.run({{"x", lines(2, 1)}})["y"].as<float>()[0] == doctest::Approx(expected[0].as<float>()[20]).epsilon(1e-4));
    lane.reset();
  }
  CHECK(has(error_of([&] { lane.run({{"x", lines(0, 1)}, {"h", zero}}); }), "input 'h' is a state, which the lane keeps"));
}

TEST_CASE("states of one size that scatters write into are what plain evaluation makes of them, whatever happens in between") {
  Builder b("caches", 24);
  const Dims cache{2, 3, 16, 4};
  const ValueId at = b.input("at", DType::i64, {2}), fresh = b.input("fresh", DType::f32, {2, 3, 2, 4}),
                places = b.input("places", DType::i64, {5, 2}), rows = b.input("rows", DType::f32, {5, 16, 4}),
                columns = b.input("columns", DType::i64, {2, 3, 16, 1}), last = b.input("last", DType::f32, {2, 3, 16, 1});
  const auto state = [&](const char* name) { return b.input(std::string("past.") + name, DType::f32, cache); };
  const auto give = [&](ValueId v, const char* name) { b.output(v, std::string("present.") + name); };
  const ValueId lines = b.op("TensorScatter", {state("lines"), fresh, at}),
                round = b.op("TensorScatter", {state("round"), fresh, at}, {{"mode", std::string("circular")}});
  give(lines, "lines");
  give(round, "round");
  give(b.op("ScatterND", {state("slices"), places, rows}), "slices");
  give(b.op("ScatterND", {state("sums"), places, rows}, {{"reduction", std::string("add")}}), "sums");
  give(b.op("ScatterElements", {state("elements"), columns, last}, {{"axis", int64_t{3}}}), "elements");
  // Not what the scatter leaves: everything changes.
  give(b.op("Mul", {b.op("TensorScatter", {state("fading"), fresh, at}), b.constant("half", Tensor::from<float>({}, {0.5f}))}), "fading");
  b.output(b.op("ReduceSum", {b.op("Add", {lines, round})}, {{"keepdims", int64_t{0}}}), "sum");
  const Graph g = b.finish();
  const auto pairs = pair_states(g, kStatePattern);
  REQUIRE(pairs.size() == 6);
  for (const int threads : {1, 2}) {
    std::mt19937_64 random(static_cast<uint64_t>(threads));
    Lane lane(compile(g, {.threads = threads, .states = pairs}));
    std::map<std::string, Tensor> held;
    const auto none = [&] {
      for (const StatePair& p : pairs) held[p.input] = Tensor::from<float>({2, 3, 16, 4}, std::vector<float>(384));
    };
    none();
    std::optional<std::pair<SavedState, std::map<std::string, Tensor>>> kept;
    for (int n = 0; n < 120; ++n) {
      std::map<std::string, Tensor> in{{"at", Tensor(DType::i64, {2})},
                                       {"fresh", random_tensor({2, 3, 2, 4}, random())},
                                       {"places", Tensor(DType::i64, {5, 2})},
                                       {"rows", random_tensor({5, 16, 4}, random())},
                                       {"columns", Tensor(DType::i64, {2, 3, 16, 1})},
                                       {"last", random_tensor({2, 3, 16, 1}, random())}};
      for (int64_t& p : in["at"].as<int64_t>()) p = static_cast<int64_t>(random() % 15);
      for (size_t i = 0; i < 10; ++i) in["places"].as<int64_t>()[i] = static_cast<int64_t>(random() % 2) - (random() % 3 == 0 ? 2 : 0);
      for (int64_t& p : in["columns"].as<int64_t>()) p = static_cast<int64_t>(random() % 4) - (random() % 3 == 0 ? 4 : 0);
      const bool fails = random() % 6 == 0;
      if (fails) (random() % 2 ? in["places"].as<int64_t>()[7] : in["columns"].as<int64_t>()[60]) = 99;
      std::vector<NamedInput> given;
      for (const auto& [name, t] : in) given.push_back({name, t});
      if (fails) {
        CHECK(has(error_of([&] { lane.run(given); }), "99"));
        continue;
      }
      const Outputs out = lane.run(given);
      std::vector<Tensor> all;
      for (ValueId v : g.inputs) {
        const std::string& name = g.values[static_cast<size_t>(v)].name;
        all.push_back(in.contains(name) ? in[name] : held[name]);
      }
      const auto expected = evaluate_plain(g, all);
      for (size_t i = 0; i < expected.size(); ++i) {
        const std::string& name = g.values[static_cast<size_t>(g.outputs[i])].name;
        if (name == "sum") CHECK(out["sum"].as<float>()[0] == doctest::Approx(expected[i].as<float>()[0]).epsilon(1e-4));
        else held["past" + name.substr(7)] = expected[i];
      }
      const uint64_t what = random() % 12;
      if (what == 0) kept.emplace(lane.save_state(), held);
      if (what == 1 && kept) {
        lane.restore_state(kept->first);
        held = kept->second;
      }
      if (what == 2) {
        lane.reset();
        none();
        continue;
      }
      const SavedState now = lane.save_state();
      REQUIRE(now.tensors.size() == 6);
      for (const auto& [name, t] : now.tensors) {
        CAPTURE(n);
        CAPTURE(name);
        CHECK(apart(t, held[name]) < 1e-5);
      }
    }
  }
}

TEST_CASE("pairs are found by patterns and names, and what does not fit is told with both ends") {
  const Graph g = decoder({});
  CHECK(pair_states(g, "present.0.keys=past.0.keys")[0] == StatePair{"present.0.keys", "past.0.keys"});
  CHECK(pair_states(g, "present.*.keys=past.*.keys, present.*.values = past.*.values").size() == 4);
  CHECK(has(error_of([&] { pair_states(g, "present.*"); }), "expected OUTPUT=INPUT"));
  CHECK(has(error_of([&] { pair_states(g, "present.*=past"); }), "with a star on both sides"));
  CHECK(has(error_of([&] { pair_states(g, "presnt.*=past.*"); }), "pairs nothing: no output is named 'presnt.*'"));
  CHECK(has(error_of([&] { pair_states(g, "present.*=pst.*"); }), "with input 'pst.0.keys', which is not there"));
  CHECK(has(error_of([&] { pair_states(g, "present.*=past.*,present.0.keys=past.0.keys"); }), "belongs to another pair already"));
  const auto refused = [&](StatePair pair) { return error_of([&] { compile(g, {.threads = 1, .states = {pair}}); }); };
  CHECK(has(refused({"scores", "tokens"}), "output 'scores' (f32"));
  CHECK(has(refused({"scores", "tokens"}), "they differ in type"));
  CHECK(has(refused({"scores", "past.0.keys"}), "they differ in rank"));
  CHECK(has(refused({"score", "past.0.keys"}), "did you mean 'scores'"));
  CHECK(has(refused({"present.0.keys", "past.0.key"}), "did you mean 'past.0.keys'"));
  Lane lane(compile(g, {.threads = 1, .states = pair_states(g, kStatePattern)}));
  std::mt19937_64 random(3);
  step(lane, some_tokens(1, 3, random), {});
  CHECK(has(error_of([&] { step(lane, some_tokens(2, 1, random), {}); }), "reset first"));
  CHECK(has(error_of([&] { lane.rewind(4); }), "cannot go back by 4 positions: 3 are held"));
  SavedState wrong = lane.save_state();
  wrong.positions = 5;
  CHECK(has(error_of([&] { lane.restore_state(wrong); }), "(5 positions)"));
  wrong.tensors[0].first = "paste";
  CHECK(has(error_of([&] { lane.restore_state(wrong); }), "no state is named 'paste'"));
  CHECK(lane.positions() == 3);
  const Form masked{.mask = true};
  const Graph m = decoder(masked);
  Lane with(compile(m, {.threads = 1, .states = pair_states(m, kStatePattern)}));
  step(with, some_tokens(1, 3, random), masked);
  CHECK(has(error_of([&] {
              with.run({{"tokens", some_tokens(1, 1, random)}, {"seen", ones(1, 1)}});
            }),
            "its last axis should be 4, 3 positions held and 1 new"));
}

TEST_CASE("pairs are found where one name says more in front, and where states are numbered as first and last") {
  const auto found = [](const std::vector<std::pair<std::string, std::string>>& names) {  // of outputs and inputs
    Builder b("names", 22);
    std::vector<ValueId> in;
    for (const auto& [out, name] : names) in.push_back(b.input(name, DType::f32, {"batch", 4, "held", 8}));
    const ValueId fresh = b.input("fresh", DType::f32, {"batch", 4, "new", 8});
    for (size_t i = 0; i < names.size(); ++i) b.output(b.op("Concat", {in[i], fresh}, {{"axis", int64_t{2}}}), names[i].first);
    std::vector<StatePair> pairs;
    for (const auto& [out, name] : names) pairs.push_back({out, name});
    return find_states(b.finish()) == pairs;
  };
  std::vector<std::pair<std::string, std::string>> layers;
  for (int l = 0; l < 12; ++l) {
    for (const char* what : {".key", ".value"})
      layers.emplace_back("present." + std::to_string(l) + what, "past_key_values." + std::to_string(l) + what);
  }
  CHECK(found(layers));
  CHECK(found({{"hn", "h0"}, {"cn", "c0"}}));
  CHECK(found({{"stateN", "state"}}));
  CHECK(found({{"new_cache_0", "cache_0"}, {"new_cache_1", "cache_1"}}));
  CHECK_FALSE(found({{"scores", "past"}}));
  // Two that one might be: neither.
  CHECK_FALSE(found({{"present.key", "past_a.key"}, {"b.value", "past_b.key"}}));
}

TEST_CASE("programs with states are shipped, and go on from archives to the bit") {
  const Folder folder;
  const std::pair<const char*, Form> forms[]{{"bare", {}},
                                             {"stacked and turned", {.causal = true, .axes = Axes::stacked_turned}},
                                             {"second", {.axes = Axes::second}},
                                             {"both", {.mask = true, .causal = true}},
                                             {"node, halves", {.node = true, .halves = true}}};
  for (const auto& [name, form] : forms) {
    CAPTURE(std::string(name));
    const Graph g = decoder(form);
    const Program p = compile(g, {.threads = 1, .states = pair_states(g, kStatePattern), .positions = 50});
    std::mt19937_64 random(9);
    Lane lane(p);
    const Tensor prompt = some_tokens(1, 6, random), next = some_tokens(1, 1, random);
    const Tensor first = step(lane, prompt, form), second = step(lane, next, form);
    for (const bool graph : {true, false}) {
      CAPTURE(graph);
      const fs::path path = folder.path / "states.lathe";
      save_program(p, path, {.carry_graph = graph});
      const Program back = load_program(path);
      REQUIRE(back.states().size() == p.states().size());
      CHECK(back.states().back().pair == p.states().back().pair);
      CHECK(back.states()[0].in_place);
      CHECK(back.inputs().size() == p.inputs().size());
      CHECK(back.options().positions == 50);
      Lane again(back);
      CHECK(same_bits(step(again, prompt, form), first));
      CHECK(same_bits(step(again, next, form), second));
      CHECK(again.positions() == 7);
      again.restore_state(lane.save_state());
      lane.rewind(1);
      again.rewind(1);
      CHECK(same_bits(step(again, next, form), step(lane, next, form)));
      CHECK_NOTHROW(step(again, some_tokens(1, 3, random), form));
    }
    // Archives with bytes changed are refused, or run within their memory.
    const std::string bytes = slurp(folder.path / "states.lathe");
    for (int trial = 0; trial < 60; ++trial) {
      std::string other = bytes;
      for (int i = 0; i < 3; ++i) other[random() % other.size()] = static_cast<char>(random());
      const fs::path path = folder.path / "changed.lathe";
      write(path, other);
      try {
        Lane changed(load_program(path, {.verify = false}));
        step(changed, prompt, form);
        step(changed, next, form);
      } catch (const Error&) {
      }
    }
  }
  // Words that only passes say mean nothing in a model.
  Builder b("forged", 23);
  const ValueId q = b.input("q", DType::f32, {1, 2, 3, 4}), k = b.input("k", DType::f32, {1, 2, 5, 4}),
                v = b.input("v", DType::f32, {1, 2, 5, 4});
  b.output(b.op("Attention", {q, k, v}, {{"lathe.held", std::vector<int64_t>{7, 9}}}), "y");
  const Graph forged = b.finish();
  check_against_plain(forged, {random_tensor({1, 2, 3, 4}, 1), random_tensor({1, 2, 5, 4}, 2), random_tensor({1, 2, 5, 4}, 3)},
                      {.threads = 1});
}

TEST_CASE("gates of recurrent weights are brought into another order") {
  const Tensor t = Tensor::from<float>({2, 6}, {1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12});
  const Tensor columns = in_gate_order(t, 1, "run", "urn"), rows = in_gate_order(t, -2, "ab", "ba");
  CHECK(std::ranges::equal(columns.as<float>(), std::vector<float>{3, 4, 1, 2, 5, 6, 9, 10, 7, 8, 11, 12}));
  CHECK(std::ranges::equal(rows.as<float>(), std::vector<float>{7, 8, 9, 10, 11, 12, 1, 2, 3, 4, 5, 6}));
  CHECK(same_bits(in_gate_order(columns, 1, "urn", "run"), t));
  CHECK(has(error_of([&] { in_gate_order(t, 1, "run", "rux"); }), "each letter must be there once in both"));
  CHECK(has(error_of([&] { in_gate_order(t, 1, "ifgo", "iofg"); }), "cannot be parted into 4 gates"));
  CHECK(has(error_of([&] { in_gate_order(t, 2, "ab", "ba"); }), "axis 2 is not one of the 2"));
}

TEST_CASE("states in the C interface") {
  const std::string model = (kDemo / "notes/notes.onnx").string();
  lathe_program* program = nullptr;
  REQUIRE(lathe_compile_with_states(model.c_str(), 1, "present.*=past.*", 40, &program) == LATHE_OK);
  CHECK(lathe_input_count(program) == 1);
  CHECK(lathe_output_count(program) == 1);
  lathe_lane *lane = nullptr, *other = nullptr;
  REQUIRE(lathe_lane_new(program, 1, &lane) == LATHE_OK);
  REQUIRE(lathe_lane_new(program, 1, &other) == LATHE_OK);
  const auto scores = [](lathe_lane* l, std::vector<int64_t> tokens) {
    const int64_t dims[]{1, static_cast<int64_t>(tokens.size())};
    const lathe_tensor in{LATHE_I64, 2, dims, tokens.data()};
    REQUIRE(lathe_lane_run(l, &in, 1) == LATHE_OK);
    lathe_tensor out;
    REQUIRE(lathe_lane_output(l, 0, &out) == LATHE_OK);
    const auto* p = static_cast<const float*>(out.data) + (out.dims[1] - 1) * out.dims[2];
    return std::vector<float>(p, p + out.dims[2]);
  };
  scores(lane, {382, 300, 40});
  CHECK(lathe_lane_positions(lane) == 3);
  REQUIRE(lathe_lane_fork(lane, other) == LATHE_OK);
  const auto next = scores(lane, {50});
  CHECK(scores(other, {50}) == next);
  REQUIRE(lathe_lane_rewind(lane, 1) == LATHE_OK);
  CHECK(scores(lane, {50}) == next);
  REQUIRE(lathe_lane_keep_last(lane, 2) == LATHE_OK);
  CHECK(lathe_lane_positions(lane) == 2);
  CHECK(lathe_lane_rewind(lane, 3) == LATHE_VALUE);
  CHECK(has(lathe_error_text(), "cannot go back by 3 positions: 2 are held"));
  REQUIRE(lathe_lane_reset(lane) == LATHE_OK);
  CHECK(lathe_lane_positions(lane) == 0);
  CHECK(lathe_lane_reset(nullptr) == LATHE_VALUE);
  lathe_lane_free(lane);
  lathe_lane_free(other);
  lathe_program_free(program);
  CHECK(lathe_compile_with_states(model.c_str(), 1, "presnt.*=past.*", 0, &program) == LATHE_VALUE);
  CHECK(program == nullptr);
  REQUIRE(lathe_compile_with_states(model.c_str(), 1, "found", 0, &program) == LATHE_OK);
  lathe_program_free(program);
}
