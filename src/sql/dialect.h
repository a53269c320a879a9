// What SQL engines write differently. Values stand in every dialect as in the store: exact decimals as whole numbers of
// their last digit, dates as days and datetimes and times as microseconds since 1970-01-01 or midnight.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "base/calendar.h"
#include "language/checked.h"

namespace juniper::sql_engine {

class Dialect {
 public:
  using Texts = std::vector<std::string>;

  virtual ~Dialect() = default;

  // The name of a table in FROM: one whose columns hold values as above, beside "row$", the row's number.
  virtual std::string table(const language::Table& table) const = 0;
  virtual std::string literal(const Value& value, Type type) const = 0;
  // a and b are equal or both null.
  virtual std::string same(const std::string& a, const std::string& b) const = 0;
  // A scalar operation over operands; `today` is the day of today().
  std::string operation(const language::Node& node, const Texts& x, std::int64_t today) const;
  // A real that may have left the finite numbers, and is null then.
  virtual std::string finite(const std::string& real) const { return real; }
  // An aggregate of the column x of the rows of a subquery; not those that order rows, count rows or ask for one.
  virtual std::string aggregate_of_x(const language::Node& node) const = 0;
  // The texts x of a subquery that order their rows by `order`, joined.
  virtual std::string list(const std::string& subquery, const std::string& separator,
                           const std::string& order) const = 0;
  virtual std::string start_of(const std::string& day, base::Unit unit) const = 0;
  virtual std::string end_of(const std::string& day, base::Unit unit) const = 0;
  virtual std::string moved(const std::string& day, const std::string& count, base::Unit unit) const = 0;
  // What a statement needs before it can be run: WITH, its tables of values and its parts; `used` are the tables in it.
  virtual std::string before(const std::string& statement, const language::CheckedModel& model,
                             const std::vector<language::TableIndex>& used, const Texts& parts) const = 0;
  // A column of the outermost result as users read it.
  virtual std::string shown(const std::string& column, Type type) const = 0;

 protected:
  // Operations that the dialects write each in its own way.
  virtual std::string divide(const language::Node& node, const Texts& x) const = 0;
  virtual std::string whole_divide(const std::string& a, const std::string& b) const = 0;
  virtual std::string remainder(const std::string& a, const std::string& b) const = 0;
  virtual std::string distinct(const std::string& a, const std::string& b) const = 0;
  virtual std::string like(const std::string& text, const std::string& pattern) const = 0;
  virtual std::string to_real(const std::string& x, int scale) const = 0;
  virtual std::string rounded_real(language::Function function, const std::string& x, int digits) const = 0;
  // The smallest or largest of values, nulls left out.
  virtual std::string extreme(const Texts& x, bool least) const = 0;
  virtual std::string call(const language::Node& node, const Texts& x) const = 0;

 private:
  std::string rounded(const language::Node& node, const std::string& x) const;
};

std::unique_ptr<Dialect> sqlite_dialect();
// Over tables that hold the model's columns, calculated ones too, under their names: numeric(…) for whole numbers and
// decimals, double precision, text, boolean, date, timestamp, time.
std::unique_ptr<Dialect> postgresql_dialect();

// "name", with quotes within it doubled; 'text', with apostrophes doubled.
std::string quoted_name(const std::string& name);
std::string text_literal(const std::string& text);
std::string joined(const std::vector<std::string>& parts, std::string_view between);
// A power of ten, as a whole number.
std::string power_text(int digits);

}  // namespace juniper::sql_engine
