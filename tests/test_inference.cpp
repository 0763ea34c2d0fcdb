// Type and shape inference: what every family says about symbolic dims, and what it refuses.
#include <array>

#include "support.hpp"

using namespace test;

namespace {

using Ints = std::vector<int64_t>;
using Attributes = std::map<std::string, Attribute::Data>;

struct In {
  DType dtype;
  Dims dims;
  std::optional<Tensor> constant;
};

In f32(Dims dims) { return {DType::f32, std::move(dims), {}}; }
In of(DType d, Dims dims) { return {d, std::move(dims), {}}; }
In known(std::initializer_list<int64_t> v) { return {DType::i64, {}, Tensor::from<int64_t>({static_cast<int64_t>(v.size())}, v)}; }
In scalar(int64_t v) { return {DType::i64, {}, Tensor::from<int64_t>({}, {v})}; }
In fed(int64_t n) { return {DType::i64, Dims{Dim(n)}, {}}; }

std::vector<Value> infer_outputs(const char* op, const std::vector<In>& in, const Attributes& attributes, int64_t opset, int outputs) {
  Builder b("infer", opset);
  std::vector<ValueId> ids;
  for (size_t i = 0; i < in.size(); ++i) {
    const std::string name = "x" + std::to_string(i);
    ids.push_back(in[i].constant ? b.constant(name, *in[i].constant) : b.input(name, in[i].dtype, in[i].dims));
  }
  for (ValueId v : b.ops(op, ids, outputs, attributes)) b.output(v);
  const Graph g = b.finish();
  std::vector<Value> out;
  for (ValueId v : g.outputs) out.push_back(g.values[v]);
  return out;
}

// "f32 batch x 3", "i64 scalar", "f32 ?" when not even the rank is known.
std::string says(const char* op, const std::vector<In>& in, const Attributes& attributes = {}, int64_t opset = 18, int outputs = 1) {
  std::string text;
  for (const Value& v : infer_outputs(op, in, attributes, opset, outputs)) {
    text += (text.empty() ? "" : "; ") + std::string(to_string(v.dtype)) + " " + (v.dims ? to_string(*v.dims) : "?");
  }
  return text;
}

std::string refuses(const char* op, const std::vector<In>& in, const Attributes& attributes = {}, int64_t opset = 18, int outputs = 1) {
  return error_of([&] { infer_outputs(op, in, attributes, opset, outputs); });
}

}  // namespace

TEST_CASE("elementwise") {
  CHECK(says("Relu", {f32({"n", 3})}) == "f32 n x 3");
  CHECK(says("Add", {f32({"n", 3}), f32({3})}) == "f32 n x 3");
  CHECK(says("Add", {f32({"n", 1}), f32({"n", 5})}) == "f32 n x 5");
  CHECK(says("Add", {f32({"n"}), f32({"m"})}) == "f32 ?");
  CHECK(says("Add", {f32({"n"}), f32({7})}) == "f32 7");
  CHECK(says("Greater", {f32({"n", 3}), f32({})}) == "bool n x 3");
  CHECK(says("Where", {of(DType::boolean, {"n", 1}), f32({4}), f32({})}) == "f32 n x 4");
  CHECK(says("Cast", {f32({"n"})}, {{"to", int64_t{10}}}) == "f16 n");
  CHECK(says("CastLike", {f32({"n"}), of(DType::i8, {1})}) == "i8 n");
  CHECK(says("Pow", {f32({"n"}), of(DType::i32, {1})}) == "f32 n");
  CHECK(says("Max", {of(DType::i32, {"n"}), of(DType::i32, {2, 1})}) == "i32 2 x n");
  CHECK(has(refuses("Relu", {of(DType::boolean, {2})}), "input 0 is bool, expected a number"));
  CHECK(has(refuses("Sigmoid", {of(DType::i32, {2})}), "expected a floating type"));
  CHECK(has(refuses("And", {f32({2}), f32({2})}), "expected bool"));
  CHECK(has(refuses("Where", {f32({2}), f32({2}), f32({2})}), "expected bool"));
  CHECK(has(refuses("Add", {f32({2}), of(DType::f64, {2})}), "must have one dtype"));
  CHECK(has(refuses("Cast", {f32({2})}), "attribute 'to' is missing; it must hold one integer"));
  CHECK(has(refuses("Cast", {f32({2})}, {{"to", int64_t{99}}}), "not an element type"));
}

TEST_CASE("products") {
  CHECK(says("MatMul", {f32({"b", "n", 4}), f32({4, 5})}) == "f32 b x n x 5");
  CHECK(says("MatMul", {f32({4}), f32({"b", 4, 5})}) == "f32 b x 5");
  CHECK(says("MatMul", {f32({"b", 3, 4}), f32({4})}) == "f32 b x 3");
  CHECK(says("MatMul", {f32({4}), f32({4})}) == "f32 scalar");
  CHECK(says("Gemm", {f32({"n", 4}), f32({5, 4})}, {{"transB", int64_t{1}}}) == "f32 n x 5");
  CHECK(has(refuses("MatMul", {f32({2, 3}), f32({4, 5})}), "inner sizes differ"));
  CHECK(has(refuses("MatMul", {f32({}), f32({4, 5})}), "a scalar cannot be a factor"));
  CHECK(has(refuses("Gemm", {f32({2, 3, 4}), f32({4, 5})}), "input 0 (A) has shape 2 x 3 x 4, expected rank 2"));
  CHECK(has(refuses("Gemm", {f32({2, 3}), f32({3, 5}), f32({4})}), "broadcast"));
}

TEST_CASE("convolutions and pools") {
  const Attributes same{{"auto_pad", std::string("SAME_UPPER")}};
  const In w{DType::f32, {}, random_tensor({8, 3, 3, 3}, 1)};
  CHECK(says("Conv", {f32({"n", 3, 32, 30}), w}) == "f32 n x 8 x 30 x 28");
  CHECK(says("Conv", {f32({"n", 3, "h", "w"}), w}, same) == "f32 n x 8 x h x w");
  CHECK(says("Conv", {f32({"n", 3, "h", 16}), w}, {{"strides", Ints{2, 2}}, {"pads", Ints{1, 1, 1, 1}}}) ==
        "f32 n x 8 x floor((h + 1)/2) x 8");
  CHECK(says("ConvTranspose", {f32({"n", 8, 5, 5}), w}, {{"strides", Ints{2, 2}}}) == "f32 n x 3 x 11 x 11");
  CHECK(says("MaxPool", {f32({"n", 3, 9, 9})}, {{"kernel_shape", Ints{3, 3}}, {"strides", Ints{2, 2}}}, 18, 2) ==
        "f32 n x 3 x 4 x 4; i64 n x 3 x 4 x 4");
  CHECK(says("GlobalAveragePool", {f32({"n", "c", "h", "w"})}) == "f32 n x c x 1 x 1");
  CHECK(has(refuses("Conv", {f32({"n", 4, 32, 32}), w}), "input 0 (X) has shape n x 4 x 32 x 32, expected N x 3 (c*group) x ..."));
  CHECK(has(refuses("Conv", {f32({"n", 3, 32}), w}), "input 1 (W) has shape 8 x 3 x 3 x 3, expected"));
  CHECK(has(refuses("Conv", {f32({1, 3, 2, 2}), w}), "window of 3 does not fit into 2"));
  CHECK(has(refuses("Conv", {f32({1, 3, 9, 9}), w}, {{"pads", Ints{1, 1}}}), "pads has 2 entries, expected 4"));
  CHECK(has(refuses("Conv", {f32({1, 3, 9, 9}), w}, {{"kernel_shape", Ints{5, 5}}}), "kernel_shape is 5x5, the weights have 3x3"));
  CHECK(has(refuses("Conv", {f32({1, 3, 9, 9}), w}, {{"auto_pad", std::string("SOMETIMES")}}),
            "attribute 'auto_pad' is 'SOMETIMES', expected NOTSET"));
  CHECK(has(refuses("Conv", {f32({1, 3, 9, 9}), w}, {{"group", int64_t{0}}}), "attribute 'group' is 0, expected more than 0"));
  CHECK(has(refuses("MaxPool", {f32({1, 3, 9, 9})}), "'kernel_shape' is missing"));
  CHECK(has(refuses("MaxPool", {f32({9, 9})}, {{"kernel_shape", Ints{3}}}), "at least one spatial axis"));
}

TEST_CASE("reductions") {
  CHECK(says("ReduceSum", {f32({"n", 3, "h"}), known({-1})}) == "f32 n x 3 x 1");
  CHECK(says("ReduceSum", {f32({"n", 3, "h"}), known({1, 2})}, {{"keepdims", int64_t{0}}}) == "f32 n");
  CHECK(says("ReduceMean", {f32({"n", 3}), fed(1)}) == "f32 ? x ?");
  CHECK(says("ReduceMax", {f32({"n", 3})}) == "f32 1 x 1");
  CHECK(says("ReduceMax", {f32({"n", 3})}, {{"axes", Ints{0}}}, 13) == "f32 1 x 3");
  CHECK(says("ArgMax", {f32({"n", 3, "h"})}, {{"axis", int64_t{1}}, {"keepdims", int64_t{0}}}) == "i64 n x h");
  CHECK(says("TopK", {f32({"n", 9}), known({4})}, {}, 18, 2) == "f32 n x 4; i64 n x 4");
  CHECK(says("TopK", {f32({"n", 9}), fed(1)}, {}, 18, 2) == "f32 n x ?; i64 n x ?");
  CHECK(has(refuses("ReduceSum", {f32({2, 3}), known({5})}), "axis 5 is outside"));
  CHECK(has(refuses("ArgMax", {f32({2, 3})}, {{"axis", int64_t{-3}}}), "axis -3"));
  CHECK(has(refuses("TopK", {f32({2, 3}), known({4})}, {}, 18, 2), "k is 4, axis 1 has 3"));
}

TEST_CASE("normalisations") {
  CHECK(says("Softmax", {f32({"n", 10})}) == "f32 n x 10");
  CHECK(says("LayerNormalization", {f32({"n", 4, 8}), f32({8})}, {}, 17, 3) == "f32 n x 4 x 8; f32 n x 4 x 1; f32 n x 4 x 1");
  CHECK(says("BatchNormalization", {f32({"n", 4, "h"}), f32({4}), f32({4}), f32({4}), f32({4})}) == "f32 n x 4 x h");
  CHECK(has(refuses("BatchNormalization", {f32({"n", 4, 3}), f32({5}), f32({4}), f32({4}), f32({4})}),
            "input 1 (scale) has shape 5, expected 4 (C)"));
  CHECK(has(refuses("Softmax", {f32({2, 3})}, {{"axis", int64_t{2}}}), "axis 2"));
}

TEST_CASE("views and movement") {
  CHECK(says("Reshape", {f32({"n", 3, 4}), known({0, -1})}) == "f32 n x 12");
  CHECK(says("Reshape", {f32({"n", 3, 4}), known({-1, 12})}) == "f32 n x 12");
  CHECK(says("Reshape", {f32({2, 3, 4}), known({-1, 8})}) == "f32 3 x 8");
  CHECK(says("Reshape", {f32({2, 3}), fed(3)}) == "f32 ? x ? x ?");
  CHECK(says("Flatten", {f32({"n", 3, 4})}) == "f32 n x 12");
  CHECK(says("Flatten", {f32({"n", 3, 4})}, {{"axis", int64_t{0}}}) == "f32 1 x 12*n");
  CHECK(says("Squeeze", {f32({"n", 1, 4}), known({1})}) == "f32 n x 4");
  CHECK(says("Unsqueeze", {f32({"n"}), known({0, 2})}) == "f32 1 x n x 1");
  CHECK(says("Unsqueeze", {f32({"n"})}, {{"axes", Ints{-1}}}, 11) == "f32 n x 1");
  CHECK(says("Transpose", {f32({"n", 3, "h"})}) == "f32 h x 3 x n");
  CHECK(says("Concat", {f32({"n", 3}), f32({"n", 4})}, {{"axis", int64_t{-1}}}) == "f32 n x 7");
  CHECK(says("Concat", {f32({"n", 3}), f32({2, 4})}, {{"axis", int64_t{1}}}) == "f32 2 x 7");
  CHECK(says("Split", {f32({"n", 7})}, {{"axis", int64_t{1}}, {"num_outputs", int64_t{2}}}, 18, 2) == "f32 n x 4; f32 n x 3");
  CHECK(says("Split", {f32({"n", 6})}, {{"axis", int64_t{0}}}, 13, 2) == "f32 ? x 6; f32 ? x 6");
  CHECK(says("Slice", {f32({"n", 9}), known({1}), known({5}), known({1})}) == "f32 n x 4");
  CHECK(says("Slice", {f32({"n", 9}), fed(1), fed(1), known({1})}) == "f32 n x ?");
  CHECK(says("Gather", {f32({"n", 9}), of(DType::i64, {"k", 2})}, {{"axis", int64_t{1}}}) == "f32 n x k x 2");
  CHECK(says("Gather", {f32({"n", 9}), scalar(0)}, {{"axis", int64_t{1}}}) == "f32 n");
  CHECK(says("Expand", {f32({"n", 1}), known({1, 5})}) == "f32 n x 5");
  CHECK(says("Tile", {f32({"n", 3}), known({1, 2})}) == "f32 n x 6");
  CHECK(says("Pad", {f32({"n", 3}), known({0, 1, 0, 2})}) == "f32 n x 6");
  CHECK(says("Resize", {f32({"n", 3, 4, 4}),
                        {DType::f32, {}, Tensor::from<float>({0}, {})},
                        {DType::f32, {}, Tensor::from<float>({4}, {1, 1, 2, 3})}}) == "f32 n x 3 x 8 x 12");
  CHECK(has(refuses("Reshape", {f32({2, 3}), known({4, 2})}), "cannot reshape"));
  CHECK(has(refuses("Reshape", {f32({2, 3}), known({-1, -1})}), "-1 twice"));
  CHECK(has(refuses("Reshape", {f32({2, 3}), known({6, 1, 0})}), "entry 2 is 0"));
  CHECK(has(refuses("Squeeze", {f32({2, 3}), known({0})}), "not 1"));
  CHECK(has(refuses("Transpose", {f32({2, 3})}, {{"perm", Ints{0, 0}}}), "given twice"));
  CHECK(has(refuses("Transpose", {f32({2, 3})}, {{"perm", Ints{0}}}), "perm has 1 entries"));
  CHECK(has(refuses("Concat", {f32({2, 3}), f32({3, 3})}, {{"axis", int64_t{1}}}), "differ beside the axis"));
  CHECK(has(refuses("Concat", {f32({2, 3}), f32({2})}, {{"axis", int64_t{0}}}), "ranks 2 and 1"));
  CHECK(has(refuses("Concat", {f32({2, 3})}), "axis is missing"));
  CHECK(has(refuses("Gather", {f32({2, 3}), f32({2})}), "expected i32 or i64"));
  CHECK(has(refuses("Split", {f32({7})}, {}, 13, 2), "do not split into 2 equal parts"));
  CHECK(has(refuses("Tile", {f32({2, 3}), known({2})}), "repeats has 1 entries"));
  CHECK(has(refuses("Pad", {f32({2, 3}), known({1, 1})}), "pads has 2 entries, expected 4"));
}

TEST_CASE("creation") {
  CHECK(says("Shape", {f32({"n", 3})}) == "i64 2");
  CHECK(says("Size", {f32({"n", 3})}) == "i64 scalar");
  CHECK(says("ConstantOfShape", {known({2, 3})}) == "f32 2 x 3");
  CHECK(says("ConstantOfShape", {fed(2)}, {{"value", Tensor::from<int64_t>({1}, {4})}}) == "i64 ? x ?");
  CHECK(says("Range", {scalar(2), scalar(11), scalar(3)}) == "i64 3");
  CHECK(says("Constant", {}, {{"value_floats", std::vector<float>{1, 2}}}) == "f32 2");
  CHECK(says("Dropout", {f32({"n", 3})}, {}, 18, 2) == "f32 n x 3; bool n x 3");
  CHECK(has(refuses("Constant", {}), "no attribute holds a value"));
  CHECK(has(refuses("ConstantOfShape", {known({-2})}), "negative"));
}

TEST_CASE("declared types are compared with inferred ones") {
  Builder b("declared");
  b.output(b.op("Relu", {b.input("x", DType::f32, {2, 3})}), "y");
  Graph g = b.finish();
  g.values[g.find_value("y")].dims = Dims{Dim(2), Dim(4)};
  CHECK(has(error_of([&] { infer(g); }), "'y' is declared 2 x 4, its node gives 2 x 3"));
  g.values[g.find_value("y")].dims = Dims{Dim("rows"), Dim(3)};
  infer(g);
  CHECK(to_string(*g.values[g.find_value("y")].dims) == "2 x 3");
  g.values[g.find_value("y")].dtype = DType::i64;
  CHECK(has(error_of([&] { infer(g); }), "declared i64, its node gives f32"));
}

TEST_CASE("arity is checked before anything runs") {
  CHECK(has(refuses("Add", {f32({2})}), "has 1 inputs, expected 2"));
  CHECK(has(refuses("Relu", {f32({2}), f32({2})}), "has 2 inputs, expected 1"));
  CHECK(has(refuses("Clip", {f32({2}), f32({}), f32({}), f32({})}), "has 4 inputs, expected 1 to 3"));
  CHECK(has(refuses("Relu", {f32({2})}, {}, 18, 2), "has 2 outputs, expected at most 1"));
}

TEST_CASE("definitions are found by version") {
  CHECK(find_op("", "Clip", 10)->max_inputs == 1);
  CHECK(find_op("", "Clip", 13)->max_inputs == 3);
  CHECK(find_op("ai.onnx", "Relu", 17) != nullptr);
  CHECK(find_op("", "Gelu", 19) == nullptr);
  CHECK(find_op("", "Gelu", 20) != nullptr);
  CHECK(find_op("nowhere", "Relu", 17) == nullptr);
  CHECK(all_ops().size() > 120);
  for (const OpDef* d : all_ops()) {
    CHECK(d->infer);
    CHECK(d->plain);
    CHECK(d->min_inputs >= 0);
  }
}

TEST_CASE("sizes go through the arithmetic that exporters do on shapes, as expressions in one form") {
  Builder b("shapes", 21);
  int names = 0;
  const auto ints = [&](std::vector<int64_t> v) {
    return b.constant("i" + std::to_string(names++), Tensor::from<int64_t>({static_cast<int64_t>(v.size())}, v));
  };
  const ValueId x = b.input("x", DType::f32, {Dim("batch"), Dim("seq"), Dim(24)});
  const ValueId past = b.input("past", DType::f32, {Dim("batch"), Dim("old"), Dim(24)});
  const auto named = [&](ValueId v, const std::string& name) { b.output(b.op("Identity", {v}), name); };
  // Heads split as exporters do it: sizes taken from Shape, joined with numbers.
  const ValueId shape = b.op("Shape", {x}), zero = ints({0}), one = ints({1});
  const ValueId batch = b.op("Gather", {shape, zero}), seq = b.op("Gather", {shape, one});
  named(b.op("Reshape", {x, b.op("Concat", {batch, seq, ints({4, 6})}, {{"axis", int64_t{0}}})}), "split");
  named(b.op("Reshape", {x, b.op("Concat", {b.op("Mul", {batch, seq}), ints({-1})}, {{"axis", int64_t{0}}})}), "rows");
  named(b.op("Reshape", {x, b.op("Concat", {batch, ints({-1})}, {{"axis", int64_t{0}}})}), "flat");
  named(b.op("Concat", {past, x}, {{"axis", int64_t{1}}}), "grown");
  named(b.op("Expand", {b.constant("c", Tensor::from<float>({1}, {1})), b.op("Slice", {shape, zero, ints({2})})}), "filled");
  named(b.op("ConstantOfShape", {b.op("Div", {b.op("Add", {seq, ints({3})}), ints({2})})}), "half");
  Graph g = b.finish();
  const auto dims = [&](const Graph& of, const std::string& name) { return to_string(*of.values[of.find_value(name)].dims); };
  CHECK(dims(g, "split") == "batch x seq x 4 x 6");
  CHECK(dims(g, "rows") == "batch*seq x 24");
  CHECK(dims(g, "flat") == "batch x 24*seq");
  CHECK(dims(g, "grown") == "batch x old + seq x 24");
  CHECK(dims(g, "filled") == "batch x seq");
  CHECK(dims(g, "half") == "floor((seq + 1)/2) + 1");
  // With sizes, all of them are numbers, and one program serves every size.
  const Program p = compile(g, {.threads = 1});
  for (const auto& [n, length, old] : std::vector<std::array<int64_t, 3>>{{1, 7, 2}, {3, 8, 5}}) {
    const std::vector<Tensor> in{random_tensor({n, length, 24}, 1), random_tensor({n, old, 24}, 2)};
    Lane lane(p);
    const Outputs out = lane.run(std::span<const Tensor>(in));
    CHECK(out["rows"].shape() == Shape{n * length, 24});
    CHECK(out["grown"].shape() == Shape{n, old + length, 24});
    CHECK(out["half"].shape() == Shape{(length + 3) / 2});
  }
  bind_dims(g, {{"seq", 9}, {"old", 4}});
  CHECK(dims(g, "grown") == "batch x 13 x 24");
  CHECK(dims(g, "half") == "6");
}
