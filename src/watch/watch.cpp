// The stages of watching: capture, preparing, running, drawing, and what takes the results in their order.
#include <algorithm>
#include <atomic>
#include <chrono>
#include <condition_variable>
#include <cstring>
#include <deque>
#include <exception>
#include <map>
#include <mutex>
#include <set>
#include <thread>

#include "base/clock.hpp"
#include "base/fail.hpp"
#include "watch/seeing.hpp"

namespace lathe {
namespace {

using watching::Eye;
using watching::Way;

// A frame on its way.
struct Job {
  int64_t order = 0;
  Clock::time_point came;
  Sight sight;
  Way way;
  Tensor input;
  bool parts = false;
};

// Between two stages. A closed queue gives what it holds, then nothing.
template <typename T>
class Queue {
 public:
  explicit Queue(size_t most) : most_(most) {}
  // False when it is closed.
  bool push(T item) {
    std::unique_lock lock(mutex_);
    room_.wait(lock, [&] { return closed_ || items_.size() < most_; });
    if (closed_) return false;
    items_.push_back(std::move(item));
    there_.notify_one();
    return true;
  }
  // Makes room by letting the oldest go; gives how many went.
  int64_t push_latest(T item) {
    const std::lock_guard lock(mutex_);
    if (closed_) return 0;
    int64_t gone = 0;
    while (items_.size() >= most_) items_.pop_front(), ++gone;
    items_.push_back(std::move(item));
    there_.notify_one();
    return gone;
  }
  std::optional<T> pop() {
    std::unique_lock lock(mutex_);
    there_.wait(lock, [&] { return closed_ || !items_.empty(); });
    return take();
  }
  // The next one, when it is there and fits.
  template <typename F>
  std::optional<T> pop_if(F fits) {
    const std::lock_guard lock(mutex_);
    if (items_.empty() || !fits(items_.front())) return std::nullopt;
    return take();
  }
  void close() {
    const std::lock_guard lock(mutex_);
    closed_ = true;
    there_.notify_all();
    room_.notify_all();
  }
  // Closes it, and lets go of what it holds.
  void abandon() {
    const std::lock_guard lock(mutex_);
    closed_ = true;
    items_.clear();
    there_.notify_all();
    room_.notify_all();
  }

 private:
  std::optional<T> take() {
    if (items_.empty()) return std::nullopt;
    std::optional<T> out(std::move(items_.front()));
    items_.pop_front();
    room_.notify_one();
    return out;
  }
  size_t most_;
  std::mutex mutex_;
  std::condition_variable there_, room_;
  std::deque<T> items_;
  bool closed_ = false;
};

class Watching {
 public:
  Watching(const Program& program, FrameSource& source, const WatchOptions& o, const std::function<void(Sight&)>& draw,
           const std::function<void(Sight&)>& take)
      : program_(program),
        source_(source),
        o_(o),
        draw_(draw),
        take_(take),
        lanes_(std::max(1, o.lanes)),
        eye_(program, o),
        // A live source's frames wait in one place, where a newer one can take it.
        came_(o.drop_when_behind ? 1 : static_cast<size_t>(2 * lanes_)),
        prepared_(o.drop_when_behind ? 1 : static_cast<size_t>(2 * lanes_) + static_cast<size_t>(o.batch)),
        seen_(static_cast<size_t>(2 * lanes_)),
        most_under_way_(lanes_ * (8 + 2 * o.batch) + 4) {
    if (o.batch < 1 || o.batch > 4096) fail(Category::value, "a batch of {} frames, expected 1 to 4096", o.batch);
    if (o.lanes > 256) fail(Category::value, "{} lanes, expected up to 256", o.lanes);
    if (o.tile != 0 && (o.tile < 8 || o.overlap < 0 || 2 * o.overlap >= o.tile))
      fail(Category::value, "parts of {} pixels that share {} with each neighbour: expected at least 8, and less than half of it", o.tile,
           o.overlap);
    const Dims dims = program.inputs()[0].dims.value_or(Dims());
    const Dim lead = dims.empty() ? Dim() : dims[0];
    batch_ = lead.known() ? lead.value : o.batch;
    if (lead.known() && o.batch > 1 && o.batch != lead.value)
      fail(Category::value, "the model takes batches of {} only, not of {}", lead.value, o.batch);
    fixed_batch_ = lead.known();
    names_.reserve(program.outputs().size());
    for (const Port& p : program.outputs()) names_.push_back(p.name);
  }

  WatchReport run() {
    std::vector<std::thread> makers, runners, drawers;
    std::thread source([&] {
      guarded([&] { capture(); });
      came_.close();
    });
    const bool apart = lanes_ == 1 || o_.drop_when_behind;
    for (int i = 0; i < lanes_; ++i) {
      makers.emplace_back([&, apart] { guarded([&] { apart ? prepare() : work(); }); });
      if (!apart) continue;
      runners.emplace_back([&] { guarded([&] { run_lane(); }); });
      drawers.emplace_back([&] {
        guarded([&] {
          while (std::optional<Job> j = seen_.pop()) finish(std::move(*j));
        });
      });
    }
    for (std::thread& t : makers) t.join();
    prepared_.close();
    for (std::thread& t : runners) t.join();
    seen_.close();
    for (std::thread& t : drawers) t.join();
    over_ = true;
    came_.abandon();
    source.join();
    if (thrown_) std::rethrow_exception(thrown_);
    report_.sees = eye_.sees();
    report_.form = eye_.form();
    report_.sizes = static_cast<int64_t>(sizes_.size());
    report_.editions = program_.editions_compiled() - editions_before_;
    return report_;
  }

 private:
  // What a stage throws ends all of them.
  template <typename F>
  void guarded(F f) {
    try {
      f();
    } catch (...) {
      const std::lock_guard lock(mutex_);
      if (!thrown_) thrown_ = std::current_exception();
      over_ = true;
      came_.abandon();
      prepared_.abandon();
      seen_.abandon();
      fewer_.notify_all();
    }
  }

  bool stopped() const { return over_ || o_.stop.stop_requested(); }

  void capture() {
    int64_t frames = 0;
    while (!stopped()) {
      std::optional<Frame> f;
      const auto asked = Clock::now();
      try {
        f = source_.next();
      } catch (const Error& e) {
        // What came before it is worth having.
        if (frames == 0) throw;
        report_.ended = e.what();
        return;
      }
      if (frames > 0) report_.waited += since(asked);
      if (!f) return;
      Job j;
      j.came = Clock::now();
      if (frames++ == 0) start_ = j.came;
      j.sight.frame = std::move(*f);
      j.sight.dropped = report_.dropped;
      if (o_.drop_when_behind) report_.dropped += came_.push_latest(std::move(j));
      else if (!came_.push(std::move(j))) return;
    }
  }

  // Frames take their places in the order in which they are taken up, so no more are under way than the results can be put in order.
  std::optional<Job> next_job() {
    const std::lock_guard one(taking_up_);
    {
      std::unique_lock lock(mutex_);
      fewer_.wait(lock, [&] { return over_ || under_way_ < most_under_way_; });
      if (over_) return std::nullopt;
    }
    std::optional<Job> j = came_.pop();
    if (!j) return j;
    const std::lock_guard lock(mutex_);
    // A recorded frame has not come before somebody wants it.
    if (!source_.live()) j->came = Clock::now();
    j->order = taken_up_++;
    ++under_way_;
    return j;
  }

  // Decoded, and fitted into an input; false: it cannot be read. `spare`: an input that is not needed any more, if there is one.
  bool make_ready(Job& j, Tensor spare = {}) {
    Sight& s = j.sight;
    try {
      if (s.frame.pixels.empty()) s.frame.pixels = read_picture(s.frame.file);
    } catch (const Error& e) {
      if (o_.strict) throw;
      s.failed = e.what();
      first_is_done(j.order);
      return false;
    }
    const int64_t h = s.frame.pixels.shape()[0], w = s.frame.pixels.shape()[1];
    {
      const std::lock_guard lock(mutex_);
      sizes_.insert({h, w});
    }
    j.parts = o_.tile > 0 && (h > o_.tile || w > o_.tile);
    if (j.parts) return true;
    find_multiple(h, w);
    j.way = eye_.way_for(h, w);
    const bool fits = spare.dtype() == j.way.options.dtype && spare.shape() == j.way.shape;
    j.input = fits ? std::move(spare) : Tensor(j.way.options.dtype, j.way.shape);
    picture_into(s.frame.pixels, j.way.options, j.input);
    return true;
  }

  bool found() {
    const std::lock_guard lock(mutex_);
    return eye_.found();
  }
  // What the outputs are is found by the first frame that can be read, whichever thread is fastest.
  void wait_for_first(const Job& j) {
    std::unique_lock lock(mutex_);
    fewer_.wait(lock, [&] { return over_ || eye_.found() || unreadable_ == j.order; });
  }

  void prepare() {
    while (std::optional<Job> j = next_job()) {
      if (!make_ready(*j)) {
        if (!seen_.push(std::move(*j))) return;
        continue;
      }
      wait_for_first(*j);
      if (!prepared_.push(std::move(*j))) return;
    }
  }

  // All stages of a frame on one thread: with recorded frames and a lane a core there is nothing to overlap, and handing over costs.
  void work() {
    Lane lane(program_, threads());
    std::optional<Job> next;  // one that did not fit into the last batch
    std::vector<Tensor> spare;
    for (;;) {
      std::vector<Job> jobs;
      while (jobs.empty() || static_cast<int64_t>(jobs.size()) < batch_) {
        std::optional<Job> j = next ? std::exchange(next, std::nullopt) : next_job();
        if (!j) break;
        const bool fresh = !j->parts && j->input.empty();
        Tensor old;
        if (fresh && !spare.empty()) old = std::move(spare.back()), spare.pop_back();
        if (fresh && !make_ready(*j, std::move(old))) {
          finish(std::move(*j));
          continue;
        }
        const bool fits = jobs.empty() || (!j->parts && !jobs[0].parts && j->way.shape == jobs[0].way.shape);
        if (!fits) {
          next = std::move(j);
          break;
        }
        jobs.push_back(std::move(*j));
        if (jobs[0].parts || !found()) break;
      }
      if (jobs.empty()) return;
      wait_for_first(jobs[0]);
      if (over_) return;
      if (jobs[0].parts) run_parts(lane, jobs[0]);
      else run_batch(lane, jobs);
      for (Job& j : jobs) {
        if (!j.input.empty()) spare.push_back(std::move(j.input));
        finish(std::move(j));
      }
    }
  }

  // One more frame at the beginning cannot be read.
  void first_is_done(int64_t order) {
    const std::lock_guard lock(mutex_);
    early_.insert(order);
    while (early_.erase(unreadable_) > 0) ++unreadable_;
    fewer_.notify_all();
  }

  // A model of open sizes may still need sides that a number divides; the first picture shows it.
  void find_multiple(int64_t height, int64_t width) {
    std::call_once(sized_, [&] {
      editions_before_ = program_.editions_compiled();
      if (!eye_.open_size() || eye_.multiple() > 1 || program_.inputs().size() != 1) return;
      std::optional<Error> first;
      for (int64_t m = 1; m <= 64; m *= 2) {
        eye_.set_multiple(m);
        try {
          Shape shape = eye_.way_for(height, width).shape;
          if (fixed_batch_) shape[0] = batch_;
          (void)program_.describe({shape});
          return;
        } catch (const Error& e) {
          if (e.category() != Category::shape) throw;
          if (!first) first = e;
        }
      }
      throw *first;
    });
  }

  void run_lane() {
    Lane lane(program_, threads());
    while (std::optional<Job> first = prepared_.pop()) {
      std::vector<Job> jobs;
      jobs.push_back(std::move(*first));
      if (jobs[0].parts) {
        run_parts(lane, jobs[0]);
      } else {
        while (static_cast<int64_t>(jobs.size()) < batch_) {
          auto more = prepared_.pop_if([&](const Job& j) { return !j.parts && j.way.shape == jobs[0].way.shape; });
          if (!more) break;
          jobs.push_back(std::move(*more));
        }
        run_batch(lane, jobs);
      }
      for (Job& j : jobs) {
        j.input = {};
        if (!seen_.push(std::move(j))) return;
      }
    }
  }

  int threads() const {
    if (o_.threads > 0) return o_.threads;
    return std::max(1, program_.options().threads / lanes_);
  }

  void run_batch(Lane& lane, std::vector<Job>& jobs) {
    Tensor input = jobs[0].input;
    const int64_t rows = fixed_batch_ ? batch_ : static_cast<int64_t>(jobs.size());
    if (rows > 1) {
      Shape s = jobs[0].way.shape;
      s[0] = rows;
      input = Tensor(jobs[0].input.dtype(), s);
      const size_t each = jobs[0].input.byte_size();
      for (int64_t r = 0; r < rows; ++r) {
        // Rows that no frame fills repeat the last.
        const Job& j = jobs[static_cast<size_t>(std::min<int64_t>(r, static_cast<int64_t>(jobs.size()) - 1))];
        std::memcpy(static_cast<std::byte*>(input.data()) + static_cast<size_t>(r) * each, j.input.data(), each);
      }
    }
    const Answers out = run_once(lane, input, jobs[0].way);
    for (size_t i = 0; i < jobs.size(); ++i) eye_.see(out, static_cast<int64_t>(i), jobs[i].way, jobs[i].sight);
  }

  void run_parts(Lane& lane, Job& j) {
    const Tensor& pixels = j.sight.frame.pixels;
    const int64_t h = pixels.shape()[0], w = pixels.shape()[1];
    for (const Eye::Part& p : watching::parts_of(h, w, o_.tile, o_.overlap)) {
      if (over_) return;
      Tensor own(DType::u8, {p.height, p.width, 3});
      for (int64_t y = 0; y < p.height; ++y)
        std::memcpy(own.as<uint8_t>().data() + y * p.width * 3, pixels.as<uint8_t>().data() + ((p.top + y) * w + p.left) * 3,
                    static_cast<size_t>(p.width * 3));
      find_multiple(p.height, p.width);
      const Way way = eye_.way_for(p.height, p.width);
      Tensor input = picture_to_tensor(own, way.options);
      if (fixed_batch_ && batch_ > 1) fail(Category::value, "parts of pictures go one by one; the model takes batches of {}", batch_);
      eye_.see_part(run_once(lane, input, way), way, p, j.sight);
    }
    // What lies on a seam is seen from both sides of it.
    if (!j.sight.boxes.empty()) j.sight.boxes = suppress(std::move(j.sight.boxes), o_.detect.suppress);
  }

  Answers run_once(Lane& lane, const Tensor& input, const Way& way) {
    const int before = program_.editions_compiled();
    const auto began = Clock::now();
    const Outputs out = lane.run(std::span<const Tensor>(&input, 1), o_.run);
    const double seconds = since(began);
    Answers a{names_, {}};
    for (size_t i = 0; i < out.size(); ++i) a.tensors.push_back(out[i]);
    const std::lock_guard lock(mutex_);
    if (program_.editions_compiled() > before) report_.compiling += seconds;
    else report_.runs.push_back(seconds);
    eye_.find(a, way);
    fewer_.notify_all();
    return a;
  }

  void finish(Job j) {
    j.sight.latency = since(j.came);
    if (draw_) draw_(j.sight);
    const std::lock_guard one(in_order_);
    waiting_.emplace(j.order, std::move(j));
    // Those that are next take their turn; others wait for it.
    for (auto it = waiting_.find(given_); it != waiting_.end(); it = waiting_.find(given_)) {
      Sight s = std::move(it->second.sight);
      waiting_.erase(it);
      ++given_;
      take_(s);
      const std::lock_guard lock(mutex_);
      ++report_.frames;
      if (!s.failed.empty()) ++report_.failed;
      else report_.latencies.push_back(s.latency);
      report_.seconds = since(start_);
      --under_way_;
      fewer_.notify_all();
    }
  }

  const Program& program_;
  FrameSource& source_;
  const WatchOptions& o_;
  const std::function<void(Sight&)>&draw_, &take_;
  const int lanes_;
  Eye eye_;
  Queue<Job> came_, prepared_, seen_;
  const int64_t most_under_way_;
  int64_t batch_ = 1;
  bool fixed_batch_ = false;
  std::vector<std::string> names_;

  std::atomic<bool> over_ = false;
  std::once_flag sized_;
  int editions_before_ = 0;
  std::mutex taking_up_, in_order_;
  std::mutex mutex_;  // of all that follows
  std::condition_variable fewer_;
  std::exception_ptr thrown_;
  std::set<int64_t> early_;  // unreadable frames beyond the first readable one
  int64_t unreadable_ = 0;   // frames before the first readable one
  int64_t taken_up_ = 0, under_way_ = 0, given_ = 0;
  std::map<int64_t, Job> waiting_;
  std::set<std::pair<int64_t, int64_t>> sizes_;
  Clock::time_point start_ = Clock::now();
  WatchReport report_;
};

}  // namespace

WatchReport watch(const Program& program, FrameSource& source, const WatchOptions& options, const std::function<void(Sight&)>& draw,
                  const std::function<void(Sight&)>& take) {
  return Watching(program, source, options, draw, take).run();
}

}  // namespace lathe
