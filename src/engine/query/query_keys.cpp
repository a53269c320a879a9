#include "engine/query/query_keys.h"

#include <algorithm>
#include <numeric>

#include "base/parallel.h"
#include "engine/asked/live_tables.h"
#include "engine/vector/column_values.h"
#include "language/traverse.h"

namespace juniper::engine {

using namespace language;

using Roles = CheckedModel::Roles;

struct QueryKeys::Combinations {
  std::vector<ScanKey> keys;
  LeafValues leaves;  // the values of the parts, by combination
  std::unique_ptr<Program> program;
  Vector values;  // of the key; texts are those of the program
};

QueryKeys::QueryKeys(const Source& source, const Query& query, const std::set<std::pair<TableIndex, Roles>>& tables,
                     unsigned threads)
    : source_(source), query_(query), values_(query.by.size()) {
  for (std::uint32_t k = 0; k < query.by.size(); ++k) {
    if (query.by[k].is_column()) continue;
    values_[k] = std::make_shared<KeyValues>(query.by[k].type());
    std::map<Seen, std::unique_ptr<Combinations>> found;
    for (const auto& [table, roles] : tables) {
      const NodePtr expression = expression_from(k, table, roles);
      if (!expression) continue;
      if (auto combined = combinations(table, expression, threads)) {
        values_[k]->add(combined->values);
        found[{k, table, roles}] = std::move(combined);
      } else {
        add_values(k, table, expression, threads);
      }
    }
    values_[k]->sort();
    for (auto& [seen, combined] : found) {
      std::vector<std::int64_t> codes(combined->values.size());
      values_[k]->find(combined->values, codes.data());
      combined_[seen] = CombinedKey{std::move(combined->keys), std::vector<std::uint64_t>(codes.begin(), codes.end())};
    }
  }
}

namespace {

// Whether an expression depends on one code: on one column, or on what stands behind one link.
bool is_of_one_code(const std::vector<ColumnRef>& refs) {
  const ColumnRef& first = refs.front();
  return std::all_of(refs.begin(), refs.end(), [&](const ColumnRef& ref) {
    if (first.path.empty()) return ref.path.empty() && ref.column == first.column;
    return !ref.path.empty() && ref.path.front() == first.path.front();
  });
}

// The largest parts of an expression that depend on one code each.
void add_parts(const CheckedModel& model, const NodePtr& node, std::vector<std::pair<std::string, NodePtr>>& parts) {
  const std::vector<ColumnRef> refs = column_refs(node);
  if (refs.empty()) return;
  if (!is_of_one_code(refs)) {
    for (const NodePtr& child : node->children) add_parts(model, child, parts);
    return;
  }
  std::string text = canonical(model, node);
  const bool known = std::any_of(parts.begin(), parts.end(), [&](const auto& part) { return part.first == text; });
  if (!known) parts.emplace_back(std::move(text), node);
}

}  // namespace

std::unique_ptr<QueryKeys::Combinations> QueryKeys::combinations(TableIndex table, const NodePtr& expression,
                                                                 unsigned threads) const {
  if (source_.is_live(table) || is_of_one_code(column_refs(expression))) return nullptr;
  const std::uint64_t most = std::min<std::uint64_t>(std::uint64_t{1} << 14, source_.rows(table) / 4);
  std::vector<std::pair<std::string, NodePtr>> parts;
  add_parts(source_.model, expression, parts);
  auto made = std::make_unique<Combinations>();
  std::vector<Vector> values;  // of each part, by code
  std::uint64_t count = 1;
  for (const auto& [text, part] : parts) {
    ScanKey key;
    if (part->op == Op::column) {
      key = ScanKey::of(source_, part->column);
    } else {
      auto of_part = std::make_shared<KeyValues>(part->type);
      Program program(source_, table);
      if (!program.add_possible(part, *of_part)) return nullptr;
      of_part->sort();
      key.kind = ScanKey::Kind::value;
      key.expression = part;
      key.last = of_part->overflow_code();
      key.values = std::move(of_part);
    }
    if (key.last >= most || (count *= key.last + 1) > most) return nullptr;
    std::vector<std::uint64_t> codes(key.last + 1);
    std::iota(codes.begin(), codes.end(), std::uint64_t{0});
    if (key.values) {
      values.push_back(key.values->decode(codes));
      values.back().all_values = false;
      values.back().state.back() = State::overflow;
    } else {
      const store::Column& column = source_.column(key.column.column);
      Vector& of_part = values.emplace_back();
      of_part.reset(repr_of(column), codes.size());
      for (const std::uint64_t code : codes) put_value(column, code, of_part, code);
    }
    made->keys.push_back(std::move(key));
  }
  // The code of the last part changes from one combination to the next.
  std::uint64_t together = count;
  for (std::size_t p = 0; p < parts.size(); ++p) {
    const std::uint64_t codes = made->keys[p].last + 1;
    together /= codes;
    auto leaf = std::make_shared<Vector>();
    leaf->reset(values[p].repr, count);
    for (std::uint64_t i = 0; i < count; ++i) {
      const std::uint64_t code = i / together % codes;
      leaf->state[i] = values[p].state[code];
      if (leaf->state[i] == State::value) leaf->set(i, values[p].value_at(code));
    }
    leaf->note_states();
    made->leaves.emplace(parts[p].first, std::move(leaf));
  }
  made->program = std::make_unique<Program>(source_, made->leaves, count);
  made->values = made->program->evaluate(made->program->add(expression), threads);
  return made;
}

const CombinedKey* QueryKeys::combined_from(std::uint32_t k, TableIndex table, const Roles& roles) const {
  const auto at = combined_.find({k, table, roles});
  return at == combined_.end() ? nullptr : &at->second;
}

// The expression over the rows of a table; nothing if the table does not lead to all of its columns.
NodePtr QueryKeys::expression_from(std::uint32_t k, TableIndex table, const Roles& roles) const {
  bool leads = true;
  NodePtr expression = replaced(query_.by[k].expression, [&](const NodePtr& n) -> NodePtr {
    if (n->op != Op::column) return nullptr;
    const auto ref = source_.model.rebase(n->column, table, roles).ref;
    leads = leads && ref;
    if (!ref) return nullptr;
    auto copy = std::make_shared<Node>(*n);
    copy->column = *ref;
    return copy;
  });
  return leads ? expression : nullptr;
}

void QueryKeys::add_values(std::uint32_t k, TableIndex table, const NodePtr& expression, unsigned threads) {
  if (source_.is_live(table)) return values_[k]->add(*source_.live->values(table, expression));
  Program program(source_, table);
  if (program.add_possible(expression, *values_[k])) return;
  const Program::StepIndex step = program.add(expression);
  constexpr std::size_t blocks_per_part = 32;
  base::Guarded<KeyValues> all(query_.by[k].type());
  base::parallel_for((program.blocks() + blocks_per_part - 1) / blocks_per_part, threads, [&](std::size_t part) {
    source_.check();
    KeyValues here(query_.by[k].type());
    Program::Registers registers;
    const std::size_t end = std::min(program.blocks(), (part + 1) * blocks_per_part);
    for (std::size_t block = part * blocks_per_part; block < end; ++block) {
      program.begin(block, registers);
      here.add(program.value(step, registers));
    }
    all.change([&](KeyValues& values) { values.add(here); });
  });
  values_[k]->add(all.alone());
}

std::optional<ScanKey> QueryKeys::seen_from(std::uint32_t k, TableIndex table, const Roles& roles) const {
  const NodePtr expression = expression_from(k, table, roles);
  if (!expression) return std::nullopt;
  if (!values_[k]) return ScanKey::of(source_, expression->column);
  ScanKey key;
  key.kind = ScanKey::Kind::value;
  key.expression = expression;
  key.values = values_[k];
  key.last = last_code(k);
  return key;
}

std::uint64_t QueryKeys::last_code(std::uint32_t k) const {
  return values_[k] ? values_[k]->overflow_code() : ScanKey::of(source_, query_.by[k].column()).last;
}

std::uint64_t QueryKeys::null_code(std::uint32_t k) const {
  return values_[k] ? values_[k]->null_code() : source_.column(query_.by[k].column().column).null_code;
}

Value QueryKeys::value_of(std::uint32_t k, std::uint64_t code) const {
  return values_[k] ? values_[k]->value_of(code) : source_.column(query_.by[k].column().column).value_of(code);
}

VectorPtr QueryKeys::decode(std::uint32_t k, const std::vector<std::uint64_t>& codes) const {
  if (values_[k]) return std::make_shared<const Vector>(values_[k]->decode(codes));
  const store::Column& column = source_.column(query_.by[k].column().column);
  auto values = std::make_shared<Vector>();
  values->reset(repr_of(column), codes.size());
  for (std::size_t i = 0; i < codes.size(); ++i) values->set(i, column.value_of(codes[i]));
  return values;
}

}  // namespace juniper::engine
