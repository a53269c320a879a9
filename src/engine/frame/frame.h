// Frames: many slices, or many rows of loops, evaluated at once.
//
// Evaluating an expression for a frame gives one value for each of its rows. A query's result rows are a frame; the
// rows that a loop goes over, for all rows of the frame around it, are a frame below that one. What differs from row to
// row (the values of keys, the rows of loops, the names of `let`) stands in vectors beside the frame; what is the same
// for all of them (which columns a predicate is about, which expression a measure has) stands in the text alone. So a
// measure in a loop costs one more pass over its table, whatever the number of rows.
#pragma once

#include <functional>
#include <map>
#include <memory>
#include <utility>
#include <vector>

#include "engine/frame/stretches.h"
#include "engine/vector/vector.h"
#include "language/slices.h"

namespace juniper::engine {

struct Frame;
using FramePtr = std::shared_ptr<const Frame>;
using VectorPtr = std::shared_ptr<const Vector>;
using RowNumbers = std::shared_ptr<const std::vector<std::uint64_t>>;
// For each row of a frame, a row of a frame above it; null where they are the same.
using RowMap = std::shared_ptr<const std::vector<std::uint32_t>>;

// A predicate with what it compares with, for each row of `frame`: the frame where it was set, which is that of every
// use or one above it.
struct HeldPredicate {
  language::Predicate predicate;
  const Frame* frame = nullptr;
  VectorPtr key;                                                               // of a key: the value
  RowNumbers rows;                                                             // of a row: its number
  std::shared_ptr<const std::vector<std::shared_ptr<const CodeRanges>>> days;  // of days: codes of the calendar's day
  // Of a filter: the parts of its expression that stand for values from outside of the slice.
  std::map<language::VariableId, VectorPtr> names;
};

struct Slice {
  std::vector<HeldPredicate> predicates;
  language::Roles roles;
  std::vector<language::TableIndex> bridges;
};
using SlicePtr = std::shared_ptr<const Slice>;

// The rows of one group, for groups that were made of something else than a table's rows.
struct Members {
  std::vector<std::size_t> begins;  // for each group, where its rows begin; one more at the end
  std::vector<std::uint32_t> rows;  // of the frame that was grouped
  FramePtr frame;
};

// Values that are made when they are first asked for: most fields of groups never are. Copies share what is made. Like
// frames, they belong to one thread.
class FieldValues {
 public:
  explicit FieldValues(VectorPtr values) : made_(std::make_shared<Made>(Made{std::move(values), {}})) {}
  explicit FieldValues(std::function<VectorPtr()> make)
      : made_(std::make_shared<Made>(Made{nullptr, std::move(make)})) {}

  const VectorPtr& values() const {
    if (!made_->values) {
      made_->values = made_->make();
      made_->make = nullptr;
    }
    return made_->values;
  }

 private:
  struct Made {
    VectorPtr values;
    std::function<VectorPtr()> make;
  };
  std::shared_ptr<Made> made_;
};

// What a row variable is bound to: one row of its set for each row of the frame.
struct Binding {
  language::RowSetPtr set;  // null for a calculated column's row
  std::optional<language::TableIndex> table;
  RowNumbers rows;                  // of a table's rows
  std::vector<FieldValues> fields;  // of derived rows
  SlicePtr slice;                   // that each row carries
  SlicePtr around;                  // of a group: in which the conditions of its rows stand
  std::shared_ptr<const Members> members;
};

struct Frame {
  std::size_t rows = 0;
  FramePtr parent;
  RowMap up;  // to the parent's rows
  std::map<language::VariableId, Binding> bindings;
  std::map<language::VariableId, VectorPtr> values;  // of names of `let`
  std::map<language::VariableId, FramePtr> sets;     // sets of rows of `let`: frames below this one
  // What was evaluated before, by expression and slice. A frame belongs to one thread.
  mutable std::map<std::pair<std::string, SlicePtr>, VectorPtr> known;
  // Slices with one more bridge, by that and the slice.
  mutable std::map<std::pair<language::TableIndex, SlicePtr>, SlicePtr> bridged;
};

// From the rows of a frame to those of one above it.
RowMap map_up(const Frame& frame, const Frame* above);

// The rows of `values` that a map names. Texts are views of what `values` views or owns.
VectorPtr gathered(const VectorPtr& values, const RowMap& map);
RowNumbers gathered(const RowNumbers& rows, const RowMap& map);

// The frame at or above `frame` that binds a variable, and the binding.
std::pair<const Frame*, const Binding*> find_binding(const Frame& frame, language::VariableId variable);

}  // namespace juniper::engine
