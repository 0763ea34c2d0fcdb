#include "watch/seeing.hpp"

#include <algorithm>
#include <cmath>
#include <cstring>
#include <numeric>

#include "base/fail.hpp"
#include "detect/floats.hpp"
#include "detect/masks.hpp"
#include "tensor/widen.hpp"

namespace lathe::watching {
namespace {

// One item of a batch of any output, with a leading dim of 1.
Tensor item_of(const Tensor& t, int64_t item, int64_t items) {
  if (t.rank() == 0 || t.shape()[0] != items || items == 1) return t;
  Shape s = t.shape();
  s[0] = 1;
  Tensor out(t.dtype(), s);
  if (out.byte_size() > 0)
    std::memcpy(out.data(), static_cast<const std::byte*>(t.data()) + static_cast<size_t>(item) * out.byte_size(), out.byte_size());
  return out;
}

bool picture_like(const Shape& s, bool channels_last) { return s.size() == 4 && s[channels_last ? 3 : 1] == 3; }

uint8_t byte_of(double v) { return static_cast<uint8_t>(std::lrint(std::clamp(v, 0.0, 255.0))); }

// Two pixels of an axis of the output, and the share of the second, at a place between their middles.
struct Between {
  int64_t low, high;
  double share;
};
Between between(double at, int64_t size) {
  at = std::clamp(at, 0.0, static_cast<double>(size - 1));
  const auto low = static_cast<int64_t>(at);
  return {low, std::min(low + 1, size - 1), at - static_cast<double>(low)};
}

// Pixels [top, top + height) x [left, left + width) of the frame, of what the model made of it.
void put_picture(const Tensor& made, bool channels_last, double white, const Placement& p, int64_t input_height, int64_t input_width,
                 const Eye::Part& part, Tensor& frame) {
  const Shape& s = made.shape();
  const int64_t oh = s[channels_last ? 1 : 2], ow = s[channels_last ? 2 : 3];
  const detecting::Floats floats(made);
  const float* v = floats.data();
  const double scale = 255 / white;
  // The model may make another size than it takes: its pixels are spread over the same field.
  const double fy = static_cast<double>(oh) / static_cast<double>(input_height),
               fx = static_cast<double>(ow) / static_cast<double>(input_width);
  const int64_t width = frame.shape()[1], step = channels_last ? 3 : 1;
  std::vector<Between> columns;  // the same on every line
  for (int64_t x = part.keep_left; x < part.keep_left + part.keep_width; ++x)
    columns.push_back(between(((static_cast<double>(x - part.left) + 0.5) * p.scale_x + p.left) * fx - 0.5, ow));
  for (int64_t y = part.keep_top; y < part.keep_top + part.keep_height; ++y) {
    const Between r = between(((static_cast<double>(y - part.top) + 0.5) * p.scale_y + p.top) * fy - 0.5, oh);
    uint8_t* to = frame.as<uint8_t>().data() + (y * width + part.keep_left) * 3;
    for (const Between& k : columns) {
      for (int64_t c = 0; c < 3; ++c) {
        const float* plane = channels_last ? v + c : v + c * oh * ow;
        const auto at = [&](int64_t row, int64_t column) { return static_cast<double>(plane[(row * ow + column) * step]); };
        double value = at(r.low, k.low);
        // At the model's own size, which is the usual case, every place is the middle of a pixel.
        if (r.share != 0 || k.share != 0) {
          const double top = value + (at(r.low, k.high) - value) * k.share,
                       bottom = at(r.high, k.low) + (at(r.high, k.high) - at(r.high, k.low)) * k.share;
          value = top + (bottom - top) * r.share;
        }
        *to++ = byte_of(value * scale);
      }
    }
  }
}

}  // namespace

Eye::Eye(const Program& program, const WatchOptions& options) : program_(program), o_(options), multiple_(options.multiple) {
  if (multiple_ < 1) fail(Category::value, "sides that {} divides: expected 1 or more", multiple_);
  if (multiple_ == 1) multiple_ = size_multiple(program.metadata());
  labels_ = options.labels.empty() ? labels_in(program.metadata()) : options.labels;
  form_ = described_form(options.form, program.metadata());
  open_ = own_size(options.pictures, program);
  channels_last_ = picture_options(options.pictures, program, Shape(4, 3)).channels_last;
}

void Eye::find(const Answers& outputs, const Way& way) {
  if (found_) {
    const DetectForm known = form();
    if (sees_ != Sees::boxes || (known.box && known.relative && known.scores)) return;
    const DetectForm more = complete_form(outputs, static_cast<int64_t>(labels_.size()), known);
    const std::lock_guard lock(mutex_);
    form_ = more;
    return;
  }
  const auto of = [&](size_t i) -> const Tensor& { return outputs.tensors[i]; };
  const bool described = form_.kind || !form_.outputs.empty();
  if (o_.sees) {
    sees_ = *o_.sees;
  } else if (described) {
    sees_ = Sees::boxes;
  } else {
    const Shape& s = of(0).shape();
    // Rows of which nobody knows how many there will be are things that were found, also when it was one.
    const auto open_first = [](const Port& p) { return p.dims && !p.dims->empty() && !(*p.dims)[0].known(); };
    const bool as_many_as_found = open_first(program_.outputs()[0]) && !open_first(program_.inputs()[0]);
    const bool map = s.size() == 4 && is_float(of(0).dtype());
    const int64_t channels = map ? s[channels_last_ ? 3 : 1] : 0;
    if (outputs.tensors.size() == 1 && map && picture_like(s, channels_last_) && labels_.size() != 3 && way.options.channels == 3)
      sees_ = Sees::pictures;
    else if (outputs.tensors.size() == 1 &&
             ((map && (channels == 1 || labels_.empty() || channels == static_cast<int64_t>(labels_.size()))) ||
              (s.size() == 3 && !is_float(of(0).dtype()))))
      sees_ = Sees::masks;
    else if (outputs.tensors.size() == 1 && !as_many_as_found && is_float(of(0).dtype()) &&
             (s.size() == 2 || (s.size() == 4 && s[2] == 1 && s[3] == 1)) && s[0] == 1 &&
             (labels_.empty() || s[1] == static_cast<int64_t>(labels_.size())))
      sees_ = Sees::labels;
    else if (holds_boxes(outputs)) sees_ = Sees::boxes;
    else sees_ = Sees::labels;
  }
  const Shape& s = of(0).shape();
  switch (sees_) {
    case Sees::boxes: {
      const DetectForm known = complete_form(outputs, static_cast<int64_t>(labels_.size()), form_);
      const std::lock_guard lock(mutex_);
      form_ = known;
      break;
    }
    case Sees::labels:
      if (!is_float(of(0).dtype()) || of(0).size() == 0 || s.empty() ||
          static_cast<int64_t>(of(0).size()) != s[s.size() == 1 ? 0 : 1] * (s.size() == 1 ? 1 : s[0]))
        fail(Category::shape,
             "the outputs are '{}' {} {}{}: no scores of classes [1, classes], no boxes by any reading, no mask and no picture; say what "
             "they "
             "are (docs/watch.md)",
             outputs.names[0], to_string(of(0).dtype()), to_string(s), outputs.tensors.size() > 1 ? " and more" : "");
      break;
    case Sees::masks: (void)mask_of(of(0), way.options.fit, 1, 1); break;
    case Sees::pictures:
      if (!picture_like(s, channels_last_))
        fail(Category::shape, "output '{}' is {}: no picture of three channels", outputs.names[0], to_string(s));
      break;
  }
  found_ = true;
}

void Eye::see(const Answers& outputs, int64_t item, const Way& way, Sight& sight) const {
  const int64_t height = sight.frame.pixels.shape()[0], width = sight.frame.pixels.shape()[1];
  const int64_t items = outputs.tensors[0].rank() > 0 ? std::max<int64_t>(1, outputs.tensors[0].shape()[0]) : 1;
  switch (sees_) {
    case Sees::boxes: sight.boxes = detect(outputs, form(), item, way.options.height, way.options.width, way.placement, o_.detect); return;
    case Sees::labels: {
      const auto v = widen<double>(item_of(outputs.tensors[0], item, items));
      std::vector<size_t> order(v.size());
      std::iota(order.begin(), order.end(), size_t{0});
      const size_t most = std::min<size_t>(5, v.size());
      std::ranges::partial_sort(order, order.begin() + static_cast<std::ptrdiff_t>(most),
                                [&](size_t a, size_t b) { return v[a] > v[b] || (v[a] == v[b] && a < b); });
      sight.labels.clear();
      for (size_t i = 0; i < most; ++i) sight.labels.emplace_back(static_cast<int64_t>(order[i]), v[order[i]]);
      return;
    }
    case Sees::masks: {
      sight.mask = detecting::mask_in_picture(item_of(outputs.tensors[0], item, items), way.options, height, width);
      return;
    }
    case Sees::pictures: {
      sight.picture = Tensor(DType::u8, {height, width, 3});
      put_picture(item_of(outputs.tensors[0], item, items), channels_last_, o_.white.value_or(1), way.placement, way.options.height,
                  way.options.width, {0, 0, height, width, 0, 0, height, width}, sight.picture);
      return;
    }
  }
}

void Eye::see_part(const Answers& outputs, const Way& way, const Part& part, Sight& sight) const {
  const int64_t height = sight.frame.pixels.shape()[0], width = sight.frame.pixels.shape()[1];
  if (sees_ == Sees::pictures) {
    if (sight.picture.empty()) sight.picture = Tensor(DType::u8, {height, width, 3});
    put_picture(outputs.tensors[0], channels_last_, o_.white.value_or(1), way.placement, way.options.height, way.options.width, part,
                sight.picture);
    return;
  }
  if (sees_ == Sees::masks) {
    if (sight.mask.empty()) sight.mask = Tensor(DType::i64, {height, width});
    const Tensor own = detecting::mask_in_picture(outputs.tensors[0], way.options, part.height, part.width);
    const auto from = own.as<int64_t>();
    const auto to = sight.mask.as<int64_t>();
    for (int64_t y = part.keep_top; y < part.keep_top + part.keep_height; ++y) {
      for (int64_t x = part.keep_left; x < part.keep_left + part.keep_width; ++x)
        to[static_cast<size_t>(y * width + x)] = from[static_cast<size_t>((y - part.top) * part.width + x - part.left)];
    }
    return;
  }
  // Boxes whose middle lies in what is taken of this part; those of the neighbours have the others.
  Sight own;
  own.frame.pixels = Tensor(DType::u8, {part.height, part.width, 3});
  see(outputs, 0, way, own);
  for (Box b : own.boxes) {
    b.x += static_cast<double>(part.left), b.y += static_cast<double>(part.top);
    const double mx = b.x + b.width / 2, my = b.y + b.height / 2;
    const bool here = mx >= static_cast<double>(part.keep_left) && mx < static_cast<double>(part.keep_left + part.keep_width) &&
                      my >= static_cast<double>(part.keep_top) && my < static_cast<double>(part.keep_top + part.keep_height);
    if (here) sight.boxes.push_back(b);
  }
  if (sees_ == Sees::labels)
    fail(Category::value, "classes of a whole picture are not found in parts of it: without a tile size it goes whole");
}

std::vector<Eye::Part> parts_of(int64_t height, int64_t width, int64_t tile, int64_t overlap) {
  // Along one axis: where a part begins, and what is taken of it.
  struct Piece {
    int64_t begin, keep, keep_size;
  };
  const auto pieces = [&](int64_t size) {
    std::vector<Piece> out;
    const int64_t own = std::min(tile, size);
    for (int64_t done = 0; done < size;) {
      const int64_t begin = std::clamp<int64_t>(done == 0 ? 0 : done - overlap, 0, size - own);
      const int64_t end = begin + own == size ? size : begin + own - overlap;
      out.push_back({begin, done, end - done});
      done = end;
    }
    return out;
  };
  std::vector<Eye::Part> out;
  for (const Piece& y : pieces(height)) {
    for (const Piece& x : pieces(width))
      out.push_back({y.begin, x.begin, std::min(tile, height), std::min(tile, width), y.keep, x.keep, y.keep_size, x.keep_size});
  }
  return out;
}

}  // namespace lathe::watching
