// Records of a CSV file (RFC 4180), read in pieces of a few megabytes.
//
// Quotes, doubled quotes, delimiters and line ends within quotes, CRLF and LF, a byte order mark, and a last line
// without its end are all read. A line with nothing on it is passed over in a file of several columns, where it can't
// be a record.
#pragma once

#include <xxhash.h>

#include <cstdint>
#include <cstdio>
#include <deque>
#include <filesystem>
#include <memory>
#include <string>
#include <string_view>
#include <vector>

#include "juniper/diagnostics.h"

namespace juniper::source {

// One field of the current record; the text is gone with the next call of `next`. An empty field that was not quoted
// is null.
struct Field {
  std::string_view text;
  bool quoted = false;

  bool is_null() const { return text.empty() && !quoted; }
};

class CsvReader {
 public:
  // Errors: JR-501 (cannot open or read).
  static Result<CsvReader> open(const std::filesystem::path& path, char delimiter);

  // Reads the next record; false at the end or after an error.
  bool next(std::vector<Field>& fields);

  // What ended the reading early, if anything did: JR-501, JR-502 (a quote that does not close or has text behind).
  const Diagnostics& errors() const { return errors_; }

  // The line on which the current record began, from 1.
  std::uint32_t line() const { return record_line_; }
  const std::string& name() const { return name_; }
  std::uint64_t bytes_read() const { return bytes_read_; }
  // XXH3 of all bytes read so far.
  std::uint64_t hash() const { return XXH3_64bits_digest(hash_.get()); }

 private:
  struct CloseFile {
    void operator()(std::FILE* file) const { std::fclose(file); }
  };
  struct FreeHash {
    void operator()(XXH3_state_t* state) const { XXH3_freeState(state); }
  };
  enum class Step : std::uint8_t { record, more, end, error };

  CsvReader() = default;
  bool fill();
  Step parse(std::vector<Field>& fields);
  Step quoted_field(std::size_t& at, std::vector<Field>& fields);
  void make_quotes_single(std::vector<Field>& fields);
  Step fail(std::string code, std::uint32_t line, std::string message, std::string suggestion);

  std::string name_;
  char delimiter_ = ',';
  std::unique_ptr<std::FILE, CloseFile> file_;
  std::unique_ptr<XXH3_state_t, FreeHash> hash_;
  std::vector<char> buffer_;
  std::size_t begin_ = 0;          // of the next record in the buffer
  std::size_t end_ = 0;            // of what has been read
  bool finished_ = false;          // the file has no more bytes
  std::uint32_t line_ = 1;         // of begin_
  std::uint32_t record_line_ = 1;  // of the current record
  std::uint32_t lines_in_record_ = 0;
  std::uint64_t bytes_read_ = 0;
  std::size_t columns_ = 0;            // of the first record
  std::vector<std::size_t> doubled_;   // fields of the current record that hold doubled quotes
  std::deque<std::string> unescaped_;  // and their texts with single ones
  Diagnostics errors_;
};

}  // namespace juniper::source
