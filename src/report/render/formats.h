// A document in each of its formats.
#pragma once

#include <algorithm>
#include <string>
#include <string_view>

#include "juniper/document.h"

namespace juniper::render_formats {

// Whether a column is for `by`.
bool seen(const TableColumn& column, Audience by);
// A table may be for programs alone.
bool is_for_people(const Table& table);

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

void terminal(const Report& report, Color color, Out& out);
void markdown(const Report& report, Out& out);
void json(const Report& report, Out& out);
// `name` is that of a table, "facts", or empty.
void csv(const Report& report, const std::string& name, Out& out);

}  // namespace juniper::render_formats
