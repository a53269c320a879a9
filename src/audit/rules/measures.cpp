// Measures that nothing names, and measures with one meaning under two names.
#include <fmt/format.h>

#include <map>

#include "audit/rules.h"
#include "language/check.h"
#include "language/lexer.h"

namespace juniper::auditing {

using namespace language;

namespace {

// The measures that a definition or a saved query names.
std::set<MeasureIndex> named_measures(const CheckedModel& model) {
  std::set<MeasureIndex> named;
  const auto look = [&](const NodePtr& node) {
    walk(node, [&](const Node& n) {
      if (n.op == Op::measure) named.insert(n.measure);
    });
  };
  for (const Measure& measure : model.measures) look(measure.expression);
  for (const Table& table : model.tables) {
    for (const Column& column : table.columns) look(column.expression);
    walk(table.rows, [&](const Node& n) {
      if (n.op == Op::measure) named.insert(n.measure);
    });
  }
  for (const Query& query : model.queries) {
    // A query with drafts stands in a model of its own, whose measures bear the same names.
    const CheckedModel& own = query.variant ? *query.variant : model;
    const auto look_in = [&](const NodePtr& node) {
      walk(node, [&](const Node& n) {
        if (n.op != Op::measure) return;
        if (const auto at = model.find_measure(own.measures[n.measure].name)) named.insert(*at);
      });
    };
    for (const QueryShow& item : query.show) look_in(item.expression);
    for (const NodePtr& condition : query.where) look_in(condition);
    if (!query.variant) continue;
    for (const Measure& measure : own.measures) look_in(measure.expression);
  }
  return named;
}

}  // namespace

void find_unused_measures(const Subject& subject, Findings& findings) {
  const CheckedModel& model = subject.model();
  const std::set<MeasureIndex> named = named_measures(model);
  for (MeasureIndex m = 0; m < model.measures.size(); ++m) {
    const Measure& measure = model.measures[m];
    if (named.contains(m) || !measure.used_by.empty()) continue;
    findings.push_back(subject.with_step(
        subject.about(measure.name, measure.name_span, "no definition and no saved query names it", ""),
        "drop " + written_name(measure.name)));
  }
}

void find_equal_measures(const Subject& subject, Findings& findings) {
  const CheckedModel& model = subject.model();
  std::map<std::string, const Measure*> first;
  for (const Measure& measure : model.measures) {
    // A second name for a measure, on purpose, says so.
    if (measure.expression->op == Op::measure) continue;
    const auto [at, fresh] = first.try_emplace(canonical(model, measure.expression, OuterRows::by_order), &measure);
    if (fresh) continue;
    findings.push_back(subject.about(measure.name, measure.name_span,
                                     fmt::format("it is defined as {} is", at->second->name),
                                     fmt::format("name one by the other: measure {} = {}", written_name(measure.name),
                                                 written_name(at->second->name))));
  }
}

}  // namespace juniper::auditing
