// Sequences continued token by token: the prompt in one run, then one token a run; beams; drafts.
#include <cmath>
#include <numeric>

#include "generate/generator.hpp"

namespace lathe {
namespace {

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

void Generator::give(const std::string& input, Tensor value) {
  const auto& beside = impl_->roles.beside;
  if (std::ranges::find(beside, input) == beside.end())
    fail(Category::value, "input '{}' is not one of those beside the tokens ({})", input,
         beside.empty() ? std::string("there are none") : fmt::format("{}", fmt::join(beside, ", ")));
  impl_->given[input] = std::move(value);
}

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

std::vector<Generated> Generator::run_all(std::span<const Prompt> prompts, int64_t side_by_side, const GenerateOptions& options,
                                          const std::function<bool(size_t, int64_t)>& token) {
  check(options.sampling);
  if (side_by_side < 1) fail(Category::value, "side_by_side is {}, expected 1 or more", side_by_side);
  if (options.beams > 1 || impl_->draft) fail(Category::value, "sequences side by side go without beams and drafts");
  return impl_->side_by_side(prompts, side_by_side, options, token);
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
