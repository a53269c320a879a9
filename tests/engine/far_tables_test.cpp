// Tables behind links, of as many rows as a block has and around it: what stands there is packed block by block, and
// one row more stands for none. Compared with plain loops over the same rows.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <functional>
#include <map>
#include <optional>
#include <random>

#include "support/support.h"

namespace juniper::far_tables_test {
namespace {

using Number = std::optional<int>;

std::string text(Number number) {
  return number ? fmt::format("{}", *number) : "";
}

// Sessions of cards of plans. With nulls, some of each have none, or one that isn't there.
class FarTables {
 public:
  FarTables(int cards, int plans, int most_level, bool with_nulls)
      : random_(static_cast<unsigned>(cards * 31 + plans)),
        model_(text_of(), files(cards, plans, most_level, with_nulls)) {}

  Dataset open(unsigned threads) const {
    Options options;
    options.threads = threads;
    return model_.open(options);
  }

  // Rows "key|sum", ordered by key, nulls last, of the sessions that pass.
  using Key = std::function<Number(std::size_t session)>;
  std::string sums(const Key& key, const std::function<bool(std::size_t)>& passes) const {
    std::map<std::pair<bool, int>, int> sums;
    for (std::size_t s = 0; s < kwh.size(); ++s) {
      if (!passes(s)) continue;
      const Number of = key(s);
      sums[{!of, of.value_or(0)}] += kwh[s];
    }
    std::string rows;
    for (const auto& [of, sum] : sums) {
      if (!rows.empty()) rows += '\n';
      rows += fmt::format("{}|{}", of.first ? "null" : fmt::format("{}", of.second), sum);
    }
    return rows;
  }
  Number colour_of(std::size_t session) const { return card[session] ? colour[at(card[session])] : std::nullopt; }
  Number level_of(std::size_t session) const {
    if (!card[session] || !plan[at(card[session])]) return std::nullopt;
    return level[at(plan[at(card[session])])];
  }

  std::vector<int> kwh;        // of each session
  std::vector<Number> card;    // of each session, where there is such a card
  std::vector<Number> colour;  // of each card
  std::vector<Number> plan;    // of each card, where there is such a plan
  std::vector<Number> level;   // of each plan

 private:
  static std::size_t at(Number number) { return static_cast<std::size_t>(*number); }
  static std::string text_of() {
    return R"(table sessions from csv "sessions.csv" { key session_id integer  card_id integer  kwh integer }
table cards from csv "cards.csv" { key card_id integer  plan_id integer  colour integer }
table plans from csv "plans.csv" { key plan_id integer  level integer }
link sessions.card_id -> cards.card_id
link cards.plan_id -> plans.plan_id
measure energy = sum(kwh for sessions))";
  }
  int below(int end) { return static_cast<int>(random_() % static_cast<unsigned>(end)); }
  std::map<std::string, std::string> files(int cards, int plans, int most_level, bool with_nulls) {
    std::map<std::string, std::string> files{{"sessions.csv", "session_id,card_id,kwh\n"},
                                             {"cards.csv", "card_id,plan_id,colour\n"},
                                             {"plans.csv", "plan_id,level\n"}};
    const auto null = [&] { return with_nulls && below(9) == 0; };
    for (int p = 0; p < plans; ++p) {
      level.push_back(null() ? std::nullopt : Number(below(most_level)));
      files["plans.csv"] += fmt::format("{},{}\n", p, text(level.back()));
    }
    for (int c = 0; c < cards; ++c) {
      const Number of = null() ? std::nullopt : Number(below(plans + (with_nulls ? 2 : 0)));
      plan.push_back(of && *of < plans ? of : std::nullopt);
      // The last card has a colour of its own.
      colour.push_back(c + 1 == cards ? Number(7) : null() ? std::nullopt : Number(below(3)));
      files["cards.csv"] += fmt::format("{},{},{}\n", c, text(of), text(colour.back()));
    }
    for (int s = 0; s < 9000; ++s) {
      const int of = s == 0 ? cards - 1 : below(cards + (with_nulls ? 20 : 0));
      card.push_back(of < cards ? Number(of) : std::nullopt);
      kwh.push_back(below(100));
      files["sessions.csv"] += fmt::format(
          "{},{},{}\n", s, null() && s != 0 ? (card.back() = std::nullopt, "") : fmt::format("{}", of), kwh.back());
    }
    return files;
  }

  std::mt19937 random_;
  test::SmallModel model_;
};

// Where sizes meet: of cards, of plans, of what stands behind them, and whether some have none.
struct Sizes {
  int cards = 0;
  int plans = 0;
  int most_level = 0;
  bool with_nulls = false;
};

class FarTablesOf : public testing::TestWithParam<Sizes> {};

TEST_P(FarTablesOf, AreLookedUpAsPlainLoopsDo) {
  const auto [cards, plans, most_level, with_nulls] = GetParam();
  const FarTables data(cards, plans, most_level, with_nulls);
  const auto all = [](std::size_t) { return true; };
  const FarTables::Key colour = [&](std::size_t s) { return data.colour_of(s); };
  const FarTables::Key level = [&](std::size_t s) { return data.level_of(s); };
  for (const unsigned threads : {1U, 3U}) {
    const Dataset dataset = data.open(threads);
    EXPECT_EQ(test::answer(dataset, "by cards.colour show energy"), data.sums(colour, all));
    EXPECT_EQ(test::answer(dataset, "by plans.level show energy"), data.sums(level, all));
    EXPECT_EQ(test::answer(dataset, "by cards.colour show energy where plans.level >= 2"),
              data.sums(colour, [&](std::size_t s) { return level(s) && *level(s) >= 2; }));
    EXPECT_EQ(test::answer(dataset, "by plans.level show energy where cards.colour = 7"),
              data.sums(level, [&](std::size_t s) { return colour(s) == Number(7); }));
    EXPECT_EQ(test::answer(dataset, "by plans.level show energy where cards.colour is null or cards.colour = 1"),
              data.sums(level, [&](std::size_t s) { return !colour(s) || *colour(s) == 1; }));
    // Keys that take more than 32 bits together are put side by side in another way.
    const auto wide = ask(
        dataset, {"by sessions.session_id, cards.card_id, cards.colour, plans.plan_id, plans.level show energy", {}});
    ASSERT_TRUE(wide) << test::messages(wide.error());
    ASSERT_EQ(wide->rows.size(), data.kwh.size());
    const auto number = [](const Value& value) {
      return value.is_null() ? Number() : Number(static_cast<int>(value.exact()));
    };
    for (const ResultRow& row : wide->rows) {
      const auto s = static_cast<std::size_t>(*number(row.cells[0]));
      ASSERT_EQ(number(row.cells[1]), data.card[s]) << s;
      ASSERT_EQ(number(row.cells[2]), data.colour_of(s)) << s;
      ASSERT_EQ(number(row.cells[4]), data.level_of(s)) << s;
      ASSERT_EQ(number(row.cells[5]), Number(data.kwh[s])) << s;
    }
  }
}

INSTANTIATE_TEST_SUITE_P(Sizes, FarTablesOf,
                         testing::Values(Sizes{1, 1, 4, false}, Sizes{4095, 3, 4, true}, Sizes{4096, 3, 4, true},
                                         Sizes{4096, 4096, 300, true}, Sizes{4097, 31, 70'000, true},
                                         Sizes{8192, 4097, 5, true}, Sizes{8191, 8192, 1'000'000, false}),
                         [](const auto& sizes) {
                           return fmt::format("{}Cards{}Plans{}Levels", sizes.param.cards, sizes.param.plans,
                                              sizes.param.most_level);
                         });

}  // namespace
}  // namespace juniper::far_tables_test
