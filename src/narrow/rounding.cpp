#include "narrow/rounding.hpp"

#include <algorithm>
#include <cmath>

namespace lathe::narrowing {
namespace {

// In place: the lower triangle of the factor whose product with its transpose is the matrix; false when it has none.
bool factor(std::vector<double>& a, int64_t n) {
  for (int64_t i = 0; i < n; ++i) {
    for (int64_t j = 0; j <= i; ++j) {
      double sum = a[static_cast<size_t>(i * n + j)];
      const double *x = a.data() + i * n, *y = a.data() + j * n;
      for (int64_t k = 0; k < j; ++k) sum -= x[k] * y[k];
      if (i == j && !(sum > 0)) return false;
      a[static_cast<size_t>(i * n + j)] = i == j ? std::sqrt(sum) : sum / y[j];
    }
  }
  return true;
}

// The inverse of a symmetric matrix from its factor.
std::vector<double> inverse(const std::vector<double>& l, int64_t n) {
  std::vector<double> half(static_cast<size_t>(n * n)), out(static_cast<size_t>(n * n));  // half: the factor's inverse, by rows
  for (int64_t i = 0; i < n; ++i) {
    double* row = half.data() + i * n;
    row[i] = 1;
    for (int64_t k = 0; k < i; ++k) {
      const double f = l[static_cast<size_t>(i * n + k)];
      const double* other = half.data() + k * n;
      for (int64_t j = 0; j <= k; ++j) row[j] -= f * other[j];
    }
    const double pivot = l[static_cast<size_t>(i * n + i)];
    for (int64_t j = 0; j <= i; ++j) row[j] /= pivot;
  }
  for (int64_t k = 0; k < n; ++k) {
    const double* row = half.data() + k * n;
    for (int64_t i = 0; i <= k; ++i) {
      for (int64_t j = 0; j <= k; ++j) out[static_cast<size_t>(i * n + j)] += row[i] * row[j];
    }
  }
  return out;
}

// How much of column i's error each later column takes up: row i of the upper factor of the inverse, by its diagonal.
std::vector<double> shares(std::vector<double> h, int64_t n) {
  double trace = 0;
  for (int64_t i = 0; i < n; ++i) trace += h[static_cast<size_t>(i * n + i)];
  constexpr double kDamping = 0.01;  // keeps what was hardly ever met from being trusted
  const double damping = std::max(kDamping * trace / static_cast<double>(n), 1e-12);
  for (int64_t i = 0; i < n; ++i) h[static_cast<size_t>(i * n + i)] += damping;
  if (!factor(h, n)) return {};
  std::vector<double> inv = inverse(h, n);
  if (!factor(inv, n)) return {};
  std::vector<double> out(static_cast<size_t>(n * n));
  for (int64_t i = 0; i < n; ++i) {
    for (int64_t j = i + 1; j < n; ++j)
      out[static_cast<size_t>(i * n + j)] = inv[static_cast<size_t>(j * n + i)] / inv[static_cast<size_t>(i * n + i)];
  }
  return out;
}

}  // namespace

double Grid::number(double x) const { return std::clamp(std::nearbyint(x / scale) + zero, least, most); }

std::vector<float> rounded(const Layer& l, std::span<const float> rows, const std::function<Grid(int64_t, int64_t)>& grid,
                           const Moments* moments) {
  std::vector<float> out(rows.size());
  const int64_t each = l.filters / l.groups;
  for (int64_t group = 0; group < l.groups; ++group) {
    for (int64_t begin = 0; begin < l.depth; begin += Moments::kBlock) {
      const int64_t size = std::min(Moments::kBlock, l.depth - begin);
      const std::vector<double> share = moments && moments->rows() > 0 ? shares(moments->block(group, begin), size) : std::vector<double>();
      std::vector<double> w(static_cast<size_t>(size));
      for (int64_t f = group * each; f < (group + 1) * each; ++f) {
        const int64_t at = f * l.depth + begin;
        std::copy_n(rows.begin() + at, size, w.begin());
        for (int64_t k = 0; k < size; ++k) {
          const Grid g = grid(f, begin + k);
          const double number = g.number(w[static_cast<size_t>(k)]), error = w[static_cast<size_t>(k)] - g.value(number);
          out[static_cast<size_t>(at + k)] = static_cast<float>(number);
          if (share.empty()) continue;
          const double* to = share.data() + k * size;
          for (int64_t j = k + 1; j < size; ++j) w[static_cast<size_t>(j)] -= error * to[j];
        }
      }
    }
  }
  return out;
}

}  // namespace lathe::narrowing
