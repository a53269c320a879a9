#include "loading/inputs.h"

#include <fmt/format.h>

#include <algorithm>
#include <filesystem>

#include "base/diagnostics.h"
#include "loading/signature.h"
#include "model/access.h"
#include "source/source.h"

namespace juniper::loading {

using namespace language;

bool is_input(const Model& model, const std::string& path) {
  if (path.empty()) return false;
  std::error_code error;
  const auto is_it = [&](const std::filesystem::path& other) {
    return std::filesystem::equivalent(path, other, error);
  };
  const std::vector<ModelText> texts = model.texts();
  if (std::any_of(texts.begin(), texts.end(), [&](const ModelText& text) { return is_it(text.name); })) return true;
  const CheckedModel& checked = model::checked(model);
  for (TableIndex t = 0; t < checked.tables.size(); ++t) {
    if (checked.tables[t].rows) continue;
    const auto files = source::find_files(table_request(checked, t));
    if (files && std::any_of(files->begin(), files->end(), is_it)) return true;
  }
  return false;
}

Result<void> may_be_output(const Model& model, const std::string& path) {
  if (!is_input(model, path)) return {};
  return tl::unexpected(
      base::error("JR-011", fmt::format("{} is read for this, and is not replaced", path), "name another file"));
}

}  // namespace juniper::loading
