// Which rows of its files a table holds, and in which order: `trim` and `reorder`.
#include <fmt/format.h>

#include <algorithm>

#include "language/lexer.h"
#include "model/access.h"
#include "model/trimming.h"
#include "refactor/steps.h"
#include "refactor/text_edits.h"

namespace juniper::refactoring {

using namespace language;

namespace {

// A list as the text has it: one name, or several in brackets.
std::string listed(const std::vector<std::string>& names) {
  return names.size() == 1 ? names[0] : fmt::format("({})", fmt::join(names, ", "));
}

// What stands behind a table's source.
std::string rows_clause(const CheckedModel& model, TableIndex table, const std::vector<TableIndex>& reached_from,
                        const std::vector<std::uint32_t>& sorted_by) {
  std::string clause;
  std::vector<std::string> names;
  for (const TableIndex from : reached_from) names.push_back(written_name(model.tables[from].name));
  if (!names.empty()) clause += " reached from " + listed(names);
  names.clear();
  for (const std::uint32_t c : sorted_by) names.push_back(written_name(model.tables[table].columns[c].name));
  if (!names.empty()) clause += " sorted by " + listed(names);
  return clause;
}

}  // namespace

Result<Applied> trim_table(const Model& read, const Step& step) {
  const CheckedModel& model = model::checked(read);
  const auto t = find_source_table(read, step);
  if (!t) return tl::unexpected(t.error());
  const Table& table = model.tables[*t];
  std::vector<TableIndex> from;
  for (const Link& link : model.links) {
    if (link.to.table == *t && std::find(from.begin(), from.end(), link.from.table) == from.end())
      from.push_back(link.from.table);
  }
  const auto refuse = [&](std::string why, const char* way) {
    return tl::unexpected(
        Diagnostics{model.sources.diagnostic(Severity::error, "JR-802", table.name_span, std::move(why), way)});
  };
  if (from.empty()) return refuse(fmt::format("no link leads to {}", table.name), "only what links lead to is trimmed");
  if (!table.reached_from.empty())
    return refuse(fmt::format("{} is trimmed already", table.name), "see its `reached from`");
  if (Diagnostics blocked = model::trimming_blockers(model, *t); !blocked.empty())
    return tl::unexpected(std::move(blocked));
  TextEdits edits;
  edits.replace(table.rows_span, rows_clause(model, *t, from, table.sorted_by));
  Applied made;
  made.texts = edits.apply(read.texts());
  if (auto again = read_again(read, made.texts, step); !again) return tl::unexpected(again.error());
  made.claims.push_back({Claim::Kind::trimmed, step.table});
  return made;
}

Result<Applied> reorder_table(const Model& read, const Step& step) {
  const CheckedModel& model = model::checked(read);
  const auto t = find_source_table(read, step);
  if (!t) return tl::unexpected(t.error());
  const Table& table = model.tables[*t];
  std::vector<std::uint32_t> columns;
  for (const std::string& name : step.columns) {
    Step named = step;
    named.column = name;
    const auto id = find_column(model, named);
    if (!id) return tl::unexpected(id.error());
    columns.push_back(id->column);
  }
  TextEdits edits;
  edits.replace(table.rows_span, rows_clause(model, *t, table.reached_from, columns));
  Applied made;
  made.texts = edits.apply(read.texts());
  if (auto again = read_again(read, made.texts, step); !again) return tl::unexpected(again.error());
  made.claims.push_back({Claim::Kind::reordered, step.table});
  return made;
}

}  // namespace juniper::refactoring
