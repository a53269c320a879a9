#include "model/hidden.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/diagnostics.h"
#include "language/traverse.h"

namespace juniper::model {

using namespace language;

namespace {

class HiddenThings {
 public:
  HiddenThings(const CheckedModel& model, const Reader& reader) : model_(model), reader_(reader) {}

  // `own`: the model in which the definition's names stand.
  void look(const Definition& definition) {
    const CheckedModel& own = *definition.model;
    each_mention(definition, [&](const Mention& mention) {
      const auto& columns = reader_.hidden_columns;
      if (mention.column && std::find(columns.begin(), columns.end(), *mention.column) != columns.end())
        tell(own, mention.span, model_.column_name(*mention.column));
      if (mention.measure && reader_.hidden_measures.contains(own.measures[*mention.measure].name))
        tell(own, mention.span, own.measures[*mention.measure].name);
    });
  }
  Diagnostics finish() { return std::move(problems_); }

 private:
  void tell(const CheckedModel& own, Span span, const std::string& what) {
    problems_.push_back(own.sources.diagnostic(Severity::error, "JR-222", span,
                                               fmt::format("'{}' is hidden from the reader {}", what, reader_.name),
                                               "ask for something else"));
  }

  const CheckedModel& model_;
  const Reader& reader_;
  Diagnostics problems_;
};

Definition of(const CheckedModel& model, const NodePtr& expression) {
  Definition definition;
  definition.model = &model;
  definition.expression = expression;
  return definition;
}

}  // namespace

Result<void> act_as(CheckedModel& model, const std::string& name) {
  std::vector<std::string> names;
  for (const Reader& reader : model.readers) names.push_back(reader.name);
  const auto at = std::find(names.begin(), names.end(), name);
  if (at == names.end()) {
    return tl::unexpected(
        base::error("JR-223", fmt::format("the model has no reader '{}'", name), base::did_you_mean(name, names)));
  }
  model.acting = static_cast<std::uint32_t>(at - names.begin());
  std::erase_if(model.queries, [&](const Query& query) {
    Diagnostics problems = hidden_mentions(model, query);
    if (problems.empty()) return false;
    model.not_for_reader.push_back({DefinitionKind::query, "", query.name, query.span, std::move(problems)});
    return true;
  });
  return {};
}

Diagnostics hidden_mentions(const CheckedModel& model, const Query& query) {
  const Reader* const reader = model.acting_reader();
  if (reader == nullptr) return {};
  HiddenThings hidden(model, *reader);
  each_definition(model, query, [&](const Definition& definition) { hidden.look(definition); });
  const CheckedModel& own = query.variant ? *query.variant : model;
  for (const Measure& measure : own.measures) {
    if (measure.span.file >= model.files) hidden.look(of(own, measure.expression));
  }
  return hidden.finish();
}

bool is_hidden(const CheckedModel& model, ColumnId column) {
  const Reader* const reader = model.acting_reader();
  if (reader == nullptr) return false;
  const auto& hidden = reader->hidden_columns;
  return std::find(hidden.begin(), hidden.end(), column) != hidden.end();
}

Result<void> for_everybody(const CheckedModel& model, const char* what) {
  const Reader* const reader = model.acting_reader();
  if (reader == nullptr) return {};
  return tl::unexpected(base::error("JR-223", fmt::format("{} is not made for the reader {}", what, reader->name),
                                    "ask for it without a reader"));
}

Diagnostics hidden_below(const CheckedModel& model, const NodePtr& node) {
  const Reader* const reader = model.acting_reader();
  if (reader == nullptr) return {};
  HiddenThings hidden(model, *reader);
  hidden.look(of(model, node));
  for (const MeasureIndex m : measures_in(model, node)) hidden.look(of(model, model.measures[m].expression));
  return hidden.finish();
}

}  // namespace juniper::model
