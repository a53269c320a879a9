#include "scanning/found_table.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <fstream>
#include <map>
#include <numeric>
#include <set>

#include "base/diagnostics.h"
#include "base/parallel.h"
#include "language/lexer.h"
#include "scanning/column_type.h"
#include "scanning/spelling_finder.h"
#include "source/csv/records.h"
#include "source/parquet/table.h"

namespace juniper::scanning {

namespace {

namespace fs = std::filesystem;

// What tells at the begin of a file which columns it has: the header as text, and the delimiter that it most likely has;
// of a kind that names its columns, these.
struct Head {
  base::SourceKind kind = base::SourceKind::csv;
  std::string line;
  char delimiter = ',';
};

bool is_parquet(const fs::path& path) {
  std::ifstream file(path, std::ios::binary);
  std::array<char, 4> begin{};
  return file.read(begin.data(), begin.size()) && std::string_view(begin.data(), begin.size()) == "PAR1";
}

Result<Head> head_of(const fs::path& path) {
  if (fs::is_regular_file(path) && is_parquet(path)) {
    const auto columns = source::parquet_columns(path);
    if (!columns) return tl::unexpected(columns.error());
    Head head{base::SourceKind::parquet, ""};
    for (const source::ParquetColumn& column : *columns)
      head.line += fmt::format("{:?} {}\n", column.name, to_string(column.type));
    return head;
  }
  auto pieces = source::CsvPieces::open(path, 1 << 12);
  if (!pieces) return tl::unexpected(pieces.error());
  std::string buffer;
  const auto text = pieces->next(buffer, ',');
  if (!text) return tl::unexpected(text.error());
  Head head;
  head.line = text->substr(0, source::first_record_end(*text, ','));
  // The one that stands there most often; the comma where none does.
  std::ptrdiff_t most = 0;
  for (const char candidate : {',', ';', '\t', '|'}) {
    const auto count = std::count(head.line.begin(), head.line.end(), candidate);
    if (count > most) head.delimiter = candidate;
    most = std::max(most, count);
  }
  return head;
}

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

// A part of a file's name in a pattern, where only itself fits it.
std::string escaped(const std::string& name) {
  std::string pattern;
  for (const char c : name) {
    if (c == '*' || c == '?' || c == '[' || c == '\\') pattern += '\\';
    pattern += c;
  }
  return pattern;
}

// "sessions-2024.csv.gz" as "sessions" and "sessions-*.csv.gz".
std::pair<std::string, std::string> stem_and_pattern(const std::string& file) {
  const std::size_t dot = std::min(file.find('.'), file.size());
  const std::string stem = file.substr(0, dot);
  const std::size_t end = stem.find_last_not_of("0123456789-_ ");
  const std::string short_stem = end == std::string::npos ? stem : stem.substr(0, end + 1);
  if (short_stem.size() == stem.size()) return {stem, pattern_of(file)};
  const std::size_t first_digit = stem.find_first_of("0123456789", short_stem.size());
  if (first_digit == std::string::npos) return {stem, pattern_of(file)};
  return {short_stem, escaped(stem.substr(0, first_digit)) + "*" + escaped(file.substr(dot))};
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
    auto pieces = source::CsvPieces::open(path);
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

std::string pattern_of(const std::string& file) {
  return file.find_first_of("*?[") == std::string::npos ? file : escaped(file);
}

Result<std::vector<TableFiles>> group_files(std::vector<fs::path> files) {
  std::sort(files.begin(), files.end());
  std::map<std::pair<std::string, std::string>, TableFiles> groups;  // by pattern and header
  std::map<std::string, std::set<std::string>> headers;              // of each pattern
  for (const fs::path& path : files) {
    const auto head = head_of(path);
    if (!head) return tl::unexpected(head.error());
    const auto [stem, pattern] = stem_and_pattern(path.filename().string());
    headers[pattern].insert(head->line);
    TableFiles& group = groups[{pattern, head->line}];
    group.kind = head->kind;
    group.name = stem;
    group.pattern = path.parent_path() / pattern;
    group.delimiter = head->delimiter;
    group.files.push_back(path);
  }
  std::vector<TableFiles> tables;
  for (auto& [key, group] : groups) {
    // A pattern that would match files of another header, or one file alone, is none.
    if (headers[key.first].size() == 1 && group.files.size() > 1) {
      tables.push_back(std::move(group));
      continue;
    }
    for (const fs::path& path : group.files) {
      TableFiles single = group;
      single.files = {path};
      single.pattern = path.parent_path() / pattern_of(path.filename().string());
      single.name = path.filename().string().substr(0, path.filename().string().find('.'));
      tables.push_back(std::move(single));
    }
  }
  return tables;
}

namespace {

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

Result<std::vector<Declared>> columns_of_csv(const Head& head, FoundTable& table) {
  if (head.line.empty()) {
    return tl::unexpected(base::error_at("JR-505", Place{table.files.files.front().string(), 1, 0},
                                         "this file is empty: not even a header stands in it"));
  }
  source::CsvRecords header;
  std::string padded = head.line + std::string(source::marks_overrun, '\0');
  header.read(std::string_view(padded).substr(0, head.line.size()), table.delimiter, 0);
  if (header.rows() == 0) {
    return tl::unexpected(base::error_at("JR-502", Place{table.files.files.front().string(), 1, 0},
                                         "the header of this file cannot be read", "its quotes do not close"));
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

}  // namespace

bool may_be_table(const std::string& file) {
  constexpr std::array<std::string_view, 7> endings{".csv",    ".csv.gz",  ".csv.zst", ".tsv",
                                                    ".tsv.gz", ".tsv.zst", ".parquet"};
  return std::any_of(endings.begin(), endings.end(), [&](std::string_view ending) { return file.ends_with(ending); });
}

Result<FoundTable> read_found_table(const TableFiles& files, const Options& options) {
  FoundTable table;
  table.files = files;
  table.name = plain_name(files.name, "t");
  const auto head = head_of(files.files.front());
  if (!head) return tl::unexpected(head.error());
  table.files.kind = head->kind;
  table.delimiter = files.delimiter.value_or(head->delimiter);
  const auto declared = head->kind == base::SourceKind::csv ? columns_of_csv(*head, table) : columns_of_parquet(table);
  if (!declared) return tl::unexpected(declared.error());
  std::set<std::string> names;
  std::vector<std::string> headers;
  for (const Declared& column : *declared) headers.push_back(column.header);
  std::vector<TypeFinder> finders(headers.size());
  if (head->kind == base::SourceKind::csv) {
    auto found = each_field(table, headers, false, [&](std::size_t c, std::string_view text, bool, std::uint64_t line) {
      finders[c].add(text, line);
    });
    if (found) found = find_table_spelling(table, headers, finders);
    if (!found) return tl::unexpected(found.error());
  }
  source::TableRequest request{table.name, {}, {head->kind, "", table.delimiter, table.spelling}, {}};
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
  auto read = source::read_table(request, files.files, settings);
  if (!read) return tl::unexpected(read.error());
  table.rows = read->rows;
  base::parallel_for(table.columns.size(), options.threads,
                     [&](std::size_t c) { table.columns[c].data = store::encode_column(std::move(read->columns[c])); });
  return table;
}

}  // namespace juniper::scanning
