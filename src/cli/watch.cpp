// lathe watch
#include <csignal>
#include <map>
#include <thread>

#include "common.hpp"
#include "contact_sheet.hpp"
#include "detect.hpp"
#include "interrupts.hpp"
#include "pictures.hpp"
#include "base/text.hpp"

namespace lathe::cli {
namespace {

namespace fs = std::filesystem;

struct WatchFlags {
  ModelOptions model;
  const CLI::App* app = nullptr;  // which options were said
  std::vector<std::string> from;
  PictureFlags pictures;
  DetectFlags detect;
  std::string sees, raw, when_behind;
  double rate = 25, stall = 10;
  bool camera = false, no_waiting = false;
  int64_t frames = 0, multiple = 1, tile = 0, overlap = 16;
  double late = 0, missing = 0, white = 0;
  uint64_t seed = 1;
  int lanes = 0;
  bool strict = false;
  std::string annotated, masks, lines, table, boxes, video, sheet;
  bool resume = false, corner = false;
};

bool is_sheet(const std::string& path) { return path.ends_with(".toml"); }

WatchSheet settings(WatchFlags& o, bool sheet) {
  WatchSheet s;
  if (sheet) {
    const std::string file = o.model.model;
    s = read_watch_sheet(file);
    if (s.model.empty()) throw UsageError(fmt::format("{}: the sheet names no model: model = \"FILE.onnx\"", file));
    o.model.model = s.model.string();
  }
  // What is said here goes before what the sheet says.
  const CLI::App& app = *o.app;
  const auto said = [&](const char* name) { return app.count(name) > 0; };
  WatchOptions& w = s.options;
  if (!o.from.empty()) {
    s.sources.clear();
    for (const std::string& f : o.from) s.sources.emplace_back(f);
  }
  const PictureSettings p = o.pictures.settings();
  if (said("--size")) w.pictures.height = p.height, w.pictures.width = p.width;
  if (said("--fit")) w.pictures.fit = p.fit;
  if (said("--mean")) w.pictures.mean = p.mean;
  if (said("--scale")) w.pictures.scale = p.scale;
  w.pictures.bgr = w.pictures.bgr || p.bgr;
  w.pictures.antialias = w.pictures.antialias || p.antialias;
  if (said("--labels")) w.labels = o.pictures.labels_of({});
  if (said("--detect")) w.form = o.detect.form();
  const DetectOptions d = o.detect.options();
  if (!sheet || said("--least-score")) w.detect.least_score = w.detect.suppress.least_score = d.least_score;
  if (!sheet || said("--suppress")) w.detect.suppress.how = d.suppress.how;
  if (!sheet || said("--overlap")) w.detect.suppress.most_overlap = d.suppress.most_overlap;
  if (!sheet || said("--softness")) w.detect.suppress.softness = d.suppress.softness;
  if (!sheet || said("--most-boxes")) w.detect.suppress.most = d.suppress.most;
  if (said("--sees"))
    w.sees = o.sees == "labels" ? Sees::labels : o.sees == "boxes" ? Sees::boxes : o.sees == "masks" ? Sees::masks : Sees::pictures;
  if (said("--multiple")) w.multiple = o.multiple;
  if (said("--white")) w.white = o.white;
  if (said("--tile")) w.tile = o.tile;
  if (said("--share")) w.overlap = o.overlap;
  if (said("--batch")) w.batch = o.model.batch;
  w.strict = w.strict || o.strict;
  if (said("--camera")) s.use_camera = o.camera;
  StandInCamera& c = s.camera;
  if (said("--rate")) c.rate = o.rate;
  if (said("--frames")) c.frames = o.frames;
  if (said("--late")) c.late = o.late / 100;
  if (said("--missing")) c.missing = o.missing / 100;
  if (said("--seed")) c.seed = o.seed;
  if (said("--no-waiting")) c.real_time = false;
  if (said("--when-behind")) w.drop_when_behind = o.when_behind == "drop";
  if (said("--lanes")) w.lanes = o.lanes;
  if (said("--threads")) w.threads = 0;
  w.run = o.model.run_options();
  w.stop = interrupted().get_token();
  return s;
}

std::unique_ptr<FrameSource> source_of(const WatchFlags& o, const WatchSheet& s) {
  if (s.use_camera) {
    if (s.camera.frames == 0 && !s.camera.real_time) throw UsageError("a camera that waits for nobody needs --frames");
    return stand_in_camera(s.sources, s.camera);
  }
  if (s.sources.empty()) throw UsageError("nothing to watch: name pictures, folders, a .y4m file or - for standard input, or use --camera");
  const auto stream = [](const fs::path& p) {
    return p == "-" || p.extension() == ".y4m" || (fs::exists(p) && !fs::is_directory(p) && !is_picture(p));
  };
  std::optional<RawFrames> raw;
  if (!o.raw.empty()) {
    const auto hw = split(o.raw, 'x');
    if (hw.size() != 2) throw UsageError(fmt::format("--raw: '{}' is not HEIGHTxWIDTH", o.raw));
    raw = RawFrames{parse_size(hw[0], "--raw"), parse_size(hw[1], "--raw"), o.rate};
  }
  if (raw || stream(s.sources[0])) {
    if (s.sources.size() > 1) throw UsageError(fmt::format("{}: a stream is watched by itself", s.sources[0].string()));
    return stream_frames(s.sources[0], raw, o.stall);
  }
  for (const fs::path& p : s.sources) {
    if (!fs::exists(p) && p.string().find_first_of("*?[") == std::string::npos)
      throw UsageError(fmt::format("{}: no such file or folder", p.string()));
    if (stream(p)) throw UsageError(fmt::format("{}: a stream is watched by itself", p.string()));
  }
  return picture_frames(s.sources, o.rate);
}

std::string label_of(int64_t label, const std::vector<std::string>& labels) {
  return label >= 0 && label < static_cast<int64_t>(labels.size()) ? labels[static_cast<size_t>(label)] : fmt::format("class {}", label);
}

// What one frame shows, in a cell.
std::string shown(const Sight& s, Sees sees, const std::vector<std::string>& labels) {
  if (!s.failed.empty()) return "cannot be read";
  if (sees == Sees::labels) return fmt::format("{} {:.3f}", label_of(s.labels[0].first, labels), s.labels[0].second);
  if (sees == Sees::pictures) return fmt::format("{} x {} picture", s.frame.pixels.shape()[0], s.frame.pixels.shape()[1]);
  std::map<int64_t, int64_t> counts;
  if (sees == Sees::masks) {
    for (int64_t v : s.mask.as<int64_t>()) ++counts[v];
    std::string out;
    for (const auto& [v, n] : counts) {
      if (v < 0) continue;
      out += fmt::format("{}{} {:.1f} %", out.empty() ? "" : ", ", label_of(v, labels),
                         100.0 * static_cast<double>(n) / static_cast<double>(s.mask.size()));
    }
    return out;
  }
  for (const Box& b : s.boxes) ++counts[b.label];
  std::string out;
  for (const auto& [v, n] : counts) out += fmt::format("{}{} {}", out.empty() ? "" : ", ", n, label_of(v, labels));
  return out.empty() ? "nothing" : out;
}

std::string_view word(Sees s) {
  constexpr std::string_view words[]{"labels", "boxes", "masks", "pictures"};
  return words[static_cast<size_t>(s)];
}

double percentile(std::vector<double> v, double share) {
  if (v.empty()) return 0;
  std::ranges::sort(v);
  return v[static_cast<size_t>(share * static_cast<double>(v.size() - 1) + 0.5)];
}

// What was done because of the rules, in its order.
struct Done {
  std::vector<Happening> happenings;
  std::vector<std::string> failures;
};

int watch_all(WatchFlags& o) {
  const bool sheet = is_sheet(o.model.model);
  WatchSheet s = settings(o, sheet);
  const bool people = for_people(o.model.json);
  const auto check = [&](const char* option, const std::string& path, std::initializer_list<std::string_view> kinds) {
    if (!path.empty() && path != "-") o.model.check_target(option, path, kinds);
  };
  check("--lines", o.lines, {"JSON"});
  check("--table", o.table, {"CSV"});
  check("--boxes", o.boxes, {"CSV"});
  check("--video", o.video, {"a YUV4MPEG2 video"});
  check("--sheet", o.sheet, {"a PNG picture"});
  const bool prints = std::ranges::any_of(s.rules, [](const RuledActions& r) {
    const auto print = [](const Action& a) { return a.print; };
    return std::ranges::any_of(r.then, print) || std::ranges::any_of(r.over, print);
  });
  if (prints && (o.model.json == "-" || o.lines == "-"))
    throw UsageError("actions that print and --json - or --lines - would be mixed on standard output: one of them goes to a file");
  if (o.lines == "-" && o.model.json == "-") throw UsageError("--lines - and --json - would be mixed: one of them goes to a file");
  if (!o.video.empty() && !o.video.ends_with(".y4m")) throw UsageError(fmt::format("--video {}: expected a name ending in .y4m", o.video));
  if (!o.sheet.empty()) check_sheet_name(o.sheet);
  Graph graph = o.model.load_graph();
  if (s.options.batch > 1) o.model.batch = s.options.batch;
  const CompileOptions how = o.model.compile_options(graph);
  if (!s.options.drop_when_behind && s.use_camera && s.camera.real_time && o.when_behind.empty() && !sheet)
    s.options.drop_when_behind = true;
  const Program program = o.model.make_program(std::move(graph), how);
  const std::vector<std::string> labels = s.options.labels.empty() ? labels_in(program.metadata()) : s.options.labels;
  s.options.labels = labels;
  // Recorded frames: as many lanes as threads, so that each does all of its frame; live ones: all threads on the newest frame.
  if (o.lanes == 0 && !sheet) s.options.lanes = s.options.drop_when_behind ? 1 : program.options().threads;
  std::unique_ptr<FrameSource> source = source_of(o, s);
  std::vector<Rule> rules;
  for (const RuledActions& r : s.rules) rules.push_back(r.rule);
  RuleBook book(rules, labels);
  Results results({o.annotated, o.masks, o.lines, o.table, o.boxes, o.video, o.rate, o.resume, o.corner}, labels);
  const std::optional<int64_t> all = source->count();
  source = results.left_of(std::move(source));

  const Interrupts interrupts;
  const auto start = std::chrono::steady_clock::now();
  Progress progress;
  auto told = start;
  Done done;
  std::vector<std::pair<std::string, std::string>> rows, unread;
  std::map<int64_t, std::pair<int64_t, int64_t>> seen;  // by class: things, frames
  std::vector<SheetItem> pictures;
  constexpr size_t kRows = 20, kSheet = 20;
  int64_t frames = 0;
  Sees sees = s.options.sees.value_or(Sees::labels);
  const auto happen = [&](const std::vector<Happening>& happenings) {
    for (const Happening& h : happenings) {
      done.happenings.push_back(h);
      for (const RuledActions& r : s.rules) {
        if (r.rule.name != h.rule) continue;
        for (const Action& a : h.begins ? r.then : r.over) {
          try {
            act(a, h, labels);
          } catch (const Error& e) {
            if (!a.go_on) throw;
            done.failures.push_back(e.what());
          }
        }
      }
    }
  };
  const auto take = [&](Sight& sight) {
    sees = !sight.labels.empty() ? Sees::labels : !sight.mask.empty() ? Sees::masks : !sight.picture.empty() ? Sees::pictures : Sees::boxes;
    results.take(sight);
    happen(book.look(sight));
    ++frames;
    if (rows.size() < kRows) rows.emplace_back(sight.frame.name, shown(sight, sees, labels));
    if (!sight.failed.empty()) unread.emplace_back(sight.frame.name, sight.failed);
    std::map<int64_t, int64_t> here;
    for (const Box& b : sight.boxes) ++here[b.label];
    if (!sight.labels.empty()) ++here[sight.labels[0].first];
    for (const auto& [label, n] : here) seen[label].first += n, ++seen[label].second;
    if (!o.sheet.empty() && sight.failed.empty() && pictures.size() < kSheet) {
      SheetItem item{{}, sight.frame.name, shown(sight, sees, labels), {}, {}};
      item.pixels = annotated(sight, labels);
      pictures.push_back(std::move(item));
    }
    const auto now = std::chrono::steady_clock::now();
    if (now - told < std::chrono::milliseconds(200)) return;
    told = now;
    const double seconds = std::chrono::duration<double>(now - start).count();
    progress.show(fmt::format("{}{} frames, {:.1f} frames/s, latency {}{}", frames, all ? fmt::format(" of {}", *all) : "",
                              static_cast<double>(frames) / seconds, seconds_text(sight.latency),
                              sight.dropped > 0 ? fmt::format(", {} dropped", sight.dropped) : ""));
  };
  const bool draws = !o.annotated.empty() || !o.masks.empty() || !o.video.empty();
  const WatchReport r =
      watch(program, *source, s.options, draws ? std::function<void(Sight&)>([&](Sight& sight) { results.draw(sight); }) : nullptr, take);
  happen(book.finish());
  results.finish();
  progress.show("");
  for (const auto& [name, why] : unread) fmt::print(stderr, "lathe: {} is left out: {}\n", name, why);
  if (!r.ended.empty()) fmt::print(stderr, "lathe: the source ended early: {}\n", r.ended);
  for (const std::string& f : done.failures) fmt::print(stderr, "lathe: an action failed: {}\n", f);
  if (!o.sheet.empty())
    draw_contact_sheet(o.sheet,
                       fmt::format("{}: the first {} of {} frames", fs::path(o.model.model).filename().string(), pictures.size(), frames),
                       pictures);

  const double median_run = percentile(r.runs, 0.5);
  // Sizes that vary cost programs of their own.
  const bool costly = r.editions > 8 || (r.editions > 2 && r.compiling > 1 && r.compiling > 0.25 * r.seconds);
  Json out{{"model", o.model.model},
           {"sees", word(r.sees)},
           {"frames", r.frames},
           {"dropped", r.dropped},
           {"left_out", r.failed},
           {"seconds", r.seconds},
           {"frames_per_second", r.seconds > 0 ? static_cast<double>(r.frames) / r.seconds : 0},
           {"lanes", s.options.lanes},
           {"batch", s.options.batch}};
  out["latency_seconds"] = {{"p50", percentile(r.latencies, 0.5)},
                            {"p90", percentile(r.latencies, 0.9)},
                            {"p99", percentile(r.latencies, 0.99)},
                            {"most", percentile(r.latencies, 1)}};
  out["run_seconds"] = r.runs.empty() ? Json() : Json(median_run);
  out["sizes"] = r.sizes;
  out["programs_compiled"] = r.editions;
  out["compiling_seconds"] = r.compiling;
  out["ended_early"] = r.ended;
  if (r.sees == Sees::boxes) out["detect"] = form_text(r.form);
  out["seen"] = Json::array();
  for (const auto& [label, n] : seen) out["seen"].push_back({{"class", label_of(label, labels)}, {"count", n.first}, {"frames", n.second}});
  out["happenings"] = Json::array();
  for (const Happening& h : done.happenings) out["happenings"].push_back(Json::parse(happening_json(h, labels)));
  out["failed_actions"] = done.failures;
  // Results on standard output are for programs: people's words would be mixed with them.
  const bool quiet = !people || o.lines == "-" || o.table == "-";
  if (!quiet) {
    fmt::print("{}: {} of {} frames\n", o.model.model, word(r.sees), r.frames);
    if (r.sees == Sees::boxes && r.frames > r.failed) fmt::print("  {}\n", form_text(r.form));
    fmt::print("\n");
    Table t("ll");
    for (const auto& [name, what] : rows) t.row({name, what});
    fmt::print("{}", t.text());
    if (r.frames > static_cast<int64_t>(rows.size()))
      fmt::print("  ... and {} more{}\n", r.frames - static_cast<int64_t>(rows.size()),
                 o.lines.empty() ? "; --lines FILE keeps them all" : "");
    fmt::print("\n");
    if (!seen.empty()) {
      std::string things;
      for (const auto& [label, n] : seen) {
        const std::string in = r.sees == Sees::labels ? "" : fmt::format(" in {} frame{}", n.second, n.second == 1 ? "" : "s");
        things += fmt::format("{}{} {}{}", things.empty() ? "" : ", ", n.first, label_of(label, labels), in);
      }
      fmt::print("  seen      {}\n", things);
    }
    fmt::print("  speed     {:.1f} frames/s, {} lane{}{}{}\n", out["frames_per_second"].get<double>(), s.options.lanes,
               s.options.lanes == 1 ? "" : "s", s.options.batch > 1 ? fmt::format(", batches of up to {}", s.options.batch) : "",
               r.runs.empty() ? "" : fmt::format("; the model takes {} a run", seconds_text(median_run)));
    fmt::print("  latency   {} median, {} p90, {} p99, {} at most\n", seconds_text(percentile(r.latencies, 0.5)),
               seconds_text(percentile(r.latencies, 0.9)), seconds_text(percentile(r.latencies, 0.99)),
               seconds_text(percentile(r.latencies, 1)));
    if (r.dropped > 0 || s.options.drop_when_behind) fmt::print("  dropped   {} frames, for newer ones\n", r.dropped);
    if (r.failed > 0) fmt::print("  left out  {} frames that could not be read\n", r.failed);
    if (results.done_before() > 0) fmt::print("  resumed   {} frames were done before\n", results.done_before());
    if (!s.rules.empty()) {
      fmt::print("\n");
      for (const Happening& h : done.happenings)
        fmt::print("  {:>9.3f} s  {:<8}  {}  {}\n", h.time, h.begins ? "begins" : "over", h.rule, h.frame_name);
      if (done.happenings.empty()) fmt::print("  no rule has come true\n");
    }
    if (!o.sheet.empty()) fmt::print("  sheet     {}\n", o.sheet);
  }
  if (costly)
    fmt::print(stderr, "lathe: pictures of {} sizes: {} programs were compiled, first runs took {} of {}; --size makes them equal\n",
               r.sizes, r.editions, seconds_text(r.compiling), seconds_text(r.seconds));
  write_json(o.model.json, out);
  if (r.failed == r.frames && r.frames > 0) return kModelFault;
  return !r.ended.empty() || !done.failures.empty() ? kCheckFailed : kGood;
}

}  // namespace

Command add_watch(CLI::App& app) {
  auto o = std::make_shared<WatchFlags>();
  o->model.add_to(app);
  app.add_option("from", o->from, "Pictures, folders of them, patterns in quotes, one .y4m file, or - for frames on standard input")
      ->type_name("SOURCE");
  app.add_flag("--camera", o->camera, "The stand-in camera: goes round the pictures named, or draws boards that pass by");
  app.add_option("--rate", o->rate, "Frames a second, of the camera, raw frames and written videos (25; the camera 30)")
      ->check(CLI::Range(0.001, 10000.0));
  app.add_option("--frames", o->frames, "Of the camera: how many (until it is stopped)")->check(CLI::Range(int64_t{1}, int64_t{1} << 40));
  app.add_option("--late", o->late, "Of the camera: percent of frames that come late (0)")->check(CLI::Range(0.0, 99.9))->type_name("P");
  app.add_option("--missing", o->missing, "Of the camera: percent that do not come (0)")->check(CLI::Range(0.0, 99.9))->type_name("P");
  app.add_option("--seed", o->seed, "Of the camera: which frames these are (1)");
  app.add_flag("--no-waiting", o->no_waiting, "Of the camera: its clock alone runs, frames come as fast as they are taken");
  app.add_option("--raw", o->raw, "The stream is raw RGB bytes of this size")->type_name("HEIGHTxWIDTH");
  app.add_option("--stall", o->stall, "Seconds for which a stream may give nothing (10)")->check(CLI::Range(0.01, 86400.0));
  app.add_option("--when-behind", o->when_behind,
                 "When frames come faster than they go: wait, and lose none; or drop, and take the latest (drop of a live camera)")
      ->check(CLI::IsMember({"wait", "drop"}));
  app.add_option("--sees", o->sees, "What the model gives: labels, boxes, masks or pictures (found from its outputs)")
      ->check(CLI::IsMember({"labels", "boxes", "masks", "pictures"}));
  app.add_option("--lanes", o->lanes, "Frames at once, each lane with its share of the threads (a lane a thread; 1 of a live camera)")
      ->check(CLI::Range(1, 256));
  app.add_option("--multiple", o->multiple, "Sides that the model leaves open are rounded up to what this divides (the metadata, or found)")
      ->check(CLI::Range(int64_t{1}, int64_t{65536}));
  app.add_option("--tile", o->tile, "Larger pictures go in parts of so many pixels a side")->check(CLI::Range(int64_t{8}, int64_t{65536}));
  app.add_option("--share", o->overlap, "Pixels that a part shares with each neighbour (16)")
      ->check(CLI::Range(int64_t{0}, int64_t{32768}));
  app.add_option("--white", o->white, "Of pictures that the model makes: what white is in them, 1 or 255 (1)")
      ->check(CLI::Range(1e-6, 1e6));
  app.add_flag("--strict", o->strict, "A picture that cannot be read ends it (else it is named and left out)");
  o->detect.add_to(app, 0.25);
  o->pictures.add_to(app);
  app.add_option("--annotated", o->annotated, "Folder for the frames with what was seen drawn on them")->type_name("DIR");
  app.add_option("--masks", o->masks, "Folder for masks as greyscale pictures")->type_name("DIR");
  app.add_option("--lines", o->lines, "A line of JSON for each frame; - is standard output")->type_name("FILE");
  app.add_option("--table", o->table, "CSV of everything seen")->type_name("FILE");
  app.add_option("--boxes", o->boxes, "CSV of boxes, as judge takes it")->type_name("FILE");
  app.add_option("--video", o->video, "YUV4MPEG2 of the frames with what was seen")->type_name("FILE.y4m");
  app.add_option("--sheet", o->sheet, "One picture of the first twenty frames")->type_name("FILE.png");
  app.add_flag("--resume", o->resume, "Go on where --lines ends");
  app.add_flag("--corner", o->corner, "Frames a second in the corner of drawn frames");
  o->model.add_limits(app);
  o->app = &app;
  return [o] { return watch_all(*o); };
}

}  // namespace lathe::cli
