// The one layout of model texts.
#pragma once

#include <string>

#include "juniper/diagnostics.h"

namespace [[gnu::visibility("default")]] juniper {

// The canonical layout of a model text: the same tokens and comments, with other blanks and line ends. Laying out the
// result gives the same text again. `name` stands for the text in messages. Errors: JR-1xx, as of reading it; a text
// with errors has no layout. Thread-safe.
Result<std::string> canonical_layout(const std::string& text, const std::string& name = "<text>");

struct Formatted {
  std::string path;
  bool changed = false;
  std::string diff;  // unified, "" if nothing is to be changed
};

// Lays out one file of a model, not those that it includes. `write` replaces the file, as a whole, where it changes;
// `check` only tells. Errors: those above, JR-805 and JR-806 (the file can't be read or written).
enum class Formatting : std::uint8_t { check, write };
Result<Formatted> format_file(const std::string& path, Formatting formatting);

}  // namespace juniper
