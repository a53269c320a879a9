#include "base/source_place.h"

#include <fmt/format.h>
#include <fmt/ranges.h>
#include <unicode/ucnv.h>

#include <algorithm>

namespace juniper::base {

namespace {

// As the language writes a text.
std::string in_quotes(std::string_view text) {
  std::string out = "\"";
  for (const char c : text) {
    if (c == '\t') {
      out += "\\t";
      continue;
    }
    if (c == '"' || c == '\\') out += '\\';
    out += c;
  }
  return out + '"';
}

}  // namespace

bool is_encoding(const std::string& name) {
  UErrorCode error = U_ZERO_ERROR;
  UConverter* const converter = ucnv_open(name.c_str(), &error);
  if (converter != nullptr) ucnv_close(converter);
  // Without a name there would be one of the system's.
  return U_SUCCESS(error) && !name.empty();
}

std::string details_text(const SourcePlace& place) {
  std::vector<std::string> options;
  std::string selection;
  switch (place.selection.kind) {
    case Selection::Kind::all:
      break;
    case Selection::Kind::table:
      selection = "table " + in_quotes(place.selection.text);
      break;
    case Selection::Kind::query:
      selection = "query " + in_quotes(place.selection.text);
      break;
    case Selection::Kind::sheet:
      options.push_back("sheet " + in_quotes(place.selection.text));
      break;
  }
  if (place.delimiter != ',') options.push_back("delimiter " + in_quotes({&place.delimiter, 1}));
  const Spelling& spelling = place.spelling;
  if (spelling.decimal != '.') options.push_back("decimal " + in_quotes({&spelling.decimal, 1}));
  if (spelling.thousands != '\0') options.push_back("thousands " + in_quotes({&spelling.thousands, 1}));
  if (!spelling.nulls.empty()) {
    std::vector<std::string> words;
    for (const std::string& word : spelling.nulls) words.push_back(in_quotes(word));
    options.push_back(fmt::format("nulls ({})", fmt::join(words, ", ")));
  }
  if (!spelling.dates.empty()) options.push_back("dates " + in_quotes(spelling.dates));
  if (!spelling.truths.empty())
    options.push_back(fmt::format("booleans ({}, {})", in_quotes(spelling.truths[0]), in_quotes(spelling.truths[1])));
  if (!place.encoding.empty()) options.push_back("encoding " + in_quotes(place.encoding));
  if (place.skip != 0) options.push_back(fmt::format("skip {}", place.skip));
  if (options.empty()) return selection;
  return fmt::format("{}{}({})", selection, selection.empty() ? "" : " ", fmt::join(options, ", "));
}

}  // namespace juniper::base
