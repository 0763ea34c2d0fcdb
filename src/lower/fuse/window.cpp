#include "lower/fuse/window.hpp"

namespace lathe::lower {

WindowTables window_tables(const ops::Window& w, std::span<const int64_t> in, std::span<const int64_t> strides) {
  const int missing = 3 - w.axes();
  int64_t outs[3] = {1, 1, 1}, kernel[3] = {1, 1, 1};
  std::vector<int64_t> tables[3];
  for (int a = 0; a < missing; ++a) tables[a] = {0};
  for (int a = w.axes() - 1; a >= 0; --a) {
    tables[a + missing] = ops::window_table(w, a, in[a]);
    for (int64_t& at : tables[a + missing]) at = at < 0 ? -1 : at * strides[a + 2];
    outs[a + missing] = w.out[a];
    kernel[a + missing] = w.kernel[a];
  }
  WindowTables t{std::move(tables[0]), std::move(tables[1]), std::move(tables[2]), {}};
  t.shape.image_stride = strides[0];
  t.shape.out_d = outs[0], t.shape.out_h = outs[1], t.shape.out_w = outs[2];
  t.shape.kd = kernel[0], t.shape.kh = kernel[1], t.shape.kw = kernel[2];
  return t;
}

}  // namespace lathe::lower
