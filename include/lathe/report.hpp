// Compiled programs as drawings and timelines: text for other programs to draw.
#pragma once

#include <string>
#include <vector>

#include "lathe/profile.hpp"
#include "lathe/program.hpp"

namespace lathe {

// How much a drawing shows.
enum class Detail {
  nodes,    // every node, in the box of its step
  steps,    // a box a step
  modules,  // a box for all steps of one module: the first `depth` parts of node names ("encoder/layer_0")
};

struct DrawingOptions {
  std::optional<Detail> detail{};  // nothing: nodes up to 120 of them, steps up to 250 of those, else modules
  int depth = 2;                   // of modules
  std::string focus{};             // only what lies near the nodes whose name contains this; empty: everything
  int around = 3;                  // how many boxes away still is near
  std::string title{};
  const Profile* profile = nullptr;  // shares of time are written and shaded
};

// The edition as a directed graph in the DOT language. Throws Error (value) when no node's name contains the focus.
std::string drawing(const EditionInfo& edition, const DrawingOptions& options = {});

// Steps and workers over time as JSON in the Trace Event format, which browsers' tracing pages open.
std::string timeline_json(const Profile& profile, const std::string& name);

// One HTML page that needs nothing beside it: what the scripts inside draw from the facts, an object of what the tool's commands write as
// JSON: "model", "made" (text), "inspect", "bench", "profile", "parity", "walk", "variants", "history", "layout" (see `lathe report`); what
// is not there is left out of the page. Nothing in the facts can end up as markup.
std::string report_page(const std::string& title, const std::string& facts_json);

}  // namespace lathe
