// A model's nodes and values as a list.
#pragma once

#include <string>

#include "common.hpp"

namespace lathe::cli {

struct Listed {
  Json nodes = Json::array(), values = Json::array();
  std::string text;
};

struct Listing {
  bool nodes = false, values = false, weights = false;
  std::string name, op;

  void add_to(CLI::App& app);
  bool on() const { return nodes || values; }
  // Those that fit the filters; of a broken model what there is. `edition`: then each node has its step. Throws UsageError when nothing
  // fits, with near names.
  Listed list(const Graph& g, const EditionInfo* edition) const;
};

}  // namespace lathe::cli
