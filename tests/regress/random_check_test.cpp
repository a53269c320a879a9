// Random models: one changed definition is found in every query that shows it, directly or through others, and in no
// other.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <random>
#include <set>

#include "juniper/baseline.h"
#include "support/support.h"

namespace juniper::random_check_test {
namespace {

struct Made {
  std::vector<std::string> definitions;      // of measures m0, m1, …
  std::vector<std::set<std::size_t>> rests;  // the measures that each rests on, itself among them
  std::vector<std::set<std::size_t>> shows;  // the measures that each query shows
};

Made make(std::mt19937_64& random) {
  Made made;
  const std::size_t measures = 4 + random() % 8;
  for (std::size_t m = 0; m < measures; ++m) {
    std::set<std::size_t> rests{m};
    std::string definition;
    if (m < 2 || random() % 3 == 0) {
      definition = fmt::format("sum(x + {} for fact)", random() % 9);
    } else {
      const std::size_t a = random() % m;
      const std::size_t b = random() % m;
      // Whatever changes in a part changes in the whole: sums of positive numbers.
      definition =
          random() % 2 == 0 ? fmt::format("m{} + 2 * m{}", a, b) : fmt::format("m{} + (m{} across dim.name)", a, b);
      for (const std::size_t part : {a, b}) rests.insert(made.rests[part].begin(), made.rests[part].end());
    }
    made.definitions.push_back(definition);
    made.rests.push_back(rests);
  }
  for (std::size_t q = 2 + random() % 6; q > 0; --q) {
    std::set<std::size_t> shown;
    for (std::size_t n = 1 + random() % 3; n > 0; --n) shown.insert(random() % measures);
    made.shows.push_back(shown);
  }
  return made;
}

std::string text_of(const Made& made) {
  std::string text =
      "table fact from csv \"fact.csv\" { key id integer  dim_id integer  x integer }\n"
      "table dim from csv \"dim.csv\" { key dim_id integer  name text }\nlink fact.dim_id -> dim.dim_id\n";
  for (std::size_t m = 0; m < made.definitions.size(); ++m)
    text += fmt::format("measure m{} = {}\n", m, made.definitions[m]);
  for (std::size_t q = 0; q < made.shows.size(); ++q) {
    std::string list;
    for (const std::size_t m : made.shows[q]) list += fmt::format("{}m{}", list.empty() ? "" : ", ", m);
    text += q % 3 == 0 ? fmt::format("query q{} {{ show {} }}\n", q, list)
                       : fmt::format("query q{} {{ by dim.name show {} total grand }}\n", q, list);
  }
  return text;
}

TEST(RandomCheck, AChangedMeasureIsFoundWhereItShowsAndNowhereElse) {
  const std::uint64_t seed = test::test_seed(17);
  fmt::print("seed {}\n", seed);
  std::mt19937_64 random(seed);
  std::size_t different = 0;
  std::size_t same = 0;
  const std::size_t models = test::test_count(60);
  for (std::size_t i = 0; i < models; ++i) {
    Made made = make(random);
    const test::SmallModel model(text_of(made), {{"fact.csv", "id,dim_id,x\n1,1,5\n2,1,7\n3,2,1\n4,9,2\n"},
                                                 {"dim.csv", "dim_id,name\n1,a\n2,b\n"}});
    const std::string folder = model.folder.path("b");
    const auto recorded = baseline(model.open(), folder);
    ASSERT_TRUE(recorded) << test::messages(recorded.error());
    const std::size_t changed = random() % made.definitions.size();
    made.definitions[changed] = fmt::format("({}) + 1", made.definitions[changed]);
    model.folder.write("model.ridge", text_of(made));
    const auto report = check(model.open(), folder);
    ASSERT_TRUE(report) << test::messages(report.error());
    EXPECT_EQ(report->changed, fmt::format("measure m{}", changed));
    for (std::size_t q = 0; q < made.shows.size(); ++q) {
      bool rests = false;
      for (const std::size_t m : made.shows[q]) rests = rests || made.rests[m].contains(changed);
      EXPECT_EQ(report->queries[q].state, rests ? CheckState::different : CheckState::same)
          << "seed " << seed << ", m" << changed << ", q" << q << "\n"
          << text_of(made);
      (rests ? different : same) += 1;
    }
  }
  EXPECT_GT(different, models / 3);
  EXPECT_GT(same, models / 3);
}

}  // namespace
}  // namespace juniper::random_check_test
