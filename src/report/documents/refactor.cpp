// Drafts and refactorings as documents.
#include <fmt/format.h>

#include <algorithm>

#include "base/format.h"
#include "juniper/report.h"
#include "report/cells.h"
#include "report/comparisons.h"

namespace juniper {

namespace cell = report_cells;

using report_cells::left;
using report_cells::plural;
using report_cells::right;

namespace {

// Two figures and their difference, for people with a sign and a unit.
TableRow change_row(std::string figure, std::string unit, const Cell& before, const Cell& after, std::int64_t change,
                    const std::string& shown) {
  return {{cell::text(std::move(figure)),
           cell::text(std::move(unit)),
           before,
           after,
           {Cell::Kind::change, (change > 0 ? "+" : (change < 0 ? "-" : "")) + shown, fmt::format("{}", change)}}};
}

TableRow bytes_row(std::string figure, std::uint64_t before, std::uint64_t after) {
  const auto change = static_cast<std::int64_t>(after) - static_cast<std::int64_t>(before);
  return change_row(std::move(figure), "bytes", cell::bytes(before), cell::bytes(after), change,
                    base::format_bytes(static_cast<std::uint64_t>(std::abs(change))));
}

TableRow time_row(std::string figure, std::int64_t before, std::int64_t after) {
  return change_row(std::move(figure), "nanoseconds", cell::nanoseconds(before), cell::nanoseconds(after),
                    after - before, base::format_nanoseconds(std::abs(after - before)));
}

// What a query takes longer; below 0, what it gains. What may be noise is nothing.
std::int64_t cost_of(const QueryProof& query) {
  const bool tells =
      query.is_timed && (query.speed.verdict == SpeedVerdict::slower || query.speed.verdict == SpeedVerdict::faster);
  return tells ? query.speed.candidate_nanoseconds - query.speed.base_nanoseconds : 0;
}

// A query that takes so many times as long is told first, whatever the change saves.
constexpr double much_slower = 1.5;

// "'regions' takes 1.8 times as long, 'plans' 1.6 times"; "" where none is much slower.
std::string much_slower_queries(const Refactoring& refactoring) {
  constexpr std::size_t most = 3;
  std::vector<const QueryProof*> slow;
  for (const QueryProof& q : refactoring.queries) {
    if (cost_of(q) > 0 && q.speed.ratio >= much_slower) slow.push_back(&q);
  }
  std::sort(slow.begin(), slow.end(),
            [](const QueryProof* a, const QueryProof* b) { return a->speed.ratio > b->speed.ratio; });
  std::string text;
  for (std::size_t i = 0; i < std::min(slow.size(), most); ++i) {
    text += fmt::format("{}'{}' {}{:.1f} times{} ({} instead of {})", text.empty() ? "" : ", ", slow[i]->query,
                        text.empty() ? "takes " : "", slow[i]->speed.ratio, text.empty() ? " as long" : "",
                        base::format_nanoseconds(slow[i]->speed.candidate_nanoseconds),
                        base::format_nanoseconds(slow[i]->speed.base_nanoseconds));
  }
  if (slow.size() > most) text += fmt::format(", and {} more are slower", slow.size() - most);
  return text;
}

// What the change is worth, both ways.
std::string verdict(const Refactoring& refactoring) {
  const Ledger& ledger = refactoring.ledger;
  const auto bytes =
      static_cast<std::int64_t>(ledger.bytes_before.total()) - static_cast<std::int64_t>(ledger.bytes_after.total());
  const std::int64_t load = ledger.load_nanoseconds_before - ledger.load_nanoseconds_after;
  const QueryProof* slowest = nullptr;
  const QueryProof* fastest = nullptr;
  std::size_t reached = 0;
  for (const QueryProof& q : refactoring.queries) {
    reached += q.is_timed ? 1 : 0;
    if (cost_of(q) > (slowest == nullptr ? 0 : cost_of(*slowest))) slowest = &q;
    if (cost_of(q) < (fastest == nullptr ? 0 : cost_of(*fastest))) fastest = &q;
  }
  const std::string slow = much_slower_queries(refactoring);
  std::string text = slow.empty() ? "" : "Slower: " + slow + ". ";
  text +=
      fmt::format("{} {} the file and {} {} each load", bytes >= 0 ? "Takes" : "Adds",
                  base::format_bytes(static_cast<std::uint64_t>(std::abs(bytes))) + (bytes >= 0 ? " off" : " to"),
                  load < 0 ? "adds" : "saves", base::format_nanoseconds(std::abs(load)) + (load < 0 ? " to" : " of"));
  if (slowest != nullptr)
    text += fmt::format("; costs {} in '{}', the most of all queries", base::format_nanoseconds(cost_of(*slowest)),
                        slowest->query);
  if (fastest != nullptr)
    text += fmt::format("; gains {} in '{}', the most of all", base::format_nanoseconds(-cost_of(*fastest)),
                        fastest->query);
  if (reached == 0) {
    text += "; it reaches no known query";
  } else if (slowest == nullptr && fastest == nullptr) {
    text += "; no query is slower or faster for certain";
  }
  // How often a query may be asked for each load before its time outweighs that of the load; 0: not once.
  const auto times = [&](const QueryProof& q) { return std::abs(load) / std::abs(cost_of(q)); };
  const auto asked_more = [&](const QueryProof& q) {
    return fmt::format("'{}' is asked more than {} for each load, or somebody waits for it.", q.query,
                       times(q) < 2 ? "once" : base::grouped(static_cast<std::uint64_t>(times(q))) + " times");
  };
  // Whether so slow a query is worth it is not for a sum to say.
  if (!slow.empty()) return text + ": look at what is slower first.";
  if (bytes >= 0 && slowest == nullptr) return text + ": worth it.";
  if (bytes >= 0 && load > 0 && times(*slowest) > 0) return text + ": worth it, unless " + asked_more(*slowest);
  if (bytes >= 0) return text + ": worth it where bytes count for more than the time of that query.";
  if (fastest == nullptr) return text + ": not worth it for bytes or time.";
  return text + ": worth its bytes where " + asked_more(*fastest);
}

void add_ledger(const Refactoring& refactoring, Report& made) {
  const Ledger& ledger = refactoring.ledger;
  made.blocks.push_back(Heading{"Ledger"});
  Table table{
      "ledger",
      InCsv::with_all,
      {left("figure", ""), left("unit", "unit", Audience::programs), right("before", "before"), right("after", "after"),
       right("change", "change"), left("verdict", "with confidence"), right("runs", "runs each")},
      {}};
  cell::give_way(table, {"runs", "before"});
  const BytesByPart& was = ledger.bytes_before;
  const BytesByPart& is = ledger.bytes_after;
  table.rows.push_back(bytes_row("store file", was.total(), is.total()));
  const auto add_part = [&](const char* figure, std::uint64_t before, std::uint64_t after) {
    table.rows.push_back(bytes_row(figure, before, after));
    table.rows.back().depth = 1;
  };
  add_part("dictionaries", was.dictionaries, is.dictionaries);
  add_part("codes", was.codes, is.codes);
  add_part("links", was.links, is.links);
  add_part("all else", was.rest, is.rest);
  table.rows.push_back(time_row("load", ledger.load_nanoseconds_before, ledger.load_nanoseconds_after));
  for (const QueryProof& q : refactoring.queries) {
    if (!q.is_timed) continue;
    table.rows.push_back(time_row("query " + q.query, q.speed.base_nanoseconds, q.speed.candidate_nanoseconds));
    table.rows.back().cells.push_back(cell::text(to_string(q.speed.verdict)));
    table.rows.back().cells.push_back(cell::count(q.speed.runs));
  }
  for (TableRow& row : table.rows) row.cells.resize(table.columns.size());
  made.blocks.push_back(std::move(table));
  const auto list_columns = [&](const char* key, const char* header, const std::vector<Ledger::Column>& columns) {
    Table listed{key,
                 InCsv::with_all,
                 {left("column", header), right("bytes", "bytes"), right("nanoseconds", "time at load")},
                 {}};
    for (const Ledger::Column& c : columns)
      listed.rows.push_back({{cell::text(c.column), cell::bytes(c.bytes), cell::nanoseconds(c.nanoseconds)}});
    if (!columns.empty()) made.blocks.push_back(std::move(listed));
  };
  list_columns("removed_columns", "no longer stored", ledger.removed);
  list_columns("added_columns", "stored instead", ledger.added);
  made.blocks.push_back(Paragraph{verdict(refactoring)});
}

}  // namespace

Report report(const Draft& draft) {
  Report made;
  made.blocks.push_back(Fact{"measure", "measure", cell::text(draft.measure)});
  if (!draft.before.empty()) made.blocks.push_back(Fact{"before", "is", cell::text(draft.before)});
  made.blocks.push_back(Fact{"definition", "draft", cell::text(draft.definition)});
  if (draft.queries.empty()) {
    made.blocks.push_back(Paragraph{"No saved query depends on it: name queries to see the two side by side."});
    return made;
  }
  if (draft.before.empty()) {
    // A new measure has nothing to be compared with.
    for (const DraftedQuery& q : draft.queries) {
      made.blocks.push_back(Heading{q.query});
      Report answer = report(q.draft);
      std::move(answer.blocks.begin(), answer.blocks.end(), std::back_inserter(made.blocks));
    }
    return made;
  }
  made.blocks.push_back(
      Fact{"same",
           "same",
           {Cell::Kind::boolean, draft.same() ? "yes: no query shows a different number" : "no: see what differs below",
            draft.same() ? "true" : "false"}});
  Table queries{"queries",
                InCsv::with_all,
                {left("query", "query"), right("rows", "rows"), right("cells", "cells compared"),
                 right("differences", "differing"), right("base_nanoseconds", "time"),
                 right("draft_nanoseconds", "with the draft")},
                {}};
  std::vector<std::pair<std::string, Comparison>> compared;
  for (const DraftedQuery& q : draft.queries) {
    queries.rows.push_back({{cell::text(q.query), cell::count(q.comparison.rows), cell::count(q.comparison.cells),
                             cell::count(q.comparison.differences), cell::nanoseconds(q.base_nanoseconds),
                             cell::nanoseconds(q.draft_nanoseconds)},
                            !q.comparison.same()});
    compared.emplace_back(q.query, q.comparison);
  }
  made.blocks.push_back(Heading{"Queries"});
  made.blocks.push_back(std::move(queries));
  if (Table differences = difference_table(compared); !differences.rows.empty()) {
    made.blocks.push_back(Heading{"What differs"});
    made.blocks.push_back(std::move(differences));
  }
  add_narrowing(draft.narrowing, "", made);
  return made;
}

namespace {

// What probes found; those that differ are added to what was compared.
void add_probes(const ProbeProof& probes, std::vector<std::pair<std::string, Comparison>>& compared, Report& made) {
  made.blocks.push_back(Heading{"Proof by probes: the measures that the change can reach, by columns and filters"});
  if (probes.measures.empty()) {
    made.blocks.push_back(Paragraph{"No measure reads what has changed."});
    return;
  }
  Table table{"probes",
              InCsv::with_all,
              {right("measures", "measures"), right("possible", "probes"), right("asked", "asked"),
               right("sample_rows", "rows of large tables"), right("asked_of_all", "asked of all rows"),
               right("refused", "refused by both"), right("cells", "cells compared"), right("rows_read", "rows read"),
               right("differing", "probes that differ"), right("wide_columns", "columns too wide"),
               left("cut_short", "cut short")},
              {}};
  cell::give_way(table,
                 {"wide_columns", "cut_short", "rows_read", "refused", "asked_of_all", "sample_rows", "possible"});
  table.rows.push_back(
      {{cell::count(probes.measures.size()), cell::count(probes.possible), cell::count(probes.asked),
        probes.sample_rows == 0 ? cell::text("all") : cell::count(probes.sample_rows), cell::count(probes.asked_of_all),
        cell::count(probes.refused), cell::count(probes.cells), cell::count(probes.rows_read),
        cell::count(probes.differing.size()), cell::count(probes.wide_columns), cell::boolean(probes.cut_short())},
       !probes.differing.empty()});
  made.blocks.push_back(std::move(table));
  for (const QueryProof& probe : probes.differing) compared.emplace_back(probe.query, probe.comparison);
}

}  // namespace

namespace {

std::string proof_by_queries(const Refactoring& refactoring) {
  if (refactoring.captured == 0) return "Proof by queries: every saved query, before and after";
  const std::uint64_t asked = refactoring.captured_asked;
  return fmt::format(
      "Proof by queries: every saved query, and of {} the {} that the change reaches{}, before and after",
      plural(refactoring.captured, "captured query"), base::grouped(refactoring.captured_reached),
      asked < refactoring.captured_reached ? fmt::format(" (asked: the {} most frequent)", base::grouped(asked)) : "");
}

}  // namespace

Report report(const Refactoring& refactoring) {
  Report made;
  made.blocks.push_back(Fact{"refactoring", "refactoring", cell::text(refactoring.title)});
  for (const std::string& note : refactoring.notes) made.blocks.push_back(Fact{"note", "note", cell::text(note)});
  made.blocks.push_back(
      Fact{"proved",
           "proved",
           {Cell::Kind::boolean,
            refactoring.proved() ? "yes: every row, query and probe came out the same" : "NO: see what differs below",
            refactoring.proved() ? "true" : "false"}});
  if (refactoring.tolerance.relative > 0) {
    made.blocks.push_back(Fact{
        "tolerance",
        "reals may differ by",
        {Cell::Kind::text,
         fmt::format("{:g} of their size: their rows are added up in another order", refactoring.tolerance.relative),
         fmt::format("{:g}", refactoring.tolerance.relative)}});
  }
  made.blocks.push_back(Heading{"Change of the text"});
  made.blocks.push_back(Verbatim{"diff", refactoring.diff});
  if (!refactoring.rows.empty())
    made.blocks.push_back(Heading{"Proof by rows: what was stored against what stands for it now"});
  Table rows{"rows",
             InCsv::with_all,
             {left("column", "column"), left("removed", "removed"), right("rows", "rows compared"),
              right("differing", "differing"), left("expression", "now")},
             {}};
  cell::give_way(rows, {"expression", "removed"});
  Table samples{"row_differences", InCsv::with_all, {left("column", "column"), left("difference", "difference")}, {}};
  for (const RowProof& p : refactoring.rows) {
    rows.rows.push_back({{cell::text(p.column), cell::boolean(p.removed), cell::count(p.rows), cell::count(p.differing),
                          cell::text(p.expression)},
                         p.differing != 0});
    for (const std::string& sample : p.samples)
      samples.rows.push_back({{cell::text(p.column), cell::text(sample)}, true});
  }
  if (!rows.rows.empty()) made.blocks.push_back(std::move(rows));
  if (!samples.rows.empty()) made.blocks.push_back(std::move(samples));
  made.blocks.push_back(Heading{proof_by_queries(refactoring)});
  Table queries{"queries",
                InCsv::with_all,
                {left("query", "query"), right("rows", "rows"), right("cells", "cells compared"),
                 right("differences", "differing"), right("before_nanoseconds", "before", Audience::programs),
                 right("after_nanoseconds", "after", Audience::programs)},
                {}};
  std::vector<std::pair<std::string, Comparison>> compared;
  const auto time = [](const QueryProof& q, std::int64_t nanoseconds) {
    return q.is_timed ? cell::nanoseconds(nanoseconds) : Cell{};
  };
  for (const QueryProof& q : refactoring.queries) {
    queries.rows.push_back({{cell::text(q.query), cell::count(q.comparison.rows), cell::count(q.comparison.cells),
                             cell::count(q.comparison.differences), time(q, q.speed.base_nanoseconds),
                             time(q, q.speed.candidate_nanoseconds)},
                            !q.comparison.same()});
    compared.emplace_back(q.query, q.comparison);
  }
  made.blocks.push_back(std::move(queries));
  add_probes(refactoring.probes, compared, made);
  if (Table differences = difference_table(compared); !differences.rows.empty())
    made.blocks.push_back(std::move(differences));
  for (const Narrowing& narrowing : refactoring.differences) {
    made.blocks.push_back(Heading{"The difference of " + narrowing.measure});
    add_narrowing(narrowing, fmt::format("difference_of_{}_", narrowing.measure), made);
  }
  if (!refactoring.sqlite.empty()) {
    made.blocks.push_back(Heading{"Proof by SQLite: the same questions to an independent engine"});
    Table sqlite{"sqlite",
                 InCsv::with_all,
                 {left("query", "query"), right("cells", "cells compared"), right("different", "differing")},
                 {}};
    for (const SqliteProof& p : refactoring.sqlite) {
      sqlite.rows.push_back(
          {{cell::code(p.query, 60), cell::count(p.cells), cell::count(p.different)}, p.different != 0});
    }
    made.blocks.push_back(std::move(sqlite));
  }
  add_ledger(refactoring, made);
  return made;
}

}  // namespace juniper
