// Pictures as a model's input: what is done to them first, said once for running, judging, calibrating and comparing.
#pragma once

#include <filesystem>
#include <map>
#include <optional>
#include <string>
#include <vector>

#include "lathe/formats.hpp"
#include "lathe/program.hpp"

namespace lathe {

// What is not set here, the model's metadata may say: "fit" (stretch, pad, crop, keep), "mean" and "scale" (numbers with commas),
// "channels" (bgr), "layout" (channels-last), "antialias" (true); else PictureOptions does.
struct PictureSettings {
  int64_t height = 0, width = 0;  // pixels, where the model leaves them open; 0: those of the first picture
  std::optional<Fit> fit{};
  std::vector<float> mean{}, scale{};
  bool bgr = false;
  bool antialias = false;
};

// Throws Error (value) for another word.
Fit parse_fit(const std::string& text);
// By its ending: .png, .jpg, .jpeg.
bool is_picture(const std::filesystem::path& path);
// The pictures given, those of the folders given, and those that match the patterns given (*, ? and [..] as a shell reads them), by name.
// Throws Error (value) for a folder without any, and a pattern that nothing matches.
std::vector<std::filesystem::path> list_pictures(const std::vector<std::filesystem::path>& given);
// The metadata's "labels", one a class; empty when there are none.
std::vector<std::string> labels_in(const std::map<std::string, std::string>& metadata);

// Where a picture lies in a model's input: input = picture * scale + offset, in pixels.
struct Placement {
  double scale_x = 1, scale_y = 1, left = 0, top = 0;
  int64_t height = 0, width = 0;  // of the picture
};
// As picture_to_tensor places it.
Placement placement(Fit fit, int64_t height, int64_t width, int64_t input_height, int64_t input_width);

// The shape that a program's one input of pictures is run with, from what is known of its dims; `batch` where that is open. Throws Error:
// shape (the program has no such input), value (a size that the model does not take).
Shape picture_shape(const PictureSettings& how, const Program& program, Dims dims, int64_t batch, const std::filesystem::path& first);
// How pictures of one size go into a program's one input.
struct PictureWay {
  Shape shape;  // of one picture: batch 1
  PictureOptions options;
  Placement placement;
};
// Where the model leaves height or width open and the settings say nothing, a picture goes in at its own size, on sides rounded up to what
// `multiple` divides. Throws Error as picture_shape and picture_options do.
PictureWay picture_way(const PictureSettings& how, const Program& program, int64_t height, int64_t width, int64_t multiple = 1);
// Whether height or width are those of each picture.
bool own_size(const PictureSettings& how, const Program& program);
// What the metadata's "multiple" says; 1 when they say nothing. Throws Error (value).
int64_t size_multiple(const std::map<std::string, std::string>& metadata);

// `shape`: what the input is run with. Throws Error (value) for metadata that say nothing known.
PictureOptions picture_options(const PictureSettings& how, const Program& program, const Shape& shape);

}  // namespace lathe
