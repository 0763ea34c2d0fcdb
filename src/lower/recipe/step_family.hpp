// What a family of steps says about itself. One file in steps/ is one family (or several that share their kernel), and steps/registry.cpp
// lists them all.
#pragma once

#include <memory>
#include <optional>
#include <span>
#include <string_view>
#include <vector>

#include "lower/plan/builder.hpp"
#include "lower/recipe/cost.hpp"
#include "lower/recipe/problem.hpp"
#include "lower/recipe/recipe_space.hpp"

namespace lathe::lower {

// What a family found out about a group that it can do. Families derive from it. Invariant: `view` and `group` outlive it.
struct Match {
  Match(const GraphView& v, const Group& g, StepKind k) : view(&v), group(&g), kind(k) {}
  virtual ~Match() = default;
  const Node& node() const { return view->node(group->head()); }
  // What leaves the group.
  ValueId result() const { return view->node(group->nodes.back()).outputs[0]; }

  const GraphView* view;
  const Group* group;
  StepKind kind;
  Work work;  // of the head alone
};

// How a group takes or gives a value: in a fixed layout, in one that all of its values share, or in any.
enum class Order : uint8_t { natural, channels_last, shared, any };
struct LayoutDemand {
  Order out = Order::natural;
  Order whole = Order::natural;  // operands of the result's shape, and what movement ops read
  Order input = Order::natural;  // of an anchor: what it reads first
  bool operator==(const LayoutDemand&) const = default;
};

// Rows that an anchor reads one by one, each once: elementwise nodes before it can be done on each.
struct RowsRead {
  int64_t rows = 0, length = 0;
};

// What a family's kernels read first, compute in and store (undefined: what the nodes behind the head want). What they read beside that
// (weights, other operands) match() looks at.
struct Numbers {
  DType reads = DType::undefined, computes = DType::undefined, stores = DType::undefined;
};
constexpr Numbers same(DType d) { return {d, d, d}; }
inline constexpr Numbers kF32[]{same(DType::f32)};

// Stateless and immutable: one instance serves all threads. A family relies on what inference has checked (operands are what the op's
// statement in ops/operand_table.cpp says) and on nothing else; what it needs beyond that it tests in match().
class StepFamily {
 public:
  virtual ~StepFamily() = default;
  virtual std::string_view name() const = 0;
  // Of what its knobs mean; raised when a stored recipe would mean something else.
  virtual int version() const { return 1; }

  // ---- which numbers ----
  // Groups whose head reads or gives others are none of this family's. Empty: it moves or converts any.
  virtual std::span<const Numbers> numbers() const { return {}; }
  // The same family for other numbers, where another kernel does them: matched, tuned and lowered by themselves, under the same name.
  virtual std::span<const StepFamily* const> forms() const { return {}; }
  bool takes(DType reads, DType stores) const;

  // ---- before nodes are grouped ----
  // Whether other nodes may join the step of this node.
  virtual Anchor anchor(const GraphView&, const Node&) const { return Anchor::none; }
  // For an anchor of tiles.
  virtual std::optional<RowsRead> rows_read(const GraphView&, const Node&) const { return std::nullopt; }
  // Whether two groups of tiles should be one step: the first makes what the anchor of the second reads, for nobody else. `both` has their
  // nodes and that anchor. The same answer on every machine: an archive's recipes are one a group.
  virtual bool joins(const GraphView&, const Group& /*both*/) const { return false; }

  // ---- whether and how ----
  // Nothing when the group is none of this family's.
  virtual std::unique_ptr<Match> match(const GraphView& view, const Group& group, const Machine& machine) const = 0;
  virtual LayoutDemand layouts(const Match&) const { return {}; }
  // Adds its knobs; none: there is one way to do it.
  virtual void candidates(const Match&, const Problem&, RecipeSpace&) const {}
  // Why a recipe of the space cannot be run after all: where ranges of knobs hang together. Empty: it can.
  virtual std::string fault(const Match&, const Problem&, const Recipe&) const { return ""; }
  // Whether an estimate may choose it. If not, it is for a tuner and for pins, and for what nothing else does.
  virtual bool untuned() const { return true; }
  // Seconds on one thread.
  virtual double estimate(const Match& m, const Problem& p, const Recipe&) const { return seconds(p.machine.rates, m.work); }

  // ---- doing it ----
  // Adds a step, or makes the results aliases of what is there. `recipe` is one of candidates() without a fault.
  virtual void lower(PlanBuilder& builder, const Match& match, const Problem& problem, const Recipe& recipe) const = 0;

  RecipeSpace space(const Match& match, const Problem& problem) const {
    RecipeSpace s(name(), version());
    candidates(match, problem, s);
    return s;
  }
};

// Adds the candidates of a family, its forms among them, for a group whose head reads and gives numbers that they take.
struct Candidate {
  const StepFamily* family;
  std::unique_ptr<Match> match;
};
void look(const StepFamily& family, const GraphView& view, const Group& group, const Machine& machine, std::vector<Candidate>& out);

// A step of this match, with its names, kind and work filled in.
Step begin_step(const PlanBuilder& builder, const Match& match);

// All families, in the order in which equal estimates are decided.
using Families = std::span<const StepFamily* const>;
Anchor anchor_of(Families families, const GraphView& view, const Node& node);
std::optional<RowsRead> rows_read(Families families, const GraphView& view, const Node& node);

}  // namespace lathe::lower
