// What recurrent layers put their sums through.
#pragma once

#include <cstdint>
#include <vector>

#include "lathe/graph.hpp"

namespace lathe::ops {

enum class Curve : uint8_t {
  sigmoid,
  tanh,
  relu,
  affine,
  leaky_relu,
  thresholded_relu,
  scaled_tanh,
  hard_sigmoid,
  elu,
  softsign,
  softplus
};

// With the parameters that the model gives, or the standard where it gives none.
struct RecurrentFunction {
  Curve curve = Curve::sigmoid;
  double alpha = 0, beta = 0;
  double operator()(double x) const;
};

// Of an RNN (1), a GRU (2) or an LSTM (3), for each direction after another. Throws Error (value) for names that are not known and for a
// list of another length.
std::vector<RecurrentFunction> recurrent_functions(const Node& node, int64_t directions);

}  // namespace lathe::ops
