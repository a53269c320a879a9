// The way to the live tables of a dataset.
#pragma once

#include <memory>

#include "engine/asked/live_tables.h"
#include "language/checked.h"

namespace juniper::live {

// Nothing where no table of the model is live.
std::shared_ptr<const engine::LiveAsker> asker_of(const language::CheckedModel& model);

}  // namespace juniper::live
