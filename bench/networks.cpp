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

  ValueId conv(ValueId x, int64_t in, int64_t out, int64_t kernel, int64_t stride, bool bias = false) {
    std::vector<ValueId> inputs{x, weight(normal({out, in, kernel, kernel}, std::sqrt(2.0 / static_cast<double>(in * kernel * kernel))))};
    if (bias) inputs.push_back(weight(uniform({out}, -0.1f, 0.1f)));
    const int64_t p = kernel / 2;
    return b.op("Conv", inputs,
                {{"kernel_shape", std::vector<int64_t>{kernel, kernel}},
                 {"strides", std::vector<int64_t>{stride, stride}},
                 {"pads", std::vector<int64_t>{p, p, p, p}}});
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
