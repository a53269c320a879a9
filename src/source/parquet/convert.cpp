#include "source/parquet/convert.h"

#include <utf8.h>

#include <algorithm>
#include <cmath>
#include <cstring>
#include <optional>

#include "base/calendar.h"
#include "base/exact.h"
#include "source/cell.h"

namespace juniper::source::parquet {

namespace {

using State = Values::State;

bool is_whole(Type type) {
  return type.kind == TypeKind::integer || type.kind == TypeKind::decimal;
}

// The scale of whole numbers and decimals.
int scale_of(Type type) {
  return type.kind == TypeKind::decimal ? type.scale : 0;
}

// How a value becomes one of another type: at once, not at all, or by the text that it is.
enum class Way : std::uint8_t { fits, does_not_fit, as_text };

Way exact_to_exact(std::int64_t value, Type from, Type to, base::FieldPart part, std::int64_t& out) {
  out = value;
  if (part == base::FieldPart::date || part == base::FieldPart::time) {
    if (from.kind != TypeKind::datetime) return Way::as_text;
    const std::int64_t days = base::floor_divide(value, base::microseconds_per_day);
    out = part == base::FieldPart::date ? days : value - days * base::microseconds_per_day;
    return Way::fits;
  }
  if (!is_whole(from) || !is_whole(to)) return from.kind == to.kind ? Way::fits : Way::as_text;
  const int more = scale_of(to) - scale_of(from);
  if (more >= 0) {
    const int128 scaled = int128{value} * base::power_of_ten(more);
    if (!base::fits_int64(scaled)) return Way::does_not_fit;
    out = static_cast<std::int64_t>(scaled);
    return Way::fits;
  }
  const int128 step = base::power_of_ten(-more);
  if (part == base::FieldPart::round) {
    out = static_cast<std::int64_t>(base::divide_rounded(int128{value}, step));
    return Way::fits;
  }
  out = static_cast<std::int64_t>(value / step);
  return value % step == 0 ? Way::fits : Way::does_not_fit;
}

// The nearest double; exact up to 2^53, where one division rounds once.
std::optional<double> exact_to_real(std::int64_t value, Type from) {
  constexpr std::int64_t most = std::int64_t{1} << 53;
  if (!is_whole(from) || value > most || value < -most) return std::nullopt;
  return static_cast<double>(value) / static_cast<double>(base::power_of_ten(scale_of(from)));
}

// The decimal of so many digits behind the point that a real is written as; false where that is not sure. Two decimals
// of at most 15 digits are never the same double: so one that gives the double back is what its shortest text says.
bool real_to_exact(double value, int scale, std::int64_t& out) {
  constexpr double most = 1e15;
  const double power = static_cast<double>(base::power_of_ten(scale));
  const double units = std::round(value * power);
  if (!(std::abs(units) < most) || units / power != value) return false;
  out = static_cast<std::int64_t>(units);
  return true;
}

bool is_utf8(std::string_view text) {
  std::uint64_t all = 0;
  std::size_t at = 0;
  for (; at + sizeof(all) <= text.size(); at += sizeof(all)) {
    std::uint64_t word = 0;
    std::memcpy(&word, text.data() + at, sizeof(word));
    all |= word;
  }
  for (; at < text.size(); ++at) all |= static_cast<unsigned char>(text[at]);
  constexpr std::uint64_t beyond_ascii = 0x8080'8080'8080'8080;
  return (all & beyond_ascii) == 0 || utf8::is_valid(text.begin(), text.end());
}

Value value_at(const Values& values, Type type, std::size_t at) {
  if (type.kind == TypeKind::text) return Value::of(std::string(values.text[at]));
  if (type.kind == TypeKind::real) return Value::of(values.real[at]);
  return Value::of(static_cast<int128>(values.exact[at]));
}

class Conversion {
 public:
  Conversion(const Values& values, Type from, const ColumnRequest& column, const std::vector<std::string>& nulls,
             PieceValues& out, std::deque<std::string>& texts, std::vector<BadValue>& bad)
      : values_(values), from_(from), column_(column), nulls_(nulls), out_(out), texts_(texts), bad_(bad) {}

  void run() {
    const std::size_t rows = values_.size();
    out_.clear();
    out_.is_null.resize(rows);
    bool all_fit = true;
    for (std::size_t row = 0; row < rows; ++row) {
      out_.is_null[row] = values_.state[row] == State::null ? 1 : 0;
      all_fit = all_fit && values_.state[row] != State::beyond;
    }
    if (all_fit && is_same()) {
      out_.exact = values_.exact;
      return;
    }
    for (std::size_t row = 0; row < rows; ++row) {
      if (values_.state[row] == State::null) {
        add_any();
      } else if (values_.state[row] == State::beyond) {
        fail(row, "a value beyond the 64 bits, microseconds or years that there are here");
        add_any();
      } else if (is_word_for_null(row)) {
        out_.is_null[row] = 1;
        add_any();
      } else {
        add(row);
      }
    }
  }

 private:
  // Of texts, and of reals that are no numbers.
  bool is_word_for_null(std::size_t row) const {
    if (nulls_.empty()) return false;
    if (from_.kind == TypeKind::real && !std::isnan(values_.real[row])) return false;
    if (from_.kind != TypeKind::real && from_.kind != TypeKind::text) return false;
    const std::string text = from_.kind == TypeKind::real ? "NaN" : std::string(values_.text[row]);
    return std::find(nulls_.begin(), nulls_.end(), text) != nulls_.end();
  }

  // Exact values that stand in the file as they do here.
  bool is_same() const {
    const bool exact = from_.kind != TypeKind::text && from_.kind != TypeKind::real;
    return exact && from_ == column_.type &&
           (column_.part == base::FieldPart::whole || column_.part == base::FieldPart::round);
  }

  void add_any() {
    if (column_.type.kind == TypeKind::text) {
      out_.text.emplace_back();
    } else if (column_.type.kind == TypeKind::real) {
      out_.real.push_back(0);
    } else {
      out_.exact.push_back(0);
    }
  }

  void fail(std::size_t row, std::string found, bool is_no_text = false) {
    const bool is_nan = from_.kind == TypeKind::real && std::isnan(values_.real[row]);
    bad_.push_back({static_cast<std::uint32_t>(row), std::move(found), is_nan, is_no_text});
  }

  void add(std::size_t row) {
    const Type to = column_.type;
    if (from_.kind == TypeKind::text && to.kind == TypeKind::text) {
      const std::string_view text = values_.text[row];
      if (!is_utf8(text)) fail(row, quoted_value(text), true);
      out_.text.push_back(text);
      return;
    }
    if (to.kind == TypeKind::real) {
      std::optional<double> real;
      if (from_.kind == TypeKind::real) {
        real = values_.real[row];
      } else if (from_.kind != TypeKind::text) {
        real = exact_to_real(values_.exact[row], from_);
      }
      if (!real) {
        const auto parsed = parse_value(text_of(values_, from_, row), to);
        if (parsed && !parsed->is_null()) real = parsed->real();
      }
      if (!real || !std::isfinite(*real)) fail(row, quoted_value(text_of(values_, from_, row)));
      out_.real.push_back(real.value_or(0));
      return;
    }
    if (to.kind == TypeKind::text) {
      out_.text.push_back(texts_.emplace_back(text_of(values_, from_, row)));
      return;
    }
    std::int64_t exact = 0;
    Way way = Way::as_text;
    if (from_.kind == TypeKind::real) {
      if (is_whole(to) && column_.part == base::FieldPart::whole)
        way = real_to_exact(values_.real[row], scale_of(to), exact) ? Way::fits : Way::as_text;
    } else if (from_.kind != TypeKind::text) {
      way = exact_to_exact(values_.exact[row], from_, to, column_.part, exact);
    }
    if (way == Way::as_text) {
      const auto parsed = parse_cell(text_of(values_, from_, row), to, column_.part);
      way = parsed ? Way::fits : Way::does_not_fit;
      exact = parsed.value_or(0);
    }
    if (way == Way::does_not_fit) fail(row, quoted_value(text_of(values_, from_, row)));
    out_.exact.push_back(exact);
  }

  const Values& values_;
  Type from_;
  const ColumnRequest& column_;
  const std::vector<std::string>& nulls_;
  PieceValues& out_;
  std::deque<std::string>& texts_;
  std::vector<BadValue>& bad_;
};

}  // namespace

std::string text_of(const Values& values, Type type, std::size_t at) {
  if (values.state[at] != State::value) return "";
  if (type.kind == TypeKind::text) return std::string(values.text[at]);
  return to_text(value_at(values, type, at), type);
}

void convert(const Values& values, Type from, const ColumnRequest& column, const std::vector<std::string>& nulls,
             PieceValues& out, std::deque<std::string>& texts, std::vector<BadValue>& bad) {
  Conversion(values, from, column, nulls, out, texts, bad).run();
}

}  // namespace juniper::source::parquet
