// lathe narrow --activations u8: calibration, sensitivity, budgets.
#include <algorithm>
#include <cmath>
#include <filesystem>
#include <set>

#include "narrow.hpp"

namespace lathe::cli {

namespace fs = std::filesystem;

Calibrating::Calibrating(const NarrowFlags& o, const Graph& graph, Progress& progress) {
  if (o.calibrate.empty() == (o.noise == 0))
    throw UsageError(o.noise == 0
                         ? "--calibrate is missing: a folder of pictures, a CSV or arrays like what the model will see (or --noise N, to "
                           "try things out)"
                         : "--calibrate and --noise do not go together");
  const Program program = compile(graph, {});
  Batches all;
  if (o.noise > 0) {
    std::vector<Shape> shapes;
    for (const Port& p : program.inputs()) {
      Shape& shape = shapes.emplace_back();
      for (const Dim& d : p.dims.value_or(Dims())) shape.push_back(d.known() ? d.value : 1);
    }
    all = {static_cast<size_t>(o.noise), [program, shapes](size_t i) { return random_inputs(program, shapes, i + 1); }};
  } else {
    ItemData found = read_items(o.calibrate, o.beside);
    const PictureSettings how = o.pictures.settings();
    const std::vector<Shape> shapes = item_shapes(program, found, how);
    const size_t used = std::min(found.items, static_cast<size_t>(o.items));
    std::vector<size_t> chosen;
    for (size_t i = 0; i < used; ++i) chosen.push_back(i * found.items / used);
    const auto load = item_loader(program, found, shapes, how);
    if (!found.files.empty()) {
      for (size_t i : chosen) data.files.push_back(found.files[i]);
      data.items = used;
    }
    all = batches(program, shapes, used, [load, chosen](size_t i) { return load(chosen[i]); });
  }
  calibration.items = all.count;
  calibration.load = std::move(all.load);
  calibration.progress = [&progress](const std::string& what, size_t done, size_t of) {
    progress.show(fmt::format("{}: {} of {}", what, done, of));
  };
}

namespace {

// Accuracy of forms on labelled data.
class Accuracy {
 public:
  Accuracy(const NarrowFlags& o) : o_(o), data_(read_judged(o.data, o.targets, o.data_beside)) {
    if (data_.values()) throw UsageError("--data: accuracy is a share of right answers; these targets are values");
  }
  Judgement of(const Graph& g) const {
    const Program program = compile(g, {.threads = 1});
    const PictureSettings how = o_.pictures.settings();
    JudgeOptions options{how, o_.pictures.labels_of(program.metadata()), 1};
    return judge(program, data_, item_shapes(program, data_, how), options);
  }
  const ItemData& data() const { return data_; }

 private:
  const NarrowFlags& o_;
  ItemData data_;
};

Interval share_right(const Judgement& j) {
  return share_of(std::ranges::count_if(j.answers, &ClassAnswer::right), static_cast<int64_t>(j.answers.size()));
}

// What came of it, for people and programs.
struct Result {
  std::vector<Sensitivity> ranked;
  std::optional<Budgeted> budget;
  std::vector<std::string> wide;  // left f32: asked for, or by the budget
  OutputError error;
  std::vector<double> noise;  // by candidate
  std::optional<Judgement> before, after;
  std::vector<std::string> warnings;
  Check check;
  uintmax_t bytes_before = 0, bytes_after = 0;
};

ByteOptions options_of(const NarrowFlags& o) {
  ByteOptions b;
  b.activations = *parse_dtype(o.activations);
  b.range = o.range == "extremes"     ? RangeChoice::extremes
            : o.range == "percentile" ? RangeChoice::percentile
            : o.range == "divergence" ? RangeChoice::divergence
                                      : RangeChoice::squares;
  b.percentile = o.percentile;
  b.rounding = !o.rounding_set || o.rounding == "compensated" ? Rounding::compensated : Rounding::nearest;
  b.equalise = !o.no_equalise;
  b.products = o.products;
  b.correct_bias = !o.no_bias_correction;
  return b;
}

// Items that are in both, which makes the accuracy look better than it is.
size_t overlap(const ItemData& a, const ItemData& b) {
  std::set<fs::path> seen;
  for (const LabelledFile& f : a.files) seen.insert(fs::weakly_canonical(f.file));
  return static_cast<size_t>(
      std::ranges::count_if(b.files, [&](const LabelledFile& f) { return seen.contains(fs::weakly_canonical(f.file)); }));
}

Json judged_json(const Judgement& j) {
  const Interval i = share_right(j);
  return {{"items", j.answers.size()}, {"top_1", {{"value", i.value}, {"low", i.low}, {"high", i.high}}}};
}

Json report_json(const NarrowFlags& o, const ByteModel& m, const Result& r) {
  Json j{{"model", o.model},
         {"written", o.write},
         {"weights", "i8"},
         {"activations", o.activations},
         {"range", o.range},
         {"file_bytes_before", r.bytes_before},
         {"file_bytes_after", r.bytes_after},
         {"cosine", r.error.cosine},
         {"signal_to_noise", decibels_json(r.error.signal_to_noise)},
         {"kept_wide", r.wide}};
  for (size_t i = 0; i < m.candidates().size(); ++i) {
    const ByteCandidate& c = m.candidates()[i];
    j["steps"].push_back({{"node", c.node},
                          {"op", c.op},
                          {"on_bytes", std::ranges::find(r.wide, c.node) == r.wide.end()},
                          {"low", c.low},
                          {"high", c.high},
                          {"met_low", c.met_low},
                          {"met_high", c.met_high},
                          {"bytes_before", c.bytes_before},
                          {"bytes_after", c.bytes_after},
                          {"weights_signal_to_noise", decibels_json(c.weights_signal_to_noise)},
                          {"output_signal_to_noise", i < r.noise.size() ? decibels_json(r.noise[i]) : Json(nullptr)}});
  }
  for (const Sensitivity& s : r.ranked)
    j["sensitivity"].push_back({{"node", s.node},
                                {"op", s.op},
                                {"loss", s.loss},
                                {"cosine", s.error.cosine},
                                {"signal_to_noise", decibels_json(s.error.signal_to_noise)}});
  if (r.budget) j["budget"] = {{"loss", r.budget->loss}, {"loss_of_all", r.budget->loss_of_all}, {"tried", r.budget->tried}};
  j["left"] = Json::array();
  for (const auto& [node, why] : m.left()) j["left"].push_back({{"node", node}, {"why", why}});
  j["warnings"] = r.warnings;
  if (r.before) j["accuracy"] = {{"before", judged_json(*r.before)}, {"after", judged_json(*r.after)}};
  j["agrees_with_plain"] = r.check.against_plain.empty() ? Json(nullptr) : Json(r.check.pass());
  if (!r.check.why_not.empty()) j["not_checked"] = r.check.why_not;
  return j;
}

// Of a recurrent layer, whose weights alone are bytes, none.
std::string range_text(double low, double high) { return low == high ? "" : fmt::format("{:.4g} to {:.4g}", low, high); }

void print_sensitivity(const NarrowFlags& o, const Result& r) {
  if (r.ranked.empty()) return;
  constexpr size_t kMost = 15;
  const bool accuracy = o.sensitivity == "accuracy";
  Table table(accuracy ? "rlrrr" : "rlrr", accuracy
                                               ? std::vector<std::string>{"", "alone on bytes", "points lost", "cosine", "signal to noise"}
                                               : std::vector<std::string>{"", "alone on bytes", "cosine", "signal to noise"});
  for (size_t i = 0; i < std::min(kMost, r.ranked.size()); ++i) {
    const Sensitivity& s = r.ranked[i];
    std::vector<std::string> row{std::to_string(i + 1), fmt::format("{} ({})", s.node, s.op)};
    if (accuracy) row.push_back(fmt::format("{:.2f}", 100 * s.loss));
    row.push_back(fmt::format("{:.7f}", s.error.cosine));
    row.push_back(decibels(s.error.signal_to_noise));
    table.row(row);
  }
  fmt::print("\nWhat each costs at the outputs{}\n{}", r.ranked.size() > kMost ? fmt::format(" ({} of {})", kMost, r.ranked.size()) : "",
             table.text());
}

void print_report(const NarrowFlags& o, const ByteModel& m, const Result& r) {
  const size_t all = m.candidates().size();
  fmt::print("{}: {} of {} steps on bytes, {}, was {} ({:.2f} of it)\n\n", o.write, all - r.wide.size(), all,
             bytes_text(static_cast<double>(r.bytes_after)), bytes_text(static_cast<double>(r.bytes_before)),
             static_cast<double>(r.bytes_after) / static_cast<double>(r.bytes_before));
  std::vector<size_t> order;
  for (size_t i = 0; i < all; ++i) {
    if (std::ranges::find(r.wide, m.candidates()[i].node) == r.wide.end()) order.push_back(i);
  }
  std::ranges::stable_sort(order, {}, [&](size_t i) { return r.noise.at(i); });
  constexpr size_t kMost = 30;
  Table table("lrrrrr", {"step", "range", "met", "weights", "weights to noise", "output to noise"});
  for (size_t k = 0; k < std::min(kMost, order.size()); ++k) {
    const ByteCandidate& c = m.candidates()[order[k]];
    table.row({fmt::format("{} ({})", c.node, c.op), range_text(c.low, c.high), range_text(c.met_low, c.met_high),
               c.bytes_before > 0 ? bytes_text(static_cast<double>(c.bytes_after)) : "",
               c.bytes_before > 0 ? decibels(c.weights_signal_to_noise) : "", decibels(r.noise[order[k]])});
  }
  fmt::print("On bytes, the noisiest output first{}\n{}", order.size() > kMost ? fmt::format(" (30 of {})", order.size()) : "",
             table.text());
  print_sensitivity(o, r);
  if (r.budget) {
    fmt::print("\nBudget: {} kept f32 after {} forms were measured{}\n", r.wide.size(), r.budget->tried, r.wide.empty() ? "" : ":");
    for (const std::string& name : r.wide) {
      const auto at = std::ranges::find(r.ranked, name, &Sensitivity::node);
      fmt::print("  {}{}\n", name,
                 at == r.ranked.end() ? "" : fmt::format(": {} at the outputs when alone on bytes", decibels(at->error.signal_to_noise)));
    }
    if (o.lose_at_most >= 0)
      fmt::print("  {:.2f} points are lost, {:.2f} with all on bytes; {:.2f} may be\n", 100 * r.budget->loss, 100 * r.budget->loss_of_all,
                 o.lose_at_most);
    else
      fmt::print("  cosine {:.7f}, {:.7f} with all on bytes; {:.7f} was asked\n", 1 - r.budget->loss, 1 - r.budget->loss_of_all,
                 o.cosine_at_least);
  }
  print_left(m.left());
  fmt::print("\noutputs on the calibration items: cosine {:.7f}, signal to noise {}\n", r.error.cosine, decibels(r.error.signal_to_noise));
  if (r.before) {
    const PairedShares p = compare_answers(*r.before, *r.after);
    const double d = 100 * p.difference.value;
    fmt::print("accuracy on {} items: {:.1f} % before, {:.1f} % after; {:+.1f} points ({:+.1f} to {:+.1f}, {}, p = {:.2g})\n", p.items,
               100 * share_right(*r.before).value, 100 * share_right(*r.after).value, d, 100 * p.difference.low, 100 * p.difference.high,
               p.significant() ? "significant" : "not significant", p.p);
  }
  if (!r.check.why_not.empty()) fmt::print("{}\n", r.check.why_not);
  else if (!r.check.against_plain.empty())
    fmt::print("compiled {} plain evaluation of the written model\n",
               verdict_text(r.check.pass() ? "agrees with" : "differs from", r.check.pass()));
}

// A byte's step of an output's range: compiled and plain evaluation may fall on different sides of it.
Check check_bytes(const Graph& written, const Calibration& calibration) {
  Check c;
  constexpr double kMost = 2e9;
  const std::vector<Tensor> inputs = calibration.load(0);
  const Program program = compile(written, {});
  std::vector<Shape> shapes;
  for (const Tensor& t : inputs) shapes.push_back(t.shape());
  if (const double work = program.describe(shapes).flops; work > kMost) {
    c.why_not =
        fmt::format("{}FLOP are too many for plain evaluation to check here; 'lathe parity --against-plain' does", count_text(work));
    return c;
  }
  Lane lane(program);
  const Outputs got = lane.run(std::span<const Tensor>(inputs));
  const auto plain = evaluate_plain(written, inputs);
  for (size_t i = 0; i < got.size(); ++i) {
    Comparison one = compare(got.name(i), got[i], plain[i]);
    constexpr double kNear = 0.9999;
    one.pass = one.pass || one.cosine >= kNear;
    c.against_plain.push_back(one);
  }
  return c;
}

}  // namespace

int narrow_to_bytes(const NarrowFlags& o) {
  if (o.weights_set && o.weights != "i8")
    throw UsageError(fmt::format("--activations {}: weights are i8 then, not {}", o.activations, o.weights));
  if (o.cosine_at_least > 0 && o.lose_at_most >= 0) throw UsageError("--cosine-at-least and --lose-at-most: one budget at a time");
  if (o.data.empty() && (o.lose_at_most >= 0 || o.sensitivity == "accuracy"))
    throw UsageError("--data is missing: labelled data that accuracy is measured on");
  const Graph wide = load_model(o.model, {o.allow_outside, false});
  Progress progress;
  const Calibrating with(o, wide, progress);
  const ByteModel model = as_usage([&] { return ByteModel(wide, with.calibration, options_of(o)); });
  Result r;
  r.warnings = model.warnings();
  if (o.noise > 0) r.warnings.push_back("ranges were read off noise: they say nothing about what the model will see");
  std::optional<Accuracy> accuracy;
  if (!o.data.empty()) {
    accuracy.emplace(o);
    if (const size_t n = overlap(with.data, accuracy->data()); n > 0)
      r.warnings.push_back(fmt::format("{} of the calibration items are judged on too: the accuracy looks better than it is", n));
    progress.show("judging the wide model");
    r.before = accuracy->of(wide);
  }
  const double right = r.before ? share_right(*r.before).value : 0;
  const std::function<double(const Graph&)> lost = [&](const Graph& g) { return right - share_right(accuracy->of(g)).value; };
  const bool budget = o.cosine_at_least > 0 || o.lose_at_most >= 0;
  if (budget || !o.sensitivity.empty())
    r.ranked = model.sensitivity(o.sensitivity == "accuracy" ? lost : std::function<double(const Graph&)>());
  r.wide = o.leave;
  if (budget) {
    if (!o.leave.empty()) throw UsageError("--leave and a budget do not go together: the budget chooses what is left");
    const auto loss = [&](const Graph& g) { return o.lose_at_most >= 0 ? lost(g) : 1 - model.error_of(g).cosine; };
    const double most = o.lose_at_most >= 0 ? o.lose_at_most / 100 + 1e-12 : 1 - o.cosine_at_least;
    r.budget = within_budget(model, r.ranked, loss, most, [&](int tried) { progress.show(fmt::format("budget: {} forms tried", tried)); });
    r.wide = r.budget->wide;
  }
  const Graph written = as_usage([&] { return model.write(r.wide); });
  write_narrowed(o, written);
  r.error = model.error_of(written);
  r.noise = model.noise_by_step(written);
  if (accuracy) r.after = accuracy->of(written);
  progress.show("checking what was written");
  if (o.no_check) r.check.why_not = "not checked, as was asked";
  else r.check = check_bytes(read_narrowed(o, written), with.calibration);
  progress.show("");
  r.bytes_before = bytes_of_model(o.model);
  r.bytes_after = bytes_of_model(o.write);
  for (const std::string& w : r.warnings) fmt::print(stderr, "lathe: {}\n", w);
  const Json json = report_json(o, model, r);
  write_json(o.json, json);
  if (for_people(o.json)) print_report(o, model, r);
  keep_narrowed(o, fmt::format("activations {}, range {}, {} wide", o.activations, o.range, r.wide.size()), r.bytes_after, r.error.cosine,
                json);
  return r.check.pass() ? kGood : kCheckFailed;
}

}  // namespace lathe::cli
