// How a question is answered.
#include <fmt/format.h>

#include "juniper/report.h"
#include "report/cells.h"

namespace juniper {

namespace {

namespace cell = report_cells;

using report_cells::left;
using report_cells::right;

// A statement for people: of a long list in it, such as the keys of a look-up, they see the beginning.
std::string abridged(const std::string& statement) {
  constexpr std::size_t longest = 160;
  constexpr std::size_t kept = 60;
  std::string text;
  std::size_t at = 0;
  while (at < statement.size()) {
    const std::size_t open = statement.find_first_of("[(", at);
    const std::size_t begin = open == std::string::npos ? statement.size() : open + 1;
    text += statement.substr(at, begin - at);
    at = begin;
    // Brackets without others in them, in which values stand one behind the other.
    const std::size_t close = statement.find_first_of("[]()", begin);
    if (close == std::string::npos || close - begin <= longest || statement[close] == '[' || statement[close] == '(')
      continue;
    const std::size_t cut = statement.find(',', begin + kept);
    if (cut >= close) continue;
    text += statement.substr(begin, cut - begin) + ", …";
    at = close;
  }
  return text;
}
}  // namespace

Report report(const Explanation& explanation) {
  Table table{"steps",
              InCsv::with_all,
              {left("way", "step"), left("what", "of"), left("place", "at"), right("slices", "slices"),
               right("rows_in", "rows in"), right("rows_out", "rows out"), right("bytes", "bytes"),
               right("nanoseconds", "time"), left("note", "note", Audience::programs),
               right("depth", "depth", Audience::programs)},
              {}};
  for (const ExplainStep& step : explanation.steps) {
    const Cell way = cell::text(std::string(to_string(step.way)));
    const Cell what = cell::code(step.what, 60);
    table.rows.push_back({{way, what, cell::place(step.place), cell::count(step.slices), cell::count(step.rows_in),
                           cell::count(step.rows_out), cell::bytes(step.bytes), cell::nanoseconds(step.nanoseconds),
                           cell::text(step.note), cell::count(step.depth)},
                          step.way == ExplainWay::row_by_row,
                          Audience::all,
                          static_cast<std::uint32_t>(step.depth)});
  }
  cell::give_way(table, {"place", "slices", "bytes", "rows_in"});
  Report made;
  made.blocks.push_back(std::move(table));
  for (const ExplainStep& step : explanation.steps) {
    if (!step.note.empty())
      made.blocks.push_back(Paragraph{fmt::format("{}: {}.", cell::code(step.what, 60).shown, step.note)});
  }
  if (!explanation.statements.empty()) {
    Table asked{"statements",
                InCsv::with_all,
                {right("statement", "statement"), left("place", "asked of"), right("rows", "rows moved"),
                 right("bytes", "bytes moved"), right("nanoseconds", "time"), left("text", "text", Audience::programs)},
                {}};
    std::uint64_t number = 0;
    for (const AskedStatement& statement : explanation.statements) {
      asked.rows.push_back(
          {{cell::count(++number), cell::text(statement.place), cell::count(statement.rows),
            cell::bytes(statement.bytes), cell::nanoseconds(statement.nanoseconds), cell::text(statement.text)}});
    }
    made.blocks.push_back(std::move(asked));
    number = 0;
    for (const AskedStatement& statement : explanation.statements) {
      made.blocks.push_back(Paragraph{fmt::format("Statement {}:", ++number)});
      made.blocks.push_back(Verbatim{fmt::format("statement_{}", number), abridged(statement.text) + "\n"});
    }
  }
  for (const std::string& text : explanation.row_by_row) made.blocks.push_back(Paragraph{"Row by row: " + text});
  if (!explanation.row_by_row.empty()) {
    made.blocks.push_back(
        Paragraph{"The time of what goes row by row grows with rows times slices. A condition that compares a column "
                  "with something outside by = (and one by <, <=, > or >=) is sorted or grouped instead."});
  }
  return made;
}

}  // namespace juniper
