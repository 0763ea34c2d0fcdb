// GridSample and RoiAlign as steps: every mode against plain evaluation, with places far outside, not a number, and pixels that are
// infinite.
#include "steps.hpp"

using namespace test;

namespace {

const float kNaN = std::numeric_limits<float>::quiet_NaN(), kInf = std::numeric_limits<float>::infinity();

Graph sampler(const Shape& x, const Shape& grid, const std::string& mode, const std::string& padding, bool corners, int64_t opset = 20) {
  Builder b("sampler", opset);
  const ValueId in = b.input("x", DType::f32, Dims(x.begin(), x.end())), at = b.input("grid", DType::f32, Dims(grid.begin(), grid.end()));
  b.output(b.op("GridSample", {in, at}, {{"mode", mode}, {"padding_mode", padding}, {"align_corners", int64_t{corners}}}), "y");
  return b.finish();
}

}  // namespace

TEST_CASE("steps: sampling grids in every mode, line, picture and block") {
  std::mt19937_64 random(1);
  int forms = 0;
  for (const char* mode : {"nearest", "linear", "cubic"}) {
    for (const char* padding : {"zeros", "border", "reflection"}) {
      for (const bool corners : {false, true}) {
        for (int spatial = 1; spatial <= 3; ++spatial) {
          if (std::string(mode) == "cubic" && spatial != 2) continue;
          Shape x{between(random, 1, 3), between(random, 1, 5)}, grid{x[0]};
          for (int a = 0; a < spatial; ++a) x.push_back(between(random, 1, 9)), grid.push_back(between(random, 1, spatial == 1 ? 300 : 14));
          grid.push_back(spatial);
          Tensor at = random_tensor(grid, random(), -1.3f, 1.3f);
          at.as<float>()[0] = 40, at.as<float>()[at.as<float>().size() - 1] = -1e30f;
          CAPTURE(mode);
          CAPTURE(padding);
          CAPTURE(to_string(x));
          const Graph g = sampler(x, grid, mode, padding, corners);
          CHECK(step_kinds(g) == "resample ");
          ++forms;
          everywhere(g, [&](const Graph& graph, const CompileOptions& o) { check_against_plain(graph, {random_tensor(x, 7), at}, o); });
        }
      }
    }
  }
  CHECK(forms == 42);
  // The older words for the same.
  check_against_plain(sampler({1, 2, 5, 6}, {1, 3, 4, 2}, "bilinear", "zeros", false, 16),
                      {random_tensor({1, 2, 5, 6}, 1), random_tensor({1, 3, 4, 2}, 2)});
  check_against_plain(sampler({1, 2, 5, 6}, {1, 3, 4, 2}, "bicubic", "zeros", true, 16),
                      {random_tensor({1, 2, 5, 6}, 1), random_tensor({1, 3, 4, 2}, 2)});
}

TEST_CASE("steps: places that are no number, and infinite pixels that weigh nothing") {
  for (const char* padding : {"zeros", "border", "reflection"}) {
    Tensor x = random_tensor({1, 3, 4, 4}, 1), at = random_tensor({1, 5, 40, 2}, 2, -1.2f, 1.2f);
    x.as<float>()[0] = kInf;  // read by index 0, which also stands for nothing
    at.as<float>()[3] = kNaN, at.as<float>()[10] = kInf, at.as<float>()[21] = -kInf;
    const Graph g = sampler({1, 3, 4, 4}, {1, 5, 40, 2}, "linear", padding, false);
    const auto expected = evaluate_plain(g, std::vector<Tensor>{x, at});
    everywhere(g, [&](const Graph& graph, const CompileOptions& o) {
      Lane lane(compile(graph, o));
      const Outputs out = lane.run({{"x", x}, {"grid", at}});
      for (size_t i = 0; i < expected[0].as<float>().size(); ++i) {
        const float a = out[0].as<float>()[i], e = expected[0].as<float>()[i];
        CHECK((std::isnan(a) == std::isnan(e) && (std::isnan(e) || a == e || std::fabs(a - e) < 1e-5f)));
      }
    });
  }
}

TEST_CASE("steps: grids in pixels of few and many channels, at the borders and where there is no place") {
  std::mt19937_64 random(6);
  for (const char* mode : {"nearest", "linear", "cubic"}) {
    for (const char* padding : {"zeros", "border"}) {
      for (const int64_t channels : {1, 7, 8, 13, 29, 40}) {
        for (int spatial = 1; spatial <= 3; ++spatial) {
          if (std::string(mode) == "cubic" && spatial != 2) continue;
          Shape x{2, channels}, grid{2};
          for (int a = 0; a < spatial; ++a) x.push_back(between(random, 1, 6)), grid.push_back(spatial == 3 ? 7 : 19);
          grid.push_back(spatial);
          Tensor at = random_tensor(grid, random(), -1.6f, 1.6f);
          const float ends[]{kNaN, kInf, -kInf, 1e16f, -1e16f, 1e30f, 1, -1, 1.0001f, -1.0001f, 0, 3e9f, -3e9f, 5e14f};
          std::copy(std::begin(ends), std::end(ends), at.as<float>().begin());
          CAPTURE(mode);
          CAPTURE(padding);
          CAPTURE(to_string(x));
          for (const bool corners : {false, true}) {
            const Graph g = sampler(x, grid, mode, padding, corners);
            everywhere(g, [&](const Graph& graph, const CompileOptions& o) { check_against_plain(graph, {random_tensor(x, 7), at}, o); });
          }
        }
      }
    }
  }
}

TEST_CASE("steps: regions of interest, few and many samples, in pictures of a batch") {
  std::mt19937_64 random(3);
  for (int round = 0; round < 24; ++round) {
    const int64_t opset = round % 3 == 0 ? 10 : 16, channels = between(random, 1, 9), height = between(random, 1, 20),
                  width = between(random, 1, 20);
    const int64_t rois = between(random, 1, 6), ratio = round % 4, out_h = between(random, 1, 14), out_w = between(random, 1, 14);
    Builder b("regions", opset);
    const ValueId x = b.input("x", DType::f32, {2, channels, height, width}), boxes = b.input("rois", DType::f32, {rois, 4}),
                  at = b.input("at", DType::i64, {rois});
    std::map<std::string, Attribute::Data> set{
        {"output_height", out_h}, {"output_width", out_w}, {"sampling_ratio", ratio}, {"spatial_scale", 0.5f}};
    if (opset == 16 && round % 2 == 0) set["coordinate_transformation_mode"] = std::string("output_half_pixel");
    b.output(b.op("RoiAlign", {x, boxes, at}, set), "y");
    const Graph g = b.finish();
    CHECK(step_kinds(g) == "resample ");
    Tensor where(DType::i64, {rois});
    for (int64_t& i : where.as<int64_t>()) i = between(random, 0, 1);
    Tensor box = random_tensor({rois, 4}, random(), -8, 48);
    if (round % 5 == 0) box.as<float>()[0] = kNaN;
    // Regions without a size that can be counted are refused alike.
    const std::vector<Tensor> inputs{random_tensor({2, channels, height, width}, random()), box, where};
    if (error_of([&] { evaluate_plain(g, inputs); }) != "") {
      CHECK(has(error_of([&] { Lane(compile(g)).run(std::span<const Tensor>(inputs)); }), "absurdly large"));
      continue;
    }
    everywhere(g, [&](const Graph& graph, const CompileOptions& o) { check_against_plain(graph, inputs, o); });
    where.as<int64_t>()[0] = 2;
    CHECK(has(error_of([&] {
                Lane(compile(g)).run({{"x", inputs[0]}, {"rois", box}, {"at", where}});
              }),
              "batch index 2 is outside a batch of 2"));
  }
}
