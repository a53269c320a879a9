#include "juniper/weigh.h"

#include "commands.h"

namespace juniper::tool {

namespace {

struct WeighArguments {
  std::string model;
  WeighView view;
  std::string log;
  std::string before;
};

int run(const WeighArguments& arguments, Context& context) {
  Console& console = context.console;
  return with_dataset(arguments.model, context, [&](const Dataset& dataset) {
    QueryLog log;
    if (!arguments.log.empty()) {
      auto read = read_query_log(arguments.log);
      if (!read) return console.fail(read.error());
      log = std::move(*read);
    }
    const auto weighed = arguments.log.empty() ? weigh(dataset) : weigh(dataset, log);
    if (!weighed) return console.fail(weighed.error());
    const Weighing& weighing = *weighed;
    console.warn(weighing.log_problems);
    if (!arguments.before.empty()) {
      const auto changes = weigh_against(weighing, arguments.before);
      if (!changes) return console.fail(changes.error());
      console.print(report(*changes, arguments.view.top));
      return 0;
    }
    console.print(report(weighing, arguments.view));
    return 0;
  });
}

}  // namespace

Command weigh_command() {
  auto [command, kept] = command_with<WeighArguments>("weigh", "Where the bytes are, and who uses them", run);
  command.options = {
      model_argument(kept->model),
      choice("--sort", "FIGURE", "Sort the parts by a figure; uses is bytes by logged query", kept->view.sort,
             {{"bytes", WeighOrder::bytes},
              {"rows", WeighOrder::rows},
              {"distinct", WeighOrder::distinct},
              {"nulls", WeighOrder::nulls},
              {"bits", WeighOrder::bits},
              {"uses", WeighOrder::uses},
              {"name", WeighOrder::name}}),
      number("--top", "N", "Show the first N parts", kept->view.top, std::size_t{0}, std::size_t{1'000'000'000}),
      text("--log", "FILE", "Count the queries of a log that read each column: lines of {\"query\": \"…\"}", kept->log,
           Names::file),
      text("--before", "FILE",
           "Show what differs from an earlier weighing: a .jrs store, or what --format json or csv printed",
           kept->before, Names::file)};
  command.examples = {{"weigh charging.ridge --top 20", "the twenty heaviest parts of the store"},
                      {"weigh charging.ridge --log queries.jsonl --sort uses", "bytes against observed use"},
                      {"weigh charging.ridge --before before.json", "what has changed since an earlier weighing"}};
  return command;
}

}  // namespace juniper::tool
