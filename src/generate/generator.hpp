// What a Generator is made of.
#pragma once

#include <algorithm>
#include <chrono>
#include <map>

#include "base/clock.hpp"
#include "base/fail.hpp"
#include "lathe/generate.hpp"
#include "tensor/widen.hpp"

namespace lathe {

inline bool stops(const GenerateOptions& o, int64_t token) { return std::ranges::find(o.stop_tokens, token) != o.stop_tokens.end(); }

struct Generator::Impl {
  class SideBySide;
  Impl(Program p, const Roles& given, int threads);

  // Of a sequence: where rows of scores stand in what a run gave.
  struct Fed {
    Lane* lane;
    int64_t batch, count;             // sequences, tokens of each
    std::span<const int64_t> ids;     // of each sequence, one after another
    std::span<const int64_t> at;      // by sequence: where its first token stands
    std::span<const int64_t> hidden;  // by sequence: entries in front that are not its own
    int64_t before;                   // that the states hold
  };
  // Runs `batch` sequences on by `count` tokens each; rows of scores are there then.
  void feed(std::span<const int64_t> ids, int64_t batch, const RunOptions& run);
  void forward(const Fed& fed, const RunOptions& run);
  // Scores after the i-th token from the end that was fed last (0: the last) of a sequence.
  std::span<const float> row(int64_t sequence, int64_t from_end = 0) const;

  void reset();
  void back(int64_t n);
  void arrange(const std::vector<int64_t>& from, int64_t before);
  bool fits(int64_t more) const { return program.options().positions == 0 || positions + more <= program.options().positions; }
  void check_prompt(std::span<const int64_t> prompt) const;

  Program program;
  Roles roles;
  Lane lane;
  bool flat = false, one_at_a_time = false, stateless = false, long_mask = false;
  int64_t most_sequences = INT64_MAX, vocabulary = 0, positions = 0, rows_each = 1;
  double model_seconds = 0;
  std::vector<int64_t> history;  // of models without states: all tokens of each sequence, one after another
  Tensor tokens, places, mask, scores;
  std::map<std::string, Tensor> given;  // by input, beside the tokens
  std::vector<float> wide;
  Impl* draft = nullptr;

  Generated one_by_one(std::span<const int64_t> prompt, const GenerateOptions& o, const std::function<bool(int64_t)>& token);
  Generated with_beams(std::span<const int64_t> prompt, const GenerateOptions& o, const std::function<bool(int64_t)>& token);
  std::vector<Generated> side_by_side(std::span<const Prompt> prompts, int64_t width, const GenerateOptions& o,
                                      const std::function<bool(size_t, int64_t)>& token);
};

}  // namespace lathe
