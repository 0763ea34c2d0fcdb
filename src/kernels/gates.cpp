#include "kernels/gates.hpp"

#include <cstddef>

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kernels/gates.cpp"
#include <hwy/foreach_target.h>
// After foreach_target, which re-includes this file once per instruction set.
#include <hwy/highway.h>

#include "kernels/math.inl.hpp"

HWY_BEFORE_NAMESPACE();
namespace lathe::kernels::HWY_NAMESPACE {

VF through(const GateFunction& f, VF x) {
  const F32 d;
  const VF zero = hn::Zero(d), one = hn::Set(d, 1.0f), alpha = hn::Set(d, f.alpha), beta = hn::Set(d, f.beta);
  switch (f.curve) {
    case GateCurve::sigmoid: return sigmoid_f32(x);
    case GateCurve::tanh: return tanh_f32(x);
    case GateCurve::relu: return hn::IfThenElse(hn::Lt(x, zero), zero, x);
    case GateCurve::affine: return hn::MulAdd(alpha, x, beta);
    case GateCurve::leaky_relu: return hn::IfThenElse(hn::Lt(x, zero), hn::Mul(alpha, x), x);
    case GateCurve::thresholded_relu: return hn::IfThenElseZero(hn::Gt(x, alpha), x);
    case GateCurve::scaled_tanh: return hn::Mul(alpha, tanh_f32(hn::Mul(beta, x)));
    case GateCurve::hard_sigmoid: {  // NaN is 0, as plain evaluation has it
      const VF y = hn::MulAdd(alpha, x, beta), low = hn::IfThenElseZero(hn::Gt(y, zero), y);
      return hn::IfThenElse(hn::Lt(low, one), low, one);
    }
    case GateCurve::elu: {
      const VF low = hn::Max(hn::Set(d, -80.0f), hn::Min(zero, x)), y = hn::Mul(alpha, hn::Expm1(d, low));
      return hn::IfThenElse(hn::IsNaN(x), x, hn::IfThenElse(hn::Lt(x, zero), y, x));
    }
    case GateCurve::softsign: return hn::Div(x, hn::Add(one, hn::Abs(x)));
    case GateCurve::softplus: return hn::Add(max_nan(d, x, zero), hn::Log1p(d, exp_f32(hn::Neg(hn::Abs(x)))));
  }
  return x;
}

// kUsual: the functions that the standard takes where none are named; known when this is compiled, they are a sixteenth faster.
template <bool kUsual>
void gates_through(const GateArguments& g) {
  const F32 d;
  const int64_t lanes = hn::Lanes(d), n = g.hidden;
  for (int64_t i = g.begin; i < g.end; i += lanes) {
    const int64_t count = g.end - i < lanes ? g.end - i : lanes;
    const auto load = [&](const float* p) {
      if (count == lanes) return hn::LoadU(d, p + i);
      HWY_ALIGN float t[HWY_MAX_BYTES / 4 + 1] = {};
      for (int64_t k = 0; k < count; ++k) t[k] = p[i + k];
      return hn::Load(d, t);
    };
    const auto store = [&](VF v, float* p) {
      if (count == lanes) return hn::StoreU(v, d, p + i);
      HWY_ALIGN float t[HWY_MAX_BYTES / 4 + 1];
      hn::Store(v, d, t);
      for (int64_t k = 0; k < count; ++k) p[i + k] = t[k];
    };
    const auto clipped = [&](VF v) HWY_ATTR {
      if (g.clip == 0) return v;
      return min_nan(d, hn::Set(d, g.clip), max_nan(d, hn::Set(d, -g.clip), v));
    };
    const auto sum = [&](int gate) { return hn::Add(load(g.x + gate * n), load(g.r + gate * n)); };
    const auto both = [&](int gate) HWY_ATTR { return clipped(sum(gate)); };
    const auto gate = [&](VF v) HWY_ATTR {
      if constexpr (kUsual) return sigmoid_f32(v);
      else return through(g.functions[0], v);
    };
    const auto bent = [&](int function, VF v) HWY_ATTR {
      if constexpr (kUsual) return tanh_f32(v);
      else return through(g.functions[function], v);
    };
    switch (g.op) {
      case GateOp::rnn: store(bent(0, both(0)), g.out); break;
      case GateOp::reset: store(hn::Mul(gate(both(1)), load(g.before)), g.out); break;
      case GateOp::gru:
      case GateOp::gru_after: {
        const VF z = gate(both(0));
        const VF share = g.op == GateOp::gru ? load(g.candidate) : hn::Mul(gate(both(1)), load(g.r + 2 * n));
        const VF h = bent(1, clipped(hn::Add(load(g.x + 2 * n), share)));
        store(hn::MulAdd(z, hn::Sub(load(g.before), h), h), g.out);  // (1 - z) h + z before
        break;
      }
      case GateOp::lstm: {
        const VF c = load(g.cell);
        VF in = sum(0), out = sum(1), forget = sum(2);
        if (g.peephole) {
          in = hn::MulAdd(load(g.peephole), c, in);
          forget = hn::MulAdd(load(g.peephole + 2 * n), c, forget);
        }
        const VF taken = gate(clipped(in));
        const VF kept = g.coupled ? hn::Sub(hn::Set(d, 1.0f), taken) : gate(clipped(forget));
        const VF next = hn::MulAdd(kept, c, hn::Mul(taken, bent(1, both(3))));
        if (g.peephole) out = hn::MulAdd(load(g.peephole + n), next, out);
        store(next, g.cell);
        store(hn::Mul(gate(clipped(out)), bent(2, next)), g.out);
      }
    }
  }
}

LATHE_GIVES_WAY void GatesHere(const GateArguments& g) {
  const auto is = [&](int function, GateCurve curve) { return g.functions[function].curve == curve; };
  const bool usual = g.op == GateOp::rnn
                         ? is(0, GateCurve::tanh)
                         : is(0, GateCurve::sigmoid) && is(1, GateCurve::tanh) && (g.op != GateOp::lstm || is(2, GateCurve::tanh));
  usual ? gates_through<true>(g) : gates_through<false>(g);
}

}  // namespace lathe::kernels::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace lathe::kernels {
Gates gates(Isa isa) { return LATHE_SELECT(isa, GatesHere); }
}  // namespace lathe::kernels
#endif
