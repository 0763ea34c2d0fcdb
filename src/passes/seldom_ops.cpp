// Ops that few models have, which have no steps of their own, as nodes that have: convolutions at offsets of their own as sampled pictures
// before a product, grids of affine maps, blocks added back into pictures, and the like.
#include <algorithm>
#include <cmath>
#include <map>
#include <set>
#include <string_view>

#include "ops/internal_attributes.hpp"
#include "ops/support.hpp"
#include "ops/window.hpp"
#include "passes/node_writer.hpp"
#include "tensor/numbers.hpp"

namespace lathe::passes {
namespace {

// Of constants that are made here.
constexpr int64_t kMostNumbers = int64_t{1} << 22;

class SeldomOps : public NodeWriter {
 public:
  using NodeWriter::NodeWriter;

  std::string operator()(const Node& n) {
    if (!n.domain.empty() || n.inputs.empty() || n.outputs.empty() || n.inputs[0] == kAbsent || n.outputs[0] == kAbsent) return "";
    if (!rank(n.inputs[0])) return "";
    type_ = dtype(n.inputs[0]);
    if (n.op == "CenterCropPad") return crop_or_pad(n);
    if (graph_.version_of(n) < 7) {
      if (const std::string how = by_axis(n); !how.empty()) return how;
    }
    if (n.op == "Swish") return type_ == DType::f32 || type_ == DType::f64 ? swish(n) : "";
    if (n.op == "MatMul") return by_vector(n);
    if (n.op == "Expand" || n.op == "Tile") rows_.insert({n.outputs[0], n.inputs[0]});
    if (n.op == "ScatterElements" || n.op == "GatherElements") return by_rows(n);
    if (n.op == "Pow") return power(n);
    if (n.op.starts_with("Reduce")) {
      if (const std::string how = run_by_run(n); !how.empty()) return how;
    }
    if (n.op == "Cast" || n.op == "DequantizeLinear") {
      if (graph_.values[n.inputs[0]].constant) constants_.insert(n.outputs[0]);  // weights that products widen
      return "";
    }
    if (type_ != DType::f32) return "";
    if (n.op == "ConvTranspose") return by_made_weights(n);
    if (n.op == "ReduceLogSum") return log_of_sum(n);
    if (n.op == "GlobalLpPool") return length_of_planes(n);
    if (n.op == "Hardmax") return place_of_most(n);
    if (n.op == "MaxUnpool") return scattered(n);
    if (n.op == "AffineGrid") return mapped_grid(n);
    if (n.op == "Col2Im") return blocks_back(n);
    if (n.op == "DeformConv") return at_offsets(n);
    return "";
  }

 private:
  const Tensor* held(const Node& n, size_t i) const {
    if (!has(n, i)) return nullptr;
    const auto& c = graph_.values[n.inputs[i]].constant;
    return c && c->data() != nullptr ? &*c : nullptr;
  }
  ValueId floats(const std::string& name, const Shape& shape, const std::vector<float>& list) {
    return constant(name, Tensor::from<float>(shape, list));
  }
  ValueId turned(const Node& n, ValueId v, const List& order) { return put(n, "Transpose", 13, {v}, {{"perm", attribute(order)}}); }
  ValueId sliced(const Node& n, ValueId v, const List& from, const List& to, const List& axes, const List& steps, ValueId out = kAbsent) {
    return put(n, "Slice", 13,
               {v, integers(n.name + ".from", from), integers(n.name + ".to", to), integers(n.name + ".axes", axes),
                integers(n.name + ".steps", steps)},
               {}, out);
  }

  // Indices that are the same all along what follows the axis, as exporters have them who only know of elements: whole rows.
  std::string by_rows(const Node& n) {
    const bool gathers = n.op == "GatherElements";
    const auto wide = rows_.find(n.inputs[1]);
    const auto x = shape(n.inputs[0]), at = shape(n.inputs[1]);
    if (wide == rows_.end() || !x || !at || at->size() != x->size() || x->size() < 2 || element_count(*at) == 0) return "";
    const auto narrow = shape(wide->second);
    const int64_t axis = ops::wrap_axis(n.integer("axis", 0), static_cast<int64_t>(x->size()));
    if (!narrow || narrow->size() != x->size()) return "";
    // Everything in front of the axis is one: no row belongs to another picture. What follows it is there whole.
    for (size_t a = 0; a < x->size(); ++a) {
      const auto here = static_cast<int64_t>(a);
      if (here < axis && ((*x)[a] != 1 || (*at)[a] != 1)) return "";
      if (here == axis && (*narrow)[a] != (*at)[a]) return "";
      if (here > axis && ((*narrow)[a] != 1 || (*at)[a] != (*x)[a])) return "";
    }
    const int64_t rows = (*at)[static_cast<size_t>(axis)];
    const ValueId index = put(n, "Reshape", 13, {wide->second, integers(n.name + ".rows", {rows})}, {}, kAbsent, dtype(wide->second));
    if (gathers) {
      put(n, "Gather", 13, {n.inputs[0], index}, {{"axis", attribute(axis)}}, n.outputs[0]);
      return "whole rows by their indices";
    }
    List sizes(x->begin() + axis, x->end());
    const ValueId data = reshaped(n, n.inputs[0], sizes);
    sizes[0] = rows;
    const ValueId updates = reshaped(n, n.inputs[2], sizes);
    ValueId places = put(n, "Reshape", 13, {index, integers(n.name + ".places", {rows, 1})}, {}, kAbsent, dtype(index));
    if (dtype(places) != DType::i64)
      places = put(n, "Cast", 13, {places}, {{"to", attribute(int64_t{number_of_dtype(DType::i64)})}}, kAbsent, DType::i64);
    Attributes attributes;
    if (const auto it = n.attributes.find("reduction"); it != n.attributes.end()) attributes.insert(*it);
    const ValueId made = put(n, "ScatterND", std::max<int64_t>(16, graph_.version_of(n)), {data, places, updates}, std::move(attributes));
    reshaped(n, made, List(x->begin(), x->end()), n.outputs[0]);
    return "whole rows by their indices";
  }

  // Before version 7 an axis says how the second operand lies against the first; PRelu's slopes belong to the channels.
  std::string by_axis(const Node& n) {
    const bool slopes = n.op == "PRelu";
    if (!slopes && n.op != "Add" && n.op != "Sub" && n.op != "Mul" && n.op != "Div") return "";
    const auto a = shape(n.inputs[0]), b = shape(n.inputs[1]);
    if (!a || !b || (!slopes && n.integer("broadcast", 0) == 0) || b->size() > a->size() || a->size() < 2) return "";
    const auto ranks = static_cast<int64_t>(a->size()), own = static_cast<int64_t>(b->size());
    int64_t axis = slopes ? (own == 1 && (*b)[0] > 1 ? 1 : ranks - own) : n.integer("axis", ranks - own);
    if (axis < 0) axis += ranks;
    if (axis < 0 || axis + own > ranks) return "";
    for (int64_t i = 0; i < own; ++i) {
      if ((*b)[static_cast<size_t>(i)] != 1 && (*b)[static_cast<size_t>(i)] != (*a)[static_cast<size_t>(axis + i)]) return "";
    }
    List sizes(b->begin(), b->end());
    sizes.resize(static_cast<size_t>(ranks - axis), 1);
    put(n, n.op, 7, {n.inputs[0], reshaped(n, n.inputs[1], sizes)}, {}, n.outputs[0]);
    return fmt::format("the second operand lies from axis {} on", axis);
  }

  // A matrix of one row or column.
  std::string by_vector(const Node& n) {
    const auto a = shape(n.inputs[0]), b = shape(n.inputs[1]), y = shape(n.outputs[0]);
    if (!a || !b || !y || a->empty() || b->empty() || (a->size() > 1 && b->size() > 1) || (type_ != DType::f32 && type_ != DType::f64))
      return "";
    if (a->size() == 1 && b->size() == 2 && held(n, 1)) return "";  // products take it so, and are merged
    const ValueId left = a->size() == 1 ? reshaped(n, n.inputs[0], {1, (*a)[0]}) : n.inputs[0];
    const ValueId right = b->size() == 1 ? reshaped(n, n.inputs[1], {(*b)[0], 1}) : n.inputs[1];
    reshaped(n, put(n, "MatMul", 13, {left, right}), List(y->begin(), y->end()), n.outputs[0]);
    return "a vector is a matrix of one row or column";
  }

  // An exponent of another type is one of the base's; squares of whole numbers are products.
  std::string power(const Node& n) {
    const Tensor* exponent = held(n, 1);
    if (!exponent) return "";
    const DType d = exponent->dtype();
    if ((type_ == DType::i32 || type_ == DType::i64) && exponent->size() == 1 && exponent->rank() <= *rank(n.inputs[0])) {
      const double e = widen<double>(*exponent)[0];
      if (e != 2 && e != 3) return "";
      const ValueId x = n.inputs[0];
      put(n, "Mul", 14, {e == 2 ? x : put(n, "Mul", 14, {x, x}), x}, {}, n.outputs[0]);
      return "a product with itself";
    }
    if ((type_ != DType::f32 && type_ != DType::f64) || d == type_ || !(is_int(d) || is_float(d))) return "";
    const std::vector<double> wide = widen<double>(*exponent);
    if (type_ == DType::f32 &&
        std::ranges::any_of(wide, [](double e) { return e == e && static_cast<double>(static_cast<float>(e)) != e; }))
      return "";
    put(n, "Pow", 13, {n.inputs[0], constant(n.name + ".exponent", narrow<double>(type_, exponent->shape(), wide))}, {}, n.outputs[0]);
    return "the exponent as the base's type has it";
  }

  // Axes that do not lie next to one another: those that do after one another, the last first.
  std::string run_by_run(const Node& n) {
    static const std::map<std::string_view, std::pair<const char*, const char*>> kOps{
        {"ReduceSum", {"ReduceSum", "ReduceSum"}},    {"ReduceMean", {"ReduceMean", "ReduceMean"}},
        {"ReduceMax", {"ReduceMax", "ReduceMax"}},    {"ReduceMin", {"ReduceMin", "ReduceMin"}},
        {"ReduceProd", {"ReduceProd", "ReduceProd"}}, {"ReduceL1", {"ReduceL1", "ReduceL1"}},
        {"ReduceL2", {"ReduceL2", "ReduceL2"}},       {"ReduceSumSquare", {"ReduceSumSquare", "ReduceSum"}}};
    const auto op = kOps.find(n.op);
    const bool whole = type_ == DType::i32 || type_ == DType::i64;
    if (op == kOps.end() || (type_ != DType::f32 && type_ != DType::f64 && !whole) ||
        (whole && (n.op == "ReduceMean" || n.op == "ReduceL2")))
      return "";
    const auto axes = reduced_axes(n);
    const auto s = shape(n.inputs[0]);
    if (!axes || !s || element_count(*s) == 0) return "";
    std::vector<List> runs;
    for (const int64_t a : *axes) {
      if ((*s)[static_cast<size_t>(a)] == 1 && axes->size() > 1) continue;  // there is nothing to reduce
      if (runs.empty() || runs.back().back() + 1 != a) runs.push_back({a});
      else runs.back().push_back(a);
    }
    const auto apart = [](int64_t a, int64_t b) { return b != a + 1; };
    if (std::adjacent_find(axes->begin(), axes->end(), apart) == axes->end()) return "";
    if (runs.empty()) runs.push_back({axes->back()});
    ValueId v = n.inputs[0];
    for (size_t i = runs.size(); i-- > 0;) {
      const bool first = i + 1 == runs.size();
      const char* name = first ? op->second.first : op->second.second;
      const std::string_view what(name);
      if (what == "ReduceSum") v = put(n, name, 13, {v, integers(n.name + ".axes", runs[i])}, {{"keepdims", attribute(int64_t{1})}});
      else v = put(n, name, 13, {v}, {{"axes", attribute(runs[i])}, {"keepdims", attribute(int64_t{1})}});
    }
    const auto y = shape(n.outputs[0]);
    if (!y) return "";
    reshaped(n, v, List(y->begin(), y->end()), n.outputs[0]);
    return fmt::format("{} runs of axes, one after the other", runs.size());
  }

  std::string swish(const Node& n) {
    const float alpha = n.real("alpha", 1);
    const ValueId x = n.inputs[0], scaled = alpha == 1 ? x : put(n, "Mul", 14, {x, number(n, static_cast<double>(alpha))});
    put(n, "Mul", 14, {x, put(n, "Sigmoid", 13, {scaled})}, {}, n.outputs[0]);
    return "a product with a sigmoid";
  }

  std::string log_of_sum(const Node& n) {
    const auto axes = reduced_axes(n);
    if (!axes || axes->empty()) return "";
    const ValueId sum = put(n, "ReduceSum", 13, {n.inputs[0], integers(n.name + ".axes", *axes)},
                            {{"keepdims", attribute(int64_t{n.integer("keepdims", 1) != 0})}});
    put(n, "Log", 13, {sum}, {}, n.outputs[0]);
    return "the logarithm of a sum";
  }

  std::string length_of_planes(const Node& n) {
    const int64_t p = n.integer("p", 2), ranks = *rank(n.inputs[0]);
    if (graph_.version_of(n) < 2 || (p != 1 && p != 2) || ranks < 3) return "";
    List axes(static_cast<size_t>(ranks - 2));
    std::iota(axes.begin(), axes.end(), 2);
    put(n, p == 1 ? "ReduceL1" : "ReduceL2", 13, {n.inputs[0]}, {{"axes", attribute(axes)}, {"keepdims", attribute(int64_t{1})}},
        n.outputs[0]);
    return "lengths over the places of each plane";
  }

  std::string place_of_most(const Node& n) {
    const auto s = shape(n.inputs[0]);
    if (!s || s->empty() || element_count(*s) == 0) return "";
    const auto ranks = static_cast<int64_t>(s->size());
    const bool flattens = graph_.version_of(n) < 13;
    const int64_t axis = ops::wrap_axis(n.integer("axis", flattens ? 1 : -1), ranks);
    if (flattens && axis != ranks - 1) return "";
    const ValueId most =
        put(n, "ArgMax", 13, {n.inputs[0]}, {{"axis", attribute(axis)}, {"keepdims", attribute(int64_t{0})}}, kAbsent, DType::i64);
    put(n, "OneHot", 11,
        {most, constant(n.name + ".depth", Tensor::from<int64_t>({}, {(*s)[static_cast<size_t>(axis)]})),
         floats(n.name + ".values", {2}, {0, 1})},
        {{"axis", attribute(axis)}}, n.outputs[0]);
    graph_.values[static_cast<size_t>(most)].dims = Dims();
    for (int64_t a = 0; a < ranks; ++a) {
      if (a != axis) graph_.values[static_cast<size_t>(most)].dims->emplace_back((*s)[static_cast<size_t>(a)]);
    }
    return "one where the largest stands";
  }

  // What is too long loses as much on both sides, what is too short gets zeros; an odd one goes behind.
  std::string crop_or_pad(const Node& n) {
    const auto s = shape(n.inputs[0]);
    const Tensor* target = held(n, 1);
    if (!s || !target) return "";
    const auto ranks = static_cast<int64_t>(s->size());
    List axes = n.integers("axes");
    if (!n.attributes.contains("axes")) {
      axes.resize(s->size());
      std::iota(axes.begin(), axes.end(), 0);
    }
    axes = ops::wrap_axes(axes, ranks);
    const List sizes = lathe::integers(*target);
    if (sizes.size() != axes.size()) return "";
    List from, to, cut, before(s->size(), 0), behind(s->size(), 0);
    bool pads = false;
    for (size_t i = 0; i < axes.size(); ++i) {
      const auto a = static_cast<size_t>(axes[i]);
      const int64_t now = (*s)[a], wanted = sizes[i];
      if (wanted < 0) return "";
      if (wanted < now) {
        const int64_t first = (now - wanted) / 2;
        from.push_back(first), to.push_back(first + wanted), cut.push_back(axes[i]);
      } else if (wanted > now) {
        before[a] = (wanted - now) / 2, behind[a] = wanted - now - before[a];
        pads = true;
      }
    }
    if (cut.empty() && !pads) {
      put(n, "Identity", 13, {n.inputs[0]}, {}, n.outputs[0]);
      return "it has that size";
    }
    ValueId v = n.inputs[0];
    if (!cut.empty()) v = sliced(n, v, from, to, cut, List(cut.size(), 1), pads ? kAbsent : n.outputs[0]);
    if (pads) {
      List sides = before;
      sides.insert(sides.end(), behind.begin(), behind.end());
      put(n, "Pad", 13, {v, integers(n.name + ".pads", sides)}, {}, n.outputs[0]);
    }
    return "what is cut off and what is put on";
  }

  std::string scattered(const Node& n) {
    const auto s = shape(n.inputs[0]), y = shape(n.outputs[0]);
    if (!s || !y || has(n, 2) || element_count(*s) == 0 || element_count(*y) == 0 || dtype(n.inputs[1]) != DType::i64) return "";
    const ValueId empty = put(n, "Expand", 13, {floats(n.name + ".zero", {}, {0}), integers(n.name + ".size", {element_count(*y)})});
    // Of a scatter a place below zero counts from the end; here it is none.
    const auto whole = [&](const char* name, int64_t v) { return constant(n.name + name, Tensor::from<int64_t>({}, {v})); };
    const ValueId flat = put(n, "Reshape", 13, {n.inputs[1], integers(n.name + ".sizes", {-1})}, {}, kAbsent, DType::i64);
    const ValueId below = put(n, "Less", 13, {flat, whole(".none", 0)}, {}, kAbsent, DType::boolean);
    const ValueId places = put(n, "Where", 9, {below, whole(".outside", element_count(*y)), flat}, {}, kAbsent, DType::i64);
    reshaped(n, put(n, "ScatterElements", 16, {empty, places, reshaped(n, n.inputs[0], {-1})}), List(y->begin(), y->end()), n.outputs[0]);
    return "elements put in their places among zeros";
  }

  std::string mapped_grid(const Node& n) {
    const Tensor* size = held(n, 1);
    const auto theta = shape(n.inputs[0]);
    if (!size || !theta || size->size() < 4) return "";
    const List sizes = lathe::integers(*size);
    const auto axes = static_cast<int64_t>(sizes.size()) - 2;
    if ((axes != 2 && axes != 3) || *theta != Shape{sizes[0], axes, axes + 1}) return "";
    const Shape spatial(sizes.begin() + 2, sizes.end());
    const int64_t places = element_count(spatial);
    if (places == 0 || sizes[0] == 0 || places > kMostNumbers) return "";
    const bool corners = n.integer("align_corners", 0) != 0;
    const auto strides = ops::strides_of(spatial);
    std::vector<float> base(static_cast<size_t>((axes + 1) * places), 1);
    for (int64_t a = 0; a < axes; ++a) {
      const auto m = static_cast<double>(spatial[static_cast<size_t>(a)]);
      for (int64_t p = 0; p < places; ++p) {
        const auto i = static_cast<double>(p / strides[static_cast<size_t>(a)] % spatial[static_cast<size_t>(a)]);
        base[static_cast<size_t>((axes - 1 - a) * places + p)] =
            static_cast<float>(corners ? (m > 1 ? -1 + 2 * i / (m - 1) : 0) : (2 * i + 1) / m - 1);
      }
    }
    const ValueId mapped = put(n, "MatMul", 13, {n.inputs[0], floats(n.name + ".grid", {axes + 1, places}, base)});
    List result = sizes;
    result.erase(result.begin() + 1);
    result.push_back(axes);
    reshaped(n, turned(n, mapped, {0, 2, 1}), result, n.outputs[0]);
    return fmt::format("a product with the {} places of a grid", places);
  }

  // Taps a stride apart make pictures whose blocks do not overlap; as many of those as there are such taps are added up.
  // Blocks of `taps` that lie `strides` apart in planes, the first one `begin` before the plane; `places` of them along each axis.
  struct Blocks {
    int64_t planes = 0;
    List taps, strides, places, size, begin;
  };
  // [planes, taps, taps, places, places], in any shape, as planes of this size: as many pictures of blocks side by side as lie over one
  // another, added up. Nothing when there are too many, or none.
  ValueId added_up(const Node& n, ValueId columns, const Blocks& b) {
    const auto& [planes, taps, strides, places, size, begin] = b;
    const List steps{(taps[0] + strides[0] - 1) / strides[0], (taps[1] + strides[1] - 1) / strides[1]};
    const int64_t pictures = steps[0] * steps[1];
    if (pictures > 64) return kAbsent;
    ValueId v = reshaped(n, columns, {planes, taps[0], taps[1], places[0], places[1]});
    const List more{steps[0] * strides[0] - taps[0], steps[1] * strides[1] - taps[1]};
    if (more[0] > 0 || more[1] > 0) v = put(n, "Pad", 13, {v, integers(n.name + ".pads", {0, 0, 0, 0, 0, 0, more[0], more[1], 0, 0})});
    v = turned(n, reshaped(n, v, {planes, steps[0], strides[0], steps[1], strides[1], places[0], places[1]}), {1, 3, 0, 5, 2, 6, 4});
    const List whole{places[0] * strides[0], places[1] * strides[1]};
    v = reshaped(n, v, {pictures, planes, whole[0], whole[1]});
    ValueId sum = kAbsent;
    for (int64_t k = 0; k < pictures; ++k) {
      // What lies beside the image on a side is cut off, what the picture lacks is zero.
      const List at{k / steps[1] * strides[0] - begin[0], k % steps[1] * strides[1] - begin[1]};
      List from{k}, to{k + 1}, before(4, 0), behind(4, 0);
      bool outside = false;
      for (size_t a = 0; a < 2; ++a) {
        const int64_t first = std::max<int64_t>(0, -at[a]), end = std::min(whole[a], size[a] - at[a]);
        outside = outside || first >= end;
        from.push_back(first), to.push_back(end);
        before[a + 2] = at[a] + first, behind[a + 2] = size[a] - at[a] - end;
      }
      if (outside) continue;
      ValueId piece = sliced(n, v, from, to, {0, 2, 3}, {1, 1, 1});
      List sides = before;
      sides.insert(sides.end(), behind.begin(), behind.end());
      if (std::ranges::any_of(sides, [](int64_t p) { return p != 0; }))
        piece = put(n, "Pad", 13, {piece, integers(n.name + ".pads", sides)});
      sum = sum == kAbsent ? piece : put(n, "Add", 14, {sum, piece});
    }
    return sum;
  }

  // Weights that a run makes: for each picture a product gives what every input leaves at its places, which are then added up.
  std::string by_made_weights(const Node& n) {
    const auto x = shape(n.inputs[0]), w = shape(n.inputs[1]), y = shape(n.outputs[0]);
    if (!x || !w || !y || (x->size() != 3 && x->size() != 4) || w->size() != x->size() || dtype(n.inputs[1]) != DType::f32) return "";
    if (graph_.values[n.inputs[1]].constant || constants_.contains(n.inputs[1]) || element_count(*x) == 0 || element_count(*w) == 0 ||
        element_count(*y) == 0)
      return "";
    const int64_t group = n.integer("group", 1), batch = (*x)[0];
    if ((*x)[1] != (*w)[0] || group < 1 || (*x)[1] % group != 0) return "";
    const auto g = ops::transpose_geometry(n, std::span<const int64_t>(*x).subspan(2), std::span<const int64_t>(*w).subspan(2));
    Blocks b;
    for (size_t a = 0; a < 2; ++a) {
      const bool there = a + x->size() >= 4;  // of sequences: one line
      const size_t i = x->size() == 4 ? a : 0;
      if (there && g.dilations[i] != 1) return "";
      b.taps.push_back(there ? (*w)[i + 2] : 1), b.strides.push_back(there ? g.strides[i] : 1);
      b.places.push_back(there ? (*x)[i + 2] : 1), b.size.push_back(there ? g.out[i] : 1);
      b.begin.push_back(there ? g.begin[i] : 0);
    }
    const int64_t depth = (*x)[1] / group, filters = (*w)[1], taps = b.taps[0] * b.taps[1], places = b.places[0] * b.places[1];
    b.planes = batch * group * filters;
    const ValueId weights = turned(n, reshaped(n, n.inputs[1], {group, depth, filters * taps}), {0, 2, 1});
    const ValueId left = put(n, "MatMul", 13, {weights, reshaped(n, n.inputs[0], {batch, group, depth, places})});
    ValueId sum = added_up(n, left, b);
    if (sum == kAbsent) return "";
    const bool biased = has(n, 2);
    sum = reshaped(n, sum, List(y->begin(), y->end()), biased ? kAbsent : n.outputs[0]);
    if (biased) {
      List sizes(y->size() - 1, 1);
      sizes[0] = group * filters;
      put(n, "Add", 14, {sum, reshaped(n, n.inputs[2], sizes)}, {}, n.outputs[0]);
    }
    return "a product, whose results are added up where they fall";
  }

  std::string blocks_back(const Node& n) {
    const Tensor *image = held(n, 1), *block = held(n, 2);
    const auto s = shape(n.inputs[0]), y = shape(n.outputs[0]);
    if (!image || !block || !s || !y || image->size() != 2 || block->size() != 2 || s->size() != 3 || element_count(*y) == 0) return "";
    const List size = lathe::integers(*image), taps = lathe::integers(*block), pads = n.integers("pads", List(4, 0)),
               strides = n.integers("strides", List(2, 1)), dilations = n.integers("dilations", List(2, 1));
    if (pads.size() != 4 || strides.size() != 2 || dilations != List{1, 1} || taps[0] < 1 || taps[1] < 1 ||
        (*s)[1] % (taps[0] * taps[1]) != 0)
      return "";
    Blocks b{0, taps, strides, {}, size, {pads[0], pads[1]}};
    for (size_t a = 0; a < 2; ++a) {
      const int64_t span = size[a] + pads[a] + pads[a + 2] - taps[a];
      if (span < 0 || strides[a] < 1) return "";
      b.places.push_back(span / strides[a] + 1);
    }
    b.planes = (*s)[0] * ((*s)[1] / (taps[0] * taps[1]));
    if ((*s)[2] != b.places[0] * b.places[1]) return "";
    const ValueId sum = added_up(n, n.inputs[0], b);
    if (sum == kAbsent) return "";
    reshaped(n, sum, List(y->begin(), y->end()), n.outputs[0]);
    return "pictures of blocks side by side, added up";
  }

  // The pixels that the taps of each place see, and a product of those with the filters.
  std::string at_offsets(const Node& n) {
    const auto x = shape(n.inputs[0]), w = shape(n.inputs[1]), offset = shape(n.inputs[2]), y = shape(n.outputs[0]);
    if (!x || !w || !offset || !y || x->size() != 4 || w->size() != 4 || offset->size() != 4 || element_count(*x) == 0 ||
        element_count(*w) == 0 || element_count(*y) == 0)
      return "";
    const int64_t group = n.integer("group", 1), sets = n.integer("offset_group", 1);
    const List strides = n.integers("strides", List(2, 1)), dilations = n.integers("dilations", List(2, 1)),
               pads = n.integers("pads", List(4, 0));
    const int64_t batch = (*x)[0], channels = (*x)[1], filters = (*w)[0], taps = (*w)[2] * (*w)[3], rows = (*y)[2], columns = (*y)[3],
                  places = rows * columns;
    if (strides.size() != 2 || dilations.size() != 2 || pads.size() != 4 || group < 1 || sets < 1 || channels % sets != 0 ||
        filters % group != 0 || (*w)[1] * group != channels || *offset != Shape{batch, sets * taps * 2, rows, columns} ||
        taps > kMostNumbers / (2 * places) || (has(n, 4) && shape(n.inputs[4]) != Shape{batch, sets * taps, rows, columns}))
      return "";
    const int64_t each = channels / sets;
    std::vector<float> base(static_cast<size_t>(places * taps * 2));
    for (int64_t p = 0, at = 0; p < places; ++p) {
      for (int64_t t = 0; t < taps; ++t) {
        base[static_cast<size_t>(at++)] = static_cast<float>(p % columns * strides[1] - pads[1] + t % (*w)[3] * dilations[1]);
        base[static_cast<size_t>(at++)] = static_cast<float>(p / columns * strides[0] - pads[0] + t / (*w)[3] * dilations[0]);
      }
    }
    // Offsets come as rows, then columns; a grid has columns first.
    const ValueId apart = reshaped(n, n.inputs[2], {batch * sets, taps, 2, places});
    const ValueId pairs = turned(n, sliced(n, apart, {-1}, {std::numeric_limits<int64_t>::min()}, {2}, {-1}), {0, 3, 1, 2});
    const ValueId grid = put(n, "Add", 14, {pairs, floats(n.name + ".places", {places, taps, 2}, base)});
    ValueId seen = put(n, "GridSample", 20, {reshaped(n, n.inputs[0], {batch * sets, each, (*x)[2], (*x)[3]}), grid},
                       {{"mode", attribute(std::string("linear"))}, {ops::kPixelGrid, attribute(int64_t{1})}});
    if (has(n, 4)) {
      const ValueId mask = turned(n, reshaped(n, n.inputs[4], {batch * sets, 1, taps, places}), {0, 1, 3, 2});
      seen = put(n, "Mul", 14, {seen, mask});
    }
    if (group == 1) {
      // Rows of a product: the channels of a set together, tap after tap.
      ValueId picked = turned(n, seen, {0, 2, 3, 1});
      if (sets > 1) picked = turned(n, reshaped(n, picked, {batch, sets, places, taps, each}), {0, 2, 1, 3, 4});
      const ValueId factors = turned(n, reshaped(n, n.inputs[1], {filters, sets, each, taps}), {1, 3, 2, 0});
      ValueId made =
          put(n, "MatMul", 13, {reshaped(n, picked, {batch, places, channels * taps}), reshaped(n, factors, {channels * taps, filters})});
      if (has(n, 3)) made = put(n, "Add", 14, {made, n.inputs[3]});
      put(n, "Transpose", 13, {reshaped(n, made, {batch, rows, columns, filters})}, {{"perm", attribute(List{0, 3, 1, 2})}}, n.outputs[0]);
      return fmt::format("a product with what {} taps see", taps);
    }
    // Groups: a convolution by one tap of as many channels as there are taps in all.
    const ValueId planes = reshaped(n, turned(n, seen, {0, 1, 3, 2}), {batch, channels * taps, rows, columns});
    std::vector<ValueId> in{planes, reshaped(n, n.inputs[1], {filters, (*w)[1] * taps, 1, 1})};
    if (has(n, 3)) in.push_back(n.inputs[3]);
    put(n, "Conv", 11, std::move(in), {{"kernel_shape", attribute(List{1, 1})}, {"group", attribute(group)}}, n.outputs[0]);
    return fmt::format("a convolution by one tap of what {} taps see", taps);
  }

  std::map<ValueId, ValueId> rows_;  // results of Expand and Tile, and what they are of
  std::set<ValueId> constants_;      // made of constants, left for the steps that read them
};

}  // namespace

Report seldom_ops(Graph& graph) { return written_anew<SeldomOps>(graph, "seldom ops"); }

}  // namespace lathe::passes
