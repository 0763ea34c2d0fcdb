// lathe inspect
#include <algorithm>
#include <map>

#include "common.hpp"
#include "listing.hpp"

namespace lathe::cli {
namespace {

struct Facts {
  int64_t parameters = 0, bytes = 0, nodes = 0;
  std::map<std::string, int> ops;
};

void count_tensor(const Tensor& t, Facts& f) {
  f.parameters += t.size();
  f.bytes += t.dtype() == DType::string ? 0 : static_cast<int64_t>(t.byte_size());
}

// Also what is inside subgraphs. Weights are initializers, or the values of Constant nodes.
void count_graph(const Graph& g, Facts& f) {
  for (const Value& v : g.values) {
    if (v.constant) count_tensor(*v.constant, f);
  }
  for (const Node& n : g.nodes) {
    ++f.nodes;
    if (const Tensor* t = n.op == "Constant" && n.domain.empty() ? n.find<Tensor>("value") : nullptr) count_tensor(*t, f);
    ++f.ops[n.domain.empty() ? n.op : n.domain + "::" + n.op];
    n.each_subgraph([&](const auto& sub) { count_graph(*sub, f); });
  }
}

Facts count(const Graph& g) {
  Facts f;
  count_graph(g, f);
  for (const Function& function : g.functions) count_graph(*function.body, f);
  return f;
}

Json port_json(const Graph& g, ValueId v) {
  return {{"name", g.values[v].name},
          {"dtype", to_string(g.values[v].dtype)},
          {"shape", to_json(g.values[v].dims)},
          {"type", to_string(type_of(g.values[v]))}};
}

// The model by modules: paths in node names ("encoder/layer_0/attn/MatMul"), those of written-out functions among them.
struct Module {
  int nodes = 0;
  int64_t parameters = 0;
  std::string function;  // "domain::name" when the path is a call
  std::map<std::string, int> ops;
};

// Functions by the paths of their calls.
void find_calls(const Graph& root, const Graph& g, const std::string& prefix, std::map<std::string, Module>& modules, int depth) {
  for (const Node& n : g.nodes) {
    const Function* f = depth < 20 ? find_function(root, n) : nullptr;
    if (!f) continue;
    const std::string path = prefix + (n.name.empty() ? f->name : n.name);
    modules[path].function = f->domain + "::" + f->name;
    find_calls(root, *f->body, path + "/", modules, depth + 1);
  }
}

std::map<std::string, Module> modules_of(const Graph& model) {
  std::map<std::string, Module> modules;
  find_calls(model, model, "", modules, 0);
  const auto g = deep_copy(model);
  inline_functions(*g);
  std::vector<bool> counted(g->values.size(), false);
  for (const Node& n : g->nodes) {
    const std::string name = n.name.starts_with('/') ? n.name.substr(1) : n.name;
    int64_t parameters = 0;
    for (ValueId v : n.inputs) {
      if (v == kAbsent || !g->values[v].constant || counted[v]) continue;
      counted[v] = true;
      parameters += g->values[v].constant->size();
    }
    for (size_t at = name.find('/'); at != std::string::npos; at = name.find('/', at + 1)) {
      Module& m = modules[name.substr(0, at)];
      ++m.nodes;
      m.parameters += parameters;
      ++m.ops[n.op];
    }
  }
  return modules;
}

void print_modules(const std::map<std::string, Module>& modules) {
  if (modules.empty()) {
    fmt::print("\nNode names tell of no modules (paths such as encoder/layer_0/MatMul), and there are no functions.\n");
    return;
  }
  Table t("lrrll", {"module", "nodes", "parameters", "function", "mostly"});
  for (const auto& [path, m] : modules) {
    const auto depth = std::ranges::count(path, '/');
    std::vector<std::pair<int, std::string>> order;
    for (const auto& [op, n] : m.ops) order.emplace_back(-n, op);
    std::ranges::sort(order);
    std::string mostly;
    for (size_t i = 0; i < std::min<size_t>(3, order.size()); ++i)
      mostly += fmt::format("{}{} {}", mostly.empty() ? "" : ", ", -order[i].first, order[i].second);
    const size_t last = path.rfind('/');
    t.row({std::string(2 * depth, ' ') + (last == std::string::npos ? path : path.substr(last + 1)), std::to_string(m.nodes),
           count_text(static_cast<double>(m.parameters)), m.function, mostly});
  }
  fmt::print("\nModules\n{}", t.text());
}

std::string port_text(const Value& v) {
  return v.composite ? to_string(*v.composite) : fmt::format("{}  {}", to_string(v.dtype), dims_text(v.dims));
}

std::string short_list(const std::vector<std::string>& names) {
  std::string out;
  for (const auto& n : names) out += (out.empty() ? "" : " + ") + n;
  return out;
}

}  // namespace

Command add_inspect(CLI::App& app) {
  struct Options {
    ModelOptions model;
    bool steps = false, modules = false;
    Listing listing;
  };
  auto o = std::make_shared<Options>();
  o->model.add_to(app);
  app.add_flag("--steps", o->steps, "Also what each pass changed and the steps that result, with the fused nodes");
  app.add_flag("--modules", o->modules, "Also which module each part comes from: functions and paths in node names");
  o->listing.add_to(app);
  return [o] {
    Graph g = o->model.load_graph(true);
    if (o->model.archived()) {
      if (o->listing.on()) throw UsageError("--nodes and --values: an archive holds no nodes; list those of the model");
      if (o->steps || o->modules) throw UsageError("--steps and --modules: of an archive, 'lathe explain' tells the steps");
      (void)o->model.compile_options(g);  // names and sizes that do not fit are reported
      const ArchiveInfo info = archive_info(o->model.model);
      Json j{{"file", o->model.model}};
      j.update(archive_json(info));
      for (const auto& [key, value] : g.metadata) j["metadata"][key] = value;
      for (ValueId v : g.inputs) j["inputs"].push_back(port_json(g, v));
      for (ValueId v : g.outputs) j["outputs"].push_back(port_json(g, v));
      write_json(o->model.json, j);
      if (!for_people(o->model.json)) return int{kGood};
      Table ports("ll");
      for (ValueId v : g.inputs) ports.row({"input", fmt::format("{}  {}", g.values[v].name, port_text(g.values[v]))});
      for (ValueId v : g.outputs) ports.row({"output", fmt::format("{}  {}", g.values[v].name, port_text(g.values[v]))});
      fmt::print("{}\n{}{}", o->model.model, archive_text(info), ports.text());
      return int{kGood};
    }
    const Facts facts = count(g);
    std::vector<Fault> faults;
    faults = examine_and_infer(g);
    std::erase_if(faults, [](const Fault& f) { return !f.fatal; });

    Json j{{"file", o->model.model},
           {"format", is_line_sheet(o->model.model) ? "line" : "ONNX"},
           {"ir_version", g.ir_version},
           {"producer", g.producer},
           {"producer_version", g.producer_version},
           {"name", g.name},
           {"doc", g.doc}};
    for (const auto& [domain, version] : g.opsets) j["opsets"][domain.empty() ? "ai.onnx" : domain] = version;
    for (const auto& [key, value] : g.metadata) j["metadata"][key] = value;
    j["inputs"] = Json::array();
    j["outputs"] = Json::array();
    for (ValueId v : g.inputs) j["inputs"].push_back(port_json(g, v));
    for (ValueId v : g.outputs) j["outputs"].push_back(port_json(g, v));
    j["nodes"] = g.nodes.size();
    j["nodes_in_all"] = facts.nodes;  // with those of subgraphs and functions
    j["functions"] = g.functions.size();
    j["parameters"] = facts.parameters;
    j["parameter_bytes"] = facts.bytes;
    j["ops"] = facts.ops;
    std::map<std::string, Module> modules;
    if (o->modules && faults.empty()) {
      modules = modules_of(g);
      for (const auto& [path, m] : modules)
        j["modules"].push_back(
            {{"path", path}, {"function", m.function}, {"nodes", m.nodes}, {"parameters", m.parameters}, {"ops", m.ops}});
    }
    j["faults"] = Json::array();
    for (const Fault& f : faults) j["faults"].push_back({{"category", to_string(f.category)}, {"where", f.where}, {"what", f.what}});

    // Arithmetic and steps need sizes; without them the rest still stands.
    std::optional<EditionInfo> edition;
    std::optional<Program> program;
    std::string open;
    if (faults.empty()) {
      const CompileOptions options = o->model.compile_options(g);
      try {
        program = o->model.make_program(g, options);
        edition = program->describe(o->model.shapes_for(*program, options));
      } catch (const UsageError& e) {
        if (o->steps) throw;
        open = e.what();
      } catch (const Error& e) {
        if (e.category() != Category::shape || o->steps) throw;
        open = e.what();
      }
      for (const auto& [dim, size] : options.dims) j["bound_dims"][dim] = size;
    }
    if (edition) {
      j["flops"] = edition->flops > 0 || edition->not_counted == 0 ? Json(edition->flops) : Json(nullptr);
      j["steps_not_counted"] = edition->not_counted;
      j["plain"] = plain_json(*edition);
      j["arena_bytes"] = edition->arena_bytes;
      j["arena_bound_bytes"] = edition->arena_bound;
      if (o->steps) {
        for (const PassReport& p : program->passes()) j["passes"].push_back({{"pass", p.pass}, {"changes", p.changes}});
        for (const StepInfo& s : edition->steps)
          j["steps"].push_back({{"kind", s.kind}, {"nodes", s.nodes}, {"recipe", s.recipe}, {"flops", s.flops}, {"bytes", s.bytes}});
      }
    }
    if (edition && o->steps) {
      for (const ArenaPart& part : edition->arena)
        j["arena"].push_back({{"value", part.value},
                              {"offset", part.offset},
                              {"bytes", part.bytes},
                              {"first_step", part.first + 1},
                              {"last_step", part.last + 1}});
    }
    const Listed listed = o->listing.list(g, edition ? &*edition : nullptr);
    if (o->listing.nodes) j["node_list"] = listed.nodes;
    if (o->listing.values) j["value_list"] = listed.values;
    write_json(o->model.json, j);
    const int code = faults.empty() ? kGood : kModelFault;
    if (!for_people(o->model.json)) return code;
    if (o->listing.on()) {
      fmt::print("{}\n{}", o->model.model, listed.text);
      for (const Fault& f : faults) fmt::print("  {}: {}{}\n", to_string(f.category), f.where.empty() ? "" : f.where + ": ", f.what);
      return code;
    }

    Table head("ll");
    std::string opsets;
    for (const auto& [domain, version] : g.opsets)
      opsets += fmt::format("{}{} {}", opsets.empty() ? "" : ", ", domain.empty() ? "ai.onnx" : domain, version);
    head.row({"format", fmt::format("{}ONNX, IR version {}, opset {}", is_line_sheet(o->model.model) ? "a line of models, joined: " : "",
                                    g.ir_version, opsets)});
    if (!g.producer.empty()) head.row({"producer", g.producer + (g.producer_version.empty() ? "" : " " + g.producer_version)});
    if (!g.name.empty()) head.row({"graph", g.name});
    if (!g.doc.empty()) head.row({"about", g.doc.substr(0, 100)});
    for (ValueId v : g.inputs) head.row({"input", fmt::format("{}  {}", g.values[v].name, port_text(g.values[v]))});
    for (ValueId v : g.outputs) head.row({"output", fmt::format("{}  {}", g.values[v].name, port_text(g.values[v]))});
    head.row({"parameters",
              fmt::format("{} ({})", count_text(static_cast<double>(facts.parameters)), bytes_text(static_cast<double>(facts.bytes)))});
    if (edition) {
      std::string at;
      for (const Shape& s : edition->inputs) at += (at.empty() ? "" : ", ") + to_string(s);
      head.row({"arithmetic", edition->flops == 0 && edition->not_counted > 0
                                  ? fmt::format("not counted (control flow, plain evaluation or kernels of yours), inputs {}", at)
                                  : fmt::format("{}{}FLOP an inference, inputs {}", edition->not_counted > 0 ? "at least " : "",
                                                count_text(edition->flops) + (edition->flops < 1000 ? " " : ""), at)});
      head.row({"memory",
                fmt::format(
                    "arena {}, lower bound {} ({:.2f} of it)", bytes_text(static_cast<double>(edition->arena_bytes)),
                    bytes_text(static_cast<double>(edition->arena_bound)),
                    edition->arena_bound ? static_cast<double>(edition->arena_bytes) / static_cast<double>(edition->arena_bound) : 1.0)});
    } else if (!open.empty()) {
      head.row({"arithmetic", "not known: " + open});
    }
    for (const auto& [key, value] : g.metadata) {
      const size_t line = value.find('\n');
      const std::string more =
          line == std::string::npos ? "" : fmt::format(" ... ({} lines)", std::count(value.begin(), value.end(), '\n'));
      head.row({"metadata", fmt::format("{} = {}{}", key, value.substr(0, std::min<size_t>(line, 80)), more)});
    }
    fmt::print("{}\n{}", o->model.model, head.text());

    Table ops("lr", {"op", "nodes"});
    for (const auto& [name, n] : facts.ops) ops.row({name, std::to_string(n)});
    const int64_t inside = facts.nodes - static_cast<int64_t>(g.nodes.size());
    fmt::print("\n{} node{}{}\n{}", g.nodes.size(), g.nodes.size() == 1 ? "" : "s",
               inside > 0 ? fmt::format(", and {} inside subgraphs and functions", inside) : "", ops.text());
    if (!faults.empty()) {
      fmt::print("\nThis model cannot run here:\n");
      for (const Fault& f : faults) fmt::print("  {}: {}{}\n", to_string(f.category), f.where.empty() ? "" : f.where + ": ", f.what);
    } else {
      fmt::print("\nEvery op is supported.\n");
      if (edition && edition->plain > 0) fmt::print("\n{}", plain_text(*edition));
    }
    if (o->modules && faults.empty()) print_modules(modules);
    if (o->steps && edition) {
      fmt::print("\nPasses\n");
      for (const PassReport& p : program->passes()) {
        fmt::print(
            "  {}: {}\n", p.pass,
            p.changes.empty() ? "nothing to change" : fmt::format("{} change{}", p.changes.size(), p.changes.size() == 1 ? "" : "s"));
        for (const auto& c : p.changes) fmt::print("    {}\n", c);
      }
      const size_t made = edition->steps.size(), of = g.nodes.size();
      fmt::print("\n{} step{} from {} node{}\n", made, made == 1 ? "" : "s", of, of == 1 ? "" : "s");
      Table steps("rlrl", {"#", "step", "FLOP", "fused nodes; recipe"});
      int n = 0;
      for (const StepInfo& s : edition->steps) {
        steps.row({std::to_string(++n), s.kind, count_text(s.flops), short_list(s.nodes)});
        steps.row({"", "", "", "  " + s.recipe});
      }
      fmt::print("{}", steps.text());
    }
    return code;
  };
}

}  // namespace lathe::cli
