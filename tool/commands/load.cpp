#include <filesystem>

#include "commands.h"

namespace juniper::tool {

namespace {

struct LoadArguments {
  std::string model;
  bool again = false;
  LoadSettings settings;
  bool verify = false;
};

int run(const LoadArguments& arguments, Context& context) {
  const auto print_verification = [&] {
    return print_or_fail(verify(arguments.model, context.options), context.console);
  };
  // A store alone can be verified, and not loaded.
  if (arguments.verify && std::filesystem::path(arguments.model).extension() == ".jrs") return print_verification();
  LoadSettings settings = arguments.settings;
  if (arguments.again) settings.reload = Reload::always;
  const auto loaded = load(arguments.model, context.options, settings);
  context.console.clear_progress();
  if (loaded) context.console.warn(loaded->warnings);
  int status = print_or_fail(loaded, context.console);
  if (status == 0 && has_errors(loaded->warnings)) status = 1;
  return status == 0 && arguments.verify ? print_verification() : status;
}

}  // namespace

Command load_command() {
  auto [command, kept] = command_with<LoadArguments>(
      "load", "Read the sources into the store; what each table and calculated column costs", run);
  command.about = {
      "Reads, types and encodes every table, resolves links and computes calculated columns. A store that is fresh is "
      "left as it is, and of files that have not changed the rows are taken over. Other commands load by themselves."};
  command.options = {
      model_argument(kept->model), flag("--again", "Read everything, also what has not changed", kept->again),
      text("--reject", "FILE", "Leave out the rows that can't be read, and write them here with the reasons, as CSV",
           kept->settings.rejects, Names::file),
      choice("--order", "ORDER",
             "In which order to store rows: auto looks for one in which they take fewer bytes; by default as the "
             "store has them",
             kept->settings.order, {{"auto", RowOrder::smallest}, {"files", RowOrder::as_in_files}}),
      flag("--verify",
           "Then read all of the store, and compare checksums, what columns say of their rows, keys and links",
           kept->verify)};
  command.examples = {{"load charging.ridge", "load what has changed"},
                      {"load charging.ridge --reject bad-rows.csv", "go on past rows that can't be read"},
                      {"load charging.ridge --again --order auto", "read everything, and look for a smaller order"}};
  return command;
}

}  // namespace juniper::tool
