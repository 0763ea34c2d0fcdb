// A Program's insides.
#pragma once

#include <list>
#include <mutex>

#include "lathe/program.hpp"
#include "lower/lower.hpp"

namespace lathe {

class ProgramImpl {
 public:
  // `open`: inputs whose sizes stay open in editions, by index; steps that read them find them out while running.
  ProgramImpl(Graph graph, CompileOptions options, std::vector<bool> open = {});

  // What an archive holds of a Program.
  struct Edition {
    std::vector<Shape> shapes;
    std::shared_ptr<const Graph> graph;   // shaped, its passes done
    std::shared_ptr<lower::Weights> own;  // packed forms of its own constants
    std::vector<lower::Recipe> recipes;   // of its groups, in order
    bool same_threads = true;             // as many as they were chosen for
    std::vector<PassReport> passes;       // what ran for these shapes
  };
  struct Parts {
    CompileOptions options;
    Graph graph;  // with nodes where editions are still to be compiled
    std::vector<bool> base_constants;
    lower::Weights weights;
    int64_t block_bytes = 0;
    std::vector<PassReport> passes;
    std::vector<Edition> editions;
  };
  explicit ProgramImpl(Parts parts);
  // For writing one: packed weights are shared. `originals`: constants that were packed come back.
  Parts parts(bool originals);

  // The edition for these shapes; compiled under the lock when it is not there.
  // `reports`: gets what the passes that ran for these shapes changed.
  std::shared_ptr<const lower::Plan> edition(std::vector<Shape> shapes, std::vector<PassReport>* reports = nullptr);
  // Shapes bound at compile time, in the order of inputs; throws Error (shape) naming the open dims.
  std::vector<Shape> bound_shapes() const;
  void check_input(size_t i, const Tensor& tensor) const;

  CompileOptions options;
  std::vector<Port> inputs, outputs;
  std::vector<std::string> defaults;  // inputs whose own values were compiled in
  std::shared_ptr<const std::vector<std::string>> output_names;
  std::vector<PassReport> passes;
  std::map<std::string, std::string> metadata;
  std::atomic<int> compiled{0};

 private:
  void name_ports();
  bool stays_open(size_t input) const { return input < open_.size() && open_[input]; }
  std::shared_ptr<const Graph> prepare(const std::vector<Shape>& shapes, std::vector<PassReport>& reports);
  std::shared_ptr<const lower::Plan> find_or_build(const std::vector<Shape>& shapes);
  std::shared_ptr<const lower::Plan> build(std::shared_ptr<const Graph> graph, const lower::Remembered* remembered);

  Graph graph_;
  std::vector<bool> open_;  // by input
  std::vector<bool> base_constants_;
  lower::Weights weights_;
  int64_t block_bytes_ = 0;
  std::vector<Edition> archived_;  // not lowered yet
  std::mutex mutex_;
  struct Compiled {
    std::vector<Shape> shapes;
    std::shared_ptr<const lower::Plan> plan;
    std::vector<PassReport> passes;
  };
  std::list<Compiled> editions_;  // most recently used first
};

}  // namespace lathe
