#include "engine/frame/stretches.h"

#include <algorithm>
#include <array>
#include <boost/sort/spreadsort/integer_sort.hpp>
#include <numeric>
#include <optional>

#include "base/parallel.h"

namespace juniper::engine {

namespace {

// Calls take(i) for all i below `count`, on several threads.
template <class Take>
void for_each(std::size_t count, unsigned threads, const Take& take) {
  base::parallel_ranges(count, threads, [&](std::size_t begin, std::size_t end) {
    for (std::size_t i = begin; i < end; ++i) take(i);
  });
}

// Where things go that are bucketed by partition, in their order.
struct Buckets {
  std::vector<std::size_t> begins;   // of each partition; one more at the end
  std::vector<std::uint32_t> place;  // of each thing; `none` where it has no partition

  Buckets(std::vector<std::uint32_t> partition, std::size_t partitions)
      : begins(partitions + 1, 0), place(std::move(partition)) {
    for (const std::uint32_t p : place) {
      if (p != StretchRequest::none) ++begins[p + 1];
    }
    for (std::size_t p = 0; p < partitions; ++p) begins[p + 1] += begins[p];
    std::vector<std::size_t> next(begins.begin(), begins.end() - 1);
    for (std::uint32_t& p : place) {
      if (p != StretchRequest::none) p = static_cast<std::uint32_t>(next[p]++);
    }
  }
  std::size_t size() const { return begins.back(); }
  // Moves values to their places.
  template <class T>
  void move(const std::vector<T>& from, std::vector<T>& to, unsigned threads) const {
    for_each(place.size(), threads, [&](std::size_t i) {
      if (place[i] != StretchRequest::none) to[place[i]] = from[i];
    });
  }
  template <class T>
  std::vector<T> moved(const std::vector<T>& from, unsigned threads) const {
    std::vector<T> to(size());
    move(from, to, threads);
    return to;
  }
  // Texts that `from` owns stay its own.
  Vector moved(const Vector& from, unsigned threads) const {
    Vector to;
    to.reset(from.repr, size());
    const bool plain =
        std::all_of(from.state.begin(), from.state.end(), [](State state) { return state == State::value; });
    if (!plain) move(from.state, to.state, threads);
    with_type(from.repr, [&](auto zero) {
      using T = decltype(zero);
      move(from.of<T>(), to.of<T>(), threads);
    });
    return to;
  }
};

struct Coded {
  std::uint64_t code;
  std::uint32_t number;
  bool operator<(const Coded& other) const { return code < other.code; }
};

void sort_by_code(std::vector<Coded>& coded) {
  if (std::is_sorted(coded.begin(), coded.end())) return;
  boost::sort::spreadsort::integer_sort(
      coded.begin(), coded.end(), [](const Coded& c, unsigned shift) { return c.code >> shift; },
      [](const Coded& a, const Coded& b) { return a.code < b.code; });
}

enum class Side : std::uint8_t { first, last, both };

// Where all ranges begin or end alike.
Side side_of(const StretchRequest& request) {
  if (!request.wanted->one_each()) return Side::both;
  bool first = true;
  bool last = true;
  for (std::size_t i = 0; i < request.row_partition.size(); ++i) {
    const CodeRange range = request.wanted->one(i);
    if (range.begin >= range.end) continue;
    first = first && range.begin == 0;
    last = last && range.end >= request.null_code;
  }
  return first ? Side::first : (last ? Side::last : Side::both);
}

// Adds items to a group of an accumulator.
struct Adder {
  const Accumulator* partial = nullptr;
  std::vector<std::uint32_t> groups;  // of `partial`, by place
  std::vector<const Vector*> inputs;  // by place

  void add(std::span<const std::uint32_t> items, Accumulator& into, GroupIndex group) const {
    if (partial != nullptr) {
      for (const std::uint32_t item : items) into.merge_one(group, *partial, groups[item]);
      return;
    }
    into.add({items.size(), &group, items.data(), true}, inputs);
  }
};

// The partial results of consecutive items, so that any stretch of them is the merge of a few: a binary tree in an
// array, node i above 2i and 2i + 1, the items being the last ones.
class MergeTree {
 public:
  MergeTree(std::unique_ptr<Accumulator> nodes, const Adder& adder, std::span<const std::uint32_t> items)
      : nodes_(std::move(nodes)), size_(items.size()) {
    nodes_->grow(2 * size_);
    for (std::size_t i = 0; i < size_; ++i) adder.add(items.subspan(i, 1), *nodes_, static_cast<GroupIndex>(size_ + i));
    for (std::size_t i = size_; i-- > 1;) {
      nodes_->merge_one(static_cast<GroupIndex>(i), *nodes_, static_cast<GroupIndex>(2 * i));
      nodes_->merge_one(static_cast<GroupIndex>(i), *nodes_, static_cast<GroupIndex>(2 * i + 1));
    }
  }
  // Adds items begin to end - 1, in their order, to a group of `to`.
  void add(std::size_t begin, std::size_t end, Accumulator& to, GroupIndex group) const {
    std::array<std::size_t, 64> right;
    std::size_t rights = 0;
    std::size_t l = begin + size_;
    std::size_t r = end + size_;
    for (; l < r; l /= 2, r /= 2) {
      if (l % 2 == 1) to.merge_one(group, *nodes_, static_cast<GroupIndex>(l++));
      if (r % 2 == 1) right[rights++] = --r;
    }
    while (rights > 0) to.merge_one(group, *nodes_, static_cast<GroupIndex>(right[--rights]));
  }

 private:
  std::unique_ptr<Accumulator> nodes_;
  std::size_t size_;
};

// What is asked, by place: the other end of ranges that all begin or end alike, or the number of the frame's row.
struct Asked {
  std::vector<std::uint64_t> ends;
  std::vector<std::uint32_t> rows;
  // The frame's rows are the items, and each asks for what lies before or behind its own code: this is done to the
  // code.
  std::optional<Cut> cut;
};

// The end of a range in which it differs from others; one that nothing lies before, or behind, if it is empty.
std::uint64_t asked_end(const StretchRequest& request, Side side, const CodeRange& range) {
  if (range.begin >= range.end) return side == Side::first ? 0 : request.null_code;
  return side == Side::first ? range.end : range.begin;
}

// Works on one partition after the other, and keeps its memory from one to the next.
class Worker {
 public:
  Worker(const StretchRequest& request, Side side, const Adder& adder, const std::vector<std::uint64_t>& codes,
         const Asked& asked, Vector& out)
      : request_(request), side_(side), adder_(adder), codes_(codes), asked_(asked), out_(out) {}

  // The items at some places, for what is asked at others.
  void work(std::size_t item_begin, std::size_t item_end, std::size_t ask_begin, std::size_t ask_end) {
    if (ask_begin == ask_end) return;
    sort(codes_, item_begin, item_end, items_);
    sorted_.clear();
    for (const Coded& item : items_) sorted_.push_back(item.number);
    if (side_ == Side::both) return with_tree(ask_begin, ask_end);
    if (asked_.cut) {
      asks_of_items();
    } else {
      sort(asked_.ends, ask_begin, ask_end, asks_);
    }
    side_ == Side::first ? forwards() : backwards();
  }

 private:
  static void sort(const std::vector<std::uint64_t>& codes, std::size_t begin, std::size_t end,
                   std::vector<Coded>& coded) {
    coded.clear();
    for (std::size_t i = begin; i < end; ++i) coded.push_back({codes[i], static_cast<std::uint32_t>(i)});
    sort_by_code(coded);
  }

  // The items in order are nearly the asks in order: those without a code ask for nothing, which comes first forwards.
  void asks_of_items() {
    const auto ask = [&](const Coded& item) {
      asks_.push_back({asked_end(request_, side_, asked_.cut->range(item.code)), item.number});
    };
    const auto nulls = std::partition_point(items_.begin(), items_.end(),
                                            [&](const Coded& item) { return item.code < request_.null_code; });
    asks_.clear();
    if (side_ == Side::first) std::for_each(nulls, items_.end(), ask);
    std::for_each(items_.begin(), nulls, ask);
    if (side_ == Side::last) std::for_each(nulls, items_.end(), ask);
  }

  void forwards() {
    const auto running = request_.fresh(Merging::whole);
    running->grow(1);
    std::size_t at = 0;
    for (const Coded& ask : asks_) {
      std::size_t end = at;
      while (end < items_.size() && items_[end].code < ask.code) ++end;
      if (end > at) adder_.add(std::span(sorted_).subspan(at, end - at), *running, 0);
      at = end;
      running->put(0, out_, ask.number);
    }
  }

  void backwards() {
    const auto running = request_.fresh(Merging::whole);
    running->grow(1);
    // Items without a value stand last, and no range holds them.
    std::size_t at = items_.size();
    while (at > 0 && items_[at - 1].code >= request_.null_code) --at;
    for (std::size_t i = asks_.size(); i-- > 0;) {
      std::size_t begin = at;
      while (begin > 0 && items_[begin - 1].code >= asks_[i].code) --begin;
      if (begin < at) adder_.add(std::span(sorted_).subspan(begin, at - begin), *running, 0);
      at = begin;
      running->put(0, out_, asks_[i].number);
    }
  }

  void with_tree(std::size_t ask_begin, std::size_t ask_end) {
    const auto results = request_.fresh(Merging::one_by_one);
    results->grow(ask_end - ask_begin);
    const MergeTree tree(request_.fresh(Merging::one_by_one), adder_, sorted_);
    const auto first_at = [&](std::uint64_t code) {
      return static_cast<std::size_t>(
          std::partition_point(items_.begin(), items_.end(), [&](const Coded& item) { return item.code < code; }) -
          items_.begin());
    };
    for (std::size_t ask = ask_begin; ask < ask_end; ++ask) {
      const auto group = static_cast<GroupIndex>(ask - ask_begin);
      request_.wanted->each(asked_.rows[ask], [&](const CodeRange& range) {
        if (range.begin >= range.end) return;
        const std::size_t begin = first_at(range.begin);
        const std::size_t end = first_at(range.end);
        if (begin < end) tree.add(begin, end, *results, group);
      });
      results->put(group, out_, ask);
    }
  }

  const StretchRequest& request_;
  Side side_;
  const Adder& adder_;
  const std::vector<std::uint64_t>& codes_;
  const Asked& asked_;
  Vector& out_;
  std::vector<Coded> items_;
  std::vector<std::uint32_t> sorted_;
  std::vector<Coded> asks_;
};

Asked asked_by(const StretchRequest& request, Side side, const Buckets& rows, bool alike, unsigned threads) {
  Asked asked;
  if (side == Side::both) {
    asked.rows.resize(rows.size());
  } else if (alike && request.wanted->codes() == request.item_code) {
    asked.cut = request.wanted->cut();
    return asked;
  } else {
    asked.ends.resize(rows.size());
  }
  for_each(rows.place.size(), threads, [&](std::size_t i) {
    const std::uint32_t place = rows.place[i];
    if (place == StretchRequest::none) return;
    if (side == Side::both) {
      asked.rows[place] = static_cast<std::uint32_t>(i);
      return;
    }
    asked.ends[place] = asked_end(request, side, request.wanted->one(i));
  });
  return asked;
}

}  // namespace

Vector aggregate_stretches(StretchRequest request, unsigned threads) {
  const auto nothing = request.fresh(Merging::whole);
  const Side side = side_of(request);
  // Running totals: the frame's rows are the items.
  const bool alike = request.item_partition == request.row_partition;
  const Buckets items(std::move(request.item_partition), request.partitions);
  const std::optional<Buckets> other =
      alike ? std::nullopt : std::make_optional<Buckets>(std::move(request.row_partition), request.partitions);
  const Buckets& rows = alike ? items : *other;
  const std::vector<std::uint64_t> codes = items.moved(*request.item_code, threads);
  const Asked asked = asked_by(request, side, rows, alike, threads);
  Adder adder;
  std::vector<Vector> inputs;
  if (request.partial != nullptr) {
    adder.partial = request.partial;
    std::vector<std::uint32_t> groups(items.place.size());
    std::iota(groups.begin(), groups.end(), 0U);
    adder.groups = items.moved(groups, threads);
  } else {
    for (const Vector& input : request.inputs) inputs.push_back(items.moved(input, threads));
    for (const Vector& input : inputs) adder.inputs.push_back(&input);
  }
  Vector results;
  results.reset(nothing->repr(), rows.size());
  // Consecutive partitions with about this many items and rows are one task.
  constexpr std::size_t task_size = std::size_t{1} << 16;
  std::vector<std::size_t> tasks{0};
  for (std::size_t p = 0; p < request.partitions; ++p) {
    const std::size_t first = tasks.back();
    const std::size_t size = items.begins[p + 1] - items.begins[first] + rows.begins[p + 1] - rows.begins[first];
    if (size >= task_size || p + 1 == request.partitions) tasks.push_back(p + 1);
  }
  // Texts of the results have one owner.
  base::parallel_for(tasks.size() - 1, results.repr == Repr::text ? 1 : threads, [&](std::size_t task) {
    Worker worker(request, side, adder, codes, asked, results);
    for (std::size_t p = tasks[task]; p < tasks[task + 1]; ++p)
      worker.work(items.begins[p], items.begins[p + 1], rows.begins[p], rows.begins[p + 1]);
  });
  Vector out;
  out.reset(results.repr, rows.place.size());
  for_each(out.size(), threads, [&](std::size_t row) {
    const std::uint32_t place = rows.place[row];
    if (place != StretchRequest::none) out.state[row] = results.state[place];
  });
  with_type(out.repr, [&](auto zero) {
    using T = decltype(zero);
    for_each(out.size(), threads, [&](std::size_t row) {
      if (rows.place[row] != StretchRequest::none) out.of<T>()[row] = results.of<T>()[rows.place[row]];
    });
  });
  out.owned = std::move(results.owned);
  for (std::size_t row = 0; row < out.size(); ++row) {
    if (rows.place[row] == StretchRequest::none) nothing->put(0, out, row);
  }
  return out;
}

}  // namespace juniper::engine
