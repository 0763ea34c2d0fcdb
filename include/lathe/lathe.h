/* The C interface: programs and lanes behind opaque handles, status codes, texts of errors by thread.
 *
 * Every function may be called from several threads; a lane runs one inference at a time. Nothing throws through this interface.
 * The library of deployment (MellowLathe::deploy) has all of it but lathe_compile_model, which reads ONNX files. */
#ifndef LATHE_LATHE_H
#define LATHE_LATHE_H

#include <stddef.h>
#include <stdint.h>

#ifdef __cplusplus
extern "C" {
#endif

typedef struct lathe_program lathe_program;
typedef struct lathe_lane lathe_lane;

typedef enum lathe_status {
  LATHE_OK = 0,
  LATHE_FORMAT,      /* a file is damaged, or of another kind or version */
  LATHE_UNSUPPORTED, /* an op, or an instruction set this machine does not have */
  LATHE_SHAPE,
  LATHE_TYPE,
  LATHE_VALUE,    /* a name, number or handle that does not fit */
  LATHE_RESOURCE, /* memory, disk, limits */
  LATHE_CANCELLED,
  LATHE_INTERNAL
} lathe_status;

/* Element types; the numbers do not change. Strings have no C form. */
typedef enum lathe_dtype {
  LATHE_UNDEFINED = 0,
  LATHE_F32 = 1,
  LATHE_F64 = 2,
  LATHE_F16 = 3,
  LATHE_BF16 = 4,
  LATHE_I8 = 11,
  LATHE_I16 = 12,
  LATHE_I32 = 13,
  LATHE_I64 = 14,
  LATHE_U8 = 16,
  LATHE_U16 = 17,
  LATHE_U32 = 18,
  LATHE_U64 = 19,
  LATHE_BOOL = 20
} lathe_dtype;

/* A dense tensor in row-major order. `dims` and `data` belong to whoever filled them in. */
typedef struct lathe_tensor {
  lathe_dtype dtype;
  int32_t rank;
  const int64_t* dims; /* an open dim of an input or output is -1 */
  void* data;          /* null in descriptions */
} lathe_tensor;

/* What this header is of; what is linked says lathe_version(). */
#define LATHE_INTERFACE_MAJOR 0
#define LATHE_INTERFACE_MINOR 1

/* "0.1.0". */
const char* lathe_version(void);
/* LATHE_OK when the library has all that a program built against this header needs: lathe_check_version(LATHE_INTERFACE_MAJOR,
 * LATHE_INTERFACE_MINOR). Else LATHE_UNSUPPORTED: it is older, or of another major version (before 1: another minor one). */
lathe_status lathe_check_version(int32_t major, int32_t minor);
/* What went wrong in this thread's last call that did not return LATHE_OK; never null, valid until the thread's next failure. */
const char* lathe_error_text(void);

/* Maps a program archive. threads 0: as it was compiled. On failure *program is null. */
lathe_status lathe_load_archive(const char* path, int32_t threads, lathe_program** program);
/* The same from memory, which must stay as it is until the program and its lanes are freed; aligned to 64 bytes it is used where it is,
 * else copied. No file is touched. */
lathe_status lathe_load_archive_from(const void* archive, size_t bytes, int32_t threads, lathe_program** program);
/* Loads and compiles an ONNX file; open dims stay open. Not in the library of deployment. */
lathe_status lathe_compile_model(const char* path, int32_t threads, lathe_program** program);
/* The same with states that lanes keep: outputs that are inputs of the next run, by names, like "present.*=past.*" (several by commas), or
 * "found". positions: that growing ones hold at most; 0: no limit. They are no inputs and outputs of the program. */
lathe_status lathe_compile_with_states(const char* path, int32_t threads, const char* states, int64_t positions, lathe_program** program);
/* Lanes keep what they need of it. Null is allowed. */
void lathe_program_free(lathe_program* program);

int32_t lathe_input_count(const lathe_program* program);
int32_t lathe_output_count(const lathe_program* program);
/* Name and type of an input or output; valid as long as the program. Either result may be null. */
lathe_status lathe_input_at(const lathe_program* program, int32_t index, const char** name, lathe_tensor* description);
lathe_status lathe_output_at(const lathe_program* program, int32_t index, const char** name, lathe_tensor* description);
/* The model's metadata under a key ("labels"), or null. Valid as long as the program. */
const char* lathe_metadata(const lathe_program* program, const char* key);

/* threads 0: as the program was compiled. On failure *lane is null. */
lathe_status lathe_lane_new(const lathe_program* program, int32_t threads, lathe_lane** lane);
void lathe_lane_free(lathe_lane* lane);
/* Runs on `count` inputs in the program's order, which are read where they are. An output of the run before may be fed again. */
lathe_status lathe_lane_run(lathe_lane* lane, const lathe_tensor* inputs, int32_t count);
/* How far a run is: steps done, and the share of the time that they are by estimate. Anything but 0 ends the run: LATHE_CANCELLED. */
typedef int (*lathe_progress)(void* context, size_t step, size_t steps, double share);
/* Grows at its end: `size` is sizeof(lathe_run_options) of whoever fills it in; what is not told is 0. */
typedef struct lathe_run_options {
  size_t size;
  double limit_seconds; /* the run may take; 0: no limit. LATHE_CANCELLED */
  lathe_progress progress;
  void* context; /* of progress */
} lathe_run_options;
lathe_status lathe_lane_run_with(lathe_lane* lane, const lathe_tensor* inputs, int32_t count, const lathe_run_options* options);
/* Ends the run that the lane is at, from any thread; nothing when it is at none. The lane stays good. */
void lathe_lane_cancel(lathe_lane* lane);
/* An output of the last run; its memory is the lane's and valid until the next run (or, when fed again, until that run is done). */
lathe_status lathe_lane_output(const lathe_lane* lane, int32_t index, lathe_tensor* output);
/* From the next run on, this output is written to the caller's memory, of exactly that type and shape. */
lathe_status lathe_lane_bind_output(lathe_lane* lane, int32_t index, const lathe_tensor* memory);

/* What a lane of a program with states has kept: positions that growing ones hold (else runs since the last reset). A run that fails leaves
 * it as it was. */
int64_t lathe_lane_positions(const lathe_lane* lane);
/* As in a new lane. */
lathe_status lathe_lane_reset(lathe_lane* lane);
/* Forgets the last n positions, or all but the last n. LATHE_VALUE: there are fewer (rewind), or a state that does not grow. */
lathe_status lathe_lane_rewind(lathe_lane* lane, int64_t n);
lathe_status lathe_lane_keep_last(lathe_lane* lane, int64_t n);
/* `to`, a lane of the same program, goes on from where `from` is; a copy. */
lathe_status lathe_lane_fork(const lathe_lane* from, lathe_lane* to);
/* What a lane has kept, to go back to as often as wanted, in any lane of the program. On failure *state is null. */
typedef struct lathe_state lathe_state;
lathe_status lathe_lane_save(const lathe_lane* lane, lathe_state** state);
lathe_status lathe_lane_restore(lathe_lane* lane, const lathe_state* state);
void lathe_state_free(lathe_state* state);

#ifdef __cplusplus
}
#endif

#endif
