#include "loading/row_order.h"

#include <algorithm>
#include <functional>
#include <numeric>

#include "base/bits.h"
#include "base/large_vector.h"
#include "base/parallel.h"
#include "base/sort.h"

namespace juniper::loading {

namespace {

using Rows = base::LargeVector<std::uint32_t>;

constexpr unsigned row_bits = 32;
constexpr unsigned most_bits = 128 - row_bits;  // of codes in a key

unsigned bits_of(const std::vector<std::uint64_t>& codes) {
  return codes.empty() ? 0 : base::bits_for(*std::max_element(codes.begin(), codes.end()));
}

// Rows sorted by columns of codes, the first one most significant, ties by their number. As many columns as fit a key
// are sorted by at once, the last ones first: what they put in order stays so among the equal ones of a later pass.
Rows sorted_by(const std::vector<const std::vector<std::uint64_t>*>& columns, std::size_t count) {
  Rows rows(count);
  std::iota(rows.begin(), rows.end(), 0U);
  base::LargeVector<base::uint128> keys(count);
  for (std::size_t end = columns.size(); end > 0;) {
    std::size_t begin = end;
    unsigned bits = 0;
    while (begin > 0 && bits + bits_of(*columns[begin - 1]) <= most_bits) bits += bits_of(*columns[--begin]);
    std::fill(keys.begin(), keys.end(), 0);
    for (std::size_t c = begin; c < end; ++c) {
      const unsigned width = bits_of(*columns[c]);
      for (std::size_t i = 0; i < count; ++i) keys[i] = keys[i] << width | (*columns[c])[rows[i]];
    }
    for (std::size_t i = 0; i < count; ++i) keys[i] = keys[i] << row_bits | i;
    base::sort_numbers(keys);
    Rows sorted(count);
    for (std::size_t i = 0; i < count; ++i) sorted[i] = rows[static_cast<std::uint32_t>(keys[i])];
    rows = std::move(sorted);
    end = begin;
  }
  return rows;
}

// Codes as they stand in other rows.
std::vector<std::uint64_t> gathered(const std::vector<std::uint64_t>& codes, const Rows& rows) {
  std::vector<std::uint64_t> made(rows.size());
  for (std::size_t i = 0; i < rows.size(); ++i) made[i] = codes[rows[i]];
  return made;
}

// Finds the columns to sort by.
class Search {
 public:
  Search(const store::StoredTable& table, std::span<const unsigned> weights, unsigned threads)
      : table_(table), weights_(weights), threads_(threads), codes_(table.columns.size()) {
    base::parallel_for(codes_.size(), threads, [&](std::size_t c) { codes_[c] = sample(table.columns[c]); });
    for (const auto& codes : codes_) size_ = std::max(size_, codes.size());
  }

  std::vector<std::uint32_t> run() const {
    std::vector<std::uint32_t> chosen;
    Rows as_they_stand(size_);
    std::iota(as_they_stand.begin(), as_they_stand.end(), 0U);
    std::uint64_t best = bytes(as_they_stand);
    while (chosen.size() < most_columns) {
      std::optional<std::uint32_t> next;
      for (const std::uint32_t c : candidates()) {
        if (std::find(chosen.begin(), chosen.end(), c) != chosen.end()) continue;
        chosen.push_back(c);
        const std::uint64_t with = bytes(sorted_by(columns(chosen), size_));
        chosen.pop_back();
        if (with < best) {
          best = with;
          next = c;
        }
      }
      if (!next) break;
      chosen.push_back(*next);
    }
    return chosen;
  }

 private:
  static constexpr std::size_t most_columns = 4;
  static constexpr std::uint64_t most_codes = std::uint64_t{1} << 20;  // so that four columns fit a key

  // Whole blocks, spread over the table.
  static std::vector<std::uint64_t> sample(const store::StoredColumn& column) {
    std::vector<std::uint64_t> made;
    if (column.calculated) return made;
    constexpr std::size_t stretch = 4;  // blocks
    constexpr std::size_t stretches = 16;
    const store::Codes& codes = column.data.codes;
    const std::size_t apart = std::max<std::size_t>(stretch, codes.blocks() / stretches);
    for (std::size_t b = 0; b < codes.blocks(); ++b) {
      if (b % apart >= stretch) continue;
      made.resize(made.size() + codes.rows_in_block(b));
      codes.decode_block(b, made.data() + made.size() - codes.rows_in_block(b));
    }
    return made;
  }

  // Sorting by what is nearly different in every row puts no equal rows together.
  std::vector<std::uint32_t> candidates() const {
    std::vector<std::uint32_t> made;
    for (std::uint32_t c = 0; c < table_.columns.size(); ++c) {
      const store::Column& data = table_.columns[c].data;
      if (!table_.columns[c].calculated && data.layout != store::Layout::bits && data.null_code < most_codes &&
          data.distinct * 8 <= data.rows && data.distinct + (data.nulls != 0 ? 1 : 0) > 1)
        made.push_back(c);
    }
    return made;
  }

  std::vector<const std::vector<std::uint64_t>*> columns(const std::vector<std::uint32_t>& chosen) const {
    std::vector<const std::vector<std::uint64_t>*> made;
    for (const std::uint32_t c : chosen) made.push_back(&codes_[c]);
    return made;
  }

  std::uint64_t bytes(const Rows& rows) const {
    std::vector<std::uint64_t> each(codes_.size(), 0);
    base::parallel_for(codes_.size(), threads_, [&](std::size_t c) {
      if (!table_.columns[c].calculated)
        each[c] = weights_[c] * store::Codes::encode(gathered(codes_[c], rows)).bytes().size();
    });
    return std::accumulate(each.begin(), each.end(), std::uint64_t{0});
  }

  const store::StoredTable& table_;
  std::span<const unsigned> weights_;
  unsigned threads_;
  std::vector<std::vector<std::uint64_t>> codes_;  // of the sampled rows
  std::size_t size_ = 0;
};

// The codes of each column that is not calculated, in the order of `rows`.
std::vector<store::Codes> in_order(const store::StoredTable& table, const Rows& rows, unsigned threads) {
  std::vector<store::Codes> made(table.columns.size());
  base::parallel_for(made.size(), threads, [&](std::size_t c) {
    if (!table.columns[c].calculated)
      made[c] = store::Codes::encode(gathered(table.columns[c].data.codes.decoded(), rows));
  });
  return made;
}

}  // namespace

std::optional<std::uint32_t> ascending_column(const store::StoredTable& table) {
  for (std::uint32_t c = 0; c < table.columns.size(); ++c) {
    const store::Column& data = table.columns[c].data;
    if (table.columns[c].calculated || data.layout == store::Layout::bits || data.distinct != data.rows) continue;
    const std::vector<std::uint64_t> codes = data.codes.decoded();
    if (std::is_sorted(codes.begin(), codes.end())) return c;
  }
  return std::nullopt;
}

bool may_sort(const language::Table& declared, const store::StoredTable& table) {
  const auto& columns = declared.columns;
  const auto key = std::find_if(columns.begin(), columns.end(), [](const language::Column& c) { return c.key; });
  if (key == columns.end()) return ascending_column(table).has_value();
  const store::Column& data = table.columns[static_cast<std::size_t>(key - columns.begin())].data;
  return !key->is_calculated() && data.distinct == data.rows;
}

bool may_stay_sorted(const language::Table& declared, const store::StoredTable& table) {
  if (table.order.empty()) return true;
  const auto& columns = declared.columns;
  const auto key = std::find_if(columns.begin(), columns.end(), [](const language::Column& c) { return c.key; });
  if (key == columns.end()) return table.file_order != store::no_column;
  const auto stored = std::find_if(table.columns.begin(), table.columns.end(),
                                   [&](const store::StoredColumn& c) { return c.name == key->name; });
  return stored != table.columns.end() && !stored->calculated && stored->data.distinct == stored->data.rows;
}

std::string order_name(const language::Table& declared) {
  std::string name;
  for (const std::uint32_t c : declared.sorted_by) name += (name.empty() ? "" : ", ") + declared.columns[c].name;
  return name;
}

std::vector<unsigned> code_weights(const language::CheckedModel& model, language::TableIndex table,
                                   const store::StoredTable& stored) {
  std::vector<unsigned> weights(model.tables[table].columns.size(), 1);
  for (const language::Link& link : model.links) {
    if (link.from.table != table) continue;
    const std::uint32_t first = link.from.columns[0];
    if (link.from.columns.size() > 1 || !store::leads_by_code(stored.columns[first].data)) ++weights[first];
  }
  return weights;
}

std::vector<std::uint32_t> smaller_order(const store::StoredTable& table, std::span<const unsigned> weights,
                                         unsigned threads) {
  return Search(table, weights, threads).run();
}

void sort_rows(store::StoredTable& table, const std::vector<std::uint32_t>& columns, std::span<const unsigned> weights,
               SortIf when, unsigned threads) {
  if (columns.empty()) return;
  std::vector<std::vector<std::uint64_t>> codes(columns.size());
  std::vector<const std::vector<std::uint64_t>*> keys;
  for (std::size_t k = 0; k < columns.size(); ++k) {
    codes[k] = table.columns[columns[k]].data.codes.decoded();
    keys.push_back(&codes[k]);
  }
  const std::optional<std::uint32_t> ascending = ascending_column(table);
  std::vector<store::Codes> sorted = in_order(table, sorted_by(keys, table.rows), threads);
  std::int64_t saved = 0;
  for (std::size_t c = 0; c < sorted.size(); ++c) {
    if (table.columns[c].calculated) continue;
    saved += weights[c] * (static_cast<std::int64_t>(table.columns[c].data.codes.bytes().size()) -
                           static_cast<std::int64_t>(sorted[c].bytes().size()));
  }
  if (saved <= 0 && when == SortIf::smaller) return;
  for (std::size_t c = 0; c < sorted.size(); ++c) {
    if (!table.columns[c].calculated) table.columns[c].data.set_codes(std::move(sorted[c]));
  }
  for (const std::uint32_t c : columns) table.order += (table.order.empty() ? "" : ", ") + table.columns[c].name;
  table.order_saved_bytes = saved;
  table.file_order = ascending ? std::uint64_t{*ascending} : store::no_column;
}

std::int64_t saved_by_order(const language::CheckedModel& model, const store::Store& store, language::TableIndex table,
                            const std::vector<std::uint32_t>& columns, unsigned threads) {
  const store::StoredTable& stored = store.tables[table];
  std::vector<std::vector<std::uint64_t>> codes;
  for (const std::uint32_t c : columns) codes.push_back(stored.columns[c].data.codes.decoded());
  std::vector<const std::vector<std::uint64_t>*> keys;
  for (const auto& of_column : codes) keys.push_back(&of_column);
  const Rows order = sorted_by(keys, stored.rows);
  std::vector<std::uint64_t> places(order.size());
  for (std::size_t i = 0; i < order.size(); ++i) places[order[i]] = i;

  // Each column and each link, as codes before and after.
  using After = std::function<std::vector<std::uint64_t>(const std::vector<std::uint64_t>&)>;
  const After moved = [&](const std::vector<std::uint64_t>& values) {
    std::vector<std::uint64_t> after(values.size());
    for (std::size_t i = 0; i < after.size(); ++i) after[i] = values[order[i]];
    return after;
  };
  const After renumbered = [&](std::vector<std::uint64_t> rows) {
    for (std::uint64_t& row : rows) row = row < places.size() ? places[row] : row;  // no row stays none
    return rows;
  };
  std::vector<std::pair<const store::Codes*, const After*>> parts;
  for (const store::StoredColumn& column : stored.columns) {
    if (column.broken.empty()) parts.emplace_back(&column.data.codes, &moved);
  }
  for (std::size_t i = 0; i < model.links.size(); ++i) {
    if (!store.links[i].broken.empty()) continue;
    if (model.links[i].from.table == table && !store.links[i].reads_key())
      parts.emplace_back(&store.links[i].rows, &moved);
    if (model.links[i].to.table == table) parts.emplace_back(&store.links[i].rows, &renumbered);
  }
  std::vector<std::int64_t> saved(parts.size());
  base::parallel_for(parts.size(), threads, [&](std::size_t i) {
    const auto& [before, after] = parts[i];
    saved[i] = static_cast<std::int64_t>(before->bytes().size()) -
               static_cast<std::int64_t>(store::Codes::encode((*after)(before->decoded())).bytes().size());
  });
  return std::accumulate(saved.begin(), saved.end(), std::int64_t{0});
}

std::optional<store::StoredTable> in_file_order(const store::StoredTable& table, unsigned threads) {
  if (table.order.empty()) return table;
  if (table.file_order == store::no_column) return std::nullopt;
  const std::vector<std::uint64_t> places = table.columns[table.file_order].data.codes.decoded();
  Rows rows(table.rows);
  std::iota(rows.begin(), rows.end(), 0U);
  std::sort(rows.begin(), rows.end(), [&](std::uint32_t a, std::uint32_t b) { return places[a] < places[b]; });
  store::StoredTable made = table;
  std::vector<store::Codes> codes = in_order(table, rows, threads);
  for (std::size_t c = 0; c < codes.size(); ++c) {
    if (!made.columns[c].calculated) made.columns[c].data.set_codes(std::move(codes[c]));
  }
  made.order.clear();
  made.order_saved_bytes = 0;
  made.file_order = store::no_column;
  return made;
}

}  // namespace juniper::loading
