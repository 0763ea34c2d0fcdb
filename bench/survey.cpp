// Every op of the standard's default domain that exporters write, in every dtype they write it in, at about a million elements or 100
// MFLOP: which go by compiled steps, how fast against this machine's limit and against f32, and which do not.
#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <chrono>
#include <cmath>
#include <cstdlib>
#include <cstring>
#include <memory>
#include <set>

#include <lathe/lathe.hpp>

#include "survey_forms.hpp"
#include "timing.hpp"

using namespace lathe;
using survey::Entry;
using survey::Form;

namespace {

struct Result {
  std::string name;
  DType dtype;
  double seconds = 0, limit = 0;
  double against = 0;  // times the f32 twin's time
  std::string plain;   // why, when a step is

  // What moves twice the bytes of its twin may leave a cache that the twin fits: at most of its limit it is not slow.
  // A call alone takes as long as what is done within a few microseconds.
  bool slow() const { return seconds > 5e-6 && ((against > 4 && limit < 0.5 * seconds) || (limit > 0 && limit < 0.05 * seconds)); }
};

// Why what is plain or slow may stay so. Forms that begin with `name`, in one of these types (none: all).
struct Reason {
  std::string_view name;
  std::vector<DType> dtypes;
  std::string_view why;
};
const std::vector<Reason> kReasons{
    {"NonMaxSuppression", {}, "how many are left is known while it runs: the op's own loop, on candidates above the score"},
    {"MatMul, by a constant", {DType::i32, DType::i64}, "no exporter writes it; bytes are multiplied by MatMulInteger"},
    {"ReduceLogSumExp", {DType::i32, DType::i64}, "of whole numbers it means nothing that models want"},
    {"Cast, to f16", {DType::i32, DType::i64}, "through doubles, rounded once; models cast floats to halves"},
    {"Gather, columns",
     {DType::u8, DType::i8, DType::boolean},
     "an element a cycle, as in f32, which takes as long: its limit counts bytes, of which there are a quarter"},
    {"Pow", {DType::f16, DType::bf16}, "the function's own arithmetic, as fast as in f32, and not memory is what limits it"},
    {"GridSample",
     {DType::f32},
     "four numbers a result from wherever the grid says, here at random: not memory's rate but its answers are waited for"},
    {"RoiAlign", {DType::f32}, "some sixteen numbers a result, in turn: arithmetic, of which its limit counts none"},
    {"Resize", {DType::u8}, "sums of floats, as fast as in f32: its limit counts bytes, of which there are a quarter"},
    {"ReduceMean", {DType::i64}, "twice the bytes, summed in 64 bits; models take means of floats"},
    {"Sin", {DType::f16, DType::bf16}, "the function's own arithmetic, as fast as in f32, and not memory is what limits it"},
    {"Cos", {DType::f16, DType::bf16}, "the function's own arithmetic, as fast as in f32, and not memory is what limits it"},
    {"Tan", {DType::f16, DType::bf16}, "the function's own arithmetic, as fast as in f32, and not memory is what limits it"},
    {"Conv, of a signal", {DType::f32}, "its result, 32 MB, is turned to the standard's order for the caller"},
    {"Mish", {DType::f16, DType::bf16}, "the function's own arithmetic, as fast as in f32, and not memory is what limits it"},
    {"Atan", {DType::f16, DType::bf16}, "the function's own arithmetic, as fast as in f32, and not memory is what limits it"},
    {"Range", {}, "how long it is is known while it runs: a loop of the op's own"},
    {"Unique", {}, "how many there are is known while it runs: a sort of the op's own"},
    {"MaxRoiPool", {}, "of exporters of long ago; the op's own loop"},
    {"Det", {}, "by elimination, matrix by matrix: the op's own loop"},
    {"Random", {}, "numbers drawn one after the other, the same whatever the threads"},
    {"Bernoulli", {}, "numbers drawn one after the other, the same whatever the threads"},
    {"Multinomial", {}, "numbers drawn one after the other, the same whatever the threads"},
    {"MelWeightMatrix", {}, "of constants; a run has it from the compiler"},
    {"TopK, 300", {}, "comparisons, of which its limit counts none"},
    {"Conv, to one filter", {}, "its input comes with the channels first, and turning that takes longer than the sums"},
    {"DFT", {}, "in double, as plain evaluation has it: its limit is that of floats"},
    {"STFT", {}, "in double, as plain evaluation has it: its limit is that of floats"},
    {"Ac", {}, "in double, to the last bit: the function's own arithmetic and not memory is what limits it"},
    {"As", {}, "in double, to the last bit: the function's own arithmetic and not memory is what limits it"},
    {"Atanh", {}, "in double, to the last bit: the function's own arithmetic and not memory is what limits it"},
    {"Cosh", {}, "in double, to the last bit: the function's own arithmetic and not memory is what limits it"},
    {"Sinh", {}, "in double, to the last bit: the function's own arithmetic and not memory is what limits it"},
    {"Attention", {DType::f64}, "in double by hand-written graphs alone, which have the softmax written out: that has steps"},
    {"DequantizeLinear, blocks", {}, "blocks are those of weights, which are constants"},
    {"SequenceMap", {}, "no exporter writes it: a loop over the items of a sequence, whose body is a program of its own"},
    {"NegativeLogLikelihoodLoss", {}, "one number a row: not memory's rate but its answers are waited for"},
    {"ReduceLogSum, all", {DType::i64}, "twice the bytes, summed in 64 bits; models take sums of floats"},
    {"QuantizeLinear, blocks", {}, "blocks are those of weights, which are constants"},
    {"Dropout, in a model", {}, "of training: what is dropped is drawn, one number after the other"},
    {"TfIdfVectorizer, in a model", {}, "counts of words and their neighbours: no arithmetic to speak of"},
    {"ConvTranspose, in a model", {}, "weights made by the run, of volumes or with taps apart: what a layer learnt is a constant"},
    {"QLinearConv, in a model", {}, "weights made by the run: what a layer learnt is a constant"},
    {"Mod, in a model", {}, "of numbers of 64 bits without a sign, which no exporter writes"},
    {"", {DType::f64}, "half as many to a register, functions of the C library; models are not shipped in double"},
};
std::string_view reason(const Result& r) {
  for (const Reason& k : kReasons) {
    if (r.name.starts_with(k.name) && (k.dtypes.empty() || std::ranges::find(k.dtypes, r.dtype) != k.dtypes.end())) return k.why;
  }
  return {};
}

// Ops of the standard that have no form here.
constexpr std::string_view kWithoutForm[]{"ImageDecoder",     "RegexFullMatch", "StringConcat",
                                          "StringNormalizer", "StringSplit",    "TfIdfVectorizer"};

void note_ops(const Graph& g, std::set<std::string>& met) {
  for (const Node& n : g.nodes) {
    if (n.domain.empty()) met.insert(n.op);
    n.each_subgraph([&](const std::shared_ptr<Graph>& body) { note_ops(*body, met); });
  }
}

int models(const char* folder) {
  const survey::Left left = survey::plain_steps_of(folder);
  std::map<std::pair<std::string, std::string>, std::vector<std::string>> listed;
  for (const auto& s : left.steps) listed[{s.op, s.why}].push_back(s.model);
  bool known = true;
  for (const auto& [step, names] : listed) {
    std::string_view why = reason({step.first + ", in a model", DType::undefined, 0, 0, 0, ""});
    for (const char* what : {"strings", "sequences"}) {
      if (step.second.find(what) != std::string::npos) why = "of which no arithmetic is made";
    }
    fmt::print("  {:<28} {:>4} steps: {}\n    {}\n    {}\n", step.first, names.size(), step.second,
               why.empty() ? "no reason is known" : why, fmt::join(names, " "));
    known = known && !why.empty();
  }
  for (const auto& [name, why] : left.refused) fmt::print("  not compiled: {}: {}\n", name, why);
  fmt::print("{} models, {} of them with plain steps; {} with parts or subgraphs that are compiled when a run brings their sizes\n",
             left.models, left.with_plain, left.with_programs);
  known = known && left.models > 0;
  return known ? 0 : 1;
}

}  // namespace

int main(int argc, char** argv) {
  std::string only;
  bool brief = false;
  double budget = 0.05;
  for (int i = 1; i < argc; ++i) {
    if (!std::strcmp(argv[i], "--only") && i + 1 < argc) only = argv[++i];
    else if (!std::strcmp(argv[i], "--seconds") && i + 1 < argc) budget = std::max(0.001, std::atof(argv[++i]));
    else if (!std::strcmp(argv[i], "--brief")) brief = true;
    else if (!std::strcmp(argv[i], "--models") && i + 1 < argc) return models(argv[++i]);
    else {
      fmt::print(
          stderr,
          "usage: survey [--only TEXT] [--seconds A-FORM] [--brief] | --models DIR\n\n--brief compiles and lists what is left to plain "
          "evaluation, and runs nothing\n--models does so with every model below a folder\nexit status: 1 when something is plain or slow "
          "and no reason is known\n");
      return 2;
    }
  }
  const bool people = isatty(STDERR_FILENO);
  std::optional<Roofline> roofline;
  if (!brief) roofline.emplace("", 1);
  std::vector<Result> results;
  int refused = 0;
  std::vector<Entry> entries = survey::single_ops();
  std::ranges::move(survey::ops_in_models(), std::back_inserter(entries));
  std::set<std::string> met;
  for (const Entry& e : entries) {
    const std::string name = e.op + (e.form.empty() ? "" : ", " + e.form);
    if (!only.empty() && name.find(only) == std::string::npos) continue;
    double twin = 0;
    for (DType d : e.dtypes) {
      if (people) fmt::print(stderr, "\r{:<70}", fmt::format("{} {}", name, to_string(d)));
      Result r{name, d, 0, 0, 0, ""};
      try {
        Builder b("survey", e.opset);
        Form f{b, d};
        e.make(f);
        Graph g = b.finish();
        note_ops(g, met);
        const Program p = compile(std::move(g), {.threads = 1});
        const EditionInfo info = p.describe();
        for (const StepInfo& s : info.steps) {
          if (s.kind == "plain" && r.plain.empty()) r.plain = s.why;
        }
        if (!brief) {
          double flops = 0, bytes = 0;
          for (const StepInfo& s : info.steps) {
            // Where parts are views, what brings them to the outputs is all there is.
            if (s.kind != "layout" || e.op == "Split") flops += s.flops, bytes += s.bytes;
          }
          // What runs is decided by values, or nothing does: there is no limit to hold it against.
          r.limit = info.not_counted > 0 ? 0 : roofline->seconds(flops, bytes);
          const auto inputs = random_inputs(p, p.bound_shapes(), 1);
          Lane lane(p);
          const auto timed = [&] {
            std::vector<double> times;
            const auto start = Clock::now();
            do {
              const auto t = Clock::now();
              lane.run(std::span<const Tensor>(inputs));
              times.push_back(since(t));
            } while (times.size() < 200 && since(start) < budget);
            std::ranges::sort(times);
            return times[times.size() / 4];
          };
          r.seconds = timed();
          if (twin > 0) r.against = r.seconds / twin;
          // What looks slow for no reason is looked at again: others use the machine too.
          for (int again = 0; again < 4 && r.plain.empty() && r.slow() && reason(r).empty(); ++again) {
            r.seconds = std::min(r.seconds, timed());
            if (twin > 0) r.against = r.seconds / twin;
          }
        }
      } catch (const Error& error) {
        ++refused;  // the op is not defined on this dtype
        if (d == DType::f32 || e.dtypes == survey::kBytes) fmt::print(stderr, "\n{} {}: {}\n", name, to_string(d), error.what());
        continue;
      }
      if (d == DType::f32) twin = r.seconds;
      if (!brief)
        fmt::print("{:<44} {:>5} {:>10.1f} us {:>6.1f} % {:>8} {}\n", name, to_string(d), 1e6 * r.seconds, 100 * r.limit / r.seconds,
                   r.against > 0 ? fmt::format("{:.2f}", r.against) : "", r.plain.empty() ? "" : "plain");
      results.push_back(std::move(r));
    }
  }
  if (people) fmt::print(stderr, "\r{:<70}\r", "");
  const auto plain = std::ranges::count_if(results, [](const Result& r) { return !r.plain.empty(); });
  fmt::print("{}{} forms and dtypes, {} of them by plain evaluation{}\n", brief ? "" : "\n", results.size(), plain,
             refused ? fmt::format("; {} are not in the standard", refused) : "");
  const auto list = [&](auto wanted) {
    std::map<std::pair<std::string, std::string_view>, std::string> listed;
    for (const Result& r : results) {
      if (wanted(r)) listed[{r.name, reason(r)}] += fmt::format(" {}", to_string(r.dtype));
    }
    bool known = true;
    for (const auto& [form, dtypes] : listed) {
      fmt::print("  {:<44}{}\n    {}\n", form.first, dtypes, form.second.empty() ? "no reason is known" : form.second);
      known = known && !form.second.empty();
    }
    return known;
  };
  bool known = list([](const Result& r) { return !r.plain.empty(); });
  if (!brief) {
    fmt::print("\nmore than four times slower than in f32, or below 5 % of the limit, by compiled steps\n");
    known = list([](const Result& r) { return r.plain.empty() && r.slow(); }) && known;
  }
  for (const OpDef* op : all_ops()) {
    if (!only.empty() || !op->domain.empty() || !met.insert(op->name).second) continue;
    const bool text = std::ranges::find(kWithoutForm, op->name) != std::ranges::end(kWithoutForm);
    fmt::print("  {:<44}has no form here: {}\n", op->name, text ? "of strings and files, of which no arithmetic is made" : "it should");
    known = known && text;
  }
  return known ? 0 : 1;
}
