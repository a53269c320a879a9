#include "random/random_query.h"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <array>
#include <utility>

#include "engine/query/ask.h"
#include "juniper/model.h"

namespace juniper::test {

std::string Piece::text() const {
  std::string out = parts[0];
  for (std::size_t i = 0; i < children.size(); ++i) out += children[i]->text() + parts[i + 1];
  return out;
}

std::string RandomQuery::text() const {
  const auto list = [](const auto& items, const auto& text_of) {
    std::string out;
    for (const auto& item : items) out += (out.empty() ? "" : ", ") + text_of(item);
    return out;
  };
  std::string out;
  for (const PiecePtr& draft : drafts) out += "with " + draft->text() + " ";
  if (!by.empty()) out += "by " + list(by, [](const std::string& b) { return b; }) + " ";
  std::size_t number = 0;
  out += "show " + list(show, [&](const PiecePtr& p) { return fmt::format("s{} = ({})", number++, p->text()); });
  if (!where.empty()) {
    std::string conditions;
    for (const PiecePtr& p : where) conditions += (conditions.empty() ? "(" : " and (") + p->text() + ")";
    out += " where " + conditions;
  }
  if (having) out += " having (" + having->text() + ")";
  if (!totals.empty()) out += " total " + list(totals, [](const std::string& t) { return t; });
  if (!sort.empty()) out += " sort " + sort;
  if (!limit.empty()) out += " limit " + limit;
  if (keep_empty) out += " keep empty";
  return out;
}

namespace {

constexpr Type boolean{TypeKind::boolean, 0};
constexpr Type integer{TypeKind::integer, 0};
constexpr Type real{TypeKind::real, 0};
constexpr Type text{TypeKind::text, 0};
constexpr Type date{TypeKind::date, 0};

struct RowInfo {
  std::string name;
  std::optional<std::size_t> table;
  std::vector<ColumnInfo> fields;
  bool narrows = true;
};

struct Place {
  enum class Kind : std::uint8_t { row, measure, slice };
  Kind kind = Kind::measure;
  std::vector<RowInfo> rows;
  std::vector<ColumnInfo> names;  // of let
  bool in_group = false;
  std::optional<std::size_t> member_table;
  std::vector<ColumnInfo> member_fields;
  bool measures = true;  // measures and aggregates may stand here

  std::string key() const {
    std::string out = kind == Kind::row ? "row" : (kind == Kind::measure ? "measure" : "slice");
    for (const RowInfo& row : rows) out += "," + row.name;
    for (const ColumnInfo& name : names) out += "," + name.name;
    return out + (in_group ? ",group" : "");
  }
};

class Maker {
 public:
  Maker(Random& random, const RandomModel& model) : random_(random), model_(model) {}

  PiecePtr expression(Type type, const Place& place, int depth) {
    PiecePtr made = made_expression(type, place, depth);
    auto tagged = std::make_shared<Piece>(*made);
    tagged->place = to_string(type) + " @ " + place.key();
    return tagged;
  }

  // A number, date, text … whose values are exactly the same however they are computed.
  Type exact_type() {
    // Of drawn tables, types that columns have.
    if (!model_.literals.empty() && chance(random_, 50)) {
      const TableInfo& table = model_.tables[pick(random_, model_.tables.size())];
      const Type type = table.columns[pick(random_, table.columns.size())].type;
      if (type.kind != TypeKind::real) return type;
    }
    static constexpr std::array types{integer, integer, Type{TypeKind::decimal, 1},  Type{TypeKind::decimal, 2}, text,
                                      boolean, date,    Type{TypeKind::datetime, 0}, Type{TypeKind::time, 0}};
    return types[pick(random_, types.size())];
  }
  Type number_type() {
    if (!model_.literals.empty()) {
      const Type type = exact_type();
      if (type.is_exact_number()) return type;
    }
    static constexpr std::array types{integer, Type{TypeKind::decimal, 1}, Type{TypeKind::decimal, 2}};
    return types[pick(random_, types.size())];
  }
  Type any_type() { return chance(random_, 20) ? real : exact_type(); }

  // One of those constructs that expressions of random types hold seldom, each as often as any other.
  PiecePtr seldom(const Place& place) {
    static const Type moment{TypeKind::datetime, 0};
    static const Type tenths{TypeKind::decimal, 1};
    struct Form {
      std::vector<std::string> parts;
      std::vector<Type> operands;
    };
    static const std::vector<Form> forms{
        {{"abs(", ")"}, {integer}},
        {{"add_days(", ", ", ")"}, {date, integer}},
        {{"add_months(", ", ", ")"}, {date, integer}},
        {{"add_years(", ", ", ")"}, {date, integer}},
        {{"contains(", ", ", ")"}, {text, text}},
        {{"day(", ")"}, {date}},
        {{"days_between(", ", ", ")"}, {date, date}},
        {{"(", " div ", ")"}, {integer, integer}},
        {{"ends_with(", ", ", ")"}, {text, text}},
        {{"exp(least(3, ", "))"}, {integer}},
        {{"hour(", ")"}, {moment}},
        {{"length(", ")"}, {text}},
        {{"(", " like \"%a_\")"}, {text}},
        {{"ln(", ")"}, {tenths}},
        {{"lower(", ")"}, {text}},
        {{"minute(", ")"}, {moment}},
        {{"(", " mod ", ")"}, {integer, integer}},
        {{"month(", ")"}, {date}},
        {{"months_between(", ", ", ")"}, {date, date}},
        {{"(", " * ", ")"}, {integer, integer}},
        {{"power(1.5, least(3, ", "))"}, {integer}},
        {{"quarter(", ")"}, {date}},
        {{"replace(", ", \"a\", \"oo\")"}, {text}},
        {{"second(", ")"}, {moment}},
        {{"sign(", ")"}, {tenths}},
        {{"sqrt(", ")"}, {tenths}},
        {{"starts_with(", ", ", ")"}, {text, text}},
        {{"trim(", ")"}, {text}},
        {{"upper(", ")"}, {text}},
        {{"week(", ")"}, {date}},
        {{"weekday(", ")"}, {date}},
        {{"year(", ")"}, {date}},
        {{"years_between(", ", ", ")"}, {date, date}},
        {{"integer(text(", "))"}, {integer}},
        {{"decimal(replace(text(", "), \"1\", \"x\"), 1)"}, {tenths}},
        {{"real(text(", "))"}, {tenths}},
        {{"date(text(", ", \"d/M/yyyy\"), \"d/M/yyyy\")"}, {date}},
        {{"datetime(text(", "))"}, {moment}},
        {{"let (v = ", ") (v + 1)"}, {integer}},
        {{"count(g in group days by (month as k) with (n = product(weekday for rows)) where g.n > 1)"}, {}},
    };
    const Form& form = forms[pick(random_, forms.size() - (model_.has_calendar ? 0 : 1))];
    std::vector<PiecePtr> operands;
    for (const Type type : form.operands) operands.push_back(expression(type, place, 1));
    return node(form.parts, std::move(operands));
  }

  // The expression with one thing changed: a column's link, a literal, a word. Asked beside it, it finds what takes two
  // expressions for one. Nothing where there is nothing to change.
  PiecePtr twin(const PiecePtr& piece) {
    std::size_t spots = 0;
    count_changes(piece, spots);
    if (spots == 0) return nullptr;
    std::size_t chosen = pick(random_, spots);
    return changed(piece, chosen);
  }

  // A column of a table by the name of a link that leads there; nothing where none with a name does.
  std::string over_role(const std::string& column) {
    const std::size_t dot = column.find('.');
    for (const Role& role : model_.roles) {
      if (model_.tables[role.to].name == column.substr(0, dot)) return role.name + column.substr(dot);
    }
    return "";
  }

  // table.column of any table that could be a key, by or filter.
  std::string slice_column(std::optional<Type> type = std::nullopt) {
    for (int i = 0; i < 40; ++i) {
      const TableInfo& table = model_.tables[pick(random_, model_.tables.size())];
      const ColumnInfo& column = table.columns[pick(random_, table.columns.size())];
      if (type && column.type != *type) continue;
      if (!type && column.type.kind == TypeKind::real && !model_.has_real_keys) continue;
      const Role* const role = any_role();
      const bool by_role = role != nullptr && model_.tables[role->to].name == table.name && chance(random_, 15);
      return (by_role ? role->name : table.name) + "." + column.name;
    }
    return "";
  }

  // A table whose rows and those of another one lead to the same, so that a slice can reach that one over it.
  std::optional<std::size_t> any_bridge() {
    const auto leads = [this](std::size_t from, std::size_t to) {
      return from == to || model_.tables[from].leads_to(to);
    };
    for (int i = 0; i < 30; ++i) {
      const std::size_t bridge = pick(random_, model_.tables.size());
      const std::size_t other = pick(random_, model_.tables.size());
      if (bridge == other || leads(other, bridge)) continue;
      for (std::size_t t = 0; t < model_.tables.size(); ++t) {
        if (t != bridge && leads(bridge, t) && leads(other, t)) return bridge;
      }
    }
    return std::nullopt;
  }
  // A column of a table, or of one that it leads to.
  std::string column_behind(std::size_t from) {
    for (int i = 0; i < 10; ++i) {
      const std::size_t t = pick(random_, model_.tables.size());
      if (t != from && !model_.tables[from].leads_to(t)) continue;
      const ColumnInfo& column = model_.tables[t].columns[pick(random_, model_.tables[t].columns.size())];
      if (column.type.kind != TypeKind::real || model_.has_real_keys) return model_.tables[t].name + "." + column.name;
    }
    return "";
  }

 private:
  // The parts of a piece with one word changed for another that may stand there.
  static std::vector<std::vector<std::string>> other_words(const std::vector<std::string>& parts) {
    static constexpr std::array<std::pair<std::string_view, std::string_view>, 30> words{{{"min(", "max("},
                                                                                          {"max(", "min("},
                                                                                          {"sum(", "min("},
                                                                                          {"first(", "last("},
                                                                                          {"last(", "first("},
                                                                                          {"avg(", "median("},
                                                                                          {"stddev(", "variance("},
                                                                                          {"stddev_pop(", "stddev("},
                                                                                          {"any(", "every("},
                                                                                          {"least(", "greatest("},
                                                                                          {"floor(", "ceil("},
                                                                                          {"upper(", "lower("},
                                                                                          {"year(", "month("},
                                                                                          {"day(", "weekday("},
                                                                                          {"start_of(", "end_of("},
                                                                                          {"previous(", "next("},
                                                                                          {", month)", ", year)"},
                                                                                          {" desc", ""},
                                                                                          {" dense", ""},
                                                                                          {" asc", ""},
                                                                                          {" <= ", " < "},
                                                                                          {" = ", " <> "},
                                                                                          {" > ", " >= "},
                                                                                          {" + ", " - "},
                                                                                          {" and ", " or "},
                                                                                          {" is not null", " is null"},
                                                                                          {" not in (", " in ("},
                                                                                          {"union(", "except("},
                                                                                          {"count(distinct ", "count("},
                                                                                          {"top 1 ", "top 2 "}}};
    std::vector<std::vector<std::string>> found;
    for (std::size_t i = 0; i < parts.size(); ++i) {
      for (const auto& [word, other] : words) {
        const std::size_t at = parts[i].find(word);
        if (at == std::string::npos) continue;
        const auto is_letter = [](char c) { return c >= 'a' && c <= 'z'; };
        if (at > 0 && is_letter(parts[i][at - 1]) && is_letter(word.front())) continue;  // the end of a longer one
        // An equals sign within more stands behind a name that is declared.
        if (word == " = " && parts[i] != word) continue;
        if (word == " and " && parts.size() != 3) continue;  // between two bounds
        std::vector<std::string> changed = parts;
        changed[i].replace(at, word.size(), other);
        found.push_back(std::move(changed));
      }
    }
    return found;
  }
  static void count_changes(const PiecePtr& piece, std::size_t& spots) {
    spots += piece->others.size() + other_words(piece->parts).size();
    for (const PiecePtr& child : piece->children) count_changes(child, spots);
  }
  // The piece with the change of that number, which is counted down on the way.
  static PiecePtr changed(const PiecePtr& piece, std::size_t& number) {
    std::vector<std::vector<std::string>> here = piece->others;
    for (std::vector<std::string>& parts : other_words(piece->parts)) here.push_back(std::move(parts));
    auto copy = std::make_shared<Piece>(*piece);
    if (number < here.size()) {
      copy->parts = here[number];
      return copy;
    }
    number -= here.size();
    for (PiecePtr& child : copy->children) {
      std::size_t spots = 0;
      count_changes(child, spots);
      if (number < spots) {
        child = changed(child, number);
        return copy;
      }
      number -= spots;
    }
    return copy;
  }
  // A column, and the same one over other links.
  static PiecePtr column(const std::vector<std::string>& all, const std::string& chosen) {
    auto piece = std::make_shared<Piece>();
    piece->parts = {chosen};
    const auto name = [](const std::string& written) { return written.substr(written.rfind('.') + 1); };
    for (const std::string& other : all) {
      if (other != chosen && name(other) == name(chosen)) piece->others.push_back({other});
    }
    return piece;
  }

  // Nothing where there are no roles.
  const Role* any_role() { return model_.roles.empty() ? nullptr : &model_.roles[pick(random_, model_.roles.size())]; }
  // A literal, sometimes of what a column holds.
  PiecePtr literal(Type type) {
    const auto held = model_.literals.find(to_string(type));
    if (held != model_.literals.end() && chance(random_, 70)) {
      auto piece = std::make_shared<Piece>();
      piece->parts = {held->second[pick(random_, held->second.size())]};
      piece->others = {{held->second[pick(random_, held->second.size())]}};
      return piece;
    }
    if (type.kind == TypeKind::decimal && type.scale == 0) return leaf("floor(2.5)");
    if (type.kind == TypeKind::decimal && type.scale > 2) {
      return leaf(fmt::format("{}.{:0{}}", pick(random_, 4), pick(random_, 10), static_cast<int>(type.scale)));
    }
    return leaf(random_literal(random_, type));
  }
  // A real that is exactly the same however it is computed: a column's; nothing where none can be read.
  PiecePtr stored_real(const Place& place) {
    const auto found = columns(real, place);
    return found.empty() || !model_.has_real_keys ? nullptr : leaf(found[pick(random_, found.size())]);
  }
  static PiecePtr leaf(std::string written) {
    auto piece = std::make_shared<Piece>();
    piece->parts = {std::move(written)};
    return piece;
  }
  static PiecePtr node(std::vector<std::string> parts, std::vector<PiecePtr> children) {
    auto piece = std::make_shared<Piece>();
    piece->parts = std::move(parts);
    piece->children = std::move(children);
    return piece;
  }
  PiecePtr binary(const std::string& op, PiecePtr a, PiecePtr b) {
    return node({"(", " " + op + " ", ")"}, {std::move(a), std::move(b)});
  }
  template <std::size_t N>
  std::string one_of(const std::array<const char*, N>& words) {
    return words[pick(random_, N)];
  }

  // Columns of a type that stand in a place, as text.
  std::vector<std::string> columns(Type type, const Place& place) const {
    std::vector<std::string> found;
    if (place.kind == Place::Kind::slice) {
      for (const TableInfo& table : model_.tables) {
        for (const ColumnInfo& column : table.columns) {
          if (column.type == type) found.push_back(table.name + "." + column.name);
        }
      }
    }
    for (const RowInfo& row : place.rows) {
      for (const ColumnInfo& field : row.fields) {
        if (field.type == type) found.push_back(row.name + "." + field.name);
      }
      if (!row.table) continue;
      const TableInfo& table = model_.tables[*row.table];
      for (const ColumnInfo& column : table.columns) {
        if (column.type == type) {
          found.push_back(row.name + "." + column.name);
          found.push_back(row.name + "." + column.name);
        }
      }
      for (const Route& route : table.routes) {
        for (const ColumnInfo& column : model_.tables[route.table].columns) {
          if (column.type == type) found.push_back(row.name + "." + route.path + "." + column.name);
        }
      }
    }
    for (const ColumnInfo& name : place.names) {
      if (name.type == type) found.push_back(name.name);
    }
    return found;
  }

  PiecePtr made_expression(Type type, const Place& place, int depth) {
    const auto found = columns(type, place);
    if (!found.empty() && chance(random_, depth <= 0 ? 85 : 40))
      return column(found, found[pick(random_, found.size())]);
    if (depth <= 0) {
      if (place.kind == Place::Kind::measure && chance(random_, 50)) return aggregate(type, place, 0);
      return literal(type);
    }
    if (chance(random_, 6)) {
      if (PiecePtr made = call(type, place, depth - 1)) return made;
    }
    if (place.measures && (place.kind == Place::Kind::measure || chance(random_, 22))) {
      if (chance(random_, 55)) return aggregate(type, place, depth - 1);
      if (chance(random_, 60)) {
        if (PiecePtr made = modified(type, place, depth - 1)) return made;
      }
      if (chance(random_, 12)) return let(type, place, depth - 1);
    }
    return operation(type, place, depth - 1);
  }

  // A function of the model; nothing where none gives the type here.
  PiecePtr call(Type type, const Place& place, int depth) {
    std::vector<const FunctionInfo*> fitting;
    for (const FunctionInfo& function : model_.functions) {
      const bool may_be =
          !function.is_of_measure || (place.measures && place.kind == Place::Kind::measure && place.rows.empty());
      if (function.type == type && may_be) fitting.push_back(&function);
    }
    if (fitting.empty()) return nullptr;
    const FunctionInfo& function = *fitting[pick(random_, fitting.size())];
    std::vector<std::string> parts{function.name + "("};
    std::vector<PiecePtr> given;
    for (const Type argument : function.arguments) {
      if (!given.empty()) parts.emplace_back(", ");
      given.push_back(expression(argument, place, depth));
    }
    parts.emplace_back(")");
    return node(std::move(parts), std::move(given));
  }

  PiecePtr condition(const Place& place, int depth) { return expression(boolean, place, depth); }

  PiecePtr operation(Type type, const Place& place, int depth) {
    if (chance(random_, 12)) {
      return node({"(if ", " then ", " else ", ")"},
                  {condition(place, depth), expression(type, place, depth), expression(type, place, depth)});
    }
    if (chance(random_, 8)) {
      return node({"case when ", " then ", " end"}, {condition(place, depth), expression(type, place, depth)});
    }
    if (chance(random_, 10)) {
      return node({one_of(std::array{"coalesce(", "least(", "greatest("}), ", ", ")"},
                  {expression(type, place, depth), expression(type, place, depth)});
    }
    switch (type.kind) {
      case TypeKind::boolean:
        return test(place, depth);
      case TypeKind::integer:
        return whole_number(place, depth);
      case TypeKind::decimal:
        return fraction(type, place, depth);
      case TypeKind::real:
        return made_real(place, depth);
      case TypeKind::time:
        return node({"time(", ")"}, {expression({TypeKind::datetime, 0}, place, depth)});
      case TypeKind::text:
        return made_text(place, depth);
      case TypeKind::date:
        return made_date(place, depth);
      case TypeKind::datetime:
        if (chance(random_, 50)) return literal(type);
        return node({"datetime(", ", ", ")"},
                    {expression(date, place, depth), expression({TypeKind::time, 0}, place, depth)});
      default:
        return literal(type);
    }
  }

  PiecePtr test(const Place& place, int depth) {
    const Type type = exact_type();
    const auto operand = [&] { return expression(type, place, depth); };
    if (const PiecePtr a = chance(random_, 15) ? stored_real(place) : nullptr) {
      return binary(one_of(std::array{"=", "<>", "<", "<=", "is distinct from"}), a,
                    chance(random_, 50) ? literal(real) : stored_real(place));
    }
    switch (pick(random_, 9)) {
      case 0:
        return binary("and", condition(place, depth), condition(place, depth));
      case 1:
        return binary("or", condition(place, depth), condition(place, depth));
      case 2:
        return node({"(not ", ")"}, {condition(place, depth)});
      case 3:
        return node({"(", chance(random_, 50) ? " is null)" : " is not null)"}, {operand()});
      case 4:
        return node({"(", chance(random_, 70) ? " in (" : " not in (", ", ", "))"}, {operand(), operand(), operand()});
      case 5:
        return node({"(", " between ", " and ", ")"}, {operand(), operand(), operand()});
      case 6:
        if (chance(random_, 40)) {
          return node({"(", " like ", ")"}, {expression(text, place, depth),
                                             leaf(one_of(std::array{"\"%a%\"", "\"_o%\"", "\"x%\"", "\"é\""}))});
        }
        return node({one_of(std::array{"starts_with(", "contains(", "ends_with("}), ", ", ")"},
                    {expression(text, place, depth), expression(text, place, depth)});
      case 7:
        return binary(one_of(std::array{"is distinct from", "is not distinct from"}), operand(), operand());
      default:
        return binary(one_of(std::array{"=", "<>", "<", "<=", ">", ">="}), operand(), operand());
    }
  }

  PiecePtr whole_number(const Place& place, int depth) {
    switch (pick(random_, 11)) {
      case 10:
        return node({"integer(", ")"}, {expression(text, place, depth)});
      case 0:
      case 1:
        return node({one_of(std::array{"year(", "month(", "weekday(", "week(", "quarter(", "day("}), ")"},
                    {expression(date, place, depth)});
      case 2:
        return node({one_of(std::array{"hour(", "minute(", "second("}), ")"},
                    {expression({chance(random_, 50) ? TypeKind::time : TypeKind::datetime, 0}, place, depth)});
      case 3:
        return node({"length(", ")"}, {expression(text, place, depth)});
      case 4:
        return node({"sign(", ")"}, {expression(number_type(), place, depth)});
      case 5:
        return node({"days_between(", ", ", ")"}, {expression(date, place, depth), expression(date, place, depth)});
      case 6:
        return node({one_of(std::array{"abs(", "floor(", "trunc("}), ")"}, {expression(integer, place, depth)});
      case 7:
        if (place.measures) return leaf("grouping(" + slice_column() + ")");
        [[fallthrough]];
      case 8:
        return binary(one_of(std::array{"div", "mod"}), expression(integer, place, depth),
                      expression(integer, place, 0));
      default:
        return binary(one_of(std::array{"+", "-", "*"}), expression(integer, place, depth),
                      expression(integer, place, 0));
    }
  }

  PiecePtr fraction(Type type, const Place& place, int depth) {
    if (chance(random_, 10))
      return node({"decimal(", fmt::format(", {})", type.scale)}, {expression(text, place, depth)});
    const std::string zero = fmt::format(" + 0.{})", std::string(type.scale, '0'));
    switch (type.scale == 1 || type.scale == 2 ? pick(random_, 4) : 1 + 2 * pick(random_, 2)) {
      case 0:
        return node({"round(", fmt::format(", {})", type.scale)}, {expression({TypeKind::decimal, 2}, place, depth)});
      case 1:
        return node({"(-", ")"}, {expression(type, place, depth)});
      case 2:
        return node({one_of(std::array{"(floor(", "(ceil(", "(trunc("}), ")" + zero},
                    {expression({TypeKind::decimal, 2}, place, depth)});
      default:
        return binary(one_of(std::array{"+", "-"}), expression(type, place, depth), expression(type, place, depth));
    }
  }

  PiecePtr made_real(const Place& place, int depth) {
    switch (pick(random_, 7)) {
      case 6:
        return node({"real(", ")"}, {expression(text, place, depth)});
      case 0:
      case 1:
        return binary("/", expression(number_type(), place, depth), expression(number_type(), place, depth));
      case 2:
        return node({one_of(std::array{"sqrt(", "ln("}), ")"}, {expression(number_type(), place, depth)});
      case 3:
        return node({one_of(std::array{"exp(least(3, ", "power(1.5, least(3, "}),
                     ")"
                     ")"},
                    {expression(integer, place, depth)});
      case 4:
        return node({one_of(std::array{"months_between(", "years_between("}), ", ", ")"},
                    {expression(date, place, depth), expression(date, place, depth)});
      default:
        return binary(one_of(std::array{"+", "-", "*"}), expression(real, place, depth),
                      expression(real, place, depth));
    }
  }

  // A text of another type's value, or one in which no value stands.
  PiecePtr converted(const Place& place, int depth) {
    static constexpr std::array written{boolean,
                                        integer,
                                        date,
                                        Type{TypeKind::decimal, 1},
                                        Type{TypeKind::decimal, 2},
                                        Type{TypeKind::datetime, 0},
                                        Type{TypeKind::time, 0}};
    switch (pick(random_, 4)) {
      case 0:
        return node({"text(", one_of(std::array{", \"dd.MM.yyyy\")", ", \"d MMM yyyy\")", ", \"yyyy-MM\")"})},
                    {expression(date, place, depth)});
      case 1:
        return node({"text(", one_of(std::array{", \"#,##0.0\")", ", \"0.##\")", ", \"0%\")", ", \"0\")"})},
                    {expression(number_type(), place, depth)});
      default:
        return node({"text(", ")"}, {expression(written[pick(random_, written.size())], place, depth)});
    }
  }

  PiecePtr made_text(const Place& place, int depth) {
    switch (pick(random_, 6)) {
      case 5:
        return converted(place, depth);
      case 0:
        return node({one_of(std::array{"upper(", "lower(", "trim("}), ")"}, {expression(text, place, depth)});
      case 1:
        return node({"substring(", ", 1, 2)"}, {expression(text, place, depth)});
      case 2:
        return node({"replace(", ", \"a\", \"oo\")"}, {expression(text, place, depth)});
      default:
        return binary("||", expression(text, place, depth), expression(text, place, depth));
    }
  }

  PiecePtr made_date(const Place& place, int depth) {
    switch (pick(random_, 7)) {
      case 5:
        return node({"date(", ")"}, {expression(text, place, depth)});
      case 6:
        return node({"date(text(", ", \"dd.MM.yyyy\"), \"dd.MM.yyyy\")"}, {expression(date, place, depth)});
      case 0:
        return node({one_of(std::array{"add_days(", "add_months(", "add_years("}), ", ", ")"},
                    {expression(date, place, depth), expression(integer, place, 0)});
      case 1:
        return leaf("today()");
      case 2:
        return node({"date(", ")"}, {expression({TypeKind::datetime, 0}, place, depth)});
      default:
        return node({one_of(std::array{"start_of(", "end_of("}),
                     one_of(std::array{", week)", ", month)", ", quarter)", ", year)"})},
                    {expression(date, place, depth)});
    }
  }

  // --- aggregates ---------------------------------------------------------------------------------------------------

  struct Set {
    PiecePtr piece;
    RowInfo row;
  };

  static Place inside(const Place& place, const RowInfo& row) {
    Place inner = place;
    inner.kind = Place::Kind::row;
    inner.rows.push_back(row);
    return inner;
  }

  PiecePtr aggregate(Type type, const Place& around, int depth) {
    Place place = around;
    if (place.kind == Place::Kind::slice) place.kind = place.rows.empty() ? Place::Kind::measure : Place::Kind::row;
    const std::string name = fmt::format("r{}", ++rows_);
    const Set set = rows(place, name, depth);
    const Place body = inside(place, set.row);
    const auto over = [&](const std::string& word, Type of) {
      return node({word + "(", fmt::format(" for {} in ", name), ")"}, {expression(of, body, depth), set.piece});
    };
    const auto first_or_last = [&] {
      PiecePtr key = chance(random_, 20) ? stored_real(body) : nullptr;
      if (!key) key = expression(exact_type(), body, 0);
      return node({one_of(std::array{"first(", "last("}), " by ",
                   fmt::format("{} for {} in ", chance(random_, 30) ? " desc" : "", name), ")"},
                  {expression(type, body, depth), key, set.piece});
    };
    switch (type.kind) {
      case TypeKind::boolean:
        if (chance(random_, 40)) return node({fmt::format("exists({} in ", name), ")"}, {set.piece});
        return over(one_of(std::array{"any", "every", "min"}), boolean);
      case TypeKind::integer:
        switch (pick(random_, 7)) {
          case 0:
            return node({fmt::format("count({} in ", name), ")"}, {set.piece});
          case 1:
            return count_distinct(name, set, body, depth);
          case 2:
            return over("count", exact_type());
          case 3:
            return rank(name, set, place, body, depth);
          case 4:
            return over(one_of(std::array{"min", "max"}), integer);
          case 5:
            return chance(random_, 30) ? over("product", integer) : first_or_last();
          default:
            return over("sum", integer);
        }
      case TypeKind::decimal:
        if (chance(random_, 25)) return first_or_last();
        return over(one_of(std::array{"sum", "sum", "min", "max"}), type);
      case TypeKind::real:
        if (chance(random_, 15))
          return node({"quantile(0.25, ", fmt::format(" for {} in ", name), ")"},
                      {expression(number_type(), body, depth), set.piece});
        return over(
            one_of(std::array{"avg", "avg", "median", "stddev", "variance", "stddev_pop", "variance_pop", "sum"}),
            chance(random_, 60) ? number_type() : real);
      case TypeKind::text:
        if (chance(random_, 40)) {
          return node({"list(", fmt::format(", \"/\" for {} in ", name), ")"},
                      {expression(text, body, depth), set.piece});
        }
        if (chance(random_, 30)) {
          const std::string column = slice_column(text);
          if (!column.empty()) return leaf("only(" + column + ")");
        }
        return chance(random_, 30) ? first_or_last() : over(one_of(std::array{"min", "max"}), text);
      case TypeKind::date:
      case TypeKind::datetime:
      case TypeKind::time:
        return chance(random_, 30) ? first_or_last() : over(one_of(std::array{"min", "max"}), type);
    }
    return over("min", type);
  }

  PiecePtr count_distinct(const std::string& name, const Set& set, const Place& body, int depth) {
    PiecePtr value = chance(random_, 20) ? stored_real(body) : nullptr;
    if (!value) value = expression(exact_type(), body, depth);
    return node({"count(distinct ", fmt::format(" for {} in ", name), ")"}, {value, set.piece});
  }

  PiecePtr rank(const std::string& name, const Set& set, const Place& place, const Place& body, int depth) {
    const Type type = exact_type();
    const std::string order = std::string(chance(random_, 50) ? " desc" : "") + (chance(random_, 50) ? " dense" : "");
    return node({"rank(", " among ", fmt::format(" for {} in ", name), order + ")"},
                {expression(type, place, depth), expression(type, body, depth), set.piece});
  }

  // --- rows ---------------------------------------------------------------------------------------------------------

  std::string dropped() {
    const auto item = [&]() -> std::string {
      if (chance(random_, 50)) return model_.tables[pick(random_, model_.tables.size())].name;
      const Role* const role = any_role();
      return role != nullptr && chance(random_, 10) ? role->name : slice_column();
    };
    if (chance(random_, 15)) return "everything";
    if (chance(random_, 10)) return "everything but " + model_.tables[pick(random_, model_.tables.size())].name;
    return chance(random_, 70) ? item() : "(" + item() + ", " + item() + ")";
  }

  Set table_rows(const Place& place, const std::string& name, int depth) {
    const std::size_t table = chance(random_, 45) ? 0 : pick(random_, model_.tables.size());
    std::string written = model_.tables[table].name;
    if (!place.rows.empty() && chance(random_, 30)) {
      const RowInfo& row = place.rows[pick(random_, place.rows.size())];
      // The many side of a row, or what a group stands for.
      if (!row.table) {
        written += " of " + row.name;
      } else {
        std::vector<std::size_t> many;
        for (std::size_t t = 0; t < model_.tables.size(); ++t) {
          if (model_.tables[t].leads_to(*row.table)) many.push_back(t);
        }
        if (!many.empty()) {
          const std::size_t chosen = many[pick(random_, many.size())];
          RowInfo info{name, chosen, {}, true};
          return filtered({leaf(model_.tables[chosen].name + " of " + row.name), info}, place, depth);
        }
      }
    }
    const Role* const role = any_role();
    if (role != nullptr && role->from == table && chance(random_, 10)) written += " via " + role->name;
    if (chance(random_, 15)) written += " across " + dropped();
    auto piece = std::make_shared<Piece>();
    piece->parts = {written};
    if (written != model_.tables[table].name) piece->others = {{model_.tables[table].name}};
    return filtered({piece, {name, table, {}, true}}, place, depth);
  }

  Set filtered(Set set, const Place& place, int depth) {
    if (!chance(random_, 45)) return set;
    const Place body = inside(place, set.row);
    if (place.rows.empty() || chance(random_, 50)) {
      set.piece = node({"", " where ", ""}, {set.piece, condition(body, depth)});
      return set;
    }
    // A condition that ties the row to one outside: an equality, and sometimes an inequality.
    const Type type = exact_type();
    const auto mine = columns(type, own_place(set.row));
    const auto other = columns(type, place);
    if (mine.empty() || other.empty()) return set;
    std::string tie = mine[pick(random_, mine.size())] + one_of(std::array{" = ", " = ", " is not distinct from "}) +
                      other[pick(random_, other.size())];
    const Type order = exact_type();
    const auto lower = columns(order, own_place(set.row));
    const auto upper = columns(order, place);
    if (!lower.empty() && !upper.empty() && chance(random_, 60)) {
      const std::string comparison = lower[pick(random_, lower.size())] +
                                     one_of(std::array{" <= ", " < ", " >= ", " > "}) +
                                     upper[pick(random_, upper.size())];
      tie = chance(random_, 30) ? comparison : tie + " and " + comparison;
      // Sometimes a bound on the other side of the same column.
      if (chance(random_, 40)) {
        const std::string column = comparison.substr(0, comparison.find(' '));
        tie += " and " + column + one_of(std::array{" <= ", " > "}) + upper[pick(random_, upper.size())];
      }
    }
    set.piece = node({"", " where " + tie}, {set.piece});
    return set;
  }

  static Place own_place(const RowInfo& row) {
    Place place;
    place.kind = Place::Kind::row;
    place.rows = {row};
    return place;
  }

  Set rows(const Place& place, const std::string& name, int depth) {
    if (place.in_group && chance(random_, 60)) {
      return {leaf("rows"), {name, place.member_table, place.member_fields, true}};
    }
    if (depth <= 0 || chance(random_, 60)) return table_rows(place, name, depth);
    const std::string inner_name = fmt::format("r{}", ++rows_);
    switch (pick(random_, 6)) {
      case 0:
        return distinct(name);
      case 1:
        return grouped(place, name, depth - 1);
      case 2: {
        const Set set = rows(place, name, depth - 1);
        const std::string order = chance(random_, 40) ? " asc" : "";
        return {node({fmt::format("(top {} ", 1 + pick(random_, 3)), " by ", order + ")"},
                     {bracketed(set.piece), expression(exact_type(), inside(place, set.row), depth - 1)}),
                set.row};
      }
      case 3: {
        const Set set = rows(place, name, depth - 1);
        const Type type = exact_type();
        RowInfo row = set.row;
        const std::string field = fmt::format("f{}", ++fields_);
        const PiecePtr value = expression(type, inside(place, set.row), depth - 1);
        row.fields.push_back({field, type});
        return {node({"(", " with " + field + " = (", "))"}, {bracketed(set.piece), value}), row};
      }
      case 4: {
        const Set a = table_rows(place, name, depth - 1);
        const std::string table = model_.tables[*a.row.table].name;
        const Set b = filtered({leaf(table), a.row}, place, depth - 1);
        return {node({one_of(std::array{"union(", "except(", "intersect("}), ", ", ")"}, {unnamed(a), unnamed(b)}),
                a.row};
      }
      default: {
        const Set set = rows(place, name, depth - 1);
        const std::string order = chance(random_, 40) ? " desc" : "";
        return {node({"(", " sorted by ", order + ")"},
                     {bracketed(set.piece), expression(exact_type(), inside(place, set.row), 0)}),
                set.row};
      }
    }
  }

  static PiecePtr bracketed(const PiecePtr& piece) { return node({"(", ")"}, {piece}); }

  // The parts of a union have no row of that name: they are the table alone.
  PiecePtr unnamed(const Set& set) {
    const std::string written = set.piece->text();
    return written.find(set.row.name + ".") == std::string::npos ? set.piece : leaf(model_.tables[*set.row.table].name);
  }

  Set distinct(const std::string& name) {
    for (int i = 0; i < 20; ++i) {
      const std::size_t table = pick(random_, model_.tables.size());
      const ColumnInfo& column = model_.tables[table].columns[pick(random_, model_.tables[table].columns.size())];
      if (column.type.kind == TypeKind::real && !model_.has_real_keys) continue;
      const std::string path = model_.tables[table].name + "." + column.name;
      RowInfo row{name, std::nullopt, {column}, true};
      if (chance(random_, 50)) {
        const std::string across = chance(random_, 25) ? " across " + path : "";
        return {leaf("distinct(" + path + ")" + across), row};
      }
      for (std::size_t from = 0; from < model_.tables.size(); ++from) {
        if (!model_.tables[from].leads_to(table)) continue;
        return {leaf("distinct(" + path + " for " + model_.tables[from].name + ")"), row};
      }
      return {leaf("distinct(" + path + ")"), row};
    }
    const TableInfo& any = model_.tables.back();
    return {leaf("distinct(" + any.name + "." + any.columns[0].name + ")"),
            {name, std::nullopt, {any.columns[0]}, true}};
  }

  // Rows without a name are all called `row`, so that an inner one hides those outside.
  static bool has_unnamed(const Place& place) {
    return std::any_of(place.rows.begin(), place.rows.end(), [](const RowInfo& row) { return row.name == "row"; });
  }

  Set grouped(const Place& place, const std::string& name, int depth) {
    if (has_unnamed(place)) return distinct(name);
    const Set set = table_rows(place, "row", depth);
    const std::string written = set.piece->text();
    RowInfo row{name, std::nullopt, {}, true};
    RowInfo member = set.row;
    Place body = inside(place, member);
    // The inner row has no name: only its columns as `row.x`.
    PiecePtr key = chance(random_, 20) ? stored_real(body) : nullptr;
    const Type type = key ? real : exact_type();
    if (!key) key = expression(type, body, chance(random_, 70) ? 0 : depth);
    row.fields.push_back({"k", type});
    Place results = place;
    results.kind = Place::Kind::row;
    results.rows.push_back(row);
    results.in_group = true;
    results.member_table = member.table;
    results.member_fields = member.fields;
    const Type result = any_type();
    const PiecePtr value = expression(result, results, depth);
    row.fields.push_back({"v", result});
    return {node({"(group ", " by (", " as k) with v = (", "))"}, {set.piece, key, value}), row};
  }

  // --- measures -----------------------------------------------------------------------------------------------------

  PiecePtr modified(Type type, const Place& place, int depth) {
    std::string of;
    if (place.kind == Place::Kind::row || !place.rows.empty()) {
      of = chance(random_, 25) || place.rows.empty() ? " of slice"
                                                     : " of " + place.rows[pick(random_, place.rows.size())].name;
    }
    Place inner = place;
    inner.kind = Place::Kind::measure;
    // A measure's name, or an expression in brackets.
    PiecePtr operand;
    std::vector<std::string> named;
    for (const ColumnInfo& measure : model_.measure_types) {
      if (measure.type == type) named.push_back(measure.name);
    }
    if (!named.empty() && chance(random_, 60)) {
      operand = leaf(named[pick(random_, named.size())]);
    } else {
      operand = node({"(", ")"}, {expression(type, inner, depth)});
    }
    std::vector<std::string> words{of};
    if (const Role* const role = any_role(); role != nullptr && chance(random_, 12))
      words.push_back(" via " + role->name);
    if (const auto bridge = any_bridge(); bridge && chance(random_, 14))
      words.push_back(" through " + model_.tables[*bridge].name);
    if (chance(random_, 30)) words.push_back(" across " + dropped());
    if (model_.has_calendar && chance(random_, 32)) {
      static constexpr std::array units{"day", "week", "month", "quarter", "year"};
      const std::string unit = one_of(units);
      static constexpr std::array periods{"to_date", "whole", "previous", "next"};
      words.push_back(
          " during " +
          (chance(random_, 70)
               ? one_of(periods) + "(" + unit + ")"
               : (chance(random_, 50) ? fmt::format("shift({} {})", static_cast<int>(pick(random_, 5)) - 2, unit)
                                      : fmt::format("trailing({} {})", 1 + pick(random_, 3), unit))));
    }
    std::string end = ")";
    std::vector<PiecePtr> children{operand};
    if (chance(random_, 30)) {
      Place slice = place;
      slice.kind = Place::Kind::slice;
      end = " where ";
      children.push_back(slice_condition(slice, depth));
    } else if (fmt::format("{}", fmt::join(words, "")).empty()) {
      return place.kind == Place::Kind::measure ? operand : nullptr;
    }
    auto piece = std::make_shared<Piece>();
    piece->children = std::move(children);
    const auto parts = [&] {
      std::string written;
      for (const std::string& word : words) written += word;
      std::vector<std::string> out{"(", written + end};
      if (piece->children.size() > 1) out.emplace_back(")");
      return out;
    };
    piece->parts = parts();
    const std::string other_row = of != " of slice" || place.rows.empty() ? " of slice" : " of " + place.rows[0].name;
    for (std::string& word : words) {
      if (word.empty()) continue;
      const std::string kept = std::exchange(word, &word == &words[0] ? other_row : "");
      piece->others.push_back(parts());
      word = kept;
    }
    return piece;
  }

  // column <op> something, over one table's columns so that it reaches as a whole.
  PiecePtr slice_condition(const Place& place, int depth) {
    const Type type = exact_type();
    const std::string column = slice_column(type);
    if (column.empty()) return leaf(model_.tables[0].name + "." + model_.tables[0].columns[0].name + " is not null");
    Place outside = place;
    outside.kind = place.rows.empty() ? Place::Kind::measure : Place::Kind::row;
    const PiecePtr value = chance(random_, 30) ? literal(type) : expression(type, outside, depth);
    return node({"(" + column + " " + one_of(std::array{"=", "<>", "<=", ">", "is not distinct from"}) + " ", ")"},
                {value});
  }

  PiecePtr let(Type type, const Place& place, int depth) {
    if (!has_unnamed(place) && chance(random_, 40)) {
      // A set of rows with a name, gone over twice.
      const std::string set_name = fmt::format("l{}", ++lets_);
      const Set set = rows(place, "row", depth);
      RowInfo row = set.row;
      row.name = fmt::format("r{}", ++rows_);
      const Place body = inside(place, row);
      const std::string over = fmt::format(" for {} in {}", row.name, set_name);
      return node({"(let (" + set_name + " = (", ")) coalesce(min(", over + "), max(", over + ")))"},
                  {set.piece, expression(type, body, 0), expression(type, body, depth)});
    }
    const Type of = exact_type();
    const std::string name = fmt::format("l{}", ++lets_);
    const PiecePtr value = expression(of, place, depth);
    Place inner = place;
    inner.names.push_back({name, of});
    return node({"(let (" + name + " = ", ") ", ")"}, {value, expression(type, inner, depth)});
  }

  Random& random_;
  const RandomModel& model_;
  int rows_ = 0;
  int fields_ = 0;
  int lets_ = 0;
};

}  // namespace

namespace {

// Some of all functions that there are to draw, each under its own number.
void add_functions(Random& random, RandomModel& model) {
  static const Type tenths{TypeKind::decimal, 1};
  static const std::vector<FunctionInfo> all{
      {"fn0", integer, {integer, integer}, false, "(a, b) = a + b * 2"},
      {"fn1", integer, {integer, integer}, false, "(a, b) = case when a > b then a else abs(b) end"},
      {"fn2", integer, {text}, false, "(a) = length(a || \"-\" || upper(a))"},
      {"fn3", text, {text, integer}, false, "(a, n) = if n > 1 then a else text(n)"},
      {"fn4", tenths, {tenths, integer}, false, "(a, n) = let (held = a + n) (held + 0.5)"},
      {"fn5", boolean, {integer, integer}, false, "(a, b) = a = b or a is null and b is not null"},
      {"fn6", date, {date, integer}, false, "(d, n) = add_days(d, n)"},
      {"fn7", real, {tenths}, false, "(x) = x / 4"},
      {"fn8", integer, {integer}, true, "(m) = (m across everything)"},
      {"fn9", tenths, {tenths}, true, "(m) = m + coalesce((m across everything), 0.5)"},
      {"fn10", integer, {integer}, true, "(m) = (m during shift(-1 month)) + fn0(m, 1)"},
      {"fn11", text, {text}, true, "(m) = coalesce((m during to_date(year)), m)"},
  };
  for (const FunctionInfo& function : all) {
    const bool needs_calendar = function.text.find("during") != std::string::npos;
    const bool is_first = function.name == "fn0";  // which others call
    if (is_first || (chance(random, 40) && (model.has_calendar || !needs_calendar)))
      model.functions.push_back(function);
  }
}

}  // namespace

void add_definitions(Random& random, RandomModel& model) {
  add_functions(random, model);
  for (int i = 0; i < 3; ++i) {
    Maker maker(random, model);
    const Type type = i == 0 ? integer : (i == 1 ? Type{TypeKind::decimal, 1} : maker.any_type());
    Place place;
    const std::string name = fmt::format("m{}", i);
    const PiecePtr expression = maker.expression(type, place, 2);
    model.measures.push_back(fmt::format("measure {} = ({})", name, expression->text()));
    model.measure_types.push_back({name, type});
  }
}

namespace {

// A running total, a previous value, a rank: an aggregate over the rows of the table that compare with the row's own
// in one column, and are equal to it in up to two.
RandomColumn window(Random& random, const TableInfo& table) {
  const auto any = [&] { return table.columns[pick(random, table.columns.size())]; };
  std::string where;
  for (std::size_t i = pick(random, 3); i > 0; --i) {
    const std::string key = any().name;
    where += chance(random, 30) ? fmt::format("w.{0} is not distinct from this.{0} and ", key)
                                : fmt::format("w.{0} = this.{0} and ", key);
  }
  const ColumnInfo by = any();
  static constexpr std::array signs{"<", "<=", ">", ">="};
  where += by.type.kind == TypeKind::boolean
               ? "true"
               : fmt::format("w.{0} {1} this.{0}", by.name, signs[pick(random, signs.size())]);
  const std::string rows = fmt::format("w in {} where {}", table.name, where);
  const ColumnInfo of = any();
  switch (pick(random, 5)) {
    case 0:
      return {{TypeKind::integer, 0}, fmt::format("count({})", rows)};
    case 1:
      return {{TypeKind::integer, 0}, fmt::format("rank(this.{0} among w.{0} for {1} desc)", of.name, rows)};
    case 2:
      return {of.type, fmt::format("last(w.{} by w.{} for {})", of.name, by.name, rows)};
    case 3:
      return {of.type, fmt::format("first(w.{} by (w.{} desc, w.{}) for {})", of.name, by.name, any().name, rows)};
    default:
      return {of.type, fmt::format("max(w.{} for {})", of.name, rows)};
  }
}

}  // namespace

RandomColumn random_column(Random& random, const RandomModel& model, std::size_t table, int depth) {
  Maker maker(random, model);
  Place place;
  place.kind = Place::Kind::row;
  place.rows.push_back({"this", table, {}, true});
  if (chance(random, 35)) return window(random, model.tables[table]);
  const Type type = maker.any_type();
  return {type, maker.expression(type, place, depth)->text()};
}

void add_calculated_columns(Random& random, RandomModel& model) {
  for (std::size_t i = 1 + pick(random, 3); i > 0; --i) {
    const std::size_t t = pick(random, model.tables.size());
    const RandomColumn column = random_column(random, model, t, 2);
    if (!model.tables[t].rows.empty() || column.type.kind == TypeKind::real) continue;
    model.tables[t].columns.push_back({fmt::format("{}k{}", model.tables[t].name, i), column.type, "", column.text});
    if (!Model::parse("model.ridge", model.text())) model.tables[t].columns.pop_back();
  }
}

std::string random_condition(Random& random, const RandomModel& model, std::size_t table, int depth) {
  Maker maker(random, model);
  Place place;
  place.kind = Place::Kind::row;
  place.rows.push_back({"this", table, {}, true});
  return maker.expression(boolean, place, depth)->text();
}

namespace {

// What `total` calls a key.
std::string name_of_key(const std::string& by) {
  const std::size_t name = by.rfind(" as ");
  return name == std::string::npos ? by : by.substr(name + 4);
}

}  // namespace

RandomQuery random_query(Random& random, const RandomModel& model) {
  Maker maker(random, model);
  RandomQuery query;
  // Keys that are expressions. Reals that are computed may differ in their last digits.
  Place slice;
  slice.kind = Place::Kind::slice;
  slice.measures = false;
  std::vector<std::string> named;
  for (std::size_t i = chance(random, 40) ? 1 + pick(random, 2) : 0; i > 0; --i) {
    const Type type = maker.any_type();
    const std::string expression = maker.expression(type, slice, 1 + static_cast<int>(pick(random, 2)))->text();
    const bool reads = std::any_of(model.tables.begin(), model.tables.end(), [&](const TableInfo& table) {
      return expression.find(table.name + ".") != std::string::npos;
    });
    if (!reads || type.kind == TypeKind::real) continue;
    named.push_back(fmt::format("key{}", named.size()));
    query.by.push_back(fmt::format("({}) as {}", expression, named.back()));
  }
  for (std::size_t i = chance(random, 40) ? 0 : 1 + pick(random, 2); i > 0; --i) {
    const std::string column = maker.slice_column();
    if (!column.empty() && std::find(query.by.begin(), query.by.end(), column) == query.by.end())
      query.by.push_back(column);
    // The same over another link.
    if (const std::string again = column.empty() || !chance(random, 20) ? "" : maker.over_role(column);
        !again.empty() && std::find(query.by.begin(), query.by.end(), again) == query.by.end())
      query.by.push_back(again);
  }
  Place place;
  for (std::size_t i = query.by.empty() ? 4 + pick(random, 10) : 1 + pick(random, 2); i > 0; --i)
    query.show.push_back(maker.expression(maker.any_type(), place, 3));
  for (std::size_t i = query.by.empty() ? 6 : pick(random, 9); i > 0; --i) query.show.push_back(maker.seldom(place));
  for (std::size_t i = pick(random, 3); i > 0; --i) {
    if (const PiecePtr twin = maker.twin(query.show[pick(random, query.show.size())])) query.show.push_back(twin);
  }
  if (const auto bridge = maker.any_bridge(); bridge && chance(random, 25)) {
    // All that is shown is reached over it, so that the query may ask for what it leads to.
    for (PiecePtr& shown : query.show) {
      auto through = std::make_shared<Piece>();
      through->place = shown->place;
      through->parts = {"((", ") through " + model.tables[*bridge].name + ")"};
      through->children = {shown};
      shown = through;
    }
    const std::string column = maker.column_behind(*bridge);
    if (!column.empty() && std::find(query.by.begin(), query.by.end(), column) == query.by.end())
      query.by.push_back(column);
  }
  if (chance(random, 35)) query.where.push_back(maker.expression(boolean, slice, 1));
  if (chance(random, 18)) query.having = maker.expression(boolean, place, 1);
  const auto words = [](std::string text) { return std::make_shared<Piece>(Piece{"", {std::move(text)}, {}}); };
  for (const std::string& name : named) {
    if (chance(random, 25)) query.where.push_back(words(name + " is not null"));
    if (chance(random, 25)) query.show.push_back(words("grouping(" + name + ")"));
    if (chance(random, 25) && !query.having) query.having = words(name + " is null or " + name + " = " + name);
  }
  if (!query.by.empty() && chance(random, 40)) query.totals.push_back("grand");
  if (query.by.size() > 1 && chance(random, 40))
    query.totals.push_back(name_of_key(query.by[pick(random, query.by.size())]));
  // Reals may differ in their last digits, and then in their order.
  if (chance(random, 25) && !query.show[0]->place.starts_with("real"))
    query.sort = chance(random, 50) ? "s0 desc" : "s0";
  if (chance(random, 15)) query.keep_empty = true;
  if (!query.by.empty() && chance(random, 30)) query.limit = std::to_string(1 + pick(random, 4));
  if (chance(random, 12)) {
    auto draft = std::make_shared<Piece>();
    draft->parts = {"measure m0 = (", ")"};
    draft->children = {maker.expression(integer, place, 1)};
    query.drafts.push_back(std::move(draft));
  }
  return query;
}

// --- smaller ones ---------------------------------------------------------------------------------------------------

namespace {

void below(const PiecePtr& piece, const std::string& place, std::vector<PiecePtr>& found) {
  for (const PiecePtr& child : piece->children) {
    if (child->place == place) found.push_back(child);
    below(child, place, found);
  }
}

// The piece with one part replaced by a part of it, in every way.
std::vector<PiecePtr> smaller_pieces(const PiecePtr& piece) {
  std::vector<PiecePtr> found;
  if (!piece->place.empty()) below(piece, piece->place, found);
  for (std::size_t i = 0; i < piece->children.size(); ++i) {
    for (const PiecePtr& child : smaller_pieces(piece->children[i])) {
      auto copy = std::make_shared<Piece>(*piece);
      copy->children[i] = child;
      found.push_back(std::move(copy));
    }
  }
  return found;
}

}  // namespace

std::vector<RandomQuery> smaller(const RandomQuery& query) {
  std::vector<RandomQuery> found;
  const auto with = [&](const auto& change) {
    RandomQuery copy = query;
    change(copy);
    found.push_back(std::move(copy));
  };
  for (std::size_t i = 0; i < query.show.size() && query.show.size() > 1; ++i)
    with([&](RandomQuery& q) { q.show.erase(q.show.begin() + static_cast<std::ptrdiff_t>(i)); });
  if (!query.totals.empty()) with([](RandomQuery& q) { q.totals.clear(); });
  if (query.having) with([](RandomQuery& q) { q.having = nullptr; });
  if (!query.where.empty()) with([](RandomQuery& q) { q.where.clear(); });
  if (!query.limit.empty()) with([](RandomQuery& q) { q.limit.clear(); });
  if (query.keep_empty) with([](RandomQuery& q) { q.keep_empty = false; });
  if (!query.drafts.empty()) with([](RandomQuery& q) { q.drafts.clear(); });
  for (std::size_t i = 0; i < query.by.size(); ++i) {
    with([&](RandomQuery& q) {
      q.by.erase(q.by.begin() + static_cast<std::ptrdiff_t>(i));
      q.totals.clear();
    });
  }
  for (std::size_t i = 0; i < query.show.size(); ++i) {
    for (const PiecePtr& piece : smaller_pieces(query.show[i])) with([&](RandomQuery& q) { q.show[i] = piece; });
  }
  for (std::size_t i = 0; i < query.where.size(); ++i) {
    for (const PiecePtr& piece : smaller_pieces(query.where[i])) with([&](RandomQuery& q) { q.where[i] = piece; });
  }
  return found;
}

RandomQuery with_meaning(const Model& model, RandomQuery query) {
  const auto checks = [&](const RandomQuery& q) { return engine::prepare(model, {q.text()}).has_value(); };
  if (checks(query)) return query;
  static const PiecePtr one = std::make_shared<Piece>(Piece{"", {"1"}, {}});
  RandomQuery kept;
  kept.show = {one};
  const auto keep = [&](const auto& add) {
    RandomQuery more = kept;
    add(more);
    if (checks(more)) kept = more;
  };
  keep([&](RandomQuery& q) { q.drafts = query.drafts; });
  // Keys need a measure whose rows lead to them: all of them together, or as many as there are one for.
  for (const PiecePtr& shown : query.show) {
    if (kept.by.size() == query.by.size()) break;
    RandomQuery more = kept;
    if (more.by.empty()) more.show = {shown};
    more.by = query.by;
    if (checks(more)) {
      kept = more;
      break;
    }
    for (const std::string& by : query.by) {
      more.by = {by};
      if (kept.by.empty() && checks(more)) kept = more;
    }
  }
  keep([&](RandomQuery& q) { q.where = query.where; });
  keep([&](RandomQuery& q) { q.having = query.having; });
  keep([&](RandomQuery& q) { q.totals = query.totals; });
  keep([&](RandomQuery& q) { q.keep_empty = query.keep_empty; });
  for (const PiecePtr& shown : query.show) {
    if (shown != kept.show[0]) keep([&](RandomQuery& q) { q.show.push_back(shown); });
  }
  if (kept.show.size() > 1 && kept.show[0] == one) kept.show.erase(kept.show.begin());
  keep([&](RandomQuery& q) { q.sort = query.show[0] == q.show[0] ? query.sort : ""; });
  keep([&](RandomQuery& q) { q.limit = query.limit; });
  return kept;
}

}  // namespace juniper::test
