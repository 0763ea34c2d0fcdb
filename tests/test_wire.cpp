// ONNX files byte by byte: every way to store a tensor, subgraphs, functions, faults a writer of our own would never make.
#include <cstring>

#include "support.hpp"

using namespace test;

namespace {

// The protobuf wire format, by hand.
std::string varint(uint64_t n) {
  std::string out;
  do {
    out += static_cast<char>((n & 0x7F) | (n > 0x7F ? 0x80 : 0));
    n >>= 7;
  } while (n);
  return out;
}
std::string number(int field, uint64_t v) { return varint(field << 3) + varint(v); }
std::string chunk(int field, const std::string& bytes) { return varint(field << 3 | 2) + varint(bytes.size()) + bytes; }

template <typename T>
std::string raw(std::initializer_list<T> v) {
  return std::string(reinterpret_cast<const char*>(v.begin()), v.size() * sizeof(T));
}
std::string packed(std::initializer_list<int64_t> v) {
  std::string out;
  for (int64_t e : v) out += varint(static_cast<uint64_t>(e));
  return out;
}

std::string tensor(const std::string& name, int dtype, std::initializer_list<int64_t> dims, const std::string& data) {
  std::string out;
  for (int64_t d : dims) out += number(1, static_cast<uint64_t>(d));
  return out + number(2, dtype) + chunk(8, name) + data;
}
std::string value(const std::string& name, int dtype, std::initializer_list<int64_t> dims) {
  std::string shape;
  for (int64_t d : dims) shape += chunk(1, number(1, static_cast<uint64_t>(d)));
  return chunk(1, name) + chunk(2, chunk(1, number(1, dtype) + chunk(2, shape)));
}
std::string node(const std::string& op, std::initializer_list<const char*> in, std::initializer_list<const char*> out,
                 const std::string& more = "") {
  std::string bytes;
  for (const char* i : in) bytes += chunk(1, i);
  for (const char* o : out) bytes += chunk(2, o);
  return chunk(1, bytes + chunk(4, op) + more);
}
std::string model(const std::string& graph, int opset = 17, const std::string& more = "") {
  return number(1, 8) + chunk(7, chunk(2, "g") + graph) + chunk(8, chunk(1, "") + number(2, opset)) + more;
}

Graph read(const std::string& bytes, bool unchecked = false) {
  Folder f;
  write(f.path / "m.onnx", bytes);
  LoadOptions o;
  o.unchecked = unchecked;
  return load(f.path / "m.onnx", o);
}

// The constant 't' of a model whose output is its copy.
Tensor stored(const std::string& tensor_bytes) {
  const Graph g = read(model(chunk(5, tensor_bytes) + node("Identity", {"t"}, {"y"}) + chunk(12, chunk(1, "y"))));
  return *g.values[g.find_value("t")].constant;
}

}  // namespace

TEST_CASE("tensors in raw and in typed form are the same") {
  CHECK(identical(stored(tensor("t", 1, {2}, chunk(9, raw<float>({1.5f, -2})))), Tensor::from<float>({2}, {1.5f, -2})));
  CHECK(identical(stored(tensor("t", 1, {2}, chunk(4, raw<float>({1.5f, -2})))), Tensor::from<float>({2}, {1.5f, -2})));
  CHECK(identical(stored(tensor("t", 11, {1}, chunk(10, raw<double>({0.25})))), Tensor::from<double>({1}, {0.25})));
  CHECK(identical(stored(tensor("t", 7, {2}, chunk(7, packed({-1, 5})))), Tensor::from<int64_t>({2}, {-1, 5})));
  CHECK(identical(stored(tensor("t", 6, {2}, chunk(5, packed({-1, 5})))), Tensor::from<int32_t>({2}, {-1, 5})));
  CHECK(identical(stored(tensor("t", 2, {2}, chunk(5, packed({200, 5})))), Tensor::from<uint8_t>({2}, {200, 5})));
  CHECK(identical(stored(tensor("t", 9, {2}, chunk(5, packed({1, 0})))), Tensor::from<bool>({2}, {true, false})));
  CHECK(identical(stored(tensor("t", 8, {2}, chunk(6, "ash") + chunk(6, ""))),
                  Tensor::from<std::string>({2}, {std::string("ash"), std::string()})));
  // 16-bit floats ride in 32-bit integers.
  const Tensor h = stored(tensor("t", 10, {1}, chunk(5, packed({0x3C00}))));
  CHECK(h.dtype() == DType::f16);
  CHECK(decode_narrow(DType::f16, static_cast<const uint16_t*>(h.data())[0]) == 1.0);
  // 4-bit integers, two to a byte.
  const Tensor q = stored(tensor("t", 22, {3}, chunk(9, std::string("\x98\x07", 2))));
  CHECK(q.dtype() == DType::i4);
  CHECK(q.byte_size() == 2);
  CHECK(stored(tensor("t", 1, {0, 3}, "")).size() == 0);
}

TEST_CASE("tensors whose bytes do not fit their shape are refused") {
  const auto fault = [](const std::string& t) { return error_of([&] { stored(t); }); };
  CHECK(has(fault(tensor("t", 1, {3}, chunk(9, raw<float>({1, 2})))), "8 bytes stored, shape 3 of f32 needs 12"));
  CHECK(has(fault(tensor("t", 1, {3}, chunk(4, raw<float>({1, 2})))), "2 elements stored, shape 3 needs 3"));
  CHECK(has(fault(tensor("t", 1, {-3}, chunk(9, ""))), "negative dim"));
  CHECK(has(fault(tensor("t", 1, {int64_t{1} << 40, int64_t{1} << 40}, "")), "overflows"));
  CHECK(has(fault(tensor("t", 1, {int64_t{1} << 50}, "")), "0 elements stored"));
  CHECK(has(fault(tensor("t", 77, {1}, chunk(9, "x"))), "element type number 77"));
  CHECK(has(fault(tensor("t", 8, {3}, chunk(6, "ash"))), "1 strings stored, shape 3 needs 3"));
  CHECK(has(fault(tensor("t", 1, {1}, number(14, 1))), "has no location"));
  CHECK(has(fault(tensor("t", 1, {1},
                         number(14, 1) + chunk(13, chunk(1, "location") + chunk(2, "w")) + chunk(13, chunk(1, "offset") + chunk(2, "-4")))),
            "expected a number of bytes"));
}

TEST_CASE("graph faults: names made twice, never, or listed twice") {
  const std::string x = chunk(11, value("x", 1, {2})), y = chunk(12, chunk(1, "y"));
  const auto fault = [](const std::string& graph) { return error_of([&] { read(model(graph)); }); };
  CHECK(has(fault(x + node("Relu", {"x"}, {"y"}) + node("Abs", {"x"}, {"y"}) + y), "already made elsewhere"));
  CHECK(has(fault(x + node("Relu", {"x"}, {"x"}) + chunk(12, chunk(1, "x"))), "already made elsewhere"));
  CHECK(has(fault(x + x + node("Relu", {"x"}, {"y"}) + y), "listed twice"));
  CHECK(has(fault(x + node("Relu", {"z"}, {"y"}) + y), "reads 'z'"));
  CHECK(has(fault(x + node("Relu", {"x"}, {"q"}) + y), "output 'y'"));
  CHECK(has(fault(x + node("", {"x"}, {"y"}) + y), "has no op"));
  CHECK(has(fault(x + node("Relu", {"y2"}, {"y"}) + node("Abs", {"y"}, {"y2"}) + y), "cycle"));
  CHECK(has(fault(chunk(5, tensor("t", 1, {1}, chunk(9, raw<float>({1})))) + chunk(5, tensor("t", 1, {1}, chunk(9, raw<float>({2})))) + x +
                  node("Relu", {"x"}, {"y"}) + y),
            "given twice"));
  CHECK(has(error_of([&] { read(model(x + node("Relu", {"x"}, {"y"}) + y, 99)); }), "opset 99"));
}

TEST_CASE("several faults come together") {
  const std::string text = error_of([] {
    read(model(chunk(5, tensor("t", 1, {3}, chunk(9, "1234"))) + chunk(5, tensor("u", 77, {1}, "")) + chunk(11, value("x", 1, {2})) +
               node("Relu", {"x"}, {"y"}) + node("Relu", {"x"}, {"y"}) + chunk(12, chunk(1, "y"))));
  });
  CHECK(has(text, "initializer 't'"));
  CHECK(has(text, "initializer 'u'"));
  CHECK(has(text, "already made"));
}

TEST_CASE("nodes out of order are sorted") {
  const Graph g =
      read(model(chunk(11, value("x", 1, {2})) + node("Abs", {"a"}, {"y"}) + node("Neg", {"x"}, {"a"}) + chunk(12, chunk(1, "y"))));
  CHECK(g.nodes[0].op == "Neg");
  CHECK(identical(evaluate_plain(g, std::vector<Tensor>{Tensor::from<float>({2}, {-1, 2})})[0], Tensor::from<float>({2}, {1, 2})));
}

TEST_CASE("an initializer that is also an input is a default, and need not be given") {
  const Graph g =
      read(model(chunk(11, value("x", 1, {2})) + chunk(11, value("w", 1, {2})) +
                 chunk(5, tensor("w", 1, {2}, chunk(9, raw<float>({3, 4})))) + node("Mul", {"x", "w"}, {"y"}) + chunk(12, chunk(1, "y"))));
  CHECK(g.inputs.size() == 1);
  Lane lane(compile(g));
  const Tensor x = Tensor::from<float>({2}, {1, 2});
  CHECK(identical(lane.run({{"x", x}})[0], Tensor::from<float>({2}, {3, 8})));
}

TEST_CASE("subgraphs and functions survive the round trip") {
  Folder f;
  const std::string branch = chunk(2, "branch") + node("Neg", {"x"}, {"b"}) + chunk(12, chunk(1, "b"));
  const std::string attribute = chunk(5, chunk(1, "then_branch") + chunk(6, branch) + number(20, 5));
  const std::string function =
      chunk(25, chunk(1, "Twice") + chunk(10, "shop") + chunk(4, "a") + chunk(5, "b") + chunk(6, "gain") +
                    chunk(7, chunk(1, "a") + chunk(1, "a") + chunk(2, "b") + chunk(4, "Add")) + chunk(9, chunk(1, "") + number(2, 17)));
  const std::string bytes =
      model(chunk(11, value("c", 9, {})) + chunk(11, value("x", 1, {2})) + node("If", {"c"}, {"y"}, attribute) + chunk(12, chunk(1, "y")),
            17, function);
  const Graph g = read(bytes, true);
  REQUIRE(g.functions.size() == 1);
  CHECK(g.functions[0].attributes == std::vector<std::string>{"gain"});
  const auto* sub = g.nodes[0].find<std::shared_ptr<Graph>>("then_branch");
  REQUIRE(sub);
  CHECK((*sub)->nodes[0].op == "Neg");
  save(g, f.path / "m.onnx");
  LoadOptions unchecked;
  unchecked.unchecked = true;
  CHECK(equal(g, load(f.path / "m.onnx", unchecked)));
}

TEST_CASE("subgraphs nested beyond reason are refused") {
  std::string graph = node("Neg", {"x"}, {"y"}) + chunk(12, chunk(1, "y"));
  for (int i = 0; i < 60; ++i)
    graph = node("If", {"c"}, {"y"}, chunk(5, chunk(1, "then_branch") + chunk(6, graph) + number(20, 5))) + chunk(12, chunk(1, "y"));
  const std::string text = error_of([&] { read(model(graph), true); });
  CHECK((has(text, "nested more than") || has(text, "not an ONNX file")));
}

TEST_CASE("external data beyond 2 GiB") {
  // A sparse file: the weights sit past the 2 GiB mark, the rest takes no disk.
  Folder f;
  const int64_t offset = int64_t{2300} << 20;
  {
    std::ofstream data(f.path / "w.bin", std::ios::binary);
    data.seekp(offset);
    const float w[2] = {10, 20};
    data.write(reinterpret_cast<const char*>(w), sizeof w);
  }
  if (fs::file_size(f.path / "w.bin") < static_cast<uintmax_t>(offset)) return;
  const auto entry = [](const char* key, const std::string& v) { return chunk(13, chunk(1, key) + chunk(2, v)); };
  const std::string w = number(1, 2) + number(2, 1) + chunk(8, "w") + entry("location", "w.bin") + entry("offset", std::to_string(offset)) +
                        entry("length", "8") + number(14, 1);
  write(f.path / "m.onnx", model(chunk(11, value("x", 1, {2})) + chunk(5, w) + node("Mul", {"x", "w"}, {"y"}) + chunk(12, chunk(1, "y"))));
  Lane lane(compile(load(f.path / "m.onnx")));
  const Tensor x = Tensor::from<float>({2}, {1, 2});
  CHECK(identical(lane.run({{"x", x}})[0], Tensor::from<float>({2}, {10, 40})));
}

TEST_CASE("names missing or odd do no harm") {
  const std::string odd = "a/b:0 \xc3\xa9 \x01";
  const Graph g =
      read(model(chunk(11, value(odd, 1, {2})) + chunk(1, chunk(1, odd) + chunk(2, "y") + chunk(4, "Relu")) + chunk(12, chunk(1, "y"))));
  CHECK(has(label(g, g.nodes[0]), "node #0 (Relu)"));
  Lane lane(compile(g));
  const Tensor x = Tensor::from<float>({2}, {-1, 2});
  CHECK(identical(lane.run({{odd, x}})[0], Tensor::from<float>({2}, {0, 2})));
}

TEST_CASE("random bytes in every place never do worse than an error") {
  const std::string good =
      model(chunk(5, tensor("w", 1, {2, 2}, chunk(9, raw<float>({1, 2, 3, 4})))) + chunk(11, value("x", 1, {3, 2})) +
            node("MatMul", {"x", "w"}, {"h"}) + node("Softmax", {"h"}, {"y"}, chunk(5, chunk(1, "axis") + number(3, 1) + number(20, 2))) +
            chunk(12, value("y", 1, {3, 2})));
  CHECK_NOTHROW(read(good));
  std::mt19937 random(12);
  int errors = 0;
  for (int trial = 0; trial < 3000; ++trial) {
    std::string bytes = good;
    for (int k = 0; k <= trial % 3; ++k) bytes[random() % bytes.size()] = static_cast<char>(random());
    try {
      const Graph g = read(bytes);
      std::vector<Tensor> in;
      int64_t elements = 0;
      for (ValueId v : g.inputs) {
        const auto shape = known_shape(g.values[v].dims);
        if (!shape || g.values[v].dtype == DType::string) throw Error(Category::shape, "open");
        elements += element_count(*shape);
        if (elements > 100000) throw Error(Category::resource, "large");
        in.push_back(Tensor(g.values[v].dtype, *shape));
        std::memset(in.back().data(), 0, in.back().byte_size());
      }
      Lane lane(compile(g, {.threads = 1}));
      lane.run(std::span<const Tensor>(in));
    } catch (const Error&) {
      ++errors;
    }
  }
  CHECK(errors > 1000);
}
