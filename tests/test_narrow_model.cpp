// Weights kept in fewer bits: forms, sizes, rounding, what is left, what is refused.
#include <array>
#include <cmath>

#include "support.hpp"

using namespace test;

using Data = Attribute::Data;

namespace {

// A table, a product, a Gemm that transposes, a convolution's worth of everything that has weights.
Graph all_kinds() {
  Builder b("kinds", 17);
  const auto at = b.input("at", DType::i64, {6});
  auto y = b.op("Gather", {b.constant("table", random_tensor({50, 96}, 1)), at});
  y = b.op("MatMul", {y, b.constant("first", random_tensor({96, 128}, 2, -0.2f, 0.2f))}, {});
  y = b.op("Relu", {y});
  y = b.op("Gemm", {y, b.constant("second", random_tensor({64, 128}, 3, -0.1f, 0.3f)), b.constant("bias", random_tensor({64}, 4))},
           {{"transB", int64_t{1}}});
  y = b.op("Reshape", {y, b.constant("shape", Tensor::from<int64_t>({4}, {1, 6, 8, 8}))});
  y = b.op("Conv", {y, b.constant("filters", random_tensor({32, 6, 3, 3}, 5, -0.3f, 0.3f))});
  b.output(y, "y");
  return b.finish();
}

std::vector<Tensor> run(const Graph& g, const std::vector<Tensor>& in) {
  Lane lane(compile(g, {.threads = 2}));
  const Outputs out = lane.run(std::span<const Tensor>(in));
  return {out[0]};
}

}  // namespace

TEST_CASE("a model with narrow weights is the open form, gives nearly the same, and takes fewer bytes") {
  const Graph wide = all_kinds();
  const std::vector<Tensor> in{Tensor::from<int64_t>({6}, {0, 7, 49, 3, 3, -1})};
  const Tensor expected = run(wide, in)[0];
  struct Form {
    DType weights;
    int64_t block;
    double apart, share;  // of the largest result; of the bytes
    size_t narrowed;
  };
  for (const Form& form : {Form{DType::f16, 0, 2e-3, 0.52, 4}, Form{DType::bf16, 0, 2e-2, 0.52, 4}, Form{DType::i8, 0, 2e-2, 0.30, 4},
                           Form{DType::u8, 0, 2e-2, 0.31, 4}, Form{DType::i8, 32, 2e-2, 0.40, 4}, Form{DType::i4, 0, 0.35, 0.30, 3},
                           Form{DType::u4, 16, 0.35, 0.36, 3}}) {
    CAPTURE(to_string(form.weights));
    CAPTURE(form.block);
    Graph g = wide;
    const NarrowReport r = narrow_model(g, {.weights = form.weights, .block = form.block});
    CHECK(r.weights.size() == form.narrowed);
    CHECK(static_cast<double>(r.bytes_after) <= form.share * static_cast<double>(r.bytes_before));
    for (const NarrowedWeights& w : r.weights) CHECK(w.signal_to_noise > (bit_width(form.weights) == 4 ? 15 : 35));
    // Through a file, as any reader of the standard sees it; the compiled form against plain evaluation.
    const Folder f;
    save(g, f.path / "narrow.onnx");
    const Graph back = load(f.path / "narrow.onnx");
    CHECK(examine_file(f.path / "narrow.onnx").empty());
    check_against_plain(back, in, {.threads = 2});
    const Tensor got = run(back, in)[0];
    double most = 0, apart = 0;
    for (int64_t i = 0; i < got.size(); ++i) {
      most = std::max(most, std::fabs(static_cast<double>(expected.as<float>()[i])));
      apart = std::max(apart, std::fabs(static_cast<double>(expected.as<float>()[i]) - got.as<float>()[i]));
    }
    CHECK(apart > 0);
    CHECK(apart <= form.apart * most);
  }
}

TEST_CASE("numbers are rounded to the nearest, half a scale away at most; zero stays zero") {
  for (const DType type : {DType::i8, DType::u8, DType::i4, DType::u4}) {
    CAPTURE(to_string(type));
    Builder b("one", 21);
    Tensor w = random_tensor({64, 40}, 9, type == DType::u8 ? 0.5f : -1, 2);
    for (int64_t i = 0; i < 64; i += 3) w.as<float>()[i * 40 + 5] = 0;
    std::fill_n(w.as<float>().data() + 7, 1, 0.0f);
    b.output(b.op("MatMul", {b.input("x", DType::f32, {64, 64}), b.constant("w", w)}), "y");
    Graph g = b.finish();
    narrow_model(g, {.weights = type, .block = 32});
    Tensor identity(DType::f32, {64, 64});
    std::fill_n(identity.as<float>().data(), 64 * 64, 0.0f);
    for (int64_t i = 0; i < 64; ++i) identity.as<float>()[i * 65] = 1;
    const Tensor back = evaluate_plain(g, std::vector<Tensor>{identity})[0];
    const double steps = std::ldexp(1.0, bit_width(type)) - 1;
    for (int64_t i = 0; i < w.size(); ++i) {
      const double x = w.as<float>()[i], y = back.as<float>()[i];
      CHECK(std::fabs(x - y) <= 0.51 * 4.0 / (steps - 1));
      if (x == 0) CHECK(y == 0);
    }
  }
}

TEST_CASE("what stays wide is said: too small, shared, beyond the type, asked for; and what is refused") {
  Builder b("left", 17);
  const auto x = b.input("x", DType::f32, {2, 64});
  Tensor large = random_tensor({64, 64}, 1);
  large.as<float>()[5] = 1e6f;
  auto y = b.op("MatMul", {x, b.constant("large", large)});
  const auto both = b.constant("both", random_tensor({64, 64}, 2));
  y = b.op("Add", {b.op("MatMul", {y, both}), b.op("Gather", {both, b.constant("row", Tensor::from<int64_t>({2}, {3, 4}))})});
  b.output(b.op("MatMul", {y, b.constant("last", random_tensor({64, 64}, 3))}, {}, "last"), "out");
  const Graph wide = b.finish();
  Graph g = wide;
  const NarrowReport half = narrow_model(g, {.weights = DType::f16});
  CHECK(half.weights.size() == 2);
  REQUIRE(half.left.size() == 1);
  CHECK(has(half.left[0].second, "beyond the largest f16"));
  g = wide;
  const NarrowReport bytes = narrow_model(g, {.weights = DType::i8, .leave = {}});
  CHECK(bytes.weights.size() == 2);
  CHECK(has(bytes.left.at(0).second, "different axes"));
  g = wide;
  const auto refused = [&](const NarrowOptions& o) { return error_of([&] { narrow_model(g, o); }); };
  CHECK(has(refused({.weights = DType::i16}), "cannot be kept as i16"));
  CHECK(has(refused({.weights = DType::i8, .block = 7}), "out of range"));
  CHECK(has(refused({.weights = DType::f16, .block = 32}), "no blocks"));
  CHECK(has(refused({.leave = {"lsat"}}), "no node is named 'lsat'"));
  CHECK(has(refused({.least = 1 << 20}), "no weights to narrow"));
  CHECK(equal(g, wide));
  // Twice: there is nothing left to narrow.
  narrow_model(g, {.weights = DType::bf16});
  CHECK(has(refused({.weights = DType::bf16}), "no weights to narrow"));
}

TEST_CASE("weights of subgraphs become narrow too: a branch's own, captured ones, those that both read, nested ones") {
  const auto branch = [](const char* name, uint32_t seed, bool nested) {
    Builder b(name, 21);
    auto y = b.op("MatMul", {b.outer("x"), b.constant("own", random_tensor({48, 64}, seed, -0.3f, 0.3f))});
    if (nested) {
      Builder inner("inner", 21), other("other", 21);
      inner.output(inner.op("MatMul", {inner.outer("h"), inner.outer("shared")}), "inner_y");
      other.output(other.op("Neg", {other.outer("h")}), "other_y");
      b.op("Tanh", {y}, {}, "h");
      y = b.op("If", {b.outer("deeper")}, {{"then_branch", Data(inner.finish_body())}, {"else_branch", Data(other.finish_body())}});
    } else {
      y = b.op("MatMul", {y, b.outer("shared")});
    }
    y = b.op("MatMul", {y, b.outer("everywhere")});
    b.output(b.op("Add", {y, b.op("MatMul", {y, b.outer("alone")})}), std::string(name) + "_y");
    return b.finish_body();
  };
  Builder b("decides", 21);
  const auto x = b.input("x", DType::f32, {5, 48}), flag = b.input("flag", DType::boolean, {});
  b.input("deeper", DType::boolean, {});
  b.constant("shared", random_tensor({64, 64}, 11, -0.3f, 0.3f));
  b.constant("alone", random_tensor({64, 64}, 12, -0.3f, 0.3f));
  const auto everywhere = b.constant("everywhere", random_tensor({64, 64}, 13, -0.3f, 0.3f));
  const auto y = b.op("If", {flag}, {{"then_branch", Data(branch("yes", 1, true))}, {"else_branch", Data(branch("no", 2, false))}});
  b.output(b.op("MatMul", {y, everywhere}), "z");
  (void)x;
  const Graph wide = b.finish();
  const auto all = [](const Graph& g, const auto& narrowing) {
    Graph narrow = g;
    const NarrowReport r = narrowing(narrow);
    const Folder f;
    save(narrow, f.path / "narrow.onnx");
    CHECK(examine_file(f.path / "narrow.onnx").empty());
    return std::pair{load(f.path / "narrow.onnx"), r};
  };
  struct Form {
    DType type;
    bool whole;
    double share, apart;
  };
  for (const Form& form : {Form{DType::f16, false, 0.51, 4e-3}, Form{DType::i8, false, 0.28, 4e-2}, Form{DType::u4, false, 0.21, 0.5},
                           Form{DType::f16, true, 0.51, 6e-3}, Form{DType::bf16, true, 0.51, 5e-2}}) {
    CAPTURE(to_string(form.type));
    CAPTURE(form.whole);
    const auto [narrow, r] =
        all(wide, [&](Graph& g) { return form.whole ? halve_model(g, form.type) : narrow_model(g, {.weights = form.type}); });
    CHECK(r.left.empty());
    // Two of the branches' own, one that both read, one that they read further in, one that is read in all graphs.
    if (!form.whole) CHECK(r.weights.size() == 5);
    CHECK(static_cast<double>(r.bytes_after) < form.share * static_cast<double>(r.bytes_before));
    for (const auto& [flagged, deeper] : {std::pair{true, true}, {true, false}, {false, false}}) {
      const std::vector<Tensor> in{random_tensor({5, 48}, 3), Tensor::from<bool>({}, {flagged}), Tensor::from<bool>({}, {deeper})};
      const Tensor expected = evaluate_plain(wide, in)[0];
      if (!form.whole) check_against_plain(narrow, in, {.threads = 2});
      const Tensor got = run(narrow, in)[0];
      double most = 0, apart = 0;
      for (size_t i = 0; i < static_cast<size_t>(got.size()); ++i) {
        most = std::max(most, std::fabs(static_cast<double>(expected.as<float>()[i])));
        apart = std::max(apart, std::fabs(static_cast<double>(expected.as<float>()[i]) - static_cast<double>(got.as<float>()[i])));
      }
      CHECK(apart > 0);
      CHECK(apart <= form.apart * most);
    }
  }
  // One that is left by its reader's name, and one that a subgraph hands out.
  Graph g = wide;
  std::string name;
  for (const Node& n : g.nodes) {
    n.each_subgraph([&](const std::shared_ptr<Graph>& sub) { sub->nodes[0].name = name = "first_product"; });
  }
  const NarrowReport r = narrow_model(g, {.leave = {name}});
  CHECK(r.left == std::vector<std::pair<std::string, std::string>>{{name, "it was asked to be left"}, {name, "it was asked to be left"}});
  CHECK(r.weights.size() == 3);
}

TEST_CASE("a loop's weights become narrow where they are read, and its program keeps them so") {
  Builder body("body", 21);
  body.input("i", DType::i64, {});
  const auto going = body.input("going", DType::boolean, {}), h = body.input("h", DType::f32, Dims{1, 256});
  body.output(body.op("Identity", {going}), "on");
  body.output(body.op("Tanh", {body.op("MatMul", {h, body.outer("w")})}), "next");
  Builder b("loop", 21);
  const auto trips = b.input("trips", DType::i64, {});
  b.constant("w", random_tensor({256, 256}, 5, -0.1f, 0.1f));
  b.output(b.op("Loop", {trips, kAbsent, b.input("h0", DType::f32, Dims{1, 256})}, {{"body", Data(body.finish_body())}}), "end");
  Graph g = b.finish();
  const NarrowReport r = narrow_model(g, {.weights = DType::i4, .block = 64});
  CHECK(r.bytes_after * 6 < r.bytes_before);
  const std::vector<Tensor> in{Tensor::from<int64_t>({}, {7}), random_tensor({1, 256}, 6)};
  check_against_plain(g, in, {.threads = 2});
}
