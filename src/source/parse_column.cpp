#include "source/parse_column.h"

#include <utf8.h>

#include <array>
#include <cstring>
#include <optional>

#include "base/calendar.h"
#include "base/exact.h"

namespace juniper::source {

namespace {

// Each quick parser below takes the common form of its type and leaves everything else to parse_value, which alone says
// what is allowed.

constexpr std::array<std::int64_t, 19> powers_of_ten = [] {
  std::array<std::int64_t, 19> powers{1};
  for (std::size_t i = 1; i < powers.size(); ++i) powers[i] = powers[i - 1] * 10;
  return powers;
}();

// Digits, with a minus before and a point between, that fit 18 digits at the scale.
bool quick_exact(std::string_view text, unsigned scale, std::int64_t& value) {
  const char* at = text.data();
  const char* const end = at + text.size();
  const bool negative = at != end && *at == '-';
  if (negative) ++at;
  std::int64_t number = 0;
  const char* const digits = at;
  const char* point = nullptr;
  if (end - at == 0 || end - at > 18) return false;
  for (; at != end; ++at) {
    const auto digit = static_cast<unsigned>(*at - '0');
    if (digit > 9) {
      if (*at != '.' || point != nullptr) return false;
      point = at;
      continue;
    }
    number = number * 10 + digit;
  }
  const auto behind = static_cast<unsigned>(point == nullptr ? 0 : end - point - 1);
  const auto count = static_cast<unsigned>(end - digits) - (point == nullptr ? 0 : 1);
  // "1." and ".5" and more digits than the scale are for the other parser to judge.
  if (behind > scale || (point != nullptr && (behind == 0 || point == digits))) return false;
  const unsigned missing = scale - behind;
  if (count + missing > 18) return false;
  number *= powers_of_ten[missing];
  value = negative ? -number : number;
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
    if (text.size() != last_.size()) return false;
    if (std::memcmp(text.data(), last_.data(), last_.size()) != 0) {
      if (!quick_date(text.data(), days_)) {
        last_[0] = 0;
        return false;
      }
      std::memcpy(last_.data(), text.data(), last_.size());
    }
    days = days_;
    return true;
  }

 private:
  std::array<char, 10> last_{};
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

template <class Quick>
void parse_exact(const CsvRecords& records, std::size_t position, Type type, std::size_t number, PieceValues& values,
                 std::vector<BadCell>& bad, Quick quick) {
  std::string scratch;
  for (std::uint32_t row = 0; row < records.rows(); ++row) {
    const Field& field = records.field(row, position);
    std::int64_t value = 0;
    if (field.is_null()) {
      values.is_null[row] = 1;
    } else if (const std::string_view raw = records.raw(field); !quick(raw, value)) {
      const auto parsed = parse_value(records.text(field, scratch), type);
      if (parsed && base::fits_int64(parsed->exact())) {
        value = static_cast<std::int64_t>(parsed->exact());
      } else {
        bad.push_back({row, number, Misfit::type});
      }
    }
    values.exact[row] = value;
  }
}

void parse_real(const CsvRecords& records, std::size_t position, std::size_t number, PieceValues& values,
                std::vector<BadCell>& bad) {
  std::string scratch;
  for (std::uint32_t row = 0; row < records.rows(); ++row) {
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
  for (std::uint32_t row = 0; row < records.rows(); ++row) {
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

}  // namespace

void parse_column(const CsvRecords& records, std::size_t position, Type type, std::size_t number, PieceValues& values,
                  std::deque<std::string>& unquoted, std::vector<BadCell>& bad) {
  values.clear();
  values.is_null.resize(records.rows(), 0);
  if (type.kind == TypeKind::text) return parse_text(records, position, number, values, unquoted, bad);
  if (type.kind == TypeKind::real) return parse_real(records, position, number, values, bad);
  values.exact.resize(records.rows());
  const auto with = [&](auto quick) { parse_exact(records, position, type, number, values, bad, quick); };
  switch (type.kind) {
    case TypeKind::integer:
    case TypeKind::decimal:
      return with([&](std::string_view text, std::int64_t& value) { return quick_exact(text, type.scale, value); });
    case TypeKind::date:
      return with([parser = DateParser()](std::string_view text, std::int64_t& value) mutable {
        return parser.parse(text, value);
      });
    case TypeKind::datetime:
      return with([parser = DateParser()](std::string_view text, std::int64_t& value) mutable {
        std::int64_t days = 0;
        if (text.size() != 19 || (text[10] != ' ' && text[10] != 'T') || !parser.parse(text.substr(0, 10), days) ||
            !quick_time(text.data() + 11, value))
          return false;
        value += days * base::microseconds_per_day;
        return true;
      });
    default:
      return with([](std::string_view, std::int64_t&) { return false; });
  }
}

}  // namespace juniper::source
