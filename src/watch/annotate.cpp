// Frames with what was seen drawn on them.
#include <cairo.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <cstring>
#include <memory>

#include "base/fail.hpp"
#include "lathe/watch.hpp"
#include "watch/names.hpp"

namespace lathe {
namespace {

using watching::label_of;

// Told apart also by those who see few colours, light and dark by turns (Okabe and Ito 2008).
constexpr std::array<std::array<double, 3>, 8> kColours{{{0.90, 0.37, 0.00},
                                                         {0.00, 0.45, 0.70},
                                                         {0.00, 0.62, 0.45},
                                                         {0.80, 0.47, 0.65},
                                                         {0.94, 0.89, 0.26},
                                                         {0.34, 0.71, 0.91},
                                                         {0.90, 0.62, 0.00},
                                                         {0.10, 0.10, 0.10}}};
const std::array<double, 3>& colour_of(int64_t label) { return kColours[static_cast<size_t>(label) % kColours.size()]; }

class Canvas {
 public:
  explicit Canvas(const Tensor& pixels)
      : height_(pixels.shape()[0]),
        width_(pixels.shape()[1]),
        surface_(cairo_image_surface_create(CAIRO_FORMAT_RGB24, static_cast<int>(width_), static_cast<int>(height_)),
                 cairo_surface_destroy),
        cairo_(cairo_create(surface_.get()), cairo_destroy) {
    if (cairo_surface_status(surface_.get()) != CAIRO_STATUS_SUCCESS)
      fail(Category::resource, "a picture of {} x {} cannot be drawn on: {}", height_, width_,
           cairo_status_to_string(cairo_surface_status(surface_.get())));
    const auto from = pixels.as<uint8_t>();
    for (int64_t y = 0; y < height_; ++y) {
      auto* line = line_at(y);
      const uint8_t* p = from.data() + y * width_ * 3;
      for (int64_t x = 0; x < width_; ++x, p += 3) line[x] = static_cast<uint32_t>(p[0] << 16 | p[1] << 8 | p[2]);
    }
    cairo_surface_mark_dirty(surface_.get());
    cairo_select_font_face(c(), "DejaVu Sans", CAIRO_FONT_SLANT_NORMAL, CAIRO_FONT_WEIGHT_BOLD);
    size_ = std::clamp(static_cast<double>(std::min(height_, width_)) / 22, 9.0, 28.0);
    cairo_set_font_size(c(), size_);
  }
  cairo_t* c() const { return cairo_.get(); }
  double line_width() const { return std::clamp(static_cast<double>(std::min(height_, width_)) / 180, 1.5, 5.0); }

  // White on a colour; wholly on the picture, as far as it fits.
  void tag(double x, double y, const std::string& text, const std::array<double, 3>& colour) const {
    const double w = tag_width(text), h = tag_height();
    x = std::clamp(x, 0.0, std::max(0.0, static_cast<double>(width_) - w));
    y = std::clamp(y, 0.0, std::max(0.0, static_cast<double>(height_) - h));
    cairo_set_source_rgb(c(), colour[0], colour[1], colour[2]);
    cairo_rectangle(c(), x, y, w, h);
    cairo_fill(c());
    const double light = 0.299 * colour[0] + 0.587 * colour[1] + 0.114 * colour[2], ink = light > 0.6 ? 0 : 1;
    cairo_set_source_rgb(c(), ink, ink, ink);
    cairo_move_to(c(), x + 3, y + size_);
    cairo_show_text(c(), text.c_str());
  }
  double tag_height() const { return size_ + 5; }
  double tag_width(const std::string& text) const {
    cairo_text_extents_t e;
    cairo_text_extents(c(), text.c_str(), &e);
    return e.x_advance + 6;
  }
  Tensor pixels() const {
    cairo_surface_flush(surface_.get());
    Tensor out(DType::u8, {height_, width_, 3});
    uint8_t* p = out.as<uint8_t>().data();
    for (int64_t y = 0; y < height_; ++y) {
      const uint32_t* line = line_at(y);
      for (int64_t x = 0; x < width_; ++x, p += 3) {
        p[0] = static_cast<uint8_t>(line[x] >> 16), p[1] = static_cast<uint8_t>(line[x] >> 8), p[2] = static_cast<uint8_t>(line[x]);
      }
    }
    return out;
  }
  int64_t width() const { return width_; }
  int64_t height() const { return height_; }

 private:
  uint32_t* line_at(int64_t y) const {
    return reinterpret_cast<uint32_t*>(cairo_image_surface_get_data(surface_.get()) + y * cairo_image_surface_get_stride(surface_.get()));
  }
  int64_t height_, width_;
  std::unique_ptr<cairo_surface_t, decltype(&cairo_surface_destroy)> surface_;
  std::unique_ptr<cairo_t, decltype(&cairo_destroy)> cairo_;
  double size_ = 12;
};

// Pixels that two boxes share.
double both_of(const Box& a, const Box& b) {
  return std::max(0.0, std::min(a.x + a.width, b.x + b.width) - std::max(a.x, b.x)) *
         std::max(0.0, std::min(a.y + a.height, b.y + b.height) - std::max(a.y, b.y));
}

// Each class but the first, which is what is left over, in its colour at half strength.
Tensor under_mask(const Tensor& pixels, const Tensor& mask) {
  Tensor out = pixels.clone();
  const auto m = mask.as<int64_t>();
  const auto p = out.as<uint8_t>();
  for (size_t i = 0; i < m.size(); ++i) {
    if (m[i] <= 0) continue;
    const auto& colour = colour_of(m[i] - 1);
    for (size_t c = 0; c < 3; ++c) p[3 * i + c] = static_cast<uint8_t>(std::lrint(0.5 * p[3 * i + c] + 127.5 * colour[c]));
  }
  return out;
}

}  // namespace

Tensor annotated(const Sight& s, const std::vector<std::string>& labels, const std::string& corner) {
  if (s.frame.pixels.empty()) fail(Category::value, "frame '{}' has no pixels to draw on", s.frame.name);
  const Tensor& under = s.picture.empty() ? s.frame.pixels : s.picture;
  if (s.boxes.empty() && s.labels.empty() && s.mask.empty() && corner.empty()) return under;
  const Canvas canvas(s.mask.empty() ? under : under_mask(under, s.mask));
  cairo_t* c = canvas.c();
  // The best last, so that it lies above.
  for (auto b = s.boxes.rbegin(); b != s.boxes.rend(); ++b) {
    const auto& colour = colour_of(b->label);
    cairo_set_source_rgb(c, colour[0], colour[1], colour[2]);
    cairo_set_line_width(c, canvas.line_width());
    cairo_rectangle(c, b->x, b->y, b->width, b->height);
    cairo_stroke(c);
  }
  // The best chooses its place first; names lie where they hide no other name and as little of other boxes as can be.
  std::vector<Box> taken;
  for (const Box& b : s.boxes) {
    const std::string text = fmt::format("{} {:.2f}", label_of(b.label, labels), b.score);
    const double w = canvas.tag_width(text), h = canvas.tag_height();
    const Box places[]{{0, b.x, b.y - h, w, h},
                       {0, b.x, b.y + b.height, w, h},
                       {0, b.x + b.width - w, b.y - h, w, h},
                       {0, b.x + b.width - w, b.y + b.height, w, h},
                       {0, b.x + b.width, b.y, w, h},
                       {0, b.x - w, b.y, w, h},
                       {0, b.x, b.y, w, h}};
    const Box* best = nullptr;
    double least = INFINITY;
    for (const Box& p : places) {
      double hidden = 0;
      for (const Box& t : taken) hidden += 10 * both_of(p, t);
      for (const Box& other : s.boxes) hidden += both_of(p, other);
      // Off the picture it would be moved onto something.
      hidden += 3 * (w * h - both_of(p, {0, 0, 0, static_cast<double>(canvas.width()), static_cast<double>(canvas.height())}));
      if (hidden < least) least = hidden, best = &p;
    }
    taken.push_back(*best);
    canvas.tag(best->x, best->y, text, colour_of(b.label));
  }
  double y = 0;
  if (!s.labels.empty()) {
    canvas.tag(0, 0, fmt::format("{} {:.2f}", label_of(s.labels[0].first, labels), s.labels[0].second), colour_of(s.labels[0].first));
    y += canvas.tag_height();
  }
  if (!s.mask.empty()) {
    std::vector<int64_t> pixels;
    for (int64_t v : s.mask.as<int64_t>()) {
      if (v <= 0 || v > 65535) continue;
      if (v >= static_cast<int64_t>(pixels.size())) pixels.resize(static_cast<size_t>(v) + 1);
      ++pixels[static_cast<size_t>(v)];
    }
    for (size_t v = 1; v < pixels.size(); ++v) {
      if (pixels[v] == 0) continue;
      canvas.tag(0, y,
                 fmt::format("{} {:.1f} %", label_of(static_cast<int64_t>(v), labels),
                             100.0 * static_cast<double>(pixels[v]) / static_cast<double>(s.mask.size())),
                 colour_of(static_cast<int64_t>(v) - 1));
      y += canvas.tag_height();
    }
  }
  if (!corner.empty()) canvas.tag(static_cast<double>(canvas.width()), 0, corner, {0.15, 0.15, 0.15});
  return canvas.pixels();
}

}  // namespace lathe
