# Puts the scripts and the style of pages into the library (src/report/render/page_assets.h), byte for byte, since a page
# allows them by the hashes of their bytes:
#   cmake -DFOLDER=… -DD3=d3.min.js -DDAGRE=dagre.min.js -DSCRIPTS=a.js,b.js -DSTYLES=a.css -P page_assets.cmake
cmake_minimum_required(VERSION 3.20)

set(code "// Written by cmake/page_assets.cmake.\n#include \"report/render/page_assets.h\"\n\n")
set(members "")
macro(add_asset name file)
  file(SHA256 "${file}" hash)
  string(APPEND code
    "asm(R\"(.section .rodata\n.balign 8\njuniper_${name}: .incbin \"${file}\"\njuniper_${name}_end: .byte 0\n.previous\n)\");\n"
    "extern \"C\" __attribute__((visibility(\"hidden\"))) const char juniper_${name}[];\n"
    "extern \"C\" __attribute__((visibility(\"hidden\"))) const char juniper_${name}_end[];\n\n")
  string(APPEND members "const PageAsset ${name}{juniper_${name}, juniper_${name}_end, \"${hash}\"};\n")
endmacro()

# Files in one, each of them as it is.
function(join_files files out before after)
  string(REPLACE "," ";" files "${files}")
  file(WRITE "${out}" "${before}")
  foreach(file ${files})
    file(READ "${file}" text)
    file(APPEND "${out}" "${text}")
  endforeach()
  file(APPEND "${out}" "${after}")
endfunction()

join_files("${SCRIPTS}" "${FOLDER}/page.js" "\"use strict\";\n(function () {\n" "})();\n")
join_files("${STYLES}" "${FOLDER}/page.css" "" "")
# A library goes with its licence, which stands beside its dist folder.
function(join_library file out)
  get_filename_component(folder "${file}" DIRECTORY)
  file(READ "${folder}/../LICENSE" licence)
  join_files("${file}" "${out}" "/*\n${licence}*/\n" "")
endfunction()
join_library("${D3}" "${FOLDER}/d3.js")
join_library("${DAGRE}" "${FOLDER}/dagre.js")
add_asset(d3_script "${FOLDER}/d3.js")
add_asset(dagre_script "${FOLDER}/dagre.js")
add_asset(page_script "${FOLDER}/page.js")
add_asset(page_style "${FOLDER}/page.css")
file(WRITE "${FOLDER}/page_assets.cpp" "${code}namespace juniper::render_formats {\n\n${members}\n}  // namespace juniper::render_formats\n")
