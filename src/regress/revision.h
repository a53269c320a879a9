// A model text as a git repository held it at some revision.
#pragma once

#include <string>
#include <vector>

#include "juniper/model.h"

namespace juniper::regress {

// The texts of a model at a revision, named as they are now. Includes are found by reading the text: what it includes
// at that revision. Errors: JR-908 (git is not there, knows no such revision, or does not hold the file), those of
// reading the texts.
Result<Model> model_at_revision(const std::string& path, const std::string& revision, const ReadOptions& options);

}  // namespace juniper::regress
