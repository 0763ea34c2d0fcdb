# What nearly every file of a target includes, read once for all of them: a fifth to a half of their compile time.
# (ccache keeps what reads precompiled headers only if GCC says which.)
# lathe_precompile(TARGET HEADER...), or those of another target: lathe_precompile(TARGET REUSE_FROM OTHER).
function(lathe_precompile target)
  if(ARGV1 STREQUAL REUSE_FROM)
    target_precompile_headers(${target} ${ARGN})
  else()
    target_precompile_headers(${target} PRIVATE ${ARGN})
  endif()
  target_compile_options(${target} PRIVATE $<$<CXX_COMPILER_ID:GNU>:-fpch-preprocess>)
endfunction()
# Where no loop is hot, -O3 only makes the build longer.
function(lathe_no_hot_loops)
  foreach(target IN LISTS ARGN)
    target_compile_options(${target} PRIVATE $<$<CONFIG:Release>:-O2>)
  endforeach()
endfunction()

# Classes that a header declares, with members whose types one file alone knows: in a unity build GCC takes that file for a header.
function(lathe_own_members)
  foreach(target IN LISTS ARGN)
    target_compile_options(${target} PRIVATE $<$<AND:$<CXX_COMPILER_ID:GNU>,$<BOOL:${CMAKE_UNITY_BUILD}>>:-Wno-subobject-linkage>)
  endforeach()
endfunction()

# A room is one folder of src/ and one object library. Its headers are reached as "room/file.hpp" through a folder of
# its own, so only rooms that are NEEDed can be included: an upward include does not compile.
set_property(GLOBAL PROPERTY LATHE_ROOMS "")
# The library of deployment: its rooms, and the folders that they come from.
set(LATHE_DEPLOY_ROOMS base tensor graph archive kernels ops passes lower_plan lower_recipe lower_fuse lower_group lower_steps lower_schedule
    lower runtime capi)
set(LATHE_DEPLOY_FOLDERS base tensor graph archive kernels ops passes lower runtime capi)

# A room inside a room (AT outer/inner) has the name outer_inner, and its headers are reached as "outer/inner/file.hpp".
function(lathe_room name)
  cmake_parse_arguments(ROOM "" "AT" "SOURCES;NEEDS" ${ARGN})
  get_property(rooms GLOBAL PROPERTY LATHE_ROOMS)
  set(view ${CMAKE_BINARY_DIR}/rooms/${name})
  if(NOT ROOM_AT)
    set(ROOM_AT ${name})
  endif()
  cmake_path(GET ROOM_AT PARENT_PATH outer)
  file(MAKE_DIRECTORY ${view}/${outer})
  file(CREATE_LINK ${CMAKE_CURRENT_SOURCE_DIR} ${view}/${ROOM_AT} SYMBOLIC)
  add_library(lathe_${name} OBJECT ${ROOM_SOURCES})
  target_include_directories(lathe_${name} PUBLIC ${view} ${CMAKE_SOURCE_DIR}/include)
  foreach(need IN LISTS ROOM_NEEDS)
    if(need IN_LIST rooms)
      target_link_libraries(lathe_${name} PUBLIC lathe_${need})
    elseif(need MATCHES "::")
      target_link_libraries(lathe_${name} PUBLIC ${need})
    else()
      message(FATAL_ERROR "room ${name} needs ${need}, which is not a room below it")
    endif()
  endforeach()
  set_property(GLOBAL APPEND PROPERTY LATHE_ROOMS ${name})
endfunction()
