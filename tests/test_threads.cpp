// What is promised of threads: the same bits whatever their number, for every kind of step that shares its work out.
#include "support.hpp"

using namespace test;

namespace {

using Ints = std::vector<int64_t>;
using Attributes = std::map<std::string, Attribute::Data>;

class Sizes {
 public:
  explicit Sizes(uint64_t seed) : random_(seed) {}
  int64_t from(int64_t low, int64_t high) { return low + static_cast<int64_t>(random_() % static_cast<uint64_t>(high - low + 1)); }
  bool one_in(int64_t n) { return from(1, n) == 1; }

 private:
  std::mt19937_64 random_;
};

// A graph of one op, with tensors to feed and weights as constants.
struct One {
  Builder b{"one", 23};
  std::vector<Tensor> fed;

  ValueId feed(const Shape& s) {
    fed.push_back(random_tensor(s, 40 + fed.size()));
    return b.input("x" + std::to_string(fed.size()), DType::f32, Dims(s.begin(), s.end()));
  }
  ValueId weight(const std::string& name, const Shape& s) { return b.constant(name, random_tensor(s, std::hash<std::string>()(name))); }
  void out(const std::string& op, const std::vector<ValueId>& in, const Attributes& a = {}) { b.output(b.op(op, in, a), "y"); }
};

void same_bits(One& one) {
  const Graph g = one.b.finish();
  for (const std::string& isa : machine_info().isas) {
    if (isa == "scalar") continue;  // the same source as the others, and slow
    CAPTURE(isa);
    std::vector<Tensor> first;
    for (const int threads : {1, 2, 3, 5}) {
      CAPTURE(threads);
      Lane lane(compile(g, {.threads = threads, .isa = isa}));
      const Outputs out = lane.run(std::span<const Tensor>(one.fed));
      if (first.empty()) {
        for (size_t i = 0; i < out.size(); ++i) first.push_back(out[i].clone());
        continue;
      }
      for (size_t i = 0; i < out.size(); ++i) {
        INFO(g.nodes[0].op, " ", to_string(one.fed[0].shape()), " -> ", to_string(out[i].shape()));
        CHECK(identical(first[i], out[i]));
      }
    }
  }
}

}  // namespace

TEST_CASE("the same bits whatever the number of threads: products") {
  for (uint64_t seed = 0; seed < 60; ++seed) {
    Sizes s(seed);
    CAPTURE(seed);
    // Few rows and many, long sums and short ones, weights that fit L2 and such as do not.
    const int64_t m = s.one_in(2) ? s.from(1, 20) : s.from(21, 130), k = s.one_in(4) ? s.from(2000, 9000) : s.from(1, 700),
                  n = s.one_in(4) ? s.from(1, 40) : s.from(41, 300);
    One one;
    const ValueId a = one.feed({m, k});
    if (s.one_in(3)) one.out("Gemm", {a, one.weight("w", {n, k}), one.weight("c", {n})}, {{"transB", int64_t{1}}});
    else one.out("MatMul", {a, s.one_in(3) ? one.feed({k, n}) : one.weight("w", {k, n})});
    same_bits(one);
  }
  for (uint64_t seed = 0; seed < 15; ++seed) {  // batches of them
    Sizes s(seed);
    One one;
    const int64_t batch = s.from(1, 9), m = s.from(1, 60), k = s.from(1, 90), n = s.from(1, 90);
    one.out("MatMul", {one.feed({batch, m, k}), one.feed({batch, k, n})});
    same_bits(one);
  }
}

TEST_CASE("the same bits whatever the number of threads: windows") {
  for (uint64_t seed = 0; seed < 60; ++seed) {
    Sizes s(seed);
    CAPTURE(seed);
    const int64_t kind = s.from(0, 5), side = s.from(6, 40), kernel = s.from(1, 5), stride = s.from(1, 2), batch = s.from(1, 3);
    const int64_t groups = kind == 0 ? s.from(2, 50) : kind == 1 ? s.from(2, 9) : 1;
    const int64_t channels = kind == 0 ? 1 : kind == 1 ? int64_t{1} << s.from(1, 4) : kind == 2 ? 3 : s.from(8, 70);
    const int64_t filters = kind <= 1 ? channels : s.from(8, 90);
    const Ints pads(4, kernel / 2), strides{stride, stride};
    One one;
    const ValueId x = one.feed({batch, channels * groups, side, side});
    if (kind == 5) {
      one.out("ConvTranspose", {x, one.weight("w", {channels, filters, kernel, kernel})}, {{"strides", strides}});
    } else if (kind == 4) {
      one.out(s.one_in(2) ? "MaxPool" : "AveragePool", {x}, {{"kernel_shape", Ints{kernel, kernel}}, {"strides", strides}, {"pads", pads}});
    } else {
      one.out("Conv", {x, one.weight("w", {filters * groups, channels, kernel, kernel}), one.weight("b", {filters * groups})},
              {{"strides", strides}, {"pads", pads}, {"group", groups}});
    }
    same_bits(one);
  }
}

TEST_CASE("the same bits whatever the number of threads: attention") {
  for (uint64_t seed = 0; seed < 40; ++seed) {
    Sizes s(seed);
    CAPTURE(seed);
    const int64_t heads = s.from(1, 3), rows = s.one_in(3) ? s.from(1, 9) : s.from(10, 260), keys = s.one_in(2) ? rows : s.from(1, 300),
                  width = s.from(4, 40);
    One one;
    std::vector<ValueId> in{one.feed({1, heads, rows, width}), one.feed({1, heads, keys, width}), one.feed({1, heads, keys, width})};
    one.out("Attention", in, {{"is_causal", s.from(0, 1)}});
    same_bits(one);
  }
}

TEST_CASE("the same bits whatever the number of threads: rows, chains, movement and recurrent layers") {
  for (uint64_t seed = 0; seed < 20; ++seed) {
    Sizes s(seed);
    CAPTURE(seed);
    const int64_t rows = s.from(1, 90), length = s.from(1, 700);
    for (const char* op : {"Softmax", "LogSoftmax", "ReduceSum", "ReduceMax", "ReduceMean", "ReduceL2"}) {
      One one;
      const ValueId x = one.feed({rows, length});
      if (std::string(op).starts_with("Reduce")) {
        const int64_t axis = s.from(0, 1);
        one.out(op, {x, one.b.constant("axes", Tensor::from<int64_t>({1}, {axis}))});
      } else {
        one.out(op, {x}, {{"axis", int64_t{-1}}});
      }
      same_bits(one);
    }
    {
      One one;
      const ValueId x = one.feed({rows, length});
      one.out("LayerNormalization", {x, one.weight("scale", {length}), one.weight("shift", {length})});
      same_bits(one);
    }
    {
      One one;
      const ValueId x = one.feed({rows, length}), y = one.feed({rows, 1});
      one.b.output(one.b.op("Tanh", {one.b.op("Mul", {one.b.op("Sigmoid", {one.b.op("Add", {x, y})}), x})}), "y");
      one.b.output(one.b.op("Transpose", {x}), "t");
      same_bits(one);
    }
    if (seed < 8) {
      One one;
      const int64_t steps = s.from(1, 12), batch = s.from(1, 20), in = s.from(1, 60), hidden = s.from(1, 160);
      one.out("LSTM",
              {one.feed({steps, batch, in}), one.weight("w", {1, 4 * hidden, in}), one.weight("r", {1, 4 * hidden, hidden}),
               one.weight("b", {1, 8 * hidden})},
              {{"hidden_size", hidden}});
      same_bits(one);
    }
  }
}

TEST_CASE("the same bits whatever the number of threads: what stands before products, and parts of larger values") {
  for (uint64_t seed = 0; seed < 40; ++seed) {
    Sizes s(seed);
    CAPTURE(seed);
    // Rows made in blocks for each task, or all of them first; longer than the kernel takes in one go, too.
    const int64_t m = s.one_in(3) ? s.from(1, 20) : s.from(21, 500), k = s.one_in(4) ? s.from(641, 1500) : s.from(48, 400),
                  n = s.one_in(3) ? s.from(300, 900) : s.from(1, 120);
    One one;
    const ValueId scaled = one.b.op("Mul", {one.feed({m, k}), one.weight("scale", {k})});
    const ValueId made = one.b.op("Sigmoid", {one.b.op("Add", {scaled, one.weight("shift", {k})})});
    one.out("Gemm", {made, one.weight("w", {k, n}), one.weight("c", {n})});
    same_bits(one);
  }
  for (uint64_t seed = 0; seed < 12; ++seed) {
    Sizes s(seed);
    CAPTURE(seed);
    const int64_t side = s.from(3, 20), channels = s.from(8, 40), batch = s.from(1, 2);
    const Ints pads{1, 1, 1, 1};
    One one;
    ValueId all = one.feed({batch, channels, side, side});
    for (int64_t layer = 0; layer < 3; ++layer) {
      const int64_t wide = channels + 16 * layer;
      const std::string name = std::to_string(layer);
      const ValueId before = one.b.op("Relu", {one.b.op("Mul", {all, one.weight("s" + name, {wide, 1, 1})})});
      const ValueId narrow = one.b.op("Conv", {before, one.weight("n" + name, {24, wide, 1, 1})});
      const ValueId fresh = one.b.op("Conv", {narrow, one.weight("w" + name, {16, 24, 3, 3})}, {{"pads", pads}});
      all = one.b.op("Concat", {all, fresh}, {{"axis", int64_t{1}}});
    }
    one.out("MaxPool", {all}, {{"kernel_shape", Ints{2, 2}}});
    same_bits(one);
  }
}
