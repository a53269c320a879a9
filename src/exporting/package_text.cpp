#include "exporting/package_text.h"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>

#include "base/json.h"
#include "model/access.h"
#include "store/of_dataset.h"
#include "store/resolve_link.h"

namespace juniper::exporting {

namespace {

using base::Json;
using language::CheckedModel;
using language::Link;
using language::Table;
using language::TableIndex;

std::string field_type(Type type) {
  switch (type.kind) {
    case TypeKind::boolean:
      return "boolean";
    case TypeKind::integer:
      return "integer";
    case TypeKind::decimal:
    case TypeKind::real:
      return "number";
    case TypeKind::text:
      return "string";
    case TypeKind::date:
      return "date";
    case TypeKind::datetime:
      return "datetime";
    case TypeKind::time:
      return "time";
  }
  return "any";
}

std::string form_name(FileForm form) {
  switch (form) {
    case FileForm::parquet:
      return "parquet";
    case FileForm::arrow:
      return "arrow";
    case FileForm::csv:
      return "csv";
    case FileForm::json:
      return "jsonl";
    case FileForm::sqlite:
      return "sqlite";
    case FileForm::xlsx:
      return "xlsx";
  }
  return "";
}

std::vector<std::string> names_of(const CheckedModel& model, const language::LinkEnd& end) {
  std::vector<std::string> names;
  for (const std::uint32_t column : end.columns) names.push_back(model.tables[end.table].columns[column].name);
  return names;
}

Json list_of(const std::vector<std::string>& names) {
  Json::Items items;
  for (const std::string& name : names) items.emplace_back(name);
  return items;
}

// Links from a table that are written.
std::vector<language::LinkIndex> links_from(const CheckedModel& model, const store::Store& store, TableIndex table,
                                            const std::vector<Written>& tables) {
  std::vector<language::LinkIndex> links;
  for (language::LinkIndex i = 0; i < model.links.size(); ++i) {
    if (model.links[i].from.table == table && is_written(model, store, i, tables)) links.push_back(i);
  }
  return links;
}

// The key of a table, where it is one: never null, and different in every row.
std::optional<std::uint32_t> key_of(const Table& table, const store::StoredTable& stored, const Written& written) {
  for (const std::uint32_t c : written.columns) {
    const store::Column& data = stored.columns[c].data;
    if (table.columns[c].key && data.nulls == 0 && data.distinct == data.rows) return c;
  }
  return std::nullopt;
}

}  // namespace

bool is_written(const CheckedModel& model, const store::Store& store, language::LinkIndex link,
                const std::vector<Written>& tables) {
  const auto has = [&](const language::LinkEnd& end) {
    return std::any_of(tables.begin(), tables.end(),
                       [&](const Written& written) { return written.table == end.table && written.has(end.columns); });
  };
  return has(model.links[link].from) && has(model.links[link].to) && model.links[link].broken.empty() &&
         store.links[link].broken.empty();
}

std::string package_text(const CheckedModel& model, const store::Store& store, const std::string& name,
                         const std::vector<Written>& tables, FileForm form) {
  Json::Items resources;
  for (const Written& written : tables) {
    const Table& table = model.tables[written.table];
    Json::Items fields;
    for (const std::uint32_t c : written.columns) {
      const language::Column& column = table.columns[c];
      Json::Members field;
      field.emplace_back("name", column.name);
      field.emplace_back("type", field_type(column.type));
      if (column.type.kind == TypeKind::datetime && form == FileForm::csv) field.emplace_back("format", "any");
      if (!column.description.empty()) field.emplace_back("description", column.description);
      fields.emplace_back(std::move(field));
    }
    Json::Members schema;
    schema.emplace_back("fields", std::move(fields));
    if (form == FileForm::csv) schema.emplace_back("missingValues", list_of({""}));
    if (const auto key = key_of(table, store.tables[written.table], written)) {
      schema.emplace_back("primaryKey", list_of({table.columns[*key].name}));
    } else if (!table.keys.empty() && written.has(table.keys.front().columns) &&
               store::names_rows(store.tables[written.table], table.keys.front().columns)) {
      std::vector<std::string> names;
      for (const std::uint32_t column : table.keys.front().columns) names.push_back(table.columns[column].name);
      schema.emplace_back("primaryKey", list_of(names));
    }
    Json::Items keys;
    for (const language::LinkIndex i : links_from(model, store, written.table, tables)) {
      const Link& link = model.links[i];
      Json::Members reference;
      reference.emplace_back("resource", model.tables[link.to.table].name);
      reference.emplace_back("fields", list_of(names_of(model, link.to)));
      Json::Members key;
      key.emplace_back("fields", list_of(names_of(model, link.from)));
      key.emplace_back("reference", std::move(reference));
      keys.emplace_back(std::move(key));
    }
    if (!keys.empty()) schema.emplace_back("foreignKeys", std::move(keys));
    Json::Members resource;
    resource.emplace_back("name", table.name);
    if (!table.description.empty()) resource.emplace_back("description", table.description);
    resource.emplace_back("path", written.file);
    resource.emplace_back("format", form_name(form));
    if (form == FileForm::csv || form == FileForm::json) resource.emplace_back("encoding", "utf-8");
    if (form == FileForm::sqlite || form == FileForm::xlsx) {
      Json::Members dialect;
      dialect.emplace_back(form == FileForm::sqlite ? "table" : "sheet", written.within);
      resource.emplace_back("dialect", std::move(dialect));
    }
    resource.emplace_back("schema", std::move(schema));
    resources.emplace_back(std::move(resource));
  }
  Json::Members package;
  package.emplace_back("name", name);
  package.emplace_back("created_by", "juniper export");
  package.emplace_back("resources", std::move(resources));
  return Json(std::move(package)).to_text() + "\n";
}

}  // namespace juniper::exporting
