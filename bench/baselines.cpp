// Implementations to compare with, for `lathe sweep --kernels`: OpenBLAS (products, and convolutions by writing the windows out) and
// Eigen (products, elementwise ops).
#include <cblas.h>

#include <Eigen/Core>
#include <algorithm>
#include <cstring>
#include <memory>

#include "lathe/lathe.hpp"

extern "C" void openblas_set_num_threads(int threads);

using namespace lathe;

namespace {

struct Product {
  int64_t batch = 1, m = 0, n = 0, k = 0;
};

// A [.., m, k] by B [k, n] or [.., k, n], both f32.
std::optional<Product> product_of(const SweepTask& t) {
  if (t.node.op != "MatMul" || t.operands.size() != 2 || t.operands[0].dtype() != DType::f32 || t.operands[1].dtype() != DType::f32)
    return std::nullopt;
  const Shape &a = t.operands[0].shape(), &b = t.operands[1].shape();
  Product p;
  p.m = a[a.size() - 2], p.k = a.back(), p.n = b.back();
  for (size_t i = 0; i + 2 < a.size(); ++i) p.batch *= a[i];
  return p;
}

void multiply(const float* a, const float* b, float* c, int64_t m, int64_t n, int64_t k) {
  const auto im = static_cast<int>(m), in = static_cast<int>(n), ik = static_cast<int>(k);
  if (m == 1) cblas_sgemv(CblasRowMajor, CblasTrans, ik, in, 1, b, in, a, 1, 0, c, 1);
  else cblas_sgemm(CblasRowMajor, CblasNoTrans, CblasNoTrans, im, in, ik, 1, a, ik, b, in, 0, c, in);
}

std::function<void()> blas_product(const SweepTask& t, const Product& p) {
  // Weights as the library likes them best for one row: those of a model may be turned once, when it is loaded.
  return [=, operands = t.operands, out = t.outputs[0], threads = t.threads]() mutable {
    openblas_set_num_threads(threads);
    for (int64_t i = 0; i < p.batch; ++i)
      multiply(operands[0].as<float>().data() + i * p.m * p.k,
               operands[1].as<float>().data() + (operands[1].rank() > 2 ? i * p.k * p.n : 0), out.as<float>().data() + i * p.m * p.n, p.m,
               p.n, p.k);
  };
}

// Windows written out, one product a picture and group; natural order in and out, which is this way's own.
std::function<void()> blas_convolution(const SweepTask& t) {
  const Shape x = t.operands[0].shape(), w = t.operands[1].shape(), y = t.outputs[0].shape();
  if (t.operands[0].dtype() != DType::f32 || x.size() != 4) return {};
  const auto strides = t.node.integers("strides", {1, 1}), pads = t.node.integers("pads", {0, 0, 0, 0}),
             dilations = t.node.integers("dilations", {1, 1});
  const int64_t groups = t.node.integer("group", 1), channels = w[1], filters = w[0] / groups, kh = w[2], kw = w[3], pixels = y[2] * y[3],
                depth = channels * kh * kw;
  const bool direct = kh * kw == 1 && strides[0] == 1 && strides[1] == 1 && pads == std::vector<int64_t>{0, 0, 0, 0};
  auto room = std::make_shared<std::vector<float>>(direct ? 0 : static_cast<size_t>(depth * pixels));
  return [=, operands = t.operands, out = t.outputs[0], threads = t.threads]() mutable {
    openblas_set_num_threads(threads);
    const bool biased = operands.size() > 2 && !operands[2].empty();
    for (int64_t n = 0; n < x[0]; ++n) {
      for (int64_t g = 0; g < groups; ++g) {
        const float* in = operands[0].as<float>().data() + (n * x[1] + g * channels) * x[2] * x[3];
        const float* columns = in;
        if (!direct) {
          float* to = room->data();
          for (int64_t c = 0; c < channels; ++c) {
            for (int64_t ky = 0; ky < kh; ++ky) {
              for (int64_t kx = 0; kx < kw; ++kx) {
                for (int64_t oy = 0; oy < y[2]; ++oy, to += y[3]) {
                  const int64_t iy = oy * strides[0] + ky * dilations[0] - pads[0];
                  if (iy < 0 || iy >= x[2]) {
                    std::fill_n(to, y[3], 0.0f);
                    continue;
                  }
                  const float* row = in + (c * x[2] + iy) * x[3];
                  const int64_t shift = kx * dilations[1] - pads[1];
                  // The run of columns that lie inside.
                  const int64_t first = std::clamp<int64_t>((-shift + strides[1] - 1) / strides[1], 0, y[3]),
                                last = shift >= x[3] ? 0 : std::clamp<int64_t>((x[3] - 1 - shift) / strides[1] + 1, first, y[3]);
                  std::fill(to, to + first, 0.0f);
                  if (strides[1] == 1) std::memcpy(to + first, row + first + shift, static_cast<size_t>(last - first) * sizeof(float));
                  else
                    for (int64_t ox = first; ox < last; ++ox) to[ox] = row[ox * strides[1] + shift];
                  std::fill(to + last, to + y[3], 0.0f);
                }
              }
            }
          }
          columns = room->data();
        }
        float* result = out.as<float>().data() + (n * y[1] + g * filters) * pixels;
        for (int64_t f = 0; f < filters; ++f)
          std::fill_n(result + f * pixels, pixels, biased ? operands[2].as<float>()[g * filters + f] : 0);
        cblas_sgemm(CblasRowMajor, CblasNoTrans, CblasNoTrans, static_cast<int>(filters), static_cast<int>(pixels), static_cast<int>(depth),
                    1, operands[1].as<float>().data() + g * filters * depth, static_cast<int>(depth), columns, static_cast<int>(pixels), 1,
                    result, static_cast<int>(pixels));
      }
    }
  };
}

using Row = Eigen::Map<Eigen::ArrayXf>;
template <typename F>
std::function<void()> unary(const SweepTask& t, F f) {
  return [=, in = t.operands[0], out = t.outputs[0]]() mutable {
    Row y(out.as<float>().data(), out.size());
    y = f(Row(in.as<float>().data(), in.size()));
  };
}

std::function<void()> eigen(const SweepTask& t) {
  if (const auto p = product_of(t)) {
    if (t.threads > 1) return {};  // built without threads
    using Matrix = Eigen::Matrix<float, Eigen::Dynamic, Eigen::Dynamic, Eigen::RowMajor>;
    return [p = *p, operands = t.operands, out = t.outputs[0]]() mutable {
      for (int64_t i = 0; i < p.batch; ++i) {
        Eigen::Map<const Matrix> a(operands[0].as<float>().data() + i * p.m * p.k, p.m, p.k),
            b(operands[1].as<float>().data() + (operands[1].rank() > 2 ? i * p.k * p.n : 0), p.k, p.n);
        Eigen::Map<Matrix> c(out.as<float>().data() + i * p.m * p.n, p.m, p.n);
        c.noalias() = a * b;
      }
    };
  }
  // Only the op alone: a chain is judged as a whole.
  if (t.item.graph.nodes.size() != 1 || t.threads > 1 || t.operands.empty() || t.operands[0].dtype() != DType::f32) return {};
  if (t.node.op == "Exp") return unary(t, [](const Row& x) { return x.exp(); });
  if (t.node.op == "Tanh") return unary(t, [](const Row& x) { return x.tanh(); });
  if (t.node.op == "Sqrt") return unary(t, [](const Row& x) { return x.sqrt(); });
  if (t.node.op == "Log") return unary(t, [](const Row& x) { return x.log(); });
  if (t.node.op == "Relu") return unary(t, [](const Row& x) { return x.max(0.0f); });
  return {};
}

}  // namespace

extern "C" void lathe_register_implementations() {
  register_implementation({"openblas", [](const SweepTask& t) -> std::function<void()> {
                             if (const auto p = product_of(t)) return blas_product(t, *p);
                             if (t.node.op == "Conv") return blas_convolution(t);
                             return {};
                           }});
  register_implementation({"eigen", eigen});
}
