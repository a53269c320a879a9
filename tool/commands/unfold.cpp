#include "juniper/unfold.h"

#include "commands.h"

namespace juniper::tool {

namespace {

struct UnfoldArguments {
  std::string model;
  std::string measure;
  std::vector<std::string> at;
  std::size_t samples = 5;
};

int run(const UnfoldArguments& arguments, Context& context) {
  return with_dataset(arguments.model, context, [&](const Dataset& dataset) {
    return print_or_fail(unfold(dataset, arguments.measure, arguments.at, arguments.samples), context.console);
  });
}

}  // namespace

Command unfold_command() {
  auto [command, kept] = command_with<UnfoldArguments>(
      "unfold", "Why a number is what it is: a measure opened into its parts, down to rows", run);
  command.options = {
      model_argument(kept->model),
      argument("MEASURE", "A measure, or an expression over measures", kept->measure, Names::measure),
      texts("--at", "CONDITION", "The slice, as a condition: 'stations.region = \"Coast\"'; may be repeated", kept->at,
            Times::repeated),
      number("--samples", "N", "How many rows to show of each aggregate", kept->samples, std::size_t{0},
             std::size_t{1'000'000})};
  command.examples = {{"unfold charging.ridge price", "a measure over everything"},
                      {"unfold charging.ridge price --at 'stations.region = \"Coast\"'", "in the slice of one region"}};
  return command;
}

}  // namespace juniper::tool
