// What a model is read from, which no output may take the place of.
#pragma once

#include <string>

#include "juniper/model.h"

namespace juniper::loading {

// Whether a path leads to a text of the model or to one of its source files.
bool is_input(const Model& model, const std::string& path);

// JR-011 where it does; whatever --force says.
Result<void> may_be_output(const Model& model, const std::string& path);

}  // namespace juniper::loading
