// Any bytes as a model: load, check, infer, compile and run plainly under small limits. Whatever is wrong with them must come out as an
// Error; crashes, hangs, undefined behaviour and unbounded memory are bugs.
#include "mutate.hpp"

extern "C" int LLVMFuzzerTestOneInput(const uint8_t* data, size_t size) {
  using namespace lathe;
  EvalLimits limits;
  limits.elements = 1 << 14;
  limits.trips = 200;
  limits.depth = 6;
  int64_t nodes = 3000;  // of one run, bodies included
  limits.pulse_context = &nodes;
  limits.pulse = [](void* left) {
    if (--*static_cast<int64_t*>(left) < 0) throw Error(Category::resource, "long enough");
  };
  try {
    const LimitScope scope(limits);
    Graph graph = load_bytes({reinterpret_cast<const char*>(data), size});
    int64_t left = 1 << 14;
    std::vector<Tensor> inputs;
    for (ValueId v : graph.inputs) inputs.push_back(fuzz::made_up(type_of(graph.values[v]), left));
    // What loads can be described; what runs plainly is not asked to agree with anything here.
    (void)examine(graph);
    (void)evaluate_plain(graph, inputs, limits);
  } catch (const Error& e) {
    for (const Fault& f : e.faults()) {
      if (f.what.empty()) __builtin_trap();  // an error that says nothing
    }
  }
  return 0;
}
