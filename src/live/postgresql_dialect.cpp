// PostgreSQL's: values stand in its own types, so that its indexes and its fast arithmetic serve. Whole numbers are bigint
// as long as they fit, else numeric; decimals are numeric; texts compare by code point (COLLATE "C").
#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>

#include "base/calendar.h"
#include "base/exact.h"
#include "language/operations.h"
#include "live/dialect.h"
#include "sql/dialect.h"

namespace juniper::live {

using namespace language;

namespace {

constexpr std::array unit_words{"day", "week", "month", "quarter", "year"};

// The digits that a numeric(p,s) has behind its point; nothing where none are declared.
std::optional<int> scale_of(const std::string& native) {
  const std::size_t comma = native.find(',');
  if (!native.starts_with("numeric(") || comma == std::string::npos) return std::nullopt;
  return std::stoi(native.substr(comma + 1));
}

class PostgresqlDialect final : public Dialect {
 public:
  std::string engine() const override { return "PostgreSQL"; }

  Sql column(const std::string& name, const Column& column, const std::string& native) const override {
    constexpr std::string_view blurred = "blurred ";
    if (native.starts_with(blurred)) {
      const Sql text = this->column(name, column, native.substr(blurred.size()));
      return {fmt::format("({} COLLATE \"C\")", text.text)};
    }
    const auto misfit = [&] {
      refuse(
          engine(),
          fmt::format("the column {} is {} there, and {} in the model", column.header, native, to_string(column.type)),
          "declare it with the type that it has there");
    };
    const bool is_whole = native == "smallint" || native == "integer" || native == "bigint";
    const bool is_text = native == "text" || native.starts_with("character") || native == "name" || native == "uuid" ||
                         native == "\"char\"" || native == "USER-DEFINED";
    const bool has_zone = native == "timestamp with time zone";
    const bool is_moment = has_zone || native == "timestamp without time zone";
    const std::string moment = has_zone ? fmt::format("({} AT TIME ZONE 'UTC')", name) : name;
    switch (column.type.kind) {
      case TypeKind::integer:
        if (column.part == base::FieldPart::round) break;
        if (native == "smallint") return {name, 15};
        if (native == "integer") return {name, 31};
        if (native == "bigint") return {name, 63};
        if (scale_of(native) == 0) return {name, 100};
        break;
      case TypeKind::decimal:
        if (is_whole) return {name + "::numeric", 63 + 4 * column.type.scale};
        if (column.part == base::FieldPart::round && native.starts_with("numeric"))
          return {fmt::format("round({}, {})", name, static_cast<int>(column.type.scale)), 100};
        if (scale_of(native) && *scale_of(native) <= column.type.scale) return {name, 100};
        break;
      case TypeKind::real:
        if (native == "double precision") return {name};
        // As many digits as tell the number.
        if (native == "real") return {fmt::format("{}::text::double precision", name)};
        if (is_whole || native.starts_with("numeric")) return {name + "::double precision"};
        break;
      case TypeKind::text:
        if (native == "text" || native == "character varying") return {name};
        if (is_text) return {name + "::text"};
        break;
      case TypeKind::boolean:
        if (native == "boolean") return {name};
        break;
      case TypeKind::date:
        if (native == "date") return {name};
        if (is_moment && column.part == base::FieldPart::date) return {moment + "::date"};
        break;
      case TypeKind::datetime:
        if (is_moment) return {moment};
        break;
      case TypeKind::time:
        if (native == "time without time zone") return {name};
        if (is_moment && column.part == base::FieldPart::time) return {moment + "::time"};
        break;
    }
    misfit();
    return {};
  }

  Sql literal(const Value& value, Type type) const override {
    if (value.is_null()) return {"NULL::" + name_of(type), 1};
    const std::string text = to_text(value, type);
    switch (type.kind) {
      case TypeKind::boolean:
        return {value.exact() != 0 ? "TRUE" : "FALSE"};
      case TypeKind::integer:
      case TypeKind::decimal: {
        const int bits = bits_of(value);
        const std::string written = value.exact() < 0 ? fmt::format("({})", text) : text;
        return {type.kind == TypeKind::decimal ? written + "::numeric" : written, bits};
      }
      case TypeKind::real:
        return {fmt::format("'{}'::double precision", text)};
      case TypeKind::text:
        return {sql_engine::text_literal(value.text())};
      case TypeKind::date:
        return {fmt::format("DATE '{}'", text)};
      case TypeKind::datetime:
        return {fmt::format("TIMESTAMP '{}'", text)};
      case TypeKind::time:
        return {fmt::format("TIME '{}'", text)};
    }
    return {text};
  }

  // Its numeric has no end.
  std::optional<int> bits(int needed) const override { return std::min(needed, most_bits); }

  std::string operation(const Node& node, const std::vector<Sql>& x, int bits, std::int64_t today) const override {
    const auto binary = [&](std::string_view word) { return fmt::format("({} {} {})", x[0].text, word, x[1].text); };
    // Whole numbers in the narrower of two widths that hold the result.
    const auto whole = [&](const Sql& operand) {
      if (node.type.kind != TypeKind::integer) return operand.text;
      return operand.text + (bits <= 62 ? "::bigint" : "::numeric");
    };
    const auto arithmetic = [&](std::string_view word) {
      return fmt::format("({} {} {})", whole(x[0]), word, whole(x[1]));
    };
    const Type first = x.empty() ? Type{} : node.children[0]->type;
    const auto compared = [&](std::string_view word) {
      return fmt::format("({}{} {} {})", x[0].text, first.kind == TypeKind::text ? " COLLATE \"C\"" : "", word,
                         x[1].text);
    };
    switch (node.op) {
      case Op::add:
        return arithmetic("+");
      case Op::subtract:
        return arithmetic("-");
      case Op::multiply:
        return arithmetic("*");
      case Op::divide: {
        // Of exact numbers, whole ones are divided, as there is a double for each of them.
        const int digits = first.is_exact_number() ? std::max(first.scale, node.children[1]->type.scale) : 0;
        const auto whole_number = [&](const Sql& operand) {
          return digits == 0 ? operand.text : fmt::format("({} * {})", operand.text, sql_engine::power_text(digits));
        };
        return fmt::format("({}::double precision / NULLIF({}::double precision, 0))", whole_number(x[0]),
                           whole_number(x[1]));
      }
      case Op::int_divide:
        return fmt::format("div({}::numeric, NULLIF({}::numeric, 0))", x[0].text, x[1].text);
      case Op::modulo:
        return fmt::format("mod({}::numeric, NULLIF({}::numeric, 0))", x[0].text, x[1].text);
      case Op::negate:
        return fmt::format("(-({}))", whole(x[0]));
      case Op::equal:
        return binary("=");
      case Op::not_equal:
        return binary("<>");
      case Op::less:
        return compared("<");
      case Op::less_equal:
        return compared("<=");
      case Op::is_distinct:
        return binary("IS DISTINCT FROM");
      case Op::in: {
        std::string list;
        for (std::size_t i = 1; i < x.size(); ++i) list += (i == 1 ? "" : ", ") + x[i].text;
        return fmt::format("({} IN ({}))", x[0].text, list);
      }
      case Op::like:
        return fmt::format("({} COLLATE \"C\" LIKE {} ESCAPE '')", x[0].text, x[1].text);
      case Op::and_:
        return binary("AND");
      case Op::or_:
        return binary("OR");
      case Op::not_:
        return fmt::format("(NOT {})", x[0].text);
      case Op::is_null:
        return fmt::format("({} IS NULL)", x[0].text);
      case Op::concat:
        return binary("||");
      case Op::cases: {
        std::string out = "(CASE";
        for (std::size_t i = 0; i + 1 < x.size(); i += 2)
          out += fmt::format(" WHEN {} THEN {}", x[i].text, x[i + 1].text);
        return out + fmt::format(" ELSE {} END)", x.back().text);
      }
      case Op::rescale:
        return x[0].text + "::numeric";
      case Op::to_real:
        return x[0].text + "::double precision";
      case Op::call:
        return call(node, x, today);
      case Op::literal:
      case Op::column:
      case Op::field:
      case Op::name:
      case Op::measure:
      case Op::modified:
      case Op::let:
      case Op::aggregate:
      case Op::grouping:
        break;
    }
    return "NULL";
  }

  std::string key(const Sql& x, Type type) const override {
    // Both zeros are one value; equal texts are equal byte by byte.
    if (type.kind == TypeKind::real) return fmt::format("({} + 0)", x.text);
    return type.kind == TypeKind::text ? fmt::format("({} COLLATE \"C\")", x.text) : x.text;
  }
  std::string sum(const Sql& x, Type) const override { return fmt::format("SUM({})", x.text); }
  std::string count_distinct(const Sql& x, Type type) const override {
    return fmt::format("COUNT(DISTINCT {})", key(x, type));
  }
  std::string extreme(const Sql& x, Type type, bool least) const override {
    if (type.kind == TypeKind::boolean) return fmt::format("{}({})", least ? "BOOL_AND" : "BOOL_OR", x.text);
    return fmt::format("{}({})", least ? "MIN" : "MAX", key(x, type));
  }
  std::optional<std::array<std::string, 3>> moments(const std::string& x) const override {
    return std::array{fmt::format("COUNT({})", x), fmt::format("AVG({})", x),
                      fmt::format("VAR_POP({0}) * COUNT({0})", x)};
  }
  std::optional<std::string> quantile(const std::string& x, double fraction) const override {
    return fmt::format("percentile_cont({:.17e}) WITHIN GROUP (ORDER BY {})", fraction, x);
  }
  std::string where(const std::string& condition, const std::string& x) const override {
    return fmt::format("CASE WHEN {} THEN {} END", condition, x);
  }
  std::string among(const Sql& x, const std::vector<Value>& values, Type type) const override {
    if (values.empty()) return "FALSE";
    std::string list;
    for (const Value& value : values) list += (list.empty() ? "" : ", ") + literal(value, type).text;
    return fmt::format("{} IN ({})", x.text, list);
  }
  Sql looked_up(const LookUp& look_up, From& from) const override {
    return joined_look_up(look_up, from, [&](const Value& value, Type type) {
      // The first row of a table of values tells its types.
      const std::string text = literal(value, type).text;
      return type.kind == TypeKind::text || type.kind == TypeKind::integer ? text + "::" + name_of(type) : text;
    });
  }
  bool joins() const override { return true; }

 private:
  static std::string name_of(Type type) {
    switch (type.kind) {
      case TypeKind::boolean:
        return "boolean";
      case TypeKind::integer:
        return "bigint";
      case TypeKind::decimal:
        return "numeric";
      case TypeKind::real:
        return "double precision";
      case TypeKind::text:
        return "text";
      case TypeKind::date:
        return "date";
      case TypeKind::datetime:
        return "timestamp";
      case TypeKind::time:
        return "time";
    }
    return "text";
  }

  static int digits_of(const Node& node) {
    return node.children.size() > 1 ? static_cast<int>(node.children[1]->literal.exact()) : 0;
  }

  std::string call(const Node& node, const std::vector<Sql>& x, std::int64_t today) const {
    const Type first = x.empty() ? Type{} : node.children[0]->type;
    const auto joined = [&](std::string_view name) {
      std::string list;
      for (const Sql& operand : x) list += (list.empty() ? "" : ", ") + operand.text;
      return fmt::format("{}({})", name, list);
    };
    const auto part = [&](std::string_view field) {
      return fmt::format("extract({} FROM {})::bigint", field, x[0].text);
    };
    const auto unit = [&] { return unit_words[static_cast<std::size_t>(node.children[1]->literal.exact())]; };
    const auto interval = [&](const char* field) {
      return fmt::format("({} + make_interval({} => {}::int))::date", x[0].text, field, x[1].text);
    };
    switch (node.function) {
      case Function::abs:
        return fmt::format("abs({}{})", x[0].text, first.kind == TypeKind::integer ? "::numeric" : "");
      case Function::sign:
        return joined("sign");
      case Function::round:
        if (first.kind == TypeKind::real) {
          return fmt::format("(sign({0}) * floor(abs({0}) * {1}::double precision + 0.5) / {1}::double precision)",
                             x[0].text, sql_engine::power_text(digits_of(node)));
        }
        return fmt::format("round({}::numeric, {})", x[0].text, digits_of(node));
      case Function::floor:
      case Function::ceil:
      case Function::trunc:
        return fmt::format("{}({}{})",
                           node.function == Function::floor  ? "floor"
                           : node.function == Function::ceil ? "ceil"
                                                             : "trunc",
                           x[0].text, first.kind == TypeKind::real ? "" : "::numeric");
      case Function::sqrt:
        return fmt::format("sqrt(CASE WHEN {0} >= 0 THEN {0} END)", x[0].text);
      case Function::ln:
        return fmt::format("ln(CASE WHEN {0} > 0 THEN {0} END)", x[0].text);
      case Function::exp:
        return fmt::format("(CASE WHEN {0} < -700 THEN 0 WHEN {0} < 709.7 THEN exp({0}) END)", x[0].text);
      case Function::least:
      case Function::greatest: {
        std::string list;
        for (const Sql& operand : x) {
          list += (list.empty() ? "" : ", ") + operand.text;
          if (node.type.kind == TypeKind::text) list += " COLLATE \"C\"";
        }
        return fmt::format("{}({})", node.function == Function::least ? "least" : "greatest", list);
      }
      case Function::coalesce:
        return joined("coalesce");
      case Function::length:
        return joined("length");
      case Function::trim:
        return joined("btrim");
      case Function::replace:
        return joined("replace");
      case Function::upper:
      case Function::lower:
        return fmt::format("({}({} COLLATE \"und-x-icu\") COLLATE \"C\")",
                           node.function == Function::upper ? "upper" : "lower", x[0].text);
      case Function::starts_with:
        return joined("starts_with");
      case Function::ends_with:
        return fmt::format("(right({0}, length({1})) = {1})", x[0].text, x[1].text);
      case Function::contains:
        return fmt::format("(strpos({}, {}) > 0)", x[0].text, x[1].text);
      case Function::substring: {
        const auto place = [](const std::string& number) {
          return fmt::format("greatest(1, least({}, 1000000000))::int", number);
        };
        const std::string begin = place(x[1].text);
        if (x.size() == 2) return fmt::format("substr({}, {})", x[0].text, begin);
        const std::string end = place(fmt::format("({} + greatest({}, 0))", x[1].text, x[2].text));
        return fmt::format("substr({0}, {1}, {2} - {1})", x[0].text, begin, end);
      }
      case Function::year:
        return part("year");
      case Function::quarter:
        return part("quarter");
      case Function::month:
        return part("month");
      case Function::day:
        return part("day");
      case Function::weekday:
        return part("isodow");
      case Function::week:
        return part("week");
      case Function::hour:
        return part("hour");
      case Function::minute:
        return part("minute");
      case Function::second:
        return fmt::format("floor(extract(second FROM {}))::bigint", x[0].text);
      case Function::date:
        return fmt::format("{}::date", x[0].text);
      case Function::time:
        return fmt::format("{}::time", x[0].text);
      case Function::datetime:
        return fmt::format("({} + {})", x[0].text, x[1].text);
      case Function::days_between:
        return fmt::format("({} - {})", x[1].text, x[0].text);
      case Function::add_days:
        return interval("days");
      case Function::add_months:
        return interval("months");
      case Function::add_years:
        return interval("years");
      case Function::start_of:
        return fmt::format("date_trunc('{}', {}::timestamp)::date", unit(), x[0].text);
      case Function::end_of:
        return fmt::format("((date_trunc('{}', {}::timestamp) + interval '{}')::date - 1)", unit(), x[0].text,
                           std::string_view(unit()) == "quarter" ? "3 months" : fmt::format("1 {}", unit()));
      case Function::today:
        return literal(Value::of(static_cast<int128>(today)), {TypeKind::date, 0}).text;
      case Function::power:
      case Function::months_between:
      case Function::years_between:
      case Function::text:
      case Function::integer_from:
      case Function::decimal_from:
      case Function::real_from:
      case Function::date_from:
      case Function::datetime_from:
        refuse_function(engine(), node);
    }
    return "NULL";
  }
};

}  // namespace

std::unique_ptr<Dialect> postgresql_dialect() {
  return std::make_unique<PostgresqlDialect>();
}

}  // namespace juniper::live
