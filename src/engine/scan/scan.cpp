#include "engine/scan/scan.h"

#include <algorithm>
#include <array>
#include <atomic>
#include <bit>
#include <boost/unordered/unordered_flat_map.hpp>
#include <condition_variable>
#include <functional>
#include <limits>
#include <mutex>
#include <numeric>

#include "base/parallel.h"
#include "base/prefetch.h"
#include "base/zeroed_table.h"
#include "engine/aggregate/code_numbers.h"
#include "engine/aggregate/distinct_codes.h"
#include "engine/asked/live_tables.h"
#include "engine/asked/watch.h"
#include "engine/scan/key_packer.h"
#include "engine/scan/row_keys.h"
#include "engine/scan/row_test.h"

namespace juniper::engine {

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

// Numbers groups in the order in which their keys are first seen. Keys of few bits are places in a table.
class Grouping {
 public:
  Grouping(const KeyLayout& layout, std::uint64_t rows) : bits_(layout.bits()), keys_(layout.bits()) {
    if (is_dense(layout, rows)) dense_ = base::ZeroedTable<GroupIndex>(static_cast<std::size_t>(layout.last()) + 1);
  }
  // True if a table of all keys takes little memory beside that for so many rows, or for as many groups.
  static bool is_dense(const KeyLayout& layout, std::uint64_t rows) {
    if (layout.bits() > 32) return false;
    const std::uint64_t keys = static_cast<std::uint64_t>(layout.last()) + 1;
    return keys <= std::max<std::uint64_t>({1U << 14, rows, std::min<std::uint64_t>(4 * rows, 1U << 24)});
  }

  GroupIndex find_or_add(PackedKey key) {
    if (!dense_.empty()) return in_table(static_cast<std::size_t>(key));
    if (bits_ <= 64) return hashed(numbers_, static_cast<std::uint64_t>(key));
    return hashed(wide_numbers_, key);
  }
  // The groups of many keys.
  template <class Key>
  void find_or_add(std::span<const Key> keys, GroupIndex* groups) {
    if constexpr (sizeof(Key) == 4) {
      // The new ones, which nothing could foresee, are left for a second pass: the first has no branches that would
      // wait for the memory.
      fresh_.resize(keys.size());
      std::size_t fresh = 0;
      const auto find = [&](std::size_t i) {
        const GroupIndex number = dense_[keys[i]];
        groups[i] = number - 1;
        fresh_[fresh] = static_cast<std::uint32_t>(i);
        fresh += number == none ? 1 : 0;
      };
      base::for_each_ahead(
          keys.size(), [&](std::size_t i) { return dense_.data() + keys[i]; }, find);
      for (std::size_t f = 0; f < fresh; ++f) groups[fresh_[f]] = in_table(keys[fresh_[f]]);
    } else if constexpr (sizeof(Key) == 8) {
      for (std::size_t i = 0; i < keys.size(); ++i) groups[i] = hashed(numbers_, keys[i]);
    } else {
      for (std::size_t i = 0; i < keys.size(); ++i) groups[i] = hashed(wide_numbers_, keys[i]);
    }
  }
  // Those of the groups of another grouping.
  void find_or_add(const Grouping& other, GroupIndex* groups) {
    other.keys_.visit([&](const auto& keys) {
      if (dense_.empty()) {
        for (std::size_t g = 0; g < keys.size(); ++g) groups[g] = find_or_add(keys[g]);
        return;
      }
      base::for_each_ahead(
          keys.size(), [&](std::size_t g) { return dense_.data() + static_cast<std::size_t>(keys[g]); },
          [&](std::size_t g) { groups[g] = in_table(static_cast<std::size_t>(keys[g])); });
    });
  }
  PackedKeys& keys() { return keys_; }

 private:
  static constexpr GroupIndex none = 0;
  GroupIndex in_table(std::size_t key) {
    GroupIndex& number = dense_[key];
    if (number == none) {
      keys_.push_back(key);
      number = static_cast<GroupIndex>(keys_.size());
    }
    return number - 1;
  }
  template <class Numbers, class Key>
  GroupIndex hashed(Numbers& numbers, Key key) {
    const auto [at, fresh] = numbers.try_emplace(key, static_cast<GroupIndex>(keys_.size()));
    if (fresh) keys_.push_back(key);
    return at->second;
  }
  unsigned bits_;
  base::ZeroedTable<GroupIndex> dense_;  // by key, the group's number plus one, or `none`
  boost::unordered_flat_map<std::uint64_t, GroupIndex> numbers_;
  boost::unordered_flat_map<PackedKey, GroupIndex, HashPackedKey> wide_numbers_;
  PackedKeys keys_;
  std::vector<std::uint32_t> fresh_;  // positions of a block's keys that were not seen before
};

// What a request compiles to.
struct Plan {
  struct AggregateSteps {
    std::vector<Program::StepIndex> values;
    std::vector<Repr> reprs;
    std::vector<RowTest> where;      // its condition: all are to be passed
    std::optional<KeyPacker> codes;  // of those that take codes instead of values
    bool is_row_count = false;       // of all rows of a group
    std::function<std::unique_ptr<Accumulator>()> make;
  };
  struct GroupingSteps {
    KeyLayout layout;
    KeyPacker keys;
    bool has_table = false;  // for its keys
    // Where keys number the groups while rows are added, how many there are; else 0.
    std::size_t keys_in_all = 0;
  };
  Program program;
  std::vector<RowTest> filters;
  std::uint64_t expected_rows = 0;             // that pass the filters, by the shares of codes that do
  std::vector<Program::CodesSet> read_behind;  // each filter
  std::vector<GroupingSteps> groupings;
  std::vector<AggregateSteps> aggregates;
  bool has_conditions = false;  // of aggregates
  bool is_ordered = false;      // whether the order of rows tells in the result
  // Where nothing but groups is asked for, and no filter may overflow: how many there can be in each grouping. A pass
  // that has met them all is done.
  std::vector<std::uint64_t> most_groups;
  Merging merging;

  Plan(const Source& source, const ScanRequest& request) : program(source, request.table), merging(request.merging) {
    std::vector<Program::StepIndex> key_steps;
    for (const ScanKey& key : request.keys) key_steps.push_back(program.add_key(key));
    filters = tests_of(program, request.filters, key_steps, request.wanted);
    double share = 1;
    for (const RowTest& filter : filters) share *= filter.share();
    expected_rows = static_cast<std::uint64_t>(share * static_cast<double>(program.rows()));
    for (const auto& grouping : request.groupings) {
      std::vector<ScanKey> keys;
      for (const std::uint32_t key : grouping) keys.push_back(request.keys[key]);
      const KeyLayout layout = layout_of(keys);
      std::vector<Program::StepIndex> steps;
      for (const auto& key : keys) steps.push_back(program.add_key(key));
      groupings.push_back({layout, KeyPacker(program, layout, steps), Grouping::is_dense(layout, expected_rows)});
    }
    for (const ScanAggregate& aggregate : request.aggregates) {
      AggregateSteps steps;
      if (aggregate.where) {
        std::vector<language::NodePtr> parts;
        split_conjunction(aggregate.where, parts);
        steps.where = tests_of(program, parts);
        // What overflows in one part is nothing where another is false: then the whole has to tell.
        const auto may_overflow = [&](const RowTest& test) { return test.may_overflow(program); };
        if (std::any_of(steps.where.begin(), steps.where.end(), may_overflow)) {
          steps.where.clear();
          steps.where.emplace_back(program, aggregate.where);
        }
      }
      has_conditions = has_conditions || aggregate.where;
      steps.is_row_count = aggregate.node->aggregate == language::Aggregate::row_count && !aggregate.where;
      if (!takes_codes(source, aggregate, steps)) {
        for (const auto& value : aggregate.values) steps.values.push_back(program.add(value));
        for (const ScanOrder& order : aggregate.order) steps.values.push_back(program.add_key(order.key));
        for (const auto step : steps.values) steps.reprs.push_back(program.repr(step));
        const language::NodePtr node = aggregate.node;
        if (sums_in_64_bits(aggregate, steps)) {
          steps.make = [node] { return make_narrow_sum(*node); };
        } else {
          steps.make = [node, reprs = steps.reprs, order = aggregate.order_keys(), merging = merging] {
            return make_accumulator(*node, reprs, merging, order);
          };
        }
      }
      aggregates.push_back(std::move(steps));
    }
    bool can_keep = merging == Merging::whole;
    for (const AggregateSteps& steps : aggregates) {
      const auto aggregate = steps.make();
      is_ordered = is_ordered || aggregate->is_ordered();
      can_keep = can_keep && aggregate->can_keep();
    }
    if (can_keep) number_by_keys(request);
    note_what_is_read();
    if (request.aggregates.empty()) note_most_groups(source, request);
  }

 private:
  void note_most_groups(const Source& source, const ScanRequest& request) {
    for (const RowTest& filter : filters) {
      if (filter.may_overflow(program)) return;
    }
    constexpr std::uint64_t few = 1024;
    for (const auto& grouping : request.groupings) {
      std::uint64_t most = 1;
      for (const std::uint32_t k : grouping) {
        const ScanKey& key = request.keys[k];
        if (key.kind != ScanKey::Kind::column) return most_groups.clear();
        const store::Column& column = source.column(key.column.column);
        const auto leads_nowhere = [&](language::LinkIndex link) { return source.link(link).unmatched != 0; };
        const bool has_null =
            column.nulls != 0 || std::any_of(key.column.path.begin(), key.column.path.end(), leads_nowhere);
        most *= std::min(column.distinct, few) + (has_null ? 1 : 0);
        if (most > few) return most_groups.clear();
      }
      most_groups.push_back(most);
    }
  }

  void note_what_is_read() {
    Program::CodesSet read;
    for (const AggregateSteps& steps : aggregates) {
      for (const auto step : steps.values) program.add_read(step, read);
      for (const RowTest& test : steps.where) test.add_read(program, read);
      if (steps.codes) steps.codes->add_read(program, read);
    }
    for (const GroupingSteps& steps : groupings) steps.keys.add_read(program, read);
    read_behind.resize(filters.size());
    for (std::size_t f = filters.size(); f-- > 0;) {
      read_behind[f] = read;
      filters[f].add_read(program, read);
    }
  }

  // Keys number their groups where there are few, and where nearly all of many are expected to have rows: those of one
  // column, without a filter that may leave few.
  void number_by_keys(const ScanRequest& request) {
    constexpr unsigned few_bits = 11;
    for (std::size_t g = 0; g < groupings.size(); ++g) {
      const KeyLayout& layout = groupings[g].layout;
      if (layout.columns() == 0 || !groupings[g].has_table) continue;
      if (layout.bits() <= few_bits) {
        groupings[g].keys_in_all = std::size_t{1} << layout.bits();
      } else if (layout.columns() == 1 && filters.empty()) {
        const std::uint64_t codes = request.keys[request.groupings[g][0]].last + 1;
        if (codes <= program.rows() / 2) groupings[g].keys_in_all = static_cast<std::size_t>(codes);
      }
    }
  }

  // Finds an accumulator that takes the codes of a column, which reals may have two of for what is equal: zero has a
  // sign.
  bool takes_codes(const Source& source, const ScanAggregate& aggregate, AggregateSteps& steps) {
    using language::Aggregate;
    if (aggregate.values.empty()) return false;
    const language::Node* value = aggregate.values[0].get();
    const Aggregate kind = aggregate.node->aggregate;
    const bool is_quantile = kind == Aggregate::median || kind == Aggregate::quantile;
    const bool is_spread = kind == Aggregate::stddev || kind == Aggregate::variance || kind == Aggregate::stddev_pop ||
                           kind == Aggregate::variance_pop;
    const bool is_least = kind == Aggregate::min || kind == Aggregate::every;
    const bool is_extreme = is_least || kind == Aggregate::max || kind == Aggregate::any;
    if ((is_quantile || is_spread) && value->op == language::Op::to_real) value = value->children[0].get();
    if (value->op != language::Op::column) return false;
    if (merging != Merging::whole && (is_quantile || kind == Aggregate::count_distinct)) return false;
    const store::Column& column = source.column(value->column.column);
    if (kind == Aggregate::count_distinct && value->type.kind != TypeKind::real && counts_by_codes(column.null_code)) {
      steps.make = [last = column.null_code, rows = program.rows()] { return make_distinct_codes(last, rows); };
    } else if ((kind == Aggregate::sum || kind == Aggregate::avg) && value->column.path.empty() &&
               sums_by_codes(column)) {
      steps.make = [node = aggregate.node, &column] { return make_code_sum(*node, column); };
    } else if (is_spread && value->column.path.empty() && sums_by_codes(column)) {
      steps.make = [node = aggregate.node, &column] { return make_code_spread(*node, column); };
    } else if (is_extreme && is_ordered_by_codes(column)) {
      steps.make = [&column, is_least] { return make_code_extreme(column, is_least); };
    } else if (is_quantile && ranks_by_codes(column)) {
      const double fraction = kind == Aggregate::median ? 0.5 : aggregate.node->literal.real();
      steps.make = [&column, fraction] { return make_code_quantile(column, fraction); };
    } else {
      return false;
    }
    steps.codes.emplace(program, KeyLayout({column.null_code}),
                        std::vector{program.add_key(ScanKey::of(source, value->column))});
    return true;
  }

  // True if no sum of values of some rows can leave 64 bits.
  bool sums_in_64_bits(const ScanAggregate& aggregate, const AggregateSteps& steps) const {
    const auto kind = aggregate.node->aggregate;
    if (kind != language::Aggregate::sum && kind != language::Aggregate::avg) return false;
    if (steps.reprs[0] != Repr::narrow) return false;
    const Range range = program.range(steps.values[0]);
    const int128 most =
        std::numeric_limits<std::int64_t>::max() / static_cast<int128>(std::max<std::size_t>(program.rows(), 1));
    return -most <= range.low && range.high <= most;
  }
};

// The groups of one grouping in the rows seen so far.
struct PartialGroups {
  std::size_t keys_in_all;  // that number the groups; 0 where `grouping` does
  Grouping grouping;
  std::vector<std::unique_ptr<Accumulator>> aggregates;
  // Counts the rows of all groups, where that is asked for: one of the aggregates that do so anyway, or an own one.
  const Accumulator* rows = nullptr;
  std::unique_ptr<Accumulator> own_rows;

  PartialGroups(const Plan& plan, const Plan::GroupingSteps& steps)
      : keys_in_all(steps.keys_in_all), grouping(steps.layout, keys_in_all == 0 ? plan.expected_rows : 0) {
    for (std::size_t i = 0; i < plan.aggregates.size(); ++i) {
      aggregates.push_back(plan.aggregates[i].make());
      if (rows == nullptr && plan.aggregates[i].where.empty() && aggregates[i]->counts_rows())
        rows = aggregates[i].get();
    }
    // Where a sum counts the rows anyway, nobody else needs to.
    for (std::size_t i = 0; i < aggregates.size() && rows != nullptr && plan.merging == Merging::whole; ++i) {
      if (plan.aggregates[i].is_row_count) aggregates[i] = make_rows_of(*rows);
    }
    if (rows == nullptr && keys_in_all != 0) {
      own_rows = make_row_count();
      rows = own_rows.get();
    }
    if (steps.layout.columns() == 0) grouping.find_or_add(0);
    grow();
  }
  std::size_t size() { return keys_in_all != 0 ? keys_in_all : grouping.keys().size(); }
  // How many have rows.
  std::size_t met() {
    if (keys_in_all == 0) return grouping.keys().size();
    std::size_t count = 0;
    for (GroupIndex g = 0; g < keys_in_all; ++g) count += rows->rows_of(g) != 0 ? 1 : 0;
    return count;
  }
  GroupIndex find_or_add(PackedKey key) {
    return keys_in_all != 0 ? static_cast<GroupIndex>(key) : grouping.find_or_add(key);
  }
  void grow() {
    for (const auto& aggregate : aggregates) aggregate->grow(size());
    if (own_rows) own_rows->grow(size());
  }
  void merge(PartialGroups& from) {
    std::vector<GroupIndex> groups(from.size());
    if (keys_in_all != 0) {
      std::iota(groups.begin(), groups.end(), GroupIndex{0});
    } else {
      grouping.find_or_add(from.grouping, groups.data());
      grow();
    }
    for (std::size_t i = 0; i < aggregates.size(); ++i) aggregates[i]->merge(*from.aggregates[i], groups);
    if (own_rows) own_rows->merge(*from.own_rows, groups);
  }
  // The keys of the groups that have rows, when all are added; the aggregates keep these alone.
  PackedKeys finish() {
    if (keys_in_all == 0) return std::move(grouping.keys());
    PackedKeys keys;
    std::vector<GroupIndex> groups;
    keys.reserve(keys_in_all);
    groups.reserve(keys_in_all);
    for (GroupIndex g = 0; g < keys_in_all; ++g) {
      if (rows->rows_of(g) == 0) continue;
      keys.push_back(g);
      groups.push_back(g);
    }
    for (const auto& aggregate : aggregates) aggregate->keep(groups);
    return keys;
  }
};

// The partial result of some blocks.
struct Chunk {
  std::vector<PartialGroups> groupings;
  bool filter_overflow = false;

  explicit Chunk(const Plan& plan) {
    for (const auto& steps : plan.groupings) groupings.emplace_back(plan, steps);
  }
  // True if further rows can change nothing.
  bool is_complete(const Plan& plan) {
    if (plan.most_groups.empty()) return false;
    for (std::size_t g = 0; g < groupings.size(); ++g) {
      if (plan.groupings[g].layout.columns() != 0 && groupings[g].met() < plan.most_groups[g]) return false;
    }
    return true;
  }
  void merge(Chunk& from) {
    for (std::size_t i = 0; i < groupings.size(); ++i) groupings[i].merge(from.groupings[i]);
    filter_overflow = filter_overflow || from.filter_overflow;
  }
};

class ChunkScanner {
 public:
  ChunkScanner(const Plan& plan, Chunk& chunk)
      : plan_(plan),
        chunk_(chunk),
        found_(store::block_rows + 16),
        groups_(store::block_rows),
        chosen_(plan.aggregates.size()) {}

  void add_block(std::size_t block) {
    plan_.program.begin(block, registers_);
    for (std::size_t f = 0; f < plan_.filters.size(); ++f) {
      overflowed_.clear();
      const std::size_t count = plan_.filters[f].find(plan_.program, registers_, found_, &overflowed_);
      chunk_.filter_overflow = chunk_.filter_overflow || !overflowed_.empty();
      if (count == 0) return;
      plan_.program.keep(std::span(found_).first(count), plan_.read_behind[f], registers_);
    }
    for (std::size_t a = 0; a < plan_.aggregates.size(); ++a) choose(plan_.aggregates[a], chosen_[a]);
    for (std::size_t g = 0; g < plan_.groupings.size(); ++g) add_to(plan_.groupings[g], chunk_.groupings[g]);
  }

 private:
  // The selected rows that an aggregate goes over, and those where its condition overflowed.
  struct Chosen {
    std::vector<std::uint32_t> rows;
    std::vector<std::uint32_t> overflowed;
  };

  void choose(const Plan::AggregateSteps& steps, Chosen& chosen) {
    if (steps.where.empty()) return;
    chosen.overflowed.clear();
    const auto find = [&](const RowTest& test, std::vector<std::uint32_t>& rows) {
      rows.resize(store::block_rows + 16);
      rows.resize(test.find(plan_.program, registers_, rows, &chosen.overflowed));
    };
    find(steps.where[0], chosen.rows);
    for (std::size_t t = 1; t < steps.where.size() && !chosen.rows.empty(); ++t) {
      find(steps.where[t], also_found_);
      const auto end = std::set_intersection(chosen.rows.begin(), chosen.rows.end(), also_found_.begin(),
                                             also_found_.end(), chosen.rows.begin());
      chosen.rows.erase(end, chosen.rows.end());
    }
  }

  void add_to(const Plan::GroupingSteps& steps, PartialGroups& partial) {
    if (!plan_.has_conditions && steps.keys.find_runs(plan_.program, registers_, runs_)) return add_runs(partial);
    const Added added = group(steps, partial);
    if (partial.own_rows) partial.own_rows->add(added, {});
    for (std::size_t a = 0; a < plan_.aggregates.size(); ++a) {
      const Plan::AggregateSteps& aggregate = plan_.aggregates[a];
      if (aggregate.where.empty()) {
        add(aggregate, added, *partial.aggregates[a]);
        continue;
      }
      const Chosen& chosen = chosen_[a];
      for (const std::uint32_t i : chosen.overflowed) partial.aggregates[a]->poison(added.group(i));
      Added some = added;
      some.count = chosen.rows.size();
      some.rows = chosen.rows.data();
      if (!added.one_group) {
        chosen_groups_.resize(some.count);
        for (std::size_t i = 0; i < some.count; ++i) chosen_groups_[i] = added.groups[some.rows[i]];
        some.groups = chosen_groups_.data();
      }
      some.rows_of_group = nullptr;
      add(aggregate, some, *partial.aggregates[a]);
    }
  }

  void add_runs(PartialGroups& partial) {
    Added added{0, groups_.data(), nullptr, true, nullptr, 0};
    for (const KeyPacker::Run& run : runs_) {
      groups_[0] = partial.find_or_add(run.key);
      partial.grow();
      added.count = run.end - added.first;
      if (partial.own_rows) partial.own_rows->add(added, {});
      for (std::size_t a = 0; a < plan_.aggregates.size(); ++a) add(plan_.aggregates[a], added, *partial.aggregates[a]);
      added.first = static_cast<std::uint32_t>(run.end);
    }
  }

  void add(const Plan::AggregateSteps& steps, const Added& added, Accumulator& to) {
    if (steps.codes) {
      to.add_codes(added, steps.codes->codes(plan_.program, registers_, codes_));
      return;
    }
    inputs_.clear();
    for (const auto step : steps.values) inputs_.push_back(&plan_.program.value(step, registers_));
    to.add(added, inputs_);
  }

  // Finds the groups of the selected rows.
  Added group(const Plan::GroupingSteps& steps, PartialGroups& partial) {
    const std::size_t count = registers_.count();
    Added added{count, groups_.data(), nullptr, true, nullptr, 0};
    if (steps.layout.columns() == 0) {
      groups_[0] = 0;
    } else if (steps.has_table) {
      const KeyPacker::Packed packed = steps.keys.pack_narrow(plan_.program, registers_, keys_);
      added.one_group = packed.all_equal;
      if (partial.keys_in_all != 0) {
        added.groups = packed.keys;
      } else {
        partial.grouping.find_or_add(std::span(packed.keys, packed.all_equal ? 1 : count), groups_.data());
      }
    } else if (steps.layout.bits() <= 64) {
      added.one_group = pack_and_number(steps, wide_keys_, partial);
    } else {
      added.one_group = pack_and_number(steps, widest_keys_, partial);
    }
    partial.grow();
    const std::size_t groups = partial.size();
    if (!added.one_group && groups <= Added::few_groups && !plan_.aggregates.empty()) {
      tally(added.groups, groups, count);
      added.rows_of_group = rows_of_group_.data();
    }
    return added;
  }
  template <class Key>
  bool pack_and_number(const Plan::GroupingSteps& steps, std::vector<Key>& keys, PartialGroups& partial) {
    keys.resize(registers_.count());
    const bool all_equal = steps.keys.pack(plan_.program, registers_, keys.data());
    partial.grouping.find_or_add(std::span<const Key>(keys.data(), all_equal ? 1 : keys.size()), groups_.data());
    return all_equal;
  }

  // Neighbours of one group would wait for each other: each of four in a row counts apart.
  void tally(const GroupIndex* of_rows, std::size_t groups, std::size_t count) {
    constexpr std::size_t ways = 4;
    std::array<std::array<std::uint32_t, Added::few_groups>, ways> counts;
    for (auto& way : counts) std::fill_n(way.begin(), groups, 0);
    std::size_t i = 0;
    for (; i + ways <= count; i += ways) {
      for (std::size_t way = 0; way < ways; ++way) ++counts[way][of_rows[i + way]];
    }
    for (; i < count; ++i) ++counts[0][of_rows[i]];
    for (std::size_t g = 0; g < groups; ++g)
      rows_of_group_[g] = counts[0][g] + counts[1][g] + counts[2][g] + counts[3][g];
  }

  const Plan& plan_;
  Chunk& chunk_;
  Program::Registers registers_;
  std::vector<std::uint32_t> found_;       // room for a selection
  std::vector<std::uint32_t> also_found_;  // by a further test
  std::vector<std::uint32_t> overflowed_;
  std::vector<GroupIndex> groups_;   // of the selected rows, in the grouping at hand
  std::vector<std::uint32_t> keys_;  // the keys of as many bits as the grouping needs
  std::vector<std::uint64_t> wide_keys_;
  std::vector<PackedKey> widest_keys_;
  std::array<std::uint32_t, Added::few_groups> rows_of_group_;
  std::vector<std::uint32_t> codes_;  // that an aggregate reads, where they have to be looked up
  std::vector<KeyPacker::Run> runs_;  // of the block, where keys change a few times
  std::vector<Chosen> chosen_;        // for each aggregate with a condition
  std::vector<GroupIndex> chosen_groups_;
  std::vector<const Vector*> inputs_;
};

// One pass over the blocks of a plan, on several threads.
class Pass {
 public:
  Pass(const Source& source, const ScanRequest& request, const Plan& plan, unsigned threads)
      : source_(source), table_(source.model.tables[request.table]), plan_(plan), threads_(threads) {}

  Chunk run() { return plan_.is_ordered ? in_order() : in_any_order(); }

 private:
  void add_blocks(ChunkScanner& scanner, std::size_t begin, std::size_t end) {
    for (std::size_t block = begin; block < end; ++block) {
      scanner.add_block(block);
      constexpr std::size_t between_looks = 16;
      if (source_.watch == nullptr || (block + 1) % between_looks != 0) continue;
      source_.check();
      rows_done_ += between_looks * store::block_rows;
      source_.watch->report(table_.name, rows_done_, plan_.program.rows());
    }
    source_.check();
  }

  // Each thread has one partial result, as these may be large. It takes some blocks at a time, of a stretch of its own
  // while there are any: rows that stand close together often belong to the same groups, which few threads should keep.
  // One that is done helps others, so that one that is held up holds up nobody else.
  Chunk in_any_order() {
    constexpr std::size_t some = 16;
    const std::size_t blocks = plan_.program.blocks();
    const std::size_t tasks = std::max<std::size_t>((blocks + some - 1) / some, 1);
    const auto workers = static_cast<unsigned>(std::min<std::size_t>(base::thread_count(threads_), tasks));
    std::vector<std::optional<Chunk>> parts(workers);
    std::vector<std::atomic<std::size_t>> next(workers);  // of each stretch, the next task
    const auto first = [&](unsigned stretch) { return tasks * stretch / workers; };
    for (unsigned stretch = 0; stretch < workers; ++stretch) next[stretch] = first(stretch);
    const auto end_all = [&] {
      for (auto& task : next) task = tasks;
    };
    base::run_together(
        workers,
        [&](unsigned worker) {
          Chunk& part = parts[worker].emplace(plan_);
          ChunkScanner scanner(plan_, part);
          for (unsigned s = 0; s < workers; ++s) {
            const unsigned stretch = (worker + s) % workers;
            const std::size_t end = first(stretch + 1);
            for (std::size_t t = next[stretch]++; t < end; t = next[stretch]++) {
              add_blocks(scanner, t * some, std::min((t + 1) * some, blocks));
              if (part.is_complete(plan_)) return end_all();
            }
          }
        },
        end_all);
    for (unsigned worker = 1; worker < workers; ++worker) {
      if (parts[worker]) parts[0]->merge(*parts[worker]);
    }
    return std::move(*parts[0]);
  }

  // Where the order of rows tells in the result, as it does in sums of reals, parts do not depend on the number of
  // threads. They are handed out in order and merged in order: a thread that is done early waits for its turn.
  Chunk in_order() {
    Chunk total(plan_);
    const std::size_t blocks = plan_.program.blocks();
    const std::size_t in_part = std::max<std::size_t>(64, blocks / 64);
    std::mutex mutex;
    std::condition_variable turn;
    std::size_t next_to_merge = 0;
    bool failed = false;  // then nobody's turn comes
    const auto scan_part = [&](std::size_t part) {
      Chunk chunk(plan_);
      ChunkScanner scanner(plan_, chunk);
      add_blocks(scanner, part * in_part, std::min((part + 1) * in_part, blocks));
      std::unique_lock lock(mutex);
      turn.wait(lock, [&] { return failed || next_to_merge == part; });
      if (failed) return;
      if (part == 0) {
        total = std::move(chunk);
      } else {
        total.merge(chunk);
      }
      ++next_to_merge;
      turn.notify_all();
    };
    base::parallel_for((blocks + in_part - 1) / in_part, threads_, [&](std::size_t part) {
      try {
        scan_part(part);
      } catch (...) {
        const std::lock_guard lock(mutex);
        failed = true;
        turn.notify_all();
        throw;
      }
    });
    return total;
  }

  const Source& source_;
  const language::Table& table_;
  const Plan& plan_;
  unsigned threads_;
  std::atomic<std::uint64_t> rows_done_ = 0;
};

}  // namespace

ScanResult scan(const Source& source, const ScanRequest& given, unsigned threads) {
  if (source.live != nullptr && source.is_live(given.table)) return source.live->scan(source, given);
  const RowKeys row_keys(source, given);
  const ScanRequest& request = row_keys.request();
  const Plan plan(source, request);
  Chunk total = Pass(source, request, plan, threads).run();
  ScanResult result;
  for (std::size_t g = 0; g < plan.groupings.size(); ++g) {
    PartialGroups& partial = total.groupings[g];
    PackedKeys keys = partial.finish();
    result.groupings.push_back({plan.groupings[g].layout, std::move(keys), std::move(partial.aggregates), {}});
    for (const auto& aggregate : plan.aggregates) result.groupings.back().fresh.push_back(aggregate.make);
  }
  result.filter_overflow = total.filter_overflow;
  row_keys.restore(result, threads);
  result.took_or_apart =
      std::any_of(plan.filters.begin(), plan.filters.end(), [](const RowTest& filter) { return filter.is_implied(); });
  result.row_tables = row_keys.tables();
  return result;
}

}  // namespace juniper::engine
