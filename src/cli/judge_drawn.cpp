// lathe judge --as masks, pictures, boxes, tokens.
#include <algorithm>
#include <cmath>
#include <filesystem>

#include "contact_sheet.hpp"
#include "judge.hpp"

namespace lathe::cli {
namespace {

namespace fs = std::filesystem;

Drawn kind_of(const std::string& as) {
  return as == "masks" ? Drawn::masks : as == "pictures" ? Drawn::pictures : as == "boxes" ? Drawn::boxes : Drawn::tokens;
}

// What is told of one model: measures with intervals, a table by class, the worst items.
struct Told {
  struct Measure {
    std::string name, key;
    Interval value;
    bool share = false;
  };
  std::vector<Measure> measures;
  std::vector<std::string> class_head;
  std::vector<std::vector<std::string>> class_rows;
  Json by_class = Json::array();
  std::vector<std::pair<std::string, std::string>> worst;  // item, and how bad
  std::vector<size_t> order;                               // of the answers, as in `worst`
  std::string worst_head;
  int64_t items = 0;
  std::string note;
};

std::string short_figure(double v) { return std::isnan(v) ? "none" : fmt::format("{:.5g}", v); }
std::string class_name(const DrawnJudgement& j, size_t c) { return c < j.classes.size() ? j.classes[c] : std::to_string(c); }

Told tell_masks(const DrawnJudgement& j) {
  const auto classes = static_cast<int64_t>(j.classes.size());
  const MaskReport r = judge_masks(j.masks, classes);
  Told t;
  t.items = r.items;
  t.measures = {{"mean overlap", "mean_overlap", r.mean_overlap, true}, {"pixels right", "pixels_right", r.right, true}};
  t.class_head = {"class", "overlap", "95 %"};
  for (size_t c = 0; c < r.classes.size(); ++c) {
    if (std::isnan(r.classes[c].value)) continue;
    t.class_rows.push_back({class_name(j, c), percent(r.classes[c].value), percent(r.classes[c])});
    t.by_class.push_back({{"label", class_name(j, c)}, {"overlap", interval_json(r.classes[c])}});
  }
  t.worst_head = "mean overlap";
  t.order = r.worst;
  for (size_t i : r.worst) t.worst.emplace_back(j.masks[i].item, percent(j.masks[i].mean_overlap()));
  return t;
}

Told tell_pictures(const DrawnJudgement& j) {
  const PictureReport r = judge_pictures(j.pictures);
  Told t;
  t.items = r.items;
  t.measures = {{"PSNR, dB", "psnr", r.psnr}, {"SSIM", "ssim", r.ssim}};
  t.worst_head = "PSNR, dB";
  t.order = r.worst;
  for (size_t i : r.worst) t.worst.emplace_back(j.pictures[i].item, short_figure(j.pictures[i].psnr));
  return t;
}

Told tell_boxes(const DrawnJudgement& j) {
  const BoxReport r = judge_boxes(j.boxes, static_cast<int64_t>(j.classes.size()));
  Told t;
  t.items = r.items;
  t.measures = {{"mean average precision at 0.5", "map_at_half", r.at_half, true},
                {"mean average precision, 0.5 to 0.95", "map_over_all", r.over_all, true}};
  t.class_head = {"class", "at 0.5", "0.5 to 0.95"};
  for (size_t c = 0; c < j.classes.size(); ++c) {
    if (std::isnan(r.classes_at_half[c])) continue;
    t.class_rows.push_back({class_name(j, c), percent(r.classes_at_half[c]), percent(r.classes_over_all[c])});
    t.by_class.push_back({{"label", class_name(j, c)}, {"at_half", r.classes_at_half[c]}, {"over_all", r.classes_over_all[c]}});
  }
  t.note = fmt::format("{} boxes found, {} expected", r.found, r.expected);
  t.worst_head = "found, expected";
  t.order = r.worst;
  for (size_t i : r.worst)
    t.worst.emplace_back(j.boxes[i].item, fmt::format("{}, {}", j.boxes[i].found.size(), j.boxes[i].expected.size()));
  return t;
}

Told tell_tokens(const DrawnJudgement& j) {
  const TokenReport r = judge_tokens(j.tokens);
  Told t;
  t.items = r.items;
  t.measures = {
      {"perplexity", "perplexity", r.perplexity}, {"exact lines", "exact", r.exact, true}, {"tokens right", "tokens_right", r.right, true}};
  t.note = fmt::format("{} tokens", r.tokens);
  t.worst_head = "loss a token";
  t.order = r.worst;
  for (size_t i : r.worst)
    t.worst.emplace_back(j.tokens[i].item, short_figure(j.tokens[i].loss / static_cast<double>(std::max<int64_t>(1, j.tokens[i].count))));
  return t;
}

Told tell(const DrawnJudgement& j) {
  switch (j.kind) {
    case Drawn::masks: return tell_masks(j);
    case Drawn::pictures: return tell_pictures(j);
    case Drawn::boxes: return tell_boxes(j);
    default: return tell_tokens(j);
  }
}

void print(const std::string& model, const DrawnJudgement& j, const Told& t, int worst) {
  fmt::print("{}: {} items\n", model, t.items);
  Table head("lrl", {"measure", "value", "95 %"});
  for (const Told::Measure& m : t.measures)
    head.row({m.name, m.share ? percent(m.value.value) : short_figure(m.value.value),
              m.share ? percent(m.value) : fmt::format("{} to {}", short_figure(m.value.low), short_figure(m.value.high))});
  fmt::print("{}", head.text());
  if (!t.note.empty()) fmt::print("  {}\n", t.note);
  fmt::print("  {}\n", speed_text(j.run, t.items));
  if (!t.class_rows.empty()) {
    Table classes("l" + std::string(t.class_head.size() - 1, 'r'), t.class_head);
    for (const auto& row : t.class_rows) classes.row(row);
    fmt::print("\nBy class\n{}", classes.text());
  }
  const size_t shown = std::min(t.worst.size(), static_cast<size_t>(worst));
  if (shown == 0) return;
  Table table("lr", {"item", t.worst_head});
  for (size_t i = 0; i < shown; ++i) table.row({t.worst[i].first, t.worst[i].second});
  fmt::print("\nThe worst ({} of {})\n{}", shown, t.worst.size(), table.text());
}

// The worst of a model, with boxes on them where there are any.
void draw_worst(const JudgeFlags& o, const DrawnData& data, const DrawnJudgement& j, const std::string& model) {
  if (data.items.files.empty()) throw UsageError("--sheet draws pictures; these items are none");
  const Told t = tell(j);
  std::vector<size_t> place;  // of answers among the items
  for (size_t i = 0; i < j.seen.size(); ++i) {
    if (j.seen[i]) place.push_back(i);
  }
  std::vector<SheetItem> items;
  for (size_t k = 0; k < t.worst.size() && k < static_cast<size_t>(o.worst); ++k) {
    const size_t a = t.order[k];
    SheetItem item{data.items.files[place[a]].file, t.worst[k].first, fmt::format("{}: {}", t.worst_head, t.worst[k].second), {}, {}};
    if (j.kind == Drawn::boxes) item.expected = j.boxes[a].expected, item.found = j.boxes[a].found;
    items.push_back(std::move(item));
  }
  draw_contact_sheet(o.sheet, fmt::format("{}: the worst {} of {}", fs::path(model).filename().string(), items.size(), t.items), items);
}

// How mean average precision changed, on the items that both have an answer to.
Json precision_against(const DrawnJudgement& first, const DrawnJudgement& second, bool people) {
  std::vector<BoxAnswer> a, b;
  for (size_t i = 0, x = 0, y = 0; i < first.seen.size(); ++i) {
    if (first.seen[i] && second.seen[i]) a.push_back(first.boxes[x]), b.push_back(second.boxes[y]);
    x += static_cast<size_t>(first.seen[i]);
    y += static_cast<size_t>(second.seen[i]);
  }
  const PairedBoxes d = compare_boxes(a, b, static_cast<int64_t>(std::max(first.classes.size(), second.classes.size())));
  const auto say = [&](const char* what, const Interval& i) {
    if (people)
      fmt::print("{}: {:+.1f} points ({:+.1f} to {:+.1f}){}\n", what, 100 * i.value, 100 * i.low, 100 * i.high,
                 i.low <= 0 && i.high >= 0 ? ", which may be chance" : "");
  };
  if (people) fmt::print("\n");
  say("mean average precision at 0.5, against the first", d.at_half);
  say("mean average precision, 0.5 to 0.95", d.over_all);
  return {{"map_at_half", interval_json(d.at_half)}, {"map_over_all", interval_json(d.over_all)}};
}

DrawnData lines_of(const JudgeFlags& o, const ModelOptions& model) {
  const Program program = lines_program(model);
  const auto own = o.vocabulary == "bytes" ? std::optional(Vocabulary::bytes())
                   : o.vocabulary.empty()  ? Vocabulary::of(program.metadata())
                                           : std::optional(Vocabulary::load(o.vocabulary));
  if (!own)
    throw UsageError(fmt::format("{}: carries no vocabulary, which says which tokens the lines of {} are; give --vocabulary FILE or bytes",
                                 model.model, o.data));
  return as_usage([&] { return read_lines(o.data, program, *own); });
}

}  // namespace

int judge_drawn_all(const JudgeFlags& o, const RanksScope& ranks) {
  if (o.noise > 0) throw UsageError("--noise measures speed alone: --as does not go with it");
  const Drawn kind = kind_of(o.as);
  std::vector<DrawnJudgement> judged;
  std::vector<ModelOptions> models = models_of(o);
  std::optional<DrawnData> data;
  for (const ModelOptions& m : models) {
    // Names of classes come from the model, when nobody says them.
    if (!data) {
      const auto labels = o.pictures.labels_of(m.load_graph().metadata);
      data = of_lines(o) ? lines_of(o, m) : read_drawn(kind, o.data, o.targets, o.beside, labels);
    }
    const auto [program, shapes] = judging(o, m, data->items);
    Progress progress;
    DrawnOptions how{o.pictures.settings(), o.white, o.detect.form(), o.detect.options()};
    how.items = {m.threads, o.strict, m.run_options(),
                 [&](size_t done) {
                   progress.show(fmt::format("{}: {} of {} items", fs::path(m.model).filename().string(), done, data->items.items));
                 },
                 ranks.share(m, job_text(o, data->items.items), judged.size())};
    judged.push_back(judge_drawn(program, *data, shapes, how));
    progress.show("");
    tell_left_out(judged.back().run, data->items);
  }
  if (!ranks.reports()) return kGood;
  const bool people = for_people(o.model.json);
  Json out;
  bool good = true;
  for (size_t i = 0; i < judged.size(); ++i) {
    const DrawnJudgement& j = judged[i];
    const Told t = tell(j);
    Json failed = Json::array();
    for (const auto& [item, what] : j.run.failed) failed.push_back(what);
    Json one{{"model", models[i].model}, {"as", o.as},           {"items", t.items},
             {"seconds", j.run.seconds}, {"lanes", j.run.lanes}, {"left_out", failed}};
    for (const Told::Measure& m : t.measures) one[m.key] = interval_json(m.value);
    if (!j.run.shared.items.empty()) one["shared"] = shared_json(j.run.shared);
    one["classes"] = t.by_class;
    one["worst"] = Json::array();
    for (size_t k = 0; k < std::min(t.worst.size(), static_cast<size_t>(o.worst)); ++k)
      one["worst"].push_back({{"item", t.worst[k].first}, {"what", t.worst[k].second}});
    if (o.at_least >= 0) {
      if (!t.measures[0].share) throw UsageError(fmt::format("--at-least is a share; {} is none", t.measures[0].name));
      good = good && t.measures[0].value.value >= o.at_least;
    }
    if (people) fmt::print("{}", i > 0 ? "\n" : "");
    if (people) print(models[i].model, j, t, o.worst);
    if (kind == Drawn::boxes) one["detect"] = form_text(j.form);
    if (people && kind == Drawn::boxes) fmt::print("  {}\n", form_text(j.form));
    if (i > 0) {
      const Interval d = compare_drawn(judged[0], j);
      one["against_first"] = interval_json(d);
      if (kind == Drawn::boxes) one["against_first"].update(precision_against(judged[0], j, people));
      if (people)
        fmt::print("\n{} against {}, item by item: {:+.5g} ({:+.5g} to {:+.5g}){}\n", models[i].model, models[0].model, d.value, d.low,
                   d.high, d.low <= 0 && d.high >= 0 ? ", which may be chance" : "");
    }
    if (o.keep.on()) {
      LogEntry e = entry_for("judge", models[i].model, fmt::format("data {}, {}", fs::path(o.data).filename().string(), o.as), one);
      for (const Told::Measure& m : t.measures) e.figures[m.key] = {m.value.value, m.value.low, m.value.high, m.share ? "share" : "", {}};
      keep_entry(o.keep, e, people);
    }
    out["models"].push_back(std::move(one));
  }
  if (!o.sheet.empty()) draw_worst(o, *data, judged.back(), models.back().model);
  if (people && !o.sheet.empty()) fmt::print("  sheet: {}\n", o.sheet);
  write_json(o.model.json, out);
  if (people && o.at_least >= 0)
    fmt::print("\n{}: at least {} was asked\n", verdict_text(good ? "held" : "not held", good), percent(o.at_least));
  return good ? kGood : kCheckFailed;
}

}  // namespace lathe::cli
