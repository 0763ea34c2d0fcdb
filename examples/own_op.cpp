// Registers an operator of one's own, builds a model with it, and runs it plainly and compiled.
#include <cstdio>

#include "contrast_op.hpp"

int main(int argc, char** argv) {
  if (argc != 2) {
    std::fprintf(stderr, "usage: own_op OUT.onnx\n");
    return 2;
  }
  try {
    lathe::register_op(alder::contrast_op());
    lathe::Builder b("sharpen");
    b.import_domain("alder", 1);
    const auto x = b.input("x", lathe::DType::f32, {"rows", 4});
    b.output(b.op("Relu", {b.op("alder::Contrast", {x}, {{"gain", 2.0f}})}), "y");
    const lathe::Graph graph = b.finish();
    lathe::save(graph, argv[1]);

    const auto rows = lathe::Tensor::from<float>({2, 4}, {1, 2, 3, 4, 10, 10, 10, 20});
    const auto expected = lathe::evaluate_plain(graph, std::span(&rows, 1));
    lathe::Lane lane(lathe::compile(graph));
    const lathe::Outputs out = lane.run({{"x", rows}});
    for (float v : out["y"].as<float>()) std::printf("%g ", v);
    std::printf("\nplain and fast: %s\n", lathe::identical(expected[0], out["y"]) ? "agree" : "DIFFER");
  } catch (const lathe::Error& e) {
    std::fprintf(stderr, "%s\n", e.what());
    return 1;
  }
}
