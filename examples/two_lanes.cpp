// One program, two lanes, two threads: each lane has its own arena and crew, the weights are shared.
#include <lathe/lathe.hpp>

#include <cstdio>
#include <thread>

int main(int argc, char** argv) {
  if (argc != 2) {
    std::fprintf(stderr, "usage: two_lanes MODEL.onnx\n");
    return 2;
  }
  try {
    const lathe::Program program = lathe::compile(lathe::load(argv[1]), {.threads = 1, .dims = {{"batch", 1}}});
    const auto inputs = lathe::random_inputs(program, program.bound_shapes(), 7);
    lathe::Tensor results[2];
    const auto work = [&](int index) {
      lathe::Lane lane(program);
      for (int i = 0; i < 50; ++i) lane.run(std::span<const lathe::Tensor>(inputs));
      results[index] = lane.run(std::span<const lathe::Tensor>(inputs))[0].clone();
    };
    { std::jthread first(work, 0), second(work, 1); }
    std::printf("%s\n", lathe::identical(results[0], results[1]) ? "both lanes agree, bit for bit" : "the lanes DIFFER");
  } catch (const lathe::Error& e) {
    std::fprintf(stderr, "%s\n", e.what());
    return 1;
  }
}
