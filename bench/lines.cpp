// What joining parts to a line costs or gains: the demo's four parts run one after another by hand, against the line, by turns.
//   lines [DEMO] [ROUNDS]
#include <fmt/format.h>

#include <cstdlib>
#include <cstring>
#include <string>

#include "lathe/lathe.hpp"

using namespace lathe;

namespace {

constexpr int64_t kMark = 48;

Tensor ints(Shape shape, int64_t first, int64_t step) {
  Tensor t(DType::i64, std::move(shape));
  for (int64_t i = 0; i < t.size(); ++i) t.as<int64_t>()[static_cast<size_t>(i)] = first + i * step;
  return t;
}

void row(const std::string& what, int threads, const Interleaved& r) {
  fmt::print("{:28} {:7} {:10.1f} {:10.1f} {:10.3f}   {:.3f} to {:.3f}\n", what, threads, 1e6 * r.a.median, 1e6 * r.b.median, r.ratio,
             r.low, r.high);
}

}  // namespace

int main(int argc, char** argv) {
  const std::filesystem::path demo = std::filesystem::path(argc > 1 ? argv[1] : LATHE_DEMO_DIR) / "jobcard";
  const int rounds = argc > 2 ? std::atoi(argv[2]) : 400;
  fmt::print("{:28} {:>7} {:>10} {:>10} {:>10}   {}\n", "", "threads", "parts, us", "line, us", "line/parts", "10 % to 90 % of rounds");
  for (int threads = 1; threads <= std::min(2, usable_cores()); ++threads) {
    CompileOptions o{.threads = threads};
    Lane encoder(compile(load(demo / "encoder.onnx"), o)), merger(compile(load(demo / "merger.onnx"), o)),
        words(compile(load(demo / "words.onnx"), o));
    const auto kept = [&](Graph graph, const std::vector<std::string>& once) {
      CompileOptions with = o;
      with.states = graph.metadata.contains(kStatesKey) ? find_states(graph) : pair_states(graph, "present.*=past.*");
      with.once = once;
      return compile(std::move(graph), with);
    };
    Lane decoder(kept(load(demo / "decoder.onnx"), {}));
    const Program line = kept(join(read_line(demo / "jobcard.toml")), {"board"});
    Lane once(line.once()), each(line);
    Tensor board(DType::f32, {1, 3, 64, 128});
    std::memset(board.data(), 0, board.byte_size());
    const auto picture_by_parts = [&] {
      const Outputs cells = encoder.run({{"board", board}});
      return merger.run({{"cells", cells[0]}});
    };
    const Tensor rows = once.run({{"board", board}})[0];
    row("picture", threads, interleave([&] { (void)picture_by_parts(); }, [&] { once.run({{"board", board}}); }, rounds));
    const Tensor merged = picture_by_parts()[0];
    // A prompt with the picture's marks in it, then single tokens behind it.
    Tensor prompt = ints({1, 18}, 0, 1);
    for (int i = 1; i < 9; ++i) prompt.as<int64_t>()[static_cast<size_t>(i)] = kMark;
    const Tensor prompt_at = ints({1, 18}, 0, 1), prompt_seen = ints({1, 18}, 1, 0);
    const auto by_parts = [&](const Tensor& tokens, const Tensor& at, const Tensor& seen) {
      Tensor embedded = words.run({{"tokens", tokens}})[0];
      int64_t next = 0;
      const int64_t width = embedded.shape()[2];
      for (int64_t i = 0; i < tokens.size(); ++i) {
        if (tokens.as<int64_t>()[static_cast<size_t>(i)] != kMark) continue;
        std::memcpy(embedded.as<float>().data() + i * width, merged.as<float>().data() + width * next++, static_cast<size_t>(width) * 4);
      }
      decoder.run({{"embeddings", embedded}, {"positions", at}, {"mask", seen}});
    };
    const auto by_line = [&](const Tensor& tokens, const Tensor& at, const Tensor& seen) {
      each.run({{"tokens", tokens}, {"positions", at}, {"mask", seen}, {once.program().outputs()[0].name, rows}});
    };
    row("prompt of 18 tokens", threads,
        interleave(
            [&] {
              decoder.reset();
              by_parts(prompt, prompt_at, prompt_seen);
            },
            [&] {
              each.reset();
              by_line(prompt, prompt_at, prompt_seen);
            },
            rounds));
    const Tensor token = ints({1, 1}, 3, 0), at = ints({1, 1}, 18, 0), seen = ints({1, 19}, 1, 0);
    row("a token behind it", threads,
        interleave(
            [&] {
              by_parts(token, at, seen);
              decoder.rewind(1);
            },
            [&] {
              by_line(token, at, seen);
              each.rewind(1);
            },
            rounds));
  }
}
