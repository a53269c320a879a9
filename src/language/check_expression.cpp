#include "language/check_expression.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <utility>

#include "base/diagnostics.h"
#include "base/exact.h"
#include "language/functions.h"
#include "language/lexer.h"

namespace juniper::language {

namespace {

using syntax::Expression;
using syntax::Form;

bool is_null_literal(const Node& node) {
  return node.op == Op::literal && node.literal.is_null();
}

NodePtr make(Op op, Type type, Span span, std::vector<NodePtr> children) {
  auto node = std::make_shared<Node>();
  node->op = op;
  node->type = type;
  node->span = span;
  node->children = std::move(children);
  return node;
}

constexpr Type boolean_type{TypeKind::boolean, 0};
constexpr Type integer_type{TypeKind::integer, 0};
constexpr Type real_type{TypeKind::real, 0};
constexpr Type text_type{TypeKind::text, 0};
constexpr Type date_type{TypeKind::date, 0};

class ExpressionChecker {
 public:
  ExpressionChecker(const Definitions& definitions, const Scope& scope, Diagnostics& diagnostics)
      : definitions_(definitions), model_(definitions.model), scope_(scope), diagnostics_(diagnostics) {}

  NodePtr check(const Expression& e) {
    switch (e.form) {
      case Form::literal:
        return literal(e);
      case Form::path:
        return path(e);
      case Form::unary:
        return unary(e);
      case Form::binary:
        return binary(e);
      case Form::is_null:
        return is_null(e);
      case Form::is_distinct:
        return is_distinct(e);
      case Form::in:
        return in(e);
      case Form::between:
        return between(e);
      case Form::cases:
        return cases(e);
      case Form::call:
        return call(e);
      case Form::aggregate:
        return aggregate(e);
    }
    return nullptr;
  }

  NodePtr condition(const Expression& e) {
    NodePtr node = check(e);
    if (!node) return nullptr;
    if (node->type.kind != TypeKind::boolean) {
      return error(e.span, "JR-305", fmt::format("a condition was expected, and this is {}", described(*node)));
    }
    return node;
  }

  std::optional<ColumnRef> column(const syntax::Path& p) {
    return scope_.kind == ScopeKind::slice ? slice_column(p) : row_column(p);
  }

 private:
  NodePtr error(Span span, std::string code, std::string message, std::string suggestion = "") {
    diagnostics_.push_back(
        model_.sources.diagnostic(Severity::error, std::move(code), span, std::move(message), std::move(suggestion)));
    return nullptr;
  }
  std::nullopt_t no_column(Span span, std::string code, std::string message, std::string suggestion = "") {
    error(span, std::move(code), std::move(message), std::move(suggestion));
    return std::nullopt;
  }
  std::string written(Span span) const { return std::string(model_.sources.text(span)); }
  static std::string described(const Node& node) {
    return is_null_literal(node) ? "null" : fmt::format("of type {}", to_string(node.type));
  }

  // --- conversions ------------------------------------------------------------------------------------------------

  // The type that both can be converted to without loss of meaning; nothing when they do not go together.
  static std::optional<Type> common_type(Type a, Type b) {
    if (a == b) return a;
    if (!a.is_number() || !b.is_number()) return std::nullopt;
    if (a.kind == TypeKind::real || b.kind == TypeKind::real) return real_type;
    return Type{TypeKind::decimal, std::max(a.scale, b.scale)};
  }

  static NodePtr convert(const NodePtr& node, Type type) {
    if (node->type == type) return node;
    if (is_null_literal(*node)) return make(Op::literal, type, node->span, {});
    if (type.kind == TypeKind::real) return make(Op::to_real, type, node->span, {node});
    return make(Op::rescale, type, node->span, {node});
  }

  // Converts all to one type, nulls to that of the others; false after an error.
  bool unify(std::vector<NodePtr>& nodes, std::string_view what) {
    std::optional<Type> common;
    for (const NodePtr& node : nodes) {
      if (is_null_literal(*node)) continue;
      const auto wider = common ? common_type(*common, node->type) : std::optional(node->type);
      if (!wider) {
        error(node->span, "JR-302",
              fmt::format("{} of different types: {} and {}", what, to_string(*common), to_string(node->type)),
              mismatch_fix(*nodes.front(), *node));
        return false;
      }
      common = wider;
    }
    for (NodePtr& node : nodes) node = convert(node, common.value_or(node->type));
    return true;
  }

  std::string mismatch_fix(const Node& a, const Node& b) const {
    const auto pair = [&](TypeKind x, TypeKind y) -> const Node* {
      if (a.type.kind == x && b.type.kind == y) return &a;
      if (b.type.kind == x && a.type.kind == y) return &b;
      return nullptr;
    };
    if (const Node* moment = pair(TypeKind::datetime, TypeKind::date)) {
      return fmt::format("write date({})", moment->span.end > moment->span.begin ? written(moment->span) : "…");
    }
    if (pair(TypeKind::text, TypeKind::date)) return "write the date as a literal: date \"2025-03-01\"";
    if (pair(TypeKind::text, TypeKind::datetime)) return "write it as a literal: datetime \"2025-03-01 08:30:00\"";
    for (const TypeKind number : {TypeKind::integer, TypeKind::decimal, TypeKind::real}) {
      if (pair(TypeKind::text, number)) return "write the number without quotes, or declare the column as a number";
    }
    return "";
  }

  // --- names ------------------------------------------------------------------------------------------------------

  std::vector<std::string> column_names(TableIndex table) const {
    std::vector<std::string> names;
    for (const Column& c : model_.tables[table].columns) names.push_back(c.name);
    return names;
  }
  std::vector<std::string> measure_names() const {
    std::vector<std::string> names;
    for (const Measure& m : model_.measures) names.push_back(m.name);
    return names;
  }
  std::vector<std::string> table_and_role_names() const {
    std::vector<std::string> names;
    for (const Table& t : model_.tables) names.push_back(t.name);
    for (const Link& l : model_.links) {
      if (!l.role.empty()) names.push_back(l.role);
    }
    return names;
  }
  // "stations.region" for a column that only another table has.
  std::string elsewhere(const std::string& column) const {
    for (const Table& t : model_.tables) {
      if (t.find(column)) return fmt::format("write {}.{}", written_name(t.name), written_name(column));
    }
    return "";
  }

  NodePtr path(const Expression& e) {
    if (scope_.kind == ScopeKind::measure) return measure_name(e);
    if (scope_.kind == ScopeKind::row && e.path.parts.size() == 1) {
      const syntax::Name& name = e.path.parts.front();
      if (!model_.tables[scope_.table].find(name.text) && model_.find_measure(name.text)) {
        return error(
            name.span, "JR-401",
            fmt::format("'{}' is a measure, and here stands a row of {}: its total, and its value for this row, "
                        "are different numbers",
                        name.text, model_.tables[scope_.table].name),
            "in the whole language say `" + name.text + " of row` or `" + name.text +
                " of slice`; this version takes columns here");
      }
    }
    const auto ref = column(e.path);
    if (!ref) return nullptr;
    const auto type = definitions_.column_type(ref->column, e.span);
    if (!type) return nullptr;
    auto node = std::make_shared<Node>();
    node->op = Op::column;
    node->type = *type;
    node->span = e.span;
    node->column = *ref;
    return node;
  }

  NodePtr measure_name(const Expression& e) {
    const syntax::Name& first = e.path.parts.front();
    if (e.path.parts.size() == 1) {
      if (const auto measure = model_.find_measure(first.text)) {
        const auto type = definitions_.measure_type(*measure, e.span);
        if (!type) return nullptr;
        auto node = std::make_shared<Node>();
        node->op = Op::measure;
        node->type = *type;
        node->span = e.span;
        node->measure = *measure;
        return node;
      }
      for (const Table& t : model_.tables) {
        if (t.find(first.text)) {
          return error(e.span, "JR-402",
                       fmt::format("'{}' is a column, and a measure has no row to read it from", first.text),
                       fmt::format("say what to make of its many values: sum({} for {})", written_name(first.text),
                                   written_name(t.name)));
        }
      }
      return error(e.span, "JR-204", fmt::format("there is no measure '{}'", first.text),
                   base::did_you_mean(first.text, measure_names()));
    }
    return error(
        e.span, "JR-402", fmt::format("'{}' is a column, and a measure has no row to read it from", written(e.span)),
        fmt::format("say what to make of its many values: max({} for {})", written(e.span), written_name(first.text)));
  }

  // A path in a query's `where` or `by`: the table or role first.
  std::optional<ColumnRef> slice_column(const syntax::Path& p) {
    const syntax::Name& first = p.parts.front();
    if (p.parts.size() == 1) {
      if (model_.find_measure(first.text)) {
        return no_column(p.span, "JR-405",
                         fmt::format("'{}' is a measure; rows are chosen by columns here", first.text));
      }
      return no_column(p.span, "JR-202", fmt::format("'{}' needs the table it belongs to", first.text),
                       elsewhere(first.text));
    }
    if (const auto table = model_.find_table(first.text)) return follow(p, 1, ColumnRef{*table, {}, {*table, 0}});
    for (LinkIndex i = 0; i < model_.links.size(); ++i) {
      const Link& link = model_.links[i];
      if (link.role == first.text) return follow(p, 1, ColumnRef{link.from.table, {i}, {link.to.table, 0}});
    }
    return no_column(first.span, "JR-201", fmt::format("there is no table or role '{}'", first.text),
                     base::did_you_mean(first.text, table_and_role_names()));
  }

  // A path where a row is in scope: a column of its table, or tables on the way and then a column.
  std::optional<ColumnRef> row_column(const syntax::Path& p) {
    const ColumnRef here{scope_.table, {}, {scope_.table, 0}};
    const std::string& first = p.parts.front().text;
    if (p.parts.size() == 1) return follow(p, 0, here);
    const bool names_row = scope_.variable.empty() ? first == "row" : first == scope_.variable;
    const bool names_this = first == "this" && scope_.in_calculated;
    if (names_this && scope_.in_aggregate) {
      return no_column(p.span, "JR-190",
                       "an aggregate that reads the calculated column's own row (`this`) is part of the "
                       "language, but this version cannot run it yet");
    }
    if (names_row || names_this || first == model_.tables[scope_.table].name) return follow(p, 1, here);
    return follow(p, 0, here);
  }

  // Follows the parts from `next` on, the last of which is the column.
  std::optional<ColumnRef> follow(const syntax::Path& p, std::size_t next, ColumnRef ref) {
    for (; next + 1 < p.parts.size(); ++next) {
      if (!hop(p.parts[next], ref)) return std::nullopt;
    }
    const syntax::Name& name = p.parts.back();
    const Table& table = model_.tables[ref.column.table];
    const auto column = table.find(name.text);
    if (!column) {
      std::string fix = base::did_you_mean(name.text, column_names(ref.column.table));
      if (fix.empty() && p.parts.size() == 1) fix = elsewhere(name.text);
      return no_column(name.span, "JR-202", fmt::format("there is no column '{}' in table '{}'", name.text, table.name),
                       fix);
    }
    ref.column.column = *column;
    return ref;
  }

  bool hop(const syntax::Name& name, ColumnRef& ref) {
    for (LinkIndex i = 0; i < model_.links.size(); ++i) {
      const Link& link = model_.links[i];
      if (link.role != name.text || link.role.empty()) continue;
      return extend(name, ref, link.from.table, i);
    }
    const auto table = model_.find_table(name.text);
    if (!table) {
      error(name.span, "JR-201", fmt::format("there is no table or role '{}'", name.text),
            base::did_you_mean(name.text, table_and_role_names()));
      return false;
    }
    return extend(name, ref, *table, std::nullopt);
  }

  // Adds the way to `goal`, and then `last`, to the path.
  bool extend(const syntax::Name& name, ColumnRef& ref, TableIndex goal, std::optional<LinkIndex> last) {
    const auto ways = model_.paths(ref.column.table, goal);
    const std::string& from = model_.tables[ref.column.table].name;
    if (ways.empty()) {
      const bool reverse = !model_.paths(goal, ref.column.table).empty();
      error(name.span, "JR-207", fmt::format("no link leads from {} to {}", from, name.text),
            reverse ? fmt::format("links go from many to one, and {} has many rows for one of {}: aggregate them",
                                  name.text, from)
                    : fmt::format("declare it: link {}.COLUMN -> {}.KEY", written_name(from), written_name(name.text)));
      return false;
    }
    if (ways.size() > 1) {
      std::string list;
      for (const auto& way : ways) {
        std::string written_way;
        for (const LinkIndex i : way)
          written_way += (written_way.empty() ? "" : ".") + model_.tables[model_.links[i].to.table].name;
        list += (list.empty() ? "" : ", ") + written_way;
      }
      error(name.span, "JR-208", fmt::format("several paths lead from {} to {}", from, name.text),
            fmt::format("write the one that is meant: {}", list));
      return false;
    }
    ref.path.insert(ref.path.end(), ways.front().begin(), ways.front().end());
    ref.column.table = goal;
    if (last) {
      ref.path.push_back(*last);
      ref.column.table = model_.links[*last].to.table;
    }
    return true;
  }

  // --- operators --------------------------------------------------------------------------------------------------

  static NodePtr literal(const Expression& e) {
    auto node = std::make_shared<Node>();
    node->op = Op::literal;
    node->type = e.type;
    node->span = e.span;
    node->literal = e.value;
    return node;
  }

  static NodePtr negate_if(bool negated, NodePtr node) {
    if (!negated || !node) return node;
    const Span span = node->span;
    return make(Op::not_, boolean_type, span, {std::move(node)});
  }

  NodePtr unary(const Expression& e) {
    if (e.word == "not") {
      NodePtr operand = condition(*e.children[0]);
      return operand ? make(Op::not_, boolean_type, e.span, {operand}) : nullptr;
    }
    NodePtr operand = check(*e.children[0]);
    if (!operand) return nullptr;
    if (!operand->type.is_number()) {
      return error(e.span, "JR-301", fmt::format("'-' takes a number, and this is {}", described(*operand)));
    }
    return negated(operand, e.span);
  }

  NodePtr binary(const Expression& e) {
    if (e.word == "and" || e.word == "or") {
      NodePtr left = condition(*e.children[0]);
      NodePtr right = condition(*e.children[1]);
      if (!left || !right) return nullptr;
      return make(e.word == "and" ? Op::and_ : Op::or_, boolean_type, e.span, {left, right});
    }
    std::vector<NodePtr> operands{check(*e.children[0]), check(*e.children[1])};
    if (!operands[0] || !operands[1]) return nullptr;
    if (e.word == "||" || e.word == "like") {
      for (NodePtr& operand : operands) {
        if (operand->type.kind != TypeKind::text && !is_null_literal(*operand)) {
          return error(operand->span, "JR-301",
                       fmt::format("{} takes texts, and this is {}", e.word, described(*operand)));
        }
        operand = convert(operand, text_type);
      }
      if (e.word == "||") return make(Op::concat, text_type, e.span, std::move(operands));
      return negate_if(e.negated, make(Op::like, boolean_type, e.span, std::move(operands)));
    }
    static const std::map<std::string, Op, std::less<>> comparisons{{"=", Op::equal}, {"<>", Op::not_equal},
                                                                    {"<", Op::less},  {"<=", Op::less_equal},
                                                                    {">", Op::less},  {">=", Op::less_equal}};
    if (const auto comparison = comparisons.find(e.word); comparison != comparisons.end()) {
      return compare(e.span, comparison->second, std::move(operands), e.word.starts_with('>'));
    }
    return arithmetic(e, std::move(operands));
  }

  NodePtr compare(Span span, Op op, std::vector<NodePtr> operands, bool swapped) {
    if (!unify(operands, "a comparison")) return nullptr;
    if (swapped) std::swap(operands[0], operands[1]);
    return make(op, boolean_type, span, std::move(operands));
  }

  NodePtr arithmetic(const Expression& e, std::vector<NodePtr> operands) {
    for (NodePtr& operand : operands) {
      if (is_null_literal(*operand)) operand = convert(operand, integer_type);
      if (!operand->type.is_number()) {
        std::string fix;
        if (e.word == "+" && operand->type.kind == TypeKind::text) fix = "texts are joined by ||";
        if (operand->type.kind == TypeKind::date) fix = "write add_days(date, days) or days_between(from, to)";
        return error(operand->span, "JR-301",
                     fmt::format("'{}' takes numbers, and this is {}", e.word, described(*operand)), fix);
      }
    }
    const Type a = operands[0]->type;
    const Type b = operands[1]->type;
    if (e.word == "div" || e.word == "mod") {
      if (a.kind != TypeKind::integer || b.kind != TypeKind::integer) {
        return error(e.word_span, "JR-301",
                     fmt::format("{} takes integers, found {} and {}", e.word, to_string(a), to_string(b)),
                     "for other numbers, use / with trunc or floor");
      }
      return make(e.word == "div" ? Op::int_divide : Op::modulo, integer_type, e.span, std::move(operands));
    }
    if (a.kind == TypeKind::real || b.kind == TypeKind::real) {
      for (NodePtr& operand : operands) operand = convert(operand, real_type);
    } else if (e.word == "+" || e.word == "-") {
      unify(operands, "arithmetic");
    }
    if (e.word == "/") return make(Op::divide, real_type, e.span, std::move(operands));
    const Type common = operands[0]->type;
    if (e.word == "+") return make(Op::add, common, e.span, std::move(operands));
    if (e.word == "-") return make(Op::subtract, common, e.span, std::move(operands));
    Type product = common;
    if (product.kind != TypeKind::real) {
      const int scale = a.scale + b.scale;
      if (scale > base::max_scale) {
        return error(e.word_span, "JR-304",
                     fmt::format("this product would have {} digits after the point, and 18 is the most", scale),
                     "round one of the factors first: round(x, 4)");
      }
      if (a.kind == TypeKind::decimal || b.kind == TypeKind::decimal)
        product = {TypeKind::decimal, static_cast<std::uint8_t>(scale)};
    }
    return make(Op::multiply, product, e.span, std::move(operands));
  }

  NodePtr is_null(const Expression& e) {
    NodePtr operand = check(*e.children[0]);
    if (!operand) return nullptr;
    return negate_if(e.negated, make(Op::is_null, boolean_type, e.span, {operand}));
  }

  NodePtr is_distinct(const Expression& e) {
    std::vector<NodePtr> operands{check(*e.children[0]), check(*e.children[1])};
    if (!operands[0] || !operands[1] || !unify(operands, "a comparison")) return nullptr;
    return negate_if(e.negated, make(Op::is_distinct, boolean_type, e.span, std::move(operands)));
  }

  NodePtr in(const Expression& e) {
    std::vector<NodePtr> operands = check_all(e);
    if (operands.empty() || !unify(operands, "a comparison")) return nullptr;
    return negate_if(e.negated, make(Op::in, boolean_type, e.span, std::move(operands)));
  }

  NodePtr between(const Expression& e) {
    std::vector<NodePtr> operands = check_all(e);
    if (operands.empty() || !unify(operands, "a comparison")) return nullptr;
    NodePtr low = make(Op::less_equal, boolean_type, e.span, {operands[1], operands[0]});
    NodePtr high = make(Op::less_equal, boolean_type, e.span, {operands[0], operands[2]});
    return negate_if(e.negated, make(Op::and_, boolean_type, e.span, {low, high}));
  }

  // All children, or none after an error in any of them.
  std::vector<NodePtr> check_all(const Expression& e) {
    std::vector<NodePtr> nodes;
    for (const auto& child : e.children) nodes.push_back(check(*child));
    if (std::find(nodes.begin(), nodes.end(), nullptr) != nodes.end()) nodes.clear();
    return nodes;
  }

  NodePtr cases(const Expression& e) {
    std::vector<NodePtr> conditions;
    std::vector<NodePtr> values;
    bool good = true;
    for (std::size_t i = 0; i + 1 < e.children.size(); i += 2) {
      conditions.push_back(condition(*e.children[i]));
      values.push_back(check(*e.children[i + 1]));
      good = good && conditions.back() && values.back();
    }
    values.push_back(e.children.back() ? check(*e.children.back()) : make(Op::literal, boolean_type, e.span, {}));
    if (!good || !values.back() || !unify(values, fmt::format("the values of `{}` are", e.word))) return nullptr;
    std::vector<NodePtr> children;
    for (std::size_t i = 0; i < conditions.size(); ++i) {
      children.push_back(conditions[i]);
      children.push_back(values[i]);
    }
    children.push_back(values.back());
    const Type type = values.front()->type;
    return make(Op::cases, type, e.span, std::move(children));
  }

  // --- functions --------------------------------------------------------------------------------------------------

  NodePtr call(const Expression& e) {
    const FunctionEntry* entry = find_function(e.word);
    if (entry == nullptr) {
      return error(e.word_span, "JR-205", fmt::format("there is no function '{}'", e.word),
                   base::did_you_mean(e.word, function_names()));
    }
    std::vector<NodePtr> arguments = check_all(e);
    if (arguments.empty() && !e.children.empty()) return nullptr;
    const auto type = apply(*entry, e, arguments);
    if (!type) return nullptr;
    auto node = std::make_shared<Node>();
    node->op = Op::call;
    node->type = *type;
    node->span = e.span;
    node->function = entry->function;
    node->children = std::move(arguments);
    return node;
  }

  // Checks and converts the arguments; the type of the result, or nothing after an error.
  std::optional<Type> apply(const FunctionEntry& entry, const Expression& e, std::vector<NodePtr>& args) {
    const auto wrong = [&]() -> std::optional<Type> {
      std::string types;
      for (const NodePtr& arg : args)
        types += (types.empty() ? "" : ", ") + (is_null_literal(*arg) ? "null" : to_string(arg->type));
      error(e.span, "JR-303", fmt::format("{} does not take ({})", e.word, types),
            fmt::format("write {}", entry.usage));
      return std::nullopt;
    };
    // True if there are between `least` and `most` arguments, and each is, or can be made, of its kind.
    const auto takes = [&](std::size_t least, std::initializer_list<Type> kinds) {
      if (args.size() < least || args.size() > kinds.size()) return false;
      const Type* kind = kinds.begin();
      for (NodePtr& arg : args) {
        const Type wanted = *kind++;
        const bool fits =
            arg->type == wanted || is_null_literal(*arg) || (wanted.kind == TypeKind::real && arg->type.is_number());
        if (!fits) return false;
        arg = convert(arg, wanted);
      }
      return true;
    };
    const auto one = [&](auto accepted) { return args.size() == 1 && accepted(args[0]->type); };
    switch (entry.signature) {
      case Signature::number_same:
        return one([](Type t) { return t.is_number(); }) ? std::optional(args[0]->type) : wrong();
      case Signature::number_integer:
        return one([](Type t) { return t.is_number(); }) ? std::optional(integer_type) : wrong();
      case Signature::round:
        return round_type(args, wrong);
      case Signature::whole:
        if (!one([](Type t) { return t.is_number(); })) return wrong();
        return args[0]->type.kind == TypeKind::decimal ? Type{TypeKind::decimal, 0} : args[0]->type;
      case Signature::real_1:
        return takes(1, {real_type}) ? std::optional(real_type) : wrong();
      case Signature::real_2:
        return takes(2, {real_type, real_type}) ? std::optional(real_type) : wrong();
      case Signature::like_terms:
        if (args.size() < 2) return wrong();
        return unify(args, fmt::format("the arguments of {} are", e.word)) ? std::optional(args[0]->type)
                                                                           : std::nullopt;
      case Signature::text_text:
        return takes(1, {text_type}) ? std::optional(text_type) : wrong();
      case Signature::text_integer:
        return takes(1, {text_type}) ? std::optional(integer_type) : wrong();
      case Signature::text_test:
        return takes(2, {text_type, text_type}) ? std::optional(boolean_type) : wrong();
      case Signature::text_replace:
        return takes(3, {text_type, text_type, text_type}) ? std::optional(text_type) : wrong();
      case Signature::text_substring:
        return takes(2, {text_type, integer_type, integer_type}) ? std::optional(text_type) : wrong();
      case Signature::date_part:
        return one([](Type t) { return t.kind == TypeKind::date || t.kind == TypeKind::datetime; })
                   ? std::optional(integer_type)
                   : wrong();
      case Signature::time_part:
        return one([](Type t) { return t.kind == TypeKind::time || t.kind == TypeKind::datetime; })
                   ? std::optional(integer_type)
                   : wrong();
      case Signature::to_date:
        return one([](Type t) { return t.kind == TypeKind::date || t.kind == TypeKind::datetime; })
                   ? std::optional(date_type)
                   : wrong();
      case Signature::to_time:
        return one([](Type t) { return t.kind == TypeKind::datetime; }) ? std::optional(Type{TypeKind::time, 0})
                                                                        : wrong();
      case Signature::date_move:
        return takes(2, {date_type, integer_type}) ? std::optional(date_type) : wrong();
      case Signature::dates_integer:
        return takes(2, {date_type, date_type}) ? std::optional(integer_type) : wrong();
      case Signature::dates_real:
        return takes(2, {date_type, date_type}) ? std::optional(real_type) : wrong();
      case Signature::no_argument_date:
        return takes(0, {}) ? std::optional(date_type) : wrong();
    }
    return std::nullopt;
  }

  template <class Wrong>
  static std::optional<Type> round_type(const std::vector<NodePtr>& args, const Wrong& wrong) {
    if (args.empty() || args.size() > 2 || !args[0]->type.is_number()) return wrong();
    int digits = 0;
    if (args.size() == 2) {
      // The digits decide the type of the result, so they are a number in the text.
      if (args[1]->op != Op::literal || args[1]->literal.is_null() || args[1]->type.kind != TypeKind::integer)
        return wrong();
      if (args[1]->literal.exact() < -base::max_scale || args[1]->literal.exact() > base::max_scale) return wrong();
      digits = static_cast<int>(args[1]->literal.exact());
    }
    const Type type = args[0]->type;
    if (type.kind != TypeKind::decimal) return type;
    return Type{TypeKind::decimal, static_cast<std::uint8_t>(std::clamp<int>(digits, 0, type.scale))};
  }

  // --- aggregates -------------------------------------------------------------------------------------------------

  NodePtr aggregate(const Expression& e) {
    if (scope_.kind == ScopeKind::slice) {
      return error(e.span, "JR-405", "an aggregate can't choose the rows of a query: `where` holds columns");
    }
    if (scope_.in_aggregate) {
      return error(e.span, "JR-190",
                   "an aggregate inside an aggregate is part of the language, but this version cannot run it yet");
    }
    const auto table = model_.find_table(e.rows->table.text);
    if (!table) {
      std::vector<std::string> names;
      for (const Table& t : model_.tables) names.push_back(t.name);
      return error(e.rows->table.span, "JR-201", fmt::format("there is no table '{}'", e.rows->table.text),
                   base::did_you_mean(e.rows->table.text, names));
    }
    Scope inner;
    inner.kind = ScopeKind::row;
    inner.table = *table;
    inner.variable = e.rows->variable ? e.rows->variable->text : "";
    inner.in_calculated = scope_.in_calculated || scope_.kind == ScopeKind::row;
    inner.in_aggregate = true;
    ExpressionChecker checker(definitions_, inner, diagnostics_);

    auto node = std::make_shared<Node>();
    node->op = Op::aggregate;
    node->span = e.span;
    node->rows.table = *table;
    node->rows.variable = inner.variable;
    bool good = true;
    if (e.rows->where) {
      node->rows.where = checker.condition(*e.rows->where);
      good = node->rows.where != nullptr;
    }
    if (!e.children.empty()) {
      NodePtr value = checker.check(*e.children[0]);
      good = good && value;
      if (value) node->children.push_back(std::move(value));
    }
    if (!good) return nullptr;
    return typed_aggregate(e, node);
  }

  NodePtr typed_aggregate(const Expression& e, const std::shared_ptr<Node>& node) {
    if (node->children.empty()) {
      node->aggregate = Aggregate::row_count;
      node->type = integer_type;
      return node;
    }
    const Type value = node->children[0]->type;
    if (e.word == "count") {
      node->aggregate = e.distinct ? Aggregate::count_distinct : Aggregate::count;
      node->type = integer_type;
    } else if (e.word == "min" || e.word == "max") {
      node->aggregate = e.word == "min" ? Aggregate::min : Aggregate::max;
      node->type = value;
    } else {
      if (!value.is_number()) {
        return error(e.children[0]->span, "JR-301",
                     fmt::format("{} takes numbers, and this is {}", e.word, described(*node->children[0])),
                     "min, max, count and count(distinct …) take any type");
      }
      node->aggregate = e.word == "sum" ? Aggregate::sum : Aggregate::avg;
      node->type = e.word == "sum" ? value : real_type;
    }
    return node;
  }

  const Definitions& definitions_;
  const CheckedModel& model_;
  const Scope& scope_;
  Diagnostics& diagnostics_;
};

}  // namespace

NodePtr check_expression(const Definitions& definitions, const Expression& expression, const Scope& scope,
                         Diagnostics& diagnostics) {
  return ExpressionChecker(definitions, scope, diagnostics).check(expression);
}

NodePtr check_condition(const Definitions& definitions, const Expression& expression, const Scope& scope,
                        Diagnostics& diagnostics) {
  return ExpressionChecker(definitions, scope, diagnostics).condition(expression);
}

std::optional<ColumnRef> check_column_path(const Definitions& definitions, const syntax::Path& path, const Scope& scope,
                                           Diagnostics& diagnostics) {
  return ExpressionChecker(definitions, scope, diagnostics).column(path);
}

}  // namespace juniper::language
