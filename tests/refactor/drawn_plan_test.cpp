// Plans over models whose schema, values and queries are drawn: what is accepted is judged by random queries that nobody
// saved, of the model before and after.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <algorithm>
#include <map>
#include <regex>

#include "juniper/refactor.h"
#include "random/drawn_model.h"
#include "random/random_query.h"
#include "support/support.h"
#include "support/three_ways.h"

namespace juniper::drawn_plan_test {
namespace {

bool reads(const test::RandomModel& model, const std::string& more) {
  return Model::parse("m.ridge", model.text() + more).has_value();
}

// A drawn model with calculated columns of its rows and saved queries; what can't be read is left out.
std::string drawn_text(test::Random& random, test::RandomModel& model) {
  test::add_definitions(random, model);
  std::vector<std::string> measures;
  measures.swap(model.measures);
  for (std::string& calculated : model.calculated) calculated.clear();
  for (std::size_t t = 0; t < model.tables.size(); ++t) {
    if (!model.tables[t].rows.empty()) continue;
    for (int i = 0; i < 2; ++i) {
      test::RandomColumn column = test::random_column(random, model, t, 2);
      // What is not null where a link ends, and is over it.
      if (test::chance(random, 25)) {
        const test::ColumnInfo& tested = model.tables[t].columns[test::pick(random, model.tables[t].columns.size())];
        column = {{TypeKind::boolean, 0}, tested.name + " is null"};
      }
      const std::string name = fmt::format("{}k{}", model.tables[t].name, i);
      const std::string before = model.calculated[t];
      model.calculated[t] += fmt::format("  {} = {}\n", name, column.text);
      if (!reads(model, "")) {
        model.calculated[t] = before;
        continue;
      }
      // Queries may name it as any other, from here and over each link.
      const auto add_measure = [&](const std::string& measure, const std::string& value, const std::string& table) {
        const bool is_boolean = column.type.kind == TypeKind::boolean;
        const char* const aggregate = column.type.is_number() ? "sum" : (is_boolean ? "every" : "max");
        model.measures.push_back(fmt::format("measure {} = {}({} for {})", measure, aggregate, value, table));
        if (!reads(model, "")) model.measures.pop_back();
      };
      add_measure("of_" + name, name, model.tables[t].name);
      for (const test::TableInfo& other : model.tables) {
        for (const test::Route& route : other.routes) {
          if (route.table == t)
            add_measure(fmt::format("of_{}_from_{}", name, model.measures.size()), route.path + "." + name, other.name);
        }
      }
    }
  }
  for (std::string& measure : measures) {
    model.measures.push_back(std::move(measure));
    if (!reads(model, "")) model.measures.pop_back();
  }
  std::string queries;
  for (int q = 0; q < 5; ++q) {
    const std::string query = fmt::format("query q{} {{ {} }}\n", q, test::random_query(random, model).text());
    if (reads(model, queries + query)) queries += query;
  }
  return model.text() + queries;
}

std::vector<std::string> steps_of(test::Random& random, const Model& model) {
  std::vector<std::string> steps;
  for (const TableInfo& table : model.tables()) {
    std::vector<std::string> names;
    for (const ColumnInfo& column : table.columns) {
      const std::string name = table.name + "." + column.name;
      names.push_back(column.name);
      steps.push_back((column.is_calculated ? "inline " : "drop ") + name);
      if (column.type.kind == TypeKind::datetime) steps.push_back("split " + name);
      if (column.type.kind == TypeKind::integer) steps.push_back("retype " + name + " decimal(2)");
    }
    steps.push_back(fmt::format("reorder {} by {}", table.name, names[test::pick(random, names.size())]));
    steps.push_back("trim " + table.name);
  }
  return steps;
}

// Numbers as texts without the zeros that a wider type adds.
Result<QueryResult> without_scale(Result<QueryResult> answer) {
  if (!answer) return answer;
  for (std::size_t c = 0; c < answer->columns.size(); ++c) {
    const Type type = answer->columns[c].type;
    if (!type.is_exact_number()) continue;
    answer->columns[c].type = {TypeKind::text, 0};
    for (ResultRow& row : answer->rows) {
      if (row.cells[c].is_null()) continue;
      std::string text = to_text(row.cells[c], type);
      if (text.find('.') != std::string::npos) text.erase(text.find_last_not_of('0') + 1);
      if (text.back() == '.') text.pop_back();
      row.cells[c] = Value::of(text);
    }
  }
  return answer;
}

bool says(const std::vector<std::string>& notes, const std::string& what) {
  return std::any_of(notes.begin(), notes.end(),
                     [&](const std::string& note) { return note.find(what) != std::string::npos; });
}

TEST(DrawnPlan, WhatIsAcceptedChangesNoAnswer) {
  const std::uint64_t seed = test::test_seed(20261203);
  fmt::print("seed {}\n", seed);
  test::Random random(seed);
  const std::size_t plans = test::test_count(40);
  std::size_t judged = 0;
  std::size_t compared = 0;
  std::map<std::string, std::size_t> accepted;
  while (judged < plans) {
    test::RandomModel model = test::drawn_model(random, 20);
    const std::string text = drawn_text(random, model);
    const test::SmallModel files(text, model.files());
    const auto dataset = Dataset::open(files.path());
    if (!dataset) continue;
    std::vector<std::string> steps = steps_of(random, dataset->model());
    for (int i = 0; i < 8 && !steps.empty() && judged < plans; ++i) {
      const std::string step = steps[test::pick(random, steps.size())];
      RefactorSettings settings;
      settings.most_probes = 20;
      const auto change = refactor(*dataset, step, settings);
      ++judged;
      if (!change || !change->proved()) continue;
      ++accepted[step.substr(0, step.find(' '))];
      const bool trims = step.starts_with("trim");
      for (int q = 0; q < 10; ++q) {
        const std::string query = test::with_meaning(dataset->model(), test::random_query(random, model)).text();
        // Who goes over the rows of a trimmed table, or shows them all, sees that some are gone.
        if (trims && std::regex_search(query, std::regex("\\b" + step.substr(5) + "\\b"))) continue;
        // A key that goes told equal rows apart, and the change says so.
        const bool loses_key = step.starts_with("drop") && says(change->notes, "of the key of");
        if (loses_key && std::regex_search(query, std::regex("\\b(first|last|list)\\("))) continue;
        auto was = ask(*dataset, {query});
        auto is = ask(*change->after, {query});
        if (!was || !is) continue;  // what it names is gone, or it has no meaning
        if (model.is_extreme || model.has_far_reals) {
          was = test::without_computed_reals(std::move(was));
          is = test::without_computed_reals(std::move(is));
        }
        was = without_scale(std::move(was));
        is = without_scale(std::move(is));
        ++compared;
        ASSERT_EQ(test::answer_difference(was, is), "") << "seed " << seed << "\n"
                                                        << step << "\n"
                                                        << query << "\n"
                                                        << change->diff << "\n"
                                                        << text;
      }
    }
  }
  for (const auto& [verb, count] : accepted) fmt::print("{} accepted: {}\n", verb, count);
  fmt::print("{} answers compared\n", compared);
  EXPECT_FALSE(accepted.empty());
}

// Queries that are asked from outside are answered as before by whatever is accepted, and what they name can't go.
TEST(DrawnPlan, CapturedQueriesAreAnsweredAsBefore) {
  const std::uint64_t seed = test::test_seed(20261204);
  fmt::print("seed {}\n", seed);
  test::Random random(seed);
  const std::size_t plans = std::max<std::size_t>(120, test::test_count(120));  // fewer may hold none of a kind
  std::size_t judged = 0;
  std::size_t accepted = 0;
  std::size_t kept = 0;
  while (judged < plans) {
    test::RandomModel model = test::drawn_model(random, 20);
    const test::SmallModel files(drawn_text(random, model), model.files());
    Options options;
    for (int i = 0; i < 40 && options.reading.captured.size() < 6; ++i) {
      const std::string query = test::random_query(random, model).text();
      if (reads(model, fmt::format("query captured {{ {} }}\n", query)))
        options.reading.captured.push_back({query, {}, fmt::format("log:{}", i + 1)});
    }
    const auto dataset = Dataset::open(files.path(), options);
    if (!dataset) continue;
    const auto plain = Dataset::open(files.path());
    std::vector<std::string> steps = steps_of(random, dataset->model());
    for (int i = 0; i < 8 && !steps.empty() && judged < plans; ++i) {
      const std::string step = steps[test::pick(random, steps.size())];
      RefactorSettings settings;
      settings.most_probes = 0;
      settings.timing.most_runs = 1;
      const auto change = refactor(*dataset, step, settings);
      ++judged;
      if (!change) {
        // In the way of a plan are queries that name what it takes, and nothing else is refused for their sake.
        if (refactor(*plain, step, settings)) {
          ++kept;
          EXPECT_NE(test::messages(change.error()).find("log:"), std::string::npos)
              << seed << " " << step << test::messages(change.error());
        }
        continue;
      }
      if (!change->proved()) continue;
      ++accepted;
      for (const CapturedQuery& query : options.reading.captured) {
        const auto was = ask(*dataset, {query.query});
        if (!was) continue;
        const auto is = ask(*change->after, {query.query});
        ASSERT_TRUE(is) << seed << " " << step << " " << query.query << test::messages(is.error());
        const Comparison comparison = compare(*was, *is, 1, change->tolerance);
        EXPECT_TRUE(comparison.same()) << seed << " " << step << " " << query.query;
      }
    }
  }
  fmt::print("{} accepted, {} kept from going by a captured query\n", accepted, kept);
  EXPECT_GT(accepted, 0U);
  EXPECT_GT(kept, 0U);
}

}  // namespace
}  // namespace juniper::drawn_plan_test
