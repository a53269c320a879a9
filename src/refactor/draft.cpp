#include "juniper/draft.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/diagnostics.h"
#include "base/failure.h"
#include "base/replace_files.h"
#include "language/lexer.h"
#include "language/parser.h"
#include "language/traverse.h"
#include "model/access.h"
#include "model/hidden.h"
#include "refactor/narrowing.h"
#include "refactor/text_edits.h"

namespace juniper {

namespace {

using namespace language;

constexpr int runs = 3;  // of each query, base and draft in turn

std::int64_t median(std::vector<std::int64_t> times) {
  std::sort(times.begin(), times.end());
  return times[times.size() / 2];
}

// A measure that is new has no other side.
Result<DraftedQuery> run_new(const Dataset& dataset, const std::string& query, const std::string& text) {
  auto draft = ask(dataset, {query, {}, {text}});
  if (!draft) return tl::unexpected(draft.error());
  DraftedQuery made;
  made.query = query;
  made.draft_nanoseconds = draft->nanoseconds;
  made.draft = std::move(*draft);
  return made;
}

Result<DraftedQuery> run_both(const Dataset& dataset, const std::string& query, const std::string& text) {
  DraftedQuery made;
  made.query = query;
  std::vector<std::int64_t> base_times;
  std::vector<std::int64_t> draft_times;
  for (int run = 0; run < runs; ++run) {
    auto base = ask(dataset, {query});
    if (!base) return tl::unexpected(base.error());
    auto draft = ask(dataset, {query, {}, {text}});
    if (!draft) return tl::unexpected(draft.error());
    base_times.push_back(base->nanoseconds);
    draft_times.push_back(draft->nanoseconds);
    made.base = std::move(*base);
    made.draft = std::move(*draft);
  }
  made.base_nanoseconds = median(base_times);
  made.draft_nanoseconds = median(draft_times);
  made.comparison = compare(made.base, made.draft);
  return made;
}

}  // namespace

bool Draft::same() const {
  return std::all_of(queries.begin(), queries.end(), [](const DraftedQuery& q) { return q.comparison.same(); });
}

Result<Draft> draft(const Dataset& dataset, const std::string& text, const std::vector<std::string>& queries) {
  if (auto may = model::for_everybody(model::checked(dataset.model()), "a draft"); !may)
    return tl::unexpected(may.error());

  return base::guarded([&]() -> Result<Draft> {
    Sources texts;
    Diagnostics problems;
    const std::uint32_t file = texts.add({"<draft>", text});
    const syntax::Measure measure = parse_measure(texts, file, problems);
    if (has_errors(problems)) return tl::unexpected(std::move(problems));
    const CheckedModel& model = model::checked(dataset.model());
    Draft made;
    made.measure = measure.name.text;
    made.definition = texts.text(measure.expression->span);
    const auto present = model.find_measure(made.measure);
    if (present) made.before = model.sources.text(model.measures[*present].expression->span);
    std::vector<std::string> asked = queries;
    if (asked.empty() && present) {
      for (const Query& query : model.queries) {
        if (query.variant) continue;  // it has definitions of its own
        bool depends = false;
        each_definition(model, query, [&](const Definition& part) {
          depends = depends || measures_in(model, part.expression).contains(*present);
        });
        if (depends) asked.push_back(query.name);
      }
    }
    for (const std::string& query : asked) {
      auto both = present ? run_both(dataset, query, text) : run_new(dataset, query, text);
      if (!both) return tl::unexpected(both.error());
      made.queries.push_back(std::move(*both));
    }
    // The definition must hold even where no query shows it.
    if (asked.empty()) {
      if (const auto answer = ask(dataset, {"show " + written_name(made.measure), {}, {text}}); !answer)
        return tl::unexpected(answer.error());
    }
    if (present && !made.same())
      made.narrowing = refactoring::narrow({dataset, dataset, {text}, "with the draft"}, made.measure);
    return made;
  });
}

Result<void> keep(const Dataset& dataset, const Draft& draft) {
  return base::guarded([&]() -> Result<void> {
    const CheckedModel& model = model::checked(dataset.model());
    const auto present = model.find_measure(draft.measure);
    if (const Disabled* const disabled = model.find_disabled(DefinitionKind::measure, draft.measure)) {
      return tl::unexpected(Diagnostics{
          model.sources.diagnostic(Severity::error, "JR-806", disabled->span,
                                   fmt::format("the measure '{}' stands here already, and is disabled", draft.measure),
                                   fmt::format("write the draft's definition here: {}", draft.definition))});
    }
    const std::uint32_t file = present ? model.measures[*present].expression->span.file : 0;
    const SourceText& source = model.sources[file];
    std::string after = source.text;
    if (present) {
      refactoring::TextEdits edits;
      edits.replace(model.measures[*present].expression->span, draft.definition);
      after = edits.apply(source.text, {file, 0, static_cast<std::uint32_t>(source.text.size())});
    } else {
      if (!after.empty() && after.back() != '\n') after += '\n';
      after += fmt::format("measure {} = {}\n", written_name(draft.measure), draft.definition);
    }
    return base::replace_file({source.name, source.text, after});
  });
}

}  // namespace juniper
