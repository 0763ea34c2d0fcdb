// What recipes are chosen for: the machine, and what it does in a second.
#pragma once

#include <compare>
#include <cstdint>

#include "kernels/isa.hpp"

namespace lathe::lower {

// Of one thread. They only tell orders of magnitude apart: a step from its neighbour, near memory from far, a task from the cost of handing
// it out. Remembered by instruction set rather than measured at each start, so that a model compiles to the same steps every time;
// bench/rates.cpp measures them on the machine at hand, beside what is remembered.
struct Rates {
  double flops = 50e9;           // a second; a multiply-add counts two
  double near_bandwidth = 60e9;  // bytes a second, written and read again in L2
  double far_bandwidth = 10e9;   // the same beyond it
  double call = 6e-9;            // seconds: a kernel called for a row
  double fork = 2e-6;            // seconds until other threads have begun their tasks, and are back
  auto operator<=>(const Rates&) const = default;
};
Rates remembered_rates(kernels::Isa isa);

struct Machine {
  kernels::Isa isa = kernels::Isa::scalar;
  int threads = 1;
  int64_t block_bytes = 512 << 10;  // of packed weights, how many are passed over together (an L2 block)
  Rates rates;
  auto operator<=>(const Machine&) const = default;
};

// The block_bytes that suit the machine at hand.
int64_t l2_block_bytes();

}  // namespace lathe::lower
