#include "juniper/audit.h"

#include <fmt/format.h>

#include <algorithm>

#include "audit/rules.h"
#include "base/diagnostics.h"
#include "base/failure.h"

namespace juniper {

namespace {

bool contains(const std::vector<std::string>& codes, const char* code) {
  return std::find(codes.begin(), codes.end(), code) != codes.end();
}

Result<void> check_codes(const std::vector<std::string>& codes) {
  std::vector<std::string> known;
  for (const auditing::Rule& rule : auditing::rules()) known.emplace_back(rule.code);
  for (const std::string& code : codes) {
    if (!contains(known, code.c_str())) {
      return tl::unexpected(base::error("JR-008", fmt::format("there is no rule '{}'", code),
                                        fmt::format("rules are {} to {}", known.front(), known.back())));
    }
  }
  return {};
}

}  // namespace

std::vector<AuditRule> audit_rules() {
  std::vector<AuditRule> made;
  for (const auditing::Rule& rule : auditing::rules()) made.push_back({rule.code, rule.title, rule.reason});
  return made;
}

Result<Audit> audit(const Dataset& dataset, const AuditSettings& settings) {
  return base::guarded([&]() -> Result<Audit> {
    for (const auto* const codes : {&settings.only, &settings.ignore}) {
      if (auto known = check_codes(*codes); !known) return tl::unexpected(known.error());
    }
    Audit made;
    made.file_bytes = dataset.store().file_bytes;
    const auditing::Subject subject(dataset);
    for (const auditing::Rule& rule : auditing::rules()) {
      if ((!settings.only.empty() && !contains(settings.only, rule.code)) || contains(settings.ignore, rule.code))
        continue;
      made.rules.push_back({rule.code, rule.title, rule.reason});
      if (dataset.options().progress) dataset.options().progress({fmt::format("looking for {}", rule.title), 0, 0, 0});
      auditing::Findings found;
      rule.find(subject, found);
      for (Finding& finding : found) {
        if (finding.saved_bytes.value_or(0) < settings.min_saving) continue;
        finding.code = rule.code;
        finding.title = rule.title;
        finding.reason = rule.reason;
        made.findings.push_back(std::move(finding));
      }
    }
    std::stable_sort(made.findings.begin(), made.findings.end(), [](const Finding& a, const Finding& b) {
      return a.saved_bytes.value_or(0) > b.saved_bytes.value_or(0);
    });
    return made;
  });
}

}  // namespace juniper
