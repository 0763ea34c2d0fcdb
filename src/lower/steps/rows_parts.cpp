// Few and long rows, or few columns: softmax, normalisations and reductions in parts along the row. Every part is measured or reduced by
// itself, near memory and on any thread; what the parts found is joined in double, and where results are as long as rows, each part is
// finished then. The cut is the recipe's and no thread's, so bits do not depend on the number of threads.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <limits>
#include <numeric>

#include "kernels/row_parts.hpp"
#include "lower/steps/rows.hpp"

namespace lathe::lower {
namespace {

using kernels::PartStatistics;
using kernels::RowOp;

constexpr int64_t kPart = 32768;    // floats of a part, untuned: of what L2 holds, a small share
constexpr int64_t kMostParts = 64;  // untuned
constexpr int64_t kFewRows = 16;    // fewer than these do not occupy the threads of a large machine
constexpr int64_t kFewColumns = 4096;
constexpr double kNone = std::numeric_limits<double>::quiet_NaN();

bool is_finite(double v) { return std::fabs(v) <= static_cast<double>(std::numeric_limits<float>::max()); }
bool keeps_shape(RowOp op) { return op < RowOp::sum; }
bool softens(RowOp op) { return op == RowOp::softmax || op == RowOp::log_softmax; }

// The reduction that a part of a row does. Of means and lengths the same: they stay in range where sums do not.
double reduced_part(kernels::Rows rows, kernels::RowArguments a) {
  float result = 0;
  a.out = &result;
  rows(a);
  // Of a part that floats do not hold, the rest may take back what is too much.
  if (a.op == RowOp::sum && !is_finite(static_cast<double>(result)))
    return std::accumulate(a.in, a.in + a.length, 0.0, [](double sum, float x) { return sum + static_cast<double>(x); });
  const auto v = static_cast<double>(result);
  return a.op == RowOp::mean ? v * static_cast<double>(a.length) : a.op == RowOp::l2 ? v * v : v;
}

float joined(RowOp op, const double* parts, int64_t count, int64_t length) {
  double v = parts[0];
  for (int64_t j = 1; j < count; ++j) {
    const double p = parts[j];
    if (op != RowOp::max && op != RowOp::min) v += p;
    else if (std::isnan(p) || (op == RowOp::max ? p > v : p < v)) v = p;  // NaN stays: it compares with nothing
  }
  if (op == RowOp::mean) v /= static_cast<double>(length);
  return static_cast<float>(op == RowOp::l2 ? std::sqrt(v) : v);
}

RowOp of_columns_part(RowOp op) {
  return op == RowOp::mean_columns ? RowOp::sum_columns : op == RowOp::l2_columns ? RowOp::sum_squares_columns : op;
}
RowOp joining_columns(RowOp op) { return op == RowOp::max_columns || op == RowOp::min_columns ? op : RowOp::sum_columns; }

// What is known of a whole row.
struct RowSummary {
  bool held = true;  // by floats; else the row is done again as a whole, in double
  float shift = 0;
  double factor = 1;   // of every part; softmax: 1 / the sum of powers
  double largest = 0;  // softmax
};

RowSummary summary(RowOp op, const PartStatistics* parts, int64_t count, int64_t length, float epsilon, auto&& length_of) {
  RowSummary row;
  double sum = 0;
  if (softens(op)) {
    double largest = parts[0].centre;
    for (int64_t j = 1; j < count; ++j) {
      if (std::isnan(parts[j].centre) || parts[j].centre > largest) largest = parts[j].centre;
    }
    // NaN or infinity at the maximum: nothing but NaN comes of it.
    if (!is_finite(largest)) return {.shift = std::numeric_limits<float>::quiet_NaN(), .factor = kNone, .largest = kNone};
    for (int64_t j = 0; j < count; ++j) sum += parts[j].sum * std::exp(parts[j].centre - largest);
    return {.shift = static_cast<float>(largest + std::log(sum)), .factor = 1 / sum, .largest = largest};
  }
  const auto n = static_cast<double>(length);
  double mean = 0;
  for (int64_t j = 0; j < count; ++j) mean += parts[j].centre * static_cast<double>(length_of(j)) / n;
  for (int64_t j = 0; j < count; ++j) {
    const double off = parts[j].centre - mean;
    sum += parts[j].sum + static_cast<double>(length_of(j)) * off * off;
  }
  row.held = is_finite(sum);
  row.shift = static_cast<float>(mean);
  row.factor = 1 / std::sqrt(sum / n + static_cast<double>(epsilon));
  return row;
}

class RowPartsKernel : public StepKernel, public BoundRows {
 public:
  kernels::MeasurePart measure = nullptr;
  kernels::FinishPart finish = nullptr;
  int64_t parts = 1, tasks = 1;
  Location found;  // scratch: what the parts found, row by row; behind it summaries of rows whose shape is kept

  int64_t begin(int64_t j) const {
    const int64_t at = arguments.length * j / parts;
    return j == parts || arguments.width > 1 ? at : at / 16 * 16;
  }
  int64_t length_of(int64_t j) const { return begin(j + 1) - begin(j); }
  int64_t longest() const { return arguments.length / parts + 16 + 1; }

  void run(const StepContext& c) const override {
    if (arguments.width > 1) reduce_columns(c);
    else if (keeps_shape(arguments.op)) finish_rows(c);
    else reduce_rows(c);
  }

 private:
  // f(row, part, task) for all of them.
  template <typename F>
  void each_part(const StepContext& c, F f) const {
    c.workers.each(tasks, [&](int64_t task, int) {
      for (int64_t i = count * parts * task / tasks; i < count * parts * (task + 1) / tasks; ++i) f(i / parts, i % parts, task);
    });
  }
  // The numbers of a part, made first where there are nodes before it.
  const float* part(const StepContext& c, int64_t row, int64_t j, int64_t task) const {
    const int64_t at = row * arguments.length + begin(j);
    if (!before) return pointer<const float>(c, input) + at;
    float* to = kept        ? pointer<float>(c, input) + at
                : in_output ? pointer<float>(c, output) + at
                            : pointer<float>(c, scratch) + task * longest();
    before->run(c, row, length_of(j), to, false, begin(j));
    return to;
  }

  void reduce_rows(const StepContext& c) const {
    auto* results = pointer<double>(c, found);
    each_part(c, [&](int64_t row, int64_t j, int64_t task) {
      kernels::RowArguments a = arguments;
      a.in = part(c, row, j, task);
      a.length = length_of(j), a.begin = 0, a.end = 1;
      results[row * parts + j] = reduced_part(rows, a);
    });
    auto* out = pointer<float>(c, output);
    for (int64_t r = 0; r < count; ++r) out[r] = joined(arguments.op, results + r * parts, parts, arguments.length);
  }

  void reduce_columns(const StepContext& c) const {
    const auto* x = pointer<const float>(c, input);
    auto* results = pointer<float>(c, found);
    kernels::RowArguments each = arguments;
    each.begin = 0, each.end = 1, each.column_end = each.width;
    each_part(c, [&](int64_t row, int64_t j, int64_t) {
      kernels::RowArguments a = each;
      a.op = of_columns_part(arguments.op);
      a.in = x + (row * arguments.length + begin(j)) * a.width;
      a.length = length_of(j);
      a.out = results + (row * parts + j) * a.width;
      rows(a);
    });
    for (int64_t r = 0; r < count; ++r) join_columns(each, x, results, r, pointer<float>(c, output) + r * arguments.width);
  }
  void join_columns(kernels::RowArguments a, const float* x, const float* results, int64_t row, float* out) const {
    a.op = joining_columns(arguments.op);
    a.in = results + row * parts * a.width;
    a.length = parts;
    a.out = out;
    rows(a);
    const bool mean = arguments.op == RowOp::mean_columns, root = arguments.op == RowOp::l2_columns;
    // Sums that floats do not hold, though what is asked for may be held: done again as a whole.
    constexpr float kSmall = 1e-30f, kLarge = std::numeric_limits<float>::max();
    bool held = true;
    for (int64_t i = 0; i < a.width; ++i) held &= std::fabs(out[i]) <= kLarge && (!root || out[i] >= kSmall);
    if (!held && joining_columns(arguments.op) == RowOp::sum_columns) {
      a.op = arguments.op, a.length = arguments.length;
      a.in = x + row * arguments.length * a.width;
      return rows(a);
    }
    const float share = 1.0f / static_cast<float>(arguments.length);
    for (int64_t i = 0; mean && i < a.width; ++i) out[i] *= share;
    for (int64_t i = 0; root && i < a.width; ++i) out[i] = std::sqrt(out[i]);
  }

  void finish_rows(const StepContext& c) const {
    auto* statistics = pointer<PartStatistics>(c, found);
    auto* out = pointer<float>(c, output);
    const float* x = before && !kept ? out : pointer<const float>(c, input);
    kernels::RowPart whole;
    whole.op = arguments.op;
    whole.scale = has_scale ? pointer<const float>(c, scale) : nullptr;
    whole.bias = has_bias ? pointer<const float>(c, bias) : nullptr;
    whole.pixels = arguments.pixels;
    each_part(c, [&](int64_t row, int64_t j, int64_t task) {
      kernels::RowPart p = whole;
      p.in = part(c, row, j, task);
      p.out = out + row * arguments.length + begin(j);
      p.length = length_of(j);
      measure(p, statistics[row * parts + j]);
    });
    auto* summaries = reinterpret_cast<RowSummary*>(statistics + count * parts);
    for (int64_t r = 0; r < count; ++r)
      summaries[r] = summary(arguments.op, statistics + r * parts, parts, arguments.length, arguments.epsilon,
                             [&](int64_t i) { return length_of(i); });
    each_part(c, [&](int64_t row, int64_t j, int64_t) {
      const RowSummary& s = summaries[row];
      const int64_t first = row * arguments.length, at = begin(j);
      if (!s.held) {
        if (j == 0) do_whole(c, whole, x, row);
        return;
      }
      kernels::RowPart p = whole;
      p.in = x + first + at;
      p.out = out + first + at;
      p.length = length_of(j);
      p.shift = s.shift;
      p.factor = static_cast<float>(softens(p.op) ? s.factor * std::exp(statistics[row * parts + j].centre - s.largest) : s.factor);
      if (p.op == RowOp::group_norm) {
        p.first = at;
        p.channel = row * (arguments.length / arguments.pixels) % arguments.channels;
      } else if (has_scale) {
        p.scale += at;
        if (has_bias) p.bias += at;
      }
      finish(p);
      if (after) after->run(c, row, p.length, p.out, true, at);
    });
  }
  void do_whole(const StepContext& c, const kernels::RowPart& p, const float* x, int64_t row) const {
    kernels::RowArguments a = arguments;
    a.in = x, a.out = pointer<float>(c, output);
    a.scale = p.scale, a.bias = p.bias;
    a.begin = row, a.end = row + 1;
    rows(a);
    if (after) after->run(c, row, a.length, a.out + row * a.length, true);
  }
};

class RowPartsFamily : public StepFamily {
 public:
  std::string_view name() const override { return "rows.parts"; }
  std::span<const Numbers> numbers() const override { return kF32; }

  std::unique_ptr<Match> match(const GraphView& view, const Group& group, const Machine&) const override {
    auto m = match_rows(view, group);
    if (!m) return nullptr;
    const auto fits = [](const std::optional<RowForm>& f) { return f && f->count * f->width <= kFewColumns && most_parts(*f) > 1; };
    return fits(m->natural) || fits(m->last) ? std::move(m) : nullptr;
  }
  LayoutDemand layouts(const Match& m) const override { return rows_layouts(static_cast<const RowsMatch&>(m)); }

  void candidates(const Match& match, const Problem& p, RecipeSpace& space) const override {
    const RowForm& f = static_cast<const RowsMatch&>(match).form(p);
    const int64_t parts = std::min({std::max<int64_t>(2, f.length * f.width / kPart), kMostParts, most_parts(f)});
    space.knob("parts", parts, 1, most_parts(f), 1, true);
    const int64_t pieces = f.count * parts, some = std::min(pieces, p.machine.threads * int64_t{4});
    space.knob("tasks", p.machine.threads > 1 && worth_sharing(p.machine.rates, match.work) ? some : 1, 1, f.count * most_parts(f));
  }
  std::string fault(const Match& match, const Problem& p, const Recipe& r) const override {
    const int64_t pieces = static_cast<const RowsMatch&>(match).form(p).count * r.at("parts");
    return r.at("tasks") > pieces ? "fewer parts than tasks" : "";
  }
  // The same work; better shared out where the rows are few, and not by how many threads there are.
  double estimate(const Match& match, const Problem& p, const Recipe&) const override {
    const RowForm& f = static_cast<const RowsMatch&>(match).form(p);
    const bool few = f.width > 1 ? f.count * f.width <= kFewColumns : f.count < kFewRows;
    const bool pays = few && f.length * f.width >= kPart && most_parts(f) > 1;
    return seconds(p.machine.rates, match.work) * (pays ? 0.9 : 2);
  }

  void lower(PlanBuilder& b, const Match& match, const Problem& p, const Recipe& recipe) const override {
    const auto& m = static_cast<const RowsMatch&>(match);
    const RowForm& form = m.form(p);
    auto kernel = std::make_unique<RowPartsKernel>();
    RowPartsKernel& k = *kernel;
    Step step = begin_step(b, m);
    step.beside_others = true;
    k.measure = kernels::measure_part(p.machine.isa), k.finish = kernels::finish_part(p.machine.isa);
    k.parts = recipe.at("parts"), k.tasks = recipe.at("tasks");
    k.arguments.length = form.length;
    bind_rows(b, m, form, p.machine.isa, k.tasks * k.longest(), k, step);
    const auto rows = static_cast<size_t>(form.count), found = rows * static_cast<size_t>(k.parts);
    k.found = {b.scratch(form.width > 1         ? found * static_cast<size_t>(form.width) * sizeof(float)
                         : keeps_shape(form.op) ? found * sizeof(PartStatistics) + rows * sizeof(RowSummary)
                                                : found * sizeof(double))};
    step.scratch.push_back(k.found.buffer);
    step.text += fmt::format(" in {} parts, {} tasks{}", k.parts, k.tasks, tapes_text(k));
    step.kernel = std::move(kernel);
    b.add(std::move(step));
  }

 private:
  static int64_t most_parts(const RowForm& f) { return std::clamp<int64_t>(f.length / 64, 1, 1024); }
};

}  // namespace

const StepFamily& rows_in_parts() {
  static const RowPartsFamily family;
  return family;
}

}  // namespace lathe::lower
