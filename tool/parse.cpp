#include "parse.h"

#include <fmt/format.h>

#include <CLI/CLI.hpp>
#include <algorithm>
#include <utility>

namespace juniper::tool {

namespace {

std::string joined(const std::vector<std::string>& words) {
  return fmt::format("{}", fmt::join(words, ", "));
}

std::string command_names(const CommandLine& line) {
  std::vector<std::string> names;
  for (const Command& command : line.commands) names.push_back(command.name);
  return joined(names);
}

std::string see(const Command& command) {
  return fmt::format("; see `juniper help {}`", command.name);
}

// What is wrong with the values of an option, before it takes them.
Problem look_at(const Option& option, const std::vector<std::string>& values) {
  if (option.times == Times::once && values.size() > 1)
    return fmt::format("it is given {} times, and takes one value", values.size());
  for (const std::string& value : values) {
    if (!option.words.empty() && std::find(option.words.begin(), option.words.end(), value) == option.words.end())
      return fmt::format("'{}' is not one of {}", value, joined(option.words));
  }
  return std::nullopt;
}

// The library knows of an option that its value is missing, and tells its name alone.
std::string missing_value(const std::vector<std::pair<const Option*, CLI::Option*>>& options, const std::string& what) {
  for (const auto& [option, known] : options) {
    if (!what.starts_with(option->name + ":")) continue;
    return option->words.empty() ? fmt::format("{} takes a value, {}", option->name, option->value)
                                 : fmt::format("{} takes one of {}", option->name, joined(option->words));
  }
  return what;
}

std::string not_known(const Command& command, const std::string& word) {
  if (!word.starts_with('-'))
    return fmt::format("'{}' is one word more than {} takes: put an argument that has blanks in quotes", word,
                       command.name);
  std::vector<std::string> names;
  for (const Option& option : command.options) {
    if (!option.is_argument()) names.push_back(option.name);
  }
  const std::string has = names.empty() ? "has no options of its own" : fmt::format("has {}", joined(names));
  return fmt::format("{} has no option {}; it {}", command.name, word.substr(0, word.find('=')), has);
}

Problem read_options(const CommandLine& line, const Command& command, std::vector<std::string> words) {
  CLI::App app;
  app.set_help_flag();
  app.allow_extras();
  std::vector<std::pair<const Option*, CLI::Option*>> options;
  for (const auto* list : {&command.options, &line.common}) {
    for (const Option& option : *list) {
      CLI::Option* known = nullptr;
      if (option.has_value()) {
        known = app.add_option(option.name)->expected(1)->allow_extra_args(false);
        if (option.times == Times::list) known->expected(1, CLI::detail::expected_max_vector_size)->allow_extra_args();
        known->multi_option_policy(CLI::MultiOptionPolicy::TakeAll);
      } else {
        known = app.add_flag(option.name);
      }
      options.emplace_back(&option, known);
    }
  }
  std::reverse(words.begin(), words.end());
  try {
    app.parse(std::move(words));
  } catch (const CLI::ParseError& error) {
    return missing_value(options, error.what());
  }
  if (const auto extras = app.remaining(); !extras.empty()) return not_known(command, extras.front()) + see(command);
  for (const auto& [option, known] : options) {
    if (known->count() == 0) {
      if (option->is_required) return fmt::format("{} needs {}{}", command.name, option->name, see(command));
      continue;
    }
    if (!option->needs.empty() && app.count(option->needs) == 0)
      return fmt::format("{} goes with {}{}", option->name, option->needs, see(command));
    const std::vector<std::string> values = option->has_value() ? known->results() : std::vector<std::string>();
    Problem problem = look_at(*option, values);
    if (!problem) problem = option->take(values);
    if (problem) return fmt::format("{}: {}", option->name, *problem);
  }
  return std::nullopt;
}

}  // namespace

std::optional<std::size_t> place_of_command(const CommandLine& line, const std::vector<std::string>& words) {
  for (std::size_t i = 0; i < words.size(); ++i) {
    if (!words[i].starts_with('-')) return i;
    const auto common = std::find_if(line.common.begin(), line.common.end(),
                                     [&](const Option& option) { return option.name == words[i]; });
    if (common != line.common.end() && common->has_value()) ++i;
  }
  return std::nullopt;
}

Parsed parse(const CommandLine& line, const std::vector<std::string>& words) {
  Parsed parsed;
  const auto place = place_of_command(line, words);
  // What is asked for in place of a command, wherever it stands.
  for (const char* instead : {"--help", "--version"}) {
    const auto end = std::find(words.begin(), words.end(), "--");
    if (std::find(words.begin(), end, instead) == end) continue;
    for (const Option& option : line.common) {
      if (option.name == instead) option.take({});
    }
    if (place) parsed.command = line.find(words[*place]);
    return parsed;
  }
  if (!place) {
    parsed.problem = fmt::format("name a command: {}", command_names(line));
    return parsed;
  }
  parsed.command = line.find(words[*place]);
  if (parsed.command == nullptr) {
    parsed.problem = fmt::format("there is no command '{}'; the commands are {}", words[*place], command_names(line));
    return parsed;
  }
  std::vector<std::string> rest = words;
  rest.erase(rest.begin() + static_cast<std::ptrdiff_t>(*place));
  parsed.problem = read_options(line, *parsed.command, std::move(rest));
  return parsed;
}

}  // namespace juniper::tool
