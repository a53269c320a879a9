#include "live/statement.h"

#include <fmt/format.h>

#include <algorithm>
#include <bit>
#include <set>

#include "base/diagnostics.h"
#include "base/exact.h"
#include "base/failure.h"
#include "language/operations.h"
#include "language/traverse.h"
#include "sql/dialect.h"

namespace juniper::live {

using namespace language;

namespace {

// So many rows of a table that is elsewhere are sent along.
constexpr std::uint64_t most_sent = 200'000;

Type integer_type() {
  return {TypeKind::integer, 0};
}

// The same expression without the first links of its columns.
NodePtr behind(const NodePtr& node, const std::vector<LinkIndex>& path, TableIndex table) {
  return replaced(node, [&](const NodePtr& n) -> NodePtr {
    if (n->op != Op::column) return nullptr;
    auto copy = std::make_shared<Node>(*n);
    copy->column.start = table;
    copy->column.path.erase(copy->column.path.begin(),
                            copy->column.path.begin() + static_cast<std::ptrdiff_t>(path.size()));
    return copy;
  });
}

// What an expression is where no row is.
NodePtr over_nothing(const NodePtr& node) {
  return replaced(node, [&](const NodePtr& n) -> NodePtr {
    if (n->op != Op::column) return nullptr;
    auto null = std::make_shared<Node>();
    null->op = Op::literal;
    null->type = n->type;
    null->span = n->span;
    return null;
  });
}

// Keys that are numbers or days as few ranges without a gap, which an index serves better than a long list; nothing where
// they are many.
std::optional<std::vector<std::pair<Value, Value>>> ranges_of(std::vector<Value> keys, Type type) {
  constexpr std::size_t most_ranges = 8;
  if ((type.kind != TypeKind::integer && type.kind != TypeKind::date) || keys.size() <= 2 * most_ranges)
    return std::nullopt;
  std::sort(keys.begin(), keys.end(), [](const Value& a, const Value& b) { return a.exact() < b.exact(); });
  std::vector<std::pair<Value, Value>> ranges;
  for (const Value& key : keys) {
    if (!ranges.empty() && key.exact() <= ranges.back().second.exact() + 1) {
      ranges.back().second = key;
    } else if (ranges.size() == most_ranges) {
      return std::nullopt;
    } else {
      ranges.emplace_back(key, key);
    }
  }
  return ranges;
}

Value only_value(const engine::Source& source, const NodePtr& constant) {
  const engine::LeafValues none;
  engine::Program program(source, none, 1);
  const engine::Vector value = program.evaluate(program.add(constant));
  return value.value_at(0);
}

}  // namespace

Value Statement::Key::value_in(const Answer& answer, std::size_t row) const {
  const Value value = answer.value(column, row);
  return values ? (*values)[static_cast<std::size_t>(value.exact())] : value;
}

Statement::Statement(const engine::Source& source, Places& places, TableIndex table)
    : source_(source), model_(source.model), places_(places), table_(table), dialect_(places.of(table).dialect()) {
  aliases_[{}] = "t$0";
  from_.tables = places.relation(table) + (dialect_.joins() ? " AS t$0" : "");
  from_.aliases = 1;
}

// --- operands -------------------------------------------------------------------------------------------------------

Sql Statement::operand(const NodePtr& node) {
  const std::vector<ColumnRef> refs = column_refs(node);
  if (const auto path = looked_up_over(refs)) {
    const std::string known = canonical(model_, node);
    const auto at = looked_up_.find(known);
    if (at != looked_up_.end()) return at->second;
    const Sql value = dialect_.looked_up(look_up(*path, node), from_);
    looked_up_.emplace(known, value);
    return value;
  }
  switch (form_of(node->op)) {
    case OpForm::literal:
      return dialect_.literal(node->literal, node->type);
    case OpForm::column:
      return column(node->column);
    case OpForm::operation: {
      std::vector<Sql> operands;
      for (const NodePtr& child : node->children) operands.push_back(operand(child));
      const int bits = bits_of(*node, operands);
      return {dialect_.operation(*node, operands, bits, source_.setting.today), bits};
    }
    case OpForm::field:
    case OpForm::name:
    case OpForm::measure:
    case OpForm::modified:
    case OpForm::let:
    case OpForm::aggregate:
    case OpForm::grouping:
      break;
  }
  source_.require_rows(table_);
  return {};
}

int Statement::bits_of(const Node& node, const std::vector<Sql>& x) const {
  if (!node.type.is_exact_number()) return 64;
  int most = 0;
  for (std::size_t i = 0; i < x.size(); ++i) {
    if (node.children[i]->type.is_exact_number()) most = std::max(most, x[i].bits);
  }
  const auto more_digits = [&](int digits) { return digits <= 0 ? 0 : (digits * 10 + 2) / 3; };
  const auto is_call = [&](std::initializer_list<Function> functions) {
    return node.op == Op::call && std::find(functions.begin(), functions.end(), node.function) != functions.end();
  };
  int bits = 64;
  if (node.op == Op::multiply) {
    bits = x[0].bits + x[1].bits;
  } else if (node.op == Op::rescale) {
    bits = x[0].bits + more_digits(node.type.scale - node.children[0]->type.scale);
  } else if (node.op == Op::modulo) {
    bits = std::min(x[0].bits, x[1].bits);
  } else if (node.op == Op::cases || is_call({Function::least, Function::greatest, Function::coalesce})) {
    bits = most;
  } else if (node.op == Op::add || node.op == Op::subtract || node.op == Op::negate || node.op == Op::int_divide ||
             is_call({Function::abs, Function::round, Function::floor, Function::ceil, Function::trunc})) {
    bits = most + 1;
  }
  if (is_call({Function::year, Function::quarter, Function::month, Function::day, Function::weekday, Function::week,
               Function::hour, Function::minute, Function::second, Function::days_between, Function::sign}))
    bits = 24;
  if (is_call({Function::length})) bits = 40;
  const std::optional<int> kept = dialect_.bits(bits);
  if (!kept) {
    refuse(dialect_.engine(), fmt::format("'{}' may need more than {} bits", model_.sources.text(node.span), most_bits),
           "compute with fewer digits, or with reals");
  }
  return *kept;
}

void Statement::add_condition(const NodePtr& whole) {
  std::vector<NodePtr> parts;
  split_conjunction(whole, parts);
  for (const NodePtr& part : parts) add_part(part);
}

void Statement::add_part(const NodePtr& condition) {
  const auto path = looked_up_over(column_refs(condition));
  if (path) {
    LookUp truths = look_up(*path, condition);
    const auto is_true = [](const Value& value) { return !value.is_null() && value.exact() != 0; };
    // Where rows without a partner are left out anyway, a list of keys is enough, which an index may serve.
    if (truths.keys.size() == 1 && !is_true(truths.otherwise)) {
      std::vector<Value> keys;
      for (std::size_t i = 0; i < truths.rows.size(); ++i) {
        if (is_true(truths.values[i])) keys.push_back(std::move(truths.rows[i][0]));
      }
      if (const auto ranges = ranges_of(keys, truths.key_types[0])) {
        std::string any;
        for (const auto& [first, last] : *ranges) {
          any += fmt::format("{}({} BETWEEN {} AND {})", any.empty() ? "" : " OR ", truths.keys[0].text,
                             dialect_.literal(first, truths.key_types[0]).text,
                             dialect_.literal(last, truths.key_types[0]).text);
        }
        conditions_.push_back("(" + any + ")");
        return;
      }
      constexpr std::size_t most_listed = 20'000;
      if (keys.size() <= most_listed) {
        conditions_.push_back(dialect_.among(truths.keys[0], keys, truths.key_types[0]));
        return;
      }
      truths = look_up(*path, condition);
    }
    conditions_.push_back(dialect_.looked_up(truths, from_).text);
    return;
  }
  conditions_.push_back(operand(condition).text);
}

// --- columns and links ----------------------------------------------------------------------------------------------

bool Statement::is_looked_up(LinkIndex link) const {
  return !dialect_.joins() || !places_.are_together(table_, model_.links[link].to.table);
}

std::optional<Statement::Path> Statement::looked_up_over(const std::vector<ColumnRef>& refs) const {
  std::optional<Path> over;
  for (const ColumnRef& ref : refs) {
    const auto link = std::find_if(ref.path.begin(), ref.path.end(), [&](LinkIndex l) { return is_looked_up(l); });
    if (link == ref.path.end()) return std::nullopt;
    const Path path(ref.path.begin(), link + 1);
    if (over && *over != path) return std::nullopt;
    over = path;
  }
  return over;
}

Sql Statement::column(const ColumnRef& ref) {
  const Column& column = model_.column(ref.column);
  if (column.is_calculated()) {
    const NodePtr own = replaced(column.expression, [&](const NodePtr& n) -> NodePtr {
      if (n->op != Op::column) return nullptr;
      auto copy = std::make_shared<Node>(*n);
      copy->variable = slice_row;
      copy->column.start = ref.start;
      copy->column.path.insert(copy->column.path.begin(), ref.path.begin(), ref.path.end());
      return copy;
    });
    return operand(own);
  }
  const std::string name = dialect_.name(alias_of(ref.path), column.header);
  return dialect_.column(name, column, places_.native(ref.column));
}

std::string Statement::alias_of(const Path& path) {
  if (const auto known = aliases_.find(path); known != aliases_.end()) return known->second;
  const LinkIndex link = path.back();
  require_unique(link);
  const Link& over = model_.links[link];
  const Path before(path.begin(), path.end() - 1);
  const std::string from = alias_of(before);
  const std::string alias = fmt::format("t${}", from_.aliases++);
  aliases_[path] = alias;
  std::vector<JoinedKey> keys;
  for (std::size_t c = 0; c < over.from.columns.size(); ++c) {
    const ColumnRef many{table_, before, {over.from.table, over.from.columns[c]}};
    const ColumnRef one{table_, path, {over.to.table, over.to.columns[c]}};
    const Type type = model_.column(one.column).type;
    keys.push_back({dialect_.key(column(many), type), dialect_.key(column(one), type)});
  }
  dialect_.join(places_.relation(over.to.table), alias, keys, from_);
  return alias;
}

// A key that repeats would count rows of the many side twice.
void Statement::require_unique(LinkIndex link) {
  const LinkEnd& to = model_.links[link].to;
  Statement keys(source_, places_, to.table);
  std::string columns;
  std::string whole;
  for (const std::uint32_t c : to.columns) {
    const Sql key = keys.column({to.table, {}, {to.table, c}});
    columns += (columns.empty() ? "" : ", ") + key.text;
    whole += fmt::format("{}{} IS NOT NULL", whole.empty() ? "" : " AND ", key.text);
  }
  const std::string text = fmt::format("SELECT 1 FROM {} WHERE {} GROUP BY {} HAVING COUNT(*) > 1 LIMIT 1",
                                       keys.from_.tables, whole, columns);
  if (places_.ask(to.table, text, {integer_type()})->rows() != 0) fail_repeated(link);
}

void Statement::fail_repeated(LinkIndex link) const {
  throw base::Failure(base::error("JR-706",
                                  fmt::format("this needs the link {}, which is broken: its one side holds a key twice",
                                              model_.link_name(model_.links[link])),
                                  "mend the data, or link by what tells its rows apart"));
}

// --- look-ups -------------------------------------------------------------------------------------------------------

LookUp Statement::keys_of(const Path& path) {
  const Link& link = model_.links[path.back()];
  const Path before(path.begin(), path.end() - 1);
  LookUp look_up;
  for (const std::uint32_t c : link.from.columns) {
    look_up.keys.push_back(column({table_, before, {link.from.table, c}}));
    look_up.key_types.push_back(model_.column({link.from.table, c}).type);
  }
  return look_up;
}

LookUp Statement::look_up(const Path& path, const NodePtr& expression) {
  const TableIndex target = model_.links[path.back()].to.table;
  const NodePtr there = behind(expression, path, target);
  LookUp look_up = keys_of(path);
  look_up.type = expression->type;
  look_up.otherwise = only_value(source_, over_nothing(expression));
  if (source_.is_live(target)) {
    add_live(path, there, look_up);
  } else {
    add_loaded(path, there, look_up);
  }
  return look_up;
}

void Statement::add_loaded(const Path& path, const NodePtr& behind, LookUp& look_up) const {
  const LinkEnd& to = model_.links[path.back()].to;
  source_.link(path.back());  // throws where it is broken
  const std::uint64_t rows = source_.rows(to.table);
  if (rows > most_sent) {
    refuse(
        dialect_.engine(),
        fmt::format("{} has {} rows, too many to be sent along with a statement", model_.tables[to.table].name, rows),
        "leave it where the rows are that lead to it: live on the same place");
  }
  // Texts are views of what the program holds.
  std::optional<engine::Program> program;
  engine::Vector values;
  if (behind) {
    program.emplace(source_, to.table);
    values = program->evaluate(program->add(behind), source_.threads);
  }
  for (std::uint64_t row = 0; row < rows; ++row) {
    std::vector<Value> key;
    for (const std::uint32_t c : to.columns) key.push_back(source_.column({to.table, c}).at(row));
    if (std::any_of(key.begin(), key.end(), [](const Value& part) { return part.is_null(); })) continue;
    if (behind && values.state[row] == engine::State::overflow)
      refuse(dialect_.engine(),
             fmt::format("a value behind {} does not fit 128 bits", model_.link_name(model_.links[path.back()])));
    look_up.rows.push_back(std::move(key));
    look_up.values.push_back(behind ? values.value_at(row) : Value::of(static_cast<int128>(row)));
  }
}

void Statement::add_live(const Path& path, const NodePtr& behind, LookUp& look_up) {
  const LinkEnd& to = model_.links[path.back()].to;
  Statement there(source_, places_, to.table);
  for (std::size_t c = 0; c < to.columns.size(); ++c) {
    const Sql key = there.column({to.table, {}, {to.table, to.columns[c]}});
    there.select(there.dialect_.key(key, look_up.key_types[c]), look_up.key_types[c]);
  }
  there.select(there.dialect_.key(there.operand(behind), behind->type), behind->type);
  const std::string text = there.text() + fmt::format("\nLIMIT {}", most_sent + 1);
  const auto answer = places_.ask(to.table, text, there.types());
  if (answer->rows() > most_sent) {
    refuse(dialect_.engine(),
           fmt::format("{} has more than {} rows, too many to be sent along with a statement",
                       model_.tables[to.table].name, most_sent),
           "ask by the key that leads there");
  }
  std::set<std::vector<std::string>> seen;
  for (std::size_t row = 0; row < answer->rows(); ++row) {
    std::vector<Value> key;
    std::vector<std::string> written;
    for (std::size_t c = 0; c < to.columns.size(); ++c) {
      key.push_back(answer->value(c, row));
      written.push_back(to_text(key.back(), look_up.key_types[c]));
    }
    if (std::any_of(key.begin(), key.end(), [](const Value& part) { return part.is_null(); })) continue;
    if (!seen.insert(std::move(written)).second) fail_repeated(path.back());
    look_up.rows.push_back(std::move(key));
    look_up.values.push_back(answer->value(to.columns.size(), row));
  }
}

// --- what is selected -----------------------------------------------------------------------------------------------

std::size_t Statement::select(const std::string& text, Type type) {
  selected_.push_back(text);
  types_.push_back(type);
  return selected_.size() - 1;
}

// Few different values stand behind a link: places in a list of them are all that the engine needs to know.
Statement::Key Statement::select_looked_up(LookUp look_up) {
  std::vector<Value> values = look_up.values;
  values.push_back(look_up.otherwise);
  const auto before = [](const Value& a, const Value& b) { return compare(a, b) < 0; };
  std::sort(values.begin(), values.end(), before);
  values.erase(
      std::unique(values.begin(), values.end(), [](const Value& a, const Value& b) { return compare(a, b) == 0; }),
      values.end());
  const auto place_of = [&](const Value& value) {
    const auto at = std::lower_bound(values.begin(), values.end(), value, before);
    return Value::of(static_cast<int128>(at - values.begin()));
  };
  for (Value& value : look_up.values) value = place_of(value);
  look_up.otherwise = place_of(look_up.otherwise);
  look_up.type = integer_type();
  Key key;
  key.column = select(dialect_.key(dialect_.looked_up(look_up, from_), look_up.type), look_up.type);
  key.values = std::move(values);
  groups_.push_back(key.column);
  return key;
}

Statement::Key Statement::select_key(const NodePtr& expression) {
  if (const auto path = looked_up_over(column_refs(expression))) return select_looked_up(look_up(*path, expression));
  Key key;
  key.column = select(dialect_.key(operand(expression), expression->type), expression->type);
  // A constant is no place to group by: engines take a number for that of a column. What reads a column has its name.
  if (column_refs(expression).empty() || selected_.back().find_first_of("\"`$") == std::string::npos) {
    has_constant_keys_ = true;
  } else {
    groups_.push_back(key.column);
  }
  return key;
}

Statement::Key Statement::select_key(const engine::ScanKey& key) {
  switch (key.kind) {
    case engine::ScanKey::Kind::column: {
      auto node = std::make_shared<Node>();
      node->op = Op::column;
      node->type = model_.column(key.column.column).type;
      node->column = key.column;
      return select_key(node);
    }
    case engine::ScanKey::Kind::given:
    case engine::ScanKey::Kind::value:
      return select_key(key.expression);
    case engine::ScanKey::Kind::row: {
      source_.require_rows(key.path.empty() ? table_ : model_.links[key.path.back()].to.table);
      // The row that the first loaded table's rows lead to, and from there on in the store.
      const auto first = std::find_if(key.path.begin(), key.path.end(), [&](LinkIndex l) { return is_looked_up(l); });
      const Path path(key.path.begin(), first + 1);
      LookUp rows = keys_of(path);
      rows.type = integer_type();
      rows.otherwise = Value::of(static_cast<int128>(source_.rows(model_.links[path.back()].to.table)));
      add_loaded(path, nullptr, rows);
      for (auto link = first + 1; link != key.path.end(); ++link) {
        const store::LinkRows leads = source_.link_rows(*link);
        const std::uint64_t none = source_.rows(model_.links[*link].to.table);
        const auto next = [&](Value& row) {
          const auto from = static_cast<std::uint64_t>(row.exact());
          row = Value::of(static_cast<int128>(from < leads.size() ? leads.at(from) : none));
        };
        for (Value& row : rows.values) next(row);
        next(rows.otherwise);
      }
      return select_looked_up(std::move(rows));
    }
  }
  return {};
}

std::string Statement::text() const {
  std::string text;
  for (const std::string& part : from_.before) text += (text.empty() ? "WITH " : ",\n") + part;
  if (!text.empty()) text += '\n';
  std::string columns;
  for (std::size_t c = 0; c < selected_.size(); ++c)
    columns += fmt::format("{}{} AS c{}", c == 0 ? "" : ", ", selected_[c], c);
  text += fmt::format("SELECT {}\nFROM {}", columns, from_.tables);
  for (std::size_t i = 0; i < conditions_.size(); ++i) text += (i == 0 ? "\nWHERE " : "\n  AND ") + conditions_[i];
  for (std::size_t i = 0; i < groups_.size(); ++i)
    text += fmt::format("{}{}", i == 0 ? "\nGROUP BY " : ", ", selected_[groups_[i]]);
  // Without rows, a constant has no group either.
  if (has_constant_keys_ && groups_.empty()) text += "\nHAVING COUNT(*) > 0";
  return text;
}

}  // namespace juniper::live
