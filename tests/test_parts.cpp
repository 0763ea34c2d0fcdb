// Sizes that are known only while running: what follows is compiled for the sizes met.
#include <algorithm>

#include "support.hpp"

using namespace test;
using Data = Attribute::Data;

namespace {

// Rows of x that `keep` says, through a product with 64x64 weights, a softmax, and once more by itself; with sizes computed on the way.
Graph picked_rows(bool shapes = false) {
  Builder b("picked");
  const auto x = b.input("x", DType::f32, {Dim("rows"), 64}), keep = b.input("keep", DType::boolean, {Dim("rows")});
  ValueId y = b.op("Compress", {x, keep}, {{"axis", int64_t{0}}}, "picked");
  y = b.op("MatMul", {y, b.constant("W", random_tensor({64, 64}, 1))});
  y = b.op("Add", {y, b.constant("bias", random_tensor({64}, 2))});
  if (shapes) {  // halves of each row side by side, by a shape that is worked out
    const auto rows = b.op("Gather", {b.op("Shape", {y}), b.constant("zero", Tensor::from<int64_t>({1}, {0}))});
    y = b.op("Reshape", {y, b.op("Concat", {rows, b.constant("rest", Tensor::from<int64_t>({2}, {2, 32}))}, {{"axis", int64_t{0}}})});
    y = b.op("Transpose", {y}, {{"perm", std::vector<int64_t>{1, 0, 2}}});
  }
  y = b.op("Softmax", {y});
  b.output(y, "probabilities");
  // Known again: one number a column.
  const auto mean = b.op("ReduceMean", {y}, {{"axes", std::vector<int64_t>{0}}});
  b.output(mean, "mean");
  return b.finish();
}

Tensor kept(int64_t rows, int64_t every) {
  Tensor t(DType::boolean, {rows});
  for (int64_t i = 0; i < rows; ++i) t.as<bool>()[i] = every > 0 && i % every == 0;
  return t;
}

std::vector<std::string> kinds(const Program& p, const std::vector<Shape>& shapes) {
  std::vector<std::string> out;
  for (const StepInfo& s : p.describe(shapes).steps) out.push_back(s.kind);
  return out;
}

}  // namespace

TEST_CASE("what follows rows picked by values is one part, whatever is picked") {
  for (const bool shapes : {false, true}) {
    const Graph g = picked_rows(shapes);
    const Program p = compile(g, {.threads = 2});
    const auto made = kinds(p, {{100, 64}, {100}});
    CHECK(std::ranges::count(made, "control") == 1);
    CHECK(std::ranges::count(made, "plain") == 1);  // the Compress
    const auto info = p.describe({{100, 64}, {100}});
    const auto report = std::ranges::find(info.passes, "separate_parts", &PassReport::pass);
    REQUIRE(report != info.passes.end());
    CHECK(has(report->changes.at(0), "sizes that are known only while running"));
    for (const int64_t rows : {int64_t{100}, int64_t{37}}) {
      for (const int64_t every : {1, 2, 3, 50, 0})
        check_against_plain(g, {random_tensor({rows, 64}, 3), kept(rows, every)}, {.threads = 2});
    }
    check_against_plain(g, {random_tensor({90, 64}, 3), kept(90, 2)}, {.threads = 1, .fuse = false});
  }
}

TEST_CASE("a part's bits depend on its sizes alone: run after run, in other lanes, from an archive") {
  const Graph g = picked_rows(true);
  const Program p = compile(g, {.threads = 2});
  const Tensor x = random_tensor({100, 64}, 3);
  std::vector<Tensor> first;
  const Folder f;
  (void)p.describe({{100, 64}, {100}});
  save_program(p, f.path / "parts.lathe");
  for (const Program& program : {p, p, load_program(f.path / "parts.lathe")}) {
    Lane lane(program);
    size_t at = 0;
    for (int round = 0; round < 2; ++round) {
      for (int64_t every = 1; every <= 12; ++every, ++at) {  // more sizes than editions are kept
        const Outputs out = lane.run({{"x", x}, {"keep", kept(100, every)}});
        if (at == first.size()) first.push_back(out[0]);
        CHECK(identical(out[0], first[at]));
      }
    }
  }
  CHECK(identical(first[0], first[12]));
}

TEST_CASE("branches that give other sizes, and layers behind them") {
  // As detectors of speech choose their front by the sampling rate.
  const auto front = [](int64_t stride) {
    Builder n("front");
    n.output(n.op("Conv", {n.outer("sound"), n.constant("F", random_tensor({16, 1, 32}, static_cast<uint64_t>(stride)))},
                  {{"strides", std::vector<int64_t>{stride}}}),
             "seen");
    return n.finish_body();
  };
  Builder b("speech");
  b.input("sound", DType::f32, {1, 1, 512});
  const auto rate = b.input("rate", DType::i64, {});
  const auto fast = b.op("Equal", {rate, b.constant("16k", Tensor::from<int64_t>({}, {16000}))});
  auto y = b.op("If", {fast}, {{"then_branch", Data(front(16))}, {"else_branch", Data(front(8))}});
  y = b.op("Relu", {b.op("Conv", {y, b.constant("W", random_tensor({32, 16, 3}, 5)), b.constant("B", random_tensor({32}, 6))})});
  y = b.op("Transpose", {y}, {{"perm", std::vector<int64_t>{2, 0, 1}}});
  const auto lstm = b.ops(
      "LSTM",
      {y, b.constant("LW", random_tensor({1, 128, 32}, 7, -0.2f, 0.2f)), b.constant("LR", random_tensor({1, 128, 32}, 8, -0.2f, 0.2f))}, 3,
      {{"hidden_size", int64_t{32}}});
  b.output(b.op("Sigmoid", {lstm[1]}), "state");
  b.output(lstm[0], "all");
  const Graph g = b.finish();
  for (const int64_t hertz : {16000, 8000}) {
    check_against_plain(g, {random_tensor({1, 1, 512}, 9), Tensor::from<int64_t>({}, {hertz})}, {.threads = 2});
  }
  const auto info = compile(g, {.threads = 2}).describe();
  CHECK(info.plain == 0);
}

TEST_CASE("parts inside parts, and a part that reads what stands around a loop") {
  Builder b("twice");
  const auto x = b.input("x", DType::f32, {200, 64}), limit = b.input("limit", DType::f32, {});
  const auto rows_above = [&](ValueId v) {
    const auto mean = b.op("ReduceMean", {v}, {{"axes", std::vector<int64_t>{1}}, {"keepdims", int64_t{0}}});
    return b.op("Compress", {v, b.op("Greater", {mean, limit})}, {{"axis", int64_t{0}}});
  };
  auto y = rows_above(x);
  y = b.op("Tanh", {b.op("MatMul", {y, b.constant("W", random_tensor({64, 64}, 1, -0.3f, 0.3f))})});
  y = rows_above(y);
  y = b.op("MatMul", {y, b.constant("V", random_tensor({64, 64}, 2))});
  b.output(y, "y");
  const Graph g = b.finish();
  for (const float low : {-5.f, -0.02f, 0.f, 0.02f, 5.f})
    check_against_plain(g, {random_tensor({200, 64}, 3), Tensor::from<float>({}, {low})}, {.threads = 2});
}

TEST_CASE("a part tells what is wrong as plain evaluation does") {
  Builder b("wrong");
  const auto x = b.input("x", DType::f32, {100, 64}), keep = b.input("keep", DType::boolean, {100});
  const auto y = b.op("Compress", {x, keep}, {{"axis", int64_t{0}}});
  const auto z = b.op("MatMul", {y, b.constant("W", random_tensor({64, 64}, 1))});
  b.output(b.op("Add", {z, b.input("other", DType::f32, {7, 64})}, {}, "sum"), "out");
  const Graph g = b.finish();
  Lane lane(compile(g, {.threads = 1}));
  const Tensor in = random_tensor({100, 64}, 3), other = random_tensor({7, 64}, 4);
  const auto run = [&](int64_t every) { return error_of([&] { lane.run({{"x", in}, {"keep", kept(100, every)}, {"other", other}}); }); };
  CHECK(run(15) == "");  // 7 rows
  const std::string message = run(2);
  CHECK(has(message, "Add"));
  CHECK(has(message, "50"));
  CHECK(run(15) == "");
}

TEST_CASE("a loop whose carried value grows runs its body as a program") {
  // A row is made of all rows so far, and joins them.
  Builder body("body");
  body.input("i", DType::i64, {});
  const auto going = body.input("going", DType::boolean, {}), rows = body.input("rows", DType::f32, Dims{Dim("n"), 64});
  const auto weights = body.op("Softmax", {body.op("MatMul", {body.outer("query"), body.op("Transpose", {rows})})});
  auto next = body.op("MatMul", {weights, rows});
  next = body.op("Tanh", {body.op("MatMul", {next, body.outer("W")})});
  next = body.op("Tanh", {body.op("MatMul", {next, body.outer("W")})});
  body.output(body.op("Identity", {going}), "on");
  body.output(body.op("Concat", {rows, next}, {{"axis", int64_t{0}}}), "more");
  Builder b("growing");
  const auto trips = b.input("trips", DType::i64, {}), start = b.input("start", DType::f32, {Dim("rows"), 64});
  b.input("query", DType::f32, {1, 64});
  b.constant("W", random_tensor({64, 64}, 1, -0.3f, 0.3f));
  b.output(b.ops("Loop", {trips, kAbsent, start}, 1, {{"body", Data(body.finish_body())}})[0], "rows");
  const Graph g = b.finish();
  for (const int64_t rows_first : {1, 5}) {
    check_against_plain(g, {Tensor::from<int64_t>({}, {40}), random_tensor({rows_first, 64}, 2), random_tensor({1, 64}, 3)},
                        {.threads = 2});
  }
}

TEST_CASE("weights of 16 bits go with the part that multiplies by them: no run widens them") {
  for (const bool convolution : {true, false}) {
    Builder b("narrow");
    const auto x = b.input("x", DType::f32, {1, 32, 20, 32});
    const auto until = b.input("until", DType::i64, {1});
    const auto numbers = [&](const char* name, std::vector<int64_t> v) {
      return b.constant(name, Tensor::from<int64_t>({static_cast<int64_t>(v.size())}, v));
    };
    const auto cut = b.op("Slice", {x, numbers("from", {0}), until, numbers("axis", {2})});
    Tensor w(DType::f16, convolution ? Shape{64, 32, 3, 3} : Shape{32, 64});
    for (int64_t i = 0; i < w.size(); ++i) static_cast<uint16_t*>(w.data())[i] = static_cast<uint16_t>(0x2000 + i * 37 % 0x800);
    const auto wide = b.op("Cast", {b.constant("w", w)}, {{"to", int64_t{1}}});
    b.output(b.op("Relu", {b.op(convolution ? "Conv" : "MatMul", {cut, wide})}), "y");
    const Graph g = b.finish();
    const Program p = compile(g, {.threads = 1});
    Lane lane(p);
    const std::vector<Tensor> in{random_tensor({1, 32, 20, 32}, 3), Tensor::from<int64_t>({1}, {14})};
    lane.time_steps(true);
    const Outputs got = lane.run(std::span<const Tensor>(in));
    CHECK(compare("y", got[0], evaluate_plain(g, in)[0]).pass);
    const auto inner = lane.inner_steps();
    REQUIRE(inner.size() == 1);
    // Nothing is widened in each run, neither outside nor inside.
    for (const std::string& kind : kinds(p, {in[0].shape(), in[1].shape()})) CHECK(kind != "tape");
    for (const StepInfo& s : inner[0].edition->steps) CHECK(s.op != "Cast");
  }
}
