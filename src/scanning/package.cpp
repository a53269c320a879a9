#include "scanning/package.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <fstream>

#include "base/diagnostics.h"
#include "base/files.h"
#include "base/json.h"

namespace juniper::scanning {

namespace {

using base::Json;

// Thrown at what no data package says so, with the reason.
struct NoPackage {
  std::string why;
};

const Json& member(const Json& json, const char* name) {
  const Json* const found = json.find(name);
  if (found == nullptr) throw NoPackage{fmt::format("something has no \"{}\"", name)};
  return *found;
}

const std::string& text_of(const Json& json, const char* what) {
  if (json.text() == nullptr) throw NoPackage{fmt::format("a \"{}\" is no text", what)};
  return *json.text();
}

std::string text_or(const Json& json, const char* name, const char* otherwise) {
  const Json* const found = json.find(name);
  return found != nullptr ? text_of(*found, name) : otherwise;
}

// The items of a member, of which there are none where it is not there.
const Json::Items& items_of(const Json& json, const char* name) {
  static const Json::Items none;
  const Json* const found = json.find(name);
  if (found == nullptr) return none;
  if (found->items() == nullptr) throw NoPackage{fmt::format("\"{}\" is no list", name)};
  return *found->items();
}

// A name or a list of names.
std::vector<std::string> names_of(const Json& json, const char* what) {
  if (json.text() != nullptr) return {*json.text()};
  if (json.items() == nullptr) throw NoPackage{fmt::format("a \"{}\" is neither a text nor a list of texts", what)};
  std::vector<std::string> names;
  for (const Json& item : *json.items()) names.push_back(text_of(item, what));
  return names;
}

TableFiles table_of(const Json& resource, const std::filesystem::path& folder) {
  TableFiles table;
  table.name = text_of(member(resource, "name"), "name");
  for (const std::string& path : names_of(member(resource, "path"), "path")) {
    // As its specification has it: a description from a stranger leads to nothing but its own files.
    const std::filesystem::path inside = std::filesystem::path(path).lexically_normal();
    if (inside.empty() || inside.is_absolute() || *inside.begin() == "..")
      throw NoPackage{fmt::format("the path \"{}\" leads out of its folder", path)};
    table.files.push_back(folder / path);
  }
  if (table.files.empty()) throw NoPackage{"a resource has no path"};
  table.pattern = table.files[0].parent_path() / pattern_of(table.files[0].filename().string());
  tell_kind(table);
  if (const Json* const dialect = resource.find("dialect")) {
    const std::string delimiter = text_or(*dialect, "delimiter", ",");
    if (delimiter.size() == 1) table.delimiter = delimiter[0];
    const std::string sheet = text_or(*dialect, "sheet", "");
    if (base::is_spreadsheet(table.kind) && !sheet.empty()) table.selection = {base::Selection::Kind::sheet, sheet};
    if (const std::string* const within = dialect->find_text("table");
        within != nullptr && base::is_database(table.kind))
      table.selection = {base::Selection::Kind::table, *within};
  }
  // In a database, a resource is the table of its name.
  if (base::is_database(table.kind) && table.selection.text.empty())
    table.selection = {base::Selection::Kind::table, table.name};
  const Json* const declared = resource.find("schema");
  const Json none;
  const Json& schema = declared != nullptr ? *declared : none;
  for (const Json& field : items_of(schema, "fields")) {
    const std::string type = text_or(field, "type", "any");
    if (type == "string" || type == "object" || type == "array" || type == "geopoint")
      table.text_columns.push_back(text_of(member(field, "name"), "name"));
  }
  if (const Json* const key = schema.find("primaryKey")) table.key = names_of(*key, "primaryKey");
  for (const Json& key : items_of(schema, "foreignKeys")) {
    const Json& reference = member(key, "reference");
    table.references.push_back({names_of(member(key, "fields"), "fields"), text_or(reference, "resource", ""),
                                names_of(member(reference, "fields"), "fields")});
  }
  return table;
}

// Whether a resource is a file of a kind that is read here.
bool is_read(const Json& resource) {
  if (resource.find("path") == nullptr) return false;
  const std::string format = text_or(resource, "format", "csv");
  constexpr std::array<std::string_view, 11> formats{"csv",  "tsv", "parquet", "arrow",  "jsonl",  "ndjson",
                                                     "json", "ods", "xlsx",    "sqlite", "sqlite3"};
  return std::find(formats.begin(), formats.end(), format) != formats.end();
}

}  // namespace

Result<std::vector<TableFiles>> read_package(const std::filesystem::path& path) {
  const auto bad = [&](const std::string& what) {
    return tl::unexpected(base::error_at("JR-513", Place{path.string(), 0, 0},
                                         fmt::format("this is not the description of a data package: {}", what),
                                         "name the CSV files themselves"));
  };
  const auto text = base::read_plain_file(path);
  if (!text) return bad(text.error());
  try {
    const base::ParsedJson package = base::parse_json(*text);
    if (!package.value) return bad(fmt::format("byte {}: {}", package.byte, package.problem));
    if (package.value->find("resources") == nullptr) return bad("it has no \"resources\"");
    std::vector<TableFiles> tables;
    for (const Json& resource : items_of(*package.value, "resources")) {
      if (is_read(resource)) tables.push_back(table_of(resource, path.parent_path()));
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
  } catch (const NoPackage& none) {
    return bad(none.why);
  }
}

bool is_package(const std::filesystem::path& path) {
  if (path.filename() == "datapackage.json") return true;
  if (path.extension() != ".json") return false;
  std::ifstream file(path, std::ios::binary);
  std::string begin(std::size_t{1} << 16, '\0');
  file.read(begin.data(), static_cast<std::streamsize>(begin.size()));
  begin.resize(static_cast<std::size_t>(file.gcount()));
  const std::size_t first = begin.find_first_not_of(" \t\r\n");
  return first != std::string::npos && begin[first] == '{' && begin.find("\"resources\"") != std::string::npos;
}

}  // namespace juniper::scanning
