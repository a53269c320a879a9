#include "juniper/ask.h"

#include <fmt/format.h>

#include <iterator>

#include "base/diagnostics.h"
#include "base/failure.h"
#include "engine/asked/calendar_gaps.h"
#include "engine/asked/live_tables.h"
#include "engine/naive/naive.h"
#include "engine/query/ask.h"
#include "engine/query/query.h"
#include "engine/query/unread_texts.h"
#include "language/check.h"
#include "language/parser.h"
#include "model/access.h"
#include "model/hidden.h"
#include "model/syntax_of.h"
#include "store/of_dataset.h"

namespace juniper {

namespace engine {

Source source_of(const Dataset& dataset, const Watch* watch) {
  return source_of(dataset, model::checked(dataset.model()), watch);
}
Source source_of(const Dataset& dataset, const language::CheckedModel& model, const Watch* watch) {
  return {model, store::store_of(dataset), Setting{dataset.options().today.value_or(0)}, dataset.options().threads,
          watch};
}

QuestionSource::QuestionSource(const Dataset& dataset, const language::CheckedModel& model, const Watch* watch)
    : own_(store::live_of(dataset) ? std::optional(store::loaded_store_of(dataset)) : std::nullopt),
      source_{model, own_ ? *own_ : store::loaded_store_of(dataset), Setting{dataset.options().today.value_or(0)},
              dataset.options().threads, watch} {
  if (own_) live_ = store::live_of(dataset)->ask(source_, *own_);
  source_.live = live_.get();
}
QuestionSource::~QuestionSource() = default;

namespace {

// True for one word: the name of a saved query rather than a query's clauses.
bool is_name(const std::string& text) {
  return text.find_first_of(" \t\n") == std::string::npos;
}

}  // namespace

Result<Prepared> prepare(const Model& model, const Question& question) {
  if (question.where.empty() && question.drafts.empty()) {
    if (const language::Query* saved = model::checked(model).find_query(question.query))
      return Prepared{saved->variant ? saved->variant : model::shared_checked(model), *saved, {}};
  }
  Prepared prepared;
  const auto copy = std::make_shared<language::CheckedModel>(model::checked(model));
  language::CheckedModel& checked = *copy;
  prepared.model = copy;
  Diagnostics diagnostics;
  std::vector<language::syntax::ExpressionPtr> conditions;
  std::vector<const language::syntax::Expression*> further;
  for (const std::string& text : question.where) {
    const std::uint32_t file = checked.sources.add({"<where>", text});
    if (auto condition = language::parse_expression(checked.sources, file, diagnostics)) {
      further.push_back(condition.get());
      conditions.push_back(std::move(condition));
    }
  }
  std::vector<language::syntax::Measure> drafts;
  for (const std::string& text : question.drafts) {
    const std::uint32_t file = checked.sources.add({"<draft>", text});
    drafts.push_back(language::parse_measure(checked.sources, file, diagnostics));
  }
  language::syntax::Query parsed;
  if (const language::Query* saved = checked.find_query(question.query)) {
    // The saved query is read again together with what is added to it, so that they are checked as one.
    Diagnostics ignored;
    language::syntax::Model again = language::parse_model(checked.sources, saved->span.file, ignored);
    for (auto& candidate : again.queries) {
      if (candidate.name && candidate.name->text == saved->name) parsed = std::move(candidate);
    }
  } else if (is_name(question.query)) {
    for (const language::Disabled& query : checked.not_for_reader) {
      if (query.name == question.query) return tl::unexpected(query.problems);
    }
    if (const auto* const disabled = checked.find_disabled(language::DefinitionKind::query, question.query))
      return tl::unexpected(disabled->problems);
    return tl::unexpected(base::error("JR-702", fmt::format("there is no saved query '{}'", question.query),
                                      base::did_you_mean(question.query, names_of(model.queries()))));
  } else {
    const std::uint32_t file = checked.sources.add({"<query>", question.query});
    parsed = language::parse_query(checked.sources, file, diagnostics);
  }
  if (has_errors(diagnostics)) return tl::unexpected(std::move(diagnostics));
  std::move(parsed.drafts.begin(), parsed.drafts.end(), std::back_inserter(drafts));
  if (!drafts.empty()) {
    // A query with definitions of its own is asked of the model that has them.
    language::Reading reading{model.options().settings, {}};
    for (const auto& draft : drafts) reading.drafts.push_back(&draft);
    Diagnostics known;
    auto text = model::parse_all(checked.sources, checked.files, known);
    text.queries.clear();
    const std::uint32_t files = checked.files;
    const std::string reader = checked.acting ? checked.readers[*checked.acting].name : "";
    const language::Sources sources = checked.sources;
    checked = checked.disabled.empty() ? language::check_model(text, sources, reading, diagnostics)
                                       : language::check_what_holds(text, sources, reading, known);
    if (has_errors(known)) diagnostics.insert(diagnostics.end(), known.begin(), known.end());
    checked.files = files;
    if (has_errors(diagnostics)) return tl::unexpected(std::move(diagnostics));
    if (!reader.empty()) {
      if (auto acts = model::act_as(checked, reader); !acts) return tl::unexpected(acts.error());
    }
  }
  parsed.drafts.clear();
  prepared.query = language::check_query(checked, parsed, further, diagnostics);
  if (!has_errors(diagnostics)) {
    const Diagnostics hidden = model::hidden_mentions(checked, prepared.query);
    diagnostics.insert(diagnostics.end(), hidden.begin(), hidden.end());
  }
  if (model.options().strict) {
    for (Diagnostic& diagnostic : diagnostics) diagnostic.severity = Severity::error;
  }
  if (has_errors(diagnostics)) return tl::unexpected(std::move(diagnostics));
  prepared.warnings = std::move(diagnostics);
  return prepared;
}

}  // namespace engine

std::optional<std::size_t> QueryResult::find(std::string_view column) const {
  for (std::size_t c = 0; c < columns.size(); ++c) {
    if (columns[c].name == column) return c;
  }
  return std::nullopt;
}

const Value* QueryResult::cell(std::size_t row, std::string_view column) const {
  const auto place = find(column);
  return place ? &rows[row].cells[*place] : nullptr;
}

std::optional<double> QueryResult::number(std::size_t row, std::string_view column) const {
  const auto place = find(column);
  return place ? to_double(rows[row].cells[*place], columns[*place].type) : std::nullopt;
}

std::optional<std::string> QueryResult::text(std::size_t row, std::string_view column) const {
  const auto place = find(column);
  return place ? std::optional(to_text(rows[row].cells[*place], columns[*place].type)) : std::nullopt;
}

std::string_view to_string(ExplainWay way) {
  switch (way) {
    case ExplainWay::query:
      return "query";
    case ExplainWay::scan:
      return "scan";
    case ExplainWay::grouped:
      return "grouped";
    case ExplainWay::ranged:
      return "ranged";
    case ExplainWay::loop:
      return "loop";
    case ExplainWay::rows:
      return "rows";
    case ExplainWay::candidates:
      return "candidates";
    case ExplainWay::row_by_row:
      return "row by row";
  }
  return "";
}

Result<Explanation> explain(const Dataset& dataset, const Question& question) {
  return base::guarded([&]() -> Result<Explanation> {
    const auto prepared = engine::prepare(dataset.model(), question);
    if (!prepared) return tl::unexpected(prepared.error());
    const engine::Watch watch(dataset.options());
    const engine::QuestionSource source(dataset, *prepared->model, &watch);
    return engine::explain_query(source.get(), prepared->query, dataset.options().threads);
  });
}

Result<QueryResult> ask(const Dataset& dataset, const Question& question) {
  return base::guarded([&]() -> Result<QueryResult> {
    const auto prepared = engine::prepare(dataset.model(), question);
    if (!prepared) return tl::unexpected(prepared.error());
    const engine::Watch watch(dataset.options());
    const engine::QuestionSource asked(dataset, *prepared->model, &watch);
    const engine::Source& source = asked.get();
    if (question.plan == Plan::naive) store::store_of(dataset);  // which it reads row by row
    engine::naive::StoreData data(source);
    auto result = question.plan == Plan::naive
                      ? engine::run_query_naively(*prepared->model, data, source.setting, prepared->query)
                      : engine::run_query(source, prepared->query, dataset.options().threads);
    if (!result) return result;
    result->warnings = prepared->warnings;
    Diagnostics notes = engine::unread_texts(source, prepared->query, dataset.options().threads);
    if (engine::moves_in_time(*prepared->model, prepared->query)) {
      for (Diagnostic& gap : engine::calendar_gaps(*prepared->model, source.store)) notes.push_back(std::move(gap));
    }
    if (dataset.model().options().strict && !notes.empty()) {
      for (Diagnostic& warning : notes) warning.severity = Severity::error;
      return tl::unexpected(std::move(notes));
    }
    result->warnings.insert(result->warnings.end(), notes.begin(), notes.end());
    return result;
  });
}

}  // namespace juniper
