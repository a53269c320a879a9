// Each rule of the audit: what it finds, what it measures, and what is right as it is.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <filesystem>
#include <nlohmann/json.hpp>

#include "juniper/audit.h"
#include "juniper/demo.h"
#include "juniper/report.h"
#include "juniper/weigh.h"
#include "support/support.h"

namespace juniper {
namespace {

// A model in which everything is used.
constexpr const char* clean = R"(
table sessions from csv "sessions.csv" { key id integer  bay_id integer  started datetime  kwh decimal(1)  channel text MORE }
table bays from csv "bays.csv" { key bay_id integer  lane text }
link sessions.bay_id -> bays.bay_id
measure kwh = sum(kwh for sessions)
measure sessions_of_app = count(distinct id for sessions where channel = "app")
measure begun = min(started for sessions)
query lanes { by bays.lane, sessions.channel show kwh, sessions_of_app, begun }
)";

test::SmallModel network(const std::string& more_columns, const std::string& more, const std::string& header = "") {
  std::string text = clean;
  text.replace(text.find("MORE"), 4, more_columns);
  std::string sessions = "id,bay_id,started,kwh,channel" + header + "\n";
  for (int i = 0; i < 500; ++i) {
    sessions += fmt::format("{},{},2025-01-{:02} {:02}:00:00,{}.{},{}", i * 3 + 7, i % 20, i % 28 + 1, i % 24, i % 30,
                            i % 10, i % 3 == 0 ? "app" : "card");
    for (std::size_t at = header.find(','); at != std::string::npos; at = header.find(',', at + 1)) {
      const std::string name = header.substr(at + 1, header.find(',', at + 1) - at - 1);
      sessions += name == "number"    ? fmt::format(",{}", i)
                  : name == "digits"  ? fmt::format(",{}", i % 90)
                  : name == "padded"  ? fmt::format(",{:03}", i % 90)
                  : name == "days"    ? fmt::format(",2025-01-{:02}", i % 28 + 1)
                  : name == "missing" ? std::string(",")
                                      : std::string(",EUR");
    }
    sessions += '\n';
  }
  std::string bays = "bay_id,lane\n";
  for (int i = 0; i < 20; ++i) bays += fmt::format("{},lane {}\n", i, i % 4);
  return {text + more, {{"sessions.csv", sessions}, {"bays.csv", bays}}};
}

// "JA-101 sessions.currency", one on each line.
std::string found(const Dataset& dataset, const AuditSettings& settings = {}) {
  const auto audited = audit(dataset, settings);
  if (!audited) return test::messages(audited.error());
  std::vector<std::string> lines;
  for (const Finding& finding : audited->findings) lines.push_back(finding.code + " " + finding.subject);
  std::sort(lines.begin(), lines.end());
  return fmt::format("{}", fmt::join(lines, "\n"));
}

TEST(Audit, FindsNothingInACleanModel) {
  const Dataset dataset = network("", "").open();
  EXPECT_EQ(found(dataset), "");
  EXPECT_EQ(audit(dataset)->rules.size(), audit_rules().size());
}

TEST(Audit, UnusedColumnsSaveWhatTheyTake) {
  const test::SmallModel model =
      network("number integer  digits integer  days date used by \"finance workbook\"", "", ",number,digits,days");
  const Dataset dataset = model.open();
  EXPECT_EQ(found(dataset), "JA-101 sessions.digits\nJA-102 sessions.number");
  const Audit audited = *audit(dataset);
  const Weighing weighing = weigh(dataset);
  for (const Finding& finding : audited.findings) {
    const auto weight = std::find_if(weighing.columns.begin(), weighing.columns.end(), [&](const ColumnWeight& c) {
      return c.table + "." + c.column == finding.subject;
    });
    ASSERT_NE(weight, weighing.columns.end());
    EXPECT_EQ(finding.saved_bytes, weight->total_bytes());
    EXPECT_EQ(finding.place.line, 2U);
    EXPECT_FALSE(finding.evidence.empty());
    EXPECT_FALSE(finding.remedy.empty());
  }
  // A key of which nothing is made is a finding, too, and one that a link leads to is none.
  EXPECT_EQ(found(network("",
                          "table visits from csv \"sessions.csv\" { key id integer }\nmeasure n = count(visits)\n"
                          "query q { show n }")
                      .open()),
            "JA-102 visits.id");
}

TEST(Audit, ColumnsOfOneValue) {
  const test::SmallModel model =
      network("currency text  missing integer  fees = 3  everything = sum(s.kwh for s in sessions)",
              "measure m = max(everything for sessions) + max(fees for sessions)\n"
              "query q { by sessions.currency, sessions.missing show m }",
              ",currency,missing");
  EXPECT_EQ(found(model.open()),
            "JA-103 sessions.currency\nJA-103 sessions.fees\nJA-103 sessions.missing\nJA-106 sessions.everything\n"
            "JA-107 sessions.fees");
}

// Two rows may have the same number by chance: what reads the row is no aggregate over the whole table.
TEST(Audit, AggregatesOfTheRowAreRight) {
  const test::SmallModel model = network(
      "of_bay = sum(s.kwh for s in sessions where s.bay_id = this.bay_id)  share = kwh / "
      "sum(s.kwh for s in sessions)",
      "measure m = max(of_bay for sessions) + max(share for sessions)\nquery q { show m }");
  EXPECT_EQ(found(model.open()), "");
}

TEST(Audit, ValuesHeldAsTextSaveWhatTheirTypeTakesLess) {
  const std::string query =
      "measure n = count(sessions)\nquery q { by sessions.digits, sessions.padded, sessions.days show n }";
  const Dataset as_text = network("digits text  padded text  days text", query, ",digits,padded,days").open();
  EXPECT_EQ(found(as_text), "JA-104 sessions.days\nJA-104 sessions.digits");
  const Dataset typed = network("digits integer  padded text  days date", query, ",digits,padded,days").open();
  EXPECT_EQ(found(typed), "");
  const Audit audited = *audit(as_text);
  for (const Finding& finding : audited.findings) {
    const auto bytes = [&](const Dataset& dataset) {
      for (const ColumnWeight& c : weigh(dataset).columns) {
        if (c.table + "." + c.column == finding.subject) return c.total_bytes();
      }
      return std::uint64_t{0};
    };
    EXPECT_EQ(finding.saved_bytes, bytes(as_text) - bytes(typed)) << finding.subject;
  }
}

TEST(Audit, CopiesOfLookedUpValues) {
  const test::SmallModel model =
      network("lane = bays.lane  marked = bays.lane || \"!\"",
              "measure n = count(sessions)\nquery q { by sessions.lane, sessions.marked show n }");
  EXPECT_EQ(found(model.open()), "JA-105 sessions.lane");
}

TEST(Audit, CalculatedColumnsThatAreOnlyAggregated) {
  // What a query groups by, what a declaration names, and what holds an aggregate stays stored.
  const test::SmallModel model = network(
      "double = kwh * 2  half = kwh / 2  size = case when kwh > 10 then \"large\" else \"small\" end  "
      "told = kwh * 3 used by \"finance workbook\"  of_bay = sum(s.kwh for s in sessions where s.bay_id = this.bay_id)",
      "measure m = sum(double for sessions) + max(half for sessions) + sum(told for sessions) + sum(of_bay for "
      "sessions)\n"
      "query q { by sessions.size show m }");
  EXPECT_EQ(found(model.open()), "JA-107 sessions.double\nJA-107 sessions.half");
}

TEST(Audit, TimestampsThatAreSmallerApart) {
  // One each three minutes without an end, and those of working hours in no order.
  constexpr int rows = 20'000;
  std::string running = "id,at\n";
  std::string shuffled = "id,at\n";
  for (int i = 0; i < rows; ++i) {
    const int at = i * 3;
    running += fmt::format("{},2024-{:02}-{:02} {:02}:{:02}:00\n", i, at / 1440 / 25 + 1, at / 1440 % 25 + 1,
                           at % 1440 / 60, at % 60);
    const int other = i * 7919 % rows;
    shuffled += fmt::format("{},2024-{:02}-{:02} {:02}:{:02}:00\n", i, other / 400 / 25 + 1, other / 400 % 25 + 1,
                            other % 400 / 60 + 8, other % 400 % 60);
  }
  const test::SmallModel model(R"(table a from csv "a.csv" { id integer  at datetime }
table s from csv "s.csv" { id integer  at datetime }
measure m = min(at for a) measure n = min(at for s) measure o = sum(id for a) + sum(id for s)
query q { show m, n, o })",
                               {{"a.csv", running}, {"s.csv", shuffled}});
  const Dataset dataset = model.open();
  EXPECT_EQ(found(dataset), "JA-108 s.at");
  EXPECT_EQ(audit(dataset)->findings[0].evidence, "20,000 values; 50 dates and 400 times of day apart");
}

TEST(Audit, DimensionsOfWhichLittleIsUsed) {
  const test::SmallModel model = network("", "");
  std::string bays = "bay_id,lane\n";
  for (int i = 0; i < 41; ++i) bays += fmt::format("{},lane {}\n", i, i);
  model.folder.write("bays.csv", bays);
  const auto audited = audit(model.open());
  ASSERT_EQ(audited->findings.size(), 1U);
  EXPECT_EQ(audited->findings[0].code, "JA-201");
  EXPECT_EQ(audited->findings[0].evidence, "links lead to 20 of 41 rows");
}

TEST(Audit, Measures) {
  EXPECT_EQ(
      found(network("",
                    "measure lonely = kwh / 2\nmeasure energy = sum(s.kwh for s in sessions)\nmeasure same = kwh\n"
                    "measure told = kwh * 3 used by \"finance workbook\"\n"
                    "query q { with measure kwh = energy + 1 show kwh, same }")
                .open()),
      "JA-301 lonely\nJA-302 energy");
}

TEST(Audit, RulesCanBeChosen) {
  const Dataset dataset =
      network("number integer  digits integer", "measure lonely = kwh / 2", ",number,digits").open();
  EXPECT_EQ(found(dataset), "JA-101 sessions.digits\nJA-102 sessions.number\nJA-301 lonely");
  EXPECT_EQ(found(dataset, {{"JA-301"}, {}, 0}), "JA-301 lonely");
  EXPECT_EQ(found(dataset, {{}, {"JA-301", "JA-102"}, 0}), "JA-101 sessions.digits");
  EXPECT_EQ(found(dataset, {{}, {}, 1}), "JA-101 sessions.digits\nJA-102 sessions.number");
  EXPECT_EQ(test::codes(audit(dataset, {{"JA-999"}, {}, 0}).error()), "JR-008");
}

TEST(Audit, FindsWhatIsPlantedInTheDemo) {
  const test::TempFolder folder;
  ASSERT_TRUE(write_demo(folder.path("d"), {12'000, 7}));
  const auto dataset = Dataset::open(folder.path("d/charging.ridge"));
  ASSERT_TRUE(dataset) << test::messages(dataset.error());
  EXPECT_EQ(found(*dataset), R"(JA-101 bays.connector
JA-101 cards.issued
JA-101 sessions.all_energy
JA-101 sessions.battery_start
JA-101 sessions.currency
JA-101 sessions.ended
JA-101 sessions.peak_kw
JA-101 stations.installed
JA-101 visits.kind
JA-101 visits.minutes
JA-102 cards.serial
JA-102 sessions.meter_reading
JA-102 sessions.receipt
JA-102 sessions.row_no
JA-102 sessions.session_id
JA-102 visits.visit_id
JA-103 sessions.currency
JA-104 sessions.battery_start
JA-105 sessions.unit_price
JA-106 sessions.all_energy
JA-107 sessions.energy_charge
JA-107 sessions.gross
JA-107 sessions.idle_charge
JA-107 sessions.price_paid
JA-201 cards)");
  const std::string shown = render(report(*audit(*dataset)));
  EXPECT_NE(shown.find("charging.ridge:31"), std::string::npos) << shown;
}

TEST(Audit, SarifNamesRulesPlacesAndSavings) {
  const test::SmallModel model = network("number integer", "measure lonely = kwh / 2", ",number");
  const Audit audited = *audit(model.open());
  const std::string path = model.folder.path("findings.sarif");
  ASSERT_TRUE(write_sarif(audited, path));
  const auto document = nlohmann::json::parse(test::read_file(path));
  EXPECT_EQ(document["version"], "2.1.0");
  const auto& run = document["runs"][0];
  EXPECT_EQ(run["tool"]["driver"]["rules"].size(), audit_rules().size());
  ASSERT_EQ(run["results"].size(), 2U);
  const auto& first = run["results"][0];
  EXPECT_EQ(first["ruleId"], "JA-102");
  EXPECT_EQ(first["properties"]["savedBytes"], *audited.findings[0].saved_bytes);
  const auto& place = first["locations"][0]["physicalLocation"];
  EXPECT_EQ(place["artifactLocation"]["uri"], model.path());
  EXPECT_EQ(place["region"]["startLine"], 2);
  EXPECT_FALSE(run["results"][1].contains("properties"));
  EXPECT_EQ(test::codes(write_sarif(audited, model.folder.path("no/such/folder/f.sarif")).error()), "JR-009");
}

TEST(Audit, TheDocumentListsEveryRule) {
  const std::string text = test::read_file(std::filesystem::path(JUNIPER_SOURCE_DIR) / "docs/audit.md");
  for (const AuditRule& rule : audit_rules())
    EXPECT_NE(text.find(fmt::format("| {} | {} | {} |", rule.code, rule.title, rule.reason)), std::string::npos)
        << rule.code;
}

}  // namespace
}  // namespace juniper
