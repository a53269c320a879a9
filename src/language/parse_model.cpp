// Declarations of a model text.
#include "base/calendar.h"
#include "base/date_pattern.h"
#include "language/parser.h"
#include "language/parser_core.h"

namespace juniper::language {

namespace {

constexpr std::array<std::pair<std::string_view, TypeKind>, 8> type_words{{{"integer", TypeKind::integer},
                                                                           {"decimal", TypeKind::decimal},
                                                                           {"real", TypeKind::real},
                                                                           {"text", TypeKind::text},
                                                                           {"boolean", TypeKind::boolean},
                                                                           {"date", TypeKind::date},
                                                                           {"datetime", TypeKind::datetime},
                                                                           {"time", TypeKind::time}}};

}  // namespace

syntax::Model Parser::model() {
  syntax::Model model;
  while (!at_end()) {
    const std::size_t before = at_;
    const std::size_t known = diagnostics_.size();
    definition_.reset();
    try {
      declaration(model);
    } catch (const Abandon&) {
      depth_ = 0;
      brackets_ = 0;
      clauses_ = false;
      // An open bracket may have taken the next declaration in.
      at_ = before;
      recover([this] { return token().starts_line && is_any(declaration_words) && !follows("with"); }, before);
      if (auto definition = abandoned(known)) model.unread.push_back(std::move(*definition));
    }
  }
  return model;
}

void Parser::declaration(syntax::Model& model) {
  const Span begin = token().span;
  if (is("model")) {
    mark(Mark::model);
    take();
    model.name = text("the model's name");
    return;
  }
  const bool hidden = is("hidden");
  const std::size_t word = hidden ? 1 : 0;
  static constexpr std::array<std::pair<std::string_view, Mark>, 9> words{{{"include", Mark::include},
                                                                           {"param", Mark::parameter},
                                                                           {"table", Mark::table},
                                                                           {"link", Mark::link},
                                                                           {"calendar", Mark::calendar},
                                                                           {"measure", Mark::measure},
                                                                           {"function", Mark::function},
                                                                           {"query", Mark::query},
                                                                           {"reader", Mark::reader}}};
  for (const auto& [spelled, kind] : words) {
    if (is(spelled, word)) mark(kind);
  }
  if (hidden) take();
  if (is("table")) return table(model, begin, hidden);
  if (is("measure")) return measure(model, begin, hidden);
  if (!hidden && is("link")) return link(model, begin);
  if (!hidden && is("query")) return query(model);
  if (!hidden && is("param")) return parameter(model, begin);
  if (!hidden && is("function")) return function(model, begin);
  if (!hidden && is("calendar")) return calendar(model, begin);
  if (!hidden && is("include")) return include(model, begin);
  if (!hidden && is("reader")) return reader(model, begin);
  fail(token().span, "JR-110", fmt::format("a declaration was expected, found {}", found()),
       is_name() ? base::did_you_mean(token().text, {declaration_words.begin(), declaration_words.end()}) : "");
}

namespace {

// What may stand in brackets behind a source. Databases tell types themselves, and need no spelling.
std::vector<std::string_view> options_of(base::SourceKind kind) {
  switch (kind) {
    case base::SourceKind::csv:
      return {"delimiter", "decimal", "thousands", "nulls", "dates", "booleans", "encoding", "skip"};
    case base::SourceKind::json:
      return {"decimal", "thousands", "nulls", "dates", "booleans"};
    case base::SourceKind::xlsx:
    case base::SourceKind::ods:
      return {"sheet", "decimal", "thousands", "nulls", "dates", "booleans"};
    case base::SourceKind::parquet:
    case base::SourceKind::arrow:
    case base::SourceKind::sqlite:
    case base::SourceKind::postgresql:
    case base::SourceKind::odbc:
    case base::SourceKind::clickhouse:
      return {"nulls"};
  }
  return {"nulls"};
}

// Whether how to reach a server holds a password: as a part of its own, or between the user and the host of an address.
bool holds_password(std::string_view place) {
  std::string lower;
  for (const char c : place) lower += c >= 'A' && c <= 'Z' ? static_cast<char>(c - 'A' + 'a') : c;
  for (const std::string_view word : {"password", "passwd", "pwd"}) {
    for (std::size_t at = lower.find(word); at != std::string::npos; at = lower.find(word, at + 1)) {
      const std::size_t behind = lower.find_first_not_of(" \t", at + word.size());
      if (behind != std::string::npos && lower[behind] == '=') return true;
    }
  }
  const std::size_t scheme = lower.find("://");
  if (scheme == std::string::npos) return false;
  const std::size_t host = lower.find_last_of('@');
  const std::size_t colon = lower.find(':', scheme + 3);
  return host != std::string::npos && colon < host;
}

// Where the client of a server takes passwords from.
std::string_view keeps_password(base::SourceKind kind) {
  switch (kind) {
    case base::SourceKind::postgresql:
      return "the file ~/.pgpass, a service file or PGPASSWORD";
    case base::SourceKind::clickhouse:
      return "the environment, CLICKHOUSE_PASSWORD";
    case base::SourceKind::odbc:
      return "the data source's own settings (odbc.ini)";
    case base::SourceKind::csv:
    case base::SourceKind::parquet:
    case base::SourceKind::arrow:
    case base::SourceKind::json:
    case base::SourceKind::xlsx:
    case base::SourceKind::ods:
    case base::SourceKind::sqlite:
      return "nowhere";
  }
  return "nowhere";
}

// How a text says that a table's rows come from a source, or stay there.
std::string_view manner_of(const base::SourcePlace& source) {
  return source.live ? "live on" : "from";
}

}  // namespace

void Parser::selection(base::SourcePlace& source, Span place) {
  const bool has_tables = base::is_database(source.kind);
  if (base::is_server(source.kind) && holds_password(source.pattern)) {
    fail_unseen(place, "JR-112", "a password stands in the text of the model, where everybody who has it can read it",
                fmt::format("leave it out: it is taken from {}", keeps_password(source.kind)));
  }
  if (!is("table") && !is("query")) {
    if (!has_tables) return;
    fail(token().span, "JR-110", fmt::format("the name of a table in the database was expected, found {}", found()),
         fmt::format("write: {} {} \"{}\" table \"NAME\", or query \"select ...\"", manner_of(source),
                     base::name_of(source.kind), source.pattern));
  }
  if (!has_tables) {
    fail(token().span, "JR-110",
         fmt::format("a source of the kind {} has no tables by name", base::name_of(source.kind)),
         base::is_spreadsheet(source.kind) ? "a sheet is named in brackets: (sheet \"Sessions\")" : "");
  }
  source.selection.kind = is("table") ? base::Selection::Kind::table : base::Selection::Kind::query;
  take();
  source.selection.text =
      text(source.selection.kind == base::Selection::Kind::table ? "the name of the table" : "a statement of SQL");
}

base::SourceKind Parser::source_kind(bool is_live) {
  const auto kind = base::source_kind(name("the kind of the source").text);
  const auto fits = [&](base::SourceKind known) {
    return is_live ? base::can_be_live(known) : base::can_be_loaded(known);
  };
  if (kind && fits(*kind)) return *kind;
  --at_;
  std::string kinds;
  for (const base::SourceKind known : base::source_kinds) {
    if (fits(known)) kinds += fmt::format("{}{}", kinds.empty() ? "" : ", ", base::name_of(known));
  }
  if (!kind) {
    fail(token().span, "JR-111", fmt::format("there is no source kind '{}' in this version", token().text),
         "the kinds are " + kinds);
  } else if (is_live) {
    fail(token().span, "JR-111", fmt::format("tables can't stay live on a source of the kind {}", token().text),
         "those on which they can are " + kinds);
  }
  fail(token().span, "JR-111", fmt::format("tables of {} are not loaded, but asked where they are", token().text),
       fmt::format("write: live on {} …", token().text));
}

void Parser::source_options(base::SourcePlace& source) {
  const auto refuse = [&](const std::string& message, const std::string& fix) {
    --at_;
    fail(token().span, "JR-112", message, fix);
  };
  const auto character = [&](const std::string& what, const std::string& but) {
    const std::string given = text(what);
    const bool is_one = given.size() == 1 && given != "\"" && given != "\n" && given != "\r";
    if (!is_one || but.find(given) != std::string::npos)
      refuse(fmt::format("{} is one character, and no quote{}", what, but.empty() ? "" : ", digit or sign"),
             "write, for example: (delimiter \";\", decimal \",\")");
    return given.front();
  };
  const std::string in_numbers = "0123456789+-";
  const std::vector<std::string_view> options = options_of(source.kind);
  do {
    if (std::none_of(options.begin(), options.end(), [&](std::string_view option) { return is(option); })) {
      fail(token().span, "JR-110",
           fmt::format("an option of a source of the kind {} was expected, found {}", base::name_of(source.kind),
                       found()),
           fmt::format("its options are {}", fmt::join(options, ", ")));
    } else if (accept("sheet")) {
      source.selection = {base::Selection::Kind::sheet, text("the name of the sheet")};
    } else if (accept("delimiter")) {
      source.delimiter = character("the delimiter", "");
    } else if (accept("decimal")) {
      source.spelling.decimal = character("the decimal mark", in_numbers);
    } else if (accept("thousands")) {
      source.spelling.thousands = character("the mark of thousands", in_numbers);
    } else if (accept("nulls")) {
      if (accept("(")) {
        do source.spelling.nulls.push_back(text("a word for null"));
        while (accept(","));
        expect(")", "after the words for null");
      } else {
        source.spelling.nulls.push_back(text("a word for null"));
      }
    } else if (accept("booleans")) {
      expect("(", "before the words for true and false");
      source.spelling.truths = {text("the word for true")};
      expect(",", "between the words for true and false");
      source.spelling.truths.push_back(text("the word for false"));
      if (source.spelling.truths[0] == source.spelling.truths[1])
        refuse("true and false have the same word", "write: (booleans (\"yes\", \"no\"))");
      expect(")", "after the words for true and false");
    } else if (accept("encoding")) {
      source.encoding = text("the encoding");
      if (!base::is_encoding(source.encoding))
        refuse(fmt::format("there is no encoding '{}'", source.encoding),
               "write, for example: (encoding \"windows-1252\")");
    } else if (accept("skip")) {
      constexpr int most_lines = 1000;
      const Token& number = token();
      const bool is_count = number.kind == TokenKind::number && number.type.kind == TypeKind::integer &&
                            number.value.exact() > 0 && number.value.exact() <= most_lines;
      if (!is_count) {
        fail(number.span, "JR-110",
             fmt::format("a number of lines up to {} was expected, found {}", most_lines, found()), "write: (skip 3)");
      }
      source.skip = static_cast<std::uint32_t>(take().value.exact());
    } else {
      expect("dates", "as an option");
      source.spelling.dates = text("the pattern of dates");
      if (!base::is_date_pattern(source.spelling.dates))
        refuse(
            "a pattern of dates has one day (d or dd), one month (M or MM) and one year (yyyy), and marks between them",
            "write: (dates \"dd.MM.yyyy\")");
    }
  } while (accept(","));
  if (source.spelling.thousands != '\0' && source.spelling.thousands == source.spelling.decimal)
    refuse("the mark of thousands is that of the decimals, too", "write: (decimal \",\", thousands \".\")");
  expect(")", "after the options");
}

void Parser::table(syntax::Model& model, Span begin, bool hidden) {
  take();
  syntax::Table table;
  table.hidden = hidden;
  table.name = name("the table's name");
  if (accept("=")) {
    if (is("every") && is("day", 1)) {
      every_day(model, table);
    } else {
      begin_definition(DefinitionKind::calculated_table, table.name, begin);
      table.rows = rows();
    }
    if (is_text()) table.description = take().text;
    table.span = since(begin);
    model.tables.push_back(std::move(table));
    return;
  }
  table.source.live = is("live") && is("on", 1);
  if (table.source.live) {
    take();
    take();
  } else {
    expect("from", "after the table's name");
  }
  table.source.kind = source_kind(table.source.live);
  table.source_span = token().span;
  table.source.pattern = text("the file or pattern");
  selection(table.source, table.source_span);
  if (table.source.live) {
    if (is("(") || is("reached") || is("sorted")) {
      fail(token().span, "JR-112", fmt::format("{} is not for tables that are live", found()),
           "say it where the rows are: live on … query \"select … where …\"");
    }
  } else if (accept("(")) {
    source_options(table.source);
  }
  const std::uint32_t rows_begin = last_end();
  if (is("reached") && is("from", 1)) {
    take();
    take();
    table.reached_from = names("a table");
  }
  if (is("sorted") && is("by", 1)) {
    take();
    take();
    table.sorted_by = names("a column");
  }
  table.rows_span = {begin.file, rows_begin, last_end()};
  if (is_text()) table.description = take().text;
  expect("{", "before the table's columns");
  bool goes_on = false;  // behind a column that was not understood: the lines that follow may be a part of it
  while (!at_end() && !is("}")) {
    const std::size_t before = at_;
    const std::size_t known = diagnostics_.size();
    definition_.reset();
    try {
      if (is("key") && is("(", 1)) {
        table.keys.push_back(table_key());
      } else {
        table.columns.push_back(column());
      }
      goes_on = false;
    } catch (const Abandon&) {
      const std::size_t failed = at_;
      at_ = before;
      recover([&] { return at_ >= failed ? token().starts_line || is("}") : begins_column(before); }, before);
      if (auto definition = abandoned(known)) {
        definition->table = table.name.text;
        goes_on = true;
        model.unread.push_back(*definition);
        for (const syntax::Name& name : taken_in(before)) {
          definition->name = name.text;
          model.unread.push_back(*definition);
        }
      } else if (goes_on) {
        Disabled& column = model.unread.back();
        column.span = since(column.span);
        column.problems.insert(column.problems.end(), diagnostics_.begin() + static_cast<std::ptrdiff_t>(known),
                               diagnostics_.end());
      }
    }
  }
  definition_.reset();
  mark(Mark::close);
  expect("}", "after the table's columns");
  table.span = since(begin);
  model.tables.push_back(std::move(table));
}

// key (site, lane): several columns that name a row together.
syntax::TableKey Parser::table_key() {
  mark(Mark::clause);
  const Span begin = take().span;
  take();
  syntax::TableKey key;
  do key.columns.push_back(name("a column"));
  while (accept(","));
  expect(")", "after the columns of the key");
  key.span = since(begin);
  if (key.columns.size() == 1) {
    fail(key.span, "JR-110", "a key of several columns was expected",
         fmt::format("of one, write it before the column: key {}", written_name(key.columns[0].text)));
  }
  return key;
}

// Whether a line that begins here is a column of its own, and no part of the one that began at the token `first` and was
// not understood: an open bracket may have taken it in.
bool Parser::begins_column(std::size_t first) const {
  if (!token().starts_line || !is_name()) return false;
  if (is_type(1) || ((is("key") || is("hidden")) && is_type(2))) return true;
  int open = 0;
  for (std::size_t i = first; i < at_; ++i) {
    if (tokens_[i].kind == TokenKind::symbol) open += tokens_[i].text == "(" ? 1 : tokens_[i].text == ")" ? -1 : 0;
  }
  return open <= 0 && is("=", 1);
}

// Names of calculated columns that an open bracket has taken in, since the token `first`; names of `let` stand so, too.
std::vector<syntax::Name> Parser::taken_in(std::size_t first) const {
  std::vector<syntax::Name> names;
  for (std::size_t i = first; i + 1 < at_; ++i) {
    const Token& token = tokens_[i];
    if (token.kind == TokenKind::name && token.text == "let") return {};
    const bool is_name = token.kind == TokenKind::name || token.kind == TokenKind::quoted_name;
    if (i > first && token.starts_line && is_name && tokens_[i + 1].text == "=")
      names.push_back({token.text, token.span});
  }
  return names;
}

// every day from 2020 to 2026, or of (sessions.start_day, sessions.end_day); with options in brackets.
void Parser::every_day(syntax::Model& model, syntax::Table& table) {
  const Span begin = token().span;
  take();
  take();
  auto days = std::make_unique<syntax::Rows>();
  days->form = syntax::RowsForm::days;
  const auto add = [&](syntax::ExpressionPtr expression) {
    days->height = std::max(days->height, expression->height + 1);
    days->items.push_back({std::nullopt, std::move(expression)});
  };
  if (accept("from")) {
    add(year());
    expect("to", "before the last year");
    add(year());
    const auto of = [&](std::size_t i) { return days->items[i].expression->value.exact(); };
    if (of(0) > of(1))
      fail(days->items[1].expression->span, "JR-110", "the last year lies before the first",
           "write: every day from 2020 to 2026");
  } else {
    if (!accept("of"))
      fail(token().span, "JR-110", fmt::format("`from` or `of` was expected after `every day`, found {}", found()),
           "write: every day from 2020 to 2026, or every day of TABLE.COLUMN");
    const bool several = accept("(");
    do {
      const Span at = token().span;
      auto column = std::make_unique<syntax::Expression>();
      column->form = syntax::Form::path;
      column->path = path("a date, written with its table");
      column->span = since(at);
      add(std::move(column));
    } while (several && accept(","));
    if (several) expect(")", "after the columns");
  }
  days->span = since(begin);
  syntax::EveryDay options;
  options.names = *base::calendar_names("en");
  if (accept("(")) {
    do every_day_option(options);
    while (accept(","));
    expect(")", "after the options");
  }
  options.span = since(begin);
  table.rows = syntax::with_calendar_columns(std::move(days), options);
  table.is_every_day = true;
  model.calendars.push_back(syntax::calendar_of(table.name, options));
}

syntax::ExpressionPtr Parser::year() {
  const Token number = take();
  const bool is_year = number.kind == TokenKind::number && number.type.kind == TypeKind::integer &&
                       number.value.exact() >= base::first_year && number.value.exact() <= base::last_year;
  if (!is_year) fail(number.span, "JR-110", "a year from 1 to 9999 was expected", "write: every day from 2020 to 2026");
  auto literal = std::make_unique<syntax::Expression>();
  literal->form = syntax::Form::literal;
  literal->value = number.value;
  literal->type = number.type;
  literal->span = number.span;
  return literal;
}

void Parser::every_day_option(syntax::EveryDay& options) {
  if (accept("language")) {
    const Span at = token().span;
    const std::string language = text("the language");
    const auto names = base::calendar_names(language);
    if (!names)
      fail(at, "JR-112", fmt::format("there are no names of months and days in the language \"{}\"", language),
           "take its code of ISO 639, with a country where that matters: \"de\", \"pt-BR\"");
    options.names = *names;
    return;
  }
  if (accept("business_year")) {
    const Token month = take();
    const bool is_month = month.kind == TokenKind::number && month.type.kind == TypeKind::integer &&
                          month.value.exact() >= 1 && month.value.exact() <= 12;
    if (!is_month) fail(month.span, "JR-110", "a month from 1 to 12 was expected", "write: business_year 4");
    options.business_month = static_cast<int>(month.value.exact());
    return;
  }
  fail(token().span, "JR-110", fmt::format("an option of `every day` was expected, found {}", found()),
       "its options are language \"de\" and business_year 4, the month with which one begins");
}

// A name, or several in brackets.
std::vector<syntax::Name> Parser::names(std::string_view what) {
  std::vector<syntax::Name> list;
  if (!accept("(")) return {name(what)};
  do list.push_back(name(what));
  while (accept(","));
  expect(")", "after the names");
  return list;
}

syntax::Column Parser::column() {
  syntax::Column column;
  const Span begin = token().span;
  const std::uint32_t first = begin.begin;
  // `key` and `hidden` are flags unless they are themselves the column's name.
  while ((is("key") || is("hidden")) && !is("=", 1) && !is_type(1)) {
    (is("key") ? column.key : column.hidden) = true;
    take();
  }
  mark(Mark::cell);
  column.name = name("a column");
  marks_[first] = is("=") ? Mark::computed : Mark::column;
  mark(Mark::cell);
  if (accept("=")) {
    begin_definition(DefinitionKind::calculated_column, column.name, begin);
    column.expression = expression();
  } else {
    const Span type_begin = token().span;
    column.type = type();
    if (is("from") && is_text(1)) {
      mark(Mark::attribute);
      take();
      column.header = take().text;
    } else if (is("from") && is("(", 2)) {
      mark(Mark::attribute);
      take();
      part_of_field(column);
    }
    column.source_span = since(type_begin);
  }
  column.attributes = attributes();
  column.span = since(begin);
  return column;
}

// date("Header"), time("Header") or round("Header"), each giving the type that stands before it.
void Parser::part_of_field(syntax::Column& column) {
  const Span begin = token().span;
  const TypeKind kind = column.type->type.kind;
  const bool number = kind == TypeKind::integer || kind == TypeKind::decimal;
  if (is("date") && kind == TypeKind::date) {
    column.part = base::FieldPart::date;
  } else if (is("time") && kind == TypeKind::time) {
    column.part = base::FieldPart::time;
  } else if (is("round") && number) {
    column.part = base::FieldPart::round;
  } else {
    fail(begin, "JR-120",
         fmt::format("{} can't be taken of a field by {}(…)", to_string(column.type->type), token().text),
         "a date is taken by date(\"…\"), a time by time(\"…\"), an integer or decimal by round(\"…\")");
  }
  take();
  expect("(", "before the header");
  column.header = text("the header of the source's column");
  expect(")", "after the header");
}

// A type's word that ends the declaration of a column's name: `key integer` declares a column called key.
bool Parser::is_type(std::size_t ahead) const {
  return std::any_of(type_words.begin(), type_words.end(), [&](const auto& w) { return is(w.first, ahead); }) &&
         !is("=", ahead + 1) && !(token(ahead + 1).kind == TokenKind::name && type_at(ahead + 1));
}

bool Parser::type_at(std::size_t ahead) const {
  return std::any_of(type_words.begin(), type_words.end(), [&](const auto& w) { return is(w.first, ahead); });
}

syntax::TypeName Parser::type() {
  const Span begin = token().span;
  const auto* const word =
      std::find_if(type_words.begin(), type_words.end(), [this](const auto& w) { return is(w.first); });
  if (word == type_words.end()) {
    std::vector<std::string> words;
    for (const auto& [spelled, kind] : type_words) words.emplace_back(spelled);
    fail(token().span, "JR-113", fmt::format("a type or '=' was expected after the column's name, found {}", found()),
         is_name() && !base::nearest_name(token().text, words).empty()
             ? base::did_you_mean(token().text, words)
             : "the types are integer, decimal(digits), real, text, boolean, date, datetime, time");
  }
  take();
  Type type{word->second, 0};
  if (type.kind == TypeKind::decimal) {
    expect("(", "after decimal: the number of digits after the point");
    const Token digits = take();
    if (digits.kind != TokenKind::number || digits.type.kind != TypeKind::integer ||
        digits.value.exact() > base::max_scale) {
      fail(digits.span, "JR-113", "a decimal has 0 to 18 digits after the point", "write: decimal(2)");
    }
    type.scale = static_cast<std::uint8_t>(digits.value.exact());
    expect(")", "after the digits");
  }
  return {type, since(begin)};
}

syntax::Attributes Parser::attributes() {
  syntax::Attributes attributes;
  while (true) {
    mark(Mark::attribute);
    if (is("sorted") && is("by", 1)) {
      take();
      take();
      attributes.sorted_by = name("the column to sort by");
    } else if (is("format") && is_text(1)) {
      take();
      attributes.format_span = token().span;
      attributes.format = take().text;
    } else if (is("used") && is("by", 1)) {
      take();
      take();
      attributes.used_by.push_back(text("who uses it"));
    } else if (is_text()) {
      attributes.description = take().text;
    } else {
      if (marks_.at(token().span.begin) == Mark::attribute) marks_.erase(token().span.begin);
      return attributes;
    }
  }
}

void Parser::link(syntax::Model& model, Span begin) {
  take();
  syntax::Link link;
  link.from = link_end();
  mark(Mark::cell);
  expect("->", "between the two columns of the link");
  link.to = link_end();
  if (accept("as")) link.role = name("the link's role");
  link.span = since(begin);
  model.links.push_back(std::move(link));
}

void Parser::measure(syntax::Model& model, Span begin, bool hidden) {
  take();
  syntax::Measure measure;
  measure.hidden = hidden;
  measure.name = name("the measure's name");
  begin_definition(DefinitionKind::measure, measure.name, begin);
  mark(Mark::cell);
  expect("=", "after the measure's name");
  measure.expression = expression();
  measure.attributes = attributes();
  measure.span = since(begin);
  model.measures.push_back(std::move(measure));
}

// table.column, or table.(column, column, …)
syntax::LinkEnd Parser::link_end() {
  syntax::LinkEnd end;
  const Span begin = token().span;
  end.table = name("a table");
  expect(".", "between the table and its column");
  if (accept("(")) {
    do end.columns.push_back(name("a column"));
    while (accept(","));
    expect(")", "after the columns");
  } else {
    end.columns.push_back(name("a column"));
  }
  end.span = since(begin);
  return end;
}

void Parser::parameter(syntax::Model& model, Span begin) {
  take();
  syntax::Parameter parameter;
  parameter.name = name("the parameter's name");
  mark(Mark::cell);
  expect("=", "after the parameter's name");
  parameter.value = expression();
  if (is_text()) mark(Mark::attribute);
  if (is_text()) parameter.description = take().text;
  parameter.span = since(begin);
  model.parameters.push_back(std::move(parameter));
}

void Parser::function(syntax::Model& model, Span begin) {
  take();
  syntax::Function function;
  function.name = name("the function's name");
  expect("(", "before the function's arguments");
  do function.arguments.push_back(name("an argument"));
  while (accept(","));
  expect(")", "after the arguments");
  mark(Mark::cell);
  expect("=", "after the function's arguments");
  function.body = expression();
  if (is_text()) mark(Mark::attribute);
  if (is_text()) function.description = take().text;
  function.span = since(begin);
  model.functions.push_back(std::move(function));
}

void Parser::calendar(syntax::Model& model, Span begin) {
  take();
  syntax::Calendar calendar;
  calendar.day = link_end();
  if (accept("periods")) {
    expect("(", "before the columns that name periods");
    do calendar.periods.push_back(name("a column"));
    while (accept(","));
    expect(")", "after the columns");
  }
  calendar.span = since(begin);
  model.calendars.push_back(std::move(calendar));
}

void Parser::include(syntax::Model& model, Span begin) {
  take();
  syntax::Include include;
  include.file = text("the file to include");
  include.span = since(begin);
  model.includes.push_back(std::move(include));
}

// reader NAME "description" { TABLE where CONDITION … hide TABLE.COLUMN, measure NAME … }
void Parser::reader(syntax::Model& model, Span begin) {
  take();
  syntax::Reader reader;
  reader.name = name("the reader's name");
  if (is_text()) reader.description = take().text;
  expect("{", "before what the reader sees");
  while (!at_end() && !is("}")) {
    mark(Mark::clause);
    const Span at = token().span;
    if (is("hide") && !is("where", 1)) {
      take();
      do {
        syntax::HiddenThing hidden;
        const Span first = token().span;
        if (!accept("measure")) {
          hidden.table = name("a table, or `measure`");
          expect(".", "between the table and its column");
        }
        hidden.name = name(hidden.table ? "a column" : "a measure");
        hidden.span = since(first);
        reader.hidden.push_back(std::move(hidden));
      } while (accept(","));
      continue;
    }
    syntax::ReaderRows rows;
    rows.table = name("a table whose rows the reader sees, or `hide`,");
    expect("where", "after the table");
    rows.condition = expression();
    rows.span = since(at);
    reader.rows.push_back(std::move(rows));
  }
  mark(Mark::close);
  expect("}", "after what the reader sees");
  reader.span = since(begin);
  model.readers.push_back(std::move(reader));
}

syntax::Measure Parser::measure_text() {
  syntax::Model model;
  try {
    if (!is("measure"))
      fail(token().span, "JR-110", fmt::format("a measure was expected, found {}", found()),
           "write: measure NAME = EXPRESSION");
    measure(model, token().span, false);
    if (!at_end()) fail(token().span, "JR-110", fmt::format("the measure should end before {}", found()));
  } catch (const Abandon&) {
    return {};
  }
  return std::move(model.measures.front());
}

// --- what stands in the header --------------------------------------------------------------------------------------

syntax::Model parse_model(const Sources& sources, std::uint32_t file, Diagnostics& diagnostics) {
  return Parser(sources, file, diagnostics).model();
}

Marks parse_marks(const Sources& sources, std::uint32_t file, Diagnostics& diagnostics) {
  Parser parser(sources, file, diagnostics);
  parser.model();
  return parser.marks();
}

syntax::Query parse_query(const Sources& sources, std::uint32_t file, Diagnostics& diagnostics) {
  return Parser(sources, file, diagnostics).query_text();
}

syntax::ExpressionPtr parse_expression(const Sources& sources, std::uint32_t file, Diagnostics& diagnostics) {
  return Parser(sources, file, diagnostics).expression_text();
}

syntax::Measure parse_measure(const Sources& sources, std::uint32_t file, Diagnostics& diagnostics) {
  return Parser(sources, file, diagnostics).measure_text();
}

}  // namespace juniper::language
