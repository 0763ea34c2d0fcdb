// Vocabularies: exact both ways on any bytes, and what is wrong with a file is said with its line.
#include <algorithm>
#include <fmt/format.h>
#include <random>

#include "lathe/text.hpp"
#include "support.hpp"

using namespace test;

namespace {

// As the documented rule has it, the slow way: of all neighbours the pair of the lowest rank is joined, of equal ones the leftmost.
std::vector<std::string> joined(std::string_view piece, const std::vector<std::pair<std::string, std::string>>& merges) {
  std::vector<std::string> parts;
  for (const char c : piece) parts.emplace_back(1, c);
  while (true) {
    size_t best = merges.size(), at = 0;
    for (size_t i = 0; i + 1 < parts.size(); ++i) {
      for (size_t m = 0; m < best; ++m) {
        if (merges[m].first == parts[i] && merges[m].second == parts[i + 1]) best = m, at = i;
      }
    }
    if (best == merges.size()) return parts;
    parts[at] += parts[at + 1];
    parts.erase(parts.begin() + static_cast<ptrdiff_t>(at) + 1);
  }
}

std::string escaped_byte(int c) { return fmt::format("\\x{:02x}", c); }

std::string all_bytes() {
  std::string lines;
  for (int c = 0; c < 256; ++c) lines += escaped_byte(c) + "\n";
  return lines;
}

std::string refused(const std::string& text) {
  return error_of([&] { Vocabulary::parse(text, "words.vocabulary"); });
}

}  // namespace

TEST_CASE("vocabularies give back any bytes") {
  std::mt19937_64 random(5);
  // Pairs, of which merges were made up from letters.
  std::vector<std::pair<std::string, std::string>> merges;
  std::vector<std::string> made;
  std::string tokens = all_bytes();
  for (const char* two : {"a b", "ab a", "b a", "c c", "cc c", "\\x20 a", "ab ab", "aba b", "\\xc3 \\xa4", "1 2"}) {
    const std::string t(two);
    const auto plain = [](std::string s) {
      std::string out;
      for (size_t i = 0; i < s.size(); ++i) {
        if (s[i] != '\\') out += s[i];
        else out += static_cast<char>(std::stoi(s.substr(i + 2, 2), nullptr, 16)), i += 3;
      }
      return out;
    };
    merges.emplace_back(plain(t.substr(0, t.find(' '))), plain(t.substr(t.find(' ') + 1)));
    const std::string whole = merges.back().first + merges.back().second;
    if (std::ranges::find(made, whole) == made.end()) {
      made.push_back(whole);
      for (const char c : whole) tokens += escaped_byte(static_cast<unsigned char>(c));
      tokens += "\n";
    }
  }
  std::string file = "lathe vocabulary 1\n# made up\nkind = pairs\n[tokens]\n" + tokens + "[merges]\n";
  for (const char* two : {"a b", "ab a", "b a", "c c", "cc c", "\\x20 a", "ab ab", "aba b", "\\xc3 \\xa4", "1 2"})
    file += std::string(two) + "\n";
  const Vocabulary pairs = Vocabulary::parse(file);
  const Vocabulary again = Vocabulary::parse(pairs.text());
  CHECK(again.text() == pairs.text());
  const Vocabulary bytes = Vocabulary::bytes({{"end", 256}});
  CHECK(bytes.size() == 257);
  const Vocabulary characters =
      Vocabulary::parse("lathe vocabulary 1\nkind = characters\nend = 0\n[tokens]\n<end>\n" + all_bytes() + "\\xc3\\xa4\n");
  const Vocabulary words =
      Vocabulary::parse("lathe vocabulary 1\nkind = words\n[tokens]\n" + all_bytes() + "spindle\nspin\n\\x20board\nboard\nboards\n");
  for (int trial = 0; trial < 3000; ++trial) {
    std::string text;
    const size_t length = random() % 40;
    for (size_t i = 0; i < length; ++i) {
      switch (random() % 4) {
        case 0: text += static_cast<char>(random()); break;
        case 1: text += "abc 12\n"[random() % 7]; break;
        case 2: text += "aab"[random() % 3]; break;
        default: text += random() % 2 ? "\xc3\xa4" : " boards spin";
      }
    }
    for (const Vocabulary& v : {pairs, again, bytes, characters, words}) {
      const auto ids = v.encode(text);
      REQUIRE(v.decode(ids) == text);
      for (const int64_t id : ids) REQUIRE(!v.is_special(id));
    }
    // Pieces of one kind of sign are joined as the rule says.
    const std::string piece = [&] {
      std::string s;
      for (size_t i = 0; i < 1 + random() % 12; ++i) s += "abc"[random() % 3];
      return s;
    }();
    const auto parts = joined(piece, merges);
    const auto ids = pairs.encode(piece);
    REQUIRE(ids.size() == parts.size());
    for (size_t i = 0; i < ids.size(); ++i) CHECK(pairs.token(ids[i]) == parts[i]);
  }
  CHECK(words.encode("spindles boards").size() == 4);  // spindle, s, " board", s
  CHECK(characters
            .encode("\xc3\xa4"
                    "a")
            .size() == 2);
  CHECK(characters.encode("\xc3").size() == 1);
  // Long pieces do not take long.
  CHECK(pairs.decode(pairs.encode(std::string(1 << 20, 'a'))).size() == 1 << 20);
}

TEST_CASE("pieces: merges do not join over the ends of words") {
  const Vocabulary v = Vocabulary::parse("lathe vocabulary 1\nkind = pairs\n[tokens]\n" + all_bytes() +
                                         "a1\n\\x20a\na\\x20\n  \n[merges]\na 1\n\\x20 a\n\\x20 \\x20\n");
  CHECK(v.encode("a1").size() == 2);   // letters and digits are pieces of their own
  CHECK(v.encode("a a").size() == 2);  // a space goes with what follows
  CHECK(v.encode("a  a").size() == 3);
  CHECK(v.encode("a   ").size() == 3);
}

TEST_CASE("what is unknown, and what is wrong with a vocabulary file") {
  const Vocabulary v = Vocabulary::parse("lathe vocabulary 1\nkind = characters\nunknown = 0\nend = 1\n[tokens]\n<unknown>\n<end>\na\nb\n");
  CHECK(v.encode("axb") == std::vector<int64_t>{2, 0, 3});
  CHECK(v.decode(std::vector<int64_t>{2, 0, 1, 3}) == "ab");
  CHECK(v.token(0) == "<unknown>");
  CHECK(*v.special("end") == 1);
  CHECK(!v.special("pad"));
  CHECK(has(error_of([&] { v.decode(std::vector<int64_t>{4}); }), "token 4 is not in the vocabulary, which has 4"));
  const Vocabulary strict = Vocabulary::parse("lathe vocabulary 1\nkind = characters\n[tokens]\na\nb\n");
  CHECK(has(error_of([&] { strict.encode("ab\xc3\xa4"); }), "no token for '\\xc3\\xa4' at byte 2"));
  const std::string head = "lathe vocabulary 1\nkind = words\n";
  CHECK(has(refused(""), "words.vocabulary: line 1: expected 'lathe vocabulary 1'"));
  CHECK(has(refused("lathe vocabulary 2\n"), "line 1"));
  CHECK(has(refused("lathe vocabulary 1\nkind = syllables\n"), "line 2: kind is 'syllables', expected bytes, characters, words or pairs"));
  CHECK(has(refused("lathe vocabulary 1\n[tokens]\na\n"), "does not say its kind"));
  CHECK(has(refused(head), "there are no tokens"));
  CHECK(has(refused(head + "color = 3\n"), "line 3: 'color = 3' is not expected here"));
  CHECK(has(refused(head + "end = x\n"), "line 3: end is 'x', expected the number of a token"));
  CHECK(has(refused(head + "end = 7\n[tokens]\na\n"), "line 3: end is 7, there are 1 tokens"));
  CHECK(has(refused(head + "[tokens]\na\na\n"), "tokens 0 and 1 are both 'a'"));
  CHECK(has(refused(head + "[tokens]\na\n\nb\n"), "token 1 is empty"));
  CHECK(has(refused(head + "[tokens]\na\\q\n"), "line 4: a backslash stands for"));
  CHECK(has(refused(head + "[tokens]\na\nb\nab\n[merges]\na b\n"), "only pairs have merges"));
  const std::string pairs = "lathe vocabulary 1\nkind = pairs\n[tokens]\na\nb\nab\n[merges]\n";
  CHECK(has(refused(pairs + "a c\n"), "line 8: 'c' is no token"));
  CHECK(has(refused(pairs + "ab a\n"), "line 8: 'aba' is no token"));
  CHECK(has(refused(pairs + "ab\n"), "line 8: a merge is two tokens"));
  CHECK(has(refused(pairs + "a b\na b\n"), "line 9: this merge is there already"));
  CHECK(has(refused("lathe vocabulary 1\nkind = characters\n[tokens]\nab\n"), "token 0 is 'ab', which is more than one character"));
  CHECK(has(error_of([&] { Vocabulary::load("nowhere.vocabulary"); }), "nowhere.vocabulary"));
  CHECK(!Vocabulary::of({}));
  CHECK(has(error_of([&] { Vocabulary::of({{kVocabularyKey, "x"}}); }), "metadata 'lathe.vocabulary': line 1"));
}
