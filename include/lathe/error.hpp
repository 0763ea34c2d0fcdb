// Errors of the library: one exception type that can carry several faults at once.
#pragma once

#include <stdexcept>
#include <string>
#include <string_view>
#include <vector>

namespace lathe {

enum class Category { format, unsupported, shape, type, value, resource, cancelled, internal };

std::string_view to_string(Category category);

// One thing that is wrong: where (a file, a node with its op, an option) and what, with the remedy.
struct Fault {
  Category category = Category::internal;
  std::string where;
  std::string what;
  bool fatal = true;  // false: worth knowing, but the model runs
};

// Thrown by every function of the library that can fail. what() holds all faults, one a line.
class Error : public std::runtime_error {
 public:
  Error(Category category, std::string what);
  explicit Error(std::vector<Fault> faults);

  Category category() const { return faults_.front().category; }
  const std::vector<Fault>& faults() const { return faults_; }

 private:
  std::vector<Fault> faults_;
};

}  // namespace lathe
