// Findings as SARIF 2.1.0 (OASIS, Static Analysis Results Interchange Format), which code reviews show at their lines.
#include <fmt/format.h>

#include <nlohmann/json.hpp>

#include "base/text_file.h"
#include "juniper/audit.h"

namespace juniper {

namespace {

using Json = nlohmann::ordered_json;

Json rule(const AuditRule& rule) {
  return {
      {"id", rule.code}, {"shortDescription", {{"text", rule.title}}}, {"fullDescription", {{"text", rule.reason}}}};
}

Json result(const Finding& finding) {
  Json made{{"ruleId", finding.code},
            {"level", "warning"},
            {"message",
             {{"text", fmt::format("{}: {} ({}). What to do: {}", finding.subject, finding.title, finding.evidence,
                                   finding.remedy)}}}};
  const Json region{{"startLine", finding.place.line}, {"startColumn", finding.place.column}};
  const Json place{{"artifactLocation", {{"uri", finding.place.file}}}, {"region", region}};
  made["locations"] = Json::array({Json{{"physicalLocation", place}}});
  if (finding.saved_bytes) made["properties"]["savedBytes"] = *finding.saved_bytes;
  if (finding.estimated) made["properties"]["estimated"] = true;
  if (!finding.query.empty()) made["properties"]["query"] = finding.query;
  return made;
}

}  // namespace

std::string to_sarif(const Audit& audit) {
  Json rules = Json::array();
  for (const AuditRule& looked_at : audit.rules) rules.push_back(rule(looked_at));
  Json results = Json::array();
  for (const Finding& finding : audit.findings) results.push_back(result(finding));
  Json run{{"tool", {{"driver", {{"name", "juniper"}, {"rules", std::move(rules)}}}}},
           {"columnKind", "unicodeCodePoints"},
           {"results", std::move(results)}};
  const Json document{{"version", "2.1.0"}, {"runs", Json::array({std::move(run)})}};
  return document.dump(2, ' ', false, Json::error_handler_t::replace) + "\n";
}

Result<void> write_sarif(const Audit& audit, const std::string& path) {
  return base::write_text(path, to_sarif(audit));
}

}  // namespace juniper
