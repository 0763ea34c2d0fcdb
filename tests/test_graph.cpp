// Graphs, ONNX files in and out, array files, pictures, and files that are hostile.
#include <algorithm>

#include <climits>

#include "graph/dims.hpp"
#include "support.hpp"

using namespace test;

namespace {

Graph sample() {
  Builder b("sample", 17);
  const auto x = b.input("x", DType::f32, {"batch", 4});
  const auto w = b.constant("w", random_tensor({4, 3}, 1));
  const auto y = b.op("MatMul", {x, w}, {}, "product");
  const auto k = b.constant("k", Tensor::from<int64_t>({}, {2}));
  const auto top = b.ops("TopK", {b.op("Relu", {y}), b.op("Unsqueeze", {k, b.constant("axes", Tensor::from<int64_t>({1}, {0}))})}, 2,
                         {{"largest", int64_t{1}}});
  b.output(top[0], "values");
  b.output(top[1], "indices");
  b.metadata("note", "a sample");
  return b.finish();
}

}  // namespace

TEST_CASE("builder infers shapes and keeps symbolic dims") {
  const Graph g = sample();
  const Value& v = g.values[g.find_value("product")];
  CHECK(v.dtype == DType::f32);
  CHECK(*v.dims == Dims{Dim("batch"), Dim(3)});
  CHECK(*g.values[g.find_value("values")].dims == Dims{Dim("batch"), Dim(2)});
  CHECK(g.values[g.find_value("indices")].dtype == DType::i64);
}

TEST_CASE("a graph written as ONNX reads back equal") {
  Folder f;
  const Graph g = sample();
  save(g, f.path / "a.onnx");
  const Graph back = load(f.path / "a.onnx");
  CHECK(equal(g, back));
  // And once more: nothing is lost on the way round.
  save(back, f.path / "b.onnx");
  CHECK(equal(back, load(f.path / "b.onnx")));
  CHECK(slurp(f.path / "a.onnx") == slurp(f.path / "b.onnx"));
  Graph other = back;
  other.nodes[0].name = "renamed";
  CHECK_FALSE(equal(back, other));
}

TEST_CASE("the demo model round-trips, and runs the same afterwards") {
  Folder f;
  const Graph g = load(kDemo / "grain/grain.onnx");
  save(g, f.path / "g.onnx");
  const Graph back = load(f.path / "g.onnx");
  CHECK(equal(g, back));
  const Tensor x = random_tensor({1, 3, 64, 64}, 3);
  Lane a(compile(g)), b(compile(back));
  CHECK(identical(a.run({{"image", x}})[0], b.run({{"image", x}})[0]));
}

TEST_CASE("external data is written beside the model, mapped, and checked") {
  Folder f;
  const Graph g = sample();
  save(g, f.path / "m.onnx", {.external_from_bytes = 16});
  REQUIRE(fs::exists(f.path / "m.onnx.data"));
  CHECK(equal(g, load(f.path / "m.onnx")));
  SUBCASE("too short") {
    fs::resize_file(f.path / "m.onnx.data", 8);
    CHECK(has(error_of([&] { load(f.path / "m.onnx"); }), "ends before"));
  }
  SUBCASE("missing") {
    fs::remove(f.path / "m.onnx.data");
    CHECK(has(error_of([&] { load(f.path / "m.onnx"); }), "m.onnx.data"));
  }
  SUBCASE("outside the folder") {
    fs::create_directory(f.path / "inner");
    std::string bytes = slurp(f.path / "m.onnx");
    // The same length, pointing one folder up.
    const std::string from = "m.onnx.data", to = "../m.x.data";
    for (size_t at = bytes.find(from); at != std::string::npos; at = bytes.find(from, at)) bytes.replace(at, from.size(), to);
    write(f.path / "inner/m.onnx", bytes);
    fs::rename(f.path / "m.onnx.data", f.path / "m.x.data");
    CHECK(has(error_of([&] { load(f.path / "inner/m.onnx"); }), "outside the model's folder"));
    LoadOptions allow;
    allow.allow_data_outside_folder = true;
    CHECK(equal(g, load(f.path / "inner/m.onnx", allow)));
  }
}

TEST_CASE("every fault of a model is reported in one go") {
  Graph g;
  g.opsets[""] = 17;
  Value v;
  v.name = "x";
  v.dtype = DType::f32;
  v.dims = Dims{Dim(2), Dim(3)};
  const ValueId x = g.add_value(v);
  g.inputs = {x};
  const auto node = [&](const char* op, std::vector<ValueId> in, const char* out) {
    Value o;
    o.name = out;
    Node n;
    n.op = op;
    n.name = std::string("the ") + out;
    n.inputs = std::move(in);
    n.outputs = {g.add_value(o)};
    g.nodes.push_back(n);
    return n.outputs[0];
  };
  Value lost;
  lost.name = "lost";
  const ValueId missing = g.add_value(lost);
  node("Wobble", {x}, "a");
  node("Wobble", {x}, "b");
  node("Jiggle", {x}, "c");
  node("Add", {x}, "d");
  g.outputs = {node("Relu", {missing}, "e")};
  Category c{};
  const std::string text = error_of([&] { check(g); }, &c);
  CHECK(has(text, "Wobble (2 nodes)"));
  CHECK(has(text, "Jiggle (1 node)"));
  CHECK(has(text, "node 'the d' (Add): has 1 inputs, expected 2"));
  CHECK(has(text, "reads 'lost'"));
}

TEST_CASE("shape and type faults name the node and both sides") {
  const auto fault = [](auto make) {
    return error_of([&] {
      Builder b("bad");
      make(b);
      b.finish();
    });
  };
  CHECK(has(fault([](Builder& b) {
              b.output(b.op("MatMul", {b.input("x", DType::f32, {2, 3}), b.constant("w", random_tensor({4, 5}, 1))}));
            }),
            "inner sizes differ"));
  CHECK(has(fault([](Builder& b) {
              b.output(b.op("Add", {b.input("x", DType::f32, {2, 3}), b.input("y", DType::f32, {2, 4})}));
            }),
            "do not broadcast: 3 against 4"));
  CHECK(has(fault([](Builder& b) {
              b.output(b.op("Add", {b.input("x", DType::f32, {2}), b.input("y", DType::i64, {2})}));
            }),
            "f32 and i64"));
  CHECK(has(fault([](Builder& b) { b.output(b.op("Relu", {b.input("x", DType::string, {2})})); }), "string"));
  CHECK(has(fault([](Builder& b) {
              b.output(b.op("Conv", {b.input("x", DType::f32, {1, 3, 8, 8}), b.constant("w", random_tensor({4, 5, 3, 3}, 1))}));
            }),
            "input 0 (X) has shape 1 x 3 x 8 x 8, expected 1 (N) x 5 (c*group) x ..."));
  CHECK(has(fault([](Builder& b) { b.output(b.op("Softmax", {b.input("x", DType::f32, {2, 3})}, {{"axis", int64_t{5}}})); }), "axis 5"));
  CHECK(has(fault([](Builder& b) {
              b.output(b.op("Reshape", {b.input("x", DType::f32, {2, 3}), b.constant("s", Tensor::from<int64_t>({2}, {4, -1}))}));
            }),
            "cannot reshape 2x3"));
}

TEST_CASE("a cycle is found and named") {
  Graph g;
  g.opsets[""] = 17;
  for (const char* name : {"a", "b"}) {
    Value v;
    v.name = name;
    g.add_value(v);
  }
  for (int i = 0; i < 2; ++i) {
    Node n;
    n.op = "Relu";
    n.name = i ? "second" : "first";
    n.inputs = {i};
    n.outputs = {1 - i};
    g.nodes.push_back(n);
  }
  CHECK(has(error_of([&] { g.sort(); }), "'first' (Relu), node 'second' (Relu)"));
}

TEST_CASE("files that are not what they should be") {
  Folder f;
  Category c{};
  CHECK(has(error_of([&] { load(f.path / "none.onnx"); }, &c), "no such file"));
  CHECK(c == Category::format);
  CHECK(has(error_of([&] { load(f.path); }), "is a folder"));
  write(f.path / "empty.onnx", "");
  CHECK(has(error_of([&] { load(f.path / "empty.onnx"); }), "it is empty"));
  write(f.path / "text.onnx", "this is not a model at all, only some text\n");
  CHECK(has(error_of([&] { load(f.path / "text.onnx"); }), "not an ONNX file"));
  write(f.path / "x.npy", "\x93NUMPY\x01\x00");
  CHECK_FALSE(error_of([&] { read_npy(f.path / "x.npy"); }).empty());
  write(f.path / "x.npz", "PK nonsense");
  CHECK_FALSE(error_of([&] { read_npz(f.path / "x.npz"); }).empty());
  write(f.path / "x.png", "\x89PNG\r\n\x1a\nnonsense");
  CHECK(has(error_of([&] { read_picture(f.path / "x.png"); }), "not a readable PNG"));
  write(f.path / "x.jpg", "\xFF\xD8nonsense");
  CHECK(has(error_of([&] { read_picture(f.path / "x.jpg"); }), "not a readable JPEG"));
  write(f.path / "x.gif", "GIF89a");
  CHECK(has(error_of([&] { read_picture(f.path / "x.gif"); }), "PNG and JPEG"));
}

TEST_CASE("a model cut short or with a flipped byte never does worse than an error") {
  Folder f;
  const std::string good = slurp(kDemo / "grain/grain.onnx");
  std::mt19937 random(5);
  int refused = 0;
  for (int i = 0; i < 120; ++i) {
    std::string bytes = good;
    if (i % 2) bytes.resize(random() % good.size());
    else
      for (int k = 0; k < 8; ++k) bytes[random() % 4000] = static_cast<char>(random());  // the structure is at the front
    write(f.path / "m.onnx", bytes);
    try {
      Graph g = load(f.path / "m.onnx");
      compile(g, {.dims = {{"batch", 1}}});
    } catch (const Error&) {
      ++refused;
    }
  }
  CHECK(refused > 60);
}

TEST_CASE("arrays survive npy, npz and pb") {
  Folder f;
  const Tensor a = random_tensor({3, 1, 5}, 2), b = Tensor::from<int64_t>({2}, {-1, int64_t{1} << 60});
  const Tensor scalar = Tensor::from<double>({}, {0.5}), flags = Tensor::from<bool>({3}, {true, false, true});
  for (const Tensor& t : {a, b, scalar, flags}) {
    write_npy(f.path / "t.npy", t);
    CHECK(identical(read_npy(f.path / "t.npy"), t));
    write_tensor_pb(f.path / "t.pb", {"name", t});
    CHECK(identical(read_tensor_pb(f.path / "t.pb").tensor, t));
  }
  write_npz(f.path / "t.npz", {{"a", a}, {"b", b}});
  const auto back = read_npz(f.path / "t.npz");
  REQUIRE(back.size() == 2);
  CHECK(back[0].name == "a");
  CHECK(identical(back[1].tensor, b));
  const Tensor words = Tensor::from<std::string>({2}, {std::string("maple"), std::string("")});
  write_tensor_pb(f.path / "w.pb", {"w", words});
  CHECK(identical(read_tensor_pb(f.path / "w.pb").tensor, words));
  CHECK(has(error_of([&] { write_npy(f.path / "w.npy", words); }), "npy has no element type for string"));
  CHECK(has(error_of([&] { write_npy("/nonexistent-folder/t.npy", a); }), "cannot be written"));
}

TEST_CASE("column-order npy files are turned") {
  Folder f;
  std::string header = "{'descr': '<f4', 'fortran_order': True, 'shape': (2, 3), }";
  header.append(128 - 10 - header.size() - 1, ' ');
  header += '\n';
  std::string bytes("\x93NUMPY\x01\x00", 8);
  bytes += static_cast<char>(header.size());
  bytes += '\0';
  bytes += header;
  const float columns[] = {1, 4, 2, 5, 3, 6};
  bytes.append(reinterpret_cast<const char*>(columns), sizeof columns);
  write(f.path / "f.npy", bytes);
  CHECK(identical(read_npy(f.path / "f.npy"), Tensor::from<float>({2, 3}, {1, 2, 3, 4, 5, 6})));
}

TEST_CASE("pictures become tensors: order, mean, scale, size") {
  const Tensor pixels = Tensor::from<uint8_t>({1, 2, 3}, {10, 20, 30, 110, 120, 130});
  PictureOptions o;
  o.mean = {10, 20, 30};
  o.scale = {1, 2, 3};
  const Tensor t = picture_to_tensor(pixels, o);
  CHECK(t.shape() == Shape{1, 3, 1, 2});
  CHECK(identical(t, Tensor::from<float>({1, 3, 1, 2}, {0, 100, 0, 200, 0, 300})));
  o = {};
  o.bgr = true;
  CHECK(picture_to_tensor(pixels, o).as<float>()[0] == 30);
  o = {};
  o.height = 1;
  o.width = 4;  // half-pixel centres: 0, 1/4, 3/4, 1 of the way
  const auto wide = picture_to_tensor(pixels, o);
  CHECK(wide.as<float>()[0] == 10);
  CHECK(wide.as<float>()[1] == 35);
  CHECK(wide.as<float>()[2] == 85);
  CHECK(wide.as<float>()[3] == 110);
  CHECK(read_picture(kDemo / "grain/test/board_000.png").shape() == Shape{64, 64, 3});
}

TEST_CASE("sizes that are names add, multiply and divide into one form") {
  using lathe::bound;
  const auto text = [](const Dim& d) { return to_string(d); };
  const Dim n("n"), seq("seq"), one(1), two(2);
  CHECK(text(sum(n, seq)) == "n + seq");
  CHECK(text(sum(seq, n)) == "n + seq");
  CHECK(text(sum(sum(seq, one), seq)) == "2*seq + 1");
  CHECK(text(difference(sum(n, Dim(3)), Dim(5))) == "n - 2");
  CHECK(text(difference(sum(n, seq), n)) == "seq");
  CHECK(difference(n, n) == Dim(int64_t{0}));
  CHECK(text(difference(one, n)) == "?");  // no size is a number less a name
  CHECK(difference(one, two) == Dim());
  CHECK(text(product(seq, n)) == "n*seq");
  CHECK(text(product(product(n, seq), Dim("batch"))) == "batch*n*seq");
  CHECK(text(product(sum(n, one), Dim(4))) == "4*n + 4");
  CHECK(text(product(sum(n, one), seq)) == "?");
  CHECK(text(quotient(product(n, Dim(6)), 3)) == "2*n");
  CHECK(text(quotient(sum(product(n, two), Dim(5)), 2)) == "n + 2");
  CHECK(text(quotient(n, 2)) == "floor(n/2)");
  CHECK(text(sum(quotient(difference(n, two), 2), one)) == "floor(n/2)");
  CHECK(text(quotient(sum(n, Dim(3)), 2)) == "floor((n + 1)/2) + 1");
  CHECK(quotient(n, 0) == Dim());
  CHECK(sum(Dim(), one) == Dim());
  CHECK(product(Dim(3), Dim(4)) == Dim(12));
  CHECK(!error_of([] { sum(Dim(INT64_MAX), Dim(1)); }).empty());
  CHECK(is_name(n));
  CHECK(!is_name(sum(n, one)));
  CHECK(!is_name(one));

  const std::map<std::string, int64_t> sizes{{"n", 7}, {"seq", 10}};
  CHECK(bound(n, sizes) == Dim(7));
  CHECK(bound(product(n, seq), sizes) == Dim(70));
  CHECK(bound(sum(product(n, Dim(2)), Dim(1)), sizes) == Dim(15));
  CHECK(bound(quotient(sum(n, Dim(3)), 2), sizes) == Dim(5));
  CHECK(bound(quotient(quotient(n, 2), 2), sizes) == Dim(1));
  CHECK(bound(sum(n, Dim("other")), sizes) == sum(n, Dim("other")));
  CHECK(bound(difference(n, seq), sizes) == difference(n, seq));  // it would be negative
  CHECK(bound(Dim("past + 1"), {{"past", 4}}) == Dim(5));         // as exporters write it themselves
  // Whatever a file calls a dim, nothing breaks.
  for (const char* odd : {"", " ", "*", "((", "a - ", " + ", "9999999999999999999999*n", "floor(", "floor(n/0)", "floor(/2)", "-", "n*n*",
                          "floor(floor(n/2)/"}) {
    CAPTURE(odd);
    const Dim d(odd);
    const Dim made = sum(product(quotient(d, 2), Dim(3)), d);
    CHECK(!made.known());
    CHECK(!bound(made, {{"q", 1}}).known());
  }
  Dim many("a");
  for (int i = 0; i < 60; ++i) many = sum(many, Dim("name" + std::to_string(i)));
  CHECK(many == Dim());  // nobody would read it
}

TEST_CASE("which shapes fit dims") {
  const Dims dims{Dim("batch"), Dim(3), Dim(), Dim(int64_t{0})};
  CHECK(fits({8, 3, 5, 0}, dims));
  CHECK(fits({0, 3, 0, 0}, dims));
  CHECK_FALSE(fits({8, 4, 5, 0}, dims));
  CHECK_FALSE(fits({8, 3, 5, 1}, dims));
  CHECK_FALSE(fits({8, 3, 5}, dims));
  CHECK_FALSE(fits({8, 3, 5, 0, 1}, dims));
  CHECK(fits({}, Dims{}));
  CHECK_FALSE(fits({1}, Dims{}));
  for (const Shape& s : {Shape{}, Shape{7}, Shape{1, 2, 3}}) CHECK(fits(s, std::nullopt));
}
