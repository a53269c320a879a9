#include "commands.h"

#include <csignal>

namespace juniper::tool {

namespace {

const auto interrupted = std::make_shared<std::atomic<bool>>(false);

struct sigaction earlier {};  // what Ctrl-C does otherwise

void on_interrupt(int) {
  interrupted->store(true);
  ::sigaction(SIGINT, &earlier, nullptr);
}

}  // namespace

CancelOnInterrupt::CancelOnInterrupt() {
  struct sigaction action {};
  action.sa_handler = on_interrupt;
  sigemptyset(&action.sa_mask);
  ::sigaction(SIGINT, &action, &earlier);
}
CancelOnInterrupt::~CancelOnInterrupt() {
  ::sigaction(SIGINT, &earlier, nullptr);
}

std::shared_ptr<const std::atomic<bool>> called_off() {
  return interrupted;
}

void add_question(std::vector<Option>& options, Question& question) {
  options.push_back(argument("QUERY", "A saved query's name, or clauses: 'by stations.region show revenue'",
                             question.query, Names::query));
  options.push_back(texts("--where", "CONDITION", "A further condition, joined by `and`; may be repeated",
                          question.where, Times::repeated));
  options.push_back(texts("--draft", "MEASURE",
                          "Another definition for this question: 'measure NAME = …'; may be repeated", question.drafts,
                          Times::repeated));
}

std::vector<Command> all_commands() {
  return {scan_command(),     load_command(),     weigh_command(), links_command(),  audit_command(),  ask_command(),
          describe_command(), explain_command(),  sql_command(),   unfold_command(), format_command(), draft_command(),
          refactor_command(), baseline_command(), check_command(), report_command(), export_command(), demo_command()};
}

}  // namespace juniper::tool
