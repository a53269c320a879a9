// What the files of accumulators share.
#pragma once

#include <memory>
#include <string>
#include <string_view>
#include <type_traits>

#include "engine/aggregate/accumulate.h"
#include "juniper/value.h"

namespace juniper::engine {

// The type in which vectors hold values that are kept as T.
template <class T>
using Seen = std::conditional_t<std::is_same_v<T, std::string>, std::string_view, T>;

// A kind of accumulator for values of a representation.
template <template <class> class Kind, class... Arguments>
std::unique_ptr<Accumulator> by_repr(Repr repr, Arguments... arguments) {
  switch (repr) {
    case Repr::narrow:
      return std::make_unique<Kind<std::int64_t>>(arguments...);
    case Repr::wide:
      return std::make_unique<Kind<int128>>(arguments...);
    case Repr::real:
      return std::make_unique<Kind<double>>(arguments...);
    case Repr::text:
      return std::make_unique<Kind<std::string>>(arguments...);
  }
  return nullptr;
}

// The smallest or the largest value of each group.
std::unique_ptr<Accumulator> make_extreme(Repr repr, bool least);

// How many distinct values each group has.
std::unique_ptr<Accumulator> make_count_distinct(Repr repr, Merging merging);

// The value of the first row of each group in an order, or of the last.
std::unique_ptr<Accumulator> make_edge(Repr repr, bool first, std::span<const OrderKey> order);

// The texts of each group in an order, joined.
std::unique_ptr<Accumulator> make_list(std::string separator, std::span<const OrderKey> order);

}  // namespace juniper::engine
