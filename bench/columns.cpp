// Calculated columns that look at other rows of their table, and a measure within a loop: what each costs, beside the
// window function that computes the same, and beside the plain query. usage: bench_columns FOLDER SESSIONS PEER REPEATS
//
// The two engines take turns, each with two threads and its tables in memory. Our time for a column is that of
// computing its values; encoding them for the store is told beside it. The peer's is that of a table made from the
// values.
#include <fmt/format.h>
#include <malloc.h>

#include <algorithm>
#include <filesystem>
#include <fstream>
#include <iostream>
#include <set>

#include "engine/query/rows.h"
#include "juniper/demo.h"
#include "model/access.h"
#include "model/syntax_of.h"
#include "must.h"
#include "peer.h"
#include "store/of_dataset.h"
#include "timing.h"

namespace {

using namespace juniper;
using bench::milliseconds_of;
using bench::must;
using bench::Ratio;

constexpr unsigned threads = 2;
constexpr std::uint64_t seed = 7;

constexpr const char* model_text = R"(
table sessions from csv "data/sessions-*.csv" {
  key session_id integer  bay_id integer  started datetime  energy_kwh decimal(3)  tariff_code text
  so_far = sum(s.energy_kwh for s in sessions where s.bay_id = this.bay_id and s.started <= this.started)
  change = energy_kwh - last(s.energy_kwh by s.started for s in sessions
                             where s.bay_id = this.bay_id and s.started < this.started)
  place  = rank(this.energy_kwh among s.energy_kwh for s in sessions where s.bay_id = this.bay_id desc)
}
table bays from csv "data/bays.csv" { key bay_id integer  station_id integer }
table stations from csv "data/stations.csv" { key station_id integer }
table tariffs from csv "data/tariffs.csv" { key tariff_code text  price_per_kwh decimal(4) }
link sessions.bay_id -> bays.bay_id
link bays.station_id -> stations.station_id
link sessions.tariff_code -> tariffs.tariff_code
measure revenue = sum(energy_kwh * tariffs.price_per_kwh for sessions)
)";

struct Twin {
  const char* column;
  const char* sql;
};
constexpr Twin twins[] = {
    {"so_far", "sum(energy_kwh) over (partition by bay_id order by started)"},
    {"change", "energy_kwh - lag(energy_kwh) over (partition by bay_id order by started, session_id)"},
    {"place", "rank() over (partition by bay_id order by energy_kwh desc)"},
};

// As the tool does: columns are large arrays that come and go.
void keep_freed_memory() {
  mallopt(M_MMAP_THRESHOLD, 1 << 30);
  mallopt(M_TRIM_THRESHOLD, 1 << 30);
}

// A checksum that tells rows apart: the values weighted by their sessions. Sessions of one bay that began at the same
// second are left out: the language's "before" is not the window's there.
std::string weighted_sum(const engine::Vector& values, const store::Column& session,
                         const std::set<std::int64_t>& tied) {
  int128 sum = 0;
  for (std::size_t i = 0; i < values.size(); ++i) {
    const std::int64_t id = session.exact_of(session.codes.at(i));
    if (values.state[i] != engine::State::value || tied.contains(id)) continue;
    const int128 value = values.repr == engine::Repr::wide ? values.wide[i] : values.narrow[i];
    sum += value * (id % 1009);
  }
  return to_text(Value::of(sum), {TypeKind::decimal, 0});
}

}  // namespace

int main(int count, char** arguments) {
  if (count != 5) {
    std::cerr << "usage: bench_columns FOLDER SESSIONS PEER REPEATS\n";
    return 2;
  }
  keep_freed_memory();
  const std::string folder = arguments[1];
  const std::uint64_t sessions = std::stoull(arguments[2]);
  const int repeats = std::stoi(arguments[4]);
  const std::string model_path = folder + "/columns.ridge";
  if (!std::filesystem::exists(folder + "/data")) must<void>(write_demo(folder, {sessions, seed}));
  if (!std::filesystem::exists(model_path)) std::ofstream(model_path) << model_text;
  Options options;
  options.threads = threads;
  const Dataset dataset = must(Dataset::open(model_path, options));
  const language::CheckedModel& model = model::checked(dataset.model());
  const engine::Source source{model, store::store_of(dataset), {}};

  bench::Peer peer(arguments[3], threads);
  peer.run(
      fmt::format("create table sessions as select session_id, bay_id, started, energy_kwh::decimal(18, 3) as "
                  "energy_kwh from read_csv('{}/data/sessions-*.csv')",
                  folder));
  peer.run(
      "create table tied as select session_id from sessions where (bay_id, started) in (select (bay_id, started) from "
      "sessions group by bay_id, started having count(*) > 1)");
  std::set<std::int64_t> tied;
  for (const auto& row : peer.rows("select session_id from tied").rows) tied.insert(std::stoll(*row[0]));
  fmt::print("{} sessions, {} threads, medians of {} turns\n\n", sessions, threads, repeats);
  fmt::print("{:10} {:>11} {:>11}   {}\n", "column", "ours", "peer", "ratio (least to most)");
  const auto& columns = model.tables[0].columns;
  for (const Twin& twin : twins) {
    const auto column =
        std::find_if(columns.begin(), columns.end(), [&](const auto& c) { return c.name == twin.column; });
    Ratio ratio;
    engine::RowValues values;
    for (int i = 0; i < repeats; ++i) {
      ratio.ours.push_back(
          milliseconds_of([&] { values = must(engine::evaluate_rows(source, 0, column->expression, threads)); }));
      ratio.theirs.push_back(
          static_cast<double>(peer.run(fmt::format("create or replace temp table made as select session_id, {} as v "
                                                   "from sessions",
                                                   twin.sql))) /
          1e6);
    }
    const std::string ours = weighted_sum(*values.values, source.column({0, 0}), tied);
    const auto theirs = peer.rows(
        "select cast(sum(cast(v * 1000 as hugeint) * (session_id % 1009)) as varchar), "
        "cast(sum(cast(v as hugeint) * (session_id % 1009)) as varchar) from made where session_id "
        "not in (from tied)");
    if (ours != theirs.rows[0][0] && ours != theirs.rows[0][1]) {
      std::cerr << fmt::format("{} differs: {} here, {} there\n", twin.column, ours, *theirs.rows[0][0]);
      return 1;
    }
    const auto& stored = store::store_of(dataset).tables[0].columns[static_cast<std::size_t>(column - columns.begin())];
    fmt::print("{:10} {}   and {:.0f} ms to encode\n", twin.column, ratio.text(),
               static_cast<double>(stored.encode_nanoseconds) / 1e6);
  }

  Ratio nested;
  for (int i = 0; i < repeats; ++i) {
    nested.ours.push_back(
        milliseconds_of([&] { must(ask(dataset, {"show max(revenue of s for s in stations) as m"})); }));
    nested.theirs.push_back(milliseconds_of([&] { must(ask(dataset, {"by stations.station_id show revenue"})); }));
  }
  fmt::print("\nmax(revenue of s for s in stations) beside revenue by stations.station_id\n{:10} {}\n", "",
             nested.text());
  return 0;
}
