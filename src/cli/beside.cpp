// What a model of sequences gets beside its tokens.
#include "beside.hpp"

#include <algorithm>
#include <cstring>
#include <set>

#include "base/clock.hpp"
#include "base/text.hpp"

namespace lathe::cli {
namespace {

// "48 insert/rows".
std::pair<int64_t, std::string> insertion(const std::map<std::string, std::string>& metadata) {
  const auto it = metadata.find(kInsertKey);
  if (it == metadata.end()) return {-1, ""};
  const size_t space = it->second.find(' ');
  if (space == std::string::npos)
    throw Error(Category::value, fmt::format("metadata '{}': '{}' is no token and value", kInsertKey, it->second));
  return {parse_size(it->second.substr(0, space), kInsertKey), it->second.substr(space + 1)};
}

Tensor zeros(DType dtype, const Shape& shape) {
  Tensor t(dtype, shape);
  std::memset(t.data(), 0, t.byte_size());
  return t;
}

// Inputs that a value is made of.
std::vector<std::string> inputs_of(const Graph& g, const std::string& name) {
  const auto made = g.producers();
  std::set<ValueId> seen;
  std::vector<ValueId> open{g.find_value(name)};
  while (!open.empty()) {
    const ValueId v = open.back();
    open.pop_back();
    if (v == kAbsent || !seen.insert(v).second || made[static_cast<size_t>(v)] < 0) continue;
    const Node& n = g.nodes[static_cast<size_t>(made[static_cast<size_t>(v)])];
    open.insert(open.end(), n.inputs.begin(), n.inputs.end());
    for (const Capture& c : n.captures) open.push_back(c.value);
  }
  std::vector<std::string> out;
  for (const ValueId v : g.inputs) {
    if (seen.contains(v)) out.push_back(g.values[static_cast<size_t>(v)].name);
  }
  return out;
}

}  // namespace

std::vector<std::string> inserted_inputs(const Graph& graph) {
  const auto [mark, rows] = insertion(graph.metadata);
  return mark < 0 ? std::vector<std::string>() : inputs_of(graph, rows);
}

void BesideFlags::add_to(CLI::App& app) {
  app.add_option("--image", image, "A picture (PNG, JPEG) that the text is about")->type_name("FILE");
  app.add_option("--input", inputs, "Another input's value: NAME=FILE.npy, NAME=FILE.pb, or FILE.npz (repeatable)")
      ->type_name("[NAME=]FILE")
      ->allow_extra_args(false);
  pictures.add_to(app);
}

void BesideFlags::read() {
  arrays.clear();
  for (const std::string& text : inputs) {
    for (NamedTensor& t : given_tensors(text, "--input").tensors) arrays[t.name] = std::move(t.tensor);
  }
}

std::vector<std::string> inputs_beside(const BesideFlags& flags, bool wanted, const Graph& graph, const CompileOptions& options) {
  std::vector<std::string> names;
  const auto add = [&](const std::string& name) {
    if (std::ranges::find(names, name) == names.end()) names.push_back(name);
  };
  std::ranges::for_each(inserted_inputs(graph), add);
  for (const auto& [name, tensor] : flags.arrays) add(name);
  if (!wanted) return names;
  std::vector<std::string> pictures;
  for (const ValueId v : graph.inputs) {
    const Value& value = graph.values[static_cast<size_t>(v)];
    const bool state = std::ranges::any_of(options.states, [&](const StatePair& s) { return s.input == value.name; });
    if (!state && value.dims && value.dims->size() == 4) pictures.push_back(value.name);
  }
  if (pictures.size() != 1)
    throw UsageError(fmt::format("--image: {} of the model's inputs take{} a picture (batch, channels, height and width)",
                                 pictures.empty() ? "none" : fmt::format("{}", fmt::join(pictures, " and ")), pictures.empty() ? "s" : ""));
  add(pictures[0]);
  return names;
}

Beside::Beside(const BesideFlags& flags, const ModelOptions& model, const Program& program, std::vector<std::string> names)
    : flags_(flags), program_(program), once_(program.once()) {
  if (once_) {
    lane_ = std::make_unique<Lane>(once_, model.threads);
    for (const Port& p : once_.inputs()) names.push_back(p.name);
    for (const Port& p : once_.outputs()) names.push_back(p.name);
  }
  for (const Port& p : program.inputs()) {
    if (std::ranges::find(names, p.name) != names.end()) inputs_.push_back(p.name);
  }
  std::tie(mark_, rows_input_) = insertion(program.metadata());
  for (const auto& [name, tensor] : flags.arrays) {
    if (std::ranges::find(names, name) != names.end()) continue;
    if (names.empty()) throw UsageError(fmt::format("--input: no input '{}' is beside the tokens and states", name));
    throw UsageError(fmt::format("--input: no input is named '{}'{}", name, did_you_mean(name, names)));
  }
}

PictureWay Beside::way(int64_t height, int64_t width) const {
  const Program& p = once_ ? once_ : program_;
  return picture_way(flags_.pictures.settings(), p, height, width, size_multiple(p.metadata()));
}

void Beside::run_once(const Tensor& picture, const RunOptions& run, BesideValues& out) {
  std::vector<NamedInput> in;
  for (const Port& p : once_.inputs()) {
    const auto it = flags_.arrays.find(p.name);
    if (it == flags_.arrays.end() && picture.empty())
      throw UsageError(fmt::format("no value for input '{}': give --image FILE, or --input {}=FILE", p.name, p.name));
    in.push_back({p.name, it != flags_.arrays.end() ? it->second : picture});
  }
  std::vector<Shape> shapes;
  for (const NamedInput& i : in) shapes.push_back(i.tensor.shape());
  (void)once_.describe(shapes);  // compiled now, so that it is not in the figure
  const auto start = std::chrono::steady_clock::now();
  const Outputs made = lane_->run(in, run);
  out.seconds = since(start);
  for (size_t i = 0; i < made.size(); ++i) {
    if (std::ranges::find(inputs_, made.name(i)) != inputs_.end()) out.values.push_back({made.name(i), made[i]});
  }
}

BesideValues Beside::make(const std::string& picture, const RunOptions& run, const Shape& blank) {
  BesideValues out;
  Tensor pixels;
  if (!picture.empty() || !blank.empty()) {
    if (!any()) throw UsageError("the model takes no picture");
    const Tensor read = picture.empty() ? Tensor() : read_picture(picture);
    const PictureWay w = picture.empty() ? way(blank[0], blank[1]) : way(read.shape()[0], read.shape()[1]);
    out.picture = w.shape;
    pixels = picture.empty() ? zeros(w.options.dtype, w.shape) : picture_to_tensor(read, w.options);
  }
  const Port* rows = nullptr;
  for (const Port& p : program_.inputs()) {
    if (p.name == rows_input_) rows = &p;
  }
  const bool nothing = pixels.empty() && flags_.arrays.empty();
  if (once_ && !(nothing && rows)) run_once(pixels, run, out);
  // No picture: the row alone that stands for no mark.
  if (nothing && rows) {
    if (!rows->dims || rows->dims->size() != 2 || !rows->dims->back().known())
      throw UsageError(fmt::format("the model wants a picture: how wide '{}' is cannot be known without one", rows->name));
    out.values.push_back({rows->name, zeros(rows->dtype, {1, rows->dims->back().value})});
  }
  for (const std::string& name : inputs_) {
    if (std::ranges::find(out.values, name, &NamedTensor::name) != out.values.end()) continue;
    const auto it = flags_.arrays.find(name);
    if (it == flags_.arrays.end() && pixels.empty())
      throw UsageError(fmt::format("no value for input '{}': give --image FILE, or --input {}=FILE", name, name));
    out.values.push_back({name, it != flags_.arrays.end() ? it->second : pixels});
  }
  if (!rows) return out;
  const Shape shape = std::ranges::find(out.values, rows->name, &NamedTensor::name)->tensor.shape();
  if (shape.size() != 2 || shape[0] < 1)
    throw Error(Category::shape, fmt::format("'{}' is {}, expected rows behind one of zeros", rows->name, to_string(shape)));
  out.rows = shape[0] - 1;
  return out;
}

std::vector<int64_t> Beside::marks(const BesideValues& values) const {
  return std::vector<int64_t>(static_cast<size_t>(values.rows), mark_);
}

}  // namespace lathe::cli
