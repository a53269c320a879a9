// The rows of a sheet, whatever file it stands in.
#pragma once

#include <cstdint>
#include <memory>
#include <string>
#include <vector>

#include "source/spreadsheet/xml_part.h"

namespace juniper::source {

struct SheetCell {
  enum class Kind : std::uint8_t { null, text, number, boolean, moment };
  Kind kind = Kind::null;
  std::string text;   // of a text, or a moment as it is written here, or true or false
  double number = 0;  // of a number
  std::int64_t whole = 0;
  bool is_whole = false;  // `whole` is the number
};

// A number as a spreadsheet writes it.
SheetCell number_cell(std::string_view written);

struct SheetRow {
  std::uint64_t number = 0;  // from 1
  std::uint64_t times = 1;   // so many rows are like this one
  std::vector<SheetCell> cells;

  bool is_empty() const;
  // Puts a cell in a column, counted from 0.
  void put(std::size_t column, SheetCell cell);
};

// The most that spreadsheets have.
inline constexpr std::uint64_t most_sheet_rows = std::uint64_t{1} << 20;
inline constexpr std::size_t most_sheet_columns = std::size_t{1} << 14;
// More than any cell holds.
inline constexpr std::size_t most_cell_bytes = std::size_t{1} << 20;

class Sheet {
 public:
  virtual ~Sheet() = default;
  // The next rows that hold something, in their order; nothing at the end. Throws a base::Failure.
  virtual std::vector<SheetRow> next_rows() = 0;
};

// A spreadsheet file.
class Workbook {
 public:
  virtual ~Workbook() = default;
  // The sheets that are shown, and then those that are hidden.
  struct SheetName {
    std::string name;
    bool hidden = false;
  };
  virtual const std::vector<SheetName>& sheets() const = 0;
  // Throws a base::Failure. The workbook must outlive the sheet.
  virtual std::unique_ptr<Sheet> open_sheet(std::size_t number) const = 0;
  const Archive& archive() const { return archive_; }

 protected:
  explicit Workbook(const std::filesystem::path& path) : archive_(path) {}
  [[noreturn]] void fail(const std::string& what) const;

 private:
  Archive archive_;
};

// Office Open XML (ISO/IEC 29500), and OpenDocument (ISO/IEC 26300). Errors (thrown): JR-501, JR-520.
std::unique_ptr<Workbook> open_xlsx(const std::filesystem::path& path);
std::unique_ptr<Workbook> open_ods(const std::filesystem::path& path);

}  // namespace juniper::source
