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
    CHECK(std::ranges::count(made, "plain") == 0);
    CHECK(std::ranges::count(made, "copy") == 1);  // the Compress
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

namespace {

// A node whose operands beside the data come with each run, between two others.
struct Decided {
  const char* op;
  DType dtype;
  Shape data;
  std::vector<std::vector<Tensor>> operands;  // by run; an empty tensor is left out
  std::map<std::string, Data> attributes{};
  size_t outputs = 1;
  const char* kind = "control";  // of its step
};

Tensor list(std::vector<int64_t> v) { return Tensor::from<int64_t>({static_cast<int64_t>(v.size())}, v); }
Tensor scalar(int64_t v) { return Tensor::from<int64_t>({}, {v}); }

const std::vector<Decided>& decided() {
  static const std::vector<Decided> kAll{
      {"Resize",
       DType::f32,
       {1, 8, 60, 70},
       {{{}, {}, list({1, 8, 120, 140})}, {{}, {}, list({1, 8, 45, 90})}, {{}, {}, list({1, 8, 120, 140})}, {{}, {}, list({1, 8, 1, 200})}},
       {{"mode", std::string("linear")}}},
      {"Resize",
       DType::f32,
       {1, 8, 60, 70},
       {{{}, Tensor::from<float>({4}, {1, 1, 2, 1.5f})}, {{}, Tensor::from<float>({4}, {1, 1, 0.7f, 3})}},
       {{"mode", std::string("nearest")}}},
      {"TopK", DType::f32, {40, 5000}, {{list({3})}, {list({700})}, {list({1})}, {list({3})}}, {{"axis", int64_t{1}}}, 2},
      {"Trilu", DType::f32, {4, 200, 200}, {{scalar(0)}, {scalar(-3)}, {scalar(7)}, {scalar(1000)}}, {{"upper", int64_t{0}}}},
      {"CumSum", DType::f32, {50, 60, 70}, {{scalar(0)}, {scalar(2)}, {scalar(-2)}}},
      {"ReduceSum", DType::f32, {50, 60, 70}, {{list({0})}, {list({1, 2})}, {list({-1})}}},
      {"ReduceMax", DType::f32, {50, 60, 70}, {{list({0, 2})}, {list({1})}}, {{"keepdims", int64_t{0}}}},
      {"Reshape", DType::f32, {50, 60, 70}, {{list({210000})}, {list({-1, 70})}, {list({50, 4200})}}},
      {"Unsqueeze", DType::f32, {500, 600}, {{list({0})}, {list({1, 3})}}},
      {"Expand", DType::f32, {1, 600}, {{list({500, 600})}, {list({300, 1})}, {list({2, 400, 600})}}},
      {"Tile", DType::f32, {40, 60}, {{list({10, 8})}, {list({1, 99})}}},
      {"Pad", DType::f32, {300, 400}, {{list({1, 2, 3, 4})}, {list({0, 0, 0, 5})}, {list({-2, 0, 3, 1})}}},
      {"Split", DType::f32, {400, 300}, {{list({100, 300})}, {list({399, 1})}, {list({0, 400})}}, {}, 2},
      {"OneHot", DType::i64, {3000}, {{scalar(60), Tensor::from<float>({2}, {-1, 1})}, {scalar(40), Tensor::from<float>({2}, {0, 2})}}},
      {"Slice",
       DType::f32,
       {400, 300},
       {{list({3}), list({390})}, {list({4}), list({391})}, {list({-9}), list({2000})}, {list({7}), list({7})}},
       {},
       1,
       "copy"},
      {"Slice",
       DType::i64,
       {400, 300},
       {{list({3, 290}), list({390, -400}), list({0, 1}), list({2, -1})}, {list({0, 5}), list({1, 6}), list({1, 0}), list({1, 1})}},
       {},
       1,
       "copy"},
  };
  return kAll;
}

Graph around(const Decided& d) {
  Builder b(d.op, 21);
  ValueId x = b.input("x", d.dtype, Dims(d.data.begin(), d.data.end()));
  if (d.dtype == DType::f32) x = b.op("Relu", {x});
  std::vector<ValueId> in{x};
  for (size_t i = 0; i < d.operands[0].size(); ++i) {
    const Tensor& t = d.operands[0][i];
    in.push_back(t.empty() ? kAbsent
                           : b.input("o" + std::to_string(i), t.dtype(), t.rank() == 0 ? Dims() : Dims{Dim("n" + std::to_string(i))}));
  }
  for (ValueId v : b.ops(d.op, in, static_cast<int>(d.outputs), d.attributes)) b.output(b.op("Neg", {v}));
  return b.finish();
}

}  // namespace

TEST_CASE("numbers of a run that decide sizes: compiled for those it brings, whichever come next") {
  for (const Decided& d : decided()) {
    INFO(std::string(d.op), " of ", to_string(d.data));
    const Graph g = around(d);
    Tensor x = random_tensor(d.data, 5);
    if (d.dtype == DType::i64) {
      x = Tensor(DType::i64, d.data);
      for (int64_t i = 0; i < x.size(); ++i) x.as<int64_t>()[i] = i * 7 % 40;
    }
    for (const int threads : {1, 2}) {
      const Program p = compile(g, {.threads = threads, .editions = 2});
      std::vector<Shape> shapes{d.data};
      for (const Tensor& t : d.operands[0]) {
        if (!t.empty()) shapes.push_back(t.shape());
      }
      const auto made = kinds(p, shapes);
      CHECK(std::ranges::count(made, "plain") == 0);
      CHECK(std::ranges::count(made, d.kind) > 0);
      const Folder f;
      (void)p.describe(shapes);
      save_program(p, f.path / "numbers.lathe", {.carry_graph = true});
      Lane lane(p), other(p), loaded(load_program(f.path / "numbers.lathe"));
      for (size_t round = 0; round < 2 * d.operands.size(); ++round) {
        std::vector<Tensor> in{x};
        for (const Tensor& t : d.operands[round % d.operands.size()]) {
          if (!t.empty()) in.push_back(t);
        }
        const std::vector<Tensor> expected = evaluate_plain(g, in);
        for (Lane* l : {&lane, &other, &loaded}) {
          const Outputs got = l->run(std::span<const Tensor>(in));
          REQUIRE(got.size() == expected.size());
          for (size_t i = 0; i < expected.size(); ++i) CHECK(compare("y", got[i], expected[i], Tolerance{2e-5, 1e-4, 0}).pass);
        }
      }
    }
  }
}

TEST_CASE("numbers that decide and cannot be: refused as by plain evaluation, and the next run goes on") {
  const auto decided_by = [](const char* op) { return *std::ranges::find(decided(), std::string_view(op), &Decided::op); };
  for (const auto& [op, wrong, says] :
       {std::tuple{"TopK", list({6000}), "6000"}, std::tuple{"Reshape", list({11, -1}), "210000"}, std::tuple{"Split", list({1, 2}), "400"},
        std::tuple{"ReduceSum", list({3}), "3"}, std::tuple{"Slice", list({3, 4}), "ends"}}) {
    const Decided d = decided_by(op);
    Lane lane(compile(around(d), {.threads = 2}));
    std::vector<Tensor> good{random_tensor(d.data, 5)};
    std::ranges::copy(d.operands[0], std::back_inserter(good));
    std::vector<Tensor> bad = good;
    bad[1] = wrong;
    INFO(std::string(op));
    CHECK(error_of([&] { lane.run(std::span<const Tensor>(good)); }) == "");
    const std::string message = error_of([&] { lane.run(std::span<const Tensor>(bad)); });
    CHECK(has(message, op));
    INFO(message);
    CHECK(has(message, says));
    CHECK(error_of([&] { lane.run(std::span<const Tensor>(good)); }) == "");
  }
}

TEST_CASE("results of a part are the caller's: the next run writes elsewhere while they are held") {
  Builder b("last");
  const auto x = b.input("x", DType::f32, {1, 8, 60, 70}), sizes = b.input("sizes", DType::i64, {4});
  b.output(b.op("Resize", {x, kAbsent, kAbsent, sizes}, {{"mode", std::string("linear")}}), "y");
  const auto from = b.input("from", DType::i64, {1});
  b.output(b.op("Slice", {x, from, b.constant("to", list({60})), b.constant("axis", list({2}))}), "z");
  const Graph g = b.finish();
  Lane lane(compile(g, {.threads = 1}));
  std::vector<Tensor> first;
  for (uint64_t seed = 0; seed < 3; ++seed) {
    const std::vector<Tensor> in{random_tensor({1, 8, 60, 70}, seed), list({1, 8, 90, 90}), list({1})};
    const Outputs out = lane.run(std::span<const Tensor>(in));
    const std::vector<Tensor> expected = evaluate_plain(g, in);
    for (size_t i = 0; i < 2; ++i) {
      CHECK(compare("y", out[i], expected[i], Tolerance{2e-5, 1e-4, 0}).pass);
      if (seed == 0) first.push_back(out[i]), first.push_back(out[i].clone());
    }
    for (size_t i = 0; i < first.size(); i += 2) CHECK(identical(first[i], first[i + 1]));
  }
}

TEST_CASE("sizes that a run brings keep the limit of elements, compiled or not") {
  Builder b("limited");
  const auto x = b.input("x", DType::f32, {1, 600}), to = b.input("to", DType::i64, {2});
  b.output(b.op("Neg", {b.op("Expand", {x, to})}), "y");
  const Graph g = b.finish();
  for (const bool plainly : {true, false}) {
    CompileOptions o{.threads = 1, .plain = plainly};
    o.limits.elements = 400000;
    Lane lane(compile(g, o));
    const auto run = [&](int64_t rows) {
      const std::vector<Tensor> in{random_tensor({1, 600}, 1), list({rows, 600})};
      return error_of([&] { lane.run(std::span<const Tensor>(in)); });
    };
    CHECK(run(600) == "");
    const std::string message = run(700);
    CHECK(has(message, "420000"));
    CHECK(has(message, "the limit is 400000"));
    CHECK(run(601) == "");
  }
}

TEST_CASE("a size that a run brings against the one that the model declares: told of the model's own node") {
  Builder b("declared");
  const auto x = b.input("x", DType::f32, {1, 8, 60, 70}), sizes = b.input("sizes", DType::i64, {4});
  b.output(b.op("Resize", {x, kAbsent, kAbsent, sizes}, {{"mode", std::string("linear")}}), "y");
  Graph g = b.finish();
  g.values[static_cast<size_t>(g.outputs[0])].dims = Dims{1, 8, 120, 140};
  Lane lane(compile(g, {.threads = 1}));
  const std::vector<Tensor> right{random_tensor({1, 8, 60, 70}, 1), list({1, 8, 120, 140})}, wrong{right[0], list({1, 8, 120, 141})};
  CHECK(error_of([&] { lane.run(std::span<const Tensor>(right)); }) == "");
  const std::string message = error_of([&] { lane.run(std::span<const Tensor>(wrong)); });
  CHECK(has(message, "Resize"));
  CHECK(has(message, "1x8x120x141"));
  CHECK(!has(message, "Part"));
}
