// Parts joined to one graph: values of each get its name in front, connections are values shared, loops are Loop nodes.
#include <algorithm>
#include <set>

#include "base/fail.hpp"
#include "base/text.hpp"
#include "lathe/generate.hpp"
#include "lathe/line.hpp"
#include "lathe/op.hpp"
#include "lathe/state.hpp"
#include "line/scope.hpp"

namespace lathe {
namespace line {
namespace {

constexpr int64_t kOpset = 17;

std::string who(const LinePart& p) { return fmt::format("part '{}'", p.name); }

void set_versions(Graph& g, const std::map<std::string, int64_t>& opsets) {
  for (Node& n : g.nodes) {
    if (const auto it = opsets.find(n.domain); n.version == 0 && it != opsets.end()) n.version = it->second;
    n.each_subgraph([&](const std::shared_ptr<Graph>& sub) { set_versions(*sub, opsets); });
  }
}

class Joiner {
 public:
  explicit Joiner(const Line& line) : line_(line), top_(graph_, nullptr, "") {}

  Graph run() {
    graph_.name = line_.name.empty() ? "line" : line_.name;
    graph_.producer = "mellow-lathe";
    graph_.metadata = line_.metadata;
    graph_.opsets[""] = kOpset;
    newest(line_.parts);
    if (line_.parts.empty()) fail(Category::value, "a line without parts");
    for (const LinePart& p : line_.parts) add(top_, p);
    for (const auto& [name, type] : line_.inputs) {
      if (!inputs_.contains(name)) fail(Category::value, "input '{}' is declared, and no part takes it", name);
    }
    name_inputs();
    name_outputs();
    symbols_.settle(graph_);
    settle_names(graph_);
    resolve_captures(graph_);
    if (!states_.empty()) graph_.metadata[kStatesKey] = fmt::format("{}", fmt::join(states_, ","));
    std::set<std::string> names;
    for (const Value& v : graph_.values) {
      if (!v.name.empty() && !names.insert(v.name).second)
        fail(Category::value, "two values of the line are named '{}'; give a part another name", v.name);
    }
    graph_.sort();
    check(graph_);
    infer(graph_);
    return std::move(graph_);
  }

 private:
  // A state of a part, and where it stands in the whole.
  struct Kept {
    std::string part;
    StatePair pair;
    ValueId input = kAbsent, output = kAbsent;
  };

  void newest(const std::vector<LinePart>& parts) {
    for (const LinePart& p : parts) {
      if (p.model) {
        for (const auto& [domain, version] : p.model->opsets) graph_.opsets[domain] = std::max(graph_.opsets[domain], version);
        graph_.ir_version = std::max(graph_.ir_version, p.model->ir_version);
      }
      newest(p.parts);
    }
  }

  void add(Scope& s, const LinePart& p) {
    if (p.name.empty() || p.name.find_first_of("./") != std::string::npos)
      fail(Category::value, "a part is named '{}', expected a name without dots and slashes", p.name);
    if (s.has_part(p.name)) fail(Category::value, "two parts are named '{}'", p.name);
    const int kinds = int{p.model.has_value()} + int{!p.op.empty()} + int{!p.parts.empty()};
    if (kinds != 1) fail(Category::value, "part '{}' must be one of a model, an op, and a loop of parts", p.name);
    if (p.model) add_model(s, p);
    else if (p.op == "insert") add_insert(s, p);
    else if (!p.op.empty()) add_op(s, p);
    else add_loop(s, p);
  }

  // What is named so where `by` stands; an input of the line when it is none of a part.
  ValueId take(Scope& s, const std::string& by, const std::string& from, const Type* wanted = nullptr) {
    if (from.empty()) fail(Category::value, "{} takes something from nowhere: a name is empty", by);
    if (const ValueId v = s.find(from); v != kAbsent) return v;
    const size_t dot = from.find('.');
    if (const std::string part = from.substr(0, dot); s.sees_part(part)) {
      const auto all = s.results_of(part);
      fail(Category::value, "{} takes '{}', which part '{}' does not make; it makes {}{}", by, from, part, fmt::join(all, ", "),
           did_you_mean(from, all));
    }
    for (const LinePart& p : line_.parts) {
      if (p.name == from.substr(0, dot))
        fail(Category::value, "{} takes '{}' of a part that does not stand before it: put '{}' first", by, from, p.name);
    }
    return s.outer_input([&](Scope& top) {
      Value v;
      v.name = from;
      if (const auto it = line_.inputs.find(from); it != line_.inputs.end()) {
        Type t = it->second;
        if (t.dims) symbols_.adopt(*t.dims, "");
        set_type(v, t);
      } else if (wanted) {
        set_type(v, *wanted);
      } else {
        fail(Category::value, "{} takes '{}', which is no part, and no model says what it is as an input of the line: {}", by, from,
             "declare its type and size under [inputs], or correct the name");
      }
      const ValueId id = top.graph.add_value(std::move(v));
      graph_.inputs.push_back(id);
      inputs_.insert(from);
      top.name(from, id);
      return id;
    });
  }

  // What ops between models make has no type yet: it is inferred where a model takes it, so that both ends are known.
  static void find_type(Graph& g, ValueId source) {
    Graph so_far = g;
    so_far.outputs = {source};
    try {
      infer(so_far);
    } catch (const Error&) {  // told when the whole is inferred
      return;
    }
    for (size_t v = 0; v < g.values.size(); ++v) {
      if (g.values[v].dtype == DType::undefined && !g.values[v].composite) set_type(g.values[v], type_of(so_far.values[v]));
    }
  }

  // Both ends of a connection are of one type.
  void fit(Graph& g, const std::string& part, const Value& port, const std::string& from, ValueId source) {
    if (g.values[static_cast<size_t>(source)].dtype == DType::undefined && !g.values[static_cast<size_t>(source)].composite)
      find_type(g, source);
    const Value& v = g.values[static_cast<size_t>(source)];
    if (v.dtype == DType::undefined && !v.composite) return;  // known when the whole is inferred
    const auto wrong = [&](Category c, const std::string& how) {
      fail(c, "part '{}' takes '{}' as {}, '{}' is {}: {}", part, port.name, symbols_.written(type_of(port)), from,
           symbols_.written(type_of(v)), how);
    };
    if (v.dtype != port.dtype || (v.composite != nullptr) != (port.composite != nullptr)) wrong(Category::type, "another type");
    if (!v.dims || !port.dims) return;
    if (v.dims->size() != port.dims->size()) wrong(Category::shape, "another number of axes");
    for (size_t i = 0; i < v.dims->size(); ++i) {
      if (!symbols_.unite((*v.dims)[i], (*port.dims)[i])) wrong(Category::shape, fmt::format("they differ along axis {}", i));
    }
  }

  void add_model(Scope& s, const LinePart& p) {
    Graph m = *deep_copy(*p.model);
    inline_functions(m);
    set_versions(m, m.opsets);
    settle_names(m);
    std::vector<StatePair> pairs;
    if (!p.states.empty()) {
      try {
        pairs = p.states == "found" ? find_states(m) : pair_states(m, p.states);
      } catch (const Error& e) {
        fail(e.category(), "part '{}': {}", p.name, e.what());
      }
      if (s.above) fail(Category::value, "part '{}' keeps states within a loop: carry them on instead", p.name);
    }
    std::map<ValueId, std::string> ports;  // as its file names them
    for (const ValueId v : m.inputs) ports[v] = m.values[static_cast<size_t>(v)].name;
    std::vector<Kept> kept;
    for (const StatePair& q : pairs) kept.push_back({p.name, q});
    std::vector<std::string> names;
    for (const auto& [v, name] : ports) names.push_back(name);
    for (const auto& [name, from] : p.takes) {
      if (std::ranges::find(names, name) == names.end())
        fail(Category::value, "part '{}' has no input '{}'; its inputs are {}{}", p.name, name, fmt::join(names, ", "),
             did_you_mean(name, names));
      if (std::ranges::find(pairs, name, &StatePair::input) != pairs.end())
        fail(Category::value, "part '{}': '{}' is a state, and taken from '{}' too", p.name, name, from);
    }
    symbols_.adopt(m, s.path + p.name);
    const std::string prefix = s.path + p.name + "/";
    std::vector<ValueId> ids(m.values.size(), kAbsent);
    for (const ValueId v : m.inputs) {
      const Value& port = m.values[static_cast<size_t>(v)];
      const auto it = p.takes.find(port.name);
      if (it != p.takes.end()) {
        const Type wanted = type_of(port);
        ids[v] = take(s, who(p), it->second, &wanted);
        fit(s.graph, p.name, port, it->second, ids[v]);
        s.used(ids[v]);
      } else {
        ids[v] = s.outer_input([&](Scope& top) {
          Value value = port;
          value.name = prefix + port.name;
          const ValueId id = top.graph.add_value(std::move(value));
          graph_.inputs.push_back(id);
          plain_inputs_.push_back({id, s.path + p.name, port.name});
          return id;
        });
      }
      for (Kept& k : kept) {
        if (k.pair.input == port.name) k.input = ids[v];
      }
    }
    for (size_t v = 0; v < ids.size(); ++v) {
      if (ids[v] != kAbsent) continue;
      Value value = m.values[v];
      value.name = prefix + value.name;
      ids[v] = s.graph.add_value(std::move(value));
    }
    for (Node& n : m.nodes) {
      for (ValueId& v : n.inputs) v = v == kAbsent ? kAbsent : ids[v];
      for (ValueId& v : n.outputs) v = v == kAbsent ? kAbsent : ids[v];
      for (Capture& c : n.captures) c.value = c.value == kAbsent ? kAbsent : ids[c.value];
      n.name = prefix + (n.name.empty() ? n.op : n.name);
      n.module = p.name + (n.module.empty() ? "" : "/" + n.module);
      s.graph.nodes.push_back(std::move(n));
    }
    const auto made = s.graph.producers();
    for (const ValueId v : m.outputs) {
      const std::string name = m.values[static_cast<size_t>(v)].name;
      ValueId id = ids[v];
      if (made[static_cast<size_t>(id)] < 0) id = same(s, id, prefix + name + ".out");  // an input or a constant that it gives on
      s.result(p.name, name, id);
      for (Kept& k : kept) {
        if (k.pair.output == name) k.output = id, s.used(id);
      }
    }
    kept_.insert(kept_.end(), kept.begin(), kept.end());
    for (const auto& [key, value] : m.metadata) graph_.metadata.try_emplace(key, value);
  }

  ValueId node(Scope& s, const std::string& name, std::string op, std::vector<ValueId> inputs, const std::string& output,
               std::map<std::string, Attribute::Data> attributes = {}) {
    return s.nodes(name, std::move(op), std::move(inputs), {output}, std::move(attributes))[0];
  }
  ValueId same(Scope& s, ValueId v, const std::string& name) { return node(s, name, "Identity", {v}, name); }

  ValueId operand(Scope& s, const LinePart& p, size_t i) {
    const LineOperand& o = p.operands[i];
    if (o.constant) return s.constant(fmt::format("{}{}/{}", s.path, p.name, i), *o.constant);
    if (o.from.empty()) return kAbsent;
    const ValueId v = take(s, who(p), o.from);
    s.used(v);
    return v;
  }

  void add_op(Scope& s, const LinePart& p) {
    std::vector<ValueId> inputs;
    for (size_t i = 0; i < p.operands.size(); ++i) inputs.push_back(operand(s, p, i));
    std::vector<std::string> names;
    for (int i = 0; i < p.outputs; ++i) names.push_back(fmt::format("{}{}/{}", s.path, p.name, i));
    const auto out = s.nodes(s.path + p.name, p.op, inputs, names, p.attributes);
    for (int i = 0; i < p.outputs; ++i) s.result(p.name, std::to_string(i), out[static_cast<size_t>(i)]);
  }

  // Row 0 stands for what has no mark: an index counts the marks so far, and is 0 where there is none.
  void add_insert(Scope& s, const LinePart& p) {
    const auto mark = p.attributes.find("mark");
    if (p.operands.size() != 3 || mark == p.attributes.end() || !std::holds_alternative<int64_t>(mark->second) || p.attributes.size() > 1)
      fail(Category::value, "part '{}': insert takes embeddings, tokens and rows, and has a whole number as 'mark'", p.name);
    if (s.above) fail(Category::value, "part '{}': insert stands in no loop", p.name);
    const std::string at = p.name + "/";
    const ValueId into = operand(s, p, 0), tokens = operand(s, p, 1), rows = operand(s, p, 2);
    if (into == kAbsent || tokens == kAbsent || rows == kAbsent)
      fail(Category::value, "part '{}': insert needs all three operands", p.name);
    const auto ints = [&](const char* name, std::vector<int64_t> v) {
      const auto n = static_cast<int64_t>(v.size());
      Tensor t(DType::i64, v.size() == 1 && name[0] == '=' ? Shape{} : Shape{n});
      std::ranges::copy(v, t.as<int64_t>().begin());
      return s.constant(at + (name[0] == '=' ? name + 1 : name), std::move(t));
    };
    const auto step = [&](const char* name, const char* op, std::vector<ValueId> in, std::map<std::string, Attribute::Data> a = {}) {
      return node(s, at + name, op, std::move(in), at + name, std::move(a));
    };
    const ValueId width = step("width", "Slice", {step("size", "Shape", {rows}), ints("last", {-1}), ints("end", {INT64_MAX})});
    const ValueId flat = step("flat", "Reshape", {rows, step("flat_size", "Concat", {ints("all", {-1}), width}, {{"axis", int64_t{0}}})});
    const ValueId padded = step("rows", "Pad", {flat, ints("pads", {1, 0, 0, 0})});
    const ValueId marked = step("marked", "Equal", {tokens, ints("=mark", {std::get<int64_t>(mark->second)})});
    const ValueId ones = step("ones", "Cast", {marked}, {{"to", int64_t{7}}});
    const ValueId counted = step("counted", "CumSum", {step("row", "Reshape", {ones, ints("one_row", {-1})}), ints("=axis", {0})});
    const ValueId index = step("index", "Mul", {step("back", "Reshape", {counted, step("tokens_size", "Shape", {tokens})}), ones});
    const ValueId picked = step("picked", "Gather", {padded, index}, {{"axis", int64_t{0}}});
    const ValueId column = step("column", "Unsqueeze", {marked, ints("behind", {-1})});
    const ValueId out = step("inserted", "Where", {column, picked, into});
    s.result(p.name, "0", out);
    graph_.metadata[kInsertKey] = fmt::format("{} {}", std::get<int64_t>(mark->second), at + "rows");
  }

  void add_loop(Scope& s, const LinePart& p) {
    if (p.rounds < 1) fail(Category::value, "loop '{}' needs how many rounds there are at most: 1 or more", p.name);
    if (p.carry.empty() && p.gather.empty()) fail(Category::value, "loop '{}' carries and gathers nothing: it makes nothing", p.name);
    auto body = std::make_shared<Graph>();
    body->name = p.name;
    body->opsets = graph_.opsets;
    Scope in(*body, &s, s.path + p.name + "/");
    const auto input = [&](const std::string& name, Type type) {
      Value v;
      v.name = in.path + name;
      set_type(v, std::move(type));
      const ValueId id = body->add_value(std::move(v));
      body->inputs.push_back(id);
      return id;
    };
    const auto scalar = [](DType d) {
      Type t;
      t.dtype = d;
      t.dims = Dims();
      return t;
    };
    const ValueId round = input("round", scalar(DType::i64)), go_on = input("go_on", scalar(DType::boolean));
    std::set<ValueId> moving{round};
    in.name("round", round);
    std::vector<ValueId> begin;
    for (const auto& [name, next] : p.carry) {
      const auto it = p.takes.find(name);
      if (it == p.takes.end()) fail(Category::value, "loop '{}' carries '{}', and nothing says where it begins: takes", p.name, name);
      const ValueId first = take(s, who(p), it->second);
      s.used(first);
      begin.push_back(first);
      const ValueId id = input(name, type_of(s.graph.values[static_cast<size_t>(first)]));
      moving.insert(id);
      in.name(name, id);
    }
    for (const auto& [name, from] : p.takes) {
      if (!p.carry.contains(name))
        fail(Category::value, "loop '{}' takes '{}', and does not carry it; parts in it take it where it is", p.name, name);
    }
    for (const auto& [name, table] : p.tables) {
      if (table.rank() == 0 || table.shape()[0] < p.rounds)
        fail(Category::shape, "loop '{}': table '{}' is {}, and there are {} rounds: expected an entry for each along the first axis",
             p.name, name, to_string(table.shape()), p.rounds);
      if (p.carry.contains(name)) fail(Category::value, "loop '{}': '{}' is both a table and carried", p.name, name);
      const ValueId row = node(in, in.path + name, "Gather", {in.constant(in.path + name + ".table", table), round}, in.path + name,
                               {{"axis", int64_t{0}}});
      moving.insert(row);
      in.name(name, row);
    }
    for (const LinePart& part : p.parts) add(in, part);
    const auto out = [&](ValueId v, const std::string& name) { body->outputs.push_back(same(in, v, in.path + name)); };
    if (p.until.empty()) {
      out(go_on, "goes_on");
    } else {
      const ValueId end = take(in, who(p), p.until);
      if (!hangs_on(*body, end, moving))
        fail(Category::value,
             "loop '{}' is to end when '{}' is true, which is the same in every round: it hangs on nothing that is carried, {}", p.name,
             p.until, "no table and not on the round");
      const ValueId one =
          node(in, in.path + "end", "Reshape", {end, in.constant(in.path + "no_axes", Tensor(DType::i64, {0}))}, in.path + "end");
      out(node(in, in.path + "not_end", "Not", {one}, in.path + "not_end"), "goes_on");
    }
    for (const auto& [name, next] : p.carry) out(take(in, who(p), next), name + ".next");
    for (const auto& [name, what] : p.gather) {
      if (p.carry.contains(name)) fail(Category::value, "loop '{}': '{}' is both carried and gathered", p.name, name);
      out(take(in, who(p), what), name + ".gathered");
    }
    std::vector<ValueId> inputs{s.constant(in.path + "rounds", Tensor::from<int64_t>({}, {p.rounds})), kAbsent};
    if (!p.until.empty()) inputs[1] = s.constant(in.path + "begins", Tensor::from<bool>({}, {true}));
    inputs.insert(inputs.end(), begin.begin(), begin.end());
    std::vector<std::string> names;
    for (const auto& [name, next] : p.carry) names.push_back(in.path + name + ".last");
    for (const auto& [name, what] : p.gather) names.push_back(in.path + name + ".all");
    const auto made = s.nodes(s.path + p.name, "Loop", inputs, names, {{"body", body}});
    s.graph.nodes.back().captures = in.captures();
    size_t i = 0;
    for (const auto& [name, next] : p.carry) s.result(p.name, name, made[i++]);
    for (const auto& [name, what] : p.gather) s.result(p.name, name, made[i++]);
  }

  // Whether a value changes with what moves.
  static bool hangs_on(const Graph& g, ValueId v, const std::set<ValueId>& moving) {
    const auto made = g.producers();
    std::set<ValueId> seen;
    std::vector<ValueId> open{v};
    while (!open.empty()) {
      const ValueId at = open.back();
      open.pop_back();
      if (at == kAbsent || !seen.insert(at).second) continue;
      if (moving.contains(at)) return true;
      const int n = made[static_cast<size_t>(at)];
      if (n < 0) continue;
      const Node& node = g.nodes[static_cast<size_t>(n)];
      const OpDef* def = find_op(node.domain, node.op, g.version_of(node));
      if (def && !def->pure) return true;
      for (const ValueId i : node.inputs) open.push_back(i);
      for (const Capture& c : node.captures) open.push_back(c.value);
    }
    return false;
  }

  // Inputs that no connection names: as in their file where that is no other's name.
  void name_inputs() {
    std::map<std::string, int> count;
    for (const auto& i : plain_inputs_) ++count[i.name];
    for (const auto& i : plain_inputs_) {
      const bool alone = count[i.name] == 1 && !inputs_.contains(i.name);
      graph_.values[static_cast<size_t>(i.id)].name = alone ? i.name : i.part + "." + i.name;
    }
  }

  void name_outputs() {
    std::vector<std::pair<std::string, ValueId>> out;
    if (line_.outputs.empty()) {
      for (const Scope::Result& r : top_.results()) {
        if (!top_.is_used(r.id)) out.emplace_back(r.part + "." + r.name, r.id);
      }
      std::map<std::string, int> count;
      const auto plain = [](const std::string& name) {  // an op has one, which is called as the op is
        const size_t dot = name.find('.');
        const std::string last = name.substr(dot + 1);
        return last == "0" ? name.substr(0, dot) : last;
      };
      for (const auto& [name, id] : out) ++count[plain(name)];
      for (const ValueId v : graph_.inputs) ++count[graph_.values[static_cast<size_t>(v)].name];
      for (auto& [name, id] : out) {
        if (count[plain(name)] == 1) name = plain(name);
      }
    } else {
      for (const auto& [name, from] : line_.outputs) out.emplace_back(name, take(top_, fmt::format("output '{}'", name), from));
    }
    if (out.empty()) fail(Category::value, "the line makes nothing that nobody takes: name its outputs");
    for (const auto& [name, id] : out) add_output(name, id);
    for (const Kept& k : kept_) {
      add_output(output_name(k), k.output);
      states_.push_back(graph_.values[static_cast<size_t>(graph_.outputs.back())].name + "=" +
                        graph_.values[static_cast<size_t>(k.input)].name);
    }
  }
  std::string output_name(const Kept& k) const {
    const std::string& name = k.pair.output;
    const auto alike = std::ranges::count_if(kept_, [&](const Kept& other) { return other.pair.output == name; });
    const bool taken = std::ranges::any_of(graph_.outputs, [&](ValueId v) { return graph_.values[static_cast<size_t>(v)].name == name; });
    return alike == 1 && !taken ? name : k.part + "." + name;
  }
  void add_output(const std::string& name, ValueId id) {
    const bool input = std::ranges::find(graph_.inputs, id) != graph_.inputs.end();
    if (input || std::ranges::find(graph_.outputs, id) != graph_.outputs.end()) id = same(top_, id, name);
    for (const ValueId v : graph_.inputs) {
      if (graph_.values[static_cast<size_t>(v)].name == name)
        fail(Category::value, "'{}' is both an input and an output of the line; give the output another name", name);
    }
    graph_.values[static_cast<size_t>(id)].name = name;
    graph_.outputs.push_back(id);
  }

  struct PlainInput {
    ValueId id;
    std::string part, name;
  };
  const Line& line_;
  Graph graph_;
  Symbols symbols_;
  Scope top_;
  std::set<std::string> inputs_;  // that connections name
  std::vector<PlainInput> plain_inputs_;
  std::vector<Kept> kept_;
  std::vector<std::string> states_;
};

}  // namespace
}  // namespace line

Graph join(const Line& line) { return line::Joiner(line).run(); }

}  // namespace lathe
