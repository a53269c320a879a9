// A regression test for the queries of a model: results and times recorded as text, and compared later.
#pragma once

#include <cstdint>
#include <map>
#include <optional>
#include <string>
#include <vector>

#include "juniper/compare.h"
#include "juniper/dataset.h"
#include "juniper/diagnostics.h"
#include "juniper/narrowing.h"
#include "juniper/speed.h"

namespace [[gnu::visibility("default")]] juniper {

// The folder in which a baseline stands when none is named: beside the model text, with the ending .baseline; of what a
// reader sees, .READER.baseline.
std::string baseline_path(const std::string& model_path, const std::string& reader = "");

// What a query's result is to that of an earlier baseline in the folder.
enum class RecordedState : std::uint8_t { added, same, different };

struct KnownQueries {
  std::vector<CapturedQuery> captured;
  bool has_baseline = false;  // one stands beside the model text
};
// The queries that are known to be asked of a model and that its text does not hold, for ReadOptions::captured: those
// of the baseline that stands beside the text, if there is one, which are not saved in it; and those of a log
// (juniper/query_log.h), unless `log` is "". Errors: JR-904 (a file of the baseline can't be read), those of reading a
// log.
Result<KnownQueries> known_queries(const std::string& model_path, const std::string& log = "");

struct RecordedQuery {
  std::string query;
  std::string text;  // of one that the model has not saved: its clauses
  RecordedState state = RecordedState::added;
  Comparison comparison;  // with the earlier result
  std::uint64_t rows = 0;
  std::uint64_t cells = 0;
  std::uint64_t asked = 0;       // how often it stands in the log; 0 for one of no log
  std::int64_t nanoseconds = 0;  // median of the runs
};
struct BaselineReport {
  std::string folder;
  std::vector<RecordedQuery> queries;
  std::vector<std::string> dropped;  // recorded earlier, and asked for no more
  bool has_earlier = false;          // a baseline stood there
  bool is_written = false;           // not where that would replace what differs, and it was not asked for
  // Results of the earlier baseline that are not those of now, or not asked for.
  std::size_t replaced() const;
};

struct BaselineSettings {
  std::vector<std::string> query_files;         // of the model language: `query NAME { … }`
  std::string log;                              // a log of captured queries (juniper/query_log.h)
  std::map<std::string, std::string> expected;  // of queries by name: CSV files with numbers that somebody else gave
  // An earlier baseline is replaced although results differ from it, or queries of it are asked for no more.
  bool replace = false;
  Tolerance tolerance{1e-9, 0};  // of reals, compared with those of an earlier baseline
};

// Runs every saved query, those of further files, and each different query of a log, and writes its result, in exact
// text that diffs well, and its time into `folder`, which is made when it is not there; and the model, so that later
// there is something to compare with on other data. A baseline that stands there is compared with first: where its
// results are not those of now, or it holds queries that are not asked for, nothing is written unless `replace` says so.
// The layout is told in docs/baseline.md. Errors: those of the
// queries and files; JR-901 (cannot write), JR-902 (the folder holds something else: nothing is written), JR-905 (an
// expected result that does not fit its query), JR-906 (a query of a file bears the name of a saved one).
Result<BaselineReport> baseline(const Dataset& dataset, const std::string& folder,
                                const BaselineSettings& settings = {});

enum class CheckState : std::uint8_t {
  same,
  different,  // values, rows, order, columns, types or formats
  lost,       // recorded, and not in the model
  failed,     // it can no longer be run
  added,      // in the model, and not recorded: no failure
};

// A query's time on the candidate against what it is allowed, the median of its runs.
struct BudgetCheck {
  std::int64_t allowed_nanoseconds = 0;
  std::int64_t nanoseconds = 0;
  bool kept() const { return nanoseconds <= allowed_nanoseconds; }
};

struct CheckedQuery {
  std::string query;
  std::string text;  // of one that the model has not saved: its clauses
  CheckState state = CheckState::same;
  Comparison comparison;
  std::optional<Comparison> expected;     // with the numbers that somebody else gave
  std::optional<Narrowing> narrowing;     // of the first measure that differs: where it comes from
  Diagnostics errors;                     // of a query that failed
  std::uint64_t asked = 0;                // in the log that it comes from
  std::int64_t recorded_nanoseconds = 0;  // then
  std::int64_t nanoseconds = 0;           // now: median of the runs
  std::optional<SpeedComparison> warm;    // base and candidate in turn
  std::optional<SpeedComparison> cold;    // each time on a store that was opened anew
  std::optional<BudgetCheck> budget;
  bool accepted = false;         // its new result was written into the baseline
  bool undecided_fails = false;  // CheckSettings::undecided_fails

  // A run, warm or cold, whose time was compared, and it can't be told whether it is slower.
  bool is_undecided() const;
  // Same values, none slower than allowed, and within its budget.
  bool passed() const;
};

enum class ComparedWith : std::uint8_t {
  recorded,      // the results in the folder
  base,          // another model, over the same data
  base_on_data,  // the recorded model over the data of today, as these have changed
};

struct CheckReport {
  std::string folder;  // "" where no baseline was needed
  std::string base;    // what was compared with: a path, a revision, or "the recorded model"; "" for recorded results
  std::vector<CheckedQuery> queries;
  ComparedWith compared_with = ComparedWith::recorded;
  bool other_machine = false;  // recorded times are those of another processor, or of other settings
  bool data_changed = false;   // the sources are not those that the baseline was taken on
  bool model_changed = false;  // the text is not that of the base
  std::string changed;         // what changed in the text, by name: "measure revenue, column sessions.gross"
  Tolerance tolerance;
  double allowed_ratio = 0;  // of times; 0 where none were compared
  bool passed() const;       // every query
};

enum class SpeedCheck : std::uint8_t { none, warm, warm_and_cold };

struct CheckSettings {
  Tolerance tolerance{1e-9, 0};  // of reals
  std::string base;              // another model text to compare with
  std::string base_revision;     // or this one at a revision of the git repository that holds it
  SpeedCheck speed = SpeedCheck::none;
  SpeedSettings timing;
  bool undecided_fails = false;     // a query of which it can't be told whether it is slower fails
  std::string budgets;              // a file of lines `QUERY within 50 ms`, beside those in the model text
  std::vector<std::string> accept;  // queries whose new results are written into the baseline
};

// The times of a baseline as a git repository holds them.
struct RecordedTimes {
  std::string revision;                       // its hash, in short
  std::string day;                            // on which it was committed: "2025-03-01"
  std::map<std::string, std::int64_t> times;  // nanoseconds, by query
};
// Those of the last revisions in which they changed, the oldest first. Errors: JR-908 (git is not there, or no repository
// holds the folder).
Result<std::vector<RecordedTimes>> recorded_times(const std::string& folder, std::size_t most);

// Runs the recorded queries again and compares: with the recorded results; with the recorded model over the data of
// today, where these have changed; or with another base, which needs no folder. What differs is narrowed down. Times
// count where `speed` asks for them: the base, which is the recorded model if none is named, and the candidate run in
// turn (juniper/speed.h), and one that is slower with confidence fails.
// Errors: JR-903 (no baseline there), JR-904 (a file of it can't be read: names file and line), JR-907 (a line of the
// budgets can't be read, or names no query), JR-908 (git does not give that revision), JR-909 (a query to accept that
// was not recorded); those of reading the base.
Result<CheckReport> check(const Dataset& dataset, const std::string& folder, const CheckSettings& settings = {});

// The report as JUnit XML: a test case for each query's values, speed and budget, as build servers show them.
std::string to_junit(const CheckReport& report, const std::string& name);
// The same into a file, new or an earlier one of its kind. Errors: JR-009 (cannot write), JR-011 (something else is
// there).
Result<void> write_junit(const CheckReport& report, const std::string& name, const std::string& path,
                         Overwrite overwrite = Overwrite::own_kind);

}  // namespace juniper
