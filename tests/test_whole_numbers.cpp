// Whole numbers of every width, what a run divides by, powers: the same bits as plain evaluation's.
#include <cmath>
#include <limits>

#include "support.hpp"
#include "tensor/numbers.hpp"
#include "tensor/widen.hpp"

using namespace test;
using Data = Attribute::Data;

namespace {

const std::vector<DType> kWhole{DType::u8, DType::i8, DType::u16, DType::i16, DType::u32, DType::i32, DType::u64, DType::i64};

// Ends of its range, numbers around zero, and others.
Tensor whole(DType d, const Shape& shape, uint64_t seed, bool zeros = true) {
  std::mt19937_64 random(seed);
  Tensor t(d, shape);
  const size_t width = t.byte_size() / static_cast<size_t>(t.size());
  auto* bytes = static_cast<std::byte*>(t.data());
  for (int64_t i = 0; i < t.size(); ++i) {
    const uint64_t kind = random() % 6;
    const uint64_t ends[]{0, 1, ~uint64_t{0}, uint64_t{1} << (width * 8 - 1), (uint64_t{1} << (width * 8 - 1)) - 1};
    uint64_t v = kind == 0 ? ends[random() % 5] : kind < 3 ? random() % 9 : random();
    v &= width == 8 ? ~uint64_t{0} : (uint64_t{1} << (width * 8)) - 1;
    if (!zeros && v == 0) v = 3;
    std::memcpy(bytes + static_cast<size_t>(i) * width, &v, width);
  }
  return t;
}

void same_bits(const Graph& g, const std::vector<Tensor>& fed) {
  const std::vector<Tensor> expected = evaluate_plain(g, fed);
  for (const std::string& isa : machine_info().isas) {
    for (const int threads : {1, 2}) {
      INFO(isa, ", ", threads, " threads");
      Lane lane(compile(g, {.threads = threads, .isa = isa}));
      const Outputs got = lane.run(std::span<const Tensor>(fed));
      for (size_t i = 0; i < expected.size(); ++i) CHECK_MESSAGE(identical(got[i], expected[i]), got.name(i));
    }
  }
}

int plain_steps(const Graph& g) { return compile(g, {.threads = 1}).describe().plain; }

}  // namespace

TEST_CASE("whole numbers of every width: arithmetic, comparisons, bits, with and without broadcasting") {
  struct Op {
    const char* name;
    bool signless = false, zeros = true;
    std::map<std::string, Data> attributes{};
    bool no_largest = false;  // left to plain evaluation in 64 bits without a sign
  };
  const std::vector<Op> ops{{"Add"},
                            {"Sub"},
                            {"Mul"},
                            {"Max"},
                            {"Min"},
                            {"Equal"},
                            {"Less"},
                            {"GreaterOrEqual"},
                            {"BitwiseAnd"},
                            {"BitwiseXor"},
                            {"BitShift", true, true, {{"direction", std::string("LEFT")}}},
                            {"BitShift", true, true, {{"direction", std::string("RIGHT")}}},
                            {"Div", false, false, {}, true},
                            {"Mod", false, false, {}, true},
                            {"Mod", false, false, {{"fmod", int64_t{1}}}, true},
                            {"Pow", false, true, {}, true}};
  uint64_t seed = 1;
  for (const Op& op : ops) {
    for (const DType d : kWhole) {
      const bool has_sign = d == DType::i8 || d == DType::i16 || d == DType::i32 || d == DType::i64;
      if (op.signless && has_sign) continue;
      for (const Shape& other : {Shape{7, 300}, Shape{300}, Shape{7, 1}, Shape{}}) {
        Builder b(op.name, 21);
        const auto x = b.input("x", d, {7, 300}), y = b.input("y", d, Dims(other.begin(), other.end()));
        b.output(b.op(op.name, {x, y}, op.attributes), "y0");
        b.output(b.op(op.name, {b.op("Identity", {x}), b.constant("c", whole(d, other, ++seed, op.zeros))}, op.attributes), "y1");
        const Graph g = b.finish();
        INFO(std::string(op.name), " of ", std::string(to_string(d)), " by ", to_string(other));
        Tensor by = whole(d, other, ++seed, op.zeros);
        if (std::string_view(op.name) == "BitShift") {
          std::vector<int64_t> shifts(static_cast<size_t>(by.size()));
          for (size_t i = 0; i < shifts.size(); ++i) shifts[i] = static_cast<int64_t>(i * 5 % 70);
          by = narrow<int64_t>(d, other, shifts);
        }
        same_bits(g, {whole(d, {7, 300}, ++seed), by});
        if (!(op.no_largest && d == DType::u64)) CHECK(plain_steps(g) == 0);
      }
    }
  }
}

TEST_CASE("whole numbers of every width: ops of one operand, choices, and sums of several") {
  uint64_t seed = 1;
  for (const DType d : kWhole) {
    INFO(std::string(to_string(d)));
    Builder b("some", 21);
    const auto x = b.input("x", d, {5, 130}), y = b.input("y", d, {1, 130});
    const bool has_sign = d == DType::i8 || d == DType::i16 || d == DType::i32 || d == DType::i64;
    b.output(b.op("Abs", {x}), "abs");
    b.output(b.op("BitwiseNot", {x}), "not");
    b.output(b.op("Sign", {x}), "sign");
    if (has_sign) b.output(b.op("Neg", {x}), "neg");
    b.output(b.op("Where", {b.op("Less", {x, y}), x, y}), "where");
    b.output(b.op("Max", {x, y, b.op("Add", {x, y})}), "max");
    const Graph g = b.finish();
    same_bits(g, {whole(d, {5, 130}, ++seed), whole(d, {1, 130}, ++seed)});
  }
}

TEST_CASE("casts between numbers of every kind: wrapped, cut off and saturated as by plain evaluation") {
  std::vector<DType> all = kWhole;
  for (const DType d : {DType::f32, DType::f64, DType::f16, DType::bf16, DType::boolean}) all.push_back(d);
  uint64_t seed = 1;
  for (const DType from : all) {
    Tensor x;
    if (is_float(from)) {
      std::vector<double> v{0,     -0.0, 0.5,   -0.5,  1.5,      2.5,       -2.5,         254.7,        255,           256,
                            -129,  300,  32767, 32768, 65535,    65536,     4294967295.0, 4294967296.0, -2147483649.0, 9e15,
                            -9e15, 1e19, -1e19, 3e30,  INFINITY, -INFINITY, NAN};
      while (v.size() < 700) v.push_back(static_cast<double>(v.size()) * 91.37 - 30000);
      x = narrow<double>(from, {7, 100}, v);
    } else if (from == DType::boolean) {
      x = Tensor(from, {7, 100});
      for (int64_t i = 0; i < x.size(); ++i) x.as<bool>()[i] = i % 3 == 0;
    } else {
      x = whole(from, {7, 100}, ++seed);
    }
    for (const DType to : all) {
      // A float out of the range of 64 bits without a sign.
      if (is_float(from) && to == DType::u64) continue;
      INFO(std::string(to_string(from)), " to ", std::string(to_string(to)));
      Builder b("cast", 21);
      b.output(b.op("Cast", {b.input("x", from, {7, 100})}, {{"to", int64_t{number_of_dtype(to)}}}), "y");
      same_bits(b.finish(), {x});
    }
  }
}

TEST_CASE("a zero among what a run divides by: an error with its node, and the next run goes on") {
  for (const char* op : {"Div", "Mod"}) {
    for (const DType d : {DType::i32, DType::i64, DType::u8, DType::i16, DType::u32}) {
      INFO(std::string(op), " of ", std::string(to_string(d)));
      Builder b("divided", 18);
      const auto x = b.input("x", d, {40, 1000}), by = b.input("by", d, {40, 1000});
      b.output(b.op(op, {x, b.op("Max", {by, b.constant("least", narrow<int64_t>(d, {}, std::vector<int64_t>{0}))})}), "y");
      const Graph g = b.finish();
      const Tensor a = whole(d, {40, 1000}, 1);
      Tensor good = narrow<int64_t>(d, {40, 1000}, std::vector<int64_t>(40000, 7)), bad = good.clone();
      std::memset(static_cast<char*>(bad.data()) + bad.byte_size() / 2, 0, 8);
      for (const int threads : {1, 2}) {
        Lane lane(compile(g, {.threads = threads}));
        CHECK(plain_steps(g) == 0);
        const std::vector<Tensor> right{a, good}, wrong{a, bad};
        CHECK(identical(lane.run(std::span<const Tensor>(right))[0], evaluate_plain(g, right)[0]));
        const std::string message = error_of([&] { lane.run(std::span<const Tensor>(wrong)); });
        CHECK(has(message, op));
        CHECK(has(message, "by zero"));
        CHECK(identical(lane.run(std::span<const Tensor>(right))[0], evaluate_plain(g, right)[0]));
      }
    }
  }
  // Where nothing is divided, nothing is wrong.
  Builder b("none", 18);
  b.output(b.op("Div", {b.input("x", DType::i64, {int64_t{0}, 3}), b.input("by", DType::i64, {1, 3})}), "y");
  const std::vector<Tensor> in{Tensor(DType::i64, {0, 3}), Tensor::from<int64_t>({1, 3}, {1, 0, 2})};
  Lane lane(compile(b.finish(), {.threads = 1}));
  CHECK(error_of([&] { lane.run(std::span<const Tensor>(in)); }) == "");
}

TEST_CASE("powers whose exponents are of another type") {
  const std::vector<DType> types{DType::f32, DType::f64, DType::i32, DType::i64, DType::u8, DType::i16, DType::u32};
  for (const DType base : types) {
    for (const DType exponent : types) {
      INFO(std::string(to_string(base)), " to ", std::string(to_string(exponent)));
      Builder b("power", 15);
      b.output(b.op("Pow", {b.input("x", base, {6, 50}), b.input("by", exponent, {50})}), "y");
      const Graph g = b.finish();
      std::vector<double> x(300), y(50);
      for (size_t i = 0; i < x.size(); ++i) x[i] = static_cast<double>(i % 11) - (base == DType::u8 || base == DType::u32 ? 0 : 4);
      for (size_t i = 0; i < y.size(); ++i) y[i] = static_cast<double>(i % 6) - (exponent == DType::u8 || exponent == DType::u32 ? 0 : 1);
      if (!is_float(base)) {  // a whole number has no inverse
        for (double& e : y) e = std::fabs(e);
      }
      check_against_plain(g, {narrow<double>(base, {6, 50}, x), narrow<double>(exponent, {50}, y)}, {.threads = 2});
      if (base != exponent) CHECK(plain_steps(g) == 0);
    }
  }
}

TEST_CASE("random chains of numbers of every type, cast to and fro: the same bits, fused or not") {
  std::mt19937_64 random(99);
  const auto below = [&](size_t n) { return static_cast<size_t>(random() % n); };
  const std::vector<Shape> shapes{{3, 50}, {50}, {3, 1}, {1}, {}};
  const int graphs = sanitized() ? 60 : 400;
  for (int trial = 0; trial < graphs; ++trial) {
    CAPTURE(trial);
    Builder b("chains", 21);
    struct Made {
      ValueId value;
      DType dtype;
    };
    std::vector<Made> pool;
    std::vector<Tensor> fed;
    for (int i = 0; i < 4; ++i) {
      const DType d = kWhole[below(kWhole.size())];
      const Shape& s = shapes[i == 0 ? 0 : below(shapes.size())];
      Tensor t = whole(d, s, random());
      if (i == 3) {
        pool.push_back({b.constant("c", t), d});
      } else {
        pool.push_back({b.input("x" + std::to_string(i), d, Dims(s.begin(), s.end())), d});
        fed.push_back(t);
      }
    }
    const auto cast = [&](const Made& m, DType to) {
      return m.dtype == to ? m : Made{b.op("Cast", {m.value}, {{"to", int64_t{number_of_dtype(to)}}}), to};
    };
    std::vector<Made> fresh;
    for (int i = 0; i < 12; ++i) {
      const Made x = pool[below(pool.size())];
      Made made = x;
      switch (below(8)) {
        case 0: made = cast(x, kWhole[below(kWhole.size())]); break;
        case 1:
          if (x.dtype != DType::u64) made = {b.op("Abs", {x.value}), x.dtype};
          break;
        case 2: {  // a choice by a comparison
          const Made y = cast(pool[below(pool.size())], x.dtype);
          made = {b.op("Where", {b.op(below(2) ? "Less" : "Equal", {x.value, y.value}), x.value, y.value}), x.dtype};
          break;
        }
        case 3: {  // through floats that hold it
          const Made small = cast(x, below(2) ? DType::i16 : DType::u8);
          made =
              cast({b.op("Mul", {cast(small, DType::f32).value, b.constant("half" + std::to_string(i), Tensor::from<float>({}, {0.5f}))}),
                    DType::f32},
                   kWhole[below(6)]);
          break;
        }
        default: {
          const Made y = cast(pool[below(pool.size())], x.dtype);
          const char* ops[]{"Add", "Sub", "Mul", "Max", "Min", "BitwiseAnd", "BitwiseXor"};
          made = {b.op(ops[below(std::size(ops))], {x.value, y.value}), x.dtype};
        }
      }
      pool.push_back(made);
      fresh.push_back(made);
    }
    for (size_t i = 8; i < fresh.size(); ++i) b.output(b.op("Identity", {fresh[i].value}), "y" + std::to_string(i));
    const Graph g = b.finish();
    const std::vector<Tensor> expected = evaluate_plain(g, fed);
    for (const bool fuse : {true, false}) {
      Lane lane(compile(g, {.threads = 1, .fuse = fuse}));
      const Outputs got = lane.run(std::span<const Tensor>(fed));
      for (size_t i = 0; i < expected.size(); ++i) CHECK_MESSAGE(identical(got[i], expected[i]), got.name(i));
    }
  }
}
