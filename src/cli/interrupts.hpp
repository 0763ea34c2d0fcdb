// Ctrl-C as a stop token.
#pragma once

#include <csignal>
#include <ctime>
#include <stop_token>
#include <thread>

namespace lathe::cli {

// Ctrl-C ends what a command does, not the process: what was done so far is told.
inline std::stop_source& interrupted() {
  static std::stop_source source;
  return source;
}
class Interrupts {
 public:
  Interrupts() {
    sigemptyset(&set_);
    sigaddset(&set_, SIGINT);
    sigaddset(&set_, SIGTERM);
    pthread_sigmask(SIG_BLOCK, &set_, nullptr);
    waiter_ = std::jthread([this](const std::stop_token& stop) {
      const timespec nap{0, 100'000'000};
      while (!stop.stop_requested()) {
        if (sigtimedwait(&set_, nullptr, &nap) <= 0) continue;
        interrupted().request_stop();
        // A second one is meant.
        pthread_sigmask(SIG_UNBLOCK, &set_, nullptr);
        return;
      }
    });
  }

 private:
  sigset_t set_;
  std::jthread waiter_;
};

}  // namespace lathe::cli
