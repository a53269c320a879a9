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
// outlive it. Throws a base::Failure with JR-714 where tables are live.
Source source_of(const Dataset& dataset, const Watch* watch = nullptr);
Source source_of(const Dataset& dataset, const language::CheckedModel& model, const Watch* watch);

// The same for one question, which may be of live tables, too.
class QuestionSource {
 public:
  QuestionSource(const Dataset& dataset, const language::CheckedModel& model, const Watch* watch);
  QuestionSource(const QuestionSource&) = delete;
  QuestionSource& operator=(const QuestionSource&) = delete;
  ~QuestionSource();

  const Source& get() const { return source_; }

 private:
  // Where tables are live, a copy of the dataset's store, which gets the rows that have to be fetched.
  std::optional<store::Store> own_;
  Source source_;
  std::unique_ptr<LiveTables> live_;
};

}  // namespace juniper::engine
