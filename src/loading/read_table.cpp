#include "loading/read_table.h"

#include <algorithm>
#include <map>
#include <numeric>

#include "base/failure.h"
#include "base/parallel.h"
#include "loading/row_order.h"
#include "loading/signature.h"

namespace juniper::loading {

namespace {

// Whether a table has the columns that are asked for, and the rows of its files, as its signature promises.
bool holds(const store::Store& store, const store::StoredTable& table, const source::TableRequest& request) {
  std::size_t next = 0;
  for (const store::StoredColumn& column : table.columns) {
    if (column.calculated) continue;
    if (next == request.columns.size() || column.name != request.columns[next].name ||
        column.data.type != request.columns[next].type || column.data.rows != table.rows)
      return false;
    ++next;
  }
  std::uint64_t rows = 0;
  for (const source::SourceFile& file : store.sources) {
    if (file.table != table.name) continue;
    if (file.rows > table.rows - rows) return false;
    rows += file.rows;
  }
  return next == request.columns.size() && rows == table.rows;
}

// The table of an earlier store that was made from a source as it is declared now, if it is there and whole: no rows
// that links did not lead to then are missing.
const store::StoredTable* find_earlier(const store::Store* earlier, const source::TableRequest& request,
                                       const std::string& signature, unsigned threads) {
  if (earlier == nullptr) return nullptr;
  for (const store::StoredTable& table : earlier->tables) {
    if (table.name != request.name || table.signature != signature || table.unreached_rows != 0) continue;
    if (!holds(*earlier, table, request)) return nullptr;
    // Damage is not carried on: what can't be read is read from the source again.
    const auto whole = base::guarded([&]() -> Result<void> {
      base::parallel_for(table.columns.size(), threads, [&](std::size_t c) {
        if (!table.columns[c].calculated) table.columns[c].data.verify();
      });
      return {};
    });
    return whole ? &table : nullptr;
  }
  return nullptr;
}

// A file of the earlier store, and where its rows stand.
struct EarlierFile {
  const source::SourceFile* file;
  std::uint64_t first_row;
};

}  // namespace

Result<ReadTable> read_table(const source::TableRequest& request, const std::string& signature,
                             const store::Store* earlier_store, const std::optional<std::string>& order,
                             const source::ReadSettings& settings) {
  const auto files = source::find_files(request);
  if (!files) return tl::unexpected(files.error());
  // Lives as long as the earlier store; or a copy with its rows in the order of the files.
  std::shared_ptr<const store::StoredTable> earlier(std::shared_ptr<void>(),
                                                    find_earlier(earlier_store, request, signature, settings.threads));
  std::map<std::string, EarlierFile> known;  // by name
  std::uint64_t earlier_files = 0;
  if (earlier != nullptr) {
    std::uint64_t row = 0;
    for (const source::SourceFile& file : earlier_store->sources) {
      if (file.table != request.name) continue;
      known.emplace(file.path, EarlierFile{&file, row});
      row += file.rows;
      ++earlier_files;
    }
  }
  const auto find_known = [&](const std::filesystem::path& path) -> const EarlierFile* {
    if (settings.asks_servers && base::is_server(request.place.kind)) return nullptr;
    const auto at = known.find(source_name(request, path));
    return at != known.end() && is_unchanged(*at->second.file, request, path) ? &at->second : nullptr;
  };
  std::vector<const EarlierFile*> unchanged;
  for (const auto& path : *files) unchanged.push_back(find_known(path));
  const bool all_known = earlier != nullptr && files->size() == earlier_files &&
                         std::find(unchanged.begin(), unchanged.end(), nullptr) == unchanged.end();
  if (earlier != nullptr && !earlier->order.empty() && (!all_known || (order && *order != earlier->order))) {
    auto restored = in_file_order(*earlier, settings.threads);
    earlier = restored ? std::make_shared<const store::StoredTable>(std::move(*restored)) : nullptr;
    // Without that order nobody knows which rows come from which file.
    if (earlier == nullptr) std::fill(unchanged.begin(), unchanged.end(), nullptr);
  }
  ReadTable made;
  for (std::size_t c = 0; c < request.columns.size(); ++c) made.columns.emplace_back().type = request.columns[c].type;
  std::vector<const store::Column*> stored;
  if (earlier != nullptr) {
    for (const store::StoredColumn& column : earlier->columns) {
      if (!column.calculated) stored.push_back(&column.data);
    }
  }
  if (all_known && earlier != nullptr) {
    made.unchanged = earlier;
    made.rows = earlier->rows;
    made.columns.clear();
  }
  for (std::size_t begin = 0; begin < files->size();) {
    if (const EarlierFile* const file = unchanged[begin]) {
      source::SourceFile source = source::look_at(request, (*files)[begin]).value_or(*file->file);
      source.hash = file->file->hash;
      source.rows = file->file->rows;
      source.rejected = file->file->rejected;
      made.bytes += source.bytes;
      if (made.unchanged == nullptr) {
        made.rows += source.rows;
        std::vector<std::uint64_t> rows(source.rows);
        std::iota(rows.begin(), rows.end(), file->first_row);
        base::parallel_for(stored.size(), settings.threads,
                           [&](std::size_t c) { made.columns[c].append(store::chosen_rows(*stored[c], rows)); });
      }
      made.sources.push_back(std::move(source));
      ++begin;
      continue;
    }
    // Files to read that follow each other are read together.
    std::size_t end = begin;
    while (end < files->size() && unchanged[end] == nullptr) ++end;
    const std::vector<std::filesystem::path> several(files->begin() + static_cast<std::ptrdiff_t>(begin),
                                                     files->begin() + static_cast<std::ptrdiff_t>(end));
    auto read = source::read_table(request, several, settings);
    if (!read) return tl::unexpected(read.error());
    made.rows += read->rows;
    made.bytes += read->bytes;
    made.files_read += several.size();
    made.sources.insert(made.sources.end(), read->sources.begin(), read->sources.end());
    for (std::size_t c = 0; c < made.columns.size(); ++c) made.columns[c].append(std::move(read->columns[c]));
    begin = end;
  }
  for (source::SourceFile& file : made.sources) file.path = source_name(request, file.path);
  return made;
}

}  // namespace juniper::loading
