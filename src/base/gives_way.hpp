// For what a program that runs one archive defines itself, with less in it (lathe/static_kit.hpp): the library's own definition gives way
// to such a one, and what it alone names is left out when the program is linked.
#pragma once

#define LATHE_GIVES_WAY __attribute__((weak))
