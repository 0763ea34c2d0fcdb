// The part of the C interface that reads ONNX files.
#include "base/fail.hpp"
#include "capi/guard.hpp"
#include "lathe/formats.hpp"

extern "C" lathe_status lathe_compile_model(const char* path, int32_t threads, lathe_program** program) {
  return lathe::capi::guarded([&] {
    if (program == nullptr || path == nullptr) lathe::fail(lathe::Category::value, "the path, or where the program goes, is null");
    *program = nullptr;
    *program = new lathe_program(lathe::compile(lathe::load(path), {.threads = threads}));
  });
}
