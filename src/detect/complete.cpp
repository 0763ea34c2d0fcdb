// What a description leaves open, from names, shapes and values.
#include <algorithm>
#include <cmath>
#include <set>

#include "detect/shapes.hpp"
#include "tensor/widen.hpp"

namespace lathe {
namespace {

using Form = DetectForm::Kind;
using detecting::all_of;
using detecting::grid_of;
using detecting::place_of;

bool named(const std::string& name, std::initializer_list<const char*> parts) {
  std::string low = name;
  std::ranges::transform(low, low.begin(), [](unsigned char c) { return static_cast<char>(std::tolower(c)); });
  return std::ranges::any_of(parts, [&](const char* p) { return low.find(p) != std::string::npos; });
}

bool is_whole(const Tensor& t) { return !is_float(t.dtype()) && t.dtype() != DType::string && t.dtype() != DType::boolean; }

// The last axis, with axes of 1 before it left out.
int64_t last(const Shape& s) { return s.empty() ? 0 : s.back(); }

struct Reading {
  Form kind;
  std::vector<size_t> outputs;
};

// Outputs of fours, of whole numbers that may be classes, and of scores: what every reading of several outputs begins with.
std::vector<Reading> readings(const Answers& o) {
  const size_t n = o.tensors.size();
  std::vector<Reading> out;
  std::vector<size_t> fours, triples, others, maps;
  for (size_t i = 0; i < n; ++i) {
    const Tensor& t = o.tensors[i];
    const Shape& s = t.shape();
    if (t.composite() || t.dtype() == DType::string) continue;
    if (s.size() == 2 && s[1] == 3 && t.dtype() == DType::i64) triples.push_back(i);
    else if (s.size() >= 2 && s.size() <= 4 && is_float(t.dtype()) && last(s) == 4 && (s.size() < 4 || s[2] == 1) &&
             !named(o.names[i], {"score", "class", "conf", "prob", "logit"}))
      fours.push_back(i);
    else if (s.size() == 4 && is_float(t.dtype())) maps.push_back(i);
    else others.push_back(i);
  }
  const auto scores_for = [&](size_t boxes) {
    const int64_t count = grid_of(o.tensors[boxes].shape(), 4).rows;
    std::vector<size_t> fit;
    std::vector<size_t> may = others;
    // With four classes scores look like boxes, but for their names.
    for (size_t i : fours) {
      if (i != boxes) may.push_back(i);
    }
    for (size_t i : may) {
      const Shape& s = o.tensors[i].shape();
      if (is_float(o.tensors[i].dtype()) && (s.size() == 2 || s.size() == 3) && std::ranges::find(s, count) != s.end() && last(s) != 0)
        fit.push_back(i);
    }
    return fit;
  };
  for (size_t b : fours) {
    const int64_t count = grid_of(o.tensors[b].shape(), 4).rows, items = grid_of(o.tensors[b].shape(), 4).items;
    const auto scores = scores_for(b);
    for (size_t t : triples) {
      for (size_t s : scores) out.push_back({Form::picked, {b, s, t}});
    }
    // As many numbers as boxes, twice: a score and a class for each.
    std::vector<size_t> each, counts;
    for (size_t i : others) {
      const Tensor& t = o.tensors[i];
      const int64_t size = static_cast<int64_t>(t.size());
      const int rank = o.tensors[b].rank() - (o.tensors[b].rank() == 4 ? 1 : 0);
      // Of one box a number may as well say how many there are: then its axes tell.
      const bool of_boxes = size > items || t.rank() + 1 == rank || (t.rank() == rank && last(t.shape()) == 1);
      if (size == count * items && of_boxes && t.rank() <= 3) each.push_back(i);
      else if (size == items) counts.push_back(i);
    }
    if (each.size() == 2 && triples.empty()) {
      const auto is_class = [&](size_t i) { return is_whole(o.tensors[i]) || named(o.names[i], {"class", "label"}); };
      if (is_class(each[0]) != is_class(each[1])) {
        if (is_class(each[0])) std::swap(each[0], each[1]);
        std::vector<size_t> roles{b, each[0], each[1]};
        if (counts.size() == 1) roles.push_back(counts[0]);
        out.push_back({Form::chosen, roles});
        continue;
      }
    }
    if (triples.empty()) {
      for (size_t s : scores) out.push_back({Form::tables, {b, s}});
    }
  }
  if (!out.empty()) return out;
  if (n == 1 && !others.empty()) {
    const Shape& s = o.tensors[0].shape();
    const bool table = (s.size() == 2 && s[1] >= 5) || (s.size() == 3 && std::max(s[1], s[2]) >= 5);
    // A table of one row of an item is what classifiers give.
    if (is_float(o.tensors[0].dtype()) && table) {
      const int64_t columns = s.back();
      if (columns == 6 || columns == 7) out.push_back({Form::chosen, {0}});
      if (s.size() == 3) out.push_back({Form::rows, {0}});
    }
  } else if (maps.size() == n && n >= 2) {
    // Maps of several scales: the same channels on halved sides.
    std::set<int64_t> second, fourth, sizes;
    for (size_t i : maps) {
      const Shape& s = o.tensors[i].shape();
      second.insert(s[1]), fourth.insert(s[3]), sizes.insert(s[2] * 100003 + (second.size() == 1 ? s[3] : s[1]));
    }
    if ((second.size() == 1 || fourth.size() == 1) && sizes.size() == n) out.push_back({Form::cells, maps});
  }
  return out;
}

std::vector<Reading> given_readings(const Answers& o, const DetectForm& given) {
  if (!given.outputs.empty()) {
    std::vector<size_t> places;
    for (const std::string& name : given.outputs) places.push_back(place_of(o, name));
    if (given.kind) return {{*given.kind, places}};
    Answers some;
    for (size_t p : places) some.names.push_back(o.names[p]), some.tensors.push_back(o.tensors[p]);
    auto out = readings(some);
    for (Reading& r : out) {
      for (size_t& p : r.outputs) p = places[p];
    }
    return out;
  }
  auto out = readings(o);
  if (given.kind) {
    std::erase_if(out, [&](const Reading& r) { return r.kind != *given.kind; });
    std::vector<size_t> every(o.tensors.size());
    for (size_t i = 0; i < every.size(); ++i) every[i] = i;
    const bool whole = *given.kind == Form::cells || ((*given.kind == Form::rows || *given.kind == Form::chosen) && every.size() == 1);
    if (out.empty() && whole) out.push_back({*given.kind, every});
  }
  return out;
}

size_t expected_outputs(Form kind, size_t count) {
  switch (kind) {
    case Form::rows: return 1;
    case Form::tables: return 2;
    case Form::cells: return std::max<size_t>(1, count);
    case Form::chosen: return count == 1 || count == 4 ? count : 3;
    case Form::picked: return 3;
  }
  return 0;
}

// Of rows: whether a number stands before the scores, from how many classes there are.
void complete_rows(DetectForm& f, int64_t columns, int64_t classes, const std::string& there) {
  if (f.objectness) return;
  const int64_t scores = columns - 4;
  if (classes > 0) {
    if (scores == classes || scores == classes + (f.background ? 1 : 0)) f.objectness = false;
    else if (scores == classes + 1) f.objectness = true;
    else
      fail(Category::shape, "the outputs are {}: a row of {} numbers holds 4 of a box and {} scores, but there are {} labels", there,
           columns, scores, classes);
    return;
  }
  if (scores == 1) {
    f.objectness = false;
    return;
  }
  fail(Category::value,
       "the outputs are {}: with {} numbers a box, either all after the first four are scores of classes, or one says whether there is "
       "anything; say which by labels, or by 'objectness' of detect (true or false)",
       there, columns);
}

[[noreturn]] void fail_no_reading(const std::string& there) {
  fail(Category::shape,
       "the outputs are {}: no reading makes boxes of them; 'form' and 'outputs' of detect say which output is what (docs/pictures.md)",
       there);
}

struct Values {
  double most = 0;      // the largest coordinate
  double in_order = 0;  // share of rows whose third is above the first, and fourth above the second
  double least_score = 0, most_score = 0;
};

Values values_of(const Tensor& boxes, const detecting::Grid& b, const Tensor& scores, int64_t first, int64_t count, int64_t row_step,
                 int64_t column_step, int64_t score_rows) {
  Values v;
  const auto x = widen<double>(boxes);
  int64_t ordered = 0;
  for (int64_t i = 0; i < b.rows; ++i) {
    const double* r = x.data() + i * b.row_step;
    for (int k = 0; k < 4; ++k) v.most = std::max(v.most, std::abs(r[k * b.column_step]));
    ordered += r[2 * b.column_step] >= r[0] && r[3 * b.column_step] >= r[b.column_step];
  }
  v.in_order = b.rows > 0 ? static_cast<double>(ordered) / static_cast<double>(b.rows) : 1;
  const auto s = &scores == &boxes ? x : widen<double>(scores);
  for (int64_t i = 0; i < score_rows; ++i) {
    for (int64_t k = 0; k < count; ++k) {
      const double one = s[static_cast<size_t>(i * row_step + (first + k) * column_step)];
      v.least_score = std::min(v.least_score, one);
      v.most_score = std::max(v.most_score, one);
    }
  }
  return v;
}

void complete_values(DetectForm& f, const Values& v) {
  // No boxes, or rows of zeros that fill up: the next picture may show what this one does not.
  if (v.most == 0) return;
  // Coordinates of pixels pass a few units, those of 1 hardly do.
  if (!f.relative) f.relative = v.most <= 2;
  // Of widths and heights many are smaller than the middle that stands before them.
  if (!f.box) f.box = v.in_order > 0.999 ? BoxForm::corners : BoxForm::centre;
  if (!f.scores) f.scores = v.least_score < 0 || v.most_score > 1 ? ScoreForm::sigmoid : ScoreForm::as_is;
}

}  // namespace

bool holds_boxes(const Answers& outputs) { return !readings(outputs).empty(); }

DetectForm complete_form(const Answers& o, int64_t classes, const DetectForm& given) {
  const std::string there = all_of(o);
  auto fit = given_readings(o, given);
  if (fit.empty()) fail_no_reading(there);
  if (!given.kind && fit[0].kind == Form::chosen && fit[0].outputs.size() == 1) {
    // Six or seven numbers a row: with whole numbers last (and first of seven) they are a box, a score and a class.
    const Tensor& t = o.tensors[fit[0].outputs[0]];
    const auto columns = static_cast<size_t>(last(t.shape()));
    const auto v = widen<double>(t);
    const auto is_class = [](double x) { return x >= 0 && x == std::floor(x); };
    bool whole = true;
    for (size_t i = 0; i + columns <= v.size(); i += columns)
      whole = whole && is_class(v[i + columns - 1]) && (columns == 6 || is_class(v[i]));
    if (whole) fit.resize(1);
    else fit.erase(fit.begin());
    if (fit.empty()) fail_no_reading(there);
  }
  if (fit.size() > 1) {
    std::string ways;
    for (const Reading& r : fit) {
      ways += ways.empty() ? "" : "; or ";
      ways += to_string(r.kind);
      for (size_t i = 0; i < r.outputs.size(); ++i) ways += fmt::format("{}'{}'", i ? ", " : " of ", o.names[r.outputs[i]]);
    }
    fail(Category::value, "the outputs are {}: boxes can be read from them as {}; 'form' and 'outputs' of detect say which", there, ways);
  }
  DetectForm f = given;
  f.kind = fit[0].kind;
  f.outputs.clear();
  for (size_t p : fit[0].outputs) f.outputs.push_back(o.names[p]);
  if (f.outputs.size() != expected_outputs(*f.kind, f.outputs.size()))
    fail(Category::value, "detect: form '{}' is made of {} outputs, {} are named", to_string(*f.kind),
         expected_outputs(*f.kind, f.outputs.size()), f.outputs.size());
  const Tensor& first = o.tensors[fit[0].outputs[0]];
  if (f.kind == Form::cells) {
    if (!f.box) f.box = f.anchors.empty() ? BoxForm::distances : BoxForm::offsets;
    if (f.box != BoxForm::distances && f.box != BoxForm::offsets)
      fail(Category::value, "detect: boxes of cells are 'distances' or 'offsets'");
    if (f.box == BoxForm::offsets && f.anchors.empty())
      fail(Category::value, "detect: boxes by 'offsets' need 'anchors': a width and height in pixels for each");
    if (!f.relative) f.relative = false;
    if (!f.scores) f.scores = ScoreForm::sigmoid;
    if (!f.objectness) {
      if (classes == 0)
        fail(Category::value, "detect: cells without labels: 'objectness' says whether a number stands before the scores (true or false)");
      const Shape& s = first.shape();
      bool with = false, without = false;
      for (size_t axis : {size_t{1}, size_t{3}}) {
        with = with || (s.size() == 4 && s[axis] % (5 + classes) == 0);
        without = without || (s.size() == 4 && s[axis] % (4 + classes) == 0);
      }
      if (with == without && with) with = s[1] % (4 + classes) != 0;
      f.objectness = with;
    }
    return f;
  }
  if (f.kind == Form::chosen && f.outputs.size() == 1) {
    const int64_t columns = last(first.shape());
    if (columns != 6 && columns != 7)
      fail(Category::shape,
           "the outputs are {}: rows of chosen boxes have six numbers (box, score, class) or seven (item, box, score, class)", there);
    const Tensor boxes = [&] {
      const auto v = widen<double>(first);
      std::vector<double> four;
      const auto at = static_cast<size_t>(columns - 6);
      for (size_t i = 0; i + static_cast<size_t>(columns) <= v.size(); i += static_cast<size_t>(columns))
        four.insert(four.end(), v.begin() + static_cast<long>(i + at), v.begin() + static_cast<long>(i + at + 4));
      return Tensor::from<double>({static_cast<int64_t>(four.size() / 4), 4}, four);
    }();
    const detecting::Grid b = grid_of(boxes.shape(), 4);
    Values v = values_of(boxes, b, boxes, 0, 0, 4, 1, 0);
    complete_values(f, v);
    f.objectness = false;
    return f;
  }
  const int64_t wanted = f.kind == Form::rows ? 0 : 4;
  int64_t columns = wanted;
  if (f.kind == Form::rows && classes > 0) {
    // The axis that has as many numbers as a row must.
    for (int64_t more : {int64_t{4}, int64_t{5}}) {
      const Shape& s = first.shape();
      if (last(s) == classes + more || (s.size() >= 2 && s[s.size() - 2] == classes + more)) columns = classes + more;
      if (columns > 0) break;
    }
  }
  const detecting::Grid b = grid_of(first.shape(), columns, f.kind == Form::rows ? f.turned : std::nullopt);
  if (f.kind == Form::rows) f.turned = b.row_step == 1 && b.columns > 1;
  if (b.columns < 4) fail(Category::shape, "the outputs are {}: '{}' holds no rows of boxes", there, f.outputs[0]);
  if (f.kind == Form::rows) {
    complete_rows(f, b.columns, classes, there);
    complete_values(f, values_of(first, b, first, 4, b.columns - 4, b.row_step, b.column_step, b.rows));
    return f;
  }
  f.objectness = f.objectness.value_or(false);
  const Tensor& scores = o.tensors[fit[0].outputs[1]];
  const auto count = static_cast<int64_t>(scores.size());
  complete_values(f, values_of(first, b, scores, 0, count, 0, 1, 1));
  return f;
}

}  // namespace lathe
