#include "scanning/package.h"

#include <fmt/format.h>

#include <fstream>
#include <nlohmann/json.hpp>

#include "base/diagnostics.h"

namespace juniper::scanning {

namespace {

using Json = nlohmann::json;

// A name or a list of names.
std::vector<std::string> names_of(const Json& json) {
  if (json.is_string()) return {json.get<std::string>()};
  return json.get<std::vector<std::string>>();
}

TableFiles table_of(const Json& resource, const std::filesystem::path& folder) {
  TableFiles table;
  table.name = resource.at("name").get<std::string>();
  for (const std::string& path : names_of(resource.at("path"))) table.files.push_back(folder / path);
  table.pattern = table.files.at(0);
  if (resource.contains("dialect")) {
    const std::string delimiter = resource["dialect"].value("delimiter", ",");
    if (delimiter.size() == 1) table.delimiter = delimiter[0];
  }
  const Json schema = resource.value("schema", Json::object());
  for (const Json& field : schema.value("fields", Json::array())) {
    const std::string type = field.value("type", "any");
    if (type == "string" || type == "object" || type == "array" || type == "geopoint")
      table.text_columns.push_back(field.at("name").get<std::string>());
  }
  if (schema.contains("primaryKey")) table.key = names_of(schema["primaryKey"]);
  for (const Json& key : schema.value("foreignKeys", Json::array())) {
    const Json& reference = key.at("reference");
    table.references.push_back(
        {names_of(key.at("fields")), reference.value("resource", ""), names_of(reference.at("fields"))});
  }
  return table;
}

bool is_csv(const Json& resource) {
  if (!resource.contains("path")) return false;
  const std::string format = resource.value("format", "csv");
  return format == "csv" || format == "tsv";
}

}  // namespace

Result<std::vector<TableFiles>> read_package(const std::filesystem::path& path) {
  const auto bad = [&](const std::string& what) {
    return tl::unexpected(base::error_at("JR-513", Place{path.string(), 0, 0},
                                         fmt::format("this is not the description of a data package: {}", what),
                                         "name the CSV files themselves"));
  };
  std::ifstream file(path);
  if (!file) return bad("it cannot be opened");
  try {
    const Json package = Json::parse(file);
    std::vector<TableFiles> tables;
    for (const Json& resource : package.at("resources")) {
      if (is_csv(resource)) tables.push_back(table_of(resource, path.parent_path()));
    }
    for (const TableFiles& table : tables) {
      for (const auto& source : table.files) {
        if (!std::filesystem::exists(source)) {
          return tl::unexpected(base::error_at("JR-501", Place{source.string(), 0, 0},
                                               fmt::format("this file of the resource '{}' is not there", table.name)));
        }
      }
      // One pattern has to name all files of a table.
      if (table.files.size() > 1)
        return bad(fmt::format("the resource '{}' has several files, which is not supported", table.name));
    }
    return tables;
  } catch (const Json::exception& e) {
    return bad(e.what());
  } catch (const std::out_of_range&) {
    return bad("a resource has no path");
  }
}

}  // namespace juniper::scanning
