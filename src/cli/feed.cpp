#include "feed.hpp"

#include <algorithm>
#include <cmath>
#include <filesystem>

#include "base/text.hpp"
#include "tensor/widen.hpp"

namespace lathe::cli {
namespace {

namespace fs = std::filesystem;

int64_t count_nan(const Tensor& t) {
  if (t.composite() || !is_float(t.dtype())) return 0;
  return std::ranges::count_if(widen<double>(t), [](double v) { return std::isnan(v); });
}

}  // namespace

std::vector<Shape> shapes_of(const std::vector<Tensor>& inputs) {
  std::vector<Shape> out;
  for (const Tensor& t : inputs) out.push_back(t.shape());
  return out;
}

std::vector<NamedTensor> read_tensors(const std::string& path, const std::string& option) {
  const std::string kind = fs::path(path).extension().string();
  if (kind == ".npz") return read_npz(path);
  if (kind == ".npy") return {{"", read_npy(path)}};
  if (kind == ".pb") return {read_tensor_pb(path)};
  throw UsageError(fmt::format("{}: {}: expected .npy, .npz or .pb", option, path));
}

GivenTensors given_tensors(const std::string& text, const std::string& option) {
  const size_t at = text.find('=');
  GivenTensors g{at != std::string::npos && !fs::exists(text), {}};
  const std::string file = g.named ? text.substr(at + 1) : text;
  g.tensors = read_tensors(file, option);
  if (!g.named) return g;
  if (g.tensors.size() != 1)
    throw UsageError(fmt::format("{}: {} holds {} arrays; give it without a name, its arrays have theirs", option, file, g.tensors.size()));
  g.tensors[0].name = text.substr(0, at);
  return g;
}

void FeedFlags::add_to(CLI::App& app, Which which) {
  app.add_option("--input", inputs, "An input's value: NAME=FILE.npy, NAME=FILE.pb, or FILE.npz with the inputs' names (repeatable)")
      ->type_name("[NAME=]FILE")
      ->allow_extra_args(false);
  if (which.cases) app.add_option("--cases", cases, "Inputs of the first case in DIR (test_data_set_N/input_K.pb)")->type_name("DIR");
  if (which.image) {
    app.add_option("--image", image, "A picture (PNG, JPEG) as the input, resized to it")->type_name("FILE");
    pictures.add_to(app);
  }
  if (which.seed) app.add_option("--seed", seed, "Random data from this seed for inputs that get no value")->type_name("N");
}

void FeedFlags::read(const ModelOptions& model, const Graph& graph, CompileOptions& options) {
  if (!cases.empty() + !image.empty() + !inputs.empty() > 1)
    throw UsageError("--input, --cases and --image are ways to say the same: give one");
  std::vector<std::string> names, defaults;
  for (ValueId v : graph.inputs) names.push_back(graph.values[static_cast<size_t>(v)].name);
  // Initializers that are inputs too: they may be given another value.
  for (const Default& d : graph.defaults) defaults.push_back(graph.values[static_cast<size_t>(d.value)].name);
  const auto put = [&](const std::string& option, const std::string& name, Tensor t) {
    const bool other = std::ranges::find(defaults, name) != defaults.end();
    if (!other && std::ranges::find(names, name) == names.end()) {
      std::vector<std::string> all = names;
      all.insert(all.end(), defaults.begin(), defaults.end());
      throw UsageError(
          fmt::format("{}: no input is named '{}'; the inputs are {}{}", option, name, fmt::join(all, ", "), did_you_mean(name, all)));
    }
    if (given_.contains(name)) throw UsageError(fmt::format("{}: '{}' is given twice", option, name));
    if (other) options.given.push_back(name);
    if (const int64_t odd = count_nan(t); odd > 0)
      fmt::print(stderr, "lathe: input '{}' holds {} NaN{}\n", name, odd, odd == t.size() ? ", and nothing else" : "");
    given_[name] = std::move(t);
  };
  const auto is_input = [&](const std::string& name) {
    return std::ranges::find(names, name) != names.end() || std::ranges::find(defaults, name) != defaults.end();
  };
  for (const std::string& text : inputs) {
    auto [named, tensors] = given_tensors(text, "--input");
    for (NamedTensor& t : tensors) {
      std::string name = t.name;
      if (!named && !is_input(name) && names.size() == 1 && tensors.size() == 1) name = names[0];  // only one place to go
      put("--input", name, std::move(t.tensor));
    }
  }
  if (!cases.empty()) {
    std::vector<Case> all = read_cases(cases, &graph);
    if (all.empty()) throw UsageError(fmt::format("--cases: {} holds no test_data_set_0", cases));
    for (size_t i = 0; i < all[0].inputs.size(); ++i) {
      NamedTensor& t = all[0].inputs[i];
      const std::string name = is_input(t.name) ? t.name : i < names.size() ? names[i] : t.name;
      put("--cases", name, std::move(t.tensor));
    }
  }
  for (const auto& [name, t] : given_) {
    for (ValueId v : graph.inputs) {
      const Value& value = graph.values[static_cast<size_t>(v)];
      if (value.name != name || !value.dims) continue;
      for (size_t i = 0; i < value.dims->size() && i < t.shape().size(); ++i) {
        const std::string& symbol = (*value.dims)[i].symbol;
        if (!symbol.empty() && model.batch == 0) options.dims[symbol] = t.shape()[i];
      }
    }
  }
}

std::vector<Tensor> FeedFlags::make(const ModelOptions& model, const Program& program, const CompileOptions& options,
                                    std::optional<uint64_t> otherwise) const {
  if (!image.empty()) {
    const Shape shape = pictures.shape_for(model, program, options, image);
    const Tensor one = picture_to_tensor(read_picture(image), picture_options(pictures.settings(), program, shape));
    Tensor all(one.dtype(), shape);  // a batch is the picture again and again
    for (size_t at = 0; at + one.byte_size() <= all.byte_size(); at += one.byte_size())
      std::copy_n(static_cast<const std::byte*>(one.data()), one.byte_size(), static_cast<std::byte*>(all.data()) + at);
    return {all};
  }
  const std::optional<uint64_t> from = seed ? seed : otherwise;
  std::vector<Tensor> out(program.inputs().size());
  std::vector<std::string> missing;
  for (const Port& p : program.inputs()) {
    if (!given_.contains(p.name)) missing.push_back(p.name);
  }
  if (!missing.empty()) {
    if (!from)
      throw UsageError(fmt::format("no value for input {}; give --input NAME=FILE, --image FILE, or --seed N for random data",
                                   fmt::join(missing, ", ")));
    CompileOptions with = options;
    for (const auto& [name, t] : given_) {
      if (!t.composite()) with.shapes[name] = t.shape();
    }
    out = random_inputs(program, model.shapes_for(program, with), *from);
  }
  for (size_t i = 0; i < out.size(); ++i) {
    const auto it = given_.find(program.inputs()[i].name);
    if (it != given_.end()) out[i] = it->second;
  }
  return out;
}

std::string FeedFlags::text(std::optional<uint64_t> otherwise) const {
  if (!image.empty()) return fs::path(image).filename().string();
  if (!cases.empty()) return fmt::format("the first case of {}", cases);
  const std::optional<uint64_t> from = seed ? seed : otherwise;
  if (given_.empty()) return fmt::format("random, seed {}", from.value_or(0));
  return fmt::format("{} array{} given", given_.size(), given_.size() == 1 ? "" : "s");
}

}  // namespace lathe::cli
