// Forms of families for other numbers than f32, each in a file of its own.
#pragma once

#include "lower/recipe/step_family.hpp"

namespace lathe::lower {

const StepFamily& product_of_doubles();      // product_f64.cpp: MatMul, Gemm
const StepFamily& convolution_of_doubles();  // product_f64.cpp: Conv
const StepFamily& wide_reductions();         // reduction_wide.cpp

}  // namespace lathe::lower
