// lathe report: what the other commands find, as one page.
#include <algorithm>
#include <array>
#include <cmath>
#include <ctime>
#include <filesystem>
#include <map>
#include <set>
#include <sstream>

#include <unistd.h>

#include "base/files.hpp"
#include "drawing.hpp"
#include "feed.hpp"
#include "keep.hpp"

namespace lathe::cli {
namespace {

namespace fs = std::filesystem;

struct ReportFlags {
  ModelOptions model;
  FeedFlags feed;
  std::string out, variants, sensitivity;
  std::vector<std::string> without;
  double seconds = 1;
  KeepFlags keep;
};

const std::vector<std::string> kParts{"bench", "profile", "parity", "walk", "history", "graph"};

// The nodes as modules are told from.
std::vector<NodeInfo> node_infos(const Json& nodes) {
  std::vector<NodeInfo> out;
  for (const Json& n : nodes) {
    NodeInfo info;
    info.label = n["name"].get<std::string>();
    info.op = n["op"].get<std::string>();
    const auto names = [&](const char* key, std::vector<std::string>& into) {
      if (!n.contains(key)) return;
      for (const Json& v : n[key]) {
        if (!v.contains("weight")) into.push_back(v["name"].get<std::string>());
      }
    };
    names("inputs", info.inputs);
    names("outputs", info.outputs);
    out.push_back(std::move(info));
  }
  return out;
}

// A chain of many nodes is a ribbon: it goes on in further columns, cut where no module is cut. `places`: x, y, width, height of each node.
// Gives the column of each.
std::vector<int> wrap(std::vector<std::array<double, 4>>& places, const std::vector<std::string>& modules) {
  std::vector<int> column(places.size(), 0);
  if (places.size() < 12) return column;
  double left = 1e300, right = -1e300, bottom = -1e300;
  for (const auto& p : places) {
    left = std::min(left, p[0] - p[2] / 2);
    right = std::max(right, p[0] + p[2] / 2);
    bottom = std::max(bottom, p[1] + p[3] / 2);
  }
  const double gap = 120, width = right - left + gap;
  // The window is a third wider than high.
  const int columns = static_cast<int>(std::lround(std::sqrt(1.33 * bottom / width)));
  if (columns < 2) return column;
  std::map<std::string, std::pair<double, double>> spans;  // of modules, from top to bottom
  for (size_t i = 0; i < places.size(); ++i) {
    if (modules[i].empty()) continue;
    auto [it, fresh] = spans.try_emplace(modules[i], places[i][1], places[i][1]);
    it->second = {std::min(it->second.first, places[i][1]), std::max(it->second.second, places[i][1])};
  }
  std::set<double> levels;
  for (const auto& p : places) levels.insert(p[1]);
  std::vector<double> tops{0};
  double before = -1e300;
  for (double level : levels) {
    const double cut = (before + level) / 2;
    const bool free = std::ranges::none_of(spans, [&](const auto& s) { return s.second.first < cut && s.second.second > cut; });
    if (free && before > -1e300 && cut >= tops.back() + bottom / columns) tops.push_back(cut);
    before = level;
  }
  // Each column stands beside the one before, by its own width.
  double x = 0;
  for (size_t c = 0; c < tops.size(); ++c) {
    const double top = tops[c], end = c + 1 < tops.size() ? tops[c + 1] : 1e300;
    double low = 1e300, high = -1e300;
    for (const auto& p : places) {
      if (p[1] >= top && p[1] < end) low = std::min(low, p[0] - p[2] / 2), high = std::max(high, p[0] + p[2] / 2);
    }
    std::vector<std::array<double, 4>*> inside;
    for (size_t i = 0; i < places.size(); ++i) {
      if (places[i][1] < top || places[i][1] >= end) continue;
      inside.push_back(&places[i]);
      column[i] = static_cast<int>(c);
    }
    for (auto* p : inside) {
      (*p)[0] += x - low;
      (*p)[1] -= top;
    }
    // Moved up, they must not be taken for those of a later column.
    for (auto* p : inside) (*p)[1] -= 1e7;
    x += high - low + gap;
  }
  for (auto& p : places) p[1] += 1e7;
  return column;
}

// Places of the nodes, by Graphviz: only numbers go in and come out.
Json layout_of(const Json& nodes, const std::string& beside) {
  const std::vector<std::string> modules = modules_of(node_infos(nodes));
  std::vector<std::string> names;
  for (const std::string& m : modules) {
    if (!m.empty() && std::ranges::find(names, m) == names.end()) names.push_back(m);
  }
  std::string dot =
      "digraph g {\nnode [shape=box fixedsize=true width=1.75 height=0.5 label=\"\"];\nedge "
      "[arrowhead=none];\nranksep=0.35;\nnodesep=0.25;\n"
      "splines=false;\nnslimit=4;\nnslimit1=4;\nmclimit=0.5;\n";
  std::map<std::string, size_t> maker;
  std::vector<std::vector<size_t>> inside(names.size());
  for (size_t i = 0; i < nodes.size(); ++i) {
    if (const auto at = std::ranges::find(names, modules[i]); at != names.end())
      inside[static_cast<size_t>(at - names.begin())].push_back(i);
    else dot += fmt::format("n{};\n", i);
    if (nodes[i].contains("outputs")) {
      for (const Json& o : nodes[i]["outputs"]) maker[o["name"].get<std::string>()] = i;
    }
  }
  for (size_t m = 0; m < inside.size(); ++m) {
    dot += fmt::format("subgraph cluster_{} {{\nmargin=14;\n", m);
    for (size_t i : inside[m]) dot += fmt::format("n{};\n", i);
    dot += "}\n";
  }
  for (size_t i = 0; i < nodes.size(); ++i) {
    std::set<size_t> from;
    if (nodes[i].contains("inputs")) {
      for (const Json& v : nodes[i]["inputs"]) {
        if (const auto it = maker.find(v["name"].get<std::string>()); it != maker.end() && it->second != i) from.insert(it->second);
      }
    }
    for (size_t f : from) dot += fmt::format("n{} -> n{};\n", f, i);
  }
  const fs::path plain = beside + fmt::format(".{}.layout", ::getpid());
  draw_with("dot", "graphviz", {"-Tplain", "-o", "{out}", "{script}"}, dot + "}\n", plain.string());
  std::istringstream lines(read_file(plain));
  std::error_code ec;
  fs::remove(plain, ec);
  Json layout{{"nodes", Json::array()}, {"modules", Json::array()}, {"module_names", names}};
  std::vector<std::array<double, 4>> places(nodes.size(), {0, 0, 126, 36});
  std::string line;
  double height = 0;
  while (std::getline(lines, line)) {
    std::istringstream words(line);
    std::string kind, name;
    double x = 0, y = 0, w = 0, h = 0;
    words >> kind;
    if (kind == "graph") words >> x >> w >> height;
    if (kind != "node" || !(words >> name >> x >> y >> w >> h)) continue;
    const size_t i = std::stoul(name.substr(1));
    if (i < places.size()) places[i] = {std::round(72 * x), std::round(72 * (height - y)), std::round(72 * w), std::round(72 * h)};
  }
  layout["columns"] = wrap(places, modules);
  for (size_t i = 0; i < nodes.size(); ++i) {
    layout["nodes"].push_back(places[i]);
    const auto at = std::ranges::find(names, modules[i]);
    layout["modules"].push_back(at == names.end() ? -1 : static_cast<int>(at - names.begin()));
  }
  return layout;
}

std::string now_text() {
  const std::time_t now = std::time(nullptr);
  char text[64];
  std::strftime(text, sizeof text, "%Y-%m-%d %H:%M UTC", std::gmtime(&now));
  return text;
}

}  // namespace

Command add_report(CLI::App& app) {
  auto o = std::make_shared<ReportFlags>();
  o->model.add_to(app);
  app.add_option("-o,--page", o->out, "The page (the model's name with .html)")->type_name("FILE.html");
  app.add_option("--variants", o->variants, "Also what 'lathe compare SHEET --json FILE' wrote")->type_name("FILE.json");
  app.add_option("--sensitivity", o->sensitivity,
                 "Also what narrow's --sensitivity or parity's --budget wrote as JSON: the graph is coloured by it")
      ->type_name("FILE.json");
  app.add_option("--without", o->without, "Leave a part out: bench, profile, parity, walk, history, graph (repeatable)")
      ->check(CLI::IsMember(kParts))
      ->type_name("PART")
      ->allow_extra_args(false);
  app.add_option("--seconds", o->seconds, "Measure at least this long (1)")->check(CLI::Range(0.01, 3600.0))->type_name("S");
  app.add_option("--logbook", o->keep.logbook, "The logbook whose results of this model are shown (see 'lathe logbook')")
      ->type_name("FILE");
  o->feed.add_to(app, {});
  app.footer(
      "The page holds all it needs and opens without a network.\nIts facts are what inspect, bench, profile, parity and logbook write as "
      "JSON; --json writes them too.");
  return [o] {
    const fs::path model = o->model.model;
    if (o->out.empty()) o->out = model.stem().string() + ".html";
    std::vector<std::string> read{o->variants, o->sensitivity};
    read.insert(read.end(), o->feed.inputs.begin(), o->feed.inputs.end());
    read.push_back(o->model.model);
    check_target("--page", o->out, {"an HTML page"}, read);
    check_target("--json", o->model.json, {"JSON"}, read);
    const auto with = [&](const char* part) { return std::ranges::find(o->without, part) == o->without.end(); };
    const std::vector<std::string> words = o->model.words();
    std::vector<std::string> fed = words;
    for (const std::string& input : o->feed.inputs) fed.insert(fed.end(), {"--input", input});
    if (!o->feed.cases.empty()) fed.insert(fed.end(), {"--cases", o->feed.cases});
    if (!o->feed.image.empty()) fed.insert(fed.end(), {"--image", o->feed.image});
    if (o->feed.seed) fed.insert(fed.end(), {"--seed", std::to_string(*o->feed.seed)});
    Json facts{
        {"model", model.filename().string()}, {"made", fmt::format("lathe {}, {}", LATHE_VERSION, now_text())}, {"notes", Json::array()}};
    const bool people = for_people(o->model.json);
    Progress progress;
    // A part that cannot be made is named on the page; the rest stands.
    const auto part = [&](const char* key, const char* doing, const std::function<Json()>& make) {
      progress.show(doing);
      try {
        facts[key] = make();
      } catch (const Error& e) {
        if (e.category() == Category::cancelled) throw;
        facts["notes"].push_back(fmt::format("No {}: {}", key, e.what()));
      } catch (const UsageError& e) {
        facts["notes"].push_back(fmt::format("No {}: {}", key, e.what()));
      }
    };
    const auto more = [](std::vector<std::string> list, std::initializer_list<std::string> last) {
      list.insert(list.end(), last);
      return list;
    };
    const bool archive = is_program_archive(model);
    // First, so that the memory it tells is its own.
    if (with("bench"))
      part("bench", "measuring latency", [&] { return facts_of(add_bench, more(fed, {"--seconds", fmt::format("{}", o->seconds)})); });
    progress.show("looking at the model");
    facts["inspect"] = archive ? facts_of(add_inspect, words) : [&] {
      try {
        return facts_of(add_inspect, with("graph") ? more(words, {"--steps", "--nodes", "--weights"}) : more(words, {"--steps"}));
      } catch (const UsageError&) {  // sizes are open: what needs none is shown
        return facts_of(add_inspect, with("graph") ? more(words, {"--nodes", "--weights"}) : words);
      }
    }();
    const Json inspect = facts["inspect"];  // a copy: keys that are added move the others
    const bool sound = !inspect.contains("faults") || inspect["faults"].empty();
    if (!sound) facts["notes"] = Json::array();  // they would say the same as its faults
    if (sound && with("profile")) part("profile", "measuring steps", [&] { return facts_of(add_profile, more(fed, {"--runs", "30"})); });
    const bool cases = fs::is_directory(model.parent_path() / "test_data_set_0");
    if (sound && with("parity") && cases) part("parity", "checking outputs", [&] { return facts_of(add_parity, words); });
    const double flops = inspect.contains("flops") && inspect["flops"].is_number() ? inspect["flops"].get<double>() : 0;
    // Plain evaluation in double takes some seconds a GFLOP.
    if (sound && !archive && with("walk")) {
      if (flops > 8e9)
        facts["notes"].push_back(
            fmt::format("No error against depth: plain evaluation of {}FLOP takes long; 'lathe parity --walk' does it", count_text(flops)));
      else
        part("walk", "plain evaluation in double", [&] {
          std::vector<std::string> w = words;
          for (const std::string& input : o->feed.inputs) w.insert(w.end(), {"--input", input});
          if (!o->feed.image.empty()) w.insert(w.end(), {"--image", o->feed.image});
          if (!o->feed.cases.empty()) w.insert(w.end(), {"--cases", o->feed.cases});
          return facts_of(add_parity, more(w, {"--walk"}));
        });
    }
    if (const std::string book = o->keep.file(); with("history") && !book.empty() && fs::exists(book))
      part("history", "reading the logbook", [&] {
        Json history = facts_of(add_logbook, {"--logbook", book, "--model", model.filename().string(), "--last", "60"});
        for (Json& entry : history["entries"]) {
          entry.erase("details");
          for (auto& figure : entry["figures"]) figure.erase("samples");
        }
        return history;
      });
    if (!o->variants.empty()) {
      try {
        facts["variants"] = Json::parse(read_file(o->variants));
      } catch (const Json::exception&) {
        throw Error(Category::format, fmt::format("{}: is not JSON as 'lathe compare --json' writes it", o->variants));
      }
    }
    if (!o->sensitivity.empty()) facts["sensitivity"] = read_sensitivity(o->sensitivity);
    if (with("graph") && inspect.contains("node_list") && !inspect["node_list"].empty())
      part("layout", "laying the graph out", [&] { return layout_of(inspect["node_list"], o->out); });
    progress.show("");
    const std::string page =
        report_page(model.filename().string() + ": report", facts.dump(-1, ' ', false, Json::error_handler_t::replace));
    write_file(o->out, page);
    write_json(o->model.json, facts);
    if (people) {
      fmt::print("{}: {}, {}\n", o->model.model, o->out, bytes_text(static_cast<double>(page.size())));
      for (const Json& note : facts["notes"]) fmt::print("  {}\n", note.get<std::string>());
    }
    return sound ? int{kGood} : int{kModelFault};
  };
}

}  // namespace lathe::cli
