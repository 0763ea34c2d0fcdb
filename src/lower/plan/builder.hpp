// Adds buffers and steps to a Plan, one group after another, and knows where every value is by then.
#pragma once

#include <functional>
#include <map>
#include <memory>
#include <span>
#include <string>
#include <vector>

#include "lower/plan/graph_view.hpp"
#include "lower/plan/plan.hpp"

namespace lathe::lower {

// Used by one thread. Invariant: a value is asked for only when it is a constant, an input, or what an earlier group made.
class PlanBuilder {
 public:
  // `base_constants`: see lower(). `own`: packed forms of constants of this edition alone.
  PlanBuilder(std::shared_ptr<const Graph> graph, Weights& weights, const std::vector<bool>& base_constants, std::shared_ptr<Weights> own);
  PlanBuilder(const PlanBuilder&) = delete;
  PlanBuilder& operator=(const PlanBuilder&) = delete;

  const GraphView& view() const { return view_; }
  const Graph& graph() const { return *plan_.graph; }
  std::shared_ptr<const Graph> shared_graph() const { return plan_.graph; }
  Shape shape(ValueId v) const { return view_.shape(v); }
  DType dtype(ValueId v) const { return view_.dtype(v); }
  bool is_constant(ValueId v) const { return view_.is_constant(v); }
  bool is_static(ValueId v) const { return view_.is_static(v); }
  Tensor constant(ValueId v) const { return view_.constant(v); }

  // ---- where values are ----
  // Nothing when the value has not been made (constants have no location before a step reads them).
  const Location* find(ValueId v) const { return known_[v] ? &plan_.locations[v] : nullptr; }
  // Where the value is; perhaps strided.
  Location locate(ValueId v);
  // The same, contiguous, in the layout that it has: adds a copy when it is part of a larger value.
  Location locate_contiguous(ValueId v);
  // Contiguous in the layout asked for: adds a layout change or a copy when it has to.
  Location contiguous(ValueId v, Layout layout);
  // In the layout asked for, perhaps strided.
  Location strided(ValueId v, Layout layout);
  // In the layout asked for, as rows of what runs fastest, `pitch` elements apart.
  Location rows(ValueId v, Layout layout, int64_t& pitch);
  // Memory for a value that the step being built makes.
  Location define(ValueId v, Layout layout);
  // The same; its part of the Concat that reads it, when it can be written there in runs of `least` elements.
  Location define_strided(ValueId v, Layout layout, int64_t least = 1);
  Location define_rows(ValueId v, Layout layout, int64_t& pitch);
  // Whether the value is where a Concat wants it: any, or the one that makes `whole`.
  bool is_part(ValueId v, ValueId whole = kAbsent) const;
  // The value is what lies at this location already.
  void alias(ValueId v, Location location);

  // The layout that costs least for what makes the value, where it has a choice.
  Layout preferred(ValueId v) const { return preferred_[v]; }
  void prefer(std::vector<Layout> layouts) { preferred_ = std::move(layouts); }
  void prefer(ValueId v, Layout layout) { preferred_[v] = layout; }
  // Values that a Concat puts together may be made in its memory from now on.
  void find_parts();

  // ---- memory that is no value ----
  BufferId scratch(size_t bytes);
  BufferId constant_buffer(const Weights::Entry& entry);
  BufferId constant_buffer(const Tensor& tensor);
  // A constant derived from `key.value`: shared between editions when that and all of `also`, which it is made from too, are the model's
  // own constants.
  BufferId packed(const PackKey& key, size_t bytes, const std::function<Weights::Entry()>& make, std::span<const ValueId> also = {});
  void release_after_packing(ValueId v, std::function<Tensor()> restore);
  // The step being built reads the original of this constant.
  void keep_original(ValueId v) { weights_.keep_raw(v); }

  void add(Step step) { plan_.steps.push_back(std::move(step)); }
  // The names of a group's nodes, and of those that passes merged into them.
  std::vector<std::string> names(const Group& group) const;
  Plan& plan() { return plan_; }
  // Outputs get buffers of their own; the plan is whole but for what schedule/ does.
  Plan finish();

 private:
  BufferId buffer(size_t bytes);
  BufferId value_buffer(ValueId v);
  bool is_base(ValueId v) const { return static_cast<size_t>(v) < base_constants_.size() && base_constants_[v]; }
  void copy_output(ValueId v, int index, const Location& from);

  Weights& weights_;
  const std::vector<bool>& base_constants_;
  Plan plan_;
  GraphView view_;
  std::vector<bool> known_;
  std::vector<Layout> preferred_;
  std::map<std::pair<ValueId, Layout>, Location> converted_;
  struct Part {
    ValueId whole = kAbsent;
    int64_t axis = 0, at = 0;
  };
  std::map<ValueId, Part> parts_;  // values that could be made where a Concat wants them
};

}  // namespace lathe::lower
