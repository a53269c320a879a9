// The steps of a refactoring, as they are written.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "juniper/diagnostics.h"
#include "juniper/value.h"

namespace juniper::refactoring {

// In the order in which the steps of a plan are carried out: what moves expressions goes first, as its proof reads
// columns as they are stored; then what takes columns away; last, which rows a table holds, and in which order.
enum class Verb : std::uint8_t { inline_column, store, relink, split, retype, round, drop, trim, reorder };

struct Step {
  Verb verb = Verb::inline_column;
  std::string table;   // "" for a measure
  std::string column;  // or the measure; "" for a step that is about a table
  Type type;           // of retype and round
  std::string expression;
  std::string date_name;  // of split; "" for those that it gives
  std::string time_name;
  std::vector<std::string> columns;  // of reorder
  // Of inline: what several measures need is written into each of them, and is no function.
  bool spells_out = false;
  std::string text;  // the step as it is written
};

// Reads a plan, steps one behind the other:
//
//   inline TABLE.COLUMN             store TABLE.NAME = EXPRESSION      split TABLE.COLUMN [into (NAME, NAME)]
//   retype TABLE.COLUMN TYPE        round TABLE.COLUMN TYPE            drop TABLE.COLUMN | MEASURE
//   relink TABLE.COLUMN             trim TABLE                         reorder TABLE by (COLUMN, …)
//
// Errors: JR-807 (not a step; with its place in the plan), JR-801 (no TABLE.COLUMN), those of reading a type.
Result<std::vector<Step>> parse_plan(const std::string& text);

}  // namespace juniper::refactoring
