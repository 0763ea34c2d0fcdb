// Well-known shapes of network with seeded random weights, for speed only.
#pragma once

#include <lathe/lathe.hpp>

namespace lathe::networks {

// A 50-layer residual net with bottleneck blocks for pictures of side x side, 1000 classes, normalisation kept apart
// as exporters leave it. 25.6 M parameters, 8.2 GFLOP a picture at 224.
Graph residual_50(int64_t batch, int64_t side = 224, uint64_t seed = 1);

// A mobile net of depthwise-separable blocks with inverted bottlenecks and clamps at six, 1000 classes. 3.4 M parameters, 0.6 GFLOP at 224.
Graph mobile(int64_t batch, int64_t side = 224, uint64_t seed = 1);

// Layers of attention and feed-forward, as exporters write them out: products with biases added, reshapes and transposes around the heads,
// normalisation and GELU in elementary ops. 12 layers of 768 in 12 heads: 85 M parameters, 22 GFLOP at length 128.
Graph encoder(int64_t batch, int64_t length = 128, int64_t layers = 12, int64_t width = 768, int64_t heads = 12, uint64_t seed = 1);

// Pictures to masks: four levels down and up again, transposed convolutions, skips that are joined. 7.8 M parameters, 24 GFLOP at 256.
Graph skips(int64_t batch, int64_t side = 256, uint64_t seed = 1);

// Pictures to masks by U shapes inside a U: at each of six scales a small net goes down and up again by itself, joining skips; resizes are to
// sizes worked out from other values' shapes, as exporters write them. Six masks are brought to the picture's size and joined. 1.1 M
// parameters, 26 GFLOP at 320, 264 at 1024.
Graph nested(int64_t batch, int64_t side = 320, uint64_t seed = 1);

// Two LSTM layers of 256 over sequences of 40 features, a class for each step.
Graph recurrent(int64_t batch, int64_t steps = 64, uint64_t seed = 1);

// One step of a small decoder: a token and, for each of 6 layers of 512 in 8 heads, keys and values of `past` tokens before it; gives the
// next token's scores and the state one longer. 27 M parameters.
Graph decoder(int64_t batch, int64_t past = 128, uint64_t seed = 1);

// A decoder of any length, as exporters write it: tokens [batch, new], keys and values of each layer [batch, heads, held, 64] and what they
// are then; later tokens do not see earlier ones' future (the standard's Attention). 24 * layers * width^2 / 2 + words * width parameters.
Graph language(int64_t layers, int64_t width, int64_t words = 8000, uint64_t seed = 1);

// One convolution with bias and relu, on random data.
Graph convolution(int64_t batch, int64_t channels, int64_t side, int64_t filters, int64_t kernel, int64_t stride, uint64_t seed = 1);

// A matrix product m x k by a constant k x n.
Graph product(int64_t m, int64_t n, int64_t k, uint64_t seed = 1);

}  // namespace lathe::networks
