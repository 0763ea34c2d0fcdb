// Options about pictures as inputs, the same for every command.
#pragma once

#include <filesystem>
#include <map>
#include <string>
#include <vector>

#include "common.hpp"

namespace lathe::cli {

// What is said about preprocessing; what is not, the model's metadata may say.
struct PictureFlags {
  std::string size, fit, mean, scale, labels;
  bool bgr = false, antialias = false;

  void add_to(CLI::App& app);
  // All of it, for who wants to know whether it is the same.
  std::string text() const { return fmt::format("{} {} {} {} {} {} {}", size, fit, mean, scale, labels, bgr, antialias); }
  // Throws UsageError naming the option.
  PictureSettings settings() const;
  // One label a class; empty when nobody says.
  std::vector<std::string> labels_of(const std::map<std::string, std::string>& metadata) const;
  // The shape that pictures are run with: --size and what is bound; heights and widths still open are the first picture's, a batch is 1.
  Shape shape_for(const ModelOptions& model, const Program& program, const CompileOptions& options,
                  const std::filesystem::path& first) const;
};

}  // namespace lathe::cli
