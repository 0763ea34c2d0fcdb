#include "tune/apart.hpp"

#include <sys/resource.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cerrno>
#include <chrono>
#include <csignal>
#include <cstring>
#include <thread>

#include "base/fail.hpp"

namespace lathe::tuning {
namespace {

constexpr int kThrew = 1;

[[noreturn]] void be_the_child(const std::function<void()>& f) {
  for (const int signal : {SIGSEGV, SIGBUS, SIGILL, SIGFPE, SIGABRT, SIGINT, SIGTERM}) std::signal(signal, SIG_DFL);
  const rlimit no_core{0, 0};
  setrlimit(RLIMIT_CORE, &no_core);
  // Nothing of what stands in the parent's buffers is written twice, no destructor runs.
  try {
    f();
  } catch (...) {
    _exit(kThrew);
  }
  _exit(0);
}

}  // namespace

Ending apart(const std::function<void()>& f, double limit, const std::stop_token& stop) {
  const pid_t child = fork();
  if (child < 0) fail(Category::resource, "no process can be made for a trial: {}", std::strerror(errno));
  if (child == 0) be_the_child(f);
  using Clock = std::chrono::steady_clock;
  const auto began = Clock::now();
  int status = 0;
  bool ended = false;
  // Short waits first: most trials take milliseconds.
  for (auto pause = std::chrono::microseconds(200);; pause = std::min(pause * 2, std::chrono::microseconds(20000))) {
    const pid_t seen = waitpid(child, &status, WNOHANG);
    if (seen == child) break;
    if (seen < 0 && errno != EINTR) return {Ending::How::failed};
    if (!ended && (stop.stop_requested() || std::chrono::duration<double>(Clock::now() - began).count() > limit)) {
      kill(child, SIGKILL);
      ended = true;
    }
    std::this_thread::sleep_for(pause);
  }
  if (ended) return {Ending::How::failed};
  if (WIFSIGNALED(status)) return {Ending::How::crashed, strsignal(WTERMSIG(status))};
  return {WIFEXITED(status) && WEXITSTATUS(status) == 0 ? Ending::How::done : Ending::How::failed};
}

}  // namespace lathe::tuning
