// ClickHouse's, in words that old and new versions understand. Whole numbers are Int64 as long as they fit, else
// Decimal128, since its integers wrap around; decimals have the scale that the model declares. It joins badly, so that
// values behind links are looked up (transform).
#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/calendar.h"
#include "language/operations.h"
#include "live/dialect.h"
#include "sql/dialect.h"

namespace juniper::live {

using namespace language;

namespace {

// The last day that versions of 2018 know, 2105-12-31.
constexpr int last_day = 49672;

// Exact numbers of up to so many bits stand in 64: Int64, or Decimal64, which has 18 digits. Others are Decimal128.
constexpr int narrow_bits(Type type) {
  return type.kind == TypeKind::integer ? 63 : 59;
}

}  // namespace

std::string clickhouse_text(const std::string& text) {
  std::string out = "'";
  for (const char c : text) {
    if (c == '\'' || c == '\\') out += '\\';
    out += c;
  }
  return out + "'";
}

std::string clickhouse_name(const std::string& name) {
  std::string out = "`";
  for (const char c : name) out += (c == '`' || c == '\\') ? std::string("\\") + c : std::string(1, c);
  return out + "`";
}

namespace {

// "Nullable(Decimal(10, 2))" without what says that it may be null, or how it is stored.
std::string bare(std::string native) {
  for (const std::string_view wrapper : {"Nullable(", "LowCardinality("}) {
    if (native.starts_with(wrapper)) return bare(native.substr(wrapper.size(), native.size() - wrapper.size() - 1));
  }
  return native;
}

class ClickhouseDialect final : public Dialect {
 public:
  std::string engine() const override { return "ClickHouse"; }

  Sql column(const std::string& name, const Column& column, const std::string& native) const override {
    const std::string type = bare(native);
    const int scale = column.type.scale;
    const auto wide = [&](int digits) { return digits > 18 ? 128 : 64; };
    switch (column.type.kind) {
      case TypeKind::integer: {
        if (column.part == base::FieldPart::round) break;
        for (const auto& [known, bits] :
             {std::pair{"Int8", 8}, std::pair{"UInt8", 8}, std::pair{"Int16", 16}, std::pair{"UInt16", 16},
              std::pair{"Int32", 32}, std::pair{"UInt32", 32}, std::pair{"Int64", 63}}) {
          if (type == known) return {name, bits};
        }
        // Beyond what signed integers of 64 bits hold.
        if (type == "UInt64") return {fmt::format("toDecimal128({}, 0)", name), 64};
        break;
      }
      case TypeKind::decimal:
        if (type.starts_with("Int") || type.starts_with("UInt"))
          return {fmt::format("toDecimal128({}, {})", name, scale), 63 + 4 * scale};
        if (type.starts_with("Decimal(")) {
          const std::size_t comma = type.find(',');
          const int digits = std::stoi(type.substr(8));
          const int there = std::stoi(type.substr(comma + 1));
          const int bits = (digits + scale - there) * 10 / 3 + 1;
          if (there == scale) return {name, bits};
          if (there < scale)
            return {fmt::format("toDecimal{}({}, {})", wide(digits + scale - there), name, scale), bits};
        }
        break;
      case TypeKind::real:
        if (type == "Float64") return {name};
        if (type == "Float32") return {fmt::format("toFloat64(toString({}))", name)};
        if (type.starts_with("Int") || type.starts_with("UInt") || type.starts_with("Decimal("))
          return {fmt::format("toFloat64({})", name)};
        break;
      case TypeKind::text:
        if (type == "String") return {name};
        if (type.starts_with("FixedString") || type.starts_with("Enum") || type == "UUID")
          return {fmt::format("toString({})", name)};
        break;
      case TypeKind::boolean:
        if (type == "UInt8" || type == "Int8" || type == "Bool") return {fmt::format("({} != 0)", name)};
        break;
      case TypeKind::date:
        if (type == "Date") return {name};
        if (type.starts_with("DateTime") && column.part == base::FieldPart::date)
          return {fmt::format("toDate({}, 'UTC')", name)};
        break;
      case TypeKind::datetime:
        // Of whole seconds.
        if (type == "DateTime" || type.starts_with("DateTime(")) return {name};
        break;
      case TypeKind::time:
        if (type.starts_with("DateTime") && column.part == base::FieldPart::time)
          return {fmt::format("(toInt64({}) % 86400 * 1000000)", name)};
        break;
    }
    refuse(engine(),
           fmt::format("the column {} is {} there, and {} in the model", column.header, native, to_string(column.type)),
           "declare it with the type that it has there");
  }

  Sql literal(const Value& value, Type type) const override {
    if (value.is_null()) return {"NULL", 1};
    const std::string text = to_text(value, type);
    switch (type.kind) {
      case TypeKind::boolean:
        return {value.exact() != 0 ? "1" : "0"};
      case TypeKind::integer:
      case TypeKind::decimal: {
        const int bits = bits_of(value);
        if (type.kind == TypeKind::integer && bits <= 63) return {fmt::format("toInt64({})", text), bits};
        return {fmt::format("toDecimal{}('{}', {})", bits <= narrow_bits(type) ? 64 : 128, text,
                            static_cast<int>(type.scale)),
                bits};
      }
      case TypeKind::real:
        return {fmt::format("toFloat64('{}')", text)};
      case TypeKind::text:
        return {clickhouse_text(value.text())};
      case TypeKind::date:
        if (value.exact() < 0 || value.exact() > last_day)
          refuse(engine(), fmt::format("its days begin in 1970 and end in 2105, and this is {}", text));
        return {fmt::format("toDate(toUInt16({}))", static_cast<std::int64_t>(value.exact()))};
      case TypeKind::datetime: {
        const std::int64_t second = 1'000'000;
        const auto moment = static_cast<std::int64_t>(value.exact());
        if (moment < 0 || moment / second > 4'294'967'295 || moment % second != 0)
          refuse(engine(), fmt::format("its moments are whole seconds from 1970 to 2106, and this is {}", text));
        return {fmt::format("toDateTime(toUInt32({}))", moment / second)};
      }
      case TypeKind::time:  // which stands there as microseconds
        return {fmt::format("toInt64({})", static_cast<std::int64_t>(value.exact()))};
    }
    return {text};
  }

  std::optional<int> bits(int needed) const override {
    return needed > most_bits ? std::nullopt : std::optional(needed);
  }

  std::string operation(const Node& node, const std::vector<Sql>& x, int bits, std::int64_t today) const override {
    const auto binary = [&](std::string_view word) { return fmt::format("({} {} {})", x[0].text, word, x[1].text); };
    // An exact operand in a width that holds the result.
    const auto exact = [&](std::size_t i) {
      const Type type = node.children[i]->type;
      if (bits > narrow_bits(node.type) || x[i].bits > narrow_bits(type))
        return fmt::format("toDecimal128({}, {})", x[i].text, static_cast<int>(type.scale));
      return type.kind == TypeKind::integer ? fmt::format("toInt64({})", x[i].text) : x[i].text;
    };
    const auto arithmetic = [&](std::string_view word) {
      if (!node.type.is_exact_number()) return binary(word);
      return fmt::format("({} {} {})", exact(0), word, exact(1));
    };
    const Type first = x.empty() ? Type{} : node.children[0]->type;
    switch (node.op) {
      case Op::add:
        if (first.kind == TypeKind::date) return binary("+");
        return arithmetic("+");
      case Op::subtract:
        return arithmetic("-");
      case Op::multiply:
        return arithmetic("*");
      case Op::divide: {
        // Of exact numbers, whole ones are divided, as there is a double for each of them.
        const int digits = first.is_exact_number() ? std::max(first.scale, node.children[1]->type.scale) : 0;
        const auto real = [&](std::size_t i) {
          if (digits == 0) return fmt::format("toFloat64({})", x[i].text);
          return fmt::format("toFloat64(toDecimal128('{}', 0) * toDecimal128({}, {}))", sql_engine::power_text(digits),
                             x[i].text, static_cast<int>(node.children[i]->type.scale));
        };
        return fmt::format("({} / nullIf({}, 0))", real(0), real(1));
      }
      case Op::int_divide:
      case Op::modulo:
        if (x[0].bits > 63 || x[1].bits > 63)
          refuse(engine(), "it divides whole numbers of 64 bits alone without a rest");
        // A zero in the place of a null would divide, too.
        return fmt::format("if({1} = 0, NULL, {2}(toInt64({0}), if({1} = 0, toInt64(1), toInt64({1}))))", x[0].text,
                           x[1].text, node.op == Op::modulo ? "modulo" : "intDiv");
      case Op::negate:
        return node.type.is_exact_number() ? fmt::format("(-{})", exact(0)) : fmt::format("(-{})", x[0].text);
      case Op::equal:
        return binary("=");
      case Op::not_equal:
        return binary("!=");
      case Op::less:
        return binary("<");
      case Op::less_equal:
        return binary("<=");
      case Op::is_distinct:
        return fmt::format("((isNull({0}) != isNull({1})) OR ifNull({0} != {1}, 0))", x[0].text, x[1].text);
      case Op::in: {
        // IN takes a null for something else.
        std::string any;
        for (std::size_t i = 1; i < x.size(); ++i) {
          const std::string is_this = fmt::format("ifNull(({} = {}) * 2, 1)", x[0].text, x[i].text);
          any = any.empty() ? is_this : fmt::format("greatest({}, {})", any, is_this);
        }
        return fmt::format("(nullIf({}, 1) != 0)", any);
      }
      case Op::like:
        return fmt::format("({} LIKE {})", x[0].text, x[1].text);
      case Op::and_:
      case Op::or_:
        // Versions of 2018 take a null and a false one for a null, and a null or a false one for false: so it is the
        // smaller or the larger of 0 (false), 1 (null) and 2 (true).
        return fmt::format("(nullIf({}(ifNull({} * 2, 1), ifNull({} * 2, 1)), 1) != 0)",
                           node.op == Op::and_ ? "least" : "greatest", x[0].text, x[1].text);
      case Op::not_:
        return fmt::format("(NOT {})", x[0].text);
      case Op::is_null:
        return fmt::format("isNull({})", x[0].text);
      case Op::concat:
        return fmt::format("concat({}, {})", x[0].text, x[1].text);
      case Op::cases: {
        std::string out = "multiIf(";
        for (std::size_t i = 0; i + 1 < x.size(); i += 2)
          out += fmt::format("ifNull({}, 0), {}, ", x[i].text, alike(node, i + 1, x));
        return out + alike(node, x.size() - 1, x) + ")";
      }
      case Op::rescale:
        return fmt::format("toDecimal{}({}, {})", bits > narrow_bits(node.type) ? 128 : 64, x[0].text,
                           static_cast<int>(node.type.scale));
      case Op::to_real:
        return first.kind == TypeKind::real ? x[0].text : fmt::format("toFloat64({})", x[0].text);
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
    switch (type.kind) {
      case TypeKind::real:
        return fmt::format("({} + 0)", x.text);  // both zeros are one value
      case TypeKind::datetime:
        return fmt::format("formatDateTime({}, '%F %T', 'UTC')", x.text);
      case TypeKind::integer:
        if (x.bits <= narrow_bits(type)) return x.text;
        return fmt::format("substring(toString({}), 1)", x.text);
      case TypeKind::decimal:
        // Versions of 2018 end where rows are grouped by several decimals of which some are null; they group by what an
        // injective function is of instead of by it.
        return fmt::format("substring(toString({}), 1)", x.text);
      case TypeKind::boolean:
      case TypeKind::text:
      case TypeKind::date:
      case TypeKind::time:
        break;
    }
    return x.text;
  }
  std::string sum(const Sql& x, Type type) const override {
    // Sums of integers wrap around at 64 bits, those of decimals have 128.
    if (type.kind == TypeKind::integer && x.bits > 32) return fmt::format("sum(toDecimal128({}, 0))", x.text);
    return fmt::format("sum({})", x.text);
  }
  std::optional<std::string> sum_check(const Sql& x, Type type) const override {
    constexpr int bits_of_rows = 34;
    if (!type.is_exact_number() || x.bits + bits_of_rows <= most_bits) return std::nullopt;
    return fmt::format("sum(toFloat64({}))", x.text);
  }
  std::string count_distinct(const Sql& x, Type) const override { return fmt::format("uniqExact({})", x.text); }
  std::string extreme(const Sql& x, Type type, bool least) const override {
    const std::string found = fmt::format("{}({})", least ? "min" : "max", x.text);
    return type.kind == TypeKind::datetime ? key({found}, type) : found;
  }
  std::optional<std::array<std::string, 3>> moments(const std::string& x) const override {
    return std::array{fmt::format("count({})", x), fmt::format("avg({})", x),
                      fmt::format("varPopStable({0}) * count({0})", x)};
  }
  std::optional<std::string> quantile(const std::string&, double) const override { return std::nullopt; }
  std::string where(const std::string& condition, const std::string& x) const override {
    return fmt::format("if(ifNull({}, 0), {}, NULL)", condition, x);
  }
  std::string among(const Sql& x, const std::vector<Value>& values, Type type) const override {
    if (values.empty()) return "0";
    std::string list;
    for (const Value& value : values) list += (list.empty() ? "" : ", ") + element(value, type);
    return fmt::format("(isNotNull({0}) AND {1} IN ({2}))", x.text, as_key(x, type), list);
  }
  Sql looked_up(const LookUp& look_up, From&) const override {
    const bool is_text = look_up.type.kind == TypeKind::text || look_up.type.kind == TypeKind::real;
    // Several keys are one text.
    const bool is_one = look_up.keys.size() == 1;
    const Type key_type = is_one ? look_up.key_types[0] : Type{TypeKind::text, 0};
    const auto key_of = [&](const std::vector<Value>& row) {
      if (is_one) return element(row[0], key_type);
      std::string joined;
      for (std::size_t k = 0; k < row.size(); ++k) {
        const bool as_text = is_text_key(look_up.key_types[k]);
        joined += (as_text ? to_text(row[k], look_up.key_types[k]) : to_string(row[k].exact())) + "\x1F";
      }
      return clickhouse_text(joined);
    };
    std::string key = as_key(look_up.keys[0], look_up.key_types[0]);
    if (!is_one) {
      key = "concat(";
      for (std::size_t k = 0; k < look_up.keys.size(); ++k) {
        key += fmt::format("{}toString({}), '\x1F'", k == 0 ? "" : ", ", as_key(look_up.keys[k], look_up.key_types[k]));
      }
      key += ")";
    }
    // A null stands there as something else, as no list holds one: as the number behind the largest, since the server
    // computes with what stands where a null is.
    int128 largest = 0;
    if (!is_text) {
      const auto look = [&](const Value& value) {
        if (!value.is_null()) largest = std::max(largest, value.exact());
      };
      for (const Value& value : look_up.values) look(value);
      look(look_up.otherwise);
    }
    const std::string null_number = to_string(largest + 1);
    const auto written = [&](const Value& value) -> std::string {
      // What its types do not hold is refused.
      if (look_up.type.kind == TypeKind::date || look_up.type.kind == TypeKind::datetime) literal(value, look_up.type);
      if (is_text) return clickhouse_text(value.is_null() ? "n" : "v" + to_text(value, look_up.type));
      return value.is_null() ? null_number : to_string(value.exact());
    };
    std::string keys;
    std::string values;
    for (std::size_t i = 0; i < look_up.rows.size(); ++i) {
      keys += (i == 0 ? "" : ",") + key_of(look_up.rows[i]);
      values += (i == 0 ? "" : ",") + written(look_up.values[i]);
    }
    const std::string otherwise =
        is_text ? written(look_up.otherwise) : fmt::format("toInt64({})", written(look_up.otherwise));
    if (keys.empty()) return {unpacked(otherwise, look_up.type, null_number), bits_of(look_up)};
    const std::string value = fmt::format("if(isNull({0}), {1}, transform(assumeNotNull({0}), {2}, {3}, {1}))", key,
                                          otherwise, list_of(keys, is_text_key(key_type)), list_of(values, is_text));
    return {unpacked(value, look_up.type, null_number), bits_of(look_up)};
  }
  bool joins() const override { return false; }
  std::string name(const std::string&, const std::string& column) const override { return clickhouse_name(column); }

 private:
  // A branch of a choice, in the one width of all.
  static std::string alike(const Node& node, std::size_t i, const std::vector<Sql>& x) {
    if (!node.type.is_exact_number() || x[i].text == "NULL") return x[i].text;
    bool wide = false;
    for (std::size_t k = 0; k < x.size(); ++k)
      wide = wide || (node.children[k]->type.is_exact_number() && x[k].bits > narrow_bits(node.type));
    if (node.type.kind == TypeKind::integer && !wide) return fmt::format("toInt64({})", x[i].text);
    return fmt::format("toDecimal{}({}, {})", wide ? 128 : 64, x[i].text, static_cast<int>(node.type.scale));
  }

  // Keys as texts and numbers alone.
  static bool is_text_key(Type type) { return type.kind == TypeKind::text || type.kind == TypeKind::decimal; }
  static std::string as_key(const Sql& x, Type type) {
    if (type.kind == TypeKind::text) return x.text;
    if (type.kind == TypeKind::date) return fmt::format("toInt64(toUInt16({}))", x.text);
    if (type.kind == TypeKind::decimal) return fmt::format("toString({})", x.text);
    return fmt::format("toInt64({})", x.text);
  }
  static std::string element(const Value& value, Type type) {
    return is_text_key(type) ? clickhouse_text(to_text(value, type)) : to_string(value.exact());
  }
  // A list as one literal: the server counts the parts of a statement, and many are too many.
  static std::string list_of(const std::string& elements, bool is_text) {
    return fmt::format("CAST({} AS Array({}))", clickhouse_text("[" + elements + "]"), is_text ? "String" : "Int64");
  }
  // What stands for a value in a look-up as the value.
  static std::string unpacked(const std::string& value, Type type, const std::string& null_number) {
    switch (type.kind) {
      case TypeKind::text:
        return fmt::format("if({0} = 'n', NULL, substring({0}, 2))", value);
      case TypeKind::real:
        return fmt::format("toFloat64OrNull(substring({}, 2))", value);
      case TypeKind::boolean:
        return fmt::format("(nullIf({}, {}) != 0)", value, null_number);
      case TypeKind::decimal:
        // A whole number of its last digit.
        return fmt::format("(toDecimal128(nullIf({}, {}), 0) * toDecimal128('{}', {}))", value, null_number,
                           "0." + std::string(static_cast<std::size_t>(type.scale) - (type.scale > 0 ? 1 : 0), '0') +
                               (type.scale > 0 ? "1" : ""),
                           static_cast<int>(type.scale));
      case TypeKind::date:
        return fmt::format("toDate(toUInt16(nullIf({}, {})))", value, null_number);
      case TypeKind::datetime:
        return fmt::format("toDateTime(toUInt32(intDiv(nullIf({}, {}), 1000000)))", value, null_number);
      case TypeKind::integer:
      case TypeKind::time:
        break;
    }
    return fmt::format("nullIf({}, {})", value, null_number);
  }

  // A zero; where the condition is true, an error instead, since the engine would wrap around.
  static std::string thrown_if(const std::string& condition) {
    return fmt::format("toInt64(throwIf(ifNull({}, 0)))", condition);
  }

  std::string call(const Node& node, const std::vector<Sql>& x, std::int64_t today) const {
    const Type first = x.empty() ? Type{} : node.children[0]->type;
    const bool is_exact = first.is_exact_number();
    const auto joined = [&](std::string_view name) {
      std::string list;
      for (const Sql& operand : x) list += (list.empty() ? "" : ", ") + operand.text;
      return fmt::format("{}({})", name, list);
    };
    // Of a time, which is a number there.
    const auto of_time = [&](std::int64_t unit, int most) {
      return fmt::format("(intDiv({}, {}) % {})", x[0].text, unit, most);
    };
    const bool is_time = first.kind == TypeKind::time;
    const auto of_moment = [&](std::string_view name) {
      return first.kind == TypeKind::datetime ? fmt::format("toInt64({}({}, 'UTC'))", name, x[0].text)
                                              : fmt::format("toInt64({}({}))", name, x[0].text);
    };
    const int digits = node.children.size() > 1 && node.function == Function::round
                           ? static_cast<int>(node.children[1]->literal.exact())
                           : 0;
    switch (node.function) {
      case Function::abs:
        return is_exact && x[0].bits <= narrow_bits(first) && first.kind == TypeKind::integer
                   ? fmt::format("abs(toInt64({}))", x[0].text)
                   : fmt::format("abs({})", is_exact ? fmt::format("toDecimal128({}, {})", x[0].text,
                                                                   static_cast<int>(first.scale))
                                                     : x[0].text);
      case Function::round:
        if (first.kind == TypeKind::real) {
          return fmt::format("(if({0} < 0, -1, 1) * floor(abs({0}) * {1} + 0.5) / {1})", x[0].text,
                             sql_engine::power_text(digits));
        }
        if (first.scale == 0) return x[0].text;
        return fmt::format("toDecimal128(round({}, {}), {})", x[0].text, digits, static_cast<int>(node.type.scale));
      case Function::sqrt:
        return fmt::format("if({0} >= 0, sqrt({0}), NULL)", x[0].text);
      case Function::ln:
        return fmt::format("if({0} > 0, log({0}), NULL)", x[0].text);
      case Function::coalesce: {
        if (!node.type.is_exact_number()) return joined("coalesce");
        std::string list;
        for (std::size_t i = 0; i < x.size(); ++i) list += (list.empty() ? "" : ", ") + alike(node, i, x);
        return fmt::format("coalesce({})", list);
      }
      case Function::length:
        return fmt::format("toInt64(lengthUTF8({}))", x[0].text);
      case Function::starts_with:
        return joined("startsWith");
      case Function::ends_with:
        return joined("endsWith");
      case Function::contains:
        return fmt::format("(position({}, {}) > 0)", x[0].text, x[1].text);
      case Function::year:
        return of_moment("toYear");
      case Function::quarter:
        return of_moment("toQuarter");
      case Function::month:
        return of_moment("toMonth");
      case Function::day:
        return of_moment("toDayOfMonth");
      case Function::weekday:
        return of_moment("toDayOfWeek");
      case Function::week:
        return of_moment("toISOWeek");
      case Function::hour:
        return is_time ? of_time(3'600'000'000, 24) : of_moment("toHour");
      case Function::minute:
        return is_time ? of_time(60'000'000, 60) : of_moment("toMinute");
      case Function::second:
        return is_time ? of_time(1'000'000, 60) : of_moment("toSecond");
      case Function::date:
        return fmt::format("toDate({}, 'UTC')", x[0].text);
      case Function::time:
        return fmt::format("(toInt64({}) % 86400 * 1000000)", x[0].text);
      case Function::datetime:
        return fmt::format("toDateTime(toUInt32(toInt64(toUInt16({})) * 86400 + intDiv({}, 1000000)))", x[0].text,
                           x[1].text);
      case Function::add_days: {
        const std::string day = fmt::format("(toInt64(toUInt16({})) + toInt64({}))", x[0].text, x[1].text);
        return fmt::format("toDate(toUInt16({} + {}))", day,
                           thrown_if(fmt::format("{0} < 0 OR {0} > {1}", day, last_day)));
      }
      case Function::add_months:
      case Function::add_years: {
        const std::string months = node.function == Function::add_months ? fmt::format("toInt64({})", x[1].text)
                                                                         : fmt::format("(toInt64({}) * 12)", x[1].text);
        const std::string month =
            fmt::format("(toInt64(toYear({0})) * 12 + toInt64(toMonth({0})) - 1 + {1})", x[0].text, months);
        return fmt::format("addMonths({}, toInt32({} + {}))", x[0].text, months,
                           thrown_if(fmt::format("{0} < 1970 * 12 OR {0} >= 2106 * 12", month)));
      }
      case Function::end_of:
        switch (static_cast<base::Unit>(node.children[1]->literal.exact())) {
          case base::Unit::day:
            return x[0].text;
          case base::Unit::week:
            return fmt::format("(toMonday({}) + 6)", x[0].text);
          case base::Unit::month:
            return fmt::format("(addMonths(toStartOfMonth({}), 1) - 1)", x[0].text);
          case base::Unit::quarter:
            return fmt::format("(addMonths(toStartOfQuarter({}), 3) - 1)", x[0].text);
          case base::Unit::year:
            return fmt::format("(addMonths(toStartOfYear({}), 12) - 1)", x[0].text);
        }
        return "NULL";
      case Function::sign:
        return fmt::format("multiIf({0} > 0, 1, {0} < 0, -1, {0} = 0, 0, NULL)",
                           is_exact ? fmt::format("toFloat64({})", x[0].text) : x[0].text);
      case Function::trim:
        return fmt::format("replaceRegexpAll({}, '^ +| +$', '')", x[0].text);
      case Function::substring: {
        // Places are constants there.
        for (std::size_t i = 1; i < x.size(); ++i) {
          if (node.children[i]->op != Op::literal || node.children[i]->literal.is_null())
            refuse_function(engine(), node);
        }
        constexpr int128 farthest = 1'000'000'000;
        const auto place = [&](int128 number) {
          return static_cast<std::int64_t>(std::clamp<int128>(number, 1, farthest));
        };
        const int128 at = node.children[1]->literal.exact();
        const int128 count = x.size() == 2 ? farthest : std::max<int128>(node.children[2]->literal.exact(), 0);
        const std::int64_t begin = place(at);
        return fmt::format("substringUTF8({}, {}, {})", x[0].text, begin, place(at + count) - begin);
      }
      case Function::least:
      case Function::greatest: {
        // Nulls are left out.
        std::string extreme = is_exact ? alike(node, 0, x) : x[0].text;
        for (std::size_t i = 1; i < x.size(); ++i) {
          const std::string next = is_exact ? alike(node, i, x) : x[i].text;
          extreme = fmt::format("multiIf(isNull({0}), {1}, isNull({1}), {0}, ifNull({1} {2} {0}, 0), {1}, {0})",
                                extreme, next, node.function == Function::least ? "<" : ">");
        }
        return extreme;
      }
      case Function::days_between:
        return fmt::format("(toInt64(toUInt16({})) - toInt64(toUInt16({})))", x[1].text, x[0].text);
      case Function::start_of:
        switch (static_cast<base::Unit>(node.children[1]->literal.exact())) {
          case base::Unit::day:
            return x[0].text;
          case base::Unit::week:
            return fmt::format("toMonday({})", x[0].text);
          case base::Unit::month:
            return fmt::format("toStartOfMonth({})", x[0].text);
          case base::Unit::quarter:
            return fmt::format("toStartOfQuarter({})", x[0].text);
          case base::Unit::year:
            return fmt::format("toStartOfYear({})", x[0].text);
        }
        return "NULL";
      case Function::today:
        return literal(Value::of(static_cast<int128>(today)), {TypeKind::date, 0}).text;
      case Function::floor:
      case Function::ceil:
      case Function::trunc:
        if (first.kind == TypeKind::real)
          return joined(node.function == Function::floor ? "floor"
                                                         : (node.function == Function::ceil ? "ceil" : "trunc"));
        if (first.scale == 0) return x[0].text;
        {
          const std::string number = fmt::format("toDecimal128({}, {})", x[0].text, static_cast<int>(first.scale));
          const std::string below = fmt::format("toDecimal128(floor({}), 0)", number);
          const std::string above = fmt::format("toDecimal128(ceil({}), 0)", number);
          if (node.function == Function::floor) return below;
          if (node.function == Function::ceil) return above;
          return fmt::format("if(ifNull({} < 0, 0), {}, {})", number, above, below);
        }
      case Function::exp:
        return fmt::format("multiIf({0} < -700, 0, {0} < 709.7, exp({0}), NULL)", x[0].text);
      case Function::power:
      case Function::upper:
      case Function::lower:
      case Function::replace:
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

std::unique_ptr<Dialect> clickhouse_dialect() {
  return std::make_unique<ClickhouseDialect>();
}

}  // namespace juniper::live
