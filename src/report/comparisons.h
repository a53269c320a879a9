// What reports of drafts, refactorings and checks share: cells that differ, and where a difference comes from.
#pragma once

#include <string>
#include <utility>
#include <vector>

#include "juniper/compare.h"
#include "juniper/narrowing.h"
#include "juniper/report.h"

namespace juniper {

// The differences of queries, one line each; for people the first few of each query, and a line that counts the others.
Table difference_table(const std::vector<std::pair<std::string, Comparison>>& compared);

// Tables of where a difference comes from, and of the rows that carry it; nothing where it was not narrowed down.
// `prefix`: of their names for programs, which tell several apart.
void add_narrowing(const Narrowing& narrowing, const std::string& prefix, Report& made);

}  // namespace juniper
