// The pages use the classic `man` macros alone, which every reader of man pages knows.
#include "manual.h"

#include <fmt/format.h>

#include <algorithm>
#include <cctype>

#include "help.h"

namespace juniper::tool {

namespace {

// Text as roff reads it back. A dash that is typed has to be one that can be copied.
std::string roff(const std::string& text) {
  std::string out;
  for (const char c : text) {
    if (c == '\\') {
      out += "\\e";
    } else if (c == '-') {
      out += "\\-";
    } else if ((c == '.' || c == '\'') && out.empty()) {
      out += fmt::format("\\&{}", c);
    } else {
      out += c;
    }
  }
  return out;
}

std::string head(const std::string& name, const std::string& summary) {
  std::string title = name;
  std::transform(title.begin(), title.end(), title.begin(), [](unsigned char c) { return std::toupper(c); });
  return fmt::format(".TH {} 1 {} \"Juniper Ridge {}\" \"User Commands\"\n.SH NAME\n{} \\- {}\n", title, JUNIPER_DATE,
                     JUNIPER_VERSION, roff(name), roff(summary));
}

std::string roff_paragraph(const std::string& text) {
  return ".PP\n" + roff(text) + "\n";
}

std::string tagged(const std::string& tag, const std::string& text) {
  return fmt::format(".TP\n.B {}\n{}\n", roff(tag), roff(text));
}

std::string options_under(const std::string& heading, const std::vector<Option>& options, bool of_arguments) {
  std::string out;
  for (const Option& option : options) {
    if (option.is_argument() == of_arguments) out += tagged(usage(option), explained(option) + ".");
  }
  return out.empty() ? "" : ".SH " + heading + "\n" + out;
}

std::string exit_status() {
  return ".SH EXIT STATUS\n" + tagged("0", "All well.") +
         tagged("1", "Findings, or a change or check that did not pass.") + tagged("2", "Wrong usage.") +
         tagged("3", "Input that can't be read.");
}

}  // namespace

std::string man_page(const CommandLine& line) {
  std::string out = head("juniper", "measure, slim down and regression-test columnar analytical models");
  out += ".SH SYNOPSIS\n.B juniper\n.I COMMAND\n[\\fIARGUMENTS\\fR] [\\fIOPTIONS\\fR]\n";
  out += ".SH DESCRIPTION\n" +
         roff(
             "A model is a text (.ridge) with tables, links, calculated columns, measures and queries over files of "
             "data. Commands load it into a store (.jrs) beside the text when that is not fresh.") +
         "\n";
  out += ".SH COMMANDS\n";
  for (const Command& command : line.commands)
    out += fmt::format(".TP\n.BR juniper\\-{} (1)\n{}.\n", roff(command.name), roff(command.summary));
  out += options_under("OPTIONS OF EVERY COMMAND", line.common, false);
  out += exit_status();
  out += ".SH FILES\n" + tagged("MODEL.ridge", "The model text.") +
         tagged("MODEL.jrs", "The store made from it; can be made again at any time.") +
         tagged("MODEL.baseline", "A folder: recorded results, as text.");
  return out;
}

std::string man_page(const CommandLine& line, const Command& command) {
  std::string out = head("juniper-" + command.name, command.summary);
  out += fmt::format(".SH SYNOPSIS\n.B {}\n", roff(usage(command)));
  out += ".SH DESCRIPTION\n" + roff(command.summary + ".") + "\n";
  for (const std::string& about : command.about) out += roff_paragraph(about);
  out += options_under("ARGUMENTS", command.options, true);
  out += options_under("OPTIONS", command.options, false);
  out += options_under("OPTIONS OF EVERY COMMAND", line.common, false);
  if (!command.examples.empty()) out += ".SH EXAMPLES\n";
  for (const Example& example : command.examples) out += tagged("juniper " + example.words, example.what + ".");
  return out + exit_status() + ".SH SEE ALSO\n.BR juniper (1)\n";
}

}  // namespace juniper::tool
