// Random graphs of many nodes (deep, branching, broadcasting, of mixed element types) and the benchmark networks at small sizes: fused,
// unfused and plain agree, whatever the threads and the instruction set, and an archive gives the same bits. Tolerances follow from the
// element type, the number of nodes and the terms of their sums, relative to the largest number of the result.
#include <algorithm>
#include <cmath>
#include <cstdlib>

#include "networks.hpp"
#include "support.hpp"

using namespace test;

namespace {

using Ints = std::vector<int64_t>;

int trials(int usual) {
  const char* asked = std::getenv("LATHE_SHAPES");
  return asked ? std::max(1, std::min(usual, std::atoi(asked))) : usual;
}

double largest(const Tensor& t) {
  double most = 0;
  for (float v : t.as<float>()) most = std::max(most, std::fabs(static_cast<double>(v)));
  return most;
}

// `rounding`: half a unit in the last place of the narrowest type on the way; `terms`: roundings that can add up.
void agree(const Outputs& got, const std::vector<Tensor>& expected, double rounding, double terms) {
  REQUIRE(got.size() == expected.size());
  for (size_t i = 0; i < expected.size(); ++i) {
    const Tolerance tolerance{rounding * terms * std::max(1e-3, largest(expected[i])), 0, 0};
    const Comparison c = compare(got.name(i), got[i], expected[i], tolerance);
    INFO(c.name, ": ", c.reason, ", worst off by ", c.max_absolute, ", allowed ", tolerance.absolute);
    CHECK(c.pass);
  }
}

struct Grown {
  Graph graph;
  std::vector<Tensor> fed;
  double rounding = 0x1p-24, terms = 32;
};

// Continuous ops only: a comparison that falls the other way by a rounding would be another result, not an error.
class Gardener {
 public:
  explicit Gardener(uint64_t seed) : random_(seed) {}

  Grown grow(int nodes) {
    rows_ = from(1, 12), width_ = from(1, 48);
    for (int i = 0; i < 2; ++i) {
      grown_.fed.push_back(random_tensor({rows_, width_}, random_()));
      pool_.push_back(b_.input("x" + std::to_string(i), DType::f32, {Dim(rows_), Dim(width_)}));
    }
    for (int n = 0; n < nodes; ++n) pool_.push_back(next());
    // The last ones, and one from the middle: some values are read by a step and given out as well.
    b_.output(b_.op("Identity", {pool_.back()}), "last");
    if (from(0, 1) == 1) b_.output(b_.op("Identity", {pool_[pool_.size() / 2]}), "middle");
    grown_.terms += 4.0 * nodes;
    grown_.graph = b_.finish();
    return std::move(grown_);
  }

 private:
  int64_t from(int64_t low, int64_t high) { return low + static_cast<int64_t>(random_() % static_cast<uint64_t>(high - low + 1)); }
  // Recent values more often: depth as well as breadth.
  ValueId pick() { return pool_[pool_.size() - 1 - std::min<size_t>(pool_.size() - 1, random_() % 5 * (random_() % 3))]; }
  ValueId constant(Tensor t) { return b_.constant("c" + std::to_string(names_++), std::move(t)); }
  ValueId ints(const Ints& v) { return constant(Tensor::from<int64_t>({static_cast<int64_t>(v.size())}, v)); }
  ValueId weight(Shape s, float size) { return constant(random_tensor(std::move(s), random_(), -size, size)); }
  // Something that is broadcast against rows x width.
  ValueId operand() {
    switch (from(0, 4)) {
      case 0: return weight({width_}, 1);
      case 1: return weight({rows_, 1}, 1);
      case 2: return weight({}, 1);
      default: return pick();
    }
  }

  ValueId next() {
    static const char* const kUnary[]{"Relu", "Sigmoid", "Tanh", "Abs", "Neg", "HardSwish", "Softplus", "Elu", "Erf", "Gelu", "Softsign"};
    switch (from(0, 15)) {
      case 0:
      case 1:
      case 2: return b_.op(kUnary[random_() % std::size(kUnary)], {pick()});
      case 3:
      case 4: return b_.op(from(0, 1) ? "Add" : "Sub", {pick(), operand()});
      case 5: return b_.op("Mul", {b_.op("Tanh", {pick()}), operand()});
      case 6: return b_.op(from(0, 1) ? "Max" : "Min", {pick(), operand()});
      case 7:
        grown_.terms += static_cast<double>(width_);
        return b_.op("MatMul", {pick(), weight({width_, width_}, 1 / std::sqrt(static_cast<float>(width_)))});
      case 8: return b_.op("Softmax", {pick()}, {{"axis", from(0, 1) ? int64_t{-1} : int64_t{0}}});
      case 9:
        grown_.terms += 4.0 * static_cast<double>(width_);  // a variance near epsilon magnifies what went before
        return b_.op("LayerNormalization", {pick(), weight({width_}, 1), weight({width_}, 1)}, {{"epsilon", 0.5f}});
      case 10: {  // reduced, and spread out again
        grown_.terms += static_cast<double>(width_);
        return b_.op("Add", {pick(), b_.op(from(0, 1) ? "ReduceMean" : "ReduceMax", {pick(), ints({from(0, 1) ? -1 : 0})})});
      }
      case 11: {  // there and back
        const ValueId t = b_.op("Transpose", {pick()}, {{"perm", Ints{1, 0}}});
        return b_.op("Transpose", {from(0, 1) ? b_.op("Relu", {t}) : b_.op("Softsign", {t})}, {{"perm", Ints{1, 0}}});
      }
      case 12: {
        if (width_ < 2) return b_.op("Neg", {pick()});
        const int64_t left = from(1, width_ - 1);
        const auto parts = b_.ops("Split", {pick(), ints({left, width_ - left})}, 2, {{"axis", int64_t{1}}});
        return b_.op("Concat", {b_.op("Sigmoid", {parts[1]}), parts[0]}, {{"axis", int64_t{1}}});
      }
      case 13: {
        const ValueId flat = b_.op("Reshape", {pick(), ints({-1})});
        return b_.op("Reshape", {from(0, 1) ? b_.op("Unsqueeze", {flat, ints({0})}) : b_.op("Neg", {flat}), ints({rows_, width_})});
      }
      case 14: {
        // Leaky by hand: continuous though it compares.
        const ValueId x = pick();
        return b_.op("Where", {b_.op("Greater", {x, weight({}, 0)}), x, b_.op("Mul", {x, weight({}, 0.5f)})});
      }
      default: {
        if (from(0, 3) != 0) return b_.op("Clip", {pick(), weight({}, 0), constant(Tensor::from<float>({}, {2}))});
        // Through a narrower or wider type.
        const bool half = from(0, 1) == 1;
        if (half) grown_.rounding = 0x1p-11;
        return b_.op("Cast", {b_.op("Cast", {pick()}, {{"to", int64_t{half ? 10 : 11}}})}, {{"to", int64_t{1}}});
      }
    }
  }

  std::mt19937_64 random_;
  Builder b_{"grown", 21};
  Grown grown_;
  std::vector<ValueId> pool_;
  int64_t rows_ = 1, width_ = 1;
  int names_ = 0;
};

// Pictures of any number of channels: layouts, parts of larger values, and what stands before and after convolutions.
class Painter {
 public:
  explicit Painter(uint64_t seed) : random_(seed) {}

  Grown grow(int nodes) {
    images_ = from(1, 2), high_ = from(2, 9), wide_ = from(2, 9);
    for (int i = 0; i < 2; ++i) {
      const int64_t channels = from(0, 3) ? from(1, 20) : from(48, 72);
      grown_.fed.push_back(random_tensor({images_, channels, high_, wide_}, random_()));
      pool_.push_back({b_.input("x" + std::to_string(i), DType::f32, {Dim(images_), Dim(channels), Dim(high_), Dim(wide_)}), channels});
    }
    for (int n = 0; n < nodes; ++n) next();
    const auto give = [&](ValueId v, const char* name) { b_.output(b_.op("Identity", {v}), name); };
    give(pool_.back().value, "last");
    if (from(0, 1) == 1) give(pool_[pool_.size() / 2].value, "middle");
    if (from(0, 3) == 0) give(pool_[pool_.size() - 2].value, "before");
    grown_.terms += 4.0 * nodes;
    grown_.graph = b_.finish();
    return std::move(grown_);
  }

 private:
  struct Picture {
    ValueId value;
    int64_t channels;
  };
  int64_t from(int64_t low, int64_t high) { return low + static_cast<int64_t>(random_() % static_cast<uint64_t>(high - low + 1)); }
  Picture pick() { return pool_[pool_.size() - 1 - std::min<size_t>(pool_.size() - 1, random_() % 4 * (random_() % 3))]; }
  ValueId constant(Tensor t) { return b_.constant("c" + std::to_string(names_++), std::move(t)); }
  ValueId ints(const Ints& v) { return constant(Tensor::from<int64_t>({static_cast<int64_t>(v.size())}, v)); }
  ValueId weight(Shape s, float size) { return constant(random_tensor(std::move(s), random_(), -size, size)); }
  void put(ValueId v, int64_t channels) { pool_.push_back({v, channels}); }

  void convolve() {
    const Picture p = pick();
    const int kind = static_cast<int>(from(0, 4));
    const int64_t filters = kind == 4 ? p.channels : from(0, 5) ? from(1, 24) : from(40, 80), kernel = kind < 2 ? 1 : 3;
    const bool depthwise = kind == 4 && p.channels > 1;
    const int64_t depth = (depthwise ? 1 : p.channels) * kernel * kernel;
    grown_.terms += 3.0 * static_cast<double>(depth);
    std::vector<ValueId> in{p.value,
                            weight({filters, depthwise ? 1 : p.channels, kernel, kernel}, 1 / std::sqrt(static_cast<float>(depth)))};
    if (from(0, 1)) in.push_back(weight({filters}, 1));
    std::map<std::string, Attribute::Data> how{{"pads", kernel == 3 ? Ints{1, 1, 1, 1} : Ints{0, 0, 0, 0}}};
    if (depthwise) how["group"] = p.channels;
    put(b_.op("Conv", in, how), filters);
  }

  void join() {
    std::vector<ValueId> parts;
    int64_t channels = 0;
    const int64_t count = from(2, 4);
    for (int64_t i = 0; i < count; ++i) {
      Picture p = pick();
      if (channels + p.channels > 160) continue;
      parts.push_back(from(0, 2) ? p.value : b_.op("Relu", {p.value}));
      channels += p.channels;
    }
    if (parts.empty()) return;
    put(b_.op("Concat", parts, {{"axis", int64_t{1}}}), channels);
  }

  void cut() {
    const Picture p = pick();
    if (p.channels < 2) return;
    const int64_t left = from(1, p.channels - 1);
    if (from(0, 1)) {
      const auto parts = b_.ops("Split", {p.value, ints({left, p.channels - left})}, 2, {{"axis", int64_t{1}}});
      put(parts[0], left);
      put(parts[1], p.channels - left);
    } else if (from(0, 1)) {
      put(b_.op("Slice", {p.value, ints({left}), ints({p.channels}), ints({1})}), p.channels - left);
    } else {  // every other channel, or from the end
      const bool back = from(0, 1) == 1;
      put(b_.op("Slice", {p.value, ints({back ? -1 : 0}), ints({back ? -p.channels - 1 : p.channels}), ints({1}), ints({back ? -1 : 2})}),
          back ? p.channels : (p.channels + 1) / 2);
    }
  }

  // Upper and lower halves, or left and right ones, change places.
  void swap_halves() {
    const Picture p = pick();
    const int64_t axis = from(2, 3), size = axis == 2 ? high_ : wide_, at = from(1, size - 1);
    const ValueId a = b_.op("Slice", {p.value, ints({0}), ints({at}), ints({axis})}),
                  b = b_.op("Slice", {p.value, ints({at}), ints({size}), ints({axis})});
    put(b_.op("Concat", {b, from(0, 1) ? a : b_.op("Tanh", {a})}, {{"axis", axis}}), p.channels);
  }

  void next() {
    static const char* const kUnary[]{"Relu", "Sigmoid", "Tanh", "HardSwish", "Softplus", "Elu", "Gelu"};
    const Picture p = pick();
    switch (from(0, 14)) {
      case 0:
      case 1:
      case 2: return convolve();
      case 3:
      case 4: return join();
      case 5: return cut();
      case 6: return swap_halves();
      case 7: return put(b_.op(kUnary[random_() % std::size(kUnary)], {p.value}), p.channels);
      case 8: {  // with another one, channels matched by a convolution
        const Picture q = pick();
        if (q.channels == p.channels) return put(b_.op("Add", {p.value, q.value}), p.channels);
        grown_.terms += static_cast<double>(q.channels);
        const ValueId matched =
            b_.op("Conv", {q.value, weight({p.channels, q.channels, 1, 1}, 1 / std::sqrt(static_cast<float>(q.channels)))});
        return put(b_.op("Add", {matched, p.value}), p.channels);
      }
      case 9: {  // scale and shift by channel, then an activation: before whatever comes
        const ValueId scaled = b_.op("Mul", {p.value, weight({p.channels, 1, 1}, 1)});
        return put(b_.op("Relu", {b_.op("Add", {scaled, weight({p.channels, 1, 1}, 1)})}), p.channels);
      }
      case 10: {  // gated by what the picture holds
        grown_.terms += static_cast<double>(high_ * wide_);
        const ValueId gate = b_.op("Sigmoid", {b_.op("GlobalAveragePool", {p.value})});
        return put(b_.op("Mul", {p.value, gate}), p.channels);
      }
      case 11:
        return put(b_.op(from(0, 1) ? "MaxPool" : "AveragePool", {p.value}, {{"kernel_shape", Ints{3, 3}}, {"pads", Ints{1, 1, 1, 1}}}),
                   p.channels);
      case 12: {
        grown_.terms += 4.0 * static_cast<double>(high_ * wide_);
        return put(b_.op("InstanceNormalization", {p.value, weight({p.channels}, 1), weight({p.channels}, 1)}, {{"epsilon", 0.5f}}),
                   p.channels);
      }
      case 13: {  // a product over channels, with the picture turned and turned back
        grown_.terms += static_cast<double>(p.channels);
        const ValueId t = b_.op("Transpose", {p.value}, {{"perm", Ints{0, 2, 3, 1}}});
        const ValueId m = b_.op("MatMul", {from(0, 1) ? t : b_.op("Tanh", {t}),
                                           weight({p.channels, p.channels}, 1 / std::sqrt(static_cast<float>(p.channels)))});
        return put(b_.op("Transpose", {m}, {{"perm", Ints{0, 3, 1, 2}}}), p.channels);
      }
      default: return put(b_.op("Softmax", {p.value}, {{"axis", int64_t{1}}}), p.channels);
    }
  }

  std::mt19937_64 random_;
  Builder b_{"painted", 21};
  Grown grown_;
  std::vector<Picture> pool_;
  int64_t images_ = 1, high_ = 1, wide_ = 1;
  int names_ = 0;
};

// Fused, unfused and plain agree; now and then an archive gives the same bits.
EditionInfo check_grown(const Grown& g, int trial, const fs::path& folder) {
  const auto isas = machine_info().isas;
  const auto expected = evaluate_plain(g.graph, g.fed);
  const Program fused = compile(g.graph, {.threads = 1 + trial % 3, .isa = isas[static_cast<size_t>(trial) % isas.size()]});
  Lane a(fused), b(compile(g.graph, {.threads = 1, .fuse = false}));
  const Outputs x = a.run(std::span<const Tensor>(g.fed)), y = b.run(std::span<const Tensor>(g.fed));
  agree(x, expected, g.rounding, g.terms);
  agree(y, expected, g.rounding, g.terms);
  const EditionInfo info = fused.describe();
  CHECK(info.arena_bytes >= info.arena_bound);
  if (trial % 8 != 0) return info;
  save_program(fused, folder / "grown.lathe");
  Lane c(load_program(folder / "grown.lathe"));
  const Outputs z = c.run(std::span<const Tensor>(g.fed));
  for (size_t i = 0; i < z.size(); ++i) CHECK(identical(x[i], z[i]));
  return info;
}

}  // namespace

TEST_CASE("thousands of random graphs: fused, unfused and plain agree") {
  Folder folder;
  for (int trial = 0; trial < trials(2500); ++trial) {
    CAPTURE(trial);
    check_grown(Gardener(static_cast<uint64_t>(trial) * 7919 + 17).grow(trial % 10 == 0 ? 60 : 4 + trial % 25), trial, folder.path);
  }
}

TEST_CASE("random graphs of pictures: fused, unfused and plain agree") {
  Folder folder;
  const int count = trials(1500);
  int before = 0, placed = 0;
  for (int trial = 0; trial < count; ++trial) {
    CAPTURE(trial);
    const EditionInfo info =
        check_grown(Painter(static_cast<uint64_t>(trial) * 6007 + 5).grow(trial % 10 == 0 ? 30 : 3 + trial % 14), trial, folder.path);
    before += std::ranges::any_of(info.steps, [](const StepInfo& s) { return has(s.recipe, " before, "); });
    placed += std::ranges::any_of(info.nodes, [](const NodeInfo& n) { return n.op == "Concat" && n.step < 0; }) ||
              std::ranges::any_of(info.steps, [](const StepInfo& s) { return has(s.recipe, " parts into place"); });
  }
  // The graphs are of the kinds that are to be tried here.
  MESSAGE(before, " with nodes before a product, ", placed, " with parts made in place");
  CHECK(before >= count / 30);
  CHECK(placed >= count / 10);
}

TEST_CASE("the benchmark networks, small: fused, unfused and plain agree, archives give the same bits, memory meets its bound") {
  struct Small {
    const char* name;
    Graph graph;
    double terms;  // of all sums on the longest way through
  };
  const Small nets[]{{"residual", networks::residual_50(1, 32), 32000},     {"mobile", networks::mobile(1, 32), 16000},
                     {"encoder", networks::encoder(2, 12, 2, 48, 4), 3000}, {"skips", networks::skips(1, 32), 24000},
                     {"recurrent", networks::recurrent(2, 5), 8000},        {"decoder", networks::decoder(1, 9), 24000}};
  Folder folder;
  for (const Small& net : nets) {
    CAPTURE(net.name);
    const Program fused = compile(net.graph, {.threads = 2});
    auto in = random_inputs(fused, fused.bound_shapes(), 5);
    for (size_t i = 0; i < in.size(); ++i) {
      if (fused.inputs()[i].name != "mask") continue;
      for (float& v : in[i].as<float>()) v = 0;
    }
    const auto expected = evaluate_plain(net.graph, in);
    Lane a(fused), b(compile(net.graph, {.threads = 1, .fuse = false})), c(compile(net.graph, {.threads = 3, .winograd = false}));
    const Outputs x = a.run(std::span<const Tensor>(in));
    agree(x, expected, 0x1p-24, net.terms);
    agree(b.run(std::span<const Tensor>(in)), expected, 0x1p-24, net.terms);
    agree(c.run(std::span<const Tensor>(in)), expected, 0x1p-24, net.terms);
    const EditionInfo info = fused.describe();
    CHECK(static_cast<double>(info.arena_bytes) <= 1.05 * static_cast<double>(info.arena_bound));
    save_program(fused, folder.path / "net.lathe");
    Lane d(load_program(folder.path / "net.lathe", {.threads = 1}));
    const Outputs z = d.run(std::span<const Tensor>(in));
    for (size_t i = 0; i < z.size(); ++i) CHECK(identical(x[i], z[i]));
  }
}

TEST_CASE("a net for pictures of any size compiles each of ten sizes once") {
  Builder b("any size", 21);
  const ValueId x = b.input("picture", DType::f32, {Dim(1), Dim(3), Dim("height"), Dim("width")});
  const std::vector<int64_t> pads{1, 1, 1, 1}, two{2, 2};
  ValueId h = b.op("Relu", {b.op("Conv", {x, b.constant("a", random_tensor({12, 3, 3, 3}, 1))}, {{"pads", pads}, {"strides", two}})});
  h = b.op("Relu", {b.op("Conv", {h, b.constant("b", random_tensor({12, 12, 3, 3}, 2, -0.2f, 0.2f))}, {{"pads", pads}})});
  // Back to the size of the picture, which the model takes from the picture itself.
  const ValueId size = b.op("Slice", {b.op("Shape", {x}), b.constant("two", Tensor::from<int64_t>({1}, {2})),
                                      b.constant("four", Tensor::from<int64_t>({1}, {4}))});
  const ValueId sizes = b.op("Concat", {b.constant("front", Tensor::from<int64_t>({2}, {1, 12})), size}, {{"axis", int64_t{0}}});
  h = b.op("Resize", {h, kAbsent, kAbsent, sizes}, {{"mode", std::string("nearest")}});
  b.output(b.op("Conv", {h, b.constant("c", random_tensor({3, 12, 1, 1}, 3))}), "same");
  const Graph g = b.finish();
  const Program p = compile(g, {.threads = 2, .editions = 16});
  Lane lane(p);
  for (int pass = 0; pass < 2; ++pass) {
    for (int64_t i = 0; i < 10; ++i) {
      const std::vector<Tensor> in{random_tensor({1, 3, 20 + 3 * i, 31 - i}, static_cast<uint64_t>(i))};
      const Outputs out = lane.run(std::span<const Tensor>(in));
      CHECK(out[0].shape() == Shape{1, 3, 20 + 3 * i, 31 - i});
      if (pass == 0) agree(out, evaluate_plain(g, in), 0x1p-24, 400);
    }
    CHECK(p.editions_compiled() == 10);
  }
}
