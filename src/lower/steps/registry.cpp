#include "lower/steps/registry.hpp"

#include <array>
#include <vector>

#include "base/gives_way.hpp"

namespace lathe::lower {

// A line a family: the function that gives it, defined in its file. An op's own kernel goes before ours.
#define LATHE_STEP_FAMILIES(F) \
  F(custom)                    \
  F(convolution_lines)         \
  F(convolution_planes)        \
  F(convolution_padded)        \
  F(convolution_direct)        \
  F(convolution_few)           \
  F(convolution_winograd)      \
  F(convolution_winograd_2x2)  \
  F(convolution_tiled)         \
  F(products)                  \
  F(deep_products)             \
  F(pool_lines)                \
  F(pool_planes)               \
  F(pool_bytes)                \
  F(pool_any)                  \
  F(elementwise)               \
  F(rows)                      \
  F(rows_in_parts)             \
  F(gathers)                   \
  F(parts)                     \
  F(views)                     \
  F(blocks)                    \
  F(running_sums)              \
  F(strided_reads)             \
  F(choices)                   \
  F(pads)                      \
  F(resizes)                   \
  F(resizes_channels_last)     \
  F(resize_axes)               \
  F(grids)                     \
  F(regions)                   \
  F(elements)                  \
  F(cache_writes)              \
  F(spectra)                   \
  F(selections)                \
  F(wide_selections)           \
  F(recurrent)                 \
  F(byte_products)             \
  F(byte_depthwise)            \
  F(dynamic_quantisation)      \
  F(divisors)                  \
  F(attention)                 \
  F(rotary)                    \
  F(convolution_transposed)    \
  F(cut)

#define LATHE_DECLARE(name) const StepFamily& name();
LATHE_STEP_FAMILIES(LATHE_DECLARE)
LATHE_DECLARE(slices_at_run)
LATHE_DECLARE(picked)
LATHE_DECLARE(empty_results)
LATHE_DECLARE(plain)
LATHE_DECLARE(plain_nodes)
#undef LATHE_DECLARE

LATHE_GIVES_WAY Families step_families() {
#define LATHE_ADDRESS(name) &name(),
  static const std::array kAll{LATHE_STEP_FAMILIES(LATHE_ADDRESS)};
#undef LATHE_ADDRESS
  return kAll;
}

bool is_winograd(const StepFamily& family) { return family.name().starts_with("convolution.winograd"); }

LATHE_GIVES_WAY Families step_families_without_winograd() {
  static const auto kSome = [] {
    std::vector<const StepFamily*> some(step_families().begin(), step_families().end());
    std::erase_if(some, [](const StepFamily* f) { return is_winograd(*f); });
    return some;
  }();
  return kSome;
}

LATHE_GIVES_WAY Families families_at_run() {
  static const std::array kBoth{&slices_at_run(), &picked()};
  return kBoth;
}

LATHE_GIVES_WAY Families empty_families() {
  static const std::array kOne{&empty_results()};
  return kOne;
}

LATHE_GIVES_WAY Families plain_families() {
  static const std::array kOne{&plain()};
  return kOne;
}

LATHE_GIVES_WAY Families oracle_families() {
  static const std::array kOne{&plain_nodes()};
  return kOne;
}

std::span<const NamedFamily> all_families() {
#define LATHE_NAMED(name) {#name, FamilyTable::steps, &name()},
  static const std::array kAll{
      std::to_array<NamedFamily>({LATHE_STEP_FAMILIES(LATHE_NAMED){"slices_at_run", FamilyTable::at_run, &slices_at_run()},
                                  {"picked", FamilyTable::at_run, &picked()},
                                  {"empty_results", FamilyTable::empty, &empty_results()},
                                  {"plain", FamilyTable::plain, &plain()},
                                  {"plain_nodes", FamilyTable::oracle, &plain_nodes()}})};
#undef LATHE_NAMED
  return kAll;
}

}  // namespace lathe::lower
