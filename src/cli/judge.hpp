// What the two halves of `lathe judge` share: classes and values (judge.cpp), what models draw (judge_drawn.cpp).
#pragma once

#include <string>
#include <vector>

#include "keep.hpp"
#include "detect.hpp"
#include "pictures.hpp"
#include "ranks.hpp"

namespace lathe::cli {

struct JudgeFlags {
  ModelOptions model;
  PictureFlags pictures;
  std::string data, beside, targets, vocabulary, as = "classes", sheet;
  std::vector<std::string> against;
  int top = 5, worst = 10;
  int64_t noise = 0;
  double at_least = -1, white = 1;
  DetectFlags detect;
  bool strict = false;
  KeepFlags keep;
  RanksFlags ranks;
};

// The model compiled for one thread a lane, and the shapes it runs these items with.
struct Judging {
  Program program;
  std::vector<Shape> shapes;
};
// Whether the data are lines of text.
bool of_lines(const JudgeFlags& o);
// The program for them: what a model would be fed back is kept by its lanes. Sizes are open.
Program lines_program(const ModelOptions& model);
Judging judging(const JudgeFlags& o, const ModelOptions& model, const ItemData& data);
// The first model, and those of --against.
std::vector<ModelOptions> models_of(const JudgeFlags& o);
// Tells on standard error which items are left out, and why.
void tell_left_out(const ItemsRun& run, const ItemData& data);
std::string speed_text(const ItemsRun& run, int64_t items);
// In the form that `keep` reads figures from.
Json interval_json(const Interval& i);
std::string percent(double v);
std::string percent(const Interval& i);

// What decides on an item's answer, beside the model.
std::string job_text(const JudgeFlags& o, size_t items);
int judge_drawn_all(const JudgeFlags& o, const RanksScope& ranks);

}  // namespace lathe::cli
