// Many sequences in one batch, each at its own length: one ends, and the next takes its place.
#include <cstring>

#include "generate/generator.hpp"

namespace lathe {
namespace {

// The input that holds rows of a picture; "": there is none.
std::string rows_input(const std::map<std::string, std::string>& metadata) {
  const auto it = metadata.find(kInsertKey);
  const size_t space = it == metadata.end() ? std::string::npos : it->second.find(' ');
  return space == std::string::npos ? "" : it->second.substr(space + 1);
}

}  // namespace

// Sequences end together in the states: one that is shorter than the longest has entries in front that are not its own, which the mask
// hides.
class Generator::Impl::SideBySide {
 public:
  using Hear = std::function<bool(size_t, int64_t)>;

  SideBySide(Impl& g, std::span<const Prompt> prompts, int64_t width, const GenerateOptions& o, const Hear& token)
      : g_(g), prompts_(prompts), width_(width), o_(o), token_(token), out_(prompts.size()), alone_(g.program), before_(g.given) {
    grows_ = std::ranges::any_of(g.program.states(), [](const StateInfo& s) { return s.axis >= 0; });
    check();
  }
  ~SideBySide() { g_.given = before_; }
  SideBySide(const SideBySide&) = delete;

  std::vector<Generated> run() {
    g_.reset();
    while (true) {
      while (next_ < prompts_.size() && living() < width_) begin(next_++);
      if (living() == 0) return std::move(out_);
      shrink();
      trim();
      step();
    }
  }

 private:
  // A place of the batch. One that is idle runs along until another sequence takes it.
  struct Seat {
    size_t prompt = SIZE_MAX;
    std::vector<int64_t> so_far;
    UnitNumbers numbers{1};
    int64_t length = 1;  // entries of the states that are its own: the last ones
    Clock::time_point since{};
    bool idle() const { return prompt == SIZE_MAX; }
  };

  void check() const {
    if (g_.stateless) fail(Category::value, "sequences side by side need states, which this model has none of");
    if (grows_ && (!g_.long_mask || g_.roles.positions.empty()))
      fail(Category::value,
           "sequences side by side differ in length, and the model has no input for {}: give them one after another, or export it with one",
           g_.long_mask ? "where tokens stand" : "what is there");
    if (width_ > g_.most_sequences)
      fail(Category::value, "{} sequences side by side: input '{}' takes {}", width_, g_.roles.tokens, g_.most_sequences);
    for (const std::string& name : g_.roles.beside) {
      if (name != rows_input(g_.program.metadata()))
        fail(Category::value, "input '{}' would be another for each sequence: give them one after another", name);
    }
    for (size_t p = 0; p < prompts_.size(); ++p) {
      try {
        g_.check_prompt(prompts_[p].tokens);
      } catch (const Error& e) {
        fail(e.category(), "prompt {}: {}", p + 1, e.what());
      }
    }
  }

  int64_t living() const {
    return std::ranges::count_if(seats_, [](const Seat& s) { return !s.idle(); });
  }

  // Says a token; whether the sequence goes on.
  bool say(Seat& s, int64_t t) {
    Generated& g = out_[s.prompt];
    if (g.tokens.empty() && g.first_seconds == 0) {
      g.first_seconds = since(s.since);
      s.since = Clock::now();
    }
    const int64_t room = g_.program.options().positions;
    if (stops(o_, t)) {
      g.ended = "token";
    } else {
      s.so_far.push_back(t);
      g.tokens.push_back(t);
      if (token_ && !token_(s.prompt, t)) g.ended = "asked";
      else if (static_cast<int64_t>(g.tokens.size()) >= o_.most) g.ended = "count";
      else if (grows_ && room > 0 && s.length + 1 > room) g.ended = "room";
    }
    if (!g.ended.empty()) g.seconds = since(s.since);
    return g.ended.empty();
  }
  bool choose(Seat& s, int64_t row) {
    return say(s, pick(g_.row(row), s.so_far, o_.sampling, o_.sampling.temperature > 0 ? s.numbers.next() : 0));
  }

  void drop(size_t seat) {
    std::vector<int64_t> from;
    for (size_t i = 0; i < seats_.size(); ++i) {
      if (i != seat) from.push_back(static_cast<int64_t>(i));
    }
    seats_.erase(seats_.begin() + static_cast<ptrdiff_t>(seat));
    if (seats_.empty()) g_.lane.reset(), held_ = 0;
    else g_.lane.arrange(from);
  }

  // Reads a prompt by itself and seats it, unless its first token ends it.
  void begin(size_t p) {
    Seat s;
    s.prompt = p;
    s.numbers = UnitNumbers(o_.seed);
    s.so_far = prompts_[p].tokens;
    s.since = Clock::now();
    Generated& g = out_[p];
    g.prompt = s.length = static_cast<int64_t>(s.so_far.size());
    g_.given = before_;
    for (const auto& [name, tensor] : prompts_[p].beside) g_.given[name] = tensor;
    alone_.reset();
    const int64_t none[]{0}, count = g_.one_at_a_time ? 1 : g.prompt;
    for (int64_t at = 0; at < g.prompt; at += count)
      g_.forward({&alone_, 1, count, std::span<const int64_t>(s.so_far).subspan(static_cast<size_t>(at), static_cast<size_t>(count)),
                  std::span(&at, 1), none, at},
                 o_.run);
    if (o_.most <= 0) {
      g.ended = "count";
      return;
    }
    if (!choose(s, 0)) return;
    const auto idle = std::ranges::find_if(seats_, &Seat::idle);
    if (idle != seats_.end()) drop(static_cast<size_t>(idle - seats_.begin()));
    g_.lane.join(alone_.save_state());
    held_ = std::max(held_, s.length);
    seats_.push_back(std::move(s));
  }

  // With nothing to come, the batch shrinks by halves: each size is an edition of its own.
  void shrink() {
    const int64_t alive = living();
    if (next_ < prompts_.size() || 2 * alive > static_cast<int64_t>(seats_.size())) return;
    for (size_t i = seats_.size(); i-- > 0;) {
      if (seats_[i].idle()) drop(i);
    }
  }

  // What is in front of the longest is nobody's.
  void trim() {
    int64_t longest = 1;
    for (const Seat& s : seats_) longest = std::max(longest, s.length);
    if (grows_ && longest < held_) g_.lane.keep_last(held_ = longest);
  }

  // Rows of pictures have been read: a run of all gets the one for no mark.
  void give_no_rows() {
    for (const std::string& name : g_.roles.beside) {
      const Tensor& given = g_.given.at(name);
      if (given.rank() != 2) fail(Category::shape, "input '{}' is {}, expected rows", name, to_string(given.shape()));
      if (given.shape()[0] == 1) continue;
      Tensor row(given.dtype(), {1, given.shape()[1]});
      std::memset(row.data(), 0, row.byte_size());
      g_.given[name] = row;
    }
  }

  void step() {
    std::vector<int64_t> ids, at, hidden;
    for (Seat& s : seats_) {
      if (s.idle()) s.length = 1;
      ids.push_back(s.idle() ? 0 : s.so_far.back());
      at.push_back(s.length);
      hidden.push_back(grows_ ? held_ - s.length : 0);
    }
    give_no_rows();
    g_.forward({&g_.lane, static_cast<int64_t>(seats_.size()), 1, ids, at, hidden, held_}, o_.run);
    ++held_;
    for (size_t i = 0; i < seats_.size(); ++i) {
      ++seats_[i].length;
      if (!seats_[i].idle() && !choose(seats_[i], static_cast<int64_t>(i))) seats_[i] = Seat{};
    }
  }

  Impl& g_;
  const std::span<const Prompt> prompts_;
  const int64_t width_;
  const GenerateOptions& o_;
  const Hear& token_;
  std::vector<Generated> out_;
  Lane alone_;                                  // where prompts are read
  const std::map<std::string, Tensor> before_;  // what the inputs beside the tokens were given
  bool grows_ = false;
  std::vector<Seat> seats_;
  size_t next_ = 0;
  int64_t held_ = 0;  // positions in the states
};

std::vector<Generated> Generator::Impl::side_by_side(std::span<const Prompt> prompts, int64_t width, const GenerateOptions& o,
                                                     const std::function<bool(size_t, int64_t)>& token) {
  return SideBySide(*this, prompts, width, o, token).run();
}

}  // namespace lathe
