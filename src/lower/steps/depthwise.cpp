// Depthwise convolutions and those of small groups: vectors of channels, channels-last.
#include <fmt/format.h>

#include <algorithm>

#include "kernels/planes.hpp"
#include "lower/recipe/step_family.hpp"
#include "lower/steps/convolution.hpp"

namespace lathe::lower {
namespace {

// [tap][channel of the group][filter], from [filter][channel][tap].
void pack_plane(const float* raw, int64_t filters, int64_t channels, int64_t taps, float* packed) {
  for (int64_t f = 0; f < filters; ++f) {
    for (int64_t c = 0; c < channels; ++c) {
      for (int64_t t = 0; t < taps; ++t) packed[(t * channels + c) * filters + f] = raw[(f * channels + c) * taps + t];
    }
  }
}

class PlaneConvolution : public StepKernel {
 public:
  kernels::Plane plane = nullptr;
  Location input, output, weights;
  std::optional<Location> raw_weights;  // not constants: packed while running
  WindowTables window;
  int64_t groups = 1, group = 1, taps = 1, rows = 0, out_pitch = 0, tasks = 1;
  BoundEpilogue epilogue;

  void run(const StepContext& c) const override {
    if (raw_weights) pack_plane(pointer<const float>(c, *raw_weights), groups * group, group, taps, pointer<float>(c, weights));
    c.workers.each(tasks, [&](int64_t task, int) {
      kernels::TapeOperand operands[kernels::kMaxSlots];
      const auto here = window.rows(pointer<const float>(c, input));
      kernels::PlaneArguments a;
      a.op = group == 1 ? kernels::PlaneOp::depthwise : kernels::PlaneOp::grouped;
      a.window = &here;
      a.channels = groups * group;
      a.group = group;
      a.weights = pointer<const float>(c, weights);
      // Whole groups of lines where there are enough of them: the kernel makes up to four lines at once.
      const int64_t lines = 4 * here.out_w,
                    unit = rows / lines >= 4 * tasks        ? lines
                           : rows / here.out_w >= 2 * tasks ? here.out_w
                                                            : 1,
                    units = (rows + unit - 1) / unit;
      a.row_begin = units * task / tasks * unit;
      a.row_end = std::min(rows, units * (task + 1) / tasks * unit);
      a.out = pointer<float>(c, output);
      a.out_stride = out_pitch;
      epilogue.fill(c, 0, a.epilogue, operands);
      plane(a);
    });
  }
};

class PlaneFamily : public StepFamily {
 public:
  std::string_view name() const override { return "convolution.planes"; }
  std::span<const Numbers> numbers() const override { return kF32; }

  std::unique_ptr<Match> match(const GraphView& view, const Group& group, const Machine&) const override {
    auto m = match_convolution(view, group);
    return m && group.ahead().empty() && fits_planes(*m) ? std::move(m) : nullptr;
  }
  LayoutDemand layouts(const Match&) const override { return {Order::channels_last, Order::channels_last, Order::channels_last}; }

  void candidates(const Match& match, const Problem& p, RecipeSpace& space) const override {
    const auto& m = static_cast<const ConvolutionMatch&>(match);
    // Tasks of less than four lines read more of them twice; two a thread make up for a slower core about as well as four.
    const int64_t threads = p.machine.threads, lines = m.rows / std::max<int64_t>(1, m.window.out.back());
    const int64_t tasks = lines >= 16 * threads ? 4 * threads : 2 * threads;
    const bool share = threads > 1 && worth_sharing(p.machine.rates, match.work);
    space.knob("row_tasks", share ? std::clamp<int64_t>(tasks, 1, std::max<int64_t>(1, m.rows)) : 1, 1, m.rows);
  }

  void lower(PlanBuilder& b, const Match& match, const Problem& p, const Recipe& recipe) const override {
    const auto& m = static_cast<const ConvolutionMatch&>(match);
    auto kernel = std::make_unique<PlaneConvolution>();
    PlaneConvolution& k = *kernel;
    Step step = begin_step(b, m);
    step.beside_others = true;
    k.plane = kernels::plane(p.machine.isa);
    k.groups = m.groups, k.group = m.group_channels, k.taps = m.taps, k.rows = m.rows;
    k.tasks = recipe.at("row_tasks");
    const PictureInput input = channels_last_input(b, m);
    k.input = input.at;
    step.reads.push_back(k.input.buffer);
    k.window = window_tables(m.window, spatial(m.xs), input.strides);
    bind_weights(b, m, k, step);
    k.epilogue = bind_epilogue(b, m.epilogue, m.result(), Layout::channels_last, step);
    k.output = b.define_rows(m.result(), Layout::channels_last, k.out_pitch);
    step.writes.push_back(k.output.buffer);
    step.text = fmt::format("{}, {} vectors, tasks {}x1{}", k.group == 1 ? "depthwise" : "small groups", kernels::name(p.machine.isa),
                            k.tasks, m.epilogue.text.empty() ? "" : ", " + m.epilogue.text);
    step.kernel = std::move(kernel);
    b.add(std::move(step));
  }

 private:
  static void bind_weights(PlanBuilder& b, const ConvolutionMatch& m, PlaneConvolution& k, Step& step) {
    const ValueId v = m.weights();
    if (b.is_constant(v)) {
      k.weights = pack_planes_of(b, m);
      step.reads.push_back(k.weights.buffer);
      return;
    }
    k.raw_weights = b.contiguous(v, Layout::natural);
    k.weights = {b.scratch(static_cast<size_t>(element_count(m.ws)) * sizeof(float))};
    step.reads.push_back(k.raw_weights->buffer);
    step.scratch.push_back(k.weights.buffer);
  }
};

}  // namespace

Location pack_planes_of(PlanBuilder& b, const ConvolutionMatch& m) {
  const ValueId v = m.weights();
  const int64_t filters = m.ws[0], channels = m.group_channels, taps = m.taps, count = filters * channels * taps;
  const auto make = [&] {
    const Tensor w = b.constant(v);
    auto packed = floats(count);
    pack_plane(w.as<float>().data(), filters, channels, taps, packed.get());
    return entry_of(packed, count);
  };
  b.keep_original(v);  // small: not worth restoring
  return {b.packed({v, PackForm::planes, {m.groups}}, static_cast<size_t>(count) * sizeof(float), make)};
}

const StepFamily& convolution_planes() {
  static const PlaneFamily family;
  return family;
}

}  // namespace lathe::lower
