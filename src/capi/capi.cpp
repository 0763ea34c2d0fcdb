// The C interface over Program and Lane.
#include <algorithm>
#include <cstring>
#include <mutex>

#include "base/fail.hpp"
#include "capi/guard.hpp"
#include "lathe/archive.hpp"

namespace {

thread_local std::string last_error;

std::vector<std::vector<int64_t>> dims_of(const std::vector<lathe::Port>& ports) {
  std::vector<std::vector<int64_t>> out;
  for (const auto& p : ports) {
    std::vector<int64_t> dims;
    for (const auto& d : p.dims.value_or(lathe::Dims())) dims.push_back(d.value);
    out.push_back(std::move(dims));
  }
  return out;
}

static_assert(static_cast<int>(lathe::DType::f32) == LATHE_F32 && static_cast<int>(lathe::DType::bf16) == LATHE_BF16 &&
              static_cast<int>(lathe::DType::i8) == LATHE_I8 && static_cast<int>(lathe::DType::i64) == LATHE_I64 &&
              static_cast<int>(lathe::DType::u8) == LATHE_U8 && static_cast<int>(lathe::DType::u64) == LATHE_U64 &&
              static_cast<int>(lathe::DType::boolean) == LATHE_BOOL);

// Types without a C form: strings, numbers narrower than a byte, complex ones.
bool has_form(lathe::DType d) {
  return d != lathe::DType::undefined && d != lathe::DType::string && lathe::bit_width(d) >= 8 && d < lathe::DType::c64;
}

void describe(const std::vector<lathe::Port>& ports, const std::vector<std::vector<int64_t>>& dims, int32_t index, const char* what,
              const char** name, lathe_tensor* description) {
  if (index < 0 || static_cast<size_t>(index) >= ports.size())
    lathe::fail(lathe::Category::value, "there is no {} {}; there are {}", what, index, ports.size());
  const auto at = static_cast<size_t>(index);
  if (name != nullptr) *name = ports[at].name.c_str();
  if (description != nullptr)
    *description = {static_cast<lathe_dtype>(ports[at].dtype), static_cast<int32_t>(dims[at].size()), dims[at].data(), nullptr};
}

lathe::Tensor borrowed(const lathe_tensor& t, const char* what, int32_t index) {
  const auto dtype = static_cast<lathe::DType>(t.dtype);
  if (t.dtype < 0 || t.dtype >= lathe::kDTypeCount || !has_form(dtype))
    lathe::fail(lathe::Category::type, "{} {} is of type {}, which has no C form", what, index, static_cast<int>(t.dtype));
  if (t.rank < 0 || t.rank > 64 || (t.rank > 0 && t.dims == nullptr))
    lathe::fail(lathe::Category::shape, "{} {} has rank {} and {} dims", what, index, t.rank, t.dims == nullptr ? "no" : "some");
  const lathe::Shape shape(t.dims, t.dims + t.rank);
  if (t.data == nullptr && lathe::element_count(shape) > 0) lathe::fail(lathe::Category::value, "{} {} has no data", what, index);
  return lathe::Tensor::borrow(dtype, shape, t.data);
}

void there(const void* handle, const char* what) {
  if (handle == nullptr) lathe::fail(lathe::Category::value, "{} is null", what);
}

}  // namespace

namespace lathe::capi {

lathe_status failed(lathe_status status, const std::string& text) noexcept {
  try {
    last_error = text;
  } catch (...) {
    last_error.clear();
  }
  return status;
}

lathe_status status_of(Category category) noexcept {
  switch (category) {
    case Category::format: return LATHE_FORMAT;
    case Category::unsupported: return LATHE_UNSUPPORTED;
    case Category::shape: return LATHE_SHAPE;
    case Category::type: return LATHE_TYPE;
    case Category::value: return LATHE_VALUE;
    case Category::resource: return LATHE_RESOURCE;
    case Category::cancelled: return LATHE_CANCELLED;
    case Category::internal: return LATHE_INTERNAL;
  }
  return LATHE_INTERNAL;
}

}  // namespace lathe::capi

using lathe::capi::guarded;

lathe_program::lathe_program(lathe::Program p)
    : program(std::move(p)), input_dims(dims_of(program.inputs())), output_dims(dims_of(program.outputs())) {}

struct lathe_lane {
  explicit lathe_lane(lathe::Lane l) : lane(std::move(l)) {}

  lathe::Lane lane;
  std::vector<lathe::Tensor> inputs;
  std::optional<lathe::Outputs> outputs;
  std::mutex lock;        // over what follows
  bool running = false;   // so that there is something to stop
  std::stop_source stop;  // of the run under way; the same for the next one unless it was asked for
};

struct lathe_state {
  lathe::SavedState saved;
};

namespace {

// A run that other threads may end.
class UnderWay {
 public:
  explicit UnderWay(lathe_lane& lane) : lane_(lane) {
    const std::lock_guard hold(lane_.lock);
    if (lane_.stop.stop_requested()) lane_.stop = std::stop_source();
    lane_.running = true;
  }
  ~UnderWay() {
    const std::lock_guard hold(lane_.lock);
    lane_.running = false;
  }
  UnderWay(const UnderWay&) = delete;
  UnderWay& operator=(const UnderWay&) = delete;
  std::stop_source& stop() { return lane_.stop; }

 private:
  lathe_lane& lane_;
};

lathe::RunOptions run_options(const lathe_run_options& given, std::stop_source& stop) {
  lathe_run_options o{};
  if (given.size < sizeof(size_t)) lathe::fail(lathe::Category::value, "the run's options do not say how large they are");
  std::memcpy(&o, &given, std::min(given.size, sizeof o));
  lathe::RunOptions options;
  if (!(o.limit_seconds >= 0 && o.limit_seconds < 1e9))
    lathe::fail(lathe::Category::value, "the run's limit is {} s, expected seconds, or 0 for none", o.limit_seconds);
  options.limit = std::chrono::nanoseconds(static_cast<int64_t>(o.limit_seconds * 1e9));
  if (o.progress)
    options.progress = [o, &stop](size_t step, size_t steps, double share) {
      if (o.progress(o.context, step, steps, share) != 0) stop.request_stop();
    };
  return options;
}

}  // namespace

extern "C" {

const char* lathe_version(void) { return LATHE_VERSION; }
const char* lathe_error_text(void) { return last_error.c_str(); }

lathe_status lathe_check_version(int32_t major, int32_t minor) {
  return guarded([&] {
    const bool fits = major == LATHE_INTERFACE_MAJOR && (major == 0 ? minor == LATHE_INTERFACE_MINOR : minor <= LATHE_INTERFACE_MINOR);
    if (!fits)
      lathe::fail(lathe::Category::unsupported, "the library is of version {}, the program was built against {}.{}", LATHE_VERSION, major,
                  minor);
  });
}

lathe_status lathe_load_archive(const char* path, int32_t threads, lathe_program** program) {
  return guarded([&] {
    there(program, "where the program goes");
    *program = nullptr;
    there(path, "the path");
    *program = new lathe_program(lathe::load_program(path, {.threads = threads}));
  });
}

lathe_status lathe_load_archive_from(const void* archive, size_t bytes, int32_t threads, lathe_program** program) {
  return guarded([&] {
    there(program, "where the program goes");
    *program = nullptr;
    there(archive, "the archive");
    *program = new lathe_program(lathe::load_program(std::span(static_cast<const std::byte*>(archive), bytes), {.threads = threads}));
  });
}

void lathe_program_free(lathe_program* program) { delete program; }

int32_t lathe_input_count(const lathe_program* program) { return program ? static_cast<int32_t>(program->program.inputs().size()) : 0; }
int32_t lathe_output_count(const lathe_program* program) { return program ? static_cast<int32_t>(program->program.outputs().size()) : 0; }

lathe_status lathe_input_at(const lathe_program* program, int32_t index, const char** name, lathe_tensor* description) {
  return guarded([&] {
    there(program, "the program");
    describe(program->program.inputs(), program->input_dims, index, "input", name, description);
  });
}
lathe_status lathe_output_at(const lathe_program* program, int32_t index, const char** name, lathe_tensor* description) {
  return guarded([&] {
    there(program, "the program");
    describe(program->program.outputs(), program->output_dims, index, "output", name, description);
  });
}

const char* lathe_metadata(const lathe_program* program, const char* key) {
  if (program == nullptr || key == nullptr) return nullptr;
  const auto it = program->program.metadata().find(key);
  return it == program->program.metadata().end() ? nullptr : it->second.c_str();
}

lathe_status lathe_lane_new(const lathe_program* program, int32_t threads, lathe_lane** lane) {
  return guarded([&] {
    there(lane, "where the lane goes");
    *lane = nullptr;
    there(program, "the program");
    *lane = new lathe_lane(lathe::Lane(program->program, threads));
  });
}

void lathe_lane_free(lathe_lane* lane) { delete lane; }

lathe_status lathe_lane_run(lathe_lane* lane, const lathe_tensor* inputs, int32_t count) {
  const lathe_run_options none{sizeof none, 0, nullptr, nullptr};
  return lathe_lane_run_with(lane, inputs, count, &none);
}

lathe_status lathe_lane_run_with(lathe_lane* lane, const lathe_tensor* inputs, int32_t count, const lathe_run_options* given) {
  return guarded([&] {
    there(lane, "the lane");
    there(given, "the run's options");
    UnderWay run(*lane);
    lathe::RunOptions options = run_options(*given, run.stop());
    options.stop = run.stop().get_token();
    if (count > 0) there(inputs, "the inputs");
    lane->inputs.clear();
    for (int32_t i = 0; i < count; ++i) lane->inputs.push_back(borrowed(inputs[i], "input", i));
    // Results nobody needs any more are written over; the lane sees to those that are fed again. Ones made while running have no memory
    // that is written again, so they are held until the run is done.
    const bool kept = lane->outputs &&
                      std::ranges::any_of(lane->lane.program().outputs(), [](const lathe::Port& p) { return !lathe::known_shape(p.dims); });
    if (!kept) lane->outputs.reset();
    lathe::Outputs made = lane->lane.run(std::span<const lathe::Tensor>(lane->inputs), options);
    lane->outputs.emplace(std::move(made));
  });
}

void lathe_lane_cancel(lathe_lane* lane) {
  if (lane == nullptr) return;
  const std::lock_guard hold(lane->lock);
  if (lane->running) lane->stop.request_stop();
}

lathe_status lathe_lane_output(const lathe_lane* lane, int32_t index, lathe_tensor* output) {
  return guarded([&] {
    there(lane, "the lane");
    there(output, "where the output goes");
    if (!lane->outputs) lathe::fail(lathe::Category::value, "the lane has no outputs: nothing was run, or the last run failed");
    if (index < 0 || static_cast<size_t>(index) >= lane->outputs->size())
      lathe::fail(lathe::Category::value, "there is no output {}; there are {}", index, lane->outputs->size());
    const lathe::Tensor& t = (*lane->outputs)[static_cast<size_t>(index)];
    if (t.composite() || !has_form(t.dtype()))
      lathe::fail(lathe::Category::type, "output {} is {}, which has no C form", index,
                  t.composite() ? to_string(t.kind()) : lathe::to_string(t.dtype()));
    *output = {static_cast<lathe_dtype>(t.dtype()), t.rank(), t.shape().data(), const_cast<void*>(t.data())};
  });
}

lathe_status lathe_lane_bind_output(lathe_lane* lane, int32_t index, const lathe_tensor* memory) {
  return guarded([&] {
    there(lane, "the lane");
    there(memory, "the memory");
    const auto& ports = lane->lane.program().outputs();
    if (index < 0 || static_cast<size_t>(index) >= ports.size())
      lathe::fail(lathe::Category::value, "there is no output {}; there are {}", index, ports.size());
    lane->lane.bind_output(ports[static_cast<size_t>(index)].name, borrowed(*memory, "output", index));
  });
}

int64_t lathe_lane_positions(const lathe_lane* lane) { return lane ? lane->lane.positions() : 0; }

lathe_status lathe_lane_reset(lathe_lane* lane) {
  return guarded([&] {
    there(lane, "the lane");
    lane->lane.reset();
  });
}

lathe_status lathe_lane_rewind(lathe_lane* lane, int64_t n) {
  return guarded([&] {
    there(lane, "the lane");
    lane->lane.rewind(n);
  });
}

lathe_status lathe_lane_keep_last(lathe_lane* lane, int64_t n) {
  return guarded([&] {
    there(lane, "the lane");
    lane->lane.keep_last(n);
  });
}

lathe_status lathe_lane_fork(const lathe_lane* from, lathe_lane* to) {
  return guarded([&] {
    there(from, "the lane to go on from");
    there(to, "the lane that goes on");
    to->lane.restore_state(from->lane.save_state());
  });
}

lathe_status lathe_lane_save(const lathe_lane* lane, lathe_state** state) {
  return guarded([&] {
    there(state, "where the state goes");
    *state = nullptr;
    there(lane, "the lane");
    *state = new lathe_state{lane->lane.save_state()};
  });
}

lathe_status lathe_lane_restore(lathe_lane* lane, const lathe_state* state) {
  return guarded([&] {
    there(lane, "the lane");
    there(state, "the state");
    lane->lane.restore_state(state->saved);
  });
}

void lathe_state_free(lathe_state* state) { delete state; }

}  // extern "C"
