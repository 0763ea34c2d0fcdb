// Values of a graph over the calibration items.
#pragma once

#include <functional>
#include <vector>

#include "lathe/narrow.hpp"

namespace lathe::narrowing {

// Runs every item and shows the values asked for, inputs of the graph among them: `visit` gets the item, which of `values`, and the tensor.
// It is called from several threads at once, for different values.
void observe(const Graph& graph, const std::vector<ValueId>& values, const Calibration& calibration, const std::string& what,
             const std::function<void(size_t item, size_t value, const Tensor& tensor)>& visit);

// Two graphs with the same inputs, item by item; `visit` gets which of the values, and both tensors, from several threads at once.
// Ids are each graph's own. At most so many items, evenly spread.
void observe_both(const Graph& first, const std::vector<ValueId>& of_first, const Graph& second, const std::vector<ValueId>& of_second,
                  const Calibration& calibration, size_t items, const std::string& what,
                  const std::function<void(size_t value, const Tensor& first, const Tensor& second)>& visit);

}  // namespace lathe::narrowing
