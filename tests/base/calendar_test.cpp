#include "base/calendar.h"

#include <gtest/gtest.h>

#include <cmath>
#include <limits>

namespace juniper::base::calendar_test {
namespace {

const std::int64_t first = days_from_civil(1, 1, 1);
const std::int64_t last = days_from_civil(9999, 12, 31);

TEST(Calendar, EveryDayIsWrittenAndReadBack) {
  for (std::int64_t day = first; day <= last; ++day) ASSERT_EQ(parse_date(date_text(day)), day);
}

TEST(Calendar, KnowsTheEpochAndLeapYears) {
  EXPECT_EQ(parse_date("1970-01-01"), 0);
  EXPECT_EQ(date_text(0), "1970-01-01");
  EXPECT_TRUE(parse_date("2024-02-29"));
  EXPECT_TRUE(parse_date("2000-02-29"));
  EXPECT_FALSE(parse_date("2023-02-29"));
  EXPECT_FALSE(parse_date("1900-02-29"));
}

TEST(Calendar, RefusesEverythingElse) {
  for (const char* text :
       {"", "2024", "2024-1-01", "2024-01-1", "2024-13-01", "2024-00-10", "2024-01-32", "2024-01-00", "0000-01-01",
        "2024-01-01x", " 2024-01-01", "24-01-01", "2024/01/01", "-024-01-01", "2024-01-01 "}) {
    EXPECT_FALSE(parse_date(text)) << text;
  }
  for (const char* text :
       {"", "2024-01-01", "2024-01-01 ", "2024-01-01 24:00:00", "2024-01-01 08:60:00", "2024-01-01 08:00:60",
        "2024-01-01 08:00:00.", "2024-01-01 08:00:00.1234567", "2024-01-01 8:00", "2024-01-01  08:00"}) {
    EXPECT_FALSE(parse_datetime(text)) << text;
  }
  for (const char* text : {"", "8:00", "08", "08:0", "08:00:0", "25:00", "08:00:00.x"})
    EXPECT_FALSE(parse_time(text)) << text;
}

TEST(Calendar, ReadsTimesToTheMicrosecond) {
  EXPECT_EQ(parse_datetime("1970-01-01 00:00:00"), 0);
  EXPECT_EQ(parse_datetime("1970-01-01T00:00:01.5"), 1'500'000);
  EXPECT_EQ(parse_datetime("1969-12-31 23:59:59.999999"), -1);
  EXPECT_EQ(datetime_text(-1), "1969-12-31 23:59:59.999999");
  EXPECT_EQ(datetime_text(1'500'000), "1970-01-01 00:00:01.5");
  EXPECT_EQ(parse_time("08:30"), parse_time("08:30:00"));
  EXPECT_EQ(time_text(*parse_time("23:59:59.000001")), "23:59:59.000001");
}

TEST(Calendar, MonthsAreClippedToTheirEnd) {
  const auto moved = [](const char* from, std::int64_t months) {
    return date_text(add_months(*parse_date(from), months));
  };
  EXPECT_EQ(moved("2024-01-31", 1), "2024-02-29");
  EXPECT_EQ(moved("2023-01-31", 1), "2023-02-28");
  EXPECT_EQ(moved("2024-03-31", -1), "2024-02-29");
  EXPECT_EQ(moved("2024-01-15", -13), "2022-12-15");
  EXPECT_EQ(moved("2024-12-31", 12), "2025-12-31");
  EXPECT_EQ(moved("2024-02-29", 12), "2025-02-28");
}

TEST(Calendar, MonthsThereAndBackKeepTheMonth) {
  for (std::int64_t day = days_from_civil(1999, 1, 1); day < days_from_civil(2005, 1, 1); ++day) {
    for (std::int64_t months : {-37, -12, -1, 0, 1, 11, 25}) {
      const auto there = civil_from_days(add_months(day, months));
      const auto back = civil_from_days(add_months(add_months(day, months), -months));
      const auto from = civil_from_days(day);
      ASSERT_EQ(back.month(), from.month());
      ASSERT_EQ(back.year(), from.year());
      ASSERT_LE(there.day(), from.day());
    }
  }
}

TEST(Calendar, YearsBetweenCountsWholeYearsAndTheShareOfTheNext) {
  const auto between = [](const char* from, const char* to) {
    return years_between(*parse_date(from), *parse_date(to));
  };
  EXPECT_DOUBLE_EQ(between("2020-03-01", "2023-03-01"), 3);
  EXPECT_DOUBLE_EQ(between("2023-03-01", "2020-03-01"), -3);
  EXPECT_DOUBLE_EQ(between("2023-01-01", "2023-01-02"), 1.0 / 365);
  EXPECT_DOUBLE_EQ(between("2024-01-01", "2024-12-31"), 365.0 / 366);
  EXPECT_DOUBLE_EQ(between("2020-02-29", "2021-02-28"), 1);
  EXPECT_DOUBLE_EQ(between("2020-02-29", "2021-02-27"), 364.0 / 365);
}

TEST(Calendar, YearsBetweenNeverFalls) {
  const std::int64_t from = *parse_date("2020-02-29");
  double before = -1;
  for (std::int64_t to = from; to < from + 4000; ++to) {
    const double now = years_between(from, to);
    ASSERT_GT(now, before);
    before = now;
  }
}

TEST(Calendar, DivisionRoundsDown) {
  for (std::int64_t a = -50; a <= 50; ++a) {
    for (std::int64_t b : {1, 2, 3, 7})
      ASSERT_EQ(floor_divide(a, b),
                static_cast<std::int64_t>(std::floor(static_cast<double>(a) / static_cast<double>(b))));
  }
}

TEST(Calendar, UnitsBeginAndEndWhereTheyShould) {
  // Forty years of days, each held against a walk from day to day.
  const std::int64_t from = days_from_civil(1990, 1, 1);
  const std::int64_t to = days_from_civil(2030, 12, 31);
  const auto same_unit = [](std::int64_t a, std::int64_t b, Unit unit) {
    const auto x = civil_from_days(a);
    const auto y = civil_from_days(b);
    const auto quarter = [](const auto& d) { return (static_cast<unsigned>(d.month()) - 1) / 3; };
    switch (unit) {
      case Unit::day:
        return a == b;
      case Unit::week:
        return (a + 3) / 7 == (b + 3) / 7;  // 1969-12-29 was a Monday
      case Unit::month:
        return x.year() == y.year() && x.month() == y.month();
      case Unit::quarter:
        return x.year() == y.year() && quarter(x) == quarter(y);
      case Unit::year:
        return x.year() == y.year();
    }
    return false;
  };
  for (const Unit unit : {Unit::day, Unit::week, Unit::month, Unit::quarter, Unit::year}) {
    for (std::int64_t day = from; day <= to; ++day) {
      const std::int64_t start = start_of(day, unit);
      const std::int64_t end = end_of(day, unit);
      ASSERT_TRUE(start <= day && day <= end);
      ASSERT_TRUE(same_unit(start, day, unit) && same_unit(end, day, unit)) << date_text(day);
      ASSERT_FALSE(same_unit(start - 1, day, unit)) << date_text(day);
      ASSERT_FALSE(same_unit(end + 1, day, unit)) << date_text(day);
    }
  }
}

TEST(Calendar, MovesByUnitsAndClipsToTheMonthsEnd) {
  const auto moved_text = [](const char* from, std::int64_t count, Unit unit) {
    const auto result = moved(*parse_date(from), count, unit);
    return result ? date_text(*result) : "nothing";
  };
  EXPECT_EQ(moved_text("2024-01-31", 1, Unit::month), "2024-02-29");
  EXPECT_EQ(moved_text("2024-02-29", 1, Unit::year), "2025-02-28");
  EXPECT_EQ(moved_text("2025-03-31", -1, Unit::quarter), "2024-12-31");
  EXPECT_EQ(moved_text("2025-05-31", -1, Unit::quarter), "2025-02-28");
  EXPECT_EQ(moved_text("2024-12-30", 1, Unit::week), "2025-01-06");
  EXPECT_EQ(moved_text("2024-12-31", 1, Unit::day), "2025-01-01");
  EXPECT_EQ(moved_text("9999-12-31", 1, Unit::day), "nothing");
  EXPECT_EQ(moved_text("0001-01-01", -1, Unit::month), "nothing");
  EXPECT_EQ(moved_text("2025-01-01", 5'000'000, Unit::day), "nothing");
  EXPECT_EQ(moved_text("2025-01-01", std::numeric_limits<std::int64_t>::min(), Unit::year), "nothing");
}

TEST(Calendar, MonthsBetweenCountsWholeOnesAndTheShareOfTheNext) {
  const auto between = [](const char* from, const char* to) {
    return months_between(*parse_date(from), *parse_date(to));
  };
  EXPECT_EQ(between("2025-01-15", "2025-03-15"), 2);
  EXPECT_EQ(between("2025-01-15", "2025-01-15"), 0);
  EXPECT_EQ(between("2025-01-31", "2025-02-28"), 1);  // clipped to the month's end
  EXPECT_DOUBLE_EQ(between("2025-02-01", "2025-02-15"), 0.5);
  EXPECT_DOUBLE_EQ(between("2025-02-15", "2025-02-01"), -0.5);
  EXPECT_EQ(between("2020-02-29", "2025-02-28"), 60);
}

}  // namespace
}  // namespace juniper::base::calendar_test
