// Tokens into a model, and rows of scores out of it.
#include "generate/generator.hpp"

namespace lathe {
namespace {

const Port& port(const std::vector<Port>& ports, const std::string& name) { return *std::ranges::find(ports, name, &Port::name); }

Tensor& sized(Tensor& t, DType dtype, const Shape& shape) {
  if (t.empty() || t.dtype() != dtype || t.shape() != shape) t = Tensor(dtype, shape);
  return t;
}

// What each of its elements is, by sequence and place in it.
template <typename F>
void put(Tensor& t, int64_t sequences, F value) {
  const auto fill = [&]<typename T>(T) {
    T* to = t.as<T>().data();
    const int64_t each = t.size() / sequences;
    for (int64_t b = 0; b < sequences; ++b) {
      for (int64_t i = 0; i < each; ++i) *to++ = static_cast<T>(value(b, i));
    }
  };
  switch (t.dtype()) {
    case DType::f32: return fill(float{});
    case DType::f64: return fill(double{});
    case DType::i64: return fill(int64_t{});
    case DType::i32: return fill(int32_t{});
    case DType::boolean: return fill(bool{});
    default: fail(Category::type, "an input of {} is not known how to fill", to_string(t.dtype()));
  }
}

}  // namespace

Generator::Impl::Impl(Program p, const Roles& given, int threads)
    : program(std::move(p)), roles(find_roles(program, given)), lane(program, threads) {
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

void Generator::Impl::feed(std::span<const int64_t> ids, int64_t batch, const RunOptions& run) {
  const auto count = static_cast<int64_t>(ids.size()) / batch;
  if (one_at_a_time && count > 1) {
    std::vector<int64_t> some(static_cast<size_t>(batch));
    for (int64_t i = 0; i < count; ++i) {
      for (int64_t b = 0; b < batch; ++b) some[static_cast<size_t>(b)] = ids[static_cast<size_t>(b * count + i)];
      feed(some, batch, run);
    }
    return;
  }
  const std::vector<int64_t> none(static_cast<size_t>(batch), 0);
  if (stateless) {  // everything again
    std::vector<int64_t> whole;
    const auto had = static_cast<int64_t>(history.size()) / batch;
    for (int64_t b = 0; b < batch; ++b) {
      whole.insert(whole.end(), history.begin() + b * had, history.begin() + (b + 1) * had);
      whole.insert(whole.end(), ids.begin() + b * count, ids.begin() + (b + 1) * count);
    }
    forward({&lane, batch, had + count, whole, none, none, 0}, run);
    history = std::move(whole);
  } else {
    const std::vector<int64_t> at(static_cast<size_t>(batch), positions);
    forward({&lane, batch, count, ids, at, none, positions}, run);
  }
  positions += count;
}

void Generator::Impl::forward(const Fed& f, const RunOptions& run) {
  const auto shape = [&](int64_t count) { return flat ? Shape{count} : Shape{f.batch, count}; };
  Tensor& t = sized(tokens, port(program.inputs(), roles.tokens).dtype, shape(f.count));
  put(t, f.batch, [&](int64_t b, int64_t i) { return f.ids[static_cast<size_t>(b * f.count + i)]; });
  std::vector<NamedInput> in{{roles.tokens, t}};
  if (!roles.positions.empty()) {
    Tensor& p = sized(places, port(program.inputs(), roles.positions).dtype, shape(f.count));
    put(p, f.batch, [&](int64_t b, int64_t i) { return f.at[static_cast<size_t>(b)] + i; });
    in.push_back({roles.positions, p});
  }
  if (!roles.mask.empty()) {
    const int64_t all = long_mask ? f.before + f.count : f.count;
    Tensor& m = sized(mask, port(program.inputs(), roles.mask).dtype, shape(all));
    put(m, f.batch, [&](int64_t b, int64_t i) { return int64_t{!long_mask || i >= f.hidden[static_cast<size_t>(b)]}; });
    in.push_back({roles.mask, m});
  }
  for (const std::string& name : roles.beside) {
    const auto it = given.find(name);
    if (it == given.end()) fail(Category::value, "input '{}' has been given no value", name);
    in.push_back({name, it->second});
  }
  const auto start = Clock::now();
  const Outputs out = f.lane->run(in, run);
  model_seconds += since(start);
  scores = out[roles.scores];
  const Shape& s = scores.shape();
  const int64_t rows = s.size() == 3 ? s[0] * s[1] : s.size() == 2 ? s[0] : 0;
  rows_each = rows / f.batch;
  if (rows_each < 1 || rows != rows_each * f.batch || (rows_each != 1 && rows_each != f.count))
    fail(Category::shape, "output '{}' is {}, expected scores of each token of {} ([batch, new, vocabulary])", roles.scores, to_string(s),
         f.count);
  if (vocabulary == 0) vocabulary = s.back();
  if (scores.dtype() == DType::f32) return;
  const auto all_scores = widen<double>(scores);
  wide.assign(all_scores.begin(), all_scores.end());
}

std::span<const float> Generator::Impl::row(int64_t sequence, int64_t from_end) const {
  const int64_t v = scores.shape().back(), at = (sequence + 1) * rows_each - 1 - from_end;
  if (from_end >= rows_each)
    fail(Category::value, "output '{}' gives the scores of the last token alone: several proposed ones cannot be checked at once",
         roles.scores);
  const float* all = scores.dtype() == DType::f32 ? scores.as<float>().data() : wide.data();
  return {all + at * v, static_cast<size_t>(v)};
}

void Generator::Impl::reset() {
  lane.reset();
  history.clear();
  positions = 0;
  model_seconds = 0;
}

void Generator::Impl::back(int64_t n) {
  if (n == 0) return;
  if (stateless) history.resize(history.size() - static_cast<size_t>(n));
  else lane.rewind(n);
  positions -= n;
}

void Generator::Impl::arrange(const std::vector<int64_t>& from, int64_t before) {
  if (!stateless) return lane.arrange(from);
  const auto each = static_cast<int64_t>(history.size()) / before;
  std::vector<int64_t> next;
  for (const int64_t f : from) next.insert(next.end(), history.begin() + f * each, history.begin() + (f + 1) * each);
  history = std::move(next);
}

void Generator::Impl::check_prompt(std::span<const int64_t> prompt) const {
  if (prompt.empty()) fail(Category::value, "the prompt is empty: there must be a token to begin with");
  for (const int64_t t : prompt) {
    if (t < 0 || (vocabulary > 0 && t >= vocabulary))
      fail(Category::value, "token {} of the prompt is not one of the model's {}", t, vocabulary);
  }
  const int64_t room = program.options().positions;
  if (room > 0 && static_cast<int64_t>(prompt.size()) > room)
    fail(Category::value, "the prompt has {} tokens, the program holds {} at most", prompt.size(), program.options().positions);
}

}  // namespace lathe
