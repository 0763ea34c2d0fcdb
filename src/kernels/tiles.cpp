#include "kernels/tiles.hpp"

#if defined(__x86_64__)
#include <cpuid.h>
#include <sys/syscall.h>
#include <unistd.h>
#endif

namespace lathe::kernels {

#if defined(__x86_64__)
namespace {

bool processor_has_tiles() {
  constexpr unsigned kBf16 = 1u << 22, kTile = 1u << 24, kInt8 = 1u << 25;  // leaf 7, edx
  unsigned a = 0, b = 0, c = 0, d = 0;
  if (!__get_cpuid_count(7, 0, &a, &b, &c, &d)) return false;
  if ((d & (kBf16 | kTile | kInt8)) != (kBf16 | kTile | kInt8)) return false;
  constexpr unsigned kVectorBf16 = 1u << 5;  // leaf 7.1, eax
  return __get_cpuid_count(7, 1, &a, &b, &c, &d) && (a & kVectorBf16) != 0 && __builtin_cpu_supports("avx512vnni");
}

// The state of tiles is large, so a process must ask. The system refuses where an alternate signal stack is too small for it.
bool system_lets_us() {
  constexpr long kAskForState = 0x1023, kTileData = 18;  // ARCH_REQ_XCOMP_PERM, of Linux 5.16 and later
  return ::syscall(SYS_arch_prctl, kAskForState, kTileData) == 0;
}

}  // namespace

bool has_tiles() {
  static const bool there = processor_has_tiles() && system_lets_us();
  return there;
}
#else
bool has_tiles() { return false; }
#endif

}  // namespace lathe::kernels
