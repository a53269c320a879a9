#include "source/csv_table.h"

#include <fmt/format.h>
#include <fnmatch.h>
#include <sys/stat.h>
#include <utf8.h>

#include <algorithm>
#include <boost/unordered/unordered_flat_map.hpp>
#include <deque>

#include "base/diagnostics.h"
#include "base/exact.h"
#include "source/csv_reader.h"

namespace juniper::source {

namespace {

constexpr std::size_t most_errors = 20;

struct TextHash {
  using is_transparent = void;
  std::size_t operator()(std::string_view text) const { return XXH3_64bits(text.data(), text.size()); }
};

// Collects one column, row by row.
class ColumnBuilder {
 public:
  explicit ColumnBuilder(Type type) { input_.type = type; }

  // Takes a field; false if it does not fit the type.
  bool add(const Field& field) {
    const bool null = field.is_null();
    input_.is_null.push_back(null ? 1 : 0);
    switch (input_.type.kind) {
      case TypeKind::text: {
        input_.text.push_back(null ? 0 : intern(field.text));
        return true;
      }
      case TypeKind::real: {
        const auto value = null ? std::optional(Value::of(0.0)) : parse_value(field.text, input_.type);
        input_.real.push_back(value ? value->real() : 0.0);
        return value.has_value();
      }
      case TypeKind::integer:
        if (!null && field.text.size() < 18) return add_small_integer(field.text);
        [[fallthrough]];
      default: {
        const auto value = null ? std::optional(Value::of(int128{0})) : parse_value(field.text, input_.type);
        const bool fits = value && base::fits_int64(value->exact());
        input_.exact.push_back(fits ? static_cast<std::int64_t>(value->exact()) : 0);
        return fits;
      }
    }
  }

  // True if a text first seen since the last call is not UTF-8.
  bool has_bad_text() {
    const bool bad = bad_text_;
    bad_text_ = false;
    return bad;
  }

  ColumnInput finish() {
    auto texts = std::make_shared<std::deque<std::string>>(std::move(texts_));
    input_.texts.assign(texts->begin(), texts->end());
    input_.owner = std::move(texts);
    return std::move(input_);
  }

 private:
  bool add_small_integer(std::string_view text) {
    const bool negative = text.front() == '-';
    std::int64_t value = 0;
    const std::size_t begin = negative ? 1 : 0;
    for (std::size_t i = begin; i < text.size(); ++i) {
      const auto digit = static_cast<unsigned>(text[i] - '0');
      if (digit > 9) {
        // A sign or point: the general reader knows what is allowed.
        const auto general = parse_value(text, input_.type);
        input_.exact.push_back(general ? static_cast<std::int64_t>(general->exact()) : 0);
        return general.has_value();
      }
      value = value * 10 + digit;
    }
    input_.exact.push_back(negative ? -value : value);
    return text.size() > begin;
  }

  std::uint32_t intern(std::string_view text) {
    if (const auto known = ids_.find(text); known != ids_.end()) return known->second;
    if (!utf8::is_valid(text.begin(), text.end())) bad_text_ = true;
    const auto id = static_cast<std::uint32_t>(texts_.size());
    ids_.emplace(texts_.emplace_back(text), id);
    return id;
  }

  ColumnInput input_;
  std::deque<std::string> texts_;  // stable addresses: the keys of ids_ view them
  boost::unordered_flat_map<std::string_view, std::uint32_t, TextHash, std::equal_to<>> ids_;
  bool bad_text_ = false;
};

// Where each requested column stands in one file's records.
Result<std::vector<std::size_t>> match_header(const TableRequest& request, const std::vector<Field>& header,
                                              const std::string& file) {
  std::vector<std::string> names;
  for (const Field& field : header) names.emplace_back(field.text);
  std::vector<std::size_t> positions;
  Diagnostics errors;
  const auto fail = [&](std::string message, std::string fix) {
    const auto error = base::error_at("JR-505", Place{file, 1, 0}, std::move(message), std::move(fix));
    errors.insert(errors.end(), error.begin(), error.end());
  };
  for (const ColumnRequest& column : request.columns) {
    const auto count = std::count(names.begin(), names.end(), column.header);
    if (count == 0) {
      const std::string near = base::nearest_name(column.header, names);
      fail(fmt::format("the header has no column '{}', which {}.{} is read from; it has: {}", column.header,
                       request.name, column.name, fmt::join(names, ", ")),
           near.empty()
               ? ""
               : fmt::format("write in the model: {} {} from \"{}\"", column.name, to_string(column.type), near));
    } else if (count > 1) {
      fail(fmt::format("the header has the column '{}' {} times", column.header, count),
           "give the columns of the file different names");
    }
    positions.push_back(static_cast<std::size_t>(std::find(names.begin(), names.end(), column.header) - names.begin()));
  }
  if (!errors.empty()) return tl::unexpected(std::move(errors));
  return positions;
}

std::string shown(std::string_view text) {
  constexpr std::size_t longest = 40;
  std::string valid = utf8::replace_invalid(std::string(text));
  if (base::code_points(valid) > longest) {
    auto cut = valid.begin();
    utf8::unchecked::advance(cut, longest);
    valid.erase(cut, valid.end());
    valid += "…";
  }
  return '"' + valid + '"';
}

std::string expectation(Type type) {
  switch (type.kind) {
    case TypeKind::boolean:
      return "true or false";
    case TypeKind::integer:
      return "a whole number of 64 bits";
    case TypeKind::decimal:
      return fmt::format("a number with at most {} digits after the point, in 64 bits", type.scale);
    case TypeKind::real:
      return "a finite number";
    case TypeKind::date:
      return "a date like 2025-03-01";
    case TypeKind::datetime:
      return "a datetime like 2025-03-01 08:30:00";
    case TypeKind::time:
      return "a time like 08:30:00";
    case TypeKind::text:
      return "UTF-8";
  }
  return "";
}

class TableReader {
 public:
  TableReader(const TableRequest& request, const ReadProgress& progress) : request_(request), progress_(progress) {
    for (const ColumnRequest& column : request.columns) builders_.emplace_back(column.type);
  }

  Result<TableInput> read() {
    const auto files = find_files(request_);
    if (!files) return tl::unexpected(files.error());
    for (const auto& path : *files) {
      if (!read_file(path)) break;
    }
    if (!errors_.empty()) return tl::unexpected(std::move(errors_));
    for (ColumnBuilder& builder : builders_) input_.columns.push_back(builder.finish());
    return std::move(input_);
  }

 private:
  void report(const Diagnostics& errors) { errors_.insert(errors_.end(), errors.begin(), errors.end()); }

  // False when there is no use in reading on.
  bool read_file(const std::filesystem::path& path) {
    auto source = look_at(request_.name, path);
    auto reader = CsvReader::open(path, request_.delimiter);
    if (!reader || !source) {
      if (!reader) report(reader.error());
      return false;
    }
    std::vector<Field> fields;
    if (!reader->next(fields)) {
      report(reader->errors().empty() ? base::error_at("JR-505", Place{reader->name(), 1, 0},
                                                       "this file is empty: not even a header stands in it")
                                      : reader->errors());
      return false;
    }
    const std::size_t width = fields.size();
    const auto positions = match_header(request_, fields, reader->name());
    if (!positions) {
      report(positions.error());
      return false;
    }
    const std::uint64_t bytes_before = input_.bytes;
    while (reader->next(fields)) {
      if (fields.size() != width) {
        report(base::error_at("JR-506", Place{reader->name(), reader->line(), 0},
                              fmt::format("this record has {} fields, and the header has {}", fields.size(), width),
                              "a field that holds the delimiter or a line end stands in quotes"));
      } else {
        add_row(*reader, fields, *positions);
      }
      if (errors_.size() >= most_errors) return false;
      if (++input_.rows % 65536 == 0 && progress_) progress_(bytes_before + reader->bytes_read(), input_.rows);
    }
    report(reader->errors());
    input_.bytes = bytes_before + reader->bytes_read();
    source->hash = reader->hash();
    source->bytes = reader->bytes_read();
    input_.sources.push_back(std::move(*source));
    if (progress_) progress_(input_.bytes, input_.rows);
    return errors_.empty();
  }

  void add_row(const CsvReader& reader, const std::vector<Field>& fields, const std::vector<std::size_t>& positions) {
    for (std::size_t i = 0; i < builders_.size(); ++i) {
      const Field& field = fields[positions[i]];
      const bool fits = builders_[i].add(field);
      const bool bad_text = builders_[i].has_bad_text();
      if (fits && !bad_text) continue;
      const ColumnRequest& column = request_.columns[i];
      const Place place{reader.name(), reader.line(), 0};
      if (bad_text) {
        report(base::error_at(
            "JR-503", place,
            fmt::format("field {} ('{}'): {} is not valid UTF-8", positions[i] + 1, column.header, shown(field.text)),
            "save the file as UTF-8"));
      } else {
        report(base::error_at(
            "JR-507", place,
            fmt::format("field {} ('{}'): found {}, expected {} for {}.{}", positions[i] + 1, column.header,
                        shown(field.text), expectation(column.type), request_.name, column.name),
            "mend the file, or declare the column with a type that holds what stands in it"));
      }
    }
  }

  const TableRequest& request_;
  const ReadProgress& progress_;
  std::vector<ColumnBuilder> builders_;
  TableInput input_;
  Diagnostics errors_;
};

}  // namespace

Result<std::vector<std::filesystem::path>> find_files(const TableRequest& request) {
  const std::filesystem::path whole = request.folder / request.pattern;
  const std::string pattern = whole.filename().string();
  std::vector<std::filesystem::path> files;
  if (pattern.find_first_of("*?[") == std::string::npos) {
    if (std::filesystem::exists(whole)) files.push_back(whole);
  } else {
    std::error_code error;
    for (const auto& entry : std::filesystem::directory_iterator(whole.parent_path(), error)) {
      if (::fnmatch(pattern.c_str(), entry.path().filename().c_str(), 0) == 0) files.push_back(entry.path());
    }
    std::sort(files.begin(), files.end());
  }
  if (files.empty()) {
    return tl::unexpected(base::error("JR-504",
                                      fmt::format("table '{}': there is no file {}", request.name, whole.string()),
                                      "a source's path is relative to the file of the model text"));
  }
  return files;
}

Result<TableInput> read_table(const TableRequest& request, const ReadProgress& progress) {
  return TableReader(request, progress).read();
}

std::vector<Place> locate_rows(const TableRequest& request, const std::vector<std::uint64_t>& rows) {
  std::vector<Place> places;
  std::uint64_t row = 0;
  for (const auto& path : find_files(request).value_or(std::vector<std::filesystem::path>{})) {
    auto reader = CsvReader::open(path, request.delimiter);
    std::vector<Field> fields;
    if (!reader || !reader->next(fields)) continue;
    while (places.size() < rows.size() && reader->next(fields)) {
      if (row++ == rows[places.size()]) places.push_back({reader->name(), reader->line(), 0});
    }
  }
  return places;
}

std::optional<SourceFile> look_at(const std::string& table, const std::filesystem::path& path) {
  struct stat status {};
  if (::stat(path.c_str(), &status) != 0) return std::nullopt;
  return SourceFile{table, path.string(), static_cast<std::uint64_t>(status.st_size),
                    status.st_mtim.tv_sec * 1'000'000'000LL + status.st_mtim.tv_nsec, 0};
}

std::optional<std::uint64_t> hash_file(const std::filesystem::path& path) {
  const std::unique_ptr<std::FILE, int (*)(std::FILE*)> file(std::fopen(path.c_str(), "rb"), &std::fclose);
  if (!file) return std::nullopt;
  const std::unique_ptr<XXH3_state_t, XXH_errorcode (*)(XXH3_state_t*)> state(XXH3_createState(), &XXH3_freeState);
  XXH3_64bits_reset(state.get());
  std::vector<char> buffer(1 << 20);
  while (const std::size_t got = std::fread(buffer.data(), 1, buffer.size(), file.get()))
    XXH3_64bits_update(state.get(), buffer.data(), got);
  if (std::ferror(file.get()) != 0) return std::nullopt;
  return XXH3_64bits_digest(state.get());
}

}  // namespace juniper::source
