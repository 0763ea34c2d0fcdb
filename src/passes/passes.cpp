#include "passes/passes.hpp"

#include <algorithm>
#include <cmath>
#include <limits>
#include <map>
#include <numeric>

#include "base/fail.hpp"
#include "base/gives_way.hpp"
#include "base/text.hpp"
#include "lathe/op.hpp"
#include "ops/narrow_weights.hpp"
#include "ops/support.hpp"
#include "tensor/widen.hpp"

namespace lathe::passes {
namespace {

// Every reader of `from`, and the graph's outputs, read `to` instead.
void replace(Graph& graph, ValueId from, ValueId to) {
  for (Node& n : graph.nodes) {
    std::replace(n.inputs.begin(), n.inputs.end(), from, to);
    for (Capture& c : n.captures) {
      if (c.value == from) c.value = to;
    }
  }
}

bool is_output(const Graph& g, ValueId v) { return std::find(g.outputs.begin(), g.outputs.end(), v) != g.outputs.end(); }

void set_constant(Graph& g, ValueId v, Tensor t) {
  Value& value = g.values[v];
  value.dtype = t.dtype();
  value.dims = Dims(t.shape().begin(), t.shape().end());
  value.constant = std::move(t);
}

void erase_nodes(Graph& g, const std::vector<bool>& gone) {
  size_t n = 0;
  std::erase_if(g.nodes, [&](const Node&) { return gone[n++]; });
}

int64_t bytes_of(const Tensor& t) { return t.dtype() == DType::string ? t.size() * 32 : static_cast<int64_t>(t.byte_size()); }

// Whether a node gives the same for the same inputs every time, and may be evaluated ahead of a run. Control flow is left to run time: a
// body may hold anything.
bool foldable(const Node& n, const OpDef& def) { return def.pure && !n.has_subgraphs() && n.op != "Dropout"; }

}  // namespace

Report fold_constants(Graph& graph, int64_t limit_bytes, bool keep_quantised) {
  Report report{"fold constants", {}};
  std::vector<bool> gone(graph.nodes.size(), false);
  const auto readers = graph.consumers();
  for (size_t n = 0; n < graph.nodes.size(); ++n) {
    const Node& node = graph.nodes[n];
    const OpDef* def = find_op(node.domain, node.op, graph.version_of(node));
    if (!def || !foldable(node, *def) || (keep_quantised && node.op == "DequantizeLinear")) continue;
    std::vector<Tensor> inputs;
    bool known = true;
    int64_t in_bytes = 0;
    for (ValueId v : node.inputs) {
      if (v == kAbsent) {
        inputs.emplace_back();
        continue;
      }
      const Value& value = graph.values[v];
      if (value.constant && value.constant->data() != nullptr) {
        inputs.push_back(*value.constant);
        in_bytes += bytes_of(inputs.back());
      } else if (const auto shape = known_shape(value.dims);
                 shape && (node.op == "Shape" || node.op == "Size") && value.dtype != DType::undefined) {
        static std::byte nothing[64];
        inputs.push_back(Tensor::borrow(value.dtype, *shape, nothing));  // only its shape is read
      } else {
        known = false;
        break;
      }
    }
    if (!known) continue;
    // Estimate before evaluating, where inference knows.
    int64_t out_bytes = 0;
    for (ValueId v : node.outputs) {
      const auto shape = v == kAbsent ? std::optional<Shape>(Shape{0}) : known_shape(graph.values[v].dims);
      if (shape) out_bytes += element_count(*shape) * std::max(8, bit_width(v == kAbsent ? DType::u8 : graph.values[v].dtype)) / 8;
    }
    if (out_bytes > std::max(limit_bytes, in_bytes)) continue;
    if (ops::narrow_weights(graph, node, readers)) continue;  // widened while they are loaded
    std::vector<Tensor> results = evaluate_node(graph, node, inputs);
    if (std::any_of(results.begin(), results.end(), [](const Tensor& t) { return t.composite(); })) continue;
    // What the model declares otherwise is reported when it runs, as by plain evaluation.
    bool as_declared = true;
    for (size_t i = 0; i < node.outputs.size() && i < results.size(); ++i)
      as_declared = as_declared && (node.outputs[i] == kAbsent || fits(results[i].shape(), graph.values[node.outputs[i]].dims));
    if (!as_declared) continue;
    for (size_t i = 0; i < node.outputs.size() && i < results.size(); ++i) {
      if (node.outputs[i] != kAbsent) set_constant(graph, node.outputs[i], results[i]);
    }
    gone[n] = true;
    if (node.op != "Constant") report.changes.push_back(fmt::format("{} evaluated while compiling", label(graph, node)));
  }
  erase_nodes(graph, gone);
  return report;
}

Report remove_identities(Graph& graph) {
  Report report{"remove identities", {}};
  std::vector<bool> gone(graph.nodes.size(), false);
  const auto readers = graph.consumers();  // of masks: what is removed below does not read them
  for (size_t n = 0; n < graph.nodes.size(); ++n) {
    Node& node = graph.nodes[n];
    if (!node.domain.empty() || node.inputs.empty() || node.outputs.empty() || node.inputs[0] == kAbsent || node.outputs[0] == kAbsent)
      continue;
    const Value &in = graph.values[node.inputs[0]], &out = graph.values[node.outputs[0]];
    bool nothing = node.op == "Identity";
    if (node.op == "Dropout") {
      const bool mask =
          node.outputs.size() > 1 && node.outputs[1] != kAbsent && (!readers[node.outputs[1]].empty() || is_output(graph, node.outputs[1]));
      bool training = false;
      if (node.inputs.size() > 2 && node.inputs[2] != kAbsent) {
        const auto& t = graph.values[node.inputs[2]].constant;
        training = !t || widen<int64_t>(*t).at(0) != 0;
      }
      if (graph.version_of(node) < 7) training = !node.integer("is_test", 0);
      nothing = !mask && !training;
    }
    if (node.op == "Cast") nothing = in.dtype != DType::undefined && in.dtype == out.dtype;
    if (node.op == "Transpose" && in.dims) {
      auto perm = node.integers("perm");
      for (int64_t& p : perm) p = p < 0 ? p + static_cast<int64_t>(perm.size()) : p;
      nothing = !perm.empty() && std::is_sorted(perm.begin(), perm.end());
    }
    // An output of the graph keeps its node: its name and its buffer are its own.
    if (!nothing || is_output(graph, node.outputs[0])) continue;
    report.changes.push_back(fmt::format("{} removed", label(graph, node)));
    gone[n] = true;
    replace(graph, node.outputs[0], node.inputs[0]);
  }
  erase_nodes(graph, gone);
  return report;
}

namespace {

// Scale and shift of a BatchNormalization whose parameters are all constants.
struct Affine {
  std::vector<double> scale, shift;
};

// x times (or over) a constant: one number, or one along axis 1 and nothing along the others.
std::optional<Affine> factor(const Graph& g, const Node& n) {
  if (n.inputs.size() != 2 || n.attributes.contains("axis")) return std::nullopt;
  const auto& c = g.values[n.inputs[1]].constant;
  const auto &in = g.values[n.inputs[0]].dims, &out = g.values[n.outputs[0]].dims;
  if (!c || c->data() == nullptr || c->dtype() != DType::f32 || !in || !out || in->size() < 2 || in->size() != out->size() ||
      !(*in)[1].known())
    return std::nullopt;
  const Shape s = c->shape();
  const int64_t channels = (*in)[1].value, rank = static_cast<int64_t>(in->size());
  for (size_t i = 0; i < s.size(); ++i) {
    const auto axis = rank - static_cast<int64_t>(s.size() - i);
    if (axis < 0 || (s[i] != 1 && (axis != 1 || s[i] != channels))) return std::nullopt;
  }
  Affine a;
  const auto v = widen<double>(*c);
  for (int64_t i = 0; i < channels; ++i) {
    const double x = v[v.size() == 1 ? 0 : static_cast<size_t>(i)];
    a.scale.push_back(n.op == "Mul" ? x : 1 / x);
    if (!std::isfinite(a.scale.back())) return std::nullopt;
  }
  a.shift.assign(a.scale.size(), 0);
  return a;
}

std::optional<Affine> affine(const Graph& g, const Node& n) {
  if (n.domain.empty() && (n.op == "Mul" || n.op == "Div")) return factor(g, n);
  if (n.op != "BatchNormalization" || !n.domain.empty()) return std::nullopt;
  if (n.integer("training_mode", 0) != 0 || (g.version_of(n) < 7 && !n.integer("is_test", 0))) return std::nullopt;
  for (size_t i = 1; i < n.outputs.size(); ++i) {
    if (n.outputs[i] != kAbsent) return std::nullopt;
  }
  std::vector<std::vector<double>> p;
  for (size_t i = 1; i < 5; ++i) {
    const auto& t = g.values[n.inputs[i]].constant;
    if (!t || t->data() == nullptr || !is_float(t->dtype())) return std::nullopt;
    p.push_back(widen<double>(*t));
  }
  const double epsilon = n.real("epsilon", 1e-5f);
  Affine a;
  for (size_t c = 0; c < p[0].size(); ++c) {
    a.scale.push_back(p[0][c] / std::sqrt(p[3][c] + epsilon));
    a.shift.push_back(p[1][c] - p[2][c] * a.scale[c]);
  }
  return a;
}

// The numbers of a type that have all its digits.
std::pair<double, double> range_of_digits(DType d) {
  switch (d) {
    case DType::f16: return {0x1p-14, 65504};
    case DType::f64: return {std::numeric_limits<double>::min(), std::numeric_limits<double>::max()};
    default: return {std::numeric_limits<float>::min(), std::numeric_limits<float>::max()};
  }
}

// Weights times the factor of the output channel that each belongs to, found along `axis`, and anew after each `group` entries of the dims
// before it. Nothing where that would leave the range of their type, or leave a channel's largest weight few digits.
std::optional<Tensor> scaled(const Tensor& w, int64_t axis, int64_t group, const std::vector<double>& scale) {
  int64_t inner = 1, outer = 1;
  for (int64_t i = 0; i < axis; ++i) outer *= w.shape()[i];
  for (int64_t i = axis + 1; i < w.rank(); ++i) inner *= w.shape()[i];
  const int64_t along = w.shape()[axis];
  std::vector<double> largest(scale.size(), 0);  // of each channel, before
  const auto each = [&](const auto& from, auto& to) {
    for (int64_t o = 0, i = 0; o < outer; ++o) {
      for (int64_t a = 0; a < along; ++a) {
        const auto c = static_cast<size_t>(o / group * along + a);
        double most = largest[c];
        for (const int64_t end = i + inner; i < end; ++i) {
          most = std::max(most, std::isfinite(from[i]) ? std::fabs(static_cast<double>(from[i])) : HUGE_VAL);
          to[i] = static_cast<std::remove_reference_t<decltype(to[i])>>(from[i] * scale[c]);
        }
        largest[c] = most;
      }
    }
  };
  Tensor out(w.dtype(), w.shape());
  if (w.dtype() == DType::f32) {  // without a wide copy: these are the model's bulk
    auto to = out.as<float>();
    each(w.as<float>(), to);
  } else {
    auto wide = widen<double>(w);
    each(wide, wide);
    out = narrow<double>(w.dtype(), w.shape(), wide);
  }
  const auto [least, most] = range_of_digits(w.dtype());
  for (size_t c = 0; c < scale.size(); ++c) {
    if (largest[c] == 0 || largest[c] == HUGE_VAL || scale[c] == 0 || std::isnan(scale[c])) continue;
    const double after = largest[c] * std::fabs(scale[c]);
    if (after < least || after > most) return std::nullopt;
  }
  return out;
}

// Behind a convolution whose weights stay narrow, a normalisation is a factor and a sum for each channel, which the step of the convolution
// takes with it; the convolution's own bias goes into the sum. False: it is something else, or nothing is to be done.
bool behind_narrow(Graph& graph, size_t n, int p, const Affine& a, const std::vector<int>& made,
                   const std::vector<std::vector<int>>& readers, std::map<size_t, Node>& after) {
  Node& conv = graph.nodes[static_cast<size_t>(p)];
  const int cast = static_cast<size_t>(conv.inputs[1]) < made.size() ? made[static_cast<size_t>(conv.inputs[1])] : -1;
  if (cast < 0 || !ops::narrow_weights(graph, graph.nodes[static_cast<size_t>(cast)], readers)) return false;
  const bool has_bias = conv.inputs.size() > 2 && conv.inputs[2] != kAbsent;
  const ValueId out = graph.nodes[n].outputs[0];
  const auto& dims = graph.values[static_cast<size_t>(out)].dims;
  if (!dims || dims->size() < 3 || !(*dims)[1].known() || (*dims)[1].value != static_cast<int64_t>(a.scale.size()) ||
      std::ranges::all_of(a.scale, [](double s) { return s == 1; }))
    return false;
  std::vector<double> shift = a.shift;
  if (has_bias) {
    const auto& b = graph.values[static_cast<size_t>(conv.inputs[2])].constant;
    if (!b || b->data() == nullptr || (b->size() != 1 && b->size() != static_cast<int64_t>(shift.size()))) return false;
    const auto values = widen<double>(*b);
    for (size_t c = 0; c < shift.size(); ++c) shift[c] += values[b->size() == 1 ? 0 : c] * a.scale[c];
  }
  Shape shape(dims->size() - 1, 1);  // [channels, 1, 1]
  shape[0] = static_cast<int64_t>(shift.size());
  const auto constant = [&](const char* what, const std::vector<double>& numbers) {
    Value v;
    v.name = graph.values[static_cast<size_t>(out)].name + what;
    const ValueId id = graph.add_value(std::move(v));
    set_constant(graph, id, narrow<double>(DType::f32, shape, numbers));
    return id;
  };
  const bool shifts = std::ranges::any_of(shift, [](double s) { return s != 0; });
  const ValueId factor = constant(".factor", a.scale);
  ValueId scaled_to = out;
  if (shifts) {
    Value between = graph.values[static_cast<size_t>(out)];
    between.name += ".scaled";
    between.constant.reset();
    scaled_to = graph.add_value(std::move(between));
    Node add;
    add.op = "Add";
    add.version = 13;
    add.name = graph.nodes[n].name;
    add.inputs = {scaled_to, constant(".shift", shift)};
    add.outputs = {out};
    after.emplace(n, std::move(add));
  }
  Node& mul = graph.nodes[n];
  mul.op = "Mul";
  mul.version = 13;
  mul.attributes.clear();
  mul.inputs = {mul.inputs[0], factor};
  mul.outputs = {scaled_to};
  if (has_bias) graph.nodes[static_cast<size_t>(p)].inputs.resize(2);
  return true;
}

void put_behind(Graph& graph, std::vector<bool>& gone, std::map<size_t, Node> after) {
  if (after.empty()) return;
  std::vector<Node> nodes;
  std::vector<bool> still;
  for (size_t n = 0; n < graph.nodes.size(); ++n) {
    nodes.push_back(std::move(graph.nodes[n]));
    still.push_back(gone[n]);
    if (const auto it = after.find(n); it != after.end()) {
      nodes.push_back(std::move(it->second));
      still.push_back(false);
    }
  }
  graph.nodes = std::move(nodes);
  gone = std::move(still);
}

}  // namespace

Report fold_normalisation(Graph& graph) {
  Report report{"fold normalisation", {}};
  std::vector<bool> gone(graph.nodes.size(), false);
  std::map<size_t, Node> after;  // nodes to put behind others, by index
  auto made = graph.producers();
  const auto readers = graph.consumers();
  for (size_t n = 0; n < graph.nodes.size(); ++n) {
    if (Node& m = graph.nodes[n];
        m.domain.empty() && m.op == "Mul" && m.inputs.size() == 2 && graph.values[m.inputs[0]].constant && !m.attributes.contains("axis"))
      std::swap(m.inputs[0], m.inputs[1]);
    const auto a = affine(graph, graph.nodes[n]);
    if (!a) continue;
    const ValueId through = graph.nodes[n].inputs[0], out = graph.nodes[n].outputs[0];
    const int p = made[through];
    if (p < 0 || gone[p] || readers[through].size() != 1 || is_output(graph, through)) continue;
    Node& producer = graph.nodes[p];
    if (!producer.domain.empty()) continue;
    // Which axis of the weights belongs to output channels.
    const bool conv = producer.op == "Conv", transposed = producer.op == "ConvTranspose", gemm = producer.op == "Gemm",
               matmul = producer.op == "MatMul";
    if (!conv && !transposed && !gemm && !matmul) continue;
    if (conv && behind_narrow(graph, n, p, *a, made, readers, after)) {
      report.changes.push_back(
          fmt::format("{} stays behind {}, whose weights stay narrow", label(graph, graph.nodes[n]), label(graph, producer)));
      continue;
    }
    const std::optional<Tensor> w = graph.values[producer.inputs[1]].constant;  // a reference would move with the values
    if (!w || w->data() == nullptr || !is_float(w->dtype())) continue;
    // Channels of a product are its last dim, and the normalisation's axis 1: the same only for matrices.
    const auto& dims = graph.values[through].dims;
    if ((gemm || matmul) && (!dims || dims->size() != 2 || w->rank() != 2)) continue;
    const int64_t group = producer.integer("group", 1);
    const int64_t axis = conv ? 0 : transposed ? 1 : matmul ? 1 : producer.integer("transB", 0) ? 0 : 1;
    const int64_t channels = w->shape()[axis] * (transposed ? group : 1);
    if (channels != static_cast<int64_t>(a->scale.size())) continue;
    std::vector<double> bias(channels, 0);
    const bool had_bias = !matmul && producer.inputs.size() > 2 && producer.inputs[2] != kAbsent;
    if (had_bias) {
      const auto& b = graph.values[producer.inputs[2]].constant;
      if (!b || (b->size() != channels && b->size() != 1) || b->data() == nullptr) continue;
      // A bias of a matrix must run along its last dim, not down its rows.
      if (b->size() != 1 && b->shape().back() != channels) continue;
      const auto values = widen<double>(*b);
      const double beta = gemm ? producer.real("beta", 1) : 1;
      for (int64_t c = 0; c < channels; ++c) bias[c] = beta * values[b->size() == 1 ? 0 : c];
    }
    const DType dtype = w->dtype();
    // Of transposed weights [C, M/group, ...] the channel depends on the input channel's group too.
    std::optional<Tensor> weights = scaled(*w, axis, std::max<int64_t>(w->shape()[0] / (transposed ? group : 1), 1), a->scale);
    if (!weights) continue;
    for (int64_t c = 0; c < channels; ++c) bias[c] = bias[c] * a->scale[c] + a->shift[c];
    if (std::ranges::any_of(bias, [&](double v) { return std::isfinite(v) && std::fabs(v) > range_of_digits(dtype).second; })) continue;
    Value wv, bv;
    wv.name = graph.values[out].name + ".folded_weight";
    bv.name = graph.values[out].name + ".folded_bias";
    const ValueId w_id = graph.add_value(std::move(wv)), b_id = graph.add_value(std::move(bv));
    set_constant(graph, w_id, *std::move(weights));
    set_constant(graph, b_id, narrow<double>(dtype, Shape{channels}, bias));
    // The original goes at once when nobody else reads it: a model's weights are never all held twice.
    const ValueId original = producer.inputs[1];
    const bool own = static_cast<size_t>(original) >= readers.size();  // made here, when something before this one was folded in
    if (own || (readers[original].size() == 1 && !is_output(graph, original))) graph.values[original].constant.reset();
    producer.inputs[1] = w_id;
    producer.inputs.resize(2);
    if (matmul) producer.op = "Gemm", producer.version = std::max<int64_t>(13, graph.version_of(producer));
    producer.inputs.push_back(b_id);
    if (gemm) producer.attributes.erase("beta");
    producer.outputs[0] = out;
    made[out] = p;
    report.changes.push_back(fmt::format("{} folded into {}", label(graph, graph.nodes[n]), label(graph, producer)));
    const Node& norm = graph.nodes[n];
    producer.merged.push_back(norm.name.empty() ? norm.op : norm.name + " (" + norm.op + ")");
    gone[n] = true;
  }
  put_behind(graph, gone, std::move(after));
  erase_nodes(graph, gone);
  return report;
}

LATHE_GIVES_WAY Report remove_dead(Graph& graph) {
  Report report{"remove dead nodes", {}};
  std::vector<bool> needed(graph.values.size(), false), gone(graph.nodes.size(), true);
  for (ValueId v : graph.outputs) needed[v] = true;
  for (int n = static_cast<int>(graph.nodes.size()) - 1; n >= 0; --n) {
    Node& node = graph.nodes[n];
    if (std::none_of(node.outputs.begin(), node.outputs.end(), [&](ValueId v) { return v != kAbsent && needed[v]; })) continue;
    gone[n] = false;
    // What training reads beside the result.
    if (node.op == "LayerNormalization" && node.domain.empty()) {
      for (size_t i = 1; i < node.outputs.size(); ++i) {
        if (node.outputs[i] != kAbsent && !needed[node.outputs[i]]) node.outputs[i] = kAbsent;
      }
    }
    for (ValueId v : node.inputs) {
      if (v != kAbsent) needed[v] = true;
    }
    for (const Capture& c : node.captures) {
      if (c.value != kAbsent) needed[c.value] = true;
    }
  }
  for (size_t n = 0; n < gone.size(); ++n) {
    if (gone[n]) report.changes.push_back(fmt::format("{} removed: nobody reads its result", label(graph, graph.nodes[n])));
  }
  erase_nodes(graph, gone);
  for (size_t v = 0; v < needed.size(); ++v) {
    if (!needed[v] && graph.values[v].constant) graph.values[v].constant.reset();
  }
  return report;
}

LATHE_GIVES_WAY Report cut_to_outputs(Graph& graph, const std::vector<std::string>& outputs) {
  std::vector<ValueId> kept;
  for (const std::string& name : outputs) {
    const ValueId v = graph.find_value(name);
    if (v == kAbsent || name.empty()) {
      std::vector<std::string> names;
      for (ValueId o : graph.outputs) names.push_back("'" + graph.values[o].name + "'");
      std::vector<std::string> all;
      for (const Value& each : graph.values) all.push_back(each.name);
      fail(Category::value, "no value is named '{}'; the model's outputs are {}{}", name, fmt::join(names, ", "), did_you_mean(name, all));
    }
    kept.push_back(v);
  }
  graph.outputs = std::move(kept);
  Report report = remove_dead(graph);
  report.pass = "cut to outputs";
  // Inputs nobody reads any more need not be given.
  const auto readers = graph.consumers();
  std::erase_if(graph.inputs, [&](ValueId v) { return readers[v].empty() && !is_output(graph, v); });
  return report;
}

}  // namespace lathe::passes
