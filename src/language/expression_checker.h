// The class behind check_expression.h. Its functions are spread over check_expression.cpp (operators and functions),
// check_names.cpp (names and paths), check_rows.cpp (sets of rows and aggregates) and check_slices.cpp (modifiers).
#pragma once

#include <fmt/format.h>

#include <array>
#include <utility>

#include "base/diagnostics.h"
#include "base/exact.h"
#include "language/check_expression.h"
#include "language/lexer.h"
#include "language/operations.h"

namespace juniper::language {

inline constexpr Type boolean_type{TypeKind::boolean, 0};
inline constexpr Type integer_type{TypeKind::integer, 0};
inline constexpr Type real_type{TypeKind::real, 0};
inline constexpr Type text_type{TypeKind::text, 0};
inline constexpr Type date_type{TypeKind::date, 0};

inline bool is_null_literal(const Node& node) {
  return node.op == Op::literal && node.literal.is_null();
}

NodePtr make(Op op, Type type, Span span, std::vector<NodePtr> children);

class ExpressionChecker {
 public:
  ExpressionChecker(const Definitions& definitions, Scope scope, Diagnostics& diagnostics)
      : definitions_(definitions), model_(definitions.model), scope_(std::move(scope)), diagnostics_(diagnostics) {}

  NodePtr check(const syntax::Expression& e);
  NodePtr condition(const syntax::Expression& e);
  RowSetPtr rows(const syntax::Rows& r, const std::string& row_name);
  // The column of a slice that a path names: its table or a role first.
  std::optional<ColumnRef> slice_column(const syntax::Path& p);

 private:
  using Expression = syntax::Expression;

  // --- messages ---------------------------------------------------------------------------------------------------

  std::nullptr_t error(Span span, std::string code, std::string message, std::string suggestion = "") {
    diagnostics_.push_back(
        model_.sources.diagnostic(Severity::error, std::move(code), span, std::move(message), std::move(suggestion)));
    return nullptr;
  }
  std::nullopt_t no_column(Span span, std::string code, std::string message, std::string suggestion = "") {
    error(span, std::move(code), std::move(message), std::move(suggestion));
    return std::nullopt;
  }
  std::string written(Span span) const { return std::string(model_.sources.text(span)); }
  static std::string described(const Node& node);

  ExpressionChecker within(Scope scope) const { return {definitions_, std::move(scope), diagnostics_}; }

  // --- operators and functions: check_expression.cpp --------------------------------------------------------------

  static std::optional<Type> common_type(Type a, Type b);
  static NodePtr convert(const NodePtr& node, Type type);
  bool unify(std::vector<NodePtr>& nodes, std::string_view what);
  std::string mismatch_fix(const Node& a, const Node& b) const;
  static NodePtr literal(const Expression& e);
  static NodePtr negate_if(bool negated, NodePtr node);
  NodePtr unary(const Expression& e);
  NodePtr binary(const Expression& e);
  NodePtr compare(Span span, Op op, std::vector<NodePtr> operands, bool swapped);
  NodePtr arithmetic(const Expression& e, std::vector<NodePtr> operands);
  NodePtr is_null(const Expression& e);
  NodePtr is_distinct(const Expression& e);
  NodePtr in(const Expression& e);
  NodePtr between(const Expression& e);
  std::vector<NodePtr> check_all(const Expression& e);
  NodePtr cases(const Expression& e);
  NodePtr call(const Expression& e);
  NodePtr calendar_edge(const Expression& e, Function function);
  std::optional<Type> apply(const FunctionEntry& entry, const Expression& e, std::vector<NodePtr>& args);
  template <class Wrong>
  std::optional<Type> text_type_of(const std::vector<NodePtr>& args, const Wrong& wrong);
  template <class Wrong>
  std::optional<Type> moment_type(Type type, std::vector<NodePtr>& args, const Wrong& wrong);
  template <class Wrong>
  static std::optional<Type> decimal_type(std::vector<NodePtr>& args, const Wrong& wrong);
  template <class Wrong>
  static std::optional<Type> round_type(const std::vector<NodePtr>& args, const Wrong& wrong);

  // --- names: check_names.cpp -------------------------------------------------------------------------------------

  std::vector<std::string> column_names(TableIndex table) const;
  std::vector<std::string> measure_names() const;
  std::vector<std::string> table_and_role_names() const;
  std::string elsewhere(const std::string& column) const;
  std::string row_text(const RowInScope& row) const;
  const RowInScope* find_row(const std::string& name) const;
  // Whether a name means what is disabled, which is then told.
  bool is_disabled(Span use, DefinitionKind kind, const std::string& name, const std::string& table = "");
  std::optional<LinkIndex> find_role(const syntax::Name& name);
  NodePtr path(const Expression& e);
  NodePtr scalar_name(const Expression& e);
  NodePtr expanded(const Expression& e, const ModelFunction& function);
  NodePtr measure_path(const Expression& e);
  static const QueryBy* key_named(const syntax::Path& p, const std::vector<QueryBy>* keys);
  const QueryBy* key_column(const syntax::Path& p);
  static NodePtr key_value(const Expression& e, const QueryBy& key);
  NodePtr bare_measure_in_row(const Expression& e);
  NodePtr row_path(const Expression& e);
  NodePtr bare_in_rows(const Expression& e);
  NodePtr column_of_row(const Expression& e, const RowInScope& row, std::size_t next);
  NodePtr column_node(const Expression& e, VariableId variable, const ColumnRef& ref);
  std::optional<ColumnRef> follow(const syntax::Path& p, std::size_t next, ColumnRef ref,
                                  const CheckedModel::Roles& roles);
  bool hop(const syntax::Name& name, ColumnRef& ref, const CheckedModel::Roles& roles);
  bool extend(const syntax::Name& name, ColumnRef& ref, TableIndex goal, std::optional<LinkIndex> last,
              const CheckedModel::Roles& roles);

  // --- rows and aggregates: check_rows.cpp ------------------------------------------------------------------------

  static RowInScope row_of(const RowSetPtr& set);
  Scope scope_with(const RowSetPtr& set) const;
  RowSetPtr named_rows(const syntax::Name& name, Span span, const std::string& row_name);
  RowSetPtr filtered(RowSetPtr input, const Expression& condition, Span span);
  RowSetPtr extended(const syntax::Rows& r, RowSetPtr input);
  RowSetPtr sorted(const syntax::Rows& r, RowSetPtr input);
  RowSetPtr top(const syntax::Rows& r, RowSetPtr input);
  RowSetPtr distinct(const syntax::Rows& r, const std::string& row_name);
  RowSetPtr days(const syntax::Rows& r);
  NodePtr end_of_dates(const Expression& e, bool is_last);
  RowSetPtr grouped(const syntax::Rows& r, const std::string& row_name);
  RowSetPtr combined(const syntax::Rows& r, const std::string& row_name);
  RowSetPtr linked(RowSetPtr input, const syntax::Name& name);
  RowSetPtr routed(RowSetPtr input, const syntax::Name& name);
  RowSetPtr dropping(RowSetPtr input, const syntax::Across& across);
  bool add_field(RowSet& set, Field field, const std::optional<syntax::Name>& name);
  NodePtr in_slice(const NodePtr& node, const RowSetPtr& set, std::string& problem) const;
  NodePtr aggregate(const Expression& e);
  NodePtr typed_aggregate(const Expression& e, const std::shared_ptr<Node>& node);
  bool ordered(const Expression& e, const std::shared_ptr<Node>& node, ExpressionChecker& inside);
  NodePtr only(const Expression& e);
  NodePtr let(const Expression& e);
  bool names_rows(const syntax::Rows& rows) const;

  // --- slices: check_slices.cpp -----------------------------------------------------------------------------------

  NodePtr modified(const Expression& e);
  bool narrowed_to(const syntax::Name& name, Modifiers& modifiers);
  std::optional<Through> bridge(const syntax::Name& name);
  std::optional<Across> across(const syntax::Across& text);
  std::optional<During> during(const syntax::DuringClause& text);
  bool add_conditions(const Expression& text, Modifiers& modifiers);

  const Definitions& definitions_;
  const CheckedModel& model_;
  Scope scope_;
  Diagnostics& diagnostics_;
};

// The unit that a word names: day, week, month, quarter, year.
std::optional<Unit> unit_named(std::string_view word);

}  // namespace juniper::language
