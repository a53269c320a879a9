// Queries of every shape over the charging network, beside the same questions in the peer's SQL.
// usage: bench_engine FOLDER SESSIONS PEER REPEATS [QUERY…]
//
// engine/network.ridge holds the model and the queries, engine/twins.sql their twins. Both engines have two threads and
// their tables in memory (ours in the mapped store, read once before). Writes FOLDER/engine.json beside what it prints.
#include <fmt/format.h>

#include <filesystem>
#include <iostream>
#include <utility>

#include "by_hand.h"
#include "network.h"
#include "peer.h"
#include "side_by_side.h"
#include "store/of_dataset.h"

namespace {

using namespace juniper;
namespace fs = std::filesystem;

// The tables, typed as narrowly as the peer can, read from the files once and kept in a file of the peer.
void fill(bench::Peer& peer, const std::string& folder) {
  const std::string file = folder + "/engine.peer";
  const bool known = fs::exists(file);
  peer.run(fmt::format("attach '{}' as kept", file));
  const std::pair<const char*, const char*> tables[] = {
      {"sessions",
       "session_id::integer as session_id, bay_id::integer as bay_id, card_id::integer as card_id, tariff_code, "
       "start_day, "
       "end_day, started, energy_kwh::decimal(9, 3) as energy_kwh, idle_minutes::integer as idle_minutes, channel"},
      {"bays", "bay_id::integer as bay_id, station_id::integer as station_id, connector, max_kw::integer as max_kw"},
      {"stations", "station_id::integer as station_id, name, region, installed"},
      {"tariffs",
       "tariff_code, plan, price_per_kwh::decimal(9, 4) as price_per_kwh, idle_price::decimal(9, 4) as idle_price"},
      {"cards", "card_id::integer as card_id, holder, issued"},
      {"days",
       "day, year::integer as year, quarter::integer as quarter, month::integer as month, weekday::integer as weekday"},
      {"visits",
       "visit_id::integer as visit_id, bay_id::integer as bay_id, visit_day, minutes::integer as minutes, "
       "cost::decimal(9, 2) as cost"}};
  for (const auto& [name, columns] : tables) {
    const std::string files =
        fmt::format("{}/data/{}{}.csv", folder, name, std::string(name) == "sessions" ? "-*" : "");
    if (!known) peer.run(fmt::format("create table kept.{0} as select {1} from read_csv('{2}')", name, columns, files));
    peer.run(fmt::format("create table {0} as select * from kept.{0}", name));
  }
  peer.run("detach kept");
}

}  // namespace

int main(int count, char** arguments) {
  if (count < 5) {
    std::cerr << "usage: bench_engine FOLDER SESSIONS PEER REPEATS [QUERY...]\n";
    return 2;
  }
  const std::string folder = fs::absolute(arguments[1]);
  const std::uint64_t sessions = std::stoull(arguments[2]);
  bench::SideBySide settings;
  settings.over = fmt::format("The demo's network, {} sessions", sessions);
  settings.repeats = std::stoi(arguments[4]);
  settings.chosen.assign(arguments + 5, arguments + count);
  settings.figures = folder + "/engine.json";
  const Dataset dataset = bench::open_network(folder, sessions, settings.threads);
  settings.by_hand = bench::by_hand(store::store_of(dataset), settings.threads);
  bench::Peer peer(arguments[3], settings.threads);
  fill(peer, folder);
  bench::run_side_by_side(dataset, peer, bench::read_statements(BENCH_ENGINE "/twins.sql"), settings);
  return 0;
}
