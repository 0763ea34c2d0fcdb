// A model on bytes: which values are quantised, with what ranges, and the form written for a choice of nodes.
#include <algorithm>
#include <cmath>
#include <limits>
#include <numeric>
#include <set>

#include "base/fail.hpp"
#include "base/text.hpp"
#include "lathe/op.hpp"
#include "lathe/shaping.hpp"
#include "narrow/equalise.hpp"
#include "narrow/layers.hpp"
#include "narrow/observe.hpp"
#include "narrow/parallel.hpp"
#include "narrow/ranges.hpp"
#include "narrow/rounding.hpp"
#include "passes/passes.hpp"
#include "passes/rewriter.hpp"

namespace lathe {
namespace {

using namespace narrowing;

double decibels(double signal, double noise) {
  return noise > 0 ? 10 * std::log10(signal / noise) : std::numeric_limits<double>::infinity();
}

// A layer's weights as bytes.
struct Bytes {
  Tensor numbers, scales;
  std::vector<float> bias;  // corrected; empty: none
};

struct Candidate {
  int node = -1;
  std::optional<Layer> layer;
  std::vector<ValueId> reads;   // activations that are bytes when it is
  ValueId gives = kAbsent;      // after a clamp that the range does anyway
  std::optional<Bytes> bytes;   // of layers
  std::vector<size_t> weights;  // inputs of a recurrent layer that become bytes, a scale a gate of a row; its arithmetic stays f32
};

bool is_elementwise(const Node& n) { return n.op == "Add" || n.op == "Mul"; }

}  // namespace

struct ByteModel::Impl {
  Graph g;
  Calibration calibration;
  ByteOptions options;
  std::vector<Candidate> candidates;
  std::vector<ByteCandidate> told;
  std::vector<std::pair<std::string, std::string>> left;
  std::vector<std::string> warnings;
  std::map<ValueId, std::pair<double, double>> ranges;  // of what candidates read and give

  Impl(const Graph& graph, const Calibration& c, const ByteOptions& o) : calibration(c), options(o) {
    if (o.activations != DType::u8 && o.activations != DType::i8)
      fail(Category::value, "activations cannot be {}; u8 and i8 can", to_string(o.activations));
    if (!(o.percentile > 50 && o.percentile <= 100)) fail(Category::value, "a percentile of {} is out of range (50 to 100)", o.percentile);
    if (c.items == 0) fail(Category::value, "there are no calibration items to read ranges off");
    prepare(graph);
    find_candidates();
    calibrate();
    share_ranges();
    tell();
  }

  void prepare(const Graph& graph) {
    const auto whole = deep_copy(graph);
    g = std::move(*whole);
    if (!g.functions.empty()) inline_functions(g);
    static const std::set<std::string> kBytes{"QuantizeLinear", "DynamicQuantizeLinear", "QLinearConv",
                                              "QLinearMatMul",  "ConvInteger",           "MatMulInteger"};
    for (const Node& n : g.nodes) {
      if (n.domain.empty() && kBytes.contains(n.op)) fail(Category::unsupported, "the model is quantised already: {}", label(g, n));
    }
    if (g.opset("") < 13) convert_opset(g, 13);
    infer(g);
    passes::fold_constants(g);
    passes::remove_identities(g);
    passes::fold_normalisation(g);
    passes::remove_dead(g);
    infer(g);
    std::set<std::string> names;
    for (Node& n : g.nodes) {
      if (n.name.empty()) n.name = n.outputs.empty() || n.outputs[0] == kAbsent ? n.op : g.values[static_cast<size_t>(n.outputs[0])].name;
      std::string name = n.name;
      for (int i = 2; !names.insert(name).second; ++i) name = fmt::format("{}_{}", n.name, i);
      n.name = name;
    }
  }

  inline static const std::set<std::string> kProducts{"Conv", "Gemm", "MatMul"};

  bool activation(ValueId v) const {
    return v != kAbsent && !g.values[static_cast<size_t>(v)].constant && g.values[static_cast<size_t>(v)].dtype == DType::f32;
  }
  bool output(ValueId v) const { return std::ranges::find(g.outputs, v) != g.outputs.end(); }

  // Pictures and sound: what convolutions work on. Sums of sequences stay f32 for the normalisations that read them.
  bool in_planes(ValueId v) const {
    const auto& dims = g.values[static_cast<size_t>(v)].dims;
    return dims && dims->size() >= 4;
  }

  // Scores that only the model's last node reads, to make shares or choices of them: 256 levels would be all that is left.
  bool last(ValueId v, const std::vector<std::vector<int>>& readers) const {
    static const std::set<std::string> kScores{"Softmax", "LogSoftmax", "Sigmoid", "ArgMax", "TopK"};
    const auto& all = readers[static_cast<size_t>(v)];
    return !all.empty() && std::ranges::all_of(all, [&](int r) {
      const Node& n = g.nodes[static_cast<size_t>(r)];
      return n.domain.empty() && kScores.contains(n.op) && output(n.outputs[0]);
    });
  }

  bool recurrent_weights(ValueId v, const std::vector<std::vector<int>>& readers) const {
    const auto& t = v == kAbsent ? std::optional<Tensor>() : g.values[static_cast<size_t>(v)].constant;
    return t && t->dtype() == DType::f32 && t->rank() == 3 && t->size() > 0 && readers[static_cast<size_t>(v)].size() == 1 &&
           std::ranges::all_of(t->as<float>(), [](float x) { return std::isfinite(x); });
  }

  // [directions, gates and rows, inputs]: a scale for each gate of a row, both directions alike.
  static std::pair<Tensor, Tensor> by_gate(const Tensor& w) {
    const int64_t directions = w.shape()[0], rows = w.shape()[1], inner = w.shape()[2];
    Tensor numbers(DType::i8, w.shape()), scales(DType::f32, {rows});
    const auto x = w.as<float>();
    for (int64_t r = 0; r < rows; ++r) {
      float most = 0;
      const auto each = [&](auto f) {
        for (int64_t d = 0; d < directions; ++d) {
          for (int64_t i = 0; i < inner; ++i) f(static_cast<size_t>((d * rows + r) * inner + i));
        }
      };
      each([&](size_t at) { most = std::max(most, std::fabs(x[at])); });
      const float scale = most > 1e-30F ? most / 127 : 1;
      scales.as<float>()[static_cast<size_t>(r)] = scale;
      each([&](size_t at) { numbers.as<int8_t>()[at] = static_cast<int8_t>(std::nearbyint(x[at] / scale)); });
    }
    return {std::move(numbers), std::move(scales)};
  }

  // Ranges are read off values that a run shows; those inside subgraphs it does not.
  void leave_inside(const Graph& body) {
    for (const Node& n : body.nodes) {
      if (n.domain.empty() && kProducts.contains(n.op))
        left.emplace_back(n.name.empty() ? n.op : n.name, "it stands in a subgraph, where weights alone can be narrowed");
      n.each_subgraph([&](const std::shared_ptr<Graph>& sub) { leave_inside(*sub); });
    }
  }

  void find_candidates() {
    const auto readers = g.consumers();
    const auto clamp_of = [&](ValueId v) -> ValueId {
      if (readers[static_cast<size_t>(v)].size() != 1 || output(v)) return v;
      const Node& n = g.nodes[static_cast<size_t>(readers[static_cast<size_t>(v)][0])];
      return n.domain.empty() && (n.op == "Relu" || n.op == "Clip") && n.inputs[0] == v ? n.outputs[0] : v;
    };
    std::set<ValueId> elementwise, given;
    for (size_t i = 0; i < g.nodes.size(); ++i) {
      const Node& n = g.nodes[i];
      n.each_subgraph([&](const std::shared_ptr<Graph>& sub) { leave_inside(*sub); });
      if (!n.domain.empty()) continue;
      Candidate c;
      c.node = static_cast<int>(i);
      if (auto l = layer_of(g, i, readers)) {
        if (!activation(l->input)) continue;
        c.reads = {l->input};
        c.gives = clamp_of(l->output);
        c.layer = std::move(l);
      } else if (n.op == "LSTM" || n.op == "GRU" || n.op == "RNN") {
        for (const size_t k : {1, 2}) {
          if (k < n.inputs.size() && recurrent_weights(n.inputs[k], readers)) c.weights.push_back(k);
        }
        if (c.weights.empty()) continue;
      } else if (options.products && n.op == "MatMul" && n.inputs.size() == 2 && n.inputs[0] != n.inputs[1] && activation(n.inputs[0]) &&
                 activation(n.inputs[1])) {
        c.reads = {n.inputs[0], n.inputs[1]};
      } else if (kProducts.contains(n.op)) {
        const bool two = n.inputs.size() > 1 && activation(n.inputs[0]) && activation(n.inputs[1]);
        left.emplace_back(n.name, two ? "both operands are made while running" : "its operands are no f32 activations by constant weights");
        continue;
      } else {
        static const std::set<std::string> kOthers{"Add", "Mul", "MaxPool", "AveragePool", "GlobalAveragePool", "Concat", "Resize"};
        const size_t data = n.op == "Resize" ? 1 : n.inputs.size();
        if (!kOthers.contains(n.op) || n.outputs.size() > 1 || !in_planes(n.outputs[0])) continue;
        bool all = true, from_bytes = false;
        for (size_t k = 0; k < data; ++k) {
          all = all && activation(n.inputs[k]);
          from_bytes = from_bytes || given.contains(n.inputs[k]);
        }
        if (!all || !from_bytes) continue;
        c.reads.assign(n.inputs.begin(), n.inputs.begin() + static_cast<int64_t>(data));
        c.gives = clamp_of(n.outputs[0]);
        // What one elementwise node hands to the next stays in registers.
        if (is_elementwise(n)) {
          std::erase_if(c.reads, [&](ValueId v) { return elementwise.contains(v) && readers[static_cast<size_t>(v)].size() == 1; });
          elementwise.insert(c.gives);
          const auto& next = readers[static_cast<size_t>(c.gives)];
          if (next.size() == 1 && is_elementwise(g.nodes[static_cast<size_t>(next[0])])) c.gives = kAbsent;
        }
      }
      if (c.gives != kAbsent && !output(c.gives) && !last(c.gives, readers)) given.insert(c.gives);
      else c.gives = kAbsent;  // results are f32
      candidates.push_back(std::move(c));
    }
    if (candidates.empty() || std::ranges::none_of(candidates, [](const Candidate& c) { return c.layer || !c.weights.empty(); }))
      fail(Category::value, "nothing to narrow: no Conv, Gemm, MatMul or recurrent layer has f32 weights and reads f32 activations");
  }

  std::vector<ValueId> wanted() const {
    std::set<ValueId> w;
    for (const Candidate& c : candidates) {
      w.insert(c.reads.begin(), c.reads.end());
      if (c.gives != kAbsent) w.insert(c.gives);
    }
    return {w.begin(), w.end()};
  }

  void calibrate() {
    if (options.equalise) even_out();
    const std::vector<ValueId> values = wanted();
    std::vector<Met> met(values.size());
    std::vector<char> varied(values.size(), 0);  // of the graph's inputs
    std::vector<float> first(values.size(), 0);
    bool any_input = false;
    for (ValueId v : values) any_input = any_input || std::ranges::find(g.inputs, v) != g.inputs.end();
    observe(g, values, calibration, "extremes", [&](size_t item, size_t i, const Tensor& t) {
      met[i].see(t);
      if (std::ranges::find(g.inputs, values[i]) == g.inputs.end()) return;
      const auto x = t.as<float>();
      if (item == 0 && !x.empty()) first[i] = x[0];
      varied[i] = varied[i] || std::ranges::any_of(x, [&](float v) { return v != first[i]; });
    });
    if (any_input && std::ranges::none_of(varied, [](char v) { return v != 0; }))
      warnings.push_back("every calibration item is of one and the same value throughout: ranges read off them mean little");
    constexpr size_t kFew = 8;
    if (calibration.items < kFew)
      warnings.push_back(fmt::format("{} calibration item{} few: ranges may miss what comes later", calibration.items,
                                     calibration.items == 1 ? " is" : "s are"));
    drop_without_range(values, met);
    // Second time: how numbers are spread, and what filters see.
    std::vector<Moments> moments;
    std::map<ValueId, std::vector<size_t>> layers_on;
    const bool pairs = options.rounding == Rounding::compensated;
    for (size_t k = 0; k < candidates.size(); ++k) {
      moments.emplace_back(candidates[k].layer.value_or(Layer()), pairs && candidates[k].layer);
      if (candidates[k].layer) layers_on[candidates[k].layer->input].push_back(k);
    }
    const bool spread = options.range != RangeChoice::extremes;
    const int64_t rows = rows_of_an_item(calibration.items);
    if (spread || pairs || options.correct_bias) {
      observe(g, values, calibration, "what values are like", [&](size_t, size_t i, const Tensor& t) {
        if (spread) met[i].spread(t);
        const auto on = layers_on.find(values[i]);
        if (on == layers_on.end()) return;
        for (size_t k : on->second)
          each_row(g, *candidates[k].layer, t, rows, [&](int64_t group, const float* row) { moments[k].add(group, row); });
      });
    }
    for (size_t i = 0; i < values.size(); ++i) ranges[values[i]] = met[i].range(options);
    for (size_t i = 0; i < values.size(); ++i) met_span[values[i]] = {met[i].low, met[i].high};
    if (calibration.progress) calibration.progress("rounding weights", 0, candidates.size());
    in_parallel(candidates.size(), [&](size_t k) {
      if (candidates[k].layer) round_weights(candidates[k], moments[k]);
    });
  }

  void even_out() {
    const std::vector<ValueId> values = evenable(g);
    if (values.empty()) return;
    std::map<ValueId, bool> conv;
    for (const Candidate& c : candidates) {
      if (c.layer) conv[c.layer->input] = g.nodes[c.layer->node].op == "Conv";
    }
    std::map<ValueId, std::vector<float>> most;
    for (ValueId v : values) {
      if (conv.contains(v)) most[v] = {};
    }
    observe(g, values, calibration, "channels", [&](size_t, size_t i, const Tensor& t) {
      if (const auto at = most.find(values[i]); at != most.end()) note_channels(t, conv.at(values[i]), at->second);
    });
    equalise(g, most);
  }

  void drop_without_range(const std::vector<ValueId>& values, const std::vector<Met>& met) {
    std::map<ValueId, std::string> why;
    for (size_t i = 0; i < values.size(); ++i) {
      const std::string& name = g.values[static_cast<size_t>(values[i])].name;
      if (met[i].odd) why[values[i]] = fmt::format("NaN or infinity was met at '{}'", name);
      else if (met[i].empty()) why[values[i]] = fmt::format("nothing but zeros was met at '{}'", name);
      else if (met[i].high - met[i].low > 1e30) why[values[i]] = fmt::format("'{}' is beyond 1e30", name);
    }
    std::erase_if(candidates, [&](const Candidate& c) {
      for (const auto& [v, reason] : why) {
        if (std::ranges::find(c.reads, v) == c.reads.end() && c.gives != v) continue;
        left.emplace_back(g.nodes[static_cast<size_t>(c.node)].name, reason);
        return true;
      }
      return false;
    });
    if (candidates.empty()) fail(Category::value, "nothing to narrow: {}", left.empty() ? "no candidate" : left.back().second);
  }

  void round_weights(Candidate& c, const Moments& moments) {
    const Layer& l = *c.layer;
    const std::vector<float> rows = by_filter(g, l);
    Tensor scales(DType::f32, {l.filters});
    for (int64_t f = 0; f < l.filters; ++f) {
      float most = 0;
      for (int64_t k = 0; k < l.depth; ++k) most = std::max(most, std::fabs(rows[static_cast<size_t>(f * l.depth + k)]));
      constexpr float kMost = 127, kLeast = 1e-30f;  // a scale below would have no inverse
      scales.as<float>()[static_cast<size_t>(f)] = most > kLeast ? most / kMost : 1;
    }
    const auto grid = [&](int64_t f, int64_t) { return Grid{scales.as<float>()[static_cast<size_t>(f)], 0, -127, 127}; };
    const std::vector<float> numbers = rounded(l, rows, grid, options.rounding == Rounding::compensated ? &moments : nullptr);
    std::vector<float> bias(static_cast<size_t>(l.filters));
    if (l.bias != kAbsent) std::ranges::copy(g.values[static_cast<size_t>(l.bias)].constant->as<float>(), bias.begin());
    const bool place = l.bias != kAbsent || g.nodes[l.node].op != "MatMul";
    bool any = l.bias != kAbsent;
    if (options.correct_bias && place && moments.rows() > 0) {
      for (int64_t f = 0; f < l.filters; ++f) {
        double shift = 0;
        const double scale = scales.as<float>()[static_cast<size_t>(f)];
        for (int64_t k = 0; k < l.depth; ++k) {
          const auto at = static_cast<size_t>(f * l.depth + k);
          shift += (numbers[at] * scale - rows[at]) * moments.mean(f / (l.filters / l.groups), k);
        }
        bias[static_cast<size_t>(f)] -= static_cast<float>(shift);
        any = any || shift != 0;
      }
    }
    Bytes b;
    Tensor held = in_order(g, l, numbers);
    b.numbers = Tensor(DType::i8, held.shape());
    for (size_t i = 0; i < numbers.size(); ++i) b.numbers.as<int8_t>()[i] = static_cast<int8_t>(held.as<float>()[i]);
    b.scales = std::move(scales);
    if (any) b.bias = std::move(bias);
    c.bytes = std::move(b);
  }

  // Nodes that only move or pick numbers give bytes of the scale they read, so that nothing is rounded again.
  void share_ranges() {
    std::map<ValueId, ValueId> parent;
    std::set<ValueId> moved;
    const auto root = [&](ValueId v) {
      while (parent.contains(v) && parent[v] != v) v = parent[v];
      return v;
    };
    const auto width = [&](ValueId v) { return ranges.at(v).second - ranges.at(v).first; };
    for (const Candidate& c : candidates) {
      const Node& n = g.nodes[static_cast<size_t>(c.node)];
      const bool moves = n.op == "MaxPool" || n.op == "Concat" || (n.op == "Resize" && n.text("mode", "nearest") == "nearest");
      if (!moves || c.gives == kAbsent || c.gives != n.outputs[0]) continue;
      std::vector<ValueId> all = c.reads;
      all.push_back(c.gives);
      // A part of much smaller numbers would lose most of its levels.
      double least = HUGE_VAL, most = 0;
      for (ValueId v : all) least = std::min(least, width(v)), most = std::max(most, width(v));
      constexpr double kApart = 8;
      if (n.op == "Concat" && most > kApart * least) continue;
      for (ValueId v : all) parent[root(v)] = root(all[0]);
      moved.insert(c.gives);
    }
    std::map<ValueId, std::pair<double, double>> joined;
    for (const auto& [v, r] : ranges) {
      if (moved.contains(v)) continue;  // its numbers are those of others
      auto& j = joined.try_emplace(root(v), r).first->second;
      j = {std::min(j.first, r.first), std::max(j.second, r.second)};
    }
    for (auto& [v, r] : ranges) r = joined[root(v)];
  }

  void tell() {
    for (const Candidate& c : candidates) {
      ByteCandidate t;
      const Node& n = g.nodes[static_cast<size_t>(c.node)];
      t.node = n.name;
      t.op = n.op;
      const ValueId v = c.gives != kAbsent ? c.gives : c.reads.empty() ? kAbsent : c.reads[0];
      if (v != kAbsent) {
        std::tie(t.low, t.high) = ranges.at(v);
        std::tie(t.met_low, t.met_high) = met_span.at(v);
      }
      t.weights_signal_to_noise = std::numeric_limits<double>::infinity();
      if (!c.weights.empty()) {
        double signal = 0, noise = 0;
        for (const size_t k : c.weights) {
          const Tensor& w = *g.values[static_cast<size_t>(n.inputs[k])].constant;
          const auto [numbers, scales] = by_gate(w);
          const int64_t rows = w.shape()[1], inner = w.shape()[2];
          for (int64_t i = 0; i < w.size(); ++i) {
            const double x = w.as<float>()[static_cast<size_t>(i)];
            const double back = numbers.as<int8_t>()[static_cast<size_t>(i)] *
                                static_cast<double>(scales.as<float>()[static_cast<size_t>(i / inner % rows)]);
            signal += x * x;
            noise += (x - back) * (x - back);
          }
          t.bytes_before += w.size() * 4;
          t.bytes_after += w.size() + scales.size() * 4;
        }
        t.weights_signal_to_noise = decibels(signal, noise);
      }
      if (c.layer) {
        const auto w = g.values[static_cast<size_t>(c.layer->weights)].constant->as<float>();
        const auto numbers = c.bytes->numbers.as<int8_t>();
        double signal = 0, noise = 0;
        const int64_t inner = c.layer->axis == 0 ? static_cast<int64_t>(w.size()) / c.layer->filters : 1;
        for (size_t i = 0; i < w.size(); ++i) {
          const auto f = static_cast<size_t>(static_cast<int64_t>(i) / inner % c.layer->filters);
          const double apart = numbers[i] * static_cast<double>(c.bytes->scales.as<float>()[f]) - w[i];
          signal += static_cast<double>(w[i]) * w[i], noise += apart * apart;
        }
        t.weights_signal_to_noise = decibels(signal, noise);
        t.bytes_before = static_cast<int64_t>(w.size() * sizeof(float));
        t.bytes_after = static_cast<int64_t>(w.size()) + c.layer->filters * static_cast<int64_t>(sizeof(float));
      }
      told.push_back(std::move(t));
    }
  }

  Graph write(const std::vector<std::string>& leave) const;
  // Over so many of the items, evenly spread.
  OutputError error_of(const Graph& written, size_t items);
  std::vector<ValueId> results() const {
    std::vector<ValueId> out;
    for (const Candidate& c : candidates) {
      const auto& outputs = g.nodes[static_cast<size_t>(c.node)].outputs;
      const auto first = std::ranges::find_if(outputs, [](ValueId v) { return v != kAbsent; });
      out.push_back(c.gives != kAbsent ? c.gives : c.layer ? c.layer->output : *first);
    }
    return out;
  }

  std::map<ValueId, std::pair<double, double>> met_span;
  std::vector<std::vector<Tensor>> reference;  // outputs of the wide model, by item; empty until they are asked for
};

namespace {

class Writer {
 public:
  explicit Writer(const Graph& from) : g(*deep_copy(from)) { g.nodes.clear(); }

  ValueId value(const std::string& name, DType dtype) {
    Value v;
    v.name = passes::unused_name(g, name);
    v.dtype = dtype;
    return g.add_value(std::move(v));
  }
  ValueId constant(const std::string& name, Tensor t) {
    const ValueId id = value(name, t.dtype());
    Value& v = g.values[static_cast<size_t>(id)];
    v.dims = Dims(t.shape().begin(), t.shape().end());
    v.constant = std::move(t);
    return id;
  }
  ValueId put(const std::string& op, const std::string& name, std::vector<ValueId> inputs, DType dtype, int64_t axis = -1) {
    Node n;
    n.op = op;
    n.name = name;
    n.inputs = std::move(inputs);
    n.outputs = {value(name, dtype)};
    if (axis >= 0) n.attributes["axis"].data = axis;
    const ValueId out = n.outputs[0];
    g.nodes.push_back(std::move(n));
    return out;
  }

  Graph g;
};

}  // namespace

Graph ByteModel::Impl::write(const std::vector<std::string>& leave) const {
  std::vector<std::string> names;
  for (const Candidate& c : candidates) names.push_back(g.nodes[static_cast<size_t>(c.node)].name);
  for (const std::string& name : leave) {
    if (std::ranges::find(names, name) == names.end())
      fail(Category::value, "'{}' is no node that could run on bytes{}", name, did_you_mean(name, names));
  }
  std::map<int, const Candidate*> narrow;  // by node
  std::set<ValueId> wanted;
  for (size_t i = 0; i < candidates.size(); ++i) {
    if (std::ranges::find(leave, names[i]) != leave.end()) continue;
    narrow[candidates[i].node] = &candidates[i];
    wanted.insert(candidates[i].reads.begin(), candidates[i].reads.end());
    if (candidates[i].gives != kAbsent) wanted.insert(candidates[i].gives);
  }
  Writer w(g);
  std::map<ValueId, ValueId> through;  // what readers read instead
  std::map<ValueId, float> scale_of;   // of what they read
  const bool is_signed = options.activations == DType::i8;
  const auto pass = [&](ValueId v) {
    if (!wanted.contains(v)) return;
    const std::string name = g.values[static_cast<size_t>(v)].name;
    const auto [low, high] = ranges.at(v);
    const float scale = std::max(static_cast<float>((high - low) / 255), std::numeric_limits<float>::min());
    const double zero = std::clamp(std::nearbyint(-low / scale), 0.0, 255.0);
    const ValueId s = w.constant(name + ".scale", Tensor::from<float>({}, {scale}));
    const ValueId z = w.constant(name + ".zero", is_signed ? Tensor::from<int8_t>({}, {static_cast<int8_t>(zero - 128)})
                                                           : Tensor::from<uint8_t>({}, {static_cast<uint8_t>(zero)}));
    const ValueId numbers = w.put("QuantizeLinear", name + ".quantised", {v, s, z}, options.activations);
    through[v] = w.put("DequantizeLinear", name + ".dequantised", {numbers, s, z}, DType::f32);
    scale_of[v] = scale;
  };
  // Bias in 32 bits of the scale of the sums, where it is fine enough and fits; else as it is.
  const auto bias_for = [&](const Candidate& c) -> ValueId {
    const std::string name = g.nodes[c.layer->node].name;
    const auto filters = static_cast<size_t>(c.layer->filters);
    Tensor numbers(DType::i32, {c.layer->filters}), steps(DType::f32, {c.layer->filters}), plain(DType::f32, {c.layer->filters});
    bool fits = true;
    for (size_t f = 0; f < filters; ++f) {
      const float step = scale_of.at(c.layer->input) * c.bytes->scales.as<float>()[f];
      const double n = std::nearbyint(static_cast<double>(c.bytes->bias[f]) / step);
      constexpr double kMost = 1 << 30;
      fits = fits && step >= std::numeric_limits<float>::min() && std::fabs(n) <= kMost;
      steps.as<float>()[f] = step;
      numbers.as<int32_t>()[f] = fits ? static_cast<int32_t>(n) : 0;
      plain.as<float>()[f] = c.bytes->bias[f];
    }
    if (!fits) return w.constant(name + ".bias", std::move(plain));
    const ValueId n = w.constant(name + ".bias.i32", std::move(numbers)), s = w.constant(name + ".bias.scale", std::move(steps));
    return w.put("DequantizeLinear", name + ".bias", {n, s}, DType::f32, 0);
  };
  std::map<int, ValueId> bias_of;  // by the Add that reads it
  for (ValueId v : g.inputs) pass(v);
  for (size_t i = 0; i < g.nodes.size(); ++i) {
    Node n = g.nodes[i];
    const auto at = narrow.find(static_cast<int>(i));
    for (ValueId& v : n.inputs) {
      // Who stays wide reads bytes too: a value kept in both forms would cost what bytes gain.
      if (v != kAbsent && through.contains(v)) v = through[v];
    }
    if (at != narrow.end()) {
      for (const size_t k : at->second->weights) {
        auto [numbers, scales] = by_gate(*g.values[static_cast<size_t>(n.inputs[k])].constant);
        const std::string name = n.name + (k == 1 ? ".weights" : ".recurrence");
        const ValueId codes = w.constant(name + ".i8", std::move(numbers)), steps = w.constant(name + ".scale", std::move(scales));
        n.inputs[k] = w.put("DequantizeLinear", name, {codes, steps}, DType::f32, 1);
      }
    }
    if (at != narrow.end() && at->second->layer) {
      const Candidate& c = *at->second;
      const ValueId numbers = w.constant(n.name + ".weights.i8", c.bytes->numbers),
                    scales = w.constant(n.name + ".weights.scale", c.bytes->scales);
      n.inputs[1] = w.put("DequantizeLinear", n.name + ".weights", {numbers, scales}, DType::f32, c.layer->axis);
      if (!c.bytes->bias.empty()) {
        const ValueId bias = bias_for(c);
        if (c.layer->bias_node >= 0) {
          bias_of[c.layer->bias_node] = bias;
        } else {
          n.inputs.resize(2);
          n.inputs.push_back(bias);
        }
      }
    }
    if (const auto bias = bias_of.find(static_cast<int>(i)); bias != bias_of.end()) {
      for (ValueId& v : n.inputs) {
        if (g.values.size() > static_cast<size_t>(v) && g.values[static_cast<size_t>(v)].constant) v = bias->second;
      }
    }
    const std::vector<ValueId> outputs = n.outputs;
    w.g.nodes.push_back(std::move(n));
    for (ValueId v : outputs) {
      if (v != kAbsent) pass(v);
    }
  }
  Graph out = std::move(w.g);
  passes::remove_dead(out);
  check(out);
  infer(out);
  return out;
}

ByteModel::ByteModel(const Graph& graph, const Calibration& calibration, const ByteOptions& options)
    : impl_(std::make_unique<Impl>(graph, calibration, options)) {}
ByteModel::~ByteModel() = default;
ByteModel::ByteModel(ByteModel&&) noexcept = default;
ByteModel& ByteModel::operator=(ByteModel&&) noexcept = default;

const std::vector<ByteCandidate>& ByteModel::candidates() const { return impl_->told; }
const std::vector<std::pair<std::string, std::string>>& ByteModel::left() const { return impl_->left; }
const std::vector<std::string>& ByteModel::warnings() const { return impl_->warnings; }
const Graph& ByteModel::wide() const { return impl_->g; }
Graph ByteModel::write(const std::vector<std::string>& leave) const { return impl_->write(leave); }

namespace {

// Sums over all items, for cosine and noise.
struct Apart {
  double xy = 0, xx = 0, yy = 0, noise = 0;
  void add(const Tensor& x, const Tensor& y) {
    const auto a = x.as<float>(), b = y.as<float>();
    for (size_t i = 0; i < a.size(); ++i) {
      const double u = a[i], v = b[i];
      xy += u * v, xx += u * u, yy += v * v, noise += (u - v) * (u - v);
    }
  }
  double cosine() const { return xx == yy && xx == 0 ? 1 : xx == 0 || yy == 0 ? 0 : xy / std::sqrt(xx * yy); }
};

}  // namespace

OutputError ByteModel::error_of(const Graph& written) const { return impl_->error_of(written, impl_->calibration.items); }

OutputError ByteModel::Impl::error_of(const Graph& written, size_t items) {
  std::vector<ValueId> mine, theirs;
  for (size_t i = 0; i < g.outputs.size(); ++i) {
    if (g.values[static_cast<size_t>(g.outputs[i])].dtype != DType::f32) continue;
    mine.push_back(g.outputs[i]);
    theirs.push_back(written.outputs.at(i));
  }
  if (reference.empty()) {
    reference.resize(calibration.items, std::vector<Tensor>(mine.size()));
    observe(g, mine, calibration, "results of the wide model", [&](size_t item, size_t i, const Tensor& t) { reference[item][i] = t; });
  }
  items = std::min(items, calibration.items);
  Calibration some = calibration;
  some.items = items;
  const auto place = [&](size_t item) { return item * calibration.items / items; };
  some.load = [&](size_t item) { return calibration.load(place(item)); };
  std::vector<Apart> apart(mine.size());
  observe(written, theirs, some, "error at the outputs",
          [&](size_t item, size_t i, const Tensor& t) { apart[i].add(reference[place(item)][i], t); });
  OutputError e{1, std::numeric_limits<double>::infinity()};
  for (const Apart& a : apart) {
    e.cosine = std::min(e.cosine, a.cosine());
    e.signal_to_noise = std::min(e.signal_to_noise, std::isnan(a.noise) ? -HUGE_VAL : decibels(a.xx, a.noise));
  }
  return e;
}

std::vector<double> ByteModel::noise_by_step(const Graph& written) const {
  const std::vector<ValueId> mine = impl_->results();
  std::vector<ValueId> theirs;
  for (ValueId v : mine) theirs.push_back(written.find_value(impl_->g.values[static_cast<size_t>(v)].name));
  std::vector<Apart> apart(mine.size());
  constexpr size_t kFew = 16;
  observe_both(impl_->g, mine, written, theirs, impl_->calibration, kFew, "error by step",
               [&](size_t i, const Tensor& x, const Tensor& y) { apart[i].add(x, y); });
  std::vector<double> out;
  for (const Apart& a : apart) out.push_back(decibels(a.xx, a.noise));
  return out;
}

std::vector<Sensitivity> ByteModel::sensitivity(const std::function<double(const Graph&)>& measure) const {
  std::vector<Sensitivity> out;
  constexpr size_t kFew = 16;  // enough to rank by
  for (const ByteCandidate& c : impl_->told) {
    if (impl_->calibration.progress) impl_->calibration.progress("each node alone", out.size(), impl_->told.size());
    std::vector<std::string> others;
    for (const ByteCandidate& other : impl_->told) {
      if (other.node != c.node) others.push_back(other.node);
    }
    const Graph alone = impl_->write(others);
    Sensitivity s{c.node, c.op, impl_->error_of(alone, kFew), 0};
    s.loss = measure ? measure(alone) : std::pow(10, -s.error.signal_to_noise / 10);
    out.push_back(std::move(s));
  }
  std::ranges::stable_sort(out, [](const Sensitivity& a, const Sensitivity& b) {
    return a.loss != b.loss ? a.loss > b.loss : a.error.signal_to_noise < b.error.signal_to_noise;
  });
  return out;
}

Budgeted within_budget(const ByteModel& model, const std::vector<Sensitivity>& ranked, const std::function<double(const Graph&)>& loss,
                       double most, const std::function<void(int)>& progress) {
  Budgeted b;
  const auto measured = [&](const std::vector<std::string>& wide) {
    if (progress) progress(b.tried);
    ++b.tried;
    return loss(model.write(wide));
  };
  const auto first = [&](size_t n) {
    std::vector<std::string> wide;
    for (size_t i = 0; i < n; ++i) wide.push_back(ranked[i].node);
    return wide;
  };
  b.loss = b.loss_of_all = measured({});
  if (b.loss <= most) return b;
  size_t low = 0, high = ranked.size();  // so many wide do not hold; so many do
  double best = b.loss;
  while (high - low > 1) {
    const size_t middle = (low + high) / 2;
    const double l = measured(first(middle));
    best = std::min(best, l);
    if (l <= most) high = middle, b.loss = l;
    else low = middle;
  }
  if (high == ranked.size())
    fail(Category::value, "no form with anything on bytes holds a loss of {:.4g}; the best tried loses {:.4g}", most, best);
  b.wide = first(high);
  // One of those kept wide may not have been needed once worse ones are: the least sensitive is asked first.
  constexpr int kMostTried = 24;
  for (size_t i = b.wide.size(); i-- > 0 && b.wide.size() > 1 && b.tried < kMostTried;) {
    std::vector<std::string> fewer = b.wide;
    fewer.erase(fewer.begin() + static_cast<int64_t>(i));
    const double l = measured(fewer);
    if (l <= most) b.wide = std::move(fewer), b.loss = l;
  }
  return b;
}

}  // namespace lathe
