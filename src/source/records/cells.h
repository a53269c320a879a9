// Values of sources that tell types of their own, one by one: what JSON, spreadsheets and databases give.
#pragma once

#include <cstdint>
#include <deque>
#include <string>
#include <string_view>
#include <vector>

#include "base/arena.h"
#include "source/source.h"

namespace juniper::source {

struct Cell {
  enum class Kind : std::uint8_t {
    null,
    integer,
    real,
    plain,  // a number, a truth value or a moment as the text that it is here, whatever the source spells otherwise
    text,   // UTF-8, or not; the source may spell a number so
  };
  Kind kind = Kind::null;
  std::int64_t integer = 0;
  double real = 0;
  std::string_view text;

  static Cell of_integer(std::int64_t value) { return {Kind::integer, value, 0, {}}; }
  static Cell of_real(double value) { return {Kind::real, 0, value, {}}; }
  static Cell of_plain(std::string_view value) { return {Kind::plain, 0, 0, value}; }
  static Cell of_text(std::string_view value) { return {Kind::text, 0, 0, value}; }

  bool is_null() const { return kind == Kind::null; }
};

// What a cell would be in CSV; "" for null.
std::string text_of(const Cell& cell);

// A record that can't be read at all.
struct BadCells {
  std::uint32_t line = 0;  // from 0, in its piece
  std::string code;
  std::string message;
  std::string suggestion;
  std::string text;
};

// The cells of some records, by column of the request.
class Cells {
 public:
  explicit Cells(std::size_t columns = 0) : columns_(columns) {}
  Cells(Cells&&) noexcept = default;
  Cells& operator=(Cells&&) noexcept = default;

  std::size_t rows() const { return lines_.size(); }
  const Cell& at(std::size_t row, std::size_t column) const { return columns_[column][row]; }
  std::uint32_t line_of(std::size_t row) const { return lines_[row]; }
  std::uint32_t lines() const { return all_lines_; }
  const std::vector<BadCells>& bad() const { return bad_; }

  // Begins a row that stands on that line, from 0 in the piece; all its cells are null.
  void add_row(std::uint32_t line);
  // A cell of the last row.
  Cell& last(std::size_t column) { return columns_[column].back(); }
  // Takes the last row back.
  void drop_row();
  void add_bad(BadCells bad) { bad_.push_back(std::move(bad)); }
  // How many lines the whole piece has.
  void set_lines(std::uint32_t lines) { all_lines_ = lines; }
  // A text that stays as long as the cells.
  std::string_view keep(std::string_view text);
  // Bytes of the texts that are kept.
  std::uint64_t kept_bytes() const { return kept_bytes_; }

 private:
  std::vector<std::vector<Cell>> columns_;
  std::vector<std::uint32_t> lines_;
  std::uint32_t all_lines_ = 0;
  std::vector<BadCells> bad_;
  base::Arena texts_;
  std::uint64_t kept_bytes_ = 0;
};

// Why a cell does not fit its column.
enum class CellMisfit : std::uint8_t { type, utf8 };

struct MisfitCell {
  std::uint32_t row;
  std::size_t column;  // of the request
  CellMisfit why;
};

// The values of a column of cells, in the rows that `left_out` does not have (1: left out; empty: all are in). Those that
// do not fit are added to `bad`, and get any value. A cell of another type is read as the text that it would be in CSV.
// Texts view the cells, or `texts`.
void values_of(const Cells& cells, std::size_t column, const ColumnRequest& request, const base::Spelling& spelling,
               const std::vector<std::uint8_t>& left_out, PieceValues& values, std::deque<std::string>& texts,
               std::vector<MisfitCell>& bad);

}  // namespace juniper::source
