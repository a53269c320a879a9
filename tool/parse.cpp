#include "parse.h"

#include <fmt/format.h>

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

std::string missing_value(const Option& option) {
  return option.words.empty() ? fmt::format("{} takes a value, {}", option.name, option.value)
                              : fmt::format("{} takes one of {}", option.name, joined(option.words));
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

// Hands the words out to the options and arguments that they belong to.
class Words {
 public:
  Words(const CommandLine& line, const Command& command) : command_(command), arguments_(command.arguments()) {
    for (const auto* list : {&command.options, &line.common}) {
      for (const Option& option : *list) given_.emplace_back(&option, std::nullopt);
    }
  }

  Problem take(const std::vector<std::string>& words) {
    bool options_end = false;
    for (std::size_t i = 0; i < words.size(); ++i) {
      const std::string& word = words[i];
      Problem problem;
      if (!options_end && word == "--") {
        options_end = true;
      } else if (!options_end && word.size() > 1 && word[0] == '-') {
        problem = take_option(words, i);
      } else {
        problem = take_argument(word);
      }
      if (problem) return problem;
    }
    return hand_out();
  }

 private:
  using Values = std::optional<std::vector<std::string>>;  // nothing: the option is not given

  Values* find(const std::string& name) {
    for (auto& [option, values] : given_) {
      if (option->name == name) return &values;
    }
    return nullptr;
  }

  bool is_option(const std::string& word) { return word.starts_with("--") && find(word.substr(0, word.find('='))); }

  // `i` becomes the place of the last word that belongs to it.
  Problem take_option(const std::vector<std::string>& words, std::size_t& i) {
    const std::size_t equals = words[i].find('=');
    const std::string name = words[i].substr(0, equals);
    const auto at =
        std::find_if(given_.begin(), given_.end(), [&](const auto& one) { return one.first->name == name; });
    if (at == given_.end()) return not_known(command_, words[i]) + see(command_);
    const Option& option = *at->first;
    Values& values = at->second;
    if (!values) values.emplace();
    if (!option.has_value()) {
      if (equals != std::string::npos) return fmt::format("{} takes no value", name);
    } else if (equals != std::string::npos) {
      values->push_back(words[i].substr(equals + 1));
    } else {
      if (i + 1 == words.size() || is_option(words[i + 1])) return missing_value(option);
      values->push_back(words[++i]);
      while (option.times == Times::list && i + 1 < words.size() && !words[i + 1].starts_with('-'))
        values->push_back(words[++i]);
    }
    return std::nullopt;
  }

  Problem take_argument(const std::string& word) {
    if (next_argument_ == arguments_.size()) return not_known(command_, word) + see(command_);
    const Option& argument = *arguments_[next_argument_];
    Values& values = *find(argument.name);
    if (!values) values.emplace();
    values->push_back(word);
    if (argument.times != Times::list) ++next_argument_;
    return std::nullopt;
  }

  Problem hand_out() {
    for (const auto& [option, values] : given_) {
      if (!values) {
        if (option->is_required) return fmt::format("{} needs {}{}", command_.name, option->name, see(command_));
        continue;
      }
      if (!option->needs.empty() && !*find(option->needs))
        return fmt::format("{} goes with {}{}", option->name, option->needs, see(command_));
      Problem problem = look_at(*option, *values);
      if (!problem) problem = option->take(*values);
      if (problem) return fmt::format("{}: {}", option->name, *problem);
    }
    return std::nullopt;
  }

  const Command& command_;
  std::vector<const Option*> arguments_;
  std::size_t next_argument_ = 0;
  std::vector<std::pair<const Option*, Values>> given_;
};

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
  parsed.problem = Words(line, *parsed.command).take(rest);
  return parsed;
}

}  // namespace juniper::tool
