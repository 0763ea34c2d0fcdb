// Programs and lanes from C++17 on, over the C interface alone (lathe/lathe.h): what a program that ships archives needs, with one binary
// interface whatever its compiler. Header only; link MellowLathe::deploy (or MellowLathe::lathe). With C++20 and the same compiler as the
// library's, lathe/lathe.hpp has more.
#pragma once

#include <cstddef>
#include <cstdint>
#include <functional>
#include <memory>
#include <stdexcept>
#include <string>
#include <utility>
#include <vector>

#include "lathe/lathe.h"

namespace lathe::deploy {

class Error : public std::runtime_error {
 public:
  Error(lathe_status status, const std::string& what) : std::runtime_error(what), status_(status) {}
  lathe_status status() const { return status_; }

 private:
  lathe_status status_;
};

inline void check(lathe_status status) {
  if (status != LATHE_OK) throw Error(status, lathe_error_text());
}

template <typename T>
struct TypeOf;
template <>
struct TypeOf<float> {
  static constexpr lathe_dtype value = LATHE_F32;
};
template <>
struct TypeOf<double> {
  static constexpr lathe_dtype value = LATHE_F64;
};
template <>
struct TypeOf<int8_t> {
  static constexpr lathe_dtype value = LATHE_I8;
};
template <>
struct TypeOf<int16_t> {
  static constexpr lathe_dtype value = LATHE_I16;
};
template <>
struct TypeOf<int32_t> {
  static constexpr lathe_dtype value = LATHE_I32;
};
template <>
struct TypeOf<int64_t> {
  static constexpr lathe_dtype value = LATHE_I64;
};
template <>
struct TypeOf<uint8_t> {
  static constexpr lathe_dtype value = LATHE_U8;
};
template <>
struct TypeOf<uint16_t> {
  static constexpr lathe_dtype value = LATHE_U16;
};
template <>
struct TypeOf<uint32_t> {
  static constexpr lathe_dtype value = LATHE_U32;
};
template <>
struct TypeOf<uint64_t> {
  static constexpr lathe_dtype value = LATHE_U64;
};
template <>
struct TypeOf<bool> {
  static constexpr lathe_dtype value = LATHE_BOOL;
};

// A tensor on memory that is somebody else's: the caller's of an input, the lane's of an output until its next run.
class View {
 public:
  View() = default;
  View(lathe_dtype dtype, std::vector<int64_t> dims, const void* data) : dtype_(dtype), dims_(std::move(dims)), data_(data) {}
  template <typename T>
  View(std::vector<int64_t> dims, const T* data) : View(TypeOf<T>::value, std::move(dims), data) {}

  lathe_dtype dtype() const { return dtype_; }
  const std::vector<int64_t>& dims() const { return dims_; }  // an open dim of a description is -1
  size_t size() const {                                       // elements
    size_t n = 1;
    for (int64_t d : dims_) n *= static_cast<size_t>(d);
    return n;
  }
  const void* data() const { return data_; }
  // Throws Error (LATHE_TYPE) when its elements are others.
  template <typename T>
  const T* as() const {
    if (dtype_ != TypeOf<T>::value) throw Error(LATHE_TYPE, "a tensor is read as elements of another type");
    return static_cast<const T*>(data_);
  }

 private:
  lathe_dtype dtype_ = LATHE_UNDEFINED;
  std::vector<int64_t> dims_;
  const void* data_ = nullptr;
};

struct Port {
  std::string name;
  View description;
};

// Copies share one program. Throws Error.
class Program {
 public:
  explicit Program(const std::string& path, int32_t threads = 0) {
    lathe_program* p = nullptr;
    check(lathe_load_archive(path.c_str(), threads, &p));
    hold_.reset(p, lathe_program_free);
  }
  // From memory, which must stay as it is for as long as the program and its lanes live; no file is touched.
  Program(const void* archive, size_t bytes, int32_t threads = 0) {
    lathe_program* p = nullptr;
    check(lathe_load_archive_from(archive, bytes, threads, &p));
    hold_.reset(p, lathe_program_free);
  }

  std::vector<Port> inputs() const { return ports(lathe_input_count(get()), lathe_input_at); }
  std::vector<Port> outputs() const { return ports(lathe_output_count(get()), lathe_output_at); }
  // "" when the model has none under this key.
  std::string metadata(const std::string& key) const {
    const char* text = lathe_metadata(get(), key.c_str());
    return text ? text : "";
  }
  const lathe_program* get() const { return hold_.get(); }

 private:
  template <typename At>
  std::vector<Port> ports(int32_t count, At at) const {
    std::vector<Port> out;
    for (int32_t i = 0; i < count; ++i) {
      const char* name = nullptr;
      lathe_tensor t{};
      check(at(get(), i, &name, &t));
      out.push_back({name, View(t.dtype, std::vector<int64_t>(t.dims, t.dims + t.rank), nullptr)});
    }
    return out;
  }

  std::shared_ptr<lathe_program> hold_;
};

struct RunLimits {
  double seconds = 0;                                                       // 0: none
  std::function<bool(size_t step, size_t steps, double share)> progress{};  // false ends the run
};

// What a lane has kept (lathe/lathe.h).
class State {
 public:
  explicit State(lathe_state* state) : hold_(state, lathe_state_free) {}
  const lathe_state* get() const { return hold_.get(); }

 private:
  std::shared_ptr<lathe_state> hold_;
};

// One inference at a time; cancel() alone may come from another thread. Throws Error.
class Lane {
 public:
  explicit Lane(const Program& program, int32_t threads = 0) : program_(program) {
    lathe_lane* l = nullptr;
    check(lathe_lane_new(program.get(), threads, &l));
    hold_.reset(l);
  }

  // Inputs in the program's order.
  void run(const std::vector<View>& inputs, const RunLimits& limits = {}) {
    given_.clear();
    for (const View& v : inputs)
      given_.push_back({v.dtype(), static_cast<int32_t>(v.dims().size()), v.dims().data(), const_cast<void*>(v.data())});
    lathe_run_options options{};
    options.size = sizeof options;
    options.limit_seconds = limits.seconds;
    if (limits.progress) {
      options.context = const_cast<RunLimits*>(&limits);
      options.progress = [](void* context, size_t step, size_t steps, double share) {
        return static_cast<const RunLimits*>(context)->progress(step, steps, share) ? 0 : 1;
      };
    }
    check(lathe_lane_run_with(get(), given_.data(), static_cast<int32_t>(given_.size()), &options));
  }
  View output(int32_t index) const {
    lathe_tensor t{};
    check(lathe_lane_output(get(), index, &t));
    return View(t.dtype, std::vector<int64_t>(t.dims, t.dims + t.rank), t.data);
  }
  // From the next run on the output is written to this memory.
  void bind_output(int32_t index, const View& memory) {
    const lathe_tensor t{memory.dtype(), static_cast<int32_t>(memory.dims().size()), memory.dims().data(),
                         const_cast<void*>(memory.data())};
    check(lathe_lane_bind_output(get(), index, &t));
  }
  void cancel() { lathe_lane_cancel(get()); }

  int64_t positions() const { return lathe_lane_positions(get()); }
  void reset() { check(lathe_lane_reset(get())); }
  void rewind(int64_t n) { check(lathe_lane_rewind(get(), n)); }
  void keep_last(int64_t n) { check(lathe_lane_keep_last(get(), n)); }
  State save() const {
    lathe_state* s = nullptr;
    check(lathe_lane_save(get(), &s));
    return State(s);
  }
  void restore(const State& state) { check(lathe_lane_restore(get(), state.get())); }
  const Program& program() const { return program_; }
  lathe_lane* get() const { return hold_.get(); }

 private:
  struct Free {
    void operator()(lathe_lane* l) const { lathe_lane_free(l); }
  };
  Program program_;
  std::unique_ptr<lathe_lane, Free> hold_;
  std::vector<lathe_tensor> given_;
};

// Throws Error (LATHE_UNSUPPORTED) when the library is another one than this header is of.
inline void check_version() { check(lathe_check_version(LATHE_INTERFACE_MAJOR, LATHE_INTERFACE_MINOR)); }

}  // namespace lathe::deploy
