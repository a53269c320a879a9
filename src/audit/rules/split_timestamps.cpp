// Timestamps that take fewer bytes as a date and a time of day. Both are encoded to find out: where rows stand in the
// order of time, differences of neighbours are small, and apart they are not smaller.
#include <fmt/format.h>

#include "audit/rules.h"
#include "base/calendar.h"
#include "base/format.h"
#include "source/column_input.h"

namespace juniper::auditing {

using namespace language;

namespace {

// One part of each timestamp: what `part_of` makes of its microseconds since 1970.
template <class PartOf>
store::Column part(const store::Column& data, TypeKind kind, const PartOf& part_of) {
  const std::vector<std::uint64_t> codes = data.codes.decoded();
  return store::encode_column(source::column_of(Type{kind, 0}, codes.size(),
                                                [&](std::size_t begin, std::size_t end, source::PieceValues& piece) {
                                                  for (std::size_t i = begin; i < end; ++i) {
                                                    const bool null = codes[i] == data.null_code;
                                                    piece.is_null.push_back(null ? 1 : 0);
                                                    piece.exact.push_back(null ? 0 : part_of(data.exact_of(codes[i])));
                                                  }
                                                }));
}

std::int64_t day_of(std::int64_t microseconds) {
  const std::int64_t days = microseconds / base::microseconds_per_day;
  return microseconds % base::microseconds_per_day < 0 ? days - 1 : days;
}

}  // namespace

void find_timestamps_to_split(const Subject& subject, Findings& findings) {
  subject.each_column([&](ColumnId id, const Column& column, const store::Column& data) {
    if (column.type.kind != TypeKind::datetime || column.is_calculated() || column.from_row || column.key) return;
    const store::Column whole = subject.sampled(id);
    const store::Column date = part(whole, TypeKind::date, day_of);
    const store::Column time = part(whole, TypeKind::time, [](std::int64_t microseconds) {
      return microseconds - day_of(microseconds) * base::microseconds_per_day;
    });
    const std::uint64_t apart = subject.whole_bytes(id, date) + subject.whole_bytes(id, time);
    if (time.distinct < 2 || apart >= data.bytes()) return;
    const std::uint64_t saved = data.bytes() - apart;
    findings.push_back(subject.with_step(
        subject.about(id,
                      fmt::format("{} values; {} dates and {} times of day apart", base::grouped(data.distinct),
                                  base::grouped(date.distinct), base::grouped(time.distinct)),
                      "", saved),
        "split " + step_name(subject.model(), id)));
    findings.back().estimated = subject.is_sampled(id);
  });
}

}  // namespace juniper::auditing
