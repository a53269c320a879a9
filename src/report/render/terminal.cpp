// For people in a terminal.
#include <fmt/format.h>

#include <algorithm>

#include "base/shown_text.h"
#include "report/render/formats.h"

namespace juniper::render_formats {

namespace {

// Two blanks between columns; headings dim and lines that stand out bold, where there is colour. Lines end where their
// text does, and nothing is cut to the width of a terminal. Rows are gone over twice, for the widths and for the lines, and
// not held.
void draw(const Table& table, Color color, Out& out) {
  std::vector<std::size_t> shown;
  for (std::size_t i = 0; i < table.columns.size(); ++i) {
    if (seen(table.columns[i], Audience::people)) shown.push_back(i);
  }
  // Visits the lines, each with what gives the text of a column.
  const auto each_line = [&](const auto& visit) {
    visit("\033[2m", [&](std::size_t i) -> const std::string& { return table.columns[i].heading; });
    each_row(table, [&](const TableRow& row) {
      if (row.audience == Audience::programs) return;
      visit(row.strong ? "\033[1m" : "", [&](std::size_t i) -> const std::string& { return row.cells[i].shown; });
    });
  };
  std::vector<std::size_t> widest(shown.size(), 0);
  each_line([&](std::string_view, const auto& text_of) {
    for (std::size_t c = 0; c < shown.size(); ++c)
      widest[c] = std::max(widest[c], base::width_of(base::one_line(text_of(shown[c]))));
  });
  std::string line;
  each_line([&](std::string_view style, const auto& text_of) {
    const bool styled = color == Color::on && !style.empty();
    line.clear();
    for (std::size_t c = 0; c < shown.size(); ++c) {
      const std::string text = base::one_line(text_of(shown[c]));
      const std::size_t gap = widest[c] - base::width_of(text);
      const bool right = table.columns[shown[c]].right;
      line.append((c == 0 ? 0 : 2) + (right ? gap : 0), ' ').append(text).append(right ? 0 : gap, ' ');
    }
    while (line.ends_with(' ')) line.pop_back();
    if (styled) out += style;
    line += styled ? "\033[0m\n" : "\n";
    out += line;
  });
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
  Out& out;
  std::size_t label_width = 0;
  bool follows_text = false;  // a heading or a paragraph, which a paragraph stands below without a gap

  void operator()(const Heading& heading) {
    out.gap();
    const std::string text = base::one_line(heading.text);
    out += (color == Color::on ? fmt::format("\033[1;36m{}\033[0m", text) : text) + "\n";
  }
  void operator()(const Paragraph& paragraph) {
    if (!follows_text) out.gap();
    out += base::lines(paragraph.text) + "\n";
  }
  void operator()(const Verbatim& verbatim) { out += draw(verbatim, color); }
  void operator()(const Fact& fact) {
    out += fmt::format("{:<{}}  {}\n", fact.label, label_width, base::one_line(fact.value.shown));
  }
  void operator()(const Table& table) {
    if (!is_for_people(table)) return;
    out.gap();
    if (table.rows.empty() && !table.more) {
      out += "(no rows)\n";
    } else {
      draw(table, color, out);
    }
  }
};

}  // namespace

void terminal(const Report& report, Color color, Out& out) {
  TerminalRenderer renderer{color, out};
  for (const auto& block : report.blocks) {
    if (const Fact* fact = std::get_if<Fact>(&block))
      renderer.label_width = std::max(renderer.label_width, fact->label.size());
  }
  for (const auto& block : report.blocks) {
    std::visit(renderer, block);
    renderer.follows_text = std::holds_alternative<Paragraph>(block) || std::holds_alternative<Heading>(block);
  }
}

}  // namespace juniper::render_formats
