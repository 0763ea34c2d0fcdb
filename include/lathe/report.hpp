// Compiled programs as drawings and timelines: text for other programs to draw.
#pragma once

#include <map>
#include <span>
#include <string>
#include <vector>

#include "lathe/profile.hpp"
#include "lathe/program.hpp"

namespace lathe {

// How much a drawing shows.
enum class Detail {
  nodes,    // every node, in the box of its step
  steps,    // a box a step
  modules,  // a box for all nodes of one module (see modules_of)
};

struct DrawingOptions {
  std::optional<Detail> detail{};  // nothing: nodes up to 120 of them, steps up to 250 of those, else modules
  int depth = 0;                   // of modules: as modules_of takes it
  std::string focus{};             // only what lies near the nodes whose name contains this; empty: everything
  int around = 3;                  // how many boxes away still is near
  std::string title{};
  const Profile* profile = nullptr;  // shares of time are written, and borders drawn by them
  // Shares by the names of nodes, of what narrowing them costs: written, and boxes are shaded by them instead of coloured by kind.
  const std::map<std::string, double>* sensitivity = nullptr;
};

// The module of each node, "" for one of none: as paths in names tell it ("encoder/layer_0"), `depth` parts deep; 0: at the depth that
// tells most of them apart (up to 80 of two nodes or more). Where names tell of none, sections between places that a single value passes,
// named after their ops.
std::vector<std::string> modules_of(std::span<const NodeInfo> nodes, int depth = 0);

// The edition as a directed graph in the DOT language; what would be a ribbon stands in several columns. Throws Error (value) when no
// node's name contains the focus.
std::string drawing(const EditionInfo& edition, const DrawingOptions& options = {});

// Steps and workers over time as JSON in the Trace Event format, which browsers' tracing pages open.
std::string timeline_json(const Profile& profile, const std::string& name);

// One HTML page that needs nothing beside it: what the scripts inside draw from the facts, an object of what the tool's commands write as
// JSON: "model", "made" (text), "inspect", "bench", "profile", "parity", "walk", "variants", "history", "layout" (see `lathe report`); what
// is not there is left out of the page. Nothing in the facts can end up as markup.
std::string report_page(const std::string& title, const std::string& facts_json);

}  // namespace lathe
