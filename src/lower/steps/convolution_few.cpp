// Convolutions to a few filters: a scalar product for each result.
#include <fmt/format.h>

#include <algorithm>
#include <cstring>

#include "kernels/few.hpp"
#include "lower/recipe/step_family.hpp"
#include "lower/steps/convolution.hpp"

namespace lathe::lower {
namespace {

constexpr int64_t kFewestChannels = 16;  // that are worth a vector

class FewConvolution : public StepKernel {
 public:
  kernels::Few few = nullptr;
  Location input, output, weights, zeros;
  WindowTables window;
  int64_t channels = 0, filters = 1, taps = 1, rows = 0, out_pitch = 0, tasks = 1;
  BoundEpilogue epilogue;

  void run(const StepContext& c) const override {
    c.workers.each(tasks, [&](int64_t task, int) {
      kernels::TapeOperand operands[kernels::kMaxSlots];
      const auto here = window.rows(pointer<const float>(c, input), pointer<const float>(c, zeros));
      kernels::FewArguments a;
      a.window = &here;
      a.channels = channels, a.filters = filters, a.taps = taps;
      a.weights = pointer<const float>(c, weights);
      a.row_begin = rows * task / tasks;
      a.row_end = rows * (task + 1) / tasks;
      a.out = pointer<float>(c, output);
      a.out_stride = out_pitch;
      epilogue.fill(c, 0, a.epilogue, operands);
      few(a);
    });
  }
};

class FewFamily : public StepFamily {
 public:
  std::string_view name() const override { return "convolution.few"; }
  std::span<const Numbers> numbers() const override { return kF32; }

  std::unique_ptr<Match> match(const GraphView& view, const Group& group, const Machine&) const override {
    auto m = match_convolution(view, group);
    if (!m || !group.ahead().empty() || m->groups != 1 || m->narrow || !m->constant_weights()) return nullptr;
    if (m->group_filters > kernels::kMostFew || m->taps > kernels::kMostFewTaps || m->group_channels < kFewestChannels) return nullptr;
    return m;
  }
  LayoutDemand layouts(const Match&) const override { return {Order::channels_last, Order::channels_last, Order::channels_last}; }

  void candidates(const Match& match, const Problem& p, RecipeSpace& space) const override {
    const int64_t rows = std::max<int64_t>(1, static_cast<const ConvolutionMatch&>(match).rows);
    const int64_t some = p.machine.threads > 1 ? std::min<int64_t>(p.machine.threads * 4, rows / 64) : 1;
    space.knob("row_tasks", std::max<int64_t>(1, some), 1, rows);
  }

  // A panel would be filled to a quarter at the most.
  double estimate(const Match& match, const Problem& p, const Recipe&) const override {
    return static_cast<const ConvolutionMatch&>(match).work.flops / p.machine.rates.flops / 4;
  }

  void lower(PlanBuilder& b, const Match& match, const Problem& p, const Recipe& recipe) const override {
    const auto& m = static_cast<const ConvolutionMatch&>(match);
    auto kernel = std::make_unique<FewConvolution>();
    FewConvolution& k = *kernel;
    Step step = begin_step(b, m);
    step.beside_others = true;
    k.few = kernels::few_filters(p.machine.isa);
    k.channels = m.group_channels, k.filters = m.group_filters, k.taps = m.taps, k.rows = m.rows;
    k.tasks = recipe.at("row_tasks");
    const PictureInput input = channels_last_input(b, m);
    k.input = input.at;
    k.window = window_tables(m.window, spatial(m.xs), input.strides);
    Tensor none(DType::f32, {m.group_channels});
    std::memset(none.data(), 0, none.byte_size());
    k.zeros = {b.constant_buffer(none)};
    k.weights = pack(b, m);
    step.reads = {k.input.buffer, k.zeros.buffer, k.weights.buffer};
    k.epilogue = bind_epilogue(b, m.epilogue, m.result(), Layout::channels_last, step);
    k.output = b.define_rows(m.result(), Layout::channels_last, k.out_pitch);
    step.writes.push_back(k.output.buffer);
    step.text = fmt::format("{} filter{}, scalar products of {} x {}, {} vectors, {} tasks{}", k.filters, k.filters > 1 ? "s" : "", k.taps,
                            k.channels, kernels::name(p.machine.isa), k.tasks, m.epilogue.text.empty() ? "" : ", " + m.epilogue.text);
    step.kernel = std::move(kernel);
    b.add(std::move(step));
  }

 private:
  // [filter][tap][channel], from [filter][channel][tap].
  static Location pack(PlanBuilder& b, const ConvolutionMatch& m) {
    const ValueId v = m.weights();
    const int64_t channels = m.group_channels, taps = m.taps, filters = m.group_filters, count = filters * channels * taps;
    const auto make = [&] {
      const Tensor w = b.constant(v);
      const float* raw = w.as<float>().data();
      auto packed = floats(count);
      for (int64_t f = 0; f < filters; ++f) {
        for (int64_t t = 0; t < taps; ++t) {
          for (int64_t c = 0; c < channels; ++c) packed.get()[(f * taps + t) * channels + c] = raw[(f * channels + c) * taps + t];
        }
      }
      return entry_of(packed, count);
    };
    b.keep_original(v);  // small: not worth restoring
    return {b.packed({v, PackForm::few, {}}, static_cast<size_t>(count) * sizeof(float), make)};
  }
};

}  // namespace

const StepFamily& convolution_few() {
  static const FewFamily family;
  return family;
}

}  // namespace lathe::lower
