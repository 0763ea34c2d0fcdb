// Builds a graph in code, saves it as ONNX, reads it back and runs it.
#include <lathe/lathe.hpp>

#include <cstdio>

int main(int argc, char** argv) {
  if (argc != 2) {
    std::fprintf(stderr, "usage: build_graph OUT.onnx\n");
    return 2;
  }
  try {
    lathe::Builder b("two_layers");
    const auto x = b.input("x", lathe::DType::f32, {"batch", 2});
    const auto w1 = b.constant("w1", lathe::Tensor::from<float>({2, 2}, {1, -1, -1, 1}));
    const auto w2 = b.constant("w2", lathe::Tensor::from<float>({2, 1}, {1, 1}));
    const auto hidden = b.op("Relu", {b.op("MatMul", {x, w1})});
    b.output(b.op("MatMul", {hidden, w2}), "distance");  // |x0 - x1|
    b.metadata("note", "the distance between two numbers");
    const lathe::Graph graph = b.finish();
    lathe::save(graph, argv[1]);
    const lathe::Graph back = lathe::load(argv[1]);
    std::printf("written to %s, read back: %s\n", argv[1], lathe::equal(graph, back) ? "equal" : "DIFFERENT");
    lathe::Lane lane(lathe::compile(back));
    const auto pairs = lathe::Tensor::from<float>({3, 2}, {3, 5, 7, 1, 2, 2});
    const lathe::Outputs out = lane.run({{"x", pairs}});
    for (float v : out["distance"].as<float>()) std::printf("%g\n", v);
  } catch (const lathe::Error& e) {
    std::fprintf(stderr, "%s\n", e.what());
    return 1;
  }
}
