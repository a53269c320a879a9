// What stands beside exported tables: a data package that describes them, and their schema in SQL.
#pragma once

#include <algorithm>
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
  std::string within;                  // its name in a file of several tables
  std::vector<std::uint32_t> columns;  // those that are written

  bool has(const std::vector<std::uint32_t>& all) const {
    return std::all_of(all.begin(), all.end(), [this](std::uint32_t column) {
      return std::find(columns.begin(), columns.end(), column) != columns.end();
    });
  }
};

// A Frictionless data package (https://specs.frictionlessdata.io): the tables with their fields, keys and links.
std::string package_text(const language::CheckedModel& model, const store::Store& store, const std::string& name,
                         const std::vector<Written>& tables, FileForm form);

// Whether a link is whole, and all of its columns on both sides are written.
bool is_written(const language::CheckedModel& model, const store::Store& store, language::LinkIndex link,
                const std::vector<Written>& tables);

// Tables, the copying of their rows where they are CSV, keys, links, and a view for each saved query, for PostgreSQL. A
// reader gets no views, as these may rest on what is hidden from it.
// Errors: those of `sql`.
Result<std::string> postgresql_schema(const Dataset& dataset, const std::vector<Written>& tables, FileForm form);

}  // namespace juniper::exporting
