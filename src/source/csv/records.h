// CSV (RFC 4180) as pieces of whole records, and the records of a piece as fields. Pieces of a file are cut off one
// after the other, which is quick, and may then be read on several threads.
//
// Quotes, doubled quotes, delimiters and line ends within quotes, CRLF and LF, a byte order mark, and a last line
// without its end are all read. A line with nothing on it is passed over in a file of several columns, where it can't
// be a record. A quote within a field that does not begin with one is a character like others.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "juniper/diagnostics.h"
#include "source/byte_source.h"
#include "source/csv/marks.h"

namespace juniper::source {

// Cuts a file into pieces.
class CsvPieces {
 public:
  static constexpr std::size_t usual_bytes = std::size_t{1} << 19;
  explicit CsvPieces(ByteSource source, std::size_t piece_bytes = usual_bytes)
      : source_(std::move(source)), piece_bytes_(piece_bytes) {}
  // Errors: as ByteSource::open.
  static Result<CsvPieces> open(const std::filesystem::path& path, std::size_t piece_bytes = usual_bytes,
                                const std::string& encoding = "");

  // The next whole records, about `piece_bytes` of them, the last one with its line end; empty at the end. Behind the
  // text, marks_overrun bytes are readable; the byte order mark is gone. Errors: as ByteSource::read.
  Result<std::string_view> next(std::string& buffer, char delimiter);

  const ByteSource& bytes() const { return source_; }

 private:
  ByteSource source_;
  std::size_t piece_bytes_;
  std::string rest_;  // of what was read: a record that is not whole
  bool begun_ = false;
};

// Makes a whole text one piece: without a byte order mark, the last line with its end, and marks_overrun bytes behind it.
// Gives the piece in it. A text longer than most_piece_bytes can't be one.
constexpr std::size_t most_piece_bytes = std::size_t{1} << 30;
std::string_view as_piece(std::string& text);

// How many bytes the first lines of a text are; all of it, if it has fewer.
std::size_t skipped_bytes(std::string_view text, std::uint32_t lines);

// Where the first record of a text ends; the end of the text if a quote in it does not close.
std::size_t first_record_end(std::string_view text, char delimiter);

// A field of a piece: an empty one that was not quoted is null.
struct Field {
  std::uint32_t begin;
  std::uint32_t size : 30;
  std::uint32_t quoted : 1;
  std::uint32_t doubled : 1;  // a quote stands in it twice

  bool is_null() const { return size == 0 && quoted == 0; }
};

// A record that can't be read, or an end of the reading.
struct BadRecord {
  std::string code;
  std::uint32_t line;  // from 0, in the piece
  std::string message;
  std::string suggestion;
  std::string_view text;  // of the record
};

// The records of one piece. Kept from piece to piece, so that its memory is.
class CsvRecords {
 public:
  // Reads a piece: its last line has its end, and behind it marks_overrun bytes are readable. Its records should have
  // `width` fields; 0: as many as the first one has. Records with another number of fields are not among the rows but
  // among the bad records (JR-506).
  void read(std::string_view text, char delimiter, std::size_t width);

  std::size_t rows() const { return width_ == 0 ? 0 : fields_.size() / width_; }
  std::size_t width() const { return width_; }
  const Field& field(std::size_t row, std::size_t column) const { return fields_[row * width_ + column]; }
  // What a field says; a text with doubled quotes is put together in `scratch`.
  std::string_view text(const Field& field, std::string& scratch) const;
  // As it is written; behind it, marks_overrun bytes are readable.
  std::string_view raw(const Field& field) const { return {text_.data() + field.begin, field.size}; }
  // The text of a whole record, without its line end.
  std::string_view record(std::size_t row) const;

  // The line on which a row begins, from 0, and the lines of the whole piece.
  std::uint32_t line_of(std::size_t row) const {
    return lines_.empty() ? static_cast<std::uint32_t>(row) : lines_[row];
  }
  std::uint32_t lines() const { return line_count_; }
  // True if no byte is beyond ASCII, which every UTF-8 text is.
  bool is_ascii() const { return marks_.ascii; }

  const std::vector<BadRecord>& bad_records() const { return bad_; }
  // What ends the reading: JR-502 (a quote that does not close or has text behind, a carriage return alone).
  const std::optional<BadRecord>& end() const { return end_; }

  // Leaves out rows, given in ascending order.
  void remove(const std::vector<std::uint32_t>& rows);

 private:
  bool read_regular();
  void read_exactly(char delimiter);
  std::size_t next_mark(std::size_t mark, std::size_t at) const;

  std::string_view text_;
  std::size_t width_ = 0;
  Marks marks_;
  std::vector<Field> fields_;
  std::vector<std::uint32_t> lines_;  // of each row; empty: row i stands on line i
  std::uint32_t line_count_ = 0;
  std::vector<BadRecord> bad_;
  std::optional<BadRecord> end_;
};

}  // namespace juniper::source
