// From a frame to a model's input, and from its outputs to what was seen.
#pragma once

#include <mutex>
#include <string>
#include <vector>

#include "lathe/watch.hpp"

namespace lathe::watching {

using Way = PictureWay;

class Eye {
 public:
  // Throws Error: shape (the model takes no pictures), value (metadata).
  Eye(const Program& program, const WatchOptions& options);

  // For a frame, or a part of one, of this size. Throws Error (value, shape).
  Way way_for(int64_t height, int64_t width) const { return picture_way(o_.pictures, program_, height, width, multiple_); }
  // What the outputs are of: found once, from the first ones; of boxes, what those do not show from the next that do. One thread at a time.
  // Throws Error (shape, value).
  void find(const Answers& outputs, const Way& way);
  bool found() const { return found_; }
  // Item `item` of a batch. Throws Error (shape).
  void see(const Answers& outputs, int64_t item, const Way& way, Sight& sight) const;
  // The output of a part of a frame, cut by `margin` at sides that lie inside the frame, put into the sight at (top, left).
  struct Part {
    int64_t top = 0, left = 0, height = 0, width = 0;                      // of the frame, given to the model
    int64_t keep_top = 0, keep_left = 0, keep_height = 0, keep_width = 0;  // of the frame, taken from its answer
  };
  void see_part(const Answers& outputs, const Way& way, const Part& part, Sight& sight) const;

  Sees sees() const { return sees_; }
  DetectForm form() const {
    const std::lock_guard lock(mutex_);
    return form_;
  }
  const std::vector<std::string>& labels() const { return labels_; }
  int64_t multiple() const { return multiple_; }
  void set_multiple(int64_t m) { multiple_ = m; }
  bool open_size() const { return open_; }

 private:
  const Program& program_;
  const WatchOptions& o_;
  std::vector<std::string> labels_;
  bool open_ = false, found_ = false, channels_last_ = false;
  int64_t multiple_ = 1;
  Sees sees_ = Sees::labels;
  mutable std::mutex mutex_;  // of the form
  DetectForm form_;
};

// Parts of at most tile x tile pixels that cover the frame; each shares `overlap` pixels with what is taken from its neighbours.
std::vector<Eye::Part> parts_of(int64_t height, int64_t width, int64_t tile, int64_t overlap);

}  // namespace lathe::watching
