// What stands beside exported tables: a data package that describes them, and their schema in SQL.
#pragma once

#include <string>
#include <vector>

#include "juniper/export.h"
#include "language/checked.h"
#include "store/store.h"

namespace juniper::exporting {

// A table that was written, and its file.
struct Written {
  language::TableIndex table = 0;
  std::string file;
  std::string within;  // its name in a file of several tables
};

// A Frictionless data package (https://specs.frictionlessdata.io): the tables with their fields, keys and links.
std::string package_text(const language::CheckedModel& model, const store::Store& store, const std::string& name,
                         const std::vector<Written>& tables, FileForm form);

// Tables, the copying of their rows where they are CSV, keys, links, and a view for each saved query, for PostgreSQL.
// Errors: those of `sql`.
Result<std::string> postgresql_schema(const Dataset& dataset, const std::vector<Written>& tables, FileForm form);

}  // namespace juniper::exporting
