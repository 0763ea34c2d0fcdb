// What a model of sequences gets beside its tokens: pictures and arrays, worked out once.
#pragma once

#include <filesystem>
#include <memory>
#include <string>
#include <vector>

#include "feed.hpp"

namespace lathe::cli {

struct BesideFlags {
  std::string image;
  std::vector<std::string> inputs;
  PictureFlags pictures;
  std::map<std::string, Tensor> arrays;  // that --input names, once read() has been called

  void add_to(CLI::App& app);
  void read();
};

// What was made of a picture or arrays, and what it cost.
struct BesideValues {
  std::vector<NamedTensor> values;  // of inputs of the program
  double seconds = 0;
  Shape picture;     // as the model got it; empty: there is none
  int64_t rows = 0;  // that the op insert puts in the places of marks
};

// Inputs that the rows of the op insert are made of; none where there is no such op.
std::vector<std::string> inserted_inputs(const Graph& graph);
// Before compiling: `once` of the options. `wanted`: a picture will be given.
std::vector<std::string> inputs_beside(const BesideFlags& flags, bool wanted, const Graph& graph, const CompileOptions& options);

class Beside {
 public:
  // `names`: what inputs_beside gave; of an archive nothing.
  Beside(const BesideFlags& flags, const ModelOptions& model, const Program& program, std::vector<std::string> names);
  // Inputs of the program that are beside its tokens.
  const std::vector<std::string>& inputs() const { return inputs_; }
  bool any() const { return !inputs_.empty(); }
  // With this picture ("": none); `blank`: one of this size, of zeros, instead.
  BesideValues make(const std::string& picture, const RunOptions& run, const Shape& blank = {});
  // Tokens that stand for rows.
  std::vector<int64_t> marks(const BesideValues& values) const;

 private:
  PictureWay way(int64_t height, int64_t width) const;
  void run_once(const Tensor& picture, const RunOptions& run, BesideValues& out);

  const BesideFlags& flags_;
  Program program_, once_;
  std::unique_ptr<Lane> lane_;
  std::vector<std::string> inputs_;
  std::string rows_input_;
  int64_t mark_ = -1;
};

}  // namespace lathe::cli
