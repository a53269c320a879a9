// The one layout of model texts.
#pragma once

#include <string>

#include "juniper/diagnostics.h"
#include "language/source_text.h"

namespace juniper::language {

// The text of a file of `sources` in canonical layout: the same tokens and comments, with other blanks. Laying out its
// result gives the same text again.
//
//   - A declaration, a column and a clause has a line of its own; columns and clauses are indented by two blanks.
//   - Names, types, `=` and `->` of neighbouring lines of one kind stand below each other; attributes follow after two
//     blanks. An empty line, or another kind of line, ends the neighbourhood.
//   - The author's line breaks within an expression stay, and what follows them is indented by its brackets.
//   - Empty lines stay, but for those that follow another; a table's columns and a query have one before and behind.
//
// Errors: those of the parser.
Result<std::string> canonical_layout(const Sources& sources, std::uint32_t file);

}  // namespace juniper::language
