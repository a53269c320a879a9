// Random models and queries, answered in three ways: by the engine, by the naive evaluator, and as SQL by SQLite.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <cmath>
#include <cstdlib>
#include <set>

#include "base/failure.h"
#include "engine/asked/watch.h"
#include "engine/naive/naive.h"
#include "engine/query/ask.h"
#include "juniper/sql.h"
#include "loading/file_data.h"
#include "model/access.h"
#include "random/coverage.h"
#include "random/drawn_model.h"
#include "random/random_query.h"
#include "support/deadline.h"
#include "support/support.h"
#include "support/three_ways.h"

namespace juniper::plans_test {
namespace {

// Problems of a random text that no reader would call one of the generator: what it asks has no meaning, its keys are
// too wide together for the engine (JR-703), or a calculated column does not fit (JR-704).
bool has_no_meaning(const Diagnostics& errors) {
  static const std::set<std::string> codes{"JR-207", "JR-208", "JR-403", "JR-404", "JR-406", "JR-409", "JR-307",
                                           "JR-411", "JR-416", "JR-701", "JR-211", "JR-703", "JR-704"};
  return std::all_of(errors.begin(), errors.end(),
                     [](const Diagnostic& d) { return d.severity == Severity::warning || codes.contains(d.code); });
}

struct Size {
  std::size_t most_rows;
  std::size_t queries;  // of each model
  std::chrono::milliseconds longest;
  bool one_by_one = false;      // each expression of a query by itself, as one in a loop would stop those beside it
  bool goes_row_by_row = true;  // also the ways that go over all rows for each slice
};

// A dataset with its twin in SQLite and its files, and what calls a question off that takes too long.
struct Asked {
  Dataset dataset;
  SqliteTwin twin;
  std::shared_ptr<std::atomic<bool>> cancelled;
  Size size;
  engine::Watch watch{dataset.options()};
  loading::FileData files{model::checked(dataset.model()), engine::source_of(dataset).setting,
                          [this] { watch.check(); }};

  static Result<std::unique_ptr<Asked>> open(const std::string& path, const Size& size) {
    const auto cancelled = std::make_shared<std::atomic<bool>>(false);
    Options options;
    options.cancelled = cancelled;
    options.memory = 1'500'000'000;
    // Of many rows, a column that looks at all of them for each may not be computed in any time.
    const test::Deadline deadline(cancelled, 2 * size.longest);
    auto dataset = Dataset::open(path, options);
    if (!dataset) return tl::unexpected(dataset.error());
    auto twin = SqliteTwin::open(*dataset);
    if (!twin) return tl::unexpected(twin.error());
    auto asked = std::make_unique<Asked>(std::move(*dataset), std::move(*twin), cancelled, size);
    // What is called off while files are read would be read anew by each question.
    const std::size_t tables = size.goes_row_by_row ? asked->dataset.model().tables().size() : 0;
    return base::guarded([&]() -> Result<std::unique_ptr<Asked>> {
      for (language::TableIndex t = 0; t < tables; ++t) asked->files.rows(t);
      return std::move(asked);
    });
  }
  Asked(Dataset of, SqliteTwin its_twin, std::shared_ptr<std::atomic<bool>> flag, const Size& its_size)
      : dataset(std::move(of)), twin(std::move(its_twin)), cancelled(std::move(flag)), size(its_size) {}
  Asked(const Asked&) = delete;
  Asked& operator=(const Asked&) = delete;
  template <class Ask>
  auto in_time(const Ask& question) const {
    const test::Deadline deadline(cancelled, size.longest);
    return question();
  }
};

// How often each way was compared with the one before it.
struct Compared {
  std::size_t naive = 0;
  std::size_t files = 0;
  std::size_t sqlite = 0;
};

// For its time, or for its memory, as a text of all rows in each of them takes.
template <class Answer>
bool is_called_off(const Answer& answer) {
  return !answer && (answer.error()[0].code == "JR-707" || answer.error()[0].code == "JR-708");
}
template <class Answer>
bool overflows(const Answer& answer) {
  return !answer && answer.error()[0].code == "JR-701";
}

using Answer = Result<QueryResult>;

// What the naive evaluator, over the store and over the files, answers otherwise than the engine does; nothing where no
// other way can be held against it.
std::optional<std::string> naive_differences(Asked& asked, const test::RandomModel& model, const std::string& query,
                                             const Answer& engine, bool has_product, Compared& compared) {
  const Dataset& dataset = asked.dataset;
  Question question{query};
  question.plan = Plan::naive;
  const auto naive = asked.in_time([&] { return ask(dataset, question); });
  // Where a product that does not fit is needed first, one may stop where the other needs no product at all. Of numbers
  // at the ends of their types, too, the engine may refuse what is not needed, but answer nothing that overflows.
  if (is_called_off(naive) || (has_product && (overflows(engine) || overflows(naive))) ||
      (model.is_extreme && overflows(engine) && !overflows(naive)))
    return std::nullopt;
  ++compared.naive;
  std::string differs =
      model.has_far_reals || model.is_extreme
          ? test::answer_difference(test::without_computed_reals(engine), test::without_computed_reals(naive))
          : test::answer_difference(engine, naive);
  if (!differs.empty()) return differs;
  // What a load gets wrong, all three have wrong; the files tell.
  const auto prepared = engine::prepare(dataset.model(), question);
  const auto from_files = asked.in_time([&] {
    return base::guarded([&] {
      return engine::run_query_naively(*prepared->model, asked.files, engine::source_of(dataset).setting,
                                       prepared->query);
    });
  });
  if (is_called_off(from_files) || (has_product && overflows(from_files))) return "";
  ++compared.files;
  differs = test::answer_difference(naive, from_files);
  return differs.empty() ? "" : "the store and the files: " + differs;
}

std::string differences(Asked& asked, const test::RandomModel& model, const std::string& query, Compared& compared) {
  const Answer engine = asked.in_time([&] { return ask(asked.dataset, {query}); });
  if (is_called_off(engine)) return "";
  if (!engine && !has_no_meaning(engine.error())) return test::messages(engine.error());
  if (!engine && !overflows(engine)) return "";
  const bool has_product = (query + model.text()).find("product(") != std::string::npos;
  if (asked.size.goes_row_by_row) {
    const auto differs = naive_differences(asked, model, query, engine, has_product, compared);
    if (!differs || !differs->empty()) return differs.value_or("");
  }
  if (!engine || model.is_extreme || model.has_far_reals) return "";
  const auto differs = asked.in_time([&] { return test::sqlite_difference(asked.twin, query, has_product); });
  if (differs) ++compared.sqlite;
  return differs.value_or("");
}

// The smallest query that still differs.
std::string shrunk(Asked& asked, const test::RandomModel& model, test::RandomQuery query) {
  Compared compared;
  for (bool again = true; again;) {
    again = false;
    for (const test::RandomQuery& candidate : test::smaller(query)) {
      if (differences(asked, model, candidate.text(), compared).empty()) continue;
      query = candidate;
      again = true;
      break;
    }
  }
  return query.text() + "\n" + differences(asked, model, query.text(), compared);
}

using Draw = test::RandomModel (*)(test::Random&, std::size_t);

// Asks `queries` random queries of models that `draw` gives.
Compared ask_all(Draw draw, Size size, std::uint64_t seed, std::size_t queries, test::Coverage& coverage) {
  fmt::print("seed {}\n", seed);
  test::Random random(seed);
  std::size_t number = 0;
  std::size_t answered = 0;
  Compared compared;
  while (number < queries) {
    test::RandomModel model;
    std::optional<test::SmallModel> files;
    Result<std::unique_ptr<Asked>> opened = tl::unexpected(Diagnostics{});
    do {
      do {
        model = draw(random, size.most_rows);
      } while (!size.goes_row_by_row && (model.is_extreme || model.has_far_reals));
      if (test::chance(random, 50)) test::add_calculated_columns(random, model);
      test::add_definitions(random, model);
      files.emplace(model.text(), model.files());
      opened = Asked::open(files->path(), size);
      if (!opened && !is_called_off(opened) && !has_no_meaning(opened.error())) {
        ADD_FAILURE() << test::messages(opened.error()) << model.text();
        return compared;
      }
    } while (!opened);
    Asked& asked = **opened;
    std::vector<test::RandomQuery> drawn;
    for (std::size_t q = 0; q < size.queries; ++q) {
      test::RandomQuery query = test::random_query(random, model);
      if (test::chance(random, 80)) query = test::with_meaning(asked.dataset.model(), query);
      if (!size.one_by_one) {
        drawn.push_back(std::move(query));
        continue;
      }
      for (const test::PiecePtr& shown : query.show) {
        // A text of all rows for each of them takes their number squared.
        if (size.most_rows > 1000 && (model.text() + shown->text()).find("list(") != std::string::npos) continue;
        drawn.push_back(query);
        drawn.back().show = {shown};
        if (shown != query.show[0]) drawn.back().sort.clear();
      }
    }
    for (const test::RandomQuery& query : drawn) {
      const std::string text = query.text();
      ++number;
      const std::string differs = differences(asked, model, text, compared);
      if (!differs.empty()) {
        std::string all = model.text();
        for (const auto& [name, csv] : model.files()) all += "--- " + name + "\n" + csv;
        ADD_FAILURE() << "seed " << seed << ", query " << number << "\n"
                      << text << "\n"
                      << differs << "\nshrunk to\n"
                      << shrunk(asked, model, query) << "\n"
                      << all;
        return compared;
      }
      if (const auto answer = asked.in_time([&] { return ask(asked.dataset, {text}); })) {
        ++answered;
        coverage.add(asked.dataset.model(), {text}, *answer);
      }
    }
  }
  fmt::print(
      "{} of {} queries have an answer; compared: {} with the naive evaluator, {} with the files, {} with SQLite\n",
      answered, number, compared.naive, compared.files, compared.sqlite);
  return compared;
}

constexpr Size small{24, 20, std::chrono::minutes(10)};

TEST(RandomPlans, TheThreeWaysAgree) {
  test::Coverage coverage;
  const std::size_t queries = test::test_count(400);
  const Compared compared = ask_all(test::random_model, small, test::test_seed(20261123), queries, coverage);
  EXPECT_GT(compared.sqlite * 2, queries);
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
  const std::size_t queries = test::test_count(400);
  const Compared compared = ask_all(test::drawn_model, small, test::test_seed(20261130), queries, coverage);
  EXPECT_GT(compared.files * 2, queries);
}

// Of tables that go over the ends of blocks, up to 20,000 rows: what takes longer than the time is called off, as the
// other ways go over all rows for each slice.
TEST(DrawnPlans, LargeTablesAgree) {
  test::Coverage coverage;
  const Size large{test::is_sanitized ? 4500U : 20000U, 4, std::chrono::milliseconds(300), true};
  const Compared compared =
      ask_all(test::drawn_model, large, test::test_seed(20261203), test::test_count(120), coverage);
  EXPECT_GT(compared.naive, 0U);
}

// Of tables of hundreds of thousands of rows, whose groups, keys and dictionaries outgrow one way after another. SQLite
// alone can follow.
TEST(DrawnPlans, HugeTablesAgree) {
  test::Coverage coverage;
  const Size huge{test::is_sanitized ? 100'000U : 500'000U, 12, std::chrono::seconds(1), true, false};
  const Compared compared = ask_all(test::drawn_model, huge, test::test_seed(20261205), test::test_count(24), coverage);
  EXPECT_GT(compared.sqlite, 0U);
}

}  // namespace
}  // namespace juniper::plans_test
