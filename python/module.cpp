// The module lathe._lathe; what it offers is described in lathe/__init__.pyi.
#include <pybind11/functional.h>
#include <pybind11/stl.h>
#include <pybind11/stl/filesystem.h>

#include <lathe/lathe.h>

#include <filesystem>

#include "runs.hpp"

namespace lathe_python {
namespace {

using lathe::Category;
using lathe::Error;
using lathe::Graph;
using lathe::Port;
using lathe::Program;
using lathe::Shape;
using Path = std::filesystem::path;

// The class of errors is Python's own, so that it has attributes and a place in lathe/__init__.py.
py::object& error_type() {
  static auto* type = new py::object();
  return *type;
}

void translate(std::exception_ptr p) {
  try {
    if (p) std::rethrow_exception(p);
  } catch (const Error& e) {
    py::list faults;
    for (const lathe::Fault& f : e.faults())
      faults.append(py::make_tuple(std::string(lathe::to_string(f.category)), f.where, f.what, f.fatal));
    py::object error = error_type()(e.what());
    error.attr("category") = std::string(lathe::to_string(e.category()));
    error.attr("faults") = py::tuple(faults);
    PyErr_SetObject(error_type().ptr(), error.ptr());
  }
}

py::object dims_of(const std::optional<lathe::Dims>& dims) {
  if (!dims) return py::none();
  py::list list;
  for (const lathe::Dim& d : *dims) {
    if (d.known()) list.append(d.value);
    else list.append(d.symbol.empty() ? "?" : d.symbol);
  }
  return py::tuple(list);
}

std::vector<Port> ports_of(const Graph& g, const std::vector<lathe::ValueId>& values) {
  std::vector<Port> ports;
  for (lathe::ValueId v : values) {
    const lathe::Value& value = g.values[static_cast<size_t>(v)];
    ports.push_back({value.name, value.dtype, value.dims, value.composite});
  }
  return ports;
}

Graph graph_of(const py::object& model) {
  if (py::isinstance<Graph>(model)) return model.cast<const Graph&>();
  if (py::isinstance<py::bytes>(model)) {
    const std::string bytes = model.cast<std::string>();
    const py::gil_scoped_release others;
    return lathe::load_bytes(bytes);
  }
  const Path path = model.cast<Path>();
  const py::gil_scoped_release others;
  return lathe::load(path);
}

Program compile(const py::object& model, int threads, const std::map<std::string, Shape>& shapes,
                const std::map<std::string, int64_t>& dims, const std::vector<std::string>& outputs, const std::vector<std::string>& given,
                const py::object& states, int64_t positions, bool fuse, bool plain, bool winograd, bool round_each, const std::string& isa,
                size_t arena_limit, const std::optional<Path>& recipes) {
  lathe::CompileOptions options;
  options.threads = threads;
  options.shapes = shapes, options.dims = dims;
  options.outputs = outputs, options.given = given;
  options.fuse = fuse, options.plain = plain, options.winograd = winograd, options.round_each = round_each;
  options.isa = isa;
  options.arena_limit = arena_limit;
  options.positions = positions;
  if (recipes) options.recipes = std::make_shared<const lathe::Recipes>(lathe::read_recipes(*recipes));
  Graph graph = graph_of(model);
  if (py::isinstance<py::str>(states)) options.states = lathe::pair_states(graph, states.cast<std::string>());
  else if (py::isinstance<py::bool_>(states)) options.states = states.cast<bool>() ? lathe::find_states(graph) : options.states;
  else if (!states.is_none())
    for (const auto& [output, input] : states.cast<std::map<std::string, std::string>>()) options.states.push_back({output, input});
  const py::gil_scoped_release others;
  return lathe::compile(std::move(graph), options);
}

py::dict evaluate(const py::object& model, const py::object& inputs) {
  const Graph graph = graph_of(model);
  std::vector<py::object> held;
  const auto tensors = arranged(ports_of(graph, graph.inputs), inputs, held);
  std::vector<lathe::Tensor> results;
  {
    const py::gil_scoped_release others;
    results = lathe::evaluate_plain(graph, tensors);
  }
  py::dict out;
  for (size_t i = 0; i < results.size(); ++i) {
    const std::string& name = graph.values[static_cast<size_t>(graph.outputs[i])].name;
    out[py::str(name)] = to_python("output '" + name + "'", results[i]);
  }
  return out;
}

lathe::Comparison compare(const py::object& got, const py::object& expected, std::optional<double> absolute, std::optional<double> relative,
                          const std::string& name) {
  std::vector<py::object> held;
  const lathe::Tensor a = to_tensor("got", got, {}, held), b = to_tensor("expected", expected, {}, held);
  std::optional<lathe::Tolerance> tolerance;
  if (absolute || relative) tolerance = lathe::Tolerance{absolute.value_or(0), relative.value_or(0), 0};
  return lathe::compare(name, a, b, tolerance);
}

py::dict machine() {
  const lathe::MachineInfo m = lathe::machine_info();
  py::dict out;
  out["cpu"] = m.cpu, out["cores"] = m.cores, out["usable"] = m.usable;
  out["isas"] = m.isas, out["int8_dot"] = m.int8_dot, out["memory_bytes"] = m.memory_bytes;
  return out;
}

std::string shown(const Port& p) {
  std::string text = "<Port '" + p.name + "' ";
  if (p.composite) return text + lathe::to_string(*p.composite) + ">";
  return text + std::string(lathe::to_string(p.dtype)) + " " + std::string(py::str(dims_of(p.dims))) + ">";
}

}  // namespace

PYBIND11_MODULE(_lathe, m) {
  m.def("_use_error", [](py::object type) { error_type() = std::move(type); });
  py::register_exception_translator(translate);

  py::class_<Port>(m, "Port")
      .def_readonly("name", &Port::name)
      .def_property_readonly(
          "dtype", [](const Port& p) { return p.composite ? lathe::to_string(*p.composite) : std::string(lathe::to_string(p.dtype)); })
      .def_property_readonly("dims", [](const Port& p) { return dims_of(p.dims); })
      .def("__repr__", &shown);

  py::class_<Graph>(m, "Graph")
      .def_readonly("name", &Graph::name)
      .def_readonly("metadata", &Graph::metadata)
      .def_property_readonly("inputs", [](const Graph& g) { return ports_of(g, g.inputs); })
      .def_property_readonly("outputs", [](const Graph& g) { return ports_of(g, g.outputs); })
      .def_property_readonly("ops",
                             [](const Graph& g) {
                               std::map<std::string, int> ops;
                               for (const lathe::Node& n : g.nodes) ++ops[n.domain.empty() ? n.op : n.domain + "." + n.op];
                               return ops;
                             })
      .def("__len__", [](const Graph& g) { return g.nodes.size(); })
      .def(
          "save", [](const Graph& g, const Path& path) { lathe::save(g, path); }, py::arg("path"), py::call_guard<py::gil_scoped_release>())
      .def("__repr__", [](const Graph& g) { return "<Graph '" + g.name + "', " + std::to_string(g.nodes.size()) + " nodes>"; });

  py::class_<lathe::StepInfo>(m, "Step")
      .def_readonly("kind", &lathe::StepInfo::kind)
      .def_readonly("op", &lathe::StepInfo::op)
      .def_readonly("nodes", &lathe::StepInfo::nodes)
      .def_readonly("recipe", &lathe::StepInfo::recipe)
      .def_readonly("flops", &lathe::StepInfo::flops)
      .def_readonly("bytes", &lathe::StepInfo::bytes)
      .def_readonly("why", &lathe::StepInfo::why)
      .def_readonly("why_not", &lathe::StepInfo::why_not)
      .def_readonly("output", &lathe::StepInfo::output)
      .def_readonly("layout", &lathe::StepInfo::layout)
      .def("__repr__", [](const lathe::StepInfo& s) { return "<Step " + s.kind + " -> " + s.output + ">"; });
  py::class_<lathe::EditionInfo>(m, "Edition")
      .def_readonly("shapes", &lathe::EditionInfo::inputs)
      .def_readonly("steps", &lathe::EditionInfo::steps)
      .def_readonly("flops", &lathe::EditionInfo::flops)
      .def_readonly("plain", &lathe::EditionInfo::plain)
      .def_readonly("arena_bytes", &lathe::EditionInfo::arena_bytes)
      .def_readonly("arena_bound", &lathe::EditionInfo::arena_bound)
      .def_readonly("weight_bytes", &lathe::EditionInfo::weight_bytes)
      .def("__repr__", [](const lathe::EditionInfo& e) { return "<Edition of " + std::to_string(e.steps.size()) + " steps>"; });
  py::class_<lathe::StepTime>(m, "StepTime")
      .def_readonly("kind", &lathe::StepTime::kind)
      .def_readonly("nodes", &lathe::StepTime::nodes)
      .def_readonly("seconds", &lathe::StepTime::seconds)
      .def_readonly("begin", &lathe::StepTime::begin);
  py::class_<lathe::SavedState>(m, "SavedState").def_readonly("positions", &lathe::SavedState::positions);

  py::class_<Stop>(m, "Stop").def(py::init<>()).def("request", &Stop::request).def_property_readonly("requested", &Stop::requested);

  py::class_<PythonLane>(m, "Lane")
      .def("run", &PythonLane::run, py::arg("inputs") = py::none(), py::kw_only(), py::arg("limit") = py::none(),
           py::arg("stop") = py::none(), py::arg("progress") = py::none())
      .def("bind_output", &PythonLane::bind_output, py::arg("name"), py::arg("memory").none(true))
      .def_property_readonly("positions", &PythonLane::positions)
      .def("reset", &PythonLane::reset)
      .def("rewind", &PythonLane::rewind, py::arg("n"))
      .def("keep_last", &PythonLane::keep_last, py::arg("n"))
      .def("save_state", &PythonLane::save_state)
      .def("restore_state", &PythonLane::restore_state, py::arg("saved"))
      .def("time_steps", &PythonLane::time_steps, py::arg("on") = true)
      .def("step_times", &PythonLane::step_times)
      .def_property_readonly("program", &PythonLane::program);

  py::class_<Program>(m, "Program")
      .def_property_readonly("inputs", [](const Program& p) { return p.inputs(); })
      .def_property_readonly("outputs", [](const Program& p) { return p.outputs(); })
      .def_property_readonly("metadata", [](const Program& p) { return p.metadata(); })
      .def_property_readonly("threads", [](const Program& p) { return p.options().threads; })
      .def_property_readonly("isa", [](const Program& p) { return p.options().isa; })
      .def_property_readonly("states",
                             [](const Program& p) {
                               std::map<std::string, std::string> pairs;
                               for (const lathe::StateInfo& s : p.states()) pairs[s.pair.output] = s.pair.input;
                               return pairs;
                             })
      .def(
          "describe", [](const Program& p, const std::vector<Shape>& shapes) { return p.describe(shapes); },
          py::arg("shapes") = std::vector<Shape>(), py::call_guard<py::gil_scoped_release>())
      .def(
          "lane", [](const Program& p, int threads) { return std::make_unique<PythonLane>(p, threads); }, py::arg("threads") = 0)
      .def(
          "save", [](const Program& p, const Path& path, bool carry_graph) { lathe::save_program(p, path, {.carry_graph = carry_graph}); },
          py::arg("path"), py::kw_only(), py::arg("carry_graph") = false, py::call_guard<py::gil_scoped_release>())
      .def("__repr__", [](const Program& p) {
        std::string text = "<Program";
        for (const Port& port : p.inputs()) text += " " + port.name;
        text += " ->";
        for (const Port& port : p.outputs()) text += " " + port.name;
        return text + ", " + p.options().isa + ", " + std::to_string(p.options().threads) + " threads>";
      });

  py::class_<lathe::Comparison>(m, "Comparison")
      .def_readonly("passed", &lathe::Comparison::pass)
      .def_readonly("reason", &lathe::Comparison::reason)
      .def_readonly("max_absolute", &lathe::Comparison::max_absolute)
      .def_readonly("max_relative", &lathe::Comparison::max_relative)
      .def_readonly("max_ulp", &lathe::Comparison::max_ulp)
      .def_readonly("cosine", &lathe::Comparison::cosine)
      .def_readonly("error", &lathe::Comparison::error)
      .def_readonly("out_of_tolerance", &lathe::Comparison::out_of_tolerance)
      .def_readonly("worst", &lathe::Comparison::worst)
      .def_readonly("got", &lathe::Comparison::got)
      .def_readonly("expected", &lathe::Comparison::expected)
      .def("__bool__", [](const lathe::Comparison& c) { return c.pass; })
      .def("__repr__", [](const lathe::Comparison& c) {
        return c.pass ? std::string("<Comparison passed>") : "<Comparison failed: " + c.reason + ">";
      });

  m.def("load", &graph_of, py::arg("model"));
  m.def("compile", &compile, py::arg("model"), py::kw_only(), py::arg("threads") = 0, py::arg("shapes") = std::map<std::string, Shape>(),
        py::arg("dims") = std::map<std::string, int64_t>(), py::arg("outputs") = std::vector<std::string>(),
        py::arg("given") = std::vector<std::string>(), py::arg("states") = py::none(), py::arg("positions") = 0, py::arg("fuse") = true,
        py::arg("plain") = false, py::arg("winograd") = true, py::arg("round_each") = false, py::arg("isa") = "",
        py::arg("arena_limit") = 0, py::arg("recipes") = py::none());
  m.def(
      "load_program",
      [](const Path& path, int threads, bool verify) {
        return lathe::load_program(path, {threads, verify});
      },
      py::arg("path"), py::kw_only(), py::arg("threads") = 0, py::arg("verify") = true, py::call_guard<py::gil_scoped_release>());
  m.def("evaluate", &evaluate, py::arg("model"), py::arg("inputs"));
  m.def("compare", &compare, py::arg("got"), py::arg("expected"), py::kw_only(), py::arg("absolute") = py::none(),
        py::arg("relative") = py::none(), py::arg("name") = "output");
  m.def("machine", &machine);
  m.attr("__version__") = lathe_version();
}

}  // namespace lathe_python
