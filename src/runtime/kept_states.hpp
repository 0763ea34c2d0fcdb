// What a lane keeps from one run to the next.
#pragma once

#include <memory>
#include <span>
#include <vector>

#include "lower/plan/step.hpp"
#include "runtime/program_impl.hpp"

namespace lathe {

class KeptStates {
 public:
  explicit KeptStates(const ProgramImpl& impl) : impl_(impl), now_(impl.kept.size()), next_(impl.kept.size()), changed_(impl.kept.size()) {}

  bool any() const { return !impl_.kept.empty(); }
  int64_t positions() const { return held_.positions; }
  const lower::HeldStates& held() const { return held_; }
  lower::StateChanges* changes() { return &changes_; }
  void reset();
  void rewind(int64_t n);
  void keep_last(int64_t n);
  void arrange(std::span<const int64_t> from);
  void join(const SavedState& saved);
  SavedState save() const;
  void restore(const SavedState& saved);

  // Before a run: states that are inputs go to their places among `inputs`, which has all others.
  void fill(std::span<Tensor> inputs);
  // Room for what the edition adds, in slots for its sizes. Throws Error: value (more than options.positions), shape (other sizes than what
  // is held), resource.
  void make_room(const ProgramImpl::Held& form);
  // What the prelude takes: of ports those among `inputs`.
  void prelude_inputs(const ProgramImpl::Held& form, std::span<const Tensor> inputs, std::vector<Tensor>& to) const;
  // Memory for the next value of a state that is output `output` of a plan; empty: it is made while running.
  Tensor memory(size_t state, DType dtype, const std::optional<Shape>& shape);
  // Memory is there for all: what is known of how the next value's differs from this one's.
  void begin();
  // The run is done: what it made of state `state`.
  void made(size_t state, const Tensor& value) { next_[state] = value; }
  void done(int64_t fresh);

 private:
  int64_t row_bytes(size_t slot) const;
  // Of a state in place, as the model has it.
  Shape shape_of(const ProgramImpl::Kept& k) const;
  int64_t lines(size_t slot) const { return shapes_[slot][0] * shapes_[slot][1]; }
  void allocate(int64_t room);
  void point();
  void within_limit(int64_t fresh) const;
  bool all_grow() const;

  // States are other ones than a run has made.
  void forget_changes();

  const ProgramImpl& impl_;
  lower::HeldStates held_;
  std::vector<std::shared_ptr<std::byte>> memory_;  // by slot
  std::vector<Shape> shapes_;                       // by slot, of no positions
  std::vector<Tensor> now_,
      next_;                                         // by state, of those that are not held in place
  std::vector<lower::StateChanges::State> changed_;  // by state: how `now` differs from `next`
  lower::StateChanges changes_;
};

}  // namespace lathe
