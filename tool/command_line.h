// The one description of the command line: what each command is called and takes. Parsing, help texts, man pages and
// what shells complete are all made from it.
#pragma once

#include <charconv>
#include <cstdint>
#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <system_error>
#include <utility>
#include <vector>

#include "juniper/dataset.h"

namespace juniper::tool {

class Console;

// What a value names, so that shells can complete it. Names of the model are those of the MODEL in the same line.
enum class Names : std::uint8_t {
  nothing,
  file,
  folder,
  command,
  audit_rule,
  query,
  measure,
  parameter,
  reader,
  step,
  anything
};

enum class Times : std::uint8_t {
  once,
  repeated,  // each time with one value
  list,      // one or more values behind each other
};

// What is wrong with the values of an option; nothing when they were taken.
using Problem = std::optional<std::string>;

// An option, or an argument, which has a place in the line instead of a name of its own.
struct Option {
  using Take = std::function<Problem(const std::vector<std::string>&)>;

  Option(std::string name_, std::string value_, std::string help_, Take take_)
      : name(std::move(name_)), value(std::move(value_)), help(std::move(help_)), take(std::move(take_)) {}

  std::string name;                // "--where"; of an argument what stands for it: "QUERY"
  std::string value;               // what stands for the value: "CONDITION"; "" where none follows
  std::string help;                // what it does, without a full stop
  std::vector<std::string> words;  // all values that there are, where they are few
  Names names = Names::nothing;
  Times times = Times::once;
  bool is_required = false;
  std::string needs;  // the option without which it means nothing
  // Takes the values, which are one where the option is given once, and none for an option without a value.
  Take take;

  bool is_argument() const { return !name.starts_with('-'); }
  bool has_value() const { return is_argument() || !value.empty(); }
};

struct Example {
  std::string words;  // behind `juniper`
  std::string what;
};

// What a command runs with.
struct Context {
  const Options& options;
  Console& console;
};

struct Command {
  std::string name;
  std::string summary;             // one line, without a full stop
  std::vector<std::string> about;  // paragraphs
  std::vector<Option> options;     // arguments first, in the order of the line
  std::vector<Example> examples;
  std::function<int(Context&)> run;  // gives the exit status

  // The option or argument of that name; nothing if there is none.
  const Option* find(const std::string& option) const;
  std::vector<const Option*> arguments() const;
};

struct CommandLine {
  std::vector<Option> common;  // of every command
  std::vector<Command> commands;

  const Command* find(const std::string& command) const;
};

// --- options by what they hold
// ----------------------------------------------------------------------------------------

// An option without a value.
Option flag(std::string name, std::string help, bool& on);
// An option whose value is kept as it is.
Option text(std::string name, std::string value, std::string help, std::string& kept, Names names = Names::nothing);
// Several values, kept as they are.
Option texts(std::string name, std::string value, std::string help, std::vector<std::string>& kept, Times times,
             Names names = Names::nothing);
// An argument: once or as a list, and needed.
Option argument(std::string name, std::string help, std::string& kept, Names names = Names::nothing);
Option arguments(std::string name, std::string help, std::vector<std::string>& kept, Names names = Names::nothing);
// The MODEL of a command, its first argument.
Option model_argument(std::string& kept);
Option optional(Option option);

// "'x' is not a whole number from 1 to 10"
std::string not_in_range(const std::string& text, const char* kind, const std::string& least, const std::string& most);

std::string number_text(double number);

// A number between two others, both included.
template <class Number>
Option number(std::string name, std::string value, std::string help, Number& kept, Number least, Number most) {
  const auto take = [&kept, least, most](const std::vector<std::string>& values) -> Problem {
    const std::string& text = values.front();
    Number read{};
    const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), read);
    if (error == std::errc() && end == text.data() + text.size() && read >= least && read <= most) {
      kept = read;
      return std::nullopt;
    }
    if constexpr (std::is_integral_v<Number>) {
      return not_in_range(text, "a whole number", std::to_string(least), std::to_string(most));
    } else {
      return not_in_range(text, "a number", number_text(least), number_text(most));
    }
  };
  return {std::move(name), std::move(value), std::move(help), take};
}

// One of a few words, each for a value.
template <class Kept>
Option choice(std::string name, std::string value, std::string help, Kept& kept,
              const std::vector<std::pair<std::string, Kept>>& choices) {
  const auto take = [&kept, choices](const std::vector<std::string>& values) -> Problem {
    for (const auto& [word, chosen] : choices) {
      if (word == values.front()) kept = chosen;
    }
    return std::nullopt;  // that it is one of the words was looked at before
  };
  Option option(std::move(name), std::move(value), std::move(help), take);
  for (const auto& [word, chosen] : choices) option.words.push_back(word);
  return option;
}

// A number of bytes: "500MB", "2000", "64KiB"; nothing if it is none.
std::optional<std::uint64_t> bytes_of(const std::string& text);
Option bytes(std::string name, std::string help, std::uint64_t& kept);

// A command with room for what its options hold.
template <class Arguments>
std::pair<Command, std::shared_ptr<Arguments>> command_with(std::string name, std::string summary,
                                                            int (*run)(const Arguments&, Context&)) {
  auto kept = std::make_shared<Arguments>();
  Command command;
  command.name = std::move(name);
  command.summary = std::move(summary);
  command.run = [kept, run](Context& context) { return run(*kept, context); };
  return {std::move(command), kept};
}

}  // namespace juniper::tool
