// From a question's text to what the engine runs.
#pragma once

#include "engine/program.h"
#include "juniper/ask.h"

namespace juniper::engine {

// A question checked against a model. The model is a copy that also holds the question's texts.
struct Prepared {
  language::CheckedModel model;
  language::Query query;
  Diagnostics warnings;
};
Result<Prepared> prepare(const Model& model, const Question& question);

// The parts of a dataset that programs read. The dataset must outlive it.
Source source_of(const Dataset& dataset);

}  // namespace juniper::engine
