// What must not change an answer, and what answers must add up to: relations between answers of the engine alone, over
// tables larger than other evaluators can walk.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <algorithm>
#include <array>
#include <atomic>
#include <functional>
#include <regex>

#include "random/drawn_model.h"
#include "random/random_query.h"
#include "support/deadline.h"
#include "support/every_level.h"
#include "support/support.h"
#include "support/three_ways.h"

namespace juniper::metamorphic_test {
namespace {

constexpr std::size_t most_rows = test::is_sanitized ? 5000 : 20000;

// A loop within a loop over all rows of a large table would take minutes.
constexpr std::chrono::milliseconds longest{400};

// --- one model in several forms ---------------------------------------------------------------------------------------

// The same rows in another order, where a key tells them apart.
test::RandomModel shuffled(test::Random& random, test::RandomModel model) {
  for (std::size_t t = 0; t < model.tables.size(); ++t) {
    if (model.tables[t].keys > 0) std::shuffle(model.rows[t].begin(), model.rows[t].end(), random);
  }
  return model;
}

// Each table's rows in up to four files.
std::map<std::string, std::string> split_files(test::Random& random, const test::RandomModel& model) {
  std::map<std::string, std::string> files;
  for (const auto& [name, csv] : model.files()) {
    const std::string stem = name.substr(0, name.size() - 4);
    const std::string header = csv.substr(0, csv.find('\n') + 1);
    std::map<std::size_t, std::string> parts;
    std::size_t part = 0;
    bool quoted = false;
    std::string record;
    for (const char c : csv.substr(header.size())) {
      record += c;
      if (c == '"') quoted = !quoted;
      if (c != '\n' || quoted) continue;
      parts[part] += record;
      record.clear();
      if (part < 3 && test::chance(random, 5)) ++part;
    }
    for (std::size_t p = 0; p <= part; ++p) files[fmt::format("{}-{}.csv", stem, p)] = header + parts[p];
  }
  return files;
}

std::string from_split_files(std::string text) {
  for (std::size_t at = 0; (at = text.find(".csv\"", at)) != std::string::npos; at += 7) text.insert(at, "-*");
  return text;
}

// Another name for a table or a column of the model, t3 or t3c2: in another order, and of what else a text may hold.
std::string other_name(const std::string& name) {
  static constexpr std::array words{"by", "sum of", "Null", "a.b", "x'y;--", "é", "[z]", "year"};
  const std::size_t c = name.find('c');
  const std::size_t table = std::stoul(name.substr(1));
  if (c == std::string::npos) return fmt::format("{}{} {}", static_cast<char>('z' - table), words[table % 8], table);
  const std::size_t column = std::stoul(name.substr(c + 1));
  return fmt::format("{}{}", words[(column + table) % 8], 900 - column);
}

// Every name of a table or column is another one. Between quotes stand names of files, which stay, and of headers.
std::string renamed(const std::string& text, bool in_backticks = true) {
  std::string out;
  bool quoted = false;
  for (std::size_t i = 0; i < text.size();) {
    const bool begins = i == 0 || (std::isalnum(static_cast<unsigned char>(text[i - 1])) == 0 && text[i - 1] != '_');
    std::size_t end = i;
    while (end < text.size() && (std::isalnum(static_cast<unsigned char>(text[end])) != 0 || text[end] == '_')) ++end;
    const std::string word = text.substr(i, end - i);
    const bool is_name = begins && word.size() > 1 && word[0] == 't' &&
                         std::isdigit(static_cast<unsigned char>(word[1])) != 0 && !(quoted && text[end] == '.');
    if (is_name) {
      const std::string_view mark = in_backticks && !quoted ? "`" : "";
      out += fmt::format("{}{}{}", mark, other_name(word), mark);
      i = end;
    } else {
      quoted = quoted != (text[i] == '"' && in_backticks);
      out += text.substr(i, std::max<std::size_t>(1, end - i));
      i = std::max(end, i + 1);
    }
  }
  return out;
}

struct Form {
  std::string name;
  std::shared_ptr<test::SmallModel> files;
  std::optional<Dataset> dataset;
  std::function<std::string(const std::string&)> query = [](const std::string& text) { return text; };
};

bool overflows(const Result<QueryResult>& answer) {
  return !answer && answer.error()[0].code == "JR-701";
}

TEST(Metamorphic, FormsOfAModelAnswerAlike) {
  const std::uint64_t seed = test::test_seed(20261201);
  fmt::print("seed {}\n", seed);
  test::Random random(seed);
  const std::size_t queries = test::test_count(60);
  std::size_t asked = 0;
  std::size_t compared = 0;
  while (asked < queries) {
    test::RandomModel model = test::drawn_model(random, most_rows);
    test::add_definitions(random, model);
    if (!Model::parse("m.ridge", model.text())) continue;
    const auto cancelled = std::make_shared<std::atomic<bool>>(false);
    std::vector<Form> forms;
    const auto add = [&](const std::string& name, const std::string& text,
                         const std::map<std::string, std::string>& files, unsigned threads) -> Form& {
      Form form{name, std::make_shared<test::SmallModel>(text, files), {}};
      Options options;
      options.threads = threads;
      options.cancelled = cancelled;
      if (auto opened = Dataset::open(form.files->path(), options)) form.dataset = std::move(*opened);
      forms.push_back(std::move(form));
      return forms.back();
    };
    add("as it is", model.text(), model.files(), 1);
    add("three threads", model.text(), model.files(), 3);
    add("split", from_split_files(model.text()), split_files(random, model), 2);
    add("shuffled", model.text(), shuffled(random, model).files(), 2);
    std::map<std::string, std::string> files;
    for (const auto& [name, csv] : model.files()) {
      const std::size_t line = csv.find('\n');
      files[name] = renamed(csv.substr(0, line), false) + csv.substr(line);
    }
    add("renamed", renamed(model.text()), files, 2).query = [](const std::string& text) { return renamed(text); };
    for (const Form& form : forms)
      ASSERT_EQ(form.dataset.has_value(), forms[0].dataset.has_value()) << form.name << "\n" << model.text();
    if (!forms[0].dataset) continue;
    auto twin = SqliteTwin::open(*forms.back().dataset);
    ASSERT_TRUE(twin) << test::messages(twin.error()) << renamed(model.text());
    for (int q = 0; q < 12; ++q) {
      test::RandomQuery query = test::random_query(random, model);
      if (test::chance(random, 80)) query = test::with_meaning(forms[0].dataset->model(), query);
      const std::string text = query.text();
      ++asked;
      const auto answer = [&](const Form& form) {
        const test::Deadline deadline(cancelled, longest);
        auto found = ask(*form.dataset, {form.query(text)});
        return model.has_far_reals || model.is_extreme ? test::without_computed_reals(std::move(found))
                                                       : std::move(found);
      };
      const auto slow = [](const auto& found) { return !found && found.error()[0].code == "JR-707"; };
      const auto base = answer(forms[0]);
      if (slow(base) || (!base && !overflows(base))) continue;
      for (std::size_t f = 1; f < forms.size(); ++f) {
        const auto other = answer(forms[f]);
        if (slow(other) || (model.is_extreme && overflows(base) != overflows(other))) continue;
        ++compared;
        ASSERT_EQ(test::answer_difference(base, other), "") << "seed " << seed << ", " << forms[f].name << "\n"
                                                            << text << "\n"
                                                            << model.text();
      }
      // SQL has its own words and ways to quote names.
      if (base && !model.is_extreme && !model.has_far_reals) {
        const test::Deadline deadline(cancelled, longest);
        const bool has_product = (text + model.text()).find("product(") != std::string::npos;
        const auto differs = test::sqlite_difference(*twin, renamed(text), has_product);
        if (differs) ++compared;
        EXPECT_EQ(differs.value_or(""), "") << "seed " << seed << "\n"
                                            << renamed(text) << "\n"
                                            << renamed(model.text());
      }
      test::at_every_level([&] {
        const auto other = answer(forms[0]);
        if (slow(other)) return;
        ++compared;
        EXPECT_EQ(test::answer_difference(base, other), "") << "seed " << seed << "\n" << text << "\n" << model.text();
      });
      if (HasFailure()) return;
    }
  }
  fmt::print("{} of answers to {} questions compared\n", compared, asked);
  // On a slow machine more is called off.
  EXPECT_GT(compared, asked / 10);
}

// --- what adds up -----------------------------------------------------------------------------------------------------

int128 number_in(const QueryResult& answer, std::size_t row, std::size_t column) {
  const Value& value = answer.rows[row].cells[column];
  return value.is_null() ? 0 : value.exact();
}

TEST(Metamorphic, PartsAddUpToTheWhole) {
  const std::uint64_t seed = test::test_seed(20261202);
  fmt::print("seed {}\n", seed);
  test::Random random(seed);
  const std::size_t wanted = test::test_count(80);
  std::size_t split = 0;
  std::size_t grouped = 0;
  for (std::size_t round = 0; split < wanted && round < wanted; ++round) {
    const test::RandomModel model = test::drawn_model(random, most_rows);
    if (!Model::parse("m.ridge", model.text())) continue;
    const test::SmallModel files(model.text(), model.files());
    const auto cancelled = std::make_shared<std::atomic<bool>>(false);
    Options options;
    options.cancelled = cancelled;
    const auto dataset = Dataset::open(files.path(), options);
    if (!dataset) continue;
    const auto asked = [&](const std::string& query) {
      const test::Deadline deadline(cancelled, longest);
      return ask(*dataset, {query});
    };
    for (int i = 0; i < 12; ++i) {
      const std::size_t t = test::pick(random, model.tables.size());
      const test::TableInfo& table = model.tables[t];
      const test::ColumnInfo& column = table.columns[test::pick(random, table.columns.size())];
      const std::string x = column.type.is_exact_number() ? column.name : "1";
      // A condition is true, false, or neither.
      const std::string condition = test::random_condition(random, model, t, 2);
      const std::string holds = std::regex_replace(condition, std::regex("\\bthis\\b"), "w");
      const std::string value = x == "1" ? x : "w." + x;
      const std::string query = fmt::format(
          "show n = count(w in {0}), s = sum({1} for w in {0}), n1 = count(w in {0} where ({2})), "
          "s1 = sum({1} for w in {0} where ({2})), n2 = count(w in {0} where not ({2})), "
          "s2 = sum({1} for w in {0} where not ({2})), n3 = count(w in {0} where ({2}) is null), "
          "s3 = sum({1} for w in {0} where ({2}) is null)",
          table.name, value, holds);
      if (const auto answer = asked(query)) {
        ++split;
        const auto at = [&](std::size_t c) { return number_in(*answer, 0, c); };
        ASSERT_TRUE(at(0) == at(2) + at(4) + at(6) && at(1) == at(3) + at(5) + at(7)) << "seed " << seed << "\n"
                                                                                      << query << "\n"
                                                                                      << test::rows_of(*answer) << "\n"
                                                                                      << model.text();
      }
      // The groups of any keys add up to all rows.
      std::string by = table.name + "." + table.columns[test::pick(random, table.columns.size())].name;
      if (!table.routes.empty()) {
        const test::Route& route = table.routes[test::pick(random, table.routes.size())];
        const auto& far = model.tables[route.table].columns;
        by += fmt::format(", {}.{}.{}", table.name, route.path, far[test::pick(random, far.size())].name);
      }
      const std::string groups =
          fmt::format("by {0} show n = count({1}), s = sum({2} for {1}) total grand keep empty", by, table.name, x);
      if (const auto answer = asked(groups)) {
        ++grouped;
        int128 count = 0;
        int128 sum = 0;
        const std::size_t keys = answer->columns.size() - 2;
        for (std::size_t row = 0; row < answer->rows.size(); ++row) {
          const int sign = answer->rows[row].level == 0 ? 1 : -1;
          count += sign * number_in(*answer, row, keys);
          sum += sign * number_in(*answer, row, keys + 1);
        }
        ASSERT_TRUE(count == 0 && sum == 0) << "seed " << seed << "\n" << groups << "\n" << model.text();
      }
    }
  }
  fmt::print("{} conditions and {} groupings\n", split, grouped);
  EXPECT_GT(split, 0U);
  EXPECT_GT(grouped, wanted / 10);
}

}  // namespace
}  // namespace juniper::metamorphic_test
