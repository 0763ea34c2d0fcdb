#include "listing.hpp"

#define XXH_INLINE_ALL
#include <xxhash.h>

#include <algorithm>
#include <cmath>
#include <map>

#include "base/text.hpp"
#include "tensor/widen.hpp"

namespace lathe::cli {
namespace {

std::string lowered(std::string text) {
  for (char& c : text) c = static_cast<char>(std::tolower(static_cast<unsigned char>(c)));
  return text;
}

bool holds(const std::string& text, const std::string& part) {
  return part.empty() || lowered(text).find(lowered(part)) != std::string::npos;
}

// What an attribute holds; long lists and tensors by their sizes.
Json attribute_json(const Attribute& a) {
  if (!a.reference.empty()) return "@" + a.reference;
  return std::visit(
      [](const auto& v) -> Json {
        using T = std::decay_t<decltype(v)>;
        if constexpr (std::is_same_v<T, std::monostate>) return nullptr;
        else if constexpr (std::is_same_v<T, int64_t> || std::is_same_v<T, float>) return v;
        else if constexpr (std::is_same_v<T, std::string>) return v.substr(0, 1000);
        else if constexpr (std::is_same_v<T, Tensor>) return fmt::format("{} of {}", to_string(v.dtype()), to_string(v.shape()));
        else if constexpr (std::is_same_v<T, std::shared_ptr<Graph>>) return fmt::format("a graph of {} nodes", v->nodes.size());
        else if constexpr (std::is_same_v<T, std::vector<int64_t>> || std::is_same_v<T, std::vector<float>> ||
                           std::is_same_v<T, std::vector<std::string>>) {
          if (v.size() > 64) return fmt::format("{} of them", v.size());
          return v;
        } else if constexpr (std::is_same_v<T, std::vector<Tensor>>) return fmt::format("{} tensors", v.size());
        else if constexpr (std::is_same_v<T, std::vector<std::shared_ptr<Graph>>>) return fmt::format("{} graphs", v.size());
        else if constexpr (std::is_same_v<T, SparseTensor>) return fmt::format("sparse, {}", to_string(v.shape));
        else if constexpr (std::is_same_v<T, Type>) return to_string(v);
        else return "not interpreted";
      },
      a.data);
}

// What the numbers of a weight are like.
Json weight_json(const Tensor& t) {
  Json j{{"dtype", to_string(t.dtype())}, {"shape", t.shape()}};
  if (t.composite() || t.dtype() == DType::string || is_complex(t.dtype()) || t.size() == 0 || t.data() == nullptr) return j;
  j["hash"] = fmt::format("{:016x}", XXH3_64bits(t.data(), t.byte_size()));
  const auto v = widen<double>(t);
  double low = INFINITY, high = -INFINITY, sum = 0, squares = 0;
  int64_t odd = 0, zero = 0;
  for (double x : v) {
    if (!std::isfinite(x)) {
      ++odd;
      continue;
    }
    low = std::min(low, x);
    high = std::max(high, x);
    sum += x;
    squares += x * x;
    zero += x == 0;
  }
  const auto n = static_cast<double>(static_cast<int64_t>(v.size()) - odd);
  if (odd > 0) j["not_finite"] = odd;
  if (n == 0) return j;
  j["min"] = low;
  j["max"] = high;
  j["mean"] = sum / n;
  j["deviation"] = std::sqrt(std::max(0.0, squares / n - sum / n * sum / n));
  j["zero_share"] = static_cast<double>(zero) / n;
  if (v.size() > 16 && high > low) {
    std::vector<int64_t> counts(24, 0);
    for (double x : v) {
      if (std::isfinite(x)) ++counts[std::min<size_t>(23, static_cast<size_t>((x - low) / (high - low) * 24))];
    }
    j["histogram"] = counts;
  }
  return j;
}

}  // namespace

void Listing::add_to(CLI::App& app) {
  app.add_flag("--nodes", nodes, "List the nodes: name, op, what they read and make, attributes");
  app.add_flag("--values", values, "List the values: name, dtype, shape, who makes and who reads them");
  app.add_flag("--weights", weights, "With --nodes: what each weight's numbers are like");
  app.add_option("--name", name, "With --nodes or --values: only those whose name holds TEXT")->type_name("TEXT");
  app.add_option("--op", op, "With --nodes or --values: only nodes of this op, and what they make")->type_name("OP");
}

Listed Listing::list(const Graph& g, const EditionInfo* edition) const {
  if (!on()) {
    if (weights || !name.empty() || !op.empty()) throw UsageError("--weights, --name and --op go with --nodes or --values");
    return {};
  }
  if (weights && !nodes) throw UsageError("--weights goes with --nodes");
  const auto makers = g.producers();
  const auto readers = g.consumers();
  const auto value_name = [&](ValueId v) { return v == kAbsent ? std::string() : g.values[static_cast<size_t>(v)].name; };
  const auto type_text = [&](ValueId v) {
    const Value& value = g.values[static_cast<size_t>(v)];
    return value.composite ? to_string(*value.composite) : fmt::format("{} {}", to_string(value.dtype), dims_text(value.dims));
  };
  // Steps by the names of the nodes they stand for.
  std::map<std::string, int> step_of;
  if (edition) {
    for (const NodeInfo& n : edition->nodes) {
      for (const std::string& merged : n.merged) step_of.try_emplace(merged, n.step);
      for (const std::string& made : n.outputs) step_of["=" + made] = n.step;
      step_of[n.label] = n.step;
    }
  }
  Listed out;
  Table node_table("rllll", {"#", "node", "op", "makes", "reads"}), value_table("lllll", {"value", "type", "", "made by", "read by"});
  const auto fits_op = [&](const Node& n) { return op.empty() || lowered(n.op) == lowered(op); };
  size_t found = 0;
  for (size_t i = 0; nodes && i < g.nodes.size(); ++i) {
    const Node& n = g.nodes[i];
    const bool fits_name =
        holds(n.name, name) || std::ranges::any_of(n.outputs, [&](ValueId v) { return v != kAbsent && holds(value_name(v), name); });
    if (!fits_op(n) || !fits_name) continue;
    ++found;
    Json j{{"index", i}, {"name", n.name}, {"op", n.op}, {"domain", n.domain}};
    std::string reads, makes;
    for (ValueId v : n.inputs) {
      const bool constant = v != kAbsent && g.values[static_cast<size_t>(v)].constant.has_value();
      Json in{{"name", value_name(v)}};
      if (v != kAbsent) in["type"] = type_text(v), in["constant"] = constant;
      if (constant && weights) in["weight"] = weight_json(*g.values[static_cast<size_t>(v)].constant);
      j["inputs"].push_back(std::move(in));
      reads += fmt::format("{}{}{}", reads.empty() ? "" : ", ", v == kAbsent ? "-" : value_name(v), constant ? "*" : "");
    }
    for (const Capture& c : n.captures) j["captures"].push_back(c.name);
    for (ValueId v : n.outputs) {
      if (v == kAbsent) continue;
      j["outputs"].push_back({{"name", value_name(v)}, {"type", type_text(v)}});
      makes += fmt::format("{}{} {}", makes.empty() ? "" : ", ", value_name(v), type_text(v));
    }
    for (const auto& [key, a] : n.attributes) j["attributes"][key] = attribute_json(a);
    if (edition) {
      auto it = step_of.find(n.name);
      if (n.name.empty() || it == step_of.end()) it = n.outputs.empty() ? step_of.end() : step_of.find("=" + value_name(n.outputs[0]));
      j["step"] = it == step_of.end() || it->second < 0 ? Json(nullptr) : Json(it->second + 1);
    }
    out.nodes.push_back(std::move(j));
    std::string attributes;
    for (const auto& [key, a] : n.attributes)
      attributes += fmt::format("  {} {}", key, attribute_json(a).dump(-1, ' ', false, Json::error_handler_t::replace));
    node_table.row({std::to_string(i), n.name, n.domain.empty() ? n.op : n.domain + "::" + n.op, makes, reads});
    if (!attributes.empty()) node_table.row({"", "", "", attributes, ""});
  }
  const auto node_name = [&](int n) {
    return g.nodes[static_cast<size_t>(n)].name.empty() ? fmt::format("#{} ({})", n, g.nodes[static_cast<size_t>(n)].op)
                                                        : g.nodes[static_cast<size_t>(n)].name;
  };
  for (size_t v = 0; values && v < g.values.size(); ++v) {
    const Value& value = g.values[v];
    if (value.name.empty() || !holds(value.name, name)) continue;
    if (!op.empty() && (makers[v] < 0 || !fits_op(g.nodes[static_cast<size_t>(makers[v])]))) continue;
    ++found;
    const bool input = std::ranges::find(g.inputs, static_cast<ValueId>(v)) != g.inputs.end(),
               output = std::ranges::find(g.outputs, static_cast<ValueId>(v)) != g.outputs.end();
    const std::string kind = input ? "input" : output ? "output" : value.constant ? "constant" : "";
    Json j{{"name", value.name},
           {"dtype", to_string(value.dtype)},
           {"shape", to_json(value.dims)},
           {"type", type_text(static_cast<ValueId>(v))},
           {"kind", kind},
           {"made_by", makers[v] < 0 ? Json(nullptr) : Json(node_name(makers[v]))},
           {"read_by", Json::array()}};
    std::string read_by;
    for (int r : readers[v]) {
      j["read_by"].push_back(node_name(r));
      read_by += (read_by.empty() ? "" : ", ") + node_name(r);
    }
    out.values.push_back(std::move(j));
    value_table.row({value.name, type_text(static_cast<ValueId>(v)), kind, makers[v] < 0 ? "" : node_name(makers[v]), read_by});
  }
  if (found == 0) {
    std::vector<std::string> known;
    for (const Node& n : g.nodes) known.push_back(op.empty() ? n.name : n.op);
    for (const Value& v : g.values) {
      if (op.empty()) known.push_back(v.name);
    }
    const std::string& wanted = op.empty() ? name : op;
    if (!wanted.empty())
      throw UsageError(fmt::format("{} {}: no {} of the model fits{}", op.empty() ? "--name" : "--op", wanted, nodes ? "node" : "value",
                                   did_you_mean(wanted, known)));
  }
  if (nodes) out.text += fmt::format("{} of {} nodes (* constants)\n{}", out.nodes.size(), g.nodes.size(), node_table.text());
  if (values) out.text += fmt::format("{}{} of {} values\n{}", nodes ? "\n" : "", out.values.size(), g.values.size(), value_table.text());
  return out;
}

}  // namespace lathe::cli
