// Every op of the registry with each operand in turn bent out of shape: another rank, another length, another dtype; and with attributes
// out of range. What the standard forbids is an error that names the node and the operand; plain evaluation and the compiled program always
// agree, on the error or on the numbers; nothing ever crashes.
#include <algorithm>
#include <set>
#include <sstream>

#include "operand_samples.hpp"
#include "ops/operands.hpp"
#include "support.hpp"
#include "tensor/widen.hpp"

using namespace test;

namespace {

struct Operand {
  std::string name;
  DType dtype = DType::undefined;
  Shape shape;
  std::vector<bool> free;  // by dim
  std::vector<bool> none;  // by dim: 0 is a legal size
  bool any_rank = false, any_dtype = false, absent = false;
  std::vector<std::string> values;
};

struct Sample {
  std::string domain, op;
  int opset = 0;
  std::map<std::string, Attribute::Data> attributes;
  std::vector<Operand> operands;
};

std::vector<std::string> split(const std::string& text, char at) {
  std::vector<std::string> out;
  std::stringstream in(text);
  for (std::string part; std::getline(in, part, at);) out.push_back(part);
  return out;
}

Attribute::Data attribute(const std::string& text) {
  const bool list = text.find(',') != std::string::npos;
  const bool numeric = text.find_first_not_of("0123456789.,-") == std::string::npos, real = numeric && text.find('.') != std::string::npos;
  const auto parts = split(text, ',');
  if (!numeric) {
    if (!list || text.find("->") != std::string::npos) return text;
    return parts;
  }
  if (list && real) {
    std::vector<float> v;
    for (const auto& p : parts) v.push_back(std::stof(p));
    return v;
  }
  if (list) {
    std::vector<int64_t> v;
    for (const auto& p : parts) v.push_back(std::stoll(p));
    return v;
  }
  if (real) return std::stof(text);
  return static_cast<int64_t>(std::stoll(text));
}

Operand operand(const std::string& text) {
  Operand o;
  const size_t colon = text.find(':'), open = text.find('['), close = text.find(']');
  o.name = text.substr(0, colon);
  if (text.substr(colon + 1) == "?") {
    o.absent = true;
    return o;
  }
  o.dtype = *parse_dtype(text.substr(colon + 1, open - colon - 1));
  for (std::string d : split(text.substr(open + 1, close - open - 1), ',')) {
    o.free.push_back(d.back() == '~');
    o.none.push_back(d.back() == '%' || d.back() == '~');
    o.shape.push_back(std::stoll(d));
  }
  std::string rest = text.substr(close + 1);
  while (!rest.empty() && (rest.back() == '^' || rest.back() == '*')) {
    (rest.back() == '^' ? o.any_rank : o.any_dtype) = true;
    rest.pop_back();
  }
  if (!rest.empty()) o.values = split(rest.substr(1), ',');
  return o;
}

Sample read(const OperandSample& s) {
  Sample out;
  const std::string name = s.op;
  const size_t colon = name.find(':');
  out.domain = colon == std::string::npos ? "" : name.substr(0, colon);
  out.op = colon == std::string::npos ? name : name.substr(colon + 1);
  out.opset = s.opset;
  for (const auto& a : split(s.attributes, ' ')) out.attributes[a.substr(0, a.find('='))] = attribute(a.substr(a.find('=') + 1));
  for (const auto& o : split(s.operands, ' ')) out.operands.push_back(operand(o));
  return out;
}

Tensor tensor(const Operand& o, uint64_t seed) {
  Tensor t(o.dtype, o.shape);
  if (o.dtype == DType::string) {
    for (size_t i = 0; i < t.as<std::string>().size(); ++i)
      t.as<std::string>()[i] = o.values.empty() ? "oak" : o.values[i % o.values.size()];
    return t;
  }
  const Tensor noise = random_tensor(o.shape, seed, 0.1f, 1.0f);
  std::vector<double> v(static_cast<size_t>(t.size()));
  for (size_t i = 0; i < v.size(); ++i) {
    if (!o.values.empty()) v[i] = std::atof(o.values[i % o.values.size()].c_str());
    else v[i] = is_float(o.dtype) ? static_cast<double>(noise.as<float>()[i]) : static_cast<double>(i % 2);
  }
  return narrow<double>(o.dtype, o.shape, v);
}

// One node over these operands; the first as an input, the others as constants or as inputs too.
struct Built {
  Graph graph;
  std::vector<Tensor> inputs;
};
Built build(const Sample& s, bool constants) {
  Built b;
  b.graph.opsets = {{"", s.opset}, {"ai.onnx.ml", s.domain.empty() ? 5 : s.opset}};
  Node n;
  n.name = "bent";
  n.op = s.op;
  n.domain = s.domain;
  for (const auto& [key, data] : s.attributes) n.attributes[key].data = data;
  for (size_t i = 0; i < s.operands.size(); ++i) {
    const Operand& o = s.operands[i];
    if (o.absent) {
      n.inputs.push_back(kAbsent);
      continue;
    }
    Value v;
    v.name = o.name;
    v.dtype = o.dtype;
    v.dims = Dims(o.shape.begin(), o.shape.end());
    const Tensor t = tensor(o, 7 + i);
    if (constants && i > 0) v.constant = t;
    const ValueId id = b.graph.add_value(std::move(v));
    n.inputs.push_back(id);
    if (!constants || i == 0) {
      b.graph.inputs.push_back(id);
      b.inputs.push_back(t);
    }
  }
  Value out;
  out.name = "result";
  n.outputs = {b.graph.add_value(std::move(out))};
  b.graph.outputs = n.outputs;
  b.graph.nodes.push_back(std::move(n));
  return b;
}

struct Verdict {
  std::string plain, compiled;  // what was wrong
  Tensor expected, got;
};

std::string fault_of(const std::function<void()>& f) {
  try {
    f();
  } catch (const Error& e) {
    std::string all;
    for (const Fault& fault : e.faults()) {
      INFO(fault.where, ": ", fault.what);
      CHECK(!fault.what.empty());
      CHECK(fault.category != Category::internal);
      all += fault.where + ": " + fault.what + "\n";
    }
    return all;
  }
  return "";
}

Verdict judge(const Sample& s, bool constants) {
  Verdict v;
  const Built b = build(s, constants);
  EvalLimits limits;
  limits.elements = 1 << 20;
  v.plain = fault_of([&] { v.expected = evaluate_plain(b.graph, b.inputs, limits)[0]; });
  v.compiled = fault_of([&] {
    CompileOptions options{.threads = 1};
    options.limits = limits;
    Lane lane(compile(b.graph, options));
    v.got = lane.run(std::span<const Tensor>(b.inputs))[0].clone();
  });
  return v;
}

bool pure(const Sample& s) { return find_op(s.domain, s.op, s.domain.empty() ? s.opset : 5)->pure; }

// Both ways agree; gives whether it was refused.
bool agreed(const Sample& s, const std::string& what, const std::string& named, bool must_fail) {
  bool refused = false;
  for (const bool constants : {false, true}) {
    const Verdict v = judge(s, constants);
    INFO(s.op, " at opset ", s.opset, ", ", what, std::string(constants ? ", operands constant" : ""), "\n  plain: ", v.plain,
         "  compiled: ", v.compiled);
    CHECK(v.plain.empty() == v.compiled.empty());
    refused = !v.plain.empty();
    if (must_fail) CHECK(refused);
    for (const std::string& error : {v.plain, v.compiled}) {
      if (error.empty()) continue;
      CHECK((has(error, "'bent' (" + s.op + ")") || has(error, "output 'result'")));  // the latter: no memory holds it
      if (must_fail && !named.empty()) CHECK(has(error, named));
    }
    if (!refused && v.compiled.empty() && pure(s)) {
      const Comparison c =
          compare("result", v.got, v.expected, is_float(v.expected.dtype()) ? std::optional(Tolerance{1e-4, 1e-3, 0}) : std::nullopt);
      INFO(c.reason);
      CHECK(c.pass);
    }
  }
  return refused;
}

std::string to_text(const Shape& s) { return to_string(s); }

}  // namespace

TEST_CASE("every definition of the registry has a sample, and the samples are legal") {
  // What takes graphs, sequences or maps, pictures or forests of trees is bent in tests of its own.
  const std::set<std::string> elsewhere{"If",
                                        "Loop",
                                        "Scan",
                                        "SequenceMap",
                                        "SequenceConstruct",
                                        "SequenceEmpty",
                                        "SequenceAt",
                                        "SequenceInsert",
                                        "SequenceErase",
                                        "SequenceLength",
                                        "SplitToSequence",
                                        "ConcatFromSequence",
                                        "Optional",
                                        "OptionalGetElement",
                                        "OptionalHasElement",
                                        "ImageDecoder",
                                        "CastMap",
                                        "ZipMap",
                                        "DictVectorizer",
                                        "SVMClassifier",
                                        "TreeEnsemble",
                                        "TreeEnsembleClassifier",
                                        "TreeEnsembleRegressor"};
  std::set<const OpDef*> seen;
  for (const OperandSample& text : kOperandSamples) {
    const Sample s = read(text);
    const OpDef* def = find_op(s.domain, s.op, s.opset);
    CAPTURE(s.op);
    REQUIRE(def != nullptr);
    seen.insert(def);
    CHECK(!agreed(s, "as it should be", "", false));
  }
  for (const OpDef* def : all_ops()) {
    if (elsewhere.contains(def->name) || (!def->domain.empty() && def->domain != "ai.onnx.ml")) continue;
    INFO(def->domain, " ", def->name, " since ", def->since);
    // The companion domain's samples are of one version each.
    if (def->domain.empty()) CHECK(seen.contains(def));
    else CHECK(std::ranges::any_of(seen, [&](const OpDef* d) { return d->name == def->name; }));
  }
}

TEST_CASE("operands of a wrong rank, length or dtype are reported, the same by plain evaluation and by the compiler") {
  int bent = 0, refused = 0;
  for (const OperandSample& text : kOperandSamples) {
    const Sample good = read(text);
    for (size_t i = 0; i < good.operands.size(); ++i) {
      const Operand& o = good.operands[i];
      if (o.absent) continue;
      const std::string named = "input";
      const auto with = [&](const Operand& other, const std::string& what, bool must_fail) {
        Sample s = good;
        s.operands[i] = other;
        ++bent;
        refused += agreed(s, "input " + std::to_string(i) + " (" + o.name + ") " + what, "", must_fail);
      };
      Operand higher = o;
      higher.shape.insert(higher.shape.begin(), 1);
      // A scalar may be written as a list of one; a list of one of higher rank may not.
      if (o.shape.empty()) higher.shape.insert(higher.shape.begin(), 1);
      with(higher, "has shape " + to_text(higher.shape), !o.any_rank);
      if (!o.shape.empty()) {
        Operand lower = o;
        lower.shape.erase(lower.shape.begin());
        const bool one = lower.shape.empty() && o.shape[0] == 1;  // the same number, as a scalar
        with(lower, "has shape " + to_text(lower.shape), !o.any_rank && !one);
      }
      for (size_t d = 0; d < o.shape.size(); ++d) {
        for (const int64_t size : {int64_t{0}, int64_t{1}, o.shape[d] - 1, o.shape[d] + 1}) {
          if (size == o.shape[d] || size < 0) continue;
          Operand other = o;
          other.shape[d] = size;
          with(other, "has shape " + to_text(other.shape), !o.free[d] && size != 1 && !(size == 0 && o.none[d]));
          if (size == 1 && !o.free[d]) {  // one for all: legal where it is broadcast, and nowhere does it read past its end
            with(other, "has shape " + to_text(other.shape), false);
          }
        }
      }
      Operand other = o;
      other.values.clear();
      other.dtype = o.dtype == DType::string ? DType::f32 : DType::string;
      with(other, "is " + std::string(to_string(other.dtype)), !o.any_dtype);
      other.dtype = o.dtype == DType::boolean || is_int(o.dtype) ? DType::f32 : DType::boolean;
      with(other, "is " + std::string(to_string(other.dtype)), !o.any_dtype);
    }
  }
  MESSAGE(bent, " operands bent, ", refused, " of them refused");
}

TEST_CASE("attributes out of range are reported, the same by plain evaluation and by the compiler") {
  // Any number or text will do here.
  const std::set<std::string> any{
      "seed",       "ignore_index", "k",           "start",        "end",         "pattern",       "delimiter",
      "to",         "pool_int64s",  "cats_int64s", "cats_strings", "keys_int64s", "values_int64s", "classlabels_ints",
      "value_ints", "shape",        "zeros",       "n_supports"};
  for (const OperandSample& text : kOperandSamples) {
    const Sample good = read(text);
    for (const auto& [name, data] : good.attributes) {
      std::vector<Attribute::Data> odd;
      if (std::holds_alternative<int64_t>(data)) {
        odd = {int64_t{1} << 40, -(int64_t{1} << 40), int64_t{-7}, std::string("oak")};
      } else if (std::holds_alternative<std::string>(data)) {
        odd = {std::string("sawdust"), int64_t{3}};
      } else if (const auto* list = std::get_if<std::vector<int64_t>>(&data)) {
        std::vector<int64_t> longer = *list, shorter = *list, huge = *list, negative = *list;
        longer.push_back(longer.empty() ? 1 : longer.back());
        if (!shorter.empty()) shorter.pop_back();
        if (!huge.empty()) huge[0] = int64_t{1} << 50, negative[0] = -(int64_t{1} << 50);
        odd = {longer, shorter, huge, negative, std::vector<float>{1}};
      } else if (const auto* reals = std::get_if<std::vector<float>>(&data)) {
        std::vector<float> longer = *reals, shorter = *reals;
        longer.push_back(1);
        if (!shorter.empty()) shorter.pop_back();
        odd = {longer, shorter};
      }
      for (size_t i = 0; i < odd.size(); ++i) {
        Sample s = good;
        s.attributes[name] = odd[i];
        // A window or a norm may be as large as it likes.
        const bool large = i == 0 && (name == "size" || name == "p" || name == "max_skip_count");
        const bool scalar = !large && (std::holds_alternative<int64_t>(data) || std::holds_alternative<std::string>(data));
        agreed(s, "attribute " + name + ", odd value " + std::to_string(i), "", scalar && !any.contains(name));
      }
    }
  }
}

TEST_CASE("values that decide sizes, fed at run time to a model that declares its result: looked at, the same by both") {
  int fed = 0, refused = 0, ops = 0;
  for (const OperandSample& text : kOperandSamples) {
    const Sample good = read(text);
    const OpDef* def = find_op(good.domain, good.op, good.domain.empty() ? good.opset : 5);
    Built b = build(good, false);
    std::vector<size_t> deciding;  // among the inputs
    for (size_t i = 0, at = 0; i < good.operands.size(); ++i) {
      if (good.operands[i].absent) continue;
      if (i < def->statement->operands.size() && def->statement->operands[i].decides) deciding.push_back(at);
      ++at;
    }
    if (deciding.empty()) continue;
    ++ops;
    INFO(good.op, " at opset ", good.opset);
    EvalLimits limits;
    limits.elements = 1 << 20;
    const Tensor wanted = evaluate_plain(b.graph, b.inputs, limits)[0];
    Value& result = b.graph.values[b.graph.outputs[0]];
    result.dtype = wanted.dtype();
    result.dims = Dims(wanted.shape().begin(), wanted.shape().end());
    CompileOptions options{.threads = 2}, plainly{.threads = 1, .plain = true};
    options.limits = plainly.limits = limits;
    Lane lane(compile(b.graph, options)), plain_lane(compile(b.graph, plainly));
    const auto same_as_plain = [&](const std::vector<Tensor>& inputs) {
      Tensor expected;
      const std::string plain = fault_of([&] { expected = plain_lane.run(std::span<const Tensor>(inputs))[0]; });
      Tensor got;
      const std::string compiled = fault_of([&] { got = lane.run(std::span<const Tensor>(inputs))[0]; });
      INFO("plain: ", plain, "  compiled: ", compiled);
      CHECK(plain.empty() == compiled.empty());
      if (plain.empty() && compiled.empty()) CHECK(identical(got, expected));
      return compiled.empty();
    };
    for (const size_t i : deciding) {
      const Tensor& usual = b.inputs[i];
      for (int64_t e = 0; e < usual.size(); ++e) {
        auto values = widen<double>(usual);
        const double before = values[static_cast<size_t>(e)];
        for (const double odd : {before - 1, before + 1, 0.0, -1.0, 1.0, -before, 1e6, -1e6, 4e9, 0x1p62, -0x1p63}) {
          values[static_cast<size_t>(e)] = odd;
          std::vector<Tensor> inputs = b.inputs;
          inputs[i] = narrow<double>(usual.dtype(), usual.shape(), values);
          INFO("input ", i, " element ", e, " is ", odd);
          ++fed;
          refused += !same_as_plain(inputs);
        }
      }
    }
    CHECK(same_as_plain(b.inputs));  // and the lane is as good as before
  }
  CHECK(ops > 30);
  CHECK(refused > fed / 3);
  MESSAGE(ops, " forms of ops, ", fed, " values fed, ", refused, " of them refused");
}
