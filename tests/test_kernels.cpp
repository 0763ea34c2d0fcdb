// Kernels against simple loops, over many shapes, under every instruction set of this machine.
#include <array>
#include <cmath>
#include <cstring>
#include <limits>

#include "kernels/copy.hpp"
#include "kernels/dense_tiles.hpp"
#include "kernels/planes.hpp"
#include "kernels/reduce_wide.hpp"
#include "kernels/rows.hpp"
#include "kernels/skeleton.hpp"
#include "kernels/strides.hpp"
#include "kernels/tape.hpp"
#include "support.hpp"
#include "tensor/widen.hpp"

using namespace test;
using namespace lathe::kernels;

namespace {

std::vector<float> random_floats(size_t n, uint64_t seed, float low = -1, float high = 1) {
  const Tensor t = random_tensor({static_cast<int64_t>(n)}, seed, low, high);
  return {t.as<float>().begin(), t.as<float>().end()};
}

Tensor random_octets(int64_t n, unsigned seed) {
  Tensor t(DType::u8, {n});
  std::mt19937 random(seed);
  for (uint8_t& v : t.as<uint8_t>()) v = static_cast<uint8_t>(random());
  return t;
}

}  // namespace

TEST_CASE("dense product over ragged shapes, with and without epilogue") {
  std::mt19937 random(11);
  for (Isa isa : available()) {
    CAPTURE(std::string(name(isa)));
    const int64_t width = panel_width(isa);
    for (int trial = 0; trial < 150; ++trial) {
      const int64_t m = 1 + random() % 40, n = 1 + random() % 100, k = trial % 20 == 0 ? 0 : 1 + random() % 90;
      const auto a = random_floats(m * k + 1, trial), b = random_floats(k * n + 1, trial + 1000), bias = random_floats(n, trial + 1),
                 residual = random_floats(m * n, trial + 2);
      std::vector<float> packed(packed_size(k, n, width) + 1), c(m * n, 99.0f);
      pack_panels(b.data(), n, 1, k, n, width, packed.data(), 0, (n + width - 1) / width);
      std::vector<float> back(k * n + 1);
      unpack_panels(packed.data(), k, n, width, back.data(), n, 1);
      REQUIRE(std::equal(back.begin(), back.end() - 1, b.begin()));
      DenseArguments g;
      g.a = a.data();
      g.lda = k;
      g.run = k;
      g.row_end = m;
      g.panel_end = (n + width - 1) / width;
      g.columns = n;
      g.b = packed.data();
      g.c = c.data();
      g.ldc = n;
      g.k_block = 1 + random() % 64;
      g.panel_block = 1 + random() % 3;
      const bool epilogue = trial % 2;
      if (epilogue) {
        g.epilogue.bias = bias.data();
        g.epilogue.residual = residual.data();
        g.epilogue.residual_stride = n;
        g.epilogue.clamp = true;
        g.epilogue.low = -0.5f;
        g.epilogue.high = 2.0f;
      }
      dense(isa)(g);
      for (int64_t i = 0; i < m; ++i) {
        for (int64_t j = 0; j < n; ++j) {
          double sum = 0;
          for (int64_t p = 0; p < k; ++p) sum += static_cast<double>(a[i * k + p]) * b[p * n + j];
          if (epilogue) sum = std::clamp(sum + bias[j] + residual[i * n + j], -0.5, 2.0);
          REQUIRE(c[i * n + j] == doctest::Approx(sum).epsilon(1e-4).scale(1));
        }
      }
    }
  }
}

TEST_CASE("products by tiles: ragged shapes, windows, every type of both operands, as near as f32; what is not finite stays so") {
  if (best() != Isa::amx) return;
  std::mt19937 random(13);
  const auto up_to = [&](int64_t most) { return 1 + static_cast<int64_t>(random() % static_cast<uint64_t>(most)); };
  const int64_t width = panel_width(Isa::amx);
  const auto rounded = [](DType type, std::vector<float>& numbers) {
    const Tensor t = narrow<double>(type, {static_cast<int64_t>(numbers.size())}, std::vector<double>(numbers.begin(), numbers.end()));
    const auto wide = widen<double>(t);
    for (size_t i = 0; i < numbers.size(); ++i) numbers[i] = static_cast<float>(wide[i]);
    return std::vector<uint16_t>(static_cast<const uint16_t*>(t.data()), static_cast<const uint16_t*>(t.data()) + t.size());
  };
  Fenced room(Tensor(DType::f32, {kTileRoom / 4}), true);
  for (int trial = 0; trial < 240; ++trial) {
    const PanelType type = std::array{PanelType::f32, PanelType::f16, PanelType::bf16}[trial % 3];
    const bool like_b = type != PanelType::f32 && trial % 2 == 1, special = trial % 5 == 4;
    const DType dtype = type == PanelType::f16 ? DType::f16 : DType::bf16;
    const int64_t m = up_to(trial % 7 == 0 ? 500 : 70), n = up_to(100), k = up_to(trial % 11 == 0 ? 5000 : 200);
    auto a = random_floats(static_cast<size_t>(m * k), static_cast<uint64_t>(trial)), b = random_floats(static_cast<size_t>(k * n), 1000);
    if (like_b) rounded(dtype, a);
    std::vector<uint16_t> narrow_b;
    if (type != PanelType::f32) narrow_b = rounded(dtype, b);
    if (special) {
      a[random() % a.size()] = std::numeric_limits<float>::infinity();
      a[random() % a.size()] = std::numeric_limits<float>::quiet_NaN();
      if (!like_b) a[random() % a.size()] = -std::numeric_limits<float>::max();
      if (type == PanelType::f32) b[random() % b.size()] = -std::numeric_limits<float>::infinity();
    }
    const auto bias = random_floats(static_cast<size_t>(n), 5), residual = random_floats(static_cast<size_t>(m * n), 6);
    const size_t numbers = static_cast<size_t>(packed_size(k, n, width));
    std::vector<float> packed(numbers + 64);
    const int64_t panels = (n + width - 1) / width;
    if (type == PanelType::f32) pack_panels(b.data(), n, 1, k, n, width, packed.data(), 0, panels);
    else pack_panels(narrow_b.data(), n, 1, k, n, width, reinterpret_cast<uint16_t*>(packed.data()), 0, panels);
    Fenced c(Tensor(DType::f32, {m * n}), true);
    DenseArguments g;
    g.a = a.data(), g.lda = g.run = k;
    g.row_end = m, g.panel_end = panels, g.columns = n;
    g.b = packed.data(), g.b_type = type, g.rows_like_b = like_b;
    g.c = c.tensor.as<float>().data(), g.ldc = n;
    g.tile_room = room.tensor.data();
    g.epilogue.bias = bias.data();
    g.epilogue.residual = residual.data(), g.epilogue.residual_stride = n;
    dense_by_tiles(g);
    for (int64_t i = 0; i < m; ++i) {
      for (int64_t j = 0; j < n; ++j) {
        double sum = 0, size = 1;
        for (int64_t p = 0; p < k; ++p) {
          const double product = static_cast<double>(a[i * k + p]) * b[p * n + j];
          sum += product, size += std::abs(product);
        }
        sum += bias[j] + residual[i * n + j];
        const float got = g.c[i * n + j];
        CAPTURE(trial);
        if (std::isnan(sum)) REQUIRE(std::isnan(got));
        if (std::isinf(sum)) REQUIRE(static_cast<double>(got) == sum);
        // Of two f16 the product of second parts is left out.
        const double each = type == PanelType::f16 && like_b ? 0x1p-18 : 0;
        if (std::isfinite(sum)) REQUIRE(std::abs(got - sum) <= (each + 0x1p-23 * std::sqrt(static_cast<double>(k) + 4)) * size);
      }
    }
  }
}

TEST_CASE("dense product: rows packed once give the same bits as rows copied for each block of panels") {
  std::mt19937 random(12);
  const auto up_to = [&](int64_t most) { return 1 + static_cast<int64_t>(random() % static_cast<uint64_t>(most)); };
  for (Isa isa : available()) {
    CAPTURE(std::string(name(isa)));
    const int64_t width = panel_width(isa);
    // Nothing behind its end may be touched.
    Fenced room(Tensor(DType::f32, {packed_rows(isa)}), true);
    for (int trial = 0; trial < 60; ++trial) {
      const bool windowed = trial % 2 == 1;
      // A window of 3 x 3 over a picture with padding, or plain rows; K in several parts; several blocks of panels.
      const int64_t height = up_to(16), columns = up_to(16), channels = up_to(40), segments = windowed ? 9 : 1;
      const int64_t m = windowed ? height * columns : up_to(420), run = windowed ? channels : up_to(700), k = segments * run,
                    n = 1 + up_to(6 * width), panels = (n + width - 1) / width;
      const auto a = random_floats(static_cast<size_t>(windowed ? m * channels : m * k), trial),
                 b = random_floats(static_cast<size_t>(k * n), trial + 1), bias = random_floats(static_cast<size_t>(n), trial + 2),
                 residual = random_floats(static_cast<size_t>(m * n), trial + 3),
                 zeros = std::vector<float>(static_cast<size_t>(channels), 0.0f);
      std::vector<float> weights(static_cast<size_t>(packed_size(k, n, width) + 64));
      float* packed = weights.data() + (16 - reinterpret_cast<uintptr_t>(weights.data()) / 4 % 16) % 16;
      pack_panels(b.data(), n, 1, k, n, width, packed, 0, panels);
      std::vector<int64_t> y, x;
      for (int64_t o = 0; o < height; ++o) {
        for (int64_t t = -1; t <= 1; ++t) y.push_back(o + t < 0 || o + t >= height ? -1 : (o + t) * columns * channels);
      }
      for (int64_t o = 0; o < columns; ++o) {
        for (int64_t t = -1; t <= 1; ++t) x.push_back(o + t < 0 || o + t >= columns ? -1 : (o + t) * channels);
      }
      const std::vector<int64_t> z{0};
      WindowRows window;
      window.image_stride = m * channels;
      window.z = z.data(), window.y = y.data(), window.x = x.data();
      window.out_h = height, window.out_w = columns, window.kh = window.kw = 3;
      window.base = a.data(), window.zeros = zeros.data();
      DenseArguments g;
      g.a = a.data(), g.lda = k;
      if (windowed) g.window = &window;
      g.segments = segments, g.run = run;
      g.row_begin = trial % 3 == 0 ? m / 3 : 0, g.row_end = g.all_rows = m;
      g.panel_end = panels, g.columns = n;
      g.b = packed, g.ldc = n;
      g.k_block = 64 + up_to(500);
      g.panel_block = up_to(3);
      g.epilogue.bias = bias.data();
      if (k <= g.k_block) g.epilogue.residual = residual.data(), g.epilogue.residual_stride = n;
      g.epilogue.clamp = true, g.epilogue.low = -2, g.epilogue.high = 3;
      std::vector<float> c[2];
      for (const bool once : {false, true}) {
        c[once].assign(static_cast<size_t>(m * n), 7);
        g.c = c[once].data();
        g.packed_rows = once ? room.tensor.as<float>().data() : nullptr;
        dense(isa)(g);
      }
      CAPTURE(m);
      CAPTURE(n);
      CAPTURE(k);
      CHECK(std::memcmp(c[0].data(), c[1].data(), c[0].size() * sizeof(float)) == 0);
    }
  }
}

TEST_CASE("the clamp lets NaN through and stops infinities") {
  for (Isa isa : available()) {
    const int64_t width = panel_width(isa);
    for (int64_t n : {int64_t{1}, width}) {
      std::vector<float> b(n, 1.0f), packed(packed_size(1, n, width));
      pack_panels(b.data(), n, 1, 1, n, width, packed.data(), 0, 1);
      const float a[3] = {NAN, INFINITY, -INFINITY};
      std::vector<float> c(3 * n);
      DenseArguments g;
      g.a = a;
      g.lda = g.run = 1;
      g.row_end = 3;
      g.panel_end = 1;
      g.columns = n;
      g.b = packed.data();
      g.c = c.data();
      g.ldc = n;
      g.epilogue.clamp = true;
      g.epilogue.low = 0;
      g.epilogue.high = 6;
      dense(isa)(g);
      CHECK(std::isnan(c[0]));
      CHECK(c[n] == 6);
      CHECK(c[2 * n] == 0);
    }
  }
}

TEST_CASE("tape functions against the C library, over their range and at its ends") {
  struct Entry {
    TapeOp op;
    double (*f)(double);
    double ulps;  // of the result, where it is not tiny
    float low, high;
  };
  const Entry entries[] = {
      {TapeOp::exp, [](double x) { return std::exp(x); }, 3, -87, 88},
      {TapeOp::log, [](double x) { return std::log(x); }, 5, 1e-30f, 1e30f},
      {TapeOp::tanh, [](double x) { return std::tanh(x); }, 6, -12, 12},
      {TapeOp::sigmoid, [](double x) { return 1 / (1 + std::exp(-x)); }, 5, -80, 80},
      {TapeOp::erf, [](double x) { return std::erf(x); }, 5, -5, 5},
      {TapeOp::sqrt, [](double x) { return std::sqrt(x); }, 0.51, 0, 1e20f},
      {TapeOp::sin, [](double x) { return std::sin(x); }, 0.51, -40, 40},
      {TapeOp::cos, [](double x) { return std::cos(x); }, 0.51, -40, 40},
      {TapeOp::tan, [](double x) { return std::tan(x); }, 0.51, -40, 40},
      {TapeOp::sin, [](double x) { return std::sin(x); }, 1, -4e6f, 4e6f},  // a part is beyond what is reduced here
      {TapeOp::cos, [](double x) { return std::cos(x); }, 1, -4e6f, 4e6f},
      {TapeOp::tan, [](double x) { return std::tan(x); }, 1, -4e6f, 4e6f},
      {TapeOp::atan, [](double x) { return std::atan(x); }, 0.51, -4, 4},
      {TapeOp::atan, [](double x) { return std::atan(x); }, 0.51, -1e9f, 1e9f},
      {TapeOp::asin, [](double x) { return std::asin(x); }, 0.51, -1, 1},
      {TapeOp::acos, [](double x) { return std::acos(x); }, 0.51, -1, 1},
      {TapeOp::asin, [](double x) { return std::asin(x); }, 0.51, -1e-6f, 1e-6f},
      {TapeOp::sinh, [](double x) { return std::sinh(x); }, 1, -89.3f, 89.3f},  // a part is beyond what vectors do
      {TapeOp::cosh, [](double x) { return std::cosh(x); }, 1, -89.3f, 89.3f},
      {TapeOp::sinh, [](double x) { return std::sinh(x); }, 0.51, -1e-5f, 1e-5f},
      {TapeOp::asinh, [](double x) { return std::asinh(x); }, 0.51, -4, 4},
      {TapeOp::asinh, [](double x) { return std::asinh(x); }, 0.51, -1e-12f, 1e-12f},
      {TapeOp::asinh, [](double x) { return std::asinh(x); }, 0.51, -3e38f, 3e38f},
      {TapeOp::acosh, [](double x) { return std::acosh(x); }, 0.51, 1, 1.001f},
      {TapeOp::acosh, [](double x) { return std::acosh(x); }, 0.51, 1, 3e38f},
      {TapeOp::atanh, [](double x) { return std::atanh(x); }, 0.51, -0.9999f, 0.9999f},
      {TapeOp::atanh, [](double x) { return std::atanh(x); }, 0.51, -1e-12f, 1e-12f},
      {TapeOp::softsign, [](double x) { return x / (1 + std::fabs(x)); }, 2, -100, 100},
      {TapeOp::hard_swish, [](double x) { return x * std::clamp(x / 6 + 0.5, 0.0, 1.0); }, 8, -2, 10},  // towards -3 both cancel
  };
  for (Isa isa : available()) {
    CAPTURE(std::string(name(isa)));
    for (const Entry& e : entries) {
      CAPTURE(static_cast<int>(e.op));
      const int64_t n = 5003;
      const auto x = random_floats(n, 3, e.low, e.high);
      std::vector<float> y(n);
      Tape tape;
      tape.inputs = 1;
      tape.slots = 2;
      tape.steps = {{e.op, 1, 0, 0, 0}};
      tape.result = 1;
      const TapeOperand operand{x.data(), 1, kernels::TapeType::f32};
      run_tape(isa)(tape, &operand, y.data(), kernels::TapeType::f32, n);
      double worst = 0;
      for (int64_t i = 0; i < n; ++i) {
        const double want = e.f(x[i]);
        if (std::fabs(want) < 1e-30) continue;
        const double ulp = std::nextafter(std::fabs(static_cast<float>(want)), INFINITY) - std::fabs(static_cast<float>(want));
        worst = std::max(worst, std::fabs(y[i] - want) / ulp);
      }
      CHECK(worst <= e.ulps);
    }
    // Ends: NaN, infinities, zero.
    const float ends[5] = {NAN, INFINITY, -INFINITY, 0.0f, -0.0f};
    for (const auto& [op, want] :
         std::vector<std::pair<TapeOp, std::vector<float>>>{{TapeOp::exp, {NAN, INFINITY, 0, 1, 1}},
                                                            {TapeOp::log, {NAN, INFINITY, NAN, -INFINITY, -INFINITY}},
                                                            {TapeOp::tanh, {NAN, 1, -1, 0, 0}},
                                                            {TapeOp::sigmoid, {NAN, 1, 0, 0.5f, 0.5f}},
                                                            {TapeOp::erf, {NAN, 1, -1, 0, 0}},
                                                            {TapeOp::sin, {NAN, NAN, NAN, 0, 0}},
                                                            {TapeOp::cos, {NAN, NAN, NAN, 1, 1}},
                                                            {TapeOp::tan, {NAN, NAN, NAN, 0, 0}},
                                                            {TapeOp::atan, {NAN, std::atan(INFINITY), -std::atan(INFINITY), 0, 0}},
                                                            {TapeOp::asin, {NAN, NAN, NAN, 0, 0}},
                                                            {TapeOp::acos, {NAN, NAN, NAN, std::acos(0.0f), std::acos(0.0f)}},
                                                            {TapeOp::sinh, {NAN, INFINITY, -INFINITY, 0, 0}},
                                                            {TapeOp::cosh, {NAN, INFINITY, INFINITY, 1, 1}},
                                                            {TapeOp::asinh, {NAN, INFINITY, -INFINITY, 0, 0}},
                                                            {TapeOp::acosh, {NAN, INFINITY, NAN, NAN, NAN}},
                                                            {TapeOp::atanh, {NAN, NAN, NAN, 0, 0}},
                                                            {TapeOp::relu, {NAN, INFINITY, 0, 0, 0}},
                                                            {TapeOp::softplus, {NAN, INFINITY, 0, std::log(2.0f), std::log(2.0f)}}}) {
      float y[5];
      Tape tape;
      tape.inputs = 1;
      tape.slots = 2;
      tape.steps = {{op, 1, 0, 0, 0}};
      tape.result = 1;
      const TapeOperand operand{ends, 1, kernels::TapeType::f32};
      run_tape(isa)(tape, &operand, y, kernels::TapeType::f32, 5);
      for (int i = 0; i < 5; ++i) {
        CAPTURE(static_cast<int>(op));
        CAPTURE(i);
        if (std::isnan(want[i])) CHECK(std::isnan(y[i]));
        else if (std::isinf(want[i])) CHECK(y[i] == want[i]);
        else CHECK(y[i] == doctest::Approx(want[i]));
      }
    }
  }
}

TEST_CASE("remainders of floats are the C library's to the last bit, whatever stands beside") {
  std::mt19937_64 random(4);
  const float odd[]{0.0F, -0.0F, 1, -1, 3, -3, 0.1F, 1e-3F, INFINITY, -INFINITY, NAN, 1e-42F, 3e38F, 16777216.0F, 5.5F, 1e9F, 6, 0.7F};
  std::vector<float> a, b;
  for (const float x : odd) {
    for (const float y : odd) a.push_back(x), b.push_back(y);
  }
  std::uniform_real_distribution<float> any(-20, 20);
  for (int i = 0; i < 20000; ++i) {
    const float y = std::exp(any(random) * 0.5f);
    // Near whole multiples too, where a quotient is rounded up.
    a.push_back(i % 2 == 0 ? any(random) * 100 : std::nextafter(y * std::round(any(random) * 50), i % 4 == 1 ? -HUGE_VALF : HUGE_VALF));
    b.push_back(y);
  }
  const auto n = static_cast<int64_t>(a.size());
  for (Isa isa : available()) {
    CAPTURE(std::string(name(isa)));
    std::vector<float> y(a.size());
    Tape tape;
    tape.inputs = 2;
    tape.slots = 3;
    tape.steps = {{TapeOp::mod, 2, 0, 1, 0, 1}};
    tape.result = 2;
    const TapeOperand operands[]{{a.data(), 1, kernels::TapeType::f32}, {b.data(), 1, kernels::TapeType::f32}};
    run_tape(isa)(tape, operands, y.data(), kernels::TapeType::f32, n);
    for (int64_t i = 0; i < n; ++i) {
      CAPTURE(a[i]);
      CAPTURE(b[i]);
      const float want = std::fmod(a[i], b[i]);
      REQUIRE((std::isnan(want) ? std::isnan(y[i]) : y[i] == want && std::signbit(y[i]) == std::signbit(want)));
    }
  }
}

TEST_CASE("powers against the C library: any base and exponent, and the same whatever stands beside") {
  std::mt19937_64 random(8);
  const float odd[]{0.0F, -0.0F, 1, -1, 2, -2, 0.5F, 3, -3, INFINITY, -INFINITY, NAN, 1e-42F, -1e-42F, 3e38F, 1e-38F, 100, -0.25F, 7};
  std::vector<float> base, exponent;
  for (const float x : odd) {
    for (const float y : odd) base.push_back(x), exponent.push_back(y);
  }
  std::uniform_real_distribution<float> any(-8, 8);
  for (int i = 0; i < 4000; ++i) {
    base.push_back(i % 3 == 0 ? any(random) : std::exp(any(random)));
    exponent.push_back(i % 3 == 0 ? std::round(any(random)) : any(random));
  }
  const auto n = static_cast<int64_t>(base.size());
  for (Isa isa : available()) {
    CAPTURE(std::string(name(isa)));
    Tape tape;
    tape.inputs = 2;
    tape.slots = 3;
    tape.steps = {{TapeOp::pow, 2, 0, 1, 0}};
    tape.result = 2;
    const auto powers = [&](int64_t from, int64_t count) {
      std::vector<float> y(static_cast<size_t>(count));
      const TapeOperand operands[]{{base.data() + from, 1, kernels::TapeType::f32}, {exponent.data() + from, 1, kernels::TapeType::f32}};
      run_tape(isa)(tape, operands, y.data(), kernels::TapeType::f32, count);
      return y;
    };
    const std::vector<float> all = powers(0, n);
    double worst = 0;
    for (int64_t i = 0; i < n; ++i) {
      CAPTURE(base[i]);
      CAPTURE(exponent[i]);
      const double exact = std::pow(static_cast<double>(base[i]), static_cast<double>(exponent[i]));
      const auto want = static_cast<float>(exact);
      if (std::isnan(want)) {
        CHECK(std::isnan(all[i]));
      } else if (std::isinf(want) || want == 0) {
        CHECK(all[i] == want);
      } else if (std::fabs(want) > 1.2e-38F) {
        worst = std::max(worst, std::fabs(all[i] - exact) / (std::nextafter(std::fabs(want), INFINITY) - std::fabs(want)));
      }
      if (i % 97 == 0) {
        const float alone = powers(i, 1)[0];
        CHECK((alone == all[i] || (std::isnan(alone) && std::isnan(all[i]))));
      }
    }
    CHECK(worst <= 1);
  }
}

TEST_CASE("row kernels over many lengths") {
  for (Isa isa : available()) {
    CAPTURE(std::string(name(isa)));
    for (int64_t length : {1, 2, 3, 7, 15, 16, 17, 31, 64, 100, 257, 1000}) {
      const int64_t count = 3;
      const auto x = random_floats(count * length, length, -5, 5), scale = random_floats(length, 7), bias = random_floats(length, 8);
      std::vector<float> y(count * length);
      RowArguments a;
      a.in = x.data();
      a.out = y.data();
      a.length = length;
      a.end = count;
      a.scale = scale.data();
      a.bias = bias.data();
      for (RowOp op : {RowOp::softmax, RowOp::log_softmax, RowOp::layer_norm, RowOp::sum, RowOp::mean, RowOp::max, RowOp::min, RowOp::l1,
                       RowOp::l2, RowOp::sum_squares}) {
        a.op = op;
        rows(isa)(a);
        for (int64_t r = 0; r < count; ++r) {
          const float* row = x.data() + r * length;
          double sum = 0, squares = 0, top = -INFINITY, bottom = INFINITY, exps = 0, absolute = 0, spread = 0;
          for (int64_t i = 0; i < length; ++i) {
            sum += row[i];
            squares += static_cast<double>(row[i]) * row[i];
            absolute += std::fabs(row[i]);
            top = std::max<double>(top, row[i]);
            bottom = std::min<double>(bottom, row[i]);
          }
          for (int64_t i = 0; i < length; ++i) {
            exps += std::exp(row[i] - top);
            spread += std::pow(row[i] - sum / length, 2);
          }
          const double inverse = 1 / std::sqrt(spread / length + 1e-5);
          for (int64_t i = 0; i < length; ++i) {
            double want = 0;
            switch (op) {
              case RowOp::softmax: want = std::exp(row[i] - top) / exps; break;
              case RowOp::log_softmax: want = row[i] - top - std::log(exps); break;
              case RowOp::layer_norm: want = (row[i] - sum / length) * inverse * scale[i] + bias[i]; break;
              case RowOp::sum: want = sum; break;
              case RowOp::mean: want = sum / length; break;
              case RowOp::max: want = top; break;
              case RowOp::min: want = bottom; break;
              case RowOp::l1: want = absolute; break;
              case RowOp::l2: want = std::sqrt(squares); break;
              default: want = squares;
            }
            const bool one = op != RowOp::softmax && op != RowOp::log_softmax && op != RowOp::layer_norm;
            REQUIRE(y[one ? r : r * length + i] == doctest::Approx(want).epsilon(2e-5).scale(1));
            if (one) break;
          }
        }
      }
    }
  }
}

TEST_CASE("products of floats whose parts leave the range of a double") {
  constexpr float kInfinity = std::numeric_limits<float>::infinity();
  const auto repeated = [](std::initializer_list<std::pair<float, int>> parts) {
    std::vector<float> all;
    for (const auto& [value, times] : parts) all.insert(all.end(), static_cast<size_t>(times), value);
    return all;
  };
  const std::vector<std::pair<std::vector<float>, float>> cases{{repeated({{1e30f, 200}, {1e-30f, 200}}), 1},
                                                                {repeated({{1e-38f, 97}, {-1e38f, 97}}), -1},
                                                                {repeated({{1e-45f, 3}, {2e38f, 4}}), 4.4027e18f},
                                                                {repeated({{0.5f, 1000}}), 0},
                                                                {repeated({{2.0f, 1001}}), kInfinity},
                                                                {repeated({{-2.0f, 1001}}), -kInfinity},
                                                                {repeated({{1e38f, 50}, {0.0f, 1}}), 0},
                                                                {repeated({{kInfinity, 1}, {1e-30f, 300}}), kInfinity},
                                                                {repeated({{kInfinity, 1}, {0.0f, 1}}), std::nanf("")},
                                                                {repeated({{1.5f, 1}}), 1.5f}};
  for (Isa isa : available()) {
    CAPTURE(std::string(name(isa)));
    for (const auto& [row, want] : cases) {
      const auto length = static_cast<int64_t>(row.size());
      for (int64_t inner : {1, 3, 70}) {  // the same in each column
        std::vector<float> x, y(static_cast<size_t>(inner), -7.0f);
        for (float v : row) x.insert(x.end(), static_cast<size_t>(inner), v);
        WideReductionArguments a;
        a.op = WideReduction::product;
        a.x = x.data(), a.out = y.data();
        a.length = length, a.inner = inner, a.end = inner;
        reduce_wide(isa)(WideNumber::f32, a);
        for (float got : y)
          CHECK(((std::isnan(want) && std::isnan(got)) || got == want || std::fabs(got - want) <= 1e-3f * std::fabs(want)));
      }
    }
  }
}

TEST_CASE("strided copies of every element size") {
  std::mt19937 random(4);
  for (int bytes : {1, 2, 4, 8}) {
    for (int trial = 0; trial < 60; ++trial) {
      const int rank = 1 + static_cast<int>(random() % 4);
      std::vector<int64_t> shape, order;
      int64_t count = 1;
      for (int i = 0; i < rank; ++i) {
        shape.push_back(1 + static_cast<int64_t>(random() % 21));
        order.push_back(i);
        count *= shape.back();
      }
      std::shuffle(order.begin(), order.end(), random);
      // A transposition: `in` has the dims in shuffled order.
      std::vector<int64_t> in(rank), out(rank);
      int64_t run = 1;
      for (int i = rank - 1; i >= 0; --i) {
        in[order[i]] = run;
        run *= shape[order[i]];
      }
      run = 1;
      for (int i = rank - 1; i >= 0; --i) {
        out[i] = run;
        run *= shape[i];
      }
      std::vector<char> src(count * bytes), dst(count * bytes, 0);
      for (char& c : src) c = static_cast<char>(random());
      const CopyPlan plan = plan_copy(bytes, shape, in, out);
      const int64_t half = plan.tasks / 2;
      run_copy(plan, src.data(), dst.data(), 0, half);
      run_copy(plan, src.data(), dst.data(), half, plan.tasks);
      for (int64_t i = 0; i < count; ++i) {
        int64_t from = 0;
        for (int d = 0; d < rank; ++d) from += i / out[d] % shape[d] * in[d];
        REQUIRE(std::memcmp(&dst[i * bytes], &src[from * bytes], bytes) == 0);
      }
    }
  }
}

TEST_CASE("large transpositions, written past the caches, whatever a row's length, and with dims around them") {
  for (int bytes : {1, 2, 4, 8}) {
    CAPTURE(bytes);
    // Rows that fill lines, and that do not; few and narrow ones; parts of wider pictures.
    for (const auto& [rows, columns, crop] : std::vector<std::array<int64_t, 3>>{{1024, 1024, 0},
                                                                                 {1003, 1025, 0},
                                                                                 {24, 100000, 0},
                                                                                 {100000, 24, 0},
                                                                                 {200, 12000, 0},
                                                                                 {37, 260, 2},
                                                                                 {64, 300, 1},
                                                                                 {3, 500, 3}}) {
      CAPTURE(rows);
      CAPTURE(columns);
      // From lines x columns x rows to rows x lines x columns, of which `crop` columns are left out on each side.
      const int64_t lines = crop == 0 ? 1 : 40, wide = columns + 2 * crop, count = rows * lines * columns;
      std::vector<char> in(static_cast<size_t>(lines * wide * rows * bytes)), out(static_cast<size_t>((count + 1) * bytes), 85);
      for (size_t i = 0; i < in.size(); ++i) in[i] = static_cast<char>(i * 2654435761u >> 13);
      const CopyPlan plan = plan_copy(bytes, {rows, lines, columns}, {1, wide * rows, rows}, {lines * columns, columns, 1});
      const char* from = in.data() + crop * rows * bytes;
      const int64_t third = plan.tasks / 3;
      run_copy(plan, from, out.data(), 0, third);
      run_copy(plan, from, out.data(), third, plan.tasks);
      int64_t wrong = 0;
      for (int64_t r = 0, i = 0; r < rows; ++r) {
        for (int64_t l = 0; l < lines; ++l) {
          for (int64_t c = 0; c < columns; ++c, ++i)
            wrong += std::memcmp(&out[static_cast<size_t>(i * bytes)], from + ((l * wide + c) * rows + r) * bytes,
                                 static_cast<size_t>(bytes)) != 0;
        }
      }
      CHECK(wrong == 0);
      CHECK(out[static_cast<size_t>(count * bytes)] == 85);
    }
  }
}

TEST_CASE("elements a few places apart, channels woven, rows backwards, on every instruction set, read nothing behind them") {
  for (Isa isa : available()) {
    CAPTURE(std::string(name(isa)));
    const StrideKernels k = strides(isa);
    for (int bytes : {1, 2, 4, 8}) {
      CAPTURE(bytes);
      for (int64_t n : {1, 2, 15, 16, 31, 33, 64, 127, 130, 517}) {
        CAPTURE(n);
        for (int64_t step : {-1, 2, 3, 4}) {
          CAPTURE(step);
          const int64_t extent = (n - 1) * std::abs(step) + 1;
          for (bool at_end : {false, true}) {
            Fenced in(random_octets(extent * bytes, 7), at_end);
            const char* data = static_cast<const char*>(in.tensor.data());
            std::vector<char> out(static_cast<size_t>((n + 1) * bytes), 85);
            const int64_t first = step < 0 ? extent - 1 : 0;
            k.take(bytes, data + first * bytes, step, out.data(), n);
            for (int64_t i = 0; i < n; ++i) REQUIRE(std::memcmp(&out[i * bytes], data + (first + i * step) * bytes, bytes) == 0);
            for (int b = 0; b < bytes; ++b) REQUIRE(out[n * bytes + b] == 85);
          }
        }
        for (int64_t parts : {2, 3, 4}) {
          CAPTURE(parts);
          for (bool at_end : {false, true}) {
            Fenced in(random_octets(parts * n * bytes, 9), at_end);
            const char* data = static_cast<const char*>(in.tensor.data());
            std::vector<char> out(static_cast<size_t>((parts * n + 1) * bytes), 85);
            k.weave(bytes, data, n, parts, out.data(), n);
            for (int64_t i = 0; i < n * parts; ++i)
              REQUIRE(std::memcmp(&out[i * bytes], data + (i % parts * n + i / parts) * bytes, bytes) == 0);
            for (int b = 0; b < bytes; ++b) REQUIRE(out[n * parts * bytes + b] == 85);
          }
        }
      }
    }
  }
}

TEST_CASE("pictures' channels apart and together, and steps through rows, are those of an element at a time") {
  for (int bytes : {1, 2, 4, 8}) {
    CAPTURE(bytes);
    for (int64_t channels : {2, 3, 4, 5}) {
      for (int64_t pixels : {7, 16, 40, 5000}) {
        std::vector<char> in(static_cast<size_t>(channels * pixels * bytes)), out(in.size()), back(in.size());
        std::mt19937 random(3);
        for (char& c : in) c = static_cast<char>(random());
        const CopyPlan apart = plan_copy(bytes, {channels, pixels}, {1, channels}, {pixels, 1});
        for (int64_t t = 0; t < apart.tasks; ++t) run_copy(apart, in.data(), out.data(), t, t + 1);
        for (int64_t i = 0; i < channels * pixels; ++i)
          REQUIRE(std::memcmp(&out[i * bytes], &in[(i % pixels * channels + i / pixels) * bytes], bytes) == 0);
        const CopyPlan together = plan_copy(bytes, {pixels, channels}, {1, pixels}, {channels, 1});
        run_copy(together, out.data(), back.data(), 0, together.tasks / 2);
        run_copy(together, out.data(), back.data(), together.tasks / 2, together.tasks);
        REQUIRE(back == in);
      }
    }
  }
}

TEST_CASE("whole numbers through double: rows side by side, and where a sum is rounded on the way, are those of a loop") {
  std::mt19937_64 random(5);
  const auto wild = [&] { return static_cast<int64_t>(random()); };
  const auto small = [&] { return static_cast<int64_t>(random() % 2001) - 1000; };
  for (Isa isa : available()) {
    CAPTURE(std::string(name(isa)));
    for (bool large : {false, true}) {
      CAPTURE(large);
      for (int64_t inner : {1, 5, 1500}) {
        CAPTURE(inner);
        for (int64_t length : {1, 3, 16, 37, 400}) {
          CAPTURE(length);
          const int64_t outer = inner == 1500 ? 2 : 7;
          std::vector<int64_t> x(static_cast<size_t>(outer * length * inner)), y(static_cast<size_t>(outer * inner), -9);
          for (int64_t& v : x) v = large ? wild() : small();
          for (auto op : {WideReduction::sum, WideReduction::mean, WideReduction::max, WideReduction::min, WideReduction::product,
                          WideReduction::l1, WideReduction::sum_square, WideReduction::l2}) {
            WideReductionArguments a;
            a.op = op, a.x = x.data(), a.out = y.data(), a.length = length, a.inner = inner;
            // In two parts, the second of which begins inside a row of results.
            a.end = outer * inner * 2 / 3;
            reduce_wide(isa)(WideNumber::i64, a);
            a.begin = a.end, a.end = outer * inner;
            reduce_wide(isa)(WideNumber::i64, a);
            for (int64_t r = 0; r < outer * inner; ++r) {
              uint64_t whole = op == WideReduction::product ? 1 : 0;
              double wide = 0;
              int64_t most = INT64_MIN, least = INT64_MAX;
              for (int64_t i = 0; i < length; ++i) {
                const int64_t v = x[static_cast<size_t>((r / inner * length + i) * inner + r % inner)];
                const auto u = static_cast<uint64_t>(v);
                const auto d = static_cast<double>(v);
                most = std::max(most, v), least = std::min(least, v);
                whole = op == WideReduction::product ? whole * u
                                                     : whole + (op == WideReduction::l1 && v < 0  ? 0 - u
                                                                : op == WideReduction::sum_square ? u * u
                                                                                                  : u);
                wide += op == WideReduction::l2 ? d * d : d;
              }
              const int64_t want = op == WideReduction::max    ? most
                                   : op == WideReduction::min  ? least
                                   : op == WideReduction::mean ? static_cast<int64_t>(wide / static_cast<double>(length))
                                   : op == WideReduction::l2
                                       ? (std::sqrt(wide) >= 0x1p63 ? INT64_MAX : static_cast<int64_t>(std::sqrt(wide)))
                                       : static_cast<int64_t>(whole);
              REQUIRE(y[static_cast<size_t>(r)] == want);
            }
          }
        }
      }
    }
  }
}

TEST_CASE("the kernel to copy keeps what its header says, on every instruction set") {
  for (kernels::Isa isa : kernels::available()) {
    CAPTURE(kernels::name(isa));
    for (int64_t n : {0, 1, 3, 15, 16, 17, 64, 1001}) {
      Tensor x = random_tensor({n + 1}, 1), y = random_tensor({n + 1}, 2), out = random_tensor({n + 1}, 3);
      if (n > 3) x.as<float>()[3] = NAN;
      const float behind = out.as<float>()[n];
      kernels::skeleton(isa)({x.as<float>().data(), y.as<float>().data(), out.as<float>().data(), 0.3f, 0, n});
      for (int64_t i = 0; i < n; ++i) {
        const float expected = std::fma(0.3f, x.as<float>()[i], y.as<float>()[i]), got = out.as<float>()[i];
        CHECK((std::isnan(expected) ? std::isnan(got) : std::abs(got - expected) <= 1e-6f));
      }
      CHECK(out.as<float>()[n] == behind);
    }
  }
}
