// The places of a model's live tables, and what is known of the tables there. Connections are opened when they are first
// asked for, and live as long as the question.
#pragma once

#include <map>
#include <memory>
#include <string>
#include <utility>
#include <vector>

#include "engine/asked/live_tables.h"
#include "engine/asked/source.h"
#include "live/place.h"

namespace juniper::live {

class Places {
 public:
  explicit Places(const engine::Source& source) : source_(source) {}

  Place& of(language::TableIndex table);
  // Whether two live tables stand on one place, and so in one statement.
  bool are_together(language::TableIndex a, language::TableIndex b) const;
  // What stands behind FROM.
  const std::string& relation(language::TableIndex table);
  // The type that a column has there. Throws a base::Failure with JR-505 where the table has no such column.
  const std::string& native(language::ColumnId column);

  engine::LiveSizes sizes(language::TableIndex table);
  // What a statement gives; one that was asked before is not asked again.
  std::shared_ptr<const Answer> ask(language::TableIndex table, const std::string& statement,
                                    const std::vector<Type>& types);
  // All of them, in their order.
  const std::vector<AskedStatement>& asked() const { return asked_; }

 private:
  std::string name_of(language::TableIndex table) const;

  const engine::Source& source_;
  std::map<std::string, std::unique_ptr<Place>> open_;
  std::map<language::TableIndex, std::string> relations_;
  std::map<language::TableIndex, std::map<std::string, std::string>> columns_;
  std::map<std::pair<std::string, std::string>, std::shared_ptr<const Answer>> answers_;  // by place and statement
  std::vector<AskedStatement> asked_;
};

}  // namespace juniper::live
