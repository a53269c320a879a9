#include <fmt/format.h>
#include <libsmartcols.h>
#include <locale.h>

#include <algorithm>
#include <memory>
#include <nlohmann/json.hpp>

#include "juniper/report.h"

namespace juniper {

namespace {

using Json = nlohmann::ordered_json;

bool seen(const TableColumn& column, Audience by) {
  return column.audience == Audience::all || column.audience == by;
}

// A table may be for programs alone.
bool is_for_people(const Table& table) {
  return std::any_of(table.columns.begin(), table.columns.end(),
                     [](const TableColumn& column) { return seen(column, Audience::people); });
}

// --- for people -----------------------------------------------------------------------------------------------------

// The terminal library measures text by the locale of its thread: UTF-8 while a table is drawn, whatever the program
// has.
class Utf8Locale {
 public:
  Utf8Locale() : utf8_(newlocale(LC_CTYPE_MASK, "C.UTF-8", nullptr)), before_(uselocale(utf8_)) {}
  ~Utf8Locale() {
    uselocale(before_);
    if (utf8_ != nullptr) freelocale(utf8_);
  }
  Utf8Locale(const Utf8Locale&) = delete;
  Utf8Locale& operator=(const Utf8Locale&) = delete;

 private:
  locale_t utf8_;
  locale_t before_;
};

struct Unref {
  void operator()(libscols_table* table) const { scols_unref_table(table); }
};

std::string draw(const Table& table, Color color) {
  const Utf8Locale utf8;
  const std::unique_ptr<libscols_table, Unref> drawn(scols_new_table());
  scols_table_enable_colors(drawn.get(), color == Color::on ? 1 : 0);
  scols_table_enable_nowrap(drawn.get(), 1);
  scols_table_set_column_separator(drawn.get(), "  ");
  scols_table_set_termforce(drawn.get(), SCOLS_TERMFORCE_NEVER);  // never cut to a terminal's width: nothing is lost
  std::vector<std::size_t> shown;
  for (std::size_t i = 0; i < table.columns.size(); ++i) {
    if (!seen(table.columns[i], Audience::people)) continue;
    shown.push_back(i);
    libscols_column* const column = scols_table_new_column(drawn.get(), table.columns[i].heading.c_str(), 0,
                                                           table.columns[i].right ? SCOLS_FL_RIGHT : 0);
    if (color == Color::on) scols_cell_set_color(scols_column_get_header(column), "\033[2m");
  }
  for (const TableRow& row : table.rows) {
    if (row.audience == Audience::programs) continue;
    libscols_line* const line = scols_table_new_line(drawn.get(), nullptr);
    if (row.strong && color == Color::on) scols_line_set_color(line, "\033[1m");
    for (std::size_t i = 0; i < shown.size(); ++i) scols_line_set_data(line, i, row.cells[shown[i]].shown.c_str());
  }
  char* text = nullptr;
  if (scols_print_table_to_string(drawn.get(), &text) != 0 || text == nullptr) return "";
  std::string out(text);
  std::free(text);
  // Lines end where their text does.
  std::string trimmed;
  for (std::size_t begin = 0; begin < out.size();) {
    const std::size_t end = std::min(out.find('\n', begin), out.size());
    std::size_t last = end;
    while (last > begin && out[last - 1] == ' ') --last;
    trimmed.append(out, begin, last - begin).append("\n");
    begin = end + 1;
  }
  return trimmed;
}

std::string draw(const Verbatim& verbatim, Color color) {
  if (color == Color::off) return verbatim.text;
  std::string out;
  for (std::size_t begin = 0; begin < verbatim.text.size();) {
    const std::size_t end = std::min(verbatim.text.find('\n', begin), verbatim.text.size());
    const std::string line = verbatim.text.substr(begin, end - begin);
    const std::string_view code =
        line.starts_with('+') ? "92" : (line.starts_with('-') ? "91" : (line.starts_with("@@") ? "2" : ""));
    out += code.empty() ? line + "\n" : fmt::format("\033[{}m{}\033[0m\n", code, line);
    begin = end + 1;
  }
  return out;
}

struct TerminalRenderer {
  Color color;
  std::string out;
  std::size_t label_width = 0;

  void gap() {
    if (!out.empty() && !out.ends_with("\n\n")) out += "\n";
  }
  void operator()(const Heading& heading) {
    gap();
    out += (color == Color::on ? fmt::format("\033[1;36m{}\033[0m", heading.text) : heading.text) + "\n";
  }
  void operator()(const Paragraph& paragraph) { out += paragraph.text + "\n"; }
  void operator()(const Verbatim& verbatim) { out += draw(verbatim, color); }
  void operator()(const Fact& fact) { out += fmt::format("{:<{}}  {}\n", fact.label, label_width, fact.value.shown); }
  void operator()(const Table& table) {
    if (!is_for_people(table)) return;
    gap();
    out += table.rows.empty() ? "(no rows)\n" : draw(table, color);
  }
};

std::string render_terminal(const Report& report, Color color) {
  TerminalRenderer renderer{color, "", 0};
  for (const auto& block : report.blocks) {
    if (const Fact* fact = std::get_if<Fact>(&block))
      renderer.label_width = std::max(renderer.label_width, fact->label.size());
  }
  for (const auto& block : report.blocks) std::visit(renderer, block);
  return renderer.out;
}

// One line in a cell: what would break a page's table apart is written as an escape, as the terminal library does in
// its own.
std::string one_line(const std::string& text) {
  std::string out;
  for (const char c : text) {
    if (c == '\n') {
      out += "\\n";
    } else if (static_cast<unsigned char>(c) < 0x20 || c == 0x7F) {
      out += fmt::format("\\x{:02x}", static_cast<unsigned char>(c));
    } else {
      out += c;
    }
  }
  return out;
}

std::string escaped_markdown(const std::string& text) {
  std::string out;
  for (const char c : one_line(text)) {
    if (c == '|' || c == '\\' || c == '<' || c == '*' || c == '_' || c == '`') out += '\\';
    out += c;
  }
  return out;
}

struct MarkdownRenderer {
  std::string out;

  void gap() {
    if (!out.empty() && !out.ends_with("\n\n")) out += "\n";
  }
  void operator()(const Heading& heading) {
    gap();
    out += "## " + escaped_markdown(heading.text) + "\n\n";
  }
  void operator()(const Paragraph& paragraph) {
    gap();
    out += escaped_markdown(paragraph.text) + "\n";
  }
  void operator()(const Verbatim& verbatim) {
    gap();
    out += "```diff\n" + verbatim.text + "```\n";
  }
  void operator()(const Fact& fact) {
    out += fmt::format("- {}: {}\n", escaped_markdown(fact.label), escaped_markdown(fact.value.shown));
  }
  void operator()(const Table& table) {
    if (!is_for_people(table)) return;
    gap();
    std::string rule;
    for (const TableColumn& column : table.columns) {
      if (!seen(column, Audience::people)) continue;
      out += fmt::format("| {} ", escaped_markdown(column.heading));
      rule += column.right ? "|---:" : "|---";
    }
    out += "|\n" + rule + "|\n";
    for (const TableRow& row : table.rows) {
      if (row.audience == Audience::programs) continue;
      for (std::size_t i = 0; i < table.columns.size(); ++i) {
        if (!seen(table.columns[i], Audience::people)) continue;
        const std::string text = escaped_markdown(row.cells[i].shown);
        out += row.strong && !text.empty() ? fmt::format("| **{}** ", text) : fmt::format("| {} ", text);
      }
      out += "|\n";
    }
  }
};

// --- for programs ---------------------------------------------------------------------------------------------------

// Numbers go into JSON as they are written, so that none loses digits.
std::string json_cell(const Cell& cell) {
  switch (cell.kind) {
    case Cell::Kind::null:
      return "null";
    case Cell::Kind::text:
      return Json(cell.exact).dump(-1, ' ', false, Json::error_handler_t::replace);
    default:
      return cell.exact;
  }
}

std::string json_text(const std::string& text) {
  return Json(text).dump(-1, ' ', false, Json::error_handler_t::replace);
}

std::string json_table(const Table& table) {
  std::string out;
  for (const TableRow& row : table.rows) {
    if (row.audience == Audience::people) continue;
    out += out.empty() ? "\n    {" : ",\n    {";
    bool first = true;
    for (std::size_t i = 0; i < table.columns.size(); ++i) {
      if (!seen(table.columns[i], Audience::programs)) continue;
      out += fmt::format("{}{}: {}", first ? "" : ", ", json_text(table.columns[i].name), json_cell(row.cells[i]));
      first = false;
    }
    out += "}";
  }
  return "[" + out + (out.empty() ? "]" : "\n  ]");
}

std::string render_json(const Report& report) {
  std::string out = "{";
  bool first = true;
  const auto member = [&](const std::string& name, const std::string& value) {
    out += fmt::format("{}\n  {}: {}", first ? "" : ",", json_text(name), value);
    first = false;
  };
  for (const auto& block : report.blocks) {
    if (const Fact* fact = std::get_if<Fact>(&block)) member(fact->name, json_cell(fact->value));
    if (const Verbatim* verbatim = std::get_if<Verbatim>(&block)) member(verbatim->name, json_text(verbatim->text));
    if (const Table* table = std::get_if<Table>(&block)) member(table->name, json_table(*table));
  }
  return out + "\n}\n";
}

// RFC 4180, with LF; null is an empty field and the empty text a quoted one.
std::string csv_field(const Cell& cell) {
  if (cell.kind == Cell::Kind::null) return "";
  const std::string& text = cell.exact;
  if (!text.empty() && text.find_first_of(",\"\r\n") == std::string::npos) return text;
  std::string quoted = "\"";
  for (const char c : text) {
    if (c == '"') quoted += '"';
    quoted += c;
  }
  return quoted + "\"";
}

std::string render_csv(const Report& report) {
  for (const auto& block : report.blocks) {
    const Table* table = std::get_if<Table>(&block);
    if (table == nullptr || table->in_csv == InCsv::no) continue;
    std::string out;
    const auto line = [&](const auto& field) {
      bool first = true;
      for (std::size_t i = 0; i < table->columns.size(); ++i) {
        if (!seen(table->columns[i], Audience::programs)) continue;
        out += first ? "" : ",";
        out += csv_field(field(i));
        first = false;
      }
      out += "\n";
    };
    line([&](std::size_t i) { return Cell{Cell::Kind::text, "", table->columns[i].name}; });
    for (const TableRow& row : table->rows) {
      if (row.audience != Audience::people) line([&](std::size_t i) { return row.cells[i]; });
    }
    return out;
  }
  return "";
}

}  // namespace

std::string render(const Report& report, const RenderOptions& options) {
  switch (options.format) {
    case Format::terminal:
      return render_terminal(report, options.color);
    case Format::json:
      return render_json(report);
    case Format::csv:
      return render_csv(report);
    case Format::markdown: {
      MarkdownRenderer renderer;
      for (const auto& block : report.blocks) std::visit(renderer, block);
      return renderer.out;
    }
  }
  return "";
}

}  // namespace juniper
