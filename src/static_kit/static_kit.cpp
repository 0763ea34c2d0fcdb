#include "lathe/static_kit.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <map>
#include <set>

#include "base/fail.hpp"
#include "base/files.hpp"
#include "kernels/entries.hpp"
#include "kernels/isa.hpp"
#include "lower/steps/registry.hpp"
#include "ops/internal_ops.hpp"
#include "ops/support.hpp"
#include "runtime/program_impl.hpp"

namespace lathe {
extern const std::string_view kKitExample, kKitBuild, kKitReadme;

namespace {

using lower::FamilyTable;
using lower::NamedFamily;

[[noreturn]] void refuse(const std::filesystem::path& archive, const std::string& why) {
  fail(Category::unsupported, "{}: {}; ship an archive and link the whole library of deployment (MellowLathe::deploy)", archive.string(),
       why);
}

// Groups of ops that define what the graph's nodes are.
void gather_ops(const std::filesystem::path& archive, const Graph& g, std::set<std::string_view>& groups) {
  static const auto kGroupOf = [] {
    std::map<std::pair<std::string, std::string>, std::string_view> by_op;
    for (const ops::OpGroup& group : ops::op_groups()) {
      std::vector<OpDef> defs;
      group.add(defs);
      for (const OpDef& d : defs) by_op.emplace(std::pair(d.domain, d.name), group.name);
    }
    return by_op;
  }();
  for (const Node& n : g.nodes) {
    if (n.has_subgraphs()) refuse(archive, fmt::format("{} is compiled while it runs", label(g, n)));
    const auto it = kGroupOf.find({n.domain == "ai.onnx" ? "" : n.domain, n.op});
    if (it == kGroupOf.end()) refuse(archive, fmt::format("{} is an op of the user's own", label(g, n)));
    groups.insert(it->second);
  }
}

// The steps of an edition, made again with these families alone, or all: what they are, for comparing.
std::vector<std::string> steps_of(ProgramImpl::Parts& p, const ProgramImpl::Edition& e, lower::Families only) {
  const kernels::Isa isa = *kernels::parse_isa(p.options.isa);
  lower::LowerOptions o;
  o.machine = {isa, p.options.threads, p.block_bytes, lower::remembered_rates(isa)};
  o.fuse = p.options.fuse, o.plain = p.options.plain, o.winograd = p.options.winograd, o.only = only;
  const lower::Remembered remembered{e.recipes, true, e.own};
  const lower::Plan plan = lower::lower(std::make_shared<Graph>(*e.graph), o, p.weights, p.base_constants, &remembered);
  std::vector<std::string> steps;
  for (const lower::Step& s : plan.steps) steps.push_back(fmt::format("{}; {}", s.text, fmt::join(s.nodes, ", ")));
  return steps;
}

std::vector<const lower::StepFamily*> chosen(const std::set<std::string_view>& functions) {
  std::vector<const lower::StepFamily*> some;
  for (const NamedFamily& f : lower::all_families()) {
    if (functions.contains(f.function)) some.push_back(f.family);
  }
  return some;
}

// Whether the program's steps come out of these families alone.
bool enough(ProgramImpl::Parts& p, const std::set<std::string_view>& functions) {
  const auto some = chosen(functions);
  return std::ranges::all_of(p.editions, [&](const ProgramImpl::Edition& e) {
    try {
      return steps_of(p, e, some) == steps_of(p, e, {});
    } catch (const Error&) {
      return false;  // a recipe is for a family that is missing, or for other layouts
    }
  });
}

// The kernels that the steps of all editions are given, as they are made again.
std::vector<std::string> kernels_of(ProgramImpl::Parts& p) {
  std::vector<std::string_view> given(kernels::kPickedWhileRunning.begin(), kernels::kPickedWhileRunning.end());
  struct Listening {
    explicit Listening(std::vector<std::string_view>* to) { kernels::selected = to; }
    ~Listening() { kernels::selected = nullptr; }
  };
  {
    const Listening listening(&given);
    for (const ProgramImpl::Edition& e : p.editions) steps_of(p, e, {});
  }
  std::ranges::sort(given);
  given.erase(std::unique(given.begin(), given.end()), given.end());
  return {given.begin(), given.end()};
}

constexpr std::string_view kMade = "// Made by `lathe ship --static-kit`";

std::string table_of(const char* function, FamilyTable table, const std::vector<std::string>& functions, bool with_winograd = true) {
  std::vector<std::string> some;
  for (const NamedFamily& f : lower::all_families()) {
    const bool there = std::ranges::find(functions, f.function) != functions.end();
    if (there && f.table == table && (with_winograd || !f.function.starts_with("convolution_winograd")))
      some.push_back(fmt::format("&{}()", f.function));
  }
  if (some.empty()) return fmt::format("Families {}() {{ return {{}}; }}\n", function);
  return fmt::format("Families {}() {{\n  static const StepFamily* const kSome[]{{{}}};\n  return kSome;\n}}\n", function,
                     fmt::join(some, ", "));
}

// The namespaces that kernels are compiled into, of the kind of processor that a set belongs to; the one of the set itself is first.
std::vector<std::string_view> kernel_namespaces(kernels::Isa isa) {
  std::vector<std::string_view> all{"N_SCALAR", "N_SSE4", "N_AVX2", "N_AVX3"};
  size_t own = 0;
  switch (isa) {
    case kernels::Isa::sse4: own = 1; break;
    case kernels::Isa::avx2: own = 2; break;
    case kernels::Isa::avx512:
    case kernels::Isa::amx: own = 3; break;
    case kernels::Isa::neon: all = {"N_SCALAR", "N_NEON"}, own = 1; break;
    default: break;
  }
  std::swap(all[0], all[own]);
  return all;
}

// Kernels that the archive's steps do not run, and all of instruction sets that it was not made for: a weak definition in the library
// gives way to these.
std::string kernels_text(kernels::Isa isa, const std::vector<std::string>& run) {
  const auto refusal = [](const kernels::KernelEntry& e) {
    return fmt::format("{} {}({}) {{ std::abort(); }}", e.result, e.name, e.parameters);
  };
  const auto refusals = [&](const auto& entries) {
    std::string text;
    for (const kernels::KernelEntry& e : entries) text += " \\\n  " + refusal(e);
    return text;
  };
  std::string text = fmt::format(
      "namespace lathe::kernels {{\n\n// The archive is for {}: nobody calls these.\n{}#define LEFT_OUT{}\n#define TILES_LEFT_OUT{}\n",
      kernels::name(isa), kernels::kParameterTypes, refusals(kernels::kEntries), refusals(kernels::kTileEntries));
  const auto all = kernel_namespaces(isa);
  text += fmt::format("namespace {} {{\n", all[0]);
  for (const kernels::KernelEntry& e : kernels::kEntries) {
    if (std::ranges::find(run, e.name) == run.end()) text += refusal(e) + "\n";
  }
  text += "}\n";
  text += fmt::format(
      "\n// Nor is what picks by the machine alone to pick them.\nenum class Isa;\nbool is_linked(Isa isa) {{ return static_cast<int>(isa) "
      "== {}; }}\n",
      static_cast<int>(isa));
  for (size_t i = 1; i < all.size(); ++i) text += fmt::format("namespace {} {{\nLEFT_OUT\n}}\n", all[i]);
  if (isa != kernels::Isa::amx && isa != kernels::Isa::neon) text += "namespace N_AVX3 {\nTILES_LEFT_OUT\n}\n";
  return text + "\n}  // namespace lathe::kernels\n\n";
}

std::string needed_text(const StaticKit& kit) {
  std::string text = fmt::format(
      "{} of Mellow Lathe {}: what of the library of deployment this program needs. The library's own "
      "definitions\n"
      "// give way to these, and are left out with all that they would bring.\n"
      "#include <cstdint>\n#include <cstdlib>\n#include <span>\n#include <string>\n#include <string_view>\n#include <vector>\n\n#include "
      "<lathe/error.hpp>\n#include "
      "<lathe/op.hpp>\n\n"
      "namespace lathe::lower {{\n\nclass StepFamily;\nusing Families = std::span<const StepFamily* const>;\n",
      kMade, LATHE_VERSION);
  for (const std::string& f : kit.families) text += fmt::format("const StepFamily& {}();\n", f);
  text += table_of("step_families", FamilyTable::steps, kit.families);
  text += table_of("step_families_without_winograd", FamilyTable::steps, kit.families, false);
  text += table_of("families_at_run", FamilyTable::at_run, kit.families);
  text += table_of("empty_families", FamilyTable::empty, kit.families);
  text += table_of("plain_families", FamilyTable::plain, kit.families);
  text += table_of("oracle_families", FamilyTable::oracle, kit.families);
  text += "\n}  // namespace lathe::lower\n\n" + kernels_text(*kernels::parse_isa(kit.isa), kit.kernels);
  text +=
      "namespace lathe::ops {\n\nstruct OpGroup {\n  std::string_view name;\n  void "
      "(*add)(std::vector<OpDef>&);\n};\n";
  std::vector<std::string> groups;
  for (const std::string& o : kit.ops) {
    text += fmt::format("void add_{}(std::vector<OpDef>&);\n", o);
    groups.push_back(fmt::format("{{\"{0}\", add_{0}}}", o));
  }
  text += fmt::format(
      "std::span<const OpGroup> op_groups() {{\n  static const OpGroup kSome[]{{{}}};\n  return kSome;\n}}\n\n}}  // namespace "
      "lathe::ops\n\n",
      fmt::join(groups, ", "));
  // What compiles is not there. Declared with the parameters that the library has (passes/passes.hpp, passes/pipeline.hpp); what they would
  // give back is no part of their names, and none returns.
  text += R"(namespace lathe::passes {

struct How;
struct GrowingState;
struct StateOrder;
namespace {
[[noreturn]] void refuse() {
  throw Error(Category::unsupported, "this program runs the input shapes that its archive was shipped for, and compiles nothing");
}
}  // namespace
void run(Graph&, const How&) { refuse(); }
void remove_dead(Graph&) { refuse(); }
void cut_to_outputs(Graph&, const std::vector<std::string>&) { refuse(); }
void part_once(const Graph&, const std::vector<std::string>&) { refuse(); }
void straighten_states(Graph&, const std::vector<GrowingState>&, std::vector<StateOrder>&) { refuse(); }
void ask_states_themselves(Graph&, const std::vector<GrowingState>&) { refuse(); }
void hold_states(Graph&, const std::vector<GrowingState>&) { refuse(); }
void cut_at_length(Graph&, const Graph&, size_t, std::vector<ValueId>&, std::vector<Node>&) { refuse(); }

}  // namespace lathe::passes
)";
  return text;
}

constexpr std::string_view kModel = R"(/* The archive, as it is, where its weights may be used in place. */
  .section .rodata
  .balign 64
  .globl lathe_model
  .globl lathe_model_end
lathe_model:
  .incbin "model.lathe"
lathe_model_end:
  .byte 0
  .section .note.GNU-stack,"",%progbits
)";

std::string filled(std::string_view text, const std::map<std::string, std::string>& words) {
  std::string out(text);
  for (const auto& [word, with] : words) {
    const std::string mark = "@" + word + "@";
    for (size_t at = out.find(mark); at != std::string::npos; at = out.find(mark, at + with.size())) out.replace(at, mark.size(), with);
  }
  return out;
}

// A folder that is somebody else's stays as it is: ours has nothing in it yet but the archive, or a kit.
void check_folder(const std::filesystem::path& folder, const std::filesystem::path& archive) {
  std::error_code ec;
  std::filesystem::create_directories(folder, ec);
  if (ec || !std::filesystem::is_directory(folder))
    fail(Category::resource, "{}: cannot be made a folder{}", folder.string(), ec ? ": " + ec.message() : "");
  const auto needed = folder / "needed.cpp";
  const bool kit = std::filesystem::exists(needed) && read_file(needed).starts_with(kMade);
  for (const auto& entry : std::filesystem::directory_iterator(folder)) {
    if (kit || std::filesystem::equivalent(entry.path(), archive, ec)) continue;
    fail(Category::value, "{}: holds {}, and is no kit that was made before; name a folder that is empty, or not there", folder.string(),
         entry.path().filename().string());
  }
}

// Of a file's name, what may be a target and a program.
std::string program_name(const std::filesystem::path& source) {
  std::string name;
  for (const char c : source.stem().string()) {
    const bool fits = (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') || c == '_' || c == '-';
    name += fits ? c : '_';
  }
  return name.empty() ? "model" : name;
}

}  // namespace

StaticKit static_kit_of(const std::filesystem::path& archive) {
  const Program program = load_program(archive, {.verify = false});
  const ArchiveInfo info = archive_info(archive);
  if (info.isa == "any") refuse(archive, "it is compiled where it is loaded (--any-machine)");
  if (!program.states().empty()) refuse(archive, "its states are kept by what compiles while it runs");
  if (program.once()) refuse(archive, "it is two programs");
  ProgramImpl::Parts p = program.impl()->parts(false);
  std::set<std::string_view> groups, functions;
  gather_ops(archive, p.graph, groups);
  std::set<std::string> families;
  for (const ProgramImpl::Edition& e : p.editions) {
    gather_ops(archive, *e.graph, groups);
    for (const lower::Recipe& r : e.recipes) families.insert(r.family);
  }
  for (const NamedFamily& f : lower::all_families()) {
    if (families.contains(std::string(f.family->name()))) functions.insert(f.function);
  }
  // Which family says first what layout it likes decides on those of its neighbours: relatives of those that are followed come too, where
  // the steps are others without them.
  const auto kin = [](std::string_view name) { return name.substr(0, name.find('.')); };
  if (!enough(p, functions)) {
    for (const NamedFamily& f : lower::all_families()) {
      if (std::ranges::any_of(families, [&](const std::string& name) { return kin(name) == kin(f.family->name()); }))
        functions.insert(f.function);
    }
  }
  if (!enough(p, functions)) {
    for (const NamedFamily& f : lower::all_families()) functions.insert(f.function);
  }
  StaticKit kit;
  kit.isa = info.isa;
  kit.kernels = kernels_of(p);
  for (const NamedFamily& f : lower::all_families()) {
    if (functions.contains(f.function)) kit.families.emplace_back(f.function);
  }
  for (const ops::OpGroup& g : ops::op_groups()) {
    if (groups.contains(g.name)) kit.ops.emplace_back(g.name);
  }
  return kit;
}

StaticKit write_static_kit(const std::filesystem::path& archive, const std::filesystem::path& folder) {
  StaticKit kit = static_kit_of(archive);
  const ArchiveInfo info = archive_info(archive);
  check_folder(folder, archive);
  const std::map<std::string, std::string> words{{"NAME", program_name(info.source.empty() ? archive : std::filesystem::path(info.source))},
                                                 {"SOURCE", info.source.empty() ? archive.filename().string() : info.source},
                                                 {"VERSION", LATHE_VERSION},
                                                 {"ISA", info.isa},
                                                 {"THREADS", fmt::format("{} thread{}", info.threads, info.threads == 1 ? "" : "s")},
                                                 // The one group that needs another library: regular expressions.
                                                 {"LIBRARIES", std::ranges::find(kit.ops, "text") == kit.ops.end() ? "" : " -lre2"},
                                                 {"FAMILIES", fmt::format("{}", fmt::join(kit.families, ", "))},
                                                 {"OPS", fmt::format("{}", fmt::join(kit.ops, ", "))}};
  const auto write = [&](const char* name, std::string_view text) {
    write_file(folder / name, text);
    kit.files.push_back(folder / name);
  };
  write("model.lathe", read_file(archive));
  write("model.S", kModel);
  write("needed.cpp", needed_text(kit));
  // Made to be changed: one that is there stays.
  if (!std::filesystem::exists(folder / "main.cpp")) write("main.cpp", filled(kKitExample, words));
  write("CMakeLists.txt", filled(kKitBuild, words));
  write("README.md", filled(kKitReadme, words));
  return kit;
}

}  // namespace lathe
