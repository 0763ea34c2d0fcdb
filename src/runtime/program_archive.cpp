// Programs to archives and back.
#include <algorithm>
#include <set>

#define XXH_INLINE_ALL
#include <xxhash.h>

#include "archive/container.hpp"
#include "archive/graph_io.hpp"
#include "base/fail.hpp"
#include "base/log.hpp"
#include "base/files.hpp"
#include "kernels/isa.hpp"
#include "lathe/archive.hpp"
#include "lathe/op.hpp"
#include "runtime/options.hpp"
#include "runtime/program_impl.hpp"

namespace lathe {
namespace {

using archive::IndexReader;
using archive::IndexWriter;
using Parts = ProgramImpl::Parts;

void write_options(const CompileOptions& o, IndexWriter& index) {
  index.text(o.isa);
  index.u32(static_cast<uint32_t>(o.threads));
  index.u32(static_cast<uint32_t>(o.editions));
  index.u8(static_cast<uint8_t>((o.fuse ? 1 : 0) | (o.plain ? 2 : 0) | (o.winograd ? 4 : 0) | (o.round_each ? 8 : 0) | (o.learned ? 0 : 16)));
  index.u64(o.arena_limit);
  index.i64(o.limits.trips);
  index.i64(o.limits.depth);
  index.i64(o.limits.elements);
  index.i64(o.positions);
  index.u64(o.states.size());
  for (const StatePair& p : o.states) {
    index.text(p.output);
    index.text(p.input);
  }
}

CompileOptions read_options(IndexReader& index) {
  CompileOptions o;
  o.isa = index.text();
  o.threads = static_cast<int>(std::clamp<uint32_t>(index.u32(), 1, kMostThreads));
  o.editions = static_cast<int>(std::clamp<uint32_t>(index.u32(), 1, 1 << 20));
  const uint8_t flags = index.u8();
  o.fuse = (flags & 1) != 0;
  o.plain = (flags & 2) != 0;
  o.winograd = (flags & 4) != 0;
  o.round_each = (flags & 8) != 0;
  o.learned = (flags & 16) == 0;
  o.arena_limit = index.u64();
  o.limits.trips = index.i64();
  o.limits.depth = static_cast<decltype(o.limits.depth)>(index.i64());
  o.limits.elements = index.i64();
  o.positions = std::max<int64_t>(0, index.i64());
  for (size_t n = index.count(16); n > 0; --n) {
    StatePair p;
    p.output = index.text();
    p.input = index.text();
    o.states.push_back(std::move(p));
  }
  return o;
}

void write_weights(const lower::Weights& weights, IndexWriter& index, archive::FileWriter& file) {
  index.u64(weights.entries().size());
  for (const auto& [key, entry] : weights.entries()) {
    index.i64(key.value);
    index.u8(static_cast<uint8_t>(key.form));
    index.u32(static_cast<uint32_t>(key.version));
    index.u64(key.geometry.size());
    for (const int64_t n : key.geometry) index.i64(n);
    index.blob(file.blob(entry.data, entry.bytes));
  }
}

// `values`: how many the graph has that they belong to.
void read_weights(IndexReader& index, const std::shared_ptr<const archive::Mapping>& mapping, size_t values, lower::Weights& weights) {
  for (size_t n = index.count(37); n > 0; --n) {
    lower::PackKey key;
    const int64_t value = index.i64();
    const uint8_t form = index.u8();
    if (value < 0 || static_cast<size_t>(value) >= values || form >= lower::kPackForms)
      index.refuse("its packed weights belong to no value");
    key.value = static_cast<ValueId>(value);
    key.form = static_cast<lower::PackForm>(form);
    key.version = static_cast<int>(index.u32());
    key.geometry.resize(index.count(8));
    for (int64_t& g : key.geometry) g = index.i64();
    const archive::Blob blob = index.blob();
    weights.put(key, {mapping, mapping->at(blob), static_cast<size_t>(blob.bytes)});
  }
}

void write_passes(const std::vector<PassReport>& passes, IndexWriter& index) {
  index.u64(passes.size());
  for (const PassReport& report : passes) {
    index.text(report.pass);
    index.u64(report.changes.size());
    for (const std::string& change : report.changes) index.text(change);
  }
}

std::vector<PassReport> read_passes(IndexReader& index) {
  std::vector<PassReport> passes;
  for (size_t n = index.count(16); n > 0; --n) {
    PassReport report{index.text(), {}};
    for (size_t c = index.count(8); c > 0; --c) report.changes.push_back(index.text());
    passes.push_back(std::move(report));
  }
  return passes;
}

// A graph that came from a file is held to what one that is compiled is held to: the kernels rely on its shapes.
void examine_read(Graph& g, const std::string& name) {
  try {
    check(g);
    infer(g);
  } catch (const Error& e) {
    fail(Category::format, "{}: its steps do not fit together: {}", name, e.what());
  }
}

// How states are kept, in the order of the options' pairs.
void write_states(const Parts& p, IndexWriter& index) {
  for (const StateInfo& s : p.states) {
    index.i64(s.axis);
    index.u8(s.in_place ? 1 : 0);
  }
  index.u64(p.long_inputs.size());
  for (const bool is_long : p.long_inputs) index.u8(is_long ? 1 : 0);
  index.text(p.why_copied);
  for (const passes::StateOrder& order : p.orders) {
    index.i64(order.stack);
    index.u64(order.parts.size());
    for (const auto& axes : order.parts) {
      for (const int a : axes) index.i64(a);
    }
  }
}

// Of a state of so many axes that grows along one of them: each part has four of them, once each and positions third, beside the stacked.
passes::StateOrder read_order(IndexReader& index, size_t rank, int grows) {
  passes::StateOrder order{static_cast<int>(std::clamp<int64_t>(index.i64(), -1, 64)), {}};
  const bool stacked = order.stack >= 0;
  for (size_t n = index.count(32); n > 0; --n) {
    std::set<int> seen{order.stack};
    auto& axes = order.parts.emplace_back();
    for (int k = 0; k < 4; ++k) {
      axes.push_back(static_cast<int>(std::clamp<int64_t>(index.i64(), -1, 64)));
      if (axes.back() < 0 || axes.back() >= static_cast<int>(rank) || !seen.insert(axes.back()).second)
        index.refuse("a state of it has no such order of axes");
    }
    if (axes[2] != grows) index.refuse("a state of it has no such order of axes");
  }
  if (rank != (stacked ? 5 : 4) || order.stack >= static_cast<int>(rank) || (stacked ? order.parts.size() < 2 : order.parts.size() != 1))
    index.refuse("a state of it has no such order of axes");
  return order;
}

void read_states(IndexReader& index, Parts& p) {
  const auto value_of = [&](const std::vector<ValueId>& among, const std::string& name) -> const Value& {
    for (ValueId v : among) {
      if (p.graph.values[static_cast<size_t>(v)].name == name) return p.graph.values[static_cast<size_t>(v)];
    }
    index.refuse("a state of it is no input or no output");
  };
  std::set<std::string> inputs, outputs;
  for (const StatePair& pair : p.options.states) {
    const Value &in = value_of(p.graph.inputs, pair.input), &out = value_of(p.graph.outputs, pair.output);
    StateInfo s{pair, in.dtype, in.dims, static_cast<int>(std::clamp<int64_t>(index.i64(), -1, 64)), index.u8() != 0};
    const bool fits = in.dims && !in.composite && !out.composite && in.dtype == out.dtype && s.axis < static_cast<int>(in.dims->size()) &&
                      (!s.in_place || s.axis >= 0);
    if (!fits || !inputs.insert(pair.input).second || !outputs.insert(pair.output).second) index.refuse("a state of it cannot be one");
    p.states.push_back(std::move(s));
  }
  for (size_t n = index.count(1); n > 0; --n) p.long_inputs.push_back(index.u8() != 0);
  p.why_copied = index.text();
  for (const StateInfo& s : p.states) {
    if (s.in_place) p.orders.push_back(read_order(index, s.dims->size(), s.axis));
  }
}

void write_held(const ProgramImpl::Held& held, IndexWriter& index, archive::FileWriter& file) {
  index.i64(held.fresh);
  index.u64(held.shapes.size());
  for (const Shape& s : held.shapes) archive::write_shape(s, index);
  index.u8(held.prelude ? 1 : 0);
  if (!held.prelude) return;
  archive::write_graph(*held.prelude, index, file);
  index.u64(held.prelude_inputs.size());
  for (const size_t i : held.prelude_inputs) index.u64(i);
}

// `ports`: inputs that a run gives; `orders`: of states held in place; `more`: inputs that the prelude makes.
std::shared_ptr<const ProgramImpl::Held> read_held(IndexReader& index, const std::shared_ptr<const archive::Mapping>& mapping, size_t ports,
                                                   const std::vector<passes::StateOrder>& orders, size_t more) {
  auto held = std::make_shared<ProgramImpl::Held>();
  held->fresh = index.i64();
  if (held->fresh < 1 || held->fresh > (int64_t{1} << 40)) index.refuse("a run of it adds no positions");
  for (size_t n = index.count(8); n > 0; --n) {
    held->shapes.push_back(archive::read_shape(index));
    const Shape& s = held->shapes.back();
    if (s.size() != 4 || s[2] != 0 || s[0] < 1 || s[1] < 1 || s[3] < 1 || s[0] > (1 << 30) || s[1] > (1 << 30) || s[3] > (1 << 30))
      index.refuse("what it holds has no sizes");
  }
  // Parts of one state have its sizes.
  size_t slot = 0;
  for (const passes::StateOrder& order : orders) {
    std::map<int, int64_t> sizes;
    for (const auto& axes : order.parts) {
      if (slot >= held->shapes.size()) index.refuse("it holds other states than it says");
      for (size_t k = 0; k < 4; ++k) {
        const int64_t size = held->shapes[slot][k];
        if (sizes.try_emplace(axes[k], size).first->second != size) index.refuse("parts of a state differ in size");
      }
      ++slot;
    }
  }
  if (held->shapes.size() != slot) index.refuse("it holds other states than it says");
  if (index.u8() != 0) {
    auto prelude = std::make_shared<Graph>(archive::read_graph(index, mapping));
    examine_read(*prelude, index.name());
    for (size_t n = index.count(8); n > 0; --n) {
      held->prelude_inputs.push_back(static_cast<size_t>(index.u64()));
      if (held->prelude_inputs.back() >= ports + orders.size()) index.refuse("what hangs on the length of its states reads no input");
    }
    if (held->prelude_inputs.size() != prelude->inputs.size() || prelude->outputs.size() != more)
      index.refuse("what hangs on the length of its states has other inputs or outputs than its steps need");
    // States are asked for their shape alone: their memory holds more, or less.
    const auto readers = prelude->consumers();
    for (size_t i = 0; i < prelude->inputs.size(); ++i) {
      if (held->prelude_inputs[i] < ports) continue;
      for (int n : readers[static_cast<size_t>(prelude->inputs[i])]) {
        if (prelude->nodes[n].op != "Shape" && prelude->nodes[n].op != "Size") index.refuse("what it holds is read by what may not");
      }
      if (std::ranges::find(prelude->outputs, prelude->inputs[i]) != prelude->outputs.end())
        index.refuse("what it holds is read by what may not");
    }
    held->prelude = std::move(prelude);
  } else if (more != 0) {
    index.refuse("an edition of it has other inputs than the program");
  }
  return held;
}

void write_recipes(const std::vector<lower::Recipe>& recipes, IndexWriter& index) {
  index.u64(recipes.size());
  for (const lower::Recipe& r : recipes) {
    index.text(r.family);
    index.u32(static_cast<uint32_t>(r.version));
    index.u64(r.knobs.size());
    for (const lower::Knob& k : r.knobs) {
      index.text(k.name);
      index.i64(k.value);
    }
  }
}

// As they are; whether a step could follow one is looked at when it is made.
std::vector<lower::Recipe> read_recipes(IndexReader& index) {
  std::vector<lower::Recipe> recipes(index.count(20));
  for (lower::Recipe& r : recipes) {
    r.family = index.text();
    r.version = static_cast<int>(index.u32());
    r.knobs.resize(index.count(16));
    for (lower::Knob& k : r.knobs) {
      k.name = index.text();
      k.value = index.i64();
    }
  }
  return recipes;
}

// The order in which everything stands in the index.
struct Head {
  std::string made_by, source;
  uint64_t source_hash = 0;
  bool carries_graph = false;
};

Head read_head(IndexReader& index) {
  Head h;
  h.made_by = index.text();
  h.source = index.text();
  h.source_hash = index.u64();
  h.carries_graph = index.u8() != 0;
  return h;
}

std::vector<std::vector<Shape>> read_editions(IndexReader& index) {
  std::vector<std::vector<Shape>> editions(index.count(8));
  for (auto& shapes : editions) {
    shapes.resize(index.count(8));
    for (Shape& s : shapes) s = archive::read_shape(index);
  }
  return editions;
}

std::shared_ptr<ProgramImpl> read_program(const Head& head, IndexReader& index, const std::shared_ptr<const archive::Mapping>& mapping,
                                          const LoadProgramOptions& asked) {
  Parts p;
  p.options = read_options(index);
  const int threads = p.options.threads;
  const auto shapes = read_editions(index);
  p.options.threads = settled_threads(asked.threads, std::min(p.options.threads, usable_cores()), "as compiled");
  p.block_bytes = std::clamp<int64_t>(index.i64(), 1 << 10, int64_t{1} << 32);
  p.passes = read_passes(index);
  p.graph = archive::read_graph(index, mapping);
  for (size_t n = index.count(1); n > 0; --n) p.base_constants.push_back(index.u8() != 0);
  read_states(index, p);
  const size_t in_place = p.orders.size();
  if (in_place > p.graph.inputs.size()) index.refuse("it holds more states than it has inputs");
  const size_t ports = p.graph.inputs.size() - in_place, results = p.graph.outputs.size() - in_place;
  if (head.carries_graph || !p.graph.nodes.empty()) examine_read(p.graph, index.name());
  if (!has_isa(p.options.isa)) {
    if (!head.carries_graph)
      fail(Category::unsupported,
           "{}: was made for {}, which this machine does not have (it has {}); ship the model again here, or with its graph", index.name(),
           p.options.isa, kernels::name(kernels::best()));
    // Compiled anew; the graph is what it was compiled from.
    p.options.isa.clear();
    return std::make_shared<ProgramImpl>(std::move(p.graph), std::move(p.options));
  }
  read_weights(index, mapping, p.graph.values.size(), p.weights);
  for (const auto& s : shapes) {
    auto g = std::make_shared<Graph>(archive::read_graph(index, mapping));
    examine_read(*g, index.name());
    if (s.size() != ports || g->inputs.size() < ports || (in_place == 0 && g->inputs.size() != ports) || g->outputs.size() != results)
      index.refuse("an edition of it has other inputs or outputs than the program");
    for (size_t i = 0; i < ports; ++i) {
      const Value& v = g->values[g->inputs[i]];
      const bool is_long = i < p.long_inputs.size() && p.long_inputs[i];
      if (!v.composite && !is_long && known_shape(v.dims) != s[i]) index.refuse("an edition of it has other shapes than it says");
    }
    const auto held = in_place == 0 ? nullptr : read_held(index, mapping, ports, p.orders, g->inputs.size() - ports);
    auto own = std::make_shared<lower::Weights>();
    read_weights(index, mapping, g->values.size(), *own);
    auto recipes = read_recipes(index);
    p.editions.push_back({s, std::move(g), std::move(own), std::move(recipes), p.options.threads == threads, read_passes(index), held});
  }
  if (!index.at_end()) index.refuse("its index is longer than what it says");
  return std::make_shared<ProgramImpl>(std::move(p));
}

// The program, and what it leaves to another (Program::once).
std::shared_ptr<ProgramImpl> read_programs(IndexReader& index, const std::shared_ptr<const archive::Mapping>& mapping,
                                           const LoadProgramOptions& asked) {
  const Head head = read_head(index);
  const auto next = [&] {
    IndexReader part = index.part();
    return read_program(head, part, mapping, asked);
  };
  const std::shared_ptr<ProgramImpl> program = next();
  if (!index.at_end()) program->once = next();
  if (!index.at_end()) index.refuse("its index is longer than what it says");
  return program;
}

void write_program(const Parts& p, IndexWriter& index, archive::FileWriter& file) {
  write_options(p.options, index);
  index.u64(p.editions.size());
  for (const auto& e : p.editions) {
    index.u64(e.shapes.size());
    for (const Shape& s : e.shapes) archive::write_shape(s, index);
  }
  index.i64(p.block_bytes);
  write_passes(p.passes, index);
  archive::write_graph(p.graph, index, file);
  index.u64(p.base_constants.size());
  for (const bool constant : p.base_constants) index.u8(constant ? 1 : 0);
  write_states(p, index);
  write_weights(p.weights, index, file);
  for (const auto& e : p.editions) {
    archive::write_graph(*e.graph, index, file);
    if (e.held) write_held(*e.held, index, file);
    write_weights(*e.own, index, file);
    write_recipes(e.recipes, index);
    write_passes(e.passes, index);
  }
}

}  // namespace

CarriedGraph carried_graph(const std::filesystem::path& path) {
  if (!archive_info(path).carries_graph)
    fail(Category::unsupported,
         "{}: does not carry its graph, which is needed to join it to others; ship it with its graph, or use the model", path.string());
  const Program program = load_program(path, {.threads = 1});
  CarriedGraph out{program.impl()->parts(true).graph, {}};
  for (const StateInfo& s : program.states()) out.states.push_back(s.pair);
  return out;
}

bool is_program_archive(const std::filesystem::path& path) { return archive::is_archive(path); }

void save_program(const Program& program, const std::filesystem::path& path, const ArchiveOptions& options) {
  std::vector<std::pair<Program, Parts>> all;
  for (const Program& one : {program, program.once()}) {
    if (!one) continue;
    all.emplace_back(one, one.impl()->parts(options.carry_graph || options.any_machine));
    if (options.any_machine) {
      Parts& p = all.back().second;
      p.editions.clear();
      p.weights = {};
      p.options.isa.clear();  // nobody's, so that whoever loads it compiles it
    } else if (all.back().second.editions.empty())
      fail(Category::shape, "{}: nothing is compiled yet{}: bind the open dims, or describe() the shapes to ship", path.string(),
           all.size() > 1 ? " of what is made once (Program::once)" : "");
  }
  uint64_t hash = 0;
  if (!options.source.empty()) {
    const std::string bytes = read_file(options.source);
    hash = XXH3_64bits(bytes.data(), bytes.size());
  }
  {
    archive::FileWriter file(path);
    IndexWriter index;
    index.text(LATHE_VERSION);
    index.text(options.source.filename().string());
    index.u64(hash);
    index.u8(options.carry_graph || options.any_machine ? 1 : 0);
    for (const auto& [one, parts] : all) {
      IndexWriter part;
      write_program(parts, part, file);
      index.text(part.bytes());
    }
    file.finish(index.bytes());
  }
  // What was written must give the same steps.
  const Program back = load_program(path, {.threads = all[0].second.options.threads, .verify = false});
  for (size_t i = 0; i < all.size(); ++i) {
    const Program read = i == 0 ? back : back.once();
    for (const auto& e : all[i].second.editions) {
      if (read.impl()->edition(e.shapes)->recipes == all[i].first.impl()->edition(e.shapes)->recipes) continue;
      std::error_code ec;
      std::filesystem::remove(path, ec);
      fail(Category::internal, "{}: the archive would run other steps than the program; nothing was kept", path.string());
    }
  }
}

namespace {

Program program_of(const std::shared_ptr<const archive::Mapping>& mapping, const LoadProgramOptions& options) {
  IndexReader index(mapping->index(), mapping->name());
  try {
    Program program(read_programs(index, mapping, options));
    log_line(LogLevel::info, "{}: an archive of {} bytes, for {}, {} threads", mapping->name(), mapping->bytes(), program.options().isa,
             program.options().threads);
    return program;
  } catch (const Error& e) {
    if (std::string_view(e.what()).find(mapping->name()) != std::string_view::npos || e.category() == Category::value) throw;
    throw Error(e.category(), fmt::format("{}: {}", mapping->name(), e.what()));
  }
}

}  // namespace

Program load_program(const std::filesystem::path& path, const LoadProgramOptions& options) {
  return program_of(std::make_shared<const archive::Mapping>(path, options.verify), options);
}

Program load_program(std::span<const std::byte> archive, const LoadProgramOptions& options, const std::string& name) {
  return program_of(std::make_shared<const archive::Mapping>(archive, name, options.verify), options);
}

ArchiveInfo archive_info(const std::filesystem::path& path) {
  const archive::Mapping mapping(path, false);
  IndexReader index(mapping.index(), mapping.name());
  const Head head = read_head(index);
  IndexReader part = index.part();
  const CompileOptions o = read_options(part);
  ArchiveInfo info;
  info.made_by = head.made_by;
  info.source = head.source;
  info.source_hash = head.source_hash;
  info.carries_graph = head.carries_graph;
  info.isa = o.isa.empty() ? "any" : o.isa;
  info.threads = o.threads;
  info.editions = read_editions(part);
  info.file_bytes = mapping.bytes();
  info.index_bytes = mapping.index().size();
  return info;
}

}  // namespace lathe
