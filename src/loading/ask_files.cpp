// Questions that are answered from the files themselves.
#include "base/failure.h"
#include "engine/asked/watch.h"
#include "engine/naive/naive.h"
#include "engine/query/ask.h"
#include "juniper/ask.h"
#include "loading/file_data.h"
#include "loading/loader.h"

namespace juniper {

Result<QueryResult> ask_files(const Model& model, const Question& question, const Options& options) {
  return base::guarded([&]() -> Result<QueryResult> {
    if (!model.options().reader.empty()) {
      return tl::unexpected(base::error("JR-223", "files hold what everybody sees: no reader is asked for there",
                                        "ask the store: leave --from-sources out"));
    }
    const auto prepared = engine::prepare(model, question);
    if (!prepared) return tl::unexpected(prepared.error());
    const engine::Watch watch(options);
    const engine::Setting setting{loading::today_of(options)};
    loading::FileData data(*prepared->model, setting, [&] { watch.check(); });
    auto result = engine::run_query_naively(*prepared->model, data, setting, prepared->query);
    if (result) result->warnings = prepared->warnings;
    return result;
  });
}

}  // namespace juniper
