// Texts as tokens: vocabularies of bytes, characters, words and byte pairs.
#pragma once

#include <cstdint>
#include <filesystem>
#include <map>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

namespace lathe {

// The metadata key under which a model carries its vocabulary, as the text of a vocabulary file (docs/vocabulary.md).
inline constexpr const char* kVocabularyKey = "lathe.vocabulary";

// Which numbers stand for which texts. Immutable; copies share one.
// Encoding is exact: decoding gives the same bytes back, whatever they are, unless the vocabulary has an `unknown` token and falls back on
// it. Special tokens (begin, end, pad, unknown) are never what a text becomes, and decode to nothing.
class Vocabulary {
 public:
  enum class Kind { bytes, characters, words, pairs };

  // Each byte its own number; what is special comes behind.
  static Vocabulary bytes(const std::map<std::string, int64_t>& special = {});
  // Of the text of a vocabulary file. `name` stands in errors. Throws Error (format), with the line.
  static Vocabulary parse(std::string_view text, const std::string& name = "vocabulary");
  // Throws Error: format, and resource when the file cannot be read.
  static Vocabulary load(const std::filesystem::path& path);
  // What a model carries (Graph::metadata, Program::metadata); nothing when it carries none.
  static std::optional<Vocabulary> of(const std::map<std::string, std::string>& metadata);

  Kind kind() const;
  int64_t size() const;  // numbers are 0 .. size() - 1
  // "begin", "end", "pad", "unknown".
  std::optional<int64_t> special(std::string_view name) const;
  bool is_special(int64_t id) const;
  // Throws Error (value) for what the vocabulary cannot say, with the place.
  std::vector<int64_t> encode(std::string_view text) const;
  // Throws Error (value) for a number that is none of its own.
  std::string decode(std::span<const int64_t> ids) const;
  // The bytes of one token; of a special one its name, in angle brackets.
  std::string token(int64_t id) const;
  // A vocabulary file that gives the same vocabulary.
  std::string text() const;

  struct Impl;
  explicit Vocabulary(std::shared_ptr<const Impl> impl) : impl_(std::move(impl)) {}

 private:
  std::shared_ptr<const Impl> impl_;
};

std::string_view name_of(Vocabulary::Kind kind);

}  // namespace lathe
