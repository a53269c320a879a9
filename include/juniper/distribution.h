// How the values of columns are spread over their rows: the most frequent ones, and how many rows lie where between the
// smallest and the largest.
#pragma once

#include <cstddef>
#include <cstdint>
#include <string>
#include <vector>

#include "juniper/dataset.h"
#include "juniper/diagnostics.h"
#include "juniper/value.h"

namespace [[gnu::visibility("default")]] juniper {

struct ValueCount {
  Value value;
  std::uint64_t rows = 0;
};

// Rows whose value lies between two, both included; of reals, the upper one belongs to the next range, but for the last.
struct ValueRange {
  Value from;
  Value to;
  std::uint64_t rows = 0;
};

struct Distribution {
  std::string table;
  std::string column;
  Type type;
  std::string format;  // of the column; "" for none
  std::uint64_t rows = 0;
  std::uint64_t nulls = 0;
  std::uint64_t distinct = 0;             // values other than null
  std::vector<ValueCount> most_frequent;  // the most frequent first, then in the order of the values
  // False where there are too many different values to count each (some millions): then `most_frequent` is empty.
  bool is_counted = true;
  // Numbers, dates and times: ranges of equal width, as many as were asked for or fewer, from the smallest value to the
  // largest. Empty for texts, truths, and columns without values.
  std::vector<ValueRange> ranges;
};

struct DistributionSettings {
  std::size_t most_frequent = 10;
  std::size_t ranges = 24;
};

// Of every column, table by table, in the order of the model; columns that could not be computed, or are hidden from the
// reader who asks, are left out. Reads the
// codes of each row once, on Options::threads threads. Called off by Options::cancelled. Errors: JR-605 (the store is
// damaged), JR-707 (called off).
Result<std::vector<Distribution>> distributions(const Dataset& dataset, const DistributionSettings& settings = {});

}  // namespace juniper
