// What the parts of `lathe parity` share.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "feed.hpp"

namespace lathe::cli {

struct ParityOptions {
  ModelOptions model;
  std::vector<std::string> more;
  std::string suite, filter, exceptions, inputs, outputs, cases, values, against, tolerance_file, markdown, chart, keep;
  bool against_plain = false, all_isas = false, verbose = false, walk = false, why = false, budget = false, to_double = false;
  FeedFlags feed;
  uint64_t seed = 1;
  bool seed_given = false;
  std::optional<double> absolute, relative;
  std::optional<int64_t> ulp;
  double hunt_seconds = 30;
  int top = 24;

  // Nothing when nothing was asked for.
  std::optional<Tolerance> tolerance() const {
    if (!absolute && !relative && !ulp) return std::nullopt;
    return Tolerance{absolute.value_or(Tolerance::kByDType), relative.value_or(Tolerance::kByDType), ulp.value_or(0)};
  }
  // Those of the file, and what the options say for all.
  Tolerances tolerances() const;
};

// What was found, for programs, and as Markdown.
struct Finding {
  int code = kGood;
  Json json;
  std::string markdown;
};

// A name in a cell of a Markdown table.
std::string cell(const std::string& name);
Json comparison_json(const Comparison& c);
// A number of JSON; "inf", "nan" as text.
Json finite_json(double v);

// Each prints for people unless `quiet`. `reference`: inputs, and the outputs expected of them where they are known.
Finding find_where(const ParityOptions& o, const Graph& graph, const CompileOptions& options, const Case& reference, const std::string& fed,
                   bool quiet);
Finding find_why(const ParityOptions& o, const Graph& graph, const CompileOptions& options, const Case& reference, const std::string& fed,
                 bool quiet);
Finding find_budget(const ParityOptions& o, const Graph& graph, const CompileOptions& options, const Case& reference,
                    const std::string& fed, bool quiet);
Finding find_distances(const ParityOptions& o, const Graph& graph, const CompileOptions& options, const Case& reference,
                       const std::string& fed, bool quiet);

}  // namespace lathe::cli
