// What is wasteful or wrong in a model: findings, each with its place, its evidence and its remedy.
#pragma once

#include <cstdint>
#include <map>
#include <optional>
#include <string>
#include <vector>

#include "juniper/dataset.h"
#include "juniper/diagnostics.h"

namespace [[gnu::visibility("default")]] juniper {

// One kind of finding. Codes are stable and listed in docs/audit.md.
struct AuditRule {
  std::string code;    // "JA-101"
  std::string title;   // "a column that nothing uses"
  std::string reason;  // why it matters
};

struct Finding {
  std::string code;
  std::string title;     // of its rule
  std::string reason;    // of its rule
  std::string subject;   // "sessions.receipt", "avg_price"
  Place place;           // of the definition
  std::string evidence;  // what was found, in numbers
  std::string remedy;    // what to do: a command where there is one
  std::string step;     // the step of a refactoring that does it ("drop sessions.row_no"); "" where a human must decide
  bool unused = false;  // it is found as no definition and no known query uses its subject: another one may
  std::string query;    // one whose answer shows it; "" where evidence says all
  // Bytes of the store that the remedy saves, found by doing it on a copy of the columns concerned; nothing where it is
  // not about bytes, or was not measured.
  std::optional<std::uint64_t> saved_bytes;
  bool estimated = false;  // from a sample of the rows, as AuditSettings::fast asks
  // The columns among which saved_bytes are divided ("sessions.gross"), where it is one or more of them: findings about
  // the same column can't each save it.
  std::map<std::string, std::uint64_t> saved_by_column = {};
};

// A finding that a comment in the model text waves through: `# audit ignore JA-102: kept for the tax office`, on the
// line of the declaration or on lines of its own right above.
struct IgnoredFinding {
  std::string code;
  std::string subject;
  Place place;
  std::string reason;
};

struct AuditSettings {
  std::vector<std::string> only;    // codes; all rules when there are none
  std::vector<std::string> ignore;  // codes
  std::uint64_t min_saving = 0;     // bytes; findings that save less, or are not about bytes, are left out above 0
  double min_share = 0;             // the same as a part of the store's bytes, 0 to 1
  bool fast = false;                // savings are estimated from a sample of the rows of large tables
};

// What the findings of one rule save of Audit::saved_bytes, each column counted where most is saved of it.
struct RuleSaving {
  std::string code;
  std::uint64_t bytes = 0;
};

struct Audit {
  std::vector<Finding> findings;  // those that save most first, then in the order of the text
  std::vector<AuditRule> rules;   // that were looked at
  std::vector<IgnoredFinding> ignored;
  std::uint64_t captured = 0;    // queries that counted as uses, of ReadOptions::captured
  Diagnostics not_understood;    // what is wrong with the others
  std::uint64_t file_bytes = 0;  // of the store
  // What all findings together could save: of each column, the most that one of them saves there, and what those save
  // that are about something else. It is no promise: one remedy may make another smaller.
  std::uint64_t saved_bytes = 0;
  std::vector<RuleSaving> savings;  // add up to saved_bytes; the largest first, and none of 0
};

// Every rule, in the order of the codes.
std::vector<AuditRule> audit_rules();

// Looks at a model and its data. No rule goes by names. Errors: JR-008 (no such rule), JR-010 (a comment that ignores
// findings and gives no reason, or names no rule), JR-605 (the store is damaged).
Result<Audit> audit(const Dataset& dataset, const AuditSettings& settings = {});

// The findings as SARIF 2.1.0, each a warning at its place, with the bytes that it saves as the property `savedBytes`.
std::string to_sarif(const Audit& audit);
// The same into a file, new or an earlier one of its kind. Errors: JR-009 (cannot write), JR-011 (something else is
// there).
Result<void> write_sarif(const Audit& audit, const std::string& path, Overwrite overwrite = Overwrite::own_kind);

}  // namespace juniper
