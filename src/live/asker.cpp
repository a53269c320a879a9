#include "live/asker.h"

#include <algorithm>

#include "live/question.h"

namespace juniper::live {

namespace {

class Asker final : public engine::LiveAsker {
 public:
  std::unique_ptr<engine::LiveTables> ask(const engine::Source& source, store::Store& store) const override {
    return std::make_unique<Question>(source, store);
  }
};

}  // namespace

std::shared_ptr<const engine::LiveAsker> asker_of(const language::CheckedModel& model) {
  const bool has_live = std::any_of(model.tables.begin(), model.tables.end(),
                                    [](const language::Table& table) { return table.is_live(); });
  return has_live ? std::make_shared<const Asker>() : nullptr;
}

}  // namespace juniper::live
