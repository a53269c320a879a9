// What the dialects share: operations of standard SQL.
#include "sql/dialect.h"

#include <fmt/format.h>

#include "base/exact.h"
#include "base/sql_name.h"

namespace juniper::sql_engine {

using namespace language;

std::string quoted_name(const std::string& name) {
  return base::sql_name(name);
}

std::string text_literal(const std::string& text) {
  std::string out = "'";
  for (const char c : text) out += c == '\'' ? std::string("''") : std::string(1, c);
  return out + "'";
}

std::string joined(const std::vector<std::string>& parts, std::string_view between) {
  std::string out;
  for (const std::string& part : parts) out += (out.empty() ? "" : std::string(between)) + part;
  return out;
}

std::string power_text(int digits) {
  return base::exact_text(base::power_of_ten(digits), 0);
}

std::string Dialect::operation(const Node& node, const Texts& x, std::int64_t today) const {
  const auto binary = [&](std::string_view word) { return fmt::format("({} {} {})", x[0], word, x[1]); };
  switch (node.op) {
    case Op::add:
      return binary("+");
    case Op::subtract:
      return binary("-");
    case Op::multiply:
      return binary("*");
    case Op::divide:
      return divide(node, x);
    case Op::int_divide:
      return whole_divide(x[0], fmt::format("NULLIF({}, 0)", x[1]));
    case Op::modulo:
      return remainder(x[0], fmt::format("NULLIF({}, 0)", x[1]));
    case Op::negate:
      return fmt::format("(-({}))", x[0]);
    case Op::equal:
      return binary("=");
    case Op::not_equal:
      return binary("<>");
    case Op::less:
      return binary("<");
    case Op::less_equal:
      return binary("<=");
    case Op::is_distinct:
      return distinct(x[0], x[1]);
    case Op::in:
      return fmt::format("({} IN ({}))", x[0], joined({x.begin() + 1, x.end()}, ", "));
    case Op::like:
      return like(x[0], x[1]);
    case Op::and_:
      return binary("AND");
    case Op::or_:
      return binary("OR");
    case Op::not_:
      return fmt::format("(NOT {})", x[0]);
    case Op::is_null:
      return fmt::format("({} IS NULL)", x[0]);
    case Op::concat:
      return binary("||");
    case Op::cases: {
      std::string out = "(CASE";
      for (std::size_t i = 0; i + 1 < x.size(); i += 2) out += fmt::format(" WHEN {} THEN {}", x[i], x[i + 1]);
      return out + fmt::format(" ELSE {} END)", x.back());
    }
    case Op::rescale:
      return fmt::format("({} * {})", x[0], power_text(node.type.scale - node.children[0]->type.scale));
    case Op::to_real:
      return node.children[0]->type.kind == TypeKind::real ? x[0] : to_real(x[0], node.children[0]->type.scale);
    case Op::literal:
    case Op::column:
    case Op::field:
    case Op::name:
    case Op::measure:
    case Op::modified:
    case Op::let:
    case Op::aggregate:
    case Op::grouping:
    case Op::call:
      break;
  }
  switch (node.function) {
    case Function::abs:
      return fmt::format("abs({})", x[0]);
    case Function::round:
    case Function::floor:
    case Function::ceil:
    case Function::trunc:
      return rounded(node, x[0]);
    case Function::least:
    case Function::greatest:
      return extreme(x, node.function == Function::least);
    case Function::coalesce:
      return fmt::format("coalesce({})", joined(x, ", "));
    case Function::length:
      return fmt::format("length({})", x[0]);
    case Function::trim:
      return fmt::format("trim({})", x[0]);
    case Function::replace:
      return fmt::format("replace({}, {}, {})", x[0], x[1], x[2]);
    case Function::add_days:
      return moved(x[0], x[1], base::Unit::day);
    case Function::add_months:
      return moved(x[0], x[1], base::Unit::month);
    case Function::add_years:
      return moved(x[0], x[1], base::Unit::year);
    case Function::datetime:
      return fmt::format("({} * 86400000000 + {})", x[0], x[1]);
    case Function::days_between:
      return fmt::format("({} - {})", x[1], x[0]);
    case Function::start_of:
    case Function::end_of: {
      const auto unit = static_cast<base::Unit>(node.children[1]->literal.exact());
      if (node.function == Function::start_of) return start_of(x[0], unit);
      // The week of the last day of the year 9999 ends outside of the years of dates: there alone an end is null.
      static const std::int64_t outside =
          base::end_of(base::days_from_civil(base::last_year, 12, 31), base::Unit::week);
      return unit == base::Unit::week ? fmt::format("nullif({}, {})", end_of(x[0], unit), outside) : end_of(x[0], unit);
    }
    case Function::today:
      return literal(Value::of(static_cast<int128>(today)), {TypeKind::date, 0});
    case Function::sign:
    case Function::sqrt:
    case Function::exp:
    case Function::ln:
    case Function::power:
    case Function::upper:
    case Function::lower:
    case Function::substring:
    case Function::starts_with:
    case Function::ends_with:
    case Function::contains:
    case Function::year:
    case Function::quarter:
    case Function::month:
    case Function::day:
    case Function::weekday:
    case Function::week:
    case Function::hour:
    case Function::minute:
    case Function::second:
    case Function::date:
    case Function::time:
    case Function::months_between:
    case Function::years_between:
    case Function::text:
    case Function::integer_from:
    case Function::decimal_from:
    case Function::real_from:
    case Function::date_from:
    case Function::datetime_from:
      return call(node, x);
  }
  return "NULL";
}

std::string Dialect::rounded(const Node& node, const std::string& x) const {
  const Type type = node.children[0]->type;
  const bool round = node.function == Function::round;
  const int digits = round && node.children.size() > 1 ? static_cast<int>(node.children[1]->literal.exact()) : 0;
  if (type.kind == TypeKind::real) return rounded_real(node.function, x, digits);
  if (type.scale <= digits) return x;
  const std::string step = power_text(type.scale - digits);
  const std::string half = base::exact_text(base::power_of_ten(type.scale - digits) / 2, 0);
  std::string quotient = whole_divide(x, step);
  if (node.function == Function::round) {
    quotient = fmt::format("(CASE WHEN {} < 0 THEN -({}) ELSE {} END)", x,
                           whole_divide(fmt::format("(-({}) + {})", x, half), step),
                           whole_divide(fmt::format("({} + {})", x, half), step));
  } else if (node.function == Function::floor) {
    quotient = fmt::format("({} - CASE WHEN {} < 0 THEN 1 ELSE 0 END)", quotient, remainder(x, step));
  } else if (node.function == Function::ceil) {
    quotient = fmt::format("({} + CASE WHEN {} > 0 THEN 1 ELSE 0 END)", quotient, remainder(x, step));
  }
  return fmt::format("({} * {})", quotient, power_text(std::max(0, node.type.scale - digits)));
}

}  // namespace juniper::sql_engine
