// Where two computations part, why, and where the digits go.
#include <algorithm>
#include <numeric>

#include "support.hpp"

namespace {

using namespace test;

// ---- nets as exporters write them ----

struct Net {
  Graph graph;
  std::vector<Tensor> inputs;
};

Tensor around(Shape shape, uint64_t seed, float centre, float width) {
  return random_tensor(std::move(shape), seed, centre - width, centre + width);
}

// Convolutions, normalisations, a pool, an upsampling, a square product.
Net picture_net(uint64_t seed, float epsilon = 1e-3F) {
  std::mt19937_64 random(seed);
  const auto pick = [&](int64_t low, int64_t high) { return low + static_cast<int64_t>(random() % static_cast<uint64_t>(high - low + 1)); };
  Builder b("picture");
  const int64_t side = 2 * pick(6, 9), mid = 2 * pick(3, 6), wide = pick(8, 12);
  uint64_t next = seed * 1000;
  const auto norm = [&](ValueId v, int64_t channels) {
    const uint64_t s = next += 7;
    return b.op("BatchNormalization",
                {v, b.constant("s" + std::to_string(s), around({channels}, s, 1, 0.5F)),
                 b.constant("b" + std::to_string(s), around({channels}, s + 1, 0, 0.5F)),
                 b.constant("m" + std::to_string(s), around({channels}, s + 2, 0, 0.3F)),
                 b.constant("v" + std::to_string(s), around({channels}, s + 3, 0.3F, 0.28F))},
                {{"epsilon", epsilon}}, "norm" + std::to_string(s));
  };
  const auto weights = [&](Shape shape) {
    const uint64_t s = next += 11;
    int64_t fan = 1;
    for (size_t i = 1; i < shape.size(); ++i) fan *= shape[i];
    return b.constant("w" + std::to_string(s), around(std::move(shape), s, 0.02F, 1.5F / std::sqrt(static_cast<float>(fan))));
  };
  auto x = b.input("x", DType::f32, {1, 3, side, side});
  auto v = b.op("Conv", {x, weights({mid, 3, 3, 3})}, {{"strides", std::vector<int64_t>{2, 2}}, {"pads", std::vector<int64_t>{0, 0, 1, 1}}},
                "stem");
  v = b.op("LeakyRelu", {norm(v, mid)}, {{"alpha", 0.1F}}, "leaky");
  v = b.op("Conv", {v, weights({mid, mid, 3, 3})}, {{"pads", std::vector<int64_t>{1, 1, 1, 1}}}, "body");
  v = b.op("Relu", {norm(v, mid)}, {}, "act");
  v = b.op("AveragePool", {v},
           {{"kernel_shape", std::vector<int64_t>{3, 3}}, {"pads", std::vector<int64_t>{1, 1, 1, 1}}, {"count_include_pad", int64_t{0}}},
           "pool");
  v = b.op("Resize", {v, kAbsent, b.constant("scales", Tensor::from<float>({4}, {1, 1, 1.5F, 1.5F}))},
           {{"mode", std::string("linear")}, {"coordinate_transformation_mode", std::string("half_pixel")}}, "larger");
  v = b.op("Conv", {v, weights({wide, mid, 3, 3})}, {{"pads", std::vector<int64_t>{1, 1, 1, 1}}, {"strides", std::vector<int64_t>{2, 2}}},
           "last");
  v = b.op("GlobalAveragePool", {b.op("Elu", {v}, {}, "elu")}, {}, "mean");
  v = b.op("Flatten", {v}, {}, "flat");
  v = b.op("MatMul", {v, weights({wide, wide})}, {}, "product");
  b.output(b.op("Softmax", {v}, {{"axis", int64_t{-1}}}, "classes"));
  Net n;
  n.graph = b.finish();
  n.inputs = {random_tensor({1, 3, side, side}, seed + 5, 0, 1)};
  return n;
}

// Layer normalisation written out, GELU written out, a square product, a recurrent layer.
Net text_net(uint64_t seed, const char* recurrent, bool by_erf) {
  Builder b("text");
  const int64_t steps = 5, batch = 3, width = 6;
  uint64_t next = seed * 977;
  const auto c = [&](const char* name, Tensor t) { return b.constant(name + std::to_string(next++), std::move(t)); };
  const auto scalar = [&](float v) { return c("k", Tensor::from<float>({}, {v})); };
  auto x = b.input("x", DType::f32, {steps, batch, width});
  const auto mean = b.op("ReduceMean", {x}, {{"axes", std::vector<int64_t>{-1}}}, "mean");
  const auto off = b.op("Sub", {x, mean}, {}, "off");
  const auto spread = b.op("ReduceMean", {b.op("Mul", {off, off}, {}, "squares")}, {{"axes", std::vector<int64_t>{-1}}}, "variance");
  auto v = b.op("Div", {off, b.op("Sqrt", {b.op("Add", {spread, scalar(1e-5F)}, {}, "shifted")}, {}, "root")}, {}, "normal");
  v = b.op("MatMul", {v, c("w", around({width, width}, seed, 0, 0.6F))}, {}, "square");
  ValueId inner;
  if (by_erf) {
    inner = b.op("Erf", {b.op("Mul", {v, scalar(0.70710678F)}, {}, "scaled")}, {}, "erf");
  } else {
    const auto cube = b.op("Mul", {b.op("Mul", {v, v}, {}, "two"), v}, {}, "three");
    const auto sum = b.op("Add", {v, b.op("Mul", {cube, scalar(0.044715F)}, {}, "small")}, {}, "sum");
    inner = b.op("Tanh", {b.op("Mul", {sum, scalar(0.79788456F)}, {}, "arg")}, {}, "tanh");
  }
  v = b.op("Mul", {b.op("Mul", {v, scalar(0.5F)}, {}, "half"), b.op("Add", {inner, scalar(1)}, {}, "one")}, {}, "gelu");
  const int64_t hidden = 4, gates = std::string(recurrent) == "LSTM" ? 4 : 3;
  const auto y =
      b.ops(recurrent,
            {v, c("W", around({1, gates * hidden, width}, seed + 1, 0, 0.5F)),
             c("R", around({1, gates * hidden, hidden}, seed + 2, 0, 0.5F)), c("B", around({1, 2 * gates * hidden}, seed + 3, 0, 0.4F))},
            1, {{"hidden_size", hidden}});
  b.output(b.op("Squeeze", {y[0], b.constant("axes", Tensor::from<int64_t>({1}, {1}))}, {}, "states"));
  Net n;
  n.graph = b.finish();
  n.inputs = {random_tensor({steps, batch, width}, seed + 6, -1, 1)};
  return n;
}

Case case_of(const Net& right, std::vector<Tensor> inputs) {
  Case c{"reference", {}, {}};
  const auto outputs = evaluate_plain(right.graph, right.inputs);
  for (size_t i = 0; i < inputs.size(); ++i)
    c.inputs.push_back({right.graph.values[static_cast<size_t>(right.graph.inputs[i])].name, inputs[i]});
  for (size_t i = 0; i < outputs.size(); ++i)
    c.outputs.push_back({right.graph.values[static_cast<size_t>(right.graph.outputs[i])].name, outputs[i]});
  return c;
}

Node& node_making(Graph& g, const std::string& value) {
  const int n = g.producers().at(static_cast<size_t>(g.find_value(value)));
  return g.nodes.at(static_cast<size_t>(n));
}
Node& node_of_op(Graph& g, const std::string& op, size_t which = 0) {
  for (Node& n : g.nodes) {
    if (n.op == op && which-- == 0) return n;
  }
  throw std::runtime_error("no " + op);
}

Tensor mapped(const Tensor& t, const std::function<float(int64_t, float)>& f) {
  Tensor out = t.clone();
  int64_t i = 0;
  for (float& v : out.as<float>()) {
    v = f(i, v);
    ++i;
  }
  return out;
}

// Elements in another order: axis k of the result is axis order[k].
Tensor turned(const Tensor& t, const std::vector<int64_t>& order) {
  Builder b("turn");
  Dims dims;
  for (int64_t d : t.shape()) dims.emplace_back(d);
  const auto x = b.input("x", t.dtype(), dims);
  b.output(b.op("Transpose", {x}, {{"perm", order}}), "y");
  return evaluate_plain(b.finish(), std::span(&t, 1)).at(0);
}

Tensor& weights_of(Graph& g, const Node& n, size_t input) { return *g.values.at(static_cast<size_t>(n.inputs.at(input))).constant; }

Tensor rows_reordered(const Tensor& t, const std::vector<int>& order, bool twice) {
  Tensor out = t.clone();
  const int64_t blocks = static_cast<int64_t>(order.size()) * (twice ? 2 : 1), each = t.size() / blocks;
  for (int64_t k = 0; k < blocks; ++k) {
    const auto half = k / static_cast<int64_t>(order.size()) * static_cast<int64_t>(order.size());
    std::copy_n(t.as<float>().begin() + (half + order[static_cast<size_t>(k - half)]) * each, each, out.as<float>().begin() + k * each);
  }
  return out;
}

// One seeded mistake: the model as someone has it, and a case with what it should have given.
struct Seeded {
  Net wrong;
  Case reference;
  std::string found;
};

std::vector<std::pair<std::string, std::function<Seeded(uint64_t)>>> mistakes() {
  std::vector<std::pair<std::string, std::function<Seeded(uint64_t)>>> all;
  const auto input = [&](const std::string& name, const std::string& found, std::function<Tensor(const Tensor&)> spoil) {
    all.emplace_back(name, [=](uint64_t seed) {
      Net n = picture_net(seed);
      return Seeded{n, case_of(n, {spoil(n.inputs[0])}), found};
    });
  };
  const auto node = [&](const std::string& name, const std::string& found, std::function<void(Graph&)> spoil,
                        std::function<Net(uint64_t)> make) {
    all.emplace_back(name, [=](uint64_t seed) {
      const Net right = make(seed);
      Net wrong = right;
      wrong.graph = std::move(*deep_copy(right.graph));
      spoil(wrong.graph);
      return Seeded{wrong, case_of(right, right.inputs), found};
    });
  };
  const auto pictures = [](uint64_t seed) { return picture_net(seed); };
  input("channels swapped", "first and third channel", [](const Tensor& t) {
    const int64_t plane = t.size() / 3;
    return mapped(t, [&, t](int64_t i, float) { return t.as<float>()[static_cast<size_t>((2 - i / plane) * plane + i % plane)]; });
  });
  input("0 to 255", "from 0 to 255 where 0 to 1 is meant",
        [](const Tensor& t) { return mapped(t, [](int64_t, float v) { return v * 255; }); });
  input("-1 to 1", "from -1 to 1 where 0 to 1 is meant",
        [](const Tensor& t) { return mapped(t, [](int64_t, float v) { return 2 * v - 1; }); });
  input("mean and scale twice", "applied twice", [](const Tensor& t) {
    const float mean[]{0.485F, 0.456F, 0.406F}, deviation[]{0.229F, 0.224F, 0.225F};
    const int64_t plane = t.size() / 3;
    return mapped(t, [&](int64_t i, float v) { return (v - mean[i / plane]) / deviation[i / plane]; });
  });
  input("channels-last in memory", "is channels-last in memory", [](const Tensor& t) {
    return turned(t, {0, 2, 3, 1}).reshaped(t.shape());
  });
  input("height and width", "height and width", [](const Tensor& t) { return turned(t, {0, 1, 3, 2}); });
  input("swapped and 0 to 255", "first and third channel", [](const Tensor& t) {
    const int64_t plane = t.size() / 3;
    return mapped(t, [&, t](int64_t i, float) { return 255 * t.as<float>()[static_cast<size_t>((2 - i / plane) * plane + i % plane)]; });
  });
  node(
      "epsilon of one", "epsilon 0.001 instead of 1e-05",
      [](Graph& g) { node_of_op(g, "BatchNormalization", 1).attributes["epsilon"].data = 1e-5F; }, pictures);
  node(
      "epsilon of all", "epsilon 0.001 instead of 1e-05",
      [](Graph& g) {
        for (Node& n : g.nodes) {
          if (n.op == "BatchNormalization") n.attributes["epsilon"].data = 1e-5F;
        }
      },
      pictures);
  node(
      "padding side", "pads 0, 0, 1, 1",
      [](Graph& g) {
        node_making(g, "stem").attributes["pads"].data = std::vector<int64_t>{1, 1, 0, 0};
      },
      pictures);
  node(
      "padding on both sides", "pads 0, 0, 1, 1",
      [](Graph& g) {
        node_making(g, "stem").attributes["pads"].data = std::vector<int64_t>{1, 1, 1, 1};
      },
      pictures);
  node(
      "padding counted", "count_include_pad 0", [](Graph& g) { node_making(g, "pool").attributes["count_include_pad"].data = int64_t{1}; },
      pictures);
  node(
      "corners aligned", "coordinate_transformation_mode half_pixel",
      [](Graph& g) { node_making(g, "larger").attributes["coordinate_transformation_mode"].data = std::string("align_corners"); },
      pictures);
  node(
      "product transposed", "weights transposed",
      [](Graph& g) {
        Tensor& w = weights_of(g, node_making(g, "product"), 1);
        w = turned(w, {1, 0});
      },
      pictures);
  node(
      "kernel transposed", "kernel height and width swapped",
      [](Graph& g) {
        Tensor& w = weights_of(g, node_making(g, "body"), 1);
        w = turned(w, {0, 1, 3, 2});
      },
      pictures);
  node(
      "slope", "alpha 0.1 instead of 0.01", [](Graph& g) { node_making(g, "leaky").attributes["alpha"].data = 0.01F; }, pictures);
  node(
      "axis of softmax", "axis 1 instead of 0", [](Graph& g) { node_making(g, "classes").attributes["axis"].data = int64_t{0}; }, pictures);
  node(
      "epsilon written out", "epsilon 1e-05 instead of 0.001",
      [](Graph& g) { weights_of(g, node_making(g, "shifted"), 1) = Tensor::from<float>({}, {1e-3F}); },
      [](uint64_t s) { return text_net(s, "LSTM", true); });
  node(
      "GELU by tanh", "GELU by Erf instead of tanh", [](Graph& g) { g = text_net(0, "GRU", false).graph; },
      [](uint64_t) { return text_net(0, "GRU", true); });
  node(
      "order of gates", "gates in the order i, f, c, o instead of i, o, f, c",
      [](Graph& g) {
        const Node& n = node_of_op(g, "LSTM");
        // Written by a program whose order is i, f, c, o.
        for (size_t k = 1; k <= 3; ++k) weights_of(g, n, k) = rows_reordered(weights_of(g, n, k), {0, 2, 3, 1}, k == 3);
      },
      [](uint64_t s) { return text_net(s, "LSTM", true); });
  return all;
}

TEST_CASE("seeded mistakes are found by what they are") {
  int right = 0, tried = 0;
  for (const auto& [name, make] : mistakes()) {
    for (uint64_t seed = 1; seed <= 5; ++seed) {
      const Seeded s = make(seed);
      HuntOptions o;
      o.compile.threads = 1;
      o.seconds = 60;
      const Hunt h = hunt(s.wrong.graph, s.reference, o);
      const bool found =
          !h.agrees && std::ranges::any_of(h.verified, [&](const Suspect& v) { return v.what.find(s.found) != std::string::npos; });
      ++tried;
      right += found;
      if (!found) {
        std::string said = h.agrees ? "agrees" : h.verified.empty() ? "nothing" : h.verified[0].what;
        MESSAGE(name << ", seed " << seed << ": expected '" << s.found << "', the hunt says " << said << " (" << h.tried << " tried, error "
                     << h.error << ")");
      }
      for (const Suspect& v : h.verified) CHECK(v.agrees);
    }
  }
  MESSAGE(right << " of " << tried << " seeded mistakes found");
  CHECK(tried == 100);
  CHECK(right >= 95);
}

TEST_CASE("a model without a mistake is not accused") {
  const Net n = picture_net(3);
  const Hunt h = hunt(n.graph, case_of(n, n.inputs));
  CHECK(h.agrees);
  CHECK(h.verified.empty());
  // Random outputs: nothing explains them, and nothing is claimed.
  Case c = case_of(n, n.inputs);
  c.outputs[0].tensor = random_tensor(c.outputs[0].tensor.shape(), 9, 0, 1);
  HuntOptions o;
  o.compile.threads = 1;
  const Hunt none = hunt(n.graph, c, o);
  CHECK_FALSE(none.agrees);
  CHECK(none.verified.empty());
  CHECK(none.complete);
  o.seconds = 0;
  CHECK_FALSE(hunt(n.graph, c, o).complete);
}

// All values between, as another program would write them.
std::vector<NamedTensor> values_of(const Net& n) {
  Graph g = n.graph;
  g.outputs.clear();
  std::vector<NamedTensor> out;
  for (const Node& node : g.nodes) {
    for (ValueId v : node.outputs) {
      if (v != kAbsent) g.outputs.push_back(v);
    }
  }
  auto results = evaluate_plain(g, n.inputs);
  for (size_t i = 0; i < g.outputs.size(); ++i) out.push_back({g.values[static_cast<size_t>(g.outputs[i])].name, std::move(results[i])});
  return out;
}

TEST_CASE("a walk names the value where they part, and the node inside its step") {
  const Net right = picture_net(4);
  Net wrong = right;
  wrong.graph = std::move(*deep_copy(right.graph));
  Tensor& w = weights_of(wrong.graph, node_making(wrong.graph, "body"), 1);
  w = turned(w, {0, 1, 3, 2});
  const auto values = values_of(right);
  const Walk walked = walk(wrong.graph, wrong.inputs, values);
  REQUIRE(walked.first >= 0);
  REQUIRE(walked.jump >= 0);
  CHECK(walked.parting == Parting::jump);
  const ValueCheck& at = walked.values[static_cast<size_t>(walked.jump)];
  CHECK(at.name == "act");  // the step's value: convolution, normalisation and activation are one step
  REQUIRE_FALSE(walked.inside.empty());
  const auto first = std::ranges::find_if(walked.inside, [](const ValueCheck& c) { return c.error > 1e-4; });
  REQUIRE(first != walked.inside.end());
  CHECK(first->name == "body");
  CHECK_MESSAGE(walked.verdict.find("(Conv)") != std::string::npos, walked.verdict);
  // The node is known: what may be wrong there is tried first.
  const Hunt h = hunt(wrong.graph, case_of(right, right.inputs), {}, &walked);
  REQUIRE_FALSE(h.verified.empty());
  CHECK(h.verified[0].what.find("kernel height and width swapped") != std::string::npos);
  CHECK(h.tried < 40);

  // A part of the references is enough; a name that is none is told.
  std::vector<NamedTensor> some;
  for (const NamedTensor& t : values) {
    if (t.name == "leaky" || t.name == "classes") some.push_back(t);
  }
  some.push_back({"nobody", values[0].tensor});
  const Walk sparse = walk(wrong.graph, wrong.inputs, some);
  CHECK(sparse.compared == 2);
  CHECK(sparse.values[0].comparison.pass);
  CHECK(sparse.first == 1);
  CHECK(sparse.missing == std::vector<std::string>{"nobody"});
  const std::vector<NamedTensor> nothing{{"nobody", values[0].tensor}};
  CHECK(error_of([&] { walk(wrong.graph, wrong.inputs, nothing); }).find("nobody") != std::string::npos);
}

TEST_CASE("compiled programs agree with plain evaluation in double, value by value") {
  for (const char* demo : {"grain/grain.onnx", "knots/knots.onnx", "sanding/sanding.onnx"}) {
    CAPTURE(std::string(demo));
    Graph g = load(kDemo / demo);
    CompileOptions o;
    o.threads = 2;
    std::vector<Tensor> inputs;
    for (ValueId v : g.inputs) {
      Shape s;
      for (const Dim& d : *g.values[static_cast<size_t>(v)].dims) s.push_back(d.known() ? d.value : s.empty() ? 2 : 48);
      inputs.push_back(random_tensor(s, 3, 0, 1));
    }
    WalkOptions w;
    w.compile = o;
    const Walk walked = walk(g, inputs, w);
    CHECK(walked.first == -1);
    CHECK(walked.jump == -1);
    CHECK(walked.parting == Parting::none);
    CHECK(walked.compared >= 7);
    CHECK(walked.plain_runs == 1);
    for (const ValueCheck& c : walked.values) CHECK(c.error < 1e-5);
  }
}

// Fifty products, each with an activation.
Net deep_net(int layers, bool halves = false) {
  Builder b("deep");
  auto v = b.input("x", DType::f32, {4, 32});
  for (int i = 0; i < layers; ++i) {
    Tensor w = around({32, 32}, static_cast<uint64_t>(i), 0, 0.3F);
    if (halves) {
      // Kept in f16.
      Builder c("narrow");
      const auto in = c.input("w", DType::f32, {32, 32});
      c.output(c.op("Cast", {in}, {{"to", int64_t{10}}}), "h");
      const Tensor h = evaluate_plain(c.finish(), std::span(&w, 1)).at(0);
      const auto stored = b.constant("h" + std::to_string(i), h);
      v = b.op("MatMul", {v, b.op("Cast", {stored}, {{"to", int64_t{1}}}, "w" + std::to_string(i))}, {}, "p" + std::to_string(i));
    } else {
      v = b.op("MatMul", {v, b.constant("w" + std::to_string(i), w)}, {}, "p" + std::to_string(i));
    }
    v = b.op("Tanh", {v}, {}, "t" + std::to_string(i));
  }
  b.output(v, "y");
  Net n;
  n.graph = b.finish();
  n.inputs = {random_tensor({4, 32}, 77)};
  return n;
}

TEST_CASE("bisection finds the place with few runs when references do not fit") {
  const Net right = deep_net(50);
  Net wrong = right;
  wrong.graph = std::move(*deep_copy(right.graph));
  Tensor& w = weights_of(wrong.graph, node_making(wrong.graph, "p31"), 1);
  w = turned(w, {1, 0});
  // Against another model: half a dozen values at a time.
  WalkOptions o;
  o.compile.threads = 1;
  o.keep_bytes = 8 * 4 * 32 * 4;
  const Walk walked = walk(wrong.graph, wrong.inputs, right.graph, o);
  REQUIRE(walked.jump >= 0);
  CHECK(walked.values[static_cast<size_t>(walked.jump)].name == "t31");
  CHECK(walked.compared < 40);
  // Plain evaluation in double: no more than five runs of it.
  o.keep_bytes = 8 * 4 * 32 * 8;
  const Walk exact = walk(wrong.graph, wrong.inputs, o);
  CHECK(exact.first == -1);
  CHECK(exact.plain_runs <= 5);
  CHECK(walk(wrong.graph, wrong.inputs, right.graph).values.size() == 50);
}

TEST_CASE("two models are matched by place where their names differ") {
  const Net right = deep_net(6);
  Net other = right;
  other.graph = std::move(*deep_copy(right.graph));
  for (size_t v = 0; v < other.graph.values.size(); ++v) {
    if (std::ranges::find(other.graph.inputs, static_cast<ValueId>(v)) == other.graph.inputs.end())
      other.graph.values[v].name = "renamed_" + std::to_string(v);
  }
  Tensor& w = weights_of(other.graph, other.graph.nodes[6], 1);
  w = turned(w, {1, 0});
  const Walk walked = walk(right.graph, right.inputs, other.graph);
  CHECK(walked.compared == 6);
  REQUIRE(walked.jump >= 0);
  CHECK(walked.values[static_cast<size_t>(walked.jump)].name == "t3");
  // Nothing that could stand for anything of the other.
  Builder b("else");
  const auto x = b.input("x", DType::f32, {4, 32});
  b.output(b.op("ReduceSum", {x}, {{"keepdims", int64_t{0}}}, "s"), "s");
  b.output(b.op("ReduceMax", {x}, {{"keepdims", int64_t{0}}}, "m"), "m");
  const Graph unlike = b.finish();
  CHECK_FALSE(error_of([&] { walk(right.graph, right.inputs, unlike); }).empty());
}

TEST_CASE("slow growth is told from a jump, and an amplifying node from a wrong one") {
  // a - b of nearly equal numbers: the node does right what it is given.
  Builder b("cancel");
  const auto x = b.input("x", DType::f32, {64, 64});
  const auto p = b.op("MatMul", {x, b.constant("w", around({64, 64}, 1, 0, 1))}, {}, "p");
  const auto q = b.op("MatMul",
                      {x, b.constant("w2",
                                     [] {
                                       Tensor t = around({64, 64}, 1, 0, 1);
                                       t.as<float>()[5] += 1e-5F;
                                       return t;
                                     }())},
                      {}, "q");
  b.output(b.op("Softmax", {b.op("Sub", {p, q}, {}, "d")}, {}, "s"));
  b.output(p, "p");
  b.output(q, "q");
  Net n;
  n.graph = b.finish();
  n.inputs = {random_tensor({64, 64}, 8)};
  const Walk walked = walk(n.graph, n.inputs);
  if (walked.jump >= 0) CHECK(walked.parting == Parting::amplified);
  CHECK(walked.parting != Parting::jump);
}

TEST_CASE("in double every value is one, whatever the nodes take") {
  Builder b("mixed");
  const auto x = b.input("x", DType::f32, {2, 8});
  const auto half = b.op("Cast", {x}, {{"to", int64_t{10}}}, "half");
  const auto wide = b.op("Cast", {b.op("Mul", {half, half}, {}, "square")}, {{"to", int64_t{1}}}, "wide");
  const auto scale = b.constant("scale", Tensor::from<float>({}, {0.05F}));
  const auto zero = b.constant("zero", Tensor::from<uint8_t>({}, {uint8_t{128}}));
  const auto bytes = b.op("QuantizeLinear", {wide, scale, zero}, {}, "bytes");
  b.output(b.op("DequantizeLinear", {bytes, scale, zero}, {}, "back"));
  const Graph g = b.finish();
  const Graph d = in_double(g);
  for (const char* name : {"x", "half", "square", "wide", "back"})
    CHECK(d.values[static_cast<size_t>(d.find_value(name))].dtype == DType::f64);
  CHECK(d.values[static_cast<size_t>(d.find_value("bytes"))].dtype == DType::u8);
  const Tensor in = random_tensor({2, 8}, 2);
  Tensor in64(DType::f64, {2, 8});
  std::ranges::copy(in.as<float>(), in64.as<double>().begin());
  const auto out = evaluate_plain(d, std::span(&in64, 1));
  const auto want = evaluate_plain(g, std::span(&in, 1));
  for (size_t i = 0; i < 16; ++i) CHECK(out[0].as<double>()[i] == doctest::Approx(want[0].as<float>()[i]).epsilon(0.06));
}

TEST_CASE("in double inside subgraphs too, whose values but for the outputs declare no types, as exporters write them") {
  Builder then("then"), otherwise("else");
  const auto h = then.outer("h");
  then.output(then.op("Relu", {h}, {}, "positive"));
  const auto scale = otherwise.constant("scale", Tensor::from<float>({}, {0.01F}));
  const auto zero = otherwise.constant("zero", Tensor::from<uint8_t>({}, {uint8_t{128}}));
  const auto bytes = otherwise.op("QuantizeLinear", {otherwise.outer("h"), scale, zero}, {}, "bytes");
  otherwise.output(otherwise.op("DequantizeLinear", {bytes, scale, zero}, {}, "back"));
  Builder body("body");
  body.input("trip", DType::i64, {});
  const auto go = body.input("go", DType::boolean, {});
  body.op("Tanh", {body.input("carried", DType::f32, {2, 8})}, {}, "h");
  const auto branches = std::array{then.finish_body(), otherwise.finish_body()};
  for (const auto& branch : branches) branch->values[static_cast<size_t>(branch->outputs[0])].dtype = DType::f32;
  body.output(body.op("Identity", {go}, {}, "on"));
  body.output(body.op("If", {body.outer("flag")}, {{"then_branch", branches[0]}, {"else_branch", branches[1]}}, "next"));
  const auto looped = body.finish_body();
  looped->values[static_cast<size_t>(looped->outputs[1])].dtype = DType::f32;
  Builder b("declared");
  const auto x = b.input("x", DType::f32, {2, 8});
  b.input("flag", DType::boolean, {});
  b.output(b.op("Loop", {b.input("trips", DType::i64, {}), kAbsent, x}, {{"body", looped}}, "y"));
  const Graph g = b.finish();
  for (const bool flag : {true, false}) {
    const std::vector<Tensor> inputs{random_tensor({2, 8}, 6), Tensor::from<bool>({}, {flag}), Tensor::from<int64_t>({}, {3})};
    const Walk w = walk(g, inputs);
    CHECK(w.first < 0);
    CHECK(w.compared == w.values_made);
    REQUIRE(!w.values.empty());
    CHECK(w.values.back().error < (flag ? 1e-6 : 1e-2));
  }
}

TEST_CASE("models with control flow and open sizes are walked too") {
  Builder then("then"), otherwise("else");
  then.output(then.op("Mul", {then.outer("t"), then.constant("two", Tensor::from<float>({}, {2}))}, {}, "doubled"));
  otherwise.output(otherwise.op("Neg", {otherwise.outer("t")}, {}, "negated"));
  Builder b("branches");
  const auto x = b.input("x", DType::f32, {"n", 8});
  const auto flag = b.input("flag", DType::boolean, {});
  const auto t = b.op("Tanh", {b.op("MatMul", {x, b.constant("w", around({8, 8}, 2, 0, 1))}, {}, "p")}, {}, "t");
  (void)t;
  const auto y = b.op("If", {flag}, {{"then_branch", then.finish_body()}, {"else_branch", otherwise.finish_body()}}, "chosen");
  b.output(b.op("Exp", {y}, {}, "e"));
  const Graph g = b.finish();
  const std::vector<Tensor> inputs{random_tensor({3, 8}, 4), Tensor::from<bool>({}, {true})};
  const Walk w = walk(g, inputs);
  CHECK(w.first == -1);
  CHECK(w.compared >= 2);
  const ErrorBudget budget = error_budget(g, inputs);
  CHECK_FALSE(budget.steps.empty());
}

// Adds a large number and takes it away again: in f32 nothing is left of the digits. `from`: of the trip, before which it is a small one.
ValueId lose_digits(Builder& b, ValueId v) {
  const auto large = b.constant("large", Tensor::from<float>({}, {3e7F}));
  return b.op("Sub", {b.op("Add", {v, large}, {}, "raised"), large}, {}, "lowered");
}

TEST_CASE("where a loop's body parts, the walk says in which trip and at which of its nodes") {
  // Digits are lost from the third trip on, in one branch of an If in the body of the Loop.
  Builder fine("fine"), coarse("coarse");
  fine.output(fine.op("Identity", {fine.outer("turned")}, {}, "kept"));
  coarse.output(lose_digits(coarse, coarse.outer("turned")), "chosen");
  Builder body("body");
  const auto trip = body.input("trip", DType::i64, {});
  const auto go = body.input("go", DType::boolean, {});
  const auto h = body.input("h", DType::f32, {4, 8});
  body.op("Tanh", {body.op("MatMul", {h, body.outer("w")}, {}, "p")}, {}, "turned");
  const auto early = body.op("Less", {trip, body.constant("two", Tensor::from<int64_t>({}, {2}))}, {}, "early");
  body.output(body.op("Identity", {go}, {}, "go_on"));
  body.output(body.op("If", {early}, {{"then_branch", fine.finish_body()}, {"else_branch", coarse.finish_body()}}, "h_next"));
  Builder b("loop");
  const auto x = b.input("x", DType::f32, {4, 8});
  b.constant("w", around({8, 8}, 2, 0, 0.6F));
  const auto start = b.op("Mul", {x, b.constant("half", Tensor::from<float>({}, {0.5F}))}, {}, "start");
  const auto end =
      b.op("Loop", {b.input("trips", DType::i64, {}), kAbsent, start}, {{"body", body.finish_body()}}, "end");
  b.output(b.op("Neg", {end}, {}, "y"));
  const Graph g = b.finish();
  const std::vector<Tensor> inputs{random_tensor({4, 8}, 9), Tensor::from<int64_t>({}, {5})};
  const Walk w = walk(g, inputs);
  REQUIRE(w.first >= 0);
  REQUIRE(w.within.has_value());
  CHECK(w.within->op == "Loop");
  CHECK(w.within->body == "body");
  CHECK(w.within->run == 2);
  const Walk& trips = *w.within->walk;
  INFO(trips.verdict);
  REQUIRE(trips.within.has_value());
  CHECK(trips.within->op == "If");
  CHECK(trips.within->body == "else_branch");
  CHECK(trips.within->run == 0);
  REQUIRE(trips.within->walk->jump >= 0);
  CHECK(w.verdict.find("run 3 of 'body'") != std::string::npos);
  CHECK(w.verdict.find("else_branch") != std::string::npos);
}

TEST_CASE("random results have nothing to be held against") {
  Builder b("dice");
  const auto x = b.input("x", DType::f32, {4});
  b.output(b.op("Add", {x, b.op("RandomNormal", {}, {{"shape", std::vector<int64_t>{4}}}, "r")}, {}, "y"));
  const Graph g = b.finish();
  const std::vector<Tensor> in{random_tensor({4}, 1)};
  CHECK(error_of([&] { walk(g, in); }).find("RandomNormal") != std::string::npos);
}

TEST_CASE("the error budget finds the step that loses the digits") {
  // One layer's weights are kept in f16: against the model before, that layer is where the error comes from.
  const Net exact = deep_net(8), narrow = deep_net(8, true);
  WalkOptions o;
  o.compile.threads = 1;
  const ErrorBudget same = error_budget(exact.graph, exact.inputs, o);
  CHECK(same.steps.size() == 8);
  double shares = 0;
  for (const StepError& s : same.steps) {
    shares += s.share;
    CHECK(s.own < 1e-6);
  }
  CHECK(shares == doctest::Approx(1).epsilon(0.01));
  // What the steps add comes to what is lost in all, as errors that know nothing of one another do.
  CHECK(same.expected > same.total / 5);
  CHECK(same.expected < same.total * 5);
  const ErrorBudget lost = error_budget(narrow.graph, exact.inputs, o, &exact.graph);
  CHECK(lost.total > 100 * same.total);
  CHECK(lost.expected > lost.total / 5);
  CHECK(lost.expected < lost.total * 5);
  for (const StepError& s : lost.steps) CHECK(s.own > 1e-5);

  // One step alone, with an error of its own that is known.
  Net one = deep_net(8);
  Net spoilt = one;
  spoilt.graph = std::move(*deep_copy(one.graph));
  Tensor& w = weights_of(spoilt.graph, node_making(spoilt.graph, "p5"), 1);
  w = mapped(w, [](int64_t i, float v) { return v + (i % 2 ? 1e-3F : -1e-3F); });
  const ErrorBudget found = error_budget(spoilt.graph, one.inputs, o, &one.graph);
  REQUIRE_FALSE(found.steps.empty());
  CHECK(found.steps[0].value == "t5");
  CHECK(found.steps[0].share > 0.99);
  CHECK(found.steps[0].at_output == doctest::Approx(found.total).epsilon(0.05));
}

TEST_CASE("the error budget of a model on bytes finds the value whose rounding costs most") {
  // A chain of products whose values are rounded to bytes, one of them to a range eight times too wide; and the same without that.
  const auto net = [](bool rounded) {
    Builder b("bytes");
    const auto round = [&](ValueId v, const std::string& name, float scale) {
      if (!rounded) return v;
      const auto s = b.constant(name + "_s", Tensor::from<float>({}, {scale}));
      const auto z = b.constant(name + "_z", Tensor::from<int8_t>({}, {0}));
      return b.op("DequantizeLinear", {b.op("QuantizeLinear", {v, s, z}, {}, name + "_q"), s, z}, {}, name + "_dq");
    };
    auto v = round(b.input("x", DType::f32, {4, 32}), "x", 2.0F / 127);
    for (int i = 0; i < 6; ++i) {
      const std::string n = std::to_string(i);
      auto w = b.constant("w" + n, around({32, 32}, static_cast<uint64_t>(i) + 3, 0, 0.3F));
      v = b.op("MatMul", {v, w}, {}, "p" + n);
      v = b.op("Relu", {v}, {}, "r" + n);
      v = round(v, "r" + n, (i == 3 ? 8 : 1) * 3.0F / 127);
    }
    b.output(b.op("MatMul", {v, b.constant("last", around({32, 8}, 77, 0, 0.3F))}, {}, "y"));
    return b.finish();
  };
  const Graph bytes = net(true), wide = net(false);
  const std::vector<Tensor> inputs{random_tensor({4, 32}, 5)};
  WalkOptions o;
  o.compile.threads = 1;
  for (const Graph* exact : {static_cast<const Graph*>(nullptr), &wide}) {
    const ErrorBudget found = error_budget(bytes, inputs, o, exact);
    CHECK(found.steps.size() >= 7);
    CHECK(found.steps[0].value == "r3");
    CHECK(found.steps[0].share > 0.5);
    CHECK(found.steps[0].own > 0.01);
    CHECK(found.total > 0.01);
    CHECK(found.expected > found.total / 4);
    CHECK(found.expected < found.total * 4);
    // The input is rounded too, by no step.
    const auto in = std::ranges::find(found.steps, std::string("x"), &StepError::value);
    REQUIRE(in != found.steps.end());
    CHECK(in->step == -1);
    CHECK(in->at_output > 1e-4);
  }
}

TEST_CASE("outputs are as good as their types can be") {
  const Net n = deep_net(20);
  const auto d = distances_to_double(n.graph, n.inputs);
  REQUIRE(d.size() == 1);
  CHECK(d[0].pass);
  CHECK(d[0].compiled > 0);
  CHECK(d[0].plain > 0);
  // A factor that nothing keeps.
  CHECK_FALSE(distances_to_double(deep_net(50).graph, n.inputs, {}, 1e-6)[0].compiled < 1e-12);
}

TEST_CASE("values are seen as steps make them, and what is written instead is read") {
  Builder b("seen");
  const auto x = b.input("x", DType::f32, {1, 3, 6, 6});
  const auto v = b.op("Conv", {x, b.constant("w", around({4, 3, 3, 3}, 3, 0, 1))}, {{"pads", std::vector<int64_t>{1, 1, 1, 1}}}, "conv");
  const auto up =
      b.op("Concat",
           {v, b.op("MaxPool", {v}, {{"kernel_shape", std::vector<int64_t>{3, 3}}, {"pads", std::vector<int64_t>{1, 1, 1, 1}}}, "pool")},
           {{"axis", int64_t{1}}}, "both");
  b.output(b.op("GlobalMaxPool", {up}, {}, "y"));
  const Graph g = b.finish();
  const Tensor in = random_tensor({1, 3, 6, 6}, 5);
  Net n{g, {in}};
  std::map<std::string, Tensor> plain;
  for (NamedTensor& t : values_of(n)) plain[t.name] = t.tensor;
  for (const int threads : {1, 2}) {
    CompileOptions o;
    o.threads = threads;
    Lane lane(compile(g, o));
    std::map<std::string, Tensor> seen;
    RunOptions look;
    look.made = [&](MadeValue& m) { seen[m.name()] = m.read(); };
    lane.run(std::span(&in, 1), look);
    CHECK(seen.size() >= 3);
    for (const auto& [name, t] : seen) {
      CAPTURE(name);
      REQUIRE(plain.contains(name));
      CHECK(compare(name, t, plain.at(name)).pass);
    }
    look.made = [&](MadeValue& m) {
      if (m.name() == "both") m.write(mapped(m.read(), [](int64_t, float) { return 7.0F; }));
    };
    const Outputs out = lane.run(std::span(&in, 1), look);
    for (float v : out["y"].as<float>()) CHECK(v == 7.0F);
    look.made = [&](MadeValue& m) { m.write(Tensor::from<float>({1}, {0})); };
    CHECK(error_of([&] { lane.run(std::span(&in, 1), look); }).find("cannot be written as") != std::string::npos);
    look.made = {};
    CHECK(compare("y", lane.run(std::span(&in, 1))[0], plain.at("y")).pass);  // the lane is as good as new
  }
}

TEST_CASE("tolerances by dtype and by name are read from a file, and every fault is named") {
  const Folder folder;
  const auto file = folder.path / "t.toml";
  write(file, "relative = 0.01\n[dtype.f16]\nabsolute = 0.5\n[value.\"logits\"]\nulp = 4\nabsolute = 0.0\n");
  const Tolerances t = read_tolerances(file);
  CHECK(t.of("x", DType::f32)->relative == 0.01);
  CHECK(t.of("x", DType::f16)->absolute == 0.5);
  CHECK(tolerance_for(DType::f16, t.of("x", DType::f16)).relative == default_tolerance(DType::f16).relative);
  CHECK(t.of("logits", DType::f16)->ulp == 4);
  CHECK_FALSE(Tolerances().of("x", DType::f32));
  const auto fault = [&](const std::string& text) {
    write(file, text);
    return error_of([&] { read_tolerances(file); });
  };
  CHECK(fault("absolut = 1\n").find("absolute") != std::string::npos);
  CHECK(fault("[dtype.float7]\nulp = 1\n").find("float7") != std::string::npos);
  CHECK(fault("[dtype.f16]\n").find("says nothing") != std::string::npos);
  CHECK(fault("relative = -1\n").find("t.toml:1") != std::string::npos);
  CHECK(fault("[dtype]\nf16 = 3\n").find("table") != std::string::npos);
}

}  // namespace
