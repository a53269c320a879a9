// The commands, each in a file of its own under commands/: what it takes, which function of the library it calls, and
// how it prints what that gives.
#pragma once

#include "command_line.h"
#include "console.h"
#include "juniper/baseline.h"
#include "juniper/dataset.h"
#include "juniper/diagnostics.h"
#include "juniper/report.h"

namespace juniper::tool {

Command ask_command();
Command audit_command();
Command baseline_command();
Command check_command();
Command demo_command();
Command describe_command();
Command draft_command();
Command explain_command();
Command export_command();
Command format_command();
Command links_command();
Command load_command();
Command refactor_command();
Command report_command();
Command scan_command();
Command sql_command();
Command unfold_command();
Command weigh_command();

// All of them, in the order of a day's work.
std::vector<Command> all_commands();

// --- what several commands share
// --------------------------------------------------------------------------------------

// The arguments and options of a question: QUERY, --where, --draft.
void add_question(std::vector<Option>& options, Question& question);

// Tells what is wrong with a model of which parts are disabled, whatever is then done with the rest.
template <class Use>
int with_what_holds(const Model& model, Console& console, const Use& use) {
  const Diagnostics problems = model.disabled_problems();
  console.warn(problems);
  const int status = use();
  return status == 0 && !problems.empty() ? 1 : status;
}

// Opens the model and hands it to the command; prints what went wrong otherwise.
template <class Use>
int with_dataset(const std::string& model, const Options& options, Console& console, const Use& use) {
  const auto dataset = Dataset::open(model, options);
  console.clear_progress();
  if (!dataset) return console.fail(dataset.error());
  console.warn(dataset->warnings());
  return with_what_holds(dataset->model(), console, [&] { return use(*dataset); });
}
template <class Use>
int with_dataset(const std::string& model, Context& context, const Use& use) {
  return with_dataset(model, context.options, context.console, use);
}

// The same of a model whose captured queries are known: of the baseline beside it, and of a log, unless that is "". Calls
// use(dataset, are_known); they are, where there is one of the two.
template <class Use>
int with_known_queries(const std::string& model, const std::string& log, Context& context, const Use& use) {
  auto known = known_queries(model, log);
  if (!known) return context.console.fail(known.error());
  Options options = context.options;
  options.reading.captured = std::move(known->captured);
  const bool are_known = known->has_baseline || !log.empty();
  return with_dataset(model, options, context.console, [&](const Dataset& dataset) { return use(dataset, are_known); });
}

template <class Value>
int print_or_fail(const Result<Value>& result, Console& console) {
  if (!result) return console.fail(result.error());
  console.print(report(*result));
  return 0;
}

// While it lives, Ctrl-C calls off the question (Options::cancelled); the second one ends the program as ever.
class CancelOnInterrupt {
 public:
  CancelOnInterrupt();
  ~CancelOnInterrupt();
  CancelOnInterrupt(const CancelOnInterrupt&) = delete;
  CancelOnInterrupt& operator=(const CancelOnInterrupt&) = delete;
};
template <class Compute>
auto can_be_called_off(const Compute& compute) {
  const CancelOnInterrupt while_it_runs;
  return compute();
}
// What Ctrl-C sets.
std::shared_ptr<const std::atomic<bool>> called_off();

}  // namespace juniper::tool
