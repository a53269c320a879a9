// For people in a terminal, within the width of its window.
#include <fmt/format.h>

#include <algorithm>

#include "base/shown_text.h"
#include "report/render/columns.h"
#include "report/render/formats.h"

namespace juniper::render_formats {

namespace {

// Lines end where their text does.
void end_line(std::string& line, std::string_view style, Out& out) {
  while (line.ends_with(' ')) line.pop_back();
  if (!style.empty()) out += style;
  line += style.empty() ? "\n" : "\033[0m\n";
  out += line;
  line.clear();
}

// The texts of one row, next to each other: each goes on below itself where it has several lines.
class Row {
 public:
  Row(const std::vector<Slot>& slots, Out& out) : slots_(slots), out_(out), lines_(slots.size()) {}

  std::vector<std::string>& of(std::size_t slot) { return lines_[slot]; }

  // `at_foot`: texts of fewer lines stand at the foot, as headings do.
  void draw(std::string_view style, bool at_foot) {
    std::size_t most = 0;
    for (const auto& lines : lines_) most = std::max(most, lines.size());
    for (std::size_t l = 0; l < most; ++l) {
      for (std::size_t s = 0; s < slots_.size(); ++s) {
        const std::size_t above = at_foot ? most - lines_[s].size() : 0;
        const std::string text = l < above || l - above >= lines_[s].size() ? "" : lines_[s][l - above];
        const std::size_t gap = slots_[s].width - base::width_of(text);
        const bool right = slots_[s].is_right();
        line_.append((s == 0 ? 0 : 2) + (right ? gap : 0), ' ').append(text).append(right ? 0 : gap, ' ');
      }
      end_line(line_, style, out_);
    }
    for (auto& lines : lines_) lines.clear();
  }

 private:
  const std::vector<Slot>& slots_;
  Out& out_;
  std::vector<std::vector<std::string>> lines_;  // of each slot
  std::string line_;
};

// Two blanks between columns; headings dim and rows that stand out bold, where there is colour. Rows are gone over twice,
// for the widths and for the lines, and not held.
void draw(const Table& table, Color color, std::size_t width, Out& out) {
  Columns columns(table);
  each_row(table, [&](const TableRow& row) { columns.measure(row); });
  const std::vector<std::string> left_out = columns.fit(width);
  const std::vector<Slot>& slots = columns.slots();
  Row drawn(slots, out);
  const auto style = [&](std::string_view code) { return color == Color::on ? code : std::string_view(); };
  for (std::size_t s = 0; s < slots.size(); ++s) drawn.of(s) = slots[s].heading_lines();
  drawn.draw(style("\033[2m"), true);
  each_row(table, [&](const TableRow& row) {
    if (row.audience == Audience::programs) return;
    for (std::size_t s = 0; s < slots.size(); ++s) drawn.of(s) = columns.cell_lines(slots[s], row);
    drawn.draw(row.strong ? style("\033[1m") : "", false);
  });
  if (left_out.empty()) return;
  std::string said = fmt::format("no room for: {} (--wide shows all)", fmt::join(left_out, ", "));
  for (std::string& line : base::folded(said, width, 2)) end_line(line, style("\033[2m"), out);
}

struct TerminalRenderer {
  Color color;
  std::size_t width;
  Out& out;
  std::size_t label_width = 0;
  bool follows_text = false;  // a heading or a paragraph, which a paragraph stands below without a gap

  // The lines of a text that may have several, within the width.
  template <class Take>
  void each_line(const std::string& text, std::size_t indent, const Take& take) {
    for (std::size_t begin = 0; begin < text.size();) {
      const std::size_t end = std::min(text.find('\n', begin), text.size());
      const std::string line = text.substr(begin, end - begin);
      if (width == 0) {
        take(line, line);
      } else {
        for (const std::string& part : base::folded(line, width, std::min(indent, width / 2))) take(line, part);
      }
      begin = end + 1;
    }
  }

  void operator()(const Heading& heading) {
    out.gap();
    each_line(base::one_line(heading.text), 0, [&](const std::string&, const std::string& line) {
      out += (color == Color::on ? fmt::format("\033[1;36m{}\033[0m", line) : line) + "\n";
    });
  }
  void operator()(const Paragraph& paragraph) {
    if (!follows_text) out.gap();
    each_line(base::lines(paragraph.text), 0, [&](const std::string&, const std::string& line) { out += line + "\n"; });
  }
  void operator()(const Messages& messages) {
    out.gap();
    out += render(messages.diagnostics, color, width);
  }
  void operator()(const Figure&) {}
  void operator()(const Verbatim& verbatim) {
    each_line(base::lines(verbatim.text), 4, [&](const std::string& whole, const std::string& line) {
      const std::string_view code =
          whole.starts_with('+') ? "92" : (whole.starts_with('-') ? "91" : (whole.starts_with("@@") ? "2" : ""));
      out += code.empty() || color == Color::off ? line + "\n" : fmt::format("\033[{}m{}\033[0m\n", code, line);
    });
  }
  void operator()(const Fact& fact) {
    each_line(fmt::format("{:<{}}  {}", fact.label, label_width, base::one_line(fact.value.shown)), label_width + 2,
              [&](const std::string&, const std::string& line) { out += line + "\n"; });
  }
  void operator()(const Table& table) {
    if (!is_for(table, Audience::people)) return;
    out.gap();
    if (table.rows.empty() && !table.more) {
      out += "(no rows)\n";
    } else {
      draw(table, color, width, out);
    }
  }
};

}  // namespace

void terminal(const Report& report, Color color, std::size_t width, Out& out) {
  TerminalRenderer renderer{color, width, out};
  for (const Report::Block& block : report.blocks) {
    if (const Fact* fact = std::get_if<Fact>(&block))
      renderer.label_width = std::max(renderer.label_width, fact->label.size());
  }
  for (const Report::Block& block : report.blocks) {
    std::visit(renderer, block);
    renderer.follows_text = std::holds_alternative<Paragraph>(block) || std::holds_alternative<Heading>(block);
  }
}

}  // namespace juniper::render_formats
