// Texts as ordered numbers, and columns of texts of all shapes.
#include "store/text_keys.h"

#include <gtest/gtest.h>

#include <algorithm>
#include <random>
#include <set>

#include "store/column.h"
#include "support/columns.h"

namespace juniper::store::text_keys_test {
namespace {

// Random texts of up to `longest` bytes out of an alphabet, behind a common beginning.
std::vector<std::string> random_texts(std::mt19937_64& random, const std::string& beginning,
                                      const std::string& alphabet, std::size_t shortest, std::size_t longest,
                                      std::size_t count) {
  std::vector<std::string> texts;
  for (std::size_t i = 0; i < count; ++i) {
    std::string& text = texts.emplace_back(beginning);
    const std::size_t length = shortest + random() % (longest - shortest + 1);
    for (std::size_t p = 0; p < length; ++p) text += alphabet[random() % alphabet.size()];
  }
  return texts;
}

std::string all_bytes() {
  std::string bytes;
  for (int byte = 0; byte < 256; ++byte) bytes += static_cast<char>(byte);
  return bytes;
}

struct Shape {
  std::string beginning;
  std::string alphabet;
  std::size_t shortest;
  std::size_t longest;
  bool whole;
};
const std::vector<Shape> shapes{
    {"R", "0123456789ABCDEF", 16, 16, true},
    {"", "0123456789-", 1, 14, true},
    {"", "ab", 0, 40, true},
    {"same", "x", 0, 0, true},
    {"", "x", 0, 30, true},
    {"", all_bytes(), 0, 9, true},
    {"", all_bytes(), 0, 12, false},
    {"begins alike, ", "abcdefghijklmnopqrstuvwxyz", 10, 20, false},
    {std::string(60, 'x'), "ab", 0, 3, false},
    {std::string(47, 'x'), "ab", 1, 1, true},
    {std::string(48, 'x'), "ab", 0, 1, false},
};

TEST(TextKeys, AreOrderedAsTheTextsAre) {
  std::mt19937_64 random(7);
  for (const Shape& shape : shapes) {
    SCOPED_TRACE(shape.beginning + shape.alphabet);
    const auto texts = random_texts(random, shape.beginning, shape.alphabet, shape.shortest, shape.longest, 3000);
    TextKeys keys;
    for (const std::string& text : texts) keys.look_at(text);
    keys.settle();
    EXPECT_EQ(keys.are_whole(), shape.whole);
    std::string rewritten;
    TextKeys::Key before = 0;
    std::string text_before;
    for (std::size_t i = 0; i < texts.size(); ++i) {
      const TextKeys::Key key = keys.key_of(texts[i]);
      ASSERT_TRUE(key >> TextKeys::key_bits == 0);
      if (i != 0 && keys.are_whole()) {
        ASSERT_EQ(texts[i - 1] < texts[i], before < key);
        ASSERT_EQ(texts[i - 1] == texts[i], before == key);
      } else if (i != 0 && before != key) {
        ASSERT_EQ(texts[i - 1] < texts[i], before < key);
      }
      if (keys.are_whole()) {
        const std::size_t shared = keys.rewrite(before, key, rewritten);
        ASSERT_EQ(rewritten, texts[i]);
        ASSERT_EQ(text_before.substr(0, shared), texts[i].substr(0, shared));
      }
      before = key;
      text_before = texts[i];
    }
  }
}

TEST(TextKeys, ColumnsOfAllShapesHoldTheirTexts) {
  std::mt19937_64 random(11);
  for (const Shape& shape : shapes) {
    SCOPED_TRACE(shape.beginning + shape.alphabet);
    const auto texts = random_texts(random, shape.beginning, shape.alphabet, shape.shortest, shape.longest, 2500);
    std::vector<Value> values;
    std::set<std::string> distinct;
    for (const std::string& text : texts) {
      values.push_back(random() % 9 == 0 ? Value() : Value::of(text));
      if (!values.back().is_null()) distinct.insert(text);
    }
    const Column column = encode_column(test::column_input({TypeKind::text, 0}, values));
    ASSERT_EQ(column.distinct, distinct.size());
    std::uint64_t code = 0;
    for (const std::string& text : distinct) ASSERT_EQ(column.text_of(code++), text);
    EXPECT_EQ(column.least.text(), *distinct.begin());
    EXPECT_EQ(column.most.text(), *distinct.rbegin());
    for (std::size_t row = 0; row < values.size(); ++row) ASSERT_TRUE(column.at(row) == values[row]) << row;
  }
}

}  // namespace
}  // namespace juniper::store::text_keys_test
