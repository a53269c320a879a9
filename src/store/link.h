// Links as they are stored, and as they are read.
//
// A foreign key is stored once. Where its values are few, its column already tells the keys apart by codes, and a link
// has nothing but the row of the one side for each of these codes; not even that where the codes are those rows. Elsewhere,
// and where a key has several columns, it has a row for each row of the many side.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "store/codes.h"
#include "store/column.h"

namespace juniper::store {

enum class LinkForm : std::uint8_t {
  by_row,         // the row of the one side for each row of the many side
  by_code,        // for each code of the key but that of null, of which some may stand in no row
  codes_are_rows  // nothing: the codes of the key are rows of the one side, or no_row
};

struct StoredLink {
  std::string name;
  std::uint64_t no_row = 0;     // the rows of the one side; stands where a key is null or has no match
  std::uint64_t unmatched = 0;  // rows of the many side that lead to none
  std::int64_t resolve_nanoseconds = 0;
  std::string encoding;  // for people
  std::string broken;    // why it could not be resolved, and has no rows; "" for a whole one
  // The many side, and the first column of its key.
  std::uint64_t table = 0;
  std::uint64_t column = 0;
  LinkForm form = LinkForm::by_row;
  Codes rows;  // as the form says

  bool reads_key() const { return form != LinkForm::by_row; }
};

// Whether a link over this one column goes by its codes: where they are at most half as many as its rows.
bool leads_by_code(const Column& key);

// Whether the codes of a key can be rows of a table with so many: none of them is beyond, and that of null is no_row.
bool may_be_rows(const Column& key, std::uint64_t no_row);

// For each row of the many side, the row of the one side, `no_row` where there is none. Reads the link and the first
// column of its key, both of which outlive it. For one thread.
class LinkRows {
 public:
  LinkRows(const StoredLink& link, const Column& key);

  // The rows of the many side.
  std::uint64_t size() const { return read_->size(); }
  std::size_t blocks() const { return read_->blocks(); }
  std::size_t rows_in_block(std::size_t block) const { return read_->rows_in_block(block); }
  std::uint64_t no_row() const { return link_->no_row; }
  // As those of Codes.
  std::uint64_t at(std::uint64_t row) const;
  void decode_block(std::size_t block, std::uint64_t* out);
  std::vector<std::uint64_t> decoded();

 private:
  const StoredLink* link_;
  const Codes* read_;                // of the key, or of the link
  std::vector<std::uint64_t> rows_;  // by code of the key, null's the last; made when a block is decoded
};

}  // namespace juniper::store
