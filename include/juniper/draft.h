// Another definition of a measure beside the present one, touching nothing.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "juniper/compare.h"
#include "juniper/dataset.h"
#include "juniper/diagnostics.h"
#include "juniper/narrowing.h"

namespace [[gnu::visibility("default")]] juniper {

struct DraftedQuery {
  std::string query;  // a saved query's name, or its clauses
  QueryResult base;
  QueryResult draft;
  Comparison comparison;              // of the draft with the base
  std::int64_t base_nanoseconds = 0;  // medians of runs in turn
  std::int64_t draft_nanoseconds = 0;
};

struct Draft {
  std::string measure;
  std::string before;      // the present definition as it is written; "" for a new measure
  std::string definition;  // and the draft's
  std::vector<DraftedQuery> queries;
  Narrowing narrowing;  // of the difference, if there is one

  bool same() const;
};

// Runs queries with the measure as it is and as `text` ("measure revenue = …") defines it. Without `queries`, every
// saved query that depends on the measure. Errors: those of the texts, as of `ask`; JR-703 and the like of running
// them.
Result<Draft> draft(const Dataset& dataset, const std::string& text, const std::vector<std::string>& queries = {});

// Writes the draft's definition in the place of the present one, or a new measure at the end of the first file;
// comments and layout stay. Errors: JR-805 (the text on the disk is no longer the model's), JR-806 (it can't be
// written, or the measure stands there and is disabled).
Result<void> keep(const Dataset& dataset, const Draft& draft);

}  // namespace juniper
