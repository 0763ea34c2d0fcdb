// Frames from pictures, streams and cameras through a model, and something that acts on what is seen.
#pragma once

#include <cstdint>
#include <filesystem>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "lathe/detect.hpp"
#include "lathe/program.hpp"

namespace lathe {

// ---- where frames come from ----

struct Frame {
  int64_t index = 0;             // from 0, of those the source gave
  std::string name;              // a picture's file name, or "frame_000017"
  double time = 0;               // seconds, by the source's clock
  std::filesystem::path file{};  // of a picture that is still to be decoded
  Tensor pixels{};               // or u8 [height, width, 3], RGB
};

class FrameSource {
 public:
  virtual ~FrameSource() = default;
  // The next frame, waiting for it; nothing at the end. Called from one thread. Throws Error: format (the stream ends in the middle of a
  // frame, or is none), resource (it cannot be read, it has stalled).
  virtual std::optional<Frame> next() = 0;
  // Whether frames come by themselves, so that waiting for them is no use and being late costs some.
  virtual bool live() const { return false; }
  // How many there will be, where that is known.
  virtual std::optional<int64_t> count() const { return std::nullopt; }
};

// Pictures and the pictures of folders, in the order of list_pictures; each `1 / rate` seconds after the last. Names that two of them share
// get their folder before them. They are decoded by whoever prepares them.
std::unique_ptr<FrameSource> picture_frames(const std::vector<std::filesystem::path>& given, double rate = 1);

struct RawFrames {
  int64_t height = 0, width = 0;
  double rate = 25;
};
// Frames one after the other: YUV4MPEG2 (4:2:0, 4:2:2, 4:4:4, grey; 8 bits; BT.601, full range where the header says so), or `raw` RGB
// bytes when that is given. `path` "-": standard input. A stream that gives nothing for `stall` seconds ends with an Error (resource).
std::unique_ptr<FrameSource> stream_frames(const std::filesystem::path& path, const std::optional<RawFrames>& raw = {}, double stall = 10);

struct StandInCamera {
  double rate = 30;    // frames a second
  int64_t frames = 0;  // how many; 0: until it is stopped
  double late = 0;     // share of frames that come up to a frame late
  double missing = 0;  // share that do not come at all
  uint64_t seed = 1;
  bool real_time = true;              // false: its clock alone runs, nobody waits; what is seen does not depend on the machine
  int64_t height = 128, width = 192;  // of drawn frames
};
// A camera for trying things out: goes round the pictures given, or draws boards that pass by when there are none.
std::unique_ptr<FrameSource> stand_in_camera(const std::vector<std::filesystem::path>& pictures, const StandInCamera& how = {});

// ---- what is seen ----

enum class Sees : uint8_t { labels, boxes, masks, pictures };

// One frame and what the model made of it.
struct Sight {
  Frame frame;                                     // its pixels included
  std::vector<std::pair<int64_t, double>> labels;  // classes and their scores, the best five first
  std::vector<Box> boxes;
  Tensor mask;          // i64 [height, width] of the frame; -1: the model does not say
  Tensor picture;       // u8 [height, width, 3], at the frame's size
  std::string failed;   // why there is nothing: the frame could not be read
  int64_t dropped = 0;  // frames that newer ones replaced, so far
  double latency = 0;   // seconds from when the frame came to when its result was there
  std::string drawn;    // for `draw` to fill: a picture file's bytes, say
};

struct WatchOptions {
  PictureSettings pictures{};
  int64_t multiple = 1;        // of sides left open: rounded up to it; the metadata's "multiple" when it is 1
  std::optional<Sees> sees{};  // found from the outputs when nobody says
  DetectForm form{};
  DetectOptions detect{};
  std::vector<std::string> labels{};  // the metadata's, when empty
  std::optional<double> white{};      // of pictures made: what white is in the output; 1 when nobody says
  int lanes = 1, threads = 0;         // threads of each lane; 0: the cores, shared out
  int64_t batch = 1;                  // frames of one size that go together, when so many wait
  bool drop_when_behind = false;      // the latest frame wins; false: none is lost
  int64_t tile = 0, overlap = 16;     // pictures with a side above `tile` go in parts that share so many pixels at each side; 0: whole
  bool strict = false;                // the first frame that cannot be read ends it
  RunOptions run{};
  std::stop_token stop{};
};

struct WatchReport {
  Sees sees = Sees::labels;
  DetectForm form;  // of boxes, complete
  int64_t frames = 0, dropped = 0, failed = 0;
  double seconds = 0;             // from the first frame's coming to the last result
  double waited = 0;              // of it for the source
  std::vector<double> latencies;  // seconds, in the order of the frames
  std::vector<double> runs;       // seconds of each run of the model
  int64_t sizes = 0;              // of pictures, met
  int editions = 0;               // compiled on the way
  double compiling = 0;           // seconds that their first runs took more than others
  std::string ended;              // why the source ended before its end, or ""
};

// Runs until the source ends or `stop` is asked for. Capture, preparing, running and drawing of frames overlap; queues between
// threads are bounded. `draw` (may be empty) is called from several threads at once, `take` from one at a time and in the order of
// the frames. Throws Error: what runs throw, what `draw` and `take` throw, shape (outputs that fit nothing). What the source throws after
// its first frame ends the watching, and stands in `ended`.
WatchReport watch(const Program& program, FrameSource& source, const WatchOptions& options, const std::function<void(Sight&)>& draw,
                  const std::function<void(Sight&)>& take);

// ---- drawing ----

// The frame with what was seen: outlines and names of boxes, the mask in colours over it, the best label; the picture made instead of it.
// `corner`: a line at the top, "" for none.
Tensor annotated(const Sight& sight, const std::vector<std::string>& labels, const std::string& corner = "");

// ---- results ----

struct ResultFiles {
  std::filesystem::path annotated{};  // a folder: each frame with what was seen, as PNG, by its name
  std::filesystem::path masks{};      // a folder: masks as greyscale PNG, a pixel's value is its class, 255: the model does not say
  std::filesystem::path lines{};      // a line of JSON for each frame, in their order
  std::filesystem::path table{};      // CSV: a row for each thing seen
  std::filesystem::path boxes{};      // CSV of file, class, x, y, width, height, as read_boxes reads it
  std::filesystem::path video{};      // YUV4MPEG2 of the annotated frames, which are all of one size
  double rate = 25;                   // of the video
  bool resume = false;                // go on where `lines` ends; rows of frames that have no line are taken back
  bool corner = false;                // frames a second in the corner of annotated frames
};

// Writes results as they come. A frame's line is written last: a frame that has one is done, whenever the process ends.
class Results {
 public:
  // Opens (or, to resume, mends) the files. Throws Error: resource (a file cannot be written), format (what is to be resumed is no such
  // file), value (resuming without lines, or with a video).
  Results(ResultFiles files, std::vector<std::string> labels);
  ~Results();
  Results(Results&&) noexcept;
  // Whether a frame of this name was done before.
  bool done(const std::string& name) const;
  int64_t done_before() const;
  // The source without the frames that are done.
  std::unique_ptr<FrameSource> left_of(std::unique_ptr<FrameSource> source) const;
  void draw(Sight& sight);        // for watch()'s `draw`: from several threads
  void take(const Sight& sight);  // for its `take`. Throws Error (resource; shape: a video's frame of another size)
  void finish();                  // closes the files. Throws Error (resource)

 private:
  struct Impl;
  std::unique_ptr<Impl> impl_;
};

// One frame as a line of JSON: name, frame, time, height, width, and boxes, labels or shares of a mask; or why it failed.
std::string sight_json(const Sight& sight, const std::vector<std::string>& labels);

// ---- acting on it ----

struct Rule {
  std::string name;
  std::vector<std::string> classes{};  // any of these; empty: any class
  double least_score = 0;
  double larger_than = 0;                      // share of the picture that a box (or a class's part of a mask) covers
  double x = 0, y = 0, width = 1, height = 1;  // where a box's middle lies, in shares of the picture
  int64_t at_least = 1;                        // boxes
  int64_t frames = 1, of_last = 1;             // it holds in so many of the last so many frames: then it begins
  double gone = 0;                             // seconds without it in any frame: then it is over
  double hold = 0;                             // seconds that it lasts at least
};

struct Happening {
  std::string rule;
  bool begins = true;
  int64_t frame = 0;
  std::string frame_name;
  double time = 0;         // the frame's
  std::vector<Box> boxes;  // that the rule looked at, in this frame
};

// Rules and what they remember. Time is that of the frames: the same frames give the same happenings, whatever the clock.
class RuleBook {
 public:
  // Throws Error (value) for classes that are none of the labels, and for what contradicts itself.
  RuleBook(std::vector<Rule> rules, std::vector<std::string> labels);
  // In the order of the rules. A frame that could not be read says nothing, and ages nothing.
  std::vector<Happening> look(const Sight& sight);
  // What is still going on ends with the source, at the last frame's time.
  std::vector<Happening> finish();
  // Of rule `i`, whether it is going on.
  bool on(size_t i) const { return states_.at(i).on; }

 private:
  struct State {
    bool on = false;
    double began = 0, last_seen = 0;
    std::vector<char> recent;
  };
  std::vector<Rule> rules_;
  std::vector<std::string> labels_;
  std::vector<State> states_;
  Frame last_;
  bool any_ = false;
};

// One thing that is done: exactly one of these is set.
struct Action {
  bool print = false;                  // a line of JSON on standard output
  std::filesystem::path line{};        // the same to a file or named pipe, at its end
  std::vector<std::string> command{};  // a program and its arguments, no shell; {rule}, {state}, {frame}, {time} are filled in
  std::filesystem::path actuator{};    // the stand-in actuator: a log of its switching on and off
  bool go_on = false;                  // when it fails; false: the watching ends
  double limit = 10;                   // seconds that a command may take
};

struct RuledActions {
  Rule rule;
  std::vector<Action> then, over;  // when it begins, and when it is over
};

std::string happening_json(const Happening& happening, const std::vector<std::string>& labels);
// Throws Error (resource) with what went wrong: the program is not there or fails or takes too long, the file cannot be written.
void act(const Action& action, const Happening& happening, const std::vector<std::string>& labels);

// ---- on a sheet ----

struct WatchSheet {
  std::filesystem::path model;
  std::vector<std::filesystem::path> sources;
  WatchOptions options;
  std::vector<RuledActions> rules;
  StandInCamera camera;
  bool use_camera = false;
};
// TOML; docs/watch.md lists its keys. Throws Error (format, value) with line and column.
WatchSheet read_watch_sheet(const std::filesystem::path& file);

}  // namespace lathe
