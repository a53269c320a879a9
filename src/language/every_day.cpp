#include "language/every_day.h"

#include <algorithm>
#include <utility>

namespace juniper::language::syntax {

namespace {

// Makes expressions that stand nowhere in the text: all have the place of the clause that asks for them.
class Writer {
 public:
  explicit Writer(Span span) : span_(span) {}

  ExpressionPtr path(const std::string& name) const {
    ExpressionPtr made = node(Form::path);
    made->path.parts.push_back({name, span_});
    made->path.span = span_;
    return made;
  }
  ExpressionPtr number(int value) const {
    ExpressionPtr made = node(Form::literal);
    made->value = Value::of(int128{value});
    made->type = {TypeKind::integer, 0};
    return made;
  }
  ExpressionPtr text(const std::string& value) const {
    ExpressionPtr made = node(Form::literal);
    made->value = Value::of(value);
    made->type = {TypeKind::text, 0};
    return made;
  }
  template <class... Children>
  ExpressionPtr call(const std::string& word, Children... children) const {
    return with_children(Form::call, word, std::move(children)...);
  }
  template <class... Children>
  ExpressionPtr binary(const std::string& word, Children... children) const {
    return with_children(Form::binary, word, std::move(children)...);
  }
  // The name at the place of a number from 1 on.
  template <class Names>
  ExpressionPtr chosen(const std::string& number_of, const Names& names) const {
    ExpressionPtr made = node(Form::cases);
    for (std::size_t i = 0; i + 1 < names.size(); ++i) {
      add(*made, binary("=", call(number_of, path("day")), number(static_cast<int>(i + 1))));
      add(*made, text(names[i]));
    }
    add(*made, text(names.back()));
    return made;
  }

 private:
  ExpressionPtr node(Form form) const {
    auto made = std::make_unique<Expression>();
    made->form = form;
    made->span = span_;
    made->word_span = span_;
    return made;
  }
  static void add(Expression& parent, ExpressionPtr child) {
    parent.height = std::max(parent.height, child->height + 1);
    parent.children.push_back(std::move(child));
  }
  template <class... Children>
  ExpressionPtr with_children(Form form, const std::string& word, Children... children) const {
    ExpressionPtr made = node(form);
    made->word = word;
    (add(*made, std::move(children)), ...);
    return made;
  }

  Span span_;
};

}  // namespace

RowsPtr with_calendar_columns(RowsPtr days, const EveryDay& every_day) {
  const Writer w(every_day.span);
  auto rows = std::make_unique<Rows>();
  rows->form = RowsForm::extended;
  rows->span = every_day.span;
  rows->input = std::move(days);
  const auto add = [&](const std::string& name, ExpressionPtr expression) {
    rows->height = std::max(rows->height, expression->height + 1);
    rows->items.push_back({Name{name, every_day.span}, std::move(expression)});
  };
  const auto day = [&] { return w.path("day"); };
  add("year", w.call("year", day()));
  add("quarter", w.call("quarter", day()));
  add("month", w.call("month", day()));
  add("month_name", w.chosen("month", every_day.names.months));
  add("week", w.call("week", day()));
  // The year of a week is that of its Thursday.
  add("week_year", w.call("year", w.call("add_days", w.call("start_of", day(), w.path("week")), w.number(3))));
  add("weekday", w.call("weekday", day()));
  add("weekday_name", w.chosen("weekday", every_day.names.weekdays));
  add("month_start", w.call("start_of", day(), w.path("month")));
  add("quarter_start", w.call("start_of", day(), w.path("quarter")));
  if (every_day.business_month == 0) return rows;
  // The day as if the business year began with January.
  const auto moved = [&] { return w.call("add_months", day(), w.number(1 - every_day.business_month)); };
  add("business_year", w.call("year", moved()));
  add("business_quarter", w.call("quarter", moved()));
  add("business_month", w.call("month", moved()));
  return rows;
}

Calendar calendar_of(const Name& table, const EveryDay& every_day) {
  Calendar calendar;
  calendar.span = every_day.span;
  calendar.day = {every_day.span, table, {{"day", every_day.span}}};
  std::vector<const char*> periods{"year", "quarter",   "month",       "month_name",
                                   "week", "week_year", "month_start", "quarter_start"};
  if (every_day.business_month != 0) {
    for (const char* const period : {"business_year", "business_quarter", "business_month"}) periods.push_back(period);
  }
  for (const char* const period : periods) calendar.periods.push_back({period, every_day.span});
  return calendar;
}

std::string sorted_by(const std::string& column) {
  if (column == "month_name") return "month";
  return column == "weekday_name" ? "weekday" : "";
}

}  // namespace juniper::language::syntax
