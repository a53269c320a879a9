#include "source/json/pieces.h"

#include <algorithm>
#include <optional>

#include "base/diagnostics.h"
#include "base/failure.h"

namespace juniper::source {

namespace {

constexpr std::size_t most_record_bytes = std::size_t{1} << 28;
constexpr std::string_view blanks = " \t\r\n";

// Where the value that begins at `at` ends, as far as brackets and quotes tell; nothing if it does not end in the text.
std::optional<std::size_t> value_end(std::string_view text, std::size_t at) {
  std::size_t depth = 0;
  bool in_text = false;
  for (std::size_t i = at; i < text.size(); ++i) {
    const char c = text[i];
    if (in_text) {
      if (c == '\\') ++i;
      in_text = c != '"';
      if (!in_text && depth == 0) return i + 1;
      continue;
    }
    switch (c) {
      case '"':
        in_text = true;
        break;
      case '{':
      case '[':
        ++depth;
        break;
      case '}':
      case ']':
        if (depth == 0) return i;
        if (--depth == 0) return i + 1;
        break;
      default:
        // A word or number ends where something else begins.
        if (depth == 0 && (c == ',' || blanks.find(c) != std::string_view::npos)) return i;
        break;
    }
  }
  return std::nullopt;
}

std::uint32_t line_ends(std::string_view text) {
  return static_cast<std::uint32_t>(std::count(text.begin(), text.end(), '\n'));
}

}  // namespace

void JsonPieces::fail(const std::string& message, const std::string& suggestion, std::uint64_t line) const {
  throw base::Failure(
      base::error_at("JR-519", Place{source_.name(), static_cast<std::uint32_t>(line), 0}, message, suggestion));
}

void JsonPieces::read_more(std::string& text) {
  const std::size_t before = text.size();
  text.resize(before + piece_bytes_);
  const auto got = source_.read({text.data() + before, piece_bytes_});
  if (!got) throw base::Failure(got.error());
  text.resize(before + *got);
  at_end_ = *got < piece_bytes_;
}

// Whether there is anything to read.
bool JsonPieces::find_form(std::string& text) {
  constexpr std::string_view byte_order_mark = "\xEF\xBB\xBF";
  while (!at_end_ && text.size() < byte_order_mark.size()) read_more(text);
  if (text.starts_with(byte_order_mark)) text.erase(0, byte_order_mark.size());
  std::size_t first = text.find_first_not_of(blanks);
  for (; first == std::string::npos && !at_end_; first = text.find_first_not_of(blanks)) {
    line_ += line_ends(text);
    text.clear();
    read_more(text);
  }
  if (first == std::string::npos) return false;
  while (text.find('\n', first) == std::string::npos && !at_end_ && text.size() < usual_bytes) read_more(text);
  // An object that goes on behind its first line stands over several.
  const std::string_view line = std::string_view(text).substr(first, text.find('\n', first) - first);
  const bool is_spread = text[first] == '{' && line.size() < text.size() - first && !value_end(line, 0);
  form_ = text[first] == '[' ? Form::array : (is_spread ? Form::spread : Form::lines);
  if (form_ == Form::array) {
    line_ += line_ends(std::string_view(text).substr(0, first));
    text.erase(0, first + 1);
  }
  return true;
}

// The records of all whole lines; gives how much of the text they are.
std::size_t JsonPieces::cut_lines(Piece& piece) const {
  const std::string_view text = piece.text;
  const std::size_t end = at_end_ ? text.size() : text.rfind('\n') + 1;  // 0 where no line ends
  std::size_t begin = 0;
  std::uint32_t line = 0;
  while (begin < end) {
    const std::size_t line_end = std::min(text.find('\n', begin), end);
    const std::string_view record = text.substr(begin, line_end - begin);
    if (record.find_first_not_of(blanks) != std::string_view::npos) piece.records.push_back({begin, line_end, line});
    begin = line_end + 1;
    ++line;
  }
  return end;
}

// The same of records over several lines, with blanks between them.
std::size_t JsonPieces::cut_spread(Piece& piece) const {
  const std::string_view text = piece.text;
  std::size_t done = 0;
  std::uint32_t line = 0;
  while (true) {
    const std::size_t at = text.find_first_not_of(blanks, done);
    if (at == std::string_view::npos) return text.size();
    line += line_ends(text.substr(done, at - done));
    done = at;
    const auto end = value_end(text, at);
    if (!end && !at_end_) return done;
    if (!end || *end == at)
      fail("this file holds something between or behind its objects that is none",
           "it may be cut short: write it again", line_ + line);
    piece.records.push_back({at, *end, line});
    line += line_ends(text.substr(at, *end - at));
    done = *end;
  }
}

// The records that are whole; gives how much of the text they and what stands between them are.
std::size_t JsonPieces::cut_array(Piece& piece) {
  const std::string_view text = piece.text;
  std::size_t done = 0;
  std::uint32_t line = 0;
  while (form_ == Form::array) {
    const std::size_t at = text.find_first_not_of(blanks, done);
    if (at == std::string_view::npos) {
      if (at_end_)
        fail("this file ends in the middle of an array", "it may be cut short: write it again",
             line_ + line_ends(text));
      return text.size();
    }
    line += line_ends(text.substr(done, at - done));
    done = at;
    if (text[at] == ']' && expected_ != Expected::record) {
      if (text.find_first_not_of(blanks, at + 1) != std::string_view::npos || !at_end_) {
        // Only blanks may follow, of any number.
        std::string behind(text.substr(at + 1));
        while (true) {
          if (behind.find_first_not_of(blanks) != std::string::npos)
            fail("something stands behind the end of the array",
                 "a file holds one array of objects, or an object on each line", line_ + line);
          if (at_end_) break;
          behind.clear();
          read_more(behind);
        }
      }
      form_ = Form::ended;
      return text.size();
    }
    if (text[at] == ',' && expected_ == Expected::comma) {
      expected_ = Expected::record;
      ++done;
      continue;
    }
    if (expected_ == Expected::comma)
      fail("a comma or the end of the array was expected behind a record", "mend the file", line_ + line);
    if (text[at] == ',' || text[at] == ']' || text[at] == '}')
      fail("a record was expected in the array", "mend the file", line_ + line);
    const auto end = value_end(text, at);
    if (!end) {
      if (at_end_)
        fail("this file ends in the middle of a record", "it may be cut short: write it again", line_ + line);
      return done;
    }
    piece.records.push_back({at, *end, line});
    line += line_ends(text.substr(at, *end - at));
    done = *end;
    expected_ = Expected::comma;
  }
  return done;
}

bool JsonPieces::next(Piece& piece) {
  piece.text = std::move(rest_);
  rest_.clear();
  piece.records.clear();
  if (form_ == Form::unknown && !find_form(piece.text)) return false;
  while (form_ != Form::ended) {
    if (!at_end_ && piece.text.size() < piece_bytes_) read_more(piece.text);
    if (form_ != Form::array && at_end_ && piece.text.empty()) return false;
    const Expected expected = expected_;
    const std::size_t done = form_ == Form::lines    ? cut_lines(piece)
                             : form_ == Form::spread ? cut_spread(piece)
                                                     : cut_array(piece);
    if (done > 0 || form_ == Form::ended) {
      rest_ = piece.text.substr(done);
      piece.text.resize(done);
      piece.lines = line_ends(piece.text);
      line_ += piece.lines;
      return true;
    }
    // Not one record is whole.
    if (piece.text.size() > most_record_bytes)
      fail("a record of more than 268,435,456 bytes stands here",
           "a file of JSON holds one object on each line, or one array of objects", line_);
    expected_ = expected;
    piece.records.clear();
    read_more(piece.text);
  }
  return false;
}

}  // namespace juniper::source
