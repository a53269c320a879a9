#include "juniper/export.h"

#include <fmt/format.h>
#include <sys/stat.h>

#include <algorithm>
#include <filesystem>
#include <map>
#include <set>

#include "base/diagnostics.h"
#include "base/failure.h"
#include "base/files.h"
#include "base/json.h"
#include "base/output_file.h"
#include "exporting/dataset_batches.h"
#include "exporting/package_text.h"
#include "loading/inputs.h"
#include "model/access.h"
#include "report/cells.h"
#include "store/of_dataset.h"

namespace juniper {

namespace {

namespace fs = std::filesystem;
using exporting::Written;

constexpr const char* package_name = "datapackage.json";
constexpr const char* schema_name = "schema.sql";

bool holds_several(FileForm form) {
  return form == FileForm::sqlite || form == FileForm::xlsx;
}

std::string ending_of(FileForm form) {
  switch (form) {
    case FileForm::parquet:
      return ".parquet";
    case FileForm::arrow:
      return ".arrow";
    case FileForm::csv:
      return ".csv";
    case FileForm::json:
      return ".jsonl";
    case FileForm::sqlite:
      return ".sqlite";
    case FileForm::xlsx:
      return ".xlsx";
  }
  return "";
}

std::unique_ptr<writing::TableWriter> writer_of(FileForm form, std::vector<writing::WrittenColumn> columns,
                                                writing::Sink sink) {
  if (form == FileForm::parquet) return writing::parquet_writer(std::move(columns), std::move(sink));
  if (form == FileForm::arrow) return writing::arrow_writer(std::move(columns), std::move(sink));
  if (form == FileForm::csv) return writing::csv_writer(std::move(columns), std::move(sink));
  return writing::json_writer(std::move(columns), std::move(sink));
}

std::unique_ptr<writing::TablesFile> tables_file_of(FileForm form, const std::string& path) {
  return form == FileForm::sqlite ? writing::sqlite_file(path) : writing::xlsx_file(path);
}

// A name as a file may bear it on every system: other characters become "_".
std::string file_name(const std::string& name, std::set<std::string>& taken) {
  std::string plain;
  for (const char c : name) {
    const bool is_kept = (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') || c == '_' ||
                         c == '-' || static_cast<unsigned char>(c) >= 0x80;
    plain += is_kept ? c : '_';
  }
  constexpr std::size_t longest = 100;
  if (plain.empty() || plain.size() > longest) plain = "table";
  const auto folded = [](std::string text) {
    std::transform(text.begin(), text.end(), text.begin(),
                   [](char c) { return c >= 'A' && c <= 'Z' ? static_cast<char>(c - 'A' + 'a') : c; });
    return text;
  };
  std::string free = plain;
  for (int n = 2; !taken.insert(folded(free)).second; ++n) free = fmt::format("{}_{}", plain, n);
  return free;
}

// Files that an earlier export has written in a folder, by its package.
std::set<std::string> earlier_files(const fs::path& folder) {
  std::set<std::string> files;
  const auto text = base::read_plain_file(folder / package_name);
  if (!text) return files;
  const base::ParsedJson package = base::parse_json(*text);
  if (!package.value || package.value->find_text("created_by") == nullptr ||
      *package.value->find_text("created_by") != "juniper export")
    return files;
  files.insert(package_name);
  files.insert(schema_name);
  const base::Json* const resources = package.value->find("resources");
  if (resources == nullptr || resources->items() == nullptr) return files;
  for (const base::Json& resource : *resources->items()) {
    if (const std::string* const path = resource.find_text("path")) files.insert(*path);
  }
  return files;
}

class Exporter {
 public:
  Exporter(const Dataset& dataset, fs::path folder, const ExportSettings& settings)
      : dataset_(dataset),
        folder_(std::move(folder)),
        settings_(settings),
        model_(model::checked(dataset.model())),
        store_(store::store_of(dataset)) {
    made_.folder = folder_.string();
    stem_ = fs::path(dataset.model().path()).stem().string();
    if (stem_.empty()) stem_ = "model";
  }

  Result<Export> run() {
    if (auto chosen = choose_tables(); !chosen) return tl::unexpected(chosen.error());
    std::optional<std::string> schema;
    if (settings_.sql) {
      auto text = exporting::postgresql_schema(dataset_, tables_, settings_.form);
      if (!text) return tl::unexpected(text.error());
      schema = std::move(*text);
    }
    std::error_code error;
    fs::create_directories(folder_, error);
    if (auto may = may_write(schema.has_value()); !may) return tl::unexpected(may.error());
    if (holds_several(settings_.form)) {
      write_one_file();
    } else {
      for (const Written& written : tables_) write_table(written);
    }
    if (schema) write_text(schema_name, *schema);
    write_text(package_name, exporting::package_text(model_, store_, stem_, tables_, settings_.form));
    return std::move(made_);
  }

 private:
  Result<void> choose_tables() {
    std::set<std::string> taken;
    std::vector<std::string> names;
    for (const language::Table& table : model_.tables) names.push_back(table.name);
    for (const std::string& name : settings_.tables) {
      if (std::find(names.begin(), names.end(), name) == names.end()) {
        return tl::unexpected(
            base::error("JR-201", fmt::format("there is no table '{}'", name), base::did_you_mean(name, names)));
      }
    }
    const std::string all_in = file_name(stem_, taken) + ending_of(settings_.form);
    taken.clear();
    for (language::TableIndex t = 0; t < model_.tables.size(); ++t) {
      const bool is_wanted = settings_.tables.empty() || std::find(settings_.tables.begin(), settings_.tables.end(),
                                                                   names[t]) != settings_.tables.end();
      if (!is_wanted) continue;
      const std::vector<std::uint32_t> columns = seen_columns(t);
      if (columns.empty()) continue;
      check_whole(t, columns);
      const std::string file =
          holds_several(settings_.form) ? all_in : file_name(names[t], taken) + ending_of(settings_.form);
      tables_.push_back({t, file, "", columns});
    }
    return {};
  }

  // All of a table's columns but those that are hidden from the reader who asks.
  std::vector<std::uint32_t> seen_columns(language::TableIndex t) const {
    const language::Reader* const reader = model_.acting_reader();
    std::vector<std::uint32_t> columns;
    for (std::uint32_t c = 0; c < model_.tables[t].columns.size(); ++c) {
      const language::ColumnId id{t, c};
      if (reader == nullptr ||
          std::find(reader->hidden_columns.begin(), reader->hidden_columns.end(), id) == reader->hidden_columns.end())
        columns.push_back(c);
    }
    return columns;
  }

  void check_whole(language::TableIndex t, const std::vector<std::uint32_t>& columns) const {
    const store::StoredTable& stored = store_.tables[t];
    std::string broken = stored.broken;
    std::string name = stored.name;
    for (const std::uint32_t c : columns) {
      const store::StoredColumn& column = stored.columns[c];
      if (!broken.empty() || column.broken.empty()) continue;
      broken = column.broken;
      name += "." + column.name;
    }
    if (broken.empty()) return;
    throw base::Failure(base::error("JR-706", fmt::format("{} was not computed: {}", name, broken),
                                    "mend the data, or name the tables that are to be exported"));
  }

  // What stands in the folder and is not of an earlier export stays.
  Result<void> may_write(bool has_schema) const {
    std::set<std::string> files{package_name};
    if (has_schema) files.insert(schema_name);
    for (const Written& written : tables_) files.insert(written.file);
    const std::set<std::string> earlier = earlier_files(folder_);
    const auto never = [](std::string_view) { return false; };
    const auto ours = [](std::string_view) { return true; };
    for (const std::string& file : files) {
      if (auto may = loading::may_be_output(dataset_.model(), (folder_ / file).string()); !may) return may;
      const base::IsOurs is_ours = earlier.contains(file) ? base::IsOurs(ours) : base::IsOurs(never);
      if (auto may = base::may_replace((folder_ / file).string(), is_ours, dataset_.options().overwrite); !may)
        return may;
    }
    return {};
  }

  base::OutputFile open(const std::string& file) const {
    auto opened = base::OutputFile::open((folder_ / file).string(), [](std::string_view) { return true; }, "JR-009");
    if (!opened) throw base::Failure(opened.error());
    return std::move(*opened);
  }
  void finish(base::OutputFile& output, const std::string& file) {
    if (auto finished = output.finish(); !finished) throw base::Failure(finished.error());
    std::error_code error;
    made_.bytes += fs::file_size(folder_ / file, error);
  }

  void write_rows(const Written& written, writing::TableWriter& writer) {
    const store::StoredTable& stored = store_.tables[written.table];
    std::uint64_t rows = 0;
    exporting::each_batch(stored, written.columns, [&](const writing::Batch& batch) {
      writer.write(batch);
      rows += batch.rows;
      if (dataset_.options().progress) dataset_.options().progress({"writing " + stored.name, rows, 0, 0});
    });
    writer.finish();
    made_.tables.push_back({stored.name, written.file, stored.rows, written.columns.size()});
  }

  void write_table(const Written& written) {
    base::OutputFile output = open(written.file);
    const auto writer =
        writer_of(settings_.form,
                  exporting::columns_of(model_.tables[written.table], store_.tables[written.table], written.columns),
                  [&](std::string_view bytes) { output.write(bytes); });
    write_rows(written, *writer);
    finish(output, written.file);
  }

  void write_one_file() {
    if (tables_.empty()) return;
    const std::string& file = tables_.front().file;
    base::OutputFile output = open(file);
    const auto all = tables_file_of(settings_.form, output.path_beside());
    for (Written& written : tables_) {
      const language::Table& table = model_.tables[written.table];
      const store::StoredTable& stored = store_.tables[written.table];
      std::vector<std::string> keys;
      for (const std::uint32_t c : written.columns) {
        const store::Column& data = stored.columns[c].data;
        if (table.columns[c].key && data.nulls == 0 && data.distinct == data.rows)
          keys.push_back(table.columns[c].name);
      }
      const auto writer = all->table(table.name, exporting::columns_of(table, stored, written.columns), keys);
      written.within = all->name_of_last();
      write_rows(written, *writer);
    }
    all->finish();
    finish(output, file);
  }

  void write_text(const std::string& file, const std::string& text) {
    base::OutputFile output = open(file);
    output.write(text);
    finish(output, file);
    made_.beside.push_back(file);
  }

  const Dataset& dataset_;
  fs::path folder_;
  const ExportSettings& settings_;
  const language::CheckedModel& model_;
  const store::Store& store_;
  std::string stem_;
  std::vector<Written> tables_;
  Export made_;
};

// A result as one batch, and its columns.
struct ResultBatch {
  std::vector<writing::WrittenColumn> columns;
  writing::Batch batch;
};

ResultBatch batch_of(const QueryResult& result) {
  ResultBatch made;
  const bool has_totals = result.levels.size() > 1;
  made.batch.rows = result.rows.size();
  if (has_totals) {
    made.columns.push_back({report_cells::level_name(result), {TypeKind::text, 0}, "", 0});
    writing::BatchColumn& levels = made.batch.columns.emplace_back();
    for (const ResultRow& row : result.rows) {
      levels.is_null.push_back(0);
      levels.text.push_back(result.levels[row.level]);
    }
  }
  for (std::size_t c = 0; c < result.columns.size(); ++c) {
    const ResultColumn& column = result.columns[c];
    writing::WrittenColumn written{column.name, column.type, column.format, 0};
    writing::BatchColumn& values = made.batch.columns.emplace_back();
    const bool is_number = column.type.kind == TypeKind::integer || column.type.kind == TypeKind::decimal;
    for (const ResultRow& row : result.rows) {
      values.add(row.cells[c], column.type);
      if (is_number && !row.cells[c].is_null())
        written.digits = std::max(written.digits, writing::digits_of(row.cells[c].exact()));
    }
    constexpr unsigned most_digits = 38;
    if (written.digits > most_digits) {
      throw base::Failure(base::error("JR-523",
                                      fmt::format("a number of '{}' has more than {} digits", column.name, most_digits),
                                      "make the measure a real, or divide it"));
    }
    // Whole numbers beyond 64 bits are decimals without digits behind the point.
    if (column.type.kind == TypeKind::integer && written.is_wide()) written.type = {TypeKind::decimal, 0};
    made.columns.push_back(std::move(written));
  }
  return made;
}

const std::map<std::string, FileForm>& forms_by_ending() {
  static const std::map<std::string, FileForm> forms{{".parquet", FileForm::parquet}, {".arrow", FileForm::arrow},
                                                     {".csv", FileForm::csv},         {".json", FileForm::json},
                                                     {".jsonl", FileForm::json},      {".sqlite", FileForm::sqlite},
                                                     {".xlsx", FileForm::xlsx}};
  return forms;
}

// Whether a file may be an earlier result of its form; of texts, which begin with anything, none is.
bool begins_as_result(std::string_view begin) {
  return begin.starts_with("PAR1") || begin.starts_with("ARROW1") || begin.starts_with("PK\x03\x04") ||
         begin.starts_with("SQLite format 3");
}

}  // namespace

Result<Export> export_tables(const Dataset& dataset, const std::string& folder, const ExportSettings& settings) {
  return base::guarded([&] { return Exporter(dataset, folder, settings).run(); });
}

Result<void> write_result(const QueryResult& result, const Model& model, const std::string& path, Overwrite overwrite) {
  return base::guarded([&]() -> Result<void> {
    if (auto may = loading::may_be_output(model, path); !may) return may;
    const auto form = forms_by_ending().find(fs::path(path).extension().string());
    if (form == forms_by_ending().end()) {
      return tl::unexpected(base::error("JR-523", fmt::format("the ending of {} names no format", path),
                                        "the endings are .parquet, .arrow, .csv, .jsonl, .sqlite, .xlsx"));
    }
    ResultBatch made = batch_of(result);
    auto output = base::OutputFile::open(path, begins_as_result, "JR-009", overwrite);
    if (!output) return tl::unexpected(output.error());
    if (holds_several(form->second)) {
      if (output->path_beside().empty()) {
        return tl::unexpected(
            base::error("JR-523", fmt::format("{} is no plain file, and this format needs one", path), "name a file"));
      }
      const auto file = tables_file_of(form->second, output->path_beside());
      const std::string name = result.title.empty() ? "result" : result.title;
      const auto writer = file->table(name, made.columns, {});
      writer->write(made.batch);
      writer->finish();
      file->finish();
    } else {
      const auto writer = writer_of(form->second, made.columns, [&](std::string_view bytes) { output->write(bytes); });
      writer->write(made.batch);
      writer->finish();
    }
    return output->finish();
  });
}

}  // namespace juniper
