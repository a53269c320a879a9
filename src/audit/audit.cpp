#include "juniper/audit.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <sstream>

#include "audit/rules.h"
#include "base/diagnostics.h"
#include "base/failure.h"
#include "model/access.h"
#include "model/hidden.h"
#include "store/of_dataset.h"

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

// A comment that waves findings through, by the line that it is about.
struct Waiver {
  std::vector<std::string> codes;
  std::string reason;
};
using Waivers = std::map<std::pair<std::string, std::uint32_t>, std::vector<Waiver>>;  // by file and line

// The words behind `# audit ignore` as codes and a reason; nothing if they are not so written.
std::optional<Waiver> read_waiver(const std::string& words) {
  const std::size_t colon = words.find(':');
  if (colon == std::string::npos || words.find_first_not_of(" \t\r", colon + 1) == std::string::npos)
    return std::nullopt;
  Waiver waiver;
  waiver.reason = words.substr(words.find_first_not_of(" \t", colon + 1));
  waiver.reason.erase(waiver.reason.find_last_not_of(" \t\r") + 1);
  std::istringstream codes(words.substr(0, colon));
  for (std::string code; codes >> code;) {
    if (code.ends_with(',')) code.pop_back();
    waiver.codes.push_back(code);
  }
  return waiver.codes.empty() || !check_codes(waiver.codes) ? std::nullopt : std::optional(waiver);
}

// The comments that ignore findings. One behind a declaration is about its line; those on lines of their own are about
// the next line that is none.
Result<Waivers> find_waivers(const std::vector<ModelText>& texts) {
  constexpr std::string_view begin = "# audit ignore";
  Waivers waivers;
  for (const ModelText& text : texts) {
    std::istringstream lines(text.text);
    std::vector<Waiver> waiting;
    std::uint32_t number = 0;
    for (std::string line; std::getline(lines, line);) {
      ++number;
      const std::size_t at = line.find(begin);
      const std::size_t first = line.find_first_not_of(" \t\r");
      const bool is_comment = first != std::string::npos && line[first] == '#';
      if (at != std::string::npos) {
        auto waiver = read_waiver(line.substr(at + begin.size()));
        if (!waiver) {
          return tl::unexpected(base::error_at("JR-010", Place{text.name, number, static_cast<std::uint32_t>(at + 1)},
                                               "this comment does not say which findings it ignores, and why",
                                               "write: # audit ignore JA-102: the reason"));
        }
        waiting.push_back(std::move(*waiver));
      }
      if (is_comment || waiting.empty()) continue;
      waivers[{text.name, number}] = std::exchange(waiting, {});
    }
  }
  return waivers;
}

}  // namespace

std::vector<AuditRule> audit_rules() {
  std::vector<AuditRule> made;
  for (const auditing::Rule& rule : auditing::rules()) made.push_back({rule.code, rule.title, rule.reason});
  return made;
}

namespace {

std::vector<RuleSaving> saved_together(const std::vector<Finding>& findings) {
  std::map<std::string, std::uint64_t> by_rule;
  std::map<std::string, std::pair<std::uint64_t, std::string>> columns;  // the most that is saved, and by which rule
  for (const Finding& finding : findings) {
    if (finding.saved_by_column.empty()) by_rule[finding.code] += finding.saved_bytes.value_or(0);
    for (const auto& [column, bytes] : finding.saved_by_column) {
      auto& [most, code] = columns[column];
      if (bytes <= most) continue;
      most = bytes;
      code = finding.code;
    }
  }
  for (const auto& [column, most] : columns) by_rule[most.second] += most.first;
  std::vector<RuleSaving> savings;
  for (const auto& [code, bytes] : by_rule) {
    if (bytes != 0) savings.push_back({code, bytes});
  }
  std::stable_sort(savings.begin(), savings.end(),
                   [](const RuleSaving& a, const RuleSaving& b) { return a.bytes > b.bytes; });
  return savings;
}

}  // namespace

Result<Audit> audit(const Dataset& dataset, const AuditSettings& settings) {
  if (auto may = model::for_everybody(model::checked(dataset.model()), "an audit, which shows what columns hold,");
      !may)
    return tl::unexpected(may.error());

  return base::guarded([&]() -> Result<Audit> {
    for (const auto* const codes : {&settings.only, &settings.ignore}) {
      if (auto known = check_codes(*codes); !known) return tl::unexpected(known.error());
    }
    Audit made;
    made.captured = dataset.model().options().captured.size();
    made.not_understood = dataset.model().not_understood();
    made.captured -= made.not_understood.size();
    made.file_bytes = store::store_of(dataset).file_bytes;
    const auto waivers = find_waivers(dataset.model().texts());
    if (!waivers) return tl::unexpected(waivers.error());
    const auto waived = [&](const Finding& finding, const char* code) -> const Waiver* {
      const auto at = waivers->find({finding.place.file, finding.place.line});
      if (at == waivers->end()) return nullptr;
      for (const Waiver& waiver : at->second) {
        if (contains(waiver.codes, code)) return &waiver;
      }
      return nullptr;
    };
    const double least_share = settings.min_share * static_cast<double>(made.file_bytes);
    const auditing::Subject subject(dataset, settings.fast);
    for (const auditing::Rule& rule : auditing::rules()) {
      if ((!settings.only.empty() && !contains(settings.only, rule.code)) || contains(settings.ignore, rule.code))
        continue;
      made.rules.push_back({rule.code, rule.title, rule.reason});
      if (dataset.options().progress) dataset.options().progress({fmt::format("looking for {}", rule.title), 0, 0, 0});
      auditing::Findings found;
      rule.find(subject, found);
      for (Finding& finding : found) {
        const std::uint64_t saved = finding.saved_bytes.value_or(0);
        if (saved < settings.min_saving || static_cast<double>(saved) < least_share) continue;
        if (const Waiver* waiver = waived(finding, rule.code)) {
          made.ignored.push_back({rule.code, finding.subject, finding.place, waiver->reason});
          continue;
        }
        finding.code = rule.code;
        finding.title = rule.title;
        finding.reason = rule.reason;
        made.findings.push_back(std::move(finding));
      }
    }
    made.savings = saved_together(made.findings);
    for (const RuleSaving& saving : made.savings) made.saved_bytes += saving.bytes;
    std::stable_sort(made.findings.begin(), made.findings.end(), [](const Finding& a, const Finding& b) {
      return a.saved_bytes.value_or(0) > b.saved_bytes.value_or(0);
    });
    return made;
  });
}

}  // namespace juniper
