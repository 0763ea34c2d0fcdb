// Pictures as inputs: files, labels, preprocessing.
#include "pictures.hpp"

#include <algorithm>
#include <fstream>

#include "base/text.hpp"

namespace lathe::cli {

namespace fs = std::filesystem;

namespace {

// Batch x height x width x channel: the model's metadata says so, or its sizes do.
bool channels_last(const Program& program) {
  const auto it = program.metadata().find("layout");
  if (it != program.metadata().end()) return it->second == "channels-last";
  const Dims& dims = *program.inputs().at(0).dims;
  const auto colours = [](const Dim& d) { return d.value == 1 || d.value == 3; };
  return !colours(dims[1]) && dims[1].known() && colours(dims[3]);
}

}  // namespace

void PictureFlags::add_to(CLI::App& app) {
  app.add_option("--size", size, "Resize pictures to HEIGHTxWIDTH where the model leaves it open");
  app.add_option("--fit", fit,
                 "Pictures of other proportions: stretch them, pad them, or crop the middle (the model's metadata, or stretch)")
      ->check(CLI::IsMember({"stretch", "pad", "crop"}));
  app.add_option("--mean", mean, "Subtracted from pixels (0..255): one value or one a channel (the model's metadata, or 0)")
      ->type_name("A[,B,C]");
  app.add_option("--scale", scale, "Pixels are multiplied by this after the mean (the model's metadata, or 1)")->type_name("A[,B,C]");
  app.add_flag("--bgr", bgr, "The model wants blue first");
  app.add_option("--labels", labels, "File with one label a line (the model's metadata)")->type_name("FILE");
}

std::vector<fs::path> list_pictures(const std::vector<std::string>& given) {
  std::vector<fs::path> out;
  for (const std::string& name : given) {
    if (!fs::is_directory(name)) {
      out.emplace_back(name);
      continue;
    }
    std::vector<fs::path> inside;
    for (const auto& e : fs::directory_iterator(name)) {
      std::string ext = e.path().extension().string();
      std::transform(ext.begin(), ext.end(), ext.begin(), [](unsigned char c) { return std::tolower(c); });
      if (ext == ".png" || ext == ".jpg" || ext == ".jpeg") inside.push_back(e.path());
    }
    if (inside.empty()) throw Error(Category::value, fmt::format("{}: the folder holds no pictures (.png, .jpg, .jpeg)", name));
    std::sort(inside.begin(), inside.end());
    out.insert(out.end(), inside.begin(), inside.end());
  }
  return out;
}

std::vector<std::string> PictureFlags::labels_of(const std::map<std::string, std::string>& metadata) const {
  if (!labels.empty()) {
    if (!fs::exists(labels)) throw UsageError(fmt::format("--labels: {}: no such file", labels));
    std::vector<std::string> out;
    std::ifstream in(labels);
    for (std::string line; std::getline(in, line);) {
      if (!line.empty() && line.back() == '\r') line.pop_back();
      out.push_back(line);
    }
    return out;
  }
  const auto it = metadata.find("labels");
  return it == metadata.end() ? std::vector<std::string>() : split(it->second, ',');
}

Shape PictureFlags::shape_for(const ModelOptions& model, const Program& program, const CompileOptions& options,
                              const fs::path& first) const {
  const std::vector<Port>& inputs = program.inputs();
  const bool takes = inputs.size() == 1 && !inputs[0].composite && (is_float(inputs[0].dtype) || inputs[0].dtype == DType::u8) &&
                     inputs[0].dims && inputs[0].dims->size() == 4;
  if (!takes) {
    std::string all;
    for (const Port& p : inputs)
      all += fmt::format("{}'{}' is {} {}", all.empty() ? "" : ", ", p.name, to_string(p.dtype), dims_text(p.dims));
    throw Error(
        Category::shape,
        fmt::format("pictures need a model with one input of floats or u8, batch x channel x height x width or channels last; {}", all));
  }
  const size_t y = channels_last(program) ? 1 : 2;
  CompileOptions with = options;
  Dims dims = *inputs[0].dims;
  if (!size.empty()) {
    const auto hw = split(size, 'x');
    if (hw.size() != 2) throw UsageError(fmt::format("--size: '{}' is not HEIGHTxWIDTH", size));
    for (size_t i = 0; i < 2; ++i) {
      const int64_t n = parse_size(hw[i], "--size");
      if (n < 1 || n > 65536) throw UsageError(fmt::format("--size: '{}' is out of range (1 to 65536)", size));
      if (dims[y + i].known() && dims[y + i].value != n)
        throw UsageError(fmt::format("--size: the model takes pictures of {} only", to_string(dims)));
      dims[y + i] = n;
    }
  }
  if (const auto it = options.shapes.find(inputs[0].name); it != options.shapes.end()) return model.shapes_for(program, with).at(0);
  for (Dim& d : dims) {
    if (const auto it = options.dims.find(d.symbol); !d.known() && it != options.dims.end()) d = it->second;
  }
  // An archive without its graph runs the shapes it holds, one with it any.
  if (model.archived() && !known_shape(dims) && size.empty()) return model.shapes_for(program, with).at(0);
  if (!dims[0].known()) dims[0] = model.batch > 0 ? model.batch : 1;
  if (!dims[y].known() || !dims[y + 1].known()) {
    const Tensor pixels = read_picture(first);
    for (size_t i = 0; i < 2; ++i) {
      if (!dims[y + i].known()) dims[y + i] = pixels.shape()[i];
    }
  }
  if (Dim& c = dims[y == 1 ? 3 : 1]; !c.known()) c = 3;
  const auto shape = known_shape(dims);
  with.shapes[inputs[0].name] = *shape;
  return model.shapes_for(program, with).at(0);
}

PictureOptions PictureFlags::options_for(const Program& program, const Shape& shape) const {
  const auto& meta = program.metadata();
  const auto get = [&](const std::string& option, const char* key, const char* flag) -> std::vector<float> {
    if (!option.empty()) return number_list(option, flag);
    const auto it = meta.find(key);
    return it == meta.end() ? std::vector<float>{} : number_list(it->second, fmt::format("metadata '{}'", key));
  };
  PictureOptions p;
  if (auto v = get(mean, "mean", "--mean"); !v.empty()) p.mean = v;
  if (auto v = get(scale, "scale", "--scale"); !v.empty()) p.scale = v;
  p.bgr = bgr || (meta.contains("channels") && meta.at("channels") == "bgr");
  const std::string how = !fit.empty() ? fit : meta.contains("fit") ? meta.at("fit") : "stretch";
  if (how == "pad") p.fit = Fit::pad;
  else if (how == "crop") p.fit = Fit::crop;
  else if (how != "stretch") throw Error(Category::value, fmt::format("metadata 'fit' is '{}', expected stretch, pad or crop", how));
  p.dtype = program.inputs().at(0).dtype;
  p.channels_last = channels_last(program);
  p.channels = shape[p.channels_last ? 3 : 1];
  p.height = shape[p.channels_last ? 1 : 2];
  p.width = shape[p.channels_last ? 2 : 3];
  return p;
}

}  // namespace lathe::cli
