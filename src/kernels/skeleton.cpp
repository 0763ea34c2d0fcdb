// What a kernel file looks like. Steps to make one of your own: copy both files, rename, write the loop, add the .cpp to the SOURCES of
// src/kernels/CMakeLists.txt, test it in tests/test_kernels.cpp against a plain loop (HACKING.md).
#include "kernels/skeleton.hpp"

// This file is compiled once for each instruction set: foreach_target includes it again under each name.
#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kernels/skeleton.cpp"
#include <hwy/foreach_target.h>
// After foreach_target, which re-includes this file once per instruction set.
#include <hwy/highway.h>

#include "kernels/math.inl.hpp"

HWY_BEFORE_NAMESPACE();
namespace lathe::kernels::HWY_NAMESPACE {

LATHE_GIVES_WAY void SkeletonHere(const SkeletonArguments& g) {
  const F32 d;
  const int64_t lanes = hn::Lanes(d);
  const VF a = hn::Set(d, g.a);
  int64_t i = g.begin;
  for (; i + lanes <= g.end; i += lanes) hn::StoreU(hn::MulAdd(a, hn::LoadU(d, g.x + i), hn::LoadU(d, g.y + i)), d, g.out + i);
  // The rest by the same operation on one number: a scalar expression could round twice where the vector rounds once.
  const hn::CappedTag<float, 1> one;
  for (; i < g.end; ++i) g.out[i] = hn::GetLane(hn::MulAdd(hn::Set(one, g.a), hn::Set(one, g.x[i]), hn::Set(one, g.y[i])));
}

}  // namespace lathe::kernels::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace lathe::kernels {
Skeleton skeleton(Isa isa) { return LATHE_SELECT(isa, SkeletonHere); }
}  // namespace lathe::kernels
#endif
