// Many sequences in one batch, each at its own length: one ends, and the next takes its place.
#include <cstring>

#include "generate/generator.hpp"

namespace lathe {
namespace {

// A place of the batch. One that is idle runs along until another sequence takes it.
struct Seat {
  size_t prompt = SIZE_MAX;
  std::vector<int64_t> so_far;
  UnitNumbers numbers{1};
  int64_t length = 1;  // entries of the states that are its own: the last ones
  GeneratorClock::time_point first{};
  bool idle() const { return prompt == SIZE_MAX; }
};

}  // namespace

std::vector<Generated> Generator::Impl::side_by_side(std::span<const Prompt> prompts, int64_t width, const GenerateOptions& o,
                                                     const std::function<bool(size_t, int64_t)>& token) {
  const bool grows = std::ranges::any_of(program.states(), [](const StateInfo& s) { return s.axis >= 0; });
  if (stateless) fail(Category::value, "sequences side by side need states, which this model has none of");
  if (grows && (!long_mask || roles.positions.empty()))
    fail(Category::value,
         "sequences side by side differ in length, and the model has no input for {}: give them one after another, or export it with one",
         long_mask ? "where tokens stand" : "what is there");
  if (width > most_sequences) fail(Category::value, "{} sequences side by side: input '{}' takes {}", width, roles.tokens, most_sequences);
  std::string rows_input;
  if (const auto it = program.metadata().find(kInsertKey); it != program.metadata().end())
    rows_input = it->second.substr(std::min(it->second.find(' '), it->second.size() - 1) + 1);
  for (const std::string& name : roles.beside) {
    if (name != rows_input) fail(Category::value, "input '{}' would be another for each sequence: give them one after another", name);
  }
  for (size_t p = 0; p < prompts.size(); ++p) {
    try {
      check_prompt(prompts[p].tokens);
    } catch (const Error& e) {
      fail(e.category(), "prompt {}: {}", p + 1, e.what());
    }
  }
  std::vector<Generated> out(prompts.size());
  std::vector<Seat> seats;
  Lane alone(program, lane.program().options().threads);  // where prompts are read
  std::map<std::string, Tensor> no_rows;                  // what runs of all get: the row for no mark
  size_t next = 0;
  int64_t held = 0;
  const int64_t room = program.options().positions;
  reset();

  // Says a token; whether the sequence goes on.
  const auto say = [&](Seat& s, int64_t t) {
    Generated& g = out[s.prompt];
    if (g.tokens.empty() && g.first_seconds == 0) {
      g.first_seconds = since(s.first);
      s.first = GeneratorClock::now();
    }
    if (stops(o, t)) {
      g.ended = "token";
    } else {
      s.so_far.push_back(t);
      g.tokens.push_back(t);
      if (token && !token(s.prompt, t)) g.ended = "asked";
      else if (static_cast<int64_t>(g.tokens.size()) >= o.most) g.ended = "count";
      else if (grows && room > 0 && s.length + 1 > room) g.ended = "room";
    }
    if (!g.ended.empty()) g.seconds = since(s.first);
    return g.ended.empty();
  };
  const auto choose = [&](Seat& s, int64_t row_of) {
    return say(s, pick(row(row_of), s.so_far, o.sampling, o.sampling.temperature > 0 ? s.numbers.next() : 0));
  };
  const auto drop = [&](size_t seat) {
    std::vector<int64_t> from;
    for (size_t i = 0; i < seats.size(); ++i) {
      if (i != seat) from.push_back(static_cast<int64_t>(i));
    }
    seats.erase(seats.begin() + static_cast<ptrdiff_t>(seat));
    if (seats.empty()) lane.reset(), held = 0;
    else lane.arrange(from);
  };
  // Reads a prompt and seats it, unless its first token ends it.
  const auto begin = [&](size_t p) {
    Seat s;
    s.prompt = p;
    s.numbers = UnitNumbers(o.seed);
    s.so_far = prompts[p].tokens;
    s.first = GeneratorClock::now();
    out[p].prompt = static_cast<int64_t>(s.so_far.size());
    for (const auto& [name, tensor] : prompts[p].beside) given[name] = tensor;
    alone.reset();
    const std::vector<int64_t> none{0};
    const auto count = one_at_a_time ? int64_t{1} : out[p].prompt;
    for (int64_t at = 0; at < out[p].prompt; at += count) {
      const std::vector<int64_t> where{at};
      forward({&alone, 1, count, std::span<const int64_t>(s.so_far).subspan(static_cast<size_t>(at), static_cast<size_t>(count)), where,
               none, at},
              o.run);
    }
    s.length = out[p].prompt;
    if (o.most <= 0) {
      out[p].ended = "count";
      return;
    }
    if (!choose(s, 0)) return;
    const auto idle = std::ranges::find_if(seats, &Seat::idle);
    if (idle != seats.end()) drop(static_cast<size_t>(idle - seats.begin()));
    lane.join(alone.save_state());
    held = std::max(held, s.length);
    seats.push_back(std::move(s));
  };
  const auto living = [&] { return std::ranges::count_if(seats, [](const Seat& s) { return !s.idle(); }); };
  while (true) {
    while (next < prompts.size() && living() < width) begin(next++);
    const auto alive = living();
    if (alive == 0) break;
    // With nothing to come, the batch shrinks by halves: each size is an edition of its own.
    while (next == prompts.size() && static_cast<int64_t>(seats.size()) > alive && 2 * alive <= static_cast<int64_t>(seats.size())) {
      for (size_t i = seats.size(); i-- > 0 && static_cast<int64_t>(seats.size()) > alive;) {
        if (seats[i].idle()) drop(i);
      }
    }
    if (grows) {  // what is in front of the longest is nobody's
      int64_t longest = 1;
      for (const Seat& s : seats) longest = std::max(longest, s.length);
      if (longest < held) lane.keep_last(held = longest);
    }
    const auto batch = static_cast<int64_t>(seats.size());
    std::vector<int64_t> ids, at, hidden;
    for (Seat& s : seats) {
      if (s.idle()) s.length = 1;
      ids.push_back(s.idle() ? 0 : s.so_far.back());
      at.push_back(s.length);
      hidden.push_back(grows ? held - s.length : 0);
    }
    for (const std::string& name : roles.beside) {
      Tensor& rows = no_rows[name];
      if (rows.empty()) {
        rows = Tensor(given.at(name).dtype(), {1, given.at(name).shape().back()});
        std::memset(rows.data(), 0, rows.byte_size());
      }
      given[name] = rows;
    }
    forward({&lane, batch, 1, ids, at, hidden, held}, o.run);
    ++held;
    for (size_t i = 0; i < seats.size(); ++i) {
      ++seats[i].length;
      if (seats[i].idle()) continue;
      if (!choose(seats[i], static_cast<int64_t>(i))) seats[i] = Seat{};
    }
  }
  return out;
}

}  // namespace lathe
