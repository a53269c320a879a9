#include "sql/parts.h"

#include <fmt/format.h>

#include <algorithm>

#include "sql/aliases.h"
#include "sql/dialect.h"

namespace juniper::sql_engine {

namespace {

// The place of a text among others, where it is put if it is not there.
std::size_t place_in(std::vector<std::string>& texts, const std::string& text) {
  const auto known = std::find(texts.begin(), texts.end(), text);
  const auto place = static_cast<std::size_t>(known - texts.begin());
  if (known == texts.end()) texts.push_back(text);
  return place;
}

// What comes before the last column, which may be the only one.
std::string and_more(const std::string& columns) {
  return columns.empty() ? "" : columns + ", ";
}

}  // namespace

std::string named_columns(const std::vector<std::string>& expressions) {
  std::vector<std::string> named;
  for (std::size_t c = 0; c < expressions.size(); ++c) named.push_back(fmt::format("{} AS c{}", expressions[c], c));
  return joined(named, ", ");
}

std::string column_names(const std::vector<std::string>& expressions) {
  std::vector<std::string> names;
  for (std::size_t c = 0; c < expressions.size(); ++c) names.push_back(fmt::format("c{}", c));
  return joined(names, ", ");
}

Parts::Part& Parts::part(const std::vector<std::string>& meaning) {
  const auto [known, added] = numbers_.try_emplace(meaning, parts_.size());
  if (!added) return parts_[known->second];
  const auto is_taken = [&](const std::string& name) {
    // Engines take names of tables that differ in case for the same.
    const auto same = [&](const language::Table& table) {
      return std::equal(name.begin(), name.end(), table.name.begin(), table.name.end(),
                        [](char a, char b) { return a == (b >= 'A' && b <= 'Z' ? b - 'A' + 'a' : b); });
    };
    return std::any_of(model_.tables.begin(), model_.tables.end(), same);
  };
  Part& part = parts_.emplace_back();
  do part.name = fmt::format("part{}", ++last_name_);
  while (is_taken(part.name));
  return part;
}

std::string Parts::add(const std::string& select) {
  const std::vector<std::string> meaning = with_own_aliases({select});
  Part& whole = part(meaning);
  whole.select = meaning[0];
  return whole.name;
}

Parts::Aggregated Parts::add(const std::vector<std::string>& groups, const std::string& source, const std::string& x,
                             const std::string& aggregate) {
  std::vector<std::string> pieces = groups;
  pieces.push_back(source);
  pieces.push_back(x);
  pieces = with_own_aliases(pieces);
  // An expression that looks up in other parts stands behind them: it has a part of its own.
  const bool looks_up = x.find("SELECT") != std::string::npos;
  Part& shared = part(looks_up ? pieces : std::vector<std::string>(pieces.begin(), pieces.end() - 1));
  const std::string& expression = pieces.back();
  shared.source = pieces[groups.size()];
  shared.groups.assign(pieces.begin(), pieces.begin() + static_cast<std::ptrdiff_t>(groups.size()));
  const std::string value = fmt::format("x{}", place_in(shared.values, expression));
  return {shared.name, fmt::format("v{}", place_in(shared.aggregates, substituted(aggregate, {{"x", value}})))};
}

std::vector<std::string> Parts::texts() const {
  std::vector<std::string> texts;
  for (const Part& part : parts_) {
    std::string select = part.select;
    if (!part.aggregates.empty()) {
      std::string values;
      for (std::size_t v = 0; v < part.values.size(); ++v)
        values += fmt::format("{}{} AS x{}", v == 0 ? "" : ", ", part.values[v], v);
      std::string aggregates;
      for (std::size_t v = 0; v < part.aggregates.size(); ++v)
        aggregates += fmt::format("{}{} AS v{}", v == 0 ? "" : ", ", part.aggregates[v], v);
      const std::string names = column_names(part.groups);
      select = fmt::format("SELECT {}{}\n  FROM (SELECT {}{} {}) q{}", and_more(names), aggregates,
                           and_more(named_columns(part.groups)), values, part.source,
                           names.empty() ? "" : "\n  GROUP BY " + names);
    }
    texts.push_back(fmt::format("{} AS MATERIALIZED (\n  {})", part.name, select));
  }
  return texts;
}

}  // namespace juniper::sql_engine
