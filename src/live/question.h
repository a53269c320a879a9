// The live tables of one question: passes over them as statements, and the values that the answers have told.
#pragma once

#include <map>
#include <memory>
#include <set>
#include <string>
#include <utility>
#include <vector>

#include "engine/asked/live_tables.h"
#include "engine/scan/scan.h"
#include "engine/vector/key_values.h"
#include "live/places.h"
#include "live/statement.h"

namespace juniper::live {

class Question final : public engine::LiveTables {
 public:
  // Both outlive it; the store is the source's.
  Question(const engine::Source& source, store::Store& store) : source_(source), store_(store), places_(source) {}

  const store::Column& column(language::ColumnId id) override;
  std::shared_ptr<const engine::KeyValues> values(language::TableIndex table,
                                                  const language::NodePtr& expression) override;
  engine::ScanResult scan(const engine::Source& source, const engine::ScanRequest& request) override;
  void fetch(language::TableIndex table) override;
  bool is_fetched(language::TableIndex table) const override { return fetched_.contains(table); }
  engine::LiveSizes sizes(language::TableIndex table) override { return places_.sizes(table); }
  const std::vector<AskedStatement>& statements() const override { return places_.asked(); }

 private:
  struct Less {
    bool operator()(const Value& a, const Value& b) const { return compare(a, b) < 0; }
  };
  using Values = std::set<Value, Less>;
  // What is known of a column, or of an expression, in the form that the engine has asked for.
  struct Known {
    Values values;
    std::unique_ptr<store::Column> column;
    std::shared_ptr<const engine::KeyValues> keys;
  };
  // Finds the codes of a pass's keys, and notes values that have none.
  class Coder;

  void resolve_links(language::TableIndex table);

  const engine::Source& source_;
  store::Store& store_;
  Places places_;
  std::set<language::TableIndex> fetched_;
  std::map<language::ColumnId, Known> columns_;
  std::map<std::pair<language::TableIndex, std::string>, Known> expressions_;
};

}  // namespace juniper::live
