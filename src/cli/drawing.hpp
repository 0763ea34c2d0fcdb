// Pictures drawn by other programs: gnuplot, Graphviz.
#pragma once

#include <map>
#include <string>
#include <vector>

namespace lathe::cli {

// Whether the name ends in .png or .svg; throws UsageError naming the option otherwise.
std::string_view picture_kind(const std::string& target);  // as kind_of_file names it
void check_picture_name(const std::string& target, const std::string& option);
// Runs `program` on a script file and puts what it draws at `target`: drawn beside it, then renamed. `{out}` in an argument or in the
// script is the file to draw into, `{script}` in an argument the script's file. Throws Error (resource) naming the package when nothing is
// drawn.
void draw_with(const std::string& program, const std::string& package, const std::vector<std::string>& arguments, std::string script,
               const std::string& target);
// A name between the double quotes of a gnuplot script, where a backquote would run what it holds: quotes, backslashes and control
// characters are replaced.
std::string chart_label(std::string text);
// Shares of the loss by node, out of the JSON of 'lathe narrow --sensitivity' or 'lathe parity --budget'. Throws UsageError naming the
// file.
std::map<std::string, double> read_sensitivity(const std::string& file);
// What draws into a file of that name.
std::string_view chart_terminal(const std::string& target);
// Colours of charts: steel, brick, moss, ochre, plum, slate and others, apart from one another also in print.
extern const std::vector<std::string> kColours;

}  // namespace lathe::cli
