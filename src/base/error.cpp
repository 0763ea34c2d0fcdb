#include "lathe/error.hpp"

namespace lathe {

std::string_view to_string(Category category) {
  switch (category) {
    case Category::format: return "format";
    case Category::unsupported: return "unsupported";
    case Category::shape: return "shape";
    case Category::type: return "type";
    case Category::value: return "value";
    case Category::resource: return "resource";
    case Category::cancelled: return "cancelled";
    case Category::internal: return "internal";
  }
  return "internal";
}

namespace {

std::string join(const std::vector<Fault>& faults) {
  std::string text;
  for (const Fault& fault : faults) {
    if (!text.empty()) text += '\n';
    if (!fault.where.empty()) text += fault.where + ": ";
    text += fault.what;
  }
  return text;
}

}  // namespace

Error::Error(Category category, std::string what) : std::runtime_error(what), faults_{{category, "", std::move(what)}} {}

Error::Error(std::vector<Fault> faults) : std::runtime_error(join(faults)), faults_(std::move(faults)) {
  if (faults_.empty()) faults_.push_back({Category::internal, "", "error without a fault"});
}

}  // namespace lathe
