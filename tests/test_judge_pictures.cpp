// Masks, restored pictures, boxes, tokens: measured right, read right, and run.
#include <algorithm>
#include <cmath>
#include <fstream>

#include "lathe/judge_pictures.hpp"
#include "support.hpp"

using namespace test;

namespace {

Tensor mask(int64_t height, int64_t width, std::vector<int64_t> classes) { return Tensor::from<int64_t>({height, width}, classes); }

BoxAnswer boxes(std::vector<Box> found, std::vector<Box> expected) { return {"", std::move(found), std::move(expected)}; }

}  // namespace

TEST_CASE("masks: overlap by class over all pixels, what nobody says left out") {
  const MaskAnswer a = mask_answer("a", mask(2, 2, {0, 0, 1, 1}), mask(2, 2, {0, 1, 1, -1}), 3);
  CHECK(a.pixels == 3);
  CHECK(a.right == 2);
  CHECK(a.mean_overlap() == doctest::Approx((1.0 / 2 + 1.0 / 2) / 2));
  const MaskAnswer b = mask_answer("b", mask(2, 2, {2, 2, 2, 2}), mask(2, 2, {2, 2, 2, 2}), 3);
  const MaskReport r = judge_masks(std::vector{a, b}, 3);
  CHECK(r.mean_overlap.value == doctest::Approx((0.5 + 0.5 + 1) / 3));
  CHECK(r.right.value == doctest::Approx(6.0 / 7));
  CHECK(r.classes[2].value == 1);
  CHECK(r.worst == std::vector<size_t>{0, 1});
  CHECK_THROWS_WITH_AS((void)mask_answer("c", mask(1, 2, {0, 5}), mask(1, 2, {0, 0}), 3), doctest::Contains("class 5 at pixel 1"), Error);
  // From outputs: the largest score, one score, whole numbers; nearest pixel, and what a crop left out.
  const Tensor scores = Tensor::from<float>({1, 2, 1, 2}, {3, 0, 1, 2});
  CHECK(mask_of(scores, Fit::stretch, 2, 4).as<int64_t>()[1] == 0);
  CHECK(mask_of(scores, Fit::stretch, 2, 4).as<int64_t>()[2] == 1);
  const Tensor one = Tensor::from<float>({1, 1, 1, 2}, {0.4f, 0.6f}), logits = Tensor::from<float>({1, 1, 1, 2}, {-3, 0.2f});
  CHECK(mask_of(one, Fit::stretch, 1, 2).as<int64_t>()[0] == 0);
  CHECK(mask_of(one, Fit::stretch, 1, 2).as<int64_t>()[1] == 1);
  CHECK(mask_of(logits, Fit::stretch, 1, 2).as<int64_t>()[1] == 1);
  const Tensor cropped = mask_of(Tensor::from<int64_t>({1, 2, 2}, {7, 8, 9, 10}), Fit::crop, 2, 4);
  CHECK(std::vector<int64_t>(cropped.as<int64_t>().begin(), cropped.as<int64_t>().end()) ==
        std::vector<int64_t>{-1, 7, 8, -1, -1, 9, 10, -1});
  CHECK_THROWS_AS((void)mask_of(Tensor::from<float>({2}, {1, 2}), Fit::stretch, 1, 1), Error);
}

TEST_CASE("restored pictures: PSNR of known noise, SSIM of 1 for the same and less for a blur") {
  Tensor x = random_tensor({1, 3, 24, 24}, 1, 0.2f, 0.8f), y = x;
  y = Tensor(DType::f32, x.shape());
  for (int64_t i = 0; i < x.size(); ++i) y.as<float>()[i] = x.as<float>()[i] + (i % 2 ? 0.01f : -0.01f);
  const PictureAnswer same = picture_answer("s", x, x, 1, false), noisy = picture_answer("n", y, x, 1, false);
  CHECK(same.psnr == 100);
  CHECK(same.ssim == doctest::Approx(1));
  CHECK(noisy.psnr == doctest::Approx(40).epsilon(1e-3));  // 20 log10(1 / 0.01)
  CHECK(noisy.ssim < 1);
  CHECK(noisy.ssim > 0.9);
  Tensor flat(DType::f32, x.shape());
  std::ranges::fill(flat.as<float>(), 0.5f);
  CHECK(picture_answer("f", flat, x, 1, false).ssim < 0.1);
  // Channels last, and white at 255.
  Tensor last(DType::f32, {1, 24, 24, 3}), last_y(DType::f32, {1, 24, 24, 3});
  for (int64_t i = 0; i < 576; ++i) {
    for (int64_t c = 0; c < 3; ++c) {
      last.as<float>()[i * 3 + c] = 255 * x.as<float>()[c * 576 + i];
      last_y.as<float>()[i * 3 + c] = 255 * y.as<float>()[c * 576 + i];
    }
  }
  CHECK(picture_answer("l", last_y, last, 255, true).psnr == doctest::Approx(noisy.psnr));
  CHECK(picture_answer("l", last_y, last, 255, true).ssim == doctest::Approx(noisy.ssim));
  const PictureReport r = judge_pictures(std::vector{same, noisy});
  CHECK(r.psnr.value == doctest::Approx(70).epsilon(1e-3));
  CHECK(r.worst[0] == 1);
  CHECK_THROWS_AS((void)picture_answer("x", x, random_tensor({1, 3, 24, 25}, 1), 1, false), Error);
}

TEST_CASE("boxes: matched once each, by score, within their class; average precision as worked out by hand") {
  CHECK(overlap({0, 0, 0, 2, 2}, {0, 1, 1, 2, 2}) == doctest::Approx(1.0 / 7));
  CHECK(overlap({0, 0, 0, 1, 1}, {0, 2, 2, 1, 1}) == 0);
  const Box a{0, 0, 0, 10, 10}, b{0, 50, 50, 10, 10};
  const auto with = [](Box box, double score) {
    box.score = score;
    return box;
  };
  // Both found, and found again: the second time is wrong.
  BoxReport r = judge_boxes(std::vector{boxes({with(a, 0.9), with(a, 0.8), with(b, 0.7)}, {a, b})}, 1);
  // Precision 1 at recall 1/2, then 2/3 at recall 1.
  CHECK(r.at_half.value == doctest::Approx(0.5 * 1 + 0.5 * 2 / 3));
  CHECK(r.over_all.value == doctest::Approx(r.at_half.value));
  // The wrong class finds nothing, and a class that is not expected has no precision.
  r = judge_boxes(std::vector{boxes({{1, 0, 0, 10, 10, 0.9}}, {a})}, 2);
  CHECK(r.at_half.value == 0);
  CHECK(std::isnan(r.classes_at_half[1]));
  // An overlap of 0.8 is right at 0.5 .. 0.8: seven of ten.
  r = judge_boxes(std::vector{boxes({{0, 0, 0, 10, 8, 0.9}}, {a})}, 1);
  CHECK(r.at_half.value == 1);
  CHECK(r.over_all.value == doctest::Approx(0.7));
  // A false one with a better score, in another picture, costs precision.
  r = judge_boxes(std::vector{boxes({with(a, 0.6)}, {a}), boxes({with(b, 0.9)}, {})}, 1);
  CHECK(r.at_half.value == doctest::Approx(0.5));
  CHECK(r.worst.size() == 2);
  CHECK(r.found == 2);
  CHECK(r.expected == 1);
  // A box takes the one it overlaps most, not the first.
  const Box near{0, 2, 0, 10, 10};
  r = judge_boxes(std::vector{boxes({with(near, 0.9), with(a, 0.8)}, {a, near})}, 1);
  CHECK(r.at_half.value == 1);
}

TEST_CASE("boxes are read from CSV and JSON alike, and what is wrong has its line") {
  const Folder f;
  const auto csv = f.path / "boxes.csv", json = f.path / "boxes.json";
  std::ofstream(csv) << "file,class,x,y,width,height\na.png,knot,1,2,3,4\na.png,split,5,6,7,8\n\"b,1.png\",knot,0.5,0,2,2\n";
  std::ofstream(json)
      << R"({"a.png": [{"class": "knot", "x": 1, "y": 2, "width": 3, "height": 4}, {"class": "split", "x": 5, "y": 6, "width": 7,
    "height": 8}], "b,1.png": [{"class": "knot", "x": 0.5, "y": 0, "width": 2, "height": 2}], "none.png": []})";
  std::vector<std::string> classes, again;
  const auto a = read_boxes(csv, classes), b = read_boxes(json, again);
  CHECK(classes == std::vector<std::string>{"knot", "split"});
  CHECK(classes == again);
  CHECK(a.size() == 2);
  CHECK(b.size() == 3);
  CHECK(a.at("b,1.png")[0].x == 0.5);
  CHECK(a.at("a.png")[1].label == 1);
  CHECK(b.at("a.png")[1].height == 8);
  std::vector<std::string> known{"knot"};
  CHECK_THROWS_WITH_AS((void)read_boxes(csv, known), doctest::Contains("line 3: 'split' is none of the classes"), Error);
  std::ofstream(csv) << "a.png,knot,1,2,3\n";
  CHECK_THROWS_WITH_AS((void)read_boxes(csv, classes), doctest::Contains("line 1: expected FILE,CLASS,X,Y,WIDTH,HEIGHT"), Error);
  std::ofstream(csv) << "a.png,knot,1,2,3,4\na.png,knot,1,2,0,4\n";
  CHECK_THROWS_WITH_AS((void)read_boxes(csv, classes), doctest::Contains("line 2"), Error);
  std::ofstream(json) << "{\"a.png\": [{\"class\": 1}]}";
  CHECK_THROWS_AS((void)read_boxes(json, classes), Error);
}

TEST_CASE("tokens: perplexity, exact lines, and a model run on them") {
  const Tensor scores = Tensor::from<float>({1, 2, 2}, {0, std::log(3.0f), 5, 5});
  const TokenAnswer a = token_answer("a", scores, Tensor::from<int64_t>({2}, {1, 0}));
  CHECK(a.loss == doctest::Approx(-std::log(0.75) - std::log(0.5)));
  CHECK(a.right == 2);
  CHECK(a.exact());
  const TokenAnswer b = token_answer("b", scores, Tensor::from<int64_t>({2}, {0, -1}));
  CHECK(b.count == 1);
  CHECK(!b.exact());
  const TokenReport r = judge_tokens(std::vector{a, b});
  CHECK(r.tokens == 3);
  CHECK(r.perplexity.value == doctest::Approx(std::exp((a.loss + b.loss) / 3)));
  CHECK(r.exact.value == 0.5);
  CHECK(r.worst[0] == 1);
  CHECK_THROWS_WITH_AS((void)token_answer("c", scores, Tensor::from<int64_t>({2}, {0, 2})), doctest::Contains("beyond the vocabulary"),
                       Error);

  const Folder f;
  Builder m("echo", 17);  // says what it reads, for certain
  const auto x = m.input("x", DType::i64, {"batch", 4});
  m.output(m.op("Mul", {m.op("OneHot", {x, m.constant("depth", Tensor::from<int64_t>({}, {6})),
                                        m.constant("values", Tensor::from<float>({2}, {0, 1}))}),
                        m.constant("sure", Tensor::from<float>({}, {20}))}),
           "scores");
  const Program p = compile(m.finish());
  Tensor lines = Tensor::from<int64_t>({3, 4}, {1, 2, 3, 4, 5, 0, 1, 2, 3, 3, 3, 3}),
         wanted = Tensor::from<int64_t>({3, 4}, {1, 2, 3, 4, 5, 0, 1, 2, 3, 3, 0, 3});
  write_npy(f.path / "x.npy", lines);
  write_npy(f.path / "y.npy", wanted);
  const DrawnData data = read_drawn(Drawn::tokens, f.path / "x.npy", f.path / "y.npy", {});
  const DrawnJudgement j = judge_drawn(p, data, item_shapes(p, data.items, {}, 2));
  const TokenReport said = judge_tokens(j.tokens);
  CHECK(said.exact.value == doctest::Approx(2.0 / 3));
  CHECK(said.right.value == doctest::Approx(11.0 / 12));
  CHECK(compare_drawn(j, j).value == 0);
  CHECK_THROWS_AS((void)read_drawn(Drawn::tokens, f.path / "x.npy", {}, {}), Error);
}
