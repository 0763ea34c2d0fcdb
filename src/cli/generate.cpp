// lathe generate
#include <algorithm>
#include <iostream>

#include "base/files.hpp"
#include "generate.hpp"
#include "interrupts.hpp"

namespace lathe::cli {
namespace {

std::optional<Vocabulary> vocabulary_of(const GenerateFlags& o, const std::map<std::string, std::string>& metadata) {
  if (o.vocabulary == "bytes") return Vocabulary::bytes();
  if (!o.vocabulary.empty()) return Vocabulary::load(o.vocabulary);
  return Vocabulary::of(metadata);
}

// What the options begin with, as a text.
std::string prompt_text(const GenerateFlags& o) {
  if (o.prompt_file.empty()) return o.prompt;
  if (o.prompt_file == "-") return {std::istreambuf_iterator<char>(std::cin), {}};
  return read_file(o.prompt_file);
}

std::vector<int64_t> prompt_of(const GenerateSession& s, const std::string& text, const BesideValues& beside) {
  if (s.flags.ids.empty()) return s.tokens_of(text, beside);
  std::vector<int64_t> out;
  for (const std::string& t : split(s.flags.ids, ',')) out.push_back(parse_size(t, "--ids"));
  return out;
}

struct Compiled {
  Program program;
  std::vector<std::string> beside;  // inputs that are known to be beside the tokens
};

Compiled compiled(const ModelOptions& model, const GenerateFlags& o, bool draft) {
  if (model.batch > 0 || !model.shapes.empty() || !model.outputs.empty())
    throw UsageError("--batch, --shape and --output fix what changes from run to run here: only --dim can be given");
  Graph graph = model.load_graph();
  if (model.archived()) return {*model.archive, {}};
  CompileOptions c = model.compile_options(graph);
  c.dims.clear();  // what nobody has bound stays open
  for (const std::string& text : model.dims) {
    const auto [name, size] = split_pair(text, "--dim");
    c.dims[name] = parse_size(size, "--dim");
  }
  if (draft && c.states.empty()) throw UsageError("--draft: no states are known of it");
  if (!draft) c.once = as_usage([&] { return inputs_beside(o.beside, !o.beside.image.empty(), graph, c); });
  Compiled out;
  out.beside = c.once;
  out.program = as_usage([&] { return model.make_program(std::move(graph), c, true); });
  return out;
}

double per_second(int64_t count, double seconds) { return count > 0 && seconds > 0 ? static_cast<double>(count) / seconds : 0; }

struct Figures {
  double rate = 0, prompt_rate = 0;  // tokens a second
  double beside = 0;                 // seconds a token beside the model
  double weights = 0, states = 0;    // bytes that a token reads
  double reading = 0, share = 0;     // bytes a second that the machine reads, and what of them was read
};

// What states hold of one sequence, in bytes.
double state_bytes(const Program& program, double positions) {
  double sum = 0;
  for (const StateInfo& s : program.states()) {
    double bytes = s.in_place ? sizeof(float) : bit_width(s.dtype) / 8.0;
    for (size_t d = 0; d < s.dims->size(); ++d) {
      const Dim& dim = (*s.dims)[d];
      bytes *= static_cast<int>(d) == s.axis ? positions : dim.known() ? static_cast<double>(dim.value) : 1;
    }
    sum += bytes;
  }
  return sum;
}

// `several`: sequences at once, each with states of its own, which are not told.
Figures figures_of(const Program& program, int64_t positions, const Generated& g, bool several) {
  Figures f;
  const auto made = static_cast<int64_t>(g.tokens.size());
  f.rate = per_second(made - 1, g.seconds);
  f.prompt_rate = per_second(g.prompt, g.first_seconds);
  f.beside = made > 1 ? (g.seconds - g.model_seconds) / static_cast<double>(made - 1) : 0;
  try {
    f.weights = static_cast<double>(program.describe(one_position(program)).weight_bytes);
  } catch (const Error&) {  // a model that cannot begin with nothing: what it reads is not told
  }
  // In the middle of what was made.
  if (!several) f.states = state_bytes(program, static_cast<double>(positions) - static_cast<double>(made) / 2);
  const int threads = program.options().threads;
  const auto part = static_cast<size_t>((f.weights + f.states) / threads);
  f.reading = 1e9 * measure_read_bandwidth(program.options().isa, std::clamp<size_t>(part, 1 << 12, size_t{256} << 20), threads, 0.1);
  f.share = (f.weights + f.states) * f.rate / f.reading;
  return f;
}

std::string ended_text(const GenerateFlags& o, const std::string& ended) {
  if (ended == "count") return fmt::format("by --most {}", o.how.most);
  if (ended == "token") return "by the model";
  if (ended == "room") return "for want of room (--positions)";
  return ended == "text" ? "by --stop" : ended;
}

std::string summary(const Program& program, const GenerateFlags& o, const BesideValues& beside, const Generated& g, const Figures& f) {
  Table table("ll");
  if (!beside.picture.empty()) table.row({"picture", picture_text(beside)});
  table.row(
      {"prompt", fmt::format("{} tokens, the next one {} later: {:.0f} tokens/s", g.prompt, seconds_text(g.first_seconds), f.prompt_rate)});
  std::string made = fmt::format("{} tokens", g.tokens.size());
  if (g.tokens.size() > 1)
    made += fmt::format(" in {}: {:.1f} tokens/s; {} a token beside the model, printing among it", seconds_text(g.seconds), f.rate,
                        seconds_text(f.beside));
  table.row({"made", made});
  if (f.rate > 0)
    table.row({"a token reads",
               fmt::format("{} of weights{}: {:.0f} % of what {:.1f} GB/s of reading allow", bytes_text(f.weights),
                           f.states > 0 ? fmt::format(", {} of states", bytes_text(f.states)) : "", 100 * f.share, f.reading / 1e9)});
  table.row({"states", program.states().empty() ? "none: every token is computed from all before it" : states_text(program)});
  if (g.proposed > 0)
    table.row({"draft", fmt::format("{} of {} proposed tokens kept ({:.0f} %)", g.kept, g.proposed,
                                    100.0 * static_cast<double>(g.kept) / static_cast<double>(g.proposed))});
  table.row({"ended", ended_text(o, g.ended)});
  return table.text();
}

int generate_one(GenerateSession& s) {
  GenerateFlags& o = s.flags;
  const std::string begins = prompt_text(o);
  const BesideValues beside = s.beside->make(o.beside.image, o.how.run);
  s.give(beside);
  const auto prompt = prompt_of(s, begins, beside);
  const bool people = for_people(o.model.json);
  TextStream stream(o.stops);
  std::string text;
  const auto show = [&](const std::string& part) {
    text += part;
    if (!people) return;
    fmt::print("{}", part);
    std::fflush(stdout);
  };
  std::vector<int64_t> heard;
  const auto hear = [&](int64_t token) {
    if (heard.empty() && people && s.vocabulary) fmt::print("{}", o.prompt);
    heard.push_back(token);
    if (!s.vocabulary) show(fmt::format("{}{}", heard.size() > 1 ? " " : "", token));
    else show(stream.add(s.vocabulary->decode(std::span(&token, 1))));
    return !stream.stopped() && !interrupted().stop_requested();
  };
  Generated g;
  try {
    g = as_usage([&] { return s.generator->run(prompt, o.how, hear); });
  } catch (const Error& e) {
    if (e.category() != Category::cancelled || !interrupted().stop_requested()) throw;
    g.tokens = heard;
    g.prompt = static_cast<int64_t>(prompt.size());
  }
  if (interrupted().stop_requested()) g.ended = "interrupted";
  else if (stream.stopped()) g.ended = "text";
  show(stream.rest());
  if (people) fmt::print("\n");
  if (std::fflush(stdout) != 0 || std::ferror(stdout) != 0) throw std::runtime_error("standard output cannot be written");
  const Figures f = figures_of(s.program, s.generator->lane().positions(), g, o.how.beams > 1);
  std::vector<PictureCost> costs;
  if (!o.picture_costs.empty()) costs = picture_costs(s, begins, beside.picture);
  const Roles& roles = s.generator->roles();
  write_json(o.model.json, {{"model", o.model.model},
                            {"prompt_tokens", g.prompt},
                            {"tokens", g.tokens},
                            {"text", s.vocabulary ? Json(text) : Json(nullptr)},
                            {"ended", g.ended},
                            {"roles",
                             {{"tokens", roles.tokens},
                              {"mask", roles.mask},
                              {"positions", roles.positions},
                              {"scores", roles.scores},
                              {"beside", roles.beside}}},
                            {"picture", picture_json(beside)},
                            {"picture_costs", costs_json(costs)},
                            {"states", states_json(s.program)},
                            {"why_copied", s.program.why_copied()},
                            {"threads", s.program.options().threads},
                            {"first_token_seconds", g.first_seconds},
                            {"prompt_tokens_per_second", f.prompt_rate},
                            {"tokens_per_second", f.rate},
                            {"beside_the_model_seconds", f.beside},
                            {"weight_bytes", f.weights},
                            {"state_bytes", f.states},
                            {"read_bandwidth", f.reading},
                            {"share_of_reading", f.share},
                            {"log_likelihood", o.how.beams > 1 ? Json(g.log_likelihood) : Json(nullptr)},
                            {"proposed", g.proposed},
                            {"kept", g.kept}});
  if (people) fmt::print(stderr, "{}{}", summary(s.program, o, beside, g, f), costs.empty() ? "" : "\n" + costs_text(costs));
  return kGood;
}

}  // namespace

GenerateSession::GenerateSession(GenerateFlags& o) : flags(o) {
  as_usage([&] { check(o.how.sampling); });
  const bool several = !o.each.empty();
  if (!o.prompt.empty() + !o.prompt_file.empty() + !o.ids.empty() + several > 1)
    throw UsageError("--prompt, --prompt-file, --ids and --each exclude one another");
  if (several && !o.beside.image.empty())
    throw UsageError("--image goes with one prompt; a table names its pictures in a column 'picture'");
  if (!several && o.side_by_side > 1) throw UsageError("--side-by-side goes with --each, which has several prompts");
  if (several && !o.picture_costs.empty()) throw UsageError("--picture-costs goes with one prompt");
  o.beside.read();
  Compiled c = compiled(o.model, o, false);
  program = c.program;
  vocabulary = vocabulary_of(o, program.metadata());
  if (!several && !vocabulary && o.ids.empty() && o.prompt.empty() && o.prompt_file.empty())
    throw UsageError("what to begin with is not said, and the model has no vocabulary: --ids 1,2,3");
  if (!o.stops.empty() && !vocabulary) throw UsageError("--stop wants a vocabulary that says what tokens stand for");
  if (vocabulary) {
    if (const auto end = vocabulary->special("end")) o.how.stop_tokens.push_back(*end);
  }
  beside = std::make_unique<Beside>(o.beside, o.model, program, std::move(c.beside));
  o.roles.beside = beside->inputs();
  generator = as_usage([&] { return std::make_unique<Generator>(program, o.roles); });
  if (vocabulary && generator->vocabulary() > 0 && vocabulary->size() != generator->vocabulary())
    throw Error(Category::value,
                fmt::format("the vocabulary has {} tokens, the model tells {} apart", vocabulary->size(), generator->vocabulary()));
  if (o.draft.empty()) return;
  ModelOptions other = o.model;
  other.model = o.draft;
  other.archive.reset();
  draft = as_usage([&] { return std::make_unique<Generator>(compiled(other, o, true).program, Roles{}); });
  as_usage([&] { generator->draft(*draft); });
}

std::vector<int64_t> GenerateSession::tokens_of(const std::string& text, const BesideValues& values) const {
  if (!vocabulary)
    throw UsageError(fmt::format(
        "the model carries no vocabulary ('{}' in its metadata) that could read a text: give one with --vocabulary, or tokens with --ids",
        kVocabularyKey));
  std::vector<int64_t> out;
  if (const auto begin = vocabulary->special("begin")) out.push_back(*begin);
  const auto marks = beside->marks(values);
  out.insert(out.end(), marks.begin(), marks.end());
  const auto ids = as_usage([&] { return vocabulary->encode(text); });
  out.insert(out.end(), ids.begin(), ids.end());
  if (out.empty()) throw UsageError("what to begin with is not said, and the vocabulary has no 'begin': --prompt TEXT");
  return out;
}

void GenerateSession::give(const BesideValues& values) {
  for (const NamedTensor& t : values.values) generator->give(t.name, t.tensor);
}

Command add_generate(CLI::App& app) {
  auto o = std::make_shared<GenerateFlags>();
  o->model.add_to(app);
  o->model.states = "found";
  o->model.add_states(app);
  o->model.add_limits(app);
  auto& s = o->how.sampling;
  app.add_option("--prompt", o->prompt, "Begin with this text")->type_name("TEXT");
  app.add_option("--prompt-file", o->prompt_file, "Begin with the text of this file (-: standard input)")->type_name("FILE");
  app.add_option("--ids", o->ids, "Begin with these tokens")->type_name("N,N,...");
  app.add_option("--each", o->each, "A table of prompts (CSV with a header): columns prompt, and if need be picture, expected")
      ->type_name("FILE.csv");
  app.add_option("--side-by-side", o->side_by_side, "With --each: so many sequences at a time in one batch; one ends, the next begins")
      ->check(CLI::Range(1, 4096))
      ->type_name("N")
      ->capture_default_str();
  o->beside.add_to(app);
  app.add_option("--picture-costs", o->picture_costs, "Also time pictures of these sizes: what a larger one would cost")
      ->type_name("HEIGHTxWIDTH,...");
  app.add_option("--vocabulary", o->vocabulary, "What tokens stand for ('bytes': each byte one); else what the model carries")
      ->type_name("FILE");
  app.add_option("--most", o->how.most, "Tokens to make at most")->check(zero_or_more())->capture_default_str();
  app.add_option("--stop", o->stops, "End before this text (repeatable)")->type_name("TEXT");
  app.add_option("--temperature", s.temperature, "0: the likeliest token; more: drawn, the flatter the higher")->capture_default_str();
  app.add_option("--top-k", s.top_k, "Draw among this many of the likeliest (0: all)")->capture_default_str();
  app.add_option("--top-p", s.top_p, "Draw among the likeliest whose likelihoods add up to this")->capture_default_str();
  app.add_option("--repetition", s.repetition, "Make tokens less likely that were there lately (1: not)")->capture_default_str();
  app.add_option("--window", s.repetition_window, "Tokens that count as lately (0: all)")->capture_default_str();
  app.add_option("--seed", o->how.seed, "Of the numbers that tokens are drawn by")->capture_default_str();
  app.add_option("--beams", o->how.beams, "Keep this many of the likeliest sequences at a time")->capture_default_str();
  app.add_option("--draft", o->draft, "A smaller model that proposes tokens, which the model checks several at a time")->type_name("MODEL");
  app.add_option("--ahead", o->how.look_ahead, "Tokens that it proposes at a time")->capture_default_str();
  app.add_option("--tokens-input", o->roles.tokens, "The input that takes tokens")->type_name("NAME");
  app.add_option("--mask-input", o->roles.mask, "The input that is told what is there")->type_name("NAME");
  app.add_option("--positions-input", o->roles.positions, "The input that is told where tokens stand")->type_name("NAME");
  app.add_option("--scores-output", o->roles.scores, "The output with a score for each token")->type_name("NAME");
  return [o] {
    const Interrupts interrupts;
    o->how.run = o->model.run_options();
    o->how.run.stop = interrupted().get_token();
    GenerateSession session(*o);
    return o->each.empty() ? generate_one(session) : generate_each(session);
  };
}

}  // namespace lathe::cli
