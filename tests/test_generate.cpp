// Sequences continued token by token, against loops written out here.
#include <algorithm>
#include <cmath>
#include <numeric>
#include <random>

#include "decoder.hpp"
#include "lathe/generate.hpp"
#include "lathe/state.hpp"

using namespace test;

namespace {

// The documented rule, the slow way.
int64_t reference(std::vector<double> x, const std::vector<int64_t>& before, const Sampling& s, double u) {
  const size_t window =
      s.repetition_window == 0 ? before.size() : std::min<size_t>(before.size(), static_cast<size_t>(s.repetition_window));
  std::vector<bool> seen(x.size());
  for (size_t i = before.size() - window; i < before.size(); ++i) seen[static_cast<size_t>(before[i])] = true;
  for (size_t t = 0; t < x.size(); ++t) {
    if (seen[t]) x[t] = x[t] > 0 ? x[t] / s.repetition : x[t] * s.repetition;
  }
  std::vector<size_t> order(x.size());
  std::iota(order.begin(), order.end(), size_t{0});
  std::stable_sort(order.begin(), order.end(), [&](size_t a, size_t b) { return x[a] > x[b]; });
  if (s.temperature == 0) return static_cast<int64_t>(order[0]);
  if (s.top_k > 0 && static_cast<size_t>(s.top_k) < order.size()) order.resize(static_cast<size_t>(s.top_k));
  std::vector<double> share(x.size());
  for (const size_t t : order) share[t] = x[t] == x[order[0]] ? 1 : std::exp((x[t] - x[order[0]]) / s.temperature);
  double sum = 0;
  for (const double v : share) sum += v;
  double whole = sum;
  if (s.top_p < 1) {
    size_t kept = 0;
    for (whole = 0; kept < order.size();) {
      whole += share[order[kept++]];
      if (whole >= s.top_p * sum) break;
    }
    order.resize(kept);
  }
  double running = 0;
  for (const size_t t : order) {
    running += share[t];
    if (running > u * whole) return static_cast<int64_t>(t);
  }
  return static_cast<int64_t>(order.back());
}

// The last row of scores after all these tokens at once, by plain evaluation.
std::vector<double> plain_scores(const Graph& g, const std::vector<int64_t>& tokens, const Form& f) {
  std::vector<Tensor> in;
  const auto count = static_cast<int64_t>(tokens.size());
  for (ValueId v : g.inputs) {
    const std::string& name = g.values[static_cast<size_t>(v)].name;
    if (name == "tokens") in.push_back(Tensor::from<int64_t>({1, count}, tokens));
    else if (name == "seen") in.push_back(Tensor::from<int64_t>({1, count}, std::vector<int64_t>(tokens.size(), 1)));
    else in.push_back(Tensor(DType::f32, {1, f.kv_heads, 0, f.width}));
  }
  const auto out = evaluate_plain(g, in);
  for (size_t i = 0; i < out.size(); ++i) {
    if (g.values[static_cast<size_t>(g.outputs[i])].name != "scores") continue;
    const auto row = out[i].as<float>().subspan(static_cast<size_t>((count - 1) * f.words));
    return {row.begin(), row.end()};
  }
  return {};
}

const Form kCausal{.layers = 2, .causal = true};

Program with_states(const Graph& g, int threads = 1, int64_t positions = 0) {
  return compile(g, {.threads = threads, .states = pair_states(g, kStatePattern), .positions = positions});
}

const std::vector<int64_t> kPrompt{3, 14, 15, 9, 26};

}  // namespace

TEST_CASE("tokens are picked as the rule says") {
  std::mt19937_64 random(4);
  std::uniform_real_distribution<float> scores(-4, 4);
  for (int trial = 0; trial < 4000; ++trial) {
    const size_t words = 1 + random() % (trial % 10 ? 60 : 900);
    std::vector<float> x(words);
    for (float& v : x) v = random() % 3 ? scores(random) : std::round(scores(random));  // some are equal
    std::vector<int64_t> before(random() % 30);
    for (int64_t& t : before) t = static_cast<int64_t>(random() % words);
    const double temperatures[]{0, 0.2, 1, 3}, tops[]{1, 0.9, 0.3, 1e-9}, repetitions[]{1, 1.3, 0.8};
    const Sampling s{temperatures[random() % 4], static_cast<int64_t>(random() % 3 ? 0 : random() % (words + 2)), tops[random() % 4],
                     repetitions[random() % 3], static_cast<int64_t>(random() % 2 ? 0 : random() % 8 + 1)};
    const double u = static_cast<double>(random() >> 11) * 0x1p-53;
    CHECK(pick(x, before, s, u) == reference({x.begin(), x.end()}, before, s, u));
  }
  CHECK(pick(std::vector<float>{NAN, 1, NAN}, {}, {.temperature = 1}, 0.99) == 1);
  CHECK(has(error_of([] { pick(std::vector<float>{NAN, NAN}, {}, {}, 0); }), "none of the 2 scores is a number"));
  CHECK(has(error_of([] { check({.temperature = -1}); }), "temperature is -1, expected 0 or more"));
  CHECK(has(error_of([] { check({.top_p = 0}); }), "top_p is 0"));
  CHECK(has(error_of([] { check({.repetition = NAN}); }), "repetition is nan"));
  UnitNumbers a(7), b(7);
  std::mt19937_64 engine(7);
  for (int i = 0; i < 100; ++i) {
    const double u = a.next();
    CHECK(u == b.next());
    CHECK(u == static_cast<double>(engine() >> 11) / 9007199254740992.0);
  }
}

TEST_CASE("sequences go on as plain evaluation of everything so far has them, with states and without, however many threads") {
  const Form forms[]{kCausal, {.mask = true, .causal = true}, {.kv_heads = 2, .causal = true, .node = true}};
  for (const Form& f : forms) {
    const Graph g = decoder(f);
    for (const Sampling& s :
         {Sampling{}, Sampling{.temperature = 0.8}, Sampling{.temperature = 1.5, .top_k = 7, .top_p = 0.9, .repetition = 1.2}}) {
      std::vector<int64_t> line = kPrompt, expected;
      UnitNumbers numbers(11);
      for (int n = 0; n < 12; ++n) {
        const double u = s.temperature > 0 ? numbers.next() : 0;
        expected.push_back(reference(plain_scores(g, line, f), line, s, u));
        line.push_back(expected.back());
      }
      for (const int threads : {1, 2}) {
        Generator kept(with_states(g, threads));
        std::vector<int64_t> heard;
        const Generated got = kept.run(kPrompt, {.sampling = s, .seed = 11, .most = 12}, [&](int64_t t) {
          heard.push_back(t);
          return true;
        });
        CHECK(got.tokens == expected);
        CHECK(heard == expected);
        CHECK(got.ended == "count");
        CHECK(got.prompt == 5);
        CHECK(kept.run(kPrompt, {.sampling = s, .seed = 11, .most = 12}).tokens == expected);
      }
    }
  }
}

TEST_CASE("models without states are given everything again") {
  Builder b("bag", 22);
  const ValueId tokens = b.input("tokens", DType::i32, {"batch", "new"});
  const ValueId x = b.op("Gather", {b.constant("table", random_tensor({20, 8}, 1)), tokens});
  const ValueId sums = b.op("CumSum", {x, b.constant("axis", Tensor::from<int64_t>({}, {1}))});
  b.output(b.op("MatMul", {sums, b.constant("w", random_tensor({8, 20}, 2))}), "scores");
  const Graph g = b.finish();
  Generator generator(compile(g, {.threads = 1}));
  std::vector<int64_t> line{1, 2, 3}, expected;
  for (int n = 0; n < 6; ++n) {
    Tensor t(DType::i32, {1, static_cast<int64_t>(line.size())});
    for (size_t i = 0; i < line.size(); ++i) t.as<int32_t>()[i] = static_cast<int32_t>(line[i]);
    const Tensor scores = evaluate_plain(g, std::vector{t})[0];
    const auto row = scores.as<float>().last(20);
    expected.push_back(std::ranges::max_element(row) - row.begin());
    line.push_back(expected.back());
  }
  CHECK(generator.run(std::vector<int64_t>{1, 2, 3}, {.most = 6}).tokens == expected);
  CHECK(generator.run(std::vector<int64_t>{1, 2, 3}, {.most = 6, .beams = 1}).tokens == expected);
}

TEST_CASE("what a draft proposes changes nothing but the time") {
  const Graph g = decoder(kCausal);
  for (const Form& other : {kCausal, Form{.layers = 1, .heads = 2, .kv_heads = 2, .causal = true}}) {
    const Graph small = decoder(other);
    for (const double temperature : {0.0, 0.7}) {
      for (const int ahead : {1, 3, 6}) {
        Generator plain(with_states(g)), checked(with_states(g)), draft(with_states(small));
        checked.draft(draft);
        const GenerateOptions o{.sampling = {.temperature = temperature, .repetition = 1.1}, .seed = 3, .most = 23, .look_ahead = ahead};
        const Generated expected = plain.run(kPrompt, o), got = checked.run(kPrompt, o);
        CHECK(got.tokens == expected.tokens);
        CHECK(got.proposed > 0);
        if (other.layers == kCausal.layers) CHECK(got.kept == got.proposed);
        CHECK(checked.run(kPrompt, o).tokens == expected.tokens);
      }
    }
  }
  Generator a(with_states(g)), b(with_states(decoder({.words = 31, .causal = true})));
  CHECK(has(error_of([&] { a.draft(b); }), "the draft tells 31 tokens apart, the model 30"));
}

TEST_CASE("beams keep the most likely sequences") {
  const Graph g = decoder(kCausal);
  const auto likelihoods = [&](const std::vector<int64_t>& line) {
    auto x = plain_scores(g, line, kCausal);
    double top = *std::ranges::max_element(x), sum = 0;
    for (const double v : x) sum += std::exp(v - top);
    for (double& v : x) v -= top + std::log(sum);
    return x;
  };
  for (const int beams : {2, 5}) {
    using Beam = std::pair<double, std::vector<int64_t>>;
    std::vector<Beam> alive{{0, kPrompt}};
    for (int n = 0; n < 6; ++n) {
      std::vector<Beam> next;
      for (const Beam& beam : alive) {
        const auto x = likelihoods(beam.second);
        for (size_t t = 0; t < x.size(); ++t) {
          Beam longer = beam;
          longer.first += x[t];
          longer.second.push_back(static_cast<int64_t>(t));
          next.push_back(std::move(longer));
        }
      }
      std::stable_sort(next.begin(), next.end(), [](const Beam& a, const Beam& b) { return a.first > b.first; });
      next.resize(static_cast<size_t>(beams));
      alive = std::move(next);
    }
    Generator generator(with_states(g));
    const Generated got = generator.run(kPrompt, {.most = 6, .beams = beams});
    CHECK(got.tokens == std::vector<int64_t>(alive[0].second.begin() + 5, alive[0].second.end()));
    CHECK(got.log_likelihood == doctest::Approx(alive[0].first).epsilon(1e-4));
    // A token that ends it: what ended is found again, and is no less likely than what the greedy one gives.
    const int64_t end = got.tokens[2];
    const Generated shorter = generator.run(kPrompt, {.most = 6, .stop_tokens = {end}, .beams = beams});
    CHECK(std::ranges::find(shorter.tokens, end) == shorter.tokens.end());
  }
}

TEST_CASE("sequences side by side come and go, and each is what it is by itself") {
  std::mt19937_64 random(9);
  std::vector<Prompt> prompts;
  for (int i = 0; i < 11; ++i) {
    Prompt p;
    for (int64_t n = 1 + static_cast<int64_t>(random() % 9); n > 0; --n) p.tokens.push_back(static_cast<int64_t>(random() % 30));
    prompts.push_back(std::move(p));
  }
  for (const Form& f : {Form{.mask = true, .causal = true, .told = true}, Form{.kv_heads = 2, .mask = true, .causal = true, .told = true},
                        Form{.mask = true, .causal = true, .halves = true, .told = true},
                        Form{.mask = true, .causal = true, .copied = true, .told = true}}) {
    const Graph g = decoder(f);
    for (const int threads : {1, 2}) {
      for (const double temperature : {0.0, 1.5}) {
        GenerateOptions o;
        o.most = 24;
        o.sampling.temperature = temperature;
        o.seed = 5;
        o.stop_tokens = {7, 8};
        Generator generator(with_states(g, threads));
        std::vector<std::vector<int64_t>> alone;
        for (const Prompt& p : prompts) alone.push_back(generator.run(p.tokens, o).tokens);
        for (const int64_t width : {1, 2, 4, 20}) {
          CAPTURE(width);
          std::vector<std::vector<int64_t>> heard(prompts.size());
          const auto all = generator.run_all(prompts, width, o, [&](size_t i, int64_t t) {
            heard[i].push_back(t);
            return true;
          });
          REQUIRE(all.size() == prompts.size());
          for (size_t i = 0; i < all.size(); ++i) {
            CAPTURE(i);
            CHECK(all[i].tokens == alone[i]);
            CHECK(all[i].tokens == heard[i]);
            CHECK(all[i].prompt == static_cast<int64_t>(prompts[i].tokens.size()));
            CHECK(all[i].ended == (all[i].tokens.size() == 24 ? "count" : "token"));
          }
        }
      }
    }
  }
}

TEST_CASE("side by side: recurrent models need no mask; room ends those that fill it; what cannot be is said") {
  // tokens [batch, 1] -> a state that mixes them in.
  Builder b("recurrent", 17);
  const ValueId tokens = b.input("tokens", DType::i64, {"batch", 1}), before = b.input("h_in", DType::f32, {"batch", 6});
  const ValueId row = b.op("Gather", {b.constant("table", random_tensor({20, 6}, 1)),
                                      b.op("Squeeze", {tokens, b.constant("one", Tensor::from<int64_t>({1}, {1}))})});
  const ValueId after = b.op("Tanh", {b.op("Add", {row, b.op("MatMul", {before, b.constant("again", random_tensor({6, 6}, 2))})})});
  b.output(b.op("MatMul", {after, b.constant("out", random_tensor({6, 20}, 3, -3, 3))}), "scores");
  b.output(b.op("Identity", {after}), "h_out");
  Generator recurrent(compile(b.finish(), {.states = {{"h_out", "h_in"}}}));
  GenerateOptions o;
  o.most = 9;
  const std::vector<Prompt> prompts{{{1, 2, 3}}, {{4}}, {{5, 6, 7, 8, 9, 10}}, {{11, 12}}};
  const auto all = recurrent.run_all(prompts, 3, o);
  for (size_t i = 0; i < prompts.size(); ++i) CHECK(all[i].tokens == recurrent.run(prompts[i].tokens, o).tokens);
  // Room for eight positions: prompts of several lengths end by it after as many tokens as are left.
  const Graph g = decoder({.mask = true, .causal = true, .told = true});
  Generator small(with_states(g, 1, 8));
  const auto ended = small.run_all(std::vector<Prompt>{{{1, 2, 3}}, {{1, 2, 3, 4, 5, 6}}, {{9}}}, 2, {.most = 30});
  for (size_t i = 0; i < 3; ++i) {
    const Generated one = small.run(std::vector<std::vector<int64_t>>{{1, 2, 3}, {1, 2, 3, 4, 5, 6}, {9}}[i], {.most = 30});
    CHECK(ended[i].ended == "room");
    CHECK(ended[i].tokens == one.tokens);
  }
  // One that is asked to end, and none at all.
  const auto asked = small.run_all(std::vector<Prompt>{{{1, 2}}, {{3}}}, 2, {.most = 5}, [](size_t i, int64_t) { return i != 0; });
  CHECK(asked[0].ended == "asked");
  CHECK(asked[0].tokens.size() == 1);
  CHECK(asked[1].tokens.size() == 5);
  CHECK(small.run_all({}, 2, {}).empty());
  CHECK(small.run_all(std::vector<Prompt>{{{1}}}, 2, {.most = 0})[0].ended == "count");
  const auto refused = [](Generator generator, std::vector<Prompt> some, int64_t width, const GenerateOptions& how = {}) {
    return error_of([&] { generator.run_all(some, width, how); });
  };
  CHECK(has(refused(Generator(with_states(g)), {{{1}}, {{}}}, 2), "prompt 2: the prompt is empty"));
  CHECK(has(refused(Generator(with_states(g)), {{{1}}, {{99}}}, 2), "prompt 2: token 99"));
  CHECK(has(refused(Generator(with_states(g)), {{{1}}}, 0), "side_by_side is 0"));
  CHECK(has(refused(Generator(with_states(g)), {{{1}}}, 2, {.beams = 3}), "without beams"));
  CHECK(has(refused(Generator(with_states(decoder(kCausal))), {{{1}}}, 2), "no input for what is there"));
  CHECK(has(refused(Generator(with_states(decoder({.mask = true, .causal = true}))), {{{1}}}, 2), "no input for where tokens stand"));
  // Joining by hand: what does not fit changes nothing.
  Lane lane(with_states(g)), other(with_states(g));
  const auto feed = [](Lane& l, Ints some) {
    const auto n = static_cast<int64_t>(some.size());
    l.run({{"tokens", Tensor::from<int64_t>({1, n}, some)},
           {"seen", Tensor::from<int64_t>({1, l.positions() + n}, Ints(static_cast<size_t>(l.positions() + n), 1))},
           {"positions", Tensor::from<int64_t>({1, n}, Ints(static_cast<size_t>(n), 3))}});
  };
  feed(lane, {1, 2});
  feed(other, {3, 4, 5});
  SavedState saved = other.save_state();
  lane.join(saved);
  CHECK(lane.positions() == 3);
  CHECK(lane.save_state().tensors[0].second.shape()[0] == 2);
  CHECK(lane.save_state().tensors[0].second.as<float>()[0] == 0);  // the shorter one's first position
  saved.tensors[0].second = Tensor(DType::f32, {1, 4, 3, 5});
  CHECK(has(error_of([&] { lane.join(saved); }), "expected one sequence more of the same sizes"));
  saved.tensors.erase(saved.tensors.begin());
  CHECK(has(error_of([&] { lane.join(saved); }), "is not among what is saved"));
  CHECK(lane.positions() == 3);
}

TEST_CASE("sequences end where they should, and what cannot be done is said") {
  const Graph g = decoder(kCausal);
  Generator generator(with_states(g));
  const auto all = generator.run(kPrompt, {.most = 8}).tokens;
  const Generated stopped = generator.run(kPrompt, {.most = 8, .stop_tokens = {all[5]}});
  CHECK(stopped.ended == "token");
  CHECK(stopped.tokens.size() <= 5);
  const Generated asked = generator.run(kPrompt, {.most = 8}, [&](int64_t) { return false; });
  CHECK(asked.ended == "asked");
  CHECK(asked.tokens.size() == 1);
  CHECK(generator.run(kPrompt, {.most = 0}).tokens.empty());
  Generator small(with_states(g, 1, 9));
  const Generated full = small.run(kPrompt, {.most = 80});
  CHECK(full.ended == "room");
  CHECK(full.tokens.size() == 5);  // the last of them is not fed any more
  CHECK(std::equal(full.tokens.begin(), full.tokens.end(), all.begin()));
  CHECK(has(error_of([&] { small.run(std::vector<int64_t>(10, 1), {}); }), "the prompt has 10 tokens, the program holds 9 at most"));
  CHECK(has(error_of([&] { generator.run({}, {}); }), "the prompt is empty"));
  CHECK(has(error_of([&] { generator.run(std::vector<int64_t>{3, 30}, {}); }), "token 30 of the prompt is not one of the model's 30"));
  CHECK(has(error_of([&] { generator.run(kPrompt, {.sampling = {.temperature = 1}, .beams = 2}); }), "temperature must be 0"));
  CHECK(has(error_of([&] { Generator(compile(g, {.threads = 1})); }), "nobody knows what to give to input 'past.0.keys'"));
  CHECK(has(error_of([&] { Generator(with_states(g), {.tokens = "token"}); }), "did you mean 'tokens'"));
  std::stop_source stop;
  stop.request_stop();
  CHECK(has(error_of([&] { generator.run(kPrompt, {.run = {.stop = stop.get_token()}}); }), "cancelled"));
  CHECK(generator.run(kPrompt, {.most = 8}).tokens == all);
}

TEST_CASE("text is held back while it may end what comes") {
  TextStream s({"STOP", "\n\n"});
  CHECK(s.add("abS") == "ab");
  CHECK(s.add("T") == "");
  CHECK(s.add("x\n") == "STx");
  CHECK(s.add("y") == "\ny");
  CHECK(s.add("zSTO") == "z");
  CHECK(s.add("Pmore") == "");
  CHECK(s.stopped());
  CHECK(s.add("more") == "");
  TextStream t({"ab"});
  CHECK(t.add("a") == "");
  CHECK(t.rest() == "a");
  TextStream none({});
  CHECK(none.add("x") == "x");
}
