// Program archives and the C interface.
#define XXH_INLINE_ALL
#include <xxhash.h>

#include <cstring>
#include <thread>

#include "lathe/lathe.h"
#include "support.hpp"

using namespace test;

namespace {

// A net with something of everything that packs weights: convolutions (direct, Winograd, depthwise, in groups, pointwise), products
// (constant, f16, run time), an LSTM, 8-bit products, attention, an If that stays, plain ops, strings of metadata.
Graph mixed_net(Dim batch = Dim(2)) {
  Builder b("mixed", 21);
  const ValueId x = b.input("x", DType::f32, {batch, Dim(16), Dim(12), Dim(12)});
  const auto weights = [&](const std::string& name, Shape s, uint64_t seed) {
    return b.constant(name, random_tensor(std::move(s), seed, -0.3f, 0.3f));
  };
  const std::vector<int64_t> pads{1, 1, 1, 1};
  ValueId h = b.op("Relu", {b.op("Conv", {x, weights("w3", {24, 16, 3, 3}, 1), weights("b3", {24}, 2)}, {{"pads", pads}})});
  h = b.op("Conv", {h, weights("wd", {24, 1, 3, 3}, 3)}, {{"pads", pads}, {"group", int64_t{24}}, {"strides", std::vector<int64_t>{2, 2}}});
  h = b.op("HardSwish", {b.op("Conv", {h, weights("w1", {32, 24, 1, 1}, 4)})});
  h = b.op("Conv", {h, weights("wgroups", {32, 8, 3, 3}, 9)}, {{"pads", pads}, {"group", int64_t{4}}});
  h = b.op("ConvTranspose", {h, weights("wt", {32, 8, 2, 2}, 5)}, {{"strides", std::vector<int64_t>{2, 2}}});
  h = b.op("Reshape", {h, b.constant("rows", Tensor::from<int64_t>({3}, {0, 24, 48}))});
  Tensor half(DType::f16, {48, 48});
  std::memset(half.data(), 0x2c, half.byte_size());
  h = b.op("MatMul", {h, b.op("Cast", {b.constant("half", half)}, {{"to", int64_t{1}}})});
  Tensor bytes(DType::i8, {48, 40});
  for (int64_t i = 0; i < bytes.size(); ++i) bytes.as<int8_t>()[i] = static_cast<int8_t>(i * 37 % 251 - 125);
  const auto number = [&](const std::string& name, const Tensor& t) { return b.constant(name, t); };
  Tensor half_way(DType::u8, {}), zero(DType::i8, {});
  half_way.as<uint8_t>()[0] = 128;
  zero.as<int8_t>()[0] = 0;
  const ValueId fine = number("fine", Tensor::from<float>({}, {0.02f})), middle = number("middle", half_way), none = number("none", zero);
  h = b.op("QuantizeLinear", {h, fine, middle});
  h = b.op("QLinearMatMul", {h, fine, middle, number("bytes", bytes), fine, none, fine, middle});
  h = b.op("DequantizeLinear", {h, fine, middle});
  h = b.op("Softmax", {b.op("MatMul", {h, b.op("Transpose", {h}, {{"perm", std::vector<int64_t>{0, 2, 1}}})})}, {{"axis", int64_t{-1}}});
  h = b.op("Transpose", {h}, {{"perm", std::vector<int64_t>{1, 0, 2}}});
  h = b.op("LSTM", {h, weights("lw", {1, 80, 24}, 6), weights("lr", {1, 80, 20}, 7)}, {{"hidden_size", int64_t{20}}});
  h = b.op("ReduceMean", {h, b.constant("axes", Tensor::from<int64_t>({2}, {0, 1}))}, {{"keepdims", int64_t{0}}});
  b.output(b.op("Gelu", {b.op("Gemm", {h, weights("wg", {20, 10}, 8)})}), "y");
  Graph g = b.finish();
  g.metadata["labels"] = "a,b,c";
  return g;
}

std::vector<Tensor> fed(const Program& p, std::vector<Shape> shapes = {}) {
  return random_inputs(p, shapes.empty() ? p.bound_shapes() : shapes, 3);
}

bool same(const Outputs& a, const Outputs& b) {
  bool all = a.size() == b.size();
  for (size_t i = 0; all && i < a.size(); ++i) all = identical(a[i], b[i]);
  return all;
}

void mend(std::string& bytes) {
  uint64_t index_offset, index_bytes;
  std::memcpy(&index_offset, &bytes[24], 8);
  std::memcpy(&index_bytes, &bytes[32], 8);
  const uint64_t index = XXH3_64bits(&bytes[index_offset], index_bytes), blobs = XXH3_64bits(&bytes[64], index_offset - 64);
  std::memcpy(&bytes[40], &index, 8);
  std::memcpy(&bytes[48], &blobs, 8);
  const uint64_t head = XXH3_64bits(bytes.data(), 56);
  std::memcpy(&bytes[56], &head, 8);
}

}  // namespace

TEST_CASE("an archive gives the same bits, steps and facts, on any number of threads and instruction set") {
  Folder folder;
  const Graph g = mixed_net();
  for (const std::string& isa : machine_info().isas) {
    CAPTURE(isa);
    const Program made = compile(g, {.threads = 2, .isa = isa});
    save_program(made, folder.path / "net.lathe");
    CHECK(is_program_archive(folder.path / "net.lathe"));
    for (const int threads : {0, 1, 3}) {
      const Program back = load_program(folder.path / "net.lathe", {.threads = threads});
      CHECK(back.metadata().at("labels") == "a,b,c");
      CHECK(back.inputs()[0].name == "x");
      CHECK(back.options().isa == isa);
      const auto in = fed(made);
      Lane a(made), b(back);
      CHECK(same(a.run(std::span<const Tensor>(in)), b.run(std::span<const Tensor>(in))));
      CHECK(back.describe().weight_bytes == made.describe().weight_bytes);
    }
    const EditionInfo before = made.describe(), after = load_program(folder.path / "net.lathe", {.threads = 2}).describe();
    REQUIRE(before.steps.size() == after.steps.size());
    for (size_t i = 0; i < before.steps.size(); ++i) {
      CHECK(before.steps[i].recipe == after.steps[i].recipe);
      CHECK(before.steps[i].nodes == after.steps[i].nodes);
      CHECK(before.steps[i].why == after.steps[i].why);
    }
    CHECK(before.arena_bytes == after.arena_bytes);
  }
  const ArchiveInfo info = archive_info(folder.path / "net.lathe");
  CHECK(info.isa == machine_info().isas.back());
  CHECK(info.threads == 2);
  CHECK(info.editions == std::vector<std::vector<Shape>>{{{2, 16, 12, 12}}});
  CHECK(!info.carries_graph);
}

TEST_CASE("an archive of a model with open dims holds its editions and compiles others; with its graph it starts anew") {
  Folder folder;
  const fs::path file = folder.path / "open.lathe";
  const Program made = compile(mixed_net(Dim("batch")), {.threads = 1});
  Category category{};
  CHECK(has(error_of([&] { save_program(made, file); }, &category), "nothing is compiled yet"));
  CHECK(category == Category::shape);
  made.describe({{1, 16, 12, 12}});
  made.describe({{4, 16, 12, 12}});
  for (const bool carry : {false, true}) {
    CAPTURE(carry);
    save_program(made, file, {.carry_graph = carry});
    const Program back = load_program(file);
    Lane a(made), b(back);
    for (const int64_t batch : {4, 1, 3}) {  // the last one is compiled now
      CAPTURE(batch);
      const auto in = fed(made, {{batch, 16, 12, 12}});
      CHECK(same(a.run(std::span<const Tensor>(in)), b.run(std::span<const Tensor>(in))));
    }
    CHECK(archive_info(file).carries_graph == carry);
  }
  // An archive can be shipped on, with what it has.
  const Program back = load_program(file);
  save_program(back, folder.path / "again.lathe", {.carry_graph = true});
  Lane a(made), b(load_program(folder.path / "again.lathe"));
  const auto in = fed(made, {{1, 16, 12, 12}});
  CHECK(same(a.run(std::span<const Tensor>(in)), b.run(std::span<const Tensor>(in))));
}

TEST_CASE("an archive for another instruction set is refused, or compiled again when it carries its graph") {
  Folder folder;
  const Graph g = mixed_net();
  for (const bool carry : {false, true}) {
    save_program(compile(g, {.threads = 1, .isa = "scalar"}), folder.path / "a.lathe", {.carry_graph = carry});
    // A machine without it is made by naming one that does not exist.
    std::string bytes = slurp(folder.path / "a.lathe");
    const size_t at = bytes.rfind("scalar");
    REQUIRE(at != std::string::npos);
    uint64_t index_offset;
    std::memcpy(&index_offset, &bytes[24], 8);
    const size_t named = bytes.find("scalar", index_offset);
    bytes.replace(named, 6, "vector");
    mend(bytes);
    write(folder.path / "b.lathe", bytes);
    Category category{};
    const std::string said = error_of([&] { load_program(folder.path / "b.lathe"); }, &category);
    if (!carry) {
      CHECK(category == Category::unsupported);
      CHECK(has(said, "was made for vector, which this machine does not have"));
      continue;
    }
    CHECK(said.empty());
    const Program again = load_program(folder.path / "b.lathe");
    CHECK(again.options().isa == machine_info().isas.back());
    const Program fresh = compile(g, {.threads = 1});
    Lane a(fresh), b(again);
    const auto in = fed(fresh);
    const Outputs x = a.run(std::span<const Tensor>(in)), y = b.run(std::span<const Tensor>(in));
    for (size_t i = 0; i < x.size(); ++i) CHECK(compare("y", y[i], x[i], Tolerance{1e-5, 1e-4, 0}).pass);
  }
}

TEST_CASE("an archive for any machine holds the graph alone, and gives what the program gives") {
  Folder folder;
  const fs::path any = folder.path / "any.lathe", carrying = folder.path / "carrying.lathe";
  for (const bool open : {false, true}) {
    CAPTURE(open);
    const Graph g = open ? mixed_net(Dim("batch")) : mixed_net();
    const Program made = compile(g, {.threads = 1});
    const std::vector<Shape> shapes{{2, 16, 12, 12}};
    save_program(made, any, {.any_machine = true});  // of open dims nothing need be compiled
    made.describe(shapes);
    save_program(made, carrying, {.carry_graph = true});
    const ArchiveInfo info = archive_info(any);
    CHECK(info.isa == "any");
    CHECK(info.carries_graph);
    CHECK(info.editions.empty());
    CHECK(info.file_bytes * 3 < archive_info(carrying).file_bytes * 2);
    const Program back = load_program(any);
    CHECK(back.options().isa == machine_info().isas.back());
    CHECK(back.metadata().at("labels") == "a,b,c");
    Lane a(made), b(back);
    const auto in = fed(made, shapes);
    CHECK(same(a.run(std::span<const Tensor>(in)), b.run(std::span<const Tensor>(in))));
    // Shipped on from where it was loaded, for that machine.
    back.describe(shapes);
    save_program(back, carrying);
    CHECK(archive_info(carrying).isa == machine_info().isas.back());
  }
}

TEST_CASE("a damaged archive is refused with a sentence, whichever byte it is") {
  Folder folder;
  Builder b("small", 21);
  const ValueId x = b.input("x", DType::f32, {Dim(3), Dim(5)});
  b.output(b.op("Relu", {b.op("MatMul", {x, b.constant("w", random_tensor({5, 4}, 1))})}), "y");
  save_program(compile(b.finish(), {.threads = 1, .isa = "scalar"}), folder.path / "good.lathe");
  const std::string good = slurp(folder.path / "good.lathe");
  const fs::path bad = folder.path / "bad.lathe";
  uint64_t index_offset, index_bytes;
  std::memcpy(&index_offset, &good[24], 8);
  std::memcpy(&index_bytes, &good[32], 8);
  const auto refused = [&](const std::string& bytes) {
    write(bad, bytes);
    Category category{};
    const std::string said = error_of([&] { load_program(bad); }, &category);
    return !said.empty() && category == Category::format && has(said, bad.string());
  };
  for (size_t i = 0; i < good.size(); ++i) {
    std::string bytes = good;
    bytes[i] = static_cast<char>(bytes[i] ^ (1 << (i % 8)));
    CAPTURE(i);
    if (i < index_offset + index_bytes) CHECK(refused(bytes));  // behind the index are zeros that nobody reads
  }
  for (size_t size = 0; size < good.size(); size += size < 80 ? 1 : 37) {
    CAPTURE(size);
    CHECK(refused(good.substr(0, size)));
  }
  CHECK(refused(good + "more"));
  CHECK(has(error_of([&] { load_program(folder.path / "none.lathe"); }), "cannot be opened"));
  CHECK(has(error_of([&] { load_program(folder.path); }), "no regular file"));
  write(bad, "GIF89a");
  CHECK(has(error_of([&] { load_program(bad); }), "is no program archive"));
  std::string newer = good;
  newer[8] = 9;
  write(bad, newer);
  CHECK(has(error_of([&] { load_program(bad); }), "of format 9, this version reads format 7"));

  // With sums that fit again the reader itself must hold: refused, or as harmless as any model.
  std::mt19937_64 random(5);
  int loaded = 0;
  for (int trial = 0; trial < 3000; ++trial) {
    std::string bytes = good;
    for (uint64_t n = random() % 3 + 1; n > 0; --n) {
      const size_t at = index_offset + random() % index_bytes;
      bytes[at] = static_cast<char>(random() % 3 == 0 ? random() : bytes[at] + static_cast<int>(random() % 5) - 2);
    }
    mend(bytes);
    write(bad, bytes);
    error_of([&] {
      const Program p = load_program(bad);
      ++loaded;
      Lane lane(p);
      std::vector<Tensor> in;
      for (const Port& port : p.inputs()) {
        const auto shape = known_shape(port.dims);
        if (!shape || element_count(*shape) > 1 << 20) return;
        in.push_back(random_tensor(*shape, 1));
      }
      lane.run(std::span<const Tensor>(in), {.limit = std::chrono::seconds(2)});
    });
  }
  CHECK(loaded > 100);  // names and the like do not matter
}

TEST_CASE("saving an archive leaves nothing half-written") {
  Folder folder;
  const Program p = compile(mixed_net(), {.threads = 1});
  Category category{};
  CHECK(has(error_of([&] { save_program(p, folder.path / "no" / "such.lathe"); }, &category), "cannot be written"));
  CHECK(category == Category::resource);
  CHECK(has(error_of([&] { save_program(p, folder.path / "x.lathe", {.source = folder.path / "gone.onnx"}); }), "no such file"));
  CHECK(fs::is_empty(folder.path));
  CHECK(has(error_of([&] { save_program(p, "/dev/full/x.lathe"); }), "cannot be written"));
}

TEST_CASE("the C interface: archive to outputs, every failure a status and a sentence") {
  Folder folder;
  const std::string file = (folder.path / "net.lathe").string();
  const Program made = compile(mixed_net(), {.threads = 1});
  save_program(made, file);
  lathe_program* program = nullptr;
  REQUIRE(lathe_load_archive(file.c_str(), 1, &program) == LATHE_OK);
  CHECK(lathe_input_count(program) == 1);
  CHECK(lathe_output_count(program) == 1);
  CHECK(std::string(lathe_metadata(program, "labels")) == "a,b,c");
  CHECK(lathe_metadata(program, "nothing") == nullptr);
  const char* name = nullptr;
  lathe_tensor in{}, out{};
  REQUIRE(lathe_input_at(program, 0, &name, &in) == LATHE_OK);
  CHECK(std::string(name) == "x");
  CHECK(in.dtype == LATHE_F32);
  CHECK(Shape(in.dims, in.dims + in.rank) == Shape{2, 16, 12, 12});
  lathe_lane* lane = nullptr;
  REQUIRE(lathe_lane_new(program, 0, &lane) == LATHE_OK);
  CHECK(lathe_lane_output(lane, 0, &out) == LATHE_VALUE);
  CHECK(has(lathe_error_text(), "nothing was run"));
  auto tensors = fed(made);
  in.data = tensors[0].data();
  REQUIRE(lathe_lane_run(lane, &in, 1) == LATHE_OK);
  REQUIRE(lathe_lane_output(lane, 0, &out) == LATHE_OK);
  Lane reference(made);
  const Outputs expected = reference.run(std::span<const Tensor>(tensors));
  CHECK(identical(Tensor::borrow(DType::f32, Shape(out.dims, out.dims + out.rank), out.data), expected[0]));
  std::vector<float> own(static_cast<size_t>(expected[0].size()));
  lathe_tensor memory = out;
  memory.data = own.data();
  REQUIRE(lathe_lane_bind_output(lane, 0, &memory) == LATHE_OK);
  REQUIRE(lathe_lane_run(lane, &in, 1) == LATHE_OK);
  CHECK(std::memcmp(own.data(), expected[0].data(), expected[0].byte_size()) == 0);

  lathe_tensor wrong = in;
  wrong.dtype = LATHE_I32;
  CHECK(lathe_lane_run(lane, &wrong, 1) == LATHE_TYPE);
  CHECK(has(lathe_error_text(), "'x'"));
  const int64_t dims[]{2, 16, 12, 13};
  wrong = in;
  wrong.dims = dims;
  CHECK(lathe_lane_run(lane, &wrong, 1) == LATHE_SHAPE);
  wrong = in;
  wrong.data = nullptr;
  CHECK(lathe_lane_run(lane, &wrong, 1) == LATHE_VALUE);
  CHECK(lathe_lane_run(lane, &in, 0) == LATHE_VALUE);
  CHECK(lathe_lane_run(nullptr, &in, 1) == LATHE_VALUE);
  CHECK(lathe_input_at(program, 1, &name, &in) == LATHE_VALUE);
  CHECK(has(lathe_error_text(), "there is no input 1; there are 1"));
  lathe_program* none = program;
  CHECK(lathe_load_archive("/no/such/file", 0, &none) == LATHE_FORMAT);
  CHECK(none == nullptr);
  CHECK(lathe_load_archive(nullptr, 0, &none) == LATHE_VALUE);
  // The text of an error belongs to its thread.
  std::string other;
  std::thread([&] { other = lathe_error_text(); }).join();
  CHECK(other.empty());
  lathe_lane_free(lane);
  lathe_program_free(program);
  lathe_lane_free(nullptr);
  lathe_program_free(nullptr);

  const std::string model = (kDemo / "grain" / "grain.onnx").string();
  REQUIRE(lathe_compile_model(model.c_str(), 1, &program) == LATHE_OK);
  REQUIRE(lathe_input_at(program, 0, nullptr, &in) == LATHE_OK);
  CHECK(in.dims[0] == -1);  // an open batch
  lathe_program_free(program);
}

TEST_CASE("the C interface: an output may be fed again, run after run") {
  Builder b("counter", 21);
  const ValueId state = b.input("state", DType::f32, {Dim(4)});
  b.output(b.op("Add", {state, b.constant("one", Tensor::from<float>({}, {1}))}), "next");
  Folder folder;
  save_program(compile(b.finish(), {.threads = 1}), folder.path / "counter.lathe");
  lathe_program* program = nullptr;
  lathe_lane* lane = nullptr;
  REQUIRE(lathe_load_archive((folder.path / "counter.lathe").c_str(), 0, &program) == LATHE_OK);
  REQUIRE(lathe_lane_new(program, 0, &lane) == LATHE_OK);
  float zeros[4]{};
  const int64_t dims[]{4};
  lathe_tensor t{LATHE_F32, 1, dims, zeros};
  for (int i = 0; i < 10; ++i) {
    REQUIRE(lathe_lane_run(lane, &t, 1) == LATHE_OK);
    REQUIRE(lathe_lane_output(lane, 0, &t) == LATHE_OK);
  }
  CHECK(static_cast<const float*>(t.data)[3] == 10);
  lathe_lane_free(lane);
  lathe_program_free(program);
}
