#include "engine/scan.h"

#include <xxhash.h>

#include <algorithm>
#include <bit>
#include <boost/unordered/unordered_flat_map.hpp>
#include <condition_variable>
#include <mutex>
#include <numeric>

#include "base/parallel.h"
#include "engine/distinct_codes.h"

namespace juniper::engine {

KeyLayout::KeyLayout(const std::vector<std::uint64_t>& null_codes) {
  for (const std::uint64_t null_code : null_codes) {
    shifts_.push_back(bits_);
    widths_.push_back(static_cast<unsigned>(std::bit_width(null_code)));
    bits_ += widths_.back();
  }
}

std::uint64_t KeyLayout::code(PackedKey key, std::size_t column) const {
  if (widths_[column] == 0) return 0;
  const auto code = static_cast<std::uint64_t>(key >> shifts_[column]);
  return widths_[column] == 64 ? code : code & ((std::uint64_t{1} << widths_[column]) - 1);
}

KeyLayout layout_of(const std::vector<ScanKey>& keys) {
  std::vector<std::uint64_t> last_codes;
  for (const ScanKey& key : keys) last_codes.push_back(key.last);
  return KeyLayout(last_codes);
}

std::vector<OrderKey> ScanAggregate::order_keys() const {
  std::vector<OrderKey> keys;
  for (const ScanOrder& by : order) keys.push_back({by.key.last, by.descending, by.needed});
  return keys;
}

namespace {

// Blocks of rows that are aggregated together before they meet the rest. A fixed number, so that the order in which
// reals are added is the same for any number of threads.
constexpr std::size_t blocks_per_chunk = 64;

struct HashKey {
  std::size_t operator()(PackedKey key) const { return XXH3_64bits(&key, sizeof(key)); }
};

// Numbers groups in the order in which their keys are first seen.
class Grouping {
 public:
  explicit Grouping(const KeyLayout& layout) {
    if (layout.bits() <= dense_bits) dense_.assign(std::size_t{1} << layout.bits(), none);
  }
  GroupIndex find_or_add(PackedKey key) {
    if (!dense_.empty()) {
      GroupIndex& group = dense_[static_cast<std::size_t>(key)];
      if (group == none) group = append(key);
      return group;
    }
    const auto [at, fresh] = hashed_.try_emplace(key, static_cast<GroupIndex>(keys_.size()));
    if (fresh) keys_.push_back(key);
    return at->second;
  }
  std::vector<PackedKey>& keys() { return keys_; }

 private:
  static constexpr unsigned dense_bits = 14;
  static constexpr GroupIndex none = 0xFFFFFFFF;
  GroupIndex append(PackedKey key) {
    keys_.push_back(key);
    return static_cast<GroupIndex>(keys_.size() - 1);
  }
  std::vector<GroupIndex> dense_;
  boost::unordered_flat_map<PackedKey, GroupIndex, HashKey> hashed_;
  std::vector<PackedKey> keys_;
};

// What a request compiles to.
struct Plan {
  struct AggregateSteps {
    const language::Node* node;
    std::vector<Program::StepIndex> values;
    std::vector<Repr> reprs;
    std::vector<OrderKey> order;
    std::optional<Program::StepIndex> where;
    std::optional<std::uint64_t> last_code;  // of a count of distinct codes
  };
  struct GroupingSteps {
    KeyLayout layout;
    std::vector<Program::StepIndex> keys;
  };
  Program program;
  std::vector<Program::StepIndex> filters;
  std::vector<GroupingSteps> groupings;
  std::vector<AggregateSteps> aggregates;
  Merging merging;

  Plan(const Source& source, const ScanRequest& request) : program(source, request.table), merging(request.merging) {
    for (const auto& filter : request.filters) filters.push_back(program.add(filter));
    for (const auto& grouping : request.groupings) {
      std::vector<ScanKey> keys;
      for (const std::uint32_t key : grouping) keys.push_back(request.keys[key]);
      GroupingSteps steps{layout_of(keys), {}};
      for (const auto& key : keys) steps.keys.push_back(program.add_key(key));
      groupings.push_back(std::move(steps));
    }
    for (const ScanAggregate& aggregate : request.aggregates) {
      AggregateSteps steps{aggregate.node.get(), {}, {}, aggregate.order_keys(), std::nullopt, std::nullopt};
      if (aggregate.where) steps.where = program.add(aggregate.where);
      if (const auto codes = distinct_codes(source, aggregate)) {
        steps.last_code = codes->last;
        steps.values.push_back(program.add_key(*codes));
      } else {
        for (const auto& value : aggregate.values) steps.values.push_back(program.add(value));
      }
      for (const ScanOrder& order : aggregate.order) steps.values.push_back(program.add_key(order.key));
      for (const auto step : steps.values) steps.reprs.push_back(program.repr(step));
      aggregates.push_back(std::move(steps));
    }
  }

  std::unique_ptr<Accumulator> accumulator(const AggregateSteps& steps) const {
    if (steps.last_code) return make_distinct_codes(*steps.last_code);
    return make_accumulator(*steps.node, steps.reprs, merging, steps.order);
  }

 private:
  // The codes of a column whose distinct values are counted; nothing for any other aggregate. Reals may have two codes
  // for what is equal: zero has a sign.
  std::optional<ScanKey> distinct_codes(const Source& source, const ScanAggregate& aggregate) const {
    if (aggregate.node->aggregate != language::Aggregate::count_distinct || merging != Merging::whole)
      return std::nullopt;
    const language::Node& value = *aggregate.values[0];
    if (value.op != language::Op::column || value.type.kind == TypeKind::real) return std::nullopt;
    const ScanKey key = ScanKey::of(source, value.column);
    return counts_by_codes(key.last) ? std::optional(key) : std::nullopt;
  }
};

// The groups of one grouping in the rows seen so far.
struct PartialGroups {
  Grouping grouping;
  std::vector<std::unique_ptr<Accumulator>> aggregates;

  PartialGroups(const Plan& plan, const Plan::GroupingSteps& steps) : grouping(steps.layout) {
    for (const auto& a : plan.aggregates) aggregates.push_back(plan.accumulator(a));
    if (steps.keys.empty()) grouping.find_or_add(0);
    grow();
  }
  void grow() {
    for (const auto& aggregate : aggregates) aggregate->grow(grouping.keys().size());
  }
  void merge(PartialGroups& from) {
    std::vector<GroupIndex> groups;
    for (const PackedKey key : from.grouping.keys()) groups.push_back(grouping.find_or_add(key));
    grow();
    for (std::size_t i = 0; i < aggregates.size(); ++i) aggregates[i]->merge(*from.aggregates[i], groups);
  }
};

// The partial result of some blocks.
struct Chunk {
  std::vector<PartialGroups> groupings;
  bool filter_overflow = false;

  explicit Chunk(const Plan& plan) {
    for (const auto& steps : plan.groupings) groupings.emplace_back(plan, steps);
  }
  void merge(Chunk& from) {
    for (std::size_t i = 0; i < groupings.size(); ++i) groupings[i].merge(from.groupings[i]);
    filter_overflow = filter_overflow || from.filter_overflow;
  }
};

class ChunkScanner {
 public:
  ChunkScanner(const Plan& plan, Chunk& chunk) : plan_(plan), chunk_(chunk), chosen_(plan.aggregates.size()) {}

  void add_block(std::size_t block) {
    plan_.program.run(block, registers_);
    select(std::min(store::block_rows, plan_.program.rows() - block * store::block_rows));
    for (std::size_t a = 0; a < plan_.aggregates.size(); ++a) choose(plan_.aggregates[a], chosen_[a]);
    for (std::size_t g = 0; g < plan_.groupings.size(); ++g) add_to(plan_.groupings[g], chunk_.groupings[g]);
  }

 private:
  // The selected rows that an aggregate goes over, as positions in `rows_`, and those where its condition overflowed.
  struct Chosen {
    std::vector<std::uint32_t> positions;
    std::vector<std::uint32_t> rows;
    std::vector<std::uint32_t> overflowed;
  };

  void select(std::size_t count) {
    rows_.resize(count);
    std::iota(rows_.begin(), rows_.end(), 0U);
    for (const auto filter : plan_.filters) {
      const Vector& condition = registers_[filter];
      for (const std::uint32_t row : rows_) {
        chunk_.filter_overflow = chunk_.filter_overflow || condition.state[row] == State::overflow;
      }
      std::erase_if(rows_, [&](std::uint32_t row) { return !condition.is_true(row); });
    }
  }

  void choose(const Plan::AggregateSteps& steps, Chosen& chosen) const {
    if (!steps.where) return;
    const Vector& where = registers_[*steps.where];
    chosen.positions.clear();
    chosen.rows.clear();
    chosen.overflowed.clear();
    for (std::uint32_t i = 0; i < rows_.size(); ++i) {
      if (where.is_true(rows_[i])) {
        chosen.positions.push_back(i);
        chosen.rows.push_back(rows_[i]);
      } else if (where.state[rows_[i]] == State::overflow) {
        chosen.overflowed.push_back(i);
      }
    }
  }

  void add_to(const Plan::GroupingSteps& steps, PartialGroups& partial) {
    group(steps, partial);
    for (std::size_t a = 0; a < plan_.aggregates.size(); ++a) {
      inputs_.clear();
      for (const auto step : plan_.aggregates[a].values) inputs_.push_back(&registers_[step]);
      if (!plan_.aggregates[a].where) {
        partial.aggregates[a]->add(rows_, groups_, inputs_);
        continue;
      }
      chosen_groups_.clear();
      for (const std::uint32_t i : chosen_[a].positions) chosen_groups_.push_back(groups_[i]);
      for (const std::uint32_t i : chosen_[a].overflowed) partial.aggregates[a]->poison(groups_[i]);
      partial.aggregates[a]->add(chosen_[a].rows, chosen_groups_, inputs_);
    }
  }

  // Finds the group of each selected row.
  void group(const Plan::GroupingSteps& steps, PartialGroups& partial) {
    groups_.assign(rows_.size(), 0);
    if (steps.keys.empty()) return;
    packed_.assign(rows_.size(), 0);
    for (std::size_t k = 0; k < steps.keys.size(); ++k) {
      const auto& codes = registers_[steps.keys[k]].narrow;
      for (std::size_t i = 0; i < rows_.size(); ++i) {
        packed_[i] = steps.layout.with(packed_[i], k, static_cast<std::uint64_t>(codes[rows_[i]]));
      }
    }
    for (std::size_t i = 0; i < rows_.size(); ++i) groups_[i] = partial.grouping.find_or_add(packed_[i]);
    partial.grow();
  }

  const Plan& plan_;
  Chunk& chunk_;
  Program::Registers registers_;
  std::vector<std::uint32_t> rows_;  // of the block, that pass the filters
  std::vector<GroupIndex> groups_;   // of rows_, in the grouping at hand
  std::vector<PackedKey> packed_;
  std::vector<Chosen> chosen_;  // for each aggregate with a condition
  std::vector<GroupIndex> chosen_groups_;
  std::vector<const Vector*> inputs_;
};

}  // namespace

ScanResult scan(const Source& source, const ScanRequest& request, unsigned threads) {
  const Plan plan(source, request);
  Chunk total(plan);
  const std::size_t chunks = (plan.program.blocks() + blocks_per_chunk - 1) / blocks_per_chunk;
  // Chunks are handed out in order and merged in order: a thread that is done early waits for its turn.
  std::mutex mutex;
  std::condition_variable turn;
  std::size_t next_to_merge = 0;
  base::parallel_for(chunks, threads, [&](std::size_t c) {
    Chunk chunk(plan);
    ChunkScanner scanner(plan, chunk);
    const std::size_t end = std::min((c + 1) * blocks_per_chunk, plan.program.blocks());
    for (std::size_t block = c * blocks_per_chunk; block < end; ++block) scanner.add_block(block);
    std::unique_lock lock(mutex);
    turn.wait(lock, [&] { return next_to_merge == c; });
    total.merge(chunk);
    ++next_to_merge;
    turn.notify_all();
  });
  ScanResult result;
  for (std::size_t g = 0; g < plan.groupings.size(); ++g) {
    PartialGroups& partial = total.groupings[g];
    result.groupings.push_back(
        {plan.groupings[g].layout, std::move(partial.grouping.keys()), std::move(partial.aggregates), {}});
    for (const auto& aggregate : plan.aggregates) result.groupings.back().inputs.push_back(aggregate.reprs);
  }
  result.filter_overflow = total.filter_overflow;
  return result;
}

}  // namespace juniper::engine
