// Recurrent layers that exporters wrote out step by step, in products, gates and elementwise ops.
#include <fmt/format.h>

#include <algorithm>
#include <cstring>
#include <map>

#include "passes/patterns.hpp"

namespace lathe::passes {
namespace {

using Attributes = std::map<std::string, Attribute>;
using Ints = std::vector<int64_t>;

// x times columns [from, to) of rows [row, row + width of x) of a constant matrix, or of its transpose.
struct Term {
  ValueId x = kAbsent, weights = kAbsent;
  bool transposed = false;
  int64_t row = 0, from = 0, to = 0;
};

// Whether two terms multiply by the same numbers; some exporters write them once for each step.
bool same_weights(const Rewriter& r, const Term& a, const Term& b) {
  if (a.transposed != b.transposed || a.row != b.row || a.from != b.from || a.to != b.to) return false;
  if (a.weights == b.weights) return true;
  const Tensor &x = *r.constant(a.weights), &y = *r.constant(b.weights);
  return x.shape() == y.shape() && std::memcmp(x.data(), y.data(), x.byte_size()) == 0;
}

// A sum of such terms and constant vectors.
struct Linear {
  std::vector<Term> terms;
  std::vector<float> bias;  // to - from, or empty: none
  std::vector<int> nodes;
};

bool add_bias(const Rewriter& r, ValueId v, int64_t from, int64_t to, Linear& out) {
  const Tensor* t = r.constant(v);
  if (!t || t->dtype() != DType::f32 || t->rank() == 0 || t->size() != t->shape().back() || t->size() < to) return false;
  if (out.bias.empty()) out.bias.assign(static_cast<size_t>(to - from), 0);
  for (int64_t i = from; i < to; ++i) out.bias[static_cast<size_t>(i - from)] += t->as<float>()[i];
  return true;
}

bool add_term(const Rewriter& r, ValueId x, ValueId weights, bool transposed, int64_t row, int64_t from, int64_t to, Linear& out) {
  const auto dims = r.graph_dims(x);
  if (!dims || dims->size() != 2 || r.dtype(x) != DType::f32) return false;
  // Two inputs that were put side by side for one product.
  const int joined = r.maker(x, "Concat");
  if (joined >= 0 && (r.node(joined).integer("axis", 0) == 1 || r.node(joined).integer("axis", 0) == -1)) {
    for (ValueId part : r.node(joined).inputs) {
      const auto d = r.graph_dims(part);
      if (!d || d->size() != 2 || !d->back().known()) return false;
      if (!add_term(r, part, weights, transposed, row, from, to, out)) return false;
      row += d->back().value;
    }
    out.nodes.push_back(joined);
    return true;
  }
  if (!dims->back().known()) return false;
  out.terms.push_back({x, weights, transposed, row, from, to});
  return true;
}

// Columns [from, to) of v.
bool add_linear(const Rewriter& r, ValueId v, int64_t from, int64_t to, Linear& out, int depth = 0) {
  if (depth > 8) return false;
  if (const auto part = part_of(r, v)) {
    out.nodes.push_back(part->node);
    return to <= part->to - part->from && add_linear(r, part->x, part->from + from, part->from + to, out, depth + 1);
  }
  const int n = r.producer(v);
  if (n < 0 || !r.node(n).domain.empty()) return false;
  const Node& node = r.node(n);
  out.nodes.push_back(n);
  if (node.op == "Add") {
    for (ValueId in : node.inputs) {
      if (r.constant(in) ? !add_bias(r, in, from, to, out) : !add_linear(r, in, from, to, out, depth + 1)) return false;
    }
    return true;
  }
  if (node.op != "MatMul" && node.op != "Gemm") return false;
  const Tensor* w = r.constant(node.inputs[1]);
  const bool transposed = node.integer("transB", 0) != 0;
  if (!w || w->rank() != 2 || w->dtype() != DType::f32 || to > w->shape()[transposed ? 0 : 1]) return false;
  if (node.op == "Gemm") {
    if (node.real("alpha", 1) != 1 || node.real("beta", 1) != 1 || node.integer("transA", 0) != 0) return false;
    if (node.inputs.size() > 2 && node.inputs[2] != kAbsent && !add_bias(r, node.inputs[2], from, to, out)) return false;
  }
  return add_term(r, node.inputs[0], node.inputs[1], transposed, 0, from, to, out);
}

std::optional<Linear> linear(const Rewriter& r, ValueId v, int64_t width) {
  Linear out;
  return add_linear(r, v, 0, width, out) ? std::optional(out) : std::nullopt;
}

// [columns][width of x] of a term, appended.
void put(const Rewriter& r, const Term& t, int64_t depth, bool negative, std::vector<float>& to) {
  const Tensor& w = *r.constant(t.weights);
  const int64_t columns = w.shape()[1];
  for (int64_t c = t.from; c < t.to; ++c) {
    for (int64_t i = t.row; i < t.row + depth; ++i) {
      const float f = w.as<float>()[t.transposed ? c * columns + i : i * columns + c];
      to.push_back(negative ? -f : f);
    }
  }
}

// Both ways round of a node of two inputs.
template <typename F>
bool either(const Rewriter& r, int n, F f) {
  if (n < 0 || r.node(n).inputs.size() != 2) return false;
  const auto& in = r.node(n).inputs;
  return f(in[0], in[1]) || f(in[1], in[0]);
}

struct Gate {
  Linear sum;
  bool negative = false;
};

// A cell found in a graph, before it is known which of its two inputs is the state.
struct Cell {
  bool lstm = true, after = false;  // after: the reset gate acts on what the state's product gives
  int last = -1, carry = -1;        // nodes that make the new state, and (lstm) what is carried beside it
  ValueId state = kAbsent;          // gru: known at once
  ValueId carried = kAbsent;
  std::vector<Gate> gates;       // lstm: i o f c; gru: z r h
  std::vector<float> late_bias;  // gru, after: of the candidate's state product
  std::vector<int> inside;
  int64_t hidden = 0;
  ValueId x = kAbsent, h = kAbsent;
};

int64_t width_of(const Rewriter& r, ValueId v) {
  const auto& d = r.graph_dims(v);
  return d && d->size() == 2 && d->back().known() && r.dtype(v) == DType::f32 ? d->back().value : 0;
}

std::optional<Linear> gate(const Rewriter& r, ValueId v, const char* function, int64_t width, std::vector<int>& inside) {
  const int n = r.maker(v, function);
  if (n < 0) return std::nullopt;
  inside.push_back(n);
  return linear(r, r.node(n).inputs[0], width);
}

std::optional<Cell> lstm_at(const Rewriter& r, int n) {
  if (r.node(n).op != "Mul") return std::nullopt;
  Cell c;
  c.last = n;
  c.hidden = width_of(r, r.node(n).outputs[0]);
  if (c.hidden == 0) return std::nullopt;
  const bool found = either(r, n, [&](ValueId o, ValueId t) {
    const int tanh = r.maker(t, "Tanh");
    const int add = tanh < 0 ? -1 : r.maker(r.node(tanh).inputs[0], "Add");
    if (add < 0) return false;
    return either(r, add, [&](ValueId keep, ValueId fresh) {
      return either(r, r.maker(fresh, "Mul"), [&](ValueId i, ValueId g) {
        return either(r, r.maker(keep, "Mul"), [&](ValueId f, ValueId before) {
          Cell found = c;
          found.inside = {n, tanh, add, r.maker(fresh, "Mul"), r.maker(keep, "Mul")};
          const auto in = gate(r, i, "Sigmoid", c.hidden, found.inside), out = gate(r, o, "Sigmoid", c.hidden, found.inside),
                     forget = gate(r, f, "Sigmoid", c.hidden, found.inside), candidate = gate(r, g, "Tanh", c.hidden, found.inside);
          if (!in || !out || !forget || !candidate || width_of(r, before) != c.hidden) return false;
          found.gates = {{*in}, {*out}, {*forget}, {*candidate}};
          found.carry = add;
          found.carried = before;
          c = std::move(found);
          return true;
        });
      });
    });
  });
  return found ? std::optional(c) : std::nullopt;
}

// z, from z or 1 - z.
std::optional<std::pair<ValueId, bool>> mixing_gate(const Rewriter& r, ValueId v) {
  if (r.maker(v, "Sigmoid") >= 0) return std::pair{v, false};
  const int sub = r.maker(v, "Sub");
  if (sub >= 0 && r.is_scalar(r.node(sub).inputs[0], 1) && r.maker(r.node(sub).inputs[1], "Sigmoid") >= 0)
    return std::pair{r.node(sub).inputs[1], true};
  return std::nullopt;
}

std::optional<Cell> gru_at(const Rewriter& r, int n) {
  const Node& node = r.node(n);
  if (node.op != "Add") return std::nullopt;
  Cell c;
  c.lstm = false;
  c.last = n;
  c.hidden = width_of(r, node.outputs[0]);
  if (c.hidden == 0) return std::nullopt;
  // h' = z h + (1 - z) n, with z either of the two, or n + z (h - n).
  ValueId z = kAbsent, h = kAbsent, candidate = kAbsent;
  bool negative = false;
  const bool mixed = either(r, n, [&](ValueId a, ValueId b) {
    if (const int part = r.maker(b, "Mul"); part >= 0) {
      const bool joined = either(r, part, [&](ValueId g, ValueId difference) {
        const int sub = r.maker(difference, "Sub");
        if (sub < 0 || r.maker(g, "Sigmoid") < 0 || r.node(sub).inputs[1] != a) return false;
        // a + g (d - a): whichever of a and d is a tanh is the candidate.
        const ValueId d = r.node(sub).inputs[0];
        if ((r.maker(a, "Tanh") >= 0) == (r.maker(d, "Tanh") >= 0)) return false;
        negative = r.maker(d, "Tanh") >= 0;
        z = g, candidate = negative ? d : a, h = negative ? a : d;
        c.inside = {n, part, sub};
        return true;
      });
      if (joined) return true;
    }
    const int keep = r.maker(a, "Mul"), fresh = r.maker(b, "Mul");
    if (keep < 0 || fresh < 0) return false;
    return either(r, keep, [&](ValueId g1, ValueId state) {
      return either(r, fresh, [&](ValueId g2, ValueId t) {
        const auto m1 = mixing_gate(r, g1), m2 = mixing_gate(r, g2);
        if (!m1 || !m2 || m1->first != m2->first || m1->second == m2->second || r.maker(t, "Tanh") < 0) return false;
        z = m1->first, negative = m1->second, h = state, candidate = t;
        c.inside = {n, keep, fresh, r.producer(m1->second ? g1 : g2)};
        return true;
      });
    });
  });
  if (!mixed || width_of(r, h) != c.hidden) return std::nullopt;
  c.state = h;
  const auto mix = gate(r, z, "Sigmoid", c.hidden, c.inside);
  if (!mix) return std::nullopt;
  const int tanh = r.maker(candidate, "Tanh");
  c.inside.push_back(tanh);
  const ValueId sum = r.node(tanh).inputs[0];
  // The reset gate on the state's product: its bias stays apart.
  std::optional<Linear> reset, fresh;
  const bool after = either(r, r.maker(sum, "Add"), [&](ValueId part, ValueId mul) {
    return either(r, r.maker(mul, "Mul"), [&](ValueId g, ValueId product) {
      std::vector<int> inside;
      const auto on = gate(r, g, "Sigmoid", c.hidden, inside), of_state = linear(r, product, c.hidden),
                 of_input = linear(r, part, c.hidden);
      if (!on || !of_state || !of_input || of_state->terms.size() != 1 || of_state->terms[0].x != h || of_input->terms.size() != 1)
        return false;
      reset = on;
      fresh = of_input;
      fresh->terms.push_back(of_state->terms[0]);
      c.late_bias = of_state->bias;
      c.inside.insert(c.inside.end(), inside.begin(), inside.end());
      c.inside.insert(c.inside.end(), of_state->nodes.begin(), of_state->nodes.end());
      c.inside.insert(c.inside.end(), {r.maker(sum, "Add"), r.maker(mul, "Mul")});
      return true;
    });
  });
  c.after = after;
  if (!after) {
    fresh = linear(r, sum, c.hidden);
    if (!fresh || fresh->terms.size() != 2) return std::nullopt;
    for (Term& t : fresh->terms) {
      const int mul = r.maker(t.x, "Mul");
      either(r, mul, [&](ValueId g, ValueId state) {
        if (state != h || reset) return false;
        reset = gate(r, g, "Sigmoid", c.hidden, c.inside);
        if (!reset) return false;
        t.x = h;
        c.inside.push_back(mul);
        return true;
      });
    }
    if (!reset) return std::nullopt;
  }
  c.gates = {{*mix, negative}, {*reset}, {*fresh}};
  return c;
}

// Each gate must read the same two values; puts the state's term second.
bool settle(const Rewriter& r, Cell& c, ValueId h) {
  for (Gate& g : c.gates) {
    auto& t = g.sum.terms;
    if (t.size() != 2) return false;
    if (t[0].x == h) std::swap(t[0], t[1]);
    if (t[1].x != h || t[0].x == h || (c.x != kAbsent && t[0].x != c.x)) return false;
    c.x = t[0].x;
    // Rows of the weights must be there for what they multiply.
    for (const Term& term : t) {
      const Tensor& w = *r.constant(term.weights);
      if (term.row + width_of(r, term.x) > w.shape()[term.transposed ? 1 : 0] || width_of(r, term.x) == 0) return false;
    }
  }
  c.h = h;
  // Nothing may be broadcast: a layer wants the same batch everywhere.
  const Dim batch = r.graph_dims(h)->front();
  const auto agrees = [&](ValueId v) { return v == kAbsent || r.graph_dims(v)->front() == batch; };
  return width_of(r, h) == c.hidden && (batch.known() || !batch.symbol.empty()) && agrees(c.x) && agrees(c.carried);
}

// Which of an LSTM's two inputs is the state: what another cell made, or what has the same weights as in the cell that follows.
ValueId state_of(const Rewriter& r, const Cell& c, const std::vector<Cell>& all) {
  if (c.state != kAbsent) return c.state;
  const auto& terms = c.gates[0].sum.terms;
  if (terms.size() != 2) return kAbsent;
  for (const Term& t : terms) {
    if (std::ranges::any_of(all, [&](const Cell& o) { return r.node(o.last).outputs[0] == t.x; })) return t.x;
  }
  const ValueId made = r.node(c.last).outputs[0];
  for (const Cell& o : all) {
    for (const Term& theirs : o.gates[0].sum.terms) {
      if (theirs.x != made) continue;
      for (const Term& mine : terms) {
        if (same_weights(r, mine, theirs)) return mine.x;
      }
    }
  }
  // Else either will do, if it is as wide as the state: the later one, as exporters write it.
  return width_of(r, terms[1].x) == c.hidden ? terms[1].x : terms[0].x;
}

// Weights in the order of a layer's op. Cells of a row have them from the same constants: they are made once.
struct Weights {
  std::vector<Term> terms;  // what they are made of
  std::vector<bool> negative;
  std::vector<float> bias;
  ValueId w = kAbsent, r = kAbsent, b = kAbsent;
};

const Weights& weights_of(Rewriter& r, const Cell& c, std::vector<Weights>& made) {
  const int64_t h = c.hidden, gates = static_cast<int64_t>(c.gates.size());
  Weights wanted;
  wanted.bias.assign(static_cast<size_t>(2 * gates * h), 0);
  for (int64_t g = 0; g < gates; ++g) {
    const Gate& gate = c.gates[static_cast<size_t>(g)];
    wanted.terms.insert(wanted.terms.end(), gate.sum.terms.begin(), gate.sum.terms.end());
    wanted.negative.push_back(gate.negative);
    for (size_t i = 0; i < gate.sum.bias.size(); ++i)
      wanted.bias[static_cast<size_t>(g * h) + i] = gate.negative ? -gate.sum.bias[i] : gate.sum.bias[i];
  }
  for (size_t i = 0; i < c.late_bias.size(); ++i) wanted.bias[static_cast<size_t>((gates + 2) * h) + i] = c.late_bias[i];
  for (const Weights& w : made) {
    const bool same = w.negative == wanted.negative && w.bias == wanted.bias &&
                      std::ranges::equal(w.terms, wanted.terms, [&](const Term& a, const Term& b) { return same_weights(r, a, b); });
    if (same) return w;
  }
  const int64_t in = width_of(r, c.x);
  std::vector<float> input, state;
  for (const Gate& gate : c.gates) {
    put(r, gate.sum.terms[0], in, gate.negative, input);
    put(r, gate.sum.terms[1], h, gate.negative, state);
  }
  const std::string name = r.graph().values[r.node(c.last).outputs[0]].name;
  wanted.w = r.add_constant(name + ".W", Tensor::from<float>({1, gates * h, in}, input));
  wanted.r = r.add_constant(name + ".R", Tensor::from<float>({1, gates * h, h}, state));
  wanted.b = r.add_constant(name + ".B", Tensor::from<float>({1, 2 * gates * h}, wanted.bias));
  made.push_back(std::move(wanted));
  return made.back();
}

void write_cell(Rewriter& r, Cell& c, std::vector<Weights>& made) {
  const Weights w = weights_of(r, c, made);
  for (const Gate& g : c.gates) c.inside.insert(c.inside.end(), g.sum.nodes.begin(), g.sum.nodes.end());
  const ValueId front = r.add_constant(r.graph().values[r.node(c.last).outputs[0]].name + ".front", Tensor::from<int64_t>({1}, Ints{0}));
  const int at = c.lstm ? c.carry : c.last;
  const Dim batch = r.graph_dims(c.h)->front();
  const auto lifted = [&](ValueId v) {
    return r.before(at, "Unsqueeze", 13, {v, front}, {}, DType::f32, Dims{Dim(1), batch, r.graph_dims(v)->back()});
  };
  std::vector<ValueId> inputs{lifted(c.x), w.w, w.r, w.b, kAbsent, lifted(c.h)};
  Attributes a;
  a["hidden_size"].data = c.hidden;
  const Dims state{Dim(1), batch, Dim(c.hidden)};
  std::vector<std::optional<Dims>> outputs{std::nullopt, state};
  if (c.lstm) {
    inputs.push_back(lifted(c.carried));
    outputs.emplace_back(state);
  } else if (c.after) {
    a["linear_before_reset"].data = int64_t{1};
  }
  const auto out = r.before(at, c.lstm ? "LSTM" : "GRU", 14, std::move(inputs), std::move(a), DType::f32, outputs);
  // Both or none.
  if (c.lstm && !r.become(c.carry, "Squeeze", 13, {out[2], front}, {}, {})) return;
  r.become(c.last, "Squeeze", 13, {out[1], front}, {}, c.inside);
}

// ---- cells in a row ----

bool one_step(const Graph& g, const Node& n) {
  const size_t states = n.op == "LSTM" ? 2 : 1;
  if (!n.domain.empty() || (n.op != "LSTM" && n.op != "GRU") || n.inputs.size() != 5 + states || n.outputs.size() != 1 + states)
    return false;
  for (size_t i = 0; i < n.inputs.size(); ++i) {
    if ((n.inputs[i] == kAbsent) != (i == 4)) return false;
  }
  for (size_t i = 0; i < n.outputs.size(); ++i) {
    if ((n.outputs[i] == kAbsent) != (i == 0)) return false;
  }
  for (const auto& [key, attribute] : n.attributes) {
    if (key != "hidden_size" && key != "linear_before_reset") return false;
  }
  const auto& d = g.values[n.inputs[0]].dims;
  return d && d->size() == 3 && (*d)[0] == Dim(1);
}

bool is_lift(const Node& n) { return n.domain.empty() && (n.op == "Squeeze" || n.op == "Unsqueeze"); }

// The first row of one-step layers that share their weights and hand their state on, while no input needs the state of an earlier step.
std::vector<int> row_of_cells(const Graph& g) {
  const auto made = g.producers();
  const auto readers = g.consumers();
  // A state goes through a Squeeze and an Unsqueeze between two steps.
  const auto unlifted = [&](ValueId v) {
    while (v != kAbsent && made[v] >= 0 && is_lift(g.nodes[made[v]])) v = g.nodes[made[v]].inputs[0];
    return v;
  };
  std::map<ValueId, int> by_state;
  std::map<int, int> next;
  std::vector<int> cells;
  std::vector<bool> follows(g.nodes.size(), false);
  for (int n = 0; n < static_cast<int>(g.nodes.size()); ++n) {
    const Node& node = g.nodes[n];
    if (!one_step(g, node)) continue;
    cells.push_back(n);
    const auto it = by_state.find(unlifted(node.inputs[5]));
    by_state[node.outputs[1]] = n;
    if (it == by_state.end() || next.contains(it->second)) continue;
    const Node& earlier = g.nodes[it->second];
    const bool same = earlier.op == node.op && std::equal(node.inputs.begin() + 1, node.inputs.begin() + 4, earlier.inputs.begin() + 1) &&
                      earlier.integer("linear_before_reset", 0) == node.integer("linear_before_reset", 0);
    if (!same || (node.op == "LSTM" && unlifted(node.inputs[6]) != earlier.outputs[2])) continue;
    next[it->second] = n;
    follows[n] = true;
  }
  for (int first : cells) {
    if (follows[first] || !next.contains(first)) continue;
    std::vector<int> row{first};
    while (next.contains(row.back())) row.push_back(next[row.back()]);
    std::vector<bool> later(g.values.size(), false);  // needs the state of a step
    for (int n = first; n < static_cast<int>(g.nodes.size()); ++n) {
      const auto needs = [&](ValueId v) { return v != kAbsent && later[v]; };
      const Node& node = g.nodes[n];
      const bool cell = std::ranges::find(row, n) != row.end();
      if (!cell && std::ranges::none_of(node.inputs, needs) &&
          std::ranges::none_of(node.captures, [&](const Capture& c) { return needs(c.value); }))
        continue;
      for (ValueId v : node.outputs) {
        if (v != kAbsent) later[v] = true;
      }
    }
    // What an LSTM carries beside its state is not given for each step: nobody but the next step may read it.
    const auto onward = [&](ValueId carried) {
      std::vector<ValueId> open{carried};
      for (size_t i = 0; i < open.size(); ++i) {
        if (std::ranges::find(g.outputs, open[i]) != g.outputs.end()) return false;
        for (int reader : readers[open[i]]) {
          if (is_lift(g.nodes[reader])) open.push_back(g.nodes[reader].outputs[0]);
          else if (std::ranges::find(row, reader) == row.end()) return false;
        }
      }
      return true;
    };
    bool fits = std::ranges::none_of(row, [&](int n) { return later[g.nodes[n].inputs[0]]; });
    for (size_t i = 0; fits && i + 1 < row.size() && g.nodes[first].op == "LSTM"; ++i) fits = onward(g.nodes[row[i]].outputs[2]);
    if (fits) return row;
  }
  return {};
}

// One layer in place of the row; the cells are left without readers.
std::string join_row(Graph& g, const std::vector<int>& row) {
  const auto steps = static_cast<int64_t>(row.size());
  const Node first = g.nodes[row.front()];
  const auto add_value = [&](const std::string& suffix, DType dtype, Dims dims) {
    Value v;
    v.name = first.name + suffix;
    for (int i = 2; g.find_value(v.name) != kAbsent; ++i) v.name = fmt::format("{}{}.{}", first.name, suffix, i);
    v.dtype = dtype;
    v.dims = std::move(dims);
    return g.add_value(std::move(v));
  };
  const auto add_integers = [&](const std::string& suffix, const Ints& values) {
    const ValueId v = add_value(suffix, DType::i64, Dims{Dim(static_cast<int64_t>(values.size()))});
    g.values[v].constant = Tensor::from<int64_t>({static_cast<int64_t>(values.size())}, values);
    return v;
  };
  const auto add_node = [&](const std::string& op, const std::string& suffix, std::vector<ValueId> inputs) {
    Node n;
    n.op = op;
    n.name = first.name + suffix;
    n.version = 13;
    n.inputs = std::move(inputs);
    return n;
  };
  const Dims xs = *g.values[first.inputs[0]].dims, state = *g.values[first.outputs[1]].dims;
  Node join = add_node("Concat", ".inputs", {});
  join.attributes["axis"].data = int64_t{0};
  for (int n : row) join.inputs.push_back(g.nodes[n].inputs[0]);
  join.outputs = {add_value(".inputs", DType::f32, Dims{Dim(steps), xs[1], xs[2]})};
  Node layer = first;
  layer.inputs[0] = join.outputs[0];
  layer.outputs = g.nodes[row.back()].outputs;
  layer.outputs[0] = add_value(".states", DType::f32, Dims{Dim(steps), state[0], state[1], state[2]});
  Node split = add_node("Split", ".split", {layer.outputs[0], add_integers(".ones", Ints(row.size(), 1))});
  split.attributes["axis"].data = int64_t{0};
  const ValueId front = add_integers(".first", {0});
  std::vector<Node> added{std::move(join), std::move(layer)};
  for (size_t i = 0; i < row.size(); ++i) {
    split.outputs.push_back(add_value(".state", DType::f32, Dims{Dim(1), state[0], state[1], state[2]}));
    auto& outputs = g.nodes[row[i]].outputs;
    if (i + 1 < row.size()) {
      added.push_back(add_node("Squeeze", fmt::format(".state.{}", i), {split.outputs.back(), front}));
      added.back().outputs = {outputs[1]};
      outputs[1] = kAbsent;
    } else {
      outputs.assign(outputs.size(), kAbsent);
    }
  }
  added.push_back(std::move(split));
  const ValueId states = added[1].outputs[0];
  for (Node& n : added) g.nodes.push_back(std::move(n));
  g.sort();
  remove_dead(g);
  if (g.consumers()[states].empty()) {  // nobody reads the states between
    for (Node& n : g.nodes) std::ranges::replace(n.outputs, states, kAbsent);
  }
  return fmt::format("{} {} in a row are one of {} steps, {}", steps, first.op, steps, first.name);
}

}  // namespace

Report recurrent_cells(Graph& graph) {
  Rewriter r(graph, "recognise patterns");
  std::vector<Cell> cells;
  for (int n = 0; n < static_cast<int>(graph.nodes.size()); ++n) {
    const Node& node = graph.nodes[n];
    if (!node.domain.empty() || node.outputs.empty() || node.outputs[0] == kAbsent || (node.op != "Mul" && node.op != "Add")) continue;
    auto cell = node.op == "Mul" ? lstm_at(r, n) : gru_at(r, n);
    if (cell) cells.push_back(std::move(*cell));
  }
  std::vector<Cell> settled;
  for (const Cell& c : cells) {
    Cell s = c;
    if (settle(r, s, state_of(r, c, cells))) settled.push_back(std::move(s));
  }
  std::vector<Weights> made;
  for (Cell& c : settled) write_cell(r, c, made);
  Report report = r.finish();
  if (!settled.empty()) remove_dead(graph);
  for (auto row = row_of_cells(graph); !row.empty(); row = row_of_cells(graph)) report.changes.push_back(join_row(graph, row));
  return report;
}

}  // namespace lathe::passes
