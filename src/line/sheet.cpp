// Sheets of lines: TOML with [[part]].
#include <algorithm>
#include <charconv>
#include <cstring>

#include "lathe/archive.hpp"
#include "lathe/line.hpp"
#include "lathe/op.hpp"
#include "lathe/state.hpp"
#include "sheets/keys.hpp"

namespace lathe {
namespace {

using sheets::Keys;
using sheets::Sheet;

constexpr int kDeepest = 8;  // sheets within sheets

class Reader {
 public:
  Reader(Sheet sheet, const LoadOptions& options, int depth) : sheet_(std::move(sheet)), options_(options), depth_(depth) {}

  Line run() {
    const Keys k{sheet_, sheet_.table, "the sheet", {"title", "part", "inputs", "outputs", "pictures"}};
    Line line;
    k.text("title", line.name);
    if (const toml::table* t = k.table("inputs")) {
      for (const auto& [key, node] : *t) line.inputs[std::string(key.str())] = type(node);
    }
    const toml::node* parts = k.get("part");
    if (!parts || !parts->is_array_of_tables()) fail(Category::format, "{}: has no [[part]]", sheet_.file.string());
    for (const toml::node& n : *parts->as_array()) line.parts.push_back(part(*n.as_table(), "[[part]]"));
    if (const toml::table* t = k.table("outputs")) {
      std::vector<std::pair<toml::source_position, std::pair<std::string, std::string>>> all;
      for (const auto& [key, node] : *t) {
        if (!node.is_string()) sheet_.wrong(node, "[outputs] names each output: scores = \"decoder.scores\"");
        all.push_back({key.source().begin, {std::string(key.str()), *node.value<std::string>()}});
      }
      std::ranges::sort(all, [](const auto& a, const auto& b) { return a.first < b.first; });  // as they are written
      for (auto& [at, output] : all) line.outputs.push_back(std::move(output));
    }
    if (const toml::table* t = k.table("pictures")) pictures(*t, line);
    return line;
  }

 private:
  // "f32 [batch, 3, 64, 64]"
  Type type(const toml::node& n) const {
    const auto text = n.value<std::string>();
    const auto wrong = [&]() { sheet_.wrong(n, "[inputs] says type and sizes of each: noise = \"f32 [batch, 3, 64, 64]\""); };
    if (!text || !n.is_string()) wrong();
    Type t;
    const size_t open = text->find('[');
    if (open == std::string::npos || text->back() != ']') wrong();
    std::string name = text->substr(0, open);
    while (!name.empty() && name.back() == ' ') name.pop_back();
    const auto d = parse_dtype(name);
    if (!d) sheet_.wrong(n, fmt::format("'{}' is no type", name));
    t.dtype = *d;
    t.dims = Dims();
    std::string word;
    const std::string sizes = text->substr(open + 1, text->size() - open - 2) + ",";
    for (const char c : sizes) {
      if (c == ' ') continue;
      if (c != ',') {
        word += c;
        continue;
      }
      if (word.empty()) {
        if (t.dims->empty() && sizes.find_first_not_of(" ,") == std::string::npos) break;
        wrong();
      }
      int64_t size = 0;
      const auto [end, ec] = std::from_chars(word.data(), word.data() + word.size(), size);
      if (ec == std::errc() && end == word.data() + word.size() && size >= 0) t.dims->emplace_back(size);
      else t.dims->emplace_back(word == "?" ? std::string() : word);
      word.clear();
    }
    return t;
  }

  std::map<std::string, std::string> names(const Keys& k, const char* key, const char* example) const {
    std::map<std::string, std::string> out;
    const toml::node* n = k.get(key);
    if (!n) return out;
    if (!n->is_table()) k.expected(*n, key, example);
    for (const auto& [name, value] : *n->as_table()) {
      if (!value.is_string()) k.expected(value, key, example);
      out[std::string(name.str())] = *value.value<std::string>();
    }
    return out;
  }

  LinePart part(const toml::table& t, const std::string& what) {
    const bool is_op = t.contains("op"), is_loop = t.contains("part");
    const Keys k{sheet_, t, what,
                 is_op     ? std::vector<std::string>{"name", "op", "takes", "set", "gives"}
                 : is_loop ? std::vector<std::string>{"name", "part", "rounds", "until", "takes", "carry", "tables", "gather"}
                           : std::vector<std::string>{"name", "model", "takes", "states"}};
    LinePart p;
    k.text("name", p.name);
    if (p.name.empty()) fail(Category::format, "{}: {} has no 'name'", sheet_.place(t.source()), what);
    if (is_op) op(k, p);
    else if (is_loop) loop(k, p);
    else model(k, p);
    return p;
  }

  void model(const Keys& k, LinePart& p) {
    const std::filesystem::path path = k.path("model", true);
    p.takes = names(k, "takes", "where each input comes from: { cells = \"encoder.cells\" }");
    k.text("states", p.states);
    try {
      if (path.extension() == ".toml") {
        if (depth_ >= kDeepest) sheet_.wrong(*k.get("model"), "sheets stand in one another more than eight deep");
        p.model = join(Reader(Sheet(path), options_, depth_ + 1).run());
      } else if (is_program_archive(path)) {
        CarriedGraph carried = carried_graph(path);
        p.model = std::move(carried.graph);
        std::vector<std::string> pairs;
        for (const StatePair& s : carried.states) pairs.push_back(s.output + "=" + s.input);
        if (p.states.empty()) p.states = fmt::format("{}", fmt::join(pairs, ","));
      } else {
        p.model = load(path, options_);
      }
    } catch (const Error& e) {
      throw Error(e.category(), fmt::format("{}: part '{}': {}", sheet_.place(k.get("model")->source()), p.name, e.what()));
    }
    if (const auto it = p.model->metadata.find(kStatesKey); it != p.model->metadata.end() && p.states.empty()) p.states = it->second;
    p.model->metadata.erase(kStatesKey);
  }

  // Numbers, lists of them, lists of lists, or { file = "levels.npy" }.
  Tensor tensor(const toml::node& n, const char* what) const {
    if (const toml::table* t = n.as_table()) {
      const Keys k{sheet_, *t, what, {"file"}};
      return read_npy(k.path("file", true));
    }
    Shape shape;
    std::vector<const toml::node*> flat{&n};
    while (flat.front()->is_array()) {
      const toml::array& first = *flat.front()->as_array();
      if (first.empty()) sheet_.wrong(n, fmt::format("{} holds an empty list", what));
      shape.push_back(static_cast<int64_t>(first.size()));
      std::vector<const toml::node*> next;
      for (const toml::node* e : flat) {
        if (!e->is_array() || e->as_array()->size() != first.size())
          sheet_.wrong(*e, fmt::format("{}: lists of one level differ in length", what));
        for (const toml::node& inner : *e->as_array()) next.push_back(&inner);
      }
      flat = std::move(next);
    }
    const auto is = [&](auto f) { return std::ranges::all_of(flat, f); };
    const auto fill = [&]<typename T>(DType d, T) {
      Tensor out(d, shape);
      for (size_t i = 0; i < flat.size(); ++i) out.as<T>()[i] = static_cast<T>(*flat[i]->value<T>());
      return out;
    };
    if (is([](const toml::node* e) { return e->is_boolean(); })) return fill(DType::boolean, bool{});
    if (is([](const toml::node* e) { return e->is_integer(); })) return fill(DType::i64, int64_t{});
    if (!is([](const toml::node* e) { return e->is_number(); })) sheet_.wrong(n, fmt::format("{} is a number, or lists of numbers", what));
    return fill(DType::f32, float{});
  }

  void op(const Keys& k, LinePart& p) {
    k.text("op", p.op);
    const toml::node* takes = k.get("takes");
    if (!takes || !takes->is_array())
      k.expected(takes ? *takes : *k.get("op"), "takes", "a list of what the op reads: [\"decoder.scores\", 0.5]");
    for (const toml::node& e : *takes->as_array()) {
      LineOperand o;
      if (e.is_string()) o.from = *e.value<std::string>();
      else o.constant = tensor(e, "an operand");
      p.operands.push_back(std::move(o));
    }
    const OpDef* def = p.op == "insert" ? nullptr : find_op("", p.op, INT64_MAX);
    if (!def && p.op != "insert") {
      std::vector<std::string> all{"insert"};
      for (const OpDef* d : all_ops()) {
        if (d->domain.empty()) all.push_back(d->name);
      }
      k.expected(*k.get("op"), "op",
                 fmt::format("'{}', which is neither an op of the standard nor insert{}", p.op, did_you_mean(p.op, all)));
    }
    if (const toml::table* set = k.table("set")) {
      for (const auto& [key, node] : *set) p.attributes[std::string(key.str())] = attribute(std::string(key.str()), node, def);
    }
    int64_t outputs = 1;
    k.whole("gives", outputs, 1, 64);
    p.outputs = static_cast<int>(outputs);
  }

  // Of the kind that the op says: 1 may stand for 1.0.
  Attribute::Data attribute(const std::string& key, const toml::node& n, const OpDef* def) const {
    const auto kind = [&](char c) {
      return def && def->attributes && (" " + *def->attributes).find(" " + key + ":" + c) != std::string::npos;
    };
    if (n.is_string()) return *n.value<std::string>();
    if (n.is_boolean()) return int64_t{*n.value<bool>()};
    if (n.is_number() && (kind('f') || n.is_floating_point())) return static_cast<float>(*n.value<double>());
    if (n.is_integer()) return *n.value<int64_t>();
    const toml::array* list = n.as_array();
    if (list && std::ranges::all_of(*list, [](const toml::node& e) { return e.is_integer(); }) && !kind('F')) {
      std::vector<int64_t> out;
      for (const toml::node& e : *list) out.push_back(*e.value<int64_t>());
      return out;
    }
    if (list && std::ranges::all_of(*list, [](const toml::node& e) { return e.is_number(); })) {
      std::vector<float> out;
      for (const toml::node& e : *list) out.push_back(static_cast<float>(*e.value<double>()));
      return out;
    }
    if (list && std::ranges::all_of(*list, [](const toml::node& e) { return e.is_string(); })) {
      std::vector<std::string> out;
      for (const toml::node& e : *list) out.push_back(*e.value<std::string>());
      return out;
    }
    sheet_.wrong(n, fmt::format("attribute '{}' is a number, a text, true or false, or a list of numbers or texts", key));
  }

  void loop(const Keys& k, LinePart& p) {
    int64_t rounds = 0;
    k.whole("rounds", rounds, 1, int64_t{1} << 31);
    if (rounds == 0)
      fail(Category::format, "{}: loop '{}' has no 'rounds': how many there are, or at most", sheet_.place(k.table_.source()), p.name);
    p.rounds = rounds;
    k.text("until", p.until);
    p.takes = names(k, "takes", "where what is carried begins: { x = \"noise\" }");
    p.carry = names(k, "carry", "what a value is in the next round: { x = \"mix\" }");
    p.gather = names(k, "gather", "what is kept of each round: { trace = \"net.y\" }");
    if (const toml::table* tables = k.table("tables")) {
      for (const auto& [key, node] : *tables) p.tables[std::string(key.str())] = tensor(node, "a table");
    }
    const toml::node* parts = k.get("part");
    if (!parts->is_array_of_tables()) k.expected(*parts, "part", "the parts of the loop: [[part.part]]");
    for (const toml::node& n : *parts->as_array()) p.parts.push_back(part(*n.as_table(), "[[part.part]]"));
  }

  // As metadata say it, which is how whoever feeds pictures reads it.
  void pictures(const toml::table& t, Line& line) const {
    PictureSettings s;
    const auto labels = sheets::read_pictures(sheet_, t, s);
    auto& m = line.metadata;
    if (s.height > 0) sheet_.wrong(t, "[pictures] of a line says no 'size': pictures get theirs from the model, or from --size");
    constexpr const char* kFits[] = {"stretch", "pad", "crop", "keep"};
    if (s.fit) m["fit"] = kFits[static_cast<size_t>(*s.fit)];
    if (!s.mean.empty()) m["mean"] = fmt::format("{}", fmt::join(s.mean, ","));
    if (!s.scale.empty()) m["scale"] = fmt::format("{}", fmt::join(s.scale, ","));
    if (s.bgr) m["channels"] = "bgr";
    if (s.antialias) m["antialias"] = "true";
    if (!labels.empty()) m["labels"] = fmt::format("{}", fmt::join(labels, ","));
  }

  Sheet sheet_;
  LoadOptions options_;
  int depth_;
};

}  // namespace

Line read_line(const std::filesystem::path& sheet, const LoadOptions& options) { return Reader(Sheet(sheet), options, 0).run(); }

bool is_line_sheet(const std::filesystem::path& file) {
  if (file.extension() != ".toml") return false;
  return Sheet(file).table.contains("part");
}

}  // namespace lathe
