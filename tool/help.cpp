#include "help.h"

#include <fmt/format.h>

#include <algorithm>

namespace juniper::tool {

namespace {

constexpr std::size_t widest = 100;

// The width of lines in a window; 0: none is known.
std::size_t width_in(std::size_t window) {
  constexpr std::size_t least = 40;
  return window == 0 ? widest : std::clamp(window, least, widest);
}

// A text in lines that begin with so many blanks, the first of which stands in `line` already.
std::string wrapped(std::string line, std::size_t indent, const std::string& text, std::size_t width) {
  std::string out;
  std::size_t begin = 0;
  bool is_empty = true;
  while (begin < text.size()) {
    const std::size_t end = std::min(text.find(' ', begin), text.size());
    const std::string word = text.substr(begin, end - begin);
    if (!is_empty && line.size() + 1 + word.size() > width) {
      out += line + "\n";
      line.assign(indent, ' ');
      is_empty = true;
    }
    line += (is_empty ? "" : " ") + word;
    is_empty = false;
    begin = end + 1;
  }
  return out + line + "\n";
}

std::string paragraph(const std::string& text, std::size_t width) {
  return wrapped("", 0, text, width);
}

struct Entry {
  std::string name;
  std::string text;
};

// Names on the left, what they mean on the right.
std::string listed(const std::string& heading, const std::vector<Entry>& entries, std::size_t width) {
  if (entries.empty()) return "";
  std::size_t names = 0;
  for (const Entry& entry : entries) names = std::max(names, entry.name.size());
  names = std::min<std::size_t>(names, 24);
  std::string out = "\n" + heading + "\n";
  for (const Entry& entry : entries) {
    std::string line = "  " + entry.name;
    if (entry.name.size() > names) {
      out += line + "\n";
      line.clear();
    }
    line.resize(names + 4, ' ');
    out += wrapped(std::move(line), names + 4, entry.text, width);
  }
  return out;
}

std::vector<Entry> entries_of(const std::vector<Option>& options, bool of_arguments) {
  std::vector<Entry> entries;
  for (const Option& option : options) {
    if (option.is_argument() == of_arguments) entries.push_back({usage(option), explained(option)});
  }
  return entries;
}

}  // namespace

std::string usage(const Option& option) {
  std::string text = option.name;
  if (!option.value.empty()) text += " " + option.value;
  if (option.times == Times::list) text += "...";
  return text;
}

std::string usage(const Command& command) {
  std::string text = "juniper " + command.name;
  bool has_options = false;
  for (const Option& option : command.options) {
    if (!option.is_argument()) {
      has_options = true;
    } else {
      text += option.is_required ? " " + usage(option) : fmt::format(" [{}]", usage(option));
    }
  }
  return has_options ? text + " [OPTIONS]" : text;
}

std::string explained(const Option& option) {
  if (option.words.empty()) return option.help;
  std::string words;
  for (std::size_t i = 0; i < option.words.size(); ++i)
    words += (i == 0 ? "" : i + 1 == option.words.size() ? " or " : ", ") + option.words[i];
  return fmt::format("{}: {}", option.help, words);
}

std::string help(const CommandLine& line, std::size_t window) {
  const std::size_t width = width_in(window);
  std::string out = "juniper COMMAND [ARGUMENTS] [OPTIONS]\n";
  out += paragraph("Measure, slim down and regression-test columnar analytical models.", width);
  std::vector<Entry> commands;
  for (const Command& command : line.commands) commands.push_back({command.name, command.summary});
  out += listed("Commands", commands, width);
  out += listed("Options of every command", entries_of(line.common, false), width);
  out += "\n" + paragraph(
                    "`juniper help COMMAND` tells more of one. Exit status: 0 all well, 1 findings, or a change or "
                    "check that did not pass, 2 wrong usage, 3 input that can't be read.",
                    width);
  return out;
}

std::string help(const CommandLine& line, const Command& command, std::size_t window) {
  const std::size_t width = width_in(window);
  std::string out = wrapped("", 4, usage(command), width) + paragraph(command.summary + ".", width);
  for (const std::string& about : command.about) out += "\n" + paragraph(about, width);
  out += listed("Arguments", entries_of(command.options, true), width);
  out += listed("Options", entries_of(command.options, false), width);
  if (!command.examples.empty()) out += "\nExamples\n";
  for (const Example& example : command.examples) {
    out += wrapped("  ", 10, "juniper " + example.words, width);
    out += wrapped("      ", 6, example.what, width);
  }
  std::string common;
  for (const Option& option : line.common) common += (common.empty() ? "" : ", ") + option.name;
  return out + "\n" + paragraph("Options of every command, told by `juniper help`: " + common + ".", width);
}

}  // namespace juniper::tool
