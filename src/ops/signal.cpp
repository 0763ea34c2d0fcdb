// Signal ops: discrete Fourier transforms, windows, the mel scale. Source: the standard's pages.
#include <algorithm>
#include <cmath>
#include <complex>
#include <map>

#include "ops/support.hpp"
#include "tensor/numbers.hpp"

namespace lathe::ops {
namespace {

using Complex = std::complex<double>;

// In place. Powers of two by halving; other lengths as a convolution of a power of two (the chirp transform).
void transform(std::vector<Complex>& x, bool inverse);

void radix2(std::vector<Complex>& x, bool inverse) {
  const size_t n = x.size();
  for (size_t i = 1, j = 0; i < n; ++i) {
    size_t bit = n >> 1;
    for (; j & bit; bit >>= 1) j ^= bit;
    j ^= bit;
    if (i < j) std::swap(x[i], x[j]);
  }
  for (size_t length = 2; length <= n; length <<= 1) {
    const double angle = (inverse ? 2 : -2) * M_PI / static_cast<double>(length);
    for (size_t i = 0; i < length / 2; ++i) {
      const Complex w = std::polar(1.0, angle * static_cast<double>(i));
      for (size_t k = i; k < n; k += length) {
        const Complex u = x[k], v = x[k + length / 2] * w;
        x[k] = u + v;
        x[k + length / 2] = u - v;
      }
    }
  }
}

void transform(std::vector<Complex>& x, bool inverse) {
  const size_t n = x.size();
  if (n < 2) return;
  if ((n & (n - 1)) == 0) return radix2(x, inverse);
  size_t m = 1;
  while (m < 2 * n) m <<= 1;
  std::vector<Complex> chirp(n), a(m), b(m);
  for (size_t i = 0; i < n; ++i) {
    const auto square = static_cast<unsigned __int128>(i) * i % (2 * n);  // keeps the angle exact for long signals
    chirp[i] = std::polar(1.0, (inverse ? 1 : -1) * M_PI * static_cast<double>(static_cast<uint64_t>(square)) / static_cast<double>(n));
    a[i] = x[i] * chirp[i];
    b[i] = std::conj(chirp[i]);
    if (i > 0) b[m - i] = b[i];
  }
  radix2(a, false);
  radix2(b, false);
  for (size_t i = 0; i < m; ++i) a[i] *= b[i];
  radix2(a, true);
  for (size_t i = 0; i < n; ++i) x[i] = a[i] / static_cast<double>(m) * chirp[i];
}

struct DftForm {
  int64_t axis, in, length, out;
  bool inverse, onesided;
};

DftForm dft_form(const Node& n, int version, const Shape& x, std::optional<int64_t> length, std::optional<int64_t> axis_input) {
  DftForm f{};
  const int64_t rank = static_cast<int64_t>(x.size());
  if (rank < 2 || (x.back() != 1 && x.back() != 2))
    fail(Category::shape, "input is {}, expected a last dim of 1 (real) or 2 (complex)", to_string(x));
  f.axis = wrap_axis(version < 20 ? n.integer("axis", 1) : axis_input.value_or(-2), rank);
  if (f.axis == rank - 1) fail(Category::value, "axis {} is the one that holds real and imaginary parts", f.axis);
  f.in = x[f.axis];
  f.inverse = n.integer("inverse", 0) != 0;
  f.onesided = n.integer("onesided", 0) != 0;
  // The inverse of a one-sided transform gives a real signal; its input has length / 2 + 1 entries.
  f.length = length.value_or(f.inverse && f.onesided ? 2 * (f.in - 1) : f.in);
  if (f.length < 1) fail(Category::value, "dft_length is {}, expected at least 1", f.length);
  f.out = f.onesided && !f.inverse ? f.length / 2 + 1 : f.length;
  return f;
}

std::vector<Tensor> dft(const EvalContext& c) {
  const Tensor& x = c.in(0);
  const DftForm f = dft_form(c.node, c.version, x.shape(), c.has(1) ? std::optional(one_integer(c, 1)) : std::nullopt,
                             c.has(2) ? std::optional(one_integer(c, 2)) : std::nullopt);
  const bool complex = x.shape().back() == 2, real_out = f.inverse && f.onesided;
  Shape shape = x.shape();
  shape[f.axis] = f.out;
  shape.back() = real_out ? 1 : 2;
  check_plain_size(element_count(shape));
  check_plain_size(f.length);
  const auto v = widen<double>(x);
  std::vector<double> y(element_count(shape));
  const int64_t parts = x.shape().back(), to = shape.back();
  const int64_t inner = strides_of(x.shape())[f.axis] / parts, outer = element_count(std::span<const int64_t>(x.shape()).first(f.axis));
  std::vector<Complex> line(f.length);
  for (int64_t o = 0; o < outer; ++o) {
    for (int64_t i = 0; i < inner; ++i) {
      std::fill(line.begin(), line.end(), Complex());
      for (int64_t k = 0; k < std::min(f.in, f.length); ++k) {
        const double* p = v.data() + ((o * f.in + k) * inner + i) * parts;
        line[k] = {p[0], complex ? p[1] : 0};
      }
      if (real_out) {  // the half that was left out mirrors the one that is there
        for (int64_t k = f.length / 2 + 1; k < f.length; ++k) line[k] = std::conj(line[f.length - k]);
      }
      transform(line, f.inverse);
      for (int64_t k = 0; k < f.out; ++k) {
        double* p = y.data() + ((o * f.out + k) * inner + i) * to;
        const Complex e = f.inverse ? line[k] / static_cast<double>(f.length) : line[k];
        p[0] = e.real();
        if (to == 2) p[1] = e.imag();
      }
    }
  }
  return {narrow<double>(x.dtype(), shape, y)};
}

void infer_dft(InferContext& c) {
  need(c, 0, standard_float, "a floating type");
  const auto length = c.has(1) ? c.integers(1) : std::vector<int64_t>(), axis = c.has(2) ? c.integers(2) : std::vector<int64_t>();
  if (!c.dims(0) || !axis) return c.set(0, c.dtype(0), c.dims(0) ? std::optional<Dims>(Dims(c.rank(0))) : std::nullopt);
  Shape probe;
  for (const Dim& d : *c.dims(0)) probe.push_back(d.known() ? d.value : 4);
  if (!c.dims(0)->empty() && !c.dims(0)->back().known()) probe.back() = 2;
  const bool given = length && !length->empty();
  if (c.has(1) && !given) {  // only known at run time: any that fits will do here
    const int64_t at = wrap_axis(c.version() < 20 ? c.node().integer("axis", 1) : axis->empty() ? -2 : (*axis)[0], c.rank(0));
    probe[at] = std::max<int64_t>(probe[at], 4);
  }
  const DftForm f = dft_form(c.node(), c.version(), probe, given ? std::optional((*length)[0]) : std::nullopt,
                             axis->empty() ? std::nullopt : std::optional((*axis)[0]));
  Dims out = *c.dims(0);
  const bool known = given || (!c.has(1) && out[f.axis].known());
  out[f.axis] = known ? Dim(f.out) : Dim();
  out.back() = Dim(f.inverse && f.onesided ? 1 : 2);
  c.set(0, c.dtype(0), out);
}

// Signal batch x length x 1 (or 2), cut into frames, windowed, transformed.
struct StftForm {
  int64_t batch, length, parts, step, frame, frames, bins;
};

std::vector<Tensor> stft(const EvalContext& c) {
  const Tensor& x = c.in(0);
  if (x.rank() != 2 && x.rank() != 3) fail(Category::shape, "the signal is {}, expected batch x length x 1 or 2", to_string(x.shape()));
  StftForm f{x.shape()[0], x.shape()[1], x.rank() == 3 ? x.shape()[2] : 1, one_integer(c, 1), 0, 0, 0};
  if (f.parts != 1 && f.parts != 2) fail(Category::shape, "the signal is {}, expected a last dim of 1 or 2", to_string(x.shape()));
  const auto window = c.has(2) ? widen<double>(c.in(2)) : std::vector<double>();
  f.frame = c.has(3) ? one_integer(c, 3) : static_cast<int64_t>(window.size());
  if (f.frame < 1 || f.step < 1 || f.frame > f.length)
    fail(Category::value, "frame_step {} and frame_length {} do not fit a signal of {}", f.step, f.frame, f.length);
  if (!window.empty() && static_cast<int64_t>(window.size()) > f.frame)
    fail(Category::shape, "the window has {} entries, the frame {}", window.size(), f.frame);
  const bool onesided = c.node.integer("onesided", 1) != 0;
  if (onesided && f.parts == 2) fail(Category::value, "a one-sided transform takes a real signal");
  f.frames = (f.length - f.frame) / f.step + 1;
  f.bins = onesided ? f.frame / 2 + 1 : f.frame;
  check_plain_size(f.batch * f.frames * f.bins * 2);
  const auto v = widen<double>(x);
  std::vector<double> y;
  y.reserve(f.batch * f.frames * f.bins * 2);
  // A window shorter than the frame stands in its middle.
  const int64_t shift = window.empty() ? 0 : (f.frame - static_cast<int64_t>(window.size())) / 2;
  std::vector<Complex> line(f.frame);
  for (int64_t b = 0; b < f.batch; ++b) {
    for (int64_t t = 0; t < f.frames; ++t) {
      for (int64_t k = 0; k < f.frame; ++k) {
        const double* p = v.data() + (b * f.length + t * f.step + k) * f.parts;
        const int64_t at = k - shift;
        const double w = window.empty() ? 1 : at < 0 || at >= static_cast<int64_t>(window.size()) ? 0 : window[at];
        line[k] = Complex{p[0], f.parts == 2 ? p[1] : 0} * w;
      }
      transform(line, false);
      for (int64_t k = 0; k < f.bins; ++k) y.insert(y.end(), {line[k].real(), line[k].imag()});
    }
  }
  return {narrow<double>(x.dtype(), Shape{f.batch, f.frames, f.bins, 2}, y)};
}

void infer_stft(InferContext& c) {
  need(c, 0, standard_float, "a floating type");
  Dims out{c.rank(0) >= 1 ? (*c.dims(0))[0] : Dim(), Dim(), Dim(), Dim(2)};
  const auto step = c.integers(1);
  Dim frame;
  if (c.has(3)) {
    const auto f = c.integers(3);
    if (f && f->size() == 1) frame = Dim((*f)[0]);
  } else if (c.rank(2) == 1) {
    frame = (*c.dims(2))[0];
  }
  if (frame.known()) out[2] = Dim(c.node().integer("onesided", 1) ? frame.value / 2 + 1 : frame.value);
  if (frame.known() && step && step->size() == 1 && (*step)[0] > 0 && c.rank(0) >= 2 && (*c.dims(0))[1].known() &&
      (*c.dims(0))[1].value >= frame.value)
    out[1] = Dim(((*c.dims(0))[1].value - frame.value) / (*step)[0] + 1);
  c.set(0, c.dtype(0), out);
}

DType output_type(const Node& n) {
  const DType d = dtype_of_number(n.integer("output_datatype", 1));
  if (!numeric(d)) fail(Category::type, "output_datatype {} is not a number", n.integer("output_datatype", 1));
  return d;
}

// Sum of cosines with these coefficients over the window; periodic windows leave the last point out.
OpDef window(const char* name, std::vector<double> coefficients) {
  return def(
      name, 17, 1, 1, Trait::opaque,
      [](InferContext& c) {
        const auto n = c.integers(0);
        c.set(0, output_type(c.node()), Dims{n && n->size() == 1 && (*n)[0] >= 0 ? Dim((*n)[0]) : Dim()});
      },
      [coefficients](const EvalContext& c) -> std::vector<Tensor> {
        const int64_t n = one_integer(c, 0);
        if (n < 0) fail(Category::value, "size is {}", n);
        check_plain_size(n);
        const double period = static_cast<double>(c.node.integer("periodic", 1) ? n : n - 1);
        std::vector<double> w(n);
        for (int64_t i = 0; i < n; ++i) {
          double sign = 1;
          for (size_t k = 0; k < coefficients.size(); ++k, sign = -sign)
            w[i] +=
                sign * coefficients[k] * (period > 0 ? std::cos(2 * M_PI * static_cast<double>(k) * static_cast<double>(i) / period) : 1);
        }
        return {narrow<double>(output_type(c.node), Shape{n}, w)};
      });
}

// Triangles on the mel scale, mel = 2595 log10(1 + f / 700), over the bins of a transform.
std::vector<Tensor> mel_weights(const EvalContext& c) {
  const int64_t bands = one_integer(c, 0), length = one_integer(c, 1), rate = one_integer(c, 2);
  const double low = one_real(c, 3), high = one_real(c, 4);
  if (bands < 1 || length < 2 || rate < 1 || !(low >= 0 && high > low))
    fail(Category::value, "mel bands {}, dft_length {}, sample rate {} and edges {}..{} make no filter bank", bands, length, rate, low,
         high);
  const int64_t bins = length / 2 + 1;
  check_plain_size(bands);
  check_plain_size(bands * bins);
  const auto mel = [](double f) { return 2595 * std::log10(1 + f / 700); };
  const double step = (mel(high) - mel(low)) / static_cast<double>(bands + 2);
  std::vector<int64_t> edge(bands + 2);
  for (int64_t i = 0; i < bands + 2; ++i) {
    const double hertz = 700 * (std::pow(10, (static_cast<double>(i) * step + mel(low)) / 2595) - 1);
    edge[i] = static_cast<int64_t>(std::floor(static_cast<double>(length + 1) * hertz / static_cast<double>(rate)));
  }
  std::vector<double> w(bins * bands, 0);
  for (int64_t b = 0; b < bands; ++b) {
    const int64_t from = edge[b], top = edge[b + 1], to = edge[b + 2];
    const auto put = [&](int64_t k, double v) {
      if (k >= 0 && k < bins) w[k * bands + b] = v;
    };
    if (top == from) put(top, 1);
    else {
      for (int64_t k = from; k <= top; ++k) put(k, static_cast<double>(k - from) / static_cast<double>(top - from));
    }
    for (int64_t k = top; k < to; ++k) put(k, static_cast<double>(to - k) / static_cast<double>(to - top));
  }
  return {narrow<double>(output_type(c.node), Shape{bins, bands}, w)};
}

}  // namespace

void add_signal(std::vector<OpDef>& out) {
  out.push_back(def("DFT", 17, 1, 2, Trait::opaque, infer_dft, dft));
  out.push_back(def("DFT", 20, 1, 3, Trait::opaque, infer_dft, dft));
  out.push_back(def("STFT", 17, 2, 4, Trait::opaque, infer_stft, stft));
  out.push_back(window("HannWindow", {0.5, 0.5}));
  out.push_back(window("HammingWindow", {25.0 / 46, 21.0 / 46}));
  out.push_back(window("BlackmanWindow", {0.42, 0.5, 0.08}));
  out.push_back(def(
      "MelWeightMatrix", 17, 5, 5, Trait::opaque,
      [](InferContext& c) {
        const auto bands = c.integers(0), length = c.integers(1);
        c.set(0, output_type(c.node()),
              Dims{length && length->size() == 1 ? Dim((*length)[0] / 2 + 1) : Dim(),
                   bands && bands->size() == 1 ? Dim((*bands)[0]) : Dim()});
      },
      mel_weights));
}

}  // namespace lathe::ops
