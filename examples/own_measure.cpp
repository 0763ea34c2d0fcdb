// A measure of one's own, with its 95 % interval: what a wrong answer costs.
//
//   own_measure grain.onnx truth.csv PICTURES
//
// Ash sold as oak costs little, walnut as pine a lot: here a wrong answer costs the difference of the two prices. Items run on all cores;
// the interval comes from drawing items with repetition.
#include <lathe/lathe.hpp>

#include <cmath>
#include <cstdio>
#include <map>

int main(int argc, char** argv) {
  if (argc != 4) {
    std::fprintf(stderr, "usage: own_measure MODEL LABELS.csv PICTURES\n");
    return 2;
  }
  try {
    const std::map<std::string, double> price{{"ash", 42}, {"beech", 30}, {"cherry", 65}, {"oak", 55}, {"pine", 18}, {"walnut", 80}};
    const lathe::Program program = lathe::compile(lathe::load(argv[1]), {.threads = 1});
    const lathe::ItemData data = lathe::read_judged(argv[2], {}, argv[3]);
    const auto shapes = lathe::item_shapes(program, data, {});
    // What the model says of each item; then anything may be made of it.
    const lathe::Judgement judged = lathe::judge(program, data, shapes);
    std::vector<double> cost;
    for (const lathe::ClassAnswer& a : judged.answers) {
      const std::string is = judged.classes[static_cast<size_t>(a.expected)], said = judged.classes[static_cast<size_t>(a.best[0])];
      cost.push_back(std::fabs(price.at(is) - price.at(said)));
    }
    const lathe::Interval mean = lathe::bootstrap(cost.size(), [&](std::span<const size_t> drawn) {
      double sum = 0;
      for (size_t i : drawn) sum += cost[i];
      return sum / static_cast<double>(drawn.size());
    });
    std::printf("a board's wrong answers cost %.3f on average (%.3f to %.3f) over %zu boards\n", mean.value, mean.low, mean.high,
                cost.size());
  } catch (const std::exception& e) {
    std::fprintf(stderr, "own_measure: %s\n", e.what());
    return 1;
  }
}
