// The one layout: what it looks like, and that it changes nothing but blanks.
#include <gtest/gtest.h>

#include "juniper/format.h"
#include "language/lexer.h"
#include "random/random_query.h"
#include "support/support.h"

namespace juniper::layout_test {
namespace {

std::string laid_out(const std::string& text) {
  const auto made = canonical_layout(text);
  return made ? *made : test::messages(made.error());
}

// The tokens as they are written, and the comments, in their order.
std::vector<std::string> pieces(const std::string& text) {
  language::Sources sources;
  Diagnostics diagnostics;
  const auto tokens = language::tokenize(sources, sources.add({"text", text}), diagnostics);
  std::vector<std::string> all;
  std::size_t end = 0;
  for (const language::Token& token : tokens) {
    for (std::size_t at = text.find('#', end); at < token.span.begin; at = text.find('#', at)) {
      const std::size_t line_end = std::min(text.find('\n', at), text.size());
      std::string comment = text.substr(at, line_end - at);
      comment.erase(comment.find_last_not_of(" \r\t") + 1);
      all.push_back(comment);
      at = line_end;
    }
    all.push_back(text.substr(token.span.begin, token.span.end - token.span.begin));
    end = token.span.end;
  }
  return all;
}

const std::string untidy = R"--(# the network


param   min_price=0.45 "From where"   # a tariff is dear
param x = -1
table sessions from csv "s.csv"(delimiter ";") { key session_id integer started datetime
  # from the meter
  energy_kwh decimal( 3 ) from "Energy (kWh)" format "#,##0.0"
hidden row_no integer


 price=tariffs.price  total = case when energy_kwh>=40 then -price
   else price*( 2+1 ) end format "0.0"}
link sessions.tariff_code->tariffs.tariff_code
link sessions.day -> days.day as end_date
measure revenue=sum(price for sessions where not(price in(1,2))) "Sold"
measure n = count( sessions )
query monthly "By month" { show revenue,
n by days.month total (days.year,days.month), grand keep empty with measure n = 3 - -1}
# the end
)--";

const std::string tidy = R"--(# the network

param min_price = 0.45  "From where"  # a tariff is dear
param x         = -1

table sessions from csv "s.csv" (delimiter ";") {
  key    session_id  integer
         started     datetime
  # from the meter
         energy_kwh  decimal(3)  from "Energy (kWh)"  format "#,##0.0"
  hidden row_no      integer

  price = tariffs.price
  total = case when energy_kwh >= 40 then -price
      else price * (2 + 1) end  format "0.0"
}

link sessions.tariff_code -> tariffs.tariff_code
link sessions.day         -> days.day as end_date
measure revenue = sum(price for sessions where not (price in (1, 2)))  "Sold"
measure n       = count(sessions)

query monthly "By month" {
  show  revenue,
        n
  by    days.month
  total (days.year, days.month), grand
  keep empty
  with measure n = 3 - -1
}

# the end
)--";

TEST(Layout, IsThatOfTheReference) {
  EXPECT_EQ(laid_out(untidy), tidy);
  EXPECT_NE(laid_out("param  n = ").find("JR-110"), std::string::npos);
}

TEST(Layout, OfTheDemoIsItsOwn) {
  const std::string demo = test::read_file(std::string(JUNIPER_SOURCE_DIR) + "/demo/small/charging.ridge");
  EXPECT_EQ(laid_out(demo), demo);
}

// Random models with other blanks, breaks and comments between their tokens.
TEST(Layout, ChangesBlanksAloneAndIsStable) {
  const std::uint64_t seed = test::test_seed(2613);
  test::Random random(seed);
  for (int i = 0; i < 150; ++i) {
    const test::RandomModel model = test::random_model(random, 3);
    const auto query = test::random_query(random, model);
    const std::string plain = model.text() + "\nquery q { " + query.text() + " }\n";
    std::string text;
    for (const std::string& piece : pieces(plain)) {
      text += piece;
      if (piece.starts_with("#") || test::chance(random, 10)) text += '\n';
      if (test::chance(random, 2)) text += " # why " + std::to_string(text.size()) + "  \n";
      if (test::chance(random, 3)) text += "\n\n\n# a line\r\n";
      text += test::chance(random, 5) ? "\t  " : " ";
    }
    const auto once = canonical_layout(text);
    ASSERT_TRUE(once) << "seed " << seed << "\n" << test::messages(once.error()) << text;
    EXPECT_EQ(pieces(*once), pieces(text)) << "seed " << seed;
    EXPECT_EQ(laid_out(*once), *once) << "seed " << seed;
    if (testing::Test::HasFailure()) break;
  }
}

TEST(Layout, FormatsFilesAndChecksThem) {
  const test::TempFolder folder;
  const std::string path = folder.write("a.ridge", "measure  n=count( t )\n");
  auto run = test::run_tool({"format", "--check", path});
  EXPECT_EQ(run.status, 1);
  EXPECT_NE(run.out.find("+measure n = count(t)"), std::string::npos) << run.out;
  EXPECT_EQ(test::read_file(path), "measure  n=count( t )\n");
  run = test::run_tool({"format", path});
  EXPECT_EQ(run.status, 0);
  EXPECT_EQ(run.out, path + "\n");
  EXPECT_EQ(test::read_file(path), "measure n = count(t)\n");
  run = test::run_tool({"format", "--check", path});
  EXPECT_EQ(run.status, 0);
  EXPECT_EQ(run.out, "");
  const std::string broken = folder.write("b.ridge", "measure n = count(\n");
  run = test::run_tool({"format", broken});
  EXPECT_EQ(run.status, 3);
  EXPECT_NE(run.err.find("b.ridge:"), std::string::npos) << run.err;
  EXPECT_EQ(test::read_file(broken), "measure n = count(\n");
  EXPECT_EQ(test::run_tool({"format", folder.path("none.ridge")}).status, 3);
}

}  // namespace
}  // namespace juniper::layout_test
