// Vectors of texts hold views: these must hold wherever a vector goes.
#include "engine/vector/vector.h"

#include <gtest/gtest.h>

#include <vector>

namespace juniper::vector_test {
namespace {

using engine::Repr;
using engine::Vector;

Vector of_texts(std::size_t count) {
  Vector made;
  made.reset(Repr::text, count);
  for (std::size_t i = 0; i < count; ++i)
    made.set(i, Value::of("a text that is too long to stand in place " + std::to_string(i)));
  return made;
}

void expect_texts(const Vector& texts) {
  for (std::size_t i = 0; i < texts.size(); ++i) {
    EXPECT_EQ(texts.text[i], "a text that is too long to stand in place " + std::to_string(i));
  }
}

TEST(Vector, MovesWithoutCopies) {
  static_assert(std::is_nothrow_move_constructible_v<Vector>);
  std::vector<Vector> list;
  for (std::size_t i = 0; i < 20; ++i) list.push_back(of_texts(3));
  for (const Vector& texts : list) expect_texts(texts);
}

TEST(Vector, CopiesKeepTheirTexts) {
  auto original = std::make_unique<Vector>(of_texts(5));
  Vector copy = *original;
  Vector again = copy;
  original->reset(Repr::text, 1);
  original->set(0, Value::of(std::string("another")));
  original = nullptr;
  expect_texts(copy);
  again.set(0, Value::of(std::string("mine alone, and long enough to be somewhere else")));
  expect_texts(copy);
  copy = again;
  EXPECT_EQ(copy.text[0], "mine alone, and long enough to be somewhere else");
  EXPECT_EQ(copy.text[4], again.text[4]);
}

}  // namespace
}  // namespace juniper::vector_test
