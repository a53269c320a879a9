// Syntax tree to checked tree: names, types, links and slices.
#pragma once

#include <map>
#include <set>
#include <string>
#include <vector>

#include "juniper/diagnostics.h"
#include "language/checked.h"
#include "language/syntax.h"

namespace juniper::language {

// What a model text is read with.
struct Reading {
  // Values of parameters, in their exact text form, by name.
  std::map<std::string, std::string> settings;
  // Definitions that stand in for those of the text, or beside them.
  std::vector<const syntax::Measure*> drafts;
  // What the text held, and was left out of it: its names stay taken, and what rests on it is an error (JR-219).
  std::vector<Disabled> disabled = {};
};

// Checks a whole model. Appends every problem found; the result may be used only when none is an error.
CheckedModel check_model(const syntax::Model& model, Sources sources, const Reading& reading, Diagnostics& diagnostics);

// The same, but what is wrong with a definition disables it, and what rests on it: both are taken out of the tree, and
// stand in CheckedModel::disabled with what is wrong. Other errors are appended, those of `diagnostics` that the parser
// told of such definitions go from there. Drafts are not disabled.
CheckedModel check_what_holds(syntax::Model& model, const Sources& sources, Reading reading, Diagnostics& diagnostics);

// Checks one query without drafts against a checked model, with further conditions (checked as if each were joined to
// its `where` by `and`). Their texts must be in model.sources.
Query check_query(const CheckedModel& model, const syntax::Query& query,
                  const std::vector<const syntax::Expression*>& further_where, Diagnostics& diagnostics);

}  // namespace juniper::language
