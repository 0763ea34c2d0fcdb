// Random graphs built around each pattern that passes look for and each way steps are fused, with something bent at every joint: constants
// of every shape that broadcasts (and of more dims than that), constants that several ops share with different attributes, values that are
// read twice or given out, old and new opsets, sizes of 0, 1 and ragged ones, odd scales, infinities. Compiled at 1 to 3 threads under each
// instruction set they give what plain evaluation gives, or the same refusal.
//
// LATHE_JOINTS: how many graphs (2000); LATHE_SEED: the first one's number; LATHE_SECONDS: as many as fit, from that one on.
#include <algorithm>
#include <chrono>
#include <cmath>
#include <cstdlib>
#include <deque>
#include <functional>

#include <fmt/format.h>

#include "support.hpp"
#include "tensor/widen.hpp"

using namespace test;

namespace {

using Ints = std::vector<int64_t>;
using Attributes = std::map<std::string, Attribute::Data>;

// A graph that cannot be drawn like this: another is.
struct Skip {};

struct V {
  ValueId id = kAbsent;
  Shape shape;
};

struct DrawnGraph {
  Graph graph;
  std::vector<Tensor> fed;
  double terms = 64, rounding = 0x1p-24;
  double step = 0;  // results may differ by so much: a step of a quantised result
  std::string kind;
};

class Joiner {
 public:
  explicit Joiner(uint64_t seed) : random_(seed * 0x9E3779B97F4A7C15u + 12345), opset_(opset()), b_("joint", opset_) {}

  DrawnGraph draw() {
    using F = void (Joiner::*)();
    struct Kind {
      const char* name;
      F make;
    };
    static constexpr Kind kKinds[]{{"gelu", &Joiner::gelu},
                                   {"gated", &Joiner::gated},
                                   {"normalisation written out", &Joiner::normalisation},
                                   {"normalisation", &Joiner::normalisation_op},
                                   {"softmax written out", &Joiner::softmax},
                                   {"attention written out", &Joiner::attention},
                                   {"rotary written out", &Joiner::rotary},
                                   {"group normalisation written out", &Joiner::group_normalisation},
                                   {"blocks written out", &Joiner::blocks},
                                   {"cell written out", &Joiner::cell},
                                   {"quantised", &Joiner::quantised},
                                   {"convolution and what follows", &Joiner::convolution},
                                   {"product and what follows", &Joiner::product},
                                   {"weights that are shared", &Joiner::shared_weights},
                                   {"moved and moved back", &Joiner::moved},
                                   {"joined and parted", &Joiner::joined},
                                   {"elementwise", &Joiner::elementwise},
                                   {"rows", &Joiner::rows},
                                   {"reduction", &Joiner::reduction},
                                   {"branches", &Joiner::branches}};
    const Kind& kind = kKinds[random_() % std::size(kKinds)];
    drawn_.kind = kind.name;
    (this->*kind.make)();
    // Something on the way is given out or read once more.
    for (int i = 0; i < 2; ++i) {
      if (made_.empty() || from(0, 2) != 0) continue;
      const V v = made_[random_() % made_.size()];
      if (from(0, 1)) give(v);
      else give(op("Neg", {v}, v.shape));
    }
    if (!given_) throw Skip();
    drawn_.graph = b_.finish();
    return std::move(drawn_);
  }

 private:
  int64_t from(int64_t low, int64_t high) { return low + static_cast<int64_t>(random_() % static_cast<uint64_t>(high - low + 1)); }
  bool once_in(int64_t n) { return from(1, n) == 1; }
  template <typename T>
  T one_of(std::initializer_list<T> list) {
    return list.begin()[random_() % list.size()];
  }
  int64_t opset() {
    constexpr int64_t kOpsets[]{7, 8, 9, 11, 12, 13, 13, 15, 17, 18, 19, 21, 21, 23, 24};
    return kOpsets[random_() % std::size(kOpsets)];
  }
  void need(int64_t opset) {
    if (opset_ < opset) throw Skip();
  }
  // Mostly usual sizes, now and then 1, ragged or 0.
  int64_t size() { return once_in(25) ? 0 : once_in(5) ? 1 : one_of<int64_t>({2, 3, 4, 5, 7, 8, 12, 16, 17, 33}); }
  int64_t some() { return once_in(6) ? 1 : from(2, 9); }

  V in(Shape s, float low = -1, float high = 1) {
    drawn_.fed.push_back(random_tensor(s, random_(), low, high));
    const V v{b_.input("x" + std::to_string(drawn_.fed.size()), DType::f32, Dims(s.begin(), s.end())), s};
    return v;
  }
  V constant(const Tensor& t) { return {b_.constant("c" + std::to_string(names_++), t), t.shape()}; }
  V scalar(float v) {
    Tensor t = Tensor::from<float>({}, {v});
    // Exporters write it as a list of one too; a constant of more dims than the other operand changes what comes out.
    if (once_in(5)) t = t.reshaped({1});
    if (once_in(25)) t = t.reshaped({1, 1, 1});
    return constant(t);
  }
  V weight(const Shape& s, float size = 1) { return constant(random_tensor(s, random_(), -size, size)); }
  V ints(const Ints& v) { return constant(Tensor::from<int64_t>({static_cast<int64_t>(v.size())}, v)); }
  // A shape that broadcasts against `s`: dims of 1, dims left out in front, now and then one more in front.
  Shape bent(Shape s) {
    for (int64_t& d : s) {
      if (once_in(3)) d = 1;
    }
    if (once_in(2)) s.erase(s.begin(), s.begin() + from(0, static_cast<int64_t>(s.size())));
    if (once_in(20)) s.insert(s.begin(), 1);
    return s;
  }
  // Mostly the shape that a pattern wants, else a bent one.
  V parameter(const Shape& wanted, const Shape& whole, float size = 1) { return weight(once_in(3) ? bent(whole) : wanted, size); }

  static Shape broadcast(const Shape& a, const Shape& b) {
    Shape out(std::max(a.size(), b.size()), 1);
    for (size_t i = 0; i < out.size(); ++i) {
      const int64_t x = i + a.size() >= out.size() ? a[i + a.size() - out.size()] : 1,
                    y = i + b.size() >= out.size() ? b[i + b.size() - out.size()] : 1;
      if (x != y && x != 1 && y != 1) throw Skip();
      out[i] = x == 1 ? y : x;
    }
    return out;
  }
  V op(const std::string& name, const std::vector<V>& inputs, Shape shape, const Attributes& a = {}) {
    std::vector<ValueId> ids;
    for (const V& v : inputs) ids.push_back(v.id);
    made_.push_back({b_.op(name, ids, a), std::move(shape)});
    return made_.back();
  }
  V two(const std::string& name, V a, V b) {
    if (once_in(2) && (name == "Add" || name == "Mul")) std::swap(a, b);
    return op(name, {a, b}, broadcast(a.shape, b.shape));
  }
  V one(const std::string& name, V a, const Attributes& how = {}) { return op(name, {a}, a.shape, how); }
  V activation(V x) {
    switch (from(0, 7)) {
      case 0: return one("Relu", x);
      case 1: return one("Sigmoid", x);
      case 2: return one("Tanh", x);
      case 3: return opset_ >= 14 ? one("HardSwish", x) : one("Elu", x);
      case 4: return opset_ >= 20 ? one("Gelu", x) : one("Softplus", x);
      case 5: return clip(x, once_in(4) ? -0.5f : 0, once_in(4) ? 0.25f : 6);
      case 6: return one("LeakyRelu", x, {{"alpha", 0.1f}});
      default: return one("Abs", x);
    }
  }
  V clip(V x, float low, float high) {
    if (opset_ < 11) return one("Clip", x, {{"min", low}, {"max", high}});
    const auto bound = [&](float v) {
      return once_in(6) ? V{} : constant(once_in(6) ? Tensor::from<float>({1}, {v}) : Tensor::from<float>({}, {v}));
    };
    return op("Clip", {x, bound(low), bound(high)}, x.shape);
  }
  V reduce(const std::string& name, V x, Ints axes, bool keep = true) {
    Shape s;
    for (size_t i = 0; i < x.shape.size(); ++i) {
      const bool gone = std::ranges::any_of(
          axes, [&](int64_t a) { return (a < 0 ? a + static_cast<int64_t>(x.shape.size()) : a) == static_cast<int64_t>(i); });
      if (!gone) s.push_back(x.shape[i]);
      else if (keep) s.push_back(1);
    }
    drawn_.terms += 64;
    const int64_t kept = keep ? 1 : 0;
    if (opset_ >= (name == "ReduceSum" ? 13 : 18)) return op(name, {x, ints(axes)}, s, {{"keepdims", kept}});
    return op(name, {x}, s, {{"keepdims", kept}, {"axes", axes}});
  }
  V transpose(V x, const Ints& perm) {
    Shape s;
    for (int64_t p : perm) s.push_back(x.shape[p]);
    return op("Transpose", {x}, s, {{"perm", perm}});
  }
  V reshape(V x, const Shape& s) {
    if (std::ranges::any_of(s, [](int64_t d) { return d == 0; })) throw Skip();  // 0 copies a dim
    return op("Reshape", {x, ints(s)}, s);
  }
  void give(V v) {
    b_.output(b_.op("Identity", {v.id}), "y" + std::to_string(names_++));
    given_ = true;
  }

  // ---- patterns ----

  void gelu() {
    const V x = in(shape(), -4, 4);
    V sum;
    if (once_in(2)) {
      need(9);
      const float by = once_in(8) ? 1.5f : 1.41421356f;
      const V u = once_in(2) ? two("Div", x, scalar(by)) : two("Mul", x, scalar(1 / by));
      sum = two("Add", op("Erf", {u}, u.shape), scalar(once_in(12) ? 1.25f : 1));
    } else {
      const V cube = once_in(2) ? two("Pow", x, scalar(3)) : two("Mul", two("Mul", x, x), x);
      const V u = two("Mul", two("Add", x, two("Mul", cube, scalar(once_in(10) ? 0.05f : 0.044715f))), scalar(0.7978845608f));
      sum = two("Add", one("Tanh", u), scalar(1));
    }
    const V other = once_in(10) ? in(x.shape) : x;
    const V half = scalar(once_in(10) ? 0.6f : 0.5f);
    give(once_in(2) ? two("Mul", two("Mul", other, sum), half) : two("Mul", two("Mul", other, half), sum));
  }

  void gated() {
    const V x = in(shape(), -5, 5);
    V y;
    switch (from(0, 2)) {
      case 0: {
        const V gate = clip(two("Add", x, scalar(once_in(8) ? 2.5f : 3)), 0, once_in(8) ? 5.0f : 6.0f);
        y = once_in(2) ? two("Div", two("Mul", x, gate), scalar(6)) : two("Mul", x, two("Div", gate, scalar(6)));
        break;
      }
      case 1: y = two("Mul", x, one("HardSigmoid", x, {{"alpha", once_in(6) ? 0.2f : 1.0f / 6}, {"beta", 0.5f}})); break;
      default: y = two("Mul", once_in(6) ? in(x.shape) : x, one("Tanh", one("Softplus", x)));
    }
    // Read twice: then it is worked out again for each reader.
    if (once_in(2)) return give(two("Add", y, scalar(1)));
    give(two("Sub", two("Mul", y, scalar(0.5f)), one("Neg", y)));
  }

  void normalisation() {
    const V x = in(shape());
    const auto rank = static_cast<int64_t>(x.shape.size());
    if (rank < 1 || volume(x.shape) == 0) throw Skip();
    const int64_t first = once_in(3) ? from(0, rank - 1) : rank - 1;
    Ints axes;
    for (int64_t a = first; a < rank; ++a) axes.push_back(once_in(2) ? a : a - rank);
    if (once_in(8)) axes = {from(0, rank - 1)};
    V c = x;
    if (!once_in(4)) c = two("Sub", x, reduce("ReduceMean", x, once_in(10) ? Ints{0} : axes));
    const V square = once_in(2) ? two("Pow", c, scalar(once_in(12) ? 4 : 2)) : op("Mul", {c, c}, c.shape);
    const V root =
        one("Sqrt", two("Add", reduce("ReduceMean", once_in(10) ? one("Abs", square) : square, axes, !once_in(10)), scalar(0.1f)));
    V y = once_in(2) ? op("Div", {c, root}, broadcast(c.shape, root.shape)) : two("Mul", c, op("Div", {scalar(1), root}, root.shape));
    const Shape along(x.shape.begin() + std::min<int64_t>(first, rank), x.shape.end());
    if (!once_in(6)) y = two("Mul", y, parameter(along, x.shape));
    if (!once_in(3)) y = two("Add", y, parameter(along, x.shape));
    give(y);
  }

  void normalisation_op() {
    const V x = in(shape());
    const auto rank = static_cast<int64_t>(x.shape.size());
    if (rank < 1) throw Skip();
    const int64_t axis = once_in(2) ? rank - 1 : from(0, rank - 1);
    const Shape along(x.shape.begin() + axis, x.shape.end());
    const V before = once_in(2) ? activation(x) : x;
    V y;
    if (once_in(2)) {
      need(17);
      std::vector<V> inputs{before, parameter(along, x.shape)};
      if (once_in(2)) inputs.push_back(parameter(along, x.shape));
      y = op("LayerNormalization", inputs, x.shape, {{"axis", once_in(2) ? axis : axis - rank}, {"epsilon", 0.1f}});
    } else if (once_in(2)) {
      need(23);
      y = op("RMSNormalization", {before, parameter(along, x.shape)}, x.shape, {{"axis", axis}, {"epsilon", 0.1f}});
    } else {
      if (rank < 3) throw Skip();
      const V s = weight({x.shape[1]}), b = weight({x.shape[1]});
      if (once_in(2)) {
        y = op("InstanceNormalization", {before, s, b}, x.shape, {{"epsilon", 0.1f}});
      } else {
        need(21);
        int64_t groups = from(1, std::max<int64_t>(1, x.shape[1]));
        while (x.shape[1] % groups != 0) --groups;
        y = op("GroupNormalization", {before, s, b}, x.shape, {{"num_groups", groups}, {"epsilon", 0.1f}});
      }
    }
    drawn_.terms += 512;
    give(once_in(2) ? two("Add", y, weight(bent(x.shape))) : y);
  }

  void softmax() {
    const V x = in(shape(), -6, 6);
    const auto rank = static_cast<int64_t>(x.shape.size());
    if (rank < 1 || volume(x.shape) == 0) throw Skip();
    const int64_t axis = once_in(2) ? rank - 1 : from(0, rank - 1), other = once_in(8) ? 0 : axis;
    const V e = one("Exp", two("Sub", x, reduce("ReduceMax", x, {axis})));
    const V sum = reduce("ReduceSum", e, {other}, !once_in(10));
    give(op("Div", {e, sum}, broadcast(e.shape, sum.shape)));
  }

  void attention() {
    const int64_t batch = once_in(3) ? 2 : 1, heads = from(1, 4), rows = size(), keys = once_in(2) ? rows : size(), width = from(1, 12),
                  values = once_in(4) ? from(1, 9) : width;
    const bool flat = once_in(2);
    int64_t group = !flat && once_in(3) ? 2 : 1;
    if (heads % group != 0) group = 1;
    const auto heads_of = [&](int64_t length, int64_t w, int64_t count, const Ints& perm) {
      if (!flat) return transpose_if(in({batch, count, length, w}), perm);
      return transpose(reshape(in({batch, length, count * w}), {batch, length, count, w}),
                       perm == Ints{0, 1, 3, 2} ? Ints{0, 2, 3, 1} : Ints{0, 2, 1, 3});
    };
    const auto repeated = [&](V v) {
      if (group == 1) return v;
      need(13);
      const Shape s = v.shape;
      const V apart = op("Unsqueeze", {v, ints({2})}, {s[0], s[1], 1, s[2], s[3]});
      const V said = op("Expand", {apart, ints({s[0], s[1], group, s[2], s[3]})}, {s[0], s[1], group, s[2], s[3]});
      return reshape(said, {s[0], s[1] * group, s[2], s[3]});
    };
    const V q = heads_of(rows, width, heads, {0, 1, 2, 3});
    V k, v;
    if (group > 1) {
      k = transpose(repeated(in({batch, heads / group, keys, width})), {0, 1, 3, 2});
      v = repeated(in({batch, heads / group, keys, values}));
    } else {
      k = heads_of(keys, width, heads, {0, 1, 3, 2});
      v = heads_of(keys, values, heads, {0, 1, 2, 3});
    }
    const bool early = once_in(3);
    V scaled = early ? two(once_in(3) ? "Div" : "Mul", q, scalar(0.3f)) : q;
    if (once_in(4)) k = two(once_in(3) ? "Div" : "Mul", k, scalar(0.8f));
    // Batch and heads in one axis, for the products or throughout.
    const bool joined = once_in(3), throughout = joined && once_in(3);
    const Shape four{batch, heads, rows, keys}, three{batch * heads, rows, keys};
    if (joined) {
      scaled = reshape(scaled, {batch * heads, rows, width});
      k = once_in(2) && !flat ? transpose(reshape(transpose(k, {0, 1, 3, 2}), {batch * heads, keys, width}), {0, 2, 1})
                              : reshape(k, {batch * heads, width, keys});
      v = reshape(v, {batch * heads, keys, values});
    }
    V scores = op("MatMul", {scaled, k}, joined ? three : four);
    if (joined && !throughout) scores = reshape(scores, four);
    if (!early) scores = once_in(2) ? two("Div", scores, scalar(once_in(10) ? -2.0f : 3.0f)) : two("Mul", scores, scalar(0.4f));
    if (once_in(6)) scores = two("Mul", one("Tanh", two("Div", scores, scalar(1.5f))), scalar(once_in(4) ? 1.2f : 1.5f));
    for (int masks = once_in(2) ? once_in(3) ? 2 : 1 : 0; masks > 0; --masks) {
      const Shape ms = bent(throughout ? three : four);
      V mask = once_in(2) ? in(ms, -3, 0) : weight(ms);
      if (once_in(3)) {  // some keys, or all of them, are not seen
        Tensor m = random_tensor(ms, random_(), -1, 1);
        const bool all = once_in(3);
        for (float& f : m.as<float>()) f = all || f < 0 ? -INFINITY : 0;
        mask = constant(m);
      }
      scores = two("Add", scores, mask);
    }
    const int64_t axis = once_in(10) ? 2 : once_in(2) ? 3 : -1;
    if (opset_ < 13 && axis == 2) throw Skip();
    if (throughout && axis == 3) throw Skip();
    if (scores.shape != (throughout ? three : four)) return give(op("Softmax", {scores}, scores.shape, {{"axis", axis}}));
    if (joined && !throughout && once_in(2)) scores = reshape(scores, three);
    const bool of_three = scores.shape == three;
    V soft = op("Softmax", {scores}, scores.shape, {{"axis", of_three ? int64_t{-1} : axis}});
    if (once_in(4)) soft = op("Where", {op("IsNaN", {soft}, soft.shape), scalar(0), soft}, soft.shape);
    if (joined && !of_three) soft = reshape(soft, three);
    V y = op("MatMul", {soft, v}, joined ? Shape{batch * heads, rows, values} : Shape{batch, heads, rows, values});
    if (joined && (flat || once_in(2))) y = reshape(y, {batch, heads, rows, values});
    if (flat && !once_in(6)) y = reshape(transpose(y, {0, 2, 1, 3}), {batch, rows, heads * values});
    drawn_.terms += static_cast<double>(keys + width) * 8;
    give(y);
  }
  V transpose_if(V v, const Ints& perm) { return perm == Ints{0, 1, 2, 3} ? v : transpose(v, perm); }

  void rotary() {
    need(13);
    const int64_t batch = once_in(3) ? 2 : 1, heads = from(1, 3), length = some(), half = from(1, 6), width = 2 * half;
    const V x = in({batch, heads, length, width});
    const int64_t cut = once_in(10) && half > 1 ? half - 1 : half;
    const V low = op("Slice", {x, ints({0}), ints({cut}), ints({once_in(2) ? 3 : -1})}, {batch, heads, length, cut});
    const V high = op("Slice", {x, ints({cut}), ints({1 << 20}), ints({3})}, {batch, heads, length, width - cut});
    const V turned = op("Concat", {one("Neg", high), low}, x.shape, {{"axis", int64_t{once_in(2) ? 3 : -1}}});
    const bool fed = once_in(2);
    ValueId ids = kAbsent;
    const int64_t places = length + from(0, 4);
    if (fed) {
      Tensor t(DType::i64, {batch, length});
      for (int64_t& i : t.as<int64_t>()) i = once_in(5) ? -from(1, places) : from(0, places - 1);
      if (once_in(2)) {
        drawn_.fed.push_back(t);
        ids = b_.input("ids", DType::i64, {batch, length});
      } else {
        ids = b_.constant("ids", t);
      }
    }
    const auto angles = [&]() -> V {
      const int64_t r = fed ? places : length;
      Tensor t = random_tensor({r, width}, random_());
      for (int64_t i = 0; !once_in(10) && i < r; ++i) std::copy_n(&t.as<float>()[i * width], half, &t.as<float>()[i * width] + half);
      if (!fed) return constant(t.reshaped(once_in(2) ? Shape{length, width} : Shape{1, 1, length, width}));
      const V rows = op("Gather", {constant(t), {ids, {batch, length}}}, {batch, length, width});
      return op("Unsqueeze", {rows, ints({1})}, {batch, 1, length, width});
    };
    give(two("Add", two("Mul", x, angles()), two("Mul", turned, angles())));
  }

  void group_normalisation() {
    const int64_t batch = from(1, 2), groups = from(1, 4), per = from(1, 3), channels = groups * per, h = some(), w = some();
    const V x = in({batch, channels, h, w});
    const V split = reshape(x, {batch, groups, -1});
    V y = op("InstanceNormalization",
             {{split.id, {}}, constant(ones(groups, once_in(8) ? 2 : 1)), constant(ones(groups, once_in(8) ? 1 : 0))}, {},
             {{"epsilon", 0.1f}});
    y = reshape(y, {batch, channels, h, w});
    y = two("Mul", y, parameter({channels, 1, 1}, x.shape));
    drawn_.terms += 512;
    give(two("Add", y, parameter({channels, 1, 1}, x.shape)));
  }
  static Tensor ones(int64_t n, float v) {
    Tensor t(DType::f32, {n});
    std::ranges::fill(t.as<float>(), v);
    return t;
  }

  void blocks() {
    const int64_t n = from(1, 2), d = from(1, 3), b = from(1, 3), h = some(), w = some();
    const bool deep = once_in(2);
    const V x = in(deep ? Shape{n, d * b * b, h, w} : Shape{n, d, h * b, w * b});
    if (deep) {
      const bool crd = once_in(2);
      const V six = reshape(x, crd ? Shape{n, d, b, b, h, w} : Shape{n, b, b, d, h, w});
      const Ints perm = once_in(8) ? Ints{0, 1, 4, 3, 5, 2} : crd ? Ints{0, 1, 4, 2, 5, 3} : Ints{0, 3, 4, 1, 5, 2};
      return give(reshape(transpose(six, perm), {n, d, h * b, w * b}));
    }
    const Ints perm = once_in(8) ? Ints{0, 1, 3, 5, 2, 4} : Ints{0, 3, 5, 1, 2, 4};
    give(reshape(transpose(reshape(x, {n, d, h, b, w, b}), perm), {n, d * b * b, h, w}));
  }

  // An LSTM or GRU cell, one or two steps of it.
  void cell() {
    need(13);
    const int64_t batch = some(), hidden = from(1, 6), width = once_in(3) ? hidden : from(1, 7);
    const bool lstm = once_in(2);
    V h = in({batch, hidden}), c = in({once_in(12) ? 1 : batch, hidden});
    const int64_t gates = lstm ? 4 : 3;
    const V wx = weight({width, gates * hidden}), wh = weight({hidden, gates * hidden}),
            bias = weight(once_in(8) ? Shape{1, gates * hidden} : Shape{gates * hidden});
    drawn_.terms += 512;
    for (int64_t step = 0; step < from(1, 2); ++step) {
      const V x = in({batch, width});
      const Shape all{batch, gates * hidden};
      const V px = op("MatMul", {x, wx}, all), ph = op("MatMul", {h, wh}, all);
      const auto part = [&](V v, int64_t i) {
        return op("Slice", {v, ints({i * hidden}), ints({(i + 1) * hidden}), ints({1})}, {batch, hidden});
      };
      if (lstm) {
        const V s = two("Add", two("Add", px, ph), bias);
        const V i = one("Sigmoid", part(s, 0)), f = one("Sigmoid", part(s, once_in(10) ? 0 : 1)), g = one("Tanh", part(s, 2)),
                o = one("Sigmoid", part(s, 3));
        c = two("Add", two("Mul", f, c), two("Mul", i, g));
        h = two("Mul", o, one(once_in(10) ? "Sigmoid" : "Tanh", c));
      } else {
        const V xs = two("Add", px, bias);
        const V z = one("Sigmoid", two("Add", part(xs, 0), part(ph, 0))), r = one("Sigmoid", two("Add", part(xs, 1), part(ph, 1)));
        const V n = one("Tanh", two("Add", part(xs, 2), two("Mul", r, part(ph, 2))));
        const V left = op("Sub", {scalar(once_in(10) ? 1.5f : 1), z}, z.shape);
        h = two("Add", two("Mul", left, n), two("Mul", z, h));
      }
    }
    give(h);
    if (lstm && once_in(2)) give(c);
  }

  void quantised() {
    need(13);
    const bool conv = once_in(2);
    const auto quantise = [&](V x, float scale, int zero, bool is_signed) {
      const V s = constant(once_in(4) ? Tensor::from<float>({1}, {scale}) : Tensor::from<float>({}, {scale}));
      std::vector<V> in{x, s, constant(byte(zero, is_signed, s.shape))};
      const V q = op("QuantizeLinear", in, x.shape);
      return std::tuple{q, in[1], in[2]};
    };
    const auto back = [&](V x, float scale, int zero, bool is_signed) {
      const auto [q, s, z] = quantise(x, scale, zero, is_signed);
      return op("DequantizeLinear", {q, s, z}, x.shape);
    };
    const float x_scale = 0.01f, w_scale = once_in(6) ? 0.5f : 0.008f, y_scale = once_in(4) ? 0.002f : 0.03f;
    const auto weights = [&](const Shape& s, int64_t axis) {
      Tensor t(DType::i8, s);
      for (int8_t& v : t.as<int8_t>()) v = static_cast<int8_t>(from(-100, 100));
      const bool each = once_in(2);
      const int64_t n = each ? s[axis] : 1;
      Tensor scale(DType::f32, each ? Shape{n} : once_in(2) ? Shape{} : Shape{1});
      for (float& f : scale.as<float>()) f = w_scale * static_cast<float>(from(1, 4));
      Tensor zero(DType::i8, scale.shape());
      for (int8_t& z : zero.as<int8_t>()) z = static_cast<int8_t>(once_in(6) ? from(-3, 3) : 0);
      std::vector<V> in{constant(t), constant(scale)};
      if (!once_in(3)) in.push_back(constant(zero));
      return op("DequantizeLinear", in, s, {{"axis", axis}});
    };
    V y;
    double depth = 0;
    if (conv) {
      const int64_t group = once_in(3) ? 2 : 1, c = from(1, 4) * group, f = from(1, 5) * group, k = once_in(2) ? 1 : 3;
      const V x = back(in({from(1, 2), c, from(3, 6), from(3, 6)}), x_scale, static_cast<int>(from(-5, 5)), true);
      std::vector<V> operands{x, weights({f, c / group, k, k}, 0)};
      if (!once_in(3)) operands.push_back(weight({f}));
      y = op("Conv", operands, {x.shape[0], f, x.shape[2] - k + 1, x.shape[3] - k + 1}, {{"group", group}});
      depth = static_cast<double>(c * k * k);
    } else {
      const int64_t m = some(), k = from(1, 9), n = once_in(4) ? m : from(1, 9);
      const V x = back(in(once_in(3) ? Shape{2, m, k} : Shape{m, k}), x_scale, static_cast<int>(from(0, 5)), false);
      Shape out = x.shape;
      out.back() = n;
      if (x.shape.size() == 2 && once_in(2)) {
        const bool turned = once_in(2);
        std::vector<V> operands{x, weights(turned ? Shape{n, k} : Shape{k, n}, turned ? 0 : 1)};
        if (once_in(2)) operands.push_back(weight(once_in(3) ? bent({m, n}) : Shape{n}));
        if (operands.size() > 2 && broadcast(operands[2].shape, {m, n}) != Shape{m, n}) throw Skip();
        y = op("Gemm", operands, out, {{"transB", int64_t{turned}}});
      } else {
        y = op("MatMul", {x, weights({k, n}, once_in(6) ? 0 : 1)}, out);
        if (once_in(2)) y = two("Add", y, parameter({n}, out));
      }
      depth = static_cast<double>(k);
    }
    if (once_in(3)) y = one("Relu", y);
    else if (once_in(3)) y = clip(y, once_in(2) ? 0 : -1, 6);
    const int zero = static_cast<int>(from(0, 20));
    y = back(y, y_scale, zero, once_in(2));
    drawn_.step = y_scale * 1.001;
    drawn_.terms += depth * 32;
    give(once_in(2) ? activation(y) : y);
    only_result_ = true;
  }
  static Tensor byte(int zero, bool is_signed, const Shape& s) {
    Tensor t(is_signed ? DType::i8 : DType::u8, s);
    std::fill_n(static_cast<uint8_t*>(t.data()), t.size(), static_cast<uint8_t>(zero));
    return t;
  }

  // ---- fusions ----

  void convolution() {
    const int64_t n = once_in(15) ? 0 : from(1, 2), group = once_in(3) ? from(2, 4) : 1, c = group * from(1, once_in(3) ? 12 : 3),
                  f = group * from(1, once_in(3) ? 20 : 4), k = one_of<int64_t>({1, 1, 3, 3, 2}), h = from(3, 9), w = from(3, 20),
                  pad = once_in(2) ? k / 2 : 0, stride = once_in(3) ? 2 : 1;
    V x = in({n, c, h, w});
    if (once_in(3)) x = activation(two("Mul", x, parameter({c, 1, 1}, x.shape)));
    const bool turned = once_in(5);
    const int64_t oh = (h + 2 * pad - k) / stride + 1, ow = (w + 2 * pad - k) / stride + 1;
    std::vector<V> operands{x, weight(turned ? Shape{c, f / group, k, k} : Shape{f, c / group, k, k}, 0.4f)};
    if (x.shape != Shape{n, c, h, w}) throw Skip();
    if (once_in(2)) operands.push_back(weight({f}));
    Attributes how{{"group", group}, {"pads", Ints{pad, pad, pad, pad}}, {"strides", Ints{stride, stride}}};
    Shape out{n, f, oh, ow};
    if (turned) out = {n, f, (h - 1) * stride + k - 2 * pad, (w - 1) * stride + k - 2 * pad};
    if (out[2] < 1 || out[3] < 1) throw Skip();
    V y = op(turned ? "ConvTranspose" : "Conv", operands, out, how);
    drawn_.terms += static_cast<double>(c * k * k) * 8;
    tail(y, {f, 1, 1}, f);
  }

  void product() {
    const int64_t m = size(), k = size(), n = size();
    Shape as{m, k};
    if (once_in(3)) as.insert(as.begin(), from(1, 3));
    if (once_in(8)) as.insert(as.begin(), from(1, 2));
    V x = in(as);
    if (once_in(3)) x = activation(two("Add", x, parameter({k}, as)));
    if (x.shape != as) throw Skip();
    V y;
    Shape out = as;
    out.back() = n;
    drawn_.terms += static_cast<double>(k) * 8;
    if (as.size() == 2 && once_in(2)) {
      const bool ta = once_in(4), tb = once_in(2);
      std::vector<V> operands{ta ? transpose(x, {1, 0}) : x, weight(tb ? Shape{n, k} : Shape{k, n})};
      if (once_in(2)) operands.push_back(once_in(3) ? in({m, n}) : weight(once_in(3) ? bent({m, n}) : Shape{n}));
      if (operands.size() > 2 && broadcast(operands[2].shape, {m, n}) != Shape{m, n}) throw Skip();
      y = op("Gemm", operands, out,
             {{"transA", int64_t{ta}}, {"transB", int64_t{tb}}, {"alpha", once_in(3) ? 0.5f : 1}, {"beta", once_in(4) ? 0.5f : 1}});
    } else {
      Shape bs{k, n};
      if (once_in(4)) bs.insert(bs.begin(), once_in(2) || as.size() < 3 ? from(1, 3) : as[as.size() - 3]);
      const V b = once_in(4) ? in(bs) : weight(bs);
      Shape batch = broadcast(Shape(as.begin(), as.end() - 2), Shape(bs.begin(), bs.end() - 2));
      batch.insert(batch.end(), {m, n});
      y = op("MatMul", {x, b}, batch);
    }
    tail(y, {n}, y.shape.size() > 1 ? y.shape[1] : 1);
  }

  // Whatever follows a product: parameters of its columns or of other axes, a normalisation along axis 1, a residual, a clamp.
  void tail(V y, const Shape& by_column, int64_t channels) {
    const Shape whole = y.shape;
    for (int64_t i = from(0, 4); i > 0; --i) {
      switch (from(0, 6)) {
        case 0: y = two("Add", y, parameter(by_column, whole)); break;
        case 1: y = two("Mul", y, parameter(by_column, whole)); break;
        case 2: {
          if (whole.size() < 2) break;
          Tensor v = random_tensor({channels}, random_(), 0.5f, 2);
          y = op("BatchNormalization", {y, weight({channels}), weight({channels}), weight({channels}), constant(v)}, whole);
          break;
        }
        case 3: y = two("Add", y, in(once_in(4) ? bent(whole) : whole)); break;
        case 4: y = op("Div", {y, constant(random_tensor(once_in(2) ? by_column : bent(whole), random_(), 1, 2))}, whole); break;
        default: y = activation(y);
      }
      if (y.shape != whole) return give(y);
    }
    give(y);
  }

  void shared_weights() {
    // Filters that several groups divide.
    switch (from(0, 5)) {
      case 0: {
        const V w = weight({12, 2, 3, 3}, 0.3f);
        for (int64_t group : {1, 2, 3}) {
          if (once_in(4)) continue;
          const V y = op("Conv", {in({1, 2 * group, 5, 6}), w}, {1, 12, 3, 4}, {{"group", group}});
          give(once_in(2) ? activation(y) : y);
        }
        break;
      }
      case 1: {
        const V w = weight({12, 2, 2, 2}, 0.3f);
        for (int64_t group : {1, 2, 4})
          give(op("ConvTranspose", {in({1, 12, 3, 4}), w}, {1, 2 * group, 6, 8}, {{"group", group}, {"strides", Ints{2, 2}}}));
        break;
      }
      case 2: {
        need(10);
        Tensor t(DType::i8, {12, 2, 2, 2});
        for (int8_t& v : t.as<int8_t>()) v = static_cast<int8_t>(from(-100, 100));
        const V w = constant(t);
        for (int64_t group : {1, 2, 3}) {
          Tensor x(DType::u8, {1, 2 * group, 4, 5});
          for (uint8_t& v : x.as<uint8_t>()) v = static_cast<uint8_t>(from(0, 255));
          drawn_.fed.push_back(x);
          const V v{b_.input("x" + std::to_string(drawn_.fed.size()), DType::u8, Dims(x.shape().begin(), x.shape().end())), x.shape()};
          std::vector<V> operands{v, w, constant(byte(static_cast<int>(from(0, 3)), false, {}))};
          if (once_in(2)) operands.push_back(constant(byte(static_cast<int>(from(0, 3)), true, {})));
          b_.output(b_.op("ConvInteger", {operands[0].id, operands[1].id, operands[2].id, operands.size() > 3 ? operands[3].id : kAbsent},
                          {{"group", group}}),
                    "y" + std::to_string(names_++));
          given_ = true;
        }
        made_.clear();
        break;
      }
      case 3: {
        const V w = weight({6, 6});
        for (int i = 0; i < 3; ++i)
          give(op("Gemm", {in({4, 6}), w}, {4, 6}, {{"transB", int64_t{once_in(2)}}, {"alpha", once_in(2) ? 0.5f : 1}}));
        give(op("MatMul", {in({2, 3, 6}), w}, {2, 3, 6}));
        drawn_.terms += 64;
        break;
      }
      case 4: {
        // The same numbers as weights, as a bias, and read as they are.
        const V w = weight({8, 8}), v = weight({8});
        give(two("Add", op("MatMul", {in({3, 8}), w}, {3, 8}), v));
        give(two("Mul", in({8, 8}), w));
        give(op("Gemm", {in({3, 8}), w, v}, {3, 8}, {{"transB", int64_t{1}}}));
        break;
      }
      default: {
        need(14);
        const int64_t h = from(1, 4);
        const V w = weight({1, 4 * h, h}), r = once_in(2) ? w : weight({1, 4 * h, h});
        for (int i = 0; i < 2; ++i) {
          const V x = in({2, 3, h});
          give(op("LSTM", {x, w, r}, {2, 1, 3, h}, {{"hidden_size", h}, {"direction", std::string(once_in(2) ? "forward" : "reverse")}}));
        }
        drawn_.terms += 256;
      }
    }
    drawn_.terms += 256;
  }

  void moved() {
    const V x = in(shape());
    const auto rank = static_cast<int64_t>(x.shape.size());
    V y = x;
    for (int64_t i = from(2, 5); i > 0; --i) {
      Ints perm(static_cast<size_t>(y.shape.size()));
      for (size_t p = 0; p < perm.size(); ++p) perm[p] = static_cast<int64_t>(p);
      std::shuffle(perm.begin(), perm.end(), random_);
      switch (from(0, 5)) {
        case 0:
        case 1:
          if (rank > 1) y = transpose(y, perm);
          break;
        case 2: y = activation(y); break;
        case 3: y = two("Mul", y, scalar(1)); break;
        case 4: {
          if (volume(y.shape) == 0) break;
          y = reshape(y, {-1});
          y.shape = {volume(x.shape)};
          if (once_in(2)) y = reshape(y, x.shape.empty() ? Shape{1} : x.shape);
          break;
        }
        default: y = two("Sub", y, scalar(0));
      }
    }
    give(y);
  }

  void joined() {
    need(13);
    const int64_t a = some(), b = some();
    V x = in({a, b, 4}), y = in({a, b, 4});
    const int64_t axis = from(0, 2);
    Shape s = x.shape;
    s[axis] *= 2;
    V z = op("Concat",
             {once_in(2) ? activation(x) : x, once_in(3)   ? x
                                              : once_in(2) ? activation(y)
                                                           : y},
             s, {{"axis", once_in(2) ? axis : axis - 3}});
    if (once_in(2)) z = activation(z);
    const int64_t from_at = from(0, s[axis] - 1), to_at = once_in(12) ? from_at : from(from_at, s[axis]);
    Shape part = s;
    part[axis] = to_at - from_at;
    V p = op("Slice", {z, ints({once_in(2) ? from_at : from_at - s[axis]}), ints({to_at}), ints({axis})}, part);
    if (once_in(2)) p = activation(p);
    give(p);
    if (once_in(2)) {
      const V w = weight({4, 5});
      if (axis != 2) give(op("MatMul", {z, w}, {s[0], s[1], 5}));
    }
    if (once_in(2)) give(z);
  }

  void elementwise() {
    const V x = in(shape());
    V y = x;
    for (int64_t i = from(1, 6); i > 0; --i) {
      const V other = once_in(3) ? in(bent(y.shape)) : weight(bent(y.shape));
      switch (from(0, 9)) {
        case 0: y = two("Add", y, other); break;
        case 1: y = op("Sub", {y, other}, broadcast(y.shape, other.shape)); break;
        case 2: y = two("Mul", y, other); break;
        case 3:
          if (opset_ < 8) break;
          y = op(one_of<std::string>({"Max", "Min", "Sum", "Mean"}), {y, other}, broadcast(y.shape, other.shape));
          break;
        case 4: {
          need(9);
          const V c = op("Greater", {y, other}, broadcast(y.shape, other.shape));
          made_.pop_back();
          y = op("Where", {c, y, once_in(2) ? other : y}, broadcast(c.shape, y.shape));
          if (once_in(2)) return give(one("Abs", y));
          break;
        }
        case 5: {
          const Shape slope = once_in(3) ? bent(y.shape) : Shape{1};
          if (broadcast(slope, y.shape) != y.shape || slope.size() > y.shape.size()) break;
          y = op("PRelu", {y, weight(slope)}, y.shape);
          break;
        }
        case 6: y = clip(y, -0.5f, 0.5f); break;
        default: y = activation(y);
      }
    }
    // Comparisons fall the other way by a rounding: continuous ends only.
    give(y);
    drawn_.terms += 512;
  }

  void rows() {
    const V x = in(shape(), -3, 3);
    if (x.shape.empty()) throw Skip();
    const V before = once_in(2) ? activation(two("Add", x, weight(bent(x.shape)))) : x;
    if (before.shape.empty()) throw Skip();
    const auto rank = static_cast<int64_t>(before.shape.size());
    const int64_t axis = once_in(3) ? from(0, rank - 1) : rank - 1;
    if (volume(before.shape) == 0 && opset_ < 13) throw Skip();
    V y = once_in(2) ? op(once_in(2) ? "Softmax" : "LogSoftmax", {before}, before.shape, {{"axis", once_in(2) ? axis : axis - rank}})
                     : reduce(one_of<std::string>({"ReduceSum", "ReduceMean", "ReduceL2", "ReduceSumSquare"}), before, {axis});
    if (once_in(2)) y = two("Mul", y, weight(bent(y.shape)));
    if (once_in(2)) y = two("Add", y, before);
    drawn_.terms += 256;
    give(y);
    if (once_in(3)) give(before);
  }

  void reduction() {
    // Now and then numbers whose sum leaves the range though the result does not.
    const bool huge = once_in(4);
    const V x = in(shape(), huge ? 1e38f : -1, huge ? 3e38f : 1);
    const auto rank = static_cast<int64_t>(x.shape.size());
    if (volume(x.shape) == 0) throw Skip();
    Ints axes;
    for (int64_t a = 0; a < rank; ++a) {
      if (once_in(2)) axes.push_back(once_in(2) ? a : a - rank);
    }
    if (axes.empty() && rank > 0) axes.push_back(rank - 1);
    if (rank == 0) throw Skip();
    if (huge) {
      V y = once_in(3) && rank >= 3 ? op("GlobalAveragePool", {x}, {x.shape[0], x.shape[1]}) : reduce("ReduceMean", x, axes, once_in(2));
      if (rank == 4 && once_in(2) && x.shape[2] > 1 && x.shape[3] > 1)
        y = op("AveragePool", {x}, {x.shape[0], x.shape[1], x.shape[2] - 1, x.shape[3] - 1}, {{"kernel_shape", Ints{2, 2}}});
      b_.output(b_.op("Identity", {y.id}), "y");
      given_ = true;
      made_.clear();
      if (opset_ >= 8) b_.output(b_.op("Mean", {x.id, x.id, x.id}), "mean");
      return;
    }
    drawn_.terms += static_cast<double>(volume(x.shape)) * 4;
    if (opset_ >= 18 && once_in(4)) {  // no axes at all: the op's function alone, or everything
      const bool nothing = once_in(2);
      const std::string name =
          one_of<std::string>({"ReduceSumSquare", "ReduceL1", "ReduceL2", "ReduceMean", "ReduceSum", "ReduceMax", "ReduceLogSumExp"});
      return give(op(name, {x}, {}, {{"noop_with_empty_axes", int64_t{nothing}}, {"keepdims", int64_t{once_in(2)}}}));
    }
    give(reduce(one_of<std::string>({"ReduceSum", "ReduceMean", "ReduceMax", "ReduceMin", "ReduceL1", "ReduceL2", "ReduceSumSquare"}), x,
                axes, once_in(2)));
  }

  void branches() {
    need(13);
    const V x = in(shape());
    // Ifs whose condition is a constant, one or two deep; the branch not taken could not be run on this shape.
    const std::function<std::shared_ptr<Graph>(bool, int)> body = [&](bool taken, int depth) {
      Builder inner("branch", opset_);
      const ValueId outer = inner.outer("x1");
      ValueId y;
      if (taken && depth > 0) {
        const ValueId yes = inner.constant("yes" + std::to_string(depth), Tensor::from<bool>({}, {true}));
        y = inner.op("If", {yes}, {{"then_branch", body(true, depth - 1)}, {"else_branch", body(false, 0)}});
      } else if (taken) {
        y = inner.op("Tanh", {outer});
      } else {
        const ValueId axes = inner.constant("axes", Tensor::from<int64_t>({1}, {0}));
        y = inner.op("Squeeze", {outer, axes});
      }
      inner.output(y, "branch_" + std::to_string(names_++));
      return inner.finish_body();
    };
    if (x.shape.empty() || x.shape[0] == 1) throw Skip();
    const bool condition = once_in(2);
    ValueId c;
    if (once_in(2)) {
      c = b_.constant("condition", Tensor::from<bool>({}, {condition}));
    } else {  // decided by the shape
      const V rank = op("Size", {op("Shape", {x}, {static_cast<int64_t>(x.shape.size())})}, {});
      made_.clear();
      c = b_.op("Equal",
                {rank.id, b_.constant("rank", Tensor::from<int64_t>({}, {static_cast<int64_t>(x.shape.size()) + (condition ? 0 : 1)}))});
    }
    const V y{b_.op("If", {c}, {{"then_branch", body(condition, static_cast<int>(from(0, 1)))}, {"else_branch", body(!condition, 0)}}),
              x.shape};
    give(activation(y));
  }

  Shape shape() {
    Shape s;
    for (int64_t i = once_in(12) ? from(0, 1) : from(2, 4); i > 0; --i) s.push_back(s.size() < 2 ? some() : size());
    if (once_in(20) && !s.empty()) s[random_() % s.size()] = 0;
    return s;
  }
  static int64_t volume(const Shape& s) {
    int64_t n = 1;
    for (int64_t d : s) n *= d;
    return n;
  }

  std::mt19937_64 random_;
  int64_t opset_;
  Builder b_;
  DrawnGraph drawn_;
  std::vector<V> made_;
  int names_ = 0;
  bool given_ = false, only_result_ = false;
};

struct Result {
  std::string error;
  std::vector<Tensor> outputs;
};

Result run(const DrawnGraph& d, const CompileOptions& options) {
  Result r;
  r.error = error_of([&] {
    Lane lane(compile(d.graph, options));
    const Outputs out = lane.run(std::span<const Tensor>(d.fed));
    for (size_t i = 0; i < out.size(); ++i) r.outputs.push_back(out[i]);
  });
  return r;
}

// The same between pages that may not be touched: inputs, constants, and results that have memory of the caller's.
Result run_fenced(const DrawnGraph& d, const CompileOptions& options, const Result& expected, bool at_end) {
  Result r;
  std::deque<Fenced> memory;
  Graph g = d.graph;
  std::vector<Tensor> fed = d.fed;
  fence(g, fed, at_end, memory);
  r.error = error_of([&] {
    Lane lane(compile(g, options));
    for (size_t i = 0; i < expected.outputs.size(); ++i)
      lane.bind_output(g.values[g.outputs[i]].name, memory.emplace_back(expected.outputs[i], at_end).tensor);
    const Outputs out = lane.run(std::span<const Tensor>(fed));
    for (size_t i = 0; i < out.size(); ++i) r.outputs.push_back(out[i].clone());
  });
  return r;
}

double largest(const Tensor& t) {
  double most = 0;
  for (double v : widen<double>(t)) {
    if (std::isfinite(v)) most = std::max(most, std::fabs(v));
  }
  return most;
}

// Empty when they agree.
std::string difference(const DrawnGraph& d, const Result& got, const Result& expected) {
  if (got.error.empty() != expected.error.empty()) return "one refuses: '" + got.error + "' against '" + expected.error + "'";
  for (size_t i = 0; i < expected.outputs.size(); ++i) {
    const Tensor &a = got.outputs[i], &b = expected.outputs[i];
    std::optional<Tolerance> tolerance;
    if (d.step > 0 && !is_float(b.dtype())) tolerance = Tolerance{1, 0, 0};  // numbers of that step
    if (is_float(b.dtype())) tolerance = Tolerance{d.step + d.rounding * d.terms * std::max(0.25, largest(b)), 0, 0};
    const Comparison c = compare("output " + std::to_string(i), a, b, tolerance);
    if (!c.pass) return c.name + ": " + c.reason;
  }
  return "";
}

int64_t setting(const char* name, int64_t otherwise) {
  const char* text = std::getenv(name);
  return text ? std::atoll(text) : otherwise;
}

}  // namespace

TEST_CASE("random graphs around every joint: compiled and plain agree") {
  const int64_t first = setting("LATHE_SEED", 1), count = setting("LATHE_JOINTS", 2000), seconds = setting("LATHE_SECONDS", 0);
  const auto until = std::chrono::steady_clock::now() + std::chrono::seconds(seconds);
  const auto isas = machine_info().isas;
  std::map<std::string, std::pair<int, int>> kinds;  // drawn, refused
  int64_t done = 0, found = 0;
  for (int64_t seed = first; (seconds > 0 ? std::chrono::steady_clock::now() < until : done < count) && found < 20; ++seed) {
    DrawnGraph d;
    try {
      d = Joiner(static_cast<uint64_t>(seed)).draw();
    } catch (const Skip&) {
      continue;
    } catch (const Error&) {
      continue;  // not a legal model: what refuses it is the business of other tests
    }
    ++done;
    Result plain;
    plain.error = error_of([&] { plain.outputs = evaluate_plain(d.graph, d.fed); });
    auto& kind = kinds[d.kind];
    ++kind.first;
    kind.second += !plain.error.empty();
    const auto n = static_cast<size_t>(seed);
    CompileOptions fused{.threads = 1 + static_cast<int>(n % 3)}, unfused{.threads = 1, .fuse = false};
    fused.isa = isas[n % isas.size()];
    for (const auto* options : {&fused, &unfused}) {
      const std::string what = difference(d, run(d, *options), plain);
      INFO("seed ", seed, ", ", d.kind, options->fuse ? std::string(", fused, ") + fused.isa : std::string(", unfused"), ": ", what);
      CHECK(what.empty());
      found += !what.empty();
    }
    if (seed % 3 == 0) {
      fused.isa = isas[n / 3 % isas.size()];
      INFO("seed ", seed, ", ", d.kind, ", between pages that may not be touched, ", fused.isa);
      const std::string what = difference(d, run_fenced(d, fused, plain, n % 2 == 0), plain);
      INFO(what);
      CHECK(what.empty());
      found += !what.empty();
    }
  }
  std::string text;
  for (const auto& [name, counts] : kinds) {
    text += fmt::format("\n  {:<32} {:6} drawn, {} refused", name, counts.first, counts.second);
    if (count >= 2000 && seconds == 0) CHECK(counts.first - counts.second > count / 100);
  }
  MESSAGE(done, " graphs", text);
}

namespace {

// Plain evaluation, of some as they come back from their file.
Result plainly(const Graph& graph, const std::vector<Tensor>& fed, const fs::path* file) {
  Result r;
  r.error = error_of([&] {
    if (file) save(graph, *file);
    r.outputs = evaluate_plain(file ? load(*file) : graph, fed);
  });
  return r;
}

std::vector<ValueId> inner_values(const Graph& g) {
  std::vector<ValueId> out;
  for (const Node& n : g.nodes) {
    for (ValueId v : n.outputs) {
      const bool usable = v != kAbsent && !g.values[v].name.empty() && !g.values[v].composite && g.values[v].dtype == DType::f32;
      if (usable && std::ranges::find(g.outputs, v) == g.outputs.end()) out.push_back(v);
    }
  }
  return out;
}

}  // namespace

TEST_CASE("random graphs turned: cut, bound, renamed, frozen, under a newer opset, with preprocessing inside, they give what they gave") {
  const int64_t first = setting("LATHE_SEED", 1), count = setting("LATHE_JOINTS", 2000) / 2, seconds = setting("LATHE_SECONDS", 0);
  const auto until = std::chrono::steady_clock::now() + std::chrono::seconds(seconds);
  Folder folder;
  const fs::path file = folder.path / "turned.onnx";
  std::map<std::string, std::pair<int, int>> turns;  // taken, refused
  int64_t done = 0, found = 0;
  for (int64_t seed = first; (seconds > 0 ? std::chrono::steady_clock::now() < until : done < count) && found < 20; ++seed) {
    DrawnGraph d;
    Result expected;
    try {
      d = Joiner(static_cast<uint64_t>(seed)).draw();
      expected.outputs = evaluate_plain(d.graph, d.fed);
    } catch (const Skip&) {
      continue;
    } catch (const Error&) {
      continue;
    }
    ++done;
    std::mt19937_64 random(static_cast<uint64_t>(seed));
    const auto check = [&](const std::string& turn, auto&& change) {
      Graph g = d.graph;
      std::vector<Tensor> fed = d.fed;
      Result wanted = expected;
      auto& [taken, refused] = turns[turn];
      ++taken;
      Category category = Category::internal;
      const std::string error = error_of([&] { change(g, fed, wanted); }, &category);
      if (!error.empty()) {  // what cannot be turned is said, and nothing has changed
        ++refused;
        INFO("seed ", seed, ", ", turn, ": ", error);
        CHECK(category != Category::internal);
        return;
      }
      const std::string what = difference(d, plainly(g, fed, random() % 8 == 0 ? &file : nullptr), wanted);
      INFO("seed ", seed, ", ", d.kind, ", ", turn, ": ", what);
      CHECK(what.empty());
      found += !what.empty();
    };
    const int64_t opset = d.graph.opset("");
    if (opset < 24) {
      check("newer opset", [&](Graph& g, auto&, auto&) {
        convert_opset(g, opset + 1 + static_cast<int64_t>(random() % static_cast<uint64_t>(24 - opset)));
      });
    }
    if (const auto inner = inner_values(d.graph); !inner.empty()) {
      const std::string name = d.graph.values[inner[random() % inner.size()]].name;
      const auto values = [&] {  // of the value in the whole model
        Graph whole = d.graph;
        whole.outputs.push_back(whole.find_value(name));
        return evaluate_plain(whole, d.fed).back();
      };
      check("cut at an output", [&](Graph& g, std::vector<Tensor>& fed, Result& wanted) {
        cut(g, {}, {name});
        wanted.outputs = {values()};
        std::vector<Tensor> needed;
        for (ValueId v : g.inputs) {
          for (size_t i = 0; i < fed.size(); ++i) {
            if (d.graph.values[d.graph.inputs[i]].name == g.values[v].name) needed.push_back(fed[i]);
          }
        }
        fed = needed;
      });
      check("cut at an input", [&](Graph& g, std::vector<Tensor>& fed, Result&) {
        std::vector<std::string> starts{name};
        for (ValueId v : g.inputs) starts.push_back(g.values[v].name);
        cut(g, starts, {});
        std::vector<Tensor> needed;
        for (ValueId v : g.inputs) {
          if (g.values[v].name == name) needed.push_back(values());
          for (size_t i = 0; i < fed.size(); ++i) {
            if (d.graph.values[d.graph.inputs[i]].name == g.values[v].name) needed.push_back(fed[i]);
          }
        }
        fed = needed;
      });
      check("renamed", [&](Graph& g, auto&, auto&) { rename_values(g, {{name, "another name"}, {g.values[g.inputs[0]].name, name}}); });
    }
    const Value& input = d.graph.values[d.graph.inputs[0]];
    if (const auto shape = known_shape(input.dims); shape && !shape->empty()) {
      check("opened and bound", [&](Graph& g, auto&, auto&) {
        Dims open(shape->begin(), shape->end());
        const size_t at = random() % open.size();
        open[at] = "bound here";
        set_input_dims(g, input.name, open);
        bind_dims(g, {{"bound here", (*shape)[at]}});
      });
    }
    check("frozen", [&](Graph& g, std::vector<Tensor>& fed, Result&) {
      freeze_input(g, input.name, fed[0]);
      fed.erase(fed.begin());
    });
    if (input.dims && input.dims->size() == 4 && d.fed[0].dtype() == DType::f32) {
      check("preprocessing inside", [&](Graph& g, std::vector<Tensor>& fed, Result& wanted) {
        const float mean = 0.25f, scale = 0.5f;
        Tensor seen = fed[0].clone();
        for (float& v : seen.as<float>()) v = (v - mean) * scale;
        embed_preprocessing(g, input.name, {.mean = {mean}, .scale = {scale}});
        std::vector<Tensor> outside = fed;
        outside[0] = seen;
        wanted.outputs = evaluate_plain(d.graph, outside);
      });
    }
  }
  std::string text;
  for (const auto& [name, counts] : turns) {
    text += fmt::format("\n  {:<32} {:6} turned, {} refused", name, counts.first, counts.second);
    if (count >= 1000 && seconds == 0) CHECK(counts.first - counts.second > count / 50);
  }
  MESSAGE(done, " graphs", text);
}
