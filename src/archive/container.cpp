#include "archive/container.hpp"

#include <fcntl.h>
#include <sys/mman.h>
#include <sys/stat.h>
#include <unistd.h>

#include <bit>
#include <cerrno>
#include <cstdio>
#include <cstring>

#define XXH_INLINE_ALL
#include <xxhash.h>

#include "base/fail.hpp"
#include "base/files.hpp"
#include "base/memory.hpp"

namespace lathe::archive {
namespace {

static_assert(std::endian::native == std::endian::little, "archives are little-endian and used where they are mapped");

// The first kHeaderBytes of a file; `sum` covers what stands before it.
struct Header {
  char magic[8];
  uint32_t version, header_bytes;
  uint64_t file_bytes, index_offset, index_bytes, index_sum, blobs_sum, sum;
};
static_assert(sizeof(Header) == kHeaderBytes);

uint64_t sum_of(const void* data, size_t bytes) { return XXH3_64bits(data, bytes); }

}  // namespace

bool is_archive(const std::filesystem::path& path) {
  std::FILE* in = std::fopen(path.c_str(), "rb");
  if (in == nullptr) return false;
  char magic[8] = {};
  const bool whole = std::fread(magic, 1, sizeof magic, in) == sizeof magic;
  std::fclose(in);
  return whole && std::string_view(magic, sizeof magic) == kMagic;
}

void IndexWriter::number(uint64_t v, int bytes) {
  for (int i = 0; i < bytes; ++i) bytes_.push_back(static_cast<char>(v >> (8 * i)));
}
void IndexWriter::f32(float v) { u32(std::bit_cast<uint32_t>(v)); }
void IndexWriter::f64(double v) { u64(std::bit_cast<uint64_t>(v)); }
void IndexWriter::text(std::string_view v) {
  u64(v.size());
  bytes_.append(v);
}

void IndexReader::refuse(std::string_view what) const { fail(Category::format, "{}: is damaged: {}", name_, what); }
uint64_t IndexReader::number(int bytes) {
  if (bytes_.size() - at_ < static_cast<size_t>(bytes)) refuse("its index ends too early");
  uint64_t v = 0;
  for (int i = 0; i < bytes; ++i) v |= static_cast<uint64_t>(bytes_[at_++]) << (8 * i);
  return v;
}
float IndexReader::f32() { return std::bit_cast<float>(u32()); }
double IndexReader::f64() { return std::bit_cast<double>(u64()); }
size_t IndexReader::count(size_t each) {
  const uint64_t n = u64();
  if (n > (bytes_.size() - at_) / std::max<size_t>(1, each)) refuse("a list in its index is longer than the index");
  return static_cast<size_t>(n);
}
std::string IndexReader::text() {
  const size_t n = count();
  std::string v(reinterpret_cast<const char*>(bytes_.data() + at_), n);
  at_ += n;
  return v;
}

IndexReader IndexReader::part() {
  const size_t n = count();
  at_ += n;
  return {bytes_.subspan(at_ - n, n), name_};
}

namespace {

// What the header says against how long the whole is; "" when it fits.
std::string fault_of(const Header& h, size_t got, uint64_t size) {
  if (got < 8 || std::string_view(h.magic, sizeof h.magic) != kMagic) return "is no program archive; 'lathe ship' makes one from a model";
  if (got < sizeof h) return "is cut short: its header is not whole";
  if (h.version != kVersion)
    return fmt::format("is an archive of format {}, this version reads format {}; ship the model again with this version", h.version,
                       kVersion);
  if (sum_of(&h, offsetof(Header, sum)) != h.sum || h.header_bytes != kHeaderBytes)
    return "is damaged: its header does not match its checksum";
  if (size != h.file_bytes) return fmt::format("is {} bytes long, its header says {}: it is cut short or was changed", size, h.file_bytes);
  if (h.index_offset < kHeaderBytes || h.index_offset > size || h.index_bytes > size - h.index_offset ||
      size - h.index_offset - h.index_bytes < kAlignment)
    return "is damaged: its index does not lie in it";
  return "";
}

}  // namespace

Mapping::Mapping(const std::filesystem::path& path, bool verify) : name_(path.string()) {
  const int fd = ::open(path.c_str(), O_RDONLY | O_CLOEXEC);
  if (fd < 0) fail(Category::format, "{}: cannot be opened: {}", name_, std::strerror(errno));
  struct stat info {};
  Header h{};
  const bool regular = ::fstat(fd, &info) == 0 && S_ISREG(info.st_mode);
  const ssize_t got = regular ? ::pread(fd, &h, sizeof h, 0) : -1;
  const auto refuse = [&](std::string what) {
    ::close(fd);
    fail(Category::format, "{}: {}", name_, what);
  };
  if (!regular) refuse("is no regular file, so it cannot be mapped");
  const auto size = static_cast<uint64_t>(info.st_size);
  if (const std::string fault = fault_of(h, static_cast<size_t>(std::max<ssize_t>(0, got)), size); !fault.empty()) refuse(fault);
  // Verifying reads all of it: asked for in one go.
  void* at = ::mmap(nullptr, size, PROT_READ, MAP_SHARED | (verify ? MAP_POPULATE : 0), fd, 0);
  if (at == MAP_FAILED) refuse(fmt::format("cannot be mapped: {}", std::strerror(errno)));
  ::close(fd);
  base_ = static_cast<const std::byte*>(at);
  bytes_ = size;
  mapped_ = true;
  try {
    examine(verify);
  } catch (...) {
    ::munmap(at, bytes_);
    throw;
  }
}

Mapping::Mapping(std::span<const std::byte> memory, std::string name, bool verify) : name_(std::move(name)) {
  Header h{};
  if (!memory.empty()) std::memcpy(&h, memory.data(), std::min(memory.size(), sizeof h));
  if (const std::string fault = fault_of(h, memory.size(), memory.size()); !fault.empty()) fail(Category::format, "{}: {}", name_, fault);
  base_ = memory.data();
  bytes_ = memory.size();
  if (reinterpret_cast<uintptr_t>(base_) % kAlignment != 0) {
    const auto copy = allocate_aligned(bytes_);
    std::memcpy(copy.get(), memory.data(), bytes_);
    owned_ = copy;
    base_ = copy.get();
  }
  examine(verify);
}

void Mapping::examine(bool verify) {
  Header h;
  std::memcpy(&h, base_, sizeof h);
  blobs_end_ = h.index_offset;
  index_ = {base_ + h.index_offset, static_cast<size_t>(h.index_bytes)};
  const bool index_good = sum_of(index_.data(), index_.size()) == h.index_sum;
  if (!index_good || (verify && sum_of(base_ + kHeaderBytes, blobs_end_ - kHeaderBytes) != h.blobs_sum))
    fail(Category::format, "{}: is damaged: its {} do not match their checksum; ship the model again", name_,
         index_good ? "weights" : "steps");
}

Mapping::~Mapping() {
  if (mapped_) ::munmap(const_cast<std::byte*>(base_), bytes_);
}

const std::byte* Mapping::at(const Blob& b) const {
  if (b.offset < kHeaderBytes || b.offset % kAlignment != 0 || b.offset > blobs_end_ || b.bytes > blobs_end_ - b.offset)
    fail(Category::format, "{}: is damaged: it speaks of bytes it does not hold", name_);
  return base_ + b.offset;
}

struct FileWriter::Sum {
  XXH3_state_t state;
};

FileWriter::FileWriter(const std::filesystem::path& path) : path_(target_of(path)), temporary_(path_), sum_(std::make_unique<Sum>()) {
  temporary_ += fmt::format(".part{}", ::getpid());
  fd_ = ::open(temporary_.c_str(), O_CREAT | O_TRUNC | O_WRONLY | O_CLOEXEC, 0644);
  if (fd_ < 0) fail(Category::resource, "{}: cannot be written: {}", path_.string(), std::strerror(errno));
  XXH3_64bits_reset(&sum_->state);
  const char nothing[kHeaderBytes] = {};
  put(nothing, sizeof nothing);
  XXH3_64bits_reset(&sum_->state);  // of what follows the header
}

FileWriter::~FileWriter() {
  if (fd_ < 0) return;
  ::close(fd_);
  ::unlink(temporary_.c_str());
}

void FileWriter::put(const void* data, size_t bytes) {
  XXH3_64bits_update(&sum_->state, data, bytes);
  const auto* p = static_cast<const char*>(data);
  for (size_t left = bytes; left > 0;) {
    const ssize_t n = ::write(fd_, p, left);
    if (n < 0 && errno == EINTR) continue;
    if (n <= 0) fail(Category::resource, "{}: cannot be written: {}", path_.string(), std::strerror(errno));
    p += n;
    left -= static_cast<size_t>(n);
  }
  at_ += bytes;
}

Blob FileWriter::blob(const void* data, size_t bytes) {
  const auto known = written_.find({data, bytes});
  if (known != written_.end() && bytes > 0) return known->second;
  const Blob b{at_, bytes};
  put(data, bytes);
  const char zeros[kAlignment] = {};
  if (at_ % kAlignment != 0) put(zeros, kAlignment - at_ % kAlignment);
  written_[{data, bytes}] = b;
  return b;
}

void FileWriter::finish(const std::string& index) {
  Header h{};
  std::memcpy(h.magic, kMagic.data(), sizeof h.magic);
  h.version = kVersion;
  h.header_bytes = kHeaderBytes;
  h.blobs_sum = XXH3_64bits_digest(&sum_->state);
  h.index_offset = at_;
  h.index_bytes = index.size();
  h.index_sum = sum_of(index.data(), index.size());
  put(index.data(), index.size());
  // Kernels may read a vector past the last weight.
  const char zeros[2 * kAlignment] = {};
  put(zeros, 2 * kAlignment - at_ % kAlignment);
  h.file_bytes = at_;
  h.sum = sum_of(&h, offsetof(Header, sum));
  int error = 0;
  if (::pwrite(fd_, &h, sizeof h, 0) != static_cast<ssize_t>(sizeof h)) error = errno;
  if (error == 0 && ::fsync(fd_) != 0 && errno != EINVAL) error = errno;
  if (::close(fd_) != 0 && error == 0) error = errno;
  fd_ = -1;
  if (error == 0 && ::rename(temporary_.c_str(), path_.c_str()) != 0) error = errno;
  if (error == 0) return;
  ::unlink(temporary_.c_str());
  fail(Category::resource, "{}: cannot be written: {}", path_.string(), std::strerror(error));
}

}  // namespace lathe::archive
