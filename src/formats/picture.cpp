// Pictures: PNG and JPEG to pixels, and pixels to them.
#include <cstdio>  // jpeglib.h needs FILE

#include <jpeglib.h>
#include <png.h>

#include <csetjmp>
#include <cstdlib>
#include <cstring>
#include <fstream>

#include "base/fail.hpp"
#include "base/files.hpp"
#include "lathe/formats.hpp"
#include "ops/vision.hpp"

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
  // Numbers of 16 bits are taken as they stand, like those of 8, not for light that is to be made brighter.
  image.flags |= PNG_IMAGE_FLAG_16BIT_sRGB;
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

void catch_errors(JpegErrors& errors) {
  jpeg_std_error(&errors.base);
  errors.base.error_exit = [](j_common_ptr info) {
    auto* e = reinterpret_cast<JpegErrors*>(info->err);
    (*info->err->format_message)(info, e->message);
    std::longjmp(e->jump, 1);
  };
  errors.base.output_message = [](j_common_ptr info) {
    auto* e = reinterpret_cast<JpegErrors*>(info->err);
    (*info->err->format_message)(info, e->message);
  };
}

// EXIF's number for how the camera was held, 1 to 8; 1 when nothing says, or nothing sensible.
int orientation_of(const jpeg_decompress_struct& d) {
  for (const jpeg_marker_struct* m = d.marker_list; m; m = m->next) {
    if (m->marker != JPEG_APP0 + 1 || m->data_length < 14 || std::memcmp(m->data, "Exif\0\0", 6) != 0) continue;
    const unsigned char* t = m->data + 6;
    const size_t size = m->data_length - 6;
    const bool little = t[0] == 'I';
    if (t[0] != t[1] || (t[0] != 'I' && t[0] != 'M')) return 1;
    const auto two = [&](size_t at) { return little ? t[at] | t[at + 1] << 8 : t[at] << 8 | t[at + 1]; };
    const auto four = [&](size_t at) {
      const auto a = static_cast<size_t>(two(at)), b = static_cast<size_t>(two(at + 2));
      return little ? a | b << 16 : a << 16 | b;
    };
    const size_t first = four(4);
    if (first + 2 > size) return 1;
    const auto entries = static_cast<size_t>(two(first));
    for (size_t i = 0; i < entries && first + 2 + 12 * (i + 1) <= size; ++i) {
      const size_t at = first + 2 + 12 * i;
      constexpr int kOrientation = 0x112;
      if (two(at) == kOrientation) return two(at + 8) >= 1 && two(at + 8) <= 8 ? two(at + 8) : 1;
    }
  }
  return 1;
}

// Plain C in here: libjpeg reports errors by longjmp, over no object with a destructor.
bool decode_jpeg(jpeg_decompress_struct& d, JpegErrors& errors, const std::string& bytes, std::vector<unsigned char>& pixels, int& turned) {
  if (setjmp(errors.jump)) return false;
  jpeg_create_decompress(&d);
  jpeg_mem_src(&d, reinterpret_cast<const unsigned char*>(bytes.data()), bytes.size());
  jpeg_save_markers(&d, JPEG_APP0 + 1, 0xFFFF);
  jpeg_read_header(&d, TRUE);
  turned = orientation_of(d);
  const bool ink = d.jpeg_color_space == JCS_CMYK || d.jpeg_color_space == JCS_YCCK;
  d.out_color_space = ink ? JCS_CMYK : JCS_RGB;
  if (int64_t{d.image_width} * d.image_height > kMaxPixels) {
    std::snprintf(errors.message, sizeof errors.message, "%u x %u pixels are more than the %d million allowed", d.image_width,
                  d.image_height, static_cast<int>(kMaxPixels / 1000000));
    return false;
  }
  jpeg_start_decompress(&d);
  pixels.resize(size_t{d.output_width} * d.output_height * (ink ? 4 : 3));
  while (d.output_scanline < d.output_height) {
    JSAMPROW row = pixels.data() + size_t{d.output_scanline} * d.output_width * (ink ? 4 : 3);
    jpeg_read_scanlines(&d, &row, 1);
  }
  jpeg_finish_decompress(&d);
  return errors.base.num_warnings == 0;
}

// Ink to light. Some programs write ink turned round, and say so by a marker.
std::vector<unsigned char> light_of(const std::vector<unsigned char>& ink, bool turned_round) {
  std::vector<unsigned char> out(ink.size() / 4 * 3);
  for (size_t i = 0; i < ink.size() / 4; ++i) {
    const int key = turned_round ? ink[4 * i + 3] : 255 - ink[4 * i + 3];
    for (size_t c = 0; c < 3; ++c) {
      const int own = turned_round ? ink[4 * i + c] : 255 - ink[4 * i + c];
      out[3 * i + c] = static_cast<unsigned char>((own * key + 127) / 255);
    }
  }
  return out;
}

// Undoes an EXIF orientation.
Tensor upright(const Tensor& pixels, int turned) {
  if (turned == 1) return pixels;
  const int64_t h = pixels.shape()[0], w = pixels.shape()[1];
  const bool lies = turned >= 5;  // height and width change places
  Tensor out(DType::u8, {lies ? w : h, lies ? h : w, 3});
  const auto from = pixels.as<uint8_t>();
  const auto to = out.as<uint8_t>();
  const int64_t oh = out.shape()[0], ow = out.shape()[1];
  for (int64_t y = 0; y < oh; ++y) {
    for (int64_t x = 0; x < ow; ++x) {
      int64_t sy = lies ? x : y, sx = lies ? y : x;
      if (turned == 2 || turned == 3 || turned == 7 || turned == 8) sx = w - 1 - sx;
      if (turned == 3 || turned == 4 || turned == 6 || turned == 7) sy = h - 1 - sy;
      std::memcpy(&to[static_cast<size_t>((y * ow + x) * 3)], &from[static_cast<size_t>((sy * w + sx) * 3)], 3);
    }
  }
  return out;
}

Tensor read_jpeg(const std::string& bytes, const std::string& where) {
  jpeg_decompress_struct d{};
  JpegErrors errors{};
  catch_errors(errors);
  d.err = &errors.base;
  std::vector<unsigned char> pixels;
  int turned = 1;
  const bool good = decode_jpeg(d, errors, bytes, pixels, turned);
  const int64_t height = d.output_height, width = d.output_width;
  const bool ink = d.out_color_space == JCS_CMYK, adobe = d.saw_Adobe_marker != FALSE;
  const bool large = int64_t{d.image_width} * d.image_height > kMaxPixels;
  jpeg_destroy_decompress(&d);
  if (!good && large) fail(Category::resource, "{}: {}", where, errors.message);
  if (!good) fail(Category::format, "{}: not a readable JPEG: {}", where, errors.message);
  return upright(Tensor::from<uint8_t>({height, width, 3}, ink ? light_of(pixels, adobe) : pixels), turned);
}

void check_pixels(const Tensor& pixels) {
  if (pixels.dtype() != DType::u8 || pixels.rank() != 3 || pixels.shape()[2] != 3 || pixels.size() == 0)
    fail(Category::shape, "pixels are {} {}, expected u8, height x width x 3", to_string(pixels.dtype()), to_string(pixels.shape()));
}

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

std::pair<int64_t, int64_t> picture_size(const std::filesystem::path& path) {
  // A PNG begins with its signature and a chunk of which width and height come first.
  unsigned char head[24] = {};
  std::ifstream in(path, std::ios::binary);
  in.read(reinterpret_cast<char*>(head), sizeof head);
  if (in.gcount() == sizeof head && std::memcmp(head, "\x89PNG\r\n\x1a\n", 8) == 0 && std::memcmp(head + 12, "IHDR", 4) == 0) {
    const auto four = [&](size_t at) {
      return int64_t{head[at]} << 24 | int64_t{head[at + 1]} << 16 | int64_t{head[at + 2]} << 8 | int64_t{head[at + 3]};
    };
    const int64_t height = four(20), width = four(16);
    // What read_picture will refuse is no size to plan for.
    if (height > 0 && width > 0 && height <= kMaxPixels / width) return {height, width};
  }
  const Tensor pixels = read_picture(path);
  return {pixels.shape()[0], pixels.shape()[1]};
}

std::string encode_png(const Tensor& pixels) {
  check_pixels(pixels);
  png_image image{};
  image.version = PNG_IMAGE_VERSION;
  image.format = PNG_FORMAT_RGB;
  image.height = static_cast<png_uint_32>(pixels.shape()[0]), image.width = static_cast<png_uint_32>(pixels.shape()[1]);
  image.flags = PNG_IMAGE_FLAG_FAST;
  png_alloc_size_t size = PNG_IMAGE_PNG_SIZE_MAX(image);
  std::string bytes(size, '\0');
  if (!png_image_write_to_memory(&image, bytes.data(), &size, 0, pixels.data(), 0, nullptr))
    fail(Category::resource, "the picture could not be written as PNG: {}", image.message);
  bytes.resize(size);
  return bytes;
}

namespace {

struct Compressed {
  unsigned char* data = nullptr;
  unsigned long size = 0;
};
bool compress_jpeg(jpeg_compress_struct& c, JpegErrors& errors, const uint8_t* pixels, int64_t height, int64_t width, Compressed& out) {
  if (setjmp(errors.jump)) return false;
  jpeg_create_compress(&c);
  jpeg_mem_dest(&c, &out.data, &out.size);
  c.image_width = static_cast<JDIMENSION>(width), c.image_height = static_cast<JDIMENSION>(height);
  c.input_components = 3, c.in_color_space = JCS_RGB;
  jpeg_set_defaults(&c);
  constexpr int kQuality = 92;
  jpeg_set_quality(&c, kQuality, TRUE);
  jpeg_start_compress(&c, TRUE);
  while (c.next_scanline < c.image_height) {
    JSAMPROW row = const_cast<JSAMPROW>(pixels + size_t{c.next_scanline} * static_cast<size_t>(width) * 3);
    jpeg_write_scanlines(&c, &row, 1);
  }
  jpeg_finish_compress(&c);
  return true;
}

}  // namespace

void write_picture(const std::filesystem::path& path, const Tensor& pixels) {
  const std::string ending = path.extension().string();
  if (ending == ".png") {
    write_file(path, encode_png(pixels));
    return;
  }
  if (ending != ".jpg" && ending != ".jpeg") fail(Category::value, "{}: pictures are written as .png, .jpg or .jpeg", path.string());
  check_pixels(pixels);
  jpeg_compress_struct c{};
  JpegErrors errors{};
  catch_errors(errors);
  c.err = &errors.base;
  Compressed out;
  const bool good = compress_jpeg(c, errors, pixels.as<uint8_t>().data(), pixels.shape()[0], pixels.shape()[1], out);
  jpeg_destroy_compress(&c);
  const std::string bytes(reinterpret_cast<const char*>(out.data), out.data ? out.size : 0);
  std::free(out.data);
  if (!good) fail(Category::value, "{}: cannot be written as JPEG: {}", path.string(), errors.message);
  write_file(path, bytes);
}

}  // namespace lathe
