#include "engine/aggregate/distinct_codes.h"

#include <algorithm>
#include <bit>
#include <boost/unordered/unordered_flat_set.hpp>
#include <limits>

#include "base/passes.h"
#include "base/prefetch.h"

namespace juniper::engine {

namespace {

constexpr unsigned group_bits = std::numeric_limits<GroupIndex>::digits;

class DistinctCodes final : public Accumulator {
 public:
  DistinctCodes(std::uint64_t null_code, std::uint64_t rows)
      : null_code_(null_code),
        code_bits_(static_cast<unsigned>(std::bit_width(null_code))),
        words_(static_cast<std::size_t>(null_code / 64 + 1)),
        most_words_(std::max<std::size_t>(std::size_t{1} << 20, static_cast<std::size_t>(rows / 8))) {
    if (words_ > most_words_) is_hashed_ = true;
  }

  void grow(std::size_t count) override {
    if (count <= poisoned_.size()) return;
    poisoned_.resize(count, 0);
    if (is_hashed_) {
      counts_.resize(count, 0);
    } else if (count * words_ > most_words_) {
      hash();
    } else {
      bits_.resize(count * words_, 0);
    }
  }

  // The bit of null is set as well, and not counted.
  void add_codes(const Added& added, const std::uint32_t* codes) override {
    if (is_hashed_) {
      for (std::size_t i = 0; i < added.count; ++i) {
        const std::uint32_t code = codes[added.row(i)];
        if (code != null_code_) insert(added.group(i), code);
      }
      return;
    }
    std::uint64_t* const bits = bits_.data();
    if (added.one_group && added.rows == nullptr) {
      set_bits(
          added.count, [&](std::size_t i) { return codes[added.first + i]; },
          [words = bits + added.groups[0] * words_](std::size_t) { return words; });
    } else {
      set_bits(
          added.count, [&](std::size_t i) { return codes[added.row(i)]; },
          [&](std::size_t i) { return bits + added.group(i) * words_; });
    }
  }

  void poison(GroupIndex group) override { poisoned_[group] = 1; }

  void merge(const Accumulator& other, std::span<const GroupIndex> groups) override {
    const auto& from = static_cast<const DistinctCodes&>(other);
    for (std::size_t g = 0; g < from.poisoned_.size(); ++g) poisoned_[groups[g]] |= from.poisoned_[g];
    if (from.is_hashed_) {
      if (!is_hashed_) hash();
      for (const std::uint64_t pair : from.seen_)
        insert(groups[static_cast<GroupIndex>(pair >> code_bits_)], pair & mask());
      return;
    }
    for (std::size_t g = 0; g < from.poisoned_.size(); ++g) {
      for (std::size_t w = 0; w < words_; ++w) {
        const std::uint64_t word = from.bits_[g * words_ + w];
        if (is_hashed_) {
          insert_bits(groups[g], w, word);
        } else {
          bits_[groups[g] * words_ + w] |= word;
        }
      }
    }
  }

  Repr repr() const override { return Repr::narrow; }

  void put(GroupIndex group, Vector& out, std::size_t row) const override {
    if (group >= poisoned_.size()) {
      out.narrow[row] = 0;
    } else if (poisoned_[group] != 0) {
      out.state[row] = State::overflow;
    } else {
      out.narrow[row] = is_hashed_ ? counts_[group] : counted(group);
    }
  }

 private:
  // Sets the bit code_of(i) among the words at words_of(i) for each i.
  template <class CodeOf, class WordsOf>
  static void set_bits(std::size_t count, const CodeOf& code_of, const WordsOf& words_of) {
    base::for_each_ahead(
        count, [&](std::size_t i) { return words_of(i) + code_of(i) / 64; },
        [&](std::size_t i) {
          const std::uint32_t code = code_of(i);
          words_of(i)[code / 64] |= std::uint64_t{1} << code % 64;
        });
  }
  std::uint64_t mask() const { return (std::uint64_t{1} << code_bits_) - 1; }
  void insert(GroupIndex group, std::uint64_t code) {
    if (seen_.insert(std::uint64_t{group} << code_bits_ | code).second) ++counts_[group];
  }
  std::int64_t counted(GroupIndex group) const {
    const std::uint64_t* const words = bits_.data() + group * words_;
    return static_cast<std::int64_t>(base::count_ones({words, words_})) -
           static_cast<std::int64_t>(words[null_code_ / 64] >> null_code_ % 64 & 1);
  }
  void insert_bits(GroupIndex group, std::size_t word_index, std::uint64_t word) {
    if (word_index == null_code_ / 64) word &= ~(std::uint64_t{1} << null_code_ % 64);
    for (; word != 0; word &= word - 1) insert(group, word_index * 64 + static_cast<unsigned>(std::countr_zero(word)));
  }

  // Goes from bits to pairs.
  void hash() {
    is_hashed_ = true;
    counts_.resize(poisoned_.size(), 0);
    for (std::size_t i = 0; i < bits_.size(); ++i)
      insert_bits(static_cast<GroupIndex>(i / words_), i % words_, bits_[i]);
    bits_ = {};
  }

  std::uint64_t null_code_;
  unsigned code_bits_;
  std::size_t words_;       // of a group's bits
  std::size_t most_words_;  // of all bits
  bool is_hashed_ = false;
  std::vector<std::uint64_t> bits_;
  boost::unordered_flat_set<std::uint64_t> seen_;
  std::vector<std::uint8_t> poisoned_;  // of each group
  std::vector<std::int64_t> counts_;    // of the pairs of each group
};

}  // namespace

bool counts_by_codes(std::uint64_t null_code) {
  return std::bit_width(null_code) + group_bits <= std::numeric_limits<std::uint64_t>::digits;
}

std::unique_ptr<Accumulator> make_distinct_codes(std::uint64_t null_code, std::uint64_t rows) {
  return std::make_unique<DistinctCodes>(null_code, rows);
}

}  // namespace juniper::engine
