// The columns of a table in a terminal: how wide they are, and which of them give way where there is no room for all.
#pragma once

#include <cstddef>
#include <string>
#include <vector>

#include "juniper/document.h"

namespace juniper::render_formats {

// A column as it is drawn: its texts, or its figures as bars.
struct Slot {
  const TableColumn* column = nullptr;
  std::size_t index = 0;  // of the column
  bool is_bar = false;
  bool is_ratio = false;    // a bar to either side of the middle
  bool holds_text = false;  // which may go on below; figures do not
  std::size_t widest = 0;   // cell
  std::size_t width = 0;

  bool is_right() const { return column->right && !is_bar; }
  std::vector<std::string> heading_lines() const;
};

class Columns {
 public:
  // Those that people see. The table must outlive it.
  explicit Columns(const Table& table);

  // To be called with each row, before the others.
  void measure(const TableRow& row);

  // Sets the widths so that no line is wider; 0: as wide as they are. In this order: headings take several lines, bars go,
  // columns that give way are left out, long texts go on below, and the last columns are left out. Gives the headings of
  // those that are.
  std::vector<std::string> fit(std::size_t width);

  const std::vector<Slot>& slots() const { return slots_; }
  // A cell as it is drawn, within the width of its slot.
  std::vector<std::string> cell_lines(const Slot& slot, const TableRow& row) const;

 private:
  std::size_t total() const;
  void leave_out(std::size_t slot, std::vector<std::string>& left_out);
  // Shares what room there is among the texts: the widest are narrowed first.
  void narrow_texts(std::size_t width);

  std::vector<Slot> slots_;
  double greatest_ = 0;  // of the figures that are drawn as bars
};

}  // namespace juniper::render_formats
