// OpenDocument (ISO/IEC 26300-1, part 9): cells tell their types themselves, and rows and cells that are alike are written
// once.
#include <fmt/format.h>

#include <algorithm>
#include <optional>

#include "base/calendar.h"
#include "base/failure.h"
#include "juniper/value.h"
#include "source/spreadsheet/sheet.h"

namespace juniper::source {

namespace {

constexpr const char* content = "content.xml";

// "PT08H30M15.5S" as a time of day; nothing if it is none.
std::optional<std::string> time_text(std::string_view duration) {
  if (!duration.starts_with("PT")) return std::nullopt;
  duration.remove_prefix(2);
  int128 microseconds = 0;
  for (const auto& [unit, size] :
       {std::pair('H', 3'600'000'000LL), std::pair('M', 60'000'000LL), std::pair('S', 1'000'000LL)}) {
    const std::size_t at = duration.find(unit);
    if (at == std::string_view::npos) continue;
    const auto number =
        parse_value(duration.substr(0, std::min<std::size_t>(duration.find_first_not_of("0123456789."), at)),
                    {TypeKind::decimal, 6});
    constexpr std::int64_t most = 1'000'000'000'000;
    if (!number || number->is_null() || number->exact() > most) return std::nullopt;
    microseconds += number->exact() * size / 1'000'000;
    duration.remove_prefix(at + 1);
  }
  if (!duration.empty() || microseconds >= base::microseconds_per_day) return std::nullopt;
  return to_text(Value::of(microseconds), {TypeKind::time, 0});
}

// The names of all tables.
class TableNames : public XmlEvents {
 public:
  void begin(std::string_view element, const Attributes& attributes) override {
    if (element == "table" && depth_++ == 0) names.push_back({attributes.text("name"), false});
  }
  void end(std::string_view element) override {
    if (element == "table") --depth_;
  }
  void text(std::string_view) override {}
  std::vector<Workbook::SheetName> names;

 private:
  int depth_ = 0;
};

class OdsSheet : public Sheet, public XmlEvents {
 public:
  OdsSheet(const Archive& archive, std::size_t number)
      : archive_(archive), number_(number), part_(archive, content, *this) {}

  std::vector<SheetRow> next_rows() override {
    while (rows_.empty() && !is_done_ && part_.read_some()) continue;
    return std::exchange(rows_, {});
  }

  void begin(std::string_view element, const Attributes& attributes) override {
    if (element == "table" && depth_++ == 0) is_here_ = tables_++ == number_;
    if (!is_here_ || depth_ != 1) return;
    if (element == "annotation") ++notes_;
    if (notes_ > 0) return;
    if (element == "table-row") {
      row_ = {next_row_, times(attributes, "number-rows-repeated"), {}};
      column_ = 0;
      is_in_row_ = true;
    } else if (is_in_row_ && (element == "table-cell" || element == "covered-table-cell")) {
      begin_cell(attributes);
    } else if (element == "p") {
      if (paragraphs_++ > 0) text_ += '\n';
      in_paragraph_ = true;
    } else if (element == "s") {
      text_.append(std::min<std::uint64_t>(times(attributes, "c"), most_cell_bytes), ' ');
    } else if (element == "tab") {
      text_ += '\t';
    } else if (element == "line-break") {
      text_ += '\n';
    }
  }

  void end(std::string_view element) override {
    if (is_here_ && depth_ == 1) {
      if (notes_ == 0 && element == "p") in_paragraph_ = false;
      if (notes_ == 0 && is_in_row_ && (element == "table-cell" || element == "covered-table-cell")) end_cell();
      if (notes_ == 0 && element == "table-row") end_row();
      if (element == "annotation") --notes_;
    }
    if (element == "table" && --depth_ == 0 && is_here_) {
      is_here_ = false;
      is_done_ = true;
    }
  }

  void text(std::string_view text) override {
    if (!is_here_ || !in_paragraph_ || notes_ > 0 || depth_ != 1) return;
    text_ += text;
    if (text_.size() > most_cell_bytes) archive_.fail(content, "holds a text that is longer than a cell's");
  }

 private:
  std::uint64_t times(const Attributes& attributes, std::string_view name) const {
    const auto written = attributes.find(name);
    if (!written) return 1;
    const auto value = parse_value(*written, {TypeKind::integer, 0});
    if (!value || value->is_null() || value->exact() < 1) archive_.fail(content, "has a number that is none");
    return static_cast<std::uint64_t>(value->exact());
  }

  void begin_cell(const Attributes& attributes) {
    cell_ = {};
    text_.clear();
    paragraphs_ = 0;
    is_text_ = false;
    repeats_ = times(attributes, "number-columns-repeated");
    const std::string type = attributes.text("value-type");
    if (type == "float" || type == "percentage" || type == "currency") {
      cell_ = number_cell(attributes.find("value").value_or(""));
    } else if (type == "boolean") {
      cell_.kind = SheetCell::Kind::boolean;
      cell_.text = attributes.text("boolean-value");
    } else if (type == "date") {
      cell_.kind = SheetCell::Kind::moment;
      cell_.text = attributes.text("date-value");
    } else if (type == "time") {
      const std::string written = attributes.text("time-value");
      const auto time = time_text(written);
      cell_.kind = time ? SheetCell::Kind::moment : SheetCell::Kind::text;
      cell_.text = time.value_or(written);
    } else if (type == "string") {
      is_text_ = true;
      if (const auto value = attributes.find("string-value")) cell_.text = *value;
    }
  }

  void end_cell() {
    if (is_text_) {
      if (cell_.text.empty()) cell_.text = text_;
      cell_.kind = cell_.text.empty() ? SheetCell::Kind::null : SheetCell::Kind::text;
    }
    if (cell_.kind != SheetCell::Kind::null) {
      if (repeats_ > most_sheet_columns || column_ + repeats_ > most_sheet_columns)
        archive_.fail(content, "has a cell beyond the last column");
      for (std::uint64_t i = 0; i < repeats_; ++i) row_.put(column_ + i, cell_);
    }
    column_ =
        std::min<std::uint64_t>(column_ + std::min<std::uint64_t>(repeats_, most_sheet_columns), most_sheet_columns);
    in_paragraph_ = false;
  }

  void end_row() {
    is_in_row_ = false;
    if (!row_.is_empty()) {
      if (row_.times > most_sheet_rows || next_row_ + row_.times - 1 > most_sheet_rows)
        archive_.fail(content, "has more rows than a sheet can have");
      rows_.push_back(row_);
    }
    next_row_ += std::min(row_.times, most_sheet_rows);
  }

  const Archive& archive_;
  std::size_t number_;
  std::vector<SheetRow> rows_;
  SheetRow row_;
  SheetCell cell_;
  std::string text_;
  std::uint64_t next_row_ = 1;
  std::uint64_t repeats_ = 1;
  std::uint64_t column_ = 0;
  std::size_t tables_ = 0;
  int depth_ = 0;  // of tables
  int notes_ = 0;
  int paragraphs_ = 0;
  bool is_here_ = false;
  bool is_done_ = false;
  bool is_in_row_ = false;
  bool is_text_ = false;
  bool in_paragraph_ = false;
  XmlPart part_;
};

class OdsWorkbook : public Workbook {
 public:
  explicit OdsWorkbook(const std::filesystem::path& path) : Workbook(path) {
    if (!archive().has(content)) fail("this archive holds no spreadsheet");
    XmlPart(archive(), content, tables_).read_all();
  }
  const std::vector<SheetName>& sheets() const override { return tables_.names; }
  std::unique_ptr<Sheet> open_sheet(std::size_t number) const override {
    return std::make_unique<OdsSheet>(archive(), number);
  }

 private:
  TableNames tables_;
};

}  // namespace

std::unique_ptr<Workbook> open_ods(const std::filesystem::path& path) {
  return std::make_unique<OdsWorkbook>(path);
}

}  // namespace juniper::source
