#include "source/source.h"

#include <fmt/format.h>
#include <fmt/ranges.h>
#include <fnmatch.h>
#include <sys/stat.h>

#include <algorithm>
#include <map>

#include "base/diagnostics.h"
#include "base/files.h"
#include "base/shown_text.h"
#include "base/xxhash.h"
#include "source/arrow/arrow.h"
#include "source/csv/table.h"
#include "source/database/odbc.h"
#include "source/database/postgresql.h"
#include "source/database/sqlite.h"
#include "source/json/json.h"
#include "source/parquet/table.h"
#include "source/records/table.h"
#include "source/spreadsheet/spreadsheet.h"

namespace juniper::source {

std::optional<RecordKind> record_kind(base::SourceKind kind) {
  switch (kind) {
    case base::SourceKind::arrow:
      return arrow_kind();
    case base::SourceKind::json:
      return json_kind();
    case base::SourceKind::xlsx:
      return xlsx_kind();
    case base::SourceKind::ods:
      return ods_kind();
    case base::SourceKind::sqlite:
      return sqlite_kind();
    case base::SourceKind::odbc:
      return odbc_kind();
    case base::SourceKind::csv:
    case base::SourceKind::parquet:
    case base::SourceKind::postgresql:
    case base::SourceKind::clickhouse:
      return std::nullopt;
  }
  return std::nullopt;
}

namespace {

// How the files of a kind become rows.
struct Kind {
  std::function<Result<TableInput>(const TableRequest&, const std::vector<std::filesystem::path>&, const ReadSettings&)>
      read;
  std::function<std::vector<Place>(const TableRequest&, const std::vector<std::uint64_t>&)> locate;
};

std::vector<Place> locate_no_rows(const TableRequest&, const std::vector<std::uint64_t>&) {
  return {};
}

Kind kind_of(const TableRequest& request) {
  if (const auto records = record_kind(request.place.kind)) {
    return {[records](const auto& table, const auto& files, const auto& settings) {
              return read_records(*records, table, files, settings);
            },
            [records](const auto& table, const auto& rows) { return locate_records(*records, table, rows); }};
  }
  if (request.place.kind == base::SourceKind::parquet) return {read_parquet, locate_parquet_rows};
  if (request.place.kind == base::SourceKind::postgresql) return {read_postgresql, locate_no_rows};
  return {[](const auto& table, const auto& files, const auto& settings) { return read_csv(table, files, settings); },
          locate_csv_rows};
}

}  // namespace

Result<TableInput> read_table(const TableRequest& request, const std::vector<std::filesystem::path>& files,
                              const ReadSettings& settings) {
  return kind_of(request).read(request, files, settings);
}

std::vector<Place> locate_rows(const TableRequest& request, const std::vector<std::uint64_t>& rows) {
  return kind_of(request).locate(request, rows);
}

Result<std::vector<std::filesystem::path>> find_files(const TableRequest& request) {
  if (base::is_server(request.place.kind)) return std::vector<std::filesystem::path>{request.place.pattern};
  const std::filesystem::path whole = request.folder / request.place.pattern;
  const std::string pattern = whole.filename().string();
  std::vector<std::filesystem::path> files;
  if (pattern.find_first_of("*?[") == std::string::npos) {
    if (std::filesystem::exists(whole)) files.push_back(whole);
  } else {
    for (const auto& path : base::entries_of(whole.parent_path())) {
      if (::fnmatch(pattern.c_str(), path.filename().c_str(), 0) == 0) files.push_back(path);
    }
  }
  if (files.empty()) {
    return tl::unexpected(base::error("JR-504",
                                      fmt::format("table '{}': there is no file {}", request.name, whole.string()),
                                      "a source's path is relative to the file of the model text"));
  }
  return files;
}

Result<std::vector<std::size_t>> find_columns(const TableRequest& request, const std::vector<std::string>& names,
                                              const std::string& file, std::uint32_t line) {
  std::map<std::string_view, std::vector<std::size_t>> places;
  for (std::size_t i = 0; i < names.size(); ++i) places[names[i]].push_back(i);
  const std::string_view names_of = line == 0 ? "the file" : "the header";
  std::vector<std::size_t> positions;
  Diagnostics errors;
  std::size_t missing = 0;
  const auto fail = [&](std::string message, std::string fix) {
    const auto error = base::error_at("JR-505", Place{file, line, 0}, std::move(message), std::move(fix));
    errors.insert(errors.end(), error.begin(), error.end());
  };
  // Of a file that is another one than was meant, all columns are missing.
  constexpr std::size_t most_told = 20;
  for (const ColumnRequest& column : request.columns) {
    const auto at = places.find(column.header);
    if (at == places.end()) {
      if (++missing > most_told) continue;
      const std::string near = base::nearest_name(column.header, names);
      const std::string rest = names.size() > most_told ? fmt::format(" and {} more", names.size() - most_told) : "";
      fail(fmt::format("{} has no column '{}', which {}.{} is read from; it has: {}{}", names_of, column.header,
                       request.name, column.name,
                       fmt::join(names.begin(), names.begin() + std::min(names.size(), most_told), ", "), rest),
           near.empty()
               ? ""
               : fmt::format("write in the model: {} {} from \"{}\"", column.name, to_string(column.type), near));
      continue;
    }
    if (at->second.size() > 1) {
      fail(fmt::format("{} has the column '{}' {} times", names_of, column.header, at->second.size()),
           "give the columns of the file different names");
    }
    positions.push_back(at->second.front());
  }
  if (missing > most_told) fail(fmt::format("{} more columns are not there", missing - most_told), "");
  if (!errors.empty()) return tl::unexpected(std::move(errors));
  return positions;
}

std::string quoted_value(std::string_view text) {
  constexpr std::size_t longest = 40;
  return '"' + base::shortened(text, longest) + '"';
}

std::string expectation(Type type, base::FieldPart part) {
  if (part == base::FieldPart::date || part == base::FieldPart::time) type.kind = TypeKind::datetime;
  if (part == base::FieldPart::round) return "a number with at most 18 digits after the point, in 64 bits once rounded";
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

namespace {

// The files that hold what a path stands for. SQLite writes what is new into a log beside its file first.
std::vector<std::filesystem::path> parts_of(const TableRequest& request, const std::filesystem::path& path) {
  std::vector<std::filesystem::path> parts{path};
  std::error_code error;
  if (request.place.kind == base::SourceKind::sqlite) {
    std::filesystem::path log = path;
    log += "-wal";
    if (std::filesystem::file_size(log, error) > 0 && !error) parts.push_back(std::move(log));
  }
  return parts;
}

}  // namespace

std::optional<SourceFile> look_at(const TableRequest& request, const std::filesystem::path& path) {
  SourceFile file{request.name, path.string()};
  if (base::is_server(request.place.kind)) return file;
  for (const std::filesystem::path& part : parts_of(request, path)) {
    struct stat status {};
    if (::stat(part.c_str(), &status) != 0) return std::nullopt;
    file.bytes += static_cast<std::uint64_t>(status.st_size);
    file.modified_nanoseconds = std::max<std::int64_t>(
        file.modified_nanoseconds, status.st_mtim.tv_sec * 1'000'000'000LL + status.st_mtim.tv_nsec);
  }
  return file;
}

std::optional<std::uint64_t> hash_file(const TableRequest& request, const std::filesystem::path& path) {
  const std::unique_ptr<XXH3_state_t, XXH_errorcode (*)(XXH3_state_t*)> state(XXH3_createState(), &XXH3_freeState);
  XXH3_64bits_reset(state.get());
  std::vector<char> buffer(1 << 20);
  for (const std::filesystem::path& part : parts_of(request, path)) {
    const std::unique_ptr<std::FILE, int (*)(std::FILE*)> file(std::fopen(part.c_str(), "rb"), &std::fclose);
    if (!file) return std::nullopt;
    while (const std::size_t got = std::fread(buffer.data(), 1, buffer.size(), file.get()))
      XXH3_64bits_update(state.get(), buffer.data(), got);
    if (std::ferror(file.get()) != 0) return std::nullopt;
  }
  return XXH3_64bits_digest(state.get());
}

}  // namespace juniper::source
