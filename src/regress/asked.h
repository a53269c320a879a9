// Asking the queries of a baseline: saved ones, those of files and of logs, with their parameters.
#pragma once

#include <string>
#include <vector>

#include "juniper/ask.h"
#include "regress/result_file.h"

namespace juniper::regress {

struct Timed {
  QueryResult result;
  std::int64_t nanoseconds = 0;  // median of the runs
};
// Runs a question a few times; once if it takes longer than a second. Errors: as of `ask`.
Result<Timed> run_timed(const Dataset& dataset, const std::string& question);

// The queries of files in the model language, as results without rows: name and text. Errors: JR-001 (the file can't be
// read), those of its text, JR-906 (it holds something else, or a query whose name is taken).
Result<std::vector<RecordedResult>> read_queries(const Model& model, const std::vector<std::string>& paths);

// Those of a log; what bears no name of a saved query is named by its text: "log-1f3a9c". Errors: as of read_query_log.
Result<std::vector<RecordedResult>> read_logged(const Model& model, const std::string& path);

}  // namespace juniper::regress
