// The other way round: an expression that measures compute again and again becomes a calculated column.
#include <fmt/format.h>

#include "base/diagnostics.h"
#include "language/lexer.h"
#include "model/access.h"
#include "refactor/steps.h"
#include "refactor/text_edits.h"

namespace juniper::refactoring {

using namespace language;

namespace {

// What stands before the names of a row's own columns ("s."): the same for all, else nothing.
std::optional<std::string> row_prefix(const CheckedModel& model, const NodePtr& node) {
  std::optional<std::string> prefix;
  bool same = true;
  walk(node, [&](const Node& n) {
    if (n.op != Op::column || !n.column.path.empty()) return;
    const std::string text(model.sources.text(n.span));
    const std::string name = written_name(model.column(n.column.column).name);
    if (!text.ends_with(name)) return;
    const std::string before = text.substr(0, text.size() - name.size());
    same = same && (!prefix || *prefix == before);
    prefix = before;
  });
  return same ? prefix : std::nullopt;
}

// True if the expression reads one row, of `table`, and nothing else.
bool is_of_rows(const NodePtr& node, TableIndex table) {
  std::set<VariableId> rows;
  bool plain = true;
  walk(node, [&](const Node& n) {
    if (n.op == Op::column) {
      rows.insert(n.variable);
      plain = plain && n.column.start == table;
    }
    plain = plain && n.op != Op::aggregate && n.op != Op::measure && n.op != Op::modified && n.op != Op::field &&
            n.op != Op::name && n.op != Op::let && n.op != Op::grouping;
  });
  return plain && rows.size() == 1 && *rows.begin() != slice_row;
}

// Calls take(node) for the outermost parts of an expression for which it is true, and does not enter these.
template <class Take>
void each_outermost(const NodePtr& expression, const Take& take) {
  replaced(expression, [&](const NodePtr& node) { return take(node) ? node : nullptr; });
}

}  // namespace

Result<Applied> store_expression(const Model& read, const Step& step) {
  const CheckedModel& before = model::checked(read);
  const auto table = find_source_table(read, step);
  if (!table) return tl::unexpected(table.error());
  // The declaration goes before the brace that closes the table, on a line of its own where that has one.
  const Span span = before.tables[*table].span;
  const std::string& text = before.sources[span.file].text;
  const std::uint32_t brace = span.end - 1;
  std::uint32_t line = brace;
  while (line > 0 && (text[line - 1] == ' ' || text[line - 1] == '\t')) --line;
  const bool own_line = line > 0 && text[line - 1] == '\n';
  const std::uint32_t at = own_line ? line : brace;
  const std::string declaration = fmt::format("{} = {}", written_name(step.column), step.expression);
  TextEdits first;
  first.replace({span.file, at, at}, own_line ? "  " + declaration + "\n" : declaration + " ");
  Applied made;
  made.texts = first.apply(read.texts());
  const auto declared = read_again(read, made.texts, step);
  if (!declared) return tl::unexpected(declared.error());
  const CheckedModel& model = model::checked(*declared);
  const ColumnId id{*table, *model.tables[*table].find(step.column)};
  const std::string wanted = canonical(model, model.column(id).expression, OuterRows::by_order);

  TextEdits edits;
  std::size_t uses = 0;
  each_definition(model, [&](const Definition& definition) {
    if (definition.column == id) return;
    each_outermost(definition.expression, [&](const NodePtr& node) {
      if (node->op == Op::column || !is_of_rows(node, *table) ||
          canonical(*definition.model, node, OuterRows::by_order) != wanted)
        return false;
      edits.replace(node->span, row_prefix(*definition.model, node).value_or("") + written_name(step.column));
      ++uses;
      return true;
    });
  });
  if (uses == 0) {
    return tl::unexpected(base::error(
        "JR-802", fmt::format("no measure and no column computes '{}' row by row over {}", step.expression, step.table),
        "write the expression as it stands there"));
  }
  made.texts = edits.apply(made.texts);
  const auto after = read_again(read, made.texts, step);
  if (!after) return tl::unexpected(after.error());
  made.claims.push_back({Claim::Kind::stored, step.table, step.column, {}, step.expression, false});
  return made;
}

}  // namespace juniper::refactoring
