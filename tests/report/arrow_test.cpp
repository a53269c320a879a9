// Results through the Arrow C data interface, read back by the letter of the standard and held against the cells.
#include "juniper/arrow.h"

#include <gtest/gtest.h>

#include <cstring>
#include <random>

#include "support/support.h"

namespace juniper::arrow_test {
namespace {

// Reads values of an array by its format, as a program that knows nothing of us.
class Reader {
 public:
  Reader(const ArrowSchema& schema, const ArrowArray& array) : format_(schema.format), array_(array) {}

  std::string text(std::size_t row) const {
    if (array_.buffers[0] != nullptr && !bit(0, row)) return "null";
    if (format_ == "b") return bit(1, row) ? "true" : "false";
    if (format_ == "l" || format_ == "tsu:" || format_ == "ttu") return exact<std::int64_t>(row, kind(), 0);
    if (format_ == "tdD") return exact<std::int32_t>(row, TypeKind::date, 0);
    if (format_.starts_with("d:38,"))
      return exact<int128>(row, TypeKind::decimal, static_cast<std::uint8_t>(std::stoi(format_.substr(5))));
    if (format_ == "g") return to_text(Value::of(at<double>(1, row)), {TypeKind::real, 0});
    if (format_ == "U") {
      const auto begin = at<std::int64_t>(1, row);
      const auto end = at<std::int64_t>(1, row + 1);
      return {static_cast<const char*>(array_.buffers[2]) + begin, static_cast<std::size_t>(end - begin)};
    }
    return "unknown format " + format_;
  }

 private:
  template <class Number>
  Number at(std::size_t buffer, std::size_t row) const {
    Number number{};
    std::memcpy(&number, static_cast<const char*>(array_.buffers[buffer]) + row * sizeof(Number), sizeof(Number));
    return number;
  }
  bool bit(std::size_t buffer, std::size_t row) const {
    return (static_cast<const unsigned char*>(array_.buffers[buffer])[row / 8] >> (row % 8) & 1U) != 0;
  }
  TypeKind kind() const {
    return format_ == "l" ? TypeKind::integer : format_ == "ttu" ? TypeKind::time : TypeKind::datetime;
  }
  template <class Number>
  std::string exact(std::size_t row, TypeKind kind, std::uint8_t scale) const {
    return to_text(Value::of(static_cast<int128>(at<Number>(1, row))), {kind, scale});
  }

  std::string format_;
  const ArrowArray& array_;
};

struct Exported {
  ArrowSchema schema{};
  ArrowArray array{};
  ~Exported() {
    if (schema.release != nullptr) schema.release(&schema);
    if (array.release != nullptr) array.release(&array);
  }
};

void expect_same(const QueryResult& result) {
  Exported arrow;
  ASSERT_TRUE(to_arrow(result, arrow.schema, arrow.array));
  EXPECT_STREQ(arrow.schema.format, "+s");
  ASSERT_EQ(arrow.array.length, static_cast<std::int64_t>(result.rows.size()));
  ASSERT_EQ(arrow.schema.n_children, static_cast<std::int64_t>(result.columns.size()) + 1);
  ASSERT_EQ(arrow.array.n_children, arrow.schema.n_children);
  for (std::size_t c = 0; c <= result.columns.size(); ++c) {
    const ArrowArray& array = *arrow.array.children[c];
    ASSERT_EQ(array.length, arrow.array.length);
    ASSERT_EQ(array.offset, 0);
    const Reader reader(*arrow.schema.children[c], array);
    std::int64_t nulls = 0;
    for (std::size_t row = 0; row < result.rows.size(); ++row) {
      if (c == 0) {
        EXPECT_EQ(reader.text(row), result.levels[result.rows[row].level]);
        continue;
      }
      const ResultColumn& column = result.columns[c - 1];
      const Value& value = result.rows[row].cells[c - 1];
      EXPECT_STREQ(arrow.schema.children[c]->name, column.name.c_str());
      EXPECT_EQ(reader.text(row), value.is_null() ? "null" : to_text(value, column.type)) << column.name;
      nulls += value.is_null() ? 1 : 0;
    }
    EXPECT_EQ(array.null_count, nulls);
  }
}

// A result with columns of every type, and values drawn over all of their width.
QueryResult drawn(std::mt19937_64& random, std::size_t rows) {
  QueryResult result;
  result.levels = {"detail", "grand"};
  for (const TypeKind kind : {TypeKind::boolean, TypeKind::integer, TypeKind::decimal, TypeKind::real, TypeKind::text,
                              TypeKind::date, TypeKind::datetime, TypeKind::time}) {
    const auto scale = static_cast<std::uint8_t>(kind == TypeKind::decimal ? random() % 19 : 0);
    result.columns.push_back({"column " + std::to_string(result.columns.size()), Type{kind, scale}, "", false});
  }
  const auto value = [&](Type type) {
    if (random() % 4 == 0) return Value();
    const auto below = [&](std::int64_t bound) {
      return Value::of(static_cast<int128>(static_cast<std::int64_t>(random() % static_cast<std::uint64_t>(bound))));
    };
    switch (type.kind) {
      case TypeKind::boolean:
        return below(2);
      case TypeKind::integer:
        return Value::of(static_cast<int128>(static_cast<std::int64_t>(random())));
      case TypeKind::decimal:
        return Value::of(static_cast<int128>(static_cast<std::int64_t>(random())) *
                         static_cast<int128>(1'000'000'000'000));
      case TypeKind::real:
        return Value::of(static_cast<double>(static_cast<std::int64_t>(random())) / 3);
      case TypeKind::text:
        return Value::of(std::string(random() % 20, static_cast<char>('a' + random() % 26)));
      case TypeKind::date:
        return below(100'000);
      case TypeKind::datetime:
        return below(4'000'000'000'000'000);
      case TypeKind::time:
        return below(86'400'000'000);
    }
    return Value();
  };
  for (std::size_t r = 0; r < rows; ++r) {
    ResultRow& row = result.rows.emplace_back();
    row.level = random() % 8 == 0 ? 1 : 0;
    for (const ResultColumn& column : result.columns) row.cells.push_back(value(column.type));
  }
  return result;
}

TEST(Arrow, EveryTypeComesBack) {
  const std::uint64_t seed = test::test_seed(20);
  std::mt19937_64 random(seed);
  for (const std::size_t rows : {0, 1, 7, 8, 9, 64, 1000}) {
    SCOPED_TRACE("seed " + std::to_string(seed) + ", rows " + std::to_string(rows));
    expect_same(drawn(random, rows));
  }
}

TEST(Arrow, AnAnswerComesBack) {
  const test::SmallModel model(R"(
    table t from csv "t.csv" { key id integer  level text  kwh decimal(2)  day date }
    measure total = sum(kwh for t))",
                               {{"t.csv", "id,level,kwh,day\n1,low,1.50,2025-03-01\n2,,2.25,\n3,high,,2025-03-02\n"}});
  const auto result = ask(model.open(), {"by t.level, t.day show total keep empty total grand"});
  ASSERT_TRUE(result) << test::messages(result.error());
  expect_same(*result);
}

// Whoever takes an array may keep one column and let the rest go.
TEST(Arrow, AColumnMayBeKeptAlone) {
  std::mt19937_64 random(1);
  const QueryResult result = drawn(random, 100);
  ArrowSchema schema{};
  ArrowArray array{};
  ASSERT_TRUE(to_arrow(result, schema, array));
  ArrowArray column = *array.children[5];
  ArrowSchema field = *schema.children[5];
  array.children[5]->release = nullptr;  // so the standard says that it has moved
  schema.children[5]->release = nullptr;
  array.release(&array);
  schema.release(&schema);
  EXPECT_EQ(array.release, nullptr);
  EXPECT_EQ(schema.release, nullptr);
  const Reader reader(field, column);
  for (std::size_t row = 0; row < 100; ++row) {
    const Value& value = result.rows[row].cells[4];
    EXPECT_EQ(reader.text(row), value.is_null() ? "null" : value.text());
  }
  column.release(&column);
  field.release(&field);
}

TEST(Arrow, WhatDoesNotFitIsRefused) {
  const int128 nines = static_cast<int128>(9'999'999'999'999'999'999ULL);
  for (const auto& [type, fits, large] :
       {std::tuple(Type{TypeKind::integer, 0}, static_cast<int128>(INT64_MAX), static_cast<int128>(INT64_MAX) + 1),
        std::tuple(Type{TypeKind::decimal, 3}, nines * (nines + 2), nines * (nines + 2) + 1)}) {
    QueryResult result;
    result.levels = {"detail"};
    result.columns = {{"n", type, "", false}};
    result.rows = {{{Value::of(fits)}, 0}, {{Value::of(-fits)}, 0}};
    expect_same(result);
    result.rows.push_back({{Value::of(large)}, 0});
    Exported arrow;
    const auto written = to_arrow(result, arrow.schema, arrow.array);
    ASSERT_FALSE(written);
    EXPECT_EQ(written.error()[0].code, "JR-709");
    EXPECT_EQ(arrow.array.release, nullptr);
    EXPECT_EQ(arrow.schema.release, nullptr);
  }
}

}  // namespace
}  // namespace juniper::arrow_test
