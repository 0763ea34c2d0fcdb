// lathe judge
#include <algorithm>
#include <cmath>
#include <filesystem>

#include "contact_sheet.hpp"
#include "judge.hpp"

namespace lathe::cli {
namespace {

namespace fs = std::filesystem;

struct Judged : Judgement {
  std::string model;
};

}  // namespace

bool of_lines(const JudgeFlags& o) { return o.as == "tokens" && o.targets.empty() && fs::path(o.data).extension() == ".txt"; }

Program lines_program(const ModelOptions& model) {
  Graph graph = model.load_graph();
  CompileOptions options = model.compile_options(graph);
  options.threads = 1;
  if (!model.archived()) options.states = find_states(graph);
  if (model.dims.empty() && model.batch == 0) options.dims.clear();
  if (model.shapes.empty()) options.shapes.clear();
  return model.make_program(std::move(graph), options);
}

Judging judging(const JudgeFlags& o, const ModelOptions& model, const ItemData& data) {
  Judging j;
  if (of_lines(o)) {
    j.program = lines_program(model);
    j.shapes = item_shapes(j.program, data, {}, std::max<int64_t>(1, model.batch));
    return j;
  }
  Graph graph = model.load_graph();
  CompileOptions options = model.compile_options(graph);
  options.threads = 1;
  j.program = model.make_program(std::move(graph), options);
  if (!data.files.empty()) {
    j.shapes = {o.pictures.shape_for(model, j.program, options, data.files.front().file)};
  } else if (options.shapes.empty() && options.dims.empty() && !model.archived()) {
    j.shapes = item_shapes(j.program, data, {}, model.batch);
  } else {
    j.shapes = model.shapes_for(j.program, options);
  }
  return j;
}

std::vector<ModelOptions> models_of(const JudgeFlags& o) {
  std::vector<ModelOptions> models{o.model};
  for (const std::string& other : o.against) {
    models.push_back(o.model);
    models.back().model = other;
    models.back().archive.reset();
  }
  return models;
}

void tell_left_out(const ItemsRun& run, const ItemData& data) {
  constexpr size_t kNamed = 10;
  for (size_t i = 0; i < std::min(kNamed, run.failed.size()); ++i)
    fmt::print(stderr, "lathe: item {} is left out: {}\n", data.name(run.failed[i].first), run.failed[i].second);
  if (run.failed.size() > kNamed) fmt::print(stderr, "lathe: and {} more (--json names them all)\n", run.failed.size() - kNamed);
}

std::string speed_text(const ItemsRun& run, int64_t items) {
  const std::string shared = shared_text(run.shared);
  // What the checkpoint held was not done now.
  const auto done = static_cast<double>(items - run.shared.resumed);
  if (done == 0 && !shared.empty()) return "all " + shared;
  return fmt::format("{:.4g} items/s, {} lane{} of one thread{}, reading included{}{}", done / run.seconds, run.lanes,
                     run.lanes == 1 ? "" : "s", run.shared.items.size() > 1 ? " a rank" : "", shared.empty() ? "" : "\n  ", shared);
}

std::string job_text(const JudgeFlags& o, size_t items) {
  return fmt::format("judge {} {} {} {} {} {} {} {} {} {}", o.as, o.data, o.beside, o.targets, o.vocabulary, items, o.top, o.white,
                     o.pictures.text(), o.detect.text());
}

namespace {

Json number(double v) { return std::isfinite(v) ? Json(v) : Json(nullptr); }

}  // namespace

Json interval_json(const Interval& i) { return {{"value", number(i.value)}, {"low", number(i.low)}, {"high", number(i.high)}}; }
std::string percent(double v) { return fmt::format("{:.1f} %", 100 * v); }
std::string percent(const Interval& i) { return fmt::format("{:.1f} to {:.1f}", 100 * i.low, 100 * i.high); }

namespace {

Judged judge(const JudgeFlags& o, const ModelOptions& model, const ItemData& data, const ShareOptions& share) {
  Judged j;
  const auto [program, shapes] = judging(o, model, data);
  Progress progress;
  JudgeOptions how{o.pictures.settings(), o.pictures.labels_of(program.metadata()), o.top};
  how.items = {
      model.threads, o.strict, model.run_options(),
      [&](size_t done) { progress.show(fmt::format("{}: {} of {} items", fs::path(model.model).filename().string(), done, data.items)); },
      share};
  static_cast<Judgement&>(j) = lathe::judge(program, data, shapes, how);
  j.model = model.model;
  progress.show("");
  tell_left_out(j.run, data);
  return j;
}

std::string figure(double v) { return std::isnan(v) ? "none" : fmt::format("{:.6g}", v); }

Json run_json(const Judged& j) {
  Json failed = Json::array();
  for (const auto& [item, what] : j.run.failed) failed.push_back(what);
  Json out{{"model", j.model}, {"seconds", j.run.seconds}, {"lanes", j.run.lanes}, {"left_out", failed}};
  if (!j.run.shared.items.empty()) out["shared"] = shared_json(j.run.shared);
  return out;
}

Json classes_json(const Judged& j, const ClassReport& r, int worst) {
  Json out = run_json(j);
  out["items"] = r.items;
  out["odd"] = r.odd;
  out["top_1"] = interval_json(r.top_1);
  out["top_k"] = interval_json(r.top_k);
  out["k"] = r.k;
  out["mean_f1"] = interval_json(r.mean_f1);
  for (const ClassMeasure& c : r.classes)
    out["classes"].push_back({{"label", c.label},
                              {"items", c.items},
                              {"said", c.said},
                              {"right", c.right},
                              {"recall", interval_json(c.recall)},
                              {"precision", interval_json(c.precision)},
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
  fmt::print("{}  {}\n", head.text(), speed_text(j.run, r.items));
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
  out["mean_absolute_error"] = interval_json(r.mean_absolute);
  out["root_mean_square_error"] = interval_json(r.root_mean_square);
  out["r_squared"] = interval_json(r.r_squared);
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
  fmt::print("{}  {}\n", head.text(), speed_text(j.run, r.items));
  if (worst == 0) return;
  Table table("lrr", {"item", "mean error", "largest"});
  for (size_t i = 0; i < r.worst.size() && i < static_cast<size_t>(worst); ++i) {
    const ValueAnswer& a = j.values[r.worst[i]];
    table.row({a.item, a.odd ? "NaN or Inf" : figure(a.absolute / static_cast<double>(std::max<int64_t>(1, a.count))),
               a.odd ? "" : figure(a.largest)});
  }
  fmt::print("\nFurthest off\n{}", table.text());
}

Json compare_classes(const Judged& a, const Judged& b, bool people) {
  const PairedShares s = compare_answers(a, b);
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
  return {{"items", s.items}, {"only_first", s.only_first},    {"only_second", s.only_second}, {"difference", interval_json(s.difference)},
          {"p", s.p},         {"significant", s.significant()}};
}

Json compare_numbers(const Judged& a, const Judged& b, bool people) {
  const Interval d = compare_values(a, b);
  if (people)
    fmt::print("\n{} against {}: mean absolute error {:+.6g} ({:+.6g} to {:+.6g}){}\n", b.model, a.model, d.value, d.low, d.high,
               d.low <= 0 && d.high >= 0 ? ", which may be chance" : "");
  return {{"items", a.values.size()}, {"mean_absolute_error", interval_json(d)}};
}

// Of every model that was judged.
void keep(const JudgeFlags& o, const std::vector<Judged>& judged, const Json& out) {
  if (!o.keep.on()) return;
  for (size_t i = 0; i < judged.size(); ++i) {
    const Judged& j = judged[i];
    LogEntry e = entry_for("judge", j.model, fmt::format("data {}", fs::path(o.data).filename().string()), out["models"][i]);
    const auto figure = [&](const char* name, const Json& interval, const char* unit) {
      if (interval["value"].is_null()) return;
      Figure& f = e.figures[name];
      f.value = interval["value"];
      f.unit = unit;
      if (!interval["low"].is_null()) f.low = interval["low"].get<double>();
      if (!interval["high"].is_null()) f.high = interval["high"].get<double>();
    };
    const Json& m = out["models"][i];
    if (m.contains("top_1")) figure("accuracy", m["top_1"], "share"), figure("mean_f1", m["mean_f1"], "share");
    else figure("error", m["mean_absolute_error"], ""), figure("r_squared", m["r_squared"], "");
    e.figures["items_per_second"] = {static_cast<double>(m["items"].get<int64_t>()) / j.run.seconds, {}, {}, "items/s", {}};
    keep_entry(o.keep, e, for_people(o.model.json));
  }
}

int on_noise(const JudgeFlags& o) {
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

// The wrong ones of the last model, as a contact sheet.
void draw_wrong(const JudgeFlags& o, const Judged& j, const ItemData& data) {
  if (data.files.empty() || data.values()) throw UsageError("--sheet draws pictures; these items are none");
  const ClassReport r = judge_classes(j.answers, j.classes, o.top);
  std::vector<fs::path> files;  // of the items that have an answer
  for (size_t i = 0; i < data.items; ++i) {
    if (j.seen[i]) files.push_back(data.files[i].file);
  }
  std::vector<SheetItem> items;
  for (size_t i = 0; i < r.wrong.size() && i < static_cast<size_t>(o.worst); ++i) {
    const ClassAnswer& a = j.answers[r.wrong[i]];
    items.push_back({files[r.wrong[i]],
                     a.item,
                     fmt::format("{}, said {}", j.classes[static_cast<size_t>(a.expected)],
                                 a.best.empty() ? "NaN" : fmt::format("{} {:.2f}", j.classes[static_cast<size_t>(a.best[0])], a.scores[0])),
                     {},
                     {}});
  }
  draw_contact_sheet(
      o.sheet, fmt::format("{}: {} of {} wrong, the most certain first", fs::path(j.model).filename().string(), r.wrong.size(), r.items),
      items);
}

int judge_all(const JudgeFlags& o) {
  if (!o.sheet.empty())
    check_sheet_name(o.sheet), check_target("--sheet", o.sheet, {"a PNG picture"}, std::vector<std::string>{o.model.model});
  if (o.noise > 0) {
    if (!o.data.empty() || !o.against.empty() || o.at_least >= 0)
      throw UsageError("--noise measures speed alone: --data, --against and --at-least do not go with it");
    if (!o.ranks.ranks.empty() || !o.ranks.checkpoint.empty())
      throw UsageError("--ranks and --checkpoint go with --data, not with --noise");
    return on_noise(o);
  }
  const RanksScope ranks(o.ranks);
  if (o.as != "classes" && !o.data.empty()) return judge_drawn_all(o, ranks);
  if (o.data.empty()) throw UsageError("--data is missing: a folder of a folder a class, a CSV of file and label, or arrays; or --noise N");
  const ItemData data = read_judged(o.data, o.targets, o.beside);
  if (data.values() && o.at_least >= 0) throw UsageError("--at-least is a share of right answers; these targets are values");
  std::vector<Judged> judged;
  for (const ModelOptions& m : models_of(o)) judged.push_back(judge(o, m, data, ranks.share(m, job_text(o, data.items), judged.size())));
  if (!ranks.reports()) return kGood;
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
  if (!o.sheet.empty()) draw_wrong(o, judged.back(), data);
  if (people && !o.sheet.empty()) fmt::print("  sheet: {}\n", o.sheet);
  keep(o, judged, out);
  if (people && o.at_least >= 0)
    fmt::print("\n{}: at least {} was asked\n", verdict_text(good ? "held" : "not held", good), percent(o.at_least));
  return good ? kGood : kCheckFailed;
}

}  // namespace

Command add_judge(CLI::App& app) {
  auto o = std::make_shared<JudgeFlags>();
  o->model.add_to(app);
  app.add_option("--data", o->data,
                 "What to judge by: a folder with a folder of pictures for each class; a CSV of file and label; or arrays (npz, npy)")
      ->type_name("PATH");
  app.add_option("--beside", o->beside, "Folder that a CSV's files lie in (the CSV's own)")->type_name("DIR");
  app.add_option("--targets", o->targets, "What is expected of arrays: whole numbers are classes or tokens, floats are values")
      ->type_name("FILE");
  app.add_option("--as", o->as,
                 "What the model gives: classes (or values, by the targets); masks or restored pictures, with a CSV of picture and target; "
                 "boxes, with a CSV of file, class, x, y, width, height, or JSON; tokens, with arrays, or a .txt of lines (classes)")
      ->check(CLI::IsMember({"classes", "masks", "pictures", "boxes", "tokens"}))
      ->type_name("WHAT");
  app.add_option("--vocabulary", o->vocabulary, "Of lines of text: which numbers stand for them, a file or 'bytes' (the model's own)")
      ->type_name("FILE");
  o->detect.add_to(app, 0.05);
  app.add_option("--white", o->white, "Of --as pictures: what white is in the model's output, 1 or 255 (1)")
      ->check(CLI::Range(1e-6, 1e6))
      ->type_name("V");
  app.add_option("--against", o->against, "Another model on the same items, compared item by item (repeatable)")
      ->type_name("MODEL")
      ->allow_extra_args(false);
  app.add_option("--top", o->top, "An answer is also counted right among the K likeliest (5)")->check(CLI::Range(1, 1000))->type_name("K");
  app.add_option("--worst", o->worst, "How many of the worst items to list (10)")->check(CLI::Range(0, 100000))->type_name("N");
  app.add_option("--at-least", o->at_least, "Share of right answers below which the exit code is 1, e.g. 0.98")
      ->check(CLI::Range(0.0, 1.0))
      ->type_name("SHARE");
  app.add_option("--noise", o->noise, "No data: N generated items, for speed alone")->check(CLI::Range(1, 100000000))->type_name("N");
  app.add_option("--sheet", o->sheet, "Draw the worst items, of pictures, with what was expected and said")->type_name("FILE.png");
  app.add_flag("--strict", o->strict, "An item that cannot be read ends it (else it is named and left out)");
  o->pictures.add_to(app);
  o->keep.add_to(app);
  o->ranks.add_to(app);
  o->model.add_limits(app);
  return [o] { return judge_all(*o); };
}

}  // namespace lathe::cli
