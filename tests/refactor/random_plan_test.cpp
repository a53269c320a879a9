// Random models and random plans over them. Of plans that are safe by construction nearly all must be accepted, and
// what comes out must answer like the model before when it is loaded from its sources alone; of plans that are known to
// change a number, or to take away what is used, all must be refused.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <random>

#include "juniper/compare.h"
#include "juniper/refactor.h"
#include "support/support.h"

namespace juniper::random_plan_test {
namespace {

class Generator {
 public:
  explicit Generator(std::uint64_t seed) : random_(seed) {}
  std::size_t below(std::size_t n) { return random_() % n; }
  bool chance(std::size_t percent) { return below(100) < percent; }
  std::string one_of(const std::vector<std::string>& words) { return words[below(words.size())]; }

  // A number over the columns of the row that `row` names ("s.", or "" for the row at hand); the first `columns`
  // calculated ones may be named.
  std::string number(std::size_t columns, int depth, const std::string& row = "") {
    if (depth == 0 || chance(25)) {
      if (columns != 0 && chance(40)) return fmt::format("{}c{}", row, below(columns));
      return one_of({row + "x", row + "y", row + "x", row + "dim.rate", "hour(" + row + "at)", "month(" + row + "at)",
                     "days_between(date(" + row + "at), date \"2025-01-01\")"});
    }
    const std::string a = number(columns, depth - 1, row);
    const std::string b = number(columns, depth - 1, row);
    return one_of({fmt::format("({} + {})", a, b), fmt::format("({} - {})", a, b), fmt::format("round({}, 1)", a),
                   fmt::format("coalesce({}, {})", a, b),
                   fmt::format("case when {0} > {1} then {0} else {1} end", a, b), fmt::format("abs({})", a),
                   fmt::format("(if {}at is null then {} else {})", row, a, b)});
  }

  struct Made {
    std::string text;
    std::map<std::string, std::string> files;
    std::vector<std::string> safe;      // steps
    std::vector<std::string> not_safe;  // plans
  };

  Made make() {
    Made made;
    const std::size_t columns = 2 + below(3);
    made.text =
        "table fact from csv \"fact.csv\" {\n  key id integer  dim_id integer  x decimal(2)  y integer  at datetime\n"
        "  level text  padded text  spare text  kind text  site text  lane text  place = site || \"-\" || lane\n";
    for (std::size_t i = 0; i < columns; ++i) {
      made.text += fmt::format("  c{} = {}\n", i, number(i, 2));
      made.safe.push_back(fmt::format("inline fact.c{}", i));
    }
    made.text += "  group_of = case when y > 5 then \"many\" else \"few\" end\n";
    made.text +=
        "}\ntable dim from csv \"dim.csv\" { key dim_id integer  rate decimal(1)  name text  note text }\n"
        "table spots from csv \"spots.csv\" { site text  lane text  label text  key place = site || \"-\" || lane }\n"
        "link fact.dim_id -> dim.dim_id\nlink fact.place -> spots.place\n";
    const std::string again = number(0, 2, "s.");
    for (int m = 0; m < 4; ++m) {
      const std::string condition = chance(40) ? fmt::format(" where {} > 1", number(columns, 1, "s.")) : "";
      made.text += fmt::format("measure m{} = {}({} for s in fact{})\n", m,
                               one_of({"sum", "max", "min", "avg", "count"}), number(columns, 2, "s."), condition);
    }
    made.text += fmt::format("measure twice = sum({0} for s in fact) + max({0} for s in fact)\n", again);
    made.text +=
        "measure levels = count(distinct level for fact) + count(distinct padded for fact)\n"
        "measure small = (m0 where fact.kind = \"a\")\nmeasure lonely = m1 + 1\n"
        "measure exact = sum(x for fact)\nmeasure rated = max(s.dim.rate for s in fact)\nmeasure last_at = max(at for "
        "fact)\nmeasure n_spots = count(spots)\n";
    made.text +=
        "query q { by dim.name show m0, m1, m2, twice total grand }\n"
        "query r { by fact.kind, fact.group_of show m2, m3, levels, small, exact, rated, last_at where dim.name <> "
        "\"b\" }\n";
    made.safe.insert(made.safe.end(),
                     {"split fact.at", "inline fact.group_of", "retype fact.level integer", "drop fact.spare",
                      "drop lonely", "drop dim.note", "relink fact.place", "trim dim",
                      // Rows are sorted as long as their key is there.
                      chance(50) ? "drop fact.id" : "reorder fact by (kind, x)"});
    made.not_safe = {"retype fact.padded integer",
                     "round fact.x integer",
                     "drop fact.kind",
                     "drop m0",
                     "drop fact.at",
                     "drop fact.dim_id",
                     "round fact.x decimal(1)",
                     "retype fact.kind integer",
                     "retype dim.rate integer",
                     "drop dim.rate",
                     "split fact.level",
                     "trim spots",
                     "relink fact.kind",
                     "drop fact.place"};
    std::string rows = "id,dim_id,x,y,at,level,padded,spare,kind,site,lane\n";
    for (int i = 0; i < 30; ++i) {
      const auto cell = [&](const std::string& text) { return chance(15) ? std::string() : text; };
      rows += fmt::format(
          "{},{},{},{},{},{},{},{},{},{},{}\n", i, cell(std::to_string(below(5))),
          cell(fmt::format("{}.{:02}", below(50), below(100))), cell(std::to_string(below(12))),
          cell(fmt::format("2024-{:02}-{:02} {:02}:{:02}:00", below(12) + 1, below(28) + 1, below(24), below(60))),
          cell(std::to_string(below(90))), fmt::format("{:03}", below(90)), cell("z"), one_of({"a", "b", "c"}),
          cell(one_of({"N", "S"})), one_of({"1", "2", "3"}));
    }
    // What makes each plan of the other kind change something.
    rows += "97,1,0.55,7,2024-05-05 05:05:00,1,001,,a,N,1\n98,2,1.45,8,,2,002,,b,S,3\n";
    made.files["fact.csv"] = rows;
    made.files["dim.csv"] = "dim_id,rate,name,note\n0,1.5,a,n\n1,,b,n\n2,0.3,a,n\n3,-2,,n\n70,9,c,n\n";
    made.files["spots.csv"] = "site,lane,label\nN,1,quay\nN,2,gate\nS,1,\nS,2,yard\nT,9,far\n";
    return made;
  }

 private:
  std::mt19937_64 random_;
};

TEST(RandomPlan, SafeOnesAreAcceptedAndOthersRefused) {
  const std::uint64_t seed = test::test_seed(4242);
  const std::size_t plans = test::test_count(60);
  fmt::print("seed {}\n", seed);
  std::size_t asked = 0;
  std::size_t accepted = 0;
  std::size_t refused = 0;
  for (std::uint64_t number = 0; asked < plans; ++number) {
    Generator generator(seed + number * 7919);
    const Generator::Made made = generator.make();
    const test::SmallModel model(made.text, made.files);
    const auto dataset = Dataset::open(model.path());
    ASSERT_TRUE(dataset) << made.text << test::messages(dataset.error());
    std::string plan;
    for (const std::string& step : made.safe) {
      if (generator.chance(45)) plan += step + "\n";
    }
    if (plan.empty()) continue;
    ++asked;
    RefactorSettings settings;
    settings.most_probes = 60;
    const auto change = refactor(*dataset, plan, settings);
    if (!change) {
      fmt::print("not accepted: {}\n{}{}", plan, made.text, test::messages(change.error()));
    } else {
      ASSERT_TRUE(change->proved()) << "seed " << seed << "\n" << made.text << plan << change->diff;
      ++accepted;
      // The text alone, loaded from the files, gives the same answers.
      const test::SmallModel after(change->texts[0].after, made.files);
      const Dataset now = after.open();
      for (const char* const query : {"q", "r", "by dim.rate, fact.kind show m0, m1, m2, m3, twice, levels total grand",
                                      "by spots.label show m0, m1, exact total grand"}) {
        const auto was = ask(*dataset, {query});
        const auto is = ask(now, {query});
        ASSERT_EQ(was.has_value(), is.has_value()) << query << plan << made.text;
        if (was) {
          ASSERT_TRUE(compare(*was, *is).same()) << "seed " << seed << "\n" << query << "\n" << plan << change->diff;
        }
      }
    }
    const std::string bad = generator.one_of(made.not_safe);
    const auto wrong = refactor(*dataset, bad, settings);
    if (wrong) {
      EXPECT_FALSE(wrong->proved()) << "seed " << seed << "\n" << bad << "\n" << made.text << wrong->diff;
      EXPECT_EQ(test::codes(write(*dataset, *wrong).error()), "JR-804");
    }
    refused += !wrong || !wrong->proved() ? 1 : 0;
  }
  fmt::print("{} plans, {} accepted; {} of the others refused\n", asked, accepted, refused);
  EXPECT_GE(static_cast<double>(accepted), 0.95 * static_cast<double>(asked));
  EXPECT_EQ(refused, asked);
}

}  // namespace
}  // namespace juniper::random_plan_test
