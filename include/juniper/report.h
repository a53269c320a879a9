// What the library gives, as documents (juniper/document.h).
#pragma once

#include <cstdint>
#include <vector>

#include "juniper/ask.h"
#include "juniper/audit.h"
#include "juniper/baseline.h"
#include "juniper/dataset.h"
#include "juniper/describe.h"
#include "juniper/document.h"
#include "juniper/draft.h"
#include "juniper/explain.h"
#include "juniper/export.h"
#include "juniper/links.h"
#include "juniper/overview.h"
#include "juniper/overwrite.h"
#include "juniper/refactor.h"
#include "juniper/replay.h"
#include "juniper/scan.h"
#include "juniper/sql.h"
#include "juniper/unfold.h"
#include "juniper/weigh.h"

namespace [[gnu::visibility("default")]] juniper {

// Each result as a document.
Report report(const LoadReport& load);
Report report(const Scan& scan);
Report report(const Export& written);
Report report(const Verification& verification);
// By which figure the parts of a store are sorted, the largest first; `uses`: by bytes for each logged query.
enum class WeighOrder : std::uint8_t { bytes, name, rows, distinct, nulls, bits, uses };
struct WeighView {
  WeighOrder sort = WeighOrder::bytes;
  std::size_t top = 0;  // the first n parts; 0: all
};
Report report(const Weighing& weighing, const WeighView& view = {});
Report report(const WeightChanges& changes, std::size_t top = 0);  // the first n parts; 0: all
Report report(const LinkReport& links);
Report report(const Audit& audit);
Report report(const std::vector<Description>& descriptions);
Report report(const QueryResult& result);
// Renders an answer of any length, whose rows are made as they are rendered; otherwise as its document is.
void render(const QueryResult& result, const RenderOptions& options, const Sink& sink);
Report report(const Explanation& explanation);
Report report(const Unfolding& unfolding);
Report report(const Agreement& agreement);
Report report(const Draft& draft);
Report report(const Refactoring& refactoring);
Report report(const BaselineReport& baseline);
Report report(const CheckReport& check);
Report report(const ReplayReport& replay);
// A file that was written.
struct WrittenFile {
  std::string path;
  std::uint64_t bytes = 0;
};
Report report(const WrittenFile& file);

// A page for somebody who reads no terminal: HTML in one file, which opens from the disk and asks nothing of any network.
// Every text in it is escaped; what it runs and how it looks it allows by hash (Content-Security-Policy).
void render_page(const Overview& overview, const Sink& sink);
// The same into a file, new or an earlier page. Gives its bytes. Errors: JR-009 (cannot write), JR-011 (something else is
// there).
Result<std::uint64_t> write_page(const Overview& overview, const std::string& path,
                                 Overwrite overwrite = Overwrite::own_kind);

}  // namespace juniper
