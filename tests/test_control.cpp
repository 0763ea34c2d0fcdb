// Control flow, functions, sequences and own operators through the public API.
#include <algorithm>
#include <atomic>
#include <thread>

#include "support.hpp"

using namespace test;
using Data = Attribute::Data;

namespace {

Tensor one(int64_t v) { return Tensor::from<int64_t>({}, {v}); }
Tensor flag(bool v) { return Tensor::from<bool>({}, {v}); }

// total = sum over trips of `step`, which the body reads from around it; stops when `going` says so.
Graph counter(int64_t opset = 21) {
  Builder body("body", opset);
  const auto i = body.input("i", DType::i64, {}), going = body.input("going", DType::boolean, {}),
             total = body.input("total", DType::i64, Dims{1});
  (void)i;
  body.output(body.op("Identity", {going}), "on");
  body.output(body.op("Add", {total, body.outer("step")}), "more");
  Builder b("counter", opset);
  const auto trips = b.input("trips", DType::i64, {}), start = b.input("start", DType::i64, Dims{1});
  b.input("step", DType::i64, Dims{1});
  b.output(b.op("Loop", {trips, kAbsent, start}, {{"body", Data(body.finish_body())}}), "end");
  return b.finish();
}

std::vector<Tensor> both_ways(const Graph& g, const std::vector<Tensor>& in) {
  const auto plain = evaluate_plain(g, in);
  Lane lane(compile(g, {.threads = 2}));
  const Outputs out = lane.run(std::span<const Tensor>(in));
  REQUIRE(plain.size() == out.size());
  for (size_t i = 0; i < plain.size(); ++i) CHECK(identical(plain[i], out[i]));
  return plain;
}

}  // namespace

TEST_CASE("a loop reads values around it, whatever passes rename or fold") {
  const Graph g = counter();
  CHECK(g.nodes[0].captures.size() == 1);
  CHECK(both_ways(g, {one(5), i64s({2}), i64s({3})})[0].as<int64_t>()[0] == 17);
  CHECK(both_ways(g, {one(0), i64s({2}), i64s({3})})[0].as<int64_t>()[0] == 2);
  // The captured value made by a node that goes away (an Identity), and one that is folded.
  Builder body("body");
  body.output(body.op("Add", {body.outer("seen"), body.outer("constant")}), "sum");
  const auto branch = body.finish_body();
  Builder other("other");
  other.output(other.op("Neg", {other.outer("seen")}), "sum");
  Builder b("captures");
  const auto x = b.input("x", DType::f32, {2}), c = b.input("c", DType::boolean, {});
  b.op("Identity", {x}, {}, "seen");
  b.op("Exp", {b.constant("zero", Tensor::from<float>({2}, {0, 0}))}, {}, "constant");
  b.output(b.op("If", {c}, {{"then_branch", Data(branch)}, {"else_branch", Data(other.finish_body())}}), "y");
  const Graph folded = b.finish();
  const auto y = both_ways(folded, {Tensor::from<float>({2}, {1, 2}), flag(true)});
  CHECK(y[0].as<float>()[1] == 3);
  CHECK(both_ways(folded, {Tensor::from<float>({2}, {1, 2}), flag(false)})[0].as<float>()[0] == -1);
  // Through a file and back, also when the captured value was renamed.
  const Folder f;
  Graph renamed = folded;
  rename_values(renamed, {{"seen", "watched"}});
  save(renamed, f.path / "m.onnx");
  CHECK(both_ways(load(f.path / "m.onnx"), {Tensor::from<float>({2}, {1, 2}), flag(true)})[0].as<float>()[1] == 3);
}

TEST_CASE("branches of an If that give the same sizes are steps of the plan, and a run takes one of them") {
  // Two layers deep, the inner condition made in the branch; a value handed on; one that only one branch reads; one that cannot be
  // gathered.
  const Shape shape{4, 32};
  Builder b("branches");
  const auto x = b.input("x", DType::f32, {4, 32}), deep = b.input("deep", DType::boolean, {});
  b.input("least", DType::f32, {});
  b.input("at", DType::i64, {4});
  const auto weights = b.constant("w", random_tensor({32, 32}, 7));
  b.op("MatMul", {x, weights}, {}, "shared");
  b.op("Exp", {x}, {}, "only_one");
  Builder inner_yes("yes"), inner_no("no");
  inner_yes.output(inner_yes.op("Gather", {inner_yes.outer("shared"), inner_yes.outer("at")}), "y");
  inner_no.output(inner_no.op("Neg", {inner_no.outer("only_one")}), "y");
  Builder then("then"), otherwise("else");
  const auto sum = then.op("ReduceMax", {then.outer("x")}, {{"keepdims", int64_t{0}}});
  const auto many = then.op("Greater", {sum, then.outer("least")});
  then.output(then.op("If", {many}, {{"then_branch", Data(inner_yes.finish_body())}, {"else_branch", Data(inner_no.finish_body())}}), "t");
  then.output(then.op("Softmax", {then.outer("x")}), "second");
  otherwise.output(otherwise.op("Identity", {otherwise.outer("shared")}), "t");
  otherwise.output(otherwise.op("Identity", {otherwise.outer("x")}), "second");
  const auto made = b.ops("If", {deep}, 2, {{"then_branch", Data(then.finish_body())}, {"else_branch", Data(otherwise.finish_body())}});
  b.output(b.op("Add", {made[0], x}), "y");
  b.output(made[1], "z");
  const Graph g = b.finish();

  const auto inputs = [&](bool first, float limit, int64_t row) {
    return std::vector<Tensor>{random_tensor(shape, 3), flag(first), Tensor::from<float>({}, {limit}), i64s({0, 3, row, 1})};
  };
  const auto near = [&](const std::vector<Tensor>& in) {
    for (int threads : {1, 2}) check_against_plain(g, in, {.threads = threads});
  };
  for (const auto& in : {inputs(true, -100, 2), inputs(true, 100, 2), inputs(false, -100, 2)}) near(in);
  // What is not taken does not run, and does not fail.
  const auto wrong = inputs(true, -100, 99);
  CHECK(has(error_of([&] { Lane(compile(g)).run(std::span<const Tensor>(wrong)); }), "99"));
  for (const auto& in : {inputs(true, 100, 99), inputs(false, -100, 99)}) near(in);

  for (int threads : {1, 2}) {
    Lane lane(compile(g, {.threads = threads}));
    const EditionInfo info = lane.program().describe();
    CHECK(info.plain == 0);
    CHECK(std::ranges::none_of(info.steps, [](const StepInfo& s) { return s.kind == "control"; }));
    CHECK(std::ranges::count_if(info.steps, [](const StepInfo& s) { return s.conditional; }) >= 5);
    lane.time_steps(true);
    std::vector<size_t> left_out;
    for (const auto& in : {inputs(false, -100, 2), inputs(true, -100, 2), inputs(true, 100, 2)}) {
      lane.run(std::span<const Tensor>(in));
      const auto times = lane.step_times();
      left_out.push_back(0);
      for (size_t i = 0; i < times.size(); ++i) {
        left_out.back() += times[i].seconds == 0;
        if (times[i].seconds == 0) CHECK(info.steps[i].conditional);
      }
    }
    CHECK(left_out[0] >= 5);  // the greatest, the comparison, the softmax, the function, its negative and the rows
    CHECK(left_out[1] >= 1);  // the function and its negative
    CHECK(left_out[2] >= 1);  // the rows
    CHECK(left_out[0] > left_out[2]);
  }
}

TEST_CASE("branches that give other sizes, or that could not be run, stay subgraphs") {
  for (const bool sizes : {true, false}) {
    Builder b("kept");
    b.input("x", DType::f32, {2, 3});
    const auto c = b.input("c", DType::boolean, {});
    Builder then("then"), otherwise("else");
    then.output(then.op("Relu", {then.outer("x")}), "t");
    const auto other =
        sizes ? otherwise.op("Transpose", {otherwise.outer("x")})
              : otherwise.op("Gather", {otherwise.constant("table", random_tensor({3, 3}, 2)), otherwise.constant("at", i64s({0, 7}))});
    otherwise.output(other, "t");
    b.output(b.op("If", {c}, {{"then_branch", Data(then.finish_body())}, {"else_branch", Data(otherwise.finish_body())}}), "y");
    const Graph g = b.finish();
    const auto steps = compile(g).describe().steps;
    CHECK(std::ranges::count(steps, "control", &StepInfo::kind) == 1);
    CHECK(std::ranges::none_of(steps, &StepInfo::conditional));
    const std::vector<Tensor> in{random_tensor({2, 3}, 1), flag(true)};
    both_ways(g, in);
  }
}

TEST_CASE("branches of texts, and of nothing, stay subgraphs: what is not taken may be wrong") {
  for (const bool text : {true, false}) {
    Builder b("kept"), then("then"), otherwise("else");
    const auto c = b.input("c", DType::boolean, {});
    b.input("at", DType::i64, {text ? 2 : 0});
    const Tensor names = text ? Tensor::from<std::string>({3}, {"oak", "ash", "elm"}) : random_tensor({3}, 1);
    then.output(then.op("Gather", {then.constant("names", names), then.outer("at")}), "t");
    otherwise.output(otherwise.constant("none", text ? Tensor::from<std::string>({2}, {"fir", "yew"}) : Tensor(DType::f32, {0})), "t");
    b.output(b.op("If", {c}, {{"then_branch", Data(then.finish_body())}, {"else_branch", Data(otherwise.finish_body())}}), "y");
    const Graph g = b.finish();
    CHECK(std::ranges::none_of(compile(g).describe().steps, &StepInfo::conditional));
    const Tensor at = text ? i64s({1, 99}) : Tensor(DType::i64, {0});
    both_ways(g, {flag(false), at});
    if (text) CHECK(has(error_of([&] { Lane(compile(g)).run({{"c", flag(true)}, {"at", at}}); }), "99"));
  }
}

TEST_CASE("loops stop at the caller's limits") {
  const Graph g = counter();
  const std::vector<Tensor> endless{one(int64_t{1} << 62), i64s({0}), i64s({1})};
  Category category{};
  EvalLimits limits;
  limits.trips = 1000;
  CHECK(has(error_of([&] { evaluate_plain(g, endless, limits); }, &category), "limit of 1000 trips"));
  CHECK(category == Category::resource);
  Lane lane(compile(g, {.limits = limits}));
  CHECK(has(error_of([&] { lane.run(std::span<const Tensor>(endless)); }), "limit of 1000 trips"));
  // The lane is good for another run, and the count starts anew.
  const std::vector<Tensor> short_one{one(999), i64s({0}), i64s({1})};
  for (int i = 0; i < 3; ++i) CHECK(lane.run(std::span<const Tensor>(short_one))[0].as<int64_t>()[0] == 999);
  // Time and cancellation reach into the loop.
  Lane patient(compile(g, {.limits = {.trips = INT64_MAX}}));
  CHECK(has(error_of([&] { patient.run(std::span<const Tensor>(endless), {.limit = std::chrono::milliseconds(30)}); }, &category),
            "limit of 0.030 s"));
  CHECK(category == Category::cancelled);
  std::stop_source stop;
  std::thread later([&] {
    std::this_thread::sleep_for(std::chrono::milliseconds(20));
    stop.request_stop();
  });
  CHECK(has(error_of([&] { patient.run(std::span<const Tensor>(endless), {.stop = stop.get_token()}); }), "was cancelled"));
  later.join();
}

TEST_CASE("bodies inside bodies stop at a depth") {
  std::shared_ptr<Graph> inner;
  for (int depth = 0; depth < 7; ++depth) {
    Builder b("level");
    if (!inner) b.output(b.op("Neg", {b.outer("x")}), "y0");
    else
      b.output(b.op("If", {b.outer("c")}, {{"then_branch", Data(deep_copy(*inner))}, {"else_branch", Data(inner)}}),
               "y" + std::to_string(depth));
    inner = b.finish_body();
  }
  Builder b("top");
  b.input("x", DType::f32, {1});
  const auto c = b.input("c", DType::boolean, {});
  b.output(b.op("If", {c}, {{"then_branch", Data(inner)}, {"else_branch", Data(deep_copy(*inner))}}), "y");
  const Graph g = b.finish();
  const std::vector<Tensor> in{Tensor::from<float>({1}, {4}), flag(true)};
  CHECK(both_ways(g, in)[0].as<float>()[0] == -4);
  EvalLimits shallow;
  shallow.depth = 3;
  CHECK(has(error_of([&] { evaluate_plain(g, in, shallow); }), "nested deeper than the limit of 3"));
}

TEST_CASE("results that would be too large are refused") {
  Builder b("large");
  const auto shape = b.input("shape", DType::i64, {2});
  b.output(b.op("ConstantOfShape", {shape}), "y");
  const Graph g = b.finish();
  const std::vector<Tensor> big{i64s({100000, 100000})}, small{i64s({10, 10})};
  Category category{};
  CHECK(has(error_of([&] { evaluate_plain(g, big); }, &category), "the limit is"));
  CHECK(category == Category::resource);
  CHECK(has(error_of([&] { evaluate_plain(g, small, {.elements = 99}); }), "would make 100 elements, the limit is 99"));
  CHECK(evaluate_plain(g, small, {.elements = 100})[0].size() == 100);
}

TEST_CASE("faults inside a body name it") {
  Builder body("body");
  body.input("i", DType::i64, {});
  body.output(body.input("going", DType::boolean, {}));
  body.output(body.op("Wobble", {body.outer("nowhere")}), "y");
  Builder b("bad");
  const auto n = b.input("n", DType::i64, {});
  b.output(b.op("Loop", {n}, {{"body", Data(body.finish_body())}}), "ys");
  const std::string text = error_of([&] { b.finish(); });
  CHECK(has(text, "reads 'nowhere'"));
  CHECK(has(text, "Wobble (1 node)"));
  // A branch that gives another type than the other.
  Builder yes("yes"), no("no"), both("both");
  yes.output(yes.op("Neg", {yes.outer("x")}), "r");
  no.output(no.op("Cast", {no.outer("x")}, {{"to", int64_t{7}}}), "r");
  both.input("x", DType::f32, {1});
  both.output(both.op("If", {both.input("c", DType::boolean, {})},
                      {{"then_branch", Data(yes.finish_body())}, {"else_branch", Data(no.finish_body())}}),
              "y");
  CHECK(has(error_of([&] { both.finish(); }), "is f32 one way and i64 the other"));
}

TEST_CASE("sequences and optionals go in and out") {
  Type t, item;
  item.dtype = DType::f32;
  t.kind = Type::Kind::sequence;
  t.inner.push_back(item);
  Value v;
  v.name = "parts";
  Graph g;
  // Built by hand: a Builder has no way to declare a sequence.
  g.name = "pick";
  g.opsets[""] = 17;
  set_type(v, t);
  const ValueId seq = g.add_value(v);
  Value k;
  k.name = "at";
  k.dtype = DType::i64;
  k.dims = Dims{};
  const ValueId which = g.add_value(k);
  Value y, grown;
  y.name = "one";
  grown.name = "grown";
  const ValueId out = g.add_value(y), longer = g.add_value(grown);
  g.inputs = {seq, which};
  Node pick;
  pick.op = "SequenceAt";
  pick.inputs = {seq, which};
  pick.outputs = {out};
  Node insert;
  insert.op = "SequenceInsert";
  insert.inputs = {seq, out};
  insert.outputs = {longer};
  g.nodes = {pick, insert};
  g.outputs = {out, longer};
  check(g);
  infer(g);
  CHECK(g.values[out].dtype == DType::f32);
  CHECK(to_string(type_of(g.values[longer])) == "sequence of f32");
  Tensor first = random_tensor({2, 3}, 1), second = random_tensor({4}, 2);
  const std::vector<Tensor> in{Tensor::sequence({first, second}), one(-1)};
  const auto got = both_ways(g, in);
  CHECK(identical(got[0], second));
  CHECK(got[1].items().size() == 3);
  // What comes out is the caller's to keep: the inputs may change afterwards.
  Lane lane(compile(g));
  const Outputs kept = lane.run(std::span<const Tensor>(in));
  first.as<float>()[0] = 99;
  CHECK(kept["grown"].items()[0].as<float>()[0] != 99);
  CHECK(has(error_of([&] { lane.run(std::vector<Tensor>{first, one(0)}); }), "input 'parts' is a tensor, expected sequence of f32"));
  CHECK(has(error_of([&] { lane.run(std::vector<Tensor>{in[0], one(7)}); }), "position 7 is outside a sequence of 2"));
  CHECK(has(error_of([&] { (void)in[0].as<float>(); }), "ask for its items()"));
  const Folder f;
  save(g, f.path / "m.onnx");
  CHECK(equal(load(f.path / "m.onnx"), g));
  write_tensor_pb(f.path / "seq.pb", {"parts", in[0]});
  CHECK(identical(read_tensor_pb(f.path / "seq.pb", t).tensor, Tensor::sequence({first, second})));
  // A plain op refuses a sequence by name.
  Graph wrong = g;
  wrong.nodes[1].op = "Relu";
  wrong.nodes[1].inputs = {seq};
  CHECK(has(error_of([&] { infer(wrong); }), "input 0 ('parts') is sequence of f32, expected a tensor"));
}

TEST_CASE("model-local functions: calls, faults, a way out") {
  Builder body("f");
  const auto x = body.input("x", DType::undefined, {});
  body.output(body.op("Relu", {x}), "y");
  Graph f = *body.finish_body();
  f.values[f.inputs[0]].dims.reset();
  Builder b("calls");
  b.import_domain("alder", 1);
  const auto in = b.input("x", DType::f32, {"n"});
  const auto call = b.op("alder::Warm", {in}, {}, "h");
  CHECK(has(error_of([&] {
              Builder again = b;
              again.output(call, "y");
              again.finish();
            }),
            "alder::Warm (1 node)"));
  Graph g;
  {
    Builder copy = b;
    copy.output(copy.op("alder::Warm", {call}), "y");
    g = *copy.finish_body();
  }
  f.opsets = {{"", 17}};
  g.functions.push_back({"Warm", "alder", "", {}, {}, "", std::make_shared<Graph>(f)});
  g.sort();
  check(g);
  infer(g);
  CHECK(to_string(*g.values[g.outputs[0]].dims) == "n");
  CHECK(g.nodes.size() == 2);
  CHECK(both_ways(g, {Tensor::from<float>({2}, {-1, 3})})[0].as<float>()[0] == 0);
  Graph flat = *deep_copy(g);
  inline_functions(flat);
  CHECK(flat.nodes.size() == 2);
  CHECK(flat.nodes[0].op == "Relu");
  CHECK(flat.nodes[0].module == "Warm_1");
  CHECK(flat.nodes[1].name == "Warm_2/Relu_1");
  // A function that calls itself, and one that is called with too many inputs.
  Graph circle = *deep_copy(g);
  circle.functions[0].body = deep_copy(*g.functions[0].body);
  circle.functions[0].body->opsets["alder"] = 1;
  circle.functions[0].body->nodes[0].op = "Warm";
  circle.functions[0].body->nodes[0].domain = "alder";
  CHECK(has(error_of([&] { infer(circle); }), "calls itself"));
  CHECK(has(error_of([&] { compile(circle); }), "calls itself"));
  Graph crowded = *deep_copy(g);
  crowded.nodes[0].inputs.push_back(crowded.inputs[0]);
  CHECK(has(error_of([&] { check(crowded); }), "takes 1 and gives 1"));
}

TEST_CASE("random ops: seeds repeat, shapes and distributions hold") {
  const auto draw = [](const char* op, std::map<std::string, Data> attributes, DType dtype = DType::f32) {
    Builder b("draw");
    attributes["shape"] = std::vector<int64_t>{100, 100};
    b.output(b.op(op, {}, attributes), "y");
    const Graph g = b.finish();
    const Tensor t = evaluate_plain(g, {})[0];
    CHECK(t.dtype() == dtype);
    CHECK(t.shape() == Shape{100, 100});
    // The compiled program draws too: nothing was folded away.
    Lane lane(compile(g));
    const Tensor a = lane.run(std::span<const Tensor>())[0].clone(), c = lane.run(std::span<const Tensor>())[0].clone();
    CHECK(identical(a, c) == attributes.contains("seed"));
    if (attributes.contains("seed")) CHECK(identical(a, t));
    return t;
  };
  const auto moments = [](const Tensor& t) {
    double mean = 0, square = 0;
    for (float v : t.as<float>()) mean += v / 1e4, square += double{v} * v / 1e4;
    return std::pair{mean, square - mean * mean};
  };
  const auto [mean, variance] = moments(draw("RandomNormal", {{"seed", 7.0f}, {"mean", 2.0f}, {"scale", 3.0f}}));
  CHECK(mean == doctest::Approx(2).epsilon(0.06));
  CHECK(variance == doctest::Approx(9).epsilon(0.06));
  const Tensor u = draw("RandomUniform", {{"low", -1.0f}, {"high", 3.0f}});
  const auto [middle, spread] = moments(u);
  CHECK(middle == doctest::Approx(1).epsilon(0.08));
  CHECK(spread == doctest::Approx(16.0 / 12).epsilon(0.06));
  for (float v : u.as<float>()) CHECK_MESSAGE((v >= -1 && v < 3), v);
  Builder b("coins");
  const auto p = b.input("p", DType::f32, {3, 10000});
  b.output(b.op("Bernoulli", {p}, {{"dtype", int64_t{7}}}), "y");
  const Graph coins = b.finish();
  Tensor odds(DType::f32, {3, 10000});
  for (int64_t i = 0; i < odds.size(); ++i) odds.as<float>()[i] = i < 10000 ? 0.0f : i < 20000 ? 0.25f : 1.0f;
  const Tensor thrown = evaluate_plain(coins, std::span(&odds, 1))[0];
  int64_t heads[3] = {};
  for (int64_t i = 0; i < thrown.size(); ++i) heads[i / 10000] += thrown.as<int64_t>()[i];
  CHECK(heads[0] == 0);
  CHECK(heads[1] > 2250);
  CHECK(heads[1] < 2750);
  CHECK(heads[2] == 10000);
  Builder m("dice");
  m.output(m.op("Multinomial", {m.input("logs", DType::f32, {1, 3})}, {{"sample_size", int64_t{9000}}, {"seed", 3.0f}}), "y");
  const Tensor logs = Tensor::from<float>({1, 3}, {0.0f, std::log(2.0f), -100.0f});
  int64_t faces[3] = {};
  const Tensor rolled = evaluate_plain(m.finish(), std::span(&logs, 1))[0];
  for (int32_t v : rolled.as<int32_t>()) ++faces[v];
  CHECK(faces[0] == doctest::Approx(3000).epsilon(0.1));
  CHECK(faces[2] == 0);
}

TEST_CASE("own operators: plain, fast, refused, attributes checked") {
  static std::atomic<int> fast_calls{0};
  OpDef op;
  op.domain = "test.own";
  op.name = "Twice";
  op.attributes = "offset:f!";
  op.infer = [](InferContext& c) { c.set(0, c.dtype(0), c.dims(0)); };
  op.plain = [](const EvalContext& c) -> std::vector<Tensor> {
    Tensor y = c.in(0).clone();
    for (float& v : y.as<float>()) v = 2 * v + c.node.real("offset", 0);
    return {y};
  };
  op.fast = [](const KernelRequest& r) -> FastKernel {
    if (element_count(*r.inputs[0].shape) > 1000) return nullptr;
    return [offset = r.node.real("offset", 0)](KernelContext& c) {
      ++fast_calls;
      const auto* x = static_cast<const float*>(c.inputs[0].data);
      auto* y = static_cast<float*>(c.outputs[0].data);
      c.each(element_count(*c.inputs[0].shape), [&](int64_t i) { y[i] = 2 * x[i] + offset; });
    };
  };
  OpDef nameless = op;
  nameless.name.clear();
  CHECK(has(error_of([&] { register_op(nameless); }), "needs a name"));
  register_op(op);
  const auto graph = [](int64_t n, std::map<std::string, Data> attributes) {
    Builder b("own");
    b.import_domain("test.own", 1);
    b.output(b.op("test.own::Twice", {b.input("x", DType::f32, {n})}, std::move(attributes)), "y");
    return b.finish();
  };
  CHECK(has(error_of([&] { graph(3, {}); }), "attribute 'offset' is missing; it must hold one float"));
  CHECK(has(error_of([&] { graph(3, {{"offset", int64_t{1}}}); }), "holds one integer, expected one float"));
  const Graph g = graph(7, {{"offset", 0.5f}});
  const Program p = compile(g, {.threads = 2});
  CHECK(p.describe().steps[0].kind == "custom");
  both_ways(g, {random_tensor({7}, 3)});
  CHECK(fast_calls == 1);
  const Graph large = graph(2000, {{"offset", 0.5f}});
  CHECK(compile(large).describe().steps[0].kind == "plain");
  both_ways(large, {random_tensor({2000}, 4)});
}

namespace {

// An op whose fast kernel counts its calls: whether a subgraph ran as a program shows in them.
std::atomic<int> halvings = 0;
void register_halve() {
  static const bool once = [] {
    OpDef op;
    op.domain = "test.own";
    op.name = "Halve";
    op.infer = [](InferContext& c) { c.set(0, c.dtype(0), c.dims(0)); };
    op.plain = [](const EvalContext& c) {
      Tensor y = c.in(0).clone();
      for (float& v : y.as<float>()) v /= 2;
      return std::vector<Tensor>{y};
    };
    op.fast = [](const KernelRequest&) -> FastKernel {
      return [](KernelContext& c) {
        ++halvings;
        const auto* x = static_cast<const float*>(c.inputs[0].data);
        auto* y = static_cast<float*>(c.outputs[0].data);
        for (int64_t i = 0; i < element_count(*c.inputs[0].shape); ++i) y[i] = x[i] / 2;
      };
    };
    register_op(op);
    return true;
  }();
  (void)once;
}

// state = tanh(halve(state) W + bias) in `trips` trips, with W and bias from around; every state is collected. With `grows`, a list of all
// states is carried along.
Graph recurrence(int64_t width, bool grows = false) {
  register_halve();
  Builder body("body");
  body.import_domain("test.own", 1);
  body.input("i", DType::i64, {});
  const auto going = body.input("going", DType::boolean, {}), state = body.input("state", DType::f32, Dims{2, width});
  const auto z = body.op("Add", {body.op("MatMul", {body.op("test.own::Halve", {state}), body.outer("W")}), body.outer("bias")});
  const auto next = body.op("Tanh", {z});
  std::optional<ValueId> all;
  if (grows) all = body.input("all", DType::f32, Dims{Dim("rows"), width});
  body.output(body.op("Identity", {going}), "on");
  body.output(next, "next");
  if (grows) body.output(body.op("Concat", {*all, next}, {{"axis", int64_t{0}}}), "more");
  body.output(body.op("Identity", {next}), "kept");
  Builder b("recurrence");
  b.import_domain("test.own", 1);
  const auto trips = b.input("trips", DType::i64, {});
  const auto start = b.input("start", DType::f32, Dims{2, width});
  b.input("bias", DType::f32, Dims{width});
  b.constant("W", random_tensor({width, width}, 7, -0.2f, 0.2f));
  std::vector<ValueId> in{trips, kAbsent, start};
  if (grows) in.push_back(start);
  const auto out = b.ops("Loop", in, grows ? 3 : 2, {{"body", Data(body.finish_body())}});
  for (size_t i = 0; i < out.size(); ++i) b.output(out[i], "out" + std::to_string(i));
  return b.finish();
}

}  // namespace

TEST_CASE("the body of a loop runs as a program of its own") {
  const Graph g = recurrence(48);
  const std::vector<Tensor> in{one(9), random_tensor({2, 48}, 1), random_tensor({48}, 2)};
  for (const bool fuse : {true, false}) {
    const Program p = compile(g, {.threads = 2, .fuse = fuse});
    const auto info = p.describe();
    CHECK(std::ranges::any_of(info.steps, [](const StepInfo& s) { return s.kind == "control"; }));
    halvings = 0;
    check_against_plain(g, in, {.threads = 2, .fuse = fuse});
    CHECK(halvings == 9);
  }
  // The same bits run after run, in two lanes at once, and through an archive.
  const Program p = compile(g, {.threads = 2});
  Lane first(p);
  const Outputs kept = first.run(std::span<const Tensor>(in));
  CHECK(kept[1].shape() == Shape{9, 2, 48});
  const auto agrees = [&](const Program& program) {
    Lane lane(program);
    for (int run = 0; run < 3; ++run) {
      const Outputs got = lane.run(std::span<const Tensor>(in));
      if (!identical(got[0], kept[0]) || !identical(got[1], kept[1])) return false;
    }
    return true;
  };
  std::atomic<int> good = 0;
  std::thread beside([&] { good += agrees(p); });
  good += agrees(p);
  beside.join();
  CHECK(good == 2);
  const Folder f;
  save_program(p, f.path / "loop.lathe");
  CHECK(agrees(load_program(f.path / "loop.lathe")));
  // No trip at all.
  const auto none = first.run({{"trips", one(0)}, {"start", in[1]}, {"bias", in[2]}});
  CHECK(identical(none[0], in[1]));
  CHECK(none[1].shape()[0] == 0);
}

TEST_CASE("a carried value that grows stays open in the body's program; the rest of the body is compiled") {
  const Graph g = recurrence(16, true);
  halvings = 0;
  check_against_plain(g, {one(5), random_tensor({2, 16}, 1), random_tensor({16}, 2)});
  CHECK(halvings == 5);
}

TEST_CASE("branches and scans run as programs, nested ones too, and limits reach through") {
  register_halve();
  // Scan over rows; each row takes one of two branches by its sign.
  Builder yes("yes"), no("no");
  yes.import_domain("test.own", 1);
  yes.output(yes.op("test.own::Halve", {yes.outer("row")}), "a");
  no.output(no.op("Mul", {no.outer("row"), no.outer("scale")}), "b");
  Builder body("body");
  body.import_domain("test.own", 1);
  const auto sum = body.input("sum", DType::f32, Dims{4}), row = body.input("row", DType::f32, Dims{4});
  const auto total = body.op("ReduceSum", {row}, {{"keepdims", int64_t{0}}});
  const auto positive = body.op("Greater", {total, body.constant("zero", Tensor::from<float>({}, {0}))});
  const auto picked = body.op("If", {positive}, {{"then_branch", Data(yes.finish_body())}, {"else_branch", Data(no.finish_body())}});
  body.output(body.op("Add", {sum, picked}), "sum_out");
  body.output(body.op("Identity", {picked}), "picked_out");
  Builder b("rows");
  b.import_domain("test.own", 1);
  const auto start = b.input("start", DType::f32, Dims{4}), rows = b.input("rows", DType::f32, Dims{6, 4});
  b.input("scale", DType::f32, Dims{1});
  const auto out = b.ops("Scan", {start, rows}, 2, {{"body", Data(body.finish_body())}, {"num_scan_inputs", int64_t{1}}});
  b.output(out[0], "end");
  b.output(out[1], "each");
  const Graph g = b.finish();
  Tensor values = random_tensor({6, 4}, 5);
  int positives = 0;
  for (int r = 0; r < 6; ++r) {
    float sum_of_row = 0;
    for (int c = 0; c < 4; ++c) sum_of_row += values.as<float>()[r * 4 + c];
    positives += sum_of_row > 0;
  }
  REQUIRE((positives > 0 && positives < 6));
  halvings = 0;
  check_against_plain(g, {random_tensor({4}, 6), values, Tensor::from<float>({1}, {3})});
  CHECK(halvings == positives);

  // Trips of loops inside loops count together.
  Builder inner("inner");
  inner.input("i", DType::i64, {});
  const auto on = inner.input("on", DType::boolean, {}), x = inner.input("x", DType::f32, Dims{1});
  inner.output(inner.op("Identity", {on}), "on_out");
  inner.output(inner.op("Sin", {x}), "x_out");
  Builder middle("middle");
  middle.input("j", DType::i64, {});
  const auto go = middle.input("go", DType::boolean, {}), y = middle.input("y", DType::f32, Dims{1});
  middle.output(middle.op("Identity", {go}), "go_out");
  middle.output(middle.op("Loop", {middle.outer("trips"), kAbsent, y}, {{"body", Data(inner.finish_body())}}), "y_out");
  Builder top("top");
  const auto trips = top.input("trips", DType::i64, {}), z = top.input("z", DType::f32, Dims{1});
  top.output(top.op("Loop", {trips, kAbsent, z}, {{"body", Data(middle.finish_body())}}), "end");
  const Graph nested = top.finish();
  const std::vector<Tensor> in{one(20), random_tensor({1}, 8)};
  check_against_plain(nested, in);
  EvalLimits limits;
  limits.trips = 300;
  Lane lane(compile(nested, {.limits = limits}));
  CHECK(has(error_of([&] { lane.run(std::span<const Tensor>(in)); }), "limit of 300 trips"));
  limits.trips = INT64_MAX;
  Lane patient(compile(nested, {.limits = limits}));
  const std::vector<Tensor> endless{one(int64_t{1} << 40), in[1]};
  Category category{};
  CHECK(has(error_of([&] { patient.run(std::span<const Tensor>(endless), {.limit = std::chrono::milliseconds(30)}); }, &category),
            "limit of 0.030 s"));
  CHECK(category == Category::cancelled);
}
