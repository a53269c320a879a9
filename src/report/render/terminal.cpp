// For people in a terminal.
#include <fmt/format.h>

#include <algorithm>

#include "base/shown_text.h"
#include "report/render/formats.h"

namespace juniper::render_formats {

namespace {

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
      line.widths.push_back(base::width_of(line.cells.emplace_back(base::one_line(text_of(shown[c])))));
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
  const std::string text = base::lines(verbatim.text);
  if (color == Color::off) return text;
  std::string out;
  for (std::size_t begin = 0; begin < text.size();) {
    const std::size_t end = std::min(text.find('\n', begin), text.size());
    const std::string line = text.substr(begin, end - begin);
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
    const std::string text = base::one_line(heading.text);
    out += (color == Color::on ? fmt::format("\033[1;36m{}\033[0m", text) : text) + "\n";
  }
  void operator()(const Paragraph& paragraph) { out += base::lines(paragraph.text) + "\n"; }
  void operator()(const Verbatim& verbatim) { out += draw(verbatim, color); }
  void operator()(const Fact& fact) {
    out += fmt::format("{:<{}}  {}\n", fact.label, label_width, base::one_line(fact.value.shown));
  }
  void operator()(const Table& table) {
    if (!is_for_people(table)) return;
    gap();
    out += table.rows.empty() ? "(no rows)\n" : draw(table, color);
  }
};

}  // namespace

std::string terminal(const Report& report, Color color) {
  TerminalRenderer renderer{color, "", 0};
  for (const auto& block : report.blocks) {
    if (const Fact* fact = std::get_if<Fact>(&block))
      renderer.label_width = std::max(renderer.label_width, fact->label.size());
  }
  for (const auto& block : report.blocks) std::visit(renderer, block);
  return renderer.out;
}

}  // namespace juniper::render_formats
