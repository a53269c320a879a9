#include "engine/query/table_scans.h"

#include <fmt/format.h>

#include <algorithm>
#include <chrono>

#include "engine/query/arrange.h"
#include "engine/scan/merged_groups.h"
#include "language/traverse.h"

namespace juniper::engine {

using namespace language;

namespace {

NodePtr of_row(const NodePtr& node, VariableId row) {
  return replaced(node, [&](const NodePtr& n) -> NodePtr {
    if (n->op != Op::column || n->variable != row) return nullptr;
    auto copy = std::make_shared<Node>(*n);
    copy->variable = slice_row;
    return copy;
  });
}

// Of the rows that groups have as the code of a key, those that occur, as bits, where they are at most half of all.
WantedCodes rows_of(const Groups& groups, std::size_t column, std::uint64_t rows) {
  if (rows >= base::PackedTable::most_entries / 16) return nullptr;
  base::PackedTable bits(rows + 1, 1);
  std::uint64_t count = 0;
  groups.keys.visit([&](const auto& keys) {
    for (const auto key : keys) {
      const std::uint64_t row = groups.layout.code(key, column);
      if (bits[row] != 0) continue;
      bits.add(row, 1);
      ++count;
    }
  });
  return 2 * count <= rows + 1 ? std::make_shared<const base::PackedTable>(std::move(bits)) : nullptr;
}

}  // namespace

void TableScans::collect(const NodePtr& node, const std::vector<TableIndex>& bridges, Seen& seen) {
  if (node->op == Op::measure) {
    if (collected_.emplace(node->measure, bridges).second)
      collect(model_.measures[node->measure].expression, bridges, seen);
    return;
  }
  if (node->op == Op::aggregate) {
    if (is_simple(*node) && seen.emplace(bridges, canonical(model_, node)).second)
      scan_of({*node->rows->table, {}, bridges}).aggregates.push_back(node);
    return;
  }
  // The same over one bridge.
  if (node->op == Op::modified && is_bridge_alone(*node->modifiers) && bridges.empty())
    return collect(node->children[0], {node->modifiers->through->table}, seen);
  if (node->op == Op::modified || node->op == Op::let) return;
  for (const NodePtr& child : node->children) collect(child, bridges, seen);
}

bool TableScans::is_simple(const Node& node) {
  const RowSet* set = node.rows.get();
  const VariableId row = set->variable;
  bool simple = true;
  const auto look = [&](const NodePtr& part) {
    walk(part, [&](const Node& n) {
      simple = simple && (!Evaluator::is_leaf(n) || (n.op == Op::column && n.variable == row));
    });
  };
  while (set->kind == RowsKind::filtered) {
    look(set->condition);
    set = set->input.get();
  }
  simple = simple && set->kind == RowsKind::table && !set->of && !set->via && !set->across;
  if (!simple || Evaluator::is_order_told(node)) return false;
  for (const NodePtr& child : node.children) look(child);
  return simple;
}

TableScan& TableScans::scan_of(const SeenTable& seen) {
  const auto at = std::find_if(scans_.begin(), scans_.end(), [&](const TableScan& scan) { return scan.seen == seen; });
  if (at != scans_.end()) return *at;
  scans_.push_back({seen, false, {}, {}});
  return scans_.back();
}

void TableScans::run(const Levels& levels) {
  Seen seen;
  for (const auto& item : query_.show) collect(item.expression, {}, seen);
  if (query_.having) collect(query_.having, {}, seen);
  for (const SeenTable& rows : query_.sources) scan_of(rows).gives_rows = true;
  std::set<std::pair<TableIndex, Roles>> tables;
  for (const TableScan& scan : scans_) {
    tables.emplace(scan.seen.table, scan.seen.roles);
    for (const TableIndex bridge : scan.seen.bridges) tables.emplace(bridge, scan.seen.roles);
  }
  keys_.emplace(source_, query_, tables, threads_);
  for (TableScan& scan : scans_) {
    if (scan.seen.bridges.empty()) {
      scan_table(scan, levels);
    } else {
      scan_over_bridges(scan, levels);
    }
  }
}

ScanAggregate TableScans::aggregate_of(const NodePtr& node) {
  ScanAggregate aggregate{node, {}, {}, nullptr};
  const VariableId row = node->rows->variable;
  for (const NodePtr& child : node->children) aggregate.values.push_back(of_row(child, row));
  for (const RowSet* set = node->rows.get(); set->kind == RowsKind::filtered; set = set->input.get()) {
    NodePtr condition = of_row(set->condition, row);
    if (aggregate.where) {
      auto both = std::make_shared<Node>();
      both->op = Op::and_;
      both->type = condition->type;
      both->span = condition->span;
      both->children = {condition, aggregate.where};
      condition = both;
    }
    aggregate.where = condition;
  }
  return aggregate;
}

TableScans::IsRead TableScans::read_by(const SeenTable& seen) const {
  return [this, seen](const Predicate& predicate) {
    return reach(model_, predicate, seen.table, seen.roles) == Reach::all;
  };
}

TableScans::IsRead TableScans::read_over(const SeenTable& seen, TableIndex bridge) const {
  return [this, seen, bridge](const Predicate& predicate) {
    return reach_through(model_, predicate, seen.table, bridge, seen.roles) == Reach::all;
  };
}

// The conditions of `where` that a pass reads, as seen from its table.
std::vector<NodePtr> TableScans::filters(TableIndex table, const Roles& roles, const IsRead& is_read) const {
  std::vector<NodePtr> conditions;
  for (const NodePtr& condition : query_.where) {
    if (!is_read({PredicateKind::filter, condition, 0, condition->span, 0})) continue;
    conditions.push_back(replaced(condition, [&](const NodePtr& n) -> NodePtr {
      if (n->op != Op::column) return nullptr;
      auto copy = std::make_shared<Node>(*n);
      copy->column = *model_.rebase(n->column, table, roles).ref;
      return copy;
    }));
  }
  return conditions;
}

// Adds the query's keys that a pass reads, and for each level a grouping by those of them that it keeps.
TableScans::PassKeys TableScans::add_keys(ScanRequest& request, const Roles& roles, const Levels& levels,
                                          const IsRead& is_read, Combined combined) const {
  PassKeys keys;
  for (std::uint32_t k = 0; k < query_.by.size(); ++k) {
    if (!is_read({PredicateKind::key, query_.by[k].expression, 0, query_.by[k].span, 0})) continue;
    const auto first = static_cast<std::uint32_t>(request.keys.size());
    const CombinedKey* const parts =
        combined == Combined::yes ? keys_->combined_from(k, request.table, roles) : nullptr;
    if (parts != nullptr) {
      request.keys.insert(request.keys.end(), parts->keys.begin(), parts->keys.end());
    } else if (auto key = keys_->seen_from(k, request.table, roles)) {
      request.keys.push_back(std::move(*key));
    } else {
      continue;
    }
    keys.by.push_back(k);
    keys.places[k] = {first, static_cast<std::uint32_t>(request.keys.size() - first), parts};
  }
  for (const std::vector<std::uint32_t>& level : levels) {
    request.groupings.emplace_back();
    keys.kept.emplace_back();
    for (const std::uint32_t k : keys.by) {
      if (std::find(level.begin(), level.end(), k) == level.end()) continue;
      const PassKeys::Place& place = keys.places.at(k);
      for (std::uint32_t c = 0; c < place.count; ++c) request.groupings.back().push_back(place.first + c);
      keys.kept.back().push_back(k);
      if (place.combined != nullptr) request.merging = Merging::one_by_one;
    }
  }
  return keys;
}

// One pass over a table, for all levels. `by` are the query's keys that are among those of the request.
ScanResult TableScans::pass(const ScanRequest& request, const Roles& roles, const std::vector<std::uint32_t>& by) {
  if (!layout_of(request.keys).fits()) throw Failed{too_wide_error(source_, query_)};
  const auto begin = std::chrono::steady_clock::now();
  ScanResult scanned = scan(source_, request, threads_);
  ExplainStep& step = steps_.emplace_back();
  step.depth = 1;
  step.way = ExplainWay::scan;
  step.what = model_.tables[request.table].name;
  for (const LinkIndex role : roles) step.what += " via " + model_.links[role].role;
  step.what += fmt::format(": {} aggregate{}", request.aggregates.size(), request.aggregates.size() == 1 ? "" : "s");
  for (const std::uint32_t k : by) step.what += (k == by.front() ? ", by " : ", ") + query_.by[k].name;
  step.slices = request.groupings.size();
  step.rows_in = source_.rows(request.table);
  for (const Groups& groups : scanned.groupings) step.rows_out += groups.keys.size();
  step.bytes = evaluator_.bytes_read(request);
  const auto note = [&](const std::string& text) { step.note += (step.note.empty() ? "" : "; ") + text; };
  for (const TableIndex table : scanned.row_tables)
    note(fmt::format("groups are told by the row of {}", model_.tables[table].name));
  if (scanned.took_or_apart) note("what `or` demands of each table is looked up first");
  step.nanoseconds = std::chrono::nanoseconds(std::chrono::steady_clock::now() - begin).count();
  rows_scanned_ += source_.rows(request.table);
  if (scanned.filter_overflow) {
    throw Failed{{model_.sources.diagnostic(Severity::error, "JR-701", query_.span,
                                            "a condition of `where` computes a number that does not fit 128 bits",
                                            "narrow the rows first, or use reals")}};
  }
  return scanned;
}

// Groups by the keys of a request as groups by the query's keys that a level keeps.
Groups TableScans::as_asked(Groups groups, const PassKeys& keys, std::size_t level) const {
  const std::vector<std::uint32_t>& kept = keys.kept[level];
  const bool is_combined =
      std::any_of(kept.begin(), kept.end(), [&](std::uint32_t k) { return keys.places.at(k).combined != nullptr; });
  if (!is_combined) return groups;
  std::vector<std::uint64_t> last_codes;
  for (const std::uint32_t k : kept) last_codes.push_back(keys_->last_code(k));
  const KeyLayout layout(last_codes);
  if (!layout.fits()) throw Failed{too_wide_error(source_, query_)};
  MergedGroups merged(groups, layout);
  for (const GroupIndex group : merging_order(groups)) {
    const PackedKey from = groups.keys[group];
    PackedKey key = 0;
    std::size_t column = 0;
    for (std::size_t k = 0; k < kept.size(); ++k) {
      const CombinedKey* const combined = keys.places.at(kept[k]).combined;
      if (combined == nullptr) {
        key = layout.with(key, k, groups.layout.code(from, column++));
        continue;
      }
      std::uint64_t combination = 0;
      for (const ScanKey& part : combined->keys)
        combination = combination * (part.last + 1) + groups.layout.code(from, column++);
      key = layout.with(key, k, combined->codes[combination]);
    }
    merged.add(group, key);
  }
  return merged.take();
}

void TableScans::scan_table(TableScan& made, const Levels& levels) {
  ScanRequest request;
  request.table = made.seen.table;
  PassKeys keys = add_keys(request, made.seen.roles, levels, read_by(made.seen), Combined::yes);
  request.filters = filters(request.table, made.seen.roles, read_by(made.seen));
  for (const NodePtr& aggregate : made.aggregates) request.aggregates.push_back(aggregate_of(aggregate));
  ScanResult scanned = pass(request, made.seen.roles, keys.by);
  for (std::size_t l = 0; l < levels.size(); ++l)
    made.levels.push_back({keys.kept[l], as_asked(std::move(scanned.groupings[l]), keys, l)});
}

// What occurs in the rows of a table and, for keys that these do not tell, in the rows of bridges that lead to where they
// lead; with the aggregates for each of these. Where conditions choose among a bridge's rows, these are read first, and
// of the table only what meets them; else the table is, and of the bridge what meets its rows.
void TableScans::scan_over_bridges(TableScan& made, const Levels& levels) {
  const SeenTable& seen = made.seen;
  ScanRequest request;
  request.table = seen.table;
  const PassKeys own = add_keys(request, seen.roles, levels, read_by(seen), Combined::no);
  request.merging = Merging::one_by_one;
  request.filters = filters(seen.table, seen.roles, read_by(seen));
  request.wanted.resize(request.keys.size());
  std::vector<Bridge> bridges;
  for (const TableIndex table : seen.bridges) {
    const Meeting met = meeting(model_, seen.table, table, seen.roles);
    if (!met.is_plain) continue;
    const std::uint64_t rows = source_.rows(met.tables[0]);
    const auto met_key = [&](const std::vector<LinkIndex>& path) {
      return ScanKey{ScanKey::Kind::row, {}, path, nullptr, rows};
    };
    Bridge& bridge = bridges.emplace_back();
    bridge.met = met;
    bridge.met_key = request.keys.size();
    for (auto& grouping : request.groupings) grouping.push_back(static_cast<std::uint32_t>(bridge.met_key));
    request.keys.push_back(met_key(met.from_table));
    ScanRequest of_bridge;
    of_bridge.table = table;
    const auto is_told = [&](const Predicate& predicate) { return bridge_of(model_, predicate, seen) == table; };
    bridge.keys = add_keys(of_bridge, seen.roles, levels, is_told, Combined::no);
    bridge.rows.table = table;
    bridge.rows.conditions = filters(table, seen.roles, read_over(seen, table));
    bridge.rows.keys = std::move(of_bridge.keys);
    bridge.rows.keys.push_back(met_key(met.from_bridge));
    request.wanted.emplace_back();
    if (bridge.rows.conditions.empty()) continue;
    read_parts(bridge, nullptr, levels.size());
    request.wanted.back() = bridge.parts[0]->wanted_rows();
  }
  for (const NodePtr& aggregate : made.aggregates) request.aggregates.push_back(aggregate_of(aggregate));
  ScanResult scanned = pass(request, seen.roles, own.by);
  for (std::size_t b = 0; b < bridges.size(); ++b) {
    if (!bridges[b].parts.empty()) continue;
    const std::uint64_t rows = request.keys[bridges[b].met_key].last;
    read_parts(bridges[b], rows_of(scanned.groupings[0], own.kept[0].size() + b, rows), levels.size());
  }
  for (std::size_t l = 0; l < levels.size(); ++l)
    made.levels.push_back(joined(std::move(scanned.groupings[l]), levels[l], own.kept[l], bridges, l));
}

// Reads the parts of a bridge for each level: of the rows that it leads to, those that are wanted.
void TableScans::read_parts(Bridge& bridge, const WantedCodes& wanted, std::size_t levels) {
  for (std::size_t l = 0; l < levels; ++l) {
    RowsRequest rows;
    rows.table = bridge.rows.table;
    rows.conditions = bridge.rows.conditions;
    std::string what;
    for (const std::uint32_t k : bridge.keys.kept[l]) {
      rows.keys.push_back(bridge.rows.keys[bridge.keys.places.at(k).first]);
      what += (what.empty() ? ", by " : ", ") + query_.by[k].name;
    }
    rows.wanted.resize(rows.keys.size());
    rows.wanted.push_back(wanted);
    rows.keys.push_back(bridge.rows.keys.back());
    if (!layout_of(rows.keys).fits()) throw Failed{too_wide_error(source_, query_)};
    bridge.parts.push_back(evaluator_.bridge_parts(rows, bridge.met.tables[0], what, query_.span));
  }
}

// The groups of a level by those of the kept keys that the table or one of its bridges tells, from groups by the table's
// own of them and by the rows where it meets each bridge.
LevelGroups TableScans::joined(Groups groups, const std::vector<std::uint32_t>& kept,
                               const std::vector<std::uint32_t>& own, const std::vector<Bridge>& bridges,
                               std::size_t level) const {
  struct Place {
    std::size_t column = 0;  // of the groups
    const BridgeParts* parts = nullptr;
    std::size_t key = 0;  // of the parts
  };
  std::map<std::uint32_t, Place> places;  // of the query's keys
  for (std::size_t k = 0; k < own.size(); ++k) places[own[k]] = {k, nullptr, 0};
  for (std::size_t b = 0; b < bridges.size(); ++b) {
    const BridgeParts& parts = *bridges[b].parts[level];
    groups = by_parts(groups, own.size() + b, parts, threads_);
    const std::vector<std::uint32_t>& told = bridges[b].keys.kept[level];
    for (std::size_t k = 0; k < told.size(); ++k) places[told[k]] = {own.size() + b, &parts, k};
  }
  LevelGroups made;
  std::vector<std::uint64_t> last_codes;
  for (const std::uint32_t k : kept) {
    if (!places.contains(k)) continue;
    made.keys.push_back(k);
    last_codes.push_back(keys_->last_code(k));
  }
  const KeyLayout layout(last_codes);
  if (!layout.fits()) throw Failed{too_wide_error(source_, query_)};
  PackedKeys keys(layout.bits());
  for (std::size_t g = 0; g < groups.keys.size(); ++g) {
    const PackedKey from = groups.keys[g];
    PackedKey key = 0;
    for (std::size_t k = 0; k < made.keys.size(); ++k) {
      const Place& place = places.at(made.keys[k]);
      const std::uint64_t code = groups.layout.code(from, place.column);
      key = layout.with(key, k, place.parts ? place.parts->code(static_cast<std::uint32_t>(code), place.key) : code);
    }
    keys.push_back(key);
  }
  groups.layout = layout;
  groups.keys = std::move(keys);
  made.groups = std::move(groups);
  return made;
}

}  // namespace juniper::engine
