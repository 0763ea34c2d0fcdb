#include <chrono>
#include <condition_variable>
#include <cstring>
#include <deque>
#include <exception>
#include <mutex>
#include <thread>

#include "base/fail.hpp"
#include "base/log.hpp"
#include "lathe/spread.hpp"
#include "spread/checkpoint.hpp"
#include "spread/pieces.hpp"

namespace lathe {
namespace {

using spread::Checkpoint;
using spread::Piece;
using spread::Pieces;

double now() { return std::chrono::duration<double>(std::chrono::steady_clock::now().time_since_epoch()).count(); }

// Messages: what, of which call of share_out, a piece, and more.
enum class What : uint8_t { ready, gave, threw, piece, wait, stop, over, bye };
struct Head {
  uint64_t what = 0, call = 0, begin = 0, end = 0;
};
std::string message(What what, uint64_t call, Piece piece = {}, std::string_view more = {}) {
  const Head h{static_cast<uint64_t>(what), call, piece.begin, piece.end};
  std::string bytes(sizeof h, '\0');
  std::memcpy(bytes.data(), &h, sizeof h);
  return bytes.append(more);
}
struct Letter {
  What what;
  uint64_t call;
  Piece piece;
  std::string_view more;
};
std::optional<Letter> read(std::string_view bytes) {
  Head h;
  if (bytes.size() < sizeof h) return std::nullopt;
  std::memcpy(&h, bytes.data(), sizeof h);
  if (h.what > static_cast<uint64_t>(What::bye)) return std::nullopt;
  return Letter{static_cast<What>(h.what), h.call, {h.begin, h.end}, bytes.substr(sizeof h)};
}

constexpr double kSilence = 600;  // seconds without a word of rank 0, and the others give up
constexpr double kWord = 5;       // it says one this often to those that wait
constexpr double kWaiting = 5;    // for the others at the end

// Rank 0's own part of the work, beside the messages.
class Beside {
 public:
  explicit Beside(const std::function<std::string(size_t, size_t)>& work) : work_(work), thread_([this] { loop(); }) {}
  ~Beside() {
    {
      const std::lock_guard hold(mutex_);
      over_ = true;
    }
    wake_.notify_one();
    thread_.join();
  }
  Beside(const Beside&) = delete;
  Beside& operator=(const Beside&) = delete;
  bool idle() {
    const std::lock_guard hold(mutex_);
    return !piece_ && !result_ && !thrown_;
  }
  void begin(const Piece& piece) {
    {
      const std::lock_guard hold(mutex_);
      piece_ = piece;
    }
    wake_.notify_one();
  }
  // What it has finished; throws what the work threw. Waits some time for it.
  std::optional<std::pair<Piece, std::string>> finished(std::chrono::duration<double> wait) {
    std::unique_lock hold(mutex_);
    done_.wait_for(hold, wait, [&] { return result_ || thrown_; });
    if (thrown_) std::rethrow_exception(std::exchange(thrown_, nullptr));
    return std::exchange(result_, std::nullopt);
  }

 private:
  void loop() {
    std::unique_lock hold(mutex_);
    while (true) {
      wake_.wait(hold, [&] { return over_ || piece_; });
      if (!piece_) return;
      const Piece piece = *piece_;
      hold.unlock();
      std::optional<std::string> result;
      std::exception_ptr thrown;
      try {
        result = work_(piece.begin, piece.end);
      } catch (...) {
        thrown = std::current_exception();
      }
      hold.lock();
      piece_.reset();
      if (result) result_ = {piece, std::move(*result)};
      thrown_ = thrown;
      done_.notify_one();
    }
  }
  const std::function<std::string(size_t, size_t)>& work_;
  std::mutex mutex_;
  std::condition_variable wake_, done_;
  std::optional<Piece> piece_;
  std::optional<std::pair<Piece, std::string>> result_;
  std::exception_ptr thrown_;
  bool over_ = false;
  std::thread thread_;
};

// Pieces with what they gave, one behind another.
void put_result(std::string& to, const Piece& piece, std::string_view result) {
  const uint64_t numbers[]{piece.begin, piece.end, result.size()};
  to.append(reinterpret_cast<const char*>(numbers), sizeof numbers).append(result);
}
void each_result(std::string_view all, const std::function<void(size_t, size_t, std::string_view)>& take) {
  uint64_t numbers[3];
  while (all.size() >= sizeof numbers) {
    std::memcpy(numbers, all.data(), sizeof numbers);
    all.remove_prefix(sizeof numbers);
    const std::string_view result = all.substr(0, numbers[2]);
    take(numbers[0], numbers[1], result);
    all.remove_prefix(result.size());
  }
}

void work_for(Ranks& ranks, uint64_t call, const std::function<std::string(size_t, size_t)>& work,
              const std::function<void(size_t, size_t, std::string_view)>& take) {
  ranks.send(0, message(What::ready, call));
  for (double heard = now();;) {
    const auto m = ranks.receive(1);
    const auto letter = m ? read(m->bytes) : std::nullopt;
    if (letter) heard = now();
    if (now() - heard > kSilence)
      fail(Category::resource, "rank {}: nothing was heard of rank 0 for {:g} s; it seems to be gone", ranks.rank(), kSilence);
    if (!letter) continue;
    if (letter->what == What::over || letter->what == What::bye) fail(Category::cancelled, "rank {}: rank 0 ended the job", ranks.rank());
    if (letter->call != call) continue;
    if (letter->what == What::stop) return each_result(letter->more, take);
    if (letter->what != What::piece) continue;
    try {
      const std::string result = work(letter->piece.begin, letter->piece.end);
      ranks.send(0, message(What::gave, call, letter->piece, result));
    } catch (const Error& e) {
      ranks.send(0, message(What::threw, call, {static_cast<size_t>(e.category()), 0}, fmt::format("rank {}: {}", ranks.rank(), e.what())));
    } catch (const std::exception& e) {
      ranks.send(
          0, message(What::threw, call, {static_cast<size_t>(Category::internal), 0}, fmt::format("rank {}: {}", ranks.rank(), e.what())));
    }
    heard = now();
  }
}

class Sharing {
 public:
  Sharing(const ShareOptions& o, size_t items, size_t multiple, uint64_t call,
          const std::function<void(size_t, size_t, std::string_view)>& take, const std::function<void(size_t)>& progress)
      : ranks_(o.ranks.get()), everyone_(o.everyone), call_(call), count_(ranks_ ? ranks_->count() : 1), take_(take), progress_(progress) {
    std::vector<Piece> held;
    if (!o.checkpoint.empty()) {
      checkpoint_.emplace(o.checkpoint, o.job, items, [&](const Piece& p, std::string_view result) {
        keep(p, result);
        shared_.resumed += static_cast<int64_t>(p.end - p.begin);
      });
      held = checkpoint_->held();
    }
    pieces_.emplace(items, multiple, count_, held);
    shared_.items.assign(static_cast<size_t>(count_), 0);
    if (progress_ && pieces_->items_done() > 0) progress_(pieces_->items_done());
  }

  Shared operator()(const std::function<std::string(size_t, size_t)>& work) {
    try {
      share(work);
    } catch (...) {
      for (int r = 1; r < count_; ++r) ranks_->send(r, message(What::over, call_));
      throw;
    }
    for (int r = 1; r < count_; ++r) ranks_->send(r, message(What::stop, call_, {}, all_));
    shared_.again = pieces_->again();
    shared_.silent = pieces_->silent();
    std::erase(shared_.silent, 0);  // it was slower than somebody else
    return std::move(shared_);
  }

 private:
  void share(const std::function<std::string(size_t, size_t)>& work) {
    Beside own(work);
    double word = now();
    while (!pieces_->all_done()) {
      if (own.idle()) {
        if (const auto piece = pieces_->next(0, now())) own.begin(*piece);
      }
      // Alone there is nobody else to hear of.
      const std::chrono::duration<double> a_moment(count_ > 1 ? 0.0 : 1.0);
      if (auto done = own.finished(a_moment)) give(0, done->first, done->second);
      if (count_ > 1) {
        if (const auto m = ranks_->receive(0.0005)) hear(*m);
      }
      for (auto it = idle_.begin(); it != idle_.end();) {
        const auto piece = pieces_->next(*it, now());
        if (!piece) {
          ++it;
          continue;
        }
        ranks_->send(*it, message(What::piece, call_, *piece));
        it = idle_.erase(it);
      }
      if (count_ > 1 && now() - word > kWord) {
        for (int r = 1; r < count_; ++r) ranks_->send(r, message(What::wait, call_));
        word = now();
      }
    }
  }
  void hear(const Ranks::Message& m) {
    const auto letter = read(m.bytes);
    if (!letter) return;
    if (letter->call < call_) return;  // it has been told that this call is over
    if (letter->what == What::threw)
      throw Error(static_cast<Category>(std::min<size_t>(letter->piece.begin, static_cast<size_t>(Category::internal))),
                  std::string(letter->more));
    if (letter->what == What::gave) give(m.from, letter->piece, letter->more);
    if (letter->what == What::gave || letter->what == What::ready) idle_.push_back(m.from);
  }
  void keep(const Piece& piece, std::string_view result) {
    take_(piece.begin, piece.end, result);
    if (everyone_) put_result(all_, piece, result);
  }
  void give(int rank, const Piece& piece, std::string_view result) {
    if (!pieces_->give(rank, piece, now())) return;
    keep(piece, result);
    if (checkpoint_) checkpoint_->add(piece, result);
    shared_.items[static_cast<size_t>(rank)] += static_cast<int64_t>(piece.end - piece.begin);
    if (progress_) progress_(pieces_->items_done());
  }

  Ranks* ranks_;
  bool everyone_;
  std::string all_;  // results, where everyone gets them
  uint64_t call_;
  int count_;
  const std::function<void(size_t, size_t, std::string_view)>& take_;
  const std::function<void(size_t)>& progress_;
  std::optional<Checkpoint> checkpoint_;
  std::optional<Pieces> pieces_;
  std::deque<int> idle_;
  Shared shared_;
};

}  // namespace

int64_t Shared::all() const {
  int64_t sum = resumed;
  for (const int64_t n : items) sum += n;
  return sum;
}

Shared share_out(const ShareOptions& options, size_t items, size_t multiple, const std::function<std::string(size_t, size_t)>& work,
                 const std::function<void(size_t, size_t, std::string_view)>& take, const std::function<void(size_t)>& progress) {
  const uint64_t call = options.ranks ? ++options.ranks->calls : 1;
  if (options.ranks && options.ranks->rank() > 0) {
    work_for(*options.ranks, call, work, take);
    return {};
  }
  Shared shared = Sharing(options, items, multiple, call, take, progress)(work);
  for (const int r : shared.silent) log_line(LogLevel::warning, "rank {} has not given back what it had; others did it", r);
  return shared;
}

bool part_ways(Ranks& ranks) {
  // Waits for words of parting, so many; the last one's piece says whether rank 0 has heard of all.
  bool all_heard = true;
  const auto wait_for = [&](int others, double seconds) {
    const double until = now() + seconds;
    while (others > 0 && now() < until) {
      const auto m = ranks.receive(0.1);
      const auto letter = m ? read(m->bytes) : std::nullopt;
      if (letter && letter->what == What::bye) --others, all_heard = letter->piece.begin != 0;
    }
    return others == 0;
  };
  bool everyone = true;
  if (ranks.rank() == 0) {
    everyone = wait_for(ranks.count() - 1, kWaiting);
    for (int r = 1; r < ranks.count(); ++r) ranks.send(r, message(What::bye, 0, {everyone ? size_t{1} : 0, 0}));
  } else {
    ranks.send(0, message(What::bye, 0));
    everyone = wait_for(1, kSilence) && all_heard;  // rank 0 may have something to do still
  }
  ranks.end(everyone);
  return everyone;
}

}  // namespace lathe
