// Why a number is what it is: a measure in one slice, opened into its parts down to rows.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "juniper/dataset.h"
#include "juniper/diagnostics.h"
#include "juniper/value.h"

namespace [[gnu::visibility("default")]] juniper {

// A condition of the slice in which an aggregate is evaluated.
struct UnfoldedFilter {
  std::string text;      // as it is written
  Place place;           // where: `--at`, or the `where` of a measure
  bool reaches = false;  // false: it filters no row of the aggregate's table
  std::string bridge;    // the table by way of which it does, where `through` named one; else ""
};

// A link that the expression of an aggregate follows, for rows that have no match there.
struct UnfoldedMiss {
  std::string link;               // "sessions.tariff_code -> tariffs.tariff_code"
  std::uint64_t rows = 0;         // of those that the aggregate goes over
  std::vector<std::string> keys;  // the first few keys; "null" for a key that is null
};

struct UnfoldedRow {
  std::vector<Value> cells;  // one for each of `columns`; the last is what the aggregate makes of the row
  bool skipped = false;      // as null
  // The file that it was read from, and which of its records it is, from 1, the header not counted. "" and 0 for a row of
  // a calculated table or a derived one, and where rows were sorted or left out at load.
  std::string file;
  std::uint64_t record = 0;
};

struct UnfoldedColumn {
  std::string name;
  Type type;
  std::string format;
};

// What a part of a measure is.
enum class UnfoldedKind : std::uint8_t {
  measure,
  slice,  // with modifiers
  name,   // of `let`
  expression,
  aggregate,
};

// "measure", "aggregate"
std::string_view to_string(UnfoldedKind kind);

struct UnfoldedPart {
  std::uint32_t depth = 0;  // the parts of a part stand behind it, one deeper
  UnfoldedKind kind = UnfoldedKind::measure;
  std::string text;  // as it is written
  Place place;
  Value value;
  Type type;
  std::string format;  // of a measure
  // Of an aggregate alone.
  std::string table;                 // whose rows it goes over
  std::optional<std::uint64_t> all;  // rows of the table, of which the slice's filters leave
  std::optional<std::uint64_t> seen;
  std::uint64_t kept = 0;     // those, or derived rows, that its own conditions leave
  std::uint64_t skipped = 0;  // of these, those whose value is null
  std::vector<UnfoldedFilter> filters;
  std::vector<UnfoldedMiss> misses;
  // The table's key, and what the aggregate reads; some columns more where that would not tell rows apart.
  std::vector<UnfoldedColumn> columns;
  std::vector<UnfoldedRow>
      rows;  // those with the largest values, or the first, of first and last those that win; then the first skipped
};

struct Unfolding {
  std::vector<UnfoldedPart> parts;  // the first is the whole
};

// Opens a measure, or an expression over measures, in the slice that conditions make ("stations.region = \"Coast\"").
// `samples` rows are shown of each aggregate, and as many that it skips. Rows are written out in memory, about 50 bytes
// each. Errors: those of asking for `show MEASURE`.
Result<Unfolding> unfold(const Dataset& dataset, const std::string& measure, const std::vector<std::string>& at = {},
                         std::size_t samples = 3);

}  // namespace juniper
