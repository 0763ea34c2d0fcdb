// Lines of models: the whole gives what its parts give one after another; a wrong connection is answered with both its ends.
#include <algorithm>

#include "decoder.hpp"

using namespace test;

namespace {

// A convolution and what is behind it, of an older opset, with a name and a symbol that others have too.
Graph seer(int64_t channels = 6) {
  Builder b("seer", 13);
  const ValueId x = b.input("x", DType::f32, {"n", 3, "h", "w"});
  const ValueId c = b.op("Conv", {x, b.constant("weight", random_tensor({channels, 3, 3, 3}, 5))}, {{"pads", Ints{1, 1, 1, 1}}});
  b.output(b.op("Relu", {c}), "seen");
  b.metadata("mean", "128");
  return b.finish();
}

// Another model with an input `x`; its body reads a value of the graph around it.
Graph chooser() {
  Builder b("chooser", 17);
  const ValueId x = b.input("x", DType::f32, {"n", 6, "rows", "columns"});
  const ValueId pooled = b.op("ReduceMean", {x}, {{"axes", Ints{2, 3}}, {"keepdims", int64_t{0}}}, "pooled");
  const ValueId many =
      b.op("Greater", {b.op("ReduceSum", {pooled}, {{"keepdims", int64_t{0}}}), b.constant("zero", Tensor::from<float>({}, {0}))});
  std::shared_ptr<Graph> bodies[2];
  for (int i = 0; i < 2; ++i) {
    Builder inner(i ? "then" : "else");
    inner.output(inner.op(i ? "Exp" : "Neg", {inner.outer("pooled")}));
    bodies[i] = inner.finish_body();
  }
  b.output(b.op("If", {many}, {{"then_branch", bodies[1]}, {"else_branch", bodies[0]}}), "chosen");
  b.metadata("labels", "a,b,c,d,e,f");
  return b.finish();
}

Outputs run(const Graph& g, std::vector<NamedInput> in, const CompileOptions& options = {}) {
  Lane lane(compile(g, options));
  return lane.run(std::span<const NamedInput>(in));
}

std::vector<float> floats(const Tensor& t) { return {t.as<float>().begin(), t.as<float>().end()}; }

void check_near(const Tensor& a, const Tensor& b, float most = 1e-5f) {
  REQUIRE(a.shape() == b.shape());
  for (size_t i = 0; i < a.as<float>().size(); ++i)
    CHECK(std::fabs(a.as<float>()[i] - b.as<float>()[i]) <= most * (1 + std::fabs(b.as<float>()[i])));
}

std::vector<std::string> names(const Graph& g, const std::vector<ValueId>& ids) {
  std::vector<std::string> out;
  for (const ValueId v : ids) out.push_back(g.values[static_cast<size_t>(v)].name);
  return out;
}

Line two_models() {
  Line l;
  l.name = "two";
  l.parts.push_back({.name = "seer", .model = seer()});
  l.parts.push_back({.name = "chooser", .model = chooser(), .takes = {{"x", "seer.seen"}}});
  return l;
}

using Names = std::vector<std::string>;

Type typed(DType dtype, Dims dims) {
  Type t;
  t.dtype = dtype;
  t.dims = std::move(dims);
  return t;
}

}  // namespace

TEST_CASE("line: two models joined give what one gives on what the other gave") {
  const Graph g = join(two_models());
  CHECK(names(g, g.inputs) == Names{"x"});
  CHECK(names(g, g.outputs) == Names{"chosen"});
  CHECK(g.metadata.at("mean") == "128");
  CHECK(g.metadata.at("labels") == "a,b,c,d,e,f");
  const Dims dims = *g.values[static_cast<size_t>(g.inputs[0])].dims;
  CHECK(to_string(dims) == "n x 3 x h x w");
  for (const uint64_t seed : {1, 2, 3}) {
    const Tensor x = random_tensor({2, 3, 8, 10}, seed);
    const Outputs seen = run(seer(), {{"x", x}});
    const Outputs chosen = run(chooser(), {{"x", seen[0]}});
    check_near(run(g, {{"x", x}})["chosen"], chosen[0]);
    check_near(run(g, {{"x", x}}, {.plain = true})["chosen"], chosen[0]);
  }
  // As a file it is the same model.
  const Folder f;
  save(g, f.path / "line.onnx");
  const Tensor x = random_tensor({1, 3, 6, 6}, 9);
  check_near(run(load(f.path / "line.onnx"), {{"x", x}})["chosen"], run(g, {{"x", x}})["chosen"], 0);
}

TEST_CASE("line: names that two parts have become the parts', named inputs are shared, outputs are chosen") {
  Line l;
  l.parts.push_back({.name = "left", .model = seer()});
  l.parts.push_back({.name = "right", .model = seer()});
  l.parts.push_back({.name = "sum", .op = "Add", .operands = {{"left.seen", {}}, {"right", {}}}});
  Graph g = join(l);
  CHECK(names(g, g.inputs) == Names{"left.x", "right.x"});
  CHECK(names(g, g.outputs) == Names{"sum"});
  CHECK(to_string(*g.values[static_cast<size_t>(g.inputs[1])].dims) == "right.n x 3 x right.h x right.w");
  l.parts[0].takes = {{"x", "picture"}};
  l.parts[1].takes = {{"x", "picture"}};
  l.outputs = {{"both", "sum"}, {"first", "left.seen"}, {"given", "picture"}};
  g = join(l);
  CHECK(names(g, g.inputs) == Names{"picture"});
  CHECK(names(g, g.outputs) == Names{"both", "first", "given"});
  const Tensor x = random_tensor({1, 3, 5, 5}, 4);
  const Outputs out = run(g, {{"picture", x}});
  for (size_t i = 0; i < floats(out["first"]).size(); ++i) CHECK(floats(out["both"])[i] == doctest::Approx(2 * floats(out["first"])[i]));
  CHECK(floats(out["given"]) == floats(x));
}

TEST_CASE("line: rows of a picture stand where the marks are") {
  Line l;
  l.inputs["embeddings"] = typed(DType::f32, Dims{"batch", "new", 4});
  l.inputs["tokens"] = typed(DType::i64, Dims{"batch", "new"});
  l.inputs["rows"] = typed(DType::f32, Dims{1, "count", 4});
  l.parts.push_back({.name = "insert",
                     .op = "insert",
                     .operands = {{"embeddings", {}}, {"tokens", {}}, {"rows", {}}},
                     .attributes = {{"mark", int64_t{7}}}});
  const Graph g = join(l);
  CHECK(g.metadata.at(kInsertKey) == "7 insert/rows");
  const Tensor e = random_tensor({2, 5, 4}, 1), rows = random_tensor({1, 4, 4}, 2);
  const std::vector<int64_t> ids{7, 1, 7, 7, 2, 3, 3, 7, 3, 3};
  std::vector<float> expected = floats(e);
  for (size_t i = 0, next = 0; i < ids.size(); ++i) {
    if (ids[i] != 7) continue;
    std::copy_n(floats(rows).begin() + static_cast<ptrdiff_t>(4 * next++), 4, expected.begin() + static_cast<ptrdiff_t>(4 * i));
  }
  CHECK(floats(run(g, {{"embeddings", e}, {"tokens", Tensor::from<int64_t>({2, 5}, ids)}, {"rows", rows}})[0]) == expected);
  // No marks: all stay, whatever rows there are.
  const Tensor none = Tensor::from<int64_t>({2, 5}, Ints(10, 1)), empty(DType::f32, {1, 0, 4});
  CHECK(floats(run(g, {{"embeddings", e}, {"tokens", none}, {"rows", rows}})[0]) == floats(e));
  CHECK(floats(run(g, {{"embeddings", e}, {"tokens", none}, {"rows", empty}})[0]) == floats(e));
  // More marks than rows.
  CHECK(error_of([&] { run(g, {{"embeddings", e}, {"tokens", Tensor::from<int64_t>({2, 5}, Ints(10, 7))}, {"rows", rows}}); }) != "");
}

namespace {

// x, level -> half of x and a tenth of the level.
Graph damper() {
  Builder b("damper");
  const ValueId x = b.input("x", DType::f32, {"n", 4}), level = b.input("level", DType::f32, {});
  const ValueId w = b.constant("w", Tensor::from<float>({4, 4}, {.5f, 0, 0, 0, 0, .5f, 0, 0, 0, 0, .5f, 0, 0, 0, 0, .5f}));
  b.output(b.op("Add", {b.op("MatMul", {x, w}), b.op("Mul", {level, b.constant("tenth", Tensor::from<float>({}, {.1f}))})}), "y");
  return b.finish();
}

// noise -> in each round x = damper(x, level[round]) + bias; ends early when its largest is below `least`.
Line denoiser(bool early) {
  Line l;
  l.inputs["noise"] = typed(DType::f32, Dims{"n", 4});
  l.inputs["bias"] = typed(DType::f32, Dims{4});
  LinePart rounds{.name = "rounds", .takes = {{"x", "noise"}}};
  rounds.parts.push_back({.name = "net", .model = damper(), .takes = {{"x", "x"}, {"level", "level"}}});
  rounds.parts.push_back({.name = "moved", .op = "Add", .operands = {{"net", {}}, {"bias", {}}}});
  rounds.rounds = 6;
  rounds.carry = {{"x", "moved"}};
  rounds.tables["level"] = Tensor::from<float>({6}, {1, 2, 3, 4, 5, 6});
  rounds.gather = {{"trace", "net.y"}};
  if (early) {
    rounds.parts.push_back({.name = "largest", .op = "ReduceMax", .operands = {{"moved", {}}}, .attributes = {{"keepdims", int64_t{0}}}});
    rounds.parts.push_back({.name = "enough", .op = "Less", .operands = {{"largest", {}}, {"", Tensor::from<float>({}, {1.5f})}}});
    rounds.until = "enough";
  }
  l.parts.push_back(std::move(rounds));
  return l;
}

}  // namespace

TEST_CASE("line: a loop of rounds with a table, and one that ends when something is true") {
  const Tensor noise = random_tensor({3, 4}, 8, 2, 6), bias = random_tensor({4}, 9, 0, 0.1f);
  for (const bool early : {false, true}) {
    CAPTURE(early);
    const Graph g = join(denoiser(early));
    CHECK(names(g, g.outputs) == Names{"x", "trace"});
    std::vector<float> x = floats(noise), trace;
    int64_t rounds = 0;
    for (; rounds < 6; ++rounds) {
      for (size_t i = 0; i < x.size(); ++i) {
        const float y = .5f * x[i] + .1f * static_cast<float>(rounds + 1);
        trace.push_back(y);
        x[i] = y + floats(bias)[i % 4];
      }
      if (early && *std::ranges::max_element(x) < 1.5f) {
        ++rounds;
        break;
      }
    }
    if (early) CHECK((rounds > 1 && rounds < 6));
    for (const bool plain : {false, true}) {
      const Outputs out = run(g, {{"noise", noise}, {"bias", bias}}, {.plain = plain});
      check_near(out["x"], Tensor::from<float>({3, 4}, x));
      check_near(out["trace"], Tensor::from<float>({rounds, 3, 4}, trace));
    }
  }
}

TEST_CASE("line: loops within loops, and parts that look outside") {
  Line l = denoiser(false);
  LinePart outer{.name = "twice", .takes = {{"x", "noise"}}};
  outer.parts.push_back(l.parts[0]);
  outer.parts[0].takes = {{"x", "x"}};
  outer.parts[0].gather.clear();
  outer.parts.push_back({.name = "number", .op = "Cast", .operands = {{"round", {}}}, .attributes = {{"to", int64_t{1}}}});
  outer.parts.push_back({.name = "sum", .op = "Add", .operands = {{"rounds.x", {}}, {"number", {}}}});
  outer.rounds = 2;
  outer.carry = {{"x", "sum"}};
  l.parts = {outer};
  const Graph g = join(l);
  const Tensor noise = random_tensor({3, 4}, 8, 2, 6), bias = random_tensor({4}, 9, 0, 0.1f);
  std::vector<float> x = floats(noise);
  for (int again = 0; again < 2; ++again) {
    for (int r = 0; r < 6; ++r) {
      for (size_t i = 0; i < x.size(); ++i) x[i] = .5f * x[i] + .1f * static_cast<float>(r + 1) + floats(bias)[i % 4];
    }
    for (float& v : x) v += static_cast<float>(again);
  }
  check_near(run(g, {{"noise", noise}, {"bias", bias}})["x"], Tensor::from<float>({3, 4}, x));
}

TEST_CASE("line: states of a part stay states, and a text is the same as from the part alone") {
  Decoder made{.f = {.causal = true}};
  const Graph decoder = made.make();
  Line l;
  l.parts.push_back({.name = "shift", .op = "Add", .operands = {{"ids", {}}, {"", Tensor::from<int64_t>({}, {1})}}});
  l.inputs["ids"] = typed(DType::i64, Dims{"batch", "new"});
  l.parts.push_back({.name = "decoder", .model = decoder, .takes = {{"tokens", "shift"}}, .states = "present.*=past.*"});
  const Graph g = join(l);
  CompileOptions kept;
  kept.states = find_states(g);
  REQUIRE(kept.states.size() == 4);
  const Program whole = compile(g, kept);
  CHECK(whole.why_copied() == "");
  kept.states = pair_states(decoder, "present.*=past.*");
  Lane a(whole), b(compile(decoder, kept));
  for (const Ints& some : {Ints{3, 9, 4}, Ints{1}, Ints{17}, Ints{5, 5}}) {
    Ints next = some;
    for (int64_t& t : next) ++t;
    const Shape shape{1, static_cast<int64_t>(some.size())};
    const Outputs x = a.run({{"ids", Tensor::from<int64_t>(shape, some)}}), y = b.run({{"tokens", Tensor::from<int64_t>(shape, next)}});
    CHECK(floats(x[0]) == floats(y[0]));
  }
  CHECK(a.positions() == 7);
}

TEST_CASE("line: what a picture alone decides is made once, also by an archive") {
  Line l = two_models();
  l.inputs["gain"] = typed(DType::f32, Dims{1});
  l.parts.push_back({.name = "times", .op = "Mul", .operands = {{"chooser", {}}, {"gain", {}}}});
  const Graph g = join(l);
  const Program program = compile(g, {.once = {"x"}});
  REQUIRE(program.once());
  CHECK(program.inputs().size() == 2);
  CHECK(program.once().inputs()[0].name == "x");
  const std::string seam = program.once().outputs()[0].name;
  CHECK(std::ranges::find(program.inputs(), seam, &Port::name) != program.inputs().end());
  const Tensor x = random_tensor({2, 3, 8, 8}, 1), gain = random_tensor({1}, 2);
  const Outputs expected = run(g, {{"x", x}, {"gain", gain}});
  const auto in_two = [&](const Program& p) {
    Lane once(p.once()), each(p);
    const Outputs made = once.run({{"x", x}});
    return each.run({{seam, made[seam]}, {"gain", gain}});
  };
  CHECK(floats(in_two(program)["times"]) == floats(expected["times"]));
  const Folder f;
  const fs::path file = f.path / "line.lathe";
  CHECK(has(error_of([&] { save_program(compile(g, {.once = {"x"}}), file); }), "nothing is compiled yet"));
  program.describe({{1}, {2, 6}});
  CHECK(has(error_of([&] { save_program(compile(g, {.once = {"x"}}), file); }), "nothing is compiled yet"));
  save_program(program, file);
  const Program back = load_program(file);
  REQUIRE(back.once());
  CHECK(floats(in_two(back)["times"]) == floats(expected["times"]));
  // Weights that are made of constants belong to both.
  Graph narrow = g;
  narrow_model(narrow, {.weights = DType::i8, .least = 1});
  const Program bytes = compile(narrow, {.once = {"x"}});
  REQUIRE(bytes.once());
  CHECK(bytes.once().outputs().size() == 1);
  CHECK(bytes.inputs().size() == 2);
  // Nothing asked, nothing made apart.
  CHECK(!compile(g).once());
  CHECK(has(error_of([&] { compile(g, {.once = {"y"}}); }), "no input 'y'"));
}

TEST_CASE("line: archives that carry their graph are parts, with their states") {
  const Folder f;
  Decoder made{.f = {.node = true}};
  CompileOptions kept;
  const Graph decoder = made.make();
  kept.states = pair_states(decoder, "present.*=past.*");
  const Program program = compile(decoder, kept);
  program.describe({{1, 1}});
  save_program(program, f.path / "with.lathe", {.carry_graph = true});
  save_program(program, f.path / "without.lathe");
  write(f.path / "line.toml",
        "[[part]]\nname = \"decoder\"\nmodel = \"with.lathe\"\n[[part]]\nname = \"best\"\nop = \"ArgMax\"\ntakes = [\"decoder\"]\nset = { "
        "axis "
        "= -1 }\n");
  const Graph g = join(read_line(f.path / "line.toml"));
  CHECK(find_states(g).size() == 4);
  CompileOptions again;
  again.states = find_states(g);
  Lane a(compile(g, again)), b(program);
  for (const int64_t t : {3, 11, 6}) {
    const Tensor token = Tensor::from<int64_t>({1, 1}, {t});
    const Outputs x = a.run({{"tokens", token}}), y = b.run({{"tokens", token}});
    const auto scores = floats(y[0]);
    CHECK(x["best"].as<int64_t>()[0] == std::ranges::max_element(scores) - scores.begin());
  }
  write(f.path / "no.toml", "[[part]]\nname = \"decoder\"\nmodel = \"without.lathe\"\n");
  CHECK(has(error_of([&] { read_line(f.path / "no.toml"); }), "does not carry its graph"));
}

TEST_CASE("line: a wrong connection is answered with both its ends") {
  const auto refused = [](Line l) { return error_of([&] { join(l); }); };
  Line l = two_models();
  l.parts[0].model = seer(5);
  const std::string e = refused(l);
  CAPTURE(e);
  CHECK(has(e, "part 'chooser' takes 'x' as f32 n x 6 x rows x columns, 'seer.seen' is f32"));
  CHECK(has(e, "n x 5 x"));
  CHECK(has(e, "they differ along axis 1"));
  l = two_models();
  l.parts[1].takes = {{"x", "seer.sen"}};
  CHECK(has(refused(l), "which part 'seer' does not make; it makes seer.seen; did you mean 'seer.seen'?"));
  l = two_models();
  l.parts[1].takes = {{"y", "seer.seen"}};
  CHECK(has(refused(l), "part 'chooser' has no input 'y'; its inputs are x"));
  l = two_models();
  std::swap(l.parts[0], l.parts[1]);
  CHECK(has(refused(l), "does not stand before it: put 'seer' first"));
  l = two_models();
  l.parts[1].name = "seer";
  CHECK(has(refused(l), "two parts are named 'seer'"));
  l = two_models();
  l.parts.push_back({.name = "sum", .op = "Add", .operands = {{"chooser", {}}, {"nothing", {}}}});
  CHECK(has(refused(l), "takes 'nothing', which is no part, and no model says what it is"));
  l = two_models();
  l.parts.push_back({.name = "sum", .op = "Add", .operands = {{"chooser", {}}, {"", Tensor::from<int64_t>({}, {1})}}});
  CHECK(has(refused(l), "'sum'"));
  l = two_models();
  l.inputs["gain"] = typed(DType::f32, Dims{1});
  CHECK(has(refused(l), "input 'gain' is declared, and no part takes it"));
  // One size may not be two.
  l = two_models();
  l.parts[0].takes = {{"x", "picture"}};
  l.inputs["picture"] = typed(DType::f64, Dims{"n", 3, 8, 8});
  CHECK(has(refused(l), "'picture' is f64 n x 3 x 8 x 8: another type"));
  l.inputs["picture"] = typed(DType::f32, Dims{3, 8, 8});
  CHECK(has(refused(l), "another number of axes"));
  CHECK(has(refused({}), "a line without parts"));
}

TEST_CASE("line: loops that would not end, or make nothing, are refused") {
  const auto refused = [](auto change) {
    Line l = denoiser(true);
    change(l.parts[0]);
    return error_of([&] { join(l); });
  };
  CHECK(has(refused([](LinePart& p) { p.rounds = 0; }), "how many rounds"));
  CHECK(has(refused([](LinePart& p) { p.rounds = 7; }), "table 'level' is 6, and there are 7 rounds"));
  CHECK(has(refused([](LinePart& p) {
              p.parts.push_back({.name = "ever", .op = "Less", .operands = {{"bias", {}}, {"", Tensor::from<float>({}, {-1})}}});
              p.until = "ever";
            }),
            "which is the same in every round"));
  CHECK(has(refused([](LinePart& p) { p.until = "net"; }), "rounds/not_end"));
  CHECK(has(refused([](LinePart& p) { p.takes.clear(); }), "nothing says where it begins"));
  CHECK(has(refused([](LinePart& p) { p.carry.clear(), p.takes.clear(), p.gather.clear(); }), "it makes nothing"));
  CHECK(has(refused([](LinePart& p) { p.parts[0].states = "y=x", p.parts[0].takes.erase("x"); }), "keeps states within a loop"));
}

TEST_CASE("line: sheets are read with every fault in its place") {
  const Folder f;
  save(seer(), f.path / "seer.onnx");
  save(chooser(), f.path / "chooser.onnx");
  save(damper(), f.path / "damper.onnx");
  const auto read = [&](const std::string& text) {
    write(f.path / "line.toml", text);
    return join(read_line(f.path / "line.toml"));
  };
  const std::string seen = "[[part]]\nname = \"seer\"\nmodel = \"seer.onnx\"\n";
  const Graph g =
      read("title = \"t\"\n" + seen + "[[part]]\nname = \"top\"\nop = \"TopK\"\ntakes = [\"seer\", [2]]\nset = { axis = 1 }\ngives = 2\n" +
           "[outputs]\nwhere = \"top.1\"\nbest = \"top.0\"\n[pictures]\nfit = \"pad\"\nscale = 0.5\n");
  CHECK(names(g, g.outputs) == Names{"where", "best"});
  CHECK(g.name == "t");
  CHECK(g.metadata.at("fit") == "pad");
  CHECK(g.metadata.at("scale") == "0.5");
  CHECK(g.metadata.at("mean") == "128");
  CHECK(run(g, {{"x", random_tensor({1, 3, 4, 4}, 1)}})["best"].shape() == Shape{1, 2, 4, 4});
  // A loop, a sheet within a sheet, a table from a file; 1 for 1.0.
  write_npy(f.path / "levels.npy", Tensor::from<float>({3}, {1, 2, 3}));
  write(f.path / "inner.toml",
        "[[part]]\nname = \"net\"\nmodel = \"damper.onnx\"\n[[part]]\nname = \"leaky\"\nop = \"LeakyRelu\"\ntakes = "
        "[\"net\"]\nset = { alpha = 1 }\n");
  const Graph loop = read(
      "[inputs]\nnoise = \"f32 [n, 4]\"\n[[part]]\nname = \"rounds\"\nrounds = 3\ntakes = { x = \"noise\" }\ncarry = { x = \"inner\" }\n"
      "[part.tables]\nlevel = { file = \"levels.npy\" }\n[[part.part]]\nname = \"inner\"\nmodel = \"inner.toml\"\ntakes = { x = \"x\", "
      "level = "
      "\"level\" }\n");
  const Tensor noise = random_tensor({2, 4}, 3);
  std::vector<float> x = floats(noise);
  for (int r = 0; r < 3; ++r) {
    for (float& v : x) v = .5f * v + .1f * static_cast<float>(r + 1);
  }
  check_near(run(loop, {{"noise", noise}})["x"], Tensor::from<float>({2, 4}, x));
  const auto refused = [&](const std::string& text) { return error_of([&] { read(text); }); };
  CHECK(has(refused(seen + "takes = { x = 3 }\n"), "line.toml:4:"));
  CHECK(has(refused(seen + "take = { x = \"y\" }\n"), "has no key 'take'; did you mean 'takes'?"));
  CHECK(has(refused("[[part]]\nmodel = \"seer.onnx\"\n"), "has no 'name'"));
  CHECK(has(refused("[[part]]\nname = \"a\"\nmodel = \"other.onnx\"\n"), "line.toml:3:"));
  CHECK(has(refused("[[part]]\nname = \"a\"\nop = \"Rellu\"\ntakes = [\"b\"]\n"), "did you mean 'Relu'?"));
  CHECK(has(refused(seen + "[[part]]\nname = \"a\"\nop = \"Relu\"\n"), "a list of what the op reads"));
  CHECK(has(refused(seen + "[[part]]\nname = \"a\"\nop = \"Add\"\ntakes = [\"seer\", [[1, 2], [3]]]\n"), "differ in length"));
  CHECK(has(refused("[inputs]\na = \"f32\"\n" + seen), "noise = "));
  CHECK(has(refused("[inputs]\na = \"flot32 [3]\"\n" + seen), "'flot32' is no type"));
  CHECK(has(refused("title = 3\n"), "a text in quotes"));
  CHECK(has(refused("title = \"x\"\n"), "has no [[part]]"));
  write(f.path / "line.toml", "[[part]]\nname = \"a\"\nmodel = \"line.toml\"\n");
  CHECK(has(error_of([&] { read_line(f.path / "line.toml"); }), "more than eight deep"));
  CHECK(is_line_sheet(f.path / "line.toml"));
  CHECK(!is_line_sheet(f.path / "seer.onnx"));
}
