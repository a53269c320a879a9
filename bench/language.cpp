// What parts of the language take beside what they are measured by, over the charging network: filters over a bridge
// beside the same measure by a column; groups by an expression beside groups by a stored column of the same values; and
// checking a model of many definitions.
// usage: bench_language FOLDER SESSIONS PEER REPEATS
#include <fmt/format.h>

#include <cstdlib>
#include <filesystem>
#include <fstream>
#include <iostream>
#include <random>

#include "juniper/ask.h"
#include "network.h"
#include "timing.h"

namespace {

using namespace juniper;
using bench::must;
namespace fs = std::filesystem;

constexpr unsigned threads = 2;
constexpr unsigned memberships_of_card = 3;
constexpr unsigned n_groups = 200;

// Groups of cards, and three memberships for each card.
void write_memberships(const std::string& folder) {
  if (fs::exists(folder + "/memberships.csv")) return;
  std::mt19937_64 random(7);
  std::ofstream groups(folder + "/groups.csv");
  groups << "group_id,name\n";
  for (unsigned g = 0; g < n_groups; ++g) groups << g << ",Group " << g << "\n";
  std::ifstream cards(folder + "/data/cards.csv");
  std::ofstream memberships(folder + "/memberships.csv");
  memberships << "card_id,group_id\n";
  std::string line;
  std::getline(cards, line);
  while (std::getline(cards, line)) {
    const std::string card = line.substr(0, line.find(','));
    for (unsigned m = 0; m < memberships_of_card; ++m) memberships << card << "," << random() % n_groups << "\n";
  }
}

constexpr const char* added_text = R"(
table groups from csv "groups.csv" { key group_id integer  name text }
table memberships from csv "memberships.csv" { card_id integer  group_id integer }
link memberships.card_id -> cards.card_id
link memberships.group_id -> groups.group_id
)";

// Expressions by which rows are grouped, and the names of stored columns of sessions that hold the same.
struct Grouping {
  std::string name;
  std::string expression;
};
const std::vector<Grouping> groupings{
    {"year_of_day", "year(sessions.start_day)"},
    {"band",
     "case when sessions.energy_kwh >= 30 then \"large\" when sessions.energy_kwh >= 10 then \"middle\" else "
     "\"small\" end"},
    {"region_and_plan", "stations.region || \" \" || tariffs.plan"},
    {"whole_kwh", "floor(sessions.energy_kwh)"},
};

Dataset open(const std::string& folder) {
  std::string text = bench::content(BENCH_ENGINE "/network.ridge");
  std::string stored;
  for (const Grouping& grouping : groupings) {
    std::string of_row = grouping.expression;
    for (std::size_t at = 0; (at = of_row.find("sessions.")) != std::string::npos;) of_row.erase(at, 9);
    stored += fmt::format("  {} = {}\n", grouping.name, of_row);
  }
  const std::size_t table = text.find("table sessions");
  text.insert(text.find("\n}", table) + 1, stored);
  const fs::path path = fs::path(folder) / "language.ridge";
  text += added_text;
  if (!fs::exists(path) || bench::content(path) != text) std::ofstream(path) << text;
  Options options;
  options.threads = threads;
  return must(Dataset::open(path, options));
}

// Values of the shown column, by key; to see that two ways say the same.
void must_agree(const QueryResult& a, const QueryResult& b) {
  bool same = a.rows.size() == b.rows.size();
  for (std::size_t r = 0; r < a.rows.size() && same; ++r) same = a.rows[r].cells == b.rows[r].cells;
  if (same) return;
  std::cerr << "the two differ\n";
  std::exit(3);
}

bench::Ratio in_turn(const Dataset& dataset, const std::string& query, const std::string& beside, int repeats) {
  bench::Ratio times;
  must(ask(dataset, {query}));
  must(ask(dataset, {beside}));
  for (int i = 0; i < repeats; ++i) {
    times.ours.push_back(bench::milliseconds_of([&] { must(ask(dataset, {query})); }));
    times.theirs.push_back(bench::milliseconds_of([&] { must(ask(dataset, {beside})); }));
  }
  return times;
}

void measure_bridges(const Dataset& dataset, int repeats) {
  fmt::print("over a bridge of {} memberships a card, beside `by cards.holder show revenue`\n", memberships_of_card);
  const std::vector<std::string> queries{
      "by groups.name show (revenue through memberships) as shared",
      "by groups.name, days.year show (revenue through memberships) as shared",
      "by groups.name show (revenue through memberships) as shared where cards.holder = \"fleet\"",
      "show (revenue through memberships) as shared where groups.name = \"Group 3\"",
  };
  for (const std::string& query : queries)
    fmt::print("{}  {}\n", in_turn(dataset, query, "by cards.holder show revenue", repeats).text(), query);
}

void measure_groupings(const Dataset& dataset, int repeats) {
  fmt::print("grouped by an expression, beside a stored column of the same values\n");
  for (const Grouping& grouping : groupings) {
    const std::string by_expression = fmt::format("by {} as k show energy, n_sessions", grouping.expression);
    const std::string by_column = fmt::format("by sessions.{} as k show energy, n_sessions", grouping.name);
    must_agree(must(ask(dataset, {by_expression})), must(ask(dataset, {by_column})));
    fmt::print("{}  {}\n", in_turn(dataset, by_expression, by_column, repeats).text(), grouping.expression);
  }
}

// A model of 500 measures, each by one of 100 functions.
void measure_checking(int repeats) {
  std::string text = bench::content(BENCH_ENGINE "/network.ridge");
  for (int f = 0; f < 100; ++f)
    text += fmt::format("function part{}(m, n) = (m + n * {}) / (m + {})\n", f, f + 1, f + 2);
  for (int m = 0; m < 500; ++m)
    text += fmt::format("measure made{} = part{}(revenue, (n_sessions where days.year = {}))\n", m, m % 100, 2000 + m);
  std::vector<double> times;
  for (int i = 0; i < repeats; ++i)
    times.push_back(bench::milliseconds_of([&] { must(Model::parse("made.ridge", text)); }));
  fmt::print("checking a model of 500 measures and 100 functions\n  {:.1f} ms\n", bench::median(times));
}

}  // namespace

int main(int count, char** arguments) {
  if (count != 5) {
    std::cerr << "usage: bench_language FOLDER SESSIONS PEER REPEATS\n";
    return 2;
  }
  const std::string folder = arguments[1];
  const int repeats = std::atoi(arguments[4]);
  bench::open_network(folder, std::strtoull(arguments[2], nullptr, 10), threads);
  write_memberships(folder);
  const Dataset dataset = open(folder);
  measure_bridges(dataset, repeats);
  measure_groupings(dataset, repeats);
  measure_checking(repeats);
  return 0;
}
