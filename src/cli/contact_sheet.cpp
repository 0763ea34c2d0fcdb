#include "contact_sheet.hpp"

#include <cairo.h>

#include <algorithm>
#include <cmath>
#include <memory>

#include "base/files.hpp"

namespace lathe::cli {
namespace {

constexpr int kColumns = 5, kCell = 232, kPicture = 200, kMargin = 16, kTitle = 44, kCaption = 48;

struct Surface {
  explicit Surface(cairo_surface_t* s) : it(s) {}
  ~Surface() { cairo_surface_destroy(it); }
  Surface(const Surface&) = delete;
  Surface& operator=(const Surface&) = delete;
  cairo_surface_t* it;
};

// The text, cut with dots where it would be wider.
std::string cut_to(cairo_t* c, std::string text, double width) {
  cairo_text_extents_t e;
  cairo_text_extents(c, text.c_str(), &e);
  if (e.x_advance <= width) return text;
  while (!text.empty()) {
    text.pop_back();
    while (!text.empty() && (static_cast<unsigned char>(text.back()) & 0xC0) == 0x80) text.pop_back();
    cairo_text_extents(c, (text + "..").c_str(), &e);
    if (e.x_advance <= width) break;
  }
  return text + "..";
}

void say(cairo_t* c, double x, double y, const std::string& text, double width, double grey) {
  cairo_set_source_rgb(c, grey, grey, grey);
  cairo_move_to(c, x, y);
  cairo_show_text(c, cut_to(c, text, width).c_str());
}

void outline(cairo_t* c, const Box& b, double x, double y, double scale, bool expected) {
  if (expected) cairo_set_source_rgb(c, 0.16, 0.62, 0.35);
  else cairo_set_source_rgb(c, 0.85, 0.25, 0.15);
  const double dashes[]{6, 4};
  cairo_set_dash(c, dashes, expected ? 0 : 2, 0);
  cairo_set_line_width(c, 2);
  cairo_rectangle(c, x + b.x * scale, y + b.y * scale, b.width * scale, b.height * scale);
  cairo_stroke(c);
  cairo_set_dash(c, dashes, 0, 0);
}

void draw_item(cairo_t* c, const SheetItem& item, double x, double y) {
  try {
    const Tensor pixels = item.pixels.empty() ? read_picture(item.file) : item.pixels;
    const int64_t height = pixels.shape()[0], width = pixels.shape()[1];
    const Surface s(cairo_image_surface_create(CAIRO_FORMAT_RGB24, static_cast<int>(width), static_cast<int>(height)));
    auto* to = cairo_image_surface_get_data(s.it);
    if (!to) throw Error(Category::resource, "too large to draw");
    const int stride = cairo_image_surface_get_stride(s.it);
    const auto from = pixels.as<uint8_t>();
    for (int64_t row = 0; row < height; ++row) {
      auto* line = reinterpret_cast<uint32_t*>(to + row * stride);
      for (int64_t col = 0; col < width; ++col) {
        const uint8_t* p = from.data() + (row * width + col) * 3;
        line[col] = static_cast<uint32_t>(p[0] << 16 | p[1] << 8 | p[2]);
      }
    }
    cairo_surface_mark_dirty(s.it);
    const double scale = kPicture / static_cast<double>(std::max(height, width)),
                 left = x + (kPicture - static_cast<double>(width) * scale) / 2,
                 top = y + (kPicture - static_cast<double>(height) * scale) / 2;
    cairo_save(c);
    cairo_translate(c, left, top);
    cairo_scale(c, scale, scale);
    cairo_set_source_surface(c, s.it, 0, 0);
    // Small pictures keep their pixels.
    cairo_pattern_set_filter(cairo_get_source(c), scale > 1 ? CAIRO_FILTER_NEAREST : CAIRO_FILTER_GOOD);
    cairo_paint(c);
    cairo_restore(c);
    for (const Box& b : item.expected) outline(c, b, left, top, scale, true);
    for (const Box& b : item.found) outline(c, b, left, top, scale, false);
  } catch (const Error& e) {
    cairo_set_source_rgb(c, 0.8, 0.8, 0.8);
    cairo_rectangle(c, x + 0.5, y + 0.5, kPicture - 1, kPicture - 1);
    cairo_stroke(c);
    say(c, x + 8, y + 100, e.what(), kPicture - 16, 0.4);
  }
  say(c, x, y + kPicture + 18, item.name, kPicture, 0.1);
  say(c, x, y + kPicture + 36, item.caption, kPicture, 0.4);
}

}  // namespace

void check_sheet_name(const std::string& target) {
  if (!target.ends_with(".png")) throw UsageError(fmt::format("--sheet {}: expected a name ending in .png", target));
}

void draw_contact_sheet(const std::string& target, const std::string& title, const std::vector<SheetItem>& items) {
  const int count = static_cast<int>(items.size()), rows = std::max(1, (count + kColumns - 1) / kColumns),
            columns = std::clamp(count, 3, kColumns);
  const Surface s(cairo_image_surface_create(CAIRO_FORMAT_RGB24, 2 * kMargin + columns * kCell - (kCell - kPicture),
                                             kTitle + rows * (kPicture + kCaption + kMargin) + kMargin));
  const std::unique_ptr<cairo_t, decltype(&cairo_destroy)> c(cairo_create(s.it), cairo_destroy);
  cairo_set_source_rgb(c.get(), 1, 1, 1);
  cairo_paint(c.get());
  cairo_select_font_face(c.get(), "DejaVu Sans", CAIRO_FONT_SLANT_NORMAL, CAIRO_FONT_WEIGHT_NORMAL);
  cairo_set_font_size(c.get(), 15);
  say(c.get(), kMargin, 28, title, columns * kCell - 2.0 * kMargin, 0.1);
  cairo_set_font_size(c.get(), 12.5);
  for (int i = 0; i < count; ++i)
    draw_item(c.get(), items[static_cast<size_t>(i)], kMargin + i % kColumns * kCell,
              kTitle + i / kColumns * (kPicture + kCaption + kMargin));
  std::string bytes;
  cairo_surface_write_to_png_stream(
      s.it,
      [](void* into, const unsigned char* data, unsigned length) {
        static_cast<std::string*>(into)->append(reinterpret_cast<const char*>(data), length);
        return CAIRO_STATUS_SUCCESS;
      },
      &bytes);
  write_file(target, bytes);
}

}  // namespace lathe::cli
