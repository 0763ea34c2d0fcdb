// Narrow numbers: half precision, dynamic quantisation, conversions; by compiled steps, and right.
#include <algorithm>
#include <cmath>
#include <cstdint>
#include <functional>
#include <map>
#include <optional>

#include "kernels/range.hpp"
#include "kernels/tape.hpp"
#include "steps.hpp"

namespace test {
namespace {

Tensor as(DType to, const Tensor& t) {
  Tensor n(to, t.shape());
  for (int64_t i = 0; i < t.size(); ++i)
    static_cast<uint16_t*>(n.data())[i] = static_cast<uint16_t>(encode_narrow(to, static_cast<double>(t.as<float>()[i])));
  return n;
}

bool no_plain(const Graph& g, const CompileOptions& o) {
  const EditionInfo info = compile(g, o).describe();
  return std::ranges::none_of(info.steps, [](const StepInfo& s) { return s.kind == "plain"; });
}

std::vector<Tensor> run_compiled(const Graph& g, const CompileOptions& o, const std::vector<Tensor>& inputs) {
  Lane lane(compile(g, o));
  const Outputs out = lane.run(std::span<const Tensor>(inputs));
  std::vector<Tensor> all;
  for (size_t i = 0; i < out.size(); ++i) all.push_back(out[i]);
  return all;
}

// How far apart in steps of the narrow type, over all elements.
double steps_apart(const Tensor& a, const Tensor& b) { return compare("", a, b, Tolerance{.ulp = 1 << 20}).max_ulp; }

}  // namespace

TEST_CASE("every f16 and bf16 is read and written as its definition says, on every instruction set") {
  Tensor all(DType::f32, {65536});
  for (kernels::Isa isa : kernels::available()) {
    CAPTURE(std::string(kernels::name(isa)));
    for (const auto& [dtype, type] : {std::pair{DType::f16, kernels::TapeType::f16}, {DType::bf16, kernels::TapeType::bf16}}) {
      std::vector<uint16_t> bits(65536), back(65536);
      for (size_t i = 0; i < bits.size(); ++i) bits[i] = static_cast<uint16_t>(i);
      const kernels::Tape copy{1, 2, {{kernels::TapeOp::copy, 1, 0, 0, 0}}, 1};
      kernels::TapeOperand in{bits.data(), 1, type};
      float* wide = all.as<float>().data();
      kernels::run_tape(isa)(copy, &in, wide, kernels::TapeType::f32, 65536);
      int wrong = 0;
      for (uint32_t i = 0; i < 65536; ++i) {
        const auto expected = static_cast<float>(decode_narrow(dtype, i));
        wrong +=
            !(wide[i] == expected && std::signbit(wide[i]) == std::signbit(expected)) && !(std::isnan(wide[i]) && std::isnan(expected));
      }
      CHECK(wrong == 0);
      // Numbers between two neighbours, and right in the middle: ties go to the even one.
      std::vector<float> between;
      for (uint32_t i = 0; i < 65535; ++i) {
        const auto a = static_cast<float>(decode_narrow(dtype, i)), b = static_cast<float>(decode_narrow(dtype, i + 1));
        for (float part : {0.0f, 0.25f, 0.5f, 0.75f}) between.push_back(a + (b - a) * part);
      }
      for (float v : {65519.0f, 65520.0f, 3.4e38f, -3.4e38f, 1e-8f, 2.9e-8f, 3.0e-8f, 1e-45f, HUGE_VALF}) between.push_back(v);
      std::vector<uint16_t> narrow(between.size());
      in = {between.data(), 1, kernels::TapeType::f32};
      kernels::run_tape(isa)(copy, &in, narrow.data(), type, static_cast<int64_t>(between.size()));
      wrong = 0;
      for (size_t i = 0; i < between.size(); ++i) {
        if (std::isnan(between[i])) wrong += !std::isnan(decode_narrow(dtype, narrow[i]));
        else wrong += narrow[i] != encode_narrow(dtype, static_cast<double>(between[i]));
      }
      CHECK(wrong == 0);
    }
  }
}

TEST_CASE("a Cast between any two of the common types is a compiled step, and the same as plain evaluation's") {
  const Tensor x = [] {
    Tensor t = random_tensor({3, 5, 37}, 1, -300, 300);
    t.as<float>()[0] = NAN, t.as<float>()[1] = HUGE_VALF, t.as<float>()[2] = -HUGE_VALF, t.as<float>()[3] = 1e20f, t.as<float>()[4] = -0.0f;
    return t;
  }();
  // To the standard's numbers of types.
  const std::pair<DType, int64_t> types[]{{DType::f32, 1},  {DType::i32, 6},  {DType::i64, 7},
                                          {DType::f16, 10}, {DType::f64, 11}, {DType::bf16, 16}};
  for (const auto& [from, from_number] : types) {
    for (const auto& [to, to_number] : types) {
      if (from == to || (from != DType::f32 && to != DType::f32)) continue;
      CAPTURE(std::string(to_string(from)));
      CAPTURE(std::string(to_string(to)));
      Builder first("first", 19);
      first.output(first.op("Cast", {first.input("x", DType::f32, {3, 5, 37})}, {{"to", from_number}}), "y");
      const Tensor in = from == DType::f32 ? x : evaluate_plain(first.finish(), std::vector{x})[0];
      Builder b("cast", 19);
      b.output(b.op("Cast", {b.input("x", from, {3, 5, 37})}, {{"to", to_number}}), "y");
      everywhere(b.finish(), [&](const Graph& g, const CompileOptions& o) {
        CHECK(no_plain(g, o));
        const Comparison c = compare("y", run_compiled(g, o, {in})[0], evaluate_plain(g, std::vector{in})[0], Tolerance{});
        CHECK_MESSAGE(c.pass, c.reason);
      });
    }
  }
}

TEST_CASE("steps on f16 and bf16 round once where their results leave, and at each node when that is asked for") {
  for (DType dtype : {DType::f16, DType::bf16}) {
    CAPTURE(std::string(to_string(dtype)));
    Builder b("block", 19);
    const ValueId x = b.input("x", dtype, {1, 6, 9, 10});
    const ValueId w = b.constant("w", as(dtype, random_tensor({8, 6, 3, 3}, 2, -0.4f, 0.4f)));
    const ValueId bias = b.constant("b", as(dtype, random_tensor({8}, 3)));
    const ValueId c = b.op("Conv", {x, w, bias}, {{"pads", std::vector<int64_t>{1, 1, 1, 1}}});
    const ValueId y = b.op("Sigmoid", {b.op("Add", {c, b.op("Relu", {c})})});
    const ValueId pooled = b.op("MaxPool", {y}, {{"kernel_shape", std::vector<int64_t>{2, 2}}, {"strides", std::vector<int64_t>{2, 2}}});
    const ValueId flat = b.op("Flatten", {pooled});
    const ValueId z = b.op("MatMul", {flat, b.constant("m", as(dtype, random_tensor({160, 7}, 4, -0.2f, 0.2f)))});
    b.output(b.op("Softmax", {z}), "p");
    b.output(c, "conv");
    const std::vector<Tensor> in{as(dtype, random_tensor({1, 6, 9, 10}, 5))};
    const Graph graph = b.finish();
    const auto expected = evaluate_plain(graph, in);
    everywhere(graph, [&](const Graph& g, const CompileOptions& o) {
      CHECK(no_plain(g, o));
      CompileOptions each = o;
      each.round_each = true;
      const auto wide = run_compiled(g, o, in), rounded = run_compiled(g, each, in);
      // A single convolution: both sums are within rounding of the true one, so at most one step apart, and seldom that.
      CHECK(steps_apart(wide[1], expected[1]) <= 1);
      CHECK(steps_apart(rounded[1], expected[1]) <= 1);
      CHECK(steps_apart(rounded[0], expected[0]) <= 2);
      // Without rounding in between it is nearer to the truth, and may differ from the model as written by what each node's rounding adds
      // up to: nine of them here.
      CHECK(steps_apart(wide[0], expected[0]) <= 9);
    });
  }
}

namespace {

// Numbers of a type from small floats; whole ones with both signs.
Tensor in_type(DType d, const Shape& shape, uint64_t seed, float low = -9, float high = 9) {
  const Tensor x = random_tensor(shape, seed, low, high);
  Builder b("to", 19);
  const int64_t number = d == DType::f64 ? 11 : d == DType::i32 ? 6 : d == DType::i64 ? 7 : d == DType::f32 ? 1 : 9;
  b.output(b.op("Cast", {b.input("x", DType::f32, Dims(shape.begin(), shape.end()))}, {{"to", number}}), "y");
  return evaluate_plain(b.finish(), std::vector{x})[0];
}

}  // namespace

TEST_CASE("doubles and whole numbers: elementwise ops are tapes of their own type, the same as plain evaluation's") {
  const Shape shape{3, 4, 67};
  const auto check = [&](const char* op, DType d, const std::vector<Shape>& shapes, std::map<std::string, Attribute::Data> attributes,
                         float low = -9, bool second_constant = false, std::optional<DType> first = {}) {
    CAPTURE(std::string(op));
    CAPTURE(std::string(to_string(d)));
    Builder b("wide", 20);
    std::vector<ValueId> in;
    std::vector<Tensor> fed;
    for (size_t i = 0; i < shapes.size(); ++i) {
      Tensor t = in_type(i == 0 && first ? *first : d, shapes[i], 7 + i, low, 9);
      const std::string name = "x" + std::to_string(i);
      if (second_constant && i > 0) {
        in.push_back(b.constant(name, t));
        continue;
      }
      in.push_back(b.input(name, t.dtype(), Dims(shapes[i].begin(), shapes[i].end())));
      fed.push_back(t);
    }
    b.output(b.op(op, in, std::move(attributes)), "y");
    const Graph g = b.finish();
    for (int threads : {1, 2}) {
      CHECK(no_plain(g, {.threads = threads}));
      const Comparison c = compare("y", run_compiled(g, {.threads = threads}, fed)[0], evaluate_plain(g, fed)[0],
                                   d == DType::f64 ? Tolerance{1e-15, 1e-14} : Tolerance{});
      CHECK_MESSAGE(c.pass, c.reason);
    }
  };
  for (DType d : {DType::f64, DType::i32, DType::i64}) {
    for (const char* op : {"Neg", "Abs", "Sign", "Relu"}) check(op, d, {shape}, {});
    for (const char* op : {"Add", "Sub", "Mul", "Max", "Min", "Less", "LessOrEqual", "Greater", "GreaterOrEqual", "Equal"}) {
      check(op, d, {shape, shape}, {});
      check(op, d, {shape, {67}}, {});
      check(op, d, {{4, 1}, shape}, {});
      check(op, d, {shape, {}}, {});
    }
    check("Div", d, {shape, {67}}, {}, 1, true);
    check("Mod", d, {shape, {67}}, {{"fmod", int64_t{d == DType::f64}}}, 1, true);
    check("Where", d, {shape, {3, 4, 1}, shape}, {}, -9, false, DType::boolean);
    check("Clip", d, {shape, {}, {}}, {}, -3, true);
  }
  for (const char* op :
       {"Sqrt", "Reciprocal", "Exp",  "Log",      "Tanh",     "Sigmoid",     "Erf",       "Floor", "Ceil", "Round",           "LeakyRelu",
        "Elu",  "Celu",       "Selu", "Softplus", "Softsign", "HardSigmoid", "HardSwish", "Mish",  "Gelu", "ThresholdedRelu", "Sin",
        "Cos",  "Tan",        "Atan", "IsNaN",    "IsInf"})
    check(op, DType::f64, {shape}, {}, op == std::string("Sqrt") || op == std::string("Log") ? 0.1f : -9);
  check("Pow", DType::f64, {shape, {}}, {}, 0.5f);
  check("PRelu", DType::f64, {shape, {67}}, {});
}

TEST_CASE("doubles and whole numbers: reductions over any axes that lie together") {
  for (DType d : {DType::f64, DType::i32, DType::i64, DType::f32}) {
    for (const char* op :
         {"ReduceSum", "ReduceMean", "ReduceMax", "ReduceMin", "ReduceProd", "ReduceL1", "ReduceL2", "ReduceSumSquare", "ReduceLogSum"}) {
      if (d == DType::f32 && op != std::string("ReduceProd")) continue;
      for (const std::vector<int64_t>& axes : {std::vector<int64_t>{}, {0}, {1}, {2}, {-1, 1}, {0, 1}}) {
        CAPTURE(std::string(op));
        CAPTURE(std::string(to_string(d)));
        Builder b("reduce", 20);
        std::vector<ValueId> in{b.input("x", d, {3, 70, 5})};
        if (!axes.empty()) in.push_back(b.constant("axes", Tensor::from<int64_t>({static_cast<int64_t>(axes.size())}, axes)));
        b.output(b.op(op, in, {{"keepdims", int64_t{axes.size() != 1}}}), "y");
        const std::vector<Tensor> fed{d == DType::f32 ? random_tensor({3, 70, 5}, 3, 0.9f, 1.1f) : in_type(d, {3, 70, 5}, 3, 1, 9)};
        everywhere(b.finish(), [&](const Graph& g, const CompileOptions& o) {
          CHECK(no_plain(g, o));
          const Comparison c =
              compare("y", run_compiled(g, o, fed)[0], evaluate_plain(g, fed)[0], is_float(d) ? Tolerance{1e-13, 1e-6} : Tolerance{});
          CHECK_MESSAGE(c.pass, c.reason);
        });
      }
    }
  }
}

TEST_CASE("doubles: products and convolutions") {
  using A = std::map<std::string, Attribute::Data>;
  struct Case {
    const char* op;
    std::vector<Shape> shapes;
    A attributes;
  };
  const Case cases[]{
      {"MatMul", {{3, 5}, {5, 37}}, {}},
      {"MatMul", {{2, 1, 19, 5}, {3, 5, 4}}, {}},
      {"Gemm", {{4, 19}, {21, 4}, {1, 21}}, {{"transA", int64_t{1}}, {"transB", int64_t{1}}, {"alpha", 0.5f}, {"beta", 2.0f}}},
      {"Gemm", {{9, 4}, {4, 3}, {9, 1}}, {}},
      {"Conv", {{2, 3, 20}, {4, 3, 5}, {4}}, {{"pads", std::vector<int64_t>{2, 2}}}},
      {"Conv",
       {{1, 4, 13, 11}, {6, 2, 3, 3}, {6}},
       {{"group", int64_t{2}},
        {"strides", std::vector<int64_t>{2, 1}},
        {"pads", std::vector<int64_t>{1, 0, 2, 1}},
        {"dilations", std::vector<int64_t>{1, 2}}}},
      {"Conv", {{1, 4, 9, 40}, {4, 1, 3, 3}}, {{"group", int64_t{4}}}},
      {"Conv", {{1, 2, 5, 6, 7}, {3, 2, 2, 3, 2}}, {}}};
  for (const Case& c : cases) {
    CAPTURE(std::string(c.op));
    for (bool constant : {false, true}) {
      Builder b("double", 20);
      std::vector<ValueId> in;
      std::vector<Tensor> fed;
      for (size_t i = 0; i < c.shapes.size(); ++i) {
        const Tensor t = in_type(DType::f64, c.shapes[i], 50 + i, -1, 1);
        const std::string name = "x" + std::to_string(i);
        if (constant && i > 0) in.push_back(b.constant(name, t));
        else in.push_back(b.input(name, DType::f64, Dims(c.shapes[i].begin(), c.shapes[i].end()))), fed.push_back(t);
      }
      b.output(b.op(c.op, in, c.attributes), "y");
      everywhere(b.finish(), [&](const Graph& g, const CompileOptions& o) {
        CHECK(no_plain(g, o));
        const Comparison r = compare("y", run_compiled(g, o, fed)[0], evaluate_plain(g, fed)[0], Tolerance{1e-13, 1e-12});
        CHECK_MESSAGE(r.pass, r.reason);
      });
    }
  }
}

TEST_CASE("whole numbers wrap, and a division by zero is still an error of the run") {
  Builder b("wrap", 17);
  const auto x = b.input("x", DType::i64, {2}), y = b.input("y", DType::i64, {2});
  b.output(b.op("Div", {b.op("Mul", {x, x}), y}), "q");
  const Graph g = b.finish();
  const std::vector<Tensor> in{Tensor::from<int64_t>({2}, {int64_t{3} << 40, INT64_MIN}), Tensor::from<int64_t>({2}, {-1, 7})};
  CHECK(compare("q", run_compiled(g, {.threads = 1}, in)[0], evaluate_plain(g, in)[0], Tolerance{}).pass);
  const std::vector<Tensor> zero{in[0], Tensor::from<int64_t>({2}, {1, 0})};
  CHECK(error_of([&] { run_compiled(g, {.threads = 1}, zero); }).find("division by zero") != std::string::npos);
}

TEST_CASE("halves are rounded before they become whole numbers") {
  Builder b("whole", 19);
  const ValueId y = b.op("Mul", {b.input("x", DType::f16, {4000}), b.input("y", DType::f16, {4000})});
  b.output(b.op("Cast", {y}, {{"to", int64_t{6}}}), "whole");
  const std::vector<Tensor> in{as(DType::f16, random_tensor({4000}, 1, 0, 45)), as(DType::f16, random_tensor({4000}, 2, 0, 45))};
  const Graph g = b.finish();
  CHECK(no_plain(g, {.threads = 1}));
  const auto got = run_compiled(g, {.threads = 1}, in), expected = evaluate_plain(g, in);
  // A product of two halves is exact in f32, so that both round the same number.
  CHECK(compare("whole", got[0], expected[0], Tolerance{}).pass);
}

TEST_CASE("what only moves narrow numbers moves them as they are") {
  Builder b("move", 19);
  const ValueId table = b.constant("table", as(DType::f16, random_tensor({20, 8}, 1)));
  const ValueId rows = b.op("Gather", {table, b.input("at", DType::i64, {3})});
  b.output(b.op("Transpose", {rows}), "t");
  const Graph g = b.finish();
  const EditionInfo info = compile(g, {.threads = 1}).describe();
  for (const StepInfo& s : info.steps) CHECK(s.kind != "tape");
  const std::vector<Tensor> in{Tensor::from<int64_t>({3}, {4, 0, 19})};
  CHECK(compare("t", run_compiled(g, {.threads = 1}, in)[0], evaluate_plain(g, in)[0], Tolerance{}).pass);
}

TEST_CASE("the range of floats, and bytes by it") {
  for (kernels::Isa isa : kernels::available()) {
    for (int64_t n : {1, 7, 64, 129, 1000}) {
      Tensor x = random_tensor({n}, static_cast<uint64_t>(n), -3, 5);
      if (n > 64) x.as<float>()[n / 2] = NAN;
      const Fenced in(x, true);
      kernels::Range range, expected;
      kernels::find_range(isa)(in.tensor.as<float>().data(), n, range);
      for (float v : x.as<float>()) {
        if (v < expected.low) expected.low = v;
        if (v > expected.high) expected.high = v;
      }
      CHECK(range.low == expected.low);
      CHECK(range.high == expected.high);
      Tensor bytes(DType::u8, {n});
      const Fenced out(bytes, true);
      kernels::to_bytes(isa)(in.tensor.as<float>().data(), n, 0.03f, 100,
                             const_cast<uint8_t*>(static_cast<const uint8_t*>(out.tensor.data())));
      int wrong = 0;
      for (int64_t i = 0; i < n; ++i) {
        const float v = x.as<float>()[i];
        const double q = std::isnan(v) ? 0 : std::clamp(std::nearbyint(v / 0.03f) + 100.0, 0.0, 255.0);
        wrong += static_cast<const uint8_t*>(out.tensor.data())[i] != static_cast<uint8_t>(q);
      }
      CHECK(wrong == 0);
    }
  }
}

TEST_CASE("dynamic quantisation as exporters write it is one 8-bit step for each layer, bit for bit as plain evaluation has it") {
  using A = std::map<std::string, Attribute::Data>;
  std::mt19937_64 random(11);
  for (int round = 0; round < 12; ++round) {
    const bool convolves = round % 2 == 0, is_signed = round % 3 != 0, each = round % 4 > 1;
    const int64_t group = convolves && round % 6 == 4 ? 6 : 1, in = 6, out = round % 6 == 4 ? 6 : between(random, 1, 40);
    CAPTURE(round);
    Builder b("dynamic", 19);
    const Shape xs = convolves ? Shape{2, in, 7, 9} : Shape{5, 3, in};
    const ValueId x = b.input("x", DType::f32, Dims(xs.begin(), xs.end()));
    const auto q = b.ops("DynamicQuantizeLinear", {x}, 3);
    const DType type = is_signed ? DType::i8 : DType::u8;
    const ValueId w = b.constant("w", bytes_tensor(type, convolves ? Shape{out, in / group, 3, 3} : Shape{in, out}, random));
    const ValueId zero = b.constant("zero", byte_scalar(type, is_signed ? 0 : 128));
    const ValueId sums = convolves
                             ? b.op("ConvInteger", {q[0], w, q[2], zero}, A{{"pads", std::vector<int64_t>{1, 1, 1, 1}}, {"group", group}})
                             : b.op("MatMulInteger", {q[0], w, q[2], zero});
    const Shape along = !each ? Shape{} : convolves ? Shape{1, out, 1, 1} : Shape{out};
    const ValueId scale = b.op("Mul", {q[1], b.constant("scale", random_tensor(along, 3, 0.01f, 0.02f))});
    ValueId y = b.op("Mul", {b.op("Cast", {sums}, A{{"to", int64_t{1}}}), scale});
    y = b.op("Add", {y, b.constant("bias", random_tensor(convolves ? Shape{1, out, 1, 1} : Shape{out}, 4))});
    if (round % 3 == 1) y = b.op("Relu", {y});
    if (round % 3 == 2) y = b.op("Mul", {y, b.op("Sigmoid", {y})});
    b.output(y, "y");
    const std::vector<Tensor> inputs{random_tensor(xs, 5, -2, 3)};
    everywhere(b.finish(), [&](const Graph& g, const CompileOptions& o) {
      const EditionInfo info = compile(g, o).describe();
      // Bytes by their range, the scale, the layer; layouts change at the inputs and outputs.
      CHECK(std::ranges::count_if(info.steps, [](const StepInfo& s) { return s.kind != "layout"; }) == 3);
      CHECK(std::ranges::count(info.steps, "plain", &StepInfo::kind) == 0);
      const Comparison c =
          compare("y", run_compiled(g, o, inputs)[0], evaluate_plain(g, inputs)[0], round % 3 == 2 ? Tolerance{1e-6, 1e-5} : Tolerance{});
      CHECK_MESSAGE(c.pass, c.reason);
    });
  }
}

TEST_CASE("ops along other axes, sums over letters and batch-first layers are compiled in the form that steps have") {
  using A = std::map<std::string, Attribute::Data>;
  const auto check = [](const char* what, int outputs, const std::vector<Shape>& shapes,
                        const std::function<std::vector<ValueId>(Builder&, std::vector<ValueId>)>& make) {
    CAPTURE(std::string(what));
    Builder b("form", 20);
    std::vector<ValueId> in;
    std::vector<Tensor> fed;
    for (size_t i = 0; i < shapes.size(); ++i) {
      in.push_back(b.input("x" + std::to_string(i), DType::f32, Dims(shapes[i].begin(), shapes[i].end())));
      fed.push_back(random_tensor(shapes[i], 31 + i));
    }
    for (ValueId v : make(b, in)) b.output(v);
    const Graph g = b.finish();
    CHECK(no_plain(g, {.threads = 2}));
    const auto got = run_compiled(g, {.threads = 2}, fed), expected = evaluate_plain(g, fed);
    REQUIRE(static_cast<int>(expected.size()) == outputs);
    for (size_t i = 0; i < expected.size(); ++i) {
      const Comparison c = compare("y", got[i], expected[i], Tolerance{1e-5, 1e-4});
      CHECK_MESSAGE(c.pass, c.reason);
    }
  };
  const Shape x{5, 80, 7};
  for (int64_t axis : {0, 1}) {
    for (int64_t keep : {0, 1}) {
      for (const char* op : {"ArgMax", "ArgMin"})
        check(op, 1, {x}, [&](Builder& b, auto in) { return std::vector{b.op(op, {in[0]}, A{{"axis", axis}, {"keepdims", keep}})}; });
      for (const char* op : {"ReduceL2", "ReduceSumSquare", "ReduceLogSumExp"})
        check(op, 1, {x}, [&](Builder& b, auto in) {
          return std::vector{b.op(op, {in[0], b.constant("axes", Tensor::from<int64_t>({1}, {axis}))}, A{{"keepdims", keep}})};
        });
    }
  }
  const Shape picture{2, 7, 6, 9};
  check("LRN", 1, {picture}, [&](Builder& b, auto in) {
    return std::vector{b.op("LRN", in, A{{"size", int64_t{4}}, {"alpha", 0.5f}, {"bias", 2.0f}})};
  });
  for (int64_t p : {1, 2}) {
    check("LpPool", 1, {picture}, [&](Builder& b, auto in) {
      return std::vector{
          b.op("LpPool", in, A{{"kernel_shape", std::vector<int64_t>{3, 2}}, {"p", p}, {"pads", std::vector<int64_t>{1, 0, 1, 1}}})};
    });
    for (int64_t axis : {1, 3})
      check("LpNormalization", 1, {picture}, [&](Builder& b, auto in) {
        return std::vector{b.op("LpNormalization", in, A{{"axis", axis}, {"p", p}})};
      });
  }
  for (int64_t upper : {0, 1})
    check("Trilu", 1, {picture}, [&](Builder& b, auto in) {
      return std::vector{b.op("Trilu", {in[0], b.constant("k", Tensor::from<int64_t>({}, {-1}))}, A{{"upper", upper}})};
    });
  for (int64_t axis : {-1, 0, 1})
    check("OneHot", 1, {{3, 4}}, [&](Builder& b, auto in) {
      const auto at = b.op("Cast", {b.op("Mul", {in[0], b.constant("five", Tensor::from<float>({}, {5}))})}, A{{"to", int64_t{7}}});
      return std::vector{
          b.op("OneHot", {at, b.constant("depth", Tensor::from<int64_t>({}, {4})), b.constant("values", Tensor::from<float>({2}, {-1, 2}))},
               A{{"axis", axis}})};
    });
  for (const char* mode : {"linear", "cubic"}) {
    for (const std::vector<float>& scales : {std::vector<float>{1, 2, 2, 1}, {1, 1.5f, 1, 0.6f}, {2, 1, 2, 3}})
      check("Resize", 1, {picture}, [&](Builder& b, auto in) {
        return std::vector{
            b.op("Resize", {in[0], kAbsent, b.constant("scales", Tensor::from<float>({4}, scales))}, A{{"mode", std::string(mode)}})};
      });
  }
  for (const char* op : {"Softmax", "LogSoftmax"})
    check(op, 1, {x}, [&](Builder& b, auto in) { return std::vector{b.op(op, {in[0]}, A{{"axis", int64_t{0}}})}; });
  check("TopK", 2, {x}, [&](Builder& b, auto in) {
    return b.ops("TopK", {in[0], b.constant("k", Tensor::from<int64_t>({1}, {3}))}, 2, A{{"axis", int64_t{1}}});
  });
  struct Letters {
    const char* equation;
    Shape a, b;
  };
  for (const auto& [equation, a, c] : {Letters{"ij,jk->ik", {3, 4}, {4, 5}},
                                       {"bij,bjk->bik", {2, 3, 4}, {2, 4, 5}},
                                       {"bhid,bhjd->bhij", {2, 3, 4, 5}, {2, 3, 6, 5}},
                                       {"bhij,bhjd->bihd", {2, 3, 4, 6}, {2, 3, 6, 5}},
                                       {"abc,cd->abd", {2, 3, 4}, {4, 5}},
                                       {"i,i->", {7}, {7}},
                                       {"nchw,oc->nohw", {2, 3, 4, 5}, {6, 3}}})
    check(equation, 1, {a, c}, [&, e = std::string(equation)](Builder& b, auto in) {
      return std::vector{b.op("Einsum", in, A{{"equation", e}})};
    });
  check("Gemm", 1, {{4, 3}, {5, 4}, {3, 1}}, [&](Builder& b, auto in) {
    return std::vector{b.op("Gemm", in, A{{"transA", int64_t{1}}, {"transB", int64_t{1}}, {"alpha", 0.5f}, {"beta", 2.0f}})};
  });
  for (const auto& [op, gates] : {std::pair{"LSTM", int64_t{4}}, {"GRU", int64_t{3}}, {"RNN", int64_t{1}}}) {
    for (int64_t after : {0, 1}) {
      if (after && op[0] != 'G') continue;
      check(op, op[0] == 'L' ? 3 : 2, {{5, 3, 6}, {2, 3, 8}}, [&, g = gates](Builder& b, auto in) {
        A attributes{{"hidden_size", int64_t{8}}, {"direction", std::string("bidirectional")}, {"clip", 0.3f}};
        if (after) attributes["linear_before_reset"] = after;
        return b.ops(op,
                     {in[0], b.constant("w", random_tensor({2, g * 8, 6}, 5)), b.constant("r", random_tensor({2, g * 8, 8}, 6)), kAbsent,
                      b.constant("lengths", Tensor::from<int32_t>({3}, {3, 0, 5})), in[1]},
                     op[0] == 'L' ? 3 : 2, attributes);
      });
    }
    check(op, op[0] == 'L' ? 3 : 2, {{2, 5, 6}, {2, 2, 8}}, [&](Builder& b, auto in) {
      return b.ops(op,
                   {in[0], b.constant("w", random_tensor({2, gates * 8, 6}, 5)), b.constant("r", random_tensor({2, gates * 8, 8}, 6)),
                    kAbsent, kAbsent, in[1]},
                   op[0] == 'L' ? 3 : 2,
                   A{{"hidden_size", int64_t{8}}, {"layout", int64_t{1}}, {"direction", std::string("bidirectional")}});
    });
  }
}

TEST_CASE("elements and slices by their places: any width, any axis, from the end, updates in order, and what is outside told") {
  using A = std::map<std::string, Attribute::Data>;
  for (DType d : {DType::boolean, DType::f32, DType::i64}) {
    for (int64_t axis : {0, 1, 2}) {
      for (bool scatters : {false, true}) {
        Builder b("elements", 20);
        const Tensor data = in_type(d, {4, 4, 4}, 1), updates = in_type(d, {3, 4, 2}, 2);
        std::vector<ValueId> in{b.input("x", data.dtype(), {4, 4, 4}), b.input("at", DType::i64, {3, 4, 2})};
        std::vector<int64_t> at;
        for (int64_t i = 0; i < 24; ++i) at.push_back(i * 7 % 8 - 4);
        std::vector<Tensor> fed{data, Tensor::from<int64_t>({3, 4, 2}, at)};
        if (scatters) in.push_back(b.input("u", data.dtype(), {3, 4, 2})), fed.push_back(updates);
        b.output(b.op(scatters ? "ScatterElements" : "GatherElements", in, A{{"axis", axis}}), "y");
        const Graph g = b.finish();
        CHECK(no_plain(g, {.threads = 2}));
        CHECK(compare("y", run_compiled(g, {.threads = 2}, fed)[0], evaluate_plain(g, fed)[0], Tolerance{}).pass);
        at[5] = 4;
        fed[1] = Tensor::from<int64_t>({3, 4, 2}, at);
        CHECK(error_of([&] { run_compiled(g, {.threads = 2}, fed); }).find("index 4 is outside an axis of 4 elements") !=
              std::string::npos);
      }
    }
    for (bool scatters : {false, true}) {
      for (int64_t batch : {0, 1}) {
        if (scatters && batch) continue;
        Builder b("slices", 20);
        const Shape places = batch ? Shape{4, 3, 1} : Shape{3, 2}, slices = batch ? Shape{4, 3, 4} : Shape{3, 4};
        std::vector<int64_t> at;
        for (int64_t i = 0; i < element_count(places); ++i) at.push_back(i * 3 % 8 - 4);
        std::vector<ValueId> in{b.input("x", d, {4, 4, 4}), b.input("at", DType::i64, Dims(places.begin(), places.end()))};
        std::vector<Tensor> fed{in_type(d, {4, 4, 4}, 1), Tensor::from<int64_t>(places, at)};
        if (scatters) in.push_back(b.input("u", d, {3, 4})), fed.push_back(in_type(d, slices, 2));
        b.output(b.op(scatters ? "ScatterND" : "GatherND", in, scatters ? A{} : A{{"batch_dims", batch}}), "y");
        const Graph g = b.finish();
        CHECK(no_plain(g, {.threads = 2}));
        CHECK(compare("y", run_compiled(g, {.threads = 2}, fed)[0], evaluate_plain(g, fed)[0], Tolerance{}).pass);
      }
    }
  }
}

TEST_CASE("the log of a sum of powers keeps infinities") {
  Builder b("infinite", 20);
  b.output(b.op("ReduceLogSumExp", {b.input("x", DType::f32, {4, 3}), b.constant("axes", Tensor::from<int64_t>({1}, {1}))}), "y");
  const Graph g = b.finish();
  constexpr float kInf = HUGE_VALF;
  const std::vector<Tensor> in{Tensor::from<float>({4, 3}, {1, 2, 3, -kInf, -kInf, -kInf, 1, kInf, -kInf, NAN, 1, 2})};
  const Comparison c = compare("y", run_compiled(g, {.threads = 1}, in)[0], evaluate_plain(g, in)[0], Tolerance{1e-6, 1e-6});
  CHECK_MESSAGE(c.pass, c.reason);
}

}  // namespace test
