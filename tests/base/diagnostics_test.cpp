#include "base/diagnostics.h"

#include <gtest/gtest.h>

namespace juniper::diagnostics_test {
namespace {

TEST(Diagnostics, RenderWithPlaceCaretAndFix) {
  Diagnostic d;
  d.code = "JR-202";
  d.place = {"charging.ridge", 12, 22};
  d.message = "there is no column 'enrgy' in table 'sessions'";
  d.source_line = "measure energy = sum(enrgy for sessions)";
  d.caret_width = 5;
  d.suggestion = "did you mean 'energy_kwh'?";
  EXPECT_EQ(render(d),
            "charging.ridge:12:22: error: there is no column 'enrgy' in table 'sessions' [JR-202]\n"
            "  12 | measure energy = sum(enrgy for sessions)\n"
            "     |                      ^~~~~\n"
            "  fix: did you mean 'energy_kwh'?\n");
  EXPECT_NE(render(d, Color::on).find("\033["), std::string::npos);
}

TEST(Diagnostics, LeaveOutWhatIsNotKnown) {
  EXPECT_EQ(render(base::error("JR-001", "no file")), "error: no file [JR-001]\n");
  EXPECT_EQ(render(base::error_at("JR-507", {"a.csv", 7, 0}, "bad")), "a.csv:7: error: bad [JR-507]\n");
  EXPECT_FALSE(has_errors({}));
}

TEST(Diagnostics, TheNearestNameIsNearEnough) {
  const std::vector<std::string> names{"energy_kwh", "bay_id", "channel"};
  EXPECT_EQ(base::nearest_name("enrgy_kwh", names), "energy_kwh");
  EXPECT_EQ(base::nearest_name("chanel", names), "channel");
  EXPECT_EQ(base::nearest_name("bayid", names), "bay_id");
  EXPECT_EQ(base::nearest_name("tariff", names), "");
  EXPECT_EQ(base::did_you_mean("nothing_like_it", names), "");
}

}  // namespace
}  // namespace juniper::diagnostics_test
