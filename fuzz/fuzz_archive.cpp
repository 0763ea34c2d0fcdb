// A program archive with bytes of its index changed and its checksums mended: whatever it says then, it is refused or harmless.
#include <unistd.h>

#include <cstdint>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <iterator>
#include <string>

#define XXH_INLINE_ALL
#include <xxhash.h>

#include "lathe/lathe.hpp"

namespace {

using namespace lathe;

std::string path_of(const char* what) {
  return (std::filesystem::temp_directory_path() / ("lathe-fuzz-" + std::to_string(::getpid()) + what)).string();
}

Tensor numbers(Shape shape) {
  Tensor t(DType::f32, std::move(shape));
  for (int64_t i = 0; i < t.size(); ++i) t.as<float>()[static_cast<size_t>(i)] = static_cast<float>(i % 7) - 3;
  return t;
}

std::string written(const Program& program) {
  program.describe();
  if (program.once()) program.once().describe();
  const std::string path = path_of("-good");
  save_program(program, path);
  std::ifstream in(path, std::ios::binary);
  std::string bytes{std::istreambuf_iterator<char>(in), {}};
  in.close();
  std::filesystem::remove(path);
  return bytes;
}

// A small net of everything that packs or plans.
std::string good_archive() {
  Builder b("seed", 21);
  const ValueId x = b.input("x", DType::f32, {Dim(1), Dim(8), Dim(10), Dim(10)});
  ValueId h = b.op("Relu", {b.op("Conv", {x, b.constant("w", numbers({8, 8, 3, 3}))}, {{"pads", std::vector<int64_t>{1, 1, 1, 1}}})});
  h = b.op("Conv", {h, b.constant("d", numbers({8, 1, 3, 3}))}, {{"group", int64_t{8}}});
  h = b.op("MaxPool", {h}, {{"kernel_shape", std::vector<int64_t>{2, 2}}});
  h = b.op("Reshape", {h, b.constant("s", Tensor::from<int64_t>({2}, {7, 56}))});
  h = b.op("Softmax", {b.op("Mul", {h, b.constant("m", numbers({56}))})});
  h = b.op("MatMul", {b.op("Transpose", {h}, {{"perm", std::vector<int64_t>{1, 0}}}), b.constant("p", numbers({7, 5}))});
  b.output(b.op("ReduceMean", {h, b.constant("a", Tensor::from<int64_t>({1}, {0}))}), "y");
  return written(compile(b.finish(), {.threads = 1, .arena_limit = size_t{64} << 20}));
}

// One that holds keys and values, with positions that hang on how many there are, and a state of one size.
std::string good_archive_with_states() {
  Builder b("states", 23);
  const ValueId x = b.input("x", DType::f32, {1, 2, 3, 4}), k = b.input("k", DType::f32, {1, 2, "held", 4}),
                v = b.input("v", DType::f32, {1, 2, "held", 4}), h = b.input("h", DType::f32, {1, 2, 3, 4});
  const auto number = [&](const char* name, int64_t n) { return b.constant(name, Tensor::from<int64_t>({}, {n})); };
  const ValueId held = b.op("Gather", {b.op("Shape", {k}), number("two", 2)});
  const ValueId at = b.op("Range", {held, b.op("Add", {held, number("three", 3)}), number("one", 1)});
  const ValueId place = b.op("Unsqueeze", {b.op("Cast", {at}, {{"to", int64_t{1}}}), b.constant("last", Tensor::from<int64_t>({1}, {1}))});
  const ValueId moved = b.op("Add", {b.op("Add", {x, place}), h});
  const auto out = b.ops("Attention", {moved, moved, moved, kAbsent, k, v}, 3, {{"is_causal", int64_t{1}}});
  b.output(out[0], "y");
  b.output(out[1], "k_next");
  b.output(out[2], "v_next");
  b.output(b.op("Tanh", {moved}), "h_next");
  return written(compile(
      b.finish(),
      {.threads = 1, .arena_limit = size_t{64} << 20, .states = {{"k_next", "k"}, {"v_next", "v"}, {"h_next", "h"}}, .positions = 12}));
}

// Two programs in one: what a picture alone decides is made once.
std::string good_archive_in_two() {
  Builder b("two", 21);
  const ValueId picture = b.input("picture", DType::f32, {1, 4, 6, 6}), x = b.input("x", DType::f32, {3, 16});
  const ValueId seen = b.op("Relu", {b.op("Conv", {picture, b.constant("w", numbers({8, 4, 3, 3}))})});
  const ValueId rows = b.op("Reshape", {seen, b.constant("s", Tensor::from<int64_t>({2}, {16, 8}))});
  b.output(b.op("MatMul", {x, rows}), "y");
  return written(compile(b.finish(), {.threads = 1, .arena_limit = size_t{64} << 20, .once = {"picture"}}));
}

void mend(std::string& bytes) {
  const auto put = [&](size_t at, uint64_t v) { std::memcpy(&bytes[at], &v, 8); };
  uint64_t index = 0, size = 0;
  std::memcpy(&index, &bytes[24], 8);
  std::memcpy(&size, &bytes[32], 8);
  put(40, XXH3_64bits(&bytes[index], size));
  put(48, XXH3_64bits(&bytes[64], index - 64));
  put(56, XXH3_64bits(bytes.data(), 56));
}

}  // namespace

// The first byte says which archive; then three bytes an edit: where in the index (16 bits, wrapped), and what is added there.
extern "C" int LLVMFuzzerTestOneInput(const uint8_t* data, size_t size) {
  static const std::string good[]{good_archive(), good_archive_with_states(), good_archive_in_two()}, path = path_of("-bad");
  if (size == 0) return 0;
  std::string bytes = good[data[0] % 3];
  ++data, --size;
  uint64_t index = 0, index_bytes = 0;
  std::memcpy(&index, &bytes[24], 8);
  std::memcpy(&index_bytes, &bytes[32], 8);
  for (size_t i = 0; i + 3 <= size && i < 30; i += 3) {
    const size_t at = index + (data[i] | static_cast<size_t>(data[i + 1]) << 8) % index_bytes;
    bytes[at] = static_cast<char>(bytes[at] + data[i + 2]);
  }
  mend(bytes);
  std::ofstream(path, std::ios::binary) << bytes;
  try {
    const Program program = load_program(path);
    for (const Program& p : {program.once(), program}) {
      if (!p) continue;
      Lane lane(p);
      std::vector<Tensor> in;
      for (const Port& port : p.inputs()) {
        const auto shape = known_shape(port.dims);
        if (!shape || port.dtype != DType::f32 || element_count(*shape) > 1 << 18) return 0;
        in.push_back(numbers(*shape));
      }
      for (int run = 0; run < 2; ++run) lane.run(std::span<const Tensor>(in), {.limit = std::chrono::seconds(2)});
      lane.restore_state(lane.save_state());
      if (lane.positions() > 1) lane.rewind(1);
    }
  } catch (const Error&) {
  }
  return 0;
}
