#include "base/files.hpp"

#include <fcntl.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstring>

#include "base/fail.hpp"

namespace lathe {

std::string read_file(const std::filesystem::path& path) {
  std::error_code ec;
  const auto status = std::filesystem::status(path, ec);
  if (!std::filesystem::exists(status)) fail(Category::format, "{}: no such file", path.string());
  if (std::filesystem::is_directory(status)) fail(Category::format, "{}: is a folder, expected a file", path.string());
  const int fd = ::open(path.c_str(), O_RDONLY | O_CLOEXEC);
  if (fd < 0) fail(Category::format, "{}: cannot be opened: {}", path.string(), std::strerror(errno));
  std::string bytes;
  // A pipe or device has no size: so much at a time.
  constexpr size_t kAtATime = 1 << 16;
  const auto size = std::filesystem::file_size(path, ec);
  size_t have = 0;
  bytes.resize(ec ? kAtATime : size + 1);
  int error = 0;
  for (;;) {
    const ssize_t n = ::read(fd, bytes.data() + have, bytes.size() - have);
    if (n < 0 && errno == EINTR) continue;
    if (n < 0) error = errno;
    if (n <= 0) break;
    have += static_cast<size_t>(n);
    if (have == bytes.size()) bytes.resize(have + std::max(have, kAtATime));
  }
  ::close(fd);
  if (error != 0) fail(Category::format, "{}: cannot be read: {}", path.string(), std::strerror(error));
  bytes.resize(have);
  return bytes;
}

std::filesystem::path target_of(const std::filesystem::path& path) {
  std::error_code ec;
  auto target = path;
  // Also a link to what is not there yet.
  for (int links = 0; links < 40 && std::filesystem::is_symlink(target, ec); ++links)
    target = target.parent_path() / std::filesystem::read_symlink(target, ec);
  if (std::filesystem::exists(target, ec) && !std::filesystem::is_regular_file(target, ec))
    fail(Category::resource, "{}: cannot be written: it is {}", path.string(),
         std::filesystem::is_directory(target, ec) ? "a folder" : "not a plain file");
  return target;
}

void write_file(const std::filesystem::path& path, std::string_view bytes) {
  std::error_code ec;
  const auto status = std::filesystem::status(path, ec);
  const bool stream = std::filesystem::is_character_file(status) || std::filesystem::is_fifo(status);
  const auto target = stream ? path : target_of(path);
  auto temporary = target;
  if (!stream) temporary += fmt::format(".part{}", ::getpid());
  const int fd = ::open(temporary.c_str(), stream ? O_WRONLY | O_CLOEXEC : O_CREAT | O_TRUNC | O_WRONLY | O_CLOEXEC, 0644);
  if (fd < 0) fail(Category::resource, "{}: cannot be written: {}", path.string(), std::strerror(errno));
  const char* at = bytes.data();
  size_t left = bytes.size();
  int error = 0;
  while (left > 0 && error == 0) {
    const ssize_t n = ::write(fd, at, left);
    if (n < 0 && errno != EINTR) error = errno;
    if (n > 0) {
      at += n;
      left -= static_cast<size_t>(n);
    }
  }
  if (error == 0 && ::fsync(fd) != 0 && errno != EINVAL) error = errno;
  if (::close(fd) != 0 && error == 0) error = errno;
  if (error == 0 && !stream && ::rename(temporary.c_str(), target.c_str()) != 0) error = errno;
  if (error != 0) {
    if (!stream) ::unlink(temporary.c_str());
    fail(Category::resource, "{}: cannot be written: {}", path.string(), std::strerror(error));
  }
}

}  // namespace lathe
