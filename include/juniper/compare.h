// Differences between two results of one query.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "juniper/ask.h"

namespace [[gnu::visibility("default")]] juniper {

enum class DifferenceKind : std::uint8_t {
  cell,         // a value differs
  missing_row,  // a row of the expected result is not there
  extra_row,    // a row that was not expected
  order,        // the same rows stand in another order
  columns,      // the columns differ in name, type or format
};

struct Difference {
  DifferenceKind kind = DifferenceKind::cell;
  std::string row;       // "days.year = 2024, stations.region = Coast"; "grand" for a total of everything
  std::string column;    // of a cell
  std::string expected;  // exact text; "null" for null
  std::string found;
  std::string change;  // found minus expected, for numbers
  // Of a cell whose column has a format: the two as reports show them.
  std::string expected_formatted = {};
  std::string found_formatted = {};
};

struct Comparison {
  std::uint64_t rows = 0;           // of the expected result
  std::uint64_t cells = 0;          // measure cells that were compared
  std::uint64_t differences = 0;    // all of them
  std::vector<Difference> samples;  // the first ones

  bool same() const { return differences == 0; }
};

// How far apart two reals may be and still count as the same: |a - b| <= absolute, or <= relative * max(|a|, |b|).
struct Tolerance {
  double relative = 0;
  double absolute = 0;
};

// Compares every value exactly, but for reals within the tolerance, which is to the bit when none is given; and rows,
// order, column names, types and formats. Rows are matched by their keys and level. Whole numbers and decimals of
// different scales are compared as numbers. At most `samples` differences are kept, all are counted.
Comparison compare(const QueryResult& expected, const QueryResult& found, std::size_t samples = 20,
                   const Tolerance& tolerance = {});

}  // namespace juniper
