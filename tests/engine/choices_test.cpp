// `and`, `or` and what conditions choose, held against the rules row by row, with each set of instructions.
#include "engine/vector/choices.h"

#include <gtest/gtest.h>

#include <optional>
#include <random>
#include <span>
#include <vector>

#include "support/every_level.h"

namespace juniper::engine::choices_test {
namespace {

const std::vector<std::size_t> lengths{0, 1, 2, 7, 15, 16, 17, 63, 64, 65, 4095, 4096};

class Choices : public testing::Test {
 protected:
  // Booleans in random states; or all of one state.
  Vector condition(std::size_t length, std::optional<State> all = std::nullopt) {
    Vector made;
    made.reset(Repr::narrow, length);
    for (std::size_t i = 0; i < length; ++i) {
      made.state[i] = all.value_or(static_cast<State>(random_() % 3));
      // What stands beside another state has no meaning.
      made.narrow[i] = static_cast<std::int64_t>(made.state[i] == State::value ? random_() % 2 : random_());
    }
    made.note_states();
    return made;
  }
  std::vector<Vector> conditions(std::size_t length) {
    return {condition(length),
            condition(length),
            condition(length, State::value),
            condition(length, State::value),
            condition(length, State::null),
            condition(length, State::overflow)};
  }
  template <class T>
  std::vector<T> numbers(std::size_t length) {
    std::vector<T> made(length);
    for (T& number : made) number = static_cast<T>(random_());
    return made;
  }

  std::mt19937_64 random_{11};
};

TEST_F(Choices, AndAndOrFollowTheirRules) {
  test::at_every_level([&] {
    for (const std::size_t length : lengths) {
      const std::vector<Vector> all = conditions(length);
      for (const Vector& a : all) {
        for (const Vector& b : all) {
          for (const bool deciding : {false, true}) {
            Vector out;
            out.reset(Repr::narrow, length);
            combine(a, b, deciding, out);
            for (std::size_t i = 0; i < length; ++i) {
              const auto is = [&](const Vector& v, bool what) {
                return v.state[i] == State::value && (v.narrow[i] != 0) == what;
              };
              const auto either = [&](State state) { return a.state[i] == state || b.state[i] == state; };
              if (is(a, deciding) || is(b, deciding)) {
                ASSERT_TRUE(is(out, deciding)) << length << ", row " << i;
              } else if (either(State::overflow)) {
                ASSERT_EQ(out.state[i], State::overflow) << length << ", row " << i;
              } else if (either(State::null)) {
                ASSERT_EQ(out.state[i], State::null) << length << ", row " << i;
              } else {
                ASSERT_TRUE(is(out, !deciding)) << length << ", row " << i;
              }
            }
          }
        }
      }
    }
  });
}

TEST_F(Choices, OnlyMarkedRowsAreReplaced) {
  test::at_every_level([&] {
    for (const std::size_t length : lengths) {
      for (const Vector& given : conditions(length)) {
        std::vector<std::uint8_t> marks(length + 1, 42);
        mark_true(given, std::span(marks).first(length));
        EXPECT_EQ(marks.back(), 42U) << "written past the end";
        marks.pop_back();
        const auto expect_chosen = [&](auto from, auto to) {
          auto expected = to;
          for (std::size_t i = 0; i < length; ++i) {
            if (given.is_true(i)) expected[i] = from[i];
          }
          choose(marks, from.data(), to.data());
          EXPECT_EQ(to, expected) << length;
        };
        expect_chosen(numbers<std::int64_t>(length), numbers<std::int64_t>(length));
        expect_chosen(numbers<double>(length), numbers<double>(length));
        expect_chosen(condition(length).state, condition(length).state);
      }
    }
  });
}

}  // namespace
}  // namespace juniper::engine::choices_test
