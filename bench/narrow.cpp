// Networks in the narrow forms that exporters write, against their f32 twins: one interleaved run, each round times every program once.
#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <chrono>
#include <cmath>
#include <cstdlib>
#include <cstring>
#include <filesystem>
#include <memory>

#include "forms.hpp"
#include "networks.hpp"
#include "timing.hpp"

using namespace lathe;

namespace {

struct Form {
  std::string name;
  std::function<Graph(Graph)> make;
  double asked;  // times the speed of f32
};

struct Item {
  std::string form;
  double asked = 0, arena = 0, weights = 0;
  size_t steps = 0, plain = 0;
  std::vector<Tensor> inputs;
  std::unique_ptr<Lane> lane;
  int repeats = 1;
  std::vector<double> seconds;
};

double run(Item& item) {
  const auto start = Clock::now();
  for (int i = 0; i < item.repeats; ++i) item.lane->run(std::span<const Tensor>(item.inputs));
  return since(start) / item.repeats;
}

Item prepare(const std::string& form, double asked, Graph graph, int threads) {
  Item item;
  item.form = form;
  item.asked = asked;
  const Program p = compile(std::move(graph), {.threads = threads});
  const EditionInfo info = p.describe();
  item.arena = static_cast<double>(info.arena_bytes), item.weights = static_cast<double>(info.weight_bytes);
  item.steps = info.steps.size();
  item.plain = static_cast<size_t>(std::ranges::count(info.steps, "plain", &StepInfo::kind));
  item.inputs = random_inputs(p, p.bound_shapes(), 1);
  item.lane = std::make_unique<Lane>(p);
  run(item);
  item.repeats = std::clamp(static_cast<int>(0.02 / run(item)), 1, 100);
  return item;
}

}  // namespace

int main(int argc, char** argv) {
  int rounds = 7, most_threads = std::min(2, usable_cores());
  int64_t batch = 1, side = 0;
  std::string only, only_form, folder;
  const bool people = isatty(STDERR_FILENO);
  for (int i = 1; i < argc; ++i) {
    if (!std::strcmp(argv[i], "--rounds") && i + 1 < argc) rounds = std::max(1, std::atoi(argv[++i]));
    else if (!std::strcmp(argv[i], "--threads") && i + 1 < argc) most_threads = std::max(1, std::atoi(argv[++i]));
    else if (!std::strcmp(argv[i], "--batch") && i + 1 < argc) batch = std::max(1, std::atoi(argv[++i]));
    else if (!std::strcmp(argv[i], "--side") && i + 1 < argc) side = std::max(32, std::atoi(argv[++i]) / 32 * 32);
    else if (!std::strcmp(argv[i], "--only") && i + 1 < argc) only = argv[++i];
    else if (!std::strcmp(argv[i], "--save") && i + 1 < argc) folder = argv[++i];
    else if (!std::strcmp(argv[i], "--form") && i + 1 < argc) only_form = argv[++i];
    else {
      fmt::print(stderr,
                 "usage: narrow [--rounds N] [--threads MOST] [--batch N] [--side PIXELS] [--only TEXT] [--form TEXT] [--save FOLDER]\n\n"
                 "--side makes pictures of other sizes than the networks' own (224, 256, 320)\n"
                 "--save writes the networks, as files, and times nothing\n");
      return 2;
    }
  }
  const auto own = [&](int64_t usual) { return side > 0 ? side : usual; };
  const std::vector<std::pair<std::string, std::function<Graph()>>> nets{
      {"residual, 50 layers", [&] { return networks::residual_50(batch, own(224)); }},
      {"mobile, depthwise", [&] { return networks::mobile(batch, own(224)); }},
      {"encoder, 12 layers, 128", [&] { return networks::encoder(batch); }},
      {"encoder-decoder, skips", [&] { return networks::skips(batch, own(256)); }},
      {fmt::format("nested, {}", own(320)), [&] { return networks::nested(batch, own(320)); }},
      {"recurrent, 2 layers", [&] { return networks::recurrent(batch); }},
      {"decoder step with state", [&] { return networks::decoder(batch); }}};
  const std::vector<Form> forms{{"f16", [](Graph g) { return networks::halved(std::move(g)); }, 0.95},
                                {"f16 between casts", [](Graph g) { return networks::halved(std::move(g), DType::f16, true); }, 0.95},
                                {"bf16", [](Graph g) { return networks::halved(std::move(g), DType::bf16); }, 0.95},
                                {"dynamically quantised", [](Graph g) { return networks::dynamically_quantised(std::move(g)); }, 1.5},
                                {"i8 weights", [](Graph g) { return networks::weights_quantised(std::move(g), 8); }, 0.95},
                                {"i4 weights", [](Graph g) { return networks::weights_quantised(std::move(g), 4); }, 0.95},
                                {"quantised", [](Graph g) { return networks::quantised(std::move(g)); }, 2.5}};
  if (!folder.empty()) {
    std::filesystem::create_directories(folder);
    const auto write = [&](const std::string& name, const std::string& form, const Graph& g) {
      std::string file = name.substr(0, name.find(',')) + " " + form + ".onnx";
      std::ranges::replace(file, ' ', '-');
      save(g, std::filesystem::path(folder) / file);
    };
    for (const auto& [name, make] : nets) {
      if (!only.empty() && name.find(only) == std::string::npos) continue;
      write(name, "f32", make());
      for (const Form& form : forms) write(name, form.name, form.make(make()));
    }
    return 0;
  }
  fmt::print("{} rounds, interleaved; speed: times that of the f32 twin; plain: steps by plain evaluation\n\n", rounds);
  fmt::print("{:<24} {:<22} {:>7} {:>10} {:>6} {:>6} {:>11} {:>11} {:>6} {:>6}\n{:-<119}\n", "", "form", "threads", "time", "speed",
             "asked", "weights", "arena", "steps", "plain", "");
  for (const auto& [name, make] : nets) {
    if (!only.empty() && name.find(only) == std::string::npos) continue;
    for (int threads = 1; threads <= most_threads; ++threads) {
      std::vector<Item> items;
      items.push_back(prepare("f32", 0, make(), threads));
      for (const Form& form : forms) {
        if (!only_form.empty() && form.name.find(only_form) == std::string::npos) continue;
        if (people) fmt::print(stderr, "\r{:<60}", fmt::format("{}, {}, compiling", name, form.name));
        const bool from_memory = form.name == "i4 weights" && name.find("decoder step") != std::string::npos;
        items.push_back(prepare(form.name, from_memory ? 3 : form.asked, form.make(make()), threads));
      }
      for (int round = 0; round < rounds; ++round) {
        if (people) fmt::print(stderr, "\r{:<60}", fmt::format("{}, round {} of {}", name, round + 1, rounds));
        for (Item& item : items) item.seconds.push_back(run(item));
      }
      if (people) fmt::print(stderr, "\r{:<60}\r", "");
      for (const Item& item : items) {
        std::vector<double> speeds;
        for (size_t i = 0; i < item.seconds.size(); ++i) speeds.push_back(items[0].seconds[i] / item.seconds[i]);
        fmt::print("{:<24} {:<22} {:>7} {:>7.2f} ms {:>6.2f} {:>6} {:>7.1f} MiB {:>7.1f} MiB {:>6} {:>6}\n", name, item.form, threads,
                   1e3 * median(item.seconds), median(speeds), item.asked > 0 ? fmt::format("{:.2f}", item.asked) : "",
                   item.weights / 1048576, item.arena / 1048576, item.steps, item.plain);
        std::fflush(stdout);
      }
    }
  }
  return 0;
}
