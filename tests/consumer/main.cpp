// A project that knows only the installed headers and library.
#include <lathe/lathe.hpp>

#include <cstdio>

int main(int argc, char** argv) {
  if (argc != 2) return 2;
  try {
    lathe::Lane lane(lathe::compile(lathe::load(argv[1]), {.threads = 1, .dims = {{"batch", 1}}}));
    lathe::Tensor image(lathe::DType::f32, {1, 3, 64, 64});
    for (float& v : image.as<float>()) v = 0.25f;
    const lathe::Outputs out = lane.run({{"image", image}});
    float sum = 0;
    for (float p : out["species"].as<float>()) sum += p;
    std::printf("probabilities add up to %.3f\n", sum);
    return sum > 0.999f && sum < 1.001f ? 0 : 1;
  } catch (const lathe::Error& e) {
    std::printf("%s\n", e.what());
    return 1;
  }
}
