// Where the bytes are: the sizes of a store, by table, column and link, and who uses each column.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "juniper/dataset.h"
#include "juniper/query_log.h"
#include "juniper/value.h"

namespace [[gnu::visibility("default")]] juniper {

// Somebody who needs a column.
struct ColumnUse {
  UserKind kind = UserKind::measure;
  std::string name;  // "revenue", "sessions.bay_id -> bays.bay_id"

  bool operator==(const ColumnUse&) const = default;
};

struct ColumnWeight {
  std::string table;
  std::string column;
  Type type;
  bool calculated = false;
  bool key = false;
  bool hidden = false;
  std::uint64_t rows = 0;
  std::uint64_t distinct = 0;  // values other than null
  std::uint64_t nulls = 0;     // rows
  Value min;                   // null for a column without values, and for one that is hidden from who asks
  Value max;
  std::string encoding;  // "dictionary, packed 5 bits"
  std::uint64_t dictionary_bytes = 0;
  std::uint64_t code_bytes = 0;
  std::uint64_t total_bytes() const { return dictionary_bytes + code_bytes; }
  double bits_per_row() const {
    return rows == 0 ? 0 : 8.0 * static_cast<double>(total_bytes()) / static_cast<double>(rows);
  }
  // Of a live table, which takes no bytes here: those that it takes there, where its engine tells.
  std::optional<std::uint64_t> there_bytes;
  std::vector<ColumnUse> used_by;    // empty: nothing in the model uses it
  std::uint64_t logged_queries = 0;  // of a log, that read it, themselves or through measures
  bool is_unused() const { return used_by.empty() && logged_queries == 0; }
};

struct LinkWeight {
  std::string link;
  std::string table;  // the many side, whose rows it has one code for
  std::uint64_t rows = 0;
  std::string encoding;
  std::uint64_t bytes = 0;
};

struct TableWeight {
  std::string table;
  std::uint64_t rows = 0;
  std::uint64_t source_bytes = 0;
  std::uint64_t dictionary_bytes = 0;
  std::uint64_t code_bytes = 0;
  std::uint64_t link_bytes = 0;  // of the links that start here
  std::uint64_t total_bytes() const { return dictionary_bytes + code_bytes + link_bytes; }
};

// A live table, as it is where it stands.
struct LiveWeight {
  std::string table;
  std::string place;  // "postgresql service=charging"
  std::uint64_t rows = 0;
  std::optional<std::uint64_t> bytes;        // as its engine tells; nothing where it doesn't
  std::optional<std::uint64_t> index_bytes;  // beside these
  std::vector<ColumnWeight> columns;         // in the order of the model
};

struct Weighing {
  std::string model;                // its title, or the name of its file
  std::vector<TableWeight> tables;  // each heaviest first
  std::vector<ColumnWeight> columns;
  std::vector<LinkWeight> links;
  std::vector<LiveWeight> live;  // in the order of the model
  // Bytes of the file that belong to no table: its header, directory, the model text, and padding between parts.
  std::uint64_t overhead_bytes = 0;
  // The size of the store file. Equal to the sum over `tables` and `overhead_bytes`.
  std::uint64_t file_bytes = 0;
  std::uint64_t source_bytes = 0;
  // Of a log of queries: how many there are, and what is wrong with those that the model does not understand.
  bool has_log = false;
  std::uint64_t logged_queries = 0;
  std::uint64_t not_understood = 0;
  Diagnostics log_problems;  // one for each different text, at its line in the log
};

// Weighs a dataset. All numbers are counted from the bytes held, those of live tables where they are. Errors: those of
// asking live tables.
Result<Weighing> weigh(const Dataset& dataset);
// And counts, for each column, the queries of a log that read it.
Result<Weighing> weigh(const Dataset& dataset, const QueryLog& log);

// A part of the file in two weighings: a column, a link, or what belongs to no table.
struct PartWeight {
  std::uint64_t rows = 0;
  std::uint64_t distinct = 0;
  std::uint64_t dictionary_bytes = 0;
  std::uint64_t code_bytes = 0;  // and all else
  std::uint64_t total_bytes() const { return dictionary_bytes + code_bytes; }

  bool operator==(const PartWeight&) const = default;
};
struct PartChange {
  std::string table;                 // "" for what belongs to none
  std::string name;                  // of the column or link
  std::optional<PartWeight> before;  // nothing: it was not there
  std::optional<PartWeight> after;   // nothing: it is gone
  std::int64_t bytes() const {
    return static_cast<std::int64_t>(after ? after->total_bytes() : 0) -
           static_cast<std::int64_t>(before ? before->total_bytes() : 0);
  }
};
struct WeightChanges {
  std::vector<PartChange> parts;  // those that differ, the largest change of bytes first
  std::uint64_t same_parts = 0;
  std::uint64_t before_bytes = 0;  // of the files
  std::uint64_t after_bytes = 0;
};

// What differs between a weighing and one of before: a store (.jrs), or what `juniper weigh --format json` or `--format
// csv` printed then. Parts are told apart by table and name. Errors: those of opening a store, JR-006 (the file is none
// of these).
Result<WeightChanges> weigh_against(const Weighing& weighing, const std::string& before_path);

// An earlier weighing as a git repository holds it.
struct RecordedWeight {
  std::string revision;     // its hash, in short
  std::string day;          // on which it was committed: "2025-03-01"
  std::uint64_t bytes = 0;  // of the store's parts
};
// What `juniper weigh MODEL --format json` or csv printed into a file, in the last revisions in which it changed, the
// oldest first. Errors: JR-006 (a revision of it is no weighing), JR-908 (git is not there, or no repository holds it).
Result<std::vector<RecordedWeight>> recorded_weights(const std::string& path, std::size_t most);

}  // namespace juniper
