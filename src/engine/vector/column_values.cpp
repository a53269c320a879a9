#include "engine/vector/column_values.h"

#include <algorithm>

namespace juniper::engine {

namespace {

void find_by_offset(const store::Column& column, const Vector& values, std::vector<std::uint64_t>& codes) {
  const std::uint64_t count = column.null_code;
  for (std::size_t i = 0; i < values.size(); ++i) {
    if (values.state[i] != State::value || values.narrow[i] < column.base) continue;
    const std::uint64_t above = static_cast<std::uint64_t>(values.narrow[i]) - static_cast<std::uint64_t>(column.base);
    const std::uint64_t code = column.step == 1 ? above : above / column.step;
    if (code < count && code * column.step == above) codes[i] = code;
  }
}

// Numbers in order. Where they lie close together, and many are looked for, a table tells the code of each.
void find_in_dictionary(const store::Column& column, const Vector& values, std::vector<std::uint64_t>& codes) {
  const std::int64_t* const numbers = column.numbers.all_exact();
  const std::int64_t* const end = numbers + column.distinct;
  const std::uint64_t span = static_cast<std::uint64_t>(end[-1]) - static_cast<std::uint64_t>(numbers[0]);
  constexpr std::uint32_t none = 0xFFFFFFFF;
  std::vector<std::uint32_t> table;
  if (values.size() >= column.distinct / 4 && column.distinct < none && span < 16 * column.distinct) {
    table.assign(span + 1, none);
    for (std::uint32_t code = 0; code < column.distinct; ++code)
      table[static_cast<std::uint64_t>(numbers[code]) - static_cast<std::uint64_t>(numbers[0])] = code;
  }
  for (std::size_t i = 0; i < values.size(); ++i) {
    const std::int64_t value = values.narrow[i];
    if (values.state[i] != State::value || value < numbers[0] || value > end[-1]) continue;
    if (!table.empty()) {
      const std::uint32_t code = table[static_cast<std::uint64_t>(value) - static_cast<std::uint64_t>(numbers[0])];
      if (code != none) codes[i] = code;
    } else if (const auto* const at = std::lower_bound(numbers, end, value); *at == value) {
      codes[i] = static_cast<std::uint64_t>(at - numbers);
    }
  }
}

}  // namespace

void find_codes(const store::Column& column, const Vector& values, std::vector<std::uint64_t>& codes) {
  if (values.repr == Repr::narrow && column.distinct != 0 && column.layout == store::Layout::offset)
    return find_by_offset(column, values, codes);
  if (values.repr == Repr::narrow && column.distinct != 0 && column.layout == store::Layout::dictionary)
    return find_in_dictionary(column, values, codes);
  for (std::size_t i = 0; i < values.size(); ++i) {
    if (values.state[i] == State::value) codes[i] = column.code_of(values.value_at(i)).value_or(codes[i]);
  }
}

}  // namespace juniper::engine
