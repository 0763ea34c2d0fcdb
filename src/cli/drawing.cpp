#include "drawing.hpp"

#include <fcntl.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cmath>
#include <filesystem>

#include "common.hpp"
#include "base/files.hpp"

namespace lathe::cli {

const std::vector<std::string> kColours{"#1f4e79", "#b5402c", "#4d7c3a", "#c08a1e", "#7b3f7d", "#4c5a67", "#2a8c82", "#99562b"};

std::string_view picture_kind(const std::string& target) { return target.ends_with(".png") ? "a PNG picture" : "an SVG drawing"; }

void check_picture_name(const std::string& target, const std::string& option) {
  if (!target.ends_with(".png") && !target.ends_with(".svg"))
    throw UsageError(fmt::format("{} {}: expected a name ending in .png or .svg", option, target));
}

std::string chart_label(std::string text) {
  for (char& c : text) {
    if (c == '"' || c == '\\' || c == '`') c = '\'';
    else if (static_cast<unsigned char>(c) < 32) c = ' ';
  }
  return text;
}

// "node 'stem/conv' (Conv)": the name.
static std::string name_in(const std::string& label) {
  const size_t begin = label.find('\''), end = label.rfind('\'');
  return label.starts_with("node '") && end > begin ? label.substr(begin + 1, end - begin - 1) : label;
}

std::map<std::string, double> read_sensitivity(const std::string& file) {
  const auto wrong = [&] {
    return UsageError(fmt::format(
        "--sensitivity {}: expected what 'lathe narrow --sensitivity noise --json' or 'lathe parity --budget --json' writes", file));
  };
  const Json j = Json::parse(read_file(file), nullptr, false);
  if (!j.is_object()) throw wrong();
  std::map<std::string, double> out;
  double sum = 0;
  try {
    if (j.contains("sensitivity") && j["sensitivity"].is_array()) {
      double lost = 0;
      for (const Json& s : j["sensitivity"]) lost += std::max(0.0, s.value("loss", 0.0));
      for (const Json& s : j["sensitivity"]) {
        // Accuracy where it was measured, else the power of the noise at the outputs.
        const Json& decibels = s.at("signal_to_noise");
        const double noise = decibels.is_number() ? std::pow(10, -decibels.get<double>() / 10) : 0;
        out[s.at("node").get<std::string>()] += lost > 0 && j.contains("accuracy") ? std::max(0.0, s.at("loss").get<double>()) : noise;
      }
    } else {
      const Json& budget = j.contains("budget") ? j["budget"] : j;
      for (const Json& s : budget.at("steps")) out[name_in(s.at("node").get<std::string>())] += s.at("share").get<double>();
    }
  } catch (const Json::exception&) {
    throw wrong();
  }
  for (const auto& [node, share] : out) sum += share;
  for (auto& [node, share] : out) share = sum > 0 ? share / sum : 0;
  return out;
}

std::string_view chart_terminal(const std::string& target) { return target.ends_with(".png") ? "pngcairo" : "svg"; }

void draw_with(const std::string& program, const std::string& package, const std::vector<std::string>& arguments, std::string script,
               const std::string& target) {
  namespace fs = std::filesystem;
  const fs::path work = target + fmt::format(".{}.part", ::getpid()), file = work.string() + ".script";
  const auto filled = [&](std::string text) {
    for (const auto& [mark, value] : {std::pair{std::string("{out}"), work.string()}, {std::string("{script}"), file.string()}}) {
      for (size_t at = text.find(mark); at != std::string::npos; at = text.find(mark, at + value.size()))
        text.replace(at, mark.size(), value);
    }
    return text;
  };
  try {
    write_file(file, filled(std::move(script)));
  } catch (const Error& e) {  // it would name the temporary file
    const std::string what = e.what();
    throw Error(e.category(), target + what.substr(std::min(what.size(), file.string().size())));
  }
  std::vector<std::string> words{program};
  for (const std::string& a : arguments) words.push_back(filled(a));
  std::vector<char*> argv;
  for (std::string& w : words) argv.push_back(w.data());
  argv.push_back(nullptr);
  // The script comes from a file of ours; no part of it goes through a shell.
  const pid_t child = ::fork();
  if (child == 0) {
    const int nothing = ::open("/dev/null", O_WRONLY);
    if (nothing >= 0) ::dup2(nothing, 1), ::dup2(nothing, 2);
    ::execvp(program.c_str(), argv.data());
    std::_Exit(127);
  }
  int status = 0;
  if (child > 0) ::waitpid(child, &status, 0);
  std::error_code ec;
  fs::remove(file, ec);
  const bool made = child > 0 && status == 0 && fs::exists(work) && fs::file_size(work) > 0;
  if (!made) {
    fs::remove(work, ec);
    throw Error(Category::resource, fmt::format("{}: {} did not draw it; is the package {} installed?", target, program, package));
  }
  fs::rename(work, target);
}

}  // namespace lathe::cli
