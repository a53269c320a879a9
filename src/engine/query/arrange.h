// The rows of a result in their order: sorted, limited, totals behind the rows that they sum up.
#pragma once

#include <boost/unordered/unordered_flat_map.hpp>
#include <optional>
#include <vector>

#include "engine/frame/frame.h"
#include "engine/program/program.h"
#include "engine/query/query_keys.h"
#include "engine/scan/packed_keys.h"
#include "juniper/ask.h"

namespace juniper::engine {

// The rows of one level: the query's own (the first level, which keeps all `by` columns), or of one total. They are
// chosen among combinations of codes.
struct ArrangedLevel {
  std::vector<std::uint32_t> kept;  // indexes into query.by, ascending
  KeyLayout layout;                 // of the codes of the kept columns
  PackedKeys keys;                  // of the combinations
  std::vector<VectorPtr> shown;     // one for each shown measure, by combination
  std::vector<std::uint32_t> rows;  // the combinations that the result shows

  // The code that a combination has of query.by[k], which is kept.
  std::uint64_t code(std::size_t combination, std::uint32_t k) const;
  // Some of its combinations, from `begin` to before `end`, without values.
  ArrangedLevel part(std::size_t begin, std::size_t end) const;
  // Is followed by the rows of another part of the same level; of both, the combinations that aren't shown are dropped.
  void append(const ArrangedLevel& other);
};

// How the rows of a query's levels follow each other.
class Arrangement {
 public:
  // `detail` has all combinations of the query's own level. Source, query and keys outlive the arrangement.
  Arrangement(const Source& source, const language::Query& query, const QueryKeys& keys, const ArrangedLevel& detail);

  // Leaves the first `count` rows of the query's own level, or of a part of it, in order.
  void keep_first(std::size_t count, ArrangedLevel& level) const;
  // The result, of all levels in the query's order; a limit is kept to.
  QueryResult result(std::vector<ArrangedLevel> levels) const;

 private:
  // The places of a `by` column's codes in their order, where that is not the order of the codes themselves.
  using Places = boost::unordered_flat_map<std::uint64_t, std::uint64_t>;

  std::optional<Places> places_of_codes(std::uint32_t k, const ArrangedLevel& detail) const;
  int compare_codes(std::uint32_t k, std::uint64_t a, std::uint64_t b) const;
  int compare_by(const language::QuerySort& sort, const ArrangedLevel& level, std::uint32_t a, std::uint32_t b) const;
  bool before(const ArrangedLevel& level, std::uint32_t a, std::uint32_t b) const;
  void sort(ArrangedLevel& level) const;
  // Calls sort(is before) with what compares rows of a level.
  template <class Sort>
  void sort_by(const Sort& sort, const ArrangedLevel& level) const;
  void interleave(const std::vector<ArrangedLevel>& levels, QueryResult& result) const;
  void append(const ArrangedLevel& level, std::uint32_t from, std::uint32_t number, QueryResult& result) const;

  const Source& source_;
  const language::CheckedModel& model_;
  const language::Query& query_;
  const QueryKeys& keys_;
  std::vector<std::optional<Places>> places_;  // for each key
};

// The error for `by` columns whose codes don't fit one key.
Diagnostics too_wide_error(const Source& source, const language::Query& query);

}  // namespace juniper::engine
