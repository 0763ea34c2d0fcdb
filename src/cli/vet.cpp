// lathe vet
#include "common.hpp"

namespace lathe::cli {
namespace {

// What the compiler finds that looking at the model does not: sizes that only meet when constants are evaluated and patterns written anew.
// Open leading dims are 1; with others left open, only what holds for any size is compiled.
std::optional<Fault> compiles(const std::string& model, bool allow_outside) {
  try {
    ModelOptions m;
    m.model = model;
    m.allow_outside = allow_outside;
    m.time_limit = 60;
    Graph graph = m.load_graph();
    CompileOptions options = m.compile_options(graph);
    options.threads = 1;
    (void)m.make_program(std::move(graph), options);
  } catch (const Error& e) {
    return Fault{e.category(), "compiling", e.what()};
  }
  return std::nullopt;
}

// Of a line what its parts and connections say; of a file all that is wrong at once.
std::vector<Fault> examined(const std::string& model, bool allow_outside) {
  if (std::filesystem::path(model).extension() != ".toml") return examine_file(model, {allow_outside, false});
  try {
    return examine(load_model(model, {allow_outside, false}));
  } catch (const Error& e) {
    return {Fault{e.category(), "the line", e.what()}};
  }
}

}  // namespace

Command add_vet(CLI::App& app) {
  struct Options {
    std::vector<std::string> models, ops;
    bool allow_outside = false, strict = false;
    std::string json;
  };
  auto o = std::make_shared<Options>();
  app.add_option("MODEL", o->models, "ONNX files")->required();
  app.add_flag("--strict", o->strict, "Warnings fail too");
  app.add_flag("--allow-outside-data", o->allow_outside, "Accept external data from outside the model's folder");
  add_ops_option(app, o->ops);
  add_json_option(app, o->json);
  app.footer(
      "Looks at the file, names, order, opsets, ops, inputs and outputs, attributes, functions, subgraphs,\n"
      "types and shapes, and reports all that is wrong at once; then compiles it.\n"
      "Exit code 1 when a model has a fault.");
  return [o] {
    std::vector<std::string> read = o->models;
    read.insert(read.end(), o->ops.begin(), o->ops.end());
    check_target("--json", o->json, {"JSON"}, read);
    for (const std::string& path : o->ops) load_ops(path);
    Json j = Json::array();
    bool good = true;
    for (const std::string& model : o->models) {
      auto faults = examined(model, o->allow_outside);
      if (std::ranges::none_of(faults, &Fault::fatal)) {
        if (auto fault = compiles(model, o->allow_outside)) faults.push_back(*fault);
      }
      const auto fatal = std::ranges::count_if(faults, &Fault::fatal);
      const auto warnings = static_cast<int64_t>(faults.size()) - fatal;
      good = good && fatal == 0 && (!o->strict || warnings == 0);
      Json entry{{"model", model}, {"faults", Json::array()}, {"warnings", Json::array()}};
      for (const Fault& f : faults)
        entry[f.fatal ? "faults" : "warnings"].push_back({{"category", to_string(f.category)}, {"where", f.where}, {"what", f.what}});
      j.push_back(std::move(entry));
      if (!for_people(o->json)) continue;
      if (faults.empty()) {
        fmt::print("{}: {}\n", model, verdict_text("nothing is wrong", true));
        continue;
      }
      const auto count = [](int64_t n, const char* what) { return fmt::format("{} {}{}", n, what, n == 1 ? "" : "s"); };
      fmt::print("{}: {}, {}\n", model, verdict_text(count(fatal, "fault"), fatal == 0), count(warnings, "warning"));
      for (const bool serious : {true, false}) {
        for (const Fault& f : faults) {
          if (f.fatal != serious) continue;
          std::string where = f.where;
          if (where.starts_with(model)) where = where.substr(std::min(where.size(), model.size() + 2));
          const char* kind = serious ? "fault" : "warning";
          std::string category(to_string(f.category));
          for (const std::string& line : wrapped(where + (where.empty() ? "" : ": ") + f.what, 112)) {
            fmt::print("  {:<8} {:<12} {}\n", kind, category, line);
            kind = "", category.clear();
          }
        }
      }
    }
    write_json(o->json, j);
    return good ? kGood : kCheckFailed;
  };
}

}  // namespace lathe::cli
