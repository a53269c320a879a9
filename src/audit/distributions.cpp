// Counts by code: a code stands for its value, and codes ascend as values do, so that nothing is decoded but what is shown.
#include "juniper/distribution.h"

#include <algorithm>
#include <array>
#include <boost/unordered/unordered_flat_map.hpp>
#include <cmath>

#include "base/failure.h"
#include "base/parallel.h"
#include "engine/asked/watch.h"
#include "model/access.h"
#include "model/hidden.h"
#include "store/of_dataset.h"

namespace juniper {

namespace {

using Counts = std::vector<std::pair<std::uint64_t, std::uint64_t>>;  // codes, ascending, and their rows

constexpr std::uint64_t most_counted = std::uint64_t{1} << 22;  // different values

// Calls take(code) for each row, and check() for each block.
template <class Check, class Take>
void each_code(const store::Column& column, const Check& check, const Take& take) {
  std::array<std::uint64_t, store::block_rows> block{};
  for (std::size_t b = 0; b < column.codes.blocks(); ++b) {
    check();
    column.codes.decode_block(b, block.data());
    const std::size_t rows = column.codes.rows_in_block(b);
    for (std::size_t r = 0; r < rows; ++r) take(block[r]);
  }
}

// The codes of the values that there are, null left out. Nothing where they are too many.
template <class Check>
std::optional<Counts> counts_of(const store::Column& column, const Check& check) {
  if (column.distinct > most_counted) return std::nullopt;
  Counts counts;
  if (column.layout != store::Layout::bits && column.null_code <= most_counted) {
    std::vector<std::uint64_t> rows(column.null_code + 1);
    each_code(column, check, [&](std::uint64_t code) { ++rows[code]; });
    for (std::uint64_t code = 0; code < column.null_code; ++code) {
      if (rows[code] != 0) counts.emplace_back(code, rows[code]);
    }
    return counts;
  }
  boost::unordered_flat_map<std::uint64_t, std::uint64_t> rows;
  each_code(column, check, [&](std::uint64_t code) { ++rows[code]; });
  for (const auto& [code, count] : rows) {
    if (code != column.null_code) counts.emplace_back(code, count);
  }
  std::sort(counts.begin(), counts.end());
  return counts;
}

std::vector<ValueCount> most_frequent(const store::Column& column, Counts counts, std::size_t most) {
  const auto end = counts.begin() + static_cast<std::ptrdiff_t>(std::min(most, counts.size()));
  const bool is_real = column.layout == store::Layout::bits;
  std::partial_sort(counts.begin(), end, counts.end(), [&](const auto& a, const auto& b) {
    if (a.second != b.second) return a.second > b.second;
    return is_real ? column.real_of(a.first) < column.real_of(b.first) : a.first < b.first;
  });
  std::vector<ValueCount> frequent;
  for (auto at = counts.begin(); at != end; ++at) frequent.push_back({column.value_of(at->first), at->second});
  return frequent;
}

// Calls take(code, rows) for what was counted, or for each row.
template <class Check, class Take>
void each_count(const store::Column& column, const std::optional<Counts>& counts, const Check& check,
                const Take& take) {
  if (counts) {
    for (const auto& [code, rows] : *counts) take(code, rows);
  } else {
    each_code(column, check, [&](std::uint64_t code) {
      if (code != column.null_code) take(code, std::uint64_t{1});
    });
  }
}

template <class Check>
std::vector<ValueRange> exact_ranges(const store::Column& column, const std::optional<Counts>& counts, std::size_t most,
                                     const Check& check) {
  const int128 least = column.least.exact();
  const int128 span = column.most.exact() - least + 1;
  const int128 width = (span + static_cast<int128>(most) - 1) / static_cast<int128>(most);
  std::vector<ValueRange> ranges(static_cast<std::size_t>((span + width - 1) / width));
  for (std::size_t i = 0; i < ranges.size(); ++i) {
    const int128 from = least + static_cast<int128>(i) * width;
    ranges[i] = {Value::of(from), Value::of(std::min(from + width - 1, int128{column.most.exact()})), 0};
  }
  each_count(column, counts, check, [&](std::uint64_t code, std::uint64_t rows) {
    ranges[static_cast<std::size_t>((int128{column.exact_of(code)} - least) / width)].rows += rows;
  });
  return ranges;
}

template <class Check>
std::vector<ValueRange> real_ranges(const store::Column& column, const std::optional<Counts>& counts, std::size_t most,
                                    const Check& check) {
  const double least = column.least.real();
  // Halves, as the distance of two finite numbers may be none.
  const double half = column.most.real() / 2 - least / 2;
  const std::size_t count = half > 0 ? most : 1;
  const auto border = [&](std::size_t i) {
    return i == count ? column.most.real() : least + 2 * (half * (static_cast<double>(i) / static_cast<double>(count)));
  };
  std::vector<ValueRange> ranges;
  for (std::size_t i = 0; i < count; ++i) ranges.push_back({Value::of(border(i)), Value::of(border(i + 1)), 0});
  each_count(column, counts, check, [&](std::uint64_t code, std::uint64_t rows) {
    const double value = column.real_of(code);
    const double part = half > 0 ? (value / 2 - least / 2) / half : 0;
    auto at = std::min(static_cast<std::size_t>(part * static_cast<double>(count)), count - 1);
    // Where rounding has put it into the range beside its own.
    while (at > 0 && value < ranges[at].from.real()) --at;
    while (at + 1 < count && value >= ranges[at].to.real()) ++at;
    ranges[at].rows += rows;
  });
  return ranges;
}

}  // namespace

Result<std::vector<Distribution>> distributions(const Dataset& dataset, const DistributionSettings& settings) {
  const language::CheckedModel& model = model::checked(dataset.model());
  return base::guarded([&]() -> Result<std::vector<Distribution>> {
    const store::Store& store = store::store_of(dataset);
    const engine::Watch watch(dataset.options());
    std::vector<Distribution> all;
    std::vector<const store::Column*> columns;
    for (language::TableIndex t = 0; t < model.tables.size(); ++t) {
      for (std::uint32_t c = 0; c < model.tables[t].columns.size(); ++c) {
        const store::StoredColumn& stored = store.tables[t].columns[c];
        if (!store.tables[t].broken.empty() || !stored.broken.empty() || model::is_hidden(model, {t, c})) continue;
        const language::Column& column = model.tables[t].columns[c];
        const store::Column& data = stored.data;
        all.push_back({model.tables[t].name,
                       column.name,
                       column.type,
                       column.format,
                       data.rows,
                       data.nulls,
                       data.distinct,
                       {},
                       true,
                       {}});
        columns.push_back(&data);
      }
    }
    base::parallel_for(all.size(), dataset.options().threads, [&](std::size_t i) {
      const store::Column& column = *columns[i];
      const auto check = [&] { watch.check(); };
      auto counts = counts_of(column, check);
      const bool has_ranges =
          all[i].type.kind != TypeKind::text && all[i].type.kind != TypeKind::boolean && !column.least.is_null();
      if (has_ranges && settings.ranges != 0) {
        all[i].ranges = all[i].type.kind == TypeKind::real ? real_ranges(column, counts, settings.ranges, check)
                                                           : exact_ranges(column, counts, settings.ranges, check);
      }
      all[i].is_counted = counts.has_value();
      if (counts) all[i].most_frequent = most_frequent(column, std::move(*counts), settings.most_frequent);
    });
    return all;
  });
}

}  // namespace juniper
