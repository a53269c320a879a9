// Tables whose rows stay on another engine: what the engine needs of them, and what an answer may teach it.
//
// The engine works with codes, numbers in the order of a column's values. Of a table that it holds it knows all values;
// of a live one, those that the answers so far have told. An answer that tells more of them is kept, and the question is
// begun anew with them: what was answered is not asked again. So codes never change while they are in use, and no
// statement is needed to learn values first.
#pragma once

#include <cstdint>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "juniper/explain.h"
#include "language/checked.h"
#include "store/store.h"

namespace juniper::engine {

class KeyValues;
struct ScanRequest;
struct ScanResult;
struct Source;

// What an engine tells of the bytes that a table takes there; nothing where it doesn't.
struct LiveSizes {
  std::string place;  // "postgresql service=charging"
  std::optional<std::uint64_t> bytes;
  std::optional<std::uint64_t> index_bytes;
  std::map<std::string, std::uint64_t> columns;  // by their names there
};

// Belongs to one question, and to one thread.
class LiveTables {
 public:
  virtual ~LiveTables() = default;

  // The values of a column that are known, as a column without rows.
  virtual const store::Column& column(language::ColumnId id) = 0;
  // Those of an expression over a table's rows.
  virtual std::shared_ptr<const KeyValues> values(language::TableIndex table, const language::NodePtr& expression) = 0;
  // Takes the rows of a live table into the store of the question, where they stand from then on as those of a loaded one.
  // Throws a base::Failure with JR-713 where they are too many.
  virtual void fetch(language::TableIndex table) = 0;
  virtual bool is_fetched(language::TableIndex table) const = 0;
  // A pass over a live table. Throws MoreValues; a base::Failure where the place does not answer (JR-521) or can't
  // answer this (JR-713).
  virtual ScanResult scan(const Source& source, const ScanRequest& request) = 0;
  // The bytes of a live table. Throws as `scan`.
  virtual LiveSizes sizes(language::TableIndex table) = 0;
  // What was asked so far, in that order.
  virtual const std::vector<AskedStatement>& statements() const = 0;
};

// Makes the live tables of a question, for a dataset whose model has some.
class LiveAsker {
 public:
  virtual ~LiveAsker() = default;
  // The source outlives what comes out; `store` is that of the source, and of this question alone.
  virtual std::unique_ptr<LiveTables> ask(const Source& source, store::Store& store) const = 0;
};

// An answer has told values that were not known: the question is to be begun anew.
struct MoreValues {};

// Somebody looks at a live table's rows one by one: they are to be fetched first.
struct RowsNeeded {
  language::TableIndex table = 0;
};

// Answers a question by `answer`, as often as it takes; `live` may be null.
template <class Answer>
auto with_live_tables(LiveTables* live, const Answer& answer) {
  for (;;) {
    try {
      return answer();
    } catch (const MoreValues&) {
      continue;
    } catch (const RowsNeeded& needed) {
      live->fetch(needed.table);
    }
  }
}

}  // namespace juniper::engine
