# Files that stand next to each other are compiled in groups, as most of what a small one costs are headers and templates
# that its neighbours need, too. A group is of one folder and so small that compiling it anew for a change of one file
# takes no longer than a large file does. Who only looks at the whole, as the sanitizers do, takes larger groups.
set(JUNIPER_GROUP_BYTES 24000 CACHE STRING "most bytes of the source files that are compiled together; 0: each alone")
function(compile_together target)
  set(bytes ${JUNIPER_GROUP_BYTES})
  set(folder "")
  set(number 0)
  get_target_property(sources ${target} SOURCES)
  foreach(source ${sources})
    file(SIZE ${CMAKE_CURRENT_SOURCE_DIR}/${source} size)
    cmake_path(GET source PARENT_PATH here)
    math(EXPR bytes "${bytes} + ${size}")
    if(bytes GREATER JUNIPER_GROUP_BYTES OR NOT here STREQUAL folder)
      math(EXPR number "${number} + 1")
      set(bytes ${size})
      set(folder "${here}")
    endif()
    set_source_files_properties(${source} PROPERTIES UNITY_GROUP "${number}")
  endforeach()
  set_target_properties(${target} PROPERTIES UNITY_BUILD ON UNITY_BUILD_MODE GROUP)
  # Where files are compiled together, this takes one's names for another's.
  target_compile_options(${target} PRIVATE $<$<CXX_COMPILER_ID:GNU>:-Wno-subobject-linkage>)
endfunction()
