// PostgreSQL's: the tables' columns become numbers in a query of their own in front (WITH), and what the engine lacks,
// or answers with an error where the language has a null, is a function of the session (pg_temp).
#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/exact.h"
#include "sql/dialect.h"

namespace juniper::sql_engine {

using namespace language;

namespace {

constexpr std::array units{"day", "week", "month", "quarter", "year"};

struct Helper {
  const char* name;
  const char* definition;
};

// In the order in which they rest on each other.
constexpr std::array helpers{
    Helper{"floor_divide", R"(FUNCTION pg_temp.floor_divide(a numeric, b numeric) RETURNS numeric LANGUAGE sql IMMUTABLE
AS $$ SELECT div(a, b) - CASE WHEN mod(a, b) < 0 THEN 1 ELSE 0 END $$)"},
    Helper{"day_of", R"(FUNCTION pg_temp.day_of(day numeric) RETURNS date LANGUAGE sql IMMUTABLE
AS $$ SELECT date '1970-01-01' + day::int $$)"},
    Helper{"start_of", R"(FUNCTION pg_temp.start_of(day numeric, unit text) RETURNS numeric LANGUAGE sql IMMUTABLE
AS $$ SELECT date_trunc(unit, (date '1970-01-01' + day::int)::timestamp)::date - date '1970-01-01' $$)"},
    Helper{"end_of", R"(FUNCTION pg_temp.end_of(day numeric, unit text) RETURNS numeric LANGUAGE sql IMMUTABLE
AS $$ SELECT (date_trunc(unit, (date '1970-01-01' + day::int)::timestamp)
              + CASE unit WHEN 'quarter' THEN interval '3 months' ELSE ('1 ' || unit)::interval END)::date
             - 1 - date '1970-01-01' $$)"},
    Helper{"moved",
           R"(FUNCTION pg_temp.moved(day numeric, count numeric, unit text) RETURNS numeric LANGUAGE sql IMMUTABLE
AS $$ SELECT CASE WHEN moved BETWEEN -719162 AND 2932896 THEN moved END FROM (SELECT CASE
  WHEN abs(count) > 4000000 THEN NULL
  WHEN unit IN ('day', 'week') THEN day + count * CASE unit WHEN 'week' THEN 7 ELSE 1 END
  WHEN abs(count * CASE unit WHEN 'month' THEN 1 WHEN 'quarter' THEN 3 ELSE 12 END) > 150000 THEN NULL
  ELSE ((date '1970-01-01' + day::int)::timestamp
        + make_interval(months => (count * CASE unit WHEN 'month' THEN 1 WHEN 'quarter' THEN 3 ELSE 12 END)::int))::date
       - date '1970-01-01' END AS moved) m $$)"},
    Helper{"add_months",
           R"(FUNCTION pg_temp.add_months(day numeric, months numeric) RETURNS numeric LANGUAGE sql IMMUTABLE
AS $$ SELECT ((date '1970-01-01' + day::int)::timestamp + make_interval(months => months::int))::date
             - date '1970-01-01' $$)"},
    Helper{"spans_between",
           R"(FUNCTION pg_temp.spans_between(a numeric, b numeric, months numeric) RETURNS double precision
LANGUAGE plpgsql IMMUTABLE STRICT AS $$
DECLARE
  spans numeric;
  last numeric;
BEGIN
  IF b < a THEN RETURN -pg_temp.spans_between(b, a, months); END IF;
  spans := div(12 * (extract(year FROM date '1970-01-01' + b::int) - extract(year FROM date '1970-01-01' + a::int))
               + extract(month FROM date '1970-01-01' + b::int) - extract(month FROM date '1970-01-01' + a::int), months);
  IF pg_temp.add_months(a, spans * months) > b THEN spans := spans - 1; END IF;
  last := pg_temp.add_months(a, spans * months);
  RETURN spans + (b - last)::double precision / (pg_temp.add_months(a, (spans + 1) * months) - last);
END $$)"},
    Helper{"exp_of", R"(FUNCTION pg_temp.exp_of(x double precision) RETURNS double precision LANGUAGE sql IMMUTABLE
AS $$ SELECT CASE WHEN x < -700 THEN 0 WHEN x < 709.7 THEN exp(x) END $$)"},
    Helper{"power_of",
           R"(FUNCTION pg_temp.power_of(a double precision, b double precision) RETURNS double precision
LANGUAGE sql IMMUTABLE AS $$ SELECT CASE
  WHEN a = 0 AND b < 0 OR a < 0 AND b <> trunc(b) THEN NULL
  WHEN a <> 0 AND b * ln(abs(a)) > 709.7 THEN NULL
  WHEN a <> 0 AND b * ln(abs(a)) < -700 THEN 0
  ELSE power(a, b) END $$)"},
    Helper{"text_place", R"(FUNCTION pg_temp.text_place(x numeric, lowest numeric) RETURNS int LANGUAGE sql IMMUTABLE
AS $$ SELECT CASE WHEN x < lowest THEN lowest WHEN x > 1000000000 THEN 1000000000 ELSE x END::int $$)"},
};

class PostgresqlDialect final : public Dialect {
 public:
  std::string table(const Table& table) const override { return quoted_name(table.name + "$"); }

  std::string literal(const Value& v, Type type) const override {
    switch (v.kind()) {
      case Value::Kind::null:
        return "NULL::" + value_type(type);
      case Value::Kind::exact:
        if (type.kind == TypeKind::boolean) return v.exact() != 0 ? "TRUE" : "FALSE";
        return fmt::format("({}::numeric)", base::exact_text(v.exact(), 0));
      case Value::Kind::real:
        return fmt::format("({:.17e}::double precision)", v.real());
      case Value::Kind::text:
        return text_literal(v.text()) + " COLLATE \"C\"";
    }
    return "NULL";
  }

  std::string same(const std::string& a, const std::string& b) const override {
    return fmt::format("({} IS NOT DISTINCT FROM {})", a, b);
  }

  std::string aggregate_of_x(const Node& node) const override {
    const Type type = node.children.empty() ? Type{} : node.children.front()->type;
    const bool boolean = type.kind == TypeKind::boolean;
    switch (node.aggregate) {
      case Aggregate::count:
        return "COUNT(x)";
      case Aggregate::count_distinct:
        return "COUNT(DISTINCT x)";
      case Aggregate::sum:
        return "SUM(x)";
      case Aggregate::avg:
        if (type.kind == TypeKind::real) return "AVG(x)";
        return fmt::format("SUM(x)::double precision / NULLIF(COUNT(x) * {}, 0)", power_text(type.scale));
      case Aggregate::min:
      case Aggregate::every:
        return boolean ? "BOOL_AND(x)" : "MIN(x)";
      case Aggregate::max:
      case Aggregate::any:
        return boolean ? "BOOL_OR(x)" : "MAX(x)";
      case Aggregate::product:
        return type.kind == TypeKind::real ? "pg_temp.product_real(x)" : "pg_temp.product(x)";
      case Aggregate::median:
        return "percentile_cont(0.5) WITHIN GROUP (ORDER BY x)";
      case Aggregate::quantile:
        return fmt::format("percentile_cont({:.17e}) WITHIN GROUP (ORDER BY x)", node.literal.real());
      case Aggregate::variance:
        return "VAR_SAMP(x)";
      case Aggregate::variance_pop:
        return "VAR_POP(x)";
      case Aggregate::stddev:
        return "STDDEV_SAMP(x)";
      case Aggregate::stddev_pop:
        return "STDDEV_POP(x)";
      case Aggregate::row_count:
      case Aggregate::first:
      case Aggregate::last:
      case Aggregate::list:
      case Aggregate::rank:
      case Aggregate::exists:
      case Aggregate::only:
        return fmt::format("CASE WHEN COUNT(*) = COUNT(x) AND COUNT(DISTINCT x) = 1 THEN {}(x) END",
                           boolean ? "BOOL_AND" : "MIN");
    }
    return "NULL";
  }

  std::string list(const std::string& subquery, const std::string& separator, const std::string& order) const override {
    return fmt::format("(SELECT string_agg(x, {} ORDER BY {}) FROM {} WHERE x IS NOT NULL)", separator, order,
                       subquery);
  }

  std::string start_of(const std::string& day, base::Unit unit) const override {
    return fmt::format("pg_temp.start_of({}, '{}')", day, units[static_cast<std::size_t>(unit)]);
  }
  std::string end_of(const std::string& day, base::Unit unit) const override {
    return fmt::format("pg_temp.end_of({}, '{}')", day, units[static_cast<std::size_t>(unit)]);
  }
  std::string moved(const std::string& day, const std::string& count, base::Unit unit) const override {
    return fmt::format("pg_temp.moved({}, {}, '{}')", day, count, units[static_cast<std::size_t>(unit)]);
  }

  std::string before(const std::string& statement, const CheckedModel& model, const std::vector<TableIndex>& used,
                     const Texts& parts) const override {
    std::string out;
    const auto uses = [&](const std::string& name) {
      const auto calls = [&](const std::string& text) {
        return text.find("pg_temp." + name + "(") != std::string::npos;
      };
      return calls(statement) || std::any_of(parts.begin(), parts.end(), calls);
    };
    for (const Helper& helper : helpers) {
      const bool rests = helper.name == std::string("add_months") && uses("spans_between");
      if (rests || uses(helper.name)) out += fmt::format("CREATE OR REPLACE {};\n", helper.definition);
    }
    if (uses("product"))
      out += "CREATE OR REPLACE AGGREGATE pg_temp.product(numeric) (SFUNC = numeric_mul, STYPE = numeric);\n";
    if (uses("product_real"))
      out += "CREATE OR REPLACE AGGREGATE pg_temp.product_real(float8) (SFUNC = float8mul, STYPE = float8);\n";
    Texts tables;
    for (const TableIndex t : used) {
      const Table& table = model.tables[t];
      std::string columns = "row_number() OVER () - 1 AS \"row$\"";
      for (const Column& column : table.columns)
        columns +=
            fmt::format(",\n    {} AS {}", as_value(quoted_name(column.name), column.type), quoted_name(column.name));
      tables.push_back(fmt::format("{} AS MATERIALIZED (\n  SELECT {}\n  FROM {})", this->table(table), columns,
                                   quoted_name(table.name)));
    }
    tables.insert(tables.end(), parts.begin(), parts.end());
    return out + (tables.empty() ? "" : "WITH " + joined(tables, ",\n") + "\n");
  }

  std::string shown(const std::string& column, Type type) const override {
    std::string text;
    switch (type.kind) {
      case TypeKind::integer:
        text = fmt::format("{}::numeric", column);
        break;
      case TypeKind::decimal:
        text = fmt::format("round({}::numeric * {}, {})", column, scale_text(type.scale), type.scale);
        break;
      case TypeKind::date:
        text = fmt::format("date '1970-01-01' + {}::int", column);
        break;
      case TypeKind::datetime:
        // By days and the rest: a double holds no microseconds of far ones.
        text = fmt::format(
            "(date '1970-01-01' + (({0} - mod(mod({0}, {1}) + {1}, {1})) / {1})::int)"
            " + mod(mod({0}, {1}) + {1}, {1})::double precision * interval '1 microsecond'",
            column, base::microseconds_per_day);
        break;
      case TypeKind::time:
        text = fmt::format("time '00:00' + {}::double precision * interval '1 microsecond'", column);
        break;
      case TypeKind::boolean:
      case TypeKind::real:
      case TypeKind::text:
        return column;
    }
    return text + " AS " + column;
  }

 protected:
  std::string divide(const Node& node, const Texts& x) const override {
    const Type a = node.children[0]->type;
    const Type b = node.children[1]->type;
    if (a.kind == TypeKind::real) return fmt::format("({} / NULLIF({}, 0::double precision))", x[0], x[1]);
    return fmt::format("(({} * {})::double precision / NULLIF({} * {}, 0)::double precision)", x[0],
                       power_text(std::max(0, b.scale - a.scale)), x[1], power_text(std::max(0, a.scale - b.scale)));
  }
  std::string whole_divide(const std::string& a, const std::string& b) const override {
    return fmt::format("div({}, {})", a, b);
  }
  std::string remainder(const std::string& a, const std::string& b) const override {
    return fmt::format("mod({}, {})", a, b);
  }
  std::string distinct(const std::string& a, const std::string& b) const override {
    return fmt::format("({} IS DISTINCT FROM {})", a, b);
  }
  std::string like(const std::string& text, const std::string& pattern) const override {
    return fmt::format("({} LIKE {} ESCAPE '')", text, pattern);
  }
  std::string to_real(const std::string& x, int scale) const override {
    return fmt::format("({}::double precision / {}::double precision)", x, power_text(scale));
  }
  std::string rounded_real(Function function, const std::string& x, int digits) const override {
    if (function == Function::round) {
      return fmt::format("(sign({0}) * floor(abs({0}) * {1}::double precision + 0.5) / {1}::double precision)", x,
                         power_text(digits));
    }
    return fmt::format("{}({})",
                       function == Function::floor  ? "floor"
                       : function == Function::ceil ? "ceil"
                                                    : "trunc",
                       x);
  }
  std::string extreme(const Texts& x, bool least) const override {
    return fmt::format("{}({})", least ? "least" : "greatest", joined(x, ", "));
  }

  std::string call(const Node& node, const Texts& x) const override {
    const Type first = x.empty() ? Type{} : node.children[0]->type;
    const std::string day =
        first.kind == TypeKind::datetime ? fmt::format("pg_temp.floor_divide({}, 86400000000)", x[0]) : x[0];
    const auto date_part = [&](std::string_view part) {
      return fmt::format("extract({} FROM pg_temp.day_of({}))", part, day);
    };
    const std::string microsecond =
        first.kind == TypeKind::datetime ? fmt::format("({} - {} * 86400000000)", x[0], day) : (x.empty() ? "" : x[0]);
    const std::string second = fmt::format("div({}, 1000000)", microsecond);
    switch (node.function) {
      case Function::sign:
        return fmt::format("sign({})::numeric", x[0]);
      case Function::sqrt:
        return fmt::format("sqrt(CASE WHEN {0} >= 0 THEN {0} END)", x[0]);
      case Function::exp:
        return fmt::format("pg_temp.exp_of({})", x[0]);
      case Function::ln:
        return fmt::format("ln(CASE WHEN {0} > 0 THEN {0} END)", x[0]);
      case Function::power:
        return fmt::format("pg_temp.power_of({}, {})", x[0], x[1]);
      case Function::upper:
      case Function::lower:
        return fmt::format("({}({} COLLATE \"und-x-icu\") COLLATE \"C\")",
                           node.function == Function::upper ? "upper" : "lower", x[0]);
      case Function::substring:
        if (x.size() == 2) return fmt::format("substr({}, pg_temp.text_place({}, 1))", x[0], x[1]);
        return fmt::format(
            "substr({0}, pg_temp.text_place({1}, 1), pg_temp.text_place({1} + CASE WHEN {2} < 0 THEN 0 ELSE {2} END, "
            "1) "
            "- pg_temp.text_place({1}, 1))",
            x[0], x[1], x[2]);
      case Function::starts_with:
        return fmt::format("starts_with({}, {})", x[0], x[1]);
      case Function::ends_with:
        return fmt::format("(right({0}, length({1})) = {1})", x[0], x[1]);
      case Function::contains:
        return fmt::format("(strpos({0}, {1}) > 0)", x[0], x[1]);
      case Function::year:
        return date_part("year");
      case Function::quarter:
        return date_part("quarter");
      case Function::month:
        return date_part("month");
      case Function::day:
        return date_part("day");
      case Function::weekday:
        return date_part("isodow");
      case Function::week:
        return date_part("week");
      case Function::hour:
        return fmt::format("div({}, 3600)", second);
      case Function::minute:
        return fmt::format("mod(div({}, 60), 60)", second);
      case Function::second:
        return fmt::format("mod({}, 60)", second);
      case Function::date:
        return day;
      case Function::time:
        return microsecond;
      case Function::months_between:
        return fmt::format("pg_temp.spans_between({}, {}, 1)", x[0], x[1]);
      case Function::years_between:
        return fmt::format("pg_temp.spans_between({}, {}, 12)", x[0], x[1]);
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

 private:
  static std::string value_type(Type type) {
    switch (type.kind) {
      case TypeKind::real:
        return "double precision";
      case TypeKind::text:
        return "text";
      case TypeKind::boolean:
        return "boolean";
      case TypeKind::integer:
      case TypeKind::decimal:
      case TypeKind::date:
      case TypeKind::datetime:
      case TypeKind::time:
        return "numeric";
    }
    return "numeric";
  }
  // 0.001 for three digits: dividing would round to fewer digits than a number may have.
  static std::string scale_text(int scale) {
    return scale == 0 ? "1" : "0." + std::string(static_cast<std::size_t>(scale) - 1, '0') + "1";
  }
  // A column of a table as a value.
  static std::string as_value(const std::string& column, Type type) {
    switch (type.kind) {
      case TypeKind::integer:
        return column + "::numeric";
      case TypeKind::decimal:
        return fmt::format("round({} * {})", column, power_text(type.scale));
      case TypeKind::text:
        return column + " COLLATE \"C\"";
      case TypeKind::date:
        return fmt::format("({} - date '1970-01-01')::numeric", column);
      case TypeKind::datetime:
      case TypeKind::time:
        return fmt::format("round(extract(epoch FROM {}) * 1000000)", column);
      case TypeKind::boolean:
      case TypeKind::real:
        return column;
    }
    return column;
  }
};

}  // namespace

std::unique_ptr<Dialect> postgresql_dialect() {
  return std::make_unique<PostgresqlDialect>();
}

}  // namespace juniper::sql_engine
