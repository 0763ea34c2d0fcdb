// Any model through the compiler: load, examine, compile, run on several threads, and compare with plain evaluation. Both give the same
// results or both refuse; crashes, reads past an operand and results that differ are bugs.
#include <algorithm>
#include <cstdio>
#include <iterator>
#include <set>
#include <sstream>

#include "mutate.hpp"

namespace {

using namespace lathe;

struct Answer {
  std::vector<Tensor> outputs;
  std::string error;
  bool gave_up = false;  // limits, and what is not supported
};

template <typename F>
Answer answer(F&& f) {
  Answer a;
  try {
    a.outputs = f();
  } catch (const Error& e) {
    a.error = e.what();
    a.gave_up = e.category() == Category::resource || e.category() == Category::unsupported || e.category() == Category::cancelled;
    if (a.error.empty() || e.category() == Category::internal) {
      std::fprintf(stderr, "an internal error: %s\n", e.what());
      __builtin_trap();
    }
  }
  return a;
}

bool any_node(const Graph& g, const auto& is) {
  return std::ranges::any_of(g.nodes, [&](const Node& n) {
    bool found = is(n);
    n.each_subgraph([&](const auto& sub) { found = found || any_node(*sub, is); });
    return found;
  });
}

double largest(const Tensor& t) {
  double most = 0;
  for (double v : [&] {
         std::vector<double> all;
         if (t.dtype() == DType::f32) all.assign(t.as<float>().begin(), t.as<float>().end());
         if (t.dtype() == DType::f64) all.assign(t.as<double>().begin(), t.as<double>().end());
         return all;
       }())
    most = std::max(most, std::isfinite(v) ? std::fabs(v) : INFINITY);
  return most;
}

std::set<std::string> words(const std::string& text) {
  std::istringstream in(text);
  return {std::istream_iterator<std::string>(in), {}};
}

// Whether rounding may decide what comes out: then only types and shapes are compared. Chance of its own too.
bool hangs_on_rounding(const Graph& g) {
  static const auto kChance = words("RandomNormal RandomNormalLike RandomUniform RandomUniformLike Bernoulli Multinomial Dropout");
  static const auto kTame = words(
      "Add Sub Mul Neg Abs Relu Sigmoid Tanh MatMul Gemm Conv ConvTranspose Softmax Transpose Reshape Concat Split "
      "Slice Pad Gather MaxPool AveragePool GlobalAveragePool ReduceSum ReduceMean ReduceMax ReduceMin Identity Clip "
      "Min Max LSTM GRU RNN LayerNormalization BatchNormalization Attention Einsum Expand Squeeze Unsqueeze Flatten "
      "Where Constant ConstantOfShape If Loop Scan LeakyRelu PRelu Elu Gelu HardSigmoid HardSwish Softplus Sin Cos "
      "Exp Erf Tile GatherElements GatherND ScatterElements ScatterND Range Shape Size LogSoftmax GroupNormalization "
      "InstanceNormalization DepthToSpace SpaceToDepth");
  if (any_node(g, [](const Node& n) { return kChance.contains(n.op); })) return true;
  return g.nodes.size() > 1 && any_node(g, [](const Node& n) { return !kTame.contains(n.op); });
}

void differ(const char* what, const std::string& compiled, const std::string& plain) {
  std::fprintf(stderr, "%s\n  compiled: %s\n  plain: %s\n", what, compiled.c_str(), plain.c_str());
  __builtin_trap();
}

std::string type_text(const Tensor& t) {
  return std::string(t.composite() ? to_string(t.kind()) : to_string(t.dtype())) + " " + to_string(t.shape());
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const uint8_t* data, size_t size) {
  EvalLimits limits;
  limits.elements = 1 << 14;
  limits.trips = 200;
  limits.depth = 6;
  int64_t nodes = 6000;
  limits.pulse_context = &nodes;
  limits.pulse = [](void* left) {
    if (--*static_cast<int64_t*>(left) < 0) throw Error(Category::resource, "long enough");
  };
  Graph graph;
  std::vector<Tensor> inputs;
  try {
    const LimitScope scope(limits);
    graph = load_bytes({reinterpret_cast<const char*>(data), size});
    int64_t left = 1 << 14;
    for (ValueId v : graph.inputs) inputs.push_back(fuzz::made_up(type_of(graph.values[v]), left));
  } catch (const Error&) {
    return 0;
  }
  CompileOptions options{.threads = 1 + static_cast<int>(size % 3)};
  options.arena_limit = 64 << 20;
  options.limits = limits;
  options.fuse = size % 4 != 0;
  CompileOptions plainly = options;
  plainly.plain = true;
  plainly.threads = 1;
  const Answer plain = answer([&] {
    Lane lane(compile(graph, plainly));
    const Outputs out = lane.run(std::span<const Tensor>(inputs));
    std::vector<Tensor> kept;
    for (size_t i = 0; i < out.size(); ++i) kept.push_back(out[i]);
    return kept;
  });
  if (plain.gave_up) return 0;
  nodes = 6000;
  const Answer compiled = answer([&] {
    Lane lane(compile(graph, options));
    const Outputs first = lane.run(std::span<const Tensor>(inputs));
    std::vector<Tensor> kept;
    for (size_t i = 0; i < first.size(); ++i) kept.push_back(first[i].clone());
    // Again, in memory that holds the last run's values.
    nodes = 6000;
    const Outputs second = lane.run(std::span<const Tensor>(inputs));
    for (size_t i = 0; i < kept.size() && !hangs_on_rounding(graph); ++i) {
      if (!identical(kept[i], second[i])) differ("a second run differs", type_text(second[i]), type_text(kept[i]));
    }
    return kept;
  });
  if (compiled.gave_up) return 0;
  if (compiled.error.empty() != plain.error.empty())
    differ("one refuses", compiled.error.empty() ? "runs" : compiled.error, plain.error.empty() ? "runs" : plain.error);
  const bool only_types = hangs_on_rounding(graph);
  for (size_t i = 0; i < compiled.outputs.size(); ++i) {
    const Tensor &a = compiled.outputs[i], &b = plain.outputs[i];
    if (a.kind() != b.kind() || a.dtype() != b.dtype() || a.shape() != b.shape()) differ("types differ", type_text(a), type_text(b));
    const double most = a.composite() ? INFINITY : largest(b);
    if (only_types || a.composite() || most > 1e6) continue;
    std::optional<Tolerance> tolerance;
    if (a.dtype() == DType::f32 || a.dtype() == DType::f64) tolerance = Tolerance{1e-3 * std::max(1.0, most), 1e-3, 0};
    else if (is_float(a.dtype())) tolerance = Tolerance{0.3, 0.3, 0};
    else if (a.dtype() != DType::string && a.dtype() != DType::boolean && a.dtype() != DType::i64) tolerance = Tolerance{1, 0, 0};
    else continue;
    const Comparison c = compare("output", a, b, tolerance);
    if (!c.pass) differ("values differ", c.reason, type_text(b));
  }
  return 0;
}
