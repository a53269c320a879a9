// Findings as SARIF 2.1.0 (OASIS, Static Analysis Results Interchange Format), which code reviews show at their lines.
#include <fmt/format.h>

#include "base/json.h"
#include "base/output_file.h"
#include "juniper/audit.h"

namespace juniper {

namespace {

using base::Json;
using Members = Json::Members;

Json text(std::string written) {
  return Members{{"text", std::move(written)}};
}

Json rule(const AuditRule& rule) {
  return Members{{"id", rule.code}, {"shortDescription", text(rule.title)}, {"fullDescription", text(rule.reason)}};
}

Json location(const Place& place) {
  const Members region{{"startLine", place.line}, {"startColumn", place.column}};
  const Members physical{{"artifactLocation", Members{{"uri", place.file}}}, {"region", region}};
  return Members{{"physicalLocation", physical}};
}

Json result(const Finding& finding) {
  Members properties;
  if (finding.saved_bytes) properties.emplace_back("savedBytes", *finding.saved_bytes);
  if (finding.estimated) properties.emplace_back("estimated", true);
  if (!finding.query.empty()) properties.emplace_back("query", finding.query);
  Members members{{"ruleId", finding.code},
                  {"level", "warning"},
                  {"message", text(fmt::format("{}: {} ({}). What to do: {}", finding.subject, finding.title,
                                               finding.evidence, finding.remedy))},
                  {"locations", Json::Items{location(finding.place)}}};
  if (!properties.empty()) members.emplace_back("properties", std::move(properties));
  return members;
}

}  // namespace

std::string to_sarif(const Audit& audit) {
  Json::Items rules;
  for (const AuditRule& looked_at : audit.rules) rules.push_back(rule(looked_at));
  Json::Items results;
  for (const Finding& finding : audit.findings) results.push_back(result(finding));
  Members run{{"tool", Members{{"driver", Members{{"name", "juniper"}, {"rules", std::move(rules)}}}}},
              {"columnKind", "unicodeCodePoints"},
              {"results", std::move(results)}};
  const Json document = Members{{"version", "2.1.0"}, {"runs", Json::Items{std::move(run)}}};
  return document.to_text() + "\n";
}

Result<void> write_sarif(const Audit& audit, const std::string& path, Replace replace) {
  const auto is_ours = [](std::string_view begin) {
    return begin.starts_with('{') && begin.find("\"driver\"") != std::string_view::npos &&
           begin.find("\"juniper\"") != std::string_view::npos;
  };
  return base::write_output(path, to_sarif(audit), is_ours, replace);
}

}  // namespace juniper
