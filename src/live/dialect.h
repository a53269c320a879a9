// What the engines on which tables are live write differently. An operand is a text of SQL; exact numbers know how many
// bits they may take, so that what could leave the engine's integers is computed in wider ones, or refused.
#pragma once

#include <array>
#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "base/field_part.h"
#include "language/checked.h"

namespace juniper::live {

// So many bits a number may have that comes back.
inline constexpr int most_bits = 126;

struct Sql {
  std::string text;
  int bits = 64;  // of an exact number, in units of its last digit
};

// Values of a table that is not on the engine, by the key that leads to its rows.
struct LookUp {
  std::vector<Sql> keys;  // operands
  std::vector<Type> key_types;
  std::vector<std::vector<Value>> rows;  // of each key; none of them null
  std::vector<Value> values;             // of each row
  Value otherwise;                       // where no row has the key, or it is null
  Type type;                             // of the values
};

// What stands in FROM and before the statement, as operands ask for it.
struct From {
  std::vector<std::string> before;  // "m$1(k0, v) AS (VALUES …)"
  std::string tables;               // "public.sessions AS t$0 LEFT JOIN …"
  int aliases = 0;
};

// Operands of the many and of the one side of a link that are equal.
struct JoinedKey {
  std::string many;
  std::string one;
};

class Dialect {
 public:
  virtual ~Dialect() = default;

  // "PostgreSQL"
  virtual std::string engine() const = 0;

  // A column of a table as an operand of its declared type. `native` is the type that it has there, "" where the engine
  // tells none. Throws a base::Failure with JR-713 where such a column can't hold the declared type exactly.
  virtual Sql column(const std::string& name, const language::Column& column, const std::string& native) const = 0;
  virtual Sql literal(const Value& value, Type type) const = 0;
  // The bits that an exact result is kept with that may need so many; nothing where it can't be.
  virtual std::optional<int> bits(int needed) const = 0;
  // A scalar operation; `bits` are those of an exact result. Throws a base::Failure with JR-713 for what the engine has not.
  virtual std::string operation(const language::Node& node, const std::vector<Sql>& x, int bits,
                                std::int64_t today) const = 0;
  // A value as it is grouped by, and as it comes back.
  virtual std::string key(const Sql& x, Type type) const = 0;
  // Of the values of x, nulls left out.
  virtual std::string sum(const Sql& x, Type type) const = 0;
  // The same sum in reals, where the exact one may wrap around unnoticed.
  virtual std::optional<std::string> sum_check(const Sql&, Type) const { return std::nullopt; }
  virtual std::string count_distinct(const Sql& x, Type type) const = 0;
  virtual std::string extreme(const Sql& x, Type type, bool least) const = 0;
  // Of reals: their number, mean, and sum of squared deviations; nothing where the engine computes none that is stable.
  virtual std::optional<std::array<std::string, 3>> moments(const std::string& x) const = 0;
  // Of reals, between two neighbours linearly; nothing where the engine has none.
  virtual std::optional<std::string> quantile(const std::string& x, double fraction) const = 0;
  // x where a condition is true, else null.
  virtual std::string where(const std::string& condition, const std::string& x) const = 0;
  // x, one of few literals.
  virtual std::string among(const Sql& x, const std::vector<Value>& values, Type type) const = 0;
  // The value that a key has in a look-up.
  virtual Sql looked_up(const LookUp& look_up, From& from) const = 0;
  // Whether a table that is live on the same place is joined, or its values are looked up.
  virtual bool joins() const = 0;
  // Adds a table to FROM, each of whose rows is that of any number of rows there.
  virtual void join(const std::string& relation, const std::string& alias, const std::vector<JoinedKey>& keys,
                    From& from) const;
  // A column by its name, of a table in FROM under an alias (of which there is one where nothing is joined).
  virtual std::string name(const std::string& alias, const std::string& column) const;
};

std::unique_ptr<Dialect> postgresql_dialect();
std::unique_ptr<Dialect> sqlite_dialect();
std::unique_ptr<Dialect> clickhouse_dialect();
// A name, or a text, in ClickHouse's quotes.
std::string clickhouse_name(const std::string& name);
std::string clickhouse_text(const std::string& text);

// Throws a base::Failure with JR-713: what an engine can't do, and what to do instead.
[[noreturn]] void refuse(const std::string& engine, const std::string& what, const std::string& suggestion = "");

// The same for a function that an engine has not.
[[noreturn]] void refuse_function(const std::string& engine, const language::Node& node);

// How many bits a number takes, or the largest of those in a look-up.
int bits_of(const Value& number);
int bits_of(const LookUp& look_up);

// A look-up as a table of values that is joined, for engines that join well.
Sql joined_look_up(const LookUp& look_up, From& from, const std::function<std::string(const Value&, Type)>& literal);

}  // namespace juniper::live
