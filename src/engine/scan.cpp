#include "engine/scan.h"

#include <xxhash.h>

#include <algorithm>
#include <bit>
#include <boost/unordered/unordered_flat_map.hpp>
#include <condition_variable>
#include <mutex>
#include <numeric>

#include "base/parallel.h"

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

KeyLayout layout_of(const Source& source, const std::vector<language::ColumnRef>& keys) {
  std::vector<std::uint64_t> null_codes;
  for (const language::ColumnRef& key : keys) null_codes.push_back(source.column(key.column).null_code);
  return KeyLayout(null_codes);
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
    std::optional<Program::StepIndex> value;
    std::optional<Program::StepIndex> where;
    Repr repr = Repr::narrow;
  };
  Program program;
  KeyLayout layout;
  std::vector<Program::StepIndex> filters;
  std::vector<Program::StepIndex> keys;
  std::vector<AggregateSteps> aggregates;

  Plan(const Source& source, const ScanRequest& request)
      : program(source, request.table), layout(layout_of(source, request.keys)) {
    for (const auto& filter : request.filters) filters.push_back(program.add(filter));
    for (const auto& key : request.keys) keys.push_back(program.add_code(key));
    for (const auto& node : request.aggregates) {
      AggregateSteps steps{node.get(), std::nullopt, std::nullopt, Repr::narrow};
      if (node->rows.where) steps.where = program.add(node->rows.where);
      if (!node->children.empty()) {
        steps.value = program.add(node->children[0]);
        steps.repr = program.repr(*steps.value);
      }
      aggregates.push_back(steps);
    }
  }

  std::vector<std::unique_ptr<Accumulator>> accumulators() const {
    std::vector<std::unique_ptr<Accumulator>> made;
    for (const AggregateSteps& steps : aggregates) made.push_back(make_accumulator(*steps.node, steps.repr));
    return made;
  }
};

// The partial result of some blocks.
struct Chunk {
  Grouping grouping;
  std::vector<std::unique_ptr<Accumulator>> aggregates;
  std::uint64_t rows_kept = 0;
  bool filter_overflow = false;

  explicit Chunk(const Plan& plan) : grouping(plan.layout), aggregates(plan.accumulators()) {
    if (plan.keys.empty()) grouping.find_or_add(0);
    grow();
  }
  void grow() {
    for (const auto& aggregate : aggregates) aggregate->grow(grouping.keys().size());
  }
};

class ChunkScanner {
 public:
  ChunkScanner(const Plan& plan, Chunk& chunk) : plan_(plan), chunk_(chunk) {}

  void add_block(std::size_t block) {
    plan_.program.run(block, registers_);
    const std::size_t count = std::min(store::block_rows, plan_.program.rows() - block * store::block_rows);
    select(count);
    chunk_.rows_kept += rows_.size();
    group();
    for (std::size_t i = 0; i < plan_.aggregates.size(); ++i) add_aggregate(plan_.aggregates[i], *chunk_.aggregates[i]);
  }

 private:
  void select(std::size_t count) {
    rows_.resize(count);
    std::iota(rows_.begin(), rows_.end(), 0U);
    for (const auto filter : plan_.filters) {
      const Vector& condition = registers_[filter];
      for (const std::uint32_t row : rows_)
        chunk_.filter_overflow = chunk_.filter_overflow || condition.state[row] == State::overflow;
      std::erase_if(rows_, [&](std::uint32_t row) { return !condition.is_true(row); });
    }
  }

  void group() {
    groups_.assign(rows_.size(), 0);
    if (plan_.keys.empty()) return;
    packed_.assign(rows_.size(), 0);
    for (std::size_t k = 0; k < plan_.keys.size(); ++k) {
      const auto& codes = registers_[plan_.keys[k]].narrow;
      for (std::size_t i = 0; i < rows_.size(); ++i)
        packed_[i] = plan_.layout.with(packed_[i], k, static_cast<std::uint64_t>(codes[rows_[i]]));
    }
    for (std::size_t i = 0; i < rows_.size(); ++i) groups_[i] = chunk_.grouping.find_or_add(packed_[i]);
    chunk_.grow();
  }

  void add_aggregate(const Plan::AggregateSteps& steps, Accumulator& aggregate) {
    const Vector* values = steps.value ? &registers_[*steps.value] : nullptr;
    if (!steps.where) {
      aggregate.add(rows_, groups_, values);
      return;
    }
    const Vector& where = registers_[*steps.where];
    chosen_rows_.clear();
    chosen_groups_.clear();
    for (std::size_t i = 0; i < rows_.size(); ++i) {
      if (where.is_true(rows_[i])) {
        chosen_rows_.push_back(rows_[i]);
        chosen_groups_.push_back(groups_[i]);
      } else if (where.state[rows_[i]] == State::overflow) {
        aggregate.poison(groups_[i]);
      }
    }
    aggregate.add(chosen_rows_, chosen_groups_, values);
  }

  const Plan& plan_;
  Chunk& chunk_;
  Program::Registers registers_;
  std::vector<std::uint32_t> rows_;
  std::vector<GroupIndex> groups_;
  std::vector<PackedKey> packed_;
  std::vector<std::uint32_t> chosen_rows_;
  std::vector<GroupIndex> chosen_groups_;
};

void merge(Chunk& into, Chunk& from) {
  std::vector<GroupIndex> groups;
  for (const PackedKey key : from.grouping.keys()) groups.push_back(into.grouping.find_or_add(key));
  into.grow();
  for (std::size_t i = 0; i < into.aggregates.size(); ++i) into.aggregates[i]->merge(*from.aggregates[i], groups);
  into.rows_kept += from.rows_kept;
  into.filter_overflow = into.filter_overflow || from.filter_overflow;
}

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
    merge(total, chunk);
    ++next_to_merge;
    turn.notify_all();
  });
  return {plan.layout, std::move(total.grouping.keys()), std::move(total.aggregates), total.rows_kept,
          total.filter_overflow};
}

}  // namespace juniper::engine
