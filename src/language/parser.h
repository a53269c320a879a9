// Tokens to a syntax tree: a recursive-descent parser that goes on after an error, so that one run reports all.
//
// Grammar (names in capitals are tokens; [] optional, {} repeated):
//
//   model       = { "model" TEXT | table | link | measure | query }
//   table       = ["hidden"] "table" NAME "from" "csv" TEXT ["(" "delimiter" TEXT ")"] [TEXT] "{" { column } "}"
//   column      = { "key" | "hidden" } NAME ( type ["from" TEXT] | "=" expression ) attributes
//   type        = "integer" | "decimal" "(" NUMBER ")" | "real" | "text" | "boolean" | "date" | "datetime" | "time"
//   attributes  = { "sorted" "by" NAME | "format" TEXT | "used" "by" TEXT | TEXT }
//   link        = "link" NAME "." NAME "->" NAME "." NAME [ "as" NAME ]
//   measure     = ["hidden"] "measure" NAME "=" expression attributes
//   query       = "query" NAME [TEXT] "{" clauses "}"
//   clauses     = { "from" NAME | "by" by {"," by} | "show" show {"," show} | "where" expression
//                 | "total" total {"," total} | "sort" sort {"," sort} | "limit" NUMBER }
//
//   expression  = and-term { "or" and-term };    and-term = not-term { "and" not-term }
//   not-term    = "not" not-term | comparison
//   comparison  = sum [ ("=" | "<>" | "<" | "<=" | ">" | ">=" | "like" | "not" "like") sum
//                 | ["not"] "in" "(" expressions ")" | ["not"] "between" sum "and" sum
//                 | "is" ["not"] ( "null" | "distinct" "from" sum ) ]
//   sum         = product { ("+" | "-" | "||") product };    product = factor { ("*" | "/" | "div" | "mod") factor }
//   factor      = "-" factor | NUMBER | TEXT | "null" | "true" | "false" | ("date"|"datetime"|"time") TEXT
//                 | path | NAME "(" arguments ")" | aggregate | case | if | "(" expression ")"
#pragma once

#include "juniper/diagnostics.h"
#include "language/syntax.h"

namespace juniper::language {

// Parses a model text. Appends every problem found; the tree holds what could be read.
syntax::Model parse_model(const Sources& sources, std::uint32_t file, Diagnostics& diagnostics);

// Parses the clauses of one query (what stands between the braces of a saved query).
syntax::Query parse_query(const Sources& sources, std::uint32_t file, Diagnostics& diagnostics);

// Parses one expression that fills the whole text (a condition for --where).
syntax::ExpressionPtr parse_expression(const Sources& sources, std::uint32_t file, Diagnostics& diagnostics);

}  // namespace juniper::language
