#include "language/check_expression.h"

#include <algorithm>
#include <array>
#include <map>

#include "base/date_pattern.h"
#include "base/exact.h"
#include "base/format.h"
#include "language/expression_checker.h"
#include "language/functions.h"
#include "language/lexer.h"

namespace juniper::language {

using syntax::Expression;
using syntax::Form;

NodePtr make(Op op, Type type, Span span, std::vector<NodePtr> children) {
  auto node = std::make_shared<Node>();
  node->op = op;
  node->type = type;
  node->span = span;
  node->children = std::move(children);
  return node;
}

NodePtr ExpressionChecker::check(const Expression& e) {
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
    case Form::modified:
      return modified(e);
    case Form::let:
      return let(e);
  }
  return nullptr;
}

NodePtr ExpressionChecker::condition(const Expression& e) {
  NodePtr node = check(e);
  if (!node) return nullptr;
  if (node->type.kind != TypeKind::boolean) {
    return error(e.span, "JR-305", fmt::format("a condition was expected, and this is {}", described(*node)));
  }
  return node;
}

std::string ExpressionChecker::described(const Node& node) {
  return is_null_literal(node) ? "null" : fmt::format("of type {}", to_string(node.type));
}

// The type that both can be converted to without loss of meaning; nothing when they do not go together.
std::optional<Type> ExpressionChecker::common_type(Type a, Type b) {
  if (a == b) return a;
  if (!a.is_number() || !b.is_number()) return std::nullopt;
  if (a.kind == TypeKind::real || b.kind == TypeKind::real) return real_type;
  return Type{TypeKind::decimal, std::max(a.scale, b.scale)};
}

NodePtr ExpressionChecker::convert(const NodePtr& node, Type type) {
  if (node->type == type) return node;
  if (is_null_literal(*node)) return make(Op::literal, type, node->span, {});
  if (type.kind == TypeKind::real) return make(Op::to_real, type, node->span, {node});
  return make(Op::rescale, type, node->span, {node});
}

// Converts all to one type, nulls to that of the others; false after an error.
bool ExpressionChecker::unify(std::vector<NodePtr>& nodes, std::string_view what) {
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

std::string ExpressionChecker::mismatch_fix(const Node& a, const Node& b) const {
  const auto pair = [&](TypeKind x, TypeKind y) -> const Node* {
    if (a.type.kind == x && b.type.kind == y) return &a;
    if (b.type.kind == x && a.type.kind == y) return &b;
    return nullptr;
  };
  if (const Node* moment = pair(TypeKind::datetime, TypeKind::date)) {
    return fmt::format("write date({})", moment->span.end > moment->span.begin ? written(moment->span) : "…");
  }
  for (const TypeKind kind : {TypeKind::date, TypeKind::datetime}) {
    const Node* const text = pair(TypeKind::text, kind);
    if (text == nullptr) continue;
    const std::string word = to_string(Type{kind, 0});
    if (text->op != Op::literal) return fmt::format("write {}({})", word, written(text->span));
    return fmt::format("write it as a literal: {} \"2025-03-01{}\"", word, kind == TypeKind::date ? "" : " 08:30:00");
  }
  for (const TypeKind number : {TypeKind::integer, TypeKind::decimal, TypeKind::real}) {
    const Node* const text = pair(TypeKind::text, number);
    if (text == nullptr) continue;
    if (text->op == Op::literal) return "write the number without quotes, or declare the column as a number";
    return fmt::format("write {}({}{}), or declare the column as a number",
                       number == TypeKind::integer ? "integer"
                       : number == TypeKind::real  ? "real"
                                                   : "decimal",
                       written(text->span), number == TypeKind::decimal ? ", digits" : "");
  }
  return "";
}

NodePtr ExpressionChecker::literal(const Expression& e) {
  auto node = std::make_shared<Node>();
  node->op = Op::literal;
  node->type = e.type;
  node->span = e.span;
  node->literal = e.value;
  return node;
}

NodePtr ExpressionChecker::negate_if(bool negated, NodePtr node) {
  if (!negated || !node) return node;
  const Span span = node->span;
  return make(Op::not_, boolean_type, span, {std::move(node)});
}

NodePtr ExpressionChecker::unary(const Expression& e) {
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

NodePtr ExpressionChecker::binary(const Expression& e) {
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
                     fmt::format("{} takes texts, and this is {}", e.word, described(*operand)),
                     fmt::format("write text({})", written(operand->span)));
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

NodePtr ExpressionChecker::compare(Span span, Op op, std::vector<NodePtr> operands, bool swapped) {
  if (!unify(operands, "a comparison")) return nullptr;
  if (swapped) std::swap(operands[0], operands[1]);
  return make(op, boolean_type, span, std::move(operands));
}

NodePtr ExpressionChecker::arithmetic(const Expression& e, std::vector<NodePtr> operands) {
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

NodePtr ExpressionChecker::is_null(const Expression& e) {
  NodePtr operand = check(*e.children[0]);
  if (!operand) return nullptr;
  return negate_if(e.negated, make(Op::is_null, boolean_type, e.span, {operand}));
}

NodePtr ExpressionChecker::is_distinct(const Expression& e) {
  std::vector<NodePtr> operands{check(*e.children[0]), check(*e.children[1])};
  if (!operands[0] || !operands[1] || !unify(operands, "a comparison")) return nullptr;
  return negate_if(e.negated, make(Op::is_distinct, boolean_type, e.span, std::move(operands)));
}

NodePtr ExpressionChecker::in(const Expression& e) {
  std::vector<NodePtr> operands = check_all(e);
  if (operands.empty() || !unify(operands, "a comparison")) return nullptr;
  return negate_if(e.negated, make(Op::in, boolean_type, e.span, std::move(operands)));
}

NodePtr ExpressionChecker::between(const Expression& e) {
  std::vector<NodePtr> operands = check_all(e);
  if (operands.empty() || !unify(operands, "a comparison")) return nullptr;
  NodePtr low = make(Op::less_equal, boolean_type, e.span, {operands[1], operands[0]});
  NodePtr high = make(Op::less_equal, boolean_type, e.span, {operands[0], operands[2]});
  return negate_if(e.negated, make(Op::and_, boolean_type, e.span, {low, high}));
}

// All children, or none after an error in any of them.
std::vector<NodePtr> ExpressionChecker::check_all(const Expression& e) {
  std::vector<NodePtr> nodes;
  for (const auto& child : e.children) nodes.push_back(check(*child));
  if (std::find(nodes.begin(), nodes.end(), nullptr) != nodes.end()) nodes.clear();
  return nodes;
}

NodePtr ExpressionChecker::cases(const Expression& e) {
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

// The text of one of the model's functions with its arguments, as if it stood here. Its errors say where, too.
NodePtr ExpressionChecker::expanded(const Expression& e, const ModelFunction& function) {
  const std::vector<std::string>& names = function.arguments;
  if (e.children.size() != names.size()) {
    return error(e.span, "JR-303",
                 fmt::format("{} takes {} argument{}", e.word, names.size(), names.size() == 1 ? "" : "s"),
                 fmt::format("write {}({})", e.word, fmt::join(names, ", ")));
  }
  if (!function.body) return nullptr;
  std::map<std::string, const Expression*> arguments;
  for (std::size_t i = 0; i < names.size(); ++i) arguments.emplace(names[i], e.children[i].get());
  const syntax::Expanded text = syntax::with_arguments(*function.body, arguments);
  if (!text.captured.empty()) {
    return error(e.span, "JR-212",
                 fmt::format("an argument names '{}', which is something else within {}", text.captured, e.word),
                 "give the row or value in the function's text another name");
  }
  // Two functions that name a third one twice have it four times, and so on.
  constexpr std::size_t most_parts = 100'000;
  constexpr std::uint32_t tallest = 1000;
  Scope inner = scope_;
  if (!inner.expanded) inner.expanded = std::make_shared<std::size_t>(0);
  if (*inner.expanded > most_parts) return nullptr;
  *inner.expanded += text.nodes;
  // Whoever walks the whole goes as deep.
  inner.levels += text.expression->height;
  if (*inner.expanded > most_parts || inner.levels > tallest) {
    *inner.expanded = most_parts + 1;
    return error(e.span, "JR-116", "the functions in this expression come to too long a text",
                 "give parts of it names of their own, as measures");
  }
  const std::size_t errors = diagnostics_.size();
  NodePtr node = within(std::move(inner)).check(*text.expression);
  // An argument that stands there twice has its errors twice.
  for (std::size_t i = errors; i < diagnostics_.size();) {
    const auto is_same = [&](const Diagnostic& d) {
      return d.message == diagnostics_[i].message && d.place == diagnostics_[i].place;
    };
    const auto at = diagnostics_.begin() + static_cast<std::ptrdiff_t>(i);
    if (std::find_if(diagnostics_.begin() + static_cast<std::ptrdiff_t>(errors), at, is_same) != at) {
      diagnostics_.erase(at);
    } else {
      ++i;
    }
  }
  const Place begin = model_.sources.place(function.span);
  const Place end = model_.sources.place({function.span.file, function.span.end, function.span.end});
  const Place here = model_.sources.place(e.span);
  for (std::size_t i = errors; i < diagnostics_.size(); ++i) {
    const auto position = [](const Place& place) { return std::pair(place.line, place.column); };
    const Place& at = diagnostics_[i].place;
    const bool inside = at.file == begin.file && position(at) >= position(begin) && position(at) <= position(end);
    if (inside) {
      diagnostics_[i].message +=
          fmt::format(", where {} is used in {}:{}:{}", e.word, here.file, here.line, here.column);
    } else if (diagnostics_[i].code.starts_with("JR-3")) {
      // An argument that is right by itself.
      diagnostics_[i].message += fmt::format(", in the function {} ({}:{})", e.word, begin.file, begin.line);
    }
  }
  return node;
}

NodePtr ExpressionChecker::call(const Expression& e) {
  if (e.word == "only" || e.word == "grouping") return only(e);
  const FunctionEntry* entry = find_function(e.word);
  if (entry == nullptr) {
    if (const ModelFunction* const function = model_.find_function(e.word)) return expanded(e, *function);
    std::vector<std::string> names = function_names();
    for (const ModelFunction& function : model_.functions) names.push_back(function.name);
    return error(e.word_span, "JR-205", fmt::format("there is no function '{}'", e.word),
                 base::did_you_mean(e.word, names));
  }
  if (entry->signature == Signature::calendar_edge) return calendar_edge(e, entry->function);
  std::vector<NodePtr> arguments = check_all(e);
  if (arguments.empty() && !e.children.empty()) return nullptr;
  const auto type = apply(*entry, e, arguments);
  if (!type) return nullptr;
  auto node = std::make_shared<Node>();
  node->op = Op::call;
  node->type = *type;
  node->span = e.span;
  node->function = entry->function;
  // The same words for what makes a moment of a text.
  const bool of_text = !arguments.empty() && arguments[0]->type.kind == TypeKind::text;
  if (of_text && entry->function == Function::date) node->function = Function::date_from;
  if (of_text && entry->function == Function::datetime) node->function = Function::datetime_from;
  node->children = std::move(arguments);
  return node;
}

namespace {

// What the text itself says, as a pattern is.
bool is_written(const Node& node, TypeKind kind) {
  return node.op == Op::literal && !node.parameter && !node.literal.is_null() && node.type.kind == kind;
}

}  // namespace

// text(x) of any value, text(x, "pattern") of a number or a moment.
template <class Wrong>
std::optional<Type> ExpressionChecker::text_type_of(const std::vector<NodePtr>& args, const Wrong& wrong) {
  if (args.empty() || args.size() > 2 || is_null_literal(*args[0])) return wrong();
  if (args.size() == 1) return text_type;
  if (!is_written(*args[1], TypeKind::text)) return wrong();
  const std::string problem = base::pattern_problem(args[1]->literal.text(), args[0]->type);
  if (problem.empty()) return text_type;
  return error(args[1]->span, "JR-306", problem, "patterns are Unicode's: \"#,##0.00\", \"0.0%\", \"d MMM yyyy\""),
         std::nullopt;
}

// date(t), date(t, "dd.MM.yyyy"), and the same with a time of day.
template <class Wrong>
std::optional<Type> ExpressionChecker::moment_type(Type type, std::vector<NodePtr>& args, const Wrong& wrong) {
  if (args.size() == 1) return type;
  if (args.size() != 2 || !is_written(*args[1], TypeKind::text)) return wrong();
  const std::string& pattern = args[1]->literal.text();
  const bool is_date = type.kind == TypeKind::date;
  if (is_date ? base::is_date_pattern(pattern) : base::is_datetime_pattern(pattern)) return type;
  return error(args[1]->span, "JR-306",
               fmt::format("{} is not a pattern of {}", written_text(pattern),
                           is_date ? "dates" : "dates with a time of day"),
               is_date ? "one day (d or dd), one month (M or MM) and one year (yyyy), and marks between them: "
                         "\"dd.MM.yyyy\""
                       : "a pattern of dates, a blank or T, and HH:mm or HH:mm:ss: \"dd.MM.yyyy HH:mm\""),
         std::nullopt;
}

// decimal(t, digits): the digits decide the type.
template <class Wrong>
std::optional<Type> ExpressionChecker::decimal_type(std::vector<NodePtr>& args, const Wrong& wrong) {
  if (args.size() != 2 || !is_written(*args[1], TypeKind::integer)) return wrong();
  const int128 digits = args[1]->literal.exact();
  if (digits < 0 || digits > base::max_scale) return wrong();
  if (is_null_literal(*args[0])) args[0] = convert(args[0], text_type);
  if (args[0]->type != text_type) return wrong();
  return Type{TypeKind::decimal, static_cast<std::uint8_t>(digits)};
}

template <class Wrong>
std::optional<Type> ExpressionChecker::round_type(const std::vector<NodePtr>& args, const Wrong& wrong) {
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

// Checks and converts the arguments; the type of the result, or nothing after an error.
std::optional<Type> ExpressionChecker::apply(const FunctionEntry& entry, const Expression& e,
                                             std::vector<NodePtr>& args) {
  const auto wrong = [&]() -> std::optional<Type> {
    std::string types;
    for (const NodePtr& arg : args)
      types += (types.empty() ? "" : ", ") + (is_null_literal(*arg) ? "null" : to_string(arg->type));
    error(e.span, "JR-303", fmt::format("{} does not take ({})", e.word, types), fmt::format("write {}", entry.usage));
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
      return unify(args, fmt::format("the arguments of {} are", e.word)) ? std::optional(args[0]->type) : std::nullopt;
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
      if (!args.empty() && args[0]->type.kind == TypeKind::text) return moment_type(date_type, args, wrong);
      return one([](Type t) { return t.kind == TypeKind::date || t.kind == TypeKind::datetime; })
                 ? std::optional(date_type)
                 : wrong();
    case Signature::to_time:
      return one([](Type t) { return t.kind == TypeKind::datetime; }) ? std::optional(Type{TypeKind::time, 0})
                                                                      : wrong();
    case Signature::to_datetime:
      if (!args.empty() && args[0]->type.kind == TypeKind::text)
        return moment_type(Type{TypeKind::datetime, 0}, args, wrong);
      return takes(2, {date_type, Type{TypeKind::time, 0}}) ? std::optional(Type{TypeKind::datetime, 0}) : wrong();
    case Signature::date_move:
      return takes(2, {date_type, integer_type}) ? std::optional(date_type) : wrong();
    case Signature::dates_integer:
      return takes(2, {date_type, date_type}) ? std::optional(integer_type) : wrong();
    case Signature::dates_real:
      return takes(2, {date_type, date_type}) ? std::optional(real_type) : wrong();
    case Signature::calendar_edge:
      break;  // checked apart: its unit is no expression
    case Signature::no_argument_date:
      return takes(0, {}) ? std::optional(date_type) : wrong();
    case Signature::to_text:
      return text_type_of(args, wrong);
    case Signature::from_text:
      if (!takes(1, {text_type})) return wrong();
      return entry.function == Function::real_from ? real_type : integer_type;
    case Signature::to_decimal:
      return decimal_type(args, wrong);
  }
  return std::nullopt;
}

std::optional<Unit> unit_named(std::string_view word) {
  static constexpr std::array<std::pair<std::string_view, Unit>, 5> units{{{"day", Unit::day},
                                                                           {"week", Unit::week},
                                                                           {"month", Unit::month},
                                                                           {"quarter", Unit::quarter},
                                                                           {"year", Unit::year}}};
  for (const auto& [name, unit] : units) {
    if (name == word) return unit;
  }
  return std::nullopt;
}

// start_of(date, month): the unit is a word, and the call holds it as a number.
NodePtr ExpressionChecker::calendar_edge(const Expression& e, Function function) {
  const bool shaped =
      e.children.size() == 2 && e.children[1]->form == Form::path && e.children[1]->path.parts.size() == 1;
  const auto unit = shaped ? unit_named(e.children[1]->path.parts[0].text) : std::nullopt;
  if (!unit) {
    return error(e.span, "JR-303", fmt::format("{} takes a date and a unit", e.word),
                 fmt::format("write {}(date, month); the units are day, week, month, quarter and year", e.word));
  }
  NodePtr date = check(*e.children[0]);
  if (!date) return nullptr;
  if (is_null_literal(*date)) date = convert(date, date_type);
  if (date->type.kind != TypeKind::date) {
    return error(
        e.children[0]->span, "JR-303", fmt::format("{} takes a date, and this is {}", e.word, described(*date)),
        date->type.kind == TypeKind::datetime ? fmt::format("write date({})", written(e.children[0]->span)) : "");
  }
  auto number = std::make_shared<Node>();
  number->type = integer_type;
  number->span = e.children[1]->span;
  number->literal = Value::of(static_cast<int128>(*unit));
  auto node = std::make_shared<Node>(*make(Op::call, date_type, e.span, {date, number}));
  node->function = function;
  return node;
}

// --- what stands in the header --------------------------------------------------------------------------------------

Scope calculated_scope(TableIndex table, VariableId variable) {
  Scope scope;
  scope.kind = ScopeKind::row;
  scope.in_row = true;
  scope.rows.push_back({variable, "this", table, nullptr, {}});
  return scope;
}

NodePtr check_expression(const Definitions& definitions, const Expression& expression, const Scope& scope,
                         Diagnostics& diagnostics) {
  return ExpressionChecker(definitions, scope, diagnostics).check(expression);
}

NodePtr check_condition(const Definitions& definitions, const Expression& expression, const Scope& scope,
                        Diagnostics& diagnostics) {
  return ExpressionChecker(definitions, scope, diagnostics).condition(expression);
}

RowSetPtr check_rows(const Definitions& definitions, const syntax::Rows& rows, const Scope& scope,
                     Diagnostics& diagnostics) {
  return ExpressionChecker(definitions, scope, diagnostics).rows(rows, "");
}

std::optional<ColumnRef> check_column_path(const Definitions& definitions, const syntax::Path& path, const Scope& scope,
                                           Diagnostics& diagnostics) {
  return ExpressionChecker(definitions, scope, diagnostics).slice_column(path);
}

}  // namespace juniper::language
