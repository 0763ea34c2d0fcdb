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

// One vector of channels (the first `n` lanes of it) of P neighbouring output pixels, `step` floats apart in the input, whose taps all
// lie inside. Each weight is loaded once for all of them, and their sums do not wait for one another.
// kTaps: how many taps, when that is known while compiling; 0: `count`.
template <int P, PlaneOp op, bool kPart, int kTaps>
HWY_INLINE void pixels(const PlaneArguments& g, const float* const* sources, const int32_t* taps, int count, int64_t step,
                       const float* divisors, int64_t row, int64_t ch, int64_t n) {
  const F32 d;
  const auto load = [&](const float* p) HWY_ATTR { return kPart ? load_part(p, n) : hn::LoadU(d, p); };
  VF acc[P];
#pragma GCC unroll 8
  for (int p = 0; p < P; ++p) acc[p] = hn::Set(d, op == PlaneOp::max ? -std::numeric_limits<float>::infinity() : 0.0f);
#pragma GCC unroll 9
  for (int t = 0; t < (kTaps > 0 ? kTaps : count); ++t) {
    const float* src = sources[t] + ch;
    asm("" : "+r"(src));  // one running pointer: compilers work all addresses out ahead and have no registers for them
    VF w = hn::Zero(d);
    if constexpr (op == PlaneOp::depthwise) w = load(g.weights + taps[t] * g.channels + ch);
#pragma GCC unroll 8
    for (int p = 0; p < P; ++p) {
      const VF x = load(src);
      src += step;
      if constexpr (op == PlaneOp::depthwise) acc[p] = hn::MulAdd(x, w, acc[p]);
      else if constexpr (op == PlaneOp::max) acc[p] = max_nan(d, x, acc[p]);
      else acc[p] = hn::Add(acc[p], x);
    }
  }
  const DenseEpilogue& e = g.epilogue;
  const float* residual = e.residual ? e.residual + row * e.residual_stride + ch : nullptr;
  const int64_t residual_stride = e.residual_stride, channels = g.channels;
  float* out = g.out + row * channels + ch;
  const bool clamp = e.clamp;
  const VF bias = e.bias ? load(e.bias + ch) : hn::Zero(d), low = hn::Set(d, e.low), high = hn::Set(d, e.high);
  const bool biased = e.bias != nullptr;
#pragma GCC unroll 8
  for (int p = 0; p < P; ++p) {
    VF x = acc[p];
    if constexpr (op == PlaneOp::average) x = hn::Mul(x, hn::Set(d, divisors[p]));
    if (biased) x = hn::Add(x, bias);
    if (residual) x = hn::Add(x, load(residual + p * residual_stride));
    if (clamp) {
      x = hn::IfThenElse(hn::Lt(x, low), low, x);
      x = hn::IfThenElse(hn::Gt(x, high), high, x);
    }
    if (kPart) store_part(x, out, n);
    else hn::StoreU(x, d, out);
    out += channels;
  }
}

template <int P, PlaneOp op>
void block(const PlaneArguments& g, const float* const* sources, const int32_t* taps, int count, int64_t step, const float* divisors,
           int64_t row) {
  const int64_t lanes = hn::Lanes(F32());
  int64_t ch = 0;
  if (count == 9) {  // 3 x 3 inside the picture
    for (; ch + lanes <= g.channels; ch += lanes) pixels<P, op, false, 9>(g, sources, taps, count, step, divisors, row, ch, lanes);
  } else {
    for (; ch + lanes <= g.channels; ch += lanes) pixels<P, op, false, 0>(g, sources, taps, count, step, divisors, row, ch, lanes);
  }
  if (ch < g.channels) pixels<P, op, true, 0>(g, sources, taps, count, step, divisors, row, ch, g.channels - ch);
}

template <PlaneOp op>
void run(const PlaneArguments& g) {
  const WindowRows& w = *g.window;
  const int64_t plane = w.out_h * w.out_w, volume = plane * w.out_d;
  const float* sources[kMaxPlaneTaps];
  int32_t taps[kMaxPlaneTaps];
  const RunTape run_tape_here = g.epilogue.tape ? run_tape(kHere) : nullptr;
  // Columns whose taps all lie inside: a run of neighbours, equally far apart.
  int64_t first_inside = 0, last_inside = 0;
  for (int64_t x = 0; x < w.out_w; ++x) {
    bool inside = true;
    for (int64_t k = 0; k < w.kw; ++k) inside = inside && w.x[x * w.kw + k] >= 0;
    if (!inside) continue;
    if (last_inside == 0) first_inside = x;
    last_inside = x + 1;
  }
  const int64_t step = last_inside - first_inside > 1 ? w.x[(first_inside + 1) * w.kw] - w.x[first_inside * w.kw] : 0;
  int64_t ox = g.row_begin % w.out_w, oy = g.row_begin % plane / w.out_w, oz = g.row_begin % volume / plane, image = g.row_begin / volume;
  for (int64_t row = g.row_begin; row < g.row_end;) {
    const float* base = w.base + image * w.image_stride;
    const int64_t *z = w.z + oz * w.kd, *y = w.y + oy * w.kh, *x = w.x + ox * w.kw;
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
    const float* divisors = op == PlaneOp::average ? g.divisors + row % volume : nullptr;
    const int64_t run_left = ox >= first_inside && ox < last_inside ? std::min(last_inside - ox, g.row_end - row) : 1;
    int64_t done = 1;
    if (run_left >= 8) block<8, op>(g, sources, taps, count, step, divisors, row), done = 8;
    else if (run_left >= 4) block<4, op>(g, sources, taps, count, step, divisors, row), done = 4;
    else if (run_left >= 2) block<2, op>(g, sources, taps, count, step, divisors, row), done = 2;
    else block<1, op>(g, sources, taps, count, step, divisors, row);
    if (const DenseEpilogue& e = g.epilogue; e.tape) {
      for (int64_t r = row; r < row + done; ++r) {
        TapeOperand operands[kMaxSlots];
        float* out = g.out + r * g.channels;
        operands[0] = {out, 1, false};
        for (int i = 1; i < e.tape->inputs; ++i) {
          const TapeOperand& o = e.operands[i - 1];
          operands[i] = {static_cast<const char*>(o.data) + r * e.row_strides[i - 1] * (o.is_bool ? 1 : 4), o.stride, o.is_bool};
        }
        run_tape_here(*e.tape, operands, out, false, g.channels);
      }
    }
    row += done;
    ox += done;
    if (ox == w.out_w) {
      ox = 0;
      if (++oy == w.out_h) {
        oy = 0;
        if (++oz == w.out_d) oz = 0, ++image;
      }
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
