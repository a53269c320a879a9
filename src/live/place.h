// A place on which tables are live: what its tables are, and what it answers to a statement.
#pragma once

#include <filesystem>
#include <map>
#include <memory>
#include <string>
#include <vector>

#include "base/source_place.h"
#include "engine/asked/live_tables.h"
#include "engine/asked/watch.h"
#include "live/answer.h"
#include "live/dialect.h"

namespace juniper::live {

// One connection, which reads only. Belongs to one thread.
class Place {
 public:
  virtual ~Place() = default;

  // For messages: "postgresql service=charging".
  virtual std::string name() const = 0;
  virtual const Dialect& dialect() const = 0;
  // What a table is named behind FROM.
  virtual std::string relation(const base::Selection& selection) = 0;
  // The columns of a relation, and the types that they have there ("" where the engine tells none).
  virtual std::map<std::string, std::string> columns(const std::string& relation) = 0;
  // What the engine tells of the bytes of a table.
  virtual engine::LiveSizes sizes(const base::Selection& selection) = 0;
  // What a statement gives. Throws a base::Failure: JR-521 where it can't be run, is cut off, or takes longer than it may,
  // and those of `watch` (which may be null), after the place was told to stop.
  virtual Answer ask(const std::string& statement, const std::vector<Type>& types, const engine::Watch* watch) = 0;
};

// Connects. `folder` is what a file's name is relative to. Throws a base::Failure with JR-521 or JR-501.
std::unique_ptr<Place> open_place(const base::SourcePlace& place, const std::filesystem::path& folder);

// One for each kind.
std::unique_ptr<Place> open_sqlite(const std::filesystem::path& path);
std::unique_ptr<Place> open_postgresql(const std::string& place);
std::unique_ptr<Place> open_clickhouse(const std::string& url);

}  // namespace juniper::live
