#include "juniper/sql.h"

#include "commands.h"

namespace juniper::tool {

namespace {

struct SqlArguments {
  std::string model;
  Question question;
  SqlDialect dialect = SqlDialect::sqlite;
};

int run(const SqlArguments& arguments, Context& context) {
  return with_dataset(arguments.model, context, [&](const Dataset& dataset) {
    const auto statement = sql(dataset, arguments.question, arguments.dialect);
    if (!statement) return context.console.fail(statement.error());
    context.console.print_text("statement", *statement);
    return 0;
  });
}

}  // namespace

Command sql_command() {
  auto [command, kept] = command_with<SqlArguments>("sql", "The query as one plain SQL statement", run);
  command.options = {model_argument(kept->model)};
  add_question(command.options, kept->question);
  command.options.push_back(choice("--dialect", "DIALECT", "In whose words", kept->dialect,
                                   {{"sqlite", SqlDialect::sqlite}, {"postgresql", SqlDialect::postgresql}}));
  command.examples = {{"sql charging.ridge monthly", "a saved query in the words of SQLite"},
                      {"sql charging.ridge 'show revenue' --dialect postgresql", "one typed here, for PostgreSQL"}};
  return command;
}

}  // namespace juniper::tool
