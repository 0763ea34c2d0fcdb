// Recurrent layers: RNN, GRU, LSTM. Source: the standard's pages of the three ops; gate orders and equations are theirs.
#include "ops/recurrent.hpp"

#include <algorithm>
#include <cctype>
#include <cmath>

#include "ops/operands.hpp"
#include "ops/support.hpp"

namespace lathe::ops {
namespace {

enum class Cell { rnn, gru, lstm };
constexpr int gates_of(Cell c) { return c == Cell::rnn ? 1 : c == Cell::gru ? 3 : 4; }
constexpr int functions_of(Cell c) { return c == Cell::rnn ? 1 : c == Cell::gru ? 2 : 3; }

struct Layer {
  int64_t steps, batch, in, hidden, directions;
  bool batch_first;
};

Layer layer_of(const Node& n, Cell cell, const Shape& x, const Shape& w, const Shape& r) {
  const std::string direction = n.text("direction", "forward");
  if (direction != "forward" && direction != "reverse" && direction != "bidirectional")
    fail(Category::value, "direction is '{}', expected forward, reverse or bidirectional", direction);
  const int64_t gates = gates_of(cell);
  Layer l{};
  l.directions = direction == "bidirectional" ? 2 : 1;
  l.batch_first = n.integer("layout", 0) != 0;
  if (x.size() != 3 || w.size() != 3 || r.size() != 3)
    fail(Category::shape, "X, W and R are {}, {} and {}; all need rank 3", to_string(x), to_string(w), to_string(r));
  l.steps = x[l.batch_first ? 1 : 0];
  l.batch = x[l.batch_first ? 0 : 1];
  l.in = x[2];
  l.hidden = r[2];
  if (n.integer("hidden_size", l.hidden) != l.hidden)
    fail(Category::value, "hidden_size is {}, R has {}", n.integer("hidden_size", 0), l.hidden);
  if (w != Shape{l.directions, gates * l.hidden, l.in} || r != Shape{l.directions, gates * l.hidden, l.hidden}) {
    fail(Category::shape, "W and R are {} and {}, expected {} and {}", to_string(w), to_string(r),
         to_string(Shape{l.directions, gates * l.hidden, l.in}), to_string(Shape{l.directions, gates * l.hidden, l.hidden}));
  }
  return l;
}

// A name, whatever its case, with what stands where the model gives no parameter: NaN for those that take none.
struct Named {
  const char* name;
  Curve curve;
  double alpha = NAN, beta = NAN;
};
constexpr Named kCurves[]{{"sigmoid", Curve::sigmoid},
                          {"tanh", Curve::tanh},
                          {"relu", Curve::relu},
                          {"affine", Curve::affine, 1, 0},
                          {"leakyrelu", Curve::leaky_relu, 0.01},
                          {"thresholdedrelu", Curve::thresholded_relu, 1},
                          {"scaledtanh", Curve::scaled_tanh, 1, 1},
                          {"hardsigmoid", Curve::hard_sigmoid, 0.2, 0.5},
                          {"elu", Curve::elu, 1},
                          {"softsign", Curve::softsign},
                          {"softplus", Curve::softplus}};

const Named& curve_of(const std::string& name) {
  std::string lower;
  for (const char c : name) lower += static_cast<char>(std::tolower(static_cast<unsigned char>(c)));
  const auto it = std::ranges::find_if(kCurves, [&](const Named& k) { return lower == k.name; });
  if (it == std::end(kCurves)) fail(Category::value, "activation '{}' is not known", name);
  return *it;
}

// What depends on the attribute `layout`: lengths and initial states, against X. The rest is in the op's statement.
void check_states(const InferContext& c, Cell cell, const Layer& l, const Dims& x) {
  const Dim steps = x[l.batch_first ? 1 : 0], batch = x[l.batch_first ? 0 : 1];
  const auto expect = [&](int i, const char* name, const Dims& wanted) { expect_dims(c, i, name, wanted); };
  const Dims state = l.batch_first ? Dims{batch, Dim(l.directions), Dim(l.hidden)} : Dims{Dim(l.directions), batch, Dim(l.hidden)};
  expect(4, "sequence_lens", {batch});
  expect(5, "initial_h", state);
  if (cell == Cell::lstm) expect(6, "initial_c", state);
  if (const auto lengths = c.integers(4)) {
    for (int64_t n : *lengths)
      c.require(n >= 0 && (!steps.known() || n <= steps.value), Category::value,
                fmt::format("input 4 (sequence_lens) holds {}, expected 0 to {}", n, to_string(steps)));
  }
  recurrent_functions(c.node(), l.directions);
}

void infer_recurrent(InferContext& c, Cell cell) {
  const auto x = c.dims(0);
  const auto w = known_shape(c.dims(1)), r = known_shape(c.dims(2));
  if (!x || !w || !r) {
    for (int i = 0; i < 3; ++i) c.set(i, c.dtype(0), std::nullopt);
    return;
  }
  c.require(x->size() == 3, Category::shape, fmt::format("X is {}, expected rank 3", to_string(*x)));
  Shape probe;
  for (const Dim& d : *x) probe.push_back(d.known() ? d.value : 1);
  if (!(*x)[2].known() && w->size() == 3) probe[2] = (*w)[2];
  const Layer l = layer_of(c.node(), cell, probe, *w, *r);
  check_states(c, cell, l, *x);
  const Dim steps = (*x)[l.batch_first ? 1 : 0], batch = (*x)[l.batch_first ? 0 : 1];
  if (l.batch_first) {
    c.set(0, c.dtype(0), Dims{batch, steps, Dim(l.directions), Dim(l.hidden)});
    for (int i = 1; i < 3; ++i) c.set(i, c.dtype(0), Dims{batch, Dim(l.directions), Dim(l.hidden)});
  } else {
    c.set(0, c.dtype(0), Dims{steps, Dim(l.directions), batch, Dim(l.hidden)});
    for (int i = 1; i < 3; ++i) c.set(i, c.dtype(0), Dims{Dim(l.directions), batch, Dim(l.hidden)});
  }
}

// y += M x for rows x columns M.
void multiply_add(const double* m, const double* x, double* y, int64_t rows, int64_t columns) {
  for (int64_t i = 0; i < rows; ++i) {
    double sum = 0;
    for (int64_t j = 0; j < columns; ++j) sum += m[i * columns + j] * x[j];
    y[i] += sum;
  }
}

std::vector<Tensor> recurrent(const EvalContext& c, Cell cell) {
  const Layer l = layer_of(c.node, cell, c.in(0).shape(), c.in(1).shape(), c.in(2).shape());
  const int64_t h = l.hidden, gates = gates_of(cell), rows = gates * h;
  const auto x = widen<double>(c.in(0)), w = widen<double>(c.in(1)), r = widen<double>(c.in(2));
  const auto optional = [&](size_t i, int64_t count) {
    auto v = c.has(i) ? widen<double>(c.in(i)) : std::vector<double>(count, 0);
    if (static_cast<int64_t>(v.size()) != count)
      fail(Category::shape, "input {} has shape {}, expected {} elements", i, to_string(c.in(i).shape()), count);
    return v;
  };
  const auto bias = optional(3, l.directions * 2 * rows);
  const auto h0 = optional(5, l.directions * l.batch * h);
  const auto c0 = cell == Cell::lstm ? optional(6, l.directions * l.batch * h) : std::vector<double>();
  const auto peep = cell == Cell::lstm ? optional(7, l.directions * 3 * h) : std::vector<double>();
  const auto lengths = c.has(4) ? integers(c.in(4)) : std::vector<int64_t>(l.batch, l.steps);
  if (static_cast<int64_t>(lengths.size()) != l.batch)
    fail(Category::shape, "sequence_lens has {} entries, expected {}", lengths.size(), l.batch);
  for (int64_t n : lengths) {
    if (n < 0 || n > l.steps) fail(Category::value, "sequence length {} is outside 0..{}", n, l.steps);
  }
  const double clip = c.node.real("clip", INFINITY);
  const bool reset_after = c.node.integer("linear_before_reset", 0) != 0, coupled = c.node.integer("input_forget", 0) != 0;
  const std::string direction = c.node.text("direction", "forward");
  const int wanted = functions_of(cell);
  const std::vector<RecurrentFunction> f = recurrent_functions(c.node, l.directions);
  std::vector<double> y(l.steps * l.directions * l.batch * h, 0), last_h(l.directions * l.batch * h), last_c(last_h.size());
  std::vector<double> gx(rows), gh(rows), hidden(h), state(h), next(h), gated(h);
  for (int64_t d = 0; d < l.directions; ++d) {
    const bool backwards = direction == "reverse" || d == 1;
    const double *W = w.data() + d * rows * l.in, *R = r.data() + d * rows * h, *Wb = bias.data() + d * 2 * rows, *Rb = Wb + rows;
    const RecurrentFunction* fn = f.data() + d * wanted;
    const auto clipped = [&](double v) { return std::min(clip, std::max(-clip, v)); };
    for (int64_t b = 0; b < l.batch; ++b) {
      std::copy_n(h0.data() + (l.batch_first ? b * l.directions + d : d * l.batch + b) * h, h, hidden.data());
      if (cell == Cell::lstm) std::copy_n(c0.data() + (l.batch_first ? b * l.directions + d : d * l.batch + b) * h, h, state.data());
      for (int64_t step = 0; step < lengths[b]; ++step) {
        const int64_t t = backwards ? lengths[b] - 1 - step : step;
        const double* xt = x.data() + (l.batch_first ? b * l.steps + t : t * l.batch + b) * l.in;
        std::copy_n(Wb, rows, gx.data());
        multiply_add(W, xt, gx.data(), rows, l.in);
        std::copy_n(Rb, rows, gh.data());
        multiply_add(R, hidden.data(), gh.data(), cell == Cell::gru && !reset_after ? 2 * h : rows, h);
        if (cell == Cell::rnn) {
          for (int64_t i = 0; i < h; ++i) hidden[i] = fn[0](clipped(gx[i] + gh[i]));
        } else if (cell == Cell::gru) {  // gates z, r, h
          for (int64_t i = 0; i < h; ++i) {
            const double reset = fn[0](clipped(gx[h + i] + gh[h + i]));
            gated[i] = reset_after ? reset : reset * hidden[i];
          }
          if (!reset_after) multiply_add(R + 2 * h * h, gated.data(), gh.data() + 2 * h, h, h);
          for (int64_t i = 0; i < h; ++i) {
            const double z = fn[0](clipped(gx[i] + gh[i]));
            const double candidate = fn[1](clipped(gx[2 * h + i] + (reset_after ? gated[i] * gh[2 * h + i] : gh[2 * h + i])));
            next[i] = (1 - z) * candidate + z * hidden[i];
          }
          hidden = next;
        } else {  // gates i, o, f, c
          const double* P = peep.data() + d * 3 * h;
          for (int64_t i = 0; i < h; ++i) {
            const double in = fn[0](clipped(gx[i] + gh[i] + P[i] * state[i]));
            const double forget = coupled ? 1 - in : fn[0](clipped(gx[2 * h + i] + gh[2 * h + i] + P[2 * h + i] * state[i]));
            const double candidate = fn[1](clipped(gx[3 * h + i] + gh[3 * h + i]));
            state[i] = forget * state[i] + in * candidate;
            const double out = fn[0](clipped(gx[h + i] + gh[h + i] + P[h + i] * state[i]));
            hidden[i] = out * fn[2](state[i]);
          }
        }
        double* to = y.data() + (l.batch_first ? (b * l.steps + t) * l.directions + d : (t * l.directions + d) * l.batch + b) * h;
        std::copy_n(hidden.data(), h, to);
      }
      const int64_t at = (l.batch_first ? b * l.directions + d : d * l.batch + b) * h;
      std::copy_n(hidden.data(), h, last_h.data() + at);
      if (cell == Cell::lstm) std::copy_n(state.data(), h, last_c.data() + at);
    }
  }
  const Shape all = l.batch_first ? Shape{l.batch, l.steps, l.directions, h} : Shape{l.steps, l.directions, l.batch, h};
  const Shape last = l.batch_first ? Shape{l.batch, l.directions, h} : Shape{l.directions, l.batch, h};
  std::vector<Tensor> out{narrow<double>(c.in(0).dtype(), all, y), narrow<double>(c.in(0).dtype(), last, last_h)};
  if (cell == Cell::lstm) out.push_back(narrow<double>(c.in(0).dtype(), last, last_c));
  return out;
}

}  // namespace

double RecurrentFunction::operator()(double x) const {
  switch (curve) {
    case Curve::sigmoid: return 1 / (1 + std::exp(-x));
    case Curve::tanh: return std::tanh(x);
    case Curve::relu: return x < 0 ? 0 : x;
    case Curve::affine: return alpha * x + beta;
    case Curve::leaky_relu: return x < 0 ? alpha * x : x;
    case Curve::thresholded_relu: return x > alpha ? x : 0;
    case Curve::scaled_tanh: return alpha * std::tanh(beta * x);
    case Curve::hard_sigmoid: return std::min(1.0, std::max(0.0, alpha * x + beta));
    case Curve::elu: return x < 0 ? alpha * std::expm1(x) : x;
    case Curve::softsign: return x / (1 + std::fabs(x));
    case Curve::softplus: return x > 0 ? x + std::log1p(std::exp(-x)) : std::log1p(std::exp(x));
  }
  return x;
}

std::vector<RecurrentFunction> recurrent_functions(const Node& n, int64_t directions) {
  const Cell cell = n.op == "LSTM" ? Cell::lstm : n.op == "GRU" ? Cell::gru : Cell::rnn;
  const auto* given = n.find<std::vector<std::string>>("activations");
  std::vector<std::string> names = given ? *given : std::vector<std::string>();
  for (const std::string& name : names) curve_of(name);
  if (names.empty()) {
    for (int64_t d = 0; d < directions; ++d) {
      if (cell != Cell::rnn) names.emplace_back("Sigmoid");
      names.emplace_back("Tanh");
      if (cell == Cell::lstm) names.emplace_back("Tanh");
    }
  }
  if (static_cast<int64_t>(names.size()) != functions_of(cell) * directions)
    fail(Category::value, "attribute 'activations' has {} entries, expected {}", names.size(), functions_of(cell) * directions);
  // Parameters are listed for the functions that take one, in their order.
  const auto* alphas = n.find<std::vector<float>>("activation_alpha");
  const auto* betas = n.find<std::vector<float>>("activation_beta");
  size_t next_alpha = 0, next_beta = 0;
  std::vector<RecurrentFunction> functions;
  for (const std::string& name : names) {
    const Named& k = curve_of(name);
    RecurrentFunction f{k.curve, k.alpha, k.beta};
    if (alphas && !std::isnan(k.alpha) && next_alpha < alphas->size()) f.alpha = static_cast<double>((*alphas)[next_alpha++]);
    if (betas && !std::isnan(k.beta) && next_beta < betas->size()) f.beta = static_cast<double>((*betas)[next_beta++]);
    functions.push_back(f);
  }
  return functions;
}

void add_recurrent(std::vector<OpDef>& out) {
  const auto add = [&](const char* name, Cell cell, int inputs, int outputs) {
    OpDef d = def(
        name, 7, 3, inputs, Trait::opaque, [cell](InferContext& c) { infer_recurrent(c, cell); },
        [cell](const EvalContext& c) { return recurrent(c, cell); }, outputs);
    d.min_outputs = 0;
    out.push_back(std::move(d));
  };
  add("RNN", Cell::rnn, 6, 2);
  add("GRU", Cell::gru, 6, 2);
  add("LSTM", Cell::lstm, 8, 3);
}

}  // namespace lathe::ops
