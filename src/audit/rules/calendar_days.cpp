// Days that the calendar lacks.
#include "audit/rules.h"
#include "engine/asked/calendar_gaps.h"

namespace juniper::auditing {

using namespace language;

void find_calendar_gaps(const Subject& subject, Findings& findings) {
  const CheckedModel& model = subject.model();
  for (const Diagnostic& gap : engine::calendar_gaps(model, store::store_of(subject.dataset())))
    findings.push_back(
        subject.about(model.column_name(model.calendar->day), model.calendar->span, gap.message, gap.suggestion));
}

}  // namespace juniper::auditing
