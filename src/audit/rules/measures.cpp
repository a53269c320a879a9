// Measures that nothing names, and measures with one meaning under two names.
#include <fmt/format.h>

#include <map>

#include "audit/rules.h"
#include "language/lexer.h"

namespace juniper::auditing {

using namespace language;

void find_unused_measures(const Subject& subject, Findings& findings) {
  const CheckedModel& model = subject.model();
  for (MeasureIndex m = 0; m < model.measures.size(); ++m) {
    const Measure& measure = model.measures[m];
    if (!subject.uses().of_measure(m).empty()) continue;
    findings.push_back(
        subject.with_step(subject.about(measure.name, measure.name_span, "no definition and no query names it", ""),
                          "drop " + written_name(measure.name)));
    findings.back().unused = true;
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
