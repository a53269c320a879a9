#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/diagnostics.h"
#include "model/access.h"
#include "refactor/steps.h"

namespace juniper::refactoring {

using namespace language;

Result<ColumnId> find_column(const CheckedModel& model, const Step& step) {
  const auto fail = [&](std::string message, std::string fix) {
    return tl::unexpected(base::error("JR-801", std::move(message), std::move(fix)));
  };
  const auto table = model.find_table(step.table);
  if (!table) {
    std::vector<std::string> names;
    for (const Table& t : model.tables) names.push_back(t.name);
    return fail(fmt::format("there is no table '{}'", step.table), base::did_you_mean(step.table, names));
  }
  const auto column = model.tables[*table].find(step.column);
  if (!column) {
    std::vector<std::string> names;
    for (const Column& c : model.tables[*table].columns) names.push_back(c.name);
    return fail(fmt::format("there is no column '{}' in table '{}'", step.column, step.table),
                base::did_you_mean(step.column, names));
  }
  return ColumnId{*table, *column};
}

Result<TableIndex> find_source_table(const Model& read, const Step& step) {
  const CheckedModel& model = model::checked(read);
  const auto table = model.find_table(step.table);
  if (!table) {
    return tl::unexpected(base::error("JR-801", fmt::format("there is no table '{}'", step.table),
                                      base::did_you_mean(step.table, names_of(read.tables()))));
  }
  if (model.tables[*table].rows) {
    return tl::unexpected(Diagnostics{model.sources.diagnostic(
        Severity::error, "JR-802", model.tables[*table].name_span,
        fmt::format("{} is a calculated table, and holds what it is made of", step.table), "")});
  }
  return *table;
}

Result<void> keep_captured(const Model& before, const Model& after, const Step& step) {
  std::set<std::uint32_t> known;
  for (const language::NotUnderstood& query : model::checked(before).not_understood) known.insert(query.captured);
  Diagnostics broken;
  for (const language::NotUnderstood& query : model::checked(after).not_understood) {
    if (!known.contains(query.captured)) broken.push_back(query.problem);
  }
  if (!broken.empty()) {
    Diagnostics errors = base::error(
        "JR-803",
        fmt::format("'{}' would break {}", step.text,
                    broken.size() == 1 ? "a captured query" : fmt::format("{} captured queries", broken.size())),
        "whoever asks it has to change it first");
    errors.insert(errors.end(), broken.begin(), broken.end());
    return tl::unexpected(std::move(errors));
  }
  return {};
}

namespace {

std::set<std::string> names_in(const language::CheckedModel& model) {
  std::set<std::string> names;
  for (const language::Table& table : model.tables) {
    names.insert(table.name);
    for (const language::Column& column : table.columns) names.insert(column.name);
  }
  for (const language::Measure& measure : model.measures) names.insert(measure.name);
  for (const language::Link& link : model.links) names.insert(link.role);
  return names;
}

// What the change would disable, and what is disabled already and names what the change takes away: nobody can tell
// what it means to say.
Diagnostics lost_by(const language::CheckedModel& before, const language::CheckedModel& after) {
  Diagnostics lost;
  for (const language::Disabled& disabled : after.disabled) {
    if (before.find_disabled(disabled.kind, disabled.name, disabled.table) == nullptr)
      lost.insert(lost.end(), disabled.problems.begin(), disabled.problems.end());
  }
  const std::set<std::string> left = names_in(after);
  for (const std::string& name : names_in(before)) {
    if (left.contains(name)) continue;
    for (const language::Disabled& disabled : before.disabled) {
      if (!disabled.names.contains(name)) continue;
      lost.push_back(before.sources.diagnostic(
          Severity::error, "JR-803", disabled.span,
          fmt::format("'{}' is disabled, and names {}, which would go", disabled.full_name(), name),
          "mend that definition first"));
    }
  }
  return lost;
}

}  // namespace

Result<Model> read_again(const Model& before, const std::vector<ModelText>& texts, const Step& step) {
  auto after = Model::parse(texts, before.options());
  const auto refuse = [&](const Diagnostics& reasons) {
    Diagnostics errors = base::error(
        "JR-803", fmt::format("'{}' would leave a text that does not hold together: {}", step.text, reasons[0].message),
        "change what is said below first");
    errors.insert(errors.end(), reasons.begin(), reasons.end());
    return tl::unexpected(std::move(errors));
  };
  if (!after) return refuse(after.error());
  Diagnostics fresh;
  for (const Diagnostic& warning : after->warnings()) {
    const auto same = [&](const Diagnostic& w) { return w.code == warning.code && w.message == warning.message; };
    if (std::none_of(before.warnings().begin(), before.warnings().end(), same)) fresh.push_back(warning);
  }
  if (!fresh.empty()) return refuse(fresh);
  const language::CheckedModel& was = model::checked(before);
  if (const Diagnostics lost = lost_by(was, model::checked(*after)); !lost.empty()) return refuse(lost);
  // What is right for one of its uses may be wrong for another.
  for (const language::ModelFunction& function : was.functions) {
    const language::ModelFunction* const is = model::checked(*after).find_function(function.name);
    if (is != nullptr && model::checked(*after).sources.text(is->span) == was.sources.text(function.span)) continue;
    return refuse({was.sources.diagnostic(Severity::error, "JR-803", function.span,
                                          fmt::format("the text of the function {} would change", function.name),
                                          "it stands in several places: change it by hand")});
  }
  if (auto kept = keep_captured(before, *after, step); !kept) return tl::unexpected(kept.error());
  return after;
}

Result<Applied> apply(const Model& model, const Step& step) {
  switch (step.verb) {
    case Verb::inline_column:
      return inline_column(model, step);
    case Verb::store:
      return store_expression(model, step);
    case Verb::split:
      return split_timestamp(model, step);
    case Verb::retype:
      return retype_column(model, step);
    case Verb::round:
      return round_column(model, step);
    case Verb::drop:
      return drop(model, step);
    case Verb::relink:
      return relink(model, step);
    case Verb::trim:
      return trim_table(model, step);
    case Verb::reorder:
      return reorder_table(model, step);
  }
  return Applied{};
}

}  // namespace juniper::refactoring
