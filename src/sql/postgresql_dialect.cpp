// PostgreSQL's: the tables' columns become numbers in a query of their own in front (WITH), and what the engine lacks,
// or answers with an error where the language has a null, is a function of the session (pg_temp).
#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/diagnostics.h"
#include "base/exact.h"
#include "base/failure.h"
#include "language/lexer.h"
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
    Helper{"units_from",
           R"(FUNCTION pg_temp.units_from(t text, scale int) RETURNS numeric LANGUAGE sql IMMUTABLE
AS $$ SELECT CASE WHEN units = trunc(units) AND units BETWEEN -9223372036854775808 AND 9223372036854775807
  THEN trunc(units) END
FROM (SELECT CASE WHEN btrim(t, ' ') ~ '^[-+]?([0-9]+[.]?[0-9]*|[.][0-9]+)$' AND (scale >= 0 OR strpos(t, '.') = 0)
  THEN btrim(t, ' ')::numeric * power(10::numeric, greatest(scale, 0)) END AS units) u $$)"},
    Helper{"real_from",
           R"(FUNCTION pg_temp.real_from(t text) RETURNS double precision LANGUAGE plpgsql IMMUTABLE AS $$
BEGIN
  IF btrim(t, ' ') !~ '^[-+]?([0-9]+[.]?[0-9]*|[.][0-9]+)([eE][-+]?[0-9]+)?$' THEN RETURN NULL; END IF;
  RETURN btrim(t, ' ')::double precision + 0;
EXCEPTION WHEN numeric_value_out_of_range THEN RETURN NULL;
END $$)"},
    Helper{"day_from",
           R"(FUNCTION pg_temp.day_from(y int, m int, d int) RETURNS numeric LANGUAGE sql IMMUTABLE
AS $$ SELECT CASE WHEN y >= 1 AND m BETWEEN 1 AND 12 AND d >= 1
    AND d <= extract(day FROM make_date(y, m, 1) + interval '1 month' - interval '1 day')
  THEN make_date(y, m, d) - date '1970-01-01' END FROM (SELECT 1) one WHERE y >= 1 AND m BETWEEN 1 AND 12 $$)"},
    Helper{
        "date_from",
        R"(FUNCTION pg_temp.date_from(t text, spelled text, y int, m int, d int) RETURNS numeric LANGUAGE sql IMMUTABLE
AS $$ SELECT pg_temp.day_from(p[y]::int, p[m]::int, p[d]::int) FROM (SELECT regexp_match(btrim(t, ' '), spelled) AS p) q $$)"},
    Helper{
        "datetime_from",
        R"(FUNCTION pg_temp.datetime_from(t text, spelled text, y int, m int, d int) RETURNS numeric LANGUAGE sql IMMUTABLE
AS $$ SELECT CASE WHEN p[4]::int <= 23 AND p[5]::int <= 59 AND coalesce(p[6], '0')::int <= 59
  THEN pg_temp.day_from(p[y]::int, p[m]::int, p[d]::int) * 86400000000
    + ((p[4]::int * 60 + p[5]::int) * 60 + coalesce(p[6], '0')::int) * 1000000::numeric
    + rpad(coalesce(p[7], ''), 6, '0')::int END
FROM (SELECT regexp_match(btrim(t, ' '), spelled) AS p) q $$)"},
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
      const std::string name = helper.name;
      const bool rests = (name == "add_months" && uses("spans_between")) ||
                         (name == "day_from" && (uses("date_from") || uses("datetime_from")));
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
      case Function::text:
        return node.children.size() > 1 ? patterned(node, x[0]) : exact_text_of(first, x[0]);
      case Function::integer_from:
        return fmt::format("pg_temp.units_from({}, -1)", x[0]);
      case Function::decimal_from:
        return fmt::format("pg_temp.units_from({}, {})", x[0], static_cast<int>(node.type.scale));
      case Function::real_from:
        return fmt::format("pg_temp.real_from({})", x[0]);
      case Function::date_from:
      case Function::datetime_from:
        return moment_from(node, x[0]);
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
  // The exact text of a value.
  static std::string exact_text_of(Type type, const std::string& x) {
    const auto collated = [](const std::string& text) { return fmt::format("({} COLLATE \"C\")", text); };
    const std::string time = fmt::format(
        "to_char(time '00:00' + mod(mod({0}, {1}) + {1}, {1})::double precision * interval '1 microsecond', "
        "'HH24:MI:SS.US')",
        x, base::microseconds_per_day);
    const auto day = [&](const std::string& days) {
      return fmt::format("to_char(pg_temp.day_of({}), 'YYYY-MM-DD')", days);
    };
    const auto trimmed_time = [&] {
      return fmt::format("rtrim(rtrim({}, '0'), '.')", "replace(" + time + ", '.000000', '.')");
    };
    switch (type.kind) {
      case TypeKind::boolean:
        return collated(fmt::format("CASE WHEN {0} THEN 'true' WHEN NOT {0} THEN 'false' END", x));
      case TypeKind::integer:
        return collated(fmt::format("round({})::text", x));
      case TypeKind::decimal:
        return collated(fmt::format("round({} * {}, {})::text", x, scale_text(type.scale), type.scale));
      case TypeKind::real:
        return collated(fmt::format("({})::text", x));
      case TypeKind::text:
        return x;
      case TypeKind::date:
        return collated(day(x));
      case TypeKind::datetime:
        return collated(fmt::format("{} || ' ' || {}", day(fmt::format("pg_temp.floor_divide({}, 86400000000)", x)),
                                    trimmed_time()));
      case TypeKind::time:
        return collated(trimmed_time());
    }
    return x;
  }

  // A pattern in the letters of to_char; those that it has none for are refused.
  static std::string patterned(const Node& node, const std::string& x) {
    const Type type = node.children[0]->type;
    const std::string& pattern = node.children[1]->literal.text();
    const std::string letters = type.is_number() ? number_letters(pattern) : moment_letters(pattern);
    if (letters.empty() || type.kind == TypeKind::real) {
      throw base::Failure(base::error(
          "JR-712",
          fmt::format("PostgreSQL has no way to write a value of type {} by the pattern {}", to_string(type),
                      written_text(pattern)),
          "its patterns are of whole numbers and decimals, as #,##0.00 and 0.0%, and of yyyy, MM, dd, HH, mm and ss"));
    }
    if (type.is_number()) {
      const bool percent = pattern.ends_with('%');
      return fmt::format(
          "(rtrim(to_char({} * {}::numeric, {}), '.'){} COLLATE \"C\")", x,
          percent ? scale_text(std::max(type.scale - 2, 0)) + (type.scale < 2 ? " * " + power_text(2 - type.scale) : "")
                  : scale_text(type.scale),
          text_literal(letters), percent ? " || '%'" : "");
    }
    const bool is_date = type.kind == TypeKind::date;
    const std::string moment = is_date ? fmt::format("pg_temp.day_of({})", x)
                                       : fmt::format(
                                             "(timestamp '1970-01-01' + pg_temp.floor_divide({0}, 1000000)::double "
                                             "precision * interval '1 second')",
                                             x);
    return fmt::format("(to_char({}, {}) COLLATE \"C\")", moment, text_literal(letters));
  }
  // "#,##0.0#": groups of three or none, at least one digit, decimals that are always there before those that may be.
  static std::string number_letters(std::string_view pattern) {
    if (pattern.ends_with('%')) pattern.remove_suffix(1);
    const std::size_t point = std::min(pattern.find('.'), pattern.size());
    const std::string_view whole = pattern.substr(0, point);
    if (whole != "0" && whole != "#,##0" && whole != "#0") return "";
    std::string letters = "FM";
    const bool grouped = whole == "#,##0";
    for (int digit = 38; digit > 1; --digit) {
      letters += '9';
      if (grouped && digit % 3 == 1) letters += ',';
    }
    letters += '0';
    if (point == pattern.size()) return letters;
    letters += '.';
    bool optional = false;
    for (const char c : pattern.substr(point + 1)) {
      if ((c != '0' && c != '#') || (c == '0' && optional)) return "";
      optional = c == '#';
      letters += c == '0' ? '0' : '9';
    }
    return letters;
  }
  static std::string moment_letters(std::string_view pattern) {
    static constexpr std::array<std::pair<std::string_view, std::string_view>, 12> words{{{"yyyy", "YYYY"},
                                                                                          {"MMMM", "FMMonth"},
                                                                                          {"MMM", "Mon"},
                                                                                          {"MM", "MM"},
                                                                                          {"M", "FMMM"},
                                                                                          {"dd", "DD"},
                                                                                          {"d", "FMDD"},
                                                                                          {"EEEE", "FMDay"},
                                                                                          {"EEE", "Dy"},
                                                                                          {"HH", "HH24"},
                                                                                          {"mm", "MI"},
                                                                                          {"ss", "SS"}}};
    std::string letters;
    while (!pattern.empty()) {
      const std::size_t run = std::min(pattern.find_first_not_of(pattern[0]), pattern.size());
      const bool is_letter = (pattern[0] >= 'a' && pattern[0] <= 'z') || (pattern[0] >= 'A' && pattern[0] <= 'Z');
      if (is_letter) {
        const auto* const word =
            std::find_if(words.begin(), words.end(), [&](const auto& w) { return w.first == pattern.substr(0, run); });
        if (word == words.end()) return "";
        letters += word->second;
      } else if (pattern[0] == '\'' || pattern[0] == '"' || pattern[0] == '\\') {
        return "";
      } else {
        letters.append("\"").append(pattern.substr(0, run)).append("\"");
      }
      pattern.remove_prefix(run);
    }
    return letters;
  }

  // A pattern of dates as a regular expression with a group for each number, and which of these is what.
  static std::string moment_from(const Node& node, const std::string& x) {
    const bool has_time = node.function == Function::datetime_from;
    const bool is_own = node.children.size() == 1;
    const std::string pattern = is_own ? "yyyy-MM-dd" : node.children[1]->literal.text();
    std::string spelled = "^";
    std::string order;
    for (std::size_t i = 0; i < pattern.size(); ++i) {
      const char c = pattern[i];
      if (std::string_view("dMyHms").find(c) == std::string_view::npos) {
        const bool is_mark = static_cast<unsigned char>(c) < 0x80 && c != 'T';
        spelled += is_mark ? fmt::format("\\{}", c) : std::string(1, c);
        continue;
      }
      const std::size_t run = std::min(pattern.find_first_not_of(c, i), pattern.size()) - i;
      spelled += run == 1 ? "([0-9]{1,2})" : fmt::format("([0-9]{{{}}})", run);
      order += c;
      i += run - 1;
    }
    if (has_time && is_own) spelled += "[ T]([0-9]{2}):([0-9]{2})(?::([0-9]{2})(?:[.]([0-9]{1,6}))?)?";
    const auto place = [&](char letter) { return order.find(letter) + 1; };
    return fmt::format("pg_temp.{}({}, {}, {}, {}, {})", has_time ? "datetime_from" : "date_from", x,
                       text_literal(spelled + "$"), place('y'), place('M'), place('d'));
  }

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
