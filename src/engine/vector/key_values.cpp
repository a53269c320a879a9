#include "engine/vector/key_values.h"

#include <algorithm>
#include <optional>
#include <string>

#include "base/exact.h"

namespace juniper::engine {

namespace {

// The value at a row as it is kept; nothing where it is null or does not fit. Both zeros of reals are one value.
template <class T>
std::optional<T> kept(const Vector& values, std::size_t row) {
  if (values.state[row] != State::value) return std::nullopt;
  if constexpr (std::is_same_v<T, std::int64_t>) {
    if (values.repr == Repr::narrow) return values.narrow[row];
    return base::fits_int64(values.wide[row]) ? std::optional(static_cast<std::int64_t>(values.wide[row]))
                                              : std::nullopt;
  } else if constexpr (std::is_same_v<T, double>) {
    return values.real[row] + 0.0;
  } else {
    return values.text[row];
  }
}

Vector vector_of(const Value& value) {
  Vector one;
  const bool is_text = value.kind() == Value::Kind::text;
  one.reset(value.kind() == Value::Kind::real ? Repr::real : (is_text ? Repr::text : Repr::wide), 1);
  one.set(0, value);
  return one;
}

}  // namespace

KeyValues::KeyValues(Type type) {
  switch (type.kind) {
    case TypeKind::real:
      values_.emplace<Values<double>>();
      return;
    case TypeKind::text:
      values_.emplace<Texts>();
      return;
    case TypeKind::boolean:
    case TypeKind::integer:
    case TypeKind::decimal:
    case TypeKind::date:
    case TypeKind::datetime:
    case TypeKind::time:
      return;
  }
}

void KeyValues::add(const Vector& values) {
  std::visit(
      [&]<class T>(Values<T>& own) {
        // Where values are those of a column's codes, in their order, neighbours often are the same.
        std::optional<T> before;
        for (std::size_t row = 0; row < values.size(); ++row) {
          const std::optional<T> value = kept<T>(values, row);
          if (!value || value == before) continue;
          before = value;
          if (own.codes.contains(*value)) continue;
          if constexpr (std::is_same_v<T, std::string_view>) {
            own.codes.emplace(owned_.emplace_back(*value), 0);
          } else {
            own.codes.emplace(*value, 0);
          }
        }
      },
      values_);
}

void KeyValues::add(const KeyValues& other) {
  std::visit(
      [&]<class T>(Values<T>& own) {
        for (const auto& [value, code] : std::get<Values<T>>(other.values_).codes) {
          if (own.codes.contains(value)) continue;
          if constexpr (std::is_same_v<T, std::string_view>) {
            own.codes.emplace(owned_.emplace_back(value), 0);
          } else {
            own.codes.emplace(value, 0);
          }
        }
      },
      values_);
}

void KeyValues::add(const Value& value) {
  if (value.is_null()) return;
  const Vector one = vector_of(value);
  add(one);
}

void KeyValues::sort() {
  std::visit(
      [&]<class T>(Values<T>& own) {
        own.sorted.reserve(own.codes.size());
        for (const auto& [value, code] : own.codes) own.sorted.push_back(value);
        std::sort(own.sorted.begin(), own.sorted.end());
        for (std::size_t code = 0; code < own.sorted.size(); ++code) own.codes[own.sorted[code]] = code;
        if constexpr (std::is_same_v<T, std::int64_t>) {
          is_dense_ = !own.sorted.empty() &&
                      int128{own.sorted.back()} - own.sorted.front() + 1 == static_cast<int128>(own.sorted.size());
        }
      },
      values_);
}

std::uint64_t KeyValues::null_code() const {
  return std::visit([](const auto& own) { return std::uint64_t{own.sorted.size()}; }, values_);
}

void KeyValues::find(const Vector& values, std::int64_t* codes) const {
  std::visit(
      [&]<class T>(const Values<T>& own) {
        const auto null = static_cast<std::int64_t>(own.sorted.size());
        if constexpr (std::is_same_v<T, std::int64_t>) {
          if (is_dense_ && values.repr == Repr::narrow) {
            const std::int64_t first = own.sorted.front();
            for (std::size_t row = 0; row < values.size(); ++row) {
              const std::int64_t other = values.state[row] == State::null ? null : null + 1;
              codes[row] = values.state[row] == State::value ? values.narrow[row] - first : other;
            }
            return;
          }
        }
        std::optional<T> before;
        for (std::size_t row = 0; row < values.size(); ++row) {
          const std::optional<T> value = kept<T>(values, row);
          if (value && value == before) {
            codes[row] = codes[row - 1];
          } else if (value) {
            codes[row] = static_cast<std::int64_t>(own.codes.find(*value)->second);
          } else {
            codes[row] = values.state[row] == State::null ? null : null + 1;
          }
          before = value;
        }
      },
      values_);
}

std::uint64_t KeyValues::code_of(const Value& value) const {
  if (value.is_null()) return null_code();
  const Vector one = vector_of(value);
  std::int64_t code = 0;
  find(one, &code);
  return static_cast<std::uint64_t>(code);
}

Value KeyValues::value_of(std::uint64_t code) const {
  return std::visit(
      [&]<class T>(const Values<T>& own) {
        if (code >= own.sorted.size()) return Value();
        if constexpr (std::is_same_v<T, std::string_view>) {
          return Value::of(std::string(own.sorted[code]));
        } else if constexpr (std::is_same_v<T, double>) {
          return Value::of(own.sorted[code]);
        } else {
          return Value::of(int128{own.sorted[code]});
        }
      },
      values_);
}

Vector KeyValues::decode(std::span<const std::uint64_t> codes) const {
  Vector out;
  std::visit(
      [&]<class T>(const Values<T>& own) {
        out.reset(
            std::is_same_v<T, double> ? Repr::real : (std::is_same_v<T, std::string_view> ? Repr::text : Repr::narrow),
            codes.size());
        for (std::size_t row = 0; row < codes.size(); ++row) {
          if (codes[row] >= own.sorted.size()) {
            out.state[row] = State::null;
          } else {
            out.of<T>()[row] = own.sorted[codes[row]];
          }
        }
        out.owned = owned_;
      },
      values_);
  return out;
}

}  // namespace juniper::engine
