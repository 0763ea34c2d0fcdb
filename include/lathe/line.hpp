// Several models joined to one: outputs of one part are inputs of the next, and the whole is one Graph, compiled with one plan of memory.
#pragma once

#include <cstdint>
#include <filesystem>
#include <map>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "lathe/formats.hpp"
#include "lathe/graph.hpp"

namespace lathe {

// What an operand of an op is: where it comes from, or a constant; neither: left out.
struct LineOperand {
  std::string from;
  std::optional<Tensor> constant;
};

// A part is a model, an op between models, or a loop of parts. What it takes is named by where it comes from: "part.output" of a part
// before it ("part" alone: its first output), or the name of an input of the line. Within a loop also: names of what it carries, of its
// tables, and "round", the number of the round (i64, from 0).
struct LinePart {
  std::string name;  // without dots and slashes; what it makes is "name.output"

  // A model. Inputs that it does not take from anywhere are inputs of the line, those of states its states.
  std::optional<Graph> model{};
  std::map<std::string, std::string> takes{};  // by names of its inputs; of a loop: where what it carries begins
  std::string states{};                        // pairs of outputs and inputs, as pair_states of lathe/state.hpp reads them

  // An op of the standard at the newest version that a part imports (17 at least), or "insert": rows of the third operand take the
  // places in the first ([batch, new, width]) where the second ([batch, new], i64) is the attribute "mark", in their order. There is a
  // row for each mark; where there is no mark, there may be any number.
  std::string op{};
  std::vector<LineOperand> operands{};
  std::map<std::string, Attribute::Data> attributes{};
  int outputs = 1;  // "name.1" is the second

  // A loop of parts.
  std::vector<LinePart> parts{};
  int64_t rounds = 0;                           // at most
  std::string until{};                          // a bool of one element; true ends it after that round. Empty: all rounds
  std::map<std::string, std::string> carry{};   // by name: what it is in the next round; at the end an output of the loop
  std::map<std::string, Tensor> tables{};       // by name: the n-th entry along the first axis is the value of round n
  std::map<std::string, std::string> gather{};  // by name: values of each round, one behind another, an output of the loop
};

struct Line {
  std::string name;
  std::vector<LinePart> parts;
  std::map<std::string, Type> inputs{};                        // types of inputs that no model says
  std::vector<std::pair<std::string, std::string>> outputs{};  // name and what it is; empty: all that nobody takes
  std::map<std::string, std::string> metadata{};               // before what the parts say, of which the first holds
};

// Joins the parts. Of what generation needs the metadata tell: states under kStatesKey, what "insert" does under kInsertKey. Inputs and
// outputs keep their names where no other part's have the same, else they are "part.name"; so do symbolic dims, which are one where parts
// are joined. Throws Error: value (names, what comes from nowhere, a loop that cannot end), type and shape (both ends, with theirs), and
// what infer() finds in the whole.
Graph join(const Line& line);

// A job sheet with [[part]] (docs/lines.md): paths are relative to its folder; a part is an ONNX file, an archive that carries its graph,
// or another such sheet. Throws Error (format) with line and column, and what load() and join() throw.
Line read_line(const std::filesystem::path& sheet, const LoadOptions& options = {});
// Whether the file is such a sheet: its name ends in .toml, and it has a part.
bool is_line_sheet(const std::filesystem::path& file);

}  // namespace lathe
