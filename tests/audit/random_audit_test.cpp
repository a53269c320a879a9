// Random models with flaws planted at random, beside things that look like them and are right, every name scrambled:
// what the audit finds is compared with what was planted, rule by rule.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <functional>
#include <map>
#include <numeric>
#include <random>
#include <set>

#include "juniper/audit.h"
#include "support/support.h"

namespace juniper::random_audit_test {
namespace {

class Generator {
 public:
  explicit Generator(std::uint64_t seed) : random_(seed), rows_(400 + below(400)), one_side_(15 + below(10)) {
    const std::string query = fresh();
    energy_ = fresh();
    fact_columns_.push_back({"key " + id_ + " integer", id_, {}});
    fact_columns_.push_back({key_ + " integer", key_, {}});
    fact_columns_.push_back({begun_ + " datetime", begun_, {}});
    fact_columns_.push_back({kwh_ + " decimal(1)", kwh_, {}});
    fact_columns_.push_back({channel_ + " text", channel_, {}});
    for (std::size_t i = 0; i < rows_; ++i) {
      fact_columns_[0].cells.push_back(std::to_string(i * 3 + 7));
      fact_columns_[1].cells.push_back(std::to_string(1 + (i < one_side_ ? i : below(one_side_))));
      fact_columns_[2].cells.push_back(
          fmt::format("2025-{:02}-{:02} {:02}:{:02}:00", below(12) + 1, below(28) + 1, below(24), below(60)));
      fact_columns_[3].cells.push_back(fmt::format("{}.{}", below(40), below(10)));
      fact_columns_[4].cells.push_back(below(3) == 0 ? "app" : "card");
    }
    more_ += fmt::format(
        "measure {0} = sum({1} for {2})\nmeasure {3} = count(distinct {4} for {2} where {5} = \"app\")\n"
        "measure {6} = min({7} for {2})\nquery {8} {{ by {9}.{10}, {2}.{5} show {0}, {3}, {6} }}\n",
        energy_, kwh_, fact_, fresh(), id_, channel_, fresh(), begun_, query, dim_, lane_);
  }

  std::size_t below(std::size_t n) { return random_() % n; }

  using Plant = void (Generator::*)();
  static const std::vector<Plant>& small_plants();
  static const std::vector<Plant>& large_plants();

  test::SmallModel model() const {
    // In an order that is declared: another one may well be smaller, as things are added.
    std::string text = fmt::format("table {} from csv \"fact.csv\" sorted by {} {{\n", fact_, id_);
    for (const Column& column : fact_columns_) text += "  " + column.declaration + "\n";
    text += calculated_ + "}\n";
    text += fmt::format("table {} from csv \"dim.csv\" {{ key {} integer  {} text\n{}}}\n", dim_, key_, lane_,
                        dim_calculated_);
    text += fmt::format("link {0}.{1} -> {2}.{1}\n", fact_, key_, dim_) + more_;
    std::map<std::string, std::string> files = files_;
    std::string& csv = files["fact.csv"];
    for (const Column& column : fact_columns_) csv += (csv.empty() ? "" : ",") + column.name;
    csv += "\n";
    for (std::size_t i = 0; i < rows_; ++i) {
      for (std::size_t c = 0; c < fact_columns_.size(); ++c) csv += (c == 0 ? "" : ",") + fact_columns_[c].cells[i];
      csv += "\n";
    }
    std::string& dim = files["dim.csv"];
    dim = key_ + "," + lane_ + "\n";
    for (std::size_t i = 1; i <= one_side_; ++i) dim += fmt::format("{},lane {}\n", i, i % 4);
    return {text, files};
  }

  std::set<std::string> expected;  // "JA-101 table.column"

 private:
  struct Column {
    std::string declaration;
    std::string name;
    std::vector<std::string> cells;
  };

  // A name that says nothing, and is no word of the language.
  std::string fresh() {
    std::string name;
    for (std::size_t i = 5 + below(4); i > 0; --i) name += static_cast<char>('a' + below(26));
    name += "_" + std::to_string(names_++);
    return name;
  }
  bool right() { return below(3) == 0; }  // a near miss is planted

  std::string add_column(const std::string& type, const std::function<std::string(std::size_t)>& cell,
                         const std::string& attributes = "") {
    Column column{"", fresh(), {}};
    column.declaration = fmt::format("{} {} {}", column.name, type, attributes);
    for (std::size_t i = 0; i < rows_; ++i) column.cells.push_back(cell(i));
    fact_columns_.push_back(column);
    return column.name;
  }
  std::string calculate(const std::string& expression) {
    const std::string name = fresh();
    calculated_ += fmt::format("  {} = {}\n", name, expression);
    return name;
  }
  std::string measure(const std::string& expression, const std::string& attributes = "") {
    const std::string name = fresh();
    more_ += fmt::format("measure {} = {} {}\n", name, expression, attributes);
    return name;
  }
  std::string shown(const std::string& expression, const std::string& attributes = "") {
    const std::string name = measure(expression, attributes);
    more_ += fmt::format("query {} {{ show {} }}\n", fresh(), name);
    return name;
  }
  void group_by(const std::string& column) {
    more_ += fmt::format("query {} {{ by {} show {} }}\n", fresh(), column, energy_);
  }
  void expect(const char* code, const std::string& name) { expected.insert(fmt::format("{} {}", code, name)); }
  std::string of_fact(const std::string& column) const { return fact_ + "." + column; }
  // A number that stands nowhere else.
  std::string constant() { return fmt::format("{}.{}", 1000 + 10 * names_++, 1 + below(9)); }

  // --- columns ------------------------------------------------------------------------------------------------------

  void unused() {
    const bool used = right();
    const std::string c = add_column(
        "integer", [&](std::size_t) { return std::to_string(below(60)); }, used ? "used by \"finance\"" : "");
    if (!used) expect("JA-101", of_fact(c));
  }
  void unused_unique() {
    std::vector<std::size_t> order(rows_);
    std::iota(order.begin(), order.end(), 0);
    std::shuffle(order.begin(), order.end(), random_);
    const std::string c = add_column("integer", [&](std::size_t i) { return std::to_string(order[i] * 5 + 2); });
    if (right()) {
      shown(fmt::format("max({} for {})", c, fact_));
    } else {
      expect("JA-102", of_fact(c));
    }
  }
  void constant_column() {
    const bool two = right();
    const std::string c = add_column("text", [&](std::size_t) { return two && below(2) == 0 ? "other" : "EUR"; });
    group_by(of_fact(c));
    if (!two) expect("JA-103", of_fact(c));
  }
  void held_as_text() {
    const bool padded = right();
    const std::string c = add_column(
        "text", [&](std::size_t) { return padded ? fmt::format("{:03}", below(90)) : std::to_string(below(90)); });
    group_by(of_fact(c));
    if (!padded) expect("JA-104", of_fact(c));
  }
  void looked_up_copy() {
    const bool changed = right();
    const std::string c = calculate(fmt::format("{}.{}{}", dim_, lane_, changed ? " || \"!\"" : ""));
    group_by(of_fact(c));
    expect(changed ? "JA-107" : "JA-105", of_fact(c));
  }
  void whole_table() {
    const bool own = right();
    const std::string c = calculate(fmt::format("sum(s.{0} for s in {1}{2})", kwh_, fact_,
                                                own ? fmt::format(" where s.{0} = this.{0}", key_) : ""));
    shown(fmt::format("max({} for {})", c, fact_));
    if (!own) expect("JA-106", of_fact(c));
  }
  void only_aggregated() {
    const bool filtered = right();
    const std::string c = calculate(fmt::format("{} * {}", kwh_, constant()));
    shown(fmt::format("{}({} for {})", below(2) == 0 ? "sum" : "max", c, fact_));
    if (below(2) == 0) group_by(of_fact(c));
    if (filtered) more_ += fmt::format("query {} {{ show {} where {} is not null }}\n", fresh(), energy_, of_fact(c));
    if (!filtered) expect("JA-107", of_fact(c));
  }
  void determined() {
    const std::string t = fresh(), id = fresh(), kind = fresh(), label = fresh();
    const bool almost = right();
    std::string rows = fmt::format("{},{},{}\n", id, kind, label);
    for (int i = 0; i < 2000; ++i) {
      const std::size_t k = below(12);
      rows += fmt::format("{},{},l{}\n", i, k, almost && below(100) == 0 ? 9 : k / 2);
    }
    files_[t + ".csv"] = rows;
    more_ =
        fmt::format("table {0} from csv \"{0}.csv\" {{ {1} integer  {2} integer  {3} text }}\n", t, id, kind, label) +
        more_;
    const std::string m = measure(fmt::format("sum({} for {})", id, t));
    more_ += fmt::format("query {} {{ by {}.{}, {}.{} show {} }}\n", fresh(), t, kind, t, label, m);
    if (!almost) expect("JA-110", t + "." + label);
  }
  void concatenated() {
    const std::string many = fresh(), one = fresh(), site = fresh(), lane = fresh(), number = fresh(), place = fresh(),
                      label = fresh();
    const bool parts = right();
    std::string rows = fmt::format("{},{},{}\n", site, lane, number);
    for (int i = 0; i < 50; ++i) rows += fmt::format("S{},L{},{}\n", below(3), below(3), below(30));
    files_[many + ".csv"] = rows;
    rows = fmt::format("{},{},{}\n", site, lane, label);
    for (int i = 0; i < 9; ++i) rows += fmt::format("S{},L{},p{}\n", i / 3, i % 3, below(5));
    files_[one + ".csv"] = rows;
    const std::string key = parts ? "" : fmt::format("  {} = {} || \"-\" || {}\n", place, site, lane);
    more_ = fmt::format("table {0} from csv \"{0}.csv\" {{ {1} text  {2} text  {3} integer\n{4}}}\n", many, site, lane,
                        number, key) +
            fmt::format("table {0} from csv \"{0}.csv\" {{ {1} text  {2} text  {3} text\n{4}}}\n", one, site, lane,
                        label, parts ? "" : fmt::format("  key {} = {} || \"-\" || {}\n", place, site, lane)) +
            more_;
    const std::string ends = parts ? fmt::format("({}, {})", site, lane) : place;
    more_ += fmt::format("link {}.{} -> {}.{}\n", many, ends, one, ends);
    const std::string m = measure(fmt::format("sum({} for {})", number, many));
    more_ += fmt::format("query {} {{ by {}.{} show {} }}\n", fresh(), one, label, m);
    if (!parts) expect("JA-111", many + "." + place);
  }
  void walk_to_many() {
    const bool grouped = right();
    const std::string c = fresh();
    dim_calculated_ += fmt::format("  {} = count(s in {} of this where {} > {})\n", c, fact_, kwh_, constant_small());
    shown(fmt::format("max({} for {})", c, dim_));
    if (grouped) group_by(dim_ + "." + c);
    if (!grouped) expect("JA-112", dim_ + "." + c);
  }
  std::string constant_small() { return fmt::format("{}.{}", below(20), 1 + below(9)); }
  void quadratic() {
    const bool fast = right();
    const std::string c =
        calculate(fast ? fmt::format("sum(t.{0} for t in {1} where t.{2} = this.{2} and t.{3} <= this.{3})", kwh_,
                                     fact_, key_, begun_)
                       : fmt::format("sum(t.{0} for t in {1} where t.{2} < this.{2} and t.{3} < this.{3})", kwh_, fact_,
                                     key_, begun_));
    shown(fmt::format("max({} for {})", c, fact_));
    if (!fast) expect("JA-113", of_fact(c));
  }
  void oversized() {
    const std::string t = fresh(), key = fresh(), name = fresh();
    const bool all = right();
    const std::size_t used = 30 + below(20);
    const std::string c =
        add_column("integer", [&](std::size_t i) { return std::to_string(i < used ? i : below(used)); });
    std::string rows = fmt::format("{},{}\n", key, name);
    for (std::size_t i = 0; i < (all ? used + 5 : used * 8); ++i) rows += fmt::format("{},n{}\n", i, below(900));
    files_[t + ".csv"] = rows;
    more_ = fmt::format("table {0} from csv \"{0}.csv\" {{ key {1} integer  {2} text }}\n", t, key, name) + more_ +
            fmt::format("link {}.{} -> {}.{}\n", fact_, c, t, key);
    group_by(t + "." + name);
    if (!all) expect("JA-201", t);
  }

  // --- measures -----------------------------------------------------------------------------------------------------

  void unused_measure() {
    const bool used = right();
    const std::string m = measure(fmt::format("{} / {}", energy_, constant()), used ? "used by \"finance\"" : "");
    if (!used) expect("JA-301", m);
  }
  void equal_measures() {
    const std::string first =
        fmt::format("max(s.{} for s in {} where {} = \"app\" and {} > {})", kwh_, fact_, channel_, id_, 20 + names_);
    const bool named = right();
    const std::string a = shown(first);
    const std::string b = shown(named ? a : first);
    if (!named) {
      expect("JA-302", b);
    }
  }
  void product_of_totals() {
    const bool other = right();
    const std::string m = shown(
        fmt::format("sum({0} + {3} for {1}) * {2}", kwh_, fact_,
                    other ? fmt::format("count({})", dim_) : fmt::format("avg({} for {})", key_, fact_), constant()));
    if (!other) expect("JA-303", m);
  }
  void summed_ratio() {
    const bool largest = right();
    const std::string m = shown(fmt::format(
        "{}({} / ({} + {}) for {})", largest ? "max" : (below(2) == 0 ? "sum" : "avg"), kwh_, key_, names_, fact_));
    if (!largest) expect("JA-304", m);
  }
  void average_of_averages() {
    const bool total = right();
    const std::string inner = shown(fmt::format("{}({} + {} for {})", total ? "sum" : "avg", kwh_, constant(), fact_));
    const std::string m = shown(fmt::format("avg({} of b for b in {})", inner, dim_));
    if (!total) expect("JA-305", m);
  }
  void division_by_zero() {
    const bool guarded = right();
    const std::string c = add_column("integer", [&](std::size_t i) { return std::to_string(i == 0 ? 0 : below(6)); });
    const std::string m = shown(fmt::format("max({} / {} for {}{})", kwh_, c, fact_,
                                            guarded ? fmt::format(" where {} > 0", c) : std::string()));
    if (!guarded) expect("JA-306", m);
  }
  void filter_of_nothing() {
    const bool there = right();
    const std::string m = shown(fmt::format("({} where {}.{} = \"{}\" and {}.{} > {})", energy_, fact_, channel_,
                                            there ? "app" : "App", fact_, id_, 30 + names_));
    if (!there) expect("JA-307", m);
  }
  void repeated_constant() {
    const bool parameter = right();
    const std::string number = constant();
    std::string written = number;
    if (parameter) {
      written = fresh();
      more_ = fmt::format("param {} = {}\n", written, number) + more_;
    }
    shown(fmt::format("min({} * {} for {})", kwh_, written, fact_));
    const std::string second = shown(fmt::format("max({} - {} for {})", kwh_, written, fact_));
    if (!parameter) expect("JA-308", second);
  }

  // --- tables of many rows ------------------------------------------------------------------------------------------

  void timestamp() {
    const std::string t = fresh(), id = fresh(), at = fresh();
    const bool running = right();
    constexpr int rows = 20'000;
    std::string csv = fmt::format("{},{}\n", id, at);
    for (int i = 0; i < rows; ++i) {
      const int minute = running ? i * 3 : i * 7919 % rows;
      const int a_day = running ? 1440 : 400;
      csv += fmt::format("{},2024-{:02}-{:02} {:02}:{:02}:00\n", i, minute / a_day / 25 + 1, minute / a_day % 25 + 1,
                         minute % a_day / 60, minute % 60);
    }
    files_[t + ".csv"] = csv;
    more_ = fmt::format("table {0} from csv \"{0}.csv\" {{ {1} integer  {2} datetime }}\n", t, id, at) + more_;
    shown(fmt::format("min({} for {})", at, t));
    shown(fmt::format("sum({} for {})", id, t));
    if (!running) expect("JA-108", t + "." + at);
  }
  void excess_digits() {
    const std::string t = fresh(), id = fresh(), c = fresh();
    const bool needed = right();
    std::string csv = fmt::format("{},{}\n", id, c);
    for (int i = 0; i < 20'000; ++i) csv += fmt::format("{},{}.{:04}\n", i, below(100), below(10'000));
    files_[t + ".csv"] = csv;
    more_ = fmt::format("table {0} from csv \"{0}.csv\" {{ {1} integer  {2} decimal(4) }}\n", t, id, c) + more_;
    shown(fmt::format("max({} for {})", c, t), needed ? "format \"0.0000\"" : "format \"#,##0.0\"");
    shown(fmt::format("sum({} for {})", id, t));
    if (!needed) expect("JA-109", t + "." + c);
  }
  void row_order() {
    const std::string t = fresh(), id = fresh(), a = fresh(), b = fresh(), c = fresh();
    const bool sorted = right();
    std::string csv = fmt::format("{},{},{},{}\n", id, a, b, c);
    for (std::size_t i = 0; i < 30'000; ++i) {
      const std::size_t group = sorted ? i / 75 : below(400);
      csv += fmt::format("{},{},{},{}\n", i, group, group + below(3), group + below(3));
    }
    files_[t + ".csv"] = csv;
    more_ = fmt::format("table {0} from csv \"{0}.csv\" {{ key {1} integer  {2} integer  {3} integer  {4} integer }}\n",
                        t, id, a, b, c) +
            more_;
    const std::string m = measure(fmt::format("count(distinct {} for {})", id, t));
    more_ += fmt::format("query {} {{ by {}.{}, {}.{}, {}.{} show {} }}\n", fresh(), t, a, t, b, t, c, m);
    if (!sorted) expect("JA-114", t);
  }

  std::mt19937_64 random_;
  std::size_t rows_;
  std::size_t one_side_;
  int names_ = 10;
  std::string fact_ = fresh();
  std::string dim_ = fresh();
  std::string id_ = fresh();
  std::string key_ = fresh();
  std::string begun_ = fresh();
  std::string kwh_ = fresh();
  std::string channel_ = fresh();
  std::string lane_ = fresh();
  std::string energy_;
  std::vector<Column> fact_columns_;
  std::string calculated_;
  std::string dim_calculated_;
  std::string more_;
  std::map<std::string, std::string> files_;
};

const std::vector<Generator::Plant>& Generator::small_plants() {
  static const std::vector<Plant> plants{&Generator::unused,
                                         &Generator::unused_unique,
                                         &Generator::constant_column,
                                         &Generator::held_as_text,
                                         &Generator::looked_up_copy,
                                         &Generator::whole_table,
                                         &Generator::only_aggregated,
                                         &Generator::determined,
                                         &Generator::concatenated,
                                         &Generator::walk_to_many,
                                         &Generator::quadratic,
                                         &Generator::oversized,
                                         &Generator::unused_measure,
                                         &Generator::equal_measures,
                                         &Generator::product_of_totals,
                                         &Generator::summed_ratio,
                                         &Generator::average_of_averages,
                                         &Generator::division_by_zero,
                                         &Generator::filter_of_nothing,
                                         &Generator::repeated_constant};
  return plants;
}

const std::vector<Generator::Plant>& Generator::large_plants() {
  static const std::vector<Plant> plants{&Generator::timestamp, &Generator::excess_digits, &Generator::row_order};
  return plants;
}

struct Score {
  std::size_t planted = 0;
  std::size_t found = 0;
  std::size_t right = 0;
};

TEST(RandomAudit, FindsWhatIsPlantedAndNothingElse) {
  const std::uint64_t seed = test::test_seed(86);
  const std::size_t models = test::test_count(40);
  fmt::print("seed {}\n", seed);
  std::map<std::string, Score> scores;
  // Measures of one shape come of themselves where several are planted (Audit.ShapesThatAreProposedMeanTheSame).
  AuditSettings settings;
  for (const AuditRule& rule : audit_rules()) {
    if (std::string_view(rule.code) == "JA-312") continue;
    scores[rule.code];
    settings.only.push_back(rule.code);
  }
  for (std::uint64_t number = 0; number < models; ++number) {
    Generator generator(seed + number * 6007);
    for (std::size_t i = 1 + generator.below(6); i > 0; --i)
      (generator.*Generator::small_plants()[generator.below(Generator::small_plants().size())])();
    if (generator.below(4) == 0)
      (generator.*Generator::large_plants()[generator.below(Generator::large_plants().size())])();
    const test::SmallModel model = generator.model();
    const auto dataset = Dataset::open(model.path());
    ASSERT_TRUE(dataset) << "seed " << seed << ", model " << number << "\n" << test::messages(dataset.error());
    const auto audited = audit(*dataset, settings);
    ASSERT_TRUE(audited) << test::messages(audited.error());
    std::set<std::string> found;
    for (const Finding& finding : audited->findings) found.insert(finding.code + " " + finding.subject);
    for (const std::string& finding : generator.expected) {
      ++scores[finding.substr(0, 6)].planted;
      if (!found.contains(finding))
        fmt::print("model {}: not found: {}\n{}", number, finding, dataset->model().texts()[0].text);
    }
    for (const std::string& finding : found) {
      Score& score = scores[finding.substr(0, 6)];
      ++score.found;
      if (generator.expected.contains(finding)) {
        ++score.right;
      } else {
        fmt::print("model {}: not planted: {}\n{}", number, finding, dataset->model().texts()[0].text);
      }
    }
  }
  fmt::print("rule    planted  recall  precision\n");
  for (const auto& [code, score] : scores) {
    const auto part = [](std::size_t a, std::size_t b) {
      return b == 0 ? 1.0 : static_cast<double>(a) / static_cast<double>(b);
    };
    fmt::print("{}  {:7}  {:6.3f}  {:9.3f}\n", code, score.planted, part(score.right, score.planted),
               part(score.right, score.found));
    EXPECT_EQ(score.right, score.planted) << code;
    EXPECT_EQ(score.right, score.found) << code;
  }
}

}  // namespace
}  // namespace juniper::random_audit_test
