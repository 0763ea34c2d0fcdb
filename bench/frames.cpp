// Pictures and frames against what limits them: preparing against copying, suppression, the whole chain against the model alone, latency.
//
//   frames [--seconds S]
//
// Each pair is timed by turns; figures are medians over the rounds.
#include <algorithm>
#include <cstdio>
#include <cstring>
#include <random>
#include <thread>

#include "lathe/lathe.hpp"
#include "timing.hpp"

namespace {

using namespace lathe;

template <typename F>
double seconds_of(F&& f) {
  const auto start = Clock::now();
  f();
  return since(start);
}

Tensor noise(int64_t height, int64_t width) {
  Tensor t(DType::u8, {height, width, 3});
  std::mt19937_64 random(1);
  for (uint8_t& v : t.as<uint8_t>()) v = static_cast<uint8_t>(random());
  return t;
}

void preparing(int rounds) {
  std::printf("preparing 1920 x 1080 to 640 x 640, one thread, against a copy of as many bytes read and written\n");
  const Tensor pixels = noise(1080, 1920);
  for (const auto& [name, dtype, last, fit] : {std::tuple{"f32, channels first, stretched", DType::f32, false, Fit::stretch},
                                               std::tuple{"f32, channels first, padded", DType::f32, false, Fit::pad},
                                               std::tuple{"f32, channels last, stretched", DType::f32, true, Fit::stretch},
                                               std::tuple{"u8, channels last, stretched", DType::u8, true, Fit::stretch},
                                               std::tuple{"f16, channels first, stretched", DType::f16, false, Fit::stretch}}) {
    PictureOptions o;
    o.height = o.width = 640, o.dtype = dtype, o.channels_last = last, o.fit = fit;
    if (dtype != DType::u8) o.mean = {120, 120, 120}, o.scale = {0.01f};
    // As many bytes as the picture is read and the input written, half of them each way.
    Tensor input = picture_to_tensor(pixels, o);
    const size_t bytes = (pixels.byte_size() + input.byte_size()) / 2;
    std::vector<char> from(bytes, 1), to(bytes);
    std::vector<double> ours, copies;
    for (int i = 0; i < rounds; ++i) {
      ours.push_back(seconds_of([&] { picture_into(pixels, o, input); }));
      copies.push_back(seconds_of([&] { std::memcpy(to.data(), from.data(), bytes); }));
    }
    std::printf("  %-34s %7.3f ms, copy %7.3f ms: %5.1f %% of copy bandwidth\n", name, 1e3 * median(ours), 1e3 * median(copies),
                100 * median(copies) / median(ours));
  }
}

void suppression(int rounds) {
  std::printf("25,000 boxes and 80 classes, one thread\n");
  std::mt19937_64 random(2);
  std::uniform_real_distribution<float> at(0, 600), size(5, 60), score(0, 1);
  for (const auto& [name, share] : {std::pair{"a twentieth above the limit of 0.25", 0.05f}, std::pair{"all above it", 1.0f}}) {
    Tensor boxes(DType::f32, {1, 25000, 4}), scores(DType::f32, {1, 25000, 80});
    for (int64_t i = 0; i < 25000; ++i) {
      float* b = boxes.as<float>().data() + 4 * i;
      b[0] = at(random), b[1] = at(random), b[2] = b[0] + size(random), b[3] = b[1] + size(random);
      for (int64_t k = 0; k < 80; ++k) scores.as<float>()[static_cast<size_t>(80 * i + k)] = 0.2f * score(random);
      if (score(random) < share) scores.as<float>()[static_cast<size_t>(80 * i) + random() % 80] = 0.3f + 0.7f * score(random);
    }
    const Answers answers{{"boxes", "scores"}, {boxes, scores}};
    const DetectForm form = complete_form(answers, 80);
    const Placement place = placement(Fit::stretch, 640, 640, 640, 640);
    SuppressOptions how;
    how.most = 25000;
    std::vector<double> suppressing, all;
    size_t kept = 0;
    for (int i = 0; i < rounds; ++i) {
      auto found = candidates(answers, form, 0, 640, 640, 0.25);
      suppressing.push_back(seconds_of([&] { kept = suppress(found, how).size(); }));
      all.push_back(seconds_of([&] { (void)detect(answers, form, 0, 640, 640, place, {0.25, how}); }));
    }
    std::printf("  %-36s suppression %7.3f ms, with reading the scores %7.3f ms, %zu boxes stay\n", name, 1e3 * median(suppressing),
                1e3 * median(all), kept);
  }
}

class Held : public FrameSource {
 public:
  Held(const Tensor& pixels, int64_t frames) : pixels_(pixels), frames_(frames) {}
  std::optional<Frame> next() override {
    if (at_ == frames_) return std::nullopt;
    Frame f;
    f.index = at_;
    f.time = static_cast<double>(at_++);
    f.pixels = pixels_;
    return f;
  }

 private:
  Tensor pixels_;
  int64_t frames_, at_ = 0;
};

// The model's rate on two lanes of one thread, inputs ready, and that of watching decoded frames.
void chain(const Program& program, const char* name, int64_t height, int64_t width, int64_t frames, int rounds) {
  const Tensor pixels = noise(height, width);
  const PictureWay way = picture_way({}, program, height, width, size_multiple(program.metadata()));
  const Tensor input = picture_to_tensor(pixels, way.options);
  WatchOptions o;
  o.lanes = 2, o.threads = 1;
  std::vector<double> alone, watched, parts;
  for (int i = 0; i < rounds; ++i) {
    alone.push_back(seconds_of([&] {
      std::vector<std::thread> lanes;
      for (int k = 0; k < 2; ++k) {
        lanes.emplace_back([&] {
          Lane lane(program, 1);
          for (int64_t n = 0; n < frames / 2; ++n) (void)lane.run(std::span<const Tensor>(&input, 1));
        });
      }
      for (std::thread& t : lanes) t.join();
    }));
    Held source(pixels, frames);
    watched.push_back(seconds_of([&] { watch(program, source, o, nullptr, [](Sight&) {}); }));
    parts.push_back(seconds_of([&] {
      for (int64_t n = 0; n < frames; ++n) (void)picture_to_tensor(pixels, way.options);
    }));
  }
  std::printf("  %-28s model alone %7.1f frames/s, watching %7.1f frames/s: %.2f; preparing %.1f %% of the model's time\n", name,
              static_cast<double>(frames) / median(alone), static_cast<double>(frames) / median(watched), median(alone) / median(watched),
              100 * median(parts) / (2 * median(alone)));
}

void live(const Program& program, double seconds) {
  StandInCamera how;
  how.rate = 30, how.frames = static_cast<int64_t>(30 * seconds), how.late = 0.05;
  how.height = 480, how.width = 640;
  const auto camera = stand_in_camera({}, how);
  WatchOptions o;
  o.drop_when_behind = true;
  const WatchReport r = watch(program, *camera, o, nullptr, [](Sight&) {});
  const auto part = [&](double from, double to) {
    const auto n = static_cast<double>(r.latencies.size());
    return 1e3 *
           median({r.latencies.begin() + static_cast<std::ptrdiff_t>(from * n), r.latencies.begin() + static_cast<std::ptrdiff_t>(to * n)});
  };
  std::printf(
      "a camera of 30 frames a second, %.0f s: latency %.2f ms in the first quarter, %.2f ms in the last; %.1f frames/s, %lld dropped\n",
      seconds, part(0, 0.25), part(0.75, 1), static_cast<double>(r.frames) / r.seconds, static_cast<long long>(r.dropped));
}

}  // namespace

int main(int argc, char** argv) {
  double seconds = 10;
  if (argc == 3 && std::string(argv[1]) == "--seconds") seconds = std::atof(argv[2]);
  else if (argc != 1) {
    std::fprintf(stderr, "usage: frames [--seconds S]   (of the camera)\n");
    return 2;
  }
  try {
    preparing(61);
    suppression(31);
    std::printf("two lanes of one thread, decoded frames\n");
    const std::filesystem::path demo = LATHE_DEMO_DIR;
    const Program knots = compile(load(demo / "knots/knots.onnx"), {.threads = 2, .dims = {{"batch", 1}}});
    const Program sanding = compile(load(demo / "sanding/sanding.onnx"), {.threads = 2, .dims = {{"batch", 1}}});
    chain(knots, "knots, 128 x 192", 128, 192, 1000, 9);
    chain(knots, "knots, 480 x 640", 480, 640, 100, 5);
    chain(sanding, "sanding, 128 x 192", 128, 192, 60, 5);
    live(knots, seconds);
  } catch (const std::exception& e) {
    std::fprintf(stderr, "frames: %s\n", e.what());
    return 1;
  }
}
