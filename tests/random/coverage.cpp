#include "random/coverage.h"

#include <algorithm>
#include <array>

#include "engine/query/ask.h"
#include "language/operations.h"
#include "language/traverse.h"

namespace juniper::test {

namespace {

using namespace language;

constexpr std::array operators{"literal",   "column",   "field",   "name",      "measure",  "modified",   "let",
                               "aggregate", "grouping", "add",     "subtract",  "multiply", "divide",     "div",
                               "mod",       "negate",   "equal",   "not equal", "less",     "less equal", "is distinct",
                               "in",        "like",     "and",     "or",        "not",      "is null",    "concat",
                               "case",      "rescale",  "to real", "call"};
constexpr std::array aggregates{"sum",     "avg",    "min",      "max",    "count rows", "count",      "count distinct",
                                "product", "median", "quantile", "stddev", "variance",   "stddev_pop", "variance_pop",
                                "any",     "every",  "first",    "last",   "list",       "rank",       "exists",
                                "only"};
constexpr std::array sets{"table",    "members", "named", "where", "with",   "sorted",   "days",
                          "distinct", "group",   "top",   "union", "except", "intersect"};
constexpr std::array periods{"to_date", "whole", "previous", "next", "shift", "trailing"};

class Collector {
 public:
  explicit Collector(const CheckedModel& model) : model_(model) {}

  void add(const NodePtr& node) {
    walk(node, [this](const Node& n) { take(n); });
  }
  std::set<std::string> found;

 private:
  void take(const Node& n) {
    if (n.op != Op::call && n.op != Op::aggregate) found.insert(operators[static_cast<std::size_t>(n.op)]);
    if (n.op == Op::call) {
      const auto names = function_names();
      for (const std::string& name : names) {
        if (find_function(name)->function == n.function) found.insert(name + "()");
      }
    }
    if (n.op == Op::aggregate) found.insert(aggregates[static_cast<std::size_t>(n.aggregate)] + std::string("( )"));
    if (n.op == Op::measure && seen_.insert(n.measure).second) add(model_.measures[n.measure].expression);
    take(n.rows);
    for (const Let& let : n.lets) {
      if (let.rows) found.insert("let rows");
      take(let.rows);
    }
    if (!n.modifiers) return;
    const Modifiers& m = *n.modifiers;
    if (m.of) found.insert("m of");
    if (m.of_slice) found.insert("m of slice");
    if (m.via) found.insert("m via");
    if (m.through) found.insert("m through");
    if (m.across) found.insert(m.across->everything ? "m across everything" : "m across");
    if (m.during) found.insert("during " + std::string(periods[static_cast<std::size_t>(m.during->period)]));
    if (!m.where.empty()) found.insert("m where");
  }
  void take(const RowSetPtr& rows) {
    if (!rows) return;
    found.insert(sets[static_cast<std::size_t>(rows->kind)] + std::string(" rows"));
    if (rows->kind == RowsKind::table) {
      if (rows->of) found.insert("rows of");
      if (rows->via) found.insert("rows via");
      if (rows->across) found.insert("rows across");
    }
    take(rows->input);
    take(rows->other);
  }

  const CheckedModel& model_;
  std::set<MeasureIndex> seen_;
};

}  // namespace

const std::set<std::string>& Coverage::all() {
  static const std::set<std::string> names = [] {
    std::set<std::string> out{"let rows",      "m of",      "m of slice",
                              "m via",         "m through", "function",
                              "by expression", "m across",  "m across everything",
                              "m where",       "rows of",   "rows via",
                              "rows across",   "by",        "where",
                              "having",        "total",     "limit",
                              "keep empty",    "draft",     "sort"};
    for (const char* name : operators) {
      if (name != std::string("call") && name != std::string("aggregate")) out.insert(name);
    }
    for (const char* name : aggregates) out.insert(name + std::string("( )"));
    for (const char* name : sets) out.insert(name + std::string(" rows"));
    out.erase("days rows");  // a calculated table alone is made of them
    for (const char* name : periods) out.insert("during " + std::string(name));
    for (const std::string& name : function_names()) out.insert(name + "()");
    return out;
  }();
  return names;
}

void Coverage::add(const Model& model, const Question& question, const QueryResult& answer) {
  const bool any = std::any_of(answer.rows.begin(), answer.rows.end(), [&](const ResultRow& row) {
    for (std::size_t c = 0; c < row.cells.size(); ++c) {
      if (!answer.columns[c].is_key && !row.cells[c].is_null()) return true;
    }
    return false;
  });
  if (!any) return;
  const auto prepared = engine::prepare(model, question);
  if (!prepared) return;
  const Query& query = prepared->query;
  Collector collector(*prepared->model);
  for (const QueryShow& item : query.show) collector.add(item.expression);
  for (const NodePtr& condition : query.where) collector.add(condition);
  if (query.having) collector.add(query.having);
  std::set<std::string>& found = collector.found;
  if (!query.by.empty()) found.insert("by");
  if (std::any_of(query.by.begin(), query.by.end(), [](const QueryBy& key) { return !key.is_column(); }))
    found.insert("by expression");
  if (!query.where.empty()) found.insert("where");
  if (query.having) found.insert("having");
  if (!query.totals.empty()) found.insert("total");
  if (!query.sort.empty()) found.insert("sort");
  if (query.limit) found.insert("limit");
  if (query.keep_empty) found.insert("keep empty");
  if (question.query.starts_with("with measure")) found.insert("draft");
  if (question.query.find("fn") != std::string::npos) found.insert("function");
  for (auto a = found.begin(); a != found.end(); ++a) {
    ++single_[*a];
    for (auto b = std::next(a); b != found.end(); ++b) ++pairs_[{*a, *b}];
  }
}

std::size_t Coverage::count(const std::string& construct) const {
  const auto at = single_.find(construct);
  return at == single_.end() ? 0 : at->second;
}

std::set<std::string> Coverage::below(std::size_t times) const {
  std::set<std::string> few;
  for (const std::string& name : all()) {
    if (count(name) < times) few.insert(name);
  }
  return few;
}

std::set<std::pair<std::string, std::string>> Coverage::pairs_below(std::size_t times) const {
  std::set<std::pair<std::string, std::string>> few;
  for (auto a = all().begin(); a != all().end(); ++a) {
    for (auto b = std::next(a); b != all().end(); ++b) {
      const auto at = pairs_.find({*a, *b});
      if (at == pairs_.end() || at->second < times) few.insert({*a, *b});
    }
  }
  return few;
}

std::size_t Coverage::pairs() const {
  return all().size() * (all().size() - 1) / 2;
}

}  // namespace juniper::test
