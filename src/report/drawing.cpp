#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <deque>
#include <map>
#include <set>

#include "base/fail.hpp"
#include "lathe/report.hpp"
#include "report/markup.hpp"

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
struct Family {
  const char *what, *colour;
  std::vector<std::string_view> kinds;
};
const std::vector<Family>& families() {
  static const std::vector<Family> kFamilies{
      {"products, convolutions", "#dce6f0", {"convolution", "product", "transposed convolution", "byte convolution", "byte product"}},
      {"tapes (elementwise)", "#e3eddc", {"tape"}},
      {"attention, recurrent", "#e8dff0", {"attention", "recurrent", "rotary"}},
      {"reductions, pools", "#f5ecd5", {"softmax", "normalisation", "reduction", "pool", "max pool", "average pool"}},
      {"plain, control flow", "#f4dcd6", {"plain", "control"}},
      {"copies and others", "#ededed", {}}};
  return kFamilies;
}
const Family& family_of(const std::string& kind) {
  for (const Family& f : families()) {
    if (std::ranges::find(f.kinds, kind) != f.kinds.end()) return f;
  }
  return families().back();
}

// From white to a red that black text can still be read on.
std::string shade(double share) {
  const double t = std::clamp(std::sqrt(share), 0.0, 1.0);
  const auto mix = [&](double from, double to) { return static_cast<int>(std::lround(from + t * (to - from))); };
  return fmt::format("#{:02x}{:02x}{:02x}", mix(250, 226), mix(250, 110), mix(250, 86));
}

// What becomes a box, with the values that go in and come out.
struct Box {
  std::string title, text, kind;
  std::set<std::string> reads, makes;
  double share = 0, sensitivity = 0;
  bool view = false, module = false;
  std::vector<int> nodes;  // of the edition
  bool kept = true;
  int column = 0;
};

class Drawing {
 public:
  Drawing(const EditionInfo& edition, const DrawingOptions& options)
      : e_(edition),
        o_(options),
        detail_(o_.detail.value_or(e_.nodes.size() <= 120   ? Detail::nodes
                                   : e_.steps.size() <= 250 ? Detail::steps
                                                            : Detail::modules)) {}

  std::string text() {
    make_boxes();
    if (!o_.focus.empty()) keep_near();
    wrap();
    dot_ =
        "digraph program {\n  graph [fontname=\"sans\", fontsize=16, labelloc=t, rankdir=TB, nodesep=0.25, ranksep=0.35, bgcolor=white, "
        "label=<" +
        head() +
        ">];\n  node [fontname=\"sans\", fontsize=11, shape=box, style=\"filled,rounded\", fillcolor=white, color=\"#555555\", "
        "margin=\"0.12,0.06\"];\n"
        "  edge [fontname=\"sans\", fontsize=9, color=\"#777777\", fontcolor=\"#555555\", arrowsize=0.7];\n";
    draw_inputs();
    for (size_t b = 0; b < boxes_.size(); ++b) {
      if (boxes_[b].kept) draw_box(b);
    }
    draw_edges();
    draw_columns();
    return dot_ + "}\n";
  }

 private:
  double time_of(int step) const {
    return o_.profile && step >= 0 && static_cast<size_t>(step) < o_.profile->steps.size()
               ? o_.profile->steps[static_cast<size_t>(step)].share
               : 0.0;
  }
  double sensitivity_of(const NodeInfo& n) const {
    double sum = 0;
    const auto add = [&](const std::string& name) {
      if (const auto it = o_.sensitivity->find(name); it != o_.sensitivity->end()) sum += it->second;
    };
    if (!o_.sensitivity) return 0;
    add(n.label);
    for (const std::string& m : n.merged) {
      if (m != n.label) add(m);
    }
    return sum;
  }

  // By step, or by module; views stand alone unless a module holds them.
  void make_boxes() {
    const std::vector<std::string> modules =
        detail_ == Detail::modules ? modules_of(e_.nodes, o_.depth) : std::vector<std::string>(e_.nodes.size());
    std::map<std::string, size_t> by_key;
    std::map<size_t, std::set<int>> steps_of;
    for (size_t n = 0; n < e_.nodes.size(); ++n) {
      const NodeInfo& node = e_.nodes[n];
      const bool module = !modules[n].empty();
      const std::string key = module ? "m" + modules[n] : fmt::format("s{}", node.step < 0 ? -static_cast<int>(n) - 1 : node.step);
      const auto [it, fresh] = by_key.try_emplace(key, boxes_.size());
      if (fresh) boxes_.emplace_back();
      Box& box = boxes_[it->second];
      box.nodes.push_back(static_cast<int>(n));
      box.reads.insert(node.inputs.begin(), node.inputs.end());
      box.makes.insert(node.outputs.begin(), node.outputs.end());
      box.sensitivity += sensitivity_of(node);
      if (node.step >= 0 && steps_of[it->second].insert(node.step).second) box.share += time_of(node.step);
      if (module) {
        box.title = modules[n];
        box.module = true;
      } else if (node.step >= 0) {
        const StepInfo& s = e_.steps[static_cast<size_t>(node.step)];
        box.title = fmt::format("{} {}", node.step + 1, s.kind);
        box.text = s.output + (s.layout == "channels-last" ? ", channels-last" : "");
        box.kind = s.kind;
      } else {
        box.title = node.op + " (view)";
        box.text = node.output;
        box.view = true;
      }
    }
    for (size_t b = 0; b < boxes_.size(); ++b) {
      if (boxes_[b].module) boxes_[b].text = fmt::format("{} nodes in {} steps", boxes_[b].nodes.size(), steps_of[b].size());
    }
  }

  void keep_near() {
    std::vector<int> distance(boxes_.size(), -1);
    std::deque<size_t> queue;
    for (size_t b = 0; b < boxes_.size(); ++b) {
      const bool hit = std::ranges::any_of(boxes_[b].nodes, [&](int n) {
        const NodeInfo& node = e_.nodes[static_cast<size_t>(n)];
        return node.label.find(o_.focus) != std::string::npos ||
               std::ranges::any_of(node.merged, [&](const std::string& m) { return m.find(o_.focus) != std::string::npos; });
      });
      if (hit) distance[b] = 0, queue.push_back(b);
    }
    if (queue.empty()) fail(Category::value, "no node's name contains '{}'; lathe inspect --steps lists them", o_.focus);
    while (!queue.empty()) {
      const size_t b = queue.front();
      queue.pop_front();
      if (distance[b] == o_.around) continue;
      for (size_t other = 0; other < boxes_.size(); ++other) {
        if (distance[other] >= 0) continue;
        const bool near = std::ranges::any_of(boxes_[b].makes, [&](const auto& v) { return boxes_[other].reads.contains(v); }) ||
                          std::ranges::any_of(boxes_[b].reads, [&](const auto& v) { return boxes_[other].makes.contains(v); });
        if (near) distance[other] = distance[b] + 1, queue.push_back(other);
      }
    }
    for (size_t b = 0; b < boxes_.size(); ++b) boxes_[b].kept = distance[b] >= 0;
  }

  // A long chain goes on in further columns, cut where few edges are: as many as make the whole a third wider than high.
  void wrap() {
    std::map<std::string, size_t> maker;
    for (size_t b = 0; b < boxes_.size(); ++b) {
      for (const auto& v : boxes_[b].makes) maker[v] = b;
    }
    std::vector<size_t> level(boxes_.size(), 0);
    std::vector<std::pair<size_t, size_t>> edges;
    size_t levels = 0;
    for (size_t b = 0; b < boxes_.size(); ++b) {
      if (!boxes_[b].kept) continue;
      for (const auto& v : boxes_[b].reads) {
        const auto it = maker.find(v);
        if (it == maker.end() || it->second >= b || !boxes_[it->second].kept) continue;
        edges.emplace_back(it->second, b);
        level[b] = std::max(level[b], level[it->second] + 1);
      }
      levels = std::max(levels, level[b] + 1);
    }
    // Points that a box takes, more or less.
    const auto height_of = [&](const Box& box) {
      return detail_ == Detail::nodes && !box.view ? 50 + 62.0 * static_cast<double>(box.nodes.size()) : 78.0;
    };
    std::vector<double> heights(levels, 0);
    std::vector<int> widths(levels, 0);
    for (size_t b = 0; b < boxes_.size(); ++b) {
      if (!boxes_[b].kept) continue;
      heights[level[b]] = std::max(heights[level[b]], height_of(boxes_[b]));
      ++widths[level[b]];
    }
    double height = 0;
    for (double h : heights) height += h;
    const double width = 240.0 * std::max(1, widths.empty() ? 1 : *std::ranges::max_element(widths));
    columns_ = std::min(24, static_cast<int>(std::lround(std::sqrt(1.33 * height / width))));
    if (levels < 10 || columns_ < 2) {
      columns_ = 1;
      return;
    }
    std::vector<int> crossing(levels + 1, 0);  // edges over the line above a level
    for (const auto& [from, to] : edges) {
      for (size_t l = level[from] + 1; l <= level[to]; ++l) ++crossing[l];
    }
    std::vector<int> column(levels, 0);
    size_t begin = 0;
    double left = height;  // of what is in no column yet
    for (int c = 0; c + 1 < columns_; ++c) {
      // From 0.8 to 1.2 times of what a column should hold, where the fewest edges are; of such places the nearest.
      const double wanted = left / (columns_ - c);
      double filled = 0, best_filled = 0;
      size_t best = levels;
      for (size_t l = begin + 1; l < levels; ++l) {
        filled += heights[l - 1];
        if (filled < 0.8 * wanted) continue;
        if (filled > 1.2 * wanted && best < levels) break;
        const bool nearer = std::fabs(filled - wanted) < std::fabs(best_filled - wanted);
        if (best == levels || crossing[l] < crossing[best] || (crossing[l] == crossing[best] && nearer)) best = l, best_filled = filled;
      }
      if (best >= levels) break;
      for (size_t l = best; l < levels; ++l) column[l] = c + 1;
      begin = best;
      left -= best_filled;
    }
    for (size_t b = 0; b < boxes_.size(); ++b) boxes_[b].column = boxes_[b].kept ? column[level[b]] : 0;
    columns_ = column.back() + 1;
  }

  // The title, and what colours mean.
  std::string head() const {
    std::string out = "<table border=\"0\" cellspacing=\"6\"><tr><td colspan=\"8\"><font point-size=\"16\">" + as_markup(o_.title) +
                      "</font></td></tr><tr>";
    const auto cell = [&](const std::string& colour, const std::string& what) {
      out += fmt::format("<td bgcolor=\"{}\" border=\"1\" color=\"#999999\"><font point-size=\"11\">{}</font></td>", colour, what);
    };
    if (o_.sensitivity) {
      cell(shade(0), "costs nothing");
      cell(shade(0.25), "a quarter of the loss");
      cell(shade(1), "all of it");
    } else {
      for (const Family& f : families()) {
        const bool used = std::ranges::any_of(boxes_, [&](const Box& b) { return b.kept && !b.kind.empty() && &family_of(b.kind) == &f; });
        if (used) cell(f.colour, f.what);
      }
      if (std::ranges::any_of(boxes_, [](const Box& b) { return b.kept && b.module; })) cell("#dce6f0", "a module");
    }
    if (o_.profile) out += "<td><font point-size=\"11\">border: the wider, the more time; red: more than a tenth</font></td>";
    return out + "</tr></table>";
  }

  std::string fill(const Box& box) const {
    if (o_.sensitivity) return shade(box.sensitivity);
    return box.module ? "#dce6f0" : box.view ? "white" : family_of(box.kind).colour;
  }
  std::string shares_text(const Box& box) const {
    std::string out = o_.profile ? fmt::format("  {:.1f} %", 100 * box.share) : std::string();
    if (o_.sensitivity && box.sensitivity > 0.0005) out += fmt::format("  {:.1f} % of the loss", 100 * box.sensitivity);
    return out;
  }
  std::string border(double share) const {
    return o_.profile
               ? fmt::format("penwidth={:.1f}, color=\"{}\"", 1 + 6 * std::min(1.0, std::sqrt(share)), share > 0.1 ? "#b5402c" : "#777777")
               : std::string("color=\"#999999\"");
  }
  static std::string node_id(int n) { return fmt::format("n{}", n); }
  bool inner(const Box& box) const { return detail_ == Detail::nodes && !box.view; }

  void draw_inputs() {
    for (const auto& name : e_.input_names) {
      const auto reader = std::ranges::find_if(boxes_, [&](const Box& b) { return b.kept && b.reads.contains(name); });
      if (reader == boxes_.end()) continue;
      const std::string id = fmt::format("in{}", source_.size());
      source_[name] = {id, reader->column};
      dot_ += fmt::format("  {} [label=\"{}\", shape=ellipse, fillcolor=\"#fff8e0\"];\n", id, escaped(name));
    }
  }

  void draw_box(size_t b) {
    const Box& box = boxes_[b];
    if (!inner(box)) {
      std::string label = escaped(shortened(box.title, 60));
      if (!box.view && !box.module) {
        std::string ops;
        for (size_t i = 0; i < box.nodes.size() && i < 6; ++i) ops += (i ? " + " : "") + e_.nodes[static_cast<size_t>(box.nodes[i])].op;
        if (box.nodes.size() > 6) ops += fmt::format(" + {} more", box.nodes.size() - 6);
        label += "\\n" + escaped(ops);
        const NodeInfo& head = e_.nodes[static_cast<size_t>(box.nodes[0])];
        if (head.label != head.op) label += "\\n" + escaped(shortened(head.label, 40));
      }
      label += "\\n" + escaped(box.text);
      if (!box.view) label += escaped(shares_text(box));
      dot_ += fmt::format("  b{} [label=\"{}\", fillcolor=\"{}\", {}{}];\n", b, label, fill(box), border(box.share),
                          box.view ? ", style=\"dashed,rounded\"" : "");
      for (const auto& v : box.makes) source_[v] = {fmt::format("b{}", b), box.column};
      return;
    }
    std::string frame = border(box.share);
    std::ranges::replace(frame, ',', ';');
    dot_ += fmt::format(
        "  subgraph cluster_{} {{\n    label=\"{}\"; labeljust=l; labelloc=t; fontsize=12; style=\"filled,rounded\"; fillcolor=\"{}\"; "
        "{};\n",
        b, escaped(box.title + (box.text.empty() ? "" : "  " + box.text) + shares_text(box)), fill(box), frame);
    for (int n : box.nodes) {
      const NodeInfo& node = e_.nodes[static_cast<size_t>(n)];
      std::string label = escaped(node.op);
      if (node.label != node.op) label += "\\n" + escaped(shortened(node.label, 34));
      for (size_t m = 0; m < node.merged.size() && m < 3; ++m) label += "\\n+ " + escaped(shortened(node.merged[m], 34));
      if (node.merged.size() > 3) label += fmt::format("\\n+ {} more", node.merged.size() - 3);
      dot_ += fmt::format("    {} [label=\"{}\"];\n", node_id(n), label);
      for (const auto& v : node.outputs) source_[v] = {node_id(n), box.column};
    }
    dot_ += "  }\n";
  }

  void edge(const std::string& value, const std::string& to, int column) {
    const auto from = source_.find(value);
    if (from == source_.end() || from->second.first == to) return;
    const std::string line = fmt::format("  {} -> {}", from->second.first, to);
    if (!drawn_.insert(line).second) return;
    std::string how;
    // Boxes of steps say themselves what they make; those of modules make several things.
    if (detail_ == Detail::modules) {
      const auto shape = std::ranges::find_if(e_.nodes, [&](const NodeInfo& n) { return !n.outputs.empty() && n.outputs[0] == value; });
      const size_t space = shape == e_.nodes.end() ? std::string::npos : shape->output.find(' ');
      if (space != std::string::npos) how = fmt::format("label=\" {}\"", escaped(shape->output.substr(space + 1)));
    }
    // Columns stand side by side, not one below the other.
    if (from->second.second != column) how += std::string(how.empty() ? "" : ", ") + "constraint=false, color=\"#b0b0b0\"";
    dot_ += line + (how.empty() ? "" : " [" + how + "]") + ";\n";
  }

  void draw_edges() {
    for (size_t b = 0; b < boxes_.size(); ++b) {
      const Box& box = boxes_[b];
      if (!box.kept) continue;
      if (!inner(box)) {
        for (const auto& v : box.reads) edge(v, fmt::format("b{}", b), box.column);
        continue;
      }
      for (int n : box.nodes) {
        for (const auto& v : e_.nodes[static_cast<size_t>(n)].inputs) edge(v, node_id(n), box.column);
      }
    }
    for (size_t i = 0; i < e_.output_names.size(); ++i) {
      const std::string& name = e_.output_names[i];
      const auto from = source_.find(name);
      if (from == source_.end()) continue;
      const int column = from->second.second;
      dot_ += fmt::format("  out{} [label=\"{}\", shape=ellipse, fillcolor=\"#fff8e0\"];\n", i, escaped(name));
      edge(name, fmt::format("out{}", i), column);
    }
  }

  // Unseen points in a row, one above each column, keep the columns in their order.
  void draw_columns() {
    if (columns_ < 2) return;
    std::string row = "  { rank=same; edge [style=invis];";
    for (int c = 0; c < columns_; ++c) row += fmt::format("{} column{} ", c > 0 ? " ->" : "", c);
    for (int c = 0; c < columns_; ++c) dot_ += fmt::format("  column{} [shape=point, style=invis, label=\"\"];\n", c);
    dot_ += row + "}\n";
    std::vector<bool> begun(static_cast<size_t>(columns_), false);
    for (size_t b = 0; b < boxes_.size(); ++b) {
      const Box& box = boxes_[b];
      if (!box.kept || begun[static_cast<size_t>(box.column)]) continue;
      begun[static_cast<size_t>(box.column)] = true;
      dot_ += fmt::format("  column{} -> {} [style=invis];\n", box.column, inner(box) ? node_id(box.nodes[0]) : fmt::format("b{}", b));
    }
  }

  const EditionInfo& e_;
  const DrawingOptions& o_;
  Detail detail_;
  std::vector<Box> boxes_;
  int columns_ = 1;
  std::string dot_;
  std::map<std::string, std::pair<std::string, int>> source_;  // what a value comes from, and its column
  std::set<std::string> drawn_;
};

}  // namespace

std::string drawing(const EditionInfo& edition, const DrawingOptions& options) { return Drawing(edition, options).text(); }

}  // namespace lathe
