// Boxes that a model's outputs hold, in pixels of its input.
#include <algorithm>
#include <cmath>

#include "detect/floats.hpp"
#include "detect/shapes.hpp"
#include "kernels/suppression.hpp"
#include "tensor/widen.hpp"

namespace lathe {
namespace {

using detecting::Floats;
using detecting::Grid;
using detecting::grid_of;
using detecting::place_of;
using Form = DetectForm::Kind;

double sigmoid(double v) { return 1 / (1 + std::exp(-v)); }

struct Frame {
  double height, width;  // of the model's input
};

Box box_of(const DetectForm& f, double a, double b, double c, double d, const Frame& in) {
  if (f.y_first.value_or(false)) std::swap(a, b), std::swap(c, d);
  if (*f.relative) a *= in.width, b *= in.height, c *= in.width, d *= in.height;
  switch (*f.box) {
    case BoxForm::centre: return {0, a - c / 2, b - d / 2, c, d, 0};
    case BoxForm::corner: return {0, a, b, c, d, 0};
    default: return {0, a, b, c - a, d - b, 0};
  }
}

// The best class of some scores that lie `step` apart, and its score. A background never wins, but takes its part in a softmax.
struct Best {
  int64_t label = -1;
  double score = -INFINITY;
};
Best best_of(const float* s, int64_t count, int64_t step, const DetectForm& f) {
  Best best;
  const int64_t background = f.background.value_or(-1);
  for (int64_t k = 0; k < count; ++k) {
    const double v = s[k * step];
    if (k != background && v > best.score) best = {k, v};
  }
  if (best.label < 0) return best;
  if (*f.scores == ScoreForm::sigmoid) best.score = sigmoid(best.score);
  if (*f.scores == ScoreForm::softmax) {
    double most = best.score, sum = 0;
    for (int64_t k = 0; k < count; ++k) most = std::max(most, static_cast<double>(s[k * step]));
    for (int64_t k = 0; k < count; ++k) sum += std::exp(s[k * step] - most);
    best.score = std::exp(best.score - most) / sum;
  }
  // Classes are counted without the background before them.
  if (background >= 0 && best.label > background) --best.label;
  return best;
}

// A score before the sigmoid that gives `least` after it: most rows are passed over by one comparison.
double raw_limit(ScoreForm form, double least) {
  if (form == ScoreForm::as_is) return least;
  if (form == ScoreForm::softmax || least <= 0) return -INFINITY;
  return least >= 1 ? INFINITY : std::log(least / (1 - least)) - 1e-6;
}

void from_rows(std::vector<Box>& out, const Answers& o, const DetectForm& f, int64_t item, const Frame& in, double least) {
  const Tensor& t = o.tensors[place_of(o, f.outputs[0])];
  Grid g = grid_of(t.shape(), 0, f.turned);
  if (g.rows == 0 || g.columns < 5 || item >= g.items)
    fail(Category::shape, "'{}' is {}: no rows of boxes for item {}", f.outputs[0], to_string(t.shape()), item);
  const Floats all(t);
  const float* x = all.data() + item * g.item_step;
  const int64_t first = *f.objectness ? 5 : 4, classes = g.columns - first;
  // One number decides about most rows: the objectness, or a class's score.
  std::vector<char> worth(static_cast<size_t>(g.rows), 0);
  const double limit = raw_limit(*f.scores, least);
  if (g.column_step != 1 || *f.objectness || limit == -INFINITY) {
    std::vector<int32_t> places(static_cast<size_t>(g.rows));
    const auto above = kernels::find_above(kernels::best());
    // Objectness times a score is at most the objectness.
    const int64_t columns = *f.objectness || classes == 0 ? 1 : classes;
    for (int64_t k = 0; k < columns && limit > -INFINITY; ++k) {
      const float* column = x + (4 + k) * g.column_step;
      if (g.row_step == 1) {
        const int64_t n = above(column, g.rows, std::nextafter(static_cast<float>(limit), -INFINITY), places.data());
        for (int64_t i = 0; i < n; ++i) worth[static_cast<size_t>(places[static_cast<size_t>(i)])] = 1;
      } else {
        for (int64_t i = 0; i < g.rows; ++i) worth[static_cast<size_t>(i)] |= column[i * g.row_step] >= limit;
      }
    }
    if (limit == -INFINITY) std::ranges::fill(worth, char{1});
  } else {
    std::ranges::fill(worth, char{1});
  }
  for (int64_t i = 0; i < g.rows; ++i) {
    if (!worth[static_cast<size_t>(i)]) continue;
    const float* r = x + i * g.row_step;
    const int64_t s = g.column_step;
    Best best = classes > 0 ? best_of(r + first * s, classes, s, f) : Best{0, 1};
    if (*f.objectness) best.score *= *f.scores == ScoreForm::as_is ? r[4 * s] : sigmoid(r[4 * s]);
    if (best.label < 0 || !(best.score >= least)) continue;
    Box b = box_of(f, r[0], r[s], r[2 * s], r[3 * s], in);
    b.label = best.label, b.score = best.score;
    out.push_back(b);
  }
}

// Boxes [n, boxes, 4] and where scores of them stand.
struct Tables {
  Grid boxes, scores;
  int64_t classes = 0;
};
Tables tables_of(const Answers& o, const DetectForm& f, int64_t item) {
  const Tensor &b = o.tensors[place_of(o, f.outputs[0])], &s = o.tensors[place_of(o, f.outputs[1])];
  Tables t;
  t.boxes = grid_of(b.shape(), 4);
  Shape shape = s.shape();
  if (shape.size() == 2 && b.rank() != 2) shape.push_back(1);
  if (shape.size() == 2) shape.insert(shape.begin(), 1);
  const bool fits = t.boxes.rows > 0 && shape.size() == 3 && (shape[1] == t.boxes.rows || shape[2] == t.boxes.rows) && item < t.boxes.items;
  if (!fits)
    fail(Category::shape, "'{}' is {} and '{}' is {}: no boxes with scores for item {}", f.outputs[0], to_string(b.shape()), f.outputs[1],
         to_string(s.shape()), item);
  t.scores.item_step = shape[1] * shape[2];
  // Of [n, k, k] the boxes come first, as in [n, boxes, classes]; what NonMaxSuppression takes is the other way round.
  const bool classes_first = shape[1] != t.boxes.rows || (f.kind == Form::picked && shape[2] == t.boxes.rows);
  if (!classes_first) t.classes = shape[2], t.scores.row_step = shape[2], t.scores.column_step = 1;
  else t.classes = shape[1], t.scores.row_step = 1, t.scores.column_step = shape[2];
  return t;
}

void from_tables(std::vector<Box>& out, const Answers& o, const DetectForm& f, int64_t item, const Frame& in, double least) {
  const Tables t = tables_of(o, f, item);
  const Floats boxes(o.tensors[place_of(o, f.outputs[0])]), scores(o.tensors[place_of(o, f.outputs[1])]);
  const float *b = boxes.data() + item * t.boxes.item_step, *s = scores.data() + item * t.scores.item_step;
  const auto take = [&](int64_t i) {
    const Best best = best_of(s + i * t.scores.row_step, t.classes, t.scores.column_step, f);
    if (best.label < 0 || !(best.score >= least)) return;
    const float* r = b + i * t.boxes.row_step;
    const int64_t step = t.boxes.column_step;
    Box box = box_of(f, r[0], r[step], r[2 * step], r[3 * step], in);
    box.label = best.label, box.score = best.score;
    out.push_back(box);
  };
  const double limit = raw_limit(*f.scores, least);
  if (limit == -INFINITY) {
    for (int64_t i = 0; i < t.boxes.rows; ++i) take(i);
    return;
  }
  // Most boxes have no score that counts: their places are found first, a piece at a time.
  constexpr int64_t kPiece = 4096;
  const int64_t all = t.boxes.rows * t.classes;
  std::vector<int32_t> places(static_cast<size_t>(std::min(kPiece, all)));
  std::vector<char> worth(static_cast<size_t>(t.boxes.rows), 0);
  const auto above = kernels::find_above(kernels::best());
  const float least_raw = std::nextafter(static_cast<float>(limit), -INFINITY);
  for (int64_t begin = 0; begin < all; begin += kPiece) {
    const int64_t n = above(s + begin, std::min(kPiece, all - begin), least_raw, places.data());
    for (int64_t i = 0; i < n; ++i) {
      const int64_t p = begin + places[static_cast<size_t>(i)];
      worth[static_cast<size_t>(t.scores.column_step == 1 ? p / t.classes : p % t.boxes.rows)] = 1;
    }
  }
  for (int64_t i = 0; i < t.boxes.rows; ++i) {
    if (worth[static_cast<size_t>(i)]) take(i);
  }
}

void from_cells(std::vector<Box>& out, const Answers& o, const DetectForm& f, int64_t item, const Frame& in, double least) {
  std::vector<size_t> maps;
  for (const std::string& name : f.outputs) maps.push_back(place_of(o, name));
  const int64_t before = *f.objectness ? 5 : 4;
  const auto pixels = [&](size_t i) { return o.tensors[i].rank() == 4 ? o.tensors[i].size() : 0; };
  std::ranges::stable_sort(maps, std::greater<>(), pixels);
  const auto anchors = static_cast<int64_t>(f.box == BoxForm::offsets ? f.anchors.size() / 2 / maps.size() : 1);
  for (size_t m = 0; m < maps.size(); ++m) {
    const Tensor& t = o.tensors[maps[m]];
    const Shape& s = t.shape();
    const auto wrong = [&] {
      fail(Category::shape, "'{}' is {}: no map of cells with {} anchors of at least {} numbers for item {} of a picture of {} x {}",
           o.names[maps[m]], to_string(s), anchors, before + 1, item, in.height, in.width);
    };
    if (s.size() != 4 || item >= s[0] || anchors < 1) wrong();
    // The axis of channels is that which makes cells square.
    const auto square = [&](int64_t rows, int64_t columns) {
      return rows > 0 && columns > 0 && std::abs(in.height / static_cast<double>(rows) - in.width / static_cast<double>(columns)) < 0.5;
    };
    const bool last = !square(s[2], s[3]) && square(s[1], s[2]);
    const int64_t channels = last ? s[3] : s[1], rows = last ? s[1] : s[2], columns = last ? s[2] : s[3];
    const int64_t values = channels / anchors, classes = values - before;
    if (channels % anchors != 0 || classes < (*f.objectness ? 0 : 1) || rows < 1 || columns < 1) wrong();
    const Floats all(t);
    const float* x = all.data() + item * channels * rows * columns;
    const int64_t step = last ? 1 : rows * columns, next = last ? channels : 1;
    const double cell_x = in.width / static_cast<double>(columns), cell_y = in.height / static_cast<double>(rows);
    const double limit = raw_limit(*f.scores, least);
    for (int64_t a = 0; a < anchors; ++a) {
      const float* own = x + a * values * step;
      for (int64_t i = 0; i < rows * columns; ++i) {
        const float* v = own + i * next;
        if (*f.objectness && v[4 * step] < limit) continue;
        Best best = classes > 0 ? best_of(v + before * step, classes, step, f) : Best{0, 1};
        if (*f.objectness) best.score *= *f.scores == ScoreForm::as_is ? v[4 * step] : sigmoid(v[4 * step]);
        if (best.label < 0 || !(best.score >= least)) continue;
        const auto row = static_cast<double>(i / columns), column = static_cast<double>(i % columns);
        Box b{best.label, 0, 0, 0, 0, best.score};
        double q[4]{v[0], v[step], v[2 * step], v[3 * step]};
        if (f.y_first.value_or(false)) std::swap(q[0], q[1]), std::swap(q[2], q[3]);
        if (f.box == BoxForm::offsets) {
          const double* anchor = f.anchors.data() + 2 * (static_cast<int64_t>(m) * anchors + a);
          b.width = anchor[0] * std::exp(q[2]), b.height = anchor[1] * std::exp(q[3]);
          b.x = (column + sigmoid(q[0])) * cell_x - b.width / 2, b.y = (row + sigmoid(q[1])) * cell_y - b.height / 2;
        } else {
          for (double& side : q) side = f.logarithms.value_or(false) ? std::exp(side) : side;
          b.x = (column + 0.5 - q[0]) * cell_x, b.y = (row + 0.5 - q[1]) * cell_y;
          b.width = (q[0] + q[2]) * cell_x, b.height = (q[1] + q[3]) * cell_y;
        }
        out.push_back(b);
      }
    }
  }
}

void from_chosen(std::vector<Box>& out, const Answers& o, const DetectForm& f, int64_t item, const Frame& in, double least) {
  const Tensor& first = o.tensors[place_of(o, f.outputs[0])];
  const auto add = [&](double a, double b, double c, double d, double score, double label) {
    if (!(score >= least) || !(label >= 0 && label < 1e9)) return;
    Box box = box_of(f, a, b, c, d, in);
    box.label = static_cast<int64_t>(label), box.score = score;
    if (f.background && box.label == *f.background) return;
    if (f.background && box.label > *f.background) --box.label;
    out.push_back(box);
  };
  if (f.outputs.size() == 1) {
    const Shape& s = first.shape();
    const auto columns = static_cast<size_t>(s.empty() ? 0 : s.back());
    if (columns != 6 && columns != 7)
      fail(Category::shape, "'{}' is {}: rows of chosen boxes have six or seven numbers", f.outputs[0], to_string(s));
    const auto v = widen<double>(first);
    const size_t items = columns == 6 && s.size() == 3 ? static_cast<size_t>(s[0]) : 1, each = v.size() / std::max<size_t>(1, items);
    const size_t from = columns == 7 || items <= static_cast<size_t>(item) ? 0 : static_cast<size_t>(item) * each,
                 to = columns == 7 ? v.size() : from + each;
    for (size_t i = from; i + columns <= to; i += columns) {
      const double* r = v.data() + i + (columns - 6);
      if (columns == 7 && v[i] != static_cast<double>(item)) continue;
      add(r[0], r[1], r[2], r[3], r[4], r[5]);
    }
    return;
  }
  const Tensor &score = o.tensors[place_of(o, f.outputs[1])], &label = o.tensors[place_of(o, f.outputs[2])];
  const Grid g = grid_of(first.shape(), 4);
  const auto b = widen<double>(first), s = widen<double>(score), l = widen<double>(label);
  if (g.items == 0 || item >= g.items || b.size() != 4 * s.size() || s.size() != l.size())
    fail(Category::shape, "boxes are {}, scores {}, classes {}: not one of each for item {}", to_string(first.shape()),
         to_string(score.shape()), to_string(label.shape()), item);
  int64_t count = g.rows;
  if (f.outputs.size() == 4) {
    const auto n = widen<double>(o.tensors[place_of(o, f.outputs[3])]);
    if (static_cast<size_t>(item) < n.size() && n[static_cast<size_t>(item)] >= 0)
      count = std::min(count, static_cast<int64_t>(n[static_cast<size_t>(item)]));
  }
  for (int64_t i = 0; i < count; ++i) {
    const auto at = static_cast<size_t>(item * g.rows + i);
    add(b[4 * at], b[4 * at + 1], b[4 * at + 2], b[4 * at + 3], s[at], l[at]);
  }
}

void from_picked(std::vector<Box>& out, const Answers& o, const DetectForm& f, int64_t item, const Frame& in, double least) {
  const Tables t = tables_of(o, f, item);
  const Floats boxes(o.tensors[place_of(o, f.outputs[0])]), scores(o.tensors[place_of(o, f.outputs[1])]);
  const Tensor& picks = o.tensors[place_of(o, f.outputs[2])];
  const auto v = widen<int64_t>(picks);
  const float *b = boxes.data() + item * t.boxes.item_step, *s = scores.data() + item * t.scores.item_step;
  for (size_t i = 0; i + 3 <= v.size(); i += 3) {
    const int64_t label = v[i + 1], which = v[i + 2];
    if (v[i] != item) continue;
    if (label < 0 || label >= t.classes || which < 0 || which >= t.boxes.rows)
      fail(Category::value, "'{}' picks class {} of box {}, there are {} and {}", f.outputs[2], label, which, t.classes, t.boxes.rows);
    double score = s[which * t.scores.row_step + label * t.scores.column_step];
    if (*f.scores == ScoreForm::sigmoid) score = sigmoid(score);
    if (!(score >= least) || (f.background && label == *f.background)) continue;
    const float* r = b + which * t.boxes.row_step;
    const int64_t step = t.boxes.column_step;
    Box box = box_of(f, r[0], r[step], r[2 * step], r[3 * step], in);
    box.label = f.background && label > *f.background ? label - 1 : label, box.score = score;
    out.push_back(box);
  }
}

}  // namespace

std::vector<Box> candidates(const Answers& outputs, const DetectForm& given, int64_t item, int64_t input_height, int64_t input_width,
                            double least_score) {
  if (!given.kind || given.outputs.empty())
    fail(Category::value, "the description of the outputs is not complete: complete_form completes it");
  // What no picture has shown yet, since none held anything.
  DetectForm form = given;
  form.box = form.box.value_or(BoxForm::corners);
  form.relative = form.relative.value_or(false);
  form.scores = form.scores.value_or(ScoreForm::as_is);
  form.objectness = form.objectness.value_or(false);
  const Frame in{static_cast<double>(input_height), static_cast<double>(input_width)};
  std::vector<Box> out;
  switch (*form.kind) {
    case Form::rows: from_rows(out, outputs, form, item, in, least_score); break;
    case Form::tables: from_tables(out, outputs, form, item, in, least_score); break;
    case Form::cells: from_cells(out, outputs, form, item, in, least_score); break;
    case Form::chosen: from_chosen(out, outputs, form, item, in, least_score); break;
    case Form::picked: from_picked(out, outputs, form, item, in, least_score); break;
  }
  // What is no box at all: NaN, infinite, inside out.
  std::erase_if(out, [](const Box& b) {
    return !(std::isfinite(b.x) && std::isfinite(b.y) && std::isfinite(b.width) && std::isfinite(b.height)) || b.width <= 0 ||
           b.height <= 0;
  });
  return out;
}

}  // namespace lathe
