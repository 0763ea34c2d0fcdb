#include "lower/steps/product_weights.hpp"

#include <algorithm>
#include <bit>

#include "tensor/widen.hpp"

namespace lathe::lower {
namespace {

using kernels::NarrowType;

// Numbers of 4 or 8 bits as the kernel has them: i4 as u4, 8 added.
uint8_t number_at(const Tensor& t, int64_t i) {
  const auto* bytes = static_cast<const uint8_t*>(t.data());
  if (bit_width(t.dtype()) == 8) return bytes[i];
  const auto half = static_cast<uint8_t>(bytes[i / 2] >> (i % 2 * 4) & 15);
  return t.dtype() == DType::i4 ? half ^ 8 : half;
}

void set_number(Tensor& t, int64_t i, uint8_t number) {
  auto* bytes = static_cast<uint8_t*>(t.data());
  if (bit_width(t.dtype()) == 8) {
    bytes[i] = number;
    return;
  }
  const auto half = static_cast<uint8_t>(t.dtype() == DType::i4 ? number ^ 8 : number);
  bytes[i / 2] = static_cast<uint8_t>((bytes[i / 2] & ~(15 << (i % 2 * 4))) | half << (i % 2 * 4));
}

// Where entry (k, n) stands in packed numbers: the byte, and how far it is shifted.
struct Place {
  int64_t byte = 0;
  int shift = 0;
};
Place place_of(const MatrixForm& f, bool halves, int64_t k, int64_t n) {
  const int64_t panel = n / f.width, j = n % f.width, entry = halves ? f.width / 2 : f.width;
  return {(panel * f.k + k) * entry + (halves ? j % entry : j), halves && j >= entry ? 4 : 0};
}

}  // namespace

Location pack_weights(PlanBuilder& b, ValueId value, const MatrixForm& f, float alpha) {
  const int64_t each = f.packed_numbers(), count = f.matrices * each;
  const auto make = [&] {
    const Tensor raw = b.constant(value);
    auto packed = floats(count);
    for (int64_t i = 0; i < f.matrices; ++i)
      kernels::pack_panels(raw.as<float>().data() + i * f.k * f.n, f.k_stride, f.n_stride, f.k, f.n, f.width, packed.get() + i * each, 0,
                           f.panels());
    if (alpha != 1) {
      for (int64_t i = 0; i < count; ++i) packed.get()[i] *= alpha;
    } else {
      b.release_after_packing(value, [=, shape = raw.shape()] {
        Tensor back(DType::f32, shape);
        for (int64_t i = 0; i < f.matrices; ++i)
          kernels::unpack_panels(packed.get() + i * each, f.k, f.n, f.width, back.as<float>().data() + i * f.k * f.n, f.k_stride,
                                 f.n_stride);
        return back;
      });
    }
    return entry_of(packed, count);
  };
  if (alpha != 1) b.keep_original(value);
  return {b.packed({value, PackForm::product, {f.width, f.transposed, std::bit_cast<int32_t>(alpha)}},
                   static_cast<size_t>(count) * sizeof(float), make)};
}

Location pack_halves(PlanBuilder& b, ValueId value, const MatrixForm& f) {
  const int64_t held = (f.packed_numbers() + 1) / 2;
  const auto make = [&] {
    const Tensor raw = b.constant(value);
    auto packed = floats(held);
    kernels::pack_panels(static_cast<const uint16_t*>(raw.data()), f.k_stride, f.n_stride, f.k, f.n, f.width,
                         reinterpret_cast<uint16_t*>(packed.get()), 0, f.panels());
    b.release_after_packing(value, [=, dtype = raw.dtype(), shape = raw.shape()] {
      Tensor back(dtype, shape);
      kernels::unpack_panels(reinterpret_cast<const uint16_t*>(packed.get()), f.k, f.n, f.width, static_cast<uint16_t*>(back.data()),
                             f.k_stride, f.n_stride);
      return back;
    });
    return entry_of(packed, held);
  };
  return {b.packed({value, PackForm::product_16, {f.width, f.transposed}}, static_cast<size_t>(held) * sizeof(float), make)};
}

WidenedPanels bind_widened(PlanBuilder& b, kernels::PanelType type, kernels::Isa isa, int64_t rows, int64_t panels, int64_t depth,
                           const Recipe& recipe, int64_t tasks, Step& step) {
  if (type == kernels::PanelType::f32) return {};
  if (type != kernels::PanelType::quantised && (tasks > kMostPacked || rows <= recipe.at("row_tasks") * 2 * kernels::max_rows(isa)))
    return {};
  const int64_t lines = std::min(depth, recipe.at("k_block")),
                most = std::min(panels, std::max(recipe.at("panel_block"), kernels::kPassingPanels));
  WidenedPanels w;
  w.floats = most * lines * kernels::panel_width(isa);
  w.at = {b.scratch(static_cast<size_t>(tasks * w.floats) * sizeof(float))};
  step.scratch.push_back(w.at.buffer);
  return w;
}

kernels::NarrowPanels BoundNarrow::panels(const StepContext& c) const {
  kernels::NarrowPanels p = form;
  p.data = pointer<const uint8_t>(c, data);
  p.scales = pointer<const float>(c, scales);
  if (has_zeros) p.zeros = pointer<const float>(c, zeros);
  return p;
}

void dense_knobs(RecipeSpace& space, kernels::Isa isa) {
  constexpr int64_t kLowest = 5;  // lower tiles could leave one or two rows, which are added up in another order
  constexpr int64_t kNearest = 256, kFarthest = 16384, kLine = 64;
  const int64_t tile = kernels::max_rows(isa);
  space.knob("tile_rows", tile, std::min(kLowest, tile), tile);
  space.knob("fetch_ahead", kernels::kFetchAhead, kNearest, kFarthest, kLine);
}

BoundNarrow pack_narrow(PlanBuilder& b, const ops::NarrowWeights& w, const MatrixForm& f, Step& step) {
  const DType dtype = b.dtype(w.values);
  const bool halves = bit_width(dtype) == 4;
  BoundNarrow bound;
  bound.form.type = halves ? NarrowType::u4 : dtype == DType::i8 ? NarrowType::i8 : NarrowType::u8;
  bound.form.k = f.k, bound.form.n = f.n, bound.form.block = w.block > 0 ? w.block : f.k;
  const int64_t bytes = f.packed_numbers() / (halves ? 2 : 1), held = (bytes + 3) / 4;
  const auto pack_numbers = [&] {
    const Tensor raw = b.constant(w.values);
    auto packed = floats(held);
    auto* to = reinterpret_cast<uint8_t*>(packed.get());
    std::fill_n(packed.get(), held, 0.0F);
    for (int64_t k = 0; k < f.k; ++k) {
      for (int64_t n = 0; n < f.n; ++n) {
        const Place at = place_of(f, halves, k, n);
        to[at.byte] |= static_cast<uint8_t>(number_at(raw, k * f.k_stride + n * f.n_stride) << at.shift);
      }
    }
    b.release_after_packing(w.values, [=, shape = raw.shape()] {
      Tensor back(dtype, shape);
      const auto* from = reinterpret_cast<const uint8_t*>(packed.get());
      std::fill_n(static_cast<uint8_t*>(back.data()), back.byte_size(), uint8_t{0});
      for (int64_t k = 0; k < f.k; ++k) {
        for (int64_t n = 0; n < f.n; ++n) {
          const Place at = place_of(f, halves, k, n);
          set_number(back, k * f.k_stride + n * f.n_stride, static_cast<uint8_t>(from[at.byte] >> at.shift & (halves ? 15 : 255)));
        }
      }
      return back;
    });
    return entry_of(packed, held);
  };
  const std::vector<int64_t> geometry{f.width, f.transposed};
  bound.data = {b.packed({w.values, PackForm::product_narrow, geometry}, static_cast<size_t>(held) * sizeof(float), pack_numbers)};
  step.reads.push_back(bound.data.buffer);

  // One float for each column and block: of scales, and of zero points.
  const int64_t blocks = kernels::narrow_blocks(bound.form), count = f.panels() * blocks * f.width;
  const auto by_column = [&](ValueId v, float added) {
    const auto make = [&] {
      const std::vector<double> raw = widen<double>(b.constant(v));
      auto packed = floats(count);
      for (int64_t i = 0; i < count; ++i) {
        const int64_t block = i / f.width % blocks, n = std::min(f.n - 1, i / (f.width * blocks) * f.width + i % f.width);
        const int64_t at = !w.by_column || raw.size() == 1 ? 0 : f.transposed ? n * blocks + block : block * f.n + n;
        packed.get()[i] = static_cast<float>(raw[static_cast<size_t>(at)]) + added;
      }
      return entry_of(packed, count);
    };
    b.keep_original(v);
    std::vector<int64_t> key = geometry;
    key.insert(key.end(), {w.values, bound.form.block, static_cast<int64_t>(added)});
    const BufferId at =
        b.packed({v, PackForm::product_scales, key}, static_cast<size_t>(count) * sizeof(float), make, std::array{w.values});
    step.reads.push_back(at);
    return Location{at};
  };
  bound.scales = by_column(w.scale, 0);
  const float bias = dtype == DType::i4 ? 8 : 0;
  bound.has_zeros = w.zero != kAbsent;
  bound.form.zero = bias;
  if (bound.has_zeros) bound.zeros = by_column(w.zero, bias);
  return bound;
}

}  // namespace lathe::lower
