// The checked tree of a model, which users of the library do not see.
#pragma once

#include "juniper/model.h"
#include "language/checked.h"

namespace juniper::model {

struct Access {
  static const std::shared_ptr<const language::CheckedModel>& checked(const Model& model) { return model.checked_; }
};

inline const language::CheckedModel& checked(const Model& model) {
  return *Access::checked(model);
}
// The same, to be kept beyond the model's life.
inline std::shared_ptr<const language::CheckedModel> shared_checked(const Model& model) {
  return Access::checked(model);
}

}  // namespace juniper::model
