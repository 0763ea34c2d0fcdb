// What holds whatever a caller holds and feeds, a model shares or leaves dead, and an op of the user's does.
#include <sys/resource.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cmath>
#include <cstring>

#include "support.hpp"
#include "tensor/widen.hpp"

using namespace test;
using Data = Attribute::Data;
using Ints = std::vector<int64_t>;

namespace {

Dims of(const Shape& s) { return Dims(s.begin(), s.end()); }

Type tensor_type(DType dtype, Dims dims) {
  Type t;
  t.dtype = dtype;
  t.dims = std::move(dims);
  return t;
}

std::vector<Tensor> plain(const Graph& g, const std::vector<Tensor>& fed) { return evaluate_plain(g, fed); }

void check_all_ways(const Graph& g, const std::vector<Tensor>& fed, Tolerance tolerance = {2e-5, 1e-4, 0}) {
  const auto expected = plain(g, fed);
  for (const std::string& isa : machine_info().isas) {
    for (const int threads : {1, 2, 3}) {
      INFO(isa, ", ", threads, " threads");
      check_against(expected, g, fed, {.threads = threads, .isa = isa}, tolerance);
    }
  }
  check_against(expected, g, fed, {.threads = 1, .fuse = false}, tolerance);
}

}  // namespace

TEST_CASE("an op that throws, on whichever worker, ends the run with its own error") {
  OpDef op;
  op.domain = "test.sound";
  op.name = "Trap";
  op.infer = [](InferContext& c) { c.set(0, c.dtype(0), c.dims(0)); };
  op.plain = [](const EvalContext& c) -> std::vector<Tensor> {
    if (c.in(0).as<float>()[0] > 0) throw std::runtime_error("the trap closed");
    return {c.in(0).clone()};
  };
  op.fast = [](const KernelRequest&) -> FastKernel {
    return [](KernelContext& c) {
      const auto* x = static_cast<const float*>(c.inputs[0].data);
      auto* y = static_cast<float*>(c.outputs[0].data);
      const int64_t n = element_count(*c.inputs[0].shape);
      c.each(n, [&](int64_t i) {
        if (x[i] > 0) throw std::runtime_error("the trap closed");
        y[i] = x[i];
      });
    };
  };
  register_op(op);
  Builder b("trapped");
  b.import_domain("test.sound", 1);
  const auto x = b.input("x", DType::f32, {64});
  b.output(b.op("Neg", {b.op("test.sound::Trap", {b.op("Relu", {x})})}), "y");
  const Graph g = b.finish();
  const Tensor calm = random_tensor({64}, 1, -1, 0);
  for (const bool plainly : {false, true}) {
    for (const int threads : {1, 2, 4}) {
      Lane lane(compile(g, {.threads = threads, .plain = plainly}));
      for (const int64_t at : {0, 31, 63}) {
        Tensor bad = calm.clone();
        bad.as<float>()[plainly ? 0 : at] = 1;
        std::string what;
        try {
          lane.run({{"x", bad}});
        } catch (const std::exception& e) {
          what = e.what();
        }
        INFO(threads, " threads, element ", at, plainly ? ", plain" : "");
        CHECK(has(what, "the trap closed"));
        // The lane, its crew and its memory are as good as new.
        CHECK(lane.run({{"x", calm}})[0].as<float>()[63] == 0);
      }
    }
  }
}

// Sanitizers reserve more address space than it leaves.
TEST_CASE("threads that cannot be started are an error, not the end" * doctest::skip(sanitized())) {
  Builder b("small");
  b.output(b.op("Relu", {b.input("x", DType::f32, {8})}), "y");
  const Program program = compile(b.finish(), {.threads = 1});
  const pid_t child = ::fork();
  if (child == 0) {
    // Address space for a few stacks more, not for a thousand.
    long pages = 0;
    if (std::FILE* f = std::fopen("/proc/self/statm", "r")) {
      if (std::fscanf(f, "%ld", &pages) != 1) pages = 0;
      std::fclose(f);
    }
    const rlim_t most = static_cast<rlim_t>(pages) * 4096 + (rlim_t{100} << 20);
    const rlimit limit{most, most};
    ::setrlimit(RLIMIT_AS, &limit);
    int code = 1;
    try {
      Lane lane(program, 1000);
    } catch (const Error& e) {
      code = e.category() == Category::resource ? 0 : 2;
    } catch (...) {
      code = 3;
    }
    ::_exit(code);
  }
  int status = 0;
  REQUIRE(::waitpid(child, &status, 0) == child);
  CHECK(WIFEXITED(status));
  CHECK(WEXITSTATUS(status) == 0);
}

TEST_CASE("results may be fed back, held and bound in any way") {
  // state' = state * W + x: a product would write into what it reads.
  Builder b("recurrence");
  const auto s = b.input("s", DType::f32, {5, 8}), x = b.input("x", DType::f32, {5, 8});
  const auto product = b.op("MatMul", {s, b.constant("w", random_tensor({8, 8}, 3, -0.4f, 0.4f))});
  b.output(b.op("Tanh", {b.op("Add", {product, x})}), "t");
  b.output(b.op("Transpose", {product}, {{"perm", Ints{1, 0}}}), "u");
  const Graph g = b.finish();
  const Tensor start = random_tensor({5, 8}, 1), in = random_tensor({5, 8}, 2);
  std::vector<Tensor> expected{start};
  for (int i = 0; i < 6; ++i) expected.push_back(plain(g, {expected.back(), in})[0]);
  const auto same = [&](const Tensor& got, int step) { return compare("t", got, expected[step], Tolerance{1e-5, 1e-4, 0}).pass; };
  const Program program = compile(g, {.threads = 2});
  SUBCASE("fed back, nothing else held") {
    Lane lane(program);
    Tensor state = start;
    for (int i = 1; i <= 6; ++i) {
      state = lane.run({{"s", state}, {"x", in}})["t"];
      CHECK(same(state, i));
    }
  }
  SUBCASE("fed back while every earlier result is held") {
    Lane lane(program);
    std::vector<Outputs> held;
    Tensor state = start;
    for (int i = 1; i <= 6; ++i) {
      held.push_back(lane.run({{"s", state}, {"x", in}}));
      state = held.back()["t"];
    }
    for (int i = 1; i <= 6; ++i) CHECK(same(held[i - 1]["t"], i));
  }
  SUBCASE("fed to another lane, and back") {
    Lane a(program), c(program, 1);
    Tensor state = start;
    for (int i = 1; i <= 6; ++i) {
      state = (i % 2 ? a : c).run({{"s", state}, {"x", in}})["t"];
      CHECK(same(state, i));
    }
  }
  SUBCASE("bound to the memory it is fed from") {
    Lane lane(program);
    Tensor state = start.clone();
    lane.bind_output("t", state);
    for (int i = 1; i <= 6; ++i) {
      lane.run({{"s", state}, {"x", in}});
      CHECK(same(state, i));
    }
  }
  SUBCASE("borrowed memory, fed and bound") {
    std::vector<float> memory(start.as<float>().begin(), start.as<float>().end());
    Tensor state = Tensor::borrow(DType::f32, {5, 8}, memory.data());
    Lane lane(program);
    lane.bind_output("t", state);
    for (int i = 1; i <= 4; ++i) lane.run({{"s", state}, {"x", in}});
    CHECK(same(state, 4));
  }
}

TEST_CASE("ops that share one constant with different attributes") {
  using A = std::map<std::string, Data>;
  {
    Builder b("convolutions");
    const auto w = b.constant("w", random_tensor({48, 4, 3, 3}, 5));
    const auto x = b.input("x", DType::f32, {1, 8, 9, 10}), y = b.input("y", DType::f32, {1, 4, 9, 10});
    b.output(b.op("Conv", {x, w}, A{{"group", int64_t{2}}}), "a");
    b.output(b.op("Conv", {y, w}), "b");
    b.output(b.op("Conv", {y, w}, A{{"strides", Ints{2, 1}}, {"dilations", Ints{2, 2}}}), "c");
    b.output(b.op("Conv", {y, w}, A{{"pads", Ints{1, 1, 1, 1}}}), "d");
    check_all_ways(b.finish(), {random_tensor({1, 8, 9, 10}, 1), random_tensor({1, 4, 9, 10}, 2)}, {1e-4, 1e-3, 0});
  }
  {
    Builder b("transposed");
    const auto w = b.constant("w", random_tensor({4, 6, 3, 3}, 5)), x = b.input("x", DType::f32, {1, 4, 5, 5});
    b.output(b.op("ConvTranspose", {x, w}), "a");
    b.output(b.op("ConvTranspose", {x, w}, A{{"group", int64_t{2}}}), "b");
    b.output(b.op("ConvTranspose", {x, w}, A{{"group", int64_t{2}}, {"strides", Ints{2, 2}}}), "c");
    check_all_ways(b.finish(), {random_tensor({1, 4, 5, 5}, 1)}, {1e-4, 1e-3, 0});
  }
  {
    Builder b("products");
    const auto w = b.constant("w", random_tensor({16, 16}, 5)), x = b.input("x", DType::f32, {7, 16});
    b.output(b.op("MatMul", {x, w}), "a");
    b.output(b.op("Gemm", {x, w}, A{{"transB", int64_t{1}}}), "b");
    b.output(b.op("Gemm", {x, w}, A{{"alpha", 0.5f}}), "c");
    b.output(b.op("MatMul", {w, b.op("Transpose", {x}, A{{"perm", Ints{1, 0}}})}), "d");
    check_all_ways(b.finish(), {random_tensor({7, 16}, 1)}, {1e-4, 1e-3, 0});
  }
  {
    Builder b("bytes");
    Tensor weights(DType::u8, {6, 2, 3, 3}), fed(DType::u8, {1, 4, 6, 6});
    for (int64_t i = 0; i < weights.size(); ++i) weights.as<uint8_t>()[i] = static_cast<uint8_t>(i * 29 % 256);
    for (int64_t i = 0; i < fed.size(); ++i) fed.as<uint8_t>()[i] = static_cast<uint8_t>(i * 53 % 256);
    const auto w = b.constant("w", weights), x = b.input("x", DType::u8, {1, 4, 6, 6});
    b.output(b.op("ConvInteger", {x, w}, A{{"group", int64_t{2}}}), "a");
    const auto half = b.op("Slice", {x, b.constant("s", i64s({0})), b.constant("e", i64s({2})), b.constant("ax", i64s({1}))});
    b.output(b.op("ConvInteger", {half, w}), "b");
    check_all_ways(b.finish(), {fed});
  }
}

TEST_CASE("a lane of more threads than the program was compiled for") {
  Builder b("resized");
  const auto x = b.input("x", DType::f32, {1, 16, 20, 24});
  const auto scales = b.constant("scales", Tensor::from<float>({4}, {1, 1, 2, 2}));
  const auto up = b.op("Resize", {x, kAbsent, scales}, {{"mode", Data(std::string("linear"))}});
  b.output(b.op("Softmax", {b.op("Conv", {up, b.constant("w", random_tensor({8, 16, 3, 3}, 4))})}), "y");
  const Graph g = b.finish();
  const Tensor in = random_tensor({1, 16, 20, 24}, 1);
  const Tensor expected = plain(g, {in})[0];
  const Program program = compile(g, {.threads = 1});
  for (const int threads : {1, 2, 5, 16}) {
    Lane lane(program, threads);
    CHECK(compare("y", lane.run({{"x", in}})[0], expected, Tolerance{1e-4, 1e-3, 0}).pass);
  }
}

TEST_CASE("a lane of more threads than the program was compiled for, with products that share out scratch") {
  Builder b("halves");
  const auto x = b.input("x", DType::f32, {2, 64, 40, 36});
  const auto wide = [&](const Shape& shape, uint64_t seed) {
    const Tensor t = random_tensor(shape, seed, -0.1F, 0.1F);
    const auto numbers = widen<double>(t);
    return b.op("Cast", {b.constant("w" + std::to_string(seed), narrow<double>(DType::bf16, shape, numbers))}, {{"to", int64_t{1}}});
  };
  const auto taps = b.op("Conv", {x, wide({96, 64, 3, 3}, 2)}, {{"pads", std::vector<int64_t>{1, 1, 1, 1}}});
  const auto pixels = b.op("Conv", {taps, wide({128, 96, 1, 1}, 3)});
  const auto rows = b.op("Transpose", {pixels}, {{"perm", std::vector<int64_t>{0, 2, 3, 1}}});
  b.output(b.op("MatMul", {rows, wide({128, 160}, 4)}), "y");
  const Graph g = b.finish();
  const Tensor in = random_tensor({2, 64, 40, 36}, 1);
  const Tensor expected = plain(g, {in})[0];
  Tensor first;
  for (const int compiled : {1, 2}) {
    const Program program = compile(g, {.threads = compiled});
    for (const int threads : {1, 2, 5, 16}) {
      Lane lane(program, threads);
      const Tensor y = lane.run({{"x", in}})[0].clone();
      CHECK(compare("y", y, expected, Tolerance{1e-4, 1e-3, 0}).pass);
      if (first.empty()) first = y;
      else CHECK(identical(first, y));
    }
  }
}

TEST_CASE("powers of two alone: f8e8m0") {
  CHECK(parse_dtype("f8e8m0") == DType::f8e8m0);
  CHECK(decode_narrow(DType::f8e8m0, 127) == 1);
  CHECK(decode_narrow(DType::f8e8m0, 0) == std::ldexp(1.0, -127));
  CHECK(decode_narrow(DType::f8e8m0, 254) == std::ldexp(1.0, 127));
  CHECK(std::isnan(decode_narrow(DType::f8e8m0, 255)));
  for (uint32_t bits = 0; bits < 255; ++bits) CHECK(encode_narrow(DType::f8e8m0, decode_narrow(DType::f8e8m0, bits)) == bits);
  CHECK(encode_narrow(DType::f8e8m0, -1.0) == 255);
  CHECK(encode_narrow(DType::f8e8m0, 2.9) == 128);
  // There and back, in a model that is written and read.
  Builder b("scales", 24);
  const auto x = b.input("x", DType::f32, {6});
  const auto narrow = b.op("Cast", {x}, {{"to", int64_t{24}}, {"round_mode", Data(std::string("nearest"))}});
  b.output(b.op("Cast", {narrow}, {{"to", int64_t{1}}}), "y");
  b.output(narrow, "z");
  Folder f;
  save(b.finish(), f.path / "scales.onnx");
  const Graph g = load(f.path / "scales.onnx");
  const Tensor in = Tensor::from<float>({6}, {1, 0.3f, 100, 0x1p-120f, 6, NAN});
  check_all_ways(g, {in});
  const Tensor y = plain(g, {in})[0];
  CHECK(y.as<float>()[0] == 1);
  CHECK(y.as<float>()[1] == 0.25f);
  CHECK(y.as<float>()[2] == 128);
  CHECK(y.as<float>()[3] == 0x1p-120f);
}

TEST_CASE("reductions over no axes that do nothing still apply their function to each element") {
  const std::pair<const char*, float (*)(float)> kReductions[]{{"ReduceSum", [](float v) { return v; }},
                                                               {"ReduceMean", [](float v) { return v; }},
                                                               {"ReduceMax", [](float v) { return v; }},
                                                               {"ReduceMin", [](float v) { return v; }},
                                                               {"ReduceProd", [](float v) { return v; }},
                                                               {"ReduceL1", [](float v) { return std::fabs(v); }},
                                                               {"ReduceL2", [](float v) { return std::fabs(v); }},
                                                               {"ReduceSumSquare", [](float v) { return v * v; }},
                                                               {"ReduceLogSum", [](float v) { return std::log(v); }},
                                                               {"ReduceLogSumExp", [](float v) { return v; }}};
  for (const auto& [name, f] : kReductions) {
    for (const bool absent : {true, false}) {
      INFO(name, absent ? ", axes left out" : ", an empty list of axes");
      Builder b("noop", 18);
      const auto x = b.input("x", DType::f32, {2, 3});
      const auto axes = absent ? kAbsent : b.constant("axes", i64s({}));
      b.output(b.op(name, {x, axes}, {{"noop_with_empty_axes", int64_t{1}}}), "y");
      const Graph g = b.finish();
      const Tensor in = random_tensor({2, 3}, 7, 0.5f, 3);
      check_all_ways(g, {in});
      const Tensor y = plain(g, {in})[0];
      REQUIRE(y.shape() == in.shape());
      for (int i = 0; i < 6; ++i) CHECK(y.as<float>()[i] == doctest::Approx(f(in.as<float>()[i])));
    }
  }
}

TEST_CASE("a branch that is never taken may be impossible") {
  // What exporters write for a squeeze that "may" apply: Squeeze where the dim is 1, else Identity.
  const auto squeeze_if_one = [](const Dims& dims, bool nested) {
    Builder dead("dead", 17), alive("alive", 17);
    dead.output(dead.op("Squeeze", {dead.outer("x"), dead.constant("axis", i64s({1}))}), "d");
    alive.output(alive.op("Relu", {alive.outer("x")}), "a");
    Builder b("squeeze", 17);
    const auto x = b.input("x", DType::f32, dims);
    const auto dim = b.op("Gather", {b.op("Shape", {x}), b.constant("one", i64s({1}))});
    const auto is_one = b.op("Equal", {dim, b.constant("uno", i64s({1}))}, {}, "is_one");
    if (!nested) {
      b.output(b.op("If", {is_one}, {{"then_branch", Data(dead.finish_body())}, {"else_branch", Data(alive.finish_body())}}), "y");
      return b.finish();
    }
    Builder outer("outer", 17), other("other", 17);
    outer.output(
        outer.op("If", {outer.outer("is_one")}, {{"then_branch", Data(dead.finish_body())}, {"else_branch", Data(alive.finish_body())}}),
        "in");
    // Never taken either: a reshape that cannot be.
    other.output(other.op("Reshape", {other.outer("x"), other.constant("to", i64s({7, 11}))}), "o");
    b.output(b.op("If", {b.constant("yes", Tensor::from<bool>({}, {true}))},
                  {{"then_branch", Data(outer.finish_body())}, {"else_branch", Data(other.finish_body())}}),
             "y");
    return b.finish();
  };
  for (const bool nested : {false, true}) {
    for (const Dims& dims : {Dims{2, 3}, Dims{"n", 3}, Dims{"n", "m"}}) {
      const Graph g = squeeze_if_one(dims, nested);
      INFO((nested ? "nested, " : ""), to_string(dims));
      const Tensor in = random_tensor({2, 3}, 1);
      check_all_ways(g, {in});
      Folder f;
      save(g, f.path / "if.onnx");
      Lane lane(compile(load(f.path / "if.onnx")));
      CHECK(lane.run({{"x", in}})[0].shape() == Shape{2, 3});
    }
    // Where the dim is 1, it is the other way round.
    const Graph g = squeeze_if_one(Dims{2, 1}, nested);
    Lane lane(compile(g));
    CHECK(lane.run({{"x", random_tensor({2, 1}, 1)}})[0].shape() == Shape{2});
  }
  // A branch that is taken and impossible is an error.
  Builder dead("dead", 17), alive("alive", 17);
  dead.output(dead.op("Squeeze", {dead.outer("x"), dead.constant("axis", i64s({1}))}), "d");
  alive.output(alive.op("Relu", {alive.outer("x")}), "a");
  Builder b("wrong", 17);
  b.input("x", DType::f32, {2, 3});
  CHECK(has(error_of([&] {
              b.output(b.op("If", {b.constant("c", Tensor::from<bool>({}, {true}))},
                            {{"then_branch", Data(dead.finish_body())}, {"else_branch", Data(alive.finish_body())}}),
                       "y");
              compile(b.finish());
            }),
            "Squeeze"));
}

TEST_CASE("an input with a value of its own: kept as a constant, or given anew") {
  // The target shape of a reshape, and a bias.
  Builder b("defaults");
  const auto x = b.input("x", DType::f32, {2, 6});
  const auto shape = b.constant("shape", i64s({3, 4})), bias = b.constant("bias", Tensor::from<float>({}, {1}));
  b.output(b.op("Add", {b.op("Reshape", {x, shape}), bias}), "y");
  Graph built = b.finish();
  built.defaults = {{shape, tensor_type(DType::i64, {"rank"})}, {bias, tensor_type(DType::f32, {})}};
  Folder f;
  save(built, f.path / "d.onnx");
  const Graph g = load(f.path / "d.onnx");
  REQUIRE(g.defaults.size() == 2);
  CHECK(g.inputs.size() == 1);
  const Tensor in = random_tensor({2, 6}, 1);
  check_all_ways(g, {in});
  // Untouched they are constants, and the caller who feeds one is told how to.
  Lane closed(compile(g));
  CHECK(closed.run({{"x", in}})[0].shape() == Shape{3, 4});
  CHECK(has(error_of([&] { closed.run({{"x", in}, {"bias", Tensor::from<float>({}, {2})}}); }), "CompileOptions::given"));
  Lane open(compile(g, {.given = {"shape", "bias"}}));
  for (const Ints& to : {Ints{4, 3}, Ints{12}, Ints{1, 2, 6}}) {
    const Outputs out = open.run({{"x", in}, {"shape", i64s(to)}, {"bias", Tensor::from<float>({}, {2})}});
    CHECK(out[0].shape() == Shape(to));
    CHECK(out[0].as<float>()[5] == doctest::Approx(in.as<float>()[5] + 2));
  }
  CHECK(has(error_of([&] { open.run({{"x", in}, {"shape", i64s({3, 4})}}); }), "input 'bias' is not given"));
  CHECK(has(error_of([&] { compile(g, {.given = {"bais"}}); }), "they are shape, bias"));
  // Once opened in the graph itself, it is an input like the others.
  Graph opened = g;
  open_defaults(opened, {"bias"});
  CHECK(plain(opened, {in, Tensor::from<float>({}, {-1})})[0].as<float>()[0] == doctest::Approx(in.as<float>()[0] - 1));
}

TEST_CASE("a location of external data that holds a NUL byte is refused") {
  Folder f;
  Builder b("external");
  b.output(b.op("Add", {b.input("x", DType::f32, {2000}), b.constant("w", random_tensor({2000}, 1))}), "y");
  save(b.finish(), f.path / "m.onnx", {1000});
  std::string bytes = slurp(f.path / "m.onnx");
  const size_t at = bytes.find("m.onnx.data");
  REQUIRE(at != std::string::npos);
  bytes[at + 6] = '\0';
  write(f.path / "m.onnx", bytes);
  write(f.path / "m.onnx2", std::string(8000, 'x'));
  CHECK(has(error_of([&] { load(f.path / "m.onnx"); }), "NUL byte"));
}

TEST_CASE("constants are matched by their shape, not by how many elements they have") {
  struct Row {
    const char* op;
    Shape scale;
  };
  for (const Row& row : {Row{"RMSNormalization", {4, 1}},
                         {"RMSNormalization", {1, 4}},
                         {"RMSNormalization", {4, 4}},
                         {"RMSNormalization", {4}},
                         {"LayerNormalization", {4, 1}},
                         {"LayerNormalization", {1, 4}},
                         {"LayerNormalization", {4, 4}},
                         {"LayerNormalization", {1}}}) {
    INFO(row.op, " with a scale of ", to_string(row.scale));
    Builder b("scaled", 23);
    const auto x = b.input("x", DType::f32, {4, 4});
    b.output(b.op(row.op, {x, b.constant("scale", random_tensor(row.scale, 3))}), "y");
    check_all_ways(b.finish(), {random_tensor({4, 4}, 1)}, {1e-5, 1e-3, 0});
  }
  // Added to a product of as many rows as columns, down the columns, along them, and everywhere.
  for (const Shape& bias : {Shape{4, 1}, Shape{1, 4}, Shape{4}, Shape{1, 1, 1}, Shape{2, 1, 4}, Shape{4, 4}}) {
    INFO("a bias of ", to_string(bias));
    Builder b("biased", 17);
    const auto x = b.input("x", DType::f32, {4, 9});
    const auto product = b.op("MatMul", {x, b.constant("w", random_tensor({9, 4}, 2))});
    b.output(b.op("Relu", {b.op("Add", {product, b.constant("b", random_tensor(bias, 3))})}), "y");
    check_all_ways(b.finish(), {random_tensor({4, 9}, 1)});
  }
  // The channels of a batched product are not its columns.
  Builder b("batched", 17);
  const auto x = b.input("x", DType::f32, {2, 7, 14});
  const auto product = b.op("MatMul", {x, b.constant("w", random_tensor({14, 4}, 2))});
  const auto p = [&](const char* name, float low) { return b.constant(name, random_tensor({7}, 5, low, 1)); };
  b.output(b.op("BatchNormalization", {product, p("s", -1), p("b", -1), p("m", -1), p("v", 0.5f)}), "y");
  check_all_ways(b.finish(), {random_tensor({2, 7, 14}, 1)}, {1e-4, 1e-3, 0});
}

TEST_CASE("means whose sums do not fit, and rows with nothing to see") {
  Builder b("large", 17);
  const auto x = b.input("x", DType::f32, {3, 32});
  b.output(b.op("ReduceMean", {x}, {{"axes", Ints{1}}}), "mean");
  b.output(b.op("GlobalAveragePool", {b.op("Reshape", {x, b.constant("to", i64s({1, 3, 4, 8}))})}), "pool");
  Tensor in = random_tensor({3, 32}, 1);
  for (float& v : in.as<float>()) v = v < 0 ? 2e38f : 3e38f;
  const Graph g = b.finish();
  check_all_ways(g, {in}, {1e33, 1e-5, 0});
  CHECK(std::isfinite(plain(g, {in})[0].as<float>()[0]));
  // A row of attention that may see nothing.
  Builder a("masked", 23);
  const auto q = a.input("q", DType::f32, {1, 2, 3, 8}), k = a.input("k", DType::f32, {1, 2, 4, 8}),
             v = a.input("v", DType::f32, {1, 2, 4, 8});
  Tensor mask(DType::boolean, {3, 4});
  for (int i = 0; i < 12; ++i) mask.as<bool>()[i] = i >= 4;
  a.output(a.op("Attention", {q, k, v, a.constant("mask", mask)}), "y");
  check_all_ways(a.finish(), {random_tensor({1, 2, 3, 8}, 1), random_tensor({1, 2, 4, 8}, 2), random_tensor({1, 2, 4, 8}, 3)});
}

TEST_CASE("of a list of operands none may be left out, and sizes given at run time are looked at whatever a model declares") {
  for (const char* op : {"Mean", "Sum", "Max", "Min", "Concat"}) {
    INFO(std::string(op));
    const std::string what = error_of([&] {
      Builder b("gap");
      std::map<std::string, Data> attributes;
      if (std::string(op) == "Concat") attributes["axis"] = int64_t{0};
      b.output(b.op(op, {b.input("x", DType::f32, {3}), kAbsent, b.input("y", DType::f32, {3})}, attributes), "z");
      compile(b.finish());
    });
    CHECK(has(what, "input 1 is left out, but the op needs it"));
  }
  // The result is declared, the shape that makes it is fed.
  struct Case {
    const char* op;
    Shape in, out;
    Ints good, bad;
  };
  for (const Case& c : {Case{"Reshape", {2, 6}, {3, 4}, {3, 4}, {4, 3}},
                        {"Squeeze", {1, 3, 1}, {3, 1}, {0}, {2}},
                        {"Unsqueeze", {3}, {1, 3}, {0}, {1}},
                        {"Expand", {1, 3}, {2, 3}, {2, 3}, {4, 3}}}) {
    INFO(std::string(c.op));
    Builder b("told", 17);
    const auto x = b.input("x", DType::f32, Dims(c.in.begin(), c.in.end()));
    const auto how = b.input("how", DType::i64, {static_cast<int64_t>(c.good.size())});
    const auto y = b.op(c.op, {x, how});
    b.output(b.op("Relu", {y}), "z");
    Graph g = b.finish();
    g.values[y].dims = Dims(c.out.begin(), c.out.end());
    g.values[g.outputs[0]].dims = g.values[y].dims;
    const Tensor in = random_tensor(c.in, 1);
    for (const bool plainly : {false, true}) {
      Lane lane(compile(g, {.threads = 2, .plain = plainly}));
      CHECK(lane.run({{"x", in}, {"how", i64s(c.good)}})[0].shape() == c.out);
      CHECK(has(error_of([&] { lane.run({{"x", in}, {"how", i64s(c.bad)}}); }), "the model declares"));
    }
  }
}

TEST_CASE("results count for the limit of memory") {
  Builder b("large");
  b.output(b.op("Expand", {b.input("x", DType::f32, {1}), b.constant("to", i64s({1000, 1000}))}), "y");
  const Graph g = b.finish();
  CHECK(has(error_of([&] { compile(g, {.arena_limit = 1 << 20}); }), "with output 'y' the results take 4000000 bytes"));
  CHECK(Lane(compile(g, {.arena_limit = 8 << 20})).run({{"x", Tensor::from<float>({1}, {2})}})[0].as<float>()[999999] == 2);
}

TEST_CASE("a result that is folded and not as the model declares is refused as it is at run time") {
  Builder b("declared");
  const auto y = b.op("Unique", {b.constant("x", Tensor::from<float>({6}, {2, 2, 2, 2, 2, 2}))});
  b.output(y, "y");
  Graph g = b.finish();
  CHECK(Lane(compile(g)).run({})[0].shape() == Shape{1});
  g.values[y].dims = Dims{4};
  for (const bool plainly : {false, true})
    CHECK(has(error_of([&] { Lane(compile(g, {.plain = plainly})).run({}); }), "gives f32 of 1 for 'y', the model declares f32 of 4"));
}

TEST_CASE("bools of a file: any byte but 0 is true") {
  Folder f;
  Builder b("bools");
  b.output(b.op("Where", {b.constant("which", Tensor::from<bool>({4}, {true, false, true, false})), b.input("x", DType::f32, {4}),
                          b.input("y", DType::f32, {4})}),
           "z");
  save(b.finish(), f.path / "bools.onnx");
  std::string bytes = slurp(f.path / "bools.onnx");
  const size_t at = bytes.find(std::string("\1\0\1\0", 4));
  REQUIRE(at != std::string::npos);
  bytes.replace(at, 4, std::string("\x24\0\xFF\0", 4));
  write(f.path / "bools.onnx", bytes);
  const Graph g = load(f.path / "bools.onnx");
  const std::vector<Tensor> fed{random_tensor({4}, 1), random_tensor({4}, 2)};
  check_all_ways(g, fed);
  CHECK(plain(g, fed)[0].as<float>()[2] == fed[0].as<float>()[2]);
  // The same of an array.
  write_npy(f.path / "b.npy", Tensor::from<bool>({4}, {true, false, true, false}));
  std::string array = slurp(f.path / "b.npy");
  array[array.size() - 2] = 36;
  write(f.path / "b.npy", array);
  CHECK(identical(read_npy(f.path / "b.npy"), Tensor::from<bool>({4}, {true, false, true, false})));
}

TEST_CASE("nodes that make nothing are left to plain evaluation, whatever stands around them") {
  struct Case {
    const char* op;
    Shape x;
    std::vector<Shape> constants;
    std::map<std::string, Data> attributes{};
  };
  const Ints kernel{3, 3}, ones{1, 1, 1, 1};
  const std::vector<Case> cases{
      {"Conv", {0, 4, 6, 6}, {{8, 4, 3, 3}, {8}}, {{"pads", ones}}},
      {"Conv", {0, 4, 6, 6}, {{4, 1, 3, 3}, {4}}, {{"pads", ones}, {"group", int64_t{4}}}},
      {"Conv", {0, 4, 6, 6}, {{8, 2, 3, 3}}, {{"group", int64_t{2}}}},
      {"Conv", {2, 4, 6, 6}, {{0, 4, 3, 3}}, {{"pads", ones}}},
      {"Conv", {0, 4, 9}, {{8, 4, 3}}},
      {"ConvTranspose", {0, 4, 6, 6}, {{4, 8, 3, 3}, {8}}, {{"strides", Ints{2, 2}}}},
      {"MaxPool", {0, 4, 12, 12}, {}, {{"kernel_shape", kernel}}},
      {"AveragePool", {2, 0, 12, 12}, {}, {{"kernel_shape", kernel}, {"pads", ones}}},
      {"GlobalAveragePool", {0, 4, 6, 6}, {}},
      {"MatMul", {0, 6}, {{6, 5}}},
      {"MatMul", {3, 0, 6}, {{6, 5}}},
      {"MatMul", {4, 6}, {{6, 0}}},
      {"Gemm", {0, 6}, {{6, 5}, {5}}},
      {"Softmax", {0, 6}, {}},
      {"Softmax", {3, 0}, {}},
      {"LayerNormalization", {0, 6}, {{6}, {6}}},
      {"InstanceNormalization", {0, 4, 6}, {{4}, {4}}},
      {"ReduceSum", {0, 6}, {}, {{"axes", Ints{1}}}},
      {"Transpose", {0, 6}, {}},
      {"Relu", {0}, {}},
      {"PRelu", {0, 3}, {{3}}},
      {"DepthToSpace", {0, 4, 2, 2}, {}, {{"blocksize", int64_t{2}}}},
  };
  for (const Case& c : cases) {
    INFO(std::string(c.op), " of ", to_string(c.x));
    Builder b("nothing", 12);
    // Elementwise nodes before and behind it, that would be taken in.
    std::vector<ValueId> in{b.op("Abs", {b.input("x", DType::f32, Dims(c.x.begin(), c.x.end()))})};
    uint64_t seed = 3;
    for (const Shape& s : c.constants) in.push_back(b.constant("c" + std::to_string(seed), random_tensor(s, seed))), ++seed;
    if (std::string(c.op) == "LayerNormalization")
      b = Builder("nothing", 17), in = {b.op("Abs", {b.input("x", DType::f32, of({0, 6}))}), b.constant("scale", random_tensor({6}, 1))};
    const ValueId y = b.op(c.op, in, c.attributes);
    b.output(b.op("Relu", {b.op("Neg", {y})}), "y");
    b.output(b.op("Sigmoid", {y}), "z");
    const Graph g = b.finish();
    check_all_ways(g, {random_tensor(c.x, 1)});
    for (const StepInfo& s : compile(g, {.threads = 1}).describe().steps) {
      if (s.op == c.op) CHECK(s.why == "its result is empty");
    }
  }
  // Something may still come of nothing.
  Builder b("sums", 17);
  const auto x = b.input("x", DType::f32, of({3, 0}));
  const auto sums = b.op("ReduceSum", {b.op("Exp", {x}), b.constant("axes", i64s({1}))});
  const auto products = b.op("MatMul", {b.op("Abs", {x}), b.constant("w", Tensor(DType::f32, {0, 4}))});
  b.output(b.op("Cos", {sums}), "sums");
  b.output(b.op("Add", {products, b.constant("bias", random_tensor({4}, 1))}), "products");
  const Graph g = b.finish();
  check_all_ways(g, {Tensor(DType::f32, {3, 0})});
  CHECK(plain(g, {Tensor(DType::f32, {3, 0})})[0].as<float>()[2] == 1);
  // Operands are looked at all the same.
  Builder far("far", 17);
  const auto rows = far.input("rows", DType::f32, of({0, 4}));
  far.output(far.op("Gather", {rows, far.input("which", DType::i64, {2})}, {{"axis", int64_t{1}}}), "y");
  const Graph f = far.finish();
  const std::vector<Tensor> beyond{Tensor(DType::f32, {0, 4}), i64s({1, 4})};
  const std::string said = error_of([&] { plain(f, beyond); });
  CHECK(has(said, "4"));
  CHECK(error_of([&] { Lane(compile(f, {.threads = 1})).run(std::span<const Tensor>(beyond)); }) == said);
}

TEST_CASE("clamps whose bounds cross, are infinite or no numbers: the same wherever they end up") {
  const float inf = INFINITY, nan = NAN;
  const std::pair<float, float> bounds[]{{-0.25f, 0.25f}, {0.25f, -0.25f}, {0, 0},      {-inf, 0.1f}, {0.1f, inf},
                                         {inf, -inf},     {-inf, inf},     {nan, 0.1f}, {-0.1f, nan}};
  for (const auto& [low, high] : bounds) {
    INFO(low, " to ", high);
    for (const bool behind_product : {false, true}) {
      for (const char* form : {"Clip", "Max Min", "Min Max"}) {
        Builder b("clamp", 17);
        ValueId v = b.input("x", DType::f32, {9, 16});
        const ValueId least = b.constant("low", Tensor::from<float>({}, {low})), most = b.constant("high", Tensor::from<float>({}, {high}));
        if (behind_product) v = b.op("MatMul", {v, b.constant("w", random_tensor({16, 16}, 2))});
        const std::string f = form;
        if (f == "Clip") v = b.op("Clip", {v, least, most});
        else if (f == "Max Min") v = b.op("Min", {b.op("Max", {v, least}), most});
        else v = b.op("Max", {b.op("Min", {v, most}), least});
        b.output(v, "y");
        Tensor in = random_tensor({9, 16}, 1);
        if (!behind_product) in.as<float>()[3] = nan, in.as<float>()[20] = inf, in.as<float>()[37] = -inf;
        INFO(f, behind_product ? " behind a product" : "");
        check_all_ways(b.finish(), {in});
      }
    }
  }
}

// About digits, and long: nothing for sanitizers.
TEST_CASE("sums over long rows keep their digits" * doctest::skip(sanitized())) {
  // One after another in floats, a million equal numbers would lose four digits.
  Tensor in(DType::f32, {2, 1 << 18});
  for (int64_t i = 0; i < in.size(); ++i) in.as<float>()[i] = 0.1f + 0.01f * static_cast<float>(i % 3);
  for (const char* op : {"ReduceSum", "ReduceMean", "ReduceL2", "ReduceLogSumExp", "Softmax", "LayerNormalization"}) {
    INFO(std::string(op));
    Builder b("long", 18);
    std::vector<ValueId> in_turn{b.input("x", DType::f32, {2, 1 << 18})};
    const std::string name = op;
    if (name == "LayerNormalization") in_turn.push_back(b.constant("scale", random_tensor({1 << 18}, 1, 1, 2)));
    else if (name != "Softmax") in_turn.push_back(b.constant("axes", i64s({1})));
    b.output(b.op(op, in_turn), "y");
    check_all_ways(b.finish(), {in}, {name == "LayerNormalization" ? 2e-4 : 0, 3e-6, 0});
  }
}

TEST_CASE("sums over large pictures and long products keep their digits" * doctest::skip(sanitized())) {
  Tensor in(DType::f32, {1, 2, 512, 256});
  for (int64_t i = 0; i < in.size(); ++i) in.as<float>()[i] = 0.1f + 0.01f * static_cast<float>(i % 3);
  const std::vector<std::pair<const char*, std::map<std::string, Data>>> ops{
      {"GlobalAveragePool", {}},
      {"AveragePool", {{"kernel_shape", Ints{512, 256}}}},
      {"AveragePool", {{"kernel_shape", Ints{512, 250}}, {"strides", Ints{512, 1}}}},
      {"ReduceMean", {{"axes", Ints{2, 3}}}},
      {"ReduceSum", {{"axes", Ints{2}}}},
      {"InstanceNormalization", {}},
  };
  for (const auto& [op, attributes] : ops) {
    for (const bool behind_convolution : {false, true}) {
      Builder b("large", 12);
      ValueId x = b.input("x", DType::f32, {1, 2, 512, 256});
      const Tensor same = Tensor::from<float>({2, 2, 1, 1}, {1, 0, 0, 1});
      if (behind_convolution) x = b.op("Conv", {x, b.constant("same", same)});
      std::vector<ValueId> operands{x};
      if (std::string(op) == "InstanceNormalization") {
        for (const char* name : {"scale", "shift"}) operands.push_back(b.constant(name, random_tensor({2}, 1, 1, 2)));
      }
      b.output(b.op(op, operands, attributes), "y");
      INFO(std::string(op), behind_convolution ? " behind a convolution" : "");
      check_all_ways(b.finish(), {in}, {std::string(op) == "InstanceNormalization" ? 2e-4 : 0, 3e-6, 0});
    }
  }
  Builder b("long", 17);
  Tensor w(DType::f32, {1 << 14, 3});
  for (int64_t i = 0; i < w.size(); ++i) w.as<float>()[i] = 0.5f + 0.001f * static_cast<float>(i % 7);
  b.output(b.op("MatMul", {b.input("x", DType::f32, {16, 1 << 14}), b.constant("w", w)}), "y");
  check_all_ways(b.finish(), {in.reshaped({16, 1 << 14})}, {0, 5e-6, 0});
}

TEST_CASE("an op of the user's whose operand decides sizes: its kernel runs where that is a constant, and nowhere else") {
  OpDef d;
  d.domain = "soundness";
  d.name = "Take";
  d.min_inputs = d.max_inputs = 2;
  d.operands = "x:f32[N] count!:i64[1]";
  d.infer = [](InferContext& c) { c.set(0, c.dtype(0), Dims{Dim("taken")}); };
  d.plain = [](const EvalContext& c) -> std::vector<Tensor> {
    const int64_t count = c.in(1).as<int64_t>()[0];
    if (count < 0 || count > c.in(0).size()) throw Error(Category::value, "there are not so many");
    Tensor y(DType::f32, {count});
    std::copy_n(c.in(0).as<float>().begin(), count, y.as<float>().begin());
    return {y};
  };
  static int made = 0;
  d.fast = [](const KernelRequest& r) -> FastKernel {
    ++made;
    const int64_t count = (*r.outputs[0].shape)[0];
    return [count](KernelContext& c) { std::memcpy(c.outputs[0].data, c.inputs[0].data, static_cast<size_t>(count) * sizeof(float)); };
  };
  register_op(d);
  for (const bool constant : {false, true}) {
    Builder b("take", 21);
    b.import_domain("soundness", 1);
    const auto x = b.input("x", DType::f32, {5});
    const auto count = constant ? b.constant("count", i64s({3})) : b.input("count", DType::i64, {1});
    const auto y = b.op("soundness::Take", {x, count});
    b.output(y, "y");
    Graph g = b.finish();
    for (Value& v : g.values) {
      if (v.name == "y") v.dims = Dims{3};  // as a model may declare
    }
    made = 0;
    const Program p = compile(g, {.threads = 1});
    CHECK(made == (constant ? 1 : 0));
    Lane lane(p);
    std::vector<Tensor> fed{Tensor::from<float>({5}, {1, 2, 3, 4, 5})};
    if (!constant) fed.push_back(i64s({3}));
    CHECK(identical(lane.run(std::span<const Tensor>(fed))[0], Tensor::from<float>({3}, {1, 2, 3})));
    if (constant) continue;
    for (const int64_t wrong : {2, 5, 6, -1}) {
      fed[1] = i64s({wrong});
      CHECK_FALSE(error_of([&] { lane.run(std::span<const Tensor>(fed)); }).empty());
    }
  }
}

TEST_CASE("attributes that an exporter left behind from an earlier version mean nothing") {
  const auto same = [](const std::string& op, Shape shape, int64_t opset, std::map<std::string, Attribute> left) {
    CAPTURE(op);
    Builder b("left", opset);
    const ValueId x = b.input("x", DType::f32, Dims(shape.begin(), shape.end()));
    const ValueId y = b.op(op, {b.op("Relu", {x})}, {});
    b.output(b.op("Neg", {y}), "y");
    Graph g = b.finish();
    for (Node& n : g.nodes) {
      if (n.op == op) n.attributes = left;
    }
    check_against_plain(g, {random_tensor(shape, 3, -9, 9)});
  };
  const auto axes = [](int64_t a) { return std::map<std::string, Attribute>{{"axes", {std::vector<int64_t>{a}, ""}}}; };
  for (const char* op : {"ReduceSum", "ReduceMean", "ReduceMax", "ReduceMin", "ReduceL2"}) {
    for (int64_t a : {0, 1, 2}) same(op, {3, 70, 60}, 18, axes(a));
  }
  same("Clip", {3, 50}, 13, {{"min", {0.5f, ""}}, {"max", {1.0f, ""}}});
}
