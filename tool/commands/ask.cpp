#include "juniper/ask.h"

#include "commands.h"
#include "juniper/export.h"
#include "juniper/sql.h"

namespace juniper::tool {

namespace {

struct AskArguments {
  std::string model;
  Question question;
  Against against = Against::nothing;
  bool from_sources = false;
  std::string output;
};

// Prints an answer, or writes it to a file, and prints what is to be said of it.
int give(const Result<QueryResult>& answer, const Model& model, const AskArguments& arguments, Context& context) {
  Console& console = context.console;
  console.clear_progress();
  if (!answer) return console.fail(answer.error());
  console.warn(answer->warnings);
  if (arguments.output.empty()) {
    console.print(*answer);
    return 0;
  }
  const auto written = write_result(*answer, model, arguments.output, context.options.overwrite);
  if (!written) return console.fail(written.error());
  console.print_written(arguments.output);
  return 0;
}

int run(const AskArguments& arguments, Context& context) {
  Console& console = context.console;
  if (arguments.from_sources) {
    if (arguments.against != Against::nothing)
      return console.wrong_usage("--from-sources and --against compare with different things: ask twice");
    const auto model = Model::read(arguments.model, context.options.reading);
    if (!model) return console.fail(model.error());
    return with_what_holds(*model, console, [&] {
      return give(can_be_called_off([&] { return ask_files(*model, arguments.question, context.options); }), *model,
                  arguments, context);
    });
  }
  return with_dataset(arguments.model, context, [&](const Dataset& dataset) {
    if (arguments.against == Against::sqlite) {
      const auto agreement = against_sqlite(dataset, arguments.question);
      if (!agreement) return console.fail(agreement.error());
      console.print(report(*agreement));
      return agreement->same() ? 0 : 1;
    }
    return give(can_be_called_off([&] { return ask(dataset, arguments.question); }), dataset.model(), arguments,
                context);
  });
}

}  // namespace

Command ask_command() {
  auto [command, kept] = command_with<AskArguments>("ask", "Answer a saved query, or one typed here", run);
  command.options = {model_argument(kept->model)};
  add_question(command.options, kept->question);
  command.options.push_back(
      choice("--plan", "PLAN", "How to answer; naive goes row by row and slice by slice, to hold the engine against",
             kept->question.plan, {{"engine", Plan::engine}, {"naive", Plan::naive}}));
  command.options.push_back(flag("--from-sources",
                                 "Answer from the files, without a store and row by row, to hold the store against",
                                 kept->from_sources));
  command.options.push_back(choice("--against", "ENGINE",
                                   "Compare every cell with an independent engine's answer instead", kept->against,
                                   {{"sqlite", Against::sqlite}}));
  command.options.push_back(
      text("--output", "FILE",
           "Write the result to a file instead: .parquet, .arrow, .csv, .jsonl, .sqlite or .xlsx, as its "
           "ending says",
           kept->output, Names::file));
  command.examples = {{"ask charging.ridge monthly", "a query that is saved in the model"},
                      {"ask charging.ridge regions --where 'days.year = 2025'", "the same, for one year"},
                      {"ask charging.ridge 'by stations.region show revenue, price total grand' --format csv",
                       "one typed here, for a program"}};
  return command;
}

}  // namespace juniper::tool
