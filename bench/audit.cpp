// What the audit and the proofs of a refactoring take, over the charging network as `juniper demo` makes it.
// usage: bench_audit FOLDER SESSIONS PEER REPEATS
//
// The audit, measured and estimated; the proof of all rows of a calculated column beside summing its expression once,
// in turn; and a plan of eight steps, planned, loaded, proved and written, over a tenth of the sessions.
#include <fmt/format.h>
#include <malloc.h>

#include <filesystem>
#include <fstream>
#include <iostream>

#include "juniper/ask.h"
#include "juniper/audit.h"
#include "juniper/demo.h"
#include "juniper/refactor.h"
#include "must.h"
#include "timing.h"

namespace {

using namespace juniper;
using bench::must;
namespace fs = std::filesystem;

constexpr unsigned threads = 2;
constexpr std::uint64_t seed = 7;

constexpr const char* expression = "round(energy_kwh * tariffs.price_per_kwh, 2)";
constexpr const char* plan =
    "inline sessions.price_paid split sessions.started retype sessions.battery_start integer drop sessions.row_no "
    "drop sessions.receipt drop cards.serial trim cards reorder sessions by (channel, tariff_code)";

Dataset open_demo(const std::string& folder, std::uint64_t sessions) {
  if (!fs::exists(folder + "/charging.ridge")) must(write_demo(folder, {sessions, seed}));
  Options options;
  options.threads = threads;
  return must(Dataset::open(folder + "/charging.ridge", options));
}

void measure_audit(const Dataset& dataset, int repeats) {
  std::vector<double> measured;
  std::vector<double> estimated;
  std::size_t findings = 0;
  for (int i = 0; i < repeats; ++i) {
    measured.push_back(bench::milliseconds_of([&] { findings = must(audit(dataset)).findings.size(); }));
    AuditSettings fast;
    fast.fast = true;
    estimated.push_back(bench::milliseconds_of([&] { must(audit(dataset, fast)); }));
  }
  fmt::print("audit, {} findings\n  measured {:.0f} ms, --fast {:.0f} ms\n", findings, bench::median(measured),
             bench::median(estimated));
}

// The query is that of a refactoring's proof.
void measure_row_proof(const Dataset& dataset, int repeats) {
  const std::string proof = fmt::format(
      "show n_rows = count(sessions), differing = count(sessions where energy_charge is distinct from ({}))",
      expression);
  const std::string sum = fmt::format("show total = sum({} for sessions)", expression);
  bench::Ratio times;
  for (int i = 0; i < repeats; ++i) {
    times.ours.push_back(bench::milliseconds_of([&] {
      if (must(ask(dataset, {proof})).rows[0].cells[1].exact() != 0) std::exit(3);
    }));
    times.theirs.push_back(bench::milliseconds_of([&] { must(ask(dataset, {sum})); }));
  }
  fmt::print("proof of all rows of energy_charge, and the sum of its expression\n  {}\n", times.text());
}

void measure_plan(const std::string& folder, std::uint64_t sessions) {
  fs::remove_all(folder);
  const Dataset dataset = open_demo(folder, sessions);
  Refactoring made;
  const double planned = bench::milliseconds_of([&] { made = must(refactor(dataset, plan)); });
  if (!made.proved()) {
    std::cerr << "the plan is not proved\n";
    std::exit(3);
  }
  const double written = bench::milliseconds_of([&] { must(write(dataset, made)); });
  fmt::print(
      "a plan of {} steps over {} sessions, proved and written\n  {:.1f} s: {} rows, {} queries, {} probes of {}\n",
      made.steps.size(), sessions, (planned + written) / 1000, made.rows.size(), made.queries.size(), made.probes.asked,
      made.probes.possible);
  fs::remove_all(folder);
}

}  // namespace

int main(int count, char** arguments) {
  if (count != 5) {
    std::cerr << "usage: bench_audit FOLDER SESSIONS PEER REPEATS\n";
    return 2;
  }
  // As the tool does: memory that is freed is kept for the next large array.
  mallopt(M_MMAP_THRESHOLD, 1 << 30);
  mallopt(M_TRIM_THRESHOLD, 2'000'000'000);
  const std::string folder = arguments[1];
  const std::uint64_t sessions = std::stoull(arguments[2]);
  const int repeats = std::stoi(arguments[4]);
  fmt::print("{} sessions, {} threads, medians of {} turns\n\n", sessions, threads, repeats);
  measure_plan(folder + "-plan", sessions / 10);
  const Dataset dataset = open_demo(folder, sessions);
  measure_audit(dataset, repeats);
  measure_row_proof(dataset, repeats);
  return 0;
}
