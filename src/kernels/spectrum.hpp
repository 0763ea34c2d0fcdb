// Discrete Fourier transforms of rows of any length, in double, several rows side by side.
#pragma once

#include <cstdint>
#include <vector>

#include "kernels/isa.hpp"

namespace lathe::kernels {

// Rows side by side: a vector of this many doubles for each of their entries.
inline constexpr int64_t kSpectrumRows = 8;

// How a length is transformed. Lengths whose factors are small go factor by factor; others are a convolution of a power of two.
struct SpectrumPlan {
  int64_t length = 1;
  std::vector<int64_t> factors;  // of `length`, or of `padded`
  int64_t padded = 0;            // of the convolution; 0: none
  std::vector<double> turns;     // cos, sin of -2 pi k / (length or padded) for each k
  std::vector<double> chirp;     // cos, sin of -pi k^2 / length for each k < length
  std::vector<double> kernel;    // the transform of the chirp the other way round, of `padded` entries, divided by their number
};
// `length` at least 1.
SpectrumPlan plan_spectrum(int64_t length);
// Doubles of scratch that a transform of `rows` rows side by side needs (rows: 1 or kSpectrumRows).
int64_t spectrum_scratch(const SpectrumPlan& plan, int64_t rows);

// Transforms entries re[k * rows + r] + i im[k * rows + r] in place; for the inverse exchange re and im, and divide by the length.
// Preconditions: re and im hold length * rows doubles (padded * rows where there is a convolution, of which the first length * rows are
// given), scratch spectrum_scratch() of them, on 64 bytes; nothing overlaps. No allocation, no exception.
using Spectrum = void (*)(const SpectrumPlan& plan, int64_t rows, double* re, double* im, double* scratch);
Spectrum spectrum(Isa isa);

}  // namespace lathe::kernels
