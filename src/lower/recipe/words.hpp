// Words of a text that was made by a program of ours, with what is wrong about one that does not fit.
#pragma once

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <cstdint>
#include <string_view>

#include "base/fail.hpp"

namespace lathe::lower {

class Words {
 public:
  Words(std::string_view text, std::string_view what) : text_(text), what_(what) { skip(); }
  bool at_end() const { return at_ == text_.size(); }
  // What has not been read yet.
  std::string_view rest() const { return text_.substr(at_); }
  std::string_view next() {
    if (at_end()) refuse("its end", "more");
    const size_t end = std::min(text_.find_first_of(" \n", at_), text_.size());
    const std::string_view word = text_.substr(at_, end - at_);
    at_ = end;
    skip();
    return word;
  }
  void expect(std::string_view word) {
    if (const std::string_view got = next(); got != word) refuse(got, word);
  }
  bool one_of(std::string_view yes, std::string_view no) {
    const std::string_view got = next();
    if (got != yes && got != no) refuse(got, yes);
    return got == yes;
  }
  // Written as a whole number of ten-thousandths: not every standard library reads others.
  double real() { return static_cast<double>(number("a whole number")) / 1e4; }
  int64_t whole(int64_t least, int64_t most) {
    const std::string_view at = rest();
    const int64_t v = number("a whole number");
    if (v < least || v > most) refuse(at.substr(0, at.find_first_of(" \n")), fmt::format("{} to {}", least, most));
    return v;
  }
  [[noreturn]] void refuse(std::string_view got, std::string_view expected) const {
    fail(Category::format, "{} has '{}' where {} was expected", what_, got, expected);
  }

 private:
  int64_t number(std::string_view expected) {
    const std::string_view word = next();
    int64_t v = 0;
    const auto [end, error] = std::from_chars(word.data(), word.data() + word.size(), v);
    if (error != std::errc() || end != word.data() + word.size()) refuse(word, expected);
    return v;
  }
  void skip() {
    while (at_ < text_.size() && (text_[at_] == ' ' || text_[at_] == '\n')) ++at_;
  }
  std::string_view text_, what_;
  size_t at_ = 0;
};

}  // namespace lathe::lower
