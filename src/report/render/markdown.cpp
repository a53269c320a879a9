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
  void operator()(const Verbatim& verbatim) {
    out.gap();
    // A fence longer than any within.
    std::string fence = "```";
    while (verbatim.text.find(fence) != std::string::npos) fence += '`';
    out += fence + "diff\n" + base::lines(verbatim.text) + fence + "\n";
  }
  void operator()(const Fact& fact) {
    out += fmt::format("- {}: {}\n", escaped_markdown(fact.label), escaped_markdown(fact.value.shown));
  }
  void operator()(const Table& table) {
    if (!is_for_people(table)) return;
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
      for (std::size_t i = 0; i < table.columns.size(); ++i) {
        if (!seen(table.columns[i], Audience::people)) continue;
        const std::string text = escaped_markdown(row.cells[i].shown);
        out += row.strong && !text.empty() ? fmt::format("| **{}** ", text) : fmt::format("| {} ", text);
      }
      out += "|\n";
    });
  }
};

}  // namespace

void markdown(const Report& report, Out& out) {
  MarkdownRenderer renderer{out};
  for (const auto& block : report.blocks) std::visit(renderer, block);
}

}  // namespace juniper::render_formats
