// Calendars that the text asks for: their columns in all ways of computing them, in other languages, and with facts.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include "base/calendar.h"
#include "base/calendar_names.h"
#include "juniper/ask.h"
#include "juniper/dataset.h"
#include "juniper/describe.h"
#include "juniper/scan.h"
#include "juniper/sql.h"
#include "support/support.h"

namespace juniper::every_day_test {
namespace {

const std::string sessions =
    "id,started,ended,kwh\n1,2024-03-05 08:00:00,2024-03-05,10.5\n2,2024-04-30 08:00:00,2025-01-02,4.5\n3,,,1.0\n";

std::string text_with(const std::string& calendar) {
  return "table sessions from csv \"s.csv\" { key id integer  started datetime  ended date  kwh decimal(1)\n"
         "  day = date(started) }\ntable days = " +
         calendar + "\nmeasure n = count(days)\nmeasure energy = sum(kwh for sessions)\n";
}

test::SmallModel network(const std::string& calendar, const std::string& more = "",
                         const std::string& rows = sessions) {
  return {text_with(calendar) + more, {{"s.csv", rows}}};
}

std::string in_three_ways(const Dataset& dataset, const std::string& query) {
  const std::string answer = test::answer(dataset, query);
  Question naive{query, {}};
  naive.plan = Plan::naive;
  EXPECT_EQ(test::rows_of(*ask(dataset, naive)), answer) << query;
  EXPECT_EQ(test::rows_of(*ask_files(dataset.model(), {query, {}})), answer) << query;
  const auto agreement = against_sqlite(dataset, {query, {}});
  EXPECT_TRUE(agreement && agreement->same()) << query;
  return answer;
}

TEST(EveryDay, HasTheColumnsOfACalendar) {
  const Dataset dataset = network("every day from 2023 to 2026").open();
  EXPECT_EQ(in_three_ways(dataset, "show n, min(day for days) as a, max(day for days) as b"),
            "1461|2023-01-01|2026-12-31");
  // Each day, worked out here once more.
  const std::string query =
      "by days.day, days.year, days.quarter, days.month, days.month_name, days.week, days.week_year, days.weekday, "
      "days.weekday_name, days.month_start, days.quarter_start show n";
  const auto answer = ask(dataset, {query, {}});
  ASSERT_TRUE(answer) << test::messages(answer.error());
  ASSERT_EQ(answer->rows.size(), 1461U);
  const auto names = base::calendar_names("en");
  for (std::size_t i = 0; i < answer->rows.size(); ++i) {
    const std::int64_t day = base::days_from_civil(2023, 1, 1) + static_cast<std::int64_t>(i);
    const auto civil = base::civil_from_days(day);
    const unsigned month = static_cast<unsigned>(civil.month());
    const std::int64_t weekday = ((day + 3) % 7 + 7) % 7 + 1;
    const std::int64_t thursday = day - weekday + 4;
    const auto week_year = base::civil_from_days(thursday).year();
    const std::int64_t week = (thursday - base::days_from_civil(static_cast<int>(week_year), 1, 1)) / 7 + 1;
    const std::string expected =
        fmt::format("{}|{}|{}|{}|{}|{}|{}|{}|{}|{}|{}", base::date_text(day), static_cast<int>(civil.year()),
                    (month + 2) / 3, month, names->months[month - 1], week, static_cast<int>(week_year), weekday,
                    names->weekdays[static_cast<std::size_t>(weekday - 1)],
                    base::date_text(base::days_from_civil(static_cast<int>(civil.year()), month, 1)),
                    base::date_text(base::days_from_civil(static_cast<int>(civil.year()), (month + 2) / 3 * 3 - 2, 1)));
    std::string found;
    for (std::size_t c = 0; c < 11; ++c)
      found += (c == 0 ? "" : "|") + to_text(answer->rows[i].cells[c], answer->columns[c].type);
    ASSERT_EQ(found, expected);
  }
  EXPECT_EQ(in_three_ways(dataset, "by days.month_name show n where days.year = 2024 and days.month <= 3"),
            "January|31\nFebruary|29\nMarch|31");
  EXPECT_EQ(in_three_ways(dataset, "by days.weekday_name show n where days.year = 2023").substr(0, 9), "Monday|52");
}

TEST(EveryDay, HoldsTheWholeYearsOfWhatOccurs) {
  const std::string more =
      "link sessions.day -> days.day\nlink sessions.ended -> days.day as end_days\n"
      "query q { by days.year, days.month_name show energy, (energy during shift(-1 month)) as before,\n"
      "  (energy via end_days) as ended, (energy during to_date(year)) as so_far }\n";
  const test::SmallModel model = network("every day of (sessions.started, sessions.ended)", more);
  const Dataset dataset = model.open();
  EXPECT_EQ(in_three_ways(dataset, "show n, min(day for days) as a, max(day for days) as b"),
            "731|2024-01-01|2025-12-31");
  EXPECT_EQ(in_three_ways(dataset, "q"),
            "2024|March|10.5|null|10.5|10.5\n2024|April|4.5|10.5|null|15.0\n"
            "2025|January|null|null|4.5|null\nnull|null|1.0|null|1.0|null");
  // Another year of facts makes another year of days.
  model.folder.write("s.csv", sessions + "4,2026-02-01 09:00:00,2026-02-01,2.0\n");
  ASSERT_TRUE(load(model.path()));
  EXPECT_EQ(test::answer(model.open(), "show n"), "1096");
  // Without a date there is no day.
  EXPECT_EQ(
      in_three_ways(network("every day of sessions.ended", "", "id,started,ended,kwh\n1,,,1.0\n").open(), "show n"),
      "0");
}

TEST(EveryDay, SpeaksOtherLanguagesAndCountsBusinessYears) {
  const Dataset german = network("every day from 2024 to 2024 (language \"de\", business_year 4)").open();
  EXPECT_EQ(in_three_ways(german, "by days.month_name, days.weekday_name show n where days.day = date \"2024-03-05\""),
            "März|Dienstag|1");
  EXPECT_EQ(in_three_ways(german,
                          "by days.business_year, days.business_quarter, days.business_month show n where "
                          "days.day in (date \"2024-03-31\", date \"2024-04-01\", date \"2024-12-31\")"),
            "2023|4|12|1\n2024|1|1|1\n2024|3|9|1");
  EXPECT_EQ(base::calendar_names("pt-BR")->months[2], "março");
  EXPECT_FALSE(base::calendar_names("xx"));
  EXPECT_FALSE(base::calendar_names(""));
  EXPECT_FALSE(base::calendar_names("no language at all"));
}

TEST(EveryDay, WhatMakesNoneIsTold) {
  const auto said = [](const std::string& calendar) {
    const auto model = Model::parse("m.ridge", text_with(calendar));
    return model ? std::string("taken") : model.error()[0].code;  // others follow from that
  };
  EXPECT_EQ(said("every day from 2024 to 2024"), "taken");
  EXPECT_EQ(said("every day from 2024 to 2020"), "JR-110");
  EXPECT_EQ(said("every day from 0 to 2020"), "JR-110");
  EXPECT_EQ(said("every day since 2020"), "JR-110");
  EXPECT_EQ(said("every day of sessions"), "JR-202");
  EXPECT_EQ(said("every day of sessions.kwh"), "JR-301");
  EXPECT_EQ(said("every day of sessions.nothing"), "JR-202");
  EXPECT_EQ(said("every day of (sessions.day, nobody.day)"), "JR-201");
  EXPECT_EQ(said("every day of sessions.day (language \"xx\")"), "JR-112");
  EXPECT_EQ(said("every day of sessions.day (business_year 13)"), "JR-110");
  EXPECT_EQ(said("every day of sessions.day (colour 3)"), "JR-110");
  EXPECT_EQ(said("every day from 2024 to 2024\ncalendar days.day"), "JR-410");
}

// Where no file is a calendar, a scan proposes one.
TEST(EveryDay, IsProposedByAScan) {
  const test::TempFolder folder;
  folder.write(
      "sessions.csv",
      "id,bay,start_day,end_day\n1,7,2024-03-05,2024-03-06\n2,7,2024-05-01,2024-05-01\n3,8,2024-05-01,9999-12-31\n");
  folder.write("bays.csv", "bay,opened\n7,2020-01-01\n8,2020-01-02\n9,2020-01-02\n");
  folder.write("readings.csv", "at,kw\n2024-01-05 10:00:00,1.5\n2024-02-05 10:00:00,2.5\n2024-02-05 10:00:00,2.5\n");
  const auto proposed = scan({folder.path("")}, folder.path(""));
  ASSERT_TRUE(proposed) << test::messages(proposed.error());
  EXPECT_NE(proposed->text.find("every day of (readings.at_day, sessions.start_day)"), std::string::npos)
      << proposed->text;
  EXPECT_NE(proposed->text.find("link sessions.start_day -> days.day"), std::string::npos) << proposed->text;
  folder.write("model.ridge", proposed->text);
  ASSERT_TRUE(load(folder.path("model.ridge")));
  const auto dataset = Dataset::open(folder.path("model.ridge"));
  ASSERT_TRUE(dataset);
  EXPECT_EQ(test::answer(*dataset, "by days.month_name show count(sessions) as s, count(readings) as r"),
            "January|0|1\nFebruary|0|2\nMarch|1|0\nMay|2|0");
}

}  // namespace
}  // namespace juniper::every_day_test
