// Expressions, slices and sets of rows as SQL. sql/translate.h says what becomes of an aggregate; here is how.
//
// A set of rows is FROM, WHERE and what its rows are bound to: values of rows around (a group of the result, a row of a
// loop) that a column of theirs equals. An aggregate over it becomes a *part* of the statement (WITH), grouped by what
// is bound, and the place where it stands a look-up of one row of that part. What rests on rows around in another way (a
// period's ends, a comparison) is left to the look-up: the part then holds the columns that it reads, too. Only a set
// whose own FROM depends on rows around stays a correlated subquery.
#pragma once

#include <map>
#include <memory>
#include <optional>
#include <set>
#include <string>
#include <utility>
#include <vector>

#include "language/checked.h"
#include "language/slices.h"
#include "sql/dialect.h"
#include "sql/parts.h"

namespace juniper::sql_engine {

// A table under an alias, and the joins that reading its rows has asked for so far.
struct From {
  std::string source;  // a table's quoted name, or a subquery in brackets
  std::string alias;
  std::map<std::vector<language::LinkIndex>, std::string> joins;  // aliases, by path
  std::vector<std::string> clauses;
};

std::string from_text(const From& from);
// " WHERE …", or nothing.
std::string where_text(const std::vector<std::string>& where);

// An expression over the rows' own columns, and the value around that it equals.
struct Bound {
  std::string inner;
  std::string outer;
  bool nulls_meet = true;  // a null equals a null
};

// The days that a period of a slice holds: from `first` to `last`, or those that a subquery names.
struct HeldDays {
  std::string first;
  std::string last;
  // Of a shift: FROM without an alias of its own, the name of the day in it, and the columns that are bound.
  struct Named {
    std::string part;
    std::vector<Bound> bound;  // inner: names of columns
  };
  std::optional<Named> named;
  std::string correlated;  // of a shift that can't be a part: its ranges, first and last
};

struct HeldPredicate {
  language::Predicate predicate;  // of a filter: values from outside are Op::name, see `names`
  std::string value;              // of a key, or of a row's number
  std::map<language::VariableId, std::string> names;
  HeldDays days;
};

struct HeldSlice {
  std::vector<HeldPredicate> predicates;
  language::Roles roles;
  std::vector<language::TableIndex> bridges;
};

struct Scope;

// What a row variable stands for in SQL.
struct RowSql {
  language::RowSetPtr set;
  std::optional<language::TableIndex> table;
  std::shared_ptr<From> from;       // where the table's columns are read
  std::vector<std::string> fields;  // expressions
  HeldSlice slice;
  std::shared_ptr<const Scope> around;  // of a group: where its rows were taken
};

struct Scope {
  HeldSlice slice;
  // Measures as translated in this slice; null: none yet.
  std::shared_ptr<std::map<language::MeasureIndex, std::string>> measures = {};
  std::map<language::VariableId, RowSql> rows;
  std::map<language::VariableId, std::string> names;
  std::map<language::VariableId, std::pair<language::RowSetPtr, std::shared_ptr<const Scope>>> sets;
};

// A set of rows: the row that stands there, where it comes from, what holds for it, and the order of the set.
struct RowsSql {
  RowSql row;
  std::shared_ptr<From> from;
  std::vector<std::string> where;
  std::vector<Bound> bound;
  // The day that is one of a part's days: its own column, the part under an alias, and what holds between them.
  struct Joined {
    std::string source;
    std::vector<std::string> where;
    Bound day;
  };
  std::optional<Joined> days;
  std::vector<std::pair<std::string, bool>> order;  // expression, descending
};

// For each value around that the rows are bound to, what equals it in them.
std::map<std::string, std::string> inner_values(const RowsSql& rows);

class Translator {
 public:
  Translator(const language::CheckedModel& model, const Dialect& dialect, std::int64_t today);

  // An expression where `scope` says what rows and names stand for.
  std::string value(const language::NodePtr& node, const Scope& scope);

  std::shared_ptr<From> table(language::TableIndex table);
  std::string column(From& from, const language::ColumnRef& ref);
  // Puts the conditions of its row's slice on the rows of `table`. `keys` are further expressions over the bridges of the
  // slice, each with its bridge, that are to be read beside: what they are read as stands in their place.
  using OverBridge = std::pair<language::TableIndex, language::NodePtr>;
  std::vector<std::string> allow(RowsSql& rows, language::TableIndex table, const std::vector<OverBridge>& keys = {});
  // What a query groups by, in the rows of a table.
  std::string key(const language::NodePtr& expression, const RowsSql& rows, language::TableIndex table) {
    return seen_from(expression, {}, rows, table);
  }
  // WHERE, with what the rows are bound to written out.
  std::vector<std::string> conditions(const RowsSql& rows) const;
  HeldSlice filters(const language::Query& query) const;
  std::string next_alias();

  // The tables that were read, and the parts that stand in front of the statement.
  std::vector<language::TableIndex> used() const { return {used_.begin(), used_.end()}; }
  const Parts& parts() const { return parts_; }

 private:
  // translate_slices.cpp
  std::string named(language::TableIndex table);
  void allow(RowsSql& rows, language::TableIndex table, const HeldPredicate& held);
  void join_bridge(RowsSql& rows, language::TableIndex table, language::TableIndex bridge, const language::Meeting& met,
                   const std::vector<OverBridge>& keys, std::vector<std::string>& read);
  std::string joined_at(From& from, const std::vector<language::LinkIndex>& path);
  std::string seen_from(const language::NodePtr& expression, const HeldPredicate& held, const RowsSql& rows,
                        language::TableIndex table);
  HeldPredicate captured(const language::Predicate& predicate, const Scope& scope);
  HeldSlice narrowed(const RowSql& row, const Scope& scope);
  HeldSlice modified(const language::Modifiers& modifiers, const Scope& scope);
  void drop(HeldSlice& slice, const language::Across& across) const;
  void move(HeldSlice& slice, const language::During& during);
  std::string moved_ranges(const std::string& select, std::size_t bound, const language::During& during) const;
  HeldDays shifted(const HeldSlice& here, const language::During& during);
  bool is_grouped(const language::Node& node, const HeldSlice& slice) const;

  // translate_rows.cpp
  static Scope inside(const Scope& scope, const RowSql& row);
  std::vector<std::string> row_order(const RowSql& row);
  RowsSql rows(const language::RowSetPtr& set, const Scope& scope);
  RowsSql rows_of(const language::RowSetPtr& set, const Scope& scope);
  RowsSql rows_of_table(const language::RowSetPtr& set, const Scope& scope);
  RowsSql top(const language::RowSetPtr& set, const Scope& scope);
  RowsSql groups(const language::RowSetPtr& set, const Scope& scope);
  RowsSql members(const RowSql& group);
  RowsSql combined(const language::RowSetPtr& set, const Scope& scope);
  void require_equal(RowsSql& rows, const std::string& a, const std::string& b, std::string condition) const;

  using Columns = std::vector<std::pair<std::string, std::string>>;  // expression, name
  std::optional<std::string> closed_select(const RowsSql& rows, std::string_view words, const Columns& columns) const;
  std::string correlated_select(const RowsSql& rows, std::string_view words, const Columns& columns) const;
  RowsSql over(const std::string& source, const std::vector<Bound>& bound);
  void read_table(RowsSql& rows, language::TableIndex table);

  // translate_aggregates.cpp
  // An aggregate of x over rows, and how the aggregates of their parts become one.
  struct Aggregation {
    std::string whole;
    enum class Merge : std::uint8_t { none, same, sum } merge = Merge::none;
    bool counts = false;  // 0 over no rows
    bool may_leave_finite = false;
  };
  enum class Shape : std::uint8_t { rows, distinct, grouped, ranked };
  // Rows as a part of the statement, as a look-up reads it.
  struct View {
    Shape shape = Shape::rows;
    std::string source;  // the part under its alias, and what else is read
    std::string alias;
    std::vector<std::string> where;
    std::vector<std::string> values;  // those asked for, as read there
    bool is_split = false;            // several rows of the part may meet
  };
  std::optional<View> view(const RowsSql& rows, const std::vector<std::string>& values, Shape shape,
                           const std::string& words = "", const std::string& order = "");
  // "FROM … WHERE …", and values as read there.
  std::pair<std::string, std::vector<std::string>> read(const RowsSql& rows, const std::vector<std::string>& values);
  std::string aggregated(const RowsSql& rows, const std::string& x, const Aggregation& aggregation);
  std::string aggregate(const language::Node& node, const Scope& scope);
  std::string exists(const RowsSql& rows);
  std::string rank(const language::Node& node, const RowsSql& rows, const std::string& mine, const std::string& x);
  std::string edge(const language::Node& node, const RowsSql& rows, const std::vector<std::string>& x);
  std::string list(const language::Node& node, const RowsSql& rows, const std::string& x);

  const language::CheckedModel& model_;
  const Dialect& dialect_;
  std::int64_t today_;
  Parts parts_;
  std::set<language::TableIndex> used_;
  int aliases_ = 0;
  language::VariableId next_name_ = 1U << 30;  // above those of any model
};

}  // namespace juniper::sql_engine
