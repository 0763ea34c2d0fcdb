/* A C program that ships a model: it links the library of deployment alone and loads a program archive.
 *
 *   deploy FILE.lathe INPUT.raw      INPUT.raw: the first input's floats, as they stand in memory */
#include <inttypes.h>
#include <lathe/lathe.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static int fail(const char* what) {
  fprintf(stderr, "%s: %s\n", what, lathe_error_text());
  return 1;
}

/* The label at position `index` of a list with commas between; its length goes to *length. */
static const char* label_at(const char* labels, int64_t index, int* length) {
  for (; labels != NULL && index > 0; --index) {
    labels = strchr(labels, ',');
    if (labels != NULL) ++labels;
  }
  *length = labels == NULL ? 0 : (int)strcspn(labels, ",");
  return labels == NULL ? "" : labels;
}

int main(int argc, char** argv) {
  lathe_program* program = NULL;
  lathe_lane* lane = NULL;
  lathe_tensor in, out;
  const char* name;
  size_t floats = 1;
  int64_t best = 0, dims[8];
  int length;

  if (argc != 3) {
    fprintf(stderr, "usage: deploy FILE.lathe INPUT.raw\n");
    return 2;
  }
  if (lathe_load_archive(argv[1], 0, &program) != LATHE_OK) return fail("loading");
  if (lathe_input_at(program, 0, &name, &in) != LATHE_OK) return fail("looking at the input");
  /* A dim that is open, such as the batch of an archive that carries its graph, is one here. */
  if (in.rank > (int32_t)(sizeof dims / sizeof *dims)) {
    fprintf(stderr, "input '%s' has %d dims, expected at most %zu\n", name, (int)in.rank, sizeof dims / sizeof *dims);
    return 1;
  }
  for (int32_t d = 0; d < in.rank; ++d) {
    dims[d] = in.dims[d] < 0 ? 1 : in.dims[d];
    floats *= (size_t)dims[d];
  }
  in.dims = dims;
  in.data = malloc(floats * sizeof(float));
  FILE* file = fopen(argv[2], "rb");
  if (in.data == NULL || file == NULL || fread(in.data, sizeof(float), floats, file) != floats) {
    fprintf(stderr, "%s: does not hold the %zu floats of input '%s'\n", argv[2], floats, name);
    return 1;
  }
  fclose(file);

  if (lathe_lane_new(program, 0, &lane) != LATHE_OK) return fail("making a lane");
  if (lathe_lane_run(lane, &in, 1) != LATHE_OK) return fail("running");
  if (lathe_lane_output(lane, 0, &out) != LATHE_OK) return fail("reading the output");

  const float* scores = out.data;
  for (int64_t i = 1; i < out.dims[out.rank - 1]; ++i) {
    if (scores[i] > scores[best]) best = i;
  }
  const char* label = label_at(lathe_metadata(program, "labels"), best, &length);
  printf("class %" PRId64 " %.*s, %.1f %%\n", best, length, label, 100 * (double)scores[best]);

  lathe_lane_free(lane);
  lathe_program_free(program);
  free(in.data);
  return 0;
}
