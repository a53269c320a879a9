#include "source/csv/parse_column.h"

#include <utf8.h>

#include <array>
#include <cstring>
#include <optional>

#include "base/calendar.h"
#include "base/exact.h"
#include "source/cell.h"
#include "source/spelling.h"

namespace juniper::source {

namespace {

// Each quick parser below takes the common form of its type and leaves everything else to parse_value, which alone says
// what is allowed.

constexpr std::array<std::int64_t, 19> powers_of_ten = [] {
  std::array<std::int64_t, 19> powers{1};
  for (std::size_t i = 1; i < powers.size(); ++i) powers[i] = powers[i - 1] * 10;
  return powers;
}();

std::uint64_t word_at(const char* at) {
  std::uint64_t word = 0;
  std::memcpy(&word, at, sizeof(word));
  return word;
}

// The first `count` bytes of a word, one to eight, as the digits of a number: all at once.
[[gnu::always_inline]] inline bool eight_digits(std::uint64_t word, std::size_t count, std::uint64_t& number) {
  constexpr std::uint64_t zeros = 0x3030'3030'3030'3030;
  const auto missing = static_cast<unsigned>(8 * (8 - count));
  word = word << missing | (zeros >> 1 >> (63 - missing));  // in two steps, as a shift by 64 is none
  constexpr std::uint64_t high_halves = 0xF0F0'F0F0'F0F0'F0F0;
  const std::uint64_t beyond_nine = word + 0x0606'0606'0606'0606;
  if ((word & high_halves) != zeros || (beyond_nine & high_halves) != zeros) return false;
  // Neighbours become pairs, pairs fours, fours the number.
  word -= zeros;
  word = word * 10 + (word >> 8);
  constexpr std::uint64_t pair = 0x0000'00FF'0000'00FF;
  constexpr std::uint64_t high_weights = 100 + (std::uint64_t{1'000'000} << 32);
  constexpr std::uint64_t low_weights = 1 + (std::uint64_t{10'000} << 32);
  number = ((word & pair) * high_weights + (word >> 16 & pair) * low_weights) >> 32;
  return true;
}

// One to sixteen digits; eight bytes from `at` on must be readable.
[[gnu::always_inline]] inline bool digits(const char* at, std::size_t count, std::uint64_t& number) {
  if (count - 1 < 8) return eight_digits(word_at(at), count, number);
  std::uint64_t high = 0;
  std::uint64_t low = 0;
  if (count - 1 > 15 || !eight_digits(word_at(at), count - 8, high) || !eight_digits(word_at(at + count - 8), 8, low))
    return false;
  number = high * 100'000'000 + low;
  return true;
}

// Digits, a minus before them or not.
[[gnu::always_inline]] inline bool quick_integer(std::string_view text, std::int64_t& value) {
  const bool negative = text.front() == '-';
  std::uint64_t number = 0;
  if (!digits(text.data() + (negative ? 1 : 0), text.size() - (negative ? 1 : 0), number)) return false;
  value = negative ? -static_cast<std::int64_t>(number) : static_cast<std::int64_t>(number);
  return true;
}

// The same with a point where the scale, which is not 0, has it, or with none.
[[gnu::always_inline]] inline bool quick_decimal(std::string_view text, unsigned scale, std::int64_t& value) {
  const bool negative = text.front() == '-';
  text.remove_prefix(negative ? 1 : 0);
  std::uint64_t number = 0;
  if (text.size() < scale + 2 || text[text.size() - scale - 1] != '.') {
    if (text.size() + scale > 18 || !digits(text.data(), text.size(), number)) return false;
    number *= static_cast<std::uint64_t>(powers_of_ten[scale]);
  } else if (const std::size_t before = text.size() - scale - 1; text.size() <= 8) {
    // The point is taken out of the word.
    const std::uint64_t word = word_at(text.data());
    const std::uint64_t low = (std::uint64_t{1} << 8 * before) - 1;
    if (!eight_digits((word & low) | (word >> 8 & ~low), before + scale, number)) return false;
  } else {
    std::uint64_t part = 0;
    if (before + scale > 18 || !digits(text.data(), before, number) || !digits(text.data() + before + 1, scale, part))
      return false;
    number = number * static_cast<std::uint64_t>(powers_of_ten[scale]) + part;
  }
  value = negative ? -static_cast<std::int64_t>(number) : static_cast<std::int64_t>(number);
  return true;
}

// Two digits as a number; 100 or more for anything else.
unsigned two_digits(const char* at) {
  const auto high = static_cast<unsigned>(at[0] - '0');
  const auto low = static_cast<unsigned>(at[1] - '0');
  return high > 9 || low > 9 ? 100 : high * 10 + low;
}

// "2025-03-01", of a day that every month has.
bool quick_date(const char* at, std::int64_t& days) {
  const unsigned century = two_digits(at);
  const unsigned year = two_digits(at + 2);
  const unsigned month = two_digits(at + 5);
  const unsigned day = two_digits(at + 8);
  if (at[4] != '-' || at[7] != '-' || century > 99 || year > 99 || century + year == 0) return false;
  if (month - 1 > 11 || day - 1 > 27) return false;
  days = base::days_from_civil(static_cast<int>(century * 100 + year), month, day);
  return true;
}

// Dates of neighbouring rows are often the same.
class DateParser {
 public:
  bool parse(std::string_view text, std::int64_t& days) {
    if (text.size() != 10) return false;
    std::uint64_t head = 0;
    std::uint16_t tail = 0;
    std::memcpy(&head, text.data(), sizeof(head));
    std::memcpy(&tail, text.data() + sizeof(head), sizeof(tail));
    if (head != head_ || tail != tail_) {
      if (!quick_date(text.data(), days_)) return false;
      head_ = head;
      tail_ = tail;
    }
    days = days_;
    return true;
  }

 private:
  std::uint64_t head_ = 0;  // of the last text: its first eight bytes, and its last two
  std::uint16_t tail_ = 0;
  std::int64_t days_ = 0;
};

// "08:30:00"
bool quick_time(const char* at, std::int64_t& microseconds) {
  const unsigned hour = two_digits(at);
  const unsigned minute = two_digits(at + 3);
  const unsigned second = two_digits(at + 6);
  if (at[2] != ':' || at[5] != ':' || hour > 23 || minute > 59 || second > 59) return false;
  microseconds = (std::int64_t{hour} * 3600 + minute * 60 + second) * 1'000'000;
  return true;
}

// "2025-03-01 08:30:00", or the same with up to six digits of a second, as a date and a time of day.
class DatetimeParser {
 public:
  bool parse(std::string_view text, std::int64_t& days, std::int64_t& microseconds) {
    constexpr std::size_t whole = 19;
    const std::size_t digits_behind = text.size() > whole ? text.size() - whole - 1 : 0;
    if (text.size() < whole || text.size() == whole + 1 || digits_behind > 6 || (text[10] != ' ' && text[10] != 'T') ||
        !date_.parse(text.substr(0, 10), days) || !quick_time(text.data() + 11, microseconds))
      return false;
    if (text.size() == whole) return true;
    std::uint64_t part = 0;
    if (text[whole] != '.' || !digits(text.data() + whole + 1, digits_behind, part)) return false;
    microseconds += static_cast<std::int64_t>(part) * powers_of_ten[6 - digits_behind];
    return true;
  }

 private:
  DateParser date_;
};

template <class Quick>
void parse_exact(const CsvRecords& records, std::size_t position, Type type, base::FieldPart part, std::size_t number,
                 PieceValues& values, std::vector<BadCell>& bad, Quick quick) {
  std::string scratch;
  const auto rows = static_cast<std::uint32_t>(records.rows());
  for (std::uint32_t row = 0; row < rows; ++row) {
    const Field& field = records.field(row, position);
    std::int64_t value = 0;
    if (field.is_null()) {
      values.is_null[row] = 1;
    } else if (const std::string_view raw = records.raw(field); !quick(raw, value)) {
      const auto parsed = parse_cell(records.text(field, scratch), type, part);
      if (!parsed) bad.push_back({row, number, Misfit::type});
      value = parsed.value_or(0);
    }
    values.exact[row] = value;
  }
}

void parse_real(const CsvRecords& records, std::size_t position, std::size_t number, PieceValues& values,
                std::vector<BadCell>& bad) {
  std::string scratch;
  const auto rows = static_cast<std::uint32_t>(records.rows());
  for (std::uint32_t row = 0; row < rows; ++row) {
    const Field& field = records.field(row, position);
    if (field.is_null()) {
      values.is_null[row] = 1;
      values.real.push_back(0);
      continue;
    }
    const auto value = parse_value(records.text(field, scratch), {TypeKind::real, 0});
    if (!value) bad.push_back({row, number, Misfit::type});
    values.real.push_back(value ? value->real() : 0);
  }
}

void parse_text(const CsvRecords& records, std::size_t position, std::size_t number, PieceValues& values,
                std::deque<std::string>& unquoted, std::vector<BadCell>& bad) {
  std::string scratch;
  const auto rows = static_cast<std::uint32_t>(records.rows());
  values.text.reserve(rows);
  for (std::uint32_t row = 0; row < rows; ++row) {
    const Field& field = records.field(row, position);
    if (field.is_null()) {
      values.is_null[row] = 1;
      values.text.emplace_back();
      continue;
    }
    std::string_view text = records.raw(field);
    if (field.doubled != 0) text = unquoted.emplace_back(records.text(field, scratch));
    if (!records.is_ascii() && !utf8::is_valid(text.begin(), text.end())) bad.push_back({row, number, Misfit::utf8});
    values.text.push_back(text);
  }
}

// Of a source that spells its fields in its own way.
void parse_spelled(const CsvRecords& records, std::size_t position, Type type, base::FieldPart part,
                   const base::Spelling& spelling, std::size_t number, PieceValues& values,
                   std::deque<std::string>& unquoted, std::vector<BadCell>& bad) {
  std::string scratch;
  const auto rows = static_cast<std::uint32_t>(records.rows());
  values.exact.clear();
  for (std::uint32_t row = 0; row < rows; ++row) {
    const Field& field = records.field(row, position);
    const std::string_view text = records.text(field, scratch);
    const bool is_null = field.is_null() || is_null_word(text, field.quoted != 0, spelling);
    values.is_null[row] = is_null ? 1 : 0;
    if (type.kind == TypeKind::text) {
      if (!is_null && !utf8::is_valid(text.begin(), text.end())) bad.push_back({row, number, Misfit::utf8});
      values.text.push_back(is_null ? std::string_view() : unquoted.emplace_back(text));
      continue;
    }
    const auto here = is_null ? std::nullopt : respelled(text, type, part, spelling);
    bool fits = is_null;
    if (type.kind == TypeKind::real) {
      const auto value = here ? parse_value(*here, type) : std::nullopt;
      fits = fits || value.has_value();
      values.real.push_back(value && !value->is_null() ? value->real() : 0);
    } else {
      const auto value = here ? parse_cell(*here, type, part) : std::nullopt;
      fits = fits || value.has_value();
      values.exact.push_back(value.value_or(0));
    }
    if (!fits) bad.push_back({row, number, Misfit::type});
  }
}

}  // namespace

void parse_column(const CsvRecords& records, std::size_t position, Type type, base::FieldPart part,
                  const base::Spelling& spelling, std::size_t number, PieceValues& values,
                  std::deque<std::string>& unquoted, std::vector<BadCell>& bad) {
  values.real.clear();
  values.text.clear();
  values.is_null.assign(records.rows(), 0);
  if (!spelling.is_plain())
    return parse_spelled(records, position, type, part, spelling, number, values, unquoted, bad);
  if (type.kind == TypeKind::text) return parse_text(records, position, number, values, unquoted, bad);
  if (type.kind == TypeKind::real) return parse_real(records, position, number, values, bad);
  values.exact.resize(records.rows());  // every one is written below: those of the column before may stay until then
  const auto with = [&](auto quick) { parse_exact(records, position, type, part, number, values, bad, quick); };
  switch (part) {
    case base::FieldPart::date:
      return with([parser = DatetimeParser()](std::string_view text, std::int64_t& value) mutable {
        std::int64_t time = 0;
        return parser.parse(text, value, time);
      });
    case base::FieldPart::time:
      return with([parser = DatetimeParser()](std::string_view text, std::int64_t& value) mutable {
        std::int64_t days = 0;
        return parser.parse(text, days, value);
      });
    case base::FieldPart::round:
      return with([](std::string_view, std::int64_t&) { return false; });
    case base::FieldPart::whole:
      break;
  }
  switch (type.kind) {
    case TypeKind::integer:
      return with([](std::string_view text, std::int64_t& value) { return quick_integer(text, value); });
    case TypeKind::decimal:
      if (type.scale == 0)
        return with([](std::string_view text, std::int64_t& value) { return quick_integer(text, value); });
      return with([&](std::string_view text, std::int64_t& value) { return quick_decimal(text, type.scale, value); });
    case TypeKind::date:
      return with([parser = DateParser()](std::string_view text, std::int64_t& value) mutable {
        return parser.parse(text, value);
      });
    case TypeKind::datetime:
      return with([parser = DatetimeParser()](std::string_view text, std::int64_t& value) mutable {
        std::int64_t days = 0;
        if (!parser.parse(text, days, value)) return false;
        value += days * base::microseconds_per_day;
        return true;
      });
    case TypeKind::boolean:
    case TypeKind::real:
    case TypeKind::text:
    case TypeKind::time:
      return with([](std::string_view, std::int64_t&) { return false; });
  }
}

}  // namespace juniper::source
