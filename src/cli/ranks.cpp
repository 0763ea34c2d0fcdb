#include "ranks.hpp"

#include <fcntl.h>
#include <unistd.h>

#include <exception>

#include <fmt/ranges.h>

namespace lathe::cli {
namespace {

std::string prefix;

}  // namespace

const std::string& rank_prefix() { return prefix; }

void RanksFlags::add_to(CLI::App& app, bool checkpoints) {
  app.add_option(
         "--ranks", ranks,
         "Share the items out among the processes that this command was started as: mpi (mpirun -n N lathe ..), or a library with a "
         "function lathe_ranks")
      ->type_name("mpi|FILE.so");
  if (!checkpoints) return;
  app.add_option("--checkpoint", checkpoint, "Keep what is finished in this file, and go on behind what it holds")->type_name("FILE");
}

RanksScope::RanksScope(const RanksFlags& flags) : checkpoint_(flags.checkpoint) {
  if (flags.ranks.empty()) return;
  ranks_ = load_ranks(flags.ranks);
  if (ranks_->rank() == 0) return;
  prefix = fmt::format("rank {}: ", ranks_->rank());
  // What it would print, rank 0 prints.
  const int nowhere = ::open("/dev/null", O_WRONLY | O_CLOEXEC);
  if (nowhere >= 0) ::dup2(nowhere, STDOUT_FILENO), ::close(nowhere);
}

RanksScope::~RanksScope() {
  if (!ranks_) return;
  try {
    std::fflush(stdout);
    const bool whole = std::uncaught_exceptions() == 0;
    if (!part_ways(*ranks_) && whole && ranks_->rank() == 0)
      fmt::print(stderr, "lathe: some ranks are gone; the results are whole all the same\n");
  } catch (const std::exception&) {  // the results are out
  }
}

ShareOptions RanksScope::share(const ModelOptions& model, const std::string& job, size_t n) const {
  ShareOptions o;
  o.ranks = ranks_;
  if (checkpoint_.empty()) return o;
  o.checkpoint = n == 0 ? checkpoint_ : fmt::format("{}.{}", checkpoint_, n + 1);
  // What decides on results: not limits, threads or where they go.
  o.job = fmt::format("{}\n{}\n{} {} {} {} {} {} {} {}", model.model, hash_of_file(model.model), model.batch, model.isa, model.direct,
                      model.round_each, model.states, model.positions, model.held, model.recipes);
  for (const auto& list : {model.dims, model.shapes, model.outputs, model.ops}) o.job += fmt::format(" [{}]", fmt::join(list, " "));
  o.job += "\n" + job;
  return o;
}

std::string shared_text(const Shared& s) {
  std::string text;
  if (s.items.size() > 1) text = fmt::format("by {} ranks: {} items", s.items.size(), fmt::join(s.items, ", "));
  if (s.resumed > 0) text += fmt::format("{}{} items from the checkpoint", text.empty() ? "" : "; ", s.resumed);
  if (s.again > 0) text += fmt::format("; {} given out again", s.again);
  if (!s.silent.empty())
    text += fmt::format("; nothing came back from rank{} {}", s.silent.size() == 1 ? "" : "s", fmt::join(s.silent, ", "));
  return text;
}

Json shared_json(const Shared& s) { return {{"by_rank", s.items}, {"resumed", s.resumed}, {"again", s.again}, {"silent", s.silent}}; }

}  // namespace lathe::cli
