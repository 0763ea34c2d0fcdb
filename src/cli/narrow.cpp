// lathe narrow
#include <algorithm>
#include <cmath>
#include <filesystem>

#include "common.hpp"

namespace lathe::cli {
namespace {

namespace fs = std::filesystem;

struct Options {
  std::string model, write, weights = "i8", json;
  std::vector<std::string> leave, ops;
  int64_t block = 0, least = NarrowOptions().least, external_from = 0;
  bool allow_outside = false, no_check = false;
};

// How far the narrowed model's outputs are from the wide one's, and the compiled form's from plain evaluation, on random inputs.
struct Check {
  std::vector<Comparison> against_wide, against_plain;
  std::string why_not;  // empty: it was done
  bool pass() const { return std::ranges::all_of(against_plain, &Comparison::pass); }
};

Check check_outputs(const Graph& wide, const Graph& narrow) {
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
    for (size_t i = 0; i < y.size(); ++i) c.against_plain.push_back(compare(y.name(i), y[i], plain[i]));
  } catch (const Error& e) {
    c.why_not = fmt::format("not checked: {}", e.what());
  }
  return c;
}

std::string decibels(double v) { return std::isinf(v) ? "exact" : fmt::format("{:.1f} dB", v); }

Json report_json(const Options& o, const NarrowReport& r, const Check& check, uintmax_t before, uintmax_t after) {
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

void print_report(const Options& o, const NarrowReport& r, const Check& check, uintmax_t before, uintmax_t after) {
  fmt::print("{}: weights in {}, {}, was {} ({:.2f} of it)\n\n", o.write, o.weights, bytes_text(static_cast<double>(after)),
             bytes_text(static_cast<double>(before)), static_cast<double>(after) / static_cast<double>(before));
  Table table("llrrrr", {"weights of", "shape", "was", "is", "share", "signal to noise"});
  std::vector<const NarrowedWeights*> order;
  for (const NarrowedWeights& w : r.weights) order.push_back(&w);
  std::ranges::stable_sort(order, {}, &NarrowedWeights::signal_to_noise);
  constexpr size_t kMost = 30;
  for (size_t i = 0; i < std::min(kMost, order.size()); ++i) {
    const NarrowedWeights& w = *order[i];
    table.row({fmt::format("{} ({})", w.node, w.op), to_string(w.shape), bytes_text(static_cast<double>(w.bytes_before)),
               bytes_text(static_cast<double>(w.bytes_after)),
               fmt::format("{:.3f}", static_cast<double>(w.bytes_after) / static_cast<double>(w.bytes_before)),
               decibels(w.signal_to_noise)});
  }
  fmt::print("{} weights narrowed, the noisiest first{}\n{}", r.weights.size(),
             order.size() > kMost ? fmt::format(" (30 of {})", order.size()) : "", table.text());
  if (!r.left.empty()) {
    Table left("ll");
    for (size_t i = 0; i < std::min(kMost, r.left.size()); ++i) left.row({r.left[i].first, r.left[i].second});
    fmt::print("\n{} left wide{}\n{}", r.left.size(), r.left.size() > kMost ? ", the first 30" : "", left.text());
  }
  if (!check.against_wide.empty()) {
    Table outputs("lrr", {"output, on noise", "cosine to the wide model", "largest difference"});
    for (const Comparison& c : check.against_wide)
      outputs.row({c.name, fmt::format("{:.7f}", c.cosine), fmt::format("{:.4g}", c.max_absolute)});
    fmt::print("\n{}", outputs.text());
  }
  if (!check.why_not.empty()) fmt::print("  {}\n", check.why_not);
  else if (!check.against_plain.empty())
    fmt::print("  compiled {} plain evaluation of the written model\n", check.pass() ? "agrees with" : "differs from");
  fmt::print("  what this costs in accuracy, 'lathe judge {} --data .. --against {}' says\n", o.model, o.write);
}

int narrow(const Options& o) {
  check_target("--write", o.write, {kModelFile}, std::vector<std::string>{o.model});
  check_target("--json", o.json, {"JSON"}, std::vector<std::string>{o.model});
  for (const std::string& path : o.ops) load_ops(path);
  const Graph wide = load(o.model, {o.allow_outside, false});
  Graph g = wide;
  Progress progress;
  progress.show("rounding weights");
  const NarrowOptions how{*parse_dtype(o.weights), o.block, o.least, o.leave};
  const NarrowReport report = as_usage([&] { return narrow_model(g, how); });
  save(g, o.write, {static_cast<size_t>(o.external_from)});
  progress.show("checking what was written");
  Check check;
  if (o.no_check) check.why_not = "not checked, as was asked";
  else check = check_outputs(wide, load(o.write, {o.allow_outside, false}));
  progress.show("");
  const auto size = [](const std::string& path) {
    std::error_code ec;
    const uintmax_t own = fs::file_size(path, ec), beside = fs::file_size(path + ".data", ec);
    return own + (ec ? 0 : beside);
  };
  const uintmax_t before = size(o.model), after = size(o.write);
  write_json(o.json, report_json(o, report, check, before, after));
  if (for_people(o.json)) print_report(o, report, check, before, after);
  return check.pass() ? kGood : kCheckFailed;
}

}  // namespace

Command add_narrow(CLI::App& app) {
  auto o = std::make_shared<Options>();
  app.add_option("MODEL", o->model, "ONNX file")->required();
  app.add_option("-o,--write", o->write, "Where the narrowed model goes")->required()->type_name("FILE");
  app.add_option("--weights", o->weights, "f16, bf16, i8, i4, or u8 and u4, which have zero points (i8)")
      ->check(CLI::IsMember({"f16", "bf16", "i8", "u8", "i4", "u4"}))
      ->type_name("TYPE");
  app.add_option("--block", o->block, "Numbers that share a scale, 16 to 4096 (8 bits: one a column; 4 bits: 64)")
      ->check(zero_or_more())
      ->type_name("N");
  app.add_option("--least", o->least, "Weights of fewer numbers stay as they are (1024)")->check(zero_or_more())->type_name("N");
  app.add_option("--leave", o->leave, "A node whose weights stay as they are (repeatable)")->type_name("NODE")->allow_extra_args(false);
  app.add_flag("--no-check", o->no_check, "Write only: run neither model");
  app.add_option("--external-from", o->external_from, "Initializers of at least N bytes go to a file beside the model (FILE.data)")
      ->check(zero_or_more())
      ->type_name("N");
  app.add_flag("--allow-outside-data", o->allow_outside, "Accept external data from outside the model's folder");
  add_ops_option(app, o->ops);
  add_json_option(app, o->json);
  app.footer("Numbers are rounded to the nearest; activations stay floats. The model itself is left alone.");
  return [o] { return narrow(*o); };
}

}  // namespace lathe::cli
