// Fields as a source spells them → the texts that they would be here.
#pragma once

#include <optional>
#include <string>
#include <string_view>

#include "base/field_part.h"
#include "base/source_place.h"
#include "juniper/value.h"

namespace juniper::source {

// True for a field that means null.
bool is_null_word(std::string_view text, bool quoted, const base::Spelling& spelling);

// The text that parse_cell reads; nothing for one that is not spelled as the source says.
std::optional<std::string> respelled(std::string_view text, Type type, base::FieldPart part,
                                     const base::Spelling& spelling);

}  // namespace juniper::source
