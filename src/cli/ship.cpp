// lathe ship
#include "common.hpp"

namespace lathe::cli {
namespace {

struct Options {
  ModelOptions model;
  std::string to;
  std::vector<std::string> also;
  bool with_graph = false;
};

// "image=1,3,64,64 mask=1,64" to shapes in the order of the program's inputs; inputs not named keep what is bound.
std::vector<Shape> shapes_of(const Program& program, const std::string& text) {
  std::map<std::string, Shape> given;
  for (size_t at = 0; at < text.size();) {
    const size_t end = std::min(text.find(' ', at), text.size());
    if (end > at) {
      const auto [name, sizes] = split_pair(text.substr(at, end - at), "--also");
      given[name] = parse_shape(sizes, "--also");
    }
    at = end + 1;
  }
  std::vector<Shape> shapes;
  for (const Port& p : program.inputs()) {
    if (const auto it = given.find(p.name); it != given.end()) {
      shapes.push_back(it->second);
      given.erase(it);
    } else if (const auto known = known_shape(p.dims)) {
      shapes.push_back(*known);
    } else {
      throw UsageError(fmt::format("--also '{}': input '{}' is {} and gets no shape", text, p.name, dims_text(p.dims)));
    }
  }
  if (!given.empty()) throw UsageError(fmt::format("--also: no input is named '{}'", given.begin()->first));
  return shapes;
}

}  // namespace

Command add_ship(CLI::App& app) {
  auto o = std::make_shared<Options>();
  o->model.add_to(app);
  app.add_option("-o,--to", o->to, "Where to write the archive")->required()->type_name("FILE.lathe");
  app.add_option("--also", o->also, "Keep dims open and compile for these input shapes, e.g. 'image=8,3,64,64' (repeatable)")
      ->type_name("'INPUT=N,N,.. ..'")
      ->allow_extra_args(false);
  app.add_flag("--with-graph", o->with_graph,
               "Carry the graph and its original weights: can be compiled again, for other shapes or machines");
  return [o] {
    Graph graph = o->model.load_graph();
    if (o->model.archived()) throw UsageError(fmt::format("{}: is an archive already; ship the model it was made from", o->model.model));
    CompileOptions options = o->model.compile_options(graph);
    if (!o->also.empty() && o->model.batch == 0 && o->model.dims.empty()) options.dims.clear();  // what --batch would have bound
    options.editions = std::max<int>(options.editions, static_cast<int>(o->also.size()));
    Progress progress;
    progress.show("compiling");
    const Program program = compile(std::move(graph), options);
    for (const std::string& text : o->also) program.describe(shapes_of(program, text));
    progress.show("writing");
    save_program(program, o->to, {.carry_graph = o->with_graph, .source = o->model.model});
    progress.show("");
    const ArchiveInfo info = archive_info(o->to);
    Json j{{"archive", o->to}};
    j.update(archive_json(info));
    write_json(o->model.json, j);
    if (for_people(o->model.json)) fmt::print("{}\n{}", o->to, archive_text(info));
    return kGood;
  };
}

}  // namespace lathe::cli
