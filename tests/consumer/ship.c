/* Knows only the installed C header and the library of deployment. */
#include <lathe/lathe.h>
#include <stdio.h>

int main(void) {
  lathe_program* program;
  if (lathe_load_archive("no such file", 0, &program) != LATHE_FORMAT) return 1;
  printf("version %s: %s\n", lathe_version(), lathe_error_text());
  return 0;
}
