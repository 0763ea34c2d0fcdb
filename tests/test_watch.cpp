// Frames through models: where they come from, what is seen, in which order, and what is kept.
#include <sys/stat.h>
#include <unistd.h>

#include <nlohmann/json.hpp>

#include <algorithm>
#include <atomic>
#include <cmath>
#include <thread>

#include "lathe/judge_pictures.hpp"
#include "lathe/watch.hpp"
#include "support.hpp"

using namespace test;

namespace {

const Program& knots() {
  static const Program p = compile(load(kDemo / "knots/knots.onnx"), {.threads = 2});
  return p;
}

std::vector<Frame> all_of(FrameSource& s) {
  std::vector<Frame> out;
  while (auto f = s.next()) out.push_back(*f);
  return out;
}

struct Seen {
  WatchReport report;
  std::vector<Sight> sights;
};
Seen watched(const Program& program, FrameSource& source, const WatchOptions& o = {}) {
  Seen s;
  s.report = watch(program, source, o, nullptr, [&](Sight& sight) { s.sights.push_back(sight); });
  return s;
}

Tensor picture(int64_t h, int64_t w, uint64_t seed) {
  Tensor t(DType::u8, {h, w, 3});
  std::mt19937_64 random(seed);
  for (uint8_t& v : t.as<uint8_t>()) v = static_cast<uint8_t>(random());
  return t;
}

// A source made in the test.
class Listed : public FrameSource {
 public:
  explicit Listed(std::vector<Tensor> pictures) : pictures_(std::move(pictures)) {}
  std::optional<Frame> next() override {
    if (at_ == pictures_.size()) return std::nullopt;
    Frame f;
    f.index = static_cast<int64_t>(at_);
    f.name = "p" + std::to_string(at_);
    f.time = static_cast<double>(at_);
    f.pixels = pictures_[at_++];
    return f;
  }

 private:
  std::vector<Tensor> pictures_;
  size_t at_ = 0;
};

}  // namespace

TEST_CASE("frames of a YUV4MPEG2 stream, in each of its forms") {
  const Folder f;
  // Greys, and one colour that is known: BT.601 red is 81, 90, 240.
  write(f.path / "red.y4m",
        "YUV4MPEG2 W2 H2 F30:1 Ip C420jpeg\nFRAME\n" + std::string(4, 81) + std::string(1, 90) + std::string(1, static_cast<char>(240)));
  auto frames = all_of(*stream_frames(f.path / "red.y4m"));
  REQUIRE(frames.size() == 1);
  const auto p = frames[0].pixels.as<uint8_t>();
  CHECK(frames[0].pixels.shape() == Shape{2, 2, 3});
  CHECK(std::abs(p[0] - 255) <= 1);
  CHECK(p[1] <= 1);
  CHECK(p[2] <= 1);
  write(f.path / "grey.y4m", "YUV4MPEG2 W3 H1 F25:2 Cmono XCOLORRANGE=FULL\nFRAME\nabcFRAME Ip\ndef");
  frames = all_of(*stream_frames(f.path / "grey.y4m"));
  REQUIRE(frames.size() == 2);
  CHECK(frames[1].pixels.as<uint8_t>()[3] == 'e');
  CHECK(frames[1].name == "frame_000001");
  CHECK(frames[1].time == doctest::Approx(2.0 / 25));
  // Odd sizes: chroma planes are rounded up.
  write(f.path / "odd.y4m", "YUV4MPEG2 W3 H3 F1:1 C420\nFRAME\n" + std::string(9 + 8, static_cast<char>(128)));
  CHECK(all_of(*stream_frames(f.path / "odd.y4m")).size() == 1);
  write(f.path / "422.y4m", "YUV4MPEG2 W3 H3 F1:1 C422\nFRAME\n" + std::string(9 + 12, static_cast<char>(128)));
  CHECK(all_of(*stream_frames(f.path / "422.y4m")).size() == 1);
  const Tensor raw = picture(4, 5, 1);
  write(f.path / "raw", std::string(reinterpret_cast<const char*>(raw.data()), 60) + std::string(60, 'x'));
  frames = all_of(*stream_frames(f.path / "raw", RawFrames{4, 5, 10}));
  REQUIRE(frames.size() == 2);
  CHECK(std::memcmp(frames[0].pixels.data(), raw.data(), 60) == 0);
}

TEST_CASE("streams that are none, end in the middle, or stall say so") {
  const Folder f;
  const auto refused = [&](const std::string& bytes, const char* says) {
    write(f.path / "s.y4m", bytes);
    CHECK_THROWS_WITH_AS((void)all_of(*stream_frames(f.path / "s.y4m")), doctest::Contains(says), Error);
  };
  refused("", "does not begin with YUV4MPEG2");
  refused("RIFFxxxx\n", "does not begin with YUV4MPEG2");
  refused(std::string(5000, 'a'), "no end of a header");
  refused("YUV4MPEG2 W2 H2", "in the middle of a header");
  refused("YUV4MPEG2 W0 H2 F1:1\n", "0 pixels");
  refused("YUV4MPEG2 W70000 H2 F1:1\n", "none this can take");
  refused("YUV4MPEG2 W-2 H2 F1:1\n", "no whole number");
  refused("YUV4MPEG2 W2 H2 F0:1\n", "0 frames a second");
  refused("YUV4MPEG2 W2 H2 F1:1 C420p10\n", "8 bits");
  refused("YUV4MPEG2 W2 H2 F1:1 It\n", "interlaced");
  refused("YUV4MPEG2 W2 H2 F1:1\nFRAME\nab", "in the middle of frame 0: 2 of 6 bytes");
  refused("YUV4MPEG2 W2 H2 F1:1\nFRAME\nabcdefFRUME\n", "frame 1 does not begin");
  CHECK_THROWS_WITH_AS((void)stream_frames(f.path / "none.y4m"), doctest::Contains("none.y4m: cannot be opened"), Error);
  CHECK_THROWS_WITH_AS((void)stream_frames(f.path / "s.y4m", RawFrames{0, 5, 1}), doctest::Contains("0 x 5"), Error);
  // Any bytes: an error or frames, never anything else.
  std::mt19937_64 random(6);
  const std::string good =
      "YUV4MPEG2 W4 H2 F30:1 Ip C420jpeg XCOLORRANGE=FULL\nFRAME\n" + std::string(12, 'a') + "FRAME\n" + std::string(12, 'b');
  for (int i = 0; i < 500; ++i) {
    std::string changed = good.substr(0, random() % 4 == 0 ? random() % good.size() : good.size());
    for (int k = 0; k < 2 && !changed.empty(); ++k) changed[random() % std::min<size_t>(changed.size(), 60)] = static_cast<char>(random());
    write(f.path / "s.y4m", changed);
    try {
      (void)all_of(*stream_frames(f.path / "s.y4m"));
    } catch (const Error&) {
    }
  }
  REQUIRE(mkfifo((f.path / "pipe").c_str(), 0600) == 0);
  std::atomic<bool> over = false;
  std::thread writer([&] {
    std::ofstream out(f.path / "pipe", std::ios::binary);
    out << "YUV4MPEG2 W2 H2 F1:1\nFRAME\nabcdef" << std::flush;
    while (!over) std::this_thread::sleep_for(std::chrono::milliseconds(5));
  });
  {
    auto s = stream_frames(f.path / "pipe", {}, 0.2);
    CHECK(s->next().has_value());
    CHECK_THROWS_WITH_AS((void)s->next(), doctest::Contains("nothing has come for 0.2 seconds"), Error);
  }
  over = true;
  writer.join();
}

TEST_CASE("the stand-in camera gives the same frames each time; late and missing ones are as many as asked") {
  StandInCamera how;
  how.rate = 50, how.frames = 200, how.real_time = false, how.late = 0.3, how.missing = 0.2, how.height = 24, how.width = 32;
  auto first = stand_in_camera({}, how), second = stand_in_camera({}, how);
  const auto a = all_of(*first), b = all_of(*second);
  CHECK(a.size() == b.size());
  CHECK(a.size() > 130);
  CHECK(a.size() < 190);
  int64_t late = 0;
  for (size_t i = 0; i < a.size(); ++i) {
    CHECK(a[i].time == b[i].time);
    CHECK(std::memcmp(a[i].pixels.data(), b[i].pixels.data(), a[i].pixels.byte_size()) == 0);
    late += a[i].time > static_cast<double>(a[i].index) / 50;
  }
  CHECK(late > 20);
  CHECK(std::memcmp(a[0].pixels.data(), a[20].pixels.data(), a[0].pixels.byte_size()) != 0);
  how.frames = 5, how.late = how.missing = 0;
  auto round = stand_in_camera({kDemo / "knots/calibration"}, how);
  CHECK(all_of(*round).size() == 5);
  how.rate = 0;
  CHECK_THROWS_WITH_AS((void)stand_in_camera({}, how), doctest::Contains("rate is 0"), Error);
  CHECK_THROWS_WITH_AS((void)picture_frames({kDemo / "knots"}), doctest::Contains("holds no pictures"), Error);
}

TEST_CASE("names of frames are never the same") {
  const Folder f;
  for (const char* folder : {"a", "b"}) {
    fs::create_directories(f.path / folder);
    write_picture(f.path / folder / "x.png", picture(4, 4, 1));
  }
  write_picture(f.path / "a/y.png", picture(4, 4, 1));
  auto s = picture_frames({f.path / "a", f.path / "b", f.path / "b/x.png"});
  std::vector<std::string> names;
  for (const Frame& frame : all_of(*s)) names.push_back(frame.name);
  CHECK(names == std::vector<std::string>{"a/x.png", "y.png", "b/x.png", "b/x.png (2)"});
  CHECK(list_pictures({f.path / "*" / "x.png"}).size() == 2);
  CHECK_THROWS_WITH_AS((void)picture_frames({f.path / "a/*.jpg"}), doctest::Contains("matches"), Error);
}

TEST_CASE("knots: what is seen agrees with its measure, in the order of the frames, whatever lanes and batches do it") {
  WatchOptions o;
  o.detect.least_score = 0.05;
  const auto source = [] { return picture_frames({kDemo / "knots/test"}); };
  auto s = source();
  const Seen one = watched(knots(), *s, o);
  CHECK(one.report.sees == Sees::boxes);
  CHECK(one.report.frames == 60);
  CHECK(one.report.sizes == 4);
  CHECK(one.report.latencies.size() == 60);
  CHECK(form_text(one.report.form).find("\"cells\"") != std::string::npos);
  std::vector<std::string> labels = labels_in(knots().metadata());
  const auto truth = read_boxes(kDemo / "knots/boxes.csv", labels);
  CHECK(truth.size() == 60);
  std::vector<BoxAnswer> answers;
  for (size_t i = 0; i < one.sights.size(); ++i) {
    CHECK(one.sights[i].frame.index == static_cast<int64_t>(i));
    answers.push_back({one.sights[i].frame.name, one.sights[i].boxes, truth.at(one.sights[i].frame.name)});
  }
  const BoxReport report = judge_boxes(answers, 3);
  CHECK(report.at_half.low > 0.95);
  for (int lanes : {2, 3}) {
    for (int64_t batch : {1, 4}) {
      o.lanes = lanes, o.batch = batch;
      s = source();
      const Seen many = watched(knots(), *s, o);
      REQUIRE(many.sights.size() == 60);
      for (size_t i = 0; i < 60; ++i) {
        REQUIRE(many.sights[i].frame.name == one.sights[i].frame.name);
        REQUIRE(many.sights[i].boxes.size() == one.sights[i].boxes.size());
        for (size_t k = 0; k < many.sights[i].boxes.size(); ++k) CHECK(overlap(many.sights[i].boxes[k], one.sights[i].boxes[k]) > 0.999);
      }
    }
  }
}

TEST_CASE("labels, masks and pictures are told apart by what the outputs are; what fits nothing is said") {
  auto grain = picture_frames({kDemo / "grain/test/board_000.png", kDemo / "grain/test/board_003.png"});
  const Program g = compile(load(kDemo / "grain/grain.onnx"), {.threads = 1});
  const Seen labels = watched(g, *grain);
  CHECK(labels.report.sees == Sees::labels);
  REQUIRE(labels.sights.size() == 2);
  CHECK(labels.sights[0].labels.size() == 5);
  CHECK(labels.sights[0].labels[0].second > labels.sights[0].labels[1].second);
  // A net of one convolution: three planes out are a picture, two are a mask.
  const auto net = [](int64_t out) {
    Builder b("net");
    const auto x = b.input("x", DType::f32, {1, 3, "h", "w"});
    Tensor w(DType::f32, {out, 3, 1, 1});
    std::ranges::fill(w.as<float>(), 0.0f);
    for (int64_t c = 0; c < out; ++c) w.as<float>()[static_cast<size_t>(c * 3 + c)] = 1;
    b.output(b.op("Conv", {x, b.constant("w", w)}), "y");
    return compile(b.finish(), {.threads = 1});
  };
  WatchOptions o;
  o.pictures.scale = {1 / 255.0f};
  const Tensor p = picture(21, 33, 5);
  Listed source({p});
  const Seen made = watched(net(3), source, o);
  CHECK(made.report.sees == Sees::pictures);
  REQUIRE(made.sights.size() == 1);
  CHECK(std::memcmp(made.sights[0].picture.data(), p.data(), p.byte_size()) == 0);
  Listed again({p});
  const Seen masks = watched(net(2), again, o);
  CHECK(masks.report.sees == Sees::masks);
  const auto m = masks.sights.at(0).mask.as<int64_t>();
  for (size_t i = 0; i < m.size(); ++i) CHECK(m[i] == (p.as<uint8_t>()[3 * i + 1] > p.as<uint8_t>()[3 * i] ? 1 : 0));
  {
    // A mask at a quarter of the input's size, of a picture whose sides were rounded up: it lies where the picture does.
    Builder b("small");
    const auto in = b.input("x", DType::f32, {1, 3, "h", "w"});
    const std::vector<int64_t> four{4, 4};
    const auto small = b.op("AveragePool", {in}, {{"kernel_shape", four}, {"strides", four}});
    b.output(b.op("Conv", {small, b.constant("w", Tensor::from<float>({2, 3, 1, 1}, {0, 0, 0, 1, 0, 0})),
                           b.constant("bias", Tensor::from<float>({2}, {100, 0}))}),
             "y");
    const Program quarter = compile(b.finish(), {.threads = 1});
    Tensor half(DType::u8, {34, 42, 3});
    std::memset(half.data(), 0, half.byte_size());
    for (int64_t y = 0; y < 34; ++y) std::memset(half.as<uint8_t>().data() + (y * 42 + 20) * 3, 255, 22 * 3);
    Listed frames({half});
    WatchOptions how;
    how.multiple = 16;  // 48 x 48: seven rows and three columns before the picture
    how.sees = Sees::masks;
    const Tensor m = watched(quarter, frames, how).sights.at(0).mask;
    REQUIRE(m.shape() == Shape{34, 42});
    const auto at = [&](int64_t y, int64_t x) { return m.as<int64_t>()[static_cast<size_t>(y * 42 + x)]; };
    for (int64_t y = 4; y < 30; ++y) {
      CHECK(at(y, 16) == 0);
      CHECK(at(y, 24) == 1);
      CHECK(at(y, 40) == 1);
    }
  }
  Builder b("odd");
  const auto x = b.input("x", DType::f32, {1, 3, 8, 8});
  b.output(b.op("Relu", {x}), "y");
  b.output(b.op("Neg", {x}), "z");
  const Program odd = compile(b.finish(), {.threads = 1});
  Listed third({p});
  CHECK_THROWS_WITH_AS((void)watched(odd, third, o), doctest::Contains("no boxes by any reading"), Error);
}

TEST_CASE("a picture in parts gives what the whole gives, to the byte, when parts share what the layers see") {
  const Program p = compile(load(kDemo / "sanding/sanding.onnx"), {.threads = 2});
  const Tensor big = read_picture(kDemo / "sanding/scratched/board_02.png");
  WatchOptions o;
  Listed whole({big});
  const Seen a = watched(p, whole, o);
  CHECK(a.report.sees == Sees::pictures);
  o.tile = 64, o.overlap = 8;  // seven layers of 3x3 see seven pixels to each side
  Listed parts({big});
  const Seen b = watched(p, parts, o);
  const auto x = a.sights.at(0).picture.as<uint8_t>(), y = b.sights.at(0).picture.as<uint8_t>();
  int worst = 0;
  for (size_t i = 0; i < x.size(); ++i) worst = std::max(worst, std::abs(x[i] - y[i]));
  CHECK(worst <= 1);  // sums in another order may round a byte the other way
  // Without what they share the seams show, so this can fail.
  o.overlap = 0;
  Listed seams({big});
  const Seen c = watched(p, seams, o);
  const auto z = c.sights.at(0).picture.as<uint8_t>();
  for (size_t i = 0; i < x.size(); ++i) worst = std::max(worst, std::abs(x[i] - z[i]));
  CHECK(worst > 3);
  o.overlap = 32;
  Listed none({big});
  CHECK_THROWS_WITH_AS((void)watched(p, none, o), doctest::Contains("less than half"), Error);
}

TEST_CASE("sides are rounded up to what the model needs, found when nobody says") {
  // Down by two and up again, joined with what came in: odd sides do not fit.
  Builder b("ladder");
  const auto x = b.input("x", DType::f32, {1, 3, "h", "w"});
  const std::vector<int64_t> four{4, 4};
  const auto half = b.op("AveragePool", {x}, {{"kernel_shape", four}, {"strides", four}});
  const auto up =
      b.op("Resize", {half, kAbsent, b.constant("scales", Tensor::from<float>({4}, {1, 1, 4, 4}))}, {{"mode", std::string("nearest")}});
  b.output(b.op("Add", {x, up}), "y");
  const Program p = compile(b.finish(), {.threads = 1});
  Listed source({picture(13, 22, 1), picture(16, 24, 2), picture(30, 9, 3)});
  const Seen s = watched(p, source);
  CHECK(s.report.frames == 3);
  CHECK(s.report.editions >= 2);
  CHECK(s.sights[0].picture.shape() == Shape{13, 22, 3});
}

TEST_CASE("frames that cannot be read are named and passed over, or end it; nothing else is lost") {
  const Folder f;
  write_picture(f.path / "a.png", picture(64, 64, 1));
  write(f.path / "b.png", "no picture");
  write_picture(f.path / "c.png", picture(64, 64, 2));
  const Program g = compile(load(kDemo / "grain/grain.onnx"), {.threads = 1});
  auto s = picture_frames({f.path});
  WatchOptions o;
  o.lanes = 2;
  const Seen seen = watched(g, *s, o);
  CHECK(seen.report.frames == 3);
  CHECK(seen.report.failed == 1);
  CHECK(seen.sights[1].failed.find("b.png") != std::string::npos);
  CHECK(seen.sights[2].labels.size() == 5);
  o.strict = true;
  s = picture_frames({f.path});
  CHECK_THROWS_WITH_AS((void)watched(g, *s, o), doctest::Contains("b.png"), Error);
  // What `take` throws ends it, and comes out.
  s = picture_frames({kDemo / "grain/test"});
  int taken = 0;
  CHECK_THROWS_WITH_AS((void)watch(g, *s, {}, nullptr,
                                   [&](Sight&) {
                                     if (++taken == 3) throw Error(Category::resource, "the disk is full");
                                   }),
                       doctest::Contains("the disk is full"), Error);
  CHECK(taken == 3);
  // A stream that breaks off leaves what came before.
  write(f.path / "s.y4m", "YUV4MPEG2 W64 H64 F1:1 Cmono\nFRAME\n" + std::string(4096, 'a') + "FRAME\n" + std::string(4000, 'a'));
  auto broken = stream_frames(f.path / "s.y4m");
  const Seen rest = watched(g, *broken);
  CHECK(rest.report.frames == 1);
  CHECK(rest.report.ended.find("in the middle of frame 1") != std::string::npos);
}

TEST_CASE("of a live source the latest frame wins; latency does not grow, and none that was taken up is lost") {
  StandInCamera how;
  how.rate = 200, how.frames = 100, how.height = 128, how.width = 192;
  auto camera = stand_in_camera({}, how);
  WatchOptions o;
  o.drop_when_behind = true;
  int64_t last = -1;
  std::vector<double> latency;
  const WatchReport r = watch(
      knots(), *camera, o, [](Sight&) { std::this_thread::sleep_for(std::chrono::milliseconds(12)); },
      [&](Sight& s) {
        CHECK(s.frame.index > last);
        last = s.frame.index;
        latency.push_back(s.latency);
      });
  CHECK(r.dropped > 10);
  CHECK(r.frames + r.dropped == 100);
  CHECK(last >= 98);
  // By a fake clock nothing is dropped, and what is seen is the same each time.
  how.real_time = false, how.frames = 40;
  std::vector<std::string> lines;
  for (int round = 0; round < 2; ++round) {
    auto clocked = stand_in_camera({}, how);
    o.drop_when_behind = false;
    o.lanes = 1 + round;
    std::string all;
    watch(knots(), *clocked, o, nullptr,
          [&](Sight& s) { all += std::to_string(s.frame.time) + " " + std::to_string(s.boxes.size()) + "\n"; });
    lines.push_back(all);
  }
  CHECK(lines[0] == lines[1]);
}

TEST_CASE("results: lines, tables, boxes, drawings and a video; a run that was cut off goes on where its lines end") {
  const Folder f;
  const std::vector<std::string> labels = labels_in(knots().metadata());
  ResultFiles files;
  files.annotated = f.path / "drawn", files.lines = f.path / "lines", files.table = f.path / "table.csv",
  files.boxes = f.path / "boxes.csv";
  const auto run = [&](int64_t most) {
    Results results(files, labels);
    auto source = results.left_of(picture_frames({kDemo / "knots/test"}));
    int64_t taken = 0;
    try {
      watch(
          knots(), *source, {}, [&](Sight& s) { results.draw(s); },
          [&](Sight& s) {
            if (most > 0 && taken++ == most) throw Error(Category::cancelled, "cut off");
            results.take(s);
          });
    } catch (const Error& e) {
      CHECK(e.category() == Category::cancelled);
    }
    results.finish();
    return results.done_before();
  };
  run(0);
  const std::string lines = slurp(files.lines), table = slurp(files.table), boxes = slurp(files.boxes);
  CHECK(std::ranges::count(lines, '\n') == 60);
  const auto j = nlohmann::json::parse(lines.substr(0, lines.find('\n')));
  CHECK(j["name"] == "scan_000.png");
  CHECK(j["boxes"].size() > 0);
  std::vector<std::string> classes = labels;
  CHECK(read_boxes(files.boxes, classes).size() == 60);
  CHECK(read_picture(files.annotated / "scan_000.png").shape() == read_picture(kDemo / "knots/test/scan_000.png").shape());
  // Cut off in the middle, half a line left behind, rows of a frame without a line.
  run(23);
  std::ofstream(files.lines, std::ios::app) << "{\"name\": \"scan_0";
  std::ofstream(files.boxes, std::ios::app) << "scan_059.png,dead,1,2,3,4\n";
  files.resume = true;
  CHECK(run(0) == 23);
  CHECK(slurp(files.lines) == lines);
  CHECK(slurp(files.table) == table);
  CHECK(slurp(files.boxes) == boxes);
  write(files.lines, "not ours\n");
  CHECK_THROWS_WITH_AS(Results(files, labels), doctest::Contains("line 1 is no line of results; nothing was changed"), Error);
  CHECK(slurp(files.lines) == "not ours\n");
  files.lines.clear();
  CHECK_THROWS_WITH_AS(Results(files, labels), doctest::Contains("name their file"), Error);
  // The video holds what was drawn.
  ResultFiles video;
  video.video = f.path / "v.y4m", video.rate = 12.5;
  {
    Results results(video, labels);
    StandInCamera how;
    how.frames = 3, how.real_time = false, how.height = 32, how.width = 48;
    auto camera = stand_in_camera({}, how);
    watch(
        knots(), *camera, {}, [&](Sight& s) { results.draw(s); }, [&](Sight& s) { results.take(s); });
    results.finish();
  }
  auto back = stream_frames(video.video);
  CHECK(all_of(*back).size() == 3);
  {
    Results results(video, labels);
    Listed sizes({picture(32, 32, 1), picture(32, 40, 2)});
    CHECK_THROWS_WITH_AS((void)watch(
                             knots(), sizes, {}, [&](Sight& s) { results.draw(s); }, [&](Sight& s) { results.take(s); }),
                         doctest::Contains("the video's are"), Error);
  }
  if (fs::exists("/dev/full")) {
    ResultFiles full;
    full.lines = "/dev/full";
    Results results(full, labels);
    auto source = picture_frames({kDemo / "knots/calibration"});
    CHECK_THROWS_WITH_AS((void)watch(knots(), *source, {}, nullptr, [&](Sight& s) { results.take(s); }),
                         doctest::Contains("/dev/full: cannot be written"), Error);
  }
}

TEST_CASE("what is drawn changes the pixels where it is, and no others") {
  Sight s;
  s.frame.pixels = Tensor(DType::u8, {80, 120, 3});
  std::memset(s.frame.pixels.data(), 90, s.frame.pixels.byte_size());
  const Tensor bare = annotated(s, {});
  CHECK(std::memcmp(bare.data(), s.frame.pixels.data(), bare.byte_size()) == 0);
  s.boxes = {{0, 30, 30, 40, 30, 0.9}};
  const Tensor drawn = annotated(s, {"knot"});
  const auto at = [&](int64_t y, int64_t x) { return drawn.as<uint8_t>()[static_cast<size_t>((y * 120 + x) * 3)]; };
  CHECK(at(45, 30) != 90);  // the left side
  CHECK(at(45, 50) == 90);  // its inside
  CHECK(at(70, 100) == 90);
  s.boxes.clear();
  s.mask = Tensor(DType::i64, {80, 120});
  std::ranges::fill(s.mask.as<int64_t>(), int64_t{0});
  s.mask.as<int64_t>()[60 * 120 + 60] = 1;
  const Tensor masked = annotated(s, {"wood", "knot"});
  CHECK(masked.as<uint8_t>()[(60 * 120 + 60) * 3] != 90);
  CHECK(masked.as<uint8_t>()[(60 * 120 + 61) * 3] == 90);
}

TEST_CASE("a model with suppression inside, and one whose boxes are raw, give the same boxes") {
  // Scores hang on the picture, so that nothing is folded away.
  const Tensor boxes = Tensor::from<float>({1, 5, 4}, {10, 10, 30, 30, 12, 10, 32, 30, 50, 20, 70, 60, 5, 5, 9, 9, 1, 1, 2, 2});
  const auto net = [&](bool inside) {
    Builder b("boxes");
    const auto x = b.input("x", DType::f32, {1, 3, 64, 96});
    const auto mean = b.op("ReduceMean", {x}, {{"keepdims", int64_t{0}}});
    const auto zero = b.op("Mul", {mean, b.constant("none", Tensor::from<float>({}, {0}))});
    const auto scores =
        b.op("Add", {b.constant("s", Tensor::from<float>({1, 2, 5}, {0.9f, 0.8f, 0.1f, 0.05f, 0, 0.1f, 0.1f, 0.7f, 0.2f, 0})), zero});
    b.output(b.op("Add", {b.constant("b", boxes), zero}), "boxes");
    b.output(scores, "scores");
    if (inside) {
      const auto one = [&](const char* name, Tensor t) { return b.constant(name, std::move(t)); };
      b.output(b.op("NonMaxSuppression", {b.op("Identity", {b.constant("c", boxes)}), scores, one("most", Tensor::from<int64_t>({}, {10})),
                                          one("iou", Tensor::from<float>({}, {0.5f})), one("least", Tensor::from<float>({}, {0.25f}))}),
               "picked");
    }
    return compile(b.finish(), {.threads = 1});
  };
  for (bool inside : {false, true}) {
    Listed source({picture(64, 96, 3)});
    WatchOptions o;
    o.labels = {"a", "b"};
    const Seen s = watched(net(inside), source, o);
    CHECK(s.report.form.kind == (inside ? DetectForm::Kind::picked : DetectForm::Kind::tables));
    REQUIRE(s.sights.at(0).boxes.size() == 2);
    CHECK(s.sights[0].boxes[0].label == 0);
    CHECK(s.sights[0].boxes[0].x == doctest::Approx(10));
    CHECK(s.sights[0].boxes[1].label == 1);
    CHECK(s.sights[0].boxes[1].height == doctest::Approx(40));
  }
}

TEST_CASE("one row of a box, a score and a class is no classifier's six scores, when nobody knows how many rows there will be") {
  Builder b("rows");
  const auto x = b.input("x", DType::f32, {1, 3, 32, 32});
  const auto most = b.op("ReduceMax", {x}, {{"keepdims", int64_t{0}}});
  const auto keep = b.op("Greater", {b.op("Add", {b.constant("s", Tensor::from<float>({3}, {0.1f, 900, 0.2f})), most}),
                                     b.constant("limit", Tensor::from<float>({}, {500}))});
  const std::vector<float> rows{0, 0, 5, 5, 0.3f, 0, 4, 6, 20, 30, 0.9f, 1, 1, 1, 2, 2, 0.4f, 0};
  b.output(b.op("Compress", {b.constant("rows", Tensor::from<float>({3, 6}, rows)), keep}, {{"axis", int64_t{0}}}), "found");
  const Program p = compile(b.finish(), {.threads = 1});
  Listed source({picture(32, 32, 3)});
  const Seen s = watched(p, source);
  CHECK(s.report.sees == Sees::boxes);
  REQUIRE(s.sights.at(0).boxes.size() == 1);
  CHECK(s.sights[0].boxes[0].label == 1);
  CHECK(s.sights[0].boxes[0].height == doctest::Approx(24));
}

TEST_CASE("boxes of a picture in parts: each thing once, where it is") {
  // Four scans side by side, each smaller than a part.
  const Tensor one = read_picture(kDemo / "knots/test/scan_001.png");
  const int64_t h = one.shape()[0], w = one.shape()[1];
  Tensor four(DType::u8, {2 * h, 2 * w, 3});
  for (int64_t y = 0; y < 2 * h; ++y) {
    for (int64_t k = 0; k < 2; ++k)
      std::memcpy(four.as<uint8_t>().data() + (y * 2 * w + k * w) * 3, one.as<uint8_t>().data() + y % h * w * 3,
                  static_cast<size_t>(w * 3));
  }
  Listed alone({one}), whole({four}), parts({four});
  WatchOptions o;
  o.detect.least_score = 0.5;
  const size_t each = watched(knots(), alone, o).sights.at(0).boxes.size();
  const auto all = watched(knots(), whole, o).sights.at(0).boxes;
  o.tile = 160, o.overlap = 48;
  const auto tiled = watched(knots(), parts, o).sights.at(0).boxes;
  CHECK(all.size() == 4 * each);
  CHECK(tiled.size() == all.size());
  for (const Box& b : all) CHECK(std::ranges::any_of(tiled, [&](const Box& t) { return t.label == b.label && overlap(t, b) > 0.8; }));
}

TEST_CASE("thousands of frames are never under way at once, and watching stops when it is asked to") {
  struct Endless : FrameSource {
    Tensor pixels = picture(16, 16, 1);
    std::atomic<int64_t>* taken = nullptr;
    int64_t given = 0, most = 0, all = 10000;
    std::optional<Frame> next() override {
      if (given == all) return std::nullopt;
      most = std::max(most, given - *taken);
      Frame f;
      f.index = given++;
      f.name = std::to_string(f.index);
      f.pixels = pixels;
      return f;
    }
  };
  for (int lanes : {1, 2}) {
    std::atomic<int64_t> taken = 0;
    Endless source;
    source.taken = &taken;
    WatchOptions o;
    o.lanes = lanes;
    const WatchReport r = watch(knots(), source, o, nullptr, [&](Sight& s) { CHECK(s.frame.index == taken++); });
    CHECK(r.frames == 10000);
    CHECK(source.most < 64);
    Endless endless;
    endless.taken = &taken;
    taken = 0;
    endless.all = int64_t{1} << 60;
    std::stop_source stop;
    o.stop = stop.get_token();
    const WatchReport cut = watch(knots(), endless, o, nullptr, [&](Sight&) {
      if (++taken == 50) stop.request_stop();
    });
    CHECK(cut.frames >= 50);
    CHECK(cut.frames < 200);
  }
}

TEST_CASE("sheets for watching: every key, and each fault with its line") {
  const Folder f;
  const auto read = [&](const std::string& text) {
    write(f.path / "w.toml", text);
    return read_watch_sheet(f.path / "w.toml");
  };
  const WatchSheet s = read(R"(
model = "m.onnx"
from = ["scans", "/abs"]
sees = "boxes"
lanes = 2
batch = 4
when_behind = "drop"
tile = 256
overlap = 24
multiple = 32
[pictures]
fit = "pad"
antialias = true
labels = ["a", "b"]
[detect]
form = "rows"
box = "centre"
anchors = [10, 20]
least_score = 0.4
suppress = "soft"
[camera]
rate = 30
late_percent = 5
[[rule]]
name = "large"
class = "a"
score = 0.6
larger_than_percent = 2
region = [0.1, 0, 0.9, 1]
frames = [3, 5]
gone_seconds = 1
hold_seconds = 0.5
then = [{ print = true }, { command = ["true", "{rule}"], on_failure = "go on" }]
over = [{ actuator = "gate.log" }]
)");
  CHECK(s.model == f.path / "m.onnx");
  CHECK(s.sources == std::vector<fs::path>{f.path / "scans", "/abs"});
  CHECK(s.options.sees == Sees::boxes);
  CHECK(s.options.drop_when_behind);
  CHECK(s.options.tile == 256);
  CHECK(s.options.form.box == BoxForm::centre);
  CHECK(s.options.detect.suppress.how == Suppression::soft);
  CHECK(s.options.pictures.antialias);
  CHECK(s.use_camera);
  CHECK(s.camera.late == doctest::Approx(0.05));
  REQUIRE(s.rules.size() == 1);
  CHECK(s.rules[0].rule.larger_than == doctest::Approx(0.02));
  CHECK(s.rules[0].rule.of_last == 5);
  CHECK(s.rules[0].rule.x == 0.1);
  CHECK(s.rules[0].then[1].go_on);
  CHECK(s.rules[0].over[0].actuator == f.path / "gate.log");
  const auto wrong = [&](const char* text, const char* says) { CHECK_THROWS_WITH_AS((void)read(text), doctest::Contains(says), Error); };
  wrong("modle = 1\n", "w.toml:1:1: the sheet has no key 'modle'; did you mean 'model'");
  wrong("lanes = 0\n", "whole number from 1 to 256");
  wrong("[detect]\nbox = \"center\"\n", "w.toml:2:7: 'box' of detect is one of");
  wrong("[[rule]]\nthen = [{ print = true }]\n", "[[rule]] has no 'name'");
  wrong("[[rule]]\nname = \"a\"\n", "rule 'a' does nothing");
  wrong("[[rule]]\nname = \"a\"\nthen = [{ print = true, line = \"x\" }]\n", "w.toml:3:9: an action is one of");
  wrong("[[rule]]\nname = \"a\"\nframes = [5, 3]\nthen = [{ print = true }]\n", "three of the last five");
  wrong("[[rule]]\nname = \"a\"\nregion = [0, 1]\nthen = [{ print = true }]\n", "left, top, width, height");
  wrong("[[rule]]\nname = \"a\"\nthen = [{ command = \"rm\" }]\n", "list of texts");
  wrong("rule = 3\n", "written [[rule]]");
}
