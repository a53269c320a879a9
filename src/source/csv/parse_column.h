// The fields of one column of a piece of CSV as values of its type.
#pragma once

#include <cstdint>
#include <deque>
#include <string>
#include <vector>

#include "base/field_part.h"
#include "base/source_place.h"
#include "juniper/value.h"
#include "source/column_input.h"
#include "source/csv/records.h"

namespace juniper::source {

enum class Misfit : std::uint8_t { type, utf8 };

// A cell that does not fit the type of its column.
struct BadCell {
  std::uint32_t row;
  std::size_t column;  // of the request
  Misfit misfit;
};

// Reads a field of each row, or a part of it, as `spelling` says, into `values`. Cells that do not fit are added to `bad`, as column number
// `number`, and get any value. Texts view the records, or `unquoted` where a doubled quote had to be made single.
void parse_column(const CsvRecords& records, std::size_t position, Type type, base::FieldPart part,
                  const base::Spelling& spelling, std::size_t number, PieceValues& values,
                  std::deque<std::string>& unquoted, std::vector<BadCell>& bad);

}  // namespace juniper::source
