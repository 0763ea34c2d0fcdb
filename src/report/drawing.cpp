#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <deque>
#include <map>
#include <set>

#include "base/fail.hpp"
#include "lathe/report.hpp"

namespace lathe {
namespace {

std::string escaped(const std::string& text) {
  std::string out;
  for (char c : text) {
    if (c == '"' || c == '\\') out += '\\';
    if (c == '\n') out += "\\n";
    else out += c;
  }
  return out;
}

// Long names lose their middle.
std::string shortened(const std::string& text, size_t most) {
  if (text.size() <= most) return text;
  return text.substr(0, most / 2 - 1) + ".." + text.substr(text.size() - (most / 2 - 1));
}

// Families of steps apart by colour, and by their words for those who do not see it.
const char* colour(const std::string& kind) {
  if (kind == "convolution" || kind == "product" || kind == "transposed convolution") return "#dce6f0";
  if (kind == "tape") return "#e3eddc";
  if (kind == "attention" || kind == "recurrent") return "#e8dff0";
  if (kind == "softmax" || kind == "normalisation" || kind == "reduction" || kind == "pool") return "#f5ecd5";
  if (kind == "plain" || kind == "control") return "#f4dcd6";
  return "#ededed";  // copies, layouts
}

std::string module_of(const NodeInfo& node, int depth) {
  const std::string name = node.label.starts_with('/') ? node.label.substr(1) : node.label;
  size_t at = 0;
  for (int d = 0; d < depth; ++d) {
    const size_t next = name.find('/', at);
    if (next == std::string::npos) break;
    at = next + 1;
  }
  return at == 0 ? "" : name.substr(0, at - 1);
}

// What becomes a box, with the values that go in and come out.
struct Box {
  std::string title, text, fill = "#ededed";
  std::set<std::string> reads, makes;
  double share = 0;
  bool view = false;
  std::vector<int> nodes;  // of the edition
  bool kept = true;
};

}  // namespace

std::string drawing(const EditionInfo& e, const DrawingOptions& o) {
  const Detail detail = o.detail.value_or(e.nodes.size() <= 120 ? Detail::nodes : e.steps.size() <= 250 ? Detail::steps : Detail::modules);
  const auto share_of = [&](int step) {
    return o.profile && step >= 0 && static_cast<size_t>(step) < o.profile->steps.size() ? o.profile->steps[step].share : 0.0;
  };
  // Boxes: by step, or by module; views stand alone unless a module holds them.
  std::vector<Box> boxes;
  std::map<std::string, int> by_key;
  const auto box_for = [&](const std::string& key) -> Box& {
    const auto [it, fresh] = by_key.try_emplace(key, static_cast<int>(boxes.size()));
    if (fresh) boxes.emplace_back();
    return boxes[it->second];
  };
  std::map<std::string, std::set<int>> steps_of;
  for (size_t n = 0; n < e.nodes.size(); ++n) {
    const NodeInfo& node = e.nodes[n];
    std::string key;
    if (detail == Detail::modules) {
      key = "m" + module_of(node, o.depth);
      if (key == "m") key = fmt::format("s{}", node.step < 0 ? -static_cast<int>(n) - 1 : node.step);
    } else {
      key = fmt::format("s{}", node.step < 0 ? -static_cast<int>(n) - 1 : node.step);
    }
    Box& box = box_for(key);
    box.nodes.push_back(static_cast<int>(n));
    box.reads.insert(node.inputs.begin(), node.inputs.end());
    box.makes.insert(node.outputs.begin(), node.outputs.end());
    if (node.step >= 0 && steps_of[key].insert(node.step).second) box.share += share_of(node.step);
    if (key[0] == 'm') {
      box.title = key.substr(1);
    } else if (node.step >= 0) {
      const StepInfo& s = e.steps[node.step];
      box.title = fmt::format("{} {}", node.step + 1, s.kind);
      box.text = s.output + (s.layout == "channels-last" ? ", channels-last" : "");
      box.fill = colour(s.kind);
    } else {
      box.title = node.op + " (view)";
      box.text = node.output;
      box.view = true;
    }
  }
  for (auto& [key, index] : by_key) {
    Box& box = boxes[index];
    if (key[0] != 'm') continue;
    box.text = fmt::format("{} nodes in {} steps", box.nodes.size(), steps_of[key].size());
    box.fill = "#dce6f0";
  }
  // Edges: value by value, from the box that makes it to those that read it.
  std::map<std::string, int> maker;
  for (size_t b = 0; b < boxes.size(); ++b) {
    for (const auto& v : boxes[b].makes) maker[v] = static_cast<int>(b);
  }
  if (!o.focus.empty()) {
    std::vector<int> distance(boxes.size(), -1);
    std::deque<int> queue;
    for (size_t b = 0; b < boxes.size(); ++b) {
      const bool hit = std::ranges::any_of(boxes[b].nodes, [&](int n) {
        return e.nodes[n].label.find(o.focus) != std::string::npos ||
               std::ranges::any_of(e.nodes[n].merged, [&](const std::string& m) { return m.find(o.focus) != std::string::npos; });
      });
      if (hit) distance[b] = 0, queue.push_back(static_cast<int>(b));
    }
    if (queue.empty()) fail(Category::value, "no node's name contains '{}'; lathe inspect --steps lists them", o.focus);
    while (!queue.empty()) {
      const int b = queue.front();
      queue.pop_front();
      if (distance[b] == o.around) continue;
      for (size_t other = 0; other < boxes.size(); ++other) {
        if (distance[other] >= 0) continue;
        const bool near = std::ranges::any_of(boxes[b].makes, [&](const auto& v) { return boxes[other].reads.contains(v); }) ||
                          std::ranges::any_of(boxes[b].reads, [&](const auto& v) { return boxes[other].makes.contains(v); });
        if (near) distance[other] = distance[b] + 1, queue.push_back(static_cast<int>(other));
      }
    }
    for (size_t b = 0; b < boxes.size(); ++b) boxes[b].kept = distance[b] >= 0;
  }

  std::string dot =
      "digraph program {\n  graph [fontname=\"sans\", fontsize=16, labelloc=t, rankdir=TB, nodesep=0.25, ranksep=0.35, bgcolor=white";
  if (!o.title.empty()) dot += fmt::format(", label=\"{}\\n \"", escaped(o.title));
  dot +=
      "];\n  node [fontname=\"sans\", fontsize=11, shape=box, style=\"filled,rounded\", fillcolor=white, color=\"#555555\", "
      "margin=\"0.12,0.06\"];\n"
      "  edge [fontname=\"sans\", fontsize=9, color=\"#777777\", fontcolor=\"#555555\", arrowsize=0.7];\n";
  const auto share_text = [&](double share) { return o.profile ? fmt::format("  {:.1f} %", 100 * share) : std::string(); };
  const auto border = [&](double share) {
    // The darker and wider, the more time.
    return o.profile
               ? fmt::format("penwidth={:.1f}, color=\"{}\"", 1 + 6 * std::min(1.0, std::sqrt(share)), share > 0.1 ? "#b5402c" : "#777777")
               : std::string("color=\"#999999\"");
  };
  const auto node_id = [&](int n) { return fmt::format("n{}", n); };
  // The node of a box that makes or reads a value; the box itself where nodes are not drawn.
  const bool inner = detail == Detail::nodes;
  std::map<std::string, std::string> source;
  for (const auto& name : e.input_names) {
    bool read = false;
    for (const Box& b : boxes) read = read || (b.kept && b.reads.contains(name));
    if (!read) continue;
    const std::string id = fmt::format("in{}", source.size());
    source[name] = id;
    dot += fmt::format("  {} [label=\"{}\", shape=ellipse, fillcolor=\"#fff8e0\"];\n", id, escaped(name));
  }
  for (size_t b = 0; b < boxes.size(); ++b) {
    const Box& box = boxes[b];
    if (!box.kept) continue;
    if (!inner || box.view) {
      std::string label = escaped(box.title);
      if (detail == Detail::steps && !box.view) {
        std::string ops;
        for (size_t i = 0; i < box.nodes.size() && i < 6; ++i) ops += (i ? " + " : "") + e.nodes[box.nodes[i]].op;
        if (box.nodes.size() > 6) ops += fmt::format(" + {} more", box.nodes.size() - 6);
        label += "\\n" + escaped(ops);
      }
      label += "\\n" + escaped(box.text);
      if (!box.view) label += escaped(share_text(box.share));
      dot += fmt::format("  b{} [label=\"{}\", fillcolor=\"{}\", {}{}];\n", b, label, box.fill, border(box.share),
                         box.view ? ", style=\"dashed,rounded\"" : "");
      for (const auto& v : box.makes) source[v] = fmt::format("b{}", b);
      continue;
    }
    dot += fmt::format(
        "  subgraph cluster_{} {{\n    label=\"{}\"; labeljust=l; labelloc=t; fontsize=12; style=\"filled,rounded\"; fillcolor=\"{}\"; "
        "{};\n",
        b, escaped(box.title + share_text(box.share)), box.fill, [&] {
          std::string s = border(box.share);
          std::replace(s.begin(), s.end(), ',', ';');
          return s;
        }());
    for (int n : box.nodes) {
      const NodeInfo& node = e.nodes[n];
      std::string label = escaped(node.op);
      if (node.label != node.op) label += "\\n" + escaped(shortened(node.label, 34));
      for (size_t m = 0; m < node.merged.size() && m < 3; ++m) label += "\\n+ " + escaped(shortened(node.merged[m], 34));
      if (node.merged.size() > 3) label += fmt::format("\\n+ {} more", node.merged.size() - 3);
      dot += fmt::format("    {} [label=\"{}\"];\n", node_id(n), label);
      for (const auto& v : node.outputs) source[v] = node_id(n);
    }
    dot += "  }\n";
  }
  std::map<std::string, std::string> shape_of;
  for (const NodeInfo& n : e.nodes) {
    if (!n.outputs.empty()) shape_of[n.outputs[0]] = n.output;
  }
  std::set<std::string> drawn;
  const auto edge = [&](const std::string& value, const std::string& to) {
    const auto from = source.find(value);
    if (from == source.end() || from->second == to) return;
    const std::string line = fmt::format("  {} -> {}", from->second, to);
    if (!drawn.insert(line).second) return;
    const auto shape = shape_of.find(value);
    // "f32 1 x 64 x 56 x 56": the sizes alone.
    const size_t space = shape == shape_of.end() ? std::string::npos : shape->second.find(' ');
    dot += line + (space != std::string::npos ? fmt::format(" [label=\" {}\"]", escaped(shape->second.substr(space + 1))) : "") + ";\n";
  };
  for (size_t b = 0; b < boxes.size(); ++b) {
    if (!boxes[b].kept) continue;
    if (!inner || boxes[b].view) {
      for (const auto& v : boxes[b].reads) edge(v, fmt::format("b{}", b));
      continue;
    }
    for (int n : boxes[b].nodes) {
      for (const auto& v : e.nodes[n].inputs) edge(v, node_id(n));
    }
  }
  for (size_t i = 0; i < e.output_names.size(); ++i) {
    const std::string& name = e.output_names[i];
    if (!source.contains(name)) continue;
    dot += fmt::format("  out{} [label=\"{}\", shape=ellipse, fillcolor=\"#fff8e0\"];\n", i, escaped(name));
    edge(name, fmt::format("out{}", i));
  }
  return dot + "}\n";
}

}  // namespace lathe
