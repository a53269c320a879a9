// How well the links of a model fit its data.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "juniper/dataset.h"
#include "juniper/value.h"

namespace [[gnu::visibility("default")]] juniper {

// A key of the many side that no row of the one side has.
// An orphan key; of dates, days that follow each other are one.
struct OrphanKey {
  std::string key;         // its exact text, or that of the first day
  std::string last;        // of the last day; "" for a single key
  std::uint64_t keys = 1;  // how many they are
  std::uint64_t rows = 0;  // of the many side that carry one of them
};

// What the rows with orphan keys add up to in a measure: what a report shows under an empty name.
struct OrphanMeasure {
  std::string measure;
  Value value;
  Type type;
  std::string format;
};

struct LinkUse {
  std::string link;
  std::string many_table;
  std::string one_table;
  std::string broken;  // why nothing can cross it; "" for a whole link, and only that has figures below one_rows
  std::uint64_t many_rows = 0;
  std::uint64_t many_keys = 0;  // distinct keys other than null on the many side
  std::uint64_t null_rows = 0;  // rows of the many side without a key
  std::uint64_t one_rows = 0;   // and distinct keys, but for null ones: the one side's key is unique
  std::uint64_t one_nulls = 0;  // rows of the one side without a key
  std::uint64_t used_rows = 0;  // of the one side, that some row of the many side leads to
  std::uint64_t unused_rows() const { return one_rows - used_rows; }
  std::uint64_t orphan_keys = 0;   // distinct
  std::uint64_t orphan_rows = 0;   // rows of the many side with such a key
  std::vector<OrphanKey> samples;  // the orphan keys with the most rows, at most `samples` of them
  std::uint64_t bytes = 0;         // of the link in the store
  // Where there are orphans: every measure that is made from the many side's rows alone, over the rows with such a key.
  std::vector<OrphanMeasure> orphan_measures;
};

// A dimension of which the links use a part.
struct Trim {
  std::string table;
  std::uint64_t rows = 0;
  std::uint64_t used_rows = 0;    // that some link leads to
  std::uint64_t bytes = 0;        // of its columns in the store
  std::uint64_t saved_bytes = 0;  // of them, when only the used rows are kept; found by encoding these
};

// Days that the calendar lacks, from `first` to `last`, both in days since 1970-01-01.
struct CalendarGap {
  std::int64_t first = 0;
  std::int64_t last = 0;
};

struct LinkReport {
  std::vector<LinkUse> links;     // in the order of the model
  std::vector<Trim> trims;        // of the tables that links lead to, those with unused rows
  std::string calendar;           // its day: "days.day"; "" if the model has none
  std::vector<CalendarGap> gaps;  // between its first and its last day
};

// Looks at every link of a dataset. Errors: JR-605 (the store is damaged).
Result<LinkReport> links(const Dataset& dataset, std::size_t samples = 5);

}  // namespace juniper
