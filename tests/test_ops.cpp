// Plain evaluation against values worked out by hand, versions that differ, and inference with symbolic dims. The bulk of
// the operators' proof is the conformance suite; here is what it does not reach.
#include <cmath>

#include "support.hpp"

using namespace test;

namespace {

using Ints = std::vector<int64_t>;
using Attributes = std::map<std::string, Attribute::Data>;

std::vector<Tensor> run(const char* op, std::vector<Tensor> inputs, Attributes attributes = {}, int64_t opset = 17, int outputs = 1) {
  Graph g;
  g.opsets[""] = opset;
  Node n;
  n.op = op;
  for (auto& [key, data] : attributes) n.attributes[key].data = data;
  for (size_t i = 0; i < inputs.size(); ++i) {
    Value v;
    v.name = "in" + std::to_string(i);
    n.inputs.push_back(inputs[i].empty() ? kAbsent : g.add_value(v));
  }
  for (int i = 0; i < outputs; ++i) {
    Value v;
    v.name = "out" + std::to_string(i);
    n.outputs.push_back(g.add_value(v));
  }
  g.nodes.push_back(n);
  return evaluate_node(g, g.nodes[0], inputs);
}

template <typename T>
std::vector<T> values(const Tensor& t) {
  return {t.as<T>().begin(), t.as<T>().end()};
}
Tensor floats(Shape s, std::initializer_list<float> v) { return Tensor::from<float>(std::move(s), v); }
Tensor ints(std::initializer_list<int64_t> v) { return Tensor::from<int64_t>({static_cast<int64_t>(v.size())}, v); }

}  // namespace

TEST_CASE("integer arithmetic wraps, truncates and refuses to divide by zero") {
  const auto i32 = [](std::initializer_list<int32_t> v) { return Tensor::from<int32_t>({static_cast<int64_t>(v.size())}, v); };
  CHECK(values<int32_t>(run("Add", {i32({2147483647}), i32({1})})[0]) == std::vector<int32_t>{-2147483647 - 1});
  CHECK(values<int32_t>(run("Div", {i32({-7, 7, -2147483647 - 1}), i32({2, -2, -1})})[0]) == std::vector<int32_t>{-3, -3, -2147483647 - 1});
  CHECK(has(error_of([&] { run("Div", {i32({1}), i32({0})}); }), "division by zero"));
  CHECK(has(error_of([&] { run("Mod", {i32({1}), i32({0})}); }), "remainder by zero"));
  CHECK(values<int32_t>(run("Mod", {i32({-7, 7}), i32({3, -3})})[0]) == std::vector<int32_t>{2, -2});
  CHECK(values<int32_t>(run("Mod", {i32({-7, 7}), i32({3, -3})}, {{"fmod", int64_t{1}}})[0]) == std::vector<int32_t>{-1, 1});
  CHECK(values<int64_t>(run("Div", {ints({std::numeric_limits<int64_t>::min()}), ints({-1})})[0])[0] ==
        std::numeric_limits<int64_t>::min());
  CHECK(values<int64_t>(run("Pow", {ints({3, -2}), ints({4, 3})})[0]) == Ints{81, -8});
}

TEST_CASE("unsigned integers: sign, absolute value and relu over their whole range") {
  const Tensor u8 = Tensor::from<uint8_t>({3}, {0, 5, 255});
  CHECK(values<uint8_t>(run("Sign", {u8})[0]) == std::vector<uint8_t>{0, 1, 1});
  CHECK(identical(run("Abs", {u8})[0], u8));
  Tensor u64(DType::u64, {2});
  u64.as<uint64_t>()[0] = 7;
  u64.as<uint64_t>()[1] = ~uint64_t{0};
  CHECK(values<uint64_t>(run("Sign", {u64})[0]) == std::vector<uint64_t>{1, 1});
  CHECK(identical(run("Abs", {u64})[0], u64));
  CHECK(values<int64_t>(run("Sign", {ints({-9, 0, 4})})[0]) == Ints{-1, 0, 1});
}

TEST_CASE("NaN comes through min, max, relu and clip") {
  const Tensor x = floats({3}, {NAN, 1, 2}), y = floats({3}, {1, NAN, 0});
  for (const char* op : {"Max", "Min"}) {
    const auto v = values<float>(run(op, {x, y})[0]);
    CHECK(std::isnan(v[0]));
    CHECK(std::isnan(v[1]));
  }
  CHECK(std::isnan(values<float>(run("Relu", {x})[0])[0]));
  CHECK(std::isnan(values<float>(run("Clip", {x, floats({}, {0}), floats({}, {1})})[0])[0]));
  CHECK(values<float>(run("Clip", {floats({1}, {5}), floats({}, {3}), floats({}, {1})})[0])[0] == 1);  // min above max gives max
}

TEST_CASE("casts saturate, truncate and read strings") {
  CHECK(values<int64_t>(run("Cast", {floats({4}, {1.9f, -1.9f, NAN, 1e30f})}, {{"to", int64_t{7}}})[0]) ==
        Ints{1, -1, 0, std::numeric_limits<int64_t>::max()});
  CHECK(values<bool>(run("Cast", {floats({3}, {0.0f, -0.0f, NAN})}, {{"to", int64_t{9}}})[0]) == std::vector<bool>{false, false, true});
  CHECK(values<float>(run("Cast", {Tensor::from<std::string>({3}, {std::string("1.5"), std::string("-INF"), std::string("1e3")})},
                          {{"to", int64_t{1}}})[0]) == std::vector<float>{1.5f, -INFINITY, 1000.0f});
  CHECK(has(error_of([] { run("Cast", {Tensor::from<std::string>({1}, {std::string("oak")})}, {{"to", int64_t{1}}}); }), "'oak'"));
  CHECK(has(error_of([] { run("Cast", {floats({1}, {1})}, {{"to", int64_t{99}}}); }), "not an element type"));
}

TEST_CASE("softmax of old versions flattens, of new ones does not") {
  const Tensor x = floats({1, 2, 2}, {1, 2, 3, 4});
  const auto old = values<float>(run("Softmax", {x}, {{"axis", int64_t{1}}}, 11)[0]),
             now = values<float>(run("Softmax", {x}, {{"axis", int64_t{1}}}, 13)[0]);
  CHECK(old[0] + old[1] + old[2] + old[3] == doctest::Approx(1));
  CHECK(now[0] + now[2] == doctest::Approx(1));
  CHECK(values<float>(run("Softmax", {floats({2}, {1000, 1000})})[0])[0] == 0.5f);  // no overflow
}

TEST_CASE("axes as attribute and as input give the same") {
  const Tensor x = floats({2, 3}, {1, 2, 3, 4, 5, 6});
  CHECK(values<float>(run("ReduceSum", {x}, {{"axes", Ints{1}}}, 11)[0]) == std::vector<float>{6, 15});
  CHECK(values<float>(run("ReduceSum", {x, ints({-1})})[0]) == std::vector<float>{6, 15});
  CHECK(values<float>(run("ReduceMax", {x, ints({0})}, {}, 18)[0]) == std::vector<float>{4, 5, 6});
  CHECK(run("Squeeze", {x.reshaped({1, 2, 3, 1}), ints({0, -1})})[0].shape() == Shape{2, 3});
  CHECK(run("Squeeze", {x.reshaped({1, 2, 3, 1})}, {{"axes", Ints{0}}}, 11)[0].shape() == Shape{2, 3, 1});
  CHECK(has(error_of([&] { run("Squeeze", {x, ints({0})}); }), "size is not 1"));
  CHECK(has(error_of([&] { run("ReduceSum", {x, ints({1, 1})}); }), "given twice"));
}

TEST_CASE("slices clamp, run backwards and refuse step zero") {
  const Tensor x = ints({0, 1, 2, 3, 4});
  const auto cut = [&](int64_t from, int64_t to, int64_t step) {
    return values<int64_t>(run("Slice", {x, ints({from}), ints({to}), ints({0}), ints({step})})[0]);
  };
  const int64_t most = std::numeric_limits<int64_t>::max(), least = std::numeric_limits<int64_t>::min();
  CHECK(cut(1, most, 2) == Ints{1, 3});
  CHECK(cut(most, least, -1) == Ints{4, 3, 2, 1, 0});
  CHECK(cut(-2, -100, -2) == Ints{3, 1});
  CHECK(cut(4, 1, 1).empty());
  CHECK(cut(0, most, most) == Ints{0});
  CHECK(cut(4, least, least) == Ints{4});
  CHECK(has(error_of([&] { cut(0, 1, 0); }), "step is 0"));
}

TEST_CASE("index and size faults are reported") {
  const Tensor x = floats({2, 2}, {1, 2, 3, 4});
  CHECK(has(error_of([&] { run("Gather", {x, ints({2})}); }), "index 2 is outside axis 0 of 2 elements"));
  CHECK(has(error_of([&] { run("TopK", {x, ints({3})}, {}, 17, 2); }), "k is 3"));
  CHECK(has(error_of([&] { run("Concat", {x, floats({1, 3}, {1, 2, 3})}, {{"axis", int64_t{0}}}); }), "differ beside the axis"));
  CHECK(has(error_of([&] { run("Split", {x, ints({1, 2})}, {{"axis", int64_t{0}}}, 17, 2); }), "do not add up"));
  CHECK(has(error_of([&] { run("Expand", {x, ints({3, 2})}); }), "do not broadcast"));
  CHECK(has(error_of([&] { run("Range", {ints({0}).reshaped({}), ints({9}).reshaped({}), ints({0}).reshaped({})}); }), "delta is 0"));
  CHECK(has(error_of([&] { run("ConstantOfShape", {ints({int64_t{1} << 40, int64_t{1} << 40})}); }), "overflows"));
  CHECK(has(error_of([&] { run("Tile", {x, ints({-1, 1})}); }), "repeats holds -1"));
  CHECK(has(error_of([&] { run("MaxPool", {floats({1, 1, 2}, {1, 2})}, {{"kernel_shape", Ints{5}}}); }), "does not fit"));
  CHECK(has(error_of([&] {
              run("Conv", {floats({1, 1, 4}, {1, 2, 3, 4}), floats({1, 1, 2}, {1, 1})}, {{"strides", Ints{0}}});
            }),
            "attribute 'strides' is 0, expected more than 0"));
}

TEST_CASE("hostile sizes are refused before memory is taken") {
  const int64_t big = int64_t{1} << 20;
  const Tensor one = floats({1, 1}, {1});
  Category c{};
  CHECK(has(error_of([&] { run("Expand", {one, ints({big, big})}); }, &c), "the limit is"));
  CHECK(c == Category::resource);
  CHECK(has(error_of([&] { run("Tile", {one, ints({big, big})}); }), "the limit is"));
  CHECK(has(error_of([&] { run("Pad", {one, ints({0, 0, big, big})}); }), "the limit is"));
  CHECK(has(error_of([&] { run("ConstantOfShape", {ints({big, big})}); }), "the limit is"));
  CHECK(has(error_of([&] { run("Range", {ints({0}).reshaped({}), ints({big * big}).reshaped({}), ints({1}).reshaped({})}); }), "absurd"));
  CHECK(has(error_of([&] {
              run("Range", {ints({0}).reshaped({}), ints({big << 12}).reshaped({}), ints({1}).reshaped({})});
            }),
            "the limit is"));
  CHECK(has(error_of([&] { run("Resize", {one, Tensor(), Tensor(), ints({big, big})}); }), "the limit is"));
  // Lists that are empty where one element is needed.
  CHECK(has(error_of([&] { run("Clip", {one, Tensor(DType::f32, {0})}); }), "expected a scalar"));
  CHECK_FALSE(error_of([&] { run("Dropout", {one, Tensor(DType::f32, {0})}); }).empty());
}

TEST_CASE("pad modes") {
  const Tensor x = floats({3}, {1, 2, 3});
  const auto padded = [&](const char* mode, std::initializer_list<int64_t> p, int64_t opset = 19) {
    return values<float>(run("Pad", {x, ints(p)}, {{"mode", std::string(mode)}}, opset)[0]);
  };
  CHECK(padded("reflect", {2, 2}) == std::vector<float>{3, 2, 1, 2, 3, 2, 1});
  CHECK(padded("edge", {1, 2}) == std::vector<float>{1, 1, 2, 3, 3, 3});
  CHECK(padded("wrap", {1, 2}) == std::vector<float>{3, 1, 2, 3, 1, 2});
  CHECK(padded("constant", {-1, 1}) == std::vector<float>{2, 3, 0});
  CHECK(values<float>(run("Pad", {x}, {{"pads", Ints{1, 0}}, {"value", 7.0f}}, 2)[0]) == std::vector<float>{7, 1, 2, 3});
  CHECK(values<float>(run("Pad", {x.reshaped({1, 3}), ints({1, 0}), floats({}, {9}), ints({1})}, {}, 18)[0]) ==
        std::vector<float>{9, 1, 2, 3});
}

TEST_CASE("narrow types: half precision and bool through plain evaluation") {
  const Tensor h = run("Cast", {floats({2}, {1.0f, 2049.0f})}, {{"to", int64_t{10}}})[0];
  CHECK(h.dtype() == DType::f16);
  const Tensor sum = run("Add", {h, h})[0];
  CHECK(values<float>(run("Cast", {sum}, {{"to", int64_t{1}}})[0]) == std::vector<float>{2.0f, 4096.0f});
  const Tensor f8 = run("Cast", {floats({2}, {0.3f, 1000.0f})}, {{"to", int64_t{17}}}, 19)[0];
  CHECK(values<float>(run("Cast", {f8}, {{"to", int64_t{1}}}, 19)[0]) == std::vector<float>{0.3125f, 448.0f});
  const Tensor i4 = run("Cast", {floats({3}, {-8, 7, 3})}, {{"to", int64_t{22}}}, 21)[0];
  CHECK(i4.byte_size() == 2);
  CHECK(values<float>(run("Cast", {i4}, {{"to", int64_t{1}}}, 21)[0]) == std::vector<float>{-8, 7, 3});
}

TEST_CASE("symbolic dims go through") {
  Builder b("symbols");
  const auto x = b.input("x", DType::f32, {"n", 3, "h", 8});
  const auto y = b.op("Conv", {x, b.constant("w", random_tensor({4, 3, 3, 3}, 1))}, {{"pads", Ints{1, 1, 1, 1}}}, "conv");
  b.op("Flatten", {b.op("GlobalAveragePool", {y}, {}, "pooled")}, {}, "flat");
  b.op("Reshape", {y, b.constant("shape", Tensor::from<int64_t>({3}, {0, 4, -1}))}, {}, "reshaped");
  b.op("Transpose", {y}, {{"perm", Ints{0, 2, 3, 1}}}, "turned");
  b.op("Concat", {y, y}, {{"axis", int64_t{0}}}, "joined");
  b.output(b.op("MaxPool", {y}, {{"kernel_shape", Ints{2, 2}}, {"strides", Ints{2, 2}}}, "pool"));
  const Graph g = b.finish();
  const auto dims = [&](const char* name) { return to_string(*g.values[g.find_value(name)].dims); };
  CHECK(dims("conv") == "n x 4 x h x 8");
  CHECK(dims("pooled") == "n x 4 x 1 x 1");
  CHECK(dims("flat") == "n x 4");
  CHECK(dims("reshaped") == "n x 4 x ?");
  CHECK(dims("turned") == "n x h x 8 x 4");
  CHECK(dims("joined") == "2*n x 4 x h x 8");
  CHECK(dims("pool") == "n x 4 x floor(h/2) x 4");
}

TEST_CASE("shape arithmetic of constants is known while inferring") {
  Builder b("shapes");
  const auto x = b.input("x", DType::f32, {2, 3, 4});
  const auto shape = b.op("Shape", {x});
  const auto rows = b.op("Gather", {shape, b.constant("zero", Tensor::from<int64_t>({1}, {0}))});
  const auto wanted = b.op("Concat", {rows, b.constant("rest", Tensor::from<int64_t>({1}, {-1}))}, {{"axis", int64_t{0}}});
  b.output(b.op("Reshape", {x, wanted}), "y");
  const Graph g = b.finish();
  CHECK(to_string(*g.values[g.find_value("y")].dims) == "2 x 12");
  const auto info = compile(g, {.threads = 1}).describe();
  CHECK(info.steps.size() == 1);  // all of it folds away but the copy to the output
}
