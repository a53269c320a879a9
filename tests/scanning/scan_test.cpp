#include <fmt/format.h>
#include <gtest/gtest.h>

#include <random>
#include <regex>
#include <set>
#include <sstream>

#include "juniper/demo.h"
#include "juniper/scan.h"
#include "juniper/weigh.h"
#include "scanning/column_type.h"
#include "support/support.h"

namespace juniper::scan_test {
namespace {

std::string type_of(const std::vector<std::string>& fields) {
  scanning::TypeFinder finder;
  std::uint64_t line = 2;
  for (const std::string& field : fields) finder.add(field, line++);
  return to_string(finder.type()) + (finder.reason().empty() ? "" : ": " + finder.reason());
}

TEST(Scan, FindsTheNarrowestTypeOfAllFields) {
  EXPECT_EQ(type_of({}), "text");
  EXPECT_EQ(type_of({"1", "-20", "0"}), "integer");
  EXPECT_EQ(type_of({"1", "-20.5", "3.25"}), "decimal(2)");
  EXPECT_EQ(type_of({"1234567890123456", "0.123"}), "real");
  EXPECT_EQ(type_of({"1", "2e5"}), "real");
  EXPECT_EQ(type_of({"9999999999999999999999.5"}),
            "real: not every digit of \"9999999999999999999999.5\" in line 2 is kept");
  // What fits a decimal beside its like is a real beside others.
  EXPECT_EQ(type_of({"123456789012.123456"}), "decimal(6)");
  EXPECT_EQ(type_of({"123456789012.123456", "0.1234567"}),
            "real: not every digit of \"123456789012.123456\" in line 2 is kept");
  EXPECT_EQ(type_of({"1e3", "0.12345678901234567891"}),
            "real: not every digit of \"0.12345678901234567891\" in line 3 is kept");
  EXPECT_EQ(type_of({"1e3", "0.30000000000000004", "-1.2500000000000000000000"}), "real");
  EXPECT_EQ(type_of({"true", "false"}), "boolean");
  EXPECT_EQ(type_of({"2024-02-29", "1999-01-01"}), "date");
  EXPECT_EQ(type_of({"2024-02-29 10:00:00"}), "datetime");
  EXPECT_EQ(type_of({"08:30", "23:59:59"}), "time");
  EXPECT_EQ(type_of({"app", "1"}), "text");
  EXPECT_EQ(type_of({"1", "n/a", "2"}), "text: reads as a number until line 3, where \"n/a\" stands");
  EXPECT_EQ(type_of({"2024-02-29", "2023-02-29"}), "text: reads as a date until line 3, where \"2023-02-29\" stands");
  EXPECT_EQ(type_of({"0123"}), "text: numbers with leading zeros, as \"0123\" in line 2");
  EXPECT_EQ(type_of({"5", "007"}), "text: a number with leading zeros stands in line 3: \"007\"");
  // Names of many digits: as reals, several of them would be one.
  EXPECT_EQ(type_of({"9223372036854775807", "-9223372036854775808"}), "integer");
  EXPECT_EQ(type_of({"9223372036854775808"}),
            "text: a whole number that 64 bits do not hold stands in line 2: \"9223372036854775808\"");
  EXPECT_EQ(type_of({"5", "12345678901234567890"}),
            "text: a whole number that 64 bits do not hold stands in line 3: \"12345678901234567890\"");
  EXPECT_EQ(type_of({"1e5", "12345678901234567890"}),
            "real: not every digit of \"12345678901234567890\" in line 3 is kept");
}

// A double's own digits, as many as the field has behind its point.
std::string digits_of_nearest(const std::string& field, double value) {
  const std::size_t point = field.find('.');
  return fmt::format("{:.{}f}", value, point == std::string::npos ? 0 : field.size() - point - 1);
}

// Every type that is found reads back every field that it was found from; where digits are lost, it says so.
TEST(Scan, EveryFieldFitsTheTypeThatWasFound) {
  std::mt19937_64 random(test::test_seed(21));
  const std::vector<std::string> fields{"0",
                                        "-1",
                                        "12.5",
                                        "0.001",
                                        "1e3",
                                        "12345678901234567",
                                        "true",
                                        "2024-01-31",
                                        "2024-01-31 08:00:00",
                                        "08:00",
                                        "x",
                                        "00",
                                        "-",
                                        "1.",
                                        ".5",
                                        "+1",
                                        "99999999999999999999",
                                        "0.1234567890123456789",
                                        "0.1",
                                        "4503599627370497.5",
                                        "123456789012.123456",
                                        "-0.30000000000000004"};
  for (std::size_t i = 0; i < test::test_count(3000); ++i) {
    std::vector<std::string> chosen;
    for (std::size_t n = 1 + random() % 4; n > 0; --n) chosen.push_back(fields[random() % fields.size()]);
    scanning::TypeFinder finder;
    for (const std::string& field : chosen) finder.add(field, 1);
    for (const std::string& field : chosen) {
      const auto value = parse_value(field, finder.type());
      ASSERT_TRUE(value) << field << " as " << to_string(finder.type());
      const bool exact = finder.type().is_exact_number();
      ASSERT_TRUE(!exact || value->exact() < int128{1} << 62);
      static const std::regex plain("-?[0-9]+([.][0-9]+)?");
      if (finder.type().kind == TypeKind::real && finder.reason().empty() && std::regex_match(field, plain)) {
        ASSERT_EQ(digits_of_nearest(field, value->real()), field);
      }
    }
  }
}

// The text that is proposed for the demo's files loads, and has the demo's tables, types, keys, links and calendar.
TEST(Scan, TheDemosFilesGiveTheDemosModel) {
  const test::TempFolder folder;
  ASSERT_TRUE(write_demo(folder.path("d"), {4000, 5}));
  const auto found = scan({folder.path("d/data")}, folder.path("d"));
  ASSERT_TRUE(found) << test::messages(found.error());
  ASSERT_TRUE(write_new(*found, folder.path("d/found.ridge")));
  EXPECT_EQ(write_new(*found, folder.path("d/found.ridge")).error()[0].code, "JR-514");
  const auto proposed = Dataset::open(folder.path("d/found.ridge"));
  ASSERT_TRUE(proposed) << test::messages(proposed.error());
  const auto demo = Dataset::open(folder.path("d/charging.ridge"));
  const auto columns = [](const Dataset& dataset) {
    std::set<std::string> all;
    const Weighing weighed = weigh(dataset).value();
    for (const ColumnWeight& c : weighed.columns) {
      // The demo declares a number as a text on purpose.
      if (!c.calculated && c.column != "battery_start")
        all.insert(c.table + "." + c.column + " " + to_string(c.type) + (c.key ? " key" : ""));
    }
    return all;
  };
  EXPECT_EQ(columns(*proposed), columns(*demo));
  const auto links = [](const Dataset& dataset) {
    std::set<std::string> all;
    const Weighing weighed = weigh(dataset).value();
    for (const LinkWeight& l : weighed.links) all.insert(l.link.substr(0, l.link.find(" as ")));
    return all;
  };
  // A link by what is put together from two columns stands in no file, but these two do.
  std::set<std::string> expected = links(*demo);
  EXPECT_EQ(expected.erase("visits.crew_shift -> crews.crew_shift"), 1U);
  expected.insert("visits.(crew, shift) -> crews.(crew, shift)");
  EXPECT_EQ(links(*proposed), expected);
  EXPECT_NE(found->text.find("calendar days.day periods (year, quarter, month, month_name)"), std::string::npos);
  EXPECT_NE(found->text.find("month_name    text  sorted by month"), std::string::npos);
  EXPECT_NE(found->text.find("# 3 days are missing"), std::string::npos);
  EXPECT_EQ(test::answer(*proposed, "show n_sessions"), "4000");
  EXPECT_EQ(found->tables.size(), 8U);
}

// The links of a proposed text, those that are comments left out.
std::set<std::string> links_in(const std::string& text) {
  std::set<std::string> links;
  std::istringstream lines(text);
  for (std::string line; std::getline(lines, line);) {
    // The layout aligns them.
    if (line.starts_with("link ")) links.insert(std::regex_replace(line.substr(5), std::regex(" +"), " "));
  }
  return links;
}

// Keys of several columns, and moments whose days are those of a calendar; not where the keys are mostly absent.
TEST(Scan, KeysOfSeveralColumnsAndDaysOfMoments) {
  const test::TempFolder folder;
  std::string lanes = "site,lane,kind,limit\n";
  for (int site = 1; site <= 4; ++site) {
    for (int lane = 1; lane <= 3; ++lane) {
      for (const char* const kind : {"car", "van"})
        lanes += fmt::format("{},{},{},{}\n", site, lane, kind, 5 + lane % 2);
    }
  }
  folder.write("lanes.csv", lanes);
  std::string events = "at,site,lane,kind\n";
  std::string others = "site,lane,kind,note\n";
  for (int i = 0; i < 300; ++i) {
    events += fmt::format("2025-01-{:02} {:02}:30:00,{},{},{}\n", 1 + i % 28, i % 24, 1 + i % 4, 1 + i % 3,
                          i % 5 == 0 ? "van" : "car");
    others += fmt::format("{},{},{},x\n", 1 + i % 40, 1 + i % 30, i % 2 == 0 ? "boat" : "car");
  }
  folder.write("events.csv", events);
  folder.write("others.csv", others);
  std::string days = "day,year,month\n";
  for (int day = 1; day <= 31; ++day) days += fmt::format("2025-01-{:02},2025,1\n", day);
  folder.write("days.csv", days);
  const auto found = scan({folder.path()}, folder.path());
  ASSERT_TRUE(found) << test::messages(found.error());
  EXPECT_EQ(links_in(found->text), (std::set<std::string>{"events.(site, lane, kind) -> lanes.(site, lane, kind)",
                                                          "events.at_day -> days.day"}))
      << found->text;
  EXPECT_NE(found->text.find("at_day  date  from date(\"at\")"), std::string::npos) << found->text;
  EXPECT_NE(found->text.find("calendar days.day periods (year, month)"), std::string::npos) << found->text;
  folder.write("m.ridge", found->text);
  const auto proposed = Dataset::open(folder.path("m.ridge"));
  ASSERT_TRUE(proposed) << test::messages(proposed.error());
  EXPECT_EQ(test::answer(*proposed, "by lanes.limit, days.month show n_events"), "5|1|100\n6|1|200");
}

// Headers of other people say nothing of the tables that they lead to: two keys into one table, sparse numbers, codes.
TEST(Scan, LinksAreToldByValuesWhereNamesDoNotSpeak) {
  const test::TempFolder folder;
  std::mt19937_64 random(31);
  std::string sites = "Code;Label\n";
  std::string meters = "serial,kind\n";
  std::vector<std::string> codes;
  std::vector<std::string> serials;
  for (int i = 0; i < 60; ++i) {
    codes.push_back(fmt::format("{}{}-{}", static_cast<char>('A' + i % 26), static_cast<char>('A' + i / 26), i));
    sites += fmt::format("{};Site {}\n", codes.back(), i);
    serials.push_back(std::to_string(100'000 + i * 7919 % 60 * 13'001 + static_cast<int>(random() % 900)));
    meters += serials.back() + (i % 2 == 0 ? ",ac\n" : ",dc\n");
  }
  // Dense numbers, which nearly any column of small numbers falls into.
  std::string runs = "run\n";
  for (int i = 1; i <= 500; ++i) runs += fmt::format("{}\n", i);
  std::string trips = "No,Departed From,Arrived At,Unit,Minutes,Grade,Remark\n";
  for (int i = 0; i < 3000; ++i) {
    trips +=
        fmt::format("{},{},{},{},{},{},{}\n", i + 1, i % 300 == 7 ? "??" : codes[random() % 60], codes[random() % 60],
                    serials[random() % 60], 1 + random() % 240, 1 + random() % 5, i % 3 == 0 ? "late" : "on time");
  }
  folder.write("places.csv", sites);
  folder.write("devices.csv", meters);
  folder.write("runs.csv", runs);
  folder.write("trips.csv", trips);
  const auto found = scan({folder.path()}, folder.path());
  ASSERT_TRUE(found) << test::messages(found.error());
  EXPECT_EQ(links_in(found->text), (std::set<std::string>{"trips.departed_from -> places.Code",
                                                          "trips.arrived_at -> places.Code as arrived_at_places",
                                                          "trips.Unit -> devices.serial"}))
      << found->text;
  EXPECT_NE(found->text.find("# told by the values alone"), std::string::npos);
  EXPECT_NE(found->text.find("# 10 of 3,000 rows carry a key that is not there"), std::string::npos) << found->text;
  folder.write("m.ridge", found->text);
  const auto loaded = load(folder.path("m.ridge"));
  ASSERT_TRUE(loaded) << test::messages(loaded.error());
}

TEST(Scan, OtherSpellingsAreTold) {
  const test::TempFolder folder;
  const auto text_of = [&](const std::string& csv) {
    folder.write("t.csv", csv);
    const auto found = scan({folder.path("t.csv")}, folder.path());
    if (!found) return test::messages(found.error());
    folder.write("m.ridge", found->text);
    const auto loaded = load(folder.path("m.ridge"));
    EXPECT_TRUE(loaded) << found->text << test::messages(loaded.error());
    return found->text;
  };
  const auto has = [](const std::string& text, const std::string& part) {
    return std::regex_replace(text, std::regex(" +"), " ").find(part) != std::string::npos;
  };
  const std::string german =
      text_of("id;price;when;note\n1;1.234,50;01.02.2024;x\n2;NA;13.12.2023;y\n3;7,5;NA;z\n4;1.000.000;28.02.2024;x\n");
  EXPECT_TRUE(has(german, R"((delimiter ";", decimal ",", thousands ".", nulls ("NA"), dates "dd.MM.yyyy"))"))
      << german;
  EXPECT_TRUE(has(german, "price decimal(2)")) << german;
  EXPECT_TRUE(has(german, "when_ date")) << german;
  // A word that a text holds, too, may mean something there.
  const std::string country = text_of("id,land,n\n1,NA,5\n2,DE,NA\n3,FR,7\n");
  EXPECT_FALSE(has(country, "nulls")) << country;
  EXPECT_TRUE(has(text_of("id,n\n1,5\n2,NA\n3,-\n"), R"((nulls ("-", "NA")) {)"));
  // What could be meant in two ways is left to who knows.
  const std::string dates = text_of("id,d\n1,01/02/2024\n2,03/04/2024\n");
  EXPECT_TRUE(has(dates, "# the dates could be dd/MM/yyyy or MM/dd/yyyy")) << dates;
  EXPECT_TRUE(has(dates, "d text")) << dates;
  EXPECT_TRUE(has(text_of("id,d\n1,01/02/2024\n2,13/04/2024\n"), R"((dates "dd/MM/yyyy"))"));
  EXPECT_TRUE(has(text_of("id,d\n1,1/2/2024\n2,3/14/2024\n"), R"((dates "M/d/yyyy"))"));
  const std::string commas = text_of("id;n\n1;1,234\n2;5,678\n");
  EXPECT_TRUE(has(commas, "# the commas could mark decimals or thousands")) << commas;
  // A point elsewhere in the table says that commas are no decimals.
  EXPECT_TRUE(has(text_of("id;n;p\n1;1,234;0.5\n2;5,678;1.5\n"), R"((delimiter ";", thousands ","))"));
  EXPECT_FALSE(has(text_of("id;n\n1;007\n2;008\n"), "thousands"));
  EXPECT_FALSE(has(text_of("id,v\n1,1.2.3\n2,1.10.0\n"), "decimal"));
}

TEST(Scan, WhatIsDoubtfulStandsInComments) {
  const test::TempFolder folder;
  folder.write("Visits 2024.csv", "Visit No;bay;Kind;;note;note;and\n1;7;repair;x;a;b;t\n2;9;n/a;x;;;\n3;11;;;;;\n");
  folder.write("bays.csv", "bay,code\n7,007\n9,009\n");
  folder.write("lanes.csv", "id,bay_id\n1,500\n2,600\n");
  const auto found = scan({folder.path()}, folder.path());
  ASSERT_TRUE(found) << test::messages(found.error());
  EXPECT_EQ(found->text, R"(# Proposed from the files. What was doubtful stands in comments.

# column 4 has no name in the header, and is not read
# the header has "note" several times, and none of them is read
table visits_2024 from csv "Visits 2024.csv" (delimiter ";") {
  key visit_no  integer  from "Visit No"
      bay       integer
      Kind      text
      and_      text     from "and"
}

table bays from csv "bays.csv" {
  key bay   integer
      code  text  # text: numbers with leading zeros, as "007" in line 2
}

table lanes from csv "lanes.csv" {
  key id      integer
      bay_id  integer
}

# 1 of 3 rows carry a key that is not there
link visits_2024.bay -> bays.bay
# 2 of 2 rows carry a key that is not there
# perhaps: link lanes.bay_id -> bays.bay

measure n_visits_2024 = count(visits_2024)  format "#,##0"
measure n_lanes       = count(lanes)  format "#,##0"
)");
  folder.write("m.ridge", found->text);
  const auto dataset = Dataset::open(folder.path("m.ridge"));
  ASSERT_TRUE(dataset) << test::messages(dataset.error());
  EXPECT_EQ(test::answer(*dataset, "by bays.code show n_visits_2024"), "007|1\n009|1\nnull|1");
}

TEST(Scan, FilesOfOneHeaderAreOneTable) {
  const test::TempFolder folder;
  folder.write("s-2023.csv", "id\n1\n");
  folder.write("s-2024.csv", "id\n2\n3\n");
  folder.write("t-1.csv", "a\n1\n");
  folder.write("t-2.csv", "b\n1\n");
  const auto found = scan({folder.path()}, folder.path());
  ASSERT_TRUE(found) << test::messages(found.error());
  ASSERT_EQ(found->tables.size(), 3U);
  EXPECT_EQ(found->tables[0].source, "s-*.csv");
  EXPECT_EQ(found->tables[0].rows, 3U);
  EXPECT_EQ(found->tables[0].key, "id");
  EXPECT_EQ(found->tables[1].source, "t-1.csv");
}

TEST(Scan, APackageIsReadAsItIsDescribed) {
  const test::TempFolder folder;
  folder.write("datapackage.json", R"({"name": "network", "resources": [
    {"name": "sessions", "path": "data/s.csv", "dialect": {"delimiter": "|"}, "schema": {
      "fields": [{"name": "no", "type": "integer"}, {"name": "where", "type": "integer"}, {"name": "code", "type": "string"}],
      "primaryKey": "no", "foreignKeys": [{"fields": "where", "reference": {"resource": "bays", "fields": "bay"}},
      {"fields": ["no", "code"], "reference": {"resource": "bays", "fields": ["bay", "site"]}}]}},
    {"name": "bays", "path": "data/b.csv"}, {"name": "picture", "path": "p.png", "format": "png"}]})");
  folder.write("data/s.csv", "code|no|where\n12|1|7\n13|2|8\n");
  folder.write("data/b.csv", "bay,site\n7,Mill\n8,Quay\n");
  const auto found = scan({folder.path()}, folder.path());
  ASSERT_TRUE(found) << test::messages(found.error());
  EXPECT_NE(found->text.find("      code    text\n"), std::string::npos) << found->text;
  EXPECT_NE(found->text.find("  key no      integer\n"), std::string::npos) << found->text;
  EXPECT_NE(found->text.find("link sessions.where_ -> bays.bay"), std::string::npos) << found->text;
  EXPECT_NE(found->text.find("# not taken over: a foreign key of sessions (no, code) to bays (bay, site)"),
            std::string::npos)
      << found->text;
  folder.write("m.ridge", found->text);
  EXPECT_TRUE(Dataset::open(folder.path("m.ridge")));
  folder.write("datapackage.json", "{\"resources\": [{\"name\": \"x\"}, {\"path\": 5}]}");
  EXPECT_EQ(test::codes(scan({folder.path()}).error()), "JR-513");
  folder.write("datapackage.json", "{");
  EXPECT_EQ(test::codes(scan({folder.path("datapackage.json")}).error()), "JR-513");
}

TEST(Scan, WhatCanNotBeReadIsTold) {
  const test::TempFolder folder;
  EXPECT_EQ(test::codes(scan({folder.path()}).error()), "JR-512");
  EXPECT_EQ(test::codes(scan({folder.path("none.csv")}).error()), "JR-501");
  folder.write("empty.csv", "");
  folder.write("open.csv", "a,\"b\n1,2\n");
  folder.write("short.csv", "a,b\n1\n");
  EXPECT_EQ(test::codes(scan({folder.path("empty.csv"), folder.path("open.csv")}).error()), "JR-505 JR-502");
  // In a folder, they do not stop what can be read, and are told.
  const auto all = scan({folder.path()});
  ASSERT_TRUE(all) << test::messages(all.error());
  ASSERT_EQ(all->tables.size(), 1U);
  EXPECT_NE(all->text.find("empty.csv:1 is left out, as it can't be read: this file is empty"), std::string::npos)
      << all->text;
  EXPECT_NE(all->text.find("open.csv:1 is left out, as it can't be read: "), std::string::npos) << all->text;
  EXPECT_NE(all->text.find("# 1 of its rows can't be read, the first at "), std::string::npos) << all->text;
}

// Files of all kinds side by side: each becomes the tables that it holds, and what is proposed loads as it is.
TEST(Scan, FilesOfAllKindsStandSideBySide) {
  namespace fs = std::filesystem;
  const fs::path root(JUNIPER_SOURCE_DIR);
  const test::TempFolder folder;
  fs::copy(root / "tests/source/spreadsheet/samples/a-titled.xlsx", folder.path("plan.xlsx"));
  fs::copy(root / "tests/source/spreadsheet/samples/c.ods", folder.path("c.ods"));
  fs::copy(root / "tests/source/parquet/network/bays.parquet", folder.path("bays.parquet"));
  folder.write("visits-2024.jsonl", "{\"visit\":1,\"bay_id\":1,\"who\":{\"card\":\"C1\"}}\n");
  folder.write("visits-2025.jsonl", "{\"visit\":2,\"bay_id\":2,\"paid\":1.50}\nnot this\n");
  folder.write("settings.json", "{\n  \"color\": 1\n}\n");
  ASSERT_EQ(
      test::run_shell(
          "sqlite3 net.db 'create table cards (card text, holder text); insert into cards values "
          "(\"C1\", \"a\"), (\"C2\", \"b\"); create table empty (a); create view v as select card as c from cards'",
          folder.path())
          .status,
      0);
  const auto found = scan({folder.path()}, folder.path());
  ASSERT_TRUE(found) << test::messages(found.error());
  for (const char* const line :
       {"table sessions from xlsx \"plan.xlsx\" (sheet \"Sessions\")",
        "table notes from xlsx \"plan.xlsx\" (sheet \"Notes\")", "table c from ods \"c.ods\" {",
        "table visits from json \"visits-*.jsonl\" {", "who_card  text        from \"who.card\"",
        "paid      decimal(2)", "table cards from sqlite \"net.db\" table \"cards\" {",
        "table v from sqlite \"net.db\" table \"v\" {", "link visits.bay_id", "settings.json"})
    EXPECT_NE(found->text.find(line), std::string::npos) << line << "\n" << found->text;
  folder.write("m.ridge", found->text);
  LoadSettings settings;
  settings.rejects = folder.path("bad.csv");
  const auto loaded = load(folder.path("m.ridge"), {}, settings);
  ASSERT_TRUE(loaded) << test::messages(loaded.error());
}

// Folders of files as nobody wants them: what is proposed for them parses, loads and weighs, and holds nothing that the
// files said in a comment.
class NastyFolders {
 public:
  explicit NastyFolders(std::uint64_t seed) : random_(seed) {}

  std::map<std::string, std::string> draw() {
    std::map<std::string, std::string> files;
    const std::size_t count = 1 + random_() % 3;
    for (std::size_t i = 0; i < count; ++i) {
      const std::string name =
          one_of({"bays", "sessions", "sessions_2024", "sessions_2025", "table", "from", "größe", "a b", "x\ny", "1",
                  "-", "%s", "days", "key", "a\"b", "a\\b", "a'b", "a*b", "[ab]"});
      files[name + one_of({".csv", ".tsv"})] = file();
    }
    return files;
  }

 private:
  std::string one_of(const std::vector<std::string>& texts) { return texts[random_() % texts.size()]; }

  std::string cell() {
    static const std::vector<std::string> cells{"",
                                                "1",
                                                "2",
                                                "007",
                                                "-5",
                                                "1.5",
                                                "2.25",
                                                "1e5",
                                                "0.1234567890123456789",
                                                "123456789012345678",
                                                "99999999999999999999",
                                                "true",
                                                "false",
                                                "2024-01-01",
                                                "2024-02-30",
                                                "2024-01-01 10:00:00",
                                                "10:00",
                                                "24:00:00",
                                                "text",
                                                "a\nb",
                                                "x\r\n}\ninclude \"/etc/passwd\"\n",
                                                "\n  evil text\n",
                                                "größe größe größe größe größe größe",
                                                "充電充電充電充電充電充電充電",
                                                "\033[31mred",
                                                "\a",
                                                "\u202Eabc",
                                                "\u2028",
                                                "# no",
                                                "\"quoted\"",
                                                "\\",
                                                "`",
                                                "=1+1",
                                                "NULL",
                                                "-0",
                                                "9999-12-31",
                                                "0001-01-01",
                                                "nan",
                                                "-9223372036854775808",
                                                "9223372036854775807",
                                                std::string(200, 'x'),
                                                std::string("a\0b", 3)};
    return one_of(cells);
  }
  std::string header() {
    return one_of({"id",    "bay_id",  "session_id", "name", "from", "table", "key", "sorted",  "format", "measure",
                   "group", "größe",   "a b",        "",     "a\nb", "x\"y",  "\\",  "`",       "#",      "A",
                   "a",     "day",     "month",      "year", "true", "null",  "123", "\033[0m", "\u202E", "decimal",
                   "text",  "include", "calendar",   "_",    "a.b",  "is",    "and", "not",     "by"});
  }
  // As the CSV of some other program has it.
  std::string quoted(const std::string& text, char delimiter) {
    if (text.find_first_of(std::string("\"\r\n") + delimiter) == std::string::npos && random_() % 8 != 0) return text;
    std::string out = "\"";
    for (const char c : text) out += c == '"' ? std::string("\"\"") : std::string(1, c);
    return out + "\"";
  }
  std::string file() {
    const char delimiter = ",;\t|"[random_() % 4];
    const std::string end = one_of({"\n", "\r\n"});
    const std::size_t columns = 1 + random_() % 6;
    const std::size_t rows = random_() % 8;
    std::string text = random_() % 8 == 0 ? "\xEF\xBB\xBF" : "";
    const auto line = [&](const auto& field) {
      for (std::size_t c = 0; c < columns; ++c)
        text += (c == 0 ? "" : std::string(1, delimiter)) + quoted(field(c), delimiter);
      text += end;
    };
    line([&](std::size_t) { return header(); });
    std::vector<std::string> whole(columns);  // what each row of a column is like
    for (std::string& like : whole) like = cell();
    for (std::size_t r = 0; r < rows; ++r) line([&](std::size_t c) { return random_() % 3 == 0 ? cell() : whole[c]; });
    if (random_() % 4 == 0 && text.ends_with(end)) text.resize(text.size() - end.size());
    return text;
  }

  std::mt19937_64 random_;
};

TEST(Scan, WhatIsProposedParsesLoadsAndWeighs) {
  const std::uint64_t seed = test::test_seed(20261201);
  fmt::print("seed {}\n", seed);
  NastyFolders folders(seed);
  std::size_t weighed = 0;
  for (std::size_t i = 0; i < test::test_count(300); ++i) {
    const test::TempFolder folder;
    std::string all;
    for (const auto& [name, text] : folders.draw())
      all += fmt::format("== {}\n{}\n", name, folder.write("data/" + name, text).empty() ? "" : text);
    const auto found = scan({folder.path("data")}, folder.path());
    if (!found) {
      // What can't be read is told; nothing is proposed for it.
      for (const Diagnostic& d : found.error())
        ASSERT_TRUE(d.code.starts_with("JR-5")) << test::messages(found.error()) << all;
      continue;
    }
    ASSERT_EQ(found->text.find("\033"), std::string::npos);
    ASSERT_EQ(found->text.find("\ninclude"), std::string::npos) << found->text;
    ASSERT_TRUE(write_new(*found, folder.path("m.ridge")));
    const auto dataset = Dataset::open(folder.path("m.ridge"));
    ASSERT_TRUE(dataset) << test::messages(dataset.error()) << found->text << all;
    EXPECT_FALSE(weigh(*dataset)->columns.empty());
    ++weighed;
  }
  EXPECT_GT(weighed * 3, test::test_count(300));
}

}  // namespace
}  // namespace juniper::scan_test
