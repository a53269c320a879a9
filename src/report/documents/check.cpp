// Baselines, checks and replays as documents.
#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>

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

Cell state_cell(const CheckedQuery& query) {
  static constexpr std::array states{"same", "DIFFERENT", "LOST", "FAILED", "new"};
  static constexpr std::array codes{"same", "different", "lost", "failed", "added"};
  const auto state = static_cast<std::size_t>(query.state);
  std::string shown = query.accepted ? "accepted" : states[state];
  if (query.expected && !query.expected->same()) shown = "NOT AS EXPECTED";
  return {Cell::Kind::text, shown, codes[state]};
}

// Whose values failed, or who is slower or over its budget.
struct Failures {
  std::size_t values = 0;
  std::size_t speed = 0;
  std::size_t undecided = 0;
  std::size_t budgets = 0;
};

Failures failures_of(const CheckReport& check) {
  Failures failures;
  for (const CheckedQuery& q : check.queries) {
    const bool same = q.state == CheckState::same || q.state == CheckState::added || q.accepted;
    failures.values += !same || (q.expected && !q.expected->same()) ? 1 : 0;
    const auto slower = [](const auto& speed) { return speed && speed->verdict == SpeedVerdict::slower; };
    failures.speed += slower(q.warm) || slower(q.cold) ? 1 : 0;
    failures.undecided += q.undecided_fails && q.is_undecided() ? 1 : 0;
    failures.budgets += q.budget && !q.budget->kept() ? 1 : 0;
  }
  return failures;
}

std::string result_of(const CheckReport& check) {
  if (check.passed()) return fmt::format("passed: {} queries", check.queries.size());
  const Failures failures = failures_of(check);
  std::string text;
  const auto add = [&](std::size_t count, const char* what) {
    if (count != 0) text += fmt::format("{}{} of {} {}", text.empty() ? "" : ", ", count, check.queries.size(), what);
  };
  add(failures.values, "differ");
  add(failures.speed, "slower");
  add(failures.undecided, "undecided");
  add(failures.budgets, "over their time");
  return "FAILED: " + text;
}

Cell compared_with(const CheckReport& check) {
  switch (check.compared_with) {
    case ComparedWith::recorded:
      return {Cell::Kind::text, "the recorded results", "recorded"};
    case ComparedWith::base:
      return {Cell::Kind::text, check.base + ", run over the same data", "base"};
    case ComparedWith::base_on_data:
      break;
  }
  return {Cell::Kind::text, "the recorded model, run over the data of today", "base_on_data"};
}

void add_facts(const CheckReport& check, Report& made) {
  if (!check.folder.empty()) made.blocks.push_back(Fact{"baseline", "baseline", cell::text(check.folder)});
  made.blocks.push_back(
      Fact{"passed", "result", {Cell::Kind::boolean, result_of(check), check.passed() ? "true" : "false"}});
  made.blocks.push_back(Fact{"compared_with", "compared with", compared_with(check)});
  made.blocks.push_back(
      Fact{"data_changed",
           "data",
           {Cell::Kind::boolean,
            !check.data_changed                         ? "the same"
            : check.compared_with == ComparedWith::base ? "not the same files: numbers may differ for that reason"
                                                        : "changed since the baseline was taken",
            check.data_changed ? "true" : "false"}});
  std::string model = "the same";
  if (check.model_changed) model = check.changed.empty() ? "changed in layout or comments alone" : "changed";
  made.blocks.push_back(
      Fact{"model_changed", "model", {Cell::Kind::boolean, model, check.model_changed ? "true" : "false"}});
  if (check.other_machine) {
    made.blocks.push_back(Fact{
        "other_machine", "times then", {Cell::Kind::boolean, "of another machine, or with other settings", "true"}});
  }
  if (!check.changed.empty()) made.blocks.push_back(Fact{"changed", "what changed", cell::text(check.changed)});
  made.blocks.push_back(
      Fact{"tolerance",
           "reals may differ by",
           {Cell::Kind::text,
            fmt::format("{:g} of their size{}", check.tolerance.relative,
                        check.tolerance.absolute > 0 ? fmt::format(", or {:g}", check.tolerance.absolute) : ""),
            fmt::format("{:g} {:g}", check.tolerance.relative, check.tolerance.absolute)}});
}

// Same queries make no line for people where there are many, so that what differs stands on one screen.
constexpr std::size_t many = 30;

// The clauses of a query that is told by a name made for it.
Cell text_cell(const std::string& text) {
  constexpr std::size_t widest = 60;
  return text.empty() ? Cell{} : cell::code(text, widest);
}

void add_queries(const CheckReport& check, Report& made) {
  Table table{"queries",
              InCsv::with_all,
              {left("query", "query"), left("state", "result"), right("rows", "rows"), right("cells", "cells compared"),
               right("differences", "differing"), right("asked", "asked"), right("recorded_nanoseconds", "time then"),
               right("nanoseconds", "time now"), right("budget_nanoseconds", "allowed"),
               left("passed", "passed", Audience::programs), left("text", "what it asks")},
              {}};
  cell::give_way(table, {"text", "asked", "cells", "recorded_nanoseconds", "budget_nanoseconds", "rows"});
  bool logged = false;
  bool budgets = false;
  bool texts = false;
  std::size_t left_out = 0;
  for (const CheckedQuery& q : check.queries) {
    const bool ran = q.state == CheckState::same || q.state == CheckState::different;
    logged = logged || q.asked != 0;
    budgets = budgets || q.budget;
    TableRow row{{cell::text(q.query), state_cell(q), ran ? cell::count(q.comparison.rows) : Cell{},
                  ran ? cell::count(q.comparison.cells) : Cell{}, ran ? cell::count(q.comparison.differences) : Cell{},
                  q.asked != 0 ? cell::count(q.asked) : Cell{},
                  q.recorded_nanoseconds != 0 ? cell::nanoseconds(q.recorded_nanoseconds) : Cell{},
                  ran ? cell::nanoseconds(q.nanoseconds) : Cell{},
                  q.budget ? cell::nanoseconds(q.budget->allowed_nanoseconds) : Cell{}, cell::boolean(q.passed()),
                  text_cell(q.text)},
                 !q.passed()};
    texts = texts || !q.text.empty();
    if (check.queries.size() > many && q.passed() && q.state == CheckState::same) {
      row.audience = Audience::programs;
      ++left_out;
    }
    table.rows.push_back(std::move(row));
  }
  if (!logged) cell::leave_to_programs(table, "asked");
  if (!budgets) cell::leave_to_programs(table, "budget_nanoseconds");
  if (!texts) cell::leave_to_programs(table, "text");
  if (left_out != check.queries.size()) made.blocks.push_back(std::move(table));
  if (left_out != 0)
    made.blocks.push_back(Paragraph{fmt::format("{} queries are the same, and not listed.", base::grouped(left_out))});
}

void add_speed(const CheckReport& check, Report& made) {
  Table table{"speed",
              InCsv::with_all,
              {left("query", "query"), left("run", "run"), left("verdict", "verdict"),
               right("base_nanoseconds", "base"), right("candidate_nanoseconds", "candidate"), right("ratio", "ratio"),
               right("low", "from"), right("high", "to"), right("runs", "runs each")},
              {}};
  cell::compare_by(table, "ratio");
  cell::give_way(table, {"runs", "run", "low", "high"});
  const auto add = [&](const CheckedQuery& q, const char* run, const std::optional<SpeedComparison>& speed) {
    if (!speed) return;
    Cell ratio = cell::ratio(speed->ratio);
    ratio.interval = {speed->low, speed->high};
    TableRow row{
        {cell::text(q.query), cell::text(run), cell::text(to_string(speed->verdict)),
         cell::nanoseconds(speed->base_nanoseconds), cell::nanoseconds(speed->candidate_nanoseconds), ratio,
         cell::ratio(speed->low), cell::ratio(speed->high), cell::count(speed->runs)},
        speed->verdict == SpeedVerdict::slower || (q.undecided_fails && speed->verdict == SpeedVerdict::cannot_tell)};
    if (check.queries.size() > many && speed->verdict == SpeedVerdict::same) row.audience = Audience::programs;
    table.rows.push_back(std::move(row));
  };
  for (const CheckedQuery& q : check.queries) {
    add(q, "warm", q.warm);
    add(q, "cold", q.cold);
  }
  if (table.rows.empty()) return;
  made.blocks.push_back(
      Heading{fmt::format("Times, base and candidate in turn; slower is more than {:g} times the base, with confidence",
                          check.allowed_ratio)});
  made.blocks.push_back(std::move(table));
  const auto undecided = static_cast<std::size_t>(
      std::count_if(check.queries.begin(), check.queries.end(), [](const auto& q) { return q.is_undecided(); }));
  if (undecided != 0) {
    made.blocks.push_back(
        Paragraph{fmt::format("Of {} the times are too noisy, or too few, to tell. More time helps: --seconds 10.",
                              undecided == 1 ? "one query" : fmt::format("{} queries", base::grouped(undecided)))});
  }
}

void add_differences(const CheckReport& check, Report& made) {
  std::vector<std::pair<std::string, Comparison>> compared;
  for (const CheckedQuery& q : check.queries) {
    compared.emplace_back(q.query, q.comparison);
    if (q.expected) compared.emplace_back(q.query + " (expected)", *q.expected);
  }
  Table differences = difference_table(compared);
  if (differences.rows.empty()) return;
  made.blocks.push_back(Heading{"What differs"});
  made.blocks.push_back(std::move(differences));
  for (const CheckedQuery& q : check.queries) {
    if (!q.narrowing) continue;
    made.blocks.push_back(Heading{"The difference of " + q.narrowing->measure});
    add_narrowing(*q.narrowing, fmt::format("difference_of_{}_", q.narrowing->measure), made);
  }
}

Cell cell_of(RecordedState state) {
  switch (state) {
    case RecordedState::added:
      return {Cell::Kind::text, "new", "new"};
    case RecordedState::same:
      return {Cell::Kind::text, "same", "same"};
    case RecordedState::different:
      return {Cell::Kind::text, "DIFFERS", "different"};
  }
  return {};
}

Cell outcome_of(const BaselineReport& baseline) {
  const auto count = [&](RecordedState state) {
    return static_cast<std::size_t>(std::count_if(baseline.queries.begin(), baseline.queries.end(),
                                                  [&](const RecordedQuery& q) { return q.state == state; }));
  };
  std::string text = plural(baseline.queries.size(), "query");
  if (!baseline.has_earlier) return {Cell::Kind::text, "recorded: " + text, "recorded"};
  if (const std::size_t same = count(RecordedState::same); same != 0)
    text += fmt::format(", {} as in the earlier baseline", base::grouped(same));
  if (const std::size_t different = count(RecordedState::different); different != 0)
    text += fmt::format(", {} that differ from it", base::grouped(different));
  if (const std::size_t added = count(RecordedState::added); added != 0)
    text += fmt::format(", {} new", base::grouped(added));
  if (!baseline.dropped.empty()) text += fmt::format(", {} left out", base::grouped(baseline.dropped.size()));
  if (!baseline.is_written) return {Cell::Kind::text, "NOT RECORDED: " + text, "not recorded"};
  return {Cell::Kind::text, "recorded again: " + text, "recorded again"};
}

}  // namespace

Report report(const BaselineReport& baseline) {
  Report made;
  made.blocks.push_back(Fact{"result", "result", outcome_of(baseline)});
  made.blocks.push_back(Fact{"folder", "baseline", cell::text(baseline.folder)});
  Table table{
      "queries",
      InCsv::with_all,
      {left("query", "query"), left("earlier", "earlier", baseline.has_earlier ? Audience::all : Audience::programs),
       right("rows", "rows"), right("cells", "cells"), right("asked", "asked"), right("nanoseconds", "time"),
       left("text", "what it asks")},
      {}};
  cell::give_way(table, {"text", "asked", "cells"});
  bool logged = false;
  bool texts = false;
  std::vector<std::pair<std::string, Comparison>> compared;
  for (const RecordedQuery& q : baseline.queries) {
    logged = logged || q.asked != 0;
    table.rows.push_back(
        {{cell::text(q.query), cell_of(q.state), cell::count(q.rows), cell::count(q.cells),
          q.asked != 0 ? cell::count(q.asked) : Cell{}, cell::nanoseconds(q.nanoseconds), text_cell(q.text)},
         q.state == RecordedState::different && !baseline.is_written});
    texts = texts || !q.text.empty();
    if (!q.comparison.same()) compared.emplace_back(q.query, q.comparison);
  }
  if (!logged) cell::leave_to_programs(table, "asked");
  if (!texts) cell::leave_to_programs(table, "text");
  made.blocks.push_back(std::move(table));
  for (const std::string& name : baseline.dropped) {
    made.blocks.push_back(Paragraph{(baseline.is_written ? "No longer asked for, and taken out of the baseline: "
                                                         : "Recorded earlier, and not asked for now: ") +
                                    name});
  }
  if (!compared.empty()) {
    made.blocks.push_back(Heading{"What differs from the earlier baseline"});
    made.blocks.push_back(difference_table(compared));
  }
  if (!baseline.is_written) {
    made.blocks.push_back(Paragraph{
        "If this is how it should be, record again with --replace; or take the new results of single queries by "
        "`juniper check MODEL --accept QUERY`."});
  }
  return made;
}

Report report(const CheckReport& check) {
  Report made;
  add_facts(check, made);
  add_queries(check, made);
  add_differences(check, made);
  for (const CheckedQuery& q : check.queries) {
    if (q.state == CheckState::lost)
      made.blocks.push_back(Paragraph{fmt::format("{}: recorded, and no longer in the model", q.query)});
    if (!q.errors.empty()) made.blocks.push_back(Messages{q.errors});
  }
  add_speed(check, made);
  return made;
}

Report report(const ReplayReport& replay) {
  Report made;
  made.blocks.push_back(Fact{
      "passed",
      "result",
      {Cell::Kind::boolean,
       replay.passed() ? "passed: every answer was right" : fmt::format("FAILED: {} answers were wrong", replay.wrong),
       replay.passed() ? "true" : "false"}});
  made.blocks.push_back(Fact{"clients", "clients", cell::count(replay.clients)});
  made.blocks.push_back(Fact{"queries", "different queries", cell::count(replay.queries)});
  made.blocks.push_back(Fact{"answers", "answers", cell::count(replay.answers)});
  made.blocks.push_back(Fact{"answers_a_second", "answers a second", cell::number(replay.answers_a_second, 1)});
  made.blocks.push_back(Fact{"median_nanoseconds", "median", cell::nanoseconds(replay.median_nanoseconds)});
  made.blocks.push_back(Fact{"p99_nanoseconds", "99 of 100 within", cell::nanoseconds(replay.p99_nanoseconds)});
  made.blocks.push_back(Fact{"most_nanoseconds", "slowest", cell::nanoseconds(replay.most_nanoseconds)});
  made.blocks.push_back(Fact{"wrong", "wrong answers", cell::count(replay.wrong)});
  for (const std::string& query : replay.wrong_queries)
    made.blocks.push_back(Fact{"wrong_query", "wrong in", cell::text(query)});
  return made;
}

}  // namespace juniper
