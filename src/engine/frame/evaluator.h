// Expressions over frames. The functions are spread over evaluate.cpp (expressions and slices), access.cpp (which rows
// of a table a slice allows), row_frames.cpp (sets of rows) and aggregates.cpp.
//
// How an aggregate over a table's rows is evaluated for a frame, the cheapest way that fits:
//   grouped    What differs between the frame's rows is compared for equality: the table is scanned once, grouped by
//              what is compared, and each row of the frame looks its group up.
//   ranged     One ordered comparison more: the groups, or the rows where nearly each is a group of its own, are sorted
//              by that column within the others (stretches.h): n log n.
//   candidates Further conditions rest on other rows: the rows that pass all others are a frame of their own, for which
//              these are computed.
//   row by row Anything else: all pairs of a frame's row and a row that it allows are written out, in parts of bounded
//              size, and evaluated as a frame of their own.
#pragma once

#include <algorithm>
#include <chrono>
#include <deque>
#include <functional>
#include <optional>
#include <set>
#include <string>

#include "engine/frame/frame.h"
#include "engine/program/program.h"
#include "engine/scan/bridge_parts.h"
#include "engine/scan/find_rows.h"
#include "engine/scan/scan.h"
#include "engine/vector/encoding.h"
#include "juniper/diagnostics.h"
#include "juniper/explain.h"

namespace juniper::engine {

// Leaves an evaluation that has no answer; caught where the engine's public functions end.
struct Failed {
  Diagnostics diagnostics;
};

// How the rows of one table that a slice allows are found.
struct Access {
  static constexpr std::uint64_t never = store::no_code;

  struct Key {
    ScanKey key;
    SharedCodes wanted;       // for each row of the frame
    bool nulls_match = true;  // else no row has the code of null
    // Where it is the row in which the table's rows meet those of a bridge: what is wanted are parts of these.
    std::shared_ptr<const BridgeParts> bridge = nullptr;
    std::uint64_t at(std::size_t row) const {
      const std::uint64_t code = (*wanted)[row];
      return code == key.last && !nulls_match ? never : code;
    }
    // Its largest code, once rows have become parts.
    std::uint64_t last() const { return bridge ? bridge->count() : key.last; }
  };
  struct Range {
    ScanKey key;
    WantedRanges wanted;
  };
  struct Days {
    language::ColumnRef day;
    WantedRanges wanted;
  };

  language::TableIndex table = 0;
  language::VariableId variable = language::slice_row;
  FramePtr frame;                          // with the names that the predicates captured
  SlicePtr around;                         // in which the conditions of the set stand
  std::vector<language::NodePtr> filters;  // of the slice, the same for all rows of the frame; over slice_row
  language::NodePtr where;                 // and of the set of rows; may be null
  std::vector<Key> keys;
  std::optional<Range> range;
  std::string range_of;    // the canonical text of what a range is about, unless it is of days
  std::vector<Days> days;  // those beyond one range
  // Rows of the frame whose conditions rest on a number that does not fit: whoever needs their answer fails.
  std::shared_ptr<std::vector<std::uint8_t>> poisoned;
  std::vector<language::NodePtr> residual;  // conditions to be evaluated row by row; over `variable`
  // Of the last of these, where it is `inside <> outside`, with a column of the row and something from outside.
  language::NodePtr other_inside;
  language::NodePtr other_outside;

  // The layout of keys of which the first are those of the access, once rows have become parts.
  KeyLayout layout_of_parts(const std::vector<ScanKey>& scan_keys) const;
  bool has_bridges() const {
    return std::any_of(keys.begin(), keys.end(), [](const Key& key) { return key.bridge != nullptr; });
  }
  // The codes of each key that some row of the frame wants, where these are at most half of them; null for others.
  std::vector<WantedCodes> wanted_codes() const;
};

// A table's rows, with conditions over them: what a set of rows comes down to when it makes no new rows.
struct PlainRows {
  language::TableIndex table = 0;
  language::VariableId variable = language::slice_row;
  SlicePtr slice;
  SlicePtr around;  // in which the conditions stand
  std::vector<language::NodePtr> conditions;
  std::vector<language::NodePtr> order;  // of `sorted by`, the most important first
  std::vector<bool> descending;
};

class SortedGroups;  // row_frames.cpp

class Evaluator {
  friend class Unfolder;  // opens the slices of expressions as they are evaluated

 public:
  Evaluator(const Source& source, unsigned threads) : source_(source), model_(source.model), threads_(threads) {}

  // One value for each row of the frame, in a slice.
  VectorPtr evaluate(const language::NodePtr& node, const FramePtr& frame, const SlicePtr& slice);

  // The rows of a set, for all rows of the frame: a frame below it, in which the set's variable is bound. The rows of
  // each row stand together, in the set's order.
  FramePtr rows(const language::RowSetPtr& set, const FramePtr& frame, const SlicePtr& slice);

  std::uint64_t rows_scanned() const { return rows_scanned_; }
  // What was done, in the order in which it was begun.
  const std::vector<ExplainStep>& steps() const { return steps_; }
  // What a result should say beside its rows.
  const std::set<std::string>& notes() const { return notes_; }
  // The encoded bytes of what expressions over a table's rows read.
  std::uint64_t bytes_read(const ScanRequest& request) const;

  // The parts of a bridge's rows that pass a request's conditions, by all of its keys but the last, which is the row of
  // `table` where they lead. They are read once for a question. `what` names them for who reads the steps; a condition that
  // overflows is told with `span`.
  std::shared_ptr<const BridgeParts> bridge_parts(const RowsRequest& request, language::TableIndex table,
                                                  const std::string& what, language::Span span);
  // A slice in which filters also reach over a bridge: the same one each time.
  static SlicePtr over_bridge(language::TableIndex bridge, const FramePtr& frame, const SlicePtr& slice);

  // True for aggregates that look at the order of their rows, which a scan can't tell by itself.
  static bool is_order_told(const language::Node& aggregate);

  // True for parts of expressions that are evaluated apart from the kernels.
  static bool is_leaf(const language::Node& node);

 private:
  using NodePtr = language::NodePtr;
  using RowSetPtr = language::RowSetPtr;
  using VariableId = language::VariableId;
  using TableIndex = language::TableIndex;

  // A step under way: what begins before it ends stands below it.
  class Step {
   public:
    Step(Evaluator& owner, language::Span span, std::size_t slices)
        : owner_(owner), index_(owner.steps_.size()), begin_(std::chrono::steady_clock::now()) {
      ExplainStep& step = owner.steps_.emplace_back();
      step.depth = ++owner.depth_;
      step.what = owner.model_.sources.text(span);
      step.place = owner.model_.sources.place(span);
      step.slices = slices;
    }
    ~Step() {
      --owner_.depth_;
      get().nanoseconds = std::chrono::nanoseconds(std::chrono::steady_clock::now() - begin_).count();
    }
    Step(const Step&) = delete;
    Step& operator=(const Step&) = delete;
    ExplainStep& get() const { return owner_.steps_[index_]; }

   private:
    Evaluator& owner_;
    std::size_t index_;
    std::chrono::steady_clock::time_point begin_;
  };

  // --- evaluate.cpp -------------------------------------------------------------------------------------------------

  // The same for an expression whose canonical text is known.
  VectorPtr evaluate(const NodePtr& node, std::string text, const FramePtr& frame, const SlicePtr& slice);
  VectorPtr leaf(const NodePtr& node, const FramePtr& frame, const SlicePtr& slice);
  VectorPtr computed(const NodePtr& node, const FramePtr& frame, const SlicePtr& slice);
  FramePtr with_name(const language::Let& let, const FramePtr& frame, const SlicePtr& slice);
  VectorPtr let(const language::Node& node, const FramePtr& frame, const SlicePtr& slice);
  VectorPtr read(const language::ColumnRef& ref, const RowNumbers& rows);
  SlicePtr modified(const language::Modifiers& modifiers, const FramePtr& frame, const SlicePtr& slice);
  SlicePtr narrowed(VariableId variable, const FramePtr& frame, const SlicePtr& slice);
  Slice dropped(const Slice& slice, const language::Across& across) const;
  SlicePtr table_slice(const language::RowSet& set, const FramePtr& frame, const SlicePtr& slice);
  void move(Slice& slice, const language::During& during, const FramePtr& frame);
  HeldPredicate captured(const language::Predicate& predicate, const FramePtr& frame, const SlicePtr& slice);
  std::vector<std::shared_ptr<const CodeRanges>> shifted_days(const language::During& during, const FramePtr& frame,
                                                              const SlicePtr& slice);
  VectorPtr constant(const Value& value, Type type, std::size_t rows);
  [[noreturn]] void fail(language::Span span, std::string code, std::string message, std::string suggestion) const;
  [[noreturn]] void fail_filter(language::Span span) const;
  // For what rows are ordered, grouped or told apart by.
  [[noreturn]] void fail_key(language::Span span) const;

  // --- access.cpp ---------------------------------------------------------------------------------------------------

  std::optional<PlainRows> plain(const RowSetPtr& set, const FramePtr& frame, const SlicePtr& slice);
  Access access(const PlainRows& rows, const FramePtr& frame);
  void add_predicate(Access& access, const HeldPredicate& held, const language::Roles& roles);
  void add_bridge(Access& access, language::TableIndex bridge, const PlainRows& rows, const FramePtr& frame);
  // The groups of a pass over the rows of an access, as the rows of the frame ask for them.
  std::shared_ptr<const ScanResult> over_bridges(const Access& access, std::shared_ptr<const ScanResult> result) const;
  void add_condition(Access& access, const NodePtr& condition, bool of_slice);
  NodePtr settled_for_one(const Access& access, const NodePtr& condition);
  bool add_comparison(Access& access, const NodePtr& condition);
  // The rows of the frame want what `values` holds for the rows that `map` leads to.
  void add_key(Access& access, const NodePtr& inside, const VectorPtr& values, const RowMap& map, bool nulls_match);
  bool add_range(Access& access, const NodePtr& inside, ScanKey key, WantedRanges wanted);
  CodeRange bounded(const ScanKey& key, const NodePtr& inside, TableIndex table, const Vector& bound, std::size_t row,
                    const Cut& cut);
  NodePtr seen_from(const NodePtr& node, TableIndex table, const language::Roles& roles) const;
  NodePtr of_slice_row(const NodePtr& node, VariableId variable, const language::Roles& roles) const;
  static bool reads_slice_row(const NodePtr& node);
  static bool reads_outside(const NodePtr& node);
  // True if the expression, over rows of `variable`, needs nothing but the table's columns.
  static bool is_of_table(const NodePtr& node, VariableId variable);
  SharedCodes same_column(const NodePtr& outside, const FramePtr& frame, const NodePtr& inside);
  SharedCodes codes_of(const ScanKey& key, TableIndex table);
  // Codes of an expression over slice_row, in the order of its values.
  ScanKey ordered_key(const NodePtr& node, TableIndex table);
  static ScanKey given_key(const NodePtr& expression, const Encoding& encoding);
  const Encoding& encoded(const NodePtr& node, TableIndex table);

  // --- row_frames.cpp -----------------------------------------------------------------------------------------------

  FramePtr written_out(const RowSetPtr& set, const FramePtr& frame, const SlicePtr& slice);
  FoundRows rows_of_frame(const Access& access);
  // Calls take(frame, written) for frames that hold the allowed rows of consecutive rows of access.frame, at most about
  // `most_pairs` in each; `written` is how many pairs there were before further conditions were computed.
  using TakePairs = std::function<void(const FramePtr&, std::size_t written)>;
  void for_pairs(const Access& access, const PlainRows& rows, std::size_t most_pairs, const TakePairs& take);
  FramePtr residual_rows(const Access& access, FramePtr pairs);
  static void poison(const Access& access, const Vector& values);
  static VectorPtr with_poison(const Access& access, VectorPtr values);
  FramePtr expanded(const FramePtr& frame, std::vector<std::uint32_t> up, VariableId variable, Binding binding) const;
  FramePtr selected(const FramePtr& pairs, VariableId variable, const std::vector<std::uint32_t>& keep,
                    const RowSetPtr& set) const;
  FramePtr table_rows(const RowSetPtr& set, const PlainRows& plain, const FramePtr& frame);
  FramePtr filtered(const RowSetPtr& set, const FramePtr& frame, const SlicePtr& slice);
  FramePtr extended(const RowSetPtr& set, const FramePtr& frame, const SlicePtr& slice);
  FramePtr ordered(const RowSetPtr& set, const FramePtr& frame, const SlicePtr& slice);
  FramePtr days(const RowSetPtr& set, const FramePtr& frame, const SlicePtr& slice);
  FramePtr groups(const RowSetPtr& set, const FramePtr& frame, const SlicePtr& slice);
  FramePtr scanned_groups(const RowSetPtr& set, const PlainRows& plain, const FramePtr& frame, const SlicePtr& slice);
  VectorPtr field_of_groups(const ScanResult& scan, const std::vector<GroupIndex>& taken, std::size_t key,
                            const NodePtr& value, TableIndex table, bool is_column);
  FramePtr written_groups(const RowSetPtr& set, const FramePtr& frame, const SlicePtr& slice);
  FramePtr members(const RowSetPtr& set, const FramePtr& frame);
  FramePtr named(const RowSetPtr& set, const FramePtr& frame);
  FramePtr combined(const RowSetPtr& set, const FramePtr& frame, const SlicePtr& slice);
  const std::vector<std::uint32_t>& row_order(TableIndex table);

  // --- aggregates.cpp -----------------------------------------------------------------------------------------------

  VectorPtr aggregate(const NodePtr& node, const FramePtr& frame, const SlicePtr& slice);
  VectorPtr rank(const language::Node& node, const FramePtr& frame, const SlicePtr& slice);
  VectorPtr rank_among_alike(const language::Node& node, const FramePtr& frame, const SlicePtr& slice);
  static bool is_of_rows(const NodePtr& node, const RowSetPtr& set);
  bool is_alike(const RowSetPtr& set, const FramePtr& frame, const SlicePtr& slice);
  ScanRequest request_of(const language::Node& node, const PlainRows& rows, const Access& access);
  std::shared_ptr<const ScanResult> scan_once(const ScanRequest& request);
  // One vector for each aggregate of the request.
  std::vector<VectorPtr> scanned(const language::Node& node, ScanRequest& request, const Access& access,
                                 ExplainStep& step);
  VectorPtr exists_other(const language::Node& node, const PlainRows& rows, const Access& access, ExplainStep& step);
  VectorPtr ranged_groups(const Access& access, const Groups& groups);
  VectorPtr ranged_rows(const ScanRequest& request, const Access& access);
  std::vector<VectorPtr> ties(const Frame& pairs);
  enum class Parts : std::uint8_t { several, one };  // of the frame, to bound the pairs that are there at a time
  VectorPtr row_by_row(const NodePtr& node, const FramePtr& frame, const SlicePtr& slice,
                       const std::optional<PlainRows>& plain, const Access* access, const Step& step,
                       Parts parts = Parts::several);

  const Source& source_;
  const language::CheckedModel& model_;
  unsigned threads_;
  std::uint64_t rows_scanned_ = 0;
  std::vector<ExplainStep> steps_;
  std::uint32_t depth_ = 0;
  std::set<std::string> notes_;
  VariableId next_name_ = 1U << 30;                // above those of any model
  std::deque<std::unique_ptr<Program>> programs_;  // that own texts which vectors view
  std::map<std::pair<TableIndex, std::string>, std::unique_ptr<Encoding>> encodings_;
  std::map<std::string, std::shared_ptr<const ScanResult>> scans_;  // by what they ask for
  std::map<std::string, std::shared_ptr<const BridgeParts>> bridge_parts_;
  std::shared_ptr<const SortedGroups> sorted_groups_;  // the last, which the next part of a frame needs, too
  std::map<TableIndex, std::vector<std::uint32_t>> row_orders_;
  std::map<std::pair<language::ColumnId, std::vector<language::LinkIndex>>, SharedCodes> codes_;
};

}  // namespace juniper::engine
