// Runs the command-line tool as a process.
#pragma once

#include <sys/wait.h>

#include <nlohmann/json.hpp>

#include "support.hpp"

namespace test {

using Json = nlohmann::json;

struct Result {
  int code;
  std::string out, err;
};

inline Result tool(const std::string& arguments) {
  Folder f;
  const std::string out = (f.path / "out").string(), err = (f.path / "err").string();
  const int status = std::system((std::string(LATHE_TOOL) + " " + arguments + " >" + out + " 2>" + err + " </dev/null").c_str());
  return {WIFEXITED(status) ? WEXITSTATUS(status) : -1, slurp(out), slurp(err)};
}

// What a command says to programs; it ends with this code.
inline Json json_of(const std::string& arguments, int code = 0) {
  const Result r = tool(arguments + " --json -");
  INFO(arguments, ": ", r.err);
  REQUIRE(r.code == code);
  REQUIRE(Json::accept(r.out));
  return Json::parse(r.out);
}

inline std::vector<std::string> lines_of(const std::string& text) {
  std::vector<std::string> lines;
  std::istringstream in(text);
  for (std::string line; std::getline(in, line);) lines.push_back(line);
  return lines;
}

inline const std::string kGrain = (kDemo / "grain/grain.onnx").string();

}  // namespace test
