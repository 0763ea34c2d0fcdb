// Compiling and running: fusion against plain, editions, lanes, memory, cancellation, errors.
#include <atomic>
#include <cmath>
#include <new>
#include <thread>

#include "support.hpp"

using namespace test;

// Counts every allocation of this process while `counting` is on (all threads). The sanitizers bring operators of their own.
#ifndef LATHE_SANITIZED
#define LATHE_COUNTS_ALLOCATIONS 1
static std::atomic<bool> counting{false};
static std::atomic<int64_t> allocations{0};

void* operator new(size_t n, const std::nothrow_t&) noexcept {
  if (counting.load(std::memory_order_relaxed)) allocations.fetch_add(1);
  return std::malloc(n ? n : 1);
}
void* operator new(size_t n) {
  if (counting.load(std::memory_order_relaxed)) allocations.fetch_add(1);
  if (void* p = std::malloc(n ? n : 1)) return p;
  throw std::bad_alloc();
}
void* operator new(size_t n, std::align_val_t a) {
  if (counting.load(std::memory_order_relaxed)) allocations.fetch_add(1);
  if (void* p =
          std::aligned_alloc(static_cast<size_t>(a), (n + static_cast<size_t>(a) - 1) / static_cast<size_t>(a) * static_cast<size_t>(a)))
    return p;
  throw std::bad_alloc();
}
void operator delete(void* p) noexcept { std::free(p); }
void operator delete(void* p, size_t) noexcept { std::free(p); }
void operator delete(void* p, std::align_val_t) noexcept { std::free(p); }
void operator delete(void* p, size_t, std::align_val_t) noexcept { std::free(p); }
void operator delete(void* p, const std::nothrow_t&) noexcept { std::free(p); }
#endif

namespace {

using Ints = std::vector<int64_t>;

// A residual block with normalisation, in the form exporters give.
Graph block(int64_t batch, int64_t channels, int64_t side) {
  Builder b("block");
  const auto x = b.input("x", DType::f32, {batch, channels, side, side});
  const auto conv = [&](ValueId in, uint64_t seed) {
    const auto w = b.constant("w" + std::to_string(seed), random_tensor({channels, channels, 3, 3}, seed, -0.2f, 0.2f));
    const auto y = b.op("Conv", {in, w}, {{"kernel_shape", Ints{3, 3}}, {"pads", Ints{1, 1, 1, 1}}});
    const auto vec = [&](const char* n, float low, float high) {
      return b.constant(n + std::to_string(seed), random_tensor({channels}, seed + 50, low, high));
    };
    return b.op("BatchNormalization", {y, vec("scale", 0.5f, 1), vec("shift", -1, 1), vec("mean", -1, 1), vec("var", 0.5f, 2)});
  };
  const auto h = b.op("Relu", {conv(x, 1)});
  b.output(b.op("Relu", {b.op("Add", {conv(h, 2), x})}), "y");
  return b.finish();
}

size_t steps(const Graph& g, bool fuse) { return compile(g, {.threads = 1, .fuse = fuse}).describe().steps.size(); }

}  // namespace

TEST_CASE("a residual block fuses to two convolutions and stays right") {
  const Graph g = block(1, 16, 9);
  const Program p = compile(g, {.threads = 1});
  const EditionInfo info = p.describe();
  std::vector<StepInfo> convolutions;
  for (const StepInfo& s : info.steps) {
    if (s.kind == "convolution") convolutions.push_back(s);
  }
  REQUIRE(convolutions.size() == 2);
  // Named in full: the product, the normalisation folded into its weights, the sum and the activation.
  CHECK(convolutions[1].nodes.size() == 4);
  CHECK(has(convolutions[1].nodes[1], "BatchNormalization"));
  CHECK(has(convolutions[1].recipe, "bias + residual + relu"));
  CHECK(info.steps.size() <= 4);  // and the layout of what comes in and goes out
  for (const char* isa : {"scalar", "sse4", "avx2", "avx512", "amx", "neon"}) {
    const auto have = machine_info().isas;
    if (std::find(have.begin(), have.end(), isa) == have.end()) continue;
    CAPTURE(isa);
    for (int threads : {1, 2, 3}) {
      check_against_plain(g, {random_tensor({1, 16, 9, 9}, 7)}, {.threads = threads, .isa = isa});
      check_against_plain(g, {random_tensor({1, 16, 9, 9}, 7)}, {.threads = threads, .fuse = false, .isa = isa});
    }
  }
}

TEST_CASE("unfused keeps a step a node") { CHECK(steps(block(1, 8, 5), false) >= 7); }

TEST_CASE("convolutions of every form") {
  struct Form {
    Shape x, w;
    int64_t group;
    Ints strides, dilations, pads;
    const char* auto_pad;
  };
  const Form forms[] = {
      {{2, 3, 17}, {5, 3, 4}, 1, {2}, {1}, {1, 2}, nullptr},
      {{1, 8, 13, 11}, {12, 8, 3, 3}, 1, {1, 1}, {1, 1}, {1, 1, 1, 1}, nullptr},
      {{1, 3, 33, 31}, {8, 3, 7, 7}, 1, {2, 2}, {1, 1}, {3, 3, 3, 3}, nullptr},
      {{1, 3, 20, 20}, {8, 3, 3, 5}, 1, {3, 1}, {2, 1}, {0, 2, 1, 0}, nullptr},
      {{2, 8, 9, 9}, {8, 1, 3, 3}, 8, {1, 1}, {1, 1}, {1, 1, 1, 1}, nullptr},
      {{1, 37, 9, 9}, {37, 1, 5, 5}, 37, {2, 2}, {1, 1}, {2, 2, 2, 2}, nullptr},
      {{1, 12, 9, 9}, {18, 4, 3, 3}, 3, {1, 1}, {2, 2}, {2, 2, 2, 2}, nullptr},
      {{1, 6, 8, 8}, {12, 1, 3, 3}, 6, {1, 1}, {1, 1}, {0, 0, 0, 0}, nullptr},
      {{3, 16, 7, 7}, {40, 16, 1, 1}, 1, {1, 1}, {1, 1}, {0, 0, 0, 0}, nullptr},
      {{1, 16, 7, 7}, {40, 16, 1, 1}, 1, {2, 2}, {1, 1}, {0, 0, 0, 0}, nullptr},
      {{1, 4, 5, 6, 7}, {6, 4, 3, 2, 3}, 1, {1, 2, 1}, {1, 1, 1}, {1, 0, 1, 1, 1, 1}, nullptr},
      {{1, 2, 9, 9}, {4, 2, 3, 3}, 1, {2, 2}, {1, 1}, {}, "SAME_UPPER"},
      {{1, 2, 9, 8}, {4, 2, 4, 3}, 1, {2, 2}, {1, 1}, {}, "SAME_LOWER"},
      {{1, 600, 4, 4}, {33, 600, 1, 1}, 1, {1, 1}, {1, 1}, {0, 0, 0, 0}, nullptr},
      {{1, 5, 3, 3}, {4, 5, 3, 3}, 1, {1, 1}, {1, 1}, {4, 4, 4, 4}, nullptr},
  };
  for (const std::string& isa : machine_info().isas) {
    int n = 0;
    for (const Form& f : forms) {
      CAPTURE(isa);
      CAPTURE(n);
      Builder b("conv");
      std::map<std::string, Attribute::Data> attributes{{"group", f.group}, {"strides", f.strides}, {"dilations", f.dilations}};
      if (f.auto_pad) attributes["auto_pad"] = std::string(f.auto_pad);
      else attributes["pads"] = f.pads;
      Dims dims(f.x.begin(), f.x.end());
      const auto y = b.op(
          "Conv", {b.input("x", DType::f32, dims), b.constant("w", random_tensor(f.w, 3)), b.constant("b", random_tensor({f.w[0]}, 4))},
          attributes);
      // A tail that goes to the tape, and one that stays in registers.
      b.output(n % 2 ? b.op("Sigmoid", {y}) : b.op("Relu", {y}), "y");
      check_against_plain(b.finish(), {random_tensor(f.x, 5)}, {.threads = 1 + n % 3, .isa = isa});
      ++n;
    }
  }
}

TEST_CASE("matrix products of every form") {
  const auto run = [](Shape a, Shape b, bool constant) {
    Builder builder("product");
    const auto x = builder.input("a", DType::f32, Dims(a.begin(), a.end()));
    std::vector<Tensor> inputs{random_tensor(a, 1)};
    ValueId y;
    if (constant) {
      y = builder.constant("b", random_tensor(b, 2));
    } else {
      y = builder.input("b", DType::f32, Dims(b.begin(), b.end()));
      inputs.push_back(random_tensor(b, 2));
    }
    builder.output(builder.op("MatMul", {x, y}), "y");
    check_against_plain(builder.finish(), inputs, {.threads = 2});
  };
  for (bool constant : {true, false}) {
    run({5, 7}, {7, 3}, constant);
    run({1, 300}, {300, 70}, constant);
    run({2, 3, 5, 7}, {7, 33}, constant);
    run({2, 3, 5, 7}, {2, 3, 7, 33}, constant);
    run({3, 5, 7}, {2, 1, 7, 4}, constant);
    run({7}, {7, 3}, constant);
    run({3, 7}, {7}, constant);
    run({4, 0}, {0, 3}, constant);
    run({0, 4}, {4, 3}, constant);
  }
}

TEST_CASE("Gemm with transposes, factors and every kind of C") {
  for (int ta = 0; ta < 2; ++ta) {
    for (int tb = 0; tb < 2; ++tb) {
      for (const Shape& c : {Shape{}, Shape{9}, Shape{1, 9}, Shape{4, 9}, Shape{4, 1}, Shape{1}}) {
        for (float alpha : {1.0f, 0.5f}) {
          for (float beta : {1.0f, 2.0f}) {
            Builder b("gemm");
            const auto x = b.input("x", DType::f32, ta ? Dims{6, 4} : Dims{4, 6});
            std::vector<ValueId> in{x, b.constant("w", random_tensor(tb ? Shape{9, 6} : Shape{6, 9}, 2))};
            in.push_back(b.constant("c", random_tensor(c, 3)));
            b.output(b.op("Tanh", {b.op("Gemm", in, {{"transA", int64_t{ta}}, {"transB", int64_t{tb}}, {"alpha", alpha}, {"beta", beta}})}),
                     "y");
            check_against_plain(b.finish(), {random_tensor(ta ? Shape{6, 4} : Shape{4, 6}, 5)});
          }
        }
      }
    }
  }
}

TEST_CASE("an activation read twice fuses into the product before it") {
  Builder b("silu");
  const auto x = b.input("x", DType::f32, {6, 20});
  const auto y = b.op("MatMul", {x, b.constant("w", random_tensor({20, 30}, 1))});
  b.output(b.op("Mul", {y, b.op("Sigmoid", {y})}), "z");
  const Graph g = b.finish();
  CHECK(steps(g, true) == 1);
  check_against_plain(g, {random_tensor({6, 20}, 2)});
}

TEST_CASE("elementwise sets become one tape, with broadcasting and selection") {
  Builder b("tape");
  const auto x = b.input("x", DType::f32, {2, 3, 40, 5}), row = b.input("row", DType::f32, {5}),
             column = b.input("column", DType::f32, {3, 1, 1});
  const auto s = b.op("Add", {b.op("Mul", {x, row}), column});
  const auto big = b.op("Greater", {s, b.constant("zero", Tensor::from<float>({}, {0.0f}))});
  b.output(b.op("Where", {big, b.op("Sqrt", {b.op("Abs", {s})}), b.op("Exp", {s})}), "y");
  const Graph g = b.finish();
  CHECK(steps(g, true) == 1);
  CHECK(steps(g, false) == 7);
  const std::vector<Tensor> inputs{random_tensor({2, 3, 40, 5}, 1), random_tensor({5}, 2), random_tensor({3, 1, 1}, 3)};
  for (const std::string& isa : machine_info().isas) check_against_plain(g, inputs, {.threads = 2, .isa = isa});
}

TEST_CASE("random graphs: fused, unfused and plain agree") {
  const char* unary[] = {"Relu", "Sigmoid", "Tanh", "Abs", "Neg", "HardSwish", "Softplus", "Elu", "Erf"};
  const char* binary[] = {"Add", "Sub", "Mul", "Max", "Min"};
  std::mt19937 random(2024);
  for (int trial = 0; trial < 150; ++trial) {
    CAPTURE(trial);
    Builder b("random");
    const int64_t c = 1 + random() % 9, h = 1 + random() % 7, w = 1 + random() % 7;
    const Shape shape{1 + static_cast<int64_t>(random() % 2), c, h, w};
    std::vector<ValueId> pool{b.input("x", DType::f32, Dims(shape.begin(), shape.end()))};
    const auto pick = [&] { return pool[random() % pool.size()]; };
    uint64_t seed = trial * 100;
    for (int n = 0; n < 12; ++n) {
      ValueId y;
      ++seed;
      switch (random() % 8) {
        case 0:
        case 1: y = b.op(unary[random() % std::size(unary)], {pick()}); break;
        case 2:
        case 3: y = b.op(binary[random() % std::size(binary)], {pick(), pick()}); break;
        case 4:
          y = b.op("Conv", {pick(), b.constant("w" + std::to_string(seed), random_tensor({c, c, 3, 3}, seed, -0.3f, 0.3f))},
                   {{"kernel_shape", Ints{3, 3}}, {"pads", Ints{1, 1, 1, 1}}});
          break;
        case 5:
          y = b.op("Mul",
                   {pick(), b.constant("s" + std::to_string(seed), random_tensor(random() % 2 ? Shape{c, 1, 1} : Shape{w}, seed))});
          break;
        case 6: y = b.op("MaxPool", {pick()}, {{"kernel_shape", Ints{3, 3}}, {"pads", Ints{1, 1, 1, 1}}}); break;
        default: y = b.op("Softmax", {pick()}, {{"axis", int64_t{random() % 2 ? 1 : -1}}});
      }
      pool.push_back(y);
    }
    b.output(pool.back(), "last");
    if (pool[pool.size() / 2] != pool.back() && pool.size() / 2 > 0) b.output(pool[pool.size() / 2], "middle");
    const Graph g = b.finish();
    const std::vector<Tensor> in{random_tensor(shape, trial)};
    const Tolerance tolerance{1e-4, 1e-3, 0};
    check_against_plain(g, in, {.threads = 1 + trial % 3}, tolerance);
    check_against_plain(g, in, {.threads = 1, .fuse = false}, tolerance);
  }
}

TEST_CASE("movement: transposes, slices, joins, splits, gathers in both layouts") {
  Builder b("movement");
  const auto x = b.input("x", DType::f32, {2, 6, 5, 4});
  const auto y = b.op("Conv", {x, b.constant("w", random_tensor({6, 6, 1, 1}, 1))}, {{"kernel_shape", Ints{1, 1}}});
  const auto parts = b.ops("Split", {y, b.constant("sizes", Tensor::from<int64_t>({2}, {2, 4}))}, 2, {{"axis", int64_t{1}}});
  const auto joined = b.op("Concat", {parts[1], parts[0], y}, {{"axis", int64_t{1}}});
  b.output(b.op("Transpose", {joined}, {{"perm", Ints{0, 2, 3, 1}}}), "last");
  b.output(b.op("Slice",
                {joined, b.constant("from", Tensor::from<int64_t>({2}, {-1, 1})), b.constant("to", Tensor::from<int64_t>({2}, {-100, 3})),
                 b.constant("axes", Tensor::from<int64_t>({2}, {3, 1})), b.constant("steps", Tensor::from<int64_t>({2}, {-2, 1}))}),
           "cut");
  b.output(b.op("Gather", {b.op("Reshape", {y, b.constant("shape", Tensor::from<int64_t>({2}, {-1, 4}))}),
                           b.constant("picks", Tensor::from<int64_t>({3}, {7, -1, 0}))}),
           "rows");
  b.output(b.op("ReduceMean", {y}, {{"axes", Ints{2, 3}}}), "mean");
  check_against_plain(b.finish(), {random_tensor({2, 6, 5, 4}, 9)}, {.threads = 2});
}

TEST_CASE("shapes only known at run time") {
  Builder b("dynamic");
  const auto x = b.input("x", DType::f32, {2, 6}), shape = b.input("shape", DType::i64, {2});
  b.output(b.op("Relu", {b.op("Reshape", {b.op("Neg", {x}), shape})}), "y");
  Lane lane(compile(b.finish(), {.threads = 2}));
  for (const Shape& s : {Shape{3, 4}, Shape{4, 3}, Shape{12, 1}}) {
    const Tensor x_value = random_tensor({2, 6}, 1), shape_value = Tensor::from<int64_t>({2}, s);
    const Outputs out = lane.run({{"x", x_value}, {"shape", shape_value}});
    CHECK(out[0].shape() == s);
    CHECK(out[0].as<float>()[5] == std::max(0.0f, -x_value.as<float>()[5]));
  }
  const Tensor x_value = random_tensor({2, 6}, 1), bad = Tensor::from<int64_t>({2}, {5, 5});
  CHECK(has(error_of([&] { lane.run({{"x", x_value}, {"shape", bad}}); }), "Reshape"));
}

TEST_CASE("one edition a shape, kept and bounded") {
  const Program p = compile(load(kDemo / "grain/grain.onnx"), {.threads = 1, .editions = 2});
  CHECK(p.editions_compiled() == 0);
  Lane lane(p);
  for (int round = 0; round < 3; ++round) {
    for (int64_t batch : {1, 2}) CHECK(lane.run({{"image", random_tensor({batch, 3, 64, 64}, 1)}})[0].shape() == Shape{batch, 6});
  }
  CHECK(p.editions_compiled() == 2);
  lane.run({{"image", random_tensor({3, 3, 64, 64}, 1)}});  // pushes one out
  CHECK(p.editions_compiled() == 3);
  // Weights were packed and dropped for the first: the others still have them.
  const Tensor x = random_tensor({4, 3, 64, 64}, 2);
  const auto expected = evaluate_plain(load(kDemo / "grain/grain.onnx"), std::vector<Tensor>{x});
  CHECK(compare("species", lane.run({{"image", x}})[0], expected[0]).pass);
}

#ifdef LATHE_COUNTS_ALLOCATIONS
TEST_CASE("running allocates nothing after the first run") {
  const Program p = compile(load(kDemo / "grain/grain.onnx"), {.threads = 2, .dims = {{"batch", 1}}});
  Lane lane(p);
  const Tensor x = random_tensor({1, 3, 64, 64}, 1);
  const std::vector<Tensor> inputs{x};
  for (int i = 0; i < 3; ++i) lane.run({{"image", x}});
  allocations = 0;
  counting = true;
  for (int i = 0; i < 20; ++i) {
    lane.run({{"image", x}});
    lane.run(std::span<const Tensor>(inputs));
  }
  counting = false;
  CHECK(allocations.load() == 0);
}

#endif

TEST_CASE("results do not change while they are held") {
  Lane lane(compile(load(kDemo / "grain/grain.onnx"), {.dims = {{"batch", 1}}}));
  const Tensor a = random_tensor({1, 3, 64, 64}, 1), b = random_tensor({1, 3, 64, 64}, 2);
  const Outputs first = lane.run({{"image", a}});
  const Tensor copy = first[0].clone();
  const Outputs second = lane.run({{"image", b}});
  CHECK(identical(first[0], copy));
  CHECK_FALSE(identical(first[0], second[0]));
}

TEST_CASE("bits do not depend on the thread count, and repeat") {
  const Graph g = load(kDemo / "grain/grain.onnx");
  const Tensor x = random_tensor({2, 3, 64, 64}, 3);
  Lane one(compile(g, {.threads = 1}));
  const Outputs expected = one.run({{"image", x}});
  for (int threads : {1, 2, 5}) {
    Lane lane(compile(g, {.threads = threads}));
    for (int i = 0; i < 5; ++i) CHECK(identical(lane.run({{"image", x}})[0], expected[0]));
  }
}

TEST_CASE("lanes run side by side on one program") {
  const Program p = compile(load(kDemo / "grain/grain.onnx"), {.threads = 1});
  std::vector<Tensor> inputs, expected;
  for (int i = 0; i < 4; ++i) {
    inputs.push_back(random_tensor({1 + i % 2, 3, 64, 64}, i));
    Lane lane(p);
    expected.push_back(lane.run({{"image", inputs.back()}})[0].clone());
  }
  std::atomic<int> wrong{0};
  std::vector<std::jthread> threads;
  for (int t = 0; t < 4; ++t) {
    threads.emplace_back([&, t] {
      Lane lane(p, 1 + t % 2);
      for (int i = 0; i < 20; ++i) {
        if (!identical(lane.run({{"image", inputs[(t + i) % 4]}})[0], expected[(t + i) % 4])) ++wrong;
      }
    });
  }
  threads.clear();
  CHECK(wrong == 0);
}

TEST_CASE("caller-owned output memory") {
  Lane lane(compile(load(kDemo / "grain/grain.onnx"), {.dims = {{"batch", 1}}}));
  std::vector<float> mine(6, -1);
  lane.bind_output("species", Tensor::borrow(DType::f32, {1, 6}, mine.data()));
  const Tensor x = random_tensor({1, 3, 64, 64}, 1);
  const Outputs out = lane.run({{"image", x}});
  CHECK(out[0].data() == mine.data());
  CHECK(mine[0] >= 0);
  lane.bind_output("species", Tensor(DType::f32, {2, 6}));
  CHECK(has(error_of([&] { lane.run({{"image", x}}); }), "bound to f32 of 2x6"));
}

TEST_CASE("the arena is within its bound, and weights are held once") {
  const Program p = compile(block(1, 32, 28), {.threads = 2});
  const EditionInfo info = p.describe();
  CHECK(info.arena_bytes >= info.arena_bound);
  CHECK(static_cast<double>(info.arena_bytes) <= 1.2 * static_cast<double>(info.arena_bound));
  CHECK(has(error_of([] { compile(block(1, 32, 28), {.arena_limit = 1000}); }), "the limit is 1000"));
}

TEST_CASE("cancelling and time limits") {
  Lane lane(compile(block(1, 16, 20), {.threads = 1}));
  const Tensor x = random_tensor({1, 16, 20, 20}, 1);
  std::stop_source source;
  RunOptions options;
  options.stop = source.get_token();
  lane.run({{"x", x}}, options);
  source.request_stop();
  Category c{};
  CHECK(has(error_of([&] { lane.run({{"x", x}}, options); }, &c), "cancelled"));
  CHECK(c == Category::cancelled);
  RunOptions hurry;
  hurry.limit = std::chrono::nanoseconds(1);
  CHECK(has(error_of([&] { lane.run({{"x", x}}, hurry); }), "passed its limit"));
  lane.run({{"x", x}});  // and the lane still works
}

TEST_CASE("wrong inputs are told apart") {
  Lane lane(compile(load(kDemo / "grain/grain.onnx")));
  const Tensor x = random_tensor({1, 3, 64, 64}, 1);
  CHECK(has(error_of([&] { lane.run({{"picture", x}}); }), "no input is named 'picture'; the inputs are image"));
  CHECK(has(error_of([&] { lane.run(std::initializer_list<NamedInput>{}); }), "'image' is not given"));
  CHECK(has(error_of([&] {
              lane.run({{"image", random_tensor({1, 3, 32, 64}, 1)}});
            }),
            "has shape 1x3x32x64, expected batch x 3 x 64 x 64"));
  CHECK(has(error_of([&] { lane.run({{"image", Tensor(DType::f64, {1, 3, 64, 64})}}); }), "is f64, expected f32"));
  CHECK(has(error_of([&] { lane.run({{"image", x}})["wood"]; }), "the outputs are species"));
  const Graph g = load(kDemo / "grain/grain.onnx");
  CHECK(has(error_of([&] { compile(g, {.dims = {{"width", 3}}}); }), "the open dims are batch"));
  CHECK(has(error_of([&] { compile(g, {.shapes = {{"image", {1, 4, 64, 64}}}}); }), "does not fit"));
  CHECK(has(error_of([&] { compile(g, {.outputs = {"nothing"}}); }), "the model's outputs are 'species'"));
  CHECK(has(error_of([&] { compile(g, {.isa = "quantum"}); }), "not one this machine has"));
  CHECK(has(error_of([&] { compile(g, {.threads = -1}); }), "threads is -1"));
  CHECK(has(error_of([&] { compile(g).describe(); }), "batch"));
}

TEST_CASE("cut to an inner value") {
  const Program p = compile(load(kDemo / "grain/grain.onnx"), {.dims = {{"batch", 1}}, .outputs = {"pooled"}});
  Lane lane(p);
  CHECK(lane.run({{"image", random_tensor({1, 3, 64, 64}, 1)}})[0].shape() == Shape{1, 128, 1, 1});
}

TEST_CASE("an op of one's own") {
  OpDef d;
  d.domain = "shop";
  d.name = "Bevel";
  d.trait = Trait::elementwise;
  d.infer = [](InferContext& c) { c.set(0, c.dtype(0), c.dims(0)); };
  d.plain = [](const EvalContext& c) -> std::vector<Tensor> {
    Tensor y = c.in(0).clone();
    for (float& v : y.as<float>()) v = v * v - 1;
    return {y};
  };
  register_op(d);
  Graph g;
  g.opsets[""] = 17;
  g.opsets["shop"] = 1;
  Value x, y;
  x.name = "x";
  x.dtype = DType::f32;
  x.dims = Dims{Dim(3)};
  y.name = "y";
  g.inputs = {g.add_value(x)};
  g.outputs = {g.add_value(y)};
  Node n;
  n.op = "Bevel";
  n.domain = "shop";
  n.inputs = g.inputs;
  n.outputs = g.outputs;
  g.nodes = {n};
  Lane lane(compile(g));
  const Tensor in = Tensor::from<float>({3}, {1, 2, 3});
  CHECK(identical(lane.run({{"x", in}})[0], Tensor::from<float>({3}, {0, 3, 8})));
}
