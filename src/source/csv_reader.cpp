#include "source/csv_reader.h"

#include <fmt/format.h>

#include <algorithm>
#include <cerrno>
#include <cstring>

#include "base/diagnostics.h"

namespace juniper::source {

namespace {
constexpr std::size_t piece_bytes = std::size_t{4} << 20;
}

Result<CsvReader> CsvReader::open(const std::filesystem::path& path, char delimiter) {
  CsvReader reader;
  reader.name_ = path.string();
  reader.delimiter_ = delimiter;
  reader.file_.reset(std::filesystem::is_directory(path) ? (errno = EISDIR, nullptr) : std::fopen(path.c_str(), "rb"));
  if (!reader.file_) {
    return tl::unexpected(base::error_at("JR-501", Place{reader.name_, 0, 0},
                                         fmt::format("cannot open this file: {}", std::strerror(errno))));
  }
  reader.hash_.reset(XXH3_createState());
  XXH3_64bits_reset(reader.hash_.get());
  reader.buffer_.resize(piece_bytes);
  reader.fill();
  if (reader.end_ >= 3 && std::memcmp(reader.buffer_.data(), "\xEF\xBB\xBF", 3) == 0) reader.begin_ = 3;
  return reader;
}

// Moves what is left to the front of the buffer and reads behind it. False when nothing more came.
bool CsvReader::fill() {
  if (finished_) return false;
  std::copy(buffer_.begin() + static_cast<std::ptrdiff_t>(begin_), buffer_.begin() + static_cast<std::ptrdiff_t>(end_),
            buffer_.begin());
  end_ -= begin_;
  begin_ = 0;
  if (end_ == buffer_.size()) buffer_.resize(buffer_.size() * 2);
  const std::size_t got = std::fread(buffer_.data() + end_, 1, buffer_.size() - end_, file_.get());
  XXH3_64bits_update(hash_.get(), buffer_.data() + end_, got);
  end_ += got;
  bytes_read_ += got;
  finished_ = got == 0;
  if (got == 0 && std::ferror(file_.get()) != 0)
    fail("JR-501", line_, fmt::format("cannot read on: {}", std::strerror(errno)), "");
  return got != 0;
}

CsvReader::Step CsvReader::fail(std::string code, std::uint32_t line, std::string message, std::string suggestion) {
  errors_ = base::error_at(std::move(code), Place{name_, line, 0}, std::move(message), std::move(suggestion));
  return Step::error;
}

bool CsvReader::next(std::vector<Field>& fields) {
  line_ += lines_in_record_;
  lines_in_record_ = 0;
  while (errors_.empty()) {
    switch (parse(fields)) {
      case Step::record:
        if (columns_ == 0) columns_ = fields.size();
        if (fields.size() == 1 && fields[0].is_null() && columns_ > 1) {
          line_ += lines_in_record_;
          lines_in_record_ = 0;
          continue;
        }
        record_line_ = line_;
        return true;
      case Step::more:
        fill();
        continue;
      case Step::end:
      case Step::error:
        return false;
    }
  }
  return false;
}

// Reads one record from the buffer; `more` if it may go on behind the buffer's end.
CsvReader::Step CsvReader::parse(std::vector<Field>& fields) {
  fields.clear();
  doubled_.clear();
  lines_in_record_ = 0;
  std::size_t at = begin_;
  if (at == end_) return finished_ ? Step::end : Step::more;
  while (true) {
    if (at < end_ && buffer_[at] == '"') {
      if (const Step step = quoted_field(at, fields); step != Step::record) return step;
    } else {
      const std::size_t from = at;
      while (at < end_ && buffer_[at] != delimiter_ && buffer_[at] != '\n' && buffer_[at] != '\r') ++at;
      fields.push_back({std::string_view(buffer_.data() + from, at - from), false});
    }
    if (at < end_ && buffer_[at] == delimiter_) {
      ++at;
      if (at == end_ && !finished_) return Step::more;
      continue;
    }
    // The end of the record: CRLF, LF, or the end of the file.
    if (at == end_ || (buffer_[at] == '\r' && at + 1 == end_)) {
      if (!finished_) return Step::more;
      begin_ = end_;
      make_quotes_single(fields);
      return Step::record;
    }
    if (buffer_[at] == '\r') {
      if (buffer_[at + 1] != '\n') {
        return fail("JR-502", line_, "a carriage return stands alone in this record",
                    "lines end with LF or CRLF; put a field that holds one in quotes");
      }
      ++at;
    }
    ++lines_in_record_;
    begin_ = at + 1;
    make_quotes_single(fields);
    return Step::record;
  }
}

void CsvReader::make_quotes_single(std::vector<Field>& fields) {
  unescaped_.clear();
  for (const std::size_t i : doubled_) {
    std::string& text = unescaped_.emplace_back();
    for (std::size_t c = 0; c < fields[i].text.size(); ++c) {
      text += fields[i].text[c];
      if (fields[i].text[c] == '"') ++c;
    }
    fields[i].text = text;
  }
}

// Reads a field that begins with a quote at `at`, and moves behind it. Doubled quotes stay until the record is
// complete, because a record that must wait for more bytes is read again from its begin.
CsvReader::Step CsvReader::quoted_field(std::size_t& at, std::vector<Field>& fields) {
  const std::size_t from = at + 1;
  std::size_t scan = from;
  bool doubled = false;
  while (true) {
    const auto* const found = static_cast<const char*>(std::memchr(buffer_.data() + scan, '"', end_ - scan));
    if (found == nullptr || (found + 1 == buffer_.data() + end_ && !finished_)) {
      if (!finished_) return Step::more;
      return fail("JR-502", line_, "a quoted field begins in this record and does not end",
                  "close it with a quote; a quote inside is written twice");
    }
    scan = static_cast<std::size_t>(found - buffer_.data()) + 1;
    if (scan < end_ && buffer_[scan] == '"') {
      doubled = true;
      ++scan;
      continue;
    }
    break;
  }
  const std::size_t until = scan - 1;
  if (scan < end_ && buffer_[scan] != delimiter_ && buffer_[scan] != '\n' && buffer_[scan] != '\r') {
    return fail("JR-502", line_, fmt::format("text stands behind the closing quote of field {}", fields.size() + 1),
                "a quote inside a quoted field is written twice");
  }
  lines_in_record_ += static_cast<std::uint32_t>(std::count(buffer_.data() + from, buffer_.data() + until, '\n'));
  at = scan;
  fields.push_back({std::string_view(buffer_.data() + from, until - from), true});
  if (doubled) doubled_.push_back(fields.size() - 1);
  return Step::record;
}

}  // namespace juniper::source
