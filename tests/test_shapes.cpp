// Thousands of random shapes for every family of kernels, under every instruction set, against plain evaluation: ragged edges, sizes of
// zero and one, strides, padding wider than the window, NaN and infinity. Prints nothing unless it fails; a failing case names its seed.
#include <cmath>
#include <limits>

#include "support.hpp"

using namespace test;

namespace {

using Attributes = std::map<std::string, Attribute::Data>;
using Ints = std::vector<int64_t>;

// Cases of a family; fewer where every access is checked (LATHE_SHAPES in the environment).
int trials(int usual) {
  const char* asked = std::getenv("LATHE_SHAPES");
  return asked ? std::min(usual, std::atoi(asked)) : usual;
}

class Dice {
 public:
  explicit Dice(uint64_t seed) : random_(seed) {}
  // In [low, high].
  int64_t from(int64_t low, int64_t high) { return low + static_cast<int64_t>(random_() % static_cast<uint64_t>(high - low + 1)); }
  bool one_in(int64_t n) { return from(1, n) == 1; }
  template <typename T>
  T pick(std::initializer_list<T> of) {
    return of.begin()[from(0, static_cast<int64_t>(of.size()) - 1)];
  }
  // A size: mostly small, now and then one, rarely zero or past a register tile.
  int64_t size(int64_t most) { return one_in(40) ? 0 : one_in(6) ? 1 : from(1, most); }
  uint64_t seed() { return random_(); }

 private:
  std::mt19937_64 random_;
};

// One graph with what is fed to it. `terms`: how many products are summed for one element; the tolerance follows from it.
struct Trial {
  Builder b{"shapes", 21};
  std::vector<Tensor> fed;
  int64_t terms = 1;
  std::string pin;  // a recipe's knob or family, where a step has it

  ValueId feed(const Tensor& t) {
    fed.push_back(t);
    return b.input("x" + std::to_string(fed.size()), t.dtype(), Dims(t.shape().begin(), t.shape().end()));
  }
  // An input or, as often, a constant.
  ValueId give(Dice& dice, const Tensor& t) { return dice.one_in(2) ? feed(t) : b.constant("c" + std::to_string(dice.seed()), t); }
  void out(const std::string& op, const std::vector<ValueId>& in, const Attributes& attributes = {}) {
    b.output(b.op(op, in, attributes), "y");
  }
};

Tensor floats(Dice& dice, const Shape& shape, bool special = false) {
  Tensor t = random_tensor(shape, dice.seed());
  auto v = t.as<float>();
  if (special && !v.empty() && dice.one_in(4)) {
    const float inf = std::numeric_limits<float>::infinity();
    v[static_cast<size_t>(dice.from(0, t.size() - 1))] = dice.pick({std::numeric_limits<float>::quiet_NaN(), inf, -inf});
  }
  return t;
}

template <typename T>
Tensor bytes(Dice& dice, const Shape& shape) {
  Tensor t(std::is_signed_v<T> ? DType::i8 : DType::u8, shape);
  for (T& v : t.as<T>()) v = static_cast<T>(dice.from(0, 255));
  return t;
}
Tensor any_bytes(Dice& dice, const Shape& shape) { return dice.one_in(2) ? bytes<int8_t>(dice, shape) : bytes<uint8_t>(dice, shape); }

// 1 to 3 threads by turns, everything fenced; the same bits from a second run, into memory of the caller's. One in five is done in two
// steps where the estimates make one of it.
template <typename Family>
void over(int count, uint64_t seed, Family family) {
  for (int i = 0; i < trials(count); ++i) {
    Dice dice(seed * 1000003 + static_cast<uint64_t>(i));
    Trial t;
    if (!family(t, dice)) continue;
    CAPTURE(seed);
    CAPTURE(i);
    const Graph g = t.b.finish();
    const auto expected = evaluate_plain(g, t.fed);
    const Tolerance tolerance{1.2e-7 * static_cast<double>(t.terms + 32), 2e-5, 0};
    std::deque<Fenced> memory;
    Graph fenced = g;
    std::vector<Tensor> fed = t.fed;
    fence(fenced, fed, i % 2 == 0, memory);
    const auto recipes = std::make_shared<Recipes>();
    recipes->pin(read_pin(t.pin.empty() ? "family=cut" : t.pin));
    for (const std::string& isa : machine_info().isas) {
      CAPTURE(isa);
      CompileOptions options{.threads = 1 + i % 3, .isa = isa};
      if (!t.pin.empty() || i % 5 == 0) options.recipes = recipes;
      Lane lane(compile(fenced, options));
      const Outputs got = lane.run(std::span<const Tensor>(fed));
      REQUIRE(got.size() == expected.size());
      for (size_t o = 0; o < expected.size(); ++o) {
        const Comparison c =
            compare(got.name(o), got[o], expected[o], is_float(expected[o].dtype()) ? std::optional(tolerance) : std::nullopt);
        INFO(g.nodes[0].op, " ", to_string(t.fed[0].shape()), ": ", c.reason, ", got ", c.got, ", expected ", c.expected);
        CHECK(c.pass);
      }
      const Tensor first = got[0].clone();
      lane.bind_output(got.name(0), memory.emplace_back(first, i % 2 == 0).tensor);
      CHECK(identical(first, lane.run(std::span<const Tensor>(fed))[0]));
    }
  }
}

// Spatial sizes, window, strides, dilations and pads that fit; pads up to two more than the window has taps.
struct Window {
  Ints in, kernel, strides, dilations, pads;
  bool fits = true;
  Window(Dice& dice, int axes, int64_t most, bool wide_pads) : pads(2 * axes) {
    for (int a = 0; a < axes; ++a) {
      in.push_back(dice.from(1, most));
      kernel.push_back(dice.from(1, 5));
      strides.push_back(dice.one_in(2) ? 1 : dice.from(1, 3));
      dilations.push_back(dice.one_in(3) ? 2 : 1);
      const int64_t reach = (kernel[a] - 1) * dilations[a] + 1, widest = wide_pads ? reach + 1 : kernel[a] - 1;
      pads[a] = dice.from(0, widest);
      pads[axes + a] = dice.one_in(2) ? pads[a] : dice.from(0, widest);
      fits = fits && in[a] + pads[a] + pads[axes + a] >= reach;
    }
  }
  Attributes attributes() const { return {{"kernel_shape", kernel}, {"strides", strides}, {"dilations", dilations}, {"pads", pads}}; }
  int64_t taps() const { return element_count(Shape(kernel.begin(), kernel.end())); }
  Shape shape(std::initializer_list<int64_t> front, const Ints& sizes) const {
    Shape s(front);
    s.insert(s.end(), sizes.begin(), sizes.end());
    return s;
  }
};

}  // namespace

TEST_CASE("products over random shapes") {
  over(1000, 1, [](Trial& t, Dice& dice) {
    const int64_t m = dice.size(70), n = dice.size(150), k = dice.one_in(20) ? dice.from(500, 1100) : dice.size(90);
    t.terms = k;
    if (dice.one_in(3)) {
      const bool turn_a = dice.one_in(2), turn_b = dice.one_in(2), biased = dice.one_in(2);
      const ValueId a = t.feed(floats(dice, turn_a ? Shape{k, m} : Shape{m, k}, true));
      const ValueId b = t.give(dice, floats(dice, turn_b ? Shape{n, k} : Shape{k, n}));
      std::vector<ValueId> in{a, b};
      if (biased) in.push_back(t.give(dice, floats(dice, dice.pick({Shape{n}, Shape{m, n}, Shape{1, n}, Shape{m, 1}, Shape{}}))));
      t.out("Gemm", in,
            {{"transA", int64_t{turn_a}},
             {"transB", int64_t{turn_b}},
             {"alpha", dice.pick({1.0f, 0.5f})},
             {"beta", dice.pick({1.0f, 2.0f})}});
      return true;
    }
    const Shape batch = dice.pick({Shape{}, Shape{3}, Shape{2, 3}, Shape{1, 4}});
    Shape as = batch, bs = dice.one_in(2) ? batch : dice.one_in(2) ? Shape{} : Shape(batch.size(), 1);
    as.insert(as.end(), {m, k});
    bs.insert(bs.end(), {k, n});
    const ValueId a = t.feed(floats(dice, as, true));
    t.out("MatMul", {a, t.give(dice, floats(dice, bs))});
    return true;
  });
}

TEST_CASE("convolutions over random shapes") {
  over(1500, 2, [](Trial& t, Dice& dice) {
    const int axes = static_cast<int>(dice.pick({1, 2, 2, 2, 3}));
    const Window w(dice, axes, axes == 3 ? 7 : 17, true);
    if (!w.fits) return false;
    const bool depthwise = dice.one_in(3), small = !depthwise && dice.one_in(4);
    const int64_t groups = depthwise ? dice.from(2, 70) : small ? dice.from(2, 20) : dice.one_in(3) ? dice.from(2, 4) : 1;
    const int64_t channels = depthwise ? 1
                             : small   ? dice.pick({2, 4, 8, 16})
                                       : dice.from(1, 20),
                  filters = small                         ? channels
                            : depthwise && dice.one_in(4) ? 2
                            : depthwise                   ? 1
                                                          : dice.from(1, 70);
    t.terms = channels * w.taps();
    Attributes attributes = w.attributes();
    attributes["group"] = groups;
    std::vector<ValueId> in{t.feed(floats(dice, w.shape({dice.size(3), channels * groups}, w.in), true)),
                            t.give(dice, floats(dice, w.shape({filters * groups, channels}, w.kernel)))};
    if (dice.one_in(2)) in.push_back(t.give(dice, floats(dice, {filters * groups})));
    const ValueId y = t.b.op("Conv", in, attributes);
    t.b.output(dice.one_in(2) ? y : t.b.op("Relu", {y}), "y");
    return true;
  });
}

TEST_CASE("products and convolutions by weights of 16, 8 and 4 bits over random shapes") {
  over(600, 61, [](Trial& t, Dice& dice) {
    const auto widened = [&](const Tensor& w, int64_t k_axis) {
      if (w.rank() > 2 || dice.one_in(2)) {
        Tensor half(dice.pick({DType::f16, DType::bf16}), w.shape());
        for (int64_t i = 0; i < w.size(); ++i)
          static_cast<uint16_t*>(half.data())[i] =
              static_cast<uint16_t>(encode_narrow(half.dtype(), static_cast<double>(w.as<float>()[static_cast<size_t>(i)])));
        return t.b.op("Cast", {t.b.constant("w", half)}, {{"to", int64_t{1}}});
      }
      const DType type = dice.pick({DType::i8, DType::u8, DType::i4, DType::u4});
      const auto numbers = [&](const Shape& shape) {
        Tensor q(type, shape);
        auto* data = static_cast<uint8_t*>(q.data());
        for (size_t i = 0; i < q.byte_size(); ++i) data[i] = static_cast<uint8_t>(dice.from(0, 255));
        // What lies behind the last of an odd count of half bytes is zero.
        if (bit_width(type) == 4 && q.size() % 2 != 0) data[q.byte_size() - 1] &= 15;
        return q;
      };
      Attributes attributes{{"axis", k_axis}};
      Shape scales = w.shape();
      const bool blocks = dice.one_in(2);
      if (blocks) {
        const int64_t block = dice.from(8, 70);
        scales[static_cast<size_t>(k_axis)] = (scales[static_cast<size_t>(k_axis)] + block - 1) / block;
        attributes["block_size"] = block;
      } else {
        attributes["axis"] = 1 - k_axis;
        scales = {scales[static_cast<size_t>(1 - k_axis)]};
      }
      std::vector<ValueId> in{t.b.constant("q", numbers(w.shape())), t.b.constant("s", random_tensor(scales, dice.seed(), 0.002f, 0.02f))};
      if (dice.one_in(2)) in.push_back(t.b.constant("z", numbers(scales)));
      return t.b.op("DequantizeLinear", in, attributes);
    };
    if (dice.one_in(3)) {
      const Window w(dice, 2, 17, true);
      if (!w.fits) return false;
      const int64_t channels = dice.from(9, 40), filters = dice.from(9, 80);
      t.terms = channels * w.taps();
      const ValueId x = t.feed(floats(dice, w.shape({dice.from(1, 3), channels}, w.in)));
      t.out("Conv", {x, widened(floats(dice, w.shape({filters, channels}, w.kernel)), 1)}, w.attributes());
      return true;
    }
    // One row, a few, and enough tiles for panels that become floats first, whole or in parts of K.
    const int64_t m = dice.pick({dice.from(1, 20), dice.from(1, 20), dice.from(20, 130)}), n = dice.from(1, 150),
                  k = dice.one_in(6) ? dice.from(500, 1400) : dice.from(1, 130);
    t.terms = 4 * k;
    const bool turned = dice.one_in(2);
    const ValueId x = t.feed(floats(dice, {m, k})), w = widened(floats(dice, turned ? Shape{n, k} : Shape{k, n}), turned ? 1 : 0);
    const ValueId y = turned ? t.b.op("Gemm", {x, w}, {{"transB", int64_t{1}}}) : t.b.op("MatMul", {x, w});
    t.b.output(dice.one_in(2) ? y : t.b.op("Tanh", {y}), "y");
    return true;
  });
}

TEST_CASE("convolutions to a few filters over random shapes") {
  over(400, 47, [](Trial& t, Dice& dice) {
    const int axes = static_cast<int>(dice.pick({1, 2, 2, 2, 3}));
    const Window w(dice, axes, axes == 3 ? 7 : 13, true);
    if (!w.fits) return false;
    const int64_t channels = dice.from(14, 70), filters = dice.from(1, 5);
    t.terms = channels * w.taps();
    std::vector<ValueId> in{t.feed(floats(dice, w.shape({dice.size(3), channels}, w.in), true)),
                            t.b.constant("w", floats(dice, w.shape({filters, channels}, w.kernel)))};
    if (dice.one_in(2)) in.push_back(t.b.constant("bias", floats(dice, {filters})));
    ValueId y = t.b.op("Conv", in, w.attributes());
    if (dice.one_in(2)) y = t.b.op(dice.pick({"Relu", "Sigmoid", "HardSwish"}), {y});
    t.b.output(y, "y");
    return true;
  });
}

TEST_CASE("3x3 convolutions of stride 1 over random shapes: Winograd's method") {
  over(500, 12, [](Trial& t, Dice& dice) {
    const int64_t channels = dice.one_in(8) ? dice.from(200, 330) : dice.from(8, 40), filters = dice.from(8, 70);
    const Shape image{dice.from(1, 3), channels, dice.from(3, 22), dice.from(3, 22)};
    const Ints pads{dice.from(0, 3), dice.from(0, 3), dice.from(0, 3), dice.from(0, 3)};
    t.terms = 9 * channels;
    std::vector<ValueId> in{t.feed(floats(dice, image, true)), t.b.constant("w", floats(dice, {filters, channels, 3, 3}, dice.one_in(20)))};
    if (dice.one_in(2)) in.push_back(t.b.constant("bias", floats(dice, {filters})));
    ValueId y = t.b.op("Conv", in, {{"pads", pads}});
    const Shape out{image[0], filters, image[2] + pads[0] + pads[2] - 2, image[3] + pads[1] + pads[3] - 2};
    if (dice.one_in(2)) y = t.b.op("Add", {y, t.feed(floats(dice, out, true))});
    if (dice.one_in(2)) y = t.b.op(dice.one_in(2) ? "Relu" : "HardSwish", {y});
    t.b.output(y, "y");
    t.pin = dice.pick({"", "family=convolution.winograd", "family=convolution.winograd_2x2"});
    return true;
  });
}

TEST_CASE("transposed convolutions over random shapes") {
  over(1000, 3, [](Trial& t, Dice& dice) {
    const int axes = static_cast<int>(dice.pick({1, 2, 2, 3}));
    Window w(dice, axes, axes == 3 ? 5 : 11, false);
    const int64_t groups = dice.one_in(3) ? 2 : 1, channels = dice.from(1, 18), filters = dice.from(1, 40);
    Attributes attributes = w.attributes();
    attributes["group"] = groups;
    Ints extra;
    for (int a = 0; a < axes; ++a) {
      extra.push_back(dice.from(0, std::max(w.strides[a], w.dilations[a]) - 1));
      const int64_t made = w.strides[a] * (w.in[a] - 1) + extra[a] + (w.kernel[a] - 1) * w.dilations[a] + 1;
      if (made - w.pads[a] - w.pads[axes + a] < 1) return false;
    }
    attributes["output_padding"] = extra;
    t.terms = channels * w.taps();
    std::vector<ValueId> in{t.feed(floats(dice, w.shape({dice.from(1, 2), channels * groups}, w.in), true)),
                            t.give(dice, floats(dice, w.shape({channels * groups, filters}, w.kernel)))};
    if (dice.one_in(2)) in.push_back(t.give(dice, floats(dice, {filters * groups})));
    t.out("ConvTranspose", in, attributes);
    return true;
  });
}

// The same numbers, made channels-last: by a depthwise window of one tap whose weights are 1.
ValueId channels_last(Trial& t, ValueId x, int64_t channels, int axes) {
  Shape s(static_cast<size_t>(axes) + 2, 1);
  s[0] = channels;
  Tensor ones(DType::f32, s);
  std::ranges::fill(ones.as<float>(), 1.0f);
  return t.b.op("Conv", {x, t.b.constant("ones" + std::to_string(x), ones)}, {{"group", channels}});
}

TEST_CASE("pools over random shapes") {
  over(1200, 4, [](Trial& t, Dice& dice) {
    const int axes = static_cast<int>(dice.pick({1, 2, 2, 3}));
    const Window w(dice, axes, axes == 3 ? 7 : 17, false);
    if (!w.fits) return false;
    Attributes attributes = w.attributes();
    attributes["ceil_mode"] = dice.from(0, 1);
    const bool max = dice.one_in(2);
    if (!max) attributes["count_include_pad"] = dice.from(0, 1);
    t.terms = w.taps();
    const int64_t channels = dice.from(1, 70);
    ValueId x = t.feed(floats(dice, w.shape({dice.size(3), channels}, w.in), true));
    const char* op = max ? "MaxPool" : "AveragePool";
    if (dice.one_in(2)) {  // in the standard's order, line by line where lines are long enough
      t.out(op, {x}, attributes);
    } else {  // channels-last, between convolutions
      x = t.b.op(op, {channels_last(t, x, channels, axes)}, attributes);
      t.b.output(channels_last(t, x, channels, axes), "y");
    }
    return true;
  });
}

TEST_CASE("elementwise chains over random shapes and broadcasts") {
  over(1500, 5, [](Trial& t, Dice& dice) {
    Shape full;
    for (int64_t a = dice.from(1, 4); a > 0; --a) full.push_back(dice.size(a == 1 ? 300 : 9));
    const auto part = [&] {
      Shape s = full;
      for (int64_t& d : s) d = dice.one_in(3) ? 1 : d;
      s.erase(s.begin(), s.begin() + dice.from(0, static_cast<int64_t>(s.size())));
      return s;
    };
    t.terms = 100;
    ValueId y = t.feed(floats(dice, full, true));
    for (int64_t length = dice.from(1, 7); length > 0; --length) {
      if (dice.one_in(2)) {
        y = t.b.op(dice.pick({"Relu", "Sigmoid", "Tanh", "Abs", "Neg", "HardSwish", "Floor", "Erf"}), {y});
      } else {
        const ValueId other = t.give(dice, floats(dice, part(), true));
        y = dice.one_in(2) ? t.b.op(dice.pick({"Add", "Sub", "Mul", "Max", "Min"}), {y, other})
                           : t.b.op(dice.pick({"Add", "Sub", "Mul"}), {other, y});
      }
    }
    t.b.output(y, "y");
    return true;
  });
}

TEST_CASE("softmax, normalisations and reductions over random shapes") {
  over(1500, 6, [](Trial& t, Dice& dice) {
    Shape s;
    for (int64_t a = dice.from(1, 4); a > 0; --a) s.push_back(dice.one_in(8) ? dice.from(30, 400) : dice.size(12));
    const int64_t rank = static_cast<int64_t>(s.size()), axis = dice.from(-rank, rank - 1), count = element_count(s);
    if (count > 40000) return false;
    t.terms = 1000;
    const std::string op = dice.pick({"Softmax", "LogSoftmax", "LayerNormalization", "ReduceSum", "ReduceMean", "ReduceMax", "ReduceMin",
                                      "ReduceL2", "ReduceProd", "ReduceLogSumExp"});
    if (count == 0 && op != "ReduceSum" && op != "Softmax") return false;  // of nothing: no maximum, no mean
    const ValueId x = t.feed(floats(dice, s, op != "LayerNormalization"));
    if (op == "LayerNormalization") {
      const Shape tail(s.begin() + (axis < 0 ? axis + rank : axis), s.end());
      std::vector<ValueId> in{x, t.give(dice, floats(dice, tail))};
      if (dice.one_in(2)) in.push_back(t.give(dice, floats(dice, tail)));
      // A row of one or of nearly equal numbers divides by almost nothing: epsilon keeps it in the tolerance's reach.
      t.out(op, in, {{"axis", axis}, {"epsilon", 0.1f}});
    } else if (op == "Softmax" || op == "LogSoftmax") {
      t.out(op, {x}, {{"axis", axis}});
    } else {
      Ints axes;
      for (int64_t a = 0; a < rank; ++a) {
        if (dice.one_in(2)) axes.push_back(a);
      }
      Tensor of(DType::i64, {static_cast<int64_t>(axes.size())});
      std::copy(axes.begin(), axes.end(), of.as<int64_t>().begin());
      t.out(op, {x, t.b.constant("axes", of)}, {{"keepdims", dice.from(0, 1)}, {"noop_with_empty_axes", dice.from(0, 1)}});
    }
    return true;
  });
}

TEST_CASE("normalisations of groups and by the mean square over random shapes") {
  over(400, 13, [](Trial& t, Dice& dice) {
    if (dice.one_in(3)) {
      const Shape s{dice.from(1, 4), dice.from(1, 9), dice.from(1, 80)};
      const int64_t axis = dice.pick({int64_t{-1}, int64_t{1}, int64_t{2}});
      const Shape over_axes(s.begin() + (axis < 0 ? 2 : axis), s.end());
      t.b = Builder("shapes", 23);
      t.out("RMSNormalization", {t.feed(floats(dice, s, true)), t.give(dice, floats(dice, over_axes))}, {{"axis", axis}});
      return true;
    }
    const int64_t groups = dice.from(1, 6), per_group = dice.from(1, 5), channels = groups * per_group;
    Shape s{dice.from(1, 3), channels, dice.from(1, 40)};
    if (dice.one_in(2)) s.push_back(dice.from(1, 6));
    t.terms = element_count(s);
    const ValueId x = t.feed(floats(dice, s, true)), scale = t.give(dice, floats(dice, {channels})),
                  bias = t.give(dice, floats(dice, {channels}));
    if (dice.one_in(2)) t.out("GroupNormalization", {x, scale, bias}, {{"num_groups", groups}});
    else t.out("InstanceNormalization", {x, scale, bias});
    return true;
  });
}

TEST_CASE("elementwise nodes around reductions over random shapes and broadcasts") {
  over(600, 14, [](Trial& t, Dice& dice) {
    Shape s;
    for (int64_t rank = dice.from(1, 4); rank > 0; --rank) s.push_back(dice.from(1, rank == 1 ? 90 : 5));
    const auto operand = [&] {
      Shape b = s;
      for (int64_t& d : b) d = dice.one_in(3) ? 1 : d;
      while (!b.empty() && dice.one_in(4)) b.erase(b.begin());
      return t.give(dice, floats(dice, b, true));
    };
    t.terms = 4 * s.back();
    ValueId x = t.feed(floats(dice, s, true));
    for (int64_t n = dice.from(0, 3); n > 0; --n) x = t.b.op(dice.pick({"Add", "Mul", "Sub"}), {x, operand()});
    if (dice.one_in(3)) x = t.b.op("Tanh", {x});
    const ValueId before = x;
    switch (dice.from(0, 3)) {
      case 0: x = t.b.op(dice.one_in(2) ? "Softmax" : "LogSoftmax", {x}, {{"axis", int64_t{-1}}}); break;
      case 1:
        x = t.b.op("LayerNormalization", {x, t.give(dice, floats(dice, {s.back()})), t.give(dice, floats(dice, {s.back()}))},
                   {{"epsilon", 0.01f}});
        break;
      default: x = t.b.op(dice.pick({"ReduceSum", "ReduceMax", "ReduceMean"}), {x, t.b.constant("axes", Tensor::from<int64_t>({1}, {-1}))});
    }
    for (int64_t n = dice.from(0, 2); n > 0; --n) x = t.b.op(dice.pick({"Add", "Mul"}), {x, operand()});
    // Sometimes what came before is read again, afterwards.
    t.b.output(dice.one_in(3) ? t.b.op("Add", {x, before}) : x, "y");
    return true;
  });
}

TEST_CASE("numbers to bytes and back over random shapes, bit for bit") {
  over(500, 15, [](Trial& t, Dice& dice) {
    const Shape s{dice.from(1, 4), dice.from(1, 12), dice.from(1, 40)};
    const int64_t axis = dice.from(0, 2), channels = s[static_cast<size_t>(axis)];
    const bool is_signed = dice.one_in(2), by_channel = dice.one_in(2);
    Tensor scale(DType::f32, by_channel ? Shape{channels} : Shape{}), zero(is_signed ? DType::i8 : DType::u8, scale.shape());
    for (float& v : scale.as<float>()) v = 0.001f * static_cast<float>(dice.from(1, 40));
    const bool same_zero = dice.one_in(2);
    const auto first = static_cast<uint8_t>(dice.from(0, 255));
    for (int64_t i = 0; i < zero.size(); ++i)
      static_cast<uint8_t*>(zero.data())[i] = same_zero ? first : static_cast<uint8_t>(dice.from(0, 255));
    const ValueId by = t.b.constant("scale", scale), from = t.b.constant("zero", zero);
    const Attributes attributes{{"axis", axis}};
    if (dice.one_in(3)) {
      const Tensor x = is_signed ? bytes<int8_t>(dice, s) : bytes<uint8_t>(dice, s);
      t.out("DequantizeLinear", {t.feed(x), by, from}, attributes);
    } else if (dice.one_in(2)) {
      t.out("QuantizeLinear", {t.feed(floats(dice, s, true)), by, from}, attributes);
    } else {
      const ValueId q = t.b.op("QuantizeLinear", {t.b.op("Relu", {t.feed(floats(dice, s, true))}), by, from}, attributes);
      t.out("Neg", {t.b.op("DequantizeLinear", {q, by, from}, attributes)});
    }
    return true;
  });
}

TEST_CASE("bytes that are combined and become bytes again over random shapes, bit for bit") {
  over(500, 35, [](Trial& t, Dice& dice) {
    const Shape s{1, dice.from(1, 9), dice.one_in(2) ? dice.from(1, 40) : dice.from(300, 900)};
    const auto scaling = [&](const Tensor& like, const char* name) {
      Tensor z(like.dtype(), {});
      static_cast<uint8_t*>(z.data())[0] = dice.one_in(3) ? 0 : static_cast<uint8_t>(dice.from(0, 255));
      const float step = dice.one_in(4) ? 0.5f : 0.001f * static_cast<float>(dice.from(1, 400));
      return std::pair(t.b.constant(std::string(name) + "s", Tensor::from<float>({}, {step})), t.b.constant(std::string(name) + "z", z));
    };
    const auto operand = [&](const char* name) {
      const Tensor x = any_bytes(dice, s);
      const auto [step, zero] = scaling(x, name);
      return t.b.op("DequantizeLinear", {t.feed(x), step, zero});
    };
    ValueId v = operand("a");
    if (dice.one_in(4)) {
      // Everything behind the first bytes depends on them alone, or (the last sum) does not.
      const Tensor like = any_bytes(dice, {1});
      const auto [step, zero] = scaling(like, "i");
      const ValueId along = t.b.constant("along", floats(dice, {s[2]}));
      v = t.b.op("DequantizeLinear", {t.b.op("QuantizeLinear", {t.b.op("Add", {v, along}), step, zero}), step, zero});
      v = t.b.op("Mul", {v, t.b.op("Abs", {t.b.op("Neg", {v})})});
      if (dice.one_in(3)) v = t.b.op("Add", {v, dice.one_in(2) ? along : t.b.constant("one", Tensor::from<float>({}, {1.5f}))});
    } else if (dice.one_in(2)) v = t.b.op(dice.pick({"Add", "Add", "Sub", "Mul"}), {v, operand("b")});
    else if (dice.one_in(2)) v = t.b.op(dice.pick({"Neg", "Abs"}), {v});
    if (dice.one_in(3)) v = t.b.op("Relu", {v});
    else if (dice.one_in(3))
      v = t.b.op("Clip", {v, t.b.constant("low", Tensor::from<float>({}, {-3.0f})), t.b.constant("high", Tensor::from<float>({}, {6.0f}))});
    const auto [step, zero] = scaling(any_bytes(dice, {1}), "y");
    t.out("QuantizeLinear", {v, step, zero});
    return true;
  });
}

TEST_CASE("bytes resized by weights over random shapes") {
  over(300, 36, [](Trial& t, Dice& dice) {
    const Shape s{dice.from(1, 2), dice.one_in(2) ? dice.from(8, 40) : dice.from(1, 4), dice.from(1, 20), dice.from(1, 40)};
    // Sizes by whole and half steps, whose weights floats hold exactly.
    const auto to = [&](int64_t n) { return n % 2 == 0 && dice.one_in(3) ? n / 2 : n * dice.pick<int64_t>({1, 2, 4}); };
    const ValueId sizes = t.b.constant("sizes", Tensor::from<int64_t>({4}, {s[0], s[1], to(s[2]), to(s[3])}));
    const Attributes attributes{{"mode", std::string("linear")}, {"coordinate_transformation_mode", std::string("half_pixel")}};
    const ValueId x = t.feed(any_bytes(dice, s));
    if (dice.one_in(2)) return t.out("Resize", {x, kAbsent, kAbsent, sizes}, attributes), true;
    // Steps of powers of two: what stands in for the floats is the same to the bit.
    const DType d = t.fed[0].dtype();
    Tensor zero(d, {});
    static_cast<uint8_t*>(zero.data())[0] = static_cast<uint8_t>(dice.from(0, 255));
    const auto step = [&](const char* name) {
      return t.b.constant(name, Tensor::from<float>({}, {dice.pick<float>({0.125f, 0.25f, 0.5f})}));
    };
    const ValueId z = t.b.constant("z", zero), in = t.b.op("DequantizeLinear", {x, step("s"), z});
    t.out("QuantizeLinear", {t.b.op("Resize", {in, kAbsent, kAbsent, sizes}, attributes), step("r"), z});
    return true;
  });
}

TEST_CASE("selections of any numbers over random shapes") {
  over(400, 37, [](Trial& t, Dice& dice) {
    t.b = Builder("shapes", 13);
    const Shape s{dice.from(1, 5), dice.one_in(4) ? dice.from(200, 700) : dice.from(1, 30), dice.from(1, 6)};
    const int64_t axis = dice.from(-3, 2), length = s[static_cast<size_t>(axis < 0 ? axis + 3 : axis)];
    const auto whole = [&]<typename T>(T) {
      Tensor x = Tensor::from<T>(s, std::vector<T>(static_cast<size_t>(element_count(s))));
      for (T& v : x.template as<T>()) v = static_cast<T>(dice.from(-20, 20));
      return x;
    };
    Tensor x;
    switch (dice.from(0, 4)) {
      case 0: x = whole(int32_t{}); break;
      case 1: x = whole(int64_t{}); break;
      case 2: x = whole(double{}); break;
      case 3: x = any_bytes(dice, s); break;
      default: x = floats(dice, s, true);
    }
    const ValueId v = t.feed(x);
    if (dice.one_in(2)) {
      const ValueId k = t.b.constant("k", Tensor::from<int64_t>({1}, {dice.from(1, length)}));
      const auto out = t.b.ops("TopK", {v, k}, 2, {{"axis", axis}, {"largest", dice.from(0, 1)}});
      t.b.output(out[0], "values"), t.b.output(out[1], "at");
    } else {
      t.out(dice.pick({"ArgMax", "ArgMin"}), {v}, {{"axis", axis}, {"keepdims", dice.from(0, 1)}, {"select_last_index", dice.from(0, 1)}});
    }
    return true;
  });
}

TEST_CASE("movement over random shapes") {
  over(1500, 7, [](Trial& t, Dice& dice) {
    Shape s;
    for (int64_t a = dice.from(1, 5); a > 0; --a) s.push_back(dice.one_in(8) ? dice.from(17, 60) : dice.size(7));
    const int64_t rank = static_cast<int64_t>(s.size());
    if (element_count(s) > 60000) return false;
    const auto list = [&](const std::string& name, const Ints& v) {
      Tensor of(DType::i64, {static_cast<int64_t>(v.size())});
      std::copy(v.begin(), v.end(), of.as<int64_t>().begin());
      return t.b.constant(name, of);
    };
    const ValueId x = t.feed(dice.one_in(3) ? any_bytes(dice, s) : floats(dice, s, true));
    Ints order, starts, ends, axes, steps, pads(2 * rank), repeats;
    for (int64_t a = 0; a < rank; ++a) {
      order.insert(order.begin() + dice.from(0, a), a);
      axes.push_back(a);
      starts.push_back(dice.from(-s[a] - 1, s[a] + 1));
      ends.push_back(dice.from(-s[a] - 1, s[a] + 1));
      steps.push_back(dice.pick<int64_t>({1, 1, 2, 3, -1, -2}));
      pads[a] = dice.from(0, 3), pads[rank + a] = dice.from(0, 3);
      repeats.push_back(dice.from(1, 3));
    }
    const int64_t axis = dice.from(0, rank - 1);
    switch (dice.from(0, 5)) {
      case 0: t.out("Transpose", {x}, {{"perm", order}}); break;
      case 1: t.out("Slice", {x, list("starts", starts), list("ends", ends), list("axes", axes), list("steps", steps)}); break;
      case 2: t.out("Concat", {x, x, x}, {{"axis", axis}}); break;
      case 3: t.out("Tile", {x, list("repeats", repeats)}); break;
      case 4: {
        for (int64_t a = 0; a < rank; ++a)
          pads[a] = std::min(pads[a], std::max<int64_t>(0, s[a] - 1)),
          pads[rank + a] = std::min(pads[rank + a], std::max<int64_t>(0, s[a] - 1));
        const std::string mode = element_count(s) == 0 ? "constant" : dice.pick({"constant", "edge", "reflect", "wrap"});
        t.out("Pad", {x, list("pads", pads)}, {{"mode", mode}});
        break;
      }
      default: {
        if (s[axis] == 0) return false;
        Ints at;
        for (int64_t n = dice.from(0, 9); n > 0; --n) at.push_back(dice.from(-s[axis], s[axis] - 1));
        t.out("Gather", {x, list("at", at)}, {{"axis", axis}});
      }
    }
    return true;
  });
}

TEST_CASE("8-bit products and convolutions over random shapes, bit for bit") {
  over(1200, 8, [](Trial& t, Dice& dice) {
    const auto scale = [&](const char* name) {
      return t.b.constant(name, Tensor::from<float>({}, {0.01f + 0.001f * static_cast<float>(dice.from(0, 50))}));
    };
    const auto zero = [&](const Tensor& like, const char* name) {
      Tensor z(like.dtype(), {});
      static_cast<uint8_t*>(z.data())[0] = static_cast<uint8_t>(dice.from(0, 255));
      return t.b.constant(name, z);
    };
    // Of weights that are the same above and below nothing, or nearly so, as most are.
    const auto middle = [&](const Tensor& like, const char* name) {
      if (dice.one_in(3)) return zero(like, name);
      Tensor z(like.dtype(), {});
      static_cast<uint8_t*>(z.data())[0] = like.dtype() == DType::u8 ? 128 : 0;
      return t.b.constant(name, z);
    };
    const bool requantised = dice.one_in(2);
    const Tensor kind = any_bytes(dice, {1});
    if (dice.one_in(2)) {
      const Tensor a = any_bytes(dice, {dice.size(40), dice.size(90)}), b = any_bytes(dice, {a.shape()[1], dice.size(90)});
      const ValueId av = t.feed(a), bv = t.give(dice, b), az = zero(a, "az"), bz = middle(b, "bz");
      if (requantised) t.out("QLinearMatMul", {av, scale("as"), az, bv, scale("bs"), bz, scale("ys"), zero(kind, "yz")});
      else t.out("MatMulInteger", {av, bv, az, bz});
      return true;
    }
    const Window w(dice, 2, 13, true);
    if (!w.fits) return false;
    const int64_t groups = dice.one_in(3) ? dice.from(2, 5) : 1, channels = dice.one_in(6) ? dice.from(20, 90) : dice.from(1, 20),
                  filters = dice.from(1, 40);
    const Tensor x = any_bytes(dice, w.shape({dice.from(1, 2), channels * groups}, w.in)),
                 f = any_bytes(dice, w.shape({filters * groups, channels}, w.kernel));
    Attributes attributes = w.attributes();
    attributes["group"] = groups;
    const ValueId xv = t.feed(x), fv = t.give(dice, f), xz = zero(x, "xz"), fz = middle(f, "fz");
    if (requantised) t.out("QLinearConv", {xv, scale("xs"), xz, fv, scale("fs"), fz, scale("ys"), zero(kind, "yz")}, attributes);
    else t.out("ConvInteger", {xv, fv, xz, fz}, attributes);
    return true;
  });
}

TEST_CASE("depthwise windows of bytes over random shapes") {
  over(400, 41, [](Trial& t, Dice& dice) {
    // Mostly 3x3 neighbours, which have a way of their own: odd and even sizes, several pictures, channels that fill no vector.
    const bool usual = !dice.one_in(4);
    const int64_t channels = dice.one_in(3) ? dice.from(60, 140) : dice.from(1, 40), side = usual ? 3 : dice.from(1, 5);
    const Tensor x = any_bytes(dice, {dice.from(1, 3), channels, dice.from(1, 12), dice.from(1, 12)}),
                 f = any_bytes(dice, {channels, 1, side, usual ? 3 : dice.from(1, 5)});
    const Ints pads{dice.from(0, 2), dice.from(0, 2), dice.from(0, 2), dice.from(0, 2)};
    for (int a = 0; a < 2; ++a) {
      if (x.shape()[2 + a] + pads[a] + pads[2 + a] < f.shape()[2 + a]) return false;
    }
    const auto number = [&](const char* name, const Tensor& like, bool middle) {
      Tensor z(like.dtype(), {});
      static_cast<uint8_t*>(z.data())[0] = middle ? (like.dtype() == DType::u8 ? 128 : 0) : static_cast<uint8_t>(dice.from(0, 255));
      return t.b.constant(name, z);
    };
    const auto scale = [&](const char* name) {
      return t.b.constant(name, Tensor::from<float>({}, {dice.pick<float>({0.125f, 0.0078f, 0.5f, 3.0f})}));
    };
    Attributes attributes{{"group", channels}, {"pads", pads}};
    if (dice.one_in(5)) attributes["strides"] = Ints{dice.from(1, 2), dice.from(1, 2)};
    const ValueId xv = t.feed(x), fv = t.b.constant("f", f), xz = number("xz", x, false), fz = number("fz", f, !dice.one_in(4));
    if (dice.one_in(3)) return t.out("ConvInteger", {xv, fv, xz, fz}, attributes), true;
    std::vector<ValueId> in{xv, scale("xs"), xz, fv, scale("fs"), fz, scale("ys"), number("yz", any_bytes(dice, {1}), false)};
    if (dice.one_in(2)) {
      Tensor bias(DType::i32, {channels});
      for (int32_t& v : bias.as<int32_t>()) v = static_cast<int32_t>(dice.from(-30000, 30000));
      in.push_back(t.b.constant("bias", bias));
    }
    t.out("QLinearConv", in, attributes);
    return true;
  });
}

TEST_CASE("largest values with their places, sequences turned round, lines resampled over random shapes") {
  over(600, 43, [](Trial& t, Dice& dice) {
    if (dice.one_in(3)) {
      const Window w(dice, static_cast<int>(dice.pick({1, 2, 2, 3})), dice.one_in(3) ? 40 : 9, false);
      if (!w.fits) return false;
      Attributes attributes = w.attributes();
      attributes["storage_order"] = dice.from(0, 1);
      Tensor x = floats(dice, w.shape({dice.from(1, 2), dice.from(1, 4)}, w.in), true);
      if (element_count(x.shape()) > 40000) return false;
      if (dice.one_in(3)) {
        for (float& v : x.as<float>()) v = std::floor(v);  // many equal ones
      }
      const auto made = t.b.ops("MaxPool", {t.feed(x)}, 2, attributes);
      t.b.output(made[0], "values"), t.b.output(made[1], "at");
      return true;
    }
    if (dice.one_in(2)) {
      const int64_t steps = dice.size(40), batches = dice.size(20), time = dice.from(0, 1);
      Shape s = time == 0 ? Shape{steps, batches} : Shape{batches, steps};
      if (dice.one_in(2)) s.push_back(dice.size(90));
      Tensor lengths(DType::i64, {batches});
      for (int64_t& n : lengths.as<int64_t>()) n = dice.one_in(2) ? steps : dice.from(0, steps);
      const ValueId x = t.feed(dice.one_in(3) ? any_bytes(dice, s) : floats(dice, s, true));
      t.out("ReverseSequence", {x, t.give(dice, lengths)}, {{"time_axis", time}, {"batch_axis", 1 - time}});
      return true;
    }
    // Twice or half as many in long lines, by few taps: what is regular goes by vectors.
    t.terms = 200;
    const int axes = static_cast<int>(dice.pick({1, 2, 3}));
    Shape s{1, dice.from(1, 2)};
    for (int a = 0; a < axes; ++a) s.push_back(a + 1 == axes ? dice.from(20, 150) : dice.from(1, 4));
    Tensor scales(DType::f32, {axes + 2});
    std::ranges::fill(scales.as<float>(), 1.0f);
    for (int a = 0; a < axes; ++a) scales.as<float>()[2 + a] = dice.pick<float>({0.5f, 1.0f, 2.0f, 2.0f, 3.0f});
    t.out("Resize", {t.feed(floats(dice, s)), kAbsent, t.b.constant("scales", scales)},
          {{"mode", std::string(axes == 2 && dice.one_in(2) ? "cubic" : "linear")},
           {"coordinate_transformation_mode", std::string(dice.pick({"half_pixel", "asymmetric", "align_corners"}))},
           {"antialias", dice.from(0, 1)}});
    return true;
  });
}

TEST_CASE("recurrent layers over random shapes") {
  over(400, 9, [](Trial& t, Dice& dice) {
    const std::string op = dice.pick({"LSTM", "GRU", "RNN"});
    const int64_t gates = op == "LSTM"  ? 4
                          : op == "GRU" ? 3
                                        : 1,
                  steps = dice.from(1, 6), batch = dice.from(1, 5), in = dice.from(1, 40), hidden = dice.from(1, 40);
    const std::string direction = dice.pick({"forward", "reverse", "bidirectional"});
    const int64_t ways = direction == "bidirectional" ? 2 : 1;
    t.terms = 40 * (in + hidden);
    std::vector<ValueId> inputs{t.feed(floats(dice, {steps, batch, in})), t.give(dice, floats(dice, {ways, gates * hidden, in})),
                                t.give(dice, floats(dice, {ways, gates * hidden, hidden}))};
    if (dice.one_in(2)) inputs.push_back(t.give(dice, floats(dice, {ways, 2 * gates * hidden})));
    Attributes attributes{{"hidden_size", hidden}, {"direction", direction}};
    if (op == "GRU") attributes["linear_before_reset"] = dice.from(0, 1);
    t.out(op, inputs, attributes);
    return true;
  });
}

TEST_CASE("attention over random shapes") {
  over(500, 10, [](Trial& t, Dice& dice) {
    t.b = Builder("shapes", 23);
    const int64_t batch = dice.from(1, 2), kv = dice.from(1, 3), heads = kv * dice.from(1, 3),
                  queries = dice.one_in(8) ? dice.from(90, 140) : dice.from(1, 40),
                  keys = dice.one_in(8) ? dice.from(130, 300) : dice.from(1, 40), width = dice.from(1, 40), value_width = dice.from(1, 40);
    t.terms = 4 * keys;
    std::vector<ValueId> in{t.feed(floats(dice, {batch, heads, queries, width})), t.feed(floats(dice, {batch, kv, keys, width})),
                            t.feed(floats(dice, {batch, kv, keys, value_width}))};
    if (dice.one_in(2))
      in.push_back(
          t.give(dice, floats(dice, dice.pick({Shape{queries, keys}, Shape{1, 1, queries, keys}, Shape{batch, heads, queries, keys}}))));
    t.out("Attention", in, {{"is_causal", dice.from(0, 1)}});
    return true;
  });
}

TEST_CASE("attention with a state over random shapes: few rows and many, heads apart and flat, what is kept given back") {
  over(500, 16, [](Trial& t, Dice& dice) {
    t.b = Builder("shapes", 23);
    const bool flat = dice.one_in(2), back = dice.one_in(2);
    const int64_t batch = dice.from(1, 2), kv = dice.from(1, 3), heads = kv * dice.from(1, 3), queries = dice.from(1, 12),
                  past = dice.one_in(8)   ? 0
                         : dice.one_in(6) ? dice.from(200, 300)
                                          : dice.from(1, 40),
                  width = dice.from(1, 40), value_width = dice.from(1, 40), keys = past + queries;
    t.terms = 4 * keys;
    const auto shape = [&](int64_t count, int64_t of, int64_t w) {
      return flat ? Shape{batch, count, of * w} : Shape{batch, of, count, w};
    };
    std::vector<ValueId> in{
        t.feed(floats(dice, shape(queries, heads, width))),    t.feed(floats(dice, shape(queries, kv, width))),
        t.feed(floats(dice, shape(queries, kv, value_width))), dice.one_in(2) ? t.give(dice, floats(dice, {queries, keys})) : kAbsent,
        t.feed(floats(dice, {batch, kv, past, width})),        t.feed(floats(dice, {batch, kv, past, value_width}))};
    Attributes a{{"is_causal", dice.from(0, 1)}};
    if (flat) a["q_num_heads"] = heads, a["kv_num_heads"] = kv;
    const auto made = t.b.ops("Attention", in, back ? 3 : 1, a);
    for (size_t i = 0; i < made.size(); ++i) t.b.output(made[i], "y" + std::to_string(i));
    return true;
  });
}

TEST_CASE("rotary embeddings over random shapes") {
  over(300, 17, [](Trial& t, Dice& dice) {
    t.b = Builder("shapes", 23);
    const bool flat = dice.one_in(2), placed = dice.one_in(2);
    const int64_t batch = dice.from(1, 3), heads = dice.from(1, 4), length = dice.from(1, 30), width = dice.from(2, 40),
                  half = dice.from(1, width / 2), rows = placed ? dice.from(1, 50) : batch * length;
    const Shape table = placed ? Shape{rows, half} : Shape{batch, length, half};
    std::vector<ValueId> in{t.feed(floats(dice, flat ? Shape{batch, length, heads * width} : Shape{batch, heads, length, width}, true)),
                            t.give(dice, floats(dice, table)), t.give(dice, floats(dice, table))};
    if (placed) {
      Tensor places(DType::i64, {batch, length});
      for (int64_t& p : places.as<int64_t>()) p = dice.from(0, rows - 1);
      in.push_back(t.give(dice, places));
    }
    Attributes a{{"interleaved", dice.from(0, 1)}, {"rotary_embedding_dim", 2 * half}};
    if (flat) a["num_heads"] = heads;
    t.out("RotaryEmbedding", in, a);
    return true;
  });
}

TEST_CASE("blocks of pixels into channels and back over random shapes") {
  over(300, 18, [](Trial& t, Dice& dice) {
    const int64_t b = dice.from(1, 4), depth = dice.from(1, 20), h = dice.from(1, 9), w = dice.from(1, 9), n = dice.from(1, 2);
    const bool deep = dice.one_in(2), last = dice.one_in(2);
    ValueId x = t.feed(floats(dice, deep ? Shape{n, depth * b * b, h, w} : Shape{n, depth, h * b, w * b}, true));
    if (last) x = channels_last(t, x, deep ? depth * b * b : depth, 2);
    if (deep) t.out("DepthToSpace", {x}, {{"blocksize", b}, {"mode", std::string(dice.pick({"DCR", "CRD"}))}});
    else t.out("SpaceToDepth", {x}, {{"blocksize", b}});
    return true;
  });
}

TEST_CASE("parts of a value that lie that are contiguous over random shapes") {
  over(400, 19, [](Trial& t, Dice& dice) {
    const int64_t parts = dice.from(1, 5), each = dice.from(1, 7), rest = dice.from(1, 40), front = dice.one_in(3) ? 2 : 1;
    ValueId x = t.feed(floats(dice, {front, parts * each, rest}));
    if (dice.one_in(2)) x = t.b.op("Neg", {x});  // in the arena rather than the caller's
    std::vector<ValueId> cut;
    if (dice.one_in(2)) {
      cut = t.b.ops("Split", {x}, static_cast<int>(parts), {{"axis", int64_t{1}}, {"num_outputs", parts}});
    } else {
      for (int64_t p = 0; p < parts; ++p) {
        const auto at = [&](int64_t i) { return t.b.constant("i" + std::to_string(dice.seed()), Tensor::from<int64_t>({1}, {i})); };
        cut.push_back(t.b.op("Slice", {x, at(p * each), at((p + 1) * each), at(1)}));
      }
    }
    // Some are outputs as they are, some are worked on, one after the other, so that none may be written over too early.
    for (size_t i = 0; i < cut.size(); ++i) t.b.output(dice.one_in(3) ? cut[i] : t.b.op("Exp", {cut[i]}), "y" + std::to_string(i));
    return true;
  });
}

TEST_CASE("resizing and selection over random shapes") {
  over(600, 11, [](Trial& t, Dice& dice) {
    const Shape s{dice.from(1, 2), dice.from(1, 20), dice.from(1, 12), dice.from(1, 12)};
    t.terms = 200;
    if (dice.one_in(2)) {
      const ValueId x = t.feed(floats(dice, s));
      Tensor sizes(DType::i64, {4});
      for (int a = 0; a < 4; ++a) sizes.as<int64_t>()[a] = a < 2 ? s[a] : dice.from(1, 25);
      t.out("Resize", {x, kAbsent, kAbsent, t.b.constant("sizes", sizes)},
            {{"mode", std::string(dice.pick({"nearest", "linear", "cubic"}))},
             {"coordinate_transformation_mode", std::string(dice.pick({"half_pixel", "asymmetric", "align_corners"}))}});
      return true;
    }
    const int64_t axis = dice.from(0, 3);
    if (dice.one_in(2)) {
      const ValueId x = t.feed(floats(dice, s));
      const auto made = t.b.ops("TopK", {x, t.b.constant("k", Tensor::from<int64_t>({1}, {dice.from(1, s[axis])}))}, 2,
                                {{"axis", axis}, {"largest", dice.from(0, 1)}});
      t.b.output(made[0], "values");
      t.b.output(made[1], "at");
      return true;
    }
    t.out(dice.pick({"ArgMax", "ArgMin"}), {t.feed(floats(dice, s, true))},
          {{"axis", axis}, {"keepdims", dice.from(0, 1)}, {"select_last_index", dice.from(0, 1)}});
    return true;
  });
}
