// Random models and queries, answered in three ways: by the engine, by the naive evaluator, and as SQL by SQLite.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <cmath>
#include <cstdlib>
#include <set>

#include "engine/ask.h"
#include "juniper/sql.h"
#include "random/coverage.h"
#include "random/drawn_model.h"
#include "random/random_query.h"
#include "support/support.h"
#include "support/three_ways.h"

namespace juniper::plans_test {
namespace {

// Problems of a random text that no reader would call one of the generator: what it asks has no meaning.
bool has_no_meaning(const Diagnostics& errors) {
  static const std::set<std::string> codes{"JR-207", "JR-208", "JR-403", "JR-404", "JR-406",
                                           "JR-409", "JR-307", "JR-411", "JR-701", "JR-211"};
  return std::all_of(errors.begin(), errors.end(),
                     [](const Diagnostic& d) { return d.severity == Severity::warning || codes.contains(d.code); });
}

std::string compared(const Dataset& dataset, const test::RandomModel& model, const std::string& query) {
  Question question{query};
  const auto engine = ask(dataset, question);
  if (!engine && !has_no_meaning(engine.error())) return test::messages(engine.error());
  if (!engine && engine.error()[0].code != "JR-701") return "";
  question.plan = Plan::naive;
  const auto naive = ask(dataset, question);
  // Where a product that does not fit is needed first, one may stop where the other needs no product at all.
  const auto overflows = [](const auto& answer) { return !answer && answer.error()[0].code == "JR-701"; };
  const bool has_product = (query + model.text()).find("product(") != std::string::npos;
  if (has_product && (overflows(engine) || overflows(naive))) return "";
  // Of numbers at the ends of their types, too: the engine may refuse what is not needed, but answer nothing that overflows.
  if (model.is_extreme && overflows(engine) && !overflows(naive)) return "";
  std::string differs =
      model.has_far_reals || model.is_extreme
          ? test::answer_difference(test::without_computed_reals(engine), test::without_computed_reals(naive))
          : test::answer_difference(engine, naive);
  // What a load gets wrong, all three have wrong; the files tell.
  if (differs.empty()) {
    const auto from_files = ask_files(dataset.model(), {query});
    if (!(has_product && overflows(from_files))) differs = test::answer_difference(naive, from_files);
    if (!differs.empty()) differs = "the store and the files: " + differs;
  }
  if (!differs.empty() || !engine || model.is_extreme || model.has_far_reals) return differs;
  const auto agreement = against_sqlite(dataset, {query});
  if (!agreement) {
    // SQLite's parser has a stack of fixed size, which statements of many levels outgrow.
    const std::string said = test::messages(agreement.error());
    return said.find("parser stack overflow") != std::string::npos ? "" : said;
  }
  for (const DifferentCell& cell : agreement->samples)
    differs +=
        fmt::format("{} {} {}: engine {}, SQLite {}\n", cell.level, cell.row, cell.column, cell.engine, cell.sqlite);
  return differs.empty() ? "" : differs + agreement->statement;
}

// The smallest query that still differs.
std::string shrunk(const Dataset& dataset, const test::RandomModel& model, test::RandomQuery query) {
  for (bool again = true; again;) {
    again = false;
    for (const test::RandomQuery& candidate : test::smaller(query)) {
      if (compared(dataset, model, candidate.text()).empty()) continue;
      query = candidate;
      again = true;
      break;
    }
  }
  return query.text() + "\n" + compared(dataset, model, query.text());
}

// A query that asks for something without meaning, without those of its parts that do.
test::RandomQuery with_meaning(const Dataset& dataset, test::RandomQuery query) {
  const auto checks = [&](const test::RandomQuery& q) {
    return engine::prepare(dataset.model(), {q.text()}).has_value();
  };
  if (checks(query)) return query;
  static const test::PiecePtr one = std::make_shared<test::Piece>(test::Piece{"", {"1"}, {}});
  test::RandomQuery kept;
  kept.show = {one};
  const auto keep = [&](const auto& add) {
    test::RandomQuery more = kept;
    add(more);
    if (checks(more)) kept = more;
  };
  keep([&](test::RandomQuery& q) { q.drafts = query.drafts; });
  for (const std::string& by : query.by) keep([&](test::RandomQuery& q) { q.by.push_back(by); });
  keep([&](test::RandomQuery& q) { q.where = query.where; });
  keep([&](test::RandomQuery& q) { q.having = query.having; });
  keep([&](test::RandomQuery& q) { q.totals = query.totals; });
  keep([&](test::RandomQuery& q) { q.keep_empty = query.keep_empty; });
  for (const test::PiecePtr& shown : query.show) keep([&](test::RandomQuery& q) { q.show.push_back(shown); });
  if (kept.show.size() > 1) kept.show.erase(kept.show.begin());
  keep([&](test::RandomQuery& q) { q.sort = query.show[0] == q.show[0] ? query.sort : ""; });
  keep([&](test::RandomQuery& q) { q.limit = query.limit; });
  return kept;
}

using Draw = test::RandomModel (*)(test::Random&, std::size_t);

// Asks `queries` random queries of models that `draw` gives, twenty of each.
void ask_all(Draw draw, std::uint64_t seed, std::size_t queries, test::Coverage& coverage) {
  fmt::print("seed {}\n", seed);
  test::Random random(seed);
  std::size_t asked = 0;
  std::size_t answered = 0;
  while (asked < queries) {
    test::RandomModel model;
    std::optional<test::SmallModel> files;
    Result<Dataset> dataset = tl::unexpected(Diagnostics{});
    do {
      model = draw(random, 24);
      test::add_definitions(random, model);
      files.emplace(model.text(), model.files());
      dataset = Dataset::open(files->path());
      ASSERT_TRUE(dataset || has_no_meaning(dataset.error())) << test::messages(dataset.error()) << model.text();
    } while (!dataset);
    for (int q = 0; q < 20; ++q) {
      test::RandomQuery query = test::random_query(random, model);
      if (test::chance(random, 80)) query = with_meaning(*dataset, query);
      const std::string text = query.text();
      ++asked;
      const std::string differs = compared(*dataset, model, text);
      if (!differs.empty()) {
        std::string all = model.text();
        for (const auto& [name, csv] : model.files()) all += "--- " + name + "\n" + csv;
        FAIL() << "seed " << seed << ", query " << asked << "\n"
               << text << "\n"
               << differs << "\nshrunk to\n"
               << shrunk(*dataset, model, query) << "\n"
               << all;
      }
      if (const auto answer = ask(*dataset, {text})) {
        ++answered;
        coverage.add(dataset->model(), {text}, *answer);
      }
    }
  }
  fmt::print("{} of {} queries have an answer\n", answered, asked);
  EXPECT_GT(answered * 3, asked);
}

TEST(RandomPlans, TheThreeWaysAgree) {
  test::Coverage coverage;
  ask_all(test::random_model, test::test_seed(20261123), test::test_count(400), coverage);
  const auto few = coverage.pairs_below(20);
  fmt::print("{} of {} constructs and {} of {} pairs at least 20 times with a value\n",
             test::Coverage::all().size() - coverage.below(20).size(), test::Coverage::all().size(),
             coverage.pairs() - few.size(), coverage.pairs());
  if (std::getenv("JUNIPER_COVERAGE") != nullptr) {
    for (const std::string& name : test::Coverage::all()) fmt::print("{:7} {}\n", coverage.count(name), name);
    for (const auto& [a, b] : few) fmt::print("pair: {} + {}\n", a, b);
  }
}

// The tables, links and values are drawn, too.
TEST(DrawnPlans, TheThreeWaysAgree) {
  test::Coverage coverage;
  ask_all(test::drawn_model, test::test_seed(20261130), test::test_count(400), coverage);
}

}  // namespace
}  // namespace juniper::plans_test
