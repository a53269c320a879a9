#include "juniper/draft.h"

#include "commands.h"

namespace juniper::tool {

namespace {

struct DraftArguments {
  std::string model;
  std::string definition;
  std::vector<std::string> queries;
  bool keep = false;
};

int run(const DraftArguments& arguments, Context& context) {
  return with_dataset(arguments.model, context, [&](const Dataset& dataset) {
    const auto drafted = draft(dataset, arguments.definition, arguments.queries);
    if (!drafted) return context.console.fail(drafted.error());
    context.console.print(report(*drafted));
    if (!arguments.keep) return 0;
    const auto kept = keep(dataset, *drafted);
    return kept ? 0 : context.console.fail(kept.error());
  });
}

}  // namespace

Command draft_command() {
  auto [command, kept] = command_with<DraftArguments>(
      "draft", "Another definition of a measure beside the present one: what differs, and where", run);
  command.options = {
      model_argument(kept->model), argument("DEFINITION", "'measure NAME = EXPRESSION'", kept->definition),
      optional(arguments("QUERY", "Queries to look at; by default all saved ones that depend on the measure",
                         kept->queries, Names::query)),
      flag("--keep", "Write the draft's definition into the model text", kept->keep)};
  command.examples = {
      {"draft charging.ridge 'measure price = revenue / energy'", "over every saved query that shows it"},
      {"draft charging.ridge 'measure price = revenue / energy' monthly --keep", "over one, and keep it"}};
  return command;
}

}  // namespace juniper::tool
