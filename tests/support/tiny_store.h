// A store of a few columns in every layout and encoding, and all that a store holds as text.
#pragma once

#include <fmt/format.h>

#include <algorithm>
#include <functional>
#include <random>
#include <string>

#include "store/store.h"
#include "support/columns.h"

namespace juniper::store {

// Everything that a store holds, as text.
inline std::string contents(const Store& store) {
  std::string text = store.signature + fmt::format(" {} ", store.load_nanoseconds);
  for (const ModelText& model : store.model_texts) text += model.name + model.text;
  for (const source::SourceFile& s : store.sources)
    text += fmt::format("{} {} {} {} {}\n", s.table, s.path, s.bytes, s.modified_nanoseconds, s.hash);
  for (const StoredTable& table : store.tables) {
    text += fmt::format("{} {} {}\n", table.name, table.rows, table.source_bytes);
    for (const StoredColumn& column : table.columns) {
      text += fmt::format("{} {} {} {} {} {} {}\n", column.name, column.calculated, column.data.distinct,
                          column.data.nulls, column.data.encoding, to_text(column.data.least, column.data.type),
                          to_text(column.data.most, column.data.type));
      for (std::uint64_t row = 0; row < table.rows; ++row) text += to_text(column.data.at(row), column.data.type) + "|";
    }
  }
  for (const StoredLink& link : store.links) {
    text += fmt::format("{} {} {} {} {} {} {}\n", link.name, link.no_row, link.unmatched, link.encoding, link.table,
                        link.column, static_cast<int>(link.form));
    for (const std::uint64_t row : link.rows.decoded()) text += fmt::format("{}|", row);
  }
  return text;
}

// A store of a few columns in every layout and encoding.
inline Store tiny_store() {
  Store store;
  store.model_texts = {{"x.ridge", "model \"x\"\n"}};
  store.signature = "signature";
  const std::size_t rows = 70;
  std::mt19937_64 random(5);
  StoredTable table;
  table.name = "t";
  table.rows = rows;
  const std::vector<std::string> words{"red", "green", "blue", "", "bluest"};
  const auto add = [&](std::string name, TypeKind kind, const std::function<std::int64_t(std::int64_t)>& value) {
    std::vector<Value> values;
    for (std::size_t i = 0; i < rows; ++i) {
      const std::int64_t v = value(static_cast<std::int64_t>(i));
      if (i % 13 == 12 && name != "delta") {
        values.emplace_back();
      } else if (kind == TypeKind::text) {
        values.push_back(Value::of(words[static_cast<std::size_t>(v)]));
      } else {
        values.push_back(kind == TypeKind::real ? Value::of(static_cast<double>(v) / 3)
                                                : Value::of(static_cast<int128>(v)));
      }
    }
    StoredColumn column;
    column.name = std::move(name);
    column.data = encode_column(test::column_input({kind, 0}, values));
    table.columns.push_back(std::move(column));
  };
  add("packed", TypeKind::integer, [&](std::int64_t) { return static_cast<std::int64_t>(random() % 50); });
  add("dictionary", TypeKind::integer, [&](std::int64_t) { return std::int64_t{1} << random() % 4 * 15; });
  add("delta", TypeKind::datetime, [](std::int64_t i) { return i * i * i * 1'000'000; });
  add("frequent", TypeKind::integer,
      [&](std::int64_t i) { return i % 9 == 0 ? static_cast<std::int64_t>(random() % 100'000'000) : 3; });
  add("runs", TypeKind::date, [](std::int64_t i) { return i / 30 * 400; });
  add("constant", TypeKind::boolean, [](std::int64_t) { return 1; });
  add("text", TypeKind::text, [&](std::int64_t) { return static_cast<std::int64_t>(random() % 5); });
  add("real", TypeKind::real, [&](std::int64_t) { return static_cast<std::int64_t>(random() % 4); });
  add("bits", TypeKind::real, [&](std::int64_t) { return static_cast<std::int64_t>(random()); });
  store.tables.push_back(std::move(table));
  StoredLink link;
  link.table = store.tables.size() - 1;
  link.name = "t.n -> u.k";
  link.no_row = 90;
  std::vector<std::uint64_t> to(rows);
  for (auto& row : to) row = random() % 91;
  link.rows = Codes::encode(to);
  link.unmatched = static_cast<std::uint64_t>(std::count(to.begin(), to.end(), 90));
  link.encoding = link.rows.describe();
  store.links.push_back(link);
  // One of short runs, each row of which leads somewhere.
  link.name = "t.m -> u.k";
  for (std::size_t row = 0; row < rows; ++row) to[row] = row / 4 * 37 % 90;
  link.rows = Codes::encode(to);
  link.unmatched = 0;
  link.encoding = link.rows.describe();
  store.links.push_back(link);
  // One that goes by the codes of a column.
  const Column& key = store.tables.back().columns[1].data;
  link.name = "t.dictionary -> u.k";
  link.column = 1;
  link.form = LinkForm::by_code;
  link.rows = Codes::encode(std::vector<std::uint64_t>(key.null_code, 17));
  link.unmatched = key.nulls;
  store.links.push_back(std::move(link));
  return store;
}

}  // namespace juniper::store
