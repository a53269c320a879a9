#include "juniper/format.h"

#include "commands.h"

namespace juniper::tool {

namespace {

struct FormatArguments {
  std::vector<std::string> files;
  bool check = false;
};

int run(const FormatArguments& arguments, Context& context) {
  int status = 0;
  for (const std::string& file : arguments.files) {
    const auto formatted = format_file(file, arguments.check ? Formatting::check : Formatting::write);
    if (!formatted) return context.console.fail(formatted.error());
    if (!formatted->changed) continue;
    if (arguments.check) status = 1;
    context.console.print(arguments.check ? formatted->diff : formatted->path + "\n");
  }
  return status;
}

}  // namespace

Command format_command() {
  auto [command, kept] = command_with<FormatArguments>("format", "Lay model texts out in the one layout", run);
  command.options = {arguments("FILE", "The .ridge texts", kept->files, Names::file),
                     flag("--check", "Write nothing; show what would change, and fail if anything does", kept->check)};
  command.examples = {{"format charging.ridge", "lay a text out, and print its name if it changed"},
                      {"format --check charging.ridge measures.ridge", "for a build server"}};
  return command;
}

}  // namespace juniper::tool
