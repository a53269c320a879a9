#include <filesystem>

#include "commands.h"
#include "juniper/overview.h"

namespace juniper::tool {

namespace {

struct ReportArguments {
  std::string model;
  std::string output;
  OverviewSettings settings;
};

int run(const ReportArguments& arguments, Context& context) {
  return with_known_queries(arguments.model, arguments.settings.log, context, [&](const Dataset& dataset, bool) {
    const auto view = overview(dataset, arguments.settings);
    context.console.clear_progress();
    if (!view) return context.console.fail(view.error());
    context.console.warn(view->weighing.log_problems);
    const std::string path = arguments.output.empty()
                                 ? std::filesystem::path(arguments.model).replace_extension(".html").string()
                                 : arguments.output;
    const auto written = write_page(*view, path, context.options.overwrite);
    if (!written) return context.console.fail(written.error());
    context.console.print_written(path);
    return 0;
  });
}

}  // namespace

Command report_command() {
  auto [command, kept] = command_with<ReportArguments>(
      "report", "A page about the model for people who read no terminal: one HTML file that opens offline", run);
  command.about = {
      "The page shows where the bytes are, how the tables hang together, what the audit found and what mending it "
      "saves, what is computed, and each saved query with its answer; the state of the baseline, if one is recorded."};
  command.options = {
      model_argument(kept->model),
      text("--output", "FILE", "The page; beside the model text by default, with the ending .html", kept->output,
           Names::file),
      text("--log", "FILE", "Count the queries of a log as uses: lines of {\"query\": \"…\"}", kept->settings.log,
           Names::file),
      texts("--before", "FILE", "An earlier weighing to compare with; may be repeated, the oldest first",
            kept->settings.before, Times::repeated),
      text("--baseline", "FOLDER", "The baseline to check; beside the model text by default, if one stands there",
           kept->settings.baseline, Names::file),
      number("--revisions", "N",
             "Show what the last N revisions in git hold: times of the baseline, bytes of the weighings of --before",
             kept->settings.revisions, std::size_t{0}, std::size_t{1000})};
  command.examples = {
      {"report charging.ridge", "writes charging.html"},
      {"report charging.ridge --output page.html --before before.json",
       "with what has changed since an earlier weighing"},
      {"report charging.ridge --revisions 20", "with the recorded times of the last 20 revisions in git"}};
  return command;
}

}  // namespace juniper::tool
