// The distinct texts of all pieces are sorted, become the dictionary, and each text's place in it is its code.
//
// They are sorted by keys (store/text_keys.h). Where a key is the whole text in another form, which identifiers mostly
// allow, the texts themselves are let go before the sort, and the dictionary is written from the keys.
#include "store/encode_text.h"

#include <algorithm>
#include <limits>
#include <numeric>

#include "base/failure.h"
#include "base/large_vector.h"
#include "base/sort.h"
#include "store/text_keys.h"

namespace juniper::store {

namespace {

using source::ColumnInput;
using source::PackedPiece;

// Texts of a column, numbered: those of its pools, one pool behind the other, and then those that stand plain, row by
// row. The same text may have several numbers. Once a text has its code, that takes its place.
class NumberedTexts {
 public:
  explicit NumberedTexts(ColumnInput& input) {
    std::uint64_t count = 0;
    for (const auto& pool : input.pools) {
      pool_begin_.push_back(count);
      count += pool->texts().size();
    }
    plain_begin_ = count;
    for (const PackedPiece& piece : input.pieces) count += piece.plain.size();
    if (count >= std::numeric_limits<std::uint32_t>::max()) {
      throw base::Failure(base::error("JR-510", "a text column has more than 4,294,967,294 different texts",
                                      "leave the column out, or read fewer files"));
    }
    places_.reserve(count);
    const auto add = [&](source::StoredText text) {
      places_.push_back(reinterpret_cast<std::uint64_t>(text.address()));
    };
    for (const auto& pool : input.pools) std::for_each(pool->texts().begin(), pool->texts().end(), add);
    for (PackedPiece& piece : input.pieces) {
      std::for_each(piece.plain.begin(), piece.plain.end(), add);
      piece.plain = {};
    }
    used_.assign(count, 0);
    each_number(input, [&](const PackedPiece& piece, std::span<std::uint64_t> numbers) {
      piece.each_null([&](std::size_t row) { numbers[row] = unused; });
      for (const std::uint64_t number : numbers) {
        if (number != unused) used_[number] = 1;
      }
    });
  }

  // Calls visit(piece, numbers) with the number of each row's text; any number where the row is null.
  template <class Visit>
  void each_number(const ColumnInput& input, const Visit& visit) const {
    std::vector<std::uint64_t> numbers;
    std::uint64_t plain = plain_begin_;
    for (const PackedPiece& piece : input.pieces) {
      numbers.resize(piece.rows);
      if (piece.is_plain) {
        std::iota(numbers.begin(), numbers.end(), plain);
        plain += piece.rows;
      } else {
        piece.numbers.read(numbers.data());
        for (std::uint64_t& number : numbers) number += pool_begin_[piece.pool];
      }
      visit(piece, std::span(numbers));
    }
  }

  // Calls visit(number, text) for each text that a row uses.
  template <class Visit>
  void each_used(const Visit& visit) const {
    for (std::uint32_t number = 0; number < places_.size(); ++number) {
      if (used_[number] != 0) visit(number, (*this)[number]);
    }
  }

  std::size_t size() const { return places_.size(); }
  // The text of a number that has no code yet.
  std::string_view operator[](std::size_t number) const {
    return source::StoredText(reinterpret_cast<const char*>(places_[number])).view();
  }
  void set_code(std::size_t number, std::uint64_t code) { places_[number] = code; }
  std::uint64_t code(std::size_t number) const { return places_[number]; }
  // Asks the memory for the place of a text, and for a text whose place is there.
  void prefetch_place(std::size_t number) const { __builtin_prefetch(&places_[number], 1); }
  void prefetch(std::size_t number) const { __builtin_prefetch(reinterpret_cast<const char*>(places_[number])); }

 private:
  static constexpr std::uint64_t unused = std::numeric_limits<std::uint64_t>::max();
  std::vector<std::uint64_t> pool_begin_;
  std::uint64_t plain_begin_ = 0;
  base::LargeVector<std::uint64_t> places_;  // addresses of texts, then codes
  std::vector<std::uint8_t> used_;
};

std::size_t shared_bytes(std::string_view a, std::string_view b) {
  const auto end = a.begin() + static_cast<std::ptrdiff_t>(std::min(a.size(), b.size()));
  return static_cast<std::size_t>(std::mismatch(a.begin(), end, b.begin()).first - a.begin());
}

// The texts that rows use, in order: the key of each above its number.
class SortedTexts {
 public:
  // Where keys are whole, the memory of `input`'s texts is let go.
  SortedTexts(const NumberedTexts& texts, ColumnInput& input) : texts_(texts) {
    std::size_t count = 0;
    texts.each_used([&](std::uint32_t, std::string_view text) {
      keys_.look_at(text);
      ++count;
    });
    keys_.settle();
    sorted_.reserve(count);
    texts.each_used([&](std::uint32_t number, std::string_view text) {
      sorted_.push_back(keys_.key_of(text) << number_bits | number);
    });
    if (keys_.are_whole()) input.pools.clear();
    base::sort_numbers(sorted_);
    if (!keys_.are_whole()) sort_ties();
  }

  // Calls visit(number, text, shared) for each, in order: of its first bytes, how many are those of the text before, or
  // `same_text` where it is that one again.
  static constexpr std::size_t same_text = std::numeric_limits<std::size_t>::max();
  template <class Visit>
  void each(const Visit& visit) const {
    std::string text;
    std::string_view before;
    for (std::size_t i = 0; i < sorted_.size(); ++i) {
      const std::uint32_t number = number_of(sorted_[i]);
      const bool same_key = i != 0 && key_of(sorted_[i]) == key_of(sorted_[i - 1]);
      if (keys_.are_whole()) {
        const Key last = i == 0 ? 0 : key_of(sorted_[i - 1]);
        visit(number, std::string_view(text), same_key ? same_text : keys_.rewrite(last, key_of(sorted_[i]), text));
      } else {
        // Sorted texts lie anywhere in memory: each is asked for some places before it is needed.
        constexpr std::size_t ahead = 20;
        if (i + 2 * ahead < sorted_.size()) texts_.prefetch_place(number_of(sorted_[i + 2 * ahead]));
        if (i + ahead < sorted_.size()) texts_.prefetch(number_of(sorted_[i + ahead]));
        const std::string_view here = texts_[number];
        const bool same = same_key && here == before;
        visit(number, here, same ? same_text : shared_bytes(before, here));
        before = here;
      }
    }
  }

 private:
  using Key = TextKeys::Key;
  static constexpr unsigned number_bits = 32;
  static_assert(number_bits + TextKeys::key_bits <= 128);
  static Key key_of(Key sorted) { return sorted >> number_bits; }
  static std::uint32_t number_of(Key sorted) { return static_cast<std::uint32_t>(sorted); }

  // Texts whose keys do not tell them apart.
  void sort_ties() {
    for (auto begin = sorted_.begin(); begin != sorted_.end();) {
      auto end = begin + 1;
      while (end != sorted_.end() && key_of(*end) == key_of(*begin)) ++end;
      if (end - begin > 1) {
        std::sort(begin, end, [&](Key a, Key b) { return texts_[number_of(a)] < texts_[number_of(b)]; });
      }
      begin = end;
    }
  }

  const NumberedTexts& texts_;
  TextKeys keys_;
  base::LargeVector<Key> sorted_;
};

}  // namespace

Column encode_text(Column column, ColumnInput& input) {
  NumberedTexts texts(input);
  TextDictionary::Encoder encoder;
  {
    const SortedTexts sorted(texts, input);
    std::string most;
    sorted.each([&](std::uint32_t number, std::string_view text, std::size_t shared) {
      if (shared != SortedTexts::same_text) {
        if (encoder.size() == 0) column.least = Value::of(std::string(text));
        encoder.add(text, shared);
        most = text;
      }
      texts.set_code(number, encoder.size() - 1);
    });
    if (encoder.size() != 0) column.most = Value::of(most);
  }
  column.layout = Layout::dictionary;
  column.distinct = encoder.size();
  column.null_code = encoder.size();
  column.texts = encoder.finish();
  Codes::Encoder codes(column.rows);
  texts.each_number(input, [&](const PackedPiece& piece, std::span<std::uint64_t> numbers) {
    piece.each_null([&](std::size_t row) { numbers[row] = texts.size(); });
    for (std::uint64_t& number : numbers) number = number == texts.size() ? column.null_code : texts.code(number);
    codes.add(numbers);
  });
  column.codes = codes.finish();
  return column;
}

}  // namespace juniper::store
