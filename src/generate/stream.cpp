#include <algorithm>

#include "lathe/generate.hpp"

namespace lathe {

std::string TextStream::add(std::string_view bytes) {
  if (stopped_) return {};
  held_ += bytes;
  // The first place at which one of them stands.
  size_t at = std::string::npos;
  for (const std::string& s : stops_) {
    if (!s.empty()) at = std::min(at, held_.find(s));
  }
  std::string out;
  if (at != std::string::npos) {
    stopped_ = true;
    out = held_.substr(0, at);
    held_.clear();
    return out;
  }
  // What may be the beginning of one stays.
  size_t keep = 0;
  for (const std::string& s : stops_) {
    for (size_t n = std::min(s.size(), held_.size() + 1); n-- > 1;) {
      if (n <= held_.size() && std::string_view(held_).substr(held_.size() - n) == std::string_view(s).substr(0, n)) {
        keep = std::max(keep, n);
        break;
      }
    }
  }
  out = held_.substr(0, held_.size() - keep);
  held_.erase(0, out.size());
  return out;
}

std::string TextStream::rest() {
  std::string out;
  std::swap(out, held_);
  return out;
}

}  // namespace lathe
