// Why a model and its reference part: what usually goes wrong is tried, one change after another, by running it.
#include <algorithm>
#include <chrono>
#include <cmath>
#include <map>
#include <set>

#include "base/clock.hpp"
#include "base/fail.hpp"
#include "lathe/divergence.hpp"
#include "parity/net.hpp"
#include "parity/suspects.hpp"

namespace lathe {
namespace {


// Errors that one run of another program may leave though nothing is wrong.
constexpr double kClose = 3e-5;
// What rounding alone leaves of it.
constexpr double kRounding = 2e-6;

class Hunter {
 public:
  Hunter(const Graph& model, const Case& reference, const HuntOptions& options, const Walk* walked)
      : o_(options), compile_(options.compile), net_(model, compile_), case_(reference), walked_(walked), start_(Clock::now()) {
    if (case_.outputs.empty())
      fail(Category::value, "case {} expects no outputs: there is nothing that a change could make agree", case_.name);
  }

  Hunt run() {
    parting::refuse_random(net_.graph());
    const Program program = compile(net_.graph(), compile_);
    Lane lane(program);
    inputs_ = arrange_inputs(program, case_);
    bool fits_as_it_is = true;
    for (size_t i = 0; i < inputs_.size(); ++i) fits_as_it_is = fits_as_it_is && fits(inputs_[i].shape(), program.inputs()[i].dims);
    const auto now = fits_as_it_is ? tried(lane, inputs_) : std::nullopt;
    h_.error = now ? now->error : INFINITY;
    // Of narrow types rounding leaves more.
    for (const Port& port : program.outputs()) close_ = std::max(close_, 3 * parting::floor_of(port.dtype));
    h_.agrees = now && now->pass && now->error <= close_;
    h_.tried = 0;
    if (h_.agrees) return h_;
    // Where intermediate values say that the first values agree, the inputs are right.
    const bool inputs_agree = walked_ && walked_->compared > 1 && walked_->values.front().comparison.pass &&
                              walked_->parting != Parting::input && (walked_->first > 0 || walked_->jump > 0);
    // What is likely and soon tried comes first; pairs and single nodes of a large net take hundreds of runs.
    if (!inputs_agree) try_inputs(lane, program, false);
    if (!settled()) gather_nodes();
    for (const std::vector<Trial>* trials : {&near_, &together_}) {
      if (!settled()) try_nodes(*trials);
    }
    if (!settled() && !inputs_agree) try_inputs(lane, program, true);
    if (!settled()) try_nodes(single_);
    rank();
    return std::move(h_);
  }

 private:
  struct Result {
    bool pass = false;
    double error = INFINITY;
  };

  bool late() {
    if (o_.run.stop.stop_requested()) fail(Category::cancelled, "the hunt was cancelled");
    if (std::chrono::duration<double>(Clock::now() - start_).count() < o_.seconds) return false;
    h_.complete = false;
    return true;
  }

  // Whether what was found explains all but rounding. What explains nearly all may only hide the mistake: inputs made large hide an
  // epsilon.
  bool settled() const {
    return std::ranges::any_of(h_.verified, [](const Suspect& s) { return s.error <= kRounding; });
  }

  // Nothing when it cannot be run so.
  std::optional<Result> tried(Lane& lane, const std::vector<Tensor>& inputs) {
    ++h_.tried;
    try {
      const CaseResult r = check_outputs(lane.program(), lane.run(std::span<const Tensor>(inputs), o_.run), case_, o_.tolerances);
      Result out{r.pass, 0};
      for (const Comparison& c : r.outputs) {
        if (!c.pass && c.out_of_tolerance == 0) return std::nullopt;  // another dtype or shape
        out.error = std::max(out.error, c.error);
      }
      return out;
    } catch (const Error& e) {
      if (e.category() == Category::cancelled) throw;
      return std::nullopt;
    }
  }

  // Whether it explains the error; keeps it when it does.
  bool judged(const std::optional<Result>& r, Suspect s) {
    if (!r || !std::isfinite(r->error)) return false;
    s.error = r->error;
    s.agrees = r->pass && (r->error <= h_.error / 30 || (r->error <= close_ && r->error < h_.error / 3));
    if (s.agrees) {
      h_.verified.push_back(std::move(s));
      return true;
    }
    if (r->error < h_.error / 10 && (!h_.nearest || r->error < h_.nearest->error)) h_.nearest = std::move(s);
    return false;
  }

  struct Trial {
    size_t order = 0;
    std::string text, where;
    std::vector<std::pair<size_t, std::function<void(Graph&, size_t)>>> edits;
  };

  // One change each, or two at once.
  void try_inputs(Lane& lane, const Program& program, bool pairs) {
    for (const auto& [what, inputs] : o_.otherwise) {
      if (pairs || late()) break;
      say(what);
      judged(tried(lane, inputs), {what, "the inputs", what, false, 0});
    }
    for (size_t i = 0; i < inputs_.size(); ++i) {
      const Port& port = program.inputs()[i];
      const auto moves = parting::moved(port.name, inputs_[i], port.dims);
      const auto scales = parting::rescaled(port.name, inputs_[i], net_.graph().metadata);
      std::vector<Tensor> changed = inputs_;
      const auto attempt = [&](const std::string& what, Tensor t) {
        changed[i] = std::move(t);
        say(what);
        return judged(tried(lane, changed), {what, fmt::format("input '{}'", port.name), what, false, 0});
      };
      if (!pairs) {
        for (const auto* list : {&moves, &scales}) {
          for (const parting::InputChange& c : *list) {
            if (late()) return;
            attempt(c.what, c.apply(inputs_[i]));
          }
        }
        continue;
      }
      bool found = false;
      // Two at once: elements moved, and values changed before or after.
      for (const parting::InputChange& m : moves) {
        const Tensor there = m.apply(inputs_[i]);
        for (const parting::InputChange& s : scales) {
          if (late()) return;
          if (attempt(fmt::format("{}, and {}", m.what, s.what), s.apply(there))) found = true;
          else if (attempt(fmt::format("{}, and then {}", s.what, m.what), m.apply(s.apply(inputs_[i])))) found = true;
        }
      }
      // A range that was missed, and mean and scale behind it.
      for (const parting::InputChange& first : scales) {
        const Tensor there = first.apply(inputs_[i]);
        for (const parting::InputChange& second : scales) {
          if (found || late()) return;
          if (&first != &second && attempt(fmt::format("{}, and {}", first.what, second.what), second.apply(there))) found = true;
        }
      }
    }
  }

  std::optional<Result> with(const Graph& base, const Trial& t) {
    try {
      Graph g = std::move(*deep_copy(base));
      for (const auto& [n, edit] : t.edits) edit(g, n);
      g.sort();
      // Sizes may have changed; what they were is inferred again.
      std::vector<bool> input(g.values.size(), false);
      for (ValueId v : g.inputs) input[static_cast<size_t>(v)] = true;
      for (size_t v = 0; v < g.values.size(); ++v) {
        if (!input[v] && !g.values[v].constant) g.values[v].dims.reset();
      }
      // Packed once and run once: weights for Winograd's method take longer than they save.
      CompileOptions once = compile_;
      once.winograd = false;
      Lane lane(compile(std::move(g), once));
      return tried(lane, inputs_);
    } catch (const Error& e) {
      if (e.category() == Category::cancelled) throw;
      return std::nullopt;
    }
  }

  void gather_nodes() {
    base_ = net_.graph();
    parting::fold_constants(base_);
    // The nodes that a walk points at come first.
    std::set<std::string> pointed;
    if (walked_) {
      for (const ValueCheck& c : walked_->inside) pointed.insert(c.name);
      const int at = walked_->jump >= 0 ? walked_->jump : walked_->first;
      if (at >= 0) pointed.insert(walked_->values[static_cast<size_t>(at)].name);
    }
    std::map<std::string, std::vector<size_t>> by_key;  // into `single_`
    for (size_t n = 0; n < base_.nodes.size(); ++n) {
      const Node& node = base_.nodes[n];
      const bool here = std::ranges::any_of(
          node.outputs, [&](ValueId v) { return v != kAbsent && pointed.contains(base_.values[static_cast<size_t>(v)].name); });
      size_t order = 0;
      for (parting::NodeChange& c : parting::changes_of(base_, n)) {
        Trial t{order++, c.text, label(base_, node), {{n, std::move(c.edit)}}};
        by_key[c.key].push_back(single_.size());
        if (here) near_.push_back(t);
        single_.push_back(std::move(t));
      }
    }
    for (const auto& [key, places] : by_key) {
      if (places.size() < 2) continue;
      Trial all{
          single_[places[0]].order, single_[places[0]].text, fmt::format("{} nodes {}", places.size(), key.substr(0, key.find(' '))), {}};
      for (size_t p : places) all.edits.push_back(single_[p].edits[0]);
      together_.push_back(std::move(all));
    }
    const auto likelier = [](const Trial& a, const Trial& b) { return a.order < b.order; };
    std::stable_sort(together_.begin(), together_.end(), likelier);
    std::stable_sort(near_.begin(), near_.end(), likelier);
    std::stable_sort(single_.begin(), single_.end(), likelier);
  }

  void try_nodes(const std::vector<Trial>& trials) {
    for (const Trial& t : trials) {
      if (late()) break;
      say(fmt::format("{}: {}", t.where, t.text));
      judged(with(base_, t), {fmt::format("{}: {}", t.where, t.text), t.where, t.text, false, 0});
    }
  }

  // The best, and what is as good; what explains less by far was only within tolerance.
  void rank() {
    std::stable_sort(h_.verified.begin(), h_.verified.end(), [](const Suspect& a, const Suspect& b) { return a.error < b.error; });
    if (h_.verified.empty()) return;
    const double best = std::max(h_.verified.front().error * 3, 1e-7);
    std::erase_if(h_.verified, [&](const Suspect& s) { return s.error > best; });
    h_.nearest.reset();
  }

  void say(const std::string& what) const {
    if (o_.progress) o_.progress(fmt::format("{} tried: {}", h_.tried, what));
  }

  const HuntOptions& o_;
  CompileOptions compile_;
  parting::Net net_;
  const Case& case_;
  const Walk* walked_;
  Clock::time_point start_;
  double close_ = kClose;
  std::vector<Tensor> inputs_;
  Graph base_;                                   // constants folded
  std::vector<Trial> near_, together_, single_;  // at the nodes a walk points at; on all nodes of an op; on each
  Hunt h_;
};

}  // namespace

Hunt hunt(const Graph& model, const Case& reference, const HuntOptions& options, const Walk* walked) {
  return Hunter(model, reference, options, walked).run();
}

}  // namespace lathe
