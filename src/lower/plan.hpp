// What lowering makes of a Graph with known shapes: buffers, steps, and where each value lives.
#pragma once

#include <compare>
#include <functional>
#include <map>
#include <memory>
#include <mutex>
#include <span>
#include <string>
#include <vector>

#include "kernels/isa.hpp"
#include "lathe/graph.hpp"

namespace lathe::lower {

// The threads that a step may use. parallel() returns when all tasks are done.
class Workers {
 public:
  virtual ~Workers() = default;
  virtual int size() const = 0;
  // Calls f(context, task, worker) for every task in [0, tasks), worker in [0, size()).
  virtual void parallel(int64_t tasks, void (*f)(void* context, int64_t task, int worker), void* context) = 0;

  template <typename F>
  void each(int64_t tasks, F&& f) {
    parallel(
        tasks, [](void* c, int64_t task, int worker) { (*static_cast<std::remove_reference_t<F>*>(c))(task, worker); }, &f);
  }
};

using BufferId = int;
inline constexpr BufferId kNoBuffer = -1;

// natural: row-major in the standard's order. channels_last: axis 1 runs fastest (N, spatial..., C).
enum class Layout { natural, channels_last };

struct Buffer {
  enum class Kind { arena, input, output, constant } kind = Kind::arena;
  size_t bytes = 0;
  int index = -1;                    // input, output: position in the graph's list
  std::shared_ptr<const void> hold;  // constant: keeps `data` alive
  const void* data = nullptr;        // constant
  int first = -1, last = -1;         // steps between which it is live
  size_t offset = 0;                 // arena
};

// Where a value is. No buffer: its size is only known at run time (or it holds strings), and it is a Tensor of the lane.
struct Place {
  BufferId buffer = kNoBuffer;
  size_t offset = 0;  // bytes
  Layout layout = Layout::natural;
  // Elements from one index to the next, by axis, where it is part of something larger. None: it stands by itself, in the order of the
  // layout. With gaps, what runs fastest in that order still runs without any.
  std::vector<int64_t> strides = {};
};

class CompiledBodies;  // the runtime's

// A node with subgraphs, as its step runs it.
struct ControlSite {
  const Node* node = nullptr;
  std::vector<bool> constant;  // by capture
  // The subgraphs as programs of their own, made when they first run; shared by lanes.
  mutable std::once_flag once;
  mutable std::shared_ptr<CompiledBodies> compiled;
};

// Runs subgraphs as programs of their own; the lane's.
class Bodies {
 public:
  virtual ~Bodies() = default;
  // False: not so, evaluate it node by node. Like BodyHost::run.
  virtual bool run(const ControlSite& site, const std::shared_ptr<Graph>& body, std::span<const Tensor> inputs,
                   std::span<const std::pair<ValueId, Tensor>> outer, std::vector<Tensor>& out) = 0;
};

// What a step sees while running.
struct StepContext {
  std::byte* const* buffers;  // by BufferId
  Tensor* tensors;            // by ValueId, for values without a buffer
  Workers& workers;
  Bodies* bodies;
};

class StepKernel {
 public:
  virtual ~StepKernel() = default;
  virtual void run(const StepContext& context) const = 0;
};

struct Step {
  std::string kind;                // "convolution", "product", "tape", "softmax", "copy", "control", "plain", ...
  std::vector<std::string> nodes;  // names of the fused nodes, in order
  std::string recipe;              // algorithm, tiles, split; for people
  double flops = 0, bytes = 0;     // arithmetic and least memory traffic
  std::vector<int> members;        // the nodes of `graph` it stands for; none for copies and layout changes
  int head = -1;                   // of these, the one that gives the step its name
  std::string why, why_not;        // why these nodes are together, and why no more of them
  std::vector<BufferId> reads, writes, scratch;
  BufferId in_place = kNoBuffer;  // a read buffer that the first written one may share
  bool can_fail = false;          // while running: then it stays on the caller's thread
  std::unique_ptr<StepKernel> kernel;
};

class Weights;

struct Plan {
  std::vector<Buffer> buffers;
  std::vector<Step> steps;
  std::vector<Place> places;  // by ValueId
  std::vector<Shape> input_shapes;
  std::vector<std::optional<Shape>> output_shapes;  // nothing: only known at run time
  std::vector<DType> output_dtypes;
  std::vector<ValueId> output_values;
  size_t arena_bytes = 0, arena_bound = 0;
  size_t weight_bytes = 0;             // constants the steps read
  std::shared_ptr<const Graph> graph;  // the shaped graph the steps were made from
  std::vector<bool> dynamic;           // by ValueId: held as a Tensor
  std::map<ValueId, Tensor> restored;  // constants read as they are whose originals had gone: their graph does not hold them
  std::shared_ptr<Weights> own;        // packed forms of constants that these shapes alone have
};

// How weights are packed.
enum class PackForm : uint8_t { convolution, planes, winograd, product, product_16, transposed, byte_product, byte_convolution, recurrent };
inline constexpr int kPackForms = static_cast<int>(PackForm::recurrent) + 1;

// What decides every byte of packed weights: whose they are, their form, and all numbers that packing depends on beside the value itself
// (panel width, groups, taps, factors, other constants by their ids).
struct PackKey {
  ValueId value = kAbsent;
  PackForm form = PackForm::product;
  std::vector<int64_t> geometry;
  auto operator<=>(const PackKey&) const = default;
  std::string text() const;
};

// Constants in the form kernels want, made once and shared by all editions of a Program.
class Weights {
 public:
  struct Entry {
    std::shared_ptr<const void> hold;
    const void* data = nullptr;
    size_t bytes = 0;
  };
  // Makes the entry when there is none under this key. One that came from an archive must have `bytes`: throws Error (format) when not.
  const Entry& get(const PackKey& key, size_t bytes, const std::function<Entry()>& make);
  void put(const PackKey& key, Entry entry) { entries_[key] = std::move(entry); }
  const std::map<PackKey, Entry>& entries() const { return entries_; }
  // Values whose original tensors steps read as they are.
  void keep_raw(ValueId v) { raw_.push_back(v); }
  const std::vector<ValueId>& raw() const { return raw_; }
  // How to get a value's tensor back from a packed entry once the original is gone.
  std::map<ValueId, std::function<Tensor()>> restore;
  // Told as soon as a value's packed form is there: its original can go, so that weights are never all held twice.
  std::function<void(ValueId)> on_packed;

 private:
  std::map<PackKey, Entry> entries_;
  std::vector<ValueId> raw_;
};

struct LowerOptions {
  int threads = 1;
  bool fuse = true;
  bool plain = false;  // every node by plain evaluation
  bool winograd = true;
  int64_t block_bytes = 512 << 10;  // of packed weights, how many are passed over together
  kernels::Isa isa = kernels::Isa::scalar;
};

// `base_constants`: values that are constants in the Program's own graph; their packed forms go to `weights`, those of
// other constants (folded for these shapes) stay with the plan. Throws Error.
// `own`: what an archive holds of the latter.
Plan lower(std::shared_ptr<const Graph> graph, const LowerOptions& options, Weights& weights, const std::vector<bool>& base_constants,
           std::shared_ptr<Weights> own = nullptr);
// The block_bytes that suit this machine.
int64_t near_block_bytes();

// Offsets for arena buffers from their lifetimes; merges in-place pairs first. Fills arena_bytes and arena_bound.
void plan_memory(Plan& plan);

}  // namespace lathe::lower
