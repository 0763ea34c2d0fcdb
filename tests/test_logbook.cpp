// The logbook: what goes in comes out; versions, foreign and damaged files; several writers; slower, or only noise.
#include <sqlite3.h>
#include <sys/wait.h>
#include <unistd.h>

#include <fstream>
#include <random>
#include <thread>

#include "lathe/logbook.hpp"
#include "support.hpp"

using namespace test;

namespace {

LogEntry entry(const std::string& model, double latency, uint64_t seed = 1, double peak = 100) {
  LogEntry e;
  e.kind = "bench";
  e.machine = "a machine";
  e.version = "0.1.0";
  e.model = model;
  e.hash = "0123456789abcdef";
  e.options = "threads 1";
  e.details = "{\"a\": \"it's \\\"quoted\\\"\"}";
  std::mt19937_64 random(seed);
  std::normal_distribution<double> noise(1, 0.05);
  std::vector<double> samples;
  for (int i = 0; i < 200; ++i) samples.push_back(latency * std::max(0.8, noise(random)));
  std::vector<double> sorted = samples;
  std::sort(sorted.begin(), sorted.end());
  e.figures["latency"] = {sorted[100], sorted[0], sorted[180], "s", samples};
  e.figures["peak_gflops"] = {peak, {}, {}, "GFLOP/s", {}};
  return e;
}

void sql(const std::filesystem::path& file, const std::string& text) {
  sqlite3* db = nullptr;
  REQUIRE(sqlite3_open(file.c_str(), &db) == SQLITE_OK);
  CHECK(sqlite3_exec(db, text.c_str(), nullptr, nullptr, nullptr) == SQLITE_OK);
  sqlite3_close(db);
}

}  // namespace

TEST_CASE("what is kept comes back, by number and by filter") {
  const Folder f;
  const auto file = f.path / "book.sqlite";
  {
    Logbook book(file);
    CHECK(book.keep(entry("a.onnx", 0.01)) == 1);
    CHECK(book.keep(entry("b.onnx", 0.02)) == 2);
    LogEntry judged = entry("a.onnx", 0.01);
    judged.kind = "judge";
    judged.figures = {{"accuracy", {0.9, 0.8, 0.95, "share", {}}}};
    CHECK(book.keep(judged) == 3);
  }
  const Logbook book(file);
  const LogEntry back = book.get(1), first = entry("a.onnx", 0.01);
  CHECK(back.model == "a.onnx");
  CHECK(back.details == first.details);
  CHECK(back.options == "threads 1");
  CHECK(back.at.size() == 20);
  CHECK(back.figures.at("latency").samples == first.figures.at("latency").samples);
  CHECK(back.figures.at("latency").low == first.figures.at("latency").low);
  CHECK(!back.figures.at("peak_gflops").low);
  CHECK(book.list().size() == 3);
  CHECK(book.list()[0].id == 3);
  CHECK(book.list({.kind = "judge"}).size() == 1);
  CHECK(book.list({.model = "a.on"}).size() == 2);
  CHECK(book.list({.model = "%"}).empty());  // no pattern
  CHECK(book.list({.machine = "another"}).empty());
  CHECK(book.list({.before = 3, .last = 1})[0].id == 2);
  CHECK_THROWS_WITH_AS((void)book.get(9), doctest::Contains("holds no entry 9"), Error);
}

TEST_CASE("files that are no logbook, damaged or of a newer version are refused and left as they are; an older version is carried over") {
  const Folder f;
  const auto bytes_of = [](const std::filesystem::path& p) {
    std::ifstream in(p, std::ios::binary);
    return std::string(std::istreambuf_iterator<char>(in), {});
  };
  const auto text = f.path / "notes.txt";
  std::ofstream(text) << std::string(5000, 'x');
  CHECK_THROWS_WITH_AS(Logbook{text}, doctest::Contains("is no logbook"), Error);
  CHECK(bytes_of(text) == std::string(5000, 'x'));
  const auto foreign = f.path / "foreign.sqlite";
  sql(foreign, "CREATE TABLE birds(name TEXT)");
  const std::string before = bytes_of(foreign);
  CHECK_THROWS_WITH_AS(Logbook{foreign}, doctest::Contains("is a database of something else"), Error);
  CHECK(bytes_of(foreign) == before);
  CHECK_THROWS_WITH_AS(Logbook{f.path}, doctest::Contains("is a folder"), Error);
  CHECK_THROWS_WITH_AS(Logbook{f.path / "nowhere" / "book.sqlite"}, doctest::Contains("cannot be opened"), Error);
  const auto book = f.path / "book.sqlite";
  {
    Logbook b(book);
    for (int i = 0; i < 60; ++i) b.keep(entry("a.onnx", 0.01));
  }
  // Cut short, and with its middle overwritten.
  const std::string whole = bytes_of(book);
  const auto damaged = f.path / "damaged.sqlite";
  std::ofstream(damaged, std::ios::binary) << whole.substr(0, whole.size() / 2);
  CHECK_THROWS_WITH_AS(Logbook{damaged}, doctest::Contains("damaged"), Error);
  std::string holes = whole;
  for (size_t at = 4096; at < holes.size(); ++at) holes[at] = static_cast<char>(0x5a);
  std::ofstream(damaged, std::ios::binary | std::ios::trunc) << holes;
  CHECK_THROWS_WITH_AS(Logbook{damaged}, doctest::Contains("damaged"), Error);
  // Versions.
  sql(book, "PRAGMA user_version = 99");
  CHECK_THROWS_WITH_AS(Logbook{book}, doctest::Contains("newer version"), Error);
  sql(book, "PRAGMA user_version = 1; DROP INDEX entries_by_model; DROP TABLE trials; DROP TABLE recipes; DROP TABLE problems");
  CHECK(Logbook(book).list().size() == 60);
  CHECK(Logbook(book).recipes("here").size() == 0);
  sqlite3* db = nullptr;
  REQUIRE(sqlite3_open(book.c_str(), &db) == SQLITE_OK);
  CHECK(sqlite3_exec(db, "DROP INDEX entries_by_model", nullptr, nullptr, nullptr) == SQLITE_OK);  // it is there again
  sqlite3_close(db);
}

TEST_CASE("several write at once, and one that dies in the middle loses nothing of the others") {
  const Folder f;
  const auto file = f.path / "book.sqlite";
  {
    std::vector<std::jthread> writers;
    for (int w = 0; w < 4; ++w) {
      writers.emplace_back([&, w] {
        Logbook book(file);
        for (int i = 0; i < 25; ++i) book.keep(entry("m" + std::to_string(w), 0.01));
      });
    }
  }
  CHECK(Logbook(file).list().size() == 100);
  // A process that is killed inside a transaction.
  const pid_t child = ::fork();
  if (child == 0) {
    sqlite3* db = nullptr;
    sqlite3_open(file.c_str(), &db);
    sqlite3_exec(db, "BEGIN IMMEDIATE; DELETE FROM figures; DELETE FROM entries", nullptr, nullptr, nullptr);
    sqlite3_db_cacheflush(db);  // half of it is in the file already
    ::_exit(0);
  }
  int status = 0;
  ::waitpid(child, &status, 0);
  Logbook book(file);
  CHECK(book.list().size() == 100);
  CHECK(book.keep(entry("after", 0.01)) == 101);
}

TEST_CASE("slower is told from noise, and a machine that was slower itself is no reason") {
  const auto change = [](double before, double after, double peak_before = 100, double peak_after = 100) {
    LogEntry a = entry("m.onnx", before, 1, peak_before), b = entry("m.onnx", after, 2, peak_after);
    a.id = 1, b.id = 2;
    return compare_entries(a, b);
  };
  const Change same = change(0.01, 0.01), slower = change(0.01, 0.0115), faster = change(0.01, 0.0085);
  CHECK(same.kind == Change::Kind::noise);
  CHECK(same.low <= 1);
  CHECK(same.high >= 1);
  CHECK(same.why.find("only noise") != std::string::npos);
  CHECK(slower.kind == Change::Kind::slower);
  CHECK(slower.low > 1.05);
  CHECK(slower.high < 1.25);
  CHECK(faster.kind == Change::Kind::faster);
  // 15 % slower on a machine whose peak was 15 % lower.
  const Change machine = change(0.01, 0.0115, 100, 87);
  CHECK(machine.kind == Change::Kind::noise);
  CHECK(machine.why.find("the machine's own peak was -13 %") != std::string::npos);
  // Half a percent is not looked for.
  CHECK(change(0.01, 0.01004).kind == Change::Kind::noise);
  // Only like with like.
  LogEntry a = entry("m.onnx", 0.01), b = entry("m.onnx", 0.01);
  b.machine = "another";
  CHECK_THROWS_WITH_AS((void)compare_entries(a, b), doctest::Contains("differ in machine"), Error);
  b = a;
  b.options = "threads 2";
  CHECK_THROWS_WITH_AS((void)compare_entries(a, b), doctest::Contains("differ in options"), Error);
  CHECK_THROWS_WITH_AS((void)compare_entries(a, a, "latncy"), doctest::Contains("did you mean 'latency'?"), Error);
  // Runs that go in waves: neighbours are alike, and the interval is wider than for as many runs that are not.
  LogEntry waves = a;
  auto& samples = waves.figures["latency"].samples;
  for (size_t i = 0; i < samples.size(); ++i) samples[i] = 0.01 * (i / 40 % 2 == 0 ? 1 : 1.3);
  const Change wide = compare_entries(a, waves);
  CHECK(wide.high - wide.low > 0.1);
  CHECK(wide.why.find("the runs were spread over") != std::string::npos);
  // A machine with neighbours: 15 % more is no more than what they do within one measurement.
  LogEntry busy = entry("m.onnx", 0.0115, 2);
  for (size_t i = 0; i < busy.figures["latency"].samples.size(); i += 4) busy.figures["latency"].samples[i] *= 1.5;
  CHECK(compare_entries(entry("m.onnx", 0.01), busy).kind == Change::Kind::noise);
  CHECK(change(0.01, 0.0115).kind == Change::Kind::slower);
}
