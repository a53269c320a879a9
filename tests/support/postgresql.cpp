#include "support/postgresql.h"

#include <fmt/format.h>
#include <unistd.h>

#include <array>
#include <cstdlib>
#include <filesystem>
#include <sstream>

#include "model/access.h"
#include "sql/dialect.h"
#include "store/of_dataset.h"
#include "store/store.h"

namespace juniper::test {

namespace fs = std::filesystem;

Postgresql::Postgresql() {
  std::error_code none;
  for (const auto& entry : fs::directory_iterator("/usr/lib/postgresql", none)) bin_ = (entry.path() / "bin").string();
  if (bin_.empty()) {
    problem_ = "no server is installed: run scripts/setup";
    return;
  }
  // The server refuses to run as root.
  if (::getuid() == 0) as_owner_ = "runuser -u postgres -- ";
  fs::create_directory(folder_.path("data"));
  if (!as_owner_.empty()) shell("chown -R postgres " + folder_.path() + " && chmod 755 " + folder_.path());
  auto made = shell(fmt::format("{}{}/initdb -D {} -U postgres -A trust -E UTF8 --locale=C.UTF-8 -N", as_owner_, bin_,
                                folder_.path("data")));
  if (made.status == 0) {
    made = shell(fmt::format("{}{}/pg_ctl -D {} -w -l {} -o \"-k {} -c listen_addresses='' -c fsync=off\" start",
                             as_owner_, bin_, folder_.path("data"), folder_.path("data/log"), folder_.path("data")));
  }
  if (made.status != 0) problem_ = made.out;
}

Postgresql::~Postgresql() {
  if (problem_.empty())
    shell(fmt::format("{}{}/pg_ctl -D {} -m immediate stop", as_owner_, bin_, folder_.path("data")));
  if (!as_owner_.empty()) shell("rm -rf " + folder_.path("data"));
}

ProcessResult Postgresql::shell(const std::string& command) const {
  const std::string log = fmt::format("{}.shell.{}", folder_.path(), ::getpid());
  ProcessResult result;
  result.status = std::system(fmt::format("cd / && ( {} ) > {} 2>&1 < /dev/null", command, log).c_str());
  result.out = read_file(log);
  fs::remove(log);
  return result;
}

void Postgresql::load(const Dataset& dataset) {
  const language::CheckedModel& model = model::checked(dataset.model());
  std::string script = "DROP SCHEMA public CASCADE; CREATE SCHEMA public;\n";
  for (language::TableIndex t = 0; t < model.tables.size(); ++t) {
    const language::Table& table = model.tables[t];
    std::string columns;
    for (const language::Column& column : table.columns) {
      static constexpr std::array types{"boolean", "bigint", "numeric",   "double precision",
                                        "text",    "date",   "timestamp", "time"};
      columns += fmt::format(
          "{}{} {}{}", columns.empty() ? "" : ", ", sql_engine::quoted_name(column.name),
          types[static_cast<std::size_t>(column.type.kind)],
          column.type.kind == TypeKind::decimal ? fmt::format("(38, {})", static_cast<int>(column.type.scale)) : "");
    }
    script += fmt::format("CREATE TABLE {} ({});\nCOPY {} FROM STDIN (FORMAT csv);\n",
                          sql_engine::quoted_name(table.name), columns, sql_engine::quoted_name(table.name));
    const store::StoredTable& stored = store::store_of(dataset).tables[t];
    for (std::uint64_t row = 0; row < stored.rows; ++row) {
      for (std::size_t c = 0; c < table.columns.size(); ++c) {
        const Value value = stored.columns[c].data.at(row);
        if (c > 0) script += ',';
        if (value.is_null()) continue;
        std::string text = to_text(value, table.columns[c].type);
        for (std::size_t at = text.find('"'); at != std::string::npos; at = text.find('"', at + 2))
          text.insert(at, "\"");
        script += '"' + text + '"';
      }
      script += '\n';
    }
    script += "\\.\n";
  }
  const std::string path = folder_.write("load.sql", script);
  const auto done =
      shell(fmt::format("psql -h {} -U postgres -q -v ON_ERROR_STOP=1 -f {}", folder_.path("data"), path));
  if (done.status != 0) problem_ = done.out;
}

std::string Postgresql::run_file(const std::string& folder, const std::string& file) const {
  const auto done = shell(
      fmt::format("cd {} && psql -h {} -U postgres -q -v ON_ERROR_STOP=1 -f {}", folder, folder_.path("data"), file));
  return done.status == 0 ? "" : done.out;
}

std::vector<Postgresql::Answer> Postgresql::run(const std::vector<std::string>& statements) {
  std::string script = "SET statement_timeout = '5s';\nSET jit = off;\n";
  for (const std::string& statement : statements) script += "\\echo ~next\n" + statement + ";\n";
  const std::string path = folder_.write(fmt::format("run{}.sql", ++scripts_), script);
  const auto done =
      shell(fmt::format("psql -h {} -U postgres -q --csv -t -P null=~null -f {}", folder_.path("data"), path));
  std::vector<Answer> answers;
  std::istringstream lines(done.out);
  for (std::string line; std::getline(lines, line);) {
    if (line == "~next") {
      answers.emplace_back();
      continue;
    }
    if (answers.empty()) continue;
    if (line.find("ERROR:") != std::string::npos) answers.back().error += line;
    auto& row = answers.back().rows.emplace_back();
    // Texts of the tests hold no line breaks.
    std::string cell;
    bool inside = false;
    for (std::size_t i = 0; i <= line.size(); ++i) {
      if (i == line.size() || (line[i] == ',' && !inside)) {
        row.push_back(cell == "~null" ? std::nullopt : std::optional(cell));
        cell.clear();
      } else if (line[i] == '"') {
        if (inside && i + 1 < line.size() && line[i + 1] == '"') {
          cell += line[++i];
        } else {
          inside = !inside;
        }
      } else {
        cell += line[i];
      }
    }
  }
  answers.resize(statements.size());
  return answers;
}

}  // namespace juniper::test
