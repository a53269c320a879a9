#include "scanning/found_table.h"

#include <fmt/format.h>
#include <utf8.h>

#include <algorithm>
#include <map>
#include <numeric>
#include <set>

#include "base/diagnostics.h"
#include "base/failure.h"
#include "base/parallel.h"
#include "language/lexer.h"
#include "scanning/column_type.h"
#include "scanning/spelling_finder.h"
#include "source/csv/records.h"
#include "source/parquet/table.h"
#include "source/records/table.h"

namespace juniper::scanning {

namespace {

namespace fs = std::filesystem;

// A name of small letters, digits and underscores from any text.
std::string plain_name(std::string_view text, const std::string& otherwise) {
  std::string name;
  for (const char c : text) {
    const bool kept = (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9');
    if (kept)
      name += c >= 'A' && c <= 'Z' ? static_cast<char>(c - 'A' + 'a') : c;
    else if (!name.empty() && name.back() != '_')
      name += '_';
  }
  while (name.ends_with('_')) name.pop_back();
  if (name.empty()) name = otherwise;
  if (name[0] >= '0' && name[0] <= '9') name.insert(0, otherwise + "_");
  return language::is_plain_name(name) ? name : name + "_";
}

std::string unique_name(std::string name, std::set<std::string>& taken) {
  const std::string first = name;
  for (int n = 2; !taken.insert(name).second; ++n) name = fmt::format("{}_{}", first, n);
  return name;
}

// Calls visit(column, text, whether it is in quotes, line) for each field that is not null; of the first file's begin alone
// where `only_begin`.
template <class Visit>
Result<void> each_field(const FoundTable& table, const std::vector<std::string>& headers, bool only_begin,
                        const Visit& visit) {
  for (const fs::path& path : table.files.files) {
    auto pieces = source::CsvPieces::open(path, source::CsvPieces::usual_bytes, table.encoding);
    if (!pieces) return tl::unexpected(pieces.error());
    std::string buffer;
    std::string scratch;
    source::CsvRecords records;
    std::vector<std::size_t> positions;
    std::uint64_t line = 1;
    while (true) {
      auto text = pieces->next(buffer, table.delimiter);
      if (!text) return tl::unexpected(text.error());
      if (text->empty()) break;
      if (positions.empty()) {
        const std::size_t end = source::first_record_end(*text, table.delimiter);
        records.read(text->substr(0, end), table.delimiter, 0);
        line += records.lines();
        text->remove_prefix(end);
        std::map<std::string, std::size_t, std::less<>> places;
        for (std::size_t i = 0; i < records.width(); ++i) places.emplace(records.text(records.field(0, i), scratch), i);
        for (const std::string& header : headers) {
          if (const auto at = places.find(header); at != places.end()) positions.push_back(at->second);
        }
      }
      records.read(*text, table.delimiter, records.width());
      for (std::size_t c = 0; c < positions.size(); ++c) {
        for (std::size_t row = 0; row < records.rows(); ++row) {
          const source::Field& field = records.field(row, positions[c]);
          if (!field.is_null()) visit(c, records.text(field, scratch), field.quoted != 0, line + records.line_of(row));
        }
      }
      if (only_begin) return {};
      line += records.lines();
    }
  }
  return {};
}

// Finds out whether columns that are texts as they stand are spelled in another way, and takes over their types then.
Result<void> find_table_spelling(FoundTable& table, const std::vector<std::string>& headers,
                                 std::vector<TypeFinder>& finders) {
  const auto is_text = [&](std::size_t c) {
    return finders[c].has_values() && finders[c].type().kind == TypeKind::text;
  };
  std::vector<bool> declared(headers.size());
  for (std::size_t c = 0; c < headers.size(); ++c) {
    const std::vector<std::string>& texts = table.files.text_columns;
    declared[c] = std::find(texts.begin(), texts.end(), headers[c]) != texts.end();
  }
  // Of most texts the first fields tell that they are nothing else.
  std::vector<SpellingFinder> begins(headers.size());
  if (auto seen = each_field(table, headers, true,
                             [&](std::size_t c, std::string_view text, bool quoted, std::uint64_t line) {
                               if (is_text(c)) begins[c].add(text, quoted, line);
                             });
      !seen)
    return seen;
  const auto may_be_spelled = [&](std::size_t c) {
    return is_text(c) && !declared[c] && !begins[c].readings().empty();
  };
  std::vector<std::size_t> places(headers.size());
  std::iota(places.begin(), places.end(), 0U);
  if (std::none_of(places.begin(), places.end(), may_be_spelled)) return {};
  std::vector<SpellingFinder> spellings(headers.size());
  if (auto seen = each_field(table, headers, false,
                             [&](std::size_t c, std::string_view text, bool quoted, std::uint64_t line) {
                               if (is_text(c)) spellings[c].add(text, quoted, line);
                             });
      !seen)
    return seen;
  std::vector<const SpellingFinder*> columns;
  bool has_points = false;
  for (std::size_t c = 0; c < headers.size(); ++c) {
    const TypeKind kind = finders[c].type().kind;
    has_points = has_points || kind == TypeKind::decimal || kind == TypeKind::real;
    if (is_text(c) && declared[c]) spellings[c].keep_texts();
    if (is_text(c)) columns.push_back(&spellings[c]);
  }
  const FoundSpelling found = find_spelling(columns, has_points);
  if (!found.doubt.empty()) table.comments.push_back(found.doubt);
  table.spelling = found.spelling;
  for (std::size_t c = 0; c < headers.size(); ++c) {
    if (!is_text(c)) continue;
    const SpellingFinder::Reading* reading = reading_of(spellings[c], found.spelling);
    const auto is_read_as_null = [&](const std::string& word) {
      return std::find(found.spelling.nulls.begin(), found.spelling.nulls.end(), word) != found.spelling.nulls.end();
    };
    const std::set<std::string>& words = spellings[c].null_words();
    if (reading != nullptr && reading->finder.has_values() && std::all_of(words.begin(), words.end(), is_read_as_null))
      finders[c] = reading->finder;
  }
  return {};
}

}  // namespace

namespace {

base::SourcePlace place_of(const FoundTable& table) {
  return {table.files.kind, "", table.files.selection, table.delimiter, table.spelling, table.encoding};
}

// Whether all bytes of a file are UTF-8, or UTF-16 with its mark.
bool is_utf8(const fs::path& path) {
  auto pieces = source::CsvPieces::open(path);
  std::string buffer;
  while (pieces) {
    const auto text = pieces->next(buffer, ',');
    if (!text || text->empty()) return true;  // what else is wrong is told when it is read
    if (!utf8::is_valid(text->begin(), text->end())) return false;
  }
  return true;
}

// A column as its file names it, with its type where the file tells.
struct Declared {
  std::string header;
  std::optional<Type> type;
};

// Names that stand once; what can't be read is told in the table's comments.
class DeclaredColumns {
 public:
  explicit DeclaredColumns(FoundTable& table) : table_(table) {}

  void add(const std::string& name, std::optional<Type> type) {
    ++number_;
    if (name.empty()) {
      table_.comments.push_back(fmt::format("column {} has no name in the header, and is not read", number_));
    } else if (++times_[name] == 1) {
      columns_.push_back({name, type});
    } else if (times_[name] == 2) {
      table_.comments.push_back(fmt::format("the header has \"{}\" several times, and none of them is read", name));
    }
  }

  std::vector<Declared> take() {
    // What stands several times can't be told apart.
    std::erase_if(columns_, [&](const Declared& column) { return times_[column.header] > 1; });
    return std::move(columns_);
  }

 private:
  FoundTable& table_;
  std::vector<Declared> columns_;
  std::map<std::string, std::size_t> times_;
  std::size_t number_ = 0;
};

Result<std::vector<Declared>> columns_of_csv(FoundTable& table) {
  const fs::path& path = table.files.files.front();
  auto pieces = source::CsvPieces::open(path, source::CsvPieces::usual_bytes, table.encoding);
  if (!pieces) return tl::unexpected(pieces.error());
  std::string buffer;
  const auto text = pieces->next(buffer, table.delimiter);
  if (!text) return tl::unexpected(text.error());
  if (text->empty()) {
    return tl::unexpected(
        base::error_at("JR-505", Place{path.string(), 1, 0}, "this file is empty: not even a header stands in it"));
  }
  source::CsvRecords header;
  header.read(text->substr(0, source::first_record_end(*text, table.delimiter)), table.delimiter, 0);
  if (header.rows() == 0) {
    return tl::unexpected(base::error_at("JR-502", Place{path.string(), 1, 0}, "the header of this file cannot be read",
                                         "its quotes do not close"));
  }
  DeclaredColumns columns(table);
  std::string scratch;
  for (std::size_t i = 0; i < header.width(); ++i)
    columns.add(std::string(header.text(header.field(0, i), scratch)), std::nullopt);
  return columns.take();
}

Result<std::vector<Declared>> columns_of_parquet(FoundTable& table) {
  const auto found = source::parquet_columns(table.files.files.front());
  if (!found) return tl::unexpected(found.error());
  DeclaredColumns columns(table);
  for (const source::ParquetColumn& column : *found) {
    if (column.refusal.empty()) {
      columns.add(column.name, column.type);
    } else {
      table.comments.push_back(fmt::format("the column \"{}\" is not read: {}", column.name, column.refusal));
    }
  }
  return columns.take();
}

// Of a kind whose records have cells of their own types: all columns that some file has.
Result<std::vector<Declared>> columns_of_records(const source::RecordKind& kind, FoundTable& table) {
  return base::guarded([&]() -> Result<std::vector<Declared>> {
    DeclaredColumns columns(table);
    std::set<std::string> known;
    const source::TableRequest request{table.name, {}, place_of(table), {}};
    for (const fs::path& path : table.files.files) {
      const bool is_first = path == table.files.files.front();
      std::set<std::string> here;
      for (const source::RecordColumn& column : kind.columns(request, path)) {
        // What one file has twice is told; what several have is one column.
        if (is_first || !known.contains(column.name)) columns.add(column.name, column.type);
        here.insert(column.name);
      }
      known.merge(here);
    }
    return columns.take();
  });
}

// The narrowest types of all cells.
Result<void> find_types(const source::RecordKind& kind, const FoundTable& table,
                        const std::vector<std::string>& headers, std::vector<TypeFinder>& finders) {
  source::TableRequest request{table.name, {}, place_of(table), {}};
  for (const std::string& header : headers) request.columns.push_back({header, header, {TypeKind::text, 0}});
  for (const fs::path& path : table.files.files) {
    auto seen =
        source::each_record(kind, request, path, [&](const source::Cells& cells, std::size_t row, std::uint64_t line) {
          for (std::size_t c = 0; c < headers.size(); ++c) {
            const source::Cell& cell = cells.at(row, c);
            if (!cell.is_null()) finders[c].add(source::text_of(cell), line);
          }
        });
    if (!seen) return seen;
  }
  return {};
}

}  // namespace

Result<FoundTable> read_found_table(const TableFiles& files, const Options& options) {
  FoundTable table;
  table.files = files;
  table.name = plain_name(files.name, "t");
  table.delimiter = files.delimiter.value_or(',');
  const bool is_csv = files.kind == base::SourceKind::csv;
  if (is_csv && !std::all_of(files.files.begin(), files.files.end(), is_utf8)) {
    // Every byte is a character there, so that this always reads; whether it reads well, the texts tell.
    table.encoding = "windows-1252";
    table.comments.emplace_back("these bytes are not UTF-8: look whether its texts are right in windows-1252");
  }
  const auto records = source::record_kind(files.kind);
  const auto declared =
      records ? columns_of_records(*records, table) : (is_csv ? columns_of_csv(table) : columns_of_parquet(table));
  if (!declared) return tl::unexpected(declared.error());
  std::set<std::string> names;
  std::vector<std::string> headers;
  for (const Declared& column : *declared) headers.push_back(column.header);
  std::vector<TypeFinder> finders(headers.size());
  if (records) {
    if (auto found = find_types(*records, table, headers, finders); !found) return tl::unexpected(found.error());
  } else if (is_csv) {
    auto found = each_field(table, headers, false, [&](std::size_t c, std::string_view text, bool, std::uint64_t line) {
      finders[c].add(text, line);
    });
    if (found) found = find_table_spelling(table, headers, finders);
    if (!found) return tl::unexpected(found.error());
  }
  source::TableRequest request{table.name, {}, place_of(table), {}};
  for (std::size_t c = 0; c < headers.size(); ++c) {
    FoundColumn column;
    column.header = headers[c];
    const std::string name = language::is_plain_name(headers[c]) ? headers[c] : plain_name(headers[c], "column");
    column.name = unique_name(name, names);
    Type type = (*declared)[c].type.value_or(finders[c].type());
    if (!(*declared)[c].type) column.comment = finders[c].reason();
    if (std::find(files.text_columns.begin(), files.text_columns.end(), headers[c]) != files.text_columns.end()) {
      type = {TypeKind::text, 0};
      column.comment.clear();
    }
    if (!(*declared)[c].type && !finders[c].has_values()) column.comment = "no row has a value";
    request.columns.push_back({column.name, column.header, type});
    table.columns.push_back(std::move(column));
  }
  source::ReadSettings settings;
  settings.threads = options.threads;
  settings.progress = [&](std::uint64_t bytes, std::uint64_t rows) {
    if (options.progress) options.progress({"reading " + table.name, rows, bytes, 0});
  };
  // A record that can't be read is told, and does not stop the rest.
  source::Rejects rejects = source::Rejects::counted();
  settings.rejects = &rejects;
  auto read = source::read_table(request, files.files, settings);
  if (!read) return tl::unexpected(read.error());
  if (rejects.count() > 0) {
    table.comments.push_back(fmt::format("{} of its rows can't be read, the first at {}:{}, {}", rejects.count(),
                                         fs::path(rejects.first().file).filename().string(), rejects.first().line,
                                         rejects.first().reasons));
    table.comments.push_back("\"juniper load ... --reject FILE\" leaves them out and writes them there");
  }
  table.rows = read->rows;
  base::parallel_for(table.columns.size(), options.threads,
                     [&](std::size_t c) { table.columns[c].data = store::encode_column(std::move(read->columns[c])); });
  return table;
}

}  // namespace juniper::scanning
