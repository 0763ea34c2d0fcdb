#include "kernels/planes.hpp"

#include <algorithm>
#include <limits>

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kernels/planes.cpp"
#include <hwy/foreach_target.h>
// After foreach_target, which re-includes this file once per instruction set.
#include <hwy/highway.h>

#include "kernels/math.inl.hpp"

HWY_BEFORE_NAMESPACE();
namespace lathe::kernels::HWY_NAMESPACE {

// V vectors of channels from `ch` on, for one output pixel whose taps inside the input are listed.
template <int V, PlaneOp op>
HWY_INLINE void pixel(const PlaneArguments& g, const float* const* sources, const int32_t* taps, int count, float divisor, int64_t row,
                      int64_t ch) {
  const F32 d;
  const int64_t lanes = hn::Lanes(d);
  VF acc[V];
  for (int v = 0; v < V; ++v) acc[v] = hn::Set(d, op == PlaneOp::max ? -std::numeric_limits<float>::infinity() : 0.0f);
  for (int t = 0; t < count; ++t) {
    const float* src = sources[t] + ch;
    for (int v = 0; v < V; ++v) {
      const VF x = hn::LoadU(d, src + v * lanes);
      if constexpr (op == PlaneOp::depthwise)
        acc[v] = hn::MulAdd(x, hn::LoadU(d, g.weights + taps[t] * g.channels + ch + v * lanes), acc[v]);
      else if constexpr (op == PlaneOp::max) acc[v] = max_nan(d, x, acc[v]);
      else acc[v] = hn::Add(acc[v], x);
    }
  }
  const DenseEpilogue& e = g.epilogue;
  for (int v = 0; v < V; ++v) {
    VF x = acc[v];
    if constexpr (op == PlaneOp::average) x = hn::Mul(x, hn::Set(d, divisor));
    if (e.bias) x = hn::Add(x, hn::LoadU(d, e.bias + ch + v * lanes));
    if (e.residual) x = hn::Add(x, hn::LoadU(d, e.residual + row * e.residual_stride + ch + v * lanes));
    if (e.clamp) {
      x = hn::IfThenElse(hn::Lt(x, hn::Set(d, e.low)), hn::Set(d, e.low), x);
      x = hn::IfThenElse(hn::Gt(x, hn::Set(d, e.high)), hn::Set(d, e.high), x);
    }
    hn::StoreU(x, d, g.out + row * g.channels + ch + v * lanes);
  }
}

template <PlaneOp op>
void pixel_scalar(const PlaneArguments& g, const float* const* sources, const int32_t* taps, int count, float divisor, int64_t row,
                  int64_t ch) {
  const DenseEpilogue& e = g.epilogue;
  for (; ch < g.channels; ++ch) {
    float acc = op == PlaneOp::max ? -std::numeric_limits<float>::infinity() : 0.0f;
    for (int t = 0; t < count; ++t) {
      const float x = sources[t][ch];
      if constexpr (op == PlaneOp::depthwise) acc += x * g.weights[taps[t] * g.channels + ch];
      else if constexpr (op == PlaneOp::max) acc = x != x || x > acc ? x : acc;
      else acc += x;
    }
    if (op == PlaneOp::average) acc *= divisor;
    if (e.bias) acc += e.bias[ch];
    if (e.residual) acc += e.residual[row * e.residual_stride + ch];
    if (e.clamp) acc = acc < e.low ? e.low : acc > e.high ? e.high : acc;
    g.out[row * g.channels + ch] = acc;
  }
}

template <PlaneOp op>
void run(const PlaneArguments& g) {
  const WindowRows& w = *g.window;
  const int64_t plane = w.out_h * w.out_w, volume = plane * w.out_d, lanes = hn::Lanes(F32());
  const float* sources[kMaxPlaneTaps];
  int32_t taps[kMaxPlaneTaps];
  const RunTape run_tape_here = g.epilogue.tape ? run_tape(kHere) : nullptr;
  for (int64_t row = g.row_begin; row < g.row_end; ++row) {
    const int64_t in_image = row % volume;
    const float* base = w.base + row / volume * w.image_stride;
    const int64_t *z = w.z + in_image / plane * w.kd, *y = w.y + in_image % plane / w.out_w * w.kh, *x = w.x + in_image % w.out_w * w.kw;
    int count = 0;
    int32_t tap = 0;
    for (int64_t kz = 0; kz < w.kd; ++kz) {
      for (int64_t ky = 0; ky < w.kh; ++ky) {
        if ((z[kz] | y[ky]) < 0) {
          tap += static_cast<int32_t>(w.kw);
          continue;
        }
        for (int64_t kx = 0; kx < w.kw; ++kx, ++tap) {
          if (x[kx] < 0) continue;
          sources[count] = base + z[kz] + y[ky] + x[kx];
          taps[count++] = tap;
        }
      }
    }
    const float divisor = op == PlaneOp::average ? g.divisors[in_image] : 1.0f;
    int64_t ch = 0;
    for (; ch + 4 * lanes <= g.channels; ch += 4 * lanes) pixel<4, op>(g, sources, taps, count, divisor, row, ch);
    for (; ch + lanes <= g.channels; ch += lanes) pixel<1, op>(g, sources, taps, count, divisor, row, ch);
    if (ch < g.channels) pixel_scalar<op>(g, sources, taps, count, divisor, row, ch);
    if (const DenseEpilogue& e = g.epilogue; e.tape) {
      TapeOperand operands[kMaxSlots];
      float* out = g.out + row * g.channels;
      operands[0] = {out, 1, false};
      for (int i = 1; i < e.tape->inputs; ++i) {
        const TapeOperand& o = e.operands[i - 1];
        operands[i] = {static_cast<const char*>(o.data) + row * e.row_strides[i - 1] * (o.is_bool ? 1 : 4), o.stride, o.is_bool};
      }
      run_tape_here(*e.tape, operands, out, false, g.channels);
    }
  }
}

void PlaneHere(const PlaneArguments& g) {
  switch (g.op) {
    case PlaneOp::depthwise: return run<PlaneOp::depthwise>(g);
    case PlaneOp::max: return run<PlaneOp::max>(g);
    case PlaneOp::average: return run<PlaneOp::average>(g);
  }
}

}  // namespace lathe::kernels::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace lathe::kernels {
Plane plane(Isa isa) { return LATHE_SELECT(isa, PlaneHere); }
}  // namespace lathe::kernels
#endif
