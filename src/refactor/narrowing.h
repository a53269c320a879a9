// Narrows a difference down to where it comes from.
#pragma once

#include <string>
#include <vector>

#include "juniper/dataset.h"
#include "juniper/narrowing.h"

namespace juniper::refactoring {

// The same question to two models, or to one with drafts.
struct Sides {
  Dataset base;
  Dataset other;
  std::vector<std::string> drafts;  // with which the other is asked
  std::string other_name;           // of the other's column among the rows
};

// Looks, column by column, for the few values that carry nearly all of the difference of a measure, and for rows.
// Nothing is found where the measure is in only one of the two, or no number. Takes a query for each column of at most
// 1,000 values, up to three times.
Narrowing narrow(const Sides& sides, const std::string& measure);

}  // namespace juniper::refactoring
