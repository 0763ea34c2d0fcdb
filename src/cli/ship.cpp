// lathe ship
#include <unistd.h>

#include <fmt/ranges.h>

#include "beside.hpp"
#include "base/text.hpp"

namespace lathe::cli {
namespace {

struct ShipFlags {
  ModelOptions model;
  std::string to, kit;
  std::vector<std::string> also;
  bool with_graph = false, any_machine = false;
};

// "image=1,3,64,64 mask=1,64" to shapes in the order of the program's inputs; inputs not named keep what is bound,
// or what they have in the first shapes.
std::vector<Shape> shapes_of(const Program& program, const std::string& text, const std::optional<std::vector<Shape>>& first) {
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
  std::vector<std::string> names;
  for (const Port& p : program.inputs()) {
    names.push_back(p.name);
    if (const auto it = given.find(p.name); it != given.end()) {
      shapes.push_back(it->second);
      given.erase(it);
    } else if (const auto known = known_shape(p.dims)) {
      shapes.push_back(*known);
    } else if (first) {
      shapes.push_back((*first)[shapes.size()]);
    } else {
      throw UsageError(fmt::format("--also '{}': input '{}' is {} and gets no shape", text, p.name, dims_text(p.dims)));
    }
  }
  if (!given.empty())
    throw UsageError(fmt::format("--also: no input is named '{}'; the inputs are {}{}", given.begin()->first, fmt::join(names, ", "),
                                 did_you_mean(given.begin()->first, names)));
  return shapes;
}

// Of what is made once for many runs: as --shape says, and a batch of 1.
std::vector<Shape> once_shapes(const Program& once, const std::map<std::string, Shape>& asked) {
  std::vector<Shape> shapes;
  for (const Port& p : once.inputs()) {
    if (const auto it = asked.find(p.name); it != asked.end()) {
      shapes.push_back(it->second);
    } else if (const auto known = known_shape(p.dims)) {
      shapes.push_back(*known);
    } else {
      throw UsageError(fmt::format("input '{}' is {}: say for which size it is compiled first, e.g. --shape {}=1,3,224,224", p.name,
                                   dims_text(p.dims), p.name));
    }
  }
  return shapes;
}

// An archive that only stands in a kit, until it does.
class OnTheWay {
 public:
  explicit OnTheWay(bool needed) {
    if (needed) path_ = (std::filesystem::temp_directory_path() / fmt::format("lathe-ship-{}.lathe", ::getpid())).string();
  }
  ~OnTheWay() {
    std::error_code ec;
    if (!path_.empty()) std::filesystem::remove(path_, ec);
  }
  OnTheWay(const OnTheWay&) = delete;
  OnTheWay& operator=(const OnTheWay&) = delete;
  const std::string& path() const { return path_; }

 private:
  std::string path_;
};

}  // namespace

Command add_ship(CLI::App& app) {
  auto o = std::make_shared<ShipFlags>();
  o->model.add_to(app);
  app.add_option("-o,--to", o->to, "Where to write the archive")->type_name("FILE.lathe");
  auto* kit =
      app.add_option("--static-kit", o->kit,
                     "Write a folder with what builds into one program that runs this archive alone: the archive, the tables of what "
                     "it needs of the library, an example, CMakeLists.txt")
          ->type_name("FOLDER");
  auto* also =
      app.add_option("--also", o->also,
                     "Compile for these input shapes too, beside those of --batch, --dim and --shape, e.g. 'image=8,3,64,64' (repeatable)")
          ->type_name("'INPUT=N,N,.. ..'")
          ->allow_extra_args(false);
  app.add_flag("--any-machine", o->any_machine,
               "Carry the graph alone: for any processor, the browser's too, compiled where it is loaded; without packed weights")
      ->excludes(also)
      ->excludes(kit);
  app.add_flag("--with-graph", o->with_graph,
               "Carry the graph and its original weights: can be compiled again, for other shapes or machines");
  o->model.add_states(app);
  return [o] {
    if (o->to.empty() && o->kit.empty()) throw UsageError("say where to write: --to FILE.lathe, or --static-kit FOLDER");
    const OnTheWay own(o->to.empty());
    const std::string to = o->to.empty() ? own.path() : o->to;
    o->model.check_target("--to", to, {"a program archive"});
    Graph graph = o->model.load_graph();
    if (o->model.archived()) throw UsageError(fmt::format("{}: is an archive already; ship the model it was made from", o->model.model));
    CompileOptions options = o->model.compile_options(graph);
    const std::map<std::string, Shape> given = options.shapes;
    if (!options.states.empty()) {
      options.once = inserted_inputs(graph);
      options.shapes.clear();
      if (o->model.dims.empty()) options.dims.clear();
    }
    // With other shapes to come the dims stay open, and what the options say is the shape to compile first. An archive that can be
    // compiled again keeps the dim open that nobody but --batch has bound.
    const CompileOptions asked = options;
    const bool several = !o->also.empty(), keeps = !options.states.empty();
    if (keeps) {
      // Each run brings as much as it likes: sizes stay open.
    } else if (several || ((o->with_graph || o->any_machine) && o->model.dims.empty() && o->model.shapes.empty())) {
      options.dims.clear();
      options.shapes.clear();
    }
    options.editions = std::max<int>(options.editions, static_cast<int>(o->also.size()) + 1);
    Progress progress;
    progress.show("compiling");
    const Program program = o->model.make_program(std::move(graph), options, true);
    // Of a model with more open dims than --batch closes, --also alone may say what is compiled.
    const bool chosen = o->model.batch > 0 || !o->model.dims.empty() || !o->model.shapes.empty();
    std::optional<std::vector<Shape>> first;
    try {
      // For any machine nothing is compiled here.
      if (!o->any_machine) first = keeps ? one_position(program) : o->model.shapes_for(program, asked);
    } catch (const UsageError&) {
      if (!several || chosen) throw;
    }
    // What is compiled last stands first.
    for (size_t i = o->also.size(); i-- > 0;) program.describe(shapes_of(program, o->also[i], first));
    if (first) program.describe(*first);
    if (program.once() && !o->any_machine) program.once().describe(once_shapes(program.once(), given));
    progress.show("writing");
    save_program(program, to, {.carry_graph = o->with_graph, .any_machine = o->any_machine, .source = o->model.model});
    progress.show("");
    const ArchiveInfo info = archive_info(to);
    const std::string kept = o->to.empty() ? (std::filesystem::path(o->kit) / "model.lathe").string() : o->to;
    Json j{{"archive", kept}};
    j.update(archive_json(info));
    StaticKit made;
    if (!o->kit.empty()) {
      made = write_static_kit(to, o->kit);
      Json files = Json::array();
      for (const auto& f : made.files) files.push_back(f.string());
      j["static_kit"] = {{"folder", o->kit}, {"families", made.families}, {"ops", made.ops}, {"files", files}};
    }
    write_json(o->model.json, j);
    if (for_people(o->model.json)) {
      fmt::print("{}\n{}", kept, archive_text(info));
      if (!o->kit.empty()) {
        fmt::print("\n{}: a program of its own\n  {:<18}{}\n  {:<18}{}\n  {:<18}cmake -S {} -B {}/build && cmake --build {}/build\n",
                   o->kit, "families of steps", fmt::join(made.families, ", "), "groups of ops", fmt::join(made.ops, ", "), "build it",
                   o->kit, o->kit, o->kit);
      }
    }
    return kGood;
  };
}

}  // namespace lathe::cli
