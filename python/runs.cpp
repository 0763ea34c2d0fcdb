#include "runs.hpp"

#include <chrono>

namespace lathe_python {
namespace {

using lathe::Category;
using lathe::Error;
using lathe::Tensor;

std::string names_of(const std::vector<lathe::Port>& ports) {
  std::string all;
  for (const lathe::Port& p : ports) all += (all.empty() ? "'" : ", '") + p.name + "'";
  return all.empty() ? "none" : all;
}

// Looks for Ctrl-C now and then, and tells how far a run has come.
class Watching {
 public:
  explicit Watching(const py::object& progress) : progress_(progress) {}
  void operator()(size_t step, size_t steps, double share) {
    constexpr auto kEvery = std::chrono::milliseconds(50);
    const auto now = std::chrono::steady_clock::now();
    if (progress_.is_none() && now - last_ < kEvery) return;
    const py::gil_scoped_acquire gil;
    if (now - last_ >= kEvery) {
      last_ = now;
      if (PyErr_CheckSignals() != 0) throw py::error_already_set();
    }
    if (!progress_.is_none()) progress_(step, steps, share);
  }

 private:
  const py::object& progress_;
  std::chrono::steady_clock::time_point last_ = std::chrono::steady_clock::now();
};

}  // namespace

std::vector<Tensor> arranged(const std::vector<lathe::Port>& ports, const py::object& inputs, std::vector<py::object>& held) {
  std::vector<Tensor> tensors;
  tensors.reserve(ports.size());
  const auto name = [&](size_t i) { return "input '" + ports[i].name + "'"; };
  if (py::isinstance<py::dict>(inputs) || py::hasattr(inputs, "keys")) {
    size_t used = 0;
    for (size_t i = 0; i < ports.size(); ++i) {
      const py::str key(ports[i].name);
      if (!inputs.contains(key))
        throw Error(Category::value, "input '" + ports[i].name + "' is missing; the inputs are " + names_of(ports));
      tensors.push_back(to_tensor(name(i), inputs[key], ports[i], held));
      ++used;
    }
    if (used != py::len(inputs)) {
      for (py::handle key : inputs.attr("keys")()) {
        const std::string given = py::str(key);
        if (std::ranges::none_of(ports, [&](const lathe::Port& p) { return p.name == given; }))
          throw Error(Category::value, "there is no input '" + given + "'; the inputs are " + names_of(ports));
      }
    }
    return tensors;
  }
  if (py::isinstance<py::array>(inputs) && ports.size() == 1) {
    tensors.push_back(to_tensor(name(0), inputs, ports[0], held));
    return tensors;
  }
  if (inputs.is_none() && ports.empty()) return tensors;
  if (!py::isinstance<py::sequence>(inputs) || py::isinstance<py::array>(inputs) || py::isinstance<py::str>(inputs))
    throw Error(Category::type, "inputs must be a dict of names to arrays, or a list of arrays in the order of " + names_of(ports));
  if (py::len(inputs) != ports.size())
    throw Error(Category::value,
                std::to_string(py::len(inputs)) + " inputs are given, expected " + std::to_string(ports.size()) + ": " + names_of(ports));
  size_t i = 0;
  for (py::handle value : inputs) tensors.push_back(to_tensor(name(i), value, ports[i], held)), ++i;
  return tensors;
}

py::dict PythonLane::run(const py::object& inputs, std::optional<double> limit, const Stop* stop, const py::object& progress) {
  const Hold hold(busy_);
  std::vector<py::object> held;
  const std::vector<Tensor> tensors = arranged(lane_.program().inputs(), inputs, held);
  lathe::RunOptions options;
  if (limit) {
    if (!(*limit > 0 && *limit < 1e9)) throw Error(Category::value, "limit must be seconds above 0");
    options.limit = std::chrono::nanoseconds(static_cast<int64_t>(*limit * 1e9));
  }
  if (stop) options.stop = stop->token();
  options.progress = Watching(progress);
  std::optional<lathe::Outputs> outputs;
  {
    const py::gil_scoped_release others;
    outputs.emplace(lane_.run(std::span<const Tensor>(tensors), options));
  }
  py::dict out;
  for (size_t i = 0; i < outputs->size(); ++i) {
    const std::string& name = outputs->name(i);
    const auto bound = bound_.find(name);
    out[py::str(name)] = bound != bound_.end() ? bound->second : to_python("output '" + name + "'", (*outputs)[i]);
  }
  return out;
}

void PythonLane::bind_output(const std::string& name, const py::object& memory) {
  const Hold hold(busy_);
  if (memory.is_none()) {
    lane_.bind_output(name, {});
    bound_.erase(name);
    return;
  }
  if (!py::isinstance<py::array>(memory)) throw Error(Category::type, "output '" + name + "': expected an array, or None to undo it");
  lane_.bind_output(name, to_memory("output '" + name + "'", py::reinterpret_borrow<py::array>(memory)));
  bound_[name] = memory;
}

}  // namespace lathe_python
