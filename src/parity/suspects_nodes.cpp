// Nodes that another program would compute with other attributes, or with its weights laid out otherwise.
#include <algorithm>
#include <cmath>
#include <numbers>
#include <numeric>

#include "base/fail.hpp"
#include "lathe/op.hpp"
#include "parity/suspects.hpp"
#include "tensor/widen.hpp"

namespace lathe::parting {
namespace {

// Rows [k * rows, (k + 1) * rows) along an axis, in another order of k.
Tensor blocks_reordered(const Tensor& t, size_t axis, const std::vector<int>& order) {
  const Shape& s = t.shape();
  int64_t outer = 1, inner = 1;
  for (size_t i = 0; i < axis; ++i) outer *= s[i];
  for (size_t i = axis + 1; i < s.size(); ++i) inner *= s[i];
  const auto blocks = static_cast<int64_t>(order.size());
  const int64_t rows = s[axis] / blocks;
  return with_wide(t.dtype(), [&](auto wide) {
    using T = decltype(wide);
    const auto from = widen<T>(t);
    std::vector<T> to(from.size());
    for (int64_t o = 0; o < outer; ++o) {
      for (int64_t k = 0; k < blocks; ++k) {
        const int64_t at = (o * s[axis] + k * rows) * inner, source = (o * s[axis] + order[static_cast<size_t>(k)] * rows) * inner;
        std::copy_n(from.begin() + source, rows * inner, to.begin() + at);
      }
    }
    return narrow<T>(t.dtype(), s, to);
  });
}

class Changes {
 public:
  Changes(const Graph& g, size_t n) : g_(g), n_(g.nodes[n]) {}

  std::vector<NodeChange> all() {
    if (!n_.domain.empty()) return std::move(out_);
    epsilons();
    written_out_epsilon();
    paddings();
    resizes();
    gelus();
    weights();
    gates();
    axes();
    words_and_flags();
    numbers();
    layouts();
    operands();
    return std::move(out_);
  }

 private:
  bool is(std::initializer_list<std::string_view> ops) const { return std::ranges::find(ops, std::string_view(n_.op)) != ops.end(); }
  const Tensor* constant(size_t i) const {
    if (i >= n_.inputs.size() || n_.inputs[i] == kAbsent) return nullptr;
    const auto& c = g_.values[static_cast<size_t>(n_.inputs[i])].constant;
    return c && !c->composite() && c->dtype() != DType::string ? &*c : nullptr;
  }
  std::optional<Shape> shape_of(ValueId v) const {
    return v == kAbsent ? std::nullopt : known_shape(g_.values[static_cast<size_t>(v)].dims);
  }
  int rank(size_t i) const {
    if (i >= n_.inputs.size() || n_.inputs[i] == kAbsent) return -1;
    const auto& d = g_.values[static_cast<size_t>(n_.inputs[i])].dims;
    return d ? static_cast<int>(d->size()) : -1;
  }

  void add(const std::string& key, const std::string& text, std::function<void(Graph&, size_t)> edit) {
    out_.push_back({fmt::format("{} {}", n_.op, key), text, std::move(edit)});
  }
  void attribute(const std::string& name, Attribute::Data value, const std::string& text_of_new, const std::string& text_of_old) {
    add(fmt::format("{} {}", name, text_of_new), fmt::format("{} {} instead of {}", name, text_of_new, text_of_old),
        [name, value](Graph& g, size_t n) { g.nodes[n].attributes[name].data = value; });
  }
  void real(const std::string& name, double otherwise, std::initializer_list<double> values) {
    const double now = n_.real(name, static_cast<float>(otherwise));
    for (double v : values) {
      if (static_cast<float>(v) != static_cast<float>(now))
        attribute(name, static_cast<float>(v), fmt::format("{:.4g}", v), fmt::format("{:.4g}", now));
    }
  }
  void flag(const std::string& name, int64_t otherwise) {
    const int64_t now = n_.integer(name, otherwise);
    attribute(name, int64_t{now == 0}, std::to_string(now == 0), std::to_string(now));
  }
  void word(const std::string& name, const std::string& otherwise, std::initializer_list<const char*> words) {
    const std::string now = n_.text(name, otherwise);
    for (const char* w : words) {
      if (now != w) attribute(name, std::string(w), w, now.empty() ? "''" : now);
    }
  }
  void axis(const std::string& name, int64_t otherwise, int ranks) {
    const int64_t now = n_.integer(name, otherwise), plain = now < 0 ? now + ranks : now;
    for (int64_t a = 0; a < ranks; ++a) {
      if (a != plain) attribute(name, a, std::to_string(a), std::to_string(now));
    }
  }
  // Another constant for this input, for this node alone.
  void replaced(size_t input, const std::string& key, const std::string& text, std::function<Tensor(const Tensor&)> make) {
    add(key, text, [input, make = std::move(make)](Graph& g, size_t n) {
      const ValueId old = g.nodes[n].inputs.at(input);
      Value v = g.values[static_cast<size_t>(old)];
      v.constant = make(*v.constant);
      v.dims = Dims(v.constant->shape().begin(), v.constant->shape().end());
      v.name = fmt::format("{}/tried#{}", v.name, g.values.size());
      g.nodes[n].inputs[input] = g.add_value(std::move(v));
    });
  }

  void epsilons() {
    if (is({"BatchNormalization", "InstanceNormalization", "LayerNormalization", "GroupNormalization", "RMSNormalization",
            "SimplifiedLayerNormalization"}))
      real("epsilon", 1e-5, {1e-5, 1e-3, 1e-6, 1e-12, 1e-4, 1e-7, 1e-8, 1e-2, 2e-5, 1e-10, 0.0});
  }

  // x + epsilon under a root.
  void written_out_epsilon() {
    if (!is({"Add"})) return;
    for (size_t i = 0; i < 2; ++i) {
      const Tensor* c = constant(i);
      if (!c || c->size() != 1 || !is_float(c->dtype())) continue;
      const double now = widen<double>(*c)[0];
      if (!(now >= 0 && now < 0.1)) continue;
      const auto readers = g_.consumers()[static_cast<size_t>(n_.outputs.at(0))];
      const bool root = std::ranges::any_of(readers, [&](int r) {
        const std::string& op = g_.nodes[static_cast<size_t>(r)].op;
        return op == "Sqrt" || op == "Pow" || op == "Reciprocal" || op == "Div";
      });
      if (!root) continue;
      for (double v : {1e-5, 1e-3, 1e-6, 1e-12, 1e-4, 1e-7, 1e-8, 1e-2, 0.0}) {
        if (static_cast<float>(v) == static_cast<float>(now)) continue;
        replaced(i, fmt::format("epsilon {:g}", v), fmt::format("epsilon {:g} instead of {:g}", v, now),
                 [v](const Tensor& t) { return narrow<double>(t.dtype(), t.shape(), std::vector<double>{v}); });
      }
    }
  }

  static std::vector<std::pair<std::string, std::vector<int64_t>>> other_pads(const std::vector<int64_t>& pads) {
    const size_t half = pads.size() / 2;
    std::vector<std::pair<std::string, std::vector<int64_t>>> out;
    const auto moved = [&](const std::string& what, int64_t begin, int64_t end) {
      auto p = pads;
      for (size_t d = 0; d < half; ++d) {
        if (p[d] + p[half + d] == 0) continue;
        p[d] += begin;
        p[half + d] += end;
        if (p[d] < 0 || p[half + d] < 0) return;
      }
      if (p != pads && std::ranges::none_of(out, [&](const auto& o) { return o.second == p; })) out.emplace_back(what, p);
    };
    auto swapped = pads;
    for (size_t d = 0; d < half; ++d) std::swap(swapped[d], swapped[half + d]);
    if (swapped != pads) out.emplace_back("begin and end swapped", swapped);
    moved("less at the begin", -1, 0);
    moved("less at the end", 0, -1);
    moved("moved to the end", -1, 1);
    moved("moved to the begin", 1, -1);
    moved("more at the end", 0, 1);
    moved("more at the begin", 1, 0);
    return out;
  }

  void paddings() {
    if (is({"Conv", "ConvTranspose", "MaxPool", "AveragePool", "LpPool", "ConvInteger", "QLinearConv", "DeformConv"})) {
      const std::string automatic = n_.text("auto_pad", "NOTSET");
      if (automatic == "SAME_UPPER") word("auto_pad", "", {"SAME_LOWER"});
      if (automatic == "SAME_LOWER") word("auto_pad", "", {"SAME_UPPER"});
      const auto pads = n_.integers("pads");
      for (const auto& [what, p] : other_pads(pads))
        attribute("pads", p, fmt::format("{} ({})", fmt::join(p, ", "), what), fmt::format("{}", fmt::join(pads, ", ")));
      if (is({"AveragePool"})) flag("count_include_pad", 0);
      if (is({"MaxPool", "AveragePool", "LpPool"})) flag("ceil_mode", 0);
      if (is({"ConvTranspose"})) {
        const auto more = n_.integers("output_padding");
        if (!more.empty()) attribute("output_padding", std::vector<int64_t>(more.size(), 0), "0", fmt::format("{}", fmt::join(more, ", ")));
      }
      const auto dilations = n_.integers("dilations");
      if (std::ranges::any_of(dilations, [](int64_t d) { return d > 1; }))
        attribute("dilations", std::vector<int64_t>(dilations.size(), 1), "1", fmt::format("{}", fmt::join(dilations, ", ")));
    }
    if (is({"Pad"})) {
      word("mode", "constant", {"constant", "reflect", "edge", "wrap"});
      if (const Tensor* c = constant(1); c && c->rank() == 1) {
        const auto pads = integers(*c);
        for (const auto& [what, p] : other_pads(pads)) {
          const auto now = p;
          replaced(1, fmt::format("pads {}", what),
                   fmt::format("pads {} instead of {} ({})", fmt::join(p, ", "), fmt::join(pads, ", "), what),
                   [now](const Tensor& t) { return narrow<int64_t>(t.dtype(), t.shape(), now); });
        }
      }
      if (const auto pads = n_.integers("pads"); !pads.empty()) {
        for (const auto& [what, p] : other_pads(pads))
          attribute("pads", p, fmt::format("{} ({})", fmt::join(p, ", "), what), fmt::format("{}", fmt::join(pads, ", ")));
      }
    }
  }

  void resizes() {
    if (!is({"Resize", "Upsample"})) return;
    const std::string how = n_.text("coordinate_transformation_mode", "half_pixel"),
                      nearest = n_.text("nearest_mode", "round_prefer_floor"), mode = n_.text("mode", "nearest");
    if (is({"Upsample"})) {
      word("mode", "nearest", {"nearest", "linear"});
      return;
    }
    const auto set = [&](const std::string& c, const std::string& r, const std::string& m) {
      if (c == how && r == nearest && m == mode) return;
      std::string text, key;
      const auto say = [&](const char* name, const std::string& now, const std::string& old) {
        if (now == old) return;
        text += fmt::format("{}{} {} instead of {}", text.empty() ? "" : ", ", name, now, old);
      };
      say("mode", m, mode);
      say("coordinate_transformation_mode", c, how);
      if (m == "nearest") say("nearest_mode", r, nearest);
      add(fmt::format("{} {} {}", m, c, m == "nearest" ? r : ""), text, [c, r, m](Graph& g, size_t n) {
        auto& a = g.nodes[n].attributes;
        a["coordinate_transformation_mode"].data = c;
        a["nearest_mode"].data = r;
        a["mode"].data = m;
      });
    };
    const std::vector<std::string> ways{"half_pixel", "asymmetric", "align_corners", "pytorch_half_pixel", "half_pixel_symmetric"};
    if (mode == "nearest") {
      for (const char* r : {"round_prefer_floor", "floor", "round_prefer_ceil", "ceil"}) set(how, r, mode);
      for (const std::string& c : ways) {
        for (const char* r : {"round_prefer_floor", "floor", "round_prefer_ceil", "ceil"}) set(c, r, mode);
      }
    }
    for (const std::string& c : ways) set(c, nearest, mode);
    if (mode != "nearest") flag("antialias", 0);
    if (mode == "cubic") {
      real("cubic_coeff_a", -0.75, {-0.75, -0.5});
      flag("exclude_outside", 0);
    }
    for (const char* m : {"linear", "cubic", "nearest"}) set(how, nearest, m);
  }

  static ValueId scalar(Graph& g, DType dtype, double v) {
    Value value;
    value.dtype = dtype;
    value.constant = narrow<double>(dtype, {}, std::vector<double>{v});
    value.dims = Dims();
    value.name = fmt::format("tried#{}", g.values.size());
    return g.add_value(std::move(value));
  }
  static ValueId append(Graph& g, const char* op, std::vector<ValueId> inputs, DType dtype) {
    Value value;
    value.dtype = dtype;
    value.name = fmt::format("tried#{}", g.values.size());
    const ValueId out = g.add_value(std::move(value));
    Node n;
    n.op = op;
    n.inputs = std::move(inputs);
    n.outputs = {out};
    g.nodes.push_back(std::move(n));
    return out;
  }

  void gelus() {
    if (is({"Gelu"})) word("approximate", "none", {"none", "tanh"});
    // Erf(u) in x * 0.5 * (1 + Erf(u)), u = x / sqrt(2), against tanh(sqrt(2 / pi) * (x + 0.044715 x^3)); and back.
    if (is({"Erf"})) {
      add("tanh", "GELU by tanh instead of Erf", [dtype = g_.values[static_cast<size_t>(n_.inputs.at(0))].dtype](Graph& g, size_t n) {
        const ValueId u = g.nodes[n].inputs[0];
        const ValueId x = append(g, "Mul", {u, scalar(g, dtype, std::sqrt(2.0))}, dtype);
        const ValueId cube = append(g, "Mul", {append(g, "Mul", {x, x}, dtype), x}, dtype);
        const ValueId sum = append(g, "Add", {x, append(g, "Mul", {cube, scalar(g, dtype, 0.044715)}, dtype)}, dtype);
        const ValueId inner = append(g, "Mul", {sum, scalar(g, dtype, std::sqrt(2 / std::numbers::pi))}, dtype);
        g.nodes[n].op = "Tanh";
        g.nodes[n].inputs[0] = inner;
      });
    }
    if (is({"Tanh"})) {
      if (const ValueId x = gelu_argument(); x != kAbsent) {
        add("erf", "GELU by Erf instead of tanh", [x](Graph& g, size_t n) {
          const DType dtype = g.values[static_cast<size_t>(x)].dtype;
          const ValueId u = append(g, "Mul", {x, scalar(g, dtype, std::sqrt(0.5))}, dtype);
          g.nodes[n].op = "Erf";
          g.nodes[n].inputs[0] = u;
        });
      }
    }
  }

  // x of tanh(c * (x + 0.044715 * x^3)); kAbsent when it is something else.
  ValueId gelu_argument() const {
    const auto maker = g_.producers();
    const auto node_of = [&](ValueId v) -> const Node* {
      const int m = v == kAbsent ? -1 : maker[static_cast<size_t>(v)];
      return m < 0 ? nullptr : &g_.nodes[static_cast<size_t>(m)];
    };
    const auto near = [&](ValueId v, double wanted) {
      const auto& c = v == kAbsent ? std::nullopt : g_.values[static_cast<size_t>(v)].constant;
      return c && !c->composite() && c->size() == 1 && is_float(c->dtype()) && std::fabs(widen<double>(*c)[0] - wanted) < 1e-3;
    };
    const Node* outer = node_of(n_.inputs.at(0));
    if (!outer || outer->op != "Mul") return kAbsent;
    for (size_t i = 0; i < 2; ++i) {
      if (!near(outer->inputs[i], std::sqrt(2 / std::numbers::pi))) continue;
      const Node* sum = node_of(outer->inputs[1 - i]);
      if (!sum || sum->op != "Add") return kAbsent;
      for (size_t k = 0; k < 2; ++k) {
        const Node* term = node_of(sum->inputs[k]);
        if (term && term->op == "Mul" && (near(term->inputs[0], 0.044715) || near(term->inputs[1], 0.044715))) return sum->inputs[1 - k];
      }
    }
    return kAbsent;
  }

  void weights() {
    if (is({"MatMul", "Gemm"})) {
      for (size_t i = 0; i < 2; ++i) {
        const Tensor* c = constant(i);
        if (!c || c->rank() != 2 || c->shape()[0] != c->shape()[1]) continue;
        replaced(i, fmt::format("weights {} transposed", i), "weights transposed", [](const Tensor& t) { return transposed(t, {1, 0}); });
      }
      if (is({"Gemm"})) {
        // Stored the other way about under the same shape.
        const Tensor* c = constant(1);
        if (c && c->rank() == 2 && c->shape()[0] != c->shape()[1]) {
          replaced(1, "weights reread", "weights in memory transposed", [](const Tensor& t) {
            return transposed(t.reshaped({t.shape()[1], t.shape()[0]}), {1, 0});
          });
        }
      } else if (const Tensor* w = constant(1); w && w->rank() == 2 && w->shape()[0] != w->shape()[1]) {
        replaced(1, "weights reread", "weights in memory transposed", [](const Tensor& t) {
          return transposed(t.reshaped({t.shape()[1], t.shape()[0]}), {1, 0});
        });
      }
    }
    if (is({"Conv", "ConvTranspose"})) {
      const Tensor* c = constant(1);
      if (c && c->rank() == 4) {
        const Shape& s = c->shape();
        if (s[2] == s[3] && s[2] > 1)
          replaced(1, "kernel transposed", "kernel height and width swapped", [](const Tensor& t) { return transposed(t, {0, 1, 3, 2}); });
        if (s[0] == s[1] && s[0] > 1)
          replaced(1, "channels swapped", "weights with input and output channels swapped", [](const Tensor& t) {
            return transposed(t, {1, 0, 2, 3});
          });
        if (s[2] * s[3] > 1) {
          replaced(1, "kernel flipped", "kernel flipped in both directions", [](const Tensor& t) {
            return with_wide(t.dtype(), [&](auto wide) {
              using T = decltype(wide);
              auto v = widen<T>(t);
              const auto window = t.shape()[2] * t.shape()[3];
              for (size_t at = 0; at < v.size(); at += static_cast<size_t>(window))
                std::reverse(v.begin() + static_cast<int64_t>(at), v.begin() + static_cast<int64_t>(at) + window);
              return narrow<T>(t.dtype(), t.shape(), v);
            });
          });
          replaced(1, "channels last", "weights in memory channels-last (O x H x W x I)", [](const Tensor& t) {
            const Shape& z = t.shape();
            return transposed(t.reshaped({z[0], z[2], z[3], z[1]}), {0, 3, 1, 2});
          });
          replaced(1, "h w i o", "weights in memory as H x W x I x O", [](const Tensor& t) {
            const Shape& z = t.shape();
            return transposed(t.reshaped({z[2], z[3], z[1], z[0]}), {3, 2, 0, 1});
          });
        }
      }
    }
  }

  void gates() {
    if (!is({"LSTM", "GRU", "RNN"})) return;
    const int gates = n_.op == "LSTM" ? 4 : n_.op == "GRU" ? 3 : 1;
    // Which of ours stands where the standard has i, o, f, c (LSTM); z, r, h (GRU).
    const std::string ours = n_.op == "LSTM" ? "iofc" : "zrh";
    std::vector<int> order(static_cast<size_t>(gates));
    std::iota(order.begin(), order.end(), 0);
    if (is({"GRU"})) flag("linear_before_reset", 0);
    while (gates > 1 && std::next_permutation(order.begin(), order.end())) {
      std::string theirs;
      for (int k : order) theirs += ours[static_cast<size_t>(k)];
      const auto now = order;
      const std::string letters = fmt::format("{}", fmt::join(theirs, ", "));
      // `theirs`: the order they were read in; a gate's rows are where that order has it.
      add(fmt::format("gates {}", theirs), fmt::format("gates in the order {} instead of {}", letters, fmt::join(ours, ", ")),
          [now](Graph& g, size_t n) {
            const auto blocks = static_cast<int64_t>(now.size());
            std::vector<int> where(now.size());
            for (size_t k = 0; k < now.size(); ++k) where[static_cast<size_t>(now[k])] = static_cast<int>(k);
            for (size_t input = 1; input <= 3 && input < g.nodes[n].inputs.size(); ++input) {
              const ValueId old = g.nodes[n].inputs[input];
              if (old == kAbsent) continue;
              Value v = g.values[static_cast<size_t>(old)];
              if (!v.constant || v.constant->shape().at(1) % blocks != 0) continue;
              auto blocks_order = where;
              if (input == 3) {  // biases of the input's and of the state's products, one after the other
                for (int k : where) blocks_order.push_back(k + static_cast<int>(blocks));
              }
              v.constant = blocks_reordered(*v.constant, 1, blocks_order);
              v.name = fmt::format("{}/tried#{}", v.name, g.values.size());
              g.nodes[n].inputs[input] = g.add_value(std::move(v));
            }
          });
    }
    const std::string direction = n_.text("direction", "forward");
    if (direction == "forward") word("direction", "forward", {"reverse"});
    if (direction == "reverse") word("direction", "reverse", {"forward"});
  }

  void axes() {
    const int r = rank(0);
    if (r > 0 && r <= 8) {
      const int64_t last = -1;
      if (is({"Softmax", "LogSoftmax", "Hardmax"})) axis("axis", g_.version_of(n_) >= 13 ? last : 1, r);
      if (is({"Concat", "ArgMax", "ArgMin", "Gather", "GatherElements", "ScatterElements", "LpNormalization", "TopK", "Split"}))
        axis("axis", is({"TopK", "LpNormalization"}) ? -1 : 0, r);
      if (is({"LayerNormalization", "RMSNormalization"})) axis("axis", -1, r);
      if (is({"Flatten"})) axis("axis", 1, r + 1);
      if (is({"QuantizeLinear", "DequantizeLinear"})) axis("axis", 1, r);
      if (n_.op.starts_with("Reduce")) {
        const auto set = n_.integers("axes");
        const Tensor* c = constant(1);
        const auto now = !set.empty() ? set : c && c->rank() == 1 ? integers(*c) : std::vector<int64_t>();
        const auto plain = [&](int64_t a) { return a < 0 ? a + r : a; };
        for (int64_t first = 0; !now.empty() && first + static_cast<int64_t>(now.size()) <= r; ++first) {
          std::vector<int64_t> other(now.size());
          std::iota(other.begin(), other.end(), first);
          if (std::ranges::equal(now, other, {}, plain, plain)) continue;
          const std::string text = fmt::format("axes {} instead of {}", fmt::join(other, ", "), fmt::join(now, ", "));
          if (!set.empty()) {
            add(fmt::format("axes {}", fmt::join(other, ",")), text,
                [other](Graph& g, size_t n) { g.nodes[n].attributes["axes"].data = other; });
          } else {
            replaced(1, fmt::format("axes {}", fmt::join(other, ",")), text,
                     [other](const Tensor& t) { return narrow<int64_t>(t.dtype(), t.shape(), other); });
          }
        }
      }
      if (is({"CumSum"})) {
        flag("exclusive", 0);
        flag("reverse", 0);
      }
    }
    if (is({"Transpose"})) {
      const auto shape = shape_of(n_.inputs.at(0));
      auto perm = n_.integers("perm");
      const int ranks = shape ? static_cast<int>(shape->size()) : static_cast<int>(perm.size());
      if (ranks >= 2 && ranks <= 4) {
        if (perm.empty()) {
          for (int64_t i = ranks; i-- > 0;) perm.push_back(i);
        }
        std::vector<int64_t> other(static_cast<size_t>(ranks));
        std::iota(other.begin(), other.end(), 0);
        do {
          if (other != perm) attribute("perm", other, fmt::format("{}", fmt::join(other, ", ")), fmt::format("{}", fmt::join(perm, ", ")));
        } while (std::next_permutation(other.begin(), other.end()));
      }
    }
  }

  void words_and_flags() {
    if (is({"DepthToSpace"})) word("mode", "DCR", {"DCR", "CRD"});
    if (is({"GridSample"})) {
      flag("align_corners", 0);
      word("padding_mode", "zeros", {"zeros", "border", "reflection"});
      word("mode", "linear", {"linear", "nearest", "cubic"});
    }
    if (is({"RoiAlign"})) {
      word("coordinate_transformation_mode", "half_pixel", {"half_pixel", "output_half_pixel"});
      word("mode", "avg", {"avg", "max"});
    }
    if (is({"RotaryEmbedding"})) flag("interleaved", 0);
    if (is({"Attention"})) flag("is_causal", 0);
  }

  void numbers() {
    if (is({"LeakyRelu"})) real("alpha", 0.01, {0.01, 0.1, 0.2, 0.3, 0.05});
    if (is({"Elu", "ThresholdedRelu", "Celu"})) real("alpha", 1, {1.0});
    if (is({"HardSigmoid"})) real("alpha", 0.2, {0.2, 1 / 6.0});
    if (is({"Selu"})) {
      real("alpha", 1.67326319217681884765625, {1.67326319217681884765625});
      real("gamma", 1.05070102214813232421875, {1.05070102214813232421875});
    }
    if (is({"LRN"})) {
      const auto size = static_cast<double>(n_.integer("size", 1)), alpha = static_cast<double>(n_.real("alpha", 1e-4F));
      real("alpha", 1e-4, {alpha * size, alpha / size, 1e-4});
      real("bias", 1, {1.0, 2.0});
    }
    if (is({"Attention"})) real("scale", 0, {1.0});
    if (is({"Clip"})) {
      if (const Tensor* c = constant(2); c && c->size() == 1 && is_float(c->dtype())) {
        const double now = widen<double>(*c)[0];
        for (double v : {6.0, 1.0, 20.0}) {
          if (v != now)
            replaced(2, fmt::format("max {:g}", v), fmt::format("max {:g} instead of {:g}", v, now),
                     [v](const Tensor& t) { return narrow<double>(t.dtype(), t.shape(), std::vector<double>{v}); });
        }
      }
    }
  }

  // What is flattened was channels-last where it was trained.
  void layouts() {
    if (!is({"Flatten", "Reshape"})) return;
    const auto in = shape_of(n_.inputs.at(0)), out = shape_of(n_.outputs.at(0));
    if (rank(0) != 4 || (in && out && out->size() != 2)) return;
    if (in && ((*in)[1] == 1 || (*in)[2] * (*in)[3] == 1)) return;
    add("channels last", "flattened in channels-last order", [](Graph& g, size_t n) {
      const ValueId x = g.nodes[n].inputs[0];
      const ValueId turned = append(g, "Transpose", {x}, g.values[static_cast<size_t>(x)].dtype);
      g.nodes.back().attributes["perm"].data = std::vector<int64_t>{0, 2, 3, 1};
      g.nodes[n].inputs[0] = turned;
    });
  }

  void operands() {
    if (is({"BatchNormalization"})) {
      add("mean and variance", "mean and variance swapped",
          [](Graph& g, size_t n) { std::swap(g.nodes[n].inputs.at(3), g.nodes[n].inputs.at(4)); });
      add("scale and bias", "scale and bias swapped",
          [](Graph& g, size_t n) { std::swap(g.nodes[n].inputs.at(1), g.nodes[n].inputs.at(2)); });
    }
    if (is({"Sub", "Div"}) && n_.inputs.size() == 2)
      add("operands", "operands swapped", [](Graph& g, size_t n) { std::swap(g.nodes[n].inputs[0], g.nodes[n].inputs[1]); });
    if (is({"Concat"}) && n_.inputs.size() == 2)
      add("order", "parts in the other order", [](Graph& g, size_t n) { std::swap(g.nodes[n].inputs[0], g.nodes[n].inputs[1]); });
    if (is({"Split"}) && n_.outputs.size() == 2)
      add("order", "parts in the other order", [](Graph& g, size_t n) { std::swap(g.nodes[n].outputs[0], g.nodes[n].outputs[1]); });
  }

  const Graph& g_;
  const Node& n_;
  std::vector<NodeChange> out_;
};

}  // namespace

Tensor transposed(const Tensor& t, const std::vector<int64_t>& order) {
  Graph g;
  g.opsets[""] = 13;
  Node n;
  n.op = "Transpose";
  n.attributes["perm"].data = order;
  Value in, out;
  in.name = "x", out.name = "y";
  n.inputs = {g.add_value(in)};
  n.outputs = {g.add_value(out)};
  g.nodes.push_back(n);
  return evaluate_node(g, g.nodes[0], std::span(&t, 1)).at(0);
}

std::vector<NodeChange> changes_of(const Graph& graph, size_t node) { return Changes(graph, node).all(); }

void fold_constants(Graph& graph) {
  std::vector<Node> kept;
  for (Node& n : graph.nodes) {
    const OpDef* def = find_op(n.domain, n.op, graph.version_of(n));
    const auto is_constant = [&](ValueId v) { return v == kAbsent || graph.values[static_cast<size_t>(v)].constant.has_value(); };
    const bool folds = def != nullptr && def->pure && !n.has_subgraphs() && std::ranges::all_of(n.inputs, is_constant) &&
                       std::ranges::none_of(n.outputs, [&](ValueId v) {
                         return v != kAbsent && std::ranges::find(graph.outputs, v) != graph.outputs.end();
                       });
    if (!folds) {
      kept.push_back(std::move(n));
      continue;
    }
    std::vector<Tensor> inputs;
    for (ValueId v : n.inputs) inputs.push_back(v == kAbsent ? Tensor() : *graph.values[static_cast<size_t>(v)].constant);
    auto results = evaluate_node(graph, n, inputs);
    if (std::ranges::any_of(results, &Tensor::composite)) {
      kept.push_back(std::move(n));
      continue;
    }
    for (size_t i = 0; i < n.outputs.size() && i < results.size(); ++i) {
      if (n.outputs[i] == kAbsent) continue;
      Value& v = graph.values[static_cast<size_t>(n.outputs[i])];
      v.dtype = results[i].dtype();
      v.dims = Dims(results[i].shape().begin(), results[i].shape().end());
      v.constant = std::move(results[i]);
    }
  }
  graph.nodes = std::move(kept);
}

}  // namespace lathe::parting
