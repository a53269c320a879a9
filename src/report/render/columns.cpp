#include "report/render/columns.h"

#include <algorithm>
#include <array>
#include <cmath>

#include "base/shown_text.h"
#include "report/render/formats.h"

namespace juniper::render_formats {

namespace {

constexpr std::size_t bar_width = 12;
constexpr std::size_t readable = 30;  // a text is not made narrower while there are columns that give way
constexpr std::size_t narrowest = 14;
constexpr std::size_t narrowest_line = 2;  // that can be folded
constexpr std::size_t depth_indent = 2;    // for each level of depth
constexpr std::size_t most_lines = 12;

std::size_t width_of_cell(std::string_view text) {
  return base::width_of(base::one_line(text));
}

std::size_t longest_word(const std::string& text) {
  std::size_t longest = 0;
  for (std::size_t begin = 0; begin < text.size();) {
    const std::size_t end = std::min(text.find(' ', begin), text.size());
    longest = std::max(longest, width_of_cell(std::string_view(text).substr(begin, end - begin)));
    begin = end + 1;
  }
  return longest;
}

// From nothing to the whole width, in eighths of a character.
std::string bar(double part) {
  static constexpr std::array<std::string_view, 8> eighths{"", "▏", "▎", "▍", "▌", "▋", "▊", "▉"};
  const auto units = static_cast<std::size_t>(std::llround(std::clamp(part, 0.0, 1.0) * bar_width * 8));
  std::string drawn;
  for (std::size_t i = 0; i < units / 8; ++i) drawn += "█";
  drawn += eighths[units % 8];
  return drawn;
}

// A ratio around 1: what is more grows to the right of the middle, what is less to its left; half and double fill it.
std::string balance(double ratio) {
  constexpr int half = static_cast<int>(bar_width) / 2;
  const double steps = ratio > 0 ? std::clamp(std::log2(ratio), -1.0, 1.0) * half : -half;
  const auto filled = static_cast<int>(std::lround(std::abs(steps)));
  std::string drawn;
  for (int i = -half; i < half; ++i) {
    if (i == 0) drawn += "│";
    const bool inside = steps < 0 ? i >= -filled && i < 0 : i >= 0 && i < filled;
    drawn += inside ? "█" : " ";
  }
  return drawn;
}

}  // namespace

std::vector<std::string> Slot::heading_lines() const {
  if (is_bar) return is_ratio ? std::vector<std::string>{"  less│more"} : std::vector<std::string>{};
  const std::string text = base::one_line(column->heading);
  return width < narrowest_line ? std::vector<std::string>{text} : base::folded(text, width);
}

Columns::Columns(const Table& table) {
  for (std::size_t i = 0; i < table.columns.size(); ++i) {
    const TableColumn& column = table.columns[i];
    if (!seen(column, Audience::people)) continue;
    slots_.push_back({&column, i});
    if (column.is_compared) slots_.push_back({&column, i, true});
  }
}

void Columns::measure(const TableRow& row) {
  if (row.audience == Audience::programs) return;
  for (std::size_t s = 0; s < slots_.size(); ++s) {
    Slot& slot = slots_[s];
    const Cell& cell = row.cells[slot.index];
    if (slot.is_bar) {
      slot.is_ratio = slot.is_ratio || cell.kind == Cell::Kind::ratio;
      slot.widest = bar_width + (slot.is_ratio ? 1 : 0);
      if (!row.strong) greatest_ = std::max(greatest_, figure_of(cell));
      continue;
    }
    slot.holds_text = slot.holds_text || !(is_number(cell.kind) || cell.kind == Cell::Kind::null);
    slot.widest = std::max(slot.widest, width_of_cell(cell.shown) + (s == 0 ? depth_indent * row.depth : 0));
  }
}

std::size_t Columns::total() const {
  std::size_t sum = slots_.empty() ? 0 : 2 * (slots_.size() - 1);
  for (const Slot& slot : slots_) sum += slot.width;
  return sum;
}

void Columns::leave_out(std::size_t slot, std::vector<std::string>& left_out) {
  const TableColumn& column = *slots_[slot].column;
  if (!slots_[slot].is_bar) left_out.push_back(base::one_line(column.heading.empty() ? column.name : column.heading));
  slots_.erase(slots_.begin() + static_cast<std::ptrdiff_t>(slot));
}

void Columns::narrow_texts(std::size_t width) {
  while (total() > width) {
    Slot* widest = nullptr;
    for (Slot& slot : slots_) {
      if (slot.holds_text && slot.width > narrowest && (widest == nullptr || slot.width > widest->width))
        widest = &slot;
    }
    if (widest == nullptr) return;
    --widest->width;
  }
}

std::vector<std::string> Columns::fit(std::size_t width) {
  for (Slot& slot : slots_)
    slot.width = slot.is_bar ? slot.widest : std::max(slot.widest, width_of_cell(slot.column->heading));
  std::vector<std::string> left_out;
  if (width == 0 || total() <= width) return left_out;
  const auto narrow_headings = [&] {
    for (Slot& slot : slots_) {
      if (!slot.is_bar) slot.width = std::max({slot.widest, longest_word(slot.column->heading), narrowest_line});
    }
  };
  narrow_headings();
  // As long as texts would not be readable: bars, then what gives way.
  const auto readable_total = [&] {
    std::size_t sum = total();
    for (const Slot& slot : slots_) sum -= slot.holds_text && slot.width > readable ? slot.width - readable : 0;
    return sum;
  };
  while (readable_total() > width) {
    const auto first = std::max_element(slots_.begin(), slots_.end(), [](const Slot& a, const Slot& b) {
      const auto rank = [](const Slot& slot) { return slot.is_bar ? 256 : int{slot.column->gives_way}; };
      return rank(a) < rank(b);
    });
    if (!first->is_bar && first->column->gives_way == 0) break;
    leave_out(static_cast<std::size_t>(first - slots_.begin()), left_out);
  }
  narrow_texts(width);
  while (total() > width && slots_.size() > 1) {
    leave_out(slots_.size() - 1, left_out);
    narrow_headings();
    narrow_texts(width);
  }
  if (total() > width) slots_.front().width = std::max(width, narrowest_line);
  return left_out;
}

std::vector<std::string> Columns::cell_lines(const Slot& slot, const TableRow& row) const {
  const Cell& cell = row.cells[slot.index];
  if (slot.is_bar) {
    if (row.strong && cell.kind != Cell::Kind::ratio) return {};
    if (cell.kind == Cell::Kind::null) return {};
    return {cell.kind == Cell::Kind::ratio ? balance(figure_of(cell))
                                           : bar(greatest_ > 0 ? figure_of(cell) / greatest_ : 0)};
  }
  const bool is_first = &slot == slots_.data();
  const std::size_t depth = is_first ? depth_indent * row.depth : 0;
  const std::string text = base::one_line(cell.shown);
  if (depth + base::width_of(text) <= slot.width) return {std::string(depth, ' ') + text};
  const std::size_t margin = std::min(depth, slot.width / 2);
  const std::size_t room = slot.width - margin;
  if (room < narrowest_line) return {base::clipped(text, slot.width)};
  std::vector<std::string> lines =
      slot.holds_text ? base::folded(text, room) : std::vector<std::string>{base::clipped(text, room)};
  if (lines.size() > most_lines) {
    lines.resize(most_lines);
    lines.back() = base::clipped(lines.back() + " …", room);
  }
  for (std::string& line : lines) line.insert(0, margin, ' ');
  return lines;
}

}  // namespace juniper::render_formats
