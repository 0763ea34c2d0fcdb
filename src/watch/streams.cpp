// Frames that follow one another in a file, a pipe or standard input.
#include <fcntl.h>
#include <poll.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <charconv>
#include <cmath>
#include <cstring>

#include "base/fail.hpp"
#include "lathe/watch.hpp"

namespace lathe {
namespace {

namespace fs = std::filesystem;
constexpr int64_t kMaxSide = 65536, kMaxPixels = int64_t{1} << 28;

// Bytes from a descriptor, with a limit on how long nothing may come.
class Bytes {
 public:
  Bytes(const fs::path& path, double stall) : name_(path == "-" ? "standard input" : path.string()), stall_(stall) {
    fd_ = path == "-" ? dup(0) : open(path.c_str(), O_RDONLY | O_CLOEXEC);
    if (fd_ < 0) fail(Category::resource, "{}: cannot be opened: {}", name_, std::strerror(errno));
  }
  ~Bytes() { close(fd_); }
  Bytes(const Bytes&) = delete;
  Bytes& operator=(const Bytes&) = delete;
  const std::string& name() const { return name_; }

  // As many as there are, up to `size`; fewer only at the end.
  size_t read(void* to, size_t size) {
    size_t done = 0;
    while (done < size) {
      if (at_ == filled_) {
        fill();
        if (filled_ == 0) break;
      }
      const size_t n = std::min(size - done, filled_ - at_);
      std::memcpy(static_cast<char*>(to) + done, buffer_.data() + at_, n);
      at_ += n, done += n;
    }
    return done;
  }
  // Up to a newline, which is taken; nothing at the end of the stream. Throws after `most` bytes without one.
  std::optional<std::string> line(size_t most) {
    std::string out;
    for (char c; read(&c, 1) == 1;) {
      if (c == '\n') return out;
      out += c;
      if (out.size() > most) fail(Category::format, "{}: no end of a header within {} bytes", name_, most);
    }
    if (out.empty()) return std::nullopt;
    fail(Category::format, "{}: ends in the middle of a header", name_);
  }

 private:
  void fill() {
    pollfd p{fd_, POLLIN, 0};
    const int ready = poll(&p, 1, static_cast<int>(stall_ * 1e3));
    if (ready == 0) fail(Category::resource, "{}: nothing has come for {:g} seconds", name_, stall_);
    ssize_t n = -1;
    do n = ::read(fd_, buffer_.data(), buffer_.size());
    while (n < 0 && errno == EINTR);
    if (n < 0) fail(Category::resource, "{}: cannot be read: {}", name_, std::strerror(errno));
    at_ = 0, filled_ = static_cast<size_t>(n);
  }
  std::string name_;
  double stall_;
  int fd_ = -1;
  std::vector<char> buffer_ = std::vector<char>(size_t{1} << 18);
  size_t at_ = 0, filled_ = 0;
};

std::string frame_name(int64_t index) { return fmt::format("frame_{:06}", index); }

void check_size(const std::string& where, int64_t height, int64_t width, double rate) {
  if (height < 1 || width < 1 || height > kMaxSide || width > kMaxSide || height * width > kMaxPixels)
    fail(Category::format, "{}: frames of {} x {} pixels are none this can take (sides up to {}, 268 million pixels)", where, height, width,
         kMaxSide);
  if (!(rate > 0 && rate < 1e6)) fail(Category::format, "{}: {} frames a second", where, rate);
}

class RawStream : public FrameSource {
 public:
  RawStream(std::unique_ptr<Bytes> bytes, const RawFrames& form) : bytes_(std::move(bytes)), form_(form) {
    check_size(bytes_->name(), form.height, form.width, form.rate);
  }
  std::optional<Frame> next() override {
    Frame f;
    f.pixels = Tensor(DType::u8, {form_.height, form_.width, 3});
    const size_t size = f.pixels.byte_size(), got = bytes_->read(f.pixels.data(), size);
    if (got == 0) return std::nullopt;
    if (got < size) fail(Category::format, "{}: ends in the middle of frame {}: {} of {} bytes", bytes_->name(), at_, got, size);
    f.index = at_;
    f.name = frame_name(at_);
    f.time = static_cast<double>(at_++) / form_.rate;
    return f;
  }

 private:
  std::unique_ptr<Bytes> bytes_;
  RawFrames form_;
  int64_t at_ = 0;
};

class Yuv4Mpeg2 : public FrameSource {
 public:
  explicit Yuv4Mpeg2(std::unique_ptr<Bytes> bytes) : bytes_(std::move(bytes)) {
    const auto head = bytes_->line(1024);
    if (!head || !head->starts_with("YUV4MPEG2"))
      fail(Category::format, "{}: does not begin with YUV4MPEG2; raw frames need their size (height and width)", bytes_->name());
    std::string colours = "420";
    size_t at = 9;
    while (at < head->size()) {
      const size_t end = std::min(head->find(' ', at), head->size());
      const std::string part = head->substr(at, end - at);
      at = end + 1;
      if (part.empty()) continue;
      const std::string value = part.substr(1);
      switch (part[0]) {
        case 'W': width_ = whole(value); break;
        case 'H': height_ = whole(value); break;
        case 'F': {
          const size_t colon = value.find(':');
          if (colon == std::string::npos) fail(Category::format, "{}: a rate of '{}'", bytes_->name(), value);
          rate_ = static_cast<double>(whole(value.substr(0, colon))) /
                  static_cast<double>(std::max<int64_t>(1, whole(value.substr(colon + 1))));
          break;
        }
        case 'C': colours = value; break;
        case 'X': full_ = full_ || value == "COLORRANGE=FULL"; break;
        case 'I':
          if (value != "p" && value != "?") fail(Category::unsupported, "{}: interlaced frames", bytes_->name());
          break;
        default: break;
      }
    }
    check_size(bytes_->name(), height_, width_, rate_);
    if (colours == "420" || colours == "420jpeg" || colours == "420mpeg2" || colours == "420paldv") across_ = down_ = 2;
    else if (colours == "422") across_ = 2;
    else if (colours == "mono") grey_ = true;
    else if (colours != "444")
      fail(Category::unsupported, "{}: colours are '{}', this reads 420, 422, 444 and mono of 8 bits", bytes_->name(), colours);
  }

  std::optional<Frame> next() override {
    const auto head = bytes_->line(1024);
    if (!head) return std::nullopt;
    if (!head->starts_with("FRAME")) fail(Category::format, "{}: frame {} does not begin with FRAME", bytes_->name(), at_);
    const int64_t cw = (width_ + across_ - 1) / across_, ch = (height_ + down_ - 1) / down_;
    const auto luma = static_cast<size_t>(height_ * width_), chroma = grey_ ? 0 : static_cast<size_t>(ch * cw);
    planes_.resize(luma + 2 * chroma);
    const size_t got = bytes_->read(planes_.data(), planes_.size());
    if (got < planes_.size())
      fail(Category::format, "{}: ends in the middle of frame {}: {} of {} bytes", bytes_->name(), at_, got, planes_.size());
    Frame f;
    f.pixels = Tensor(DType::u8, {height_, width_, 3});
    uint8_t* to = f.pixels.as<uint8_t>().data();
    // BT.601 in sixteenths of a bit.
    const auto fixed = [](double v) { return static_cast<int>(std::lrint(v * 65536)); };
    const int low = full_ ? 0 : 16, ly = fixed(full_ ? 1 : 255.0 / 219);
    const double lc = full_ ? 1 : 255.0 / 224;
    const int red = fixed(1.402 * lc), green_b = fixed(0.344136 * lc), green_r = fixed(0.714136 * lc), blue = fixed(1.772 * lc);
    const auto byte = [](int v) { return static_cast<uint8_t>(std::clamp((v + 32768) >> 16, 0, 255)); };
    for (int64_t y = 0; y < height_; ++y) {
      const uint8_t *lumas = planes_.data() + y * width_,
                    *bs = grey_ ? lumas : planes_.data() + static_cast<int64_t>(luma) + y / down_ * cw, *rs = grey_ ? lumas : bs + chroma;
      for (int64_t x = 0; x < width_; ++x, to += 3) {
        const int v = (lumas[x] - low) * ly, b = grey_ ? 0 : bs[x / across_] - 128, r = grey_ ? 0 : rs[x / across_] - 128;
        to[0] = byte(v + red * r);
        to[1] = byte(v - green_b * b - green_r * r);
        to[2] = byte(v + blue * b);
      }
    }
    f.index = at_;
    f.name = frame_name(at_);
    f.time = static_cast<double>(at_++) / rate_;
    return f;
  }

 private:
  int64_t whole(const std::string& text) const {
    int64_t v = 0;
    const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), v);
    if (error != std::errc() || end != text.data() + text.size() || v < 0)
      fail(Category::format, "{}: '{}' in its header is no whole number", bytes_->name(), text);
    return v;
  }
  std::unique_ptr<Bytes> bytes_;
  int64_t height_ = 0, width_ = 0, across_ = 1, down_ = 1, at_ = 0;
  double rate_ = 25;
  bool full_ = false, grey_ = false;
  std::vector<uint8_t> planes_;
};

}  // namespace

std::unique_ptr<FrameSource> stream_frames(const fs::path& path, const std::optional<RawFrames>& raw, double stall) {
  if (!(stall > 0 && stall < 1e6)) fail(Category::value, "a stream may stall for {} seconds, expected more than 0", stall);
  auto bytes = std::make_unique<Bytes>(path, stall);
  if (raw) return std::make_unique<RawStream>(std::move(bytes), *raw);
  return std::make_unique<Yuv4Mpeg2>(std::move(bytes));
}

}  // namespace lathe
