#include "juniper/baseline.h"
#include "juniper/replay.h"

#include "commands.h"

namespace juniper::tool {

namespace {

struct CheckArguments {
  std::string model;
  std::string folder;
  CheckSettings settings;
  std::string junit;
  unsigned clients = 0;  // 0: nothing is replayed
  ReplaySettings replay;
};

int run_replay(const CheckArguments& arguments, const Dataset& dataset, Console& console) {
  ReplaySettings settings = arguments.replay;
  settings.clients = arguments.clients;
  const auto replayed = replay(dataset, settings);
  console.clear_progress();
  if (!replayed) return console.fail(replayed.error());
  console.print(report(*replayed));
  return replayed->passed() ? 0 : 1;
}

int run(const CheckArguments& arguments, Context& context) {
  Console& console = context.console;
  const std::string folder =
      arguments.folder.empty() ? baseline_path(arguments.model, context.options.reading.reader) : arguments.folder;
  return with_dataset(arguments.model, context, [&](const Dataset& dataset) {
    if (arguments.clients != 0) return run_replay(arguments, dataset, console);
    const auto checked = check(dataset, folder, arguments.settings);
    console.clear_progress();
    if (!checked) return console.fail(checked.error());
    if (!arguments.junit.empty()) {
      if (const auto written = write_junit(*checked, arguments.model, arguments.junit, context.options.overwrite);
          !written)
        return console.fail(written.error());
    }
    console.print(report(*checked));
    return checked->passed() ? 0 : 1;
  });
}

Option with(Option option, const char* needed) {
  option.needs = needed;
  return option;
}

}  // namespace

Command check_command() {
  auto [command, kept] = command_with<CheckArguments>(
      "check", "Compare the queries with the baseline, or with another model; replay a log with many clients", run);
  command.about = {"Exits with 1 where a result differs, or a query is slower than allowed."};
  CheckSettings& settings = kept->settings;
  constexpr double most = 1e300;
  command.options = {
      model_argument(kept->model),
      text("--dir", "DIR", "The folder of the baseline; beside the model text by default", kept->folder, Names::folder),
      text("--base", "MODEL", "Another model text to compare with", settings.base, Names::file),
      text("--base-rev", "REV", "The model text as git has it at this revision", settings.base_revision),
      number("--relative", "R", "How far reals may be apart, of their size (1e-9)", settings.tolerance.relative, 0.0,
             most),
      number("--absolute", "R", "… or so far, whatever their size (0)", settings.tolerance.absolute, 0.0, most),
      choice("--speed", "RUNS", "Compare times, too; cold runs are added to warm ones, each on a store opened anew",
             settings.speed, {{"cold", SpeedCheck::warm_and_cold}, {"warm", SpeedCheck::warm}}),
      number("--allowed", "RATIO", "More than so many times the base's time is slower (1.1)",
             settings.timing.allowed_ratio, 1.01, 100.0),
      number("--seconds", "S", "How long the times of a query may be measured (2), up to twice that where it helps",
             settings.timing.seconds, 0.001, 86400.0),
      choice("--undecided", "OUTCOME", "What becomes of a query whose times do not tell (pass)",
             settings.undecided_fails, {{"pass", false}, {"fail", true}}),
      text("--budgets", "FILE", "A file of lines QUERY within 50 ms", settings.budgets, Names::file),
      texts("--accept", "QUERY", "Queries whose new results go into the baseline", settings.accept, Times::list,
            Names::query),
      text("--junit", "FILE", "Write the outcome as JUnit XML, too", kept->junit, Names::file),
      number("--clients", "N", "Replay with so many clients at once instead", kept->clients, 1U, 1024U),
      with(number("--for", "S", "… for so many seconds (10)", kept->replay.seconds, 0.001, 86400.0), "--clients"),
      with(text("--log", "FILE", "… the queries of this log; all saved ones by default", kept->replay.log, Names::file),
           "--clients")};
  command.examples = {{"check charging.ridge", "did any number move?"},
                      {"check charging.ridge --base-rev HEAD~1 --speed warm", "is any query slower than before?"},
                      {"check charging.ridge --clients 8 --for 60", "does it hold with many at once?"}};
  return command;
}

}  // namespace juniper::tool
