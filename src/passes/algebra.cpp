// Algebra on the graph: what is computed twice, moved and moved back, reshaped again, or multiplied by constants in a row.
#include <algorithm>
#include <cmath>
#include <map>
#include <numeric>
#include <set>
#include <unordered_map>

#include "base/fail.hpp"
#include "lathe/op.hpp"
#include "passes/rewriter.hpp"
#include "tensor/widen.hpp"

namespace lathe::passes {
namespace {

using Attributes = std::map<std::string, Attribute>;

// Every reader of `from` inside the graph reads `to` instead; the graph's outputs keep their own makers.
void redirect(Graph& graph, const std::vector<ValueId>& to) {
  const auto settled = [&](ValueId v) {
    while (v != kAbsent && to[v] != v) v = to[v];
    return v;
  };
  for (Node& n : graph.nodes) {
    for (ValueId& v : n.inputs) v = settled(v);
    for (Capture& c : n.captures) c.value = settled(c.value);
  }
}

std::vector<ValueId> themselves(const Graph& g) {
  std::vector<ValueId> to(g.values.size());
  std::iota(to.begin(), to.end(), 0);
  return to;
}

// What decides a node's results besides its inputs; nothing when they are not to be shared.
std::optional<std::string> signature(const Graph& g, const Node& n, const std::vector<ValueId>& same) {
  const OpDef* def = find_op(n.domain, n.op, g.version_of(n));
  if (!def || !def->pure || n.has_subgraphs() || n.op == "Dropout") return std::nullopt;
  std::string s = fmt::format("{}:{}:{}:{}(", n.domain, n.op, g.version_of(n), n.outputs.size());
  for (ValueId v : n.inputs) s += fmt::format("{},", v == kAbsent ? kAbsent : same[v]);
  for (const auto& [key, a] : n.attributes) {
    s += ";" + key + "=";
    if (const auto* i = std::get_if<int64_t>(&a.data)) s += fmt::format("{}", *i);
    else if (const auto* f = std::get_if<float>(&a.data)) s += fmt::format("{:a}", *f);
    else if (const auto* t = std::get_if<std::string>(&a.data)) s += "'" + *t + "'";
    else if (const auto* list = std::get_if<std::vector<int64_t>>(&a.data)) s += fmt::format("{}", fmt::join(*list, " "));
    else return std::nullopt;
  }
  return s;
}

bool elementwise(const Graph& g, const Node& n) {
  const OpDef* def = find_op(n.domain, n.op, g.version_of(n));
  // Not what goes by channels or aligns an operand at an axis.
  return def && def->trait == Trait::elementwise && n.outputs.size() == 1 && n.op != "BatchNormalization" && n.op != "PRelu" &&
         !n.attributes.contains("axis");
}

std::vector<int64_t> perm_of(const Rewriter& r, int n) {
  auto perm = r.node(n).integers("perm");
  const auto& dims = r.graph_dims(r.node(n).inputs[0]);
  if (perm.empty() && dims) {
    for (size_t i = dims->size(); i-- > 0;) perm.push_back(static_cast<int64_t>(i));
  }
  for (int64_t& p : perm) p = p < 0 ? p + static_cast<int64_t>(perm.size()) : p;
  return perm;
}

Attributes with_perm(const std::vector<int64_t>& perm) {
  Attributes a;
  a["perm"].data = perm;
  return a;
}

bool in_order(const std::vector<int64_t>& perm) { return std::is_sorted(perm.begin(), perm.end()); }

}  // namespace

Report share_common(Graph& graph) {
  Report report{"share common nodes", {}};
  std::vector<ValueId> same = themselves(graph);
  // Small constants by their contents: exporters write the same scalar many times.
  std::unordered_map<std::string, ValueId> constants;
  constexpr size_t kSmall = 256;
  for (size_t v = 0; v < graph.values.size(); ++v) {
    const auto& c = graph.values[v].constant;
    if (!c || c->composite() || c->dtype() == DType::string || c->data() == nullptr || c->byte_size() > kSmall) continue;
    std::string key = fmt::format("{}:{}:", static_cast<int>(c->dtype()), to_string(c->shape()));
    key.append(static_cast<const char*>(c->data()), c->byte_size());
    same[v] = constants.try_emplace(std::move(key), static_cast<ValueId>(v)).first->second;
  }
  std::unordered_map<std::string, int> seen;
  std::vector<ValueId> to = themselves(graph);
  for (size_t n = 0; n < graph.nodes.size(); ++n) {
    const auto key = signature(graph, graph.nodes[n], same);
    if (!key) continue;
    const auto [it, fresh] = seen.try_emplace(*key, static_cast<int>(n));
    if (fresh) continue;
    const Node &node = graph.nodes[n], &first = graph.nodes[it->second];
    for (size_t i = 0; i < node.outputs.size(); ++i) {
      if (node.outputs[i] == kAbsent || first.outputs[i] == kAbsent) continue;
      to[node.outputs[i]] = same[node.outputs[i]] = first.outputs[i];
    }
    report.changes.push_back(fmt::format("{} is what {} computes already", label(graph, node), label(graph, first)));
  }
  if (!report.changes.empty()) redirect(graph, to);
  return report;
}

namespace {

// Done several times over at less cost than a number takes to be written and read.
bool cheap(const Rewriter& r, const Node& n) {
  static const std::set<std::string_view> kOps{"Add",       "Sub", "Mul", "Neg",         "Abs",       "Relu",
                                               "LeakyRelu", "Max", "Min", "HardSigmoid", "HardSwish", "Clip"};
  return n.domain.empty() && kOps.contains(n.op) && n.outputs.size() == 1 && !n.attributes.contains("axis") &&
         std::ranges::all_of(n.inputs, [&](ValueId v) { return v == kAbsent || r.dtype(v) == DType::f32; });
}

// Steps that take elementwise nodes after them: what they make is not in memory before those are done.
bool takes_more(const Node& n) {
  return n.op == "Conv" || n.op == "MatMul" || n.op == "Gemm" || n.op.starts_with("Reduce") || n.op.ends_with("oftmax") ||
         n.op.ends_with("Normalization");
}

}  // namespace

Report recompute(Graph& graph) {
  Rewriter r(graph, "recompute cheap nodes");
  const auto consumers = graph.consumers();
  const auto readers_of = [&](ValueId v) {
    std::vector<int> all = consumers[v];
    all.erase(std::unique(all.begin(), all.end()), all.end());
    return all;
  };
  constexpr size_t kLongest = 3;
  for (int n = 0; n < static_cast<int>(graph.nodes.size()); ++n) {
    if (graph.nodes[n].outputs.empty() || !cheap(r, graph.nodes[n])) continue;
    const ValueId made = graph.nodes[n].outputs[0];
    const auto shape = r.shape(made);
    const auto readers = readers_of(made);
    if (!shape || element_count(*shape) == 0 || r.is_output(made) || readers.size() < 2) continue;
    // The one operand of this size; others are constants or smaller.
    const auto whole = [&](int node) {
      ValueId found = kAbsent;
      for (ValueId v : graph.nodes[node].inputs) {
        if (v == kAbsent || r.constant(v) || r.shape(v) != shape) continue;
        if (found != kAbsent && found != v) return kAbsent;
        found = v;
      }
      return found;
    };
    std::vector<int> chain{n};
    ValueId from = whole(n);
    const auto in_memory = [&](ValueId v) {
      if (static_cast<size_t>(v) >= consumers.size()) return false;  // a copy of this pass
      const int p = r.producer(v);
      return p < 0 || r.readers(v) > 1 || (!elementwise(graph, graph.nodes[p]) && !takes_more(graph.nodes[p]));
    };
    while (from != kAbsent && !in_memory(from) && chain.size() < kLongest) {
      const int p = r.producer(from);
      if (p < 0 || !cheap(r, graph.nodes[p]) || r.shape(from) != shape) break;
      chain.push_back(p);
      from = whole(p);
    }
    if (from == kAbsent || !in_memory(from)) continue;
    // Each reader must be one that goes on elementwise, and not the end of a product, which takes a whole operand in its registers.
    const bool fit = std::ranges::all_of(readers, [&](int reader) {
      const Node& node = graph.nodes[reader];
      if (!elementwise(graph, node) || !node.domain.empty() || r.shape(node.outputs[0]) != shape || r.dtype(node.outputs[0]) != DType::f32)
        return false;
      return std::ranges::all_of(node.inputs, [&](ValueId v) {
        const int p = r.producer(v);
        return v == kAbsent || p < 0 || !takes_more(graph.nodes[p]) || r.readers(v) > 1;
      });
    });
    if (!fit) continue;
    for (size_t i = 1; i < readers.size(); ++i) {
      std::map<ValueId, ValueId> copies;
      for (auto step = chain.rbegin(); step != chain.rend(); ++step) {
        const Node node = graph.nodes[*step];
        std::vector<ValueId> inputs = node.inputs;
        for (ValueId& v : inputs) {
          if (const auto it = copies.find(v); it != copies.end()) v = it->second;
        }
        copies[node.outputs[0]] =
            r.before(readers[i], node.op, node.version, std::move(inputs), node.attributes, DType::f32, *r.graph_dims(node.outputs[0]));
      }
      std::ranges::replace(graph.nodes[readers[i]].inputs, made, copies.at(made));
    }
    r.note(fmt::format("{} is computed again for {} of its readers", label(graph, graph.nodes[n]), readers.size() - 1));
  }
  return r.finish();
}

Report simplify(Graph& graph) {
  Rewriter r(graph, "simplify");
  std::vector<ValueId> to = themselves(graph);
  for (int n = 0; n < static_cast<int>(graph.nodes.size()); ++n) {
    Node& node = graph.nodes[n];
    if (!node.domain.empty() || node.outputs.size() != 1 || node.outputs[0] == kAbsent || node.inputs.empty() || node.inputs[0] == kAbsent)
      continue;
    const ValueId in = node.inputs[0], out = node.outputs[0];
    const auto from = r.shape(in), made = r.shape(out);
    const bool kept = from && made && *from == *made && graph.values[in].dtype == graph.values[out].dtype;
    // x itself: full slices, empty pads, shapes that stay, factors of one.
    ValueId same = kAbsent;
    if (kept && (node.op == "Reshape" || node.op == "Flatten" || node.op == "Squeeze" || node.op == "Unsqueeze" || node.op == "Expand"))
      same = in;
    if (kept && node.op == "Pad") {
      const auto pads = node.inputs.size() > 1 ? r.integers(node.inputs[1]) : std::optional(node.integers("pads"));
      if (pads && std::ranges::all_of(*pads, [](int64_t p) { return p == 0; })) same = in;
    }
    if (kept && node.op == "Slice") {
      const auto steps =
          node.inputs.size() > 4 && node.inputs[4] != kAbsent ? r.integers(node.inputs[4]) : std::optional(std::vector<int64_t>{});
      if (steps && std::ranges::all_of(*steps, [](int64_t s) { return s > 0; })) same = in;
    }
    if ((node.op == "Concat" || node.op == "Split" || node.op == "Sum" || node.op == "Max" || node.op == "Min") &&
        node.inputs.size() == 1 && kept)
      same = in;
    // Exact whatever x is: x * 1, x / 1, x - 0 (x + 0 would turn -0 into 0), x^1.
    if (node.inputs.size() == 2 && is_float(graph.values[out].dtype)) {
      const auto left = r.scalar(node.inputs[0]), right = r.scalar(node.inputs[1]);
      if (kept && right &&
          ((*right == 1 && (node.op == "Mul" || node.op == "Div" || node.op == "Pow")) ||
           (*right == 0 && node.op == "Sub" && !std::signbit(*right))))
        same = in;
      if (left && *left == 1 && node.op == "Mul" && r.shape(node.inputs[1]) == made && made) same = node.inputs[1];
    }
    if (same != kAbsent && !r.is_output(out)) {
      r.note(fmt::format("{} changes nothing and goes", label(graph, node)));
      to[out] = same;
      continue;
    }
    // Views of views: one is enough when the last one's shape is known.
    if (node.op == "Reshape" || node.op == "Flatten" || node.op == "Squeeze" || node.op == "Unsqueeze") {
      int before = -1;
      for (const char* op : {"Reshape", "Flatten", "Squeeze", "Unsqueeze"}) before = std::max(before, r.maker(in, op));
      if (before >= 0 && made && r.readers(in) == 1 && std::ranges::none_of(*made, [](int64_t d) { return d == 0; })) {
        Tensor shape(DType::i64, {static_cast<int64_t>(made->size())});
        std::copy(made->begin(), made->end(), shape.as<int64_t>().begin());
        const ValueId sizes = r.add_constant(graph.values[out].name + ".shape", shape);
        to.push_back(sizes);
        (void)r.become(n, "Reshape", 13, {graph.nodes[before].inputs[0], sizes}, {}, {before});
        continue;
      }
    }
    if (node.op == "Transpose") {
      const int before = r.maker(in, "Transpose");
      if (before >= 0) {
        const auto first = perm_of(r, before), second = perm_of(r, n);
        if (!first.empty() && first.size() == second.size()) {
          std::vector<int64_t> both;
          for (int64_t p : second) both.push_back(first[p < 0 ? p + static_cast<int64_t>(first.size()) : p]);
          const ValueId source = graph.nodes[before].inputs[0];
          if (in_order(both) && !r.is_output(out)) {
            r.note(fmt::format("{} moves back what {} moved: both go", label(graph, node), label(graph, graph.nodes[before])));
            to[out] = source;
          } else {
            (void)r.become(n, "Transpose", 13, {source}, with_perm(both), {before});
          }
          continue;
        }
      }
    }
    // A transpose before an elementwise node goes behind it, where it may meet its inverse or the edge of a layout.
    if (elementwise(graph, node) && made) {
      std::vector<int64_t> perm;
      bool all = true;
      std::vector<ValueId> inputs;
      std::vector<int> moved;
      for (ValueId v : node.inputs) {
        if (v == kAbsent) {
          inputs.push_back(v);
          continue;
        }
        const int t = r.maker(v, "Transpose");
        if (t >= 0 && r.readers(v) == 1 && (perm.empty() || perm_of(r, t) == perm)) {
          perm = perm_of(r, t);
          moved.push_back(t);
          inputs.push_back(graph.nodes[t].inputs[0]);
        } else if (const Tensor* c = r.constant(v); c && c->size() == 1 && static_cast<size_t>(c->rank()) <= made->size()) {
          inputs.push_back(v);
        } else {
          all = false;
        }
      }
      // Only where it helps: another transpose waits behind.
      const auto met = [&] {
        return std::any_of(graph.nodes.begin() + n + 1, graph.nodes.end(),
                           [&](const Node& m) { return m.domain.empty() && m.op == "Transpose" && m.inputs[0] == out; });
      };
      if (all && !perm.empty() && perm.size() == made->size() && r.readers(out) == 1 && met()) {
        Dims shape(perm.size());
        for (size_t i = 0; i < perm.size(); ++i) shape[perm[i]] = (*made)[i];
        Node copy = node;
        const ValueId inner = r.before(n, copy.op, copy.version, inputs, copy.attributes, graph.values[out].dtype, shape);
        to.push_back(inner);
        (void)r.become(n, "Transpose", 13, {inner}, with_perm(perm), moved);
      }
    }
  }
  Report report = r.finish();
  if (!report.changes.empty()) redirect(graph, to);
  return report;
}

namespace {

// y = a b in double, row-major matrices.
Tensor multiplied(const Tensor& a, const Tensor& b) {
  const int64_t m = a.shape()[0], k = a.shape()[1], n = b.shape()[1];
  Tensor out(DType::f32, {m, n});
  const auto av = a.as<float>(), bv = b.as<float>();
  auto ov = out.as<float>();
  std::vector<double> row(n);
  for (int64_t i = 0; i < m; ++i) {
    std::fill(row.begin(), row.end(), 0.0);
    for (int64_t p = 0; p < k; ++p) {
      const double f = av[i * k + p];
      for (int64_t j = 0; j < n; ++j) row[j] += f * bv[p * n + j];
    }
    for (int64_t j = 0; j < n; ++j) ov[i * n + j] = static_cast<float>(row[j]);
  }
  return out;
}

}  // namespace

Report merge_products(Graph& graph) {
  Rewriter r(graph, "merge products");
  for (int n = 0; n < static_cast<int>(graph.nodes.size()); ++n) {
    const Node& node = graph.nodes[n];
    if (!node.domain.empty() || node.op != "MatMul") continue;
    const int before = r.maker(node.inputs[0], "MatMul");
    if (before < 0 || r.readers(node.inputs[0]) != 1) continue;
    const Tensor *a = r.constant(graph.nodes[before].inputs[1]), *b = r.constant(node.inputs[1]);
    if (!a || !b || a->rank() != 2 || b->rank() != 2 || a->dtype() != DType::f32 || b->dtype() != DType::f32) continue;
    const int64_t k = a->shape()[0], middle = a->shape()[1], m = b->shape()[1];
    // One product of k x m instead of k x middle and middle x m; and no more than a second of work while compiling.
    if (middle != b->shape()[0] || k * m > k * middle + middle * m || static_cast<double>(k) * static_cast<double>(middle * m) > 5e8)
      continue;
    Tensor product = multiplied(*a, *b);
    // Sums that leave the range of floats, where the two products in turn need not.
    if (std::ranges::any_of(product.as<float>(), [](float v) { return !std::isfinite(v); })) continue;
    const ValueId w = r.add_constant(graph.values[node.outputs[0]].name + ".product", std::move(product));
    (void)r.become(n, "MatMul", 13, {graph.nodes[before].inputs[0], w}, {}, {before});
  }
  return r.finish();
}

}  // namespace lathe::passes
