#include "support/clickhouse.h"

#include <arpa/inet.h>
#include <fmt/format.h>
#include <httplib.h>
#include <signal.h>
#include <spawn.h>
#include <sys/socket.h>
#include <sys/wait.h>
#include <unistd.h>

#include <array>
#include <chrono>
#include <filesystem>
#include <stdexcept>
#include <thread>

#include "model/access.h"
#include "store/of_dataset.h"

extern char** environ;

namespace juniper::test {

namespace {

// A port that nobody listens on now.
int free_port() {
  const int socket = ::socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0);
  sockaddr_in address{};
  address.sin_family = AF_INET;
  address.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
  socklen_t size = sizeof(address);
  if (::bind(socket, reinterpret_cast<sockaddr*>(&address), size) != 0) throw std::runtime_error("no port is free");
  ::getsockname(socket, reinterpret_cast<sockaddr*>(&address), &size);
  ::close(socket);
  return ntohs(address.sin_port);
}

std::string type_of(Type type) {
  switch (type.kind) {
    case TypeKind::boolean:
      return "UInt8";
    case TypeKind::integer:
      return "Int64";
    case TypeKind::decimal:
      return fmt::format("Decimal(18, {})", static_cast<int>(type.scale));
    case TypeKind::real:
      return "Float64";
    case TypeKind::date:
      return "Date";
    case TypeKind::datetime:
      return "DateTime('UTC')";
    case TypeKind::time:  // of a moment
      return "DateTime('UTC')";
    case TypeKind::text:
      return "String";
  }
  return "String";
}

std::string field_of(const Value& value, Type type) {
  if (value.is_null()) return "\\N";
  if (type.kind == TypeKind::boolean) return value.exact() != 0 ? "1" : "0";
  // Times come as those of a moment.
  if (type.kind == TypeKind::time) return "2000-01-01 " + to_text(value, type).substr(0, 8);
  std::string out;
  for (const char c : to_text(value, type)) {
    if (c == '\\' || c == '\t' || c == '\n') out += '\\';
    out += c == '\t' ? 't' : c == '\n' ? 'n' : c;
  }
  return out;
}

}  // namespace

Clickhouse::Clickhouse(const std::vector<int>& others) {
  if (!std::filesystem::exists("/usr/sbin/clickhouse-server") &&
      !std::filesystem::exists("/usr/bin/clickhouse-server")) {
    problem_ = "no server is installed: run scripts/setup";
    return;
  }
  http_port_ = free_port();
  native_port_ = free_port();
  folder_.write("users.xml",
                "<yandex><profiles><default/></profiles><users><default><password></password><networks><ip>::/0</ip>"
                "</networks><profile>default</profile><quota>default</quota></default></users>"
                "<quotas><default></default></quotas></yandex>");
  std::string shards;
  std::vector<int> ports = others;
  ports.push_back(native_port_);
  for (const int port : ports) {
    shards += fmt::format("<shard><replica><host>127.0.0.1</host><port>{}</port></replica></shard>", port);
  }
  folder_.write("config.xml",
                fmt::format("<yandex><logger><level>warning</level><log>{0}/log</log><errorlog>{0}/errors</errorlog>"
                            "</logger><http_port>{1}</http_port><tcp_port>{2}</tcp_port>"
                            "<listen_host>127.0.0.1</listen_host><path>{0}/data/</path><tmp_path>{0}/tmp/</tmp_path>"
                            "<user_files_path>{0}/files/</user_files_path><users_config>{0}/users.xml</users_config>"
                            "<default_profile>default</default_profile><default_database>default</default_database>"
                            "<mark_cache_size>100000000</mark_cache_size>"
                            "<remote_servers><shards>{3}</shards></remote_servers></yandex>",
                            folder_.path(), http_port_, native_port_, shards));
  start();
}

Clickhouse::~Clickhouse() {
  kill();
}

void Clickhouse::kill() {
  if (process_ <= 0) return;
  ::kill(process_, SIGKILL);
  ::waitpid(process_, nullptr, 0);
  process_ = -1;
}

void Clickhouse::start() {
  posix_spawn_file_actions_t actions;
  posix_spawn_file_actions_init(&actions);
  const std::string out = folder_.path("out");
  posix_spawn_file_actions_addopen(&actions, STDOUT_FILENO, out.c_str(), O_WRONLY | O_CREAT | O_APPEND, 0644);
  posix_spawn_file_actions_adddup2(&actions, STDOUT_FILENO, STDERR_FILENO);
  std::string name = "clickhouse-server";
  std::string config = "--config-file=" + folder_.path("config.xml");
  std::array<char*, 3> words{name.data(), config.data(), nullptr};
  const char* const path =
      std::filesystem::exists("/usr/sbin/clickhouse-server") ? "/usr/sbin/clickhouse-server" : "clickhouse-server";
  const int failed = ::posix_spawnp(&process_, path, &actions, nullptr, words.data(), environ);
  posix_spawn_file_actions_destroy(&actions);
  if (failed != 0) {
    process_ = -1;
    problem_ = "the server can't be started";
    return;
  }
  constexpr int tries = 1200;
  for (int i = 0; i < tries; ++i) {
    try {
      run("SELECT 1");
      problem_.clear();
      return;
    } catch (const std::runtime_error& failure) {
      problem_ = failure.what();
    }
    std::this_thread::sleep_for(std::chrono::milliseconds(50));
  }
  problem_ += read_file(folder_.path("out")) + read_file(folder_.path("errors"));
}

std::string Clickhouse::place() const {
  return fmt::format("http://127.0.0.1:{}/default", http_port_);
}

std::string Clickhouse::run(const std::string& statement, const std::string& rows) const {
  httplib::Client client("127.0.0.1", http_port_);
  client.set_read_timeout(120);
  const auto answer = rows.empty() ? client.Post("/", statement, "text/plain")
                                   : client.Post(("/?query=" + httplib::detail::encode_query_param(statement)).c_str(),
                                                 rows, "text/plain");
  if (!answer) {
    throw std::runtime_error(fmt::format("the server does not answer ({}) to {}", httplib::to_string(answer.error()),
                                         statement.substr(0, 500)));
  }
  constexpr int well = 200;
  if (answer->status != well) throw std::runtime_error(statement.substr(0, 500) + ": " + answer->body);
  return answer->body;
}

void Clickhouse::create(const language::Table& table, const std::string& name) const {
  std::string columns;
  for (const language::Column& column : table.columns)
    columns += fmt::format("{}`{}` Nullable({})", columns.empty() ? "" : ", ", column.name, type_of(column.type));
  run(fmt::format("CREATE TABLE default.`{}` ({}) ENGINE = Log", name, columns));
}

namespace {

// Whether the server's types hold the days and moments of a column.
bool holds(const store::Column& column) {
  const bool is_day = column.type.kind == TypeKind::date;
  const bool is_time = column.type.kind == TypeKind::time;
  if ((!is_day && !is_time && column.type.kind != TypeKind::datetime) || column.distinct == 0) return true;
  const std::int64_t unit = is_day ? 1 : 86'400'000'000;
  if (!is_time && (column.least.exact() <= 0 || column.most.exact() / unit > 49'000)) return false;
  for (std::uint64_t row = 0; row < column.rows && !is_day; ++row) {
    const Value value = column.at(row);
    if (!value.is_null() && value.exact() % 1'000'000 != 0) return false;
  }
  return true;
}

std::string row_of(const language::Table& table, const store::StoredTable& stored, std::uint64_t row) {
  std::string text;
  for (std::size_t c = 0; c < table.columns.size(); ++c)
    text += (c == 0 ? "" : "\t") + field_of(stored.columns[c].data.at(row), table.columns[c].type);
  return text + "\n";
}

void insert(const Clickhouse& server, const std::string& table, const std::string& rows) {
  if (!rows.empty()) server.run(fmt::format("INSERT INTO default.`{}` FORMAT TabSeparated", table), rows);
}

bool holds(const Dataset& dataset) {
  for (const store::StoredTable& table : store::store_of(dataset).tables) {
    for (const store::StoredColumn& column : table.columns) {
      if (!holds(column.data)) return false;
    }
  }
  return true;
}

void clear(const Clickhouse& server) {
  server.run("DROP DATABASE IF EXISTS default");
  server.run("CREATE DATABASE default");
}

}  // namespace

bool Clickhouse::load(const Dataset& dataset) {
  if (!holds(dataset)) return false;
  clear(*this);
  const language::CheckedModel& model = model::checked(dataset.model());
  for (language::TableIndex t = 0; t < model.tables.size(); ++t) {
    create(model.tables[t], model.tables[t].name);
    const store::StoredTable& stored = store::store_of(dataset).tables[t];
    std::string rows;
    for (std::uint64_t row = 0; row < stored.rows; ++row) rows += row_of(model.tables[t], stored, row);
    insert(*this, model.tables[t].name, rows);
  }
  return true;
}

bool Clickhouse::spread(const Dataset& dataset, const Clickhouse& other) {
  if (!holds(dataset)) return false;
  const language::CheckedModel& model = model::checked(dataset.model());
  clear(*this);
  clear(other);
  for (language::TableIndex t = 0; t < model.tables.size(); ++t) {
    const std::string& name = model.tables[t].name;
    const std::string part = "part_of_" + name;
    const store::StoredTable& stored = store::store_of(dataset).tables[t];
    std::string here;
    std::string there;
    for (std::uint64_t row = 0; row < stored.rows; ++row)
      (row % 2 == 0 ? here : there) += row_of(model.tables[t], stored, row);
    create(model.tables[t], part);
    other.create(model.tables[t], part);
    insert(*this, part, here);
    insert(other, part, there);
    run(fmt::format("CREATE TABLE default.`{0}` AS default.`{1}` ENGINE = Distributed(shards, default, `{1}`)", name,
                    part));
  }
  return true;
}

}  // namespace juniper::test
