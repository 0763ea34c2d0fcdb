// Lanes as Python sees them: runs let other threads of Python go on, and end when the user interrupts.
#pragma once

#include <atomic>
#include <optional>

#include "arrays.hpp"

namespace lathe_python {

// Ends runs it was given to; may be asked from any thread.
class Stop {
 public:
  void request() { source_.request_stop(); }
  bool requested() const { return source_.stop_requested(); }
  std::stop_token token() const { return source_.get_token(); }

 private:
  std::stop_source source_;
};

class PythonLane {
  class Hold {
   public:
    explicit Hold(std::atomic<bool>& busy) : busy_(busy) {
      if (busy_.exchange(true))
        throw lathe::Error(lathe::Category::value, "this lane is at work in another thread; make a lane for each thread");
    }
    ~Hold() { busy_ = false; }
    Hold(const Hold&) = delete;
    Hold& operator=(const Hold&) = delete;

   private:
    std::atomic<bool>& busy_;
  };
  // One thread at a time; another is refused, not made to wait: it would wait for something that Python may never end.
  template <typename F>
  auto with(F&& f) {
    const Hold hold(busy_);
    return f(lane_);
  }

 public:
  PythonLane(lathe::Program program, int threads) : lane_(std::move(program), threads) {}

  // `inputs`: a mapping of names to arrays, a sequence of arrays in the program's order, or one array for a program with one input.
  // Gives a dict of names to arrays.
  py::dict run(const py::object& inputs, std::optional<double> limit, const Stop* stop, const py::object& progress);
  void bind_output(const std::string& name, const py::object& memory);

  int64_t positions() {
    return with([](lathe::Lane& l) { return l.positions(); });
  }
  void reset() {
    with([](lathe::Lane& l) { l.reset(); });
  }
  void rewind(int64_t n) {
    with([&](lathe::Lane& l) { l.rewind(n); });
  }
  void keep_last(int64_t n) {
    with([&](lathe::Lane& l) { l.keep_last(n); });
  }
  lathe::SavedState save_state() {
    return with([](lathe::Lane& l) { return l.save_state(); });
  }
  void restore_state(const lathe::SavedState& saved) {
    with([&](lathe::Lane& l) { l.restore_state(saved); });
  }
  void time_steps(bool on) {
    with([&](lathe::Lane& l) { l.time_steps(on); });
  }
  std::vector<lathe::StepTime> step_times() {
    return with([](lathe::Lane& l) { return l.step_times(); });
  }
  lathe::Program program() { return lane_.program(); }

 private:
  std::atomic<bool> busy_{false};
  lathe::Lane lane_;
  std::map<std::string, py::object> bound_;  // memory of results, kept alive
};

// Tensors for the inputs of a program, in its order. Throws Error (value) that names what is missing or not there.
std::vector<lathe::Tensor> arranged(const std::vector<lathe::Port>& ports, const py::object& inputs, std::vector<py::object>& held);

}  // namespace lathe_python
