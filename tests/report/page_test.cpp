// Pages in a real browser: what they show, what they do when they are used, and what nothing may make them do.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <algorithm>
#include <map>
#include <nlohmann/json.hpp>

#include "base/format.h"
#include "base/shown_text.h"
#include "juniper/demo.h"
#include "juniper/overview.h"
#include "juniper/report.h"
#include "support/browser.h"
#include "support/support.h"

namespace juniper::page_test {
namespace {

using nlohmann::json;

// The rows of a table as the page shows them, each with its cells.
constexpr const char* table_script = R"(
  return Array.from(document.querySelectorAll(`[data-table="${arguments[0]}"] tbody tr`))
    .filter((row) => !arguments[1] || !row.hidden).map((row) => Array.from(row.cells).map((cell) => cell.textContent)))";

class PageTest : public testing::Test {
 protected:
  static void SetUpTestSuite() {
    folder_ = std::make_unique<test::TempFolder>();
    ASSERT_TRUE(write_demo(folder_->path(), {4000, 4}));
    auto dataset = Dataset::open(folder_->path("charging.ridge"));
    ASSERT_TRUE(dataset) << test::messages(dataset.error());
    ASSERT_TRUE(baseline(*dataset, folder_->path("charging.baseline")));
    ASSERT_TRUE(
        test::run_shell("juniper weigh charging.ridge --format json > before.json", folder_->path()).err.empty());
    OverviewSettings settings;
    settings.before = {folder_->path("before.json")};
    auto gathered = overview(*dataset, settings);
    ASSERT_TRUE(gathered) << test::messages(gathered.error());
    view_ = std::make_unique<Overview>(std::move(*gathered));
    ASSERT_TRUE(write_page(*view_, page()));
    browser_ = std::make_unique<test::Browser>(1280, 800);
  }
  static void TearDownTestSuite() {
    browser_.reset();
    view_.reset();
    folder_.reset();
  }
  void SetUp() override {
    browser_->command("Emulation.setDeviceMetricsOverride",
                      {{"width", 1280}, {"height", 800}, {"deviceScaleFactor", 1}, {"mobile", false}});
    browser_->command("Emulation.setEmulatedMedia", {{"media", ""}, {"features", json::array()}});
    forget_logs();
  }

  static std::string page() { return folder_->path("page.html"); }
  static void forget_logs() {
    browser_->log("browser");
    browser_->log("performance");
  }
  static std::vector<std::vector<std::string>> rows(const std::string& table, bool visible = false) {
    return browser_->run(table_script, {table, visible}).get<std::vector<std::vector<std::string>>>();
  }
  // No word on the console, and no request but for the page itself.
  static void expect_quiet(const std::string& what) {
    for (const std::string& message : browser_->log("browser")) ADD_FAILURE() << what << ": " << message;
    for (const std::string& message : browser_->log("performance")) {
      const json event = json::parse(json::parse(message)["message"].get<std::string>())["message"];
      if (event["method"] != "Network.requestWillBeSent") continue;
      const std::string url = event["params"]["request"]["url"];
      EXPECT_TRUE(url.starts_with("file://" + folder_->path())) << what << " asks for " << url;
    }
  }
  // Goes down the page until all is drawn that is drawn when it is seen, however busy the machine is.
  static void see_all() {
    browser_->run_later(
        "const done = arguments[0]; const next = () => { const waits = document.querySelector('[data-waits]'); if "
        "(waits "
        "=== null) return done(true); waits.scrollIntoView({ block: 'center' }); setTimeout(next, 20); }; next();");
  }
  // What axe-core, which knows the rules of accessible pages, finds wrong.
  static void expect_accessible(const std::string& what) {
    static const std::string axe = test::read_file(JUNIPER_SOURCE_DIR "/node_modules/axe-core/axe.min.js");
    browser_->run(axe);
    const json found = browser_->run_later(
        "axe.run(document).then((result) => arguments[0](result.violations.map((v) => v.id + ': ' + v.help + ' ' + "
        "v.nodes.slice(0, 3).map((n) => n.html.slice(0, 300) + ' ' + n.failureSummary).join(' | '))))");
    EXPECT_EQ(found.size(), 0U) << what << ": " << found.dump(2);
  }

  static std::unique_ptr<test::TempFolder> folder_;
  static std::unique_ptr<Overview> view_;
  static std::unique_ptr<test::Browser> browser_;
};
std::unique_ptr<test::TempFolder> PageTest::folder_;
std::unique_ptr<Overview> PageTest::view_;
std::unique_ptr<test::Browser> PageTest::browser_;

TEST_F(PageTest, OpensWithoutAWordAndAsksNobody) {
  browser_->open(page());
  see_all();
  EXPECT_EQ(browser_->run("return document.title"), "Tideline charging network");
  expect_quiet("the page");
  for (const char* const drawn :
       {"#treemap svg .tile", "#diagram svg .box", "#savings svg rect", "#weighings svg rect"})
    EXPECT_GT(browser_->run("return document.querySelectorAll(arguments[0]).length", {drawn}), 1) << drawn;
  EXPECT_LT(test::read_file(page()).size(), 1'500'000U);
}

// Every number that stands there is the library's.
TEST_F(PageTest, ShowsTheNumbersOfTheLibrary) {
  browser_->open(page());
  // All documents that the page is made of, in its order: tables of one name follow each other.
  std::vector<Report> documents{report(view_->weighing), report(view_->links)};
  for (const ShownQuery& query : view_->queries) documents.push_back(report(*query.result));
  documents.push_back(report(*view_->baseline));
  for (const EarlierWeighing& earlier : view_->earlier) documents.push_back(report(earlier.changes));
  std::map<std::string, std::vector<std::vector<std::string>>> expected;
  for (const Report& document : documents) {
    for (const auto& block : document.blocks) {
      const Table* table = std::get_if<Table>(&block);
      if (table == nullptr) continue;
      for (const TableRow& row : table->rows) {
        if (row.audience == Audience::programs) continue;
        std::vector<std::string>& cells = expected[table->name].emplace_back();
        for (std::size_t c = 0; c < table->columns.size(); ++c) {
          if (table->columns[c].audience != Audience::programs) cells.push_back(base::one_line(row.cells[c].shown));
        }
      }
    }
  }
  std::vector<std::vector<std::string>>& findings = expected["findings"];
  for (const Finding& f : view_->audit.findings) {
    const bool is_measured = f.saved_bytes.has_value();
    const double share = static_cast<double>(f.saved_bytes.value_or(0)) / static_cast<double>(view_->audit.file_bytes);
    findings.push_back({is_measured ? base::format_bytes(*f.saved_bytes) : "",
                        is_measured ? fmt::format("{:.1f}%", 100 * share) : "", f.subject, f.title, f.evidence,
                        f.remedy + (f.step.empty() ? "" : "copy"), f.code,
                        fmt::format("{}:{}:{}", f.place.file, f.place.line, f.place.column)});
  }
  std::size_t compared = 0;
  for (const auto& [name, cells] : expected) {
    EXPECT_EQ(rows(name), cells) << name;
    compared += cells.size();
  }
  const std::string glance = browser_->run("return document.getElementById('glance').textContent");
  for (const std::string& figure :
       {base::format_bytes(view_->weighing.file_bytes), base::format_bytes(view_->weighing.source_bytes),
        base::format_nanoseconds(view_->load_nanoseconds), fmt::format("{} findings", view_->audit.findings.size()),
        std::string("passed the baseline of"), base::format_bytes(view_->audit.saved_bytes)})
    EXPECT_NE(glance.find(figure), std::string::npos) << figure << " in " << glance;
  EXPECT_GT(compared, 100U);
  // What is drawn: all areas together are the file, and so are the steps from today to what would be left.
  const json data = browser_->run("return JSON.parse(document.getElementById('data').textContent)");
  std::uint64_t bytes = 0;
  for (const json& part : data["treemap"]["parts"]) bytes += part["b"].get<std::uint64_t>();
  EXPECT_EQ(bytes, view_->weighing.file_bytes);
  const json& steps = data["savings"];
  std::uint64_t left = steps[0][1];
  EXPECT_EQ(left, view_->audit.file_bytes);
  for (std::size_t i = 1; i + 1 < steps.size(); ++i) left -= steps[i][1].get<std::uint64_t>();
  EXPECT_EQ(left, steps.back()[1].get<std::uint64_t>());
  EXPECT_EQ(left, view_->audit.file_bytes - view_->audit.saved_bytes);
  ASSERT_EQ(data["treemap"]["values"].size(), view_->distributions.size());
  for (std::size_t i = 0; i < view_->distributions.size(); ++i) {
    const Distribution& d = view_->distributions[i];
    EXPECT_EQ(data["treemap"]["values"][i]["top"].size(), d.most_frequent.size());
    std::uint64_t counted = 0;
    for (const json& range : data["treemap"]["values"][i]["ranges"]) counted += range[2].get<std::uint64_t>();
    EXPECT_EQ(counted, d.ranges.empty() ? 0 : d.rows - d.nulls) << d.table << "." << d.column;
  }
  std::size_t charts = 0;
  std::size_t lines = 0;
  for (std::size_t q = 0; q < view_->queries.size(); ++q) {
    const json& chart = data["charts"][q];
    if (chart.is_null()) continue;
    lines += chart["kind"] == "line" ? 1 : 0;
    ++charts;
    const QueryResult& result = *view_->queries[q].result;
    for (const json& measure : chart["measures"]) {
      const std::string name = measure[0];
      std::size_t at = 0;
      for (std::size_t r = 0; r < result.rows.size(); ++r) {
        if (result.rows[r].level != 0) continue;
        // What has no day has no place on a line.
        bool is_drawn = true;
        for (std::size_t c = 0; c < result.columns.size() && chart["kind"] == "line"; ++c)
          is_drawn = is_drawn && !(result.columns[c].name.starts_with("days.") && result.rows[r].cells[c].is_null());
        if (!is_drawn) continue;
        const auto number = result.number(r, name);
        EXPECT_EQ(measure[2][at], number ? json(*number) : json()) << name;
        ++at;
      }
      EXPECT_EQ(measure[2].size(), at);
    }
  }
  EXPECT_GT(charts, 3U);
  EXPECT_GT(lines, 0U);
  EXPECT_LT(lines, charts);
}

TEST_F(PageTest, TablesAreSortedAndNarrowed) {
  browser_->open(page());
  const auto by_name = [](const char* heading) {
    return fmt::format("[data-table=parts] th:nth-of-type({}) button",
                       browser_
                           ->run("return 1 + Array.from(document.querySelectorAll('[data-table=parts] thead "
                                 "th')).findIndex((h) => h.textContent === arguments[0])",
                                 {heading})
                           .get<int>());
  };
  browser_->click(by_name("distinct"));
  const auto figures = [] {
    return browser_
        ->run(
            "return Array.from(document.querySelectorAll('[data-table=parts] tbody tr')).map((r) => "
            "r.cells[2].dataset.v === undefined ? -1 : Number(r.cells[2].dataset.v))")
        .get<std::vector<double>>();
  };
  std::vector<double> seen = figures();
  EXPECT_TRUE(std::is_sorted(seen.rbegin(), seen.rend()));
  browser_->type(by_name("distinct"), "\uE007");  // Enter
  seen = figures();
  EXPECT_TRUE(std::is_sorted(seen.begin(), seen.end()));
  EXPECT_EQ(browser_->run("return document.querySelector('[data-table=parts] [aria-sort]').getAttribute('aria-sort')"),
            "ascending");
  browser_->type("label.search:has(+ [data-table=parts]) input", "stations.");
  const auto narrowed = rows("parts", true);
  EXPECT_GT(narrowed.size(), 3U);
  EXPECT_LT(narrowed.size(), rows("parts").size());
  for (const auto& row : narrowed)
    EXPECT_TRUE(std::any_of(row.begin(), row.end(),
                            [](const std::string& cell) { return cell.find("stations.") != std::string::npos; }));
  expect_quiet("sorting");
}

TEST_F(PageTest, ATableOfTheTreemapOpensAndAFindingLeadsToItsColumn) {
  browser_->open(page());
  browser_->type("#treemap [aria-label^='look into table cards']", "\uE007");
  for (const auto& row : rows("parts", true)) EXPECT_TRUE(row[1].starts_with("cards.")) << row[1];
  EXPECT_EQ(browser_->run("return document.querySelectorAll('#treemap .head').length"), 1);
  browser_->click("#treemap .back");
  EXPECT_EQ(rows("parts", true).size(), rows("parts").size());
  browser_->click("[data-table=findings] .leads");
  const std::string subject =
      browser_->run("return document.querySelector('[data-table=findings] .leads').textContent");
  EXPECT_EQ(browser_->run("return document.getElementById('values-h').textContent"), subject);
  EXPECT_EQ(browser_->run("return document.activeElement.id"), "values-h");
  // Its bars are those of the library.
  const auto d = std::find_if(view_->distributions.begin(), view_->distributions.end(),
                              [&](const Distribution& each) { return each.table + "." + each.column == subject; });
  ASSERT_NE(d, view_->distributions.end());
  EXPECT_EQ(browser_->run("return document.querySelectorAll('#values .top tbody tr').length"), d->most_frequent.size());
  expect_quiet("looking into a column");
}

TEST_F(PageTest, CommandsAreCopied) {
  browser_->open(page());
  browser_->command("Browser.grantPermissions", {{"permissions", {"clipboardReadWrite", "clipboardSanitizedWrite"}}});
  browser_->click("[data-table=findings] .copy");
  const std::string said = browser_->run_later(
      "const done = arguments[0]; const copy = document.querySelector('[data-table=findings] .copy'); const look = () "
      "=> "
      "copy.textContent === 'copy' ? setTimeout(look, 20) : done(copy.textContent); look();");
  EXPECT_EQ(said, "copied");
  const std::string command =
      browser_->run("return document.querySelector('[data-table=findings] td code').textContent");
  EXPECT_TRUE(command.starts_with("juniper refactor ")) << command;
}

TEST_F(PageTest, HoldsTheRulesOfAccessiblePagesInLightAndDark) {
  std::vector<std::string> colors;
  for (const char* const scheme : {"light", "dark"}) {
    browser_->command("Emulation.setEmulatedMedia",
                      {{"features", {{{"name", "prefers-color-scheme"}, {"value", scheme}}}}});
    browser_->open(page());
    browser_->click("[data-table=findings] .leads");
    expect_accessible(scheme);
    colors.push_back(browser_->run("return getComputedStyle(document.body).backgroundColor"));
    expect_quiet(scheme);
  }
  EXPECT_NE(colors[0], colors[1]);
}

TEST_F(PageTest, FitsNarrowAndEnlargedWindows) {
  for (const int width : {390, 640, 1280}) {
    browser_->command("Emulation.setDeviceMetricsOverride",
                      {{"width", width}, {"height", 800}, {"deviceScaleFactor", 1}, {"mobile", false}});
    browser_->open(page());
    see_all();
    EXPECT_LE(browser_->run("return document.documentElement.scrollWidth").get<int>(), width);
  }
}

TEST_F(PageTest, IsPrintedWhole) {
  browser_->open(page());
  const std::string pdf = browser_->pdf();
  EXPECT_TRUE(pdf.starts_with("%PDF"));
  EXPECT_GT(pdf.size(), 50'000U);
  expect_quiet("printing");
}

// Each command's own page.
TEST_F(PageTest, EachCommandMakesOne) {
  const std::vector<std::string> commands{
      "weigh charging.ridge",          "links charging.ridge",
      "audit charging.ridge",          "describe charging.ridge",
      "ask charging.ridge monthly",    "check charging.ridge --speed warm --seconds 0.2",
      "unfold charging.ridge price",   "refactor charging.ridge inline sessions.gross --probes 5",
      "explain charging.ridge monthly"};
  for (const std::string& command : commands) {
    const auto run = test::run_shell("juniper " + command + " --format html > part.html", folder_->path());
    EXPECT_TRUE(run.status == 0 || run.status == 1) << command << run.err;
    browser_->open(folder_->path("part.html"));
    EXPECT_EQ(browser_->run("return document.title"), "juniper " + command + " --format html");
    EXPECT_GT(browser_->run("return document.querySelectorAll('td').length"), 5) << command;
    // What the model's own page draws of it is drawn here, too.
    for (const auto& [name, figure] :
         std::map<std::string, std::string>{{"weigh", "treemap"}, {"links", "diagram"}, {"audit", "savings"}}) {
      if (!command.starts_with(name)) continue;
      see_all();
      EXPECT_GT(browser_->run("return document.querySelectorAll(arguments[0]).length", {"#" + figure + " svg rect"}), 2)
          << command;
    }
    expect_accessible(command);
    expect_quiet(command);
  }
}

// Names and values that nobody means well with are text.
TEST_F(PageTest, WhatTheDataSaysIsText) {
  const std::string evil = "</script><script>window.hacked=1</script><img src=x onerror=window.hacked=1>";
  const std::vector<std::string> values{evil,
                                        "\" onmouseover=\"window.hacked=1",
                                        "<!-- <script>",
                                        "]]></style><style>*{display:none}</style>",
                                        "\u202Eabc",
                                        "a\x1B]0;x\x07",
                                        "javascript:window.hacked=1",
                                        "${window.hacked=1}",
                                        std::string(10'000, 'w')};
  std::string csv = "id,place,amount\n";
  for (std::size_t i = 0; i < values.size(); ++i) {
    std::string quoted;
    for (const char c : values[i]) quoted += c == '"' ? "\"\"" : std::string(1, c);
    csv += fmt::format("{},\"{}\",{}\n", i, quoted, i * 10);
  }
  const std::string name(10'000, 'n');
  const test::SmallModel model(
      "model \"<img src=x onerror=window.hacked=1> network\"\n"
      "table t from csv \"t.csv\" { id integer key  place text  amount integer }\n"
      "measure " +
          name +
          " = sum(amount for t)\n"
          "measure n = count(t) \"<b onclick=window.hacked=1>counts</b>\"\n"
          "query q \"</title><script>window.hacked=1</script>\" { by t.place show n where t.place <> \"<script>x\" }\n",
      {{"t.csv", csv}});
  const Dataset dataset = model.open();
  const auto gathered = overview(dataset, {});
  ASSERT_TRUE(gathered) << test::messages(gathered.error());
  const std::string path = folder_->path("evil.html");
  ASSERT_TRUE(write_page(*gathered, path));
  browser_->open(path);
  browser_->click("#treemap .tile[role=button]");
  EXPECT_TRUE(browser_->run("return window.hacked === undefined").get<bool>());
  EXPECT_EQ(browser_->run("return document.querySelectorAll('img, b[onclick], [onmouseover]').length"), 0);
  EXPECT_EQ(browser_->run("return document.scripts.length"), 4);
  EXPECT_EQ(browser_->run("return document.title"), "<img src=x onerror=window.hacked=1> network");
  EXPECT_LE(browser_->run("return document.documentElement.scrollWidth").get<int>(), 1280);
  std::vector<std::string> shown;
  for (const auto& row : rows("rows")) shown.push_back(row[0]);
  for (const std::string& value : values) {
    const std::string expected = value.size() > 2000 ? value.substr(0, 2000) + "…" : base::one_line(value);
    EXPECT_NE(std::find(shown.begin(), shown.end(), expected), shown.end()) << expected;
  }
  expect_quiet("a page of hostile texts");
  expect_accessible("a page of hostile texts");
}

// What git holds of baselines and weighings, revision by revision.
TEST_F(PageTest, ShowsWhatRevisionsRecorded) {
  const auto in = [](const std::string& name) { return folder_->path("then/" + name); };
  const std::string git = "git -c user.name=n -c user.email=n@example.org ";
  const auto commit = [&](const std::string& message) {
    const auto run =
        test::run_shell(git + "add charging.baseline before.json && " + git + "commit -q -m " + message, in("."));
    ASSERT_EQ(run.status, 0) << run.err;
  };
  ASSERT_EQ(test::run_shell("mkdir then && cp -r charging.baseline before.json then", folder_->path()).status, 0);
  const auto dataset = Dataset::open(folder_->path("charging.ridge"));
  OverviewSettings settings;
  settings.revisions = 5;
  settings.before = {in("before.json")};
  settings.baseline = in("charging.baseline");
  const auto none = overview(*dataset, settings);
  ASSERT_FALSE(none);
  EXPECT_EQ(none.error()[0].code, "JR-908");

  ASSERT_EQ(test::run_shell("git init -q .", in(".")).status, 0);
  commit("one");
  folder_->write("then/charging.baseline/times.txt", "monthly\t7000000\nregions\t3\n");
  commit("two");
  std::string weighing = test::read_file(in("before.json"));
  const std::string bytes = "\"code_bytes\": ";
  weighing.insert(weighing.rfind(bytes) + bytes.size(), "1");
  folder_->write("then/before.json", weighing);
  commit("three");
  const auto recorded = recorded_times(in("charging.baseline"), 5);
  ASSERT_TRUE(recorded) << test::messages(recorded.error());
  ASSERT_EQ(recorded->size(), 2U);
  EXPECT_EQ(recorded->at(0).times.size(), view_->queries.size());
  EXPECT_EQ(recorded->at(1).times, (std::map<std::string, std::int64_t>{{"monthly", 7'000'000}, {"regions", 3}}));
  const auto weights = recorded_weights(in("before.json"), 1);
  ASSERT_TRUE(weights) << test::messages(weights.error());
  ASSERT_EQ(weights->size(), 1U);
  EXPECT_GT(weights->at(0).bytes, view_->weighing.file_bytes);

  settings.ask_queries = false;
  const auto gathered = overview(*dataset, settings);
  ASSERT_TRUE(gathered) << test::messages(gathered.error());
  ASSERT_EQ(gathered->history.size(), 3U);
  EXPECT_EQ(*gathered->history[0].bytes, view_->weighing.file_bytes);
  EXPECT_FALSE(gathered->history[1].bytes);
  EXPECT_EQ(gathered->history[2].bytes, weights->at(0).bytes);
  const std::string path = folder_->path("history.html");
  ASSERT_TRUE(write_page(*gathered, path));
  browser_->open(path);
  see_all();
  // A chart for each query, and one for the bytes.
  EXPECT_EQ(browser_->run("return document.querySelectorAll('#revisions svg').length"), view_->queries.size() + 1);
  std::vector<std::string> shown;
  for (const auto& row : rows("revisions")) {
    if (row[2] == "query monthly") shown.push_back(row[3]);
  }
  EXPECT_EQ(shown,
            (std::vector<std::string>{base::format_nanoseconds(recorded->at(0).times.at("monthly")), "7.00 ms"}));
  expect_accessible("history");
  expect_quiet("history");
}

// What is wrong with a model is said where everybody looks first, and the rest is shown.
TEST_F(PageTest, TellsWhatIsBrokenAndLeftOut) {
  const test::SmallModel model(
      "table e from csv \"e.csv\" { a integer  b text }\ntable d from csv \"d.csv\" { key k integer }\nlink e.a -> "
      "d.k\n"
      "measure bad = nosuch(1)\nmeasure n = count(e)\nquery q { by e.b show n, bad }\nquery r { by e.b show n }\n",
      {{"e.csv", "a,b\n"}, {"d.csv", "k\n1\n1\n"}});
  Options options;
  options.reading.disable_wrong = true;
  const auto gathered = overview(model.open(options));
  ASSERT_TRUE(gathered) << test::messages(gathered.error());
  const std::string path = folder_->path("broken.html");
  ASSERT_TRUE(write_page(*gathered, path));
  browser_->open(path);
  see_all();
  const std::string said = browser_->run("return document.querySelector('#glance .messages').textContent");
  for (const char* const code : {"JR-515", "JR-205", "JR-220"}) EXPECT_NE(said.find(code), std::string::npos) << said;
  EXPECT_EQ(browser_->run("return Array.from(document.querySelectorAll('#queries h3')).map((h) => h.textContent)"),
            json({"r"}));
  EXPECT_GT(browser_->run("return document.querySelectorAll('#diagram .broken').length"), 0);
  expect_accessible("a broken model");
  expect_quiet("a broken model");
}

TEST_F(PageTest, TakesTheNameOfNoOtherFile) {
  const std::string path = folder_->write("notes.html", "<!doctype html><p>mine");
  const auto refused = write_page(*view_, path);
  ASSERT_FALSE(refused);
  EXPECT_EQ(refused.error()[0].code, "JR-011");
  EXPECT_EQ(test::read_file(path), "<!doctype html><p>mine");
  EXPECT_TRUE(write_page(*view_, page()));
  const auto run = test::run_tool({"report", folder_->path("charging.ridge"), "--output", folder_->path("page.html")});
  EXPECT_EQ(run.status, 0) << run.err;
}

TEST_F(PageTest, AReaderSeesNothingThatIsHidden) {
  Options options;
  options.reading.reader = "coast";  // cards' numbers are hidden from it
  const auto dataset = Dataset::open(folder_->path("charging.ridge"), options);
  ASSERT_TRUE(dataset) << test::messages(dataset.error());
  const auto gathered = overview(*dataset);
  ASSERT_TRUE(gathered) << test::messages(gathered.error());
  std::string text;
  render_page(*gathered, [&](std::string_view part) { text += part; });
  for (const Distribution& d : gathered->distributions) EXPECT_FALSE(d.table == "sessions" && d.column == "card_id");
  EXPECT_EQ(text.find("id=\"findings\""), std::string::npos);
  const std::string path = folder_->write("coast.html", text);
  browser_->open(path);
  see_all();
  EXPECT_EQ(browser_->run("return document.title"), "Tideline charging network, as the reader coast sees it");
  EXPECT_EQ(browser_->run("return Array.from(document.querySelectorAll('.leads')).filter((b) => b.textContent === "
                          "'sessions.card_id').length"),
            0);
  const json regions = browser_->run("return JSON.parse(document.getElementById('data').textContent)");
  for (std::size_t i = 0; i < regions["treemap"]["values"].size(); ++i) {
    if (gathered->distributions[i].table + "." + gathered->distributions[i].column != "stations.region") continue;
    EXPECT_EQ(regions["treemap"]["values"][i]["top"].size(), 1U) << regions["treemap"]["values"][i].dump();
  }
  expect_accessible("a reader's page");
  expect_quiet("a reader's page");
}

}  // namespace
}  // namespace juniper::page_test
