// What the codes of a column stand for, as values of a vector, and the codes of values: the one place where an engine's
// values come out of a store.
#pragma once

#include <cstddef>
#include <cstdint>
#include <vector>

#include "engine/vector/vector.h"
#include "store/column.h"

namespace juniper::engine {

// How values of a type are held; `fits_narrow`: an exact number fits 64 bits.
inline Repr repr_of(Type type, bool fits_narrow) {
  switch (type.kind) {
    case TypeKind::real:
      return Repr::real;
    case TypeKind::text:
      return Repr::text;
    case TypeKind::integer:
    case TypeKind::decimal:
      return fits_narrow ? Repr::narrow : Repr::wide;
    case TypeKind::boolean:
    case TypeKind::date:
    case TypeKind::datetime:
    case TypeKind::time:
      break;
  }
  return Repr::narrow;
}
inline Repr repr_of(const store::Column& column) {
  return repr_of(column.type, true);
}

// Puts what a code stands for at a row of `out`, whose representation is that of the column.
inline void put_value(const store::Column& column, std::uint64_t code, Vector& out, std::size_t row) {
  if (code == column.null_code) {
    out.state[row] = State::null;
    return;
  }
  out.state[row] = State::value;
  switch (out.repr) {
    case Repr::real:
      out.real[row] = column.real_of(code);
      break;
    case Repr::text:
      out.text[row] = column.text_of(code);
      break;
    case Repr::narrow:
    case Repr::wide:  // no column is
      out.narrow[row] = column.exact_of(code);
      break;
  }
}

// The same for `count` rows.
template <class Code>
void put_values(const store::Column& column, const Code* codes, std::size_t count, Vector& out) {
  if (column.layout == store::Layout::offset) {
    const auto null_code = static_cast<Code>(column.null_code);
    const auto base = static_cast<std::uint64_t>(column.base);
    const std::uint64_t step = column.step;
    std::int64_t* const to = out.narrow.data();
    for (std::size_t i = 0; i < count; ++i) to[i] = static_cast<std::int64_t>(base + codes[i] * step);
    if (column.nulls == 0) return;
    for (std::size_t i = 0; i < count; ++i) out.state[i] = codes[i] == null_code ? State::null : State::value;
    return;
  }
  if (column.layout == store::Layout::dictionary && out.repr == Repr::narrow && column.distinct != 0) {
    const std::int64_t* const values = column.numbers.all_exact();
    std::int64_t* const to = out.narrow.data();
    if (column.nulls == 0) {
      for (std::size_t i = 0; i < count; ++i) to[i] = values[codes[i]];
      return;
    }
    const auto null_code = static_cast<Code>(column.null_code);
    for (std::size_t i = 0; i < count; ++i) {
      const bool is_null = codes[i] == null_code;
      to[i] = values[is_null ? 0 : codes[i]];
      out.state[i] = is_null ? State::null : State::value;
    }
    return;
  }
  for (std::size_t i = 0; i < count; ++i) put_value(column, codes[i], out, i);
}

// Writes the codes that a column has of values of its type; where there is none, and of null, what stands there is left.
void find_codes(const store::Column& column, const Vector& values, std::vector<std::uint64_t>& codes);

}  // namespace juniper::engine
