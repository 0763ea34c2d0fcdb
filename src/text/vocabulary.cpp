#include <algorithm>
#include <array>
#include <charconv>
#include <queue>
#include <unordered_map>

#include "base/fail.hpp"
#include "base/files.hpp"
#include "lathe/text.hpp"

namespace lathe {

namespace {

constexpr std::array kSpecials{"begin", "end", "pad", "unknown"};
constexpr std::array<std::string_view, 4> kKinds{"bytes", "characters", "words", "pairs"};
constexpr int64_t kMostTokens = int64_t{1} << 24;
constexpr size_t kLongestToken = 1024;

std::string escaped(std::string_view bytes, bool spaces) {
  std::string out;
  for (size_t i = 0; i < bytes.size(); ++i) {
    const auto c = static_cast<unsigned char>(bytes[i]);
    const bool edge = i == 0 || i + 1 == bytes.size();
    if (c == '\n') out += "\\n";
    else if (c == '\t') out += "\\t";
    else if (c == '\r') out += "\\r";
    else if (c == '\\') out += "\\\\";
    else if (c < 0x20 || c >= 0x7f || (c == ' ' && (spaces || edge)) || (i == 0 && (c == '[' || c == '#')))
      out += fmt::format("\\x{:02x}", c);
    else out += bytes[i];
  }
  return out;
}

int hex(char c) { return c >= '0' && c <= '9' ? c - '0' : c >= 'a' && c <= 'f' ? c - 'a' + 10 : c >= 'A' && c <= 'F' ? c - 'A' + 10 : -1; }

std::optional<std::string> unescaped(std::string_view s) {
  std::string out;
  for (size_t i = 0; i < s.size(); ++i) {
    if (s[i] != '\\') {
      out += s[i];
      continue;
    }
    if (++i == s.size()) return std::nullopt;
    switch (s[i]) {
      case 'n': out += '\n'; break;
      case 't': out += '\t'; break;
      case 'r': out += '\r'; break;
      case '\\': out += '\\'; break;
      case 'x':
        if (i + 2 >= s.size() || hex(s[i + 1]) < 0 || hex(s[i + 2]) < 0) return std::nullopt;
        out += static_cast<char>(hex(s[i + 1]) * 16 + hex(s[i + 2]));
        i += 2;
        break;
      default: return std::nullopt;
    }
  }
  return out;
}

// Bytes of the character that begins here; 1 where it is no whole character of UTF-8.
size_t character(std::string_view s, size_t at) {
  const auto byte = [&](size_t i) { return static_cast<unsigned char>(s[i]); };
  const unsigned char c = byte(at);
  const size_t n = c < 0x80 ? 1 : c >= 0xc2 && c < 0xe0 ? 2 : c >= 0xe0 && c < 0xf0 ? 3 : c >= 0xf0 && c < 0xf5 ? 4 : 1;
  if (at + n > s.size()) return 1;
  for (size_t i = 1; i < n; ++i) {
    if ((byte(at + i) & 0xc0) != 0x80) return 1;
  }
  return n;
}

enum class Class { space, letter, digit, other };
Class class_of(char c) {
  if (c == ' ' || c == '\n' || c == '\t' || c == '\r') return Class::space;
  if (c >= '0' && c <= '9') return Class::digit;
  if ((c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || static_cast<unsigned char>(c) >= 0x80) return Class::letter;
  return Class::other;
}

// Where the piece that begins at `at` ends: letters, digits or other signs, with one space in front of them; or white space up to the last
// one before what follows.
size_t piece_end(std::string_view s, size_t at) {
  size_t i = at;
  if (class_of(s[i]) == Class::space) {
    while (i < s.size() && class_of(s[i]) == Class::space) ++i;
    if (i == s.size() || s[i - 1] != ' ') return i;
    if (i - 1 > at) return i - 1;
  }
  const Class c = class_of(s[i]);
  while (i < s.size() && class_of(s[i]) == c) ++i;
  return i;
}

}  // namespace

struct Vocabulary::Impl {
  Kind kind = Kind::bytes;
  std::vector<std::string> tokens;  // special ones are empty
  std::map<std::string, int64_t, std::less<>> special;
  std::unordered_map<std::string_view, int64_t> ids;  // into `tokens`
  std::array<int64_t, 256> byte_ids{};                // -1: that byte alone is no token
  size_t longest = 1;
  struct Merge {
    int64_t rank, made;
  };
  std::unordered_map<uint64_t, Merge> merges;
  std::vector<std::pair<int64_t, int64_t>> merge_list;

  static uint64_t pair(int64_t a, int64_t b) { return static_cast<uint64_t>(a) << 32 | static_cast<uint64_t>(b); }

  bool is_special(int64_t id) const {
    return std::ranges::any_of(special, [&](const auto& s) { return s.second == id; });
  }

  void index() {
    byte_ids.fill(-1);
    for (size_t i = 0; i < tokens.size(); ++i) {
      const std::string& t = tokens[i];
      if (t.empty()) continue;
      ids.emplace(t, static_cast<int64_t>(i));
      longest = std::max(longest, t.size());
      if (t.size() == 1) byte_ids[static_cast<unsigned char>(t[0])] = static_cast<int64_t>(i);
    }
  }

  [[noreturn]] void unsayable(std::string_view text, size_t at) const {
    const std::string_view what = text.substr(at, character(text, at));
    fail(Category::value, "the vocabulary has no token for '{}' at byte {} of the text, none for its bytes, and none for what is unknown",
         escaped(what, false), at);
  }

  // The character at `at` by its bytes, or as unknown; moves on.
  void by_bytes(std::string_view text, size_t& at, std::vector<int64_t>& out) const {
    const size_t n = character(text, at);
    bool all = true;
    for (size_t i = 0; i < n; ++i) all = all && byte_ids[static_cast<unsigned char>(text[at + i])] >= 0;
    if (all) {
      for (size_t i = 0; i < n; ++i) out.push_back(byte_ids[static_cast<unsigned char>(text[at + i])]);
    } else if (const auto it = special.find("unknown"); it != special.end()) {
      out.push_back(it->second);
    } else {
      unsayable(text, at);
    }
    at += n;
  }

  // The longest token at each place.
  void longest_first(std::string_view text, std::vector<int64_t>& out) const {
    for (size_t at = 0; at < text.size();) {
      size_t n = std::min(longest, text.size() - at);
      auto it = ids.end();
      for (; n > 0 && it == ids.end(); --n) it = ids.find(text.substr(at, n));
      if (it == ids.end()) {
        by_bytes(text, at, out);
      } else {
        out.push_back(it->second);
        at += it->first.size();
      }
    }
  }

  // The pair of the lowest rank is joined, again and again; of equal ones the leftmost.
  void join(std::string_view piece, size_t from, std::string_view text, std::vector<int64_t>& out) const {
    struct Part {
      int64_t id;
      int before, after;
      bool alive;
    };
    std::vector<Part> parts;
    for (size_t i = 0; i < piece.size(); ++i) {
      const int64_t id = byte_ids[static_cast<unsigned char>(piece[i])];
      if (id < 0) {
        const auto unknown = special.find("unknown");
        if (unknown == special.end()) unsayable(text, from + i);
        parts.push_back({unknown->second, static_cast<int>(i) - 1, static_cast<int>(i) + 1, true});
        continue;
      }
      parts.push_back({id, static_cast<int>(i) - 1, static_cast<int>(i) + 1, true});
    }
    parts.back().after = -1;
    struct Candidate {
      int64_t rank;
      int at;
      int64_t left, right;
      bool operator>(const Candidate& o) const { return rank != o.rank ? rank > o.rank : at > o.at; }
    };
    std::priority_queue<Candidate, std::vector<Candidate>, std::greater<>> queue;
    const auto offer = [&](int at) {
      if (at < 0 || parts[at].after < 0) return;
      const int64_t left = parts[at].id, right = parts[parts[at].after].id;
      if (const auto it = merges.find(pair(left, right)); it != merges.end()) queue.push({it->second.rank, at, left, right});
    };
    for (int i = 0; i < static_cast<int>(parts.size()); ++i) offer(i);
    while (!queue.empty()) {
      const Candidate c = queue.top();
      queue.pop();
      Part& p = parts[c.at];
      if (!p.alive || p.id != c.left || p.after < 0 || parts[p.after].id != c.right) continue;
      Part& gone = parts[p.after];
      p.id = merges.at(pair(c.left, c.right)).made;
      gone.alive = false;
      p.after = gone.after;
      if (p.after >= 0) parts[p.after].before = c.at;
      offer(p.before);
      offer(c.at);
    }
    for (int i = 0; i >= 0; i = parts[i].after) out.push_back(parts[i].id);
  }
};

std::string_view name_of(Vocabulary::Kind kind) { return kKinds[static_cast<size_t>(kind)]; }

Vocabulary Vocabulary::bytes(const std::map<std::string, int64_t>& special) {
  auto v = std::make_shared<Impl>();
  for (int c = 0; c < 256; ++c) v->tokens.emplace_back(1, static_cast<char>(c));
  for (const auto& [name, id] : special) {
    if (std::ranges::find(kSpecials, name) == kSpecials.end() || id < 256 || id >= kMostTokens)
      fail(Category::value, "'{}' = {} is no special token of bytes: expected begin, end, pad or unknown, from 256 on", name, id);
    v->special[name] = id;
    if (static_cast<int64_t>(v->tokens.size()) <= id) v->tokens.resize(static_cast<size_t>(id) + 1);
  }
  v->index();
  return Vocabulary(std::move(v));
}

Vocabulary Vocabulary::parse(std::string_view text, const std::string& name) {
  auto v = std::make_shared<Impl>();
  int64_t line_number = 0;
  const auto refuse = [&](std::string_view why) { fail(Category::format, "{}: line {}: {}", name, line_number, why); };
  enum class Part { head, tokens, merges } part = Part::head;
  bool first = true, tokens_seen = false;
  std::optional<Kind> kind;
  std::vector<std::pair<int64_t, std::pair<std::string, std::string>>> merges;
  std::map<std::string, int64_t> lines_of_special;
  while (!text.empty() || first) {
    const size_t end = text.find('\n');
    std::string_view line = text.substr(0, end);
    text = end == std::string_view::npos ? std::string_view() : text.substr(end + 1);
    ++line_number;
    if (!line.empty() && line.back() == '\r') line.remove_suffix(1);
    if (first) {
      if (line != "lathe vocabulary 1") refuse("expected 'lathe vocabulary 1': this is no vocabulary file, or one of another version");
      first = false;
      continue;
    }
    if (part == Part::head && (line.empty() || line[0] == '#')) continue;
    if (line == "[tokens]") {
      if (tokens_seen) refuse("the tokens are there already");
      part = Part::tokens, tokens_seen = true;
      continue;
    }
    if (line == "[merges]") {
      part = Part::merges;
      continue;
    }
    if (part == Part::head) {
      const size_t equals = line.find('=');
      const auto trimmed = [](std::string_view s) {
        while (!s.empty() && s.front() == ' ') s.remove_prefix(1);
        while (!s.empty() && s.back() == ' ') s.remove_suffix(1);
        return std::string(s);
      };
      const std::string key = trimmed(line.substr(0, equals)),
                        value = equals == std::string_view::npos ? "" : trimmed(line.substr(equals + 1));
      if (key == "kind") {
        const auto it = std::ranges::find(kKinds, value);
        if (it == kKinds.end()) refuse(fmt::format("kind is '{}', expected bytes, characters, words or pairs", value));
        kind = static_cast<Kind>(it - kKinds.begin());
      } else if (std::ranges::find(kSpecials, key) != kSpecials.end()) {
        int64_t id = -1;
        const auto [ptr, ec] = std::from_chars(value.data(), value.data() + value.size(), id);
        if (ec != std::errc() || ptr != value.data() + value.size() || id < 0 || id >= kMostTokens)
          refuse(fmt::format("{} is '{}', expected the number of a token", key, value));
        v->special[key] = id;
        lines_of_special[key] = line_number;
      } else {
        refuse(fmt::format("'{}' is not expected here: kind, begin, end, pad and unknown are, then [tokens] and [merges]",
                           escaped(line, false)));
      }
      continue;
    }
    if (part == Part::tokens) {
      if (line.empty() && text.empty()) continue;
      if (static_cast<int64_t>(v->tokens.size()) >= kMostTokens) refuse("there are too many tokens");
      const auto token = unescaped(line);
      if (!token) refuse("a backslash stands for \\n, \\t, \\r, \\\\ or \\xHH");
      if (token->size() > kLongestToken) refuse(fmt::format("a token of {} bytes, {} are the most", token->size(), kLongestToken));
      v->tokens.push_back(*token);
      continue;
    }
    if (line.empty() && text.empty()) continue;
    const size_t space = line.find(' ');
    if (space == std::string_view::npos || line.find(' ', space + 1) != std::string_view::npos)
      refuse("a merge is two tokens with one space between them; spaces inside are written \\x20");
    const auto left = unescaped(line.substr(0, space)), right = unescaped(line.substr(space + 1));
    if (!left || !right || left->empty() || right->empty()) refuse("a merge is two tokens with one space between them");
    merges.emplace_back(line_number, std::pair(*left, *right));
  }
  if (!kind) refuse("it does not say its kind");
  v->kind = *kind;
  if (v->kind == Kind::bytes) {
    if (tokens_seen || !merges.empty()) refuse("bytes need no tokens and no merges");
    return bytes({v->special.begin(), v->special.end()});
  }
  for (const auto& [key, id] : v->special) {
    if (id >= static_cast<int64_t>(v->tokens.size()))
      fail(Category::format, "{}: line {}: {} is {}, there are {} tokens", name, lines_of_special[key], key, id, v->tokens.size());
    v->tokens[static_cast<size_t>(id)].clear();
  }
  if (v->tokens.empty()) refuse("there are no tokens");
  v->index();
  for (size_t i = 0; i < v->tokens.size(); ++i) {
    const std::string& t = v->tokens[i];
    if (t.empty() && !v->is_special(static_cast<int64_t>(i)))
      fail(Category::format, "{}: token {} is empty; only special ones may be", name, i);
    if (!t.empty() && v->ids.at(t) != static_cast<int64_t>(i))
      fail(Category::format, "{}: tokens {} and {} are both '{}'", name, v->ids.at(t), i, escaped(t, false));
    if (v->kind == Kind::characters && !t.empty() && character(t, 0) != t.size())
      fail(Category::format, "{}: token {} is '{}', which is more than one character", name, i, escaped(t, false));
  }
  if (v->kind != Kind::pairs && !merges.empty()) fail(Category::format, "{}: line {}: only pairs have merges", name, merges[0].first);
  for (const auto& [line, both] : merges) {
    const auto a = v->ids.find(both.first), b = v->ids.find(both.second), made = v->ids.find(both.first + both.second);
    for (const auto& [it, text_of] : {std::pair(a, both.first), {b, both.second}, {made, both.first + both.second}}) {
      if (it == v->ids.end()) fail(Category::format, "{}: line {}: '{}' is no token", name, line, escaped(text_of, false));
    }
    const auto rank = static_cast<int64_t>(v->merge_list.size());
    v->merge_list.emplace_back(a->second, b->second);
    if (!v->merges.emplace(Impl::pair(a->second, b->second), Impl::Merge{rank, made->second}).second)
      fail(Category::format, "{}: line {}: this merge is there already", name, line);
  }
  return Vocabulary(std::move(v));
}

Vocabulary Vocabulary::load(const std::filesystem::path& path) { return parse(read_file(path), path.string()); }

std::optional<Vocabulary> Vocabulary::of(const std::map<std::string, std::string>& metadata) {
  const auto it = metadata.find(kVocabularyKey);
  if (it == metadata.end()) return std::nullopt;
  return parse(it->second, fmt::format("metadata '{}'", kVocabularyKey));
}

Vocabulary::Kind Vocabulary::kind() const { return impl_->kind; }
int64_t Vocabulary::size() const { return static_cast<int64_t>(impl_->tokens.size()); }
bool Vocabulary::is_special(int64_t id) const { return impl_->is_special(id); }

std::optional<int64_t> Vocabulary::special(std::string_view name) const {
  const auto it = impl_->special.find(name);
  return it == impl_->special.end() ? std::nullopt : std::optional(it->second);
}

std::vector<int64_t> Vocabulary::encode(std::string_view text) const {
  std::vector<int64_t> out;
  if (impl_->kind == Kind::pairs) {
    for (size_t at = 0; at < text.size();) {
      const size_t end = piece_end(text, at);
      impl_->join(text.substr(at, end - at), at, text, out);
      at = end;
    }
  } else if (impl_->kind == Kind::bytes) {
    for (const char c : text) out.push_back(static_cast<unsigned char>(c));
  } else {
    impl_->longest_first(text, out);
  }
  return out;
}

std::string Vocabulary::decode(std::span<const int64_t> ids) const {
  std::string out;
  for (const int64_t id : ids) {
    if (id < 0 || id >= size()) fail(Category::value, "token {} is not in the vocabulary, which has {}", id, size());
    out += impl_->tokens[static_cast<size_t>(id)];
  }
  return out;
}

std::string Vocabulary::token(int64_t id) const {
  for (const auto& [name, special] : impl_->special) {
    if (special == id) return "<" + name + ">";
  }
  return decode(std::span(&id, 1));
}

std::string Vocabulary::text() const {
  std::string out = fmt::format("lathe vocabulary 1\nkind = {}\n", name_of(impl_->kind));
  for (const auto& [name, id] : impl_->special) out += fmt::format("{} = {}\n", name, id);
  if (impl_->kind == Kind::bytes) return out;
  out += "[tokens]\n";
  for (size_t i = 0; i < impl_->tokens.size(); ++i) {
    out += impl_->is_special(static_cast<int64_t>(i)) ? token(static_cast<int64_t>(i)) : escaped(impl_->tokens[i], false);
    out += '\n';
  }
  if (!impl_->merge_list.empty()) out += "[merges]\n";
  for (const auto& [a, b] : impl_->merge_list)
    out +=
        fmt::format("{} {}\n", escaped(impl_->tokens[static_cast<size_t>(a)], true), escaped(impl_->tokens[static_cast<size_t>(b)], true));
  return out;
}

}  // namespace lathe
