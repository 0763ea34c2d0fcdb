// Each pattern of exporters with each of its conditions broken in turn: another constant, a constant of more dims, another axis, a value
// inside that is read once more or given out, another dtype, an older opset, nothing as a size. What is no such pattern stays as it is, and
// the numbers are those of plain evaluation in any case.
#include <array>
#include <algorithm>
#include <cstring>
#include <functional>
#include <optional>

#include "support.hpp"

using namespace test;
using Data = Attribute::Data;
using Ints = std::vector<int64_t>;

namespace {

// How many nodes of an op the compiled program holds.
int left_of(const Graph& g, const std::string& op) {
  const EditionInfo info = compile(g, {.threads = 1}).describe();
  return static_cast<int>(std::ranges::count(info.nodes, op, &NodeInfo::op));
}

class Net {
 public:
  Net(std::string bend, int64_t opset, DType dtype, int64_t rows)
      : b("near", opset), bend_(std::move(bend)), opset_(opset), dtype_(dtype), rows_(rows) {}

  bool is(std::string_view bend) const { return bend_ == bend; }
  int64_t rows() const { return rows_; }
  int64_t opset() const { return opset_; }
  ValueId in(const Shape& s, float low = -1, float high = 1) {
    fed.push_back(cast(random_tensor(s, 11 + fed.size(), low, high)));
    return b.input("x" + std::to_string(fed.size()), dtype_, Dims(s.begin(), s.end()));
  }
  ValueId constant(const Tensor& t) { return b.constant("c" + std::to_string(names_++), t); }
  // A constant of a pattern: off by a little, or of more dims, when that is the bend.
  ValueId c(float v) {
    if (is("another constant")) v *= 1.1f;
    Tensor t = cast(Tensor::from<float>({}, {v}));
    if (is("constants of more dims")) t = t.reshaped({1, 1, 1, 1, 1});
    if (is("constants of one element")) t = t.reshaped({1});
    return constant(t);
  }
  ValueId bound(float v) { return constant(cast(Tensor::from<float>({}, {v}))); }
  ValueId w(const Shape& s, uint64_t seed = 5) { return constant(cast(random_tensor(s, seed, 0.2f, 1))); }
  ValueId ints(const Ints& v) { return constant(Tensor::from<int64_t>({static_cast<int64_t>(v.size())}, v)); }
  ValueId op(const std::string& name, const std::vector<ValueId>& inputs, const std::map<std::string, Data>& a = {}) {
    return b.op(name, inputs, a);
  }
  ValueId reduce(const std::string& name, ValueId x, int64_t axis) {
    const bool as_input = opset_ >= (name == "ReduceSum" ? 13 : 18);
    return as_input ? op(name, {x, ints({axis})}) : op(name, {x}, {{"axes", Ints{axis}}});
  }
  // A value inside the pattern.
  ValueId inside(ValueId v) {
    if (is("read once more")) extra_.push_back(op("Neg", {v}));
    if (is("given out")) extra_.push_back(v);
    return v;
  }
  // Whether the compiled program holds that op; compares the numbers with plain evaluation.
  bool holds(ValueId y, const std::string& name) {
    b.output(y, "y");
    for (size_t i = 0; i < extra_.size(); ++i) b.output(extra_[i], "extra" + std::to_string(i));
    const Graph g = b.finish();
    const auto expected = evaluate_plain(g, fed);
    for (const std::string& isa : machine_info().isas) check_against(expected, g, fed, {.threads = 2, .isa = isa}, {1e-5, 1e-4, 0});
    check_against(expected, g, fed, {.threads = 1, .fuse = false}, {1e-5, 1e-4, 0});
    return left_of(g, name) > 0;
  }

  Tensor filled(const Shape& s, float v) const {
    Tensor t(DType::f32, s);
    std::ranges::fill(t.as<float>(), v);
    return cast(t);
  }
  Tensor cast(const Tensor& t) const {
    if (dtype_ == DType::f32) return t;
    Tensor out(DType::f64, t.shape());
    std::ranges::copy(t.as<float>(), out.as<double>().begin());
    return out;
  }

  Builder b;
  std::vector<Tensor> fed;

 private:
  std::string bend_;
  int64_t opset_;
  DType dtype_;
  int64_t rows_;
  int names_ = 0;
  std::vector<ValueId> extra_;
};

struct Pattern {
  const char* op;
  std::function<ValueId(Net&)> make;
  std::vector<const char*> misses;   // bends of its own that make it another thing
  bool constants = true;             // whether it has constants that must be just so
  std::vector<const char*> parts{};  // bends that leave the rest of the pattern one
};

ValueId normalised(Net& n, bool centred) {
  ValueId x = n.in({n.rows(), 5, 16});
  const int64_t axis = -1;
  if (centred) x = n.op("Sub", {x, n.reduce("ReduceMean", x, n.is("another axis") ? 1 : axis)});
  const ValueId square = n.op("Pow", {x, n.c(2)});
  const ValueId variance = n.inside(n.reduce("ReduceMean", square, n.is("another axis") && !centred ? 1 : axis));
  const ValueId spread = n.op("Sqrt", {n.op("Add", {variance, n.bound(1e-5f)})});
  const Shape scale = n.is("scale down the rows") ? Shape{5, 1} : n.is("scale of all") ? Shape{5, 16} : Shape{16};
  const ValueId y = n.op("Mul", {n.op("Div", {x, spread}), n.w(scale, 3)});
  return centred ? n.op("Add", {y, n.w(n.is("shift down the rows") ? Shape{5, 1} : Shape{16}, 4)}) : y;
}

const Pattern kPatterns[]{
    {"Gelu",
     [](Net& n) {
       const ValueId x = n.in({n.rows(), 33}, -4, 4);
       const ValueId e = n.inside(n.op("Add", {n.op("Erf", {n.op("Div", {x, n.c(1.41421356f)})}), n.c(1)}));
       return n.op("Mul", {n.op("Mul", {n.is("another value") ? n.in({n.rows(), 33}) : x, e}), n.c(0.5f)});
     },
     {"another value"}},
    {"Gelu",
     [](Net& n) {
       const ValueId x = n.in({n.rows(), 33}, -4, 4), cube = n.inside(n.op("Mul", {n.op("Pow", {x, n.c(3)}), n.c(0.044715f)}));
       const ValueId t = n.op(n.is("another function") ? "Sigmoid" : "Tanh", {n.op("Mul", {n.op("Add", {x, cube}), n.c(0.7978845608f)})});
       return n.op("Mul", {n.op("Mul", {n.c(0.5f), x}), n.op("Add", {n.c(1), t})});
     },
     {"another function"}},
    {"HardSwish",
     [](Net& n) {
       const ValueId x = n.in({n.rows(), 33}, -5, 5);
       const ValueId clip = n.op("Clip", {n.op("Add", {x, n.c(3)}), n.bound(0), n.bound(6)});
       return n.op("Div", {n.op("Mul", {x, n.inside(clip)}), n.c(6)});
     },
     {}},
    {"LayerNormalization",
     [](Net& n) { return normalised(n, true); },
     {"another axis", "scale down the rows", "scale of all"},
     false,
     {"shift down the rows"}},
    {"RMSNormalization", [](Net& n) { return normalised(n, false); }, {"another axis", "scale down the rows"}, false},
    {"Softmax",
     [](Net& n) {
       const ValueId x = n.in({n.rows(), 40}, -9, 9);
       const ValueId e = n.inside(n.op("Exp", {n.op("Sub", {x, n.reduce("ReduceMax", x, n.is("another axis") ? 0 : -1)})}));
       return n.op(n.is("the other way up") ? "Mul" : "Div", {e, n.reduce("ReduceSum", e, n.is("another sum") ? 0 : -1)});
     },
     {"another axis", "another sum", "the other way up"},
     false},
    {"Attention",
     [](Net& n) {
       const ValueId q = n.in({n.rows(), 3, 8, 16}), v = n.in({n.rows(), 3, 8, 16});
       const ValueId k = n.op("Transpose", {n.in({n.rows(), 3, n.is("keys not turned") ? 16 : 8, n.is("keys not turned") ? 8 : 16})},
                              {{"perm", n.is("keys not turned") ? Ints{0, 1, 2, 3} : Ints{0, 1, 3, 2}}});
       const ValueId scores = n.op("Div", {n.op("MatMul", {q, k}), n.is("a scale for each head") ? n.w({3, 1, 1}) : n.c(4)});
       const ValueId p = n.inside(n.op("Softmax", {scores}, {{"axis", int64_t{n.is("another axis") ? -2 : -1}}}));
       return n.op("MatMul", {p, v});
     },
     {"another axis", "a scale for each head"},
     false},
    {"DepthToSpace",
     [](Net& n) {
       const ValueId x = n.in({n.rows(), 12, 4, 5});
       const ValueId split = n.op("Reshape", {x, n.ints({n.rows(), 3, 2, 2, 4, 5})});
       const ValueId turned =
           n.inside(n.op("Transpose", {split}, {{"perm", n.is("another order") ? Ints{0, 1, 4, 3, 5, 2} : Ints{0, 1, 4, 2, 5, 3}}}));
       return n.op("Reshape", {turned, n.ints(n.is("another shape") ? Ints{n.rows(), 3, 10, 8} : Ints{n.rows(), 3, 8, 10})});
     },
     {"another order", "another shape"},
     false},
    {"SpaceToDepth",
     [](Net& n) {
       const ValueId x = n.in({n.rows(), 3, 8, 10});
       const ValueId split = n.op("Reshape", {x, n.ints({n.rows(), 3, 4, 2, 5, 2})});
       const ValueId turned =
           n.inside(n.op("Transpose", {split}, {{"perm", n.is("another order") ? Ints{0, 3, 1, 5, 2, 4} : Ints{0, 3, 5, 1, 2, 4}}}));
       return n.op("Reshape", {turned, n.ints(n.is("another shape") ? Ints{n.rows(), 12, 5, 4} : Ints{n.rows(), 12, 4, 5})});
     },
     {"another order", "another shape"},
     false},
    {"Mish",
     [](Net& n) {
       const ValueId x = n.in({n.rows(), 33}, -4, 4);
       const ValueId inner = n.op(n.is("another function") ? "Sigmoid" : "Softplus", {n.is("another value") ? n.in({n.rows(), 33}) : x});
       return n.op("Mul", {x, n.inside(n.op("Tanh", {inner}))});
     },
     {"another function", "another value"},
     false},
    {"GroupNormalization",
     [](Net& n) {
       const ValueId x = n.in({n.rows(), 12, 5, 4}), split = n.op("Reshape", {x, n.ints({n.rows(), 3, n.rows() == 0 ? 80 : -1})});
       const ValueId ones = n.is("a scale of its own inside") ? n.w({3}) : n.constant(n.filled({3}, 1));
       const ValueId zeros = n.is("a shift of its own inside") ? n.w({3}, 9) : n.constant(n.filled({3}, 0));
       const ValueId norm = n.inside(n.op("Reshape", {n.op("InstanceNormalization", {split, ones, zeros}), n.ints({n.rows(), 12, 5, 4})}));
       const ValueId scaled = n.op("Mul", {norm, n.w(n.is("a scale along the lines") ? Shape{5, 1} : Shape{12, 1, 1})});
       return n.op("Add", {scaled, n.w({1, 12, 1, 1}, 6)});
     },
     {"a scale of its own inside", "a shift of its own inside", "a scale along the lines"},
     false},
    {"RotaryEmbedding",
     [](Net& n) {
       const int64_t length = 7, width = 12, half = 6;
       const auto table = [&](uint64_t seed, bool same) {
         Tensor t = random_tensor({length, width}, seed);
         for (int64_t i = 0; same && i < length; ++i) std::copy_n(&t.as<float>()[i * width], half, &t.as<float>()[i * width + half]);
         return n.constant(n.cast(t));
       };
       const ValueId x = n.in({n.rows(), 3, length, width});
       const int64_t at = n.is("uneven halves") ? 5 : half;
       const ValueId low = n.op("Slice", {x, n.ints({0}), n.ints({at}), n.ints({-1})}),
                     high = n.op("Slice", {x, n.ints({at}), n.ints({width}), n.ints({-1})});
       const ValueId minus = n.is("the other half turned") ? n.op("Concat", {high, n.op("Neg", {low})}, {{"axis", int64_t{-1}}})
                                                           : n.op("Concat", {n.op("Neg", {high}), low}, {{"axis", int64_t{-1}}});
       const ValueId straight = n.op("Mul", {x, table(1, !n.is("angles of their own"))});
       return n.op("Add", {straight, n.op("Mul", {n.inside(minus), table(2, true)})});
     },
     {"angles of their own", "uneven halves", "the other half turned"},
     false,
     {}},
};

}  // namespace

TEST_CASE("near misses: every condition of every pattern, broken in turn") {
  for (const Pattern& p : kPatterns) {
    const auto holds = [&](const std::string& bend, int64_t opset = 21, DType dtype = DType::f32, int64_t rows = 4) {
      Net n(bend, opset, dtype, rows);
      return n.holds(p.make(n), p.op);
    };
    INFO(std::string(p.op));
    CHECK(holds(""));
    CHECK(holds("constants of one element") == holds(""));
    for (const char* bend : p.misses) {
      INFO(std::string(bend));
      CHECK_FALSE(holds(bend));
    }
    if (p.constants) {
      CHECK_FALSE(holds("another constant"));
      CHECK_FALSE(holds("constants of more dims"));
    }
    for (const char* bend : p.parts) CHECK(holds(bend));
    // What is seen from outside stays: only the numbers count, and they are checked in `holds`.
    (void)holds("read once more");
    (void)holds("given out");
    // Older ways of writing it down, other numbers, nothing at all: recognised or not, right.
    for (const int64_t opset : {11, 13, 17, 18, 24}) {
      CAPTURE(opset);
      (void)holds("", opset);
    }
    (void)holds("", 21, DType::f64);
    (void)holds("", 21, DType::f32, 0);
    (void)holds("", 21, DType::f32, 1);
  }
}

TEST_CASE("near misses of folds: factors and shifts that are not one a channel stay beside the product") {
  const auto merged = [](const Shape& factor, bool shared, bool read) {
    Builder b("fold", 17);
    const auto x = b.input("x", DType::f32, {1, 6, 5, 5});
    const auto w = b.constant("w", random_tensor({6, 6, 1, 1}, 1));
    const auto y = b.op("Conv", {x, w});
    const auto scaled = b.op("Mul", {y, b.constant("f", random_tensor(factor, 2, 0.5f, 2))});
    b.output(scaled, "y");
    if (shared) b.output(b.op("Conv", {scaled, w}), "again");
    if (read) b.output(b.op("Sqrt", {b.op("Abs", {y})}), "raw");
    const Graph g = b.finish();
    check_against_plain(g, {random_tensor({1, 6, 5, 5}, 3)}, {.threads = 2});
    return left_of(g, "Mul") == 0;
  };
  CHECK(merged({6, 1, 1}, false, false));
  CHECK(merged({1, 6, 1, 1}, false, false));
  CHECK(merged({1}, false, false));
  CHECK_FALSE(merged({5}, false, false));              // along the last axis
  CHECK_FALSE(merged({6, 5, 5}, false, false));        // one for each element
  CHECK_FALSE(merged({5, 1}, false, false));           // along the lines
  CHECK_FALSE(merged({1, 1, 1, 1, 1}, false, false));  // makes the result one dim more
  CHECK_FALSE(merged({6, 1, 1}, false, true));         // the product itself is read too
  (void)merged({6, 1, 1}, true, false);                // a constant that another node reads keeps its numbers for that one
}

TEST_CASE("near misses of folds: weights that would leave the range of their type, or lose their digits") {
  // x (w f) is no x w f when w f overflows or all but vanishes.
  const auto folded = [](const char* producer, DType dtype, float weights, float factor, float x) {
    CAPTURE(std::string(producer));
    CAPTURE(weights);
    CAPTURE(factor);
    const bool conv = std::string_view(producer) != "MatMul";
    const auto as = [&](Tensor t, float by) {
      for (float& v : t.as<float>()) v *= by;
      Builder b("cast", 17);
      b.output(b.op("Cast", {b.input("x", DType::f32, Dims(t.shape().begin(), t.shape().end()))},
                    {{"to", dtype == DType::f16 ? int64_t{10} : int64_t{1}}}),
               "y");
      return evaluate_plain(b.finish(), std::vector<Tensor>{t})[0];
    };
    Builder b("range", 17);
    const auto in = b.input("x", dtype, conv ? Dims{1, 4, 5, 5} : Dims{7, 4});
    const auto y = b.op(producer, {in, b.constant("w", as(random_tensor(conv ? Shape{4, 4, 3, 3} : Shape{4, 4}, 1, 0.5f, 1), weights))});
    const auto ones = [&](float v) {
      Tensor t(DType::f32, {4});
      std::ranges::fill(t.as<float>(), v);
      return as(t, 1);
    };
    b.output(b.op("BatchNormalization", {y, b.constant("scale", ones(factor)), b.constant("shift", ones(0)), b.constant("mean", ones(0)),
                                         b.constant("variance", ones(1))}),
             "y");
    const Graph g = b.finish();
    const std::vector<Tensor> fed{as(random_tensor(conv ? Shape{1, 4, 5, 5} : Shape{7, 4}, 2, 0.5f, 1), x)};
    const auto expected = evaluate_plain(g, fed);
    Lane lane(compile(g, {.threads = 1}));
    const Outputs got = lane.run(std::span<const Tensor>(fed));
    const Comparison c = compare("y", got[0], expected[0], Tolerance{0, dtype == DType::f16 ? 4e-3 : 1e-4, 0});
    INFO(c.reason);
    CHECK(c.pass);
    return left_of(g, "BatchNormalization") == 0;
  };
  for (const char* producer : {"Conv", "ConvTranspose", "MatMul"}) {
    CHECK(folded(producer, DType::f32, 1, 3, 1));
    CHECK(folded(producer, DType::f32, 1, 0, 1));
    CHECK_FALSE(folded(producer, DType::f32, 1e25f, 1e20f, 1e-20f));
    CHECK_FALSE(folded(producer, DType::f32, 1e-25f, 1e-20f, 1e25f));
    CHECK(folded(producer, DType::f32, 1e-25f, 1e20f, 1));
    // Halves are computed on in f32, where these products are numbers like others: folded or not, the result must be right.
    for (const auto& [weights, factor, x] : {std::array{1.0f, 3.0f, 1.0f}, {1000.0f, 300.0f, 0.01f}, {1e-3f, 1e-3f, 1000.0f}})
      (void)folded(producer, DType::f16, weights, factor, x);
  }
}

TEST_CASE("near misses of folds: a shift that would leave the range of its type does no harm") {
  // y = (x w + b) f + s in halves: b f overflows in them, where what comes out does not.
  for (const float bias : {0.5f, 3000.0f}) {
    CAPTURE(bias);
    Builder b("shift", 17);
    const auto half = [&](const char* name, const Shape& s, float v) {
      Tensor t(DType::f16, s);
      // 0.5, 3000, 100, 0 and -40 written as halves.
      const uint16_t bits = v == 0.5f ? 0x3800 : v == 3000 ? 0x69dc : v == 100 ? 0x5640 : v == 1 ? 0x3c00 : v == -40 ? 0xd100 : 0;
      std::fill_n(static_cast<uint16_t*>(t.data()), t.size(), bits);
      return b.constant(name, t);
    };
    const auto x = b.input("x", DType::f16, {1, 2, 4, 4});
    const auto y = b.op("Conv", {x, half("w", {2, 2, 1, 1}, -40), half("b", {2}, bias)});
    b.output(
        b.op("BatchNormalization", {y, half("scale", {2}, 100), half("shift", {2}, 0), half("mean", {2}, 0), half("variance", {2}, 1)}),
        "y");
    const Graph g = b.finish();
    Tensor in(DType::f16, {1, 2, 4, 4});
    for (int64_t i = 0; i < in.size(); ++i)
      static_cast<uint16_t*>(in.data())[i] = static_cast<uint16_t>(bias == 0.5f ? 0x2000 + i : 0x50a0 + i % 2);
    const auto expected = evaluate_plain(g, std::vector<Tensor>{in});
    const Comparison c = compare("y", Lane(compile(g)).run({{"x", in}})[0], expected[0], Tolerance{1, 4e-3, 0});
    INFO(c.reason);
    CHECK(c.pass);
  }
}

TEST_CASE("near misses of merged products: constants that another node reads, products that are read, ranks, sizes, range") {
  // x A B with constants A, B is one product where that is no more work: how many are left?
  struct Case {
    const char* what;
    Shape x, a, b;
    int left;
    DType dtype = DType::f32;
    bool read = false, shared = false, given_out = false;
    float size = 1;
  };
  for (const Case& c : std::vector<Case>{
           {"plain", {5, 6}, {6, 9}, {9, 4}, 1},
           {"rows of a batch", {2, 3, 6}, {6, 9}, {9, 4}, 1},
           {"a vector", {6}, {6, 9}, {9, 4}, 1},
           {"narrow in the middle: two small products are less work", {5, 60}, {60, 2}, {2, 60}, 2},
           {"read in between", {5, 6}, {6, 9}, {9, 4}, 2, DType::f32, true},
           {"given out in between", {5, 6}, {6, 9}, {9, 4}, 2, DType::f32, false, false, true},
           {"a constant with another reader", {5, 6}, {6, 9}, {9, 4}, 2, DType::f32, false, true},
           {"in double", {5, 6}, {6, 9}, {9, 4}, 2, DType::f64},
           {"weights of three dims", {2, 5, 6}, {2, 6, 9}, {9, 4}, 2},
           {"a vector of weights", {5, 6}, {6, 9}, {9}, 2},
           {"nothing in the middle", {5, 6}, {6, 0}, {0, 4}, 2},
           {"no rows", {0, 6}, {6, 9}, {9, 4}, 1},
           {"products out of range", {5, 6}, {6, 9}, {9, 4}, 2, DType::f32, false, false, false, 1e20f},
       }) {
    CAPTURE(std::string(c.what));
    Net n("", 21, c.dtype, 4);
    const auto big = [&](const Shape& s, uint64_t seed) {
      Tensor t = random_tensor(s, seed, 0.5f, 1);
      for (float& v : t.as<float>()) v *= c.size;
      return n.constant(n.cast(t));
    };
    const ValueId x = n.in(c.x, -1 / c.size, 1 / c.size), a = big(c.a, 3), b = big(c.b, 4);
    const ValueId first = n.op("MatMul", {x, a});
    n.b.output(n.op("MatMul", {first, b}), "y");
    if (c.read) n.b.output(n.op("Neg", {first}), "between");
    if (c.given_out) n.b.output(first, "between");
    if (c.shared) n.b.output(n.op("MatMul", {n.in({3, c.a[0]}), a}), "other");
    const Graph g = n.b.finish();
    for (const int threads : {1, 2}) check_against_plain(g, n.fed, {.threads = threads}, {2e-4, 1e-3, 0});
    CHECK(left_of(g, "MatMul") + left_of(g, "Gemm") == c.left);
  }
}

TEST_CASE("near misses of attention of groups: heads in another order, keys or values alone said again, what was kept along another axis") {
  const int64_t kv = 2, group = 3, width = 8, past = 5, fresh = 4;
  // How the repetition is written: which axis the heads of a group stand on, and for which of the two.
  struct Case {
    const char* what;
    bool outer = false, keys = true, values = true;  // `outer`: every head in turn, once for each member of a group
    bool grouped = true;                             // whether the repetition may go
    int64_t concat = 2;                              // where what was kept is joined; 3: the widths of keys, which are halved
    bool fresh_first = false, read = false, masked = false;
  };
  for (const Case& c : std::vector<Case>{
           {"as it should be"},
           {"with a mask", false, true, true, true, 2, false, false, true},
           {"what was kept behind what is new", false, true, true, true, 2, true},
           {"heads in turn", true, true, true, false},
           {"keys alone", false, true, false, false},
           {"values alone", false, false, true, false},
           {"the repeated keys are read", false, true, true, true, 2, false, true},
           {"joined along the width", false, true, true, true, 3},
       }) {
    CAPTURE(std::string(c.what));
    for (const int64_t batch : {1, 3}) {
      for (const int64_t rows : {1, 7}) {
        Net n("", 21, DType::f32, 4);
        const ValueId q = n.in({batch, kv * group, rows, width});
        const int64_t keys = c.concat == 2 ? past + fresh : past;
        const auto part = [&](int64_t heads, bool old) {
          return c.concat == 2 ? n.in({batch, heads, old ? past : fresh, width}) : n.in({batch, heads, past, width / 2});
        };
        const auto kept = [&](bool repeated) {
          const int64_t heads = repeated ? kv : kv * group;
          const ValueId old = part(heads, true), now = part(heads, false);
          const ValueId all =
              n.op("Concat", c.fresh_first ? std::vector<ValueId>{now, old} : std::vector<ValueId>{old, now}, {{"axis", c.concat}});
          if (!repeated) return all;
          const ValueId apart = n.op("Unsqueeze", {all, n.ints({c.outer ? 1 : 2})});
          const ValueId said =
              n.op("Expand", {apart, n.ints(c.outer ? Ints{batch, group, kv, keys, width} : Ints{batch, kv, group, keys, width})});
          return n.op("Reshape", {said, n.ints({batch, kv * group, keys, width})});
        };
        const ValueId k = kept(c.keys);
        if (c.read) n.b.output(n.op("Neg", {k}), "keys");
        ValueId scores = n.op("Mul", {n.op("MatMul", {q, n.op("Transpose", {k}, {{"perm", Ints{0, 1, 3, 2}}})}), n.bound(0.3f)});
        if (c.masked) scores = n.op("Add", {scores, n.in({batch, 1, rows, keys}, -3, 0)});
        n.b.output(n.op("MatMul", {n.op("Softmax", {scores}, {{"axis", int64_t{-1}}}), kept(c.values)}), "y");
        const Graph g = n.b.finish();
        for (const std::string& isa : machine_info().isas) check_against_plain(g, n.fed, {.threads = 2, .isa = isa}, {1e-5, 1e-4, 0});
        check_against_plain(g, n.fed, {.threads = 1, .fuse = false}, {1e-5, 1e-4, 0});
        CHECK(left_of(g, "Attention") == 1);
        CHECK(left_of(g, "Expand") == (c.grouped ? (c.read ? 1 : 0) : static_cast<int>(c.keys) + static_cast<int>(c.values)));
      }
    }
  }
}

TEST_CASE("near misses of quantised convolutions: axes, zero points, clamps, readers, groups, scales that are no constants") {
  struct Case {
    const char* what;
    bool on_bytes;
    std::function<void(Graph&, const std::function<Node&(const char*, int)>&)> bend{};
  };
  // Where a bend goes into the graph that an exporter would have written.
  const auto set = [](Graph& g, ValueId v, Tensor t) {
    g.values[v].dtype = t.dtype();
    g.values[v].dims = Dims(t.shape().begin(), t.shape().end());
    g.values[v].constant = std::move(t);
  };
  const auto added = [&](Graph& g, const std::string& name, Tensor t) {
    Value v;
    v.name = name;
    const ValueId id = g.add_value(std::move(v));
    set(g, id, std::move(t));
    return id;
  };
  const auto floats = [](std::vector<float> v) { return Tensor::from<float>({static_cast<int64_t>(v.size())}, v); };
  const auto bytes = [](DType d, Shape s, int v) {
    Tensor t(d, std::move(s));
    std::memset(t.data(), v, t.byte_size());
    return t;
  };
  // Nodes: QuantizeLinear 0, DequantizeLinear 0 (input), DequantizeLinear 1 (weights), Conv 0, Relu 0, QuantizeLinear 1,
  // DequantizeLinear 2.
  using Get = std::function<Node&(const char*, int)>;
  const std::vector<Case> cases{
      {"as it should be", true},
      {"one scale a filter", true,
       [&](Graph& g, const Get& node) {
         set(g, node("DequantizeLinear", 1).inputs[1], floats({0.01f, 0.02f, 0.005f, 0.015f}));
         set(g, node("DequantizeLinear", 1).inputs[2], bytes(DType::i8, {4}, 0));
         node("DequantizeLinear", 1).attributes["axis"].data = int64_t{0};
       }},
      {"one scale an input channel", false,
       [&](Graph& g, const Get& node) {
         set(g, node("DequantizeLinear", 1).inputs[1], floats({0.01f, 0.02f, 0.005f, 0.015f}));
         set(g, node("DequantizeLinear", 1).inputs[2], bytes(DType::i8, {4}, 0));
         node("DequantizeLinear", 1).attributes["axis"].data = int64_t{1};
       }},
      {"one scale a column", false,
       [&](Graph& g, const Get& node) {
         set(g, node("DequantizeLinear", 1).inputs[1], floats({0.01f, 0.02f, 0.005f}));
         set(g, node("DequantizeLinear", 1).inputs[2], bytes(DType::i8, {3}, 0));
         node("DequantizeLinear", 1).attributes["axis"].data = int64_t{-1};
       }},
      {"scales in lists of one", true,
       [&](Graph& g, const Get& node) {
         set(g, node("DequantizeLinear", 1).inputs[1], floats({0.01f}));
         set(g, node("DequantizeLinear", 1).inputs[2], bytes(DType::i8, {1}, 0));
         node("DequantizeLinear", 1).attributes["axis"].data = int64_t{0};
       }},
      {"weights with a zero point", true,
       [&](Graph& g, const Get& node) { set(g, node("DequantizeLinear", 1).inputs[2], bytes(DType::i8, {}, 3)); }},
      {"no zero points", true,
       [&](Graph&, const Get& node) {
         node("QuantizeLinear", 0).inputs.resize(2);
         node("DequantizeLinear", 0).inputs.resize(2);
         node("DequantizeLinear", 1).inputs.resize(2);
       }},
      {"the input on two scales", false,
       [&](Graph& g, const Get& node) {
         for (Node* n : {&node("QuantizeLinear", 0), &node("DequantizeLinear", 0)}) {
           n->attributes["axis"].data = int64_t{1};
           n->inputs[1] = added(g, "by channel " + n->op, floats({0.01f, 0.02f, 0.01f, 0.02f}));
           n->inputs[2] = added(g, "zeros " + n->op, bytes(DType::u8, {4}, 128));
         }
       }},
      {"rounded to another scale than read with", true,
       [&](Graph& g, const Get& node) { node("DequantizeLinear", 0).inputs[1] = added(g, "another", Tensor::from<float>({}, {0.011f})); }},
      {"the clamp cuts what the range holds", false,
       [&](Graph& g, const Get& node) { set(g, node("QuantizeLinear", 1).inputs[2], bytes(DType::u8, {}, 100)); }},
      {"the result on one scale a channel", false,
       [&](Graph& g, const Get& node) {
         for (Node* n : {&node("QuantizeLinear", 1), &node("DequantizeLinear", 2)}) {
           n->attributes["axis"].data = int64_t{1};
           n->inputs[1] = added(g, "out by channel " + n->op, floats({0.05f, 0.06f, 0.05f, 0.04f}));
           n->inputs[2] = added(g, "out zeros " + n->op, bytes(DType::u8, {4}, 0));
         }
       }},
      {"the convolution is given out", false, [&](Graph& g, const Get& node) { g.outputs.push_back(node("Conv", 0).outputs[0]); }},
      {"the rectified values are given out", false, [&](Graph& g, const Get& node) { g.outputs.push_back(node("Relu", 0).outputs[0]); }},
      {"the numbers read in are given out", true,
       [&](Graph& g, const Get& node) { g.outputs.push_back(node("DequantizeLinear", 0).outputs[0]); }},
      {"two groups", true,
       [&](Graph& g, const Get& node) {
         set(g, node("DequantizeLinear", 1).inputs[0], bytes(DType::i8, {4, 2, 3, 3}, 17));
         g.values[node("DequantizeLinear", 1).outputs[0]].dims.reset();
         node("Conv", 0).attributes["group"].data = int64_t{2};
       }},
      {"each channel for itself", true,
       [&](Graph& g, const Get& node) {
         set(g, node("DequantizeLinear", 1).inputs[0], bytes(DType::i8, {4, 1, 3, 3}, 17));
         g.values[node("DequantizeLinear", 1).outputs[0]].dims.reset();
         node("Conv", 0).attributes["group"].data = int64_t{4};
       }},
      {"strides, gaps and uneven pads", true,
       [&](Graph&, const Get& node) {
         node("Conv", 0).attributes["strides"].data = Ints{2, 1};
         node("Conv", 0).attributes["dilations"].data = Ints{1, 2};
         node("Conv", 0).attributes["pads"].data = Ints{1, 2, 0, 1};
       }},
      {"signed bytes come out", true,
       [&](Graph& g, const Get& node) {
         node("QuantizeLinear", 1).inputs[2] = node("DequantizeLinear", 2).inputs[2] = added(g, "signed", bytes(DType::i8, {}, -128));
       }},
  };
  for (const Case& c : cases) {
    CAPTURE(std::string(c.what));
    Builder b("quantised convolution", 21);
    const auto scale = [&](const char* name, float s) { return b.constant(name, Tensor::from<float>({}, {s})); };
    const auto zero = [&](const char* name, uint8_t z) { return b.constant(name, Tensor::from<uint8_t>({}, {z})); };
    const auto x = b.input("x", DType::f32, {2, 4, 6, 7});
    const auto in =
        b.op("DequantizeLinear", {b.op("QuantizeLinear", {x, scale("sx", 0.01f), zero("zx", 128)}), scale("sx2", 0.01f), zero("zx2", 128)});
    Tensor numbers(DType::i8, {4, 4, 3, 3});
    for (int64_t i = 0; i < numbers.size(); ++i) static_cast<int8_t*>(numbers.data())[i] = static_cast<int8_t>(i * 37 % 200 - 100);
    const auto w = b.op("DequantizeLinear", {b.constant("w", numbers), scale("sw", 0.01f), b.constant("zw", bytes(DType::i8, {}, 0))});
    const auto y = b.op("Relu", {b.op("Conv", {in, w, b.constant("bias", random_tensor({4}, 5))}, {{"pads", Ints{1, 1, 1, 1}}})});
    const auto q = b.op("QuantizeLinear", {y, scale("sy", 0.05f), zero("zy", 0)});
    b.output(b.op("DequantizeLinear", {q, scale("sy2", 0.05f), zero("zy2", 0)}), "y");
    Graph g = b.finish();
    if (c.bend) {
      const Get node = [&](const char* op, int which) -> Node& {
        for (Node& n : g.nodes) {
          if (n.op == op && which-- == 0) return n;
        }
        throw std::logic_error("no such node");
      };
      // What was inferred of the graph as it was says nothing of the bent one.
      for (const Node& n : g.nodes) {
        for (const ValueId v : n.outputs) g.values[v].dims.reset(), g.values[v].dtype = DType::undefined;
      }
      c.bend(g, node);
      infer(g);
    }
    const std::vector<Tensor> fed{random_tensor({2, 4, 6, 7}, 6)};
    for (const std::string& isa : machine_info().isas) check_against_plain(g, fed, {.threads = 2, .isa = isa}, {0.0501, 0, 0});
    CHECK((left_of(g, "QLinearConv") > 0) == c.on_bytes);
  }
}

TEST_CASE("near misses of quantised products: scales and zero points of other shapes, biases on other grids") {
  struct Case {
    Shape weight_scale;
    int64_t axis;
    Shape bias;
    float out_scale;
  };
  for (const Case& c : {Case{{}, 1, {4}, 0.05f},
                        {{4}, 1, {4}, 0.05f},
                        {{6}, 0, {4}, 0.05f},
                        {{4}, 1, {4, 1}, 0.05f},
                        {{4}, 1, {1, 4}, 0.05f},
                        {{}, 1, {1}, 0.05f},
                        {{}, 1, {4, 4}, 0.05f},
                        {{}, 1, {4}, 1e-4f},
                        {{}, 1, {4}, 30.0f}}) {
    CAPTURE(to_string(c.weight_scale));
    CAPTURE(to_string(c.bias));
    CAPTURE(c.out_scale);
    Builder b("quantised", 21);
    const auto scale = [&](const char* name, float s) { return b.constant(name, Tensor::from<float>({}, {s})); };
    const auto x = b.input("x", DType::f32, {4, 6});
    const auto zero = b.constant("zero", Tensor::from<uint8_t>({}, {128}));
    const auto in = b.op("DequantizeLinear", {b.op("QuantizeLinear", {x, scale("sx", 0.01f), zero}), scale("sx2", 0.01f), zero});
    Tensor weights(DType::i8, {6, 4});
    for (int64_t i = 0; i < weights.size(); ++i) static_cast<int8_t*>(weights.data())[i] = static_cast<int8_t>(i * 37 % 200 - 100);
    std::map<std::string, Data> attributes;
    if (!c.weight_scale.empty()) attributes["axis"] = c.axis;
    const auto w =
        b.op("DequantizeLinear", {b.constant("w", weights), b.constant("sw", random_tensor(c.weight_scale, 4, 0.005f, 0.02f))}, attributes);
    const auto y = b.op("Add", {b.op("MatMul", {in, w}), b.constant("bias", random_tensor(c.bias, 5))});
    const auto q = b.op("QuantizeLinear", {y, scale("sy", c.out_scale), b.constant("zy", Tensor::from<uint8_t>({}, {100}))});
    b.output(q, "y");
    const Graph g = b.finish();
    const std::vector<Tensor> fed{random_tensor({4, 6}, 6)};
    const auto expected = evaluate_plain(g, fed);
    for (const std::string& isa : machine_info().isas) {
      Lane lane(compile(g, {.threads = 2, .isa = isa}));
      const Outputs out = lane.run(std::span<const Tensor>(fed));
      int most = 0;
      for (int64_t i = 0; i < expected[0].size(); ++i)
        most = std::max(most, std::abs(static_cast<int>(out[0].as<uint8_t>()[i]) - static_cast<int>(expected[0].as<uint8_t>()[i])));
      CHECK(most <= 1);  // a tie rounded the other way
    }
  }
}

TEST_CASE("near misses of algebra: what is almost done twice, almost undone, or almost nothing") {
  // How many nodes of an op are left, and the numbers, with zeros of both signs, infinities and NaN among them.
  struct Case {
    const char* what;
    const char* op;
    int left;
    std::function<ValueId(Net&, ValueId)> make;  // of x[2, 3, 4]
  };
  using N = Net&;
  using V = ValueId;
  const auto perm = [](Ints p) { return std::map<std::string, Data>{{"perm", std::move(p)}}; };
  const auto to = [](int64_t dtype) { return std::map<std::string, Data>{{"to", dtype}}; };
  const auto axis = [](int64_t a) { return std::map<std::string, Data>{{"axis", a}}; };
  const std::vector<Case> cases{
      {"the same twice", "Softmax", 1,
       [&](N n, V x) {
         return n.op("Sub", {n.op("Softmax", {x}, axis(1)), n.op("Softmax", {x}, axis(1))});
       }},
      {"along another axis", "Softmax", 2,
       [&](N n, V x) {
         return n.op("Sub", {n.op("Softmax", {x}, axis(1)), n.op("Softmax", {x}, axis(2))});
       }},
      {"the same constant with more dims", "Add", 2,
       [&](N n, V x) {
         const V flat = n.op("Add", {x, n.constant(Tensor::from<float>({1}, {2}))});
         const V deep = n.op("Add", {x, n.constant(Tensor::from<float>({1, 1, 1, 1}, {2}))});
         return n.op("Concat", {n.op("Unsqueeze", {flat, n.ints({0})}), deep}, axis(0));
       }},
      {"the same bits of another type", "Cast", 2,
       [&](N n, V x) {
         const V i = n.op("Cast", {n.constant(Tensor::from<int32_t>({}, {1}))}, to(1));
         return n.op("Add", {n.op("Cast", {n.op("Cast", {x}, to(6))}, to(1)), n.op("Mul", {x, i})});
       }},
      {"turned and turned back", "Transpose", 0,
       [&](N n, V x) {
         return n.op("Neg", {n.op("Transpose", {n.op("Transpose", {x}, perm({2, 0, 1}))}, perm({1, 2, 0}))});
       }},
      {"turned twice the same way", "Transpose", 1,
       [&](N n, V x) {
         return n.op("Neg", {n.op("Transpose", {n.op("Transpose", {x}, perm({2, 0, 1}))}, perm({2, 0, 1}))});
       }},
      {"turned, with a row added in between", "Add", 1,
       [&](N n, V x) {
         const V turned = n.op("Transpose", {x}, perm({0, 2, 1}));
         return n.op("Transpose", {n.op("Add", {turned, n.w({3})})}, perm({0, 2, 1}));
       }},
      {"turned, with a slope for each column in between", "PRelu", 1,
       [&](N n, V x) {
         const V turned = n.op("Transpose", {x}, perm({0, 2, 1}));
         return n.op("Transpose", {n.op("PRelu", {turned, n.w({3})})}, perm({0, 2, 1}));
       }},
      {"all of it", "Slice", 0,
       [&](N n, V x) {
         return n.op("Neg", {n.op("Slice", {x, n.ints({0}), n.ints({9}), n.ints({1})})});
       }},
      {"all of it backwards", "Slice", 1,
       [&](N n, V x) {
         return n.op("Neg", {n.op("Slice", {x, n.ints({-1}), n.ints({-9}), n.ints({1}), n.ints({-1})})});
       }},
      {"all but the first", "Slice", 1,
       [&](N n, V x) {
         return n.op("Neg", {n.op("Slice", {x, n.ints({1}), n.ints({9}), n.ints({1})})});
       }},
      {"nothing added at the edges", "Pad", 0,
       [&](N n, V x) {
         return n.op("Neg", {n.op("Pad", {x, n.ints({0, 0, 0, 0, 0, 0})})});
       }},
      {"one added in front, one taken behind", "Pad", 1,
       [&](N n, V x) {
         return n.op("Neg", {n.op("Pad", {x, n.ints({0, 1, 0, 0, -1, 0})})});
       }},
      {"as large already", "Expand", 0,
       [&](N n, V x) {
         return n.op("Neg", {n.op("Expand", {x, n.ints({3, 1})})});
       }},
      {"one dim more", "Expand", 1,
       [&](N n, V x) {
         return n.op("Neg", {n.op("Expand", {x, n.ints({1, 2, 3, 4})})});
       }},
      {"times one", "Mul", 0,
       [&](N n, V x) {
         return n.op("Neg", {n.op("Mul", {n.c(1), x})});
       }},
      {"times nearly one", "Mul", 1,
       [&](N n, V x) {
         return n.op("Neg", {n.op("Mul", {n.c(1.0000001f), x})});
       }},
      {"times a one of more dims", "Mul", 1,
       [&](N n, V x) {
         return n.op("Neg", {n.op("Mul", {x, n.constant(n.filled({1, 1, 1, 1}, 1))})});
       }},
      {"times ones that widen it", "Mul", 1,
       [&](N n, V x) {
         return n.op("Neg", {n.op("Mul", {x, n.constant(n.filled({5, 1, 1, 1}, 1))})});
       }},
      {"less zero", "Sub", 0,
       [&](N n, V x) {
         return n.op("Reciprocal", {n.op("Sub", {x, n.c(0)})});
       }},
      {"less minus zero", "Sub", 1,
       [&](N n, V x) {
         return n.op("Reciprocal", {n.op("Sub", {x, n.c(-0.0f)})});
       }},
      {"plus zero", "Add", 1,
       [&](N n, V x) {
         return n.op("Reciprocal", {n.op("Add", {x, n.c(0)})});
       }},
      {"zero less it", "Sub", 1,
       [&](N n, V x) {
         return n.op("Reciprocal", {n.op("Sub", {n.c(0), x})});
       }},
      {"over one", "Div", 0,
       [&](N n, V x) {
         return n.op("Neg", {n.op("Div", {x, n.c(1)})});
       }},
      {"one over it", "Div", 1,
       [&](N n, V x) {
         return n.op("Neg", {n.op("Div", {n.c(1), x})});
       }},
      {"to the first power", "Pow", 0,
       [&](N n, V x) {
         return n.op("Neg", {n.op("Pow", {x, n.c(1)})});
       }},
      {"one to its power", "Pow", 1,
       [&](N n, V x) {
         return n.op("Neg", {n.op("Pow", {n.c(1), x})});
       }},
      {"to the type it has", "Cast", 0, [&](N n, V x) { return n.op("Neg", {n.op("Cast", {x}, to(1))}); }},
      {"to halves and back", "Cast", 2, [&](N n, V x) { return n.op("Neg", {n.op("Cast", {n.op("Cast", {x}, to(10))}, to(1))}); }},
      {"one joined with nothing", "Concat", 0, [&](N n, V x) { return n.op("Neg", {n.op("Concat", {x}, axis(1))}); }},
      {"joined with itself", "Concat", 1,
       [&](N n, V x) {
         return n.op("Neg", {n.op("Concat", {x, x}, axis(1))});
       }},
      {"a sum of one", "Sum", 0, [&](N n, V x) { return n.op("Neg", {n.op("Sum", {x})}); }},
      {"a mask that is read", "Dropout", 0,
       [&](N n, V x) {
         const auto out = n.b.ops("Dropout", {x}, 2);
         return n.op("Where", {out[1], n.op("Neg", {out[0]}), x});
       }},
      {"a mask that nobody reads", "Dropout", 0, [&](N n, V x) { return n.op("Neg", {n.b.ops("Dropout", {x}, 2)[0]}); }},
  };
  for (const Case& c : cases) {
    CAPTURE(std::string(c.what));
    Net n("", 21, DType::f32, 4);
    const ValueId x = n.in({2, 3, 4}, 0.5f, 3);
    const float odd[]{0.0f, -0.0f, INFINITY, -INFINITY, NAN, 1.0f, -2.0f};
    std::copy(std::begin(odd), std::end(odd), n.fed[0].as<float>().begin());
    if (std::string_view(c.op) == "Cast") n.fed[0] = random_tensor({2, 3, 4}, 1, -50, 50);  // no number fits every type
    n.b.output(c.make(n, x), "y");
    const Graph g = n.b.finish();
    check_against_plain(g, n.fed, {.threads = 1});
    check_against_plain(g, n.fed, {.threads = 2, .fuse = false});
    CHECK(left_of(g, c.op) == c.left);
  }
}

TEST_CASE("near misses of opened control flow: conditions that change, many trips, what is collected") {
  struct Case {
    const char* what;
    int left;  // Loops and Ifs
    int64_t trips = 3;
    bool known = true;      // whether the trips are a constant
    int going = 1;          // the condition that comes in: 1, 0, or -1 for none
    bool changes = false;   // whether the body makes the next one
    bool collects = false;  // whether it gives a row a trip
  };
  for (const Case& c : std::vector<Case>{{"three trips", 0},
                                         {"trips that are fed", 1, 3, false},
                                         {"none at all", 1, 0},
                                         {"more than are written out", 1, 40},
                                         {"not going from the start", 1, 3, true, 0},
                                         {"no condition", 0, 3, true, -1},
                                         {"a condition of its own", 1, 3, true, 1, true},
                                         {"rows collected", 1, 3, true, 1, false, true}}) {
    CAPTURE(std::string(c.what));
    Builder body("body", 21);
    const ValueId trip = body.input("trip", DType::i64, {}), on = body.input("on", DType::boolean, {});
    const ValueId state = body.input("state", DType::f32, Dims{2, 3});
    const ValueId more = body.op("Add", {body.op("Mul", {state, body.outer("x1")}), body.op("Cast", {trip}, {{"to", int64_t{1}}})});
    body.output(c.changes ? body.op("Less", {trip, body.constant("last", Tensor::from<int64_t>({}, {1}))}) : body.op("Identity", {on}),
                "next");
    body.output(more, "more");
    if (c.collects) body.output(body.op("Neg", {more}), "row");
    Net n("", 21, DType::f32, 4);
    const ValueId x = n.in({2, 3});
    const Tensor trips = Tensor::from<int64_t>({}, {c.trips});
    ValueId count = kAbsent;
    if (c.known) {
      count = n.constant(trips);
    } else {
      count = n.b.input("trips", DType::i64, {});
      n.fed.push_back(trips);
    }
    const ValueId going = c.going < 0 ? kAbsent : n.constant(Tensor::from<bool>({}, {c.going == 1}));
    const auto out = n.b.ops("Loop", {count, going, x}, c.collects ? 2 : 1, {{"body", Data(body.finish_body())}});
    for (size_t i = 0; i < out.size(); ++i) n.b.output(n.op("Neg", {out[i]}), "y" + std::to_string(i));
    const Graph g = n.b.finish();
    check_against_plain(g, n.fed, {.threads = 1});
    check_against_plain(g, n.fed, {.threads = 2, .fuse = false});
    CHECK(left_of(g, "Loop") == c.left);
  }
}
