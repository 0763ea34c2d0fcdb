// The container of a program archive: one file of aligned blobs that are used where they are mapped, and an index that says what they are.
// The layout is described in docs/archive.md.
#pragma once

#include <cstddef>
#include <cstdint>
#include <filesystem>
#include <map>
#include <memory>
#include <span>
#include <string>
#include <string_view>
#include <vector>

namespace lathe::archive {

inline constexpr std::string_view kMagic = "LATHEPRG";
inline constexpr uint32_t kVersion = 7;
inline constexpr size_t kHeaderBytes = 64;

// Whether the file begins as an archive does; false also when it cannot be read.
bool is_archive(const std::filesystem::path& path);

struct Blob {
  uint64_t offset = 0, bytes = 0;
};

// Numbers little-endian, texts and lists behind their length.
class IndexWriter {
 public:
  void u8(uint8_t v) { number(v, 1); }
  void u32(uint32_t v) { number(v, 4); }
  void u64(uint64_t v) { number(v, 8); }
  void i64(int64_t v) { number(static_cast<uint64_t>(v), 8); }
  void f32(float v);
  void f64(double v);
  void text(std::string_view v);
  void blob(const Blob& b) { u64(b.offset), u64(b.bytes); }
  const std::string& bytes() const { return bytes_; }

 private:
  void number(uint64_t v, int bytes);
  std::string bytes_;
};

// A file mapped for reading, its sums checked. Other processes share its memory.
class Mapping {
 public:
  // `verify`: the blobs' sum too, which reads the whole file. Throws Error (format), naming the file and what does not fit.
  Mapping(const std::filesystem::path& path, bool verify);
  // The same of an archive in the caller's memory, which stays as it is meanwhile; copied when it is not aligned. No file is touched.
  Mapping(std::span<const std::byte> memory, std::string name, bool verify);
  ~Mapping();
  Mapping(const Mapping&) = delete;
  Mapping& operator=(const Mapping&) = delete;

  std::span<const std::byte> index() const { return index_; }
  // Throws Error (format) when it does not lie among the blobs, aligned.
  const std::byte* at(const Blob& b) const;
  const std::string& name() const { return name_; }
  size_t bytes() const { return bytes_; }

 private:
  // Finds the index; throws when what the sums cover does not match them.
  void examine(bool verify);

  std::string name_;
  std::shared_ptr<const std::byte> owned_;  // the copy, where there is one
  bool mapped_ = false;
  const std::byte* base_ = nullptr;
  size_t bytes_ = 0, blobs_end_ = 0;
  std::span<const std::byte> index_;
};

// Reads what IndexWriter wrote; every read is checked. Throws Error (format).
class IndexReader {
 public:
  IndexReader(std::span<const std::byte> bytes, std::string name) : bytes_(bytes), name_(std::move(name)) {}
  uint8_t u8() { return static_cast<uint8_t>(number(1)); }
  uint32_t u32() { return static_cast<uint32_t>(number(4)); }
  uint64_t u64() { return number(8); }
  int64_t i64() { return static_cast<int64_t>(number(8)); }
  float f32();
  double f64();
  std::string text();
  // A reader of its own for what was written as a text.
  IndexReader part();
  Blob blob() {
    Blob b;
    b.offset = u64();
    b.bytes = u64();
    return b;
  }
  // A length of a list whose items take at least `each` bytes: no more than what is left can hold.
  size_t count(size_t each = 1);
  bool at_end() const { return at_ == bytes_.size(); }
  const std::string& name() const { return name_; }
  [[noreturn]] void refuse(std::string_view what) const;

 private:
  uint64_t number(int bytes);
  std::span<const std::byte> bytes_;
  size_t at_ = 0;
  std::string name_;
};

// Writes blobs one after another to a temporary file beside `path`; finish() puts index and header there, flushes and renames. Without
// finish() nothing is left. Throws Error (resource).
class FileWriter {
 public:
  explicit FileWriter(const std::filesystem::path& path);
  ~FileWriter();
  FileWriter(const FileWriter&) = delete;
  FileWriter& operator=(const FileWriter&) = delete;

  // The same memory is written once.
  Blob blob(const void* data, size_t bytes);
  void finish(const std::string& index);

 private:
  void put(const void* data, size_t bytes);
  struct Sum;

  std::filesystem::path path_, temporary_;
  int fd_ = -1;
  uint64_t at_ = 0;
  std::unique_ptr<Sum> sum_;
  std::map<std::pair<const void*, size_t>, Blob> written_;
};

}  // namespace lathe::archive
