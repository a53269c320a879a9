// Tables on their way into files of others: batches of typed columns, and a writer for each form.
#pragma once

#include <cstdint>
#include <functional>
#include <memory>
#include <string>
#include <string_view>
#include <vector>

#include "juniper/value.h"

namespace juniper::writing {

struct WrittenColumn {
  std::string name;
  Type type;
  std::string format;  // a pattern for people; "" for none
  // Of exact numbers: the most digits that one of them has, without its point.
  unsigned digits = 0;

  // Whether a decimal needs more than 64 bits.
  bool is_wide() const { return digits > 18; }
  // Whether every number is told by a double: one of 15 digits or fewer.
  bool is_told_by_double() const { return digits <= 15; }
};

// The digits of a whole number.
unsigned digits_of(int128 units);

// Values of one column in some rows; only the vector of its type is used. Where a row is null, any value.
struct BatchColumn {
  std::vector<int128> exact;  // all types but real and text, as in juniper/value.h
  std::vector<double> real;
  std::vector<std::string_view> text;
  std::vector<std::uint8_t> is_null;  // 0 or 1

  void clear();
  // A value of the column's type behind the others; a text must outlive the batch.
  void add(const Value& value, Type type);
};

struct Batch {
  std::size_t rows = 0;
  std::vector<BatchColumn> columns;
};

// About how many rows a batch should have.
inline constexpr std::size_t rows_of_batch = std::size_t{1} << 14;

// Takes the bytes of a file, in their order.
using Sink = std::function<void(std::string_view bytes)>;

// Writes one table. All throw a base::Failure.
class TableWriter {
 public:
  virtual ~TableWriter() = default;
  virtual void write(const Batch& batch) = 0;
  // Once, behind all batches.
  virtual void finish() = 0;
};

// CSV as it is read here: null is an empty field, the empty text two quotes; moments without zones (ISO 8601).
std::unique_ptr<TableWriter> csv_writer(std::vector<WrittenColumn> columns, Sink sink);
// An object on each line; null is null, and numbers have all their digits.
std::unique_ptr<TableWriter> json_writer(std::vector<WrittenColumn> columns, Sink sink);
// Arrow's file of record batches: decimals of 128 bits, texts with offsets of 64.
std::unique_ptr<TableWriter> arrow_writer(std::vector<WrittenColumn> columns, Sink sink);
// Apache Parquet: dictionaries where they are small, zstd, row groups of about a million rows.
std::unique_ptr<TableWriter> parquet_writer(std::vector<WrittenColumn> columns, Sink sink);

// A file that holds several tables, made at a path where nothing stands yet, or an empty file. All throw a base::Failure.
class TablesFile {
 public:
  virtual ~TablesFile() = default;
  // Tables are written one behind the other. `keys` are names of columns.
  virtual std::unique_ptr<TableWriter> table(const std::string& name, std::vector<WrittenColumn> columns,
                                             const std::vector<std::string>& keys) = 0;
  // The name that the last one got, where the file can't hold its own.
  virtual const std::string& name_of_last() const = 0;
  virtual void finish() = 0;
};

// SQLite: decimals as numbers where a double tells them, else as texts; moments as texts; truth values as 0 and 1.
std::unique_ptr<TablesFile> sqlite_file(const std::string& path);
// Office Open XML: a sheet for each table. Numbers of more than 15 digits, and days before March 1900, are texts there.
// Throws JR-523 for a table that is larger than a sheet can be.
std::unique_ptr<TablesFile> xlsx_file(const std::string& path);

// The exact text of a value of a batch, as juniper::to_text has it; not for null.
std::string text_of(const BatchColumn& column, Type type, std::size_t row);

}  // namespace juniper::writing
