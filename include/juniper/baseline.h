// A regression test for the queries of a model: results and times recorded as text, and compared later.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "juniper/compare.h"
#include "juniper/dataset.h"
#include "juniper/diagnostics.h"

namespace juniper {

// The folder in which a baseline stands when none is named: beside the model text, with the ending .baseline.
std::string baseline_path(const std::string& model_path);

struct RecordedQuery {
  std::string query;
  std::uint64_t rows = 0;
  std::uint64_t cells = 0;
  std::int64_t nanoseconds = 0;  // median of the runs
};
struct BaselineReport {
  std::string folder;
  std::vector<RecordedQuery> queries;
  std::vector<std::string> dropped;  // recorded earlier, no longer in the model: their files were removed
};

// Runs every saved query and writes its result, in exact text that diffs well, and its time into `folder`, which is
// made when it is not there. The layout is told in docs/baseline.md. Errors: those of the queries; JR-901 (cannot
// write), JR-902 (the folder holds something else: nothing is written).
Result<BaselineReport> baseline(const Dataset& dataset, const std::string& folder);

enum class CheckState : std::uint8_t {
  same,
  different,  // values, rows, order, columns, types or formats
  lost,       // recorded, and not in the model
  failed,     // it can no longer be run
  added,      // in the model, and not recorded: no failure
};

struct CheckedQuery {
  std::string query;
  CheckState state = CheckState::same;
  Comparison comparison;
  Diagnostics errors;                     // of a query that failed
  std::int64_t recorded_nanoseconds = 0;  // then
  std::int64_t nanoseconds = 0;           // now: median of the runs
};
struct CheckReport {
  std::string folder;
  std::vector<CheckedQuery> queries;
  bool data_changed = false;  // the sources are not those that the baseline was taken on
  bool passed() const;        // no query is different, lost or failed
};

// Runs the saved queries again and compares them with a baseline. Times are shown beside each other and decide nothing.
// Errors: JR-903 (no baseline there), JR-904 (a file of it can't be read: names file and line).
Result<CheckReport> check(const Dataset& dataset, const std::string& folder);

}  // namespace juniper
