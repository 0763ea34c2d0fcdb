// The standard's numbers for element types: in files, and in the attributes of casts.
#pragma once

#include "lathe/dtype.hpp"

namespace lathe {

// undefined for numbers that are not known.
DType dtype_of_number(int64_t number);
int number_of_dtype(DType dtype);

}  // namespace lathe
