// What is done when a rule begins or is over.
#include <fcntl.h>
#include <poll.h>
#include <spawn.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cerrno>
#include <chrono>
#include <csignal>
#include <cstdio>
#include <cstring>
#include <thread>

#include "base/fail.hpp"
#include "lathe/watch.hpp"

extern char** environ;

namespace lathe {
namespace {

namespace fs = std::filesystem;

// At the end of a file, or into a pipe that somebody reads: one write, so that lines of several writers do not mix.
void append(const fs::path& path, std::string line, double limit) {
  line += '\n';
  const auto until = std::chrono::steady_clock::now() + std::chrono::duration<double>(limit);
  const bool pipe = fs::is_fifo(path);
  // Opening a pipe that nobody reads fails instead of waiting for ever.
  int fd = -1;
  for (;;) {
    fd = open(path.c_str(), O_WRONLY | O_CLOEXEC | (pipe ? O_NONBLOCK : O_APPEND | O_CREAT), 0644);
    if (fd >= 0 || !pipe || errno != ENXIO || std::chrono::steady_clock::now() > until) break;
    std::this_thread::sleep_for(std::chrono::milliseconds(20));
  }
  if (fd < 0)
    fail(Category::resource, "{}: cannot be written: {}", path.string(),
         pipe && errno == ENXIO ? fmt::format("nobody has read from this pipe for {:g} seconds", limit) : std::strerror(errno));
  size_t done = 0;
  while (done < line.size()) {
    // A reader that has gone is an error here, not a signal that ends the process.
    sigset_t broken, before;
    sigemptyset(&broken);
    sigaddset(&broken, SIGPIPE);
    pthread_sigmask(SIG_BLOCK, &broken, &before);
    const ssize_t n = write(fd, line.data() + done, line.size() - done);
    const int error = errno;
    const timespec none{};
    if (n < 0 && error == EPIPE) sigtimedwait(&broken, nullptr, &none);
    pthread_sigmask(SIG_SETMASK, &before, nullptr);
    if (n > 0) {
      done += static_cast<size_t>(n);
    } else if (n < 0 && error == EAGAIN && std::chrono::steady_clock::now() < until) {
      pollfd p{fd, POLLOUT, 0};
      poll(&p, 1, 50);
    } else if (!(n < 0 && error == EINTR)) {
      close(fd);
      fail(Category::resource, "{}: cannot be written: {}", path.string(),
           error == EAGAIN ? "its reader does not read" : std::strerror(error));
    }
  }
  close(fd);
}

std::string filled(std::string text, const Happening& h) {
  const auto put = [&](const char* what, const std::string& by) {
    for (size_t at = text.find(what); at != std::string::npos; at = text.find(what, at + by.size()))
      text.replace(at, std::strlen(what), by);
  };
  put("{rule}", h.rule);
  put("{state}", h.begins ? "begins" : "over");
  put("{frame}", h.frame_name);
  put("{time}", fmt::format("{:.3f}", h.time));
  return text;
}

void run_command(const std::vector<std::string>& command, const Happening& h, double limit) {
  std::vector<std::string> words;
  for (const std::string& w : command) words.push_back(filled(w, h));
  std::vector<char*> argv;
  for (std::string& w : words) argv.push_back(w.data());
  argv.push_back(nullptr);
  pid_t pid = 0;
  posix_spawnattr_t how;
  posix_spawnattr_init(&how);
  // In a group of its own, so that what it starts ends with it.
  posix_spawnattr_setflags(&how, POSIX_SPAWN_SETPGROUP);
  posix_spawnattr_setpgroup(&how, 0);
  const int error = posix_spawnp(&pid, argv[0], nullptr, &how, argv.data(), environ);
  posix_spawnattr_destroy(&how);
  if (error != 0) fail(Category::resource, "command '{}': {}", words[0], std::strerror(error));
  const auto until = std::chrono::steady_clock::now() + std::chrono::duration<double>(limit);
  int status = 0;
  for (auto nap = std::chrono::microseconds(200);; nap = std::min(nap * 2, std::chrono::microseconds(20000))) {
    const pid_t done = waitpid(pid, &status, WNOHANG);
    if (done == pid) break;
    if (done < 0 && errno != EINTR) fail(Category::resource, "command '{}': {}", words[0], std::strerror(errno));
    if (std::chrono::steady_clock::now() > until) {
      kill(-pid, SIGKILL);
      while (waitpid(pid, &status, 0) < 0 && errno == EINTR) {
      }
      fail(Category::resource, "command '{}' took more than {:g} seconds and was ended", words[0], limit);
    }
    std::this_thread::sleep_for(nap);
  }
  if (WIFSIGNALED(status)) fail(Category::resource, "command '{}' was ended by signal {}", words[0], WTERMSIG(status));
  if (WEXITSTATUS(status) != 0) fail(Category::resource, "command '{}' ended with exit code {}", words[0], WEXITSTATUS(status));
}

}  // namespace

void act(const Action& a, const Happening& h, const std::vector<std::string>& labels) {
  try {
    if (a.print) {
      const std::string line = happening_json(h, labels) + "\n";
      if (std::fwrite(line.data(), 1, line.size(), stdout) != line.size() || std::fflush(stdout) != 0)
        fail(Category::resource, "standard output: {}", std::strerror(errno));
    }
    if (!a.line.empty()) append(a.line, happening_json(h, labels), a.limit);
    if (!a.actuator.empty())
      append(a.actuator, fmt::format("{:.3f} {} {} {}", h.time, h.begins ? "on" : "off", h.rule, h.frame_name), a.limit);
    if (!a.command.empty()) run_command(a.command, h, a.limit);
  } catch (const Error& e) {
    fail(Category::resource, "rule '{}', frame '{}': {}", h.rule, h.frame_name, e.what());
  }
}

}  // namespace lathe
