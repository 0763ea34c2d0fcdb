// Builds two gated recurrent layers in code around weights that another program trained, ships the compiled form as one file, loads it
// again and continues a text, character by character. What the layers carry from one to the next stays in the lane.
//
// usage: build_recurrent [FOLDER]   with recurrent.npz and recurrent.txt, as demo/make/make_recurrent_notes.py writes them
#include <algorithm>
#include <cstdio>
#include <filesystem>
#include <fstream>
#include <map>
#include <string>

#include "lathe/lathe.hpp"

using namespace lathe;

namespace {

// "name text" lines, with \n for line breaks.
std::map<std::string, std::string> read_lines(const std::filesystem::path& path) {
  std::map<std::string, std::string> out;
  std::ifstream in(path);
  for (std::string line; std::getline(in, line);) {
    std::string text = line.substr(std::min(line.size(), line.find(' ') + 1));
    for (size_t at; (at = text.find("\\n")) != std::string::npos;) text.replace(at, 2, "\n");
    out[line.substr(0, line.find(' '))] = text;
  }
  return out;
}

Graph build(const std::map<std::string, Tensor>& weights) {
  Builder b("recurrent notes", 22);
  const auto weight = [&](const std::string& name) { return b.constant(name, weights.at(name)); };
  const int64_t width = weights.at("table").shape()[1];
  ValueId x = b.op("Gather", {weight("table"), b.input("characters", DType::i64, {"steps", "batch"})});
  for (int layer = 0; layer < 2; ++layer) {
    const std::string at = "layer" + std::to_string(layer) + ".";
    // The training program keeps a column for each output, gates in the order reset, update, new; the op wants a row for each, update
    // first.
    const auto rows = [&](const std::string& name) { return b.constant(at + name, in_gate_order(weights.at(at + name), 1, "run", "urn")); };
    const ValueId axis = b.constant(at + "axis", Tensor::from<int64_t>({1}, {0}));
    const auto turned = [&](const std::string& name) { return b.op("Unsqueeze", {b.op("Transpose", {rows(name)}), axis}); };
    const auto bias = [&](const std::string& name) { return b.constant(at + name, in_gate_order(weights.at(at + name), 0, "run", "urn")); };
    const ValueId both = b.op("Unsqueeze", {b.op("Concat", {bias("in_bias"), bias("again_bias")}, {{"axis", int64_t{0}}}), axis});
    const ValueId before = b.input("before." + std::to_string(layer), DType::f32, {1, "batch", width});
    const auto out = b.ops("GRU", {x, turned("in"), turned("again"), both, kAbsent, before}, 2,
                           {{"hidden_size", width}, {"linear_before_reset", int64_t{1}}});
    x = b.op("Squeeze", {out[0], b.constant(at + "directions", Tensor::from<int64_t>({1}, {1}))});
    b.output(out[1], "after." + std::to_string(layer));
  }
  b.output(b.op("Add", {b.op("MatMul", {x, weight("out")}), weight("shift")}), "scores");
  return b.finish();
}

}  // namespace

int main(int argc, char** argv) {
  const std::filesystem::path folder = argc > 1 ? argv[1] : "demo/notes";
  try {
    std::map<std::string, Tensor> weights;
    for (NamedTensor& t : read_npz(folder / "recurrent.npz")) weights[t.name] = t.tensor;
    const auto lines = read_lines(folder / "recurrent.txt");
    const std::string alphabet = lines.at("alphabet"), beginning = lines.at("beginning"), expected = lines.at("continued");

    Graph graph = build(weights);
    CompileOptions options{.threads = 1};
    options.states = pair_states(graph, "after.*=before.*");
    const Program program = compile(std::move(graph), options);
    program.describe({{1, 1}});  // one character at a time is compiled now
    const auto archive = std::filesystem::temp_directory_path() / "recurrent_notes.lathe";
    save_program(program, archive);

    Lane lane(load_program(archive));
    std::filesystem::remove(archive);
    const auto feed = [&](char c) {
      Tensor one(DType::i64, {1, 1});
      one.as<int64_t>()[0] = static_cast<int64_t>(alphabet.find(c));
      return lane.run({{"characters", one}});
    };
    std::string made;
    const auto likeliest = [&](const Outputs& out) {
      const auto scores = out["scores"].as<float>();
      return alphabet.at(static_cast<size_t>(std::max_element(scores.begin(), scores.end()) - scores.begin()));
    };
    for (size_t i = 0; i + 1 < beginning.size(); ++i) feed(beginning[i]);
    char next = beginning.back();
    while (made.size() < expected.size()) made += next = likeliest(feed(next));
    std::printf("%s|%s\n", beginning.c_str(), made.c_str());
    if (made != expected) {
      std::printf("the training program's float64 loop went on otherwise: %s\n", expected.c_str());
      return 1;
    }
  } catch (const std::exception& e) {
    std::fprintf(stderr, "build_recurrent: %s\n", e.what());
    return 3;
  }
  return 0;
}
