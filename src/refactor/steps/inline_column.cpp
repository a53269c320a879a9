#include "refactor/steps.h"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <functional>

#include "base/diagnostics.h"
#include "language/lexer.h"
#include "language/operations.h"
#include "language/parser_core.h"
#include "language/traverse.h"
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

// As above, of a column that a query groups by: nothing where no link leads to its table, so that there always is a row.
std::optional<ColumnRef> end_in_slice(const CheckedModel& model, const ColumnRef& ref) {
  if (!ref.path.empty()) return end_of_path(model, ref);
  for (const Link& link : model.links) {
    if (link.to.table == ref.start) return ColumnRef{ref.start, {}, {ref.start, link.to.columns.front()}};
  }
  return std::nullopt;
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

// What a query groups by. Its rows are those of any table that leads there, with or without a match.
NodePtr expand_key(const CheckedModel& model, const NodePtr& node, const std::set<ColumnId>& removed) {
  return replaced(node, [&](const NodePtr& n) -> NodePtr {
    if (n->op != Op::column || !removed.contains(n->column.column)) return nullptr;
    const NodePtr inside = expand(model, model.column(n->column.column).expression, removed);
    const NodePtr seen = behind_path(inside, n->variable, n->column.start, n->column.path);
    const auto end = end_in_slice(model, n->column);
    return !end || model::is_null_without_row(inside) ? seen : where_there_is_a_row(model, seen, *end, n->variable);
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

// A function that takes the place of a removed column: its arguments are columns as seen from a row of the column's table.
struct RowFunction {
  std::string name;
  std::vector<ColumnRef> arguments;
};
using RowFunctions = std::map<ColumnId, RowFunction>;

class TextExpander {
 public:
  // Columns that have a function are written as calls of it.
  TextExpander(const CheckedModel& model, const std::set<ColumnId>& removed, const RowFunctions& functions = {})
      : model_(model), removed_(removed), functions_(functions) {}

  // `names` are those of columns as seen from the row: what a function calls its arguments.
  using Names = std::vector<std::pair<ColumnRef, std::string>>;

  // Replaces all removed columns in what a query groups by; the result's column keeps its name.
  void rewrite(const QueryBy& key, TextEdits& edits) const {
    walk(key.expression, [&](const Node& node) {
      if (node.op != Op::column || !removed_.contains(node.column.column)) return;
      std::string text = text_in_slice(node.column);
      if (!key.is_column()) {
        text = "(" + text + ")";
      } else if (key.name == model_.sources.text(key.span)) {
        text += " as " + written_name(key.name);
      }
      edits.replace(node.span, std::move(text));
    });
  }

  // The text of a removed column's expression, as it is written where a row of `start` is in scope and `path` leads to
  // the column's table.
  std::string text_of(ColumnId id, TableIndex start, const std::vector<LinkIndex>& path,
                      const Names& names = {}) const {
    const NodePtr& expression = model_.column(id).expression;
    const FreeParts free = free_parts(expression);
    TextEdits edits;
    walk(expression, [&](const Node& node) {
      if (node.op != Op::column) return;
      ColumnRef ref{start, path, node.column.column};
      ref.path.insert(ref.path.end(), node.column.path.begin(), node.column.path.end());
      if (removed_.contains(ref.column)) {
        edits.replace(node.span, replacement(ref, !node.column.path.empty(),
                                             free.contains({node.span.begin, node.span.end}), names));
      } else if (!path.empty() || names_its_row(node) || !names.empty()) {
        edits.replace(node.span, named(ref, names));
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

  // The columns that the whole expression of a removed one reads, as seen from its row.
  std::vector<ColumnRef> read_columns(ColumnId id) const {
    std::vector<ColumnRef> read;
    for (const ColumnRef& ref : column_refs(expand(model_, model_.column(id).expression, removed_))) {
      if (std::find(read.begin(), read.end(), ref) == read.end()) read.push_back(ref);
    }
    return read;
  }

 private:
  // A column as it is written, or as a function calls it.
  std::string named(const ColumnRef& ref, const Names& names) const {
    for (const auto& [column, name] : names) {
      if (column == ref) return written_name(name);
    }
    return written(model_, ref);
  }

  // The function for the column as seen from a row of `ref.start`.
  std::string call(const RowFunction& function, const ColumnRef& ref) const {
    std::vector<std::string> given;
    for (const ColumnRef& argument : function.arguments) {
      ColumnRef seen{ref.start, ref.path, argument.column};
      seen.path.insert(seen.path.end(), argument.path.begin(), argument.path.end());
      given.push_back(written(model_, seen));
    }
    return fmt::format("{}({})", written_name(function.name), fmt::join(given, ", "));
  }

  // A column of the slice, as seen from the table that it is written with.
  std::string written_in_slice(const ColumnRef& ref) const {
    return written_name(model_.tables[ref.start].name) + "." + written(model_, ref);
  }
  std::string text_in_slice(const ColumnRef& ref) const {
    const NodePtr& expression = model_.column(ref.column).expression;
    TextEdits edits;
    walk(expression, [&](const Node& node) {
      if (node.op != Op::column) return;
      ColumnRef seen{ref.start, ref.path, node.column.column};
      seen.path.insert(seen.path.end(), node.column.path.begin(), node.column.path.end());
      edits.replace(node.span,
                    removed_.contains(seen.column) ? "(" + text_in_slice(seen) + ")" : written_in_slice(seen));
    });
    const std::string text = edits.apply(model_.sources[expression->span.file].text, expression->span);
    const auto end = end_in_slice(model_, ref);
    if (!end || model::is_null_without_row(expand(model_, expression, removed_))) return text;
    return fmt::format("case when {} is not null then {} end", written_in_slice(*end), text);
  }

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
  std::string replacement(const ColumnRef& ref, bool across_link, bool is_free, const Names& names = {}) const {
    const auto function = functions_.find(ref.column);
    const bool is_call = names.empty() && function != functions_.end();
    const std::string text = is_call ? call(function->second, ref) : text_of(ref.column, ref.start, ref.path, names);
    if (across_link && !model::is_null_without_row(expand(model_, model_.column(ref.column).expression, removed_))) {
      return fmt::format("case when {} is not null then {} end", named(end_of_path(model_, ref), names), text);
    }
    return is_call || is_free || stands_alone(*model_.column(ref.column).expression) ? text : "(" + text + ")";
  }

  const CheckedModel& model_;
  const std::set<ColumnId>& removed_;
  RowFunctions functions_;
};

// --- functions ------------------------------------------------------------------------------------------------------

bool is_taken(const CheckedModel& model, const std::string& name) {
  return model.find_table(name) || model.find_measure(name) || model.find_query(name) != nullptr ||
         model.find_function(name) != nullptr || language::find_function(name) != nullptr ||
         std::any_of(model.links.begin(), model.links.end(), [&](const Link& link) { return link.role == name; }) ||
         std::any_of(model.parameters.begin(), model.parameters.end(),
                     [&](const Parameter& parameter) { return parameter.name == name; }) ||
         std::any_of(model.readers.begin(), model.readers.end(),
                     [&](const Reader& reader) { return reader.name == name; }) ||
         among(name, aggregate_words);
}

// The place behind a declaration where another one may stand: the end of its line, where nothing but a comment follows.
Span behind(std::string_view text, const Span& declaration) {
  const std::size_t line_end = std::min(text.find('\n', declaration.end), text.size());
  const std::size_t next = text.find_first_not_of(" \t\r", declaration.end);
  const bool is_last = next == std::string_view::npos || next >= line_end || text[next] == '#';
  const auto at = static_cast<std::uint32_t>(is_last ? line_end : declaration.end);
  return {declaration.file, at, at};
}

// What several measures need of a column becomes one text: a function over the columns that it is built on. Nothing where
// the expression is as short as its name, or built on too many columns to be read.
std::optional<std::pair<RowFunction, std::string>> function_of(const CheckedModel& model, ColumnId id,
                                                               const std::set<ColumnId>& removed) {
  constexpr std::size_t short_text = 24;
  constexpr std::size_t most_arguments = 6;
  const TextExpander expander(model, removed);
  RowFunction function{model.column(id).name, expander.read_columns(id)};
  if (is_taken(model, function.name)) function.name = model.tables[id.table].name + "_" + function.name;
  if (is_taken(model, function.name) || function.arguments.empty() || function.arguments.size() > most_arguments ||
      expander.text_of(id, id.table, {}).size() <= short_text)
    return std::nullopt;
  TextExpander::Names names;
  for (const ColumnRef& argument : function.arguments) {
    const std::string& plain = model.column(argument.column).name;
    std::string name = plain;
    const auto is_used = [&](const std::string& other) {
      return is_taken(model, other) ||
             std::any_of(names.begin(), names.end(), [&](const auto& known) { return known.second == other; });
    };
    for (int n = 2; is_used(name); ++n) name = fmt::format("{}_{}", plain, n);
    names.emplace_back(argument, name);
  }
  std::vector<std::string> written;
  for (const auto& [argument, name] : names) written.push_back(written_name(name));
  std::string text = fmt::format("function {}({}) = {}", written_name(function.name), fmt::join(written, ", "),
                                 expander.text_of(id, id.table, {}, names));
  if (const std::string& description = model.column(id).description; !description.empty())
    text += " " + written_text(description);
  return std::pair{std::move(function), std::move(text)};
}

// How many measures and queries read a column themselves.
std::size_t measures_that_read(const CheckedModel& model, ColumnId id) {
  std::set<std::pair<Role, std::string>> found;
  each_definition(model, [&](const Definition& definition) {
    const bool is_of_measures = definition.role == Role::measure || definition.role == Role::draft ||
                                definition.role == Role::show || definition.role == Role::having;
    bool reads = false;
    walk(definition.expression,
         [&](const Node& node) { reads = reads || (node.op == Op::column && node.column.column == id); });
    if (is_of_measures && reads) found.emplace(definition.role, definition.name);
  });
  return found.size();
}

// --- what goes -------------------------------------------------------------------------------------------------------

bool reads_any(const NodePtr& expression, const std::set<ColumnId>& columns) {
  bool reads = false;
  walk(expression,
       [&](const Node& node) { reads = reads || (node.op == Op::column && columns.contains(node.column.column)); });
  return reads;
}

std::string expanded_text(const CheckedModel& model, ColumnId column, const std::set<ColumnId>& removed) {
  return TextExpander(model, removed).text_of(column, column.table, {});
}

// What a definition says, as a text that is the same for equal meanings, with the removed columns' expressions in their
// place.
std::string meaning_of(const Definition& definition, const std::set<ColumnId>& removed) {
  const CheckedModel& model = *definition.model;
  if (definition.role == Role::key)
    return canonical(model, expand_key(model, definition.expression, removed), OuterRows::by_order);
  if (definition.expression)
    return canonical(model, expand(model, definition.expression, removed), OuterRows::by_order);
  if (definition.rows) return canonical(model, definition.rows, OuterRows::by_order);
  std::string names;
  for (const ColumnId id : definition.columns) names += model.column_name(id) + "\n";
  for (const TableIndex table : definition.tables) names += model.tables[table].name + "\n";
  return names;
}

// The new texts must mean what the trees mean: all that they say is read back and compared.
Result<void> check_meaning(const Model& before, const Model& after, const std::set<ColumnId>& removed) {
  std::vector<Definition> now;
  each_definition(model::checked(after), [&](const Definition& definition) { now.push_back(definition); });
  std::size_t next = 0;
  std::optional<Definition> differing;
  each_definition(model::checked(before), [&](const Definition& was) {
    if (differing || (was.column && removed.contains(*was.column))) return;
    const bool same = next < now.size() && now[next].role == was.role && now[next].name == was.name &&
                      meaning_of(was, removed) == meaning_of(now[next], {});
    if (!same) differing = was;
    ++next;
  });
  if (!differing) return {};
  return tl::unexpected(Diagnostics{differing->model->sources.diagnostic(
      Severity::error, "JR-803", differing->span,
      fmt::format("'{}' would not mean the same with the column's expression written in", differing->name),
      "a name in it is read differently there: write its path out, or rename the row")});
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
  const std::vector<ColumnId> gone = model::columns_to_inline(model, id);
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
  RowFunctions functions;
  for (const ColumnId each : gone) {
    edits.remove_declaration(model.sources[model.column(each).span.file].text, model.column(each).span);
    claim(each);
    if (step.spells_out || measures_that_read(model, each) < 2) continue;
    if (auto function = function_of(model, each, removed)) {
      const Span& table = model.tables[each.table].span;
      edits.insert(behind(model.sources[table.file].text, table), "\n\n" + function->second);
      functions.emplace(each, std::move(function->first));
    }
  }
  each_definition(model, [&](const Definition& definition) {
    const bool is_column = definition.role == Role::calculated_column;
    if ((is_column && removed.contains(*definition.column)) || !reads_any(definition.expression, removed)) return;
    // What is stored is proved by its own text, in the model before as well: it names no new function.
    const TextExpander expander(*definition.model, removed, is_column ? RowFunctions() : functions);
    if (definition.role == Role::key) {
      const auto& keys = definition.query->by;
      expander.rewrite(*std::find_if(keys.begin(), keys.end(),
                                     [&](const QueryBy& key) { return key.expression == definition.expression; }),
                       edits);
    } else {
      expander.rewrite(definition.expression, edits);
    }
    if (is_column) claim(*definition.column);
  });
  made.texts = edits.apply(read.texts());
  const auto after = read_again(read, made.texts, step);
  if (!after) return tl::unexpected(after.error());
  if (auto meant = check_meaning(read, *after, removed); !meant) return tl::unexpected(meant.error());
  return made;
}

}  // namespace juniper::refactoring
