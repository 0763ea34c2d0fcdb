// Shared by the tests.
#pragma once

#include <doctest/doctest.h>

#include <cstdlib>
#include <filesystem>
#include <fstream>
#include <random>
#include <string>

#include "lathe/lathe.hpp"

namespace test {

using namespace lathe;
namespace fs = std::filesystem;

inline Tensor random_tensor(Shape shape, uint64_t seed, float low = -1, float high = 1) {
  Tensor t(DType::f32, std::move(shape));
  std::mt19937_64 random(seed);
  std::uniform_real_distribution<float> d(low, high);
  for (float& v : t.as<float>()) v = d(random);
  return t;
}

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

// The same inputs through plain evaluation and through the compiled program; fails the test at the first difference.
inline void check_against_plain(const Graph& g, const std::vector<Tensor>& inputs, CompileOptions options = {},
                                Tolerance tolerance = {2e-5, 1e-4, 0}) {
  const auto expected = evaluate_plain(g, inputs);
  Lane lane(compile(g, options));
  const Outputs got = lane.run(std::span<const Tensor>(inputs));
  REQUIRE(got.size() == expected.size());
  for (size_t i = 0; i < expected.size(); ++i) {
    const Comparison c = compare(got.name(i), got[i], expected[i], is_float(expected[i].dtype()) ? std::optional(tolerance) : std::nullopt);
    INFO(c.name, ": ", c.reason);
    CHECK(c.pass);
  }
}

}  // namespace test
