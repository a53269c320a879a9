// Proofs that a change of a model changes no number.
#pragma once

#include "juniper/refactor.h"
#include "refactor/steps.h"

namespace juniper::refactoring {

// Compares all rows. Expressions are evaluated by a query that counts the rows that differ: another way than the one
// that computed what is stored. Errors: those of that query.
Result<RowProof> prove_rows(const Dataset& before, const Dataset& after, const Claim& claim, Plan plan);

// Runs one saved query on both models in turn. Errors: those of the query.
Result<QueryProof> prove_query(const Dataset& before, const Dataset& after, const std::string& query);

// Asks both models for whatever the changed columns can reach. `changed`: columns of the model before.
ProbeProof probe(const Dataset& before, const Dataset& after, const std::set<language::ColumnId>& changed,
                 const RefactorSettings& settings);

}  // namespace juniper::refactoring
