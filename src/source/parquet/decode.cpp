#include "source/parquet/decode.h"

#include <fmt/format.h>

#include <algorithm>
#include <bit>
#include <cmath>
#include <cstring>
#include <limits>

#include "base/calendar.h"
#include "base/diagnostics.h"
#include "base/exact.h"
#include "base/failure.h"
#include "source/parquet/bytes.h"

namespace juniper::source::parquet {

namespace {

using State = Values::State;

// What is wrong with the bytes of a page; told with its place by the reader.
struct Damage {
  std::string what;
};

// Bytes that are taken from their begin.
class Bytes {
 public:
  explicit Bytes(std::string_view bytes) : rest_(bytes) {}
  std::size_t size() const { return rest_.size(); }
  std::string_view take(std::size_t count) {
    if (count > rest_.size()) throw Damage{"it ends within a value"};
    const std::string_view taken = rest_.substr(0, count);
    rest_.remove_prefix(count);
    return taken;
  }
  std::string_view rest() const { return rest_; }
  template <class Number>
  Number number() {
    return number_at<Number>(take(sizeof(Number)), 0);
  }
  std::uint64_t varint() {
    std::uint64_t number = 0;
    for (unsigned shift = 0; shift < 64; shift += 7) {
      const auto byte = static_cast<unsigned char>(take(1)[0]);
      number |= std::uint64_t{byte & 127U} << shift;
      if ((byte & 128U) == 0) return number;
    }
    throw Damage{"a number in it is too long"};
  }
  std::int64_t zigzag() {
    const std::uint64_t number = varint();
    return static_cast<std::int64_t>(number >> 1 ^ (~(number & 1) + 1));
  }

 private:
  std::string_view rest_;
};

// `count` numbers of `width` bits each, the lowest bits first, given to take(number).
template <class Take>
void unpack_bits(std::string_view bytes, unsigned width, std::size_t count, const Take& take) {
  std::size_t bit = 0;
  for (std::size_t i = 0; i < count; ++i, bit += width) {
    std::uint64_t number = 0;
    for (unsigned got = 0; got < width;) {
      const std::size_t at = (bit + got) / 8;
      const auto offset = static_cast<unsigned>((bit + got) % 8);
      const unsigned here = std::min(8 - offset, width - got);
      const std::uint64_t part = static_cast<unsigned char>(bytes[at]) >> offset & ((1U << here) - 1);
      number |= part << got;
      got += here;
    }
    take(number);
  }
}

// Runs of one number and runs of packed ones in turn, until there are `count`: gives take(number, times).
template <class Take>
void read_runs(Bytes& bytes, unsigned width, std::size_t count, const Take& take) {
  const std::size_t run_bytes = (width + 7) / 8;
  while (count > 0) {
    const std::uint64_t head = bytes.varint();
    if ((head & 1) == 0) {
      const std::size_t length = std::min<std::uint64_t>(head >> 1, count);
      std::uint64_t number = 0;
      const std::string_view value = bytes.take(run_bytes);
      std::memcpy(&number, value.data(), value.size());
      take(number, length);
      count -= length;
    } else {
      const std::uint64_t groups = head >> 1;  // of eight
      const std::size_t length = groups > count / 8 ? count : static_cast<std::size_t>(groups) * 8;
      // The last run may end with the values that there are.
      const std::size_t needed = (length * width + 7) / 8;
      const std::size_t whole = width == 0                      ? 0
                                : groups > bytes.size() / width ? bytes.size()
                                                                : static_cast<std::size_t>(groups) * width;
      unpack_bits(bytes.take(std::max(needed, whole)), width, length,
                  [&](std::uint64_t number) { take(number, std::size_t{1}); });
      count -= length;
    }
  }
}

// Numbers as distances from each other, in blocks of several widths (DELTA_BINARY_PACKED).
std::vector<std::int64_t> delta_numbers(Bytes& bytes, std::size_t most) {
  const std::uint64_t block = bytes.varint();
  const std::uint64_t parts = bytes.varint();
  const std::uint64_t count = bytes.varint();
  std::uint64_t value = static_cast<std::uint64_t>(bytes.zigzag());
  constexpr std::uint64_t largest_block = 1U << 20;
  if (parts == 0 || block == 0 || block > largest_block || block % parts != 0 || block / parts % 8 != 0)
    throw Damage{"its blocks have no size"};
  if (count > most) throw Damage{"it has more values than its head says"};
  std::vector<std::int64_t> numbers;
  numbers.reserve(count);
  if (count > 0) numbers.push_back(static_cast<std::int64_t>(value));
  const std::size_t part_values = block / parts;
  while (numbers.size() < count) {
    const auto least = static_cast<std::uint64_t>(bytes.zigzag());
    const std::string_view widths = bytes.take(parts);
    for (std::size_t p = 0; p < parts && numbers.size() < count; ++p) {
      const auto width = static_cast<unsigned char>(widths[p]);
      if (width > 64) throw Damage{"a number in it has more than 64 bits"};
      const std::size_t here = std::min<std::size_t>(part_values, count - numbers.size());
      // The last part may end with the values that there are.
      const std::size_t whole = part_values * width / 8;
      const std::size_t needed = (here * width + 7) / 8;
      const std::string_view packed = bytes.take(std::max(needed, std::min(whole, bytes.size())));
      unpack_bits(packed, width, here, [&](std::uint64_t distance) {
        value += least + distance;
        numbers.push_back(static_cast<std::int64_t>(value));
      });
    }
  }
  return numbers;
}

// Big-endian, two's complement; nothing if it is beyond 64 bits.
std::optional<std::int64_t> big_endian(std::string_view bytes) {
  if (bytes.empty()) return 0;
  const bool negative = (static_cast<unsigned char>(bytes[0]) & 128U) != 0;
  std::uint64_t number = negative ? ~std::uint64_t{0} : 0;
  for (std::size_t i = 0; i < bytes.size(); ++i) {
    const auto byte = static_cast<unsigned char>(bytes[i]);
    // What is shifted out must be nothing but the sign.
    if (i + 8 < bytes.size() && byte != (negative ? 255 : 0)) return std::nullopt;
    number = number << 8 | byte;
  }
  if ((static_cast<std::int64_t>(number) < 0) != negative) return std::nullopt;
  return static_cast<std::int64_t>(number);
}

double half_real(std::uint16_t bits) {
  const int sign = (bits & 0x8000U) != 0 ? -1 : 1;
  const int exponent = bits >> 10 & 31;
  const int fraction = bits & 1023;
  if (exponent == 31)
    return fraction == 0 ? sign * std::numeric_limits<double>::infinity() : std::numeric_limits<double>::quiet_NaN();
  if (exponent == 0) return sign * std::ldexp(fraction, -24);
  return sign * std::ldexp(1024 + fraction, exponent - 25);
}

std::string uuid_text(std::string_view bytes) {
  std::string text;
  for (std::size_t i = 0; i < bytes.size(); ++i)
    text +=
        fmt::format("{}{:02x}", i == 4 || i == 6 || i == 8 || i == 10 ? "-" : "", static_cast<unsigned char>(bytes[i]));
  return text;
}

std::size_t width_of(const SchemaElement& element) {
  switch (*element.type) {
    case Physical::int32:
    case Physical::real32:
      return 4;
    case Physical::int64:
    case Physical::real64:
      return 8;
    case Physical::int96:
      return 12;
    case Physical::fixed_bytes:
      return static_cast<std::size_t>(element.length);
    case Physical::boolean:
    case Physical::bytes:
      return 0;
  }
  return 0;
}

}  // namespace

void Values::clear() {
  exact.clear();
  real.clear();
  text.clear();
  state.clear();
}

ColumnReader::ColumnReader(const File& file, std::size_t group, const Leaf& leaf)
    : leaf_(leaf), pages_(file, group, leaf), rows_left_(static_cast<std::uint64_t>(file.data().groups[group].rows)) {}

std::string_view ColumnReader::own_copy(std::string text) {
  return keeping_->own.emplace_back(std::move(text));
}

// --- one value ------------------------------------------------------------------------------------------------------

// A whole number of 32 or 64 bits, as what it means.
void ColumnReader::add_number(std::int64_t number, Values& out) const {
  const SchemaElement& element = leaf_.element;
  State state = State::value;
  const auto scaled = [&](std::int64_t factor) {
    if (__builtin_mul_overflow(number, factor, &number)) state = State::beyond;
  };
  const auto to_microseconds = [&] {
    switch (element.unit) {
      case TimeUnit::milliseconds:
        return scaled(1000);
      case TimeUnit::microseconds:
        return;
      case TimeUnit::nanoseconds:
        if (number % 1000 != 0) state = State::beyond;
        number /= 1000;
        return;
    }
  };
  static const std::int64_t first_day = base::days_from_civil(base::first_year, 1, 1);
  static const std::int64_t last_day = base::days_from_civil(base::last_year, 12, 31);
  switch (element.meaning) {
    case Meaning::unsigned_number:
      if (*element.type == Physical::int32) {
        number = static_cast<std::int64_t>(static_cast<std::uint32_t>(number));
      } else if (number < 0) {
        state = State::beyond;
      }
      break;
    case Meaning::date:
      if (number < first_day || number > last_day) state = State::beyond;
      break;
    case Meaning::time:
      to_microseconds();
      if (number < 0 || number >= base::microseconds_per_day) state = State::beyond;
      break;
    case Meaning::moment:
      to_microseconds();
      if (number < first_day * base::microseconds_per_day || number >= (last_day + 1) * base::microseconds_per_day)
        state = State::beyond;
      break;
    case Meaning::none:
    case Meaning::text:
    case Meaning::decimal:
    case Meaning::signed_number:
    case Meaning::uuid:
    case Meaning::half_real:
    case Meaning::nothing:
    case Meaning::list:
    case Meaning::map:
    case Meaning::interval:
      break;
  }
  out.exact.push_back(number);
  out.state.push_back(state);
}

// Bytes of any length.
void ColumnReader::add_bytes(std::string_view bytes, Values& out) const {
  if (leaf_.element.meaning == Meaning::decimal) {
    const auto number = big_endian(bytes);
    out.exact.push_back(number.value_or(0));
    out.state.push_back(number ? State::value : State::beyond);
    return;
  }
  out.text.push_back(bytes);
  out.state.push_back(State::value);
}

// Nanoseconds of a day, then the Julian day.
void ColumnReader::add_int96(std::string_view bytes, Values& out) const {
  constexpr std::int64_t epoch = 2'440'588;
  const auto nanoseconds = number_at<std::int64_t>(bytes, 0);
  const std::int64_t day = std::int64_t{number_at<std::uint32_t>(bytes, 8)} - epoch;
  static const std::int64_t first_day = base::days_from_civil(base::first_year, 1, 1);
  static const std::int64_t last_day = base::days_from_civil(base::last_year, 12, 31);
  const bool holds = nanoseconds >= 0 && nanoseconds < base::microseconds_per_day * 1000 && nanoseconds % 1000 == 0 &&
                     day >= first_day && day <= last_day;
  out.exact.push_back(holds ? day * base::microseconds_per_day + nanoseconds / 1000 : 0);
  out.state.push_back(holds ? State::value : State::beyond);
}

void ColumnReader::add_fixed(std::string_view bytes, Values& out) const {
  switch (*leaf_.element.type) {
    case Physical::int32:
      return add_number(number_at<std::int32_t>(bytes, 0), out);
    case Physical::int64:
      return add_number(number_at<std::int64_t>(bytes, 0), out);
    case Physical::int96:
      return add_int96(bytes, out);
    case Physical::real32:
      out.real.push_back(static_cast<double>(number_at<float>(bytes, 0)));
      break;
    case Physical::real64:
      out.real.push_back(number_at<double>(bytes, 0));
      break;
    case Physical::fixed_bytes:
      if (leaf_.element.meaning == Meaning::half_real) {
        out.real.push_back(half_real(number_at<std::uint16_t>(bytes, 0)));
        break;
      }
      return add_bytes(bytes, out);
    case Physical::boolean:
    case Physical::bytes:
      return add_bytes(bytes, out);
  }
  out.state.push_back(State::value);
}

// --- many values ----------------------------------------------------------------------------------------------------

void ColumnReader::read_plain(std::string_view all, std::size_t count, Values& out) {
  Bytes bytes(all);
  switch (*leaf_.element.type) {
    case Physical::boolean:
      unpack_bits(bytes.take((count + 7) / 8), 1, count, [&](std::uint64_t bit) {
        out.exact.push_back(static_cast<std::int64_t>(bit));
        out.state.push_back(State::value);
      });
      return;
    case Physical::bytes:
      for (std::size_t i = 0; i < count; ++i) {
        const auto length = bytes.number<std::uint32_t>();
        add_bytes(bytes.take(length), out);
      }
      return;
    case Physical::int32:
    case Physical::int64:
    case Physical::int96:
    case Physical::real32:
    case Physical::real64:
    case Physical::fixed_bytes:
      break;
  }
  const std::size_t width = width_of(leaf_.element);
  if (count > bytes.size() / width) throw Damage{"it ends within a value"};
  const bool is_uuid = leaf_.element.meaning == Meaning::uuid;
  for (std::size_t i = 0; i < count; ++i) {
    const std::string_view value = all.substr(i * width, width);
    add_fixed(is_uuid ? own_copy(uuid_text(value)) : value, out);
  }
}

void ColumnReader::read_indices(std::string_view all, std::size_t count) {
  if (!dictionary_) throw Damage{"there is no dictionary before it"};
  Bytes bytes(all);
  if (count == 0) return;
  const auto width = static_cast<unsigned char>(bytes.take(1)[0]);
  if (width > 32) throw Damage{"its indices are wider than 32 bits"};
  const Values& dictionary = *dictionary_;
  const auto with = [&](const auto& from, auto& to) {
    to.reserve(count);
    page_values_.state.reserve(count);
    read_runs(bytes, width, count, [&](std::uint64_t index, std::size_t times) {
      if (index >= dictionary.size()) throw Damage{"an index in it leads out of the dictionary"};
      to.insert(to.end(), times, from[index]);
      page_values_.state.insert(page_values_.state.end(), times, dictionary.state[index]);
    });
  };
  if (leaf_.type.kind == TypeKind::text) {
    with(dictionary.text, page_values_.text);
  } else if (leaf_.type.kind == TypeKind::real) {
    with(dictionary.real, page_values_.real);
  } else {
    with(dictionary.exact, page_values_.exact);
  }
}

void ColumnReader::read_delta_numbers(std::string_view all, std::size_t count) {
  if (*leaf_.element.type != Physical::int32 && *leaf_.element.type != Physical::int64)
    throw Damage{"its encoding is for whole numbers, and these are none"};
  Bytes bytes(all);
  const std::vector<std::int64_t> numbers = delta_numbers(bytes, count);
  if (numbers.size() != count) throw Damage{"it has fewer values than its head says"};
  const bool is_narrow = *leaf_.element.type == Physical::int32;
  // Distances of 32 bits wrap around in 32 bits.
  for (const std::int64_t number : numbers)
    add_number(is_narrow ? static_cast<std::int32_t>(number) : number, page_values_);
}

void ColumnReader::read_values(std::string_view all, Encoding encoding, std::size_t count) {
  const bool has_bytes = *leaf_.element.type == Physical::bytes || *leaf_.element.type == Physical::fixed_bytes;
  const auto need_bytes = [&] {
    if (!has_bytes) throw Damage{"its encoding is for texts, and these are none"};
  };
  const auto check_length = [&](std::string_view text) {
    if (*leaf_.element.type == Physical::fixed_bytes && text.size() != static_cast<std::size_t>(leaf_.element.length))
      throw Damage{"a value in it has another length than its column"};
  };
  const auto take_text = [&](std::string_view text) {
    check_length(text);
    if (*leaf_.element.type != Physical::fixed_bytes) return add_bytes(text, page_values_);
    add_fixed(leaf_.element.meaning == Meaning::uuid ? own_copy(uuid_text(text)) : text, page_values_);
  };
  switch (encoding) {
    case Encoding::plain:
      return read_plain(all, count, page_values_);
    case Encoding::plain_dictionary:
    case Encoding::rle_dictionary:
      return read_indices(all, count);
    case Encoding::rle: {
      if (*leaf_.element.type != Physical::boolean)
        throw Damage{"its encoding is for truth values, and these are none"};
      Bytes bytes(all);
      bytes.take(sizeof(std::uint32_t));  // the length of the runs
      read_runs(bytes, 1, count, [&](std::uint64_t bit, std::size_t times) {
        page_values_.exact.insert(page_values_.exact.end(), times, static_cast<std::int64_t>(bit));
        page_values_.state.insert(page_values_.state.end(), times, State::value);
      });
      return;
    }
    case Encoding::delta_numbers:
      return read_delta_numbers(all, count);
    case Encoding::delta_lengths: {
      need_bytes();
      Bytes bytes(all);
      const std::vector<std::int64_t> lengths = delta_numbers(bytes, count);
      if (lengths.size() != count) throw Damage{"it has fewer values than its head says"};
      for (const std::int64_t length : lengths) {
        if (length < 0) throw Damage{"a length in it is negative"};
        take_text(bytes.take(static_cast<std::size_t>(length)));
      }
      return;
    }
    case Encoding::delta_bytes: {
      need_bytes();
      Bytes bytes(all);
      const std::vector<std::int64_t> shared = delta_numbers(bytes, count);
      const std::vector<std::int64_t> lengths = delta_numbers(bytes, count);
      if (shared.size() != count || lengths.size() != count) throw Damage{"it has fewer values than its head says"};
      std::string_view before;
      std::size_t written = 0;
      for (std::size_t i = 0; i < count; ++i) {
        if (shared[i] < 0 || lengths[i] < 0 || static_cast<std::size_t>(shared[i]) > before.size())
          throw Damage{"a value in it shares more with the one before than that has"};
        written += static_cast<std::size_t>(shared[i]);
        constexpr std::size_t most_written = std::size_t{1} << 30;
        if (written > most_written) throw Damage{"its values are longer than a gigabyte"};
        std::string text(before.substr(0, static_cast<std::size_t>(shared[i])));
        text += bytes.take(static_cast<std::size_t>(lengths[i]));
        before = own_copy(std::move(text));
        take_text(before);
      }
      return;
    }
    case Encoding::split_bytes: {
      const std::size_t width = width_of(leaf_.element);
      if (width == 0 || *leaf_.element.type == Physical::int96)
        throw Damage{"its encoding is for numbers, and these are none"};
      if (all.size() / width < count) throw Damage{"it ends within a value"};
      std::string whole(count * width, '\0');
      for (std::size_t i = 0; i < count; ++i) {
        for (std::size_t b = 0; b < width; ++b) whole[i * width + b] = all[b * count + i];
      }
      return read_plain(own_copy(std::move(whole)), count, page_values_);
    }
    case Encoding::bit_packed:
      throw Damage{"its values have an encoding for levels"};
  }
}

// --- pages ----------------------------------------------------------------------------------------------------------

void ColumnReader::read_dictionary(const Page& page) {
  if (dictionary_) throw Damage{"its column has a second dictionary"};
  if (page.head.encoding != Encoding::plain && page.head.encoding != Encoding::plain_dictionary)
    throw Damage{"a dictionary has another encoding than plain"};
  dictionary_bytes_.bytes = page.bytes;
  keeping_ = &dictionary_bytes_;
  dictionary_.emplace();
  read_plain(dictionary_bytes_.bytes, static_cast<std::size_t>(page.head.values), *dictionary_);
}

// Which rows of the page have a value.
void ColumnReader::read_levels(std::string_view levels, std::size_t rows) {
  Bytes bytes(levels);
  const unsigned width = static_cast<unsigned>(std::bit_width(leaf_.full_level));
  present_.reserve(rows);
  bool all = true;
  read_runs(bytes, width, rows, [&](std::uint64_t level, std::size_t times) {
    if (level > leaf_.full_level) throw Damage{"a level in it is higher than any"};
    present_.insert(present_.end(), times, level == leaf_.full_level ? 1 : 0);
    all = all && level == leaf_.full_level;
  });
  if (all) present_.clear();
}

bool ColumnReader::next_page() {
  while (pages_.next(page_)) {
    try {
      if (page_.head.type == PageType::dictionary) {
        read_dictionary(page_);
        continue;
      }
      keeping_ = &kept_.emplace_back();
      keeping_->bytes = std::move(page_.bytes);
      std::string_view bytes = keeping_->bytes;
      page_rows_ = static_cast<std::size_t>(page_.head.values);
      constexpr std::size_t most_values = std::size_t{1} << 26;
      if (page_rows_ > most_values) throw Damage{"it is said to have more than 67 million values"};
      if (page_rows_ > rows_left_) throw Damage{"its column has more values than its row group has rows"};
      rows_left_ -= page_rows_;
      row_ = 0;
      value_ = 0;
      present_.clear();
      page_values_.clear();
      if (leaf_.full_level > 0) {
        if (page_.head.type == PageType::data_v2) {
          read_levels(page_.definition, page_rows_);
        } else {
          if (page_.head.level_encoding != Encoding::rle)
            throw Damage{"its levels have an encoding that no writer uses any more"};
          Bytes rest(bytes);
          const auto length = rest.number<std::uint32_t>();
          read_levels(rest.take(length), page_rows_);
          bytes = rest.rest();
        }
      }
      const std::size_t values =
          present_.empty() ? page_rows_ : static_cast<std::size_t>(std::count(present_.begin(), present_.end(), 1));
      read_values(bytes, page_.head.encoding, values);
      if (page_rows_ > 0) return true;
    } catch (const Damage& damage) {
      pages_.fail(damage.what);
    }
  }
  return false;
}

// The next rows of the page at hand, each with its value or as a null.
void ColumnReader::append_rows(std::size_t count, Values& values) {
  const auto with = [&](const auto& from, auto& to) {
    if (present_.empty()) {
      const auto first = static_cast<std::ptrdiff_t>(value_);
      const auto last = static_cast<std::ptrdiff_t>(value_ + count);
      to.insert(to.end(), from.begin() + first, from.begin() + last);
      values.state.insert(values.state.end(), page_values_.state.begin() + first, page_values_.state.begin() + last);
      row_ += count;
      value_ += count;
      return;
    }
    for (std::size_t i = 0; i < count; ++i, ++row_) {
      if (present_[row_] != 0) {
        to.push_back(from[value_]);
        values.state.push_back(page_values_.state[value_++]);
      } else {
        to.emplace_back();
        values.state.push_back(State::null);
      }
    }
  };
  if (leaf_.type.kind == TypeKind::text) {
    with(page_values_.text, values.text);
  } else if (leaf_.type.kind == TypeKind::real) {
    with(page_values_.real, values.real);
  } else {
    with(page_values_.exact, values.exact);
  }
}

void ColumnReader::read(std::size_t count, Values& values) {
  values.clear();
  // Texts of the page at hand are still to be given out.
  while (kept_.size() > 1) kept_.pop_front();
  while (values.size() < count) {
    if (row_ == page_rows_ && !next_page()) pages_.fail("its pages hold fewer values than its row group has rows");
    const std::size_t here = std::min(count - values.size(), page_rows_ - row_);
    append_rows(here, values);
  }
}

void ColumnReader::finish() {
  if (row_ != page_rows_ || next_page()) pages_.fail("its pages hold more values than its row group has rows");
}

}  // namespace juniper::source::parquet
