// A Program's insides.
#pragma once

#include <list>
#include <mutex>

#include "lathe/program.hpp"
#include "lower/plan.hpp"

namespace lathe {

class ProgramImpl {
 public:
  ProgramImpl(Graph graph, CompileOptions options);

  // The edition for these shapes; compiled under the lock when it is not there.
  std::shared_ptr<const lower::Plan> edition(const std::vector<Shape>& shapes);
  // Shapes bound at compile time, in the order of inputs; throws Error (shape) naming the open dims.
  std::vector<Shape> bound_shapes() const;
  void check_input(size_t i, const Tensor& tensor) const;

  CompileOptions options;
  std::vector<Port> inputs, outputs;
  std::shared_ptr<const std::vector<std::string>> output_names;
  std::vector<PassReport> passes;
  std::map<std::string, std::string> metadata;
  std::atomic<int> compiled{0};

 private:
  std::shared_ptr<const lower::Plan> compile_edition(const std::vector<Shape>& shapes);

  Graph graph_;
  std::vector<bool> base_constants_;
  lower::Weights weights_;
  std::mutex mutex_;
  std::list<std::pair<std::vector<Shape>, std::shared_ptr<const lower::Plan>>> editions_;  // most recently used first
};

}  // namespace lathe
