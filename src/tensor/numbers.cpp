#include "tensor/numbers.hpp"

#include <iterator>

namespace lathe {
namespace {

constexpr DType kNumbers[] = {
    DType::undefined,  DType::f32,    DType::u8,         DType::i8,  DType::u16, DType::i16,    DType::i32,    DType::i64,  DType::string,
    DType::boolean,    DType::f16,    DType::f64,        DType::u32, DType::u64, DType::c64,    DType::c128,   DType::bf16, DType::f8e4m3fn,
    DType::f8e4m3fnuz, DType::f8e5m2, DType::f8e5m2fnuz, DType::u4,  DType::i4,  DType::f4e2m1, DType::f8e8m0,
};

}  // namespace

DType dtype_of_number(int64_t number) {
  return number >= 0 && number < static_cast<int64_t>(std::size(kNumbers)) ? kNumbers[number] : DType::undefined;
}

int number_of_dtype(DType dtype) {
  for (int i = 0; i < static_cast<int>(std::size(kNumbers)); ++i) {
    if (kNumbers[i] == dtype) return i;
  }
  return 0;
}

}  // namespace lathe
