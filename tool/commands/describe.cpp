#include "juniper/describe.h"

#include "commands.h"

namespace juniper::tool {

namespace {

struct DescribeArguments {
  std::string model;
  std::string name;
  bool shows_hidden = false;
};

int run(const DescribeArguments& arguments, Context& context) {
  const auto model = read_model(arguments.model, context.options);
  if (!model) return context.console.fail(model.error());
  context.console.warn(model->warnings());
  return with_what_holds(*model, context.console, [&] {
    return print_or_fail(describe(*model, arguments.name, arguments.shows_hidden ? Hidden::shown : Hidden::left_out),
                         context.console);
  });
}

}  // namespace

Command describe_command() {
  auto [command, kept] =
      command_with<DescribeArguments>("describe", "What is defined, on what it rests, who uses it", run);
  command.options = {model_argument(kept->model),
                     optional(argument("NAME", "A table, column, measure, parameter or query; all by default",
                                       kept->name, Names::anything)),
                     flag("--hidden", "Hidden things, too", kept->shows_hidden)};
  command.examples = {{"describe charging.ridge", "everything that the model defines"},
                      {"describe charging.ridge revenue", "one measure, on what it rests and who uses it"}};
  return command;
}

}  // namespace juniper::tool
