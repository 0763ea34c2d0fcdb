// lathe narrow
#include <algorithm>
#include <cmath>
#include <filesystem>

#include "narrow.hpp"

namespace lathe::cli {
namespace {

namespace fs = std::filesystem;

}  // namespace

Check check_outputs(const Graph& wide, const Graph& narrow, bool halved) {
  Check c;
  try {
    CompileOptions options;
    for (ValueId v : wide.inputs) {
      const Value& value = wide.values[static_cast<size_t>(v)];
      if (!value.dims || value.composite) continue;
      Shape& shape = options.shapes[value.name];
      for (const Dim& d : *value.dims) shape.push_back(d.known() ? d.value : 1);
    }
    const Program a = compile(wide, options), b = compile(narrow, options);
    const auto inputs = random_inputs(a, a.bound_shapes(), 1);
    Lane first(a), second(b);
    const Outputs x = first.run(std::span<const Tensor>(inputs)), y = second.run(std::span<const Tensor>(inputs));
    for (size_t i = 0; i < x.size(); ++i) c.against_wide.push_back(compare(x.name(i), y[i], x[i]));
    constexpr double kMost = 2e9;  // operations that plain evaluation does in a few seconds
    const double work = b.describe().flops;
    if (work > kMost) {
      c.why_not =
          fmt::format("{}FLOP are too many for plain evaluation to check here; 'lathe parity --against-plain' does", count_text(work));
      return c;
    }
    const auto plain = evaluate_plain(narrow, inputs);
    options.round_each = halved;
    Lane third(halved ? compile(narrow, options) : b);
    const Outputs z = third.run(std::span<const Tensor>(inputs));
    for (size_t i = 0; i < z.size(); ++i) c.against_plain.push_back(compare(z.name(i), z[i], plain[i]));
  } catch (const Error& e) {
    c.why_not = fmt::format("not checked: {}", e.what());
  }
  return c;
}

namespace {

bool to_archive(const NarrowFlags& o) { return o.write.ends_with(".lathe"); }

}  // namespace

void write_narrowed(const NarrowFlags& o, const Graph& graph) {
  if (!to_archive(o)) {
    save(graph, o.write, {static_cast<size_t>(o.external_from)});
    return;
  }
  if (o.external_from > 0) throw UsageError("--external-from is of ONNX files; an archive is one file");
  CompileOptions options;
  for (const ValueId v : graph.inputs) {
    const Value& value = graph.values[static_cast<size_t>(v)];
    if (value.composite || !value.dims) continue;
    Shape shape;
    for (size_t d = 0; d < value.dims->size(); ++d) {
      const Dim& dim = (*value.dims)[d];
      if (!dim.known() && d > 0)
        throw UsageError(fmt::format("input '{}' is {}: write it as ONNX and give 'lathe ship' the sizes to compile for", value.name,
                                     dims_text(value.dims)));
      shape.push_back(dim.known() ? dim.value : 1);
    }
    options.shapes[value.name] = shape;
  }
  const Program program = compile(graph, {});
  // The leading dim stays open; what is compiled first is for one item.
  std::vector<Shape> shapes;
  for (const Port& p : program.inputs()) shapes.push_back(options.shapes.contains(p.name) ? options.shapes.at(p.name) : Shape());
  (void)program.describe(shapes);
  save_program(program, o.write, {.carry_graph = true, .source = o.model});
}

Graph read_narrowed(const NarrowFlags& o, const Graph& graph) { return to_archive(o) ? graph : load(o.write, {o.allow_outside, false}); }

std::string decibels(double v) {
  return std::isinf(v) ? v > 0 ? "exact" : "all lost" : std::isnan(v) ? "NaN" : fmt::format("{:.1f} dB", v);
}

Json decibels_json(double v) { return std::isfinite(v) ? Json(v) : Json(nullptr); }

uintmax_t bytes_of_model(const std::string& path) {
  std::error_code ec;
  const uintmax_t own = fs::file_size(path, ec), beside = fs::file_size(path + ".data", ec);
  return own + (ec ? 0 : beside);
}

void keep_narrowed(const NarrowFlags& o, const std::string& how, uintmax_t bytes, double cosine, const Json& details) {
  if (!o.keep.on()) return;
  LogEntry e = entry_for("narrow", o.model, how, details);
  e.figures["file_bytes"] = {static_cast<double>(bytes), {}, {}, "bytes", {}};
  e.figures["cosine"] = {cosine, {}, {}, "", {}};
  keep_entry(o.keep, e, for_people(o.json));
}

void print_left(const std::vector<std::pair<std::string, std::string>>& left) {
  constexpr size_t kMost = 30;
  if (left.empty()) return;
  Table table("ll");
  for (size_t i = 0; i < std::min(kMost, left.size()); ++i) table.row({left[i].first, left[i].second});
  fmt::print("\n{} left wide{}\n{}", left.size(), left.size() > kMost ? ", the first 30" : "", table.text());
}

namespace {

Json report_json(const NarrowFlags& o, const NarrowReport& r, const Check& check, uintmax_t before, uintmax_t after) {
  Json j{{"model", o.model},
         {"written", o.write},
         {"weights", o.weights},
         {"block", o.block},
         {"file_bytes_before", before},
         {"file_bytes_after", after},
         {"initializer_bytes_before", r.bytes_before},
         {"initializer_bytes_after", r.bytes_after}};
  for (const NarrowedWeights& w : r.weights)
    j["narrowed"].push_back({{"node", w.node},
                             {"op", w.op},
                             {"shape", w.shape},
                             {"bytes_before", w.bytes_before},
                             {"bytes_after", w.bytes_after},
                             {"signal_to_noise", std::isinf(w.signal_to_noise) ? Json(nullptr) : Json(w.signal_to_noise)}});
  j["left"] = Json::array();
  for (const auto& [node, why] : r.left) j["left"].push_back({{"node", node}, {"why", why}});
  for (const Comparison& c : check.against_wide)
    j["outputs"].push_back({{"name", c.name}, {"cosine", c.cosine}, {"largest_difference", c.max_absolute}});
  j["agrees_with_plain"] = check.against_plain.empty() ? Json(nullptr) : Json(check.pass());
  if (!check.why_not.empty()) j["not_checked"] = check.why_not;
  return j;
}

void print_report(const NarrowFlags& o, const NarrowReport& r, const Check& check, uintmax_t before, uintmax_t after) {
  fmt::print("{}: {} in {}, {}, was {} ({:.2f} of it)\n\n", o.write, o.activations.empty() ? "weights" : "everything", o.weights,
             bytes_text(static_cast<double>(after)), bytes_text(static_cast<double>(before)),
             static_cast<double>(after) / static_cast<double>(before));
  Table table("llrrrr", {"weights of", "shape", "was", "is", "share", "signal to noise"});
  std::vector<const NarrowedWeights*> order;
  for (const NarrowedWeights& w : r.weights) order.push_back(&w);
  std::ranges::stable_sort(order, {}, &NarrowedWeights::signal_to_noise);
  constexpr size_t kMost = 30;
  for (size_t i = 0; i < std::min(kMost, order.size()); ++i) {
    const NarrowedWeights& w = *order[i];
    table.row({w.op.empty() ? w.node : fmt::format("{} ({})", w.node, w.op), to_string(w.shape),
               bytes_text(static_cast<double>(w.bytes_before)), bytes_text(static_cast<double>(w.bytes_after)),
               fmt::format("{:.3f}", static_cast<double>(w.bytes_after) / static_cast<double>(w.bytes_before)),
               decibels(w.signal_to_noise)});
  }
  fmt::print("{} weights narrowed, the noisiest first{}\n{}", r.weights.size(),
             order.size() > kMost ? fmt::format(" (30 of {})", order.size()) : "", table.text());
  print_left(r.left);
  if (!check.against_wide.empty()) {
    Table outputs("lrr", {"output, on noise", "cosine to the wide model", "largest difference"});
    for (const Comparison& c : check.against_wide)
      outputs.row({c.name, fmt::format("{:.7f}", c.cosine), fmt::format("{:.4g}", c.max_absolute)});
    fmt::print("\n{}", outputs.text());
  }
  if (!check.why_not.empty()) fmt::print("  {}\n", check.why_not);
  else if (!check.against_plain.empty())
    fmt::print("  compiled {} plain evaluation of the written model\n",
               verdict_text(check.pass() ? "agrees with" : "differs from", check.pass()));
  fmt::print("  what this costs in accuracy, 'lathe judge {} --data .. --against {}' says\n", o.model, o.write);
}

int narrow(NarrowFlags o) {
  check_target("--write", o.write, {o.write.ends_with(".lathe") ? std::string_view("a program archive") : kModelFile},
               std::vector<std::string>{o.model});
  check_target("--json", o.json, {"JSON"}, std::vector<std::string>{o.model});
  for (const std::string& path : o.ops) load_ops(path);
  const bool on_bytes = o.activations == "u8" || o.activations == "i8", halved = !on_bytes && !o.activations.empty();
  if (on_bytes) return narrow_to_bytes(o);
  if (!o.sensitivity.empty() || o.cosine_at_least > 0 || o.lose_at_most >= 0)
    throw UsageError("--sensitivity, --cosine-at-least and --lose-at-most go with --activations u8 or i8");
  if (halved) {
    if (o.weights_set && o.weights != o.activations)
      throw UsageError(fmt::format("--activations {}: weights are of the same type then, not {}", o.activations, o.weights));
    o.weights = o.activations;
  }
  const bool compensated = o.rounding == "compensated";
  const Graph wide = load_model(o.model, {o.allow_outside, false});
  Graph g = wide;
  Progress progress;
  std::optional<Calibrating> with;
  if (compensated || (halved && (!o.calibrate.empty() || o.noise > 0))) with.emplace(o, wide, progress);
  progress.show("rounding weights");
  const DType type = *parse_dtype(o.weights);
  const NarrowOptions how{type, o.block, o.least, o.leave, compensated ? Rounding::compensated : Rounding::nearest};
  const Calibration* calibration = with ? &with->calibration : nullptr;
  const NarrowReport report = as_usage([&] { return halved ? halve_model(g, type, calibration) : narrow_model(g, how, calibration); });
  write_narrowed(o, g);
  progress.show("checking what was written");
  Check check;
  if (o.no_check) check.why_not = "not checked, as was asked";
  else check = check_outputs(wide, read_narrowed(o, g), halved);
  progress.show("");
  const uintmax_t before = bytes_of_model(o.model), after = bytes_of_model(o.write);
  const Json json = report_json(o, report, check, before, after);
  write_json(o.json, json);
  if (for_people(o.json)) print_report(o, report, check, before, after);
  double cosine = 1;
  for (const Comparison& c : check.against_wide) cosine = std::min(cosine, c.cosine);
  keep_narrowed(o,
                fmt::format("weights {}{}", o.weights,
                            halved        ? ", everything"
                            : o.block > 0 ? fmt::format(", block {}", o.block)
                                          : ""),
                after, cosine, json);
  return check.pass() ? kGood : kCheckFailed;
}

}  // namespace

Command add_narrow(CLI::App& app) {
  auto o = std::make_shared<NarrowFlags>();
  app.add_option("MODEL", o->model, "ONNX file")->required();
  app.add_option("-o,--write", o->write, "Where the narrowed model goes: ONNX, or compiled, an archive: NAME.lathe")
      ->required()
      ->type_name("FILE");
  auto* weights = app.add_option("--weights", o->weights, "f16, bf16, i8, i4, or u8 and u4, which have zero points (i8)")
                      ->check(CLI::IsMember({"f16", "bf16", "i8", "u8", "i4", "u4"}))
                      ->type_name("TYPE");
  app.add_option("--activations", o->activations,
                 "What lies between steps too: u8 or i8, with ranges by --calibrate; f16 or bf16, and weights with them (f32)")
      ->check(CLI::IsMember({"u8", "i8", "f16", "bf16"}))
      ->type_name("TYPE");
  app.add_option("--block", o->block, "Numbers that share a scale, 16 to 4096 (8 bits: one a column; 4 bits: 64)")
      ->check(zero_or_more())
      ->type_name("N");
  app.add_option("--least", o->least, "Weights of fewer numbers stay as they are (1024)")->check(zero_or_more())->type_name("N");
  app.add_option("--leave", o->leave, "A node that stays as it is (repeatable)")->type_name("NODE")->allow_extra_args(false);
  auto* rounding = app.add_option("--rounding", o->rounding,
                                  "nearest, or compensated: later weights take up the error of earlier ones, by --calibrate (nearest; "
                                  "compensated on bytes)")
                       ->check(CLI::IsMember({"nearest", "compensated"}))
                       ->type_name("HOW");
  app.add_option("--calibrate", o->calibrate,
                 "Items that show what values are like: a folder of pictures, or of one a class; a CSV; arrays (npz, npy)")
      ->type_name("PATH");
  app.add_option("--beside", o->beside, "Folder that the files of a CSV lie in (the CSV's own)")->type_name("DIR");
  app.add_option("--items", o->items, "Use N of the calibration items, evenly spread (100)")->check(CLI::Range(1, 1000000))->type_name("N");
  app.add_option("--noise", o->noise, "No calibration items: N generated ones, to try things out")
      ->check(CLI::Range(1, 1000000))
      ->type_name("N");
  app.add_option("--range", o->range,
                 "How ranges of activations are chosen: extremes, percentile, squares (least squared error), divergence (squares)")
      ->check(CLI::IsMember({"extremes", "percentile", "squares", "divergence"}))
      ->type_name("HOW");
  app.add_option("--percentile", o->percentile, "Of --range percentile: this much lies within (99.99)")
      ->check(CLI::Range(50.0, 100.0))
      ->type_name("P");
  app.add_flag("--no-equalise", o->no_equalise, "Leave uneven channels of activations as they are");
  app.add_flag("--attention", o->products, "Also products of two activations, as attention's are, on bytes");
  app.add_flag("--no-bias-correction", o->no_bias_correction, "Leave what rounding adds to a layer's output on average");
  app.add_option("--sensitivity", o->sensitivity,
                 "Try each step alone on bytes and rank them: by the outputs' noise, or by the accuracy lost on --data")
      ->check(CLI::IsMember({"noise", "accuracy"}))
      ->type_name("BY");
  app.add_option("--cosine-at-least", o->cosine_at_least,
                 "Keep as few steps wide as it takes for the outputs' cosine to the wide model's on the calibration items")
      ->check(CLI::Range(0.0, 1.0))
      ->type_name("C");
  app.add_option("--lose-at-most", o->lose_at_most, "The same for points of accuracy lost on --data, e.g. 0.5")
      ->check(CLI::Range(0.0, 100.0))
      ->type_name("POINTS");
  app.add_option("--data", o->data, "Labelled data for accuracy before and after, as 'lathe judge' takes them")->type_name("PATH");
  app.add_option("--data-beside", o->data_beside, "Folder that the files of --data lie in, when it is a CSV")->type_name("DIR");
  app.add_option("--targets", o->targets, "What is expected of arrays in --data")->type_name("FILE");
  o->pictures.add_to(app);
  o->keep.add_to(app);
  app.add_flag("--no-check", o->no_check, "Write only: run neither model");
  app.add_option("--external-from", o->external_from, "Initializers of at least N bytes go to a file beside the model (FILE.data)")
      ->check(zero_or_more())
      ->type_name("N");
  app.add_flag("--allow-outside-data", o->allow_outside, "Accept external data from outside the model's folder");
  add_ops_option(app, o->ops);
  add_json_option(app, o->json);
  app.footer("The model itself is left alone; what is written is open ONNX that any reader of the standard understands.");
  return [o, weights, rounding] {
    o->weights_set = weights->count() > 0;
    o->rounding_set = rounding->count() > 0;
    return narrow(*o);
  };
}

}  // namespace lathe::cli
