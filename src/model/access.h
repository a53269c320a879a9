// The checked tree of a model, which users of the library do not see.
#pragma once

#include "juniper/model.h"
#include "language/checked.h"

namespace juniper::model {

struct Access {
  static const language::CheckedModel& checked(const Model& model) { return *model.checked_; }
};

inline const language::CheckedModel& checked(const Model& model) {
  return Access::checked(model);
}

}  // namespace juniper::model
