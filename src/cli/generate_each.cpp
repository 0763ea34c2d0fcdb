// lathe generate: a table of prompts; what pictures of other sizes would cost.
#include <algorithm>
#include <filesystem>
#include <set>

#include "base/clock.hpp"
#include "base/files.hpp"
#include "base/tables.hpp"
#include "base/text.hpp"
#include "generate.hpp"
#include "interrupts.hpp"

namespace lathe::cli {
namespace {

namespace fs = std::filesystem;

struct Row {
  std::string prompt, picture, expected;
};

struct Rows {
  std::vector<Row> rows;
  bool pictures = false, expected = false;
};

Rows read_rows(const fs::path& file) {
  const auto table = table_rows(read_file(file));
  const std::vector<std::string> known{"prompt", "picture", "expected"};
  Rows out;
  if (table.empty())
    throw Error(Category::format, fmt::format("{}: is empty; expected a header of {}", file.string(), fmt::join(known, ", ")));
  std::vector<int> column(known.size(), -1);
  for (size_t c = 0; c < table[0].size(); ++c) {
    const auto it = std::ranges::find(known, table[0][c]);
    if (it != known.end()) column[static_cast<size_t>(it - known.begin())] = static_cast<int>(c);
  }
  if (column[0] < 0)
    throw Error(Category::format, fmt::format("{}: its header is {}, expected columns {} (others are passed over)", file.string(),
                                              fmt::join(table[0], ","), fmt::join(known, ", ")));
  out.pictures = column[1] >= 0, out.expected = column[2] >= 0;
  for (size_t r = 1; r < table.size(); ++r) {
    if (table[r].size() == 1 && table[r][0].empty()) continue;
    const auto cell = [&](size_t of) {
      if (column[of] < 0) return std::string();
      if (static_cast<size_t>(column[of]) >= table[r].size())
        throw Error(Category::format,
                    fmt::format("{}: line {} has {} cells, the header {}", file.string(), r + 1, table[r].size(), table[0].size()));
      return table[r][static_cast<size_t>(column[of])];
    };
    Row row{cell(0), cell(1), cell(2)};
    if (!row.picture.empty() && fs::path(row.picture).is_relative()) row.picture = (file.parent_path() / row.picture).string();
    out.rows.push_back(std::move(row));
  }
  if (out.rows.empty()) throw Error(Category::format, fmt::format("{}: holds no prompts", file.string()));
  return out;
}

// The first characters of a text, on one line.
std::string on_one_line(std::string text, size_t most) {
  std::ranges::replace(text, '\n', ' ');
  text.erase(0, text.find_first_not_of(' '));
  if (text.size() <= most) return text;
  size_t end = most - 2;
  while (end > 0 && (static_cast<unsigned char>(text[end]) & 0xC0) == 0x80) --end;
  return text.substr(0, end) + "..";
}

}  // namespace

namespace {

struct Made {
  Generated g;
  std::string text;
};

// All of them, so many side by side; those that an interruption cut short are left out.
std::vector<std::optional<Made>> make_all(GenerateSession& s, const Rows& all, double& picture_seconds) {
  const GenerateFlags& o = s.flags;
  std::vector<std::optional<Made>> made(all.rows.size());
  std::vector<Prompt> prompts;
  std::vector<TextStream> streams(all.rows.size(), TextStream(o.stops));
  std::vector<std::string> texts(all.rows.size());
  Progress progress;
  size_t done = 0;
  const auto hear = [&](size_t row, int64_t token) {
    texts[row] += streams[row].add(s.vocabulary->decode(std::span(&token, 1)));
    return !streams[row].stopped() && !interrupted().stop_requested();
  };
  const auto finish = [&](size_t row, Generated g) {
    if (interrupted().stop_requested()) return;
    texts[row] += streams[row].rest();
    if (streams[row].stopped()) g.ended = "text";
    made[row] = Made{std::move(g), texts[row]};
  };
  const auto work = [&] {
    for (size_t i = 0; i < all.rows.size() && !interrupted().stop_requested(); ++i) {
      progress.show(fmt::format("prompt {} of {}", ++done, all.rows.size()));
      const BesideValues beside = s.beside->make(all.rows[i].picture, o.how.run);
      picture_seconds += beside.seconds;
      Prompt p{s.tokens_of(all.rows[i].prompt, beside), {}};
      if (o.side_by_side > 1) {
        for (const NamedTensor& t : beside.values) p.beside[t.name] = t.tensor;
        prompts.push_back(std::move(p));
        continue;
      }
      s.give(beside);
      finish(i, s.generator->run(p.tokens, o.how, [&](int64_t token) { return hear(i, token); }));
    }
    if (prompts.size() < all.rows.size()) return;
    done = 0;
    std::vector<Generated> g = s.generator->run_all(prompts, o.side_by_side, o.how, [&](size_t row, int64_t token) {
      if (texts[row].empty()) progress.show(fmt::format("prompt {} of {}, {} side by side", ++done, all.rows.size(), o.side_by_side));
      return hear(row, token);
    });
    for (size_t i = 0; i < g.size(); ++i) finish(i, std::move(g[i]));
  };
  try {
    as_usage(work);
  } catch (const Error& e) {
    if (e.category() != Category::cancelled || !interrupted().stop_requested()) throw;
  }
  return made;
}

}  // namespace

int generate_each(GenerateSession& s) {
  const GenerateFlags& o = s.flags;
  if (!s.vocabulary) throw UsageError("--each wants a vocabulary that says what tokens stand for");
  const Rows all = read_rows(o.each);
  double picture_seconds = 0;
  const auto start = std::chrono::steady_clock::now();
  const auto made = make_all(s, all, picture_seconds);
  const double seconds = since(start);
  Json results = Json::array();
  Table table(all.expected ? "lll" : "ll",
              all.expected ? std::vector<std::string>{"prompt", "made", ""} : std::vector<std::string>{"prompt", "made"});
  int64_t right = 0, tokens = 0, prompts = 0, rows = 0;
  double first_seconds = 0;
  const bool many = all.rows.size() > 20;
  size_t listed = 0;
  for (size_t i = 0; i < made.size(); ++i) {
    if (!made[i]) continue;
    const Row& row = all.rows[i];
    const auto& [g, text] = *made[i];
    const bool good = text == row.expected;
    right += good;
    ++rows;
    tokens += static_cast<int64_t>(g.tokens.size());
    prompts += g.prompt;
    first_seconds += g.first_seconds;
    Json entry{{"prompt", row.prompt}, {"text", text}, {"tokens", g.tokens}, {"ended", g.ended}};
    if (all.pictures) entry["picture"] = row.picture.empty() ? Json(nullptr) : Json(row.picture);
    if (all.expected) entry["expected"] = row.expected, entry["right"] = good;
    results.push_back(std::move(entry));
    // Of many, the first ones and those that are not as expected.
    if (many && (all.expected ? listed >= 3 && (good || listed >= 20) : listed >= 20)) continue;
    ++listed;
    std::vector<std::string> cells{on_one_line(row.prompt, 30), on_one_line(text, 76)};
    if (all.expected) cells.push_back(good ? "as expected" : verdict_text("differs", false));
    table.row(cells);
    if (all.expected && !good) table.row({"", on_one_line(row.expected, 76), "expected"});
  }
  const Interval share = share_of(right, rows);
  const double rate = seconds > 0 ? static_cast<double>(tokens) / seconds : 0;
  write_json(o.model.json,
             {{"model", o.model.model},
              {"prompts", rows},
              {"side_by_side", o.side_by_side},
              {"prompt_tokens", prompts},
              {"tokens", tokens},
              {"seconds", seconds},
              {"picture_seconds", picture_seconds},
              {"tokens_per_second", rate},
              {"exact_match",
               all.expected ? Json{{"right", right}, {"share", share.value}, {"low", share.low}, {"high", share.high}} : Json(nullptr)},
              {"results", results}});
  if (for_people(o.model.json)) {
    fmt::print("{}", table.text(""));
    if (many && listed < results.size())
      fmt::print("({} prompts; {} shown{})\n", results.size(), listed, all.expected ? ", those that differ among them" : "");
    if (all.expected)
      fmt::print("exact match: {} of {}, {:.1f} % ({:.1f} to {:.1f})\n", right, rows, 100 * share.value, 100 * share.low, 100 * share.high);
    if (rows > 0)
      fmt::print("{} tokens in {}: {:.0f} tokens/s, {} side by side; {}{} a prompt until its first token\n", tokens, seconds_text(seconds),
                 rate, o.side_by_side,
                 picture_seconds > 0 ? seconds_text(picture_seconds / static_cast<double>(rows)) + " a picture, " : "",
                 seconds_text(first_seconds / static_cast<double>(rows)));
  }
  return interrupted().stop_requested() ? kResource : kGood;
}

std::string picture_text(const BesideValues& v) {
  if (v.picture.empty()) return "";
  return fmt::format("as {}: {} tokens, in {}", to_string(v.picture), v.rows, seconds_text(v.seconds));
}

Json picture_json(const BesideValues& v) {
  if (v.picture.empty()) return nullptr;
  return {{"shape", v.picture}, {"tokens", v.rows}, {"seconds", v.seconds}};
}

std::vector<PictureCost> picture_costs(GenerateSession& s, const std::string& text, const Shape& as_given) {
  std::vector<Shape> sizes;
  if (!as_given.empty()) sizes.push_back({as_given[as_given.size() - 2], as_given.back()});
  for (const std::string& one : split(s.flags.picture_costs, ',')) {
    const auto hw = split(one, 'x');
    if (hw.size() != 2) throw UsageError(fmt::format("--picture-costs: '{}' is not HEIGHTxWIDTH", one));
    Shape size;
    for (const std::string& side : hw) {
      size.push_back(parse_size(side, "--picture-costs"));
      if (size.back() < 1 || size.back() > 65536) throw UsageError(fmt::format("--picture-costs: '{}' is out of range (1 to 65536)", one));
    }
    sizes.push_back(std::move(size));
  }
  std::vector<PictureCost> out;
  Progress progress;
  for (const Shape& size : sizes) {
    progress.show(fmt::format("a picture of {}x{}", size[0], size[1]));
    PictureCost c;
    GenerateOptions how = s.flags.how;
    how.most = 9;
    how.stop_tokens.clear();
    for (int round = 0; round < 4; ++round) {  // the first compiles
      const BesideValues v = as_usage([&] { return s.beside->make("", how.run, size); });
      s.give(v);
      const Generated g = as_usage([&] { return s.generator->run(s.tokens_of(text, v), how); });
      const double token = g.tokens.size() > 1 ? g.seconds / static_cast<double>(g.tokens.size() - 1) : 0;
      if (round < 2) c = {v.picture, g.prompt, v.seconds, g.first_seconds, token};
      c.picture_seconds = std::min(c.picture_seconds, v.seconds);
      c.prompt_seconds = std::min(c.prompt_seconds, g.first_seconds);
      c.token_seconds = std::min(c.token_seconds, token);
    }
    out.push_back(std::move(c));
  }
  return out;
}

Json costs_json(const std::vector<PictureCost>& costs) {
  Json j = Json::array();
  for (const PictureCost& c : costs)
    j.push_back({{"shape", c.picture},
                 {"prompt_tokens", c.tokens},
                 {"picture_seconds", c.picture_seconds},
                 {"prompt_seconds", c.prompt_seconds},
                 {"seconds_per_token", c.token_seconds}});
  return j;
}

std::string costs_text(const std::vector<PictureCost>& costs) {
  Table table("lrrrr", {"picture as", "prompt tokens", "picture", "prompt", "a token then"});
  for (const PictureCost& c : costs)
    table.row({to_string(c.picture), std::to_string(c.tokens), seconds_text(c.picture_seconds), seconds_text(c.prompt_seconds),
               seconds_text(c.token_seconds)});
  return table.text();
}

}  // namespace lathe::cli
