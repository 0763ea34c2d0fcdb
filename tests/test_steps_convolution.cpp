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

// Convolutions one behind the other: pointwise (group 0), or by groups of so many channels.
struct Layer {
  int64_t channels = 64, group = 0, kernel = 3, stride = 1, dilation = 1;
  std::vector<int64_t> pads{1, 1, 1, 1};
  std::string tail = "Clip";
};

struct Chain {
  int64_t images = 1, in = 8, height = 40, width = 56;
  std::vector<Layer> layers{{}, {.group = 1}};
  bool added = false;  // what goes in is added to the last layer's results
  bool part = false;   // it reads some channels of a picture and makes some of another
  int shown = -1;      // an output too, and what reads it
  std::string reader = "";

  static ValueId tail(Builder& b, const std::string& op, ValueId v) {
    const std::string name = "limit " + std::to_string(v);
    if (op == "Clip")
      return b.op("Clip", {v, b.constant(name + " low", Tensor::from<float>({}, {0.0f})),
                           b.constant(name + " high", Tensor::from<float>({}, {0.6f}))});
    if (op == "Swish") return b.op("Mul", {v, b.op("Sigmoid", {v})});
    return op.empty() ? v : b.op(op, {v});
  }
  Shape input() const { return {images, part ? in + 9 : in, height, width}; }
  Graph graph() const {
    Builder b("chain", 21);
    const Shape s = input();
    const ValueId x = b.input("x", DType::f32, Dims(s.begin(), s.end()));
    const auto number = [&](int64_t i) { return b.constant("n" + std::to_string(i), Tensor::from<int64_t>({1}, {i})); };
    ValueId v = part ? b.op("Slice", {x, number(5), number(5 + in), number(1)}) : x;
    int64_t channels = in;
    for (size_t i = 0; i < layers.size(); ++i) {
      const Layer& l = layers[i];
      const std::string name = std::to_string(i);
      const bool pointwise = l.group == 0;
      const int64_t k = pointwise ? 1 : l.kernel;
      std::vector<ValueId> operands{
          v, b.constant("w" + name, random_tensor({l.channels, pointwise ? channels : l.group, k, k}, i, -0.4f, 0.4f))};
      if (i % 2 == 0) operands.push_back(b.constant("b" + name, random_tensor({l.channels}, 50 + i)));
      v = pointwise ? b.op("Conv", operands)
                    : b.op("Conv", operands,
                           {{"group", channels / l.group},
                            {"pads", l.pads},
                            {"strides", std::vector<int64_t>(2, l.stride)},
                            {"dilations", std::vector<int64_t>(2, l.dilation)}});
      if (added && i + 1 == layers.size()) v = b.op("Add", {v, x});
      v = tail(b, l.tail, v);
      if (shown == static_cast<int>(i)) b.output(reader.empty() ? v : b.op(reader, {v}), "shown");
      channels = l.channels;
    }
    if (part) v = b.op("Concat", {b.op("MaxPool", {v}, {{"kernel_shape", std::vector<int64_t>{1, 1}}}), v}, {{"axis", int64_t{1}}});
    b.output(v, "y");
    return b.finish();
  }
  ptrdiff_t steps() const {
    const auto all = compile(graph(), {.threads = 1}).describe().steps;
    return std::ranges::count_if(all, [](const StepInfo& s) { return s.kind == "convolution"; });
  }
};

// A chain whose pictures between two layers are all large, as one step: everywhere, however it is cut, and with NaN.
void check_chain(const Chain& chain, std::mt19937_64& random) {
  CAPTURE(chain.images);
  CAPTURE(chain.in);
  CAPTURE(chain.height);
  CAPTURE(chain.width);
  std::string layers;
  for (const Layer& l : chain.layers)
    layers += std::to_string(l.channels) + "/" + std::to_string(l.group) + " k" + std::to_string(l.kernel) + " s" +
              std::to_string(l.stride) + " d" + std::to_string(l.dilation) + " p" + std::to_string(l.pads[0]) + std::to_string(l.pads[1]) +
              std::to_string(l.pads[2]) + std::to_string(l.pads[3]) + " " + l.tail + "; ";
  CAPTURE(layers);
  REQUIRE(chain.steps() == 1);
  const Graph g = chain.graph();
  Tensor x = random_tensor(chain.input(), 77);
  everywhere(g, [&](const Graph& graph, const CompileOptions& o) { check_against_plain(graph, {x}, o); });
  const Tensor whole = Lane(compile(g, {.threads = 1})).run({{"x", x}})[0].clone();
  const int64_t out_h = known_shape(g.values[g.outputs[0]].dims)->at(2);
  for (const auto& cut : std::vector<std::array<int64_t, 2>>{{1, 1}, {2, 3}, {3, 2}, {1000, 1}, {1, 1000}, {0, 1}, {0, 3}}) {
    CAPTURE(cut[0]);
    CAPTURE(cut[1]);
    Recipes knobs;
    knobs.pin(read_pin("lines=" + std::to_string(std::min(cut[0], out_h))));
    knobs.pin(read_pin("line_tasks=" + std::to_string(std::min(cut[1], out_h * chain.images))));
    const Program program = compile(g, {.threads = 2, .recipes = std::make_shared<Recipes>(knobs)});
    CHECK(std::ranges::any_of(program.describe().steps, [](const StepInfo& s) { return s.chosen_by == "pinned" && s.refused.empty(); }));
    CHECK(identical(whole, Lane(program).run({{"x", x}})[0]));
  }
  x.as<float>()[static_cast<size_t>(random() % x.as<float>().size())] = std::numeric_limits<float>::quiet_NaN();
  check_against_plain(g, {x}, {.threads = 2});
}

TEST_CASE("pointwise and depthwise layers are one step where the pictures between them are large") {
  std::mt19937_64 random(31);
  for (const Chain& chain : std::vector<Chain>{
           {.layers = {{.channels = 61, .tail = "Swish"},
                       {.channels = 61, .group = 1, .kernel = 5, .pads = {2, 2, 2, 2}, .tail = "Swish"}}},
           {.images = 3,
           .in = 3,
           .height = 23,
           .width = 41,
           .layers = {{.channels = 50, .tail = ""}, {.channels = 50, .group = 1, .stride = 2}}},
           {.layers = {{.tail = "Relu"}, {.group = 4}}},
           {.images = 9,
           .height = 2,
           .width = 64,
           .layers = {{.channels = 120}, {.channels = 120, .group = 1, .kernel = 2, .stride = 2, .pads = {0, 0, 0, 0}}}},
           // Depthwise first; one behind another; and a block whose input comes in again at its end.
           {.in = 64, .layers = {{.group = 1, .tail = "Tanh"}, {.channels = 20, .tail = ""}}},
           {.in = 64, .layers = {{.group = 1}, {.group = 1, .kernel = 2, .pads = {1, 0, 0, 1}, .tail = ""}}},
           {.in = 16, .layers = {{.channels = 70}, {.channels = 70, .group = 1}, {.channels = 16, .tail = ""}}, .added = true},
           {.images = 2,
           .in = 60,
           .height = 48,
           .width = 50,
           .layers = {{.channels = 60, .group = 1},
                      {.channels = 32, .tail = "Swish"},
                      {.channels = 130},
                      {.channels = 130, .group = 1, .stride = 2},
                      {.channels = 130, .group = 1, .dilation = 2, .pads = {2, 2, 2, 2}},
                      {.channels = 24, .tail = "HardSwish"}}},
           {.images = 2, .layers = {{}, {.group = 1, .stride = 2}}, .part = true},
           {.images = 2, .in = 64, .layers = {{.group = 1}, {.channels = 33}}, .part = true},
       })
    check_chain(chain, random);
}

TEST_CASE("pointwise and depthwise layers of random sizes as one step") {
  std::mt19937_64 random(32);
  for (int done = 0; done < 20;) {
    Chain c{
        .images = between(random, 1, 3), .in = between(random, 1, 40), .height = between(random, 5, 50), .width = between(random, 16, 60)};
    Layer wide, deep;
    wide.channels = deep.channels = (132000 + c.images * c.height * c.width - 1) / (c.images * c.height * c.width) + between(random, 0, 20);
    deep.group = 1, deep.kernel = between(random, 1, 5), deep.dilation = between(random, 1, 2);
    const int64_t extent = (deep.kernel - 1) * deep.dilation + 1;
    deep.stride = between(random, 1, std::min<int64_t>(3, extent));
    for (int64_t& pad : deep.pads) pad = between(random, 0, deep.kernel);
    wide.tail = std::array{"Clip", "", "Swish", "Tanh"}[random() % 4], deep.tail = std::array{"Relu", "", "Swish"}[random() % 3];
    if (c.height + deep.pads[0] + deep.pads[2] < extent) continue;
    ++done;
    c.layers = {wide, deep};
    check_chain(c, random);
  }
}

TEST_CASE("a picture between two layers that somebody else wants, or that is small, is written") {
  CHECK(Chain{}.steps() == 1);
  CHECK(Chain{.shown = 0}.steps() == 2);
  CHECK(Chain{.shown = 0, .reader = "GlobalMaxPool"}.steps() == 2);
  CHECK(Chain{.layers = {{.channels = 32}, {.channels = 32, .group = 1}}}.steps() == 2);
  CHECK(Chain{.width = 12, .layers = {{.channels = 300}, {.channels = 300, .group = 1}}}.steps() == 2);
  CHECK(Chain{.layers = {{}, {.group = 1, .kernel = 1, .stride = 2, .pads = {0, 0, 0, 0}}}}.steps() == 2);  // leaves lines out
  CHECK(Chain{.layers = {{}, {}}}.steps() == 2);                                                            // no window
  CHECK(Chain{.layers = {{.channels = 600}, {.channels = 600, .group = 1}, {.channels = 300}}}.steps() ==
        2);  // more weights than stay near
  const auto says = [](const CompileOptions& options, const char* text) {
    const auto steps = compile(Chain{}.graph(), options).describe().steps;
    return std::ranges::any_of(steps, [&](const StepInfo& s) { return has(s.recipe, text); });
  };
  CHECK(says({.threads = 2}, "lines at a time"));
  CHECK(says({.threads = 16}, "layer by layer"));  // most lines would be made twice
  CHECK(!says({.threads = 1, .fuse = false}, "lines at a time"));
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
  CHECK(!has(recipe(layer(1, 512, 7, 512, 1), {.threads = 1}), "Winograd 4x4"));  // too few tiles for its weights
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
