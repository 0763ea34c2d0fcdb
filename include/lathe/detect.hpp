// What a model's outputs say of a picture: boxes and masks, in the picture's own pixels.
#pragma once

#include <cstdint>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "lathe/pictures.hpp"

namespace lathe {

struct Box {
  int64_t label = 0;
  double x = 0, y = 0, width = 0, height = 0;  // left, top; pixels of the picture
  double score = 1;
};
double overlap(const Box& a, const Box& b);  // intersection over union

enum class BoxForm : uint8_t {
  corners,    // left, top, right, bottom
  centre,     // middle x, y, width, height
  corner,     // left, top, width, height
  distances,  // of cells: from the cell's middle to left, top, right, bottom
  offsets,    // of cells: middle x, y from the cell's own corner before a sigmoid; logarithms of width and height over the anchor's
};
enum class ScoreForm : uint8_t { as_is, sigmoid, softmax };

// Which output says what. What is left empty is found out from names, shapes and the first values (complete_form).
struct DetectForm {
  enum class Kind : uint8_t {
    rows,    // one output [n, boxes, 4 + scores] or [n, 4 + scores, boxes]; with `objectness` a number before the scores
    tables,  // two: boxes [n, boxes, 4] or [n, boxes, 1, 4], scores [n, boxes, classes] or [n, classes, boxes]
    cells,   // a map for each scale, [n, anchors * (4 + scores), rows, columns] or channels last
    chosen,  // suppressed already: rows of box, score, class (of seven numbers: the item first); or boxes, scores, classes, and how many
    picked,  // boxes and scores as in tables, and what NonMaxSuppression picks of them: [m, 3] of item, class, box
  };
  std::optional<Kind> kind{};
  std::vector<std::string> outputs{};  // in the order above
  std::optional<BoxForm> box{};
  std::optional<bool> relative{};  // of 1, not pixels of the input; distances: of cells always
  std::optional<ScoreForm> scores{};
  std::optional<bool> objectness{};
  std::optional<bool> turned{};         // of rows: the numbers of a box lie along the axis before the last
  std::optional<bool> y_first{};        // top, left, bottom, right; middle y, x, height, width
  std::optional<bool> logarithms{};     // of distances
  std::optional<int64_t> background{};  // the class that stands for nothing
  std::vector<double>
      anchors{};  // width, height in pixels of the input, for each scale and each of its anchors; rows of the largest map first
};

std::string_view to_string(DetectForm::Kind kind);
// One key of a description: form, outputs, box, relative, scores, objectness, turned, y_first, box_values ("as they are", "logarithms"),
// background, anchors. `json`: its value. Throws Error (value) naming the key and what it takes.
void set_form_key(DetectForm& form, const std::string& key, const std::string& json);
// A JSON object of such keys, as the metadata's "detect" holds it.
DetectForm parse_form(const std::string& json);
// What is given, and of the rest what the metadata's "detect" says. Throws Error (value).
DetectForm described_form(const DetectForm& given, const std::map<std::string, std::string>& metadata);
// The same, for a person or a job sheet: one line of TOML.
std::string form_text(const DetectForm& form);

// What a model gave for one batch, by name.
struct Answers {
  std::vector<std::string> names;
  std::vector<Tensor> tensors;
};
// Whether outputs of these names, types and shapes hold boxes by any reading; no values are looked at.
bool holds_boxes(const Answers& outputs);
// What `given` leaves open, from names, shapes and values. `classes`: how many labels there are, 0 when nobody says. Throws Error (shape)
// when no reading fits, or (value) when several do: the sentence names what there is and the keys that decide.
DetectForm complete_form(const Answers& outputs, int64_t classes, const DetectForm& given = {});

// Boxes of one item of a batch, in pixels of the model's input, before any suppression; the best class of each. What
// `form` still leaves open, since no picture has held anything yet, is taken as pixels, corners and scores as they are.
// Throws Error (shape) when the outputs do not fit it.
std::vector<Box> candidates(const Answers& outputs, const DetectForm& form, int64_t item, int64_t input_height, int64_t input_width,
                            double least_score);

enum class Suppression : uint8_t { none, by_class, across_classes, soft };
struct SuppressOptions {
  Suppression how = Suppression::by_class;
  double most_overlap = 0.5;  // intersection over union, above which the box with the lower score goes
  int64_t most = 300;         // boxes of a picture
  double least_score = 0;     // soft: boxes whose score falls below this go
  double softness = 0.5;      // soft: a box that overlaps a better one of its class by o keeps exp(-o * o / softness) of its score
};
// By falling score; of equal scores the earlier box first.
std::vector<Box> suppress(std::vector<Box> boxes, const SuppressOptions& options = {});

// From pixels of the model's input to those of the picture, cut at its border; boxes of which nothing is left go.
std::vector<Box> boxes_in_picture(const std::vector<Box>& boxes, const Placement& placement);

struct DetectOptions {
  double least_score = 0.25;
  SuppressOptions suppress{};
};
// All of it for one item: candidates, suppression (not of what is chosen or picked), the picture's pixels.
std::vector<Box> detect(const Answers& outputs, const DetectForm& form, int64_t item, int64_t input_height, int64_t input_width,
                        const Placement& placement, const DetectOptions& options = {});

// What an output says of each pixel of a picture of this size: scores [1, classes, h, w] (the largest), one score [1, 1, h, w]
// (above a half where all lie in 0..1, else above zero), or classes [1, h, w] of whole numbers. A picture's pixel takes the nearest of the
// output's; -1 where a crop left it out. [height, width] of i64. Throws Error (shape).
Tensor mask_of(const Tensor& output, Fit fit, int64_t height, int64_t width);

}  // namespace lathe
