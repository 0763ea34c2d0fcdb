// What the commands share: options about the model, tables, JSON, exit codes.
#pragma once

#include <chrono>
#include <CLI/CLI.hpp>
#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include <span>
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
  bool direct = false, round_each = false, allow_outside = false;
  double time_limit = 600;  // seconds of a run, and of compiling; 0: none
  int64_t trip_limit = EvalLimits().trips;
  std::string memory_limit;
  std::string states;     // as --states says; empty: none are kept
  int64_t positions = 0;  // that they have room for
  int64_t held = 0;       // positions that they hold when a run begins
  std::string recipes;    // a file of tuned ones, or LOGBOOK
  std::vector<std::string> pins;
  std::string json;
  mutable std::optional<Program> archive;

  void add_to(CLI::App& app, bool model_required = true);
  // Of commands that run the model: limits of time, memory and loop trips.
  void add_limits(CLI::App& app);
  // Of commands that keep states from run to run.
  void add_states(CLI::App& app);
  // Of commands that tell times or recipes of single steps.
  void add_pins(CLI::App& app);
  // Throws UsageError when something that was pinned is not followed.
  void check_pins(const CompileOptions& options, const EditionInfo& edition) const;
  RunOptions run_options() const;
  LoadOptions load_options() const { return {allow_outside, false}; }
  // Loads the libraries of ops that were asked for.
  void load_libraries() const;
  // Loads the model, after the libraries of ops. `unchecked`: also a faulty one. Of a program archive: a graph of its inputs and outputs,
  // without nodes; options that only a model takes throw UsageError.
  Graph load_graph(bool unchecked = false) const;
  // Whether load_graph met an archive.
  bool archived() const { return archive.has_value(); }
  // The compiled model, or the archive's program.
  // Of a model that keeps states, sizes that are given hold for its runs and are not bound, as others may follow; `bind`: they are.
  Program make_program(Graph graph, const CompileOptions& options, bool bind = false) const;
  // Checks the names against the graph; open leading dims are bound to --batch (or 1). Throws UsageError.
  CompileOptions compile_options(const Graph& graph) const;
  // The shapes to compile and run for, in the order of the program's inputs: what is bound, else what the options say; of an archive the
  // first edition that fits them. Throws UsageError when a dim is still open, with options that close it.
  std::vector<Shape> shapes_for(const Program& program, const CompileOptions& options) const;
  // The options as they were given, for another command (see facts_of).
  std::vector<std::string> words() const;
  // A file this command is about to write; see check_target.
  void check_target(const std::string& option, const std::string& path, std::initializer_list<std::string_view> kinds) const;
};

// An ONNX file, or a sheet that joins several to a line. Throws UsageError for a sheet of another kind.
Graph load_model(const std::string& path, const LoadOptions& options = {});
// Words broken into lines of at most `width` characters.
std::vector<std::string> wrapped(const std::string& text, size_t width);
// Before any work is done for it: refuses (UsageError) to write over a file that the command reads, by whatever name or link, and over
// one that holds something else than the kinds named (see kind_of_file). Standard output and what is no plain file may always be written.
void check_target(const std::string& option, const std::string& path, std::initializer_list<std::string_view> kinds,
                  std::span<const std::string> read);
inline constexpr std::string_view kModelFile = "a model";  // beside the names of kind_of_file

// Of a program with states, what one more position takes: open sizes are 1.
std::vector<Shape> one_position(const Program& program);
// A number that may not be negative; CLI11's own check prints a maximum of 309 digits.
const CLI::Validator& zero_or_more();
// "--shape x=1,3,224,224" and "--dim height=224 --dim width=224" for the first input with a dim left open, or "" when none has.
std::string how_to_close(const std::vector<Port>& inputs);

// What the library finds wrong with what an option says is wrong usage.
template <typename F>
auto as_usage(F&& f) {
  try {
    return f();
  } catch (const Error& e) {
    if (e.category() == Category::value || e.category() == Category::shape) throw UsageError(e.what());
    throw;
  }
}

// "NAME=VALUE" at its last '='. Throws UsageError naming the option.
std::pair<std::string, std::string> split_pair(const std::string& text, const std::string& option);
int64_t parse_size(const std::string& text, const std::string& option);
std::vector<std::string> split(const std::string& text, char by);
// "158.1,122.4,86.7"; nothing in the text, nothing in the list.
std::vector<float> number_list(const std::string& text, const std::string& option);
// "4096", "500M", "4G": bytes, in powers of 1024.
size_t parse_bytes(const std::string& text, const std::string& option);
// "1,3,64,64".
Shape parse_shape(const std::string& text, const std::string& option);
// A tensor of an .npy or .pb file.
Tensor read_value(const std::string& path, const std::string& option);

void add_ops_option(CLI::App& app, std::vector<std::string>& target);
void add_json_option(CLI::App& app, std::string& target);
// Writes to the file, or to standard output for "-".
void write_json(const std::string& target, const Json& json);
// While it lives, what write_json would print goes there instead: for a command that gathers what others find.
class JsonSink {
 public:
  explicit JsonSink(Json& into);
  ~JsonSink();
  JsonSink(const JsonSink&) = delete;

 private:
  Json* before_;
};
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

// A verdict that stands out: in colour on a terminal, unless NO_COLOR is set.
std::string verdict_text(const std::string& text, bool good);

// A line on standard error that is rewritten in place; silent when that is no terminal.
class Progress {
 public:
  void show(const std::string& text);
  ~Progress();

 private:
  bool shown_ = false;
};

// Tells of a run that takes more than two seconds, on a terminal: steps done, and an estimate.
class RunProgress {
 public:
  explicit RunProgress(std::string what) : what_(std::move(what)) {}
  // The options with this as their progress; it must outlive the runs.
  RunOptions on(RunOptions options);

 private:
  std::string what_;
  Progress progress_;
  std::chrono::steady_clock::time_point start_{}, shown_{};
};

// The recipes of a logbook for this machine (LOGBOOK: the one that commands keep things in), or of a file that 'tune -o' made, which
// must be of this machine. Throws UsageError, Error (format).
Recipes read_tuned(const std::string& from);
// "12 of 30 steps by tuned recipes"; empty when none were given. `of`: where from.
std::string tuned_text(const EditionInfo& edition, const std::string& from);
Json tuned_json(const EditionInfo& edition, const std::string& from);

// Steps by plain evaluation, for people and programs. `share`: of the time, when it was measured.
Json plain_json(const EditionInfo& edition, std::optional<double> share = {});
// A line or several; empty when there are none.
std::string plain_text(const EditionInfo& edition, std::optional<double> share = {});
// The share of a run's time that they take: as profiled, or from a run with the clock read at each step.
double plain_share(const Profile& profile);
std::optional<double> plain_share(const Program& program, const EditionInfo& edition, const std::vector<Tensor>& inputs,
                                  const RunOptions& run);

// What a program keeps from run to run; for people a few words.
Json states_json(const Program& program);
std::string states_text(const Program& program);
Json archive_json(const ArchiveInfo& info);
std::string archive_text(const ArchiveInfo& info);
Json to_json(const Shape& shape);
Json to_json(const std::optional<Dims>& dims);
std::string dims_text(const std::optional<Dims>& dims);

// Registers a command; returns what to run when it is chosen.
using Command = std::function<int()>;
// What a command writes as JSON when it is called with these words.
Json facts_of(Command (*make)(CLI::App&), std::vector<std::string> words);
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
Command add_judge(CLI::App& app);
Command add_narrow(CLI::App& app);
Command add_compare(CLI::App& app);
Command add_watch(CLI::App& app);
Command add_generate(CLI::App& app);
Command add_logbook(CLI::App& app);
Command add_tune(CLI::App& app);
Command add_report(CLI::App& app);
Command add_bundle(CLI::App& app);

}  // namespace lathe::cli
