#include "engine/scan/bridge_parts.h"

#include <algorithm>
#include <numeric>

#include "base/parallel.h"
#include "base/prefetch.h"
#include "engine/scan/key_packer.h"
#include "engine/scan/merged_groups.h"
#include "engine/scan/row_test.h"

namespace juniper::engine {

namespace {

// What belongs to each row, brought together from lists of rows and what stands beside each: begins gets where each row's
// begin. What stands together in the order of rows already is taken as it is.
template <class Beside>
struct Listed {
  std::vector<std::uint32_t> rows;
  std::vector<Beside> beside;
};

template <class Beside>
std::vector<Beside> by_row(std::vector<Listed<Beside>>& lists, std::uint64_t rows, std::vector<std::uint64_t>& begins) {
  begins.assign(rows + 1, 0);
  bool in_order = true;
  std::uint32_t before = 0;
  for (const Listed<Beside>& list : lists) {
    for (const std::uint32_t row : list.rows) {
      in_order = in_order && before <= row;
      before = row;
      ++begins[row + 1];
    }
  }
  std::partial_sum(begins.begin(), begins.end(), begins.begin());
  std::vector<Beside> all;
  all.reserve(begins.back());
  if (in_order) {
    for (Listed<Beside>& list : lists) all.insert(all.end(), list.beside.begin(), list.beside.end());
    return all;
  }
  all.resize(begins.back());
  std::vector<std::uint64_t> ends(begins.begin(), begins.end() - 1);
  for (const Listed<Beside>& list : lists) {
    base::for_each_ahead(
        list.rows.size(), [&](std::size_t i) { return all.data() + ends[list.rows[i]]; },
        [&](std::size_t i) { all[ends[list.rows[i]]++] = list.beside[i]; });
  }
  return all;
}

// Leaves each once within its row.
template <class Beside>
void leave_one_each(std::vector<Beside>& all, std::vector<std::uint64_t>& begins) {
  std::uint64_t kept = 0;
  std::uint64_t end = 0;
  for (std::size_t row = 0; row + 1 < begins.size(); ++row) {
    const std::uint64_t begin = std::exchange(end, begins[row + 1]);
    Beside* const first = all.data() + begin;
    Beside* last = all.data() + end;
    bool ascending = true;
    for (const Beside* at = first; at + 1 < last; ++at) ascending = ascending && at[0] < at[1];
    if (!ascending) {
      std::sort(first, last);
      last = std::unique(first, last);
    }
    begins[row] = kept;
    if (kept == begin) {
      kept += static_cast<std::uint64_t>(last - first);
    } else {
      for (const Beside* at = first; at < last; ++at) all[kept++] = *at;
    }
  }
  begins.back() = kept;
  all.resize(kept);
}

}  // namespace

BridgeParts::BridgeParts(Pairs pairs, std::uint64_t rows, std::uint32_t parts) : count_(parts) {
  std::vector<Listed<std::uint32_t>> lists(1);
  for (const auto& [row, part] : pairs) {
    lists[0].rows.push_back(row);
    lists[0].beside.push_back(part);
  }
  parts_ = by_row(lists, rows, begins_);
  leave_one_each(parts_, begins_);
}

std::optional<BridgeParts> BridgeParts::read(const Source& source, const RowsRequest& request, std::uint64_t rows,
                                             unsigned threads) {
  BridgeParts parts;
  parts.layout_ = layout_of({request.keys.begin(), request.keys.end() - 1});
  const unsigned bits = parts.layout_.bits();
  const bool is_read = bits <= 32 ? parts.read_keys<std::uint32_t>(source, request, rows, threads)
                                  : parts.read_keys<PackedKey>(source, request, rows, threads);
  if (!is_read) return std::nullopt;
  return parts;
}

template <class Key>
bool BridgeParts::read_keys(const Source& source, const RowsRequest& request, std::uint64_t rows, unsigned threads) {
  Program program(source, request.table);
  std::vector<Program::StepIndex> keys;
  for (const ScanKey& key : request.keys) keys.push_back(program.add_key(key));
  const std::vector<Program::StepIndex> all_keys = keys;
  const Program::StepIndex met = keys.back();
  keys.pop_back();
  const KeyPacker packer(program, layout_, keys);
  const KeyPacker met_packer(program, layout_of({request.keys.back()}), {met});
  const std::vector<RowTest> tests = tests_of(program, request.conditions, all_keys, request.wanted);
  Program::CodesSet read;
  for (const RowTest& test : tests) test.add_read(program, read);
  packer.add_read(program, read);
  met_packer.add_read(program, read);

  constexpr std::size_t blocks_of_list = 16;
  std::vector<Listed<Key>> lists((program.blocks() + blocks_of_list - 1) / blocks_of_list);
  std::vector<std::uint8_t> overflows(lists.size(), 0);
  base::parallel_for(lists.size(), threads, [&](std::size_t l) {
    source.check();
    Program::Registers registers;
    std::vector<std::uint32_t> found(store::block_rows + 16);
    std::vector<std::uint32_t> overflowed;
    std::vector<std::uint32_t> room;
    std::vector<Key> packed(store::block_rows);
    const std::size_t blocks = std::min((l + 1) * blocks_of_list, program.blocks()) - l * blocks_of_list;
    if (tests.empty()) {
      lists[l].rows.reserve(blocks * store::block_rows);
      lists[l].beside.reserve(blocks * store::block_rows);
    }
    for (std::size_t b = 0; b < blocks; ++b) {
      program.begin(l * blocks_of_list + b, registers);
      for (const RowTest& test : tests) {
        if (registers.count() == 0) break;
        const std::size_t count = test.find(program, registers, found, &overflowed);
        program.keep(std::span(found).first(count), read, registers);
      }
      const std::size_t count = registers.count();
      if (count == 0) continue;
      if (keys.empty() || packer.pack(program, registers, packed.data())) std::fill_n(packed.begin(), count, packed[0]);
      const std::uint32_t* const met_rows = met_packer.codes(program, registers, room);
      for (std::size_t i = 0; i < count; ++i) {
        if (met_rows[i] >= rows) continue;
        lists[l].rows.push_back(met_rows[i]);
        lists[l].beside.push_back(packed[i]);
      }
    }
    overflows[l] = overflowed.empty() ? 0 : 1;
  });
  if (std::find(overflows.begin(), overflows.end(), 1) != overflows.end()) return false;

  std::vector<Key> of_rows = by_row(lists, rows, begins_);
  lists.clear();
  leave_one_each(of_rows, begins_);
  // Parts are numbered in the order of the rows that belong to them: by a table where there are few keys.
  keys_ = PackedKeys(layout_.bits());
  parts_.resize(of_rows.size());
  constexpr unsigned table_bits = 22;
  std::vector<std::uint32_t> table(layout_.bits() <= table_bits ? std::size_t{1} << layout_.bits() : 0, none);
  for (std::size_t i = 0; i < of_rows.size(); ++i) {
    const Key key = of_rows[i];
    std::uint32_t* known = nullptr;
    if (!table.empty()) known = &table[static_cast<std::size_t>(key)];
    if (known == nullptr) known = &numbers_.try_emplace(key, none).first->second;
    if (*known == none) {
      *known = count_++;
      keys_.push_back(key);
    }
    parts_[i] = *known;
  }
  if (!table.empty()) {
    for (std::uint32_t part = 0; part < count_; ++part) numbers_.emplace(keys_[part], part);
  }
  return true;
}

WantedCodes BridgeParts::wanted_rows() const {
  const std::uint64_t rows = begins_.size() - 1;
  if (rows >= base::PackedTable::most_entries / 16) return nullptr;
  base::PackedTable bits(rows + 1, 1);
  std::uint64_t count = 0;
  for (std::uint64_t row = 0; row < rows; ++row) {
    if (begins_[row] == begins_[row + 1]) continue;
    bits.add(row, 1);
    ++count;
  }
  return 2 * count <= rows + 1 ? std::make_shared<const base::PackedTable>(std::move(bits)) : nullptr;
}

Groups by_parts(const Groups& groups, std::size_t column, const BridgeParts& parts, unsigned threads) {
  const KeyLayout& before = groups.layout;
  std::vector<std::uint64_t> last_codes;
  for (std::size_t k = 0; k < before.columns(); ++k) last_codes.push_back(before.code(before.last(), k));
  last_codes[column] = parts.count();
  const KeyLayout layout(last_codes);
  const std::vector<GroupIndex> order = merging_order(groups);
  // As many pieces on any number of threads, which meet in their order.
  constexpr std::size_t few = std::size_t{1} << 14;
  constexpr std::size_t most_pieces = 8;
  const std::size_t pieces = std::clamp<std::size_t>(order.size() / few, 1, most_pieces);
  std::vector<std::optional<MergedGroups>> made(pieces);
  base::parallel_for(pieces, threads, [&](std::size_t p) {
    MergedGroups& piece = made[p].emplace(groups, layout);
    // So many at a time that what is read of each is on its way when it is needed.
    constexpr std::size_t at_a_time = 1024;
    std::vector<std::uint64_t> rows;
    const std::size_t end = order.size() * (p + 1) / pieces;
    for (std::size_t begin = order.size() * p / pieces; begin < end; begin += at_a_time) {
      const auto some = std::span(order).subspan(begin, std::min(at_a_time, end - begin));
      rows.resize(some.size());
      for (std::size_t i = 0; i < some.size(); ++i) {
        rows[i] = before.code(groups.keys[some[i]], column);
        parts.prefetch(rows[i]);
      }
      for (const std::uint64_t row : rows) __builtin_prefetch(parts.of(row).data());
      for (std::size_t i = 0; i < some.size(); ++i) {
        const PackedKey key = groups.keys[some[i]];
        PackedKey others = 0;
        for (std::size_t k = 0; k < before.columns(); ++k) {
          if (k != column) others = layout.with(others, k, before.code(key, k));
        }
        for (const std::uint32_t part : parts.of(rows[i])) piece.add(some[i], layout.with(others, column, part));
      }
    }
  });
  for (std::size_t p = 1; p < pieces; ++p) {
    made[0]->add(*made[p]);
    made[p].reset();
  }
  return made[0]->take();
}

FoundRows by_parts(const FoundRows& found, std::size_t column, const BridgeParts& parts) {
  FoundRows made;
  made.codes.resize(found.codes.size());
  for (std::size_t i = 0; i < found.rows.size(); ++i) {
    for (const std::uint32_t part : parts.of(found.codes[column][i])) {
      made.rows.push_back(found.rows[i]);
      for (std::size_t k = 0; k < found.codes.size(); ++k)
        made.codes[k].push_back(k == column ? part : found.codes[k][i]);
    }
  }
  return made;
}

}  // namespace juniper::engine
