// Depthwise convolutions of 8-bit pictures.
#include <fmt/format.h>

#include <algorithm>
#include <cstring>

#include "kernels/depthwise8.hpp"
#include "lower/fuse/window.hpp"
#include "lower/steps/byte_operands.hpp"

namespace lathe::lower {
namespace {

class ByteDepthwiseKernel : public StepKernel {
 public:
  kernels::Depthwise8 depthwise = nullptr;
  ByteFinish finish;
  WindowTables window;
  Location input, weights, padding;
  int parts = 0;  // of the filters, as they are packed
  int64_t channels = 0, taps = 1, rows = 0, tasks = 1;
  bool neighbours = false;  // 3x3 of them, that move by one pixel

  void run(const StepContext& c) const override {
    const int32_t zero = finish.a_zero(c);
    std::memset(pointer<uint8_t>(c, padding), static_cast<uint8_t>(zero), static_cast<size_t>(channels));
    const auto w = window.rows(pointer<const uint8_t>(c, input), pointer<const uint8_t>(c, padding));
    c.workers.each(tasks, [&](int64_t task, int) {
      kernels::TapeOperand operands[kernels::kMaxSlots];
      kernels::Depthwise8Arguments a;
      finish.fill(c, 0, a, operands);
      a.window = &w;
      a.a_signed = finish.a_signed;
      a.a_zero = zero;
      a.filters = kernels::packed_filters8(parts, taps, channels, pointer<const int32_t>(c, weights));
      // By lines, where there are enough of them.
      const int64_t lines = rows / w.out_w, each = neighbours && lines >= tasks ? w.out_w : 1;
      a.whole_lines = neighbours && each == w.out_w;
      a.row_begin = rows / each * task / tasks * each;
      a.row_end = rows / each * (task + 1) / tasks * each;
      depthwise(a);
    });
  }
};

class ByteDepthwiseFamily : public StepFamily {
 public:
  std::string_view name() const override { return "byte_depthwise"; }
  std::span<const Numbers> numbers() const override { return kByteNumbers; }

  std::unique_ptr<Match> match(const GraphView& view, const Group& group, const Machine&) const override {
    auto m = match_bytes(view, group);
    return m && m->depthwise() ? std::move(m) : nullptr;
  }

  LayoutDemand layouts(const Match& match) const override {
    const auto& m = static_cast<const ByteMatch&>(match);
    return {Order::channels_last, m.reals() ? Order::channels_last : Order::any, Order::channels_last};
  }

  void candidates(const Match& match, const Problem& p, RecipeSpace& space) const override {
    const auto& m = static_cast<const ByteMatch&>(match);
    space.knob("tasks", p.machine.threads > 1 ? std::clamp<int64_t>(m.rows / 64, 1, p.machine.threads * 4) : 1, 1, m.rows);
  }

  void lower(PlanBuilder& b, const Match& match, const Problem& p, const Recipe& recipe) const override {
    const auto& m = static_cast<const ByteMatch&>(match);
    auto kernel = std::make_unique<ByteDepthwiseKernel>();
    ByteDepthwiseKernel& k = *kernel;
    Step step = begin_step(b, m);
    step.arithmetic = "int8";
    k.depthwise = kernels::depthwise8(p.machine.isa);
    k.channels = m.columns, k.taps = m.taps, k.rows = m.rows;
    k.tasks = recipe.at("tasks");
    k.window = window_tables(m.window, spatial(m.as), logical_strides(m.as, Layout::channels_last));
    const ops::Window& window = m.window;
    k.neighbours = window.axes() == 2 && m.taps == 9 && window.kernel[0] == 3 && window.strides[0] == 1 && window.strides[1] == 1 &&
                   window.dilations[0] == 1 && window.dilations[1] == 1;
    k.padding = {b.scratch(static_cast<size_t>(k.channels))};
    step.scratch.push_back(k.padding.buffer);
    bind_weights(b, m, p.machine.isa, k, step);
    k.input = b.contiguous(m.a(), Layout::channels_last);
    step.reads.push_back(k.input.buffer);
    k.finish = bind_finish(b, m, step);
    step.text = fmt::format("{} channels x {} pixels x {} taps, {} depthwise, {}, {} tasks{}", k.channels, k.rows, k.taps,
                            kernels::name(p.machine.isa), k.parts == 0 ? "bytes as floats" : "four bytes a step", k.tasks, finish_text(m));
    step.kernel = std::move(kernel);
    b.add(std::move(step));
  }

 private:
  // Weights [filters, 1, taps] less their zero points.
  static std::vector<int16_t> filters_of(PlanBuilder& b, const ByteMatch& m) {
    const Tensor raw = b.constant(m.b());
    const auto* bytes = static_cast<const uint8_t*>(raw.data());
    const bool is_signed = raw.dtype() == DType::i8;
    std::vector<int16_t> filters(static_cast<size_t>(m.columns * m.taps));
    for (int64_t i = 0; i < m.columns * m.taps; ++i) {
      const int32_t zero = m.b_zero[m.b_zero.size() == 1 ? 0 : static_cast<size_t>(i / m.taps)];
      filters[i] = static_cast<int16_t>((is_signed ? static_cast<int8_t>(bytes[i]) : static_cast<int32_t>(bytes[i])) - zero);
    }
    return filters;
  }

  static void bind_weights(PlanBuilder& b, const ByteMatch& m, kernels::Isa isa, ByteDepthwiseKernel& k, Step& step) {
    const ValueId v = m.b();
    const int64_t channels = m.columns, taps = m.taps;
    // What is known of them without looking: an archive has them only as they are packed.
    const int32_t middle = b.dtype(v) == DType::i8 ? 0 : 128;
    const int parts = k.parts = kernels::parts_of_filters8(isa, std::ranges::all_of(m.b_zero, [&](int32_t z) { return z == middle; }));
    const int64_t count = kernels::packed_filters8_numbers(parts, taps, channels);
    const auto make = [&] {
      auto packed = floats(count);  // as many bytes; kept as whole numbers
      const std::vector<int16_t> filters = filters_of(b, m);
      kernels::pack_filters8(parts, filters.data(), taps, channels, reinterpret_cast<int32_t*>(packed.get()));
      b.release_after_packing(v, [=, zeros = m.b_zero, shape = m.bs, type = b.dtype(v)] {
        Tensor back(type, shape);
        const auto view = kernels::packed_filters8(parts, taps, channels, reinterpret_cast<const int32_t*>(packed.get()));
        for (int64_t i = 0; i < channels * taps; ++i) {
          const int32_t zero = zeros[zeros.size() == 1 ? 0 : static_cast<size_t>(i / taps)];
          static_cast<uint8_t*>(back.data())[i] = static_cast<uint8_t>(kernels::unpacked_filter8(view, i % taps, i / taps) + zero);
        }
        return back;
      });
      return entry_of(packed, count);
    };
    std::vector<ValueId> also;
    const PackKey key = byte_key(m, PackForm::byte_planes, isa, also);
    k.weights = {b.packed(key, static_cast<size_t>(count) * sizeof(int32_t), make, also)};
    step.reads.push_back(k.weights.buffer);
  }
};

}  // namespace

const StepFamily& byte_depthwise() {
  static const ByteDepthwiseFamily family;
  return family;
}

}  // namespace lathe::lower
