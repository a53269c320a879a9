#include "source/csv/records.h"

#include <fmt/format.h>

#include <algorithm>
#include <cstring>

#include "base/diagnostics.h"

namespace juniper::source {

namespace {

constexpr std::size_t longest_record = most_piece_bytes;

// Visits the ends of the records of a text, each behind a line feed outside of quotes, until `visit` gives false.
template <class Visit>
void walk_records(std::string_view text, char delimiter, const Visit& visit) {
  bool field_begins = true;
  for (std::size_t at = 0; at < text.size(); ++at) {
    const char c = text[at];
    if (c == '"' && field_begins) {
      // To the quote that closes; a doubled one opens and closes again.
      at = text.find('"', at + 1);
      while (at != std::string_view::npos && at + 1 < text.size() && text[at + 1] == '"') at = text.find('"', at + 2);
      if (at == std::string_view::npos) return;
      field_begins = false;
      continue;
    }
    field_begins = c == delimiter || c == '\n';
    if (c == '\n' && !visit(at + 1)) return;
  }
}

// Where the last whole record of a text ends; 0 if there is none.
std::size_t end_of_records(std::string_view text, char delimiter) {
  std::size_t end = 0;
  if (text.find('"') == std::string_view::npos) {
    end = text.rfind('\n') + 1;  // 0 for none
  } else {
    walk_records(text, delimiter, [&](std::size_t at) {
      end = at;
      return true;
    });
  }
  return end;
}

void drop_byte_order_mark(std::string& text) {
  if (text.starts_with("\xEF\xBB\xBF")) text.erase(0, 3);
}

// The last line gets the end that it may lack.
std::string_view end_piece(std::string& text) {
  if (!text.empty() && text.back() != '\n') text += '\n';
  const std::size_t size = text.size();
  text.resize(size + marks_overrun);
  return std::string_view(text).substr(0, size);
}

}  // namespace

Result<CsvPieces> CsvPieces::open(const std::filesystem::path& path, std::size_t piece_bytes,
                                  const std::string& encoding) {
  auto source = ByteSource::open(path, encoding);
  if (!source) return tl::unexpected(source.error());
  constexpr std::size_t least = 16;  // holds a byte order mark
  return CsvPieces(std::move(*source), std::max(piece_bytes, least));
}

Result<std::string_view> CsvPieces::next(std::string& buffer, char delimiter) {
  std::swap(buffer, rest_);
  rest_.clear();
  for (std::size_t wanted = piece_bytes_;; wanted *= 2) {
    const std::size_t had = buffer.size();
    if (wanted > had) {
      buffer.resize(wanted);
      const auto got = source_.read(std::span(buffer).subspan(had));
      if (!got) return tl::unexpected(got.error());
      buffer.resize(had + *got);
      if (!begun_) drop_byte_order_mark(buffer);
      begun_ = true;
      if (had + *got < wanted) return end_piece(buffer);
    }
    const std::size_t end = end_of_records(buffer, delimiter);
    if (end != 0) {
      rest_.assign(buffer, end);
      buffer.resize(end + marks_overrun);
      return std::string_view(buffer).substr(0, end);
    }
    if (buffer.size() >= longest_record) {
      return tl::unexpected(
          base::error_at("JR-502", Place{source_.name(), 0, 0},
                         fmt::format("a record of this file is longer than {} MiB", longest_record >> 20),
                         "a quote that does not close makes all that follows one field"));
    }
  }
}

std::string_view as_piece(std::string& text) {
  drop_byte_order_mark(text);
  return end_piece(text);
}

std::size_t skipped_bytes(std::string_view text, std::uint32_t lines) {
  std::size_t bytes = 0;
  for (; lines > 0 && bytes < text.size(); --lines) bytes = std::min(text.find('\n', bytes), text.size() - 1) + 1;
  return bytes;
}

std::size_t first_record_end(std::string_view text, char delimiter) {
  std::size_t end = text.size();
  walk_records(text, delimiter, [&](std::size_t at) {
    end = at;
    return false;
  });
  return end;
}

void CsvRecords::read(std::string_view text, char delimiter, std::size_t width) {
  text_ = text;
  width_ = width;
  fields_.clear();
  lines_.clear();
  bad_.clear();
  end_.reset();
  find_marks(text, delimiter, marks_);
  if (width_ == 0 || marks_.has_quotes || marks_.has_returns || !read_regular()) read_exactly(delimiter);
}

// The common case: no quotes, no carriage returns, and every record has its number of fields. False if that is not so.
bool CsvRecords::read_regular() {
  const std::size_t rows = marks_.line_feeds;
  if (marks_.count != rows * width_) return false;
  for (std::size_t row = 0; row < rows; ++row) {
    if (text_[marks_.places[row * width_ + width_ - 1]] != '\n') return false;
  }
  fields_.resize(marks_.count);
  std::uint32_t begin = 0;
  for (std::size_t i = 0; i < marks_.count; ++i) {
    const std::uint32_t end = marks_.places[i];
    fields_[i] = {begin, (end - begin) & ((1U << 30) - 1), 0, 0};
    begin = end + 1;
  }
  line_count_ = static_cast<std::uint32_t>(rows);
  return true;
}

// The first mark at or behind a place, from `mark` on.
std::size_t CsvRecords::next_mark(std::size_t mark, std::size_t at) const {
  while (mark < marks_.count && marks_.places[mark] < at) ++mark;
  return mark;
}

// Record by record along the marks.
void CsvRecords::read_exactly(char delimiter) {
  std::size_t at = 0;
  std::size_t mark = 0;
  line_count_ = 0;
  const std::string_view text = text_;
  std::size_t first_field = 0;  // of the record at hand
  const auto stop = [&](std::size_t begin, std::string message, std::string suggestion) {
    fields_.resize(first_field);
    end_ = BadRecord{"JR-502", line_count_, std::move(message), std::move(suggestion),
                     text.substr(begin, text.find('\n', at) - begin)};
  };
  while (at < text.size()) {
    const std::size_t record = at;
    first_field = fields_.size();
    std::uint32_t lines = 1;
    bool more = true;
    while (more) {
      Field field{static_cast<std::uint32_t>(at), 0, 0, 0};
      std::size_t end = 0;
      if (text[at] == '"') {
        const std::size_t from = at + 1;
        std::size_t quote = text.find('"', from);
        while (quote != std::string_view::npos && quote + 1 < text.size() && text[quote + 1] == '"') {
          field.doubled = 1;
          quote = text.find('"', quote + 2);
        }
        if (quote == std::string_view::npos) {
          return stop(record, "a quoted field begins in this record and does not end",
                      "close it with a quote; a quote inside is written twice");
        }
        field.begin = static_cast<std::uint32_t>(from);
        field.size = (quote - from) & ((1U << 30) - 1);
        field.quoted = 1;
        lines += static_cast<std::uint32_t>(std::count(text.begin() + static_cast<std::ptrdiff_t>(from),
                                                       text.begin() + static_cast<std::ptrdiff_t>(quote), '\n'));
        end = quote + 1;
        if (text[end] != delimiter && text[end] != '\n' && text[end] != '\r') {
          return stop(record,
                      fmt::format("text stands behind the closing quote of field {}", fields_.size() - first_field + 1),
                      "a quote inside a quoted field is written twice");
        }
        mark = next_mark(mark, end);
      } else {
        mark = next_mark(mark, at);
        while (text[marks_.places[mark]] == '"') ++mark;
        end = marks_.places[mark];
        field.size = (end - at) & ((1U << 30) - 1);
      }
      fields_.push_back(field);
      more = text[end] == delimiter;
      if (text[end] == '\r' && text[end + 1] != '\n') {
        return stop(record, "a carriage return stands alone in this record",
                    "lines end with LF or CRLF; put a field that holds one in quotes");
      }
      at = end + (text[end] == '\r' ? 2 : 1);
    }
    const std::size_t count = fields_.size() - first_field;
    if (width_ == 0) width_ = count;
    const bool blank = count == 1 && fields_.back().is_null() && width_ > 1;
    if (count == width_) {
      lines_.push_back(line_count_);
    } else {
      fields_.resize(first_field);
      if (!blank) {
        bad_.push_back(
            {"JR-506", line_count_, fmt::format("this record has {} fields, and the header has {}", count, width_),
             "a field that holds the delimiter or a line end stands in quotes", text.substr(record, at - 1 - record)});
      }
    }
    line_count_ += lines;
  }
}

std::string_view CsvRecords::text(const Field& field, std::string& scratch) const {
  const std::string_view as_written = raw(field);
  if (field.doubled == 0) return as_written;
  scratch.clear();
  for (std::size_t i = 0; i < as_written.size(); ++i) {
    scratch += as_written[i];
    if (as_written[i] == '"') ++i;
  }
  return scratch;
}

std::string_view CsvRecords::record(std::size_t row) const {
  const Field& first = field(row, 0);
  const Field& last = field(row, width_ - 1);
  const std::size_t begin = first.begin - first.quoted;
  return text_.substr(begin, last.begin + last.size + last.quoted - begin);
}

void CsvRecords::remove(const std::vector<std::uint32_t>& rows) {
  if (lines_.empty()) {
    for (std::size_t row = 0; row < this->rows(); ++row) lines_.push_back(static_cast<std::uint32_t>(row));
  }
  auto next = rows.begin();
  std::size_t kept = 0;
  for (std::size_t row = 0; row < lines_.size(); ++row) {
    if (next != rows.end() && *next == row) {
      ++next;
      continue;
    }
    lines_[kept] = lines_[row];
    std::copy_n(fields_.begin() + static_cast<std::ptrdiff_t>(row * width_), width_,
                fields_.begin() + static_cast<std::ptrdiff_t>(kept * width_));
    ++kept;
  }
  lines_.resize(kept);
  fields_.resize(kept * width_);
}

}  // namespace juniper::source
