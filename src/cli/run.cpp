// lathe run
#include <algorithm>
#include <cmath>
#include <filesystem>
#include <fstream>
#include <numeric>

#include "common.hpp"
#include "base/files.hpp"
#include "tensor/widen.hpp"

namespace lathe::cli {
namespace {

namespace fs = std::filesystem;

struct Options {
  ModelOptions model;
  std::vector<std::string> inputs, images;
  std::optional<uint64_t> seed;
  std::string size, mean, scale, labels, truth, save, save_as = "npy";
  bool bgr = false;
  int top = 3;
};

std::vector<std::string> split(const std::string& text, char by) {
  std::vector<std::string> out;
  for (size_t at = 0; at <= text.size();) {
    const size_t end = std::min(text.find(by, at), text.size());
    out.push_back(text.substr(at, end - at));
    at = end + 1;
  }
  return out;
}

std::vector<float> numbers(const std::string& text, const std::string& option) {
  std::vector<float> out;
  for (const std::string& part : split(text, ',')) {
    char* end = nullptr;
    out.push_back(std::strtof(part.c_str(), &end));
    if (part.empty() || *end != '\0') throw UsageError(fmt::format("{}: '{}' is not a number", option, part));
  }
  return out;
}

// The tensors a file holds; a single array has no name.
std::vector<NamedTensor> read_tensors(const fs::path& path) {
  if (path.extension() == ".npz") return read_npz(path);
  if (path.extension() == ".npy") return {{"", read_npy(path)}};
  if (path.extension() == ".pb") return {read_tensor_pb(path)};
  throw UsageError(fmt::format("--input: {}: expected .npy, .npz or .pb", path.string()));
}

std::vector<fs::path> list_images(const std::vector<std::string>& given) {
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

std::vector<std::string> read_labels(const Options& o, const std::map<std::string, std::string>& metadata) {
  if (!o.labels.empty()) {
    if (!fs::exists(o.labels)) throw UsageError(fmt::format("--labels: {}: no such file", o.labels));
    std::vector<std::string> out;
    std::ifstream in(o.labels);
    for (std::string line; std::getline(in, line);) {
      if (!line.empty() && line.back() == '\r') line.pop_back();
      out.push_back(line);
    }
    return out;
  }
  const auto it = metadata.find("labels");
  return it == metadata.end() ? std::vector<std::string>() : split(it->second, ',');
}

PictureOptions picture_options(const Options& o, const Program& program) {
  const auto& meta = program.metadata();
  const auto get = [&](const std::string& option, const char* key, const char* flag) -> std::vector<float> {
    if (!option.empty()) return numbers(option, flag);
    const auto it = meta.find(key);
    return it == meta.end() ? std::vector<float>{} : numbers(it->second, fmt::format("metadata '{}'", key));
  };
  PictureOptions p;
  if (auto v = get(o.mean, "mean", "--mean"); !v.empty()) p.mean = v;
  if (auto v = get(o.scale, "scale", "--scale"); !v.empty()) p.scale = v;
  p.bgr = o.bgr || (meta.contains("channels") && meta.at("channels") == "bgr");
  const Port& port = program.inputs().at(0);
  if (program.inputs().size() != 1 || port.dtype != DType::f32 || !port.dims || port.dims->size() != 4) {
    throw Error(Category::shape, fmt::format("pictures need a model with one f32 input of batch x channel x height x width; '{}' is {} {}",
                                             port.name, to_string(port.dtype), dims_text(port.dims)));
  }
  if ((*port.dims)[1].known()) p.channels = (*port.dims)[1].value;
  if ((*port.dims)[2].known()) p.height = (*port.dims)[2].value;
  if ((*port.dims)[3].known()) p.width = (*port.dims)[3].value;
  if (!o.size.empty()) {
    const auto hw = split(o.size, 'x');
    if (hw.size() != 2) throw UsageError(fmt::format("--size: '{}' is not HEIGHTxWIDTH", o.size));
    p.height = static_cast<int64_t>(numbers(hw[0], "--size")[0]);
    p.width = static_cast<int64_t>(numbers(hw[1], "--size")[0]);
    if (p.height < 1 || p.width < 1 || p.height > 65536 || p.width > 65536)
      throw UsageError(fmt::format("--size: '{}' is out of range", o.size));
  }
  return p;
}

struct Ranked {
  std::string label;
  double value = 0;
};

std::vector<Ranked> top(const Tensor& t, const std::vector<std::string>& labels, int k) {
  const auto v = widen<double>(t);
  std::vector<size_t> order(v.size());
  std::iota(order.begin(), order.end(), 0);
  k = std::min<int>(k, static_cast<int>(v.size()));
  std::partial_sort(order.begin(), order.begin() + k, order.end(), [&](size_t a, size_t b) { return v[a] > v[b]; });
  std::vector<Ranked> out;
  for (int i = 0; i < k; ++i) out.push_back({order[i] < labels.size() ? labels[order[i]] : fmt::format("#{}", order[i]), v[order[i]]});
  return out;
}

// Values that are probabilities are shown as such.
bool probabilities(const Tensor& t) {
  double sum = 0;
  for (double v : widen<double>(t)) {
    if (!(v >= 0 && v <= 1)) return false;
    sum += v;
  }
  return std::fabs(sum - 1) < 1e-3;
}

void save_outputs(const Options& o, const Outputs& out, const std::string& stem) {
  if (o.save.empty()) return;
  std::error_code ec;
  fs::create_directories(o.save, ec);
  if (ec) throw Error(Category::resource, fmt::format("{}: cannot be made: {}", o.save, ec.message()));
  const auto file = [&](const std::string& name, const char* ext) {
    std::string safe = stem + name;
    std::replace_if(
        safe.begin(), safe.end(), [](unsigned char c) { return c == '/' || c < 32; }, '_');
    return fs::path(o.save) / (safe + ext);
  };
  std::vector<NamedTensor> all;
  for (size_t i = 0; i < out.size(); ++i) {
    all.push_back({out.name(i), out[i]});
    if (o.save_as == "npy") write_npy(file(out.name(i), ".npy"), out[i]);
    if (o.save_as == "pb") write_tensor_pb(file(out.name(i), ".pb"), all.back());
  }
  if (o.save_as == "npz") write_npz(file("outputs", ".npz"), all);
}

std::string summary(const Tensor& t) {
  if (t.dtype() == DType::string || is_complex(t.dtype()) || t.size() == 0) return "";
  const auto v = widen<double>(t);
  double low = INFINITY, high = -INFINITY, sum = 0;
  int64_t odd = 0;
  for (double e : v) {
    if (!std::isfinite(e)) {
      ++odd;
      continue;
    }
    low = std::min(low, e);
    high = std::max(high, e);
    sum += e;
  }
  std::string text = fmt::format("min {:.6g}  mean {:.6g}  max {:.6g}", low, sum / static_cast<double>(v.size() - odd), high);
  if (odd) text += fmt::format("  ({} NaN or Inf)", odd);
  return text;
}

std::map<std::string, std::string> read_truth(const std::string& path) {
  std::map<std::string, std::string> out;
  const std::string text = read_file(path);
  for (const std::string& line : split(text, '\n')) {
    const auto cells = split(line.ends_with('\r') ? line.substr(0, line.size() - 1) : line, ',');
    if (cells.size() == 2) out[cells[0]] = cells[1];
  }
  if (out.empty()) throw Error(Category::format, fmt::format("{}: expected lines of FILE,LABEL", path));
  return out;
}

Json tensor_json(const Tensor& t) {
  Json j{{"dtype", to_string(t.dtype())}, {"shape", t.shape()}};
  constexpr int64_t kMost = 65536;
  if (t.size() > kMost) {
    j["values"] = nullptr;  // too many for JSON: --save writes them
  } else if (t.dtype() == DType::string) {
    j["values"] = std::vector<std::string>(t.as<std::string>().begin(), t.as<std::string>().end());
  } else if (!is_complex(t.dtype())) {
    if (is_float(t.dtype())) j["values"] = widen<double>(t);
    else j["values"] = widen<int64_t>(t);
  }
  return j;
}

int run_images(const Options& o, const Program& program, Lane& lane) {
  const auto paths = list_images(o.images);
  const auto labels = read_labels(o, program.metadata());
  const PictureOptions picture = picture_options(o, program);
  const auto truth = o.truth.empty() ? std::map<std::string, std::string>() : read_truth(o.truth);
  Progress progress;
  Json results = Json::array();
  Table table(truth.empty() ? "lll" : "llll", truth.empty() ? std::vector<std::string>{"picture", "result", "next"}
                                                            : std::vector<std::string>{"picture", "result", "next", "truth"});
  int right = 0, judged = 0;
  const bool many = paths.size() > 20;
  for (size_t n = 0; n < paths.size(); ++n) {
    if (n % 16 == 0) progress.show(fmt::format("picture {} of {}", n + 1, paths.size()));
    const Tensor input = picture_to_tensor(read_picture(paths[n]), picture);
    Outputs out = lane.run({{program.inputs()[0].name, input}});
    const std::string name = paths[n].filename().string();
    save_outputs(o, out, paths[n].stem().string() + ".");
    Json entry{{"picture", name}};
    if (out[0].dtype() == DType::string || is_complex(out[0].dtype()))
      throw Error(Category::type, fmt::format("output '{}' is {}: no labels can be read off it", out.name(0), to_string(out[0].dtype())));
    const auto ranked = top(out[0], labels, std::max(1, o.top));
    const bool percent = probabilities(out[0]);
    const auto show = [&](const Ranked& r) {
      return percent ? fmt::format("{} {:.1f} %", r.label, 100 * r.value) : fmt::format("{} {:.4g}", r.label, r.value);
    };
    for (const Ranked& r : ranked) entry["top"].push_back({{"label", r.label}, {"value", r.value}});
    std::string next, verdict;
    for (size_t i = 1; i < ranked.size(); ++i) next += (i > 1 ? ", " : "") + show(ranked[i]);
    const auto known = truth.find(name);
    if (known != truth.end()) {
      ++judged;
      const bool good = known->second == ranked[0].label;
      right += good;
      verdict = known->second + (good ? "" : "  <- wrong");
      entry["truth"] = known->second;
      entry["right"] = good;
    }
    results.push_back(std::move(entry));
    // A long folder is listed only where it is wrong, and by its first pictures.
    if (!many || n < 8 || verdict.find("wrong") != std::string::npos) {
      table.row(truth.empty() ? std::vector<std::string>{name, show(ranked[0]), next}
                              : std::vector<std::string>{name, show(ranked[0]), next, verdict});
    }
  }
  progress.show("");
  Json j{{"model", o.model.model}, {"pictures", paths.size()}, {"results", results}};
  if (judged) j["accuracy"] = {{"right", right}, {"judged", judged}, {"share", static_cast<double>(right) / judged}};
  write_json(o.model.json, j);
  if (!for_people(o.model.json)) return kGood;
  fmt::print("{}", table.text(""));
  if (many) fmt::print("({} pictures; the first 8{} shown)\n", paths.size(), truth.empty() ? "" : " and the wrong ones");
  if (judged) fmt::print("accuracy: {} of {} right, {:.1f} %\n", right, judged, 100.0 * right / judged);
  return kGood;
}

int run_tensors(const Options& o, Graph graph, CompileOptions compile_options) {
  // Shapes come from the arrays, where they are given.
  std::map<std::string, Tensor> given;
  std::vector<std::string> names;
  for (ValueId v : graph.inputs) names.push_back(graph.values[v].name);
  const auto put = [&](const std::string& name, Tensor t) {
    if (std::find(names.begin(), names.end(), name) == names.end())
      throw UsageError(fmt::format("--input: no input is named '{}'; the inputs are {}", name, fmt::join(names, ", ")));
    given[name] = std::move(t);
  };
  for (const std::string& text : o.inputs) {
    const size_t at = text.find('=');
    const bool named = at != std::string::npos && !fs::exists(text);
    auto tensors = read_tensors(named ? text.substr(at + 1) : text);
    if (named && tensors.size() != 1)
      throw UsageError(
          fmt::format("--input: {} holds {} arrays; give it without a name, its arrays have theirs", text.substr(at + 1), tensors.size()));
    for (NamedTensor& t : tensors) {
      std::string name = named ? text.substr(0, at) : t.name;
      const bool is_input = std::find(names.begin(), names.end(), name) != names.end();
      if (!named && !is_input && names.size() == 1 && tensors.size() == 1) name = names[0];  // only one place to go
      put(name, std::move(t.tensor));
    }
  }
  for (auto& [name, t] : given) {
    for (ValueId v : graph.inputs) {
      if (graph.values[v].name != name || !graph.values[v].dims) continue;
      const Dims& dims = *graph.values[v].dims;
      for (size_t i = 0; i < dims.size() && i < t.shape().size(); ++i) {
        if (!dims[i].symbol.empty() && o.model.batch == 0) compile_options.dims[dims[i].symbol] = t.shape()[i];
      }
    }
  }
  const bool random = o.seed.has_value();
  if (!random) {
    std::vector<std::string> missing;
    for (const auto& n : names) {
      if (!given.contains(n)) missing.push_back(n);
    }
    if (!missing.empty())
      throw UsageError(fmt::format("no value for input {}; give --input NAME=FILE, --image FILE, or --seed N for random data",
                                   fmt::join(missing, ", ")));
  }
  const Program program = o.model.make_program(std::move(graph), compile_options);
  std::vector<Tensor> inputs;
  if (random) {
    std::vector<Shape> shapes;
    for (size_t i = 0; i < program.inputs().size(); ++i) {
      const auto it = given.find(program.inputs()[i].name);
      const auto shape = known_shape(program.inputs()[i].dims);
      if (it == given.end() && !shape) program.bound_shapes();  // throws, naming the open dims
      shapes.push_back(it != given.end() ? it->second.shape() : *shape);
    }
    inputs = random_inputs(program, shapes, *o.seed);
  } else {
    inputs.resize(program.inputs().size());
  }
  for (size_t i = 0; i < inputs.size(); ++i) {
    const auto it = given.find(program.inputs()[i].name);
    if (it != given.end()) inputs[i] = it->second;
  }
  Lane lane(program, o.model.threads);
  const Outputs out = lane.run(std::span<const Tensor>(inputs));
  save_outputs(o, out, "");
  Json j{{"model", o.model.model}};
  for (size_t i = 0; i < out.size(); ++i) j["outputs"][out.name(i)] = tensor_json(out[i]);
  write_json(o.model.json, j);
  if (!for_people(o.model.json)) return kGood;
  const auto labels = read_labels(o, program.metadata());
  Table table("llll", {"output", "dtype", "shape", "values"});
  for (size_t i = 0; i < out.size(); ++i)
    table.row({out.name(i), std::string(to_string(out[i].dtype())), to_string(out[i].shape()), summary(out[i])});
  fmt::print("{}", table.text(""));
  if (!labels.empty() && out[0].rank() == 2 && out[0].shape()[1] == static_cast<int64_t>(labels.size())) {
    const auto all = widen<double>(out[0]);
    for (int64_t r = 0; r < std::min<int64_t>(out[0].shape()[0], 16); ++r) {
      Tensor row = narrow<double>(DType::f64, Shape{out[0].shape()[1]},
                                  std::vector<double>(all.begin() + r * out[0].shape()[1], all.begin() + (r + 1) * out[0].shape()[1]));
      std::string line;
      for (const Ranked& k : top(row, labels, o.top))
        line += fmt::format("{}{} {:.1f} %", line.empty() ? "" : ", ", k.label, 100 * k.value);
      fmt::print("  row {}: {}\n", r, line);
    }
  }
  if (!o.save.empty()) fmt::print("written to {}\n", o.save);
  return kGood;
}

}  // namespace

Command add_run(CLI::App& app) {
  auto o = std::make_shared<Options>();
  o->model.add_to(app);
  app.add_option("--input", o->inputs, "An input's value: NAME=FILE.npy, NAME=FILE.pb, or FILE.npz with the inputs' names (repeatable)")
      ->type_name("[NAME=]FILE")
      ->allow_extra_args(false);
  app.add_option("--image", o->images, "A picture (PNG, JPEG) or a folder of them (repeatable); resized to the input")
      ->type_name("PATH")
      ->allow_extra_args(false);
  app.add_option("--seed", o->seed, "Random data from this seed for inputs that get no value")->type_name("N");
  app.add_option("--size", o->size, "Resize pictures to HEIGHTxWIDTH where the model leaves it open");
  app.add_option("--mean", o->mean, "Subtracted from pixels (0..255): one value or one a channel (the model's metadata, or 0)")
      ->type_name("A[,B,C]");
  app.add_option("--scale", o->scale, "Pixels are multiplied by this after the mean (the model's metadata, or 1)")->type_name("A[,B,C]");
  app.add_flag("--bgr", o->bgr, "The model wants blue first");
  app.add_option("--labels", o->labels, "File with one label a line (the model's metadata)")->type_name("FILE");
  app.add_option("--truth", o->truth, "File of FILE,LABEL lines to count right answers with")->type_name("FILE");
  app.add_option("--top", o->top, "How many labels to show (3)")->check(CLI::Range(1, 1000))->type_name("K");
  app.add_option("--save", o->save, "Folder to write outputs to")->type_name("DIR");
  app.add_option("--save-as", o->save_as, "npy, npz or pb (npy)")->check(CLI::IsMember({"npy", "npz", "pb"}));
  return [o] {
    Graph graph = o->model.load_graph();
    CompileOptions options = o->model.compile_options(graph);
    if (o->images.empty()) return run_tensors(*o, std::move(graph), options);
    if (!o->inputs.empty()) throw UsageError("--image and --input do not go together");
    // The size asked for binds the open height and width.
    const Program program = o->model.make_program(std::move(graph), options);
    Lane lane(program, o->model.threads);
    return run_images(*o, program, lane);
  };
}

}  // namespace lathe::cli
