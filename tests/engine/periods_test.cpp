// Periods of the calendar, in all three ways: whole months stay whole when they move, and every other day by itself.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include "base/calendar.h"
#include "juniper/ask.h"
#include "juniper/dataset.h"
#include "juniper/sql.h"
#include "support/support.h"

namespace juniper::periods_test {
namespace {

// Every day of the years 1999 to 2002.
const test::SmallModel& calendar() {
  static const test::SmallModel* const model = [] {
    std::string days = "day,year,month\n";
    for (std::int64_t d = base::days_from_civil(1999, 1, 1); d <= base::days_from_civil(2002, 12, 31); ++d) {
      const auto civil = base::civil_from_days(d);
      days += fmt::format("{},{},{}\n", base::date_text(d), static_cast<int>(civil.year()),
                          static_cast<unsigned>(civil.month()));
    }
    return new test::SmallModel(
        "table days from csv \"days.csv\" { key day date  year integer  month integer }\n"
        "calendar days.day periods (year, month)\nmeasure n = count(days)\nmeasure first_day = min(day for days)\n"
        "measure last_day = max(day for days)\n",
        {{"days.csv", days}});
  }();
  return *model;
}

// How many days `period` holds, from which to which, for the slice that `where` leaves.
std::string moved(const std::string& period, const std::string& where) {
  const Dataset dataset = calendar().open();
  const std::string query = fmt::format(
      "show (n during {0}) as n, (first_day during {0}) as a, (last_day during {0}) as b where {1}", period, where);
  const std::string answer = test::answer(dataset, query);
  Question naive{query, {}};
  naive.plan = Plan::naive;
  EXPECT_EQ(test::rows_of(*ask(dataset, naive)), answer) << query;
  const auto agreement = against_sqlite(dataset, {query, {}});
  EXPECT_TRUE(agreement && agreement->same()) << query;
  return answer;
}

TEST(Periods, WholeMonthsStayWhole) {
  EXPECT_EQ(moved("shift(-1 year)", "days.year = 2001 and days.month = 2"), "29|2000-02-01|2000-02-29");
  EXPECT_EQ(moved("shift(1 year)", "days.year = 2000 and days.month = 2"), "28|2001-02-01|2001-02-28");
  EXPECT_EQ(moved("shift(-1 month)", "days.year = 2001 and days.month = 6"), "31|2001-05-01|2001-05-31");
  EXPECT_EQ(moved("shift(-1 quarter)", "days.year = 2001 and days.month <= 3"), "92|2000-10-01|2000-12-31");
  EXPECT_EQ(moved("shift(-2 year)", "days.year = 2001"), "365|1999-01-01|1999-12-31");
  EXPECT_EQ(moved("shift(-1 year)", "days.year = 2001"), "366|2000-01-01|2000-12-31");
  // Months that do not stand together, and those that leave the calendar.
  EXPECT_EQ(moved("shift(1 month)", "days.year = 2001 and days.month in (1, 3)"), "58|2001-02-01|2001-04-30");
  EXPECT_EQ(moved("shift(-1 month)", "days.year = 1999 and days.month <= 2"), "31|1999-01-01|1999-01-31");
  EXPECT_EQ(moved("shift(1 year)", "days.year = 2002"), "0|null|null");
}

TEST(Periods, OtherDaysMoveByThemselves) {
  EXPECT_EQ(moved("shift(-1 year)", "days.day between date \"2001-02-01\" and date \"2001-02-27\""),
            "27|2000-02-01|2000-02-27");
  EXPECT_EQ(moved("shift(-1 year)", "days.day = date \"2001-02-28\""), "1|2000-02-28|2000-02-28");
  EXPECT_EQ(moved("shift(-1 month)", "days.day between date \"2001-03-28\" and date \"2001-03-31\""),
            "1|2001-02-28|2001-02-28");
  // One day more than a month, and a month less a day in its middle.
  EXPECT_EQ(moved("shift(-1 month)", "days.day between date \"2001-06-01\" and date \"2001-07-01\""),
            "31|2001-05-01|2001-06-01");
  EXPECT_EQ(moved("shift(-1 month)", "days.year = 2001 and days.month = 6 and days.day <> date \"2001-06-15\""),
            "29|2001-05-01|2001-05-30");
  // By days and weeks, a month is nothing but its days.
  EXPECT_EQ(moved("shift(-1 day)", "days.year = 2001 and days.month = 6"), "30|2001-05-31|2001-06-29");
  EXPECT_EQ(moved("shift(-4 week)", "days.year = 2001 and days.month = 6"), "30|2001-05-04|2001-06-02");
}

TEST(Periods, TrailingUnitsAreWholeWhereTheyEndWithOne) {
  EXPECT_EQ(moved("trailing(1 month)", "days.year = 2001 and days.month = 2"), "28|2001-02-01|2001-02-28");
  EXPECT_EQ(moved("trailing(1 month)", "days.year = 2001 and days.month = 3"), "31|2001-03-01|2001-03-31");
  EXPECT_EQ(moved("trailing(3 month)", "days.day = date \"2001-02-28\""), "90|2000-12-01|2001-02-28");
  EXPECT_EQ(moved("trailing(1 quarter)", "days.day = date \"2000-03-31\""), "91|2000-01-01|2000-03-31");
  EXPECT_EQ(moved("trailing(2 year)", "days.year = 2001"), "731|2000-01-01|2001-12-31");
  EXPECT_EQ(moved("trailing(1 week)", "days.day = date \"2001-06-10\""), "7|2001-06-04|2001-06-10");  // a Sunday
  // The end of a month is no end of a year, and a day within a month ends none.
  EXPECT_EQ(moved("trailing(1 year)", "days.day = date \"2001-02-28\""), "366|2000-02-29|2001-02-28");
  EXPECT_EQ(moved("trailing(1 month)", "days.day = date \"2001-03-30\""), "30|2001-03-01|2001-03-30");
  EXPECT_EQ(moved("trailing(2 day)", "days.day = date \"2001-02-28\""), "2|2001-02-27|2001-02-28");
}

// Every month of the calendar, and slices by month side by side.
TEST(Periods, EveryMonthMovesToItsNeighbour) {
  const Dataset dataset = calendar().open();
  const std::string query =
      "by days.year, days.month show (n during shift(-1 month)) as before, (n during shift(1 month)) as behind, "
      "(n during trailing(2 month)) as two, (n during shift(-1 year)) as earlier";
  std::string expected;
  const auto length = [](int month) -> std::int64_t {  // months since 1999-01
    if (month < 0 || month >= 48) return 0;
    const std::int64_t first = base::days_from_civil(1999 + month / 12, static_cast<unsigned>(month % 12 + 1), 1);
    return base::end_of(first, base::Unit::month) - first + 1;
  };
  for (int month = 0; month < 48; ++month) {
    expected +=
        fmt::format("{}{}|{}|{}|{}|{}|{}", month == 0 ? "" : "\n", 1999 + month / 12, month % 12 + 1, length(month - 1),
                    length(month + 1), length(month) + length(month - 1), length(month - 12));
  }
  EXPECT_EQ(test::answer(dataset, query), expected);
  Question naive{query, {}};
  naive.plan = Plan::naive;
  EXPECT_EQ(test::rows_of(*ask(dataset, naive)), expected);
  const auto agreement = against_sqlite(dataset, {query, {}});
  EXPECT_TRUE(agreement && agreement->same());
}

// What moves over days that the calendar lacks says so, and a load does; with --strict both are errors.
TEST(Periods, GapsOfTheCalendarAreTold) {
  const std::string text =
      "table days from csv \"days.csv\" { key day date  month integer }\ncalendar days.day periods (month)\n"
      "measure n = count(days)\nmeasure before = (n during shift(-1 month))\nmeasure two = before + n\n";
  const std::string whole = "day,month\n2025-01-30,1\n2025-01-31,1\n2025-02-01,2\n2025-02-02,2\n";
  const test::SmallModel model(text, {{"days.csv", whole}});
  const auto warned = [&](const std::string& query, bool strict = false) {
    Options options;
    options.reading.strict = strict;
    const auto loaded = Dataset::open(model.path(), options);
    const auto answer = ask(*loaded, {query, {}});
    return answer ? test::codes(answer->warnings) : "refused " + test::codes(answer.error());
  };
  EXPECT_EQ(warned("by days.month show two"), "");
  model.folder.write("days.csv", "day,month\n2025-01-30,1\n2025-02-01,2\n2025-02-02,2\n2025-02-05,2\n");
  const auto loaded = load(model.path());
  ASSERT_TRUE(loaded);
  ASSERT_EQ(test::codes(loaded->warnings), "JR-525");
  EXPECT_NE(
      loaded->warnings[0].message.find("3 of the 7 days from 2025-01-30 to 2025-02-05, the first of them 2025-01-31"),
      std::string::npos)
      << loaded->warnings[0].message;
  EXPECT_EQ(warned("by days.month show n"), "");
  EXPECT_EQ(warned("by days.month show n having before > 0"), "JR-525");
  EXPECT_EQ(warned("by days.month show two"), "JR-525");
  EXPECT_EQ(warned("by days.month show two", true), "refused JR-525");
  EXPECT_EQ(warned("by days.month show n", true), "");
  Options strict;
  strict.reading.strict = true;
  EXPECT_EQ(test::codes(load(model.path(), strict).error()), "JR-525");
}

}  // namespace
}  // namespace juniper::periods_test
