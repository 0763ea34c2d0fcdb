// Shared by the tests of step families: every instruction set, several thread counts.
#pragma once

#include "kernels/isa.hpp"
#include "support.hpp"

namespace test {

inline Tensor bytes_tensor(DType dtype, const Shape& shape, std::mt19937_64& random) {
  Tensor t(dtype, shape);
  auto* p = static_cast<uint8_t*>(t.data());
  for (size_t i = 0; i < t.byte_size(); ++i) p[i] = static_cast<uint8_t>(random());
  return t;
}

inline Tensor byte_scalar(DType dtype, int v) {
  Tensor t(dtype, {});
  *static_cast<uint8_t*>(t.data()) = static_cast<uint8_t>(v);
  return t;
}

inline int64_t between(std::mt19937_64& random, int64_t low, int64_t high) {
  return low + static_cast<int64_t>(random() % static_cast<uint64_t>(high - low + 1));
}

// One random graph through every instruction set, on 1 and 3 threads.
template <typename Check>
void everywhere(const Graph& g, Check check) {
  for (kernels::Isa isa : kernels::available()) {
    for (int threads : {1, 3}) {
      CAPTURE(std::string(kernels::name(isa)));
      CAPTURE(threads);
      check(g, CompileOptions{.threads = threads, .isa = std::string(kernels::name(isa))});
    }
  }
}

inline std::string step_kinds(const Graph& g) {
  std::string all;
  for (const StepInfo& s : compile(g, {.threads = 1}).describe().steps) all += s.kind + " ";
  return all;
}

}  // namespace test
