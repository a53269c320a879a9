// What each step of a plan does to a model's texts, and what is to be proved about it.
#pragma once

#include <string>
#include <vector>

#include "juniper/model.h"
#include "language/traverse.h"
#include "model/uses.h"
#include "refactor/plan.h"

namespace juniper::refactoring {

// What a step says about all rows of a table.
struct Claim {
  enum class Kind : std::uint8_t {
    inlined,  // what was stored in the column equals the expression over what was stored
    stored,   // what is stored in the column now equals the expression over what is stored now
    split,    // what was stored in the column is the date and the time of day of the two made
    retyped,  // what was stored in the column is the same value, or the text of the one, now
    rounded,  // what is stored in the column now is the nearest to what was, halves away from zero
    // The link from the column, now by other columns, leads from each row to the row that it led to.
    relinked,
    trimmed,    // each row leads to the row of the table that it led to, if any, and that holds the same values
    reordered,  // the table has the same rows
    kept,       // what is stored in the column is what was
  };
  Kind kind = Kind::inlined;
  std::string table;
  std::string column = {};             // "" where it is about the table
  std::vector<std::string> made = {};  // of split: the columns there are instead
  std::string expression = {};
  bool removed = false;
  std::string step = {};         // that says so
  language::LinkIndex link = 0;  // of relinked
};

struct Applied {
  std::vector<ModelText> texts;
  std::vector<Claim> claims;
  std::vector<std::string> notes;  // what the new text does not say as the old one did
};

// Carries a step out on a model's texts. Errors: JR-801 (no such column or measure), JR-802 (not of the kind that the
// step is for), JR-803 (blocked: one error for each thing in the way, at its place).
Result<Applied> apply(const Model& model, const Step& step);

Result<Applied> inline_column(const Model& model, const Step& step);
Result<Applied> store_expression(const Model& model, const Step& step);
Result<Applied> split_timestamp(const Model& model, const Step& step);
Result<Applied> retype_column(const Model& model, const Step& step);
Result<Applied> round_column(const Model& model, const Step& step);
Result<Applied> drop(const Model& model, const Step& step);
Result<Applied> relink(const Model& model, const Step& step);
Result<Applied> trim_table(const Model& model, const Step& step);
Result<Applied> reorder_table(const Model& model, const Step& step);

// --- what steps share -----------------------------------------------------------------------------------------------

// Errors: JR-801.
Result<language::ColumnId> find_column(const language::CheckedModel& model, const Step& step);

// The table that a step names, which is read from files. Errors: JR-801 (no such table), JR-802 (a calculated table).
Result<language::TableIndex> find_source_table(const Model& read, const Step& step);

// Captured queries have to be understood as before. Errors: JR-803, at each that is not.
Result<void> keep_captured(const Model& before, const Model& after, const Step& step);

// The model of changed texts. Errors: JR-803 with what the texts' own errors, or new warnings, say.
Result<Model> read_again(const Model& before, const std::vector<ModelText>& texts, const Step& step);

}  // namespace juniper::refactoring
