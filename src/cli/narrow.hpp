// What the two halves of `lathe narrow` share: weights and halves (narrow.cpp), bytes (narrow_bytes.cpp).
#pragma once

#include <string>
#include <utility>
#include <vector>

#include "common.hpp"
#include "keep.hpp"
#include "pictures.hpp"

namespace lathe::cli {

struct NarrowFlags {
  std::string model, write, weights = "i8", activations, json, rounding = "nearest", range = "squares", sensitivity;
  std::string calibrate, beside, data, data_beside, targets;
  std::vector<std::string> leave, ops;
  int64_t block = 0, least = NarrowOptions().least, external_from = 0, items = 100, noise = 0;
  double percentile = ByteOptions().percentile, cosine_at_least = 0, lose_at_most = -1;
  bool allow_outside = false, no_check = false, no_equalise = false, no_bias_correction = false, products = false;
  bool weights_set = false, rounding_set = false;
  PictureFlags pictures;
  KeepFlags keep;
};

// How far the narrowed model's outputs are from the wide one's, and the compiled form's from plain evaluation, on random inputs. A model in
// halves is compared with plain evaluation as that rounds: after each node.
struct Check {
  std::vector<Comparison> against_wide, against_plain;
  std::string why_not;  // empty: it was done
  bool pass() const { return std::ranges::all_of(against_plain, &Comparison::pass); }
};
Check check_outputs(const Graph& wide, const Graph& narrow, bool halved);

// The items that --calibrate or --noise name, as the model takes them. Throws UsageError when neither is given.
struct Calibrating {
  Calibrating(const NarrowFlags& o, const Graph& graph, Progress& progress);
  Calibration calibration;
  ItemData data;  // the items used
};

int narrow_to_bytes(const NarrowFlags& o);

// As open ONNX, or, where the name ends in .lathe, compiled for this machine, as an archive that carries the graph. Throws UsageError.
void write_narrowed(const NarrowFlags& o, const Graph& graph);
// The model as it was written.
Graph read_narrowed(const NarrowFlags& o, const Graph& graph);
std::string decibels(double v);
Json decibels_json(double v);
// Keeps what came of it, when results are kept.
void keep_narrowed(const NarrowFlags& o, const std::string& how, uintmax_t bytes, double cosine, const Json& details);
// The file, and its external data beside it.
uintmax_t bytes_of_model(const std::string& path);
void print_left(const std::vector<std::pair<std::string, std::string>>& left);

}  // namespace lathe::cli
