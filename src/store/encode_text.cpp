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

// Texts of a column, numbered: those of its memories' pools, one behind the other, and then those that stand plain, row
// by row. The same text may have several numbers.
class NumberedTexts {
 public:
  explicit NumberedTexts(const ColumnInput& input) : input_(input) {
    for (const auto& memory : input.memories) {
      pool_begin_.push_back(count_);
      count_ += memory->texts.texts().size();
    }
    plain_begin_ = count_;
    for (const PackedPiece& piece : input.pieces) count_ += piece.plain != nullptr ? piece.rows : 0;
    if (count_ >= std::numeric_limits<std::uint32_t>::max()) {
      throw base::Failure(base::error("JR-510", "a text column has more than 4,294,967,294 different texts",
                                      "leave the column out, or read fewer files"));
    }
    used_.assign(count_, 0);
    each_number([&](const PackedPiece& piece, std::span<std::uint32_t> numbers) {
      piece.each_null([&](std::size_t row) { numbers[row] = unused; });
      for (const std::uint32_t number : numbers) {
        if (number != unused) used_[number] = 1;
      }
    });
  }

  // Calls visit(piece, numbers) with the number of each row's text, which it may change; any where the row is null.
  template <class Visit>
  void each_number(const Visit& visit) const {
    std::vector<std::uint64_t> wide;
    std::vector<std::uint32_t> numbers;
    std::uint64_t plain = plain_begin_;
    for (const PackedPiece& piece : input_.pieces) {
      numbers.resize(piece.rows);
      if (piece.plain != nullptr) {
        std::iota(numbers.begin(), numbers.end(), static_cast<std::uint32_t>(plain));
        plain += piece.rows;
      } else {
        wide.resize(piece.rows);
        piece.numbers.read(wide.data());
        const std::uint64_t begin = pool_begin_[piece.memory];
        for (std::size_t i = 0; i < wide.size(); ++i) numbers[i] = static_cast<std::uint32_t>(begin + wide[i]);
      }
      visit(piece, std::span(numbers));
    }
  }

  // Calls visit(number, text) for each text that a row uses, in the order of the numbers.
  template <class Visit>
  void each_used(const Visit& visit) const {
    std::uint32_t number = 0;
    const auto look_at = [&](source::StoredText text) {
      if (used_[number] != 0) visit(number, text);
      ++number;
    };
    for (const auto& memory : input_.memories)
      std::for_each(memory->texts.texts().begin(), memory->texts.texts().end(), look_at);
    for (const PackedPiece& piece : input_.pieces) {
      const char* at = piece.plain;
      for (std::size_t row = 0; at != nullptr && row < piece.rows; ++row) {
        const source::StoredText text(at);
        at = text.end();
        look_at(text);
      }
    }
  }

  std::size_t size() const { return count_; }

 private:
  static constexpr std::uint32_t unused = std::numeric_limits<std::uint32_t>::max();
  const ColumnInput& input_;
  std::uint64_t count_ = 0;
  std::vector<std::uint64_t> pool_begin_;
  std::uint64_t plain_begin_ = 0;
  std::vector<std::uint8_t> used_;  // 1 for the numbers that rows have
};

std::size_t shared_bytes(std::string_view a, std::string_view b) {
  const auto end = a.begin() + static_cast<std::ptrdiff_t>(std::min(a.size(), b.size()));
  return static_cast<std::size_t>(std::mismatch(a.begin(), end, b.begin()).first - a.begin());
}

// The texts that rows use, in order: the key of each above its number.
class SortedTexts {
 public:
  // Where keys are whole, the memory of `input`'s texts is let go.
  SortedTexts(const NumberedTexts& texts, ColumnInput& input) {
    std::size_t count = 0;
    texts.each_used([&](std::uint32_t, source::StoredText text) {
      keys_.look_at(text.view());
      ++count;
    });
    keys_.settle();
    sorted_.reserve(count);
    if (!keys_.are_whole()) places_.resize(texts.size());
    texts.each_used([&](std::uint32_t number, source::StoredText text) {
      sorted_.push_back(keys_.key_of(text.view()) << number_bits | number);
      if (!places_.empty()) places_[number] = text.address();
    });
    if (keys_.are_whole()) {
      for (const auto& memory : input.memories) memory->texts = {};
    }
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
        if (i + 2 * ahead < sorted_.size()) __builtin_prefetch(&places_[number_of(sorted_[i + 2 * ahead])]);
        if (i + ahead < sorted_.size()) __builtin_prefetch(places_[number_of(sorted_[i + ahead])]);
        const std::string_view here = text_of(number);
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
  std::string_view text_of(std::uint32_t number) const { return source::StoredText(places_[number]).view(); }

  // Texts whose keys do not tell them apart.
  void sort_ties() {
    for (auto begin = sorted_.begin(); begin != sorted_.end();) {
      auto end = begin + 1;
      while (end != sorted_.end() && key_of(*end) == key_of(*begin)) ++end;
      if (end - begin > 1)
        std::sort(begin, end, [&](Key a, Key b) { return text_of(number_of(a)) < text_of(number_of(b)); });
      begin = end;
    }
  }

  TextKeys keys_;
  base::LargeVector<Key> sorted_;
  base::LargeVector<const char*> places_;  // of the texts by number, where keys are not whole
};

}  // namespace

Column encode_text(Column column, ColumnInput& input) {
  const NumberedTexts texts(input);
  TextDictionary::Encoder encoder;
  base::LargeVector<std::uint32_t> codes(texts.size());  // by number
  {
    const SortedTexts sorted(texts, input);
    std::string most;
    sorted.each([&](std::uint32_t number, std::string_view text, std::size_t shared) {
      if (shared != SortedTexts::same_text) {
        if (encoder.size() == 0) column.least = Value::of(std::string(text));
        encoder.add(text, shared);
        most = text;
      }
      codes[number] = static_cast<std::uint32_t>(encoder.size() - 1);
    });
    if (encoder.size() != 0) column.most = Value::of(most);
  }
  column.layout = Layout::dictionary;
  column.distinct = encoder.size();
  column.null_code = encoder.size();
  column.texts = encoder.finish();
  Codes::Encoder rows(column.rows, column.null_code);
  std::vector<std::uint64_t> made;
  texts.each_number([&](const PackedPiece& piece, std::span<std::uint32_t> numbers) {
    made.clear();
    for (const std::uint32_t number : numbers) made.push_back(number < codes.size() ? codes[number] : 0);
    piece.each_null([&](std::size_t row) { made[row] = column.null_code; });
    rows.add(made);
  });
  column.codes = rows.finish();
  return column;
}

}  // namespace juniper::store
