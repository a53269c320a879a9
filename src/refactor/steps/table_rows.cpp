// Which rows of its files a table holds, and in which order: `trim` and `reorder`.
#include <fmt/format.h>

#include <algorithm>

#include "language/lexer.h"
#include "model/access.h"
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

bool is_made_of(const RowSetPtr& rows, TableIndex table) {
  return rows && ((rows->kind == RowsKind::table && rows->table == table) || is_made_of(rows->input, table) ||
                  is_made_of(rows->other, table));
}

// Calls visit(node) for what looks at a table's rows one by one.
template <class Visit>
void each_look(const NodePtr& expression, TableIndex table, const Visit& visit) {
  walk(expression, [&](const Node& n) {
    bool looks = is_made_of(n.rows, table);
    for (const Let& let : n.lets) looks = looks || is_made_of(let.rows, table);
    if (looks) visit(n);
  });
}

// What would see that rows of a table are gone.
Diagnostics trimming_blockers(const CheckedModel& model, TableIndex t) {
  const Table& table = model.tables[t];
  Diagnostics found;
  const auto block = [&](const CheckedModel& own, Span span, const std::string& why, const char* way) {
    found.push_back(own.sources.diagnostic(Severity::error, "JR-803", span,
                                           fmt::format("all rows of {} stay: {}", table.name, why), way));
  };
  if (model.calendar && model.calendar->day.table == t)
    block(model, model.calendar->span, "periods are reckoned in the days of the calendar", "");
  each_expression(model, [&](const CheckedModel& own, const NodePtr& expression) {
    each_look(expression, t, [&](const Node& n) {
      block(own, n.span, "they are looked at here, whether something leads to them or not",
            "aggregate the rows that lead to it instead, as in count(distinct …)");
    });
  });
  for (const Table& other : model.tables) {
    if (is_made_of(other.rows, t)) block(model, other.name_span, fmt::format("{} is made of them", other.name), "");
    if (std::find(other.reached_from.begin(), other.reached_from.end(), t) != other.reached_from.end())
      block(model, other.rows_span, fmt::format("{} holds what they lead to", other.name), "");
    walk(other.rows, [&](const Node& n) {
      if (is_made_of(n.rows, t)) block(model, n.span, "they are looked at here", "");
    });
  }
  for (const Query& query : model.queries) {
    const bool reads =
        std::any_of(query.sources.begin(), query.sources.end(), [&](const auto& source) { return source.first == t; });
    if (reads) block(model, query.span, fmt::format("query '{}' lists them", query.name), "");
  }
  for (const Column& column : table.columns) {
    for (const std::string& who : column.used_by)
      block(model, column.span, fmt::format("\"{}\" uses {}", who, column.name),
            "take `used by` out when that is over, or trim the table by hand");
  }
  return found;
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
  if (Diagnostics blocked = trimming_blockers(model, *t); !blocked.empty()) return tl::unexpected(std::move(blocked));
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
