// Symbolic dims of parts, which become one where the parts are joined.
#pragma once

#include <map>
#include <optional>
#include <string>
#include <vector>

#include "lathe/graph.hpp"

namespace lathe::line {

class Symbols {
 public:
  // Gives the symbols of a part names of their own; `graph` is changed, bodies included.
  void adopt(Graph& graph, const std::string& part);
  // Of one type.
  void adopt(Dims& dims, const std::string& part);
  // Two ends of a connection are one size. False: they cannot be.
  bool unite(const Dim& a, const Dim& b);
  // As the part's file has it.
  std::string written(Type type) const;
  // What they are in the end: numbers, or names as short as they can be.
  void settle(Graph& graph);

 private:
  struct Class {
    size_t above;             // index of another class that this one is part of, or its own
    std::string full, plain;  // "part.batch", "batch"
    std::optional<int64_t> size;
  };
  size_t of(const std::string& full, const std::string& plain);
  size_t root(size_t c) const;
  Dim settled(const Dim& d);

  std::vector<Class> classes_;
  std::map<std::string, size_t> by_name_;
  std::map<size_t, std::string> names_;  // of roots, once settled
};

}  // namespace lathe::line
