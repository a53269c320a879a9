#include "juniper/demo.h"

#include "commands.h"
#include "demo_walk.h"

namespace juniper::tool {

namespace {

struct DemoArguments {
  std::string folder = "charging-demo";
  DemoOptions demo;
};

int run(const DemoArguments& arguments, Context& context) {
  return walk_demo(arguments.folder, arguments.demo, context.options, context.console);
}

}  // namespace

Command demo_command() {
  auto [command, kept] = command_with<DemoArguments>("demo", "Make the demo and walk through it", run);
  command.options = {optional(argument("DIR", "Where to write it (charging-demo)", kept->folder, Names::folder)),
                     number("--sessions", "N", "Rows of the largest table (100000)", kept->demo.sessions,
                            std::uint64_t{1000}, std::uint64_t{200'000'000}),
                     number("--seed", "N", "The same seed gives the same bytes (7)", kept->demo.seed, std::uint64_t{0},
                            std::uint64_t{INT64_MAX})};
  command.examples = {{"demo", "100,000 sessions, in the folder charging-demo"},
                      {"demo big --sessions 1000000", "more of them, elsewhere"}};
  return command;
}

}  // namespace juniper::tool
