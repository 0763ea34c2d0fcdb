// Boxes from outputs of every form, in the picture's own pixels; suppression; what is found out and what is asked for.
#include <algorithm>
#include <cmath>

#include "kernels/suppression.hpp"
#include "lathe/detect.hpp"
#include "support.hpp"

using namespace test;

namespace {

Tensor floats(Shape shape, std::vector<float> v) { return Tensor::from<float>(std::move(shape), v); }

DetectForm complete(DetectForm::Kind kind, std::vector<std::string> outputs, BoxForm box, ScoreForm scores, bool objectness) {
  DetectForm f;
  f.kind = kind, f.outputs = std::move(outputs), f.box = box, f.scores = scores, f.relative = false, f.objectness = objectness;
  return f;
}

Box random_box(std::mt19937_64& random, double side, int classes) {
  std::uniform_real_distribution<double> at(0, side * 0.8), size(side * 0.02, side * 0.2), score(0, 1);
  const double x = at(random), y = at(random), w = size(random), h = size(random), s = score(random);
  return {static_cast<int64_t>(random() % static_cast<uint64_t>(classes)), x, y, w, h, s};
}

void same(const Box& a, const Box& b) {
  CHECK(a.label == b.label);
  CHECK(a.x == doctest::Approx(b.x).epsilon(1e-5));
  CHECK(a.y == doctest::Approx(b.y).epsilon(1e-5));
  CHECK(a.width == doctest::Approx(b.width).epsilon(1e-5));
  CHECK(a.height == doctest::Approx(b.height).epsilon(1e-5));
  CHECK(a.score == doctest::Approx(b.score).epsilon(1e-5));
}

float logit(double p) { return static_cast<float>(std::log(p / (1 - p))); }

// Suppression as it is defined, pair by pair in double.
std::vector<Box> slow(std::vector<Box> boxes, double most, bool by_class) {
  std::ranges::stable_sort(boxes, std::greater<>(), &Box::score);
  std::vector<Box> out;
  for (const Box& b : boxes) {
    const bool gone = std::ranges::any_of(out, [&](const Box& k) { return (!by_class || k.label == b.label) && overlap(k, b) > most; });
    if (!gone) out.push_back(b);
  }
  return out;
}

}  // namespace

TEST_CASE("a rectangle drawn on a picture is found at its own pixels, however the picture was fitted") {
  std::mt19937_64 random(5);
  for (int round = 0; round < 60; ++round) {
    const int64_t h = 40 + static_cast<int64_t>(random() % 120), w = 40 + static_cast<int64_t>(random() % 120);
    const int64_t ih = 64 + static_cast<int64_t>(random() % 64), iw = 64 + static_cast<int64_t>(random() % 64);
    // In the middle, so that a crop does not lose it.
    const int64_t left = w / 2 - 6, top = h / 2 - 5, right = left + 12, bottom = top + 10;
    Tensor pixels(DType::u8, {h, w, 3});
    std::memset(pixels.data(), 0, pixels.byte_size());
    for (int64_t y = top; y < bottom; ++y) {
      for (int64_t x = left; x < right; ++x) std::memset(pixels.as<uint8_t>().data() + (y * w + x) * 3, 255, 3);
    }
    for (Fit fit : {Fit::stretch, Fit::pad, Fit::crop, Fit::keep}) {
      CAPTURE(round);
      CAPTURE(static_cast<int>(fit));
      PictureOptions o;
      o.height = ih, o.width = iw, o.fit = fit, o.channels = 1;
      const Tensor input = picture_to_tensor(pixels, o);
      // The edges lie where the input crosses half of white, between pixel centres.
      const auto v = input.as<float>();
      const auto edges = [&](int64_t count, int64_t step, int64_t begin) {
        std::pair<double, double> e{-1, -1};
        for (int64_t i = 0; i + 1 < count; ++i) {
          const double a = v[static_cast<size_t>(begin + i * step)], b = v[static_cast<size_t>(begin + (i + 1) * step)];
          const double at = static_cast<double>(i) + 0.5 + (b == a ? 0 : (127.5 - a) / (b - a));
          if (a < 127.5 && b >= 127.5 && e.first < 0) e.first = at;
          if (a >= 127.5 && b < 127.5) e.second = at;
        }
        return e;
      };
      const Placement p = placement(fit, h, w, ih, iw);
      const auto line = static_cast<int64_t>((static_cast<double>(top + bottom) / 2) * p.scale_y + p.top),
                 column = static_cast<int64_t>((static_cast<double>(left + right) / 2) * p.scale_x + p.left);
      const auto [x0, x1] = edges(iw, 1, line * iw);
      const auto [y0, y1] = edges(ih, iw, column);
      REQUIRE(x0 >= 0);
      REQUIRE(y1 > y0);
      const auto found = boxes_in_picture({{0, x0, y0, x1 - x0, y1 - y0, 1}}, p);
      REQUIRE(found.size() == 1);
      // Half of a pixel of whichever is coarser.
      const double near_x = 0.5 * std::max(1.0, 1 / p.scale_x), near_y = 0.5 * std::max(1.0, 1 / p.scale_y);
      CHECK(std::abs(found[0].x - static_cast<double>(left)) <= near_x);
      CHECK(std::abs(found[0].x + found[0].width - static_cast<double>(right)) <= near_x);
      CHECK(std::abs(found[0].y - static_cast<double>(top)) <= near_y);
      CHECK(std::abs(found[0].y + found[0].height - static_cast<double>(bottom)) <= near_y);
    }
  }
}

TEST_CASE("boxes go through a placement and come back as they were; what lies beside the picture is cut") {
  std::mt19937_64 random(7);
  for (Fit fit : {Fit::stretch, Fit::pad, Fit::crop, Fit::keep}) {
    const Placement p = placement(fit, 90, 140, 64, 96);
    for (int i = 0; i < 50; ++i) {
      Box b = random_box(random, 90, 3);
      const Box in{b.label, b.x * p.scale_x + p.left, b.y * p.scale_y + p.top, b.width * p.scale_x, b.height * p.scale_y, b.score};
      const auto back = boxes_in_picture({in}, p);
      REQUIRE(back.size() == 1);
      same(back[0], b);
    }
  }
  const Placement p = placement(Fit::stretch, 50, 100, 50, 100);
  const auto cut = boxes_in_picture({{0, -10, 40, 30, 30, 1}, {0, 120, 10, 5, 5, 1}}, p);
  REQUIRE(cut.size() == 1);
  same(cut[0], {0, 0, 40, 20, 10, 1});
}

TEST_CASE("one box, said in every form that outputs have") {
  using Kind = DetectForm::Kind;
  const Box want{1, 20, 30, 40, 24, 0.8};
  const auto only = [&](const Answers& a, const DetectForm& f, int64_t item = 0) {
    const auto found = candidates(a, f, item, 128, 192, 0.5);
    REQUIRE(found.size() == 1);
    same(found[0], want);
  };
  const auto one = [&](Tensor t, DetectForm f) { only({{"o"}, {std::move(t)}}, f); };
  // Rows and their turned form; a weak row beside the strong one.
  one(floats({1, 2, 7}, {1, 1, 9, 9, 0.1f, 0.2f, 0.1f, 20, 30, 60, 54, 0.1f, 0.8f, 0.3f}),
      complete(Kind::rows, {"o"}, BoxForm::corners, ScoreForm::as_is, false));
  one(floats({1, 7, 2}, {1, 40, 1, 42, 9, 40, 9, 24, 0.1f, 0.1f, 0.2f, 0.8f, 0.1f, 0.3f}).clone(), [] {
    auto f = complete(Kind::rows, {"o"}, BoxForm::centre, ScoreForm::as_is, false);
    f.turned = true;
    return f;
  }());
  one(floats({1, 2, 7}, {20, 30, 40, 24, logit(0.9), logit(0.2), logit(0.8 / 0.9), 5, 5, 2, 2, logit(0.2), logit(0.9), logit(0.9)}),
      complete(Kind::rows, {"o"}, BoxForm::corner, ScoreForm::sigmoid, true));
  {
    auto f = complete(Kind::rows, {"o"}, BoxForm::corners, ScoreForm::softmax, false);
    f.relative = true, f.y_first = true, f.background = 0;
    // Classes 1 and 2 of three, without the first: softmax gives the third 0.8.
    const float third = static_cast<float>(std::log(0.8 / 0.2));
    one(floats({1, 2, 7}, {30 / 128.f, 20 / 192.f, 54 / 128.f, 60 / 192.f, 0, -50, third, 0, 0, 1, 1, 20, 0, 0}), f);
  }
  // Boxes and scores apart, classes last and first.
  const Tensor boxes = floats({1, 3, 4}, {0, 0, 9, 9, 20, 30, 60, 54, 1, 1, 3, 3});
  const auto tables = complete(Kind::tables, {"b", "s"}, BoxForm::corners, ScoreForm::as_is, false);
  only({{"b", "s"}, {boxes, floats({1, 3, 2}, {0.1f, 0.2f, 0.1f, 0.8f, 0, 0})}}, tables);
  only({{"s", "b"}, {floats({1, 2, 3}, {0.1f, 0.1f, 0, 0.2f, 0.8f, 0}), boxes}}, tables);
  only({{"b", "s"}, {floats({1, 3, 1, 4}, {0, 0, 9, 9, 20, 30, 60, 54, 1, 1, 3, 3}), floats({1, 3, 2}, {0.1f, 0.2f, 0.1f, 0.8f, 0, 0})}},
       tables);
  // Cells of 16 pixels: the cell at (2, 2) has its middle at (40, 40).
  const auto cells = [&](bool last) {
    Tensor t(DType::f32, last ? Shape{1, 8, 12, 6} : Shape{1, 6, 8, 12});
    for (float& v : t.as<float>()) v = -9;
    const float values[]{static_cast<float>(std::log(20 / 16.0)),
                         static_cast<float>(std::log(10 / 16.0)),
                         static_cast<float>(std::log(20 / 16.0)),
                         static_cast<float>(std::log(14 / 16.0)),
                         logit(0.1),
                         logit(0.8)};
    for (int64_t c = 0; c < 6; ++c) t.as<float>()[static_cast<size_t>(last ? (2 * 12 + 2) * 6 + c : (c * 8 + 2) * 12 + 2)] = values[c];
    return t;
  };
  auto by_cells = complete(Kind::cells, {"o"}, BoxForm::distances, ScoreForm::sigmoid, false);
  by_cells.logarithms = true;
  one(cells(false), by_cells);
  one(cells(true), by_cells);
  {
    // Two scales, two anchors each; the box is said by the second anchor of the smaller map, cell (1, 1) of 32 pixels.
    auto f = complete(Kind::cells, {"small", "large"}, BoxForm::offsets, ScoreForm::sigmoid, true);
    f.anchors = {8, 8, 10, 10, 30, 30, 50, 20};
    Tensor large(DType::f32, {1, 14, 8, 12}), small(DType::f32, {1, 14, 4, 6});
    for (Tensor* t : {&large, &small}) {
      for (float& v : t->as<float>()) v = -9;
    }
    const float values[]{logit(8 / 32.0),
                         logit(10 / 32.0),
                         static_cast<float>(std::log(40 / 50.0)),
                         static_cast<float>(std::log(24 / 20.0)),
                         logit(0.8),
                         -9,
                         20};
    for (int64_t c = 0; c < 7; ++c) small.as<float>()[static_cast<size_t>(((7 + c) * 4 + 1) * 6 + 1)] = values[c];
    only({{"large", "small"}, {large, small}}, f);
  }
  // Chosen already.
  const auto chosen = complete(Kind::chosen, {"o"}, BoxForm::corners, ScoreForm::as_is, false);
  one(floats({2, 6}, {20, 30, 60, 54, 0.8f, 1, 0, 0, 5, 5, 0.1f, 0}), chosen);
  only({{"o"}, {floats({3, 7}, {0, 1, 1, 2, 2, 0.9f, 0, 1, 20, 30, 60, 54, 0.8f, 1, 1, 0, 0, 1, 1, 0.2f, 0})}}, chosen, 1);
  const auto four = complete(Kind::chosen, {"b", "s", "c", "n"}, BoxForm::corners, ScoreForm::as_is, false);
  only({{"b", "s", "c", "n"}, {boxes, floats({1, 3}, {0.3f, 0.8f, 0.9f}), floats({1, 3}, {0, 1, 0}), Tensor::from<int64_t>({1}, {2})}},
       four);
  const auto picked = complete(Kind::picked, {"b", "s", "p"}, BoxForm::corners, ScoreForm::as_is, false);
  only({{"b", "s", "p"}, {boxes, floats({1, 2, 3}, {0.9f, 0.1f, 0, 0.2f, 0.8f, 0}), Tensor::from<int64_t>({1, 3}, {0, 1, 1})}}, picked);
  CHECK_THROWS_WITH_AS(
      (void)candidates({{"b", "s", "p"}, {boxes, floats({1, 2, 3}, {0, 0, 0, 0, 0, 0}), Tensor::from<int64_t>({1, 3}, {0, 7, 1})}}, picked,
                       0, 128, 192, 0.5),
      doctest::Contains("picks class 7"), Error);
  // What is no box at all is left out.
  CHECK(
      candidates({{"o"}, {floats({3, 6}, {NAN, 0, 5, 5, 0.9f, 0, 5, 5, 1, 1, 0.9f, 0, 0, 0, INFINITY, 5, 0.9f, 0})}}, chosen, 0, 9, 9, 0.5)
          .empty());
  CHECK(candidates({{"o"}, {floats({1, 6}, {0, 0, 5, 5, NAN, 0})}}, chosen, 0, 9, 9, 0.5).empty());
}

TEST_CASE("what names, shapes and values leave as the only reading is found; what they leave open is asked for") {
  using Kind = DetectForm::Kind;
  const auto rows = [](Shape shape, float most, bool ordered) {
    Tensor t = random_tensor(shape, 3, 0.05f, 0.95f);
    // Boxes of the first four of each row, or of each column.
    const int64_t columns = shape[2] > shape[1] ? shape[1] : shape[2], count = shape[1] * shape[2] / columns;
    const bool turned = shape[2] > shape[1];
    for (int64_t i = 0; i < count; ++i) {
      const auto at = [&](int64_t c) -> float& { return t.as<float>()[static_cast<size_t>(turned ? c * count + i : i * columns + c)]; };
      for (int64_t c = 0; c < 4; ++c) at(c) *= most;
      if (ordered) at(2) += at(0), at(3) += at(1);
    }
    return Answers{{"output"}, {t}};
  };
  DetectForm f = complete_form(rows({1, 50, 7}, 100, false), 3);
  CHECK(f.kind == Kind::rows);
  CHECK(f.box == BoxForm::centre);
  CHECK(f.relative == false);
  CHECK(f.scores == ScoreForm::as_is);
  CHECK(f.objectness == false);
  f = complete_form(rows({1, 8, 50}, 1, true), 3);
  CHECK(f.kind == Kind::rows);
  CHECK(f.box == BoxForm::corners);
  CHECK(f.relative == true);
  CHECK(f.objectness == true);
  CHECK_THROWS_WITH_AS((void)complete_form(rows({1, 50, 9}, 1, true), 0), doctest::Contains("'objectness' of detect"), Error);
  CHECK_THROWS_WITH_AS((void)complete_form(rows({1, 50, 12}, 1, true), 3), doctest::Contains("8 scores, but there are 3 labels"), Error);
  DetectForm given;
  given.objectness = true;
  CHECK(complete_form(rows({1, 50, 9}, 1, true), 0, given).kind == Kind::rows);
  // Several outputs, in any order.
  const Tensor boxes = floats({1, 2, 4}, {10, 10, 60, 54, 0, 0, 9, 9});
  f = complete_form({{"scores", "boxes"}, {floats({1, 2, 5}, std::vector<float>(10, -3)), boxes}}, 5);
  CHECK(f.kind == Kind::tables);
  CHECK(f.outputs == std::vector<std::string>{"boxes", "scores"});
  CHECK(f.scores == ScoreForm::sigmoid);
  f = complete_form({{"n", "labels", "scores", "boxes"},
                     {Tensor::from<int32_t>({1}, {2}), Tensor::from<int64_t>({1, 2}, {1, 0}), floats({1, 2}, {0.9f, 0.1f}), boxes}},
                    0);
  CHECK(f.kind == Kind::chosen);
  CHECK(f.outputs == std::vector<std::string>{"boxes", "scores", "labels", "n"});
  f = complete_form(
      {{"picked", "boxes", "scores"}, {Tensor::from<int64_t>({1, 3}, {0, 1, 1}), boxes, floats({1, 5, 2}, std::vector<float>(10, 0.5f))}},
      5);
  CHECK(f.kind == Kind::picked);
  f = complete_form(
      {{"o"}, {floats({4, 7}, {0, 1, 1, 30, 30, 0.5f, 2, 0, 1, 1, 3, 3, 0.5f, 1, 0, 1, 1, 3, 3, 0.5f, 1, 0, 1, 1, 3, 3, 0.5f, 1})}}, 0);
  CHECK(f.kind == Kind::chosen);
  f = complete_form({{"a", "b"}, {random_tensor({1, 7, 8, 12}, 1), random_tensor({1, 7, 4, 6}, 2)}}, 3);
  CHECK(f.kind == Kind::cells);
  CHECK(f.outputs.size() == 2);
  // A picture without anything shows which output is what, and no more: the next one may show the rest.
  const Answers none{{"boxes", "labels", "scores"}, {Tensor(DType::f32, {0, 4}), Tensor(DType::i64, {0}), Tensor(DType::f32, {0})}};
  const DetectForm open = complete_form(none, 0);
  CHECK(open.kind == Kind::chosen);
  CHECK_FALSE(open.relative.has_value());
  CHECK(candidates(none, open, 0, 64, 64, 0.5).empty());
  const Answers some{{"boxes", "labels", "scores"},
                     {floats({1, 4}, {10, 20, 30, 60}), Tensor::from<int64_t>({1}, {3}), floats({1}, {0.9f})}};
  const DetectForm whole = complete_form(some, 0, open);
  CHECK(whole.relative == false);
  CHECK(candidates(some, whole, 0, 64, 64, 0.5).size() == 1);
  // Fewer boxes than numbers of a box.
  CHECK(complete_form({{"o"}, {floats({1, 2, 6}, {1, 1, 5, 5, 0.9f, 0, 0, 0, 4, 4, 0.4f, 0})}}, 2).kind == Kind::chosen);
  // One box: which number is how many there are.
  CHECK(complete_form({{"n", "classes", "scores", "boxes"},
                       {floats({1}, {1}), floats({1, 1}, {2}), floats({1, 1}, {0.9f}), floats({1, 1, 4}, {10, 20, 30, 60})}},
                      0)
            .outputs == std::vector<std::string>{"boxes", "scores", "classes", "n"});
  // Rows of zeros that fill up are no boxes of the whole picture.
  const Answers zeros{{"boxes", "classes", "scores", "count"},
                      {floats({1, 2, 4}, std::vector<float>(8, 0)), floats({1, 2}, {0, 0}), floats({1, 2}, {0, 0}), floats({1}, {0})}};
  CHECK_FALSE(complete_form(zeros, 0).relative.has_value());
  // Four classes: names tell scores from boxes, else somebody must.
  const Tensor fours = random_tensor({1, 3, 4}, 1, 0, 1);
  CHECK(complete_form({{"confidence", "boxes"}, {fours, fours}}, 4).outputs == std::vector<std::string>{"boxes", "confidence"});
  CHECK_THROWS_WITH_AS((void)complete_form({{"a", "b"}, {fours, fours}}, 4), doctest::Contains("tables of 'a', 'b'; or tables of 'b', 'a'"),
                       Error);
  CHECK_THROWS_WITH_AS((void)complete_form({{"species"}, {floats({1, 6}, {0.1f, 0.1f, 0.1f, 0.1f, 0.5f, 0.1f})}}, 6),
                       doctest::Contains("no reading makes boxes"), Error);
  // Two tables of scores: which one is not for us to say.
  CHECK_THROWS_WITH_AS(
      (void)complete_form(
          {{"boxes", "a", "b"}, {floats({1, 3, 4}, std::vector<float>(12, 1)), random_tensor({1, 3, 5}, 1), random_tensor({1, 3, 6}, 1)}},
          0),
      doctest::Contains("tables of 'boxes', 'a'; or tables of 'boxes', 'b'"), Error);
  CHECK_THROWS_WITH_AS((void)complete_form({{"odd"}, {floats({2}, {1, 2})}}, 0), doctest::Contains("'odd' f32"), Error);
  CHECK_FALSE(holds_boxes({{"scores"}, {floats({1, 1000}, std::vector<float>(1000, 0))}}));
  CHECK_FALSE(holds_boxes({{"map"}, {random_tensor({1, 3, 32, 32}, 1)}}));
}

TEST_CASE("descriptions are read, written and refused with the key") {
  const DetectForm f = parse_form(R"({"form": "cells", "outputs": ["a", "b"], "box": "offsets", "scores": "as they are", "objectness": true,
                                      "anchors": [10, 13, 16, 30], "background": 0, "y_first": true, "box_values": "logarithms", "relative": false})");
  CHECK(form_text(f) ==
        "detect = { form = \"cells\", outputs = [\"a\", \"b\"], box = \"offsets\", relative = false, scores = \"as they are\", objectness "
        "= true, "
        "y_first = true, box_values = \"logarithms\", background = 0, anchors = [10, 13, 16, 30] }");
  const auto wrong = [](const char* key, const char* json, const char* says) {
    DetectForm d;
    CHECK_THROWS_WITH_AS(set_form_key(d, key, json), doctest::Contains(says), Error);
  };
  wrong("form", "\"row\"", "did you mean 'rows'");
  wrong("form", "3", "one of rows, tables, cells, chosen, picked");
  wrong("scors", "\"sigmoid\"", "did you mean 'scores'");
  wrong("relative", "1", "true or false");
  wrong("anchors", "[1, 2, 3]", "a width and a height for each");
  wrong("anchors", "[1, -2]", "widths and heights in pixels");
  wrong("background", "-1", "the number of a class");
  wrong("outputs", "[1]", "a list of names");
  wrong("scores", "nonsense", "is not JSON");
  CHECK_THROWS_WITH_AS((void)parse_form("[]"), doctest::Contains("JSON object"), Error);
  CHECK_THROWS_WITH_AS((void)described_form({}, {{"detect", "{\"form\": 1}"}}), doctest::Contains("metadata 'detect'"), Error);
  DetectForm given;
  given.box = BoxForm::centre;
  CHECK(described_form(given, {{"detect", R"({"box": "corners", "scores": "sigmoid"})"}}).box == BoxForm::centre);
  CHECK(described_form(given, {{"detect", R"({"box": "corners", "scores": "sigmoid"})"}}).scores == ScoreForm::sigmoid);
}

TEST_CASE("suppression is what its definition says, by class, across classes, soft and not at all") {
  std::mt19937_64 random(11);
  for (int round = 0; round < 40; ++round) {
    std::vector<Box> boxes;
    for (int i = 0; i < 200; ++i) boxes.push_back(random_box(random, 100, 4));
    for (bool by_class : {true, false}) {
      for (double most : {0.1, 0.5, 0.9}) {
        SuppressOptions o;
        o.how = by_class ? Suppression::by_class : Suppression::across_classes;
        o.most_overlap = most, o.most = 1000;
        const auto fast = suppress(boxes, o), want = slow(boxes, most, by_class);
        REQUIRE(fast.size() == want.size());
        for (size_t i = 0; i < fast.size(); ++i) CHECK(fast[i].score == want[i].score);
        o.most = 7;
        CHECK(suppress(boxes, o).size() == 7);
      }
    }
    SuppressOptions none;
    none.how = Suppression::none, none.most = 1000;
    CHECK(suppress(boxes, none).size() == boxes.size());
  }
  // Two that overlap by a third: the weaker one keeps exp(-(1/3)^2 / 0.5) of its score.
  SuppressOptions soft;
  soft.how = Suppression::soft;
  const auto out = suppress({{0, 0, 0, 10, 10, 0.9}, {0, 5, 0, 10, 10, 0.8}, {1, 5, 0, 10, 10, 0.7}}, soft);
  REQUIRE(out.size() == 3);
  CHECK(out[1].score == doctest::Approx(0.7));
  CHECK(out[2].score == doctest::Approx(0.8 * std::exp(-(1.0 / 9) / 0.5)));
  soft.least_score = 0.75;
  CHECK(suppress({{0, 0, 0, 10, 10, 0.9}, {0, 5, 0, 10, 10, 0.8}}, soft).size() == 1);
  CHECK(suppress({{0, 0, 0, 1, 1, NAN}}, {}).empty());
}

TEST_CASE("kernels of suppression: each instruction set, at lengths around its vectors, reads nothing past the end") {
  using namespace lathe::kernels;
  std::mt19937_64 random(3);
  for (Isa isa : available()) {
    for (int64_t count : {0, 1, 3, 7, 8, 15, 16, 17, 33, 100}) {
      Tensor sides[4];
      for (int k = 0; k < 4; ++k) sides[k] = random_tensor({count}, random(), 0, 50);
      for (int64_t i = 0; i < count; ++i) {
        sides[2].as<float>()[static_cast<size_t>(i)] += sides[0].as<float>()[static_cast<size_t>(i)];
        sides[3].as<float>()[static_cast<size_t>(i)] += sides[1].as<float>()[static_cast<size_t>(i)];
      }
      const Fenced l(sides[0], true), t(sides[1], true), r(sides[2], true), b(sides[3], true);
      const Corners c{l.tensor.as<float>().data(), t.tensor.as<float>().data(), r.tensor.as<float>().data(), b.tensor.as<float>().data()};
      const Box one{0, 10, 12, 30, 25, 1};
      for (float most : {0.05f, 0.3f, 0.6f}) {
        bool want = false;
        for (size_t i = 0; i < static_cast<size_t>(count); ++i) {
          const Box k{0, c.left[i], c.top[i], c.right[i] - c.left[i], c.bottom[i] - c.top[i], 1};
          want = want || overlap(k, one) > most;
        }
        CHECK(overlapped(isa)(c, count, 10, 12, 40, 37, most) == want);
      }
      Tensor x = random_tensor({count}, random());
      if (count > 3) x.as<float>()[2] = NAN;
      const Fenced f(x, true);
      std::vector<int32_t> places(static_cast<size_t>(count) + 1), want;
      for (size_t i = 0; i < static_cast<size_t>(count); ++i) {
        if (x.as<float>()[i] > 0.3f) want.push_back(static_cast<int32_t>(i));
      }
      places.resize(static_cast<size_t>(find_above(isa)(f.tensor.as<float>().data(), count, 0.3f, places.data())));
      CHECK(places == want);
    }
  }
}
