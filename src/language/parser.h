// Tokens to a syntax tree: a recursive-descent parser that goes on after an error, so that one run reports all.
//
// Grammar (names in capitals are tokens; [] optional, {} repeated):
//
//   model       = { "model" TEXT | "include" TEXT | param | table | link | calendar | measure | query | reader }
//   param       = "param" NAME "=" expression [TEXT]
//   table       = ["hidden"] "table" NAME ( "from" KIND TEXT ["(" OPTION { "," OPTION } ")"] [TEXT] "{" { column | key } "}"
//                                         | "=" rows [TEXT] )
//   column      = { "key" | "hidden" } NAME ( type ["from" TEXT] | "=" expression ) attributes
//   key         = "key" "(" NAME "," NAME {"," NAME} ")"
//   type        = "integer" | "decimal" "(" NUMBER ")" | "real" | "text" | "boolean" | "date" | "datetime" | "time"
//   attributes  = { "sorted" "by" NAME | "format" TEXT | "used" "by" TEXT | TEXT }
//   link        = "link" link-end "->" link-end [ "as" NAME ]
//   link-end    = NAME "." ( NAME | "(" NAME {"," NAME} ")" )
//   calendar    = "calendar" NAME "." NAME [ "periods" "(" NAME {"," NAME} ")" ]
//   measure     = ["hidden"] "measure" NAME "=" expression attributes
//   query       = "query" NAME [TEXT] "{" clauses "}"
//   reader      = "reader" NAME [TEXT] "{" { NAME "where" expression | "hide" hidden {"," hidden} } "}"
//   hidden      = NAME "." NAME | "measure" NAME
//   clauses     = { "from" NAME | "by" by {"," by} | "show" show {"," show} | "where" expression
//                 | "having" expression | "total" total {"," total} | "sort" sort {"," sort} | "limit" NUMBER
//                 | "keep" "empty" | "with" measure }
//
//   expression  = and-term { "or" and-term };    and-term = not-term { "and" not-term }
//   not-term    = "not" not-term | comparison
//   comparison  = sum [ ("=" | "<>" | "<" | "<=" | ">" | ">=" | "like" | "not" "like") sum
//                 | ["not"] "in" "(" expressions ")" | ["not"] "between" sum "and" sum
//                 | "is" ["not"] ( "null" | "distinct" "from" sum ) ]
//   sum         = product { ("+" | "-" | "||") product };    product = factor { ("*" | "/" | "div" | "mod") factor }
//   factor      = "-" factor | primary modifiers
//   primary     = NUMBER | TEXT | "null" | "true" | "false" | ("date"|"datetime"|"time") TEXT
//                 | path | NAME "(" arguments ")" | aggregate | case | if | let | "(" expression ")"
//   modifiers   = ["of" NAME] ["via" NAME] ["through" NAME] ["across" dropped] ["during" period]
//                 ["where" expression]
//   dropped     = paths | "everything" ["but" paths];    paths = path | "(" path {"," path} ")"
//   period      = ("to_date" | "whole" | "previous" | "next") "(" unit ")" | ("shift" | "trailing") "(" NUMBER unit ")"
//   let         = "let" "(" NAME "=" (expression | rows) {"," …} ")" expression
//
//   aggregate   = "count" "(" loop ")" | "exists" "(" loop ")" | "rank" "(" expression "among" expression "for" loop
//                 ["asc" | "desc"] ["dense"] ")" | WORD "(" ["distinct"] expression ["," expression] ["by" keys]
//                 "for" loop ")";                loop = [NAME "in"] rows
//   rows        = source { "of" NAME | "via" NAME | "across" dropped | "where" expression | "with" items
//                 | "sorted" "by" keys }
//   source      = NAME | "(" rows ")" | "distinct" "(" path ["as" NAME] {"," …} ["for" rows] ")"
//                 | "group" rows "by" items ["with" items] | "top" NUMBER rows "by" expression ["asc" | "desc"]
//                 | ("union" | "except" | "intersect") "(" rows "," rows ")"
#pragma once

#include <map>

#include "juniper/diagnostics.h"
#include "language/syntax.h"

namespace juniper::language {

// Parses a model text. Appends every problem found; the tree holds what could be read.
syntax::Model parse_model(const Sources& sources, std::uint32_t file, Diagnostics& diagnostics);

// Parses the clauses of one query (what stands between the braces of a saved query).
syntax::Query parse_query(const Sources& sources, std::uint32_t file, Diagnostics& diagnostics);

// Parses one expression that fills the whole text (a condition for --where).
syntax::ExpressionPtr parse_expression(const Sources& sources, std::uint32_t file, Diagnostics& diagnostics);

// Parses one measure that fills the whole text: `measure NAME = …`.
syntax::Measure parse_measure(const Sources& sources, std::uint32_t file, Diagnostics& diagnostics);

// Where the parts of a model text begin that have a line, or a place within their line, of their own.
enum class Mark : std::uint8_t {
  model,
  include,
  parameter,
  table,
  link,
  calendar,
  measure,
  function,
  query,
  reader,
  column,     // in a table: a source's column
  computed,   // in a table: a calculated column
  clause,     // of a query or a reader
  close,      // the brace behind columns or clauses
  cell,       // what is aligned with its like in the lines around
  attribute,  // what stands behind
};
using Marks = std::map<std::uint32_t, Mark>;  // by offset in the text

// The marks of a model text. Appends every problem found.
Marks parse_marks(const Sources& sources, std::uint32_t file, Diagnostics& diagnostics);

}  // namespace juniper::language
