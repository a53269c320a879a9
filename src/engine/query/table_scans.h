// The passes over tables that a query begins with. Aggregates in the query's own slice over nothing but a table's columns
// share one pass with each other and with the search for the query's rows, for all of its levels; so do those over a
// bridge.
#pragma once

#include <deque>
#include <functional>
#include <map>
#include <optional>
#include <set>
#include <string>
#include <utility>
#include <vector>

#include "engine/frame/evaluator.h"
#include "engine/query/query_keys.h"

namespace juniper::engine {

// Groups of a level by those of the keys that it keeps and that a pass tells: indexes into query.by.
struct LevelGroups {
  std::vector<std::uint32_t> keys;
  Groups groups;
};

// The rows of one table with what leads from it: what combinations of keys occur there, and what aggregates over it come
// to, for each level.
struct TableScan {
  language::SeenTable seen;
  bool gives_rows = false;
  std::vector<language::NodePtr> aggregates;
  std::vector<LevelGroups> levels;
};

class TableScans {
 public:
  // All outlive it; the evaluator is the query's.
  TableScans(const Source& source, const language::Query& query, unsigned threads, Evaluator& evaluator)
      : source_(source), model_(source.model), query_(query), threads_(threads), evaluator_(evaluator) {}

  // Whether an aggregate can be computed by a pass over a table.
  static bool is_simple(const language::Node& aggregate);

  // `levels` are the keys that each keeps, as indexes into query.by.
  using Levels = std::vector<std::vector<std::uint32_t>>;
  void run(const Levels& levels);

  // Once it has run:
  std::deque<TableScan>& all() { return scans_; }
  const std::deque<TableScan>& all() const { return scans_; }
  const QueryKeys& keys() const { return *keys_; }
  const std::vector<ExplainStep>& steps() const { return steps_; }
  std::uint64_t rows_scanned() const { return rows_scanned_; }

 private:
  using NodePtr = language::NodePtr;
  using TableIndex = language::TableIndex;
  using Roles = language::Roles;
  // Of a predicate of the query: whether a pass reads it.
  using IsRead = std::function<bool(const language::Predicate&)>;
  using Seen = std::set<std::pair<std::vector<TableIndex>, std::string>>;

  // The keys of a request: which of the query's they are, which of these each level keeps, and where they stand.
  struct PassKeys {
    struct Place {
      std::uint32_t first = 0;  // among the request's
      std::uint32_t count = 1;
      const CombinedKey* combined = nullptr;
    };
    std::vector<std::uint32_t> by;
    std::map<std::uint32_t, Place> places;
    Levels kept;
  };

  // A bridge of a table: where they meet, and of each level its parts by the query's keys that it tells.
  struct Bridge {
    language::Meeting met;
    std::size_t met_key = 0;  // among the keys of the table's request
    PassKeys keys;
    RowsRequest rows;  // conditions, and all keys
    std::vector<std::shared_ptr<const BridgeParts>> parts;
  };

  void collect(const NodePtr& node, const std::vector<TableIndex>& bridges, Seen& seen);
  TableScan& scan_of(const language::SeenTable& seen);
  static ScanAggregate aggregate_of(const NodePtr& node);
  IsRead read_by(const language::SeenTable& seen) const;
  IsRead read_over(const language::SeenTable& seen, TableIndex bridge) const;
  std::vector<NodePtr> filters(TableIndex table, const Roles& roles, const IsRead& is_read) const;
  enum class Combined : std::uint8_t { yes, no };  // whether keys may stand for several of the request's
  PassKeys add_keys(ScanRequest& request, const Roles& roles, const Levels& levels, const IsRead& is_read,
                    Combined combined) const;
  ScanResult pass(const ScanRequest& request, const Roles& roles, const std::vector<std::uint32_t>& by);
  Groups as_asked(Groups groups, const PassKeys& keys, std::size_t level) const;
  void scan_table(TableScan& made, const Levels& levels);
  void scan_over_bridges(TableScan& made, const Levels& levels);
  void read_parts(Bridge& bridge, const WantedCodes& wanted, std::size_t levels);
  LevelGroups joined(Groups groups, const std::vector<std::uint32_t>& kept, const std::vector<std::uint32_t>& own,
                     const std::vector<Bridge>& bridges, std::size_t level) const;

  const Source& source_;
  const language::CheckedModel& model_;
  const language::Query& query_;
  unsigned threads_;
  Evaluator& evaluator_;
  std::optional<QueryKeys> keys_;  // once the tables are known that are scanned
  std::deque<TableScan> scans_;
  // Measures that were looked at: two that name a third one twice would else have it looked at four times, and so on.
  std::set<std::pair<language::MeasureIndex, std::vector<TableIndex>>> collected_;
  std::vector<ExplainStep> steps_;
  std::uint64_t rows_scanned_ = 0;
};

}  // namespace juniper::engine
