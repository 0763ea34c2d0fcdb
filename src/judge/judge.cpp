// A program on labelled items: what it says of each.
#include <algorithm>
#include <cstring>

#include "base/fail.hpp"
#include "judge/answer_bytes.hpp"
#include "lathe/judge.hpp"
#include "tensor/widen.hpp"

namespace lathe {
namespace {

namespace fs = std::filesystem;

bool holds_arrays(const fs::path& path) { return path.extension() == ".npz" || path.extension() == ".npy"; }

std::vector<NamedTensor> read_arrays(const fs::path& path) {
  if (path.extension() == ".npz") return read_npz(path);
  return {{"", read_npy(path)}};
}

ItemData of_arrays(const fs::path& path) {
  ItemData d;
  d.arrays = read_arrays(path);
  for (const NamedTensor& t : d.arrays) {
    const int64_t items = t.tensor.rank() == 0 ? 0 : t.tensor.shape()[0];
    if (t.tensor.rank() == 0 || (&t != &d.arrays[0] && items != static_cast<int64_t>(d.items)))
      fail(Category::shape, "{}: '{}' is {}: expected a first dim that counts the items, the same for every array", path.string(), t.name,
           to_string(t.tensor.shape()));
    d.items = static_cast<size_t>(items);
  }
  return d;
}

void need_items(const ItemData& d, const fs::path& path) {
  if (d.items == 0) fail(Category::value, "{}: it holds no items", path.string());
}

Tensor item_of(const Tensor& whole, size_t i) {
  Shape shape = whole.shape();
  const int64_t items = shape[0];
  shape[0] = 1;
  Tensor out(whole.dtype(), shape);
  const size_t each = whole.byte_size() / static_cast<size_t>(items);
  if (each > 0) std::memcpy(out.data(), static_cast<const std::byte*>(whole.data()) + i * each, each);
  return out;
}

const NamedTensor* array_for(const Program& program, const ItemData& data, size_t input) {
  const auto it = std::ranges::find(data.arrays, program.inputs()[input].name, &NamedTensor::name);
  if (it != data.arrays.end()) return &*it;
  return program.inputs().size() == 1 && data.arrays.size() == 1 ? &data.arrays[0] : nullptr;
}

// The class of each item, for a model that gives so many; fills in the classes' names where nobody says them.
std::vector<int64_t> expected_classes(const ItemData& data, int64_t outputs, std::vector<std::string>& classes) {
  if (!data.files.empty()) return classes_of(data.files, classes, outputs);
  if (classes.empty()) {
    for (int64_t c = 0; c < outputs; ++c) classes.push_back(std::to_string(c));
  }
  if (static_cast<int64_t>(classes.size()) != outputs)
    fail(Category::value, "there are {} labels for the model's {} classes", classes.size(), outputs);
  const auto expected = widen<int64_t>(data.targets);
  for (size_t i = 0; i < expected.size(); ++i) {
    if (expected[i] < 0 || expected[i] >= outputs)
      fail(Category::value, "item {} is of class {}, the model has {}", i, expected[i], outputs);
  }
  return expected;
}

}  // namespace

std::string ItemData::name(size_t item) const { return files.empty() ? fmt::format("#{}", item) : files[item].file.filename().string(); }

ItemData read_judged(const fs::path& data, const fs::path& targets, const fs::path& beside) {
  ItemData d;
  if (holds_arrays(data)) {
    if (targets.empty())
      fail(Category::value, "{} holds arrays, and nobody says what is expected of them: give targets, an npy of whole numbers or floats",
           data.string());
    d = of_arrays(data);
    const auto read = read_arrays(targets);
    if (read.size() != 1) fail(Category::value, "{} holds {} arrays, expected one of targets", targets.string(), read.size());
    d.targets = read[0].tensor;
    const Shape& shape = d.targets.shape();
    if (shape.empty() || shape[0] != static_cast<int64_t>(d.items))
      fail(Category::shape, "{} is {}: expected as many items in both, and {} holds {}", targets.string(), to_string(shape), data.string(),
           d.items);
    if (!d.values() && shape.size() != 1)
      fail(Category::shape, "{}: classes are whole numbers of shape [items], got {} of {}", targets.string(), to_string(d.targets.dtype()),
           to_string(shape));
  } else {
    if (!targets.empty()) fail(Category::value, "targets go with arrays; pictures have their labels by folder or CSV");
    d.files = read_labelled(data, beside);
    d.items = d.files.size();
  }
  need_items(d, data);
  return d;
}

ItemData read_items(const fs::path& data, const fs::path& beside) {
  ItemData d;
  if (!fs::exists(data)) fail(Category::value, "{}: no such file or folder", data.string());
  if (holds_arrays(data)) {
    d = of_arrays(data);
  } else if (is_picture(data)) {
    d.files = {{data, ""}};
  } else if (fs::is_directory(data) &&
             std::ranges::any_of(fs::directory_iterator(data), [](const fs::directory_entry& e) { return is_picture(e.path()); })) {
    for (const fs::path& p : list_pictures({data})) d.files.push_back({p, ""});
  } else {
    d.files = read_labelled(data, beside);
  }
  if (d.arrays.empty()) d.items = d.files.size();
  need_items(d, data);
  return d;
}

std::vector<Shape> item_shapes(const Program& program, const ItemData& data, const PictureSettings& how, int64_t batch) {
  const std::vector<Port>& inputs = program.inputs();
  if (!data.files.empty())
    return {picture_shape(how, program, inputs.empty() ? Dims() : inputs[0].dims.value_or(Dims()), batch, data.files.front().file)};
  std::vector<Shape> shapes;
  for (size_t i = 0; i < inputs.size(); ++i) {
    if (inputs[i].composite)
      fail(Category::type, "input '{}' is {}: arrays do not fill it", inputs[i].name, to_string(*inputs[i].composite));
    const NamedTensor* t = array_for(program, data, i);
    Dims dims = inputs[i].dims.value_or(t ? Dims(t->tensor.shape().begin(), t->tensor.shape().end()) : Dims());
    if (t && dims.size() == t->tensor.shape().size()) {
      for (size_t d = 1; d < dims.size(); ++d) {
        if (!dims[d].known()) dims[d] = t->tensor.shape()[d];
      }
    }
    if (!dims.empty() && (!inputs[i].dims || !dims[0].known())) dims[0] = std::max<int64_t>(1, batch);
    const auto shape = known_shape(dims);
    if (!shape) fail(Category::shape, "input '{}' is {}, and the data do not say how large it is", inputs[i].name, to_string(dims));
    shapes.push_back(*shape);
  }
  return shapes;
}

std::function<std::vector<Tensor>(size_t)> item_loader(const Program& program, const ItemData& data, const std::vector<Shape>& shapes,
                                                       const PictureSettings& how) {
  if (!data.files.empty()) {
    return [files = data.files, picture = picture_options(how, program, shapes.at(0))](size_t i) {
      return std::vector<Tensor>{picture_to_tensor(read_picture(files[i].file), picture)};
    };
  }
  std::vector<Tensor> by_input;
  for (size_t i = 0; i < program.inputs().size(); ++i) {
    const NamedTensor* t = array_for(program, data, i);
    if (!t) fail(Category::value, "the data hold no array for input '{}'", program.inputs()[i].name);
    by_input.push_back(t->tensor);
  }
  return [by_input](size_t i) {
    std::vector<Tensor> in;
    for (const Tensor& t : by_input) in.push_back(item_of(t, i));
    return in;
  };
}

Judgement judge(const Program& program, const ItemData& data, const std::vector<Shape>& shapes, const JudgeOptions& options) {
  Judgement j;
  const auto load = item_loader(program, data, shapes, options.pictures);
  j.classes = options.labels.empty() ? labels_in(program.metadata()) : options.labels;
  // What the model gives, from one run on zeros.
  std::vector<Tensor> zeros;
  for (size_t i = 0; i < shapes.size(); ++i) {
    zeros.emplace_back(program.inputs()[i].dtype, shapes[i]);
    if (zeros.back().byte_size() > 0) std::memset(zeros.back().data(), 0, zeros.back().byte_size());
  }
  Lane first(program, 1);
  const Tensor sample = first.run(std::span<const Tensor>(zeros), options.items.run)[0];
  if (sample.composite() || sample.dtype() == DType::string || is_complex(sample.dtype()))
    fail(Category::type, "output '{}' is no tensor of numbers: keep another one", program.outputs()[0].name);
  const int64_t rows = shapes[0].empty() ? 1 : std::max<int64_t>(1, shapes[0][0]);
  std::vector<int64_t> expected;
  if (!data.values()) expected = expected_classes(data, sample.size() / rows, j.classes);
  j.seen.assign(data.items, 0);
  std::vector<ClassAnswer> answers(data.items);
  std::vector<ValueAnswer> values(data.items);
  const auto take = [&](size_t i, const std::vector<Tensor>& out) {
    if (data.values()) values[i] = value_answer(data.name(i), out[0], item_of(data.targets, i));
    else answers[i] = answer_of(data.name(i), expected[i], widen<double>(out[0]), options.top);
    j.seen[i] = 1;
  };
  const AnswerForm form{[&](size_t i) { return data.values() ? judging::bytes_of(values[i]) : judging::bytes_of(answers[i]); },
                        [&](size_t i, std::string_view bytes) {
                          answers[i].item = values[i].item = data.name(i);
                          if (data.values()) judging::read_answer(bytes, values[i]);
                          else judging::read_answer(bytes, answers[i]);
                          j.seen[i] = 1;
                        }};
  j.run = run_items(program, shapes, data.items, load, take, form, options.items);
  if (j.run.elsewhere) return j;
  if (j.run.failed.size() == data.items)
    fail(Category::value, "none of the {} items could be read; the first: {}", data.items, j.run.failed[0].second);
  for (size_t i = 0; i < data.items; ++i) {
    if (!j.seen[i]) continue;
    if (data.values()) j.values.push_back(std::move(values[i]));
    else j.answers.push_back(std::move(answers[i]));
  }
  return j;
}

namespace {

// The answers of both to what both have one to, in order.
template <typename Answer>
std::pair<std::vector<Answer>, std::vector<Answer>> common(const Judgement& a, const Judgement& b,
                                                           const std::vector<Answer> Judgement::*list) {
  if (a.seen.size() != b.seen.size()) fail(Category::value, "{} items and {} cannot be compared one by one", a.seen.size(), b.seen.size());
  std::pair<std::vector<Answer>, std::vector<Answer>> both;
  size_t x = 0, y = 0;
  for (size_t i = 0; i < a.seen.size(); ++i) {
    if (a.seen[i] && b.seen[i]) both.first.push_back((a.*list)[x]), both.second.push_back((b.*list)[y]);
    x += static_cast<size_t>(a.seen[i]);
    y += static_cast<size_t>(b.seen[i]);
  }
  return both;
}

}  // namespace

PairedShares compare_answers(const Judgement& first, const Judgement& second) {
  const auto [a, b] = common(first, second, &Judgement::answers);
  std::vector<bool> right_a, right_b;
  for (const ClassAnswer& x : a) right_a.push_back(x.right());
  for (const ClassAnswer& x : b) right_b.push_back(x.right());
  return compare_paired(right_a, right_b);
}

Interval compare_values(const Judgement& first, const Judgement& second) {
  const auto [a, b] = common(first, second, &Judgement::values);
  return compare_values(a, b);
}

}  // namespace lathe
