// Attention and rotary embeddings as steps.
#include <array>
#include <cmath>
#include <limits>

#include "steps.hpp"

using namespace test;

TEST_CASE("attention by blocks of keys") {
  std::mt19937_64 random(10);
  for (int trial = 0; trial < 36; ++trial) {
    const int64_t batch = between(random, 1, 2), kv_heads = between(random, 1, 2), group = between(random, 1, 2), heads = kv_heads * group,
                  length = trial % 6 == 0 ? between(random, 100, 300) : between(random, 1, 30),
                  keys = trial % 5 == 0 ? between(random, 257, 600) : between(random, 1, 40), width = between(random, 1, 40),
                  value_width = between(random, 1, 40);
    const bool flat = random() % 2, causal = random() % 3 == 0;
    const int mask = static_cast<int>(random() % 4);  // none, f32 rows x keys, bool by batch, f32 one row
    std::map<std::string, Attribute::Data> attributes;
    if (causal) attributes["is_causal"] = int64_t{1};
    if (random() % 2) attributes["scale"] = 0.37f;
    if (random() % 4 == 0) attributes["softcap"] = 1.3f;
    if (flat) attributes["q_num_heads"] = heads, attributes["kv_num_heads"] = kv_heads;
    const Shape qs = flat ? Shape{batch, length, heads * width} : Shape{batch, heads, length, width},
                ks = flat ? Shape{batch, keys, kv_heads * width} : Shape{batch, kv_heads, keys, width},
                vs = flat ? Shape{batch, keys, kv_heads * value_width} : Shape{batch, kv_heads, keys, value_width};
    Builder b("attention", 23);
    const auto dims = [](const Shape& s) { return Dims(s.begin(), s.end()); };
    std::vector<ValueId> in{b.input("q", DType::f32, dims(qs)), b.input("k", DType::f32, dims(ks)), b.input("v", DType::f32, dims(vs))};
    std::vector<Tensor> fed{random_tensor(qs, trial, -2, 2), random_tensor(ks, trial + 100, -2, 2), random_tensor(vs, trial + 200)};
    if (mask == 1 || mask == 3) {
      const Shape ms{mask == 1 ? length : 1, keys};
      Tensor m = random_tensor(ms, trial + 300);
      if (keys > 2) m.as<float>()[1] = -std::numeric_limits<float>::infinity();
      in.push_back(b.input("m", DType::f32, dims(ms)));
      fed.push_back(m);
    } else if (mask == 2) {
      const Shape ms{batch, 1, length, keys};
      Tensor m(DType::boolean, ms);
      for (bool& v : m.as<bool>()) v = random() % 4 != 0;
      in.push_back(b.input("m", DType::boolean, dims(ms)));
      fed.push_back(m);
    }
    b.output(b.op("Attention", in, attributes), "y");
    const Graph g = b.finish();
    REQUIRE(has(step_kinds(g), "attention"));
    everywhere(g, [&](const Graph& graph, const CompileOptions& o) { check_against_plain(graph, fed, o); });
  }
}

TEST_CASE("attention: NaN, infinity and rows that see nothing") {
  Builder b("attention", 23);
  const ValueId q = b.input("q", DType::f32, {1, 1, 4, 8}), k = b.input("k", DType::f32, {1, 1, 300, 8}),
                v = b.input("v", DType::f32, {1, 1, 300, 8});
  const ValueId m = b.input("m", DType::boolean, {4, 300});
  b.output(b.op("Attention", {q, k, v, m}), "y");
  const Graph g = b.finish();
  std::vector<Tensor> in{random_tensor({1, 1, 4, 8}, 1), random_tensor({1, 1, 300, 8}, 2), random_tensor({1, 1, 300, 8}, 3),
                         Tensor(DType::boolean, {4, 300})};
  for (int64_t i = 0; i < 4 * 300; ++i)
    in[3].as<bool>()[static_cast<size_t>(i)] = i / 300 != 1 && !(i / 300 == 3 && i % 300 < 280);  // row 1 sees nothing
  in[0].as<float>()[0] = std::numeric_limits<float>::quiet_NaN();                                 // row 0
  everywhere(g, [&](const Graph& graph, const CompileOptions& o) {
    Lane lane(compile(graph, o));
    const Outputs out = lane.run(std::span<const Tensor>(in));
    const auto y = out["y"].as<float>();
    for (int i = 0; i < 8; ++i) {
      CHECK(std::isnan(y[i]));
      CHECK(y[8 + i] == 0);
      CHECK(std::isfinite(y[16 + i]));
      CHECK(std::isfinite(y[24 + i]));
    }
    check_against_plain(graph, in, o);
  });
}

TEST_CASE("memory of attention is linear in the length") {
  const auto arena = [](int64_t length) {
    Builder b("attention", 23);
    std::vector<ValueId> in;
    for (const char* name : {"q", "k", "v"}) in.push_back(b.input(name, DType::f32, {1, 4, length, 64}));
    b.output(b.op("Attention", in), "y");
    return compile(b.finish(), {.threads = 2}).describe().arena_bytes;
  };
  CHECK(arena(8192) < 2 * arena(2048));
  CHECK(arena(8192) < size_t{8} << 20);  // a matrix of scores would take 1 GiB
}
