// The values of a column chunk, in the order of its rows.
#pragma once

#include <cstdint>
#include <deque>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "source/parquet/pages.h"

namespace juniper::source::parquet {

// Values of a leaf's type, as juniper/value.h has them; only the vector of its kind is used.
struct Values {
  enum class State : std::uint8_t {
    value,
    null,
    beyond,  // of exact ones: more than 64 bits, finer than a microsecond, or outside of the dates and times there are
  };
  std::vector<std::int64_t> exact;
  std::vector<double> real;
  std::vector<std::string_view> text;
  std::vector<State> state;

  std::size_t size() const { return state.size(); }
  void clear();
};

class ColumnReader {
 public:
  // Throws as Pages.
  ColumnReader(const File& file, std::size_t group, const Leaf& leaf);

  // The next `count` values, all of them there by the number of rows. Texts are views that hold until the next call.
  // Throws a base::Failure with JR-517 (damaged), JR-518 (of a kind that is not read here).
  void read(std::size_t count, Values& values);
  // To be called when all rows have been read: nothing is left.
  void finish();

 private:
  bool next_page();
  void read_dictionary(const Page& page);
  void read_levels(std::string_view levels, std::size_t values);
  void read_values(std::string_view bytes, Encoding encoding, std::size_t count);
  void read_plain(std::string_view bytes, std::size_t count, Values& out);
  void read_indices(std::string_view bytes, std::size_t count);
  void read_delta_numbers(std::string_view bytes, std::size_t count);
  void add_number(std::int64_t number, Values& out) const;
  void add_bytes(std::string_view bytes, Values& out) const;
  void add_int96(std::string_view bytes, Values& out) const;
  void add_fixed(std::string_view bytes, Values& out) const;
  void append_rows(std::size_t count, Values& values);
  std::string_view own_copy(std::string text);

  const Leaf& leaf_;
  Pages pages_;
  Page page_;
  // Bytes that texts view, and texts that stand nowhere as they are.
  struct Kept {
    std::string bytes;
    std::deque<std::string> own;
  };
  Kept dictionary_bytes_;
  std::optional<Values> dictionary_;
  Values page_values_;                 // of the page, without its nulls
  std::vector<std::uint8_t> present_;  // of each row of the page: whether it has a value; empty: all have
  std::size_t page_rows_ = 0;
  std::size_t row_ = 0;    // of the page, the next one
  std::size_t value_ = 0;  // of page_values_, the next one
  std::deque<Kept> kept_;  // of the pages that `read` gives texts of; the last one is that of the page at hand
  Kept* keeping_ = nullptr;
  std::uint64_t rows_left_;  // of the row group, behind the page at hand
};

}  // namespace juniper::source::parquet
