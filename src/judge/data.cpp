// Labelled data: which file is of which class.
#include <algorithm>
#include <charconv>
#include <set>

#include "base/fail.hpp"
#include "base/files.hpp"
#include "base/text.hpp"
#include "base/tables.hpp"
#include "lathe/judge.hpp"
#include "lathe/pictures.hpp"

namespace lathe {
namespace {

namespace fs = std::filesystem;

std::vector<LabelledFile> of_folders(const fs::path& folder) {
  std::vector<LabelledFile> out;
  bool loose = false;
  for (const auto& entry : fs::directory_iterator(folder)) {
    loose = loose || (entry.is_regular_file() && is_picture(entry.path()));
    if (!entry.is_directory()) continue;
    for (const auto& file : fs::directory_iterator(entry.path())) {
      if (file.is_regular_file() && is_picture(file.path())) out.push_back({file.path(), entry.path().filename().string()});
    }
  }
  if (out.empty())
    fail(Category::value, "{}: expected a folder for each class with pictures (PNG, JPEG) in it{}", folder.string(),
         loose ? "; its pictures have no label: give a CSV of file and label" : "");
  std::ranges::sort(out, {}, &LabelledFile::file);
  return out;
}

std::vector<LabelledFile> of_table(const fs::path& table, const fs::path& beside) {
  const fs::path folder = beside.empty() ? table.parent_path() : beside;
  std::vector<LabelledFile> out;
  size_t line = 0;
  for (const auto& cells : table_rows(read_file(table))) {
    ++line;
    if (cells.size() == 1 && cells[0].empty()) continue;
    if (cells.size() < 2 || cells[0].empty()) fail(Category::format, "{}: line {}: expected FILE,LABEL", table.string(), line);
    if (out.empty() && line == 1 && !fs::exists(folder / cells[0]) && fs::path(cells[0]).extension().empty()) continue;  // its header
    out.push_back({folder / cells[0], cells[1]});
  }
  if (out.empty()) fail(Category::format, "{}: expected lines of FILE,LABEL", table.string());
  return out;
}

}  // namespace

std::vector<LabelledFile> read_labelled(const fs::path& data, const fs::path& beside) {
  if (!fs::exists(data)) fail(Category::value, "{}: no such file or folder", data.string());
  return fs::is_directory(data) ? of_folders(data) : of_table(data, beside);
}

std::vector<int64_t> classes_of(const std::vector<LabelledFile>& files, std::vector<std::string>& classes, int64_t outputs) {
  std::set<std::string> seen;
  for (const LabelledFile& f : files) seen.insert(f.label);
  const auto number = [&](const std::string& label) -> int64_t {
    int64_t n = -1;
    const auto [end, error] = std::from_chars(label.data(), label.data() + label.size(), n);
    return error == std::errc() && end == label.data() + label.size() && n >= 0 && n < outputs ? n : -1;
  };
  const bool numbers = std::ranges::all_of(seen, [&](const std::string& label) { return number(label) >= 0; });
  if (classes.empty() && numbers) {
    for (int64_t c = 0; c < outputs; ++c) classes.push_back(std::to_string(c));
  } else if (classes.empty()) {
    if (static_cast<int64_t>(seen.size()) != outputs)
      fail(Category::value, "the data have {} labels, the model {} classes, and nobody says which is which: give a file of labels",
           seen.size(), outputs);
    classes.assign(seen.begin(), seen.end());
  }
  if (static_cast<int64_t>(classes.size()) != outputs)
    fail(Category::value, "there are {} labels for the model's {} classes", classes.size(), outputs);
  std::vector<int64_t> out;
  for (const LabelledFile& f : files) {
    const auto it = std::ranges::find(classes, f.label);
    const int64_t c = it != classes.end() ? it - classes.begin() : numbers ? number(f.label) : -1;
    if (c < 0)
      fail(Category::value, "{}: '{}' is none of the model's {} classes{}", f.file.string(), f.label, outputs,
           did_you_mean(f.label, classes));
    out.push_back(c);
  }
  return out;
}

}  // namespace lathe
