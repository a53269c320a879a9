// Each rule of the audit: what it finds, what it measures, and what is right as it is.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <algorithm>
#include <filesystem>
#include <nlohmann/json.hpp>
#include <numeric>
#include <random>
#include <set>

#include "juniper/audit.h"
#include "juniper/demo.h"
#include "juniper/refactor.h"
#include "juniper/report.h"
#include "juniper/weigh.h"
#include "support/support.h"

namespace juniper::rules_test {
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

AuditSettings rules_of(std::vector<std::string> codes) {
  AuditSettings settings;
  settings.only = std::move(codes);
  return settings;
}

// "JA-101 sessions.currency", one on each line.
// The numbers below `count` in no order, which no encoding sees through.
std::vector<int> shuffled(int count) {
  std::vector<int> numbers(static_cast<std::size_t>(count));
  std::iota(numbers.begin(), numbers.end(), 0);
  std::shuffle(numbers.begin(), numbers.end(), std::mt19937_64(7));
  return numbers;
}

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
  const Weighing weighing = weigh(dataset).value();
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
      const Weighing weighed = weigh(dataset).value();
      for (const ColumnWeight& c : weighed.columns) {
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
  EXPECT_EQ(found(model.open()), "JA-105 sessions.lane\nJA-107 sessions.marked");
}

TEST(Audit, CalculatedColumnsThatAreOnlyAggregated) {
  // And what a query groups by; what a declaration names, and what holds an aggregate stays stored.
  const test::SmallModel model = network(
      "double = kwh * 2  half = kwh / 2  size = case when kwh > 10 then \"large\" else \"small\" end  "
      "told = kwh * 3 used by \"finance workbook\"  of_bay = sum(s.kwh for s in sessions where s.bay_id = this.bay_id)",
      "measure m = sum(double for sessions) + max(half for sessions) + sum(told for sessions) + sum(of_bay for "
      "sessions)\n"
      "query q { by sessions.size show m }");
  EXPECT_EQ(found(model.open()), "JA-107 sessions.double\nJA-107 sessions.half\nJA-107 sessions.size");
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

// Rows that go make the numbers smaller by which the link leads to the others.
TEST(Audit, TheSavingOfATrimIsWhatItSaves) {
  std::string cards = "card,holder\n";
  for (const int card : shuffled(30'000)) cards += fmt::format("{},holder {}\n", card, card % 7000);
  // With a row for each code of a key, and for each row.
  for (const int rows : {20'000, 500}) {
    SCOPED_TRACE(rows);
    std::string facts = "id,card\n";
    const std::vector<int> numbers = shuffled(rows);
    for (int i = 0; i < rows; ++i) facts += fmt::format("{},{}\n", i, numbers[static_cast<std::size_t>(i)] % 300 * 100);
    const test::SmallModel model(
        "table facts from csv \"f.csv\" { key id integer  card integer }\n"
        "table cards from csv \"c.csv\" { key card integer  holder text }\nlink facts.card -> cards.card\n"
        "measure n = count(facts)\nquery q { by cards.holder show n }\n",
        {{"f.csv", facts}, {"c.csv", cards}});
    const Dataset dataset = model.open();
    const auto audited = audit(dataset, rules_of({"JA-201"}));
    ASSERT_EQ(audited->findings.size(), 1U);
    EXPECT_EQ(audited->findings[0].step, "trim cards");
    const auto made = refactor(dataset, audited->findings[0].step);
    ASSERT_TRUE(made) << test::messages(made.error());
    EXPECT_TRUE(made->proved());
    const BytesByPart& was = made->ledger.bytes_before;
    const BytesByPart& is = made->ledger.bytes_after;
    EXPECT_LT(is.links, was.links);
    EXPECT_EQ(audited->findings[0].saved_bytes, was.total() - was.rest - (is.total() - is.rest));
  }
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

TEST(Audit, DigitsThatNoMeasureShows) {
  std::string rows = "id,exact,shown,keyed,built\n";
  int i = 0;
  for (const int other : shuffled(30'000))
    rows += fmt::format("{0},{1}.{2:04},{1}.{2:04},{1}.{2:04},{1}.{2:04}\n", i++, other % 100, other % 10'000);
  const auto opened = [&](const std::string& first, const std::string& second) {
    return test::SmallModel(
        "table t from csv \"t.csv\" { id integer  exact decimal(4)  shown decimal(4)  keyed decimal(4)  built "
        "decimal(4)\n  twice = built * 2\n}\nmeasure a = sum(exact for t) " +
            first + "\nmeasure b = max(shown for t) " + second +
            "\nmeasure c = b / max(twice for t) format \"0%\"\nmeasure d = max(keyed for t) format \"0\"\n"
            "query q { by t.keyed, t.id show a, b, c, d }\n",
        {{"t.csv", rows}});
  };
  const test::SmallModel model = opened("", "format \"#,##0.0;(0.0000)\"");
  const Dataset dataset = model.open();
  ASSERT_EQ(found(dataset, rules_of({"JA-109"})), "JA-109 t.shown");
  const Finding finding = audit(dataset, rules_of({"JA-109"}))->findings[0];
  EXPECT_EQ(finding.evidence, "4 digits behind the point are stored, and the measures that read it show at most 2");
  EXPECT_EQ(finding.step, "");
  const auto rounded = refactor(dataset, "round t.shown decimal(2)");
  ASSERT_TRUE(rounded) << test::messages(rounded.error());
  EXPECT_FALSE(rounded->proved());
  EXPECT_EQ(rounded->ledger.removed[0].bytes - rounded->ledger.added[0].bytes, finding.saved_bytes);
  EXPECT_EQ(found(opened("format \"0.000\"", "").open(), rules_of({"JA-109"})), "JA-109 t.exact");
  EXPECT_EQ(found(opened("format \"0.0000\"", "format \"0.00000\"").open(), rules_of({"JA-109"})), "");
}

TEST(Audit, ColumnsThatAnotherOneDetermines) {
  std::string rows = "id,kind,label,almost,few\n";
  for (int i = 0; i < 2000; ++i)
    rows += fmt::format("{},{},kind {},{},{}\n", i, i % 12, i % 12 / 2, i == 1999 ? 7 : i % 12 / 3, i % 7);
  const std::string text =
      "table t from csv \"t.csv\" { id integer  kind integer  label text SORTED  almost integer  few integer }\n"
      "measure m = count(t) + sum(id for t)\nquery q { by t.kind, t.label, t.almost, t.few show m }\n";
  const auto opened = [&](const std::string& sorted) {
    std::string with = text;
    with.replace(with.find("SORTED"), 6, sorted);
    return test::SmallModel(with, {{"t.csv", rows}}).open();
  };
  EXPECT_EQ(found(opened(""), rules_of({"JA-110"})), "JA-110 t.label");
  EXPECT_EQ(audit(opened(""), rules_of({"JA-110"}))->findings[0].evidence,
            "each of the 12 values of kind goes with one of its 6");
  EXPECT_EQ(found(opened("sorted by kind"), rules_of({"JA-110"})), "");  // a label, and what orders it
  // A dimension's properties are its own.
  EXPECT_EQ(found(network("", "").open()), "");
}

TEST(Audit, KeysPutTogetherForALink) {
  const auto opened = [](const std::string& link) {
    return test::SmallModel(
               "table visits from csv \"v.csv\" { site text  lane integer  number integer\n  place = site || \"-\" || "
               "coalesce(case lane when 1 then \"1\" when 2 then \"2\" end, \"\")\n}\n"
               "table places from csv \"p.csv\" { site text  lane integer  label text\n  key place = site || \"-\" || "
               "case "
               "lane when 1 then \"1\" when 2 then \"2\" end\n}\n" +
                   link + "measure m = sum(number for visits)\nquery q { by places.label show m }\n",
               {{"v.csv", "site,lane,number\nA,1,5\nB,2,6\nA,2,7\n"},
                {"p.csv", "site,lane,label\nA,1,x\nA,2,y\nB,2,z\n"}})
        .open();
  };
  EXPECT_EQ(found(opened("link visits.place -> places.place\n"), rules_of({"JA-111"})), "JA-111 visits.place");
  EXPECT_EQ(found(opened("link visits.(site, lane) -> places.(site, lane)\n"), rules_of({"JA-111"})), "");
}

TEST(Audit, ColumnsThatLookAtOtherRows) {
  const auto of_bays = [](const std::string& columns, const std::string& more) {
    std::string text = clean;
    text.replace(text.find("MORE"), 4, "");
    text.replace(text.find("lane text"), 9, "lane text " + columns);
    const test::SmallModel base = network("", "");
    base.folder.write("model.ridge", text + more);
    return Dataset::open(base.path()).value();
  };
  EXPECT_EQ(found(of_bays("begun = count(sessions of this)", "measure m = max(begun for bays)\nquery q { show m }\n"),
                  rules_of({"JA-112"})),
            "JA-112 bays.begun");
  // A class made from it groups: it must be stored.
  EXPECT_EQ(found(of_bays("begun = count(sessions of this)",
                          "measure m = max(begun for bays)\nquery q { by bays.begun show m }\n"),
                  rules_of({"JA-112"})),
            "");
  EXPECT_EQ(
      found(of_bays("begun = count(sessions of this)", "measure n = (kwh where bays.begun > 3)\nquery q { show n }\n"),
            rules_of({"JA-112"})),
      "");
  const auto quadratic = [](const std::string& column) {
    return found(network("c = " + column, "measure m = max(c for sessions)\nquery q { show m }\n").open(),
                 rules_of({"JA-113"}));
  };
  EXPECT_EQ(quadratic("sum(t.kwh for t in sessions where t.bay_id = this.bay_id and t.started <= this.started)"), "");
  EXPECT_EQ(quadratic("sum(t.kwh for t in sessions where t.started < this.started and t.started >= this.started)"), "");
  EXPECT_EQ(quadratic("rank(kwh among t.kwh for t in sessions where t.bay_id = this.bay_id)"), "");
  EXPECT_EQ(quadratic("max(t.kwh for t in sessions)"), "");
  EXPECT_EQ(quadratic("sum(t.kwh for t in sessions where t.started < this.started and t.id < this.id)"),
            "JA-113 sessions.c");
  EXPECT_EQ(quadratic("sum(t.kwh - this.kwh for t in sessions where t.bay_id = this.bay_id)"), "JA-113 sessions.c");
  EXPECT_EQ(quadratic("count(t in sessions where t.kwh + this.kwh > 3)"), "JA-113 sessions.c");
  EXPECT_EQ(quadratic("median(t.kwh for t in sessions where t.started <= this.started)"), "JA-113 sessions.c");
}

TEST(Audit, OrdersOfRowsThatAreSmaller) {
  std::string mixed = "id,group,value\n";
  std::string sorted = mixed;
  for (int i = 0; i < 30'000; ++i) {
    mixed += fmt::format("{},{},{}\n", i, i * 7919 % 400, i * 7919 % 400 * 1000);
    sorted += fmt::format("{},{},{}\n", i, i / 75, i / 75 * 1000);
  }
  const auto opened = [](const std::string& rows) {
    return test::SmallModel(
        "table t from csv \"t.csv\" { key id integer  group integer  value integer }\n"
        "measure m = sum(value for t) + count(distinct id for t)\nquery q { by t.group show m }\n",
        {{"t.csv", rows}});
  };
  const test::SmallModel model = opened(mixed);
  const Audit audited = *audit(model.open(), rules_of({"JA-114"}));
  ASSERT_EQ(audited.findings.size(), 1U);
  EXPECT_EQ(audited.findings[0].subject, "t");
  const std::uint64_t saved = *audited.findings[0].saved_bytes;
  const auto loaded = load(model.path(), {}, {Reload::always, "", RowOrder::smallest});
  EXPECT_EQ(loaded->orders[0].saved_bytes, saved);
  EXPECT_EQ(found(model.open(), rules_of({"JA-114"})), "");  // it stands in that order now
  EXPECT_EQ(found(opened(sorted).open(), rules_of({"JA-114"})), "");
}

TEST(Audit, TotalsThatAreNotWhatIsMeant) {
  const auto of = [](const std::string& measure) {
    return found(network("price = kwh / 2  ratio = kwh / bay_id  fixed = kwh / 7",
                         "measure per_session = kwh / sessions_of_app\nmeasure of_lane = avg(kwh for sessions)\n"
                         "measure x = " +
                             measure +
                             "\nquery q { show per_session, of_lane, x, max(price for sessions) as a, max(ratio "
                             "for sessions) as b, max(fixed for sessions) as c }\n")
                     .open(),
                 rules_of({"JA-303", "JA-304", "JA-305"}));
  };
  EXPECT_EQ(of("sum(s.kwh for s in sessions) * avg(bay_id for sessions)"), "JA-303 x");
  EXPECT_EQ(of("kwh * of_lane"), "JA-303 x");
  EXPECT_EQ(of("kwh * count(sessions)"), "");
  EXPECT_EQ(of("kwh * avg(bay_id for bays)"), "");  // of another table: no row has both
  EXPECT_EQ(of("kwh * 2"), "");
  EXPECT_EQ(of("sum(ratio for sessions)"), "JA-304 x");
  EXPECT_EQ(of("avg(kwh / bay_id for sessions)"), "JA-304 x");
  EXPECT_EQ(of("avg(fixed for sessions)"), "");
  EXPECT_EQ(of("avg(price for sessions)"), "");
  EXPECT_EQ(of("max(ratio for sessions)"), "");
  EXPECT_EQ(of("avg(per_session of b for b in bays)"), "JA-305 x");
  EXPECT_EQ(of("avg(of_lane of b for b in distinct(bays.lane))"), "JA-305 x");
  EXPECT_EQ(of("avg(g.k for g in group sessions by bays.lane with k = avg(kwh for rows))"), "JA-305 x");
  EXPECT_EQ(of("avg(g.k for g in group sessions by bays.lane with k = sum(kwh for rows))"), "");
  EXPECT_EQ(of("avg(kwh of b for b in bays)"), "");
  EXPECT_EQ(of("max(per_session of b for b in bays)"), "");
}

TEST(Audit, NumbersShowWhatIsMeant) {
  const test::SmallModel model = {
      "table t from csv \"t.csv\" { id integer  cost integer  kwh integer\n  price = cost / kwh\n}\n"
      "measure p = avg(price for t)\nmeasure q = sum(cost for t) * sum(kwh for t)\nmeasure n = sum(id for t)\n"
      "query all { show p, q, n }\n",
      {{"t.csv", "id,cost,kwh\n1,10,1\n2,10,10\n3,4,0\n"}}};
  const Dataset dataset = model.open();
  const Audit audited = *audit(dataset, rules_of({"JA-303", "JA-304", "JA-306"}));
  ASSERT_EQ(audited.findings.size(), 3U);
  EXPECT_EQ(audited.findings[0].evidence,
            "it multiplies sum(cost for t) and sum(kwh for t): 264, and the total of the products is 110");
  EXPECT_EQ(audited.findings[1].evidence, "it averages price, to 5.5, where the ratio of the sums is 2.18182");
  EXPECT_EQ(audited.findings[1].remedy, "if the ratio of the sums is meant: sum(cost for t) / sum(kwh for t)");
  EXPECT_EQ(audited.findings[2].evidence, "kwh is 0 in 1 row, and the ratio null");
  for (const Finding& finding : audited.findings) EXPECT_TRUE(ask(dataset, {finding.query})) << finding.query;
}

TEST(Audit, DivisionsByZeroThatAreNotSaid) {
  const auto of = [](const std::string& column, const std::string& measure) {
    return found(network("c = " + column, "measure x = " + measure + "\nquery q { by sessions.c show x }\n").open(),
                 rules_of({"JA-306"}));
  };
  EXPECT_EQ(of("kwh / bay_id", "count(sessions)"), "JA-306 sessions.c");
  EXPECT_EQ(of("id div bay_id", "count(sessions)"), "JA-306 sessions.c");
  EXPECT_EQ(of("case when bay_id <> 0 then kwh / bay_id end", "count(sessions)"), "");
  EXPECT_EQ(of("kwh / id", "count(sessions)"), "");  // ids begin at 7
  EXPECT_EQ(of("kwh / 3", "kwh / sessions_of_app"), "");
  EXPECT_EQ(of("id", "max(s.kwh / s.bay_id for s in sessions)"), "JA-306 x");
  EXPECT_EQ(of("id", "max(kwh / bay_id for sessions where bay_id > 0)"), "");
}

TEST(Audit, FiltersThatNoRowPasses) {
  const auto of = [](const std::string& condition) {
    return found(network("", "param lane = \"lane 9\"\nmeasure x = (kwh where " + condition +
                                 ")\nquery q { show x where sessions.channel in (\"app\", \"card\") }\n")
                     .open(),
                 rules_of({"JA-307"}));
  };
  EXPECT_EQ(of("sessions.channel = \"App\""), "JA-307 x");
  EXPECT_EQ(of("sessions.channel in (\"app\", \"coin\")"), "JA-307 x");
  EXPECT_EQ(of("sessions.bay_id = 20"), "JA-307 x");
  EXPECT_EQ(of("sessions.bay_id = 19 and bays.lane <> \"lane 9\""), "");
  EXPECT_EQ(of("bays.lane = lane"), "");  // a parameter may have another value
  const Audit audited =
      *audit(network("", "measure x = (kwh where sessions.channel = \"ap\")\nquery q { show x }\n").open(),
             rules_of({"JA-307"}));
  EXPECT_EQ(audited.findings[0].remedy, "did you mean \"app\"?");
}

TEST(Audit, MeasuresOfOneShape) {
  const auto of = [](const std::string& measures) {
    const Audit audited = *audit(network("", measures + "query q { show kwh }\n").open(), rules_of({"JA-312"}));
    return audited.findings.empty() ? "" : audited.findings[0].subject + ": " + audited.findings[0].remedy;
  };
  const auto shares = [](const std::string& third) {
    return "measure a = sum(kwh for sessions where channel = \"app\") / (kwh across everything)\n"
           "measure b = sum(kwh for  sessions where channel = \"card\") / (kwh across everything)\n"
           "measure c = " +
           third + "\n";
  };
  EXPECT_EQ(of(shares("sum(kwh for sessions where channel = \"none\") / (kwh across everything)")),
            "a: function like_a(a) = sum(kwh for sessions where channel = a) / (kwh across everything), and a = "
            "like_a(\"app\")");
  // Another shape.
  EXPECT_EQ(of(shares("sum(kwh for sessions where channel <> \"none\") / (kwh across everything)")), "");
  // Two arguments, of which one stands twice.
  const auto two = [](const std::string& x, const std::string& y) {
    return fmt::format("sum(case when kwh > {0} then kwh - {0} else {1} end for sessions)", x, y);
  };
  EXPECT_EQ(of("measure a = " + two("10.0", "0.1") + "\nmeasure b = " + two("20.0", "0.2") +
               "\nmeasure c = " + two("30.0", "0.3") + "\n"),
            "a: function like_a(a, b) = sum(case when kwh > a then kwh - a else b end for sessions), and a = "
            "like_a(10.0, 0.1)");
}

// Whatever stands in the holes of a shape, the function that is proposed says what the measure says.
TEST(Audit, ShapesThatAreProposedMeanTheSame) {
  const std::uint64_t seed = test::test_seed(20261201);
  std::mt19937_64 random(seed);
  const auto one_of = [&](const std::vector<std::string>& texts) { return texts[random() % texts.size()]; };
  const std::vector<std::string> shapes{
      "sum(kwh * {0} + {1} for sessions where channel = {2})",
      "(kwh + {0}) / (sessions_of_app - {1}) + (kwh where sessions.channel = {2})",
      "sum(case when kwh > {0} then {1} else kwh end for sessions where channel <> {2})",
      "max((kwh - {0}) of b for b in bays where lane > {2}) + {1} * {0}",
      "count(s in sessions where s.kwh * {0} > {1} and s.channel || \"x\" = {2})"};
  std::size_t proposed = 0;
  for (int round = 0; round < 60; ++round) {
    const std::string shape = one_of(shapes);
    std::string measures;
    for (const char* name : {"one", "two", "three"}) {
      measures += fmt::format("measure {} = {}\n", name,
                              fmt::format(fmt::runtime(shape), one_of({"1.5", "2.5", "-3.0"}),
                                          one_of({"2", "0.25", "7"}), one_of({"\"app\"", "\"card\"", "\"lane 1\""})));
    }
    const test::SmallModel model = network("", measures + "query q { show one, two, three }\n");
    const Dataset dataset = model.open();
    const Audit audited = *audit(dataset, rules_of({"JA-312"}));
    for (const Finding& finding : audited.findings) {
      ++proposed;
      const std::string& remedy = finding.remedy;
      const std::size_t split = remedy.rfind(", and " + finding.subject + " = ");
      ASSERT_NE(split, std::string::npos) << remedy;
      std::string changed = test::read_file(model.path());
      const std::size_t line = changed.find("measure " + finding.subject + " = ");
      changed.replace(line, changed.find('\n', line) - line, "measure " + remedy.substr(split + 6));
      model.folder.write("changed.ridge", changed + remedy.substr(0, split) + "\n");
      const auto again = Dataset::open(model.folder.path("changed.ridge"));
      ASSERT_TRUE(again) << test::messages(again.error());
      EXPECT_EQ(test::answer(*again, "by bays.lane show one, two, three total grand"),
                test::answer(dataset, "by bays.lane show one, two, three total grand"))
          << remedy;
    }
  }
  EXPECT_GE(proposed, 30U) << "seed " << seed;
}

TEST(Audit, ReadersWhoSeeAllRowsOrNone) {
  const auto of = [](const std::string& reader) {
    return found(network("", "query q { show kwh }\nreader team { " + reader + " }\n").open(), rules_of({"JA-311"}));
  };
  EXPECT_EQ(of("bays where lane = \"nowhere\""), "JA-311 team");
  EXPECT_EQ(of("bays where true"), "JA-311 team");
  EXPECT_EQ(of("sessions where channel = \"app\""), "");
  EXPECT_EQ(of("hide sessions.channel"), "");
  EXPECT_EQ(of("sessions where channel = \"app\"  bays where false"), "JA-311 team");
}

TEST(Audit, CountedTextsThatCombinationsReplace) {
  const auto of = [](const std::string& measure, const std::string& columns = "") {
    return *audit(
        network(columns, "measure x = " + measure + "\nquery q { show x }\n", columns.empty() ? "" : ",missing").open(),
        rules_of({"JA-309"}));
  };
  // What is proposed counts the same.
  const auto proposed = [&](const std::string& measure, const std::string& columns = "") -> std::string {
    const Audit audited = of(measure, columns);
    if (audited.findings.size() != 1) return fmt::format("{} findings", audited.findings.size());
    const std::string& remedy = audited.findings[0].remedy;
    const std::string instead = remedy.substr(remedy.find("count(distinct("));
    const test::SmallModel model = network(columns, "", columns.empty() ? "" : ",missing");
    const Dataset dataset = model.open();
    EXPECT_EQ(test::answer(dataset, "by sessions.channel show x = " + instead),
              test::answer(dataset, "by sessions.channel show x = " + measure));
    return instead;
  };
  EXPECT_EQ(proposed("count(distinct channel || \"-\" || channel || bays.lane for sessions)"),
            "count(distinct(sessions.channel, bays.lane for sessions where bays.lane is not null))");
  EXPECT_EQ(proposed("count(distinct channel || \"-\" || bays.lane for sessions where kwh > 15)"),
            "count(distinct(sessions.channel, bays.lane for sessions where kwh > 15 and bays.lane is not null))");
  // A row's name is none within distinct.
  const Audit named = of("count(distinct s.channel || s.bays.lane for s in sessions where s.kwh > 15)");
  ASSERT_EQ(named.findings.size(), 1U);
  EXPECT_EQ(
      named.findings[0].remedy,
      "count the combinations, where no two of them give one text: count(distinct(sessions.channel, bays.lane for "
      "sessions where … and bays.lane is not null))");
  EXPECT_EQ(proposed("count(distinct pair for sessions)", "missing text  pair = channel || missing"),
            "count(distinct(sessions.channel, sessions.missing for sessions where sessions.missing is not null))");
  EXPECT_EQ(of("count(distinct channel || \"x\" for sessions)").findings.size(), 0U);
  EXPECT_EQ(of("count(channel || bays.lane for sessions)").findings.size(), 0U);
  EXPECT_EQ(of("count(distinct upper(channel) || bays.lane for sessions)").findings.size(), 0U);
}

TEST(Audit, ConstantsWrittenSeveralTimes) {
  const auto of = [](const std::string& more) {
    return found(network("", more + "query q { show a, b }\n").open(), rules_of({"JA-308"}));
  };
  EXPECT_EQ(of("measure a = count(sessions where kwh > 15)\nmeasure b = sum(kwh * 15 for sessions)\n"), "JA-308 b");
  EXPECT_EQ(of("measure a = count(sessions where started > datetime \"2025-01-03 00:00:00\")\n"
               "measure b = count(sessions where started <= datetime \"2025-01-03 00:00:00\")\n"),
            "JA-308 b");
  EXPECT_EQ(of("param p = 15\nmeasure a = count(sessions where kwh > p)\nmeasure b = sum(kwh * p for sessions)\n"), "");
  EXPECT_EQ(of("measure a = sum(kwh / 100 for sessions)\nmeasure b = sum(kwh * 100 for sessions)\n"), "");
  EXPECT_EQ(of("measure a = sum(round(kwh, 3) for sessions)\nmeasure b = max(round(kwh, 3) for sessions)\n"), "");
  EXPECT_EQ(of("measure a = sum(15 * kwh + 15 for sessions)\nmeasure b = kwh\n"), "");  // one measure
}

TEST(Audit, CommentsWaveFindingsThroughWithAReason) {
  const std::string measures =
      "# audit ignore JA-301: the new report will show it\n# and that soon\nmeasure lonely = kwh / 2\n"
      "measure alone = kwh / 3  # audit ignore JA-301, JA-302: as above\nmeasure other = kwh / 4\n";
  const Dataset dataset = network("", measures).open();
  EXPECT_EQ(found(dataset), "JA-301 other");
  const Audit audited = *audit(dataset);
  ASSERT_EQ(audited.ignored.size(), 2U);
  EXPECT_EQ(audited.ignored[0].subject, "lonely");
  EXPECT_EQ(audited.ignored[0].reason, "the new report will show it");
  EXPECT_EQ(audited.ignored[1].reason, "as above");
  EXPECT_NE(render(report(audited)).find("the new report will show it"), std::string::npos);
  for (const char* wrong : {"# audit ignore JA-301\n", "# audit ignore: why\n", "# audit ignore JA-999: why\n",
                            "# audit ignore JA-301:   \n"}) {
    const auto refused = audit(network("", std::string(wrong) + "measure lonely = kwh / 2\n").open());
    ASSERT_FALSE(refused) << wrong;
    EXPECT_EQ(test::codes(refused.error()), "JR-010");
    EXPECT_EQ(refused.error()[0].place.line, 9U);
  }
}

TEST(Audit, FastEstimatesAreNearWhatIsMeasured) {
  std::string rows = "id,at,digits\n";
  int id = 0;
  for (const int other : shuffled(200'000)) {
    const int day = other / 1000;
    const int second = other % 1000 * 86 + other % 7;
    rows += fmt::format("{},2024-{:02}-{:02} {:02}:{:02}:{:02},{}\n", id++, day / 25 + 1, day % 25 + 1, second / 3600,
                        second / 60 % 60, second % 60, other % 1000);
  }
  const Dataset dataset = test::SmallModel(
                              "table t from csv \"t.csv\" { id integer  at datetime  digits text }\n"
                              "measure m = max(at for t) measure n = sum(id for t)\n"
                              "query q { by t.digits show m, n }\n",
                              {{"t.csv", rows}})
                              .open();
  const Audit measured = *audit(dataset, rules_of({"JA-104", "JA-108"}));
  AuditSettings fast = rules_of({"JA-104", "JA-108"});
  fast.fast = true;
  const Audit estimated = *audit(dataset, fast);
  ASSERT_EQ(measured.findings.size(), 2U);
  ASSERT_EQ(estimated.findings.size(), 2U);
  for (std::size_t i = 0; i < 2; ++i) {
    EXPECT_EQ(estimated.findings[i].subject, measured.findings[i].subject);
    EXPECT_FALSE(measured.findings[i].estimated);
    EXPECT_TRUE(estimated.findings[i].estimated);
    const double ratio = static_cast<double>(*estimated.findings[i].saved_bytes) /
                         static_cast<double>(*measured.findings[i].saved_bytes);
    EXPECT_TRUE(ratio > 0.5 && ratio < 2) << estimated.findings[i].subject << ratio;
  }
}

// What the audit names is carried out, until nothing is left that a step could mend.
TEST(Audit, ItsRemediesAreCarriedOut) {
  const test::SmallModel model =
      network("number integer  digits text  double = kwh * 2",
              "measure m = sum(double for sessions)\nmeasure lonely = max(number for sessions)\n"
              "measure k = count(distinct digits for sessions)\nquery q { by bays.lane show m, k }\n",
              ",number,digits");
  const Dataset dataset = model.open();
  EXPECT_EQ(found(dataset), "JA-104 sessions.digits\nJA-107 sessions.double\nJA-301 lonely");
  // What no query uses goes where it is known that these are all.
  const auto careful = apply_remedies(dataset);
  ASSERT_TRUE(careful) << test::messages(careful.error());
  EXPECT_EQ(careful->title, "inline sessions.double, retype sessions.digits integer");
  ASSERT_EQ(careful->notes.size(), 1U);
  EXPECT_NE(careful->notes[0].find("drop lonely"), std::string::npos) << careful->notes[0];
  RefactorSettings known;
  known.queries_are_known = true;
  const auto made = apply_remedies(dataset, {}, known);
  ASSERT_TRUE(made) << test::messages(made.error());
  EXPECT_TRUE(made->proved());
  EXPECT_EQ(made->title, "inline sessions.double, retype sessions.digits integer, drop lonely, drop sessions.number");
  EXPECT_EQ(found(*made->after), "");
  EXPECT_EQ(test::codes(apply_remedies(*made->after, {}, known).error()), "JR-808");
  EXPECT_EQ(apply_remedies(dataset, {"JA-301"})->title, "drop lonely");
  EXPECT_EQ(test::codes(apply_remedies(dataset, {"JA-999"}).error()), "JR-008");
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
JA-107 sessions.size_class
JA-108 sessions.settled
JA-109 sessions.air_temp
JA-110 sessions.channel_name
JA-111 visits.crew_shift
JA-112 bays.n_started
JA-113 stations.elders
JA-114 visits
JA-201 cards
JA-301 idle_share
JA-302 visits_made
JA-303 list_value
JA-304 avg_price
JA-305 station_price
JA-306 sessions.price_paid
JA-307 roaming_value
JA-308 fast_sessions
JA-309 ways_to_pay
JA-310 days.day
JA-311 fleets
JA-312 app_kwh)");
  std::set<std::string> codes;
  const Audit audited = *audit(*dataset);
  for (const Finding& finding : audited.findings) codes.insert(finding.code);
  EXPECT_EQ(codes.size(), audit_rules().size()) << "one of each";
  const std::string shown = render(report(*audit(*dataset)));
  EXPECT_NE(shown.find("charging.ridge:31"), std::string::npos) << shown;
}

TEST(Audit, WhatIsSafeIsMendedInTheDemoAndTheRestNeedsAHuman) {
  const test::TempFolder folder;
  ASSERT_TRUE(write_demo(folder.path("d"), {12'000, 7}));
  const auto dataset = Dataset::open(folder.path("d/charging.ridge"));
  ASSERT_TRUE(dataset) << test::messages(dataset.error());
  RefactorSettings settings;
  settings.most_probes = test::is_sanitized ? 10 : 40;
  settings.queries_are_known = true;
  const auto made = apply_remedies(*dataset, {}, settings);
  ASSERT_TRUE(made) << test::messages(made.error());
  EXPECT_TRUE(made->proved());
  EXPECT_EQ(made->queries.size(), names_of(dataset->model().queries()).size());
  const Audit after = *audit(*made->after);
  for (const Finding& finding : after.findings) EXPECT_EQ(finding.step, "") << finding.code << " " << finding.subject;
  const auto written = write(*dataset, *made);
  ASSERT_TRUE(written) << test::messages(written.error());
  EXPECT_EQ(found(*Dataset::open(folder.path("d/charging.ridge"))), R"(JA-109 sessions.air_temp
JA-110 sessions.channel_name
JA-112 bays.n_started
JA-113 stations.elders
JA-302 visits_made
JA-303 list_value
JA-304 avg_price
JA-305 station_price
JA-306 avg_price
JA-307 roaming_value
JA-308 fast_sessions
JA-309 ways_to_pay
JA-310 days.day
JA-311 fleets
JA-312 app_kwh)");
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
}  // namespace juniper::rules_test
