// Sequences and optionals whose items are known while compiling: what takes tensors out of them takes the tensors themselves. Exporters
// write them for lists of a program: a tensor taken apart and put together again.
#include "passes/node_writer.hpp"
#include "passes/passes.hpp"
#include "tensor/widen.hpp"

namespace lathe::passes {
namespace {

class KnownSequences : public NodeWriter {
 public:
  using NodeWriter::NodeWriter;

  // Nodes that make sequences stay as they are, for whoever reads them otherwise; with no reader they go.
  std::string operator()(Node& n) {
    if (!n.domain.empty() || n.outputs.empty() || n.outputs[0] == kAbsent) return "";
    if (n.op == "SequenceConstruct") return known(n, n.inputs);
    if (n.op == "SequenceEmpty") return known(n, {});
    if (n.op == "SplitToSequence") return split(n);
    if (n.op == "Optional") return optional(n);
    if (n.op == "OptionalHasElement") return has_element(n);
    if (n.op == "OptionalGetElement") return element(n);
    if (n.inputs.empty() || n.inputs[0] == kAbsent || !lists_.contains(n.inputs[0])) return "";
    List now = lists_.at(n.inputs[0]);
    if (n.op == "Identity") return known(n, now);
    if (n.op == "SequenceLength") {
      same(n, constant(n.name + ".length", Tensor::from<int64_t>({}, {static_cast<int64_t>(now.size())})));
      return "how many there are is known";
    }
    if (n.op != "SequenceInsert" && n.op != "SequenceErase" && n.op != "SequenceAt" && n.op != "ConcatFromSequence") return "";
    if (n.op == "ConcatFromSequence") return joined(n, now);
    const size_t at_input = n.op == "SequenceInsert" ? 2 : 1;
    const bool named = n.inputs.size() > at_input && n.inputs[at_input] != kAbsent;
    const auto count = static_cast<int64_t>(now.size());
    int64_t at = n.op == "SequenceInsert" ? count : count - 1;
    if (named) {
      const auto& c = graph_.values[static_cast<size_t>(n.inputs[at_input])].constant;
      if (!c || c->data() == nullptr || c->size() != 1) return "";
      at = lathe::integers(*c)[0];
    }
    if (at < 0 && named) at += count;
    if (at < 0 || at > count - (n.op == "SequenceInsert" ? 0 : 1)) return "";  // its error is told by who evaluates it
    if (n.op == "SequenceAt") {
      same(n, now[static_cast<size_t>(at)]);
      return "the item is known";
    }
    if (n.op == "SequenceInsert") now.insert(now.begin() + at, n.inputs[1]);
    else now.erase(now.begin() + at);
    return known(n, now);
  }

 private:
  using List = std::vector<ValueId>;
  struct Parts {  // of a tensor that is taken apart, by a node that is made once somebody reads one
    ValueId whole = kAbsent;
    int64_t axis = 0;
    std::vector<int64_t> sizes;
    bool squeezed = false, made = false;
    List values;
  };

  std::string known(const Node& n, List list) {
    if (std::ranges::find(list, kAbsent) == list.end()) lists_[n.outputs[0]] = std::move(list);
    return "";
  }
  void same(const Node& n, ValueId v) { put(n, "Identity", 16, {read(n, v)}, {}, n.outputs[0]); }

  // An item that a node which is written now reads.
  ValueId read(const Node& reader, ValueId item) {
    const auto found = part_of_.find(item);
    if (found == part_of_.end() || parts_[found->second].made) return item;
    Parts& p = parts_[found->second];
    p.made = true;
    type_ = dtype(p.whole);
    Node n;
    n.op = "Split";
    n.name = fmt::format("{}.Split", reader.name.empty() ? reader.op : reader.name);
    n.version = 13;
    n.module = reader.module;
    n.inputs = {p.whole, integers(n.name + ".sizes", p.sizes)};
    n.attributes["axis"] = attribute(p.axis);
    n.outputs = p.values;
    if (p.squeezed) {
      for (ValueId& v : n.outputs) v = add(n.name, type_);
    }
    const List whole = n.outputs;
    out_.push_back(std::move(n));
    if (p.squeezed) {
      const ValueId axes = integers(reader.name + ".axes", {p.axis});
      for (size_t i = 0; i < whole.size(); ++i) put(reader, "Squeeze", 13, {whole[i], axes}, {}, p.values[i]);
    }
    return item;
  }

  std::string split(const Node& n) {
    constexpr int64_t kMostParts = 256;
    const auto& dims = graph_.values[static_cast<size_t>(n.inputs[0])].dims;
    if (!dims || dims->empty()) return "";
    Parts p;
    p.whole = n.inputs[0];
    p.axis = ops::wrap_axis(n.integer("axis", 0), static_cast<int64_t>(dims->size()));
    const Dim& along = (*dims)[static_cast<size_t>(p.axis)];
    if (!along.known() || dtype(p.whole) == DType::undefined) return "";
    const int64_t total = along.value;
    if (n.inputs.size() < 2 || n.inputs[1] == kAbsent) {
      if (total > kMostParts) return "";
      p.sizes.assign(static_cast<size_t>(total), 1);
      p.squeezed = n.integer("keepdims", 1) == 0;
    } else {
      const auto& c = graph_.values[static_cast<size_t>(n.inputs[1])].constant;
      if (!c || c->data() == nullptr) return "";
      const auto sizes = lathe::integers(*c);
      if (c->rank() == 0) {
        if (sizes[0] < 1 || total / sizes[0] > kMostParts) return "";
        for (int64_t at = 0; at < total; at += sizes[0]) p.sizes.push_back(std::min(sizes[0], total - at));
      } else {
        p.sizes = sizes;
        const bool fits = std::ranges::all_of(sizes, [](int64_t s) { return s >= 0; });
        if (!fits || std::accumulate(sizes.begin(), sizes.end(), int64_t{0}) != total) return "";
      }
    }
    if (static_cast<int64_t>(p.sizes.size()) > kMostParts) return "";
    for (size_t i = 0; i < p.sizes.size(); ++i) {
      p.values.push_back(add(n.name + ".part", dtype(p.whole)));
      part_of_[p.values.back()] = parts_.size();
    }
    lists_[n.outputs[0]] = p.values;
    parts_.push_back(std::move(p));
    return "";
  }

  std::string joined(const Node& n, List now) {
    if (now.empty()) return "";
    for (ValueId& v : now) v = read(n, v);
    type_ = dtype(now[0]);
    const int64_t axis = n.integer("axis", 0);
    if (n.integer("new_axis", 0) != 0) {
      const ValueId axes = integers(n.name + ".axes", {axis});
      for (ValueId& v : now) v = put(n, "Unsqueeze", 13, {v, axes});
    }
    put(n, "Concat", 13, now, {{"axis", attribute(axis)}}, n.outputs[0]);
    return fmt::format("{} known items are joined", now.size());
  }

  // Optionals: a value that is there, or none.
  std::string optional(const Node& n) {
    options_[n.outputs[0]] = n.inputs.empty() ? kAbsent : n.inputs[0];
    return "";
  }
  // What an optional holds, or a tensor or sequence in its place; nothing when it is not known.
  std::optional<ValueId> held(const Node& n) const {
    if (n.inputs.empty() || n.inputs[0] == kAbsent) return kAbsent;
    const ValueId v = n.inputs[0];
    if (const auto found = options_.find(v); found != options_.end()) return found->second;
    const auto& composite = graph_.values[static_cast<size_t>(v)].composite;
    if (composite ? composite->kind == Type::Kind::optional : dtype(v) == DType::undefined) return std::nullopt;
    return v;
  }
  std::string has_element(const Node& n) {
    const auto v = held(n);
    if (!v) return "";
    same(n, constant(n.name + ".has", Tensor::from<bool>({}, {*v != kAbsent})));
    return "whether there is one is known";
  }
  std::string element(const Node& n) {
    const auto v = held(n);
    if (!v || *v == kAbsent) return "";
    if (const auto list = lists_.find(*v); list != lists_.end()) return known(n, list->second);
    if (graph_.values[static_cast<size_t>(*v)].composite) return "";
    type_ = dtype(*v);
    same(n, *v);
    return "the value is known";
  }

  std::map<ValueId, List> lists_;
  std::vector<Parts> parts_;
  std::map<ValueId, size_t> part_of_;
  std::map<ValueId, ValueId> options_;
};

}  // namespace

Report known_sequences(Graph& graph) {
  static const std::set<std::string_view> kTakers{"SequenceAt", "ConcatFromSequence", "SequenceLength", "OptionalHasElement",
                                                  "OptionalGetElement"};
  if (std::ranges::none_of(graph.nodes, [](const Node& n) { return n.domain.empty() && kTakers.contains(n.op); }))
    return {"known sequences", {}};
  return written_anew<KnownSequences>(graph, "known sequences");
}

}  // namespace lathe::passes
