// Inputs that were made in another way.
#include <algorithm>
#include <charconv>
#include <numeric>

#include "base/fail.hpp"
#include "parity/suspects.hpp"
#include "tensor/widen.hpp"

namespace lathe::parting {
namespace {

Tensor mirrored(const Tensor& t, size_t axis) {
  const Shape& s = t.shape();
  int64_t inner = 1, outer = 1;
  for (size_t i = 0; i < s.size(); ++i) (i < axis ? outer : inner) *= i == axis ? 1 : s[i];
  return with_wide(t.dtype(), [&](auto wide) {
    using T = decltype(wide);
    const auto from = widen<T>(t);
    std::vector<T> to(from.size());
    for (int64_t o = 0; o < outer; ++o) {
      for (int64_t k = 0; k < s[axis]; ++k) {
        for (int64_t i = 0; i < inner; ++i)
          to[static_cast<size_t>((o * s[axis] + k) * inner + i)] = from[static_cast<size_t>((o * s[axis] + s[axis] - 1 - k) * inner + i)];
      }
    }
    return narrow<T>(t.dtype(), s, to);
  });
}

std::vector<int64_t> swapped_axes(size_t rank, size_t a, size_t b) {
  std::vector<int64_t> order(rank);
  std::iota(order.begin(), order.end(), 0);
  std::swap(order[a], order[b]);
  return order;
}

// The axis of a picture's channels.
std::optional<size_t> channel_axis(const Shape& s) {
  if (s.size() != 3 && s.size() != 4) return std::nullopt;
  const size_t first = s.size() - 3, last = s.size() - 1;
  const auto few = [&](size_t axis) { return s[axis] == 1 || s[axis] == 3 || s[axis] == 4; };
  if (few(first)) return first;
  if (few(last)) return last;
  return std::nullopt;
}

// Each element of channel c becomes v * scale[c] + offset[c].
Tensor affine(const Tensor& t, size_t axis, const std::vector<double>& scale, const std::vector<double>& offset) {
  int64_t inner = 1;
  for (size_t i = axis + 1; i < t.shape().size(); ++i) inner *= t.shape()[i];
  const int64_t channels = t.shape()[axis];
  auto v = widen<double>(t);
  for (size_t i = 0; i < v.size(); ++i) {
    const auto c = static_cast<size_t>(static_cast<int64_t>(i) / inner % channels);
    v[i] = v[i] * scale[c % scale.size()] + offset[c % offset.size()];
  }
  return narrow<double>(t.dtype(), t.shape(), v);
}

std::vector<double> numbers_in(const std::map<std::string, std::string>& metadata, const char* key) {
  std::vector<double> out;
  const auto it = metadata.find(key);
  if (it == metadata.end()) return out;
  const char *at = it->second.data(), *end = at + it->second.size();
  while (at < end) {
    double v = 0;
    const auto [next, error] = std::from_chars(at, end, v);
    if (error != std::errc()) return {};
    out.push_back(v);
    at = next;
    while (at < end && (*at == ',' || *at == ' ')) ++at;
  }
  return out;
}

}  // namespace

std::vector<InputChange> moved(const std::string& name, const Tensor& given, const std::optional<Dims>& dims) {
  std::vector<InputChange> out;
  if (given.composite() || given.dtype() == DType::string || bit_width(given.dtype()) < 8) return out;
  const Shape& s = given.shape();
  const auto order = [&](const std::string& what, std::vector<int64_t> axes) {
    out.push_back({what, [axes = std::move(axes)](const Tensor& t) { return transposed(t, axes); }});
  };
  if (!fits(s, dims)) {  // as it is, it is no input of the model: what makes it one?
    std::vector<int64_t> axes(s.size());
    std::iota(axes.begin(), axes.end(), 0);
    while (s.size() <= 5 && std::next_permutation(axes.begin(), axes.end())) {
      Shape there;
      for (int64_t a : axes) there.push_back(s[static_cast<size_t>(a)]);
      if (fits(there, dims)) order(fmt::format("'{}' transposed to {}", name, to_string(there)), axes);
    }
    return out;
  }
  const auto axis = channel_axis(s);
  if (axis) {
    const bool first = *axis == s.size() - 3;
    const size_t h = first ? s.size() - 2 : s.size() - 3, w = first ? s.size() - 1 : s.size() - 2;
    const int64_t channels = s[*axis];
    if (channels == 3) {
      out.push_back(
          {fmt::format("first and third channel of '{}' swapped", name), [axis = *axis](const Tensor& t) { return mirrored(t, axis); }});
    }
    // Its elements are in the other layout, whatever its shape says.
    if (channels > 1) {
      Shape other = s;
      std::vector<int64_t> back(s.size());
      std::iota(back.begin(), back.end(), 0);
      const size_t at = s.size() - 3;
      if (first) {  // lies as H x W x C
        other[at] = s[h], other[at + 1] = s[w], other[at + 2] = channels;
        back[at] = static_cast<int64_t>(at + 2), back[at + 1] = static_cast<int64_t>(at), back[at + 2] = static_cast<int64_t>(at + 1);
      } else {  // lies as C x H x W
        other[at] = channels, other[at + 1] = s[h], other[at + 2] = s[w];
        back[at] = static_cast<int64_t>(at + 1), back[at + 1] = static_cast<int64_t>(at + 2), back[at + 2] = static_cast<int64_t>(at);
      }
      out.push_back(
          {fmt::format("'{}' is channels-{} in memory, fed as channels-{}", name, first ? "last" : "first", first ? "first" : "last"),
           [other, back](const Tensor& t) { return transposed(t.reshaped(other), back); }});
    }
    Shape turned = s;
    std::swap(turned[h], turned[w]);
    const std::vector<int64_t> swap = swapped_axes(s.size(), h, w);
    if (s[h] != s[w]) {
      out.push_back({fmt::format("height and width of '{}' swapped in memory", name),
                     [turned, swap](const Tensor& t) { return transposed(t.reshaped(turned), swap); }});
    }
    if (fits(turned, dims)) order(fmt::format("height and width of '{}' swapped", name), swap);
    out.push_back({fmt::format("'{}' upside down", name), [h](const Tensor& t) { return mirrored(t, h); }});
    out.push_back({fmt::format("'{}' mirrored, left for right", name), [w](const Tensor& t) { return mirrored(t, w); }});
  }
  if (s.size() >= 2 && !(axis && s.size() == 4)) {
    Shape other = s;
    std::swap(other[0], other[1]);
    const std::vector<int64_t> swap = swapped_axes(s.size(), 0, 1);
    const bool pays = s[0] > 1 && s[1] > 1;
    if (pays && s[0] != s[1]) {
      out.push_back({fmt::format("first and second axis of '{}' swapped in memory (the batch in the wrong place)", name),
                     [other, swap](const Tensor& t) { return transposed(t.reshaped(other), swap); }});
    }
    if (pays && fits(other, dims)) order(fmt::format("first and second axis of '{}' swapped (the batch in the wrong place)", name), swap);
  }
  return out;
}

std::vector<InputChange> rescaled(const std::string& name, const Tensor& given, const std::map<std::string, std::string>& metadata) {
  std::vector<InputChange> out;
  if (given.composite() || !is_float(given.dtype()) || bit_width(given.dtype()) < 16 || given.rank() == 0) return out;
  const auto axis = channel_axis(given.shape());
  const size_t at = axis.value_or(static_cast<size_t>(given.rank()) - 1);
  const auto both = [&](const std::string& what, const std::string& undone, std::vector<double> scale, std::vector<double> offset) {
    std::vector<double> back_scale, back_offset;
    const size_t n = std::max(scale.size(), offset.size());
    for (size_t c = 0; c < n; ++c) {
      const double a = scale[c % scale.size()], b = offset[c % offset.size()];
      back_scale.push_back(1 / a);
      back_offset.push_back(-b / a);
    }
    out.push_back({what, [=](const Tensor& t) { return affine(t, at, scale, offset); }});
    out.push_back({undone, [=](const Tensor& t) { return affine(t, at, back_scale, back_offset); }});
  };
  // (v - mean) * scale.
  const auto normalised = [&](const std::string& what, const std::vector<double>& mean, const std::vector<double>& scale, double unit) {
    std::vector<double> a, b;
    const size_t n = std::max(mean.size(), scale.size());
    for (size_t c = 0; c < n; ++c) {
      a.push_back(scale[c % scale.size()] / unit);
      b.push_back(-mean[c % mean.size()] * scale[c % scale.size()]);
    }
    both(fmt::format("{} of '{}' left out", what, name), fmt::format("{} of '{}' applied twice, or where it should not be", what, name), a,
         b);
  };
  const std::vector<double> mean = numbers_in(metadata, "mean"), scale = numbers_in(metadata, "scale");
  if (!mean.empty() || !scale.empty())
    normalised("the mean and scale of the model's metadata", mean.empty() ? std::vector<double>{0} : mean,
               scale.empty() ? std::vector<double>{1} : scale, 1);
  both(fmt::format("'{}' from 0 to 255 where 0 to 1 is meant", name), fmt::format("'{}' from 0 to 1 where 0 to 255 is meant", name),
       {1 / 255.0}, {0});
  both(fmt::format("'{}' from 0 to 1 where -1 to 1 is meant", name), fmt::format("'{}' from -1 to 1 where 0 to 1 is meant", name), {2},
       {-1});
  both(fmt::format("'{}' from 0 to 255 where -1 to 1 is meant", name), fmt::format("'{}' from -1 to 1 where 0 to 255 is meant", name),
       {1 / 127.5}, {-1});
  if (axis && given.shape()[*axis] == 3) {
    // Means and deviations of everyday photographs, as they are used for pictures from 0 to 1 and from 0 to 255.
    const std::vector<double> m{0.485, 0.456, 0.406}, s{1 / 0.229, 1 / 0.224, 1 / 0.225};
    const std::vector<double> bytes{123.675, 116.28, 103.53}, wide{1 / 58.395, 1 / 57.12, 1 / 57.375}, other{123.68, 116.779, 103.939};
    normalised("mean 0.485, 0.456, 0.406 and deviation 0.229, 0.224, 0.225", m, s, 1);
    normalised("mean 123.675, 116.28, 103.53 and deviation 58.395, 57.12, 57.375", bytes, wide, 1);
    normalised("mean 123.68, 116.779, 103.939", other, {1}, 1);
    normalised("mean 103.939, 116.779, 123.68", {103.939, 116.779, 123.68}, {1}, 1);
    normalised("mean 127.5", {127.5}, {1}, 1);
    normalised("mean 0.5", {0.5}, {1}, 1);
  }
  return out;
}

}  // namespace lathe::parting
