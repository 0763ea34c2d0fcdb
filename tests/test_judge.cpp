// Accuracy and its uncertainty: intervals, tests, measures, labelled data, items over lanes.
#include <atomic>
#include <cmath>

#include "support.hpp"

using namespace test;

TEST_CASE("a share has Wilson's interval") {
  const Interval i = share_of(238, 240);  // (p + z2/2n -+ z sqrt(p(1-p)/n + z2/4n2)) / (1 + z2/n)
  CHECK(i.value == doctest::Approx(238.0 / 240));
  CHECK(i.low == doctest::Approx(0.97014).epsilon(1e-4));
  CHECK(i.high == doctest::Approx(0.99771).epsilon(1e-4));
  CHECK(share_of(0, 10).low == 0);
  CHECK(share_of(0, 10).high == doctest::Approx(0.27753).epsilon(1e-4));
  CHECK(share_of(10, 10).high == 1);
  CHECK(share_of(0, 0).high == 1);
}

TEST_CASE("bootstrap: the same seed gives the same interval, and it covers") {
  std::mt19937_64 random(3);
  std::normal_distribution<double> normal(5, 2);
  int covered = 0;
  for (int trial = 0; trial < 60; ++trial) {
    std::vector<double> v(80);
    for (double& x : v) x = normal(random);
    const auto mean = [&](std::span<const size_t> drawn) {
      double sum = 0;
      for (size_t i : drawn) sum += v[i];
      return sum / static_cast<double>(drawn.size());
    };
    const Interval a = bootstrap(v.size(), mean, 7, 400), b = bootstrap(v.size(), mean, 7, 400);
    CHECK(a.low == b.low);
    CHECK(a.high == b.high);
    CHECK(a.low <= a.value);
    CHECK(a.value <= a.high);
    covered += a.low <= 5 && 5 <= a.high;
  }
  CHECK(covered >= 51);  // 95 % of 60 is 57; with fewer than 51 the chance is below 1 in 1000
  CHECK(bootstrap(0, [](std::span<const size_t> drawn) { return static_cast<double>(drawn.size()); }).value == 0);
}

TEST_CASE("two models on the same items: the exact test and the interval") {
  std::vector<bool> a(100, true), b(100, true);
  for (size_t i = 0; i < 5; ++i) b[i] = false;  // only the first
  a[50] = false;                                // only the second
  const PairedShares s = compare_paired(a, b);
  CHECK(s.only_first == 5);
  CHECK(s.only_second == 1);
  CHECK(s.p == doctest::Approx(2 * (1.0 + 6.0) / 64));  // 2 P(X <= 1), X of 6 coins
  CHECK(!s.significant());
  CHECK(s.difference.value == doctest::Approx(-0.04));
  CHECK(s.difference.low < -0.04);
  CHECK(s.difference.high > -0.04);
  CHECK(compare_paired(a, a).p == 1);
  CHECK(compare_paired({}, {}).p == 1);
  for (size_t i = 5; i < 40; ++i) b[i] = false;
  CHECK(compare_paired(a, b).significant());
  CHECK(compare_paired(a, b).difference.high < 0);
  CHECK(has(error_of([&] { compare_paired(a, {true}); }), "cannot be paired"));
}

TEST_CASE("classes: shares, precision, recall, F1, confusion, what is wrong") {
  const std::vector<std::string> labels{"oak", "ash", "elm"};
  const auto answer = [](int64_t expected, std::vector<double> scores) { return answer_of("item", expected, scores, 2); };
  const double nan = std::nan("");
  const std::vector<ClassAnswer> answers{answer(0, {0.8, 0.1, 0.1}), answer(0, {0.3, 0.6, 0.1}), answer(1, {0.1, 0.7, 0.2}),
                                         answer(1, {0.1, 0.0, 0.9}), answer(0, {nan, 0.1, 0.1}), answer(1, {0.5, 0.5, 0.0})};
  const ClassReport r = judge_classes(answers, labels, 2);
  CHECK(r.items == 6);
  CHECK(r.odd == 1);
  CHECK(r.top_1.value == doctest::Approx(2.0 / 6));
  CHECK(r.top_k.value == doctest::Approx(4.0 / 6));  // the second, and the tie, whose first is taken
  CHECK(r.confusion == std::vector<int64_t>{1, 1, 0, 1, 1, 1, 0, 0, 0});
  CHECK(r.classes[0].items == 3);
  CHECK(r.classes[0].said == 2);
  CHECK(r.classes[0].recall.value == doctest::Approx(1.0 / 3));
  CHECK(r.classes[0].precision.value == doctest::Approx(0.5));
  CHECK(r.classes[0].f1 == doctest::Approx(2.0 * 1 / 5));
  CHECK(r.classes[2].items == 0);
  CHECK(r.mean_f1.value == doctest::Approx((0.4 + 2.0 / 5 + 0) / 3));
  CHECK(r.wrong == std::vector<size_t>{3, 1, 5, 4});  // by how certain it was; NaN last
  CHECK(has(error_of([&] { judge_classes(answers, {"oak"}, 1); }), "is not one of the 1 labels"));
}

TEST_CASE("values: mean absolute, root mean square, R2, the worst, and two models") {
  std::vector<ValueAnswer> good, bad;
  double absolute = 0, squared = 0, sum = 0, sum_squared = 0;
  for (int64_t i = 0; i < 50; ++i) {
    const Tensor expected = random_tensor({1, 4}, static_cast<uint64_t>(i), -3, 3);
    Tensor got = random_tensor({1, 4}, static_cast<uint64_t>(i), -3, 3), worse = got;
    worse = random_tensor({1, 4}, static_cast<uint64_t>(i), -3, 3);
    for (int64_t k = 0; k < 4; ++k) {
      const float off = 0.1f * static_cast<float>((i + k) % 5);
      got.as<float>()[k] += off;
      worse.as<float>()[k] += off + (i == 7 ? 5 : 0.3f);
      const double e = std::fabs(static_cast<double>(got.as<float>()[k]) - expected.as<float>()[k]), y = expected.as<float>()[k];
      absolute += e, squared += e * e, sum += y, sum_squared += y * y;
    }
    good.push_back(value_answer(std::to_string(i), got, expected));
    bad.push_back(value_answer(std::to_string(i), worse, expected));
  }
  const ValueReport r = judge_values(good);
  CHECK(r.mean_absolute.value == doctest::Approx(absolute / 200));
  CHECK(r.root_mean_square.value == doctest::Approx(std::sqrt(squared / 200)));
  CHECK(r.r_squared.value == doctest::Approx(1 - squared / (sum_squared - sum * sum / 200)));
  CHECK(r.mean_absolute.low < r.mean_absolute.value);
  CHECK(judge_values(bad).worst.front() == 7);
  const Interval d = compare_values(good, bad);
  CHECK(d.low > 0);
  CHECK(compare_values(good, good).high == 0);
  Tensor odd = random_tensor({1, 4}, 1);
  odd.as<float>()[2] = std::nanf("");
  good.push_back(value_answer("odd", odd, random_tensor({1, 4}, 2)));
  const ValueReport with = judge_values(good);
  CHECK(with.odd == 1);
  CHECK(with.worst.front() == 50);
  CHECK(with.mean_absolute.value == doctest::Approx(absolute / 200));
  CHECK(has(error_of([&] { value_answer("short", random_tensor({3}, 1), random_tensor({4}, 1)); }), "gives 3 values, 4 are expected"));
}

TEST_CASE("labelled files: folders and tables") {
  const Folder f;
  const auto touch = [&](const fs::path& path) {
    fs::create_directories(path.parent_path());
    write(path, "x");
  };
  touch(f.path / "data/oak/b.png");
  touch(f.path / "data/oak/a.JPG");
  touch(f.path / "data/ash/c.jpeg");
  touch(f.path / "data/ash/notes.txt");
  const auto files = read_labelled(f.path / "data");
  REQUIRE(files.size() == 3);
  CHECK(files[0].label == "ash");
  CHECK(files[1].file.filename() == "a.JPG");
  write(f.path / "t.csv", "file,label\r\n\"a, one.png\",\"oak\"\r\nsub/b.png,ash,more\r\n\r\n");
  const auto table = read_labelled(f.path / "t.csv");
  REQUIRE(table.size() == 2);
  CHECK(table[0].file == f.path / "a, one.png");
  CHECK(table[0].label == "oak");
  CHECK(read_labelled(f.path / "t.csv", "/elsewhere")[1].file == fs::path("/elsewhere/sub/b.png"));
  std::vector<std::string> classes;
  CHECK(classes_of(files, classes, 2) == std::vector<int64_t>{0, 1, 1});
  CHECK(classes == std::vector<std::string>{"ash", "oak"});
  classes = {"oak", "elm"};
  CHECK(has(error_of([&] { classes_of(files, classes, 2); }), "'ash' is none of the model's 2 classes"));
  classes.clear();
  CHECK(has(error_of([&] { classes_of(files, classes, 5); }), "give a file of labels"));
  std::vector<std::string> none;
  CHECK(classes_of({{"x.png", "3"}, {"y.png", "0"}}, none, 4) == std::vector<int64_t>{3, 0});
  fs::create_directories(f.path / "empty");
  CHECK(has(error_of([&] { read_labelled(f.path / "empty"); }), "a folder for each class"));
  CHECK(has(error_of([&] { read_labelled(f.path / "nowhere"); }), "no such file"));
  write(f.path / "bad.csv", "only one cell\n");
  CHECK(has(error_of([&] { read_labelled(f.path / "bad.csv"); }), "line 1"));
}

TEST_CASE("items go through several lanes, each once, in batches, and what cannot be read is left out") {
  Builder b("double", 17);
  b.output(b.op("Add", {b.input("x", DType::f32, {4, 3}), b.constant("one", Tensor::from<float>({3}, {1, 2, 3}))}), "y");
  const Program p = compile(b.finish(), {.threads = 1});
  for (const int lanes : {1, 3}) {
    std::vector<std::atomic<int>> seen(50);
    std::atomic<int> wrong = 0;
    const auto load = [&](size_t i) {
      if (i == 13) throw Error(Category::format, "thirteen");
      const auto v = static_cast<float>(i);
      return std::vector<Tensor>{Tensor::from<float>({1, 3}, {v, v, v})};
    };
    const auto take = [&](size_t i, const std::vector<Tensor>& out) {
      ++seen[i];
      wrong += out[0].shape() != Shape{1, 3} || out[0].as<float>()[2] != static_cast<float>(i) + 3;
    };
    size_t last = 0;
    const ItemsRun run = run_items(p, {{4, 3}}, 50, load, take, {lanes, false, {}, [&](size_t done) { last = done; }});
    for (size_t i = 0; i < 50; ++i) CHECK(seen[i] == (i == 13 ? 0 : 1));
    CHECK(wrong == 0);
    CHECK(last == 50);
    CHECK(run.lanes == lanes);
    REQUIRE(run.failed.size() == 1);
    CHECK(run.failed[0].first == 13);
    CHECK(has(error_of([&] { run_items(p, {{4, 3}}, 50, load, take, {lanes, true, {}, {}}); }), "thirteen"));
  }
}

TEST_CASE("pictures of other proportions: stretched, padded, cropped") {
  // 2 x 4: left half red 100, right half 200.
  Tensor pixels(DType::u8, {2, 4, 3});
  for (int64_t i = 0; i < 24; ++i) pixels.as<uint8_t>()[i] = i / 3 % 4 < 2 ? 100 : 200;
  PictureOptions o;
  o.height = o.width = 4;
  o.mean = {50};
  const auto at = [&](int64_t y, int64_t x) { return picture_to_tensor(pixels, o).as<float>()[y * 4 + x]; };
  CHECK(at(0, 0) == 50);
  CHECK(at(3, 3) == 150);
  o.fit = Fit::pad;
  CHECK(at(0, 0) == 0);  // left over
  CHECK(at(1, 0) == 50);
  CHECK(at(2, 3) == 150);
  CHECK(at(3, 3) == 0);
  o.fit = Fit::crop;  // the middle two columns
  CHECK(at(0, 0) == 50);
  CHECK(at(0, 3) == 150);
  CHECK(at(3, 0) == 50);
}
