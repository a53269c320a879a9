// How the fields of a table's columns are spelled, where they are not texts but only look so: decimal commas, marks of
// thousands, other orders of dates, words for null.
#pragma once

#include <cstdint>
#include <set>
#include <string>
#include <string_view>
#include <vector>

#include "base/source_place.h"
#include "scanning/column_type.h"

namespace juniper::scanning {

// Sees the fields of one column that are texts as they stand.
class SpellingFinder {
 public:
  SpellingFinder();
  void add(std::string_view text, bool quoted, std::uint64_t line);
  // It is said to be of texts, whatever they look like.
  void keep_texts() { readings_.clear(); }

  // One way to read all fields but the words for null.
  struct Reading {
    base::Spelling spelling;  // without nulls
    bool is_of_dates = false;
    TypeFinder finder;
  };
  const std::vector<Reading>& readings() const { return readings_; }
  const std::set<std::string>& null_words() const { return null_words_; }

 private:
  std::vector<Reading> readings_;  // those that all fields so far allow
  std::set<std::string> null_words_;
};

// What a table's source has to say so that its columns have types; with what could be meant in two ways as `doubt`.
struct FoundSpelling {
  base::Spelling spelling;
  std::string doubt;
};
// `columns`: of those that are texts as they stand; `has_points`: whether any other one has decimals behind a point.
FoundSpelling find_spelling(const std::vector<const SpellingFinder*>& columns, bool has_points);

// The reading of a column under a table's spelling; nothing where it stays a text.
const SpellingFinder::Reading* reading_of(const SpellingFinder& column, const base::Spelling& spelling);

}  // namespace juniper::scanning
