// Classifies every picture of a folder and counts what was found. Labels, mean and scale travel in the model's metadata.
#include <lathe/lathe.hpp>

#include <algorithm>
#include <cstdio>
#include <map>

int main(int argc, char** argv) {
  if (argc != 3) {
    std::fprintf(stderr, "usage: classify_folder MODEL.onnx FOLDER\n");
    return 2;
  }
  try {
    const lathe::Program program = lathe::compile(lathe::load(argv[1]), {.dims = {{"batch", 1}}});
    lathe::Lane lane(program);
    const auto labels = lathe::labels_in(program.metadata());
    const lathe::PictureOptions picture = lathe::picture_options({}, program, program.bound_shapes()[0]);
    std::map<std::string, int> found;
    int pictures = 0;
    for (const std::filesystem::path& file : lathe::list_pictures({argv[2]})) {
      const lathe::Tensor input = lathe::picture_to_tensor(lathe::read_picture(file), picture);
      const lathe::Outputs out = lane.run({{"image", input}});
      const auto p = out["species"].as<float>();
      ++found[labels.at(static_cast<size_t>(std::max_element(p.begin(), p.end()) - p.begin()))];
      ++pictures;
    }
    for (const auto& [label, n] : found) std::printf("%-8s %4d\n", label.c_str(), n);
    std::printf("%d pictures\n", pictures);
  } catch (const std::exception& e) {
    std::fprintf(stderr, "%s\n", e.what());
    return 1;
  }
}
