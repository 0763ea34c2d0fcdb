// Pointwise and depthwise convolutions one behind the other, a few lines at a time: what stands between them are the largest pictures of a
// mobile net, and they never leave L2.
#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cstring>

#include "kernels/planes.hpp"
#include "lower/recipe/step_family.hpp"
#include "lower/steps/convolution.hpp"

namespace lathe::lower {
namespace {

// A smaller picture is still in L2 when the next step reads it, most of it: nothing to save. What decides on one step or two is the same on
// every machine, so that an archive fits wherever it is opened.
constexpr int64_t kLargePicture = 512 << 10;
// Bytes that one line of results reads; of all weights, which are passed over for each block of lines.
constexpr int64_t kLargestWindow = 768 << 10, kLargestWeights = 256 << 10;
// The dense kernel's tiles over whole lines are never of one or two rows, which it would add in another order.
constexpr int64_t kNarrowest = 16;
constexpr size_t kMostLayers = 6;

struct Layer {
  bool pointwise = false;
  Location weights;  // panels, or taps
  int64_t in_h = 0, in_w = 0, in_channels = 0;
  int64_t out_h = 0, out_w = 0, channels = 0;
  int64_t top = 0, stride = 1, extent = 1;         // lines: padding above, from one line of results to the next, what one of them reads
  int64_t panels = 0, panel_block = 1, group = 1;  // of a pointwise layer; of another
  WindowTables window;
  BoundEpilogue epilogue;
  int64_t scratch = 0;  // floats from the task's first, where its lines stand; not of the last layer
  int64_t line() const { return out_w * channels; }
};

struct Range {
  int64_t from = 0, to = 0;
};

class LinesConvolution : public StepKernel {
 public:
  kernels::Dense dense = nullptr;
  kernels::Plane plane = nullptr;
  std::vector<Layer> layers;
  Location input, output, scratch;
  int64_t in_pitch = 0, out_pitch = 0;             // floats from pixel to pixel
  int64_t images = 0, task_floats = 0, tasks = 1;  // of scratch
  int64_t block = 1;                               // lines of results at a time; 0: layer by layer, whole pictures in one scratch

  void run(const StepContext& c) const override {
    if (block == 0) return layer_by_layer(c);
    share_lines(c, layers.back(), [&](int64_t task, int64_t image, Range wanted) {
      run_image(c, image, wanted, pointer<float>(c, scratch) + task * task_floats);
    });
  }

 private:
  // Calls f(task, image, lines of its results) for all lines of a layer's results.
  template <typename F>
  void share_lines(const StepContext& c, const Layer& l, F f) const {
    const int64_t total = images * l.out_h, count = std::min(tasks, total);
    c.workers.each(count, [&](int64_t task, int) {
      const int64_t end = total * (task + 1) / count;
      for (int64_t line = total * task / count; line < end;) {
        const int64_t image = line / l.out_h, stop = std::min(end, (image + 1) * l.out_h);
        f(task, image, Range{line - image * l.out_h, stop - image * l.out_h});
        line = stop;
      }
    });
  }

  void layer_by_layer(const StepContext& c) const {
    float* const pictures = pointer<float>(c, scratch);
    for (size_t i = 0; i < layers.size(); ++i) {
      const Layer& l = layers[i];
      share_lines(c, l, [&](int64_t, int64_t image, Range lines) {
        const float* in = pointer<const float>(c, i == 0 ? input : scratch);
        if (i > 0) in += layers[i - 1].scratch + (l.pointwise ? 0 : image * layers[i - 1].out_h * layers[i - 1].line());
        make(c, i, image, lines, in, i + 1 < layers.size() ? pictures + l.scratch : pointer<float>(c, output));
      });
    }
  }

  void run_image(const StepContext& c, int64_t image, Range wanted, float* lines) const {
    const size_t last = layers.size() - 1;
    std::array<Range, kMostLayers> there{};  // of each layer, the lines that are made and kept
    // Where line 0 of a layer's results would be: of an image for windows, of all images for rows.
    const auto line_0 = [&](size_t layer, int64_t images_before) {
      const Layer& of = layers[layer];
      return lines + of.scratch - (images_before * of.out_h + there[layer].from) * of.line();
    };
    for (int64_t at = wanted.from; at < wanted.to; at += block) {
      // From the results back: what each layer has to make, which is what the one behind it reads and has not been made.
      std::array<Range, kMostLayers> fresh{}, kept{};
      fresh[last] = {at, std::min(wanted.to, at + block)};
      for (size_t i = last; i > 0; --i) {
        const Layer& l = layers[i];
        const auto inside = [&](int64_t y) { return std::clamp<int64_t>(y, 0, l.in_h); };
        if (fresh[i].from < fresh[i].to)
          kept[i - 1] = {inside(fresh[i].from * l.stride - l.top), inside((fresh[i].to - 1) * l.stride - l.top + l.extent)};
        else kept[i - 1] = there[i - 1];
        fresh[i - 1] = {std::max(kept[i - 1].from, there[i - 1].to), kept[i - 1].to};
      }
      for (size_t i = 0; i <= last; ++i) {
        const Layer& l = layers[i];
        if (i < last) {
          // What is wanted again moves to the front.
          float* const to = lines + l.scratch;
          const int64_t again = there[i].to - kept[i].from, moved = kept[i].from - there[i].from;
          if (again > 0 && moved > 0) std::memmove(to, to + moved * l.line(), static_cast<size_t>(again * l.line()) * sizeof(float));
          there[i] = kept[i];
        }
        if (fresh[i].from == fresh[i].to) continue;
        make(c, i, image, fresh[i], i == 0 ? pointer<const float>(c, input) : line_0(i - 1, l.pointwise ? image : 0),
             i < last ? line_0(i, image) : pointer<float>(c, output));
      }
    }
  }

  // Lines of an image's results. `in`: where its line 0 is for a window (of the input: the first image's), the first image's for a
  // pointwise layer; `out`: where the first image's results are.
  void make(const StepContext& c, size_t i, int64_t image, Range lines, const float* in, float* out) const {
    const Layer& l = layers[i];
    const int64_t pitch = i + 1 == layers.size() ? out_pitch : l.channels, begin = (image * l.out_h + lines.from) * l.out_w,
                  end = (image * l.out_h + lines.to) * l.out_w;
    kernels::TapeOperand operands[kernels::kMaxSlots];
    if (l.pointwise) {
      kernels::DenseArguments a;
      a.a = in;
      a.lda = i == 0 ? in_pitch : l.in_channels;
      a.run = l.in_channels;
      a.row_begin = begin, a.row_end = end, a.all_rows = images * l.out_h * l.out_w;
      a.panel_end = l.panels, a.columns = l.channels;
      a.b = pointer<const float>(c, l.weights);
      a.c = out, a.ldc = pitch;
      a.k_block = kDepthBlock, a.panel_block = l.panel_block;
      l.epilogue.fill(c, 0, a.epilogue, operands);
      return dense(a);
    }
    const kernels::WindowRows w = l.window.rows(in);
    kernels::PlaneArguments a;
    a.op = l.group == 1 ? kernels::PlaneOp::depthwise : kernels::PlaneOp::grouped;
    a.window = &w;
    a.channels = l.channels, a.group = l.group;
    a.weights = pointer<const float>(c, l.weights);
    a.row_begin = begin, a.row_end = end;
    a.out = out, a.out_stride = pitch;
    l.epilogue.fill(c, 0, a.epilogue, operands);
    plane(a);
  }
};

struct LinesMatch : Match {
  LinesMatch(const GraphView& v, const Group& g) : Match(v, g, StepKind::convolution) {}
  std::vector<std::unique_ptr<Group>> groups;
  std::vector<std::unique_ptr<ConvolutionMatch>> layers;

  static bool pointwise(const ConvolutionMatch& m) { return !fits_planes(m); }
  static int64_t extent(const ConvolutionMatch& m) { return (m.window.kernel[0] - 1) * m.window.dilations[0] + 1; }
  // Of what a layer reads.
  static int64_t line_bytes(const ConvolutionMatch& m) { return m.xs[3] * m.xs[1] * static_cast<int64_t>(sizeof(float)); }
  int64_t images() const { return layers[0]->xs[0]; }
  int64_t out_h() const { return layers.back()->window.out[0]; }
  // Of each layer but the last, lines of its results that `block` lines of the last one's read.
  std::vector<int64_t> lines_kept(int64_t block) const {
    std::vector<int64_t> kept(layers.size() - 1);
    for (size_t i = kept.size(); i > 0; --i)
      block = kept[i - 1] = std::min(layers[i]->xs[2], (block - 1) * layers[i]->window.strides[0] + extent(*layers[i]));
    return kept;
  }
  std::vector<int64_t> whole_pictures() const {
    std::vector<int64_t> lines;
    for (size_t i = 1; i < layers.size(); ++i) lines.push_back(images() * layers[i]->xs[2]);
    return lines;
  }
  int64_t scratch_bytes(int64_t block) const {
    int64_t bytes = 0;
    const auto kept = lines_kept(block);
    for (size_t i = 0; i < kept.size(); ++i) bytes += kept[i] * line_bytes(*layers[i + 1]);
    return bytes;
  }
};

// A convolution that can be a layer here; `last`: what follows it may read other pictures of its size.
bool is_layer(const GraphView& view, const ConvolutionMatch& m, bool last) {
  if (m.xs.size() != 4 || m.slices != 1 || m.rows == 0 || m.narrow || !view.is_constant(m.weights())) return false;
  if (LinesMatch::pointwise(m)) {
    const ops::Window& w = m.window;
    const auto all = [](const std::vector<int64_t>& list, int64_t value) {
      return std::ranges::all_of(list, [&](int64_t i) { return i == value; });
    };
    if (m.taps != 1 || m.groups != 1 || !all(w.strides, 1) || !all(w.pads_begin, 0) || !all(w.pads_end, 0)) return false;
  } else if (m.window.strides[0] > LinesMatch::extent(m)) {
    return false;  // it leaves lines out, which would be made for nothing
  }
  const auto made_inside = [&](ValueId v) {
    return std::ranges::any_of(m.group->nodes, [&](int n) { return view.node(n).outputs[0] == v; });
  };
  return last || std::ranges::all_of(m.group->nodes, [&](int n) {
           return n == m.group->anchor || std::ranges::all_of(view.node(n).inputs, [&](ValueId v) {
                    return v == kAbsent || view.is_constant(v) || made_inside(v);
                  });
         });
}

// Nothing when the group's convolutions cannot be one step, or should not.
std::unique_ptr<LinesMatch> match_lines(const GraphView& view, const Group& group) {
  auto m = std::make_unique<LinesMatch>(view, group);
  for (int n : group.nodes) {
    if (view.node(n).op == "Conv") m->groups.push_back(std::make_unique<Group>(Group{n, {}, Anchor::tiles}));
    if (m->groups.empty()) return nullptr;
    m->groups.back()->nodes.push_back(n);
  }
  if (m->groups.size() < 2 || m->groups.size() > kMostLayers || m->groups.back()->anchor != group.anchor) return nullptr;
  int64_t weight_bytes = 0;
  bool windows = false;
  for (size_t i = 0; i < m->groups.size(); ++i) {
    const Group& g = *m->groups[i];
    auto layer = is_convolution(view, view.node(g.anchor)) ? match_convolution(view, g) : nullptr;
    if (!layer || !is_layer(view, *layer, i + 1 == m->groups.size())) return nullptr;
    const double picture = static_cast<double>(element_count(layer->xs)) * sizeof(float);
    if (i > 0) {
      if (m->layers.back()->result() != layer->input() || picture < kLargePicture) return nullptr;
      if (LinesMatch::extent(*layer) * LinesMatch::line_bytes(*layer) > kLargestWindow) return nullptr;
    }
    if (LinesMatch::pointwise(*layer) && layer->xs[3] < kNarrowest) return nullptr;
    windows = windows || !LinesMatch::pointwise(*layer);
    weight_bytes += element_count(layer->ws) * static_cast<int64_t>(sizeof(float));
    m->work.flops += layer->work.flops;
    m->work.bytes += layer->work.bytes - (i > 0 ? 2 * picture : 0);
    m->layers.push_back(std::move(layer));
  }
  return windows && weight_bytes <= kLargestWeights ? std::move(m) : nullptr;
}

class LinesFamily : public StepFamily {
 public:
  std::string_view name() const override { return "convolution.lines"; }
  std::span<const Numbers> numbers() const override { return kF32; }

  bool joins(const GraphView& view, const Group& both) const override { return match_lines(view, both) != nullptr; }

  std::unique_ptr<Match> match(const GraphView& view, const Group& group, const Machine&) const override {
    return group.joined ? match_lines(view, group) : nullptr;
  }
  LayoutDemand layouts(const Match&) const override { return {Order::channels_last, Order::channels_last, Order::channels_last}; }

  void candidates(const Match& match, const Problem& p, RecipeSpace& space) const override {
    const auto& m = static_cast<const LinesMatch&>(match);
    // Lines on the border of two tasks are made by both: no more than a thirtieth of all, where there are tasks enough without. Where it
    // would be an eighth even with a task a thread, pictures are made one after the other.
    double twice = 0;
    int64_t shared = 0;
    for (size_t i = m.layers.size(); i > 1; --i) {
      const ConvolutionMatch& l = *m.layers[i - 1];
      shared = shared * l.window.strides[0] + std::max<int64_t>(LinesMatch::extent(l) - l.window.strides[0], 0);
      twice += m.layers[i - 2]->work.flops / static_cast<double>(m.images() * l.xs[2]) * static_cast<double>(shared);
    }
    const int64_t total = m.images() * m.out_h(), threads = p.machine.threads;
    const bool one_by_one = static_cast<double>(threads - 1) * twice * 8 > m.work.flops;
    int64_t tasks = threads > 1 ? threads * 4 : 1;
    while (!one_by_one && tasks > threads && static_cast<double>(tasks) * twice * 60 > m.work.flops) tasks -= threads;
    // As many lines as fill two thirds of L2 (of which a block is three eighths); whole fours, which the depthwise kernel makes at once.
    int64_t lines = 1;
    while (lines < m.out_h() && m.scratch_bytes(lines + 1) <= p.machine.block_bytes * 7 / 4) ++lines;
    space.knob("lines", one_by_one ? 0 : lines >= 4 ? lines / 4 * 4 : lines, 0, m.out_h());
    space.knob("line_tasks", std::clamp<int64_t>(tasks, 1, total), 1, total);
  }

  void lower(PlanBuilder& b, const Match& match, const Problem& p, const Recipe& recipe) const override {
    const auto& m = static_cast<const LinesMatch&>(match);
    const Machine& machine = p.machine;
    auto kernel = std::make_unique<LinesConvolution>();
    LinesConvolution& k = *kernel;
    Step step = begin_step(b, m);
    step.beside_others = true;
    k.dense = kernels::dense(machine.isa), k.plane = kernels::plane(machine.isa);
    k.images = m.images(), k.tasks = recipe.at("line_tasks");
    k.block = std::min(recipe.at("lines"), (k.images * m.out_h() + k.tasks - 1) / k.tasks);
    const auto kept = k.block > 0 ? m.lines_kept(k.block) : m.whole_pictures();
    std::string text;
    for (size_t i = 0; i < m.layers.size(); ++i) {
      const ConvolutionMatch& of = *m.layers[i];
      Layer l = layer(b, of, machine, i == 0 ? &k : nullptr);
      step.reads.push_back(l.weights.buffer);
      l.epilogue = bind_epilogue(b, of.epilogue, of.result(), Layout::channels_last, step);
      l.scratch = k.task_floats;
      if (i < kept.size()) k.task_floats += kept[i] * l.line();
      text += fmt::format("{}{}{}", i > 0 ? ", " : "",
                          l.pointwise    ? "pointwise"
                          : l.group == 1 ? "depthwise"
                                         : "small groups",
                          of.epilogue.text.empty() ? "" : " (" + of.epilogue.text + ")");
      k.layers.push_back(std::move(l));
    }
    step.reads.push_back(k.input.buffer);
    k.scratch = {b.scratch(static_cast<size_t>((k.block > 0 ? k.tasks : 1) * k.task_floats) * sizeof(float))};
    step.scratch.push_back(k.scratch.buffer);
    k.output = b.define_rows(m.result(), Layout::channels_last, k.out_pitch);
    step.writes.push_back(k.output.buffer);
    step.text =
        fmt::format("{} through {}, {} {}x{} tile, tasks {}x1", k.block > 0 ? fmt::format("{} lines at a time", k.block) : "layer by layer",
                    text, kernels::name(machine.isa), kernels::max_rows(machine.isa), kernels::panel_width(machine.isa), k.tasks);
    step.kernel = std::move(kernel);
    b.add(std::move(step));
  }

 private:
  // `reads_input`: of the first layer, whose input is a value.
  static Layer layer(PlanBuilder& b, const ConvolutionMatch& m, const Machine& machine, LinesConvolution* reads_input) {
    Layer l;
    l.pointwise = LinesMatch::pointwise(m);
    l.in_h = m.xs[2], l.in_w = m.xs[3], l.in_channels = m.xs[1];
    l.out_h = m.window.out[0], l.out_w = m.window.out[1], l.channels = m.ws[0];
    l.top = m.window.pads_begin[0], l.stride = m.window.strides[0], l.extent = LinesMatch::extent(m);
    if (l.pointwise) {
      const int64_t width = kernels::panel_width(machine.isa);
      if (reads_input) reads_input->input = b.rows(m.input(), Layout::channels_last, reads_input->in_pitch);
      l.weights = pack_panels_of(b, m, width).at;
      l.panels = (l.channels + width - 1) / width;
      l.panel_block = panels_of_block(machine, std::min(m.depth, kDepthBlock), width);
      return l;
    }
    // Lines are found by their number in an image, the image's own lines alone being there.
    std::vector<int64_t> strides{0, 1, l.in_w * l.in_channels, l.in_channels};
    if (reads_input) {
      PictureInput input = channels_last_input(b, m);
      reads_input->input = std::move(input.at), strides = std::move(input.strides);
    }
    l.window = window_tables(m.window, spatial(m.xs), strides);
    l.group = m.group_channels;
    l.weights = pack_planes_of(b, m);
    return l;
  }
};

}  // namespace

const StepFamily& convolution_lines() {
  static const LinesFamily family;
  return family;
}

}  // namespace lathe::lower
