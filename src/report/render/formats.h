// A document in each of its formats.
#pragma once

#include <algorithm>
#include <string>
#include <string_view>

#include "juniper/document.h"

namespace juniper::render_formats {

// Whether a column is for `by`.
bool seen(const TableColumn& column, Audience by);
// Whether a table has anything for them.
bool is_for(const Table& table, Audience by);
// The number that a cell holds, for drawing; 0 for none, and for what is not finite.
double figure_of(const Cell& cell);
// Facts and texts, which are one part.
constexpr std::string_view facts_name = "facts";
bool has_facts(const Report& report);

template <class Visit>
void each_row(const Table& table, const Visit& visit) {
  for (const TableRow& row : table.rows) visit(row);
  if (table.more) table.more(visit);
}

// What is rendered, handed on in parts.
class Out {
 public:
  explicit Out(const Sink& sink) : sink_(sink) {}
  ~Out() = default;
  Out(const Out&) = delete;
  Out& operator=(const Out&) = delete;

  Out& operator+=(std::string_view text) {
    part_ += text;
    if (part_.size() >= part_bytes) flush();
    return *this;
  }
  // Begins a block: an empty line before it, but at the top.
  void gap() {
    const std::string end = end_of(part_);
    if (!end.empty() && end != "\n\n") part_ += "\n";
  }
  // To be called at the end.
  void flush() {
    if (part_.empty()) return;
    sink_(part_);
    end_ = end_of(part_);
    part_.clear();
  }

 private:
  static constexpr std::size_t part_bytes = std::size_t{1} << 16;
  // The last two characters, so far, with a part behind what was handed on.
  std::string end_of(std::string_view part) const {
    std::string end = end_;
    end += part.substr(part.size() - std::min<std::size_t>(part.size(), 2));
    return end.substr(end.size() - std::min<std::size_t>(end.size(), 2));
  }

  const Sink& sink_;
  std::string part_;
  std::string end_;  // the last two characters of what was handed on
};

// `width`: no line is wider; 0 for any.
void terminal(const Report& report, Color color, std::size_t width, Out& out);
// `part`: the name of a table, "facts", or empty for all.
void markdown(const Report& report, const std::string& part, Out& out);
void csv(const Report& report, const std::string& part, Out& out);
void json(const Report& report, Out& out);
// A whole page.
void html(const Report& report, const std::string& title, Out& out);

}  // namespace juniper::render_formats
