// What pages draw, as JSON for their scripts (page/): exact numbers, and beside them the texts that the library shows for
// them.
#pragma once

#include <string>
#include <vector>

#include "base/json.h"
#include "juniper/document.h"
#include "juniper/overview.h"

namespace juniper::report_figures {

// Of the store: `parts`, the heaviest first, as its table lists them: `n` name, `t` table, `b` bytes, `s` these as text, `p`
// the share of the file, `u` what it is there for, `c` whether it is a column, and `v` its place in `values`, if it has one; `values`, how those of a
// column are spread: `rows`, `nulls`, `top` of [value, rows, rows as text], `ranges` of [from, to, rows, rows as text].
Figure treemap(const Weighing& weighing, const std::vector<Distribution>& distributions);
// `tables` of [name, rows, bytes], and `links` with the tables that they join and what is wrong with them. `weights` tells
// the bytes of tables, if they are known.
Figure diagram(const LinkReport& links, const std::vector<TableWeight>& weights);
// From the bytes of today to what would be left: [label, bytes, text].
Figure savings(const Audit& audit);
// Bytes of the store from one weighing to the next: [name, bytes, text].
Figure weighings(const Overview& overview);
// Of revisions in git: `revisions` with a name each, `bytes` of [number, text] or null, and `times` of [query, numbers in
// milliseconds or null, texts].
Figure revisions(const Overview& overview);
// What a query's answer can be drawn as: `kind`, "line" or "bars"; `measures` of [name, texts by row, numbers by row]; `x`,
// a text for each row; `panel`, a text for each row, where there are several charts; `left_out`, rows without a time, which
// have no place on a line. Null for what has another shape. `calendar`: the day of the model's calendar, or "".
base::Json chart(const std::string& calendar, const QueryResult& result);

}  // namespace juniper::report_figures
