#include "spread/checkpoint.hpp"

#include <fcntl.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstring>

#define XXH_INLINE_ALL
#include <xxhash.h>

#include "base/fail.hpp"
#include "base/files.hpp"

namespace lathe::spread {
namespace {

constexpr std::string_view kHead = "lathe checkpoint 1 ";

struct Record {
  uint64_t begin = 0, end = 0, bytes = 0, check = 0;
};

uint64_t check_of(const Record& r, std::string_view result) {
  return XXH3_64bits_withSeed(result.data(), result.size(), XXH3_64bits(&r, 3 * sizeof(uint64_t)));
}

}  // namespace

Checkpoint::Checkpoint(const std::filesystem::path& path, const std::string& job, size_t items,
                       const std::function<void(const Piece&, std::string_view)>& take)
    : path_(path) {
  const std::string head = fmt::format("{}{:016x} {}\n", kHead, XXH3_64bits(job.data(), job.size()), items);
  std::string text;
  std::error_code ec;
  if (std::filesystem::exists(path, ec) && std::filesystem::file_size(path, ec) > 0) text = read_file(path);
  if (!text.empty() && !text.starts_with(kHead))
    fail(Category::format, "{}: is no checkpoint; it is left as it is: name another file", path.string());
  if (!text.empty() && !text.starts_with(head))
    fail(Category::value, "{}: is of another job (another model, other data or options); name another file, or remove it", path.string());
  size_t good = text.empty() ? 0 : head.size();
  while (good > 0 && good + sizeof(Record) <= text.size()) {
    Record r;
    std::memcpy(&r, text.data() + good, sizeof r);
    if (r.bytes > text.size() - good - sizeof r || r.begin >= r.end || r.end > items) break;
    const std::string_view result(text.data() + good + sizeof r, r.bytes);
    if (check_of(r, result) != r.check) break;
    const Piece piece{r.begin, r.end};
    if (std::ranges::none_of(held_, [&](const Piece& p) { return p.begin < piece.end && piece.begin < p.end; })) {
      take(piece, result);
      held_.push_back(piece);
    }
    good += sizeof r + r.bytes;
  }
  file_ = ::open(path.c_str(), O_WRONLY | O_CREAT | O_CLOEXEC, 0666);
  if (file_ < 0 || ::ftruncate(file_, static_cast<off_t>(good)) != 0 || ::lseek(file_, 0, SEEK_END) < 0)
    fail(Category::resource, "{}: cannot be written: {}", path.string(), std::strerror(errno));
  if (good == 0) write(head);
}

Checkpoint::~Checkpoint() {
  if (file_ >= 0) ::close(file_);
}

void Checkpoint::write(std::string_view bytes) {
  while (!bytes.empty()) {
    const ssize_t n = ::write(file_, bytes.data(), bytes.size());
    if (n < 0 && errno == EINTR) continue;
    if (n <= 0) fail(Category::resource, "{}: cannot be written: {}", path_.string(), std::strerror(errno));
    bytes.remove_prefix(static_cast<size_t>(n));
  }
  if (::fdatasync(file_) != 0 && errno != EINVAL && errno != EROFS)
    fail(Category::resource, "{}: cannot be written: {}", path_.string(), std::strerror(errno));
}

void Checkpoint::add(const Piece& piece, std::string_view result) {
  Record r{piece.begin, piece.end, result.size(), 0};
  r.check = check_of(r, result);
  std::string record(sizeof r, '\0');
  std::memcpy(record.data(), &r, sizeof r);
  write(record.append(result));
  held_.push_back(piece);
}

}  // namespace lathe::spread
