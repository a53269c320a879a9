// The columns of a record batch, value by value.
#pragma once

#include <cstdint>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "source/arrow/stream.h"
#include "source/records/cells.h"

namespace juniper::source::arrow {

// Memory that views lead into.
using Bytes = std::shared_ptr<const std::string>;

// The values of a dictionary, by their numbers.
struct Dictionary {
  std::vector<Cell> cells;
  Cells kept;  // holds their texts
};
// By id. A column holds the one that it needs.
using Dictionaries = std::map<std::int64_t, std::shared_ptr<const Dictionary>>;

// A column that can be asked for: a field, or one within structures.
struct Leaf {
  std::string name;     // its path
  std::string refusal;  // why it can't be read; "" if it can
};

// All of a schema, depth first.
std::vector<Leaf> leaves_of(const arrow_ipc::Schema& schema);

// A column of a batch. Views `memory`, and the schema.
class ColumnView {
 public:
  // The value of a row; a text that is made of another value is kept by `cells`.
  Cell at(std::uint64_t row, Cells& cells) const;

 private:
  friend class BatchReader;
  bool is_null(std::uint64_t row) const;
  Cell value_at(std::uint64_t row, Cells& cells) const;
  std::string_view text_at(std::uint64_t row) const;
  std::uint64_t number_at(std::uint64_t row, int bits) const;

  const arrow_ipc::Field* field_ = nullptr;
  std::vector<std::string_view> validity_;  // its own, and of the structures around it; none where no value is null
  bool is_all_null_ = false;
  std::string_view data_;
  std::string_view offsets_;
  std::vector<std::string_view> parts_;  // of views
  std::shared_ptr<const Dictionary> dictionary_;
  std::vector<Bytes> memory_;
};

// The leaves of a batch that are `wanted` (by their numbers, for each 1 or 0), in their order. `body` is that of its message.
// Throws a base::Failure by `stream`, where the batch is not what the schema says.
std::vector<ColumnView> read_batch(const Stream& stream, const arrow_ipc::Schema& schema,
                                   const arrow_ipc::RecordBatch& batch, Bytes body,
                                   const std::vector<std::uint8_t>& wanted, const Dictionaries& dictionaries);

// Takes a batch of a dictionary in.
void read_dictionary(const Stream& stream, const arrow_ipc::Schema& schema, const arrow_ipc::DictionaryBatch& batch,
                     Bytes body, Dictionaries& dictionaries);

}  // namespace juniper::source::arrow
