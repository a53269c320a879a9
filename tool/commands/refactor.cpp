#include "juniper/refactor.h"

#include "commands.h"

namespace juniper::tool {

namespace {

struct RefactorArguments {
  std::string model;
  std::vector<std::string> steps;
  bool all_safe = false;
  bool write = false;
  std::string log;
  RefactorSettings settings;
};

int run(const RefactorArguments& arguments, Context& context) {
  Console& console = context.console;
  const bool applies = arguments.all_safe || (!arguments.steps.empty() && arguments.steps[0] == "apply");
  if (arguments.all_safe != arguments.steps.empty() || (applies && arguments.steps.size() == 1))
    return console.wrong_usage("name steps, or `apply` and codes or all, or --all-safe alone");
  std::string plan;
  for (const std::string& word : arguments.steps) plan += (plan.empty() ? "" : " ") + word;
  std::vector<std::string> codes;
  if (applies && !arguments.all_safe && arguments.steps[1] != "all")
    codes.assign(arguments.steps.begin() + 1, arguments.steps.end());
  return with_known_queries(arguments.model, arguments.log, context, [&](const Dataset& dataset, bool are_known) {
    RefactorSettings settings = arguments.settings;
    settings.queries_are_known = are_known || !arguments.all_safe;
    const auto refactoring = applies ? apply_remedies(dataset, codes, settings) : refactor(dataset, plan, settings);
    console.clear_progress();
    if (!refactoring) return console.fail(refactoring.error());
    console.print(report(*refactoring));
    if (!refactoring->proved()) return 1;
    if (!arguments.write) return 0;
    const auto written = write(dataset, *refactoring);
    return written ? 0 : console.fail(written.error());
  });
}

}  // namespace

Command refactor_command() {
  auto [command, kept] = command_with<RefactorArguments>(
      "refactor", "Change the model text in one or more steps, with proofs and a ledger", run);
  command.about = {
      "The steps of a PLAN, one behind the other: inline TABLE.COLUMN (a calculated column moves into the measures "
      "that "
      "use it), store 'TABLE.NAME = EXPRESSION' (the other way), split TABLE.COLUMN [into '(DATE, TIME)'], retype "
      "TABLE.COLUMN TYPE, round TABLE.COLUMN TYPE, drop TABLE.COLUMN or MEASURE, relink TABLE.COLUMN (by the columns "
      "that a key is put together from), trim TABLE (to the rows that links lead to), reorder TABLE by '(COLUMN, …)'; "
      "or apply CODE… or all: what the audit's findings name.",
      "The change is made on a copy, shown as a diff and proved: every row of each column that changes, every saved "
      "query, those of the baseline beside the text and of a log, and queries made up for it. Nothing is written "
      "without --write. Exits with 1 for what is not proved."};
  command.options = {
      model_argument(kept->model),
      optional(arguments("PLAN", "Steps one behind the other", kept->steps, Names::step)),
      flag("--all-safe", "As apply all, but drop nothing unless it is known what is asked: by a baseline or a log",
           kept->all_safe),
      text("--log", "FILE", "A log of captured queries, JSON lines: what they name stays, and they are proved",
           kept->log, Names::file),
      number("--probes", "N", "How many made-up queries to ask at most (200)", kept->settings.most_probes,
             std::uint64_t{0}, std::uint64_t{1'000'000'000}),
      number("--probe-rows", "N", "How many rows these may read in all (600000000)", kept->settings.most_probe_rows,
             std::uint64_t{0}, std::uint64_t{1'000'000'000'000'000}),
      choice("--plan", "PLAN", "How to prove rows; naive goes row by row, and shares nothing with the engine",
             kept->settings.row_plan, {{"engine", Plan::engine}, {"naive", Plan::naive}}),
      choice("--against", "ENGINE", "Let an independent engine answer each saved query and row proof, too",
             kept->settings.against, {{"sqlite", Against::sqlite}}),
      flag("--write", "Write the change, when it is proved", kept->write)};
  command.examples = {
      {"refactor charging.ridge inline sessions.price_paid", "show a change and its proof"},
      {"refactor charging.ridge inline sessions.price_paid drop sessions.row_no --write", "two steps, and write them"},
      {"refactor charging.ridge --all-safe", "whatever the audit names, as far as it can be proved"}};
  return command;
}

}  // namespace juniper::tool
