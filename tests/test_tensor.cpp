// Tensors and number formats.
#include <cmath>
#include <limits>

#include "support.hpp"

using namespace test;

TEST_CASE("every f16 code survives the way through double") {
  for (uint32_t bits = 0; bits < 65536; ++bits) {
    const double v = decode_narrow(DType::f16, bits);
    if (std::isnan(v)) CHECK(std::isnan(decode_narrow(DType::f16, encode_narrow(DType::f16, v))));
    else REQUIRE(encode_narrow(DType::f16, v) == bits);
  }
}

TEST_CASE("every 8-bit float code survives the way through double") {
  for (DType d : {DType::f8e4m3fn, DType::f8e4m3fnuz, DType::f8e5m2, DType::f8e5m2fnuz}) {
    for (uint32_t bits = 0; bits < 256; ++bits) {
      const double v = decode_narrow(d, bits);
      INFO(std::string(to_string(d)), " code ", bits);
      if (std::isnan(v)) CHECK(std::isnan(decode_narrow(d, encode_narrow(d, v))));
      else if (std::isinf(v)) CHECK(encode_narrow(d, v, false) == bits);
      else CHECK(encode_narrow(d, v) == bits);
    }
  }
}

TEST_CASE("narrow floats round to nearest even and saturate") {
  CHECK(decode_narrow(DType::f16, encode_narrow(DType::f16, 2049.0)) == 2048.0);  // tie: to even
  CHECK(decode_narrow(DType::f16, encode_narrow(DType::f16, 2051.0)) == 2052.0);
  CHECK(std::isinf(decode_narrow(DType::f16, encode_narrow(DType::f16, 65520.0))));
  CHECK(decode_narrow(DType::f16, encode_narrow(DType::f16, 65519.0)) == 65504.0);
  CHECK(decode_narrow(DType::bf16, encode_narrow(DType::bf16, 1.00390625)) == 1.0);
  CHECK(decode_narrow(DType::f8e4m3fn, encode_narrow(DType::f8e4m3fn, 1e6)) == 448.0);
  CHECK(std::isnan(decode_narrow(DType::f8e4m3fn, encode_narrow(DType::f8e4m3fn, 1e6, false))));
  CHECK(decode_narrow(DType::f8e5m2, encode_narrow(DType::f8e5m2, -1e9)) == -57344.0);
  CHECK(encode_narrow(DType::f8e4m3fnuz, -0.0) == 0);  // no negative zero
  CHECK(decode_narrow(DType::f4e2m1, encode_narrow(DType::f4e2m1, 100.0)) == 6.0);
  CHECK(decode_narrow(DType::f16, encode_narrow(DType::f16, 5.960464477539063e-08)) == 5.960464477539063e-08);  // denormal
}

TEST_CASE("tensors own, borrow, share and reshape") {
  float memory[6] = {1, 2, 3, 4, 5, 6};
  Tensor view = Tensor::borrow(DType::f32, {2, 3}, memory);
  CHECK(view.as<float>()[4] == 5);
  Tensor copy = view.clone();
  memory[4] = 50;
  CHECK(view.as<float>()[4] == 50);
  CHECK(copy.as<float>()[4] == 5);
  CHECK(copy.reshaped({3, 2}).shape() == Shape{3, 2});
  CHECK(has(error_of([&] { copy.reshaped({4, 2}); }), "2x3"));
  CHECK(has(error_of([&] { copy.as<double>(); }), "asked for as f64"));
  CHECK(reinterpret_cast<uintptr_t>(copy.data()) % 64 == 0);
  CHECK(identical(copy, Tensor::from<float>({2, 3}, {1, 2, 3, 4, 5, 6})));
  CHECK_FALSE(identical(copy, view));
  CHECK(Tensor(DType::f32, {0, 5}).size() == 0);
  CHECK(Tensor(DType::i4, {3}).byte_size() == 2);
}

TEST_CASE("absurd shapes are refused before memory is taken") {
  Category c{};
  CHECK(has(error_of([] { Tensor(DType::f32, {int64_t{1} << 40, int64_t{1} << 40}); }, &c), "more elements than fit"));
  CHECK(c == Category::shape);
  CHECK_FALSE(error_of([] { Tensor(DType::f32, {-1}); }).empty());
  CHECK_FALSE(error_of([] { Tensor(DType::f64, {int64_t{1} << 61}); }, &c).empty());
  CHECK(c == Category::resource);
}

TEST_CASE("dtype names") {
  for (int i = 1; i < kDTypeCount; ++i) {
    const auto d = static_cast<DType>(i);
    CHECK(parse_dtype(to_string(d)) == d);
  }
  CHECK(parse_dtype("float") == DType::f32);
  CHECK(parse_dtype("nonsense") == std::nullopt);
}
