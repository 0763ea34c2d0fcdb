// What C++20's library has and emscripten 3.1.6's, of an older year, has not, as far as the library of deployment needs it. Included before
// everything else in builds for the web, and empty where the library is newer.
#pragma once

#include <version>

#if defined(_LIBCPP_VERSION) && _LIBCPP_VERSION < 15000
#include <algorithm>
#include <charconv>
#include <compare>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <functional>
#include <iterator>
#include <string>
#include <type_traits>
#include <vector>

namespace std {

template <class T, class A>
constexpr strong_ordering operator<=>(const vector<T, A>& a, const vector<T, A>& b) {
  for (size_t i = 0; i < a.size() && i < b.size(); ++i) {
    if (const strong_ordering order = a[i] <=> b[i]; order != 0) return order;
  }
  return a.size() <=> b.size();
}
template <class C, class T, class A>
constexpr strong_ordering operator<=>(const basic_string<C, T, A>& a, const basic_string<C, T, A>& b) {
  return a.compare(b) <=> 0;
}

template <class To, class From>
requires(sizeof(To) == sizeof(From) && is_trivially_copyable_v<To> && is_trivially_copyable_v<From>) constexpr To
    bit_cast(const From& from) noexcept {
  return __builtin_bit_cast(To, from);
}

// The shortest text that reads back as the same number.
template <class T>
requires is_floating_point_v<T> to_chars_result to_chars(char* first, char* last, T value) {
  char text[64];
  for (int digits = 1; digits <= 17; ++digits) {
    snprintf(text, sizeof text, "%.*g", digits, static_cast<double>(value));
    const double back = strtod(text, nullptr);
    if (static_cast<T>(back) == value || value != value) break;
  }
  const size_t n = strlen(text);
  if (n > static_cast<size_t>(last - first)) return {last, errc::value_too_large};
  memcpy(first, text, n);
  return {first + n, errc()};
}
template <class T>
requires is_floating_point_v<T> from_chars_result from_chars(const char* first, const char* last, T& value) {
  const string text(first, last);
  char* end = nullptr;
  const double v = strtod(text.c_str(), &end);
  if (end == text.c_str() || *first == '+' || *first == ' ') return {first, errc::invalid_argument};
  value = static_cast<T>(v);
  return {first + (end - text.c_str()), errc()};
}

namespace ranges {

template <class R, class T, class P = identity>
constexpr auto find(R&& range, const T& value, P projection = {}) {
  auto i = std::begin(range);
  for (; i != std::end(range) && !(std::invoke(projection, *i) == value); ++i) {
  }
  return i;
}
template <class R, class F, class P = identity>
constexpr auto find_if(R&& range, F f, P projection = {}) {
  auto i = std::begin(range);
  for (; i != std::end(range) && !std::invoke(f, std::invoke(projection, *i)); ++i) {
  }
  return i;
}
template <class R, class F, class P = identity>
constexpr bool any_of(R&& range, F f, P projection = {}) {
  for (auto i = std::begin(range); i != std::end(range); ++i) {
    if (std::invoke(f, std::invoke(projection, *i))) return true;
  }
  return false;
}
template <class I, class F>
requires(!is_invocable_v<F, I>) constexpr bool any_of(I first, I last, F f) {
  return std::any_of(first, last, [&](auto&& v) { return static_cast<bool>(std::invoke(f, v)); });
}
template <class R, class F, class P = identity>
constexpr bool none_of(R&& range, F f, P projection = {}) {
  return !ranges::any_of(range, f, projection);
}
template <class R, class F, class P = identity>
constexpr bool all_of(R&& range, F f, P projection = {}) {
  for (auto i = std::begin(range); i != std::end(range); ++i) {
    if (!std::invoke(f, std::invoke(projection, *i))) return false;
  }
  return true;
}
template <class R, class T, class P = identity>
constexpr ptrdiff_t count(R&& range, const T& value, P projection = {}) {
  ptrdiff_t n = 0;
  for (auto i = std::begin(range); i != std::end(range); ++i) n += std::invoke(projection, *i) == value ? 1 : 0;
  return n;
}
template <class R, class F, class P = identity>
constexpr ptrdiff_t count_if(R&& range, F f, P projection = {}) {
  ptrdiff_t n = 0;
  for (auto i = std::begin(range); i != std::end(range); ++i) n += std::invoke(f, std::invoke(projection, *i)) ? 1 : 0;
  return n;
}
template <class A, class B, class F = std::equal_to<>>
constexpr bool equal(A&& a, B&& b, F f = {}) {
  return std::equal(std::begin(a), std::end(a), std::begin(b), std::end(b), f);
}
template <class R, class C = std::less<>, class P = identity>
constexpr void sort(R&& range, C before = {}, P projection = {}) {
  std::sort(std::begin(range), std::end(range),
            [&](const auto& a, const auto& b) { return std::invoke(before, std::invoke(projection, a), std::invoke(projection, b)); });
}
template <class R, class C = std::less<>, class P = identity>
constexpr void stable_sort(R&& range, C before = {}, P projection = {}) {
  std::stable_sort(std::begin(range), std::end(range), [&](const auto& a, const auto& b) {
    return std::invoke(before, std::invoke(projection, a), std::invoke(projection, b));
  });
}
template <class R, class O, class F>
constexpr void transform(R&& range, O out, F f) {
  std::transform(std::begin(range), std::end(range), out, f);
}
template <class R, class T, class U>
constexpr void replace(R&& range, const T& from, const U& to) {
  for (auto i = std::begin(range); i != std::end(range); ++i) {
    if (*i == from) *i = to;
  }
}
template <class R, class O>
constexpr void copy(R&& range, O out) {
  std::copy(std::begin(range), std::end(range), out);
}
template <class R, class O>
constexpr void move(R&& range, O out) {
  std::move(std::begin(range), std::end(range), out);
}
template <class R, class F>
constexpr void for_each(R&& range, F f) {
  for (auto i = std::begin(range); i != std::end(range); ++i) std::invoke(f, *i);
}
template <class R>
constexpr auto adjacent_find(R&& range) {
  return std::adjacent_find(std::begin(range), std::end(range));
}

}  // namespace ranges
}  // namespace std
#endif
