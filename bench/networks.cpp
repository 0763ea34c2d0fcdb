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
