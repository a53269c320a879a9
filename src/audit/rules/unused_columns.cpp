// Columns that no definition, query or declared use reads (`used by "…"` declares one). Those whose values are all
// different are a finding of their own: row numbers, receipts and the like are what costs most.
#include <fmt/format.h>

#include "audit/rules.h"
#include "base/format.h"

namespace juniper::auditing {

using namespace language;

namespace {

bool is_unique(const store::Column& data) {
  return data.rows > 1 && data.distinct == data.rows;
}

std::string values_of(const store::Column& data) {
  return fmt::format("{} of {} rows{}", base::grouped(data.distinct) + (data.distinct == 1 ? " value" : " values"),
                     base::grouped(data.rows),
                     data.nulls == 0 ? "" : fmt::format(", {} null", base::grouped(data.nulls)));
}

// Columns of calculated tables come from the rows that these name.
bool may_be_left_out(const Subject& subject, ColumnId id) {
  return !subject.model().column(id).from_row;
}

template <class Wanted>
void find(const Subject& subject, Findings& findings, const Wanted& wanted) {
  subject.each_column([&](ColumnId id, const Column&, const store::Column& data) {
    if (!subject.users(id).empty() || !may_be_left_out(subject, id) || !wanted(data)) return;
    findings.push_back(subject.with_step(subject.about(id, values_of(data), "", data.bytes()),
                                         "drop " + step_name(subject.model(), id)));
    findings.back().unused = true;
  });
}

}  // namespace

void find_unused_columns(const Subject& subject, Findings& findings) {
  find(subject, findings, [](const store::Column& data) { return !is_unique(data); });
}

void find_unused_unique_columns(const Subject& subject, Findings& findings) {
  find(subject, findings, is_unique);
}

}  // namespace juniper::auditing
