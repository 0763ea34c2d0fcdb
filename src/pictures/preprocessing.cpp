// What is done to pictures before a model sees them: settings, and what the model's metadata say.
#include <glob.h>

#include <algorithm>
#include <cctype>
#include <charconv>
#include <cmath>

#include "base/fail.hpp"
#include "lathe/pictures.hpp"

namespace lathe {
namespace {

namespace fs = std::filesystem;

// Batch x height x width x channel: the model's metadata says so, or its sizes do.
bool channels_last(const Program& program) {
  const auto it = program.metadata().find("layout");
  if (it != program.metadata().end()) return it->second == "channels-last";
  const Dims& dims = *program.inputs().at(0).dims;
  const auto colours = [](const Dim& d) { return d.value == 1 || d.value == 3; };
  return !colours(dims[1]) && dims[1].known() && colours(dims[3]);
}

std::vector<std::string> parts_of(const std::string& text) {
  std::vector<std::string> parts(1);
  for (char c : text) {
    if (c == ',') parts.emplace_back();
    else parts.back() += c;
  }
  return parts;
}

std::vector<float> numbers_in(const std::string& key, const std::string& text) {
  std::vector<float> out;
  for (const std::string& part : parts_of(text)) {
    const size_t first = std::min(part.find_first_not_of(' '), part.size()), last = part.find_last_not_of(' ') + 1;
    float v = 0;
    const auto [end, error] = std::from_chars(part.data() + first, part.data() + std::max(first, last), v);
    if (error != std::errc() || end != part.data() + last) fail(Category::value, "metadata '{}': '{}' is not a number", key, part);
    out.push_back(v);
  }
  return out;
}

}  // namespace

Fit parse_fit(const std::string& text) {
  if (text == "stretch") return Fit::stretch;
  if (text == "pad") return Fit::pad;
  if (text == "crop") return Fit::crop;
  if (text == "keep") return Fit::keep;
  fail(Category::value, "'{}' is no way to fit a picture, expected stretch, pad, crop or keep", text);
}

bool is_picture(const fs::path& path) {
  std::string ext = path.extension().string();
  std::ranges::transform(ext, ext.begin(), [](unsigned char c) { return static_cast<char>(std::tolower(c)); });
  return ext == ".png" || ext == ".jpg" || ext == ".jpeg";
}

std::vector<fs::path> list_pictures(const std::vector<fs::path>& given) {
  std::vector<fs::path> out;
  for (const fs::path& path : given) {
    if (path.string().find_first_of("*?[") != std::string::npos && !fs::exists(path)) {
      glob_t found{};
      glob(path.c_str(), 0, nullptr, &found);
      std::vector<fs::path> matched;
      for (size_t i = 0; i < found.gl_pathc; ++i) {
        if (is_picture(found.gl_pathv[i])) matched.emplace_back(found.gl_pathv[i]);
      }
      globfree(&found);
      if (matched.empty()) fail(Category::value, "{}: no picture (.png, .jpg, .jpeg) matches", path.string());
      out.insert(out.end(), matched.begin(), matched.end());
      continue;
    }
    if (!fs::is_directory(path)) {
      out.push_back(path);
      continue;
    }
    std::vector<fs::path> inside;
    for (const auto& e : fs::directory_iterator(path)) {
      if (is_picture(e.path())) inside.push_back(e.path());
    }
    if (inside.empty()) fail(Category::value, "{}: the folder holds no pictures (.png, .jpg, .jpeg)", path.string());
    std::ranges::sort(inside);
    out.insert(out.end(), inside.begin(), inside.end());
  }
  return out;
}

std::vector<std::string> labels_in(const std::map<std::string, std::string>& metadata) {
  const auto it = metadata.find("labels");
  return it == metadata.end() || it->second.empty() ? std::vector<std::string>() : parts_of(it->second);
}

Placement placement(Fit fit, int64_t height, int64_t width, int64_t input_height, int64_t input_width) {
  const auto h = static_cast<double>(height), w = static_cast<double>(width), ih = static_cast<double>(input_height),
             iw = static_cast<double>(input_width);
  // Whole pixels, so that nothing is resampled.
  const auto middle = [](int64_t inside, int64_t outside) {
    return static_cast<double>(inside >= outside ? -((inside - outside) / 2) : (outside - inside) / 2);
  };
  if (fit == Fit::keep) return {1, 1, middle(width, input_width), middle(height, input_height), height, width};
  if (fit == Fit::stretch) return {iw / w, ih / h, 0, 0, height, width};
  if (fit == Fit::pad) {
    const double scale = std::min(ih / h, iw / w);
    const auto kept = [&](double from, int64_t to) { return std::clamp<int64_t>(std::llround(from * scale), 1, to); };
    const int64_t kh = kept(h, input_height), kw = kept(w, input_width);
    return {static_cast<double>(kw) / w,
            static_cast<double>(kh) / h,
            static_cast<double>((input_width - kw) / 2),
            static_cast<double>((input_height - kh) / 2),
            height,
            width};
  }
  const double scale = std::max(ih / h, iw / w);
  return {scale, scale, (iw - w * scale) / 2, (ih - h * scale) / 2, height, width};
}

Shape picture_shape(const PictureSettings& how, const Program& program, Dims dims, int64_t batch, const fs::path& first) {
  const std::vector<Port>& inputs = program.inputs();
  const bool takes =
      inputs.size() == 1 && !inputs[0].composite && (is_float(inputs[0].dtype) || inputs[0].dtype == DType::u8) && dims.size() == 4;
  if (!takes) {
    std::string all;
    for (const Port& p : inputs)
      all += fmt::format("{}'{}' is {} {}", all.empty() ? "" : ", ", p.name, to_string(p.dtype),
                         p.dims ? to_string(*p.dims) : std::string("of unknown rank"));
    fail(Category::shape, "pictures need a model with one input of floats or u8, batch x channel x height x width or channels last; {}",
         all);
  }
  const size_t y = channels_last(program) ? 1 : 2;
  const int64_t asked[]{how.height, how.width};
  for (size_t i = 0; i < 2; ++i) {
    if (asked[i] == 0) continue;
    if (dims[y + i].known() && dims[y + i].value != asked[i])
      fail(Category::value, "the model takes pictures of {} only, not of {}x{}", to_string(dims), how.height, how.width);
    dims[y + i] = asked[i];
  }
  if (!dims[0].known()) dims[0] = std::max<int64_t>(1, batch);
  if (!dims[y].known() || !dims[y + 1].known()) {
    const Tensor pixels = read_picture(first);
    for (size_t i = 0; i < 2; ++i) {
      if (!dims[y + i].known()) dims[y + i] = pixels.shape()[i];
    }
  }
  if (Dim& c = dims[y == 1 ? 3 : 1]; !c.known()) c = 3;
  return *known_shape(dims);
}

PictureOptions picture_options(const PictureSettings& how, const Program& program, const Shape& shape) {
  const auto& meta = program.metadata();
  const auto get = [&](const std::vector<float>& set, const char* key, std::vector<float>& out) {
    const auto it = meta.find(key);
    if (!set.empty()) out = set;
    else if (it != meta.end() && !it->second.empty()) out = numbers_in(key, it->second);
  };
  PictureOptions p;
  get(how.mean, "mean", p.mean);
  get(how.scale, "scale", p.scale);
  p.bgr = how.bgr || (meta.contains("channels") && meta.at("channels") == "bgr");
  p.antialias = how.antialias || (meta.contains("antialias") && meta.at("antialias") == "true");
  if (how.fit) {
    p.fit = *how.fit;
  } else if (meta.contains("fit")) {
    try {
      p.fit = parse_fit(meta.at("fit"));
    } catch (const Error& e) {
      fail(Category::value, "metadata 'fit': {}", e.what());
    }
  }
  p.dtype = program.inputs().at(0).dtype;
  p.channels_last = channels_last(program);
  p.channels = shape[p.channels_last ? 3 : 1];
  p.height = shape[p.channels_last ? 1 : 2];
  p.width = shape[p.channels_last ? 2 : 3];
  return p;
}

namespace {

// Places of height and width among the input's dims.
std::pair<size_t, size_t> sides(const Program& program) {
  const bool last = picture_options({}, program, Shape(4, 3)).channels_last;
  return {last ? 1 : 2, last ? 2 : 3};
}
Dims picture_dims(const Program& program) {
  if (program.inputs().size() == 1 && program.inputs()[0].dims && program.inputs()[0].dims->size() == 4) return *program.inputs()[0].dims;
  // Says what the model takes instead.
  (void)picture_shape({}, program, program.inputs().empty() ? Dims() : program.inputs()[0].dims.value_or(Dims()), 1, {});
  return {};
}

}  // namespace

bool own_size(const PictureSettings& how, const Program& program) {
  const Dims dims = picture_dims(program);
  const auto [y, x] = sides(program);
  return (!dims[y].known() && how.height == 0) || (!dims[x].known() && how.width == 0);
}

PictureWay picture_way(const PictureSettings& how, const Program& program, int64_t height, int64_t width, int64_t multiple) {
  Dims dims = picture_dims(program);
  const auto [y, x] = sides(program);
  const bool own = own_size(how, program);
  if (!dims[y].known() && how.height == 0) dims[y] = (height + multiple - 1) / multiple * multiple;
  if (!dims[x].known() && how.width == 0) dims[x] = (width + multiple - 1) / multiple * multiple;
  dims[0] = 1;
  PictureWay w;
  w.shape = picture_shape(how, program, dims, 1, {});
  w.options = picture_options(how, program, w.shape);
  // A picture at its own size is not resampled, whatever is done to those that must fit.
  if (own && w.options.height >= height && w.options.width >= width) w.options.fit = Fit::keep;
  w.placement = placement(w.options.fit, height, width, w.options.height, w.options.width);
  return w;
}

int64_t size_multiple(const std::map<std::string, std::string>& metadata) {
  const auto it = metadata.find("multiple");
  if (it == metadata.end()) return 1;
  const std::string& text = it->second;
  int64_t m = 0;
  const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), m);
  if (error != std::errc() || end != text.data() + text.size() || m < 1 || m > 65536)
    fail(Category::value, "metadata 'multiple': '{}' is no whole number from 1 to 65536", text);
  return m;
}

}  // namespace lathe
