#include "ops/window.hpp"

#include "base/fail.hpp"
#include "graph/dims.hpp"
#include "ops/support.hpp"

namespace lathe::ops {

int64_t Window::taps() const {
  int64_t n = 1;
  for (int64_t k : kernel) {
    if (__builtin_mul_overflow(n, k, &n)) fail(Category::resource, "a window of {} is absurdly large", to_string(kernel));
  }
  return n;
}

Window read_window(const Node& node, std::span<const int64_t> in, std::span<const int64_t> kernel) {
  const size_t n = in.size();
  Window w;
  w.kernel = node.integers("kernel_shape", {kernel.begin(), kernel.end()});
  if (!kernel.empty() && !std::equal(w.kernel.begin(), w.kernel.end(), kernel.begin(), kernel.end())) {
    fail(Category::shape, "kernel_shape is {}, the weights have {}", to_string(w.kernel), to_string(kernel));
  }
  w.strides = node.integers("strides", std::vector<int64_t>(n, 1));
  w.dilations = node.integers("dilations", std::vector<int64_t>(n, 1));
  auto pads = node.integers("pads", std::vector<int64_t>(2 * n, 0));
  const auto want = [&](const std::vector<int64_t>& v, size_t size, const char* name, int64_t least) {
    if (v.size() != size) fail(Category::value, "{} has {} entries, expected {} for {} spatial axes", name, v.size(), size, n);
    for (int64_t e : v) {
      if (e < least || e > (int64_t{1} << 31)) fail(Category::value, "{} holds {}, expected at least {}", name, e, least);
    }
  };
  want(w.kernel, n, "kernel_shape", 1);
  want(w.strides, n, "strides", 1);
  want(w.dilations, n, "dilations", 1);
  want(pads, 2 * n, "pads", 0);
  const std::string mode = node.text("auto_pad", "NOTSET");
  const bool ceil_mode = node.integer("ceil_mode", 0) != 0;
  w.pads_begin.assign(pads.begin(), pads.begin() + n);
  w.pads_end.assign(pads.begin() + n, pads.end());
  w.out.resize(n);
  for (size_t i = 0; i < n; ++i) {
    const int64_t reach = (w.kernel[i] - 1) * w.dilations[i] + 1;
    if (mode == "SAME_UPPER" || mode == "SAME_LOWER") {
      w.out[i] = (in[i] + w.strides[i] - 1) / w.strides[i];
      const int64_t total = std::max<int64_t>(0, (w.out[i] - 1) * w.strides[i] + reach - in[i]);
      w.pads_begin[i] = mode == "SAME_UPPER" ? total / 2 : total - total / 2;
      w.pads_end[i] = total - w.pads_begin[i];
      continue;
    }
    if (mode == "VALID") w.pads_begin[i] = w.pads_end[i] = 0;
    else if (mode != "NOTSET" && !mode.empty())
      fail(Category::value, "auto_pad is '{}', expected NOTSET, SAME_UPPER, SAME_LOWER or VALID", mode);
    const int64_t room = in[i] + w.pads_begin[i] + w.pads_end[i] - reach;
    if (room < 0) {
      if (in[i] == 0) {
        w.out[i] = 0;
        continue;
      }
      fail(Category::shape, "window of {} does not fit into {} with padding {} + {}", reach, in[i], w.pads_begin[i], w.pads_end[i]);
    }
    w.out[i] = room / w.strides[i] + 1;
    if (ceil_mode && room % w.strides[i] != 0) {
      ++w.out[i];
      // A window that starts in the padding after the end sees nothing.
      if ((w.out[i] - 1) * w.strides[i] >= in[i] + w.pads_begin[i]) --w.out[i];
    }
  }
  return w;
}

Dims window_dims(const Node& node, std::span<const Dim> in, std::span<const int64_t> kernel) {
  // Axes do not depend on one another: known ones are worked out with a size for the unknown that surely fits.
  std::vector<int64_t> sizes;
  for (const Dim& d : in) sizes.push_back(d.known() ? d.value : int64_t{1} << 20);
  const Window w = read_window(node, sizes, kernel);
  Dims out;
  for (size_t i = 0; i < in.size(); ++i) {
    const int64_t reach = (w.kernel[i] - 1) * w.dilations[i] + 1;
    const std::string mode = node.text("auto_pad", "NOTSET");
    if (in[i].known()) {
      out.emplace_back(w.out[i]);
    } else if (mode == "SAME_UPPER" || mode == "SAME_LOWER") {
      out.push_back(quotient(sum(in[i], Dim(w.strides[i] - 1)), w.strides[i]));
    } else if (node.integer("ceil_mode", 0) != 0 && w.strides[i] != 1) {
      out.emplace_back();  // a last window may begin in the padding
    } else {
      const int64_t more = w.pads_begin[i] + w.pads_end[i] - reach;
      const Dim room = more >= 0 ? sum(in[i], Dim(more)) : difference(in[i], Dim(-more));
      out.push_back(sum(quotient(room, w.strides[i]), Dim(1)));
    }
  }
  return out;
}

std::vector<int64_t> window_table(const Window& w, int axis, int64_t in) {
  int64_t entries = 0;
  if (__builtin_mul_overflow(w.out[axis], w.kernel[axis], &entries))
    fail(Category::resource, "a window of {} at {} places is absurdly large", w.kernel[axis], w.out[axis]);
  check_plain_size(entries);
  std::vector<int64_t> table(entries);
  for (int64_t o = 0; o < w.out[axis]; ++o) {
    for (int64_t k = 0; k < w.kernel[axis]; ++k) {
      const int64_t at = o * w.strides[axis] + k * w.dilations[axis] - w.pads_begin[axis];
      table[o * w.kernel[axis] + k] = at >= 0 && at < in ? at : -1;
    }
  }
  return table;
}

}  // namespace lathe::ops
