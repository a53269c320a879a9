#include "source/spreadsheet/spreadsheet.h"

#include <fast_float/fast_float.h>
#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <cmath>
#include <deque>

#include "base/diagnostics.h"
#include "base/exact.h"
#include "base/failure.h"
#include "source/spreadsheet/sheet.h"

namespace juniper::source {

SheetCell number_cell(std::string_view written) {
  SheetCell cell;
  const auto* const end = written.data() + written.size();
  const auto read = fast_float::from_chars(written.data(), end, cell.number);
  if (read.ec != std::errc() || read.ptr != end || !std::isfinite(cell.number)) {
    // What a spreadsheet holds and is no number is shown as it is.
    cell.kind = written.empty() ? SheetCell::Kind::null : SheetCell::Kind::text;
    cell.text = written;
    return cell;
  }
  cell.kind = SheetCell::Kind::number;
  if (const auto whole = base::parse_exact(written, 0); whole && base::fits_int64(*whole)) {
    cell.whole = static_cast<std::int64_t>(*whole);
    cell.is_whole = true;
  }
  return cell;
}

bool SheetRow::is_empty() const {
  return std::all_of(cells.begin(), cells.end(),
                     [](const SheetCell& cell) { return cell.kind == SheetCell::Kind::null; });
}

void SheetRow::put(std::size_t column, SheetCell cell) {
  if (cell.kind == SheetCell::Kind::null) return;
  if (cells.size() <= column) cells.resize(column + 1);
  cells[column] = std::move(cell);
}

void Workbook::fail(const std::string& what) const {
  throw base::Failure(
      base::error_at("JR-520", Place{archive_.name(), 0, 0}, what, "save the spreadsheet as .xlsx or .ods"));
}

namespace {

// Rows in which the headers are looked for.
constexpr std::uint64_t most_rows_above = 100;

std::unique_ptr<Workbook> open_workbook(base::SourceKind kind, const std::filesystem::path& path) {
  return kind == base::SourceKind::ods ? open_ods(path) : open_xlsx(path);
}

std::size_t chosen_sheet(const Workbook& workbook, const base::Selection& selection) {
  const std::vector<Workbook::SheetName>& sheets = workbook.sheets();
  std::vector<std::string> names;
  for (const Workbook::SheetName& sheet : sheets) names.push_back(sheet.name);
  const Place place{workbook.archive().name(), 0, 0};
  if (selection.kind == base::Selection::Kind::sheet) {
    const auto at = std::find(names.begin(), names.end(), selection.text);
    if (at != names.end()) return static_cast<std::size_t>(at - names.begin());
    throw base::Failure(base::error_at(
        "JR-520", place,
        fmt::format("this spreadsheet has no sheet '{}'; it has: {}", selection.text, fmt::join(names, ", ")),
        base::did_you_mean(selection.text, names)));
  }
  const auto shown = [](const Workbook::SheetName& sheet) { return !sheet.hidden; };
  if (std::count_if(sheets.begin(), sheets.end(), shown) != 1) {
    throw base::Failure(base::error_at(
        "JR-520", place, fmt::format("this spreadsheet has {} sheets: {}", sheets.size(), fmt::join(names, ", ")),
        "say which one behind the source: (sheet \"NAME\")"));
  }
  return static_cast<std::size_t>(std::find_if(sheets.begin(), sheets.end(), shown) - sheets.begin());
}

// A header as it is looked for: what a number or date would be as a text, too.
std::string header_text(const SheetCell& cell) {
  if (cell.kind != SheetCell::Kind::number) return cell.text;
  return cell.is_whole ? std::to_string(cell.whole) : fmt::format("{}", cell.number);
}

std::vector<std::string> header_texts(const SheetRow& row) {
  std::vector<std::string> names;
  for (const SheetCell& cell : row.cells) names.push_back(header_text(cell));
  return names;
}

// A sheet whose row of headers is found.
class SheetTable {
 public:
  SheetTable(base::SourceKind kind, const std::filesystem::path& path, const base::Selection& selection)
      : workbook_(open_workbook(kind, path)), sheet_(workbook_->open_sheet(chosen_sheet(*workbook_, selection))) {}

  // The row that holds all of these headers, or, if none does, that which looks most like one.
  std::vector<std::string> find_headers(const std::vector<ColumnRequest>& columns) {
    look_ahead();
    for (std::size_t i = 0; i < ahead_.size(); ++i) {
      const std::vector<std::string> names = header_texts(ahead_[i]);
      const bool has_all = std::all_of(columns.begin(), columns.end(), [&](const ColumnRequest& column) {
        return std::find(names.begin(), names.end(), column.header) != names.end();
      });
      if (has_all && !columns.empty()) return take_headers(i);
    }
    return find_likely_headers();
  }

  // The row above the others that is nearly as wide as they are, and in which no number stands; else the first.
  std::vector<std::string> find_likely_headers() {
    look_ahead();
    std::size_t widest = 0;
    const auto width = [](const SheetRow& row) {
      return static_cast<std::size_t>(std::count_if(row.cells.begin(), row.cells.end(), [](const SheetCell& cell) {
        return cell.kind != SheetCell::Kind::null;
      }));
    };
    for (const SheetRow& row : ahead_) widest = std::max(widest, width(row));
    for (std::size_t i = 0; i < ahead_.size(); ++i) {
      const bool is_text = std::all_of(ahead_[i].cells.begin(), ahead_[i].cells.end(), [](const SheetCell& cell) {
        return cell.kind == SheetCell::Kind::null || cell.kind == SheetCell::Kind::text;
      });
      if (is_text && width(ahead_[i]) * 5 >= widest * 4) return take_headers(i);
    }
    return ahead_.empty() ? std::vector<std::string>{} : take_headers(0);
  }

  std::uint64_t header_row() const { return header_row_; }

  // The next row below the headers; false at the end.
  bool next(SheetRow& row) {
    while (ahead_.empty()) {
      std::vector<SheetRow> rows = sheet_->next_rows();
      if (rows.empty()) return false;
      std::move(rows.begin(), rows.end(), std::back_inserter(ahead_));
    }
    row = std::move(ahead_.front());
    ahead_.pop_front();
    return true;
  }
  const std::string& name() const { return workbook_->archive().name(); }

 private:
  void look_ahead() {
    while (ahead_.size() < most_rows_above) {
      std::vector<SheetRow> rows = sheet_->next_rows();
      if (rows.empty()) break;
      std::move(rows.begin(), rows.end(), std::back_inserter(ahead_));
    }
  }
  std::vector<std::string> take_headers(std::size_t row) {
    std::vector<std::string> names = header_texts(ahead_[row]);
    header_row_ = ahead_[row].number;
    ahead_.erase(ahead_.begin(), ahead_.begin() + static_cast<std::ptrdiff_t>(row) + 1);
    return names;
  }

  std::unique_ptr<Workbook> workbook_;
  std::unique_ptr<Sheet> sheet_;
  std::deque<SheetRow> ahead_;
  std::uint64_t header_row_ = 0;
};

class SheetSource : public RecordSource {
 public:
  SheetSource(const TableRequest& request, const std::filesystem::path& path)
      : request_(request), path_(path), table_(request.place.kind, path, request.place.selection) {
    std::vector<std::string> names = table_.find_headers(request.columns);
    // What has no header is no column.
    if (names.empty()) {
      throw base::Failure(
          base::error_at("JR-505", Place{table_.name(), 0, 0}, "this sheet is empty: not even headers stand in it"));
    }
    const auto positions = find_columns(request, names, table_.name(), static_cast<std::uint32_t>(table_.header_row()));
    if (!positions) throw base::Failure(positions.error());
    positions_ = *positions;
  }

  std::unique_ptr<RecordPiece> next() override {
    Cells cells(request_.columns.size());
    // Places count from the first row of the sheet.
    const std::uint64_t first = row_before_;
    while (cells.rows() < rows_of_record_piece && cells.kept_bytes() < bytes_of_record_piece) {
      if (times_left_ == 0) {
        if (!table_.next(row_)) break;
        times_left_ = row_.times;
        next_number_ = row_.number;
      }
      --times_left_;
      cells.add_row(static_cast<std::uint32_t>(next_number_ - 1 - first));
      row_before_ = next_number_++;
      for (std::size_t c = 0; c < positions_.size(); ++c) {
        if (positions_[c] < row_.cells.size())
          cells.last(c) = cell_of(row_.cells[positions_[c]], request_.columns[c], cells);
      }
    }
    cells.set_lines(static_cast<std::uint32_t>(row_before_ - first));
    return cells.rows() == 0 ? nullptr : std::make_unique<ReadRecords>(std::move(cells));
  }
  std::uint64_t bytes_read() const override { return 0; }
  void finish(SourceFile& source) const override { source.hash = hash_file(request_, path_).value_or(0); }

 private:
  static Cell cell_of(const SheetCell& cell, const ColumnRequest& column, Cells& cells) {
    switch (cell.kind) {
      case SheetCell::Kind::null:
        return {};
      case SheetCell::Kind::text:
        return Cell::of_text(cells.keep(cell.text));
      case SheetCell::Kind::boolean:
        return Cell::of_plain(cells.keep(cell.text));
      case SheetCell::Kind::moment:
        return Cell::of_plain(cells.keep(moment_for(cell.text, column)));
      case SheetCell::Kind::number:
        break;
    }
    if (cell.is_whole) return Cell::of_integer(cell.whole);
    if (column.type.kind == TypeKind::real) return Cell::of_real(cell.number);
    return Cell::of_plain(cells.keep(fmt::format("{:.15g}", cell.number)));
  }

  // A date that a column of datetimes holds begins its day, and the begin of a day is one that a column of dates holds.
  static std::string moment_for(const std::string& text, const ColumnRequest& column) {
    constexpr std::size_t date_length = 10;
    constexpr std::string_view midnight = "00:00:00";
    const bool wants_datetime = column.type.kind == TypeKind::datetime || column.part == base::FieldPart::date ||
                                column.part == base::FieldPart::time;
    if (wants_datetime && text.size() == date_length) return fmt::format("{} {}", text, midnight);
    const bool begins_day = text.size() == date_length + 1 + midnight.size() && text.ends_with(midnight);
    if (!wants_datetime && column.type.kind == TypeKind::date && begins_day) return text.substr(0, date_length);
    return text;
  }

  const TableRequest& request_;
  std::filesystem::path path_;
  SheetTable table_;
  std::vector<std::size_t> positions_;
  SheetRow row_;
  std::uint64_t times_left_ = 0;
  std::uint64_t next_number_ = 0;
  std::uint64_t row_before_ = 0;
};

std::unique_ptr<RecordSource> open_sheet_source(const TableRequest& request, const std::filesystem::path& path,
                                                Connections*) {
  return std::make_unique<SheetSource>(request, path);
}

std::vector<RecordColumn> columns_of_sheet(const TableRequest& request, const std::filesystem::path& path) {
  SheetTable table(request.place.kind, path, request.place.selection);
  std::vector<RecordColumn> columns;
  for (std::string& name : table.find_likely_headers()) {
    if (!name.empty()) columns.push_back({std::move(name), std::nullopt});
  }
  return columns;
}

}  // namespace

RecordKind xlsx_kind() {
  return {open_sheet_source, columns_of_sheet, true};
}

RecordKind ods_kind() {
  return {open_sheet_source, columns_of_sheet, true};
}

base::SourceKind spreadsheet_kind(const std::filesystem::path& path) {
  const auto is_ods = base::guarded([&]() -> Result<bool> { return Archive(path).has("content.xml"); });
  return is_ods.value_or(false) ? base::SourceKind::ods : base::SourceKind::xlsx;
}

Result<std::vector<std::string>> sheet_names(base::SourceKind kind, const std::filesystem::path& path) {
  return base::guarded([&]() -> Result<std::vector<std::string>> {
    std::vector<std::string> names;
    const std::unique_ptr<Workbook> workbook = open_workbook(kind, path);
    for (const Workbook::SheetName& sheet : workbook->sheets()) {
      if (!sheet.hidden) names.push_back(sheet.name);
    }
    return names;
  });
}

}  // namespace juniper::source
