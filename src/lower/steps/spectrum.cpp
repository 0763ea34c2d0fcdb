// DFT and STFT: rows of a signal, windowed, transformed several at a time; of a real one its even and odd entries as one half as long.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numbers>

#include "kernels/spectrum.hpp"
#include "lower/recipe/step_family.hpp"
#include "ops/support.hpp"
#include "tensor/widen.hpp"

namespace lathe::lower {
namespace {

using kernels::kSpectrumRows;

// Row r lies at r / in_inner * in_outer + r % in_inner * in_each of what is read, and as that of what is written; in elements.
struct Places {
  int64_t inner = 1, outer = 0, each = 0, step = 1;  // step: from one entry to the next
  int64_t of(int64_t row) const { return row / inner * outer + row % inner * each; }
};

struct Form {
  int64_t length = 1, used = 1, bins = 1, rows = 0;  // used: entries that are there, zeros behind them; bins: that are wanted
  int64_t parts = 1, to = 2;                         // of an entry: real, imaginary
  bool inverse = false, mirrored = false;            // mirrored: the half that a one-sided transform left out is made up
  Places in, out;
  std::vector<double> window;  // of `length`, or none
  bool halved() const { return parts == 1 && to == 2 && !inverse && length % 2 == 0; }
};

class SpectrumKernel : public StepKernel {
 public:
  Form form;
  kernels::SpectrumPlan plan;
  std::vector<double> half_turns;  // cos, sin of -2 pi k / length up to half of it
  kernels::Spectrum kernel = nullptr;
  Location input, output, scratch;
  int64_t tasks = 1, doubles = 0;  // of scratch a task
  bool wide = false;               // f64

  void run(const StepContext& c) const override {
    c.workers.each(tasks, [&](int64_t task, int) {
      const int64_t begin = form.rows * task / tasks, end = form.rows * (task + 1) / tasks;
      wide ? some<double>(c, task, begin, end) : some<float>(c, task, begin, end);
    });
  }

 private:
  int64_t entries() const { return plan.padded > 0 ? plan.padded : plan.length; }
  template <typename T>
  void some(const StepContext& c, int64_t task, int64_t begin, int64_t end) const {
    const T* x = pointer<const T>(c, input);
    T* y = pointer<T>(c, output);
    double* re = pointer<double>(c, scratch) + task * doubles;
    for (int64_t row = begin; row < end;) {
      const int64_t lanes = end - row > 1 ? kSpectrumRows : 1, count = std::min(end - row, lanes);
      double *im = re + entries() * lanes, *other = im + entries() * lanes;
      const T* from[kSpectrumRows];
      T* to[kSpectrumRows];
      for (int64_t r = 0; r < count; ++r) from[r] = x + form.in.of(row + r), to[r] = y + form.out.of(row + r);
      if (count < lanes || form.used < form.length || (form.parts == 1 && !form.halved()))
        std::fill(re, re + plan.length * lanes, 0.0), std::fill(im, im + plan.length * lanes, 0.0);
      if (form.halved()) load_halved(from, count, lanes, re, im);
      else load(from, count, lanes, re, im);
      form.inverse ? kernel(plan, lanes, im, re, other) : kernel(plan, lanes, re, im, other);
      if (form.halved()) store_halved(to, count, lanes, re, im);
      else store(to, count, lanes, re, im);
      row += count;
    }
  }
  double share(int64_t k) const { return form.window.empty() ? 1 : form.window[static_cast<size_t>(k)]; }

  // Entry by entry, of all rows: what is written lies together.
  template <typename T>
  void load(const T* const* from, int64_t count, int64_t lanes, double* re, double* im) const {
    for (int64_t k = 0; k < form.used; ++k) {
      const int64_t at = k * form.in.step;
      for (int64_t r = 0; r < count; ++r) re[k * lanes + r] = static_cast<double>(from[r][at]) * share(k);
      if (form.parts == 2) {
        for (int64_t r = 0; r < count; ++r) im[k * lanes + r] = static_cast<double>(from[r][at + 1]) * share(k);
      }
    }
    if (!form.mirrored) return;
    for (int64_t k = form.length / 2 + 1; k < form.length; ++k) {
      for (int64_t r = 0; r < lanes; ++r) {
        re[k * lanes + r] = re[(form.length - k) * lanes + r];
        im[k * lanes + r] = form.parts == 2 ? -im[(form.length - k) * lanes + r] : 0;
      }
    }
  }
  template <typename T>
  void load_halved(const T* const* from, int64_t count, int64_t lanes, double* re, double* im) const {
    for (int64_t k = 0; k < form.used; ++k) {
      double* to = (k % 2 == 0 ? re : im) + k / 2 * lanes;
      for (int64_t r = 0; r < count; ++r) to[r] = static_cast<double>(from[r][k * form.in.step]) * share(k);
    }
  }

  template <typename T>
  void store(T* const* to, int64_t count, int64_t lanes, const double* re, const double* im) const {
    const double scale = form.inverse ? 1 / static_cast<double>(form.length) : 1;
    for (int64_t k = 0; k < form.bins; ++k) {
      const int64_t at = k * form.out.step;
      for (int64_t r = 0; r < count; ++r) {
        to[r][at] = static_cast<T>(re[k * lanes + r] * scale);
        if (form.to == 2) to[r][at + 1] = static_cast<T>(im[k * lanes + r] * scale);
      }
    }
  }
  // Of even entries and odd ones apart: e + turn o, with e what mirrors as itself and i o what mirrors as its opposite.
  template <typename T>
  void store_halved(T* const* to, int64_t count, int64_t lanes, const double* re, const double* im) const {
    const int64_t half = form.length / 2;
    for (int64_t bin = 0; bin < form.bins; ++bin) {
      const bool beyond = bin > half;  // mirrors one before
      const int64_t k = beyond ? form.length - bin : bin, here = k % half * lanes, back = (half - k) % half * lanes;
      const double c = half_turns[static_cast<size_t>(2 * k)], s = half_turns[static_cast<size_t>(2 * k + 1)];
      for (int64_t r = 0; r < count; ++r) {
        const double ar = re[here + r], ai = im[here + r], br = re[back + r], bi = -im[back + r];
        const double er = 0.5 * (ar + br), ei = 0.5 * (ai + bi), odd_r = 0.5 * (ai - bi), odd_i = 0.5 * (br - ar);
        const double i = ei + odd_r * s + odd_i * c;
        T* e = to[r] + bin * form.out.step;
        e[0] = static_cast<T>(er + odd_r * c - odd_i * s);
        e[1] = static_cast<T>(beyond ? -i : i);
      }
    }
  }
};

struct SpectrumMatch : Match {
  using Match::Match;
  Form form;
};

constexpr Numbers kSpectra[]{{DType::f32, DType::f64, DType::f32}, same(DType::f64)};
constexpr int64_t kLongest = int64_t{1} << 24;

class SpectrumFamily : public StepFamily {
 public:
  std::string_view name() const override { return "spectrum"; }
  std::span<const Numbers> numbers() const override { return kSpectra; }

  std::unique_ptr<Match> match(const GraphView& view, const Group& group, const Machine&) const override {
    if (!group.single()) return nullptr;
    const Node& n = view.node(group.nodes[0]);
    if (!n.domain.empty() || (n.op != "DFT" && n.op != "STFT") || !view.is_static(n.inputs[0]) || !view.is_static(n.outputs[0]))
      return nullptr;
    const Shape x = view.shape(n.inputs[0]), y = view.shape(n.outputs[0]);
    if (element_count(x) == 0 || element_count(y) == 0) return nullptr;
    const auto form = n.op == "DFT" ? of_axis(view, n, x, y) : of_frames(view, n, x, y);
    if (!form || form->length > kLongest) return nullptr;
    auto m = std::make_unique<SpectrumMatch>(view, group, StepKind::resample);
    m->form = *form;
    const double bytes = view.dtype(n.inputs[0]) == DType::f64 ? 8 : 4;
    const auto length = static_cast<double>(form->length);
    m->work.flops = 5 * length * std::log2(length + 1) * static_cast<double>(form->rows);
    m->work.bytes = bytes * static_cast<double>(element_count(x) + element_count(y));
    return m;
  }

  void candidates(const Match& match, const Problem& p, RecipeSpace& space) const override {
    const int64_t rows = static_cast<const SpectrumMatch&>(match).form.rows;
    space.knob("tasks", std::clamp<int64_t>(rows / (2 * kSpectrumRows), 1, p.machine.threads), 1, std::min<int64_t>(rows, 64));
  }

  void lower(PlanBuilder& b, const Match& match, const Problem& p, const Recipe& recipe) const override {
    const auto& m = static_cast<const SpectrumMatch&>(match);
    auto k = std::make_unique<SpectrumKernel>();
    k->form = m.form;
    k->plan = kernels::plan_spectrum(m.form.halved() ? m.form.length / 2 : m.form.length);
    for (int64_t i = 0; m.form.halved() && i <= m.form.length / 2; ++i) {
      const double angle = -2 * std::numbers::pi * static_cast<double>(i) / static_cast<double>(m.form.length);
      k->half_turns.push_back(std::cos(angle)), k->half_turns.push_back(std::sin(angle));
    }
    k->kernel = kernels::spectrum(p.machine.isa);
    k->wide = b.dtype(m.node().inputs[0]) == DType::f64;
    k->tasks = recipe.at("tasks");
    k->doubles = 2 * kernels::spectrum_scratch(k->plan, kSpectrumRows);
    k->input = b.contiguous(m.node().inputs[0], Layout::natural);
    k->output = b.define(m.result(), Layout::natural);
    k->scratch = {b.scratch(static_cast<size_t>(k->tasks * k->doubles) * sizeof(double))};
    Step step = begin_step(b, m);
    step.text = fmt::format("{} rows of {}{}, {} tasks", m.form.rows, m.form.length,
                            std::string(m.form.halved() ? " by halves" : "") +
                                (k->plan.padded > 0 ? fmt::format(" as convolutions of {}", k->plan.padded) : std::string()),
                            k->tasks);
    step.reads = {k->input.buffer};
    step.writes = {k->output.buffer};
    step.scratch = {k->scratch.buffer};
    step.kernel = std::move(k);
    b.add(std::move(step));
  }

 private:
  // Nothing when a run decides on it.
  static std::optional<std::optional<int64_t>> number(const GraphView& view, const Node& n, size_t i) {
    if (!given(n.inputs, i)) return std::optional<int64_t>();
    if (!view.is_constant(n.inputs[i]) || element_count(view.shape(n.inputs[i])) != 1) return std::nullopt;
    return std::optional(integers(view.constant(n.inputs[i]))[0]);
  }

  static std::optional<Form> of_axis(const GraphView& view, const Node& n, const Shape& x, const Shape& y) {
    const auto length = number(view, n, 1), axis_given = number(view, n, 2);
    if (!length || !axis_given || x.size() < 2) return std::nullopt;
    const bool onesided = n.integer("onesided", 0) != 0;
    const int64_t axis =
        ops::wrap_axis(view.version(n) < 20 ? n.integer("axis", 1) : axis_given->value_or(-2), static_cast<int64_t>(x.size()));
    Form f;
    f.inverse = n.integer("inverse", 0) != 0;
    f.mirrored = f.inverse && onesided;
    f.parts = x.back(), f.to = y.back();
    f.length = length->value_or(f.mirrored ? 2 * (x[static_cast<size_t>(axis)] - 1) : x[static_cast<size_t>(axis)]);
    f.used = std::min(x[static_cast<size_t>(axis)], f.length), f.bins = y[static_cast<size_t>(axis)];
    if (f.length < 1 || axis + 1 == static_cast<int64_t>(x.size()) || (f.parts != 1 && f.parts != 2) || (f.to != 1 && f.to != 2))
      return std::nullopt;
    const int64_t inner = product(x, static_cast<size_t>(axis) + 1, x.size() - 1);
    f.rows = product(x, 0, static_cast<size_t>(axis)) * inner;
    f.in = {inner, x[static_cast<size_t>(axis)] * inner * f.parts, f.parts, inner * f.parts};
    f.out = {inner, f.bins * inner * f.to, f.to, inner * f.to};
    return f;
  }

  static std::optional<Form> of_frames(const GraphView& view, const Node& n, const Shape& x, const Shape& y) {
    const auto step = number(view, n, 1), frame = number(view, n, 3);
    if (!step || !*step || !frame || (given(n.inputs, 2) && !view.is_constant(n.inputs[2]))) return std::nullopt;
    Form f;
    if (given(n.inputs, 2)) f.window = widen<double>(view.constant(n.inputs[2]));
    f.length = f.used = frame->value_or(static_cast<int64_t>(f.window.size()));
    f.parts = x.size() == 3 ? x.back() : 1;
    const auto shares = static_cast<int64_t>(f.window.size());
    if (f.length < 1 || **step < 1 || f.length > x[1] || shares > f.length || (f.parts != 1 && f.parts != 2) ||
        (f.parts == 2 && n.integer("onesided", 1) != 0))
      return std::nullopt;
    if (shares > 0 && shares < f.length) {  // stands in the middle
      f.window.insert(f.window.begin(), static_cast<size_t>((f.length - shares) / 2), 0.0);
      f.window.resize(static_cast<size_t>(f.length), 0.0);
    }
    const int64_t frames = y[1];
    f.bins = y[2], f.to = 2;
    f.rows = x[0] * frames;
    f.in = {frames, x[1] * f.parts, **step * f.parts, f.parts};
    f.out = {frames, frames * f.bins * 2, f.bins * 2, 2};
    return f;
  }
};

}  // namespace

const StepFamily& spectra() {
  static const SpectrumFamily family;
  return family;
}

}  // namespace lathe::lower
