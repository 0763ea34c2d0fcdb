// What a model is run on: arrays, cases, a picture, or random data; the same options for every command that runs one.
#pragma once

#include <map>
#include <optional>
#include <string>
#include <vector>

#include "common.hpp"
#include "pictures.hpp"

namespace lathe::cli {

struct FeedFlags {
  std::vector<std::string> inputs;
  std::string cases, image;
  std::optional<uint64_t> seed;
  PictureFlags pictures;

  // --input, and of the others those that the command has no option of its own for.
  struct Which {
    bool cases = true, image = true, seed = true;
  };
  void add_to(CLI::App& app, Which which);
  // Whether inputs were given.
  bool any() const { return !inputs.empty() || !cases.empty() || !image.empty(); }
  // Reads the arrays and sees to it that they fit: opens initializers that get another value, binds the symbolic dims that arrays give
  // sizes. Throws UsageError, Error (format).
  void read(const ModelOptions& model, const Graph& graph, CompileOptions& options);
  // As --input would.
  void give(const std::string& name, Tensor value) { given_[name] = std::move(value); }
  // Inputs for the program, in its order. Random ones take the place of those that were not given, where there is a seed, or `otherwise` is
  // one; throws UsageError naming them otherwise.
  std::vector<Tensor> make(const ModelOptions& model, const Program& program, const CompileOptions& options,
                           std::optional<uint64_t> otherwise = {}) const;
  // "random, seed 1", "boards/test_data_set_0", "2 arrays".
  std::string text(std::optional<uint64_t> otherwise = {}) const;

 private:
  std::map<std::string, Tensor> given_;
};

std::vector<Shape> shapes_of(const std::vector<Tensor>& inputs);
// What "NAME=FILE" or "FILE" says: the file's tensors, one of them under that name if it has one. Throws UsageError, Error (format).
struct GivenTensors {
  bool named = false;
  std::vector<NamedTensor> tensors;
};
GivenTensors given_tensors(const std::string& text, const std::string& option);
// The tensors that --input FILE holds; a single array has no name. Throws UsageError for a file of another kind.
std::vector<NamedTensor> read_tensors(const std::string& path, const std::string& option);

}  // namespace lathe::cli
