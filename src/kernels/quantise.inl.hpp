// Numbers to the steps of a scale, compiled once per instruction set (no include guard of the usual kind: Highway's).
#if defined(LATHE_KERNELS_QUANTISE_INL) == defined(HWY_TARGET_TOGGLE)
#ifdef LATHE_KERNELS_QUANTISE_INL
#undef LATHE_KERNELS_QUANTISE_INL
#else
#define LATHE_KERNELS_QUANTISE_INL
#endif

#include "kernels/math.inl.hpp"

HWY_BEFORE_NAMESPACE();
namespace lathe::kernels::HWY_NAMESPACE {

// round(x / scale) + zero, ties to even, within [low, high]; NaN gives `zero`. To the bit what a division gives, which takes several times
// as long as all the rest: only where the product with the inverse is too near to the middle between two numbers is there one.
struct Quantiser {
  VF scale, inverse, zero, low, high;

  Quantiser(float step, float origin, float least, float most)
      : scale(hn::Set(F32(), step)),
        inverse(hn::Set(F32(), 1 / step)),
        zero(hn::Set(F32(), origin)),
        low(hn::Set(F32(), least)),
        high(hn::Set(F32(), most)) {}

  HWY_INLINE VF operator()(VF x) const {
    const F32 d;
    // Adding a number whose last place is one rounds. Results beyond 600 are clamped whatever was lost; for the others three roundings, of
    // the inverse, the product and the quotient, are less than 0.00011. (What is not finite, or has no inverse, is near to nothing.)
    const VF v = hn::Mul(x, inverse), place = hn::Set(d, 0x1.8p23f);
    VF whole = hn::Sub(hn::Add(v, place), place);
    if (HWY_UNLIKELY(!hn::AllTrue(d, hn::Lt(hn::Abs(hn::Sub(v, whole)), hn::Set(d, 0.4998f))))) {
      whole = hn::Round(hn::Div(x, scale));
      whole = hn::IfThenElseZero(hn::Eq(whole, whole), whole);
    }
    return hn::Min(hn::Max(hn::Add(whole, zero), low), high);
  }
};

// Whole numbers that fit a byte, stored as bytes.
HWY_INLINE void store_bytes(VF x, uint8_t* to) {
  const F32 d;
  const hn::Rebind<uint8_t, F32> d8;
  // They stand in the low bits of the sum, negative ones as their complement.
  hn::StoreU(hn::TruncateTo(d8, hn::BitCast(hn::RebindToUnsigned<F32>(), hn::Add(x, hn::Set(d, 0x1.8p23f)))), d8, to);
}

}  // namespace lathe::kernels::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#endif
