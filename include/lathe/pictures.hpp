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

// What is not set here, the model's metadata may say: "fit" (stretch, pad, crop), "mean" and "scale" (numbers with commas), "channels"
// (bgr), "layout" (channels-last); else PictureOptions does.
struct PictureSettings {
  int64_t height = 0, width = 0;  // pixels, where the model leaves them open; 0: those of the first picture
  std::optional<Fit> fit{};
  std::vector<float> mean{}, scale{};
  bool bgr = false;
};

// Throws Error (value) for another word.
Fit parse_fit(const std::string& text);
// By its ending: .png, .jpg, .jpeg.
bool is_picture(const std::filesystem::path& path);
// The pictures given, and those of the folders given, by name. Throws Error (value) for a folder without any.
std::vector<std::filesystem::path> list_pictures(const std::vector<std::filesystem::path>& given);
// The metadata's "labels", one a class; empty when there are none.
std::vector<std::string> labels_in(const std::map<std::string, std::string>& metadata);

// The shape that a program's one input of pictures is run with, from what is known of its dims; `batch` where that is open. Throws Error:
// shape (the program has no such input), value (a size that the model does not take).
Shape picture_shape(const PictureSettings& how, const Program& program, Dims dims, int64_t batch, const std::filesystem::path& first);
// `shape`: what the input is run with. Throws Error (value) for metadata that say nothing known.
PictureOptions picture_options(const PictureSettings& how, const Program& program, const Shape& shape);

}  // namespace lathe
