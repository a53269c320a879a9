// Office Open XML (ISO/IEC 29500-1, part 18): cells hold numbers, whose style alone tells that they are dates.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>
#include <optional>

#include "base/calendar.h"
#include "base/failure.h"
#include "juniper/value.h"
#include "source/spreadsheet/sheet.h"

namespace juniper::source {

namespace {

// What a style makes of a number.
enum class Shown : std::uint8_t { number, date, time, datetime };

// Of the formats that have numbers alone (18.8.30).
Shown shown_by_number(int format) {
  if ((format >= 14 && format <= 17) || (format >= 27 && format <= 31) || (format >= 50 && format <= 54) ||
      format == 34 || format == 35 || format == 36 || format == 57 || format == 58)
    return Shown::date;
  if ((format >= 18 && format <= 21) || format == 32 || format == 33 || format == 45 || format == 47 || format == 55 ||
      format == 56)
    return Shown::time;
  return format == 22 ? Shown::datetime : Shown::number;
}

// Of a format's code (18.8.31), by the letters in its first section that are no text.
Shown shown_by_code(std::string_view code) {
  bool has_day = false;
  bool has_month_or_minute = false;
  bool has_time = false;
  for (std::size_t i = 0; i < code.size() && code[i] != ';'; ++i) {
    switch (code[i]) {
      case '"':
        i = std::min(code.find('"', i + 1), code.size());
        break;
      case '\\':
      case '_':
      case '*':
        ++i;
        break;
      case '[': {
        const std::size_t end = std::min(code.find(']', i), code.size());
        const std::string_view inside = code.substr(i + 1, end - std::min(end, i + 1));
        // What has run, in hours, minutes or seconds, is no time of a day.
        if (!inside.empty() && inside.find_first_not_of("hHmMsS") == std::string_view::npos) return Shown::number;
        i = end;
        break;
      }
      case 'y':
      case 'Y':
      case 'd':
      case 'D':
        has_day = true;
        break;
      case 'm':
      case 'M':
        has_month_or_minute = true;
        break;
      case 'h':
      case 'H':
      case 's':
      case 'S':
        has_time = true;
        break;
      case 'G':
      case 'g':
        if (code.substr(i, 7) == "General") i += 6;
        break;
      default:
        break;
    }
  }
  if (has_time) return has_day ? Shown::datetime : Shown::time;
  return has_day || has_month_or_minute ? Shown::date : Shown::number;
}

// Gathers relations of a part to others: by their names, and by what they are.
class Relations : public XmlEvents {
 public:
  struct Relation {
    std::string id;
    std::string type;
    std::string target;
  };
  void begin(std::string_view element, const Attributes& attributes) override {
    if (element == "Relationship")
      all_.push_back({attributes.text("Id"), attributes.text("Type"), attributes.text("Target")});
  }
  void end(std::string_view) override {}
  void text(std::string_view) override {}

  // The part that a relation of that kind leads to; "" if there is none.
  std::string of_type(std::string_view ending, const std::string& folder) const {
    for (const Relation& relation : all_) {
      if (relation.type.ends_with(ending)) return part_of(relation, folder);
    }
    return "";
  }
  std::string of_id(std::string_view id, const std::string& folder) const {
    for (const Relation& relation : all_) {
      if (relation.id == id) return part_of(relation, folder);
    }
    return "";
  }

 private:
  static std::string part_of(const Relation& relation, const std::string& folder) {
    if (relation.target.starts_with('/')) return relation.target.substr(1);
    return (std::filesystem::path(folder) / relation.target).lexically_normal().generic_string();
  }
  std::vector<Relation> all_;
};

class WorkbookPart : public XmlEvents {
 public:
  struct Entry {
    std::string name;
    std::string relation;
    bool hidden = false;
  };
  void begin(std::string_view element, const Attributes& attributes) override {
    if (element == "sheet") {
      const std::string state = attributes.text("state");
      sheets.push_back({attributes.text("name"), attributes.text("id"), state == "hidden" || state == "veryHidden"});
    } else if (element == "workbookPr") {
      const std::string from_1904 = attributes.text("date1904");
      is_from_1904 = from_1904 == "1" || from_1904 == "true" || from_1904 == "on";
    }
  }
  void end(std::string_view) override {}
  void text(std::string_view) override {}

  std::vector<Entry> sheets;
  bool is_from_1904 = false;
};

class Styles : public XmlEvents {
 public:
  void begin(std::string_view element, const Attributes& attributes) override {
    const auto number = [&](std::string_view name) {
      const auto value = parse_value(attributes.find(name).value_or("0"), {TypeKind::integer, 0});
      return value && !value->is_null() ? static_cast<int>(value->exact() % 1'000'000) : 0;
    };
    if (element == "numFmt") {
      codes_[number("numFmtId")] = shown_by_code(attributes.find("formatCode").value_or(""));
    } else if (element == "cellXfs") {
      in_cells_ = true;
    } else if (element == "xf" && in_cells_) {
      const int format = number("numFmtId");
      const auto code = codes_.find(format);
      shown_.push_back(code != codes_.end() ? code->second : shown_by_number(format));
    }
  }
  void end(std::string_view element) override {
    if (element == "cellXfs") in_cells_ = false;
  }
  void text(std::string_view) override {}
  Shown of(std::size_t style) const { return style < shown_.size() ? shown_[style] : Shown::number; }

 private:
  std::map<int, Shown> codes_;
  std::vector<Shown> shown_;
  bool in_cells_ = false;
};

// Puts the texts of `t` elements together, but not what tells how they are spoken.
class TextParts {
 public:
  void begin(std::string_view element) {
    if (element == "rPh") ++spoken_;
    if (element == "t") in_text_ = true;
  }
  void end(std::string_view element) {
    if (element == "rPh") --spoken_;
    if (element == "t") in_text_ = false;
  }
  void add(std::string_view text) {
    if (in_text_ && spoken_ == 0) text_ += text;
  }
  std::string take() { return std::exchange(text_, {}); }
  std::size_t bytes() const { return text_.size(); }

 private:
  std::string text_;
  bool in_text_ = false;
  int spoken_ = 0;
};

class SharedTexts : public XmlEvents {
 public:
  explicit SharedTexts(const Archive& archive) : archive_(archive) {}
  void begin(std::string_view element, const Attributes&) override { parts_.begin(element); }
  void end(std::string_view element) override {
    parts_.end(element);
    if (element != "si") return;
    texts_.push_back(parts_.take());
    bytes_ += texts_.back().size() + sizeof(std::string);
    constexpr std::uint64_t most = std::uint64_t{1} << 31;
    if (bytes_ > most) archive_.fail("of shared texts", "holds more than two gigabytes");
  }
  void text(std::string_view text) override {
    parts_.add(text);
    if (parts_.bytes() > most_cell_bytes) archive_.fail("of shared texts", "holds a text that is longer than a cell's");
  }
  const std::string* at(std::size_t number) const { return number < texts_.size() ? &texts_[number] : nullptr; }

 private:
  const Archive& archive_;
  TextParts parts_;
  std::vector<std::string> texts_;
  std::uint64_t bytes_ = 0;
};

// A number of days as the moment that its style shows. One that is none stays a number.
std::optional<std::string> moment_text(double days, Shown shown, bool is_from_1904) {
  constexpr double most_days = 2'958'466;  // the year 9999
  if (!(days >= 0) || days >= most_days) return std::nullopt;
  // Spreadsheets show milliseconds at most, and fractions of a day are never exact.
  constexpr std::int64_t milliseconds_per_day = 86'400'000;
  const auto milliseconds = static_cast<std::int64_t>(std::llround(days * static_cast<double>(milliseconds_per_day)));
  const std::int64_t day = milliseconds / milliseconds_per_day;
  const std::int64_t time = milliseconds % milliseconds_per_day * 1000;
  if (shown == Shown::time && day == 0) return to_text(Value::of(static_cast<int128>(time)), {TypeKind::time, 0});
  std::int64_t date = day;
  if (is_from_1904) {
    date += base::days_from_civil(1904, 1, 1);
  } else {
    // The calendar from 1900 on has a 29 February in that year, which was none.
    constexpr std::int64_t no_day = 60;
    if (day == no_day || day == 0) return std::nullopt;
    date += base::days_from_civil(1899, 12, 30) + (day < no_day ? 1 : 0);
  }
  if (shown == Shown::date && time == 0) return base::date_text(date);
  return to_text(Value::of(static_cast<int128>(date * base::microseconds_per_day + time)), {TypeKind::datetime, 0});
}

class XlsxWorkbook;

class XlsxSheet : public Sheet, public XmlEvents {
 public:
  XlsxSheet(const XlsxWorkbook& workbook, const std::string& part);

  std::vector<SheetRow> next_rows() override {
    while (rows_.empty() && part_.read_some()) continue;
    return std::exchange(rows_, {});
  }

  void begin(std::string_view element, const Attributes& attributes) override {
    texts_.begin(element);
    if (element == "row") {
      row_ = {number_of(attributes.find("r"), row_.number + 1), 1, {}};
      column_ = 0;
    } else if (element == "c") {
      const auto place = attributes.find("r");
      if (place) column_ = column_of(*place);
      kind_ = attributes.text("t");
      style_ = number_of(attributes.find("s"), 0);
      written_.clear();
    } else if (element == "v") {
      in_value_ = true;
    }
  }
  void end(std::string_view element) override;
  void text(std::string_view text) override {
    texts_.add(text);
    if (in_value_) written_ += text;
    check_length(written_.size() + texts_.bytes());
  }

 private:
  [[noreturn]] void fail(const std::string& what) const;
  void check_length(std::size_t bytes) const {
    if (bytes > most_cell_bytes) fail("holds a text that is longer than a cell's");
  }
  std::uint64_t number_of(const std::optional<std::string_view>& written, std::uint64_t otherwise) const {
    if (!written) return otherwise;
    const auto value = parse_value(*written, {TypeKind::integer, 0});
    if (!value || value->is_null() || value->exact() < 0) fail("has a number that is none");
    return static_cast<std::uint64_t>(value->exact());
  }
  // "AB12" → 27
  std::size_t column_of(std::string_view place) const {
    std::size_t column = 0;
    for (const char c : place) {
      if (c < 'A' || c > 'Z') break;
      column = column * 26 + static_cast<std::size_t>(c - 'A' + 1);
      if (column > most_sheet_columns) fail("has a cell beyond the last column");
    }
    return column == 0 ? column_ : column - 1;
  }
  SheetCell cell();

  const XlsxWorkbook& workbook_;
  std::string name_;
  std::vector<SheetRow> rows_;
  SheetRow row_;
  std::size_t column_ = 0;
  std::string kind_;
  std::uint64_t style_ = 0;
  std::string written_;
  bool in_value_ = false;
  TextParts texts_;
  XmlPart part_;
};

class XlsxWorkbook : public Workbook {
 public:
  explicit XlsxWorkbook(const std::filesystem::path& path) : Workbook(path), texts_(archive()) {
    Relations of_package;
    XmlPart(archive(), "_rels/.rels", of_package).read_all();
    const std::string main = of_package.of_type("/officeDocument", "");
    if (main.empty()) fail("this archive holds no spreadsheet");
    const std::filesystem::path place(main);
    const std::string folder = place.parent_path().generic_string();
    XmlPart(archive(), main, main_).read_all();
    XmlPart(archive(), (place.parent_path() / "_rels" / (place.filename().string() + ".rels")).generic_string(),
            relations_)
        .read_all();
    if (const std::string styles = relations_.of_type("/styles", folder); !styles.empty() && archive().has(styles))
      XmlPart(archive(), styles, styles_).read_all();
    if (const std::string texts = relations_.of_type("/sharedStrings", folder); !texts.empty() && archive().has(texts))
      XmlPart(archive(), texts, texts_).read_all();
    for (const WorkbookPart::Entry& sheet : main_.sheets) {
      sheets_.push_back({sheet.name, sheet.hidden});
      parts_.push_back(relations_.of_id(sheet.relation, folder));
    }
  }

  const std::vector<SheetName>& sheets() const override { return sheets_; }
  std::unique_ptr<Sheet> open_sheet(std::size_t number) const override {
    return std::make_unique<XlsxSheet>(*this, parts_[number]);
  }
  const SharedTexts& texts() const { return texts_; }
  const Styles& styles() const { return styles_; }
  bool is_from_1904() const { return main_.is_from_1904; }

 private:
  WorkbookPart main_;
  Relations relations_;
  Styles styles_;
  SharedTexts texts_;
  std::vector<SheetName> sheets_;
  std::vector<std::string> parts_;
};

XlsxSheet::XlsxSheet(const XlsxWorkbook& workbook, const std::string& part)
    : workbook_(workbook), name_(part), part_(workbook.archive(), part, *this) {}

void XlsxSheet::fail(const std::string& what) const {
  workbook_.archive().fail(name_, what);
}

SheetCell XlsxSheet::cell() {
  const auto text_cell = [](std::string text) {
    SheetCell cell;
    cell.kind = text.empty() ? SheetCell::Kind::null : SheetCell::Kind::text;
    cell.text = std::move(text);
    return cell;
  };
  if (kind_ == "inlineStr") return text_cell(texts_.take());
  texts_.take();
  if (written_.empty()) return {};
  if (kind_ == "s") {
    const std::string* const shared = workbook_.texts().at(number_of(written_, 0));
    if (shared == nullptr) fail("names a shared text that is not there");
    return text_cell(*shared);
  }
  if (kind_ == "str" || kind_ == "e") return text_cell(written_);
  SheetCell cell;
  if (kind_ == "b") {
    cell.kind = SheetCell::Kind::boolean;
    cell.text = written_ == "1" || written_ == "true" ? "true" : "false";
    return cell;
  }
  if (kind_ == "d") {
    cell.kind = SheetCell::Kind::moment;
    cell.text = written_.ends_with('Z') ? written_.substr(0, written_.size() - 1) : written_;
    return cell;
  }
  cell = number_cell(written_);
  const Shown shown = workbook_.styles().of(style_);
  if (cell.kind != SheetCell::Kind::number || shown == Shown::number) return cell;
  if (auto moment = moment_text(cell.number, shown, workbook_.is_from_1904())) {
    cell.kind = SheetCell::Kind::moment;
    cell.text = std::move(*moment);
  }
  return cell;
}

void XlsxSheet::end(std::string_view element) {
  texts_.end(element);
  if (element == "v") {
    in_value_ = false;
  } else if (element == "c") {
    row_.put(column_, cell());
    if (++column_ > most_sheet_columns) fail("has a cell beyond the last column");
  } else if (element == "row") {
    if (row_.number > most_sheet_rows) fail("has more rows than a sheet can have");
    if (!row_.is_empty()) {
      if (!rows_.empty() && rows_.back().number >= row_.number) fail("has rows out of their order");
      rows_.push_back(row_);
    }
  }
}

}  // namespace

std::unique_ptr<Workbook> open_xlsx(const std::filesystem::path& path) {
  return std::make_unique<XlsxWorkbook>(path);
}

}  // namespace juniper::source
