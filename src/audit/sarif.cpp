// Findings as SARIF 2.1.0 (OASIS, Static Analysis Results Interchange Format), which code reviews show at their lines.
#include <fmt/format.h>

#include "base/failure.h"
#include "base/json.h"
#include "base/output_file.h"
#include "juniper/audit.h"

namespace juniper {

namespace {

using base::Json;
using Members = Json::Members;

void add(Members&) {}
template <class... More>
void add(Members& members, const char* name, Json value, More&&... more) {
  members.emplace_back(name, std::move(value));
  add(members, std::forward<More>(more)...);
}
// Of names and values in turn.
template <class... Parts>
Members object(Parts&&... parts) {
  Members members;
  add(members, std::forward<Parts>(parts)...);
  return members;
}
Json list_of(Json item) {
  Json::Items items;
  items.push_back(std::move(item));
  return items;
}

Json rule(const AuditRule& rule) {
  return object("id", rule.code, "shortDescription", object("text", rule.title), "fullDescription",
                object("text", rule.reason));
}

Json location(const Place& place) {
  return object("physicalLocation", object("artifactLocation", object("uri", place.file), "region",
                                           object("startLine", place.line, "startColumn", place.column)));
}

Json result(const Finding& finding) {
  Members properties;
  if (finding.saved_bytes) properties.emplace_back("savedBytes", *finding.saved_bytes);
  if (finding.estimated) properties.emplace_back("estimated", true);
  if (!finding.query.empty()) properties.emplace_back("query", finding.query);
  Members members = object("ruleId", finding.code, "level", "warning", "message",
                           object("text", fmt::format("{}: {} ({}). What to do: {}", finding.subject, finding.title,
                                                      finding.evidence, finding.remedy)),
                           "locations", list_of(location(finding.place)));
  if (!properties.empty()) members.emplace_back("properties", std::move(properties));
  return members;
}

}  // namespace

std::string to_sarif(const Audit& audit) {
  Json::Items rules;
  for (const AuditRule& looked_at : audit.rules) rules.push_back(rule(looked_at));
  Json::Items results;
  for (const Finding& finding : audit.findings) results.push_back(result(finding));
  Json run = object("tool", object("driver", object("name", "juniper", "rules", std::move(rules))), "columnKind",
                    "unicodeCodePoints", "results", std::move(results));
  const Json document = object("version", "2.1.0", "runs", list_of(std::move(run)));
  return document.to_text() + "\n";
}

Result<void> write_sarif(const Audit& audit, const std::string& path, Overwrite overwrite) {
  const auto is_ours = [](std::string_view begin) {
    return begin.starts_with('{') && begin.find("\"driver\"") != std::string_view::npos &&
           begin.find("\"juniper\"") != std::string_view::npos;
  };
  return base::guarded([&] { return base::write_output(path, to_sarif(audit), is_ours, overwrite); });
}

}  // namespace juniper
