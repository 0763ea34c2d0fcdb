// What programs that ship archives use: the C interface and its C++ form (lathe/deploy.hpp), archives in memory included.
#include <doctest/doctest.h>

#include <chrono>
#include <cstring>
#include <fstream>
#include <thread>

#include "lathe/deploy.hpp"
#include "lathe/lathe.hpp"
#include "support.hpp"

using namespace lathe;
using namespace test;

namespace {

std::vector<char> file_bytes(const std::filesystem::path& path) {
  std::ifstream in(path, std::ios::binary);
  return {std::istreambuf_iterator<char>(in), {}};
}

// y = softmax(x w), for any number of rows.
Graph rows_net() {
  Builder b("rows", 17);
  const ValueId x = b.input("x", DType::f32, {Dim("n"), Dim(8)});
  b.output(b.op("Softmax", {b.op("MatMul", {x, b.constant("w", random_tensor({8, 5}, 3))})}), "y");
  return b.finish();
}

// Compiled for three rows; its archive carries the graph for others.
Program rows_program() {
  const Program p = compile(rows_net(), {.threads = 1});
  p.describe({{3, 8}});
  return p;
}

// Work for a while, in many steps.
Graph long_net() {
  Builder b("long", 17);
  ValueId v = b.input("x", DType::f32, {Dim(256), Dim(512)});
  const ValueId w = b.constant("w", random_tensor({512, 512}, 5));
  for (int i = 0; i < 300; ++i) v = b.op("Softmax", {b.op("MatMul", {v, w})});
  b.output(v, "y");
  return b.finish();
}

// Adds what it gets to what it keeps.
Program counter() {
  Builder b("counter", 21);
  const ValueId x = b.input("x", DType::f32, {Dim(4)}), state = b.input("state", DType::f32, {Dim(4)});
  const ValueId sum = b.op("Add", {x, state});
  b.output(sum, "next");
  b.output(b.op("Neg", {sum}), "y");
  const Program p = compile(b.finish(), {.threads = 1, .states = {{"next", "state"}}});
  p.describe({{4}});
  return p;
}

}  // namespace

TEST_CASE("deployed: an archive in memory gives what the file gives, aligned or not") {
  Folder folder;
  const auto path = folder.path / "rows.lathe";
  save_program(rows_program(), path, {.carry_graph = true});
  const std::vector<char> bytes = file_bytes(path);
  const deploy::Program file(path.string());
  deploy::Lane from_file(file);
  const Tensor x = random_tensor({3, 8}, 7);
  const deploy::View given({3, 8}, x.as<float>().data());
  from_file.run({given});
  const deploy::View expected = from_file.output(0);
  CHECK(expected.dims() == std::vector<int64_t>{3, 5});
  std::filesystem::remove(path);
  std::vector<char> room(bytes.size() + 128);
  for (size_t off : {0, 1, 17}) {
    CAPTURE(off);
    char* at = room.data() + (64 - reinterpret_cast<uintptr_t>(room.data()) % 64) + off;
    std::memcpy(at, bytes.data(), bytes.size());
    const deploy::Program program(at, bytes.size(), 1);
    deploy::Lane lane(program);
    for (int64_t rows : {3, 1, 9, 3}) {  // its rows are open
      const Tensor more = random_tensor({rows, 8}, 7);
      lane.run({deploy::View({rows, 8}, more.as<float>().data())});
      CHECK(lane.output(0).dims() == std::vector<int64_t>{rows, 5});
    }
    CHECK(std::memcmp(lane.output(0).as<float>(), expected.as<float>(), expected.size() * sizeof(float)) == 0);
  }
  // From C++ too, and cut short or changed at every place of its head and some of the rest.
  const auto part = [&](size_t n) { return std::span(reinterpret_cast<const std::byte*>(bytes.data()), n); };
  CHECK(load_program(part(bytes.size())).inputs()[0].name == "x");
  for (size_t n : {size_t{0}, size_t{7}, size_t{40}, bytes.size() / 2, bytes.size() - 1}) {
    Category category{};
    CHECK(has(error_of([&] { load_program(part(n), {}, "rows in memory"); }, &category), "rows in memory"));
    CHECK(category == Category::format);
  }
  for (size_t at = 0; at < bytes.size(); at += at < 64 ? 1 : 97) {
    std::vector<char> changed = bytes;
    changed[at] = static_cast<char>(changed[at] ^ 0x10);
    try {
      deploy::Program p(changed.data(), changed.size());
    } catch (const deploy::Error& e) {
      CHECK(e.status() == LATHE_FORMAT);
    }
  }
  lathe_program* none = nullptr;
  CHECK(lathe_load_archive_from(nullptr, 5, 1, &none) == LATHE_VALUE);
  CHECK(lathe_load_archive_from(bytes.data(), bytes.size(), 1, nullptr) == LATHE_VALUE);
}

TEST_CASE("deployed: runs end by their limit, by what follows them, and by another thread") {
  Folder folder;
  save_program(compile(long_net(), {.threads = 1}), folder.path / "long.lathe");
  const deploy::Program program((folder.path / "long.lathe").string());
  deploy::Lane lane(program);
  const Tensor x = random_tensor({256, 512}, 1);
  const deploy::View given({256, 512}, x.as<float>().data());
  const auto cancelled = [&](auto f) {
    try {
      f();
    } catch (const deploy::Error& e) {
      CHECK(std::string(e.what()).size() > 10);
      return e.status() == LATHE_CANCELLED;
    }
    return false;
  };
  CHECK(cancelled([&] { lane.run({given}, {.seconds = 0.01}); }));
  size_t last = 0;
  CHECK(cancelled([&] {
    lane.run({given}, {.progress = [&](size_t step, size_t steps, double share) {
               CHECK(step <= steps);
               CHECK((share >= 0 && share <= 1));
               last = step;
               return step < 7;
             }});
  }));
  CHECK(last == 7);
  std::atomic<bool> begun{false};
  std::thread other([&] {
    while (!begun) std::this_thread::sleep_for(std::chrono::milliseconds(1));
    lane.cancel();
  });
  CHECK(cancelled([&] {
    lane.run({given}, {.progress = [&](size_t, size_t, double) {
               begun = true;
               return true;
             }});
  }));
  other.join();
  lane.cancel();  // of nothing: what comes next runs
  size_t seen = 0;
  lane.run({given}, {.progress = [&](size_t, size_t, double) { return ++seen > 0; }});
  CHECK(seen > 100);
  CHECK(lane.output(0).size() == 256 * 512);
  // Options of a program that knows fewer of them, and faulty ones.
  lathe_run_options old{};
  old.size = offsetof(lathe_run_options, progress);
  old.limit_seconds = 0.01;
  lathe_tensor t{LATHE_F32, 2, given.dims().data(), const_cast<float*>(x.as<float>().data())};
  CHECK(lathe_lane_run_with(lane.get(), &t, 1, &old) == LATHE_CANCELLED);
  old.limit_seconds = -1;
  CHECK(lathe_lane_run_with(lane.get(), &t, 1, &old) == LATHE_VALUE);
  old.size = 0;
  CHECK(lathe_lane_run_with(lane.get(), &t, 1, &old) == LATHE_VALUE);
  CHECK(lathe_lane_run_with(lane.get(), &t, 1, nullptr) == LATHE_VALUE);
  lathe_lane_cancel(nullptr);
}

TEST_CASE("deployed: what a lane keeps is saved, gone back to, and carried to another lane") {
  Folder folder;
  save_program(counter(), folder.path / "counter.lathe");
  const deploy::Program program((folder.path / "counter.lathe").string());
  REQUIRE(program.inputs().size() == 1);
  CHECK(program.inputs()[0].name == "x");
  CHECK(program.outputs()[0].name == "y");
  deploy::Lane lane(program);
  const float ones[4]{1, 1, 1, 1};
  const deploy::View given({4}, ones);
  for (int i = 0; i < 3; ++i) lane.run({given});
  CHECK(lane.output(0).as<float>()[2] == -3);
  const deploy::State saved = lane.save();
  lane.run({given});
  CHECK(lane.output(0).as<float>()[2] == -4);
  lane.restore(saved);
  lane.run({given});
  CHECK(lane.output(0).as<float>()[2] == -4);
  deploy::Lane second(program);
  second.restore(saved);
  second.run({given});
  CHECK(second.output(0).as<float>()[0] == -4);
  lane.reset();
  lane.run({given});
  CHECK(lane.output(0).as<float>()[0] == -1);
  lathe_state* none = nullptr;
  CHECK(lathe_lane_save(nullptr, &none) == LATHE_VALUE);
  CHECK(lathe_lane_restore(lane.get(), nullptr) == LATHE_VALUE);
  lathe_state_free(nullptr);
}

TEST_CASE("deployed: faults have their status and sentence; versions are told apart") {
  Folder folder;
  save_program(rows_program(), folder.path / "rows.lathe", {.carry_graph = true});
  const deploy::Program program((folder.path / "rows.lathe").string());
  CHECK(program.metadata("nothing").empty());
  CHECK(program.inputs()[0].description.dims() == std::vector<int64_t>{-1, 8});
  deploy::Lane lane(program);
  const auto status = [](auto f) {
    try {
      f();
    } catch (const deploy::Error& e) {
      return e.status();
    }
    return LATHE_OK;
  };
  const int32_t whole[8]{};
  const float few[8]{};
  CHECK(status([&] { lane.output(0); }) == LATHE_VALUE);
  CHECK(status([&] { lane.run({deploy::View({1, 8}, whole)}); }) == LATHE_TYPE);
  CHECK(status([&] { lane.run({deploy::View({2, 4}, few)}); }) == LATHE_SHAPE);
  CHECK(status([&] { lane.run({}); }) == LATHE_VALUE);
  CHECK(status([&] { deploy::Program((folder.path / "none.lathe").string()); }) == LATHE_FORMAT);
  lane.run({deploy::View({1, 8}, few)});
  CHECK(status([&] { lane.output(0).as<double>(); }) == LATHE_TYPE);
  CHECK(status([&] { lane.output(1); }) == LATHE_VALUE);
  std::vector<float> own(5);
  lane.bind_output(0, deploy::View({1, 5}, own.data()));
  lane.run({deploy::View({1, 8}, few)});
  CHECK(own[0] == doctest::Approx(0.2));
  deploy::check_version();
  CHECK(lathe_check_version(LATHE_INTERFACE_MAJOR, LATHE_INTERFACE_MINOR + 1) == LATHE_UNSUPPORTED);
  CHECK(lathe_check_version(LATHE_INTERFACE_MAJOR + 1, 0) == LATHE_UNSUPPORTED);
  CHECK(has(lathe_error_text(), "built against 1.0"));
  CHECK(has(std::string(lathe_version()), std::to_string(LATHE_INTERFACE_MAJOR) + "." + std::to_string(LATHE_INTERFACE_MINOR) + "."));
}
