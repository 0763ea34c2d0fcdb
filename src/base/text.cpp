#include "base/text.hpp"

#include <algorithm>
#include <cctype>
#include <vector>

namespace lathe {
namespace {

// Edits between two names, neighbours that changed places counted once (optimal string alignment).
size_t distance(std::string_view a, std::string_view b) {
  std::vector<std::vector<size_t>> d(a.size() + 1, std::vector<size_t>(b.size() + 1));
  const auto same = [&](size_t i, size_t j) {
    return std::tolower(static_cast<unsigned char>(a[i])) == std::tolower(static_cast<unsigned char>(b[j]));
  };
  for (size_t i = 0; i <= a.size(); ++i) d[i][0] = i;
  for (size_t j = 0; j <= b.size(); ++j) d[0][j] = j;
  for (size_t i = 1; i <= a.size(); ++i) {
    for (size_t j = 1; j <= b.size(); ++j) {
      d[i][j] = std::min({d[i - 1][j] + 1, d[i][j - 1] + 1, d[i - 1][j - 1] + (same(i - 1, j - 1) ? 0 : 1)});
      if (i > 1 && j > 1 && same(i - 1, j - 2) && same(i - 2, j - 1)) d[i][j] = std::min(d[i][j], d[i - 2][j - 2] + 1);
    }
  }
  return d[a.size()][b.size()];
}

}  // namespace

std::string nearest(std::string_view name, std::span<const std::string> candidates) {
  constexpr size_t kLongest = 256;  // more is no typing error
  std::string best;
  size_t least = std::max<size_t>(1, name.size() / 3) + 1;
  if (name.empty() || name.size() > kLongest) return best;
  for (const std::string& c : candidates) {
    if (c.empty() || c.size() > kLongest || c.size() + least < name.size() || name.size() + least < c.size()) continue;
    if (const size_t d = distance(name, c); d < least) {
      least = d;
      best = c;
    }
  }
  return best;
}

std::string did_you_mean(std::string_view name, std::span<const std::string> candidates) {
  const std::string best = nearest(name, candidates);
  return best.empty() ? "" : "; did you mean '" + best + "'?";
}

std::string_view kind_of_file(std::string_view head) {
  struct Magic {
    std::string_view bytes, name;
  };
  using namespace std::string_view_literals;
  static constexpr Magic kMagics[]{
      {"\x89PNG\r\n\x1a\n"sv, "a PNG picture"},
      {"\xFF\xD8\xFF"sv, "a JPEG picture"},
      {"LATHEPRG"sv, "a program archive"},
      {"\x93NUMPY"sv, "an npy array"},
      {"PK\x03\x04"sv, "an npz or zip archive"},
      {"PK\x05\x06"sv, "an npz or zip archive"},
      {"\x1F\x8B"sv, "a gzip archive"},
      {"%PDF"sv, "a PDF document"},
      {"\x7F"
       "ELF"sv,
       "a program or shared library"},
      {"SQLite format 3\0"sv, "an SQLite database"},
      {"GIF8"sv, "a GIF picture"},
      {"YUV4MPEG2 "sv, "a YUV4MPEG2 video"},
      {"<!doctype html"sv, "an HTML page"},
      {"BM"sv, "a BMP picture"},
      {"\x89HDF"sv, "an HDF5 file"},
      {"version https://git-lfs"sv, "a pointer that Git LFS left in place of the file; fetch the file itself"}};
  if (head.empty()) return "empty";
  for (const Magic& m : kMagics) {
    if (head.starts_with(m.bytes)) return m.name;
  }
  const std::string_view some = head.substr(0, 4096);
  const bool text = std::ranges::all_of(some, [](char c) {
    const auto u = static_cast<unsigned char>(c);
    return u >= 32 || c == '\n' || c == '\r' || c == '\t' || c == '\f';
  });
  if (!text) return "";
  const size_t first = some.find_first_not_of(" \t\r\n");
  const std::string_view begin = first == std::string_view::npos ? "" : some.substr(first);
  if (begin.starts_with("<svg") || begin.find("<svg") < 512) return "an SVG drawing";
  if (begin.starts_with("<!DOCTYPE html") || begin.starts_with("<html")) return "an HTML page";
  if (begin.starts_with("{") || begin.starts_with("[")) return "JSON";
  return "text";
}

}  // namespace lathe
