// Pictures in and out: what files hold, upright; fitted and normalised as the definition says.
#include <cstdio>  // jpeglib.h needs FILE

#include <jpeglib.h>
#include <png.h>

#include <algorithm>
#include <cmath>

#include "kernels/pixels.hpp"
#include "lathe/pictures.hpp"
#include "support.hpp"
#include "tensor/widen.hpp"

using namespace test;

namespace {

Tensor random_pixels(int64_t h, int64_t w, uint64_t seed) {
  Tensor t(DType::u8, {h, w, 3});
  std::mt19937_64 random(seed);
  for (uint8_t& v : t.as<uint8_t>()) v = static_cast<uint8_t>(random());
  return t;
}

// One output pixel as docs/pictures.md defines it, in double; nothing where it lies beside the picture.
std::optional<double> defined(const Tensor& pixels, const PictureOptions& o, int64_t oh, int64_t ow, int64_t y, int64_t x, int64_t c) {
  const int64_t h = pixels.shape()[0], w = pixels.shape()[1];
  const Placement p = placement(o.fit, h, w, oh, ow);
  const double sy = (static_cast<double>(y) + 0.5 - p.top) / p.scale_y, sx = (static_cast<double>(x) + 0.5 - p.left) / p.scale_x;
  if (o.fit != Fit::crop && (sy < 0 || sx < 0 || sy > static_cast<double>(h) || sx > static_cast<double>(w))) return std::nullopt;
  const auto at = [&](double s, int64_t size) { return std::clamp(s - 0.5, 0.0, static_cast<double>(size - 1)); };
  const double fy = at(sy, h), fx = at(sx, w);
  const auto y0 = static_cast<int64_t>(fy), x0 = static_cast<int64_t>(fx);
  const int64_t y1 = std::min(y0 + 1, h - 1), x1 = std::min(x0 + 1, w - 1);
  const auto v = [&](int64_t r, int64_t k, int64_t ch) {
    return static_cast<double>(pixels.as<uint8_t>()[static_cast<size_t>((r * w + k) * 3 + ch)]);
  };
  const auto value = [&](int64_t ch) {
    const double ty = fy - static_cast<double>(y0), tx = fx - static_cast<double>(x0);
    const double a = v(y0, x0, ch) + (v(y0, x1, ch) - v(y0, x0, ch)) * tx, b = v(y1, x0, ch) + (v(y1, x1, ch) - v(y1, x0, ch)) * tx;
    return a + (b - a) * ty;
  };
  const double raw = o.channels == 1 ? 0.299 * value(0) + 0.587 * value(1) + 0.114 * value(2) : value(o.bgr ? 2 - c : c);
  const auto one = [&](const std::vector<float>& list) { return static_cast<double>(list[list.size() == 1 ? 0 : static_cast<size_t>(c)]); };
  return (raw - one(o.mean)) * one(o.scale);
}

// A JPEG with EXIF that says how the camera was held.
std::string turned(const std::string& jpeg, int orientation, bool little) {
  std::string tiff = little ? std::string("II\x2A\0\x08\0\0\0\x01\0\x12\x01\x03\0\x01\0\0\0", 18)
                            : std::string("MM\0\x2A\0\0\0\x08\0\x01\x01\x12\0\x03\0\0\0\x01", 18);
  tiff += little ? std::string{static_cast<char>(orientation), 0, 0, 0} : std::string{0, static_cast<char>(orientation), 0, 0};
  tiff += std::string(4, '\0');
  const std::string body = std::string("Exif\0\0", 6) + tiff;
  const size_t size = body.size() + 2;
  return jpeg.substr(0, 2) + "\xFF\xE1" + static_cast<char>(size >> 8) + static_cast<char>(size & 255) + body + jpeg.substr(2);
}

// Rows of a PNG of any colour type.
void write_png_as(const fs::path& path, int64_t h, int64_t w, int depth, int type, const std::vector<std::vector<uint8_t>>& rows) {
  FILE* f = std::fopen(path.c_str(), "wb");
  png_structp png = png_create_write_struct(PNG_LIBPNG_VER_STRING, nullptr, nullptr, nullptr);
  png_infop info = png_create_info_struct(png);
  png_init_io(png, f);
  png_set_IHDR(png, info, static_cast<png_uint_32>(w), static_cast<png_uint_32>(h), depth, type, PNG_INTERLACE_NONE,
               PNG_COMPRESSION_TYPE_DEFAULT, PNG_FILTER_TYPE_DEFAULT);
  const png_color colours[]{{10, 20, 30}, {200, 100, 50}};
  if (type == PNG_COLOR_TYPE_PALETTE) png_set_PLTE(png, info, colours, 2);
  png_write_info(png, info);
  for (const auto& row : rows) png_write_row(png, row.data());
  png_write_end(png, info);
  png_destroy_write_struct(&png, &info);
  std::fclose(f);
}

}  // namespace

TEST_CASE("pictures become tensors as the definition says: every fit, layout, type and channel order") {
  std::mt19937_64 random(2);
  for (int round = 0; round < 120; ++round) {
    CAPTURE(round);
    const auto side = [&] { return 1 + static_cast<int64_t>(random() % 70); };
    const Tensor pixels = random_pixels(side(), side(), random());
    PictureOptions o;
    o.height = side(), o.width = side();
    if (round % 5 == 0) o.height = o.width = 0;
    o.fit = static_cast<Fit>(random() % 4);
    o.channels = random() % 4 == 0 ? 1 : 3;
    o.bgr = random() % 2;
    o.channels_last = random() % 2;
    o.dtype = std::vector{DType::f32, DType::f32, DType::f16, DType::bf16, DType::f64, DType::u8}[random() % 6];
    if (o.dtype != DType::u8) o.mean = o.channels == 3 ? std::vector{100.f, 110.f, 120.f} : std::vector{100.f}, o.scale = {0.02f};
    const Tensor t = picture_to_tensor(pixels, o);
    const int64_t oh = o.height ? o.height : pixels.shape()[0], ow = o.width ? o.width : pixels.shape()[1];
    REQUIRE(t.shape() == (o.channels_last ? Shape{1, oh, ow, o.channels} : Shape{1, o.channels, oh, ow}));
    const auto v = widen<double>(t);
    const double near = o.dtype == DType::u8 ? 0.502 : o.dtype == DType::f16 ? 4e-3 : o.dtype == DType::bf16 ? 0.02 : 1e-4;
    for (int64_t c = 0; c < o.channels; ++c) {
      for (int64_t y = 0; y < oh; ++y) {
        for (int64_t x = 0; x < ow; ++x) {
          const double got = v[static_cast<size_t>(o.channels_last ? (y * ow + x) * o.channels + c : (c * oh + y) * ow + x)];
          const auto want = defined(pixels, o, oh, ow, y, x, c);
          if (std::abs(got - want.value_or(0)) > near) {
            CAPTURE(y);
            CAPTURE(x);
            CAPTURE(c);
            REQUIRE(got == doctest::Approx(want.value_or(0)));
          }
        }
      }
    }
  }
}

TEST_CASE("a picture that keeps its size is moved by whole pixels and never resampled") {
  const Tensor pixels = random_pixels(13, 21, 4);
  PictureOptions o;
  o.height = 16, o.width = 24, o.fit = Fit::keep;
  const Tensor t = picture_to_tensor(pixels, o);
  const Placement p = placement(Fit::keep, 13, 21, 16, 24);
  CHECK(p.scale_x == 1);
  for (int64_t y = 0; y < 13; ++y) {
    for (int64_t x = 0; x < 21; ++x)
      REQUIRE(t.as<float>()[static_cast<size_t>((y + static_cast<int64_t>(p.top)) * 24 + x + static_cast<int64_t>(p.left))] ==
              static_cast<float>(pixels.as<uint8_t>()[static_cast<size_t>((y * 21 + x) * 3)]));
  }
}

TEST_CASE("smaller pictures with antialias are means of what they cover") {
  // Stripes of one pixel, black and white, are grey from afar; without it they beat.
  Tensor pixels(DType::u8, {64, 64, 3});
  for (int64_t i = 0; i < 64 * 64 * 3; ++i) pixels.as<uint8_t>()[static_cast<size_t>(i)] = i / 3 % 2 ? 255 : 0;
  PictureOptions o;
  o.height = o.width = 20;
  const auto worst = [&](bool antialias) {
    o.antialias = antialias;
    double most = 0;
    const Tensor t = picture_to_tensor(pixels, o);
    for (float v : t.as<float>()) most = std::max(most, std::abs(v - 127.5));
    return most;
  };
  CHECK(worst(true) < 25);
  CHECK(worst(false) > 60);
  // What is flat stays so, and the mean of a picture is kept.
  const Tensor noise = random_pixels(90, 70, 6);
  o.antialias = true;
  o.height = 30, o.width = 35;
  double sum = 0, all = 0;
  const Tensor small = picture_to_tensor(noise, o);
  for (float v : small.as<float>()) sum += v;
  for (uint8_t v : noise.as<uint8_t>()) all += v;
  CHECK(sum / (3 * 30 * 35) == doctest::Approx(all / (3 * 90 * 70)).epsilon(0.01));
  std::memset(pixels.data(), 77, pixels.byte_size());
  const Tensor flat = picture_to_tensor(pixels, o);
  for (float v : flat.as<float>()) REQUIRE(v == 77);
}

TEST_CASE("the kernel of resampling: each instruction set gives the same bits, at lengths around its vectors") {
  using namespace lathe::kernels;
  std::mt19937_64 random(8);
  for (int64_t count : {1, 3, 4, 7, 8, 15, 16, 17, 40}) {
    for (bool moved : {false, true}) {
      const int64_t w = 60;
      const Tensor a = random_pixels(1, w, random()), b = random_pixels(1, w, random());
      // Eight bytes from the last pixel on may be read.
      Tensor top(DType::u8, {3 * w + 5}), bottom(DType::u8, {3 * w + 5});
      std::memset(top.data(), 0, top.byte_size());
      std::memset(bottom.data(), 0, bottom.byte_size());
      std::memcpy(top.data(), a.data(), a.byte_size());
      std::memcpy(bottom.data(), b.data(), b.byte_size());
      const Fenced ft(top, true), fb(bottom, true);
      std::vector<int32_t> left;
      std::vector<float> across;
      for (int64_t i = 0; i < count; ++i) {
        const auto x = static_cast<int32_t>(moved ? static_cast<int64_t>(random() % static_cast<uint64_t>(w)) : i + w - count);
        left.push_back(3 * x);
        across.push_back(moved && x + 1 < w ? static_cast<float>(random() % 100) / 100 : 0);
      }
      const float mean[]{1, 2, 3}, scale[]{0.5f, 0.25f, 2};
      for (float down : {0.0f, 0.3f}) {
        std::vector<float> first;
        for (Isa isa : available()) {
          std::vector<float> out(static_cast<size_t>(3 * count));
          float* rows[]{out.data(), out.data() + count, out.data() + 2 * count};
          resample_pixels(isa)(
              {ft.tensor.as<uint8_t>().data(), fb.tensor.as<uint8_t>().data(), left.data(), across.data(), down, count, moved}, mean, scale,
              rows);
          if (first.empty()) first = out;
          CHECK(out == first);
        }
      }
    }
  }
}

TEST_CASE("pictures are written and read back; a JPEG comes upright, however the camera was held") {
  const Folder f;
  const Tensor pixels = random_pixels(19, 31, 9);
  write_picture(f.path / "a.png", pixels);
  const Tensor back = read_picture(f.path / "a.png");
  CHECK(back.shape() == pixels.shape());
  CHECK(std::memcmp(back.data(), pixels.data(), pixels.byte_size()) == 0);
  CHECK(picture_size(f.path / "a.png") == std::pair<int64_t, int64_t>(19, 31));
  CHECK_THROWS_WITH_AS(write_picture(f.path / "a.gif", pixels), doctest::Contains(".png, .jpg or .jpeg"), Error);
  CHECK_THROWS_WITH_AS(write_picture(f.path / "a.png", Tensor(DType::f32, {2, 2, 3})), doctest::Contains("expected u8"), Error);
  // Four flat quarters survive the compression: their colours tell the corners apart.
  Tensor quarters(DType::u8, {32, 48, 3});
  const uint8_t colours[4][3]{{250, 20, 20}, {20, 250, 20}, {20, 20, 250}, {240, 240, 240}};
  for (int64_t y = 0; y < 32; ++y) {
    for (int64_t x = 0; x < 48; ++x) std::memcpy(quarters.as<uint8_t>().data() + (y * 48 + x) * 3, colours[(y >= 16) * 2 + (x >= 24)], 3);
  }
  write_picture(f.path / "q.jpg", quarters);
  const std::string jpeg = slurp(f.path / "q.jpg");
  // Which quarter is seen at the top left, top right, bottom left, bottom right.
  const int seen[8][4]{{0, 1, 2, 3}, {1, 0, 3, 2}, {3, 2, 1, 0}, {2, 3, 0, 1}, {0, 2, 1, 3}, {2, 0, 3, 1}, {3, 1, 2, 0}, {1, 3, 0, 2}};
  for (int o = 1; o <= 8; ++o) {
    for (bool little : {true, false}) {
      CAPTURE(o);
      write(f.path / "t.jpg", turned(jpeg, o, little));
      const Tensor t = read_picture(f.path / "t.jpg");
      const int64_t h = t.shape()[0], w = t.shape()[1];
      CHECK(h == (o >= 5 ? 48 : 32));
      CHECK(picture_size(f.path / "t.jpg") == std::pair<int64_t, int64_t>(h, w));
      for (int q = 0; q < 4; ++q) {
        const int64_t y = q / 2 ? h * 3 / 4 : h / 4, x = q % 2 ? w * 3 / 4 : w / 4;
        for (int c = 0; c < 3; ++c)
          CHECK(std::abs(t.as<uint8_t>()[static_cast<size_t>((y * w + x) * 3 + c)] - colours[seen[o - 1][q]][c]) < 12);
      }
    }
  }
  // EXIF that is cut short or says nonsense changes nothing.
  for (int o : {0, 9, 255}) {
    write(f.path / "t.jpg", turned(jpeg, o, true));
    CHECK(read_picture(f.path / "t.jpg").shape() == quarters.shape());
  }
}

TEST_CASE("pictures of other kinds become RGB: 16 bits, palettes, grey, transparent, of ink") {
  const Folder f;
  const auto first = [&](const char* name) {
    const Tensor t = read_picture(f.path / name);
    return std::vector<int>{t.as<uint8_t>()[0], t.as<uint8_t>()[1], t.as<uint8_t>()[2]};
  };
  write_png_as(f.path / "16.png", 1, 1, 16, PNG_COLOR_TYPE_RGB, {{200, 200, 100, 100, 50, 50}});
  CHECK(first("16.png") == std::vector{200, 100, 50});
  write_png_as(f.path / "palette.png", 1, 2, 1, PNG_COLOR_TYPE_PALETTE, {{0x80}});
  CHECK(first("palette.png") == std::vector{200, 100, 50});
  write_png_as(f.path / "grey.png", 1, 1, 8, PNG_COLOR_TYPE_GRAY, {{77}});
  CHECK(first("grey.png") == std::vector{77, 77, 77});
  write_png_as(f.path / "alpha.png", 1, 1, 8, PNG_COLOR_TYPE_RGBA, {{200, 100, 50, 0}});
  CHECK(first("alpha.png") == std::vector{0, 0, 0});
  {
    // Ink as programs write it by default: without a marker, 0 is no ink.
    FILE* file = std::fopen((f.path / "ink.jpg").c_str(), "wb");
    jpeg_compress_struct c{};
    jpeg_error_mgr e{};
    c.err = jpeg_std_error(&e);
    jpeg_create_compress(&c);
    jpeg_stdio_dest(&c, file);
    c.image_width = c.image_height = 16, c.input_components = 4, c.in_color_space = JCS_CMYK;
    jpeg_set_defaults(&c);
    c.write_Adobe_marker = FALSE;
    jpeg_set_quality(&c, 95, TRUE);
    jpeg_start_compress(&c, TRUE);
    std::vector<uint8_t> row;
    for (int i = 0; i < 16; ++i) row.insert(row.end(), {0, 128, 255, 0});
    for (int i = 0; i < 16; ++i) {
      JSAMPROW r = row.data();
      jpeg_write_scanlines(&c, &r, 1);
    }
    jpeg_finish_compress(&c);
    jpeg_destroy_compress(&c);
    std::fclose(file);
  }
  const auto ink = first("ink.jpg");
  CHECK(std::abs(ink[0] - 255) < 6);
  CHECK(std::abs(ink[1] - 127) < 6);
  CHECK(std::abs(ink[2] - 0) < 6);
}

TEST_CASE("pictures that are none are refused with the reason, truncated at any byte and changed at any") {
  const Folder f;
  write_picture(f.path / "a.png", random_pixels(12, 9, 1));
  write_picture(f.path / "a.jpg", random_pixels(12, 9, 1));
  for (const char* name : {"a.png", "a.jpg"}) {
    const std::string whole = slurp(f.path / name);
    // What ends a file after its pixels may be missing.
    for (size_t cut = 0; cut + 32 < whole.size(); cut += 1 + whole.size() / 60) {
      write(f.path / "cut", whole.substr(0, cut));
      CHECK_THROWS_AS((void)read_picture(f.path / "cut"), Error);
    }
    std::mt19937_64 random(4);
    for (int i = 0; i < 300; ++i) {
      std::string changed = whole;
      for (int k = 0; k < 3; ++k) changed[random() % changed.size()] = static_cast<char>(random());
      write(f.path / "changed", changed);
      try {
        const Tensor t = read_picture(f.path / "changed");
        CHECK(t.shape()[2] == 3);
      } catch (const Error& e) {
        CHECK(std::string(e.what()).find("changed") != std::string::npos);
      }
    }
  }
  // More pixels than anybody means, told from the header.
  std::string huge = slurp(f.path / "a.jpg");
  const size_t frame = huge.find("\xFF\xC0");
  REQUIRE(frame != std::string::npos);
  huge[frame + 5] = huge[frame + 7] = 0x75, huge[frame + 6] = huge[frame + 8] = 0x30;  // 30000 x 30000
  write(f.path / "huge.jpg", huge);
  CHECK_THROWS_WITH_AS((void)read_picture(f.path / "huge.jpg"), doctest::Contains("million allowed"), Error);
  std::string sized = slurp(f.path / "a.png");
  sized.replace(16, 8, std::string("\0\x01\0\0\0\x01\0\0", 8));  // 65536 x 65536
  write(f.path / "sized.png", sized);
  CHECK_THROWS_AS((void)picture_size(f.path / "sized.png"), Error);
  write(f.path / "text.png", "hello");
  CHECK_THROWS_WITH_AS((void)read_picture(f.path / "text.png"), doctest::Contains("PNG and JPEG are"), Error);
}
