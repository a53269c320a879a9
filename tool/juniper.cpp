#include "juniper.h"

#include "commands.h"
#include "juniper/value.h"

namespace juniper::tool {

namespace {

Option today(Options& options) {
  const auto take = [&options](const std::vector<std::string>& values) -> Problem {
    const auto day = parse_value(values.front(), Type{TypeKind::date, 0});
    if (!day) return "'" + values.front() + "' is not a date like 2025-03-01";
    options.today = static_cast<std::int64_t>(day->exact());
    return std::nullopt;
  };
  return {"--today", "DATE", "What today() gives, as YYYY-MM-DD; the system's day by default", take};
}

Option force(Options& options) {
  const auto take = [&options](const std::vector<std::string>&) -> Problem {
    options.overwrite = Overwrite::anything;
    return std::nullopt;
  };
  return {"--force", "", "Let outputs take the place of files of another kind, too", take};
}

Option set_parameters(Options& options) {
  const auto take = [&options](const std::vector<std::string>& values) -> Problem {
    for (const std::string& setting : values) {
      const std::size_t equals = setting.find('=');
      if (equals == std::string::npos || equals == 0) return "'" + setting + "' is not of the form NAME=VALUE";
      options.reading.settings[setting.substr(0, equals)] = setting.substr(equals + 1);
    }
    return std::nullopt;
  };
  Option option("--set", "NAME=VALUE", "The value of a parameter; may be repeated", take);
  option.names = Names::parameter;
  option.times = Times::repeated;
  return option;
}

// It alone needs the whole description, which is not there yet: main prints what it asks for.
Command help_command(std::string& about) {
  Command command;
  command.name = "help";
  command.summary = "Tell what there is, or what a command does and takes";
  command.options = {optional(argument("COMMAND", "The command; all of them by default", about, Names::command))};
  command.examples = {{"help", "all commands, and the options that they share"},
                      {"help refactor", "one command, with examples"}};
  return command;
}

}  // namespace

CommandLine command_line(Common& common) {
  Options& options = common.options;
  CommandLine line;
  line.common = {
      choice("--format", "FORMAT", "How to print", common.format,
             {{"terminal", Format::terminal},
              {"json", Format::json},
              {"csv", Format::csv},
              {"markdown", Format::markdown},
              {"html", Format::html}}),
      text("--part", "NAME",
           "What --format csv or markdown holds: one of the tables that --format json names, or facts; all by default",
           common.part),
      number("--width", "N", "How wide the output may be; by default as wide as the window", common.width,
             std::size_t{40}, std::size_t{10'000}),
      flag("--wide", "All columns and whole texts, however wide the window is", common.wide),
      choice("--color", "WHEN", "When to color", common.color,
             {{"auto", When::automatic}, {"always", When::always}, {"never", When::never}}),
      flag("--quiet", "No progress, and no line below an answer that tells rows and time", common.quiet),
      number("--threads", "N", "Threads to use; 0 is one for each core", options.threads, 0U, 1024U),
      bytes("--memory", "How much memory a command may take on top of what it starts with: 500MB, 2GB", options.memory),
      today(options),
      set_parameters(options),
      force(options),
      text("--as", "READER", "As whom to ask: a reader that the model declares, who sees some of the rows",
           options.reading.reader, Names::reader),
      flag("--strict", "Warnings are errors, and one wrong definition stops the command", options.reading.strict),
      text("--store", "FILE", "The store file; beside the model text by default", options.store, Names::file),
      flag("--help", "Tell what a command does and takes", common.wants_help),
      flag("--version", "Tell the version", common.wants_version)};
  line.commands = all_commands();
  line.commands.push_back(help_command(common.help));
  return line;
}

}  // namespace juniper::tool
