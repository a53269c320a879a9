#include "juniper/audit.h"

#include <charconv>

#include "commands.h"

namespace juniper::tool {

namespace {

struct AuditArguments {
  std::string model;
  AuditSettings settings;
  std::string sarif;
  std::string log;
};

int run(const AuditArguments& arguments, Context& context) {
  return with_known_queries(arguments.model, arguments.log, context, [&](const Dataset& dataset, bool) {
    const auto findings = audit(dataset, arguments.settings);
    context.console.clear_progress();
    if (findings && !arguments.sarif.empty()) {
      const auto written = write_sarif(*findings, arguments.sarif, context.options.overwrite);
      if (!written) return context.console.fail(written.error());
    }
    const int status = print_or_fail(findings, context.console);
    return status == 0 && !findings->findings.empty() ? 1 : status;
  });
}

// Bytes, or a part of the store in percent.
Option least_saving(AuditSettings& settings) {
  const auto take = [&settings](const std::vector<std::string>& values) -> Problem {
    const std::string& text = values.front();
    if (text.ends_with('%')) {
      double percent = 0;
      const char* const percent_sign = text.data() + text.size() - 1;
      const auto [end, error] = std::from_chars(text.data(), percent_sign, percent);
      if (error == std::errc() && end == percent_sign && percent >= 0 && percent <= 100) {
        settings.min_share = percent / 100;
        return std::nullopt;
      }
    } else if (const auto bytes = bytes_of(text)) {
      settings.min_saving = *bytes;
      return std::nullopt;
    }
    return "'" + text + "' is neither bytes like 5kB nor a part of the store like 1%";
  };
  return {"--min-saving", "BYTES",
          "Show what saves at least so many bytes, or that part of the store: 2000, 5kB, 1MB, 0.5%", take};
}

}  // namespace

Command audit_command() {
  auto [command, kept] = command_with<AuditArguments>(
      "audit", "What is wasteful or wrong, worst first, with evidence, remedy and what it saves", run);
  command.about = {
      "Exits with 1 where there are findings. A comment `# audit ignore CODE: reason` in the model text waves one "
      "through. What is used is told from the text, from the baseline beside it, if there is one, and from a log."};
  command.options = {
      model_argument(kept->model),
      texts("--only", "CODE", "Look for this kind of finding alone; may be repeated", kept->settings.only,
            Times::repeated, Names::audit_rule),
      texts("--ignore", "CODE", "Leave out this kind of finding; may be repeated", kept->settings.ignore,
            Times::repeated, Names::audit_rule),
      text("--log", "FILE", "A log of captured queries, JSON lines: what they name is used", kept->log, Names::file),
      least_saving(kept->settings),
      flag("--fast", "Estimate savings from a sample of the rows of large tables, and leave out what needs all rows",
           kept->settings.fast),
      text("--sarif", "FILE", "Write the findings to this file, too, as SARIF for code reviews", kept->sarif,
           Names::file)};
  command.examples = {{"audit charging.ridge", "every finding, those that save most first"},
                      {"audit charging.ridge --only JA-104 --min-saving 1%", "one kind, where it is worth it"},
                      {"audit charging.ridge --fast --sarif audit.sarif", "quickly, for a code review"}};
  return command;
}

}  // namespace juniper::tool
