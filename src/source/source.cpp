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
#include "source/csv/table.h"
#include "source/parquet/table.h"

namespace juniper::source {

namespace {

// How the files of a kind become rows.
struct Kind {
  Result<TableInput> (*read)(const TableRequest&, const std::vector<std::filesystem::path>&, const ReadSettings&);
  std::vector<Place> (*locate)(const TableRequest&, const std::vector<std::uint64_t>&);
};

Kind kind_of(const TableRequest& request) {
  switch (request.place.kind) {
    case base::SourceKind::csv:
      return {read_csv, locate_csv_rows};
    case base::SourceKind::parquet:
      return {read_parquet, locate_parquet_rows};
  }
  return {read_csv, locate_csv_rows};
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
