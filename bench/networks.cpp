#include "networks.hpp"

#include <cmath>
#include <random>

namespace lathe::networks {
namespace {

class Maker {
 public:
  Maker(std::string name, uint64_t seed) : b(std::move(name)), random_(seed) {}

  Tensor normal(Shape shape, double spread) {
    Tensor t(DType::f32, std::move(shape));
    std::normal_distribution<float> d(0, static_cast<float>(spread));
    for (float& v : t.as<float>()) v = d(random_);
    return t;
  }
  Tensor uniform(Shape shape, float low, float high) {
    Tensor t(DType::f32, std::move(shape));
    std::uniform_real_distribution<float> d(low, high);
    for (float& v : t.as<float>()) v = d(random_);
    return t;
  }
  ValueId weight(Tensor t) { return b.constant("w" + std::to_string(++count_), std::move(t)); }

  ValueId conv(ValueId x, int64_t in, int64_t out, int64_t kernel, int64_t stride, bool bias = false, int64_t group = 1) {
    const int64_t depth = in / group;
    std::vector<ValueId> inputs{
        x, weight(normal({out, depth, kernel, kernel}, std::sqrt(2.0 / static_cast<double>(depth * kernel * kernel))))};
    if (bias) inputs.push_back(weight(uniform({out}, -0.1f, 0.1f)));
    const int64_t p = kernel / 2;
    return b.op("Conv", inputs,
                {{"kernel_shape", std::vector<int64_t>{kernel, kernel}},
                 {"strides", std::vector<int64_t>{stride, stride}},
                 {"group", group},
                 {"pads", std::vector<int64_t>{p, p, p, p}}});
  }
  ValueId scalar(float v) { return weight(Tensor::from<float>({}, {v})); }
  ValueId integers(const std::vector<int64_t>& v) {
    Tensor t(DType::i64, {static_cast<int64_t>(v.size())});
    std::copy(v.begin(), v.end(), t.as<int64_t>().begin());
    return weight(t);
  }
  ValueId reshape(ValueId x, const std::vector<int64_t>& to) { return b.op("Reshape", {x, integers(to)}); }
  ValueId turn(ValueId x, const std::vector<int64_t>& perm) { return b.op("Transpose", {x}, {{"perm", perm}}); }
  // A product with constant weights and a bias added, as two ops.
  ValueId dense(ValueId x, int64_t in, int64_t out) {
    const ValueId y = b.op("MatMul", {x, weight(normal({in, out}, 1 / std::sqrt(static_cast<double>(in))))});
    return b.op("Add", {y, weight(uniform({out}, -0.1f, 0.1f))});
  }
  // Layer normalisation over the last axis in elementary ops.
  ValueId layer_norm(ValueId x, int64_t width) {
    const ValueId centred = b.op("Sub", {x, b.op("ReduceMean", {x}, {{"axes", std::vector<int64_t>{-1}}})});
    const ValueId variance = b.op("ReduceMean", {b.op("Pow", {centred, scalar(2)})}, {{"axes", std::vector<int64_t>{-1}}});
    const ValueId y = b.op("Div", {centred, b.op("Sqrt", {b.op("Add", {variance, scalar(1e-5f)})})});
    return b.op("Add", {b.op("Mul", {y, weight(uniform({width}, 0.8f, 1.2f))}), weight(uniform({width}, -0.1f, 0.1f))});
  }
  // GELU through the error function.
  ValueId gelu(ValueId x) {
    const ValueId half = b.op("Mul", {x, b.op("Add", {b.op("Erf", {b.op("Div", {x, scalar(1.41421356f)})}), scalar(1)})});
    return b.op("Mul", {half, scalar(0.5f)});
  }
  ValueId norm(ValueId x, int64_t channels) {
    return b.op("BatchNormalization", {x, weight(uniform({channels}, 0.5f, 1.0f)), weight(uniform({channels}, -0.1f, 0.1f)),
                                       weight(uniform({channels}, -0.1f, 0.1f)), weight(uniform({channels}, 0.8f, 1.2f))});
  }
  ValueId relu(ValueId x) { return b.op("Relu", {x}); }

  Builder b;

 private:
  std::mt19937_64 random_;
  int count_ = 0;
};

}  // namespace

Graph residual_50(int64_t batch, int64_t side, uint64_t seed) {
  Maker m("residual_50", seed);
  ValueId x = m.b.input("image", DType::f32, {batch, 3, side, side});
  x = m.relu(m.norm(m.conv(x, 3, 64, 7, 2), 64));
  x = m.b.op(
      "MaxPool", {x},
      {{"kernel_shape", std::vector<int64_t>{3, 3}}, {"strides", std::vector<int64_t>{2, 2}}, {"pads", std::vector<int64_t>{1, 1, 1, 1}}});
  int64_t in = 64;
  const int64_t widths[] = {64, 128, 256, 512}, depths[] = {3, 4, 6, 3};
  for (int stage = 0; stage < 4; ++stage) {
    for (int64_t block = 0; block < depths[stage]; ++block) {
      const int64_t width = widths[stage], out = width * 4, stride = block == 0 && stage > 0 ? 2 : 1;
      ValueId y = m.relu(m.norm(m.conv(x, in, width, 1, 1), width));
      y = m.relu(m.norm(m.conv(y, width, width, 3, stride), width));
      y = m.norm(m.conv(y, width, out, 1, 1), out);
      const ValueId side_way = block == 0 ? m.norm(m.conv(x, in, out, 1, stride), out) : x;
      x = m.relu(m.b.op("Add", {y, side_way}));
      in = out;
    }
  }
  x = m.b.op("Flatten", {m.b.op("GlobalAveragePool", {x})});
  x = m.b.op("Gemm", {x, m.weight(m.normal({1000, in}, 0.02)), m.weight(m.uniform({1000}, -0.1f, 0.1f))}, {{"transB", int64_t{1}}});
  m.b.output(m.b.op("Softmax", {x}), "classes");
  return m.b.finish();
}

namespace {

// The small nets of nested().
class Nested {
 public:
  explicit Nested(Maker& m) : m_(m) {}

  ValueId layer(ValueId x, int64_t in, int64_t out, int64_t dilation = 1) {
    const ValueId y = m_.b.op(
        "Conv",
        {x, m_.weight(m_.normal({out, in, 3, 3}, std::sqrt(2.0 / static_cast<double>(9 * in)))), m_.weight(m_.uniform({out}, -0.1f, 0.1f))},
        {{"kernel_shape", std::vector<int64_t>{3, 3}},
         {"dilations", std::vector<int64_t>{dilation, dilation}},
         {"pads", std::vector<int64_t>(4, dilation)}});
    return m_.relu(m_.norm(y, out));
  }
  ValueId smaller(ValueId x) {
    return m_.b.op("MaxPool", {x},
                   {{"kernel_shape", std::vector<int64_t>{2, 2}}, {"strides", std::vector<int64_t>{2, 2}}, {"ceil_mode", int64_t{1}}});
  }
  // To the height and width of `like`.
  ValueId as_large(ValueId x, ValueId like) {
    const auto part = [&](ValueId v, int64_t from, int64_t to) {
      return m_.b.op("Slice", {m_.b.op("Shape", {v}), m_.integers({from}), m_.integers({to}), m_.integers({0})});
    };
    const ValueId sizes = m_.b.op("Concat", {part(x, 0, 2), part(like, 2, 4)}, {{"axis", int64_t{0}}});
    return m_.b.op(
        "Resize", {x, kAbsent, kAbsent, sizes},
        {{"mode", Attribute::Data(std::string("linear"))}, {"coordinate_transformation_mode", Attribute::Data(std::string("half_pixel"))}});
  }
  ValueId joined(ValueId a, ValueId b) { return m_.b.op("Concat", {a, b}, {{"axis", int64_t{1}}}); }

  // Down `levels` times and up again; without sizes changing where it is `flat`: there taps move apart instead.
  ValueId block(ValueId x, int64_t levels, int64_t in, int64_t middle, int64_t out, bool flat = false) {
    const ValueId first = layer(x, in, out);
    std::vector<ValueId> down{layer(first, out, middle)};
    for (int64_t i = 1; i < levels - 1; ++i)
      down.push_back(flat ? layer(down.back(), middle, middle, int64_t{1} << i) : layer(smaller(down.back()), middle, middle));
    ValueId y = layer(down.back(), middle, middle, flat ? int64_t{1} << (levels - 1) : 2);
    for (int64_t i = levels - 2; i >= 0; --i) {
      const ValueId skip = down[static_cast<size_t>(i)];
      y = layer(joined(y, skip), 2 * middle, i == 0 ? out : middle, flat ? int64_t{1} << i : 1);
      if (i > 0 && !flat) y = as_large(y, down[static_cast<size_t>(i - 1)]);
    }
    return m_.b.op("Add", {y, first});
  }

 private:
  Maker& m_;
};

}  // namespace

Graph nested(int64_t batch, int64_t side, uint64_t seed) {
  Maker m("nested", seed);
  Nested n(m);
  constexpr int64_t kMiddle = 16, kOut = 64;
  const ValueId picture = m.b.input("picture", DType::f32, {batch, 3, side, side});
  const int64_t levels[]{7, 6, 5, 4, 4, 4};
  std::vector<ValueId> down;
  for (size_t i = 0; i < 6; ++i)
    down.push_back(n.block(i == 0 ? picture : n.smaller(down.back()), levels[i], i == 0 ? 3 : kOut, kMiddle, kOut, i > 3));
  std::vector<ValueId> made{down.back()};
  for (size_t i = 5; i-- > 0;) {
    const ValueId up = n.as_large(made.back(), down[i]);
    made.push_back(n.block(n.joined(up, down[i]), levels[i], 2 * kOut, kMiddle, kOut, i > 3));
  }
  std::vector<ValueId> masks;
  for (size_t i = made.size(); i-- > 0;) {
    ValueId mask = m.conv(made[i], kOut, 1, 3, 1, true);
    if (!masks.empty()) mask = n.as_large(mask, masks.front());
    masks.push_back(mask);
  }
  const ValueId all = m.conv(m.b.op("Concat", masks, {{"axis", int64_t{1}}}), 6, 1, 1, 1, true);
  m.b.output(m.b.op("Sigmoid", {all}), "mask");
  for (ValueId v : masks) m.b.output(m.b.op("Sigmoid", {v}), "mask_" + std::to_string(v));
  return m.b.finish();
}

Graph mobile(int64_t batch, int64_t side, uint64_t seed) {
  Maker m("mobile", seed);
  const auto clamp = [&](ValueId x) { return m.b.op("Clip", {x, m.scalar(0), m.scalar(6)}); };
  ValueId x = m.b.input("image", DType::f32, {batch, 3, side, side});
  x = clamp(m.norm(m.conv(x, 3, 32, 3, 2), 32));
  int64_t in = 32;
  const int64_t table[][4] = {{1, 16, 1, 1}, {6, 24, 2, 2}, {6, 32, 3, 2}, {6, 64, 4, 2}, {6, 96, 3, 1}, {6, 160, 3, 2}, {6, 320, 1, 1}};
  for (const auto& [widen, out, blocks, first_stride] : table) {
    for (int64_t block = 0; block < blocks; ++block) {
      const int64_t wide = in * widen, stride = block == 0 ? first_stride : 1;
      ValueId y = x;
      if (widen != 1) y = clamp(m.norm(m.conv(y, in, wide, 1, 1), wide));
      y = clamp(m.norm(m.conv(y, wide, wide, 3, stride, false, wide), wide));
      y = m.norm(m.conv(y, wide, out, 1, 1), out);
      x = stride == 1 && in == out ? m.b.op("Add", {x, y}) : y;
      in = out;
    }
  }
  x = clamp(m.norm(m.conv(x, in, 1280, 1, 1), 1280));
  x = m.b.op("Flatten", {m.b.op("GlobalAveragePool", {x})});
  x = m.b.op("Gemm", {x, m.weight(m.normal({1000, 1280}, 0.02)), m.weight(m.uniform({1000}, -0.1f, 0.1f))}, {{"transB", int64_t{1}}});
  m.b.output(x, "classes");
  return m.b.finish();
}

Graph encoder(int64_t batch, int64_t length, int64_t layers, int64_t width, int64_t heads, uint64_t seed) {
  Maker m("encoder", seed);
  const int64_t each = width / heads;
  ValueId x = m.b.input("embedded", DType::f32, {batch, length, width});
  const ValueId mask = m.b.input("mask", DType::f32, {batch, 1, 1, length});  // 0 or a large negative number
  for (int64_t layer = 0; layer < layers; ++layer) {
    const auto part = [&](const std::vector<int64_t>& perm) {
      return m.turn(m.reshape(m.dense(x, width, width), {batch, length, heads, each}), perm);
    };
    const ValueId q = part({0, 2, 1, 3}), k = part({0, 2, 3, 1}), v = part({0, 2, 1, 3});
    const ValueId scores = m.b.op("Div", {m.b.op("MatMul", {q, k}), m.scalar(std::sqrt(static_cast<float>(each)))});
    const ValueId seen = m.b.op("MatMul", {m.b.op("Softmax", {m.b.op("Add", {scores, mask})}, {{"axis", int64_t{-1}}}), v});
    const ValueId joined = m.dense(m.reshape(m.turn(seen, {0, 2, 1, 3}), {batch, length, width}), width, width);
    x = m.layer_norm(m.b.op("Add", {joined, x}), width);
    const ValueId fed = m.dense(m.gelu(m.dense(x, width, 4 * width)), 4 * width, width);
    x = m.layer_norm(m.b.op("Add", {fed, x}), width);
  }
  m.b.output(x, "encoded");
  return m.b.finish();
}

Graph skips(int64_t batch, int64_t side, uint64_t seed) {
  Maker m("skips", seed);
  ValueId x = m.b.input("image", DType::f32, {batch, 3, side, side});
  const auto pair = [&](ValueId y, int64_t in, int64_t out) {
    y = m.relu(m.norm(m.conv(y, in, out, 3, 1), out));
    return m.relu(m.norm(m.conv(y, out, out, 3, 1), out));
  };
  std::vector<ValueId> kept;
  const int64_t widths[] = {32, 64, 128, 256};
  int64_t in = 3;
  for (int64_t width : widths) {
    kept.push_back(x = pair(x, in, width));
    x = m.b.op("MaxPool", {x}, {{"kernel_shape", std::vector<int64_t>{2, 2}}, {"strides", std::vector<int64_t>{2, 2}}});
    in = width;
  }
  x = pair(x, 256, 512);
  in = 512;
  for (int level = 3; level >= 0; --level) {
    const int64_t width = widths[level];
    x = m.b.op(
        "ConvTranspose",
        {x, m.weight(m.normal({in, width, 2, 2}, 1 / std::sqrt(static_cast<double>(in)))), m.weight(m.uniform({width}, -0.1f, 0.1f))},
        {{"kernel_shape", std::vector<int64_t>{2, 2}}, {"strides", std::vector<int64_t>{2, 2}}});
    x = pair(m.b.op("Concat", {x, kept[level]}, {{"axis", int64_t{1}}}), 2 * width, width);
    in = width;
  }
  m.b.output(m.b.op("Sigmoid", {m.conv(x, 32, 1, 1, 1, true)}), "mask");
  return m.b.finish();
}

Graph recurrent(int64_t batch, int64_t steps, uint64_t seed) {
  Maker m("recurrent", seed);
  ValueId x = m.b.input("features", DType::f32, {steps, batch, 40});
  int64_t in = 40;
  for (int layer = 0; layer < 2; ++layer) {
    const int64_t hidden = 256;
    const ValueId y = m.b.op("LSTM",
                             {x, m.weight(m.normal({1, 4 * hidden, in}, 0.1)), m.weight(m.normal({1, 4 * hidden, hidden}, 0.05)),
                              m.weight(m.uniform({1, 8 * hidden}, -0.1f, 0.1f))},
                             {{"hidden_size", hidden}});
    x = m.b.op("Squeeze", {y, m.integers({1})});
    in = hidden;
  }
  m.b.output(m.b.op("Softmax", {m.dense(x, in, 32)}, {{"axis", int64_t{-1}}}), "classes");
  return m.b.finish();
}

Graph decoder(int64_t batch, int64_t past, uint64_t seed) {
  Maker m("decoder", seed);
  const int64_t width = 512, heads = 8, each = width / heads, words = 8000;
  const ValueId table = m.weight(m.normal({words, width}, 1));
  ValueId x = m.b.op("Gather", {table, m.b.input("token", DType::i64, {batch, 1})});
  for (int layer = 0; layer < 6; ++layer) {
    const std::string at = std::to_string(layer);
    const ValueId n = m.layer_norm(x, width);
    const auto part = [&](const std::vector<int64_t>& perm) {
      return m.turn(m.reshape(m.dense(n, width, width), {batch, 1, heads, each}), perm);
    };
    const ValueId q = part({0, 2, 1, 3});
    const ValueId k =
        m.b.op("Concat", {m.b.input("keys." + at, DType::f32, {batch, heads, past, each}), part({0, 2, 1, 3})}, {{"axis", int64_t{2}}});
    const ValueId v =
        m.b.op("Concat", {m.b.input("values." + at, DType::f32, {batch, heads, past, each}), part({0, 2, 1, 3})}, {{"axis", int64_t{2}}});
    const ValueId scores =
        m.b.op("Mul", {m.b.op("MatMul", {q, m.turn(k, {0, 1, 3, 2})}), m.scalar(1 / std::sqrt(static_cast<float>(each)))});
    const ValueId seen = m.b.op("MatMul", {m.b.op("Softmax", {scores}, {{"axis", int64_t{-1}}}), v});
    x = m.b.op("Add", {x, m.dense(m.reshape(m.turn(seen, {0, 2, 1, 3}), {batch, 1, width}), width, width)});
    x = m.b.op("Add", {x, m.dense(m.gelu(m.dense(m.layer_norm(x, width), width, 4 * width)), 4 * width, width)});
    m.b.output(k, "keys_next." + at);
    m.b.output(v, "values_next." + at);
  }
  m.b.output(m.dense(m.layer_norm(x, width), width, words), "scores");
  return m.b.finish();
}

Graph language(int64_t layers, int64_t width, int64_t words, uint64_t seed) {
  Maker m("language", seed);
  m.b = Builder("language", 23);
  const int64_t each = 64, heads = width / each;
  ValueId x = m.b.op("Gather", {m.weight(m.normal({words, width}, 1)), m.b.input("tokens", DType::i64, {"batch", "new"})});
  const auto norm = [&](ValueId v) {
    return m.b.op("LayerNormalization", {v, m.weight(m.uniform({width}, 0.8f, 1.2f)), m.weight(m.uniform({width}, -0.1f, 0.1f))});
  };
  for (int64_t layer = 0; layer < layers; ++layer) {
    const std::string at = std::to_string(layer);
    const ValueId n = norm(x);
    const auto part = [&] { return m.turn(m.reshape(m.dense(n, width, width), {0, 0, heads, each}), {0, 2, 1, 3}); };
    const ValueId q = part(), k = part(), v = part();
    const ValueId past_k = m.b.input("keys." + at, DType::f32, {"batch", heads, "held", each});
    const ValueId past_v = m.b.input("values." + at, DType::f32, {"batch", heads, "held", each});
    const auto out = m.b.ops("Attention", {q, k, v, kAbsent, past_k, past_v}, 3, {{"is_causal", int64_t{1}}});
    x = m.b.op("Add", {x, m.dense(m.reshape(m.turn(out[0], {0, 2, 1, 3}), {0, 0, width}), width, width)});
    x = m.b.op("Add", {x, m.dense(m.b.op("Gelu", {m.dense(norm(x), width, 4 * width)}), 4 * width, width)});
    m.b.output(out[1], "keys_next." + at);
    m.b.output(out[2], "values_next." + at);
  }
  m.b.output(m.b.op("MatMul", {norm(x), m.weight(m.normal({width, words}, 1 / std::sqrt(static_cast<double>(width))))}), "scores");
  return m.b.finish();
}

Graph convolution(int64_t batch, int64_t channels, int64_t side, int64_t filters, int64_t kernel, int64_t stride, uint64_t seed) {
  Maker m("convolution", seed);
  const ValueId x = m.b.input("x", DType::f32, {batch, channels, side, side});
  m.b.output(m.relu(m.conv(x, channels, filters, kernel, stride, true)), "y");
  return m.b.finish();
}

Graph product(int64_t m_rows, int64_t n, int64_t k, uint64_t seed) {
  Maker m("product", seed);
  const ValueId x = m.b.input("x", DType::f32, {m_rows, k});
  m.b.output(m.b.op("MatMul", {x, m.weight(m.normal({k, n}, 0.1))}), "y");
  return m.b.finish();
}

}  // namespace lathe::networks
