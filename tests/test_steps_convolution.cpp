// Convolutions and pools as steps: transposed, depthwise, Winograd, channels-last.
#include <algorithm>
#include <array>
#include <cmath>
#include <limits>

#include "steps.hpp"
#include "tensor/widen.hpp"

using namespace test;

TEST_CASE("transposed convolutions over many shapes") {
  std::mt19937_64 random(12);
  int done = 0;
  for (int trial = 0; done < 60; ++trial) {
    const int64_t groups = between(random, 1, 2), channels = groups * between(random, 1, 5), per_group = between(random, 1, 40),
                  axes = between(random, 1, 2);
    Shape xs{between(random, 1, 2), channels}, ws{channels, per_group};
    std::vector<int64_t> strides, pads, dilations, extra;
    for (int64_t a = 0; a < axes; ++a) {
      xs.push_back(between(random, 1, 7));
      ws.push_back(between(random, 1, 4));
      strides.push_back(between(random, 1, 4));
      dilations.push_back(between(random, 1, 2));
      extra.push_back(between(random, 0, strides.back() - 1));
    }
    for (int64_t a = 0; a < 2 * axes; ++a) pads.push_back(between(random, 0, 2));
    Builder b("turned", 21);
    const ValueId x = b.input("x", DType::f32, Dims(xs.begin(), xs.end()));
    std::vector<ValueId> in{x, b.constant("w", random_tensor(ws, trial))};
    if (random() % 2) in.push_back(b.constant("bias", random_tensor({per_group * groups}, trial + 1)));
    Graph g;
    try {
      b.output(b.op("ConvTranspose", in,
                    {{"strides", strides}, {"pads", pads}, {"dilations", dilations}, {"output_padding", extra}, {"group", groups}}),
               "y");
      g = b.finish();
    } catch (const Error&) {
      continue;  // the padding eats all of it
    }
    if (element_count(*known_shape(g.values[g.outputs[0]].dims)) == 0) continue;
    ++done;
    const auto kinds = step_kinds(g);  // by channels, to few filters or of volumes: phases of convolutions
    REQUIRE((has(kinds, "transposed convolution") || has(kinds, "convolution") || has(kinds, "depthwise convolution")));
    everywhere(g, [&](const Graph& graph, const CompileOptions& o) { check_against_plain(graph, {random_tensor(xs, trial + 2)}, o); });
  }
}

TEST_CASE("depthwise convolutions and pools over many shapes, NaN and infinity as plain has them") {
  std::mt19937_64 random(13);
  for (int trial = 0; trial < 120; ++trial) {
    const int64_t channels = between(random, 1, 70), h = between(random, 1, 20), w = between(random, 1, 20), kernel = between(random, 1, 5),
                  stride = between(random, 1, 3), dilation = between(random, 1, 2), pad = between(random, 0, kernel);
    const char* ops[] = {"Conv", "MaxPool", "AveragePool"};
    const std::string op = ops[trial % 3];
    std::map<std::string, Attribute::Data> attributes{{"kernel_shape", std::vector<int64_t>{kernel, kernel}},
                                                      {"strides", std::vector<int64_t>{stride, stride}}};
    const int64_t reach = (kernel - 1) * dilation + 1, held = op == "Conv" ? pad : std::min(pad, kernel - 1);
    if (h + 2 * held < reach || w + 2 * held < reach) continue;
    attributes["pads"] = std::vector<int64_t>(4, held);
    attributes["dilations"] = std::vector<int64_t>{dilation, dilation};
    Builder b("window", 21);
    const Shape xs{2, channels, h, w};
    const ValueId x = b.input("x", DType::f32, {2, channels, h, w});
    if (op == "Conv") attributes["group"] = channels;
    const ValueId y =
        op == "Conv"
            ? b.op("Conv",
                   {x, b.constant("w", random_tensor({channels, 1, kernel, kernel}, trial)), b.constant("b", random_tensor({channels}, 1))},
                   attributes)
            : b.op(op, {x}, attributes);
    b.output(trial % 2 ? b.op("Clip",
                              {y, b.constant("low", Tensor::from<float>({}, {-0.5f})), b.constant("high", Tensor::from<float>({}, {0.9f}))})
                       : y,
             "y");
    Tensor in = random_tensor(xs, trial + 7);
    if (trial % 4 == 0) in.as<float>()[static_cast<size_t>(random() % in.as<float>().size())] = std::numeric_limits<float>::quiet_NaN();
    if (trial % 5 == 0) in.as<float>()[static_cast<size_t>(random() % in.as<float>().size())] = -std::numeric_limits<float>::infinity();
    everywhere(b.finish(), [&](const Graph& graph, const CompileOptions& o) { check_against_plain(graph, {in}, o); });
  }
}

TEST_CASE("channels-last pictures reach a convolution without being copied") {
  Builder b("last", 21);
  const ValueId x = b.input("x", DType::f32, {2, 9, 8, 16});
  const ValueId turned = b.op("Transpose", {x}, {{"perm", std::vector<int64_t>{0, 3, 1, 2}}});
  const ValueId y = b.op("Conv", {turned, b.constant("w", random_tensor({8, 16, 3, 3}, 1))});
  b.output(b.op("Transpose", {y}, {{"perm", std::vector<int64_t>{0, 2, 3, 1}}}), "y");
  const Graph g = b.finish();
  CHECK(step_kinds(g) == "convolution ");
  everywhere(g, [&](const Graph& graph, const CompileOptions& o) { check_against_plain(graph, {random_tensor({2, 9, 8, 16}, 2)}, o); });
}

TEST_CASE("Winograd's method: taken where it pays, the same bits on any number of threads, off when asked") {
  const auto layer = [](int64_t batch, int64_t channels, int64_t side, int64_t filters, int64_t stride) {
    Builder b("layer", 21);
    const ValueId x = b.input("x", DType::f32, {Dim(batch), Dim(channels), Dim(side), Dim(side)});
    const ValueId w = b.constant("w", random_tensor({filters, channels, 3, 3}, 5));
    b.output(b.op("Relu",
                  {b.op("Conv", {x, w}, {{"pads", std::vector<int64_t>{1, 1, 1, 1}}, {"strides", std::vector<int64_t>{stride, stride}}})}),
             "y");
    return b.finish();
  };
  const auto recipe = [](const Graph& g, CompileOptions o) {
    std::string all;
    for (const StepInfo& s : compile(g, o).describe().steps) all += s.recipe;
    return all;
  };
  const Graph g = layer(2, 24, 30, 40, 1);
  CHECK(has(recipe(g, {.threads = 1}), "Winograd"));
  CHECK(!has(recipe(g, {.threads = 1, .winograd = false}), "Winograd"));
  CHECK(!has(recipe(layer(1, 24, 30, 40, 2), {.threads = 1}), "Winograd"));   // strided
  CHECK(!has(recipe(layer(1, 512, 7, 512, 1), {.threads = 1}), "Winograd"));  // too few tiles for its weights
  for (const auto& [batch, channels, side, filters] :
       std::vector<std::array<int64_t, 4>>{{2, 24, 30, 40}, {1, 64, 56, 64}, {1, 256, 14, 256}, {3, 130, 9, 70}}) {
    const Graph net = layer(batch, channels, side, filters, 1);
    const Tensor x = random_tensor({batch, channels, side, side}, 9);
    Lane one(compile(net, {.threads = 1}));
    const Tensor alone = one.run({{"x", x}})[0].clone();
    for (int threads : {2, 3, 5}) {
      CAPTURE(threads);
      Lane several(compile(net, {.threads = threads}));
      CHECK(identical(alone, several.run({{"x", x}})[0]));
    }
  }
}

TEST_CASE("convolutions by f16 and bf16 weights keep them so, by every method, and NaN and infinity stay in their places") {
  std::mt19937_64 random(31);
  struct Layer {
    int64_t batch, channels, side, filters, kernel;
    const char* method;
  };
  const Layer layers[]{{1, 40, 13, 70, 1, "pointwise"},
                       {2, 20, 11, 33, 3, ""},
                       {1, 64, 24, 48, 3, "Winograd"},
                       {1, 300, 16, 290, 3, "Winograd"},
                       {1, 12, 9, 20, 5, ""}};
  for (const DType type : {DType::f16, DType::bf16}) {
    for (const Layer& l : layers) {
      CAPTURE(std::string(to_string(type)));
      CAPTURE(l.channels);
      Builder b("halves", 21);
      const ValueId x = b.input("x", DType::f32, {l.batch, l.channels, l.side, l.side});
      const Shape ws{l.filters, l.channels, l.kernel, l.kernel};
      const Tensor wide = random_tensor(ws, random(), -0.1F, 0.1F);
      std::vector<double> numbers(wide.as<float>().begin(), wide.as<float>().end());
      const ValueId w = b.op("Cast", {b.constant("w", narrow<double>(type, ws, numbers))}, {{"to", int64_t{1}}});
      const int64_t pad = l.kernel / 2;
      b.output(b.op("Relu", {b.op("Conv", {x, w, b.constant("b", random_tensor({l.filters}, 3))},
                                  {{"pads", std::vector<int64_t>{pad, pad, pad, pad}}})}),
               "y");
      const Graph g = b.finish();
      const EditionInfo e = compile(g, {.threads = 1}).describe();
      const auto step = std::ranges::find(e.steps, std::string("convolution"), &StepInfo::kind);
      REQUIRE(step != e.steps.end());
      CHECK(has(step->recipe, std::string(to_string(type)) + " weights"));
      CHECK((has(step->recipe, l.method) || has(step->recipe, "by tiles")));
      // Two bytes a number, and not four; what Winograd's method holds ready of small layers beside that.
      if (has(step->recipe, "as they are used") || !has(step->recipe, "Winograd"))
        CHECK(static_cast<double>(e.weight_bytes) <
              2.0 * static_cast<double>(wide.size()) * (64.0 + static_cast<double>(l.filters)) / static_cast<double>(l.filters) + 4096);
      Tensor in = random_tensor({l.batch, l.channels, l.side, l.side}, random());
      if (l.side > 10) in.as<float>()[static_cast<size_t>(random() % in.as<float>().size())] = std::numeric_limits<float>::quiet_NaN();
      if (l.side > 12) in.as<float>()[static_cast<size_t>(random() % in.as<float>().size())] = -std::numeric_limits<float>::infinity();
      everywhere(g, [&](const Graph& graph, const CompileOptions& o) { check_against_plain(graph, {in}, o); });
      const Tensor one = Lane(compile(g, {.threads = 1})).run({{"x", in}})[0].clone();
      for (const int threads : {2, 3}) CHECK(identical(one, Lane(compile(g, {.threads = threads})).run({{"x", in}})[0]));
      // An archive holds them so, too, and gives the graph back.
      const Folder f;
      save_program(compile(g, {.threads = 1}), f.path / "a.lathe", {.carry_graph = true});
      const Program back = load_program(f.path / "a.lathe");
      CHECK(identical(one, Lane(back).run({{"x", in}})[0]));
      CHECK(identical(one, Lane(compile(carried_graph(f.path / "a.lathe").graph, {.threads = 1})).run({{"x", in}})[0]));
    }
  }
  // A normalisation is a factor and a bias of the same step then, and the convolution's own bias goes with it.
  for (const bool biased : {false, true}) {
    for (const int64_t side : {8, 40}) {
      Builder b("normalised", 21);
      const ValueId x = b.input("x", DType::f32, {1, 16, side, side});
      const Tensor wide = random_tensor({24, 16, 3, 3}, 1);
      std::vector<double> numbers(wide.as<float>().begin(), wide.as<float>().end());
      const ValueId w = b.op("Cast", {b.constant("w", narrow<double>(DType::f16, {24, 16, 3, 3}, numbers))}, {{"to", int64_t{1}}});
      const auto each = [&](const char* name, float low) { return b.constant(name, random_tensor({24}, 4, low, 1.5F)); };
      std::vector<ValueId> in{x, w};
      if (biased) in.push_back(each("bias", -1));
      const ValueId y = b.op("BatchNormalization", {b.op("Conv", in, {{"pads", std::vector<int64_t>{1, 1, 1, 1}}}), each("s", 0.5F),
                                                    each("o", -1), each("m", -1), each("v", 0.5F)});
      b.output(b.op("Relu", {y}), "y");
      const Graph g = b.finish();
      const EditionInfo e = compile(g, {.threads = 1}).describe();
      const auto step = std::ranges::find(e.steps, std::string("convolution"), &StepInfo::kind);
      REQUIRE(step != e.steps.end());
      CHECK(has(step->recipe, "f16 weights"));
      CHECK(has(step->recipe, "factor + bias + relu"));
      everywhere(g, [&](const Graph& graph, const CompileOptions& o) {
        check_against_plain(graph, {random_tensor({1, 16, side, side}, 2)}, o);
      });
    }
  }
}

TEST_CASE("volumes whose kernels see one slice at a time are convolved as pictures, wherever they lie") {
  std::mt19937_64 random(21);
  for (int trial = 0; trial < 48; ++trial) {
    CAPTURE(trial);
    // Deep enough for Winograd's method, by channels, first layers, few filters; images one or two; parts of a wider volume.
    const int form = trial % 4;
    const int64_t batch = between(random, 1, 2),
                  channels = form == 2   ? between(random, 1, 4)
                             : form == 3 ? 16
                                         : 8 * between(random, 1, 3),
                  slices = between(random, 1, 5), h = between(random, 3, 14), w = between(random, 3, 14);
    const int64_t kernel = form == 0 ? 3 : between(random, 1, 3), stride = form == 0 ? 1 : between(random, 1, 2), pad = kernel / 2;
    const int64_t filters = form == 1   ? channels
                            : form == 3 ? between(random, 1, 4)
                                        : 8 * between(random, 1, 4),
                  group = form == 1 ? channels : 1;
    Builder b("slices", 21);
    const ValueId left = b.input("left", DType::f32, {batch, channels, slices, h, w}),
                  right = b.input("right", DType::f32, {batch, channels, slices, h, w});
    const ValueId made = b.op("Conv", {left, b.constant("k", random_tensor({channels, channels, 1, 1, 1}, 4))});
    const ValueId both = b.op("Concat", {made, right}, {{"axis", int64_t{1}}});
    const ValueId x = trial % 3 == 0
                          ? left
                          : b.op("Slice", {both, b.constant("from", Tensor::from<int64_t>({1}, {trial % 3 == 1 ? 0 : channels})),
                                           b.constant("to", Tensor::from<int64_t>({1}, {trial % 3 == 1 ? channels : 2 * channels})),
                                           b.constant("axis", Tensor::from<int64_t>({1}, {1}))});
    const ValueId y = b.op(
        "Conv",
        {x, b.constant("w", random_tensor({filters, channels / group, 1, kernel, kernel}, 5)),
         b.constant("b", random_tensor({filters}, 6))},
        {{"pads", std::vector<int64_t>{0, pad, pad, 0, pad, pad}}, {"strides", std::vector<int64_t>{1, stride, stride}}, {"group", group}});
    b.output(b.op("Relu", {y}), "y");
    if (trial % 3 != 0) b.output(both, "both");
    const Graph g = b.finish();
    const Shape in{batch, channels, slices, h, w};
    everywhere(g, [&](const Graph& graph, const CompileOptions& o) {
      check_against_plain(graph, {random_tensor(in, trial), random_tensor(in, trial + 1)}, o);
    });
  }
  // Kept in an archive, and compiled again for another size.
  Builder b("kept", 21);
  const ValueId x = b.input("x", DType::f32, {1, 16, 3, "h", 12});
  b.output(b.op("Conv", {x, b.constant("w", random_tensor({32, 16, 1, 3, 3}, 5))}, {{"pads", std::vector<int64_t>{0, 1, 1, 0, 1, 1}}}),
           "y");
  const Graph g = b.finish();
  const Folder f;
  const Tensor small = random_tensor({1, 16, 3, 9, 12}, 1), large = random_tensor({1, 16, 3, 31, 12}, 2);
  const Program made = compile(g);
  made.describe({{1, 16, 3, 9, 12}});
  save_program(made, f.path / "p.lathe");
  Lane lane(load_program(f.path / "p.lathe"));
  for (const Tensor& in : {small, large}) {
    const auto expected = evaluate_plain(g, std::vector<Tensor>{in});
    const Outputs out = lane.run({{"x", in}});
    CHECK(compare("y", out[0], expected[0], Tolerance{1e-4, 1e-4, 0}).pass);
  }
}

TEST_CASE("few filters of wide windows, in lines of whole kernels and at the edges") {
  std::mt19937_64 random(22);
  for (int trial = 0; trial < 40; ++trial) {
    CAPTURE(trial);
    const int64_t channels = between(random, 16, 40), filters = between(random, 1, 4), kernel = between(random, 1, 9),
                  h = between(random, 1, 14), w = between(random, 1, 40), stride = between(random, 1, 2), dilation = between(random, 1, 2),
                  pad = between(random, 0, kernel);
    if (h + 2 * pad < (kernel - 1) * dilation + 1 || w + 2 * pad < (kernel - 1) * dilation + 1) continue;
    Builder b("few", 21);
    const ValueId x = b.input("x", DType::f32, {2, channels, h, w});
    b.output(b.op("Conv",
                  {x, b.constant("w", random_tensor({filters, channels, kernel, kernel}, 5)), b.constant("b", random_tensor({filters}, 6))},
                  {{"pads", std::vector<int64_t>(4, pad)},
                   {"strides", std::vector<int64_t>(2, stride)},
                   {"dilations", std::vector<int64_t>(2, dilation)}}),
             "y");
    everywhere(b.finish(), [&](const Graph& graph, const CompileOptions& o) {
      check_against_plain(graph, {random_tensor({2, channels, h, w}, trial)}, o, {1e-4, 1e-4, 0});
    });
  }
}
