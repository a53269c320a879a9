// Loading, size, memory and opening of the store, beside the peer engine reading the same files.
// usage: bench_store FOLDER SESSIONS PEER REPEATS
//
// Ours is the tool as a process, with two threads, from its start to the synced and renamed store; links are resolved
// and stored, which the peer does not do. The peer reads the same files into tables in memory, with two threads, in the
// faster of two ways: with the types that it finds itself, and with those of the model. Its size is that of its tables
// as Parquet files with zstd, the smaller of the two.
#include <cstdlib>
#include <filesystem>
#include <fstream>
#include <iostream>

#include "juniper/dataset.h"
#include "juniper/demo.h"
#include "juniper/weigh.h"
#include "peer.h"
#include "run_tool.h"
#include "timing.h"

namespace {

using namespace juniper;
namespace fs = std::filesystem;

constexpr unsigned threads = 2;
constexpr std::uint64_t seed = 7;

// The tables and links of the demo, every column of the files and nothing calculated.
constexpr const char* model_text = R"(
table sessions from csv "data/sessions-*.csv" {
  key session_id integer  row_no integer  bay_id integer  card_id integer  tariff_code text  start_day date
  end_day date  started datetime  ended datetime  energy_kwh decimal(3)  peak_kw decimal(2)  idle_minutes integer
  channel text  channel_name text  meter_reading decimal(6)  battery_start integer  currency text
  air_temp decimal(4)  settled datetime  receipt text
}
table bays from csv "data/bays.csv" { key bay_id integer  station_id integer  connector text  max_kw integer }
table stations from csv "data/stations.csv" { key station_id integer  name text  region text  installed date }
table tariffs from csv "data/tariffs.csv" { key tariff_code text  plan text  price_per_kwh decimal(4)
  idle_price decimal(4) }
table cards from csv "data/cards.csv" { key card_id integer  holder text  issued date  serial text }
table days from csv "data/days.csv" { key day date  year integer  quarter integer  month integer  month_name text
  weekday integer  weekday_name text }
table visits from csv "data/visits.csv" { key visit_id integer  bay_id integer  visit_day date  kind text
  crew text  shift text  minutes integer  cost decimal(2) }
table crews from csv "data/crews.csv" { crew text  shift text  leader text }
link sessions.bay_id -> bays.bay_id
link bays.station_id -> stations.station_id
link sessions.card_id -> cards.card_id
link sessions.tariff_code -> tariffs.tariff_code
link sessions.start_day -> days.day
link sessions.end_day -> days.day as end_date
link visits.bay_id -> bays.bay_id
link visits.visit_day -> days.day
link visits.(crew, shift) -> crews.(crew, shift)
measure energy = sum(energy_kwh for sessions)
)";

// The peer's tables, and the types of the model where it would find others.
struct PeerTable {
  const char* name;
  const char* files;
  const char* types;
};
constexpr PeerTable peer_tables[] = {
    {"sessions", "sessions-*.csv",
     "'energy_kwh': 'DECIMAL(18,3)', 'peak_kw': 'DECIMAL(18,2)', 'meter_reading': 'DECIMAL(18,6)', 'air_temp': "
     "'DECIMAL(18,4)'"},
    {"bays", "bays.csv", ""},
    {"stations", "stations.csv", ""},
    {"tariffs", "tariffs.csv", "'price_per_kwh': 'DECIMAL(18,4)', 'idle_price': 'DECIMAL(18,4)'"},
    {"cards", "cards.csv", ""},
    {"days", "days.csv", ""},
    {"visits", "visits.csv", "'cost': 'DECIMAL(18,2)'"},
    {"crews", "crews.csv", ""},
};

// The milliseconds in which the peer reads all tables.
double read_tables(bench::Peer& peer, const std::string& folder, bool typed) {
  std::int64_t nanoseconds = 0;
  for (const PeerTable& table : peer_tables) {
    const std::string types = typed && *table.types != 0 ? fmt::format(", types = {{{}}}", table.types) : "";
    nanoseconds += peer.run(fmt::format("create or replace table {} as select * from read_csv('{}/data/{}'{})",
                                        table.name, folder, table.files, types));
  }
  return static_cast<double>(nanoseconds) / 1e6;
}

// The bytes of the peer's tables as Parquet files.
std::uint64_t parquet_bytes(bench::Peer& peer, const std::string& folder) {
  std::uint64_t bytes = 0;
  for (const PeerTable& table : peer_tables) {
    const std::string path = fmt::format("{}/peer.parquet", folder);
    peer.run(fmt::format("copy {} to '{}' (format parquet, compression zstd)", table.name, path));
    bytes += fs::file_size(path);
    fs::remove(path);
  }
  return bytes;
}

// Reads the files once, so that both find them in the system's cache.
void warm(const std::string& folder) {
  std::vector<char> buffer(1 << 20);
  for (const auto& entry : fs::directory_iterator(folder + "/data")) {
    std::ifstream file(entry.path(), std::ios::binary);
    while (file.read(buffer.data(), static_cast<std::streamsize>(buffer.size()))) {
    }
  }
}

}  // namespace

int main(int count, char** arguments) {
  if (count != 5) {
    std::cerr << "usage: bench_store FOLDER SESSIONS PEER REPEATS\n";
    return 2;
  }
  const std::string folder = arguments[1];
  const std::uint64_t sessions = std::stoull(arguments[2]);
  const int repeats = std::stoi(arguments[4]);
  if (!fs::exists(folder + "/data") && !write_demo(folder, {sessions, seed})) {
    std::cerr << "cannot write the data\n";
    return 3;
  }
  const std::string model_path = folder + "/tables.ridge";
  const std::string store_path = folder + "/tables.jrs";
  std::ofstream(model_path) << model_text;

  bench::Peer peer(arguments[3], threads);
  bench::Ratio load;
  std::uint64_t peak = 0;
  std::uint64_t parquet = 0;
  for (int i = 0; i < repeats; ++i) {
    // Each turn fills a new store: what an earlier run left, and in which order of rows, is of no account.
    fs::remove(store_path);
    warm(folder);
    const bench::ToolRun run = bench::run_tool({"load", model_path, "--threads", std::to_string(threads)});
    peak = std::max(peak, run.peak_bytes);
    warm(folder);
    const double found = read_tables(peer, folder, false);
    if (i == 0) parquet = parquet_bytes(peer, folder);
    warm(folder);
    const double typed = read_tables(peer, folder, true);
    if (i == 0) parquet = std::min(parquet, parquet_bytes(peer, folder));
    load.ours.push_back(run.milliseconds);
    load.theirs.push_back(std::min(found, typed));
    fmt::print(stderr, "turn {}: {:.0f} ms; peer {:.0f} ms with its types, {:.0f} ms with the model's\n", i + 1,
               run.milliseconds, found, typed);
  }
  const auto dataset = Dataset::open(store_path);
  if (!dataset) {
    std::cerr << "cannot open the store\n";
    return 3;
  }
  const Weighing weighing = weigh(*dataset).value();
  std::uint64_t links = 0;
  for (const LinkWeight& link : weighing.links) links += link.bytes;
  const auto bytes = static_cast<double>(weighing.file_bytes);
  std::vector<double> weigh_times;
  for (int i = 0; i < 5 * repeats; ++i) weigh_times.push_back(bench::run_tool({"weigh", store_path}).milliseconds);

  const std::string ordered = folder + "/ordered.jrs";
  bench::run_tool(
      {"load", model_path, "--again", "--order", "auto", "--store", ordered, "--threads", std::to_string(threads)});
  const auto ordered_bytes = static_cast<double>(fs::file_size(ordered));
  fs::remove(ordered);

  fmt::print("{} sessions, {} threads, medians of {} turns\n\n", sessions, threads, repeats);
  fmt::print("load into the synced store, and the peer's read into memory\n  {}\n", load.text());
  fmt::print("bytes of the store, and of the peer's Parquet files with zstd\n");
  fmt::print("  {} and {}: {:.3f}; without links {}: {:.3f}\n", weighing.file_bytes, parquet,
             bytes / static_cast<double>(parquet), weighing.file_bytes - links,
             (bytes - static_cast<double>(links)) / static_cast<double>(parquet));
  fmt::print("  with --order auto {:.0f}: {:.3f}\n", ordered_bytes, ordered_bytes / static_cast<double>(parquet));
  fmt::print("peak memory of a load, and 2.5 times the store + 512 MB\n  {:.0f} MB and {:.0f} MB\n",
             static_cast<double>(peak) / 1e6, 2.5 * bytes / 1e6 + 512);
  fmt::print("open and weigh, as a process\n  {:.0f} ms (most {:.0f} ms)\n", bench::median(weigh_times),
             *std::max_element(weigh_times.begin(), weigh_times.end()));
  return 0;
}
