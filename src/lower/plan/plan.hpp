// What lowering makes of a Graph with known shapes: buffers, steps, and where each value is.
#pragma once

#include <map>
#include <memory>
#include <optional>
#include <vector>

#include "lower/plan/step.hpp"
#include "lower/plan/weights.hpp"

namespace lathe::lower {

struct Buffer {
  enum class Kind { arena, input, output, constant } kind = Kind::arena;
  size_t bytes = 0;
  int index = -1;                    // input, output: position in the graph's list
  std::shared_ptr<const void> hold;  // constant: keeps `data` alive
  const void* data = nullptr;        // constant
  int first = -1, last = -1;         // steps between which it is live
  size_t offset = 0;                 // arena
};

// Invariants once plan_memory has run: every BufferId of a step is an index into `buffers`; arena buffers that live at the same step do not
// overlap, but for the pairs that share memory in place; a value that is not `dynamic` and is read by a step has a location with a buffer.
// Immutable from then on: lanes share it without locks.
struct Plan {
  std::vector<Buffer> buffers;
  std::vector<Step> steps;
  std::vector<Location> locations;  // by ValueId
  std::vector<Shape> input_shapes;
  std::vector<std::optional<Shape>> output_shapes;  // nothing: only known at run time
  std::vector<DType> output_dtypes;
  std::vector<ValueId> output_values;
  size_t arena_bytes = 0, arena_bound = 0;
  size_t weight_bytes = 0;             // constants the steps read
  std::vector<Recipe> recipes;         // of the groups, in the order in which they were lowered; then of what runs side by side
  std::shared_ptr<const Graph> graph;  // the shaped graph the steps were made from
  std::vector<bool> dynamic;           // by ValueId: held as a Tensor
  std::map<ValueId, Tensor> restored;  // constants read as they are whose originals had gone: their graph does not hold them
  std::shared_ptr<Weights> own;        // packed forms of constants that these shapes alone have
};

}  // namespace lathe::lower
