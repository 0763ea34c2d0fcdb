// What the ways to generate share.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "beside.hpp"

namespace lathe::cli {

struct GenerateFlags {
  ModelOptions model;
  BesideFlags beside;
  Roles roles;
  GenerateOptions how;
  std::string prompt, prompt_file, ids, vocabulary, draft, each, picture_costs;
  std::vector<std::string> stops;
  int64_t side_by_side = 1;
};

// A model of sequences made ready: compiled, with its vocabulary and a draft if there is one.
class GenerateSession {
 public:
  explicit GenerateSession(GenerateFlags& flags);

  // The tokens of a text, behind the vocabulary's beginning and what a picture has become. Throws UsageError.
  std::vector<int64_t> tokens_of(const std::string& text, const BesideValues& beside) const;
  // Hands over what is beside the tokens.
  void give(const BesideValues& values);

  GenerateFlags& flags;
  Program program;
  std::optional<Vocabulary> vocabulary;
  std::unique_ptr<Beside> beside;
  std::unique_ptr<Generator> generator, draft;
};

// What the picture was and became, for people.
std::string picture_text(const BesideValues& values);
Json picture_json(const BesideValues& values);
// A prompt a row of a table, each with its picture and what is expected.
int generate_each(GenerateSession& session);
// What pictures of other sizes would cost: sizes as --picture-costs says.
struct PictureCost {
  Shape picture;
  int64_t tokens = 0;  // of the prompt
  double picture_seconds = 0, prompt_seconds = 0, token_seconds = 0;
};
std::vector<PictureCost> picture_costs(GenerateSession& session, const std::string& text, const Shape& as_given);
Json costs_json(const std::vector<PictureCost>& costs);
std::string costs_text(const std::vector<PictureCost>& costs);

}  // namespace lathe::cli
