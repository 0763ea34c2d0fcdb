// Rules over frames by the frames' own clock, and what is done about them.
#include <sys/stat.h>

#include <nlohmann/json.hpp>

#include <fcntl.h>
#include <thread>

#include "lathe/watch.hpp"
#include "support.hpp"

using namespace test;

namespace {

const std::vector<std::string> kLabels{"sound", "dead", "hole"};

Sight sight(int64_t index, double time, std::vector<Box> boxes) {
  Sight s;
  s.frame.index = index;
  s.frame.name = "f" + std::to_string(index);
  s.frame.time = time;
  s.frame.pixels = Tensor(DType::u8, {100, 200, 3});
  s.boxes = std::move(boxes);
  return s;
}

// "b3 o7": what happened at which frame, of frames a tenth of a second apart; '#': a box is there, '.': none, 'x': it cannot be read.
std::string happened(const Rule& rule, const std::string& frames, const Box& box = {1, 90, 40, 40, 30, 0.9}) {
  RuleBook book({rule}, kLabels);
  std::string out;
  for (size_t i = 0; i < frames.size(); ++i) {
    Sight s = sight(static_cast<int64_t>(i), 0.1 * static_cast<double>(i), frames[i] == '#' ? std::vector{box} : std::vector<Box>());
    if (frames[i] == 'x') s.failed = "broken";
    for (const Happening& h : book.look(s)) out += (out.empty() ? "" : " ") + std::string(h.begins ? "b" : "o") + std::to_string(h.frame);
  }
  for (const Happening& h : book.finish()) out += (out.empty() ? "e" : " e") + std::to_string(h.frame);
  return out;
}

Rule rule() {
  Rule r;
  r.name = "knot";
  return r;
}

}  // namespace

TEST_CASE("a rule begins when it holds in enough of the last frames, and is over when it has gone long enough") {
  Rule r = rule();
  CHECK(happened(r, "..#..") == "b2 o3");
  CHECK(happened(r, "..##") == "b2 e3");
  CHECK(happened(r, ".....") == "");
  r.frames = 3, r.of_last = 5;
  CHECK(happened(r, "#.#.#....") == "b4 o5");
  CHECK(happened(r, "#...#...#") == "");
  CHECK(happened(r, "##.......#.#.#") == "b13 e13");
  // It does not flicker: two frames without it are no end, three tenths of a second are.
  r.gone = 0.29;
  CHECK(happened(r, "###..#...##") == "b2 o8");
  // It lasts a second at least, though it has gone before.
  r.hold = 1;
  CHECK(happened(r, "###..............") == "b2 o12");
  // Frames that cannot be read say nothing, for it or against it.
  r = rule();
  CHECK(happened(r, ".#xx#.") == "b1 o5");
}

TEST_CASE("a rule looks at classes, scores, sizes, places and numbers") {
  const Box box{1, 90, 40, 40, 30, 0.7};  // 6 % of the picture, its middle at 0.55, 0.55
  const auto holds = [&](auto change, const Box& b) {
    Rule r = rule();
    change(r);
    return !happened(r, "#", b).empty();
  };
  CHECK(holds([](Rule& r) { r.classes = {"dead", "hole"}; }, box));
  CHECK_FALSE(holds([](Rule& r) { r.classes = {"hole"}; }, box));
  CHECK(holds([](Rule& r) { r.least_score = 0.7; }, box));
  CHECK_FALSE(holds([](Rule& r) { r.least_score = 0.71; }, box));
  CHECK(holds([](Rule& r) { r.larger_than = 0.059; }, box));
  CHECK_FALSE(holds([](Rule& r) { r.larger_than = 0.06; }, box));
  CHECK(holds([](Rule& r) { r.x = 0.5, r.width = 0.5; }, box));
  CHECK_FALSE(holds([](Rule& r) { r.x = 0.6, r.width = 0.4; }, box));
  CHECK_FALSE(holds([](Rule& r) { r.height = 0.5; }, box));
  CHECK_FALSE(holds([](Rule& r) { r.at_least = 2; }, box));
  // Labels and masks, too.
  RuleBook book({[] {
                  Rule r = rule();
                  r.classes = {"dead"}, r.least_score = 0.5;
                  return r;
                }()},
                kLabels);
  Sight s = sight(0, 0, {});
  s.labels = {{2, 0.6}, {1, 0.55}};
  CHECK(book.look(s).empty());
  s.labels = {{1, 0.55}, {2, 0.3}};
  CHECK(book.look(s).size() == 1);
  Rule part = rule();
  part.larger_than = 0.1;
  RuleBook masks({part}, kLabels);
  s = sight(0, 0, {});
  s.mask = Tensor(DType::i64, {100, 200});
  std::ranges::fill(s.mask.as<int64_t>(), int64_t{0});
  CHECK(masks.look(s).empty());
  for (size_t i = 0; i < 2001; ++i) s.mask.as<int64_t>()[i] = 2;
  CHECK(masks.look(s).size() == 1);
}

TEST_CASE("rules that contradict themselves or name what is not there are refused") {
  const auto refused = [](auto change, const char* says) {
    Rule r = rule();
    change(r);
    CHECK_THROWS_WITH_AS(RuleBook({r}, kLabels), doctest::Contains(says), Error);
  };
  refused([](Rule& r) { r.classes = {"deed"}; }, "did you mean 'dead'");
  refused([](Rule& r) { r.frames = 6, r.of_last = 5; }, "6 of the last 5");
  refused([](Rule& r) { r.name = ""; }, "no name");
  refused([](Rule& r) { r.x = 0.6, r.width = 0.6; }, "region lies in the picture");
  refused([](Rule& r) { r.gone = -1; }, "not negative");
  refused([](Rule& r) { r.larger_than = 1; }, "share of the picture");
  CHECK_THROWS_WITH_AS(RuleBook({rule(), rule()}, kLabels), doctest::Contains("two of this name"), Error);
  CHECK_NOTHROW(RuleBook({[] {
                           Rule r = rule();
                           r.classes = {"7"};
                           return r;
                         }()},
                         {}));
}

TEST_CASE("actions: lines, pipes, commands without a shell, the stand-in actuator; what fails says why") {
  const Folder f;
  const Happening h{"knot", true, 3, "scan_3.png", 1.25, {{1, 1, 2, 3, 4, 0.5}}};
  Action a;
  a.line = f.path / "log";
  act(a, h, kLabels);
  act(a, h, kLabels);
  const std::string log = slurp(f.path / "log");
  const auto j = nlohmann::json::parse(log.substr(0, log.find('\n')));
  CHECK(j["rule"] == "knot");
  CHECK(j["state"] == "begins");
  CHECK(j["boxes"][0]["class"] == "dead");
  CHECK(std::ranges::count(log, '\n') == 2);
  Action gate;
  gate.actuator = f.path / "gate";
  act(gate, h, kLabels);
  CHECK(slurp(f.path / "gate") == "1.250 on knot scan_3.png\n");
  // Words arrive as they are: nothing in them is a shell's business.
  Action command;
  command.command = {"cp", "--", (f.path / "gate").string(), (f.path / "$(id) {rule} {state} {frame} {time}").string()};
  act(command, h, kLabels);
  CHECK(fs::exists(f.path / "$(id) knot begins scan_3.png 1.250"));
  command.command = {"false"};
  CHECK_THROWS_WITH_AS(act(command, h, kLabels),
                       doctest::Contains("rule 'knot', frame 'scan_3.png': command 'false' ended with exit code 1"), Error);
  command.command = {"no-such-program-here"};
  CHECK_THROWS_WITH_AS(act(command, h, kLabels), doctest::Contains("no-such-program-here"), Error);
  command.command = {"sleep", "30"};
  command.limit = 0.1;
  CHECK_THROWS_WITH_AS(act(command, h, kLabels), doctest::Contains("took more than 0.1 seconds"), Error);
  a.line = f.path / "none" / "log";
  CHECK_THROWS_WITH_AS(act(a, h, kLabels), doctest::Contains("cannot be written"), Error);
  if (fs::exists("/dev/full")) {
    a.line = "/dev/full";
    CHECK_THROWS_WITH_AS(act(a, h, kLabels), doctest::Contains("/dev/full"), Error);
  }
  // A pipe that nobody reads does not hang; one that somebody reads gets the line.
  const fs::path pipe = f.path / "pipe";
  REQUIRE(mkfifo(pipe.c_str(), 0600) == 0);
  a.line = pipe;
  a.limit = 0.1;
  CHECK_THROWS_WITH_AS(act(a, h, kLabels), doctest::Contains("nobody has read"), Error);
  a.limit = 10;
  std::string got;
  std::thread reader([&] {
    std::ifstream in(pipe);
    std::getline(in, got);
  });
  act(a, h, kLabels);
  reader.join();
  CHECK(nlohmann::json::parse(got)["frame"] == 3);
}
