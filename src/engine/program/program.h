// Expressions compiled for one domain of rows, and their evaluation block by block.
//
// Work where the values are few. When everything that an expression reads lies behind one link, it is evaluated once
// for each row of the table that the link leads to (and once for "no row"), and the fact's rows only look the result up
// by the row number that the link holds. When it reads one column that has few codes, it is evaluated once for each and
// looked up by code. This applies to every part of an expression, and again inside the table behind the link;
// so a filter on a far table costs one look-up a row, and texts are only ever touched where they are distinct.
//
// Exact arithmetic runs in 64 bits where the ranges of the stored columns prove that no result can leave them, and in
// checked 128 bits elsewhere.
#pragma once

#include <map>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <unordered_map>
#include <vector>

#include "base/packed_table.h"
#include "engine/asked/source.h"
#include "engine/program/far_codes.h"
#include "engine/vector/key_values.h"
#include "engine/vector/operations/operation.h"
#include "engine/vector/vector.h"
#include "language/checked.h"

namespace juniper::engine {

// What rows are grouped or ordered by: codes from 0 to `last`.
struct ScanKey {
  enum class Kind : std::uint8_t {
    column,  // column, seen from the table's rows: its codes; null_code where a link leads nowhere
    row,     // path: the number of the row that it leads to, the number of rows there where it leads nowhere; the
             // row's own number where the path is empty
    given,   // codes, one for each row
    value,   // expression, over the table's rows: the codes of its values among `values`
  };
  Kind kind = Kind::column;
  language::ColumnRef column;
  std::vector<language::LinkIndex> path;
  SharedCodes codes;
  std::uint64_t last = 0;
  language::NodePtr expression = nullptr;
  std::shared_ptr<const KeyValues> values = nullptr;

  static ScanKey of(const Source& source, const language::ColumnRef& column);
};

// Values of parts of expressions that were evaluated before (aggregates, rows of loops), by their canonical text: one
// vector each, all of one length.
using LeafValues = std::unordered_map<std::string, std::shared_ptr<const Vector>>;

class Program {
 public:
  using StepIndex = std::uint32_t;
  // The codes of a column or link that steps read, by their number in the program.
  using CodesIndex = std::uint32_t;

  // Expressions over the rows of a table, whose columns are those of slice_row.
  Program(const Source& source, language::TableIndex table);
  // Expressions over parts that have been evaluated, for `rows` slices.
  Program(const Source& source, const LeafValues& leaves, std::size_t rows);

  // Adds an expression and gives the step that holds its result. Equal expressions share their steps. Column
  // references start at the program's table.
  StepIndex add(const language::NodePtr& node);
  // Adds the codes of a key, as narrow numbers that are always values.
  StepIndex add_key(const ScanKey& key);
  // Adds to `values` all that an expression over the table's rows can be, where that is known without looking at the
  // rows: as it depends on one column, as it chooses among literals, or as there are few numbers that it can be. Else
  // false.
  bool add_possible(const language::NodePtr& expression, KeyValues& values);

  // For a condition that depends on nothing but one code of up to 32 bits, and overflows for none: 1 for the codes for
  // which it is true; or, where `or_null`, for which it is not false. Codes are those of a column or link of the table;
  // the last one is that of null, or of no row.
  struct Truth {
    CodesIndex codes = 0;
    base::PackedTable passes;  // of one bit
  };
  std::optional<Truth> add_truth(const language::NodePtr& condition, bool or_null = false);

  // A column of the table whose rows these are; nothing in any other program.
  const store::Column* stored_column(language::ColumnId column) const {
    const bool is_of_table = leaves_ == nullptr && dictionary_ == nullptr && column.table == table_;
    return is_of_table ? &source_.column(column) : nullptr;
  }
  // How many bits the codes take for each row.
  double bits_of_row(CodesIndex codes) const {
    return 8.0 * static_cast<double>(codes_[codes].codes->bytes().size()) /
           static_cast<double>(std::max<std::size_t>(rows_, 1));
  }
  CodesIndex add_column_codes(const store::Column& column) { return add_codes(column.codes, column.null_code); }

  Repr repr(StepIndex step) const { return steps_[step].repr; }
  unsigned threads() const { return source_.threads; }
  std::size_t rows() const { return rows_; }
  std::size_t blocks() const { return (rows_ + store::block_rows - 1) / store::block_rows; }

  // What one thread has of a block: the codes and values of its selected rows, each read or computed when it is first
  // asked for.
  class Registers {
   public:
    // How many rows are selected.
    std::size_t count() const { return count_; }
    // Where in the block a selected row stands.
    std::uint32_t position(std::size_t i) const { return whole_ ? static_cast<std::uint32_t>(i) : rows_[i]; }

   private:
    friend class Program;
    struct BlockCodes {
      std::vector<std::uint32_t> narrow;  // of the selected rows; empty where the codes are wide
      std::vector<std::uint64_t> wide;
      std::optional<std::uint64_t> constant;  // the code that the whole block has
      std::uint64_t known = 0;                // the selection for which `constant` and …
      std::uint64_t filled = 0;               // … the codes are right
    };
    std::vector<Vector> own_;
    std::vector<std::uint64_t> computed_;  // the selection for which each value is right
    std::vector<BlockCodes> codes_;
    std::vector<std::uint32_t> rows_;  // selected, in the block; those of a whole block are not written out
    bool whole_ = true;
    std::size_t block_ = 0;
    std::size_t begin_ = 0;  // the block's first row
    std::size_t count_ = 0;
    std::uint64_t selection_ = 0;  // counts them
    std::vector<std::uint64_t> wide_scratch_;
  };

  // Selects all rows of a block. Programs may be run by several threads, each with its registers.
  void begin(std::size_t block, Registers& registers) const;
  // Codes, by their number, that somebody reads.
  using CodesSet = std::vector<bool>;
  // Adds those that a step reads.
  void add_read(StepIndex step, CodesSet& read) const;
  // Narrows the selection down to these positions in it, which ascend. Codes beside those that are read `later` need not
  // follow.
  void keep(std::span<const std::uint32_t> positions, const CodesSet& later, Registers& registers) const;
  // The values of a step for the selected rows, as long as the selection stands.
  const Vector& value(StepIndex step, Registers& registers) const;

  // Where a step's value depends on nothing but one code of up to 32 bits: which one, and the values by code, or the
  // codes behind links; neither: the code itself is the value.
  struct ByCode {
    CodesIndex codes = 0;
    std::shared_ptr<const Vector> domain;
    std::shared_ptr<const FarCodes> far;

    bool has_table() const { return domain || far; }
    std::size_t table_size() const { return domain ? domain->size() : far->size(); }
  };
  std::optional<ByCode> by_code(StepIndex step) const;
  // The code of all rows of the block, where it has one alone.
  std::optional<std::uint64_t> constant_code(CodesIndex codes, Registers& registers) const;
  // The codes of the selected rows, of those that by_code tells of.
  std::span<const std::uint32_t> codes(CodesIndex codes, Registers& registers) const;
  store::Codes::Bounds bounds(CodesIndex codes, const Registers& registers) const;
  // The runs of codes of a whole selected block (store::Codes::runs); 0 if rows of it were left out.
  std::size_t runs(CodesIndex codes, const Registers& registers, store::Codes::Run* out) const;
  // False only if a step's value overflows for no row.
  bool may_overflow(StepIndex step) const;
  bool has_short_runs(CodesIndex codes, const Registers& registers) const {
    return codes_[codes].codes->has_short_runs(registers.block_);
  }
  // Writes the positions of the selected rows whose code is set in `passes`, as base::find_in does.
  std::size_t find_in(CodesIndex codes, Registers& registers, const std::uint32_t* passes, std::uint32_t* out) const;
  // What a step's exact results can't leave.
  Range range(StepIndex step) const { return steps_[step].range; }

  // The values of one step for all rows, on up to `threads` threads.
  Vector evaluate(StepIndex step, unsigned threads = 1) const;

 private:
  enum class Kind : std::uint8_t {
    constant,   // domain holds one value
    column,     // column: its values by row
    code,       // column: its codes by row
    entries,    // column: its dictionary, the rows of this program
    looked_up,  // domain by the codes in `codes`
    far_code,   // far by the codes in `codes`
    leaf,       // domain: one value a row
    row,        // the row's number
    given,      // given: a code for each row
    coded,      // the codes of inputs[0] among `values`
    widen,      // inputs[0] from narrow to wide
    tighten,    // inputs[0] from wide to narrow, overflow where it does not fit
    operation,  // kernel over inputs
  };
  struct Step {
    Kind kind = Kind::operation;
    Repr repr = Repr::narrow;
    Range range;  // of exact values; the codes of keys can be any
    language::NodePtr node;
    Kernel* kernel = nullptr;
    std::vector<StepIndex> inputs;
    const store::Column* column = nullptr;
    CodesIndex codes = 0;
    std::shared_ptr<const Vector> domain;
    std::shared_ptr<const FarCodes> far;
    std::uint64_t none = 0;  // of far_code: the code where the way leads nowhere
    SharedCodes given;
    std::shared_ptr<const KeyValues> values;
  };

  // Expressions over the codes of a column.
  Program(const Source& source, language::ColumnId column);

  StepIndex push(std::string key, Step step);
  // `last` is the largest code.
  CodesIndex add_codes(const store::Codes& codes, std::uint64_t last);
  Program& inner(Program program);
  bool pays_by_code(const language::Node& node, const store::Column& column) const;
  StepIndex add_code(const language::ColumnRef& ref);
  StepIndex push_far_code(std::string key, const std::vector<language::LinkIndex>& path, const store::Column* column);
  StepIndex add_row(const std::vector<language::LinkIndex>& path);
  StepIndex add_given(SharedCodes codes);
  StepIndex add_coded(const language::NodePtr& expression, std::shared_ptr<const KeyValues> values);
  StepIndex add_grouped_by(const language::NodePtr& expression);
  StepIndex add_constant(const language::NodePtr& node, const std::string& key);
  StepIndex add_leaf(const language::NodePtr& node, const std::string& key);
  StepIndex add_operation(const language::NodePtr& node, const std::string& key);
  StepIndex add_behind_link(const language::NodePtr& node, language::LinkIndex link, const std::string& key);
  // The codes that are read for each row to cross a link; and the row there for each of them, unless they are rows there.
  struct OverLink {
    CodesIndex codes = 0;
    std::unique_ptr<const FarCodes> rows;
  };
  OverLink add_over_link(language::LinkIndex link);
  void look_up_over_link(language::LinkIndex link, Vector behind, Step& step);
  StepIndex add_over_codes(const language::NodePtr& node, language::ColumnId column, const std::string& key);
  StepIndex converted(StepIndex step, Repr repr);
  Vector evaluate_with_none(StepIndex step) const;
  void run_step(const Step& step, Registers& registers, Vector& out) const;
  void prepare(Registers& registers) const;
  template <class Use>
  void with_codes(CodesIndex codes, Registers& registers, const Use& use) const;
  void fill(CodesIndex codes, Registers& registers) const;
  void run_none(Registers& registers) const;

  const Source& source_;
  const store::Column* dictionary_ = nullptr;
  const LeafValues* leaves_ = nullptr;
  language::TableIndex table_ = 0;
  std::size_t rows_ = 0;
  std::vector<Step> steps_;
  struct ReadCodes {
    const store::Codes* codes = nullptr;
    bool is_wide = false;
  };
  std::vector<ReadCodes> codes_;
  std::map<std::string, StepIndex> known_;
  // What looked-up values were computed by; texts among them may be views of what these own.
  std::vector<std::unique_ptr<Program>> inner_;
};

}  // namespace juniper::engine
