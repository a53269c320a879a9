// Random well-typed queries, as trees of text, so that one that fails can be made smaller.
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "juniper/model.h"
#include "random/random_model.h"

namespace juniper::test {

struct Piece;
using PiecePtr = std::shared_ptr<const Piece>;

// Text with holes for other pieces. A piece may be replaced by any other of the same place.
struct Piece {
  std::string place;               // what may stand here: "integer @ r1,r2"
  std::vector<std::string> parts;  // one more than children
  std::vector<PiecePtr> children;
  std::vector<std::vector<std::string>> others = {};  // parts that differ from these in one thing

  std::string text() const;
};

// The query as clauses; those that are empty are left out.
struct RandomQuery {
  std::vector<std::string> by;
  std::vector<PiecePtr> show;
  std::vector<PiecePtr> where;
  PiecePtr having;
  std::vector<std::string> totals;
  std::string sort;
  std::string limit;
  bool keep_empty = false;
  std::vector<PiecePtr> drafts;  // "measure m = …"

  std::string text() const;
};

// Adds random calculated columns and measures to a model.
void add_definitions(Random& random, RandomModel& model);
// A calculated column of one table: its declaration's text, without the name. `depth` bounds its size.
struct RandomColumn {
  Type type;
  std::string text;
};
RandomColumn random_column(Random& random, const RandomModel& model, std::size_t table, int depth);
// Adds calculated columns to a model's tables, which queries then name as they do any other: of exact types, whose values
// are the same however they are computed. Those that the language refuses are left out.
void add_calculated_columns(Random& random, RandomModel& model);
// A condition on one table's row, which is called `this`.
std::string random_condition(Random& random, const RandomModel& model, std::size_t table, int depth);
RandomQuery random_query(Random& random, const RandomModel& model);

// Queries a little smaller than this one: without a clause, or with a part replaced by one of its own parts.
std::vector<RandomQuery> smaller(const RandomQuery& query);

// A query that asks for something without meaning, without those of its parts that do.
RandomQuery with_meaning(const Model& model, RandomQuery query);

}  // namespace juniper::test
