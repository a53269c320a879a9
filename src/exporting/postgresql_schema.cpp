// The schema of exported tables for PostgreSQL: what `juniper sql --dialect postgresql` expects to be there.
#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <set>

#include "base/shown_text.h"
#include "exporting/package_text.h"
#include "model/access.h"
#include "sql/dialect.h"
#include "store/of_dataset.h"
#include "store/resolve_link.h"

namespace juniper::exporting {

namespace {

using language::CheckedModel;
using language::Table;
using sql_engine::quoted_name;
using sql_engine::text_literal;

std::string type_name(Type type) {
  switch (type.kind) {
    case TypeKind::boolean:
      return "boolean";
    case TypeKind::integer:
      return "bigint";
    case TypeKind::decimal:
      return fmt::format("numeric({}, {})", 19, type.scale);
    case TypeKind::real:
      return "double precision";
    case TypeKind::text:
      return "text";
    case TypeKind::date:
      return "date";
    case TypeKind::datetime:
      return "timestamp";
    case TypeKind::time:
      return "time";
  }
  return "text";
}

class SchemaText {
 public:
  SchemaText(const Dataset& dataset, const std::vector<Written>& tables, FileForm form)
      : dataset_(dataset),
        model_(model::checked(dataset.model())),
        store_(store::store_of(dataset)),
        tables_(tables),
        form_(form) {}

  Result<std::string> write() {
    text_ = "-- The tables of this export, for PostgreSQL: psql -f schema.sql\n";
    for (const Written& written : tables_) add_table(model_.tables[written.table], written);
    if (form_ == FileForm::csv) {
      text_ += "\n";
      for (const Written& written : tables_) add_copy(written);
    }
    add_keys();
    add_links();
    if (const language::Reader* const reader = model_.acting_reader()) {
      text_ += fmt::format("\n-- no views: what they rest on may be hidden from {}\n", base::one_line(reader->name));
      return text_;
    }
    for (const language::Query& query : model_.queries) {
      if (auto added = add_view(query); !added) return tl::unexpected(added.error());
    }
    return text_;
  }

 private:
  bool is_written(language::TableIndex table) const {
    return std::any_of(tables_.begin(), tables_.end(), [&](const Written& written) { return written.table == table; });
  }

  // A command of psql ends with its line: what stood behind a line end within a name would be another one.
  void add_copy(const Written& written) {
    const std::string& name = model_.tables[written.table].name;
    const bool is_on_one_line =
        std::none_of(name.begin(), name.end(), [](char c) { return static_cast<unsigned char>(c) < ' '; });
    if (is_on_one_line) {
      text_ +=
          fmt::format("\\copy {} from {} with (format csv, header)\n", quoted_name(name), text_literal(written.file));
    } else {
      text_ += fmt::format("-- to be copied by other means: {}\n", base::one_line(written.file));
    }
  }

  void add_table(const Table& table, const Written& written) {
    std::vector<std::string> columns;
    for (const std::uint32_t c : written.columns)
      columns.push_back(fmt::format("  {} {}", quoted_name(table.columns[c].name), type_name(table.columns[c].type)));
    text_ += fmt::format("\ncreate table {} (\n{}\n);\n", quoted_name(table.name), fmt::join(columns, ",\n"));
    if (!table.description.empty())
      text_ += fmt::format("comment on table {} is {};\n", quoted_name(table.name), text_literal(table.description));
  }

  std::string columns_of(const language::LinkEnd& end) const {
    std::vector<std::string> names;
    for (const std::uint32_t column : end.columns)
      names.push_back(quoted_name(model_.tables[end.table].columns[column].name));
    return fmt::format("{}", fmt::join(names, ", "));
  }

  // Declared keys that are such, and what links lead to.
  void add_keys() {
    text_ += "\n";
    std::set<std::pair<language::TableIndex, std::string>> known;
    for (const Written& written : tables_) {
      const Table& table = model_.tables[written.table];
      for (const std::uint32_t c : written.columns) {
        const store::Column& data = store_.tables[written.table].columns[c].data;
        const std::string name = quoted_name(table.columns[c].name);
        if (!table.columns[c].key || data.nulls != 0 || data.distinct != data.rows) continue;
        known.emplace(written.table, name);
        text_ += fmt::format("alter table {} add primary key ({});\n", quoted_name(table.name), name);
      }
      for (const language::TableKey& key : table.keys) {
        const std::string names = columns_of({written.table, key.columns});
        if (!written.has(key.columns) || !store::names_rows(store_.tables[written.table], key.columns)) continue;
        if (known.emplace(written.table, names).second)
          text_ += fmt::format("alter table {} add unique ({});\n", quoted_name(table.name), names);
      }
    }
    for (language::LinkIndex i = 0; i < model_.links.size(); ++i) {
      const language::Link& link = model_.links[i];
      if (!is_whole(i) || !known.emplace(link.to.table, columns_of(link.to)).second) continue;
      text_ += fmt::format("alter table {} add unique ({});\n", quoted_name(model_.tables[link.to.table].name),
                           columns_of(link.to));
    }
  }

  bool is_whole(language::LinkIndex i) const { return exporting::is_written(model_, store_, i, tables_); }

  // Keys without a match would be refused: such a constraint holds for new rows alone.
  void add_links() {
    for (language::LinkIndex i = 0; i < model_.links.size(); ++i) {
      if (!is_whole(i)) continue;
      const language::Link& link = model_.links[i];
      text_ += fmt::format("alter table {} add foreign key ({}) references {} ({}) not valid;\n",
                           quoted_name(model_.tables[link.from.table].name), columns_of(link.from),
                           quoted_name(model_.tables[link.to.table].name), columns_of(link.to));
    }
  }

  // Functions that a statement needs stand in front of it, for a session; here they stay.
  Result<void> add_view(const language::Query& query) {
    auto statement = sql(dataset_, {query.name}, SqlDialect::postgresql);
    if (!statement) return tl::unexpected(statement.error());
    for (language::TableIndex t = 0; t < model_.tables.size(); ++t) {
      const std::string& name = model_.tables[t].name;
      if (is_written(t) || statement->find("FROM " + quoted_name(name)) == std::string::npos) continue;
      text_ += fmt::format("\n-- no view {}: the table {} is not exported\n", base::one_line(query.name),
                           base::one_line(name));
      return {};
    }
    const std::string session = "pg_temp.";
    for (std::size_t at = statement->find(session); at != std::string::npos; at = statement->find(session, at))
      statement->erase(at, session.size());
    std::size_t begin = statement->starts_with("WITH ") ? 0 : statement->find("\nWITH ");
    begin = begin == std::string::npos ? 0 : begin + (begin == 0 ? 0 : 1);
    std::string body = statement->substr(begin);
    while (!body.empty() && (body.back() == '\n' || body.back() == ';')) body.pop_back();
    text_ += fmt::format("\n-- {}\n{}create view {} as\n{};\n",
                         base::one_line(query.title.empty() ? query.name : query.title), statement->substr(0, begin),
                         quoted_name(query.name), body);
    return {};
  }

  const Dataset& dataset_;
  const CheckedModel& model_;
  const store::Store& store_;
  const std::vector<Written>& tables_;
  FileForm form_;
  std::string text_;
};

}  // namespace

Result<std::string> postgresql_schema(const Dataset& dataset, const std::vector<Written>& tables, FileForm form) {
  return SchemaText(dataset, tables, form).write();
}

}  // namespace juniper::exporting
