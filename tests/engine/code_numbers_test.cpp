// Aggregates that take codes, beside those that take the values: over columns of each layout, with nulls and without,
// for few groups and many, added as a scan adds them and merged.
#include "engine/aggregate/code_numbers.h"

#include <gtest/gtest.h>

#include <cmath>
#include <functional>
#include <random>

#include "base/exact.h"
#include "source/column_input.h"
#include "support/columns.h"

namespace juniper::engine::code_numbers_test {
namespace {

using language::Aggregate;

struct Case {
  Aggregate aggregate;
  double fraction = 0.5;
};

language::Node node_of(const Case& given, Type type) {
  language::Node node;
  node.op = language::Op::aggregate;
  node.aggregate = given.aggregate;
  node.literal = Value::of(given.fraction);
  auto child = std::make_shared<language::Node>();
  child->type = type;
  node.children.push_back(std::move(child));
  return node;
}

bool is_of_reals(Aggregate aggregate) {
  return aggregate == Aggregate::median || aggregate == Aggregate::quantile || aggregate == Aggregate::stddev ||
         aggregate == Aggregate::variance_pop;
}

std::unique_ptr<Accumulator> by_codes(const language::Node& node, const store::Column& column) {
  switch (node.aggregate) {
    case Aggregate::sum:
    case Aggregate::avg:
      return make_code_sum(node, column);
    case Aggregate::min:
      return make_code_extreme(column, true);
    case Aggregate::max:
      return make_code_extreme(column, false);
    case Aggregate::stddev:
    case Aggregate::variance_pop:
      return make_code_spread(node, column);
    case Aggregate::row_count:
    case Aggregate::count:
    case Aggregate::count_distinct:
    case Aggregate::product:
    case Aggregate::median:
    case Aggregate::quantile:
    case Aggregate::variance:
    case Aggregate::stddev_pop:
    case Aggregate::any:
    case Aggregate::every:
    case Aggregate::first:
    case Aggregate::last:
    case Aggregate::list:
    case Aggregate::rank:
    case Aggregate::exists:
    case Aggregate::only:
      return make_code_quantile(column, node.literal.real());
  }
  return nullptr;
}

// The column's values as an aggregate reads them: the numbers, or reals.
Vector values_of(const store::Column& column, bool as_reals) {
  Vector values;
  const Repr exact = column.type.kind == TypeKind::text ? Repr::text : Repr::narrow;
  values.reset(as_reals ? Repr::real : exact, column.rows);
  for (std::size_t i = 0; i < column.rows; ++i) {
    const Value value = column.at(i);
    if (value.is_null()) {
      values.state[i] = State::null;
    } else if (as_reals) {
      values.real[i] = base::to_real(value.exact(), column.type.scale);
    } else {
      values.set(i, value);
    }
  }
  values.note_states();
  return values;
}

void expect_equal(const Accumulator& found, const Accumulator& expected, std::size_t groups) {
  std::vector<GroupIndex> all(groups + 1);  // one more: a group without rows
  for (std::size_t g = 0; g < all.size(); ++g) all[g] = static_cast<GroupIndex>(g);
  const Vector a = found.result(all);
  const Vector b = expected.result(all);
  for (std::size_t g = 0; g < all.size(); ++g) {
    ASSERT_EQ(a.state[g], b.state[g]) << g;
    if (a.state[g] != State::value) continue;
    if (a.repr == Repr::real) {
      ASSERT_NEAR(a.real[g], b.real[g], 1e-9 * std::abs(b.real[g])) << g;
    } else {
      ASSERT_TRUE(a.value_at(g) == b.value_at(g)) << g;
    }
  }
}

class CodeNumbers : public testing::TestWithParam<std::size_t> {};

store::Column column_of(Type type, const std::vector<Value>& values) {
  return store::encode_column(test::column_input(type, values));
}

// Rows in parts, as a scan has them: of one group, of few, and some rows alone; then merged with the groups turned
// round.
void expect_same(const store::Column& column, const Case& given, std::size_t groups) {
  std::mt19937_64 random(groups + column.rows);
  const language::Node node = node_of(given, column.type);
  const Vector values = values_of(column, is_of_reals(given.aggregate));
  const std::vector<const Vector*> inputs{&values};
  std::vector<std::uint32_t> codes(column.rows);
  for (std::size_t i = 0; i < codes.size(); ++i) codes[i] = static_cast<std::uint32_t>(column.codes.at(i));
  const auto plain = [&] { return make_accumulator(node, std::vector{values.repr}, Merging::whole, {}); };
  const auto found = by_codes(node, column);
  const auto expected = plain();
  for (int part = 0; part < 4; ++part) {
    const auto some = by_codes(node, column);
    const auto some_expected = plain();
    std::vector<GroupIndex> of(codes.size());
    std::vector<std::uint32_t> rows;
    std::vector<std::uint32_t> rows_of_group(groups, 0);
    for (std::uint32_t i = 0; i < of.size(); ++i) {
      of[i] = static_cast<GroupIndex>(random() % groups);
      ++rows_of_group[of[i]];
      if (random() % 3 == 0) rows.push_back(i);
    }
    some->grow(groups);
    some_expected->grow(groups);
    Added added{codes.size(), of.data(), nullptr, false, nullptr, 0};
    if (part == 0 && groups <= Added::few_groups) added.rows_of_group = rows_of_group.data();
    if (part == 1) added.one_group = true;
    if (part == 2) {
      added.count = rows.size();
      added.rows = rows.data();
      for (std::size_t i = 0; i < rows.size(); ++i) of[i] = of[rows[i]];
    }
    if (part == 3 && !codes.empty()) {
      added.one_group = true;
      added.first = static_cast<std::uint32_t>(codes.size() / 3);
      added.count = codes.size() / 2;
    }
    some->add_codes(added, codes.data());
    some_expected->add(added, inputs);
    expect_equal(*some, *some_expected, groups);
    std::vector<GroupIndex> turned(groups);
    for (std::size_t g = 0; g < groups; ++g) turned[g] = static_cast<GroupIndex>(groups - 1 - g);
    found->grow(groups);
    expected->grow(groups);
    found->merge(*some, turned);
    expected->merge(*some_expected, turned);
  }
  expect_equal(*found, *expected, groups);
}

TEST_P(CodeNumbers, AreThoseOfTheValues) {
  const std::size_t rows = GetParam();
  std::mt19937_64 random(rows + 1);
  const auto made = [&](const std::function<Value(std::size_t)>& value) {
    std::vector<Value> values;
    for (std::size_t i = 0; i < rows; ++i) values.push_back(value(i));
    return values;
  };
  const auto number = [&](std::int64_t of) { return Value::of(static_cast<int128>(of)); };
  const std::vector<store::Column> columns{
      column_of({TypeKind::decimal, 3},
                made([&](std::size_t) { return number(static_cast<std::int64_t>(random() % 60'000) - 9); })),
      column_of({TypeKind::integer, 0}, made([&](std::size_t i) {
                  return i % 7 == 3 ? Value() : number(static_cast<std::int64_t>(random() % 40) * 5);
                })),
      column_of({TypeKind::integer, 0}, made([&](std::size_t) { return Value(); })),
      column_of({TypeKind::integer, 0},
                made([&](std::size_t i) { return number(static_cast<std::int64_t>(i % 3) << 40); })),
      column_of({TypeKind::integer, 0},
                made([&](std::size_t i) { return number(static_cast<std::int64_t>(i) * 1'000'003); })),
      column_of({TypeKind::text, 0},
                made([&](std::size_t i) { return i % 5 == 0 ? Value() : Value::of(std::to_string(random() % 30)); })),
  };
  int compared = 0;
  for (const store::Column& column : columns) {
    for (const Case& given : {Case{Aggregate::sum}, Case{Aggregate::avg}, Case{Aggregate::min}, Case{Aggregate::max},
                              Case{Aggregate::stddev}, Case{Aggregate::variance_pop}, Case{Aggregate::median},
                              Case{Aggregate::quantile, 0.9}, Case{Aggregate::quantile, 1}}) {
      const bool extreme = given.aggregate == Aggregate::min || given.aggregate == Aggregate::max;
      const bool quantile = given.aggregate == Aggregate::median || given.aggregate == Aggregate::quantile;
      if (!(extreme ? is_ordered_by_codes(column) : quantile ? ranks_by_codes(column) : sums_by_codes(column)))
        continue;
      for (const std::size_t groups : {std::size_t{1}, std::size_t{5}, std::size_t{900}}) {
        SCOPED_TRACE(testing::Message() << column.encoding << ", aggregate " << static_cast<int>(given.aggregate)
                                        << ", " << groups << " groups");
        expect_same(column, given, groups);
        ++compared;
      }
    }
  }
  EXPECT_GE(compared, 60);
}

INSTANTIATE_TEST_SUITE_P(Rows, CodeNumbers, testing::Values(0, 1, 3, 70, 2000));

}  // namespace
}  // namespace juniper::engine::code_numbers_test
