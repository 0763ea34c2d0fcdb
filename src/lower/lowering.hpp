// The state of one lowering, shared by the files that know a family of steps.
#pragma once

#include <algorithm>
#include <optional>
#include <span>

#include "kernels/dense.hpp"
#include "lathe/op.hpp"
#include "lower/plan.hpp"
#include "ops/window.hpp"

namespace lathe::lower {

// A set of nodes that becomes one step. `anchor`: index of the contraction or window node, or of the reduction, in its midst, -1 for a pure
// tape. `nodes` in topological order; the last one makes the only value that leaves the group, but for what is `kept`.
struct Group {
  int anchor = -1;
  std::vector<int> nodes;
  bool kept = false;  // what the nodes before a reduction make is read elsewhere too
  std::span<const int> ahead() const { return std::span(nodes).first(std::ranges::find(nodes, anchor) - nodes.begin()); }
  std::span<const int> from_anchor() const { return std::span(nodes).subspan(std::ranges::find(nodes, anchor) - nodes.begin()); }
};

std::vector<int64_t> logical_strides(const Shape& shape, Layout layout);
// Order of dims from slowest to fastest in memory.
std::vector<int> physical_order(int rank, Layout layout);
template <typename T>
std::vector<T> permuted(const std::vector<T>& v, const std::vector<int>& order) {
  std::vector<T> out;
  for (int i : order) out.push_back(v[i]);
  return out;
}
// Of a value of this shape that stands there.
std::vector<int64_t> strides_at(const Place& place, const Shape& shape);
// Whether elements so far apart fill their memory in the order of the layout, without gaps.
bool in_one_piece(const Shape& shape, std::span<const int64_t> strides, Layout layout);
// Whether what runs fastest in that order runs without gaps.
bool runs_together(const Shape& shape, std::span<const int64_t> strides, Layout layout);
// Elements. For a tape, what lies in shorter pieces is put together by a copy first, which costs less than so many calls.
inline constexpr int64_t kShortRun = 32;
// Elements that follow one another without a gap.
int64_t run_of(const Place& place, const Shape& shape);
// Elements from row to row, a row being what runs fastest, when all rows are equally far apart.
std::optional<int64_t> row_pitch(const Place& place, const Shape& shape);
// Strides with which an operand is read at every index of `out` (logical order; 0 where it is broadcast).
std::vector<int64_t> operand_strides(const Shape& shape, const Place& place, const Shape& out);
std::vector<int64_t> operand_strides(const Shape& shape, Layout layout, const Shape& out);

template <typename T>
T* pointer(const StepContext& c, const Place& p) {
  return reinterpret_cast<T*>(c.buffers[p.buffer] + p.offset);
}

// How rows x panels are shared out: a grid of tasks.
struct Split {
  int64_t row_tasks = 1, panel_tasks = 1;
  int64_t count() const { return row_tasks * panel_tasks; }
};

// ---- tapes ----

// An operand from outside a tape: a value, or a constant that lowering made.
struct TapeSource {
  ValueId value = kAbsent;
  Tensor constant;
};

struct BuiltTape {
  kernels::Tape tape;
  std::vector<TapeSource> sources;  // operand i of the tape
};

// Whether the node can be part of a tape: fp32 (bool for comparisons and logic, bytes where they are quantised), shapes known, an op the
// tape has.
bool tapeable(const Graph& graph, const Node& node);
// Nothing when the tape would be too long or needs too many slots. With `head`, that value is operand 0.
std::optional<BuiltTape> build_tape(const Graph& graph, std::span<const int> nodes, ValueId head = kAbsent);

// ---- layouts ----

// With one channel or one pixel both layouts are the same bytes.
bool same_in_both(const Shape& shape);

// ---- the lowering ----

class Lowering;
// Of what an operand of a tape is read from: a value, or a constant of lowering's own.
kernels::TapeType type_of_source(Lowering& l, const TapeSource& source);

class Lowering {
 public:
  Lowering(std::shared_ptr<const Graph> graph, const LowerOptions& options, Weights& weights, const std::vector<bool>& base_constants,
           std::shared_ptr<Weights> own);
  Plan finish();

  const Graph& graph() const { return *graph_; }
  std::shared_ptr<const Graph> shared_graph() const { return graph_; }
  const LowerOptions& options() const { return options_; }
  Shape shape(ValueId v) const { return *known_shape(graph_->values[v].dims); }
  DType dtype(ValueId v) const { return graph_->values[v].dtype; }
  bool is_constant(ValueId v) const { return graph_->values[v].constant.has_value(); }
  // The tensor of a constant; restores it when the original has been packed and dropped.
  Tensor constant(ValueId v);

  // Held in a buffer of known size (else a Tensor of the lane, or absent).
  bool is_static(ValueId v) const { return v != kAbsent && !plan_.dynamic[v]; }
  // Where the value is now, by itself; its layout is what it is. Adds a copy when it is part of something larger.
  Place where(ValueId v);
  // The same, perhaps as part of something larger.
  Place where_with_gaps(ValueId v);
  // The value in the layout asked for, by itself: adds a conversion step when it has to.
  Place place(ValueId v, Layout layout);
  // In the layout asked for, perhaps as part of something larger.
  Place place_with_gaps(ValueId v, Layout layout);
  // In the layout asked for, as rows of what runs fastest, `pitch` elements apart.
  Place place_rows(ValueId v, Layout layout, int64_t& pitch);
  // Memory for a value that the step being built makes.
  Place define(ValueId v, Layout layout);
  // The same; its place in the Concat that reads it, when it can be written there in runs of `least` elements.
  Place define_with_gaps(ValueId v, Layout layout, int64_t least = 1);
  Place define_rows(ValueId v, Layout layout, int64_t& pitch);
  // Whether the value stands where a Concat wants it: any, or the one that makes `whole`.
  bool is_part(ValueId v, ValueId whole = kAbsent) const;
  void alias(ValueId v, Place place) {
    places_[v] = place;
    known_[v] = true;
  }
  BufferId scratch(size_t bytes);
  BufferId constant_buffer(const Weights::Entry& entry);
  BufferId constant_buffer(const Tensor& tensor);
  // A constant derived from `key.value`: shared between editions when that and all of `also`, which it is made from too, are the model's
  // own constants.
  BufferId derived(const PackKey& key, size_t bytes, const std::function<Weights::Entry()>& make, std::span<const ValueId> also = {});
  Weights& weights() { return weights_; }
  void release_after_packing(ValueId v, std::function<Tensor()> restore);
  void add(Step step) { plan_.steps.push_back(std::move(step)); }
  // The layout that costs least for what makes the value, where it has a choice.
  Layout wanted(ValueId v) const { return wanted_[v]; }
  // Whether the weights of the graph as a whole leave the caches from one run to the next.
  bool weights_leave_caches() const { return much_weight_; }
  std::string node_name(int node) const { return node_label(graph_->nodes[node]); }
  std::vector<std::string> names(const Group& group) const;

  static std::string node_label(const Node& n);

 private:
  void find_parts();
  void choose_layouts(const std::vector<Group>& groups);
  std::string why(const Group& group) const;
  std::string why_not(const Group& group, const std::vector<std::vector<int>>& readers, const std::vector<int>& owner) const;

  std::shared_ptr<const Graph> graph_;
  const LowerOptions& options_;
  Weights& weights_;
  const std::vector<bool>& base_constants_;
  std::shared_ptr<Weights> own_;  // constants of this edition alone
  Plan plan_;
  std::vector<Place> places_;
  std::vector<bool> known_;
  std::vector<Layout> wanted_;
  bool much_weight_ = false;
  std::map<std::pair<ValueId, Layout>, Place> converted_;
  struct Part {
    ValueId whole = kAbsent;
    int64_t axis = 0, at = 0;
  };
  std::map<ValueId, Part> parts_;  // values that could be made where a Concat wants them
};

// Each returns false when the group is not of its family (nothing added then).
bool lower_winograd(Lowering& l, const Group& group);
bool lower_convolution(Lowering& l, const Group& group);
bool lower_product(Lowering& l, const Group& group);
bool lower_pool(Lowering& l, const Group& group);
bool lower_tape(Lowering& l, const Group& group);
bool lower_rows(Lowering& l, const Group& group);
bool lower_movement(Lowering& l, const Group& group);
bool lower_indexed(Lowering& l, const Group& group);
bool lower_select(Lowering& l, const Group& group);
bool lower_recurrent(Lowering& l, const Group& group);
bool lower_quantised(Lowering& l, const Group& group);
bool lower_attention(Lowering& l, const Group& group);
bool lower_rotary(Lowering& l, const Group& group);
bool lower_transposed(Lowering& l, const Group& group);
bool lower_custom(Lowering& l, const Group& group);
void lower_plain(Lowering& l, int node);
// A copy between two layouts of the same value, or out of something larger.
inline constexpr const char* kByItself = "by itself";
void lower_conversion(Lowering& l, ValueId v, Place from, Place to);

// Where row `row`, counted through `dims`, stands for an operand with these strides (one a dim, then along the row).
inline int64_t row_offset(std::span<const int64_t> dims, const std::vector<int64_t>& strides, int64_t row) {
  int64_t at = 0;
  for (size_t d = dims.size(); d-- > 0; row /= dims[d]) at += row % dims[d] * strides[d];
  return at;
}
// Dims of one entry go, and dims that run together for all operands become one.
void join_dims(std::vector<int64_t>& dims, std::vector<std::vector<int64_t>>& strides);

// Elementwise nodes done row by row: a tape whose operands are found by the row's index in each dim.
struct RowTape {
  kernels::RunTape run_tape = nullptr;
  kernels::Tape tape;
  std::vector<Place> places;
  std::vector<kernels::TapeType> types;
  std::vector<int64_t> dims;                  // of the rows, slowest first
  std::vector<std::vector<int64_t>> strides;  // per operand, per dim; then along the row

  // With `own`, operand 0 is the row itself, where `to` points.
  void run(const StepContext& c, int64_t row, int64_t length, float* to, bool own) const;
};
// Over values of this shape, a row being what runs fastest in the layout; with `head`, that value is the row itself. Adds reads, bytes and
// arithmetic to the step.
RowTape bind_row_tape(Lowering& l, std::span<const int> nodes, ValueId head, const Shape& whole, Layout layout, Step& step);

// Elementwise nodes before a product: the rows it reads are made block by block, where it finds them without a copy, or all of them first.
struct Prologue {
  RowTape tape;
  Place room;
  int64_t length = 0, pitch = 0;  // of a row; floats from row to row
  int64_t block = 0;              // rows made together, for each task; 0: all of them, before any task multiplies
  // Rows [begin, end) to where row 0 would stand at `to`.
  void make(const StepContext& c, int64_t begin, int64_t end, float* to) const {
    for (int64_t row = begin; row < end; ++row) tape.run(c, row, length, to + row * pitch, false);
  }
  void make_all(const StepContext& c, int64_t rows) const;
};
// Nothing when the group has none. `split`: how rows and panels are shared out.
std::optional<Prologue> bind_prologue(Lowering& l, const Group& group, const Shape& whole, Layout layout, int64_t rows, const Split& split,
                                      Step& step);
// The rows that an anchor reads one by one, each once, if it does: then elementwise nodes before it can be done on each. How many, and how
// long they are.
std::optional<std::pair<int64_t, int64_t>> rows_read(const Graph& graph, const Node& node);
// Whether it is worth it: memory saved against the calls for each row.
bool prologue_pays(int64_t rows, int64_t length);

// Whether the node works on rows along its last axis, so that elementwise nodes before and after it can be done while a row is near.
bool heads_rows(const Graph& graph, const Node& node);
// Whether it is an op of the default domain whose operands and first result are f32 of known size.
bool all_f32(const Graph& graph, const Node& node);
// Whether the node is a pool that there are kernels for.
bool fast_pool(const Graph& graph, const Node& node);
// Whether the node can head a group with an epilogue.
bool can_anchor(const Graph& graph, const Node& node);
// Whether the node is a pool that can go line by line in the standard's order as well as channels-last.
bool pools_lines(const Graph& graph, const Node& node);
// First layers: with few channels a tap is a very short run. A padded copy makes each kernel row one run.
bool pads_rows(const ops::Window& window, int64_t channels);

// The epilogue of a group whose anchor writes a rows x columns matrix: nodes after the anchor, split into what the
// micro-kernel does in registers (bias, residual, clamp) and a tape for the rest.
struct Epilogue {
  std::optional<TapeSource> bias;  // one a column
  ValueId residual = kAbsent;
  bool clamp = false;
  float low = 0, high = 0;
  std::optional<BuiltTape> tape;
  std::string text;  // "bias + residual + clamp"
};
// `columns_axis`: the logical axis of `out` that the columns are. Nothing when the tail does not fit a tape.
std::optional<Epilogue> split_epilogue(const Graph& graph, const Group& group, int columns_axis);

// The same for an anchor that adds a bias of its own, an input of its node; with kAbsent it does not.
Epilogue epilogue_of(Lowering& l, const Group& group, int columns_axis, ValueId bias_input);

// Puts small independent steps side by side, where there are threads for them. Before memory is planned.
void join_branches(Plan& plan, int threads);

// An epilogue bound to memory: what a kernel needs to fill a DenseEpilogue while running.
struct BoundEpilogue {
  Place bias, residual;
  bool has_bias = false, has_residual = false;
  int64_t residual_stride = 0;
  bool clamp = false;
  float low = 0, high = 0;
  kernels::Tape tape;
  std::vector<Place> places;  // operands 1.. of the tape
  std::vector<int64_t> row_strides, column_strides;
  std::vector<kernels::TapeType> types;
  // `operands` is the caller's room for kMaxSlots entries, `column` the first column of this call (of a group).
  void fill(const StepContext& c, int64_t column, kernels::DenseEpilogue& e, kernels::TapeOperand* operands) const;
};
// Adds the operands' buffers to step.reads.
BoundEpilogue bind_epilogue(Lowering& l, const Epilogue& e, ValueId out, Layout layout, Step& step);

// Row and column stride of an operand seen from a matrix whose columns are the innermost physical dim of `out`.
std::optional<std::pair<int64_t, int64_t>> matrix_strides(const Shape& shape, const Place& place, const Shape& out, Layout out_layout);

Split split_work(int64_t rows, int64_t panels, int64_t width, int64_t depth, int tile_rows, int threads, int64_t block_bytes);
// Tables of offsets of a window's taps along up to three spatial axes (missing ones count as size 1 in front), and its sizes.
// `strides`: of the picture, by axis: image, channel, then the spatial ones.
void set_window(const ops::Window& w, std::span<const int64_t> in, std::span<const int64_t> strides, std::vector<int64_t> (&tables)[3],
                kernels::WindowShape& rows);
// Aligned memory for packed weights, and the entry that holds it.
std::shared_ptr<float> floats(int64_t count);
Weights::Entry entry_of(std::shared_ptr<float> p, int64_t count);

}  // namespace lathe::lower
