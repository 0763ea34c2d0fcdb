// Ops that few models have: compiled without plain evaluation, and equal to it.
#include <cmath>
#include <limits>

#include "steps.hpp"
#include "tensor/numbers.hpp"
#include "tensor/widen.hpp"

using namespace test;
using Data = Attribute::Data;
using Ints = std::vector<int64_t>;

namespace {

constexpr float kInf = std::numeric_limits<float>::infinity();

Tensor whole_numbers(DType dtype, const Shape& shape, std::mt19937_64& random, int64_t low, int64_t high) {
  std::vector<int64_t> v(static_cast<size_t>(element_count(shape)));
  for (int64_t& x : v) x = between(random, low, high);
  return narrow<int64_t>(dtype, shape, v);
}

void compiled_alike(const Graph& g, const std::vector<Tensor>& in, Tolerance tolerance = {1e-5, 1e-5, 0}) {
  for (const StepInfo& s : compile(g, {.threads = 1}).describe().steps) CHECK_MESSAGE(s.kind != "plain", s.op);
  for (const int threads : {1, 3}) check_against_plain(g, in, {.threads = threads}, tolerance);
}

ValueId integers(Builder& b, const std::string& name, const Ints& list) {
  return b.constant(name, Tensor::from<int64_t>({static_cast<int64_t>(list.size())}, list));
}
ValueId integer(Builder& b, const std::string& name, int64_t v) { return b.constant(name, Tensor::from<int64_t>({}, {v})); }

// One op on one tensor.
Graph alone(const std::string& op, DType dtype, const Shape& shape, const std::map<std::string, Data>& attributes = {},
            int64_t opset = 22) {
  Builder b("alone", opset);
  b.output(b.op(op, {b.input("x", dtype, dims(shape))}, attributes), "y");
  return b.finish();
}

}  // namespace

TEST_CASE("functions of one number that few models have, at their ends too") {
  const std::map<std::string, std::map<std::string, Data>> ops{
      {"Acos", {}},  {"Acosh", {}}, {"Asin", {}}, {"Asinh", {}},
      {"Atanh", {}}, {"Cosh", {}},  {"Sinh", {}}, {"Shrink", {{"lambd", 0.7f}, {"bias", 0.2f}}}};
  for (const auto& [op, attributes] : ops) {
    CAPTURE(op);
    for (const DType dtype : {DType::f32, DType::f64}) {
      Tensor x = random_tensor({3, 41}, 5, -2, 2);
      const float ends[]{0, -0.0f, 1, -1, 1e-20f, kInf, -kInf, NAN, 1e30f, -1e30f, 88, 90};
      std::copy(std::begin(ends), std::end(ends), x.as<float>().begin());
      compiled_alike(alone(op, dtype, {3, 41}, attributes), {narrow<double>(dtype, {3, 41}, widen<double>(x))}, {1e-9, 1e-6, 0});
    }
  }
  for (const float alpha : {1.0f, 1.7f})
    compiled_alike(alone("Swish", DType::f32, {5, 70}, {{"alpha", alpha}}, 24), {random_tensor({5, 70}, 3, -9, 9)});
}

TEST_CASE("casts to bytes are cut off and wrap, behind elementwise nodes and before others") {
  const DType from[]{DType::f32, DType::f64, DType::f16, DType::i32, DType::i64, DType::u8, DType::i8, DType::boolean};
  for (const DType type : from) {
    for (const DType to : {DType::u8, DType::i8}) {
      CAPTURE(to_string(type));
      CAPTURE(to_string(to));
      Builder b("bytes", 22);
      const ValueId x = b.input("x", type, {7, 60});
      const ValueId y = b.op("Cast", {x}, {{"to", int64_t{number_of_dtype(to)}}});
      b.output(y, "y");
      // What reads it has the byte, not what it was made of.
      b.output(b.op("Mul", {b.op("Cast", {y}, {{"to", int64_t{1}}}), b.constant("half", Tensor::from<float>({}, {0.5f}))}), "z");
      const Graph g = b.finish();
      Tensor values = random_tensor({7, 60}, 4, -1000, 1000);
      if (type == DType::f32 || type == DType::f64) {
        const float ends[]{1e9f, -1e9f, 3e9f, -3e9f, 1e15f, -1e15f, 1e30f, -1e30f, kInf, -kInf, NAN, 255.9f, -0.9f, 256};
        std::copy(std::begin(ends), std::end(ends), values.as<float>().begin());
      }
      compiled_alike(g, {narrow<double>(type, {7, 60}, widen<double>(values))}, {0, 0, 0});
    }
  }
  Builder b("picture", 22);
  const ValueId c = b.op("Conv", {b.input("x", DType::f32, {1, 3, 12, 12}), b.constant("w", random_tensor({8, 3, 3, 3}, 2))});
  const ValueId scaled = b.op("Mul", {c, b.constant("scale", Tensor::from<float>({}, {300.0f}))});
  b.output(
      b.op("Cast",
           {b.op("Clip", {scaled, b.constant("low", Tensor::from<float>({}, {0})), b.constant("high", Tensor::from<float>({}, {255}))})},
           {{"to", int64_t{2}}}),
      "y");
  compiled_alike(b.finish(), {random_tensor({1, 3, 12, 12}, 5)}, {1, 0, 0});
}

TEST_CASE("bits of whole numbers, with broadcasting") {
  std::mt19937_64 random(2);
  for (const DType dtype : {DType::i32, DType::i64}) {
    for (const char* op : {"BitwiseAnd", "BitwiseOr", "BitwiseXor"}) {
      Builder b("bits", 22);
      const ValueId x = b.input("x", dtype, {4, 33}), y = b.input("y", dtype, {33});
      b.output(b.op("BitwiseNot", {b.op(op, {x, y})}), "z");
      compiled_alike(b.finish(), {whole_numbers(dtype, {4, 33}, random, -1000, 1000), whole_numbers(dtype, {33}, random, -1000, 1000)},
                     {0, 0, 0});
    }
  }
}

TEST_CASE("reductions along any axis: squares, magnitudes, lengths, logarithms of sums; tiny and huge numbers") {
  std::mt19937_64 random(4);
  for (int trial = 0; trial < 60; ++trial) {
    CAPTURE(trial);
    const Shape s{between(random, 1, 9), between(random, 1, 40), between(random, 1, 70)};
    const char* op = std::array{"ReduceSumSquare", "ReduceL1", "ReduceL2", "ReduceLogSum"}[static_cast<size_t>(trial % 4)];
    const int64_t axis = between(random, 0, 2), keep = between(random, 0, 1);
    Tensor x = random_tensor(s, trial, trial % 4 == 3 ? 0.1f : -2, 2);
    if (trial % 5 == 1 && trial % 4 != 3) x.as<float>()[0] = 1e-25f, x.as<float>()[x.size() - 1] = trial % 2 == 0 ? 3e30f : -1e-25f;
    Builder b("reduction", 22);
    b.output(b.op(op, {b.input("x", DType::f32, dims(s)), integers(b, "axes", {axis})}, {{"keepdims", keep}}), "y");
    compiled_alike(b.finish(), {x}, {1e-6, 1e-5, 0});
  }
  for (const int64_t p : {1, 2})
    compiled_alike(alone("GlobalLpPool", DType::f32, {2, 5, 6, 7}, {{"p", p}}), {random_tensor({2, 5, 6, 7}, 3)});
  // Lengths whose squares floats do not hold.
  for (const int64_t axis : {0, 1}) {
    Builder b("short", 22);
    b.output(b.op("ReduceL2", {b.input("x", DType::f32, {20, 20}), integers(b, "axes", {axis})}), "y");
    compiled_alike(b.finish(), {random_tensor({20, 20}, 3, -1e-24f, 1e-24f)}, {0, 1e-5, 0});
  }
}

TEST_CASE("reductions over axes that lie apart, in each type") {
  std::mt19937_64 random(14);
  const char* ops[]{"ReduceSum", "ReduceMean", "ReduceMax",       "ReduceMin",   "ReduceProd",
                    "ReduceL1",  "ReduceL2",   "ReduceSumSquare", "ReduceLogSum"};
  for (int trial = 0; trial < 90; ++trial) {
    CAPTURE(trial);
    const std::string op = ops[trial % 9];
    const bool real = op == "ReduceMean" || op == "ReduceL2" || op == "ReduceLogSum";
    const DType dtype = op == "ReduceLogSum"
                            ? DType::f32
                            : std::array{DType::f32, DType::f64, DType::i32, DType::i64}[static_cast<size_t>(trial / 9 % (real ? 2 : 4))];
    const Ints axes = std::array{Ints{0, 2}, Ints{1, 3}, Ints{0, 3}, Ints{0, 1, 3}, Ints{0, -2}}[static_cast<size_t>(trial % 5)];
    const Shape s{between(random, 1, 4), between(random, 1, 5), between(random, 1, 6), between(random, 1, 7)};
    Builder b("apart", 22);
    b.output(b.op(op, {b.input("x", dtype, dims(s)), integers(b, "axes", axes)}, {{"keepdims", int64_t{trial % 2}}}), "y");
    compiled_alike(b.finish(), {whole_numbers(dtype, s, random, op == "ReduceLogSum" ? 1 : -3, 3)}, {1e-6, 1e-6, 0});
  }
}

TEST_CASE("sums over letters: one, two and three operands, products of elements, sums of one operand alone, dots, no arrow") {
  std::mt19937_64 random(17);
  const std::map<char, int64_t> size{{'a', 2}, {'b', 3}, {'c', 4}, {'d', 5}, {'i', 6}, {'j', 7}, {'k', 3}, {'l', 2}};
  const char* equations[]{
      "abc->acb",     "abc->a",       "abc->",          "a,b->ab",        "ab,ab->ab",      "ab,ab->",   "abc,ac->abc",
      "ab,bc,cd->ad", "ab,cd->acbd",  "abi,cbi->aci",   "aij,ajk->aik",   "ij,jk",          "ab,b",      "...ij,...jk->...ik",
      "...i,i->...",  "i...,i->...i", "abcd,kcd->abck", "abcd,lbd->abcl", "ab,ac,ad->abcd", "ai,i,i->a", "...ab->...ba",
      "abc,b->ca",    "ab,cb->c"};
  for (const char* equation : equations) {
    CAPTURE(equation);
    const std::string text(equation);
    Builder b("letters", 22);
    std::vector<ValueId> in;
    std::vector<Tensor> given;
    const std::string left = text.substr(0, text.find("->"));
    for (size_t at = 0; at <= left.size();) {
      const size_t comma = std::min(left.find(',', at), left.size());
      Shape s;
      for (size_t k = at; k < comma; ++k) {
        if (left[k] != '.') s.push_back(size.at(left[k]));
        else if (left[k - (k > at ? 1 : 0)] != '.' || k == at) s.push_back(2), s.push_back(3);
      }
      in.push_back(b.input("x" + std::to_string(in.size()), DType::f32, dims(s)));
      given.push_back(random_tensor(s, in.size()));
      at = comma + 1;
    }
    b.output(b.op("Einsum", in, {{"equation", text}}), "y");
    compiled_alike(b.finish(), given, {1e-5, 1e-5, 0});
  }
}

TEST_CASE("operands along an axis, as versions before 7 have them; results that only training reads") {
  for (const char* op : {"Add", "Sub", "Mul", "Div"}) {
    for (const auto& [axis, along] :
         std::vector<std::pair<int64_t, Shape>>{{1, {4}}, {1, {4, 5}}, {0, {2}}, {2, {5, 6}}, {3, {6}}, {9, {5, 6}}, {9, {1}}}) {
      std::map<std::string, Data> attributes{{"broadcast", int64_t{1}}};
      if (axis < 9) attributes["axis"] = axis;
      Builder b("axis", 6);
      b.output(b.op(op, {b.input("x", DType::f32, {2, 4, 5, 6}), b.input("y", DType::f32, dims(along))}, attributes), "z");
      compiled_alike(b.finish(), {random_tensor({2, 4, 5, 6}, 1), random_tensor(along, 2, 0.5f, 2)});
    }
  }
  for (const Shape& slopes : {Shape{4}, Shape{1}}) {
    Builder b("slopes", 6);
    b.output(b.op("PRelu", {b.input("x", DType::f32, {2, 4, 5, 6}), b.input("w", DType::f32, dims(slopes))}), "y");
    compiled_alike(b.finish(), {random_tensor({2, 4, 5, 6}, 1), random_tensor(slopes, 2)});
  }
  Builder b("layer", 17);
  const auto y =
      b.ops("LayerNormalization",
            {b.input("x", DType::f32, {3, 40}), b.constant("w", random_tensor({40}, 2)), b.constant("b", random_tensor({40}, 3))}, 3);
  b.output(y[0], "y");
  compiled_alike(b.finish(), {random_tensor({3, 40}, 4)});
}

TEST_CASE("vectors in products, exponents of another type, choices and comparisons of bytes and booleans") {
  for (const auto& [a, c] :
       std::vector<std::pair<Shape, Shape>>{{{5, 7}, {7}}, {{7}, {7, 5}}, {{7}, {7}}, {{3, 5, 7}, {7}}, {{7}, {3, 7, 5}}}) {
    Builder b("vector", 22);
    b.output(b.op("MatMul", {b.input("x", DType::f32, dims(a)), b.input("y", DType::f32, dims(c))}), "z");
    compiled_alike(b.finish(), {random_tensor(a, 1), random_tensor(c, 2)});
  }
  for (const DType base : {DType::f32, DType::f64, DType::i32, DType::i64}) {
    for (const int64_t e : {2, 3}) {
      Builder b("power", 22);
      b.output(b.op("Pow", {b.input("x", base, {4, 50}), integer(b, "e", e)}), "y");
      std::mt19937_64 random(2);
      compiled_alike(b.finish(), {whole_numbers(base, {4, 50}, random, -9, 9)}, {1e-6, 1e-6, 0});
    }
  }
  std::mt19937_64 random(20);
  for (const DType d : {DType::boolean, DType::u8, DType::i8}) {
    CAPTURE(to_string(d));
    const bool flag = d == DType::boolean;
    const int64_t low = d == DType::i8 ? -128 : 0, high = flag ? 1 : d == DType::i8 ? 127 : 255;
    Builder b("bytes", 22);
    const ValueId c = b.input("c", DType::boolean, {9, 40}), x = b.input("x", d, {9, 40}), y = b.input("y", d, {40});
    b.output(b.op("Where", {c, x, y}), "chosen");
    b.output(b.op("Equal", {x, y}), "same");
    if (!flag) {
      for (const char* op : {"Less", "GreaterOrEqual", "Max", "Min", "Add", "Sub", "Mul"}) b.output(b.op(op, {x, y}), op);
      // Cut to a byte before it is compared again.
      b.output(b.op("Greater", {b.op("Mul", {b.op("Add", {x, y}), y}), x}), "behind");
      Tensor bounds(d, {2});
      static_cast<int8_t*>(bounds.data())[0] = 3, static_cast<int8_t*>(bounds.data())[1] = 90;
      const auto bound = [&](int64_t i) {
        Tensor t(d, {});
        static_cast<int8_t*>(t.data())[0] = static_cast<const int8_t*>(bounds.data())[i];
        return b.constant("bound" + std::to_string(i), std::move(t));
      };
      b.output(b.op("Clip", {x, bound(0), bound(1)}), "clipped");
    }
    compiled_alike(b.finish(),
                   {whole_numbers(DType::boolean, {9, 40}, random, 0, 1), whole_numbers(d, {9, 40}, random, low, high),
                    whole_numbers(d, {40}, random, low, high)},
                   {0, 0, 0});
  }
}

TEST_CASE("Hardmax, CenterCropPad, MaxUnpool and AffineGrid") {
  std::mt19937_64 random(6);
  for (int64_t axis = 0; axis < 3; ++axis) {
    Tensor x = random_tensor({3, 4, 5}, static_cast<uint64_t>(axis));
    x.as<float>()[1] = x.as<float>()[2] = 7;  // the first of equals
    compiled_alike(alone("Hardmax", DType::f32, {3, 4, 5}, {{"axis", axis}}), {x}, {0, 0, 0});
  }
  for (int trial = 0; trial < 40; ++trial) {
    CAPTURE(trial);
    const Shape s{between(random, 1, 9), between(random, 1, 9), between(random, 1, 9)};
    Builder b("crop", 22);
    const DType dtype = std::array{DType::f32, DType::i64, DType::u8}[static_cast<size_t>(trial % 3)];
    const ValueId x = b.input("x", dtype, dims(s));
    if (trial % 2 == 0) {
      b.output(b.op("CenterCropPad", {x, integers(b, "to", {between(random, 1, 9), between(random, 1, 9), between(random, 1, 9)})}), "y");
    } else {
      b.output(b.op("CenterCropPad", {x, integers(b, "to", {between(random, 1, 9), between(random, 1, 9)})}, {{"axes", Ints{2, -3}}}), "y");
    }
    compiled_alike(b.finish(), {whole_numbers(dtype, s, random, 0, 100)}, {0, 0, 0});
  }
  {
    Builder b("unpool", 22);
    const ValueId x = b.input("x", DType::f32, {2, 3, 8, 8});
    const auto pooled = b.ops("MaxPool", {x}, 2, {{"kernel_shape", Ints{2, 2}}, {"strides", Ints{2, 2}}});
    b.output(b.op("MaxUnpool", {pooled[0], pooled[1]}, {{"kernel_shape", Ints{2, 2}}, {"strides", Ints{2, 2}}}), "y");
    compiled_alike(b.finish(), {random_tensor({2, 3, 8, 8}, 8)}, {0, 0, 0});
  }
  {  // A place that is none is refused, from whichever end.
    Builder b("unpool", 22);
    b.output(b.op("MaxUnpool", {b.input("x", DType::f32, {1, 1, 1, 2}), b.input("at", DType::i64, {1, 1, 1, 2})},
                  {{"kernel_shape", Ints{2, 2}}, {"strides", Ints{2, 2}}}),
             "y");
    const Program program = compile(b.finish(), {.threads = 1});
    Lane lane(program);
    for (const int64_t place : {-1, 8}) {
      const std::vector<Tensor> outside{random_tensor({1, 1, 1, 2}, 1), Tensor::from<int64_t>({1, 1, 1, 2}, {0, place})};
      CHECK_THROWS_WITH_AS(lane.run(outside), doctest::Contains("outside"), Error);
    }
  }
  for (const int64_t corners : {0, 1}) {
    for (const Ints& size : {Ints{2, 3, 5, 7}, Ints{1, 1, 4, 1}, Ints{2, 3, 4, 5, 6}}) {
      const auto axes = static_cast<int64_t>(size.size()) - 2;
      Builder b("grid", 22);
      b.output(b.op("AffineGrid", {b.input("theta", DType::f32, {size[0], axes, axes + 1}), integers(b, "size", size)},
                    {{"align_corners", corners}}),
               "y");
      compiled_alike(b.finish(), {random_tensor({size[0], axes, axes + 1}, 3)});
    }
  }
}

TEST_CASE("blocks added back into pictures: any block, stride and padding; infinities stay where they are") {
  std::mt19937_64 random(9);
  int done = 0;
  for (int trial = 0; trial < 120; ++trial) {
    CAPTURE(trial);
    const Ints block{between(random, 1, 4), between(random, 1, 4)}, strides{between(random, 1, 3), between(random, 1, 3)},
        pads{between(random, 0, 2), between(random, 0, 2), between(random, 0, 2), between(random, 0, 2)},
        image{between(random, 3, 12), between(random, 3, 12)};
    int64_t places = 1;
    bool fits = true;
    for (size_t a = 0; a < 2; ++a) {
      const int64_t span = image[a] + pads[a] + pads[a + 2] - block[a];
      fits = fits && span >= 0 && pads[a] < block[a] && pads[a + 2] < block[a];
      places *= std::max<int64_t>(0, span) / strides[a] + 1;
    }
    if (!fits) continue;
    ++done;
    const Shape s{2, 3 * block[0] * block[1], places};
    Builder b("blocks", 22);
    b.output(b.op("Col2Im", {b.input("x", DType::f32, dims(s)), integers(b, "image", image), integers(b, "block", block)},
                  {{"strides", strides}, {"pads", pads}}),
             "y");
    Tensor x = random_tensor(s, static_cast<uint64_t>(trial));
    if (trial % 3 == 0) x.as<float>()[x.size() / 2] = kInf;
    compiled_alike(b.finish(), {x}, {1e-6, 1e-5, 0});
  }
  CHECK(done > 40);
}

TEST_CASE("transforms of signals: any length and axis, real and complex, one-sided, inverse, cut and filled up") {
  std::mt19937_64 random(3);
  for (int trial = 0; trial < 120; ++trial) {
    CAPTURE(trial);
    const int64_t lengths[]{1, 2, 3, 8, 12, 15, 16, 17, 26, 31, 49, 60, 64, 74, 101, 128, 143, 400};
    const int64_t n = lengths[trial % 18], axis = between(random, 0, 2);
    const bool inverse = trial % 3 == 1, onesided = trial % 5 < 2, complex = inverse || (!onesided && trial % 2 == 0),
               whole = trial % 4 == 0;
    Shape s{between(random, 1, 5), between(random, 1, 5), between(random, 1, 5), complex ? 2 : 1};
    s[static_cast<size_t>(axis)] = inverse && onesided ? n / 2 + 1 : n;
    const DType dtype = trial % 7 == 0 ? DType::f64 : DType::f32;
    const bool old = trial % 2 == 1;
    Builder b("transform", old ? 17 : 20);
    std::vector<ValueId> in{b.input("x", dtype, dims(s))};
    const bool sized = whole || (inverse && onesided);
    in.push_back(sized ? integer(b, "length", whole && !inverse ? between(random, 1, 2 * n) : n) : kAbsent);
    if (!old) in.push_back(integer(b, "axis", axis));
    std::map<std::string, Data> attributes{{"inverse", int64_t{inverse}}, {"onesided", int64_t{onesided}}};
    if (old) attributes["axis"] = axis;
    b.output(b.op("DFT", in, attributes), "y");
    Graph g;
    try {
      g = b.finish();
    } catch (const Error&) {
      continue;  // the version knows no such form
    }
    compiled_alike(g, {narrow<double>(dtype, s, widen<double>(random_tensor(s, static_cast<uint64_t>(trial))))}, {2e-6, 2e-6, 0});
  }
  for (int trial = 0; trial < 40; ++trial) {
    CAPTURE(trial);
    const int64_t frame = between(random, 1, 60), step = between(random, 1, 30), length = frame + between(random, 0, 300),
                  batch = between(random, 1, 3);
    const bool parts = trial % 3 == 0, window = trial % 2 == 0, onesided = trial % 4 < 2;
    Builder b("frames", 20);
    const Shape s = parts ? Shape{batch, length, onesided ? 1 : 2} : Shape{batch, length};
    std::vector<ValueId> in{b.input("x", DType::f32, dims(s)), integer(b, "step", step)};
    const int64_t shares = trial % 6 == 0 ? (frame + 1) / 2 : frame;
    in.push_back(window ? b.constant("window", random_tensor({shares}, 7, 0, 1)) : kAbsent);
    in.push_back(integer(b, "frame", frame));
    b.output(b.op("STFT", in, {{"onesided", int64_t{onesided}}}), "y");
    compiled_alike(b.finish(), {random_tensor(s, static_cast<uint64_t>(trial))}, {2e-6, 2e-6, 0});
  }
}

TEST_CASE("convolutions at offsets of their own: groups, sets of offsets, masks, strides, dilations; far outside too") {
  std::mt19937_64 random(12);
  for (int trial = 0; trial < 60; ++trial) {
    CAPTURE(trial);
    const int64_t sets = between(random, 1, 2), group = between(random, 1, 2), channels = 4 * between(random, 1, 3),
                  filters = 2 * between(random, 1, 5), kh = between(random, 1, 3), kw = between(random, 1, 3), h = between(random, 4, 9),
                  w = between(random, 4, 9);
    const Ints strides{between(random, 1, 2), between(random, 1, 2)}, dilations{between(random, 1, 2), between(random, 1, 2)},
        pads{between(random, 0, 2), between(random, 0, 2), between(random, 0, 2), between(random, 0, 2)};
    const int64_t oh = (h + pads[0] + pads[2] - dilations[0] * (kh - 1) - 1) / strides[0] + 1,
                  ow = (w + pads[1] + pads[3] - dilations[1] * (kw - 1) - 1) / strides[1] + 1;
    if (h + pads[0] + pads[2] < dilations[0] * (kh - 1) + 1 || w + pads[1] + pads[3] < dilations[1] * (kw - 1) + 1) continue;
    const Shape xs{2, channels, h, w}, ws{filters, channels / group, kh, kw}, os{2, sets * kh * kw * 2, oh, ow},
        ms{2, sets * kh * kw, oh, ow};
    Builder b("offsets", 22);
    std::vector<ValueId> in{b.input("x", DType::f32, dims(xs)), b.constant("w", random_tensor(ws, 3)),
                            b.input("offset", DType::f32, dims(os))};
    std::vector<Tensor> given{random_tensor(xs, static_cast<uint64_t>(trial)), random_tensor(os, static_cast<uint64_t>(trial) + 1, -3, 3)};
    const bool masked = trial % 2 == 0;
    in.push_back(trial % 3 == 0 ? kAbsent : b.constant("bias", random_tensor({filters}, 4)));
    if (masked) {
      in.push_back(b.input("mask", DType::f32, dims(ms)));
      given.push_back(random_tensor(ms, static_cast<uint64_t>(trial) + 2, 0, 1));
    }
    b.output(b.op("DeformConv", in,
                  {{"group", group},
                   {"offset_group", sets},
                   {"strides", strides},
                   {"dilations", dilations},
                   {"pads", pads},
                   {"kernel_shape", Ints{kh, kw}}}),
             "y");
    compiled_alike(b.finish(), given, {2e-5, 1e-4, 0});
  }
}

TEST_CASE("updates that add, multiply and compare, several to a place; elements by tuples") {
  std::mt19937_64 random(15);
  for (int trial = 0; trial < 96; ++trial) {
    CAPTURE(trial);
    const DType dtype = std::array{DType::f32, DType::f64, DType::i32, DType::i64}[static_cast<size_t>(trial % 4)];
    const char* how = std::array{"add", "mul", "max", "min"}[static_cast<size_t>(trial / 4 % 4)];
    const Shape s{between(random, 2, 6), between(random, 2, 6), between(random, 2, 6)};
    Builder b("updates", 22);
    const ValueId x = b.input("x", dtype, dims(s));
    std::vector<Tensor> in{whole_numbers(dtype, s, random, -3, 3)};
    if (trial % 2 == 0) {
      const int64_t axis = between(random, 0, 2);
      const Shape at{between(random, 1, s[0]), between(random, 1, s[1]), between(random, 1, s[2])};
      b.output(b.op("ScatterElements", {x, b.input("at", DType::i64, dims(at)), b.input("u", dtype, dims(at))},
                    {{"axis", axis}, {"reduction", std::string(how)}}),
               "y");
      in.push_back(whole_numbers(DType::i64, at, random, -s[static_cast<size_t>(axis)], s[static_cast<size_t>(axis)] - 1));
      in.push_back(whole_numbers(dtype, at, random, -3, 3));
    } else {
      const int64_t depth = between(random, 1, 3), rows = between(random, 1, 20);
      Shape u{rows};
      u.insert(u.end(), s.begin() + depth, s.end());
      b.output(
          b.op("ScatterND", {x, b.input("at", DType::i64, {rows, depth}), b.input("u", dtype, dims(u))}, {{"reduction", std::string(how)}}),
          "y");
      in.push_back(whole_numbers(DType::i64, {rows, depth}, random, -2, 1));
      in.push_back(whole_numbers(dtype, u, random, -3, 3));
      const Tensor at = in[1];
      Builder g("tuples", 22);
      g.output(g.op("GatherND", {g.input("x", dtype, dims(s)), g.input("at", DType::i64, {rows, depth})}), "y");
      compiled_alike(g.finish(), {in[0], at}, {0, 0, 0});
    }
    compiled_alike(b.finish(), in, {1e-6, 1e-6, 0});
  }
  // A place outside is named, and nothing is written there.
  Builder b("outside", 22);
  b.output(b.op("ScatterElements", {b.input("x", DType::f32, {4}), b.input("at", DType::i64, {2}), b.input("u", DType::f32, {2})},
                {{"reduction", std::string("add")}}),
           "y");
  const Program program = compile(b.finish(), {.threads = 1});
  Lane lane(program);
  const std::vector<Tensor> outside{random_tensor({4}, 1), Tensor::from<int64_t>({2}, {1, 4}), random_tensor({2}, 2)};
  CHECK_THROWS_WITH_AS(lane.run(outside), doctest::Contains("index 4 is outside an axis of 4 elements"), Error);
}

TEST_CASE("entries put into a cache, from a place of each sequence on, around its end too") {
  std::mt19937_64 random(21);
  for (int trial = 0; trial < 40; ++trial) {
    CAPTURE(trial);
    const int64_t batch = between(random, 1, 3), room = between(random, 2, 9), count = between(random, 1, room),
                  heads = between(random, 1, 3);
    const bool circular = trial % 2 == 0, middle = trial % 3 == 0, starts = trial % 5 != 0;
    const DType dtype = std::array{DType::f32, DType::f16, DType::i64, DType::u8}[static_cast<size_t>(trial % 4)];
    const Shape cache = middle ? Shape{batch, room, heads, 4} : Shape{batch, heads, room, 4},
                update = middle ? Shape{batch, count, heads, 4} : Shape{batch, heads, count, 4};
    Builder b("cache", 24);
    std::vector<ValueId> in{b.input("cache", dtype, dims(cache)), b.input("update", dtype, dims(update))};
    std::vector<Tensor> given{whole_numbers(dtype, cache, random, 0, 100), whole_numbers(dtype, update, random, 0, 100)};
    if (starts) {
      in.push_back(b.input("at", DType::i64, {batch}));
      given.push_back(whole_numbers(DType::i64, {batch}, random, 0, circular ? 2 * room : room - count));
    }
    b.output(
        b.op("TensorScatter", in, {{"axis", middle ? int64_t{1} : int64_t{-2}}, {"mode", std::string(circular ? "circular" : "linear")}}),
        "y");
    const Graph g = b.finish();
    compiled_alike(g, given, {0, 0, 0});
    if (starts && !circular) {
      given[2] = whole_numbers(DType::i64, {batch}, random, room - count + 1, room - count + 1);
      const Program program = compile(g, {.threads = 1});
      Lane lane(program);
      CHECK_THROWS_WITH_AS(lane.run(given), doctest::Contains("do not fit"), Error);
    }
  }
}

TEST_CASE("recurrent layers through any function, with parameters, coupled gates and clipping, both ways") {
  const char* names[]{"Sigmoid",    "Tanh", "Relu",        "Affine",   "LeakyRelu", "ThresholdedRelu",
                      "ScaledTanh", "Elu",  "HardSigmoid", "Softsign", "Softplus",  "hardsigmoid"};
  std::mt19937_64 random(23);
  for (int trial = 0; trial < 72; ++trial) {
    CAPTURE(trial);
    const std::string op = std::array{"LSTM", "GRU", "RNN"}[static_cast<size_t>(trial % 3)];
    const int64_t gates = op == "LSTM"  ? 4
                          : op == "GRU" ? 3
                                        : 1,
                  hidden = between(random, 1, 35), in = between(random, 1, 9), batch = between(random, 1, 3), steps = between(random, 1, 5),
                  directions = trial % 2 + 1;
    std::vector<std::string> functions;
    for (int64_t i = 0; i < directions * (gates == 4 ? 3 : gates == 3 ? 2 : 1); ++i) functions.emplace_back(names[between(random, 0, 11)]);
    std::map<std::string, Data> attributes{
        {"hidden_size", hidden}, {"activations", functions}, {"direction", std::string(directions == 2 ? "bidirectional" : "reverse")}};
    if (trial % 4 == 0)
      attributes["activation_alpha"] = std::vector<float>(6, 0.3f), attributes["activation_beta"] = std::vector<float>(6, 0.4f);
    if (trial % 5 == 0) attributes["clip"] = 0.6f;
    if (op == "LSTM" && trial % 2 == 0) attributes["input_forget"] = int64_t{1};
    if (op == "GRU") attributes["linear_before_reset"] = int64_t{trial % 4 == 1};
    Builder b("recurrent", 22);
    std::vector<ValueId> operands{b.input("x", DType::f32, {steps, batch, in}),
                                  b.constant("w", random_tensor({directions, gates * hidden, in}, 1, -0.4f, 0.4f)),
                                  b.constant("r", random_tensor({directions, gates * hidden, hidden}, 2, -0.2f, 0.2f)),
                                  b.constant("b", random_tensor({directions, 2 * gates * hidden}, 3))};
    if (op == "LSTM" && trial % 3 == 0) {
      operands.insert(operands.end(), {kAbsent, kAbsent, kAbsent});
      operands.push_back(b.constant("p", random_tensor({directions, 3 * hidden}, 4)));
    }
    const auto y = b.ops(op, operands, 2, attributes);
    b.output(y[0], "all");
    b.output(y[1], "last");
    compiled_alike(b.finish(), {random_tensor({steps, batch, in}, static_cast<uint64_t>(trial), -2, 2)}, {1e-4, 1e-4, 0});
  }
}

TEST_CASE("several filters a channel, and transposed convolutions by channels, of volumes and to few filters") {
  std::mt19937_64 random(18);
  for (int trial = 0; trial < 90; ++trial) {
    CAPTURE(trial);
    const auto axes = static_cast<size_t>(between(random, 1, 3));
    const int64_t channels = between(random, 2, 9);
    Shape xs{2, channels}, ws;
    Ints strides, pads(2 * axes, 0), extra(axes, 0);
    for (size_t a = 0; a < axes; ++a) xs.push_back(between(random, 3, 7)), strides.push_back(between(random, 1, 3));
    std::map<std::string, Data> attributes;
    const bool turned = trial % 3 != 0;
    const int64_t group = !turned || trial % 3 == 1 ? channels : 1,
                  filters = turned && group == 1 ? between(random, 1, 2) : between(random, 1, 3);
    ws = turned ? Shape{channels, filters} : Shape{channels * filters, 1};
    for (size_t a = 0; a < axes; ++a) {
      const int64_t k = between(random, 1, 4);
      ws.push_back(k);
      if (k > 1) pads[a] = between(random, 0, 1), pads[axes + a] = between(random, 0, 1);
      if (turned) extra[a] = between(random, 0, strides[a] - 1);
    }
    attributes = {{"strides", strides}, {"pads", pads}, {"group", group}};
    if (turned) attributes["output_padding"] = extra;
    Builder b("forms", 22);
    std::vector<ValueId> in{b.input("x", DType::f32, dims(xs)), b.constant("w", random_tensor(ws, 5))};
    if (trial % 2 == 0) in.push_back(b.constant("bias", random_tensor({turned ? filters * group : channels * filters}, 6)));
    Graph g;
    try {
      b.output(b.op(turned ? "ConvTranspose" : "Conv", in, attributes), "y");
      g = b.finish();
    } catch (const Error&) {
      continue;  // the padding eats all of it
    }
    Tensor x = random_tensor(xs, static_cast<uint64_t>(trial));
    if (trial % 4 == 1) x.as<float>()[x.size() / 2] = kInf;
    for (const int threads : {1, 3}) check_against_plain(g, {x}, {.threads = threads}, {1e-5, 1e-4, 0});
  }
}

TEST_CASE("transposed convolutions with weights that a run makes") {
  std::mt19937_64 random(8);
  for (int trial = 0; trial < 60; ++trial) {
    CAPTURE(trial);
    const bool line = trial % 4 == 3;
    const int64_t group = between(random, 1, 3), depth = between(random, 1, 4), filters = between(random, 1, 4),
                  batch = between(random, 1, 2);
    Shape x{batch, group * depth}, w{group * depth, filters};
    Ints strides, pads, more;
    for (int a = 0; a < (line ? 1 : 2); ++a) {
      const int64_t taps = between(random, 1, 5);
      x.push_back(between(random, 1, 9)), w.push_back(taps);
      strides.push_back(between(random, 1, 4)), more.push_back(strides.back() > 1 ? between(random, 0, strides.back() - 1) : 0);
      pads.push_back(between(random, 0, taps - 1) / 2);
    }
    const Ints begin = pads;
    pads.insert(pads.end(), begin.begin(), begin.end());
    bool some = true;
    for (size_t a = 0; a < strides.size(); ++a) some = some && (x[a + 2] - 1) * strides[a] + w[a + 2] - 2 * begin[a] + more[a] > 0;
    if (!some) continue;
    Builder b("turned", 22);
    std::vector<ValueId> in{b.input("x", DType::f32, dims(x)), b.input("w", DType::f32, dims(w))};
    if (trial % 2 == 0) in.push_back(b.constant("b", random_tensor({group * filters}, 5)));
    b.output(b.op("ConvTranspose", in, {{"strides", strides}, {"pads", pads}, {"output_padding", more}, {"group", group}}), "y");
    compiled_alike(b.finish(), {random_tensor(x, trial), random_tensor(w, trial + 1)});
  }
}

TEST_CASE("sums over letters that an operand repeats") {
  for (const auto& [equation, x, y] :
       {std::tuple{"bii->bi", Shape{3, 5, 5}, Shape{}}, std::tuple{"ii", Shape{6, 6}, Shape{}},
        std::tuple{"iji->j", Shape{4, 7, 4}, Shape{}}, std::tuple{"iijj->ij", Shape{3, 3, 4, 4}, Shape{}},
        std::tuple{"iii->i", Shape{4, 4, 4}, Shape{}}, std::tuple{"bij,jj->bi", Shape{2, 3, 5}, Shape{5, 5}}}) {
    CAPTURE(equation);
    Builder b("letters", 22);
    std::vector<ValueId> in{b.input("x", DType::f32, dims(x))};
    std::vector<Tensor> fed{random_tensor(x, 1)};
    if (!y.empty()) in.push_back(b.input("y", DType::f32, dims(y))), fed.push_back(random_tensor(y, 2));
    b.output(b.op("Einsum", in, {{"equation", std::string(equation)}}), "z");
    compiled_alike(b.finish(), fed);
  }
}

TEST_CASE("greatest and least of bytes and booleans; pools of powers; types taken from another value; a part of a picture, resized") {
  std::mt19937_64 random(12);
  for (const DType dtype : {DType::u8, DType::i8, DType::boolean}) {
    for (const char* op : {"ReduceMax", "ReduceMin"}) {
      for (const Ints& axes : {Ints{1}, Ints{0, 2}, Ints{2}}) {
        Builder b("bytes", 22);
        b.output(b.op(op, {b.input("x", dtype, {3, 5, 70}), integers(b, "axes", axes)}, {{"keepdims", int64_t{0}}}), "y");
        const int64_t low = dtype == DType::i8 ? -128 : 0, high = dtype == DType::u8 ? 255 : dtype == DType::i8 ? 127 : 1;
        compiled_alike(b.finish(), {whole_numbers(dtype, {3, 5, 70}, random, low, high)}, {0, 0, 0});
      }
    }
  }
  for (const int64_t p : {1, 2, 3, 5})
    compiled_alike(alone("LpPool", DType::f32, {2, 3, 9, 11},
                         {{"kernel_shape", Ints{3, 2}}, {"strides", Ints{2, 1}}, {"pads", Ints{1, 0, 1, 1}}, {"p", p}}),
                   {random_tensor({2, 3, 9, 11}, 3)}, {1e-5, 2e-5, 0});
  for (const DType like : {DType::f32, DType::f16, DType::i64, DType::u8}) {
    Builder b("like", 22);
    b.output(b.op("CastLike", {b.input("x", DType::f32, {4, 30}), b.input("y", like, {1})}), "z");
    compiled_alike(b.finish(), {random_tensor({4, 30}, 2, 0, 90), Tensor(like, {1})}, {0, 0, 0});
  }
  for (const char* mode : {"nearest", "linear", "cubic"}) {
    CAPTURE(mode);
    for (const bool outside : {false, true}) {
      Builder b("part", 22);
      const ValueId roi = b.constant("roi", Tensor::from<float>({8}, {0, 0, outside ? -0.2f : 0.1f, 0.2f, 1, 1, 0.7f, 0.9f}));
      b.output(b.op("Resize", {b.input("x", DType::f32, {1, 3, 20, 24}), roi, kAbsent, integers(b, "sizes", {1, 3, 20, 17})},
                    {{"mode", std::string(mode)},
                     {"coordinate_transformation_mode", std::string("tf_crop_and_resize")},
                     {"extrapolation_value", 3.0f}}),
               "y");
      if (outside) check_against_plain(b.finish(), {random_tensor({1, 3, 20, 24}, 7)});
      else compiled_alike(b.finish(), {random_tensor({1, 3, 20, 24}, 7)});
    }
  }
}

TEST_CASE("lists of tensors, as exporters write them, are the tensors; what is not known stays a list") {
  // Taken apart, mapped, put together; a list that grows and shrinks; how many there are decides a size.
  Builder b("lists", 22);
  const ValueId x = b.input("x", DType::f32, {6, 40}), at = b.input("at", DType::i64, {});
  const ValueId each = b.op("SplitToSequence", {x}, {{"axis", int64_t{0}}, {"keepdims", int64_t{0}}});
  const ValueId twos = b.op("SplitToSequence", {x, integer(b, "four", 4)}, {{"axis", int64_t{0}}});
  const ValueId parts = b.op("SplitToSequence", {x, integers(b, "parts", {10, 30})}, {{"axis", int64_t{-1}}});
  const ValueId first = b.op("Tanh", {b.op("SequenceAt", {each, integer(b, "zero", 0)})}),
                last = b.op("SequenceAt", {each, integer(b, "behind", -1)});
  ValueId list = b.op("SequenceConstruct", {first, last});
  list = b.op("SequenceInsert", {list, b.op("Add", {first, last}), integer(b, "one", 1)});
  list = b.op("SequenceInsert", {list, b.op("SequenceAt", {each, integer(b, "three", 3)})});
  list = b.op("SequenceErase", {list, integer(b, "second", -2)});
  b.output(b.op("ConcatFromSequence", {list}, {{"axis", int64_t{0}}, {"new_axis", int64_t{1}}}), "stacked");
  b.output(b.op("ConcatFromSequence", {list}, {{"axis", int64_t{-1}}}), "joined");
  b.output(b.op("ConcatFromSequence", {twos}, {{"axis", int64_t{0}}}), "again");
  b.output(b.op("SequenceAt", {parts, integer(b, "narrow", 0)}), "part");
  b.output(b.op("SequenceLength", {list}), "count");
  const ValueId some = b.op("Optional", {x});
  b.output(b.op("OptionalHasElement", {some}), "there");
  b.output(b.op("Neg", {b.op("OptionalGetElement", {some})}), "held");
  compiled_alike(b.finish(), {random_tensor({6, 40}, 3), Tensor::from<int64_t>({}, {2})}, {0, 1e-6, 0});

  Builder open("open", 22);
  const ValueId y = open.input("x", DType::f32, {6, 40}), which = open.input("at", DType::i64, {});
  const ValueId rows = open.op("SplitToSequence", {y}, {{"axis", int64_t{0}}});
  open.output(open.op("SequenceAt", {rows, which}), "one");
  open.output(open.op("ConcatFromSequence", {open.op("SequenceErase", {rows, which})}, {{"axis", int64_t{0}}}), "others");
  check_against_plain(open.finish(), {random_tensor({6, 40}, 3), Tensor::from<int64_t>({}, {4})});
  (void)at;
}

TEST_CASE("what is no number is true, by every instruction set") {
  Tensor x = random_tensor({3, 50}, 3);
  const float ends[]{NAN, 0, -0.0f, kInf, -kInf, 1e-45f};
  std::copy(std::begin(ends), std::end(ends), x.as<float>().begin());
  Builder b("truth", 22);
  const ValueId in = b.input("x", DType::f32, {3, 50});
  const ValueId yes = b.op("Cast", {in}, {{"to", int64_t{9}}});
  b.output(yes, "yes");
  b.output(b.op("Where", {yes, in, b.constant("other", Tensor::from<float>({}, {7}))}), "chosen");
  b.output(b.op("Cast", {b.op("Equal", {in, in})}, {{"to", int64_t{1}}}), "equal");
  everywhere(b.finish(), [&](const Graph& g, const CompileOptions& o) { check_against_plain(g, {x}, o, {0, 0, 0}); });
}

TEST_CASE("elements by indices that are one a row are whole rows") {
  std::mt19937_64 random(14);
  for (int trial = 0; trial < 48; ++trial) {
    CAPTURE(trial);
    const int64_t axis = between(random, 0, 1), rows = between(random, 1, 30), width = between(random, 1, 20),
                  many = between(random, 1, 40);
    const bool scatter = trial % 2 == 0, tiled = trial % 3 == 0;
    const DType of_index = trial % 4 < 2 ? DType::i64 : DType::i32;
    // Not rows: a batch in front of the axis, or fewer columns than there are.
    const int64_t batch = axis == 1 ? trial % 5 == 0 ? 2 : 1 : 0, columns = trial % 7 == 0 ? between(random, 1, width) : width;
    Shape x{rows, width}, narrow{many, 1}, wide{many, columns};
    if (axis == 1) x.insert(x.begin(), batch), narrow.insert(narrow.begin(), batch), wide.insert(wide.begin(), batch);
    Builder b("rows", 22);
    const ValueId data = b.input("x", DType::f32, dims(x)), at = b.input("at", of_index, dims(narrow));
    Ints times(narrow.size(), 1);
    times.back() = columns;
    const ValueId index = tiled ? b.op("Tile", {at, integers(b, "times", times)}) : b.op("Expand", {at, integers(b, "wide", wide)});
    std::vector<Tensor> fed{random_tensor(x, trial), whole_numbers(of_index, narrow, random, -rows, rows - 1)};
    if (scatter) {
      const ValueId u = b.input("u", DType::f32, dims(wide));
      fed.push_back(random_tensor(wide, trial + 1));
      const char* how = std::array{"add", "mul", "max", "none"}[static_cast<size_t>(trial / 2 % 4)];
      b.output(b.op("ScatterElements", {data, index, u}, {{"axis", axis}, {"reduction", std::string(how)}}), "y");
    } else {
      b.output(b.op("GatherElements", {data, index}, {{"axis", axis}}), "y");
    }
    compiled_alike(b.finish(), fed);
  }
}
