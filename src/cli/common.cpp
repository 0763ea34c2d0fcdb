#include <utility>
#include "common.hpp"

#include <sys/ioctl.h>
#include <unistd.h>

#include <charconv>
#include <filesystem>
#include <fstream>
#include <set>

#include "base/files.hpp"
#include "keep.hpp"
#include "base/text.hpp"

namespace lathe::cli {

namespace {

namespace fs = std::filesystem;

// Compiling evaluates constants, loops among them: it ends when its time is over.
struct Deadline {
  std::chrono::steady_clock::time_point until;
  bool armed = false;
  double seconds = 0;
};
Deadline deadline;

void check_deadline(void*) {
  if (deadline.armed && std::chrono::steady_clock::now() > deadline.until) {
    throw Error(Category::resource, fmt::format("compiling evaluates constants of the model for more than {:g} s; --time-limit raises "
                                                "the limit (0: none)",
                                                deadline.seconds));
  }
}

class Armed {
 public:
  explicit Armed(double seconds) {
    if (seconds <= 0) return;
    deadline = {std::chrono::steady_clock::now() +
                    std::chrono::duration_cast<std::chrono::steady_clock::duration>(std::chrono::duration<double>(seconds)),
                true, seconds};
  }
  ~Armed() { deadline.armed = false; }
};

bool one_file(const fs::path& a, const fs::path& b) {
  std::error_code ec;
  if (fs::equivalent(a, b, ec)) return true;
  return fs::weakly_canonical(a, ec) == fs::weakly_canonical(b, ec);
}

std::string head_of(const fs::path& path) {
  std::string head(4096, '\0');
  std::ifstream in(path, std::ios::binary);
  in.read(head.data(), static_cast<std::streamsize>(head.size()));
  head.resize(static_cast<size_t>(std::max<std::streamsize>(0, in.gcount())));
  return head;
}

// The first field of a serialized model: an ONNX file shows no other sign of what it is.
bool begins_like_a_model(std::string_view head) {
  if (head.empty()) return false;
  const int field = static_cast<unsigned char>(head[0]) >> 3, wire = static_cast<unsigned char>(head[0]) & 7;
  return (wire == 0 && (field == 1 || field == 5)) || (wire == 2 && field >= 2 && field <= 8);
}

}  // namespace

const CLI::Validator& zero_or_more() {
  static const CLI::Validator check(
      [](const std::string& text) {
        char* end = nullptr;
        const double v = std::strtod(text.c_str(), &end);
        return !text.empty() && *end == '\0' && v >= 0 ? std::string() : fmt::format("'{}' is not a number of 0 or more", text);
      },
      "");
  return check;
}

std::vector<std::string> wrapped(const std::string& text, size_t width) {
  std::vector<std::string> lines;
  for (size_t at = 0; at < text.size();) {
    size_t end = std::min(text.size(), at + width);
    if (end < text.size()) {
      const size_t space = text.rfind(' ', end);
      if (space != std::string::npos && space > at) end = space;
    }
    lines.push_back(text.substr(at, end - at));
    at = end + (end < text.size() && text[end] == ' ' ? 1 : 0);
  }
  return lines;
}

void check_target(const std::string& option, const std::string& path, std::initializer_list<std::string_view> kinds,
                  std::span<const std::string> read) {
  if (path.empty() || path == "-") return;
  for (const std::string& other : read) {
    if (!other.empty() && one_file(path, other))
      throw UsageError(fmt::format("{} {}: is {} itself, which this command reads; name another file", option, path, other));
  }
  std::error_code ec;
  if (fs::is_directory(path, ec)) throw UsageError(fmt::format("{} {}: is a folder; name a file", option, path));
  if (!fs::is_regular_file(path, ec)) return;
  const std::string head = head_of(path);
  if (head.empty()) return;
  std::string_view kind = kind_of_file(head);
  if (kind.empty() && begins_like_a_model(head)) kind = kModelFile;
  if (std::ranges::find(kinds, kind) != kinds.end()) return;
  // Nothing at their beginning tells these from other text.
  const auto of_text = [](std::string_view k) { return k == "CSV" || k == "Markdown" || k == "TOML"; };
  if (kind == "text" && std::ranges::any_of(kinds, of_text)) return;
  throw UsageError(fmt::format("{} {}: there is a file of another kind ({}) under that name; remove it first, or name another file", option,
                               path, kind.empty() ? "of bytes this tool does not write" : kind));
}

void ModelOptions::check_target(const std::string& option, const std::string& path, std::initializer_list<std::string_view> kinds) const {
  std::vector<std::string> read{model};
  read.insert(read.end(), ops.begin(), ops.end());
  cli::check_target(option, path, kinds, read);
}

void ModelOptions::add_limits(CLI::App& app) {
  app.add_option("--time-limit", time_limit, "Seconds that compiling, and then each run, may take; 0: no limit (600)")
      ->check(zero_or_more())
      ->type_name("S");
  app.add_option("--memory-limit", memory_limit,
                 "Memory for values between steps, and for one result of plain evaluation, e.g. 500M or 4G (this machine's; 1G)")
      ->type_name("SIZE");
  app.add_option("--trip-limit", trip_limit, "Trips that all the loops of a run may take together (16777216)")
      ->check(CLI::Range(int64_t{1}, int64_t{1'000'000'000'000}))
      ->type_name("N");
}

void ModelOptions::add_states(CLI::App& app) {
  auto* o = app.add_option("--states", states,
                           "Outputs that are inputs of the next run: OUTPUT=INPUT, a pattern like present.*=past.*, 'found' (by metadata "
                           "and names), or 'none'")
                ->type_name("PATTERN,...");
  if (!states.empty()) o->capture_default_str();
  app.add_option("--positions", positions, "Positions that states have room for (0: as many as memory holds)")->check(zero_or_more());
}

RunOptions ModelOptions::run_options() const {
  RunOptions o;
  o.limit = std::chrono::nanoseconds(static_cast<int64_t>(std::min(time_limit, 1e9) * 1e9));
  return o;
}

Program ModelOptions::make_program(Graph graph, const CompileOptions& options, bool bind) const {
  if (archive) return *archive;
  const Armed armed(time_limit);
  if (!options.states.empty() && !bind) {
    CompileOptions open = options;
    open.dims.clear(), open.shapes.clear();
    return compile(std::move(graph), open);
  }
  return compile(std::move(graph), options);
}

std::vector<Shape> one_position(const Program& program) {
  std::vector<Shape> shapes;
  for (const Port& p : program.inputs()) {
    Shape shape;
    for (const Dim& d : p.dims.value_or(Dims())) shape.push_back(d.known() ? d.value : 1);
    shapes.push_back(std::move(shape));
  }
  return shapes;
}

std::string how_to_close(const std::vector<Port>& inputs) {
  for (const Port& p : inputs) {
    if (p.composite || known_shape(p.dims)) continue;
    // What such dims mostly are: pictures of 224 pixels, else 16 of something.
    const int64_t usual = p.dims && p.dims->size() == 4 ? 224 : 16;
    std::string shape, dims;
    const size_t rank = p.dims ? p.dims->size() : 2;
    for (size_t i = 0; i < rank; ++i) {
      const Dim d = p.dims ? (*p.dims)[i] : Dim();
      const int64_t size = d.known() ? d.value : i == 0 ? 1 : usual;
      shape += fmt::format("{}{}", i ? "," : "", size);
      const std::string word = fmt::format(" --dim {}={}", d.symbol, size);
      if (!d.known() && !d.symbol.empty() && dims.find(word) == std::string::npos) dims += word;
    }
    const bool named = p.dims && std::ranges::all_of(*p.dims, [](const Dim& d) { return d.known() || !d.symbol.empty(); });
    return fmt::format("--shape {}={}{}", p.name, shape, named ? " or" + dims : "");
  }
  return "";
}

std::vector<Shape> ModelOptions::shapes_for(const Program& program, const CompileOptions& options) const {
  std::vector<Port> ports = program.inputs();
  for (Port& p : ports) {
    if (p.composite) continue;
    if (const auto it = options.shapes.find(p.name); it != options.shapes.end()) {
      if (!fits(it->second, p.dims))
        throw UsageError(fmt::format("--shape: input '{}' is {}, not {}", p.name, dims_text(p.dims), to_string(it->second)));
      p.dims = Dims(it->second.begin(), it->second.end());
    }
    if (!p.dims) continue;
    for (Dim& d : *p.dims) {
      if (const auto it = options.dims.find(d.symbol); !d.known() && it != options.dims.end()) d = Dim(it->second);
    }
  }
  // A mask of everything that is held and new is as long as that.
  std::vector<Shape> others;
  for (size_t i = 0; i < ports.size(); ++i)
    others.push_back(program.spans_states(i) ? Shape() : known_shape(ports[i].dims).value_or(Shape()));
  for (size_t i = 0; i < ports.size(); ++i) {
    if (program.spans_states(i) && !ports[i].dims->back().known()) ports[i].dims->back() = Dim(held + program.positions_added(others));
  }
  const auto serves = [&](const std::vector<Shape>& edition) {
    for (size_t i = 0; i < ports.size(); ++i) {
      if (!ports[i].composite && !fits(edition[i], ports[i].dims)) return false;
    }
    return true;
  };
  if (archive) {
    const ArchiveInfo info = archive_info(model);
    for (const auto& edition : info.editions) {
      if (edition.size() == ports.size() && serves(edition)) return edition;
    }
    if (!info.carries_graph) {
      std::string held;
      for (const auto& edition : info.editions) {
        std::string one;
        for (size_t i = 0; i < edition.size() && i < ports.size(); ++i)
          one += fmt::format("{}{}={}", i ? " " : "", ports[i].name, fmt::join(edition[i], ","));
        held += (held.empty() ? "" : "; ") + one;
      }
      throw UsageError(
          fmt::format("{}: holds no program for these shapes, only for {}; ship the model with --also 'INPUT=N,N,..' for others, "
                      "or --with-graph",
                      model, held));
    }
  }
  std::vector<Shape> shapes;
  for (const Port& p : ports) {
    const auto known = p.composite ? std::optional(Shape()) : known_shape(p.dims);
    if (!known)
      throw UsageError(fmt::format("input '{}' is {}: its size must be given, e.g. {}", p.name, dims_text(p.dims), how_to_close(ports)));
    shapes.push_back(*known);
  }
  return shapes;
}

void add_json_option(CLI::App& app, std::string& target) {
  app.add_option("--json", target, "Write the same facts as JSON to FILE ('-': standard output, and nothing else there)")
      ->type_name("FILE");
}

void ModelOptions::add_to(CLI::App& app, bool model_required) {
  auto* m = app.add_option("MODEL", model, "ONNX file, an archive that 'lathe ship' wrote, or a sheet that joins models to a line (.toml)");
  if (model_required) m->required();
  app.add_option("--dim", dims, "Size of a symbolic dim, e.g. batch=8 (repeatable)")->type_name("NAME=N")->allow_extra_args(false);
  app.add_option("--shape", shapes, "Whole shape of an input, e.g. image=1,3,64,64 (repeatable)")
      ->type_name("INPUT=N,N,..")
      ->allow_extra_args(false);
  app.add_option("--batch", batch, "Size of the inputs' leading dim where the model leaves it open (1)")
      ->check(CLI::Range(int64_t{1}, int64_t{1} << 20));
  app.add_option("--output", outputs, "Keep only this output; any value's name will do (repeatable)")
      ->type_name("NAME")
      ->allow_extra_args(false);
  app.add_option("--threads", threads, "Threads (all cores this process may use)")->check(CLI::Range(1, 1024))->type_name("N");
  app.add_option("--isa", isa, "Instruction set: scalar, sse4, avx2, avx512, amx, on ARM neon (the best there is)")->type_name("NAME");
  app.add_flag("--direct", direct, "No Winograd: 3x3 convolutions are summed directly (less memory, half the rounding error)");
  app.add_flag("--round-each", round_each,
               "f16 and bf16: round after each node, as the model is written (else values between nodes stay f32)");
  app.add_option("--recipes", recipes, "Follow recipes that 'tune' found: a logbook, a file of 'tune -o', or LOGBOOK for the usual one")
      ->type_name("FILE");
  app.add_flag("--allow-outside-data", allow_outside, "Accept external data from outside the model's folder");
  add_ops_option(app, ops);
  add_json_option(app, json);
}

void ModelOptions::add_pins(CLI::App& app) {
  app.add_option("--pin", pins,
                 "Turn a knob by hand: NODE:KNOB=VALUE, KNOB=VALUE of all steps, NODE:family=NAME; 'tune --list' shows them (repeatable)")
      ->type_name("NODE:KNOB=N")
      ->allow_extra_args(false);
}

void ModelOptions::check_pins(const CompileOptions& options, const EditionInfo& edition) const {
  if (pins.empty()) return;
  if (const std::string fault = pin_fault(*options.recipes, edition); !fault.empty()) throw UsageError("--pin " + fault);
}

void add_ops_option(CLI::App& app, std::vector<std::string>& target) {
  app.add_option("--ops", target, "Shared library of op definitions to load first (repeatable)")
      ->type_name("FILE.so")
      ->allow_extra_args(false);
}

std::vector<std::string> ModelOptions::words() const {
  std::vector<std::string> w{model};
  const auto each = [&](const char* option, const std::vector<std::string>& values) {
    for (const std::string& v : values) w.insert(w.end(), {option, v});
  };
  each("--dim", dims);
  each("--shape", shapes);
  each("--output", outputs);
  each("--ops", ops);
  each("--pin", pins);
  if (batch > 0) w.insert(w.end(), {"--batch", std::to_string(batch)});
  if (threads > 0) w.insert(w.end(), {"--threads", std::to_string(threads)});
  if (!isa.empty()) w.insert(w.end(), {"--isa", isa});
  if (!recipes.empty()) w.insert(w.end(), {"--recipes", recipes});
  if (direct) w.emplace_back("--direct");
  if (round_each) w.emplace_back("--round-each");
  if (allow_outside) w.emplace_back("--allow-outside-data");
  return w;
}

void ModelOptions::load_libraries() const {
  for (const std::string& path : ops) load_ops(path);
}

Graph ModelOptions::load_graph(bool unchecked) const {
  check_target("--json", json, {"JSON"});
  load_libraries();
  if (is_program_archive(model)) {
    const std::pair<bool, const char*> fixed[]{{!outputs.empty(), "--output"},
                                               {!isa.empty(), "--isa"},
                                               {direct, "--direct"},
                                               {round_each, "--round-each"},
                                               {!recipes.empty(), "--recipes"},
                                               {!pins.empty(), "--pin"},
                                               {positions > 0, "--positions"},
                                               {!states.empty() && states != "found", "--states"}};
    for (const auto& [given, name] : fixed) {
      if (given) throw UsageError(fmt::format("{}: {} is compiled already; give it when the model is shipped", name, model));
    }
    archive = load_program(model, {.threads = threads});
    Graph ports;
    for (const bool in : {true, false}) {
      for (const Port& p : in ? archive->inputs() : archive->outputs()) {
        Value v;
        v.name = p.name;
        v.dtype = p.dtype;
        v.dims = p.dims;
        v.composite = p.composite;
        (in ? ports.inputs : ports.outputs).push_back(ports.add_value(std::move(v)));
      }
    }
    ports.metadata = archive->metadata();
    return ports;
  }
  LoadOptions options = load_options();
  options.unchecked = unchecked;
  return load_model(model, options);
}

Graph load_model(const std::string& path, const LoadOptions& options) {
  if (std::filesystem::path(path).extension() != ".toml") return load(path, options);
  if (!is_line_sheet(path)) throw UsageError(fmt::format("{}: is a sheet without [[part]]: no model, and no line of models", path));
  return join(read_line(path, options));
}

Tensor read_value(const std::string& path, const std::string& option) {
  if (path.ends_with(".npy")) return read_npy(path);
  if (path.ends_with(".pb")) return read_tensor_pb(path).tensor;
  throw UsageError(fmt::format("{}: {}: expected .npy or .pb", option, path));
}

int64_t parse_size(const std::string& text, const std::string& option) {
  int64_t v = 0;
  const auto [end, ec] = std::from_chars(text.data(), text.data() + text.size(), v);
  if (ec != std::errc() || end != text.data() + text.size() || v < 0)
    throw UsageError(fmt::format("{}: '{}' is not a size (a whole number, 0 or more)", option, text));
  return v;
}

std::vector<std::string> split(const std::string& text, char by) {
  std::vector<std::string> parts(1);
  for (char c : text) {
    if (c == by) parts.emplace_back();
    else parts.back() += c;
  }
  return parts;
}

std::vector<float> number_list(const std::string& text, const std::string& option) {
  std::vector<float> out;
  if (text.empty()) return out;
  for (const std::string& part : split(text, ',')) {
    const size_t first = std::min(part.find_first_not_of(' '), part.size()), last = part.find_last_not_of(' ') + 1;
    float v = 0;
    const auto [end, ec] = std::from_chars(part.data() + first, part.data() + std::max(first, last), v);
    if (ec != std::errc() || end != part.data() + last) throw UsageError(fmt::format("{}: '{}' is not a number", option, part));
    out.push_back(v);
  }
  return out;
}

size_t parse_bytes(const std::string& text, const std::string& option) {
  const std::string_view units = "KMGT";
  const size_t unit =
      text.empty() ? std::string::npos : units.find(static_cast<char>(std::toupper(static_cast<unsigned char>(text.back()))));
  const int64_t n = parse_size(unit == std::string::npos ? text : text.substr(0, text.size() - 1), option);
  const int shift = unit == std::string::npos ? 0 : 10 * (static_cast<int>(unit) + 1);
  if (n < 1 || n > (std::numeric_limits<int64_t>::max() >> shift))
    throw UsageError(fmt::format("{}: '{}' is not a size such as 1000000, 500M or 4G", option, text));
  return static_cast<size_t>(n) << shift;
}

Shape parse_shape(const std::string& text, const std::string& option) {
  Shape shape;
  for (size_t at = 0; at <= text.size();) {
    const size_t end = std::min(text.find(',', at), text.size());
    shape.push_back(parse_size(text.substr(at, end - at), option));
    at = end + 1;
  }
  return shape;
}

Json archive_json(const ArchiveInfo& info) {
  Json editions = Json::array();
  for (const auto& shapes : info.editions) editions.push_back(shapes);
  return {{"format", "program archive"},
          {"made_by", info.made_by},
          {"source", info.source},
          {"source_xxh3", fmt::format("{:016x}", info.source_hash)},
          {"isa", info.isa},
          {"threads", info.threads},
          {"carries_graph", info.carries_graph},
          {"editions", editions},
          {"bytes", info.file_bytes},
          {"index_bytes", info.index_bytes}};
}

std::string archive_text(const ArchiveInfo& info) {
  Table table("ll");
  table.row({"format", fmt::format("program archive, made by version {}", info.made_by)});
  if (!info.source.empty()) table.row({"source", fmt::format("{}, XXH3 {:016x}", info.source, info.source_hash)});
  const bool any = info.isa == "any";
  table.row({"needs", fmt::format("{}; {} {} thread{}", any ? "any processor" : info.isa, any ? "to be compiled for" : "compiled for",
                                  info.threads, info.threads > 1 ? "s" : "")});
  std::string editions;
  for (const auto& shapes : info.editions) {
    std::string one;
    for (const Shape& s : shapes) one += (one.empty() ? "" : ", ") + to_string(s);
    editions += (editions.empty() ? "" : "; ") + one;
  }
  table.row({"shapes", any ? "those that it meets" : editions});
  table.row({"graph",
             info.carries_graph ? "carried: can be compiled again" : "not carried: runs as it is, on machines with that instruction set"});
  table.row({"size", fmt::format("{}, {} of it steps, shapes and names", bytes_text(static_cast<double>(info.file_bytes)),
                                 bytes_text(static_cast<double>(info.index_bytes)))});
  return table.text();
}

std::pair<std::string, std::string> split_pair(const std::string& text, const std::string& option) {
  const size_t at = text.rfind('=');
  if (at == std::string::npos || at == 0 || at + 1 == text.size())
    throw UsageError(fmt::format("{}: '{}' is not NAME=VALUE", option, text));
  return {text.substr(0, at), text.substr(at + 1)};
}

namespace {

bool bound_by_shape(const Graph& g, const std::map<std::string, Shape>& shapes, const std::string& symbol) {
  return std::any_of(g.inputs.begin(), g.inputs.end(), [&](ValueId v) {
    const Value& value = g.values[v];
    return shapes.contains(value.name) && value.dims && std::find(value.dims->begin(), value.dims->end(), Dim(symbol)) != value.dims->end();
  });
}

}  // namespace

Recipes read_tuned(const std::string& from) {
  const std::string file = from == "LOGBOOK" ? KeepFlags().file() : from;
  if (!std::filesystem::exists(file)) throw UsageError(fmt::format("--recipes: there is no file {}", file));
  return as_usage([&] { return tuned_recipes(file); });
}

std::string tuned_text(const EditionInfo& edition, const std::string& from) {
  const auto tuned = std::ranges::count(edition.steps, "tuned", &StepInfo::chosen_by);
  const auto refused = std::ranges::count_if(edition.steps, [](const StepInfo& s) { return !s.refused.empty(); });
  return fmt::format("recipes of {}: {} of {} steps follow one{}", from, tuned, edition.steps.size(),
                     refused > 0 ? fmt::format("; {} fit no more and were left ('explain' says why)", refused) : "");
}

Json tuned_json(const EditionInfo& edition, const std::string& from) {
  if (from.empty()) return nullptr;
  return {{"from", from},
          {"steps", std::ranges::count(edition.steps, "tuned", &StepInfo::chosen_by)},
          {"refused", std::ranges::count_if(edition.steps, [](const StepInfo& s) { return !s.refused.empty(); })}};
}

CompileOptions ModelOptions::compile_options(const Graph& g) const {
  CompileOptions o;
  o.threads = threads;
  o.isa = isa;
  o.winograd = !direct;
  o.round_each = round_each;
  if (!recipes.empty() || !pins.empty()) {
    auto followed = std::make_shared<Recipes>(recipes.empty() ? Recipes() : read_tuned(recipes));
    for (const std::string& pin : pins) as_usage([&] { followed->pin(read_pin(pin)); });
    o.recipes = std::move(followed);
  }
  o.limits.trips = trip_limit;
  o.limits.pulse = check_deadline;
  if (!memory_limit.empty()) {
    o.arena_limit = parse_bytes(memory_limit, "--memory-limit");
    o.limits.elements = static_cast<int64_t>(o.arena_limit / sizeof(float));
  }
  if (threads > usable_cores())
    fmt::print(stderr, "lathe: --threads {}: there {} for this process; more threads than cores take turns and gain nothing\n", threads,
               usable_cores() == 1 ? "is 1 core" : fmt::format("are {} cores", usable_cores()));
  const auto have = machine_info().isas;
  if (!isa.empty() && std::find(have.begin(), have.end(), isa) == have.end())
    throw UsageError(fmt::format("--isa: '{}' is not one this machine has: {}", isa, fmt::join(have, ", ")));
  if (states == "found") o.states = find_states(g);
  else if (!states.empty() && states != "none") o.states = as_usage([&] { return pair_states(g, states); });
  if (positions > 0 && o.states.empty())
    throw UsageError(states == "found" ? "--positions: no states are found; --states says which they are"
                                       : "--positions goes with --states");
  o.positions = positions;
  std::set<std::string> symbols;
  std::vector<std::string> inputs;
  for (ValueId v : g.inputs) {
    inputs.push_back(g.values[v].name);
    for (const Dim& d : g.values[v].dims.value_or(Dims())) {
      if (!d.symbol.empty()) symbols.insert(d.symbol);
    }
  }
  for (const std::string& text : dims) {
    const auto [name, value] = split_pair(text, "--dim");
    if (!symbols.contains(name)) {
      const std::vector<std::string> known(symbols.begin(), symbols.end());
      throw UsageError(fmt::format("--dim: no input has a dim named '{}'; {}{}", name,
                                   known.empty() ? "all dims are fixed" : fmt::format("the open ones are {}", fmt::join(known, ", ")),
                                   did_you_mean(name, known)));
    }
    o.dims[name] = parse_size(value, "--dim");
  }
  for (const std::string& text : shapes) {
    const auto [name, value] = split_pair(text, "--shape");
    if (std::find(inputs.begin(), inputs.end(), name) == inputs.end())
      throw UsageError(
          fmt::format("--shape: no input is named '{}'; the inputs are {}{}", name, fmt::join(inputs, ", "), did_you_mean(name, inputs)));
    o.shapes[name] = parse_shape(value, "--shape");
  }
  // Sizes that contradict each other, or the model.
  std::map<std::string, int64_t> sizes = o.dims;
  for (ValueId v : g.inputs) {
    const Value& value = g.values[v];
    const auto it = o.shapes.find(value.name);
    if (it == o.shapes.end() || !value.dims) continue;
    if (!fits(it->second, value.dims))
      throw UsageError(fmt::format("--shape: input '{}' is {}, not {}", value.name, dims_text(value.dims), to_string(it->second)));
    for (size_t i = 0; i < it->second.size(); ++i) {
      const Dim& d = (*value.dims)[i];
      if (d.symbol.empty()) continue;
      const auto [known, fresh] = sizes.try_emplace(d.symbol, it->second[i]);
      if (!fresh && known->second != it->second[i])
        throw UsageError(fmt::format("--shape: dim '{}' is given two sizes: {} and {}", d.symbol, known->second, it->second[i]));
    }
  }
  for (const std::string& name : outputs) {
    if (g.find_value(name) == kAbsent) {
      std::vector<std::string> names;
      for (ValueId v : g.outputs) names.push_back(g.values[v].name);
      std::vector<std::string> all;
      for (const Value& v : g.values) all.push_back(v.name);
      throw UsageError(fmt::format("--output: no value is named '{}'; the model's outputs are {}{}", name, fmt::join(names, ", "),
                                   did_you_mean(name, all)));
    }
    if (std::ranges::count(outputs, name) > 1) throw UsageError(fmt::format("--output {}: is given twice", name));
  }
  o.outputs = outputs;
  // A dim that the first input leads with and leaves open is the batch, unless a --shape says otherwise.
  for (ValueId v : g.inputs) {
    const Value& value = g.values[v];
    if (!value.dims || value.dims->empty()) continue;
    const Dim& first = (*value.dims)[0];
    if (first.known() && batch > 0 && first.value != batch) {
      throw UsageError(fmt::format("--batch: the leading dim of '{}' is fixed at {}", value.name, first.value));
    }
    // Of an archive the first edition decides, unless asked otherwise.
    if (!first.symbol.empty() && !bound_by_shape(g, o.shapes, first.symbol) && (batch > 0 || !archive))
      o.dims.try_emplace(first.symbol, batch > 0 ? batch : 1);
    // Of a line, parts may have a dim of that name each, "words.batch".
    for (const std::string& symbol : symbols) {
      if (!first.symbol.empty() && symbol.ends_with("." + first.symbol) && !bound_by_shape(g, o.shapes, symbol) && (batch > 0 || !archive))
        o.dims.try_emplace(symbol, batch > 0 ? batch : 1);
    }
    break;
  }
  return o;
}

Json states_json(const Program& p) {
  Json j = Json::array();
  for (const StateInfo& s : p.states())
    j.push_back({{"output", s.pair.output},
                 {"input", s.pair.input},
                 {"dtype", to_string(s.dtype)},
                 {"dims", to_json(s.dims)},
                 {"grows_along", s.axis < 0 ? Json(nullptr) : Json(s.axis)},
                 {"in_place", s.in_place}});
  return j;
}

std::string states_text(const Program& p) {
  if (p.states().empty()) return "none";
  const auto grow = std::ranges::count_if(p.states(), [](const StateInfo& s) { return s.axis >= 0; });
  const auto all = static_cast<ptrdiff_t>(p.states().size());
  std::string text;
  if (grow > 0) text = fmt::format("{} that grow, {}", grow, p.why_copied().empty() ? "in place" : "copied: " + p.why_copied());
  if (all > grow) text += fmt::format("{}{} of one size", text.empty() ? "" : "; ", all - grow);
  return text;
}

namespace {
thread_local Json* json_sink = nullptr;
}

JsonSink::JsonSink(Json& into) : before_(std::exchange(json_sink, &into)) {}
JsonSink::~JsonSink() { json_sink = before_; }

Json facts_of(Command (*make)(CLI::App&), std::vector<std::string> words) {
  CLI::App app;
  const Command run = make(app);
  words.insert(words.end(), {"--json", "-"});
  std::ranges::reverse(words);
  app.parse(words);
  Json out;
  const JsonSink sink(out);
  (void)run();
  return out;
}

void write_json(const std::string& target, const Json& json) {
  if (target.empty()) return;
  if (target == "-" && json_sink != nullptr) {
    *json_sink = json;
    return;
  }
  const std::string text = json.dump(2, ' ', false, Json::error_handler_t::replace) + "\n";
  if (target == "-") fmt::print("{}", text);
  else write_file(target, text);
}

std::string verdict_text(const std::string& text, bool good) {
  const char* no_colour = std::getenv("NO_COLOR");
  if (!::isatty(STDOUT_FILENO) || (no_colour && *no_colour)) return text;
  return fmt::format("\033[1;{}m{}\033[0m", good ? 32 : 31, text);
}

std::string bytes_text(double b) {
  const char* units[] = {"B", "KiB", "MiB", "GiB", "TiB"};
  int u = 0;
  while (b >= 1024 && u < 4) b /= 1024, ++u;
  return u == 0 ? fmt::format("{:.0f} B", b) : fmt::format("{:.1f} {}", b, units[u]);
}

std::string count_text(double n) {
  const char* units[] = {"", " k", " M", " G", " T"};
  int u = 0;
  while (n >= 1000 && u < 4) n /= 1000, ++u;
  return u == 0 ? fmt::format("{:.0f}", n) : fmt::format("{:.2f}{}", n, units[u]);
}

std::string seconds_text(double s) {
  if (s < 1e-3) return fmt::format("{:.1f} us", s * 1e6);
  if (s < 1) return fmt::format("{:.3f} ms", s * 1e3);
  return fmt::format("{:.3f} s", s);
}

Table::Table(std::string alignment, std::vector<std::string> head) : alignment_(std::move(alignment)), head_(!head.empty()) {
  if (head_) rows_.push_back(std::move(head));
}

void Table::row(std::vector<std::string> cells) { rows_.push_back(std::move(cells)); }

namespace {

constexpr size_t kLeastColumn = 10;  // what a column of text keeps on a narrow terminal

bool continues(char c) { return (static_cast<unsigned char>(c) & 0xC0) == 0x80; }

// Columns that a text takes: characters, without the escapes that colour it.
size_t shown(const std::string& text) {
  size_t n = 0;
  for (size_t i = 0; i < text.size(); ++i) {
    if (text[i] == '\x1b') i = std::min(text.find('m', i), text.size());
    else n += !continues(text[i]);
  }
  return n;
}

// Cut to so many columns: words at their end, a name in the middle, as both its ends tell.
std::string fitted(const std::string& text, size_t columns) {
  if (shown(text) <= columns || text.find('\x1b') != std::string::npos) return text;
  const auto at = [&](size_t n) {  // where the n-th character begins
    size_t i = 0;
    for (; i < text.size() && n > 0; --n) {
      do ++i;
      while (i < text.size() && continues(text[i]));
    }
    return i;
  };
  const size_t keep = columns - 2, all = shown(text);
  if (text.find(' ') != std::string::npos) return text.substr(0, at(keep)) + "..";
  return text.substr(0, at(keep / 2)) + ".." + text.substr(at(all - (keep - keep / 2)));
}

// Of the terminal that standard output is; 0: it is none, and lines are as long as they are.
size_t terminal_columns() {
  winsize w{};
  return ::isatty(STDOUT_FILENO) && ::ioctl(STDOUT_FILENO, TIOCGWINSZ, &w) == 0 ? w.ws_col : 0;
}

}  // namespace

std::string Table::text(const std::string& indent) const {
  std::vector<size_t> width(alignment_.size(), 0);
  for (const auto& r : rows_) {
    for (size_t i = 0; i < r.size() && i < width.size(); ++i) width[i] = std::max(width[i], shown(r[i]));
  }
  size_t total = indent.size();
  for (size_t i = 0; i < width.size(); ++i) total += width[i] + (i > 0 ? 2 : 0);
  // On a terminal too narrow for it the widest columns of text give way; figures never do.
  for (const size_t columns = terminal_columns(); columns > 0 && total > columns; --total) {
    size_t widest = width.size();
    for (size_t i = 0; i < width.size(); ++i) {
      if (alignment_[i] == 'l' && width[i] > kLeastColumn && (widest == width.size() || width[i] > width[widest])) widest = i;
    }
    if (widest == width.size()) break;
    --width[widest];
  }
  std::string out;
  for (size_t n = 0; n < rows_.size(); ++n) {
    std::string line = indent;
    for (size_t i = 0; i < rows_[n].size() && i < width.size(); ++i) {
      if (i > 0) line += "  ";
      const std::string cell = fitted(rows_[n][i], width[i]);
      const std::string space(width[i] - std::min(width[i], shown(cell)), ' ');
      line += alignment_[i] == 'r' ? space + cell : cell + space;
    }
    line.erase(line.find_last_not_of(' ') + 1);
    out += line + "\n";
    if (n == 0 && head_) out += indent + std::string(total - indent.size(), '-') + "\n";
  }
  return out;
}

void Progress::show(const std::string& text) {
  if (!isatty(STDERR_FILENO)) return;
  shown_ = true;
  fmt::print(stderr, "\r\033[K{}", text);
  std::fflush(stderr);
}

Progress::~Progress() {
  if (shown_) fmt::print(stderr, "\r\033[K");
}

RunOptions RunProgress::on(RunOptions o) {
  o.progress = [this](size_t step, size_t steps, double share) {
    const auto now = std::chrono::steady_clock::now();
    if (step == 0) start_ = now;
    const double elapsed = std::chrono::duration<double>(now - start_).count();
    if (elapsed < 2 || now - shown_ < std::chrono::milliseconds(200)) return;
    shown_ = now;
    progress_.show(fmt::format("{}: step {} of {}{}", what_, step + 1, steps,
                               share > 0.02 ? fmt::format(", about {} left", seconds_text(elapsed / share * (1 - share))) : ""));
  };
  return o;
}

namespace {

// Steps of one op with one reason.
struct PlainKind {
  std::string op, why, first;  // first: the node of the first of them
  int steps = 0;
};

// The most frequent first.
std::vector<PlainKind> plain_kinds(const EditionInfo& edition) {
  std::vector<PlainKind> kinds;
  for (const StepInfo& s : edition.steps) {
    if (s.kind != "plain") continue;
    auto it = std::ranges::find_if(kinds, [&](const PlainKind& k) { return k.op == s.op && k.why == s.why; });
    if (it == kinds.end()) it = kinds.insert(it, {s.op, s.why, s.nodes.empty() ? s.op : s.nodes[0], 0});
    ++it->steps;
  }
  std::ranges::stable_sort(kinds, std::ranges::greater(), &PlainKind::steps);
  return kinds;
}

}  // namespace

Json plain_json(const EditionInfo& edition, std::optional<double> share) {
  Json steps = Json::array();
  for (size_t i = 0; i < edition.steps.size(); ++i) {
    const StepInfo& s = edition.steps[i];
    if (s.kind == "plain") steps.push_back({{"step", i + 1}, {"op", s.op}, {"nodes", s.nodes}, {"why", s.why}});
  }
  return {
      {"steps", edition.plain}, {"of", edition.steps.size()}, {"share_of_time", share ? Json(*share) : Json(nullptr)}, {"which", steps}};
}

std::string plain_text(const EditionInfo& edition, std::optional<double> share) {
  if (edition.plain == 0) return "";
  std::string text = fmt::format("plain evaluation, which is slow: {} of {} step{}{}\n", edition.plain, edition.steps.size(),
                                 edition.steps.size() == 1 ? "" : "s", share ? fmt::format(", {:.1f} % of the time", 100 * *share) : "");
  const auto kinds = plain_kinds(edition);
  constexpr size_t kMost = 8;
  for (const PlainKind& k : std::span(kinds).first(std::min(kinds.size(), kMost)))
    text += fmt::format("    {}{}: {}\n", k.first, k.steps > 1 ? fmt::format(" and {} more {}", k.steps - 1, k.op) : "", k.why);
  if (kinds.size() > kMost) text += fmt::format("    and {} other kinds; --json lists them all\n", kinds.size() - kMost);
  return text;
}

double plain_share(const Profile& profile) {
  double share = 0;
  const auto add = [&](const std::vector<StepProfile>& steps) {
    for (const StepProfile& s : steps) share += s.step.kind == "plain" ? s.share : 0;
  };
  add(profile.steps);
  for (const InnerProfile& inner : profile.inner) add(inner.steps);
  return share;
}

std::optional<double> plain_share(const Program& program, const EditionInfo& edition, const std::vector<Tensor>& inputs,
                                  const RunOptions& run) {
  if (edition.plain == 0) return std::nullopt;
  Lane lane(program);
  lane.time_steps(true);
  lane.run(std::span<const Tensor>(inputs), run);
  double plain = 0, all = 0;
  const auto times = lane.step_times();
  for (size_t i = 0; i < times.size() && i < edition.steps.size(); ++i) {
    all += times[i].seconds;
    if (edition.steps[i].kind == "plain") plain += times[i].seconds;
  }
  return all > 0 ? std::optional(plain / all) : std::nullopt;
}

Json to_json(const Shape& shape) { return Json(shape); }

Json to_json(const std::optional<Dims>& dims) {
  if (!dims) return nullptr;
  Json out = Json::array();
  for (const Dim& d : *dims) {
    if (d.known()) out.push_back(d.value);
    else out.push_back(to_string(d));
  }
  return out;
}

std::string dims_text(const std::optional<Dims>& dims) { return dims ? to_string(*dims) : "unknown rank"; }

}  // namespace lathe::cli
