// The part of the C interface that reads ONNX files.
#include "base/fail.hpp"
#include "capi/guard.hpp"
#include "lathe/formats.hpp"
#include "lathe/state.hpp"

extern "C" lathe_status lathe_compile_model(const char* path, int32_t threads, lathe_program** program) {
  return lathe::capi::guarded([&] {
    if (program == nullptr || path == nullptr) lathe::fail(lathe::Category::value, "the path, or where the program goes, is null");
    *program = nullptr;
    *program = new lathe_program(lathe::compile(lathe::load(path), {.threads = threads}));
  });
}

extern "C" lathe_status lathe_compile_with_states(const char* path, int32_t threads, const char* states, int64_t positions,
                                                  lathe_program** program) {
  return lathe::capi::guarded([&] {
    if (program == nullptr || path == nullptr || states == nullptr)
      lathe::fail(lathe::Category::value, "the path, the states, or where the program goes, is null");
    *program = nullptr;
    if (positions < 0) lathe::fail(lathe::Category::value, "positions is {}, expected 0 or more", positions);
    lathe::Graph graph = lathe::load(path);
    lathe::CompileOptions options;
    options.threads = threads;
    options.states = std::string_view(states) == "found" ? lathe::find_states(graph) : lathe::pair_states(graph, states);
    options.positions = positions;
    *program = new lathe_program(lathe::compile(std::move(graph), options));
  });
}
