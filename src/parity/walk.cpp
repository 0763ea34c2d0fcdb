// Where a compiled program parts from references: value by value in the order of its steps, then inside the step.
#include <algorithm>
#include <cmath>

#include "base/fail.hpp"
#include "lathe/divergence.hpp"
#include "base/memory.hpp"
#include "parity/align.hpp"
#include "parity/bodies.hpp"
#include "parity/net.hpp"

namespace lathe {
namespace {

using parting::Net;

// What values are held against.
class References {
 public:
  virtual ~References() = default;
  virtual std::string what() const = 0;
  virtual bool has(const std::string& name) const = 0;
  // Those values; made anew at each call.
  virtual std::map<std::string, Tensor> fetch(const std::vector<std::string>& names) = 0;
  // Bytes of an element, more or less.
  virtual size_t element_bytes() const { return 8; }
  virtual int plain_runs() const { return 0; }
  // By how many steps codes of a few bits may differ: where they are computed and not given, what lies in the middle may be rounded to
  // either.
  virtual int64_t steps() const { return 1; }
  // Whether the values between those that are there can be computed, too.
  virtual parting::Exact* exact() { return nullptr; }
  virtual std::vector<std::string> missing(const Net&) const { return {}; }
};

class DoubleReferences : public References {
 public:
  DoubleReferences(const Net& net, std::span<const Tensor> inputs, const WalkOptions& o)
      : exact_(net.graph(), inputs, o.run, o.compile.limits) {}
  std::string what() const override { return "plain evaluation in double"; }
  bool has(const std::string& name) const override { return exact_.has(name); }
  std::map<std::string, Tensor> fetch(const std::vector<std::string>& names) override { return exact_.values(names); }
  int plain_runs() const override { return exact_.runs(); }
  parting::Exact* exact() override { return &exact_; }

 private:
  parting::Exact exact_;
};

class GivenReferences : public References {
 public:
  explicit GivenReferences(std::span<const NamedTensor> given) {
    for (const NamedTensor& t : given) given_[t.name] = t.tensor;
  }
  std::string what() const override { return "the reference values given"; }
  bool has(const std::string& name) const override { return given_.contains(name); }
  std::map<std::string, Tensor> fetch(const std::vector<std::string>& names) override {
    std::map<std::string, Tensor> out;
    for (const std::string& name : names) out[name] = given_.at(name);
    return out;
  }
  size_t element_bytes() const override { return 0; }  // they are here
  int64_t steps() const override { return 0; }
  std::vector<std::string> missing(const Net& net) const override {
    std::vector<std::string> out;
    for (const auto& [name, t] : given_) {
      if (net.find(name) == kAbsent) out.push_back(name);
    }
    return out;
  }

 private:
  std::map<std::string, Tensor> given_;
};

class ModelReferences : public References {
 public:
  ModelReferences(const Net& net, std::span<const Tensor> inputs, const Graph& other, const WalkOptions& o) : run_(o.run) {
    CompileOptions options = o.compile;
    options.outputs.clear();
    const Net theirs(other, options);
    match_ = parting::align(net.graph(), theirs.graph());
    program_ = compile(theirs.graph(), options);
    lane_.emplace(program_);
    for (size_t i = 0; i < program_.inputs().size(); ++i) {
      // By name, else by place.
      size_t at = i;
      for (size_t k = 0; k < net.graph().inputs.size(); ++k) {
        if (net.name(net.graph().inputs[k]) == program_.inputs()[i].name) at = k;
      }
      if (at >= inputs.size())
        fail(Category::value, "the other model takes input '{}', which this one does not have", program_.inputs()[i].name);
      inputs_.push_back(parting::as_type(inputs[at], program_.inputs()[i].dtype));
    }
    const RunOptions look = looking([&](MadeValue& v) { made_[theirs.model_name(v.name())] = v.name(); });
    lane_->run(std::span<const Tensor>(inputs_), look);
    std::erase_if(match_, [&](const auto& m) { return !made_.contains(m.second); });
    if (match_.empty()) fail(Category::value, "no value of the other model has the name, or the place and shape, of one of this model's");
  }
  std::string what() const override { return "the values of the other model"; }
  bool has(const std::string& name) const override { return match_.contains(name); }
  std::map<std::string, Tensor> fetch(const std::vector<std::string>& names) override {
    std::map<std::string, std::vector<std::string>> wanted;
    for (const std::string& name : names) wanted[made_.at(match_.at(name))].push_back(name);
    std::map<std::string, Tensor> out;
    lane_->run(std::span<const Tensor>(inputs_), looking([&](MadeValue& v) {
                 const auto it = wanted.find(v.name());
                 if (it == wanted.end()) return;
                 const Tensor t = v.read();
                 for (const std::string& name : it->second) out[name] = t;
               }));
    return out;
  }
  size_t element_bytes() const override { return 4; }

 private:
  RunOptions looking(std::function<void(MadeValue&)> look) const {
    RunOptions r = run_;
    r.made = std::move(look);
    return r;
  }

  RunOptions run_;
  std::map<std::string, std::string> match_;  // this model's values, the other's
  std::map<std::string, std::string> made_;   // the other's values, as its program names them
  Program program_;
  std::optional<Lane> lane_;
  std::vector<Tensor> inputs_;
};

class Walker {
 public:
  Walker(const Net& net, std::span<const Tensor> inputs, References& references, const WalkOptions& options, CompileOptions compile_options)
      : net_(net),
        inputs_(inputs),
        references_(references),
        o_(options),
        compile_(std::move(compile_options)),
        program_(compile(net.graph(), compile_)),
        lane_(program_) {}

  Walk run() {
    w_.against = references_.what();
    w_.missing = references_.missing(net_);
    list();
    find_first();
    find_jump();
    look_inside();
    say();
    look_in_body();
    w_.plain_runs = references_.plain_runs();
    return std::move(w_);
  }

 private:
  struct Made {
    std::string name, made;  // the model's, the program's
    ValueId value = kAbsent;
    int step = -1;
    size_t bytes = 0;  // of its reference
  };

  void tell(const std::string& what) const {
    if (o_.progress) o_.progress(what);
  }

  Outputs go(std::function<void(MadeValue&)> look) {
    RunOptions r = o_.run;
    r.made = std::move(look);
    ++w_.runs;
    return lane_.run(inputs_, r);
  }

  // Numbers written as text are written with as many digits as their type has: in double these are others.
  bool written_number(ValueId v, DType dtype) const {
    const std::string& op = net_.graph().nodes[static_cast<size_t>(net_.maker(v))].op;
    return dtype == DType::string && references_.exact() && op.starts_with("Cast");
  }

  // What the program makes that can be compared, in its order.
  void list() {
    tell("running the program");
    std::set<std::string> seen;
    go([&](MadeValue& v) {
      ++w_.values_made;
      const std::string name = net_.model_name(v.name());
      const ValueId id = net_.find(name);
      if (id == kAbsent || net_.maker(id) < 0 || !references_.has(name) || !seen.insert(name).second || written_number(id, v.dtype()))
        return;
      made_.push_back({name, v.name(), id, static_cast<int>(v.step()), static_cast<size_t>(v.read().size()) * references_.element_bytes()});
    });
    for (size_t i = 0; i < program_.outputs().size(); ++i) {
      const std::string& name = program_.outputs()[i].name;
      const ValueId id = net_.find(name);
      if (id != kAbsent && net_.maker(id) >= 0 && references_.has(name) && !seen.contains(name) &&
          !written_number(id, program_.outputs()[i].dtype)) {
        ++w_.values_made;  // by no step: an input, or a constant, as it is
        made_.push_back({name, name, id, -1, 0});
      }
    }
    if (made_.empty())
      fail(
          Category::value, "none of the references bears the name of a value that the program makes{}",
          w_.missing.empty() ? "; those inside fused steps have no memory of their own" : fmt::format(" (the first: '{}')", w_.missing[0]));
  }

  // Compares these (indices into made_), and keeps the references when all of them are here.
  void compare_some(const std::vector<size_t>& which, bool keep) {
    std::vector<std::string> names;
    for (size_t i : which) names.push_back(made_[i].name);
    tell(fmt::format("{} of {} values: {}", names.size(), made_.size(), references_.what()));
    std::map<std::string, Tensor> expected = references_.fetch(names);
    std::map<std::string, size_t> index;
    for (size_t i : which) index[made_[i].made] = i;
    tell(fmt::format("comparing {} values", names.size()));
    const auto check = [&](size_t i, const Tensor& got) {
      const Tensor& wanted = expected.at(made_[i].name);
      ValueCheck c;
      c.name = made_[i].name;
      const int n = net_.maker(made_[i].value);
      c.node = label(net_.graph(), net_.graph().nodes[static_cast<size_t>(n)]);
      c.op = net_.graph().nodes[static_cast<size_t>(n)].op;
      c.step = made_[i].step;
      c.depth = net_.depth(made_[i].value);
      c.comparison = parting::compare_value(c.name, got, wanted, o_.tolerances, references_.steps());
      c.error = parting::error_of(got, wanted, references_.steps());
      checks_[i] = std::move(c);
    };
    const Outputs out = go([&](MadeValue& v) {
      const auto it = index.find(v.name());
      if (it == index.end()) return;
      check(it->second, v.read());
      index.erase(it);
    });
    for (const auto& [name, i] : index) check(i, out[name]);
    if (keep) kept_ = std::move(expected);
  }

  void find_first() {
    const size_t room = o_.keep_bytes > 0 ? o_.keep_bytes : physical_memory() / 4;
    size_t low = 0, high = made_.size();  // the first one is among [low, high), if it is anywhere
    for (int round = 0;; ++round) {
      // As many as fit, evenly spread, the last one always.
      std::vector<size_t> which;
      size_t inside = 0;
      for (size_t i = low; i < high; ++i) inside += made_[i].bytes;
      const bool all = inside <= room;
      size_t used = 0;
      const size_t stride = all ? 1 : std::max<size_t>(2, (inside + room - 1) / std::max<size_t>(1, room));
      for (size_t i = high; i-- > low;) {
        if ((high - 1 - i) % stride != 0 || (used > 0 && used + made_[i].bytes > room)) continue;
        used += made_[i].bytes;
        if (!checks_.contains(i)) which.push_back(i);
      }
      std::ranges::sort(which);
      if (!which.empty()) compare_some(which, all && round == 0);
      size_t good = low, bad = high;
      for (const auto& [i, c] : checks_) {
        if (i < low || i >= high) continue;
        if (c.comparison.pass) good = i + 1;
        else {
          bad = i;
          break;
        }
      }
      if (all || bad == high) break;
      low = good;
      high = bad + 1;
      size_t checked = low;
      while (checked < high && checks_.contains(checked)) ++checked;
      if (checked == high) break;
    }
    for (auto& [i, c] : checks_) {
      if (w_.first < 0 && !c.comparison.pass) w_.first = static_cast<int>(w_.values.size());
      by_value_[made_[i].value] = w_.values.size();
      w_.values.push_back(std::move(c));
    }
    w_.compared = static_cast<int64_t>(w_.values.size());
    for (const ValueCheck& c : w_.values) order_.push_back(net_.find(c.name));
  }

  // The largest error among what a value is made from.
  double error_before(size_t at) const {
    const auto segment = net_.segment(order_[at], [&](ValueId v) { return by_value_.contains(v); });
    double most = 0;
    for (ValueId v : segment.from) {
      const auto it = by_value_.find(v);
      if (it != by_value_.end() && std::isfinite(w_.values[it->second].error)) most = std::max(most, w_.values[it->second].error);
    }
    return most;
  }

  void find_jump() {
    const size_t end = w_.first >= 0 ? static_cast<size_t>(w_.first) + 1 : w_.values.size();
    for (size_t i = 0; i < end; ++i) {
      const ValueCheck& c = w_.values[i];
      const double floor = parting::floor_of(c.comparison.dtype);
      if (floor == 0 && c.comparison.pass) continue;  // whole numbers
      if (!(c.error > 10 * std::max(error_before(i), floor))) continue;
      w_.jump = static_cast<int>(i);
      break;
    }
  }

  // Runs the step's nodes one by one, and together, on the references of what it reads.
  void look_inside() {
    const int at = w_.jump >= 0 ? w_.jump : w_.first;
    if (at < 0) return;
    const ValueCheck& c = w_.values[static_cast<size_t>(at)];
    const auto segment = net_.segment(order_[static_cast<size_t>(at)], [&](ValueId v) { return by_value_.contains(v); });
    inner_nodes_ = segment.nodes;
    const double before = error_before(static_cast<size_t>(at));
    w_.parting = w_.jump >= 0 ? Parting::jump : Parting::growth;
    if (segment.nodes.size() > 500) return;
    try {
      std::vector<std::string> names;
      for (ValueId v : segment.from) {
        if (net_.maker(v) >= 0 && !kept_.contains(net_.name(v))) names.push_back(net_.name(v));
      }
      if (!names.empty()) {
        tell("running the step by itself");
        for (auto& [name, t] : references_.fetch(names)) kept_[name] = std::move(t);
      }
      Graph part = net_.extract(segment);
      std::vector<Tensor> inputs;
      for (ValueId v : part.inputs) {
        const Value& value = part.values[static_cast<size_t>(v)];
        const auto given = std::ranges::find_if(net_.graph().inputs, [&](ValueId in) { return net_.name(in) == value.name; });
        const Tensor& t =
            given != net_.graph().inputs.end() ? inputs_[static_cast<size_t>(given - net_.graph().inputs.begin())] : kept_.at(value.name);
        inputs.push_back(parting::as_type(t, value.dtype));
      }
      const auto results = [&](bool fused) {
        CompileOptions options = compile_;
        options.shapes.clear();
        options.dims.clear();
        options.fuse = fused;
        Graph g = part;
        if (fused) g.outputs = {g.find_value(c.name)};
        Lane lane(compile(std::move(g), options));
        ++w_.runs;
        const Outputs out = lane.run(std::span<const Tensor>(inputs), o_.run);
        std::map<std::string, Tensor> by_name;
        for (size_t i = 0; i < out.size(); ++i) by_name[out.name(i)] = out[i];
        return by_name;
      };
      const auto single = results(false), together = results(true);
      std::map<std::string, Tensor> wanted;
      if (references_.exact()) {
        parting::Exact local(part, inputs, o_.run, compile_.limits);
        std::vector<std::string> all;
        for (const auto& [name, t] : single) all.push_back(name);
        wanted = local.values(all);
      } else {
        std::vector<std::string> all;
        for (const auto& [name, t] : single) {
          if (references_.has(name)) all.push_back(name);
        }
        wanted = references_.fetch(all);
      }
      for (ValueId v : part.outputs) {
        const std::string& name = part.values[static_cast<size_t>(v)].name;
        const ValueId id = net_.find(name);
        ValueCheck inner;
        inner.name = name;
        const Node& node = net_.graph().nodes[static_cast<size_t>(net_.maker(id))];
        inner.node = label(net_.graph(), node);
        inner.op = node.op;
        inner.step = c.step;
        inner.depth = net_.depth(id);
        if (const auto it = wanted.find(name); it != wanted.end()) {
          inner.comparison = parting::compare_value(name, single.at(name), it->second, o_.tolerances, references_.steps());
          inner.error = parting::error_of(single.at(name), it->second, references_.steps());
        }
        w_.inside.push_back(std::move(inner));
      }
      if (!wanted.contains(c.name)) return;
      const double floor = parting::floor_of(c.comparison.dtype);
      const double alone = parting::error_of(together.at(c.name), wanted.at(c.name), references_.steps());
      const double unfused = parting::error_of(single.at(c.name), wanted.at(c.name), references_.steps());
      const double small = std::max(10 * floor, c.error / 10);
      w_.only_fused = unfused <= small && alone > small;
      if (alone <= small && unfused <= small) w_.parting = Parting::amplified;
      else if (w_.jump < 0 && before > c.error / 10) w_.parting = Parting::growth;
      else w_.parting = Parting::jump;
    } catch (const Error& e) {
      if (e.category() == Category::cancelled) throw;
      w_.inside.clear();  // the part cannot stand alone (a subgraph that needs what is around it)
    }
    const bool first_layer = std::ranges::all_of(segment.from, [&](ValueId v) { return net_.maker(v) < 0; });
    if (first_layer && w_.parting == Parting::jump) w_.parting = Parting::input;
  }

  // Of the nodes inside, the first whose error is the value's own, and whether those before it have references.
  const ValueCheck* culprit(const ValueCheck& c, bool& known) const {
    for (const ValueCheck& inner : w_.inside) {
      if (inner.comparison.dtype == DType::undefined ||
          inner.error <= std::max(10 * parting::floor_of(inner.comparison.dtype), c.error / 10))
        continue;
      known = &inner == &w_.inside.front() || (&inner - 1)->comparison.dtype != DType::undefined;
      return &inner;
    }
    return nullptr;
  }

  // Where a node with subgraphs made the error: the run of which subgraph, and where in it.
  void look_in_body() {
    const int at = w_.jump >= 0 ? w_.jump : w_.first;
    if (at < 0 || w_.parting == Parting::amplified || !references_.exact()) return;
    const ValueCheck& c = w_.values[static_cast<size_t>(at)];
    bool known = false;
    const ValueCheck* inner = culprit(c, known);
    const int n = net_.maker(inner ? net_.find(inner->name) : order_[static_cast<size_t>(at)]);
    if (!net_.graph().nodes[static_cast<size_t>(n)].has_subgraphs()) return;
    tell("looking inside control flow");
    try {
      const Net::Segment segment{{n}, net_.reads(n)};
      const Graph part = net_.extract(segment);
      std::vector<std::string> names;
      for (const ValueId v : part.inputs) names.push_back(part.values[static_cast<size_t>(v)].name);
      const auto exact = references_.fetch(names);
      std::vector<Tensor> inputs;
      for (const std::string& name : names) inputs.push_back(exact.at(name));
      auto wrong = parting::first_wrong_run(part, inputs, compile_, o_.tolerances, o_.run);
      if (!wrong) return;
      WalkOptions options = o_;
      options.compile = compile_;
      options.compile.shapes.clear();
      options.compile.dims.clear();
      const Node& node = net_.graph().nodes[static_cast<size_t>(n)];
      const Walk inside = walk(wrong->model, wrong->inputs, options);
      w_.within = InsideBody{label(net_.graph(), node), node.op, wrong->body, wrong->run, std::make_shared<const Walk>(inside)};
      w_.verdict += fmt::format("; inside it, in run {} of '{}': {}", wrong->run + 1, wrong->body, inside.verdict);
    } catch (const Error& e) {
      if (e.category() == Category::cancelled) throw;
    }
  }

  void say() {
    const int at = w_.jump >= 0 ? w_.jump : w_.first;
    if (at < 0) {
      w_.verdict = fmt::format("all {} values agree with {}", w_.compared, w_.against);
      return;
    }
    const ValueCheck& c = w_.values[static_cast<size_t>(at)];
    const double before = error_before(static_cast<size_t>(at));
    std::string nodes = c.node;
    if (inner_nodes_.size() > 1)
      nodes = fmt::format("{} (with the {} before it that no reference tells apart)", c.node, inner_nodes_.size() - 1);
    bool known = false;  // where those before it have no reference, it may be any of them
    if (const ValueCheck* inner = culprit(c, known); inner && known && !w_.only_fused) nodes = inner->node;
    const std::string out = w_.first < 0 ? "all values are within tolerance"
                            : w_.first == at
                                ? fmt::format("'{}' is the first value out of tolerance", c.name)
                                : fmt::format("'{}' is the first value out of tolerance", w_.values[static_cast<size_t>(w_.first)].name);
    switch (w_.parting) {
      case Parting::amplified:
        w_.verdict =
            fmt::format("{}; {} does right what it is given, and turns an error of {:.1e} into one of {:.1e}", out, nodes, before, c.error);
        break;
      case Parting::growth:
        w_.verdict = fmt::format("{}; the error grew to it from value to value, {:.1e} before it and {:.1e} there: no single node makes it",
                                 out, before, c.error);
        break;
      case Parting::input:
        w_.verdict = fmt::format("{}; the error begins at {}, which reads the inputs: {:.1e}", out, nodes, c.error);
        break;
      default:
        w_.verdict = fmt::format("{}; the error jumps at {}, from {:.1e} to {:.1e}{}", out, nodes, before, c.error,
                                 w_.only_fused ? "; its nodes run one by one agree: the step as a whole is wrong, please report it" : "");
    }
  }

  const Net& net_;
  std::span<const Tensor> inputs_;
  References& references_;
  const WalkOptions& o_;
  CompileOptions compile_;
  Program program_;
  Lane lane_;
  Walk w_;
  std::vector<Made> made_;
  std::map<size_t, ValueCheck> checks_;  // by index into made_
  std::map<ValueId, size_t> by_value_;   // into w_.values
  std::vector<ValueId> order_;           // of w_.values
  std::map<std::string, Tensor> kept_;
  std::vector<int> inner_nodes_;
};

Walk walk_with(const Graph& model, std::span<const Tensor> inputs, const WalkOptions& options,
               const std::function<std::unique_ptr<References>(const Net&)>& make) {
  CompileOptions compile_options = options.compile;
  const Net net(model, compile_options);
  parting::refuse_random(net.graph());
  const auto references = make(net);
  return Walker(net, inputs, *references, options, compile_options).run();
}

}  // namespace

std::string_view to_string(Parting parting) {
  constexpr std::string_view kNames[]{"none", "jump", "growth", "amplified", "input"};
  return kNames[static_cast<size_t>(parting)];
}

Walk walk(const Graph& model, std::span<const Tensor> inputs, const WalkOptions& options) {
  return walk_with(model, inputs, options, [&](const Net& net) { return std::make_unique<DoubleReferences>(net, inputs, options); });
}

Walk walk(const Graph& model, std::span<const Tensor> inputs, std::span<const NamedTensor> references, const WalkOptions& options) {
  return walk_with(model, inputs, options, [&](const Net&) { return std::make_unique<GivenReferences>(references); });
}

Walk walk(const Graph& model, std::span<const Tensor> inputs, const Graph& other, const WalkOptions& options) {
  return walk_with(model, inputs, options, [&](const Net& net) { return std::make_unique<ModelReferences>(net, inputs, other, options); });
}

}  // namespace lathe
