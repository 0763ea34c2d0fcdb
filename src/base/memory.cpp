#include "base/memory.hpp"

#include <sys/mman.h>

#include <cstdlib>

#include "base/fail.hpp"

namespace lathe {

std::shared_ptr<std::byte> allocate_aligned(size_t bytes) {
  constexpr size_t kHuge = size_t{2} << 20;
  if (bytes > (size_t{1} << 62)) fail(Category::resource, "cannot allocate {} bytes: the size is absurd", bytes);
  const size_t alignment = bytes >= kHuge ? kHuge : kAlignment;
  const size_t padded = round_up(bytes + kAlignment, alignment);
  void* block = std::aligned_alloc(alignment, padded);
  if (!block) fail(Category::resource, "cannot allocate {} MiB: out of memory", bytes >> 20);
  if (bytes >= kHuge) madvise(block, padded, MADV_HUGEPAGE);
  return {static_cast<std::byte*>(block), [](std::byte* p) { std::free(p); }};
}

}  // namespace lathe
