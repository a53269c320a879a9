#include "juniper/draft.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "base/diagnostics.h"
#include "base/exact.h"
#include "language/check.h"
#include "language/lexer.h"
#include "language/parser.h"
#include "refactor/text_edits.h"
#include "refactor/text_file.h"
#include "store/store.h"

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

// --- where a difference comes from ----------------------------------------------------------------------------------

double number(const Value& value, Type type) {
  switch (value.kind()) {
    case Value::Kind::exact:
      return base::to_real(value.exact(), type.scale);
    case Value::Kind::real:
      return value.real();
    default:
      return 0;
  }
}

struct ByValue {
  Value value;
  double difference = 0;
};

// The difference of draft and base for each value of a column, the largest first; nothing when the measure can't be
// shown by it.
std::optional<std::vector<ByValue>> differences_by(const Dataset& dataset, const std::string& column,
                                                   const std::string& measure, const std::string& text,
                                                   const std::vector<std::string>& where) {
  const std::string query = fmt::format("by {} as k show {} as m keep empty", column, written_name(measure));
  const auto base = ask(dataset, {query, where});
  const auto draft = ask(dataset, {query, where, {text}});
  if (!base || !draft) return std::nullopt;
  std::vector<ByValue> found;
  const auto add = [&](const QueryResult& result, double sign) {
    for (const ResultRow& row : result.rows) {
      auto at = std::find_if(found.begin(), found.end(), [&](const ByValue& b) { return b.value == row.cells[0]; });
      if (at == found.end()) at = found.insert(found.end(), {row.cells[0], 0});
      at->difference += sign * number(row.cells[1], result.columns[1].type);
    }
  };
  add(*draft, 1);
  add(*base, -1);
  std::stable_sort(found.begin(), found.end(),
                   [](const ByValue& a, const ByValue& b) { return std::abs(a.difference) > std::abs(b.difference); });
  return found;
}

std::string literal(const Value& value, Type type) {
  const std::string text = to_text(value, type);
  switch (type.kind) {
    case TypeKind::text:
      return written_text(text);
    case TypeKind::date:
    case TypeKind::datetime:
    case TypeKind::time:
      return fmt::format("{} \"{}\"", to_string(type), text);
    default:
      return text;
  }
}

class SourceFinder {
 public:
  SourceFinder(const Dataset& dataset, const std::string& measure, const std::string& text)
      : dataset_(dataset), model_(dataset.model().checked()), measure_(measure), text_(text) {}

  std::vector<DraftSource> find() {
    std::vector<DraftSource> sources;
    for (int depth = 0; depth < deepest; ++depth) {
      if (!add_source(sources)) break;
    }
    return sources;
  }

 private:
  static constexpr int deepest = 3;
  static constexpr std::uint64_t most_values = 1000;  // of a column that is looked at
  static constexpr std::size_t most_carriers = 5;     // of values that carry the difference
  static constexpr double nearly_all = 0.95;

  struct Candidate {
    DraftSource source;
    std::string condition;
    double part = 1;  // of the column's values that carry the difference
  };

  // Of all columns that are not yet used, the one of whose values the smallest part carries nearly all of the
  // difference.
  bool add_source(std::vector<DraftSource>& sources) {
    std::optional<Candidate> best;
    for (TableIndex t = 0; t < model_.tables.size(); ++t) {
      for (std::uint32_t c = 0; c < model_.tables[t].columns.size(); ++c) {
        const store::Column& column = dataset_.store().tables[t].columns[c].data;
        if (column.distinct < 2 || column.distinct > most_values || column.type.kind == TypeKind::real) continue;
        const std::string name =
            written_name(model_.tables[t].name) + "." + written_name(model_.tables[t].columns[c].name);
        if (std::any_of(sources.begin(), sources.end(), [&](const DraftSource& s) { return s.column == name; }))
          continue;
        const auto candidate = look_at(name, column.type);
        if (candidate && (!best || candidate->part < best->part)) best = candidate;
      }
    }
    if (!best) return false;
    conditions_.push_back(best->condition);
    sources.push_back(best->source);
    return true;
  }

  std::optional<Candidate> look_at(const std::string& column, Type type) const {
    const auto found = differences_by(dataset_, column, measure_, text_, conditions_);
    if (!found || found->size() < 2) return std::nullopt;
    double all = 0;
    for (const ByValue& b : *found) all += std::abs(b.difference);
    if (all == 0) return std::nullopt;
    Candidate made;
    made.source.column = column;
    made.source.of_values = found->size();
    double carried = 0;
    std::string list;
    bool null = false;
    for (const ByValue& b : *found) {
      if (carried >= nearly_all * all) break;
      if (made.source.values.size() == most_carriers) return std::nullopt;
      carried += std::abs(b.difference);
      const bool is_null = b.value.is_null();
      made.source.values.push_back(fmt::format("{}: {:+.6g}", is_null ? "null" : to_text(b.value, type), b.difference));
      if (is_null) {
        null = true;
      } else {
        list += (list.empty() ? "" : ", ") + literal(b.value, type);
      }
    }
    made.source.share = carried / all;
    made.part = static_cast<double>(made.source.values.size()) / static_cast<double>(found->size());
    if (made.part > 0.5) return std::nullopt;  // spread over its values: it tells nothing
    if (!list.empty()) made.condition = fmt::format("{} in ({})", column, list);
    if (null) made.condition += fmt::format("{}{} is null", list.empty() ? "" : " or ", column);
    return made;
  }

  const Dataset& dataset_;
  const CheckedModel& model_;
  const std::string& measure_;
  const std::string& text_;
  std::vector<std::string> conditions_;
};

}  // namespace

bool Draft::same() const {
  return std::all_of(queries.begin(), queries.end(), [](const DraftedQuery& q) { return q.comparison.same(); });
}

Result<Draft> draft(const Dataset& dataset, const std::string& text, const std::vector<std::string>& queries) {
  Sources texts;
  Diagnostics problems;
  const std::uint32_t file = texts.add({"<draft>", text});
  const syntax::Measure measure = parse_measure(texts, file, problems);
  if (has_errors(problems)) return tl::unexpected(std::move(problems));
  const CheckedModel& model = dataset.model().checked();
  Draft made;
  made.measure = measure.name.text;
  made.definition = texts.text(measure.expression->span);
  const auto present = model.find_measure(made.measure);
  if (present) made.before = model.sources.text(model.measures[*present].expression->span);
  std::vector<std::string> asked = queries;
  if (asked.empty() && present) {
    for (const Query& query : model.queries) {
      if (query.variant) continue;  // it has definitions of its own
      bool depends = query.having && measures_in(model, query.having).contains(*present);
      for (const QueryShow& item : query.show)
        depends = depends || measures_in(model, item.expression).contains(*present);
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
  if (present && !made.same() && model.measures[*present].expression->type.is_number())
    made.sources = SourceFinder(dataset, made.measure, text).find();
  return made;
}

Result<void> keep(const Dataset& dataset, const Draft& draft) {
  const CheckedModel& model = dataset.model().checked();
  const auto present = model.find_measure(draft.measure);
  const std::uint32_t file = present ? model.measures[*present].expression->span.file : 0;
  const SourceText& source = model.sources[file];
  std::string after = source.text;
  if (present) {
    refactor::TextEdits edits;
    edits.replace(model.measures[*present].expression->span, draft.definition);
    after = edits.apply(source.text);
  } else {
    if (!after.empty() && after.back() != '\n') after += '\n';
    after += fmt::format("measure {} = {}\n", written_name(draft.measure), draft.definition);
  }
  return refactor::replace_text(source.name, source.text, after);
}

}  // namespace juniper
