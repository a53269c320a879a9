// A model at a glance: what the library finds about it, gathered for somebody who reads no terminal
// (`render(const Overview&, …)` in juniper/report.h makes a page of it).
#pragma once

#include <cstddef>
#include <cstdint>
#include <map>
#include <optional>
#include <string>
#include <vector>

#include "juniper/ask.h"
#include "juniper/audit.h"
#include "juniper/baseline.h"
#include "juniper/dataset.h"
#include "juniper/describe.h"
#include "juniper/distribution.h"
#include "juniper/links.h"
#include "juniper/weigh.h"

namespace [[gnu::visibility("default")]] juniper {

struct OverviewSettings {
  std::string log;                  // a log of captured queries, whose reading counts as use (juniper/query_log.h)
  std::vector<std::string> before;  // earlier weighings, the oldest first, as weigh_against takes them
  std::string baseline;             // its folder; "": the one beside the model text, if there is one
  bool ask_queries = true;          // the saved queries are asked, and the baseline is checked
  // How many revisions of the git repository to look at, for the times of the baseline, and the bytes of the weighings
  // that `before` names; 0: none.
  std::size_t revisions = 0;
};

// A saved query, and what came of it.
struct ShownQuery {
  QueryInfo query;
  Result<QueryResult> result = tl::unexpected(Diagnostics{});
};

struct EarlierWeighing {
  std::string name;  // its file
  WeightChanges changes;
};

// What a revision in git recorded of a model.
struct HistoryPoint {
  std::string revision;
  std::string day;
  std::optional<std::uint64_t> bytes;         // of the store
  std::map<std::string, std::int64_t> times;  // of queries, in nanoseconds
};

// What a reader may not ask for, links and the audit, is empty where a reader asks.
struct Overview {
  std::string path;      // of the model text
  std::string reader;    // as whom it was asked; "" for everybody
  Diagnostics problems;  // of the data and of the model: what is broken, and what is left out for it
  std::string calendar;  // the day of the model's calendar: "days.day"; "" for none
  Weighing weighing;
  std::int64_t load_nanoseconds = 0;
  std::vector<Distribution> distributions;  // in the order of the model
  LinkReport links;
  Audit audit;
  std::vector<Description> descriptions;  // hidden things, too
  std::vector<ShownQuery> queries;
  std::optional<CheckReport> baseline;  // nothing where none stands
  std::vector<EarlierWeighing> earlier;
  std::vector<HistoryPoint> history;  // the oldest first
};

// Gathers all that. A query that can't be asked stands there with its error. Errors: those of weighing, links, the audit,
// the baseline, the log, and the history in git.
Result<Overview> overview(const Dataset& dataset, const OverviewSettings& settings = {});

}  // namespace juniper
