#include <fmt/format.h>

#include <algorithm>
#include <nlohmann/json.hpp>

#include "juniper/report.h"
#include "report/terminal_text.h"

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

// Two blanks between columns; headings dim and lines that stand out bold, where there is colour. Lines end where their
// text does, and nothing is cut to the width of a terminal.
std::string draw(const Table& table, Color color) {
  std::vector<std::size_t> shown;
  for (std::size_t i = 0; i < table.columns.size(); ++i) {
    if (seen(table.columns[i], Audience::people)) shown.push_back(i);
  }
  struct Line {
    std::string_view style;
    std::vector<std::string> cells;
    std::vector<std::size_t> widths;
  };
  std::vector<std::size_t> widest(shown.size(), 0);
  std::vector<Line> lines;
  lines.reserve(table.rows.size() + 1);
  const auto add = [&](std::string_view style, const auto& text_of) {
    Line& line = lines.emplace_back(Line{style, {}, {}});
    line.cells.reserve(shown.size());
    line.widths.reserve(shown.size());
    for (std::size_t c = 0; c < shown.size(); ++c) {
      line.widths.push_back(width_of(line.cells.emplace_back(one_line(text_of(shown[c])))));
      widest[c] = std::max(widest[c], line.widths[c]);
    }
  };
  add("\033[2m", [&](std::size_t i) -> const std::string& { return table.columns[i].heading; });
  for (const TableRow& row : table.rows) {
    if (row.audience == Audience::programs) continue;
    add(row.strong ? "\033[1m" : "", [&](std::size_t i) -> const std::string& { return row.cells[i].shown; });
  }
  std::string out;
  for (const Line& line : lines) {
    const bool styled = color == Color::on && !line.style.empty();
    if (styled) out += line.style;
    const std::size_t begin = out.size();
    for (std::size_t c = 0; c < shown.size(); ++c) {
      const std::size_t gap = widest[c] - line.widths[c];
      const bool right = table.columns[shown[c]].right;
      out.append((c == 0 ? 0 : 2) + (right ? gap : 0), ' ').append(line.cells[c]).append(right ? 0 : gap, ' ');
    }
    while (out.size() > begin && out.back() == ' ') out.pop_back();
    out += styled ? "\033[0m\n" : "\n";
  }
  return out;
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
  std::vector<std::pair<std::size_t, std::string>> members;
  for (std::size_t i = 0; i < table.columns.size(); ++i) {
    if (!seen(table.columns[i], Audience::programs)) continue;
    members.emplace_back(i, (members.empty() ? "" : ", ") + json_text(table.columns[i].name) + ": ");
  }
  std::string out;
  for (const TableRow& row : table.rows) {
    if (row.audience == Audience::people) continue;
    out += out.empty() ? "\n    {" : ",\n    {";
    for (const auto& [i, name] : members) out.append(name).append(json_cell(row.cells[i]));
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
      if (row.audience != Audience::people) line([&](std::size_t i) -> const Cell& { return row.cells[i]; });
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
