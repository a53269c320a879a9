#include "loading/file_data.h"

#include <fmt/format.h>

#include <algorithm>
#include <cctype>
#include <map>
#include <set>

#include "base/calendar.h"
#include "base/diagnostics.h"
#include "base/exact.h"
#include "base/failure.h"
#include "engine/naive/naive.h"
#include "loading/signature.h"
#include "source/byte_source.h"
#include "source/source.h"

namespace juniper::loading {

using namespace language;
using engine::naive::LinkedRows;

namespace {

constexpr std::uint64_t rows_between_checks = 4096;

[[noreturn]] void fail(Diagnostics errors) {
  throw base::Failure(std::move(errors));
}

// The text of a file, without the lines that are to be skipped.
std::string bytes_of(const std::filesystem::path& path, const base::SourcePlace& place) {
  auto source = source::ByteSource::open(path, place.encoding);
  if (!source) fail(source.error());
  std::string bytes;
  std::string part(std::size_t{1} << 16, '\0');
  for (bool more = true; more;) {
    const auto count = source->read(part);
    if (!count) fail(count.error());
    bytes.append(part, 0, *count);
    more = *count == part.size();
  }
  if (bytes.starts_with("\xEF\xBB\xBF")) bytes.erase(0, 3);
  for (std::uint32_t line = 0; line < place.skip; ++line) bytes.erase(0, bytes.find('\n') + 1);
  return bytes;
}

// A field of a file; nothing for an empty one that is not quoted.
using Field = std::optional<std::string>;

// The records of a file, one character after the other.
std::vector<std::vector<Field>> records_of(const std::string& text, const base::SourcePlace& source,
                                           const std::string& path) {
  const char delimiter = source.delimiter;
  const std::set<std::string> nulls(source.spelling.nulls.begin(), source.spelling.nulls.end());
  std::vector<std::vector<Field>> records;
  std::size_t at = 0;
  while (at < text.size()) {
    std::vector<Field> record;
    for (bool ended = false; !ended;) {
      std::string field;
      const bool quoted = at < text.size() && text[at] == '"';
      if (quoted) {
        for (++at;; ++at) {
          if (at >= text.size()) fail(base::error_at("JR-502", Place{path, 0, 0}, "a quote does not close"));
          if (text[at] == '"' && text.substr(at + 1, 1) != "\"") break;
          if (text[at] == '"') ++at;
          field += text[at];
        }
        ++at;
      }
      const auto ends_line = [&] { return at >= text.size() || text[at] == '\n' || text.substr(at, 2) == "\r\n"; };
      for (; !ends_line() && text[at] != delimiter; ++at) {
        if (quoted) fail(base::error_at("JR-502", Place{path, 0, 0}, "text stands behind a closing quote"));
        field += text[at];
      }
      const bool is_null = field.empty() || (!records.empty() && nulls.contains(field));
      record.push_back(is_null && !quoted ? Field() : Field(field));
      ended = ends_line();
      if (!ended) ++at;  // the delimiter
    }
    if (at < text.size()) at += text[at] == '\r' ? 2 : 1;
    // A line with nothing on it is no record where there are several columns.
    const bool is_blank = record.size() == 1 && !record[0];
    if (!is_blank || records.empty() || records[0].size() == 1) records.push_back(std::move(record));
  }
  return records;
}

std::vector<std::string> split(const std::string& text, char mark) {
  std::vector<std::string> parts(1);
  for (const char c : text) {
    if (c == mark) {
      parts.emplace_back();
    } else {
      parts.back() += c;
    }
  }
  return parts;
}

// A number without its marks of thousands, and with a point before its decimals.
Field plain_number(const std::string& field, const base::Spelling& spelling) {
  std::vector<std::string> parts = split(field, spelling.decimal);
  if (parts.size() > 2) return std::nullopt;
  const std::string sign = parts[0].starts_with('-') || parts[0].starts_with('+') ? parts[0].substr(0, 1) : "";
  std::string whole = parts[0].substr(sign.size());
  if (spelling.thousands != '\0' && whole.find(spelling.thousands) != std::string::npos) {
    const std::vector<std::string> groups = split(whole, spelling.thousands);
    whole.clear();
    for (const std::string& group : groups) {
      const bool is_first = &group == &groups.front();
      if (group.empty() || group.size() > 3 || (!is_first && group.size() != 3)) return std::nullopt;
      if (group.find_first_not_of("0123456789") != std::string::npos) return std::nullopt;
      whole += group;
    }
  }
  const std::string number = sign + whole;
  if (spelling.decimal != '.' && (number + (parts.size() > 1 ? parts[1] : "")).find('.') != std::string::npos)
    return std::nullopt;
  return parts.size() > 1 ? number + "." + parts[1] : number;
}

// A date in our order, and what follows it.
Field plain_date(const std::string& field, const std::string& pattern) {
  std::map<char, int> parts;
  std::size_t at = 0;
  for (std::size_t p = 0; p < pattern.size();) {
    const char letter = pattern[p];
    if (letter != 'd' && letter != 'M' && letter != 'y') {
      if (at >= field.size() || field[at++] != letter) return std::nullopt;
      ++p;
      continue;
    }
    std::size_t letters = 0;
    for (; p < pattern.size() && pattern[p] == letter; ++p) ++letters;
    std::string digits;
    while (at < field.size() && std::isdigit(static_cast<unsigned char>(field[at])) != 0 &&
           digits.size() < std::max<std::size_t>(letters, 2))
      digits += field[at++];
    if (digits.empty() || (letters > 1 && digits.size() != letters)) return std::nullopt;
    parts[letter] = std::stoi(digits);
  }
  if (at < field.size() && std::isdigit(static_cast<unsigned char>(field[at])) != 0) return std::nullopt;
  return fmt::format("{:04}-{:02}-{:02}{}", parts['y'], parts['M'], parts['d'], field.substr(at));
}

// A field as it would be spelled without the source's options; nothing if it is not spelled as they say.
Field plain(const std::string& field, Type type, base::FieldPart part, const base::Spelling& spelling) {
  const bool is_number =
      type.kind == TypeKind::integer || type.kind == TypeKind::decimal || type.kind == TypeKind::real;
  const bool is_date = type.kind == TypeKind::date || type.kind == TypeKind::datetime ||
                       (type.kind == TypeKind::time && part != base::FieldPart::whole);
  if (is_number) return plain_number(field, spelling);
  if (type.kind == TypeKind::boolean && !spelling.truths.empty()) {
    if (field == spelling.truths[0]) return "true";
    return field == spelling.truths[1] ? Field("false") : std::nullopt;
  }
  return is_date && !spelling.dates.empty() ? plain_date(field, spelling.dates) : field;
}

// A moment, of one with a zone that of UTC.
std::optional<std::int64_t> moment_of(const std::string& field) {
  static const std::string zone = "Zz+-";
  const std::size_t at = field.size() < 16 ? std::string::npos : field.find_first_of(zone, 16);
  std::string local = field.substr(0, at);
  std::int64_t minutes = 0;
  if (at != std::string::npos && field[at] != 'Z' && field[at] != 'z') {
    std::string digits;
    for (std::size_t i = at + 1; i < field.size(); ++i) {
      if (field[i] == ':' && i == at + 3) continue;
      if (std::isdigit(static_cast<unsigned char>(field[i])) == 0) return std::nullopt;
      digits += field[i];
    }
    if (digits.size() != 2 && digits.size() != 4) return std::nullopt;
    const int hours = std::stoi(digits.substr(0, 2));
    const int rest = digits.size() == 4 ? std::stoi(digits.substr(2)) : 0;
    if (hours > 18 || rest > 59) return std::nullopt;
    minutes = (hours * 60 + rest) * (field[at] == '+' ? 1 : -1);
    if (local.ends_with(' ')) local.pop_back();
  } else if (at != std::string::npos && at + 1 != field.size()) {
    return std::nullopt;
  }
  while (local.size() > 26 && local.ends_with('0')) local.pop_back();
  const auto moment = base::parse_datetime(local);
  return moment ? std::optional(*moment - minutes * 60'000'000) : std::nullopt;
}

// What a column takes of a field; nothing if that does not fit its type.
std::optional<Value> value_of(const Field& field, Type type, base::FieldPart part) {
  if (!field) return Value();
  std::optional<int128> exact;
  switch (part) {
    case base::FieldPart::whole: {
      if (type.kind == TypeKind::datetime) {
        if (const auto moment = moment_of(*field)) return Value::of(static_cast<int128>(*moment));
        return std::nullopt;
      }
      const auto value = parse_value(*field, type);
      if (type.kind == TypeKind::real || type.kind == TypeKind::text || !value) return value;
      exact = value->exact();
      break;
    }
    case base::FieldPart::date:
    case base::FieldPart::time:
      if (const auto moment = moment_of(*field)) {
        const std::int64_t days = base::floor_divide(*moment, base::microseconds_per_day);
        exact = part == base::FieldPart::date ? days : *moment - days * base::microseconds_per_day;
      }
      break;
    case base::FieldPart::round:
      if (const auto units = base::parse_exact(*field, base::max_scale))
        exact = base::divide_rounded(*units, base::power_of_ten(base::max_scale - type.scale));
      break;
  }
  if (!exact || !base::fits_int64(*exact)) return std::nullopt;
  return Value::of(*exact);
}

// A key of several values, in some order.
struct KeyOrder {
  bool operator()(const std::vector<Value>& a, const std::vector<Value>& b) const {
    return std::lexicographical_compare(a.begin(), a.end(), b.begin(), b.end(),
                                        [](const Value& x, const Value& y) { return compare(x, y) < 0; });
  }
};

}  // namespace

std::uint64_t FileData::rows(TableIndex table) {
  return read(table).rows;
}

const std::vector<Value>& FileData::column(ColumnId id) {
  read(id.table);
  const auto known = tables_[id.table].columns.find(id.column);
  if (known != tables_[id.table].columns.end()) return known->second;
  auto values = engine::evaluate_rows_naively(model_, *this, setting_, id.table, model_.column(id).expression);
  if (!values) fail(values.error());
  return tables_[id.table].columns.emplace(id.column, std::move(*values)).first->second;
}

const LinkedRows& FileData::link(LinkIndex index) {
  const auto known = links_.find(index);
  if (known != links_.end()) return known->second;
  const Link& link = model_.links[index];
  bool repeats = false;
  LinkedRows rows = resolved(link, repeats);
  if (repeats || !link.broken.empty()) {
    fail({model_.sources.diagnostic(Severity::error, "JR-706", link.span,
                                    fmt::format("nothing can cross the link {}: {}", model_.link_name(link),
                                                repeats ? "its one side holds a key twice" : link.broken),
                                    "")});
  }
  return links_.emplace(index, std::move(rows)).first->second;
}

std::optional<std::uint32_t> FileData::settling_column(TableIndex table) {
  const auto& columns = model_.tables[table].columns;
  const auto key = std::find_if(columns.begin(), columns.end(), [](const Column& c) { return c.key; });
  if (key == columns.end()) return std::nullopt;
  return static_cast<std::uint32_t>(key - columns.begin());
}

const FileData::ReadTable& FileData::read(TableIndex table) {
  if (tables_[table].is_read) return tables_[table];
  if (model_.tables[table].rows) {
    compute_table(table);
  } else {
    read_files(table);
    if (!model_.tables[table].reached_from.empty()) leave_out_unreached(table);
  }
  return tables_[table];
}

void FileData::read_files(TableIndex table) {
  const source::TableRequest request = table_request(model_, table);
  const auto files = source::find_files(request);
  if (!files) fail(files.error());
  ReadTable read;
  std::vector<std::uint32_t> columns;
  for (std::uint32_t c = 0; c < model_.tables[table].columns.size(); ++c) {
    if (!model_.tables[table].columns[c].is_calculated()) columns.push_back(c);
  }
  if (request.place.kind != base::SourceKind::csv) {
    auto input = source::read_table(request, *files, {});
    if (!input) fail(input.error());
    read.rows = input->rows;
    for (std::size_t c = 0; c < columns.size(); ++c) {
      const store::Column column = store::encode_column(std::move(input->columns[c]));
      for (std::uint64_t row = 0; row < read.rows; ++row) read.columns[columns[c]].push_back(column.at(row));
    }
    read.is_read = true;
    tables_[table] = std::move(read);
    return;
  }
  for (const auto& path : *files) {
    const auto records = records_of(bytes_of(path, request.place), request.place, path.string());
    if (records.empty()) fail(base::error_at("JR-505", Place{path.string(), 1, 0}, "this file is empty"));
    std::vector<std::size_t> places;
    for (const source::ColumnRequest& column : request.columns) {
      const auto at = std::find(records[0].begin(), records[0].end(), Field(column.header));
      if (at == records[0].end() || std::count(records[0].begin(), records[0].end(), Field(column.header)) > 1) {
        fail(base::error_at("JR-505", Place{path.string(), 1, 0},
                            fmt::format("the header does not have the column '{}' once", column.header)));
      }
      places.push_back(static_cast<std::size_t>(at - records[0].begin()));
    }
    for (std::size_t r = 1; r < records.size(); ++r) {
      if (records[r].size() != records[0].size()) {
        fail(base::error_at(
            "JR-506", Place{path.string(), 0, 0},
            fmt::format("record {} has {} fields, and the header {}", r, records[r].size(), records[0].size())));
      }
      for (std::size_t c = 0; c < columns.size(); ++c) {
        const source::ColumnRequest& column = request.columns[c];
        const Field& field = records[r][places[c]];
        const Field here = field ? plain(*field, column.type, column.part, request.place.spelling) : Field();
        auto value = field && !here ? std::nullopt : value_of(here, column.type, column.part);
        if (!value) {
          fail(base::error_at("JR-507", Place{path.string(), 0, 0},
                              fmt::format("'{}' of record {} is no {}", column.header, r, to_string(column.type))));
        }
        read.columns[columns[c]].push_back(std::move(*value));
      }
      if (++read.rows % rows_between_checks == 0) check();
    }
  }
  for (const std::uint32_t c : columns) read.columns[c];  // of files without rows, too
  read.is_read = true;
  tables_[table] = std::move(read);
}

void FileData::leave_out_unreached(TableIndex table) {
  const std::vector<TableIndex>& from = model_.tables[table].reached_from;
  std::vector<bool> reached(tables_[table].rows, false);
  for (const Link& link : model_.links) {
    if (link.to.table != table || std::find(from.begin(), from.end(), link.from.table) == from.end()) continue;
    bool repeats = false;
    const LinkedRows rows = resolved(link, repeats);
    if (repeats || !link.broken.empty()) return;  // nobody knows where it would lead
    for (const auto& row : rows) {
      if (row) reached[*row] = true;
    }
  }
  ReadTable& read = tables_[table];
  for (auto& [column, values] : read.columns) {
    std::vector<Value> kept;
    for (std::size_t row = 0; row < values.size(); ++row) {
      if (reached[row]) kept.push_back(std::move(values[row]));
    }
    values = std::move(kept);
  }
  read.rows = static_cast<std::uint64_t>(std::count(reached.begin(), reached.end(), true));
}

void FileData::compute_table(TableIndex table) {
  auto columns = engine::evaluate_table_naively(model_, *this, setting_, table);
  if (!columns) fail(columns.error());
  ReadTable& read = tables_[table];
  for (std::uint32_t c = 0; c < columns->size(); ++c) {
    if (!model_.tables[table].columns[c].from_row) continue;
    read.rows = (*columns)[c].size();
    read.columns[c] = std::move((*columns)[c]);
  }
  read.is_read = true;
}

LinkedRows FileData::resolved(const Link& link, bool& repeats) {
  const auto key_of = [&](const LinkEnd& end, std::uint64_t row) {
    std::vector<Value> key;
    for (const std::uint32_t c : end.columns) key.push_back(column({end.table, c})[row]);
    return key;
  };
  // Null equals nothing.
  const auto has_null = [](const std::vector<Value>& key) {
    return std::any_of(key.begin(), key.end(), [](const Value& value) { return value.is_null(); });
  };
  std::map<std::vector<Value>, std::uint64_t, KeyOrder> one_side;
  for (std::uint64_t row = 0; row < rows(link.to.table); ++row) {
    auto key = key_of(link.to, row);
    if (!has_null(key)) repeats = !one_side.emplace(std::move(key), row).second || repeats;
  }
  LinkedRows linked;
  for (std::uint64_t row = 0; row < rows(link.from.table); ++row) {
    if (row % rows_between_checks == 0) check();
    const auto key = key_of(link.from, row);
    const auto at = has_null(key) ? one_side.end() : one_side.find(key);
    linked.push_back(at == one_side.end() ? std::nullopt : std::optional(at->second));
  }
  return linked;
}

}  // namespace juniper::loading
