// Asking the queries of a baseline: saved ones, those of files and of logs, with their parameters.
#pragma once

#include <filesystem>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "juniper/ask.h"
#include "regress/result_file.h"

namespace juniper::regress {

// A dataset, and the file of its store.
struct Placed {
  Dataset dataset;
  std::filesystem::path store;
};

// The store that was loaded for a model over the data of a dataset; its file goes with the last copy of this.
class TemporaryStore {
 public:
  // Errors: those of loading.
  static Result<TemporaryStore> load(const Dataset& dataset, const Model& model);
  // The same for texts that are named as seen from the folder of the dataset's model. Errors: those of reading the
  // texts, too.
  static Result<TemporaryStore> load(const Dataset& dataset, const std::vector<ModelText>& texts);
  const Placed& placed() const { return *placed_; }

 private:
  explicit TemporaryStore(std::shared_ptr<const Placed> placed) : placed_(std::move(placed)) {}
  std::shared_ptr<const Placed> placed_;
};

// A dataset as it is with other values of its parameters. Kept, so that each is made once.
class Variants {
 public:
  explicit Variants(Placed placed) : placed_(std::move(placed)) {}
  explicit Variants(TemporaryStore store) : placed_(store.placed()), own_(std::move(store)) {}
  const Dataset& dataset() const { return placed_.dataset; }
  // Lives as long as this. Errors: JR-213 (no such parameter, or a value that does not fit) and those of computing what
  // is stored anew.
  Result<const Placed*> with(const std::map<std::string, std::string>& set);

 private:
  Placed placed_;
  std::optional<TemporaryStore> own_;
  std::map<std::map<std::string, std::string>, TemporaryStore> made_;
};

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
