#include "juniper/links.h"

#include "commands.h"

namespace juniper::tool {

namespace {

struct LinksArguments {
  std::string model;
  std::size_t samples = 5;
};

int run(const LinksArguments& arguments, Context& context) {
  return with_dataset(arguments.model, context, [&](const Dataset& dataset) {
    return print_or_fail(links(dataset, arguments.samples), context.console);
  });
}

}  // namespace

Command links_command() {
  auto [command, kept] = command_with<LinksArguments>("links", "Keys without a match, rows that nothing reaches", run);
  command.options = {model_argument(kept->model), number("--samples", "N", "Orphan keys to show of each link",
                                                         kept->samples, std::size_t{0}, std::size_t{1'000'000})};
  command.examples = {{"links charging.ridge", "every link, with five keys of those without a match"},
                      {"links charging.ridge --samples 50 --format csv", "more of them, for a program"}};
  return command;
}

}  // namespace juniper::tool
