// Pictures: PNG and JPEG to pixels, pixels to input tensors.
#include <cstdio>  // jpeglib.h needs FILE

#include <jpeglib.h>
#include <png.h>

#include <algorithm>
#include <cmath>
#include <csetjmp>
#include <cstring>

#include "base/fail.hpp"
#include "base/files.hpp"
#include "lathe/formats.hpp"
#include "ops/vision.hpp"
#include "tensor/widen.hpp"

namespace lathe {
namespace {

// A picture larger than this is a mistake or an attack, not an input.
constexpr int64_t kMaxPixels = int64_t{1} << 28;

Tensor read_png(const std::string& bytes, const std::string& where) {
  png_image image{};
  image.version = PNG_IMAGE_VERSION;
  if (!png_image_begin_read_from_memory(&image, bytes.data(), bytes.size()))
    fail(Category::format, "{}: not a readable PNG: {}", where, image.message);
  image.format = PNG_FORMAT_RGB;
  if (int64_t{image.width} * image.height > kMaxPixels) {
    png_image_free(&image);
    fail(Category::resource, "{}: {} x {} pixels are more than the {} million allowed", where, image.width, image.height, kMaxPixels >> 20);
  }
  Tensor out(DType::u8, {image.height, image.width, 3});
  const png_color black{0, 0, 0};
  if (!png_image_finish_read(&image, &black, out.data(), 0, nullptr)) {
    const std::string message = image.message;
    png_image_free(&image);
    fail(Category::format, "{}: not a readable PNG: {}", where, message);
  }
  return out;
}

struct JpegErrors {
  jpeg_error_mgr base;
  std::jmp_buf jump;
  char message[JMSG_LENGTH_MAX];
};

// Plain C in here: libjpeg reports errors by longjmp, over no object with a destructor.
bool decode_jpeg(jpeg_decompress_struct& d, JpegErrors& errors, const std::string& bytes, std::vector<unsigned char>& pixels) {
  if (setjmp(errors.jump)) return false;
  jpeg_create_decompress(&d);
  jpeg_mem_src(&d, reinterpret_cast<const unsigned char*>(bytes.data()), bytes.size());
  jpeg_read_header(&d, TRUE);
  d.out_color_space = JCS_RGB;
  if (int64_t{d.image_width} * d.image_height > kMaxPixels) {
    std::snprintf(errors.message, sizeof errors.message, "too many pixels");
    return false;
  }
  jpeg_start_decompress(&d);
  pixels.resize(size_t{d.output_width} * d.output_height * 3);
  while (d.output_scanline < d.output_height) {
    JSAMPROW row = pixels.data() + size_t{d.output_scanline} * d.output_width * 3;
    jpeg_read_scanlines(&d, &row, 1);
  }
  jpeg_finish_decompress(&d);
  return errors.base.num_warnings == 0;
}

Tensor read_jpeg(const std::string& bytes, const std::string& where) {
  jpeg_decompress_struct d{};
  JpegErrors errors{};
  d.err = jpeg_std_error(&errors.base);
  errors.base.error_exit = [](j_common_ptr info) {
    auto* e = reinterpret_cast<JpegErrors*>(info->err);
    (*info->err->format_message)(info, e->message);
    std::longjmp(e->jump, 1);
  };
  errors.base.output_message = [](j_common_ptr info) {
    auto* e = reinterpret_cast<JpegErrors*>(info->err);
    (*info->err->format_message)(info, e->message);
  };
  std::vector<unsigned char> pixels;
  const bool good = decode_jpeg(d, errors, bytes, pixels);
  const int64_t height = d.output_height, width = d.output_width;
  jpeg_destroy_decompress(&d);
  if (!good) fail(Category::format, "{}: not a readable JPEG: {}", where, errors.message);
  return Tensor::from<uint8_t>({height, width, 3}, pixels);
}

// Where each output pixel of one axis reads: two source pixels and the weight of the second.
struct Tap {
  int64_t low, high;
  float weight;
};

// Of output pixels [first, first + count) of `to`, over source pixels [begin, begin + length) of `from`; outside of them low is -1.
std::vector<Tap> bilinear_taps(int64_t from, double begin, double length, int64_t to, int64_t first, int64_t count) {
  std::vector<Tap> taps(static_cast<size_t>(to), {-1, -1, 0});
  for (int64_t i = 0; i < count; ++i) {
    const double at =
        std::clamp(begin + (static_cast<double>(i) + 0.5) * length / static_cast<double>(count) - 0.5, 0.0, static_cast<double>(from - 1));
    const auto low = static_cast<int64_t>(at);
    taps[static_cast<size_t>(first + i)] = {low, std::min(low + 1, from - 1), static_cast<float>(at - static_cast<double>(low))};
  }
  return taps;
}

// The taps of both axes: which part of the source goes to which part of the result.
std::pair<std::vector<Tap>, std::vector<Tap>> fitted_taps(Fit fit, int64_t h, int64_t w, int64_t oh, int64_t ow) {
  const double fh = static_cast<double>(h), fw = static_cast<double>(w), down = static_cast<double>(oh) / fh,
               across = static_cast<double>(ow) / fw;
  if (fit == Fit::pad) {
    const double scale = std::min(down, across);
    const auto kept = [&](double from, int64_t to) { return std::clamp<int64_t>(std::llround(from * scale), 1, to); };
    const int64_t ih = kept(fh, oh), iw = kept(fw, ow);
    return {bilinear_taps(h, 0, fh, oh, (oh - ih) / 2, ih), bilinear_taps(w, 0, fw, ow, (ow - iw) / 2, iw)};
  }
  if (fit == Fit::crop) {
    const double scale = std::max(down, across), lh = static_cast<double>(oh) / scale, lw = static_cast<double>(ow) / scale;
    return {bilinear_taps(h, (fh - lh) / 2, lh, oh, 0, oh), bilinear_taps(w, (fw - lw) / 2, lw, ow, 0, ow)};
  }
  return {bilinear_taps(h, 0, fh, oh, 0, oh), bilinear_taps(w, 0, fw, ow, 0, ow)};
}

// Source lines brought to the result's width, channel by channel; the last two are kept, for the next line of the result reads them again.
class Lines {
 public:
  Lines(std::span<const uint8_t> source, int64_t width, const std::vector<Tap>& taps, int64_t channels, bool bgr)
      : source_(source), width_(width), taps_(taps), channels_(channels), bgr_(bgr) {
    for (const Tap& t : taps) blended_ = blended_ || t.weight != 0;
  }
  std::pair<const float*, const float*> both(int64_t low, int64_t high) {
    const float* a = line(low, high);
    return {a, high == low ? a : line(high, low)};
  }

 private:
  // `kept`: the line that must stay.
  const float* line(int64_t y, int64_t kept) {
    for (Held& held : held_) {
      if (held.y == y) return held.values.data();
    }
    Held& held = held_[held_[0].y == kept ? 1 : 0];
    held.y = y;
    held.values.resize(taps_.size() * static_cast<size_t>(channels_));
    const uint8_t* from = source_.data() + y * width_ * 3;
    if (channels_ == 3) {
      for (int64_t c = 0; c < 3; ++c) fill(held, c, [from, at = bgr_ ? 2 - c : c](int64_t x) -> float { return from[x * 3 + at]; });
    } else {
      fill(held, 0, [from](int64_t x) { return 0.299f * from[x * 3] + 0.587f * from[x * 3 + 1] + 0.114f * from[x * 3 + 2]; });
    }
    return held.values.data();
  }
  struct Held {
    int64_t y = -1;
    std::vector<float> values;
  };
  template <typename F>
  void fill(Held& held, int64_t c, F pixel) const {
    float* to = held.values.data() + static_cast<size_t>(c) * taps_.size();
    for (size_t x = 0; x < taps_.size(); ++x) {
      const Tap& t = taps_[x];
      if (t.low < 0) {
        to[x] = 0;
        continue;
      }
      const float left = pixel(t.low);
      to[x] = blended_ ? left + (pixel(t.high) - left) * t.weight : left;
    }
  }

  std::span<const uint8_t> source_;
  int64_t width_;
  const std::vector<Tap>& taps_;
  int64_t channels_;
  bool bgr_, blended_ = false;
  Held held_[2];
};

}  // namespace

namespace {

Tensor decode_picture(const std::string& bytes, const std::string& where) {
  if (bytes.starts_with("\x89PNG")) return read_png(bytes, where);
  if (bytes.starts_with("\xFF\xD8")) return read_jpeg(bytes, where);
  fail(Category::format, "{}: not a picture this tool reads (PNG and JPEG are)", where);
}

// The op that decodes pictures lives in a room below; it gets its reader from here as soon as the library is loaded.
[[maybe_unused]] const bool decoder_set = [] {
  ops::set_picture_decoder([](std::string_view bytes) { return decode_picture(std::string(bytes), "the encoded stream"); });
  return true;
}();

}  // namespace

Tensor read_picture(const std::filesystem::path& path) { return decode_picture(read_file(path), path.string()); }

Tensor picture_to_tensor(const Tensor& pixels, const PictureOptions& o) {
  const auto src = pixels.as<uint8_t>();
  if (pixels.rank() != 3 || pixels.shape()[2] != 3)
    fail(Category::shape, "pixels have shape {}, expected height x width x 3", to_string(pixels.shape()));
  if (o.channels != 1 && o.channels != 3) fail(Category::value, "a picture gives 1 or 3 channels, the input wants {}", o.channels);
  const auto channel = [&](const std::vector<float>& v, int64_t c, const char* what) {
    if (v.size() != 1 && v.size() != static_cast<size_t>(o.channels)) {
      fail(Category::value, "{} has {} values, expected 1 or {} (one a channel)", what, v.size(), o.channels);
    }
    return v.size() == 1 ? v[0] : v[c];
  };
  const int64_t h = pixels.shape()[0], w = pixels.shape()[1], oh = o.height ? o.height : h, ow = o.width ? o.width : w;
  if (h == 0 || w == 0) fail(Category::shape, "the picture is empty");
  const auto [ys, xs] = fitted_taps(o.fit, h, w, oh, ow);
  if (o.dtype != DType::u8 && !is_float(o.dtype)) fail(Category::type, "pictures become floats or u8, not {}", to_string(o.dtype));
  const Shape shape = o.channels_last ? Shape{1, oh, ow, o.channels} : Shape{1, o.channels, oh, ow};
  Tensor out(DType::f32, shape);
  auto dst = out.as<float>();
  Lines lines(src, w, xs, o.channels, o.bgr);
  for (int64_t y = 0; y < oh; ++y) {
    const Tap& ty = ys[static_cast<size_t>(y)];
    const auto [low, high] = ty.low < 0 ? std::pair<const float*, const float*>() : lines.both(ty.low, ty.high);
    for (int64_t c = 0; c < o.channels; ++c) {
      const float mean = channel(o.mean, c, "mean"), scale = channel(o.scale, c, "scale");
      const int64_t step = o.channels_last ? o.channels : 1;
      float* to = dst.data() + (o.channels_last ? y * ow * o.channels + c : (c * oh + y) * ow);
      if (ty.low < 0) {
        for (int64_t x = 0; x < ow; ++x) to[x * step] = 0;
        continue;
      }
      const float *top = low + c * ow, *bottom = high + c * ow;
      for (int64_t x = 0; x < ow; ++x) to[x * step] = (top[x] + (bottom[x] - top[x]) * ty.weight - mean) * scale;
      for (int64_t x = 0; x < ow; ++x) {
        if (xs[static_cast<size_t>(x)].low < 0) to[x * step] = 0;  // beside the picture
      }
    }
  }
  if (o.dtype == DType::f32) return out;
  if (o.dtype != DType::u8) return narrow<double>(o.dtype, shape, widen<double>(out));
  Tensor bytes(DType::u8, shape);
  std::ranges::transform(dst, bytes.as<uint8_t>().begin(),
                         [](float v) { return static_cast<uint8_t>(std::lrint(std::clamp(v, 0.0f, 255.0f))); });
  return bytes;
}

}  // namespace lathe
