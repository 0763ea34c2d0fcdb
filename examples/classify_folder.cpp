// Classifies every picture of a folder and counts what was found. Labels, mean and scale travel in the model's metadata.
#include <lathe/lathe.hpp>

#include <algorithm>
#include <cstdio>
#include <map>
#include <sstream>

namespace {

std::vector<std::string> split(const std::string& text) {
  std::vector<std::string> out;
  std::istringstream in(text);
  for (std::string part; std::getline(in, part, ',');) out.push_back(part);
  return out;
}

std::vector<float> numbers(const std::string& text) {
  std::vector<float> out;
  for (const std::string& part : split(text)) out.push_back(std::stof(part));
  return out;
}

}  // namespace

int main(int argc, char** argv) {
  if (argc != 3) {
    std::fprintf(stderr, "usage: classify_folder MODEL.onnx FOLDER\n");
    return 2;
  }
  try {
    const lathe::Program program = lathe::compile(lathe::load(argv[1]), {.dims = {{"batch", 1}}});
    lathe::Lane lane(program);
    const auto labels = split(program.metadata().at("labels"));
    lathe::PictureOptions picture;
    picture.height = program.bound_shapes()[0][2];
    picture.width = program.bound_shapes()[0][3];
    picture.mean = numbers(program.metadata().at("mean"));
    picture.scale = numbers(program.metadata().at("scale"));
    std::map<std::string, int> found;
    int pictures = 0;
    for (const auto& entry : std::filesystem::directory_iterator(argv[2])) {
      const lathe::Tensor input = lathe::picture_to_tensor(lathe::read_picture(entry.path()), picture);
      const lathe::Outputs out = lane.run({{"image", input}});
      const auto p = out["species"].as<float>();
      ++found[labels.at(std::max_element(p.begin(), p.end()) - p.begin())];
      ++pictures;
    }
    for (const auto& [label, n] : found) std::printf("%-8s %4d\n", label.c_str(), n);
    std::printf("%d pictures\n", pictures);
  } catch (const std::exception& e) {
    std::fprintf(stderr, "%s\n", e.what());
    return 1;
  }
}
