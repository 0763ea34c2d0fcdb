// Parity: compares outputs with reference outputs, case by case and suite by suite.
#pragma once

#include <filesystem>
#include <functional>
#include <map>
#include <optional>
#include <string>
#include <vector>

#include "lathe/formats.hpp"
#include "lathe/program.hpp"

namespace lathe {

// An element agrees when |got - expected| <= absolute + relative * |expected|, or when it is within `ulp` steps of the
// dtype (0: not asked). NaN agrees with NaN only, infinity with the same infinity only.
struct Tolerance {
  static constexpr double kByDType = -1;  // as default_tolerance has it for the dtype compared

  double absolute = 0;
  double relative = 0;
  int64_t ulp = 0;
};

// f32: 1e-6 + 1e-3 relative; f64: 1e-9 + 1e-7; f16: 1e-3 + 1e-2; bf16: 1e-2 + 3e-2; 8-bit floats: 0.1 + 0.15; others exact.
Tolerance default_tolerance(DType dtype);

// What applies to the dtype when this was asked for: kByDType filled in.
Tolerance tolerance_for(DType dtype, const std::optional<Tolerance>& asked);

// Tolerances for all, by dtype and by name: the narrowest that says something counts.
struct Tolerances {
  Tolerances() = default;
  Tolerances(std::optional<Tolerance> for_all) : all(for_all) {}  // NOLINT: one tolerance is one for all
  Tolerances(Tolerance for_all) : all(for_all) {}                 // NOLINT

  std::optional<Tolerance> all{};
  std::map<DType, Tolerance> by_dtype{};
  std::map<std::string, Tolerance> by_name{};

  // For a value of that name and dtype; nothing when nothing was said (default_tolerance holds).
  std::optional<Tolerance> of(const std::string& name, DType dtype) const;
};

// A TOML file: `absolute`, `relative`, `ulp` at its top, in [dtype.f16], in [value."logits"]. Throws Error (format) naming the key, with
// what is allowed there.
Tolerances read_tolerances(const std::filesystem::path& path);

struct Comparison {
  std::string name;
  DType dtype = DType::undefined;
  Shape shape;
  bool pass = false;
  std::string reason;       // why not: dtype, shape, or how many elements are out of tolerance
  double max_absolute = 0;  // over finite pairs
  double max_relative = 0;  // over finite pairs with expected != 0
  double max_ulp = 0;       // floating types
  double cosine = 1;        // of the two tensors as vectors
  double error = 0;  // root mean square of the difference over that of what is expected (floating types; else the share that differs)
  int64_t out_of_tolerance = 0;
  Shape worst;                // index of the element furthest out, measured in tolerances
  std::string got, expected;  // that element's values
};

Comparison compare(const std::string& name, const Tensor& got, const Tensor& expected, const std::optional<Tolerance>& tolerance = {});

// Named inputs with the outputs expected of them.
struct Case {
  std::string name;
  std::vector<NamedTensor> inputs, outputs;
};

// Reads every test_data_set_N/ (input_K.pb, output_K.pb) in the folder, in order. The model says which of them are sequences, optionals
// or maps; without it all are tensors. Throws Error (format).
std::vector<Case> read_cases(const std::filesystem::path& folder, const Graph* model = nullptr);
// A pair of npz files as one case.
Case read_npz_case(const std::filesystem::path& inputs, const std::filesystem::path& outputs);

// Puts a case's inputs into the program's order: by name where the names match, else by position. Throws Error (value).
std::vector<Tensor> arrange_inputs(const Program& program, const Case& c);

struct CaseResult {
  std::string name;
  bool pass = false;
  std::vector<Comparison> outputs;
};

// Outputs of a run on the case's inputs against what it expects: by name where the names match, else by position.
CaseResult check_outputs(const Program& program, const Outputs& got, const Case& c, const Tolerances& tolerances = {});
CaseResult check_case(Lane& lane, const Case& c, const Tolerances& tolerances = {}, const RunOptions& run = {});

// Random inputs for these shapes, from a seed: floats in [-1, 1), integers in [0, 8), bools.
std::vector<Tensor> random_inputs(const Program& program, const std::vector<Shape>& shapes, uint64_t seed);

// excluded: named as an exception, and indeed it did not pass.
enum class Verdict { passed, failed, skipped, excluded };

struct SuiteEntry {
  std::string name;  // path below the suite's folder
  Verdict verdict = Verdict::passed;
  std::string reason;  // of a failure (with the path it failed on), a skip, or of comparing less than values
};

struct SuiteOptions {
  bool plain = true;  // also through plain evaluation
  std::vector<int> threads{1, 2};
  std::vector<std::string> isas;  // empty: the best one
  std::optional<Tolerance> tolerance;
  std::string filter;  // only folders whose path holds this text
  // Names of entries that cannot pass, with the reason. With any, a skip that is not among them is a failure, and so is one of them that
  // passes.
  std::map<std::string, std::string> exceptions;
  std::function<void(const SuiteEntry&, size_t done, size_t total)> progress;
};

// Every folder below `root` that holds model.onnx and cases. An op that is not known makes a skip; anything else that goes wrong is a
// failure. Of a model with random ops only dtypes and shapes are compared. Throws Error (value) when there is no such folder.
std::vector<SuiteEntry> run_suite(const std::filesystem::path& root, const SuiteOptions& options = {});

}  // namespace lathe
