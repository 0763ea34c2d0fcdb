// What was seen, kept in files.
#include <atomic>
#include <chrono>
#include <cerrno>
#include <cmath>
#include <cstring>
#include <map>
#include <set>

#include <nlohmann/json.hpp>

#include "base/clock.hpp"
#include "base/fail.hpp"
#include "base/files.hpp"
#include "lathe/watch.hpp"
#include "watch/names.hpp"

namespace lathe {
namespace {

using watching::label_of;

namespace fs = std::filesystem;
using Json = nlohmann::ordered_json;

std::string cell(const std::string& text) {
  if (text.find_first_of(",\"\n\r") == std::string::npos) return text;
  std::string out = "\"";
  for (char c : text) {
    if (c == '"') out += '"';
    out += c;
  }
  return out + "\"";
}

// Numbers of a file's rows: what a person needs, and no more.
std::string number(double v) { return fmt::format("{:.6g}", v); }

// The first cell of a CSV row.
std::string first_cell(const std::string& row) {
  if (!row.starts_with('"')) return row.substr(0, row.find(','));
  std::string out;
  for (size_t i = 1; i < row.size(); ++i) {
    if (row[i] == '"' && (i + 1 == row.size() || row[i + 1] != '"')) break;
    if (row[i] == '"') ++i;
    out += row[i];
  }
  return out;
}

std::vector<std::string> whole_lines(const std::string& text) {
  std::vector<std::string> out;
  for (size_t at = 0, end = text.find('\n'); end != std::string::npos; at = end + 1, end = text.find('\n', at))
    out.push_back(text.substr(at, end - at));
  return out;
}

// A file that grows.
class Growing {
 public:
  Growing() = default;
  ~Growing() {
    if (file_) std::fclose(file_);
  }
  Growing(const Growing&) = delete;
  Growing& operator=(const Growing&) = delete;
  explicit operator bool() const { return file_ != nullptr; }
  void open(const fs::path& path, bool append) {
    name_ = path == "-" ? "standard output" : path.string();
    file_ = path == "-" ? stdout : std::fopen(path.c_str(), append ? "ab" : "wb");
    if (!file_) fail(Category::resource, "{}: cannot be written: {}", name_, std::strerror(errno));
  }
  void write(std::string_view bytes) {
    if (std::fwrite(bytes.data(), 1, bytes.size(), file_) != bytes.size()) failed();
  }
  // What was written so far is there, whatever becomes of this process.
  void flush() {
    if (std::fflush(file_) != 0) failed();
  }
  void close() {
    if (!file_) return;
    FILE* f = std::exchange(file_, nullptr);
    if ((f == stdout ? std::fflush(f) : std::fclose(f)) != 0) failed();
  }

 private:
  [[noreturn]] void failed() const { fail(Category::resource, "{}: cannot be written: {}", name_, std::strerror(errno)); }
  std::string name_;
  FILE* file_ = nullptr;
};

void video_frame(std::string& out, const Tensor& pixels) {
  const int64_t count = pixels.shape()[0] * pixels.shape()[1];
  const uint8_t* p = pixels.as<uint8_t>().data();
  out = "FRAME\n";
  const size_t at = out.size();
  out.resize(at + static_cast<size_t>(3 * count));
  auto* to = reinterpret_cast<uint8_t*>(out.data() + at);
  const auto byte = [](double v) { return static_cast<uint8_t>(std::lrint(std::clamp(v, 0.0, 255.0))); };
  for (int64_t i = 0; i < count; ++i, p += 3) {
    const double y = 0.299 * p[0] + 0.587 * p[1] + 0.114 * p[2];
    to[i] = byte(y);
    to[count + i] = byte((p[2] - y) / 1.772 + 128);
    to[2 * count + i] = byte((p[0] - y) / 1.402 + 128);
  }
}

}  // namespace

struct Results::Impl {
  ResultFiles files;
  std::vector<std::string> labels;
  std::set<std::string> done;
  Growing lines, table, boxes, video;
  Shape video_shape;
  std::atomic<int64_t> drawn = 0;
  std::chrono::steady_clock::time_point start = std::chrono::steady_clock::now();

  // Rows of frames without a line go, and so does half a row at the end.
  void mend(const fs::path& path) const {
    if (path.empty() || !fs::exists(path)) return;
    std::string kept;
    const auto rows = whole_lines(read_file(path));
    for (size_t i = 0; i < rows.size(); ++i) {
      if (i == 0 || done.contains(first_cell(rows[i]))) kept += rows[i] + "\n";
    }
    write_file(path, kept);
  }

  void resume() {
    if (files.lines.empty() || files.lines == "-")
      fail(Category::value, "what is to be resumed is told from its lines of JSON: name their file");
    if (!files.video.empty()) fail(Category::value, "{}: a video is not resumed", files.video.string());
    if (!fs::exists(files.lines)) return;
    std::string kept;
    const auto rows = whole_lines(read_file(files.lines));
    for (size_t i = 0; i < rows.size(); ++i) {
      const Json j = Json::parse(rows[i], nullptr, false);
      if (!j.is_object() || !j.contains("name") || !j["name"].is_string())
        fail(Category::format, "{}: line {} is no line of results; nothing was changed", files.lines.string(), i + 1);
      done.insert(j["name"].get<std::string>());
      kept += rows[i] + "\n";
    }
    write_file(files.lines, kept);
    mend(files.table);
    mend(files.boxes);
  }

  void open(Growing& file, const fs::path& path, const char* head) {
    if (path.empty()) return;
    const bool append = files.resume && fs::exists(path) && fs::file_size(path) > 0;
    file.open(path, append);
    if (!append) file.write(head);
  }
};

Results::Results(ResultFiles files, std::vector<std::string> labels) : impl_(std::make_unique<Impl>()) {
  impl_->files = std::move(files);
  impl_->labels = std::move(labels);
  const ResultFiles& f = impl_->files;
  if (f.resume) impl_->resume();
  for (const fs::path& folder : {f.annotated, f.masks}) {
    std::error_code error;
    if (!folder.empty()) fs::create_directories(folder, error);
    if (error) fail(Category::resource, "{}: this folder cannot be made: {}", folder.string(), error.message());
  }
  impl_->open(impl_->lines, f.lines, "");
  impl_->open(impl_->table, f.table, "file,frame,time,class,score,x,y,width,height\n");
  impl_->open(impl_->boxes, f.boxes, "file,class,x,y,width,height\n");
  impl_->open(impl_->video, f.video, "");
}
Results::~Results() = default;
Results::Results(Results&&) noexcept = default;

bool Results::done(const std::string& name) const { return impl_->done.contains(name); }
int64_t Results::done_before() const { return static_cast<int64_t>(impl_->done.size()); }

std::unique_ptr<FrameSource> Results::left_of(std::unique_ptr<FrameSource> source) const {
  class Left : public FrameSource {
   public:
    Left(std::unique_ptr<FrameSource> all, std::set<std::string> done) : all_(std::move(all)), done_(std::move(done)) {}
    std::optional<Frame> next() override {
      for (;;) {
        std::optional<Frame> f = all_->next();
        if (!f || !done_.contains(f->name)) return f;
      }
    }
    bool live() const override { return all_->live(); }
    std::optional<int64_t> count() const override {
      const auto n = all_->count();
      return n ? std::optional(*n - static_cast<int64_t>(done_.size())) : n;
    }

   private:
    std::unique_ptr<FrameSource> all_;
    std::set<std::string> done_;
  };
  if (impl_->done.empty()) return source;
  return std::make_unique<Left>(std::move(source), impl_->done);
}

void Results::draw(Sight& s) {
  const ResultFiles& f = impl_->files;
  if (!s.failed.empty() || (f.annotated.empty() && f.masks.empty() && f.video.empty())) return;
  const auto place = [&](const fs::path& folder) {
    fs::path p = folder / s.frame.name;
    if (p.extension() != ".png") p += ".png";
    if (p.has_parent_path()) fs::create_directories(p.parent_path());
    return p;
  };
  if (!f.masks.empty() && !s.mask.empty()) {
    Tensor grey(DType::u8, {s.mask.shape()[0], s.mask.shape()[1], 3});
    const auto m = s.mask.as<int64_t>();
    const auto to = grey.as<uint8_t>();
    for (size_t i = 0; i < m.size(); ++i) {
      const auto v = static_cast<uint8_t>(m[i] < 0 || m[i] > 255 ? 255 : m[i]);
      to[3 * i] = to[3 * i + 1] = to[3 * i + 2] = v;
    }
    write_file(place(f.masks), encode_png(grey));
  }
  if (f.annotated.empty() && f.video.empty()) return;
  std::string corner;
  if (f.corner) {
    const double seconds = since(impl_->start);
    corner = fmt::format("{:.1f} frames/s", static_cast<double>(++impl_->drawn) / std::max(seconds, 1e-6));
  }
  const Tensor pixels = annotated(s, impl_->labels, corner);
  if (!f.annotated.empty()) write_file(place(f.annotated), encode_png(pixels));
  if (!f.video.empty()) {
    video_frame(s.drawn, pixels);
  }
}

void Results::take(const Sight& s) {
  Impl& r = *impl_;
  const std::string name = cell(s.frame.name);
  if (r.video && s.failed.empty()) {
    const Shape& shape = s.frame.pixels.shape();
    if (r.video_shape.empty()) {
      r.video_shape = shape;
      r.video.write(fmt::format("YUV4MPEG2 W{} H{} F{}:1000 Ip A1:1 C444 XCOLORRANGE=FULL\n", shape[1], shape[0],
                                std::max<int64_t>(1, std::llround(r.files.rate * 1000))));
    }
    if (r.video_shape != shape)
      fail(Category::shape, "{}: frame '{}' is {} x {} pixels, the video's are {} x {}", r.files.video.string(), s.frame.name, shape[0],
           shape[1], r.video_shape[0], r.video_shape[1]);
    r.video.write(s.drawn);
  }
  if (r.table) {
    const std::string head = fmt::format("{},{},{}", name, s.frame.index, number(s.frame.time));
    for (const Box& b : s.boxes)
      r.table.write(fmt::format("{},{},{},{},{},{},{}\n", head, cell(label_of(b.label, r.labels)), number(b.score), number(b.x),
                                number(b.y), number(b.width), number(b.height)));
    if (!s.labels.empty())
      r.table.write(fmt::format("{},{},{},,,,\n", head, cell(label_of(s.labels[0].first, r.labels)), number(s.labels[0].second)));
    r.table.flush();
  }
  if (r.boxes) {
    if (s.boxes.empty() && s.failed.empty()) r.boxes.write(name + ",,,,,\n");
    for (const Box& b : s.boxes)
      r.boxes.write(fmt::format("{},{},{},{},{},{}\n", name, cell(label_of(b.label, r.labels)), number(b.x), number(b.y), number(b.width),
                                number(b.height)));
    r.boxes.flush();
  }
  if (r.lines) {
    r.lines.write(sight_json(s, r.labels) + "\n");
    r.lines.flush();
  }
}

void Results::finish() {
  for (Growing* g : {&impl_->video, &impl_->table, &impl_->boxes, &impl_->lines}) g->close();
}

std::string sight_json(const Sight& s, const std::vector<std::string>& labels) {
  Json j{{"name", s.frame.name}, {"frame", s.frame.index}, {"time", s.frame.time}};
  if (!s.failed.empty()) {
    j["failed"] = s.failed;
    return j.dump(-1, ' ', false, Json::error_handler_t::replace);
  }
  j["height"] = s.frame.pixels.shape()[0];
  j["width"] = s.frame.pixels.shape()[1];
  const auto rounded = [](double v) { return std::round(v * 1e4) / 1e4; };
  if (!s.labels.empty()) {
    j["labels"] = Json::array();
    for (const auto& [label, score] : s.labels) j["labels"].push_back({{"class", label_of(label, labels)}, {"score", rounded(score)}});
  } else if (!s.mask.empty()) {
    std::map<int64_t, int64_t> pixels;
    for (int64_t v : s.mask.as<int64_t>()) ++pixels[v];
    j["mask"] = Json::object();
    for (const auto& [v, n] : pixels) {
      if (v >= 0) j["mask"][label_of(v, labels)] = rounded(static_cast<double>(n) / static_cast<double>(s.mask.size()));
    }
  } else if (s.picture.empty()) {
    j["boxes"] = Json::array();
    for (const Box& b : s.boxes)
      j["boxes"].push_back({{"class", label_of(b.label, labels)},
                            {"score", rounded(b.score)},
                            {"x", rounded(b.x)},
                            {"y", rounded(b.y)},
                            {"width", rounded(b.width)},
                            {"height", rounded(b.height)}});
  }
  return j.dump(-1, ' ', false, Json::error_handler_t::replace);
}

}  // namespace lathe
