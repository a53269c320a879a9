// The parts of a statement that stand in front of it (WITH), each used by those that follow. A part depends on no rows
// around it. One that is the same as an earlier one is not written twice, and aggregates over the same rows and groups
// share a part, so that these rows are read once.
#pragma once

#include <map>
#include <string>
#include <vector>

#include "language/checked.h"

namespace juniper::sql_engine {

class Parts {
 public:
  explicit Parts(const language::CheckedModel& model) : model_(model) {}

  // The name of a part: of `select`, which defines every alias that it reads.
  std::string add(const std::string& select);

  // A part of the groups c0, c1, … of the rows of `source` ("FROM … WHERE …"), and its column with `aggregate`, an
  // aggregate of x, of the expression x.
  struct Aggregated {
    std::string part;
    std::string column;
  };
  Aggregated add(const std::vector<std::string>& groups, const std::string& source, const std::string& x,
                 const std::string& aggregate);

  // "part1 AS MATERIALIZED (…)", in their order.
  std::vector<std::string> texts() const;

 private:
  struct Part {
    std::string name;
    std::string select;  // the whole, or, of one that aggregates:
    std::vector<std::string> groups;
    std::string source;
    std::vector<std::string> values;  // what is aggregated, as x0, x1, …
    std::vector<std::string> aggregates;
  };
  Part& part(const std::vector<std::string>& meaning);

  const language::CheckedModel& model_;
  std::map<std::vector<std::string>, std::size_t> numbers_;  // of parts, by what tells them apart
  std::vector<Part> parts_;
  std::size_t last_name_ = 0;
};

// "a AS c0, b AS c1", and "c0, c1".
std::string named_columns(const std::vector<std::string>& expressions);
std::string column_names(const std::vector<std::string>& expressions);

}  // namespace juniper::sql_engine
