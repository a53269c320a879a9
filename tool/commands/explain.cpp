#include "juniper/explain.h"

#include "commands.h"

namespace juniper::tool {

namespace {

struct ExplainArguments {
  std::string model;
  Question question;
};

int run(const ExplainArguments& arguments, Context& context) {
  return with_dataset(arguments.model, context, [&](const Dataset& dataset) {
    const auto steps = can_be_called_off([&] { return explain(dataset, arguments.question); });
    context.console.clear_progress();
    return print_or_fail(steps, context.console);
  });
}

}  // namespace

Command explain_command() {
  auto [command, kept] =
      command_with<ExplainArguments>("explain", "How a query is answered: steps, rows, bytes, time", run);
  command.options = {model_argument(kept->model)};
  add_question(command.options, kept->question);
  command.examples = {
      {"explain charging.ridge monthly", "the steps of a saved query"},
      {"explain charging.ridge 'show max(revenue of s for s in stations) as best'", "those of one typed here"}};
  return command;
}

}  // namespace juniper::tool
