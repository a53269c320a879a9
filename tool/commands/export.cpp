#include "juniper/export.h"

#include "commands.h"

namespace juniper::tool {

namespace {

struct ExportArguments {
  std::string model;
  std::string folder;
  ExportSettings settings;
  bool schema = false;
};

int run(const ExportArguments& arguments, Context& context) {
  return with_dataset(arguments.model, context, [&](const Dataset& dataset) {
    ExportSettings settings = arguments.settings;
    if (arguments.schema) settings.sql = SqlDialect::postgresql;
    const auto exported = export_tables(dataset, arguments.folder, settings);
    context.console.clear_progress();
    return print_or_fail(exported, context.console);
  });
}

}  // namespace

Command export_command() {
  auto [command, kept] = command_with<ExportArguments>(
      "export", "Write the tables to files of an open format, with their keys and links", run);
  command.about = {
      "Writes the tables as they are stored: without the rows that the model leaves out, with calculated columns and "
      "tables, "
      "with exact types. A data package beside them (datapackage.json) tells fields, keys and links. Files of an "
      "earlier "
      "export are replaced; anything else in the folder stays."};
  command.options = {
      model_argument(kept->model),
      argument("FOLDER", "Where the files go; made where it is not there", kept->folder, Names::file),
      choice("--into", "FORM", "parquet by default; sqlite and xlsx make one file of all tables", kept->settings.form,
             {{"parquet", FileForm::parquet},
              {"arrow", FileForm::arrow},
              {"csv", FileForm::csv},
              {"json", FileForm::json},
              {"sqlite", FileForm::sqlite},
              {"xlsx", FileForm::xlsx}}),
      texts("--only", "TABLE", "This table; may be repeated", kept->settings.tables, Times::repeated),
      flag("--schema", "Write schema.sql for PostgreSQL, too: tables, keys, links, and a view for each saved query",
           kept->schema)};
  command.examples = {
      {"export charging.ridge lean", "all tables as Parquet"},
      {"export charging.ridge lean --into csv --schema", "as CSV, with what a database needs to take them"},
      {"export charging.ridge lean --into xlsx --only stations --only tariffs", "two tables as a spreadsheet"}};
  return command;
}

}  // namespace juniper::tool
