// Models between ONNX files and Graphs.
#include <google/protobuf/io/zero_copy_stream_impl.h>
#include <google/protobuf/io/coded_stream.h>

#include <fcntl.h>
#include <unistd.h>

#include <climits>
#include <chrono>
#include <cstring>
#include <optional>
#include <unordered_map>

#include "base/clock.hpp"
#include "base/fail.hpp"
#include "base/log.hpp"
#include "base/text.hpp"
#include "base/files.hpp"
#include "formats/onnx_tensor.hpp"
#include "lathe/op.hpp"
#include "tensor/numbers.hpp"

namespace lathe {
namespace {

// The standard's numbers for attribute kinds.
enum Kind { kFloat = 1, kInt, kString, kTensor, kGraph, kFloats, kInts, kStrings, kTensors, kGraphs, kSparse, kSparses, kType, kTypes };

// Nesting of subgraphs that is still plausible, and of messages (three a subgraph) that the parser follows.
constexpr int kMaxDepth = 24, kMostMessages = 400;

struct Reader {
  DataFolder data;
  std::vector<Fault> faults;

  template <typename... Args>
  void fault(Category c, std::string where, fmt::format_string<Args...> text, Args&&... args) {
    faults.push_back({c, std::move(where), fmt::format(text, std::forward<Args>(args)...)});
  }

  // A tensor that is at fault is recorded and replaced by an empty one.
  Tensor tensor(wire::TensorProto& proto, const std::string& where) {
    try {
      return tensor_from_wire(proto, data, where);
    } catch (const Error& e) {
      faults.insert(faults.end(), e.faults().begin(), e.faults().end());
      return {};
    }
  }

  template <typename TensorType>
  void read_elements(const TensorType& t, Type& type, const std::string& where) {
    type.dtype = dtype_of_number(t.elem_type());
    if (type.dtype == DType::undefined && t.elem_type() != 0)
      fault(Category::unsupported, where, "element type number {} is not known", t.elem_type());
    if (!t.has_shape()) return;
    Dims dims;
    for (const auto& d : t.shape().dim()) {
      if (d.has_dim_value() && d.dim_value() >= 0) dims.emplace_back(d.dim_value());
      else if (d.has_dim_param() && !d.dim_param().empty()) dims.emplace_back(d.dim_param());
      else {
        if (d.has_dim_value() && d.dim_value() < -1) fault(Category::shape, where, "dim {} is negative", d.dim_value());
        dims.emplace_back();
      }
    }
    type.dims = std::move(dims);
  }

  Type read_type(const wire::TypeProto& proto, const std::string& where) {
    Type type;
    if (proto.has_tensor_type()) {
      read_elements(proto.tensor_type(), type, where);
    } else if (proto.has_sparse_tensor_type()) {
      type.kind = Type::Kind::sparse;
      read_elements(proto.sparse_tensor_type(), type, where);
    } else if (proto.has_sequence_type()) {
      type.kind = Type::Kind::sequence;
      type.inner.push_back(read_type(proto.sequence_type().elem_type(), where));
    } else if (proto.has_optional_type()) {
      type.kind = Type::Kind::optional;
      type.inner.push_back(read_type(proto.optional_type().elem_type(), where));
    } else if (proto.has_map_type()) {
      type.kind = Type::Kind::map;
      type.dtype = dtype_of_number(proto.map_type().key_type());
      type.inner.push_back(read_type(proto.map_type().value_type(), where));
    }
    return type;
  }

  void read_type(const wire::TypeProto& proto, Value& value) { set_type(value, read_type(proto, fmt::format("value '{}'", value.name))); }

  SparseTensor sparse(wire::SparseTensorProto& p, const std::string& where) {
    return {tensor(*p.mutable_values(), where + ", values"), tensor(*p.mutable_indices(), where + ", indices"),
            Shape(p.dims().begin(), p.dims().end())};
  }

  Attribute read_attribute(wire::AttributeProto& a, const std::string& where, int depth) {
    Attribute out;
    out.reference = a.ref_attr_name();
    int kind = a.type();
    if (kind == 0) {  // files of the first versions leave the kind out
      kind = a.has_f()          ? kFloat
             : a.has_i()        ? kInt
             : a.has_s()        ? kString
             : a.has_t()        ? kTensor
             : a.has_g()        ? kGraph
             : a.floats_size()  ? kFloats
             : a.ints_size()    ? kInts
             : a.strings_size() ? kStrings
                                : 0;
    }
    if (!out.reference.empty()) {
      out.data = Opaque{kind, ""};
      return out;
    }
    switch (kind) {
      case kFloat: out.data = a.f(); break;
      case kInt: out.data = a.i(); break;
      case kString: out.data = a.s(); break;
      case kTensor: out.data = tensor(*a.mutable_t(), where + ", attribute '" + a.name() + "'"); break;
      case kGraph: out.data = read_graph(*a.mutable_g(), depth + 1); break;
      case kFloats: out.data = std::vector<float>(a.floats().begin(), a.floats().end()); break;
      case kInts: out.data = std::vector<int64_t>(a.ints().begin(), a.ints().end()); break;
      case kStrings: out.data = std::vector<std::string>(a.strings().begin(), a.strings().end()); break;
      case kTensors: {
        std::vector<Tensor> list;
        for (auto& t : *a.mutable_tensors()) list.push_back(tensor(t, where));
        out.data = std::move(list);
        break;
      }
      case kGraphs: {
        std::vector<std::shared_ptr<Graph>> list;
        for (auto& g : *a.mutable_graphs()) list.push_back(read_graph(g, depth + 1));
        out.data = std::move(list);
        break;
      }
      case kSparse: out.data = sparse(*a.mutable_sparse_tensor(), where + ", attribute '" + a.name() + "'"); break;
      case kType: out.data = read_type(a.tp(), where + ", attribute '" + a.name() + "'"); break;
      case kSparses:
      case kTypes: out.data = Opaque{kind, a.SerializeAsString()}; break;
      default: fault(Category::format, where, "attribute '{}' has unknown kind {}", a.name(), kind);
    }
    return out;
  }

  void read_nodes(Graph& graph, google::protobuf::RepeatedPtrField<wire::NodeProto>& nodes, std::unordered_map<std::string, ValueId>& ids,
                  int depth) {
    const auto id_of = [&](const std::string& name) {
      const auto [it, fresh] = ids.try_emplace(name, 0);
      if (fresh) {
        Value v;
        v.name = name;
        it->second = graph.add_value(std::move(v));
      }
      return it->second;
    };
    for (int n = 0; n < nodes.size(); ++n) {
      auto& p = nodes[n];
      Node node;
      node.op = p.op_type();
      node.domain = p.domain() == "ai.onnx" ? "" : p.domain();
      node.name = p.name();
      node.doc = p.doc_string();
      node.overload = p.overload();
      for (const auto& m : p.metadata_props()) node.metadata[m.key()] = m.value();
      const std::string where =
          node.name.empty() ? fmt::format("node #{} ({})", n, node.op) : fmt::format("node '{}' ({})", node.name, node.op);
      if (node.op.empty()) fault(Category::format, where, "has no op");
      for (const auto& in : p.input()) node.inputs.push_back(in.empty() ? kAbsent : id_of(in));
      for (const auto& out : p.output()) {
        const ValueId v = out.empty() ? kAbsent : id_of(out);
        node.outputs.push_back(v);
      }
      for (auto& a : *p.mutable_attribute()) {
        if (node.attributes.contains(a.name())) fault(Category::value, where, "attribute '{}' is given twice", a.name());
        node.attributes[a.name()] = read_attribute(a, where, depth);
      }
      graph.nodes.push_back(std::move(node));
    }
  }

  std::shared_ptr<Graph> read_graph(wire::GraphProto& p, int depth) {
    auto graph = std::make_shared<Graph>();
    if (depth > kMaxDepth) {
      fault(Category::format, "", "subgraphs are nested more than {} deep", kMaxDepth);
      return graph;
    }
    graph->name = p.name();
    graph->doc = p.doc_string();
    graph->ir_version = 0;
    std::unordered_map<std::string, ValueId> ids;
    for (const auto& in : p.input()) {
      Value v;
      v.name = in.name();
      v.doc = in.doc_string();
      read_type(in.type(), v);
      if (!ids.try_emplace(v.name, static_cast<ValueId>(graph->values.size())).second) {
        fault(Category::value, fmt::format("input '{}'", v.name), "is listed twice");
        continue;
      }
      graph->inputs.push_back(graph->add_value(std::move(v)));
      if (depth == 0) graph->defaults.push_back({graph->inputs.back(), type_of(graph->values.back())});
    }
    const auto keep = [&](const std::string& name, const std::string& where, Tensor t) {
      const auto [it, fresh] = ids.try_emplace(name, static_cast<ValueId>(graph->values.size()));
      if (fresh) {
        Value v;
        v.name = name;
        graph->add_value(std::move(v));
      }
      Value& v = graph->values[it->second];
      if (v.constant) return fault(Category::value, where, "is given twice");
      v.dtype = t.dtype();
      v.dims = Dims(t.shape().begin(), t.shape().end());
      v.constant = std::move(t);
    };
    for (auto& init : *p.mutable_initializer()) {
      const std::string name = init.name(), where = fmt::format("initializer '{}'", name);
      Tensor t = tensor(init, where);
      if (!t.empty()) keep(name, where, std::move(t));
    }
    for (auto& init : *p.mutable_sparse_initializer()) {  // kept dense: kernels read dense memory
      const std::string name = init.values().name(), where = fmt::format("sparse initializer '{}'", name);
      const SparseTensor s = sparse(init, where);
      if (s.values.empty() || s.indices.empty()) continue;
      try {
        keep(name, where, dense(s));
      } catch (const Error& e) {
        for (const Fault& f : e.faults()) faults.push_back({f.category, where, f.what});
      }
    }
    read_nodes(*graph, *p.mutable_node(), ids, depth);
    const auto declare = [&](const wire::ValueInfoProto& info) {
      const auto it = ids.find(info.name());
      if (it == ids.end()) return kAbsent;
      Value& v = graph->values[it->second];
      if (!v.constant && std::find(graph->inputs.begin(), graph->inputs.end(), it->second) == graph->inputs.end()) {
        read_type(info.type(), v);
        v.doc = info.doc_string();
      }
      return it->second;
    };
    for (const auto& info : p.value_info()) declare(info);
    for (const auto& out : p.output()) {
      ValueId v = declare(out);
      if (v == kAbsent) {
        if (depth == 0) {
          fault(Category::value, fmt::format("output '{}'", out.name()), "is not made by any node");
          continue;
        }
        Value outer;  // a subgraph may hand through a value of the scope around it
        outer.name = out.name();
        v = graph->add_value(std::move(outer));
      }
      graph->outputs.push_back(v);
    }
    return graph;
  }

  Function read_function(wire::FunctionProto& p) {
    Function f;
    f.name = p.name();
    f.domain = p.domain();
    f.doc = p.doc_string();
    f.overload = p.overload();
    f.attributes.assign(p.attribute().begin(), p.attribute().end());
    for (auto& a : *p.mutable_attribute_proto()) f.defaults[a.name()] = read_attribute(a, fmt::format("function '{}'", f.name), 1);
    f.body = std::make_shared<Graph>();
    f.body->ir_version = 0;
    std::unordered_map<std::string, ValueId> ids;
    for (const auto& in : p.input()) {
      Value v;
      v.name = in;
      ids[in] = f.body->add_value(std::move(v));
      f.body->inputs.push_back(ids[in]);
    }
    read_nodes(*f.body, *p.mutable_node(), ids, 1);
    for (const auto& out : p.output()) {
      const auto it = ids.find(out);
      if (it == ids.end()) fault(Category::value, fmt::format("function '{}'", f.name), "its output '{}' is not made by any node", out);
      else f.body->outputs.push_back(it->second);
    }
    for (const auto& info : p.value_info()) {
      const auto it = ids.find(info.name());
      if (it != ids.end()) read_type(info.type(), f.body->values[it->second]);
    }
    for (const auto& o : p.opset_import()) f.body->opsets[o.domain() == "ai.onnx" ? "" : o.domain()] = o.version();
    return f;
  }
};

struct Writer {
  template <typename TensorType>
  static void write_elements(const Type& type, TensorType& t) {
    t.set_elem_type(number_of_dtype(type.dtype));
    if (!type.dims) return;
    auto* shape = t.mutable_shape();
    for (const Dim& d : *type.dims) {
      auto* dim = shape->add_dim();
      if (d.known()) dim->set_dim_value(d.value);
      else if (!d.symbol.empty()) dim->set_dim_param(d.symbol);
    }
  }

  static void write_type(const Type& type, wire::TypeProto& p) {
    const auto inner = [&](wire::TypeProto* to) {
      if (!type.inner.empty()) write_type(type.inner.front(), *to);
    };
    switch (type.kind) {
      case Type::Kind::tensor:
        if (type.dtype != DType::undefined) write_elements(type, *p.mutable_tensor_type());
        break;
      case Type::Kind::sparse: write_elements(type, *p.mutable_sparse_tensor_type()); break;
      case Type::Kind::sequence: inner(p.mutable_sequence_type()->mutable_elem_type()); break;
      case Type::Kind::optional: inner(p.mutable_optional_type()->mutable_elem_type()); break;
      case Type::Kind::map:
        p.mutable_map_type()->set_key_type(number_of_dtype(type.dtype));
        inner(p.mutable_map_type()->mutable_value_type());
    }
  }

  static void write_info(const Value& v, wire::ValueInfoProto& info) {
    info.set_name(v.name);
    write_type(type_of(v), *info.mutable_type());
    if (!v.doc.empty()) info.set_doc_string(v.doc);
  }

  void write_attribute(const std::string& name, const Attribute& a, wire::AttributeProto& p) {
    if (const auto* opaque = std::get_if<Opaque>(&a.data)) {
      if (!opaque->bytes.empty()) p.ParseFromString(opaque->bytes);
      p.set_type(opaque->kind);
    }
    p.set_name(name);
    if (!a.reference.empty()) p.set_ref_attr_name(a.reference);
    struct {
      Writer& w;
      wire::AttributeProto& p;
      void operator()(std::monostate) {}
      void operator()(const Opaque&) {}
      void operator()(int64_t v) { p.set_i(v), p.set_type(kInt); }
      void operator()(float v) { p.set_f(v), p.set_type(kFloat); }
      void operator()(const std::string& v) { p.set_s(v), p.set_type(kString); }
      void operator()(const Tensor& v) { tensor_to_wire(v, "", *p.mutable_t()), p.set_type(kTensor); }
      void operator()(const std::shared_ptr<Graph>& v) { w.write_graph(*v, *p.mutable_g()), p.set_type(kGraph); }
      void operator()(const std::vector<int64_t>& v) { p.mutable_ints()->Add(v.begin(), v.end()), p.set_type(kInts); }
      void operator()(const std::vector<float>& v) { p.mutable_floats()->Add(v.begin(), v.end()), p.set_type(kFloats); }
      void operator()(const std::vector<std::string>& v) {
        for (const auto& s : v) p.add_strings(s);
        p.set_type(kStrings);
      }
      void operator()(const SparseTensor& v) { write_sparse(v, *p.mutable_sparse_tensor()), p.set_type(kSparse); }
      void operator()(const Type& v) { write_type(v, *p.mutable_tp()), p.set_type(kType); }
      void operator()(const std::vector<Tensor>& v) {
        for (const auto& t : v) tensor_to_wire(t, "", *p.add_tensors());
        p.set_type(kTensors);
      }
      void operator()(const std::vector<std::shared_ptr<Graph>>& v) {
        for (const auto& g : v) w.write_graph(*g, *p.add_graphs());
        p.set_type(kGraphs);
      }
    } put{*this, p};
    std::visit(put, a.data);
  }

  static void write_sparse(const SparseTensor& s, wire::SparseTensorProto& p) {
    tensor_to_wire(s.values, "", *p.mutable_values());
    tensor_to_wire(s.indices, "", *p.mutable_indices());
    for (int64_t d : s.shape) p.add_dims(d);
  }

  void write_node(const Graph& g, const Node& node, wire::NodeProto& p) {
    p.set_op_type(node.op);
    if (!node.domain.empty()) p.set_domain(node.domain);
    if (!node.name.empty()) p.set_name(node.name);
    if (!node.doc.empty()) p.set_doc_string(node.doc);
    if (!node.overload.empty()) p.set_overload(node.overload);
    for (const auto& [key, value] : node.metadata) {
      auto* m = p.add_metadata_props();
      m->set_key(key);
      m->set_value(value);
    }
    for (ValueId v : node.inputs) p.add_input(v == kAbsent ? "" : g.values[v].name);
    for (ValueId v : node.outputs) p.add_output(v == kAbsent ? "" : g.values[v].name);
    for (const auto& [key, a] : node.attributes) write_attribute(key, a, *p.add_attribute());
  }

  void write_graph(const Graph& g, wire::GraphProto& p) {
    p.set_name(g.name);
    if (!g.doc.empty()) p.set_doc_string(g.doc);
    std::vector<bool> listed(g.values.size(), false);
    for (ValueId v : g.inputs) {
      write_info(g.values[v], *p.add_input());
      listed[v] = true;
    }
    for (const Default& d : g.defaults) {
      if (!g.values[d.value].constant) continue;
      Value as_input = g.values[d.value];
      set_type(as_input, d.declared);
      write_info(as_input, *p.add_input());
      listed[d.value] = true;
    }
    for (const Node& n : g.nodes) write_node(g, n, *p.add_node());
    for (size_t v = 0; v < g.values.size(); ++v) {
      if (!g.values[v].constant) continue;
      auto* init = p.add_initializer();
      const Tensor& t = *g.values[v].constant;
      if (external && t.dtype() != DType::string && t.byte_size() >= external_from) {
        write_external(t, g.values[v].name, *init);
      } else {
        tensor_to_wire(t, g.values[v].name, *init);
      }
      listed[v] = true;
    }
    for (ValueId v : g.outputs) {
      write_info(g.values[v], *p.add_output());
      listed[v] = true;
    }
    for (size_t v = 0; v < g.values.size(); ++v) {
      if (listed[v] || (g.values[v].dtype == DType::undefined && !g.values[v].composite)) continue;
      write_info(g.values[v], *p.add_value_info());
    }
  }

  void write_external(const Tensor& t, const std::string& name, wire::TensorProto& p) {
    for (int64_t d : t.shape()) p.add_dims(d);
    p.set_data_type(number_of_dtype(t.dtype()));
    p.set_name(name);
    p.set_data_location(1);
    external->resize((external->size() + 4095) / 4096 * 4096);  // page aligned, so that a reader can map it
    const auto entry = [&](const char* key, std::string value) {
      auto* e = p.add_external_data();
      e->set_key(key);
      e->set_value(std::move(value));
    };
    entry("location", location);
    entry("offset", std::to_string(external->size()));
    entry("length", std::to_string(t.byte_size()));
    external->append(static_cast<const char*>(t.data()), t.byte_size());
  }

  std::string* external = nullptr;  // where large initializers go
  size_t external_from = 0;
  std::string location;
};

// Tells orders of nodes apart: the first output of each.
std::vector<std::string> node_order(const Graph& g) {
  std::vector<std::string> out;
  for (const Node& n : g.nodes) out.push_back(n.outputs.empty() || n.outputs[0] == kAbsent ? n.name : g.values[n.outputs[0]].name);
  return out;
}

// Parses with a limit on nesting that stack space allows.
bool parse(google::protobuf::io::ZeroCopyInputStream& stream, wire::ModelProto& proto) {
  google::protobuf::io::CodedInputStream coded(&stream);
  coded.SetRecursionLimit(kMostMessages);
  return proto.ParseFromCodedStream(&coded) && coded.ConsumedEntireMessage();
}

// With `notes`, faults of the model go there and what could be read is returned. No `folder`: external data is refused.
Graph graph_of_wire(wire::ModelProto& proto, const std::string& name, const std::optional<std::filesystem::path>& folder,
                    const LoadOptions& options, std::vector<Fault>* notes) {
  if (!proto.has_graph()) fail(Category::format, "{}: not an ONNX file: it holds no graph", name);
  Reader reader;
  reader.data = {folder.value_or(""), options.allow_data_outside_folder, !folder};
  Graph graph = std::move(*reader.read_graph(*proto.mutable_graph(), 0));
  graph.ir_version = proto.ir_version();
  graph.producer = proto.producer_name();
  graph.producer_version = proto.producer_version();
  graph.model_domain = proto.domain();
  graph.model_version = proto.model_version();
  if (graph.doc.empty()) graph.doc = proto.doc_string();
  for (const auto& o : proto.opset_import()) graph.opsets[o.domain() == "ai.onnx" ? "" : o.domain()] = o.version();
  if (proto.opset_import_size() == 0) graph.opsets[""] = 1;  // files of IR version 1 and 2
  for (const auto& m : proto.metadata_props()) graph.metadata[m.key()] = m.value();
  for (auto& f : *proto.mutable_functions()) graph.functions.push_back(reader.read_function(f));

  // An initializer that is also listed as an input is a default value: a constant until a caller says that another will be given.
  std::erase_if(graph.defaults, [&](const Default& d) { return !graph.values[d.value].constant; });
  std::erase_if(graph.inputs, [&](ValueId v) { return graph.values[v].constant.has_value(); });

  const auto prefix = [&](std::vector<Fault> faults) {
    for (Fault& f : faults) f.where = f.where.empty() ? name : name + ": " + f.where;
    return faults;
  };
  // Everything that is wrong, in one go: with the file, with the order of nodes, with what they mean.
  std::vector<Fault> faults = std::move(reader.faults);
  resolve_captures(graph);
  const std::vector<std::string> order = node_order(graph);
  bool sorted = true;
  try {
    graph.sort();
    for (Function& f : graph.functions) f.body->sort();
    if (order != node_order(graph))
      faults.push_back({Category::value, "", "the nodes are not in the order they must run in; they were sorted", false});
  } catch (const Error& e) {
    faults.insert(faults.end(), e.faults().begin(), e.faults().end());
    sorted = false;
  }
  if (!options.unchecked || notes) {
    for (Fault& f : examine_and_infer(graph)) {
      // On a cycle some node always reads what is not there yet: the cycle has been reported.
      if (sorted || f.what.find("Graph::sort()") == std::string::npos) faults.push_back(std::move(f));
    }
  }
  std::vector<Fault> fatal = faults;
  std::erase_if(fatal, [](const Fault& f) { return !f.fatal; });
  if (notes) *notes = std::move(faults);
  else if (!fatal.empty()) throw Error(prefix(std::move(fatal)));
  return graph;
}

}  // namespace

namespace {

Graph graph_of_file(const std::filesystem::path& path, const LoadOptions& options, std::vector<Fault>* notes) {
  std::error_code ec;
  if (!std::filesystem::exists(path, ec)) fail(Category::format, "{}: no such file", path.string());
  if (std::filesystem::is_directory(path, ec)) fail(Category::format, "{}: is a folder, expected an ONNX file", path.string());
  wire::ModelProto proto;
  {
    const int fd = ::open(path.c_str(), O_RDONLY | O_CLOEXEC);
    if (fd < 0) fail(Category::format, "{}: cannot be opened: {}", path.string(), std::strerror(errno));
    google::protobuf::io::FileInputStream stream(fd, 1 << 20);
    stream.SetCloseOnDelete(true);
    const bool parsed = parse(stream, proto);
    if (!parsed || !proto.has_graph()) {
      std::string head(4096, '\0');
      head.resize(static_cast<size_t>(std::max<ssize_t>(0, ::pread(fd, head.data(), head.size(), 0))));
      if (const std::string_view kind = kind_of_file(head); !kind.empty())
        fail(Category::format, "{}: not an ONNX file: it is {}", path.string(), kind);
    }
    if (!parsed) {
      fail(Category::format, "{}: not an ONNX file, or cut short ({} bytes), or subgraphs are nested absurdly deep", path.string(),
           std::filesystem::file_size(path, ec));
    }
  }
  return graph_of_wire(proto, path.string(), path.parent_path(), options, notes);
}

}  // namespace

Graph load(const std::filesystem::path& path, const LoadOptions& options) {
  const auto start = std::chrono::steady_clock::now();
  Graph graph = graph_of_file(path, options, nullptr);
  if (logs(LogLevel::info)) {
    size_t bytes = 0;
    for (const Value& v : graph.values) bytes += v.constant && v.constant->dtype() != DType::string ? v.constant->byte_size() : 0;
    log_line(LogLevel::info, "{}: loaded in {:.3f} s: {} nodes, {} bytes of initializers", path.string(), since(start), graph.nodes.size(),
             bytes);
  }
  return graph;
}

Graph load_bytes(std::string_view bytes, const std::string& name, const LoadOptions& options) {
  wire::ModelProto proto;
  google::protobuf::io::ArrayInputStream stream(bytes.data(), static_cast<int>(std::min<size_t>(bytes.size(), INT_MAX)));
  const bool parsed = bytes.size() <= INT_MAX && parse(stream, proto);
  if (const std::string_view kind = parsed && proto.has_graph() ? "" : kind_of_file(bytes); !kind.empty())
    fail(Category::format, "{}: not an ONNX model: it is {}", name, kind);
  if (!parsed)
    fail(Category::format, "{}: not an ONNX model, or cut short ({} bytes), or subgraphs are nested absurdly deep", name, bytes.size());
  return graph_of_wire(proto, name, std::nullopt, options, nullptr);
}

std::vector<Fault> examine_file(const std::filesystem::path& path, const LoadOptions& options) {
  std::vector<Fault> faults;
  try {
    graph_of_file(path, options, &faults);
  } catch (const Error& e) {
    faults.insert(faults.end(), e.faults().begin(), e.faults().end());
  }
  return faults;
}

void save(const Graph& original, const std::filesystem::path& path, const SaveOptions& options) {
  // Names inside subgraphs follow the values they capture; the copy shares all tensors.
  const auto settled = deep_copy(original);
  settle_names(*settled);
  const Graph& graph = *settled;
  size_t bytes = 0;
  for (const Value& v : graph.values) {
    if (v.constant && v.constant->dtype() != DType::string) bytes += v.constant->byte_size();
  }
  std::string external;
  Writer writer;
  writer.external_from = options.external_from_bytes;
  if (bytes > (size_t{2000} << 20) && writer.external_from == 0) writer.external_from = 1024;
  if (writer.external_from > 0) writer.external = &external;
  writer.location = path.filename().string() + ".data";

  wire::ModelProto proto;
  proto.set_ir_version(graph.ir_version);
  if (!graph.producer.empty()) proto.set_producer_name(graph.producer);
  if (!graph.producer_version.empty()) proto.set_producer_version(graph.producer_version);
  if (!graph.model_domain.empty()) proto.set_domain(graph.model_domain);
  if (graph.model_version != 0) proto.set_model_version(graph.model_version);
  for (const auto& [domain, version] : graph.opsets) {
    auto* o = proto.add_opset_import();
    o->set_domain(domain);
    o->set_version(version);
  }
  for (const auto& [key, value] : graph.metadata) {
    auto* m = proto.add_metadata_props();
    m->set_key(key);
    m->set_value(value);
  }
  writer.write_graph(graph, *proto.mutable_graph());
  for (const Function& f : graph.functions) {
    auto* p = proto.add_functions();
    p->set_name(f.name);
    p->set_domain(f.domain);
    if (!f.doc.empty()) p->set_doc_string(f.doc);
    if (!f.overload.empty()) p->set_overload(f.overload);
    for (const auto& a : f.attributes) p->add_attribute(a);
    for (const auto& [name, a] : f.defaults) writer.write_attribute(name, a, *p->add_attribute_proto());
    for (ValueId v : f.body->inputs) p->add_input(f.body->values[v].name);
    for (ValueId v : f.body->outputs) p->add_output(f.body->values[v].name);
    for (const Node& n : f.body->nodes) writer.write_node(*f.body, n, *p->add_node());
    for (const auto& [domain, version] : f.body->opsets) {
      auto* o = p->add_opset_import();
      o->set_domain(domain);
      o->set_version(version);
    }
  }
  std::string out;
  if (!proto.SerializeToString(&out))
    fail(Category::resource, "{}: the model does not fit in 2 GiB; write large initializers to external data", path.string());
  if (!external.empty()) write_file(path.parent_path() / writer.location, external);
  write_file(path, out);
}

}  // namespace lathe
