// Rows of a tape's operand, copied side by side so that one call can take several.
#pragma once

#include <cstdint>

#include "kernels/tape.hpp"

namespace lathe::kernels {

// `rows` rows of `columns` elements of the operand, which stand row_stride apart; `to` holds them one after another, aligned to the
// element.
void copy_rows(const TapeOperand& operand, int64_t row_stride, int64_t rows, int64_t columns, char* to);

}  // namespace lathe::kernels
