// Load, compile, run, print: the least a program needs.
#include <lathe/lathe.hpp>

#include <cstdio>

int main(int argc, char** argv) {
  if (argc != 2) {
    std::fprintf(stderr, "usage: quickstart MODEL.onnx\n");
    return 2;
  }
  try {
    lathe::Graph graph = lathe::load(argv[1]);
    const lathe::Program program = lathe::compile(std::move(graph), {.dims = {{"batch", 1}}});
    lathe::Lane lane(program);
    // Any tensor will do here; see classify_folder for real pictures.
    const auto inputs = lathe::random_inputs(program, program.bound_shapes(), 1);
    const lathe::Outputs out = lane.run({{program.inputs()[0].name, inputs[0]}});
    for (size_t i = 0; i < out.size(); ++i) {
      std::printf("%s (%s):", out.name(i).c_str(), lathe::to_string(out[i].shape()).c_str());
      for (float v : out[i].as<float>()) std::printf(" %.4f", v);
      std::printf("\n");
    }
  } catch (const lathe::Error& e) {
    std::fprintf(stderr, "%s\n", e.what());
    return 1;
  }
}
