// Links in each of the forms in which they are stored, held against a search of each row's key.
#include "store/resolve_link.h"

#include <gtest/gtest.h>

#include <map>
#include <random>
#include <set>

#include "store/store.h"
#include "support/columns.h"
#include "support/support.h"

namespace juniper::resolve_link_test {
namespace {

using store::Column;
using store::LinkForm;
using Random = std::mt19937_64;

// A table of keys and one of rows that carry them, drawn with some habit.
struct Keys {
  std::vector<Value> one;   // each once, but for nulls
  std::vector<Value> many;  // nulls and keys that no row has among them
};

Value key_of(TypeKind kind, std::int64_t number) {
  return kind == TypeKind::text ? Value::of("key " + std::to_string(number)) : Value::of(int128{number});
}

Keys drawn(Random& random, TypeKind kind) {
  const auto pick = [&](std::uint64_t count) { return static_cast<std::int64_t>(random() % count); };
  const std::int64_t rows = pick(2) == 0 ? pick(20) + 1 : pick(12'000) + 1;
  const std::int64_t keys = std::max<std::int64_t>(1, rows / (pick(40) + 1));
  const std::int64_t apart = pick(3) == 0 ? pick(1'000'000'000) + 1 : 1;
  const bool shuffled = pick(2) == 0;
  const bool has_nulls = pick(3) == 0;
  const bool has_orphans = pick(3) == 0;
  Keys drawn;
  for (std::int64_t k = 0; k < keys; ++k) {
    if (has_orphans && pick(9) == 0) continue;
    drawn.one.push_back(key_of(kind, k * apart));
  }
  if (pick(6) == 0) drawn.one.insert(drawn.one.begin() + pick(drawn.one.size() + 1), Value());
  if (shuffled) std::shuffle(drawn.one.begin(), drawn.one.end(), random);
  if (drawn.one.empty()) drawn.one.emplace_back();
  for (std::int64_t row = 0; row < rows; ++row)
    drawn.many.push_back(has_nulls && pick(7) == 0 ? Value()
                                                   : key_of(kind, pick(static_cast<std::uint64_t>(keys)) * apart));
  return drawn;
}

TEST(ResolveLink, LeadsEachRowToItsKeyInEveryForm) {
  Random random(test::test_seed(11));
  std::map<LinkForm, std::set<bool>> met;  // forms, with and without unmatched rows
  for (int turn = 0; turn < 400; ++turn) {
    const TypeKind kind = std::array{TypeKind::integer, TypeKind::text, TypeKind::date}[random() % 3];
    const Keys keys = drawn(random, kind);
    const Column many = store::encode_column(test::column_input({kind, 0}, keys.many));
    const Column one = store::encode_column(test::column_input({kind, 0}, keys.one));
    const Column* const from = &many;
    const Column* const to = &one;
    ASSERT_FALSE(store::repeated_key({&to, 1}));
    const store::StoredLink link = store::resolve_link({&from, 1}, {&to, 1});
    std::map<std::string, std::uint64_t> places;
    for (std::uint64_t row = 0; row < keys.one.size(); ++row) {
      if (!keys.one[row].is_null()) places.emplace(to_text(keys.one[row], {kind, 0}), row);
    }
    store::LinkRows rows(link, many);
    const std::vector<std::uint64_t> all = rows.decoded();
    ASSERT_EQ(rows.size(), keys.many.size());
    std::uint64_t unmatched = 0;
    for (std::uint64_t row = 0; row < all.size(); ++row) {
      const auto place = keys.many[row].is_null() ? places.end() : places.find(to_text(keys.many[row], {kind, 0}));
      const std::uint64_t expected = place == places.end() ? keys.one.size() : place->second;
      ASSERT_EQ(rows.at(row), expected) << "turn " << turn << ", row " << row;
      ASSERT_EQ(all[row], expected) << "turn " << turn << ", row " << row;
      unmatched += place == places.end() ? 1 : 0;
    }
    EXPECT_EQ(link.unmatched, unmatched);
    met[link.form].insert(unmatched != 0);
  }
  EXPECT_EQ(met.size(), 3U);
  for (const auto& [form, unmatched] : met) EXPECT_EQ(unmatched.size(), 2U) << static_cast<int>(form);
}

// One that a store says of itself and that its key column can't have is damage.
TEST(ResolveLink, AFormThatItsKeyCannotHaveIsDamage) {
  std::string facts = "id,d\n";
  for (int i = 0; i < 300; ++i) facts += std::to_string(i) + "," + (i % 31 == 30 ? "" : std::to_string(i % 30)) + "\n";
  std::string days = "d,name\n";
  for (int d = 0; d < 30; ++d) days += std::to_string(d) + ",n\n";
  const test::SmallModel model(
      "table f from csv \"f.csv\" { id integer  d integer }\ntable g from csv \"g.csv\" { key d integer  name text }\n"
      "link f.d -> g.d\nmeasure n = count(f)\n",
      {{"f.csv", facts}, {"g.csv", days}});
  (void)model.open();
  const std::string path = model.folder.path("model.jrs");
  const auto said = [&](const auto& spoil) {
    store::Store store = *store::open_store(path);
    EXPECT_EQ(store.links[0].form, LinkForm::codes_are_rows);
    spoil(store.links[0]);
    const std::string spoilt = model.folder.path("spoilt.jrs");
    EXPECT_TRUE(store::write_store(store, spoilt));
    const auto opened = Dataset::open(spoilt);
    return opened ? std::string("opened") : opened.error()[0].code;
  };
  EXPECT_EQ(said([](store::StoredLink&) {}), "opened");
  EXPECT_EQ(said([](store::StoredLink& link) { ++link.unmatched; }), "JR-605");
  EXPECT_EQ(said([](store::StoredLink& link) { link.unmatched = 1'000; }), "JR-605");
  EXPECT_EQ(said([](store::StoredLink& link) { link.form = LinkForm::by_code; }), "JR-605");
  EXPECT_EQ(said([](store::StoredLink& link) { link.form = LinkForm::by_row; }), "JR-605");
  EXPECT_EQ(said([](store::StoredLink& link) { link.form = static_cast<LinkForm>(3); }), "JR-605");
  EXPECT_EQ(said([](store::StoredLink& link) { link.column = 0; }), "JR-605");
  EXPECT_EQ(said([](store::StoredLink& link) { link.column = 9; }), "JR-605");
  EXPECT_EQ(said([](store::StoredLink& link) { link.table = 1; }), "JR-605");
  EXPECT_EQ(said([](store::StoredLink& link) { link.table = 7; }), "JR-605");
  EXPECT_EQ(said([](store::StoredLink& link) { link.rows = store::Codes::encode(std::vector<std::uint64_t>(30, 2)); }),
            "JR-605");
}

}  // namespace
}  // namespace juniper::resolve_link_test
