// What reads texts must survive any: a target for libFuzzer. It parses and checks the bytes as a model, as a query over
// a small model and as an expression, and lays them out. Built by `cmake -DJUNIPER_FUZZ=ON` with clang; run as
// scripts/fuzz [SECONDS].
#include <cstddef>
#include <cstdint>
#include <cstdlib>
#include <string>

#include "juniper/format.h"
#include "juniper/model.h"
#include "language/check.h"
#include "language/parser.h"
#include "model/access.h"

namespace {

constexpr const char* network =
    R"(param p = 0.5
table sessions from csv "s.csv" { key id integer  bay integer  day date  energy decimal(2)  channel text  started datetime }
table bays from csv "b.csv" { key bay integer  region text }
table days from csv "d.csv" { key day date  year integer }
link sessions.bay -> bays.bay
link sessions.day -> days.day
calendar days.day periods (year)
measure energy = sum(energy for sessions)
)";

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace juniper;
  const std::string text(reinterpret_cast<const char*>(data), size);
  if (text.find("include") == std::string::npos) (void)Model::parse("fuzz.ridge", text);
  (void)Model::parse("fuzz.ridge", network + text);
  static const auto model = Model::parse("network.ridge", network);
  language::CheckedModel checked = model::checked(*model);
  Diagnostics problems;
  const std::uint32_t file = checked.sources.add({"<query>", text});
  const auto query = language::parse_query(checked.sources, file, problems);
  if (problems.empty() && query.drafts.empty()) (void)language::check_query(checked, query, {}, problems);
  problems.clear();
  (void)language::parse_expression(checked.sources, file, problems);
  for (const Diagnostic& problem : problems) (void)render(problem);
  // A text that can be read has one layout, which is its own.
  if (const auto once = canonical_layout(text)) {
    const auto twice = canonical_layout(*once);
    if (!twice || *twice != *once) std::abort();
  }
  return 0;
}
