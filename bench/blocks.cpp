// Blocks of well-known kinds of model, as exporters write them: how many steps each becomes, which of those go plainly, how near to this
// machine's limit the whole comes, and the steps that lose most. An op that is fast by itself may still be slow in company.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <cstdlib>
#include <cstring>
#include <functional>
#include <random>

#include <lathe/lathe.hpp>

using namespace lathe;

namespace {

using List = std::vector<int64_t>;
using A = std::map<std::string, Attribute::Data>;
using V = ValueId;

class Maker {
 public:
  Maker(const std::string& name, DType type, int64_t opset) : b(name, opset), type_(type) {}

  V in(const std::string& name, Dims dims) { return b.input(name, type_, std::move(dims)); }
  V index(const std::string& name, Dims dims) { return b.input(name, DType::i64, std::move(dims)); }
  V weight(const Shape& shape, double spread = 0) {
    const double fan = shape.size() > 1 ? static_cast<double>(element_count(shape) / shape[0]) : 1;
    std::normal_distribution<double> d(shape.size() > 1 ? 0 : 1, spread > 0 ? spread : shape.size() > 1 ? 1 / std::sqrt(fan) : 0.1);
    std::vector<double> v(static_cast<size_t>(element_count(shape)));
    for (double& x : v) x = d(random_);
    return floats(shape, v);
  }
  V floats(const Shape& shape, const std::vector<double>& v) {
    Tensor t(type_, shape);
    for (size_t i = 0; i < v.size(); ++i) {
      if (type_ == DType::f32) t.as<float>()[i] = static_cast<float>(v[i]);
      else static_cast<uint16_t*>(t.data())[i] = static_cast<uint16_t>(encode_narrow(type_, v[i]));
    }
    return constant(std::move(t));
  }
  V number(double v) { return floats({}, {v}); }
  V ints(const List& v) { return constant(Tensor::from<int64_t>({static_cast<int64_t>(v.size())}, v)); }
  V whole(int64_t v) { return constant(Tensor::from<int64_t>({}, {v})); }
  V constant(Tensor t) { return b.constant(fmt::format("c{}", ++count_), std::move(t)); }

  V op(const char* name, std::vector<V> in, A attributes = {}) { return b.op(name, std::move(in), std::move(attributes)); }
  V reshape(V x, const List& to) { return op("Reshape", {x, ints(to)}); }
  V turn(V x, const List& perm) { return op("Transpose", {x}, {{"perm", perm}}); }
  V slice(V x, int64_t axis, int64_t from, int64_t to, int64_t step = 1) {
    return op("Slice", {x, ints({from}), ints({to}), ints({axis}), ints({step})});
  }
  V mean(V x, const List& axes, int64_t keep = 1) { return b.op("ReduceMean", {x, ints(axes)}, {{"keepdims", keep}}); }
  V unsqueeze(V x, const List& axes) { return op("Unsqueeze", {x, ints(axes)}); }
  V squeeze(V x, const List& axes) { return op("Squeeze", {x, ints(axes)}); }
  V add(V x, V y) { return op("Add", {x, y}); }
  V mul(V x, V y) { return op("Mul", {x, y}); }
  V cat(std::vector<V> x, int64_t axis) { return op("Concat", std::move(x), {{"axis", axis}}); }
  V softmax(V x, int64_t axis = -1) { return op("Softmax", {x}, {{"axis", axis}}); }

  V conv(V x, int64_t in, int64_t out, const List& kernel, const List& strides = {}, int64_t group = 1, const List& dilations = {},
         bool bias = true) {
    Shape w{out, in / group};
    List pads;
    for (size_t a = 0; a < kernel.size(); ++a)
      w.push_back(kernel[a]), pads.push_back((kernel[a] - 1) / 2 * (dilations.empty() ? 1 : dilations[a]));
    for (size_t a = 0; a < kernel.size(); ++a) pads.push_back(pads[a]);
    A attributes{{"kernel_shape", kernel}, {"pads", pads}, {"group", group}};
    if (!strides.empty()) attributes["strides"] = strides;
    if (!dilations.empty()) attributes["dilations"] = dilations;
    std::vector<V> inputs{x, weight(w)};
    if (bias) inputs.push_back(weight({out}));
    return op("Conv", inputs, attributes);
  }
  V norm(V x, int64_t channels) {
    return op("BatchNormalization", {x, weight({channels}), weight({channels}), weight({channels}), weight({channels})});
  }
  V dense(V x, int64_t in, int64_t out, bool bias = true) {
    const V y = op("MatMul", {x, weight({in, out}, 1 / std::sqrt(static_cast<double>(in)))});
    return bias ? add(weight({out}), y) : y;
  }
  V silu(V x) { return mul(x, op("Sigmoid", {x})); }
  V gelu(V x) { return mul(mul(x, add(op("Erf", {op("Div", {x, number(1.41421356)})}), number(1))), number(0.5)); }
  V layer_norm(V x, int64_t width) {
    const V centred = op("Sub", {x, mean(x, {-1})}), variance = mean(op("Pow", {centred, number(2)}), {-1});
    return add(mul(op("Div", {centred, op("Sqrt", {add(variance, number(1e-5))})}), weight({width})), weight({width}));
  }
  V rms_norm(V x, int64_t width) {
    return mul(weight({width}), mul(x, op("Reciprocal", {op("Sqrt", {add(mean(op("Pow", {x, number(2)}), {-1}), number(1e-6))})})));
  }
  // Groups of channels normalised as exporters write it: as many instances.
  V group_norm(V x, int64_t channels, int64_t groups, const List& sizes) {
    List to{0, groups, -1};
    const V one = floats({groups}, std::vector<double>(static_cast<size_t>(groups), 1)),
            none = floats({groups}, std::vector<double>(static_cast<size_t>(groups), 0));
    const V y = op("InstanceNormalization", {reshape(x, to), one, none}, {{"epsilon", 1e-5f}});
    Shape each{channels};
    for (size_t i = 2; i < sizes.size(); ++i) each.push_back(1);
    return add(mul(reshape(y, sizes), weight(each)), weight(each));
  }

  DType type() const { return type_; }

  Builder b;

 private:
  DType type_;
  std::mt19937_64 random_{7};
  int count_ = 0;
};

struct Block {
  std::string name;
  std::function<void(Maker&)> make;
  int64_t opset = 18;
};

// Windows of 7 x 7 shifted by 3: rolled by slices, parted by reshapes of six axes, a table of relative positions, a mask.
void shifted_windows(Maker& m) {
  const int64_t side = 28, width = 192, heads = 6, window = 7, windows = 16, pixels = 49, each = width / heads;
  const V x = m.in("x", {1, side * side, width});
  V y = m.reshape(m.layer_norm(x, width), {1, side, side, width});
  const auto roll = [&](V v, int64_t axis, int64_t by) { return m.cat({m.slice(v, axis, by, INT64_MAX), m.slice(v, axis, 0, by)}, axis); };
  y = roll(roll(y, 1, 3), 2, 3);
  y = m.turn(m.reshape(y, {1, side / window, window, side / window, window, width}), {0, 1, 3, 2, 4, 5});
  y = m.reshape(m.reshape(y, {-1, window, window, width}), {-1, pixels, width});
  const V qkv = m.turn(m.reshape(m.dense(y, width, 3 * width), {windows, pixels, 3, heads, each}), {2, 0, 3, 1, 4});
  const auto part = [&](int64_t i) { return m.op("Gather", {qkv, m.whole(i)}, {{"axis", int64_t{0}}}); };
  const V q = m.mul(part(0), m.number(1 / std::sqrt(static_cast<double>(each)))), k = m.turn(part(1), {0, 1, 3, 2}), v = part(2);
  V scores = m.add(m.op("MatMul", {q, k}), m.unsqueeze(m.weight({heads, pixels, pixels}), {0}));
  scores = m.reshape(m.add(m.reshape(scores, {1, windows, heads, pixels, pixels}), m.weight({1, windows, 1, pixels, pixels})),
                     {-1, heads, pixels, pixels});
  V out = m.reshape(m.turn(m.op("MatMul", {m.softmax(scores), v}), {0, 2, 1, 3}), {windows, pixels, width});
  out = m.reshape(m.dense(out, width, width), {-1, window, window, width});
  out = m.turn(m.reshape(out, {-1, side / window, side / window, window, window, width}), {0, 1, 3, 2, 4, 5});
  out = m.reshape(out, {-1, side, side, width});
  out = roll(roll(out, 1, side - 3), 2, side - 3);
  const V sum = m.add(x, m.reshape(out, {1, side * side, width}));
  m.b.output(m.add(sum, m.dense(m.gelu(m.dense(m.layer_norm(sum, width), width, 4 * width)), 4 * width, width)));
}

// Every other pixel of each parity side by side, then a product.
void merged_patches(Maker& m) {
  const V x = m.reshape(m.in("x", {1, 56 * 56, 96}), {1, 56, 56, 96});
  const auto part = [&](int64_t i, int64_t j) { return m.slice(m.slice(x, 1, i, INT64_MAX, 2), 2, j, INT64_MAX, 2); };
  const V y = m.reshape(m.cat({part(0, 0), part(1, 0), part(0, 1), part(1, 1)}, -1), {1, -1, 384});
  m.b.output(m.dense(m.layer_norm(y, 384), 384, 192, false));
}

// Positions as buckets of distances, looked up while running; no scale; normalised by the mean of squares.
void relative_positions(Maker& m) {
  const int64_t n = 128, width = 512, heads = 8, each = 64;
  const V x = m.in("x", {1, n, width}), h = m.rms_norm(x, width);
  const auto part = [&] { return m.turn(m.reshape(m.dense(h, width, width, false), {1, -1, heads, each}), {0, 2, 1, 3}); };
  const V q = part(), k = m.turn(m.reshape(m.dense(h, width, width, false), {1, -1, heads, each}), {0, 2, 3, 1}), v = part();
  const V places = m.op("Range", {m.whole(0), m.op("Gather", {m.op("Shape", {x}), m.whole(1)}), m.whole(1)});
  const V apart = m.op("Sub", {m.unsqueeze(places, {0}), m.unsqueeze(places, {1})});
  const V far = m.op("Cast", {m.op("Greater", {apart, m.whole(0)})}, {{"to", int64_t{7}}});
  const V distance = m.op("Abs", {apart});
  const V near = m.op("Less", {distance, m.whole(8)});
  const V log = m.op("Log", {m.op("Div", {m.op("Cast", {distance}, {{"to", int64_t{1}}}), m.constant(Tensor::from<float>({}, {8}))})});
  const V large = m.op(
      "Min",
      {m.op("Add", {m.op("Cast", {m.op("Mul", {log, m.constant(Tensor::from<float>({}, {2.9f}))})}, {{"to", int64_t{7}}}), m.whole(8)}),
       m.whole(15)});
  const V bucket = m.op("Add", {m.op("Mul", {far, m.whole(16)}), m.op("Where", {near, distance, large})});
  const V bias = m.unsqueeze(m.turn(m.op("Gather", {m.weight({32, heads}), bucket}), {2, 0, 1}), {0});
  const V seen = m.op("MatMul", {m.softmax(m.add(m.op("MatMul", {q, k}), bias)), v});
  const V sum = m.add(x, m.dense(m.reshape(m.turn(seen, {0, 2, 1, 3}), {1, -1, width}), width, width, false));
  const V g = m.rms_norm(sum, width);
  const V fed = m.mul(m.gelu(m.dense(g, width, 1024, false)), m.dense(g, width, 1024, false));
  m.b.output(m.add(sum, m.dense(fed, 1024, width, false)));
}

// Turned by halves, fewer heads of keys repeated by Expand, gates through SiLU, a causal mask added.
void turned_heads(Maker& m) {
  const int64_t n = 128, width = 512, heads = 8, few = 2, each = 64;
  const V x = m.in("x", {1, n, width}), h = m.rms_norm(x, width), cos = m.weight({1, 1, n, each}), sin = m.weight({1, 1, n, each});
  const auto part = [&](int64_t count) {
    return m.turn(m.reshape(m.dense(h, width, count * each, false), {1, n, count, each}), {0, 2, 1, 3});
  };
  const auto turned = [&](V v) {
    const V halves = m.cat({m.op("Neg", {m.slice(v, 3, 32, INT64_MAX)}), m.slice(v, 3, 0, 32)}, -1);
    return m.add(m.mul(v, cos), m.mul(halves, sin));
  };
  const auto repeated = [&](V v) {
    return m.reshape(m.op("Expand", {m.unsqueeze(v, {2}), m.ints({1, few, heads / few, n, each})}), {1, heads, n, each});
  };
  const V q = turned(part(heads)), k = repeated(turned(part(few))), v = repeated(part(few));
  const V scores = m.mul(m.op("MatMul", {q, m.turn(k, {0, 1, 3, 2})}), m.number(0.125));
  const V seen = m.op("MatMul", {m.softmax(m.add(scores, m.weight({1, 1, n, n}))), v});
  const V sum = m.add(x, m.dense(m.reshape(m.turn(seen, {0, 2, 1, 3}), {1, n, width}), width, width, false));
  const V g = m.rms_norm(sum, width);
  m.b.output(m.add(sum, m.dense(m.mul(m.silu(m.dense(g, width, 1376, false)), m.dense(g, width, 1376, false)), 1376, width, false)));
}

// Expanded, depthwise, squeezed and excited.
void excited(Maker& m) {
  const V x = m.in("x", {1, 40, 56, 56});
  V y = m.silu(m.norm(m.conv(x, 40, 240, {1, 1}, {}, 1, {}, false), 240));
  y = m.silu(m.norm(m.conv(y, 240, 240, {5, 5}, {}, 240, {}, false), 240));
  const V squeezed = m.op("Sigmoid", {m.conv(m.silu(m.conv(m.op("GlobalAveragePool", {y}), 240, 10, {1, 1})), 10, 240, {1, 1})});
  m.b.output(m.add(x, m.norm(m.conv(m.mul(y, squeezed), 240, 40, {1, 1}, {}, 1, {}, false), 40)));
}

// Depthwise 7 x 7, normalised over channels that are turned to the end, and back.
void channels_turned(Maker& m) {
  const V x = m.in("x", {1, 192, 28, 28});
  const V y = m.turn(m.conv(x, 192, 192, {7, 7}, {}, 192), {0, 2, 3, 1});
  const V fed = m.dense(m.gelu(m.dense(m.layer_norm(y, 192), 192, 768)), 768, 192);
  m.b.output(m.add(x, m.turn(m.mul(m.weight({192}), fed), {0, 3, 1, 2})));
}

// Three scales to boxes: distances as expectations over sixteen bins, centres and strides, sizes, scores; the best 300.
void boxes(Maker& m) {
  std::vector<V> scales;
  for (const int64_t side : {40, 20, 10}) {
    const V x = m.in(fmt::format("x{}", side), {1, 64, side, side});
    const V y =
        m.cat({m.conv(m.silu(m.conv(x, 64, 64, {3, 3})), 64, 64, {1, 1}), m.conv(m.silu(m.conv(x, 64, 80, {3, 3})), 80, 80, {1, 1})}, 1);
    scales.push_back(m.reshape(y, {1, 144, -1}));
  }
  const int64_t places = 1600 + 400 + 100;
  const auto parts = m.b.ops("Split", {m.cat(scales, 2), m.ints({64, 80})}, 2, {{"axis", int64_t{1}}});
  V distance = m.softmax(m.turn(m.reshape(parts[0], {1, 4, 16, places}), {0, 2, 1, 3}), 1);
  distance = m.reshape(m.op("Conv", {distance, m.weight({1, 16, 1, 1})}), {1, 4, places});
  const V centres = m.weight({1, 2, places}), low = m.op("Sub", {centres, m.slice(distance, 1, 0, 2)}),
          high = m.add(centres, m.slice(distance, 1, 2, 4));
  const V box = m.mul(m.cat({m.op("Div", {m.add(low, high), m.number(2)}), m.op("Sub", {high, low})}, 1), m.weight({1, places}));
  const V scores = m.op("Sigmoid", {parts[1]}), best = m.op("ReduceMax", {scores, m.ints({1})}, {{"keepdims", int64_t{0}}});
  const auto top = m.b.ops("TopK", {best, m.ints({300})}, 2);
  const V at = m.op("Expand", {m.unsqueeze(top[1], {2}), m.ints({1, 300, 4})});
  m.b.output(m.op("GatherElements", {m.turn(box, {0, 2, 1}), at}, {{"axis", int64_t{1}}}), "boxes");
  m.b.output(top[0], "scores");
  m.b.output(m.op("ArgMax", {scores}, {{"axis", int64_t{1}}, {"keepdims", int64_t{0}}}), "classes");
}

// Points of several scales sampled by grids that queries make.
void sampled_scales(Maker& m) {
  const int64_t queries = 300, width = 256, heads = 8, each = 32, points = 4;
  const V q = m.in("q", {1, queries, width}), memory = m.in("memory", {1, 1600 + 400 + 100, width}),
          reference = m.in("reference", {1, queries, 1, 1, 1, 2});
  const V values = m.dense(memory, width, width);
  const auto parts = m.b.ops("Split", {values, m.ints({1600, 400, 100})}, 3, {{"axis", int64_t{1}}});
  const V offsets = m.reshape(m.dense(q, width, heads * 3 * points * 2), {1, queries, heads, 3, points, 2});
  const V weights = m.reshape(m.softmax(m.reshape(m.dense(q, width, heads * 3 * points), {1, queries, heads, 3 * points})),
                              {1, queries, heads, 3, points});
  const V grids = m.op("Sub", {m.mul(m.add(reference, m.op("Div", {offsets, m.weight({3, 1, 2})})), m.number(2)), m.number(1)});
  std::vector<V> seen;
  for (int64_t level = 0; level < 3; ++level) {
    const int64_t side = 40 >> level;
    const V picture = m.reshape(m.turn(m.reshape(parts[static_cast<size_t>(level)], {1, side * side, heads, each}), {0, 2, 3, 1}),
                                {heads, each, side, side});
    const V grid =
        m.reshape(m.turn(m.op("Gather", {grids, m.whole(level)}, {{"axis", int64_t{3}}}), {0, 2, 1, 3, 4}), {heads, queries, points, 2});
    seen.push_back(
        m.unsqueeze(m.op("GridSample", {picture, grid},
                         {{"mode", std::string("bilinear")}, {"padding_mode", std::string("zeros")}, {"align_corners", int64_t{0}}}),
                    {3}));
  }
  const V all = m.reshape(m.cat(seen, 3), {heads, each, queries, 3 * points});
  const V shares = m.reshape(m.turn(weights, {0, 2, 1, 3, 4}), {heads, 1, queries, 3 * points});
  const V sum = m.op("ReduceSum", {m.mul(all, shares), m.ints({-1})}, {{"keepdims", int64_t{0}}});
  m.b.output(m.dense(m.turn(m.reshape(sum, {1, width, queries}), {0, 2, 1}), width, width));
}

// Normalised by groups, gated by themselves, convolved; then attention on pixels, and on a text.
void noise_block(Maker& m) {
  const int64_t c = 320, side = 16, pixels = side * side, heads = 8, each = 40;
  const V x = m.in("x", {1, c, side, side}), text = m.in("text", {1, 77, 512}), time = m.in("time", {1, 512});
  V y = m.conv(m.silu(m.group_norm(x, c, 32, {1, c, side, side})), c, c, {3, 3});
  y = m.add(y,
            m.unsqueeze(m.unsqueeze(m.op("Gemm", {m.silu(time), m.weight({c, 512}), m.weight({c})}, {{"transB", int64_t{1}}}), {2}), {3}));
  y = m.add(x, m.conv(m.silu(m.group_norm(y, c, 32, {1, c, side, side})), c, c, {3, 3}));
  V rows = m.reshape(m.turn(m.conv(m.group_norm(y, c, 32, {1, c, side, side}), c, c, {1, 1}), {0, 2, 3, 1}), {1, pixels, c});
  const auto heads_of = [&](V v, int64_t n) {
    return m.reshape(m.turn(m.reshape(v, {1, n, heads, each}), {0, 2, 1, 3}), {heads, n, each});
  };
  const auto attend = [&](V to, V from, int64_t n, int64_t width) {
    const V q = heads_of(m.dense(to, c, c, false), pixels), k = heads_of(m.dense(from, width, c, false), n),
            v = heads_of(m.dense(from, width, c, false), n);
    const V seen = m.op("MatMul", {m.softmax(m.mul(m.op("MatMul", {q, m.turn(k, {0, 2, 1})}), m.number(0.158))), v});
    return m.dense(m.reshape(m.turn(m.reshape(seen, {1, heads, pixels, each}), {0, 2, 1, 3}), {1, pixels, c}), c, c);
  };
  const V own = m.layer_norm(rows, c);
  rows = m.add(rows, attend(own, own, pixels, c));
  rows = m.add(rows, attend(m.layer_norm(rows, c), text, 77, 512));
  const V fed = m.dense(m.layer_norm(rows, c), c, 8 * c);
  const auto halves = m.b.ops("Split", {fed, m.ints({4 * c, 4 * c})}, 2, {{"axis", int64_t{-1}}});
  rows = m.add(rows, m.dense(m.mul(halves[0], m.gelu(halves[1])), 4 * c, c));
  m.b.output(m.add(y, m.turn(m.reshape(rows, {1, side, side, c}), {0, 3, 1, 2})));
}

// Dilated convolutions of a signal with gates, what is left and what is skipped.
void gated_signal(Maker& m) {
  V x = m.in("x", {1, 192, 400}), skipped = kAbsent;
  for (int layer = 0; layer < 4; ++layer) {
    const V y = m.conv(x, 192, 384, {5}, {}, 1, {int64_t{1} << layer});
    const V gated = m.mul(m.op("Tanh", {m.slice(y, 1, 0, 192)}), m.op("Sigmoid", {m.slice(y, 1, 192, INT64_MAX)}));
    const V both = m.conv(gated, 192, 384, {1});
    x = m.add(x, m.slice(both, 1, 0, 192));
    const V skip = m.slice(both, 1, 192, INT64_MAX);
    skipped = skipped == kAbsent ? skip : m.add(skipped, skip);
  }
  m.b.output(skipped);
}

// From features to samples: turned convolutions, sums of residual stacks of several kernels.
void samples(Maker& m) {
  V x = m.conv(m.in("x", {1, 80, 100}), 80, 256, {7});
  int64_t c = 256;
  for (const int64_t stride : {8, 8}) {
    x = m.op("LeakyRelu", {x}, {{"alpha", 0.1f}});
    x = m.op("ConvTranspose", {x, m.weight({c, c / 2, 2 * stride}), m.weight({c / 2})},
             {{"strides", List{stride}}, {"pads", List{stride / 2, stride / 2}}});
    c /= 2;
    V sum = kAbsent;
    for (const int64_t kernel : {3, 7, 11}) {
      V y = x;
      for (const int64_t dilation : {1, 3}) {
        const V z = m.conv(m.op("LeakyRelu", {y}, {{"alpha", 0.1f}}), c, c, {kernel}, {}, 1, {dilation});
        y = m.add(y, m.conv(m.op("LeakyRelu", {z}, {{"alpha", 0.1f}}), c, c, {kernel}));
      }
      sum = sum == kAbsent ? y : m.add(sum, y);
    }
    x = m.op("Div", {sum, m.number(3)});
  }
  m.b.output(m.op("Tanh", {m.conv(m.op("LeakyRelu", {x}, {{"alpha", 0.01f}}), c, 1, {7})}));
}

// Half a feed-forward, attention with positions shifted by a reshape, a gated depthwise convolution, another half.
void speech_block(Maker& m) {
  const int64_t n = 200, width = 256, heads = 4, each = 64;
  V x = m.in("x", {1, n, width});
  const auto half = [&](V v) {
    return m.add(v, m.mul(m.number(0.5), m.dense(m.silu(m.dense(m.layer_norm(v, width), width, 1024)), 1024, width)));
  };
  x = half(x);
  const V h = m.layer_norm(x, width);
  const auto part = [&](const List& perm) { return m.turn(m.reshape(m.dense(h, width, width), {1, -1, heads, each}), perm); };
  const V q = m.reshape(m.dense(h, width, width), {1, -1, heads, each}), k = part({0, 2, 3, 1}), v = part({0, 2, 1, 3});
  const V place = m.turn(m.reshape(m.dense(m.weight({1, 2 * n - 1, width}), width, width, false), {1, -1, heads, each}), {0, 2, 3, 1});
  const V by_content = m.op("MatMul", {m.turn(m.add(q, m.weight({heads, each})), {0, 2, 1, 3}), k});
  V by_place = m.op("MatMul", {m.turn(m.add(q, m.weight({heads, each})), {0, 2, 1, 3}), place});
  by_place = m.op("Pad", {by_place, m.ints({0, 0, 0, 1, 0, 0, 0, 0})});
  by_place = m.reshape(m.slice(m.reshape(by_place, {1, heads, 2 * n, n}), 2, 1, INT64_MAX), {1, heads, n, 2 * n - 1});
  const V scores = m.op("Div", {m.add(by_content, m.slice(by_place, 3, 0, n)), m.number(8)});
  x = m.add(x, m.dense(m.reshape(m.turn(m.op("MatMul", {m.softmax(scores), v}), {0, 2, 1, 3}), {1, -1, width}), width, width));
  const auto gate = m.b.ops("Split", {m.conv(m.turn(m.layer_norm(x, width), {0, 2, 1}), width, 2 * width, {1}), m.ints({width, width})}, 2,
                            {{"axis", int64_t{1}}});
  V y = m.conv(m.mul(gate[0], m.op("Sigmoid", {gate[1]})), width, width, {31}, {}, width);
  y = m.conv(m.silu(m.norm(y, width)), width, width, {1});
  m.b.output(m.layer_norm(half(m.add(x, m.turn(y, {0, 2, 1}))), width));
}

// Columns of a picture as a sequence, read both ways, to letters.
void letters(Maker& m) {
  const V x = m.in("x", {1, 1, 32, 256});
  V y = m.op("MaxPool", {m.op("Relu", {m.conv(x, 1, 64, {3, 3})})}, {{"kernel_shape", List{2, 2}}, {"strides", List{2, 2}}});
  y = m.op("MaxPool", {m.op("Relu", {m.norm(m.conv(y, 64, 128, {3, 3}), 128)})}, {{"kernel_shape", List{2, 2}}, {"strides", List{2, 2}}});
  y = m.op("MaxPool", {m.op("Relu", {m.conv(y, 128, 256, {3, 3})})}, {{"kernel_shape", List{8, 1}}, {"strides", List{8, 1}}});
  y = m.turn(m.squeeze(y, {2}), {2, 0, 1});
  for (int layer = 0; layer < 2; ++layer) {
    const int64_t width = 256, h = 128;
    const V made = m.op("LSTM", {y, m.weight({2, 4 * h, width}, 0.05), m.weight({2, 4 * h, h}, 0.05), m.weight({2, 8 * h}, 0.05)},
                        {{"hidden_size", h}, {"direction", std::string("bidirectional")}});
    y = m.reshape(m.turn(made, {0, 2, 1, 3}), {0, 0, -1});
  }
  m.b.output(m.op("LogSoftmax", {m.dense(y, 256, 96)}, {{"axis", int64_t{2}}}));
}

// Messages along edges, added up at their ends.
void messages(Maker& m) {
  const int64_t nodes = 2000, edges = 10000, width = 64;
  V x = m.in("x", {nodes, width});
  const V ends = m.index("edges", {2, edges});
  const V from = m.squeeze(m.slice(ends, 0, 0, 1), {0}), to = m.squeeze(m.slice(ends, 0, 1, 2), {0});
  for (int layer = 0; layer < 2; ++layer) {
    const V pair = m.cat({m.op("Gather", {x, from}), m.op("Gather", {x, to})}, 1);
    const V sent = m.dense(m.op("Relu", {m.dense(pair, 2 * width, width)}), width, width);
    const V at = m.op("Expand", {m.unsqueeze(to, {1}), m.ints({edges, width})});
    const V none = m.op("ConstantOfShape", {m.ints({nodes, width})}, {{"value", Tensor::from<float>({1}, {0})}});
    const V got =
        m.op("ScatterElements", {m.op("CastLike", {none, x}), at, sent}, {{"axis", int64_t{0}}, {"reduction", std::string("add")}});
    x = m.add(x, m.op("Relu", {m.dense(m.cat({x, got}, 1), 2 * width, width)}));
  }
  m.b.output(x);
}

// A small picture made large: slopes for each channel, pixels woven by a transposition of six axes, a resized skip.
void enlarged(Maker& m) {
  const V x = m.in("x", {1, 3, 96, 96});
  V y = m.op("PRelu", {m.conv(x, 3, 48, {5, 5}), m.weight({48, 1, 1})});
  for (int i = 0; i < 3; ++i) y = m.op("PRelu", {m.conv(y, 48, 48, {3, 3}), m.weight({48, 1, 1})});
  y = m.conv(y, 48, 27, {3, 3});
  y = m.reshape(m.turn(m.reshape(y, {1, 3, 3, 3, 96, 96}), {0, 1, 4, 2, 5, 3}), {1, 3, 288, 288});
  const V skip =
      m.op("Resize", {x, kAbsent, m.constant(Tensor::from<float>({4}, {1, 1, 3, 3}))},
           {{"mode", std::string("cubic")}, {"coordinate_transformation_mode", std::string("half_pixel")}, {"cubic_coeff_a", -0.75f}});
  m.b.output(m.op("Clip", {m.add(y, skip), m.number(0), m.number(1)}));
}

// Tokens to one vector of length 1: a mask, a mean, a length.
void pooled(Maker& m) {
  const V x = m.in("x", {8, 128, 384}), mask = m.index("mask", {8, 128});
  const V wide = m.op("CastLike", {m.op("Expand", {m.unsqueeze(mask, {2}), m.ints({8, 128, 384})}), x});
  const V sum = m.op("ReduceSum", {m.mul(x, wide), m.ints({1})}, {{"keepdims", int64_t{0}}});
  const V count = m.op("Clip", {m.op("ReduceSum", {wide, m.ints({1})}, {{"keepdims", int64_t{0}}}), m.number(1e-4)});
  const V vector = m.op("Div", {sum, count});
  const V length = m.op("Clip", {m.op("ReduceL2", {vector, m.ints({1})}), m.number(1e-4)});
  m.b.output(m.op("Div", {vector, m.op("Expand", {length, m.op("Shape", {vector})})}));
}

// Frames: space, then time.
void frames(Maker& m) {
  V x = m.in("x", {1, 3, 8, 56, 56});
  x = m.op("Relu", {m.norm(m.conv(x, 3, 24, {1, 3, 3}, {1, 2, 2}), 24)});
  for (int i = 0; i < 2; ++i) {
    x = m.op("Relu", {m.norm(m.conv(x, 24, 24, {1, 3, 3}), 24)});
    x = m.op("Relu", {m.norm(m.conv(x, 24, 24, {3, 1, 1}), 24)});
  }
  x = m.op("MaxPool", {x}, {{"kernel_shape", List{1, 3, 3}}, {"strides", List{1, 2, 2}}, {"pads", List{0, 1, 1, 0, 1, 1}}});
  m.b.output(m.conv(x, 24, 48, {3, 3, 3}));
}

// Levels of a picture, the coarse ones added to the fine.
void pyramid(Maker& m) {
  V above = kAbsent;
  for (const auto& [side, channels] : {std::pair<int64_t, int64_t>{7, 512}, {14, 256}, {28, 128}, {56, 64}}) {
    const V x = m.in(fmt::format("x{}", side), {1, channels, side, side});
    V y = m.conv(x, channels, 64, {1, 1});
    if (above != kAbsent)
      y = m.add(y, m.op("Resize", {above, kAbsent, kAbsent, m.ints({1, 64, side, side})},
                        {{"mode", std::string("nearest")},
                         {"coordinate_transformation_mode", std::string("asymmetric")},
                         {"nearest_mode", std::string("floor")}}));
    above = y;
    m.b.output(m.conv(y, 64, 64, {3, 3}));
  }
}

// Padded by reflection, normalised by instance.
void style(Maker& m) {
  const auto padded = [&](V v, int64_t by) {
    return m.op("Pad", {v, m.ints({0, 0, by, by, 0, 0, by, by})}, {{"mode", std::string("reflect")}});
  };
  const auto bare = [&](V v, int64_t in, int64_t out, int64_t k, int64_t s) {
    return m.op("Conv", {v, m.weight({out, in, k, k}), m.weight({out})}, {{"strides", List{s, s}}});
  };
  const auto normed = [&](V v, int64_t c) { return m.op("InstanceNormalization", {v, m.weight({c}), m.weight({c})}); };
  V x = m.op("Relu", {normed(bare(padded(m.in("x", {1, 3, 112, 112}), 4), 3, 32, 9, 1), 32)});
  x = m.op("Relu", {normed(bare(padded(x, 1), 32, 64, 3, 2), 64)});
  const V y = m.op("Relu", {normed(bare(padded(x, 1), 64, 64, 3, 1), 64)});
  x = m.add(x, normed(bare(padded(y, 1), 64, 64, 3, 1), 64));
  x = m.op("Resize", {x, kAbsent, m.constant(Tensor::from<float>({4}, {1, 1, 2, 2}))},
           {{"mode", std::string("nearest")},
            {"coordinate_transformation_mode", std::string("asymmetric")},
            {"nearest_mode", std::string("floor")}});
  x = m.op("Relu", {normed(bare(padded(x, 1), 64, 32, 3, 1), 32)});
  m.b.output(bare(padded(x, 4), 32, 3, 9, 1));
}

// Halves that go on and halves that wait, joined; pools one after the other.
void waiting_halves(Maker& m) {
  V x = m.silu(m.norm(m.conv(m.in("x", {1, 64, 80, 80}), 64, 64, {1, 1}, {}, 1, {}, false), 64));
  std::vector<V> kept = m.b.ops("Split", {x, m.ints({32, 32})}, 2, {{"axis", int64_t{1}}});
  for (int i = 0; i < 2; ++i) {
    const V y = m.silu(m.conv(m.silu(m.conv(kept.back(), 32, 32, {3, 3})), 32, 32, {3, 3}));
    kept.push_back(m.add(kept.back(), y));
  }
  x = m.silu(m.conv(m.silu(m.conv(m.cat(kept, 1), 128, 128, {1, 1})), 128, 256, {3, 3}, {2, 2}));
  std::vector<V> pools{m.silu(m.conv(x, 256, 128, {1, 1}))};
  for (int i = 0; i < 3; ++i) pools.push_back(m.op("MaxPool", {pools.back()}, {{"kernel_shape", List{5, 5}}, {"pads", List{2, 2, 2, 2}}}));
  m.b.output(m.silu(m.conv(m.cat(pools, 1), 512, 256, {1, 1})));
}

// A signal to the logarithms of its bands, normalised.
void bands(Maker& m) {
  const V x = m.op("Pad", {m.in("x", {1, 80000}), m.ints({0, 200, 0, 200})}, {{"mode", std::string("reflect")}});
  const V made = m.op("STFT", {x, m.whole(160), m.weight({400})}, {{"onesided", int64_t{1}}});
  const V power = m.op("ReduceSumSquare", {made, m.ints({-1})}, {{"keepdims", int64_t{0}}});
  const V mel = m.op("MatMul", {power, m.weight({201, 80})});
  const V log = m.op("Div", {m.op("Log", {m.op("Max", {m.op("Abs", {mel}), m.number(1e-4)})}), m.number(2.302585)});
  const V most = m.op("ReduceMax", {log}, {{"keepdims", int64_t{1}}});
  m.b.output(m.turn(m.op("Div", {m.add(m.op("Max", {log, m.op("Sub", {most, m.number(8)})}), m.number(4)), m.number(4)}), {0, 2, 1}));
}

// From maps of heat to points: where each is hottest, and between which pixels.
void points(Maker& m) {
  const V heat = m.conv(m.in("x", {1, 64, 64, 48}), 64, 17, {1, 1});
  const V flat = m.reshape(heat, {1, 17, -1});
  const V at = m.op("ArgMax", {flat}, {{"axis", int64_t{2}}, {"keepdims", int64_t{1}}});
  const V row = m.op("Div", {at, m.whole(48)}), column = m.op("Mod", {at, m.whole(48)});
  const auto score = [&](V where) {
    return m.op("GatherElements", {flat, m.op("Clip", {where, m.whole(0), m.whole(64 * 48 - 1)})}, {{"axis", int64_t{2}}});
  };
  const auto side = [&](int64_t by) {
    return m.op("Sign", {m.op("Sub", {score(m.add(at, m.whole(by))), score(m.op("Sub", {at, m.whole(by)}))})});
  };
  const auto moved = [&](V whole, V by) { return m.add(m.op("CastLike", {whole, by}), m.mul(by, m.number(0.25))); };
  m.b.output(m.cat({moved(column, side(1)), moved(row, side(48)), score(at)}, 2));
}

// Points in space: the nearest neighbours of each, what differs, the largest of what is made of it.
void neighbours(Maker& m) {
  const int64_t n = 1024, k = 20, c = 64;
  const V x = m.in("x", {1, c, n}), rows = m.turn(x, {0, 2, 1});
  const V inner = m.mul(m.number(-2), m.op("MatMul", {rows, x}));
  const V squares = m.op("ReduceSum", {m.op("Pow", {x, m.number(2)}), m.ints({1})});
  const V near = m.op("Sub", {m.op("Sub", {m.op("Neg", {squares}), inner}), m.turn(squares, {0, 2, 1})});
  const auto top = m.b.ops("TopK", {near, m.ints({k})}, 2);
  const V seen = m.reshape(m.op("Gather", {m.reshape(rows, {n, c}), m.reshape(top[1], {-1})}), {1, n, k, c});
  const V own = m.op("Expand", {m.reshape(rows, {1, n, 1, c}), m.ints({1, n, k, c})});
  const V pair = m.turn(m.cat({m.op("Sub", {seen, own}), own}, 3), {0, 3, 1, 2});
  const V made = m.op("LeakyRelu", {m.norm(m.conv(pair, 2 * c, 64, {1, 1}, {}, 1, {}, false), 64)}, {{"alpha", 0.2f}});
  m.b.output(m.op("ReduceMax", {made, m.ints({-1})}, {{"keepdims", int64_t{0}}}));
}

// Attention without a softmax, by sums of letters; and with one, by the same.
void lettered(Maker& m) {
  const V x = m.in("x", {1, 512, 256});
  const auto part = [&] { return m.reshape(m.dense(x, 256, 256), {1, 512, 4, 64}); };
  const V q = part(), k = part(), v = part();
  const V scores = m.op("Einsum", {q, k}, {{"equation", std::string("blhd,bshd->bhls")}});
  const V seen = m.op("Einsum", {m.softmax(m.mul(scores, m.number(0.125))), v}, {{"equation", std::string("bhls,bshd->blhd")}});
  const auto positive = [&](V y) { return m.add(m.op("Elu", {y}), m.number(1)); };
  const V state = m.op("Einsum", {positive(k), v}, {{"equation", std::string("bshd,bshm->bhmd")}});
  const V sum = m.op("ReduceSum", {positive(k), m.ints({1})}, {{"keepdims", int64_t{0}}});
  const V by =
      m.op("Reciprocal", {m.add(m.op("Einsum", {positive(q), sum}, {{"equation", std::string("blhd,bhd->blh")}}), m.number(1e-4))});
  const V linear = m.op("Einsum", {positive(q), state, by}, {{"equation", std::string("blhd,bhmd,blh->blhm")}});
  m.b.output(m.dense(m.reshape(m.add(seen, linear), {1, 512, 256}), 256, 256));
}

// Queries and keys scaled by half as much each, and zeros where a row sees nothing, as attention in one call is exported.
void scaled_twice(Maker& m) {
  const int64_t n = 197, width = 384, heads = 6, each = 64;
  const V x = m.in("x", {1, n, width}), h = m.layer_norm(x, width), half = m.number(1 / std::sqrt(8.0));
  const auto part = [&](const List& perm) { return m.turn(m.reshape(m.dense(h, width, width), {1, n, heads, each}), perm); };
  const V scores = m.add(m.op("MatMul", {m.mul(part({0, 2, 1, 3}), half), m.mul(part({0, 2, 3, 1}), half)}), m.in("mask", {1, 1, n, n}));
  const V weights = m.softmax(scores), shares = m.op("Where", {m.op("IsNaN", {weights}), m.number(0), weights});
  const V y = m.reshape(m.turn(m.op("MatMul", {shares, part({0, 2, 1, 3})}), {0, 2, 1, 3}), {1, n, width});
  const V sum = m.add(x, m.dense(y, width, width));
  m.b.output(m.add(sum, m.dense(m.gelu(m.dense(m.layer_norm(sum, width), width, 4 * width)), 4 * width, width)));
}

// Batch and heads in one axis, a mask where they stand apart.
void heads_in_one_axis(Maker& m) {
  const int64_t n = 77, width = 512, heads = 8, each = 64;
  const V x = m.in("x", {1, n, width}), h = m.layer_norm(x, width);
  const auto part = [&](V y) { return m.reshape(m.turn(m.reshape(y, {1, n, heads, each}), {0, 2, 1, 3}), {heads, n, each}); };
  const V q = part(m.mul(m.dense(h, width, width), m.number(0.125))), k = part(m.dense(h, width, width)),
          v = part(m.dense(h, width, width));
  const V scores = m.add(m.reshape(m.op("MatMul", {q, m.turn(k, {0, 2, 1})}), {1, heads, n, n}), m.weight({1, 1, n, n}));
  const V seen = m.op("MatMul", {m.softmax(m.reshape(scores, {heads, n, n})), v});
  const V y = m.reshape(m.turn(m.reshape(seen, {1, heads, n, each}), {0, 2, 1, 3}), {1, n, width});
  const V sum = m.add(x, m.dense(y, width, width)), wide = m.dense(m.layer_norm(sum, width), width, 4 * width);
  m.b.output(m.add(sum, m.dense(m.mul(wide, m.op("Sigmoid", {m.mul(wide, m.number(1.702))})), 4 * width, width)));
}

// Scores kept below a cap, two masks, heads in groups.
void capped(Maker& m) {
  const int64_t n = 256, width = 512, heads = 8, groups = 4, each = 64;
  const V x = m.in("x", {1, n, width}), h = m.rms_norm(x, width);
  const auto part = [&](int64_t count) {
    return m.turn(m.reshape(m.dense(h, width, count * each, false), {1, n, count, each}), {0, 2, 1, 3});
  };
  const auto said = [&](V y) {
    return m.reshape(m.op("Expand", {m.unsqueeze(y, {2}), m.ints({1, groups, heads / groups, n, each})}), {1, heads, n, each});
  };
  V scores = m.mul(m.op("MatMul", {part(heads), m.turn(said(part(groups)), {0, 1, 3, 2})}), m.number(0.125));
  scores = m.mul(m.op("Tanh", {m.op("Div", {scores, m.number(50)})}), m.number(50));
  scores = m.add(m.add(scores, m.weight({1, 1, n, n})), m.in("mask", {1, 1, 1, n}));
  const V y = m.reshape(m.turn(m.op("MatMul", {m.softmax(scores), said(part(groups))}), {0, 2, 1, 3}), {1, n, width});
  m.b.output(m.add(x, m.dense(y, width, width, false)));
}

// A state that decays, step by step, as a Scan.
void decaying_state(Maker& m) {
  const int64_t n = 64, c = 256, states = 16;
  Builder body("step", 18);
  const V h = body.input("h", m.type(), {c, states}), a = body.input("a", m.type(), {c, states}),
          bx = body.input("bx", m.type(), {c, states}), read = body.input("read", m.type(), {states, 1});
  const V next = body.op("Add", {body.op("Mul", {a, h}), bx});
  body.output(next, "next");
  body.output(body.op("MatMul", {next, read}), "y");
  const V x = m.in("x", {n, c}), delta = m.op("Softplus", {m.dense(x, c, c)});
  const V decay = m.op("Exp", {m.mul(m.unsqueeze(delta, {2}), m.weight({c, states}))});
  const V fed = m.mul(m.mul(m.unsqueeze(delta, {2}), m.unsqueeze(m.dense(x, c, states), {1})), m.unsqueeze(x, {2}));
  const V reads = m.unsqueeze(m.dense(x, c, states), {2});
  const auto made = m.b.ops("Scan", {m.op("CastLike", {m.op("ConstantOfShape", {m.ints({c, states})}), x}), decay, fed, reads}, 2,
                            {{"body", body.finish_body()}, {"num_scan_inputs", int64_t{3}}});
  m.b.output(m.add(m.squeeze(made[1], {2}), m.mul(x, m.weight({c}))));
}

const std::vector<Block> kBlocks{{"windows, shifted", shifted_windows},
                                 {"patches, merged", merged_patches},
                                 {"attention, relative positions", relative_positions},
                                 {"attention, turned heads, few keys", turned_heads},
                                 {"attention, by letters", lettered},
                                 {"attention, scaled twice", scaled_twice},
                                 {"attention, heads in one axis", heads_in_one_axis},
                                 {"attention, capped", capped},
                                 {"attention, speech", speech_block},
                                 {"attention, noise and a text", noise_block},
                                 {"attention, sampled scales", sampled_scales},
                                 {"depthwise, squeezed and excited", excited},
                                 {"depthwise, channels turned", channels_turned},
                                 {"halves that wait, pools", waiting_halves},
                                 {"boxes of three scales", boxes},
                                 {"pyramid of levels", pyramid},
                                 {"points of heat", points},
                                 {"style, by instances", style},
                                 {"picture enlarged", enlarged},
                                 {"frames, space then time", frames},
                                 {"letters of a picture, both ways", letters},
                                 {"signal, gated", gated_signal},
                                 {"signal, samples made", samples},
                                 {"signal, bands", bands},
                                 {"graph, messages", messages},
                                 {"points, neighbours", neighbours},
                                 {"tokens, pooled", pooled},
                                 {"state that decays, Scan", decaying_state}};

}  // namespace

int main(int argc, char** argv) {
  std::string only;
  DType type = DType::f32;
  int threads = 1, runs = 20, worst = 3;
  for (int i = 1; i < argc; ++i) {
    if (!std::strcmp(argv[i], "--only") && i + 1 < argc) only = argv[++i];
    else if (!std::strcmp(argv[i], "--threads") && i + 1 < argc) threads = std::max(1, std::atoi(argv[++i]));
    else if (!std::strcmp(argv[i], "--runs") && i + 1 < argc) runs = std::max(1, std::atoi(argv[++i]));
    else if (!std::strcmp(argv[i], "--worst") && i + 1 < argc) worst = std::max(0, std::atoi(argv[++i]));
    else if (!std::strcmp(argv[i], "--f16")) type = DType::f16;
    else {
      fmt::print(stderr,
                 "usage: blocks [--only TEXT] [--threads N] [--runs N] [--worst STEPS] [--f16]\n\nexit status: 1 when a step goes by plain "
                 "evaluation, or a result is not that of plain evaluation\n");
      return 2;
    }
  }
  const Roofline roofline("", threads);
  bool good = true;
  fmt::print("{:<36}{:>6}{:>7}{:>12}{:>12}{:>9}   steps that lose most: us, share of their limit\n", "", "steps", "plain", "us", "at least",
             "of that");
  for (const Block& block : kBlocks) {
    if (!only.empty() && block.name.find(only) == std::string::npos) continue;
    try {
      Maker m(block.name, type, block.opset);
      block.make(m);
      const Graph g = m.b.finish();
      const Program p = compile(g, {.threads = threads});
      auto inputs = random_inputs(p, p.bound_shapes(), 1);
      Lane lane(p);
      lane.run(std::span<const Tensor>(inputs));
      // Values that stay wide between nodes are nearer to the truth than what plain evaluation rounds: compared as the model is written.
      const Outputs out = Lane(compile(g, {.threads = threads, .round_each = true})).run(std::span<const Tensor>(inputs));
      const auto expected = evaluate_plain(g, inputs);
      std::string wrong;
      for (size_t i = 0; i < expected.size(); ++i) {
        const Tolerance near = type == DType::f32 ? Tolerance{1e-3, 1e-3, 0} : Tolerance{2e-2, 3e-2, 0};
        const Comparison c = compare(out.name(i), out[i], expected[i], is_float(expected[i].dtype()) ? std::optional(near) : std::nullopt);
        if (!c.pass) wrong = c.reason;
      }
      const Profile made = profile(lane, inputs, roofline, {.runs = runs});
      double limit = 0;
      int plain = 0;
      std::vector<const StepProfile*> lost;
      for (const StepProfile& s : made.steps) {
        limit += s.limit_seconds;
        plain += s.step.kind == "plain";
        lost.push_back(&s);
      }
      std::ranges::sort(lost, [](const StepProfile* a, const StepProfile* b) {
        return a->latency.median - a->limit_seconds > b->latency.median - b->limit_seconds;
      });
      std::string text;
      for (int i = 0; i < worst && i < static_cast<int>(lost.size()); ++i)
        text += fmt::format("{}{} {:.0f}, {:.0f} %", i ? "; " : "", lost[static_cast<size_t>(i)]->step.op,
                            1e6 * lost[static_cast<size_t>(i)]->latency.median, 100 * lost[static_cast<size_t>(i)]->of_limit);
      fmt::print("{:<36}{:>6}{:>7}{:>12.1f}{:>12.1f}{:>8.0f} %   {}\n", block.name, made.steps.size(), plain, 1e6 * made.run.median,
                 1e6 * limit, 100 * limit / made.run.median, text);
      if (!wrong.empty()) fmt::print("  not what plain evaluation gives: {}\n", wrong);
      for (const StepProfile& s : made.steps) {
        if (s.step.kind == "plain") fmt::print("  plain: {}: {}\n", fmt::join(s.step.nodes, ", "), s.step.why);
      }
      good = good && plain == 0 && wrong.empty();
    } catch (const Error& e) {
      fmt::print("{:<36}{}\n", block.name, e.what());
      good = false;
    }
  }
  return good ? 0 : 1;
}
