#include "lathe/sweep.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <cstring>
#include <fstream>
#include <random>
#include <set>
#include <ctime>
#include <thread>

#include "base/clock.hpp"
#include "base/fail.hpp"
#include "base/library.hpp"
#include "base/memory.hpp"
#include "kernels/isa.hpp"
#include "kernels/probe.hpp"
#include "lathe/builder.hpp"
#include "tensor/widen.hpp"

namespace lathe {
namespace {

// ---- cases ----

std::vector<std::string> split(const std::string& text, char by) {
  std::vector<std::string> out{""};
  for (char c : text) {
    if (c == by) out.emplace_back();
    else out.back() += c;
  }
  return out;
}

[[noreturn]] void bad_size(const SweepRequest& r, const std::string& size, const char* form) {
  fail(Category::value, "size '{}' of {}: expected {}", size, r.op, form);
}

int64_t number(const SweepRequest& r, const std::string& size, const std::string& text, const char* form) {
  int64_t base = 0, power = -1;
  size_t used = 0;
  try {
    base = std::stoll(text, &used);
    if (used < text.size() && text[used] == '^') {
      size_t more = 0;
      power = std::stoll(text.substr(used + 1), &more);
      used += 1 + more;
    }
  } catch (const std::exception&) {
    bad_size(r, size, form);
  }
  if (used != text.size() || base <= 0 || power > 40) bad_size(r, size, form);
  constexpr int64_t kMost = int64_t{1} << 40;
  if (base > kMost) bad_size(r, size, form);
  int64_t value = power < 0 ? base : 1;
  for (int64_t i = 0; i < power; ++i) {
    if (value > kMost / base) bad_size(r, size, form);
    value *= base;
  }
  return value;
}

Shape numbers(const SweepRequest& r, const std::string& size, const std::string& text, const char* form) {
  Shape out;
  for (const std::string& part : split(text, 'x')) out.push_back(number(r, size, part, form));
  return out;
}

Tensor random_tensor(DType dtype, const Shape& shape, uint64_t seed, double low = -1, double high = 1) {
  std::mt19937_64 random(seed);
  const int64_t n = element_count(shape);
  if (dtype == DType::f32) {
    Tensor t(dtype, shape);
    std::uniform_real_distribution<float> real(static_cast<float>(low), static_cast<float>(high));
    for (float& v : t.as<float>()) v = real(random);
    return t;
  }
  std::vector<double> v(static_cast<size_t>(n));
  std::uniform_real_distribution<double> real(low, high);
  const auto whole = [&](double from, double to) {
    std::uniform_int_distribution<int> d(static_cast<int>(from), static_cast<int>(to));
    for (double& e : v) e = d(random);
  };
  switch (dtype) {
    case DType::u8: whole(0, 255); break;
    case DType::i8: whole(-127, 127); break;
    case DType::boolean: whole(0, 1); break;
    default:
      if (is_float(dtype))
        for (double& e : v) e = real(random);
      else whole(0, 100);
  }
  return narrow<double>(dtype, shape, v);
}

double bytes_of(const Graph& g, ValueId v) {
  const Value& value = g.values[v];
  return static_cast<double>(Tensor::borrow(value.dtype, *known_shape(value.dims), nullptr).byte_size());
}

class Maker {
 public:
  Maker(const SweepRequest& request, std::string name) : r(request), b("sweep", 23) { made.name = std::move(name); }

  ValueId fed(DType dtype, const Shape& shape, double low = -1, double high = 1) {
    made.fed.push_back(random_tensor(dtype, shape, r.seed + 17 * made.fed.size(), low, high));
    return b.input(fmt::format("x{}", made.fed.size() - 1), dtype, Dims(shape.begin(), shape.end()));
  }
  ValueId constant(Tensor t) { return b.constant(fmt::format("w{}", count_++), std::move(t)); }
  ValueId weight(DType dtype, const Shape& shape, double low = -1, double high = 1) {
    return constant(random_tensor(dtype, shape, r.seed + 1000 + static_cast<uint64_t>(count_), low, high));
  }
  ValueId scalar(float v) { return constant(Tensor::from<float>({}, {v})); }
  ValueId zero_point(DType dtype, double v) { return constant(narrow<double>(dtype, {}, std::vector<double>{v})); }

  SweepCase finish(std::vector<ValueId> outputs, double size, double flops) {
    for (ValueId v : outputs) b.output(v);
    made.graph = b.finish();
    made.flops = flops;
    std::set<ValueId> seen;
    for (const Node& n : made.graph.nodes) {
      for (ValueId v : n.inputs) {
        const bool outside =
            v != kAbsent && (made.graph.values[v].constant || std::ranges::find(made.graph.inputs, v) != made.graph.inputs.end());
        if (outside && seen.insert(v).second) made.read += bytes_of(made.graph, v);
      }
    }
    for (ValueId v : made.graph.outputs) made.written += bytes_of(made.graph, v);
    made.size = size > 0 ? size : flops;
    return std::move(made);
  }

  const SweepRequest& r;
  Builder b;
  SweepCase made;

 private:
  int count_ = 0;
};

SweepCase product_case(const SweepRequest& r, const std::string& size) {
  constexpr const char* kForm = "MxNxK, as 128x768x768, or B*MxNxK for a batch";
  const auto star = split(size, '*');
  if (star.size() > 2) bad_size(r, size, kForm);
  const Shape mnk = numbers(r, size, star.back(), kForm);
  if (mnk.size() != 3) bad_size(r, size, kForm);
  const int64_t batch = star.size() == 2 ? number(r, size, star[0], kForm) : 0, m = mnk[0], n = mnk[1], k = mnk[2];
  Maker mk(r, size);
  const double flops = 2.0 * static_cast<double>(std::max<int64_t>(1, batch)) * static_cast<double>(m * n) * static_cast<double>(k);
  const auto with_batch = [&](Shape s) {
    if (batch > 0) s.insert(s.begin(), batch);
    return s;
  };
  if (r.op == "MatMul") {
    const ValueId a = mk.fed(r.dtype, with_batch({m, k}));
    ValueId w;
    if (batch > 0) w = mk.fed(r.dtype, with_batch({k, n}));
    else if (r.weights == DType::undefined || r.weights == r.dtype) w = mk.weight(r.dtype, {k, n});
    else w = mk.b.op("Cast", {mk.weight(r.weights, {k, n})}, {{"to", int64_t{1}}});
    return mk.finish({mk.b.op("MatMul", {a, w})}, 0, flops);
  }
  // 8-bit: unsigned rows, signed weights, one scale a column as exporters write them.
  const ValueId a = mk.fed(DType::u8, with_batch({m, k}));
  const ValueId w = batch > 0 ? mk.fed(DType::i8, with_batch({k, n})) : mk.weight(DType::i8, {k, n});
  if (r.op == "MatMulInteger") return mk.finish({mk.b.op("MatMulInteger", {a, w, mk.zero_point(DType::u8, 117)})}, 0, flops);
  return mk.finish(
      {mk.b.op("QLinearMatMul", {a, mk.scalar(0.02f), mk.zero_point(DType::u8, 117), w, mk.scalar(0.01f), mk.zero_point(DType::i8, 0),
                                 mk.scalar(0.0002f * std::sqrt(static_cast<float>(k)) * 40), mk.zero_point(DType::u8, 128)})},
      0, flops);
}

SweepCase window_case(const SweepRequest& r, const std::string& size) {
  const bool pool = r.op.ends_with("Pool"), global = r.op.starts_with("Global"), turned = r.op == "ConvTranspose",
             quantised = r.op.starts_with("QLinear");
  const char* form = pool ? (global ? "NxCxHxW" : "NxCxHxW KHxKW and, if wished, s2 p1") : "NxCxHxW FxKHxKW and, if wished, s2 p1 d1 g1";
  std::vector<std::string> parts;
  for (const std::string& p : split(size, ' ')) {
    if (!p.empty()) parts.push_back(p);
  }
  if (parts.size() < (global ? 1u : 2u)) bad_size(r, size, form);
  const Shape in = numbers(r, size, parts[0], form), kernel_part = global ? Shape{} : numbers(r, size, parts[1], form);
  const size_t axes = in.size() < 3 ? 0 : in.size() - 2;
  if (axes < 1 || axes > 3 || (!global && kernel_part.size() != axes + (pool ? 0 : 1))) bad_size(r, size, form);
  std::map<char, int64_t> more{{'s', 1}, {'p', 0}, {'d', 1}, {'g', 1}};
  for (size_t i = 2; i < parts.size(); ++i) {
    if (parts[i].size() < 2 || !more.contains(parts[i][0])) bad_size(r, size, form);
    more[parts[i][0]] = parts[i] == "p0" ? 0 : number(r, size, parts[i].substr(1), form);
  }
  Maker mk(r, size);
  const Shape kernel(kernel_part.begin() + (pool ? 0 : 1), kernel_part.end());
  std::map<std::string, Attribute::Data> attributes;
  if (!global) {
    attributes["kernel_shape"] = kernel;
    attributes["strides"] = std::vector<int64_t>(axes, more['s']);
    attributes["pads"] = std::vector<int64_t>(2 * axes, more['p']);
    if (more['d'] != 1) attributes["dilations"] = std::vector<int64_t>(axes, more['d']);
    if (!pool) attributes["group"] = more['g'];
  }
  const int64_t channels = in[1], taps = element_count(kernel);
  if (pool) {
    const ValueId x = mk.fed(r.dtype, in);
    SweepCase c = mk.finish({mk.b.op(r.op, {x}, attributes)}, static_cast<double>(element_count(in)), 0);
    c.flops = c.written / 4 * static_cast<double>(global ? element_count(in) / (in[0] * in[1]) : taps);
    return c;
  }
  const int64_t filters = kernel_part[0], groups = more['g'];
  if (channels % groups != 0 || filters % groups != 0) bad_size(r, size, form);
  Shape weights = turned ? Shape{channels, filters / groups} : Shape{filters, channels / groups};
  weights.insert(weights.end(), kernel.begin(), kernel.end());
  const double spread = 1.0 / std::sqrt(static_cast<double>(channels / groups * taps));
  ValueId y;
  if (quantised) {
    const ValueId x = mk.fed(DType::u8, in);
    const ValueId w = mk.weight(DType::i8, weights);
    y = mk.b.op("QLinearConv",
                {x, mk.scalar(0.02f), mk.zero_point(DType::u8, 117), w, mk.scalar(0.01f), mk.zero_point(DType::i8, 0),
                 mk.scalar(0.008f / static_cast<float>(spread)), mk.zero_point(DType::u8, 128)},
                attributes);
  } else {
    const ValueId x = mk.fed(r.dtype, in);
    const ValueId w = mk.weight(r.dtype, weights, -spread, spread), bias = mk.weight(r.dtype, {filters}, -0.1, 0.1);
    y = mk.b.op(r.op, {x, w, bias}, attributes);
  }
  SweepCase c = mk.finish({y}, 0, 1);
  const Shape out = *known_shape(c.graph.values[c.graph.outputs[0]].dims);
  c.flops = 2.0 * static_cast<double>(turned ? element_count(in) : element_count(out)) *
            static_cast<double>(turned ? filters / groups * taps : channels / groups * taps);
  c.size = c.flops;
  return c;
}

SweepCase attention_case(const SweepRequest& r, const std::string& size) {
  constexpr const char* kForm = "BxHxLxD: batch, heads, length, head size";
  const Shape s = numbers(r, size, size, kForm);
  if (s.size() != 4) bad_size(r, size, kForm);
  Maker mk(r, size);
  const ValueId q = mk.fed(r.dtype, s), k = mk.fed(r.dtype, s), v = mk.fed(r.dtype, s);
  const double pairs = static_cast<double>(s[0] * s[1]) * static_cast<double>(s[2]) * static_cast<double>(s[2]);
  return mk.finish({mk.b.op("Attention", {q, k, v}, r.attributes)}, 0, 4 * pairs * static_cast<double>(s[3]));
}

SweepCase recurrent_case(const SweepRequest& r, const std::string& size) {
  constexpr const char* kForm = "TxBxIxH: steps, batch, inputs, hidden";
  const Shape s = numbers(r, size, size, kForm);
  if (s.size() != 4) bad_size(r, size, kForm);
  const int64_t gates = r.op == "LSTM" ? 4 : r.op == "GRU" ? 3 : 1, h = s[3];
  const double spread = 1.0 / std::sqrt(static_cast<double>(h));
  Maker mk(r, size);
  const ValueId x = mk.fed(r.dtype, {s[0], s[1], s[2]}), w = mk.weight(r.dtype, {1, gates * h, s[2]}, -spread, spread),
                u = mk.weight(r.dtype, {1, gates * h, h}, -spread, spread), bias = mk.weight(r.dtype, {1, 2 * gates * h}, -spread, spread);
  auto attributes = r.attributes;
  attributes["hidden_size"] = h;
  SweepCase c = mk.finish({mk.b.ops(r.op, {x, w, u, bias}, 1, attributes)[0]}, 0,
                          2.0 * static_cast<double>(s[0] * s[1] * gates * h) * static_cast<double>(s[2] + h));
  // Every step reads the state's weights: from whichever cache holds them.
  const double state = 4.0 * static_cast<double>(gates * h * h);
  c.read += static_cast<double>(s[0] - 1) * state;
  c.working_set = state;
  return c;
}

// Everything that is sized by its number of elements.
SweepCase element_case(const SweepRequest& r, const std::string& size) {
  constexpr const char* kForm = "a number of elements, as 65536 or 2^16";
  const int64_t n = number(r, size, size, kForm);
  Maker mk(r, size);
  const auto elements = static_cast<double>(n);
  const int64_t length = std::min(n, r.row);
  const Shape rows{n / length, length};
  const auto positive = [](const std::string& op) { return op == "Log" || op == "Sqrt" || op == "Pow" || op == "Reciprocal"; };
  if (r.op == "Transpose") {
    auto side = static_cast<int64_t>(std::sqrt(elements));
    while (n % side != 0) --side;
    return mk.finish({mk.b.op("Transpose", {mk.fed(r.dtype, {side, n / side})}, {{"perm", std::vector<int64_t>{1, 0}}})}, elements, 0);
  }
  if (r.op == "Softmax" || r.op == "LogSoftmax" || r.op == "ArgMax" || r.op == "ArgMin") {
    auto attributes = r.attributes;
    attributes.try_emplace("axis", int64_t{-1});
    return mk.finish({mk.b.op(r.op, {mk.fed(r.dtype, rows)}, attributes)}, elements, 5 * elements);
  }
  if (r.op == "LayerNormalization" || r.op == "RMSNormalization") {
    std::vector<ValueId> in{mk.fed(r.dtype, rows), mk.weight(r.dtype, {length}, 0.5, 1.5)};
    if (r.op == "LayerNormalization") in.push_back(mk.weight(r.dtype, {length}));
    return mk.finish({mk.b.op(r.op, in, r.attributes)}, elements, 5 * elements);
  }
  if (r.op == "TopK") {
    const std::vector<ValueId> in{mk.fed(r.dtype, rows), mk.constant(Tensor::from<int64_t>({1}, {std::min<int64_t>(10, length)}))};
    return mk.finish(mk.b.ops("TopK", in, 2, r.attributes), elements, elements);
  }
  if (r.op.starts_with("Reduce")) {
    const bool input = r.op == "ReduceSum" || r.attributes.empty();
    std::vector<ValueId> in{mk.fed(r.dtype, rows)};
    if (input) in.push_back(mk.constant(Tensor::from<int64_t>({1}, {1})));
    return mk.finish({mk.b.op(r.op, in, r.attributes)}, elements, elements);
  }
  // Elementwise, one or a chain: what comes out of one op is the first operand of the next.
  const auto chain = split(r.op, '+');
  ValueId y = kAbsent;
  for (const std::string& op : chain) {
    const OpDef* def = find_op("", op, 23);
    if (def == nullptr || def->trait != Trait::elementwise)
      fail(Category::value,
           "op '{}' is not one that can be swept: give an elementwise op (or several joined by '+'), MatMul, Conv, a pool, Softmax, a "
           "normalisation, a reduction, Transpose, Attention, LSTM, GRU or RNN",
           op);
    const bool logic = op == "And" || op == "Or" || op == "Xor" || op == "Not";
    const DType dtype = logic ? DType::boolean : r.dtype;
    const double low = positive(op) ? 0.1 : -4, high = 4;
    std::vector<ValueId> in;
    if (op == "Where") in = {mk.fed(DType::boolean, {n}), y == kAbsent ? mk.fed(dtype, {n}) : y, mk.fed(dtype, {n})};
    else {
      in.push_back(y == kAbsent ? mk.fed(dtype, {n}, low, high) : y);
      if (def->min_inputs > 1) in.push_back(mk.fed(dtype, {n}, op == "Div" ? 0.5 : low, high));
    }
    y = mk.b.op(op, in, chain.size() == 1 ? r.attributes : std::map<std::string, Attribute::Data>{});
  }
  return mk.finish({y}, elements, elements * static_cast<double>(chain.size()));
}

bool windowed(const std::string& op) { return op == "Conv" || op == "ConvTranspose" || op == "QLinearConv" || op.ends_with("Pool"); }

// ---- running ----

std::map<std::string, Implementation>& registered() {
  static std::map<std::string, Implementation> all;
  return all;
}

std::vector<int64_t> turned_order(size_t rank, bool to_last) {
  std::vector<int64_t> perm{0};
  if (!to_last) perm.push_back(static_cast<int64_t>(rank) - 1);
  for (size_t i = to_last ? 2 : 1; i + (to_last ? 0 : 1) < rank; ++i) perm.push_back(static_cast<int64_t>(i));
  if (to_last) perm.push_back(1);
  return perm;
}

Tensor turned(const Tensor& t, bool to_last) {
  Builder b("turn", 21);
  const Shape s = t.shape();
  b.output(b.op("Transpose", {b.input("x", t.dtype(), Dims(s.begin(), s.end()))}, {{"perm", turned_order(s.size(), to_last)}}), "y");
  Lane lane(compile(b.finish(), {.threads = 1}));
  return lane.run({{"x", t}})["y"];
}

// Pictures go in and come out channels-last, as they stand between the steps of a net: the change from and to natural order is the
// business of a net's edges, not of this kernel.
Graph with_last_edges(const Graph& from) {
  Graph g = from;
  Node& node = g.nodes.back();
  const ValueId x = node.inputs[0], y = node.outputs[0];
  const auto add = [&](ValueId like, const std::string& name) {
    Value v = g.values[like];
    v.name = name;
    Dims d{(*v.dims)[0]};
    for (size_t i = 2; i < v.dims->size(); ++i) d.push_back((*v.dims)[i]);
    d.push_back((*v.dims)[1]);
    v.dims = d;
    return g.add_value(std::move(v));
  };
  const size_t rank = g.values[x].dims->size();
  const ValueId x_last = add(x, "x_last"), y_last = add(y, "y_last");
  const auto turn = [&](ValueId in, ValueId out, bool to_last, const char* name) {
    Node n;
    n.op = "Transpose";
    n.name = name;
    n.inputs = {in};
    n.outputs = {out};
    n.attributes["perm"].data = turned_order(rank, to_last);
    return n;
  };
  g.nodes.insert(g.nodes.begin(), turn(x_last, x, false, "from_last"));
  g.nodes.push_back(turn(y, y_last, true, "to_last"));
  for (ValueId& v : g.inputs) {
    if (v == x) v = x_last;
  }
  g.outputs = {y_last};
  return g;
}

struct Runner {
  SweepResult result;
  std::function<void()> call;
  std::function<Tensor()> output;  // the first one, in the op's own layout
  std::vector<double> seconds, shares;
  int repeats = 1;
};

// Attention in its parts: product, softmax, product, with the whole matrix of scores between them.
Graph in_parts(const Graph& attention) {
  const Shape s = *known_shape(attention.values[attention.inputs[0]].dims);
  Builder b("parts", 21);
  const Dims dims(s.begin(), s.end());
  const ValueId q = b.input("x0", DType::f32, dims), k = b.input("x1", DType::f32, dims), v = b.input("x2", DType::f32, dims);
  const ValueId scale = b.constant("scale", Tensor::from<float>({}, {1 / std::sqrt(static_cast<float>(s[3]))}));
  const ValueId turned_keys = b.op("Transpose", {k}, {{"perm", std::vector<int64_t>{0, 1, 3, 2}}});
  const ValueId scores = b.op("MatMul", {b.op("Mul", {q, scale}), turned_keys});
  b.output(b.op("MatMul", {b.op("Softmax", {scores}, {{"axis", int64_t{-1}}}), v}));
  b.output(scores);  // or the compiler would recognise what this is
  return b.finish();
}

// What a sweep knows besides instruction sets: our own Programs compiled in other ways.
constexpr std::array<std::string_view, 4> kOwn{"unfused", "direct", "plain", "pinned"};
bool is_own(std::string_view name) { return std::ranges::find(kOwn, name) != kOwn.end(); }

Runner compiled_runner(const SweepCase& c, const std::string& name, const SweepOptions& o) {
  CompileOptions options{.threads = o.threads};
  const Node& node = c.graph.nodes.back();
  const bool parts = name == "unfused" && node.op == "Attention";
  if (parts && (c.fed[0].rank() != 4 || !node.attributes.empty())) {
    Runner none;
    none.result.implementation = name;
    none.result.skipped = "parts are known for attention without attributes only";
    return none;
  }
  if (parts) options.fuse = true;
  else if (name == "unfused") options.fuse = false;
  else if (name == "plain") options.plain = true;
  else if (name == "direct") options.winograd = false;
  else if (name == "pinned") {
    auto pinned = std::make_shared<Recipes>();
    for (const PinnedKnob& pin : o.pins) pinned->pin(pin);
    options.recipes = std::move(pinned);
  } else options.isa = name;
  const bool last = windowed(c.graph.nodes.back().op) && !options.plain;
  auto program = std::make_shared<Program>(compile(parts ? in_parts(c.graph) : last ? with_last_edges(c.graph) : c.graph, options));
  if (options.recipes) {
    if (const std::string fault = pin_fault(*options.recipes, program->describe()); !fault.empty()) {
      Runner none;
      none.result.implementation = name;
      none.result.skipped = fault;
      return none;
    }
  }
  auto lane = std::make_shared<Lane>(*program, o.threads);
  auto in = std::make_shared<std::vector<Tensor>>(c.fed);
  if (last) (*in)[0] = turned(c.fed[0], true);
  Runner r;
  r.result.implementation = name;
  for (const StepInfo& s : program->describe().steps) {
    if (!r.result.recipe.empty()) r.result.recipe += " | ";
    r.result.recipe += s.kind + (s.recipe.empty() ? "" : ": " + s.recipe);
  }
  r.call = [lane, in] { lane->run(std::span<const Tensor>(*in)); };
  r.output = [lane, in, last] {
    const Tensor out = lane->run(std::span<const Tensor>(*in))[0].clone();
    return last ? turned(out, false) : out;
  };
  return r;
}

std::vector<Tensor> empty_outputs(const Graph& g) {
  std::vector<Tensor> out;
  for (ValueId v : g.outputs) {
    Tensor t(g.values[v].dtype, *known_shape(g.values[v].dims));
    std::memset(t.data(), 0, t.byte_size());
    out.push_back(std::move(t));
  }
  return out;
}

// Plain evaluation of the whole, or of a part when that would take too long: some rows of a product, some pictures of a batch. The
// part is described by which leading indices of the first operand it takes.
struct Reference {
  Tensor expected;
  std::vector<int64_t> leading;  // empty: all
  std::string what = "all";
};

Tensor take(const Tensor& t, const std::vector<int64_t>& leading) {
  if (leading.empty()) return t;
  Shape s = t.shape();
  const size_t each = t.byte_size() / static_cast<size_t>(s[0]);
  s[0] = static_cast<int64_t>(leading.size());
  Tensor out(t.dtype(), s);
  for (size_t i = 0; i < leading.size(); ++i)
    std::memcpy(static_cast<char*>(out.data()) + i * each, static_cast<const char*>(t.data()) + static_cast<size_t>(leading[i]) * each,
                each);
  return out;
}

Reference reference_of(const SweepCase& c) {
  Reference r;
  constexpr double kMost = 6e8;  // about a second of plain evaluation
  const Node& node = c.graph.nodes.back();
  const Shape first = c.fed[0].shape();
  const bool divisible = c.fed.size() == 1 && (node.op.ends_with("MatMul") || node.op == "MatMulInteger" || windowed(node.op));
  Graph g = c.graph;
  if (c.flops > kMost && divisible && first[0] > 1) {
    const int64_t all = first[0], wanted = std::clamp<int64_t>(static_cast<int64_t>(static_cast<double>(all) * kMost / c.flops), 1, all);
    for (int64_t i = 0; i < wanted; ++i) r.leading.push_back(wanted == 1 ? all - 1 : i * (all - 1) / (wanted - 1));
    if (wanted == all) r.leading.clear();
    else r.what = fmt::format("{} of {} {}", wanted, all, windowed(node.op) ? "pictures" : "rows");
  }
  std::vector<Tensor> fed = c.fed;
  if (!r.leading.empty()) {
    fed[0] = take(fed[0], r.leading);
    for (ValueId v : {g.inputs[0], g.outputs[0]}) (*g.values[v].dims)[0] = static_cast<int64_t>(r.leading.size());
  }
  r.expected = evaluate_plain(g, fed)[0];
  return r;
}

// Sums of k products of numbers below one, in f32, in any order: the error grows with k, and with the transforms of fast convolutions.
std::optional<Tolerance> tolerance_for(const SweepCase& c, const Tensor& expected) {
  if (expected.dtype() != DType::f32) return std::nullopt;
  const double depth = std::max(1.0, c.flops / 2 / std::max(1.0, static_cast<double>(c.written) / 4));
  return Tolerance{16 * 0x1p-24 * std::max(1.0, std::min(depth, 1e5)), 1e-5, 0};
}

// The working set's bandwidth: what is mostly read is held against reading, the rest against copying.
class BandwidthProbe {
 public:
  BandwidthProbe(const SweepCase& c, int threads) : threads_(threads), reads_(c.read > 4 * c.written) {
    const double total = std::min(c.working_set > 0 ? c.working_set : c.read + c.written, 268e6);
    bytes_ = std::max<size_t>(4096, static_cast<size_t>(total / threads / (reads_ ? 1 : 2)) / 1024 * 1024);
  }
  double measure() const {
    return reads_ ? measure_read_bandwidth("", bytes_, threads_, 0.01) : measure_copy_bandwidth(bytes_, threads_, 0.01);
  }

 private:
  int threads_;
  bool reads_;
  size_t bytes_;
};

}  // namespace

std::vector<std::string> read_sizes(const std::string& path) {
  std::ifstream in(path);
  if (!in) fail(Category::format, "{}: cannot be read", path);
  std::vector<std::string> out;
  for (std::string line; std::getline(in, line);) {
    line = line.substr(0, line.find('#'));
    const size_t first = line.find_first_not_of(" \t\r"), last = line.find_last_not_of(" \t\r");
    if (first != std::string::npos) out.push_back(line.substr(first, last - first + 1));
  }
  if (out.empty()) fail(Category::format, "{}: holds no sizes; expected one a line", path);
  return out;
}

std::vector<SweepCase> sweep_cases(const SweepRequest& request) {
  std::vector<std::string> sizes;
  for (const std::string& s : request.sizes) {
    const size_t dots = s.find("..");
    if (dots == std::string::npos) {
      sizes.push_back(s);
      continue;
    }
    constexpr const char* kForm = "a range as 2^10..2^24";
    const int64_t low = number(request, s, s.substr(0, dots), kForm), high = number(request, s, s.substr(dots + 2), kForm);
    if (low > high) bad_size(request, s, kForm);
    for (int64_t n = low; n <= high; n *= 4) sizes.push_back(std::to_string(n));
    if (sizes.empty() || sizes.back() != std::to_string(high)) sizes.push_back(std::to_string(high));
  }
  if (sizes.empty()) fail(Category::value, "no sizes are given for {}", request.op);
  std::vector<SweepCase> out;
  for (const std::string& s : sizes) {
    const std::string& op = request.op;
    out.push_back(op == "MatMul" || op == "QLinearMatMul" || op == "MatMulInteger" ? product_case(request, s)
                  : windowed(op)                                                   ? window_case(request, s)
                  : op == "Attention"                                              ? attention_case(request, s)
                  : op == "LSTM" || op == "GRU" || op == "RNN"                     ? recurrent_case(request, s)
                                                                                   : element_case(request, s));
  }
  return out;
}

namespace {

double processor_seconds() {
  timespec t{};
  clock_gettime(CLOCK_PROCESS_CPUTIME_ID, &t);
  return static_cast<double>(t.tv_sec) + 1e-9 * static_cast<double>(t.tv_nsec);
}

// Waits until no thread of this process takes processor time. Some libraries' idle workers spin for a tenth of a second; who is timed next
// would share a core with them.
void rest() {
  constexpr auto kPiece = std::chrono::milliseconds(3);
  constexpr int kMost = 200;
  for (int i = 0, quiet = 0; i < kMost && quiet < 2; ++i) {
    const double before = processor_seconds();
    const auto start = Clock::now();
    std::this_thread::sleep_for(kPiece);
    quiet = processor_seconds() - before < 0.1 * since(start) ? quiet + 1 : 0;
  }
}

}  // namespace

void register_implementation(Implementation implementation) {
  if (implementation.name.empty() || !implementation.prepare)
    fail(Category::value, "register_implementation: an implementation needs a name and a prepare function");
  const std::string name = implementation.name;
  if (is_own(name) || kernels::parse_isa(name) || !registered().emplace(name, std::move(implementation)).second)
    fail(Category::value, "register_implementation: the name '{}' is taken", name);
}

void load_implementations(const std::string& path) {
  call_library(path, "implementations", "lathe_register_implementations", "register_implementation");
}

SweepRow sweep(const SweepCase& c, const SweepOptions& o) {
  const auto say = [&](const std::string& what) {
    if (o.progress) o.progress(fmt::format("{}: {}", c.name, what));
  };
  std::vector<std::string> names = o.with;
  std::vector<std::string> isas;
  for (kernels::Isa isa : kernels::available()) isas.emplace_back(kernels::name(isa));
  if (names.empty()) {
    names.assign(isas.rbegin(), isas.rend());
    if (c.graph.nodes.size() > 1 || c.graph.nodes.back().op == "Attention") names.emplace_back("unfused");
    for (const auto& [name, i] : registered()) names.push_back(name);
  }
  const bool pinned = std::ranges::find(names, "pinned") != names.end();
  if (pinned && o.pins.empty()) fail(Category::value, "'pinned' is swept where knobs are pinned, and none are");
  if (!pinned && !o.pins.empty()) names.emplace_back("pinned");
  SweepRow row;
  row.name = c.name;
  row.size = c.size;
  row.flops = c.flops;
  row.bytes = c.read + c.written;
  say("plain evaluation");
  const Reference reference = reference_of(c);
  row.checked = reference.what;
  std::vector<Runner> runners;
  for (const std::string& name : names) {
    Runner r;
    if (is_own(name) || std::ranges::find(isas, name) != isas.end()) {
      r = compiled_runner(c, name, o);
    } else if (const auto it = registered().find(name); it != registered().end()) {
      r.result.implementation = name;
      std::vector<Tensor> operands;
      const Node& node = c.graph.nodes.back();
      for (ValueId v : node.inputs) {
        const auto at = std::ranges::find(c.graph.inputs, v);
        operands.push_back(v == kAbsent                 ? Tensor()
                           : c.graph.values[v].constant ? *c.graph.values[v].constant
                           : at != c.graph.inputs.end() ? c.fed[static_cast<size_t>(at - c.graph.inputs.begin())]
                                                        : Tensor());
      }
      auto outputs = empty_outputs(c.graph);
      // A chain is one task only for those who look at the whole graph.
      r.call = it->second.prepare(SweepTask{c, node, operands, outputs, o.threads});
      r.output = [call = r.call, outputs] {
        call();
        return outputs[0];
      };
      if (!r.call) {
        if (o.with.empty()) continue;  // nobody asked for it by name
        r.result.skipped = "does not do this";
      }
    } else {
      std::vector<std::string> known(isas);
      known.insert(known.end(), kOwn.begin(), kOwn.end());
      for (const auto& [n, i] : registered()) known.push_back(n);
      fail(Category::value, "there is no implementation '{}'; there are {}", name, fmt::join(known, ", "));
    }
    if (r.call) {
      say("checking " + name);
      r.result.check = compare(name, take(r.output(), reference.leading), reference.expected, tolerance_for(c, reference.expected));
      if (!r.result.check.pass) {
        r.result.wrong = true;
        r.result.skipped = "wrong: " + r.result.check.reason;
        r.call = nullptr;
      }
    }
    if (r.call && !o.cold) {
      auto start = Clock::now();
      r.call();
      const double once = std::max(since(start), 1e-9);
      r.repeats = static_cast<int>(std::clamp(o.visit_seconds / once, 1.0, 1e5));
      start = Clock::now();
      for (int i = 0; i < r.repeats; ++i) r.call();
      r.repeats = static_cast<int>(std::clamp(o.visit_seconds / std::max(since(start) / r.repeats, 1e-9), 1.0, 1e6));
    }
    runners.push_back(std::move(r));
  }
  const BandwidthProbe probe(c, o.threads);
  std::vector<double> peaks, bandwidths, limits;
  const bool int8 = c.fed[0].dtype() == DType::u8 && measure_int8_peak("", 1, 0.001) > 0;
  for (int round = 0; round < o.rounds; ++round) {
    say(fmt::format("round {} of {}", round + 1, o.rounds));
    const double peak = int8 ? measure_int8_peak("", o.threads, 0.005) : measure_fma_peak("", o.threads, 0.005);
    // A working set in memory is cold in the probe as well.
    const double bandwidth = probe.measure();
    const double limit = std::max(c.flops / peak, row.bytes / bandwidth) / 1e9;
    peaks.push_back(peak);
    bandwidths.push_back(bandwidth);
    limits.push_back(limit);
    for (size_t i = 0; i < runners.size(); ++i) {
      // The order turns: nobody always finds the caches as the same neighbour left them.
      Runner& r = runners[(i + static_cast<size_t>(round)) % runners.size()];
      if (!r.call) continue;
      if (o.threads > 1) rest();
      // Hot means hot: what the others left in the caches is gone, and the cores are awake, after as many calls as are timed, at least
      // three (a last level shared by many machines keeps what has been read more than once).
      if (o.cold) empty_caches();
      auto start = Clock::now();
      for (int k = 0; !o.cold && k < std::max(3, r.repeats) && since(start) < 0.2; ++k) r.call();
      start = Clock::now();
      for (int k = 0; k < r.repeats; ++k) r.call();
      r.seconds.push_back(since(start) / r.repeats);
      r.shares.push_back(limit / r.seconds.back());
    }
  }
  row.peak_gflops = summarise(peaks).median;
  row.bandwidth = summarise(bandwidths).median;
  row.limit_seconds = summarise(limits).median;
  row.by_arithmetic = c.flops / row.peak_gflops >= row.bytes / row.bandwidth;
  for (Runner& r : runners) {
    if (r.call) {
      r.result.latency = summarise(r.seconds);
      r.result.gflops = c.flops / r.result.latency.median / 1e9;
      r.result.gbytes = row.bytes / r.result.latency.median / 1e9;
      r.result.share = summarise(r.shares).median;
    }
    row.results.push_back(std::move(r.result));
  }
  return row;
}

}  // namespace lathe
