// SQLite's: no dates and no booleans, and functions that sql/sqlite.h registers.
#include <fmt/format.h>

#include <algorithm>

#include "base/exact.h"
#include "sql/dialect.h"

namespace juniper::sql_engine {

using namespace language;

namespace {

class SqliteDialect final : public Dialect {
 public:
  std::string table(const Table& table) const override { return quoted_name(table.name); }

  std::string literal(const Value& v, Type) const override {
    switch (v.kind()) {
      case Value::Kind::null:
        return "NULL";
      case Value::Kind::exact:
        return base::exact_text(v.exact(), 0);
      case Value::Kind::real:
        return fmt::format("{:.17e}", v.real());
      case Value::Kind::text:
        return text_literal(v.text());
    }
    return "NULL";
  }

  std::string same(const std::string& a, const std::string& b) const override { return fmt::format("{} IS {}", a, b); }

  std::string finite(const std::string& real) const override {
    return fmt::format("nullif(nullif({}, 9e999), -9e999)", real);
  }

  std::string aggregate_of_x(const Node& node) const override {
    switch (node.aggregate) {
      case Aggregate::count:
        return "COUNT(x)";
      case Aggregate::count_distinct:
        return "COUNT(DISTINCT x)";
      case Aggregate::sum:
        return "SUM(x)";
      case Aggregate::avg:
        if (node.children[0]->type.kind == TypeKind::real) return "AVG(x)";
        return fmt::format("CAST(SUM(x) AS REAL) / (COUNT(x) * {})", power_text(node.children[0]->type.scale));
      case Aggregate::min:
      case Aggregate::every:
        return "MIN(x)";
      case Aggregate::max:
      case Aggregate::any:
        return "MAX(x)";
      case Aggregate::product:
        return "product(x)";
      case Aggregate::median:
        return "quantile(x, 0.5)";
      case Aggregate::quantile:
        return fmt::format("quantile(x, {:.17e})", node.literal.real());
      case Aggregate::variance:
        return "variance(x, 1)";
      case Aggregate::variance_pop:
        return "variance(x, 0)";
      case Aggregate::stddev:
        return "sqrt(variance(x, 1))";
      case Aggregate::stddev_pop:
        return "sqrt(variance(x, 0))";
      case Aggregate::row_count:
      case Aggregate::first:
      case Aggregate::last:
      case Aggregate::list:
      case Aggregate::rank:
      case Aggregate::exists:
      case Aggregate::only:
        return "CASE WHEN COUNT(*) = COUNT(x) AND COUNT(DISTINCT x) = 1 THEN MIN(x) END";
    }
    return "NULL";
  }

  std::string list(const std::string& subquery, const std::string& separator, const std::string& order) const override {
    return fmt::format("(SELECT group_concat(x, {}) FROM (SELECT x FROM {} WHERE x IS NOT NULL ORDER BY {}))",
                       separator, subquery, order);
  }

  std::string start_of(const std::string& day, base::Unit unit) const override {
    return fmt::format("start_of({}, {})", day, static_cast<int>(unit));
  }
  std::string end_of(const std::string& day, base::Unit unit) const override {
    return fmt::format("end_of({}, {})", day, static_cast<int>(unit));
  }
  std::string moved(const std::string& day, const std::string& count, base::Unit unit) const override {
    return fmt::format("moved({}, {}, {})", day, count, static_cast<int>(unit));
  }

  std::string before(const std::string&, const CheckedModel&, const std::vector<TableIndex>&,
                     const Texts& parts) const override {
    return parts.empty() ? "" : "WITH " + joined(parts, ",\n") + "\n";
  }
  std::string shown(const std::string& column, Type) const override { return column; }

 protected:
  std::string divide(const Node& node, const Texts& x) const override {
    const Type a = node.children[0]->type;
    const Type b = node.children[1]->type;
    if (a.kind == TypeKind::real) return fmt::format("({} / NULLIF({}, 0.0))", x[0], x[1]);
    return fmt::format("(CAST({} * {} AS REAL) / NULLIF({} * {}, 0))", x[0], power_text(std::max(0, b.scale - a.scale)),
                       x[1], power_text(std::max(0, a.scale - b.scale)));
  }
  std::string whole_divide(const std::string& a, const std::string& b) const override {
    return fmt::format("({} / {})", a, b);
  }
  std::string remainder(const std::string& a, const std::string& b) const override {
    return fmt::format("({} % {})", a, b);
  }
  std::string distinct(const std::string& a, const std::string& b) const override {
    return fmt::format("({} IS NOT {})", a, b);
  }
  std::string like(const std::string& text, const std::string& pattern) const override {
    return fmt::format("({} LIKE {})", text, pattern);
  }
  std::string to_real(const std::string& x, int scale) const override {
    return fmt::format("(CAST({} AS REAL) / {}.0)", x, power_text(scale));
  }
  std::string rounded_real(Function function, const std::string& x, int digits) const override {
    if (function == Function::round) return fmt::format("round_real({}, {})", x, digits);
    return fmt::format("{}({})",
                       function == Function::floor ? "floor" : (function == Function::ceil ? "ceil" : "trunc"), x);
  }
  std::string extreme(const Texts& x, bool least) const override {
    std::string all = x[0];
    for (std::size_t i = 1; i < x.size(); ++i)
      all = fmt::format("coalesce({0}({1}, {2}), {1}, {2})", least ? "min" : "max", all, x[i]);
    return all;
  }

  std::string call(const Node& node, const Texts& x) const override {
    const Type first = x.empty() ? Type{} : node.children[0]->type;
    const std::string day =
        first.kind == TypeKind::datetime ? fmt::format("floor_divide({}, 86400000000)", x[0]) : x[0];
    const auto date_part = [&](std::string_view format) {
      return fmt::format("CAST(strftime('{}', {} * 86400, 'unixepoch') AS INTEGER)", format, day);
    };
    const auto second_of_day = [&] {
      return first.kind == TypeKind::datetime
                 ? fmt::format("(({0} - floor_divide({0}, 86400000000) * 86400000000) / 1000000)", x[0])
                 : fmt::format("({} / 1000000)", x[0]);
    };
    switch (node.function) {
      case Function::sign:
        return fmt::format("CAST(sign({}) AS INTEGER)", x[0]);
      case Function::sqrt:
        return fmt::format("sqrt({})", x[0]);
      case Function::exp:
        return fmt::format("exp({})", x[0]);
      case Function::ln:
        return fmt::format("ln({})", x[0]);
      case Function::power:
        // A negative power of zero is infinite, which is null.
        return fmt::format("pow(CASE WHEN {1} < 0 THEN NULLIF({0}, 0.0) ELSE {0} END, {1})", x[0], x[1]);
      case Function::upper:
      case Function::lower:
        return fmt::format("{}_text({})", node.function == Function::upper ? "upper" : "lower", x[0]);
      case Function::substring:
        if (x.size() == 2) return fmt::format("substr({}, max({}, 1))", x[0], x[1]);
        return fmt::format("substr({0}, max({1}, 1), max({1} + max({2}, 0), 1) - max({1}, 1))", x[0], x[1], x[2]);
      case Function::starts_with:
        return fmt::format("(substr({0}, 1, length({1})) = {1})", x[0], x[1]);
      case Function::ends_with:
        return fmt::format(
            "(CASE WHEN length({1}) = 0 AND {0} IS NOT NULL THEN 1 ELSE length({0}) >= length({1}) AND "
            "substr({0}, -length({1})) = {1} END)",
            x[0], x[1]);
      case Function::contains:
        return fmt::format("(instr({0}, {1}) > 0)", x[0], x[1]);
      case Function::year:
        return date_part("%Y");
      case Function::quarter:
        return fmt::format("(({} + 2) / 3)", date_part("%m"));
      case Function::month:
        return date_part("%m");
      case Function::day:
        return date_part("%d");
      case Function::weekday:
        return fmt::format("(({} + 6) % 7 + 1)", date_part("%w"));
      case Function::week:
        return fmt::format("iso_week({})", day);
      case Function::hour:
        return fmt::format("({} / 3600)", second_of_day());
      case Function::minute:
        return fmt::format("({} / 60 % 60)", second_of_day());
      case Function::second:
        return fmt::format("({} % 60)", second_of_day());
      case Function::date:
        return day;
      case Function::time:
        return fmt::format("({0} - floor_divide({0}, 86400000000) * 86400000000)", x[0]);
      case Function::months_between:
        return fmt::format("months_between({}, {})", x[0], x[1]);
      case Function::years_between:
        return fmt::format("years_between({}, {})", x[0], x[1]);
      case Function::text:
        return fmt::format("text_of({}, {}, {}, {})", x[0], static_cast<int>(first.kind), static_cast<int>(first.scale),
                           x.size() > 1 ? x[1] : "''");
      case Function::integer_from:
        return fmt::format("integer_from({})", x[0]);
      case Function::decimal_from:
        return fmt::format("decimal_from({}, {})", x[0], static_cast<int>(node.type.scale));
      case Function::real_from:
        return fmt::format("real_from({})", x[0]);
      case Function::date_from:
        return fmt::format("date_from({}, {})", x[0], x.size() > 1 ? x[1] : "''");
      case Function::datetime_from:
        return fmt::format("datetime_from({}, {})", x[0], x.size() > 1 ? x[1] : "''");
      case Function::abs:
      case Function::round:
      case Function::floor:
      case Function::ceil:
      case Function::trunc:
      case Function::least:
      case Function::greatest:
      case Function::coalesce:
      case Function::length:
      case Function::trim:
      case Function::replace:
      case Function::datetime:
      case Function::add_days:
      case Function::add_months:
      case Function::add_years:
      case Function::days_between:
      case Function::start_of:
      case Function::end_of:
      case Function::today:
        return "NULL";
    }
    return "NULL";
  }
};

}  // namespace

std::unique_ptr<Dialect> sqlite_dialect() {
  return std::make_unique<SqliteDialect>();
}

}  // namespace juniper::sql_engine
