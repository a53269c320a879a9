// Stretches of ordered items against what a loop over all items gives.
#include "engine/frame/stretches.h"

#include <gtest/gtest.h>

#include <algorithm>
#include <random>

namespace juniper::engine::stretches_test {
namespace {

// A random request over `items` items with values 0 to 9, and what each row should get.
struct Case {
  std::vector<std::uint32_t> item_partition;
  std::vector<std::uint64_t> code;
  std::vector<std::int64_t> value;
  std::vector<State> state;
  std::vector<std::uint32_t> row_partition;
  std::vector<CodeRanges> wanted;
  static constexpr std::uint64_t null_code = 12;
  static constexpr std::uint32_t partitions = 4;
};

enum class Shape : std::uint8_t { from_first, to_last, both, lists };

Case random_case(std::mt19937_64& random, Shape shape, std::size_t items, std::size_t rows) {
  Case made;
  const auto pick = [&](std::uint64_t below) { return random() % below; };
  for (std::size_t i = 0; i < items; ++i) {
    made.item_partition.push_back(pick(9) == 0 ? StretchRequest::none : static_cast<std::uint32_t>(pick(3)));
    made.code.push_back(pick(Case::null_code + 1));
    made.value.push_back(static_cast<std::int64_t>(pick(10)));
    made.state.push_back(pick(6) == 0 ? State::null : State::value);
  }
  for (std::size_t r = 0; r < rows; ++r) {
    made.row_partition.push_back(pick(9) == 0 ? StretchRequest::none : static_cast<std::uint32_t>(pick(4)));
    const std::uint64_t a = pick(Case::null_code + 1);
    const std::uint64_t b = a + pick(Case::null_code + 1 - a);
    switch (shape) {
      case Shape::from_first:
        made.wanted.push_back({{0, a}});
        break;
      case Shape::to_last:
        made.wanted.push_back({pick(8) == 0 ? CodeRange{} : CodeRange{a, Case::null_code}});
        break;
      case Shape::both:
        made.wanted.push_back({{a, b}});
        break;
      case Shape::lists:
        made.wanted.push_back({{a / 2, a}, {b, Case::null_code}});
        break;
    }
  }
  return made;
}

std::vector<std::string> texts(const Vector& values) {
  std::vector<std::string> all;
  for (std::size_t i = 0; i < values.size(); ++i)
    all.push_back(values.state[i] == State::value ? to_text(values.value_at(i), {TypeKind::decimal, 0}) : "null");
  return all;
}

std::shared_ptr<language::Node> node_of(language::Aggregate kind) {
  auto node = std::make_shared<language::Node>();
  node->aggregate = kind;
  auto child = std::make_shared<language::Node>();
  child->type = {TypeKind::integer, 0};
  node->children = {child};
  return node;
}

std::vector<std::string> by_stretches(const Case& given, const language::Node& node, unsigned threads) {
  StretchRequest request;
  request.partitions = Case::partitions;
  request.item_partition = given.item_partition;
  request.item_code = std::make_shared<const std::vector<std::uint64_t>>(given.code);
  request.null_code = Case::null_code;
  request.row_partition = given.row_partition;
  std::vector<CodeRange> one;
  std::vector<std::shared_ptr<const CodeRanges>> lists;
  for (const CodeRanges& ranges : given.wanted) {
    one.push_back(ranges.front());
    lists.push_back(std::make_shared<const CodeRanges>(ranges));
  }
  const bool single =
      std::all_of(given.wanted.begin(), given.wanted.end(), [](const CodeRanges& r) { return r.size() == 1; });
  const WantedRanges wanted = single ? WantedRanges(one) : WantedRanges(lists);
  request.wanted = &wanted;
  Vector values;
  values.reset(Repr::narrow, given.value.size());
  values.narrow = given.value;
  values.state = given.state;
  request.inputs.push_back(std::move(values));
  const Repr repr = Repr::narrow;
  request.fresh = [&](Merging merging) { return make_accumulator(node, {&repr, 1}, merging, {}); };
  return texts(aggregate_stretches(std::move(request), threads));
}

std::vector<std::string> by_hand(const Case& given, const language::Node& node) {
  std::vector<std::string> all;
  const Repr repr = Repr::narrow;
  Vector values;
  values.reset(repr, given.value.size());
  values.narrow = given.value;
  values.state = given.state;
  const Vector* const input = &values;
  for (std::size_t row = 0; row < given.row_partition.size(); ++row) {
    const auto accumulator = make_accumulator(node, {&repr, 1}, Merging::whole, {});
    accumulator->grow(1);
    for (std::uint32_t item = 0; item < given.code.size(); ++item) {
      if (given.item_partition[item] != given.row_partition[row] || given.row_partition[row] == StretchRequest::none)
        continue;
      const bool held = std::any_of(given.wanted[row].begin(), given.wanted[row].end(), [&](const CodeRange& range) {
        return given.code[item] >= range.begin && given.code[item] < range.end;
      });
      const GroupIndex group = 0;
      if (held) accumulator->add({1, &group, &item, true}, {&input, 1});
    }
    Vector out;
    out.reset(accumulator->repr(), 1);
    accumulator->put(0, out, 0);
    all.push_back(texts(out)[0]);
  }
  return all;
}

TEST(Stretches, AreWhatALoopOverAllItemsGives) {
  std::mt19937_64 random(2611);
  for (const Shape shape : {Shape::from_first, Shape::to_last, Shape::both, Shape::lists}) {
    for (const auto kind : {language::Aggregate::sum, language::Aggregate::min, language::Aggregate::count_distinct}) {
      for (const std::size_t items : {0U, 1U, 2U, 30U, 300U}) {
        const Case given = random_case(random, shape, items, 50);
        const auto node = node_of(kind);
        EXPECT_EQ(by_stretches(given, *node, 1), by_hand(given, *node)) << static_cast<int>(shape) << " " << items;
        EXPECT_EQ(by_stretches(given, *node, 2), by_hand(given, *node)) << static_cast<int>(shape) << " " << items;
      }
    }
  }
}

TEST(Stretches, OfManyTasksDoNotDependOnThreads) {
  std::mt19937_64 random(7);
  Case given = random_case(random, Shape::from_first, 200'000, 150'000);
  const auto node = node_of(language::Aggregate::sum);
  EXPECT_EQ(by_stretches(given, *node, 1), by_stretches(given, *node, 4));
}

}  // namespace
}  // namespace juniper::engine::stretches_test
