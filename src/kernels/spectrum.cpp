// Plain loops over rows that lie side by side, which the compiler turns into vectors of each instruction set.
#include "kernels/spectrum.hpp"

#include <algorithm>
#include <cmath>
#include <numbers>
#include <utility>

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kernels/spectrum.cpp"
#include <hwy/foreach_target.h>
// After foreach_target, which re-includes this file once per instruction set.
#include <hwy/highway.h>

#ifndef LATHE_SPECTRUM_ONCE
#define LATHE_SPECTRUM_ONCE
namespace lathe::kernels {
// The largest factor that is done as a sum over all of its entries.
inline constexpr int64_t kMostFactor = 13;
}  // namespace lathe::kernels
#endif

HWY_BEFORE_NAMESPACE();
namespace lathe::kernels::HWY_NAMESPACE {
namespace {

// One factor of a transform that puts its results in order as it goes (Stockham): of `n` entries that are left, `run` doubles (places done
// before, times rows) side by side. y[run (f p + u)] is the sum over t of x[run (p + t m)] turned by t u / f, turned by p u / n.
template <int64_t kFactor>
void factor_of(int64_t n, int64_t run, int64_t any, const double* __restrict xr, const double* __restrict xi, double* __restrict yr,
               double* __restrict yi, const double* turns, int64_t whole) {
  const int64_t f = kFactor > 0 ? kFactor : any, m = n / f, step = whole / n, part = whole / f;
  for (int64_t p = 0; p < m; ++p) {
    double cosine[kMostFactor], sine[kMostFactor];  // of p u / n
    for (int64_t u = 0; u < f; ++u) cosine[u] = turns[2 * (p * u * step % whole)], sine[u] = turns[2 * (p * u * step % whole) + 1];
    const double *ar = xr + run * p, *ai = xi + run * p;
    double *br = yr + run * f * p, *bi = yi + run * f * p;
    const int64_t far = run * m;
    if constexpr (kFactor == 2) {
      const double c = cosine[1], s = sine[1];
      for (int64_t q = 0; q < run; ++q) {
        const double r0 = ar[q], i0 = ai[q], r1 = ar[q + far], i1 = ai[q + far], dr = r0 - r1, di = i0 - i1;
        br[q] = r0 + r1, bi[q] = i0 + i1;
        br[q + run] = dr * c - di * s, bi[q + run] = dr * s + di * c;
      }
    } else if constexpr (kFactor == 4) {
      const double c1 = cosine[1], s1 = sine[1], c2 = cosine[2], s2 = sine[2], c3 = cosine[3], s3 = sine[3];
      for (int64_t q = 0; q < run; ++q) {
        const double r0 = ar[q], r1 = ar[q + far], r2 = ar[q + 2 * far], r3 = ar[q + 3 * far];
        const double i0 = ai[q], i1 = ai[q + far], i2 = ai[q + 2 * far], i3 = ai[q + 3 * far];
        const double sr = r0 + r2, si = i0 + i2, dr = r0 - r2, di = i0 - i2;
        const double tr = r1 + r3, ti = i1 + i3, er = i1 - i3, ei = r3 - r1;  // (1 - 3) turned back by a quarter
        br[q] = sr + tr, bi[q] = si + ti;
        const double ur = dr + er, ui = di + ei, vr = sr - tr, vi = si - ti, wr = dr - er, wi = di - ei;
        br[q + run] = ur * c1 - ui * s1, bi[q + run] = ur * s1 + ui * c1;
        br[q + 2 * run] = vr * c2 - vi * s2, bi[q + 2 * run] = vr * s2 + vi * c2;
        br[q + 3 * run] = wr * c3 - wi * s3, bi[q + 3 * run] = wr * s3 + wi * c3;
      }
    } else {
      for (int64_t u = 0; u < f; ++u) {
        double cr[kMostFactor], ci[kMostFactor];  // what each entry is turned by
        for (int64_t t = 0; t < f; ++t) {
          const double c = turns[2 * (t * u % f * part)], s = turns[2 * (t * u % f * part) + 1];
          cr[t] = c * cosine[u] - s * sine[u], ci[t] = c * sine[u] + s * cosine[u];
        }
        for (int64_t q = 0; q < run; ++q) {
          double sr = ar[q] * cr[0] - ai[q] * ci[0], si = ar[q] * ci[0] + ai[q] * cr[0];
          for (int64_t t = 1; t < f; ++t) {
            sr += ar[q + t * far] * cr[t] - ai[q + t * far] * ci[t];
            si += ar[q + t * far] * ci[t] + ai[q + t * far] * cr[t];
          }
          br[q + u * run] = sr, bi[q + u * run] = si;
        }
      }
    }
  }
}

// In place, by way of as much scratch.
void transform(const std::vector<int64_t>& factors, int64_t length, const double* turns, int64_t rows, double* re, double* im,
               double* scratch) {
  double *xr = re, *xi = im, *yr = scratch, *yi = scratch + length * rows;
  int64_t n = length, run = rows;
  for (const int64_t f : factors) {
    switch (f) {
      case 2: factor_of<2>(n, run, f, xr, xi, yr, yi, turns, length); break;
      case 3: factor_of<3>(n, run, f, xr, xi, yr, yi, turns, length); break;
      case 4: factor_of<4>(n, run, f, xr, xi, yr, yi, turns, length); break;
      case 5: factor_of<5>(n, run, f, xr, xi, yr, yi, turns, length); break;
      default: factor_of<0>(n, run, f, xr, xi, yr, yi, turns, length);
    }
    std::swap(xr, yr), std::swap(xi, yi);
    n /= f, run *= f;
  }
  if (xr != re) std::copy_n(xr, length * rows, re), std::copy_n(xi, length * rows, im);
}

}  // namespace

LATHE_GIVES_WAY void SpectrumHere(const SpectrumPlan& p, int64_t rows, double* re, double* im, double* scratch) {
  if (p.padded == 0) return transform(p.factors, p.length, p.turns.data(), rows, re, im, scratch);
  // X[j] = chirp[j] * sum over k of (x[k] chirp[k]) conj(chirp[j - k]).
  const auto by_chirp = [&](double factor) {
    for (int64_t k = 0; k < p.length; ++k) {
      const double c = p.chirp[static_cast<size_t>(2 * k)] * factor, s = p.chirp[static_cast<size_t>(2 * k + 1)] * factor;
      for (int64_t q = k * rows; q < (k + 1) * rows; ++q) {
        const double r = re[q], i = im[q];
        re[q] = r * c - i * s, im[q] = r * s + i * c;
      }
    }
  };
  by_chirp(1);
  std::fill(re + p.length * rows, re + p.padded * rows, 0.0), std::fill(im + p.length * rows, im + p.padded * rows, 0.0);
  transform(p.factors, p.padded, p.turns.data(), rows, re, im, scratch);
  for (int64_t k = 0; k < p.padded; ++k) {
    const double c = p.kernel[static_cast<size_t>(2 * k)], s = p.kernel[static_cast<size_t>(2 * k + 1)];
    for (int64_t q = k * rows; q < (k + 1) * rows; ++q) {
      const double r = re[q], i = im[q];
      re[q] = r * c - i * s, im[q] = r * s + i * c;
    }
  }
  transform(p.factors, p.padded, p.turns.data(), rows, im, re, scratch);  // the inverse
  by_chirp(1);
}

}  // namespace lathe::kernels::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace lathe::kernels {
namespace {

// Of fours first; empty where a prime factor is too large.
std::vector<int64_t> factors_of(int64_t n) {
  std::vector<int64_t> factors;
  for (int64_t f : {4, 2, 3, 5, 7, 11, 13}) {
    for (; n % f == 0; n /= f) factors.push_back(f);
  }
  if (n > 1) factors.clear();
  return factors;
}

std::vector<double> turns_of(int64_t n) {
  std::vector<double> turns;
  for (int64_t k = 0; k < n; ++k) {
    const double angle = -2 * std::numbers::pi * static_cast<double>(k) / static_cast<double>(n);
    turns.push_back(std::cos(angle)), turns.push_back(std::sin(angle));
  }
  return turns;
}

}  // namespace

SpectrumPlan plan_spectrum(int64_t length) {
  SpectrumPlan p;
  p.length = length;
  p.factors = factors_of(length);
  if (length == 1 || !p.factors.empty()) {
    p.turns = turns_of(length);
    return p;
  }
  p.padded = 1;
  while (p.padded < 2 * length) p.padded *= 2;
  p.factors = factors_of(p.padded);
  p.turns = turns_of(p.padded);
  std::vector<double> re(static_cast<size_t>(p.padded), 0), im(re), scratch(2 * re.size());
  for (int64_t k = 0; k < length; ++k) {
    // Whole turns are taken off the square, which keeps the angle exact.
    const auto square = static_cast<double>(static_cast<unsigned __int128>(k) * static_cast<unsigned __int128>(k) %
                                            static_cast<unsigned __int128>(2 * length));
    const double angle = -std::numbers::pi * square / static_cast<double>(length), c = std::cos(angle), s = std::sin(angle);
    p.chirp.push_back(c), p.chirp.push_back(s);
    for (const int64_t at : {k, (p.padded - k) % p.padded}) re[static_cast<size_t>(at)] = c, im[static_cast<size_t>(at)] = -s;
  }
  SpectrumPlan whole;
  whole.length = p.padded, whole.factors = p.factors, whole.turns = p.turns;
  spectrum(best())(whole, 1, re.data(), im.data(), scratch.data());
  for (size_t k = 0; k < re.size(); ++k)
    p.kernel.push_back(re[k] / static_cast<double>(p.padded)), p.kernel.push_back(im[k] / static_cast<double>(p.padded));
  return p;
}

int64_t spectrum_scratch(const SpectrumPlan& p, int64_t rows) { return 2 * (p.padded > 0 ? p.padded : p.length) * rows; }

Spectrum spectrum(Isa isa) { return LATHE_SELECT(isa, SpectrumHere); }
}  // namespace lathe::kernels
#endif
