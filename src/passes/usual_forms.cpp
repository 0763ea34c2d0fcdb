// Ops in forms that no step is written for, as ops in forms that one is: along the last axis between two transposes, products for sums over
// letters, recurrent layers with the steps first. Only in f32, and where f64 has steps for what
// they are made of.
#include <algorithm>
#include <cctype>
#include <limits>
#include <map>
#include <numeric>
#include <set>

#include "base/fail.hpp"
#include "lathe/op.hpp"
#include "ops/support.hpp"
#include "passes/node_writer.hpp"

namespace lathe::passes {
namespace {

class UsualForms : public NodeWriter {
 public:
  using NodeWriter::NodeWriter;

  std::string operator()(Node& n) { return n.domain.empty() && wanted(n) ? rewritten(n) : ""; }

 private:
  static bool wanted(const Node& n) {
    static const std::set<std::string_view> kOps{"Softmax", "LogSoftmax", "ArgMax", "ArgMin", "TopK", "ReduceLogSumExp", "Einsum",
                                                 "Gemm",    "LSTM",       "GRU",    "RNN",    "LRN",  "LpPool",          "LpNormalization",
                                                 "Trilu",   "OneHot"};
    return kOps.contains(n.op);
  }
  bool is_f32(ValueId v) const { return v != kAbsent && graph_.values[v].dtype == DType::f32; }
  // Gives "" and leaves the node alone, or says what it did.
  std::string rewritten(Node& n) {
    if (n.op == "Trilu") return triangle(n);
    if (n.op == "OneHot") return one_hot(n);
    if (n.inputs.empty() || !rank(n.inputs[0])) return "";
    if (const DType d = dtype(n.inputs[0]); n.op == "TopK" && (d == DType::i32 || d == DType::i64)) {
      type_ = d;
      return along_last(n);
    }
    type_ = dtype(n.inputs[0]) == DType::f64 ? DType::f64 : DType::f32;
    if (dtype(n.inputs[0]) != type_) return "";
    if (n.op == "Einsum") return einsum(n);
    if (n.op == "LRN") return across_channels(n);
    if (n.op == "LpPool") return power_pool(n);
    if (n.op == "LpNormalization") return by_length(n);
    if (type_ != DType::f32) return "";
    if (n.op == "Gemm") return gemm(n);
    if (n.op == "LSTM" || n.op == "GRU" || n.op == "RNN") return recurrent(n);
    if (n.op == "ReduceLogSumExp") return log_sum_exp(n);
    return along_last(n);
  }

  ValueId turn(const Node& of, ValueId v, const List& order, ValueId to = kAbsent, DType dtype = DType::undefined) {
    return put(of, "Transpose", 13, {v}, {{"perm", attribute(order)}}, to, dtype);
  }
  static List inverse(const List& order) {
    List back(order.size());
    for (size_t i = 0; i < order.size(); ++i) back[static_cast<size_t>(order[i])] = static_cast<int64_t>(i);
    return back;
  }

  // The axis is moved to the end, and back in what keeps it.
  std::string along_last(Node& n) {
    const int64_t rank = *this->rank(n.inputs[0]), version = graph_.version_of(n);
    const bool soft = n.op.ends_with("Softmax");
    if (rank < 2 || (soft && version < 13) || (n.op == "TopK" && version < 10)) return "";
    const int64_t axis = ops::wrap_axis(n.integer("axis", soft || n.op == "TopK" ? -1 : 0), rank);
    // Channels that are next to one another in memory have a step of their own.
    if (axis == rank - 1 || (soft && axis == 1 && rank > 2)) return "";
    List order(static_cast<size_t>(rank));
    std::iota(order.begin(), order.end(), 0);
    order.erase(order.begin() + axis);
    order.push_back(axis);
    const bool keeps = soft || n.op == "TopK" || n.integer("keepdims", 1) != 0;
    Node main = n;
    main.inputs[0] = turn(n, n.inputs[0], order);
    main.attributes["axis"] = attribute(rank - 1);
    std::vector<std::pair<ValueId, ValueId>> back;
    for (ValueId& v : main.outputs) {
      if (v == kAbsent || !keeps) continue;
      const ValueId turned = add(graph_.values[v].name + ".turned", graph_.values[v].dtype);
      back.emplace_back(turned, v);
      v = turned;
    }
    out_.push_back(std::move(main));
    for (const auto& [from, to] : back) turn(n, from, inverse(order), to, graph_.values[to].dtype);
    return fmt::format("axis {} of {} is moved to the end", axis, rank);
  }

  // log(sum(exp(x - m))) + m, with m the largest; infinities come out as they go in.
  std::string log_sum_exp(const Node& n) {
    const auto axes = reduced_axes(n);
    if (!axes || axes->empty()) return "";
    const auto reduce = [&](const char* op, ValueId v) {
      if (std::string_view(op) == "ReduceSum")
        return put(n, op, 13, {v, integers(n.name + ".axes", *axes)}, {{"keepdims", attribute(int64_t{1})}});
      return put(n, op, 13, {v}, {{"axes", attribute(*axes)}, {"keepdims", attribute(int64_t{1})}});
    };
    constexpr float kMost = std::numeric_limits<float>::max();
    const ValueId most = put(n, "Clip", 13,
                             {reduce("ReduceMax", n.inputs[0]), constant(n.name + ".low", Tensor::from<float>({}, {-kMost})),
                              constant(n.name + ".high", Tensor::from<float>({}, {kMost}))});
    const ValueId sum = reduce("ReduceSum", put(n, "Exp", 13, {put(n, "Sub", 14, {n.inputs[0], most})}));
    const bool keeps = n.integer("keepdims", 1) != 0;
    const ValueId y = put(n, "Add", 14, {put(n, "Log", 13, {sum}), most}, {}, keeps ? n.outputs[0] : kAbsent);
    if (!keeps) put(n, "Squeeze", 13, {y, integers(n.name + ".axes", *axes)}, {}, n.outputs[0]);
    return "the largest is taken off before the powers, and put on again";
  }

  // beta is a factor of its own, and a C of another form is added by itself.
  std::string gemm(Node& n) {
    if (n.inputs.size() < 3 || n.inputs[2] == kAbsent || !is_f32(n.inputs[2])) return "";
    const auto c = known_shape(graph_.values[n.inputs[2]].dims), y = known_shape(graph_.values[n.outputs[0]].dims);
    if (!c || !y || y->size() != 2) return "";
    const float beta = n.real("beta", 1);
    const bool fits = *c == *y || (!c->empty() && c->back() == (*y)[1] && element_count(*c) == (*y)[1]);
    if (beta == 1 && fits) return "";
    Node product = n;
    product.inputs.resize(2);
    product.attributes.erase("beta");
    product.attributes.erase("broadcast");  // which operands do by themselves since version 7
    product.version = std::max<int64_t>(11, graph_.version_of(n));
    product.outputs = {add(graph_.values[n.outputs[0]].name + ".product", DType::f32)};
    const ValueId made = product.outputs[0];
    out_.push_back(std::move(product));
    ValueId added = n.inputs[2];
    if (beta != 1) added = put(n, "Mul", 14, {added, constant(n.name + ".beta", Tensor::from<float>({}, {beta}))});
    put(n, "Add", 14, {made, added}, {}, n.outputs[0]);
    return "what is added stands by itself";
  }

  // x (bias + alpha mean of x squared over neighbouring channels)^-beta, the power by logarithms.
  std::string across_channels(const Node& n) {
    const auto s = known_shape(graph_.values[n.inputs[0]].dims);
    const float bias = n.real("bias", 1), alpha = n.real("alpha", 1e-4f), beta = n.real("beta", 0.75f);
    const int64_t size = n.integer("size", 1);
    if (!s || s->size() < 2 || element_count(*s) == 0 || size < 1 || size > 1024 || !(bias > 0) || !(alpha >= 0)) return "";
    const int64_t pixels = element_count(std::span<const int64_t>(*s).subspan(2)), before = (size - 1) / 2;
    const ValueId lines =
        put(n, "Reshape", 13, {put(n, "Mul", 14, {n.inputs[0], n.inputs[0]}), integers(n.name + ".lines", {(*s)[0], 1, (*s)[1], pixels})});
    const ValueId means = put(n, "AveragePool", 11, {lines},
                              {{"kernel_shape", attribute(List{size, 1})},
                               {"pads", attribute(List{before, 0, size - 1 - before, 0})},
                               {"count_include_pad", attribute(int64_t{1})}});
    const ValueId back = put(n, "Reshape", 13, {means, integers(n.name + ".sizes", List(s->begin(), s->end()))});
    const ValueId base = put(n, "Add", 14, {put(n, "Mul", 14, {back, number(n, alpha)}), number(n, bias)});
    const ValueId power = put(n, "Exp", 13, {put(n, "Mul", 14, {put(n, "Log", 13, {base}), number(n, -beta)})});
    put(n, "Mul", 14, {n.inputs[0], power}, {}, n.outputs[0]);
    return fmt::format("a mean over {} channels and a power", size);
  }

  // The root of a sum is the root of a mean times how many there are.
  std::string power_pool(const Node& n) {
    const int64_t version = graph_.version_of(n), p = version < 2 ? 0 : n.integer("p", 2);
    const List kernel = n.integers("kernel_shape");
    const auto dilations = n.integers("dilations");
    if (p < 1 || kernel.empty() || n.integer("ceil_mode", 0) != 0 || std::ranges::any_of(dilations, [](int64_t d) { return d != 1; }))
      return "";
    const int64_t taps = std::accumulate(kernel.begin(), kernel.end(), int64_t{1}, std::multiplies<>());
    Attributes attributes{{"kernel_shape", attribute(kernel)}, {"count_include_pad", attribute(int64_t{1})}};
    for (const char* key : {"pads", "strides", "auto_pad"}) {
      if (const auto it = n.attributes.find(key); it != n.attributes.end()) attributes.insert(*it);
    }
    ValueId powers = p == 2 ? put(n, "Mul", 14, {n.inputs[0], n.inputs[0]}) : put(n, "Abs", 13, {n.inputs[0]});
    if (p > 2) powers = put(n, "Pow", 13, {powers, number(n, static_cast<double>(p))});
    const ValueId sums = put(n, "Mul", 14, {put(n, "AveragePool", 11, {powers}, attributes), number(n, static_cast<double>(taps))}, {},
                             p == 1 ? n.outputs[0] : kAbsent);
    if (p == 2) put(n, "Sqrt", 13, {sums}, {}, n.outputs[0]);
    if (p > 2) put(n, "Pow", 13, {sums, number(n, 1.0 / static_cast<double>(p))}, {}, n.outputs[0]);
    return "a mean of powers, times how many there are";
  }

  ValueId root_of_squares(const Node& n, int64_t axis) {
    const Attribute keep = attribute(int64_t{1});
    if (type_ == DType::f32) return put(n, "ReduceL2", 13, {n.inputs[0]}, {{"axes", attribute(List{axis})}, {"keepdims", keep}});
    const ValueId squares = put(n, "Mul", 14, {n.inputs[0], n.inputs[0]});
    return put(n, "Sqrt", 13, {put(n, "ReduceSum", 13, {squares, integers(n.name + ".axes", {axis})}, {{"keepdims", keep}})});
  }

  // Rows of zeros stay zeros: their length is taken to be one.
  std::string by_length(const Node& n) {
    const int64_t axis = ops::wrap_axis(n.integer("axis", -1), *rank(n.inputs[0])), p = n.integer("p", 2);
    if (p != 1 && p != 2) return "";
    const Attribute keep = attribute(int64_t{1});
    const ValueId made =
        p == 1 ? put(n, "ReduceSum", 13, {put(n, "Abs", 13, {n.inputs[0]}), integers(n.name + ".axes", {axis})}, {{"keepdims", keep}})
               : root_of_squares(n, axis);
    const ValueId none = put(n, "Equal", 13, {made, number(n, 0)}, {}, kAbsent, DType::boolean);
    const ValueId length = put(n, "Where", 9, {none, number(n, 1), made});
    put(n, "Div", 14, {n.inputs[0], length}, {}, n.outputs[0]);
    return "a division by the length of rows";
  }

  // A choice by a triangle that is known.
  std::string triangle(const Node& n) {
    const Value& x = graph_.values[n.inputs[0]];
    const DType d = x.dtype;
    const auto s = known_shape(x.dims);
    if (!s || s->size() < 2 || (d != DType::f32 && d != DType::f64 && d != DType::i32 && d != DType::i64)) return "";
    const int64_t rows = (*s)[s->size() - 2], columns = s->back();
    if (rows * columns == 0 || rows * columns > (int64_t{1} << 24)) return "";
    int64_t k = 0;
    if (n.inputs.size() > 1 && n.inputs[1] != kAbsent) {
      const auto& c = graph_.values[n.inputs[1]].constant;
      if (!c || c->data() == nullptr || c->size() != 1) return "";
      k = std::clamp<int64_t>(lathe::integers(*c)[0], -rows - columns, rows + columns);
    }
    const bool upper = n.integer("upper", 1) != 0;
    Tensor keep(DType::boolean, {rows, columns});
    for (int64_t i = 0; i < rows; ++i) {
      for (int64_t j = 0; j < columns; ++j) keep.as<bool>()[i * columns + j] = upper ? j - i >= k : j - i <= k;
    }
    Tensor zero(d, {});
    std::fill_n(static_cast<char*>(zero.data()), zero.byte_size(), char{0});
    put(n, "Where", 9, {constant(n.name + ".kept", std::move(keep)), n.inputs[0], constant(n.name + ".zero", std::move(zero))}, {},
        n.outputs[0], d);
    return "a choice by a mask";
  }

  // A comparison with 0, 1, 2, .. along the new axis.
  std::string one_hot(const Node& n) {
    const DType at = graph_.values[n.inputs[0]].dtype, d = graph_.values[n.inputs[2]].dtype;
    const auto held = [&](size_t i) {
      const auto& c = graph_.values[n.inputs[i]].constant;
      return c && c->data() != nullptr ? &*c : nullptr;
    };
    if ((at != DType::i64 && at != DType::i32) || !rank(n.inputs[0]) || !held(1) || !held(2) || held(2)->size() != 2) return "";
    if (d != DType::f32 && d != DType::f64 && d != DType::i32 && d != DType::i64) return "";
    if (!is_int(held(1)->dtype()) || held(1)->size() != 1) return "";
    const int64_t depth = lathe::integers(*held(1))[0], ranks = *rank(n.inputs[0]) + 1, asked = n.integer("axis", -1),
                  axis = asked < 0 ? asked + ranks : asked;
    if (depth < 1 || depth > (int64_t{1} << 24) || axis < 0 || axis >= ranks) return "";
    const auto whole = [&](const std::string& name, const Shape& shape, const List& list) {
      if (at == DType::i64) return constant(name, Tensor::from<int64_t>(shape, list));
      return constant(name, Tensor::from<int32_t>(shape, std::vector<int32_t>(list.begin(), list.end())));
    };
    List counted(static_cast<size_t>(depth));
    std::iota(counted.begin(), counted.end(), 0);
    Shape along(static_cast<size_t>(ranks - axis), 1);
    along[0] = depth;
    const ValueId below = put(n, "Less", 13, {n.inputs[0], whole(n.name + ".none", {}, {0})}, {}, kAbsent, DType::boolean);
    const ValueId up = put(n, "Add", 14, {n.inputs[0], whole(n.name + ".depth", {}, {depth})}, {}, kAbsent, at);
    const ValueId index =
        put(n, "Unsqueeze", 13, {put(n, "Where", 9, {below, up, n.inputs[0]}, {}, kAbsent, at), integers(n.name + ".axis", {axis})}, {},
            kAbsent, at);
    const ValueId hit = put(n, "Equal", 13, {index, whole(n.name + ".counted", along, counted)}, {}, kAbsent, DType::boolean);
    const auto value = [&](int64_t i) {
      Tensor t(d, {});
      const size_t bytes = static_cast<size_t>(bit_width(d)) / 8;
      std::copy_n(static_cast<const char*>(held(2)->data()) + static_cast<size_t>(i) * bytes, bytes, static_cast<char*>(t.data()));
      return constant(n.name + ".value", std::move(t));
    };
    put(n, "Where", 9, {hit, value(1), value(0)}, {}, n.outputs[0], d);
    return fmt::format("a comparison with 0 to {}", depth - 1);
  }

  // Sums over letters: two operands after another become a product of matrices, batch by batch, or of
  // elements where no letter is summed; what an operand has alone is summed by itself.
  struct Lettered {
    ValueId value;
    std::string letters;
  };
  struct Letters {
    std::vector<std::string> operands;
    std::string result;
    std::map<char, int64_t> size;
  };
  std::optional<Letters> letters_of(const Node& n) const {
    std::string text = n.text("equation", "");
    std::erase(text, ' ');
    Letters l;
    const size_t arrow = text.find("->");
    std::string left = text.substr(0, arrow);
    std::vector<std::string> terms;
    for (size_t at = 0;;) {
      const size_t comma = left.find(',', at);
      terms.push_back(left.substr(at, comma == std::string::npos ? comma : comma - at));
      if (comma == std::string::npos) break;
      at = comma + 1;
    }
    if (terms.size() != n.inputs.size()) return std::nullopt;
    // Dots stand for the axes that are left, as many in each operand that has some: letters that the text has not.
    std::string spare, dots;
    for (char c = 'A'; c <= 'Z'; ++c) {
      if (text.find(c) == std::string::npos) spare += c;
    }
    bool dotted = false;
    for (size_t i = 0; i < terms.size(); ++i) {
      const auto shape = known_shape(graph_.values[n.inputs[i]].dims);
      if (!shape || dtype(n.inputs[i]) != type_) return std::nullopt;
      std::string term = terms[i];
      if (const size_t at = term.find("..."); at != std::string::npos) {
        const size_t named = term.size() - 3;
        if (shape->size() < named || shape->size() - named > spare.size() || (dotted && shape->size() - named != dots.size()))
          return std::nullopt;
        dots = spare.substr(0, shape->size() - named);
        dotted = true;
        term.replace(at, 3, dots);
      }
      if (term.size() != shape->size() || !std::ranges::all_of(term, [](unsigned char c) { return std::isalpha(c) != 0; }))
        return std::nullopt;
      for (size_t a = 0; a < term.size(); ++a) {
        const auto [it, fresh] = l.size.try_emplace(term[a], (*shape)[a]);
        if (!fresh && it->second != (*shape)[a]) return std::nullopt;  // one of them is repeated
      }
      l.operands.push_back(term);
    }
    if (arrow != std::string::npos) {
      l.result = text.substr(arrow + 2);
      if (const size_t at = l.result.find("..."); at != std::string::npos) l.result.replace(at, 3, dots);
    } else {  // what dots stand for, then what comes once, by the alphabet
      l.result = dots;
      for (const auto& [letter, entries] : l.size) {
        int64_t times = 0;
        for (const std::string& term : l.operands) times += std::ranges::count(term, letter);
        if (times == 1 && dots.find(letter) == std::string::npos) l.result += letter;
      }
    }
    double all = 1;
    for (const auto& [letter, entries] : l.size) all *= static_cast<double>(entries);
    const bool once = std::set<char>(l.result.begin(), l.result.end()).size() == l.result.size();
    if (!once || all == 0 || all > 0x1p62 || !std::ranges::all_of(l.result, [&](char c) { return l.size.contains(c); }))
      return std::nullopt;
    return l;
  }
  static bool in(const std::string& s, char c) { return s.find(c) != std::string::npos; }
  List sizes_of(const Letters& l, const std::string& letters) const {
    List sizes;
    for (const char c : letters) sizes.push_back(l.size.at(c));
    return sizes;
  }
  // The letters of `to` are those of `from`.
  ValueId ordered(const Node& n, ValueId v, const std::string& from, const std::string& to) {
    if (from == to) return v;
    List order;
    for (const char c : to) order.push_back(static_cast<int64_t>(from.find(c)));
    return turn(n, v, order);
  }
  Lettered summed(const Node& n, const Lettered& x, const std::string& wanted) {
    std::string kept;
    List axes;
    for (size_t a = 0; a < x.letters.size(); ++a) {
      if (in(wanted, x.letters[a])) kept += x.letters[a];
      else axes.push_back(static_cast<int64_t>(a));
    }
    if (axes.empty()) return x;
    return {put(n, "ReduceSum", 13, {x.value, integers(n.name + ".axes", axes)}, {{"keepdims", attribute(int64_t{0})}}), kept};
  }
  // Two operands as one with these letters, in any order.
  Lettered joined(const Node& n, const Letters& l, Lettered a, Lettered b, const std::string& wanted) {
    a = summed(n, a, b.letters + wanted), b = summed(n, b, a.letters + wanted);
    std::string batch, rows, columns, depth;
    for (const char c : a.letters) (in(wanted, c) ? in(b.letters, c) ? batch : rows : depth) += c;
    for (const char c : b.letters) {
      if (!in(a.letters, c)) columns += c;
    }
    const auto shaped = [&](ValueId v, List sizes) { return put(n, "Reshape", 13, {v, integers(n.name + ".sizes", sizes)}); };
    if (depth.empty()) {
      const std::string all = batch + rows + columns;
      List left, right;
      for (const char c : all) left.push_back(in(a.letters, c) ? l.size.at(c) : 1), right.push_back(in(b.letters, c) ? l.size.at(c) : 1);
      const ValueId x = shaped(ordered(n, a.value, a.letters, batch + rows), left),
                    y = shaped(ordered(n, b.value, b.letters, batch + columns), right);
      return {put(n, "Mul", 14, {x, y}), all};
    }
    const auto count = [&](const std::string& letters) { return element_count(sizes_of(l, letters)); };
    const auto with_batch = [&](List sizes) {
      if (!batch.empty()) sizes.insert(sizes.begin(), count(batch));
      return sizes;
    };
    const ValueId left = shaped(ordered(n, a.value, a.letters, batch + rows + depth), with_batch({count(rows), count(depth)}));
    const ValueId right = shaped(ordered(n, b.value, b.letters, batch + depth + columns), with_batch({count(depth), count(columns)}));
    return {shaped(put(n, "MatMul", 13, {left, right}), sizes_of(l, batch + rows + columns)), batch + rows + columns};
  }

  // A letter that stands twice: what lies on the diagonal of its two axes, every (size + 1)th of their elements.
  Lettered diagonal(const Node& n, const Letters& l, Lettered x) {
    for (size_t a = 0; a < x.letters.size();) {
      const char c = x.letters[a];
      const size_t again = x.letters.find(c, a + 1);
      if (again == std::string::npos) {
        ++a;
        continue;
      }
      List order;
      std::string others;
      for (size_t i = 0; i < x.letters.size(); ++i) {
        if (i != a && i != again) order.push_back(static_cast<int64_t>(i)), others += x.letters[i];
      }
      const auto last = static_cast<int64_t>(order.size());
      order.push_back(static_cast<int64_t>(a)), order.push_back(static_cast<int64_t>(again));
      List sizes = sizes_of(l, others);
      const int64_t size = l.size.at(c);
      sizes.push_back(size * size);
      const auto one = [&](const char* name, int64_t v) { return integers(n.name + name, {v}); };
      const ValueId flat = put(n, "Reshape", 13, {turn(n, x.value, order), integers(n.name + ".sizes", sizes)});
      x.value = put(n, "Slice", 13, {flat, one(".from", 0), one(".to", size * size), one(".axis", last), one(".step", size + 1)});
      x.letters = others + c;
      a = 0;
    }
    return x;
  }

  std::string einsum(const Node& n) {
    auto l = letters_of(n);
    if (!l) return "";
    std::vector<Lettered> operands;
    for (size_t i = 0; i < n.inputs.size(); ++i) {
      operands.push_back(diagonal(n, *l, {n.inputs[i], l->operands[i]}));
      l->operands[i] = operands.back().letters;
    }
    Lettered made = operands[0];
    for (size_t i = 1; i < n.inputs.size(); ++i) {
      std::string wanted = l->result;
      for (size_t k = i + 1; k < n.inputs.size(); ++k) wanted += l->operands[k];
      made = joined(n, *l, made, operands[i], wanted);
    }
    made = summed(n, made, l->result);
    const ValueId last = ordered(n, made.value, made.letters, l->result);
    put(n, "Identity", 13, {last}, {}, n.outputs[0]);
    return n.inputs.size() > 1 ? fmt::format("{} operands as products of matrices or elements", n.inputs.size())
                               : "sums and a transposition";
  }

  // The batch is moved behind the steps, and before them again.
  std::string recurrent(const Node& n) {
    if (n.integer("layout", 0) != 1) return "";
    Node main = n;
    main.attributes.erase("layout");
    for (size_t i : {0, 5, 6}) {
      if (i < main.inputs.size() && main.inputs[i] != kAbsent) main.inputs[i] = turn(n, main.inputs[i], {1, 0, 2});
    }
    std::vector<std::pair<ValueId, size_t>> back;
    for (size_t i = 0; i < main.outputs.size(); ++i) {
      if (main.outputs[i] == kAbsent) continue;
      back.emplace_back(main.outputs[i], i);
      main.outputs[i] = add(graph_.values[main.outputs[i]].name + ".steps_first", DType::f32);
    }
    const std::vector<ValueId> made = main.outputs;
    out_.push_back(std::move(main));
    for (const auto& [to, i] : back) turn(n, made[i], i == 0 ? List{2, 0, 1, 3} : List{1, 0, 2}, to);
    return "steps come before the batch";
  }
};

}  // namespace

Report usual_forms(Graph& graph) { return written_anew<UsualForms>(graph, "usual forms"); }

}  // namespace lathe::passes
