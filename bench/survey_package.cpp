// Models of a folder, each compiled with the shapes of its first case: what of them is left to plain evaluation.
#include <fmt/format.h>

#include <algorithm>
#include <filesystem>
#include <map>

#include "survey_forms.hpp"

namespace lathe::survey {
namespace {

namespace fs = std::filesystem;

// The shapes of a case's inputs, in the program's order.
std::vector<Shape> case_shapes(const Program& p, const fs::path& folder, const Graph& model) {
  const std::vector<Case> cases = read_cases(folder, &model);
  if (cases.empty()) return {};
  std::vector<Shape> shapes;
  for (const Tensor& t : arrange_inputs(p, cases.front())) shapes.push_back(t.shape());
  return shapes;
}

}  // namespace

Left plain_steps_of(const fs::path& root) {
  std::vector<fs::path> files;
  for (const auto& e : fs::recursive_directory_iterator(root)) {
    if (e.path().extension() == ".onnx") files.push_back(e.path());
  }
  std::ranges::sort(files);
  Left left;
  left.models = files.size();
  for (const fs::path& file : files) {
    const std::string name = fs::relative(file.parent_path(), root).string();
    try {
      const Graph g = load(file);
      const Program p = compile(g, {.threads = 1});
      bool any = false, programs = false;
      for (const StepInfo& s : p.describe(case_shapes(p, file.parent_path(), g)).steps) {
        programs |= s.kind == "control";
        if (s.kind != "plain") continue;
        left.steps.push_back({name, s.op, s.why});
        any = true;
      }
      left.with_plain += any;
      left.with_programs += programs;
    } catch (const Error& e) {
      left.refused.emplace_back(name, e.what());
    }
  }
  return left;
}

}  // namespace lathe::survey
