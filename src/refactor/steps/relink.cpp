// A link by values that were put together becomes one by the columns that they were put together from.
#include <fmt/format.h>

#include <algorithm>

#include "language/lexer.h"
#include "model/access.h"
#include "model/uses.h"
#include "refactor/steps.h"
#include "refactor/text_edits.h"

namespace juniper::refactoring {

using namespace language;

namespace {

// The columns of one row that an expression puts together, with the texts between them; nothing for anything else.
struct Parts {
  std::vector<std::uint32_t> columns;
  std::string between;  // the texts, with a mark for each column, so that two that are built alike are equal
};

bool add_parts(const NodePtr& node, TableIndex table, Parts& parts) {
  if (node->op == Op::concat) {
    return std::all_of(node->children.begin(), node->children.end(),
                       [&](const NodePtr& child) { return add_parts(child, table, parts); });
  }
  if (node->op == Op::column && node->column.start == table && node->column.path.empty()) {
    parts.columns.push_back(node->column.column.column);
    parts.between += '\0';
    return true;
  }
  if (node->op != Op::literal || node->literal.is_null()) return false;
  parts.between += node->literal.text();
  return true;
}

std::optional<Parts> parts_of(const NodePtr& expression, TableIndex table) {
  Parts parts;
  if (!expression || expression->op != Op::concat || !add_parts(expression, table, parts)) return std::nullopt;
  return parts.columns.size() < 2 ? std::nullopt : std::optional(parts);
}

std::string end_text(const CheckedModel& model, TableIndex table, const std::vector<std::uint32_t>& columns) {
  std::vector<std::string> names;
  for (const std::uint32_t c : columns) names.push_back(written_name(model.tables[table].columns[c].name));
  return fmt::format("{}.({})", written_name(model.tables[table].name), fmt::join(names, ", "));
}

// Takes a column out of the texts that nothing uses now; what still does is told.
Result<void> drop_unused(Applied& made, const Model& before, const Step& step, ColumnId id) {
  const auto now = read_again(before, made.texts, step);
  if (!now) return tl::unexpected(now.error());
  Step gone = step;
  gone.verb = Verb::drop;
  gone.table = model::checked(before).tables[id.table].name;
  gone.column = model::checked(before).column(id).name;
  if (auto dropped = drop(*now, gone)) {
    made.texts = std::move(dropped->texts);
  } else {
    made.notes.push_back(dropped.error()[0].message);
  }
  return {};
}

}  // namespace

Result<Applied> relink(const Model& read, const Step& step) {
  const CheckedModel& model = model::checked(read);
  const auto id = find_column(model, step);
  if (!id) return tl::unexpected(id.error());
  const auto link = std::find_if(model.links.begin(), model.links.end(), [&](const Link& l) {
    return l.from.table == id->table && l.from.columns == std::vector<std::uint32_t>{id->column};
  });
  const auto refuse = [&](const std::string& why, const char* way) {
    return tl::unexpected(Diagnostics{model.sources.diagnostic(Severity::error, "JR-802", model.column(*id).span,
                                                               model.column_name(*id) + " " + why, way)});
  };
  if (link == model.links.end()) return refuse("is in no link", "name the column from which the link leads");
  const ColumnId key{link->to.table, link->to.columns[0]};
  const auto from = parts_of(model.column(*id).expression, id->table);
  const auto to = parts_of(model.column(key).expression, key.table);
  if (!from || !to || from->between != to->between || from->columns.size() != to->columns.size()) {
    return refuse(fmt::format("and {} are not put together from columns in the same way", model.column_name(key)),
                  "both are calculated as, say, site || \"-\" || lane");
  }
  TextEdits edits;
  edits.replace(link->span, fmt::format("link {} -> {}{}", end_text(model, id->table, from->columns),
                                        end_text(model, key.table, to->columns),
                                        link->role.empty() ? "" : " as " + written_name(link->role)));
  Applied made;
  made.texts = edits.apply(read.texts());
  for (const ColumnId each : {*id, key}) {
    if (auto dropped = drop_unused(made, read, step, each); !dropped) return tl::unexpected(dropped.error());
  }
  if (auto again = read_again(read, made.texts, step); !again) return tl::unexpected(again.error());
  Claim claim{Claim::Kind::relinked, step.table, step.column};
  claim.link = static_cast<LinkIndex>(link - model.links.begin());
  claim.expression = model.link_name(*link);
  made.claims.push_back(std::move(claim));
  return made;
}

}  // namespace juniper::refactoring
