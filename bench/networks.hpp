// Well-known shapes of network with seeded random weights, for speed only.
#pragma once

#include <lathe/lathe.hpp>

namespace lathe::networks {

// A 50-layer residual net with bottleneck blocks for pictures of side x side, 1000 classes, normalisation kept apart
// as exporters leave it. 25.6 M parameters, 8.2 GFLOP a picture at 224.
Graph residual_50(int64_t batch, int64_t side = 224, uint64_t seed = 1);

// One convolution with bias and relu, on random data.
Graph convolution(int64_t batch, int64_t channels, int64_t side, int64_t filters, int64_t kernel, int64_t stride, uint64_t seed = 1);

// A matrix product m x k by a constant k x n.
Graph product(int64_t m, int64_t n, int64_t k, uint64_t seed = 1);

}  // namespace lathe::networks
