#include "by_hand.h"

#include <algorithm>
#include <array>
#include <bit>
#include <cstdlib>
#include <iostream>
#include <thread>
#include <vector>

namespace bench {

namespace {

using juniper::store::block_rows;
using juniper::store::Codes;
using juniper::store::Column;
using juniper::store::Store;

[[noreturn]] void missing(const std::string& what) {
  std::cerr << "there is no " << what << "\n";
  std::exit(3);
}

const Column& column(const Store& store, const std::string& table, const std::string& name) {
  for (const auto& t : store.tables) {
    for (const auto& c : t.columns) {
      if (t.name == table && c.name == name) return c.data;
    }
  }
  missing(table + "." + name);
}

const juniper::store::StoredLink& link(const Store& store, const std::string& from) {
  for (const auto& l : store.links) {
    if (l.name.starts_with(from + " ->")) return l;
  }
  missing("link from " + from);
}

using Block = std::array<std::uint32_t, block_rows>;

// The codes of a small column for each row of its table, and `none` for no row.
std::vector<std::uint8_t> small_codes(const Column& column, std::uint8_t none) {
  std::vector<std::uint8_t> codes(column.rows + 1, none);
  Block block;
  for (std::size_t b = 0; b < column.codes.blocks(); ++b) {
    column.codes.decode_block(b, block.data());
    for (std::size_t i = 0; i < column.codes.rows_in_block(b); ++i)
      codes[b * block_rows + i] = static_cast<std::uint8_t>(block[i]);
  }
  return codes;
}

// What stands behind a link: the codes to read for each row, and the small number of each of them.
struct Behind {
  const Codes* read;
  std::vector<std::uint8_t> of;
};

// From the small numbers of the rows that the link leads to, and of none.
Behind behind(const Store& store, const std::string& from, const std::vector<std::uint8_t>& of_rows) {
  const auto& over = link(store, from);
  if (!over.reads_key()) return {&over.rows, of_rows};
  const Column& key = store.tables[over.table].columns[over.column].data;
  std::vector<std::uint8_t> of(key.null_code + 1, of_rows.back());
  for (std::uint64_t code = 0; code < key.null_code; ++code)
    of[code] = of_rows[over.rows.size() == 0 ? code : over.rows.at(code)];
  return {&key.codes, std::move(of)};
}

// Calls work(thread, block) for all blocks, each thread for a stretch of them.
template <class Work>
void for_blocks(std::size_t blocks, unsigned threads, const Work& work) {
  std::vector<std::jthread> workers;
  for (unsigned t = 0; t < threads; ++t) {
    workers.emplace_back([&, t] {
      for (std::size_t b = blocks * t / threads; b < blocks * (t + 1) / threads; ++b) work(t, b);
    });
  }
}

struct alignas(64) Sum {
  std::uint64_t codes = 0;
  std::uint64_t rows = 0;
};

std::int64_t energy_of(const Column& energy, const Sum& sum) {
  return energy.base * static_cast<std::int64_t>(sum.rows) + static_cast<std::int64_t>(sum.codes * energy.step);
}

std::int64_t filter_and_sum(const Store& store, unsigned threads) {
  const Column& energy = column(store, "sessions", "energy_kwh");
  const Column& idle = column(store, "sessions", "idle_minutes");
  const auto from = static_cast<std::uint32_t>((30 - idle.base + static_cast<std::int64_t>(idle.step) - 1) /
                                               static_cast<std::int64_t>(idle.step));
  const auto null = static_cast<std::uint32_t>(idle.null_code);
  std::vector<Sum> sums(threads);
  for_blocks(energy.codes.blocks(), threads, [&](unsigned t, std::size_t b) {
    Block e;
    Block m;
    energy.codes.decode_block(b, e.data());
    idle.codes.decode_block(b, m.data());
    const std::size_t rows = energy.codes.rows_in_block(b);
    std::uint64_t codes = 0;
    std::uint64_t count = 0;
    for (std::size_t i = 0; i < rows; ++i) {
      const std::uint32_t passes = (m[i] >= from) & (m[i] < null);
      codes += e[i] & -passes;
      count += passes;
    }
    sums[t].codes += codes;
    sums[t].rows += count;
  });
  std::int64_t all = 0;
  for (const Sum& sum : sums) all += energy_of(energy, sum);
  return all;
}

// Groups by small numbers: each of four neighbours has sums of its own.
class FewGroups {
 public:
  explicit FewGroups(std::size_t groups) : groups_(groups), codes_(4 * groups), rows_(4 * groups) {}
  void add(const std::uint32_t* groups, const Block& codes, std::size_t count) {
    for (std::size_t i = 0; i < count; ++i) {
      const std::size_t at = i % 4 * groups_ + groups[i];
      codes_[at] += codes[i];
      ++rows_[at];
    }
  }
  std::int64_t energy(const Column& column) const {
    std::int64_t all = 0;
    for (std::size_t g = 0; g < codes_.size(); ++g) all += energy_of(column, {codes_[g], rows_[g]});
    return all;
  }

 private:
  std::size_t groups_;
  std::vector<std::uint64_t> codes_;
  std::vector<std::uint64_t> rows_;
};

std::int64_t one_hop(const Store& store, unsigned threads) {
  const Column& energy = column(store, "sessions", "energy_kwh");
  const Behind plan = behind(store, "sessions.tariff_code", small_codes(column(store, "tariffs", "plan"), 15));
  std::vector<FewGroups> found(threads, FewGroups(16));
  for_blocks(energy.codes.blocks(), threads, [&](unsigned t, std::size_t b) {
    Block e;
    Block rows;
    energy.codes.decode_block(b, e.data());
    plan.read->decode_block(b, rows.data());
    const std::size_t count = energy.codes.rows_in_block(b);
    for (std::size_t i = 0; i < count; ++i) rows[i] = plan.of[rows[i]];
    found[t].add(rows.data(), e, count);
  });
  std::int64_t all = 0;
  for (const FewGroups& some : found) all += some.energy(energy);
  return all;
}

std::int64_t four_dimensions(const Store& store, unsigned threads) {
  const Column& energy = column(store, "sessions", "energy_kwh");
  const Behind of_bay = behind(store, "bays.station_id", small_codes(column(store, "stations", "region"), 7));
  std::vector<std::uint8_t> region_of_bay;
  for (std::uint64_t bay = 0; bay < of_bay.read->size(); ++bay)
    region_of_bay.push_back(of_bay.of[of_bay.read->at(bay)]);
  region_of_bay.push_back(7);
  const Behind region = behind(store, "sessions.bay_id", region_of_bay);
  const Behind plan = behind(store, "sessions.tariff_code", small_codes(column(store, "tariffs", "plan"), 15));
  const Behind year = behind(store, "sessions.start_day", small_codes(column(store, "days", "year"), 3));
  const Behind holder = behind(store, "sessions.card_id", small_codes(column(store, "cards", "holder"), 3));
  std::vector<FewGroups> found(threads, FewGroups(8 * 16 * 4 * 4));
  for_blocks(energy.codes.blocks(), threads, [&](unsigned t, std::size_t b) {
    Block e;
    Block groups;
    Block rows;
    const std::size_t count = energy.codes.rows_in_block(b);
    energy.codes.decode_block(b, e.data());
    region.read->decode_block(b, rows.data());
    for (std::size_t i = 0; i < count; ++i) groups[i] = region.of[rows[i]];
    plan.read->decode_block(b, rows.data());
    for (std::size_t i = 0; i < count; ++i) groups[i] |= std::uint32_t{plan.of[rows[i]]} << 3;
    year.read->decode_block(b, rows.data());
    for (std::size_t i = 0; i < count; ++i) groups[i] |= std::uint32_t{year.of[rows[i]]} << 7;
    holder.read->decode_block(b, rows.data());
    for (std::size_t i = 0; i < count; ++i) groups[i] |= std::uint32_t{holder.of[rows[i]]} << 9;
    found[t].add(groups.data(), e, count);
  });
  std::int64_t all = 0;
  for (const FewGroups& some : found) all += some.energy(energy);
  return all;
}

std::int64_t million_groups(const Store& store, unsigned threads) {
  const Column& energy = column(store, "sessions", "energy_kwh");
  const Column& card = column(store, "sessions", "card_id");
  struct Group {
    std::uint64_t codes = 0;
    std::uint64_t rows = 0;
  };
  std::vector<std::vector<Group>> found(threads, std::vector<Group>(card.null_code + 1));
  for_blocks(energy.codes.blocks(), threads, [&](unsigned t, std::size_t b) {
    Block e;
    Block c;
    energy.codes.decode_block(b, e.data());
    card.codes.decode_block(b, c.data());
    const std::size_t count = energy.codes.rows_in_block(b);
    Group* const groups = found[t].data();
    for (std::size_t i = 0; i < count; ++i) {
      groups[c[i]].codes += e[i];
      ++groups[c[i]].rows;
    }
  });
  std::vector<std::int64_t> sums;
  for (std::size_t g = 0; g < found[0].size(); ++g) {
    Sum sum;
    for (const auto& some : found) {
      sum.codes += some[g].codes;
      sum.rows += some[g].rows;
    }
    if (sum.rows != 0) sums.push_back(energy_of(energy, sum));
  }
  std::partial_sort(sums.begin(), sums.begin() + 10, sums.end(), std::greater<>());
  std::int64_t best = 0;
  for (std::size_t i = 0; i < 10; ++i) best += sums[i];
  return best;
}

std::int64_t distinct_large(const Store& store, unsigned threads) {
  const Column& card = column(store, "sessions", "card_id");
  const std::size_t words = card.null_code / 64 + 1;
  std::vector<std::vector<std::uint64_t>> found(threads, std::vector<std::uint64_t>(words));
  for_blocks(card.codes.blocks(), threads, [&](unsigned t, std::size_t b) {
    Block c;
    card.codes.decode_block(b, c.data());
    std::uint64_t* const bits = found[t].data();
    for (std::size_t i = 0; i < card.codes.rows_in_block(b); ++i) bits[c[i] / 64] |= std::uint64_t{1} << c[i] % 64;
  });
  std::int64_t count = 0;
  for (std::size_t w = 0; w < words; ++w) {
    std::uint64_t word = 0;
    for (const auto& some : found) word |= some[w];
    if (w == card.null_code / 64) word &= ~(std::uint64_t{1} << card.null_code % 64);
    count += std::popcount(word);
  }
  return count;
}

}  // namespace

std::map<std::string, std::function<std::int64_t()>> by_hand(const Store& store, unsigned threads) {
  return {{"filter_and_sum", [&store, threads] { return filter_and_sum(store, threads); }},
          {"one_hop", [&store, threads] { return one_hop(store, threads); }},
          {"four_dimensions", [&store, threads] { return four_dimensions(store, threads); }},
          {"million_groups", [&store, threads] { return million_groups(store, threads); }},
          {"distinct_large", [&store, threads] { return distinct_large(store, threads); }}};
}

}  // namespace bench
