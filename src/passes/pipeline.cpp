#include "passes/pipeline.hpp"

#include <algorithm>
#include <functional>

#include "base/gives_way.hpp"
#include "lathe/op.hpp"

namespace lathe::passes {
namespace {

using Note = std::function<void(Report)>;

Report fold(Graph& g) { return fold_constants(g); }

void halves(Graph& g, const How& how, const Note& note) { note(widen_halves(g, how.round_each)); }

// Weights stay the numbers they are, so that products and convolutions between floats can run on them.
void quantised(Graph& g, const How&, const Note& note) {
  if (std::ranges::none_of(g.nodes, [](const Node& n) { return n.domain.empty() && n.op == "DequantizeLinear"; })) return;
  note(fold_constants(g, int64_t{64} << 20, true));
  Report moves = quantised_moves(g);
  Report bytes = quantised_steps(g);
  Report weights = quantised_weights(g);
  const bool changed = !moves.changes.empty() || !bytes.changes.empty() || !weights.changes.empty();
  note(std::move(moves));
  note(std::move(bytes));
  note(std::move(weights));
  if (changed) infer(g);
}

// What was inside has types and constants to find out about, and perhaps control flow of its own that can be opened then.
void open_bodies(Graph& g, const How&, const Note& note) {
  constexpr int kDeepest = 32;
  for (int depth = 0; depth < kDeepest; ++depth) {
    Report opened = open_control(g);
    if (opened.changes.empty()) opened = known_sequences(g);
    if (opened.changes.empty()) opened = inline_branches(g);
    const bool changed = !opened.changes.empty();
    note(std::move(opened));
    if (!changed) return;
    infer(g);
    note(fold_constants(g));
  }
}

template <Report (*Pass)(Graph&)>
void one(Graph& g, const How&, const Note& note) {
  note(Pass(g));
}

constexpr unsigned kOnce = 1, kShaped = 2, kBoth = kOnce | kShaped;

struct Stage {
  void (*run)(Graph&, const How&, const Note&);
  unsigned when;
  bool fuses;  // left out when fusion is off
};

// From top to bottom.
constexpr Stage kStages[]{
    {halves, kOnce, false},
    {quantised, kOnce, true},
    {one<fold>, kBoth, false},
    {open_bodies, kBoth, true},
    {halves, kBoth, false},  // of what stood in bodies
    {one<training_forms>, kBoth, false},
    {one<whole_numbers>, kBoth, false},
    {one<seldom_ops>, kBoth, false},
    {one<usual_forms>, kBoth, false},
    {one<written_out>, kBoth, false},
    {one<remove_identities>, kBoth, false},
    {one<share_common>, kOnce, true},
    {one<simplify>, kBoth, true},
    {one<recognise>, kBoth, true},
    {one<merge_products>, kOnce, true},
    {one<fold_normalisation>, kOnce, true},
    {one<convolution_forms>, kBoth, true},  // after what goes into their weights
    {one<remove_dead>, kBoth, false},
    {one<recompute>, kShaped, true},
    {one<separate_parts>, kShaped, false},
};

}  // namespace

LATHE_GIVES_WAY std::vector<Report> run(Graph& g, const How& how) {
  std::vector<Report> reports;
  const Note note = [&](Report r) {
    const auto it = std::ranges::find(reports, r.pass, &Report::pass);
    if (it == reports.end()) reports.push_back(std::move(r));
    else it->changes.insert(it->changes.end(), r.changes.begin(), r.changes.end());
  };
  const unsigned now = how.when == When::program ? kOnce : kShaped;
  for (const Stage& stage : kStages) {
    if ((stage.when & now) != 0 && (how.fuse || !stage.fuses)) stage.run(g, how, note);
  }
  infer(g);
  return reports;
}

}  // namespace lathe::passes
