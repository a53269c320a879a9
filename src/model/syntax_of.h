// The syntax trees of a model's files, read again where a tree is needed that a checked model does not keep.
#pragma once

#include "juniper/model.h"
#include "language/syntax.h"

namespace juniper::model {

// One tree of the first `files` texts, in their order.
language::syntax::Model parse_all(const language::Sources& sources, std::uint32_t files, Diagnostics& diagnostics);

// Checks ReadOptions::captured against the model of that tree, which is left without its queries, and keeps what is
// understood and what is not.
void check_captured(language::CheckedModel& checked, language::syntax::Model& text, const ReadOptions& options);

}  // namespace juniper::model
