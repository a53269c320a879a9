// What tells the rows of a query apart: columns by their codes, and expressions by the codes of their values.
#pragma once

#include <map>
#include <memory>
#include <optional>
#include <set>
#include <tuple>
#include <utility>
#include <vector>

#include "engine/frame/frame.h"
#include "engine/program/program.h"
#include "language/checked.h"

namespace juniper::engine {

// A key that is an expression over several columns of few values: rows are grouped by parts of it, each of which depends
// on one code, and these groups are put together by the key afterwards. So no row's value is computed.
struct CombinedKey {
  std::vector<ScanKey> keys;         // of the parts
  std::vector<std::uint64_t> codes;  // the key's own, by combination of their codes; that of the first part tells most
};

class QueryKeys {
 public:
  // Source and query outlive it. `tables` are those that the keys are read from, by the roles of each: all that rows of
  // the query come from, or that an aggregate of it goes over.
  QueryKeys(const Source& source, const language::Query& query,
            const std::set<std::pair<language::TableIndex, language::CheckedModel::Roles>>& tables, unsigned threads);

  // The key by its number, as it is seen from the rows of a table that leads to all of its columns; nothing from others.
  std::optional<ScanKey> seen_from(std::uint32_t k, language::TableIndex table,
                                   const language::CheckedModel::Roles& roles) const;
  // The parts that stand for the key, where it is worth while; else null.
  const CombinedKey* combined_from(std::uint32_t k, language::TableIndex table,
                                   const language::CheckedModel::Roles& roles) const;
  std::uint64_t null_code(std::uint32_t k) const;
  // The largest code of its keys.
  std::uint64_t last_code(std::uint32_t k) const;
  // Whether the code stands for a value that does not fit its type.
  bool is_overflow(std::uint32_t k, std::uint64_t code) const {
    return values_[k] && code == values_[k]->overflow_code();
  }
  Value value_of(std::uint32_t k, std::uint64_t code) const;
  VectorPtr decode(std::uint32_t k, const std::vector<std::uint64_t>& codes) const;

 private:
  language::NodePtr expression_from(std::uint32_t k, language::TableIndex table,
                                    const language::CheckedModel::Roles& roles) const;
  void add_values(std::uint32_t k, language::TableIndex table, const language::NodePtr& expression, unsigned threads);
  struct Combinations;  // of the values of a key's parts, with the key's for each
  std::unique_ptr<Combinations> combinations(language::TableIndex table, const language::NodePtr& expression,
                                             unsigned threads) const;

  const Source& source_;
  const language::Query& query_;
  std::vector<std::shared_ptr<KeyValues>> values_;  // of expressions
  using Seen = std::tuple<std::uint32_t, language::TableIndex, language::CheckedModel::Roles>;
  std::map<Seen, CombinedKey> combined_;
};

}  // namespace juniper::engine
