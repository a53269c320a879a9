// A store that is there is never asked for what it does not hold: drawn changes of the text, the files and the options,
// one after the other, and after each the answers are those of a load from nothing.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <filesystem>
#include <fstream>
#include <map>
#include <string>
#include <vector>

#include "juniper/ask.h"
#include "juniper/dataset.h"
#include "random/random_model.h"
#include "support/support.h"
#include "support/three_ways.h"

namespace juniper::changes_test {
namespace {

using test::chance;
using test::pick;
using test::Random;
namespace fs = std::filesystem;

const std::vector<std::string> queries{
    "show n, first(tag by g for f) as a, last(tag by g for f) as b, list(tag, \"\" for f) as l, sum(x for f) as s",
    "by f.g show n, first(id by x for f) as a, last(id by x for f) as b, max(c1 for f) as c, max(c2 for f) as d",
    "by d.name show n, sum(alt.w for f) as w, sum(d.w for f) as v, max(c2 for f) as c",
    "show max(c1 for f) as c, max(c2 for f) as d, count(distinct c1 for f) as n1, count(e) as n2"};

// What a person has on the disk and in the text, and may change.
struct Folder {
  explicit Folder(Random& drawn) : random(drawn) {
    options.today = 20'000;
    write_facts("2024/s.csv");
    write_facts("2025/s.csv");
    write_facts("2025/t.csv");
    dimension.resize(3 + pick(random, 5), 0);
    write_others();
    write_text();
  }

  // Does one thing, and says what.
  std::string change() {
    switch (pick(random, 15)) {
      case 0:
        source = pick(random, sources.size());
        break;
      case 1:
        key = !key;
        break;
      case 2:
        sorted = pick(random, 3);
        break;
      case 3:
        first_column = pick(random, columns.size());
        break;
      case 4:
        second_column = pick(random, columns.size());
        break;
      case 5:
        default_low = static_cast<int>(pick(random, 5));
        break;
      case 6:
        facts = pick(random, 3);
        write_facts(fact_files[facts]);
        return "facts anew in " + fact_files[facts];
      case 7:
        facts = pick(random, 3);
        append_facts(fact_files[facts]);
        return "facts added to " + fact_files[facts];
      case 8:
        for (int& w : dimension) w = static_cast<int>(pick(random, 100));
        write_others();
        return "other links";
      case 9:
        empty_rows = pick(random, 3);
        write_others();
        return "rows of the table that is mostly empty";
      case 10:
        options.reading.settings.clear();
        if (chance(random, 60)) options.reading.settings["low"] = std::to_string(pick(random, 5));
        return "--set low";
      case 11:
        options.today = 20'000 + static_cast<std::int64_t>(pick(random, 3));
        return "--today";
      case 12:
        order = static_cast<RowOrder>(pick(random, 3));
        return "--order";
      case 13:
        measure = pick(random, measures.size());
        break;
      default:
        // As tar leaves them: other bytes of the same number, of the same time.
        level_times();
        return "files of one time";
    }
    write_text();
    return "another text";
  }

  void write_text() const {
    std::string text = fmt::format("param low = {}\n", default_low);
    text += fmt::format(
        "table f from csv \"{}\"{} {{ {}id integer  g integer  x integer  dk integer  tag text\n  c1 = {}\n  c2 = "
        "{}\n}}\n",
        sources[source], sorted == 1 ? " sorted by g" : (sorted == 2 ? " sorted by (tag, g)" : ""), key ? "key " : "",
        columns[first_column], columns[second_column]);
    text +=
        "table d from csv \"d.csv\" { key a integer  key b integer  name text  w integer }\n"
        "table e from csv \"e.csv\" { k integer  remark text }\n"
        "link f.dk -> d.a\nlink f.dk -> d.b as alt\nmeasure n = " +
        measures[measure] + "\n";
    folder.write("m.ridge", text);
  }

  std::string path() const { return folder.path("m.ridge"); }

  Random& random;
  test::TempFolder folder;
  Options options;
  RowOrder order = RowOrder::as_before;

 private:
  std::string fact_rows(std::size_t count) {
    std::string text;
    for (std::size_t i = 0; i < count; ++i) {
      text += fmt::format("{},{},{},{},{}\n", next_id = (next_id * 7919 + 12'345) % 100'003, pick(random, 3),
                          pick(random, 9), pick(random, 9), "abc"[pick(random, 3)]);
    }
    return text;
  }
  void write_facts(const std::string& name) { folder.write(name, "id,g,x,dk,tag\n" + fact_rows(5 + pick(random, 40))); }
  void append_facts(const std::string& name) {
    std::ofstream(folder.path(name), std::ios::app) << fact_rows(1 + pick(random, 9));
  }
  void write_others() {
    std::string text = "a,b,name,w\n";
    for (std::size_t i = 0; i < dimension.size(); ++i)
      text += fmt::format("{},{},{},{}\n", i, dimension.size() - 1 - i, std::string(1, static_cast<char>('a' + i % 3)),
                          dimension[i]);
    folder.write("d.csv", text);
    text = "k,remark\n";
    for (std::size_t i = 0; i < empty_rows; ++i) text += fmt::format("{},\n", i);
    folder.write("e.csv", text);
  }
  void level_times() {
    folder.write("2024/s.csv", "id,g,x,dk,tag\n1,1,1,1,a\n2,2,2,2,b\n");
    folder.write("2025/s.csv", "id,g,x,dk,tag\n3,1,5,2,c\n4,2,6,1,a\n");
    const auto time = fs::last_write_time(folder.path("2024/s.csv"));
    fs::last_write_time(folder.path("2025/s.csv"), time);
  }

  const std::vector<std::string> fact_files{"2024/s.csv", "2025/s.csv", "2025/t.csv"};
  const std::vector<std::string> sources{"2024/s.csv", "2025/s.csv", "2025/?.csv", "2025/t.csv"};
  const std::vector<std::string> columns{"x + 1",
                                         "x + 2",
                                         "case when x > low then 1 else 0 end",
                                         "case when x > -low then 1 else 0 end",
                                         "d.w",
                                         "alt.w",
                                         "d.w + low",
                                         "days_between(date \"2024-01-01\", today())",
                                         "n of this",
                                         "(n across everything)",
                                         "max(y.x for y in f where y.g = this.g)"};
  const std::vector<std::string> measures{"count(f)", "sum(x for f)", "count(f where x > low)"};
  std::size_t measure = 0;
  std::size_t source = 0;
  bool key = true;
  std::size_t sorted = 0;
  std::size_t first_column = 0;
  std::size_t second_column = 4;
  int default_low = 2;
  std::size_t facts = 0;
  std::vector<int> dimension;
  std::size_t empty_rows = 0;
  std::size_t next_id = 1;
};

Question question_of(const std::string& text) {
  Question question;
  question.query = text;
  return question;
}

// Each answer, or the messages that stand in its place.
std::vector<Result<QueryResult>> answers(const Result<Dataset>& dataset) {
  std::vector<Result<QueryResult>> all;
  for (const std::string& query : queries)
    all.push_back(dataset ? ask(*dataset, question_of(query)) : Result<QueryResult>(tl::unexpected(dataset.error())));
  return all;
}

// An error may name the store's file, which differs: its codes count.
std::string difference(const Result<QueryResult>& a, const Result<QueryResult>& b) {
  if (!a && !b)
    return a.error()[0].code == b.error()[0].code ? "" : test::messages(a.error()) + test::messages(b.error());
  return test::answer_difference(a, b);
}

TEST(Changes, AnswersAreThoseOfALoadFromNothing) {
  const std::uint64_t first = test::test_seed(1);
  const std::size_t sequences = test::test_count(12);
  constexpr int steps = 20;
  for (std::uint64_t seed = first; seed < first + sequences; ++seed) {
    Random random(seed);
    Folder folder(random);
    std::string done;
    for (int step = 0; step < steps; ++step) {
      done += folder.change() + "; ";
      SCOPED_TRACE(fmt::format("seed {}: {}", seed, done));
      // Some look at the store between two changes, and some load it by the command.
      if (chance(random, 30)) {
        LoadSettings settings;
        settings.order = folder.order;
        const auto loaded = load(folder.path(), folder.options, settings);
        if (loaded) {
          const auto verified = verify(folder.path(), folder.options);
          EXPECT_TRUE(verified) << test::messages(verified.error());
        }
      }
      const auto now = answers(Dataset::open(folder.path(), folder.options));
      Options elsewhere = folder.options;
      elsewhere.store = folder.folder.path("fresh.jrs");
      fs::remove(elsewhere.store);
      const auto fresh = answers(Dataset::open(folder.path(), elsewhere));
      const auto model = Model::read(folder.path(), folder.options.reading);
      for (std::size_t q = 0; q < queries.size(); ++q) {
        EXPECT_EQ(difference(now[q], fresh[q]), "") << queries[q];
        // What both stores would have wrong, the files tell.
        if (!model || !now[q]) continue;
        EXPECT_EQ(difference(now[q], ask_files(*model, question_of(queries[q]), folder.options)), "") << queries[q];
      }

      // The store by itself, once a load has given it the text of now, answers as the text does, or not at all where it
      // was made with other settings.
      const auto loaded = load(folder.path(), folder.options);
      EXPECT_EQ(loaded.has_value(), fresh[0].has_value());
      Options alone = folder.options;
      if (chance(random, 50)) alone.reading.settings.clear();
      if (chance(random, 50)) alone.today = 20'000 + static_cast<std::int64_t>(pick(random, 3));
      const auto store = Dataset::open(folder.folder.path("m.jrs"), alone);
      if (!store) {
        const std::string code = store.error()[0].code;
        EXPECT_TRUE(!fresh[0] || code == "JR-606") << test::messages(store.error());
      } else if (fresh[0]) {
        elsewhere.reading = alone.reading;
        elsewhere.today = alone.today;
        fs::remove(elsewhere.store);
        const auto expected = answers(Dataset::open(folder.path(), elsewhere));
        const auto by_store = answers(store);
        for (std::size_t q = 0; q < queries.size(); ++q)
          EXPECT_EQ(difference(by_store[q], expected[q]), "") << queries[q];
      }
      if (testing::Test::HasFailure()) return;
    }
  }
}

}  // namespace
}  // namespace juniper::changes_test
