#include "parity/unrounded.hpp"

#include <algorithm>
#include <set>

#include "lathe/op.hpp"

namespace lathe::parting {
namespace {

// What does to codes as it does to the numbers that they stand for.
bool passes_on(const Node& n) {
  static const std::set<std::string_view> kMoves{"Reshape",      "Transpose",      "Flatten",  "Squeeze", "Unsqueeze", "Identity",
                                                 "Concat",       "Slice",          "Split",    "Expand",  "Tile",      "Gather",
                                                 "GatherND",     "GatherElements", "MaxPool",  "Max",     "Min",       "DepthToSpace",
                                                 "SpaceToDepth", "ReduceMax",      "ReduceMin"};
  return n.domain.empty() && kMoves.contains(n.op);
}

// Rounding by that node alone.
Graph rounding_of(const Graph& g, const Node& q) {
  Graph out;
  out.opsets = g.opsets;
  std::vector<ValueId> ids;
  for (const ValueId v : q.inputs) {
    if (v == kAbsent) {
      ids.push_back(kAbsent);
      continue;
    }
    Value value = g.values[static_cast<size_t>(v)];
    if (ids.empty()) value.dims.reset();
    ids.push_back(out.add_value(std::move(value)));
  }
  Value codes = g.values[static_cast<size_t>(q.outputs[0])], rounded = g.values[static_cast<size_t>(q.inputs[0])];
  codes.dims.reset();
  rounded.dims.reset();
  rounded.name += ".rounded";
  Node quantise = q, widen;
  quantise.inputs = ids;
  quantise.outputs = {out.add_value(std::move(codes))};
  widen.op = "DequantizeLinear";
  widen.name = q.name + ".back";
  for (const char* name : {"axis", "block_size"}) {
    if (const auto it = q.attributes.find(name); it != q.attributes.end()) widen.attributes[name] = it->second;
  }
  widen.inputs = ids;
  widen.inputs[0] = quantise.outputs[0];
  widen.outputs = {out.add_value(std::move(rounded))};
  out.inputs = {ids[0]};
  out.outputs = widen.outputs;
  out.nodes = {std::move(quantise), std::move(widen)};
  return out;
}

}  // namespace

Unrounded unrounded(const Graph& graph) {
  Unrounded u{graph, {}};
  Graph& g = u.graph;
  std::set<ValueId> codes;  // that stand for numbers of the model
  for (Node& n : g.nodes) {
    const bool of_codes = std::ranges::any_of(n.inputs, [&](ValueId v) { return codes.contains(v); }) ||
                          std::ranges::any_of(n.captures, [&](const Capture& c) { return codes.contains(c.value); });
    const bool standard = n.domain.empty();
    if (standard && n.op == "QuantizeLinear" && !g.values[static_cast<size_t>(n.inputs[0])].constant) {
      const auto constant = [&](ValueId v) { return v == kAbsent || g.values[static_cast<size_t>(v)].constant.has_value(); };
      if (!std::ranges::all_of(n.inputs.begin() + 1, n.inputs.end(), constant)) return {graph, {}};
      codes.insert(n.outputs[0]);
      u.rounding.emplace(g.values[static_cast<size_t>(n.inputs[0])].name, rounding_of(graph, n));
    } else if (standard && n.op == "DequantizeLinear" && codes.contains(n.inputs[0])) {
      // Back to numbers.
    } else if (of_codes) {
      if (!passes_on(n) || n.has_subgraphs()) return {graph, {}};
      codes.insert(n.outputs.begin(), n.outputs.end());
      continue;
    } else {
      continue;
    }
    n.op = "Identity";
    n.inputs.resize(1);
    n.attributes.clear();
  }
  if (std::ranges::any_of(g.outputs, [&](ValueId v) { return codes.contains(v); })) return {graph, {}};
  if (u.rounding.empty()) return u;
  const DType wide = graph.values[static_cast<size_t>(graph.find_value(u.rounding.begin()->first))].dtype;
  for (const ValueId v : codes) {
    if (v != kAbsent) g.values[static_cast<size_t>(v)].dtype = wide;
  }
  try {
    infer(g);
  } catch (const Error&) {  // something computes with codes after all
    return {graph, {}};
  }
  return u;
}

}  // namespace lathe::parting
