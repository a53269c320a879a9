// Plans that look harmless, over models that make them harmful: rows without a match on every link, uses that the text
// declares, columns that others rest on or are sorted by. A plan that is accepted is judged by what it did not look at:
// every stored column that stays, in all rows, and queries that nobody saved.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <algorithm>
#include <map>
#include <random>
#include <set>
#include <string>
#include <vector>

#include "juniper/refactor.h"
#include "support/support.h"
#include "support/three_ways.h"

namespace juniper::attacked_plan_test {
namespace {

struct Made {
  std::string text;
  std::map<std::string, std::string> files;
  std::vector<std::string> steps;
};

class Generator {
 public:
  explicit Generator(std::uint64_t seed) : random_(seed) {}
  std::size_t below(std::size_t n) { return random_() % n; }
  bool chance(std::size_t percent) { return below(100) < percent; }
  std::string one_of(const std::vector<std::string>& words) { return words[below(words.size())]; }

  Made make() {
    Made made;
    made.text = table("sessions", "key id integer  station integer  billed integer  bay integer",
                      {"energy", "price", "reading", "card"}, {"stations", "other", "bays"}) +
                table("stations", "key station integer  key code integer  area integer",
                      {"energy", "price", "reading", "card"}, {"areas"}) +
                table("areas", "key area integer", {"energy", "price", "reading", "card"}, {}) +
                table("bays", "key bay integer", {"energy", "price", "reading", "card"}, {}) +
                "link sessions.station -> stations.station\nlink sessions.billed -> stations.code as other\n"
                "link sessions.bay -> bays.bay\nlink stations.area -> areas.area\n";
    for (int m = 0; m < 5; ++m) {
      const std::string table = one_of({"sessions", "sessions", "stations", "bays"});
      made.text += fmt::format("measure m{} = {}({} for {})\n", m, one_of({"sum", "max", "min", "avg", "count"}),
                               number(table, 2), table);
    }
    made.text +=
        "measure cards = list(card, \"/\" for sessions)\nmeasure first_card = first(card by reading for sessions)\n";
    made.text += "query q { by areas.card show cards, first_card }\n";
    for (const char* const name : {"sessions", "stations", "areas", "bays"}) {
      for (const std::string& column : calculated_[name])
        made.steps.push_back(fmt::format("inline {}.{}", name, column));
      made.steps.push_back(fmt::format("round {}.energy decimal(1)", name));
      made.steps.push_back(fmt::format("round {}.price integer", name));
      made.steps.push_back(fmt::format("retype {}.price decimal(4)", name));
      made.steps.push_back(fmt::format("retype {}.reading integer", name));
      made.steps.push_back(fmt::format("drop {}.{}", name, one_of({"energy", "price", "reading", "card"})));
      made.steps.push_back(fmt::format("reorder {} by ({}, {})", name, one_of({"price", "reading"}), "card"));
      made.steps.push_back(fmt::format("trim {}", name));
    }
    fill(made.files);
    return made;
  }

 private:
  // A number over a row of a table, across its links, too.
  std::string number(const std::string& table, int depth) {
    if (depth == 0 || chance(30)) {
      std::vector<std::string> columns{"energy", "price"};
      for (const std::string& column : calculated_[table]) columns.push_back(column);
      for (const std::string& to : links_[table]) {
        const std::string target = to == "other" ? "stations" : to;
        columns.push_back(to + ".energy");
        for (const std::string& column : calculated_[target]) {
          columns.push_back(to + "." + column);
          columns.push_back(to + "." + column);
        }
      }
      return one_of(columns);
    }
    const std::string a = number(table, depth - 1);
    const std::string b = number(table, depth - 1);
    return one_of({fmt::format("({} + {})", a, b), fmt::format("coalesce({}, {})", a, b),
                   fmt::format("coalesce({}, 0)", a), fmt::format("round({}, 1)", a),
                   fmt::format("(if {} is null then 1 else {})", a, b), fmt::format("least({}, {})", a, b),
                   fmt::format("(if {} > {} then {} else 2)", a, b, a)});
  }

  std::string table(const std::string& name, const std::string& keys, const std::vector<std::string>& columns,
                    const std::vector<std::string>& links) {
    links_[name] = links;
    std::string text = fmt::format("table {0} from csv \"{0}.csv\" {{\n  {1}\n", name, keys);
    for (const std::string& column : columns) {
      const std::string type = column == "energy" ? "decimal(3)" : (column == "price" ? "decimal(2)" : "text");
      text += fmt::format("  {} {}{}{}\n", column, type, column == "card" && chance(30) ? " sorted by reading" : "",
                          chance(15) ? " used by \"the finance workbook\"" : "");
    }
    for (std::size_t i = 0; i < 2; ++i) {
      const std::string column = fmt::format("{}_{}", name.substr(0, 2), i);
      text += fmt::format("  {} = {}{}\n", column, own_number(name, 2),
                          chance(15) ? " used by \"the finance workbook\"" : "");
      calculated_[name].push_back(column);
    }
    return text + "}\n";
  }

  // Over the row's own columns: those of other tables are not declared yet.
  std::string own_number(const std::string& name, int depth) {
    if (depth == 0 || chance(30)) {
      std::vector<std::string> columns{"energy", "price", "1.5"};
      for (const std::string& column : calculated_[name]) columns.push_back(column);
      return one_of(columns);
    }
    const std::string a = own_number(name, depth - 1);
    const std::string b = own_number(name, depth - 1);
    return one_of({fmt::format("({} + {})", a, b), fmt::format("coalesce({}, 0)", a),
                   fmt::format("(if {} is null then 1 else {})", a, b), fmt::format("round({}, 1)", a),
                   fmt::format("greatest({}, {})", a, b)});
  }

  std::string values() {
    const auto cell = [&](const std::string& text) { return chance(12) ? std::string() : text; };
    // Often with fewer digits than the type has, so that rounding may change nothing.
    return fmt::format("{},{},{},{}", cell(fmt::format("{}.{}{}", below(5), below(10), fine_ ? "25" : "")),
                       cell(fmt::format("{}{}", below(9), fine_ ? ".5" : "")), cell(std::to_string(below(15))),
                       one_of({"a", "b", "c", "d"}));
  }

  void fill(std::map<std::string, std::string>& files) {
    fine_ = chance(30);
    const std::string columns = "energy,price,reading,card\n";
    std::string text = "id,station,billed,bay," + columns;
    for (int i = 0; i < 25; ++i)
      text += fmt::format("{},{},{},{},{}\n", i, below(6), 100 + below(6), below(5), values());
    // One row without a match on each link, and one without a key.
    text += fmt::format("90,77,1,77,{}\n91,,,,{}\n", values(), values());
    files["sessions.csv"] = text;
    text = "station,code,area," + columns;
    for (int i = 0; i < 6; ++i)
      text += fmt::format("{},{},{},{}\n", i, 105 - i, i == 3 ? "" : std::to_string(below(4)), values());
    files["stations.csv"] = text;
    text = "area," + columns;
    for (int i = 0; i < 3; ++i) text += fmt::format("{},{}\n", i, values());
    files["areas.csv"] = text;
    text = "bay," + columns;
    for (int i = 0; i < 5; ++i) text += fmt::format("{},{}\n", i, values());
    files["bays.csv"] = text;
  }

  std::mt19937_64 random_;
  bool fine_ = false;
  std::map<std::string, std::vector<std::string>> calculated_;
  std::map<std::string, std::vector<std::string>> links_;
};

Result<QueryResult> asked(const Dataset& dataset, const std::string& query) {
  Question question;
  question.query = query;
  return ask(dataset, question);
}

// What an accepted plan changed and should not have.
std::string harm(const Dataset& before, const Dataset& after, const std::set<std::string>& changed) {
  std::string found;
  const auto compare_answers = [&](const std::string& query) {
    const auto was = asked(before, query);
    if (!was) return;
    const std::string differs = test::answer_difference(was, asked(after, query));
    if (!differs.empty() && found.size() < 2000) found += query + "\n" + differs + "\n";
  };
  const std::map<std::string, std::string> keys{
      {"sessions", "id"}, {"stations", "station"}, {"areas", "area"}, {"bays", "bay"}};
  std::string measures;
  for (const MeasureInfo& measure : before.model().measures()) {
    const auto now = after.model().measures();
    if (std::any_of(now.begin(), now.end(), [&](const MeasureInfo& m) { return m.name == measure.name; }))
      measures += (measures.empty() ? "" : ", ") + measure.name;
  }
  const std::vector<TableInfo> now = after.model().tables();
  for (const TableInfo& table : before.model().tables()) {
    const std::string key = table.name + "." + keys.at(table.name);
    const auto same_table =
        std::find_if(now.begin(), now.end(), [&](const TableInfo& t) { return t.name == table.name; });
    for (const ColumnInfo& column : table.columns) {
      const std::string name = table.name + "." + column.name;
      const auto same = std::find_if(same_table->columns.begin(), same_table->columns.end(),
                                     [&](const ColumnInfo& c) { return c.name == column.name; });
      const bool stays = same != same_table->columns.end();
      if (!column.used_by.empty() && (!stays || same->type != column.type)) {
        found += name + " is used outside, and is gone or of another type\n";
      }
      if (!stays || (changed.contains(name) && column.used_by.empty())) continue;
      // Of a trimmed table, the rows that nothing leads to are gone.
      if (!changed.contains(table.name))
        compare_answers(fmt::format("by {} show max({} for {}) as v keep empty", key, column.name, table.name));
      for (const MeasureInfo& measure : before.model().measures()) {
        if ((", " + measures + ",").find(" " + measure.name + ",") == std::string::npos) continue;
        compare_answers(fmt::format("by {} show {} total grand", name, measure.name));
        compare_answers(fmt::format("by {} show {} limit 2", name, measure.name));
      }
    }
  }
  if (!measures.empty()) {
    compare_answers("show " + measures + " where sessions.id = 90");
    compare_answers("show " + measures + " where sessions.id = 91");
  }
  return found;
}

TEST(AttackedPlan, WhatIsAcceptedChangesNothing) {
  const std::uint64_t seed = test::test_seed(20261130);
  const std::size_t plans = test::test_count(60);
  fmt::print("seed {}\n", seed);
  std::size_t judged = 0;
  std::map<std::string, std::size_t> accepted;
  for (std::uint64_t number = 0; judged < plans; ++number) {
    Generator generator(seed + number * 7919);
    const Made made = generator.make();
    const test::SmallModel model(made.text, made.files);
    const auto dataset = Dataset::open(model.path());
    ASSERT_TRUE(dataset) << made.text << test::messages(dataset.error());
    for (int i = 0; i < 6 && judged < plans; ++i) {
      const std::string step = generator.one_of(made.steps);
      RefactorSettings settings;
      settings.most_probes = 20;
      const auto change = refactor(*dataset, step, settings);
      ++judged;
      if (!change || !change->proved()) continue;
      ++accepted[step.substr(0, step.find(' '))];
      std::set<std::string> changed;
      if (step.starts_with("trim")) changed.insert(step.substr(step.find(' ') + 1));
      if (step.starts_with("round") || step.starts_with("retype")) {
        const std::size_t begin = step.find(' ') + 1;
        changed.insert(step.substr(begin, step.find(' ', begin) - begin));
      }
      ASSERT_EQ(harm(*dataset, *change->after, changed), "")
          << "seed " << seed + number * 7919 << "\n"
          << step << "\n"
          << made.text << change->diff << made.files.at("sessions.csv");
    }
  }
  for (const auto& [verb, count] : accepted) fmt::print("{} accepted: {}\n", verb, count);
  EXPECT_GE(accepted.size(), test::is_sanitized ? 2U : 4U);
}

}  // namespace
}  // namespace juniper::attacked_plan_test
