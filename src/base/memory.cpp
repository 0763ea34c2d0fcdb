#include "base/memory.hpp"

#include <malloc.h>
#include <sys/mman.h>
#include <unistd.h>

#include <cstdlib>
#include <limits>

#include "base/fail.hpp"

namespace lathe {

std::shared_ptr<std::byte> allocate_aligned(size_t bytes) {
#if defined(__EMSCRIPTEN__)
  constexpr size_t kHuge = std::numeric_limits<size_t>::max();  // its pages are of one size
#else
  constexpr size_t kHuge = size_t{2} << 20;
#endif
  if (bytes > std::numeric_limits<size_t>::max() / 4) fail(Category::resource, "cannot allocate {} bytes: the size is absurd", bytes);
  const size_t alignment = bytes >= kHuge ? kHuge : kAlignment;
  // posix_memalign: unlike aligned_alloc it takes sizes that are no multiple of the alignment.
  void* block = nullptr;
  if (posix_memalign(&block, alignment, bytes + kAlignment) != 0)
    fail(Category::resource, "cannot allocate {} MiB: out of memory", bytes >> 20);
  // Whole huge pages only: a last one that is mostly empty would still be resident in full.
  if (bytes >= kHuge) madvise(block, bytes / kHuge * kHuge, MADV_HUGEPAGE);
  return {static_cast<std::byte*>(block), [](std::byte* p) { std::free(p); }};
}

size_t physical_memory() { return static_cast<size_t>(::sysconf(_SC_PHYS_PAGES)) * static_cast<size_t>(::sysconf(_SC_PAGESIZE)); }

void return_free_memory() {
#if defined(__GLIBC__)
  malloc_trim(0);
#endif
}

}  // namespace lathe
