// Aggregates that order their rows: first, last and list.
#include <algorithm>
#include <boost/container/small_vector.hpp>
#include <vector>

#include "engine/aggregate/accumulate_parts.h"
#include "engine/aggregate/grouped.h"

namespace juniper::engine {

namespace {

// Where a row stands by each of its order keys, nulls last.
using Order = boost::container::small_vector<std::uint64_t, 3>;

class RowPlaces {
 public:
  explicit RowPlaces(std::span<const OrderKey> keys) : keys_(keys.begin(), keys.end()) {}

  std::size_t keys() const { return keys_.size(); }
  // `inputs` as in Accumulator::add: the keys stand behind the value.
  std::uint64_t place(Accumulator::Inputs inputs, std::size_t key, std::uint32_t row) const {
    const std::uint64_t code = inputs[key + 1]->codes()[row];
    const std::uint64_t null_code = keys_[key].null_code;
    return keys_[key].descending && code != null_code ? null_code - 1 - code : code;
  }
  Order order(Accumulator::Inputs inputs, std::uint32_t row) const {
    Order order(keys_.size());
    for (std::size_t k = 0; k < order.size(); ++k) order[k] = place(inputs, k, row);
    return order;
  }
  // False for rows without a key that is needed.
  bool counts(Accumulator::Inputs inputs, std::uint32_t row) const {
    for (std::size_t k = 0; k < keys_.size(); ++k) {
      if (keys_[k].needed && inputs[k + 1]->codes()[row] == keys_[k].null_code) return false;
    }
    return true;
  }

 private:
  std::vector<OrderKey> keys_;
};

template <class T>
struct EdgeRow {
  Order order;
  T value{};
  State state = State::null;
  bool any = false;
};

template <class T>
class Edge final : public Grouped<Edge<T>, EdgeRow<T>> {
 public:
  Edge(Repr repr, bool first, std::span<const OrderKey> keys) : repr_(repr), first_(first), places_(keys) {}

  bool is_ordered() const override { return true; }
  void add(const Added& added, Accumulator::Inputs inputs) override {
    const Vector& values = *inputs[0];
    const auto& column = values.of<Seen<T>>();
    for (std::size_t i = 0; i < added.count; ++i) {
      const std::uint32_t row = added.row(i);
      if (!places_.counts(inputs, row)) continue;
      EdgeRow<T>& best = this->groups_[added.group(i)];
      if (best.any && !passes(best.order, inputs, row)) continue;
      best.order.resize(places_.keys());
      for (std::size_t k = 0; k < best.order.size(); ++k) best.order[k] = places_.place(inputs, k, row);
      best.any = true;
      best.state = values.state[row];
      if (best.state == State::value) best.value = T(column[row]);
    }
  }
  Repr repr() const override { return repr_; }
  void merge_group(EdgeRow<T>& into, const EdgeRow<T>& from, GroupIndex) {
    if (from.any && (!into.any || (first_ ? from.order < into.order : into.order < from.order))) into = from;
  }
  void finish(const EdgeRow<T>& best, Vector& out, std::size_t row) const {
    out.state[row] = best.state;
    if (best.state != State::value) return;
    if constexpr (std::is_same_v<T, std::string>) {
      out.text[row] = out.owned.emplace_back(best.value);
    } else {
      out.of<T>()[row] = best.value;
    }
  }

 private:
  bool passes(const Order& best, Accumulator::Inputs inputs, std::uint32_t row) const {
    for (std::size_t k = 0; k < best.size(); ++k) {
      const std::uint64_t place = places_.place(inputs, k, row);
      if (place != best[k]) return (place < best[k]) == first_;
    }
    return false;
  }

  Repr repr_;
  bool first_;
  RowPlaces places_;
};

struct ListedText {
  Order order;
  std::string text;
};

class List final : public Grouped<List, std::vector<ListedText>> {
 public:
  List(std::string separator, std::span<const OrderKey> keys) : separator_(std::move(separator)), places_(keys) {}

  bool is_ordered() const override { return true; }
  void add(const Added& added, Accumulator::Inputs inputs) override {
    each_value(added, *inputs[0], [&](std::vector<ListedText>& group, std::uint32_t row, GroupIndex) {
      group.push_back({places_.order(inputs, row), std::string(inputs[0]->text[row])});
    });
  }
  Repr repr() const override { return Repr::text; }
  void merge_group(std::vector<ListedText>& into, const std::vector<ListedText>& from, GroupIndex) {
    into.insert(into.end(), from.begin(), from.end());
  }
  void finish(const std::vector<ListedText>& group, Vector& out, std::size_t row) const {
    if (group.empty()) {
      out.state[row] = State::null;
      return;
    }
    std::vector<const ListedText*> sorted;
    for (const ListedText& text : group) sorted.push_back(&text);
    std::stable_sort(sorted.begin(), sorted.end(),
                     [&](const ListedText* a, const ListedText* b) { return a->order < b->order; });
    std::string& list = out.owned.emplace_back();
    for (const ListedText* text : sorted) {
      if (text != sorted.front()) list += separator_;
      list += text->text;
    }
    out.text[row] = list;
  }

 private:
  std::string separator_;
  RowPlaces places_;
};

}  // namespace

std::unique_ptr<Accumulator> make_edge(Repr repr, bool first, std::span<const OrderKey> order) {
  return by_repr<Edge>(repr, repr, first, order);
}

std::unique_ptr<Accumulator> make_list(std::string separator, std::span<const OrderKey> order) {
  return std::make_unique<List>(std::move(separator), order);
}

}  // namespace juniper::engine
