#include "engine/query/query_keys.h"

#include <algorithm>

#include "base/parallel.h"
#include "engine/vector/column_values.h"
#include "language/traverse.h"

namespace juniper::engine {

using namespace language;

using Roles = CheckedModel::Roles;

QueryKeys::QueryKeys(const Source& source, const Query& query, const std::set<std::pair<TableIndex, Roles>>& tables,
                     unsigned threads)
    : source_(source), query_(query), values_(query.by.size()) {
  for (std::uint32_t k = 0; k < query.by.size(); ++k) {
    if (query.by[k].is_column()) continue;
    values_[k] = std::make_shared<KeyValues>(query.by[k].type());
    for (const auto& [table, roles] : tables) {
      if (const NodePtr expression = expression_from(k, table, roles)) add_values(k, table, expression, threads);
    }
    values_[k]->sort();
  }
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
  key.last = values_[k]->overflow_code();
  return key;
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
