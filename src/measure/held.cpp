#include "measure/held.hpp"

#include <cstring>

namespace lathe {
namespace {

Tensor zeros(const StateInfo& s, const Program& program, const std::vector<Tensor>& inputs, int64_t positions) {
  Shape shape;
  for (size_t d = 0; d < s.dims->size(); ++d) {
    const Dim& dim = (*s.dims)[d];
    int64_t size = dim.known() ? dim.value : 1;
    for (size_t i = 0; i < inputs.size() && !dim.known() && !dim.symbol.empty(); ++i) {
      const auto& dims = program.inputs()[i].dims;
      for (size_t k = 0; dims && !inputs[i].composite() && k < dims->size(); ++k) {
        if ((*dims)[k].symbol == dim.symbol) size = inputs[i].shape()[k];
      }
    }
    shape.push_back(static_cast<int>(d) == s.axis ? positions : size);
  }
  Tensor t(s.dtype, shape);
  if (t.byte_size() > 0) std::memset(t.data(), 0, t.byte_size());
  return t;
}

}  // namespace

HeldRuns::HeldRuns(Lane& lane, const std::vector<Tensor>& inputs, int64_t positions) : lane_(lane) {
  const auto& states = lane.program().states();
  for (const StateInfo& s : states) {
    grows_ = grows_ || s.axis >= 0;
    all_grow_ = all_grow_ && s.axis >= 0;
  }
  if (!grows_ || positions == 0) return;
  filled_.positions = positions;
  for (const StateInfo& s : states) filled_.tensors.emplace_back(s.pair.input, zeros(s, lane.program(), inputs, positions));
  lane.restore_state(filled_);
}

void HeldRuns::after_run() {
  if (!grows_) return;
  if (all_grow_) return lane_.rewind(lane_.positions() - filled_.positions);
  lane_.reset();
  if (filled_.positions > 0) lane_.restore_state(filled_);
}

}  // namespace lathe
