// lathe judge
#include <algorithm>
#include <cmath>
#include <cstring>
#include <filesystem>

#include "common.hpp"
#include "pictures.hpp"
#include "tensor/widen.hpp"

namespace lathe::cli {
namespace {

namespace fs = std::filesystem;

struct Options {
  ModelOptions model;
  PictureFlags pictures;
  std::string data, beside, targets;
  std::vector<std::string> against;
  int top = 5, worst = 10;
  int64_t noise = 0;
  double at_least = -1;
  bool strict = false;
};

// What models are judged on: labelled pictures, or arrays with their targets.
struct Data {
  std::vector<LabelledFile> files;
  std::vector<NamedTensor> arrays;
  Tensor targets;
  size_t items = 0;
  bool values() const { return !targets.empty() && is_float(targets.dtype()); }
  std::string name(size_t i) const { return files.empty() ? fmt::format("#{}", i) : files[i].file.filename().string(); }
};

struct Judged {
  std::string model;
  std::vector<std::string> classes;
  std::vector<ClassAnswer> answers;
  std::vector<ValueAnswer> values;
  std::vector<char> seen;  // by item: whether it has an answer
  ItemsRun run;
};

Tensor item_of(const Tensor& whole, size_t i) {
  Shape shape = whole.shape();
  const int64_t items = shape[0];
  shape[0] = 1;
  Tensor out(whole.dtype(), shape);
  const size_t each = whole.byte_size() / static_cast<size_t>(items);
  if (each > 0) std::memcpy(out.data(), static_cast<const std::byte*>(whole.data()) + i * each, each);
  return out;
}

std::vector<NamedTensor> read_arrays(const std::string& path) {
  if (path.ends_with(".npz")) return read_npz(path);
  return {{"", read_npy(path)}};
}

Data read_data(const Options& o) {
  Data d;
  if (o.data.ends_with(".npz") || o.data.ends_with(".npy")) {
    if (o.targets.empty()) throw UsageError("--data holds arrays: give what is expected of them with --targets FILE.npy");
    d.arrays = read_arrays(o.data);
    const auto targets = read_arrays(o.targets);
    if (targets.size() != 1) throw UsageError(fmt::format("--targets: {} holds {} arrays, expected one", o.targets, targets.size()));
    d.targets = targets[0].tensor;
    for (const NamedTensor& t : d.arrays) {
      if (t.tensor.rank() == 0 || d.targets.rank() == 0 || t.tensor.shape()[0] != d.targets.shape()[0])
        throw Error(Category::shape, fmt::format("{}: '{}' is {}, the targets are {}: expected as many items in both", o.data, t.name,
                                                 to_string(t.tensor.shape()), to_string(d.targets.shape())));
    }
    if (!d.values() && d.targets.rank() != 1)
      throw Error(Category::shape, fmt::format("{}: classes are whole numbers of shape [items], got {} of {}", o.targets,
                                               to_string(d.targets.dtype()), to_string(d.targets.shape())));
    d.items = static_cast<size_t>(d.targets.shape()[0]);
  } else {
    if (!o.targets.empty()) throw UsageError("--targets goes with arrays in --data; pictures have their labels by folder or CSV");
    d.files = read_labelled(o.data, o.beside);
    d.items = d.files.size();
  }
  if (d.items == 0) throw Error(Category::value, fmt::format("{}: it holds no items", o.data));
  return d;
}

// How one item gets to the program's inputs.
using Load = std::function<std::vector<Tensor>(size_t)>;

Load array_load(const Program& program, const Data& data) {
  std::vector<const Tensor*> by_input;
  for (const Port& p : program.inputs()) {
    const auto it = std::ranges::find(data.arrays, p.name, &NamedTensor::name);
    if (it != data.arrays.end()) by_input.push_back(&it->tensor);
    else if (program.inputs().size() == 1 && data.arrays.size() == 1) by_input.push_back(&data.arrays[0].tensor);
    else throw UsageError(fmt::format("--data holds no array for input '{}'", p.name));
  }
  return [by_input](size_t i) {
    std::vector<Tensor> in;
    for (const Tensor* t : by_input) in.push_back(item_of(*t, i));
    return in;
  };
}

Judged judge(const Options& o, const ModelOptions& model, const Data& data) {
  Judged j;
  j.model = model.model;
  Graph graph = model.load_graph();
  CompileOptions options = model.compile_options(graph);
  options.threads = 1;
  const Program program = model.make_program(std::move(graph), options);
  std::vector<Shape> shapes;
  Load load;
  if (data.files.empty()) {
    if (options.shapes.empty()) {
      for (size_t i = 0; i < program.inputs().size() && data.arrays.size() == program.inputs().size(); ++i) {
        const auto it = std::ranges::find(data.arrays, program.inputs()[i].name, &NamedTensor::name);
        Shape shape = (it != data.arrays.end() ? *it : data.arrays[0]).tensor.shape();
        const auto& dims = program.inputs()[i].dims;
        shape[0] = dims && !dims->empty() && (*dims)[0].known() ? (*dims)[0].value : model.batch > 0 ? model.batch : 1;
        options.shapes[program.inputs()[i].name] = shape;
      }
    }
    shapes = model.shapes_for(program, options);
    load = array_load(program, data);
  } else {
    const Shape shape = o.pictures.shape_for(model, program, options, data.files.front().file);
    shapes = {shape};
    const PictureOptions picture = o.pictures.options_for(program, shape);
    load = [&data, picture](size_t i) { return std::vector<Tensor>{picture_to_tensor(read_picture(data.files[i].file), picture)}; };
  }
  j.classes = o.pictures.labels_of(program.metadata());
  // What the model gives, from one run on zeros.
  std::vector<Tensor> zeros;
  for (size_t i = 0; i < shapes.size(); ++i) {
    zeros.emplace_back(program.inputs()[i].dtype, shapes[i]);
    if (zeros.back().byte_size() > 0) std::memset(zeros.back().data(), 0, zeros.back().byte_size());
  }
  Lane first(program, 1);
  const Tensor sample = first.run(std::span<const Tensor>(zeros), model.run_options())[0];
  if (sample.composite() || sample.dtype() == DType::string || is_complex(sample.dtype()))
    throw Error(Category::type,
                fmt::format("output '{}' is no tensor of numbers: keep another one with --output", program.outputs()[0].name));
  const int64_t rows = shapes[0].empty() ? 1 : std::max<int64_t>(1, shapes[0][0]), each = sample.size() / rows;
  std::vector<int64_t> expected;
  if (!data.values()) {
    if (data.files.empty()) {
      expected = widen<int64_t>(data.targets);
      if (j.classes.empty()) {
        for (int64_t c = 0; c < each; ++c) j.classes.push_back(std::to_string(c));
      }
      if (static_cast<int64_t>(j.classes.size()) != each)
        throw Error(Category::value, fmt::format("there are {} labels for the model's {} classes", j.classes.size(), each));
      for (size_t i = 0; i < expected.size(); ++i) {
        if (expected[i] < 0 || expected[i] >= each)
          throw Error(Category::value, fmt::format("{}: item {} is of class {}, the model has {}", o.targets, i, expected[i], each));
      }
    } else {
      expected = classes_of(data.files, j.classes, each);
    }
  }
  j.seen.assign(data.items, 0);
  std::vector<ClassAnswer> answers(data.items);
  std::vector<ValueAnswer> values(data.items);
  const auto take = [&](size_t i, const std::vector<Tensor>& out) {
    if (data.values()) values[i] = value_answer(data.name(i), out[0], item_of(data.targets, i));
    else answers[i] = answer_of(data.name(i), expected[i], widen<double>(out[0]), o.top);
    j.seen[i] = 1;
  };
  Progress progress;
  ItemsOptions how{model.threads, o.strict, model.run_options(), [&](size_t done) {
                     progress.show(fmt::format("{}: {} of {} items", fs::path(j.model).filename().string(), done, data.items));
                   }};
  j.run = run_items(program, shapes, data.items, load, take, how);
  progress.show("");
  if (j.run.failed.size() == data.items)
    throw Error(Category::value, fmt::format("none of the {} items could be read; the first: {}", data.items, j.run.failed[0].second));
  constexpr size_t kNamed = 10;
  for (size_t i = 0; i < std::min(kNamed, j.run.failed.size()); ++i)
    fmt::print(stderr, "lathe: item {} is left out: {}\n", data.name(j.run.failed[i].first), j.run.failed[i].second);
  if (j.run.failed.size() > kNamed) fmt::print(stderr, "lathe: and {} more (--json names them all)\n", j.run.failed.size() - kNamed);
  for (size_t i = 0; i < data.items; ++i) {
    if (!j.seen[i]) continue;
    if (data.values()) j.values.push_back(std::move(values[i]));
    else j.answers.push_back(std::move(answers[i]));
  }
  return j;
}

Json number(double v) { return std::isfinite(v) ? Json(v) : Json(nullptr); }
Json to_json(const Interval& i) { return {{"value", number(i.value)}, {"low", number(i.low)}, {"high", number(i.high)}}; }
std::string percent(double v) { return fmt::format("{:.1f} %", 100 * v); }
std::string percent(const Interval& i) { return fmt::format("{:.1f} to {:.1f}", 100 * i.low, 100 * i.high); }
std::string figure(double v) { return std::isnan(v) ? "none" : fmt::format("{:.6g}", v); }

Json run_json(const Judged& j) {
  Json failed = Json::array();
  for (const auto& [item, what] : j.run.failed) failed.push_back(what);
  return {{"model", j.model}, {"seconds", j.run.seconds}, {"lanes", j.run.lanes}, {"left_out", failed}};
}

std::string speed_text(const Judged& j, size_t items) {
  return fmt::format("{:.4g} items/s, {} lane{} of one thread, reading included", static_cast<double>(items) / j.run.seconds, j.run.lanes,
                     j.run.lanes == 1 ? "" : "s");
}

Json classes_json(const Judged& j, const ClassReport& r, int worst) {
  Json out = run_json(j);
  out["items"] = r.items;
  out["odd"] = r.odd;
  out["top_1"] = to_json(r.top_1);
  out["top_k"] = to_json(r.top_k);
  out["k"] = r.k;
  out["mean_f1"] = to_json(r.mean_f1);
  for (const ClassMeasure& c : r.classes)
    out["classes"].push_back({{"label", c.label},
                              {"items", c.items},
                              {"said", c.said},
                              {"right", c.right},
                              {"recall", to_json(c.recall)},
                              {"precision", to_json(c.precision)},
                              {"f1", c.f1}});
  const size_t n = j.classes.size();
  if (n <= 1000) {
    for (size_t e = 0; e < n; ++e)
      out["confusion"].push_back(
          std::vector<int64_t>(r.confusion.begin() + static_cast<int64_t>(e * n), r.confusion.begin() + static_cast<int64_t>((e + 1) * n)));
  }
  out["wrong"] = Json::array();
  for (size_t i = 0; i < r.wrong.size() && i < static_cast<size_t>(worst); ++i) {
    const ClassAnswer& a = j.answers[r.wrong[i]];
    out["wrong"].push_back({{"item", a.item},
                            {"expected", j.classes[static_cast<size_t>(a.expected)]},
                            {"said", a.best.empty() ? Json(nullptr) : Json(j.classes[static_cast<size_t>(a.best[0])])},
                            {"score", a.scores.empty() ? Json(nullptr) : number(a.scores[0])}});
  }
  return out;
}

void print_classes(const Judged& j, const ClassReport& r, int worst) {
  fmt::print("{}: {} items, {} classes\n", j.model, r.items, j.classes.size());
  Table head("lrll", {"measure", "value", "95 %", ""});
  const auto count = [&](const Interval& i) {
    return fmt::format("{} of {}", std::llround(i.value * static_cast<double>(r.items)), r.items);
  };
  head.row({"top 1", percent(r.top_1.value), percent(r.top_1), count(r.top_1)});
  if (r.k > 1 && static_cast<int>(j.classes.size()) > r.k)
    head.row({fmt::format("top {}", r.k), percent(r.top_k.value), percent(r.top_k), count(r.top_k)});
  head.row({"mean F1", percent(r.mean_f1.value), percent(r.mean_f1), "over the classes"});
  if (r.odd > 0) head.row({"NaN", std::to_string(r.odd), "", "items whose scores hold NaN; they count as wrong"});
  fmt::print("{}  {}\n", head.text(), speed_text(j, static_cast<size_t>(r.items)));
  constexpr size_t kMost = 20;
  const size_t n = j.classes.size();
  std::vector<size_t> order(n);
  for (size_t c = 0; c < n; ++c) order[c] = c;
  if (n > kMost)
    std::ranges::stable_sort(order, {}, [&](size_t c) { return r.classes[c].items + r.classes[c].said > 0 ? r.classes[c].f1 : 2; });
  Table classes("lrrlrlr", {"class", "items", "recall", "95 %", "precision", "95 %", "F1"});
  for (size_t i = 0; i < std::min(n, kMost); ++i) {
    const ClassMeasure& c = r.classes[order[i]];
    classes.row({c.label, std::to_string(c.items), c.items > 0 ? percent(c.recall.value) : "none", c.items > 0 ? percent(c.recall) : "",
                 c.said > 0 ? percent(c.precision.value) : "none", c.said > 0 ? percent(c.precision) : "", percent(c.f1)});
  }
  fmt::print("\nBy class{}\n{}", n > kMost ? fmt::format(", the {} with the lowest F1", kMost) : "", classes.text());
  if (n <= kMost) {
    std::string alignment = "l";
    std::vector<std::string> names{"is, said"};
    for (const std::string& label : j.classes) alignment += 'r', names.push_back(label);
    Table confusion(alignment, names);
    for (size_t e = 0; e < n; ++e) {
      std::vector<std::string> row{j.classes[e]};
      for (size_t s = 0; s < n; ++s) row.push_back(r.confusion[e * n + s] > 0 ? std::to_string(r.confusion[e * n + s]) : ".");
      confusion.row(row);
    }
    fmt::print("\nWhat it is (rows) and what was said (columns)\n{}", confusion.text());
  }
  if (r.wrong.empty() || worst == 0) return;
  Table wrong("lllr", {"item", "is", "said", "score"});
  for (size_t i = 0; i < r.wrong.size() && i < static_cast<size_t>(worst); ++i) {
    const ClassAnswer& a = j.answers[r.wrong[i]];
    wrong.row({a.item, j.classes[static_cast<size_t>(a.expected)], a.best.empty() ? "NaN" : j.classes[static_cast<size_t>(a.best[0])],
               a.scores.empty() ? "" : fmt::format("{:.4g}", a.scores[0])});
  }
  fmt::print("\nWrong, the most certain first ({} of {})\n{}", std::min(r.wrong.size(), static_cast<size_t>(worst)), r.wrong.size(),
             wrong.text());
}

Json values_json(const Judged& j, const ValueReport& r, int worst) {
  Json out = run_json(j);
  out["items"] = r.items;
  out["odd"] = r.odd;
  out["mean_absolute_error"] = to_json(r.mean_absolute);
  out["root_mean_square_error"] = to_json(r.root_mean_square);
  out["r_squared"] = to_json(r.r_squared);
  out["worst"] = Json::array();
  for (size_t i = 0; i < r.worst.size() && i < static_cast<size_t>(worst); ++i) {
    const ValueAnswer& a = j.values[r.worst[i]];
    out["worst"].push_back({{"item", a.item},
                            {"mean_absolute_error", number(a.absolute / static_cast<double>(std::max<int64_t>(1, a.count)))},
                            {"largest_error", number(a.largest)}});
  }
  return out;
}

void print_values(const Judged& j, const ValueReport& r, int worst) {
  fmt::print("{}: {} items\n", j.model, r.items);
  Table head("lrl", {"measure", "value", "95 %"});
  const auto line = [&](const char* name, const Interval& i) {
    head.row({name, figure(i.value), fmt::format("{} to {}", figure(i.low), figure(i.high))});
  };
  line("mean absolute error", r.mean_absolute);
  line("root mean square error", r.root_mean_square);
  line("R2", r.r_squared);
  if (r.odd > 0) head.row({"left out", std::to_string(r.odd), "items with NaN or infinity"});
  fmt::print("{}  {}\n", head.text(), speed_text(j, static_cast<size_t>(r.items)));
  if (worst == 0) return;
  Table table("lrr", {"item", "mean error", "largest"});
  for (size_t i = 0; i < r.worst.size() && i < static_cast<size_t>(worst); ++i) {
    const ValueAnswer& a = j.values[r.worst[i]];
    table.row({a.item, a.odd ? "NaN or Inf" : figure(a.absolute / static_cast<double>(std::max<int64_t>(1, a.count))),
               a.odd ? "" : figure(a.largest)});
  }
  fmt::print("\nFurthest off\n{}", table.text());
}

// The items that both have answers to, in order.
template <typename Answer>
std::pair<std::vector<Answer>, std::vector<Answer>> common(const Judged& a, const Judged& b, const std::vector<Answer> Judged::*list) {
  std::pair<std::vector<Answer>, std::vector<Answer>> both;
  size_t x = 0, y = 0;
  for (size_t i = 0; i < a.seen.size(); ++i) {
    if (a.seen[i] && b.seen[i]) both.first.push_back((a.*list)[x]), both.second.push_back((b.*list)[y]);
    x += static_cast<size_t>(a.seen[i]);
    y += static_cast<size_t>(b.seen[i]);
  }
  return both;
}

Json compare_classes(const Judged& a, const Judged& b, bool people) {
  const auto [first, second] = common(a, b, &Judged::answers);
  std::vector<bool> right_a, right_b;
  for (const ClassAnswer& x : first) right_a.push_back(x.right());
  for (const ClassAnswer& x : second) right_b.push_back(x.right());
  const PairedShares s = compare_paired(right_a, right_b);
  const double d = 100 * s.difference.value;
  if (people) {
    fmt::print(
        "\n{} {} against {}: {} at {} items\n", b.model,
        d == 0 ? "is level"
               : fmt::format("{} {:.1f} points ({:.1f} to {:.1f})", d < 0 ? "lost" : "gained", std::fabs(d),
                             100 * (d < 0 ? -s.difference.high : s.difference.low), 100 * (d < 0 ? -s.difference.low : s.difference.high)),
        a.model, s.significant() ? fmt::format("significant, p = {:.2g}", s.p) : fmt::format("not significant, p = {:.2g},", s.p), s.items);
    fmt::print("  right by the first alone {}, by the second alone {}\n", s.only_first, s.only_second);
  }
  return {{"items", s.items}, {"only_first", s.only_first},    {"only_second", s.only_second}, {"difference", to_json(s.difference)},
          {"p", s.p},         {"significant", s.significant()}};
}

Json compare_numbers(const Judged& a, const Judged& b, bool people) {
  const auto [first, second] = common(a, b, &Judged::values);
  const Interval d = compare_values(first, second);
  if (people)
    fmt::print("\n{} against {}: mean absolute error {:+.6g} ({:+.6g} to {:+.6g}){}\n", b.model, a.model, d.value, d.low, d.high,
               d.low <= 0 && d.high >= 0 ? ", which may be chance" : "");
  return {{"items", first.size()}, {"mean_absolute_error", to_json(d)}};
}

int on_noise(const Options& o) {
  Graph graph = o.model.load_graph();
  CompileOptions options = o.model.compile_options(graph);
  options.threads = 1;
  const Program program = o.model.make_program(std::move(graph), options);
  const std::vector<Shape> shapes = o.model.shapes_for(program, options);
  const size_t rows = shapes.empty() || shapes[0].empty() ? 1 : static_cast<size_t>(std::max<int64_t>(1, shapes[0][0]));
  std::vector<Shape> one = shapes;
  for (Shape& s : one) {
    if (rows > 1 && !s.empty()) s[0] = 1;
  }
  (void)program.describe(shapes);
  Progress progress;
  const auto items = static_cast<size_t>(o.noise);
  const ItemsRun run = run_items(
      program, shapes, items, [&](size_t i) { return random_inputs(program, one, i + 1); }, [](size_t, const std::vector<Tensor>&) {},
      {o.model.threads, true, o.model.run_options(), [&](size_t done) { progress.show(fmt::format("{} of {} items", done, items)); }});
  progress.show("");
  const char* why = "noise has no right answers: give labelled data with --data to have accuracy";
  write_json(o.model.json, {{"model", o.model.model},
                            {"noise", items},
                            {"seconds", run.seconds},
                            {"lanes", run.lanes},
                            {"items_a_second", static_cast<double>(items) / run.seconds},
                            {"accuracy", nullptr},
                            {"why", why}});
  if (for_people(o.model.json))
    fmt::print("{}: {} items of noise\n  {:.4g} items/s, {} lane{} of one thread, making the noise included\n  no accuracy: {}\n",
               o.model.model, items, static_cast<double>(items) / run.seconds, run.lanes, run.lanes == 1 ? "" : "s", why);
  return kGood;
}

int judge_all(const Options& o) {
  if (o.noise > 0) {
    if (!o.data.empty() || !o.against.empty() || o.at_least >= 0)
      throw UsageError("--noise measures speed alone: --data, --against and --at-least do not go with it");
    return on_noise(o);
  }
  if (o.data.empty()) throw UsageError("--data is missing: a folder of a folder a class, a CSV of file and label, or arrays; or --noise N");
  const Data data = read_data(o);
  if (data.values() && o.at_least >= 0) throw UsageError("--at-least is a share of right answers; these targets are values");
  std::vector<ModelOptions> models{o.model};
  for (const std::string& other : o.against) {
    models.push_back(o.model);
    models.back().model = other;
    models.back().archive.reset();
  }
  std::vector<Judged> judged;
  for (const ModelOptions& m : models) judged.push_back(judge(o, m, data));
  const bool people = for_people(o.model.json);
  Json out;
  bool good = true;
  for (size_t i = 0; i < judged.size(); ++i) {
    const Judged& j = judged[i];
    if (people && i > 0) fmt::print("\n");
    if (data.values()) {
      const ValueReport r = judge_values(j.values);
      out["models"].push_back(values_json(j, r, o.worst));
      if (people) print_values(j, r, o.worst);
    } else {
      const ClassReport r = judge_classes(j.answers, j.classes, o.top);
      good = good && r.top_1.value >= o.at_least;
      out["models"].push_back(classes_json(j, r, o.worst));
      if (people) print_classes(j, r, o.worst);
    }
    if (i > 0)
      out["models"].back()["against_first"] = data.values() ? compare_numbers(judged[0], j, people) : compare_classes(judged[0], j, people);
    if (people && !j.run.failed.empty())
      fmt::print("  {} of {} items could not be read and are left out\n", j.run.failed.size(), data.items);
  }
  write_json(o.model.json, out);
  if (people && o.at_least >= 0) fmt::print("\n{}: at least {} was asked\n", good ? "held" : "not held", percent(o.at_least));
  return good ? kGood : kCheckFailed;
}

}  // namespace

Command add_judge(CLI::App& app) {
  auto o = std::make_shared<Options>();
  o->model.add_to(app);
  app.add_option("--data", o->data,
                 "What to judge by: a folder with a folder of pictures for each class; a CSV of file and label; or arrays (npz, npy)")
      ->type_name("PATH");
  app.add_option("--beside", o->beside, "Folder that a CSV's files lie in (the CSV's own)")->type_name("DIR");
  app.add_option("--targets", o->targets, "What is expected of arrays: whole numbers are classes, floats are values")->type_name("FILE");
  app.add_option("--against", o->against, "Another model on the same items, compared item by item (repeatable)")
      ->type_name("MODEL")
      ->allow_extra_args(false);
  app.add_option("--top", o->top, "An answer is also counted right among the K likeliest (5)")->check(CLI::Range(1, 1000))->type_name("K");
  app.add_option("--worst", o->worst, "How many of the worst items to list (10)")->check(CLI::Range(0, 100000))->type_name("N");
  app.add_option("--at-least", o->at_least, "Share of right answers below which the exit code is 1, e.g. 0.98")
      ->check(CLI::Range(0.0, 1.0))
      ->type_name("SHARE");
  app.add_option("--noise", o->noise, "No data: N generated items, for speed alone")->check(CLI::Range(1, 100000000))->type_name("N");
  app.add_flag("--strict", o->strict, "An item that cannot be read ends it (else it is named and left out)");
  o->pictures.add_to(app);
  o->model.add_limits(app);
  return [o] { return judge_all(*o); };
}

}  // namespace lathe::cli
