#include "language/parser.h"

#include <gtest/gtest.h>

#include <random>

#include "demo/model_text.h"
#include "language/check.h"
#include "language/lexer.h"
#include "support/support.h"

namespace juniper::language::parser_test {
namespace {

struct Parsed {
  Sources sources;
  Diagnostics diagnostics;
  syntax::Model model;
};

Parsed parse(const std::string& text) {
  Parsed parsed;
  const std::uint32_t file = parsed.sources.add({"model.ridge", text});
  parsed.model = parse_model(parsed.sources, file, parsed.diagnostics);
  return parsed;
}

// "code line:column" of each problem.
std::string problems(const Diagnostics& diagnostics) {
  std::string text;
  for (const Diagnostic& d : diagnostics) {
    text +=
        (text.empty() ? "" : ", ") + d.code + " " + std::to_string(d.place.line) + ":" + std::to_string(d.place.column);
  }
  return text;
}

TEST(Lexer, SplitsNamesNumbersTextsAndSymbols) {
  Sources sources;
  const std::uint32_t file =
      sources.add({"t", "a_1 `Cost Total $` 42 0.45 1.5e3 \"x\\n\\\"y\\\"\" <> <= -> || # gone\n= ."});
  Diagnostics diagnostics;
  const auto tokens = tokenize(sources, file, diagnostics);
  EXPECT_TRUE(diagnostics.empty());
  std::vector<std::string> texts;
  for (const Token& t : tokens) texts.push_back(t.text);
  EXPECT_EQ(texts, (std::vector<std::string>{"a_1", "Cost Total $", "42", "0.45", "1.5e3", "x\n\"y\"", "<>", "<=", "->",
                                             "||", "=", ".", ""}));
  EXPECT_EQ(to_string(tokens[3].type), "decimal(2)");
  EXPECT_EQ(to_string(tokens[4].type), "real");
  EXPECT_TRUE(tokens[0].starts_line);
  EXPECT_FALSE(tokens[1].starts_line);
  EXPECT_TRUE(tokens[10].starts_line);
}

TEST(Lexer, TellsWhatIsNotWellFormed) {
  struct Case {
    std::string text;
    std::string expected;
  };
  for (const Case& c :
       {Case{"model \"x", "JR-104 1:7"}, Case{"model \"a\\qb\"", "JR-103 1:9"}, Case{"measure `x = 1", "JR-104 1:9"},
        Case{"model 'x'", "JR-105 1:7"}, Case{"measure a = 0.1234567890123456789", "JR-102 1:13"},
        Case{"measure a = 99999999999999999999", "JR-102 1:13"}, Case{"model \"\xff\"", "JR-101 1:8"},
        Case{"measure ä = 1", "JR-105 1:9"}}) {
    EXPECT_EQ(problems(parse(c.text).diagnostics).substr(0, c.expected.size()), c.expected) << c.text;
  }
}

TEST(Lexer, WritesNamesAndTextsSoThatTheyAreReadBack) {
  for (const std::string name : {"plain", "Cost Total $", "in", "9lives", "a-b"}) {
    Sources sources;
    const std::uint32_t file = sources.add({"t", written_name(name) + " " + written_text(name + "\"\\\n\t")});
    Diagnostics diagnostics;
    const auto tokens = tokenize(sources, file, diagnostics);
    ASSERT_TRUE(diagnostics.empty());
    EXPECT_EQ(tokens[0].text, name);
    EXPECT_EQ(tokens[1].text, name + "\"\\\n\t");
  }
}

TEST(Parser, ReadsEveryDeclaration) {
  const Parsed parsed = parse(R"(
model "Small"
hidden table sessions from csv "data/s-*.csv" (delimiter ";") "the fact" {
  key id integer from "Session Id"  hidden row_no integer
  energy decimal(3) format "0.0" "in kWh" used by "finance" used by "audit"
  started datetime flag boolean at time day date share real
  key text
  twice = energy * 2 format "0.00"
  name = case when energy > 3 then "big" else "small" end sorted by energy
}
link sessions.day -> days.day as start
hidden measure total = sum(s.energy for s in sessions where s.energy > 1) format "0" "note"
query all "All of it" { by days.year as y, days.month show total, half = total / 2, total * 2 as double where days.year in (1, 2) total grand, y, (y, days.month) sort y desc, total limit 10 from sessions }
)");
  EXPECT_EQ(test::messages(parsed.diagnostics), "");
  ASSERT_EQ(parsed.model.tables.size(), 1U);
  const syntax::Table& table = parsed.model.tables[0];
  EXPECT_TRUE(table.hidden);
  EXPECT_EQ(table.source, (base::SourcePlace{base::SourceKind::csv, "data/s-*.csv", {}, ';', {}}));
  EXPECT_EQ(table.description, "the fact");
  std::vector<std::string> names;
  for (const syntax::Column& c : table.columns) names.push_back(c.name.text);
  EXPECT_EQ(names, (std::vector<std::string>{"id", "row_no", "energy", "started", "flag", "at", "day", "share", "key",
                                             "twice", "name"}));
  EXPECT_TRUE(table.columns[0].key);
  EXPECT_EQ(*table.columns[0].header, "Session Id");
  EXPECT_TRUE(table.columns[1].hidden);
  EXPECT_EQ(table.columns[2].attributes.used_by, (std::vector<std::string>{"finance", "audit"}));
  EXPECT_EQ(table.columns[2].attributes.description, "in kWh");
  EXPECT_FALSE(table.columns[8].key);
  EXPECT_EQ(table.columns[10].attributes.sorted_by->text, "energy");
  EXPECT_EQ(parsed.model.links[0].role->text, "start");
  EXPECT_TRUE(parsed.model.measures[0].hidden);
  const syntax::Query& query = parsed.model.queries[0];
  EXPECT_EQ(query.title, "All of it");
  EXPECT_EQ(query.by[0].alias->text, "y");
  EXPECT_EQ(query.show[1].alias->text, "half");
  EXPECT_EQ(query.show[2].alias->text, "double");
  ASSERT_EQ(query.totals.size(), 3U);
  EXPECT_EQ(query.totals[2].kept.size(), 2U);
  EXPECT_TRUE(query.sort[0].descending);
  EXPECT_EQ(query.limit, 10U);
  EXPECT_EQ(query.from->text, "sessions");
}

TEST(Parser, SpansCoverWhatWasWritten) {
  const Parsed parsed = parse("measure a = (sum(x + 1 for t where x in (1, 2)) / 2)  format \"0\"\n");
  const syntax::Measure& measure = parsed.model.measures[0];
  EXPECT_EQ(parsed.sources.text(measure.span), "measure a = (sum(x + 1 for t where x in (1, 2)) / 2)  format \"0\"");
  EXPECT_EQ(parsed.sources.text(measure.expression->span), "(sum(x + 1 for t where x in (1, 2)) / 2)");
  const syntax::Expression& sum = *measure.expression->children[0];
  EXPECT_EQ(parsed.sources.text(sum.span), "sum(x + 1 for t where x in (1, 2))");
  EXPECT_EQ(parsed.sources.text(sum.rows->condition->span), "x in (1, 2)");
}

// The tree of an expression, in brackets, to see what binds how.
std::string shape(const syntax::Expression& e, const Sources& sources) {
  if (e.children.empty()) return std::string(sources.text(e.span));
  std::string text = "(" + (e.word.empty() ? std::string("?") : e.word);
  for (const auto& child : e.children) text += " " + (child ? shape(*child, sources) : "-");
  return text + ")";
}

TEST(Parser, OperatorsBindAsInSql) {
  struct Case {
    std::string text;
    std::string expected;
  };
  for (const Case& c :
       {Case{"1 + 2 * 3", "(+ 1 (* 2 3))"}, Case{"1 - 2 - 3", "(- (- 1 2) 3)"},
        Case{"8 / 4 div 2 mod 3", "(mod (div (/ 8 4) 2) 3)"},
        Case{"a or b and not c = 1", "(or a (and b (not (= c 1))))"}, Case{"not a and b", "(and (not a) b)"},
        Case{"-a * b", "(* (- a) b)"}, Case{"a between 1 and 2 and b", "(and (between a 1 2) b)"},
        Case{"a + 1 in (1, 2) or b", "(or (in (+ a 1) 1 2) b)"}, Case{"a || b = c || d", "(= (|| a b) (|| c d))"},
        Case{"if a then 1 else 2 + 3", "(if a 1 (+ 2 3))"}, Case{"case x when 1 then a end", "(case (= x 1) a -)"}}) {
    Sources sources;
    Diagnostics diagnostics;
    const auto tree = parse_expression(sources, sources.add({"e", c.text}), diagnostics);
    ASSERT_TRUE(tree) << c.text << test::messages(diagnostics);
    EXPECT_EQ(shape(*tree, sources), c.expected) << c.text;
  }
}

TEST(Parser, ReportsEveryErrorOfAFile) {
  const Parsed parsed = parse(R"(model
table a from csv "a.csv" {
  key id intger
      x decimal
      y integer
      z = 1 +
      w text
}
tabel b
measure m = sum(x)
measure n = sum(x for a)
query q { show n show n }
query r { by a.x, show n }
link a.x - b.y
)");
  EXPECT_EQ(problems(parsed.diagnostics),
            "JR-110 2:1, JR-113 3:10, JR-110 5:7, JR-113 8:1, JR-110 9:1, JR-118 10:18, JR-114 12:18, JR-110 13:24, "
            "JR-110 14:10")
      << test::messages(parsed.diagnostics);
  EXPECT_EQ(parsed.model.measures.size(), 1U);
}

TEST(Parser, SuggestsTheTextToWrite) {
  EXPECT_NE(test::messages(parse("mesure a = 1").diagnostics).find("did you mean 'measure'?"), std::string::npos);
  EXPECT_NE(test::messages(parse("table a from csv \"a\" { x intger }").diagnostics).find("did you mean 'integer'?"),
            std::string::npos);
  EXPECT_NE(test::messages(parse("measure a = max(x, y)").diagnostics).find("greatest(a, b)"), std::string::npos);
  EXPECT_NE(test::messages(parse("measure a = 'x'").diagnostics).find("double quotes"), std::string::npos);
  EXPECT_NE(test::messages(parse("measure a = 1 < 2 < 3").diagnostics).find("a < b and b < c"), std::string::npos);
}

TEST(Parser, ReadsTheWholeLanguage) {
  for (const std::string text :
       {"param p = 1",
        "calendar days.day periods (year)",
        "include \"x.ridge\"",
        "measure a = revenue across stations",
        "measure a = (revenue where x = 1)",
        "measure a = max(revenue of s for s in stations)",
        "measure a = median(x for t)",
        "measure a = sum(x for sessions of this)",
        "measure a = let (b = 1) b",
        "measure a = sum(x for top 3 t by y)",
        "measure a = (revenue during to_date(year))",
        "query q { show a having a > 1 }",
        "table a = distinct(b.c)",
        "link a.(x, y) -> b.(x, y)",
        "measure a = rank(x among y for t)",
        "measure a = let (d = max(x for t), r = t where y > d) count(r)",
        "measure a = revenue of s via role across (a, b.c) during shift(-2 month) where x.y = 1 and x.z = 2",
        "measure a = sum(x for t of s via role across everything but (a, b) where y = 1)",
        "measure a = count(distinct x for t)",
        "measure a = count(distinct(a.x, b.y as z for t where q))",
        "measure a = avg(g.k for g in group t by (x, hour(y) as h) with (k = sum(e for rows), n = count(rows)))",
        "measure a = list(x, \", \" for (t with d = x || y) sorted by (d desc, x))",
        "measure a = first(x by (k1 desc, k2) for t)",
        "measure a = exists(union(t where a, except(t, intersect(t, t))))",
        "measure a = quantile(0.9, x for t) / only(t.x) + grouping(t.x)",
        "query q { with measure b = (a where x.y = 1) by t.x show b keep empty }",
        "query q { show (revenue across stations) as all_stations where x.y = 1 }"}) {
    const Parsed parsed = parse(text);
    EXPECT_TRUE(parsed.diagnostics.empty()) << text << "\n" << test::messages(parsed.diagnostics);
  }
}

TEST(Parser, WhatAModifierTakesMustBePlain) {
  for (const auto& [text, fix] : std::vector<std::pair<std::string, std::string>>{
           {"measure a = revenue / revenue across stations",
            "revenue / (revenue across …) or (revenue / revenue) across …"},
           {"measure a = -revenue across stations", "-(revenue across …) or (-revenue) across …"},
           {"measure a = sum(x for t) across stations", "(sum(x for t)) across …"},
           {"measure a = (revenue across a) / energy across b", "or ("},
           {"measure a = revenue across a of s", "in this order"},
           {"measure a = revenue across a across b", "each at most once"},
           {"measure a = sum(x for t across a of s)", "the order is"}}) {
    const Parsed parsed = parse(text);
    EXPECT_EQ(test::codes(parsed.diagnostics), "JR-119") << text << "\n" << test::messages(parsed.diagnostics);
    EXPECT_NE(test::messages(parsed.diagnostics).find(fix), std::string::npos) << test::messages(parsed.diagnostics);
  }
}

TEST(Parser, DeepNestingIsAnErrorAndNoCrash) {
  EXPECT_EQ(test::codes(parse("measure a = " + std::string(5000, '(') + "1" + std::string(5000, ')')).diagnostics),
            "JR-116");
  EXPECT_EQ(test::codes(parse("measure a = " + std::string(5000, '-') + "x").diagnostics), "JR-116");
  std::string nots = "measure a = ";
  std::string chain = "measure a = 1";
  for (int i = 0; i < 5000; ++i) {
    nots += "not ";
    chain += " + 1";
  }
  EXPECT_EQ(test::codes(parse(nots + "true").diagnostics), "JR-116");
  EXPECT_EQ(test::codes(parse(chain).diagnostics), "JR-116");
}

// Whatever stands in a file, the parser and the checker give a tree or messages.
TEST(Parser, DamagedTextsNeverCrash) {
  const std::uint64_t seed = test::test_seed(11);
  std::mt19937_64 random(seed);
  const std::string good(demo::model_text());
  const std::vector<std::string> pieces{"(",       ")",         "{",      "}",    "\"",   "`", "sum(", " for ",
                                        " where ", "case ",     " end",   ",",    "=",    "-", "1e",   "\n",
                                        "link ",   "query x {", "total ", "\xC3", "not ", ".", "->",   "in ("};
  for (int i = 0; i < 400; ++i) {
    std::string text = good;
    for (std::uint64_t edits = 1 + random() % 4; edits > 0; --edits) {
      const std::size_t at = random() % text.size();
      switch (random() % 3) {
        case 0:
          text.erase(at, 1 + random() % 40);
          break;
        case 1:
          text.insert(at, pieces[random() % pieces.size()]);
          break;
        default:
          text[at] = static_cast<char>(random() % 256);
      }
    }
    Parsed parsed = parse(text);
    const CheckedModel checked = check_model(parsed.model, parsed.sources, {}, parsed.diagnostics);
    for (const Diagnostic& d : parsed.diagnostics) {
      ASSERT_FALSE(d.message.empty()) << "seed " << seed;
      ASSERT_NE(d.place.line, 0U) << "seed " << seed << " " << d.message;
    }
    (void)render(parsed.diagnostics);
  }
}

}  // namespace
}  // namespace juniper::language::parser_test
