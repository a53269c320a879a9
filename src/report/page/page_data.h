// What the scripts of a page draw, as JSON: exact numbers, and beside them the texts that the library shows for them.
#pragma once

#include <string>
#include <vector>

#include "base/json.h"
#include "juniper/overview.h"

namespace juniper::page {

// The parts of the store, the heaviest first, as the page's table of them lists them: `n` name, `t` table, `b` bytes,
// `s` these as text, `p` the share of the file, `u` what it is there for, and `v` its place in `values`, if it has one.
base::Json parts(const Overview& overview);
// How the values of columns are spread: `rows`, `nulls`, `top` of [value, rows, rows as text], `ranges` of [from, to,
// rows, rows as text].
base::Json values(const Overview& overview);
// `tables` of [name, rows, bytes], and `links` with the tables that they join and what is wrong with them.
base::Json diagram(const Overview& overview);
// From the bytes of today to what would be left: [label, bytes, text].
base::Json savings(const Overview& overview);
// What a query's answer can be drawn as: see `chart_of`.
base::Json charts(const Overview& overview);
// Bytes of the store then and now: [name, bytes, text].
base::Json history(const Overview& overview);

}  // namespace juniper::page
