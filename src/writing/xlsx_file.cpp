// Tables as a spreadsheet.
#include <fmt/format.h>
#include <xlsxwriter.h>

#include <algorithm>
#include <map>
#include <set>

#include "base/calendar.h"
#include "base/diagnostics.h"
#include "base/exact.h"
#include "base/failure.h"
#include "base/shown_text.h"
#include "writing/table_writer.h"

namespace juniper::writing {

namespace {

constexpr std::uint64_t most_rows = 1'048'575;  // below the headers
constexpr std::size_t most_columns = 16'384;
constexpr std::size_t most_text_bytes = 32'767;
// Before March 1900, the calendars of spreadsheets differ.
constexpr std::int64_t first_day = -25'508;

[[noreturn]] void cannot_write(const std::string& path, lxw_error error) {
  throw base::Failure(base::error("JR-009", fmt::format("cannot write {}: {}", path, lxw_strerror(error)),
                                  "free some space, or name a place that can be written"));
}

[[noreturn]] void too_large(const std::string& what) {
  throw base::Failure(base::error("JR-523", what, "export it as parquet or csv"));
}

// A pattern of numbers that means the same in a spreadsheet; else one for the type.
std::string number_format(const WrittenColumn& column) {
  const bool is_number = column.type.kind == TypeKind::integer || column.type.kind == TypeKind::decimal ||
                         column.type.kind == TypeKind::real;
  if (is_number && !column.format.empty() && column.format.find_first_not_of("#0,.%") == std::string::npos)
    return column.format;
  switch (column.type.kind) {
    case TypeKind::decimal:
      return column.type.scale > 0 ? "0." + std::string(static_cast<std::size_t>(column.type.scale), '0') : "0";
    case TypeKind::integer:
      return "0";
    case TypeKind::date:
      return "yyyy-mm-dd";
    case TypeKind::datetime:
      return "yyyy-mm-dd hh:mm:ss";
    case TypeKind::time:
      return "hh:mm:ss";
    case TypeKind::boolean:
    case TypeKind::real:
    case TypeKind::text:
      return "";
  }
  return "";
}

class SheetWriter : public TableWriter {
 public:
  SheetWriter(lxw_workbook* workbook, lxw_worksheet* sheet, std::string name, std::string path,
              std::vector<WrittenColumn> columns)
      : sheet_(sheet), name_(std::move(name)), path_(std::move(path)), columns_(std::move(columns)) {
    if (columns_.size() > most_columns) too_large(fmt::format("'{}' has more columns than a sheet can have", name_));
    lxw_format* const heading = workbook_add_format(workbook);
    format_set_bold(heading);
    for (std::size_t c = 0; c < columns_.size(); ++c) {
      const std::string format = number_format(columns_[c]);
      formats_.push_back(format.empty() ? nullptr : workbook_add_format(workbook));
      if (!format.empty()) format_set_num_format(formats_.back(), format.c_str());
      check(worksheet_write_string(sheet_, 0, static_cast<lxw_col_t>(c), checked(columns_[c].name).c_str(), heading));
    }
    worksheet_freeze_panes(sheet_, 1, 0);
  }

  void write(const Batch& batch) override {
    for (std::size_t row = 0; row < batch.rows; ++row) {
      if (++rows_ > most_rows)
        too_large(fmt::format("'{}' has more rows than a sheet can have, which is 1,048,575", name_));
      for (std::size_t c = 0; c < columns_.size(); ++c) {
        if (batch.columns[c].is_null[row] == 0) write_cell(static_cast<lxw_col_t>(c), batch.columns[c], row);
      }
    }
  }
  void finish() override {}

 private:
  void check(lxw_error error) const {
    if (error != LXW_NO_ERROR) cannot_write(path_, error);
  }
  // No file of XML holds these characters; what would be lost is told.
  std::string checked(std::string_view text) const {
    if (text.size() > most_text_bytes)
      too_large(fmt::format("'{}' holds a text of {} bytes, and a cell has 32,767 at most", name_, text.size()));
    const auto is_lost = [](char c) {
      return static_cast<unsigned char>(c) < ' ' && c != '\t' && c != '\n' && c != '\r';
    };
    if (std::any_of(text.begin(), text.end(), is_lost))
      too_large(fmt::format("'{}' holds a control character, which no spreadsheet can: {}", name_,
                            base::shortened(text, 40)));
    return std::string(text);
  }

  void write_text(lxw_col_t c, std::string_view text) {
    check(worksheet_write_string(sheet_, static_cast<lxw_row_t>(rows_), c, checked(text).c_str(), nullptr));
  }
  void write_number(lxw_col_t c, double number) {
    check(worksheet_write_number(sheet_, static_cast<lxw_row_t>(rows_), c, number, formats_[c]));
  }

  void write_cell(lxw_col_t c, const BatchColumn& values, std::size_t row) {
    const WrittenColumn& column = columns_[c];
    constexpr auto per_day = static_cast<double>(base::microseconds_per_day);
    // The day before the first one of the calendar.
    constexpr std::int64_t begin = -25'569;
    switch (column.type.kind) {
      case TypeKind::text:
        return write_text(c, values.text[row]);
      case TypeKind::real:
        return write_number(c, values.real[row]);
      case TypeKind::boolean:
        return check(
            worksheet_write_boolean(sheet_, static_cast<lxw_row_t>(rows_), c, values.exact[row] != 0, nullptr));
      case TypeKind::integer:
      case TypeKind::decimal:
        if (!column.is_told_by_double()) return write_text(c, text_of(values, column.type, row));
        return write_number(c, base::to_real(values.exact[row], column.type.scale));
      case TypeKind::time:
        return write_number(c, static_cast<double>(values.exact[row]) / per_day);
      case TypeKind::date:
        if (values.exact[row] < first_day) return write_text(c, text_of(values, column.type, row));
        return write_number(c, static_cast<double>(static_cast<std::int64_t>(values.exact[row]) - begin));
      case TypeKind::datetime: {
        const auto moment = static_cast<std::int64_t>(values.exact[row]);
        const std::int64_t day = base::floor_divide(moment, base::microseconds_per_day);
        // What a spreadsheet would show otherwise: days before its calendar, and parts of a millisecond.
        if (day < first_day || moment % 1000 != 0) return write_text(c, text_of(values, column.type, row));
        const auto time = static_cast<double>(moment - day * base::microseconds_per_day);
        return write_number(c, static_cast<double>(day - begin) + time / per_day);
      }
    }
  }

  lxw_worksheet* sheet_;
  std::string name_;
  std::string path_;
  std::vector<WrittenColumn> columns_;
  std::vector<lxw_format*> formats_;
  std::uint64_t rows_ = 0;
};

class XlsxTablesFile : public TablesFile {
 public:
  explicit XlsxTablesFile(std::string path) : path_(std::move(path)) {
    lxw_workbook_options options{};
    options.constant_memory = LXW_TRUE;
    options.use_zip64 = LXW_TRUE;
    workbook_ = workbook_new_opt(path_.c_str(), &options);
    if (workbook_ == nullptr) throw std::bad_alloc();
  }
  ~XlsxTablesFile() override {
    if (workbook_ != nullptr) lxw_workbook_free(workbook_);
  }
  XlsxTablesFile(const XlsxTablesFile&) = delete;
  XlsxTablesFile& operator=(const XlsxTablesFile&) = delete;

  std::unique_ptr<TableWriter> table(const std::string& name, std::vector<WrittenColumn> columns,
                                     const std::vector<std::string>&) override {
    last_ = free_name(name);
    lxw_worksheet* const sheet = workbook_add_worksheet(workbook_, last_.c_str());
    if (sheet == nullptr) cannot_write(path_, LXW_ERROR_SHEETNAME_ALREADY_USED);
    return std::make_unique<SheetWriter>(workbook_, sheet, name, path_, std::move(columns));
  }
  const std::string& name_of_last() const override { return last_; }
  void finish() override {
    // It is freed whatever comes of it.
    if (const lxw_error error = workbook_close(std::exchange(workbook_, nullptr)); error != LXW_NO_ERROR)
      cannot_write(path_, error);
  }

 private:
  // Sheets have names of up to 31 characters, without some of them, and tell no capitals from small letters.
  std::string free_name(const std::string& name) {
    std::string plain;
    for (const char c : name) plain += std::string_view("[]:*?/\\'").find(c) == std::string_view::npos ? c : '_';
    for (int n = 1;; ++n) {
      const std::string end = n == 1 ? "" : fmt::format("_{}", n);
      // Of characters of several bytes, whole ones.
      std::size_t size = std::min<std::size_t>(plain.size(), 31 - end.size());
      while (size > 0 && size < plain.size() && (static_cast<unsigned char>(plain[size]) & 0xC0) == 0x80) --size;
      std::string candidate = plain.substr(0, size) + end;
      if (candidate.empty()) candidate = "table" + end;
      std::string folded;
      for (const char c : candidate) folded += c >= 'A' && c <= 'Z' ? static_cast<char>(c - 'A' + 'a') : c;
      if (taken_.insert(folded).second) return candidate;
    }
  }

  std::string path_;
  lxw_workbook* workbook_ = nullptr;
  std::set<std::string> taken_;
  std::string last_;
};

}  // namespace

std::unique_ptr<TablesFile> xlsx_file(const std::string& path) {
  return std::make_unique<XlsxTablesFile>(path);
}

}  // namespace juniper::writing
