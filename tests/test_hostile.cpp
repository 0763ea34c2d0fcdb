// Input that means harm, or is merely wrong: a clear error each time, no crash, no unbounded memory.
#include <algorithm>
#include <limits>
#include <climits>

#include "support.hpp"

using namespace test;
using Data = Attribute::Data;
using I = std::vector<int64_t>;

namespace {

// The error of one op on these inputs, plain and compiled; both must fail alike.
std::string error_on(const char* op, const std::vector<Tensor>& in, std::map<std::string, Data> attributes = {}, int64_t opset = 21) {
  return error_of([&] {
    Builder b("one", opset);
    std::vector<ValueId> ids;
    for (const Tensor& t : in)
      ids.push_back(b.input("x" + std::to_string(ids.size()), t.dtype(), Dims(t.shape().begin(), t.shape().end())));
    b.output(b.op(op, ids, attributes), "y");
    const Graph g = b.finish();
    const std::string plain = error_of([&] { evaluate_plain(g, in); });
    const std::string compiled = error_of([&] { Lane(compile(g, {.threads = 1})).run(std::span<const Tensor>(in)); });
    CHECK(plain.empty() == compiled.empty());
    if (!plain.empty()) throw Error(Category::value, plain);
  });
}

}  // namespace

TEST_CASE("values that an op cannot take") {
  const Tensor x = random_tensor({2, 3}, 1);
  CHECK(has(error_on("Gather", {x, i64s({0, 5})}), "index 5 is outside"));
  CHECK(has(error_on("GatherElements", {x, Tensor::from<int64_t>({1, 1}, {-7})}), "index -7 is outside"));
  CHECK(has(error_on("GatherND", {x, Tensor::from<int64_t>({1, 2}, {1, 9})}), "index 9 is outside"));
  CHECK(has(error_on("ScatterND", {x, Tensor::from<int64_t>({1, 1}, {4}), random_tensor({1, 3}, 2)}), "index 4 is outside"));
  CHECK(has(error_on("ScatterElements", {x, Tensor::from<int64_t>({1, 1}, {0}), random_tensor({1, 2}, 2)}), "must agree"));
  CHECK(has(error_on("Div", {i64s({1, 2}), i64s({1, 0})}), "integer division by zero"));
  CHECK(has(error_on("Mod", {i64s({1, 2}), i64s({1, 0})}), "remainder by zero"));
  CHECK(error_on("Div", {i64s({INT64_MIN}), i64s({-1})}).empty());
  CHECK(has(error_on("Reshape", {x, i64s({INT64_MAX, 2})}), "overflows"));
  CHECK(has(error_on("Reshape", {x, i64s({-5, 2})}), "holds -5"));
  CHECK(has(error_on("Expand", {x, i64s({int64_t{1} << 40, 2, 3})}), "limit"));
  CHECK(has(error_on("Tile", {x, i64s({int64_t{1} << 40, int64_t{1} << 30})}), "more elements"));
  CHECK(has(error_on("Tile", {x, i64s({-1, 1})}), "repeats holds -1"));
  CHECK(has(error_on("Pad", {x, i64s({0, INT64_MAX, 0, 0})}), "padding"));
  CHECK(has(error_on("Range", {i64s({0}).reshaped({}), i64s({INT64_MAX}).reshaped({}), i64s({1}).reshaped({})}), "absurd"));
  CHECK(has(error_on("Range", {i64s({0}).reshaped({}), i64s({5}).reshaped({}), i64s({0}).reshaped({})}), "delta is 0"));
  CHECK(has(error_on("OneHot", {i64s({1}), i64s({-3}), i64s({0, 1})}), "depth is -3"));
  CHECK(has(error_on("ReverseSequence", {x, i64s({1, 2, 9})}), "(sequence_lens) holds 9"));
  CHECK(has(error_on("DepthToSpace", {random_tensor({1, 4, 2, 2}, 1)}, {{"blocksize", int64_t{INT_MAX}}}), "blocksize"));
  CHECK(error_on("EyeLike", {x}, {{"k", int64_t{INT64_MIN}}}).empty());  // a diagonal outside: all zeros
  CHECK(has(error_on("Einsum", {x, x}, {{"equation", std::string("ij,jk->i!")}}), "equation holds '!'"));
  CHECK(has(error_on("TopK", {x, i64s({9})}), "k is 9"));
  const Tensor none = Tensor(DType::f32, {1, 0, 4, 4}), filters = Tensor(DType::f32, {0, 8, 3, 3});
  CHECK(has(error_on("Conv", {none, filters}, {{"group", int64_t{3098476543630901249}}}), "group"));
  CHECK(has(error_on("ConvTranspose", {none, filters}, {{"group", int64_t{3098476543630901249}}}), "group"));
  CHECK(has(error_on("SplitToSequence", {x, i64s({1, INT64_MAX})}), "do not add up"));
}

TEST_CASE("sparse tensors that leave their shape") {
  const auto made = [](I indices, Shape shape, Shape index_shape = {}) {
    SparseTensor s;
    s.values = Tensor::from<float>({2}, {1, 2});
    s.indices = index_shape.empty() ? i64s(indices) : Tensor::from<int64_t>(index_shape, std::span<const int64_t>(indices));
    s.shape = std::move(shape);
    return s;
  };
  CHECK(dense(made({1, 5}, {2, 3})).as<float>()[5] == 2);
  CHECK(dense(made({0, 1, 1, 2}, {2, 3}, {2, 2})).as<float>()[1] == 1);
  CHECK(has(error_of([&] { dense(made({1, 6}, {2, 3})); }), "sparse index 6 is outside"));
  CHECK(has(error_of([&] { dense(made({-1, 2}, {2, 3})); }), "sparse index -1"));
  CHECK(has(error_of([&] { dense(made({1, 1}, {2, 3})); }), "given twice"));
  CHECK(has(error_of([&] { dense(made({0, 0, 1, 3}, {2, 3}, {2, 2})); }), "outside dim 1 of size 3"));
  CHECK(has(error_of([&] { dense(made({0, 1}, {int64_t{1} << 30, 1 << 20})); }), "too large"));
  CHECK(has(error_of([&] { dense(made({0, 1, 2}, {2, 3})); }), "2 values, but indices of shape 3"));
  // In a Constant, and through a file.
  Builder b("sparse");
  b.output(b.op("Constant", {}, {{"sparse_value", Data(made({1, 5}, {2, 3}))}}), "y");
  const Graph g = b.finish();
  const Folder f;
  save(g, f.path / "m.onnx");
  CHECK(equal(load(f.path / "m.onnx"), g));
  CHECK(evaluate_plain(g, {})[0].as<float>()[1] == 1);
}

TEST_CASE("constants of another type than their value says") {
  Builder b("claims more");
  b.output(b.op("Add", {b.input("x", DType::f32, {4}), b.constant("c", random_tensor({4}, 1))}), "y");
  Graph g = b.finish();
  Value& c = g.values[static_cast<size_t>(g.find_value("c"))];
  c.dims = Dims{Dim(4000)};
  CHECK(has(error_of([&] { compile(g); }), "its constant is f32 of 4, the value says f32 of 4000"));
  c.dims = Dims{Dim(4)};
  c.dtype = DType::f64;
  CHECK(has(error_of([&] { compile(g); }), "the value says f64 of 4"));
}

TEST_CASE("axes longer than any tensor") {
  const auto pooled = [](int64_t length) {
    Builder b("long");
    b.output(b.op("MaxPool", {b.input("x", DType::f32, {1, 2, length, 5})}, {{"kernel_shape", I{5, 5}}, {"pads", I{2, 2, 2, 2}}}), "y");
    return b.finish();
  };
  CHECK(pooled(1 << 20).nodes.size() == 1);
  const std::string text = error_of([&] { pooled(INT64_MAX); });
  CHECK(has(text, "graph inputs"));
  CHECK(has(text, "'x' has a dim of 9223372036854775807"));
  // One that only follows from the nodes.
  Builder b("flat");
  b.output(b.op("Reshape", {b.input("x", DType::f32, {int64_t{1} << 30, int64_t{1} << 30}), b.constant("to", i64s({-1}))}), "y");
  CHECK(has(error_of([&] { b.finish(); }), "'y' has a dim of 1152921504606846976"));
}

TEST_CASE("pictures without pixels, and regions that are nowhere") {
  const Tensor none(DType::f32, {1, 1, 0, 2}), grid = random_tensor({1, 2, 4, 2}, 1);
  const auto sampled = [&](const char* padding) {
    Builder b("sample", 20);
    const ValueId x = b.input("x", DType::f32, {1, 1, int64_t{0}, 2}), g = b.input("g", DType::f32, {1, 2, 4, 2});
    b.output(b.op("GridSample", {x, g}, {{"padding_mode", std::string(padding)}}), "y");
    return evaluate_plain(b.finish(), std::vector<Tensor>{none, grid})[0];
  };
  const Tensor zeros = sampled("zeros");
  CHECK(std::ranges::all_of(zeros.as<float>(), [](float f) { return f == 0; }));
  for (const char* padding : {"border", "reflection"}) CHECK(has(error_of([&] { sampled(padding); }), "there is no pixel"));
  const float nan = std::numeric_limits<float>::quiet_NaN();
  const auto aligned = [&](const Shape& shape, std::vector<float> region) {
    Builder b("align", 16);
    const ValueId x = b.input("x", DType::f32, Dims(shape.begin(), shape.end()));
    const ValueId r = b.constant("r", Tensor::from<float>({1, 4}, region)), at = b.constant("b", i64s({0}));
    b.output(b.op("RoiAlign", {x, r, at}, {{"output_height", int64_t{2}}, {"output_width", int64_t{2}}, {"sampling_ratio", int64_t{2}}}),
             "y");
    Tensor ones(DType::f32, shape);
    for (float& f : ones.as<float>()) f = 1;
    return evaluate_plain(b.finish(), std::vector<Tensor>{ones})[0];
  };
  CHECK(aligned({1, 1, 4, 4}, {0, 0, 2, 2}).as<float>()[3] == 1);
  CHECK(aligned({1, 1, 0, 4}, {-0.5f, -0.5f, 0, 0}).as<float>()[0] == 0);
  CHECK(aligned({1, 1, 4, 4}, {nan, nan, nan, nan}).as<float>()[0] == 0);
  const auto pooled = [&](std::vector<float> region) {
    Builder b("pool", 16);
    b.output(b.op("MaxRoiPool", {b.input("x", DType::f32, {1, 1, 4, 4}), b.constant("r", Tensor::from<float>({1, 5}, region))},
                  {{"pooled_shape", I{2, 2}}}),
             "y");
    return evaluate_plain(b.finish(), std::vector<Tensor>{random_tensor({1, 1, 4, 4}, 2)})[0];
  };
  CHECK(pooled({0, 0, 0, 3, 3}).size() == 4);
  CHECK(has(error_of([&] { pooled({0, -1e30f, 0, 1e30f, 3}); }), "absurdly large"));
}

TEST_CASE("nesting without end") {
  std::shared_ptr<Graph> inner;
  for (int depth = 0; depth < 60; ++depth) {
    Builder b("level");
    if (inner)
      b.output(b.op("If", {b.outer("c")}, {{"then_branch", Data(inner)}, {"else_branch", Data(inner)}}), "y" + std::to_string(depth));
    else b.output(b.op("Neg", {b.outer("x")}), "y");
    // One branch only: two at each level would be 2^60 graphs.
    inner = b.finish_body();
    if (depth > 0) inner->nodes[0].attributes.erase("else_branch");
  }
  Graph g = *inner;
  g.opsets[""] = 17;
  const Folder f;
  save(g, f.path / "deep.onnx");
  const std::string text = error_of([&] { load(f.path / "deep.onnx"); });
  CHECK(has(text, "nested more than 24 deep"));
}

TEST_CASE("models from memory have no folder to read from") {
  const Folder f;
  Builder b("m");
  b.output(b.op("Add", {b.input("x", DType::f32, {2000}), b.constant("w", random_tensor({2000}, 1))}), "y");
  const Graph g = b.finish();
  save(g, f.path / "whole.onnx");
  CHECK(equal(load_bytes(slurp(f.path / "whole.onnx")), g));
  save(g, f.path / "split.onnx", {.external_from_bytes = 100});
  CHECK(
      has(error_of([&] { load_bytes(slurp(f.path / "split.onnx"), "parcel"); }), "parcel: initializer 'w': external data cannot be read"));
  CHECK(has(error_of([&] { load_bytes("nonsense", "parcel"); }), "parcel: not an ONNX model"));
}
