// Weights in fewer bits.
#include <algorithm>
#include <cmath>
#include <limits>
#include <map>
#include <set>

#include "base/fail.hpp"
#include "base/text.hpp"
#include "lathe/narrow.hpp"
#include "lathe/op.hpp"
#include "lathe/shaping.hpp"
#include "narrow/observe.hpp"
#include "narrow/rounding.hpp"
#include "narrow/weights.hpp"
#include "passes/passes.hpp"
#include "tensor/numbers.hpp"
#include "tensor/widen.hpp"

namespace lathe {
namespace {

// How the numbers of a weight share scales.
struct Sharing {
  int64_t axis = 0;
  int64_t block = 0;  // 0: a scale for each entry of the axis
};

struct Quantised {
  Tensor numbers, scales, zeros;  // zeros empty: none
  double noise = 0, signal = 0;
};

// A node that reads a value, in the graph that owns the value or in a subgraph, and what the value is there.
struct Reader {
  Graph* graph = nullptr;
  int node = 0;
  ValueId as = kAbsent;
};

class Narrower {
 public:
  // Names inside subgraphs must agree with those of the values they capture (settle_names).
  // `halves`: only what no node of the outermost graph reads is narrowed, and these of its values are there as halves already.
  Narrower(Graph& graph, const NarrowOptions& options, const std::map<ValueId, ValueId>* halves = nullptr)
      : root_(graph), o_(options), halves_(halves), consumers_{{&graph, graph.consumers()}} {}

  // What filters see, for rounding that makes up for itself.
  void observe(const Calibration& c) {
    std::vector<ValueId> inputs;
    std::vector<std::vector<ValueId>> on;  // weights of the layers on each input
    const auto& readers = consumers_of(root_);
    for (size_t n = 0; n < root_.nodes.size(); ++n) {
      const auto l = narrowing::layer_of(root_, n, readers);
      if (!l || readers[static_cast<size_t>(l->weights)].size() != 1 || l->depth * l->filters < o_.least ||
          root_.values[static_cast<size_t>(l->input)].dtype != DType::f32)
        continue;
      layers_.try_emplace(l->weights, *l, narrowing::Moments(*l, true));
      const auto at = std::ranges::find(inputs, l->input);
      if (at == inputs.end()) inputs.push_back(l->input), on.push_back({l->weights});
      else on[static_cast<size_t>(at - inputs.begin())].push_back(l->weights);
    }
    const int64_t rows = narrowing::rows_of_an_item(c.items);
    narrowing::observe(root_, inputs, c, "what filters see", [&](size_t, size_t i, const Tensor& t) {
      for (ValueId w : on[i]) {
        auto& [layer, moments] = layers_.at(w);
        narrowing::each_row(root_, layer, t, rows, [&m = moments](int64_t group, const float* row) { m.add(group, row); });
      }
    });
  }

  NarrowReport run() {
    if (!o_.leave.empty()) check_names();
    report_.bytes_before = narrowing::initializer_bytes(root_);
    each_scope(root_, [&](Graph& g) {
      const size_t values = g.values.size();
      for (size_t v = 0; v < values; ++v) weight(g, static_cast<ValueId>(v));
    });
    for (auto& [g, nodes] : made_) {
      std::ranges::move(g->nodes, std::back_inserter(nodes));
      g->nodes = std::move(nodes);
    }
    report_.bytes_after = narrowing::initializer_bytes(root_);
    return std::move(report_);
  }

 private:
  static std::string name_of(const Node& n) { return n.name.empty() ? n.op : n.name; }
  // The graph, then those inside it.
  template <typename F>
  static void each_scope(Graph& g, const F& f) {
    f(g);
    for (const Node& n : g.nodes) n.each_subgraph([&](const std::shared_ptr<Graph>& sub) { each_scope(*sub, f); });
  }
  const std::vector<std::vector<int>>& consumers_of(Graph& g) {
    const auto [it, first] = consumers_.try_emplace(&g);
    if (first) it->second = g.consumers();
    return it->second;
  }

  void check_names() {
    std::vector<std::string> all;
    each_scope(root_, [&](const Graph& g) {
      for (const Node& n : g.nodes) all.push_back(n.name);
    });
    for (const std::string& name : o_.leave) {
      if (std::ranges::find(all, name) == all.end()) fail(Category::value, "no node is named '{}'{}", name, did_you_mean(name, all));
    }
  }

  // Those of a value in this graph and in the subgraphs of its nodes. False: one of them is no node, the value is a subgraph's result.
  bool find_readers(Graph& g, ValueId v, std::vector<Reader>& found) {
    const auto& all = consumers_of(g);
    if (static_cast<size_t>(v) >= all.size()) return true;  // made by the narrowing itself
    std::set<int> met;
    for (int r : all[static_cast<size_t>(v)]) {
      if (!met.insert(r).second) continue;
      const Node& n = g.nodes[static_cast<size_t>(r)];
      if (std::ranges::find(n.inputs, v) != n.inputs.end()) found.push_back({&g, r, v});
      bool nodes_alone = true;
      for (const Capture& c : n.captures) {
        if (c.value != v) continue;
        n.each_subgraph([&](const std::shared_ptr<Graph>& sub) {
          for (ValueId inner : free_values(*sub)) {
            if (sub->values[static_cast<size_t>(inner)].name != c.name) continue;
            nodes_alone = nodes_alone && std::ranges::find(sub->outputs, inner) == sub->outputs.end() && find_readers(*sub, inner, found);
          }
        });
      }
      if (!nodes_alone) return false;
    }
    return true;
  }

  void weight(Graph& g, ValueId v) {
    const Value& value = g.values[static_cast<size_t>(v)];
    if (!value.constant || value.dtype != DType::f32 || value.constant->size() < o_.least) return;
    std::vector<Reader> readers;
    const bool nodes_alone = find_readers(g, v, readers);
    if (readers.empty()) return;
    const auto node_of = [](const Reader& r) -> const Node& { return r.graph->nodes[static_cast<size_t>(r.node)]; };
    if (halves_ && std::ranges::any_of(readers, [&](const Reader& r) { return r.graph == &root_; })) return;
    const Node& first = node_of(readers.front());
    const auto leave = [&](const std::string& why) { report_.left.emplace_back(name_of(first), why); };
    for (const Reader& r : readers) {
      if (std::ranges::find(o_.leave, node_of(r).name) != o_.leave.end()) return leave("it was asked to be left");
    }
    if (!nodes_alone || std::ranges::find(g.outputs, v) != g.outputs.end()) return leave("it is an output");
    if (std::ranges::any_of(g.defaults, [&](const Default& d) { return d.value == v; })) return leave("it is an input too");
    const Tensor whole = *value.constant;
    if (std::ranges::any_of(whole.as<float>(), [](float x) { return !std::isfinite(x); })) return leave("it holds NaN or infinity");
    if (o_.weights == DType::f16 || o_.weights == DType::bf16) return halve(g, v, readers, whole, first);
    std::optional<Sharing> sharing;
    for (const Reader& r : readers) {
      const auto here = sharing_of(node_of(r), r.as, whole.shape());
      if (!here) return leave(fmt::format("{} takes no weights of {} bits", node_of(r).op, bit_width(o_.weights)));
      if (sharing && (sharing->axis != here->axis || sharing->block != here->block))
        return leave("its readers want its scales along different axes");
      sharing = here;
    }
    quantise(g, v, readers, whole, *sharing, first);
  }

  // Along which axis scales lie for this reader; nothing when it cannot have such weights there.
  std::optional<Sharing> sharing_of(const Node& n, ValueId v, const Shape& shape) const {
    const bool few = bit_width(o_.weights) == 4;
    if (!n.domain.empty() || std::ranges::count(n.inputs, v) != 1) return std::nullopt;
    const int64_t block = o_.block > 0 ? o_.block : few ? 64 : 0;
    const auto second = [&] { return n.inputs.size() > 1 && n.inputs[1] == v && shape.size() == 2; };
    if (n.op == "MatMul" || n.op == "Gemm") {
      if (!second()) return std::nullopt;
      const int64_t k_axis = n.op == "Gemm" && n.integer("transB", 0) != 0 ? 1 : 0;
      return block > 0 ? Sharing{k_axis, block} : Sharing{1 - k_axis, 0};
    }
    if (n.op == "Gather" && n.inputs[0] == v && shape.size() == 2 && n.integer("axis", 0) == 0)
      return block > 0 ? Sharing{1, block} : Sharing{0, 0};
    // A scale a gate of a row; one direction, or both alike.
    if ((n.op == "LSTM" || n.op == "GRU" || n.op == "RNN") && n.inputs.size() > 2 && (n.inputs[1] == v || n.inputs[2] == v) &&
        shape.size() == 3 && !few)
      return Sharing{1, 0};
    if (n.op == "Conv" && n.inputs.size() > 1 && n.inputs[1] == v && !few) return Sharing{0, 0};
    return std::nullopt;
  }

  void halve(Graph& g, ValueId v, const std::vector<Reader>& readers, const Tensor& whole, const Node& first) {
    const auto x = whole.as<float>();
    std::vector<double> wide(x.begin(), x.end());
    const Tensor half = narrow<double>(o_.weights, whole.shape(), wide);
    const auto back = widen<double>(half);
    double signal = 0, noise = 0;
    for (size_t i = 0; i < wide.size(); ++i) {
      if (std::isinf(back[i])) {
        report_.left.emplace_back(name_of(first), fmt::format("{:.6g} is beyond the largest {}", wide[i], to_string(o_.weights)));
        return;
      }
      signal += wide[i] * wide[i];
      noise += (wide[i] - back[i]) * (wide[i] - back[i]);
    }
    Node cast;
    cast.op = "Cast";
    cast.attributes["to"].data = int64_t{number_of_dtype(DType::f32)};
    if (halves_ && &g == &root_) {
      if (const auto known = halves_->find(v); known != halves_->end()) return replace(g, v, readers, cast, {known->second});
    }
    replace(g, v, readers, cast, {constant(g, v, "." + std::string(to_string(o_.weights)), half)});
    record(first, whole, static_cast<int64_t>(half.byte_size()), signal, noise);
  }

  Quantised quantised(const Graph& g, ValueId v, const Tensor& whole, const Sharing& s) const {
    const Shape& shape = whole.shape();
    const auto axis = static_cast<size_t>(s.axis);
    const int64_t size = shape[axis], inner = element_count(std::span<const int64_t>(shape).subspan(axis + 1)),
                  blocks = s.block > 0 ? (size + s.block - 1) / s.block : 0;
    Shape scale_shape{size};
    if (s.block > 0) scale_shape = shape, scale_shape[axis] = blocks;
    const auto group = [&](int64_t i) {
      const int64_t k = i / inner % size;
      return s.block > 0 ? (i / (inner * size) * blocks + k / s.block) * inner + i % inner : k;
    };
    const bool zeros = is_unsigned_int(o_.weights);
    const int bits = bit_width(o_.weights);
    const double most = zeros ? std::ldexp(1.0, bits) - 1 : std::ldexp(1.0, bits - 1) - 1;
    const auto x = whole.as<float>();
    const auto groups = static_cast<size_t>(element_count(scale_shape));
    std::vector<double> low(groups, 0), high(groups, 0), scale(groups), zero(groups, 0), numbers(x.size());
    for (size_t i = 0; i < x.size(); ++i) {  // the range always holds zero
      const auto at = static_cast<size_t>(group(static_cast<int64_t>(i)));
      low[at] = std::min(low[at], static_cast<double>(x[i]));
      high[at] = std::max(high[at], static_cast<double>(x[i]));
    }
    for (size_t at = 0; at < groups; ++at) {
      const double range = zeros ? high[at] - low[at] : std::max(-low[at], high[at]);
      scale[at] = static_cast<double>(static_cast<float>(range > 0 ? range / most : 1.0));
      if (scale[at] == 0) scale[at] = static_cast<double>(std::numeric_limits<float>::min());
      if (zeros) zero[at] = std::clamp(std::nearbyint(-low[at] / scale[at]), 0.0, most);
    }
    const auto grid_at = [&](int64_t i) {
      const auto at = static_cast<size_t>(group(i));
      return narrowing::Grid{scale[at], zero[at], zeros ? 0 : -most, most};
    };
    if (const auto known = layers_.find(v); &g == &root_ && known != layers_.end()) {
      const auto& [layer, moments] = known->second;
      const auto place = [&l = layer](int64_t f, int64_t k) { return l.axis == 0 ? f * l.depth + k : k * l.filters + f; };
      const auto rows = narrowing::rounded(
          layer, narrowing::by_filter(g, layer), [&](int64_t f, int64_t k) { return grid_at(place(f, k)); }, &moments);
      for (int64_t f = 0; f < layer.filters; ++f) {
        for (int64_t k = 0; k < layer.depth; ++k)
          numbers[static_cast<size_t>(place(f, k))] = rows[static_cast<size_t>(f * layer.depth + k)];
      }
    } else {
      for (size_t i = 0; i < x.size(); ++i) numbers[i] = grid_at(static_cast<int64_t>(i)).number(x[i]);
    }
    Quantised q;
    for (size_t i = 0; i < x.size(); ++i) {
      const double wide = x[i], back = grid_at(static_cast<int64_t>(i)).value(numbers[i]);
      q.signal += wide * wide;
      q.noise += (wide - back) * (wide - back);
    }
    q.numbers = narrow<double>(o_.weights, shape, numbers);
    q.scales = narrow<double>(DType::f32, scale_shape, scale);
    if (zeros) q.zeros = narrow<double>(o_.weights, scale_shape, zero);
    return q;
  }

  void quantise(Graph& g, ValueId v, const std::vector<Reader>& readers, const Tensor& whole, const Sharing& s, const Node& first) {
    const Quantised q = quantised(g, v, whole, s);
    std::vector<ValueId> inputs{constant(g, v, fmt::format(".{}", to_string(o_.weights)), q.numbers), constant(g, v, ".scale", q.scales)};
    if (!q.zeros.empty()) inputs.push_back(constant(g, v, ".zero", q.zeros));
    Node widen_again;
    widen_again.op = "DequantizeLinear";
    widen_again.attributes["axis"].data = s.axis;
    if (s.block > 0) widen_again.attributes["block_size"].data = s.block;
    const auto bytes = static_cast<int64_t>(q.numbers.byte_size() + q.scales.byte_size() + (q.zeros.empty() ? 0 : q.zeros.byte_size()));
    replace(g, v, readers, widen_again, inputs);
    record(first, whole, bytes, q.signal, q.noise);
  }

  // A name that no graph of the model has: those in subgraphs must not hide those around them.
  std::string unused(std::string name) {
    if (names_.empty()) {
      each_scope(root_, [&](const Graph& g) {
        for (const Value& v : g.values) names_.insert(v.name);
      });
    }
    while (!names_.insert(name).second) name += "_";
    return name;
  }

  ValueId constant(Graph& g, ValueId of, const std::string& part, Tensor t) {
    Value value;
    value.name = unused(g.values[static_cast<size_t>(of)].name + part);
    value.dtype = t.dtype();
    value.dims = Dims(t.shape().begin(), t.shape().end());
    value.constant = std::move(t);
    return g.add_value(std::move(value));
  }

  // `v` is what the node makes of these from now on, in each graph that reads it: subgraphs capture the narrow numbers and widen them where
  // they are read, so that a program made of one keeps them narrow.
  void replace(Graph& g, ValueId v, const std::vector<Reader>& readers, const Node& widened, const std::vector<ValueId>& inputs) {
    const std::string name = g.values[static_cast<size_t>(v)].name;
    std::map<Graph*, ValueId> places;
    for (const Reader& r : readers) places.try_emplace(r.graph, r.as);
    for (const auto& [place, as] : places) {
      Node node = widened;
      node.name = name + ".widened";
      node.outputs = {as};
      for (ValueId input : inputs) {
        node.inputs.push_back(input);
        if (place == &g) continue;
        Value outer = g.values[static_cast<size_t>(input)];
        outer.constant.reset();
        node.inputs.back() = place->add_value(std::move(outer));
      }
      if (place != &g) place->values[static_cast<size_t>(as)].name = unused(name + ".wide");
      made_[place].push_back(std::move(node));
    }
    g.values[static_cast<size_t>(v)].constant.reset();
  }

  void record(const Node& first, const Tensor& whole, int64_t bytes, double signal, double noise) {
    const double ratio = noise > 0 ? 10 * std::log10(signal / noise) : std::numeric_limits<double>::infinity();
    report_.weights.push_back({name_of(first), first.op, whole.shape(), static_cast<int64_t>(whole.byte_size()), bytes, ratio});
  }

  Graph& root_;
  const NarrowOptions& o_;
  const std::map<ValueId, ValueId>* halves_;
  std::map<Graph*, std::vector<std::vector<int>>> consumers_;
  std::map<ValueId, std::pair<narrowing::Layer, narrowing::Moments>> layers_;  // of the outermost graph, by their weights
  std::map<Graph*, std::vector<Node>> made_;
  std::set<std::string> names_;
  NarrowReport report_;
};

}  // namespace

int64_t narrowing::initializer_bytes(const Graph& graph) {
  int64_t sum = 0;
  for (const Value& v : graph.values) sum += v.constant && !v.constant->composite() ? static_cast<int64_t>(v.constant->byte_size()) : 0;
  for (const Node& n : graph.nodes) n.each_subgraph([&](const std::shared_ptr<Graph>& sub) { sum += initializer_bytes(*sub); });
  return sum;
}

void narrowing::halve_bodies(Graph& g, DType to, const std::map<ValueId, ValueId>& halves, NarrowReport& report) {
  settle_names(g);
  NarrowOptions o;
  o.weights = to;
  NarrowReport inside = Narrower(g, o, &halves).run();
  resolve_captures(g);
  std::ranges::move(inside.weights, std::back_inserter(report.weights));
  std::ranges::move(inside.left, std::back_inserter(report.left));
}

NarrowReport narrow_model(Graph& graph, const NarrowOptions& o, const Calibration* calibration) {
  static const std::set<DType> kTypes{DType::f16, DType::bf16, DType::i8, DType::u8, DType::i4, DType::u4};
  if (!kTypes.contains(o.weights))
    fail(Category::value, "weights cannot be kept as {}; f16, bf16, i8, u8, i4 and u4 can", to_string(o.weights));
  const bool half = o.weights == DType::f16 || o.weights == DType::bf16;
  if (o.block != 0 && half) fail(Category::value, "{} has no scales, and no blocks that share them", to_string(o.weights));
  if (o.block != 0 && (o.block < 16 || o.block > 4096)) fail(Category::value, "a block of {} is out of range (16 to 4096)", o.block);
  const bool compensated = o.rounding == Rounding::compensated;
  if (compensated && half)
    fail(Category::value, "weights in {} are rounded to the nearest: nothing is left to make up for", to_string(o.weights));
  if (compensated && (!calibration || calibration->items == 0))
    fail(Category::value, "compensated rounding needs calibration items: what the layers' outputs lose is read off them");
  const auto whole = deep_copy(graph);
  Graph& g = *whole;
  if (!g.functions.empty()) inline_functions(g);
  const int64_t needed = o.weights == DType::bf16 ? 13 : half ? 9 : bit_width(o.weights) == 4 || o.block > 0 ? 21 : 13;
  if (g.opset("") < needed) convert_opset(g, needed);
  settle_names(g);
  Narrower narrower(g, o);
  if (compensated) narrower.observe(*calibration);
  NarrowReport report = narrower.run();
  if (report.weights.empty())
    fail(Category::value, "no weights to narrow: {}",
         report.left.empty() ? fmt::format("no initializer of f32 has {} numbers", o.least)
                             : report.left.front().first + ": " + report.left.front().second);
  resolve_captures(g);
  passes::remove_dead(g);
  check(g);
  infer(g);
  graph = std::move(g);
  return report;
}

}  // namespace lathe
