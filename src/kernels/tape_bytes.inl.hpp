// Tapes from bytes to bytes in one pass, compiled once per instruction set (no include guard of the usual kind: Highway's). To the bit what
// the tape gives step by step. A part of tape.cpp, whose header comes before it.
#if defined(LATHE_KERNELS_TAPE_BYTES_INL) == defined(HWY_TARGET_TOGGLE)
#ifdef LATHE_KERNELS_TAPE_BYTES_INL
#undef LATHE_KERNELS_TAPE_BYTES_INL
#else
#define LATHE_KERNELS_TAPE_BYTES_INL
#endif

#include <algorithm>

#include "kernels/probe.hpp"
#include "kernels/quantise.inl.hpp"

HWY_BEFORE_NAMESPACE();
namespace lathe::kernels::HWY_NAMESPACE {

inline bool is_byte(TapeType type) { return type == TapeType::u8 || type == TapeType::i8; }

// Two quantised operands added, multiplied or subtracted, clamped perhaps, and quantised again.
struct QuantisedPair {
  TapeStep a, b, op, end;
  float low = 0, high = 0;  // of results

  // False: it is something else.
  bool read(const Tape& tape, const TapeOperand* operands, TapeType out_type) {
    const auto& steps = tape.steps;
    if (tape.inputs != 2 || steps.size() < 4 || steps.size() > 5 || !is_byte(out_type) || !is_byte(operands[0].type) ||
        !is_byte(operands[1].type) || operands[0].stride != 1 || operands[1].stride != 1)
      return false;
    a = steps[0], b = steps[1], op = steps[2], end = steps.back();
    if (a.op != TapeOp::dequantise || b.op != TapeOp::dequantise || a.a > 1 || b.a > 1 || a.a == b.a) return false;
    if (op.op != TapeOp::add && op.op != TapeOp::mul && op.op != TapeOp::sub) return false;
    if (op.a == b.out && op.b == a.out) std::swap(a, b);
    if (op.a != a.out || op.b != b.out || end.op != (out_type == TapeType::u8 ? TapeOp::quantise_u8 : TapeOp::quantise_i8)) return false;
    const bool is_signed = end.op == TapeOp::quantise_i8;
    low = is_signed ? -128 : 0, high = is_signed ? 127 : 255;
    if (steps.size() == 5) {
      const TapeStep& clamp = steps[3];
      if ((clamp.op != TapeOp::relu && clamp.op != TapeOp::clip) || clamp.a != op.out) return false;
      // What is clamped and then quantised, is quantised and then clamped: neither changes the order of numbers.
      const float least = clamp.op == TapeOp::relu ? 0 : clamp.p, most = clamp.op == TapeOp::relu ? HUGE_VALF : clamp.q;
      if (!(least <= most)) return false;
      const Quantiser quantised(end.q, end.p, low, high);
      low = hn::GetLane(quantised(hn::Set(F32(), least)));
      high = hn::GetLane(quantised(hn::Set(F32(), most)));
      if (end.p < low || end.p > high) return false;  // NaN would be clamped too
    }
    return end.a == steps[steps.size() - 2].out;
  }

  template <typename A, typename B>
  void run(const A* x, const B* y, uint8_t* out, int64_t count) const {
    const F32 d;
    const hn::RebindToSigned<F32> di;
    const hn::Rebind<A, F32> da;
    const hn::Rebind<B, F32> db;
    const Quantiser quantised(end.q, end.p, low, high);
    const VF az = hn::Set(d, a.p), as = hn::Set(d, a.q), bz = hn::Set(d, b.p), bs = hn::Set(d, b.q);
    const auto over = [&](auto combine) HWY_ATTR {
      const int64_t lanes = hn::Lanes(d);
      const auto part = [&](const A* p, const B* q, uint8_t* to) HWY_ATTR {
        const VF l = hn::Mul(hn::Sub(hn::ConvertTo(d, hn::PromoteTo(di, hn::LoadU(da, p))), az), as);
        const VF r = hn::Mul(hn::Sub(hn::ConvertTo(d, hn::PromoteTo(di, hn::LoadU(db, q))), bz), bs);
        store_bytes(quantised(combine(l, r)), to);
      };
      int64_t i = 0;
#if HWY_TARGET == HWY_AVX3
      // Sums by two multiply-adds. What is too near to the middle between two numbers is done again step by step.
      const float sign = op.op == TapeOp::sub ? -1.0f : 1.0f, fa = a.q / end.q, fb = sign * b.q / end.q;
      const float shift = end.p - a.p * fa - b.p * fb;
      const float largest = 512 * (std::fabs(fa) + std::fabs(fb)) + std::fabs(shift), near = 0.5f - 0x1p-20f * largest;
      if (op.op != TapeOp::mul && near > 0.45f) {  // false for what is not finite, too
        const VF vfa = hn::Set(d, fa), vfb = hn::Set(d, fb), vs = hn::Set(d, shift), limit = hn::Set(d, near);
        const auto least = hn::Set(di, static_cast<int32_t>(low)), most = hn::Set(di, static_cast<int32_t>(high));
        const auto fast = [&](int64_t at) HWY_ATTR {
          const VF l = hn::ConvertTo(d, hn::PromoteTo(di, hn::LoadU(da, x + at)));
          const VF r = hn::ConvertTo(d, hn::PromoteTo(di, hn::LoadU(db, y + at)));
          const VF v = hn::MulAdd(l, vfa, hn::MulAdd(r, vfb, vs));
          const VF off{_mm512_reduce_ps(v.raw, 0)};  // from the nearest whole number
          if (HWY_UNLIKELY(!hn::AllTrue(d, hn::Lt(hn::Abs(off), limit)))) return part(x + at, y + at, out + at);
          const hn::Vec<decltype(di)> whole{_mm512_cvtps_epi32(v.raw)};
          _mm_storeu_si128(reinterpret_cast<__m128i*>(out + at), _mm512_cvtepi32_epi8(hn::Min(hn::Max(whole, least), most).raw));
        };
        for (; i + lanes <= count; i += lanes) fast(i);
      }
#endif
      for (; i + lanes <= count; i += lanes) part(x + i, y + i, out + i);
      if (i == count) return;
      A last[HWY_MAX_BYTES / 4] = {};
      B other[HWY_MAX_BYTES / 4] = {};
      uint8_t made[HWY_MAX_BYTES / 4];
      std::copy_n(x + i, count - i, last), std::copy_n(y + i, count - i, other);
      part(last, other, made);
      std::copy_n(made, count - i, out + i);
    };
    if (op.op == TapeOp::add) over([](VF l, VF r) HWY_ATTR { return hn::Add(l, r); });
    else if (op.op == TapeOp::sub) over([](VF l, VF r) HWY_ATTR { return hn::Sub(l, r); });
    else over([](VF l, VF r) HWY_ATTR { return hn::Mul(l, r); });
  }

  void run(const TapeOperand* operands, void* out, int64_t count) const {
    const TapeOperand &x = operands[a.a], &y = operands[b.a];
    auto* to = static_cast<uint8_t*>(out);
    const auto with = [&](auto* p, auto* q) { run(p, q, to, count); };
    const auto second = [&](auto* p) {
      if (y.type == TapeType::u8) with(p, static_cast<const uint8_t*>(y.data));
      else with(p, static_cast<const int8_t*>(y.data));
    };
    if (x.type == TapeType::u8) second(static_cast<const uint8_t*>(x.data));
    else second(static_cast<const int8_t*>(x.data));
  }
};

// Fewer are not worth a table of what becomes of each byte.
inline constexpr int64_t kWorthTable = 1024;

#if HWY_TARGET == HWY_AVX3
// For processors that permute bytes. How many were done.
inline int64_t look_up_permuted(const uint8_t* table, const uint8_t* in, uint8_t* out, int64_t count) {
  const __m512i t0 = _mm512_loadu_si512(table), t1 = _mm512_loadu_si512(table + 64), t2 = _mm512_loadu_si512(table + 128),
                t3 = _mm512_loadu_si512(table + 192);
  int64_t i = 0;
  for (; i + 64 <= count; i += 64) {
    const __m512i x = _mm512_loadu_si512(in + i);
    __m512i low = x, high = x;
    asm("vpermi2b %2, %1, %0" : "+v"(low) : "v"(t0), "v"(t1));
    asm("vpermi2b %2, %1, %0" : "+v"(high) : "v"(t2), "v"(t3));
    _mm512_storeu_si512(out + i, _mm512_mask_blend_epi8(_mm512_movepi8_mask(x), low, high));
  }
  return i;
}
#endif

#if HWY_TARGET != HWY_SCALAR
// By sixteen tables of sixteen, each of which gives 0 for what is not its own. How many were done.
inline int64_t look_up_shuffled(const uint8_t* table, const uint8_t* in, uint8_t* out, int64_t count) {
  int64_t i = 0;
  const hn::ScalableTag<uint8_t> d;
  const int64_t lanes = hn::Lanes(d);
  const auto beyond = hn::Set(d, 0x70);  // an index of 16 or more gets the bit that means none
  for (; i + lanes <= count; i += lanes) {
    const auto x = hn::LoadU(d, in + i);
    auto made = hn::Zero(d);
    for (int part = 0; part < 16; ++part) {
      const auto at = hn::SaturatedAdd(hn::Sub(x, hn::Set(d, static_cast<uint8_t>(16 * part))), beyond);
      made = hn::Or(made, hn::TableLookupBytesOr0(hn::LoadDup128(d, table + 16 * part), at));
    }
    hn::StoreU(made, d, out + i);
  }
  return i;
}
#endif

// out[i] = table[in[i]].
inline void look_up(const uint8_t* table, const uint8_t* in, uint8_t* out, int64_t count) {
  int64_t i = 0;
#if HWY_TARGET == HWY_AVX3
  if (permutes_bytes()) i = look_up_permuted(table, in, out, count);
#endif
#if HWY_TARGET != HWY_SCALAR
  i += look_up_shuffled(table, in + i, out + i, count - i);
#endif
  for (; i < count; ++i) out[i] = table[in[i]];
}

// The one operand that is not a single value, when the rest of the tape decides for each of its bytes what becomes of it; else -1.
inline int one_byte_operand(const Tape& tape, const TapeOperand* operands, TapeType out_type) {
  if (!is_byte(out_type) && out_type != TapeType::boolean) return -1;
  int found = -1;
  for (int i = 0; i < tape.inputs; ++i) {
    if (operands[i].stride == 0) continue;
    if (found >= 0 || operands[i].stride != 1 || !is_byte(operands[i].type)) return -1;
    found = i;
  }
  return found;
}

}  // namespace lathe::kernels::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#endif
