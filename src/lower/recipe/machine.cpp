#include "lower/recipe/machine.hpp"

#include <unistd.h>

#include <algorithm>

namespace lathe::lower {

Rates remembered_rates(kernels::Isa isa) {
  Rates r;
  if (isa == kernels::Isa::sse4) r.flops = 20e9;
  if (isa == kernels::Isa::scalar) r.flops = 5e9;
  return r;
}

int64_t l2_block_bytes() {
  // Two such blocks fill most of a core's L2: one whose panels stay while rows pass, and the next, on its way from memory.
  static const int64_t bytes = [] {
#if defined(_SC_LEVEL2_CACHE_SIZE)
    const long l2 = ::sysconf(_SC_LEVEL2_CACHE_SIZE);
#else
    const long l2 = 0;  // nobody tells
#endif
    return std::clamp<int64_t>(l2 * 3 / 8, 192 << 10, 768 << 10);
  }();
  return bytes;
}

}  // namespace lathe::lower
