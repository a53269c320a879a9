// Checks a model against what was recorded, or against another model. Most is compared; here is what with what.
#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <charconv>
#include <set>
#include <sstream>

#include "base/diagnostics.h"
#include "base/duration.h"
#include "base/failure.h"
#include "base/files.h"
#include "juniper/baseline.h"
#include "language/check.h"
#include "loading/fit.h"
#include "loading/variants.h"
#include "model/access.h"
#include "model/uses.h"
#include "refactor/narrowing.h"
#include "regress/asked.h"
#include "regress/expected_csv.h"
#include "regress/folder.h"
#include "regress/revision.h"
#include "store/of_dataset.h"
#include "store/store.h"

namespace juniper {

namespace {

using loading::Variants;
using regress::Folder;
using regress::RecordedResult;

constexpr std::size_t samples = 10;       // differences kept of each query
constexpr std::size_t most_narrowed = 3;  // measures that are narrowed down
constexpr std::uint64_t cold_runs = 8;

// --- what changed in the text ---------------------------------------------------------------------------------------

// A model's definitions by name, each as one line that is the same for equal meanings: all that a text says of it, so
// that what differs in none differs in layout and comments alone.
std::map<std::string, std::string> definitions_of(const language::CheckedModel& model) {
  using namespace language;
  const auto canonical_text = [&](const auto& expression) {
    return expression ? canonical(model, expression, OuterRows::by_order) : "";
  };
  std::map<std::string, std::string> definitions;
  if (!model.name.empty()) definitions["the model's name"] = model.name;
  for (const Table& table : model.tables) {
    std::vector<std::string> from;
    for (const TableIndex other : table.reached_from) from.push_back(model.tables[other].name);
    std::vector<std::string> order;
    for (const std::uint32_t column : table.sorted_by) order.push_back(table.columns[column].name);
    definitions["table " + table.name] = fmt::format(
        "{} {:?} {} {} {} {} {} {:?}", base::name_of(table.source.kind), table.source.pattern,
        base::details_text(table.source), canonical_text(table.rows), from, order, table.hidden, table.description);
    for (const Column& column : table.columns) {
      definitions["column " + table.name + "." + column.name] = fmt::format(
          "{} {:?} {} {} {} {:?} {:?} {:?} {} {}", to_string(column.type), column.header, base::name_of(column.part),
          column.key, column.hidden, column.sorted_by ? table.columns[*column.sorted_by].name : "", column.format,
          column.description, column.used_by, canonical_text(column.expression));
    }
  }
  for (const Link& link : model.links) definitions["link " + model.link_name(link)] = "";
  for (const Measure& measure : model.measures) {
    definitions["measure " + measure.name] =
        fmt::format("{:?} {} {:?} {} {}", measure.format, measure.hidden, measure.description, measure.used_by,
                    canonical_text(measure.expression));
  }
  for (const Parameter& parameter : model.parameters) {
    definitions["parameter " + parameter.name] = fmt::format(
        "{} {:?} {:?}", to_string(parameter.type), to_text(parameter.value, parameter.type), parameter.description);
  }
  if (model.calendar) {
    std::vector<std::string> periods;
    for (const std::uint32_t column : model.calendar->periods)
      periods.push_back(model.tables[model.calendar->day.table].columns[column].name);
    definitions["the calendar"] = fmt::format("{:?} {}", model.column_name(model.calendar->day), periods);
  }
  for (const Query& query : model.queries) definitions["query " + query.name] = model.sources.text(query.span);
  return definitions;
}

std::string changes_between(const Model& base, const Model& candidate) {
  constexpr std::size_t most = 12;
  const auto was = definitions_of(model::checked(base));
  const auto is = definitions_of(model::checked(candidate));
  std::vector<std::string> changed;
  for (const auto& [name, definition] : was) {
    const auto now = is.find(name);
    if (now == is.end()) {
      changed.push_back(name + " (gone)");
    } else if (now->second != definition) {
      changed.push_back(name);
    }
  }
  for (const auto& [name, definition] : is) {
    if (!was.contains(name)) changed.push_back(name + " (new)");
  }
  const std::size_t more = changed.size() > most ? changed.size() - most : 0;
  changed.resize(changed.size() - more);
  return fmt::format("{}{}", fmt::join(changed, ", "), more == 0 ? "" : fmt::format(" and {} more", more));
}

// --- budgets --------------------------------------------------------------------------------------------------------

// A line `QUERY within 50 ms`; nothing if it is none.
std::optional<std::pair<std::string, std::int64_t>> read_budget(const std::string& line) {
  std::istringstream words(line);
  std::string query;
  std::string within;
  double number = 0;
  std::string unit;
  std::string more;
  if (!(words >> query >> within >> number >> unit) || within != "within" || words >> more || number <= 0)
    return std::nullopt;
  const auto nanoseconds = base::nanoseconds_in(unit);
  constexpr double most = 1e18;  // nanoseconds, 30 years
  if (!nanoseconds || !(number * static_cast<double>(*nanoseconds) < most)) return std::nullopt;
  return std::pair(query, static_cast<std::int64_t>(number * static_cast<double>(*nanoseconds)));
}

Result<std::map<std::string, std::int64_t>> read_budgets(const Model& model, const std::string& path,
                                                         const std::set<std::string>& known) {
  std::map<std::string, std::int64_t> budgets;
  for (const language::Query& query : model::checked(model).queries) {
    if (query.budget_nanoseconds != 0) budgets[query.name] = query.budget_nanoseconds;
  }
  if (path.empty()) return budgets;
  const auto text = base::read_plain_file(path);
  if (!text)
    return tl::unexpected(base::error_at("JR-907", Place{path, 0, 0},
                                         fmt::format("cannot open this file: {}", text.error()), "check the path"));
  std::istringstream lines(*text);
  std::uint32_t number = 0;
  for (std::string line; std::getline(lines, line);) {
    ++number;
    const std::size_t first = line.find_first_not_of(" \t\r");
    if (first == std::string::npos || line[first] == '#') continue;
    const auto budget = read_budget(line);
    if (!budget || !known.contains(budget->first)) {
      return tl::unexpected(base::error_at(
          "JR-907", Place{path, number, 0},
          budget ? fmt::format("there is no query '{}'", budget->first) : "this line is no budget",
          budget ? base::did_you_mean(budget->first, {known.begin(), known.end()}) : "write: monthly within 50 ms"));
    }
    budgets[budget->first] = budget->second;
  }
  return budgets;
}

// --- the check ------------------------------------------------------------------------------------------------------

class Checker {
 public:
  Checker(const Dataset& dataset, const std::string& folder, const CheckSettings& settings)
      : dataset_(dataset),
        path_(folder),
        settings_(settings),
        candidate_(loading::Placed{dataset, store_path(dataset.model().path(), dataset.options())}) {}

  Result<CheckReport> run() {
    report_.tolerance = settings_.tolerance;
    if (settings_.speed != SpeedCheck::none) report_.allowed_ratio = settings_.timing.allowed_ratio;
    if (auto ready = prepare(); !ready) return tl::unexpected(ready.error());
    std::set<std::string> known;
    for (const RecordedResult& query : queries_) known.insert(query.query);
    for (const std::string& query : names_of(dataset_.model().queries())) known.insert(query);
    auto budgets = read_budgets(dataset_.model(), settings_.budgets, known);
    if (!budgets) return tl::unexpected(budgets.error());
    budgets_ = std::move(*budgets);
    for (const std::string& query : settings_.accept) {
      if (folder_.results.contains(query) || known.contains(query)) continue;
      return tl::unexpected(base::error("JR-909", fmt::format("there is no query '{}' to accept", query),
                                        base::did_you_mean(query, {known.begin(), known.end()})));
    }
    for (std::size_t i = 0; i < queries_.size(); ++i) {
      if (dataset_.options().progress) {
        dataset_.options().progress({"checking", 0, i, queries_.size(), queries_[i].query});
      }
      auto checked = check_query(queries_[i]);
      if (!checked) return tl::unexpected(checked.error());
      report_.queries.push_back(std::move(*checked));
    }
    for (const std::string& query : names_of(dataset_.model().queries())) {
      const bool there =
          std::any_of(queries_.begin(), queries_.end(), [&](const RecordedResult& q) { return q.query == query; });
      if (!there) {
        CheckedQuery& added = report_.queries.emplace_back();
        added.query = query;
        added.state = CheckState::added;
      }
    }
    if (!settings_.accept.empty()) {
      if (auto accepted = accept(); !accepted) return tl::unexpected(accepted.error());
    }
    return std::move(report_);
  }

 private:
  // Finds out what is compared with what.
  Result<void> prepare() {
    if (!settings_.base.empty() || !settings_.base_revision.empty()) return prepare_base();
    if (!regress::is_baseline(path_)) {
      return tl::unexpected(
          base::error("JR-903", fmt::format("there is no baseline in {}", path_),
                      "record one first with juniper baseline; a folder without its seal.txt is none"));
    }
    auto folder = regress::read_folder(path_);
    if (!folder) return tl::unexpected(folder.error());
    folder_ = std::move(*folder);
    report_.folder = path_;
    report_.data_changed = folder_.data != regress::describe_data(dataset_);
    report_.other_machine = folder_.machine != regress::describe_machine(dataset_);
    const std::string now = regress::fingerprint(regress::relative_texts(dataset_.model()));
    std::set<std::string> changed;
    for (auto& [name, recorded] : folder_.results) {
      queries_.push_back(recorded);
      if (recorded.model != now) changed.insert(recorded.model);
    }
    report_.model_changed = !changed.empty();
    for (const std::string& hash : changed) {
      const auto model = recorded_model(hash);
      if (!model) return tl::unexpected(model.error());
      report_.changed += (report_.changed.empty() ? "" : "; ") + changes_between(**model, dataset_.model());
    }
    if (report_.data_changed) {
      report_.compared_with = ComparedWith::base_on_data;
      report_.base = "the recorded model";
    }
    return {};
  }

  Result<void> prepare_base() {
    report_.compared_with = ComparedWith::base;
    std::unique_ptr<Variants> base;
    if (!settings_.base.empty()) {
      Options options = dataset_.options();
      options.store.clear();
      auto opened = Dataset::open(settings_.base, options);
      if (!opened) return tl::unexpected(opened.error());
      base = std::make_unique<Variants>(loading::Placed{std::move(*opened), store_path(settings_.base, options)});
      report_.base = settings_.base;
    } else {
      const auto model =
          regress::model_at_revision(dataset_.model().path(), settings_.base_revision, dataset_.model().options());
      if (!model) return tl::unexpected(model.error());
      auto loaded = loading::TemporaryStore::load(dataset_, *model);
      if (!loaded) return tl::unexpected(loaded.error());
      base = std::make_unique<Variants>(std::move(*loaded));
      report_.base = settings_.base_revision;
    }
    const Model& model = base->dataset().model();
    report_.data_changed = regress::describe_data(base->dataset()) != regress::describe_data(dataset_);
    report_.model_changed = regress::relative_texts(model) != regress::relative_texts(dataset_.model());
    report_.changed = changes_between(model, dataset_.model());
    for (const std::string& query : names_of(model.queries())) queries_.emplace_back().query = query;
    bases_.emplace("", std::move(base));
    return {};
  }

  Result<const Model*> recorded_model(const std::string& hash) {
    if (const auto known = recorded_.find(hash); known != recorded_.end()) return &known->second;
    const auto texts = folder_.models.find(hash);
    if (texts == folder_.models.end()) {
      return tl::unexpected(base::error_at("JR-904", Place{path_, 0, 0}, fmt::format("the model {} is not there", hash),
                                           "restore the file, or remove the baseline and record it again"));
    }
    auto model = loading::model_beside(dataset_, texts->second);
    if (!model) return tl::unexpected(model.error());
    return &recorded_.emplace(hash, std::move(*model)).first->second;
  }

  // A recorded model over the data of today: loaded when it is first asked for.
  Result<Variants*> recorded_on_data(const std::string& hash) {
    if (const auto known = bases_.find(hash); known != bases_.end()) return known->second.get();
    const auto model = recorded_model(hash);
    if (!model) return tl::unexpected(model.error());
    auto loaded = loading::TemporaryStore::load(dataset_, **model);
    if (!loaded) return tl::unexpected(loaded.error());
    return bases_.emplace(hash, std::make_unique<Variants>(std::move(*loaded))).first->second.get();
  }

  Result<const loading::Placed*> base_of(const RecordedResult& query) {
    const auto variants = recorded_on_data(query.model);
    if (!variants) return tl::unexpected(variants.error());
    return (*variants)->with(query.set);
  }

  bool is_lost(const RecordedResult& query) const {
    const auto names = names_of(dataset_.model().queries());
    return query.text.empty() && std::find(names.begin(), names.end(), query.query) == names.end();
  }

  Result<CheckedQuery> check_query(RecordedResult& query) {
    CheckedQuery checked;
    checked.query = query.query;
    checked.text = query.text;
    checked.asked = query.asked;
    if (const auto time = folder_.times.find(query.query); time != folder_.times.end())
      checked.recorded_nanoseconds = time->second;
    if (is_lost(query)) {
      checked.state = CheckState::lost;
      return checked;
    }
    const auto candidate = candidate_.with(query.set);
    auto now =
        candidate ? regress::run_timed((*candidate)->dataset, query.question()) : tl::unexpected(candidate.error());
    if (!now) {
      checked.state = CheckState::failed;
      checked.errors = now.error();
      return checked;
    }
    checked.nanoseconds = now->nanoseconds;
    if (report_.compared_with != ComparedWith::recorded) {
      const auto base = base_of(query);
      if (!base) return tl::unexpected(base.error());
      auto was = regress::run_timed((*base)->dataset, query.question());
      if (!was) return tl::unexpected(was.error());
      query.result = std::move(was->result);
      if (checked.recorded_nanoseconds == 0) checked.recorded_nanoseconds = was->nanoseconds;
    }
    checked.comparison = compare(query.result, now->result, samples, settings_.tolerance);
    checked.state = checked.comparison.same() ? CheckState::same : CheckState::different;
    if (auto expected = check_expected(query, now->result, checked); !expected) return tl::unexpected(expected.error());
    if (checked.state == CheckState::different) narrow(query, (*candidate)->dataset, checked);
    if (auto timed = check_times(query, **candidate, checked); !timed) return tl::unexpected(timed.error());
    now_.emplace(query.query, std::move(*now));
    return checked;
  }

  Result<void> check_expected(const RecordedResult& query, const QueryResult& now, CheckedQuery& checked) const {
    const auto expected = folder_.expected.find(query.query);
    if (expected == folder_.expected.end()) return {};
    auto compared =
        regress::compare_with_csv(now, query.query + ".expected.csv", expected->second, samples, settings_.tolerance);
    if (!compared) return tl::unexpected(compared.error());
    checked.expected = std::move(*compared);
    return {};
  }

  // Of the first measure that differs, if it was not narrowed down for another query.
  void narrow(const RecordedResult& query, const Dataset& candidate, CheckedQuery& checked) {
    for (const Difference& difference : checked.comparison.samples) {
      if (difference.kind != DifferenceKind::cell || narrowed_.size() >= most_narrowed) continue;
      if (!model::checked(candidate.model()).find_measure(difference.column) ||
          !narrowed_.insert(difference.column).second)
        continue;
      const auto base = base_of(query);
      if (!base) return;  // what does not load today can't be narrowed down; its results are compared all the same
      Narrowing found = refactoring::narrow({(*base)->dataset, candidate, {}, "now"}, difference.column);
      if (found.sources.empty() && found.rows.empty()) continue;
      checked.narrowing = std::move(found);
      return;
    }
  }

  Result<void> check_times(const RecordedResult& query, const loading::Placed& candidate, CheckedQuery& checked) {
    if (settings_.speed != SpeedCheck::none) {
      const auto base = base_of(query);
      if (!base) return tl::unexpected(base.error());
      const auto once = [&](const loading::Placed& placed) {
        return [&] { return nanoseconds_of(placed.dataset, query); };
      };
      SpeedSettings timing = settings_.timing;
      checked.undecided_fails = settings_.undecided_fails;
      checked.warm = compare_speed(once(**base), once(candidate), timing);
      checked.nanoseconds = checked.warm->candidate_nanoseconds;
      if (settings_.speed == SpeedCheck::warm_and_cold) {
        timing.least_runs = std::min<std::uint64_t>(timing.least_runs, cold_runs);
        checked.cold = compare_speed(cold(**base, query), cold(candidate, query), timing);
      }
    }
    if (const auto budget = budgets_.find(query.query); budget != budgets_.end())
      checked.budget = BudgetCheck{budget->second, checked.nanoseconds};
    return {};
  }

  // A run on a store that was opened for it: nothing of it has been read or verified by this process, and no memory of
  // the engine's is kept.
  static std::function<std::int64_t()> cold(const loading::Placed& placed, const RecordedResult& query) {
    return [&placed, &query] {
      auto opened = store::open_store(placed.store);
      if (opened) opened = loading::fitting(std::move(*opened), model::checked(placed.dataset.model()), placed.store);
      if (!opened) throw base::Failure(opened.error());
      const Dataset anew =
          store::dataset_of(placed.dataset.model(), std::make_shared<const store::Store>(std::move(*opened)),
                            placed.dataset.options(), store::live_of(placed.dataset));
      return nanoseconds_of(anew, query);
    };
  }

  // A run that fails has no time: it ends the check, and is told.
  static std::int64_t nanoseconds_of(const Dataset& dataset, const RecordedResult& query) {
    const auto result = ask(dataset, {query.question()});
    if (!result) throw base::Failure(result.error());
    return result->nanoseconds;
  }

  // Writes the new results of the queries that were named.
  Result<void> accept() {
    if (report_.compared_with == ComparedWith::base) {
      return tl::unexpected(base::error("JR-909", "results are accepted into a baseline, and this compares two models",
                                        "leave --base and --base-rev out"));
    }
    const auto texts = regress::relative_texts(dataset_.model());
    const std::string model = regress::fingerprint(texts);
    for (const std::string& name : settings_.accept) {
      RecordedResult& recorded = folder_.results[name];
      if (recorded.query.empty()) recorded.query = name;  // a query that is new
      if (!now_.contains(name)) {
        auto run = regress::run_timed(dataset_, recorded.question());
        if (!run) return tl::unexpected(run.error());
        now_.emplace(name, std::move(*run));
      }
      recorded.model = model;
      recorded.result = now_.at(name).result;
      folder_.times[name] = now_.at(name).nanoseconds;
      for (CheckedQuery& checked : report_.queries) checked.accepted = checked.accepted || checked.query == name;
    }
    folder_.models[model] = texts;
    std::set<std::string> needed;
    for (const auto& [name, recorded] : folder_.results) needed.insert(recorded.model);
    std::erase_if(folder_.models, [&](const auto& m) { return !needed.contains(m.first); });
    if (auto written = regress::write_folder(path_, folder_); !written) return tl::unexpected(written.error());
    return {};
  }

  const Dataset& dataset_;
  const std::string& path_;
  const CheckSettings& settings_;
  Variants candidate_;
  Folder folder_;
  std::vector<RecordedResult> queries_;
  std::map<std::string, Model> recorded_;                   // by fingerprint
  std::map<std::string, std::unique_ptr<Variants>> bases_;  // by the model's fingerprint; "" for another base
  std::map<std::string, std::int64_t> budgets_;
  std::map<std::string, regress::Timed> now_;
  std::set<std::string> narrowed_;
  CheckReport report_;
};

}  // namespace

bool CheckedQuery::is_undecided() const {
  const auto is = [](const std::optional<SpeedComparison>& speed) {
    return speed && speed->verdict == SpeedVerdict::cannot_tell;
  };
  return is(warm) || is(cold);
}

bool CheckedQuery::passed() const {
  const auto is_slower = [](const std::optional<SpeedComparison>& speed) {
    return speed && speed->verdict == SpeedVerdict::slower;
  };
  const bool same = state == CheckState::same || state == CheckState::added || accepted;
  return same && (!expected || expected->same()) && !is_slower(warm) && !is_slower(cold) &&
         !(undecided_fails && is_undecided()) && (!budget || budget->kept());
}

bool CheckReport::passed() const {
  return std::all_of(queries.begin(), queries.end(), [](const CheckedQuery& q) { return q.passed(); });
}

Result<CheckReport> check(const Dataset& dataset, const std::string& folder, const CheckSettings& settings) {
  return base::guarded([&]() -> Result<CheckReport> { return Checker(dataset, folder, settings).run(); });
}

}  // namespace juniper
