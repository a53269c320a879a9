// What a model defines.
#include <fmt/format.h>

#include "juniper/report.h"
#include "report/cells.h"

namespace juniper {

namespace {

namespace cell = report_cells;

using report_cells::joined;
using report_cells::left;
using report_cells::right;

// One thing in full: a line for each fact.
Report report_one(const Description& d) {
  Report made;
  const auto fact = [&](std::string name, std::string label, const std::string& value) {
    if (!value.empty()) made.blocks.push_back(Fact{std::move(name), std::move(label), cell::text(value)});
  };
  fact("kind", "kind", std::string(to_string(d.kind)));
  fact("name", "name", d.name);
  fact("type", "type", d.type);
  fact("format", "format", d.format);
  fact("description", "description", d.description);
  fact("place", "declared at", fmt::format("{}:{}:{}", d.place.file, d.place.line, d.place.column));
  fact("rests_on", "rests on", joined(d.rests_on, ", "));
  // Queries and readers are for people to use.
  const bool may_be_used = d.kind != DescribedKind::query && d.kind != DescribedKind::reader;
  if (may_be_used) fact("used_by", "used by", d.used_by.empty() ? "nothing in the model" : joined(d.used_by, ", "));
  if (!d.definition.empty()) made.blocks.push_back(Heading{"Definition"});
  if (!d.definition.empty()) made.blocks.push_back(Verbatim{"definition", d.definition + "\n"});
  return made;
}

}  // namespace

Report report(const std::vector<Description>& descriptions) {
  if (descriptions.size() == 1) return report_one(descriptions[0]);
  Table table{"descriptions",
              InCsv::with_all,
              {left("kind", "kind"), left("name", "name"), left("type", "type"), left("format", "format"),
               left("rests_on", "rests on"), right("users", "users", Audience::people),
               left("used_by", "used by", Audience::programs), left("description", "description"),
               left("definition", "definition", Audience::programs), left("place", "place", Audience::programs)},
              {}};
  cell::give_way(table, {"users", "format", "rests_on", "type"});
  for (const Description& d : descriptions) {
    Cell rests = cell::text(joined(d.rests_on, ", "));
    constexpr std::size_t most = 4;
    if (d.rests_on.size() > most) {
      rests.shown = joined({d.rests_on.begin(), d.rests_on.begin() + most}, ", ") +
                    fmt::format(" and {} more", d.rests_on.size() - most);
    }
    const bool of_table = d.kind == DescribedKind::table || d.kind == DescribedKind::calculated_table;
    table.rows.push_back(
        {{cell::text(std::string(to_string(d.kind))), cell::text(d.name), cell::text(d.type), cell::text(d.format),
          rests, cell::count(d.used_by.size()), cell::text(joined(d.used_by, ", ")), cell::text(d.description),
          cell::text(d.definition), cell::text(fmt::format("{}:{}:{}", d.place.file, d.place.line, d.place.column))},
         of_table});
  }
  Report made;
  made.blocks.push_back(std::move(table));
  return made;
}

}  // namespace juniper
