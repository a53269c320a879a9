#include "live/pass.h"

#include <fmt/format.h>

#include <algorithm>
#include <boost/unordered/unordered_flat_map.hpp>
#include <cmath>
#include <deque>
#include <map>
#include <optional>
#include <set>

#include "base/diagnostics.h"
#include "base/exact.h"
#include "base/failure.h"
#include "engine/aggregate/given.h"
#include "engine/vector/column_values.h"

namespace juniper::live {

using namespace language;
using engine::Accumulator;
using engine::GroupIndex;
using engine::ScanAggregate;
using engine::ScanKey;
using engine::ScanRequest;
using engine::ScanResult;

namespace {

// How an aggregate is asked for.
enum class Way : std::uint8_t {
  parts,      // as numbers of parts of groups, which meet here
  finished,   // as a number for each group, which meets no other
  by_values,  // as the different values of each group, with how often they occur
};

// One answer's rows, by all keys of its statement.
struct Told {
  std::shared_ptr<const Answer> answer;
  std::vector<std::vector<std::uint64_t>> codes;  // of each key of the request; empty for those not in the statement
};

// What one aggregate reads of an answer.
struct Read {
  std::size_t aggregate = 0;
  std::vector<std::size_t> columns;
};

// A request as statements, and their answers as groups.
class Pass {
 public:
  Pass(const engine::Source& source, Places& places, const ScanRequest& request)
      : source_(source), places_(places), request_(request) {}

  ScanResult run(const CodesOf& codes_of, const std::function<void()>& coded) {
    for (std::size_t g = 0; g < request_.groupings.size(); ++g) {
      for (const std::uint32_t key : request_.groupings[g]) used_.insert(key);
    }
    const std::vector<std::uint32_t> all(used_.begin(), used_.end());
    ask_together(all, codes_of);
    for (std::size_t g = 0; g < request_.groupings.size(); ++g) {
      if (!is_all(g)) ask_finished(g, codes_of);
    }
    for (std::size_t a = 0; a < request_.aggregates.size(); ++a) {
      if (way_of(request_.aggregates[a]) == Way::by_values) ask_values(a, all, codes_of);
    }
    coded();
    for (std::size_t g = 0; g < request_.groupings.size(); ++g) result_.groupings.push_back(groups(g));
    return std::move(result_);
  }

 private:
  struct Asked {
    Told told;
    std::vector<Read> reads;
    enum class For : std::uint8_t { all, those_of_all_keys, one } what = For::all;  // groupings
    std::size_t grouping = 0;                                                       // that one
    std::optional<std::size_t> times;   // of an answer by values: the column that tells how often each occurs
    std::vector<engine::Vector> order;  // … and the codes that order them
  };

  bool is_all(std::size_t grouping) const {
    return std::set<std::uint32_t>(request_.groupings[grouping].begin(), request_.groupings[grouping].end()) == used_;
  }

  Way way_of(const ScanAggregate& aggregate) const {
    const bool is_whole = request_.merging == engine::Merging::whole;
    const Dialect& dialect = places_.of(request_.table).dialect();
    switch (aggregate.node->aggregate) {
      case Aggregate::row_count:
      case Aggregate::count:
      case Aggregate::exists:
      case Aggregate::sum:
      case Aggregate::avg:
      case Aggregate::min:
      case Aggregate::max:
      case Aggregate::any:
      case Aggregate::every:
        return Way::parts;
      case Aggregate::stddev:
      case Aggregate::variance:
      case Aggregate::stddev_pop:
      case Aggregate::variance_pop:
        return dialect.moments("x") ? Way::parts : Way::by_values;
      case Aggregate::count_distinct:
        return is_whole ? Way::finished : Way::by_values;
      case Aggregate::median:
      case Aggregate::quantile:
        return is_whole && dialect.quantile("x", 0.5) ? Way::finished : Way::by_values;
      case Aggregate::product:
      case Aggregate::only:
      case Aggregate::first:
      case Aggregate::last:
      case Aggregate::list:
      case Aggregate::rank:
        return Way::by_values;
    }
    return Way::by_values;
  }

  Statement begin() {
    Statement statement(source_, places_, request_.table);
    for (const NodePtr& filter : request_.filters) statement.add_condition(filter);
    return statement;
  }

  std::map<std::uint32_t, Statement::Key> select_keys(Statement& statement, const std::vector<std::uint32_t>& keys) {
    std::map<std::uint32_t, Statement::Key> selected;
    for (const std::uint32_t key : keys) selected.emplace(key, statement.select_key(request_.keys[key]));
    return selected;
  }

  // A sum that may leave the engine's numbers without a word: the same in reals, which tells.
  void select_check(Statement& statement, const Sql& x, Type type, std::size_t sum) {
    const auto check = statement.dialect().sum_check(x, type);
    if (check) checks_.push_back({sum, statement.select(*check, {TypeKind::real, 0}), type});
  }

  void check_sums(const Answer& answer) {
    for (const SumCheck& check : checks_) {
      for (std::size_t row = 0; row < answer.rows(); ++row) {
        const Value sum = answer.value(check.sum, row);
        const Value real = answer.value(check.real, row);
        if (sum.is_null() || real.is_null()) continue;
        // What has wrapped around is off by the whole width of the numbers.
        const double in_units = real.real() * static_cast<double>(base::power_of_ten(check.type.scale));
        if (std::abs(in_units - static_cast<double>(sum.exact())) < 0x1p120) continue;
        throw base::Failure(
            base::error("JR-521", "a sum does not fit the engine's numbers", "narrow the rows, or sum reals"));
      }
    }
    checks_.clear();
  }

  Told tell(const Statement& statement, const std::map<std::uint32_t, Statement::Key>& keys, const CodesOf& codes_of) {
    Told told{places_.ask(request_.table, statement.text(), statement.types()), {}};
    check_sums(*told.answer);
    told.codes.resize(request_.keys.size());
    for (const auto& [key, selected] : keys) told.codes[key] = codes_of(request_.keys[key], selected, *told.answer);
    return told;
  }

  // All that parts tell, for all groupings at once; and what is finished, where a grouping has all keys.
  void ask_together(const std::vector<std::uint32_t>& all, const CodesOf& codes_of) {
    Statement statement = begin();
    const auto keys = select_keys(statement, all);
    bool any_has_all = false;
    for (std::size_t g = 0; g < request_.groupings.size(); ++g) any_has_all = any_has_all || is_all(g);
    Asked parts;
    Asked finished;
    for (std::size_t a = 0; a < request_.aggregates.size(); ++a) {
      const Way way = way_of(request_.aggregates[a]);
      if (way == Way::parts) parts.reads.push_back({a, select(statement, request_.aggregates[a])});
      if (way == Way::finished && any_has_all) finished.reads.push_back({a, select(statement, request_.aggregates[a])});
    }
    // Whether there is any row is told by a statement without aggregates, too.
    if (parts.reads.empty() && finished.reads.empty()) statement.select("COUNT(*)", {TypeKind::integer, 0});
    parts.told = tell(statement, keys, codes_of);
    finished.told = parts.told;
    finished.what = Asked::For::those_of_all_keys;
    asked_.push_back(std::move(parts));
    if (!finished.reads.empty()) asked_.push_back(std::move(finished));
  }

  // What is finished by a grouping that has some of the keys.
  void ask_finished(std::size_t g, const CodesOf& codes_of) {
    Statement statement = begin();
    const auto keys = select_keys(statement, request_.groupings[g]);
    Asked asked;
    for (std::size_t a = 0; a < request_.aggregates.size(); ++a) {
      if (way_of(request_.aggregates[a]) == Way::finished)
        asked.reads.push_back({a, select(statement, request_.aggregates[a])});
    }
    if (asked.reads.empty()) return;
    asked.told = tell(statement, keys, codes_of);
    asked.what = Asked::For::one;
    asked.grouping = g;
    asked_.push_back(std::move(asked));
  }

  void ask_values(std::size_t a, const std::vector<std::uint32_t>& all, const CodesOf& codes_of) {
    const ScanAggregate& aggregate = request_.aggregates[a];
    Statement statement = begin();
    if (aggregate.where) statement.add_condition(aggregate.where);
    auto keys = select_keys(statement, all);
    Asked asked;
    Read& read = asked.reads.emplace_back(Read{a, {}});
    std::vector<Statement::Key> values;
    for (const NodePtr& value : aggregate.values) {
      values.push_back(statement.select_key(value));
      read.columns.push_back(values.back().column);
    }
    std::vector<Statement::Key> order;
    for (const engine::ScanOrder& by : aggregate.order) order.push_back(statement.select_key(by.key));
    asked.times = statement.select("COUNT(*)", {TypeKind::integer, 0});
    asked.told = tell(statement, keys, codes_of);
    for (std::size_t k = 0; k < order.size(); ++k) {
      const auto codes = codes_of(aggregate.order[k].key, order[k], *asked.told.answer);
      engine::Vector& vector = asked.order.emplace_back();
      vector.reset(engine::Repr::narrow, codes.size());
      std::copy(codes.begin(), codes.end(), vector.narrow.begin());
    }
    for (std::size_t v = 0; v < values.size(); ++v) {
      if (!values[v].values) continue;
      engine::Vector& vector = own_.emplace_back();
      vector.reset(asked_repr(aggregate.values[v]->type), asked.told.answer->rows());
      for (std::size_t row = 0; row < vector.size(); ++row)
        vector.set(row, values[v].value_in(*asked.told.answer, row));
      replaced_[{asked_.size(), read.columns[v]}] = &vector;
    }
    asked_.push_back(std::move(asked));
  }

  static engine::Repr asked_repr(Type type) { return engine::repr_of(type, !type.is_exact_number()); }

  // The columns of an aggregate's parts, or of what it is in the end.
  std::vector<std::size_t> select(Statement& statement, const ScanAggregate& aggregate) {
    const Dialect& dialect = statement.dialect();
    const Node& node = *aggregate.node;
    const Type count{TypeKind::integer, 0};
    const Type real{TypeKind::real, 0};
    Sql x{"1", 1};
    Type type = count;
    if (!aggregate.values.empty()) {
      x = statement.operand(aggregate.values[0]);
      type = aggregate.values[0]->type;
    }
    const bool is_all = aggregate.values.empty() && !aggregate.where;
    if (aggregate.where) x.text = dialect.where(statement.operand(aggregate.where).text, x.text);
    switch (node.aggregate) {
      case Aggregate::row_count:
      case Aggregate::count:
      case Aggregate::exists:
        return {statement.select(is_all ? "COUNT(*)" : fmt::format("COUNT({})", x.text), count)};
      case Aggregate::sum:
      case Aggregate::avg: {
        const std::size_t sum = statement.select(dialect.sum(x, type), type);
        select_check(statement, x, type, sum);
        if (node.aggregate == Aggregate::sum) return {sum};
        return {sum, statement.select(fmt::format("COUNT({})", x.text), count)};
      }
      case Aggregate::min:
      case Aggregate::every:
        return {statement.select(dialect.extreme(x, type, true), type)};
      case Aggregate::max:
      case Aggregate::any:
        return {statement.select(dialect.extreme(x, type, false), type)};
      case Aggregate::count_distinct:
        return {statement.select(dialect.count_distinct(x, type), count)};
      case Aggregate::median:
        return {statement.select(*dialect.quantile(x.text, 0.5), real)};
      case Aggregate::quantile:
        return {statement.select(*dialect.quantile(x.text, node.literal.real()), real)};
      case Aggregate::stddev:
      case Aggregate::variance:
      case Aggregate::stddev_pop:
      case Aggregate::variance_pop: {
        std::vector<std::size_t> columns;
        const auto moments = dialect.moments(x.text);
        for (const std::string& moment : *moments) columns.push_back(statement.select(moment, real));
        return columns;
      }
      case Aggregate::product:
      case Aggregate::only:
      case Aggregate::first:
      case Aggregate::last:
      case Aggregate::list:
      case Aggregate::rank:
        break;
    }
    return {};
  }

  std::function<std::unique_ptr<Accumulator>()> maker(std::size_t a) const {
    const ScanAggregate& aggregate = request_.aggregates[a];
    const NodePtr node = aggregate.node;
    const Way way = way_of(aggregate);
    const Type type = aggregate.values.empty() ? Type{} : aggregate.values[0]->type;
    if (way == Way::finished) {
      if (node->aggregate == Aggregate::count_distinct) return [] { return engine::make_given_count(); };
      return [] { return engine::make_given_real(); };
    }
    if (way == Way::parts) {
      switch (node->aggregate) {
        case Aggregate::row_count:
        case Aggregate::count:
          return [] { return engine::make_given_count(); };
        case Aggregate::avg:
          return [type] { return engine::make_given_average(type); };
        case Aggregate::stddev:
        case Aggregate::variance:
        case Aggregate::stddev_pop:
        case Aggregate::variance_pop:
          return [kind = node->aggregate] { return engine::make_given_spread(kind); };
        case Aggregate::exists:
        case Aggregate::sum:
        case Aggregate::min:
        case Aggregate::max:
        case Aggregate::any:
        case Aggregate::every:
        case Aggregate::count_distinct:
        case Aggregate::median:
        case Aggregate::quantile:
        case Aggregate::product:
        case Aggregate::only:
        case Aggregate::first:
        case Aggregate::last:
        case Aggregate::list:
        case Aggregate::rank:
          break;
      }
    }
    std::vector<engine::Repr> reprs;
    for (const NodePtr& value : aggregate.values) reprs.push_back(asked_repr(value->type));
    for (std::size_t k = 0; k < aggregate.order.size(); ++k) reprs.push_back(engine::Repr::narrow);
    return [node, reprs, order = aggregate.order_keys(), merging = request_.merging] {
      return engine::make_accumulator(*node, reprs, merging, order);
    };
  }

  // The groups of one grouping, of all that was told.
  engine::Groups groups(std::size_t g) {
    std::vector<ScanKey> keys;
    for (const std::uint32_t key : request_.groupings[g]) keys.push_back(request_.keys[key]);
    engine::Groups groups{engine::layout_of(keys), {}, {}, {}};
    groups.keys = engine::PackedKeys(groups.layout.bits());
    for (std::size_t a = 0; a < request_.aggregates.size(); ++a) {
      groups.fresh.push_back(maker(a));
      groups.aggregates.push_back(groups.fresh.back()());
    }
    boost::unordered_flat_map<engine::PackedKey, GroupIndex, engine::HashPackedKey> numbers;
    const auto number = [&](engine::PackedKey key) {
      const auto [at, fresh] = numbers.try_emplace(key, static_cast<GroupIndex>(groups.keys.size()));
      if (fresh) groups.keys.push_back(key);
      return at->second;
    };
    if (keys.empty()) number(0);
    for (std::size_t i = 0; i < asked_.size(); ++i) {
      const Asked& asked = asked_[i];
      if (asked.what == Asked::For::one && asked.grouping != g) continue;
      if (asked.what == Asked::For::those_of_all_keys && !is_all(g)) continue;
      std::vector<GroupIndex> of_rows(asked.told.answer->rows());
      for (std::size_t row = 0; row < of_rows.size(); ++row) {
        engine::PackedKey key = 0;
        for (std::size_t k = 0; k < keys.size(); ++k)
          key = groups.layout.with(key, k, asked.told.codes[request_.groupings[g][k]][row]);
        of_rows[row] = number(key);
      }
      for (const auto& aggregate : groups.aggregates) aggregate->grow(groups.keys.size());
      for (const Read& read : asked.reads) add(asked, i, read, of_rows, *groups.aggregates[read.aggregate]);
    }
    for (const auto& aggregate : groups.aggregates) aggregate->grow(groups.keys.size());
    return groups;
  }

  void add(const Asked& asked, std::size_t number, const Read& read, const std::vector<GroupIndex>& of_rows,
           Accumulator& to) const {
    std::vector<const engine::Vector*> inputs;
    for (const std::size_t column : read.columns) {
      const auto other = replaced_.find({number, column});
      inputs.push_back(other != replaced_.end() ? other->second : &asked.told.answer->column(column));
    }
    for (const engine::Vector& order : asked.order) inputs.push_back(&order);
    std::vector<std::uint32_t> rows;
    std::vector<GroupIndex> groups;
    const bool is_exists = request_.aggregates[read.aggregate].node->aggregate == Aggregate::exists;
    for (std::uint32_t row = 0; row < of_rows.size(); ++row) {
      std::uint64_t times = 1;
      if (asked.times) times = static_cast<std::uint64_t>(asked.told.answer->value(*asked.times, row).exact());
      if (is_exists && asked.told.answer->value(read.columns[0], row).exact() == 0) times = 0;
      for (; times != 0; --times) {
        rows.push_back(row);
        groups.push_back(of_rows[row]);
      }
    }
    to.add({rows.size(), groups.data(), rows.data(), false, nullptr, 0}, inputs);
  }

  const engine::Source& source_;
  Places& places_;
  const ScanRequest& request_;
  std::set<std::uint32_t> used_;  // keys of some grouping
  struct SumCheck {
    std::size_t sum = 0;  // columns of the statement at hand
    std::size_t real = 0;
    Type type;
  };
  std::vector<SumCheck> checks_;
  std::vector<Asked> asked_;
  std::deque<engine::Vector> own_;
  // Of an answer by its number, a column whose values stand here instead.
  std::map<std::pair<std::size_t, std::size_t>, const engine::Vector*> replaced_;
  ScanResult result_;
};

}  // namespace

ScanResult ask_pass(const engine::Source& source, Places& places, const ScanRequest& request, const CodesOf& codes_of,
                    const std::function<void()>& coded) {
  return Pass(source, places, request).run(codes_of, coded);
}

}  // namespace juniper::live
