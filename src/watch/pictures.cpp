// Frames that are picture files.
#include <map>

#include "base/fail.hpp"
#include "lathe/watch.hpp"

namespace lathe {
namespace {

namespace fs = std::filesystem;

class PictureFrames : public FrameSource {
 public:
  PictureFrames(const std::vector<fs::path>& given, double rate) : files_(list_pictures(given)), rate_(rate) {
    std::map<std::string, int> times;
    for (const fs::path& f : files_) ++times[f.filename().string()];
    std::map<std::string, int> seen;
    for (const fs::path& f : files_) {
      std::string name = f.filename().string();
      if (times[name] > 1) name = (f.parent_path().filename() / f.filename()).string();
      // The same folder name twice, or a file given twice.
      if (const int n = ++seen[name]; n > 1) name += fmt::format(" ({})", n);
      names_.push_back(std::move(name));
    }
  }
  std::optional<Frame> next() override {
    if (at_ == files_.size()) return std::nullopt;
    Frame f;
    f.index = static_cast<int64_t>(at_);
    f.name = names_[at_];
    f.time = static_cast<double>(at_) / rate_;
    f.file = files_[at_++];
    return f;
  }
  std::optional<int64_t> count() const override { return static_cast<int64_t>(files_.size()); }

 private:
  std::vector<fs::path> files_;
  std::vector<std::string> names_;
  double rate_;
  size_t at_ = 0;
};

}  // namespace

std::unique_ptr<FrameSource> picture_frames(const std::vector<fs::path>& given, double rate) {
  if (!(rate > 0)) fail(Category::value, "frames come {} a second, expected more than 0", rate);
  return std::make_unique<PictureFrames>(given, rate);
}

}  // namespace lathe
