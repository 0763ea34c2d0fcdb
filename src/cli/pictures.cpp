// Options about pictures as inputs.
#include "pictures.hpp"

#include <fstream>

namespace lathe::cli {

namespace fs = std::filesystem;

void PictureFlags::add_to(CLI::App& app) {
  app.add_option("--size", size, "Resize pictures to HEIGHTxWIDTH where the model leaves it open");
  app.add_option(
         "--fit", fit,
         "Pictures of other proportions: stretch them, pad them, crop the middle, or keep their size (the model's metadata, or stretch)")
      ->check(CLI::IsMember({"stretch", "pad", "crop", "keep"}));
  app.add_option("--mean", mean, "Subtracted from pixels (0..255): one value or one a channel (the model's metadata, or 0)")
      ->type_name("A[,B,C]");
  app.add_option("--scale", scale, "Pixels are multiplied by this after the mean (the model's metadata, or 1)")->type_name("A[,B,C]");
  app.add_flag("--bgr", bgr, "The model wants blue first");
  app.add_flag("--antialias", antialias, "Pixels of smaller pictures are means of what they cover");
  app.add_option("--labels", labels, "File with one label a line (the model's metadata)")->type_name("FILE");
}

PictureSettings PictureFlags::settings() const {
  PictureSettings p;
  if (!size.empty()) {
    const auto hw = split(size, 'x');
    if (hw.size() != 2) throw UsageError(fmt::format("--size: '{}' is not HEIGHTxWIDTH", size));
    for (size_t i = 0; i < 2; ++i) {
      const int64_t n = parse_size(hw[i], "--size");
      if (n < 1 || n > 65536) throw UsageError(fmt::format("--size: '{}' is out of range (1 to 65536)", size));
      (i == 0 ? p.height : p.width) = n;
    }
  }
  if (!fit.empty()) p.fit = parse_fit(fit);
  p.mean = number_list(mean, "--mean");
  p.scale = number_list(scale, "--scale");
  p.bgr = bgr;
  p.antialias = antialias;
  return p;
}

std::vector<std::string> PictureFlags::labels_of(const std::map<std::string, std::string>& metadata) const {
  if (labels.empty()) return labels_in(metadata);
  if (!fs::exists(labels)) throw UsageError(fmt::format("--labels: {}: no such file", labels));
  std::vector<std::string> out;
  std::ifstream in(labels);
  for (std::string line; std::getline(in, line);) {
    if (!line.empty() && line.back() == '\r') line.pop_back();
    out.push_back(line);
  }
  return out;
}

Shape PictureFlags::shape_for(const ModelOptions& model, const Program& program, const CompileOptions& options,
                              const fs::path& first) const {
  const Port& port = program.inputs().at(0);
  Dims dims = port.dims.value_or(Dims());
  CompileOptions with = options;
  if (const auto it = options.shapes.find(port.name); it != options.shapes.end()) dims = Dims(it->second.begin(), it->second.end());
  for (Dim& d : dims) {
    if (const auto it = options.dims.find(d.symbol); !d.known() && it != options.dims.end()) d = it->second;
  }
  const Shape shape = [&] {
    try {
      return picture_shape(settings(), program, dims, model.batch, first);
    } catch (const Error& e) {
      if (!size.empty() && e.category() == Category::value) throw UsageError(fmt::format("--size: {}", e.what()));
      throw;
    }
  }();
  // An archive without its graph runs the shapes it holds, one with it any.
  if (!(model.archived() && !known_shape(dims) && size.empty())) with.shapes[port.name] = shape;
  return model.shapes_for(program, with).at(0);
}

}  // namespace lathe::cli
