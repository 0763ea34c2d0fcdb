// Sequences continued token by token: the prompt in one run, then one token a run; beams; drafts.
#include <algorithm>
#include <chrono>
#include <cmath>
#include <numeric>

#include "base/fail.hpp"
#include "lathe/generate.hpp"
#include "tensor/widen.hpp"

namespace lathe {
namespace {

using Clock = std::chrono::steady_clock;
double since(Clock::time_point t) { return std::chrono::duration<double>(Clock::now() - t).count(); }

const Port& port(const std::vector<Port>& ports, const std::string& name) { return *std::ranges::find(ports, name, &Port::name); }

template <typename T>
void fill_with(Tensor& t, T value) {
  std::ranges::fill(t.as<T>(), value);
}

void fill_ones(Tensor& t) {
  switch (t.dtype()) {
    case DType::f32: return fill_with(t, 1.0f);
    case DType::f64: return fill_with(t, 1.0);
    case DType::i64: return fill_with(t, int64_t{1});
    case DType::i32: return fill_with(t, int32_t{1});
    case DType::boolean: return fill_with(t, true);
    default: fail(Category::type, "a mask of {} is not known how to fill", to_string(t.dtype()));
  }
}

}  // namespace

struct Generator::Impl {
  Impl(Program p, const Roles& given, int threads) : program(std::move(p)), roles(find_roles(program, given)), lane(program, threads) {
    const Port& tokens = port(program.inputs(), roles.tokens);
    if (!tokens.dims || tokens.dims->empty() || tokens.dims->size() > 2)
      fail(Category::value, "input '{}' is {}, expected tokens as [new] or [batch, new]", tokens.name,
           tokens.dims ? to_string(*tokens.dims) : "?");
    flat = tokens.dims->size() == 1;
    const Dim& fresh = tokens.dims->back();
    one_at_a_time = fresh.known() && fresh.value == 1;
    if (fresh.known() && !one_at_a_time)
      fail(Category::value, "input '{}' takes {} tokens at a time, expected 1 or an open size; export the model with it left open",
           tokens.name, fresh.value);
    if (!flat && tokens.dims->front().known()) most_sequences = tokens.dims->front().value;
    if (flat) most_sequences = 1;
    stateless = program.states().empty();
    if (stateless && one_at_a_time)
      fail(Category::value, "the model takes one token and keeps nothing: its states are not known; pair its outputs with its inputs");
    if (!roles.mask.empty()) {
      const Port& mask = port(program.inputs(), roles.mask);
      long_mask = mask.dims && !mask.dims->empty() && mask.dims->back() != fresh;
      if (!mask.dims || mask.dims->size() != tokens.dims->size())
        fail(Category::value, "the mask '{}' is {}, expected as many axes as the tokens '{}' have", mask.name,
             mask.dims ? to_string(*mask.dims) : "?", tokens.name);
    }
    const Port& scores = port(program.outputs(), roles.scores);
    if (scores.dims && !scores.dims->empty() && scores.dims->back().known()) vocabulary = scores.dims->back().value;
  }

  Shape shape_of(int64_t batch, int64_t count) const { return flat ? Shape{count} : Shape{batch, count}; }

  static Tensor& sized(Tensor& t, DType dtype, const Shape& shape) {
    if (t.empty() || t.dtype() != dtype || t.shape() != shape) t = Tensor(dtype, shape);
    return t;
  }

  template <typename F>
  static void put(Tensor& t, F value) {
    for (int64_t i = 0; i < t.size(); ++i) {
      if (t.dtype() == DType::i64) t.as<int64_t>()[static_cast<size_t>(i)] = value(i);
      else t.as<int32_t>()[static_cast<size_t>(i)] = static_cast<int32_t>(value(i));
    }
  }

  // Runs `batch` sequences on by `count` tokens each; rows of scores are there then.
  void feed(std::span<const int64_t> ids, int64_t batch, const RunOptions& run) {
    const auto count = static_cast<int64_t>(ids.size()) / batch;
    if (one_at_a_time && count > 1) {
      std::vector<int64_t> some(static_cast<size_t>(batch));
      for (int64_t i = 0; i < count; ++i) {
        for (int64_t b = 0; b < batch; ++b) some[static_cast<size_t>(b)] = ids[static_cast<size_t>(b * count + i)];
        feed(some, batch, run);
      }
      return;
    }
    std::span<const int64_t> given = ids;
    int64_t from = positions, all = count;
    std::vector<int64_t> whole;
    if (stateless) {  // everything again
      const auto had = static_cast<int64_t>(history.size()) / batch;
      for (int64_t b = 0; b < batch; ++b) {
        whole.insert(whole.end(), history.begin() + b * had, history.begin() + (b + 1) * had);
        whole.insert(whole.end(), ids.begin() + b * count, ids.begin() + (b + 1) * count);
      }
      given = whole, from = 0, all = had + count;
    }
    Tensor& t = sized(tokens, port(program.inputs(), roles.tokens).dtype, shape_of(batch, all));
    put(t, [&](int64_t i) { return given[static_cast<size_t>(i)]; });
    std::vector<NamedInput> in{{roles.tokens, t}};
    if (!roles.positions.empty()) {
      Tensor& p = sized(places, port(program.inputs(), roles.positions).dtype, shape_of(batch, all));
      put(p, [&](int64_t i) { return from + i % all; });
      in.push_back({roles.positions, p});
    }
    if (!roles.mask.empty()) {
      fill_ones(sized(mask, port(program.inputs(), roles.mask).dtype, shape_of(batch, long_mask ? from + all : all)));
      in.push_back({roles.mask, mask});
    }
    const auto start = Clock::now();
    const Outputs out = lane.run(in, run);
    model_seconds += since(start);
    scores = out[roles.scores];
    if (stateless) history = std::move(whole);
    positions += count;
    const Shape& s = scores.shape();
    const int64_t rows = s.size() == 3 ? s[0] * s[1] : s.size() == 2 ? s[0] : 0;
    rows_each = rows / batch;
    if (rows_each < 1 || rows != rows_each * batch || (rows_each != 1 && rows_each != all))
      fail(Category::shape, "output '{}' is {}, expected scores of each token of {} ([batch, new, vocabulary])", roles.scores, to_string(s),
           all);
    if (vocabulary == 0) vocabulary = s.back();
    if (scores.dtype() == DType::f32) return;
    const auto all_scores = widen<double>(scores);
    wide.assign(all_scores.begin(), all_scores.end());
  }

  // Scores after the i-th token from the end that was fed last (0: the last) of a sequence.
  std::span<const float> row(int64_t sequence, int64_t from_end = 0) const {
    const int64_t v = scores.shape().back(), at = (sequence + 1) * rows_each - 1 - from_end;
    if (from_end >= rows_each)
      fail(Category::value, "output '{}' gives the scores of the last token alone: several proposed ones cannot be checked at once",
           roles.scores);
    const float* all = scores.dtype() == DType::f32 ? scores.as<float>().data() : wide.data();
    return {all + at * v, static_cast<size_t>(v)};
  }

  void reset() {
    lane.reset();
    history.clear();
    positions = 0;
    model_seconds = 0;
  }
  void back(int64_t n) {
    if (n == 0) return;
    if (stateless) history.resize(history.size() - static_cast<size_t>(n));
    else lane.rewind(n);
    positions -= n;
  }
  void arrange(const std::vector<int64_t>& from, int64_t before) {
    if (!stateless) return lane.arrange(from);
    const auto each = static_cast<int64_t>(history.size()) / before;
    std::vector<int64_t> next;
    for (const int64_t f : from) next.insert(next.end(), history.begin() + f * each, history.begin() + (f + 1) * each);
    history = std::move(next);
  }
  bool fits(int64_t more) const { return program.options().positions == 0 || positions + more <= program.options().positions; }

  void check_prompt(std::span<const int64_t> prompt) const {
    if (prompt.empty()) fail(Category::value, "the prompt is empty: there must be a token to begin with");
    for (const int64_t t : prompt) {
      if (t < 0 || (vocabulary > 0 && t >= vocabulary))
        fail(Category::value, "token {} of the prompt is not one of the model's {}", t, vocabulary);
    }
    if (!fits(static_cast<int64_t>(prompt.size())))
      fail(Category::value, "the prompt has {} tokens, the program holds {} at most", prompt.size(), program.options().positions);
  }

  Program program;
  Roles roles;
  Lane lane;
  bool flat = false, one_at_a_time = false, stateless = false, long_mask = false;
  int64_t most_sequences = INT64_MAX, vocabulary = 0, positions = 0, rows_each = 1;
  double model_seconds = 0;
  std::vector<int64_t> history;  // of models without states: all tokens of each sequence, one after another
  Tensor tokens, places, mask, scores;
  std::vector<float> wide;
  Impl* draft = nullptr;

  Generated one_by_one(std::span<const int64_t> prompt, const GenerateOptions& o, const std::function<bool(int64_t)>& token);
  Generated with_beams(std::span<const int64_t> prompt, const GenerateOptions& o, const std::function<bool(int64_t)>& token);
};

namespace {

bool stops(const GenerateOptions& o, int64_t token) { return std::ranges::find(o.stop_tokens, token) != o.stop_tokens.end(); }

// Logarithms of what the softmax of a row gives.
std::vector<double> log_likelihoods(std::span<const float> row) {
  double top = -HUGE_VAL, sum = 0;
  for (const float v : row) top = std::max(top, double{v});
  for (const float v : row) sum += std::exp(v - top);
  std::vector<double> out;
  for (const float v : row) out.push_back(v - top - std::log(sum));
  return out;
}

}  // namespace

Generated Generator::Impl::one_by_one(std::span<const int64_t> prompt, const GenerateOptions& o,
                                      const std::function<bool(int64_t)>& token) {
  Generated g;
  g.prompt = static_cast<int64_t>(prompt.size());
  std::vector<int64_t> so_far(prompt.begin(), prompt.end());
  UnitNumbers numbers(o.seed);
  std::vector<double> drawn;
  const auto u = [&](size_t i) {  // of the i-th new token, whoever asks for it, and how often
    while (o.sampling.temperature > 0 && drawn.size() <= i) drawn.push_back(numbers.next());
    return o.sampling.temperature > 0 ? drawn[i] : 0;
  };
  const auto start = Clock::now();
  feed(prompt, 1, o.run);
  if (draft) draft->feed(prompt, 1, o.run);
  auto first = start;
  // Says a token; whether it goes on.
  const auto say = [&](int64_t t) {
    if (g.tokens.empty()) {
      g.first_seconds = since(start);
      first = Clock::now();
      model_seconds = 0;
      if (draft) draft->model_seconds = 0;
    }
    if (stops(o, t)) {
      g.ended = "token";
      return false;
    }
    so_far.push_back(t);
    g.tokens.push_back(t);
    if (token && !token(t)) g.ended = "asked";
    else if (static_cast<int64_t>(g.tokens.size()) >= o.most) g.ended = "count";
    return g.ended.empty();
  };
  bool on = o.most > 0 && say(pick(row(0), so_far, o.sampling, u(0)));
  if (o.most <= 0) g.ended = "count";
  std::vector<int64_t> lacking;  // what the draft has not been fed yet, before the last token
  while (on) {
    const int64_t last = so_far.back();
    if (!fits(1)) {
      g.ended = "room";
      break;
    }
    const auto wanted =
        static_cast<int64_t>(draft ? std::min<int64_t>(o.look_ahead, o.most - static_cast<int64_t>(g.tokens.size()) - 1) : 0);
    if (wanted <= 0 || !fits(1 + wanted) || !draft->fits(static_cast<int64_t>(lacking.size()) + wanted)) {
      if (draft) lacking.push_back(last);
      feed(std::span(&last, 1), 1, o.run);
      on = say(pick(row(0), so_far, o.sampling, u(g.tokens.size())));
      continue;
    }
    // Proposed one by one, with the numbers that the real ones will be drawn by, then checked in one run.
    std::vector<int64_t> proposed{last}, line = so_far;
    lacking.push_back(last);
    draft->feed(lacking, 1, o.run);
    lacking.clear();
    for (int64_t i = 0; i < wanted; ++i) {
      const int64_t t = pick(draft->row(0), line, o.sampling, u(g.tokens.size() + static_cast<size_t>(i)));
      proposed.push_back(t);
      line.push_back(t);
      if (i + 1 < wanted) draft->feed(std::span(&t, 1), 1, o.run);
    }
    feed(proposed, 1, o.run);
    g.proposed += wanted;
    int64_t kept = 0;
    while (on) {
      const int64_t t = pick(row(0, wanted - kept), so_far, o.sampling, u(g.tokens.size()));
      on = say(t);
      if (kept == wanted || t != proposed[static_cast<size_t>(kept) + 1]) break;
      ++kept;
    }
    g.kept += kept;
    if (!on) break;
    back(wanted - kept);
    if (kept == wanted) lacking.push_back(proposed.back());
    else draft->back(wanted - 1 - kept);
  }
  g.seconds = g.tokens.empty() ? 0 : since(first);
  g.model_seconds = model_seconds + (draft ? draft->model_seconds : 0);
  return g;
}

Generated Generator::Impl::with_beams(std::span<const int64_t> prompt, const GenerateOptions& o,
                                      const std::function<bool(int64_t)>& token) {
  struct Beam {
    std::vector<int64_t> tokens;
    double sum = 0;
  };
  Generated g;
  g.prompt = static_cast<int64_t>(prompt.size());
  const auto start = Clock::now();
  feed(prompt, 1, o.run);
  g.first_seconds = since(start);
  model_seconds = 0;
  const auto first = Clock::now();
  std::vector<Beam> alive{{}}, ended;
  const auto better = [](const Beam& a, const Beam& b) { return a.sum > b.sum; };
  std::string why = "count";
  for (int64_t n = 0; n < o.most; ++n) {
    struct Candidate {
      double sum;
      int64_t beam, token;
      bool operator<(const Candidate& c) const { return sum != c.sum ? sum > c.sum : beam != c.beam ? beam < c.beam : token < c.token; }
    };
    std::vector<Candidate> all;
    for (size_t b = 0; b < alive.size(); ++b) {
      const auto likely = log_likelihoods(row(static_cast<int64_t>(b)));
      for (size_t t = 0; t < likely.size(); ++t)
        all.push_back({alive[b].sum + likely[t], static_cast<int64_t>(b), static_cast<int64_t>(t)});
    }
    // Those that end take no place of those that go on.
    const size_t some = std::min(all.size(), static_cast<size_t>(o.beams) * (1 + o.stop_tokens.size()));
    std::partial_sort(all.begin(), all.begin() + static_cast<ptrdiff_t>(some), all.end());
    std::vector<Beam> next;
    std::vector<int64_t> from, fed;
    for (size_t i = 0; i < some && next.size() < static_cast<size_t>(o.beams); ++i) {
      const Candidate& c = all[i];
      Beam beam{alive[static_cast<size_t>(c.beam)].tokens, c.sum};
      if (stops(o, c.token)) {
        ended.push_back(std::move(beam));
        continue;
      }
      beam.tokens.push_back(c.token);
      next.push_back(std::move(beam));
      from.push_back(c.beam);
      fed.push_back(c.token);
    }
    const auto before = static_cast<int64_t>(alive.size());
    alive = std::move(next);
    if (alive.empty()) break;
    // Sums only fall: nothing alive can pass what has ended so well.
    if (!ended.empty() && std::ranges::min_element(ended, better)->sum >= alive.front().sum) break;
    if (n + 1 == o.most) break;
    if (!fits(1)) {
      why = "room";
      break;
    }
    arrange(from, before);
    feed(fed, static_cast<int64_t>(alive.size()), o.run);
  }
  std::vector<Beam> last = ended;
  const size_t finished = ended.size();
  last.insert(last.end(), alive.begin(), alive.end());
  const auto best = std::ranges::min_element(last, better);
  g.ended = static_cast<size_t>(best - last.begin()) < finished ? "token" : why;
  g.tokens = best->tokens;
  g.log_likelihood = best->sum;
  g.seconds = since(first);
  g.model_seconds = model_seconds;
  for (const int64_t t : g.tokens) {
    if (token && !token(t)) break;
  }
  return g;
}

Generator::Generator(Program program, const Roles& roles, int threads)
    : impl_(std::make_unique<Impl>(std::move(program), roles, threads)) {}
Generator::~Generator() = default;
Generator::Generator(Generator&&) noexcept = default;

const Roles& Generator::roles() const { return impl_->roles; }
int64_t Generator::vocabulary() const { return impl_->vocabulary; }
Lane& Generator::lane() { return impl_->lane; }

void Generator::draft(Generator& other) {
  for (const Impl* g : {impl_.get(), other.impl_.get()}) {
    if (g->one_at_a_time && g == impl_.get())
      fail(Category::value, "a model that takes one token at a time cannot check several that a draft proposes");
    for (const StateInfo& s : g->program.states()) {
      if (s.axis < 0)
        fail(Category::value, "state '{}' does not grow: a model that keeps it cannot go back when what a draft proposed is not taken",
             s.pair.input);
    }
  }
  if (impl_->vocabulary > 0 && other.impl_->vocabulary > 0 && impl_->vocabulary != other.impl_->vocabulary)
    fail(Category::value, "the draft tells {} tokens apart, the model {}: they must have the same vocabulary", other.impl_->vocabulary,
         impl_->vocabulary);
  impl_->draft = other.impl_.get();
}

Generated Generator::run(std::span<const int64_t> prompt, const GenerateOptions& options, const std::function<bool(int64_t)>& token) {
  check(options.sampling);
  if (options.beams < 1) fail(Category::value, "beams is {}, expected 1 or more", options.beams);
  if (options.look_ahead < 1) fail(Category::value, "look_ahead is {}, expected 1 or more", options.look_ahead);
  if (options.beams > 1 && options.sampling.temperature > 0)
    fail(Category::value, "beams keep the most likely sequences: temperature must be 0");
  if (options.beams > 1 && impl_->draft) fail(Category::value, "beams and a draft do not go together");
  if (options.beams > impl_->most_sequences)
    fail(Category::value, "{} beams need as many sequences side by side, input '{}' takes {}", options.beams, impl_->roles.tokens,
         impl_->most_sequences);
  impl_->check_prompt(prompt);
  impl_->reset();
  if (impl_->draft) {
    impl_->draft->check_prompt(prompt);
    impl_->draft->reset();
  }
  return options.beams > 1 ? impl_->with_beams(prompt, options, token) : impl_->one_by_one(prompt, options, token);
}

}  // namespace lathe
