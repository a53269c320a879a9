#include "refactor/steps.h"

#include <fmt/format.h>

#include <algorithm>
#include <functional>

#include "base/diagnostics.h"
#include "language/check.h"
#include "language/lexer.h"
#include "language/parser.h"
#include "model/access.h"
#include "model/inlining.h"
#include "refactor/text_edits.h"

namespace juniper::refactoring {

using namespace language;

namespace {

// A copy of the expression as seen from the begin of `path`, which leads to the expression's own table.
NodePtr behind_path(const NodePtr& node, VariableId row, TableIndex start, const std::vector<LinkIndex>& path) {
  auto copy = std::make_shared<Node>(*node);
  if (copy->op == Op::column) {
    copy->variable = row;
    copy->column.start = start;
    copy->column.path.insert(copy->column.path.begin(), path.begin(), path.end());
  }
  for (NodePtr& child : copy->children) child = behind_path(child, row, start, path);
  return copy;
}

// A column that is null where a path leads to no row, and there alone: the last link's key.
ColumnRef end_of_path(const CheckedModel& model, const ColumnRef& ref) {
  const LinkEnd& end = model.links[ref.path.back()].to;
  return {ref.start, ref.path, {end.table, end.columns.front()}};
}

// case when KEY is not null then VALUE end
NodePtr where_there_is_a_row(const CheckedModel& model, const NodePtr& value, const ColumnRef& key, VariableId row) {
  const auto node = [](Op op, Type type, std::vector<NodePtr> children) {
    auto made = std::make_shared<Node>();
    made->op = op;
    made->type = type;
    made->children = std::move(children);
    return made;
  };
  const Type boolean{TypeKind::boolean, 0};
  auto column = node(Op::column, model.column(key.column).type, {});
  column->column = key;
  column->variable = row;
  return node(
      Op::cases, value->type,
      {node(Op::not_, boolean, {node(Op::is_null, boolean, {column})}), value, node(Op::literal, value->type, {})});
}

NodePtr expand(const CheckedModel& model, const NodePtr& node, const std::set<ColumnId>& removed) {
  if (!node) return node;
  if (node->op == Op::column && removed.contains(node->column.column)) {
    const NodePtr inside = expand(model, model.column(node->column.column).expression, removed);
    const NodePtr seen = behind_path(inside, node->variable, node->column.start, node->column.path);
    if (node->column.path.empty() || model::is_null_without_row(inside)) return seen;
    return where_there_is_a_row(model, seen, end_of_path(model, node->column), node->variable);
  }
  return replaced(node, [&](const NodePtr& n) -> NodePtr {
    if (n->op == Op::negate) return negated(expand(model, n->children[0], removed), n->span);
    const bool gone = n->op == Op::column && removed.contains(n->column.column);
    return gone ? expand(model, n, removed) : nullptr;
  });
}

// A column as it is written where a row of its `start` table is in scope: by its table alone where one path leads
// there, else link by link.
std::string written(const CheckedModel& model, const ColumnRef& ref) {
  const std::string column = written_name(model.column(ref.column).name);
  if (ref.path.empty()) return column;
  const auto ways = model.paths(ref.start, ref.column.table);
  if (ways.size() == 1 && ways.front() == ref.path)
    return written_name(model.tables[ref.column.table].name) + "." + column;
  std::string text;
  for (const LinkIndex i : ref.path) {
    const Link& link = model.links[i];
    text += written_name(link.role.empty() ? model.tables[link.to.table].name : link.role) + ".";
  }
  return text + column;
}

class TextExpander {
 public:
  TextExpander(const CheckedModel& model, const std::set<ColumnId>& removed) : model_(model), removed_(removed) {}

  // The text of a removed column's expression, as it is written where a row of `start` is in scope and `path` leads to
  // the column's table.
  std::string text_of(ColumnId id, TableIndex start, const std::vector<LinkIndex>& path) const {
    const NodePtr& expression = model_.column(id).expression;
    const FreeParts free = free_parts(expression);
    TextEdits edits;
    walk(expression, [&](const Node& node) {
      if (node.op != Op::column) return;
      ColumnRef ref{start, path, node.column.column};
      ref.path.insert(ref.path.end(), node.column.path.begin(), node.column.path.end());
      if (removed_.contains(ref.column)) {
        edits.replace(node.span,
                      replacement(ref, !node.column.path.empty(), free.contains({node.span.begin, node.span.end})));
      } else if (!path.empty() || names_its_row(node)) {
        edits.replace(node.span, written(model_, ref));
      }
    });
    return edits.apply(model_.sources[expression->span.file].text, expression->span);
  }

  // Replaces all removed columns in an expression that stays.
  void rewrite(const NodePtr& expression, TextEdits& edits) const {
    const FreeParts free = free_parts(expression);
    walk(expression, [&](const Node& node) {
      if (node.op != Op::column || !removed_.contains(node.column.column)) return;
      edits.replace(node.span, replacement(node.column, !node.column.path.empty(),
                                           free.contains({node.span.begin, node.span.end})));
    });
  }

 private:
  // True for expressions that need no brackets wherever a name stood. A removed column is what stands in its place.
  bool stands_alone(const Node& node) const {
    if (node.op == Op::column && removed_.contains(node.column.column)) {
      return stands_alone(*model_.column(node.column.column).expression);
    }
    return node.op == Op::column || node.op == Op::call ||
           (node.op == Op::literal && node.type.kind != TypeKind::boolean);
  }

  // A column written `this.x` or `row.x`: in an aggregate the row may have another name. One whose name merely holds
  // these letters is written again as it was.
  bool names_its_row(const Node& node) const {
    const std::string_view text = model_.sources.text(node.span);
    return text.find("this") != std::string_view::npos || text.find("row") != std::string_view::npos;
  }

  // The parts of an expression, by their begin and end in the text, that no operator touches: the whole, what an
  // aggregate goes over, the arguments of functions.
  using FreeParts = std::set<std::pair<std::uint32_t, std::uint32_t>>;
  static FreeParts free_parts(const NodePtr& expression) {
    FreeParts parts{{expression->span.begin, expression->span.end}};
    walk(expression, [&](const Node& node) {
      if (node.op != Op::aggregate && node.op != Op::call) return;
      for (const NodePtr& child : node.children) parts.insert({child->span.begin, child->span.end});
    });
    return parts;
  }

  // What stands where a removed column was named: in brackets where an operator could take a part of it, and null where
  // a link that it was seen across leads to no row.
  std::string replacement(const ColumnRef& ref, bool across_link, bool is_free) const {
    const std::string text = text_of(ref.column, ref.start, ref.path);
    if (across_link && !model::is_null_without_row(expand(model_, model_.column(ref.column).expression, removed_))) {
      return fmt::format("case when {} is not null then {} end", written(model_, end_of_path(model_, ref)), text);
    }
    return is_free || stands_alone(*model_.column(ref.column).expression) ? text : "(" + text + ")";
  }

  const CheckedModel& model_;
  const std::set<ColumnId>& removed_;
};

// --- what goes -------------------------------------------------------------------------------------------------------

// Calculated columns that `id` reads, directly.
std::set<ColumnId> built_on(const CheckedModel& model, ColumnId id) {
  std::set<ColumnId> columns;
  for (const ColumnRef& ref : column_refs(model.column(id).expression)) {
    if (model.column(ref.column).is_calculated()) columns.insert(ref.column);
  }
  return columns;
}

// True if no calculated column that stays reads it.
bool only_measures_read(const CheckedModel& model, ColumnId id, const std::set<ColumnId>& removed) {
  for (TableIndex t = 0; t < model.tables.size(); ++t) {
    for (std::uint32_t c = 0; c < model.tables[t].columns.size(); ++c) {
      if (!removed.contains({t, c}) && model.tables[t].columns[c].is_calculated() &&
          built_on(model, {t, c}).contains(id))
        return false;
    }
  }
  return true;
}

// The column and, level by level, those below it that nothing else needs.
std::vector<ColumnId> columns_to_remove(const CheckedModel& model, ColumnId id) {
  std::vector<ColumnId> order{id};
  std::set<ColumnId> removed{id};
  for (bool grown = true; grown;) {
    grown = false;
    for (const ColumnId above : std::vector<ColumnId>(order)) {
      for (const ColumnId below : built_on(model, above)) {
        if (removed.contains(below) || !only_measures_read(model, below, removed) ||
            !model::inlining_blockers(model, below).empty())
          continue;
        removed.insert(below);
        order.push_back(below);
        grown = true;
      }
    }
  }
  return order;
}

bool reads_any(const NodePtr& expression, const std::set<ColumnId>& columns) {
  bool reads = false;
  walk(expression,
       [&](const Node& node) { reads = reads || (node.op == Op::column && columns.contains(node.column.column)); });
  return reads;
}

std::string expanded_text(const CheckedModel& model, ColumnId column, const std::set<ColumnId>& removed) {
  return TextExpander(model, removed).text_of(column, column.table, {});
}

// The new texts must mean what the trees mean: each expression that was rewritten is read back and compared.
Result<void> check_meaning(const Model& before_model, const Model& after_model, const std::set<ColumnId>& removed) {
  const CheckedModel& before = model::checked(before_model);
  const CheckedModel& after = model::checked(after_model);
  const auto differs = [&](const CheckedModel& old_model, const NodePtr& old_node, const CheckedModel& new_model,
                           const NodePtr& new_node) {
    return canonical(old_model, expand(old_model, old_node, removed), OuterRows::by_order) !=
           canonical(new_model, new_node, OuterRows::by_order);
  };
  const auto failed = [&](Span span, const std::string& name) {
    return tl::unexpected(Diagnostics{before.sources.diagnostic(
        Severity::error, "JR-803", span,
        fmt::format("'{}' would not mean the same with the column's expression written in", name),
        "a name in it is read differently there: write its path out, or rename the row")});
  };
  const auto compare_measures = [&](const CheckedModel& was, const CheckedModel& is) -> Result<void> {
    for (std::size_t m = 0; m < was.measures.size(); ++m) {
      if (differs(was, was.measures[m].expression, is, is.measures[m].expression))
        return failed(was.measures[m].span, was.measures[m].name);
    }
    return {};
  };
  if (auto same = compare_measures(before, after); !same) return same;
  for (std::size_t t = 0; t < before.tables.size(); ++t) {
    for (std::uint32_t c = 0; c < before.tables[t].columns.size(); ++c) {
      const Column& column = before.tables[t].columns[c];
      if (!column.is_calculated() || removed.contains({static_cast<TableIndex>(t), c})) continue;
      const auto index = after.tables[t].find(column.name);
      if (!index || differs(before, column.expression, after, after.tables[t].columns[*index].expression))
        return failed(column.span, column.name);
    }
  }
  for (std::size_t q = 0; q < before.queries.size(); ++q) {
    const CheckedModel& was = own_model(before, before.queries[q]);
    const CheckedModel& is = own_model(after, after.queries[q]);
    for (std::size_t s = 0; s < before.queries[q].show.size(); ++s) {
      if (differs(was, before.queries[q].show[s].expression, is, after.queries[q].show[s].expression))
        return failed(before.queries[q].show[s].span, before.queries[q].name);
    }
    if (before.queries[q].variant) {
      if (auto same = compare_measures(was, is); !same) return same;
    }
  }
  return {};
}

}  // namespace

Result<Applied> inline_column(const Model& read, const Step& step) {
  const CheckedModel& model = model::checked(read);
  const auto found = find_column(model, step);
  if (!found) return tl::unexpected(found.error());
  const ColumnId id = *found;
  const Column& column = model.column(id);
  if (!column.is_calculated()) {
    return tl::unexpected(Diagnostics{
        model.sources.diagnostic(Severity::error, "JR-802", column.name_span,
                                 fmt::format("{} is read from the source, not calculated", model.column_name(id)),
                                 "only a calculated column has an expression that can move into measures")});
  }
  if (Diagnostics blocked = model::inlining_blockers(model, id); !blocked.empty())
    return tl::unexpected(std::move(blocked));
  const std::vector<ColumnId> gone = columns_to_remove(model, id);
  const std::set<ColumnId> removed(gone.begin(), gone.end());
  Applied made;
  const auto claim = [&](ColumnId proved) {
    made.claims.push_back({Claim::Kind::inlined,
                           model.tables[proved.table].name,
                           model.column(proved).name,
                           {},
                           expanded_text(model, proved, removed),
                           removed.contains(proved)});
  };
  TextEdits edits;
  for (const ColumnId each : gone) {
    edits.remove_declaration(model.sources[model.column(each).span.file].text, model.column(each).span);
    claim(each);
  }
  const auto rewrite_measures = [&](const CheckedModel& of) {
    const TextExpander expander(of, removed);
    for (const Measure& measure : of.measures) expander.rewrite(measure.expression, edits);
  };
  rewrite_measures(model);
  for (const Query& query : model.queries) {
    if (query.variant) rewrite_measures(*query.variant);
    const TextExpander expander(own_model(model, query), removed);
    for (const QueryShow& item : query.show) expander.rewrite(item.expression, edits);
  }
  const TextExpander expander(model, removed);
  for (TableIndex t = 0; t < model.tables.size(); ++t) {
    for (std::uint32_t c = 0; c < model.tables[t].columns.size(); ++c) {
      const NodePtr& expression = model.tables[t].columns[c].expression;
      if (removed.contains({t, c}) || !reads_any(expression, removed)) continue;
      expander.rewrite(expression, edits);
      claim({t, c});
    }
  }
  made.texts = edits.apply(read.texts());
  const auto after = read_again(read, made.texts, step);
  if (!after) return tl::unexpected(after.error());
  if (auto meant = check_meaning(read, *after, removed); !meant) return tl::unexpected(meant.error());
  return made;
}

}  // namespace juniper::refactoring
