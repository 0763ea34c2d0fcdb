# WebAssembly, with Debian's emscripten (scripts/web): the library of deployment as a module for browsers. Of other libraries only headers are
# taken, from this machine's packages.
set(LATHE_WEB_KIND simd CACHE STRING "simd (128-bit vectors), threads (the same and threads), plain (neither)")
set_property(CACHE LATHE_WEB_KIND PROPERTY STRINGS simd threads plain)

set(headers ${CMAKE_BINARY_DIR}/headers)
file(MAKE_DIRECTORY ${headers})
foreach(header fmt hwy xxhash.h)
  if(NOT EXISTS /usr/include/${header})
    message(FATAL_ERROR "/usr/include/${header} is missing; scripts/setup installs what is needed")
  endif()
  file(CREATE_LINK /usr/include/${header} ${headers}/${header} SYMBOLIC)
endforeach()
foreach(library fmt::fmt PkgConfig::hwy PkgConfig::re2 Threads::Threads)
  add_library(${library} INTERFACE IMPORTED GLOBAL)
  target_include_directories(${library} INTERFACE ${headers})
endforeach()
target_compile_definitions(fmt::fmt INTERFACE FMT_HEADER_ONLY)
# Of regular expressions there is no library here: the one op that has them says so.
add_compile_definitions(LATHE_NO_EXPRESSIONS)

# What is compiled for other instruction sets alone leaves files with nothing in them.
add_compile_options(-Wno-pragma-clang-attribute)
# What this compiler's standard library lacks.
add_compile_options($<$<COMPILE_LANGUAGE:CXX>:-I${CMAKE_SOURCE_DIR}/web/standard> "$<$<COMPILE_LANGUAGE:CXX>:SHELL:-include standard.hpp>")

# The standard's exceptions of WebAssembly: what may throw is called as anything else.
add_compile_options(-fwasm-exceptions)
add_link_options(-fwasm-exceptions)
if(NOT LATHE_WEB_KIND STREQUAL plain)
  add_compile_options(-msimd128)
endif()
if(LATHE_WEB_KIND STREQUAL threads)
  add_compile_options(-pthread)
  add_link_options(-pthread)
endif()

include(cmake/room.cmake)
foreach(room IN LISTS LATHE_DEPLOY_FOLDERS)
  add_subdirectory(src/${room})
endforeach()
# What is not computed with is small rather than fast: it is downloaded, and compiled in the client.
foreach(room IN LISTS LATHE_DEPLOY_ROOMS)
  if(NOT room STREQUAL kernels)
    target_compile_options(lathe_${room} PRIVATE -Os)
  endif()
endforeach()
add_subdirectory(web)
