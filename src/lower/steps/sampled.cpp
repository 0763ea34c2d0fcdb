// GridSample and RoiAlign: planes read at places that are found while running.
#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>

#include "kernels/sampled.hpp"
#include "lower/recipe/step_family.hpp"
#include "ops/grid.hpp"
#include "ops/regions.hpp"

namespace lathe::lower {
namespace {

constexpr int64_t kPlaces = 128;  // whose taps are found together, before all channels read by them

// Indices and weights of a block of places.
struct Taps {
  std::array<int32_t, ops::GridRule::kMostTaps * kPlaces> at;
  std::array<float, ops::GridRule::kMostTaps * kPlaces> weights;
  bool all_inside = true;

  void put(int64_t tap, int64_t place, int64_t index, double weight) {
    at[static_cast<size_t>(tap * kPlaces + place)] = static_cast<int32_t>(index);
    weights[static_cast<size_t>(tap * kPlaces + place)] = static_cast<float>(weight);
    all_inside = all_inside && index >= 0;
  }
  void give(kernels::SampledArguments& g) const {
    g.row = kPlaces;
    g.at = at.data(), g.weights = weights.data();
    g.all_inside = all_inside;
  }
};

class GridKernel : public StepKernel {
 public:
  GridKernel(const ops::GridRule& rule) : rule_(rule) {}
  kernels::Sampled kernel = nullptr;
  kernels::SampledPixels pixels = nullptr;  // where channels run fastest
  kernels::FindTaps find = nullptr;         // where there is a kernel that finds the taps
  Location x, grid, output;
  Shape sizes;  // of the axes
  int64_t batch = 0, channels = 0, in_size = 0, out_size = 0;

  void run(const StepContext& c) const override {
    const int64_t blocks = (out_size + kPlaces - 1) / kPlaces;
    c.workers.each(batch * blocks, [&](int64_t task, int) {
      const int64_t b = task / blocks, from = task % blocks * kPlaces, places = std::min(kPlaces, out_size - from);
      const int axes = rule_.axes();
      const float* g = pointer<const float>(c, grid) + (b * out_size + from) * axes;
      Taps taps;
      if (find) taps.all_inside = find(asked(g, places, taps));
      else found(g, places, taps);
      if (pixels) {
        kernels::SampledPixelsArguments a;
        a.in = pointer<const float>(c, x) + b * channels * in_size;
        a.out = pointer<float>(c, output) + (b * out_size + from) * channels;
        a.channels = channels, a.places = places, a.taps = rule_.taps(), a.row = kPlaces;
        a.at = taps.at.data(), a.weights = taps.weights.data();
        return pixels(a);
      }
      kernels::SampledArguments a;
      a.in = pointer<const float>(c, x) + b * channels * in_size;
      a.out = pointer<float>(c, output) + b * channels * out_size + from;
      a.planes = channels, a.in_plane = in_size, a.out_plane = out_size;
      a.places = places, a.taps = rule_.taps();
      taps.give(a);
      kernel(a);
    });
  }

 private:
  void found(const float* g, int64_t places, Taps& taps) const {
    int64_t index[ops::GridRule::kMostTaps];
    double weight[ops::GridRule::kMostTaps], position[ops::GridRule::kMostAxes];
    for (int64_t p = 0; p < places; ++p, g += rule_.axes()) {
      std::copy_n(g, rule_.axes(), position);
      rule_.at(position, index, weight);
      for (int64_t t = 0; t < rule_.taps(); ++t) taps.put(t, p, index[t], weight[t]);
    }
  }
  kernels::GridArguments asked(const float* g, int64_t places, Taps& taps) const {
    kernels::GridArguments a;
    a.grid = g, a.places = places, a.row = kPlaces;
    a.axes = rule_.axes(), a.taps = static_cast<kernels::GridTaps>(rule_.taps_along());
    std::ranges::copy(sizes, a.size);
    a.pixels = rule_.pixels(), a.corners = rule_.corners(), a.border = !rule_.padded_with_zeros();
    a.at = taps.at.data(), a.weights = taps.weights.data();
    return a;
  }
  const ops::GridRule rule_;
};

struct GridMatch : Match {
  GridMatch(const GraphView& v, const Group& g, const ops::GridRule& r) : Match(v, g, StepKind::resample), rule(r) {}
  ops::GridRule rule;
};

// Whether planes of this size are there, and can be told apart by 31 bits.
bool fits(const Shape& x) {
  int64_t size = 1;
  for (size_t a = 2; a < x.size(); ++a) size *= x[a];
  return size > 0 && size <= INT32_MAX;
}

class GridFamily : public StepFamily {
 public:
  std::string_view name() const override { return "grid_sample"; }
  std::span<const Numbers> numbers() const override { return kF32; }

  std::unique_ptr<Match> match(const GraphView& view, const Group& group, const Machine&) const override {
    if (!group.single()) return nullptr;
    const Node& n = view.node(group.nodes[0]);
    if (!n.domain.empty() || n.op != "GridSample") return nullptr;
    for (const ValueId v : {n.inputs[0], n.inputs[1], n.outputs[0]}) {
      if (!view.is_static(v) || view.dtype(v) != DType::f32) return nullptr;
    }
    const Shape &x = view.shape(n.inputs[0]), &grid = view.shape(n.inputs[1]), &out = view.shape(n.outputs[0]);
    if (x.size() < 3 || x.size() > 2 + ops::GridRule::kMostAxes || grid.size() != x.size() || grid[0] != x[0] ||
        grid.back() != static_cast<int64_t>(x.size()) - 2 || !fits(x) || element_count(out) == 0)
      return nullptr;
    // What plain evaluation would refuse, it refuses.
    if (n.text("mode", "") == "cubic" || n.text("mode", "") == "bicubic") {
      if (x.size() != 4) return nullptr;
    }
    const ops::GridRule rule(n, view.version(n), x);
    if (rule.taps() > ops::GridRule::kMostTaps) return nullptr;
    auto m = std::make_unique<GridMatch>(view, group, rule);
    m->work.flops = 2.0 * static_cast<double>(element_count(out)) * static_cast<double>(rule.taps());
    m->work.bytes = 4.0 * static_cast<double>(element_count(x) + element_count(grid) + element_count(out));
    return m;
  }

  LayoutDemand layouts(const Match& m) const override {
    return in_pixels(m) ? LayoutDemand{Order::channels_last, Order::channels_last, Order::channels_last} : LayoutDemand{};
  }

  void lower(PlanBuilder& b, const Match& match, const Problem& p, const Recipe&) const override {
    const auto& m = static_cast<const GridMatch&>(match);
    const Layout layout = in_pixels(m) ? Layout::channels_last : Layout::natural;
    const Node& n = m.node();
    auto k = std::make_unique<GridKernel>(m.rule);
    const Shape x = b.shape(n.inputs[0]), out = b.shape(n.outputs[0]);
    k->kernel = kernels::sampled(p.machine.isa);
    if (in_pixels(m)) k->pixels = kernels::sampled_pixels(p.machine.isa);
    k->batch = x[0], k->channels = x[1];
    k->in_size = element_count(x) / (x[0] * x[1]);
    k->sizes.assign(x.begin() + 2, x.end());
    const bool near = std::ranges::all_of(k->sizes, [](int64_t n) { return n < INT32_MAX / 2; });
    if (m.rule.axes() <= 3 && !m.rule.reflects() && near) k->find = kernels::find_taps(p.machine.isa);
    k->out_size = element_count(out) / (x[0] * x[1]);
    k->x = b.contiguous(n.inputs[0], layout);
    k->grid = b.contiguous(n.inputs[1], Layout::natural);
    k->output = b.define(n.outputs[0], layout);
    Step step = begin_step(b, m);
    step.text = fmt::format("{} taps a place, found once for {} channels", m.rule.taps(), x[1]);
    step.reads = {k->x.buffer, k->grid.buffer};
    step.writes = {k->output.buffer};
    step.kernel = std::move(k);
    b.add(std::move(step));
  }

 private:
  // Channels that fill a vector, or most of one, lie together.
  static bool in_pixels(const Match& m) { return m.view->shape(m.node().inputs[0])[1] >= 8; }
};

class RegionKernel : public StepKernel {
 public:
  kernels::Sampled kernel = nullptr;
  ops::RegionRule rule;
  Location x, rois, indices, output;
  Shape in;
  int64_t count = 0;
  std::string where;

  void run(const StepContext& c) const override {
    const int64_t size = in[2] * in[3], places = rule.out_height * rule.out_width, blocks = (places + kPlaces - 1) / kPlaces;
    const auto* batch = pointer<const int64_t>(c, indices);
    const auto* boxes = pointer<const float>(c, rois);
    for (int64_t r = 0; r < count; ++r) {  // before any of the workers: they cannot fail
      try {
        ops::check_batch(batch[r], in[0]);
        const double box[]{boxes[4 * r], boxes[4 * r + 1], boxes[4 * r + 2], boxes[4 * r + 3]};
        rule.region(box);
      } catch (const Error& e) {
        throw Error(e.category(), fmt::format("{}: {}", where, e.what()));
      }
    }
    c.workers.each(count * blocks, [&](int64_t task, int) {
      const int64_t r = task / blocks, from = task % blocks * kPlaces, here = std::min(kPlaces, places - from);
      const double box[]{boxes[4 * r], boxes[4 * r + 1], boxes[4 * r + 2], boxes[4 * r + 3]};
      const ops::Region region = rule.region(box);
      const int64_t samples = region.ny * region.nx;
      kernels::SampledArguments a;
      a.in = pointer<const float>(c, x) + batch[r] * in[1] * size;
      a.out = pointer<float>(c, output) + r * in[1] * places + from;
      a.planes = in[1], a.in_plane = size, a.out_plane = places, a.places = here;
      const double each = 1.0 / static_cast<double>(std::max<int64_t>(1, samples));
      constexpr int64_t kAtOnce = ops::GridRule::kMostTaps / 4;
      for (int64_t s = 0; s == 0 || s < samples; s += kAtOnce) {
        const int64_t some = std::min(kAtOnce, samples - s);
        Taps taps;
        for (int64_t k = 0; k < some; ++k) {
          for (int64_t p = 0; p < here; ++p) {
            int64_t index[4];
            double weight[4];
            rule.corners(region, (from + p) / rule.out_width, (from + p) % rule.out_width, (s + k) / region.nx, (s + k) % region.nx, in[2],
                         in[3], index, weight);
            for (int64_t t = 0; t < 4; ++t) taps.put(4 * k + t, p, index[t], weight[t] * each);
          }
        }
        a.taps = 4 * some;
        a.more = s > 0;
        taps.give(a);
        kernel(a);
      }
    });
  }
};

struct RegionMatch : Match {
  using Match::Match;
  ops::RegionRule rule;
};

class RegionFamily : public StepFamily {
 public:
  std::string_view name() const override { return "roi_align"; }
  std::span<const Numbers> numbers() const override { return kF32; }

  std::unique_ptr<Match> match(const GraphView& view, const Group& group, const Machine&) const override {
    if (!group.single()) return nullptr;
    const Node& n = view.node(group.nodes[0]);
    if (!n.domain.empty() || n.op != "RoiAlign" || n.text("mode", "avg") != "avg") return nullptr;
    for (const ValueId v : {n.inputs[0], n.inputs[1], n.outputs[0]}) {
      if (!view.is_static(v) || view.dtype(v) != DType::f32) return nullptr;
    }
    if (!view.is_static(n.inputs[2]) || view.dtype(n.inputs[2]) != DType::i64) return nullptr;
    const Shape &x = view.shape(n.inputs[0]), &rois = view.shape(n.inputs[1]), &out = view.shape(n.outputs[0]);
    if (x.size() != 4 || rois.size() != 2 || rois[1] != 4 || view.shape(n.inputs[2]) != Shape{rois[0]} || !fits(x) ||
        element_count(out) == 0)
      return nullptr;
    auto m = std::make_unique<RegionMatch>(view, group, StepKind::resample);
    m->rule = ops::RegionRule::of(n, view.version(n));
    // How many samples a region takes hangs on its size where the ratio is 0: four are counted.
    const int64_t samples = m->rule.ratio > 0 ? m->rule.ratio * m->rule.ratio : 4;
    m->work.flops = 8.0 * static_cast<double>(element_count(out)) * static_cast<double>(samples);
    m->work.bytes = 4.0 * static_cast<double>(element_count(x) + element_count(out));
    return m;
  }

  void lower(PlanBuilder& b, const Match& match, const Problem& p, const Recipe&) const override {
    const auto& m = static_cast<const RegionMatch&>(match);
    const Node& n = m.node();
    auto k = std::make_unique<RegionKernel>();
    k->kernel = kernels::sampled(p.machine.isa);
    k->rule = m.rule;
    k->in = b.shape(n.inputs[0]);
    k->count = b.shape(n.inputs[1])[0];
    k->where = label(b.graph(), n);
    k->x = b.contiguous(n.inputs[0], Layout::natural);
    k->rois = b.contiguous(n.inputs[1], Layout::natural);
    k->indices = b.contiguous(n.inputs[2], Layout::natural);
    k->output = b.define(n.outputs[0], Layout::natural);
    Step step = begin_step(b, m);
    step.text = fmt::format("{} regions, samples found once for {} channels", k->count, k->in[1]);
    step.can_fail = true;  // indices and regions are looked at
    step.reads = {k->x.buffer, k->rois.buffer, k->indices.buffer};
    step.writes = {k->output.buffer};
    step.kernel = std::move(k);
    b.add(std::move(step));
  }
};

}  // namespace

const StepFamily& grids() {
  static const GridFamily family;
  return family;
}

const StepFamily& regions() {
  static const RegionFamily family;
  return family;
}

}  // namespace lathe::lower
