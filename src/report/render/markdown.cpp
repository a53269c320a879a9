// For pages, as Markdown.
#include <fmt/format.h>

#include "base/shown_text.h"
#include "report/render/formats.h"

namespace juniper::render_formats {

namespace {

std::string escaped_markdown(const std::string& text) {
  std::string out;
  for (const char c : base::one_line(text)) {
    if (c == '|' || c == '\\' || c == '<' || c == '*' || c == '_' || c == '`') out += '\\';
    out += c;
  }
  return out;
}

struct MarkdownRenderer {
  Out& out;

  void operator()(const Heading& heading) {
    out.gap();
    out += "## " + escaped_markdown(heading.text) + "\n\n";
  }
  void operator()(const Paragraph& paragraph) {
    out.gap();
    out += escaped_markdown(paragraph.text) + "\n";
  }
  void operator()(const Messages& messages) { fenced("", base::lines(render(messages.diagnostics))); }
  void operator()(const Figure&) {}
  void operator()(const Verbatim& verbatim) { fenced("diff", base::lines(verbatim.text)); }
  void fenced(std::string_view language, const std::string& text) {
    out.gap();
    // A fence longer than any within.
    std::string fence = "```";
    while (text.find(fence) != std::string::npos) fence += '`';
    out += fmt::format("{}{}\n{}{}\n", fence, language, text, fence);
  }
  void operator()(const Fact& fact) {
    out += fmt::format("- {}: {}\n", escaped_markdown(fact.label), escaped_markdown(fact.value.shown));
  }
  void operator()(const Table& table) {
    if (!is_for(table, Audience::people)) return;
    out.gap();
    std::string rule;
    for (const TableColumn& column : table.columns) {
      if (!seen(column, Audience::people)) continue;
      out += fmt::format("| {} ", escaped_markdown(column.heading));
      rule += column.right ? "|---:" : "|---";
    }
    out += "|\n" + rule + "|\n";
    each_row(table, [&](const TableRow& row) {
      if (row.audience == Audience::programs) return;
      bool first = true;
      for (std::size_t i = 0; i < table.columns.size(); ++i) {
        if (!seen(table.columns[i], Audience::people)) continue;
        std::string text = escaped_markdown(row.cells[i].shown);
        for (std::uint32_t d = 0; first && d < row.depth; ++d) text.insert(0, "&nbsp;&nbsp;");
        first = false;
        out += row.strong && !text.empty() ? fmt::format("| **{}** ", text) : fmt::format("| {} ", text);
      }
      out += "|\n";
    });
  }
};

// Whether a block belongs to the part of this name.
bool belongs(const Report::Block& block, const std::string& part) {
  if (part.empty()) return true;
  if (const Table* table = std::get_if<Table>(&block)) return table->name == part;
  return part == facts_name && (std::holds_alternative<Fact>(block) || std::holds_alternative<Verbatim>(block));
}

}  // namespace

void markdown(const Report& report, const std::string& part, Out& out) {
  MarkdownRenderer renderer{out};
  for (const Report::Block& block : report.blocks) {
    if (belongs(block, part)) std::visit(renderer, block);
  }
}

}  // namespace juniper::render_formats
