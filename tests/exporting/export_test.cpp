// What is exported is read back as it was: by the sources here, by SQLite's shell, and by a PostgreSQL server, whose views
// answer as the engine does. (tests/interchange reads it with other programs.)
#include "juniper/export.h"

#include <fmt/format.h>
#include <fmt/ranges.h>
#include <gtest/gtest.h>

#include <filesystem>
#include <map>

#include "base/json.h"
#include "juniper/scan.h"
#include "source/read_source.h"
#include "support/postgresql.h"

namespace juniper {
namespace {

namespace fs = std::filesystem;
using test::DrawnTable;
using test::read_source;
using test::request_of;
using test::texts_of;

const std::map<FileForm, std::pair<base::SourceKind, std::string>> forms{
    {FileForm::parquet, {base::SourceKind::parquet, "t.parquet"}},
    {FileForm::arrow, {base::SourceKind::arrow, "t.arrow"}},
    {FileForm::csv, {base::SourceKind::csv, "t.csv"}},
    {FileForm::json, {base::SourceKind::json, "t.jsonl"}},
    {FileForm::sqlite, {base::SourceKind::sqlite, "model.sqlite"}},
    {FileForm::xlsx, {base::SourceKind::xlsx, "model.xlsx"}}};

// A model of one table, from a drawn one.
std::string model_text(const DrawnTable& table) {
  std::string text = "table t from csv \"t.csv\" {";
  for (std::size_t c = 0; c < table.columns.size(); ++c) {
    std::string header;
    for (const char mark : table.columns[c].name) header += mark == '"' ? std::string("\\\"") : std::string(1, mark);
    text += fmt::format(" c{} {} from \"{}\"", c, to_string(table.columns[c].type), header);
  }
  return text + " }\nmeasure n = count(t)\n";
}

std::vector<source::ColumnRequest> requests_of(const DrawnTable& table) {
  std::vector<source::ColumnRequest> requests;
  for (std::size_t c = 0; c < table.columns.size(); ++c)
    requests.push_back({fmt::format("c{}", c), fmt::format("c{}", c), table.columns[c].type});
  return requests;
}

TEST(Export, EveryFormIsReadBackAsItWas) {
  std::mt19937_64 random(test::test_seed(31));
  for (std::size_t round = 0; round < test::test_count(12); ++round) {
    // Few rows, and so many that there are several pages.
    DrawnTable table = test::draw_table(random, round == 0 ? 40'000 : random() % 500);
    if (round % 3 == 1) {
      // Numbers that no double tells.
      for (auto& row : table.rows) row[1] = random() % 3 == 0 ? "-92233720368547758.07" : "1234567890123456.78";
    }
    const test::SmallModel model(model_text(table), {{"t.csv", table.csv()}});
    const Dataset dataset = model.open();
    const auto twin = read_source(request_of(model.folder.path("t.csv"), base::SourceKind::csv, table.requests()));
    ASSERT_TRUE(twin) << test::messages(twin.error());
    const auto expected = texts_of(*twin);
    for (const auto& [form, place] : forms) {
      const std::string folder = model.folder.path(place.second + ".d");
      ExportSettings settings;
      settings.form = form;
      const auto exported = export_tables(dataset, folder, settings);
      if (form == FileForm::xlsx && !exported) {
        // Control characters.
        EXPECT_EQ(test::codes(exported.error()), "JR-523");
        EXPECT_FALSE(fs::exists(folder + "/model.xlsx"));
        continue;
      }
      ASSERT_TRUE(exported) << test::messages(exported.error());
      EXPECT_EQ(exported->tables[0].file, place.second);
      EXPECT_EQ(exported->tables[0].rows, table.rows.size());
      base::SourcePlace from{place.first, "", {}, ',', {}};
      if (form == FileForm::sqlite) from.selection = {base::Selection::Kind::table, "t"};
      const auto input = read_source(request_of(folder + "/" + place.second, from, requests_of(table)));
      ASSERT_TRUE(input) << place.second << test::messages(input.error());
      const auto texts = texts_of(*input);
      for (std::size_t c = 0; c < texts.size(); ++c) {
        // A spreadsheet tells no empty text from nothing.
        if (form == FileForm::xlsx && table.columns[c].type.kind == TypeKind::text) continue;
        EXPECT_EQ(texts[c], expected[c]) << place.second << " " << table.columns[c].name;
      }
    }
  }
}

// The exported network, scanned anew, answers every query as the one that it came from.
TEST(Export, TheNetworkComesBack) {
  const test::TempFolder folder;
  fs::copy(fs::path(JUNIPER_SOURCE_DIR) / "demo/small", folder.path("d"), fs::copy_options::recursive);
  const auto dataset = Dataset::open(folder.path("d/charging.ridge"));
  ASSERT_TRUE(dataset);
  for (const auto& [form, place] : forms) {
    const std::string out = folder.path("out-" + place.second);
    ExportSettings settings;
    settings.form = form;
    const auto exported = export_tables(*dataset, out, settings);
    ASSERT_TRUE(exported) << test::messages(exported.error());
    EXPECT_EQ(exported->tables.size(), dataset->model().tables().size());
    // Its package is such that it can be scanned: tables, keys and links are those of the network.
    const auto scanned = scan({out}, folder.path());
    ASSERT_TRUE(scanned) << place.second << test::messages(scanned.error());
    EXPECT_EQ(scanned->tables.size(), exported->tables.size()) << place.second << scanned->text;
    EXPECT_NE(scanned->text.find("link sessions.tariff_code -> tariffs.tariff_code"), std::string::npos)
        << scanned->text;
    folder.write("scanned.ridge", scanned->text);
    const auto again = Dataset::open(folder.path("scanned.ridge"));
    ASSERT_TRUE(again) << place.second << test::messages(again.error());
    EXPECT_EQ(test::answer(*again, "show n_visits"),
              test::answer(*dataset, "show n_visits with measure n_visits = count(visits)"));
    // A second time, over the first.
    EXPECT_TRUE(export_tables(*dataset, out, settings));
    std::string text;
    for (const TableInfo& table : dataset->model().tables()) {
      const std::string file = form == FileForm::sqlite || form == FileForm::xlsx
                                   ? "charging" + fs::path(place.second).extension().string()
                                   : table.name + fs::path(place.second).extension().string();
      text += fmt::format("table {} from {} \"{}/{}\"{} {{", table.name, base::name_of(place.first), out, file,
                          form == FileForm::sqlite ? " table \"" + table.name + "\""
                                                   : (form == FileForm::xlsx ? " (sheet \"" + table.name + "\")" : ""));
      for (const ColumnInfo& column : table.columns)
        text += fmt::format(" {}{} {}", column.is_key ? "key " : "", column.name, to_string(column.type));
      text += " }\n";
    }
    for (const LinkInfo& link : dataset->model().links())
      text +=
          fmt::format("link {}.({}) -> {}.({}){}\n", link.many_table, fmt::join(link.many_columns, ", "),
                      link.one_table, fmt::join(link.one_columns, ", "), link.role.empty() ? "" : " as " + link.role);
    text +=
        "measure revenue = sum(gross for sessions)\nmeasure n = count(sessions)\nmeasure share = avg(price_paid for "
        "sessions)\n";
    folder.write("back.ridge", text);
    const auto back = Dataset::open(folder.path("back.ridge"));
    ASSERT_TRUE(back) << place.second << test::messages(back.error());
    for (const char* const query :
         {"by stations.region show revenue, n, share total grand", "by days.year, tariffs.plan show revenue",
          "by cards.holder show n", "by sessions.size_class show n, revenue"}) {
      const Question drafted{query,
                             {},
                             {"measure revenue = sum(gross for sessions)", "measure n = count(sessions)",
                              "measure share = avg(price_paid for sessions)"}};
      const auto theirs = ask(*dataset, drafted);
      ASSERT_TRUE(theirs) << test::messages(theirs.error());
      EXPECT_EQ(test::answer(*back, query), test::rows_of(*theirs)) << place.second << query;
    }
  }
}

TEST(Export, ViewsOfPostgresqlAnswerAsTheEngine) {
  const test::TempFolder folder;
  fs::copy(fs::path(JUNIPER_SOURCE_DIR) / "demo/small", folder.path("d"), fs::copy_options::recursive);
  const auto dataset = Dataset::open(folder.path("d/charging.ridge"));
  ASSERT_TRUE(dataset);
  ExportSettings settings;
  settings.form = FileForm::csv;
  settings.sql = SqlDialect::postgresql;
  ASSERT_TRUE(export_tables(*dataset, folder.path("out"), settings));
  test::Postgresql server;
  ASSERT_EQ(server.problem(), "");
  ASSERT_EQ(server.run_file(folder.path("out"), "schema.sql"), "");
  // Of some tables alone, what needs others has no view.
  settings.tables = {"visits", "crews"};
  ASSERT_TRUE(export_tables(*dataset, folder.path("few"), settings));
  const std::string few = test::read_file(folder.path("few/schema.sql"));
  EXPECT_NE(few.find("-- no view monthly: the table sessions is not exported"), std::string::npos) << few;
  EXPECT_NE(few.find("create view \"crew_leaders\""), std::string::npos) << few;
  for (const QueryInfo& query : dataset->model().queries()) {
    const auto answer = ask(*dataset, {query.name});
    ASSERT_TRUE(answer);
    const auto there = server.run({fmt::format("SELECT count(*) FROM \"{}\"", query.name)})[0];
    ASSERT_EQ(there.error, "") << query.name;
    // A limit is not in the statement.
    EXPECT_GE(std::stoull(there.rows[0][0].value()), answer->rows.size()) << query.name;
  }
}

// Names of a stranger's text stay names, whatever reads the files.
TEST(Export, NamesCommandNobody) {
  for (const std::string& nasty :
       {std::string("a'; drop table t; --"), std::string("a\"b"), std::string("=1+1"), std::string("../up")}) {
    const test::SmallModel model(fmt::format("table t from csv \"t.csv\" {{ key id integer }}\ntable `{}` from csv "
                                             "\"t.csv\" {{ id integer }}\nmeasure n = count(t)\n",
                                             nasty),
                                 {{"t.csv", "id\n1\n"}});
    ExportSettings settings;
    settings.form = FileForm::csv;
    settings.sql = SqlDialect::postgresql;
    const auto exported = export_tables(model.open(), model.folder.path("out"), settings);
    ASSERT_TRUE(exported) << test::messages(exported.error());
    for (const ExportedTable& table : exported->tables)
      EXPECT_TRUE(fs::exists(model.folder.path("out/" + table.file))) << nasty;
    const std::string schema = test::read_file(model.folder.path("out/schema.sql"));
    for (std::size_t line = 0; line != std::string::npos; line = schema.find("\n\\", line + 1)) {
      EXPECT_TRUE(line == 0 || schema.substr(line + 1, 7) == "\\copy \"") << schema;
    }
  }
}

TEST(Export, WhatStandsThereStays) {
  const test::SmallModel model(
      "table t from csv \"t.csv\" { key id integer }\ntable `a/b` from csv \"t.csv\" { id integer }\nmeasure n = "
      "count(t)\n",
      {{"t.csv", "id\n1\n"}});
  const Dataset dataset = model.open();
  model.folder.write("out/t.parquet", "mine");
  EXPECT_EQ(test::codes(export_tables(dataset, model.folder.path("out")).error()), "JR-011");
  EXPECT_EQ(test::read_file(model.folder.path("out/t.parquet")), "mine");
  EXPECT_FALSE(fs::exists(model.folder.path("out/datapackage.json")));
  ExportSettings settings;
  settings.tables = {"a/b"};
  const auto one = export_tables(dataset, model.folder.path("out"), settings);
  ASSERT_TRUE(one) << test::messages(one.error());
  EXPECT_EQ(one->tables[0].file, "a_b.parquet");
  settings.tables = {"c"};
  EXPECT_EQ(test::codes(export_tables(dataset, model.folder.path("out"), settings).error()), "JR-201");
  // The package of somebody else is none of ours.
  model.folder.write("other/datapackage.json", "{\"resources\": []}");
  EXPECT_EQ(test::codes(export_tables(dataset, model.folder.path("other")).error()), "JR-011");
  Options force;
  force.overwrite = Overwrite::anything;
  EXPECT_TRUE(export_tables(model.open(force), model.folder.path("other")));
  // The package is such that it can be scanned.
  settings.tables = {};
  settings.form = FileForm::csv;
  ASSERT_TRUE(export_tables(dataset, model.folder.path("csv"), settings));
  const auto scanned = scan({model.folder.path("csv")}, model.folder.path());
  ASSERT_TRUE(scanned) << test::messages(scanned.error());
  EXPECT_NE(scanned->text.find("key id"), std::string::npos);
}

// Results with totals, wide numbers, nulls and no rows at all, in every form.
TEST(Export, ResultsAreReadBackAsTheyWere) {
  const test::SmallModel model(
      "table t from csv \"t.csv\" { key id integer  g text  v integer  w decimal(4) }\n"
      "measure n = count(t)\nmeasure big = sum(w * 1000000000 for t)\nmeasure w = sum(w for t)\nmeasure x = sum(id * w "
      "for t)\nmeasure r = avg(v for t)\n",
      {{"t.csv",
        "id,g,v,w\n1,a,9223372036854775807,1.5000\n2,a,9223372036854775807,2.2500\n3,,-5,\n4,\"\",,92233720368547."
        "7581\n"}});
  const Dataset dataset = model.open();
  const auto answer = ask(dataset, {"by t.g show n, big, w, x, r total grand"});
  ASSERT_TRUE(answer) << test::messages(answer.error());
  const std::map<std::string, base::SourceKind> endings{
      {".parquet", base::SourceKind::parquet}, {".arrow", base::SourceKind::arrow},
      {".csv", base::SourceKind::csv},         {".jsonl", base::SourceKind::json},
      {".sqlite", base::SourceKind::sqlite},   {".xlsx", base::SourceKind::xlsx}};
  for (const auto& [ending, kind] : endings) {
    const std::string path = model.folder.path("answer" + ending);
    const auto written = write_result(*answer, dataset.model(), path);
    ASSERT_TRUE(written) << test::messages(written.error());
    base::SourcePlace from{kind, "", {}, ',', {}};
    if (kind == base::SourceKind::sqlite) from.selection = {base::Selection::Kind::table, "result"};
    const Type text{TypeKind::text, 0};
    const auto input = read_source(request_of(
        path, from, {{"l", "level", text}, {"n", "n", {TypeKind::integer, 0}}, {"b", "big", text}, {"w", "w", text}}));
    if (kind == base::SourceKind::parquet) {
      // Its numbers beyond 64 bits can't be read here, and are told.
      EXPECT_EQ(test::codes(input.error()).substr(0, 6), "JR-507");
      continue;
    }
    ASSERT_TRUE(input) << ending << test::messages(input.error());
    const auto texts = texts_of(*input);
    EXPECT_EQ(texts[0], (std::vector<std::string>{"'detail'", "'detail'", "'detail'", "'grand'"})) << ending;
    EXPECT_EQ(texts[1], (std::vector<std::string>{"'1'", "'2'", "'1'", "'4'"})) << ending;
    EXPECT_EQ(texts[2], (std::vector<std::string>{"'92233720368547758100000.0000'", "'3750000000.0000'", "null",
                                                  "'92233720368551508100000.0000'"}))
        << ending;
  }
  const auto none = ask(dataset, {"by t.g show n where t.id > 10"});
  ASSERT_TRUE(none);
  for (const auto& [ending, kind] : endings)
    EXPECT_TRUE(write_result(*none, dataset.model(), model.folder.path("none" + ending)));
  EXPECT_EQ(test::codes(write_result(*answer, dataset.model(), model.folder.path("answer.doc")).error()), "JR-523");
  EXPECT_EQ(test::codes(write_result(*answer, dataset.model(), model.folder.path("t.csv")).error()), "JR-011");
  // What the model is read from is never replaced.
  const std::string source = test::read_file(model.folder.path("t.csv"));
  EXPECT_EQ(
      test::codes(write_result(*answer, dataset.model(), model.folder.path("t.csv"), Overwrite::anything).error()),
      "JR-011");
  Options force;
  force.overwrite = Overwrite::anything;
  ExportSettings as_csv;
  as_csv.form = FileForm::csv;
  EXPECT_EQ(test::codes(export_tables(model.open(force), model.folder.path(), as_csv).error()), "JR-011");
  EXPECT_EQ(test::read_file(model.folder.path("t.csv")), source);
  const auto written = test::run_tool({"ask", model.path(), "show n", "--output", model.folder.path("n.parquet")});
  EXPECT_EQ(written.status, 0);
  EXPECT_NE(written.out.find("n.parquet"), std::string::npos) << written.out;
  // Nothing is said where nobody wants to hear it.
  EXPECT_EQ(test::run_tool({"ask", model.path(), "show n", "--quiet", "--output", model.folder.path("n.csv")}).out, "");
  EXPECT_TRUE(test::read_file(model.folder.path("n.parquet")).starts_with("PAR1"));
}

}  // namespace
}  // namespace juniper
