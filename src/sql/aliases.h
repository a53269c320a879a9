// Which rows a piece of SQL reads. Every table and subquery that the translator puts into a FROM has an alias of its
// own, t1, t2, …, unique in its statement; so a piece of text tells by itself whether it depends on rows around it, and
// what is known to be equal may take each other's place. Quoted names and texts are passed over.
#pragma once

#include <map>
#include <set>
#include <string>
#include <vector>

namespace juniper::sql_engine {

std::string alias_text(int number);

// The columns that a piece reads and whose aliases it does not define itself, as written: t3."energy", t7.f0.
std::set<std::string> open_columns(const std::string& text);
// The aliases that a piece defines.
std::set<std::string> defined_aliases(const std::string& text);
// The alias of a column as written.
std::string alias_of(const std::string& column);

// The piece with other text in place of each of some expressions.
std::string substituted(const std::string& text, const std::map<std::string, std::string>& others);

// Pieces of one text with their aliases numbered from 1 in the order in which they come: equal for those that are the
// same but for their aliases. Only for a text that defines all that it reads.
std::vector<std::string> with_own_aliases(const std::vector<std::string>& pieces);

}  // namespace juniper::sql_engine
