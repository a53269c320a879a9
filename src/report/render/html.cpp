#include "report/render/html.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>

#include "base/shown_text.h"
#include "report/render/page_assets.h"

namespace juniper::render_formats {

namespace {

constexpr std::size_t most_characters = 2000;

// From the middle, where a ratio is 1, to the ends, where it is a half and the double.
double on_balance(double ratio) {
  return 50 + 50 * (ratio > 0 ? std::clamp(std::log2(ratio), -1.0, 1.0) : -1.0);
}

// A figure drawn beside its text, of which it says no more.
std::string bar(const Cell& cell, double greatest) {
  if (cell.kind == Cell::Kind::ratio) {
    const double at = on_balance(figure_of(cell));
    std::string interval;
    if (cell.interval) {
      const double from = on_balance(cell.interval->low);
      interval = fmt::format(R"(<rect class="interval" x="{:.1f}" y="3.5" width="{:.1f}" height="3"/>)", from,
                             std::max(on_balance(cell.interval->high) - from, 1.0));
    }
    return fmt::format(
        R"(<svg class="bar" viewBox="0 0 100 10" preserveAspectRatio="none" aria-hidden="true">{}<rect class="middle" )"
        R"(x="49.5" width="1" height="10"/><rect class="{}" x="{:.1f}" y="1" width="2.4" height="8"/></svg>)",
        interval, at > 50 ? "more" : "less", std::clamp(at - 1.2, 0.0, 97.6));
  }
  return fmt::format(
      R"(<svg class="bar" viewBox="0 0 100 10" preserveAspectRatio="none" aria-hidden="true"><rect width="{:.2f}" height="10"/></svg>)",
      greatest > 0 ? std::clamp(100 * figure_of(cell) / greatest, 0.0, 100.0) : 0.0);
}

std::string cell_html(const Cell& cell) {
  const std::string text = escaped_html(cell.shown);
  if (cell.kind == Cell::Kind::code) return "<code>" + text + "</code>";
  if (cell.kind == Cell::Kind::place) return R"(<span class="place">)" + text + "</span>";
  return text;
}

// Lines of a text that is kept as it is, those of a change marked.
std::string lines_html(const std::string& text) {
  std::string out;
  for (std::size_t begin = 0; begin < text.size();) {
    const std::size_t end = std::min(text.find('\n', begin), text.size());
    const std::string line = text.substr(begin, end - begin);
    const std::string_view mark =
        line.starts_with('+') ? "added" : (line.starts_with('-') ? "removed" : (line.starts_with("@@") ? "at" : ""));
    const std::string shown = escaped_html(line);
    out += mark.empty() ? shown + "\n" : fmt::format("<span class=\"{}\">{}</span>\n", mark, shown);
    begin = end + 1;
  }
  return out;
}

class HtmlRenderer {
 public:
  HtmlRenderer(int heading, FigureData& data, Out& out) : heading_(heading), data_(data), out_(out) {}

  void operator()(const Heading& heading) {
    end_facts();
    label_ = escaped_html(heading.text);
    out_ += fmt::format("<h{0}>{1}</h{0}>\n", heading_, label_);
  }
  void operator()(const Paragraph& paragraph) {
    end_facts();
    out_ += "<p>" + escaped_html(paragraph.text) + "</p>\n";
  }
  void operator()(const Messages& messages) {
    end_facts();
    out_ += "<pre class=\"messages\" role=\"group\" tabindex=\"0\" aria-label=\"messages\">" +
            lines_html(render(messages.diagnostics)) + "</pre>\n";
  }
  // Where a script draws; without one, the tables beside it say the same.
  void operator()(const Figure& figure) {
    end_facts();
    out_ += fmt::format("<figure id=\"{0}\" class=\"drawing\"><figcaption>{1}</figcaption></figure>\n", figure.name,
                        escaped_html(figure.caption));
    if (figure.name == "treemap") out_ += "<div id=\"values\" aria-live=\"polite\"></div>\n";
    data_[figure.name] = figure.data;
  }
  void operator()(const Verbatim& verbatim) {
    end_facts();
    out_ += fmt::format("<pre tabindex=\"0\" aria-label=\"{}\">{}</pre>\n", escaped_html(verbatim.name),
                        lines_html(verbatim.text));
  }
  void operator()(const Fact& fact) {
    if (!in_facts_) out_ += "<dl class=\"facts\">\n";
    in_facts_ = true;
    out_ += fmt::format("<div><dt>{}</dt><dd>{}</dd></div>\n", escaped_html(fact.label), cell_html(fact.value));
  }
  void operator()(const Table& table) {
    if (!is_for(table, Audience::people)) return;
    end_facts();
    out_ += fmt::format(R"(<div class="table" data-table="{0}" role="group" aria-label="{1}" tabindex="0">)"
                        "\n<table>\n<thead><tr>",
                        escaped_html(table.name), label_.empty() ? escaped_html(table.name) : label_);
    std::vector<double> greatest(table.columns.size(), 0);
    std::size_t rows = 0;
    each_row(table, [&](const TableRow& row) {
      if (row.audience == Audience::programs) return;
      ++rows;
      for (std::size_t c = 0; c < table.columns.size(); ++c) {
        if (table.columns[c].is_compared && !row.strong) greatest[c] = std::max(greatest[c], figure_of(row.cells[c]));
      }
    });
    for (const TableColumn& column : table.columns) {
      if (!seen(column, Audience::people)) continue;
      const std::string heading = escaped_html(column.heading);
      out_ += heading.empty() ? "<td></td>"
                              : fmt::format("<th scope=\"col\"{}>{}</th>", column.right ? " class=\"n\"" : "", heading);
    }
    out_ += "</tr></thead>\n<tbody>\n";
    each_row(table, [&](const TableRow& row) {
      if (row.audience != Audience::programs) draw(table, row, greatest);
    });
    out_ += "</tbody>\n</table>\n";
    if (rows == 0) out_ += "<p>no rows</p>\n";
    out_ += "</div>\n";
  }
  void end_facts() {
    if (in_facts_) out_ += "</dl>\n";
    in_facts_ = false;
  }

 private:
  void draw(const Table& table, const TableRow& row, const std::vector<double>& greatest) {
    constexpr std::uint32_t deepest = 8;
    out_ += row.strong ? "<tr class=\"strong\">" : "<tr>";
    bool first = true;
    for (std::size_t c = 0; c < table.columns.size(); ++c) {
      const TableColumn& column = table.columns[c];
      if (!seen(column, Audience::people)) continue;
      const Cell& cell = row.cells[c];
      std::string classes = column.right ? "n" : "";
      if (first && row.depth != 0)
        classes += fmt::format("{}d{}", classes.empty() ? "" : " ", std::min(row.depth, deepest));
      std::string attributes = classes.empty() ? "" : fmt::format(" class=\"{}\"", classes);
      if (is_number(cell.kind)) attributes += fmt::format(" data-v=\"{}\"", escaped_html(cell.exact));
      const bool has_bar =
          column.is_compared && is_number(cell.kind) && (!row.strong || cell.kind == Cell::Kind::ratio);
      const char* const tag = first && cell.kind != Cell::Kind::null ? "th" : "td";
      out_ += fmt::format("<{0}{1}{2}>{3}{4}</{0}>", tag, first && *(tag + 1) == 'h' ? " scope=\"row\"" : "",
                          attributes, cell_html(cell), has_bar ? bar(cell, greatest[c]) : "");
      first = false;
    }
    out_ += "</tr>\n";
  }

  int heading_;
  FigureData& data_;
  Out& out_;
  std::string label_;  // of the last heading
  bool in_facts_ = false;
};

// RFC 4648. The hash of a script, which a page allows by it, is written so.
std::string base64_of_hex(std::string_view hex) {
  static constexpr std::string_view digits = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
  const auto nibble = [](char c) { return static_cast<std::uint32_t>(c <= '9' ? c - '0' : c - 'a' + 10); };
  std::string out;
  for (std::size_t i = 0; i < hex.size(); i += 6) {
    std::uint32_t bits = 0;
    std::size_t bytes = 0;
    for (std::size_t b = 0; b < 3; ++b) {
      const bool is_there = i + 2 * b + 1 < hex.size();
      bytes += is_there ? 1 : 0;
      bits = bits << 8 | (is_there ? nibble(hex[i + 2 * b]) << 4 | nibble(hex[i + 2 * b + 1]) : 0);
    }
    for (std::size_t d = 0; d < 4; ++d) out += d <= bytes ? digits[bits >> (18 - 6 * d) & 63] : '=';
  }
  return out;
}

// The scripts of a page, in their order.
std::vector<const PageAsset*> scripts_of(Drawing drawing) {
  if (drawing == Drawing::tables) return {&page_script};
  return {&d3_script, &dagre_script, &page_script};
}

}  // namespace

std::string escaped_html(std::string_view text) {
  const std::string shown =
      text.size() > most_characters ? base::shortened(text, most_characters) : base::one_line(text);
  std::string out;
  for (const char c : shown) {
    switch (c) {
      case '&':
        out += "&amp;";
        break;
      case '<':
        out += "&lt;";
        break;
      case '>':
        out += "&gt;";
        break;
      case '"':
        out += "&quot;";
        break;
      case '\'':
        out += "&#39;";
        break;
      default:
        out += c;
    }
  }
  return out;
}

void begin_page(const std::string& title, Drawing drawing, Out& out) {
  std::string scripts;
  for (const PageAsset* script : scripts_of(drawing))
    scripts += fmt::format(" &#39;sha256-{}&#39;", base64_of_hex(script->sha256));
  out += fmt::format(
      "<!doctype html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n{}\n"
      "<meta http-equiv=\"Content-Security-Policy\" content=\"default-src &#39;none&#39;; script-src{}; style-src "
      "&#39;sha256-{}&#39;; base-uri &#39;none&#39;; form-action &#39;none&#39;\">\n"
      "<meta name=\"viewport\" content=\"width=device-width, initial-scale=1\">\n<title>{}</title>\n<style>",
      page_mark, scripts, base64_of_hex(page_style.sha256), escaped_html(title));
  out += page_style.text();
  out += "</style>\n</head>\n<body>\n";
}

void end_page(const FigureData& data, Drawing drawing, Out& out) {
  out += "<p id=\"said\" role=\"status\" class=\"unseen\"></p>\n";
  if (drawing == Drawing::figures) {
    // No end of a script may stand in it.
    std::string safe;
    for (const auto& [name, json] : data) {
      safe += fmt::format("{}\"{}\":", safe.empty() ? "{" : ",", name);
      for (const char c : json) {
        if (c == '<') {
          safe += "\\u003c";
        } else {
          safe += c;
        }
      }
    }
    out += "<script type=\"application/json\" id=\"data\">" + (safe.empty() ? "{" : safe) + "}</script>\n";
  }
  for (const PageAsset* script : scripts_of(drawing)) {
    out += "<script>";
    out += script->text();
    out += "</script>\n";
  }
  out += "</body>\n</html>\n";
}

void html_blocks(const Report& report, int heading, FigureData& data, Out& out) {
  HtmlRenderer renderer(heading, data, out);
  for (const Report::Block& block : report.blocks) std::visit(renderer, block);
  renderer.end_facts();
}

void html(const Report& report, const std::string& title, Out& out) {
  const bool has_figures = std::any_of(report.blocks.begin(), report.blocks.end(),
                                       [](const auto& block) { return std::holds_alternative<Figure>(block); });
  const Drawing drawing = has_figures ? Drawing::figures : Drawing::tables;
  FigureData data;
  begin_page(title, drawing, out);
  out += fmt::format("<header><h1>{}</h1></header>\n<main>\n", escaped_html(title));
  html_blocks(report, 2, data, out);
  out += "</main>\n";
  end_page(data, drawing, out);
}

}  // namespace juniper::render_formats
