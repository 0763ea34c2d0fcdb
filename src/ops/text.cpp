// String ops: normalising, joining, splitting, matching, and counting n-grams.
#include <algorithm>
#include <clocale>
#include <cwctype>
#include <map>

#if !defined(LATHE_NO_EXPRESSIONS)
#include <re2/re2.h>
#endif

#include "ops/support.hpp"

namespace lathe::ops {
namespace {

// Code points of UTF-8; bytes that are none stand for themselves.
std::u32string decode(const std::string& s) {
  std::u32string out;
  for (size_t i = 0; i < s.size();) {
    const auto c = static_cast<unsigned char>(s[i]);
    const int more = c >= 0xF0 ? 3 : c >= 0xE0 ? 2 : c >= 0xC2 ? 1 : 0;
    char32_t point = more == 3 ? c & 7 : more == 2 ? c & 15 : more == 1 ? c & 31 : c;
    bool good = i + static_cast<size_t>(more) < s.size();
    for (int k = 1; k <= more && good; ++k) {
      good = (static_cast<unsigned char>(s[i + k]) & 0xC0) == 0x80;
      point = point << 6 | (static_cast<unsigned char>(s[i + k]) & 0x3F);
    }
    out.push_back(good ? point : c);
    i += good ? static_cast<size_t>(more) + 1 : 1;
  }
  return out;
}

std::string encode(const std::u32string& s) {
  std::string out;
  for (char32_t c : s) {
    if (c < 0x80) out += static_cast<char>(c);
    else if (c < 0x800) (out += static_cast<char>(0xC0 | c >> 6)) += static_cast<char>(0x80 | (c & 0x3F));
    else if (c < 0x10000)
      ((out += static_cast<char>(0xE0 | c >> 12)) += static_cast<char>(0x80 | (c >> 6 & 0x3F))) += static_cast<char>(0x80 | (c & 0x3F));
    else
      (((out += static_cast<char>(0xF0 | c >> 18)) += static_cast<char>(0x80 | (c >> 12 & 0x3F))) +=
       static_cast<char>(0x80 | (c >> 6 & 0x3F))) += static_cast<char>(0x80 | (c & 0x3F));
  }
  return out;
}

// Unicode case of any script that the C library knows, without touching the process's locale.
locale_t unicode() {
  static const locale_t locale = [] {
    const locale_t l = ::newlocale(LC_CTYPE_MASK, "C.UTF-8", nullptr);
    return l ? l : ::newlocale(LC_CTYPE_MASK, "C", nullptr);
  }();
  return locale;
}

std::string with_case(const std::string& s, bool upper) {
  std::u32string points = decode(s);
  for (char32_t& p : points)
    p = static_cast<char32_t>(upper ? ::towupper_l(static_cast<wint_t>(p), unicode()) : ::towlower_l(static_cast<wint_t>(p), unicode()));
  return encode(points);
}

std::vector<Tensor> normalise(const EvalContext& c) {
  const Tensor& x = c.in(0);
  if (x.rank() != 1 && !(x.rank() == 2 && x.shape()[0] == 1))
    fail(Category::shape, "input is {}, expected a list of strings or one row of them", to_string(x.shape()));
  const std::string action = c.node.text("case_change_action", "NONE");
  if (action != "NONE" && action != "LOWER" && action != "UPPER")
    fail(Category::value, "case_change_action is '{}', expected NONE, LOWER or UPPER", action);
  const bool sensitive = c.node.integer("is_case_sensitive", 0) != 0;
  const auto* stop = c.node.find<std::vector<std::string>>("stopwords");
  std::vector<std::string> stops, out;
  if (stop) {
    for (const auto& s : *stop) stops.push_back(sensitive ? s : with_case(s, false));
  }
  for (const std::string& s : x.as<std::string>()) {
    if (std::find(stops.begin(), stops.end(), sensitive ? s : with_case(s, false)) != stops.end()) continue;
    out.push_back(action == "NONE" ? s : with_case(s, action == "UPPER"));
  }
  if (out.empty()) out.emplace_back();  // nothing left: one empty string
  const int64_t n = static_cast<int64_t>(out.size());
  return {Tensor::from<std::string>(x.rank() == 2 ? Shape{1, n} : Shape{n}, out)};
}

std::vector<std::string> split_text(const std::string& s, const std::string& at, int64_t most) {
  std::vector<std::string> parts;
  if (at.empty()) {  // runs of white space
    size_t i = 0;
    while (true) {
      i = s.find_first_not_of(" \t\n\r\f\v", i);
      if (i == std::string::npos) break;
      if (most >= 0 && static_cast<int64_t>(parts.size()) == most) {
        const size_t end = s.find_last_not_of(" \t\n\r\f\v");
        parts.push_back(s.substr(i, end + 1 - i));
        break;
      }
      const size_t end = std::min(s.find_first_of(" \t\n\r\f\v", i), s.size());
      parts.push_back(s.substr(i, end - i));
      i = end;
    }
    return parts;
  }
  size_t i = 0;
  while (most < 0 || static_cast<int64_t>(parts.size()) < most) {
    const size_t next = s.find(at, i);
    if (next == std::string::npos) break;
    parts.push_back(s.substr(i, next - i));
    i = next + at.size();
  }
  parts.push_back(s.substr(i));
  return parts;
}

std::vector<Tensor> split_strings(const EvalContext& c) {
  const Tensor& x = c.in(0);
  const std::string at = c.node.text("delimiter", "");
  const int64_t most = c.node.integer("maxsplit", -1);
  std::vector<std::vector<std::string>> rows;
  int64_t longest = 0;
  std::vector<int64_t> counts;
  for (const std::string& s : x.as<std::string>()) {
    rows.push_back(split_text(s, at, most));
    counts.push_back(static_cast<int64_t>(rows.back().size()));
    longest = std::max(longest, counts.back());
  }
  Shape shape = x.shape();
  shape.push_back(longest);
  std::vector<std::string> flat;
  check_plain_size(element_count(shape));
  for (auto& row : rows) {
    row.resize(longest);
    flat.insert(flat.end(), row.begin(), row.end());
  }
  return {Tensor::from<std::string>(shape, flat), Tensor::from<int64_t>(x.shape(), counts)};
}

std::vector<Tensor> concat_strings(const EvalContext& c) {
  const Shape shape = broadcast(c.in(0).shape(), c.in(1).shape());
  const auto a = c.in(0).as<std::string>(), b = c.in(1).as<std::string>();
  const auto i = strided_index(shape, broadcast_strides(c.in(0).shape(), shape)),
             j = strided_index(shape, broadcast_strides(c.in(1).shape(), shape));
  std::vector<std::string> out;
  for (size_t k = 0; k < i.size(); ++k) out.push_back(a[i[k]] + b[j[k]]);
  return {Tensor::from<std::string>(shape, out)};
}

std::vector<Tensor> match_strings(const EvalContext& c) {
  const std::string pattern = c.node.text("pattern", "");
#if defined(LATHE_NO_EXPRESSIONS)
  fail(Category::unsupported, "pattern '{}': this build has no regular expressions", pattern);
#else
  // The standard asks for this library's syntax; it takes linear time whatever the pattern.
  RE2::Options options;
  options.set_log_errors(false);
  const RE2 expression(pattern, options);
  if (!expression.ok()) fail(Category::value, "pattern '{}' cannot be read: {}", pattern, expression.error());
  std::vector<int64_t> out;
  for (const std::string& s : c.in(0).as<std::string>()) out.push_back(RE2::FullMatch(s, expression));
  return {narrow<int64_t>(DType::boolean, c.in(0).shape(), out)};
#endif
}

// Counts of the pool's n-grams in each row, read with up to max_skip_count elements left out between those of a gram.
std::vector<Tensor> tf_idf(const EvalContext& c) {
  const Tensor& x = c.in(0);
  const Node& n = c.node;
  const int64_t most = n.integer("max_gram_length", 0), least = n.integer("min_gram_length", 0), skip = n.integer("max_skip_count", 0);
  const auto starts = n.integers("ngram_counts"), columns = n.integers("ngram_indexes");
  check_plausible(columns, "ngram_indexes");
  const std::string mode = n.text("mode", "");
  if (mode != "TF" && mode != "IDF" && mode != "TFIDF") fail(Category::value, "mode is '{}', expected TF, IDF or TFIDF", mode);
  if (least < 1 || most < least || skip < 0 || static_cast<int64_t>(starts.size()) < most)
    fail(Category::value, "gram lengths {}..{}, skip {} and {} ngram_counts do not fit", least, most, skip, starts.size());
  if (x.rank() != 1 && x.rank() != 2) fail(Category::shape, "input is {}, expected one row or a batch of rows", to_string(x.shape()));
  // Elements as numbers: positions of strings in the pool, or the integers themselves.
  std::vector<int64_t> pool, tokens;
  if (x.dtype() == DType::string) {
    const auto* strings = n.find<std::vector<std::string>>("pool_strings");
    if (!strings) fail(Category::value, "pool_strings is missing for an input of strings");
    std::map<std::string, int64_t> ids;
    for (const auto& s : *strings) pool.push_back(ids.try_emplace(s, static_cast<int64_t>(ids.size())).first->second);
    for (const auto& s : x.as<std::string>()) {
      const auto it = ids.find(s);
      tokens.push_back(it == ids.end() ? -1 : it->second);
    }
  } else {
    pool = n.integers("pool_int64s");
    tokens = integers(x);
  }
  std::map<std::vector<int64_t>, int64_t> grams;  // gram -> position among all grams
  int64_t position = 0, width = 0;
  for (size_t k = 0; k < starts.size(); ++k) {
    const int64_t size = static_cast<int64_t>(k) + 1, end = k + 1 < starts.size() ? starts[k + 1] : static_cast<int64_t>(pool.size());
    if (starts[k] < 0 || end > static_cast<int64_t>(pool.size()) || end < starts[k] || (end - starts[k]) % size != 0)
      fail(Category::value, "ngram_counts do not divide a pool of {}", pool.size());
    for (int64_t at = starts[k]; at < end; at += size, ++position) {
      if (size >= least && size <= most) grams[std::vector<int64_t>(pool.begin() + at, pool.begin() + at + size)] = position;
    }
  }
  if (static_cast<int64_t>(columns.size()) != position)
    fail(Category::value, "ngram_indexes has {} entries, the pool {} grams", columns.size(), position);
  for (int64_t k : columns) {
    if (k < 0) fail(Category::value, "ngram_indexes holds {}", k);
    width = std::max(width, k + 1);
  }
  const auto* weights = n.find<std::vector<float>>("weights");
  if (weights && static_cast<int64_t>(weights->size()) != position)
    fail(Category::value, "weights has {} entries, expected {}", weights->size(), position);
  const int64_t length = x.shape().back(), rows = x.rank() == 2 ? x.shape()[0] : 1;
  check_plain_size(rows * width);
  std::vector<double> out(rows * width, 0);
  for (int64_t r = 0; r < rows; ++r) {
    const int64_t* row = tokens.data() + r * length;
    std::vector<int64_t> gram;
    // What is longer than the row, or skips all of it, is found nowhere.
    const int64_t longest = std::min(most, length), widest = std::min(skip, length) + 1;
    for (int64_t size = least; size <= longest; ++size) {
      for (int64_t gap = 1; gap <= (size == 1 ? 1 : widest); ++gap) {
        for (int64_t at = 0; at + (size - 1) * gap < length; ++at) {
          gram.clear();
          for (int64_t i = 0; i < size; ++i) gram.push_back(row[at + i * gap]);
          const auto it = grams.find(gram);
          if (it != grams.end()) out[r * width + columns[it->second]] += 1;
        }
      }
    }
    if (mode == "TF") continue;
    std::vector<double> weight(width, 1);
    if (weights) {
      for (size_t i = 0; i < columns.size(); ++i) weight[columns[i]] = (*weights)[i];
    }
    for (int64_t k = 0; k < width; ++k) {
      double& e = out[r * width + k];
      e = mode == "IDF" ? (e > 0 ? weight[k] : 0) : e * weight[k];
    }
  }
  return {narrow<double>(DType::f32, x.rank() == 2 ? Shape{rows, width} : Shape{width}, out)};
}

bool text(DType d) { return d == DType::string; }

}  // namespace

void add_text(std::vector<OpDef>& out) {
  out.push_back(def(
      "StringNormalizer", 10, 1, 1, Trait::opaque,
      [](InferContext& c) {
        need(c, 0, text, "strings");
        std::optional<Dims> dims = c.dims(0);
        if (dims && !dims->empty()) dims->back() = Dim();
        c.set(0, DType::string, dims);
      },
      normalise));
  out.push_back(def(
      "StringSplit", 20, 1, 1, Trait::opaque,
      [](InferContext& c) {
        need(c, 0, text, "strings");
        std::optional<Dims> dims = c.dims(0);
        if (dims) dims->emplace_back();
        c.set(0, DType::string, dims);
        c.set(1, DType::i64, c.dims(0));
      },
      split_strings, 2));
  out.push_back(def(
      "StringConcat", 20, 2, 2, Trait::opaque,
      [](InferContext& c) {
        need(c, 0, text, "strings");
        need(c, 1, text, "strings");
        c.set(0, DType::string, c.dims(0) && c.dims(1) ? std::optional<Dims>(broadcast(*c.dims(0), *c.dims(1))) : std::nullopt);
      },
      concat_strings));
  out.push_back(def(
      "RegexFullMatch", 20, 1, 1, Trait::opaque,
      [](InferContext& c) {
        need(c, 0, text, "strings");
        c.set(0, DType::boolean, c.dims(0));
      },
      match_strings));
  out.push_back(def(
      "TfIdfVectorizer", 9, 1, 1, Trait::opaque,
      [](InferContext& c) {
        std::optional<Dims> dims = c.dims(0);
        if (dims && !dims->empty()) {
          int64_t width = 0;
          const auto columns = c.node().integers("ngram_indexes");
          check_plausible(columns, "ngram_indexes");
          for (int64_t k : columns) width = std::max(width, k + 1);
          dims->back() = Dim(width);
        }
        c.set(0, DType::f32, dims);
      },
      tf_idf));
}

}  // namespace lathe::ops
