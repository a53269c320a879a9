// What reads the small files that come beside a model must survive any bytes: a target for libFuzzer. The first letter of
// the input says what the rest is taken for. Run by scripts/fuzz; seeds are in tests/fuzz/small.
//
//   r  a result of a baseline          d  what its data.txt holds      b  budgets
//   m  its machine.txt                 t  its times.txt                l  a log of queries
//   M  the model that it was made of   e  expected numbers             w  a weighing of before
//   p  a data package
#include <fmt/format.h>
#include <unistd.h>

#include <cstdint>
#include <cstdlib>
#include <filesystem>
#include <fstream>
#include <map>
#include <optional>
#include <string>

#include "juniper/ask.h"
#include "juniper/baseline.h"
#include "juniper/query_log.h"
#include "juniper/scan.h"
#include "juniper/weigh.h"
#include "regress/expected_csv.h"
#include "regress/result_file.h"
#include "store/checks.h"

namespace {

using namespace juniper;
namespace fs = std::filesystem;

struct Surroundings {
  fs::path folder = "/dev/shm/juniper-small-fuzz." + std::to_string(::getpid());
  std::optional<Dataset> dataset;
  std::map<std::string, std::string> baseline;  // its files but the seal
  Weighing weighing;
  QueryResult result;

  std::string path(const std::string& name) const { return (folder / name).string(); }
  void write(const std::string& name, std::string_view text) const {
    std::ofstream(folder / name, std::ios::binary).write(text.data(), static_cast<std::streamsize>(text.size()));
  }

  Surroundings() {
    fs::create_directory(folder);
    write("sessions.csv", "id,bay,kwh,day\n1,A,1.5,2025-01-01\n2,,2.5,\n3,\"B\tC\",,2025-01-02\n");
    write("m.ridge",
          "param p = 1\ntable sessions from csv \"sessions.csv\" {\n"
          "  key id integer\n  bay text\n  kwh decimal(1)\n  day date\n  twice = kwh * 2\n}\n"
          "measure total = sum(twice for sessions) * p\n"
          "query all { show total }\nquery by_bay { by sessions.bay show total total grand }\n");
    Options options;
    options.threads = 1;
    if (!load(path("m.ridge"), options)) std::abort();
    auto opened = Dataset::open(path("m.ridge"), options);
    if (!opened) std::abort();
    dataset = std::move(*opened);
    if (!juniper::baseline(*dataset, path("b"))) std::abort();
    for (const auto& entry : fs::recursive_directory_iterator(folder / "b")) {
      const std::string name = entry.path().lexically_relative(folder / "b").string();
      if (!entry.is_regular_file() || name == "seal.txt") continue;
      std::ifstream file(entry.path(), std::ios::binary);
      baseline.emplace(name, std::string((std::istreambuf_iterator<char>(file)), {}));
    }
    weighing = weigh(*dataset).value();
    auto answer = ask(*dataset, Question{"by_bay"});
    if (!answer) std::abort();
    result = std::move(*answer);
  }
  ~Surroundings() { fs::remove_all(folder); }
};

// What is written of a result that was read is read as the same.
void read_result(const std::string& text) {
  const auto once = regress::read_result("x.result", text);
  if (!once) return;
  const std::string written = regress::write_result(*once);
  const auto twice = regress::read_result("x.result", written);
  if (!twice || regress::write_result(*twice) != written) std::abort();
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  static const Surroundings around;
  if (size < 1) return 0;
  const std::string text(reinterpret_cast<const char*>(data + 1), size - 1);
  // A baseline in which the files with that ending hold the text, under a seal that is right.
  const auto check_with = [&](std::string_view ending, const CheckSettings& settings = {}) {
    std::string seal = "juniper seal 1\n";
    for (const auto& [name, recorded] : around.baseline) {
      std::string now = name.ends_with(ending) ? text : recorded;
      // The recorded model is loaded where the data are others.
      if (ending == ".model" && name == "data.txt") now = "sessions\tsessions.csv\t1\t0000000000000000\n";
      around.write("b/" + name, now);
      seal += fmt::format("{:016x}\t{}\n", store::hash_bytes(std::as_bytes(std::span(now))), name);
    }
    around.write("b/seal.txt", seal);
    (void)check(*around.dataset, around.path("b"), settings);
  };
  around.write("input", text);
  const std::string input = around.path("input");
  switch (data[0]) {
    case 'r':
      read_result(text);
      check_with(".result");
      break;
    case 'e':
      (void)regress::compare_with_csv(around.result, "input", text, 3, {});
      break;
    case 'l':
      (void)read_query_log(input);
      break;
    case 'w':
      (void)weigh_against(around.weighing, input);
      break;
    case 'p':
      around.write("datapackage.json", text);
      (void)scan({around.path("datapackage.json")});
      break;
    case 'b': {
      CheckSettings settings;
      settings.budgets = input;
      check_with("no ending", settings);
      break;
    }
    case 'd':
      check_with("data.txt");
      break;
    case 'm':
      check_with("machine.txt");
      break;
    case 'M':
      check_with(".model");
      break;
    case 't':
      check_with("times.txt");
      break;
  }
  return 0;
}
