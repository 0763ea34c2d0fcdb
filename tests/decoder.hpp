// A small decoder as exporters write it, in several forms.
#pragma once

#include <cmath>
#include <map>
#include <string>
#include <vector>

#include "support.hpp"

namespace test {

using Ints = std::vector<int64_t>;

// The axes of states: [batch, heads, positions, width]; positions second, or first; keys with positions last; keys and values of a layer in
// one state, taken by Gather, by Split, or by Gather and kept with positions last.
enum class Axes { usual, second, first, turned, stacked, split, stacked_turned };
inline bool stacked(Axes a) { return a >= Axes::stacked; }

// Scores: scaled; queries and keys scaled by half as much each; capped by a tanh; of halves, with their softmax in f32; with a softmax
// that gives nothing where everything is hidden; less by a slope a head with each position further back; scaled queries and keys
// normalised; each head with a score of its own for attending to nothing.
enum class Scores { scaled, both_scaled, capped, wide, safe, slopes, sinks };

// What a decoder's exporters do otherwise.
struct Form {
  int64_t layers = 2, heads = 4, kv_heads = 4, width = 8, words = 30;
  bool mask = false;    // an input as long as everything there is; positions counted from the state's length
  bool causal = false;  // hidden by place, with a triangle made of the lengths
  bool where = false;   // scores are replaced where they are hidden, by a slice of a constant triangle
  bool node = false;    // the standard's Attention
  bool copied = false;  // the state is read by something else, too
  bool halves = false;  // states are f16, and so are keys and values
  bool told = false;    // with mask: an input says where tokens stand
  Axes axes = Axes::usual;
  Scores scores = Scores::scaled;
  int64_t value_width = 0;  // 0: as keys
};

struct Decoder {
  Form f;
  Builder b{"decoder", 23};
  int names = 0;

  ValueId op(const char* name, std::vector<ValueId> in, std::map<std::string, Attribute::Data> a = {}) {
    return b.op(name, std::move(in), std::move(a));
  }
  ValueId w(Shape s, float size = 0.4f) {
    ++names;
    return b.constant("w" + std::to_string(names), random_tensor(std::move(s), static_cast<uint64_t>(names), -size, size));
  }
  ValueId ints(std::vector<int64_t> v, bool scalar = false) {
    return b.constant("i" + std::to_string(names++), Tensor::from<int64_t>(scalar ? Shape{} : Shape{static_cast<int64_t>(v.size())}, v));
  }
  ValueId floats(float v) { return b.constant("f" + std::to_string(names++), Tensor::from<float>({}, {v})); }
  ValueId size(ValueId v, int64_t axis) { return op("Gather", {op("Shape", {v}), ints({axis})}); }

  Graph make() {
    const int64_t model = f.heads * f.width, v_width = f.value_width > 0 ? f.value_width : f.width;
    const ValueId tokens = b.input("tokens", DType::i64, {"batch", "new"});
    const ValueId seen = f.mask ? b.input("seen", DType::i64, {"batch", "all"}) : kAbsent;
    const ValueId told = f.told ? b.input("positions", DType::i64, {"batch", "new"}) : kAbsent;
    const DType held_in = f.halves ? DType::f16 : DType::f32;
    std::vector<ValueId> past, both;  // by keys and values, or by layer
    for (int64_t l = 0; l < f.layers; ++l) {
      const std::string name = "past." + std::to_string(l) + ".";
      if (stacked(f.axes)) both.push_back(b.input(name + "both", held_in, {2, "batch", f.kv_heads, "held", f.width}));
      for (const char* what : {"keys", "values"}) {
        const bool keys = what[0] == 'k';
        if (f.axes == Axes::second) past.push_back(b.input(name + what, held_in, {"batch", "held", f.kv_heads, f.width}));
        else if (f.axes == Axes::first) past.push_back(b.input(name + what, held_in, {"held", "batch", f.kv_heads, f.width}));
        else if (f.axes == Axes::turned && keys) past.push_back(b.input(name + what, held_in, {"batch", f.kv_heads, f.width, "held"}));
        else if (!stacked(f.axes)) past.push_back(b.input(name + what, held_in, {"batch", f.kv_heads, "held", keys ? f.width : v_width}));
        else if (f.axes != Axes::split) past.push_back(op("Gather", {both.back(), ints({keys ? 0 : 1}, true)}));
      }
      if (f.axes != Axes::split) continue;
      for (const ValueId half : b.ops("Split", {both.back()}, 2, {{"num_outputs", int64_t{2}}}))
        past.push_back(op("Squeeze", {half, ints({0})}));
    }
    const int64_t held_axis = f.axes == Axes::second ? 1 : f.axes == Axes::first ? 0 : f.axes == Axes::turned ? 3 : 2;
    ValueId x = op("Gather", {w({f.words, model}, 1), tokens});
    ValueId hide = kAbsent;
    if (f.mask || f.causal) {
      const ValueId before = size(past[0], held_axis), fresh = size(tokens, 1);
      const ValueId all = op("Add", {before, fresh});
      // Positions of what is new, from the length of the state.
      const ValueId at = op("Range", {op("Squeeze", {before}), op("Squeeze", {all}), ints({1}, true)});
      x = op("Add", {x, op("Gather", {w({64, model}, 1), f.told ? told : at})});
      if (f.causal) {
        const ValueId places = op("Range", {ints({0}, true), op("Squeeze", {all}), ints({1}, true)});
        const ValueId ahead = op("Greater", {op("Unsqueeze", {places, ints({0})}), op("Unsqueeze", {at, ints({1})})});  // [new, all]
        hide = op("Where", {ahead, floats(-1e9f), floats(0)});
      }
      if (f.mask) {
        const ValueId gone = op("Sub", {floats(1), op("Cast", {op("Unsqueeze", {seen, ints({1, 2})})}, {{"to", int64_t{1}}})});
        const ValueId low = op("Mul", {gone, floats(-1e9f)});  // [batch, 1, 1, all]
        hide = hide == kAbsent ? low : op("Add", {low, hide});
      }
    }
    for (int64_t l = 0; l < f.layers; ++l) {
      const ValueId normed = op("LayerNormalization", {x, w({model}), w({model})});
      const auto part = [&](int64_t heads, int64_t width, const Ints& perm) {
        ValueId flat = op("MatMul", {normed, w({model, heads * width})});
        if (f.halves) flat = op("Cast", {flat}, {{"to", int64_t{10}}});
        const ValueId apart = op("Reshape", {flat, ints({0, 0, heads, width})});  // [batch, new, heads, width]
        return perm.empty() ? apart : op("Transpose", {apart}, {{"perm", perm}});
      };
      const bool keys_turned = f.axes == Axes::turned || f.axes == Axes::stacked_turned;
      const Ints usual{0, 2, 1, 3}, as_held = f.axes == Axes::second ? Ints() : f.axes == Axes::first ? Ints{1, 0, 2, 3} : usual;
      const ValueId q = part(f.heads, f.width, usual), k = part(f.kv_heads, f.width, keys_turned ? Ints{0, 2, 3, 1} : as_held),
                    v = part(f.kv_heads, v_width, as_held);
      ValueId past_k = past[static_cast<size_t>(2 * l)], past_v = past[static_cast<size_t>(2 * l + 1)];
      if (f.axes == Axes::stacked_turned) past_k = op("Transpose", {past_k}, {{"perm", Ints{0, 1, 3, 2}}});
      ValueId all_k, all_v, mixed;
      if (f.node) {
        const auto out = b.ops("Attention", {q, k, v, hide, past_k, past_v}, 3, {{"is_causal", int64_t{!f.mask && !f.causal}}});
        mixed = out[0], all_k = out[1], all_v = out[2];
      } else {
        all_k = op("Concat", {past_k, k}, {{"axis", keys_turned ? int64_t{3} : held_axis}});
        all_v = op("Concat", {past_v, v}, {{"axis", f.axes == Axes::turned ? int64_t{2} : held_axis}});
        const auto in_order = [&](ValueId u) {
          if (f.axes == Axes::second) return op("Transpose", {u}, {{"perm", Ints{0, 2, 1, 3}}});
          return f.axes == Axes::first ? op("Transpose", {u}, {{"perm", Ints{1, 2, 0, 3}}}) : u;
        };
        const auto repeated = [&](ValueId u) {
          if (f.heads == f.kv_heads) return u;
          const ValueId one = op("Unsqueeze", {u, ints({2})});
          const ValueId shape =
              op("Concat", {size(u, 0), ints({f.kv_heads, f.heads / f.kv_heads}), size(u, 2), ints({f.width})}, {{"axis", int64_t{0}}});
          const ValueId joined = op("Concat", {size(u, 0), ints({f.heads}), size(u, 2), ints({f.width})}, {{"axis", int64_t{0}}});
          return op("Reshape", {op("Expand", {one, shape}), joined});
        };
        const ValueId turned = keys_turned ? all_k : op("Transpose", {repeated(in_order(all_k))}, {{"perm", Ints{0, 1, 3, 2}}});
        const auto as_held_in = [&](ValueId u) { return f.halves ? op("Cast", {u}, {{"to", int64_t{10}}}) : u; };
        const float root = std::sqrt(static_cast<float>(f.width));
        ValueId scores;
        if (f.scores == Scores::both_scaled) {
          const ValueId half = as_held_in(floats(1 / std::sqrt(root)));
          scores = op("MatMul", {op("Mul", {q, half}), op("Mul", {turned, half})});
        } else {
          scores = op("Mul", {op("MatMul", {q, turned}), as_held_in(floats(1 / root))});
        }
        if (f.scores == Scores::capped) {
          const ValueId cap = as_held_in(floats(3));
          scores = op("Mul", {op("Tanh", {op("Div", {scores, cap})}), cap});
        }
        if (f.scores == Scores::slopes) {
          const ValueId all = op("Add", {size(past_v, held_axis), size(tokens, 1)});
          const ValueId places = op("Cast", {op("Range", {ints({0}, true), op("Squeeze", {all}), ints({1}, true)})}, {{"to", int64_t{1}}});
          scores = op("Add", {scores, op("Mul", {w({f.heads, 1, 1}), op("Unsqueeze", {places, ints({0, 1})})})});
        }
        if (hide != kAbsent) scores = op("Add", {scores, f.halves ? op("Cast", {hide}, {{"to", int64_t{10}}}) : hide});
        if (f.where) {
          const ValueId before = size(past_v, f.axes == Axes::turned ? 2 : held_axis), all = op("Add", {before, size(tokens, 1)});
          Tensor triangle(DType::boolean, {1, 1, 64, 64});
          for (int64_t i = 0; i < 64; ++i) {
            for (int64_t j = 0; j < 64; ++j) triangle.as<bool>()[static_cast<size_t>(i * 64 + j)] = j <= i;
          }
          const ValueId rows = op("Slice", {b.constant("t" + std::to_string(names++), triangle), before, all, ints({2})});
          scores = op("Where", {op("Slice", {rows, ints({0}), all, ints({3})}), scores, floats(-10000)});
        }
        if (f.scores == Scores::wide) scores = op("Cast", {scores}, {{"to", int64_t{1}}});
        ValueId weights = op("Softmax", {scores}, {{"axis", int64_t{-1}}});
        if (f.scores == Scores::safe) weights = op("Where", {op("IsNaN", {weights}), floats(0), weights});
        if (f.scores == Scores::wide) weights = as_held_in(weights);
        mixed = op("MatMul", {weights, repeated(in_order(all_v))});
      }
      if (f.halves) mixed = op("Cast", {mixed}, {{"to", int64_t{1}}});
      const ValueId joined = op("Reshape", {op("Transpose", {mixed}, {{"perm", Ints{0, 2, 1, 3}}}), ints({0, 0, f.heads * v_width})});
      x = op("Add", {x, op("MatMul", {joined, w({f.heads * v_width, model})})});
      if (f.copied) x = op("Add", {x, op("Squeeze", {op("ReduceMean", {all_k, ints({1, 2, 3})}), ints({3})})});
      if (stacked(f.axes)) {
        const ValueId keys = keys_turned ? op("Transpose", {all_k}, {{"perm", Ints{0, 1, 3, 2}}}) : all_k;
        const ValueId one = op("Concat", {op("Unsqueeze", {keys, ints({0})}), op("Unsqueeze", {all_v, ints({0})})}, {{"axis", int64_t{0}}});
        b.output(one, "present." + std::to_string(l) + ".both");
        continue;
      }
      b.output(all_k, "present." + std::to_string(l) + ".keys");
      b.output(all_v, "present." + std::to_string(l) + ".values");
    }
    b.output(op("MatMul", {op("LayerNormalization", {x, w({model}), w({model})}), w({model, f.words})}), "scores");
    return b.finish();
  }
};

inline Graph decoder(const Form& f) { return Decoder{f}.make(); }

inline constexpr const char* kStatePattern = "present.*=past.*";

}  // namespace test
