// Shared by the tests.
#pragma once

#include <doctest/doctest.h>
#include <sys/mman.h>
#include <unistd.h>

#include <cstdlib>
#include <cstring>
#include <deque>
#include <filesystem>
#include <fstream>
#include <random>
#include <string>

#include "lathe/lathe.hpp"

namespace test {

using namespace lathe;
namespace fs = std::filesystem;

// Instrumented code, or a library of it under these tests (scripts/test sets the variable): limits of the machine say nothing there.
inline bool sanitized() {
#ifdef LATHE_SANITIZED
  return true;
#else
  return std::getenv("LATHE_SANITIZED") != nullptr;
#endif
}

inline Tensor i64s(const std::vector<int64_t>& v) { return Tensor::from<int64_t>({static_cast<int64_t>(v.size())}, v); }
inline Dims dims(const Shape& s) { return Dims(s.begin(), s.end()); }

inline Tensor random_tensor(Shape shape, uint64_t seed, float low = -1, float high = 1) {
  Tensor t(DType::f32, std::move(shape));
  std::mt19937_64 random(seed);
  std::uniform_real_distribution<float> d(low, high);
  for (float& v : t.as<float>()) v = d(random);
  return t;
}

// Memory for a tensor between two pages that may not be touched, against the first of them or the last: what reads or writes past either
// end is ended by the processor, whatever instructions it uses. (Sanitizers do not see masked vector loads.)
class Fenced {
 public:
  Fenced(const Tensor& t, bool at_end) {
    const auto page = static_cast<size_t>(sysconf(_SC_PAGESIZE)), bytes = t.byte_size();
    size_ = (bytes + page - 1) / page * page + 2 * page;
    at_ = static_cast<char*>(mmap(nullptr, size_, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0));
    REQUIRE(at_ != MAP_FAILED);
    REQUIRE(mprotect(at_, page, PROT_NONE) == 0);
    REQUIRE(mprotect(at_ + size_ - page, page, PROT_NONE) == 0);
    char* data = at_end ? at_ + size_ - page - bytes : at_ + page;
    if (bytes > 0) std::memcpy(data, t.data(), bytes);
    tensor = Tensor::borrow(t.dtype(), t.shape(), data);
  }
  Fenced(const Fenced&) = delete;
  ~Fenced() { munmap(at_, size_); }
  Tensor tensor;

 private:
  char* at_;
  size_t size_;
};

// A folder of its own for each test, removed afterwards.
class Folder {
 public:
  Folder() {
    std::string name = (fs::temp_directory_path() / "lathe-test-XXXXXX").string();
    path = mkdtemp(name.data());
  }
  ~Folder() {
    std::error_code ec;
    fs::remove_all(path, ec);
  }
  fs::path path;
};

inline void write(const fs::path& path, const std::string& bytes) { std::ofstream(path, std::ios::binary) << bytes; }
inline std::string slurp(const fs::path& path) {
  std::ifstream in(path, std::ios::binary);
  return {std::istreambuf_iterator<char>(in), {}};
}

// The message of the Error that f throws; empty when it throws none.
template <typename F>
std::string error_of(F f, Category* category = nullptr) {
  try {
    f();
  } catch (const Error& e) {
    if (category) *category = e.category();
    return e.what();
  }
  return "";
}

inline bool has(const std::string& text, const std::string& part) { return text.find(part) != std::string::npos; }

inline const fs::path kDemo = LATHE_DEMO_DIR;

// The graph's constants and these inputs fenced.
inline void fence(Graph& g, std::vector<Tensor>& inputs, bool at_end, std::deque<Fenced>& memory) {
  const auto fenced = [&](Tensor& t) {
    if (!t.composite() && t.dtype() != DType::string && t.data() != nullptr) t = memory.emplace_back(t, at_end).tensor;
  };
  for (Value& v : g.values) {
    if (v.constant) fenced(*v.constant);
  }
  for (Tensor& t : inputs) fenced(t);
}

// What the compiled program makes of these inputs, which it gets fenced with the constants, against what is expected; fails the test at the
// first difference.
inline void check_against(const std::vector<Tensor>& expected, const Graph& g, const std::vector<Tensor>& inputs,
                          const CompileOptions& options, Tolerance tolerance = {2e-5, 1e-4, 0}) {
  static bool at_end = false;
  at_end = !at_end;
  std::deque<Fenced> memory;
  Graph fenced = g;
  std::vector<Tensor> fed = inputs;
  fence(fenced, fed, at_end, memory);
  Lane lane(compile(fenced, options));
  const Outputs got = lane.run(std::span<const Tensor>(fed));
  REQUIRE(got.size() == expected.size());
  for (size_t i = 0; i < expected.size(); ++i) {
    const Comparison c = compare(got.name(i), got[i], expected[i], is_float(expected[i].dtype()) ? std::optional(tolerance) : std::nullopt);
    INFO(c.name, ": ", c.reason);
    CHECK(c.pass);
  }
}
inline void check_against_plain(const Graph& g, const std::vector<Tensor>& inputs, const CompileOptions& options = {},
                                Tolerance tolerance = {2e-5, 1e-4, 0}) {
  check_against(evaluate_plain(g, inputs), g, inputs, options, tolerance);
}

}  // namespace test
