// Decimals with more digits than the measures that read them ever show. Rounding changes numbers, if only where nobody
// looks: a human decides.
#include <fmt/format.h>

#include "audit/rules.h"
#include "base/exact.h"
#include "base/format.h"
#include "language/traverse.h"
#include "source/column_input.h"

namespace juniper::auditing {

using namespace language;

namespace {

// The digits behind the point that a pattern shows of a value, as stored: two more for percent.
int shown_digits(const std::string& pattern) {
  const std::size_t point = pattern.find('.');
  int digits = pattern.find('%') != std::string::npos ? 2 : 0;
  for (std::size_t i = point; i < pattern.size() && pattern[i] != ';'; ++i)
    digits += pattern[i] == '0' || pattern[i] == '#';
  return digits;
}

// The most digits that measures show which rest on the column; nothing where one shows all, or something else reads it.
std::optional<int> needed_digits(const Subject& subject, ColumnId id) {
  for (const model::User& user : subject.users(id)) {
    if (user.kind != UserKind::measure) return std::nullopt;
  }
  std::optional<int> needed;
  for (const Measure& measure : subject.model().measures) {
    if (!needs_of(subject.model(), measure.expression, std::nullopt).columns.contains(id)) continue;
    if (measure.format.empty()) return std::nullopt;
    needed = std::max(needed.value_or(0), shown_digits(measure.format));
  }
  return needed;
}

}  // namespace

void find_excess_digits(const Subject& subject, Findings& findings) {
  subject.each_column([&](ColumnId id, const Column& column, const store::Column& data) {
    const bool plain = !column.is_calculated() && !column.from_row && column.part == base::FieldPart::whole;
    if (column.type.kind != TypeKind::decimal || !plain || data.distinct < 2 || subject.users(id).empty()) return;
    const auto needed = needed_digits(subject, id);
    if (!needed || *needed >= column.type.scale) return;
    const Type type =
        *needed == 0 ? Type{TypeKind::integer, 0} : Type{TypeKind::decimal, static_cast<std::uint8_t>(*needed)};
    const auto unit = static_cast<std::int64_t>(base::power_of_ten(column.type.scale - *needed));
    const store::Column whole = subject.sampled(id);
    const std::vector<std::uint64_t> codes = whole.codes.decoded();
    const store::Column shorter = store::encode_column(
        source::column_of(type, codes.size(), [&](std::size_t begin, std::size_t end, source::PieceValues& piece) {
          for (std::size_t i = begin; i < end; ++i) {
            const bool null = codes[i] == whole.null_code;
            piece.is_null.push_back(null ? 1 : 0);
            piece.exact.push_back(null ? 0 : base::divide_rounded(whole.exact_of(codes[i]), unit));
          }
        }));
    const std::uint64_t bytes = subject.whole_bytes(id, shorter);
    if (bytes >= data.bytes()) return;
    const std::uint64_t saved = data.bytes() - bytes;
    findings.push_back(subject.about(
        id,
        fmt::format("{} digits behind the point are stored, and the measures that read it show at most {}",
                    column.type.scale, *needed),
        fmt::format("if nobody needs them: juniper refactor {} round {} {}", subject.dataset().model().path(),
                    step_name(subject.model(), id), to_string(type)),
        saved));
    findings.back().estimated = subject.is_sampled(id);
  });
}

}  // namespace juniper::auditing
