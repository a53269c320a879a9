#include <fmt/format.h>
#include <gtest/gtest.h>

#include <fstream>
#include <functional>
#include <random>

#include "base/failure.h"
#include "store/store.h"
#include "support/columns.h"
#include "support/support.h"
#include "support/tiny_store.h"

namespace juniper::store::store_file_test {
namespace {

Store small_store() {
  Store store;
  store.model_texts = {{"x.ridge", "model \"x\"\n"}, {"measures.ridge", "# nothing\n"}};
  store.signature = "signature";
  store.load_nanoseconds = 12;
  std::vector<Value> numbers;
  std::vector<Value> texts;
  for (std::int64_t i = 0; i < 5000; ++i) {
    numbers.push_back(i % 7 == 0 ? Value() : Value::of(static_cast<int128>(i % 91)));
    texts.push_back(Value::of(std::string(static_cast<std::size_t>(i % 3 + 1), static_cast<char>('a' + i % 3))));
  }
  StoredTable table;
  table.name = "t";
  table.rows = 5000;
  table.columns.push_back({"n", false, 0, 5, "", encode_column(test::column_input({TypeKind::decimal, 2}, numbers))});
  table.columns.push_back({"s", true, 3, 5, "", encode_column(test::column_input({TypeKind::text, 0}, texts))});
  store.tables.push_back(table);
  StoredLink link;
  link.name = "t.n -> u.k";
  link.no_row = 90;
  link.rows = Codes::encode(std::vector<std::uint64_t>(5000, 90));
  link.unmatched = 5000;
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
  EXPECT_EQ(opened->links[0].unmatched, 5000U);
}

// Groups are told by the rows of a link that says that all rows lead somewhere.
TEST(StoreFile, ALinkThatLeadsNowhereThoughItSaysOtherwiseIsDamage) {
  const test::TempFolder folder;
  Store store = small_store();
  store.links[0].unmatched = 0;
  ASSERT_TRUE(write_store(store, folder.path("x.jrs")));
  const auto opened = open_store(folder.path("x.jrs"));
  ASSERT_TRUE(opened) << test::messages(opened.error());
  EXPECT_THROW(opened->links[0].rows.at(0), base::Failure);
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

// Opens a store and reads all that it holds; the code of what went wrong, or "".
std::string read_all(const std::string& path, std::string& text) {
  const auto read = base::guarded([&]() -> Result<void> {
    const auto opened = open_store(path);
    if (!opened) return tl::unexpected(opened.error());
    text = contents(*opened);
    verify(*opened, 1);
    return {};
  });
  return read ? "" : read.error()[0].code;
}

// Every single byte, each with one bit flipped and with all: told, or harmless: nothing that is read differs.
TEST(StoreFile, EveryFlippedByteIsFoundOrHarmless) {
  const test::TempFolder folder;
  Store store = tiny_store();
  ASSERT_EQ(store.tables[0].columns.back().data.layout, Layout::bits);
  ASSERT_EQ(store.links.back().encoding, "short runs");
  ASSERT_TRUE(write_store(store, folder.path("x.jrs")));
  const std::string good = test::read_file(folder.path("x.jrs"));
  std::string expected;
  ASSERT_EQ(read_all(folder.path("x.jrs"), expected), "");
  EXPECT_EQ(expected, contents(store));
  std::size_t harmless = 0;
  for (std::size_t at = 0; at < good.size(); ++at) {
    for (const unsigned flip : {1U << at % 8, 255U}) {
      const auto put = [&](char byte) {
        std::fstream file(folder.path("x.jrs"), std::ios::in | std::ios::out | std::ios::binary);
        file.seekp(static_cast<std::streamoff>(at));
        file.put(byte);
      };
      put(static_cast<char>(good[at] ^ static_cast<char>(flip)));
      std::string text;
      const std::string code = read_all(folder.path("x.jrs"), text);
      ASSERT_TRUE(code == "" || code == "JR-603" || code == "JR-604" || code == "JR-605") << at << ": " << code;
      if (code.empty()) {
        ASSERT_EQ(text, expected) << "byte " << at;
        ++harmless;
      }
      put(good[at]);
    }
  }
  // Only padding between the parts is not covered.
  EXPECT_LE(harmless, 2 * (store.overhead.padding + 7 * store.tables[0].columns.size()));
}

TEST(StoreFile, EveryTruncationIsFound) {
  const test::TempFolder folder;
  Store store = tiny_store();
  ASSERT_TRUE(write_store(store, folder.path("x.jrs")));
  const std::string good = test::read_file(folder.path("x.jrs"));
  for (std::size_t length = good.size() - 1; length + 1 != 0; --length) {
    std::filesystem::resize_file(folder.path("x.jrs"), length);
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
}  // namespace juniper::store::store_file_test
