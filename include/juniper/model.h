// A model: the checked meaning of a model text.
#pragma once

#include <cstdint>
#include <map>
#include <memory>
#include <string>
#include <string_view>
#include <vector>

#include "juniper/diagnostics.h"
#include "juniper/value.h"

namespace juniper {
namespace language {
struct CheckedModel;
}
namespace model {
struct Access;
}
}  // namespace juniper

namespace [[gnu::visibility("default")]] juniper {

// A query that somebody asks from outside of the text: of a log, or recorded in a baseline.
struct CapturedQuery {
  std::string query;                       // its clauses, or the name of a saved one
  std::map<std::string, std::string> set;  // values of parameters with which it is asked
  std::string place;                       // as messages name it: "queries.jsonl:7"
  std::uint64_t times = 1;                 // that it was asked
};

// What a model text is read with.
struct ReadOptions {
  // Values of parameters in their exact text form ("0.5", "2025-03-01"), by name; those of the text by default.
  std::map<std::string, std::string> settings;
  bool strict = false;  // warnings are errors
  // An error in a measure, a query, a calculated column or table disables it, and what rests on it (Model::disabled),
  // instead of failing. Not where `strict` is set.
  bool disable_wrong = false;
  // As whom everything is asked: a reader that the text declares sees some of the rows, and may not ask for what is hidden
  // from it. "": everybody.
  std::string reader = {};
  // Queries that count as uses of what they name, as those that the text holds do: for the audit, and for refactorings,
  // which prove them, too. One that the model does not understand counts for nothing (Model::not_understood).
  std::vector<CapturedQuery> captured = {};
};

// One file of a model text.
struct ModelText {
  std::string name;  // its path, as shown in messages
  std::string text;

  bool operator==(const ModelText&) const = default;
};

// A column as the text declares it.
struct ColumnInfo {
  std::string name;
  Type type;
  bool is_key = false;
  bool is_calculated = false;
  bool is_hidden = false;
  std::string definition;  // of a calculated column, as it is written; "" for one of the source
  std::string header;      // of the source, under which it is found; "" for a calculated column
  std::string sorted_by;   // the column of the same table that orders its values; "" for their own order
  std::string format;      // a pattern for people; "" for none
  std::string description;
  std::vector<std::string> used_by;  // uses that the model can't see: "finance workbook"
  Place place;
};

struct TableInfo {
  std::string name;
  bool is_calculated = false;
  bool is_hidden = false;
  std::string definition;  // of a calculated table: its rows, as they are written
  std::string source;      // else the path or pattern of its files, relative to the text that names it
  std::string description;
  std::vector<ColumnInfo> columns;             // in the order of the text
  std::vector<std::vector<std::string>> keys;  // those of several columns
  Place place;
};

// Rows of the many table lead to the row of the one table whose columns equal theirs.
struct LinkInfo {
  std::string name;  // as it is written: "sessions.end_day -> days.day as end_date"
  std::string many_table;
  std::vector<std::string> many_columns;
  std::string one_table;
  std::vector<std::string> one_columns;
  std::string role;  // "" for the default link
  Place place;
};

struct MeasureInfo {
  std::string name;
  Type type;
  bool is_hidden = false;
  std::string definition;  // as it is written
  std::string format;      // a pattern for people; "" for none
  std::string description;
  std::vector<std::string> used_by;  // uses that the model can't see
  Place place;
};

struct ParameterInfo {
  std::string name;
  Type type;
  Value value;  // that of ReadOptions::settings, or of the text
  std::string description;
  Place place;
};

// Who may need a column.
enum class UserKind : std::uint8_t {
  measure,
  calculated_column,
  calculated_table,
  calendar,
  link,
  sort_order,     // of a column's values
  row_order,      // of a table's rows
  table_key,      // of several columns
  trimmed_table,  // whose rows are those that other tables lead to
  query,
  captured_query,  // of ReadOptions::captured
  declared,        // `used by` in the text
  reader,          // whose rows it chooses, or from whom it is hidden
  disabled,        // a definition that is left out (Model::disabled), and in whose text the name stands
};

// "measure", "calculated column", "declared use"
std::string_view to_string(UserKind kind);

// A definition that is left out because something is wrong with it, or with what it rests on.
struct DisabledInfo {
  UserKind kind = UserKind::measure;  // measure, query, calculated_column or calculated_table
  std::string name;                   // "margin", "sessions.line_value"
  Place place;
  Diagnostics problems;  // errors, at least one
};

// A text with arguments, which stands for what it says wherever it is called.
struct FunctionInfo {
  std::string name;
  std::vector<std::string> arguments;
  std::string definition;  // the whole declaration, as it is written
  std::string description;
  Place place;
};

// Who sees a part of the rows.
struct ReaderInfo {
  std::string name;
  std::string description;
  std::vector<std::string> rows;    // which, as it is written: "stations where region = \"Coast\""
  std::vector<std::string> hidden;  // columns with their tables, and measures
  Place place;
};

struct QueryInfo {
  std::string name;
  std::string title;       // "" for none
  std::string definition;  // its clauses, as they are written
  Place place;
};

// The names of what Model lists.
template <class Item>
std::vector<std::string> names_of(const std::vector<Item>& items) {
  std::vector<std::string> names;
  for (const Item& item : items) names.push_back(item.name);
  return names;
}

// Immutable and cheap to copy; copies share one checked tree. May be read from any thread.
class Model {
 public:
  // Reads and checks a .ridge file and those that it includes. Errors: JR-1xx to JR-4xx, each with its place; JR-001
  // (cannot read a file).
  static Result<Model> read(const std::string& path, const ReadOptions& options = {});
  // Checks a text; `name` stands for it in messages, and the paths of its sources and includes are relative to name's
  // folder.
  static Result<Model> parse(std::string name, std::string text, const ReadOptions& options = {});
  // Checks a text with its includes, which are found among the texts behind the first and not on the disk.
  static Result<Model> parse(const std::vector<ModelText>& texts, const ReadOptions& options = {});

  const std::string& path() const;       // as given to `read` or `parse`
  const std::string& text() const;       // of the first file
  std::vector<ModelText> texts() const;  // of all files, the first one first
  const std::string& title() const;      // of `model "…"`, or ""
  const ReadOptions& options() const { return *options_; }
  // What is no error, and worth a look.
  const Diagnostics& warnings() const { return *warnings_; }

  // What the text declares, each in its order; hidden things, too.
  std::vector<TableInfo> tables() const;
  std::vector<LinkInfo> links() const;
  std::vector<MeasureInfo> measures() const;
  std::vector<ParameterInfo> parameters() const;
  std::vector<FunctionInfo> functions() const;
  std::vector<QueryInfo> queries() const;
  std::vector<ReaderInfo> readers() const;

  // With ReadOptions::disable_wrong: what is left out, in no particular order. `disabled_problems` tells of them to
  // people: what is wrong, each problem once, in the order of the text, and in the end what is left out for it (JR-220).
  // Nothing where nothing is left out.
  std::vector<DisabledInfo> disabled() const;
  Diagnostics disabled_problems() const;

  // What is wrong with each of ReadOptions::captured that the model does not understand, in their order.
  Diagnostics not_understood() const;

 private:
  friend struct model::Access;
  Model(std::shared_ptr<const language::CheckedModel> checked, std::shared_ptr<const Diagnostics> warnings,
        std::shared_ptr<const ReadOptions> options)
      : checked_(std::move(checked)), warnings_(std::move(warnings)), options_(std::move(options)) {}
  template <class Find>
  static Result<Model> build(ModelText first, const Find& find, const ReadOptions& options);

  std::shared_ptr<const language::CheckedModel> checked_;
  std::shared_ptr<const Diagnostics> warnings_;
  std::shared_ptr<const ReadOptions> options_;
};

}  // namespace juniper
