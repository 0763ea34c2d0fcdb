// Sequences continued token by token, by models with and without states.
#pragma once

#include <cstdint>
#include <functional>
#include <map>
#include <random>
#include <span>
#include <string>
#include <vector>

#include "lathe/program.hpp"
#include "lathe/text.hpp"

namespace lathe {

// How the next token is chosen from a row of scores. Everything in double, in this order:
// 1. The score of each token among the last `repetition_window` ones (0: all) is divided by `repetition` where it is positive, else
// multiplied.
// 2. temperature 0: the highest score, of equal ones the first. That is all then.
// 3. Of the `top_k` highest (0: all; of equal ones the first): shares e^((score - highest) / temperature), and their sum in the order of
//    tokens.
// 4. From the highest on (of equal ones the first), the shortest beginning whose running sum is at least `top_p` times that sum stays; its
//    running sum is the sum then. With top_p 1 all stay, and the sum.
// 5. With u from [0, 1): the first of these, from the highest on, at which the running sum is greater than u times the sum; else the last.
struct Sampling {
  double temperature = 0;
  int64_t top_k = 0;
  double top_p = 1;
  double repetition = 1;
  int64_t repetition_window = 64;
};
// Throws Error (value) naming what is out of range.
void check(const Sampling& sampling);
// `before`: the tokens so far, the prompt among them. `u` is not looked at where temperature is 0. Throws Error (value): no score is a
// number.
int64_t pick(std::span<const float> scores, std::span<const int64_t> before, const Sampling& sampling, double u);
// The numbers of a seed: the upper 53 bits of std::mt19937_64's, as a part of 2^53.
class UnitNumbers {
 public:
  explicit UnitNumbers(uint64_t seed) : engine_(seed) {}
  double next() { return static_cast<double>(engine_() >> 11) * 0x1p-53; }

 private:
  std::mt19937_64 engine_;
};

// Under this key of its metadata a model says which token stands for a row of a picture, and which value holds the rows (behind one of
// zeros, for what has no mark): "MARK VALUE".
inline constexpr const char* kInsertKey = "lathe.insert";

// What the inputs and outputs of a model are for. Empty: found by find_roles.
struct Roles {
  std::string tokens{};     // i64 or i32: [batch, new], [new] or [batch, 1]
  std::string mask{};       // ones for what is there: [batch, held and new], or [batch, new]; of any numbers
  std::string positions{};  // i64 or i32, like tokens: where each stands
  std::string scores{};     // [batch, new, vocabulary], [batch, vocabulary] or [new, vocabulary]
  // Inputs that get a value of their own (Generator::give), the same in every run: what is made of a picture.
  std::vector<std::string> beside{};
};
// What is empty in `given` is found from names, types and sizes. Throws Error (value) naming what is there, where that is not certain.
Roles find_roles(const Program& program, const Roles& given = {});

struct GenerateOptions {
  Sampling sampling{};
  uint64_t seed = 1;
  int64_t most = 256;                  // tokens, beside the prompt
  std::vector<int64_t> stop_tokens{};  // end it, and are not part of it
  int beams = 1;                       // more: the most likely sequence by this many kept at a time; no sampling
  int look_ahead = 4;                  // tokens that a draft model proposes at a time
  RunOptions run{};
};

struct Generated {
  std::vector<int64_t> tokens;     // without the prompt
  std::string ended;               // "count", "token", "room" (no more positions fit), "asked" (by the callback)
  int64_t prompt = 0;              // tokens of it
  double first_seconds = 0;        // until the first token
  double seconds = 0;              // from the first token to the last
  double model_seconds = 0;        // of `seconds`: in the model
  double log_likelihood = 0;       // of beams: of the sequence
  int64_t proposed = 0, kept = 0;  // tokens of a draft model
};

// One of many sequences.
struct Prompt {
  std::vector<int64_t> tokens;
  std::map<std::string, Tensor> beside{};  // of Roles::beside, rows for kInsertKey alone: others cannot be different side by side
};

// Continues sequences on one lane.
// Threads: one run at a time. Failure: a run that throws leaves the generator ready for the next.
class Generator {
 public:
  // `threads` 0: as compiled. Throws Error (value): roles that are not there, inputs nobody knows what to give to.
  explicit Generator(Program program, const Roles& roles = {}, int threads = 0);
  ~Generator();
  Generator(Generator&&) noexcept;

  const Roles& roles() const;
  // How many tokens the model tells apart; 0: only known when it has run.
  int64_t vocabulary() const;
  // The value of an input that is beside the tokens (Roles::beside), until another is given. Throws Error (value): it is none.
  void give(const std::string& input, Tensor value);
  // A model that proposes tokens which this one checks, several in one run: the same result, sooner. Both need states that can go back.
  void draft(Generator& draft);
  // `token` gets each as it comes (with beams: all at the end); false from it ends the run. Throws Error (value): an empty prompt, a token
  // the model does not know, a prompt longer than what fits; and what a run throws.
  Generated run(std::span<const int64_t> prompt, const GenerateOptions& options, const std::function<bool(int64_t)>& token = {});
  // Many sequences, so many of them side by side in one batch: one ends, and the next takes its place. Each is continued as `run` would
  // continue it, with the same seed. Of a model whose states grow, inputs must say what is there and where tokens stand (mask and
  // positions), since sequences differ in length. `token` gets the prompt's number and each of its tokens as it comes; false ends that
  // sequence. No beams, no draft. Throws Error (value) as `run` does, naming the prompt by its number.
  std::vector<Generated> run_all(std::span<const Prompt> prompts, int64_t side_by_side, const GenerateOptions& options,
                                 const std::function<bool(size_t prompt, int64_t token)>& token = {});
  Lane& lane();

 private:
  struct Impl;
  std::unique_ptr<Impl> impl_;
};

// Text as it comes, held back as long as it may be the beginning of a text that ends it.
class TextStream {
 public:
  explicit TextStream(std::vector<std::string> stops) : stops_(std::move(stops)) {}
  // What can be shown now.
  std::string add(std::string_view bytes);
  bool stopped() const { return stopped_; }
  // What was held back, at the end.
  std::string rest();

 private:
  std::vector<std::string> stops_;
  std::string held_;
  bool stopped_ = false;
};

}  // namespace lathe
