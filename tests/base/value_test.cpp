#include "juniper/value.h"

#include <gtest/gtest.h>

#include <cmath>
#include <limits>
#include <random>

#include "base/calendar.h"
#include "base/exact.h"
#include "base/format.h"

namespace juniper::value_test {
namespace {

Type decimal(std::uint8_t scale) {
  return {TypeKind::decimal, scale};
}
constexpr Type integer{TypeKind::integer, 0};
constexpr Type real{TypeKind::real, 0};

TEST(Exact, IsWrittenWithAllItsDigits) {
  EXPECT_EQ(base::exact_text(0, 0), "0");
  EXPECT_EQ(base::exact_text(0, 3), "0.000");
  EXPECT_EQ(base::exact_text(-5, 2), "-0.05");
  EXPECT_EQ(base::exact_text(12340, 3), "12.340");
  EXPECT_EQ(base::exact_text(base::int128_max, 0), "170141183460469231731687303715884105727");
  EXPECT_EQ(base::exact_text(base::int128_min, 0), "-170141183460469231731687303715884105728");
}

TEST(Exact, IsReadWithinItsScale) {
  EXPECT_EQ(base::parse_exact("12.34", 3), 12340);
  EXPECT_EQ(base::parse_exact("12.3400", 2), 1234);
  EXPECT_EQ(base::parse_exact("-.5", 1), -5);
  EXPECT_EQ(base::parse_exact("7.", 1), 70);
  EXPECT_EQ(base::parse_exact("+7", 0), 7);
  for (const char* text : {"", "-", ".", "1.2.3", "1e3", "12.345", " 1", "1 ", "0x1", "--1", "1,000"})
    EXPECT_FALSE(base::parse_exact(text, 2)) << text;
  EXPECT_FALSE(base::parse_exact("999999999999999999999999999999999999999", 0));
}

TEST(Exact, WhatIsWrittenIsReadBack) {
  std::mt19937_64 random(1);
  for (int i = 0; i < 20000; ++i) {
    const int scale = static_cast<int>(random() % 19);
    const int128 units = (static_cast<int128>(static_cast<std::int64_t>(random())) << (random() % 40)) +
                         static_cast<std::int64_t>(random() % 1000);
    ASSERT_EQ(base::parse_exact(base::exact_text(units, scale), scale), units);
  }
}

TEST(Exact, RoundsHalvesAwayFromZero) {
  for (std::int64_t units = -2000; units <= 2000; ++units) {
    for (std::int64_t divisor : {2, 10, 100}) {
      const double expected = std::round(static_cast<double>(units) / static_cast<double>(divisor));
      ASSERT_EQ(static_cast<double>(base::divide_rounded<std::int64_t>(units, divisor)), expected)
          << units << " / " << divisor;
    }
  }
}

TEST(Exact, BecomesTheNearestReal) {
  EXPECT_EQ(base::to_real(1, 1), 0.1);
  EXPECT_EQ(base::to_real(123456789, 4), 12345.6789);
  EXPECT_EQ(base::to_real((static_cast<int128>(1) << 62) + 1, 18), 4.611686018427387905);
}

TEST(Value, IsReadAndWrittenByType) {
  const auto roundtrip = [](const std::string& text, Type type) {
    const auto value = parse_value(text, type);
    return value ? to_text(*value, type) : "none";
  };
  EXPECT_EQ(roundtrip("42", integer), "42");
  EXPECT_EQ(roundtrip("4.2", integer), "none");
  EXPECT_EQ(roundtrip("0.5", decimal(2)), "0.50");
  EXPECT_EQ(roundtrip("0.1", real), "0.1");
  EXPECT_EQ(roundtrip("-0", real), "0");
  EXPECT_EQ(roundtrip("1e400", real), "none");
  EXPECT_EQ(roundtrip("nan", real), "none");
  EXPECT_EQ(roundtrip("inf", real), "none");
  EXPECT_EQ(roundtrip("true", {TypeKind::boolean, 0}), "true");
  EXPECT_EQ(roundtrip("TRUE", {TypeKind::boolean, 0}), "none");
  EXPECT_EQ(roundtrip("2024-02-29", {TypeKind::date, 0}), "2024-02-29");
  EXPECT_EQ(roundtrip("2024-02-29 10:00", {TypeKind::datetime, 0}), "2024-02-29 10:00:00");
  EXPECT_EQ(roundtrip("10:00", {TypeKind::time, 0}), "10:00:00");
  EXPECT_EQ(roundtrip("ä\nb", {TypeKind::text, 0}), "ä\nb");
  EXPECT_EQ(to_text(Value(), integer), "");
}

TEST(Value, RealsKeepTheirBits) {
  std::mt19937_64 random(2);
  for (int i = 0; i < 20000; ++i) {
    const double number = std::bit_cast<double>(random());
    if (!std::isfinite(number) || number == 0) continue;
    ASSERT_EQ(parse_value(to_text(Value::of(number), real), real)->real(), number);
  }
}

TEST(Value, NullComesAfterEverything) {
  EXPECT_LT(compare(Value::of(int128{1}), Value::of(int128{2})), 0);
  EXPECT_LT(compare(Value::of(int128{1}), Value()), 0);
  EXPECT_GT(compare(Value(), Value::of(int128{1})), 0);
  EXPECT_EQ(compare(Value(), Value()), 0);
  EXPECT_LT(compare(Value::of(std::string("Z")), Value::of(std::string("a"))), 0);
  EXPECT_LT(compare(Value::of(std::string("z")), Value::of(std::string("ä"))), 0);
  EXPECT_GT(compare(Value::of(2.5), Value::of(-1.0)), 0);
}

TEST(Format, FollowsThePattern) {
  const auto written = [](const Value& value, Type type, std::string_view pattern) {
    return base::ValueFormat(type, pattern).text(value);
  };
  EXPECT_EQ(written(Value::of(int128{1234567}), decimal(2), "#,##0.00"), "12,345.67");
  EXPECT_EQ(written(Value::of(int128{12345}), decimal(3), "0.00"), "12.35");
  EXPECT_EQ(written(Value::of(int128{-12345}), decimal(3), "0.00"), "-12.35");
  EXPECT_EQ(written(Value::of(0.125), real, "0.0%"), "12.5%");
  EXPECT_EQ(written(Value::of(1.0 / 3), real, ""), "0.333333");
  EXPECT_EQ(written(*parse_value("2025-03-09", {TypeKind::date, 0}), {TypeKind::date, 0}, "d MMM yyyy"), "9 Mar 2025");
  const Type moment{TypeKind::datetime, 0};
  EXPECT_EQ(written(*parse_value("2025-03-09 17:05:00", moment), moment, "HH:mm"), "17:05");
  EXPECT_EQ(written(Value(), real, "0.00"), "");
}

// By the Gregorian calendar in all years, and by what of a moment is over.
TEST(Format, DaysAreTheSameInEveryForm) {
  const base::ValueFormat day({TypeKind::date, 0}, "yyyy-MM-dd");
  const base::ValueFormat moment({TypeKind::datetime, 0}, "yyyy-MM-dd HH:mm:ss");
  const std::int64_t first = base::days_from_civil(base::first_year, 1, 1);
  const std::int64_t last = base::days_from_civil(base::last_year, 12, 31);
  for (std::int64_t days = first; days <= last; days = days == last ? last + 1 : std::min(days + 997, last)) {
    EXPECT_EQ(day.text(Value::of(static_cast<int128>(days))), base::date_text(days));
    const std::int64_t end = (days + 1) * base::microseconds_per_day - 1;
    EXPECT_EQ(moment.text(Value::of(static_cast<int128>(end))), base::date_text(days) + " 23:59:59");
  }
}

TEST(Format, OneServesManyValues) {
  const base::ValueFormat money(decimal(2), "#,##0.00");
  const base::ValueFormat day({TypeKind::date, 0}, "d MMM yyyy");
  for (int turn = 0; turn < 2; ++turn) {
    EXPECT_EQ(money.text(Value::of(int128{-1})), "-0.01");
    EXPECT_EQ(money.text(Value::of(int128{123456789})), "1,234,567.89");
    EXPECT_EQ(money.text(Value()), "");
    EXPECT_EQ(day.text(Value::of(int128{0})), "1 Jan 1970");
    EXPECT_EQ(day.text(Value::of(int128{-1})), "31 Dec 1969");
  }
}

TEST(Format, ItIsKnownWhetherTheTextIsExact) {
  EXPECT_TRUE(base::ValueFormat(decimal(2)).is_exact());
  EXPECT_FALSE(base::ValueFormat(decimal(2), "0").is_exact());
  EXPECT_FALSE(base::ValueFormat(real).is_exact());
}

TEST(Format, ABadPatternIsTold) {
  EXPECT_EQ(base::pattern_problem("#,##0.00", integer), "");
  EXPECT_NE(base::pattern_problem("#,##0.00;;;'", integer), "");
  EXPECT_NE(base::pattern_problem("0.00", {TypeKind::text, 0}), "");
  EXPECT_EQ(base::pattern_problem("yyyy-MM", {TypeKind::date, 0}), "");
}

TEST(Format, SizesAndTimesAreShort) {
  EXPECT_EQ(base::format_bytes(0), "0 B");
  EXPECT_EQ(base::format_bytes(999), "999 B");
  EXPECT_EQ(base::format_bytes(1000), "1.00 kB");
  EXPECT_EQ(base::format_bytes(999'960), "1.00 MB");
  EXPECT_EQ(base::format_bytes(12'345'678), "12.3 MB");
  EXPECT_EQ(base::format_nanoseconds(950), "1 µs");
  EXPECT_EQ(base::format_nanoseconds(999'600), "1.00 ms");
  EXPECT_EQ(base::format_nanoseconds(-15'000'000), "-15.0 ms");
  EXPECT_EQ(base::format_nanoseconds(1'234'000'000), "1.23 s");
  EXPECT_EQ(base::grouped(1'234'567), "1,234,567");
  EXPECT_EQ(base::grouped(123), "123");
}

TEST(Value, NumbersBecomeReals) {
  EXPECT_EQ(to_double(Value::of(static_cast<int128>(12345)), {TypeKind::decimal, 3}), 12.345);
  EXPECT_EQ(to_double(Value::of(static_cast<int128>(-7)), {TypeKind::integer, 0}), -7.0);
  EXPECT_EQ(to_double(Value::of(0.5), {TypeKind::real, 0}), 0.5);
  EXPECT_EQ(to_double(Value(), {TypeKind::integer, 0}), std::nullopt);
  EXPECT_EQ(to_double(Value::of(static_cast<int128>(1)), {TypeKind::date, 0}), std::nullopt);
  EXPECT_EQ(to_double(Value::of(std::string("1")), {TypeKind::text, 0}), std::nullopt);
}

TEST(Value, WideNumbersHaveATextOfTheirOwn) {
  EXPECT_EQ(to_string(static_cast<int128>(0)), "0");
  EXPECT_EQ(to_string(base::int128_max), "170141183460469231731687303715884105727");
  EXPECT_EQ(to_string(base::int128_min), "-170141183460469231731687303715884105728");
}

}  // namespace
}  // namespace juniper::value_test
