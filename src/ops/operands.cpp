// Reading statements about attributes and operands, and holding nodes against them. The notation is explained at OpDef::operands.
#include "ops/operands.hpp"

#include <algorithm>
#include <cmath>
#include <map>

#include "ops/support.hpp"

namespace lathe::ops {
namespace {

// ---- reading ----

bool any_complex_or_number(DType) { return true; }
bool number(DType d) { return numeric(d); }
bool real(DType d) { return standard_float(d); }
bool index(DType d) { return d == DType::i32 || d == DType::i64; }
bool truth(DType d) { return d == DType::boolean; }
bool text(DType d) { return d == DType::string; }
bool byte(DType d) { return d == DType::u8 || d == DType::i8; }
bool narrow_float(DType d) { return is_float(d) && bit_width(d) <= 8; }

struct DTypeClass {
  const char* name;
  bool (*holds)(DType);
  const char* meaning;
};
constexpr DTypeClass kClasses[]{{"any", any_complex_or_number, "any element type"},
                                {"float", real, "a floating type"},
                                {"number", number, "a number"},
                                {"index", index, "i32 or i64"},
                                {"bool", truth, "bool"},
                                {"string", text, "strings"},
                                {"byte", byte, "u8 or i8"},
                                {"byte_or_f8", [](DType d) { return byte(d) || narrow_float(d); }, "u8, i8 or an 8-bit floating type"},
                                {"f32", [](DType d) { return d == DType::f32; }, "f32"},
                                {"i32", [](DType d) { return d == DType::i32; }, "i32"},
                                {"i64", [](DType d) { return d == DType::i64; }, "i64"},
                                {"u8", [](DType d) { return d == DType::u8; }, "u8"},
                                {"float_or_i32", [](DType d) { return real(d) || d == DType::i32; }, "a floating type or i32"},
                                {"scale", [](DType d) { return is_float(d) || d == DType::i32; }, "a floating type"}};

std::vector<std::string_view> split_at(std::string_view s, char at) {
  std::vector<std::string_view> out;
  while (true) {
    const size_t end = std::min(s.find(at), s.size());
    out.push_back(s.substr(0, end));
    if (end == s.size()) return out;
    s.remove_prefix(end + 1);
  }
}

[[noreturn]] void unreadable(std::string_view what) { fail(Category::value, "register_op: cannot read '{}'", what); }

int64_t read_number(std::string_view s) {
  if (s.empty() || s.find_first_not_of("0123456789") != std::string_view::npos) unreadable(s);
  return std::stoll(std::string(s));
}

DimRule::Attribute read_attribute(std::string_view s) {  // "group=1"
  const size_t equals = s.find('=');
  DimRule::Attribute a{std::string(s.substr(0, equals)), std::nullopt};
  if (equals != std::string_view::npos) a.otherwise = read_number(s.substr(equals + 1));
  return a;
}

DimRule read_dim(std::string_view s) {
  DimRule d;
  d.text = s;
  if (s == "_") return d;
  if (s.starts_with("...") || s.starts_with("+")) {
    d.kind = DimRule::Kind::run;
    d.least_one = s[0] == '+';
    s.remove_prefix(d.least_one ? 1 : 3);
    d.same_sizes = s.starts_with("=");
    if (d.same_sizes) s.remove_prefix(1);
    d.run = s;
    return d;
  }
  d.kind = DimRule::Kind::product;
  for (std::string_view factor : split_at(s, '*')) {
    if (factor.starts_with("@")) d.attributes.push_back(read_attribute(factor.substr(1)));
    else if (!factor.empty() && std::isdigit(static_cast<unsigned char>(factor[0]))) d.number *= read_number(factor);
    else if (!factor.empty()) d.names.emplace_back(factor);
    else unreadable(s);
  }
  return d;
}

OperandRule read_operand(std::string_view s) {
  OperandRule o;
  const size_t colon = s.find(':');
  if (colon == std::string_view::npos) unreadable(s);
  o.decides = s.substr(0, colon).ends_with('!');
  o.name = s.substr(0, colon - o.decides);
  std::string_view rest = s.substr(colon + 1);
  const size_t bracket = std::min(rest.find('['), rest.size());
  const std::string_view type = rest.substr(0, bracket);
  if (type.starts_with("=")) {
    o.same_as = type.substr(1);
  } else {
    const auto* found = std::ranges::find(kClasses, type, &DTypeClass::name);
    if (found == std::end(kClasses)) unreadable(s);
    o.dtype = found->holds;
    o.dtypes = found->meaning;
  }
  rest.remove_prefix(bracket);
  if (rest.empty()) return o;
  for (std::string_view form : split_at(rest, '|')) {
    if (form.size() < 2 || form.front() != '[' || form.back() != ']') unreadable(s);
    FormRule f;
    f.text = form;
    form = form.substr(1, form.size() - 2);
    if (form.starts_with("~")) f.broadcasts_to = form.substr(1);
    else if (!form.empty()) {
      for (std::string_view d : split_at(form, ',')) f.dims.push_back(read_dim(d));
    }
    o.forms.push_back(std::move(f));
  }
  return o;
}

FactRule read_fact(std::string_view s) {
  FactRule f;
  if (const size_t slash = s.find("/@"); slash != std::string_view::npos) {
    f.name = s.substr(0, slash);
    f.divisor = read_attribute(s.substr(slash + 2));
    return f;
  }
  const size_t less = s.find('<');
  if (!s.starts_with("@") || less == std::string_view::npos) unreadable(s);
  f.kind = FactRule::Kind::axis;
  f.name = s.substr(1, less - 1);
  f.end_too = s.substr(less).starts_with("<=");
  f.operand = s.substr(less + (f.end_too ? 2 : 1));
  return f;
}

AttributeRule read_attribute_rule(std::string_view s) {
  AttributeRule a;
  const size_t colon = s.find(':');
  if (colon == std::string_view::npos) unreadable(s);
  a.name = s.substr(0, colon);
  std::string_view rest = s.substr(colon + 1);
  const size_t kinds = std::min(rest.find_first_of("!>("), rest.size());
  a.kinds = rest.substr(0, kinds);
  rest.remove_prefix(kinds);
  a.required = rest.starts_with("!");
  if (a.required) rest.remove_prefix(1);
  if (rest.starts_with(">")) {
    a.above = !rest.starts_with(">=");
    a.least = static_cast<double>(read_number(rest.substr(a.above ? 1 : 2)));
  } else if (rest.starts_with("(") && rest.back() == ')') {
    for (std::string_view v : split_at(rest.substr(1, rest.size() - 2), ',')) a.one_of.emplace_back(v);
  } else if (!rest.empty()) {
    unreadable(s);
  }
  return a;
}

// ---- checking ----

// Sizes that names have been given, and the operand that gave each.
class Check {
 public:
  Check(const Statement& s, const InferContext& c) : statement_(s), c_(c) {}

  void run() {
    attributes();
    for (size_t i = 0; i < statement_.operands.size(); ++i) dtype(static_cast<int>(i));
    // Names first from operands that say them directly, then again what is made of several.
    for (int round = 0; round < 2; ++round) {
      for (size_t i = 0; i < statement_.operands.size(); ++i) shape(static_cast<int>(i));
    }
    for (const FactRule& f : statement_.facts) fact(f);
  }

 private:
  int operand(const std::string& name) const {
    const auto it = std::ranges::find(statement_.operands, name, &OperandRule::name);
    return static_cast<int>(it - statement_.operands.begin());
  }
  std::optional<int64_t> value(const DimRule::Attribute& a) const {
    if (const auto* v = c_.node().find<int64_t>(a.name)) return *v;
    return a.otherwise;
  }

  void attributes() {
    for (const AttributeRule& a : statement_.attributes) {
      const auto it = c_.node().attributes.find(a.name);
      if (it == c_.node().attributes.end()) {
        if (a.required) c_.fail(Category::value, fmt::format("attribute '{}' is missing; it must hold {}", a.name, kind_name(a.kinds[0])));
        continue;
      }
      const auto& data = it->second.data;
      if (it->second.reference.empty() && a.kinds.find(kind_of(data)) == std::string::npos)
        c_.fail(Category::type,
                fmt::format("attribute '{}' holds {}, expected {}", a.name, kind_name(kind_of(data)), kind_name(a.kinds[0])));
      if (a.one_of.empty() && !a.least) continue;
      const auto refuse = [&](const std::string& got) {
        const std::string expected =
            a.least ? fmt::format("{} {:g}", a.above ? "more than" : "at least", *a.least) : fmt::format("{}", fmt::join(a.one_of, ", "));
        c_.fail(Category::value, fmt::format("attribute '{}' is {}, expected {}", a.name, got, expected));
      };
      const auto number = [&](double v) {
        if (a.least && !(a.above ? v > *a.least : v >= *a.least)) refuse(fmt::format("{:g}", v));
        if (!a.one_of.empty() && std::ranges::none_of(a.one_of, [&](const std::string& o) { return std::atof(o.c_str()) == v; }))
          refuse(fmt::format("{:g}", v));
      };
      if (const auto* i = std::get_if<int64_t>(&data)) number(static_cast<double>(*i));
      if (const auto* f = std::get_if<float>(&data)) number(static_cast<double>(*f));
      if (const auto* list = std::get_if<std::vector<int64_t>>(&data)) {
        for (int64_t v : *list) number(static_cast<double>(v));
      }
      if (const auto* s = std::get_if<std::string>(&data); s && std::ranges::find(a.one_of, *s) == a.one_of.end())
        refuse(fmt::format("'{}'", *s));
    }
  }

  void dtype(int i) {
    const OperandRule& o = statement_.operands[i];
    if (c_.type(i).kind != Type::Kind::tensor) return;
    const DType d = c_.dtype(i);
    if (d == DType::undefined) return;
    if (o.dtype && !o.dtype(d)) c_.fail(Category::type, fmt::format("input {} ({}) is {}, expected {}", i, o.name, to_string(d), o.dtypes));
    if (o.same_as.empty()) return;
    const int other = operand(o.same_as);
    const DType e = c_.dtype(other);
    if (e != DType::undefined && e != d)
      c_.fail(Category::type,
              fmt::format("input {} ({}) is {}, expected {} as input {} ({})", i, o.name, to_string(d), to_string(e), other, o.same_as));
  }

  // The product, when all of it is known.
  std::optional<int64_t> size_of(const DimRule& d) const {
    int64_t n = d.number;
    const auto times = [&](std::optional<int64_t> v) { return v && !__builtin_mul_overflow(n, *v, &n); };
    for (const auto& a : d.attributes) {
      if (!times(value(a))) return std::nullopt;
    }
    for (const auto& name : d.names) {
      const auto it = sizes_.find(name);
      if (it == sizes_.end() || !times(it->second)) return std::nullopt;
    }
    return n;
  }

  // Whether the dims fit the form; binds names when they do.
  bool fits(const FormRule& form, const Dims& dims) {
    const auto run = std::ranges::find(form.dims, DimRule::Kind::run, &DimRule::kind);
    const size_t others = form.dims.size() - (run == form.dims.end() ? 0 : 1);
    if (run == form.dims.end() ? dims.size() != others : dims.size() < others + (run->least_one ? 1 : 0)) return false;
    const size_t count = dims.size() - others;
    auto sizes = sizes_;
    auto runs = runs_;
    size_t at = 0;
    for (const DimRule& d : form.dims) {
      if (d.kind == DimRule::Kind::run) {
        const auto [it, fresh] =
            runs.try_emplace(d.run, dims.begin() + static_cast<int64_t>(at), dims.begin() + static_cast<int64_t>(at + count));
        if (it->second.size() != count) return false;
        for (size_t k = 0; d.same_sizes && !fresh && k < count; ++k) {
          const Dim &a = it->second[k], &b = dims[at + k];
          if (a.known() && b.known() && a.value != b.value) return false;
        }
        at += count;
        continue;
      }
      const Dim& have = dims[at++];
      if (d.kind == DimRule::Kind::any || !have.known()) continue;
      const bool single = d.number == 1 && d.attributes.empty() && d.names.size() == 1;
      if (single) {
        const auto [it, fresh] = sizes.try_emplace(d.names[0], have.value);
        if (!fresh && it->second != have.value) return false;
        continue;
      }
      std::swap(sizes, sizes_);
      const auto wanted = size_of(d);
      std::swap(sizes, sizes_);
      if (wanted && *wanted != have.value) return false;
    }
    sizes_ = std::move(sizes);
    runs_ = std::move(runs);
    return true;
  }

  bool broadcasts(const Dims& dims, const Dims& to) const {
    if (dims.size() > to.size()) return false;
    for (size_t i = 0; i < dims.size(); ++i) {
      const Dim &d = dims[i], &t = to[to.size() - dims.size() + i];
      if (d.known() && d.value != 1 && t.known() && t.value != d.value) return false;
    }
    return true;
  }

  void shape(int i) {
    const OperandRule& o = statement_.operands[i];
    if (o.forms.empty() || c_.type(i).kind != Type::Kind::tensor || !c_.dims(i)) return;
    const Dims& dims = *c_.dims(i);
    bool any = false;
    for (const FormRule& form : o.forms) {
      if (any) break;
      if (form.broadcasts_to.empty()) {
        any = fits(form, dims);
      } else {
        const auto& to = c_.dims(operand(form.broadcasts_to));
        any = !to || broadcasts(dims, *to);
      }
    }
    if (!any) refuse(i, o, dims);
  }

  // "5 (c*group)", "N", "..."
  std::string dim_text(const DimRule& d) const {
    if (d.kind == DimRule::Kind::any) return "?";
    if (d.kind == DimRule::Kind::run) return "...";
    std::string text = d.number != 1 || (d.names.empty() && d.attributes.empty()) ? std::to_string(d.number) : "";
    for (const auto& name : d.names) text += (text.empty() ? "" : "*") + name;
    for (const auto& a : d.attributes) text += (text.empty() ? "" : "*") + a.name;
    const auto size = size_of(d);
    return size && (!d.names.empty() || !d.attributes.empty()) ? fmt::format("{} ({})", *size, text) : text;
  }

  [[noreturn]] void refuse(int i, const OperandRule& o, const Dims& dims) const {
    std::string expected;
    for (const FormRule& form : o.forms) {
      expected += expected.empty() ? "" : " or ";
      if (!form.broadcasts_to.empty()) {
        const auto& to = c_.dims(operand(form.broadcasts_to));
        expected += fmt::format("one that broadcasts to {} ({})", to ? to_string(*to) : "?", form.broadcasts_to);
        continue;
      }
      std::string list;
      for (const DimRule& d : form.dims) list += (list.empty() ? "" : " x ") + dim_text(d);
      const bool any = std::ranges::all_of(form.dims, [](const DimRule& d) { return d.kind == DimRule::Kind::any; });
      expected += form.dims.empty()       ? "a scalar"
                  : !any                  ? list
                  : form.dims.size() == 1 ? "a list"
                                          : fmt::format("rank {}", form.dims.size());
    }
    c_.fail(Category::shape, fmt::format("input {} ({}) has shape {}, expected {}", i, o.name,
                                         dims.empty() ? std::string("scalar") : to_string(dims), expected));
  }

  void fact(const FactRule& f) {
    if (f.kind == FactRule::Kind::divides) {
      const auto it = sizes_.find(f.name);
      const auto by = value(f.divisor);
      if (it == sizes_.end() || !by) return;
      if (*by < 1 || it->second % *by != 0)
        c_.fail(Category::value,
                fmt::format("attribute '{}' is {}, which does not divide {} ({})", f.divisor.name, *by, it->second, f.name));
      return;
    }
    const int rank = c_.rank(operand(f.operand));
    if (rank < 0) return;
    const auto one = [&](int64_t axis) {
      if (axis < -rank || axis > rank || (axis == rank && !f.end_too))
        c_.fail(Category::value, fmt::format("attribute '{}' is {}, which is outside -{}..{} of input {} of rank {}", f.name, axis, rank,
                                             f.end_too ? rank : rank - 1, operand(f.operand), rank));
    };
    if (const auto* axis = c_.node().find<int64_t>(f.name)) one(*axis);
    if (const auto* axes = c_.node().find<std::vector<int64_t>>(f.name)) {
      for (int64_t axis : *axes) one(axis);
    }
  }

  const Statement& statement_;
  const InferContext& c_;
  std::map<std::string, int64_t> sizes_;
  std::map<std::string, Dims> runs_;
};

}  // namespace

std::string_view kind_name(char kind) {
  switch (kind) {
    case 'i': return "one integer";
    case 'f': return "one float";
    case 's': return "one string";
    case 't': return "a tensor";
    case 'g': return "a graph";
    case 'p': return "a sparse tensor";
    case 'y': return "a type";
    case 'I': return "a list of integers";
    case 'F': return "a list of floats";
    case 'S': return "a list of strings";
    case 'T': return "a list of tensors";
    case 'G': return "a list of graphs";
    default: return "something else";
  }
}

char kind_of(const Attribute::Data& data) {
  constexpr char kKinds[] = {'-', 'i', 'f', 's', 't', 'g', 'I', 'F', 'S', 'T', 'G', 'p', 'y', '?'};
  static_assert(std::size(kKinds) == std::variant_size_v<Attribute::Data>);
  return kKinds[data.index()];
}

std::shared_ptr<const Statement> read_statement(const OpDef& def) {
  auto s = std::make_shared<Statement>();
  s->has_attributes = def.attributes.has_value();
  if (def.attributes) {
    for (std::string_view a : split_at(*def.attributes, ' ')) {
      if (!a.empty()) s->attributes.push_back(read_attribute_rule(a));
    }
  }
  const auto parts = split_at(def.operands, ';');
  for (std::string_view o : split_at(parts[0], ' ')) {
    if (!o.empty()) s->operands.push_back(read_operand(o));
  }
  for (size_t i = 1; i < parts.size(); ++i) {
    for (std::string_view f : split_at(parts[i], ' ')) {
      if (!f.empty()) s->facts.push_back(read_fact(f));
    }
  }
  for (const OperandRule& o : s->operands) {
    const auto is_operand = [&](const std::string& name) {
      return name.empty() || std::ranges::find(s->operands, name, &OperandRule::name) != s->operands.end();
    };
    if (!is_operand(o.same_as) || std::ranges::any_of(o.forms, [&](const FormRule& f) { return !is_operand(f.broadcasts_to); }))
      unreadable(def.operands);
  }
  for (const FactRule& f : s->facts) {
    if (f.kind == FactRule::Kind::axis && std::ranges::find(s->operands, f.operand, &OperandRule::name) == s->operands.end())
      unreadable(def.operands);
  }
  return s;
}

void check_statement(const Statement& statement, const InferContext& context) { Check(statement, context).run(); }

void expect_dims(const InferContext& c, int i, const char* name, const Dims& wanted) {
  const auto& dims = c.dims(i);
  if (!dims) return;
  bool fits = dims->size() == wanted.size();
  for (size_t d = 0; fits && d < wanted.size(); ++d)
    fits = !(*dims)[d].known() || !wanted[d].known() || (*dims)[d].value == wanted[d].value;
  c.require(fits, Category::shape, fmt::format("input {} ({}) has shape {}, expected {}", i, name, to_string(*dims), to_string(wanted)));
}

void check_present(const OpDef& def, const Node& node) {
  const auto in = static_cast<int>(node.inputs.size());
  const bool ours = def.domain.empty() || def.domain == "ai.onnx.ml";  // others may say what they like
  const int before = def.name == "Loop" ? 2 : def.name == "Scan" && def.since < 9 ? 1 : 0;
  const int list = def.max_inputs >= 0 || !ours ? in : before;
  for (int i = 0; i < in; ++i) {
    if (node.inputs[i] == kAbsent && (i < def.min_inputs || i >= list))
      fail(Category::value, "input {} is left out, but the op needs it", i);
  }
}

}  // namespace lathe::ops
