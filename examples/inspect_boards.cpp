// Looks for knots on every board scan of a folder: pictures with boxes drawn on them, and a CSV of what was found.
//
//   inspect_boards knots.onnx SCANS OUT
//
// Scans are decoded, run, drawn and written side by side on all cores, and come out in their order. What cannot be read is told and left
// out. Run again after it was cut off, it goes on where it was.
#include <lathe/lathe.hpp>

#include <cstdio>
#include <map>

int main(int argc, char** argv) {
  if (argc != 4) {
    std::fprintf(stderr, "usage: inspect_boards MODEL FOLDER OUT\n");
    return 2;
  }
  try {
    const std::filesystem::path out = argv[3];
    std::filesystem::create_directories(out);
    const lathe::Program program = lathe::compile(lathe::load(argv[1]), {.dims = {{"batch", 1}}});
    const auto labels = lathe::labels_in(program.metadata());
    lathe::ResultFiles files;
    files.annotated = out / "scans";
    files.lines = out / "lines.jsonl";
    files.table = out / "knots.csv";
    files.resume = std::filesystem::exists(files.lines);
    lathe::Results results(files, labels);
    const auto source = results.left_of(lathe::picture_frames({argv[2]}));
    lathe::WatchOptions options;
    options.lanes = program.options().threads;
    std::map<int64_t, int> knots;
    const lathe::WatchReport report = lathe::watch(
        program, *source, options, [&](lathe::Sight& s) { results.draw(s); },
        [&](lathe::Sight& s) {
          results.take(s);
          if (!s.failed.empty()) std::fprintf(stderr, "%s\n", s.failed.c_str());
          for (const lathe::Box& b : s.boxes) ++knots[b.label];
        });
    results.finish();
    for (const auto& [label, count] : knots) std::printf("%-8s %4d\n", labels.at(static_cast<size_t>(label)).c_str(), count);
    std::printf("%lld scans, %lld done before\n", static_cast<long long>(report.frames), static_cast<long long>(results.done_before()));
  } catch (const std::exception& e) {
    std::fprintf(stderr, "inspect_boards: %s\n", e.what());
    return 1;
  }
}
