// Where a part of a line stands: the graph its nodes go to, and the names that it sees.
#pragma once

#include <functional>
#include <map>
#include <set>
#include <string>
#include <tuple>
#include <vector>

#include "lathe/graph.hpp"
#include "line/symbols.hpp"

namespace lathe::line {

class Scope {
 public:
  // `path`: in front of names of values and nodes, "" or "loop/".
  Scope(Graph& g, Scope* outer, std::string p) : graph(g), above(outer), path(std::move(p)) {}
  Scope(const Scope&) = delete;

  struct Result {
    std::string part, name;
    ValueId id;
  };

  // By a name of its own or "part.output", here or around; what is around becomes a value of this graph. kAbsent: there is none.
  ValueId find(const std::string& from);
  // Also those around.
  bool sees_part(const std::string& part) const { return has_part(part) || (above && above->sees_part(part)); }
  bool has_part(const std::string& part) const;
  std::vector<std::string> results_of(const std::string& part) const;
  void name(const std::string& n, ValueId id) { named_[n] = id; }
  void result(const std::string& part, const std::string& n, ValueId id) { results_.push_back({part, n, id}); }
  const std::vector<Result>& results() const { return results_; }
  void used(ValueId id) { used_.insert(id); }
  bool is_used(ValueId id) const { return used_.contains(id); }
  // An input of the whole line, which `make` adds to the outermost scope, seen from here.
  ValueId outer_input(const std::function<ValueId(Scope&)>& make);
  // What this body reads of the graph around it.
  std::vector<Capture> captures() const;

  ValueId constant(const std::string& n, Tensor tensor);
  std::vector<ValueId> nodes(const std::string& n, std::string op, std::vector<ValueId> inputs, const std::vector<std::string>& outputs,
                             std::map<std::string, Attribute::Data> attributes);

  Graph& graph;
  Scope* above;
  const std::string path;

 private:
  ValueId seen_from_here(ValueId outer);

  std::map<std::string, ValueId> named_;
  std::vector<Result> results_;
  std::map<ValueId, ValueId> outer_;  // values of the graph around, here
  std::set<ValueId> used_;
};

}  // namespace lathe::line
