// An operator of one's own: alder::Contrast sharpens rows, y = (x - mean(row)) * gain + mean(row).
#pragma once

#include <lathe/lathe.hpp>

#include <algorithm>
#include <string>

namespace alder {

inline void contrast(const float* x, float* y, int64_t width, float gain) {
  double sum = 0;
  for (int64_t i = 0; i < width; ++i) sum += x[i];
  const auto mean = static_cast<float>(sum / static_cast<double>(width));
  for (int64_t i = 0; i < width; ++i) y[i] = (x[i] - mean) * gain + mean;
}

inline lathe::OpDef contrast_op() {
  lathe::OpDef op;
  op.domain = "alder";
  op.name = "Contrast";
  op.attributes = "gain:f";
  op.trait = lathe::Trait::reduction;
  // What it promises: f32 in, the same shape out.
  op.infer = [](lathe::InferContext& c) {
    c.require(c.dtype(0) == lathe::DType::f32, lathe::Category::type, "Contrast takes f32");
    c.require(c.rank(0) != 0, lathe::Category::shape, "Contrast takes rows, not a scalar");
    c.set(0, c.dtype(0), c.dims(0));
  };
  // What it means: plain evaluation, the oracle and the fallback.
  op.plain = [](const lathe::EvalContext& c) -> std::vector<lathe::Tensor> {
    const lathe::Tensor& x = c.in(0);
    lathe::Tensor y(x.dtype(), x.shape());
    const int64_t width = x.shape().back();
    for (int64_t at = 0; at < x.size(); at += width)
      contrast(x.as<float>().data() + at, y.as<float>().data() + at, width, c.node.real("gain", 1));
    return {y};
  };
  // How it gets fast, if wished: one task a block of rows, on the lane's threads.
  op.fast = [](const lathe::KernelRequest& request) -> lathe::FastKernel {
    const float gain = request.node.real("gain", 1);
    const int64_t width = request.inputs[0].shape->back();
    if (width == 0) return nullptr;  // plain evaluation will do
    return [gain, width](lathe::KernelContext& c) {
      const int64_t rows = lathe::element_count(*c.inputs[0].shape) / width;
      constexpr int64_t kEach = 64;
      c.each((rows + kEach - 1) / kEach, [&](int64_t task) {
        for (int64_t r = task * kEach; r < std::min(rows, (task + 1) * kEach); ++r)
          contrast(static_cast<const float*>(c.inputs[0].data) + r * width, static_cast<float*>(c.outputs[0].data) + r * width, width,
                   gain);
      });
    };
  };
  return op;
}

}  // namespace alder
