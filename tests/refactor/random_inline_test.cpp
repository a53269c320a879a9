// Random chains of calculated columns, inlined: the proof must hold, and so must a store that is loaded anew from the
// text that comes out.
#include <gtest/gtest.h>

#include <map>
#include <random>

#include "juniper/compare.h"
#include "juniper/refactor.h"
#include "support/support.h"

namespace juniper::random_inline_test {
namespace {

class RandomModel {
 public:
  explicit RandomModel(std::uint64_t seed) : random_(seed) {}

  std::size_t below(std::size_t n) { return random_() % n; }

  // A number over the columns so far; `columns` of them are calculated, c0 to c(n-1).
  std::string expression(std::size_t columns, int depth) {
    if (depth == 0 || below(4) == 0) {
      switch (below(5)) {
        case 0:
          return "x";
        case 1:
          return "dim.rate";
        case 2:
          return "this.y";
        case 3:
          return std::to_string(below(5));
        default:
          return columns == 0 ? "x" : "c" + std::to_string(below(columns));
      }
    }
    const std::string a = expression(columns, depth - 1);
    const std::string b = expression(columns, depth - 1);
    switch (below(8)) {
      case 0:
        return a + " + " + b;
      case 1:
        return a + " - (" + b + ")";
      case 2:
        return "-" + (a.starts_with('-') ? "(" + a + ")" : a);
      case 3:
        return "coalesce(" + a + ", " + b + ")";
      case 4:
        return "case when (" + a + ") > (" + b + ") then " + a + " else " + b + " end";
      case 5:
        return "if (" + a + ") is null then 0 else " + b;
      case 6:
        return "round(" + a + ", 1)  # rounded\n    + " + b;
      default:
        return "(" + a + ")";
    }
  }

  struct Made {
    std::string text;
    std::map<std::string, std::string> files;
    std::size_t columns;
  };

  Made make() {
    Made made;
    made.columns = 2 + below(4);
    made.text = "table fact from csv \"fact.csv\" {\n  key id integer  dim_id integer  x decimal(2)  y integer\n";
    for (std::size_t i = 0; i < made.columns; ++i)
      made.text += "  c" + std::to_string(i) + " = " + expression(i, 2) + "\n";
    made.text +=
        "}\ntable dim from csv \"dim.csv\" { key dim_id integer  rate decimal(1)  name text }\nlink fact.dim_id -> "
        "dim.dim_id\n";
    for (int m = 0; m < 3; ++m) {
      const std::string a = "c" + std::to_string(below(made.columns));
      const std::string b = "c" + std::to_string(below(made.columns));
      const std::string body = below(2) == 0 ? a + " - " + b : (below(2) == 0 ? a : "s." + a + " * 2");
      made.text += "measure m" + std::to_string(m) + " = " + (below(2) == 0 ? "sum" : "max") + "(" + body +
                   " for s in fact" + (below(2) == 0 ? " where " + b + " > 1" : "") + ")\n";
    }
    made.text += "query q { by dim.name show m0, m1, m2 total grand }\n";
    made.files["fact.csv"] = "id,dim_id,x,y\n";
    for (int i = 0; i < 40; ++i) {
      made.files["fact.csv"] += std::to_string(i) + "," + (below(6) == 0 ? "" : std::to_string(below(5))) + "," +
                                (below(6) == 0 ? "" : std::to_string(below(900)) + "." + std::to_string(below(10))) +
                                "," + (below(6) == 0 ? "" : std::to_string(below(20))) + "\n";
    }
    made.files["dim.csv"] = "dim_id,rate,name\n0,1.5,a\n1,,b\n2,0.3,a\n3,-2,\n";
    return made;
  }

 private:
  std::mt19937_64 random_;
};

TEST(RandomInline, KeepsEveryRowAndEveryQuery) {
  const std::uint64_t seed = test::test_seed(77);
  std::cout << "seed " << seed << "\n";
  std::size_t inlined = 0;
  std::size_t removed = 0;
  std::size_t functions = 0;
  const std::size_t models = test::test_count(60);
  for (std::uint64_t number = 0; number < models; ++number) {
    RandomModel generator(seed + number * 7919);
    const RandomModel::Made made = generator.make();
    const test::SmallModel model(made.text, made.files);
    const Dataset dataset = model.open();
    const auto before = ask(dataset, {"q", {}});
    ASSERT_TRUE(before) << made.text;
    for (std::size_t c = 0; c < made.columns; ++c) {
      const auto change = refactor(dataset, "inline fact.c" + std::to_string(c));
      ASSERT_TRUE(change) << "seed " << seed << "\n" << made.text << test::messages(change.error());
      ASSERT_TRUE(change->proved()) << "seed " << seed << "\n" << made.text << change->diff;
      ++inlined;
      removed += change->ledger.removed.size();
      functions += change->texts[0].after.find("\nfunction ") != std::string::npos ? 1 : 0;
      // The text alone, loaded from the files, gives the same answers.
      const test::SmallModel after(change->texts[0].after, made.files);
      const auto now = ask(after.open(), {"q", {}});
      ASSERT_TRUE(now) << change->texts[0].after;
      ASSERT_TRUE(compare(*before, *now).same()) << "seed " << seed << "\n" << change->diff;
      EXPECT_EQ(change->texts[0].after.find("c" + std::to_string(c) + " ="), std::string::npos);
    }
  }
  EXPECT_GT(inlined, 2 * models);
  EXPECT_GT(removed, inlined);  // some took others with them
  EXPECT_GT(10 * functions, inlined);
}

}  // namespace
}  // namespace juniper::random_inline_test
