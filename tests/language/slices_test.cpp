// What predicates reach, what `across` covers, what `during` replaces.
#include "language/slices.h"

#include <gtest/gtest.h>

#include "juniper/model.h"
#include "language/check.h"
#include "language/parser.h"
#include "model/access.h"
#include "support/support.h"

namespace juniper::language::slices_test {
namespace {

constexpr const char* network =
    R"(table sessions from csv "s.csv" { key id integer  bay_id integer  tariff text  start_day date  end_day date  energy decimal(1) }
table bays from csv "b.csv" { key bay_id integer  station_id integer  kw integer }
table stations from csv "st.csv" { key station_id integer  region text  name text }
table tariffs from csv "t.csv" { key tariff text  plan text }
table days from csv "d.csv" { key day date  year integer  month integer  weekday integer }
table visits from csv "v.csv" { key visit integer  bay_id integer  cost integer }
link sessions.bay_id -> bays.bay_id
link bays.station_id -> stations.station_id
link sessions.tariff -> tariffs.tariff
link sessions.start_day -> days.day
link sessions.end_day -> days.day as end_date
link visits.bay_id -> bays.bay_id
calendar days.day periods (year, month)
measure energy = sum(energy for sessions)
measure cost = sum(cost for visits)
)";

class Slices : public testing::Test {
 protected:
  // The condition of a query's `where` as a predicate.
  Predicate filter(const std::string& condition) {
    CheckedModel copy = model_;
    const std::uint32_t file = copy.sources.add({"<query>", "show 1 as one where " + condition});
    Diagnostics problems;
    const auto text = parse_query(copy.sources, file, problems);
    const Query query = check_query(copy, text, {}, problems);
    EXPECT_FALSE(has_errors(problems)) << test::messages(problems);
    NodePtr all = query.where[0];
    for (std::size_t i = 1; i < query.where.size(); ++i) ADD_FAILURE() << "one condition was expected";
    return {PredicateKind::filter, all, 0, {}, 0};
  }
  Predicate row_of(const std::string& table) { return {PredicateKind::row, nullptr, *model_.find_table(table), {}, 0}; }
  Reach reached(const std::string& condition, const std::string& table, const Roles& roles = {}) {
    return reach(model_, filter(condition), *model_.find_table(table), roles);
  }
  Across across(const std::string& written) {
    CheckedModel copy = model_;
    const std::uint32_t file = copy.sources.add({"<query>", "show (energy across " + written + ") as x"});
    Diagnostics problems;
    const auto text = parse_query(copy.sources, file, problems);
    const Query query = check_query(copy, text, {}, problems);
    EXPECT_FALSE(has_errors(problems)) << test::messages(problems);
    return *query.show[0].expression->modifiers->across;
  }
  LinkIndex role(const std::string& name) const {
    for (LinkIndex i = 0; i < model_.links.size(); ++i) {
      if (model_.links[i].role == name) return i;
    }
    ADD_FAILURE() << name;
    return 0;
  }

  CheckedModel model_ = model::checked(*Model::parse("m.ridge", network));
};

TEST_F(Slices, APredicateReachesTheTablesThatLeadToAllOfIt) {
  EXPECT_EQ(reached("stations.region = \"Coast\"", "sessions"), Reach::all);
  EXPECT_EQ(reached("stations.region = \"Coast\"", "visits"), Reach::all);
  EXPECT_EQ(reached("stations.region = \"Coast\"", "stations"), Reach::all);
  EXPECT_EQ(reached("stations.region = \"Coast\"", "days"), Reach::none);
  EXPECT_EQ(reached("sessions.energy > 1", "stations"), Reach::none);
  EXPECT_EQ(reached("stations.region = \"Coast\" or tariffs.plan = \"day\"", "sessions"), Reach::all);
  EXPECT_EQ(reached("stations.region = \"Coast\" or tariffs.plan = \"day\"", "visits"), Reach::part);
  EXPECT_EQ(reached("bays.stations.region = \"Coast\"", "visits"), Reach::all);
}

TEST_F(Slices, RolesChangeWhatIsReached) {
  EXPECT_EQ(reached("days.year = 2025", "sessions"), Reach::all);
  EXPECT_EQ(reached("days.year = 2025", "sessions", {role("end_date")}), Reach::all);
  EXPECT_EQ(reached("end_date.year = 2025", "sessions"), Reach::all);
  EXPECT_EQ(reached("end_date.year = 2025", "days"), Reach::none);
  const TableIndex sessions = *model_.find_table("sessions");
  const TableIndex days = *model_.find_table("days");
  const auto plain = model_.paths(sessions, days);
  const auto by_role = model_.paths(sessions, days, {role("end_date")});
  ASSERT_EQ(plain.size(), 1U);
  ASSERT_EQ(by_role.size(), 1U);
  EXPECT_NE(plain, by_role);
  EXPECT_EQ(by_role[0], std::vector<LinkIndex>{role("end_date")});
  const ColumnRef by_start{sessions, plain[0], {days, 1}};
  EXPECT_EQ(routed(model_, by_start, {role("end_date")}).path, by_role[0]);
  EXPECT_EQ(routed(model_, by_start, {}).path, plain[0]);
}

TEST_F(Slices, ARowReachesWhatLeadsToIt) {
  EXPECT_EQ(reach(model_, row_of("stations"), *model_.find_table("visits"), {}), Reach::all);
  EXPECT_EQ(reach(model_, row_of("stations"), *model_.find_table("tariffs"), {}), Reach::none);
  EXPECT_EQ(reach(model_, row_of("sessions"), *model_.find_table("stations"), {}), Reach::none);
}

TEST_F(Slices, AcrossCoversAllNothingOrAPart) {
  const Predicate coast = filter("stations.region = \"Coast\"");
  const Predicate mixed = filter("stations.region = \"Coast\" or tariffs.plan = \"day\"");
  const Predicate ended = filter("end_date.year = 2025");
  for (const auto& [predicate, written, expected] :
       std::vector<std::tuple<Predicate, std::string, Covered>>{{coast, "stations", Covered::all},
                                                                {coast, "stations.region", Covered::all},
                                                                {coast, "stations.name", Covered::none},
                                                                {coast, "(tariffs, stations.region)", Covered::all},
                                                                {coast, "everything", Covered::all},
                                                                {coast, "everything but stations", Covered::none},
                                                                {coast, "everything but tariffs", Covered::all},
                                                                {mixed, "stations", Covered::part},
                                                                {mixed, "(stations, tariffs.plan)", Covered::all},
                                                                {mixed, "everything but stations", Covered::part},
                                                                {ended, "days", Covered::none},
                                                                {ended, "end_date", Covered::all},
                                                                {ended, "end_date.year", Covered::all},
                                                                {row_of("stations"), "stations", Covered::all},
                                                                {row_of("stations"), "stations.region", Covered::part},
                                                                {row_of("stations"), "bays", Covered::none}}) {
    EXPECT_EQ(covered(model_, predicate, across(written)), expected) << written;
  }
}

TEST_F(Slices, APeriodReplacesTheDayAndItsPeriods) {
  EXPECT_EQ(replaced_by_during(model_, filter("days.day > date \"2025-01-01\"")), Covered::all);
  EXPECT_EQ(replaced_by_during(model_, filter("days.year = 2025")), Covered::all);
  EXPECT_EQ(replaced_by_during(model_, filter("days.year = 2025 or days.month = 1")), Covered::all);
  EXPECT_EQ(replaced_by_during(model_, filter("days.weekday = 1")), Covered::none);
  EXPECT_EQ(replaced_by_during(model_, filter("days.year = 2025 or days.weekday = 1")), Covered::part);
  EXPECT_EQ(replaced_by_during(model_, filter("end_date.year = 2025")), Covered::none);
  EXPECT_EQ(replaced_by_during(model_, row_of("days")), Covered::all);
  EXPECT_EQ(replaced_by_during(model_, row_of("stations")), Covered::none);
}

TEST_F(Slices, AnExpressionTellsWhatItAggregatesAndWhatReachesIt) {
  const auto use_of = [&](const std::string& shown, const std::vector<std::string>& where) {
    CheckedModel copy = model_;
    const std::uint32_t file = copy.sources.add({"<query>", "show " + shown + " as x"});
    Diagnostics problems;
    const auto text = parse_query(copy.sources, file, problems);
    const Query query = check_query(copy, text, {}, problems);
    EXPECT_FALSE(has_errors(problems)) << test::messages(problems);
    SliceStart start;
    for (const std::string& condition : where) {
      Predicate predicate = filter(condition);
      predicate.id = start.predicates.size();
      start.predicates.push_back(predicate);
    }
    return follow_slices(copy, query.show[0].expression, start, problems);
  };
  const SliceUse plain = use_of("energy + cost", {"stations.region = \"Coast\"", "tariffs.plan = \"day\""});
  EXPECT_EQ(plain.tables.size(), 2U);
  EXPECT_EQ(plain.reached, (std::set<std::size_t>{0, 1}));
  EXPECT_TRUE(plain.dropped.empty());
  const SliceUse dropped = use_of("(cost across stations)", {"stations.region = \"Coast\"", "tariffs.plan = \"day\""});
  EXPECT_TRUE(dropped.reached.empty());
  EXPECT_EQ(dropped.dropped, std::set<std::size_t>{0});
  const SliceUse nested = use_of("max(energy of s for s in stations)", {"tariffs.plan = \"day\""});
  EXPECT_EQ(nested.tables.size(), 2U);
  EXPECT_TRUE(nested.reached.contains(0));
}

}  // namespace
}  // namespace juniper::language::slices_test
