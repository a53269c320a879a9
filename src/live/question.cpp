#include "live/question.h"

#include <fmt/format.h>

#include <algorithm>
#include <numeric>
#include <optional>

#include "base/exact.h"
#include "base/failure.h"
#include "live/pass.h"
#include "source/column_input.h"
#include "store/resolve_link.h"

namespace juniper::live {

using namespace language;
using engine::ScanKey;
using engine::ScanRequest;
using engine::ScanResult;

namespace {

// What tells rows apart, or is fetched, stands in 64 bits as the values of columns do.
void require_64_bits(const Value& value) {
  if (value.kind() != Value::Kind::exact || base::fits_int64(value.exact())) return;
  throw base::Failure(
      base::error("JR-521", fmt::format("a live table holds {}, which does not fit 64 bits", to_string(value.exact())),
                  "declare the column as text, or as real"));
}

}  // namespace

// --- known values ---------------------------------------------------------------------------------------------------

namespace {

store::Column column_of(Type type, const std::vector<Value>& values) {
  return store::encode_column(
      source::column_of(type, values.size(), [&](std::size_t begin, std::size_t end, source::PieceValues& piece) {
        for (std::size_t i = begin; i < end; ++i) {
          const bool is_null = values[i].is_null();
          piece.is_null.push_back(is_null ? 1 : 0);
          if (type.kind == TypeKind::text) {
            piece.text.push_back(is_null ? std::string_view() : std::string_view(values[i].text()));
          } else if (type.kind == TypeKind::real) {
            piece.real.push_back(is_null ? 0 : values[i].real());
          } else {
            piece.exact.push_back(is_null ? 0 : static_cast<std::int64_t>(values[i].exact()));
          }
        }
      }));
}

}  // namespace

const store::Column& Question::column(ColumnId id) {
  Known& known = columns_[id];
  if (known.column == nullptr) {
    std::vector<Value> values;
    values.assign(known.values.begin(), known.values.end());
    values.emplace_back();  // a live column may have nulls
    known.column = std::make_unique<store::Column>(column_of(source_.model.column(id).type, values));
  }
  return *known.column;
}

std::shared_ptr<const engine::KeyValues> Question::values(TableIndex table, const NodePtr& expression) {
  Known& known = expressions_[{table, canonical(source_.model, expression)}];
  if (known.keys == nullptr) {
    auto keys = std::make_shared<engine::KeyValues>(expression->type);
    for (const Value& value : known.values) keys->add(value);
    keys->sort();
    known.keys = std::move(keys);
  }
  return known.keys;
}

class Question::Coder {
 public:
  explicit Coder(Question& question) : question_(question) {}

  // The codes of a key in all rows of an answer. A value that is not known gets any, and is noted.
  std::vector<std::uint64_t> codes(TableIndex table, const ScanKey& key, const Statement::Key& selected,
                                   const Answer& answer) {
    const auto code = coded(table, key);
    std::vector<std::uint64_t> codes(answer.rows());
    if (!selected.values) {
      for (std::size_t row = 0; row < codes.size(); ++row) codes[row] = code(answer.value(selected.column, row));
      return codes;
    }
    // Places in a list: each is looked up once.
    std::vector<std::optional<std::uint64_t>> of_place(selected.values->size());
    for (std::size_t row = 0; row < codes.size(); ++row) {
      const auto place = static_cast<std::size_t>(answer.value(selected.column, row).exact());
      if (!of_place[place]) of_place[place] = code((*selected.values)[place]);
      codes[row] = *of_place[place];
    }
    return codes;
  }

  // Takes what was noted over; throws where there was something.
  void finish() {
    if (fresh_.empty()) return;
    for (auto& [known, values] : fresh_) {
      known->values.merge(values);
      known->column = nullptr;
      known->keys = nullptr;
    }
    throw engine::MoreValues();
  }

 private:
  std::function<std::uint64_t(const Value&)> coded(TableIndex table, const ScanKey& key) {
    if (key.kind == ScanKey::Kind::row)
      return [](const Value& value) { return static_cast<std::uint64_t>(value.exact()); };
    if (key.kind == ScanKey::Kind::column) {
      const store::Column& column = question_.source_.column(key.column.column);
      Known& known = question_.columns_[key.column.column];
      return [this, &column, &known](const Value& value) {
        if (value.is_null()) return column.null_code;
        const auto code = column.code_of(value);
        return code ? *code : note(known, value);
      };
    }
    // Values of one table may be coded together with those of others.
    const auto keys = key.values != nullptr ? key.values : question_.values(table, key.expression);
    Known& known = question_.expressions_[{table, canonical(question_.source_.model, key.expression)}];
    return [this, keys, &known](const Value& value) {
      if (value.is_null()) return keys->null_code();
      return known.values.contains(value) ? keys->code_of(value) : note(known, value);
    };
  }
  std::uint64_t note(Known& known, const Value& value) {
    require_64_bits(value);
    fresh_[&known].insert(value);
    return 0;
  }

  Question& question_;
  std::map<Known*, Values> fresh_;
};

// --- rows -----------------------------------------------------------------------------------------------------------

namespace {

// So many rows of a live table may be looked at one by one.
constexpr std::uint64_t most_fetched = 200'000;

// The rows of an answer in the order of their values, column by column: an engine gives them in any.
std::vector<std::size_t> order_of(const Answer& answer, std::size_t columns) {
  std::vector<std::size_t> order(answer.rows());
  std::iota(order.begin(), order.end(), std::size_t{0});
  std::sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) {
    for (std::size_t c = 0; c < columns; ++c) {
      if (const int by = compare(answer.value(c, a), answer.value(c, b)); by != 0) return by < 0;
    }
    return false;
  });
  return order;
}

}  // namespace

void Question::fetch(TableIndex t) {
  const Table& table = source_.model.tables[t];
  Statement statement(source_, places_, t);
  for (std::uint32_t c = 0; c < table.columns.size(); ++c) {
    auto column = std::make_shared<Node>();
    column->op = Op::column;
    column->type = table.columns[c].type;
    column->column = {t, {}, {t, c}};
    statement.select(statement.dialect().key(statement.operand(column), column->type), column->type);
  }
  const auto answer = places_.ask(t, statement.text() + fmt::format("\nLIMIT {}", most_fetched + 1), statement.types());
  if (answer->rows() > most_fetched) {
    refuse(statement.dialect().engine(),
           fmt::format("it looks at the rows of {} one by one, and these are more than {}", table.name, most_fetched),
           "ask for aggregates over groups of them: compare by =, or by one < or >; or load the table");
  }
  store::StoredTable& stored = store_.tables[t];
  stored.rows = answer->rows();
  const std::vector<std::size_t> order = order_of(*answer, table.columns.size());
  for (std::uint32_t c = 0; c < table.columns.size(); ++c) {
    std::vector<Value> values;
    for (const std::size_t row : order) {
      values.push_back(answer->value(c, row));
      require_64_bits(values.back());
    }
    stored.columns[c].data = column_of(table.columns[c].type, values);
    if (table.columns[c].key && (stored.columns[c].data.nulls != 0 || stored.columns[c].data.distinct != stored.rows)) {
      throw base::Failure({source_.model.sources.diagnostic(
          Severity::error, "JR-508", table.columns[c].span,
          fmt::format("the key {}.{} is null in some row, or twice the same", table.name, table.columns[c].name),
          "mend the data, or leave `key` out")});
    }
  }
  fetched_.insert(t);
  for (TableIndex other = 0; other < source_.model.tables.size(); ++other) resolve_links(other);
}

// The links of a table that lead to tables whose rows are here.
void Question::resolve_links(TableIndex t) {
  if (!is_fetched(t)) return;
  for (LinkIndex i = 0; i < source_.model.links.size(); ++i) {
    const Link& link = source_.model.links[i];
    if (link.from.table != t || source_.is_live(link.to.table)) continue;
    std::vector<const store::Column*> from;
    std::vector<const store::Column*> to;
    for (const std::uint32_t c : link.from.columns) from.push_back(&store_.tables[t].columns[c].data);
    for (const std::uint32_t c : link.to.columns) to.push_back(&store_.tables[link.to.table].columns[c].data);
    store::StoredLink resolved;
    std::string broken = link.broken;
    if (broken.empty() && store::repeated_key(to)) broken = "its one side holds a key twice";
    if (broken.empty()) resolved = store::resolve_link(from, to);
    resolved.name = source_.model.link_name(link);
    resolved.no_row = to[0]->rows;
    resolved.table = t;
    resolved.column = link.from.columns[0];
    resolved.broken = broken;
    store_.links[i] = std::move(resolved);
  }
}

ScanResult Question::scan(const engine::Source& source, const ScanRequest& request) {
  Coder coder(*this);
  return ask_pass(
      source, places_, request,
      [&](const ScanKey& key, const Statement::Key& selected, const Answer& answer) {
        return coder.codes(request.table, key, selected, answer);
      },
      [&] { coder.finish(); });
}

}  // namespace juniper::live
