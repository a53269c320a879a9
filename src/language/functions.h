// Functions of the model: one text with arguments, which stand in its place where it is used.
#pragma once

#include <cstddef>
#include <map>
#include <set>
#include <string>

#include "language/syntax.h"

namespace juniper::language::syntax {

struct Expanded {
  ExpressionPtr expression;
  std::size_t nodes = 0;  // how many it has
  // A name that an argument uses and that the function gives to a row, or to a value of its own; "" if there is none.
  std::string captured;
};

// The body of a function with expressions in the place of its arguments, each in brackets of its own. What comes from an
// argument keeps its place in the text, and so does what comes from the body.
Expanded with_arguments(const Expression& body, const std::map<std::string, const Expression*>& arguments);

// The words of all calls in an expression: functions of the language, and of the model.
std::set<std::string> called(const Expression& expression);

}  // namespace juniper::language::syntax
