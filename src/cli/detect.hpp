// Options about boxes in a model's outputs, the same for every command.
#pragma once

#include <string>
#include <vector>

#include "common.hpp"

namespace lathe::cli {

struct DetectFlags {
  std::vector<std::string> detect;
  std::string suppress = "class";
  double least_score = 0.25, most_overlap = 0.5, softness = 0.5;
  int64_t most = 300;

  // `least`: the least score when nobody says.
  void add_to(CLI::App& app, double least);
  // All of it, for who wants to know whether it is the same.
  std::string text() const {
    std::string all = fmt::format("{} {} {} {} {}", suppress, least_score, most_overlap, softness, most);
    for (const std::string& d : detect) all += " " + d;
    return all;
  }
  // Throws UsageError naming the option.
  DetectForm form() const;
  DetectOptions options() const;
};

}  // namespace lathe::cli
