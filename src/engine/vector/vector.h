// The values of one expression for some consecutive rows.
#pragma once

#include <cstdint>
#include <deque>
#include <memory>
#include <span>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "juniper/value.h"

namespace juniper::engine {

// What stands at a row. An exact result that does not fit 128 bits is no error until somebody needs it: a row that is
// filtered out, or a `case` branch that is not taken, may hold one. The order matters: the state of a strict operation
// is the largest of its operands' (null and anything is null).
enum class State : std::uint8_t { value, overflow, null };

enum class Repr : std::uint8_t {
  narrow,  // int64: booleans, dates and times, and exact numbers that provably fit
  wide,    // int128: exact numbers
  real,    // double
  text,    // views of a dictionary or of `owned`
};

// Texts that views stand for. A copy keeps alive what was there when it was made, and adds to texts of its own; so views
// hold in copies, too.
class OwnedTexts {
 public:
  OwnedTexts() = default;
  OwnedTexts(const OwnedTexts& other) : kept_(other.kept_) {
    if (other.own_) kept_.push_back(other.own_);
  }
  OwnedTexts& operator=(const OwnedTexts& other) {
    if (this != &other) *this = OwnedTexts(other);
    return *this;
  }
  OwnedTexts(OwnedTexts&&) noexcept = default;
  OwnedTexts& operator=(OwnedTexts&&) noexcept = default;
  ~OwnedTexts() = default;

  template <class... Arguments>
  std::string& emplace_back(Arguments&&... arguments) {
    if (!own_) own_ = std::make_shared<std::deque<std::string>>();
    return own_->emplace_back(std::forward<Arguments>(arguments)...);
  }
  void clear() {
    own_ = nullptr;
    kept_.clear();
  }
  bool empty() const { return !own_ && kept_.empty(); }

 private:
  std::shared_ptr<std::deque<std::string>> own_;
  std::vector<std::shared_ptr<const std::deque<std::string>>> kept_;
};

struct Vector {
  Repr repr = Repr::narrow;
  std::vector<State> state;
  // True only if every state is known to be `value`; who sets one after that says so by note_states.
  bool all_values = false;
  // Only the one of `repr` is used; what stands beside a state other than `value` has no meaning.
  std::vector<std::int64_t> narrow;
  std::vector<int128> wide;
  std::vector<double> real;
  std::vector<std::string_view> text;
  OwnedTexts owned;

  std::size_t size() const { return state.size(); }
  // What `narrow` holds where it is codes, which have no sign and may take all 64 bits.
  std::span<const std::uint64_t> codes() const {
    return {reinterpret_cast<const std::uint64_t*>(narrow.data()), narrow.size()};
  }

  // Becomes `rows` values of `representation`, all valid until states are set.
  void reset(Repr representation, std::size_t rows) {
    repr = representation;
    state.assign(rows, State::value);
    all_values = false;
    owned.clear();
    switch (repr) {
      case Repr::narrow:
        narrow.resize(rows);
        break;
      case Repr::wide:
        wide.resize(rows);
        break;
      case Repr::real:
        real.resize(rows);
        break;
      case Repr::text:
        text.resize(rows);
        break;
    }
  }

  // Tells whether every state is `value`, after states were set.
  void note_states() {
    std::uint8_t any = 0;
    for (const State s : state) any |= static_cast<std::uint8_t>(s);
    all_values = any == 0;
  }

  template <class T>
  std::vector<T>& of() {
    return const_cast<std::vector<T>&>(static_cast<const Vector*>(this)->of<T>());
  }
  template <class T>
  const std::vector<T>& of() const {
    if constexpr (std::is_same_v<T, std::int64_t>) {
      return narrow;
    } else if constexpr (std::is_same_v<T, int128>) {
      return wide;
    } else if constexpr (std::is_same_v<T, double>) {
      return real;
    } else {
      static_assert(std::is_same_v<T, std::string_view>);
      return text;
    }
  }

  bool is_true(std::size_t row) const { return state[row] == State::value && narrow[row] != 0; }

  // The value at a row; null unless its state is `value`.
  Value value_at(std::size_t row) const {
    if (state[row] != State::value) return {};
    switch (repr) {
      case Repr::narrow:
        return Value::of(static_cast<int128>(narrow[row]));
      case Repr::wide:
        return Value::of(wide[row]);
      case Repr::real:
        return Value::of(real[row]);
      case Repr::text:
        return Value::of(std::string(text[row]));
    }
    return {};
  }

  // Puts a value (or null) at a row; it must be of this representation. Text is copied.
  void set(std::size_t row, const Value& value) {
    if (value.is_null()) {
      state[row] = State::null;
      all_values = false;
      return;
    }
    switch (repr) {
      case Repr::narrow:
        narrow[row] = static_cast<std::int64_t>(value.exact());
        break;
      case Repr::wide:
        wide[row] = value.exact();
        break;
      case Repr::real:
        real[row] = value.real();
        break;
      case Repr::text:
        text[row] = owned.emplace_back(value.text());
        break;
    }
  }
};

// Codes of consecutive rows, shared by whoever works with them.
using SharedCodes = std::shared_ptr<const std::vector<std::uint64_t>>;

// Calls visit with a zero of the type that `repr` stores: visit(std::int64_t{}) and so on.
template <class Visit>
void with_type(Repr repr, const Visit& visit) {
  switch (repr) {
    case Repr::narrow:
      visit(std::int64_t{});
      break;
    case Repr::wide:
      visit(int128{});
      break;
    case Repr::real:
      visit(double{});
      break;
    case Repr::text:
      visit(std::string_view{});
      break;
  }
}

}  // namespace juniper::engine
