// lathe bench: sizes, threads and lanes one after another; several models side by side.
#include <algorithm>
#include <charconv>
#include <filesystem>

#include "bench.hpp"
#include "drawing.hpp"
#include "base/text.hpp"

namespace lathe::cli {
namespace {

namespace fs = std::filesystem;

// A model made ready to run.
struct Ready {
  Contender contender;
  std::string shapes;
};

Ready ready(BenchFlags& flags) {
  flags.model.archive.reset();
  Graph graph = flags.model.load_graph();
  CompileOptions options = flags.model.compile_options(graph);
  FeedFlags feed = flags.feed;
  feed.read(flags.model, graph, options);
  Ready r;
  r.contender.program = flags.model.make_program(std::move(graph), options);
  r.contender.threads = r.contender.program.options().threads;
  r.contender.lanes = flags.bench.lanes;
  r.contender.held = flags.bench.held;
  r.contender.inputs = feed.make(flags.model, r.contender.program, options, flags.seed);
  if (!flags.model.pins.empty()) flags.model.check_pins(options, r.contender.program.describe(shapes_of(r.contender.inputs)));
  for (size_t i = 0; i < r.contender.inputs.size(); ++i)
    r.shapes += fmt::format("{}{}", i ? ", " : "", to_string(r.contender.inputs[i].shape()));
  const auto& first = r.contender.inputs.empty() ? Shape() : r.contender.inputs[0].shape();
  r.contender.items = first.empty() ? 1 : std::max<int64_t>(1, first[0]);
  return r;
}

std::vector<TurnTimes> timed(const BenchFlags& flags, const std::vector<Contender>& contenders, int rounds) {
  Progress progress;
  return by_turns(contenders, flags.bench.min_seconds, rounds,
                  [&](int round) { progress.show(fmt::format("round {} of {}, {} in turn", round + 1, rounds, contenders.size())); });
}

// How many times as fast as the first, with its 95 % interval over the rounds.
Interval speed_against(const TurnTimes& first, const TurnTimes& other) {
  std::vector<double> ratios;
  for (size_t i = 0; i < other.rates.size(); ++i) ratios.push_back(other.rates[i] / first.rates[i]);
  return bootstrap(ratios.size(), [&](std::span<const size_t> drawn) {
    std::vector<double> some;
    for (size_t d : drawn) some.push_back(ratios[d]);
    return summarise(std::move(some)).median;
  });
}

// "threads=1 isa=avx2 direct": other options for the same model. Throws UsageError.
void apply(BenchFlags& flags, const std::string& text) {
  for (const std::string& part : split(text, ' ')) {
    if (part.empty()) continue;
    const size_t at = part.find('=');
    const std::string key = part.substr(0, at), value = at == std::string::npos ? "" : part.substr(at + 1);
    const std::vector<std::string> known{"threads", "lanes", "batch", "isa", "direct", "round-each", "dim"};
    if (key == "threads") flags.model.threads = static_cast<int>(parse_size(value, "--also threads"));
    else if (key == "lanes") flags.bench.lanes = static_cast<int>(parse_size(value, "--also lanes"));
    else if (key == "batch") flags.model.batch = parse_size(value, "--also batch");
    else if (key == "isa") flags.model.isa = value;
    else if (key == "direct" && value.empty()) flags.model.direct = true;
    else if (key == "round-each" && value.empty()) flags.model.round_each = true;
    else if (key == "dim") flags.model.dims.push_back(value);
    else throw UsageError(fmt::format("--also: '{}' is none of {}{}", part, fmt::join(known, ", "), did_you_mean(key, known)));
  }
}

void draw_sweep(const BenchFlags& flags, const Swept& swept, const std::vector<double>& latency, const std::vector<double>& rate,
                size_t knee) {
  std::string points;
  for (size_t i = 0; i < latency.size(); ++i) points += fmt::format("{} {:.6g} {:.6g}\n", swept.values[i], latency[i] * 1e3, rate[i]);
  const double most = *std::ranges::max_element(rate);
  std::string script = fmt::format(
      "set terminal {} size 1280,800 font 'sans,12' background rgb '#ffffff'\nset output '{{out}}'\n"
      "set title \"{}: latency and throughput against {}\" font 'sans,15' noenhanced\nset xlabel \"{}\" noenhanced\n"
      "set logscale x 2\nset xtics ({})\nset xrange [{:.6g}:{:.6g}]\nset ylabel \"items a second\"\nset y2label \"latency, milliseconds "
      "(median)\"\n"
      "set y2tics\nset ytics nomirror\nset yrange [0:{:.6g}]\nset y2range [0:*]\nset border 11 lc rgb '#555555'\nset grid ytics lc rgb "
      "'#dddddd'\n"
      "set key top left noenhanced\n"
      "$p << END\n{}END\n"
      "set arrow from {},0 to {},{:.6g} nohead dt 2 lc rgb '#888888'\n"
      "set label \"{} {}: nine tenths of the best throughput\" at {},{:.6g} left offset 1,0 noenhanced font 'sans,11' tc rgb '#555555'\n"
      "plot $p using 1:3 with linespoints lw 2 pt 7 lc rgb '{}' title 'items a second', "
      "$p using 1:2 axes x1y2 with linespoints lw 2 pt 5 lc rgb '{}' title 'latency'\n",
      chart_terminal(flags.chart), chart_label(fs::path(flags.model.model).filename().string()), chart_label(swept.what),
      chart_label(swept.what), fmt::join(swept.values, ", "), static_cast<double>(swept.values.front()) / 1.2,
      static_cast<double>(swept.values.back()) * 1.2, 1.15 * most, points, swept.values[knee], swept.values[knee], 1.15 * most,
      chart_label(swept.what), swept.values[knee], swept.values[knee], 0.06 * most, kColours[0], kColours[1]);
  draw_with("gnuplot", "gnuplot-nox", {"{script}"}, std::move(script), flags.chart);
}

}  // namespace

std::vector<int64_t> number_series(const std::string& text, const std::string& option) {
  std::vector<int64_t> out;
  const auto number = [&](std::string_view word) {
    int64_t v = 0;
    const auto [end, error] = std::from_chars(word.data(), word.data() + word.size(), v);
    if (error != std::errc() || end != word.data() + word.size() || v < 1 || v > (int64_t{1} << 31))
      throw UsageError(fmt::format(
          "{}: '{}' is no whole number of at least 1; expected a number, a list such as 1,2,4, or a doubling range such as 1..64", option,
          std::string(word)));
    return v;
  };
  for (const std::string& part : split(text, ',')) {
    const size_t dots = part.find("..");
    if (dots == std::string::npos) {
      out.push_back(number(part));
      continue;
    }
    const int64_t from = number(std::string_view(part).substr(0, dots)), to = number(std::string_view(part).substr(dots + 2));
    if (to < from) throw UsageError(fmt::format("{}: {} ends below its begin", option, part));
    for (int64_t v = from; v <= to; v *= 2) out.push_back(v);
    if (out.back() != to) out.push_back(to);
  }
  if (out.empty()) throw UsageError(fmt::format("{}: no number is given", option));
  std::ranges::sort(out);
  out.erase(std::unique(out.begin(), out.end()), out.end());
  if (out.size() > 64) throw UsageError(fmt::format("{}: {} values are too many to compare by turns; give at most 64", option, out.size()));
  return out;
}

std::optional<Swept> swept_by(BenchFlags& flags) {
  std::optional<Swept> swept;
  const auto take = [&](const std::string& what, const std::string& text, const std::string& option, auto put) {
    if (text.empty()) return;
    auto values = number_series(text, option);
    if (values.size() == 1) {
      put(values[0]);
      return;
    }
    if (swept) throw UsageError(fmt::format("{} and --{} both have several values; sweep one at a time", option, swept->what));
    swept = Swept{what, std::move(values)};
  };
  take("batch", flags.batches, "--batch", [&](int64_t v) { flags.model.batch = v; });
  take("threads", flags.threads, "--threads", [&](int64_t v) {
    if (v > 1024) throw UsageError(fmt::format("--threads is {}, expected 1 to 1024", v));
    flags.model.threads = static_cast<int>(v);
  });
  take("lanes", flags.lanes, "--lanes", [&](int64_t v) {
    if (v > 256) throw UsageError(fmt::format("--lanes is {}, expected 1 to 256", v));
    flags.bench.lanes = static_cast<int>(v);
  });
  std::vector<std::string> single;
  for (const std::string& dim : flags.model.dims) {
    const size_t at = dim.rfind('=');
    const bool several = at != std::string::npos && (dim.find(',', at) != std::string::npos || dim.find("..", at) != std::string::npos);
    if (!several) {
      single.push_back(dim);
      continue;
    }
    take(dim.substr(0, at), dim.substr(at + 1), "--dim " + dim.substr(0, at),
         [&](int64_t v) { single.push_back(fmt::format("{}={}", dim.substr(0, at), v)); });
  }
  flags.model.dims = std::move(single);
  return swept;
}

int bench_sweep(BenchFlags& flags, const Swept& swept) {
  std::vector<Contender> contenders;
  std::vector<std::string> shapes;
  const auto dims = flags.model.dims;
  {
    Progress progress;
    for (int64_t v : swept.values) {
      progress.show(fmt::format("compiling for {} {}", swept.what, v));
      flags.model.dims = dims;
      if (swept.what == "batch") flags.model.batch = v;
      else if (swept.what == "threads") flags.model.threads = static_cast<int>(v);
      else if (swept.what == "lanes") flags.bench.lanes = static_cast<int>(v);
      else flags.model.dims.push_back(fmt::format("{}={}", swept.what, v));
      Ready r = ready(flags);
      contenders.push_back(std::move(r.contender));
      shapes.push_back(std::move(r.shapes));
    }
  }
  const StolenWatch stolen;
  const auto times = timed(flags, contenders, 7);
  std::vector<double> latency, rate;
  for (const TurnTimes& t : times) {
    latency.push_back(summarise(t.latencies).median);
    rate.push_back(summarise(t.rates).median);
  }
  const double best = *std::ranges::max_element(rate);
  size_t knee = 0;
  while (rate[knee] < 0.9 * best) ++knee;
  const Environment env = environment();
  Json j{{"model", flags.model.model},
         {"swept", swept.what},
         {"inputs", flags.feed.text(flags.seed)},
         {"knee", swept.values[knee]},
         {"points", Json::array()}};
  Table table("rlrrrrrl", {swept.what, "inputs", "median", "p90", "p99", "items/s", "of best", ""});
  for (size_t i = 0; i < times.size(); ++i) {
    const Latency l = summarise(times[i].latencies);
    const Latency rounds = summarise(times[i].rates);
    j["points"].push_back({{"value", swept.values[i]},
                           {"latency_seconds", latency_json(l)},
                           {"items_per_second", rate[i]},
                           {"items_per_second_min", rounds.min},
                           {"items_per_second_max", rounds.max},
                           {"threads", contenders[i].threads},
                           {"lanes", contenders[i].lanes}});
    table.row({std::to_string(swept.values[i]), shapes[i], seconds_text(l.median), seconds_text(l.p90), seconds_text(l.p99),
               fmt::format("{:.1f}", rate[i]), fmt::format("{:.0f} %", 100 * rate[i] / best), i == knee ? "<- knee" : ""});
  }
  const double share = stolen.share();
  j["environment"] = environment_json(env);
  j["stolen_share"] = share;
  write_json(flags.model.json, j);
  if (!flags.chart.empty()) draw_sweep(flags, swept, latency, rate, knee);
  if (!for_people(flags.model.json)) return kGood;
  fmt::print("{}: {} from {} to {}, by turns in 7 rounds; inputs: {}\n{}", flags.model.model, swept.what, swept.values.front(),
             swept.values.back(), flags.feed.text(flags.seed), table.text());
  fmt::print("  knee: the smallest {} with nine tenths of the best throughput\n", swept.what);
  if (!flags.chart.empty()) fmt::print("  chart: {}\n", flags.chart);
  fmt::print("{}", environment_text(env, share));
  return kGood;
}

int bench_side_by_side(BenchFlags& flags) {
  struct Row {
    std::string name, shapes;
  };
  std::vector<Row> rows;
  std::vector<Contender> contenders;
  {
    Progress progress;
    const auto add = [&](BenchFlags with, const std::string& name) {
      progress.show("compiling " + name);
      Ready r = ready(with);
      contenders.push_back(std::move(r.contender));
      rows.push_back({name, r.shapes});
    };
    add(flags, flags.model.model);
    for (const std::string& model : flags.more) {
      BenchFlags with = flags;
      with.model.model = model;
      add(std::move(with), model);
    }
    for (const std::string& options : flags.also) {
      BenchFlags with = flags;
      apply(with, options);
      add(std::move(with), options);
    }
  }
  const int rounds = std::clamp(flags.rounds, 5, 200);
  const auto times = timed(flags, contenders, rounds);
  const Environment env = environment();
  Json j{{"inputs", flags.feed.text(flags.seed)}, {"rounds", rounds}, {"contenders", Json::array()}};
  Table table("llrrrrr", {"", "inputs", "median", "p90", "items/s", "speed", "95 %"});
  for (size_t i = 0; i < times.size(); ++i) {
    const Latency l = summarise(times[i].latencies);
    const Interval speed = speed_against(times[0], times[i]);
    const double rate = summarise(times[i].rates).median;
    j["contenders"].push_back({{"name", rows[i].name},
                               {"threads", contenders[i].threads},
                               {"lanes", contenders[i].lanes},
                               {"isa", contenders[i].program.options().isa},
                               {"latency_seconds", latency_json(l)},
                               {"items_per_second", rate},
                               {"speed", speed.value},
                               {"speed_low", speed.low},
                               {"speed_high", speed.high}});
    table.row({rows[i].name, rows[i].shapes, seconds_text(l.median), seconds_text(l.p90), fmt::format("{:.1f}", rate),
               i == 0 ? "1" : fmt::format("{:.2f}", speed.value), i == 0 ? "" : fmt::format("{:.2f} to {:.2f}", speed.low, speed.high)});
  }
  j["environment"] = environment_json(env);
  write_json(flags.model.json, j);
  if (!for_people(flags.model.json)) return kGood;
  fmt::print("Side by side, by turns in {} rounds; inputs: {}\n{}", rounds, flags.feed.text(flags.seed), table.text());
  fmt::print("  speed: items a second against the first, median of the rounds\n{}", environment_text(env, 0));
  return kGood;
}

}  // namespace lathe::cli
