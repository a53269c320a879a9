// Keys that a row behind links determines, as an order does its date, its customer and its number: where its own key is
// among them, the number of that row stands for all of them while rows are grouped. It is narrower, mostly a place in a
// table, and each row costs one look-up; the keys themselves are found for the groups that there are in the end.
#pragma once

#include <cstdint>
#include <optional>
#include <vector>

#include "engine/scan/scan.h"

namespace juniper::engine {

class RowKeys {
 public:
  // Source and request outlive it.
  RowKeys(const Source& source, const ScanRequest& request);

  // The request with such keys in the place of others; the given one where there are none.
  const ScanRequest& request() const { return changed_ ? *changed_ : given_; }
  // The tables whose rows stand for keys.
  std::vector<language::TableIndex> tables() const;
  // Puts the keys that were asked for into the groups of the changed request's result.
  void restore(ScanResult& result, unsigned threads) const;

 private:
  using Path = std::vector<language::LinkIndex>;
  // Of a grouping whose keys were changed: the way to the row, and for each of the given keys where it, or the row that
  // determines it, stands among the changed ones.
  struct Changed {
    Path path;
    std::vector<std::size_t> places;
  };

  std::optional<Path> path_to_row(const ScanKey& key) const;
  bool is_determined(const ScanKey& key, const Path& path) const;
  std::optional<Path> best_path(const std::vector<std::uint32_t>& grouping) const;
  std::vector<std::uint64_t> codes_of_rows(const ScanKey& key, const Path& path,
                                           const std::vector<std::uint64_t>& rows) const;
  std::vector<std::uint64_t> own_codes_of_rows(const ScanKey& key, const Path& path,
                                               const std::vector<std::uint64_t>& rows) const;
  std::uint64_t rows_behind(const Path& path) const;
  bool is_foreign_key(const ScanKey& key, language::LinkIndex link) const;

  const Source& source_;
  const ScanRequest& given_;
  std::optional<ScanRequest> changed_;
  std::vector<std::optional<Changed>> groupings_;
};

}  // namespace juniper::engine
