// The checker's part for queries.
#pragma once

#include <vector>

#include "language/check_expression.h"

namespace juniper::language {

// As language/check.h says, in a model whose definitions may not have been checked yet.
Query check_query(const Definitions& definitions, const syntax::Query& query,
                  const std::vector<const syntax::Expression*>& further_where, Diagnostics& diagnostics);

}  // namespace juniper::language
