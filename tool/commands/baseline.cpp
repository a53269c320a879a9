#include "juniper/baseline.h"

#include "commands.h"

namespace juniper::tool {

namespace {

struct BaselineArguments {
  std::string model;
  std::string folder;
  BaselineSettings settings;
};

int run(const BaselineArguments& arguments, Context& context) {
  const std::string folder =
      arguments.folder.empty() ? baseline_path(arguments.model, context.options.reading.reader) : arguments.folder;
  return with_dataset(arguments.model, context, [&](const Dataset& dataset) {
    const auto recorded = baseline(dataset, folder, arguments.settings);
    context.console.clear_progress();
    const int status = print_or_fail(recorded, context.console);
    return recorded && !recorded->is_written ? 1 : status;
  });
}

// Pairs of a query and a file.
Option expected_results(std::map<std::string, std::string>& expected) {
  const auto take = [&expected](const std::vector<std::string>& values) -> Problem {
    for (const std::string& pair : values) {
      const std::size_t equals = pair.find('=');
      if (equals == std::string::npos || equals == 0) return "'" + pair + "' is not of the form QUERY=FILE.csv";
      expected[pair.substr(0, equals)] = pair.substr(equals + 1);
    }
    return std::nullopt;
  };
  Option option("--expect", "QUERY=FILE",
                "Numbers that somebody else gave for a query; each check compares with "
                "them, too; may be repeated",
                take);
  option.times = Times::repeated;
  return option;
}

}  // namespace

Command baseline_command() {
  auto [command, kept] = command_with<BaselineArguments>(
      "baseline", "Record the results and times of saved queries, of files of queries and of a log", run);
  command.about = {
      "An earlier baseline is compared with first. Where results differ from it, or queries of it are left out, "
      "nothing "
      "is written and the exit status is 1, unless --replace is given."};
  command.options = {
      model_argument(kept->model),
      text("--dir", "DIR", "The folder of the baseline; beside the model text by default", kept->folder, Names::folder),
      texts("--queries", "FILE", "Files of further queries: query NAME { … }", kept->settings.query_files, Times::list,
            Names::file),
      text("--log", "FILE", "A log of captured queries, JSON lines", kept->settings.log, Names::file),
      expected_results(kept->settings.expected),
      flag("--replace", "Replace an earlier baseline although its results differ, or queries of it are left out",
           kept->settings.replace)};
  command.examples = {{"baseline charging.ridge", "record every saved query"},
                      {"baseline charging.ridge --log queries.jsonl", "and those that somebody has asked"},
                      {"baseline charging.ridge --expect regions=theirs.csv", "with numbers of somebody else"}};
  return command;
}

}  // namespace juniper::tool
