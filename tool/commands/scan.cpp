#include "juniper/scan.h"

#include <filesystem>

#include "commands.h"

namespace juniper::tool {

namespace {

struct ScanArguments {
  std::vector<std::string> sources;
  std::string output;
};

int run(const ScanArguments& arguments, Context& context) {
  const std::string folder = std::filesystem::path(arguments.output).parent_path().string();
  const auto scanned = scan(arguments.sources, folder.empty() ? "." : folder, context.options);
  context.console.clear_progress();
  if (!scanned) return context.console.fail(scanned.error());
  if (arguments.output.empty()) {
    context.console.print_text("text", scanned->text);
    return 0;
  }
  const auto written = write_new(*scanned, arguments.output);
  if (!written) return context.console.fail(written.error());
  context.console.print(report(*scanned));
  return 0;
}

}  // namespace

Command scan_command() {
  auto [command, kept] =
      command_with<ScanArguments>("scan", "Propose a model text for files of data: types, keys, links", run);
  command.about = {
      "Reads every row of the files and writes a first model text: a table for each kind of file, the narrowest type "
      "that fits each column, keys, links and a calendar. What is doubtful stands in comments."};
  command.options = {
      arguments("SOURCE",
                "CSV, Parquet, Arrow, JSON, .xlsx, .ods or SQLite files, folders of them, or a datapackage.json",
                kept->sources, Names::file),
      text("--output", "FILE", "Write the text to this new file, and tell what it holds", kept->output, Names::file)};
  command.examples = {{"scan data", "print a model text for the files of a folder"},
                      {"scan data --output charging.ridge", "write it to a file, and tell what it holds"}};
  return command;
}

}  // namespace juniper::tool
