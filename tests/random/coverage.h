// What random queries have exercised: constructs of the language, and pairs of them in one query.
#pragma once

#include <map>
#include <set>
#include <string>
#include <utility>

#include "juniper/ask.h"

namespace juniper::test {

class Coverage {
 public:
  // Counts what a question holds, when its answer has a row with a value.
  void add(const Model& model, const Question& question, const QueryResult& answer);

  std::size_t count(const std::string& construct) const;
  // Constructs, and pairs, that were met less often.
  std::set<std::string> below(std::size_t times) const;
  std::set<std::pair<std::string, std::string>> pairs_below(std::size_t times) const;
  std::size_t pairs() const;

  // Everything that the language has, by the names that `add` uses.
  static const std::set<std::string>& all();

 private:
  std::map<std::string, std::size_t> single_;
  std::map<std::pair<std::string, std::string>, std::size_t> pairs_;
};

}  // namespace juniper::test
