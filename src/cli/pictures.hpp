// Pictures as inputs, the same way for every command: files, labels, preprocessing.
#pragma once

#include <filesystem>
#include <map>
#include <string>
#include <vector>

#include "common.hpp"

namespace lathe::cli {

// The pictures given, and those of the folders given, by name. Throws Error (value) for a folder without any.
std::vector<std::filesystem::path> list_pictures(const std::vector<std::string>& given);

// What is said about preprocessing; what is not, the model's metadata may say.
struct PictureFlags {
  std::string size, fit, mean, scale, labels;
  bool bgr = false;

  void add_to(CLI::App& app);
  // One label a class; empty when nobody says.
  std::vector<std::string> labels_of(const std::map<std::string, std::string>& metadata) const;
  // The shape that pictures are run with: --size and what is bound; heights and widths still open are the first picture's, a batch is 1.
  Shape shape_for(const ModelOptions& model, const Program& program, const CompileOptions& options,
                  const std::filesystem::path& first) const;
  // `shape`: what the input is run with.
  PictureOptions options_for(const Program& program, const Shape& shape) const;
};

}  // namespace lathe::cli
