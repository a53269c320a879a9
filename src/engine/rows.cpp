#include "engine/rows.h"

#include "engine/scan.h"

namespace juniper::engine {

namespace {

using language::NodePtr;
using language::Op;

// A copy of the expression with its aggregates replaced by their values over all rows.
Result<NodePtr> fold_aggregates(const Source& source, const NodePtr& node, unsigned threads) {
  auto copy = std::make_shared<language::Node>(*node);
  if (node->op == Op::aggregate) {
    ScanRequest request;
    request.table = node->rows.table;
    request.groupings = {{}};
    request.aggregates = {node};
    const ScanResult scanned = scan(source, request, threads);
    const GroupIndex all = 0;
    const Vector value = scanned.groupings[0].aggregates[0]->result(std::span(&all, 1));
    if (value.state[0] == State::overflow) {
      return tl::unexpected(Diagnostics{
          source.model.sources.diagnostic(Severity::error, "JR-701", node->span, "this aggregate does not fit its type",
                                          "use fewer digits after the point, or a real")});
    }
    copy->op = Op::literal;
    copy->literal = value.value_at(0);
    copy->children.clear();
    copy->rows = {};
    return NodePtr(std::move(copy));
  }
  for (NodePtr& child : copy->children) {
    auto folded = fold_aggregates(source, child, threads);
    if (!folded) return tl::unexpected(folded.error());
    child = std::move(*folded);
  }
  return NodePtr(std::move(copy));
}

}  // namespace

Result<RowValues> evaluate_rows(const Source& source, language::TableIndex table, const NodePtr& node,
                                unsigned threads) {
  const auto folded = fold_aggregates(source, node, threads);
  if (!folded) return tl::unexpected(folded.error());
  RowValues rows;
  rows.program = std::make_unique<Program>(source, table);
  const auto step = rows.program->add(*folded);
  rows.values = rows.program->evaluate(step);
  return rows;
}

}  // namespace juniper::engine
