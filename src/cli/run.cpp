// lathe run
#include <algorithm>
#include <cmath>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <numeric>

#include "base/clock.hpp"
#include "feed.hpp"
#include "ranks.hpp"
#include "base/files.hpp"
#include "base/text.hpp"
#include "tensor/widen.hpp"

namespace lathe::cli {
namespace {

namespace fs = std::filesystem;

struct RunFlags {
  ModelOptions model;
  FeedFlags feed;
  std::vector<std::string> images, series;
  PictureFlags pictures;
  std::string truth, save, save_as = "npy";
  int top = 3;
  RanksFlags ranks;
};

struct Ranked {
  std::string label;
  double value = 0;
};

std::vector<Ranked> top(std::span<const double> v, const std::vector<std::string>& labels, int k) {
  std::vector<size_t> order(v.size());
  std::iota(order.begin(), order.end(), 0);
  k = std::min<int>(k, static_cast<int>(v.size()));
  // NaN comes last.
  const auto rank = [&](size_t i) { return std::isnan(v[i]) ? -INFINITY : v[i]; };
  std::partial_sort(order.begin(), order.begin() + k, order.end(), [&](size_t a, size_t b) { return rank(a) > rank(b); });
  std::vector<Ranked> out;
  for (int i = 0; i < k; ++i) out.push_back({order[i] < labels.size() ? labels[order[i]] : fmt::format("#{}", order[i]), v[order[i]]});
  return out;
}

// Values that are probabilities are shown as such.
bool probabilities(std::span<const double> values) {
  double sum = 0;
  for (double v : values) {
    if (!(v >= 0 && v <= 1)) return false;
    sum += v;
  }
  return std::fabs(sum - 1) < 1e-3;
}

void save_outputs(const RunFlags& o, const std::vector<NamedTensor>& out, const std::string& stem) {
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
  const auto checked = [&](const fs::path& path, std::string_view kind) {
    std::vector<std::string> read = o.images;
    for (const std::string& text : o.series) read.push_back(text.substr(text.rfind('=') + 1));
    for (const std::string& text : o.feed.inputs) read.push_back(fs::exists(text) ? text : text.substr(text.find('=') + 1));
    read.push_back(o.model.model);
    check_target("--save", path.string(), {kind}, read);
    return path;
  };
  if (o.save_as == "npz") write_npz(checked(file("outputs", ".npz"), "an npz or zip archive"), out);
  for (const NamedTensor& t : out) {
    if (o.save_as == "npy") write_npy(checked(file(t.name, ".npy"), "an npy array"), t.tensor);
    if (o.save_as == "pb") write_tensor_pb(checked(file(t.name, ".pb"), kModelFile), t);
  }
}

std::vector<NamedTensor> named(const Outputs& out) {
  std::vector<NamedTensor> all;
  for (size_t i = 0; i < out.size(); ++i) all.push_back({out.name(i), out[i]});
  return all;
}

// Row `r` of a batch of `rows`; what has no such leading dim belongs to all of them.
Tensor row_of(const Tensor& t, int64_t r, int64_t rows) {
  if (t.composite() || t.rank() == 0 || t.shape()[0] != rows || rows == 1 || bit_width(t.dtype()) % 8 != 0) return t;
  Shape shape = t.shape();
  shape[0] = 1;
  Tensor out(t.dtype(), shape);
  const int64_t each = t.size() / rows;
  if (t.dtype() == DType::string) std::ranges::copy(t.as<std::string>().subspan(r * each, each), out.as<std::string>().begin());
  else if (each > 0) std::memcpy(out.data(), static_cast<const std::byte*>(t.data()) + r * out.byte_size(), out.byte_size());
  return out;
}

std::string summary(const Tensor& t) {
  if (t.dtype() == DType::string || is_complex(t.dtype()) || t.size() == 0) return "";
  const auto v = widen<double>(t);
  // A few numbers are shown as they are.
  if (v.size() <= 6) {
    std::string text;
    for (double e : v) text += fmt::format("{}{:.6g}", text.empty() ? "" : "  ", e);
    return text;
  }
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

// What is told of one picture, and what its cells of the table are.
Json picture_entry(const RunFlags& o, const fs::path& path, const std::vector<NamedTensor>& out, const std::vector<std::string>& labels,
                   const std::map<std::string, std::string>& truth) {
  const std::string name = path.filename().string();
  const Tensor& first = out[0].tensor;
  save_outputs(o, out, path.stem().string() + ".");
  Json entry{{"picture", name}};
  if (first.composite() || first.dtype() == DType::string || is_complex(first.dtype()))
    throw Error(Category::type, fmt::format("output '{}' is {}: no labels can be read off it", out[0].name,
                                            first.composite() ? to_string(first.kind()) : to_string(first.dtype())));
  const auto values = widen<double>(first);
  const int64_t odd = std::ranges::count_if(values, [](double v) { return std::isnan(v); });
  const auto ranked = top(values, labels, std::max(1, o.top));
  const bool percent = probabilities(values);
  const auto show = [&](const Ranked& r) {
    return percent ? fmt::format("{} {:.1f} %", r.label, 100 * r.value) : fmt::format("{} {:.4g}", r.label, r.value);
  };
  for (const Ranked& r : ranked)
    entry["top"].push_back({{"label", r.label}, {"value", std::isfinite(r.value) ? Json(r.value) : Json(fmt::format("{}", r.value))}});
  std::string next, verdict;
  for (size_t i = 1; i < ranked.size(); ++i) next += (i > 1 ? ", " : "") + show(ranked[i]);
  if (const auto known = truth.find(name); known != truth.end()) {
    const bool good = !ranked.empty() && odd == 0 && known->second == ranked[0].label;
    verdict = known->second + (good ? "" : "  <- wrong");
    entry["truth"] = known->second;
    entry["right"] = good;
  }
  entry["nan"] = odd;
  const std::string result = odd ? fmt::format("{} of {} are NaN", odd, values.size()) : ranked.empty() ? "" : show(ranked[0]);
  return {{"entry", entry}, {"cells", {name, result, odd ? "" : next, verdict}}};
}

int run_images(const RunFlags& o, const Program& program, const CompileOptions& options, const RanksScope& ranks) {
  const auto paths = list_pictures({o.images.begin(), o.images.end()});
  const auto labels = o.pictures.labels_of(program.metadata());
  const Shape shape = o.pictures.shape_for(o.model, program, options, paths.front());
  const PictureOptions picture = picture_options(o.pictures.settings(), program, shape);
  const auto truth = o.truth.empty() ? std::map<std::string, std::string>() : read_truth(o.truth);
  Lane lane(program, o.model.threads);
  // The last batch is filled up with its last picture; those rows are dropped.
  const auto rows = static_cast<size_t>(std::max<int64_t>(1, shape[0]));
  const auto batch = [&](size_t begin, size_t end, Json& all) {
    Tensor input(picture.dtype, shape);
    const size_t here = end - begin, each = input.byte_size() / rows;
    for (size_t r = 0; r < rows; ++r) {
      auto* to = static_cast<std::byte*>(input.data()) + r * each;
      if (r >= here) {
        std::memcpy(to, to - each, each);
        continue;
      }
      const Tensor one = picture_to_tensor(read_picture(paths[begin + r]), picture);
      std::memcpy(to, one.data(), each);
    }
    const Outputs out = lane.run({{program.inputs()[0].name, input}}, o.model.run_options());
    if (rows > 1 && (out[0].composite() || out[0].rank() == 0 || out[0].shape()[0] != shape[0]))
      throw Error(Category::shape, fmt::format("output '{}' is {}: it has no row for each of the {} pictures of a batch", out.name(0),
                                               to_string(out[0].shape()), rows));
    for (size_t r = 0; r < here; ++r) {
      std::vector<NamedTensor> own = named(out);
      for (NamedTensor& t : own) t.tensor = row_of(t.tensor, static_cast<int64_t>(r), shape[0]);
      all.push_back(picture_entry(o, paths[begin + r], own, labels, truth));
    }
  };
  std::vector<Json> told(paths.size());
  const auto work = [&](size_t begin, size_t end) {
    Json all = Json::array();
    for (size_t n = begin; n < end; n += rows) batch(n, std::min(end, n + rows), all);
    return all.dump(-1, ' ', false, Json::error_handler_t::replace);
  };
  const auto take = [&](size_t begin, size_t, std::string_view text) {
    for (Json& one : Json::parse(text)) told[begin++] = std::move(one);
  };
  Progress progress;
  std::string job = fmt::format("run {} {} {} {} {} {}", paths.size(), o.truth, o.top, o.save, o.save_as, o.pictures.text());
  for (const fs::path& p : paths) job += "\n" + p.string();
  const Shared shared = share_out(ranks.share(o.model, job), paths.size(), rows, work, take,
                                  [&](size_t done) { progress.show(fmt::format("{} of {} pictures", done, paths.size())); });
  progress.show("");
  if (!ranks.reports()) return kGood;

  Table table(truth.empty() ? "lll" : "llll", truth.empty() ? std::vector<std::string>{"picture", "result", "next"}
                                                            : std::vector<std::string>{"picture", "result", "next", "truth"});
  Json results = Json::array();
  int right = 0, judged = 0;
  int64_t nan = 0;
  const bool many = paths.size() > 20;
  for (const Json& one : told) {
    const Json& entry = one["entry"];
    nan += entry["nan"].get<int64_t>() > 0;
    const bool wrong = entry.contains("right") && !entry["right"].get<bool>();
    if (entry.contains("right")) ++judged, right += entry["right"].get<bool>();
    results.push_back(entry);
    // A long folder is listed only where it is wrong, and by its first pictures.
    if (many && results.size() > 8 && !wrong) continue;
    auto cells = one["cells"].get<std::vector<std::string>>();
    if (truth.empty()) cells.pop_back();
    table.row(cells);
  }
  Json j{{"model", o.model.model}, {"pictures", paths.size()}, {"results", results}};
  if (judged) j["accuracy"] = {{"right", right}, {"judged", judged}, {"share", static_cast<double>(right) / judged}};
  if (shared.items.size() > 1 || shared.resumed > 0) j["shared"] = shared_json(shared);
  write_json(o.model.json, j);
  if (nan > 0)
    fmt::print(stderr, "lathe: results of {} of {} pictures hold NaN: the weights, or --mean and --scale, do not fit\n", nan, paths.size());
  if (!for_people(o.model.json)) return kGood;
  fmt::print("{}", table.text(""));
  if (many) fmt::print("({} pictures; the first 8{} shown)\n", paths.size(), truth.empty() ? "" : " and the wrong ones");
  if (judged) fmt::print("accuracy: {} of {} right, {:.1f} %\n", right, judged, 100.0 * right / judged);
  if (const std::string text = shared_text(shared); !text.empty()) fmt::print("{}\n", text);
  return kGood;
}

// One run after another, each on the next entry along the first axis of some arrays; states stay from run to run.
class Series {
 public:
  Series(const std::vector<std::string>& given, const Graph& graph) {
    for (const std::string& text : given) {
      const auto [name, path] = split_pair(text, "--series");
      std::vector<std::string> names;
      const Value* port = nullptr;
      for (const ValueId v : graph.inputs) {
        names.push_back(graph.values[static_cast<size_t>(v)].name);
        if (names.back() == name) port = &graph.values[static_cast<size_t>(v)];
      }
      if (!port)
        throw UsageError(
            fmt::format("--series: no input is named '{}'; the inputs are {}{}", name, fmt::join(names, ", "), did_you_mean(name, names)));
      One one{name, read_value(path, "--series"), true};
      const auto rank = static_cast<size_t>(one.all.rank());
      if (rank == 0 || bit_width(one.all.dtype()) < 8)
        throw UsageError(fmt::format("--series: {} is {} {}: expected an array with an entry for each run along its first axis", path,
                                     to_string(one.all.dtype()), to_string(one.all.shape())));
      if (port->dims) {
        if (rank != port->dims->size() && rank != port->dims->size() + 1)
          throw UsageError(fmt::format("--series: {} is {}, input '{}' is {}: expected as many axes, or one more in front", path,
                                       to_string(one.all.shape()), name, to_string(*port->dims)));
        one.keeps_axis = rank == port->dims->size();
      }
      if (one.all.size() == 0) throw UsageError(fmt::format("--series: {} has no entries", path));
      if (!all_.empty() && one.all.shape()[0] != all_[0].all.shape()[0])
        throw UsageError(
            fmt::format("--series: '{}' has {} entries, '{}' has {}", all_[0].name, all_[0].all.shape()[0], name, one.all.shape()[0]));
      all_.push_back(std::move(one));
    }
  }
  int64_t runs() const { return all_[0].all.shape()[0]; }
  // The input's value in run `i`; nothing: it is not of the series.
  std::optional<Tensor> entry(const std::string& name, int64_t i) const {
    const auto it = std::ranges::find(all_, name, &One::name);
    if (it == all_.end()) return {};
    Shape shape(it->all.shape().begin() + (it->keeps_axis ? 0 : 1), it->all.shape().end());
    if (it->keeps_axis) shape[0] = 1;
    const size_t bytes = it->all.byte_size() / static_cast<size_t>(runs());
    // As borrowed memory it is only read.
    return Tensor::borrow(it->all.dtype(), shape,
                          const_cast<std::byte*>(static_cast<const std::byte*>(it->all.data())) + static_cast<size_t>(i) * bytes);
  }

 private:
  struct One {
    std::string name;
    Tensor all;
    bool keeps_axis;
  };
  std::vector<One> all_;
};

// What the runs gave, one behind another; along the first axis where that is 1 in each run, else along a new one.
Tensor joined(const std::vector<Tensor>& parts) {
  const Tensor& first = parts.front();
  Shape shape = first.shape();
  if (!shape.empty() && shape[0] == 1) shape[0] = static_cast<int64_t>(parts.size());
  else shape.insert(shape.begin(), static_cast<int64_t>(parts.size()));
  Tensor out(first.dtype(), shape);
  for (size_t i = 0; i < parts.size(); ++i) {
    if (first.byte_size() > 0) std::memcpy(static_cast<std::byte*>(out.data()) + i * first.byte_size(), parts[i].data(), first.byte_size());
  }
  return out;
}

int run_series(RunFlags& o, Graph graph, CompileOptions compile_options) {
  const Series series(o.series, graph);
  std::vector<std::string> kept;
  for (const StatePair& s : compile_options.states) kept.push_back(s.input);
  for (const ValueId v : graph.inputs) {  // sizes that the first entry gives
    const Value& value = graph.values[static_cast<size_t>(v)];
    const auto first = series.entry(value.name, 0);
    for (size_t d = 0; first && value.dims && d < value.dims->size(); ++d) {
      if (!(*value.dims)[d].symbol.empty()) compile_options.dims[(*value.dims)[d].symbol] = first->shape()[d];
    }
  }
  o.feed.read(o.model, graph, compile_options);
  const Program program = o.model.make_program(std::move(graph), compile_options);
  std::vector<bool> of_series;
  for (const Port& p : program.inputs()) {
    auto first = series.entry(p.name, 0);
    of_series.push_back(first.has_value());
    if (first) o.feed.give(p.name, std::move(*first));
  }
  std::vector<Tensor> inputs = o.feed.make(o.model, program, compile_options);
  Lane lane(program, o.model.threads);
  std::vector<std::vector<Tensor>> made(program.outputs().size());
  std::vector<double> seconds;
  Progress progress;
  const RunOptions run = o.model.run_options();
  for (int64_t r = 0; r < series.runs(); ++r) {
    if (r % 256 == 0) progress.show(fmt::format("run {} of {}", r + 1, series.runs()));
    for (size_t i = 0; i < inputs.size(); ++i) {
      if (of_series[i]) inputs[i] = *series.entry(program.inputs()[i].name, r);
    }
    const auto start = std::chrono::steady_clock::now();
    const Outputs out = lane.run(std::span<const Tensor>(inputs), run);
    seconds.push_back(since(start));
    for (size_t i = 0; i < out.size(); ++i) {
      if (out[i].composite() || bit_width(out[i].dtype()) % 8 != 0 || (r > 0 && out[i].shape() != made[i][0].shape()))
        throw Error(Category::shape, fmt::format("output '{}' of run {} is {} {}: results of a series must be arrays of one size",
                                                 out.name(i), r + 1, to_string(out[i].dtype()), to_string(out[i].shape())));
      Tensor copy(out[i].dtype(), out[i].shape());
      if (copy.byte_size() > 0) std::memcpy(copy.data(), out[i].data(), copy.byte_size());
      made[i].push_back(std::move(copy));
    }
  }
  progress.show("");
  std::vector<NamedTensor> all;
  for (size_t i = 0; i < made.size(); ++i) all.push_back({program.outputs()[i].name, joined(made[i])});
  save_outputs(o, all, "");
  const Latency l = summarise(seconds);
  Json j{{"model", o.model.model},
         {"runs", series.runs()},
         {"states", kept},
         {"latency_seconds", {{"min", l.min}, {"median", l.median}, {"p90", l.p90}, {"p99", l.p99}, {"max", l.max}}}};
  for (const NamedTensor& t : all) j["outputs"][t.name] = tensor_json(t.tensor);
  write_json(o.model.json, j);
  if (!for_people(o.model.json)) return kGood;
  Table table("llll", {"output", "dtype", "shape", "values"});
  for (const NamedTensor& t : all)
    table.row({t.name, std::string(to_string(t.tensor.dtype())), to_string(t.tensor.shape()), summary(t.tensor)});
  fmt::print("{}{} runs one after another{}: median {}, 99 of 100 within {}\n", table.text(""), series.runs(),
             kept.empty() ? ", no states kept" : fmt::format(", states kept: {}", fmt::join(kept, ", ")), seconds_text(l.median),
             seconds_text(l.p99));
  if (!o.save.empty()) fmt::print("written to {}\n", o.save);
  return kGood;
}

int run_tensors(RunFlags& o, Graph graph, CompileOptions compile_options) {
  o.feed.read(o.model, graph, compile_options);
  const Program program = o.model.make_program(std::move(graph), compile_options);
  const std::vector<Tensor> inputs = o.feed.make(o.model, program, compile_options);
  Lane lane(program, o.model.threads);
  RunProgress slow("running");
  const Outputs out = lane.run(std::span<const Tensor>(inputs), slow.on(o.model.run_options()));
  save_outputs(o, named(out), "");
  Json j{{"model", o.model.model}};
  for (size_t i = 0; i < out.size(); ++i) j["outputs"][out.name(i)] = tensor_json(out[i]);
  write_json(o.model.json, j);
  if (!for_people(o.model.json)) return kGood;
  const auto labels = o.pictures.labels_of(program.metadata());
  Table table("llll", {"output", "dtype", "shape", "values"});
  for (size_t i = 0; i < out.size(); ++i)
    table.row({out.name(i), std::string(to_string(out[i].dtype())), to_string(out[i].shape()), summary(out[i])});
  fmt::print("{}", table.text(""));
  if (!labels.empty() && out[0].rank() == 2 && out[0].shape()[1] == static_cast<int64_t>(labels.size())) {
    const auto all = widen<double>(out[0]);
    for (int64_t r = 0; r < std::min<int64_t>(out[0].shape()[0], 16); ++r) {
      const auto row = std::span(all).subspan(r * out[0].shape()[1], out[0].shape()[1]);
      std::string line;
      const bool percent = probabilities(row);
      for (const Ranked& k : top(row, labels, o.top)) {
        line += line.empty() ? "" : ", ";
        line += percent ? fmt::format("{} {:.1f} %", k.label, 100 * k.value) : fmt::format("{} {:.4g}", k.label, k.value);
      }
      fmt::print("  row {}: {}\n", r, line);
    }
  }
  if (!o.save.empty()) fmt::print("written to {}\n", o.save);
  return kGood;
}

}  // namespace

Command add_run(CLI::App& app) {
  auto o = std::make_shared<RunFlags>();
  o->model.add_to(app);
  o->model.add_states(app);
  o->feed.add_to(app, {.cases = false, .image = false});
  app.add_option("--series", o->series,
                 "An input's values for many runs, one after another along the array's first axis; with --states they are kept between "
                 "runs (repeatable)")
      ->type_name("NAME=FILE")
      ->allow_extra_args(false);
  app.add_option("--image", o->images, "A picture (PNG, JPEG) or a folder of them (repeatable); resized to the input")
      ->type_name("PATH")
      ->allow_extra_args(false);
  o->pictures.add_to(app);
  app.add_option("--truth", o->truth, "File of FILE,LABEL lines to count right answers with")->type_name("FILE");
  app.add_option("--top", o->top, "How many labels to show (3)")->check(CLI::Range(1, 1000))->type_name("K");
  app.add_option("--save", o->save, "Folder to write outputs to")->type_name("DIR");
  auto* save_as = app.add_option("--save-as", o->save_as, "npy, npz or pb (npy)")->check(CLI::IsMember({"npy", "npz", "pb"}));
  o->ranks.add_to(app);
  o->model.add_limits(app);
  return [o, save_as] {
    if (o->images.empty() && (!o->ranks.ranks.empty() || !o->ranks.checkpoint.empty()))
      throw UsageError("--ranks and --checkpoint share out pictures: they go with --image");
    if (save_as->count() > 0 && o->save.empty()) throw UsageError("--save-as says how --save writes: give --save DIR too");
    Graph graph = o->model.load_graph();
    CompileOptions options = o->model.compile_options(graph);
    if (!o->series.empty()) {
      if (!o->images.empty()) throw UsageError("--image and --series do not go together");
      return run_series(*o, std::move(graph), options);
    }
    if (o->images.empty()) return run_tensors(*o, std::move(graph), options);
    if (!o->feed.inputs.empty()) throw UsageError("--image and --input do not go together");
    const RanksScope ranks(o->ranks);
    const Program program = o->model.make_program(std::move(graph), options);
    return run_images(*o, program, options, ranks);
  };
}

}  // namespace lathe::cli
