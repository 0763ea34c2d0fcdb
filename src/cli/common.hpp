// What the commands share: options about the model, tables, JSON, exit codes.
#pragma once

#include <CLI/CLI.hpp>
#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include <string>
#include <vector>

#include "lathe/lathe.hpp"

namespace lathe::cli {

using Json = nlohmann::ordered_json;

enum Exit { kGood = 0, kCheckFailed = 1, kUsage = 2, kModelFault = 3, kResource = 4 };

// A wrong option value that only shows once the model is known.
struct UsageError : std::runtime_error {
  using std::runtime_error::runtime_error;
};

// Options of every command that takes a model.
struct ModelOptions {
  std::string model;
  std::vector<std::string> dims, shapes, outputs, ops;
  int threads = 0;
  int64_t batch = 0;
  std::string isa;
  bool direct = false, allow_outside = false;
  std::string json;
  mutable std::optional<Program> archive;

  void add_to(CLI::App& app, bool model_required = true);
  LoadOptions load_options() const { return {allow_outside, false}; }
  // Loads the libraries of ops that were asked for.
  void load_libraries() const;
  // Loads the model, after the libraries of ops. `unchecked`: also a faulty one. Of a program archive: a graph of its inputs and outputs,
  // without nodes; options that only a model takes throw UsageError.
  Graph load_graph(bool unchecked = false) const;
  // Whether load_graph met an archive.
  bool archived() const { return archive.has_value(); }
  // The compiled model, or the archive's program.
  Program make_program(Graph graph, const CompileOptions& options) const { return archive ? *archive : compile(std::move(graph), options); }
  // Checks the names against the graph; open leading dims are bound to --batch (or 1). Throws UsageError.
  CompileOptions compile_options(const Graph& graph) const;
};

// "NAME=VALUE" at its last '='. Throws UsageError naming the option.
std::pair<std::string, std::string> split_pair(const std::string& text, const std::string& option);
int64_t parse_size(const std::string& text, const std::string& option);
// "1,3,64,64".
Shape parse_shape(const std::string& text, const std::string& option);
// A tensor of an .npy or .pb file.
Tensor read_value(const std::string& path, const std::string& option);

void add_ops_option(CLI::App& app, std::vector<std::string>& target);
void add_json_option(CLI::App& app, std::string& target);
// Writes to the file, or to standard output for "-".
void write_json(const std::string& target, const Json& json);
// Whether tables for people belong on standard output.
inline bool for_people(const std::string& json_target) { return json_target != "-"; }

// "1.5 MiB", "12.3 M", "0.97 ms".
std::string bytes_text(double bytes);
std::string count_text(double count);
std::string seconds_text(double seconds);

// Rows of cells, columns aligned; numbers to the right ('r'), text to the left ('l').
class Table {
 public:
  explicit Table(std::string alignment, std::vector<std::string> head = {});
  void row(std::vector<std::string> cells);
  std::string text(const std::string& indent = "  ") const;

 private:
  std::string alignment_;
  std::vector<std::vector<std::string>> rows_;
  bool head_;
};

// A line on standard error that is rewritten in place; silent when that is no terminal.
class Progress {
 public:
  void show(const std::string& text);
  ~Progress();

 private:
  bool shown_ = false;
};

Json archive_json(const ArchiveInfo& info);
std::string archive_text(const ArchiveInfo& info);
Json to_json(const Shape& shape);
Json to_json(const std::optional<Dims>& dims);
std::string dims_text(const std::optional<Dims>& dims);

// Registers a command; returns what to run when it is chosen.
using Command = std::function<int()>;
Command add_machine(CLI::App& app);
Command add_inspect(CLI::App& app);
Command add_run(CLI::App& app);
Command add_parity(CLI::App& app);
Command add_bench(CLI::App& app);
Command add_sweep(CLI::App& app);
Command add_vet(CLI::App& app);
Command add_turn(CLI::App& app);
Command add_explain(CLI::App& app);
Command add_profile(CLI::App& app);
Command add_ship(CLI::App& app);

}  // namespace lathe::cli
