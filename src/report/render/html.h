// A document as parts of a page, and the page around them: one file that opens from the disk, asks nothing of any
// network, and runs only the scripts and styles that the build put into it (Content-Security-Policy, by their hashes).
#pragma once

#include <cstdint>
#include <map>
#include <string>
#include <string_view>

#include "juniper/document.h"
#include "report/render/formats.h"

namespace juniper::render_formats {

// Text within a page: as it is shown anywhere (base/shown_text.h), with the characters that HTML knows escaped, and
// nothing but "…" behind some thousand characters.
std::string escaped_html(std::string_view text);

// By which a file is known for one of these pages.
inline constexpr std::string_view page_mark = "<meta name=\"generator\" content=\"juniper\">";

// What a page draws with, beside its tables.
enum class Drawing : std::uint8_t { tables, figures };

// What the figures of a page are drawn from, by their names.
using FigureData = std::map<std::string, std::string>;

// All of a page but its body.
void begin_page(const std::string& title, Drawing drawing, Out& out);
void end_page(const FigureData& data, Drawing drawing, Out& out);

// The blocks of a document, one behind the other. `heading`: the level of its headings, 2 to 5.
void html_blocks(const Report& report, int heading, FigureData& data, Out& out);

}  // namespace juniper::render_formats
