// A camera that is none: frames at a rate, late and missing ones included.
#include <chrono>
#include <cmath>
#include <random>
#include <thread>

#include "base/fail.hpp"
#include "lathe/watch.hpp"

namespace lathe {
namespace {

namespace fs = std::filesystem;

// A board that passes by from right to left: light wood, a dark knot every board length.
Tensor drawn_board(int64_t height, int64_t width, int64_t frame) {
  Tensor out(DType::u8, {height, width, 3});
  uint8_t* to = out.as<uint8_t>().data();
  const double way = 6.0 * static_cast<double>(frame), board = 2.0 * static_cast<double>(width), r = static_cast<double>(height) / 9;
  const double light[3]{222, 186, 134}, shade[3]{178, 126, 76}, hole[3]{32, 24, 18};
  std::vector<double> waves;  // of the grain, along the board
  for (int64_t x = 0; x < width; ++x) {
    const double along = static_cast<double>(x) + way;
    waves.push_back(0.6 * std::sin(along * 0.013) + 0.2 * std::sin(along * 0.041));
  }
  for (int64_t y = 0; y < height; ++y) {
    const double across = static_cast<double>(y), rings = across * 0.11 + 0.1 * std::sin(across * 0.05);
    for (int64_t x = 0; x < width; ++x, to += 3) {
      const double along = static_cast<double>(x) + way, ring = rings + waves[static_cast<size_t>(x)], part = ring - std::floor(ring);
      const double dark = 0.7 * part * part;
      const double which = std::floor(along / board), in_board = along - board * which;
      double knot = 0;
      if (std::abs(in_board - board / 2) < 3 * r) {
        const double middle = static_cast<double>(height) * (0.3 + 0.4 * std::fabs(std::sin(which * 1.7)));
        const double off = std::hypot((in_board - board / 2) / 1.2, across - middle) / r;
        knot = off > 2 ? 0 : 1 / (1 + std::exp((off - 1) * 12));
      }
      for (int c = 0; c < 3; ++c) {
        const double wood = light[c] * (1 - dark) + shade[c] * dark;
        to[c] = static_cast<uint8_t>(wood * (1 - knot) + hole[c] * knot + 0.5);
      }
    }
  }
  return out;
}

class Camera : public FrameSource {
 public:
  Camera(const std::vector<fs::path>& pictures, const StandInCamera& how)
      : how_(how), files_(pictures.empty() ? pictures : list_pictures(pictures)), random_(how.seed) {
    // What a camera holds is decoded when it is switched on, as far as it is not too much.
    constexpr size_t kHeld = 64;
    for (size_t i = 0; i < std::min(files_.size(), kHeld); ++i) held_.push_back(read_picture(files_[i]));
  }
  bool live() const override { return how_.real_time; }
  std::optional<int64_t> count() const override { return how_.frames > 0 ? std::optional(how_.frames) : std::nullopt; }

  std::optional<Frame> next() override {
    using Clock = std::chrono::steady_clock;
    std::uniform_real_distribution<double> share(0, 1);
    for (;;) {
      if (how_.frames > 0 && at_ == how_.frames) return std::nullopt;
      const int64_t frame = at_++;
      double due = static_cast<double>(frame) / how_.rate;
      const double a = share(random_), b = share(random_), c = share(random_);
      if (a < how_.late) due += b / how_.rate;
      if (how_.real_time) {
        if (frame == 0) start_ = Clock::now();
        std::this_thread::sleep_until(start_ + std::chrono::duration_cast<Clock::duration>(std::chrono::duration<double>(due)));
      }
      if (c < how_.missing) continue;
      Frame f;
      f.index = frame;
      f.name = fmt::format("frame_{:06}", frame);
      f.time = due;
      if (files_.empty()) {
        f.pixels = drawn_board(how_.height, how_.width, frame);
      } else {
        const auto which = static_cast<size_t>(frame) % files_.size();
        f.pixels = which < held_.size() ? held_[which] : read_picture(files_[which]);
      }
      return f;
    }
  }

 private:
  StandInCamera how_;
  std::vector<fs::path> files_;
  std::vector<Tensor> held_;
  std::mt19937_64 random_;
  int64_t at_ = 0;
  std::chrono::steady_clock::time_point start_;
};

}  // namespace

std::unique_ptr<FrameSource> stand_in_camera(const std::vector<fs::path>& pictures, const StandInCamera& how) {
  if (!(how.rate > 0 && how.rate <= 10000))
    fail(Category::value, "the camera's rate is {}, expected up to 10000 frames a second", how.rate);
  for (double share : {how.late, how.missing}) {
    if (!(share >= 0 && share < 1)) fail(Category::value, "a share of frames of {}, expected from 0 to less than 1", share);
  }
  if (how.height < 8 || how.width < 8 || how.height > 8192 || how.width > 8192)
    fail(Category::value, "drawn frames of {} x {}, expected sides from 8 to 8192", how.height, how.width);
  return std::make_unique<Camera>(pictures, how);
}

}  // namespace lathe
