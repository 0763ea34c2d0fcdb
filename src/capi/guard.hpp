// What every function of the C interface shares: exceptions become status codes and a text of this thread.
#pragma once

#include <exception>
#include <new>
#include <string>

#include "lathe/lathe.h"
#include "lathe/program.hpp"

struct lathe_program {
  lathe::Program program;
  std::vector<std::vector<int64_t>> input_dims, output_dims;

  explicit lathe_program(lathe::Program p);
};

namespace lathe::capi {

lathe_status failed(lathe_status status, const std::string& text) noexcept;
lathe_status status_of(Category category) noexcept;

// Runs f and gives its status; whatever it throws becomes one.
template <typename F>
lathe_status guarded(F&& f) noexcept {
  try {
    f();
    return LATHE_OK;
  } catch (const Error& e) {
    return failed(status_of(e.category()), e.what());
  } catch (const std::bad_alloc&) {
    return failed(LATHE_RESOURCE, "out of memory");
  } catch (const std::exception& e) {
    return failed(LATHE_INTERNAL, e.what());
  }
}

}  // namespace lathe::capi
