#include "tune/runner.hpp"

#include <algorithm>
#include <chrono>
#include <cmath>

#include "measure/held.hpp"

namespace lathe::tuning {

double seconds_now() { return std::chrono::duration<double>(std::chrono::steady_clock::now().time_since_epoch()).count(); }

double median(std::vector<double> v) {
  if (v.empty()) return 0;
  const auto middle = v.begin() + static_cast<std::ptrdiff_t>(v.size() / 2);
  std::nth_element(v.begin(), middle, v.end());
  return *middle;
}

Ratio ratio_of(std::vector<double> v) {
  if (v.empty()) return {};
  std::sort(v.begin(), v.end());
  const auto n = static_cast<double>(v.size());
  const auto below = static_cast<int64_t>(std::floor(n / 2 - 0.98 * std::sqrt(n)));
  const auto k = static_cast<size_t>(std::max<int64_t>(0, below - 1));
  return {v[v.size() / 2], v[k], v[v.size() - 1 - k]};
}

Outputs answer(const Program& program, std::span<const Tensor> inputs, int64_t held, const RunOptions& how) {
  Lane lane(program);
  if (program.states().empty()) return lane.run(inputs, how);
  const HeldRuns begun(lane, {inputs.begin(), inputs.end()}, held);
  (void)lane.run(inputs, how);
  return lane.run(inputs, how);
}

Runner::Runner(const Graph& graph, CompileOptions options, const Recipes& recipes, std::span<const Tensor> inputs, int64_t held)
    : positions_(held) {
  options.recipes = std::make_shared<Recipes>(recipes);
  program = compile(graph, options);
  lane_ = std::make_unique<Lane>(program);
  lane_->time_steps(true);
  if (!program.states().empty()) held_ = std::make_unique<HeldRuns>(*lane_, std::vector<Tensor>(inputs.begin(), inputs.end()), held);
  std::vector<Shape> shapes;
  for (const Tensor& t : inputs) shapes.push_back(t.composite() ? Shape() : t.shape());
  steps = program.describe(shapes).steps;
  group_of.assign(steps.size(), -1);
}

Runner::Runner(Runner&&) noexcept = default;
Runner& Runner::operator=(Runner&&) noexcept = default;
Runner::~Runner() = default;

std::vector<double> Runner::run(std::span<const Tensor> inputs, const RunOptions& how, std::optional<Outputs>* outputs) {
  Outputs out = lane_->run(inputs, how);
  std::vector<double> seconds;
  for (const StepTime& t : lane_->step_times()) seconds.push_back(t.seconds);
  if (held_) held_->after_run();
  if (outputs) *outputs = held_ ? answer(program, inputs, positions_, how) : std::move(out);
  return seconds;
}

std::vector<double> Runner::run(std::span<const Tensor> inputs, size_t groups, const RunOptions& how, std::optional<Outputs>* outputs) {
  const std::vector<double> steps_took = run(inputs, how, outputs);
  std::vector<double> seconds(groups + 1);
  for (size_t i = 0; i < steps_took.size(); ++i) {
    if (group_of[i] >= 0 && static_cast<size_t>(group_of[i]) < groups) seconds[static_cast<size_t>(group_of[i])] += steps_took[i];
    seconds.back() += steps_took[i];
  }
  return seconds;
}

}  // namespace lathe::tuning
