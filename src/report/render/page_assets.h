// The scripts and the style that the build puts into pages (cmake/page_assets.cmake writes what is declared here).
#pragma once

#include <string_view>

namespace juniper::render_formats {

struct PageAsset {
  const char* begin;
  const char* end;
  std::string_view sha256;  // in hexadecimal

  std::string_view text() const { return {begin, static_cast<std::size_t>(end - begin)}; }
};

extern const PageAsset d3_script;
extern const PageAsset dagre_script;
extern const PageAsset page_script;
extern const PageAsset page_style;

}  // namespace juniper::render_formats
