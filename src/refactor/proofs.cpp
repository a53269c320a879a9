#include "refactor/proofs.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/calendar.h"
#include "base/exact.h"
#include "base/failure.h"
#include "engine/query/ask.h"
#include "engine/query/rows.h"
#include "language/lexer.h"
#include "model/access.h"
#include "refactor/row_compare.h"
#include "refactor/row_identity.h"
#include "source/column_input.h"
#include "store/of_dataset.h"
#include "store/store.h"

namespace juniper::refactoring {

namespace {

using namespace language;

const store::Column& column_of(const Dataset& dataset, const std::string& table, const std::string& column) {
  const CheckedModel& model = model::checked(dataset.model());
  const TableIndex t = *model.find_table(table);
  return store::store_of(dataset).tables[t].columns[*model.tables[t].find(column)].data;
}

// A number in units of another scale; nothing if digits would go.
std::optional<int128> rescaled(int128 units, int from, int to) {
  if (to >= from) return units * base::power_of_ten(to - from);
  const int128 divisor = base::power_of_ten(from - to);
  if (units % divisor != 0) return std::nullopt;
  return units / divisor;
}

// The rows that differ, as samples.
Result<void> find_samples(const Dataset& dataset, ColumnId id, const std::string& expression, RowProof& proof) {
  // The expression gets its meaning as that of the column itself.
  const CheckedModel& model = model::checked(dataset.model());
  std::vector<ModelText> texts = dataset.model().texts();
  const Span span = model.column(id).expression->span;
  texts[span.file].text.replace(span.begin, span.end - span.begin, "(" + expression + ")");
  const auto with = Model::parse(texts, dataset.model().options());
  if (!with) return tl::unexpected(with.error());
  const engine::Source source = engine::source_of(dataset);
  const auto computed =
      engine::evaluate_rows(source, id.table, model::checked(*with).column(id).expression, dataset.options().threads);
  if (!computed) return tl::unexpected(computed.error());
  const store::Column& stored = source.column(id);
  RowProof found;
  compare_rows(found, stored.rows, [&](std::uint64_t row) -> std::optional<std::string> {
    const bool overflow = computed->values->state[row] == engine::State::overflow;
    const Value was = stored.at(row);
    const Value is = computed->values->value_at(row);
    if (!overflow && was == is) return std::nullopt;
    return fmt::format("stored {}, computed {}", shown(was, stored.type),
                       overflow ? "an overflow" : shown(is, stored.type));
  });
  proof.samples = found.samples;
  return {};
}

// Asks how many rows of a table hold something else than the expression gives.
Result<RowProof> prove_expression(const Dataset& dataset, const Claim& claim, Plan plan) {
  RowProof proof;
  proof.expression = claim.expression;
  proof.removed = claim.removed;
  const std::string table = written_name(claim.table);
  proof.query = fmt::format("show n_rows = count({0}), differing = count({0} where {1} is distinct from ({2}))", table,
                            written_name(claim.column), claim.expression);
  Question question{proof.query};
  question.plan = plan;
  const auto answer = ask(dataset, question);
  if (!answer) return tl::unexpected(answer.error());
  proof.rows = static_cast<std::uint64_t>(answer->rows[0].cells[0].exact());
  proof.differing = static_cast<std::uint64_t>(answer->rows[0].cells[1].exact());
  if (proof.differing != 0) {
    const CheckedModel& model = model::checked(dataset.model());
    const TableIndex t = *model.find_table(claim.table);
    const ColumnId id{t, *model.tables[t].find(claim.column)};
    if (auto sampled = find_samples(dataset, id, claim.expression, proof); !sampled)
      return tl::unexpected(sampled.error());
  }
  return proof;
}

RowProof prove_split(const Dataset& before, const Dataset& after, const Claim& claim) {
  RowProof proof;
  proof.expression = fmt::format("datetime({}, {})", claim.made[0], claim.made[1]);
  proof.removed = true;
  const store::Column& stored = column_of(before, claim.table, claim.column);
  Values was(stored);
  Values date(column_of(after, claim.table, claim.made[0]));
  Values time(column_of(after, claim.table, claim.made[1]));
  compare_rows(proof, stored.rows, [&](std::uint64_t row) -> std::optional<std::string> {
    const Value& d = date.at(row);
    const Value& t = time.at(row);
    const Value is =
        d.is_null() || t.is_null() ? Value() : Value::of(d.exact() * base::microseconds_per_day + t.exact());
    if (was.at(row) == is && d.is_null() == t.is_null()) return std::nullopt;
    return fmt::format("stored {}, its parts {}", shown(was.at(row), stored.type), shown(is, stored.type));
  });
  return proof;
}

RowProof prove_retyped(const Dataset& before, const Dataset& after, const Claim& claim) {
  RowProof proof;
  const store::Column& stored = column_of(before, claim.table, claim.column);
  const store::Column& now = column_of(after, claim.table, claim.column);
  proof.expression = to_string(now.type);
  Values was(stored);
  Values is(now);
  compare_rows(proof, stored.rows, [&](std::uint64_t row) -> std::optional<std::string> {
    const Value& a = was.at(row);
    const Value& b = is.at(row);
    bool same = a.is_null() == b.is_null();
    if (same && !a.is_null()) {
      same = stored.type.kind == TypeKind::text ? to_text(b, now.type) == a.text()
                                                : rescaled(a.exact(), stored.type.scale, now.type.scale) == b.exact();
    }
    if (same) return std::nullopt;
    return fmt::format("stored {}, now {}", shown(a, stored.type), shown(b, now.type));
  });
  return proof;
}

RowProof prove_rounded(const Dataset& before, const Dataset& after, const Claim& claim) {
  RowProof proof;
  const store::Column& stored = column_of(before, claim.table, claim.column);
  const store::Column& now = column_of(after, claim.table, claim.column);
  proof.expression = fmt::format("round({}, {})", claim.column, now.type.scale);
  const int128 divisor = base::power_of_ten(stored.type.scale - now.type.scale);
  Values was(stored);
  Values is(now);
  compare_rows(proof, stored.rows, [&](std::uint64_t row) -> std::optional<std::string> {
    const Value& a = was.at(row);
    const Value& b = is.at(row);
    if (a.is_null() == b.is_null() && (a.is_null() || base::divide_rounded(a.exact(), divisor) == b.exact()))
      return std::nullopt;
    return fmt::format("stored {}, now {}", shown(a, stored.type), shown(b, now.type));
  });
  return proof;
}

// What rests on a column that was changed. A type that has changed with it shows where its values do.
RowProof prove_kept(const Dataset& before, const Dataset& after, const Claim& claim) {
  RowProof proof;
  proof.expression = "as it was";
  const store::Column& stored = column_of(before, claim.table, claim.column);
  const store::Column& now = column_of(after, claim.table, claim.column);
  Values was(stored);
  Values is(now);
  compare_rows(proof, stored.rows, [&](std::uint64_t row) -> std::optional<std::string> {
    const std::string a = shown(was.at(row), stored.type);
    const std::string b = shown(is.at(row), now.type);
    if (a == b && was.at(row).is_null() == is.at(row).is_null()) return std::nullopt;
    return fmt::format("stored {}, now {}", a, b);
  });
  return proof;
}

}  // namespace

Result<RowProof> prove_rows(const Dataset& before, const Dataset& after, const Claim& claim, Plan plan) {
  Result<RowProof> proof = RowProof();
  switch (claim.kind) {
    case Claim::Kind::inlined:
      proof = prove_expression(before, claim, plan);
      if (proof) proof->asked_before = true;
      break;
    case Claim::Kind::stored:
      proof = prove_expression(after, claim, plan);
      break;
    case Claim::Kind::split:
      proof = prove_split(before, after, claim);
      break;
    case Claim::Kind::retyped:
      proof = prove_retyped(before, after, claim);
      break;
    case Claim::Kind::rounded:
      proof = prove_rounded(before, after, claim);
      break;
    case Claim::Kind::relinked:
      proof = prove_relinked(before, after, claim);
      break;
    case Claim::Kind::trimmed:
      proof = prove_trimmed(before, after, claim);
      break;
    case Claim::Kind::reordered:
      proof = prove_reordered(before, after, claim);
      break;
    case Claim::Kind::kept:
      proof = prove_kept(before, after, claim);
      break;
  }
  if (proof) proof->column = claim.column.empty() ? claim.table : claim.table + "." + claim.column;
  return proof;
}

QueryProof prove_query(const Dataset& before, const Dataset& after, const Changed& changed, const std::string& query,
                       const SpeedSettings* timing) {
  QueryProof proof;
  proof.query = query;
  // The first answers are those that are compared.
  std::optional<QueryResult> was;
  std::optional<QueryResult> is;
  const auto run = [&](const Dataset& dataset, std::optional<QueryResult>& first) {
    auto result = ask(dataset, {query});
    if (!result) throw base::Failure(result.error());
    const std::int64_t nanoseconds = result->nanoseconds;
    if (!first) first = std::move(*result);
    return nanoseconds;
  };
  if (timing != nullptr) {
    proof.speed = compare_speed([&] { return run(before, was); }, [&] { return run(after, is); }, *timing);
  } else {
    run(before, was);
    run(after, is);
  }
  proof.is_timed = timing != nullptr;
  proof.comparison = compare(*was, *is, most_differences, changed.tolerance);
  return proof;
}

}  // namespace juniper::refactoring
