// Shaping: cut, bind, override, freeze, rename, preprocessing inside, newer opsets.
#include "support.hpp"

using namespace test;
using Data = Attribute::Data;

namespace {

// x -> a = Relu(x), b = Exp(a), c = Add(b, y); outputs b and c.
Graph chain() {
  Builder b("chain");
  const auto x = b.input("x", DType::f32, {"n", 3}), y = b.input("y", DType::f32, {"n", 3});
  const auto a = b.op("Relu", {x}, {}, "a"), e = b.op("Exp", {a}, {}, "b");
  b.output(e);
  b.output(b.op("Add", {e, y}, {}, "c"));
  return b.finish();
}

std::vector<std::string> names(const Graph& g, const std::vector<ValueId>& list) {
  std::vector<std::string> out;
  for (ValueId v : list) out.push_back(g.values[v].name);
  return out;
}

Tensor plain(const Graph& g, std::vector<Tensor> in, size_t output = 0) { return evaluate_plain(g, in)[output]; }

}  // namespace

TEST_CASE("cutting at outputs and at inputs") {
  Graph g = chain();
  cut(g, {}, {"a"});
  CHECK(g.nodes.size() == 1);
  CHECK(names(g, g.inputs) == std::vector<std::string>{"x"});
  g = chain();
  cut(g, {"b", "y"}, {"c"});
  CHECK(g.nodes.size() == 1);
  CHECK(names(g, g.inputs) == std::vector<std::string>{"b", "y"});
  CHECK(plain(g, {random_tensor({2, 3}, 1), random_tensor({2, 3}, 2)}).shape() == Shape{2, 3});
  g = chain();
  const Graph before = g;
  CHECK(has(error_of([&] { cut(g, {"b"}, {"c"}); }), "still need 'y'"));
  CHECK(has(error_of([&] { cut(g, {"nothing"}, {}); }), "no value is named 'nothing'"));
  CHECK(has(error_of([&] { cut(g, {}, {"nothing"}); }), "the model's outputs are 'b', 'c'"));
  CHECK(equal(g, before));  // what fails leaves the graph as it was
}

TEST_CASE("binding, overriding, freezing, renaming") {
  Graph g = chain();
  bind_dims(g, {{"n", 4}});
  CHECK(to_string(*g.values[g.outputs[1]].dims) == "4 x 3");
  CHECK(has(error_of([&] { bind_dims(g, {{"n", 4}}); }), "all dims are fixed"));
  set_input_dims(g, "x", {"batch", 3});
  set_input_dims(g, "y", {1, 3});
  CHECK(to_string(*g.values[g.outputs[1]].dims) == "batch x 3");
  CHECK(has(error_of([&] { set_input_dims(g, "x", {2, 7}); }), "do not broadcast"));
  CHECK(has(error_of([&] { set_input_dims(g, "z", {2, 7}); }), "the inputs are 'x', 'y'"));
  const Tensor ones = Tensor::from<float>({1, 3}, {1, 1, 1});
  CHECK(has(error_of([&] {
              freeze_input(g, "y", Tensor::from<double>({1, 3}, std::vector<double>{1, 1, 1}));
            }),
            "is f32, the tensor is f64"));
  CHECK(has(error_of([&] { freeze_input(g, "y", Tensor::from<float>({3}, {1, 1, 1})); }), "is 1 x 3, the tensor 3"));
  freeze_input(g, "y", ones);
  CHECK(names(g, g.inputs) == std::vector<std::string>{"x"});
  CHECK(plain(g, {Tensor::from<float>({1, 3}, {0, -5, 1})}, 1).as<float>()[1] == 2);
  rename_values(g, {{"x", "signal"}, {"c", "x"}});
  CHECK(names(g, g.outputs) == std::vector<std::string>{"b", "x"});
  CHECK(has(error_of([&] { rename_values(g, {{"signal", "x"}}); }), "the name 'x' is taken"));
}

TEST_CASE("preprocessing inside gives what preprocessing outside gave") {
  Builder b("net");
  const auto image = b.input("image", DType::f32, {"n", 3, 4, 5});
  b.output(b.op("Conv", {image, b.constant("w", random_tensor({2, 3, 3, 3}, 5))}), "y");
  const Graph net = b.finish();
  Tensor bytes(DType::u8, {2, 4, 5, 3}), outside(DType::f32, {2, 3, 4, 5});
  const float mean[] = {10, 20, 30}, scale[] = {0.5f, 0.25f, 2};
  for (int64_t i = 0; i < bytes.size(); ++i) bytes.as<uint8_t>()[i] = static_cast<uint8_t>(i * 37 % 251);
  for (int n = 0; n < 2; ++n)
    for (int c = 0; c < 3; ++c)
      for (int p = 0; p < 20; ++p)
        outside.as<float>()[(n * 3 + c) * 20 + p] =
            (static_cast<float>(bytes.as<uint8_t>()[(n * 20 + p) * 3 + 2 - c]) - mean[c]) * scale[c];
  Graph inside = net;
  embed_preprocessing(
      inside, "image",
      {.mean = {10, 20, 30}, .scale = {0.5f, 0.25f, 2}, .swap_channels = true, .from_u8 = true, .from_channels_last = true});
  CHECK(to_string(type_of(inside.values[inside.inputs[0]])) == "u8 n x 4 x 5 x 3");
  CHECK(inside.values[inside.inputs[0]].name == "image");
  CHECK(compare("y", plain(inside, {bytes}), plain(net, {outside})).pass);
  Lane lane(compile(inside));
  CHECK(compare("y", lane.run({{"image", bytes}})[0], plain(net, {outside})).pass);
  CHECK(has(error_of([&] { embed_preprocessing(inside, "image", {.mean = {1}}); }), "expected a floating N x C x H x W"));
  Graph other = net;
  CHECK(has(error_of([&] { embed_preprocessing(other, "image", {.mean = {1, 2}}); }), "mean has 2 entries, the input 3 channels"));
  CHECK(has(error_of([&] { embed_preprocessing(other, "image", {}); }), "no preprocessing"));
}

TEST_CASE("newer opsets mean the same") {
  struct Op {
    const char* op;
    int64_t opset;
    std::vector<Tensor> in;
    std::map<std::string, Data> attributes;
    int outputs = 1;
  };
  const Tensor x = random_tensor({2, 4, 6}, 1), picture = random_tensor({1, 2, 4, 4}, 2), positive = random_tensor({2, 4, 6}, 3, 0.1f, 1);
  using I = std::vector<int64_t>;
  const std::vector<Op> ops{
      {"Add", 6, {x, random_tensor({4}, 4)}, {{"axis", int64_t{1}}, {"broadcast", int64_t{1}}}},
      {"Mul", 6, {x, random_tensor({6}, 4)}, {{"broadcast", int64_t{1}}}},
      {"PRelu", 6, {x, random_tensor({4}, 4)}, {}},
      {"Squeeze", 9, {random_tensor({2, 1, 3}, 5)}, {{"axes", I{1}}}},
      {"Unsqueeze", 11, {x}, {{"axes", I{0, 2}}}},
      {"ReduceSum", 11, {x}, {{"axes", I{1}}, {"keepdims", int64_t{0}}}},
      {"ReduceMean", 13, {x}, {{"axes", I{0, 2}}}},
      {"ReduceLogSum", 17, {positive}, {{"axes", I{2}}}},
      {"ReduceMax", 12, {x}, {}},
      {"Slice", 9, {x}, {{"starts", I{1, 0}}, {"ends", I{3, -1}}, {"axes", I{1, 2}}}},
      {"TopK", 9, {x}, {{"k", int64_t{2}}, {"axis", int64_t{2}}}, 2},
      {"Clip", 10, {x}, {{"min", -0.3f}, {"max", 0.6f}}},
      {"Clip", 6, {x}, {{"max", 0.2f}}},
      {"Pad", 10, {x}, {{"pads", I{0, 1, 0, 1, 0, 2}}, {"value", 3.0f}}},
      {"Upsample", 7, {picture}, {{"scales", std::vector<float>{1, 1, 2, 3}}}},
      {"Softmax", 12, {x}, {}},
      {"LogSoftmax", 11, {x}, {{"axis", int64_t{2}}}},
      {"Hardmax", 12, {x}, {{"axis", int64_t{0}}}},
      {"Split", 12, {x}, {{"axis", int64_t{1}}, {"split", I{1, 3}}}, 2},
      {"Split", 13, {x}, {{"axis", int64_t{2}}}, 3},
      {"Dropout", 10, {x}, {{"ratio", 0.4f}}},
      {"BatchNormalization",
       9,
       {picture, random_tensor({2}, 6), random_tensor({2}, 7), random_tensor({2}, 8), random_tensor({2}, 9, 0.1f, 1)},
       {}},
      {"GroupNormalization", 18, {picture, random_tensor({1}, 6), random_tensor({1}, 7)}, {{"num_groups", int64_t{1}}}},
      {"GridSample", 16, {picture, random_tensor({1, 3, 3, 2}, 9)}, {{"mode", std::string("bicubic")}}},
      {"DFT", 17, {random_tensor({2, 5, 2}, 3)}, {{"axis", int64_t{1}}}},
      {"Gemm", 6, {random_tensor({2, 3}, 1), random_tensor({3, 4}, 2), random_tensor({4}, 3)}, {{"broadcast", int64_t{1}}}},
  };
  for (const Op& o : ops) {
    INFO(o.op << " of opset " << o.opset);
    Builder b("one", o.opset);
    std::vector<ValueId> in;
    for (size_t i = 0; i < o.in.size(); ++i) {
      const Tensor& t = o.in[i];
      in.push_back(b.input("x" + std::to_string(i), t.dtype(), Dims(t.shape().begin(), t.shape().end())));
    }
    for (ValueId v : b.ops(o.op, in, o.outputs, o.attributes)) b.output(v);
    Graph g = b.finish();
    const auto expected = evaluate_plain(g, o.in);
    convert_opset(g, 24);
    CHECK(g.opset("") == 24);
    const auto got = evaluate_plain(g, o.in);
    Lane lane(compile(g));
    const Outputs fast = lane.run(std::span<const Tensor>(o.in));
    for (size_t i = 0; i < got.size(); ++i) {
      CHECK(identical(got[i], expected[i]));
      CHECK(compare("y", fast[i], expected[i]).pass);
    }
  }
}

TEST_CASE("what cannot be carried to a newer opset is said") {
  Builder b("old", 8);
  const auto x = b.input("x", DType::f32, {1, 2, 3});
  std::vector<ValueId> in{x};
  for (const char* name : {"s", "b", "m", "v"}) in.push_back(b.constant(name, random_tensor({2}, 1, 0.5f, 1)));
  b.output(b.op("BatchNormalization", in, {{"spatial", int64_t{0}}}), "y");
  Graph g = b.finish();
  CHECK(has(error_of([&] { convert_opset(g, 13); }), "attribute spatial is 0"));
  CHECK(g.opset("") == 8);
  CHECK(has(error_of([&] { convert_opset(g, 7); }), "goes upward"));
  CHECK(has(error_of([&] { convert_opset(g, 25); }), "the newest is 24"));
}
