// The library is made of the rooms' object files; CMake wants one source of its own.
