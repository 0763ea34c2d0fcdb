// Compiled data movement, resizing and selection against plain evaluation: ragged shapes, every element size and instruction set.
#include <algorithm>
#include <cmath>

#include "support.hpp"

using namespace test;
using Data = Attribute::Data;
using I = std::vector<int64_t>;

namespace {

Tensor filled(DType dtype, Shape shape, uint64_t seed) {
  Tensor t(dtype, std::move(shape));
  std::mt19937_64 random(seed);
  if (dtype == DType::f32) {
    for (float& v : t.as<float>()) v = static_cast<float>(static_cast<int>(random() % 4001) - 2000) / 128;
    return t;
  }
  auto* bytes = static_cast<uint8_t*>(t.data());
  for (size_t i = 0; i < t.byte_size(); ++i) bytes[i] = static_cast<uint8_t>(random());
  return t;
}

struct Want {
  const char* step = "copy";  // the kind of step it must become
  bool exact = true;
};

void agrees(const char* op, const Tensor& x, const std::vector<Tensor>& constants, std::map<std::string, Data> attributes, Want want = {},
            int outputs = 1) {
  Builder b("one", 21);
  std::vector<ValueId> in{b.input("x", x.dtype(), Dims(x.shape().begin(), x.shape().end()))};
  for (const Tensor& t : constants) in.push_back(t.empty() ? kAbsent : b.constant("c" + std::to_string(in.size()), t));
  for (ValueId v : b.ops(op, in, outputs, std::move(attributes))) b.output(v);
  const Graph g = b.finish();
  const auto expected = evaluate_plain(g, std::span(&x, 1));
  for (const std::string& isa : machine_info().isas) {
    for (int threads : {1, 3}) {
      INFO(op << " of " << to_string(x.shape()) << " " << to_string(x.dtype()) << ", " << isa << ", " << threads << " threads");
      const Program p = compile(g, {.threads = threads, .isa = isa});
      CHECK(p.describe().steps[0].kind == want.step);
      Lane lane(p);
      const Outputs out = lane.run(std::span(&x, 1));
      for (size_t i = 0; i < expected.size(); ++i) {
        if (want.exact) CHECK(identical(out[i], expected[i]));
        else CHECK(compare("y", out[i], expected[i], Tolerance{1e-5, 1e-5, 0}).pass);
      }
    }
  }
}

}  // namespace

TEST_CASE("transposes of every element size, small and larger than the caches") {
  for (DType d : {DType::u8, DType::f16, DType::f32, DType::i64}) {
    for (const Shape& s : {Shape{5, 7}, Shape{64, 64}, Shape{130, 67}, Shape{16, 1000}})
      agrees("Transpose", filled(d, s, 1), {}, {{"perm", I{1, 0}}});
    agrees("Transpose", filled(d, {3, 17, 9, 65}, 2), {}, {{"perm", I{0, 2, 3, 1}}});
    agrees("Transpose", filled(d, {3, 17, 9, 64}, 3), {}, {{"perm", I{0, 2, 1, 3}}});
    agrees("Transpose", filled(d, {2, 3, 4, 5}, 4), {}, {{"perm", I{3, 1, 0, 2}}});
  }
  agrees("Transpose", filled(DType::f32, {1600, 1408}, 5), {}, {{"perm", I{1, 0}}});
  agrees("Transpose", filled(DType::f32, {1601, 1413}, 5), {}, {{"perm", I{1, 0}}});
  agrees("Transpose", filled(DType::u8, {3072, 3010}, 6), {}, {{"perm", I{1, 0}}});
  agrees("Transpose", filled(DType::f16, {2048, 2200}, 6), {}, {{"perm", I{1, 0}}});
}

TEST_CASE("padding, tiling, expanding") {
  for (DType d : {DType::u8, DType::f16, DType::f32, DType::i64, DType::boolean}) {
    const Tensor x = d == DType::boolean ? Tensor::from<bool>({3, 1, 2}, {true, false, true, true, false, false}) : filled(d, {3, 5, 7}, 1);
    agrees("Pad", x, {i64s({1, 0, 2, 0, 3, 1})}, {});
    agrees("Pad", x, {i64s({0, 0, -1, -1, 0, 0})}, {});
    agrees("Tile", x, {i64s({2, 1, 3})}, {});
    agrees("Tile", x, {i64s({1, 4, 1})}, {});
  }
  for (const char* mode : {"reflect", "edge", "wrap"})
    agrees("Pad", filled(DType::f32, {4, 6, 9}, 2), {i64s({0, 2, 3, 1, 1, 4})}, {{"mode", std::string(mode)}});
  agrees("Pad", filled(DType::f32, {4, 6}, 2), {i64s({0, 2, 3, 1}), Tensor::from<float>({}, {-2.5f})}, {});
  agrees("Pad", filled(DType::f32, {0, 6}, 2), {i64s({2, 0, 1, 0}), Tensor::from<float>({}, {4})}, {});
  agrees("Expand", filled(DType::f32, {1, 5000}, 3), {i64s({7, 5000})}, {});
  agrees("Expand", filled(DType::f32, {6, 1}, 3), {i64s({6, 5000})}, {});
}

TEST_CASE("resizing planes: regular scales, odd ones, cubic, antialiased") {
  const Tensor x = filled(DType::f32, {2, 3, 13, 37}, 1), wide = filled(DType::f32, {1, 2, 16, 160}, 2);
  const auto scales = [](float h, float w) { return Tensor::from<float>({4}, {1, 1, h, w}); };
  for (const auto& [h, w] : {std::pair{2.0f, 2.0f}, {3.0f, 4.0f}, {1.0f, 2.0f}, {0.6f, 1.7f}})
    agrees("Resize", x, {Tensor(), scales(h, w)}, {{"mode", std::string("nearest")}});
  agrees("Resize", filled(DType::u8, {1, 3, 5, 64}, 3), {Tensor(), scales(2, 2)}, {{"mode", std::string("nearest")}});
  const Want linear{"resample", false};
  for (const char* coordinates : {"half_pixel", "align_corners", "asymmetric", "pytorch_half_pixel"}) {
    for (const auto& [h, w] : {std::pair{2.0f, 2.0f}, {0.5f, 0.5f}, {1.7f, 0.6f}, {1.0f, 2.0f}, {4.0f, 3.0f}})
      agrees("Resize", wide, {Tensor(), scales(h, w)},
             {{"mode", std::string("linear")}, {"coordinate_transformation_mode", std::string(coordinates)}}, linear);
  }
  agrees("Resize", x, {Tensor(), scales(2, 2)}, {{"mode", std::string("cubic")}}, linear);
  agrees("Resize", wide, {Tensor(), scales(0.4f, 0.3f)}, {{"mode", std::string("cubic")}, {"antialias", int64_t{1}}}, linear);
  agrees("Resize", wide, {Tensor(), scales(0.5f, 0.25f)}, {{"mode", std::string("linear")}, {"antialias", int64_t{1}}}, linear);
}

TEST_CASE("selection: ties, NaN, infinities, every end") {
  const Want best{"selection"};
  Tensor x = filled(DType::f32, {9, 600}, 7);
  for (int64_t i = 0; i < 600; ++i) x.as<float>()[2 * 600 + i] = 3;  // all equal
  x.as<float>()[3 * 600 + 17] = NAN;
  x.as<float>()[4 * 600 + 599] = INFINITY;
  x.as<float>()[5 * 600 + 1] = -INFINITY;
  x.as<float>()[6 * 600] = NAN;
  for (int64_t largest : {0, 1}) {
    for (int64_t k : {1, 2, 10, 75}) agrees("TopK", x, {i64s({k})}, {{"largest", largest}}, best, 2);
    // More than the kernel for few keeps: of rows with many equals, with numbers that are none, not much longer, and of a length that no
    // vector divides.
    Tensor longer = filled(DType::f32, {9, 6001}, 11);
    std::copy_n(x.as<float>().begin(), 9 * 600, longer.as<float>().begin());
    for (int64_t i = 0; i < 6001; ++i) {
      longer.as<float>()[1 * 6001 + i] = static_cast<float>(i % 7);
      longer.as<float>()[2 * 6001 + i] = 3;
      longer.as<float>()[5 * 6001 + i] = i % 3 == 0 ? -INFINITY : static_cast<float>(i);
    }
    longer.as<float>()[4 * 6001 + 6000] = NAN;
    for (int64_t k : {300, 1000, 4500, 6001}) agrees("TopK", longer, {i64s({k})}, {{"largest", largest}}, best, 2);
    for (const DType d : {DType::f64, DType::i32, DType::i64})
      agrees("TopK", filled(d, {3, 5003}, 12), {i64s({700})}, {{"largest", largest}}, best, 2);
  }
  for (const char* op : {"ArgMax", "ArgMin"}) {
    for (int64_t last : {0, 1}) agrees(op, x, {}, {{"axis", int64_t{1}}, {"select_last_index", last}}, best);
    agrees(op, filled(DType::f32, {4, 3}, 8), {}, {{"axis", int64_t{-1}}, {"keepdims", int64_t{0}}}, best);
  }
}

TEST_CASE("reductions down the columns, in strips and threads") {
  for (const Shape& s : {Shape{33, 4100}, Shape{2, 65, 700}, Shape{3, 1, 5}}) {
    for (const char* op : {"ReduceSum", "ReduceMean", "ReduceMax", "ReduceMin"}) {
      Tensor x = filled(DType::f32, s, 9);
      agrees(op, x, {i64s({static_cast<int64_t>(s.size()) - 2})}, {}, {"reduction", false});
      x.as<float>()[x.size() / 2] = NAN;
      agrees(op, x, {i64s({static_cast<int64_t>(s.size()) - 2})}, {}, {"reduction", false});
    }
  }
}

TEST_CASE("softmax at its edges") {
  Tensor x = filled(DType::f32, {6, 5001}, 3);
  x.as<float>()[5001] = NAN;
  x.as<float>()[2 * 5001] = INFINITY;
  x.as<float>()[3 * 5001 + 4] = -INFINITY;
  for (int64_t i = 0; i < 5001; ++i) x.as<float>()[4 * 5001 + i] = -INFINITY;
  agrees("Softmax", x, {}, {}, {"softmax", false});
  agrees("Softmax", filled(DType::f32, {5, 77}, 4), {}, {}, {"softmax", false});
}

namespace {

// A graph of long rows: by parts, near plain, and the same bits on any number of threads.
void parts_agree(const Graph& g, const std::vector<Tensor>& fed) {
  const auto expected = evaluate_plain(g, fed);
  for (const std::string& isa : machine_info().isas) {
    std::vector<Tensor> first;
    for (int threads : {1, 2, 5}) {
      CAPTURE(isa);
      CAPTURE(threads);
      const CompileOptions options{.threads = threads, .isa = isa};
      if (threads == 2) check_against(expected, g, fed, options, {1e-5, 2e-5, 0});  // operands between pages that may not be touched
      const Program p = compile(g, options);
      const auto info = p.describe();
      CHECK(std::ranges::any_of(info.steps, [](const StepInfo& s) { return has(s.recipe, " parts, "); }));
      Lane lane(p);
      const Outputs out = lane.run(std::span<const Tensor>(fed));
      for (size_t i = 0; i < expected.size(); ++i) {
        CHECK(compare("y", out[i], expected[i], Tolerance{1e-5, 2e-5, 0}).pass);
        if (threads == 1) first.push_back(out[i].clone());
        else CHECK(identical(out[i], first[i]));
      }
    }
  }
}

// Rows of numbers up to 8; of five, the last three hold what is no number, infinity, and -infinity all over or in most places.
Tensor long_rows(const Shape& s, float low = -8) {
  Tensor x = random_tensor(s, 11, low, 8);
  const int64_t length = s.back();
  if (s.front() < 5) return x;
  float* rows = x.as<float>().data();
  rows[2 * length + length / 3] = NAN;
  rows[3 * length + length - 1] = INFINITY;
  std::fill_n(rows + 4 * length, length / 2, -INFINITY);
  return x;
}

}  // namespace

TEST_CASE("long rows in parts: every op, with nodes around it, and numbers that are none") {
  constexpr int64_t kLength = 50007;
  const auto net = [&](const std::string& op, const Shape& s, bool around, bool kept, std::map<std::string, Data> attributes = {}) {
    Builder b("rows", 23);
    ValueId v = b.input("x", DType::f32, Dims(s.begin(), s.end()));
    const bool norm = op == "LayerNormalization" || op == "RMSNormalization", reduces = op.starts_with("Reduce");
    if (around) v = b.op("Mul", {v, b.constant("m", random_tensor({kLength}, 5, 0.5f, 1.5f))});
    if (kept) b.output(v, "kept");
    std::vector<ValueId> in{v};
    if (norm) in.push_back(b.constant("scale", random_tensor({kLength}, 1)));
    if (op[0] == 'L' && norm) in.push_back(b.constant("bias", random_tensor({kLength}, 2)));
    if (op[0] == 'I' || op[0] == 'G') {
      for (const char* name : {"scale", "bias"}) in.push_back(b.constant(name, random_tensor({s[1]}, 3)));
    }
    if (reduces) in.push_back(b.constant("axes", i64s({-1})));
    v = b.op(op, in, std::move(attributes));
    if (around && !reduces) v = b.op("Add", {v, b.constant("a", random_tensor({kLength}, 6))});
    b.output(v, "y");
    return b.finish();
  };
  for (const char* op : {"Softmax", "LogSoftmax", "LayerNormalization", "RMSNormalization", "ReduceSum", "ReduceMean", "ReduceMax",
                         "ReduceMin", "ReduceSumSquare", "ReduceL1", "ReduceL2"}) {
    CAPTURE(std::string(op));
    parts_agree(net(op, {5, kLength}, false, false), {long_rows({5, kLength})});
    parts_agree(net(op, {2, kLength}, true, false), {long_rows({2, kLength})});
    parts_agree(net(op, {2, kLength}, true, true), {long_rows({2, kLength})});
  }
  parts_agree(net("InstanceNormalization", {1, 3, 111, 333}, false, false), {long_rows({1, 3, 111, 333})});
  parts_agree(net("GroupNormalization", {2, 6, 101, 137}, false, false, {{"num_groups", int64_t{2}}}), {long_rows({2, 6, 101, 137})});
}

TEST_CASE("few columns in parts, and sums that leave the range of floats where results do not") {
  const auto reduction = [](const char* op, const Shape& s, int64_t axis) {
    Builder b("reduction", 18);
    b.output(b.op(op, {b.input("x", DType::f32, Dims(s.begin(), s.end())), b.constant("axes", i64s({axis}))}), "y");
    return b.finish();
  };
  const Shape columns{2, 9001, 19}, row{3, 100000};
  const auto scaled = [](Tensor x, float factor) {
    for (float& v : x.as<float>()) v *= factor;
    return x;
  };
  for (const char* op : {"ReduceSum", "ReduceMean", "ReduceMax", "ReduceMin", "ReduceSumSquare", "ReduceL1", "ReduceL2"}) {
    CAPTURE(std::string(op));
    Tensor x = long_rows(columns, -2);  // sums of numbers that cancel would have no digits to compare
    parts_agree(reduction(op, columns, 1), {x});
    x.as<float>()[4000] = NAN;
    parts_agree(reduction(op, columns, 1), {x});
  }
  for (const char* op : {"ReduceMean", "ReduceL2", "ReduceMax"}) {
    CAPTURE(std::string(op));
    for (const float factor : {1e36f, 1e-24f}) {
      parts_agree(reduction(op, columns, 1), {scaled(long_rows(columns, -2), factor)});
      parts_agree(reduction(op, row, 1), {scaled(long_rows(row, -2), factor)});
    }
  }
  // A half beyond floats, and the other half that takes it back.
  Tensor x(DType::f32, {1, 200000});
  std::fill_n(x.as<float>().begin(), 100000, 1e36f);
  std::fill_n(x.as<float>().begin() + 100000, 100000, -1e36f);
  x.as<float>()[7] += 3e36f;
  parts_agree(reduction("ReduceSum", {1, 200000}, 1), {x});
  // Normalised, they are in range again.
  Builder b("norm", 23);
  b.output(b.op("LayerNormalization", {b.input("x", DType::f32, {1, 200000}), b.constant("s", random_tensor({200000}, 1))}), "y");
  parts_agree(b.finish(), {scaled(long_rows({1, 200000}), 1e30f)});
}

TEST_CASE("recurrent layers: every kind, direction, bias, initial state, in one thread and several") {
  const auto check = [](const char* op, int64_t gates, const char* direction, bool extras, std::map<std::string, Data> more, int64_t hidden,
                        int64_t batch) {
    const int64_t dirs = std::string(direction) == "bidirectional" ? 2 : 1, in = 9, steps = 6;
    const bool lstm = gates == 4;
    Builder b("layer");
    const auto x = b.input("x", DType::f32, {steps, batch, in});
    std::vector<ValueId> inputs{x, b.constant("w", random_tensor({dirs, gates * hidden, in}, 1, -0.4f, 0.4f)),
                                b.constant("r", random_tensor({dirs, gates * hidden, hidden}, 2, -0.3f, 0.3f))};
    std::vector<Tensor> fed{random_tensor({steps, batch, in}, 3)};
    if (extras) {
      inputs.push_back(b.constant("b", random_tensor({dirs, 2 * gates * hidden}, 4)));
      inputs.push_back(kAbsent);
      inputs.push_back(b.input("h0", DType::f32, {dirs, batch, hidden}));
      fed.push_back(random_tensor({dirs, batch, hidden}, 5));
      if (lstm) {
        inputs.push_back(b.input("c0", DType::f32, {dirs, batch, hidden}));
        fed.push_back(random_tensor({dirs, batch, hidden}, 6));
        inputs.push_back(b.constant("p", random_tensor({dirs, 3 * hidden}, 7)));
      }
    }
    more["hidden_size"] = hidden;
    more["direction"] = std::string(direction);
    for (ValueId v : b.ops(op, inputs, lstm ? 3 : 2, more)) b.output(v);
    const Graph g = b.finish();
    const auto expected = evaluate_plain(g, fed);
    std::optional<Tensor> first;
    for (const std::string& isa : machine_info().isas) {
      first.reset();
      for (int threads : {1, 2, 5}) {
        INFO(op << " " << direction << " hidden " << hidden << " batch " << batch << " " << isa << " " << threads);
        const CompileOptions options{.threads = threads, .isa = isa};
        if (threads == 2) check_against(expected, g, fed, options, {2e-5, 1e-4, 0});
        const Program p = compile(g, options);
        CHECK(p.describe().steps[0].kind == "recurrent");
        Lane lane(p);
        const Outputs out = lane.run(std::span<const Tensor>(fed));
        for (size_t i = 0; i < expected.size(); ++i) CHECK(compare("y", out[i], expected[i], Tolerance{2e-5, 1e-4, 0}).pass);
        if (first) CHECK(identical(*first, out[0]));  // whatever the number of threads
        first = out[0].clone();
      }
    }
  };
  for (const char* direction : {"forward", "reverse", "bidirectional"}) {
    for (bool extras : {false, true}) {
      for (int64_t hidden : {5, 33}) {
        check("RNN", 1, direction, extras, {}, hidden, 2);
        check("GRU", 3, direction, extras, {}, hidden, 2);
        check("GRU", 3, direction, extras, {{"linear_before_reset", int64_t{1}}}, hidden, 3);
        check("LSTM", 4, direction, extras, {}, hidden, 1);
      }
    }
  }
  check("LSTM", 4, "forward", true, {}, 130, 20);  // large enough to be shared out
  check("GRU", 3, "forward", true, {}, 130, 20);
  for (const char* direction : {"forward", "bidirectional"}) {  // units that are whole panels
    check("LSTM", 4, direction, true, {}, 192, 1);
    check("GRU", 3, direction, true, {}, 192, 3);
    check("GRU", 3, direction, true, {{"linear_before_reset", int64_t{1}}}, 192, 2);
    check("RNN", 1, direction, true, {}, 320, 17);
    check("LSTM", 4, direction, true, {}, 250, 3);  // units that are not
    check("GRU", 3, direction, true, {}, 250, 1);
  }
  check("LSTM", 4, "forward", false, {{"clip", 0.5f}}, 5, 2);
  check("GRU", 3, "forward", false, {{"activations", std::vector<std::string>{"Sigmoid", "Relu"}}}, 5, 2);
}

namespace {

int64_t steps_of_kind(const Graph& g, const std::string& kind, CompileOptions options = {}) {
  const EditionInfo info = compile(g, options).describe();
  return std::ranges::count_if(info.steps, [&](const StepInfo& s) { return s.kind == kind; });
}

}  // namespace

TEST_CASE("what a Concat puts together is made there: convolutions, elementwise results, products, wholes that are parts again") {
  Builder b("dense block", 21);
  const ValueId x = b.input("x", DType::f32, {2, 8, 6, 5});
  const std::vector<int64_t> pads{1, 1, 1, 1};
  ValueId all = b.op("Conv", {x, b.constant("w", random_tensor({16, 8, 1, 1}, 1))});
  for (int i = 0; i < 4; ++i) {  // each reads all that came before
    const int64_t channels = 16 + 12 * i;
    const auto w = b.constant("w" + std::to_string(i), random_tensor({12, channels, 3, 3}, static_cast<uint64_t>(i + 2), -0.1f, 0.1f));
    all = b.op("Concat", {all, b.op("Relu", {b.op("Conv", {all, w}, {{"pads", pads}})})}, {{"axis", int64_t{1}}});
  }
  const ValueId pooled = b.op("MaxPool", {all}, {{"kernel_shape", std::vector<int64_t>{2, 2}}});
  b.output(b.op("Conv", {pooled, b.constant("last", random_tensor({4, 64, 1, 1}, 9))}), "y");
  const Graph g = b.finish();
  for (const std::string& isa : machine_info().isas) {
    for (const int threads : {1, 3}) check_against_plain(g, {random_tensor({2, 8, 6, 5}, 3)}, {.threads = threads, .isa = isa});
  }
  CHECK(steps_of_kind(g, "copy") == 0);
  CHECK(steps_of_kind(g, "copy", {.fuse = false}) == 4);

  Builder p("columns", 21);
  const ValueId a = p.input("a", DType::f32, {5, 40}), one = p.input("one", DType::f32, {5, 1});
  const ValueId m = p.op("MatMul", {a, p.constant("m", random_tensor({40, 9}, 4))});
  // A single column cannot be written as a row of a tape: it is copied.
  const ValueId c = p.op("Concat", {p.op("Relu", {a}), p.op("Exp", {one}), m}, {{"axis", int64_t{1}}});
  p.output(p.op("MatMul", {c, p.constant("n", random_tensor({50, 3}, 5))}), "y");
  const Graph columns = p.finish();
  check_against_plain(columns, {random_tensor({5, 40}, 6), random_tensor({5, 1}, 7)});
  const EditionInfo info = compile(columns).describe();
  CHECK(std::ranges::any_of(info.steps, [](const StepInfo& s) { return s.recipe == "1 of 3 parts into place"; }));
}

TEST_CASE("parts of a value are read where they are") {
  Builder b("parts", 21);
  const ValueId x = b.input("x", DType::f32, {3, 4, 24});
  const ValueId sizes = b.constant("sizes", Tensor::from<int64_t>({3}, {8, 8, 8}));
  const auto parts = b.ops("Split", {x, sizes}, 3, {{"axis", int64_t{2}}});
  // Heads of the first, the second turned, a product of the third.
  const ValueId heads = b.op("Transpose", {b.op("Reshape", {parts[0], b.constant("h", Tensor::from<int64_t>({4}, {3, 4, 2, 4}))})},
                             {{"perm", std::vector<int64_t>{0, 2, 1, 3}}});
  b.output(b.op("Relu", {heads}), "heads");
  b.output(b.op("Sigmoid", {parts[1]}), "second");
  b.output(b.op("MatMul", {parts[2], b.constant("w", random_tensor({8, 5}, 1))}), "third");
  const Graph g = b.finish();
  check_against_plain(g, {random_tensor({3, 4, 24}, 2)});
  CHECK(steps_of_kind(g, "copy") == 1);  // the transposition

  // A window cut out of channels-last pictures: no copy, and none of the border.
  Builder c("window", 21);
  const ValueId p = c.input("p", DType::f32, {1, 6, 9, 9});
  const ValueId inner = c.op("Conv", {p, c.constant("w", random_tensor({16, 6, 1, 1}, 3))});
  const ValueId cropped =
      c.op("Slice", {inner, c.constant("from", Tensor::from<int64_t>({2}, {1, 2})), c.constant("to", Tensor::from<int64_t>({2}, {8, 9})),
                     c.constant("axes", Tensor::from<int64_t>({2}, {2, 3}))});
  const ValueId w3 = c.constant("w3", random_tensor({16, 16, 3, 3}, 4, -0.1f, 0.1f));
  c.output(c.op("Conv", {cropped, w3}, {{"pads", std::vector<int64_t>{1, 1, 1, 1}}}), "y");
  c.output(c.op("Conv", {cropped, c.constant("w1", random_tensor({4, 16, 1, 1}, 5))}), "z");
  const Graph window = c.finish();
  for (const std::string& isa : machine_info().isas) check_against_plain(window, {random_tensor({1, 6, 9, 9}, 6)}, {.isa = isa});
  CHECK(steps_of_kind(window, "copy") == 0);
}

TEST_CASE("attention reads queries, keys and values out of one product, heads turned or not") {
  for (const bool turned : {false, true}) {
    CAPTURE(turned);
    Builder b("fused heads", 23);
    const ValueId x = b.input("x", DType::f32, {2, 5, 24});
    const ValueId all = b.op("MatMul", {x, b.constant("w", random_tensor({24, 96}, 1, -0.3f, 0.3f))});
    auto parts = b.ops("Split", {all}, 3, {{"axis", int64_t{2}}, {"num_outputs", int64_t{3}}});
    std::map<std::string, Attribute::Data> heads;
    if (turned) {
      const ValueId split = b.constant("split", Tensor::from<int64_t>({4}, {2, 5, 4, 8}));
      for (ValueId& v : parts) v = b.op("Transpose", {b.op("Reshape", {v, split})}, {{"perm", std::vector<int64_t>{0, 2, 1, 3}}});
    } else {
      heads = {{"q_num_heads", int64_t{4}}, {"kv_num_heads", int64_t{4}}};
    }
    b.output(b.op("Attention", parts, heads), "y");
    const Graph g = b.finish();
    for (const std::string& isa : machine_info().isas) {
      for (const int threads : {1, 2}) check_against_plain(g, {random_tensor({2, 5, 24}, 2)}, {.threads = threads, .isa = isa});
    }
    CHECK(compile(g).describe().steps.size() == 2);
  }
}
