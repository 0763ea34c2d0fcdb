// Plain loops over steps that are known, which the compiler turns into shuffles of each instruction set.
#include "kernels/strides.hpp"

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kernels/strides.cpp"
#include <hwy/foreach_target.h>
// After foreach_target, which re-includes this file once per instruction set.
#include <hwy/highway.h>

HWY_BEFORE_NAMESPACE();
namespace lathe::kernels::HWY_NAMESPACE {
namespace {

template <int64_t kStep, typename T>
void take_by(const T* __restrict in, T* __restrict out, int64_t n) {
  for (int64_t i = 0; i < n; ++i) out[i] = in[i * kStep];
}

template <int64_t kParts, typename T>
void weave_by(const T* __restrict in, int64_t stride, T* __restrict out, int64_t n) {
  for (int64_t i = 0; i < n; ++i) {
    for (int64_t k = 0; k < kParts; ++k) out[i * kParts + k] = in[k * stride + i];
  }
}

template <typename T>
void take_any(const void* from, int64_t step, void* to, int64_t n) {
  const T* in = static_cast<const T*>(from);
  T* out = static_cast<T*>(to);
  switch (step) {
    case -1: return take_by<-1>(in, out, n);
    case 2: return take_by<2>(in, out, n);
    case 3: return take_by<3>(in, out, n);
    default: return take_by<4>(in, out, n);
  }
}

template <typename T>
void weave_any(const void* from, int64_t stride, int64_t parts, void* to, int64_t n) {
  const T* in = static_cast<const T*>(from);
  T* out = static_cast<T*>(to);
  switch (parts) {
    case 2: return weave_by<2>(in, stride, out, n);
    case 3: return weave_by<3>(in, stride, out, n);
    default: return weave_by<4>(in, stride, out, n);
  }
}

}  // namespace

LATHE_GIVES_WAY void TakeHere(int element_bytes, const void* in, int64_t step, void* out, int64_t n) {
  switch (element_bytes) {
    case 1: return take_any<uint8_t>(in, step, out, n);
    case 2: return take_any<uint16_t>(in, step, out, n);
    case 4: return take_any<uint32_t>(in, step, out, n);
    default: return take_any<uint64_t>(in, step, out, n);
  }
}

LATHE_GIVES_WAY void WeaveHere(int element_bytes, const void* in, int64_t stride, int64_t parts, void* out, int64_t n) {
  switch (element_bytes) {
    case 1: return weave_any<uint8_t>(in, stride, parts, out, n);
    case 2: return weave_any<uint16_t>(in, stride, parts, out, n);
    case 4: return weave_any<uint32_t>(in, stride, parts, out, n);
    default: return weave_any<uint64_t>(in, stride, parts, out, n);
  }
}

}  // namespace lathe::kernels::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace lathe::kernels {
StrideKernels strides(Isa isa) { return {LATHE_SELECT(isa, TakeHere), LATHE_SELECT(isa, WeaveHere)}; }
}  // namespace lathe::kernels
#endif
