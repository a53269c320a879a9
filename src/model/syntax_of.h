// The syntax trees of a model's files, read again where a tree is needed that a checked model does not keep.
#pragma once

#include "juniper/diagnostics.h"
#include "language/syntax.h"

namespace juniper::model {

// One tree of the first `files` texts, in their order.
language::syntax::Model parse_all(const language::Sources& sources, std::uint32_t files, Diagnostics& diagnostics);

}  // namespace juniper::model
