#include "language/functions.h"

#include <algorithm>
#include <set>

namespace juniper::language::syntax {

namespace {

class Copier {
 public:
  explicit Copier(const std::map<std::string, const Expression*>& arguments) : arguments_(arguments) {}

  ExpressionPtr copy(const Expression& from) {
    if (from.form == Form::path && from.path.parts.size() == 1) {
      const auto argument = arguments_.find(from.path.parts[0].text);
      if (argument != arguments_.end()) {
        in_argument_ = true;
        ExpressionPtr to = copied(*argument->second);
        in_argument_ = false;
        to->bracketed = true;
        return to;
      }
    }
    return copied(from);
  }

  std::size_t nodes() const { return nodes_; }
  const std::set<std::string>& called() const { return called_; }
  std::string captured() const {
    for (const std::string& name : used_) {
      if (bound_.contains(name)) return name;
    }
    return "";
  }

 private:
  ExpressionPtr child(const ExpressionPtr& from) {
    if (!from) return nullptr;
    return in_argument_ ? copied(*from) : copy(*from);
  }
  void bind(const std::optional<Name>& name) {
    if (name && !in_argument_) bound_.insert(name->text);
  }
  void use(const std::string& name) {
    if (in_argument_) used_.insert(name);
  }

  ExpressionPtr copied(const Expression& from) {
    ++nodes_;
    auto to = std::make_unique<Expression>();
    to->form = from.form;
    to->span = from.span;
    to->word_span = from.word_span;
    to->word = from.word;
    to->value = from.value;
    to->type = from.type;
    to->negated = from.negated;
    to->distinct = from.distinct;
    to->descending = from.descending;
    to->dense = from.dense;
    to->bracketed = from.bracketed;
    to->path = from.path;
    if (from.form == Form::path) use(from.path.parts[0].text);
    if (from.form == Form::call) called_.insert(from.word);
    bind(from.variable);
    to->variable = from.variable;
    to->rows = copied(from.rows);
    for (const SortKey& key : from.keys) to->keys.push_back({child(key.expression), key.descending});
    if (from.modifiers) to->modifiers = copied(*from.modifiers);
    for (const LetName& let : from.lets) {
      bind(let.name);
      to->lets.push_back({let.name, child(let.expression), copied(let.rows)});
    }
    for (const ExpressionPtr& each : from.children) to->children.push_back(child(each));
    to->height = 1;
    for (const ExpressionPtr& each : to->children) to->height = std::max(to->height, each ? each->height + 1 : 1);
    return to;
  }

  std::unique_ptr<Modifiers> copied(const Modifiers& from) {
    auto to = std::make_unique<Modifiers>();
    to->of = from.of;
    if (from.of) use(from.of->text);
    to->via = from.via;
    to->through = from.through;
    to->across = from.across;
    to->during = from.during;
    to->where = child(from.where);
    return to;
  }

  RowsPtr copied(const RowsPtr& from) {
    if (!from) return nullptr;
    auto to = std::make_unique<Rows>();
    to->form = from->form;
    to->span = from->span;
    to->name = from->name;
    use(from->name.text);
    to->across = from->across;
    to->condition = child(from->condition);
    for (const NamedExpression& item : from->items) to->items.push_back({item.name, child(item.expression)});
    for (const NamedExpression& item : from->results) to->results.push_back({item.name, child(item.expression)});
    for (const SortKey& key : from->keys) to->keys.push_back({child(key.expression), key.descending});
    to->count = from->count;
    to->input = copied(from->input);
    to->other = copied(from->other);
    to->height = from->height;
    return to;
  }

  const std::map<std::string, const Expression*>& arguments_;
  bool in_argument_ = false;
  std::size_t nodes_ = 0;
  std::set<std::string> called_;
  std::set<std::string> bound_;
  std::set<std::string> used_;
};

}  // namespace

std::set<std::string> called(const Expression& expression) {
  const std::map<std::string, const Expression*> none;
  Copier copier(none);
  copier.copy(expression);
  return copier.called();
}

Expanded with_arguments(const Expression& body, const std::map<std::string, const Expression*>& arguments) {
  Copier copier(arguments);
  Expanded expanded;
  expanded.expression = copier.copy(body);
  expanded.nodes = copier.nodes();
  expanded.captured = copier.captured();
  return expanded;
}

}  // namespace juniper::language::syntax
