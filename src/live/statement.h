// One statement over a live table as it is seen through its links: operands, conditions, what is selected and grouped.
//
// What stands behind a link is read in one of two ways. A table that is live on the same place is joined there. Of any
// other, what an expression over its row comes to is worked out first, for each of its rows, and sent along as a look-up by
// the link's key: the values are few there. On an engine that joins badly, tables that are live there are looked up, too.
#pragma once

#include <map>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "engine/scan/scan.h"
#include "live/places.h"

namespace juniper::live {

class Statement {
 public:
  // Source and places outlive it.
  Statement(const engine::Source& source, Places& places, language::TableIndex table);

  // An expression over the table's row.
  Sql operand(const language::NodePtr& node);
  // Only rows for which it is true.
  void add_condition(const language::NodePtr& condition);

  // A column of the answer.
  std::size_t select(const std::string& text, Type type);
  // What rows are grouped by, as a column of the answer. Where the answer holds places in a list instead of values, that
  // list comes, too.
  struct Key {
    std::size_t column = 0;
    std::optional<std::vector<Value>> values;
    Value value_in(const Answer& answer, std::size_t row) const;
  };
  Key select_key(const engine::ScanKey& key);
  Key select_key(const language::NodePtr& expression);

  std::string text() const;
  const std::vector<Type>& types() const { return types_; }
  const Dialect& dialect() const { return dialect_; }

 private:
  using Path = std::vector<language::LinkIndex>;

  void add_part(const language::NodePtr& condition);
  bool is_looked_up(language::LinkIndex link) const;
  // The path to the first table whose values are looked up, where all columns lead over it; else nothing.
  std::optional<Path> looked_up_over(const std::vector<language::ColumnRef>& refs) const;
  // The values of an expression behind a path, by the keys of its last link.
  LookUp look_up(const Path& path, const language::NodePtr& expression);
  LookUp rows_of(const Path& path);
  LookUp keys_of(const Path& path);
  void add_loaded(const Path& path, const language::NodePtr& behind, LookUp& look_up) const;
  void add_live(const Path& path, const language::NodePtr& behind, LookUp& look_up);
  Key select_looked_up(LookUp look_up);
  Sql column(const language::ColumnRef& ref);
  // The alias under which a table at the end of a path is read.
  std::string alias_of(const Path& path);
  void require_unique(language::LinkIndex link);
  [[noreturn]] void fail_repeated(language::LinkIndex link) const;
  int bits_of(const language::Node& node, const std::vector<Sql>& operands) const;

  const engine::Source& source_;
  const language::CheckedModel& model_;
  Places& places_;
  language::TableIndex table_;
  const Dialect& dialect_;
  From from_;
  std::map<Path, std::string> aliases_;
  std::map<std::string, Sql> looked_up_;  // by expression
  std::vector<std::string> conditions_;
  std::vector<std::string> selected_;
  std::vector<Type> types_;
  std::vector<std::size_t> groups_;
  bool has_constant_keys_ = false;
};

}  // namespace juniper::live
