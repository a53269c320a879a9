// A JSON file cut into pieces of whole records: objects, one on each line, or over several lines one behind the other, or in
// one array.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "source/byte_source.h"

namespace juniper::source {

class JsonPieces {
 public:
  // A record in the text of a piece.
  struct Span {
    std::size_t begin = 0;
    std::size_t end = 0;
    std::uint32_t line = 0;  // on which it begins, from 0 in the piece
  };
  struct Piece {
    std::string text;
    std::vector<Span> records;
    std::uint32_t lines = 0;  // line ends in it
  };

  static constexpr std::size_t usual_bytes = std::size_t{1} << 19;
  explicit JsonPieces(ByteSource source, std::size_t piece_bytes = usual_bytes)
      : source_(std::move(source)), piece_bytes_(piece_bytes) {}

  // The next records, about `piece_bytes` of them; false at the end. What is between them is checked, but not what is in
  // them. Throws a base::Failure: as ByteSource::read, and JR-519 for an array that does not go on or end as one, and for
  // a record of more than a quarter of a gigabyte.
  bool next(Piece& piece);

  const ByteSource& bytes() const { return source_; }

 private:
  enum class Form : std::uint8_t { unknown, lines, spread, array, ended };
  // What may come next in an array.
  enum class Expected : std::uint8_t { first, record, comma };

  void read_more(std::string& text);
  bool find_form(std::string& text);
  std::size_t cut_lines(Piece& piece) const;
  std::size_t cut_array(Piece& piece);
  std::size_t cut_spread(Piece& piece) const;
  [[noreturn]] void fail(const std::string& message, const std::string& suggestion, std::uint64_t line) const;

  ByteSource source_;
  std::size_t piece_bytes_;
  std::string rest_;  // of what was read: what is not whole
  bool at_end_ = false;
  std::uint64_t line_ = 1;  // on which `rest_` begins
  Form form_ = Form::unknown;
  Expected expected_ = Expected::first;
};

}  // namespace juniper::source
