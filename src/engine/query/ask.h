// From a question's text to what the engine runs.
#pragma once

#include <memory>

#include "engine/asked/watch.h"
#include "engine/program/program.h"
#include "juniper/ask.h"

namespace juniper::engine {

// A question checked against a model.
struct Prepared {
  std::shared_ptr<const language::CheckedModel>
      model;  // where the question has texts of its own, a copy that holds them
  language::Query query;
  Diagnostics warnings;
};
Result<Prepared> prepare(const Model& model, const Question& question);

// The parts of a dataset that programs read, with its model or another one for the same store. What is given must
// outlive it.
Source source_of(const Dataset& dataset, const Watch* watch = nullptr);
Source source_of(const Dataset& dataset, const language::CheckedModel& model, const Watch* watch);

}  // namespace juniper::engine
