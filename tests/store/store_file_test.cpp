#include <gtest/gtest.h>

#include <random>

#include "store/store.h"
#include "support/support.h"

namespace juniper::store {
namespace {

Store small_store() {
  Store store;
  store.model_texts = {{"x.ridge", "model \"x\"\n"}, {"measures.ridge", "# nothing\n"}};
  store.signature = "signature";
  store.load_nanoseconds = 12;
  source::ColumnInput numbers;
  numbers.type = {TypeKind::decimal, 2};
  source::ColumnInput texts;
  texts.type = {TypeKind::text, 0};
  texts.texts = {"a", "bb", "ccc"};
  for (std::uint32_t i = 0; i < 5000; ++i) {
    numbers.exact.push_back(i % 91);
    numbers.is_null.push_back(i % 7 == 0 ? 1 : 0);
    texts.text.push_back(i % 3);
    texts.is_null.push_back(0);
  }
  StoredTable table;
  table.name = "t";
  table.rows = 5000;
  table.columns.push_back({"n", false, 0, 5, encode_column(numbers)});
  table.columns.push_back({"s", true, 3, 5, encode_column(texts)});
  store.tables.push_back(table);
  StoredLink link;
  link.name = "t.n -> u.k";
  link.no_row = 90;
  link.rows = Codes::encode(std::vector<std::uint64_t>(5000, 90));
  store.links.push_back(link);
  store.sources.push_back({"t", "data/t.csv", 123, 456, 789});
  return store;
}

TEST(StoreFile, IsReadBackAsItWasWritten) {
  const test::TempFolder folder;
  Store store = small_store();
  ASSERT_TRUE(write_store(store, folder.path("x.jrs")));
  const auto opened = open_store(folder.path("x.jrs"));
  ASSERT_TRUE(opened) << test::messages(opened.error());
  EXPECT_EQ(opened->signature, store.signature);
  EXPECT_EQ(opened->model_texts, store.model_texts);
  EXPECT_EQ(opened->sources, store.sources);
  EXPECT_EQ(opened->file_bytes, std::filesystem::file_size(folder.path("x.jrs")));
  EXPECT_EQ(opened->overhead.total(), store.overhead.total());
  ASSERT_EQ(opened->tables.size(), 1U);
  for (std::size_t c = 0; c < 2; ++c) {
    EXPECT_EQ(opened->tables[0].columns[c].calculated, c == 1);
    for (std::uint64_t row = 0; row < 5000; ++row)
      ASSERT_EQ(opened->tables[0].columns[c].data.at(row), store.tables[0].columns[c].data.at(row));
  }
  EXPECT_EQ(opened->links[0].rows.at(4999), 90U);
}

TEST(StoreFile, TheOldStoreStaysOpenWhileANewOneTakesItsPlace) {
  const test::TempFolder folder;
  Store store = small_store();
  ASSERT_TRUE(write_store(store, folder.path("x.jrs")));
  const auto opened = open_store(folder.path("x.jrs"));
  store.signature = "another";
  ASSERT_TRUE(write_store(store, folder.path("x.jrs")));
  EXPECT_EQ(opened->tables[0].columns[1].data.at(1).text(), "bb");
  EXPECT_EQ(open_store(folder.path("x.jrs"))->signature, "another");
  std::size_t files = 0;
  for ([[maybe_unused]] const auto& entry : std::filesystem::directory_iterator(folder.path())) ++files;
  EXPECT_EQ(files, 1U);
}

// A flipped bit is told, wherever it is. Only padding may be flipped: it holds nothing.
TEST(StoreFile, EveryFlippedBitIsFound) {
  const test::TempFolder folder;
  Store store = small_store();
  ASSERT_TRUE(write_store(store, folder.path("x.jrs")));
  const std::string good = test::read_file(folder.path("x.jrs"));
  std::mt19937_64 random(test::test_seed(13));
  std::uint64_t accepted = 0;
  std::vector<std::size_t> places;
  for (std::size_t i = 0; i < 64; ++i) places.push_back(i);
  while (places.size() < 1500) places.push_back(random() % good.size());
  for (const std::size_t at : places) {
    std::string bad = good;
    bad[at] = static_cast<char>(bad[at] ^ (1 << (random() % 8)));
    folder.write("x.jrs", bad);
    const auto opened = open_store(folder.path("x.jrs"));
    if (opened) {
      ++accepted;
    } else {
      const std::string code = opened.error()[0].code;
      ASSERT_TRUE(code == "JR-603" || code == "JR-604" || code == "JR-605") << code;
    }
  }
  EXPECT_LE(accepted, 1500 * (store.overhead.padding + 8) / good.size() + 8);
}

TEST(StoreFile, EveryTruncationIsFound) {
  const test::TempFolder folder;
  Store store = small_store();
  ASSERT_TRUE(write_store(store, folder.path("x.jrs")));
  const std::string good = test::read_file(folder.path("x.jrs"));
  for (std::size_t length = 0; length < good.size(); length += 1 + length / 50) {
    folder.write("x.jrs", good.substr(0, length));
    const auto opened = open_store(folder.path("x.jrs"));
    ASSERT_FALSE(opened);
    ASSERT_EQ(opened.error()[0].code, "JR-603") << length;
  }
}

TEST(StoreFile, WhatIsNoStoreIsTold) {
  const test::TempFolder folder;
  EXPECT_EQ(open_store(folder.path("none.jrs")).error()[0].code, "JR-602");
  EXPECT_EQ(open_store(folder.path()).error()[0].code, "JR-602");
  EXPECT_EQ(open_store(folder.write("text.jrs", std::string(200, 'x'))).error()[0].code, "JR-603");
  Store store = small_store();
  ASSERT_TRUE(write_store(store, folder.path("x.jrs")));
  std::string other = test::read_file(folder.path("x.jrs"));
  other[8] = 9;
  const auto opened = open_store(folder.write("x.jrs", other));
  EXPECT_EQ(opened.error()[0].code, "JR-604");
  EXPECT_NE(opened.error()[0].message.find("version 9"), std::string::npos);
  EXPECT_EQ(write_store(store, folder.path("no/such/folder/x.jrs")).error()[0].code, "JR-601");
}

}  // namespace
}  // namespace juniper::store
