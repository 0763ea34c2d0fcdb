#include "lathe/shaping.hpp"

#include <algorithm>
#include <functional>
#include <set>

#include "base/fail.hpp"
#include "base/text.hpp"
#include "graph/dims.hpp"
#include "lathe/op.hpp"
#include "passes/passes.hpp"
#include "tensor/numbers.hpp"
#include "tensor/widen.hpp"

namespace lathe {
namespace {

// Works on a copy and hands it over only when all went well.
template <typename F>
void transact(Graph& graph, F&& f) {
  const auto copy = deep_copy(graph);
  f(*copy);
  copy->sort();
  check(*copy);
  infer(*copy);
  graph = std::move(*copy);
}

// What was inferred from sizes that no longer hold. Names of dims that the exporter gave go too: inference finds them again.
void forget_dims(Graph& g, bool top = true) {
  for (size_t v = 0; v < g.values.size(); ++v) {
    const bool input = std::ranges::count(g.inputs, static_cast<ValueId>(v)) > 0;
    if (!g.values[v].constant && !(top && input)) g.values[v].dims.reset();
  }
  for (const Node& n : g.nodes) n.each_subgraph([](const auto& sub) { forget_dims(*sub, false); });
}

ValueId input_named(const Graph& g, const std::string& name) {
  std::vector<std::string> names;
  for (ValueId v : g.inputs) {
    if (g.values[v].name == name) return v;
    names.push_back("'" + g.values[v].name + "'");
  }
  fail(Category::value, "no input is named '{}'; the inputs are {}{}", name, fmt::join(names, ", "), did_you_mean(name, names));
}

std::string free_name(const Graph& g, std::string name) {
  while (g.find_value(name) != kAbsent) name += "_";
  return name;
}

ValueId add_constant(Graph& g, const std::string& name, Tensor t) {
  Value v;
  v.name = free_name(g, name);
  v.dtype = t.dtype();
  v.dims = Dims(t.shape().begin(), t.shape().end());
  v.constant = std::move(t);
  return g.add_value(std::move(v));
}

ValueId add_value(Graph& g, const std::string& name, DType dtype = DType::undefined) {
  Value v;
  v.name = free_name(g, name);
  v.dtype = dtype;
  return g.add_value(std::move(v));
}

std::vector<std::string> value_names(const Graph& g) {
  std::vector<std::string> names;
  for (const Value& v : g.values) names.push_back(v.name);
  return names;
}

Tensor list(const std::vector<int64_t>& v) { return Tensor::from<int64_t>({static_cast<int64_t>(v.size())}, v); }

}  // namespace

void cut(Graph& graph, const std::vector<std::string>& inputs, const std::vector<std::string>& outputs) {
  transact(graph, [&](Graph& g) {
    if (!outputs.empty()) passes::cut_to_outputs(g, outputs);
    if (inputs.empty()) return;
    std::vector<ValueId> starts;
    for (const std::string& name : inputs) {
      const ValueId v = name.empty() ? kAbsent : g.find_value(name);
      if (v == kAbsent)
        fail(Category::value, "no value is named '{}' among those the outputs need{}", name, did_you_mean(name, value_names(g)));
      if (g.values[v].constant) fail(Category::value, "'{}' is a constant; it cannot be an input", name);
      if (std::ranges::count(starts, v) > 0) fail(Category::value, "input '{}' is named twice", name);
      starts.push_back(v);
    }
    for (Node& n : g.nodes) {
      for (ValueId& v : n.outputs) {
        if (v != kAbsent && std::ranges::count(starts, v) > 0) v = kAbsent;
      }
    }
    passes::remove_dead(g);
    const auto readers = g.consumers();
    std::vector<std::string> left;
    for (ValueId v : g.inputs) {
      if (std::ranges::count(starts, v) == 0 && (!readers[v].empty() || std::ranges::count(g.outputs, v) > 0))
        left.push_back("'" + g.values[v].name + "'");
    }
    if (!left.empty())
      fail(Category::value, "the outputs still need {}; name {} as an input too, or cut further down", fmt::join(left, ", "),
           left.size() == 1 ? "it" : "them");
    g.inputs = std::move(starts);
  });
}

void bind_dims(Graph& graph, const std::map<std::string, int64_t>& sizes) {
  transact(graph, [&](Graph& g) {
    std::set<std::string> symbols;
    for (const Value& v : g.values) {
      for (const Dim& d : v.dims.value_or(Dims())) {
        if (!d.symbol.empty()) symbols.insert(d.symbol);
      }
    }
    for (const auto& [name, size] : sizes) {
      if (!symbols.contains(name))
        fail(Category::value, "no dim is named '{}'; {}", name,
             symbols.empty() ? "all dims are fixed" : fmt::format("the open dims are {}", fmt::join(symbols, ", ")));
      if (size < 0) fail(Category::value, "dim '{}' cannot be {}", name, size);
    }
    const std::function<void(Graph&)> put = [&](Graph& scope) {
      for (Value& v : scope.values) {
        if (!v.dims) continue;
        for (Dim& d : *v.dims) {
          d = bound(d, sizes);
        }
      }
      for (const Node& n : scope.nodes) n.each_subgraph([&](const auto& sub) { put(*sub); });
    };
    put(g);
  });
}

void set_input_dims(Graph& graph, const std::string& input, Dims dims) {
  transact(graph, [&](Graph& g) {
    Value& v = g.values[input_named(g, input)];
    if (v.composite) fail(Category::type, "input '{}' is {}; it has no shape", input, to_string(*v.composite));
    v.dims = std::move(dims);
    forget_dims(g);
  });
}

void freeze_input(Graph& graph, const std::string& input, Tensor tensor) {
  transact(graph, [&](Graph& g) {
    const ValueId id = input_named(g, input);
    Value& v = g.values[id];
    if (v.composite || tensor.composite()) fail(Category::unsupported, "input '{}': only tensors can be frozen", input);
    if (v.dtype != DType::undefined && tensor.dtype() != v.dtype)
      fail(Category::type, "input '{}' is {}, the tensor is {}", input, to_string(v.dtype), to_string(tensor.dtype()));
    bool fits = !v.dims || v.dims->size() == tensor.shape().size();
    for (size_t i = 0; fits && v.dims && i < v.dims->size(); ++i) fits = !(*v.dims)[i].known() || (*v.dims)[i].value == tensor.shape()[i];
    if (!fits) fail(Category::shape, "input '{}' is {}, the tensor {}", input, to_string(*v.dims), to_string(tensor.shape()));
    v.dtype = tensor.dtype();
    v.dims = Dims(tensor.shape().begin(), tensor.shape().end());
    v.constant = std::move(tensor);
    std::erase(g.inputs, id);
  });
}

void rename_values(Graph& graph, const std::map<std::string, std::string>& names) {
  transact(graph, [&](Graph& g) {
    std::vector<std::pair<ValueId, std::string>> changes;
    for (const auto& [from, to] : names) {
      const ValueId v = from.empty() ? kAbsent : g.find_value(from);
      if (v == kAbsent) fail(Category::value, "no value is named '{}'{}", from, did_you_mean(from, value_names(g)));
      if (to.empty()) fail(Category::value, "'{}' cannot be renamed to nothing", from);
      changes.emplace_back(v, to);
    }
    for (const auto& [v, to] : changes) g.values[v].name = to;
    std::set<std::string> seen;
    for (const Value& v : g.values) {
      if (!v.name.empty() && !seen.insert(v.name).second) fail(Category::value, "the name '{}' is taken", v.name);
    }
    settle_names(g);
  });
}

void embed_preprocessing(Graph& graph, const std::string& input, const Preprocessing& how) {
  transact(graph, [&](Graph& g) {
    const ValueId inner = input_named(g, input);
    if (g.opset("") < 7) fail(Category::value, "the model's opset is {}; convert it to 7 or newer first", g.opset(""));
    const Value old = g.values[inner];
    if (!old.dims || old.dims->size() != 4 || !is_float(old.dtype))
      fail(Category::shape, "input '{}' is {} {}, expected a floating N x C x H x W", input, to_string(old.dtype),
           old.dims ? to_string(*old.dims) : "of unknown rank");
    const Dim channels = (*old.dims)[1];
    const auto column = [&](const std::vector<float>& v, const char* what) {
      if (v.size() > 1 && channels.known() && static_cast<int64_t>(v.size()) != channels.value)
        fail(Category::value, "{} has {} entries, the input {} channels", what, v.size(), channels.value);
      return narrow<double>(old.dtype, Shape{1, static_cast<int64_t>(v.size()), 1, 1}, std::vector<double>(v.begin(), v.end()));
    };
    if (how.swap_channels && channels.value != 3)
      fail(Category::value, "swapping the order of channels needs 3 of them, input '{}' has {}", input, to_string(channels));
    g.values[inner].name = free_name(g, input + ".prepared");
    Value outer;
    outer.name = input;
    outer.doc = old.doc;
    outer.dtype = how.from_u8 ? DType::u8 : old.dtype;
    outer.dims = how.from_channels_last ? Dims{(*old.dims)[0], (*old.dims)[2], (*old.dims)[3], channels} : *old.dims;
    ValueId at = g.add_value(std::move(outer));
    std::ranges::replace(g.inputs, inner, at);
    std::vector<Node> chain;
    const auto step = [&](const char* op, std::vector<ValueId> more, std::map<std::string, Attribute> attributes = {}) {
      Node n;
      n.op = op;
      n.name = input + "/" + op;
      n.inputs = {at};
      n.inputs.insert(n.inputs.end(), more.begin(), more.end());
      n.attributes = std::move(attributes);
      at = add_value(g, n.name + ".out");
      n.outputs = {at};
      chain.push_back(std::move(n));
    };
    if (how.from_u8) step("Cast", {}, {{"to", {int64_t{number_of_dtype(old.dtype)}, ""}}});
    if (how.from_channels_last) step("Transpose", {}, {{"perm", {std::vector<int64_t>{0, 3, 1, 2}, ""}}});
    if (how.swap_channels) step("Gather", {add_constant(g, input + ".order", list({2, 1, 0}))}, {{"axis", {int64_t{1}, ""}}});
    if (!how.mean.empty()) step("Sub", {add_constant(g, input + ".mean", column(how.mean, "mean"))});
    if (!how.scale.empty()) step("Mul", {add_constant(g, input + ".scale", column(how.scale, "scale"))});
    if (chain.empty()) fail(Category::value, "no preprocessing is asked for");
    // The metadata says what is to be done outside: what is inside now is not among it any more.
    if (!how.mean.empty() && how.scale.empty() && g.metadata.contains("scale"))
      fail(Category::value, "the metadata has a scale ({}) that belongs behind the mean: put both inside", g.metadata.at("scale"));
    if (!how.mean.empty()) g.metadata.erase("mean");
    if (!how.scale.empty()) g.metadata.erase("scale");
    if (how.swap_channels) {
      if (const auto it = g.metadata.find("channels"); it != g.metadata.end() && it->second == "bgr") g.metadata.erase(it);
      else g.metadata["channels"] = "bgr";
    }
    if (how.from_channels_last) g.metadata["layout"] = "channels-last";
    chain.back().outputs = {inner};
    g.nodes.insert(g.nodes.begin(), chain.begin(), chain.end());
  });
}

namespace {

// Carries one graph from one opset version to the next. New nodes go in front of (or behind) the one that is being changed.
class Converter {
 public:
  explicit Converter(Graph& graph) : g_(graph) {}

  // Faults of nodes that cannot be carried over.
  std::vector<Fault> run(int64_t to) {
    std::vector<Node> nodes = std::move(g_.nodes);
    g_.nodes.clear();
    for (Node& n : nodes) {
      n.each_subgraph([&](const std::shared_ptr<Graph>& sub) {
        for (Fault& f : Converter(*sub).run(to)) faults_.push_back(std::move(f));
      });
      behind_.clear();
      if (n.domain.empty() && n.version == 0) change(n, to);
      g_.nodes.push_back(std::move(n));
      for (Node& b : behind_) g_.nodes.push_back(std::move(b));
    }
    g_.opsets[""] = to;
    return std::move(faults_);
  }

 private:
  void refuse(const Node& n, const std::string& why) { faults_.push_back({Category::unsupported, label(g_, n), why}); }

  // An attribute of integers that became an input.
  void to_input(Node& n, const char* attribute, size_t position) {
    const auto* v = n.find<std::vector<int64_t>>(attribute);
    if (v == nullptr) return;
    const std::vector<int64_t> values = *v;
    n.attributes.erase(attribute);
    put_input(n, position, add_constant(g_, base(n) + "." + attribute, list(values)));
  }

  void put_input(Node& n, size_t position, ValueId v) {
    while (n.inputs.size() <= position) n.inputs.push_back(kAbsent);
    n.inputs[position] = v;
  }

  std::string base(const Node& n) const {
    return n.name.empty() ? (n.outputs.empty() || n.outputs[0] == kAbsent ? n.op : g_.values[n.outputs[0]].name) : n.name;
  }

  // A node in front of `n`; gives its output.
  ValueId before(const Node& n, const char* op, std::vector<ValueId> inputs, std::map<std::string, Attribute> attributes = {}) {
    Node fresh;
    fresh.op = op;
    fresh.name = base(n) + "/" + op;
    fresh.inputs = std::move(inputs);
    fresh.attributes = std::move(attributes);
    fresh.outputs = {add_value(g_, fresh.name + ".out")};
    g_.nodes.push_back(fresh);
    return fresh.outputs[0];
  }

  int rank(ValueId v) const { return v != kAbsent && g_.values[v].dims ? static_cast<int>(g_.values[v].dims->size()) : -1; }
  bool used(const Node& n, size_t output) const { return output < n.outputs.size() && n.outputs[output] != kAbsent; }

  void change(Node& n, int64_t to) {
    static const std::map<int64_t, std::map<std::string, void (Converter::*)(Node&)>> kChanges{
        {7,
         {{"Add", &Converter::broadcast7},
          {"Sub", &Converter::broadcast7},
          {"Mul", &Converter::broadcast7},
          {"Div", &Converter::broadcast7},
          {"Pow", &Converter::broadcast7},
          {"And", &Converter::broadcast7},
          {"Or", &Converter::broadcast7},
          {"Xor", &Converter::broadcast7},
          {"Equal", &Converter::broadcast7},
          {"Less", &Converter::broadcast7},
          {"Greater", &Converter::broadcast7},
          {"Gemm", &Converter::gemm7},
          {"PRelu", &Converter::prelu7},
          {"BatchNormalization", &Converter::test_only7},
          {"Dropout", &Converter::test_only7}}},
        {9, {{"Upsample", &Converter::upsample9}, {"BatchNormalization", &Converter::batch9}, {"Scan", &Converter::scan9}}},
        {10, {{"Slice", &Converter::slice10}, {"TopK", &Converter::topk10}, {"Upsample", &Converter::upsample10}}},
        {11,
         {{"Clip", &Converter::clip11}, {"Pad", &Converter::pad11}, {"Resize", &Converter::resize11}, {"Scatter", &Converter::scatter11}}},
        {12, {{"Dropout", &Converter::dropout12}}},
        {13,
         {{"Softmax", &Converter::softmax13},
          {"LogSoftmax", &Converter::softmax13},
          {"Hardmax", &Converter::softmax13},
          {"Squeeze", &Converter::axes1},
          {"Unsqueeze", &Converter::axes1},
          {"ReduceSum", &Converter::axes1},
          {"Split", &Converter::split13}}},
        {14, {{"BatchNormalization", &Converter::batch14}}},
        {18,
         {{"ReduceMean", &Converter::axes1},
          {"ReduceMax", &Converter::axes1},
          {"ReduceMin", &Converter::axes1},
          {"ReduceProd", &Converter::axes1},
          {"ReduceL1", &Converter::axes1},
          {"ReduceL2", &Converter::axes1},
          {"ReduceSumSquare", &Converter::axes1},
          {"ReduceLogSum", &Converter::axes1},
          {"ReduceLogSumExp", &Converter::axes1},
          {"Split", &Converter::split18}}},
        {20, {{"DFT", &Converter::dft20}, {"GridSample", &Converter::grid20}}},
        {21, {{"GroupNormalization", &Converter::group21}}},
    };
    n.attributes.erase("consumed_inputs");
    for (const auto& [version, ops] : kChanges) {
      if (version <= g_.opset("") || version > to) continue;
      if (const auto it = ops.find(n.op); it != ops.end()) (this->*it->second)(n);
    }
  }

  void broadcast7(Node& n) {
    const auto axis = n.find<int64_t>("axis") ? std::optional(n.integer("axis", 0)) : std::nullopt;
    const bool asked = n.integer("broadcast", 0) != 0;
    n.attributes.erase("axis");
    n.attributes.erase("broadcast");
    if (!axis || !asked) return;
    const int a = rank(n.inputs[0]), b = rank(n.inputs[1]);
    if (a < 0 || b < 0) return refuse(n, "its broadcast axis cannot be carried over without knowing the ranks of its inputs");
    const int64_t at = *axis < 0 ? *axis + a : *axis;
    std::vector<int64_t> axes;  // dims of size 1 behind the second input's own
    for (int64_t i = b; i < a - at; ++i) axes.push_back(i);
    if (!axes.empty()) n.inputs[1] = before(n, "Unsqueeze", {n.inputs[1]}, {{"axes", {axes, ""}}});
    if (!axes.empty()) g_.values[n.inputs[1]].dims = Dims(b + axes.size());
  }
  void gemm7(Node& n) { n.attributes.erase("broadcast"); }
  void prelu7(Node& n) {
    const int a = rank(n.inputs[0]), b = rank(n.inputs[1]);
    if (a < 0 || b < 0) return refuse(n, "its slopes cannot be carried over without knowing the ranks of its inputs");
    std::vector<int64_t> axes;
    for (int64_t i = 1; b == 1 && i < a - 1; ++i) axes.push_back(i);
    if (!axes.empty()) n.inputs[1] = before(n, "Unsqueeze", {n.inputs[1]}, {{"axes", {axes, ""}}});
  }
  void test_only7(Node& n) {
    if (!n.integer("is_test", 0)) return refuse(n, "it is in training mode (is_test 0), which later versions say differently");
    n.attributes.erase("is_test");
  }
  void batch9(Node& n) {
    if (n.integer("spatial", 1) == 0) return refuse(n, "attribute spatial is 0, which later versions do not have");
    n.attributes.erase("spatial");
  }
  void scan9(Node& n) { refuse(n, "Scan of version 8 has another form; it must be exported again"); }
  void upsample9(Node& n) {
    const auto* scales = n.find<std::vector<float>>("scales");
    if (scales == nullptr) return refuse(n, "attribute scales is missing");
    const Tensor t = Tensor::from<float>({static_cast<int64_t>(scales->size())}, *scales);
    n.attributes.erase("scales");
    put_input(n, 1, add_constant(g_, base(n) + ".scales", t));
  }
  void upsample10(Node& n) { n.op = "Resize"; }
  void slice10(Node& n) {
    to_input(n, "starts", 1);
    to_input(n, "ends", 2);
    to_input(n, "axes", 3);
  }
  void topk10(Node& n) {
    const int64_t k = n.integer("k", 1);
    n.attributes.erase("k");
    put_input(n, 1, add_constant(g_, base(n) + ".k", list({k})));
  }
  void clip11(Node& n) {
    const DType d = g_.values[n.inputs[0]].dtype;
    for (const auto& [name, position] : {std::pair{"min", size_t{1}}, {"max", size_t{2}}}) {
      if (const auto* v = n.find<float>(name)) {
        const Tensor t = narrow<double>(d == DType::undefined ? DType::f32 : d, Shape{}, std::vector<double>{*v});
        n.attributes.erase(name);
        put_input(n, position, add_constant(g_, base(n) + "." + name, t));
      }
    }
  }
  void pad11(Node& n) {
    to_input(n, "pads", 1);
    const DType d = g_.values[n.inputs[0]].dtype;
    if (const auto* v = n.find<float>("value")) {
      const Tensor t = narrow<double>(d == DType::undefined ? DType::f32 : d, Shape{}, std::vector<double>{*v});
      n.attributes.erase("value");
      put_input(n, 2, add_constant(g_, base(n) + ".value", t));
    }
  }
  void resize11(Node& n) {
    n.inputs = {n.inputs[0], kAbsent, n.inputs.size() > 1 ? n.inputs[1] : kAbsent};
    n.inputs[1] = add_constant(g_, base(n) + ".roi", Tensor::from<float>({0}, std::vector<float>()));
    n.attributes["coordinate_transformation_mode"].data = std::string("asymmetric");
    n.attributes["nearest_mode"].data = std::string("floor");
  }
  void scatter11(Node& n) { n.op = "ScatterElements"; }
  void dropout12(Node& n) {
    if (const auto* r = n.find<float>("ratio")) {
      const Tensor t = Tensor::from<float>({}, {*r});
      n.attributes.erase("ratio");
      put_input(n, 1, add_constant(g_, base(n) + ".ratio", t));
    }
  }
  // Rows were everything from the axis on: flatten, work along the last axis, put the shape back.
  void softmax13(Node& n) {
    const int r = rank(n.inputs[0]);
    int64_t axis = n.integer("axis", 1);
    if (axis < 0 && r >= 0) axis += r;
    if (r >= 0 && axis == r - 1) {
      n.attributes["axis"].data = int64_t{-1};
      return;
    }
    const ValueId shape = before(n, "Shape", {n.inputs[0]});
    const ValueId flat = before(n, "Flatten", {n.inputs[0]}, {{"axis", {axis, ""}}});
    const ValueId rows = add_value(g_, base(n) + ".rows");
    Node back;
    back.op = "Reshape";
    back.name = base(n) + "/Reshape";
    back.inputs = {rows, shape};
    back.outputs = {n.outputs[0]};
    behind_.push_back(std::move(back));
    n.inputs = {flat};
    n.outputs = {rows};
    n.attributes["axis"].data = int64_t{-1};
  }
  void axes1(Node& n) { to_input(n, "axes", 1); }
  void split13(Node& n) { to_input(n, "split", 1); }
  void split18(Node& n) {
    if (n.inputs.size() < 2 || n.inputs[1] == kAbsent) n.attributes["num_outputs"].data = static_cast<int64_t>(n.outputs.size());
  }
  void batch14(Node& n) {
    for (size_t i = 1; i < n.outputs.size(); ++i) {
      if (used(n, i)) return refuse(n, "it gives training statistics, which version 14 gives differently");
    }
    n.outputs.resize(1);
  }
  void dft20(Node& n) {
    const int64_t axis = n.integer("axis", 1);
    n.attributes.erase("axis");
    put_input(n, 2, add_constant(g_, base(n) + ".axis", Tensor::from<int64_t>({}, {axis})));
  }
  void grid20(Node& n) {
    const std::string mode = n.text("mode", "bilinear");
    n.attributes["mode"].data = std::string(mode == "bilinear" ? "linear" : mode == "bicubic" ? "cubic" : mode);
  }
  // One scale and bias a group became one a channel.
  void group21(Node& n) {
    const auto& dims = g_.values[n.inputs[0]].dims;
    const int64_t groups = n.integer("num_groups", 1);
    if (!dims || dims->size() < 2 || !(*dims)[1].known() || groups < 1 || (*dims)[1].value % groups != 0)
      return refuse(n, "it cannot be carried over without knowing its channels");
    const int64_t channels = (*dims)[1].value;
    for (size_t i = 1; i < 3; ++i) {
      const ValueId column = before(n, "Reshape", {n.inputs[i], add_constant(g_, base(n) + ".column", list({groups, 1}))});
      const ValueId wide = before(n, "Expand", {column, add_constant(g_, base(n) + ".wide", list({groups, channels / groups}))});
      n.inputs[i] = before(n, "Reshape", {wide, add_constant(g_, base(n) + ".flat", list({channels}))});
    }
  }

  Graph& g_;
  std::vector<Node> behind_;
  std::vector<Fault> faults_;
};

}  // namespace

void convert_opset(Graph& graph, int64_t version) {
  const int64_t from = graph.opset("");
  if (version < from) fail(Category::value, "the model's opset is {}; conversion goes upward, not to {}", from, version);
  if (version > 24) fail(Category::value, "opset {} is not supported; the newest is 24", version);
  if (from < 6) fail(Category::unsupported, "the model's opset is {}; conversion starts at 6", from);
  if (version == from) return;
  transact(graph, [&](Graph& g) {
    // One version after another: a rule meets its node in the form it was written for.
    for (int64_t v = from + 1; v <= version; ++v) {
      auto faults = Converter(g).run(v);
      if (!faults.empty()) throw Error(std::move(faults));
    }
    // The standard ties file versions to opsets: 3 for 6, growing to 12 for 24.
    constexpr int64_t kFile[][2] = {{24, 12}, {23, 11}, {21, 10}, {19, 9}, {15, 8}, {12, 7}, {11, 6}, {10, 5}, {9, 4}, {6, 3}};
    for (const auto& [opset, file] : kFile) {
      if (version >= opset) {
        g.ir_version = std::max(g.ir_version, file);
        break;
      }
    }
  });
}

}  // namespace lathe
