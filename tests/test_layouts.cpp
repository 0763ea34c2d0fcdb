// Layouts by what they cost over the whole graph, and the minimum cut that finds them.
#include <functional>
#include <random>

#include "lower/group/minimum_cut.hpp"
#include "steps.hpp"
#include "support.hpp"

using namespace test;

namespace {

using Ints = std::vector<int64_t>;

}  // namespace

TEST_CASE("a minimum cut is the cheapest of all ways to part the nodes") {
  constexpr int kSource = lower::MinimumCut::kSource, kSink = lower::MinimumCut::kSink;
  std::mt19937 random(11);
  for (int trial = 0; trial < 400; ++trial) {
    CAPTURE(trial);
    const int nodes = 1 + static_cast<int>(random() % 9), edges = static_cast<int>(random() % 30);
    struct Edge {
      int from, to;
      double capacity;
    };
    std::vector<Edge> all;
    lower::MinimumCut cut(nodes);
    for (int e = 0; e < edges; ++e) {
      const auto pick = [&] { return static_cast<int>(random() % static_cast<unsigned>(nodes + 2)) - 2; };
      const Edge edge{pick(), pick(), random() % 7 == 0 ? 1e30 : static_cast<double>(random() % 20)};
      // Nothing joins source and sink that may not be cut.
      if (edge.from == edge.to || (edge.from == kSource && edge.to == kSink)) continue;
      all.push_back(edge);
      cut.edge(edge.from, edge.to, edge.capacity);
    }
    const auto cost = [&](auto on_sink_side) {
      const auto side = [&](int n) { return n == kSink || (n != kSource && on_sink_side(n)); };
      double sum = 0;
      for (const Edge& e : all) sum += !side(e.from) && side(e.to) ? e.capacity : 0;
      return sum;
    };
    double best = 1e300;
    for (unsigned way = 0; way < 1U << nodes; ++way) best = std::min(best, cost([&](int n) { return (way >> n & 1) != 0; }));
    const double found = cut.solve();
    CHECK(found == doctest::Approx(best));
    CHECK(cost([&](int n) { return cut.on_sink_side(n); }) == doctest::Approx(best));
  }
  lower::MinimumCut nothing(3);  // a tie: the source's side
  CHECK(nothing.solve() == 0);
  CHECK(!nothing.on_sink_side(1));
  lower::MinimumCut chain(200000);  // long graphs need no deep stack
  chain.edge(kSource, 0, 5);
  for (int n = 0; n + 1 < 200000; ++n) chain.edge(n, n + 1, n == 777 ? 2 : 9);
  chain.edge(199999, kSink, 4);
  CHECK(chain.solve() == 2);
  CHECK((!chain.on_sink_side(777) && chain.on_sink_side(778)));
}

TEST_CASE("layouts are chosen by what they cost over the whole graph") {
  const auto changes = [](const Graph& g) {
    std::vector<std::string> out;
    for (const StepInfo& s : compile(g).describe().steps) {
      if (s.kind == "layout") out.push_back(s.recipe + " " + s.nodes[0]);
    }
    return out;
  };
  const auto norm = [](Builder& b, ValueId v, const std::string& name) {
    return b.op("InstanceNormalization", {v, b.constant(name + "s", random_tensor({8}, 1)), b.constant(name + "b", random_tensor({8}, 2))});
  };
  const auto weight = [](Builder& b, const std::string& name, int64_t out, int64_t in) {
    return b.constant(name, random_tensor({out, in, 1, 1}, 3, -0.3f, 0.3f));
  };
  {  // What a convolution made goes on in the standard's order: it is turned once, before it is used twice.
    Builder b("turned once");
    const ValueId x = b.input("x", DType::f32, {1, 16, 6, 6});
    const ValueId y = b.op("Conv", {x, weight(b, "w", 8, 16)});
    const ValueId n = norm(b, y, "n");
    b.output(norm(b, b.op("Sigmoid", {b.op("Mul", {y, n})}), "m"), "z");
    const Graph g = b.finish();
    const auto found = changes(g);
    REQUIRE(found.size() == 2);
    CHECK(found[0] == "to channels-last layout of x");
    CHECK(has(found[1], "to natural order layout of Conv"));
    check_against_plain(g, {random_tensor({1, 16, 6, 6}, 4)});
  }
  {  // Elementwise work between convolutions stays channels-last, though one operand comes in the standard's order.
    Builder b("stays");
    const ValueId x = b.input("x", DType::f32, {1, 16, 6, 6}), extra = b.input("extra", DType::f32, {1, 8, 6, 6});
    const ValueId y = b.op("Conv", {x, weight(b, "w", 8, 16)});
    const ValueId pooled = b.op("MaxPool", {y}, {{"kernel_shape", Ints{3, 3}}, {"pads", Ints{1, 1, 1, 1}}});
    const ValueId mixed = b.op("Mul", {b.op("Tanh", {pooled}), b.op("Sin", {extra})});
    b.output(b.op("Conv", {mixed, weight(b, "v", 4, 8)}), "z");
    const Graph g = b.finish();
    CHECK(changes(g).size() == 3);  // x, extra, and the result
    check_against_plain(g, {random_tensor({1, 16, 6, 6}, 4), random_tensor({1, 8, 6, 6}, 5)});
  }
  {  // Pictures that a model holds channels-last are turned to the standard's order and back: nothing moves.
    Builder b("names only");
    const ValueId x = b.input("x", DType::f32, {2, 6, 5, 16});
    const ValueId turned = b.op("Relu", {b.op("Transpose", {x}, {{"perm", Ints{0, 3, 1, 2}}})});
    const ValueId y = b.op("Conv", {turned, weight(b, "w", 8, 16)});
    const ValueId z = b.op("Tanh", {b.op("Add", {y, b.op("Sigmoid", {y})})});
    b.output(b.op("Transpose", {z}, {{"perm", Ints{0, 2, 3, 1}}}), "z");
    const Graph g = b.finish();
    CHECK(changes(g).empty());
    for (const StepInfo& s : compile(g).describe().steps) CHECK(s.kind != "copy");
    check_against_plain(g, {random_tensor({2, 6, 5, 16}, 4)});
  }
}

TEST_CASE("between convolutions pictures are resized and pooled as they lie") {
  std::mt19937_64 random(21);
  const auto between_them = [&](int64_t channels, const std::function<ValueId(Builder&, ValueId)>& middle, const Tolerance& tolerance) {
    Builder b("between", 21);
    const Tensor in = random_tensor({2, 6, 9, 11}, random());
    const ValueId x = b.op("Conv", {b.input("x", DType::f32, {2, 6, 9, 11}), b.constant("w", random_tensor({channels, 6, 3, 3}, 1))});
    b.output(b.op("Relu", {b.op("Conv", {middle(b, x), b.constant("v", random_tensor({5, channels, 1, 1}, 2))})}), "y");
    const Graph g = b.finish();
    const auto kinds = step_kinds(g);
    CHECK(kinds.find("layout") == kinds.rfind("layout"));  // of the output
    CHECK(kinds.find("layout") > kinds.rfind("convolution"));
    everywhere(g, [&](const Graph& graph, const CompileOptions& o) { check_against_plain(graph, {in}, o, tolerance); });
  };
  for (const int64_t channels : {8, 19, 70}) {
    CAPTURE(channels);
    for (const char* mode : {"nearest", "linear", "cubic"}) {
      CAPTURE(mode);
      between_them(channels,
                   [&](Builder& b, ValueId x) {
                     return b.op("Resize", {x, kAbsent, b.constant("scales", Tensor::from<float>({4}, {1, 1, 2, 1.7f}))},
                                 {{"mode", std::string(mode)}});
                   },
                   {1e-4, 1e-4, 0});
    }
    for (const DType type : {DType::u8, DType::i8}) {
      CAPTURE(to_string(type));
      for (const bool ceiling : {false, true}) {
        between_them(
            channels,
            [&](Builder& b, ValueId x) {
              Tensor zero(type, {});
              *static_cast<uint8_t*>(zero.data()) = type == DType::u8 ? 120 : 3;
              const ValueId scale = b.constant("scale", Tensor::from<float>({}, {0.03f})), z = b.constant("zero", zero);
              const ValueId pooled = b.op(
                  "MaxPool", {b.op("QuantizeLinear", {x, scale, z})},
                  {{"kernel_shape", Ints{3, 2}}, {"strides", Ints{2, 2}}, {"pads", Ints{1, 0, 1, 1}}, {"ceil_mode", int64_t{ceiling}}});
              return b.op("DequantizeLinear", {pooled, scale, z});
            },
            {0.05, 0.05, 0});
      }
    }
  }
}
